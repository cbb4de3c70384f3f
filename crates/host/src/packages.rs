//! Packages by apt and dpkg, on the node or in a private root with its own database.

use crate::error::HostError;
use crate::files::Files;
use crate::native::{Ended, Native};
use crate::programs::is_root;
use crate::steps;
use constans_core::kind::{Claim, VersionWish};
use constans_core::kit::Gone;
use constans_core::run::{NativeStep, PackageChange};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// What was found of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PackageFound {
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
pub struct PackagesChanged {
    /// How it was done.
    pub native: Vec<NativeStep>,
    /// What came, went or changed version.
    pub packages: Vec<PackageChange>,
    /// What lies in the packages that came or changed.
    pub touched: BTreeSet<Claim>,
}

/// apt and dpkg under one root.
pub struct Apt {
    files: Files,
    is_private_root: bool,
    scratch: PathBuf,
    known: Option<BTreeMap<String, Known>>,
    /// How old the index may be before something is installed.
    refresh_after: Duration,
    index_refreshed: bool,
}

/// How old the index may be if no package source says otherwise.
const USUAL_REFRESH: Duration = Duration::from_secs(86_400);
/// How long apt waits for another program that is changing packages.
const LOCK_PATIENCE: &str = "--option=DPkg::Lock::Timeout=60";

#[derive(Debug, Clone, PartialEq, Eq)]
struct Known {
    version: String,
    state: PackageState,
    held: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum PackageState {
    Installed,
    OnlySettings,
    Broken,
}

impl Apt {
    /// Returns apt under a root; `scratch` is a folder of the agent's own for its configuration.
    pub fn new(files: Files, is_private_root: bool, scratch: &Path) -> Self {
        Self { files, is_private_root, scratch: scratch.to_owned(), known: None, refresh_after: USUAL_REFRESH, index_refreshed: false }
    }

    /// Begins a run: what was known of packages is read anew, and the index may be this old.
    pub fn refresh_after(&mut self, refresh: Option<Duration>) {
        self.known = None;
        self.index_refreshed = false;
        self.refresh_after = refresh.unwrap_or(USUAL_REFRESH);
    }

    /// Takes in that packages come from elsewhere now: the index is fetched anew before the next change.
    pub fn sources_changed(&mut self) {
        self.index_refreshed = false;
        self.refresh_after = Duration::ZERO;
    }

    /// Returns whether the index is older than it may be: by its files, and by when it was last fetched from here.
    fn index_is_old(&self) -> bool {
        let folder = self.files.outside("/var/lib/apt/lists");
        let files = std::fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let dates = files.filter(|path| path.is_file()).chain([self.stamp()]).filter_map(|path| path.metadata().ok()?.modified().ok());
        dates.max().and_then(|newest| newest.elapsed().ok()).is_none_or(|age| age >= self.refresh_after)
    }

    fn stamp(&self) -> PathBuf {
        self.scratch.join("index-refreshed")
    }

    fn refresh_index(&mut self) -> Result<NativeStep, HostError> {
        self.index_refreshed = true;
        let ended = self.apt("apt-get", ["update".to_owned(), "--quiet".to_owned(), LOCK_PATIENCE.to_owned()])?;
        if ended.is_well {
            let stamp = self.stamp();
            std::fs::write(&stamp, "").map_err(|error| HostError::io("write", &stamp.display().to_string(), &error))?;
        }
        Ok(ended.step)
    }

    /// Returns why there are no packages to be kept here, if there are none.
    ///
    /// # Errors
    ///
    /// Returns why that could not be seen.
    pub fn unsupported(&self) -> Result<Option<String>, HostError> {
        let there = self.files.look("/var/lib/dpkg/status")?.is_some();
        Ok((!there).then(|| "there is no dpkg database here (/var/lib/dpkg/status)".to_owned()))
    }

    /// Looks at a package. The database is read once and again after each change.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn inspect(&mut self, name: &str) -> Result<PackageFound, HostError> {
        Ok(match self.known()?.get(name) {
            Some(known) if known.state == PackageState::Installed => PackageFound::Installed { version: known.version.clone(), held: known.held },
            Some(known) if known.state == PackageState::OnlySettings => PackageFound::OnlySettings,
            Some(_) => PackageFound::HalfInstalled,
            None => PackageFound::Absent,
        })
    }

