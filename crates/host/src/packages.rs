//! Packages by the node's own package manager, on the node or in a private root with its own database.

mod apt;
mod kept_reading;
mod rpm;

/// Any text as what package managers print.
#[cfg(feature = "fuzzing")]
pub mod fuzzing {
    pub use super::apt::fuzz as dpkg;
    pub use super::rpm::fuzz as rpm;
}

pub(crate) use apt::{Apt, DPKG_STATUS};
pub(crate) use rpm::{Rpm, database as rpm_database};

use crate::error::HostError;
use crate::files::Files;
use crate::native::Ended;
use crate::stalls::Stalls;
use crate::steps;
use constans_core::kind::{Claim, VersionOrder, VersionRequirement};
use constans_core::kit::Gone;
use constans_core::run::{NativeStep, PackageChange};
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

/// What was found of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum PackageFound {
    /// It is installed.
    Installed {
        /// Its version.
        version: String,
        /// Whether it is held.
        held: bool,
    },
    /// It was removed and its settings were kept.
    OnlySettings,
    /// A change of it was cut off or failed on the way.
    HalfInstalled,
    /// It is not there.
    Absent,
}

/// What changing packages came to.
#[derive(Debug, Default)]
pub(crate) struct PackagesChanged {
    /// How it was done.
    pub native: Vec<NativeStep>,
    /// What came, went or changed version.
    pub packages: Vec<PackageChange>,
    /// The paths of the packages that were installed or changed.
    pub touched: BTreeSet<Claim>,
    /// Settings of a removed package that the package manager left, though they are to go.
    pub left: Vec<String>,
}

/// What a database knows of its packages, by name.
pub(crate) type Known = BTreeMap<String, KnownPackage>;

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct KnownPackage {
    version: String,
    state: PackageState,
    held: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum PackageState {
    Installed,
    OnlySettings,
    Broken,
}

impl PackageState {
    fn word(self) -> &'static str {
        match self {
            Self::Installed => "installed",
            Self::OnlySettings => "only_settings",
            Self::Broken => "broken",
        }
    }

    fn of_word(word: &str) -> Option<Self> {
        [Self::Installed, Self::OnlySettings, Self::Broken].into_iter().find(|state| state.word() == word)
    }
}

/// One package manager under one root.
pub(crate) trait PackageManager: Send {
    /// As `via` names it.
    fn name(&self) -> &'static str;

    /// Receives a message when something makes no progress and is still waited for.
    fn tell_stalls(&mut self, stalls: Stalls);

    /// How it orders versions.
    fn order(&self) -> VersionOrder;

    /// Returns why there are no packages of it here, if there are none.
    ///
    /// # Errors
    ///
    /// Returns why that could not be seen.
    fn why_not(&self) -> Result<Option<String>, HostError>;

    /// The files that change whenever its database does.
    fn database_files(&self) -> Vec<String>;

    /// Reads its database.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    fn read_database(&self) -> Result<Known, HostError>;

    /// When its index was fetched last, by the files of the index.
    fn index_fetched_at(&self) -> Option<SystemTime>;

    /// Fetches the index of what the sources offer.
    ///
    /// # Errors
    ///
    /// Returns why the command could not be run.
    fn fetch_index(&self) -> Result<Fetched, HostError>;

    /// Returns the versions that the sources offer, by the index as it is.
    ///
    /// # Errors
    ///
    /// Returns why the command could not be run.
    fn offered(&self, name: &str) -> Result<(Vec<String>, NativeStep), HostError>;

    /// Fetches what installing a version of a package needs: what is fetched may be ended, and installing may not.
    ///
    /// # Errors
    ///
    /// Returns why the command could not be run.
    fn fetch(&self, name: &str, version: &str) -> Result<Ended, HostError>;

    /// Installs a version of a package, whatever version is there.
    ///
    /// # Errors
    ///
    /// Returns why the command could not be run.
    fn install(&self, name: &str, version: &str) -> Result<Ended, HostError>;

