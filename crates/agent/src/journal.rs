//! Log entries for the systemd journal, with searchable fields; plain lines where there is no journal.
//!
//! The fields are `CONSTANS_EVENT` (`run`, `clause`, `agent`), `CONSTANS_RUN`, `CONSTANS_STATUS`, `CONSTANS_MODE`,
//! `CONSTANS_STARTED_BY`, `CONSTANS_STATE`, `CONSTANS_GENERATION`, `CONSTANS_REASON`; of a clause `CONSTANS_ADDRESS`,
//! `CONSTANS_OUTCOME`, `CONSTANS_CAUSE`, `CONSTANS_ATTIC`. No value of a property is ever among them: others may read the journal.

use constans_core::run::{ClauseResult, Outcome, ReactionState, Status};
use constans_host::ActedOn;
use constans_terminal::{counts_words, harmless};
use constans_wire::report::RunReport;
use jiff::Timestamp;
use log::{Level, Record};
use serde::Serialize;
use systemd_journal_logger::{JournalLog, connected_to_journal};

/// At most this number of clauses of a run are written one by one.
const MAX_CLAUSES: usize = 200;

/// Where the agent logs what it does.
pub struct Journal {
    log: Option<JournalLog>,
    is_printed: bool,
}

impl Journal {
    /// Returns a journal that nobody reads, for simulated nodes.
    pub fn none() -> Self {
        Self { log: None, is_printed: false }
    }

    /// Opens the journal of the machine that is acted on; below a private root there is none.
    pub fn open(acted_on: &ActedOn) -> Self {
        let is_there = !acted_on.is_private_root();
        let log = is_there
            .then(|| JournalLog::empty().ok())
            .flatten()
            .map(|log| log.with_syslog_identifier("constans-agent".to_owned()));
        let is_printed = log.is_none() || !connected_to_journal();
        Self { log, is_printed }
    }

    /// Says what a daemon does, with the time where the journal does not give it.
    pub fn say(&self, level: Level, message: &str) {
        if self.is_printed {
            println!("{:.0}  {message}", Timestamp::now());
        }
        self.send(level, message, &[("CONSTANS_EVENT", "agent".to_owned())]);
    }

    /// Says how a run ended, where nobody reads the journal, which [has it already](Self::tell_run); and there only that its report waits.
    pub fn say_run(&self, level: Level, message: &str, waits: &str) {
        if self.is_printed {
            println!("{:.0}  {message}{waits}", Timestamp::now());
        }
        if !waits.is_empty() {
            self.send(level, &format!("{message}{waits}"), &[("CONSTANS_EVENT", "agent".to_owned())]);
        }
    }

    /// Writes a run and each clause that is not simply in line into the journal.
    pub fn tell_run(&self, report: &RunReport) {
        if self.log.is_none() {
            return;
        }
        let of_run = vec![
            ("CONSTANS_RUN", report.run.to_string()),
            ("CONSTANS_MODE", word(&report.mode)),
            ("CONSTANS_STATE", report.wanted.digest.to_string()),
            ("CONSTANS_GENERATION", report.wanted.generation.clone().unwrap_or_default()),
        ];
        let speaks = |clause: &&ClauseResult| {
            !matches!(clause.outcome, Outcome::InLine | Outcome::Idle | Outcome::Unsupported)
        };
        for clause in report.clauses.iter().filter(speaks).take(MAX_CLAUSES) {
            let mut fields = of_run.clone();
            fields.extend([
                ("CONSTANS_EVENT", "clause".to_owned()),
                ("CONSTANS_ADDRESS", clause.address.to_string()),
                ("CONSTANS_OUTCOME", word(&clause.outcome)),
                ("CONSTANS_CAUSE", clause.cause.as_ref().map(word).unwrap_or_default()),
                (
                    "CONSTANS_ATTIC",
                    clause.kept.iter().map(|kept| kept.attic.to_string()).collect::<Vec<_>>().join(" "),
                ),
            ]);
            let level = if clause.outcome == Outcome::Failed { Level::Error } else { Level::Warn };
            self.send(level, &clause_words(clause), &fields);
        }
        for clause in &report.clauses {
            let Some(reaction) =
                clause.reaction.as_ref().filter(|reaction| reaction.state == ReactionState::Done)
            else {
                continue;
            };
            let mut fields = of_run.clone();
            fields.extend([
                ("CONSTANS_EVENT", "reaction".to_owned()),
                ("CONSTANS_ADDRESS", clause.address.to_string()),
            ]);
            let causes: Vec<String> = reaction.causes.iter().map(ToString::to_string).collect();
            self.send(
                Level::Warn,
                &harmless(&format!(
                    "{} {}, after {}",
                    reaction.reaction.word(),
                    clause.address,
                    causes.join(", ")
                )),
                &fields,
            );
        }
        let mut fields = of_run;
        fields.extend([
            ("CONSTANS_EVENT", "run".to_owned()),
            ("CONSTANS_STATUS", word(&report.status)),
            ("CONSTANS_STARTED_BY", word(&report.started_by)),
            ("CONSTANS_REASON", report.reason.clone().unwrap_or_default()),
            ("CONSTANS_BY", report.by.clone().unwrap_or_default()),
        ]);
        let level = match report.status {
            Status::Failed => Level::Error,
            Status::DriftFound | Status::Unmet | Status::DriftCorrected => Level::Warn,
            _ => Level::Info,
        };
        self.send(level, &run_words(report), &fields);
    }

    fn send(&self, level: Level, message: &str, fields: &[(&str, String)]) {
        let Some(log) = &self.log else { return };
        let fields: Vec<(&str, &str)> = fields
            .iter()
            .map(|(name, value)| (*name, value.as_str()))
            .filter(|(_, value)| !value.is_empty())
            .collect();
        // If the journal cannot be written, there is no other place to report it.
        let _ = log.journal_send(
            &Record::builder()
                .level(level)
                .args(format_args!("{message}"))
                .key_values(&fields.as_slice())
                .build(),
        );
    }
}

/// Returns a run in one line.
pub fn run_words(report: &RunReport) -> String {
    let by = report.by.as_ref().map(|by| format!(" ({})", harmless(by))).unwrap_or_default();
    let part = report.part.map(|part| format!("; {}", part.words())).unwrap_or_default();
    format!(
        "{}: {}, started by {}{by}{part}",
        report.status.words(),
        counts_words(&report.counts),
        report.started_by.words()
    )
}

fn clause_words(clause: &ClauseResult) -> String {
    let cause = clause
        .cause
        .as_ref()
        .map(|cause| format!(" ({})", word(cause).replace('_', " ")))
        .unwrap_or_default();
    let properties: Vec<&str> =
        clause.differences.iter().map(|difference| difference.property.as_str()).collect();
    let differs = if properties.is_empty() { String::new() } else { format!(": {}", properties.join(", ")) };
    let kept: Vec<String> = clause.kept.iter().map(|kept| kept.attic.to_string()).collect();
    let kept =
        if kept.is_empty() { String::new() } else { format!("; old contents: attic {}", kept.join(" ")) };
    let failed = clause.failure.as_ref().map(|failure| format!("; {}", failure.message)).unwrap_or_default();
    harmless(&format!(
        "{} {}{cause}{differs}{kept}{failed}",
        clause.address,
        word(&clause.outcome).replace('_', " ")
    ))
}

/// Returns a value as the wire writes it.
fn word(value: &impl Serialize) -> String {
    serde_json::to_value(value).ok().and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default()
}
