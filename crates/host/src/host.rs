//! The operating system as a run needs it: one trait, with a real and a simulated implementation.

use crate::contents::{Attic, Contents};
use crate::error::{CannotDescribe, HostError};
use crate::stalls::Stalls;
use constans_core::compare::Difference;
use constans_core::digest::DigestKey;
use constans_core::filter::About;
use constans_core::kind::{Kind, Reaction};
use constans_core::kit::WrittenClause;
use constans_core::run::{
    Correction, DriftWindow, Failure, Inspection, NativeStep, PackagePreview, RelatedRecords, RestartPending,
    StoredCopy,
};
use constans_core::state::{Clause, EffectiveState};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Which machine and root are acted on.
#[derive(Debug, Clone)]
pub struct ActedOn {
    /// The machine's name.
    pub machine: String,
    /// The root folder.
    pub root: PathBuf,
}

impl ActedOn {
    /// Returns whether a folder is acted on instead of the machine itself.
    pub fn is_private_root(&self) -> bool {
        self.root != Path::new("/")
    }
}

/// An operating system under an agent: a machine, a private root on one, or a simulated one.
pub trait Host: Send {
    /// Returns which machine and root are acted on.
    fn acted_on(&self) -> &ActedOn;

    /// Returns the stable fields.
    ///
    /// # Errors
    ///
    /// Returns why they could not be found out.
    fn about(&self) -> Result<About, HostError>;

    /// Returns the name of its machine; none if it has no machine-id that can be read.
    fn machine_name(&self) -> Option<String>;

    /// Returns whether the operating system needs a restart of the node.
    ///
    /// # Errors
    ///
    /// Returns why that could not be read.
    fn restart_pending(&self) -> Result<Option<RestartPending>, HostError>;

    /// Takes in what concerns more than one clause of a state, before a run: the paths that Constans left behind, which are
    /// never removed as unknown; the order of packet rules; how old the index of packages may be.
    fn prepare(&mut self, state: &EffectiveState, left_behind: BTreeSet<String>);

    /// Receives a message during the run when something makes no progress and is still waited for.
    fn tell_stalls(&mut self, _stalls: Stalls) {}

    /// Forgets what was read before: the next run reads all of it anew.
    fn forget_readings(&mut self) {}

    /// A run begins that touches these clauses.
    fn begin_run(&mut self, touched: &[&Clause], contents: &Arc<dyn Contents>);

    /// The run has ended.
    fn end_run(&mut self);

    /// Removes what a correction that was cut off left unfinished.
    fn tidy(&mut self);

    /// Inspects a clause's thing; nothing is changed.
    fn inspect(&mut self, clause: &Clause, contents: &dyn Contents, key: &DigestKey) -> Inspection;

    /// Tells a thing, or all of a kind, as the clauses that would keep them as they are; nothing is changed.
    ///
    /// # Errors
    ///
    /// Returns why they could not be described.
    fn describe_things(
        &mut self,
        _kind: &Kind,
        _name: Option<&str>,
    ) -> Result<Vec<WrittenClause>, CannotDescribe> {
        Err(CannotDescribe::Unsupported("it is simulated".to_owned()))
    }

    /// Finds out what changing the packages of these clauses would take along; nothing is changed, and nothing is fetched.
    fn preview(&mut self, clauses: &[&Clause]) -> PackagePreview;

    /// Gathers what the system has on record of the time in which a clause drifted; nothing is changed.
    fn related(&mut self, clause: &Clause, window: DriftWindow) -> RelatedRecords;

    /// Puts what is there into the attic, since it may be replaced by someone else before a run does.
    ///
    /// # Errors
    ///
    /// Returns why it could not be kept.
    fn keep(&mut self, clause: &Clause, attic: &mut dyn Attic) -> Result<Vec<StoredCopy>, Failure>;

    /// Corrects what differs.
    fn correct(
        &mut self,
        clause: &Clause,
        differences: &[Difference],
        contents: &dyn Contents,
        attic: &mut dyn Attic,
    ) -> Correction;

    /// Carries out a clause's reaction.
    ///
    /// # Errors
    ///
    /// Returns what failed, with the command and its output.
    fn react(&mut self, clause: &Clause, reaction: Reaction) -> Result<Vec<NativeStep>, Failure>;
}
