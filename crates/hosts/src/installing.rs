//! The agent's packages on a fresh host: one line installs it and lets it join, a later one upgrades it, and it goes again.

use crate::agent_packages::{EARLIER, NAME, Packages, own_version};
use crate::hub::Hub;
use crate::lab::{Failed, Host, print_result};
use crate::repository::run;
use crate::steps::SOON;
use crate::upgrading;
use serde_json::Value;
use std::path::Path;
use std::process::Command;

type Step = fn(&Hub<'_>, Host<'_>, &Packages) -> Result<(), Failed>;

/// Each builds upon the one before.
const STEPS: &[(&str, Step)] = &[
    ("a machine that does not fit is told all of it at once, and nothing is installed", misfits),
    ("what was altered on its way is not run", altered),
    (
        "one line installs the agent on a fresh Debian host and asks to join; the invitation is in no history and no process",
        one_line,
    ),
    ("it is approved, and its agent goes on by itself, with the next start too", approved),
    (
        "the line of a newer version upgrades it; the agent is another process, and the node the same",
        upgraded,
    ),
    (
        "a version goes out in waves; its guard is killed as it installs, the power is cut, and it is done all the same",
        upgrading::in_waves,
    ),
    (
        "a version that does not start is gone back from, its guard killed at each step, and its rollout halts",
        upgrading::broken,
    ),
    (
        "without a service manager the agent executes the new version by itself, and is started again after one that ended",
        upgrading::by_itself,
    ),
    (
        "server and client come as packages too: settings that somebody wrote stay when they go",
        server_and_client,
    ),
    ("removed, it is stopped and keeps its state; purged, only what it replaced stays", removed),
];

/// Goes through all steps; returns 1 if one failed, since those after it cannot be tried.
pub fn all(hub: &Hub<'_>, host: Host<'_>) -> Result<usize, Failed> {
    println!("\nthe packages, on a fresh host");
    let packages = Packages::build()?;
    hub.client(&[
        "agent-package",
        "add",
        &packages.file("deb", EARLIER)?.display().to_string(),
        &packages.file("rpm", EARLIER)?.display().to_string(),
    ])?;
    Ok(STEPS
        .iter()
        .map(|(what, step)| print_result(what, step(hub, host, &packages)))
        .find(|failed| *failed > 0)
        .unwrap_or(0)
        + print_result(
            "the .rpm is installed, upgraded and removed by dnf in a private root (without scripts; real systems of its family were not tried)",
            rpm(&packages),
        ))
}

fn line(hub: &Hub<'_>) -> Result<String, Failed> {
    hub.client(&["agent-package", "line"]).map(|line| line.trim().to_owned())
}

fn expect(what: &str, text: &str, parts: &[&str]) -> Result<(), Failed> {
    match parts.iter().find(|part| !text.contains(**part)) {
        None => Ok(()),
        Some(missing) => Err(format!("{what} lacks `{missing}`: {text}")),
    }
}

fn nothing_installed(host: Host<'_>) -> Result<(), Failed> {
    host.shell("! command -v constans-agent && ! dpkg -s constans-agent 2>/dev/null").map(drop)
}

fn misfits(hub: &Hub<'_>, host: Host<'_>, _: &Packages) -> Result<(), Failed> {
    host.shell("cp /etc/os-release /root/os-release && printf 'ID=alpine\\nPRETTY_NAME=\"Alpine Linux v3.20\"\\n' > /etc/os-release.new && mv /etc/os-release.new /etc/os-release")?;
    let ended = host.try_shell(&format!("{} </dev/null", line(hub)?));
    host.shell("mv /root/os-release /etc/os-release")?;
    let said = ended?.both();
    expect(
        "the refusal",
        &said,
        &[
            "nothing was installed, since this machine does not fit",
            "Alpine Linux v3.20 is not one that the agent is packaged for",
            "Debian, Ubuntu and what descends from them, amd64",
            "there is no terminal to ask for the invitation on",
        ],
    )?;
    nothing_installed(host)
}

fn altered(hub: &Hub<'_>, host: Host<'_>, _: &Packages) -> Result<(), Failed> {
    // Somebody in between answers with another file: to curl it looks like the server's.
    host.write(
        "/root/between/curl",
        "#!/bin/sh\n/usr/bin/curl \"$@\"; for last; do :; done; [ -s \"$2\" ] && echo 'touch /root/altered' >> \"$2\"\nexit 0\n",
    )?;
    let ended =
        host.try_shell(&format!("chmod +x /root/between/curl; PATH=/root/between:$PATH; {}", line(hub)?))?;
    expect(
        "the refusal",
        &ended.both(),
        &["nothing was installed: what came is not what this line installs"],
    )?;
    host.shell("! test -e /root/altered && rm -r /root/between")?;
    nothing_installed(host)
}

