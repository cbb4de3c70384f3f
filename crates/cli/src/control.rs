//! `constans control` and `constans asset`.

use crate::compliance::{address, aligned};
use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_core::compliance::{NodeCounts, Rate};
use constans_core::control::{Catalogue, CatalogueProblem, from_oscal};
use constans_core::sentence::span_words;
use constans_terminal::{count, harmless, time};
use constans_wire::control::{
    Asset, AssetShown, AssetSummary, CatalogueSet, CatalogueVersion, ControlFigures, ControlGaps, Controls,
    SetAssets, SetCatalogue,
};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use toml::Spanned;

/// Arguments of `control`.
#[derive(Debug, Args)]
pub struct ControlArguments {
    #[command(subcommand)]
    command: ControlCommand,
}

#[derive(Debug, Subcommand)]
enum ControlCommand {
    /// List the controls: nodes that satisfy each, do not, or have no clause for it
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// Only nodes that match this filter now
        #[arg(long, value_name = "CEL")]
        filter: Option<String>,
        /// The moment that is asked about, as 2026-11-21T23:00:00Z [default: now]
        #[arg(long, value_name = "TIME")]
        as_of: Option<String>,
        /// Only what the server had learned by this moment counts [default: now]
        #[arg(long, value_name = "TIME")]
        as_known_at: Option<String>,
    },
    /// Replace the catalogue by a TOML document, or by an OSCAL catalogue in JSON
    Set {
        #[command(flatten)]
        server: ServerArguments,
        /// The document; its name ends in .json if it is in OSCAL, whose controls keep the scopes that they have here
        #[arg(value_name = "FILE")]
        document: PathBuf,
        /// The reason
        #[arg(long, value_name = "REASON")]
        because: Option<String>,
        /// Refuse it if somebody set the catalogue after this version
        #[arg(long, value_name = "VERSION")]
        unless_changed_after: Option<u32>,
        /// Only show what would be other than before
        #[arg(long)]
        preview: bool,
    },
    /// Name the nodes that a control applies to and that have no clause for it
    Gaps {
        #[command(flatten)]
        server: ServerArguments,
        /// The control [default: all that have gaps]
        control: Option<String>,
        /// Only nodes that match this filter now
        #[arg(long, value_name = "CEL")]
        filter: Option<String>,
        /// The moment that is asked about, as 2026-11-21T23:00:00Z [default: now]
        #[arg(long, value_name = "TIME")]
        as_of: Option<String>,
    },
    /// List the versions of the catalogue: who set each, when and why
    Versions {
        #[command(flatten)]
        server: ServerArguments,
    },
}

/// Arguments of `asset`.
#[derive(Debug, Args)]
pub struct AssetArguments {
    #[command(subcommand)]
    command: AssetCommand,
}

#[derive(Debug, Subcommand)]
enum AssetCommand {
    /// Replace the inventory by a CSV file (RFC 4180), whose first line names the columns; one of them is called name
    Set {
        #[command(flatten)]
        server: ServerArguments,
        /// The file
        #[arg(value_name = "FILE")]
        inventory: PathBuf,
    },
    /// List the machines of the inventory, and whether they are of the fleet
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// Only those that never joined, or left
        #[arg(long)]
        never_enrolled: bool,
    },
}

