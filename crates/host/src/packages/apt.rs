//! Packages by apt and dpkg.

use super::{Fetched, Known, KnownPackage, PackageManager, PackageState, Planned, Reckoned, known_remedy};
use crate::error::HostError;
use crate::files::Files;
use crate::native::{Ended, Native};
use crate::programs::is_root;
use crate::stalls::Stalls;
use constans_core::kind::VersionOrder;
use constans_core::kit::Gone;
use constans_core::run::NativeStep;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// dpkg's database.
pub(crate) const DPKG_STATUS: &str = "/var/lib/dpkg/status";
/// dpkg's lists of the files of its packages.
const LISTS: &str = "/var/lib/dpkg/info";
/// How long apt waits for another program that is changing packages.
const LOCK_PATIENCE: &str = "--option=DPkg::Lock::Timeout=60";

/// What is only reckoned is in no log of apt's planner and solver.
const NO_LOGS: &str = "Dir::Log::Planner \"/dev/null\";\nDir::Log::Solver \"/dev/null\";\n";

/// apt and dpkg under one root.
pub(crate) struct Apt {
    files: Files,
    is_private_root: bool,
    scratch: PathBuf,
    stalls: Stalls,
}

impl Apt {
    /// Returns apt under a root; `scratch` is a folder of the agent's own for its configuration.
    pub fn new(files: Files, is_private_root: bool, scratch: &Path) -> Self {
        Self { files, is_private_root, scratch: scratch.to_owned(), stalls: Stalls::default() }
    }

    fn lists(&self) -> Result<Vec<String>, HostError> {
        Ok(self
            .files
            .list(LISTS)?
            .unwrap_or_default()
            .into_iter()
            .filter(|name| name.ends_with(".list"))
            .collect())
    }

    /// Runs apt to look or to fetch: it may be ended.
    fn apt(&self, program: &str, arguments: impl IntoIterator<Item = String>) -> Result<Ended, HostError> {
        self.run(Native::new(program, arguments.into_iter().collect::<Vec<_>>()).while_it_moves())
    }

    /// Runs apt to look: what it has read it keeps in the agent's own folder, and the machine stays as it is.
    fn look(&self, program: &str, arguments: impl IntoIterator<Item = String>) -> Result<Ended, HostError> {
        let own = |cache: &str| {
            format!("Dir::Cache::{cache} \"{}\";\n", self.scratch.join(format!("{cache}.bin")).display())
        };
        let rest = if self.is_private_root { self.configuration() } else { String::new() };
        let native = Native::new(program, arguments.into_iter().collect::<Vec<_>>()).while_it_moves();
        self.configured(
            native,
            "apt-look.conf",
            &format!("{rest}{}{}{NO_LOGS}", own("pkgcache"), own("srcpkgcache")),
        )
    }

    /// Runs apt to change packages: it is never ended.
    fn change(&self, program: &str, arguments: impl IntoIterator<Item = String>) -> Result<Ended, HostError> {
        self.run(Native::new(program, arguments.into_iter().collect::<Vec<_>>()).to_its_end(&self.stalls))
    }

    fn run(&self, native: Native) -> Result<Ended, HostError> {
        if !self.is_private_root {
            return native.run();
        }
        self.configured(native, "apt.conf", &self.configuration())
    }

    /// Runs apt by a configuration that is read before the machine's own (apt.conf(5)).
    fn configured(&self, native: Native, name: &str, configuration: &str) -> Result<Ended, HostError> {
        let path = self.scratch.join(name);
        std::fs::write(&path, configuration)
            .map_err(|error| HostError::io("write", &path.display().to_string(), &error))?;
        native.env("APT_CONFIG", &path).run()
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
        Native::new("dpkg", all).to_its_end(&self.stalls).run()
    }

