//! One pass over an effective state: verdict, cause, decision, outcome, reactions, and the status that follows.
//!
//! [`Run`] requests inspections and corrections one at a time and receives their results; the agent carries them out.

mod action;
mod cause;
mod decide;
mod drift;
mod drill;
mod gate;
mod machine;
mod memory;
mod opening;
mod part;
mod preview;
mod react;
mod reaction;
mod related;
mod repeat;
mod restart;
mod result;
mod status;
#[cfg(test)]
mod tests;
mod upgrade;
mod way;
mod words;

pub use action::{
    Action, Correction, Finished, Inspection, OutOfOrder, PackagePreview, PartOf, RunEvent, RunInput, Seen,
    Selection,
};
pub use cause::{Cause, CauseFound, DriftWindow, Newness, cause_of};
pub use decide::{
    DecisionInput, Freeze, Mode, Observed, ObservedClause, RevertedChange, RunSettings, decide,
};
pub use drill::{Broken, DRILL_LABEL, DRILLED_KINDS, Drilled, broken, kept_from_drill};
pub use machine::Run;
pub use memory::{LastInLine, Memories, Memory, OpenDrift};
pub use opening::{next_opening, next_opening_of_reactions};
pub use part::{NoSuchPart, Part};
pub use reaction::{DueCause, DueReaction};
pub use related::{MAX_RELATED, NotSearched, RelatedKind, RelatedRecord, RelatedRecords};
pub use repeat::{Found, RunFindings, found};
pub use restart::{RestartDue, RestartPending, RestartPolicy, restart_due};
pub use result::{
    Blocker, ClauseResult, Decision, Failure, FailureAt, Leave, MissedReaction, NativeStep, NotExamined,
    Outcome, PackageChange, ReactionResult, ReactionState, StoredCopy, Verdict,
};
pub(crate) use status::remaining;
pub use status::{Counts, Status, status_of};
pub use upgrade::{AgentUpgrade, UpgradeDue, UpgradeState, upgrade_due};
pub use way::may_cut_the_way;
pub use words::ClauseWords;