    /// Removes a package; returns also the paths of settings that it leaves though they are to go.
    ///
    /// # Errors
    ///
    /// Returns why the command could not be run.
    fn remove(&self, name: &str, gone: Gone) -> Result<(Ended, Vec<String>), HostError>;

    /// Reckons what changes would come to, by the index as it is; nothing is changed or fetched.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    fn reckon(&self, changes: &[Planned]) -> Result<Reckoned, HostError>;

    /// Holds a package at its version, or lets it go.
    ///
    /// # Errors
    ///
    /// Returns why the command could not be run.
    fn hold(&self, name: &str, hold: bool) -> Result<Ended, HostError>;

    /// Takes up changes that were cut off.
    ///
    /// # Errors
    ///
    /// Returns why the command could not be run.
    fn fix(&self) -> Result<NativeStep, HostError>;

    /// Returns whether a change was refused since an earlier one was cut off.
    fn wants_mending(&self, refused: &NativeStep) -> bool;

    /// Returns the paths of a package.
    ///
    /// # Errors
    ///
    /// Returns why its lists could not be read.
    fn paths_of(&self, package: &str) -> Result<Vec<String>, HostError>;

    /// Returns the package that a path belongs to.
    ///
    /// # Errors
    ///
    /// Returns why its lists could not be read.
    fn owner_of(&self, path: &str) -> Result<Option<String>, HostError>;

    /// Returns the names directly below a folder, which ends with a slash, that packages own.
    ///
    /// # Errors
    ///
    /// Returns why its lists could not be read.
    fn owned_below(&self, folder: &str) -> Result<BTreeSet<String>, HostError>;

    /// Returns why a change of a package failed, and what to do.
    fn failure(&self, name: &str, step: NativeStep) -> HostError;
}

/// A change of a package that is looked ahead at.
#[derive(Debug)]
pub(crate) struct Planned {
    pub name: String,
    /// Which version it gets; none if it is removed.
    pub version: Option<String>,
}

/// What a package manager reckons that changes would come to.
pub(crate) struct Reckoned {
    /// How it was asked.
    pub native: Vec<NativeStep>,
    /// Which packages would have which version, or none; not those that stay as they are.
    pub after: BTreeMap<String, Option<String>>,
}

/// What fetching an index came to.
pub(crate) struct Fetched {
    /// How it was done.
    pub step: NativeStep,
    /// What of it could not be fetched, in the package manager's words.
    pub lacking: Option<String>,
}

/// The packages of one root, by one package manager.
pub(crate) struct Packages {
    manager: Box<dyn PackageManager>,
    files: Files,
    /// The agent's own folder.
    scratch: PathBuf,
    known: Option<Known>,
    /// When that was read, if its files had the same metadata then as when they were looked at last.
    read_before: Option<Timestamp>,
    /// How old the index may be before something is installed.
    refresh_after: Duration,
    index_refreshed: bool,
}

/// How old the index may be if no package source says otherwise.
const DEFAULT_REFRESH: Duration = Duration::from_secs(86_400);

impl Packages {
    /// Returns the packages of a root; `scratch` is a folder of the agent's own.
    pub fn new(manager: impl PackageManager + 'static, files: Files, scratch: &Path) -> Self {
        Self {
            manager: Box::new(manager),
            files,
            scratch: scratch.to_owned(),
            known: None,
            read_before: None,
            refresh_after: DEFAULT_REFRESH,
            index_refreshed: false,
        }
    }

    /// Returns the package manager.
    pub fn manager(&self) -> &dyn PackageManager {
        &*self.manager
    }

    /// Returns why there are no packages here, if there are none; what was read in this run was there.
    ///
    /// # Errors
    ///
    /// Returns why that could not be seen.
    pub fn why_not(&self) -> Result<Option<String>, HostError> {
        if self.known.is_some() { Ok(None) } else { self.manager.why_not() }
    }

    /// Receives a message when something makes no progress and is still waited for.
    pub fn tell_stalls(&mut self, stalls: Stalls) {
        self.manager.tell_stalls(stalls);
    }

    /// Begins a run: what was known of packages is read again, and the index may be this old.
    pub fn refresh_after(&mut self, refresh: Option<Duration>) {
        self.known = None;
        self.index_refreshed = false;
        self.refresh_after = refresh.unwrap_or(DEFAULT_REFRESH);
    }

