//! The agent as a daemon: checks in, runs, delivers, and sleeps until the interval is over.

use crate::error::AgentError;
use crate::join::membership;
use crate::run_loop::{Keeping, Runner, left_behind};
use crate::served::{SERVED_STORE, Served, Takeover};
use crate::server_link::ServerLink;
use crate::spool::Spool;
use crate::state_dir::StateDir;
use crate::way;
use constans_core::run::{Part, Settings};
use constans_host::Machine;
use constans_wire::report::{RunReport, StartedBy};
use jiff::Timestamp;
use sd_notify::NotifyState;
use std::path::Path;
use std::time::{Duration, Instant};
use tokio::signal::unix::{SignalKind, signal};

/// How long a run waits for another one to end.
const PATIENCE: Duration = Duration::from_secs(60);
/// How long is waited between two tries to reach one.
const WAY_PAUSE: Duration = Duration::from_secs(3);
/// How far check-ins are spread over the interval.
const SPREAD_PERCENT: u64 = 10;

/// Goes on until it is told to stop, or for one round.
///
/// # Errors
///
/// Returns what keeps it from going on: no fleet, or a folder that cannot be written. A server that is away does not.
pub async fn run(state_dir: &StateDir, machine: &mut Machine, once: bool, reach_within: Duration) -> Result<(), AgentError> {
    membership(state_dir)?;
    // Asked to end, it finishes the run that it has begun.
    let no_signals = |error: std::io::Error| AgentError::new(format!("signals cannot be waited for: {error}"));
    let mut ended = signal(SignalKind::terminate()).map_err(no_signals)?;
    let mut interrupted = signal(SignalKind::interrupt()).map_err(no_signals)?;
    let mut started_by = StartedBy::AfterRestart;
    // It is ready before its first round: that may wait for a server that is away.
    tell_service_manager(&[NotifyState::Ready]);
    loop {
        round(state_dir, machine, started_by, reach_within).await?;
        if once {
            return Ok(());
        }
        started_by = StartedBy::Interval;
        tokio::select! {
            () = tokio::time::sleep(pause(state_dir)?) => {}
            _ = ended.recv() => break,
            _ = interrupted.recv() => break,
        }
    }
    tell_service_manager(&[NotifyState::Stopping]);
    Ok(())
}

/// Tells the service manager how the agent is, if one started it (sd_notify(3)).
fn tell_service_manager(state: &[NotifyState<'_>]) {
    if let Err(error) = sd_notify::notify(state) {
        eprintln!("the service manager was not told: {error}");
    }
}

/// One round: check in, run what is wanted, deliver; what cuts the way to the server is put back.
async fn round(state_dir: &StateDir, machine: &mut Machine, started_by: StartedBy, reach_within: Duration) -> Result<(), AgentError> {
    let link = ServerLink::open(state_dir)?;
    let (reached, taken) = match link.check_in(state_dir, &machine.about()?).await {
        Ok(checked_in) => {
            let recovering = if checked_in.recovering { ", which is recovering; going on with what was wanted last" } else { "" };
            println!("{:.0}  connected to {} as {}{recovering}", Timestamp::now(), checked_in.url, checked_in.name);
            way::reached(state_dir);
            (true, checked_in.takeover)
        }
        Err(error) if error.exit == constans_wire::exit::Exit::Refused => return Err(error),
        Err(error) => {
            println!("{:.0}  {}; going on with what was wanted last", Timestamp::now(), error.message);
            (false, None)
        }
    };
    // An agent that was cut off between a change and the next contact ends here what it began to guard.
    guard_way(&link, state_dir, machine, reach_within).await?;
    let started_by = if taken == Some(Takeover::New) { StartedBy::NewState } else { started_by };
    let Some(report) = run_once(state_dir, machine, started_by, reached)? else { return Ok(()) };
    let delivered = link.deliver_soon(state_dir).await?;
    println!("{:.0}  {}{}", Timestamp::now(), report.status.words(), if delivered { "" } else { "; the report waits until the server is back" });
    tell_service_manager(&[NotifyState::Status(&format!("{}, {:.0}", report.status.words(), Timestamp::now()))]);
    if delivered {
        way::reached(state_dir);
    }
    guard_way(&link, state_dir, machine, reach_within).await
}

/// If something of network or access was changed since a server was reached last: waits until one is reached again, and
/// puts the change back if none is within the set time.
async fn guard_way(link: &ServerLink, state_dir: &StateDir, machine: &mut Machine, reach_within: Duration) -> Result<(), AgentError> {
    if !way::is_at_risk(state_dir) {
        return Ok(());
    }
    println!("{:.0}  no server is reached after a change; waiting {} s before it is put back", Timestamp::now(), reach_within.as_secs());
    let end = Instant::now() + reach_within;
    while Instant::now() < end {
        tokio::time::sleep(WAY_PAUSE).await;
        // A report that waits, or the check-in itself, shows that a server is there.
        let is_there = match link.check_in(state_dir, &machine.about()?).await {
            Ok(_) => true,
            Err(error) if error.exit == constans_wire::exit::Exit::Refused => true,
            Err(_) => false,
        };
        if is_there {
            way::reached(state_dir);
            return Ok(());
        }
    }
    let _lock = state_dir.lock("daemon", PATIENCE, |_| ())?;
    let put_back = way::put_all_back(state_dir, machine, &state_dir.key()?, Path::new(SERVED_STORE))?;
    for address in &put_back.done {
        println!("{:.0}  put back: {address}", Timestamp::now());
    }
    for why in &put_back.not_done {
        println!("{:.0}  NOT put back: {why}", Timestamp::now());
    }
    Ok(())
}

/// Runs what is wanted, in the mode that is set, and puts the report into the spool.
fn run_once(state_dir: &StateDir, machine: &mut Machine, started_by: StartedBy, guards_way: bool) -> Result<Option<RunReport>, AgentError> {
    let Some(served) = Served::read(state_dir)? else { return Ok(None) };
    let _lock = state_dir.lock("daemon", PATIENCE, |_| ())?;
    let settings = Settings {
        on_drift: served.settings.on_drift,
        on_rollout: served.settings.on_rollout,
        put_back: way::put_back(state_dir, &served.state.digest)?,
        ..Settings::of(served.settings.mode)
    };
    let key = state_dir.key()?;
    let wanted = served.wanted(state_dir)?;
    let memories = state_dir.store(&wanted.store)?.memories()?;
    machine.prepare(&wanted.resolved.state, left_behind(&memories, &wanted.resolved.state));
    let mut runner = Runner { machine, state_dir, wanted: &wanted, key: &key, progress: &mut |_, _, _, _| (), started_by, reason: None, guards_way };
    let report = runner.run(settings, &Part::Whole, Keeping::Everything)?;
    Spool::open(state_dir)?.add(&report.clone().for_server())?;
    Ok(Some(report))
}

/// Returns how long to sleep: the interval, moved by up to a tenth so that a fleet does not come all at once.
fn pause(state_dir: &StateDir) -> Result<Duration, AgentError> {
    let interval = Served::read(state_dir)?.map_or(crate::server_link::USUAL_INTERVAL_SECS, |served| served.settings.interval_secs);
    let widest_ms = interval * 1_000 * SPREAD_PERCENT / 100;
    let random = u64::from(Timestamp::now().subsec_nanosecond().unsigned_abs()) * 7_919 % (widest_ms + 1);
    Ok(Duration::from_millis(interval * 1_000 - random))
}
