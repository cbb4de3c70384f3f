//! What a run says of one clause: three questions kept apart, and all that explains the answers.

use super::cause::{Cause, DriftWindow, Newness};
use super::related::RelatedRecords;
use crate::address::ClauseAddress;
use crate::compare::{Difference, TextDiff, TextDiffRefusal};
use crate::digest::Digest;
use crate::kind::Reaction;
use crate::kit::Severity;
use crate::state::{Origin, SwitchFrom};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// What was seen of a clause.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// It is as wanted.
    Alike,
    /// It is not.
    Different,
    /// It could not be inspected.
    Unseen,
}

/// What was due.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case", tag = "due")]
pub enum Decision {
    /// Nothing.
    Nothing,
    /// To correct it.
    Correct,
    /// To leave it as it is.
    Leave {
        /// Why.
        why: Leave,
    },
    /// Nothing could be done, since something that it needs is not in line.
    Blocked {
        /// By what.
        by: Blocker,
    },
}

/// Why a clause is left as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case", tag = "reason")]
pub enum Leave {
    /// A freeze is in force.
    Freeze {
        /// Its number: 7 is called F7.
        no: i64,
        /// Until then.
        until: Timestamp,
        /// Why it was set.
        because: String,
    },
    /// The run only observes.
    Observing,
    /// `on_drift` is `report`.
    OnDrift {
        /// Who set it.
        from: SwitchFrom,
    },
    /// `on_rollout` is `wait`.
    OnRollout {
        /// Who set it.
        from: SwitchFrom,
    },
    /// Drift is left for a while so that it can be looked into.
    Grace {
        /// Until then.
        until: Timestamp,
    },
    /// The change window is closed.
    Window {
        /// When it opens.
        opens: Timestamp,
        /// Whether it is that of the clause's assignment, and the node's own is open.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        is_of_assignment: bool,
    },
    /// Bringing it in cut the node's way to its server, and it was put back.
    CutTheWay {
        /// When it was put back.
        at: Timestamp,
    },
    /// The clause says `only_alone`, and other packages would go or change version with it.
    NotAlone {
        /// Those packages.
        packages: Vec<PackageChange>,
    },
    /// It is otherwise now than an observing run found it, or was in line then, and only what that found is to be corrected.
    ChangedSinceObserved,
    /// Only a person can correct it.
    OnlyAPerson,
}

/// What keeps a clause from being corrected.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Blocker {
    /// What it needs itself.
    pub need: ClauseAddress,
    /// The first cause of the chain.
    pub first: ClauseAddress,
    /// The outcome of the first cause.
    pub outcome: Outcome,
}

/// The outcome.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// It was as wanted.
    InLine,
    /// It is as wanted now.
    Corrected,
    /// It is not as wanted.
    OutOfLine,
    /// Something that it needs is not in line.
    Blocked,
    /// Inspecting, correcting, verifying or reacting failed.
    Failed,
    /// It cannot be seen here.
    Unsupported,
    /// There is nothing to be said.
    Idle,
}

/// What failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
#[expect(missing_docs, reason = "the words say it")]
pub enum FailureAt {
    Inspect,
    Correct,
    Verify,
    React,
}

/// A failure with all that helps to end it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Failure {
    /// What failed.
    pub at: FailureAt,
    /// What happened, in one sentence.
    pub message: String,
    /// The native command, if there was one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<NativeStep>,
    /// The likely cause and what to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
}

/// One native command or system call, as it was done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NativeStep {
    /// The command line, or the system call in words.
    pub what: String,
    /// Its exit status; none for system calls.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exit: Option<i32>,
    /// Its last output, at most 8 KiB.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub output: String,
}

/// A package that came, went or changed version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PackageChange {
    /// Its name.
    pub package: String,
    /// The version before; none if it came.
    pub before: Option<String>,
    /// The version after; none if it went.
    pub after: Option<String>,
}

/// Old contents that were replaced or removed, and where they are now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StoredCopy {
    /// Their number in the node's attic.
    pub attic: u64,
    /// Where they stood.
    pub path: String,
    /// Their digest.
    pub digest: Digest,
    /// Their size.
    pub bytes: u64,
}

