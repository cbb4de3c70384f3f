//! `constans kit order`.

use super::KitPaths;
use clap::{Args, ValueEnum};
use constans_core::check::resolve_sample;
use constans_core::document::explain_findings;
use constans_core::nearest::nearest_word;
use constans_core::state::{Relation, Resolved};
use constans_folder::{CheckedFolder, check_document, check_folder, on_large_stack};
use constans_terminal::{harmless, style, styled};
use constans_wire::exit::Exit;
use serde_json::{Value, json};
use std::fmt::Write as _;

/// Arguments of `kit order`.
#[derive(Debug, Args)]
pub struct OrderArguments {
    #[command(flatten)]
    pub paths: KitPaths,
    /// The baseline; not needed if there is only one
    #[arg(value_name = "BASELINE")]
    baseline: Option<String>,
    /// Output format
    #[arg(long, value_enum, default_value_t = Output::Text)]
    output: Output,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Output {
    /// For people
    Text,
    /// For programs
    Json,
    /// For Graphviz
    Dot,
}

/// Shows the order. Conditions count as true, so that all clauses are seen.
pub fn run(arguments: &OrderArguments) -> Exit {
    let read = if arguments.paths.kit.is_file() {
        check_document(&arguments.paths.kit)
    } else {
        check_folder(&arguments.paths.kit, &arguments.paths.with)
    };
    let CheckedFolder { files, checked, beside } = match read {
        Ok(read) => read,
        Err(error) => return super::check::refuse(&error.to_string(), error.hint()),
    };
    let Some(kit) = checked.kit else {
        anstream::eprintln!("{}", explain_findings(&checked.findings, &files, ""));
        return super::check::refuse("the kit cannot be read", "fix the errors first");
    };
    let names: Vec<&str> = kit.baselines.iter().map(|baseline| baseline.name.value.as_str()).collect();
    let baseline = match (&arguments.baseline, kit.baselines.as_slice()) {
        (None, [only]) => only,
        (None, _) => {
            return super::check::refuse(
                "the kit has several baselines",
                &format!("name one: {}", names.join(", ")),
            );
        }
        (Some(named), _) => match kit.baseline(named) {
            Some(found) => found,
            None => {
                let hint = nearest_word(named, names.iter().copied()).map_or_else(
                    || format!("it has {}", names.join(", ")),
                    |near| format!("did you mean `{near}`?"),
                );
                return super::check::refuse(&format!("the kit has no baseline `{named}`"), &hint);
            }
        },
    };
    let others = kit.required_among(&beside).unwrap_or_default();
    let resolved = match on_large_stack(|| resolve_sample(&kit, baseline, &others)) {
        Ok(resolved) => resolved,
        Err(findings) => {
            let own: Vec<_> = findings.into_iter().map(|finding| finding.seen_from(&kit.name)).collect();
            anstream::eprintln!("{}", explain_findings(&own, &files, ""));
            return super::check::refuse("there is no order", "fix the errors first");
        }
    };
    match arguments.output {
        Output::Text => anstream::print!("{}", text(&resolved)),
        Output::Json => {
            let order: Vec<_> = resolved.state.clauses.iter().map(|clause| &clause.address).collect();
            let all = |relations: &[Relation]| {
                relations.iter().map(|one| named(&resolved, one)).collect::<Vec<_>>()
            };
            let report = json!({ "order": order, "moves": all(&resolved.moves), "relations": all(&resolved.relations) });
            println!("{}", serde_json::to_string_pretty(&report).expect("an order is JSON"));
        }
        Output::Dot => print!("{}", dot(&resolved)),
    }
    Exit::Well
}

/// A relation between two clauses by their addresses.
fn named(resolved: &Resolved, relation: &Relation) -> Value {
    let address = |at: usize| &resolved.state.clauses[at].address;
    json!({ "earlier": address(relation.earlier), "later": address(relation.later), "why": relation.why })
}

fn text(resolved: &Resolved) -> String {
    let mut text = String::new();
    let clauses = &resolved.state.clauses;
    let width = clauses.len().to_string().len();
    for (at, clause) in clauses.iter().enumerate() {
        let moved = resolved.moves.iter().find(|one| one.earlier == at);
        let why = moved
            .map(|one| format!("   moved up: {} {} it", clauses[one.later].address, one.why.words()))
            .unwrap_or_default();
        let address = styled(style::STRONG, harmless(clause.address.as_str()));
        let _ = writeln!(text, "{:>width$}  {address}{}", at + 1, styled(style::ATTENTION, harmless(&why)));
        for relation in resolved.relations.iter().filter(|one| one.later == at) {
            let implied = if relation.why.is_implied() { "  (implied)" } else { "" };
            let reason = format!("{} {}{implied}", relation.why.words(), clauses[relation.earlier].address);
            let _ = writeln!(text, "{:>width$}    {}", "", styled(style::MUTED, harmless(&reason)));
        }
    }
    let implied = resolved.relations.iter().filter(|one| one.why.is_implied()).count();
    let moves = resolved.moves.len();
    let moved = match moves {
        0 => "as written".to_owned(),
        1 => "as written but for 1 move".to_owned(),
        _ => format!("as written but for {moves} moves"),
    };
    let _ = match implied {
        0 => writeln!(text, "{moved}"),
        _ => writeln!(text, "{moved}; `needs` overrides the implied order"),
    };
    text
}

fn dot(resolved: &Resolved) -> String {
    let quoted = |text: &str| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""));
    let name = |at: usize| quoted(resolved.state.clauses[at].address.as_str());
    let mut text = String::from("digraph order {\n  rankdir = LR;\n  node [shape = box, fontname = sans];\n");
    for at in 0..resolved.state.clauses.len() {
        let _ = writeln!(text, "  {};", name(at));
    }
    for relation in &resolved.relations {
        let style = if relation.why.is_implied() { ", style = dashed" } else { "" };
        let label = quoted(relation.why.words().trim_end_matches(':'));
        let _ = writeln!(
            text,
            "  {} -> {} [label = {label}{style}];",
            name(relation.earlier),
            name(relation.later)
        );
    }
    text + "}\n"
}
