//! Packages by real rpm and dnf, in a private root with a database of its own.

use crate::kinds::{differences, must};
use crate::lab::{Failed, print_result};
use crate::repository::{Repository, run};
use constans_core::run::{Outcome, PackageChange, Status};
use constans_wire::report::RunReport;
use constans_world::{Package, package};
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::process::Command;

type Check = fn(&Root) -> Result<(), Failed>;

const CHECKS: &[(&str, Check)] = &[
    ("a source whose key is another one is not trusted, and its packages are not installed", untrusted),
    ("exact, pattern, range, newest and downgrade choose the right version", versions),
    ("all that came along is listed, and the file's owner is reported", all_changes),
    ("what a removal takes along is known before, is what happens, and a clause may refuse it", taken_along),
    ("no such version: the error says which there are", no_such_version),
    ("what somebody holds is left, and the error says so; the clause that keeps the hold moves it", held),
    (
        "settings that somebody changed go with the package where they are to go, into the attic",
        settings_gone,
    ),
    ("a package whose script fails is reported with its output", failing_script),
    ("an upgrade that was cut off is reported, and fixed by the next run", cut_off),
    ("a lock that another program holds is waited for", lock_held),
    ("an index that cannot be fetched is reported, with what the old one knows", index_not_fetched),
];

const SETTINGS: &str = "/etc/quay-games.conf";

/// What the repository offers. The scripts are in rpm's own language, so that they need no programs in the root.
const PACKAGES: &[Package] = &[
    Package { depends: "quay-fonts", ..package("kiosk-shell", "3.1.0") },
    Package { depends: "quay-fonts", ..package("kiosk-shell", "3.2.1") },
    Package { depends: "quay-fonts >= 1.1", ..package("kiosk-shell", "3.2.10") },
    package("quay-fonts", "1.0"),
    package("quay-fonts", "1.1"),
    Package { settings: Some((SETTINGS, "high_score = 0\n")), ..package("quay-games", "1.0") },
    Package {
        after_install: "error(\"no voucher printer is connected\")",
        ..package("voucher-driver", "0.4")
    },
    Package { after_install: "posix.sleep(4)", ..package("quay-tides", "1.0") },
    package("quay-lamps", "1.0"),
];

/// Goes through all checks; returns how many failed.
pub fn all(repository: &Repository) -> Result<usize, Failed> {
    println!("\nrpm, in a private root of this machine");
    let root = Root::new(repository)?;
    Ok(CHECKS.iter().map(|(what, check)| print_result(what, check(&root))).sum())
}

/// A root with nothing but an empty rpm database, and a repository for it.
struct Root {
    folder: tempfile::TempDir,
    fingerprint: String,
}

impl Root {
    fn new(signer: &Repository) -> Result<Self, Failed> {
        let folder = tempfile::tempdir().map_err(|error| error.to_string())?;
        let root = Self { folder, fingerprint: signer.texts.fingerprint.clone() };
        root.write("root/etc/os-release", "ID=fedora\nVERSION_ID=39\n")?;
        for folder in ["root/etc/yum.repos.d", "root/var/lib/rpm", "state"] {
            fs::create_dir_all(root.path(folder)).map_err(|error| error.to_string())?;
        }
        root.rpm(&["--initdb"])?;
        root.write("kit/copies/skerry.asc", &signer.texts.key)?;
        for package in PACKAGES {
            root.build(package)?;
        }
        let mut sign = Command::new("rpmsign");
        sign.args([
            "--define",
            "__gpg /usr/bin/gpg",
            "--define",
            "_gpg_name ops@skerry.example",
            "--define",
            &format!("_gpg_path {}", signer.keys().display()),
            "--addsign",
        ]);
        sign.args(root.built()?);
        run(&mut sign)?;
        run(Command::new("createrepo_c").arg("--quiet").arg(root.path("repository")))?;
        Ok(root)
    }

    fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    fn write(&self, path: &str, text: &str) -> Result<(), Failed> {
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap_or(Path::new("/")))
            .and_then(|()| fs::write(&path, text))
            .map_err(|error| format!("{path:?}: {error}"))
    }

    fn build(&self, package: &Package) -> Result<(), Failed> {
        let Package { name, version, depends, after_install, .. } = package;
        let mut spec = format!(
            "Name: {name}\nVersion: {version}\nRelease: 1\nSummary: {name} of Skerry Line\nLicense: MIT\nBuildArch: noarch\n"
        );
        if !depends.is_empty() {
            spec += &format!("Requires: {depends}\n");
        }
        spec += &format!(
            "%description\n{name}\n%install\nmkdir -p %{{buildroot}}/usr/share/{name} %{{buildroot}}/etc\n"
        );
        spec += &format!("echo {version} > %{{buildroot}}/usr/share/{name}/version\n");
        if let Some((path, contents)) = package.settings {
            spec += &format!("printf '{}' > %{{buildroot}}{path}\n", contents.replace('\n', "\\n"));
        }
        if !after_install.is_empty() {
            // What runs before fails the installation; what runs after may take its time.
            let when = if after_install.starts_with("error") { "pre" } else { "post" };
            spec += &format!("%{when} -p <lua>\n{after_install}\n");
        }
        spec += &format!("%files\n/usr/share/{name}/version\n");
        if let Some((path, _)) = package.settings {
            spec += &format!("%config(noreplace) {path}\n");
        }
        self.write("spec", &spec)?;
        let define = |name: &str, folder: &str| {
            ["--define".to_owned(), format!("{name} {}", self.path(folder).display())]
        };
        run(Command::new("rpmbuild")
            .args(define("_topdir", "build"))
            .args(define("_rpmdir", "repository"))
            .arg("-bb")
            .arg(self.path("spec")))?;
        Ok(())
    }

    fn built(&self) -> Result<Vec<PathBuf>, Failed> {
        let entries = fs::read_dir(self.path("repository/noarch")).map_err(|error| error.to_string())?;
        Ok(entries.flatten().map(|entry| entry.path()).collect())
    }

    fn rpm(&self, arguments: &[&str]) -> Result<String, Failed> {
        run(Command::new("rpm").arg("--dbpath").arg(self.path("root/var/lib/rpm")).args(arguments))
    }

    fn version_of(&self, name: &str) -> Option<String> {
        self.rpm(&["--query", "--queryformat", "%{VERSION}", name]).ok()
    }

    /// The agent's own command for this root.
    fn command(&self, arguments: &[&str]) -> Result<Command, Failed> {
        let program =
            std::env::current_exe().map_err(|error| error.to_string())?.with_file_name("constans-agent");
        let mut command = Command::new(program);
        command
            .args(arguments)
            .arg("--root")
            .arg(self.path("root"))
            .arg("--state-dir")
            .arg(self.path("state"));
        Ok(command)
    }

    /// Observes or enforces these clauses, after the package source.
    fn agent(&self, way: &str, clauses: &str) -> Result<RunReport, Failed> {
        self.agent_from(way, "repository", &self.fingerprint, clauses)
    }

    fn agent_from(
        &self,
        way: &str,
        repository: &str,
        fingerprint: &str,
        clauses: &str,
    ) -> Result<RunReport, Failed> {
        let url = self.path(repository);
        let source = format!(
            "[[clause]]\nwhat = \"package_source:skerry\"\nurl = \"file://{}\"\nsigned_by = \"skerry.asc\"\nfingerprint = \"{fingerprint}\"\n",
            url.display()
        );
        self.write("kit/kit.toml", "[kit]\nname = \"quay-base\"\nversion = \"1.0.0\"\n")?;
        self.write(
            "kit/baselines/packages.toml",
            &format!("[baseline]\nname = \"packages\"\n\n{source}\n{clauses}"),
        )?;
        let kit = self.path("kit").display().to_string();
        let mut arguments = vec![way, "--output", "json", "--kit", &kit];
        if way == "enforce" {
            arguments.push("--yes");
        }
        let output = self.command(&arguments)?.output().map_err(|error| error.to_string())?;
        serde_json::from_slice(&output.stdout)
            .map_err(|error| format!("no report ({error}): {}", String::from_utf8_lossy(&output.stderr)))
    }
}

