//! Packages by dnf and rpm.

use super::{Fetched, Known, KnownPackage, PackageManager, PackageState, Planned, Reckoned, known_remedy};
use crate::error::HostError;
use crate::files::{Files, Ownership};
use crate::native::{Ended, Native};
use crate::stalls::Stalls;
use constans_core::kind::VersionOrder;
use constans_core::kit::Gone;
use constans_core::run::NativeStep;
use rpm_version::Nevra;
use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime};

/// The possible paths of rpm's database: the first is what newer systems use, where the second is a link to it.
const DATABASES: [&str; 2] = ["/usr/lib/sysimage/rpm", "/var/lib/rpm"];
/// What it is kept in, by rpm's versions.
const DATABASE_FILES: [&str; 3] = ["rpmdb.sqlite", "Packages.db", "Packages"];
/// Where dnf's versionlock keeps which packages are held.
const HELD: &str = "/etc/dnf/plugins/versionlock.list";
const SOURCES: &str = "/etc/yum.repos.d";
const CACHE: &str = "/var/cache/dnf";
/// How long another program that is changing packages is waited for, and how often it is looked after.
const LOCK_PATIENCE: Duration = Duration::from_secs(60);
const LOCK_PAUSE: Duration = Duration::from_secs(2);
/// What dnf and rpm say of another program that is changing packages.
const LOCKED: [&str; 3] = ["already locked by", "is locked by", "transaction lock"];
const UNTRUSTED: &str = "the package is not signed by a trusted key: set signed_by in its package_source";
/// dnf's word for all that a version is made of.
const QUERIED: &str = "%{evr}\\n";

/// dnf and rpm under one root.
pub(crate) struct Rpm {
    files: Files,
    is_private_root: bool,
    scratch: PathBuf,
    stalls: Stalls,
}

impl Rpm {
    /// Returns rpm under a root; `scratch` is a folder of the agent's own for its configuration.
    pub fn new(files: Files, is_private_root: bool, scratch: &Path) -> Self {
        Self { files, is_private_root, scratch: scratch.to_owned(), stalls: Stalls::default() }
    }

