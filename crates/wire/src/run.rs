//! Runs as operators see them.

use crate::report::{DidNotEnd, LeftOut, RunReport};
use constans_core::episode::ClosedAs;
use constans_core::kit::Severity;
use constans_core::run::{
    ClauseResult, ClauseWords, Counts, Decision, DriftWindow, Mode, Outcome, PackageChange, RelatedRecords,
    Status,
};
use constans_core::run_comparison::ChangedResult;
use constans_core::sentence::Sentence;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// One run, or a span of runs that found the same.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunSummary {
    /// The run, or the first of the span, which is kept whole; none if all was in line.
    pub run: Option<Uuid>,
    /// When it began, by the clock of the node; of a span, when the first run began.
    pub began: Timestamp,
    /// When the last run of the span began.
    pub last: Timestamp,
    /// How many runs this is.
    pub count: i64,
    /// Whether anything could change.
    pub mode: Mode,
    /// The status.
    pub status: Status,
    /// Number of clauses by outcome; none if all was in line.
    pub counts: Option<Counts>,
    /// The digest of the state.
    pub state: String,
    /// When the server learned it.
    pub learned: Timestamp,
    /// Whether it was a partial run.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub partial: bool,
    /// The progress of an interrupted run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub did_not_end: Option<DidNotEnd>,
    /// How many runs right before it, or between those of the span, no report came of: the agent dropped it, or the server refused it.
    pub missing: u64,
}

/// One of two runs that are compared.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ComparedRun {
    /// The run; none if all was in line, of which nothing more is kept.
    pub run: Option<Uuid>,
    /// When it began, by the clock of the node.
    pub began: Timestamp,
    /// The status.
    pub status: Status,
    /// The releases that it was about; none if they are not known.
    pub releases: Vec<String>,
}

/// What is otherwise in a run than in one before it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunComparison {
    /// The run before; none if none is kept.
    pub before: Option<ComparedRun>,
    /// The run after.
    pub after: ComparedRun,
    /// The clauses that are otherwise, the most severe first.
    pub changed: Vec<ChangedResult>,
    /// Whether one of the two left clauses out, by choice or for their number: then clauses that are new or gone are not told.
    pub is_of_a_part: bool,
}

/// An episode of drift of a clause on a node, from when it was last known to be in line to when it was in line again.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Episode {
    /// The clause.
    pub address: String,
    /// Its severity.
    pub severity: Severity,
    /// The last moment that the clause was known to be in line: the drift happened after it.
    pub in_line_until: Timestamp,
    /// When it was detected: the drift happened before it.
    pub detected_at: Timestamp,
    /// The run that detected it.
    pub detected_run: Uuid,
    /// When it was in line again, or no longer desired; none while the episode is open.
    pub closed_at: Option<Timestamp>,
    /// How it ended.
    pub closed_as: Option<ClosedAs>,
    /// The run that ended it.
    pub closed_run: Option<Uuid>,
    /// The number of the drill in which it was broken on purpose: 7 is called D7.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drill: Option<i64>,
    /// What the node had on record of the time in which the drift happened, if it was gathered and is still kept.
    pub related: Option<ShownRelated>,
}

/// Related records with their words.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShownRelated {
    /// The records.
    #[serde(flatten)]
    pub related: RelatedRecords,
    /// The same in words.
    pub words: Vec<Sentence>,
}

impl Episode {
    /// Returns when the drift happened.
    pub fn window(&self) -> DriftWindow {
        DriftWindow { from: self.in_line_until, to: self.detected_at }
    }
}

/// The result of sending a report.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Received {
    /// It was stored.
    Stored,
    /// It was already stored: a report sent twice is stored once.
    Known,
}

/// A run with its words.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShownRun {
    /// The report of the node.
    #[serde(flatten)]
    pub report: RunReport,
    /// The same in words.
    pub words: RunWords,
    /// Later runs that found the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repeats: Option<Repeats>,
}

/// Runs that found what the run before them found, and changed nothing.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Repeats {
    /// How many.
    pub count: i64,
    /// When the last of them began, by the clock of the node.
    pub last: Timestamp,
    /// When the server learned it.
    pub learned: Timestamp,
}

/// A run in words: the client, the agent and the console show the same.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunWords {
    /// The number of clauses by outcome, the most severe first, as `2 failed, 39 in line`.
    pub totals: String,
    /// How far an interrupted run came.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub did_not_end: Option<String>,
    /// What a partial run left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// What was left out of the report.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub left_out: Option<String>,
    /// The package changes of the preview, one sentence each.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub packages: Vec<String>,
    /// Each clause of the report, in the same order.
    pub clauses: Vec<ClauseWords>,
}

impl RunWords {
    /// Returns a report in words.
    pub fn of(report: &RunReport) -> Self {
        let preview = report.package_preview.iter().flat_map(|preview| &preview.packages);
        Self {
            totals: totals(report),
            did_not_end: report.did_not_end.as_ref().map(DidNotEnd::words),
            part: match report.part {
                Some(part) => Some(part.words()),
                None => report.partial.then(|| "partial".to_owned()),
            },
            left_out: report.left_out.as_ref().map(LeftOut::words),
            packages: preview.map(PackageChange::words).collect(),
            clauses: report.clauses.iter().map(ClauseResult::words).collect(),
        }
    }
}

fn totals(report: &RunReport) -> String {
    let would = report.clauses.iter().filter(|result| result.would == Some(Decision::Correct)).count() as u64;
    let counts = &report.counts;
    let all = [
        (counts.failed, Outcome::Failed.words()),
        (counts.blocked, Outcome::Blocked.words()),
        (would, "would be corrected"),
        (counts.out_of_line.saturating_sub(would), "not corrected"),
        (counts.corrected, Outcome::Corrected.words()),
        (counts.in_line, Outcome::InLine.words()),
        (counts.unsupported, Outcome::Unsupported.words()),
        (counts.idle, Outcome::Idle.words()),
    ];
    let parts: Vec<String> = all
        .into_iter()
        .filter(|(number, _)| *number > 0)
        .map(|(number, words)| format!("{number} {words}"))
        .collect();
    parts.join(", ")
}

/// What was reported in an hour.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunHour {
    /// When the hour began.
    pub from: Timestamp,
    /// Number of runs.
    pub runs: u64,
    /// Number of clauses that they corrected.
    pub corrections: u64,
    /// Number of clauses that failed.
    pub failures: u64,
}
