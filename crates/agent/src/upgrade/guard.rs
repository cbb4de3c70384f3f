//! The guard of an upgrade: a process of its own that installs the new package, waits until the new agent reports, and else reinstalls the
//! one before. Killed at any step, it goes on where it was.

use super::{AGENT, LOCK, REPORTED, Step, Upgrade, last_line};
use crate::error::AgentError;
use crate::noted::DaemonNote;
use crate::state_dir::StateDir;
use constans_wire::agent_package::PackageFormat;
use constans_wire::exit::Exit;
use jiff::Timestamp;
use rustix::process::{Pid, Signal, kill_process};
use std::fs::{self, File};
use std::path::Path;
use std::process::{Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};

/// How long it waits for another guard, or for an agent that looks whether there is one.
const LOCK_PATIENCE: Duration = Duration::from_secs(5);
/// Between two looks whether the new agent has reported.
const LOOK_EVERY: Duration = Duration::from_millis(500);
/// A package manager has this long, while another one is at work too.
const INSTALL_PATIENCE: Duration = Duration::from_secs(600);
/// Between two tries to install.
const TRY_AGAIN: Duration = Duration::from_secs(5);
/// So often it is tried to reinstall the version before.
const TRIES_BACK: u32 = 60;

/// Takes an upgrade to its end.
///
/// # Errors
///
/// Returns what of the agent's own folder cannot be read or written: it is then started again.
pub fn guard(state_dir: &StateDir) -> Result<Exit, AgentError> {
    let end = Instant::now() + LOCK_PATIENCE;
    let _lock = loop {
        match state_dir.try_lock(LOCK)? {
            Some(lock) => break lock,
            None if Instant::now() > end => return Ok(Exit::Well),
            None => sleep(Duration::from_millis(100)),
        }
    };
    let began = state_dir.now();
    while let Some(mut upgrade) = Upgrade::read(state_dir)?.filter(Upgrade::is_under_way) {
        let next = next_step(state_dir, &upgrade, began);
        let is_done = next == Step::Done;
        if next != upgrade.step {
            upgrade.advance(state_dir, next)?;
        }
        if is_done {
            // It is what the next upgrade goes back to.
            let _ = fs::rename(upgrade.package(state_dir, true), upgrade.package(state_dir, false));
        }
    }
    Ok(Exit::Well)
}

/// Does what a step needs, and returns the next one.
fn next_step(state_dir: &StateDir, upgrade: &Upgrade, began: Timestamp) -> Step {
    match &upgrade.step {
        Step::Fetched => Step::Installing,
        Step::Installing => match install(state_dir, upgrade, true) {
            Ok(()) => {
                restart(state_dir, upgrade, true);
                Step::Waiting { since: state_dir.now() }
            }
            Err(why) => Step::GoingBack { why: format!("it could not be installed: {why}") },
        },
        Step::Waiting { since } => {
            let reported = state_dir.read_text(REPORTED).ok().flatten();
            // A machine that was off meanwhile gets its time again.
            let waited = state_dir.now().duration_since(began.max(*since)).unsigned_abs();
            if reported.as_deref() == Some(&upgrade.to) {
                Step::Done
            } else if waited > Duration::from_secs(upgrade.report_within_secs) {
                let within = upgrade.report_within_secs;
                let within = if within.is_multiple_of(60) {
                    format!("{} min", within / 60)
                } else {
                    format!("{within} s")
                };
                Step::GoingBack { why: format!("it did not report within {within}") }
            } else {
                sleep(LOOK_EVERY);
                upgrade.step.clone()
            }
        }
        Step::GoingBack { why } => {
            let why = match go_back(state_dir, upgrade) {
                Ok(()) => format!("{why}; version {} is installed again", upgrade.from),
                Err(second) => {
                    format!("{why}; version {} could NOT be installed again: {second}", upgrade.from)
                }
            };
            restart(state_dir, upgrade, false);
            Step::Failed { why }
        }
        ended => ended.clone(),
    }
}

fn go_back(state_dir: &StateDir, upgrade: &Upgrade) -> Result<(), String> {
    let mut tries = 1;
    loop {
        match install(state_dir, upgrade, false) {
            Err(_) if tries < TRIES_BACK => sleep(TRY_AGAIN),
            tried => return tried,
        }
        tries += 1;
    }
}

/// Installs the new package, or the one before.
fn install(state_dir: &StateDir, upgrade: &Upgrade, is_new: bool) -> Result<(), String> {
    let (program, arguments): (&str, &[&str]) = match upgrade.format {
        PackageFormat::Deb => ("dpkg", &["--force-confold", "--force-downgrade", "--install"]),
        PackageFormat::Rpm => ("rpm", &["--upgrade", "--oldpackage", "--replacepkgs"]),
    };
    let log = state_dir.path().join("upgrade/log");
    let end = Instant::now() + INSTALL_PATIENCE;
    loop {
        let mut command = Command::new(program);
        command.args(arguments).arg(upgrade.package(state_dir, is_new));
        let said = run(command.env("DEBIAN_FRONTEND", "noninteractive").env("LC_ALL", "C"), &log, end);
        match said {
            // Somebody else installs something.
            Err(why) if why.contains("lock") && Instant::now() < end => sleep(TRY_AGAIN),
            said => return said,
        }
    }
}

/// Runs a command until it ends, or `end` is over.
fn run(command: &mut Command, log: &Path, end: Instant) -> Result<(), String> {
    let failed = |error: std::io::Error| error.to_string();
    let out = File::create(log).map_err(failed)?;
    command.stdin(Stdio::null()).stdout(out.try_clone().map_err(failed)?).stderr(out);
    let mut child = command.spawn().map_err(failed)?;
    loop {
        match child.try_wait().map_err(failed)? {
            Some(status) if status.success() => return Ok(()),
            Some(_) => {
                let said = fs::read(log).unwrap_or_default();
                return Err(last_line(&String::from_utf8_lossy(&said)));
            }
            None if Instant::now() > end => {
                let _ = child.kill();
                let _ = child.wait();
                return Err("the package manager did not end".to_owned());
            }
            None => sleep(Duration::from_millis(100)),
        }
    }
}

/// Has the installed agent run in place of the one before. A package that comes restarts its service by itself; an agent that failed is
/// not among those that this restarts.
fn restart(state_dir: &StateDir, upgrade: &Upgrade, is_new: bool) {
    if upgrade.is_service {
        if !is_new {
            let systemctl =
                |arguments: &[&str]| Command::new("systemctl").args(arguments).arg(AGENT).status();
            let _ = systemctl(&["reset-failed"]);
            let _ = systemctl(&["restart", "--no-block"]);
        }
        return;
    }
    let alive = DaemonNote::read(state_dir).ok().flatten().filter(DaemonNote::is_alive);
    match alive.and_then(|note| Pid::from_raw(i32::try_from(note.pid).ok()?)) {
        // It executes the program that is installed now.
        Some(pid) => drop(kill_process(pid, Signal::HUP)),
        // A new one that ended is no daemon any more; one that goes on only for a round was none.
        None if !is_new && !upgrade.command_line.iter().any(|word| word == "--once") => {
            let _ = Command::new("setsid").arg("--fork").args(&upgrade.command_line).status();
        }
        None => {}
    }
}