    fn folder(&self) -> Result<&'static str, HostError> {
        database(&self.files)?.map(|(folder, _)| folder).ok_or_else(|| HostError::new(not_here()))
    }

    fn rpm(&self, arguments: &[&str]) -> Result<Ended, HostError> {
        let database = self.files.outside(self.folder()?).display().to_string();
        Native::new("rpm", ["--dbpath", &database].iter().chain(arguments)).run()
    }

    /// Runs dnf to look or to fetch: it may be ended, and its logs go into the agent's own folder.
    fn dnf(&self, arguments: &[&str]) -> Result<Ended, HostError> {
        let logs = format!("--setopt=logdir={}", self.scratch.display());
        self.run(&[&[logs.as_str()], arguments].concat(), Native::while_it_moves)
    }

    /// Runs dnf to change packages: it is never ended.
    fn change(&self, arguments: &[&str]) -> Result<Ended, HostError> {
        self.run(arguments, |native| native.to_its_end(&self.stalls))
    }

    /// Runs dnf; while another program changes packages, that is waited for.
    fn run(&self, arguments: &[&str], patience: impl Fn(Native) -> Native) -> Result<Ended, HostError> {
        let home = self.scratch.join("rpm-home");
        let write = |path: &Path, text: &str| {
            std::fs::write(path, text)
                .map_err(|error| HostError::io("write", &path.display().to_string(), &error))
        };
        std::fs::create_dir_all(&home)
            .map_err(|error| HostError::io("make", &home.display().to_string(), &error))?;
        // dnf and rpm shall mean the same database.
        write(&home.join(".rpmmacros"), &format!("%_dbpath {}\n", self.folder()?))?;
        let mut all = vec!["--setopt=exit_on_lock=True".to_owned()];
        if self.is_private_root {
            let root = self.files.root().display();
            write(
                &home.join("versionlock.conf"),
                &format!("[main]\nenabled = 1\nlocklist = {root}{HELD}\n"),
            )?;
            all.extend([
                format!("--installroot={root}"),
                format!("--releasever={}", self.release()?),
                format!("--setopt=pluginconfpath={}", home.display()),
            ]);
            all.extend(self.keys_of_sources()?);
            if self.files.look(HELD)?.is_none() {
                all.push("--disableplugin=versionlock".to_owned());
            }
        }
        all.extend(arguments.iter().map(|argument| (*argument).to_owned()));
        let end = Instant::now() + LOCK_PATIENCE;
        loop {
            let ended = patience(Native::new("dnf", &all).env("HOME", &home)).run()?;
            let is_locked = !ended.is_well && LOCKED.iter().any(|sign| ended.step.output.contains(sign));
            if !is_locked || Instant::now() >= end {
                return Ok(ended);
            }
            std::thread::sleep(LOCK_PAUSE);
        }
    }

    /// The operating system's version, which is part of the addresses of many sources.
    fn release(&self) -> Result<String, HostError> {
        let text = crate::os_release::os_release(&self.files)?;
        let version = text
            .lines()
            .find_map(|line| line.strip_prefix("VERSION_ID="))
            .map(|value| value.trim_matches('"').to_owned());
        Ok(version.unwrap_or_else(|| "unknown".to_owned()))
    }

    /// dnf reads the keys of its sources from the machine's own root, whatever the root of the installation.
    fn keys_of_sources(&self) -> Result<Vec<String>, HostError> {
        let mut options = Vec::new();
        for file in
            self.files.list(SOURCES)?.unwrap_or_default().iter().filter(|file| file.ends_with(".repo"))
        {
            let mut section = String::new();
            for line in self.files.read_text(&format!("{SOURCES}/{file}"))?.lines().map(str::trim) {
                if let Some(name) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
                    section = name.to_owned();
                } else if let Some(key) = line.strip_prefix("gpgkey=file://") {
                    options.push(format!(
                        "--setopt={section}.gpgkey=file://{}",
                        self.files.outside(key).display()
                    ));
                }
            }
        }
        Ok(options)
    }

    /// Returns the names of the packages that are held.
    fn held(&self) -> Result<BTreeSet<String>, HostError> {
        if self.files.look(HELD)?.is_none() {
            return Ok(BTreeSet::new());
        }
        let text = self.files.read_text(HELD)?;
        let lines =
            text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with(['#', '!']));
        Ok(lines.map(|line| Nevra::parse(line).name().to_owned()).collect())
    }
}