fn wanted(name: &str, version: &str) -> String {
    format!("[[clause]]\nwhat = \"package:{name}\"\nversion = \"{version}\"\n")
}

fn remedy_of(report: &RunReport) -> &str {
    report.clauses.iter().find_map(|clause| clause.failure.as_ref()?.remedy.as_deref()).unwrap_or_default()
}

fn untrusted(root: &Root) -> Result<(), Failed> {
    let report = root.agent_from("enforce", "repository", &"0".repeat(40), &wanted("quay-lamps", "1.0"))?;
    let message =
        report.clauses[0].failure.as_ref().map(|failure| failure.message.clone()).unwrap_or_default();
    must(message.contains(&root.fingerprint), &message, &report)?;
    must(!root.path("root/etc/yum.repos.d/skerry.repo").exists(), "something was written", &report)?;
    // The same repository as someone would write it who names no key.
    root.write(
        "root/etc/yum.repos.d/other.repo",
        &format!("[other]\nname=other\nbaseurl=file://{}\n", root.path("repository").display()),
    )?;
    let report = root.agent_from("enforce", "repository", &"0".repeat(40), &wanted("quay-lamps", "1.0"))?;
    fs::remove_file(root.path("root/etc/yum.repos.d/other.repo")).map_err(|error| error.to_string())?;
    must(
        report.clauses[1].outcome == Outcome::Failed && root.version_of("quay-lamps").is_none(),
        "it was installed",
        &report,
    )?;
    let remedy =
        report.clauses[1].failure.as_ref().and_then(|failure| failure.remedy.clone()).unwrap_or_default();
    must(remedy.contains("signed_by"), &format!("the remedy is `{remedy}`"), &report)
}

fn versions(root: &Root) -> Result<(), Failed> {
    let wishes = [
        ("3.1.0", "3.1.0"),
        ("3.2.*", "3.2.10"),
        (">= 3.1, < 3.2", "3.1.0"),
        ("newest", "3.2.10"),
        ("3.2.1-1", "3.2.1"),
    ];
    for (requirement, comes) in wishes {
        let report = root.agent("enforce", &wanted("kiosk-shell", requirement))?;
        must(
            root.version_of("kiosk-shell").as_deref() == Some(comes),
            &format!("`{requirement}` did not come to {comes}"),
            &report,
        )?;
        let again = root.agent("enforce", &wanted("kiosk-shell", requirement))?;
        must(
            again.status == Status::InLine,
            &format!("the next run for `{requirement}` was not idle"),
            &again,
        )?;
    }
    Ok(())
}

fn all_changes(root: &Root) -> Result<(), Failed> {
    root.agent("enforce", "[[clause]]\nwhat = \"package:quay-fonts\"\ngone = true\n")?;
    let report = root.agent("enforce", &wanted("kiosk-shell", "3.2.10"))?;
    let lines: Vec<String> = report.clauses[1]
        .packages
        .iter()
        .map(|change| format!("{} {:?}", change.package, change.after.as_deref()))
        .collect();
    must(
        lines == ["kiosk-shell Some(\"3.2.10-1\")", "quay-fonts Some(\"1.1-1\")"],
        &format!("listed were {lines:?}"),
        &report,
    )?;
    let gone = root.agent("enforce", "[[clause]]\nwhat = \"package:kiosk-shell\"\ngone = true\n")?;
    must(
        root.version_of("quay-fonts").is_some() && gone.clauses[1].packages.len() == 1,
        "more than what the clause names went",
        &gone,
    )?;
    let output = root
        .command(&["inspect", "file", "/usr/share/quay-fonts/version"])?
        .output()
        .map_err(|error| error.to_string())?;
    let lines = String::from_utf8_lossy(&output.stdout).into_owned();
    must(lines.contains("the package quay-fonts owns it"), &lines, &gone)
}

