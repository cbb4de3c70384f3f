//! The agent as a service of a real host: its network part without rights, the journal, and restarts of the node.

use crate::hub::Hub;
use crate::lab::{Failed, Host};
use crate::steps::{NODE, SOON, Step, next_round, set_group, set_kiosks};
use constans_e2e::story::KIOSKS;
use std::time::{Duration, Instant};

/// A host that is being restarted comes back within this.
const RESTARTED: Duration = Duration::from_secs(60);

/// They follow the steps by which a host joined and is in line.
pub const STEPS: &[(&str, Step)] = &[
    (
        "the part that speaks to the network has an account of its own, and no right to read, write or become anything",
        network_part,
    ),
    (
        "while it rests it is reached and tested within two seconds, by a network part that has no rights",
        reached,
    ),
    (
        "what somebody changed is put right within seconds by a sweep, and the journal says who asked and why",
        swept,
    ),
    (
        "a release that cuts the host off halts its rollout since it is not heard again; turned back, it is as before once it is reached",
        cut_off_by_rollout,
    ),
    ("the journal has fields for each run and each clause that was put right, and no value", journal),
    (
        "what the operating system wants a restart for is reported, and the node restarted once as its settings say; the agent goes on",
        restart,
    ),
];

fn network_part(_: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    // Without the cable it waits for the server long enough to be looked at.
    host.cable(false)?;
    let looked = looked_at(host);
    host.cable(true)?;
    without_rights(host, &looked?)?;
    next_round(host)
}

fn reached(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    hub.wait_for(&["node", "show", NODE], "; can be woken", SOON)?;
    let shown = hub.client(&["node", "reach", "--node", NODE, "--output", "json"])?;
    let shown: serde_json::Value =
        serde_json::from_str(&shown).map_err(|error| format!("{error}: {shown}"))?;
    match shown["nodes"][0]["answered_ms"].as_u64() {
        Some(0..2_000) => {}
        other => return Err(format!("it answered after {other:?} ms: {shown}")),
    }
    let tested = hub.client(&["selftest", NODE])?;
    if !tested.contains("proven: ") {
        return Err(tested);
    }
    host.shell("[ ! -e /run/constans-self-test ]")?;
    without_rights(host, &looked_at_now(host)?)
}

fn swept(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    hub.wait_for(&["node", "show", NODE], "; can be woken", SOON)?;
    host.shell("sed -i 's/idle = .*/idle = 777/' /etc/kiosk/shell.conf")?;
    let began = Instant::now();
    let enforce =
        ["sweep", "enforce", "--node", NODE, "--because", "the festival begins", "--yes", "--output", "json"];
    let swept = hub.client(&enforce)?;
    if began.elapsed() > Duration::from_secs(10) {
        return Err(format!("it took {} s", began.elapsed().as_secs()));
    }
    let swept: serde_json::Value =
        serde_json::from_str(&swept).map_err(|error| format!("{error}: {swept}"))?;
    if swept["sweep"]["counts"]["corrected_clauses"] != 1 || swept["nodes"][0]["is_in_line"] != true {
        return Err(swept.to_string());
    }
    host.shell("grep -q 'idle = 45' /etc/kiosk/shell.conf")?;
    host.shell("journalctl --sync; journalctl -u constans-agent | grep -q 'S[0-9]* (Enforce all clauses) for .*: the festival begins'")?;
    // The next run finds all in line.
    next_round(host)
}

/// A command that cuts the host off is none that the agent can put back: only the rollout notices.
fn cut_off_by_rollout(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    let kit = tempfile::tempdir().map_err(|error| error.to_string())?;
    let write = |name: &str, text: &str| {
        std::fs::write(kit.path().join(name), text).map_err(|error| error.to_string())
    };
    std::fs::create_dir(kit.path().join("baselines")).map_err(|error| error.to_string())?;
    let cut = "nft add table inet mistake; nft add chain inet mistake out '{ type filter hook output priority 0; }'; nft add rule inet mistake out tcp dport 7443 drop; touch /run/cut";
    for (version, argv) in [("1.0.0", "true"), ("1.1.0", cut)] {
        write("kit.toml", &format!("[kit]\nname = \"cable\"\nversion = \"{version}\"\n"))?;
        write(
            "baselines/cable.toml",
            &format!(
                "[baseline]\nname = \"cable\"\n\n[[clause]]\nwhat = \"command:cable\"\nargv = [\"/bin/sh\", \"-c\", \"touch /run/cut-{version}; {argv}\"]\nin_line_when = \"/run/cut-{version}\"\n"
            ),
        )?;
        hub.client(&["kit", "publish", &kit.path().display().to_string()])?;
    }
    hub.client(&["stage", "serve", "open-water", "cable@1.0.0"])?;
    let assigned =
        "[[assignments]]\nkit = \"cable\"\nbaseline = \"cable\"\n\n[settings]\nreach_within_secs = 5";
    let kiosks = |assigned: &str| {
        KIOSKS
            .replace("MODE", "enforce")
            .replace("[settings]", assigned)
            .replace("interval_secs = 60", "interval_secs = 15")
    };
    set_group(hub, &kiosks(assigned))?;
    next_round(host)?;
    host.wait_for("[ -e /run/cut-1.0.0 ]", SOON)?;
    let previewed =
        hub.client(&["stage", "serve", "open-water", "cable@1.1.0", "--preview", "--output", "json"])?;
    let previewed: serde_json::Value =
        serde_json::from_str(&previewed).map_err(|error| format!("{error}: {previewed}"))?;
    let no = format!("C{}", previewed["change"]);
    hub.client(&["rollout", "begin", &no, "--waves", "100%", "--settle", "1h", "--confirm", "1"])?;
    host.wait_for("[ -e /run/cut ]", 2 * SOON)?;
    // A promise is broken a minute after it was due.
    let halted = hub.wait_for(&["rollout", "list"], "halted", 5 * SOON);
    let shown = hub.client(&["rollout", "list", "--output", "json"])?;
    host.shell("nft delete table inet mistake")?;
    halted?;
    if !shown.contains("1 not heard since") {
        return Err(shown);
    }
    hub.client(&["change", "go-back", &no, "--confirm", "1"])?;
    next_round(host)?;
    set_kiosks(hub, "")?;
    next_round(host)?;
    hub.wait_for(&["node", "list"], "in line", SOON).map(drop)
}

