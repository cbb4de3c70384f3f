//! `constans kind` and `constans explain`.

use clap::{Args, Subcommand, ValueEnum};
use constans_core::document::keys::{CLAUSE_KEYS, names};
use constans_core::document::{CODE_PAGES, CodePage};
use constans_core::kind::{
    KINDS, Kind, KindPage, baseline_schema, case_schema, find_among, kind_page, manifest_schema, nearest,
    search,
};
use constans_core::nearest::nearest_word;
use constans_folder::check_folder;
use constans_terminal::{style, styled};
use constans_wire::exit::Exit;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

/// Arguments of `kind`.
#[derive(Debug, Args)]
pub struct KindArguments {
    #[command(subcommand)]
    command: KindCommand,
}

#[derive(Debug, Subcommand)]
enum KindCommand {
    /// List all kinds
    List {
        /// Output format
        #[arg(long, value_enum, default_value_t = Output::Text)]
        output: Output,
        /// Include the custom kinds of this kit
        #[arg(long, value_name = "DIR")]
        kit: Option<PathBuf>,
    },
    /// Find kinds by purpose, for example "close a port"
    Find {
        /// The purpose, in words
        #[arg(required = true, value_name = "WORDS")]
        wanted: Vec<String>,
    },
    /// Show one kind: its properties, what it claims and needs, an example to paste
    Show {
        /// The kind, or KIT/KIND for a custom one
        kind: String,
        /// The folder of the kit of a custom kind
        #[arg(long, value_name = "DIR")]
        kit: Option<PathBuf>,
        /// Output format
        #[arg(long, value_enum, default_value_t = Output::Text)]
        output: Output,
    },
    /// Print the JSON Schema of the documents, for editors
    Schema {
        /// The documents
        #[arg(value_enum, default_value_t = Document::Baseline)]
        document: Document,
    },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Output {
    /// For people
    Text,
    /// For programs
    Json,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Document {
    /// baselines/*.toml
    Baseline,
    /// kit.toml
    Kit,
    /// cases/*.toml
    Case,
}

/// Arguments of `explain`.
#[derive(Debug, Args)]
pub struct ExplainArguments {
    /// The code, for example C0120 [default: list all]
    code: Option<String>,
}

/// Shows kinds.
pub fn run(arguments: &KindArguments) -> Exit {
    match &arguments.command {
        KindCommand::List { output, kit } => {
            let custom_kinds = match custom_kinds(kit.as_deref()) {
                Ok(custom_kinds) => custom_kinds,
                Err(exit) => return exit,
            };
            let all: Vec<&Kind> = KINDS.iter().chain(&custom_kinds).collect();
            match output {
                Output::Json => json(&all.iter().map(|kind| kind_page(kind)).collect::<Vec<_>>()),
                Output::Text => {
                    anstream::print!("{}", list(&all));
                    println!("Next: constans kind show KIND");
                }
            }
        }
        KindCommand::Find { wanted } => {
            let found = search(&wanted.join(" "));
            let Some(first) = found.first() else {
                anstream::eprintln!(
                    "no kind matches\nhint: constans kind list shows all; a `command` clause can do what no kind does"
                );
                return Exit::Error;
            };
            anstream::print!("{}", list(&found));
            println!("Next: constans kind show {}", first.name());
        }
        KindCommand::Show { kind, kit, output } => {
            let custom_kinds = match custom_kinds(kit.as_deref()) {
                Ok(custom_kinds) => custom_kinds,
                Err(exit) => return exit,
            };
            let Some(found) = find_among(kind, &custom_kinds) else {
                if kind.contains('/') && kit.is_none() {
                    anstream::eprintln!(
                        "error: `{kind}` is a custom kind\nhint: name the kit's folder: constans kind show {kind} --kit DIR"
                    );
                    return Exit::Error;
                }
                let near = nearest(kind).or_else(|| search(kind).first().map(|kind| kind.name()));
                let hint = near.map_or_else(
                    || "constans kind list shows all".to_owned(),
                    |near| format!("did you mean `{near}`?"),
                );
                anstream::eprintln!("error: there is no kind `{kind}`\nhint: {hint}");
                return Exit::Error;
            };
            match output {
                Output::Json => json(&kind_page(found)),
                Output::Text => anstream::print!("{}", text(&kind_page(found))),
            }
        }
        KindCommand::Schema { document } => json(&match document {
            Document::Baseline => baseline_schema(),
            Document::Kit => manifest_schema(),
            Document::Case => case_schema(),
        }),
    }
    Exit::Well
}

/// Returns the custom kinds of a kit, if one is named.
fn custom_kinds(kit: Option<&Path>) -> Result<Vec<Kind>, Exit> {
    let Some(folder) = kit else { return Ok(Vec::new()) };
    match check_folder(folder, &[]) {
        Ok(read) => Ok(read.checked.kit.map(|kit| kit.kinds).unwrap_or_default()),
        Err(error) => {
            anstream::eprintln!("error: {error}\nhint: {}", error.hint());
            Err(Exit::Error)
        }
    }
}

fn json(value: &impl serde::Serialize) {
    println!("{}", serde_json::to_string_pretty(value).expect("pages are JSON"));
}

fn list(kinds: &[&Kind]) -> String {
    let width = kinds.iter().map(|kind| kind.name().len()).max().unwrap_or(0) + 1;
    let line = |kind: &&Kind| {
        format!("{}  {}\n", styled(style::STRONG, format!("{:<width$}", kind.name())), kind.purpose())
    };
    kinds.iter().map(line).collect()
}

fn text(page: &KindPage) -> String {
    let mut text = format!("{}  {}\n", styled(style::STRONG, &page.name), page.purpose);
    let mut line = |name: &str, value: &str| {
        let _ = writeln!(text, "{name:<13} {value}");
    };
    if !page.achieves.is_empty() {
        line("for instance", &page.achieves.join("; "));
    }
    line("names", &page.names);
    line("claims", &page.claims);
    line("on the node", &page.on_node);
    if !page.reactions.is_empty() {
        line("reacts by", &page.reactions.join(", "));
    }
    if page.can_be_gone {
        line("gone", if page.name == "package" { "true, or \"with_settings\"" } else { "true" });
    }
    if !page.correctable {
        line("corrected", "never: reports only");
    }
    if !page.either.is_empty() {
        line("one at most", &page.either.join(", "));
    }
    if !page.docs.is_empty() {
        let _ = writeln!(text, "\n{}", page.docs.trim());
    }
    text += "\nits own properties\n";
    let width = page.properties.iter().map(|property| property.name.len()).max().unwrap_or(0);
    for property in &page.properties {
        let required = if property.required { "; required" } else { "" };
        let default =
            property.default.as_ref().map(|default| format!("; {default} if left out")).unwrap_or_default();
        let concealed = if property.concealed { "; never shown" } else { "" };
        let _ = writeln!(
            text,
            "  {}  {}",
            styled(style::STRONG, format!("{:<width$}", property.name)),
            property.note
        );
        let _ = writeln!(
            text,
            "  {:<width$}  {}",
            "",
            styled(style::MUTED, format!("{}{required}{default}{concealed}", property.takes))
        );
    }
    let common: Vec<&str> = names(CLAUSE_KEYS).collect();
    let _ = writeln!(text, "\nand as every clause: {}", common.join(", "));
    let _ = write!(text, "\n{}", page.example);
    text
}

/// Explains the code of a finding.
pub fn explain(arguments: &ExplainArguments) -> Exit {
    let Some(code) = &arguments.code else {
        for page in CODE_PAGES {
            println!("{}  {}", page.code, page.title);
        }
        return Exit::Well;
    };
    let Some(page) = CodePage::find(code) else {
        let known: Vec<String> = CODE_PAGES.iter().map(|page| page.code.to_string()).collect();
        let near = nearest_word(&code.to_uppercase(), known.iter().map(String::as_str))
            .map(|near| format!("did you mean {near}?"));
        anstream::eprintln!(
            "error: no finding has the code `{code}`\nhint: {}",
            near.unwrap_or_else(|| "constans explain lists all".to_owned())
        );
        return Exit::Error;
    };
    let level = if page.level == constans_core::document::Level::Error { "error" } else { "warning" };
    anstream::println!(
        "{}  {level}\n\n{}",
        styled(style::STRONG, format!("{} {}", page.code, page.title)),
        page.meaning
    );
    for (what, example) in [("triggers it", page.wrong), ("instead", page.right)] {
        if !example.trim().is_empty() {
            println!("\n{what}:");
            example.lines().for_each(|line| println!("    {line}"));
        }
    }
    Exit::Well
}