    /// What makes apt and dpkg act on a private root and nothing else. Without root's rights dpkg may neither own
    /// files nor change its root; maintainer scripts then run with DPKG_ROOT set, as dpkg(1) says.
    fn configuration(&self) -> String {
        let root = self.files.root().display();
        let unprivileged =
            if is_root() { "" } else { "\"--force-not-root\"; \"--force-script-chrootless\"; " };
        format!(
            "Dir \"{root}\";\nDir::State::status \"{root}/var/lib/dpkg/status\";\nDir::Bin::Methods \"/usr/lib/apt/methods\";\n\
             Dir::Bin::dpkg \"/usr/bin/dpkg\";\nAPT::Sandbox::User \"\";\n\
             DPkg::Options {{ \"--root={root}\"; {unprivileged}\"--log={root}/var/log/dpkg.log\"; }};\n\
             DPkg::Path \"/usr/sbin:/usr/bin:/sbin:/bin\";\nDPkg::Use-Pty \"false\";\n"
        )
    }
}

impl PackageManager for Apt {
    fn name(&self) -> &'static str {
        "apt"
    }

    fn tell_stalls(&mut self, stalls: Stalls) {
        self.stalls = stalls;
    }

    fn order(&self) -> VersionOrder {
        VersionOrder::Dpkg
    }

    fn why_not(&self) -> Result<Option<String>, HostError> {
        let there = self.files.look(DPKG_STATUS)?.is_some();
        Ok((!there).then(|| format!("there is no dpkg database here ({DPKG_STATUS})")))
    }

    /// What dpkg has not written into `status` yet is in `updates`.
    fn database_files(&self) -> Vec<String> {
        vec![DPKG_STATUS.to_owned(), "/var/lib/dpkg/updates".to_owned()]
    }

    fn read_database(&self) -> Result<Known, HostError> {
        let database = self.files.outside("/var/lib/dpkg").display().to_string();
        let format = "${Package}\\t${Version}\\t${db:Status-Want}\\t${db:Status-Status}\\n";
        let ended =
            Native::new("dpkg-query", ["--admindir", &database, "--show", "--showformat", format]).run()?;
        // An empty database makes dpkg-query exit 1 with nothing on its output.
        if !ended.is_well && !ended.step.output.contains("no packages found") {
            return Err(HostError::new("dpkg-query could not read the package database").command(ended.step));
        }
        Ok(ended.stdout.lines().filter_map(known_of_line).collect())
    }

    fn index_fetched_at(&self) -> Option<SystemTime> {
        let entries =
            std::fs::read_dir(self.files.outside("/var/lib/apt/lists")).into_iter().flatten().flatten();
        entries
            .map(|entry| entry.path())
            .filter(|path| path.is_file())
            .filter_map(|path| path.metadata().ok()?.modified().ok())
            .max()
    }

    fn fetch_index(&self) -> Result<Fetched, HostError> {
        let Ended { step, is_well, .. } =
            self.apt("apt-get", ["update".to_owned(), "--quiet".to_owned(), LOCK_PATIENCE.to_owned()])?;
        let complaint =
            step.output.lines().find(|line| line.contains("Failed to fetch") || line.starts_with("E: "));
        let failed = !is_well || complaint.is_some() || step.output.contains("index files failed");
        let lacking = failed.then(|| {
            complaint
                .map_or("apt-get update says why", |line| line.trim_start_matches(['E', 'W', ':', ' ']))
                .to_owned()
        });
        Ok(Fetched { step, lacking })
    }

    fn offered(&self, name: &str) -> Result<(Vec<String>, NativeStep), HostError> {
        let ended = self.look("apt-cache", ["madison".to_owned(), name.to_owned()])?;
        let versions = ended
            .stdout
            .lines()
            .filter_map(|line| line.split('|').nth(1))
            .map(|version| version.trim().to_owned())
            .collect();
        Ok((versions, ended.step))
    }

    fn fetch(&self, name: &str, version: &str) -> Result<Ended, HostError> {
        self.apt("apt-get", install_arguments(name, version, &["--download-only"]))
    }

    fn install(&self, name: &str, version: &str) -> Result<Ended, HostError> {
        self.change("apt-get", install_arguments(name, version, &[]))
    }

    fn remove(&self, name: &str, gone: Gone) -> Result<(Ended, Vec<String>), HostError> {
        let verb = if gone == Gone::WithSettings { "purge" } else { "remove" };
        let ended = self.change("apt-get", ["--yes", LOCK_PATIENCE, verb, name].map(str::to_owned))?;
        Ok((ended, Vec::new()))
    }

    /// What is to be gone ends with a minus sign (apt-get(8)), so that all is one reckoning.
    fn reckon(&self, changes: &[Planned]) -> Result<Reckoned, HostError> {
        let options = [
            "--simulate",
            "--quiet",
            "--option=Debug::NoLocking=true",
            "--allow-downgrades",
            "--allow-change-held-packages",
            "install",
        ];
        let packages = changes.iter().map(|change| match &change.version {
            Some(version) => format!("{}={version}", change.name),
            None => format!("{}-", change.name),
        });
        let ended = self.look("apt-get", options.map(str::to_owned).into_iter().chain(packages))?;
        if !ended.is_well {
            return Err(HostError::new("apt could not simulate the change").command(ended.step));
        }
        Ok(Reckoned {
            after: ended.stdout.lines().filter_map(reckoned_of_line).collect(),
            native: vec![ended.step],
        })
    }

    fn hold(&self, name: &str, hold: bool) -> Result<Ended, HostError> {
        let verb = if hold { "hold" } else { "unhold" };
        self.change("apt-mark", [verb.to_owned(), name.to_owned()])
    }

    fn fix(&self) -> Result<NativeStep, HostError> {
        Ok(self.dpkg(&["--configure", "--pending"])?.step)
    }

    fn wants_mending(&self, refused: &NativeStep) -> bool {
        refused.output.contains("dpkg was interrupted")
    }

    fn paths_of(&self, package: &str) -> Result<Vec<String>, HostError> {
        // For a package of several architectures the list is named after one of them, too.
        match self.lists()?.iter().find(|list| package_of(list) == package) {
            Some(list) => {
                Ok(self.files.read_text(&format!("{LISTS}/{list}"))?.lines().map(str::to_owned).collect())
            }
            None => Ok(Vec::new()),
        }
    }

    fn owner_of(&self, path: &str) -> Result<Option<String>, HostError> {
        for list in self.lists()? {
            if self.files.read_text(&format!("{LISTS}/{list}"))?.lines().any(|line| line == path) {
                return Ok(Some(package_of(&list).to_owned()));
            }
        }
        Ok(None)
    }

    fn owned_below(&self, folder: &str) -> Result<BTreeSet<String>, HostError> {
        let mut owned = BTreeSet::new();
        for list in self.lists()? {
            let text = self.files.read_text(&format!("{LISTS}/{list}"))?;
            owned.extend(
                text.lines()
                    .filter_map(|path| path.strip_prefix(folder))
                    .filter_map(|rest| rest.split('/').next())
                    .map(str::to_owned),
            );
        }
        Ok(owned)
    }

    fn failure(&self, name: &str, step: NativeStep) -> HostError {
        let known: &[(&str, &str)] = &[
            ("could not get lock", "another program is changing packages: the next run retries"),
            ("is locked", "another program is changing packages: the next run retries"),
            (
                "held packages were changed",
                "the package is held at its version: set hold in the clause, or apt-mark unhold it",
            ),
            ("no space left", "the disk is full: free space, then run again"),
            ("unmet dependencies", "the sources do not offer the dependencies of this package"),
            ("failed to fetch", "the package source does not answer, or its index is old"),
            ("script subprocess returned error", "a script of the package failed: see its output"),
        ];
        let holder = step
            .output
            .split("held by process ")
            .nth(1)
            .and_then(|rest| rest.lines().next())
            .map(|rest| rest.trim_end_matches(['.', ' ']));
        let remedy = known_remedy(&step.output, known).map(|remedy| match holder {
            Some(holder) => format!("{remedy}; it is the process {holder}"),
            None => remedy,
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
                format!(
                    "apt could not change {name}, because the package {other} is broken: exit status {exit}"
                )
            }
            _ => format!("apt could not change {name}: exit status {exit}"),
        };
        HostError { remedy, ..HostError::new(message).command(step) }
    }
}

