//! The requests of a run to the agent, their results, and the result of the run.

use super::cause::DriftWindow;
use super::decide::RunSettings;
use super::memory::{Memories, Memory};
use super::reaction::DueReaction;
use super::related::RelatedRecords;
use super::result::{ClauseResult, Failure, NativeStep, PackageChange, StoredCopy};
use super::status::{Counts, Status};
use crate::address::ClauseAddress;
use crate::compare::{Difference, Found, TextDiff, TextDiffRefusal};
use crate::digest::DigestKey;
use crate::kind::{Claim, Reaction};
use crate::state::EffectiveState;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// All that a run begins with, and ends with too.
pub struct RunInput<'s> {
    /// The state; a run ends with the state that it began with.
    pub state: &'s EffectiveState,
    /// What holds for all clauses.
    pub settings: RunSettings,
    /// What is remembered.
    pub memories: Memories,
    /// The reactions that are due from earlier runs.
    pub due: Vec<DueReaction>,
    /// Which clauses are touched.
    pub part: Selection,
    /// Whether a person asked for this run.
    pub on_demand: bool,
    /// The key of found digests; it never leaves the node.
    pub key: &'s DigestKey,
}

/// Which clauses a run touches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Selection {
    /// All of them.
    Whole,
    /// These only; nothing is pruned.
    Chosen(BTreeSet<ClauseAddress>),
}

/// What the agent does next. Only the last of a list asks for an answer.
#[derive(Debug, Clone, PartialEq)]
pub enum Action {
    /// Inspect the clause at this place of the state; answer [`RunEvent::Inspected`].
    Inspect(usize),
    /// Find out what changing the packages of these clauses together would take along, and change nothing; answer
    /// [`RunEvent::PackagePreview`].
    Preview(Vec<usize>),
    /// Gather what the system has on record of the time in which the clause at this place drifted; answer [`RunEvent::Gathered`].
    GatherRelated(usize, DriftWindow),
    /// Keep what is there, since it stays for a while and someone may change it again; answer [`RunEvent::Kept`].
    Keep(usize),
    /// Correct these differences; answer [`RunEvent::Corrected`].
    Correct(usize, Vec<Difference>),
    /// Carry out the reaction; answer [`RunEvent::Reacted`].
    React(usize, Reaction),
    /// Keep the due reactions durably before anything else is done. If that fails, what follows is not done and
    /// answered as failed.
    KeepDue(Vec<DueReaction>),
    /// Keep what is remembered of an address.
    Remember(ClauseAddress, Memory),
    /// The run is over.
    Finish,
}

/// The result of a request.
#[derive(Debug, Clone)]
pub enum RunEvent {
    /// The result of an inspection, and how long it took in microseconds.
    Inspected(Inspection, u64),
    /// The result of a look ahead.
    PackagePreview(PackagePreview, u64),
    /// What the system had on record, and how long it took.
    Gathered(RelatedRecords, u64),
    /// What was kept, or why it could not be.
    Kept(Result<Vec<StoredCopy>, Failure>, u64),
    /// The result of a correction.
    Corrected(Correction, u64),
    /// The result of a reaction.
    Reacted(Result<Vec<NativeStep>, Failure>, u64),
}

/// The result of an inspection.
#[derive(Debug, Clone)]
pub enum Inspection {
    /// The thing was seen, or seen not to be there.
    Seen(Box<Seen>),
    /// It could not be seen.
    Failed(Failure),
    /// This node has no means to see it, and why.
    Unsupported(String),
}

/// What was seen.
#[derive(Debug, Clone)]
pub struct Seen {
    /// What was found.
    pub found: Found,
    /// The size of a file's wanted contents.
    pub content_bytes: Option<u64>,
    /// How a file's text differs, if it does.
    pub text_diff: Option<Result<TextDiff, TextDiffRefusal>>,
    /// How it was inspected.
    pub native: Vec<NativeStep>,
    /// What is a stand-in here, in words.
    pub stand_in: Option<String>,
    /// When it was read, if that was before this run: the metadata of its files is the same since.
    pub read_at: Option<Timestamp>,
    /// Since when a service runs, if it does and that is known.
    pub running_since: Option<Timestamp>,
}

/// The result of a correction.
#[derive(Debug, Clone, Default)]
pub struct Correction {
    /// Why it failed, if it did; some of it may have been done.
    pub failure: Option<Failure>,
    /// How it was done.
    pub native: Vec<NativeStep>,
    /// Packages that came, went or changed version.
    pub packages: Vec<PackageChange>,
    /// The old contents that went into the attic.
    pub kept: Vec<StoredCopy>,
    /// The paths of those packages, so that clauses about it are inspected once more.
    pub touched: BTreeSet<Claim>,
}

/// What changing packages would take along, by the package manager's own reckoning.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PackagePreview {
    /// All that would come, go or change version, those that clauses name among them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub packages: Vec<PackageChange>,
    /// Why packages are left out of the reckoning, each with the command that found it out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub not_known: Vec<Failure>,
    /// Why it could not be found out, if it could not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<Failure>,
    /// How it was found out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub native: Vec<NativeStep>,
}

/// An event that does not answer what was asked; the run stays as it is.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the run did not ask for this")]
pub struct OutOfOrder;

/// The result of a run.
#[derive(Debug, Clone)]
pub struct Finished {
    /// Its status.
    pub status: Status,
    /// Number of clauses by outcome.
    pub counts: Counts,
    /// The clauses that it touched, in order.
    pub results: Vec<ClauseResult>,
    /// What is remembered now.
    pub memories: Memories,
    /// The reactions that are still due.
    pub due: Vec<DueReaction>,
    /// Of which part it was, if it did not touch all.
    pub part: Option<PartOf>,
    /// The package changes that correcting all package clauses would cause; of observing runs.
    pub package_preview: Option<PackagePreview>,
}

/// What a run that touched a chosen part left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PartOf {
    /// This many clauses were not touched.
    pub left_out: u64,
    /// This many of them are known to be out of line.
    pub known_out_of_line: u64,
}

impl PartOf {
    /// Returns it in words.
    pub fn words(self) -> String {
        let others = if self.left_out == 1 {
            "1 clause was left out".to_owned()
        } else {
            format!("{} clauses were left out", self.left_out)
        };
        let out = if self.known_out_of_line > 0 {
            format!(", {} of them known to be out of line", self.known_out_of_line)
        } else {
            String::new()
        };
        format!("partial: {others}{out}")
    }
}