/// Lists, sets or names gaps.
pub async fn run(arguments: &ControlArguments) -> Result<(), ClientError> {
    match &arguments.command {
        ControlCommand::List { server, filter, as_of, as_known_at } => {
            let server = Server::open(server)?;
            let given =
                [("filter", filter.clone()), ("as_of", as_of.clone()), ("as_known_at", as_known_at.clone())];
            let controls: Controls = server.get(&address("/api/controls", given)).await?;
            if !server.says_json(&controls) {
                print!("{}", shown(&controls));
            }
        }
        ControlCommand::Set { server, document, because, unless_changed_after, preview } => {
            let (catalogue, is_oscal, withdrawn) = read_catalogue(document)?;
            let set = SetCatalogue {
                catalogue,
                keep_scopes: is_oscal,
                because: because.clone(),
                unless_changed_after: *unless_changed_after,
                preview: *preview,
            };
            let server = Server::open(server)?;
            let done: CatalogueSet = server.put("/api/controls", &set).await?;
            if !server.says_json(&done) {
                if withdrawn > 0 {
                    println!("{} left out: withdrawn", count(withdrawn, "control is", "controls are"));
                }
                print!("{}", what_was_set(&done, *preview));
            }
        }
        ControlCommand::Gaps { server, control, filter, as_of } => {
            let server = Server::open(server)?;
            let given = [("filter", filter.clone()), ("as_of", as_of.clone())];
            let ids = match control {
                Some(control) => vec![control.clone()],
                None => {
                    let controls: Controls = server.get(&address("/api/controls", given.clone())).await?;
                    controls.controls.into_iter().filter(has_gaps).map(|control| control.id).collect()
                }
            };
            let mut all = Vec::new();
            for id in ids {
                let asked = [("control", Some(id))].into_iter().chain(given.clone());
                all.push(server.get::<ControlGaps>(&address("/api/control-gaps", asked)).await?);
            }
            if !server.says_json(&all) {
                print!("{}", gaps_words(&all));
            }
        }
        ControlCommand::Versions { server } => {
            let server = Server::open(server)?;
            let versions: Vec<CatalogueVersion> = server.get("/api/controls/versions").await?;
            if !server.says_json(&versions) {
                if versions.is_empty() {
                    println!("no catalogue is set: constans control set FILE");
                }
                versions.iter().for_each(|version| println!("{}", version_words(version)));
            }
        }
    }
    Ok(())
}

/// Sets or lists the inventory.
pub async fn asset(arguments: &AssetArguments) -> Result<(), ClientError> {
    match &arguments.command {
        AssetCommand::Set { server, inventory } => {
            let assets = read_assets(inventory)?;
            let server = Server::open(server)?;
            let summary: AssetSummary = server.put("/api/assets", &SetAssets { assets }).await?;
            if !server.says_json(&summary) {
                println!("{}", asset_words(&summary));
                println!("Next: constans asset list --never-enrolled");
            }
        }
        AssetCommand::List { server, never_enrolled } => {
            let server = Server::open(server)?;
            let mut all: Vec<AssetShown> = Vec::new();
            loop {
                let given = [
                    ("never_enrolled", Some(never_enrolled.to_string())),
                    ("after", all.last().map(|asset| asset.name.clone())),
                ];
                let page: Vec<AssetShown> = server.get(&address("/api/assets", given)).await?;
                if page.is_empty() {
                    break;
                }
                all.extend(page);
            }
            if server.says_json(&all) {
                return Ok(());
            }
            if all.is_empty() {
                println!("there is none");
            }
            for asset in &all {
                let fields: Vec<String> =
                    asset.fields.iter().map(|(column, cell)| format!("{column}={cell}")).collect();
                let word = if asset.is_enrolled { "of the fleet" } else { "never enrolled" };
                println!(
                    "{}",
                    harmless(&format!("{}  {word}  {}", asset.name, fields.join("  "))).trim_end()
                );
            }
        }
    }
    Ok(())
}

fn has_gaps(control: &ControlFigures) -> bool {
    control.gaps > 0 && !control.is_heading
}

/// Reads a catalogue, in TOML or OSCAL. Returns also whether it is OSCAL, and how many withdrawn controls are left out.
fn read_catalogue(document: &Path) -> Result<(Catalogue, bool, usize), ClientError> {
    let failed =
        |error: String, hint: &str| ClientError::new(format!("{}: {error}", document.display()), hint);
    let hint = "a catalogue has [[controls]] with id, title, and text, parent, source, scope, is_heading where wanted, [time_allowed_secs], and [time_allowed_of_releases_secs.\"KIT@VERSION\"]; or it is an OSCAL catalogue in a .json file";
    let text = std::fs::read_to_string(document).map_err(|error| failed(error.to_string(), hint))?;
    let is_oscal = document.extension().is_some_and(|extension| extension == "json");
    let (catalogue, withdrawn) = if is_oscal {
        let import = from_oscal(&text).map_err(|error| failed(error.to_string(), hint))?;
        (import.catalogue, import.withdrawn)
    } else {
        (toml::from_str(&text).map_err(|error: toml::de::Error| failed(error.to_string(), hint))?, 0)
    };
    let problems = catalogue.problems();
    if problems.is_empty() {
        return Ok((catalogue, is_oscal, withdrawn));
    }
    let lines = if is_oscal { Vec::new() } else { lines_of_ids(&text) };
    let said: Vec<String> = problems.iter().map(|problem| problem_words(problem, &lines)).collect();
    Err(failed(
        format!("{}\n{}", count(problems.len(), "problem", "problems"), said.join("\n")),
        "nothing is set",
    ))
}