fn taken_along(root: &Root) -> Result<(), Failed> {
    root.agent("enforce", &wanted("kiosk-shell", "3.2.10"))?;
    let clause = "[[clause]]\nwhat = \"package:quay-fonts\"\ngone = true\n";
    let observed = root.agent("observe", clause)?;
    let package_preview = observed
        .package_preview
        .as_ref()
        .map(|package_preview| package_preview.packages.clone())
        .unwrap_or_default();
    let changes: Vec<String> = package_preview.iter().map(PackageChange::words).collect();
    must(
        changes == ["kiosk-shell 3.2.10-1 is removed", "quay-fonts 1.1-1 is removed"],
        &format!("package_preview was {:?}", observed.package_preview),
        &observed,
    )?;
    let refused = root.agent("enforce", &format!("{clause}only_alone = true\n"))?;
    must(root.version_of("quay-fonts").is_some(), "it was removed though something goes with it", &refused)?;
    let report = root.agent("enforce", clause)?;
    must(
        report.clauses[1].packages == package_preview,
        "something else happened than was package_preview",
        &report,
    )?;
    let comes = root.agent("observe", &wanted("kiosk-shell", "3.2.10"))?;
    let changes: Vec<String> = comes
        .package_preview
        .iter()
        .flat_map(|package_preview| &package_preview.packages)
        .map(PackageChange::words)
        .collect();
    must(
        changes == ["kiosk-shell 3.2.10-1 is installed", "quay-fonts 1.1-1 is installed"],
        &format!("package_preview was {changes:?}"),
        &comes,
    )
}

fn no_such_version(root: &Root) -> Result<(), Failed> {
    let report = root.agent("enforce", &wanted("kiosk-shell", "9.*"))?;
    let remedy = remedy_of(&report);
    must(
        remedy.contains("3.1.0-1") && remedy.contains("3.2.10-1"),
        &format!("the remedy is `{remedy}`"),
        &report,
    )
}

fn held(root: &Root) -> Result<(), Failed> {
    root.agent("enforce", &format!("{}hold = true\n", wanted("kiosk-shell", "3.1.0")))?;
    let report = root.agent("enforce", &wanted("kiosk-shell", "3.2.10"))?;
    let remedy = remedy_of(&report).to_owned();
    must(
        root.version_of("kiosk-shell").as_deref() == Some("3.1.0") && remedy.contains("hold"),
        &format!("the remedy is `{remedy}`"),
        &report,
    )?;
    let report = root.agent("enforce", &format!("{}hold = true\n", wanted("kiosk-shell", "3.2.10")))?;
    must(
        root.version_of("kiosk-shell").as_deref() == Some("3.2.10"),
        "the clause that keeps the hold did not move it",
        &report,
    )?;
    let again = root.agent("enforce", &format!("{}hold = true\n", wanted("kiosk-shell", "3.2.10")))?;
    must(again.status == Status::InLine, "the next run was not idle", &again)?;
    let free = root.agent("enforce", &format!("{}hold = false\n", wanted("kiosk-shell", "3.2.10")))?;
    must(free.clauses[1].outcome == Outcome::Corrected, "it was not let go of", &free)
}

fn settings_gone(root: &Root) -> Result<(), Failed> {
    root.agent("enforce", &wanted("quay-games", "1.0"))?;
    root.write("root/etc/quay-games.conf", "high_score = 7\n")?;
    let report =
        root.agent("enforce", "[[clause]]\nwhat = \"package:quay-games\"\ngone = \"with_settings\"\n")?;
    must(report.clauses[1].outcome == Outcome::Corrected, "it was not removed", &report)?;
    let saved = root.path("root/etc/quay-games.conf.rpmsave");
    must(
        !saved.exists() && report.clauses[1].kept.len() == 1,
        "the changed settings did not go into the attic",
        &report,
    )
}