fn install_arguments(name: &str, version: &str, more: &[&str]) -> Vec<String> {
    let options = [
        "--yes",
        LOCK_PATIENCE,
        "--allow-downgrades",
        "--option=Dpkg::Options::=--force-confdef",
        "--option=Dpkg::Options::=--force-confold",
        "install",
    ];
    options
        .iter()
        .chain(more)
        .map(|option| (*option).to_owned())
        .chain([format!("{name}={version}")])
        .collect()
}

/// Reads a line of a simulated change: `Inst name [old] (new where [arch])`, `Remv name [old]`.
fn reckoned_of_line(line: &str) -> Option<(String, Option<String>)> {
    let mut words = line.split_whitespace();
    let verb = words.next()?;
    let name = words.next()?.split(':').next()?.to_owned();
    match verb {
        "Inst" => Some((name, Some(words.find_map(|word| word.strip_prefix('('))?.to_owned()))),
        "Remv" | "Purg" => Some((name, None)),
        _ => None,
    }
}

/// Returns the package that a list is of.
fn package_of(list: &str) -> &str {
    let stem = list.strip_suffix(".list").unwrap_or(list);
    stem.split(':').next().unwrap_or(stem)
}

fn known_of_line(line: &str) -> Option<(String, KnownPackage)> {
    let fields: Vec<&str> = line.split('\t').collect();
    let [name, version, want, status] = fields[..] else { return None };
    let state = match status {
        "installed" | "triggers-awaited" | "triggers-pending" => PackageState::Installed,
        "config-files" => PackageState::OnlySettings,
        "not-installed" => return None,
        _ => PackageState::Broken,
    };
    Some((name.to_owned(), KnownPackage { version: version.to_owned(), state, held: want == "hold" }))
}