fn one_line(hub: &Hub<'_>, host: Host<'_>, _: &Packages) -> Result<(), Failed> {
    let invitation = hub.client(&["invite", "--label", "role=gate", "--label", "site=auken"])?;
    host.write("/root/line", &format!("{} --name {NAME}\n", line(hub)?))?;
    // A person's terminal: the line is pasted, and the invitation typed when it is asked for.
    host.write("/root/typed", &invitation)?;
    let typed = "while ! grep -q 'it is not shown' /root/terminal 2>/dev/null; do sleep 0.1; done; sleep 0.3; cat /root/typed; ps -e -o args > /root/processes; sleep 20";
    let ended = host.try_shell(&format!(
        "({typed}) | HISTFILE=/root/history script -qefc 'bash /root/line' /root/terminal"
    ))?;
    let said = ended.both();
    expect(
        "the terminal",
        &said,
        &[
            "1 of 3: fetching constans-agent 0.0.9 for Debian GNU/Linux 12 (bookworm)",
            "3 of 3: joining",
            "waiting for approval as gate-auken-1, key fingerprint",
            "the agent runs, and starts with this machine",
            "it goes on asking by itself until it is approved or denied",
        ],
    )?;
    let secret = invitation.trim();
    host.shell(&format!(
        "! grep -rqs '{secret}' /root/terminal /root/history /root/processes && rm /root/typed"
    ))?;
    host.shell("systemctl is-active -q constans-agent && systemctl is-enabled -q constans-agent && test -e /usr/share/man/man1/constans-agent-join.1.gz")?;
    host.wait_for(
        "systemctl show -p StatusText --value constans-agent | grep -q 'waiting for approval'",
        SOON,
    )
}

fn approved(hub: &Hub<'_>, host: Host<'_>, _: &Packages) -> Result<(), Failed> {
    hub.client(&["join", "approve", NAME])?;
    host.wait_for("test -e /var/lib/constans/joined.json && ! test -e /var/lib/constans/joining.json", SOON)?;
    hub.wait_for(&["node", "list"], NAME, SOON)?;
    host.power_cut()?;
    host.wait_for("systemctl is-active -q constans-agent && constans-agent check-in", SOON)?;
    host.shell("id -u constans-network").map(drop)
}

fn upgraded(hub: &Hub<'_>, host: Host<'_>, packages: &Packages) -> Result<(), Failed> {
    let own = own_version()?;
    let node = |hub: &Hub<'_>| -> Result<Value, Failed> {
        let nodes = hub.client(&["node", "list", "--output", "json"])?;
        serde_json::from_str(&nodes).map_err(|error| error.to_string())
    };
    let (before, nodes) = (host.shell("systemctl show -p MainPID --value constans-agent")?, node(hub)?);
    hub.client(&["agent-package", "add", &packages.file("deb", &own)?.display().to_string()])?;
    let said = host.try_shell(&format!("{} </dev/null", line(hub)?))?.both();
    expect(
        "the line",
        &said,
        &[&format!("1 of 3: fetching constans-agent {own}"), "belongs to a fleet already and stays in it"],
    )?;
    host.shell(&format!("dpkg-query -W -f '${{Version}}' constans-agent | grep -qx {own}"))?;
    host.wait_for(
        &format!("test $(systemctl show -p MainPID --value constans-agent) != {}", before.trim()),
        SOON,
    )?;
    host.wait_for("systemctl is-active -q constans-agent && constans-agent check-in", SOON)?;
    let again = host.shell(&format!("{} </dev/null", line(hub)?))?;
    expect("the line once more", &again, &[&format!("constans-agent {own} is installed already")])?;
    let count = |nodes: &Value| nodes.as_array().map_or(0, Vec::len);
    if count(&nodes) == count(&node(hub)?) { Ok(()) } else { Err("another node came".to_owned()) }
}

fn server_and_client(_: &Hub<'_>, host: Host<'_>, packages: &Packages) -> Result<(), Failed> {
    let own = own_version()?;
    for (name, to) in [("constans-server", "/root/server.deb"), ("constans", "/root/client.deb")] {
        host.put(&packages.file_of(name, "deb", &own)?, to)?;
    }
    host.shell("dpkg -i /root/server.deb /root/client.deb && id -u constans-server && constans --version && test -e /usr/share/man/man1/constans-invite.1.gz")?;
    // It is not started before somebody says which database it has; then it says what is missing.
    host.shell("! systemctl is-enabled -q constans-server && ! systemctl is-active -q constans-server")?;
    host.shell("echo 'CONSTANS_NAMES=constans.skerry.example' >> /etc/constans/server.env; systemctl start constans-server; sleep 1; true")?;
    let journal = host.shell("journalctl -u constans-server --no-pager")?;
    expect("the journal", &journal, &["--database <DATABASE>"])?;
    host.shell("dpkg -i /root/server.deb </dev/null && grep -q skerry.example /etc/constans/server.env && dpkg -r constans-server constans && grep -q skerry.example /etc/constans/server.env && ! command -v constans && rm /root/*.deb").map(drop)
}

