//! The report of a run.

use crate::sweep::SweptRun;
use constans_core::address::ClauseAddress;
use constans_core::digest::Digest;
use constans_core::run::{
    ClauseResult, Counts, DueReaction, Mode, PackagePreview, PartOf, RestartPending, Status,
};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// The version of the format.
pub const FORM: u32 = 1;

/// The report of one run. Receiving it twice is the same as receiving it once: it is known by node and run id.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunReport {
    /// The version of this format.
    pub form: u32,
    /// The run.
    pub run: Uuid,
    /// The host name of the machine.
    pub machine: String,
    /// The root folder, if it is not `/`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub root: Option<String>,
    /// The version of the agent.
    pub agent: String,
    /// The desired state.
    pub wanted: Wanted,
    /// Whether anything could be changed.
    pub mode: Mode,
    /// What started the run.
    pub started_by: StartedBy,
    /// The reason that a person gave for overriding mode, grace or change window.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// The sweep that it was part of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sweep: Option<SweptRun>,
    /// Whether a person overrode grace and change window.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub now: bool,
    /// Whether it was a partial run.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub partial: bool,
    /// What a partial run left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part: Option<PartOf>,
    /// The account of the person who started it on the node.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// When it began, by the clock of the node.
    pub began: Timestamp,
    /// How long it took in microseconds, by a monotonic clock.
    pub took_us: u64,
    /// Orders the runs of one node, together with the sequence: not the clock does.
    pub memory_epoch: Uuid,
    /// Rises with every run under one memory epoch.
    pub sequence: u64,
    /// The status.
    pub status: Status,
    /// Number of clauses by outcome.
    pub counts: Counts,
    /// Number of clauses that it found as they were read before: the metadata of their files is the same since.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub known_by_metadata: u64,
    /// Its clauses.
    pub clauses: Vec<ClauseResult>,
    /// The reactions that are still due.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub due: Vec<DueReaction>,
    /// The package changes that correcting all package clauses would cause; of observing runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package_preview: Option<PackagePreview>,
    /// The pending restart of the node after the run, if any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restart_pending: Option<RestartPending>,
    /// How far it came, if it did not end: the agent was killed, or the machine went off. It then reports nothing of
    /// clauses, and its status is that it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub did_not_end: Option<DidNotEnd>,
    /// What was left out to stay within the limits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub left_out: Option<LeftOut>,
}

/// The progress of an interrupted run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DidNotEnd {
    /// Number of clauses that it had started.
    pub reached: u64,
    /// How many there were.
    pub of: u64,
    /// The activity on the last of them, for example `correcting`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub doing: Option<String>,
    /// That clause.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<ClauseAddress>,
}

impl DidNotEnd {
    /// Returns it in words.
    pub fn words(&self) -> String {
        let at = match (&self.doing, &self.address) {
            (Some(doing), Some(address)) => format!(", {doing} {address}"),
            _ => String::new(),
        };
        format!("interrupted after {} of {} clauses{at}", self.reached, self.of)
    }
}

/// The desired state of the node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Wanted {
    /// The digest of the effective state.
    pub digest: Digest,
    /// Its generation; none without a server.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub generation: Option<String>,
    /// Its releases as `kit@1.0.0`, with the baselines of each.
    pub releases: Vec<Release>,
}

/// A release that clauses come from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Release {
    /// `kit@version`.
    pub release: String,
    /// Its baselines.
    pub baselines: Vec<String>,
}

/// What started a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum StartedBy {
    /// The interval.
    Interval,
    /// A new desired state.
    NewState,
    /// A sweep.
    Sweep,
    /// A person on the node.
    OperatorOnNode,
    /// The machine started.
    Boot,
    /// The agent started.
    AfterRestart,
    /// A drill broke something, and is to be noticed at once.
    Drill,
    /// A reaction was due.
    DueReaction,
    /// An announced hour: the end of a grace or a freeze, or the opening of the change window.
    AnnouncedHour,
}

impl StartedBy {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Interval,
        Self::NewState,
        Self::Sweep,
        Self::OperatorOnNode,
        Self::Boot,
        Self::AfterRestart,
        Self::Drill,
        Self::DueReaction,
        Self::AnnouncedHour,
    ];

    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Interval => "the interval",
            Self::NewState => "a new desired state",
            Self::Sweep => "a sweep",
            Self::OperatorOnNode => "a person on the node",
            Self::Boot => "the start of the node",
            Self::AfterRestart => "the start of the agent",
            Self::Drill => "a drill",
            Self::DueReaction => "a due reaction",
            Self::AnnouncedHour => "an announced hour",
        }
    }
}

/// What was left out of a report to stay within the limits.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LeftOut {
    /// Truncated texts and values; each says so at its end.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub cut: u64,
    /// Entries of clauses: differences, native steps, packages.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub entries: u64,
    /// Clauses, those in line first.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub clauses: u64,
    /// Whether all details were left out, because the node exceeded its daily limit.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub details: bool,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
fn is_zero(count: &u64) -> bool {
    *count == 0
}

impl LeftOut {
    /// Returns it in words.
    pub fn words(&self) -> String {
        let mut parts = Vec::new();
        let mut part = |count: u64, one: &str, many: &str| {
            if count > 0 {
                parts.push(format!("{count} {}", if count == 1 { one } else { many }));
            }
        };
        part(self.clauses, "clause", "clauses");
        part(
            self.entries,
            "difference, step or package of a clause",
            "differences, steps or packages of clauses",
        );
        part(self.cut, "text that was cut", "texts that were cut");
        if self.details {
            parts.push("all details, since the node sent as many today as it may".to_owned());
        }
        format!("left out of this report: {}", parts.join(", "))
    }
}