/// Any text as what dpkg-query prints.
#[cfg(feature = "fuzzing")]
pub fn fuzz(text: &str) {
    let known: Known = text.lines().filter_map(known_of_line).collect();
    let _: std::collections::BTreeMap<_, _> = text.lines().filter_map(reckoned_of_line).collect();
    assert!(super::changes(&known, &known).is_empty());
}

#[cfg(test)]
mod tests {
    use super::super::changes;
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
    fn a_simulated_change_is_read_line_by_line() {
        let simulation = "Reading package lists...\nRemv kiosk-tools [1.0]\nInst kiosk-shell [3.1.9] (3.2.4 Skerry Line:stable [all])\n\
                    Inst libquay1:amd64 (2.0-1 Skerry Line:stable [amd64]) []\nConf kiosk-shell (3.2.4 Skerry Line:stable [all])\nInst\n";
        let lines: Vec<String> = simulation
            .lines()
            .filter_map(reckoned_of_line)
            .map(|(name, after)| format!("{name} {after:?}"))
            .collect();
        assert_eq!(lines, ["kiosk-tools None", "kiosk-shell Some(\"3.2.4\")", "libquay1 Some(\"2.0-1\")"]);
    }

    #[test]
    fn all_that_came_went_or_changed_is_listed() {
        let database =
            |lines: &[&str]| lines.iter().filter_map(|line| known_of_line(line)).collect::<Known>();
        let before = database(&[
            "a\t1.0\tinstall\tinstalled",
            "b\t1.0\tinstall\tinstalled",
            "c\t1.0\tinstall\tinstalled",
        ]);
        let after = database(&[
            "a\t1.1\tinstall\tinstalled",
            "b\t1.0\tinstall\tinstalled",
            "c\t1.0\tdeinstall\tconfig-files",
            "d\t1.0\tinstall\tinstalled",
        ]);
        let lines: Vec<String> = changes(&before, &after)
            .iter()
            .map(|change| {
                format!("{} {:?} {:?}", change.package, change.before.as_deref(), change.after.as_deref())
            })
            .collect();
        assert_eq!(lines, ["a Some(\"1.0\") Some(\"1.1\")", "c Some(\"1.0\") None", "d None Some(\"1.0\")"]);
    }
}