impl PackageManager for Rpm {
    fn name(&self) -> &'static str {
        "rpm"
    }

    fn tell_stalls(&mut self, stalls: Stalls) {
        self.stalls = stalls;
    }

    fn order(&self) -> VersionOrder {
        VersionOrder::Rpm
    }

    fn why_not(&self) -> Result<Option<String>, HostError> {
        Ok(database(&self.files)?.is_none().then(not_here))
    }

    /// What SQLite has not written into the database yet is in a file beside it.
    fn database_files(&self) -> Vec<String> {
        let database = database(&self.files).ok().flatten().map(|(_, path)| path);
        database.into_iter().flat_map(|path| [format!("{path}-wal"), path]).chain([HELD.to_owned()]).collect()
    }

    fn read_database(&self) -> Result<Known, HostError> {
        let ended = self.rpm(&[
            "--query",
            "--all",
            "--queryformat",
            "%{NAME}\\t%|EPOCH?{%{EPOCH}:}|%{VERSION}-%{RELEASE}\\t%{ARCH}\\n",
        ])?;
        if !ended.is_well {
            return Err(HostError::new("rpm could not read the package database").command(ended.step));
        }
        Ok(known_of(&ended.stdout, &self.held()?))
    }

    fn index_fetched_at(&self) -> Option<SystemTime> {
        let entries = std::fs::read_dir(self.files.outside(CACHE))
            .into_iter()
            .flatten()
            .flatten()
            .map(|entry| entry.path());
        let indexes = entries.filter(|path| path.extension().is_some_and(|extension| extension == "solv"));
        indexes.filter_map(|path| path.metadata().ok()?.modified().ok()).max()
    }

    fn fetch_index(&self) -> Result<Fetched, HostError> {
        let Ended { step, is_well, .. } = self.dnf(&["makecache", "--refresh"])?;
        // A source that does not answer is left out by dnf, and all is well.
        let complaint = step
            .output
            .lines()
            .map(str::trim)
            .find(|line| line.contains("Curl error") || line.starts_with("Error:"));
        let failed = !is_well || complaint.is_some();
        let lacking = failed.then(|| {
            complaint.map_or("dnf makecache says why", |line| line.trim_start_matches(['-', ' '])).to_owned()
        });
        Ok(Fetched { step, lacking })
    }

    fn offered(&self, name: &str) -> Result<(Vec<String>, NativeStep), HostError> {
        // Held versions are offered, too: a hold is reported when the version is to be changed.
        let ended = self.dnf(&[
            "--cacheonly",
            "--quiet",
            "--disableplugin=versionlock",
            "repoquery",
            "--available",
            "--showduplicates",
            "--queryformat",
            QUERIED,
            name,
        ])?;
        Ok((ended.stdout.split_whitespace().map(str::to_owned).collect(), ended.step))
    }

    fn fetch(&self, name: &str, version: &str) -> Result<Ended, HostError> {
        self.dnf(&["--assumeyes", "--downloadonly", "install", &format!("{name}-{version}")])
    }

    fn install(&self, name: &str, version: &str) -> Result<Ended, HostError> {
        self.change(&["--assumeyes", "install", &format!("{name}-{version}")])
    }

    /// rpm keeps settings that someone changed, under another name.
    fn remove(&self, name: &str, gone: Gone) -> Result<(Ended, Vec<String>), HostError> {
        let mut settings = Vec::new();
        if gone == Gone::WithSettings {
            let listed = self.rpm(&["--query", "--configfiles", name])?;
            settings = listed
                .stdout
                .lines()
                .filter(|line| line.starts_with('/'))
                .map(|path| format!("{path}.rpmsave"))
                .collect();
        }
        // Only what a clause names goes: what came along with it stays.
        Ok((self.change(&["--assumeyes", "--noautoremove", "remove", name])?, settings))
    }

    /// dnf reckons what comes and what goes apart.
    fn reckon(&self, changes: &[Planned]) -> Result<Reckoned, HostError> {
        let comes = changes
            .iter()
            .filter_map(|change| Some(format!("{}-{}", change.name, change.version.as_ref()?)))
            .collect();
        let goes = changes
            .iter()
            .filter(|change| change.version.is_none())
            .map(|change| change.name.clone())
            .collect();
        let mut reckoned = Reckoned { native: Vec::new(), after: BTreeMap::new() };
        for (verb, packages) in [("install", comes), ("remove", goes)] as [(&str, Vec<String>); 2] {
            if packages.is_empty() {
                continue;
            }
            let options =
                ["--cacheonly", "--assumeno", "--noautoremove", "--disableplugin=versionlock", verb];
            let ended = self
                .dnf(&options.into_iter().chain(packages.iter().map(String::as_str)).collect::<Vec<_>>())?;
            // Having said no for us, dnf says so and fails.
            if !ended.is_well && !ended.step.output.contains("Operation aborted") {
                return Err(HostError::new("dnf could not reckon what would come along").command(ended.step));
            }
            reckoned.after.extend(reckoned_of(&ended.stdout));
            reckoned.native.push(ended.step);
        }
        Ok(reckoned)
    }

    fn hold(&self, name: &str, hold: bool) -> Result<Ended, HostError> {
        if self.is_private_root && self.files.look(HELD)?.is_none() {
            self.files.make_way(HELD)?;
            self.files.replace(HELD, b"", Ownership::default(), |_| Ok(()))?;
        }
        self.change(&["versionlock", if hold { "add" } else { "delete" }, name])
    }

    /// An upgrade that was cut off leaves two versions of a package.
    fn fix(&self) -> Result<NativeStep, HostError> {
        Ok(self.change(&["--assumeyes", "remove", "--duplicates"])?.step)
    }

    fn wants_mending(&self, _: &NativeStep) -> bool {
        false
    }

    fn paths_of(&self, package: &str) -> Result<Vec<String>, HostError> {
        let listed = self.rpm(&["--query", "--list", package])?;
        Ok(listed.stdout.lines().filter(|line| line.starts_with('/')).map(str::to_owned).collect())
    }

    fn owner_of(&self, path: &str) -> Result<Option<String>, HostError> {
        let ended = self.rpm(&["--query", "--whatprovides", path, "--queryformat", "%{NAME}\\n"])?;
        Ok(if ended.is_well { ended.stdout.lines().next().map(str::to_owned) } else { None })
    }

    fn owned_below(&self, folder: &str) -> Result<BTreeSet<String>, HostError> {
        let listed = self.rpm(&["--query", "--all", "--list"])?;
        Ok(listed
            .stdout
            .lines()
            .filter_map(|path| path.strip_prefix(folder))
            .filter_map(|rest| rest.split('/').next())
            .map(str::to_owned)
            .collect())
    }

    fn failure(&self, name: &str, step: NativeStep) -> HostError {
        let known: &[(&str, &str)] = &[
            ("superuser privileges", "changing packages needs root's rights: run the agent as root"),
            ("permission denied", "changing packages needs root's rights: run the agent as root"),
            ("already locked by", "another program is changing packages: the next run retries"),
            ("transaction lock", "another program is changing packages: the next run retries"),
            (
                "exclude filtering",
                "the package is held at its version: set hold in the clause, or dnf versionlock delete it",
            ),
            (
                "no such command: versionlock",
                "holding needs dnf's versionlock, which is a package of its own (python3-dnf-plugin-versionlock)",
            ),
            ("no space left", "the disk is full: free space, then run again"),
            ("more space needed", "the disk is full: free space, then run again"),
            ("nothing provides", "the sources do not offer the dependencies of this package"),
            ("gpg check failed", UNTRUSTED),
            ("is not signed", UNTRUSTED),
            ("public key", UNTRUSTED),
            ("failed to download", "the package source does not answer, or its index is old"),
            ("scriptlet", "a script of the package failed: see its output"),
        ];
        let holder =
            step.output.split("already locked by ").nth(1).and_then(|rest| rest.split_whitespace().next());
        let remedy = known_remedy(&step.output, known).map(|remedy| match holder {
            Some(holder) => format!("{remedy}; it is the process {holder}"),
            None => remedy,
        });
        let exit = step.exit.unwrap_or(-1);
        HostError {
            remedy,
            ..HostError::new(format!("dnf could not change {name}: exit status {exit}")).command(step)
        }
    }
}