    /// Returns the names of all packages that are installed.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn names(&mut self) -> Result<Vec<String>, HostError> {
        Ok(self.known()?.iter().filter(|(_, known)| known.state == PackageState::Installed).map(|(name, _)| name.clone()).collect())
    }

    /// Returns the package that a path belongs to.
    ///
    /// # Errors
    ///
    /// Returns why dpkg's lists could not be read.
    pub fn owner_of(&self, path: &str) -> Result<Option<String>, HostError> {
        for list in self.files.list("/var/lib/dpkg/info")?.unwrap_or_default() {
            let Some(stem) = list.strip_suffix(".list") else { continue };
            if self.files.read_text(&format!("/var/lib/dpkg/info/{list}"))?.lines().any(|line| line == path) {
                return Ok(Some(stem.split(':').next().unwrap_or(stem).to_owned()));
            }
        }
        Ok(None)
    }

    fn known(&mut self) -> Result<&BTreeMap<String, Known>, HostError> {
        if self.known.is_none() {
            self.known = Some(self.read_database()?);
        }
        Ok(self.known.as_ref().expect("just read"))
    }

    fn read_database(&self) -> Result<BTreeMap<String, Known>, HostError> {
        let database = self.files.outside("/var/lib/dpkg").display().to_string();
        let format = "${Package}\\t${Version}\\t${db:Status-Want}\\t${db:Status-Status}\\n";
        let ended = Native::new("dpkg-query", ["--admindir", &database, "--show", "--showformat", format]).run()?;
        // An empty database makes dpkg-query exit 1 with nothing on its output.
        if !ended.is_well && !ended.step.output.contains("no packages found") {
            return Err(HostError::new("dpkg-query could not read the package database").command(ended.step));
        }
        Ok(ended.stdout.lines().filter_map(known_of_line).collect())
    }

    /// Returns the newest version that the sources offer.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn candidate(&self, name: &str) -> Result<Option<String>, HostError> {
        Ok(VersionWish::Newest.best(self.offered(name)?.0.iter().map(String::as_str)).map(str::to_owned))
    }

    fn offered(&self, name: &str) -> Result<(Vec<String>, NativeStep), HostError> {
        let ended = self.apt("apt-cache", ["madison".to_owned(), name.to_owned()])?;
        let versions = ended.stdout.lines().filter_map(|line| line.split('|').nth(1)).map(|version| version.trim().to_owned()).collect();
        Ok((versions, ended.step))
    }

    /// Installs a package in a version that fits; held or not as wanted.
    ///
    /// # Errors
    ///
    /// Returns the command with its output, and what the sources offer if no version fits.
    pub fn install(&mut self, name: &str, wish: Option<&VersionWish>) -> Result<PackagesChanged, HostError> {
        let mut native = Vec::new();
        let offer = self.fitting_offer(name, wish, &mut native)?;
        let options = [
            "--yes",
            LOCK_PATIENCE,
            "--allow-downgrades",
            "--option=Dpkg::Options::=--force-confdef",
            "--option=Dpkg::Options::=--force-confold",
            "install",
        ];
        let arguments = options.iter().map(|option| (*option).to_owned()).chain([format!("{name}={offer}")]).collect::<Vec<_>>();
        self.change(name, &arguments, native)
    }

    /// Returns the newest offered version that fits; the index is refreshed once if none does.
    fn fitting_offer(&mut self, name: &str, wish: Option<&VersionWish>, native: &mut Vec<NativeStep>) -> Result<String, HostError> {
        let wish = wish.unwrap_or(&VersionWish::Newest);
        if !self.index_refreshed && self.index_is_old() {
            // If that fails, what is known already may still do.
            native.push(self.refresh_index()?);
        }
        loop {
            let (offered, step) = self.offered(name)?;
            native.push(step.clone());
            if let Some(best) = wish.best(offered.iter().map(String::as_str)) {
                return Ok(best.to_owned());
            }
            if !self.index_refreshed {
                native.push(self.refresh_index()?);
                continue;
            }
            let not_fetched = native
                .iter()
                .filter(|step| step.what.starts_with("apt-get update"))
                .any(|step| step.exit != Some(0) || step.output.contains("Failed to fetch") || step.output.contains("index files failed"));
            let error = if not_fetched {
                let known = if offered.is_empty() { "none of it".to_owned() } else { offered.join(", ") };
                let said =
                    native.iter().flat_map(|step| step.output.lines()).find(|line| line.contains("Failed to fetch") || line.starts_with("E: "));
                HostError::new(format!("no version of {name} fits {wish}, and the index of packages could not be fetched")).remedy(format!(
                    "see that its sources can be reached ({}); the old index knows {known}",
                    said.map_or("apt-get update says why", |line| line.trim_start_matches(['E', 'W', ':', ' ']))
                ))
            } else if offered.is_empty() {
                HostError::new(format!("no package source offers {name}"))
                    .remedy("is it spelt as the source spells it, and is that source in /etc/apt/sources.list?")
            } else {
                HostError::new(format!("no offered version of {name} fits {wish}")).remedy(format!("the sources offer {}", offered.join(", ")))
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
        let verb = if gone == Gone::WithSettings { "purge" } else { "remove" };
        self.change(name, &["--yes".to_owned(), LOCK_PATIENCE.to_owned(), verb.to_owned(), name.to_owned()], Vec::new())
    }

    /// Holds a package at its version, or lets it go.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn hold(&mut self, name: &str, hold: bool) -> Result<NativeStep, HostError> {
        self.known = None;
        let verb = if hold { "hold" } else { "unhold" };
        let ended = self.apt("apt-mark", [verb.to_owned(), name.to_owned()])?;
        if ended.is_well { Ok(ended.step) } else { Err(HostError::new(format!("cannot {verb} {name}")).command(ended.step)) }
    }

    fn change(&mut self, name: &str, arguments: &[String], mut native: Vec<NativeStep>) -> Result<PackagesChanged, HostError> {
        let before = self.known()?.clone();
        if before.values().any(|known| known.state == PackageState::Broken) {
            // What was cut off is taken up again first; whether that helps shows in what follows.
            native.push(self.dpkg(&["--configure", "--pending"])?.step);
        }
        self.known = None;
        steps::reached("package change begins", name);
        let mut ended = self.apt("apt-get", arguments.to_vec())?;
        if !ended.is_well && ended.step.output.contains("dpkg was interrupted") {
            native.push(self.dpkg(&["--configure", "--pending"])?.step);
            ended = self.apt("apt-get", arguments.to_vec())?;
        }
        steps::reached("package change ended", name);
        let after = self.known()?.clone();
        // apt also fails when another package is broken: what counts is whether this one came out right.
        let came_right = after.get(name).is_none_or(|known| known.state != PackageState::Broken) && after.get(name) != before.get(name);
        if !ended.is_well && !came_right {
            return Err(package_error(name, ended.step));
        }
        native.push(ended.step);
        let packages = changes(&before, &after);
        let mut touched = BTreeSet::new();
        for change in packages.iter().filter(|change| change.package != name) {
            touched.insert(Claim::Package(change.package.clone()));
        }
        for change in packages.iter().filter(|change| change.after.is_some()) {
            touched.extend(self.paths_of(&change.package)?.into_iter().map(Claim::Path));
        }
        Ok(PackagesChanged { native, packages, touched })
    }

    fn paths_of(&self, package: &str) -> Result<Vec<String>, HostError> {
        let names = self.files.list("/var/lib/dpkg/info")?.unwrap_or_default();
        let own = |name: &&String| {
            name.strip_suffix(".list").is_some_and(|stem| stem == package || stem.split_once(':').is_some_and(|(stem, _)| stem == package))
        };
        match names.iter().find(own) {
            Some(list) => Ok(self.files.read_text(&format!("/var/lib/dpkg/info/{list}"))?.lines().map(str::to_owned).collect()),
            None => Ok(Vec::new()),
        }
    }

    fn apt(&self, program: &str, arguments: impl IntoIterator<Item = String>) -> Result<Ended, HostError> {
        let native = Native::new(program, arguments.into_iter().collect::<Vec<_>>());
        if !self.is_private_root {
            return native.run();
        }
        let configuration = self.scratch.join("apt.conf");
        std::fs::write(&configuration, self.configuration()).map_err(|error| HostError::io("write", &configuration.display().to_string(), &error))?;
        native.env("APT_CONFIG", &configuration).run()
    }

    fn dpkg(&self, arguments: &[&str]) -> Result<Ended, HostError> {
        let mut all: Vec<String> = Vec::new();
        if self.is_private_root {
            let root = self.files.root().display();
            all.extend([format!("--root={root}"), format!("--log={root}/var/log/dpkg.log")]);
            if !is_root() {
                all.extend(["--force-not-root".to_owned(), "--force-script-chrootless".to_owned()]);
            }
        }
        all.extend(arguments.iter().map(|argument| (*argument).to_owned()));
        Native::new("dpkg", all).run()
    }

    /// What makes apt and dpkg act on a private root and nothing else. Without root's rights dpkg may neither own
    /// files nor change its root; maintainer scripts then run with DPKG_ROOT set, as dpkg(1) says.
    fn configuration(&self) -> String {
        let root = self.files.root().display();
        let unprivileged = if is_root() { "" } else { "\"--force-not-root\"; \"--force-script-chrootless\"; " };
        format!(
            "Dir \"{root}\";\nDir::State::status \"{root}/var/lib/dpkg/status\";\nDir::Bin::Methods \"/usr/lib/apt/methods\";\n\
             Dir::Bin::dpkg \"/usr/bin/dpkg\";\nAPT::Sandbox::User \"\";\n\
             DPkg::Options {{ \"--root={root}\"; {unprivileged}\"--log={root}/var/log/dpkg.log\"; }};\n\
             DPkg::Path \"/usr/sbin:/usr/bin:/sbin:/bin\";\nDPkg::Use-Pty \"false\";\n"
        )
    }
}