    /// Takes in that packages come from elsewhere now: the index is fetched again before the next change.
    pub fn sources_changed(&mut self) {
        self.index_refreshed = false;
        self.refresh_after = Duration::ZERO;
    }

    /// Returns whether the index is older than it may be: by its files, and by when it was last fetched from here.
    fn index_is_old(&self) -> bool {
        let fetched_here = self.stamp().metadata().and_then(|stamp| stamp.modified()).ok();
        let newest = self.manager.index_fetched_at().max(fetched_here);
        newest.and_then(|newest| newest.elapsed().ok()).is_none_or(|age| age >= self.refresh_after)
    }

    fn stamp(&self) -> PathBuf {
        self.scratch.join(format!("index-refreshed-{}", self.manager.name()))
    }

    /// Fetches the index; what of it could not be fetched is returned.
    fn refresh_index(&mut self, native: &mut Vec<NativeStep>) -> Result<Option<String>, HostError> {
        self.index_refreshed = true;
        let Fetched { step, lacking } = self.manager.fetch_index()?;
        native.push(step);
        if lacking.is_none() {
            let stamp = self.stamp();
            std::fs::write(&stamp, "")
                .map_err(|error| HostError::io("write", &stamp.display().to_string(), &error))?;
        }
        Ok(lacking)
    }

