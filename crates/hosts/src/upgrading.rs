//! Versions of the agent in waves: installed, gone back from, and killed at each step.

use crate::agent_packages::{EARLIER, NAME, Packages, own_version};
use crate::hub::Hub;
use crate::lab::{Failed, Host};
use crate::repository::run;
use crate::steps::SOON;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

/// A version whose agent ends as soon as it starts.
const BROKEN: &str = "0.0.8";
/// A new agent has this many seconds to report.
const REPORT_WITHIN: u32 = 15;
/// How long an upgrade takes at most, with a power cut and going back.
const UPGRADED: Duration = Duration::from_secs(90);
/// How an agent is started that is no service.
const BY_ITSELF: &str = "setsid --fork sh -c '/usr/bin/constans-agent daemon --report-within 15; echo it ended with $?' > /run/agent.log 2>&1";
/// The process of the daemon, as it notes it.
const PROCESS: &str = "grep -o '\"pid\": *[0-9]*' /var/lib/constans/daemon.json";

/// A version goes to the agent and is reported, although its guard is killed while it installs, and then the power is cut.
pub fn in_waves(hub: &Hub<'_>, host: Host<'_>, packages: &Packages) -> Result<(), Failed> {
    let broken = packages.folder().join(format!("constans-agent_{BROKEN}_broken.deb"));
    build_broken(&packages.file("deb", EARLIER)?, &broken)?;
    hub.client(&["agent-package", "add", &broken.display().to_string()])?;
    host.write(
        "/etc/systemd/system/constans-agent.service.d/lab.conf",
        &format!("[Service]\nExecStart=\nExecStart=/usr/bin/constans-agent daemon --report-within {REPORT_WITHIN}\n"),
    )?;
    for edit in [["mode", "enforce"], ["interval_secs", "10"]] {
        hub.client(&["group", "setting", "everyone", edit[0], edit[1]])?;
    }
    host.shell("systemctl daemon-reload && systemctl restart constans-agent")?;
    let change = begin(hub, EARLIER)?;
    at_step(host, "installing")?;
    kill_guard(host)?;
    host.power_cut()?;
    is_version(host, EARLIER)?;
    done(hub, &change, EARLIER)
}

/// The agent of the broken version is gone back from, whatever its guard is killed at, and its rollout halts.
pub fn broken(hub: &Hub<'_>, host: Host<'_>, _: &Packages) -> Result<(), Failed> {
    let change = begin(hub, BROKEN)?;
    for step in ["installing", "waiting", "going_back"] {
        at_step(host, step)?;
        kill_guard(host)?;
    }
    halted(hub, host, &change)?;
    hub.client(&["change", "go-back", &change])?;
    host.wait_for("! constans-agent status | grep -q ^upgrade", SOON)
}

/// Without a service manager the agent executes the version that was installed, and is started again after one that ended.
pub fn by_itself(hub: &Hub<'_>, host: Host<'_>, _: &Packages) -> Result<(), Failed> {
    host.shell(&format!(
        "systemctl disable -q --now constans-agent && rm /var/lib/constans/daemon.json && {BY_ITSELF}"
    ))?;
    host.wait_for(PROCESS, SOON)?;
    let own = own_version()?;
    let before = host.shell(PROCESS)?;
    let change = begin(hub, &own)?;
    is_version(host, &own)?;
    done(hub, &change, &own)?;
    if host.shell(PROCESS)? != before {
        return Err("it is another process".to_owned());
    }
    let change = begin(hub, BROKEN)?;
    halted(hub, host, &change)?;
    is_version(host, &own)?;
    host.shell("pgrep -x constans-agent")?;
    hub.client(&["change", "go-back", &change])?;
    host.shell("pkill -x constans-agent; rm -r /etc/systemd/system/constans-agent.service.d; systemctl daemon-reload; systemctl enable -q --now constans-agent").map(drop)
}

