//! A real host joins a fleet: its agent runs as a service, goes on without the server, and survives cables and power.

use crate::hub::Hub;
use crate::lab::{Failed, Host, print_result};
use crate::steps::{NODE, SOON, Step, next_round, set_group, set_kiosks};
use crate::{around, service};
use constans_e2e::story::KIOSKS;
use constans_world::kits;
use std::path::Path;
use std::time::{Duration, Instant};

/// Each builds upon the one before.
const STEPS: &[(&str, Step)] = &[
    ("kits are published and served", publish),
    ("a host joins by an invitation and is approved", join),
    (
        "its agent runs as a service, and applies the desired state with the real apt, sudo and systemd",
        apply_desired_state,
    ),
    ("what somebody changes by hand is put right, and its service restarted", drift),
    ("without the cable the agent keeps enforcing; its reports come when the cable is back", without_cable),
    ("after a power cut it comes back with the host, and nothing is out of line", power_cut),
    (
        "a rule that cuts its way to the server is put back, reported, and not tried again until something else is wanted",
        own_way,
    ),
];

const LAST: &[(&str, Step)] = &[("asked to end while it runs, it finishes what it has begun", ends_well)];

/// Goes through all steps; returns 1 if one failed, since those after it cannot be tried.
pub fn all(hub: &Hub<'_>, host: Host<'_>) -> usize {
    println!("\na fleet");
    STEPS
        .iter()
        .chain(service::STEPS)
        .chain(around::STEPS)
        .chain(LAST)
        .map(|(what, step)| print_result(what, step(hub, host)))
        .find(|failed| *failed > 0)
        .unwrap_or(0)
}

fn publish(hub: &Hub<'_>, _: Host<'_>) -> Result<(), Failed> {
    for kit in ["quay-base", "kiosk-floor"] {
        hub.client(&["kit", "publish", &kits().join(kit).display().to_string()])?;
    }
    hub.client(&["stage", "make", "open-water"])?;
    hub.client(&["stage", "serve", "open-water", "quay-base@1.3.0", "kiosk-floor@1.0.0"])?;
    set_kiosks(hub, "")
}

fn join(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    host.shell("rm -f /etc/apt/sources.list; echo 'deb [trusted=yes] http://hub:8080 ./' > /etc/apt/sources.list.d/skerry.list")?;
    host.write(
        "/root/invitation",
        &hub.client(&["invite", "--label", "role=kiosk", "--label", "site=auken"])?,
    )?;
    let join = format!("constans-agent join --invitation-file /root/invitation --name {NODE} --wait 0");
    host.try_shell(&join)?;
    hub.client(&["join", "approve", NODE])?;
    let output = host.shell(&join)?;
    if output.contains("connected") {
        Ok(())
    } else {
        Err(format!("it does not say that it is connected: {output}"))
    }
}

fn apply_desired_state(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    let unit = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packaging/constans-agent.service");
    host.put(&unit, "/etc/systemd/system/constans-agent.service")?;
    let sysusers = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packaging/constans-agent.sysusers.conf");
    host.put(&sysusers, "/usr/lib/sysusers.d/constans-agent.conf")?;
    host.shell("systemd-sysusers")?;
    // Type=notify: the command ends when the agent says that it is ready.
    host.shell("systemctl daemon-reload && systemctl enable -q --now constans-agent")?;
    hub.wait_for(&["node", "list"], "rolled out", SOON)?;
    host.shell("systemctl is-active kiosk-shell && grep -q 'site = auken' /etc/kiosk/shell.conf && sudo -l -U ops | grep -q systemctl && ls /etc/cron.d/constans-*")?;
    let status = "systemctl show -p StatusText --value constans-agent";
    host.wait_for(&format!("{status} | grep -q 'rolled out'"), SOON)
}

fn drift(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    let before = host.shell("systemctl show -p MainPID --value kiosk-shell")?;
    host.shell("sed -i 's/idle = .*/idle = 600/' /etc/kiosk/shell.conf; userdel ops 2>/dev/null; true")?;
    next_round(host)?;
    hub.wait_for(&["node", "list"], "drift corrected", SOON)?;
    host.wait_for("grep -q 'idle = 45' /etc/kiosk/shell.conf && id ops", SOON)?;
    if host.shell("systemctl show -p MainPID --value kiosk-shell")? == before {
        return Err("the service was not restarted".to_owned());
    }
    Ok(())
}

