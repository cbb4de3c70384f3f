//! One machine, or one private root folder on it, as a run sees it.

use crate::accounts::{Accounts, Names};
use crate::error::HostError;
use crate::files::{Entry, Files};
use crate::host::{Host, Stalls};
use crate::kinds;
use crate::packages::{Apt, DPKG_STATUS, PackageManager, Packages, Rpm, rpm_database};
use crate::programs::{NotRun, Programs, is_root};
use crate::runit::Runit;
use crate::seen_files::{Ahead, SeenFiles};
use crate::services::{self, Services};
use constans_core::address::ClauseAddress;
use constans_core::compare::Difference;
use constans_core::digest::DigestKey;
use constans_core::filter::About;
use constans_core::kind::Reaction;
use constans_core::kit::Gone;
use constans_core::run::{
    Correction, Failure, FailureAt, Inspection, NativeStep, PackagePreview, RestartPending, Seen, StoredCopy,
};
use constans_core::state::{Clause, EffectiveState};
use jiff::Timestamp;
use std::borrow::Cow;
use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

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

/// Something that can be read piece by piece, and how many bytes it has.
pub type Opened<'a> = (Box<dyn io::Read + 'a>, u64);

/// The contents of files that a state refers to.
pub trait Contents: Send + Sync {
    /// Returns the contents with this name.
    fn get(&self, name: &str) -> Option<Cow<'_, [u8]>>;

    /// Opens the contents with this name to be read piece by piece.
    fn open(&self, name: &str) -> Option<Opened<'_>> {
        let bytes = self.get(name)?;
        let size = bytes.len() as u64;
        Some((Box::new(io::Cursor::new(bytes)), size))
    }
}

/// No contents at all.
struct NoContents;

impl Contents for NoContents {
    fn get(&self, _: &str) -> Option<Cow<'_, [u8]>> {
        None
    }
}

/// Where replaced contents are kept.
pub trait Attic {
    /// Keeps what stands at a path before it is replaced or removed. Durable when it returns.
    ///
    /// # Errors
    ///
    /// Returns why it could not be kept; nothing is replaced then.
    fn keep(
        &mut self,
        path: &str,
        contents: &mut dyn io::Read,
        entry: &Entry,
        clause: &ClauseAddress,
    ) -> Result<StoredCopy, HostError>;
}