/// A problem with the line of its control.
fn problem_words(problem: &CatalogueProblem, lines: &[usize]) -> String {
    let line = problem.place.and_then(|place| lines.get(place)).map(|line| format!("line {line}, "));
    harmless(&format!("  {}{}: {}", line.unwrap_or_default(), problem.id, problem.message))
}

/// The lines in which the ids of a TOML catalogue are.
fn lines_of_ids(text: &str) -> Vec<usize> {
    #[derive(Deserialize)]
    struct Located {
        controls: Vec<WithId>,
    }
    #[derive(Deserialize)]
    struct WithId {
        id: Spanned<String>,
    }
    let located: Option<Located> = toml::from_str(text).ok();
    let line = |control: &WithId| {
        let before = text.get(..control.id.span().start).unwrap_or(text);
        before.matches('\n').count() + 1
    };
    located.map(|located| located.controls.iter().map(line).collect()).unwrap_or_default()
}

fn read_assets(inventory: &Path) -> Result<Vec<Asset>, ClientError> {
    let failed = |error: String| {
        ClientError::new(
            format!("{}: {error}", inventory.display()),
            "an inventory is CSV (RFC 4180) with a first line that names the columns; one of them is `name`, as the node would be called",
        )
    };
    let mut reader = csv::Reader::from_path(inventory).map_err(|error| failed(error.to_string()))?;
    let columns = reader.headers().map_err(|error| failed(error.to_string()))?.clone();
    let name = columns.iter().position(|column| column.trim() == "name");
    let name = name.ok_or_else(|| failed("it has no column `name`".to_owned()))?;
    let asset = |record: csv::StringRecord| Asset {
        name: record.get(name).unwrap_or_default().trim().to_owned(),
        fields: columns
            .iter()
            .zip(record.iter())
            .enumerate()
            .filter(|(place, (_, cell))| *place != name && !cell.is_empty())
            .map(|(_, (column, cell))| (column.trim().to_owned(), cell.to_owned()))
            .collect::<BTreeMap<_, _>>(),
    };
    reader.records().map(|record| record.map(asset).map_err(|error| failed(error.to_string()))).collect()
}

/// Says what is other than before in a catalogue that is set, or would be.
pub fn what_was_set(done: &CatalogueSet, is_preview: bool) -> String {
    let difference = &done.difference;
    let parts =
        [("new", &difference.added), ("altered", &difference.altered), ("removed", &difference.removed)];
    let mut text = String::new();
    for (word, ids) in parts.into_iter().filter(|(_, ids)| !ids.is_empty()) {
        let _ = writeln!(text, "{word:<8} {}", harmless(&ids.join(" ")));
    }
    if difference.are_times_altered {
        text.push_str("other times are allowed until something is overdue\n");
    }
    if text.is_empty() {
        text.push_str("the catalogue is as it was\n");
    }
    if !done.unknown.is_empty() {
        let _ = writeln!(
            text,
            "note: clauses name what the catalogue does not have: {}",
            harmless(&done.unknown.join(" "))
        );
    }
    if is_preview {
        text.push_str("Nothing is set. Next: the same without --preview\n");
    } else {
        let _ = writeln!(text, "version {} is valid from now on. Next: constans control gaps", done.version);
    }
    text
}

fn version_words(version: &CatalogueVersion) -> String {
    let because = version.because.as_ref().map(|because| format!(": \"{because}\"")).unwrap_or_default();
    let until = version
        .until
        .map_or_else(|| "valid since".to_owned(), |until| format!("until {}, since", time(until)));
    harmless(&format!("version {}  {until} {}  {}{because}", version.no, time(version.from), version.set_by))
}

fn asset_words(summary: &AssetSummary) -> String {
    let of = |number: u64| usize::try_from(number).unwrap_or(usize::MAX);
    format!(
        "the inventory names {}: {} never enrolled; {} not in it (set by {}, {})",
        count(of(summary.assets), "machine", "machines"),
        summary.never_enrolled,
        count(of(summary.not_listed), "node is", "nodes are"),
        harmless(&summary.set_by),
        time(summary.set)
    )
}

const HEADS: [&str; 8] =
    ["in scope", "satisfied", "not", "not known", "conceded", "gaps", "as found", "with conc."];