    /// Looks at a package. The database is read once and again after each change.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn inspect(&mut self, name: &str) -> Result<PackageFound, HostError> {
        Ok(match self.known()?.get(name) {
            Some(known) if known.state == PackageState::Installed => {
                PackageFound::Installed { version: known.version.clone(), held: known.held }
            }
            Some(known) if known.state == PackageState::OnlySettings => PackageFound::OnlySettings,
            Some(_) => PackageFound::HalfInstalled,
            None => PackageFound::Absent,
        })
    }

    /// Returns when what is known was read, if that was before it was asked for: the metadata of the database's files is the same since.
    pub fn read_before(&self) -> Option<Timestamp> {
        self.read_before
    }

    /// Returns the names of all packages that are installed.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn names(&mut self) -> Result<Vec<String>, HostError> {
        Ok(self
            .known()?
            .iter()
            .filter(|(_, known)| known.state == PackageState::Installed)
            .map(|(name, _)| name.clone())
            .collect())
    }

    /// Forgets what was read before, also by earlier runs.
    pub fn forget_reading(&mut self) {
        self.known = None;
        let _ = std::fs::remove_file(self.note());
    }

    fn note(&self) -> PathBuf {
        self.scratch.join(format!("packages-{}", self.manager.name()))
    }

    fn known(&mut self) -> Result<&Known, HostError> {
        if self.known.is_none() {
            let note = self.note();
            let (known, read_before) = kept_reading::read(&note, &self.files, &*self.manager)?;
            (self.known, self.read_before) = (Some(known), read_before);
        }
        Ok(self.known.as_ref().expect("just read"))
    }

    /// Returns the newest version that the sources offer.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn candidate(&self, name: &str) -> Result<Option<String>, HostError> {
        let (offered, _) = self.manager.offered(name)?;
        Ok(self.manager.order().newest(offered.iter().map(String::as_str)).map(str::to_owned))
    }

    /// Returns the newest version that fits, by the index as it is, or that none does.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn offered_now(
        &self,
        name: &str,
        requirement: &VersionRequirement,
        native: &mut Vec<NativeStep>,
    ) -> Result<Result<String, HostError>, HostError> {
        let (offered, step) = self.manager.offered(name)?;
        if let Some(best) = requirement.best(offered.iter().map(String::as_str), self.manager.order()) {
            native.push(step);
            return Ok(Ok(best.to_owned()));
        }
        Ok(Err(not_offered(name, requirement, &offered, ", by the present package index").command(step)))
    }

    /// Returns what changes would take along, those that are asked for among them.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn preview(
        &mut self,
        changes: &[Planned],
        native: &mut Vec<NativeStep>,
    ) -> Result<Vec<PackageChange>, HostError> {
        let reckoned = self.manager.reckon(changes)?;
        native.extend(reckoned.native);
        let known = self.known()?;
        let change = |(package, after): (String, Option<String>)| {
            let before = known
                .get(&package)
                .filter(|known| known.state == PackageState::Installed)
                .map(|known| known.version.clone());
            PackageChange { package, before, after }
        };
        Ok(reckoned.after.into_iter().map(change).filter(|change| change.before != change.after).collect())
    }

    /// Installs a package in a version that fits; held or not as wanted. If the index lists files that are gone, it is fetched
    /// once more and tried again.
    ///
    /// # Errors
    ///
    /// Returns the command with its output, and what the sources offer if no version fits.
    pub fn install(
        &mut self,
        name: &str,
        requirement: Option<&VersionRequirement>,
    ) -> Result<PackagesChanged, HostError> {
        let requirement = requirement.unwrap_or(&VersionRequirement::Newest);
        let mut native = Vec::new();
        let offer = self.fitting_offer(name, requirement, &mut native)?;
        let installed = self
            .change(name, native.clone(), |manager, native| fetch_and_install(manager, name, &offer, native));
        let failed = match installed {
            Err(error)
                if !self.index_refreshed
                    && error.command.as_ref().is_some_and(|step| lists_what_is_gone(&step.output)) =>
            {
                error
            }
            installed => return installed,
        };
        native.extend(failed.command);
        self.refresh_index(&mut native)?;
        let offer = self.fitting_offer(name, requirement, &mut native)?;
        self.change(name, native, |manager, native| fetch_and_install(manager, name, &offer, native))
    }

    /// Returns the newest offered version that fits; the index is refreshed once if none does.
    fn fitting_offer(
        &mut self,
        name: &str,
        requirement: &VersionRequirement,
        native: &mut Vec<NativeStep>,
    ) -> Result<String, HostError> {
        let mut lacking = None;
        if !self.index_refreshed && self.index_is_old() {
            // If that fails, what is known already may still do.
            lacking = self.refresh_index(native)?;
        }
        loop {
            let (offered, step) = self.manager.offered(name)?;
            native.push(step.clone());
            if let Some(best) = requirement.best(offered.iter().map(String::as_str), self.manager.order()) {
                return Ok(best.to_owned());
            }
            if !self.index_refreshed {
                lacking = self.refresh_index(native)?;
                continue;
            }
            let error = match lacking {
                Some(complaint) => {
                    let known = if offered.is_empty() { "none of it".to_owned() } else { offered.join(", ") };
                    HostError::new(format!(
                        "no version of {name} matches {requirement}, and the package index could not be refreshed"
                    ))
                    .remedy(format!(
                        "check that its sources are reachable ({complaint}); the old index has {known}"
                    ))
                }
                None => not_offered(name, requirement, &offered, ""),
            };
            return Err(error.command(step));
        }
    }

    /// Removes a package, and its settings if they are to go.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn remove(&mut self, name: &str, gone: Gone) -> Result<PackagesChanged, HostError> {
        self.change(name, Vec::new(), |manager, _| manager.remove(name, gone))
    }

    /// Holds a package at its version, or lets it go.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn hold(&mut self, name: &str, hold: bool) -> Result<NativeStep, HostError> {
        self.known = None;
        let ended = self.manager.hold(name, hold)?;
        if ended.is_well {
            return Ok(ended.step);
        }
        let what = if hold { "hold" } else { "let go of" };
        let remedy = self.manager.failure(name, ended.step.clone()).remedy;
        Err(HostError { remedy, ..HostError::new(format!("cannot {what} {name}")).command(ended.step) })
    }

    fn change(
        &mut self,
        name: &str,
        mut native: Vec<NativeStep>,
        change: impl Fn(&dyn PackageManager, &mut Vec<NativeStep>) -> Result<(Ended, Vec<String>), HostError>,
    ) -> Result<PackagesChanged, HostError> {
        let before = self.known()?.clone();
        if before.values().any(|known| known.state == PackageState::Broken) {
            // What was cut off is taken up again first; whether that helps shows in what follows.
            native.push(self.manager.fix()?);
        }
        self.known = None;
        steps::reached("package change begins", name);
        let (mut ended, mut left) = change(&*self.manager, &mut native)?;
        if !ended.is_well && self.manager.wants_mending(&ended.step) {
            native.push(self.manager.fix()?);
            (ended, left) = change(&*self.manager, &mut native)?;
        }
        steps::reached("package change ended", name);
        let after = self.known()?.clone();
        // A package manager also fails when another package is broken: what counts is whether this one came out right.
        let came_right = after.get(name).is_none_or(|known| known.state != PackageState::Broken)
            && after.get(name) != before.get(name);
        if !ended.is_well && !came_right {
            return Err(self.manager.failure(name, ended.step));
        }
        native.push(ended.step);
        let packages = changes(&before, &after);
        let mut touched = BTreeSet::new();
        for change in packages.iter().filter(|change| change.package != name) {
            touched.insert(Claim::Package(change.package.clone()));
        }
        for change in packages.iter().filter(|change| change.after.is_some()) {
            let paths = self.manager.paths_of(&change.package)?;
            touched.extend(
                paths
                    .iter()
                    .filter_map(|path| service_of(path))
                    .map(|service| Claim::Service(service.to_owned())),
            );
            touched.extend(paths.into_iter().map(Claim::Path));
        }
        Ok(PackagesChanged { native, packages, touched, left })
    }
}