/// Returns the folder and the file of rpm's database, if there is one.
///
/// # Errors
///
/// Returns why that could not be seen.
pub(crate) fn database(files: &Files) -> Result<Option<(&'static str, String)>, HostError> {
    for folder in DATABASES {
        for file in DATABASE_FILES {
            let path = format!("{folder}/{file}");
            if files.look(&path)?.is_some() {
                return Ok(Some((folder, path)));
            }
        }
    }
    Ok(None)
}

fn not_here() -> String {
    format!("there is no rpm database here ({})", DATABASES.join(", "))
}

/// Reads the lines that rpm was asked for. Of several versions of a package the newest counts; several where there can be
/// only one were left by a change that was cut off.
fn known_of(lines: &str, held: &BTreeSet<String>) -> Known {
    let mut known = Known::new();
    let mut met = BTreeSet::new();
    for line in lines.lines() {
        let fields: Vec<&str> = line.split('\t').collect();
        let [name, version, arch] = fields[..] else { continue };
        // A key is not a package, and several kernels are installed on purpose (dnf.conf(5), installonlypkgs).
        if name == "gpg-pubkey" {
            continue;
        }
        let is_twice = !met.insert((name, arch)) && !name.starts_with("kernel");
        let version = version.strip_prefix("0:").unwrap_or(version).to_owned();
        let state = if is_twice { PackageState::Broken } else { PackageState::Installed };
        let package = KnownPackage { version, state, held: held.contains(name) };
        match known.entry(name.to_owned()) {
            Entry::Vacant(vacant) => drop(vacant.insert(package)),
            Entry::Occupied(mut there) => {
                let there = there.get_mut();
                if VersionOrder::Rpm.newest([package.version.as_str(), there.version.as_str()])
                    == Some(&package.version)
                {
                    there.version = package.version;
                }
                if is_twice {
                    there.state = PackageState::Broken;
                }
            }
        }
    }
    known
}