fn known_of_line(line: &str) -> Option<(String, Known)> {
    let fields: Vec<&str> = line.split('\t').collect();
    let [name, version, want, status] = fields[..] else { return None };
    let state = match status {
        "installed" | "triggers-awaited" | "triggers-pending" => PackageState::Installed,
        "config-files" => PackageState::OnlySettings,
        "not-installed" => return None,
        _ => PackageState::Broken,
    };
    Some((name.to_owned(), Known { version: version.to_owned(), state, held: want == "hold" }))
}

fn changes(before: &BTreeMap<String, Known>, after: &BTreeMap<String, Known>) -> Vec<PackageChange> {
    let version = |known: &BTreeMap<String, Known>, name: &str| {
        known.get(name).filter(|known| known.state == PackageState::Installed).map(|known| known.version.clone())
    };
    let names: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    let changed = names.into_iter().map(|name| PackageChange { package: name.clone(), before: version(before, name), after: version(after, name) });
    changed.filter(|change| change.before != change.after).collect()
}

fn package_error(name: &str, step: NativeStep) -> HostError {
    let output = step.output.to_lowercase();
    let known: &[(&str, &str)] = &[
        ("could not get lock", "another program is changing packages just now: the next run tries again"),
        ("is locked", "another program is changing packages just now: the next run tries again"),
        ("held packages were changed", "somebody holds this package at its version: say hold in the clause, or apt-mark unhold it"),
        ("no space left", "the disk is full: make room, then run again"),
        ("unmet dependencies", "the sources do not offer what this package depends on"),
        ("failed to fetch", "the package source does not answer, or its index is old"),
        ("script subprocess returned error", "the package's own script failed: its output says why"),
    ];
    let holder = step.output.split("held by process ").nth(1).and_then(|rest| rest.lines().next()).map(|rest| rest.trim_end_matches(['.', ' ']));
    let remedy = known.iter().find(|(sign, _)| output.contains(sign)).map(|(_, remedy)| match holder {
        Some(holder) => format!("{remedy}; it is the process {holder}"),
        None => (*remedy).to_owned(),
    });
    let exit = step.exit.unwrap_or(-1);
    let culprit = step
        .output
        .lines()
        .find_map(|line| line.split("error processing package ").nth(1))
        .and_then(|rest| rest.split_whitespace().next())
        .map(str::to_owned);
    let message = match culprit {
        Some(other) if other.split(':').next() != Some(name) => {
            format!("apt could not change {name}, since the package {other} is broken: exit status {exit}")
        }
        _ => format!("apt could not change {name}: exit status {exit}"),
    };
    HostError { remedy, ..HostError::new(message).command(step) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn states_of_the_database_are_told_apart() {
        let known = |line: &str| known_of_line(line).map(|(_, known)| (known.state, known.held));
        assert_eq!(known("a\t1.0\thold\tinstalled"), Some((PackageState::Installed, true)));
        assert_eq!(known("a\t1.0\tdeinstall\tconfig-files"), Some((PackageState::OnlySettings, false)));
        assert_eq!(known("a\t1.0\tinstall\thalf-configured"), Some((PackageState::Broken, false)));
        assert_eq!(known("a\t\tunknown\tnot-installed"), None);
    }

    #[test]
    fn all_that_came_went_or_changed_is_listed() {
        let database = |lines: &[&str]| lines.iter().filter_map(|line| known_of_line(line)).collect::<BTreeMap<_, _>>();
        let before = database(&["a\t1.0\tinstall\tinstalled", "b\t1.0\tinstall\tinstalled", "c\t1.0\tinstall\tinstalled"]);
        let after =
            database(&["a\t1.1\tinstall\tinstalled", "b\t1.0\tinstall\tinstalled", "c\t1.0\tdeinstall\tconfig-files", "d\t1.0\tinstall\tinstalled"]);
        let told: Vec<String> = changes(&before, &after)
            .iter()
            .map(|change| format!("{} {:?} {:?}", change.package, change.before.as_deref(), change.after.as_deref()))
            .collect();
        assert_eq!(told, ["a Some(\"1.0\") Some(\"1.1\")", "c Some(\"1.0\") None", "d None Some(\"1.0\")"]);
    }
}