fn without_rights(host: Host<'_>, status: &str) -> Result<(), Failed> {
    let account = host.shell("id -u constans-network")?.trim().to_owned();
    let has = |line: String| {
        status.lines().any(|known| known.split_whitespace().collect::<Vec<_>>().join(" ") == line)
    };
    let expected = [
        format!("Uid: {account} {account} {account} {account}"),
        "NoNewPrivs: 1".to_owned(),
        "CapEff: 0000000000000000".to_owned(),
        "CapPrm: 0000000000000000".to_owned(),
        "Groups:".to_owned(),
        "Max file size 0 0 bytes".to_owned(),
        "Max core file size 0 0 bytes".to_owned(),
    ];
    match expected.into_iter().find(|line| !has(line.clone())) {
        None => Ok(()),
        Some(missing) => Err(format!("it does not have `{missing}`: {status}")),
    }
}

fn looked_at(host: Host<'_>) -> Result<String, Failed> {
    next_round(host)?;
    looked_at_now(host)
}

fn looked_at_now(host: Host<'_>) -> Result<String, Failed> {
    let look = "p=$(pgrep -f 'constans-agent|exe network-part' | while read p; do grep -qz network-part /proc/$p/cmdline && echo $p && break; done); [ -n \"$p\" ] && cat /proc/$p/status /proc/$p/limits";
    let end = Instant::now() + SOON;
    loop {
        let ended = host.try_shell(look)?;
        if ended.exit == 0
            && ended.stdout.contains("constans-network") | ended.stdout.contains("NoNewPrivs:\t1")
        {
            return Ok(ended.stdout);
        }
        if Instant::now() > end {
            return Err(format!("it was never seen without rights: {}", ended.stdout));
        }
    }
}

fn journal(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    hub.wait_for(&["node", "list"], "in line", SOON)?;
    // A word that no time stamp, number or digest of the journal can have in it by chance.
    host.shell("sed -i 's/idle = .*/idle = put-there-by-hand/' /etc/kiosk/shell.conf")?;
    next_round(host)?;
    host.wait_for("journalctl -q CONSTANS_EVENT=run CONSTANS_STATUS=drift_corrected -n 1 --no-pager | grep -q 'drift corrected'", SOON)?;
    let of_clause = host.shell("journalctl -q CONSTANS_ADDRESS=file:/etc/kiosk/shell.conf CONSTANS_OUTCOME=corrected -n 1 -o json --no-pager")?;
    for part in [
        "\"CONSTANS_CAUSE\":\"drift\"",
        "\"CONSTANS_RUN\":",
        "\"CONSTANS_ATTIC\":",
        "\"SYSLOG_IDENTIFIER\":\"constans-agent\"",
    ] {
        if !of_clause.contains(part) {
            return Err(format!("the journal lacks {part}: {of_clause}"));
        }
    }
    match host.try_shell("journalctl -q -t constans-agent --no-pager -o json | grep put-there-by-hand")?.exit
    {
        0 => Err("the journal has what stood in the file".to_owned()),
        _ => Ok(()),
    }
}

fn restart(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    set_kiosks(hub, "restart = \"when_needed\"")?;
    let boot = "cat /proc/sys/kernel/random/boot_id";
    let before = host.shell(boot)?;
    // What is there again after each start asks for a restart that does not help.
    host.write("/etc/tmpfiles.d/wants-restart.conf", "f /run/reboot-required 0644 root root - wanted\n")?;
    host.shell("systemd-tmpfiles --create wants-restart.conf")?;
    next_round(host)?;
    host.wait_for(
        &format!("[ \"$({boot})\" != '{}' ] && systemctl is-active -q constans-agent", before.trim()),
        RESTARTED,
    )?;
    host.wait_for(
        "constans-agent status | grep -q 'still pending after a restart: a person has to look'",
        SOON,
    )?;
    let first_run = host.shell("journalctl -q -b CONSTANS_EVENT=run -o json --no-pager | head -1")?;
    if !first_run.contains("\"CONSTANS_STARTED_BY\":\"boot\"") {
        return Err(format!("its first run is not told as the start of the node: {first_run}"));
    }
    hub.wait_for(&["node", "show", NODE], "restart   pending since", SOON)?;
    let after = host.shell(boot)?;
    next_round(host)?;
    host.wait_for("constans-agent status | grep -q 'still pending'", SOON)?;
    host.shell("rm /etc/tmpfiles.d/wants-restart.conf /run/reboot-required")?;
    next_round(host)?;
    host.wait_for("! constans-agent status | grep -q '^restart '", SOON)?;
    if host.shell(boot)? == after {
        Ok(())
    } else {
        Err("it was restarted a second time for the same".to_owned())
    }
}
