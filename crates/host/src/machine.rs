//! One machine, or one private root folder on it, as a run sees it.

use crate::accounts::{Accounts, Names};
use crate::contents::{Attic, Contents};
use crate::error::HostError;
use crate::files::{Entry, Files};
use crate::host::ActedOn;
use crate::packages::{Apt, DPKG_STATUS, PackageManager, Packages, Rpm, rpm_database};
use crate::programs::{NotRun, Programs, is_root};
use crate::related::RecordsRead;
use crate::runit::Runit;
use crate::seen_files::SeenFiles;
use crate::services::{Services, StandIn, Systemd};
use constans_core::address::ClauseAddress;
use constans_core::digest::DigestKey;
use constans_core::run::{Correction, NativeStep, Seen};
use constans_core::state::Clause;
use jiff::Timestamp;
use std::cell::OnceCell;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// One machine as a run sees it.
pub struct Machine {
    /// Which one.
    pub acted_on: ActedOn,
    pub(crate) files: Files,
    pub(crate) accounts: Accounts,
    pub(crate) apt: Packages,
    pub(crate) rpm: Packages,
    /// Whether the root has rpm's packages and not dpkg's.
    pub(crate) is_of_rpm: bool,
    pub(crate) services: Box<dyn Services>,
    runit: Runit,
    pub(crate) programs: Programs,
    /// Paths that Constans left behind: they are never removed as unknown.
    pub(crate) left_behind: BTreeSet<String>,
    /// The names of the packet rules in the order of the state: the first one that fits a packet counts.
    pub(crate) packet_rules: Vec<String>,
    /// The agent's own folder for what it only needs while it works.
    pub(crate) scratch: PathBuf,
    /// What is known of the contents of files.
    pub(crate) seen_files: SeenFiles,
    /// What the system has on record, read for the present run.
    pub(crate) records_read: RecordsRead,
    /// When the present run began.
    pub(crate) run_began: Timestamp,
    /// The names of accounts and groups, until something is changed.
    names: OnceCell<Names>,
}

/// Why a clause was not seen.
pub(crate) enum NotSeen {
    Unsupported(String),
    Failed(HostError),
}

impl From<HostError> for NotSeen {
    fn from(error: HostError) -> Self {
        Self::Failed(error)
    }
}

impl From<NotRun> for NotSeen {
    fn from(not_run: NotRun) -> Self {
        match not_run {
            NotRun::Unsupported(why) => Self::Unsupported(why),
            NotRun::Failed(error) => Self::Failed(error),
        }
    }
}

/// What an inspection may use beside the machine.
pub(crate) struct InspectionContext<'a> {
    pub contents: &'a dyn Contents,
    pub key: &'a DigestKey,
}

/// What a correction has done so far.
pub(crate) struct Work<'a> {
    pub contents: &'a dyn Contents,
    pub attic: &'a mut dyn Attic,
    pub done: Correction,
}

impl Work<'_> {
    /// Puts the contents of a file into the attic, piece by piece.
    pub fn keep(
        &mut self,
        files: &Files,
        path: &str,
        entry: &Entry,
        clause: &ClauseAddress,
    ) -> Result<(), HostError> {
        let Some(mut contents) = files.open(path)? else { return Ok(()) };
        let kept = self.attic.keep(path, &mut contents, entry, clause)?;
        self.done.kept.push(kept);
        Ok(())
    }

    /// Notes a system call in words.
    pub fn note(&mut self, what: String) {
        self.done.native.push(NativeStep { what, exit: None, output: String::new() });
    }
}