fn fetch_and_install(
    manager: &dyn PackageManager,
    name: &str,
    version: &str,
    native: &mut Vec<NativeStep>,
) -> Result<(Ended, Vec<String>), HostError> {
    let fetched = manager.fetch(name, version)?;
    if !fetched.is_well {
        return Ok((fetched, Vec::new()));
    }
    native.push(fetched.step);
    Ok((manager.install(name, version)?, Vec::new()))
}

/// Returns whether a package manager failed since its index lists files that its sources no longer have.
fn lists_what_is_gone(output: &str) -> bool {
    let output = output.to_lowercase();
    ["404", "file not found", "no such file", "hash sum mismatch", "unexpected size"]
        .iter()
        .any(|sign| output.contains(sign))
        && ["failed to fetch", "error downloading", "cannot download"]
            .iter()
            .any(|sign| output.contains(sign))
}

/// Returns the service that a path of a package defines, if it does (systemd.unit(5), init.d).
fn service_of(path: &str) -> Option<&str> {
    let (folder, name) = path.rsplit_once('/')?;
    match folder {
        "/lib/systemd/system" | "/usr/lib/systemd/system" | "/etc/systemd/system" => {
            name.strip_suffix(".service").filter(|name| !name.contains('@'))
        }
        "/etc/init.d" => Some(name),
        _ => None,
    }
}

fn changes(before: &Known, after: &Known) -> Vec<PackageChange> {
    let version = |known: &Known, name: &str| {
        known
            .get(name)
            .filter(|known| known.state == PackageState::Installed)
            .map(|known| known.version.clone())
    };
    let names: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    let changed = names.into_iter().map(|name| PackageChange {
        package: name.clone(),
        before: version(before, name),
        after: version(after, name),
    });
    changed.filter(|change| change.before != change.after).collect()
}

/// Returns what to do about the first of these signs that an output has, in lower case.
fn known_remedy(output: &str, known: &[(&str, &str)]) -> Option<String> {
    let output = output.to_lowercase();
    known.iter().find(|(sign, _)| output.contains(sign)).map(|(_, remedy)| (*remedy).to_owned())
}

/// Says that no offered version fits; `by` is said behind.
fn not_offered(name: &str, requirement: &VersionRequirement, offered: &[String], by: &str) -> HostError {
    if offered.is_empty() {
        return HostError::new(format!("no package source offers {name}{by}"))
            .remedy("check the spelling, and that a package_source has the repository");
    }
    HostError::new(format!("no offered version of {name} matches {requirement}{by}"))
        .remedy(format!("the sources offer {}", offered.join(", ")))
}
