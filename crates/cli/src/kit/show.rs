//! `constans kit show`.

use super::log::release_path;
use crate::error::ClientError;
use crate::server::{self, Server, ServerAddress};
use clap::{Args, ValueEnum};
use constans_core::kit::{BaselinePage, ClausePage, KitPage, page};
use constans_terminal::{harmless, style, styled};
use constans_wire::kit::ReleaseShown;
use std::fmt::Write as _;
use std::path::Path;

/// Arguments of `kit show`.
#[derive(Debug, Args)]
pub struct ShowArguments {
    #[command(flatten)]
    server: ServerAddress,
    /// The kit's folder, or a release as KIT@VERSION
    #[arg(value_name = "DIR|KIT@VERSION")]
    kit: String,
    /// Output format
    #[arg(long, value_enum, default_value_t = Output::Text)]
    output: Output,
}

impl ShowArguments {
    /// Returns the folder; none if a release is named.
    pub fn folder(&self) -> Option<&Path> {
        let folder = Path::new(&self.kit);
        (folder.is_dir() || !self.kit.contains('@')).then_some(folder)
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Output {
    /// For people
    Text,
    /// For people, as one self-contained page
    Html,
    /// For programs
    Json,
}

/// Shows the desired state of a kit.
pub async fn run(arguments: &ShowArguments) -> Result<(), ClientError> {
    let page = match arguments.folder() {
        Some(folder) => page(&super::read_folder(folder)?),
        None => {
            let server = Server::at(&arguments.server, server::Output::Text)?;
            server.get::<ReleaseShown>(&release_path(&arguments.kit)?).await?.page
        }
    };
    match arguments.output {
        Output::Text => anstream::print!("{}", text(&page)),
        Output::Html => print!("{}", html(&page)),
        Output::Json => println!("{}", serde_json::to_string_pretty(&page).expect("a page is JSON")),
    }
    Ok(())
}

fn severity(clause: &ClausePage) -> String {
    serde_json::to_value(clause.severity)
        .ok()
        .and_then(|word| word.as_str().map(str::to_owned))
        .unwrap_or_default()
}

fn text(page: &KitPage) -> String {
    let mut text = format!(
        "{}  {}\n",
        styled(style::STRONG, format!("{} {}", page.name, page.version)),
        harmless(&page.summary)
    );
    if !page.requires.is_empty() {
        let _ = writeln!(text, "Requires {}.", page.requires.join(", "));
    }
    for baseline in &page.baselines {
        let _ = writeln!(
            text,
            "\n{}  {}",
            styled(style::STRONG, harmless(&baseline.name)),
            harmless(&baseline.summary)
        );
        for line in about(baseline) {
            let _ = writeln!(text, "  {}", harmless(&line));
        }
        for clause in &baseline.clauses {
            let _ = writeln!(
                text,
                "\n  {}  {}",
                harmless(&clause.wanted),
                styled(style::MUTED, format!("{} severity", severity(clause)))
            );
            let width = clause.details.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
            for (name, value) in &clause.details {
                let _ =
                    writeln!(text, "     {:<width$}  {}", harmless(name), harmless(value).replace('\n', " "));
            }
            for line in clause.contents.iter().flat_map(|contents| contents.lines()) {
                let _ = writeln!(text, "     {} {}", styled(style::MUTED, "|"), harmless(line));
            }
            if let Some(note) = &clause.note {
                let _ = writeln!(text, "     {}", styled(style::MUTED, harmless(note)));
            }
        }
    }
    text
}

/// Prints a baseline's head, before its clauses.
fn about(baseline: &BaselinePage) -> Vec<String> {
    let mut lines = Vec::new();
    if !baseline.satisfies.is_empty() {
        lines.push(format!("satisfies {}", baseline.satisfies.join(", ")));
    }
    if !baseline.include.is_empty() {
        lines.push(format!("includes {}", baseline.include.join(", ")));
    }
    lines.extend(baseline.only_where.as_ref().map(|condition| format!("applies only where {condition}")));
    for parameter in &baseline.parameters {
        let value = parameter
            .default
            .as_ref()
            .map_or_else(|| "required".to_owned(), |default| format!("default {default}"));
        let note = if parameter.note.is_empty() { String::new() } else { format!(": {}", parameter.note) };
        lines.push(format!("parameter {}{note} ({value})", parameter.name));
    }
    lines
}

const STYLE: &str = "body{font:16px/1.5 system-ui,sans-serif;max-width:52rem;margin:2rem auto;padding:0 1rem;color:#1d2b36}\
h1,h2{font-weight:600}h2{margin-top:2.5rem;border-bottom:1px solid #c6d2da;padding-bottom:.3rem}\
article{margin:1.2rem 0;padding-left:1rem;border-left:3px solid #c6d2da}article p{margin:0 0 .3rem}\
dl{display:grid;grid-template-columns:max-content 1fr;gap:.1rem 1rem;margin:.3rem 0}dt{color:#53646f}dd{margin:0}\
pre{background:#f0f4f6;padding:.6rem .8rem;overflow-x:auto;margin:.4rem 0}.note,.severity{color:#53646f}\
@media(prefers-color-scheme:dark){body{background:#14191d;color:#dde6ec}pre{background:#1f272d}dt,.note,.severity{color:#93a4af}h2,article{border-color:#37444d}}";

/// The page as HTML that needs nothing else.
fn html(page: &KitPage) -> String {
    let safe = html_text;
    let mut text = format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
         <title>{0} {1}</title><style>{STYLE}</style></head><body>\n<h1>{0} {1}</h1>\n<p>{2}</p>\n",
        safe(&page.name),
        safe(&page.version),
        safe(&page.summary)
    );
    if !page.requires.is_empty() {
        let _ = writeln!(text, "<p>Requires {}.</p>", safe(&page.requires.join(", ")));
    }
    for baseline in &page.baselines {
        let _ = writeln!(text, "<h2>{}</h2>\n<p>{}</p>", safe(&baseline.name), safe(&baseline.summary));
        let lines: String = about(baseline).iter().map(|line| format!("<li>{}</li>", safe(line))).collect();
        if !lines.is_empty() {
            let _ = writeln!(text, "<ul>{lines}</ul>");
        }
        for clause in &baseline.clauses {
            let _ = write!(
                text,
                "<article><p><strong>{}</strong> <span class=\"severity\">{} severity</span></p>",
                safe(&clause.wanted),
                severity(clause)
            );
            let details: String = clause
                .details
                .iter()
                .map(|(name, value)| format!("<dt>{}</dt><dd>{}</dd>", safe(name), safe(value)))
                .collect();
            if !details.is_empty() {
                let _ = write!(text, "<dl>{details}</dl>");
            }
            if let Some(contents) = &clause.contents {
                let _ = write!(text, "<pre>{}</pre>", safe(contents));
            }
            if let Some(note) = &clause.note {
                let _ = write!(text, "<p class=\"note\">{}</p>", safe(note));
            }
            text += "</article>\n";
        }
    }
    text + "</body></html>\n"
}

fn html_text(text: &str) -> String {
    let plain: String = text.chars().filter(|c| !c.is_control() || matches!(c, '\n' | '\t')).collect();
    plain.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
