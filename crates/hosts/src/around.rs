//! What happens around a node: its clock is wrong, its server is away for days, somebody copies its disk.

use crate::hub::Hub;
use crate::joining::{NODE, SOON, Step, next_round, set_kiosks};
use crate::lab::{Failed, Host};
use std::time::Duration;

/// They follow the steps by which a host joined and is in line.
pub const STEPS: &[(&str, Step)] = &[
    ("a clock that is hours off is told, and its runs keep their order", wrong_clock),
    ("days without the server: it keeps enforcing, what waits is bounded, and what happened is told when the server is back", days_away),
    ("a copy of the node is told, and the copy does not end the node", copied),
];

const DROP_IN: &str = "/etc/systemd/system/constans-agent.service.d/clock.conf";
const SPOOL: &str = "/var/lib/constans/spool";
/// So many reports wait at the most.
const MOST_REPORTS: usize = 500;
/// Days pass in a minute or two.
const DAYS_PASS: Duration = Duration::from_secs(240);

/// Gives the agent another clock than the host's, as libfaketime writes it, or the host's own again.
fn set_clock(host: Host<'_>, clock: Option<&str>) -> Result<(), Failed> {
    match clock {
        Some(clock) => {
            let library = "/usr/lib/x86_64-linux-gnu/faketime/libfaketimeMT.so.1";
            host.write(DROP_IN, &format!("[Service]\nEnvironment=LD_PRELOAD={library} \"FAKETIME={clock}\" FAKETIME_NO_CACHE=1\n"))?;
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

fn wrong_clock(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    let before = corrections(hub)?;
    for (clock, told) in [("+3h", "its clock is 3 h"), ("-3h", "its clock is -3 h")] {
        drift(host)?;
        set_clock(host, Some(clock))?;
        let seen = put_right(host).and_then(|()| hub.wait_for(&["node", "show", NODE], "its clock is", SOON));
        set_clock(host, None)?;
        let seen = seen?;
        if !seen.contains(told) {
            return Err(format!("it is not told as `{told}`: {seen}"));
        }
    }
    drift(host)?;
    next_round(host)?;
    put_right(host)?;
    let listed = hub.wait_for(&["node", "list"], "drift corrected", SOON)?;
    if listed.contains("clock") {
        return Err(format!("the clock is right again, and told as wrong: {listed}"));
    }
    let runs = hub.client(&["run", "list", NODE, "--output", "json"])?;
    let came = corrections(hub)? - before;
    if came != 3 {
        return Err(format!("{came} corrections are listed and not 3: {runs}"));
    }
    Ok(())
}

fn days_away(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    set_kiosks(hub, "run_interval_secs = 300")?;
    next_round(host)?;
    hub.wait_for(&["node", "list"], "in line", SOON)?;
    let before = corrections(hub)?;
    host.cable(false)?;
    let passed = days_pass(host);
    set_clock(host, None)?;
    host.cable(true)?;
    passed?;
    next_round(host)?;
    host.wait_for(&format!("[ $(ls {SPOOL} | wc -l) -eq 0 ]"), 2 * SOON)?;
    let came = corrections(hub)? - before;
    if came != 2 {
        return Err(format!("{came} corrections are told and not the 2 that were made meanwhile"));
    }
    set_kiosks(hub, "")?;
    next_round(host)
}

fn days_pass(host: Host<'_>) -> Result<(), Failed> {
    drift(host)?;
    set_clock(host, Some("+0 x5000"))?;
    put_right(host)?;
    // More runs than are kept: the oldest in which nothing happened go.
    host.wait_for(&format!("[ $(ls {SPOOL} | wc -l) -ge {MOST_REPORTS} ]"), DAYS_PASS)?;
    drift(host)?;
    put_right(host)?;
    let waiting = host.shell(&format!("ls {SPOOL} | wc -l"))?;
    let clock = host.shell(&format!("ls {SPOOL} | tail -1 | sed 's,^,{SPOOL}/,' | xargs grep -o '\"began\":\"[^\"]*\"'; date -u +%FT%TZ"))?;
    println!("          {} reports wait; the last run and the hour: {}", waiting.trim(), clock.replace('\n', " "));
    match waiting.trim().parse::<usize>() {
        Ok(count) if count <= MOST_REPORTS => Ok(()),
        _ => Err(format!("{} reports wait, and at most {MOST_REPORTS} may", waiting.trim())),
    }
}

fn copied(hub: &Hub<'_>, host: Host<'_>) -> Result<(), Failed> {
    // The copy checks in by itself, then the node does, as two machines would from one image.
    host.shell("systemctl stop constans-agent && cp -a /var/lib/constans /srv/copy")?;
    host.shell("constans-agent check-in")?;
    host.shell("constans-agent check-in --state-dir /srv/copy")?;
    hub.wait_for(&["node", "show", NODE], "double: two machines were seen as this node", SOON)?;
    next_round(host)?;
    drift(host)?;
    next_round(host)?;
    put_right(host)?;
    host.shell("rm -r /srv/copy")?;
    hub.client(&["node", "settle", NODE])?;
    next_round(host)?;
    host.shell("constans-agent check-in")?;
    let shown = hub.client(&["node", "show", NODE])?;
    if shown.contains("double") { Err(format!("it is told as settled, and is not: {shown}")) } else { Ok(()) }
}