fn shown(controls: &Controls) -> String {
    let mut text = format!("as of {}", time(controls.as_of));
    if controls.as_known_at != controls.as_of {
        let _ = write!(text, ", as known at {}", time(controls.as_known_at));
    }
    let version = controls.version.as_ref().map_or_else(
        || "no catalogue was set then: constans control set FILE".to_owned(),
        |version| {
            format!(
                "catalogue version {}, set by {} {}",
                version.no,
                harmless(&version.set_by),
                time(version.from)
            )
        },
    );
    let _ = writeln!(text, "; {version}\n");
    let real: Vec<&ControlFigures> = controls.controls.iter().filter(|control| !control.is_heading).collect();
    let mut lines: Vec<Vec<String>> =
        vec![std::iter::once("control").chain(HEADS).map(str::to_owned).collect()];
    lines.extend(real.iter().map(|control| cells(control)));
    text.push_str(&aligned(&lines));
    text.push_str(&notes(&real, controls));
    text
}

fn cells(control: &ControlFigures) -> Vec<String> {
    let NodeCounts { without_deviation, with_deviation, not_known, conceded, .. } = control.nodes;
    let title = control.title.as_deref().unwrap_or("(not in the catalogue)");
    let numbers = [without_deviation, with_deviation, not_known, conceded, control.gaps]
        .map(|number| number.to_string());
    let rates = [control.rate_basis_points, control.rate_with_concessions_basis_points];
    std::iter::once(harmless(&format!("{} {title}", control.id)))
        .chain([control.in_scope.map_or_else(|| "–".to_owned(), |nodes| nodes.to_string())])
        .chain(numbers)
        .chain(rates.map(|rate| Rate::words_of(rate.and_then(|points| Rate::of(points, 10_000)))))
        .collect()
}

/// To which nodes a control does not apply and why, and what else is to be known of the table.
fn notes(real: &[&ControlFigures], controls: &Controls) -> String {
    let mut text = String::new();
    for control in real {
        let Some(scope) = &control.scope else { continue };
        let outside = controls.nodes_in_all.saturating_sub(control.in_scope.unwrap_or(0));
        let mut line = format!("{} applies to nodes where {scope}: not applicable to {outside}", control.id);
        if control.beyond_scope > 0 {
            let _ = write!(line, ", of which {} have clauses for it and are counted", control.beyond_scope);
        }
        let _ = writeln!(text, "{}", harmless(&line));
    }
    let times = controls.time_allowed_secs.by_severity().map(|(severity, secs)| {
        format!("{severity} {}", span_words(i64::try_from(secs).unwrap_or(i64::MAX)))
    });
    let _ = writeln!(text, "overdue is what is not applied after: {}", times.join(", "));
    for (release, times) in &controls.time_allowed_of_releases_secs {
        let times: Vec<String> = times
            .by_severity()
            .map(|(severity, secs)| {
                format!("{severity} {}", span_words(i64::try_from(secs).unwrap_or(i64::MAX)))
            })
            .collect();
        let _ = writeln!(text, "  of {}: {}", harmless(release), times.join(", "));
    }
    if let Some(assets) = &controls.assets {
        let _ = writeln!(text, "{}", asset_words(assets));
    }
    if real.iter().any(|control| has_gaps(control)) {
        text.push_str(
            "gaps: nodes that it applies to without a clause for it. Next: constans control gaps\n",
        );
    }
    if text.is_empty() { text } else { format!("\n{text}") }
}

/// This many nodes of a gap are named.
const NAMED: usize = 20;

