//! `constans evidence`.

use crate::credentials::KnownKeys;
use crate::error::ClientError;
use crate::evidence_verify::{not_read, number_of, of, verified, words};
use crate::server::{ListArguments, Server, ServerArguments, mebibytes, on_network};
use clap::{Args, Subcommand, ValueEnum};
use constans_evidence::verify;
use constans_terminal::{harmless, time};
use constans_wire::evidence::{
    DayChecked, Evidence, EvidenceChain, EvidenceFormat, EvidenceStatus, NewEvidence,
};
use jiff::Timestamp;
use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::fs::{self, OpenOptions};
use std::io::IsTerminal as _;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;

/// How often it is asked how far evidence is.
const EVERY: Duration = Duration::from_millis(500);

/// Arguments of `evidence`.
#[derive(Debug, Args)]
pub struct EvidenceArguments {
    #[command(subcommand)]
    command: EvidenceCommand,
}

/// A format, as it is written on the command line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum FormatArgument {
    /// Nothing else
    Csv,
    /// One JSON document
    Json,
    /// A page that prints well
    Html,
    /// A spreadsheet
    Xlsx,
    /// OSCAL assessment results with their plan
    Oscal,
    /// All of them
    All,
}

#[derive(Debug, Subcommand)]
enum EvidenceCommand {
    /// Have evidence made, wait for it and save its file
    Make {
        #[command(flatten)]
        server: ServerArguments,
        /// The moment that it is of, as 2026-11-21T23:00:00Z [default: now]
        #[arg(long, value_name = "TIME")]
        as_of: Option<Timestamp>,
        /// Only what the server had learned by this moment counts [default: now]
        #[arg(long, value_name = "TIME")]
        as_known_at: Option<Timestamp>,
        /// List also the deviations that were open at any time since this moment
        #[arg(long, value_name = "TIME")]
        since: Option<Timestamp>,
        /// Only nodes that match this filter over labels, about and node.name now
        #[arg(long, value_name = "CEL")]
        filter: Option<String>,
        /// Only clauses that satisfy this control; can be given more than once
        #[arg(long, value_name = "CONTROL")]
        control: Vec<String>,
        /// A format besides CSV, which is always there; can be given more than once
        #[arg(long, value_enum, value_delimiter = ',', default_values = ["html", "xlsx"])]
        format: Vec<FormatArgument>,
        /// The reason
        #[arg(long, value_name = "REASON")]
        because: Option<String>,
        /// The file that it is saved as [default: constans-evidence-E3.zip]
        #[arg(long, value_name = "FILE", conflicts_with = "no_wait")]
        save_as: Option<PathBuf>,
        /// Do not wait for it; constans evidence get saves it later
        #[arg(long)]
        no_wait: bool,
    },
    /// List the evidence that was asked for
    List {
        #[command(flatten)]
        server: ServerArguments,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Save the file of evidence, and wait for it if it is not made yet
    Get {
        #[command(flatten)]
        server: ServerArguments,
        /// The evidence, for example E3
        #[arg(value_name = "EVIDENCE", value_parser = number)]
        no: u32,
        /// The file that it is saved as [default: constans-evidence-E3.zip]
        #[arg(long, value_name = "FILE")]
        save_as: Option<PathBuf>,
    },
    /// Stop the making of evidence
    Stop {
        #[command(flatten)]
        server: ServerArguments,
        /// The evidence, for example E3
        #[arg(value_name = "EVIDENCE", value_parser = number)]
        no: u32,
    },
    /// Remove the file of evidence from the server; that it was made stays on record
    Remove {
        #[command(flatten)]
        server: ServerArguments,
        /// The evidence, for example E3
        #[arg(value_name = "EVIDENCE", value_parser = number)]
        no: u32,
    },
    /// Show the keys that sign evidence, and the last day of the chain: note both elsewhere
    Keys {
        #[command(flatten)]
        server: ServerArguments,
    },
    /// Have the server compute the digest of each day again, and compare it with what was chained and noted
    Check {
        #[command(flatten)]
        server: ServerArguments,
        /// How many of the last days [default: all]
        #[arg(long, value_name = "DAYS")]
        days: Option<usize>,
    },
    /// Verify a file of evidence, without a server: who signed it, and that nothing of it was altered
    Verify {
        /// The file
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// The id of a key of the organisation, as ed25519:…; can be given more than once [default: those of servers that evidence was got from]
        #[arg(long, value_name = "ID")]
        key: Vec<String>,
        /// An earlier file that answers the same question: show what became known since
        #[arg(long, value_name = "FILE")]
        earlier: Option<PathBuf>,
        /// Print the result as JSON
        #[arg(long)]
        json: bool,
    },
}

fn number(text: &str) -> Result<u32, String> {
    text.trim_start_matches(['E', 'e'])
        .parse()
        .map_err(|_| "evidence is called E and its number, for example E3".to_owned())
}

/// Makes, lists, saves, ends or verifies.
pub fn run(arguments: &EvidenceArguments) -> ExitCode {
    match &arguments.command {
        EvidenceCommand::Verify { file, key, earlier, json } => {
            match verified(file, key, earlier.as_deref(), *json) {
                Ok(exit) => exit.into(),
                Err(error) => error.say().into(),
            }
        }
        others => on_network(on_server(others)),
    }
}

async fn on_server(command: &EvidenceCommand) -> Result<(), ClientError> {
    match command {
        EvidenceCommand::Make {
            server,
            as_of,
            as_known_at,
            since,
            filter,
            control,
            format,
            because,
            save_as,
            no_wait,
        } => {
            let server = Server::open(server)?;
            let new = NewEvidence {
                filter: filter.clone(),
                controls: control.iter().cloned().collect(),
                as_of: *as_of,
                as_known_at: *as_known_at,
                since: *since,
                formats: formats(format),
                because: because.clone(),
            };
            if let Some(path) = save_as.as_deref().filter(|path| path.exists()) {
                return Err(is_there(path, "name another file with --save-as"));
            }
            let asked: Evidence = server.post("/api/evidence", &new).await?;
            if *no_wait {
                if !server.says_json(&asked) {
                    anstream::println!("{}", line(&asked));
                    anstream::println!("Next: constans evidence get E{}", asked.no);
                }
                return Ok(());
            }
            let no = u32::try_from(asked.no).unwrap_or(u32::MAX);
            save(&server, no, save_as.as_deref()).await
        }
        EvidenceCommand::Get { server, no, save_as } => {
            save(&Server::open(server)?, *no, save_as.as_deref()).await
        }
        EvidenceCommand::List { server, which } => {
            let server = Server::open(server)?;
            let all: Vec<Evidence> = server.get_all(&which.address("/api/evidence")).await?;
            if server.says_json(&all) {
                return Ok(());
            }
            if all.is_empty() {
                anstream::println!("{}", which.none("no evidence was asked for yet"));
            }
            all.iter().for_each(|evidence| anstream::println!("{}", line(evidence)));
            Ok(())
        }
        EvidenceCommand::Stop { server, no } => {
            let server = Server::open(server)?;
            let stopped: Evidence = server.post(&format!("/api/evidence/{no}/stop"), &()).await?;
            if !server.says_json(&stopped) {
                anstream::println!("E{no} is being stopped");
            }
            Ok(())
        }
        EvidenceCommand::Remove { server, no } => {
            let server = Server::open(server)?;
            let removed: Evidence = server.delete(&format!("/api/evidence/{no}")).await?;
            if !server.says_json(&removed) {
                anstream::println!("{}", line(&removed));
            }
            Ok(())
        }
        EvidenceCommand::Keys { server } => {
            let server = Server::open(server)?;
            let chain: EvidenceChain = server.get("/api/evidence-chain").await?;
            if !server.says_json(&chain) {
                anstream::print!("{}", keys(&chain));
            }
            Ok(())
        }
        EvidenceCommand::Check { server, days } => check(&Server::open(server)?, *days).await,
        EvidenceCommand::Verify { .. } => Ok(()),
    }
}

fn formats(given: &[FormatArgument]) -> BTreeSet<EvidenceFormat> {
    use EvidenceFormat::{Html, Json, Oscal, Xlsx};
    let one = |format: &FormatArgument| match format {
        FormatArgument::Csv => Vec::new(),
        FormatArgument::Json => vec![Json],
        FormatArgument::Html => vec![Html],
        FormatArgument::Xlsx => vec![Xlsx],
        FormatArgument::Oscal => vec![Oscal],
        FormatArgument::All => vec![Json, Html, Xlsx, Oscal],
    };
    given.iter().flat_map(one).collect()
}

/// Waits until evidence is made, saves its file and verifies it.
async fn save(server: &Server, no: u32, save_as: Option<&Path>) -> Result<(), ClientError> {
    let made = wait(server, no).await?;
    let chain: EvidenceChain = server.get("/api/evidence-chain").await?;
    let path = save_as.map_or_else(|| PathBuf::from(format!("constans-evidence-E{no}.zip")), Path::to_owned);
    let failed = |error: std::io::Error| {
        ClientError::new(
            format!("{} cannot be written: {error}", path.display()),
            format!("name another file: constans evidence get E{no} --save-as FILE"),
        )
    };
    if path.exists() {
        let hint = format!("name another file: constans evidence get E{no} --save-as FILE");
        return Err(is_there(&path, hint));
    }
    let part = path.with_added_extension("part");
    let mut file =
        OpenOptions::new().create(true).truncate(true).read(true).write(true).open(&part).map_err(failed)?;
    server.get_to_file(&format!("/api/evidence/{no}/file"), &mut file).await?.map_err(failed)?;
    file.sync_all().map_err(failed)?;
    let known: Vec<String> = chain.keys.into_iter().map(|key| key.id).collect();
    let verified = verify(file, &known).map_err(|error| not_read(&part, &error))?;
    if !verified.is_intact() || !verified.is_key_known {
        anstream::print!("{}", words(&verified));
        return Err(ClientError::new(
            format!("what came is not what the server signed: {}", part.display()),
            format!("get it again: constans evidence get E{no}"),
        ));
    }
    fs::rename(&part, &path).map_err(failed)?;
    if let Some(key) = known.last() {
        KnownKeys::here()?.keep(key, server.url())?;
    }
    if server.says_json(&made) {
        return Ok(());
    }
    anstream::println!("{}", line(&made));
    anstream::print!("{}", words(&verified));
    anstream::println!("Saved as {}", path.display());
    anstream::println!(
        "Who gets it verifies it with: constans evidence verify {} --key {}",
        path.display(),
        verified.key
    );
    Ok(())
}

fn is_there(path: &Path, hint: impl Into<String>) -> ClientError {
    ClientError::new(format!("{} is there already, and nothing is overwritten", path.display()), hint)
}

async fn wait(server: &Server, no: u32) -> Result<Evidence, ClientError> {
    let is_watched = std::io::stderr().is_terminal();
    loop {
        let evidence: Evidence = server.get(&format!("/api/evidence/{no}")).await?;
        let because = evidence.ended_because.as_deref().map(harmless).unwrap_or_default();
        match evidence.status {
            EvidenceStatus::Made => {
                if is_watched {
                    anstream::eprint!("\r\x1b[K");
                }
                return Ok(evidence);
            }
            EvidenceStatus::Waiting => {
                if is_watched {
                    anstream::eprint!(
                        "\rE{no}: {}; Ctrl-C leaves it: constans evidence get E{no} goes on\x1b[K",
                        progress(&evidence)
                    );
                }
                tokio::time::sleep(EVERY).await;
            }
            EvidenceStatus::Failed => {
                return Err(ClientError::new(format!("E{no} was not made: {because}"), "ask for it again"));
            }
            EvidenceStatus::Stopped => {
                return Err(ClientError::new(
                    format!("E{no} was stopped by {because}"),
                    "ask for it again: constans evidence make",
                ));
            }
            EvidenceStatus::Removed => {
                return Err(ClientError::new(
                    format!("the file of E{no} is no longer there: {because}"),
                    "ask for it again, with the same --as-of and --as-known-at",
                ));
            }
        }
    }
}

fn progress(evidence: &Evidence) -> String {
    match (evidence.is_begun, evidence.total) {
        (false, _) => "waits".to_owned(),
        (true, 0) => "is begun".to_owned(),
        (true, total) if evidence.done >= total => {
            format!("{total} nodes counted, the file is being written")
        }
        (true, total) => format!("{} of {total} nodes", evidence.done),
    }
}

/// One piece of evidence in the list.
fn line(evidence: &Evidence) -> String {
    let status = match evidence.status {
        EvidenceStatus::Waiting => progress(evidence),
        EvidenceStatus::Made => format!(
            "made {}, {}, {}, kept until {}",
            evidence.ended.map(time).unwrap_or_default(),
            number_of(evidence.rows.unwrap_or(0), "clause on a node", "clauses on nodes"),
            mebibytes(evidence.bytes.unwrap_or(0)),
            evidence.kept_until.map(time).unwrap_or_default()
        ),
        EvidenceStatus::Failed => "failed".to_owned(),
        EvidenceStatus::Stopped => "stopped".to_owned(),
        EvidenceStatus::Removed => "removed".to_owned(),
    };
    let mut text = format!("{:<5} {}\n      {status}", format!("E{}", evidence.no), of(&evidence.question));
    let because = evidence.because.as_ref().map(|because| format!(": \"{}\"", harmless(because)));
    let _ = write!(
        text,
        "\n      asked for by {} {}{}",
        harmless(&evidence.asked_by),
        time(evidence.asked),
        because.unwrap_or_default()
    );
    if let Some(because) = &evidence.ended_because {
        let _ = write!(text, "\n      {}", harmless(because));
    }
    text
}

fn keys(chain: &EvidenceChain) -> String {
    let mut text = String::new();
    for (place, key) in chain.keys.iter().enumerate().rev() {
        let role = if place + 1 == chain.keys.len() { "signs now" } else { "signed before" };
        let _ = writeln!(text, "{}  {role}, since {}", harmless(&key.id), time(key.since));
    }
    match chain.days.last() {
        Some(last) => {
            let _ = writeln!(
                text,
                "\n{} of the history are chained; the last one:\n{}  {}\nWhoever noted both elsewhere can tell later that nothing learned until then was altered.",
                number_of(chain.days.len() as u64, "day", "days"),
                last.day,
                harmless(&last.digest)
            );
        }
        None => text.push_str("\nNo day is chained yet: each is when it is over.\n"),
    }
    text
}

async fn check(server: &Server, days: Option<usize>) -> Result<(), ClientError> {
    let chain: EvidenceChain = server.get("/api/evidence-chain").await?;
    let first = days.map_or(0, |days| chain.days.len().saturating_sub(days));
    let (mut checked, is_watched) = (Vec::new(), std::io::stderr().is_terminal());
    for (place, link) in chain.days[first..].iter().enumerate() {
        if is_watched {
            anstream::eprint!("\r{place} of {} days\x1b[K", chain.days.len() - first);
        }
        let day: DayChecked = server.get(&format!("/api/evidence-chain/{}", link.day)).await?;
        checked.push(day);
    }
    if is_watched {
        anstream::eprint!("\r\x1b[K");
    }
    let links = constans_core::evidence::check_chain(&chain.days).map_err(|fault| {
        ClientError::new(
            format!("the chain of days is broken: {fault}"),
            "compare with a backup of the database",
        )
    });
    let faults: Vec<String> = checked
        .iter()
        .filter_map(|day| Some(format!("{}: {}", day.day, harmless(day.fault.as_ref()?))))
        .collect();
    let said = server.says_json(&checked);
    links?;
    if !faults.is_empty() {
        return Err(ClientError::new(
            format!("the history was altered:\n  {}", faults.join("\n  ")),
            "compare with a backup of the database; evidence that was made before says what was known then",
        ));
    }
    if !said {
        let rows: u64 = checked.iter().map(|day| day.rows).sum();
        anstream::println!(
            "checked: {}, {} that the server learned, none altered, inserted or removed",
            number_of(checked.len() as u64, "day", "days"),
            number_of(rows, "row", "rows")
        );
        if let Some(last) = chain.days.last() {
            anstream::println!("{}  {}", last.day, harmless(&last.digest));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::{Value, json};

    fn evidence(over: &Value) -> Evidence {
        let whole = json!({
            "no": 3, "question": { "filter": null, "controls": [], "as_of": "2026-11-21T23:00:00Z", "as_known_at": "2026-11-21T23:00:00Z", "since": null },
            "formats": ["html"], "because": "the auditor asked", "asked_by": "pia.lund", "asked": "2026-11-23T06:40:00Z", "status": "waiting", "is_begun": false,
            "done": 0, "total": 0, "ended_because": null, "ended": null, "kept_until": null, "rows": null, "bytes": null, "sha256": null, "key": null, "figures": null,
        });
        answered(whole, over)
    }

    #[test]
    fn evidence_says_of_what_by_whom_and_how_far_it_is() {
        let all = [
            evidence(&json!({})),
            evidence(&json!({ "is_begun": true, "done": 80, "total": 203 })),
            evidence(&json!({
                "status": "made", "ended": "2026-11-23T06:41:00Z", "kept_until": "2027-02-21T06:41:00Z", "rows": 9842, "bytes": 1_300_000, "because": null,
                "question": { "filter": "labels.role == \"gate\"", "controls": ["SK-9"], "as_of": "2026-11-21T23:00:00Z", "as_known_at": "2026-11-23T06:40:00Z", "since": "2026-11-21T00:00:00Z" },
            })),
            evidence(&json!({ "status": "removed", "ended_because": "it was kept for 90 days" })),
        ];
        insta::assert_snapshot!(all.iter().map(|one| line(one) + "\n").collect::<String>(), @r#"
        E3    as of 2026-11-21 23:00:00 UTC, all nodes
              waits
              asked for by pia.lund 2026-11-23 06:40:00 UTC: "the auditor asked"
        E3    as of 2026-11-21 23:00:00 UTC, all nodes
              80 of 203 nodes
              asked for by pia.lund 2026-11-23 06:40:00 UTC: "the auditor asked"
        E3    as of 2026-11-21 23:00:00 UTC, as known at 2026-11-23 06:40:00 UTC, deviations since 2026-11-21 00:00:00 UTC, SK-9, nodes where labels.role == "gate"
              made 2026-11-23 06:41:00 UTC, 9842 clauses on nodes, 1.2 MiB, kept until 2027-02-21 06:41:00 UTC
              asked for by pia.lund 2026-11-23 06:40:00 UTC
        E3    as of 2026-11-21 23:00:00 UTC, all nodes
              removed
              asked for by pia.lund 2026-11-23 06:40:00 UTC: "the auditor asked"
              it was kept for 90 days
        "#);
    }
}