fn without_cable(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    let runs = |hub: &Hub<'_>| hub.client(&["run", "list", NODE]);
    let before = runs(hub)?.lines().count();
    host.cable(false)?;
    host.shell("sed -i 's/idle = .*/idle = 601/' /etc/kiosk/shell.conf")?;
    next_round(host)?;
    let corrected = host.wait_for("grep -q 'idle = 45' /etc/kiosk/shell.conf", 2 * SOON);
    if corrected.is_err() {
        host.cable(true)?;
    }
    corrected?;
    if runs(hub)?.lines().count() != before {
        return Err("a report came although the cable was pulled".to_owned());
    }
    host.cable(true)?;
    next_round(host)?;
    let end = Instant::now() + SOON;
    while runs(hub)?.lines().count() == before {
        if Instant::now() > end {
            return Err("the report did not come when the cable was back".to_owned());
        }
        std::thread::sleep(Duration::from_millis(300));
    }
    Ok(())
}

fn power_cut(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    host.power_cut()?;
    host.wait_for("systemctl is-active -q constans-agent", SOON)?;
    hub.wait_for(&["node", "list"], "in line", SOON).map(drop)
}

/// Finds the id of the first run in a list of them.
fn latest_run(value: &serde_json::Value) -> Option<String> {
    match value {
        serde_json::Value::Array(items) => items.iter().find_map(latest_run),
        serde_json::Value::Object(map) => map
            .get("run")
            .and_then(|run| run.as_str().map(str::to_owned))
            .or_else(|| map.values().find_map(latest_run)),
        _ => None,
    }
}

fn own_way(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    let kit = tempfile::tempdir().map_err(|error| error.to_string())?;
    let publish = |version: &str, port: u16| -> Result<(), Failed> {
        let folder = kit.path().join("quay-filter");
        let clause = |name: &str, port: u16| {
            format!(
                "[[clause]]\nwhat = \"packet_rule:{name}\"\ndirection = \"out\"\nprotocol = \"tcp\"\nport = {port}\nthen = \"drop\"\n\n"
            )
        };
        std::fs::create_dir_all(folder.join("baselines")).map_err(|error| error.to_string())?;
        let text = format!(
            "[baseline]\nname = \"filter\"\n\n{}{}",
            clause("no port 9", 9),
            clause("a mistake", port)
        );
        std::fs::write(folder.join("baselines/filter.toml"), text).map_err(|error| error.to_string())?;
        std::fs::write(
            folder.join("kit.toml"),
            format!("[kit]\nname = \"quay-filter\"\nversion = \"{version}\"\n"),
        )
        .map_err(|error| error.to_string())?;
        hub.client(&["kit", "publish", &folder.display().to_string()])?;
        hub.client(&["stage", "serve", "open-water", &format!("quay-filter@{version}")]).map(drop)
    };
    // The server's port for agents: the node can ask for it, and receives nothing again.
    publish("1.0.0", 7443)?;
    let assigned =
        "[[assignments]]\nkit = \"quay-filter\"\nbaseline = \"filter\"\n\n[settings]\nreach_within_secs = 5";
    set_group(hub, &KIOSKS.replace("MODE", "enforce").replace("[settings]", assigned))?;
    next_round(host)?;
    host.wait_for(
        "journalctl -u constans-agent --no-pager | grep -q 'reverted: packet_rule:a mistake'",
        3 * SOON,
    )?;
    next_round(host)?;
    let runs = hub.wait_for(&["run", "list", NODE, "--output", "json"], "rollout_waiting", SOON)?;
    let runs: serde_json::Value = serde_json::from_str(&runs).map_err(|error| format!("{error}: {runs}"))?;
    let id = latest_run(&runs).ok_or_else(|| format!("no run is listed: {runs}"))?;
    let run = hub.client(&["run", "show", NODE, &id])?;
    if !run.contains("cut the connection to the server")
        || !run.contains("packet_rule:a mistake")
        || host.try_shell("nft list table inet constans | grep -q 7443")?.exit == 0
    {
        return Err(format!("the rule is still there, or not reported: {run}"));
    }
    publish("1.0.1", 10)?;
    next_round(host)?;
    hub.wait_for(&["node", "list"], "rolled out", SOON)?;
    host.wait_for("nft list table inet constans | grep -q 'dport 10 drop' && nft list table inet constans | grep -q 'dport 9 drop'", SOON)
}

fn ends_well(_: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    host.shell("systemctl stop constans-agent")?;
    let result = host.shell("systemctl show -p Result --value constans-agent")?;
    if result.trim() == "success" { Ok(()) } else { Err(format!("systemd says `{result}`")) }
}