fn removed(_: &Hub<'_>, host: Host<'_>, _: &Packages) -> Result<(), Failed> {
    host.shell("mkdir -p /var/lib/constans/attic && echo old > /var/lib/constans/attic/old-copy")?;
    host.shell("dpkg -r constans-agent")?;
    host.shell("! systemctl is-active -q constans-agent && ! command -v constans-agent && test -e /var/lib/constans/joined.json")?;
    let purged = host.shell("dpkg -P constans-agent 2>&1")?;
    expect("the purge", &purged, &["left: /var/lib/constans/attic"])?;
    host.shell("! test -e /var/lib/constans/joined.json && grep -q old /var/lib/constans/attic/old-copy && rm -r /var/lib/constans").map(drop)
}

/// Installs, upgrades and removes the .rpm by dnf in a private root: without its scripts, since the root has no shell. Real systems of
/// that family were not tried.
fn rpm(packages: &Packages) -> Result<(), Failed> {
    let message = |error: std::io::Error| error.to_string();
    let folder = tempfile::tempdir().map_err(message)?;
    let path = |name: &str| folder.path().join(name);
    let (root, repository) = (path("root"), path("repository"));
    std::fs::create_dir_all(root.join("var/lib/rpm")).map_err(message)?;
    std::fs::create_dir_all(&repository).map_err(message)?;
    let earlier = packages.file("rpm", EARLIER)?;
    // What a system of that family has, under its own names.
    let needed = run(Command::new("rpm").args(["-qp", "--requires"]).arg(&earlier))?;
    let mut spec =
        "Name: quay-system\nVersion: 1\nRelease: 1\nSummary: What the agent needs\nLicense: MIT\n".to_owned();
    needed
        .lines()
        .filter(|line| !line.starts_with("rpmlib("))
        .for_each(|line| spec += &format!("Provides: {line}\n"));
    spec += "%description\nWhat the agent needs\n%files\n";
    std::fs::write(path("spec"), spec).map_err(message)?;
    let define = |name: &str, to: &Path| ["--define".to_owned(), format!("{name} {}", to.display())];
    let mut build = Command::new("rpmbuild");
    build
        .args(define("_topdir", &path("build")))
        .args(define("_rpmdir", &repository))
        .arg("-bb")
        .arg(path("spec"));
    run(&mut build)?;
    let offer = |file: &Path| -> Result<(), Failed> {
        std::fs::copy(file, repository.join(file.file_name().ok_or("a name")?)).map_err(message)?;
        run(Command::new("createrepo_c").arg("--quiet").arg(&repository)).map(drop)
    };
    let dnf = |what: &str| {
        let mut dnf = Command::new("dnf");
        dnf.args([
            "-q",
            "-y",
            "--refresh",
            "--disablerepo=*",
            "--nogpgcheck",
            "--releasever=39",
            "--setopt=tsflags=noscripts",
        ])
        .arg(format!("--setopt=cachedir={}", path("cache").display()))
        .arg(format!("--installroot={}", root.display()))
        .arg(format!("--repofrompath=skerry,{}", repository.display()))
        .args(["--enablerepo=skerry", what, "constans-agent"]);
        run(&mut dnf)
    };
    let version = || {
        run(Command::new("rpm").arg("--root").arg(&root).args(["-q", "--qf", "%{VERSION}", "constans-agent"]))
    };
    let is = |expected: &str| match version() {
        Ok(version) if version == expected => Ok(()),
        other => Err(format!("it is {other:?}, not {expected}")),
    };
    offer(&earlier)?;
    dnf("install")?;
    is(EARLIER)?;
    for file in [
        "usr/bin/constans-agent",
        "usr/lib/systemd/system/constans-agent.service",
        "usr/share/zsh/site-functions/_constans-agent",
    ] {
        if !root.join(file).exists() {
            return Err(format!("{file} is not there"));
        }
    }
    let own = own_version()?;
    offer(&packages.file("rpm", &own)?)?;
    dnf("upgrade")?;
    is(&own)?;
    run(Command::new("rpm").arg("--root").arg(&root).args(["-V", "--nodeps", "constans-agent"]))?;
    dnf("remove")?;
    if root.join("usr/bin/constans-agent").exists() { Err("it is still there".to_owned()) } else { Ok(()) }
}