impl Machine {
    /// Opens the machine, or a private root on it. `scratch` is a folder of the agent's own.
    ///
    /// # Errors
    ///
    /// Returns why the root cannot be acted on.
    pub fn open(root: &Path, scratch: &Path) -> Result<Self, HostError> {
        let shown = root.display().to_string();
        let root = root.canonicalize().map_err(|error| {
            HostError::io("open the root", &shown, &error)
                .remedy("make the folder, or name another one with --root")
        })?;
        if !root.is_dir() {
            return Err(HostError::new(format!("the root {shown} is no directory")));
        }
        let machine = rustix::system::uname().nodename().to_string_lossy().into_owned();
        let acted_on = ActedOn { machine, root: root.clone() };
        let is_private = acted_on.is_private_root();
        let files = Files::below(root).noting(scratch.join("unfinished"));
        let accounts = Accounts::new(files.clone(), is_private);
        Ok(Self {
            is_of_rpm: is_of_rpm(&files)?,
            apt: Packages::new(Apt::new(files.clone(), is_private, scratch), files.clone(), scratch),
            rpm: Packages::new(Rpm::new(files.clone(), is_private, scratch), files.clone(), scratch),
            services: services_of_root(&files, is_private),
            runit: Runit::new(files.clone()),
            programs: Programs::new(files.clone(), accounts.clone(), is_private),
            acted_on,
            files,
            accounts,
            left_behind: BTreeSet::new(),
            packet_rules: Vec::new(),
            scratch: scratch.to_owned(),
            seen_files: SeenFiles::default(),
            records_read: RecordsRead::default(),
            run_began: Timestamp::now(),
            names: OnceCell::new(),
        })
    }

    /// What was looked at and kept for the clauses that follow does not count any more.
    pub(crate) fn about_to_change(&mut self) {
        self.names.take();
        self.files.forget_folder();
    }

    /// Returns the files, for looking.
    pub fn files(&self) -> &Files {
        &self.files
    }

    /// Returns the names of accounts and groups by their numbers.
    pub(crate) fn names(&self) -> Result<&Names, HostError> {
        match self.names.get() {
            Some(names) => Ok(names),
            None => self.accounts.names().map(|names| self.names.get_or_init(|| names)),
        }
    }

    /// Returns why file owners cannot exist here, if they cannot.
    pub(crate) fn no_owners(&self) -> Option<String> {
        (self.acted_on.is_private_root() && !is_root())
            .then(|| "owners cannot be set in a private root without root's rights".to_owned())
    }

    /// Returns the node's packages.
    pub(crate) fn packages(&mut self) -> &mut Packages {
        if self.is_of_rpm { &mut self.rpm } else { &mut self.apt }
    }

    /// Returns the node's package manager.
    pub(crate) fn package_manager(&self) -> &dyn PackageManager {
        if self.is_of_rpm { self.rpm.manager() } else { self.apt.manager() }
    }

    /// Returns the packages that a clause asks for: the node's own, unless `via` names others.
    pub(crate) fn packages_of(&mut self, clause: &Clause) -> &mut Packages {
        match clause.via.as_deref() {
            Some("apt") => &mut self.apt,
            Some("rpm") => &mut self.rpm,
            _ => self.packages(),
        }
    }

    /// Returns the service manager that a clause asks for: the node's own, unless `via` names another.
    pub(crate) fn services_of(&mut self, clause: &Clause) -> Result<&mut dyn Services, HostError> {
        match clause.via.as_deref() {
            Some("runit") if !self.runit.is_there()? => {
                Err(HostError::new("runit is not installed (there is no /etc/service)"))
            }
            Some("runit") => Ok(&mut self.runit),
            _ => Ok(&mut *self.services),
        }
    }
}

/// A node with both has dpkg's: rpm is a tool there.
fn is_of_rpm(files: &Files) -> Result<bool, HostError> {
    Ok(files.look(DPKG_STATUS)?.is_none() && rpm_database(files)?.is_some())
}

/// A thing that was seen, with no more to say of it.
pub(crate) fn seen(found: constans_core::compare::Found) -> Seen {
    Seen {
        found,
        content_bytes: None,
        text_diff: None,
        native: Vec::new(),
        stand_in: None,
        read_at: None,
        running_since: None,
    }
}

/// Returns what runs the services of a root.
fn services_of_root(files: &Files, is_private_root: bool) -> Box<dyn Services> {
    if !is_private_root && Path::new("/run/systemd/system").is_dir() {
        return Box::new(Systemd);
    }
    // Without systemd runit is the service manager, if it is the one that runs: the first process says so.
    if !is_private_root && std::fs::read_to_string("/proc/1/comm").is_ok_and(|name| name.trim() == "runit") {
        return Box::new(Runit::new(files.clone()));
    }
    Box::new(StandIn::new(files.clone()))
}
