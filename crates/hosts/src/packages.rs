//! Package scenarios with real apt and dpkg.

use crate::kinds::{differences, must};
use crate::lab::{Failed, Host, print_result};
use crate::repository::Repository;
use constans_core::run::{Outcome, PackageChange, Status};
use constans_world::{Package, package};

type Check = fn(Host<'_>, &Repository) -> Result<(), Failed>;

const CHECKS: &[(&str, Check)] = &[
    ("exact, pattern, range, newest and downgrade choose the right version", versions),
    ("all that came along is listed", all_changes),
    ("what a removal takes along is known before, is what happens, and a clause may refuse it", taken_along),
    ("a version that the index does not know is fetched after the index was", index_refreshed),
    ("an index that cannot be fetched is reported, with what the old one knows", index_not_fetched),
    ("no such version: the error says which there are", no_such_version),
    ("a held package is left, and the error says that it is held", held),
    ("a kept file stays kept when its package brings another", kept_file),
    ("a package whose script fails is reported with its output, and the rest goes on", failing_script),
    ("an installation that was cut off is fixed by the next run", cut_off),
    ("a lock that another program holds is waited for, and its holder named", lock_held),
    ("a key with another fingerprint is not trusted", wrong_key),
];

/// Goes through all checks; returns how many failed.
pub fn all(host: Host<'_>, repository: &Repository) -> usize {
    println!("\npackages");
    CHECKS.iter().map(|(what, check)| print_result(what, check(host, repository))).sum()
}

/// Writes a document and returns the agent's arguments for it.
pub fn document(host: Host<'_>, name: &str, clauses: &str) -> Result<String, Failed> {
    let path = format!("/srv/documents/{name}.toml");
    host.write(&path, &format!("[baseline]\nname = \"{name}\"\n\n{clauses}"))?;
    Ok(format!("--file {path}"))
}

fn version_of(host: Host<'_>, name: &str) -> Result<String, Failed> {
    host.shell(&format!("dpkg-query -W -f '${{Version}}' {name} 2>/dev/null || true"))
}

fn versions(host: Host<'_>, _: &Repository) -> Result<(), Failed> {
    for (requirement, comes) in [
        ("3.1.0", "3.1.0"),
        ("3.2.*", "3.2.4"),
        (">= 3.1, < 3.2", "3.1.0"),
        ("newest", "3.2.4"),
        ("3.2.1", "3.2.1"),
    ] {
        let wanted = document(
            host,
            "versions",
            &format!("[[clause]]\nwhat = \"package:kiosk-shell\"\nversion = \"{requirement}\"\n"),
        )?;
        let report = host.agent(&format!("enforce --yes {wanted}"))?;
        must(
            version_of(host, "kiosk-shell")? == comes,
            &format!("`{requirement}` did not come to {comes}"),
            &report,
        )?;
        let again = host.agent(&format!("enforce --yes {wanted}"))?;
        must(again.status == Status::InLine, "the next run was not idle", &again)?;
    }
    Ok(())
}

fn all_changes(host: Host<'_>, _: &Repository) -> Result<(), Failed> {
    host.shell("apt-get purge -y kiosk-shell quay-fonts >/dev/null 2>&1")?;
    let wanted = document(host, "all", "[[clause]]\nwhat = \"package:kiosk-shell\"\nversion = \"3.2.4\"\n")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    let lines: Vec<String> = report.clauses[0]
        .packages
        .iter()
        .map(|change| format!("{} {:?}", change.package, change.after.as_deref()))
        .collect();
    must(
        lines == ["kiosk-shell Some(\"3.2.4\")", "quay-fonts Some(\"1.1\")"],
        &format!("listed were {lines:?}"),
        &report,
    )
}

fn taken_along(host: Host<'_>, _: &Repository) -> Result<(), Failed> {
    let clause = "[[clause]]\nwhat = \"package:quay-fonts\"\ngone = true\n";
    let (fonts, alone) =
        (document(host, "fonts", clause)?, document(host, "alone", &format!("{clause}only_alone = true\n"))?);
    let observed = host.agent(&format!("observe {fonts}"))?;
    let package_preview = observed
        .package_preview
        .as_ref()
        .map(|package_preview| package_preview.packages.clone())
        .unwrap_or_default();
    let changes: Vec<String> = package_preview.iter().map(PackageChange::words).collect();
    must(
        changes == ["kiosk-shell 3.2.4 is removed", "quay-fonts 1.1 is removed"],
        &format!("package_preview was {changes:?}"),
        &observed,
    )?;
    let refused = host.agent(&format!("enforce --yes {alone}"))?;
    must(version_of(host, "quay-fonts")? == "1.1", "it was removed though something goes with it", &refused)?;
    let report = host.agent(&format!("enforce --yes {fonts}"))?;
    // What comes after finds it installed.
    host.agent(&format!(
        "enforce --yes {}",
        document(host, "again", "[[clause]]\nwhat = \"package:kiosk-shell\"\nversion = \"3.2.4\"\n")?
    ))?;
    must(
        report.clauses[0].packages == package_preview,
        "something else happened than was package_preview",
        &report,
    )
}

fn index_refreshed(host: Host<'_>, repository: &Repository) -> Result<(), Failed> {
    const NEW: &[Package] = &[package("quay-lamps", "1.0")];
    repository.offer(NEW)?;
    let wanted = document(host, "lamps", "[[clause]]\nwhat = \"package:quay-lamps\"\n")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    must(version_of(host, "quay-lamps")? == "1.0", "it was not installed", &report)?;
    let steps: Vec<&str> = report.clauses[0].native.iter().map(|step| step.what.as_str()).collect();
    must(
        steps.iter().any(|step| step.starts_with("apt-get update")),
        &format!("the index was not fetched: {steps:?}"),
        &report,
    )
}

fn index_not_fetched(host: Host<'_>, _: &Repository) -> Result<(), Failed> {
    host.shell("echo 'deb [trusted=yes] http://192.0.2.99:81/ ./' > /etc/apt/sources.list.d/away.list; echo 'Acquire::http::Timeout \"1\"; Acquire::Retries \"0\";' > /etc/apt/apt.conf.d/99short")?;
    let wanted = document(host, "away", "[[clause]]\nwhat = \"package:kiosk-shell\"\nversion = \"9.*\"\n")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    host.shell("rm /etc/apt/sources.list.d/away.list /etc/apt/apt.conf.d/99short")?;
    let failure = report.clauses[0].failure.as_ref().ok_or("it did not fail")?;
    must(failure.message.contains("the package index could not be refreshed"), &failure.message, &report)?;
    let remedy = failure.remedy.as_deref().unwrap_or_default();
    must(remedy.contains("192.0.2.99") && remedy.contains("3.2.4"), remedy, &report)
}

fn no_such_version(host: Host<'_>, _: &Repository) -> Result<(), Failed> {
    let wanted = document(host, "none", "[[clause]]\nwhat = \"package:kiosk-shell\"\nversion = \"9.*\"\n")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    let failure = report.clauses[0].failure.as_ref().ok_or("it did not fail")?;
    must(failure.message == "no offered version of kiosk-shell matches 9.*", &failure.message, &report)?;
    let remedy = failure.remedy.as_deref().unwrap_or_default();
    must(remedy.contains("3.1.0") && remedy.contains("3.2.4"), remedy, &report)
}

fn held(host: Host<'_>, _: &Repository) -> Result<(), Failed> {
    host.shell("apt-get install -y --allow-downgrades --allow-change-held-packages gate-reader=2.1.4 >/dev/null 2>&1; apt-mark hold gate-reader")?;
    let wanted = document(host, "held", "[[clause]]\nwhat = \"package:gate-reader\"\nversion = \"2.2.0\"\n")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    let remedy =
        report.clauses[0].failure.as_ref().and_then(|failure| failure.remedy.clone()).unwrap_or_default();
    must(
        version_of(host, "gate-reader")? == "2.1.4" && remedy.contains("hold"),
        &format!("the remedy is `{remedy}`"),
        &report,
    )?;
    let wanted = document(
        host,
        "held",
        "[[clause]]\nwhat = \"package:gate-reader\"\nversion = \"2.2.0\"\nhold = true\n",
    )?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    let holds = host.shell("apt-mark showhold")?;
    must(
        version_of(host, "gate-reader")? == "2.2.0" && holds.contains("gate-reader"),
        "the clause that keeps the hold did not move it",
        &report,
    )
}

fn kept_file(host: Host<'_>, _: &Repository) -> Result<(), Failed> {
    let clauses = |version: &str| {
        format!(
            "[[clause]]\nwhat = \"package:quay-games\"\nversion = \"{version}\"\n\n[[clause]]\nwhat = \"file:/etc/quay-games.conf\"\ntext = \"high_score = 7\\n\"\nneeds = [\"package:quay-games\"]\n"
        )
    };
    let wanted = document(host, "games", &clauses("1.0"))?;
    host.agent(&format!("enforce --yes {wanted}"))?;
    let wanted = document(host, "games", &clauses("1.1"))?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    must(version_of(host, "quay-games")? == "1.1", "it was not upgraded", &report)?;
    must(
        host.shell("cat /etc/quay-games.conf")? == "high_score = 7\n",
        "the package's file took the place of the kept one",
        &report,
    )?;
    must(report.clauses.iter().all(|clause| clause.failure.is_none()), "something failed", &report)
}

fn failing_script(host: Host<'_>, _: &Repository) -> Result<(), Failed> {
    let wanted = document(
        host,
        "voucher",
        "[[clause]]\nwhat = \"package:voucher-driver\"\n\n[[clause]]\nwhat = \"file:/etc/after\"\ntext = \"x\\n\"\n",
    )?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    let output = report.clauses[0]
        .failure
        .as_ref()
        .and_then(|failure| failure.command.as_ref())
        .map(|step| step.output.clone())
        .unwrap_or_default();
    must(output.contains("no voucher printer is connected"), &format!("the output is `{output}`"), &report)?;
    must(report.clauses[1].outcome == Outcome::Corrected, "what came after it was not done", &report)?;
    let gone = document(
        host,
        "voucher",
        "[[clause]]\nwhat = \"package:voucher-driver\"\ngone = \"with_settings\"\n",
    )?;
    let report = host.agent(&format!("enforce --yes {gone}"))?;
    must(report.clauses[0].outcome == Outcome::Corrected, "what is half-installed was not removed", &report)
}

fn cut_off(host: Host<'_>, _: &Repository) -> Result<(), Failed> {
    let wanted = document(host, "tides", "[[clause]]\nwhat = \"package:quay-tides\"\n")?;
    // The agent, apt and dpkg are killed while the package's script runs.
    host.shell(&format!(
        "constans-agent enforce --yes {wanted} >/dev/null 2>&1 & for i in $(seq 100); do pgrep -f quay-tides.postins[t] >/dev/null && break; sleep 0.1; done; pkill -9 -x constans-agent; pkill -9 -x apt-get; pkill -9 -x dpkg; pkill -9 -f quay-tides.postins[t]; wait; true"
    ))?;
    let state = host.shell("dpkg-query -W -f '${db:Status-Status}' quay-tides")?;
    if state == "installed" {
        return Err("it was installed before it could be cut off: the check checks nothing".to_owned());
    }
    let seen = host.agent(&format!("observe {wanted}"))?;
    must(
        differences(&seen).iter().any(|lines| lines.contains("half-installed")),
        "observe does not say half-installed",
        &seen,
    )?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    must(report.clauses[0].outcome == Outcome::Corrected, "it was not fixed", &report)?;
    must(host.shell("dpkg --audit")?.is_empty(), "dpkg is not in order", &report)
}

fn lock_held(host: Host<'_>, _: &Repository) -> Result<(), Failed> {
    host.shell("apt-get purge -y quay-tides quay-lamps >/dev/null 2>&1; systemctl reset-failed; systemd-run -q --unit=slow apt-get install -y quay-tides; for i in $(seq 200); do pgrep -f quay-tides.postins[t] >/dev/null && break; sleep 0.1; done")?;
    let wanted = document(host, "waits", "[[clause]]\nwhat = \"package:quay-lamps\"\n")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    must(report.clauses[0].outcome == Outcome::Corrected, "it did not wait for the other program", &report)?;
    let lines = report.clauses[0].native.iter().any(|step| step.output.contains("held by process"));
    must(lines, "nothing says who held the lock", &report)
}

fn wrong_key(host: Host<'_>, repository: &Repository) -> Result<(), Failed> {
    host.write("/srv/kits/wrong/kit.toml", "[kit]\nname = \"wrong\"\nversion = \"1.0.0\"\n")?;
    host.write("/srv/kits/wrong/copies/skerry.asc", &repository.texts.key)?;
    let other = "0".repeat(40);
    let clause = format!(
        "[[clause]]\nwhat = \"package_source:other\"\nurl = \"http://hub:8080\"\nsuite = \"./\"\nsigned_by = \"skerry.asc\"\nfingerprint = \"{other}\"\n"
    );
    host.write("/srv/kits/wrong/baselines/one.toml", &format!("[baseline]\nname = \"one\"\n\n{clause}"))?;
    let report = host.agent("enforce --yes --kit /srv/kits/wrong")?;
    let message =
        report.clauses[0].failure.as_ref().map(|failure| failure.message.clone()).unwrap_or_default();
    must(message.contains(&repository.texts.fingerprint), &message, &report)?;
    must(
        host.try_shell("ls /etc/apt/sources.list.d/other.sources /etc/apt/keyrings/other.asc")?.exit != 0,
        "something was written",
        &report,
    )
}
