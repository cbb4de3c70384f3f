//! The report of a run.

pub use crate::bounded::LeftOut;
use constans_core::address::ClauseAddress;
use constans_core::digest::Digest;
use constans_core::run::{ClauseResult, Counts, DueReaction, Mode, PackagePreview, PartOf, RestartPending, Status};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// The version of the report's form.
pub const FORM: u32 = 1;

/// The report of one run. Receiving it twice is the same as receiving it once: it is known by node and run id.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunReport {
    /// The version of this form.
    pub form: u32,
    /// The run.
    pub run: Uuid,
    /// The name of the machine as it calls itself.
    pub machine: String,
    /// The root folder that was acted on, if it is not `/`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub root: Option<String>,
    /// The version of the agent.
    pub agent: String,
    /// What is wanted.
    pub wanted: Wanted,
    /// Whether anything could be changed.
    pub mode: Mode,
    /// What started the run.
    pub started_by: StartedBy,
    /// Why a person wanted it although the node only observes, or now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// Whether a person opened grace and change window for it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub now: bool,
    /// Whether it touched a chosen part only.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub partial: bool,
    /// What it left out, if it touched a chosen part only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part: Option<PartOf>,
    /// Who ran it by hand on the node: the name that the person signed in with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// When it began, by the node's clock.
    pub began: Timestamp,
    /// How long it took in microseconds, by a monotonic clock.
    pub took_us: u64,
    /// Orders the runs of one node, together with the sequence: not the clock does.
    pub memory_epoch: Uuid,
    /// Rises with every run under one memory epoch.
    pub sequence: u64,
    /// The status.
    pub status: Status,
    /// How many clauses came out how.
    pub counts: Counts,
    /// The clauses that it touched.
    pub clauses: Vec<ClauseResult>,
    /// The reactions that are still due.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub due: Vec<DueReaction>,
    /// What changing the packages that are out of line would take along; of observing runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package_preview: Option<PackagePreview>,
    /// That the operating system needs a restart of the node, as it was after the run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restart_pending: Option<RestartPending>,
    /// How far it came, if it did not come to its end: the agent was killed, or the machine went off. It then says nothing of
    /// clauses, and its status is that it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub did_not_end: Option<DidNotEnd>,
    /// What was left out of it, if it would be too large.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub left_out: Option<LeftOut>,
}

/// How far a run came that did not come to its end.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DidNotEnd {
    /// How many clauses it had begun.
    pub reached: u64,
    /// How many there were.
    pub of: u64,
    /// What was being done to the last of them, as `correcting`.
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
        format!("did not end: {} of {} clauses begun{at}", self.reached, self.of)
    }
}

/// What is wanted of the node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Wanted {
    /// The digest of the effective state.
    pub digest: Digest,
    /// Its generation; none without a server.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub generation: Option<String>,
    /// The releases it is made of, as `kit@1.0.0`, with the baselines of each.
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
    /// The interval was over.
    Interval,
    /// A new effective state came.
    NewState,
    /// A sweep.
    Sweep,
    /// Somebody on the node.
    OperatorOnNode,
    /// The node was started.
    Boot,
    /// The agent was started again.
    AfterRestart,
    /// A reaction was due.
    DueReaction,
    /// An announced hour came: the end of a grace or a hold, or the opening of the change window.
    AnnouncedHour,
}

impl StartedBy {
    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Interval => "the interval",
            Self::NewState => "a new state",
            Self::Sweep => "a sweep",
            Self::OperatorOnNode => "somebody on the node",
            Self::Boot => "the node's start",
            Self::AfterRestart => "the agent's start",
            Self::DueReaction => "a due reaction",
            Self::AnnouncedHour => "an announced hour",
        }
    }
}