fn failing_script(root: &Root) -> Result<(), Failed> {
    let clauses = format!(
        "{}\n[[clause]]\nwhat = \"file:/etc/after\"\ntext = \"x\\n\"\n",
        wanted("voucher-driver", "0.4")
    );
    let report = root.agent("enforce", &clauses)?;
    let output = report.clauses[1]
        .failure
        .as_ref()
        .and_then(|failure| failure.command.as_ref())
        .map(|step| step.output.clone())
        .unwrap_or_default();
    must(output.contains("no voucher printer is connected"), &format!("the output is `{output}`"), &report)?;
    must(report.clauses[2].outcome == Outcome::Corrected, "what came after it was not done", &report)
}

fn cut_off(root: &Root) -> Result<(), Failed> {
    root.agent("enforce", &wanted("kiosk-shell", "3.1.0"))?;
    // What a power cut between the new version and the removal of the old one leaves.
    let newer = root.path("repository/noarch/kiosk-shell-3.2.10-1.noarch.rpm").display().to_string();
    root.rpm(&[
        "--root",
        &root.path("root").display().to_string(),
        "--dbpath",
        "/var/lib/rpm",
        "--install",
        "--force",
        "--justdb",
        "--nosignature",
        &newer,
    ])?;
    let seen = root.agent("observe", &wanted("kiosk-shell", "3.2.10"))?;
    must(
        differences(&seen).iter().any(|lines| lines.contains("half-installed")),
        "observe does not say half-installed",
        &seen,
    )?;
    let report = root.agent("enforce", &wanted("kiosk-shell", "3.2.10"))?;
    must(report.clauses[1].outcome == Outcome::Corrected, "it was not fixed", &report)?;
    let all = root.rpm(&["--query", "kiosk-shell"])?;
    must(all.lines().count() == 1, &format!("there are still {all}"), &report)
}

fn lock_held(root: &Root) -> Result<(), Failed> {
    let mut slow = root.slow()?;
    let began = std::time::Instant::now();
    let report = root.agent("enforce", &wanted("quay-lamps", "1.0"))?;
    let waited = began.elapsed();
    slow.wait().map_err(|error| error.to_string())?;
    must(report.clauses[1].outcome == Outcome::Corrected, "it did not wait for the other program", &report)?;
    must(
        waited.as_secs() >= 2,
        &format!("the other program was over before, after {waited:?}: the check checks nothing"),
        &report,
    )
}

fn index_not_fetched(root: &Root) -> Result<(), Failed> {
    root.agent("enforce", &wanted("quay-lamps", "1.0"))?;
    fs::rename(root.path("repository/repodata"), root.path("repository/away"))
        .map_err(|error| error.to_string())?;
    let report = root.agent("enforce", &wanted("quay-lamps", "9.*"))?;
    let message =
        report.clauses[1].failure.as_ref().map(|failure| failure.message.clone()).unwrap_or_default();
    must(message.contains("the package index could not be refreshed"), &message, &report)
}

impl Root {
    /// Starts a run of another agent that holds the lock while a package's script sleeps, and waits until it does.
    fn slow(&self) -> Result<std::process::Child, Failed> {
        let document = "[baseline]\nname = \"tides\"\n\n[[clause]]\nwhat = \"package:quay-tides\"\n";
        self.write("tides.toml", document)?;
        let file = self.path("tides.toml").display().to_string();
        let program =
            std::env::current_exe().map_err(|error| error.to_string())?.with_file_name("constans-agent");
        let mut command = Command::new(program);
        command
            .args(["enforce", "--yes", "--output", "json", "--file", &file])
            .arg("--root")
            .arg(self.path("root"));
        command.arg("--state-dir").arg(self.path("state-of-another")).stdout(std::process::Stdio::null());
        let child = command.spawn().map_err(|error| error.to_string())?;
        let lock =
            fs::metadata(self.path("root/var/lib/rpm/.rpm.lock")).map_err(|error| error.to_string())?;
        for _ in 0..200 {
            let locks = fs::read_to_string("/proc/locks").map_err(|error| error.to_string())?;
            if locks.contains(&format!(":{} ", lock.ino())) {
                return Ok(child);
            }
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
        Err("the other program never held the lock".to_owned())
    }
}