fn gaps_words(all: &[ControlGaps]) -> String {
    if all.iter().all(|gaps| gaps.nodes.is_empty()) {
        return "no gaps: each node that a control applies to has a clause for it\n".to_owned();
    }
    let mut text = String::new();
    for gaps in all {
        let scope = gaps
            .scope
            .as_ref()
            .map_or_else(|| "all nodes".to_owned(), |scope| format!("nodes where {scope}"));
        let more = if gaps.has_more { " or more" } else { "" };
        let number = count(gaps.nodes.len(), "node", "nodes");
        let _ = writeln!(
            text,
            "{}",
            harmless(&format!("{} (for {scope}): {number}{more} without a clause for it", gaps.control))
        );
        let named = gaps.nodes.iter().take(NAMED).cloned().collect::<Vec<_>>().join(" ");
        let others = gaps.nodes.len().saturating_sub(NAMED);
        let others = if others > 0 {
            format!(" and {others}{more} more (--output json names them)")
        } else {
            String::new()
        };
        let _ = writeln!(text, "  {}", harmless(&(named + &others)));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::json;

    #[test]
    fn controls_are_listed_with_scope_gaps_and_what_clauses_name_without_them() {
        let counts = json!({ "compliant": 2, "in_doubt": 0, "noncompliant": 1, "conceded": 0, "unexamined": 0, "unknown": 0 });
        let control = |id: &str, title: Option<&str>, in_scope: Option<u64>, gaps: u64| {
            json!({
                "id": id, "title": title, "text": null, "parent": null, "source": null, "is_heading": false, "in_scope": in_scope, "gaps": gaps,
                "scope": (id == "SK-9").then_some("labels.role == \"gate\""), "beyond_scope": u64::from(id == "SK-9"),
                "nodes": { "without_deviation": 2, "with_deviation": 1, "not_known": 0, "conceded": 0, "with_critical": 1 },
                "clauses": counts, "rate_basis_points": 6_666, "rate_with_concessions_basis_points": 6_666,
            })
        };
        let controls: Controls = answered(
            json!({
                "as_of": "2026-11-23T08:12:00Z", "as_known_at": "2026-11-23T08:12:00Z", "nodes_in_all": 9,
                "version": { "no": 2, "set_by": "ilse.maren", "because": null, "from": "2026-11-01T09:00:00Z", "until": null },
                "controls": [control("SK-9", Some("Tariffs are the published ones"), Some(4), 1), control("SK-77", None, None, 0)],
                "time_allowed_secs": { "high": 3_600 },
                "time_allowed_of_releases_secs": { "kiosk-floor@1.1.0": { "critical": 7_200 } },
                "assets": { "set_by": "ilse.maren", "set": "2026-11-01T09:00:00Z", "assets": 12, "never_enrolled": 1, "not_listed": 2 },
            }),
            &json!({}),
        );
        insta::assert_snapshot!(shown(&controls), @r#"
        as of 2026-11-23 08:12:00 UTC; catalogue version 2, set by ilse.maren 2026-11-01 09:00:00 UTC

        control                              in scope  satisfied  not  not known  conceded  gaps  as found  with conc.
        SK-9 Tariffs are the published ones         4          2    1          0         0     1   66.66 %     66.66 %
        SK-77 (not in the catalogue)                –          2    1          0         0     0   66.66 %     66.66 %

        SK-9 applies to nodes where labels.role == "gate": not applicable to 5, of which 1 have clauses for it and are counted
        overdue is what is not applied after: low 90 days, medium 30 days, high 60 min, critical 24 h
          of kiosk-floor@1.1.0: critical 2 h
        the inventory names 12 machines: 1 never enrolled; 2 nodes are not in it (set by ilse.maren, 2026-11-01 09:00:00 UTC)
        gaps: nodes that it applies to without a clause for it. Next: constans control gaps
        "#);
        let gaps = ControlGaps {
            control: "SK-9".to_owned(),
            scope: None,
            nodes: vec!["gate-auken-1".to_owned()],
            has_more: false,
        };
        insta::assert_snapshot!(gaps_words(&[gaps]), @"
        SK-9 (for all nodes): 1 node without a clause for it
          gate-auken-1
        ");
    }

    #[test]
    fn problems_of_a_catalogue_are_said_with_their_lines() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("controls.toml");
        std::fs::write(&file, "[[controls]]\nid = \"SK-1\"\ntitle = \"a\"\n\n[[controls]]\nid = \"SK-1\"\ntitle = \"\"\nscope = \"labels.\"\n").unwrap();
        let error = read_catalogue(&file).err().unwrap().message;
        assert!(
            error.contains("line 6, SK-1: its title")
                && error.contains("line 6, SK-1: there is a control with this id"),
            "{error}"
        );
        assert!(error.contains("line 6, SK-1: its scope cannot be used"), "{error}");
    }

    #[test]
    fn an_inventory_is_csv_with_quoted_cells_and_a_column_of_names() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("machines.csv");
        std::fs::write(
            &file,
            "place,name,bought\r\n\"Auken, north quay\",kiosk-auken-1,2019\r\n,gate-brisk-9,\r\n",
        )
        .unwrap();
        let assets = read_assets(&file).ok().unwrap();
        assert_eq!(assets[0].name, "kiosk-auken-1");
        assert_eq!(assets[0].fields["place"], "Auken, north quay");
        assert_eq!(assets[1].fields.len(), 0);
        std::fs::write(&file, "host\nkiosk-auken-1\n").unwrap();
        assert!(read_assets(&file).err().unwrap().message.contains("no column `name`"));
    }
}