/// One machine as a run sees it.
pub struct Machine {
    /// Which one.
    pub acted_on: ActedOn,
    pub(crate) files: Files,
    pub(crate) accounts: Accounts,
    apt: Packages,
    rpm: Packages,
    /// Whether the root has rpm's packages and not dpkg's.
    is_of_rpm: bool,
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

/// What is known of files, in the folder for what need not last.
const SEEN_FILES: &str = "seen-files";

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
            services: services::choose(&files, is_private),
            runit: Runit::new(files.clone()),
            programs: Programs::new(files.clone(), accounts.clone(), is_private),
            acted_on,
            files,
            accounts,
            left_behind: BTreeSet::new(),
            packet_rules: Vec::new(),
            scratch: scratch.to_owned(),
            seen_files: SeenFiles::default(),
            run_began: Timestamp::now(),
            names: OnceCell::new(),
        })
    }

    /// What was looked at and kept for the clauses that follow does not count any more.
    fn about_to_change(&mut self) {
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

impl Host for Machine {
    fn acted_on(&self) -> &ActedOn {
        &self.acted_on
    }

    fn about(&self) -> Result<About, HostError> {
        crate::about::find_out(&self.files, self.acted_on.is_private_root())
    }

    fn restart_pending(&self) -> Result<Option<RestartPending>, HostError> {
        crate::restart::pending(&self.files, self.acted_on.is_private_root())
    }

    fn prepare(&mut self, state: &EffectiveState, left_behind: BTreeSet<String>) {
        self.left_behind = left_behind;
        let of_kind = |kind: &'static str| {
            state
                .clauses
                .iter()
                .filter(move |clause| clause.address.kind() == kind && clause.gone == Gone::No)
        };
        self.packet_rules = of_kind("packet_rule").map(|clause| clause.name().to_owned()).collect();
        let refresh = of_kind("package_source").filter_map(|clause| clause.get("refresh")?.as_u64()).min();
        for packages in [&mut self.apt, &mut self.rpm] {
            packages.refresh_after(refresh.map(Duration::from_secs));
        }
    }

    fn tell_stalls(&mut self, stalls: Stalls) {
        self.apt.tell_stalls(stalls.clone());
        self.rpm.tell_stalls(stalls);
    }

    /// Files that are not known by their metadata are read ahead, and compared with the wanted contents.
    fn begin_run(&mut self, touched: &[&Clause], contents: &Arc<dyn Contents>) {
        self.run_began = Timestamp::now();
        self.about_to_change();
        self.seen_files = SeenFiles::read(&self.scratch.join(SEEN_FILES));
        let wanted = touched.iter().filter_map(|clause| {
            Some(Ahead {
                path: clause.name(),
                wanted: kinds::compared_by_digest(clause)?,
                most: kinds::most_bytes(clause),
            })
        });
        self.seen_files.read_ahead(&self.files, wanted, contents, self.run_began);
    }

    /// What became known of files is kept for the next run, if it can be.
    fn end_run(&mut self) {
        let _ = self.seen_files.keep(&self.scratch.join(SEEN_FILES), self.run_began);
        self.seen_files = SeenFiles::default();
    }

    fn tidy(&mut self) {
        self.files.tidy();
    }

    fn inspect(&mut self, clause: &Clause, contents: &dyn Contents, key: &DigestKey) -> Inspection {
        let seen = match &clause.via {
            Some(via) if !backends(clause.address.kind()).contains(&via.as_str()) => {
                Err(NotSeen::Unsupported(format!("a {} has no backend `{via}` here", clause.address.kind())))
            }
            _ => kinds::inspect(self, clause, &InspectionContext { contents, key }),
        };
        match seen {
            Ok(seen) => Inspection::Seen(Box::new(seen)),
            Err(NotSeen::Unsupported(why)) => Inspection::Unsupported(why),
            Err(NotSeen::Failed(error)) => Inspection::Failed(error.failure(FailureAt::Inspect)),
        }
    }

    fn preview(&mut self, clauses: &[&Clause]) -> PackagePreview {
        let mut package_preview = PackagePreview::default();
        let mut of_managers: BTreeMap<&'static str, Vec<&Clause>> = BTreeMap::new();
        for clause in clauses {
            of_managers.entry(self.packages_of(clause).manager().name()).or_default().push(clause);
        }
        for clauses in of_managers.into_values() {
            if let Err(error) =
                kinds::preview_packages(self.packages_of(clauses[0]), &clauses, &mut package_preview)
            {
                package_preview.failure = Some(error.failure(FailureAt::Correct));
            }
        }
        package_preview
    }

    fn keep(&mut self, clause: &Clause, attic: &mut dyn Attic) -> Result<Vec<StoredCopy>, Failure> {
        let mut work = Work { contents: &NoContents, attic, done: Correction::default() };
        kinds::keep(self, clause, &mut work).map_err(|error| error.failure(FailureAt::Correct))?;
        Ok(work.done.kept)
    }

    fn correct(
        &mut self,
        clause: &Clause,
        differences: &[Difference],
        contents: &dyn Contents,
        attic: &mut dyn Attic,
    ) -> Correction {
        self.about_to_change();
        let mut work = Work { contents, attic, done: Correction::default() };
        let result = kinds::correct(self, clause, differences, &mut work);
        let mut done = work.done;
        done.failure = result.err().map(|error| error.failure(FailureAt::Correct));
        done
    }

    fn react(&mut self, clause: &Clause, reaction: Reaction) -> Result<Vec<NativeStep>, Failure> {
        self.about_to_change();
        let step = match reaction {
            Reaction::Run => kinds::run_command(self, clause),
            Reaction::Restart | Reaction::Reload => self.services_of(clause).and_then(|services| {
                services.react(clause.name(), reaction, clause.flag("running") == Some(true))
            }),
        };
        step.map(|step| vec![step]).map_err(|error| error.failure(FailureAt::React))
    }
}

/// A node with both has dpkg's: rpm is a tool there.
fn is_of_rpm(files: &Files) -> Result<bool, HostError> {
    Ok(files.look(DPKG_STATUS)?.is_none() && rpm_database(files)?.is_some())
}

/// Returns the backends that `via` may name.
fn backends(kind: &str) -> &'static [&'static str] {
    match kind {
        "package" | "package_source" => &["apt", "rpm"],
        "service" => &["systemd", "runit"],
        _ => &[],
    }
}

/// A thing that was seen, with no more to say of it.
pub(crate) fn seen(found: constans_core::compare::Found) -> Seen {
    Seen {
        found,
        content_bytes: None,
        text_diff: None,
        native: Vec::new(),
        stand_in: None,
        running_since: None,
    }
}
