//! Events around a node: a wrong clock, a server that is down for days, a copied disk.

use crate::hub::Hub;
use crate::lab::{Failed, Host};
use crate::steps::{NODE, SOON, Step, next_round, set_kiosks};
use constans_core::run::Status;
use constans_wire::run::RunSummary;
use std::time::{Duration, Instant};

/// They follow the steps by which a host joined and is in line.
pub const STEPS: &[(&str, Step)] = &[
    ("a clock that is hours off is reported, and its runs keep their order", wrong_clock),
    (
        "days without the server: it keeps enforcing, what waits is bounded, and what happened is reported when the server is back",
        days_away,
    ),
    ("a copy of the node is reported, and the copy does not end the node", copied),
];

const DROP_IN: &str = "/etc/systemd/system/constans-agent.service.d/clock.conf";
const SPOOL: &str = "/var/lib/constans/spool";
/// Tells how many reports wait.
const WAITING: &str = "ls /var/lib/constans/spool | grep -c json$";
/// This many reports wait at the most.
const MAX_REPORTS: usize = 500;
/// Days pass in a minute or two.
const DAYS_PASS: Duration = Duration::from_secs(240);

/// Gives the agent another clock than the host's, as libfaketime writes it, or the host's own again.
fn set_clock(host: Host<'_>, clock: Option<&str>) -> Result<(), Failed> {
    match clock {
        Some(clock) => {
            let library = "/usr/lib/x86_64-linux-gnu/faketime/libfaketimeMT.so.1";
            host.write(
                DROP_IN,
                &format!(
                    "[Service]\nEnvironment=LD_PRELOAD={library} \"FAKETIME={clock}\" FAKETIME_NO_CACHE=1\n"
                ),
            )?;
        }
        None => drop(host.shell(&format!("rm -f {DROP_IN}"))?),
    }
    host.shell("systemctl daemon-reload")?;
    next_round(host)
}

fn drift(host: Host<'_>) -> Result<(), Failed> {
    host.shell("sed -i 's/idle = .*/idle = 777/' /etc/kiosk/shell.conf").map(drop)
}

fn put_right(host: Host<'_>) -> Result<(), Failed> {
    host.wait_for("grep -q 'idle = 45' /etc/kiosk/shell.conf", SOON)
}

/// Returns how often drift was corrected, as the server lists the node's runs.
fn corrections(hub: &Hub<'_>) -> Result<usize, Failed> {
    Ok(hub.client(&["run", "list", NODE])?.matches("drift corrected").count())
}

fn wait_for_corrections(hub: &Hub<'_>, expected: usize) -> Result<(), Failed> {
    let end = Instant::now() + SOON;
    while corrections(hub)? != expected {
        if Instant::now() > end {
            let listed = hub.client(&["run", "list", NODE])?;
            let runs = listed
                .lines()
                .filter(|line| line.contains("drift corrected"))
                .filter_map(|line| line.rsplit(' ').next());
            let shown: Vec<String> =
                runs.take(4).map(|run| hub.client(&["run", "show", NODE, run])).collect::<Result<_, _>>()?;
            return Err(format!(
                "not {expected} corrections are listed: {listed}\nthe last ones: {}",
                shown.join("\n")
            ));
        }
        std::thread::sleep(Duration::from_millis(200));
    }
    Ok(())
}

fn wrong_clock(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    let before = corrections(hub)?;
    for (clock, message) in [("+3h", "the clock is 3 h ahead of"), ("-3h", "the clock is 3 h behind")] {
        // Under the wrong clock, so that no run by the right one comes first.
        set_clock(host, Some(clock))?;
        drift(host)?;
        next_round(host)?;
        let message = put_right(host).and_then(|()| hub.wait_for(&["node", "show", NODE], message, SOON));
        set_clock(host, None)?;
        message?;
    }
    drift(host)?;
    next_round(host)?;
    put_right(host)?;
    wait_for_corrections(hub, before + 3)?;
    let shown = hub.client(&["node", "show", NODE])?;
    if shown.contains("the clock is") {
        return Err(format!("the clock is right again, and reported as wrong: {shown}"));
    }
    let runs = hub.client(&["run", "list", NODE, "--output", "json"])?;
    let began: Vec<String> = serde_json::from_str::<Vec<RunSummary>>(&runs)
        .map_err(|error| format!("{error}: {runs}"))?
        .iter()
        .filter(|run| run.status == Status::DriftCorrected)
        .take(3)
        .map(|run| run.began.to_string())
        .collect();
    // The last one by the right clock, before it one three hours behind, before that one ahead, which the server dated itself.
    if began[1] < began[2] && began[2] < began[0] {
        Ok(())
    } else {
        Err(format!("the runs are not in their order: {began:?}"))
    }
}

fn days_away(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    set_kiosks(hub, "run_interval_secs = 300")?;
    next_round(host)?;
    hub.wait_for(&["node", "list"], "in line", SOON)?;
    let before = corrections(hub)?;
    // Faster than a pulled cable, so that more than one run fits into a day that lasts seconds.
    host.shell("ip route add prohibit 10.77.0.1")?;
    let passed = days_pass(host);
    set_clock(host, None)?;
    host.shell("ip route del prohibit 10.77.0.1")?;
    passed?;
    next_round(host)?;
    host.wait_for(&format!("[ $({WAITING}) -eq 0 ]"), 2 * SOON)?;
    wait_for_corrections(hub, before + 2)?;
    set_kiosks(hub, "")?;
    next_round(host)
}

fn days_pass(host: Host<'_>) -> Result<(), Failed> {
    drift(host)?;
    set_clock(host, Some("+0 x2000"))?;
    put_right(host)?;
    // More runs than are kept: the oldest in which nothing happened go.
    host.wait_for(&format!("[ $({WAITING}) -ge {MAX_REPORTS} ]"), DAYS_PASS)?;
    drift(host)?;
    put_right(host)?;
    let waiting = host.shell(WAITING)?;
    let clock = host.shell(&format!(
        "ls {SPOOL} | tail -1 | sed 's,^,{SPOOL}/,' | xargs grep -o '\"began\":\"[^\"]*\"'; date -u +%FT%TZ"
    ))?;
    println!(
        "          {} reports wait; the last run and the hour: {}",
        waiting.trim(),
        clock.replace('\n', " ")
    );
    match waiting.trim().parse::<usize>() {
        Ok(count) if count <= MAX_REPORTS => Ok(()),
        _ => Err(format!("{} reports wait, and at most {MAX_REPORTS} may", waiting.trim())),
    }
}

fn copied(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    host.shell("systemctl stop constans-agent && cp -a /var/lib/constans /srv/copy")?;
    // Twice: what is one answer behind may only have lost it.
    host.shell("constans-agent check-in && constans-agent check-in")?;
    host.shell("constans-agent check-in --state-dir /srv/copy")?;
    hub.wait_for(
        &["node", "show", NODE],
        "duplicate identity: two machines use the identity of this node",
        SOON,
    )?;
    next_round(host)?;
    drift(host)?;
    next_round(host)?;
    put_right(host)?;
    host.shell("rm -r /srv/copy")?;
    hub.client(&["node", "resolve-duplicate", NODE])?;
    next_round(host)?;
    host.shell("constans-agent check-in")?;
    let shown = hub.client(&["node", "show", NODE])?;
    if shown.contains("duplicate identity") {
        Err(format!("the duplicate is reported as resolved, but is not: {shown}"))
    } else {
        Ok(())
    }
}