/// A property that cannot exist here and was left out of the comparison.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NotExamined {
    /// The property.
    pub property: String,
    /// Why.
    pub why: String,
}

/// A change of which nobody knows whether a service has taken it up: nothing related the two when it was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MissedReaction {
    /// What was changed.
    pub cause: ClauseAddress,
    /// When a run changed it.
    pub changed_at: Timestamp,
    /// Since when the service runs as it does now.
    pub running_since: Timestamp,
}

/// The result of a reaction.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReactionResult {
    /// What was or is to be done.
    pub reaction: Reaction,
    /// What set it off.
    pub causes: Vec<ClauseAddress>,
    /// When it was set off.
    pub since: Timestamp,
    /// The result of it.
    pub state: ReactionState,
}

/// The result of a reaction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ReactionState {
    /// It was done.
    Done,
    /// It was no longer needed: started in this run, wanted stopped, or gone.
    NotNeeded,
    /// It would be done by an enforcing run.
    Would,
    /// It stays due.
    Due,
    /// It failed, still due.
    Failed,
}

/// What a run says of one clause.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClauseResult {
    /// Its address.
    pub address: ClauseAddress,
    /// Its severity.
    pub severity: Severity,
    /// The release and baseline it comes from.
    pub origins: Vec<Origin>,
    /// The controls that it satisfies.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub satisfies: BTreeSet<String>,
    /// Words to select it by.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub topics: BTreeSet<String>,
    /// The wanted digest.
    pub wanted: Digest,
    /// The found digest, if it was seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub found: Option<Digest>,
    /// What was seen; none for what is idle.
    pub verdict: Option<Verdict>,
    /// Why it was different.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cause: Option<Cause>,
    /// Whether the node changed as well.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub also_drifted: bool,
    /// What is new about a rollout.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub newness: Option<Newness>,
    /// The number of the drill in which it was broken on purpose: 7 is called D7.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drill: Option<i64>,
    /// When the drift happened.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drift_window: Option<DriftWindow>,
    /// What the system had on record of the time in which the drift happened; of the run that found it first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub related: Option<Box<RelatedRecords>>,
    /// Whether the first run that saw it found it already right.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub already_there: bool,
    /// The clause of this very run by whose correction it came to be as it was found: a package that was installed with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed_by: Option<ClauseAddress>,
    /// What was due.
    pub decision: Decision,
    /// What an enforcing run here and now would have done; of observing runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub would: Option<Decision>,
    /// The outcome.
    pub outcome: Outcome,
    /// Each property that was not as wanted, as it was before any correction.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub differences: Vec<Difference>,
    /// What still differs after a correction that did not help.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub still_different: Vec<Difference>,
    /// How a file's text differs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text_diff: Option<TextDiff>,
    /// Why its text diff is not shown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text_diff_refused: Option<TextDiffRefusal>,
    /// When it was read, if that was before this run: the metadata of its files is the same since.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub read_at: Option<Timestamp>,
    /// Properties that were left out of the comparison.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub not_examined: Vec<NotExamined>,
    /// Packages that came, went or changed version.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub packages: Vec<PackageChange>,
    /// The old contents that went into the attic.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub kept: Vec<StoredCopy>,
    /// Why it could not be seen, for what is unsupported.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unsupported: Option<String>,
    /// What failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<Failure>,
    /// Its reaction, if one is due, was done, or would be.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reaction: Option<ReactionResult>,
    /// What was done natively.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub native: Vec<NativeStep>,
    /// What is a stand-in here, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stand_in: Option<String>,
    /// Changes of what it reacts to that it is not known to have taken up: they were made while nothing related the two.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub missed: Vec<MissedReaction>,
    /// Needs that conditions exclude on this node.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dropped_needs: Vec<ClauseAddress>,
    /// How long it took, in microseconds, by a monotonic clock.
    pub took_us: u64,
}