/// Any text as what rpm prints.
#[cfg(feature = "fuzzing")]
pub fn fuzz(text: &str) {
    let known = known_of(text, &BTreeSet::new());
    let _ = reckoned_of(text);
    assert!(super::changes(&known, &known).is_empty());
}

/// Reads the table of a transaction that dnf was not allowed to make: sections of rows of a name, an architecture, a version, a
/// repository and a size. A row begins after one space; what is too wide for a line goes on after more of them.
fn reckoned_of(table: &str) -> BTreeMap<String, Option<String>> {
    let mut after = BTreeMap::new();
    let mut comes = None;
    let mut row: Vec<&str> = Vec::new();
    for line in table.lines() {
        let words = line.split_whitespace();
        match line.trim_start_matches(' ').len() {
            left if left + 1 == line.len() => row = words.collect(),
            left if left < line.len() && !line.contains("replacing ") => row.extend(words),
            left if left < line.len() => {}
            _ => {
                comes = match line.trim_end().strip_suffix(':').and_then(|heading| heading.split(' ').next())
                {
                    Some("Installing" | "Upgrading" | "Downgrading" | "Reinstalling") => Some(true),
                    Some("Removing") => Some(false),
                    _ => None,
                };
                row.clear();
            }
        }
        if let (Some(comes), [name, _, version, ..]) = (comes, &row[..]) {
            after.insert((*name).to_owned(), comes.then(|| (*version).to_owned()));
        }
    }
    after
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_transaction_that_was_not_made_is_read_row_by_row() {
        let table = "Dependencies resolved.\n=====\n Package   Arch   Version   Repository   Size\n=====\nInstalling:\n \
                     kiosk-shell   noarch   3.2.10-1   skerry   6.2 k\nInstalling dependencies:\n \
                     a-package-with-a-name-that-is-far-too-long-for-one-line\n                noarch   2:1.0-1   skerry   30  \n     replacing  old-fonts.noarch 1.0-1\nRemoving:\n \
                     quay-fonts   noarch   1.1-1   @skerry   30  \nRemoving dependent packages:\n kiosk-tools   noarch   1.0-1   @skerry   30  \n\n\
                     Transaction Summary\n=====\nRemove  2 Packages\n\nOperation aborted.\n";
        let lines: Vec<String> = reckoned_of(table)
            .into_iter()
            .map(|(name, after)| format!("{name} {}", after.unwrap_or_default()))
            .collect();
        let long = "a-package-with-a-name-that-is-far-too-long-for-one-line 2:1.0-1";
        assert_eq!(lines, [long, "kiosk-shell 3.2.10-1", "kiosk-tools ", "quay-fonts "]);
    }

    #[test]
    fn several_versions_are_a_change_cut_off_unless_they_may_be_there() {
        let lines = "kiosk-shell\t3.1.0-1\tnoarch\nkiosk-shell\t3.2.4-1\tnoarch\nkernel-core\t6.9-1\tx86_64\nkernel-core\t6.10-1\tx86_64\n\
                     quay-fonts\t0:1.1-1\tx86_64\nquay-fonts\t1.1-1\ti686\ngpg-pubkey\t1-1\t(none)\n";
        let known = known_of(lines, &BTreeSet::from(["quay-fonts".to_owned()]));
        let lines: Vec<String> = known
            .iter()
            .map(|(name, package)| format!("{name} {} {:?} {}", package.version, package.state, package.held))
            .collect();
        assert_eq!(
            lines,
            [
                "kernel-core 6.10-1 Installed false",
                "kiosk-shell 3.2.4-1 Broken false",
                "quay-fonts 1.1-1 Installed true"
            ]
        );
    }
}