/// Makes a package whose agent ends at once, of one that has everything else.
fn build_broken(of: &Path, to: &Path) -> Result<(), Failed> {
    let folder = tempfile::tempdir().map_err(|error| error.to_string())?;
    let root = folder.path().join("root");
    run(Command::new("dpkg-deb").arg("--raw-extract").arg(of).arg(&root))?;
    let control = root.join("DEBIAN/control");
    let text = std::fs::read_to_string(&control).map_err(|error| error.to_string())?;
    let version = format!("Version: {EARLIER}");
    if !text.contains(&version) {
        return Err(format!("{} has no {version}: {text}", of.display()));
    }
    let write = |path: &Path, text: &str| std::fs::write(path, text).map_err(|error| error.to_string());
    write(&control, &text.replace(&version, &format!("Version: {BROKEN}")))?;
    write(&root.join("usr/bin/constans-agent"), "#!/bin/sh\necho 'this version is broken' >&2\nexit 1\n")?;
    run(Command::new("dpkg-deb").args(["--build", "--root-owner-group", "-Zgzip"]).arg(&root).arg(to))
        .map(drop)
}

/// Begins the rollout of a version in one wave, and returns its change.
fn begin(hub: &Hub<'_>, version: &str) -> Result<String, Failed> {
    let agent = format!("agent@{version}");
    hub.client(&[
        "rollout",
        "begin",
        &agent,
        "--waves",
        "100%",
        "--settle",
        "1s",
        "--confirm",
        "0",
        "--yes",
    ])?;
    let listed = hub.client(&["rollout", "list", "--output", "json"])?;
    let listed: serde_json::Value =
        serde_json::from_str(&listed).map_err(|error| format!("{error}: {listed}"))?;
    Ok(format!("C{}", listed[0]["no"]))
}

fn at_step(host: Host<'_>, step: &str) -> Result<(), Failed> {
    host.wait_for(&format!("grep -q '\"{step}\"' /var/lib/constans/upgrade.json"), UPGRADED)
}

/// Kills the guard, and the package manager that it started, without a word.
fn kill_guard(host: Host<'_>) -> Result<(), Failed> {
    host.shell("systemctl kill --signal=KILL constans-agent-upgrade").map(drop)
}

fn is_version(host: Host<'_>, version: &str) -> Result<(), Failed> {
    host.wait_for(
        &format!("dpkg-query -W -f '${{db:Status-Status}} ${{Version}}' constans-agent | grep -qx 'installed {version}'"),
        UPGRADED,
    )
}

/// Waits until a rollout is done, and the node has the version.
fn done(hub: &Hub<'_>, change: &str, version: &str) -> Result<(), Failed> {
    hub.wait_for(&["rollout", "list", "--filter", "rollout.status == \"done\""], change, UPGRADED)?;
    let shown = hub.client(&["node", "show", NAME, "--output", "json"])?;
    let shown: serde_json::Value =
        serde_json::from_str(&shown).map_err(|error| format!("{error}: {shown}"))?;
    let upgrade = &shown["agent_upgrade"];
    if upgrade["to"] == version && upgrade["state"] == "done" { Ok(()) } else { Err(upgrade.to_string()) }
}

/// Waits until the rollout of the broken version halts, and the version before is there again.
fn halted(hub: &Hub<'_>, host: Host<'_>, change: &str) -> Result<(), Failed> {
    let is_halted = "rollout.status == \"halted\"";
    hub.wait_for(&["rollout", "list", "--filter", is_halted], change, UPGRADED)?;
    let said = hub.client(&["rollout", "list", "--output", "json", "--filter", is_halted])?;
    if !said.contains(change.trim_start_matches('C')) || !said.contains("1 failed") {
        return Err(said);
    }
    let why = hub.client(&["node", "show", NAME])?;
    let expected = format!("did not report within {REPORT_WITHIN} s");
    if !why.contains(&expected) || !why.contains("is installed again") {
        return Err(why);
    }
    host.wait_for("constans-agent status | grep -q '^upgrade *to 0.0.8: failed'", SOON)
}
