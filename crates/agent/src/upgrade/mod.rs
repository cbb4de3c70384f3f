//! Upgrades of the agent to the version that its settings name: the package is fetched and kept with the one to go back to, and a process of
//! its own, the guard, installs it and reinstalls the one before if the new agent does not report.

mod guard;
mod installed;

pub use guard::guard;
pub use installed::{Installed, NotBegun, installed};

use crate::error::AgentError;
use crate::served::Served;
use crate::state_dir::StateDir;
use constans_core::run::{AgentUpgrade, UpgradeDue, UpgradeState, upgrade_due};
use constans_wire::agent_package::PackageFormat;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fs::{self, File};
use std::path::PathBuf;
use std::process::{Command, Stdio};

/// The version of this program.
pub const OWN_VERSION: &str = env!("CARGO_PKG_VERSION");
/// A new agent reports within this time, or the one before is reinstalled.
pub const REPORT_WITHIN_SECS: u64 = 600;

/// How far the upgrade is.
const UPGRADE: &str = "upgrade.json";
/// What the new agent writes once it has reported: its version.
pub(crate) const REPORTED: &str = "upgrade/reported";
/// Held by the guard while it goes on.
const LOCK: &str = "upgrade/lock";
/// The program of the guard: the agent that began the upgrade.
pub(crate) const GUARD: &str = "upgrade/guard";
/// The service of the agent, and its package.
pub(crate) const AGENT: &str = "constans-agent";

/// An upgrade of the agent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Upgrade {
    /// The version that is wanted.
    pub to: String,
    /// The version that began it.
    pub from: String,
    /// How far it is.
    pub step: Step,
    /// How the packages are built.
    pub(crate) format: PackageFormat,
    /// Whether the service manager started the agent.
    pub(crate) is_service: bool,
    /// The command line of the agent, if it is no service.
    pub(crate) command_line: Vec<String>,
    /// How many seconds the new agent has to report.
    pub(crate) report_within_secs: u64,
}

/// How far an upgrade is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// It could not be begun yet, and is tried again.
    NotBegun {
        /// Why.
        why: String,
    },
    /// Both packages are here.
    Fetched,
    /// The new one is being installed.
    Installing,
    /// It is installed, and has not reported yet.
    Waiting {
        /// Since when.
        since: Timestamp,
    },
    /// The one before is being reinstalled.
    GoingBack {
        /// Why.
        why: String,
    },
    /// The new agent has reported.
    Done,
    /// The agent before is there again, or nothing was installed.
    Failed {
        /// Why.
        why: String,
    },
}

impl Upgrade {
    /// Returns the last one.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read(state_dir: &StateDir) -> Result<Option<Self>, AgentError> {
        state_dir.read_json(UPGRADE)
    }

    /// Returns whether the guard has something to do about it.
    pub fn is_under_way(&self) -> bool {
        match self.step {
            Step::Fetched | Step::Installing | Step::Waiting { .. } | Step::GoingBack { .. } => true,
            Step::NotBegun { .. } | Step::Done | Step::Failed { .. } => false,
        }
    }

    /// Keeps it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn keep(&self, state_dir: &StateDir) -> Result<(), AgentError> {
        state_dir.write_json(UPGRADE, self)
    }

    fn advance(&mut self, state_dir: &StateDir, step: Step) -> Result<(), AgentError> {
        self.step = step;
        self.keep(state_dir)
    }

    /// Returns the file of the new package, or of the one to go back to.
    fn package(&self, state_dir: &StateDir, is_new: bool) -> PathBuf {
        state_dir.path().join(package_name(self.format, is_new))
    }
}

pub(crate) fn package_name(format: PackageFormat, is_new: bool) -> String {
    format!("upgrade/{}.{format}", if is_new { "new" } else { "before" })
}

/// Returns how the agent is with the version that its settings name, as it tells the server.
///
/// # Errors
///
/// Returns why its settings or its last upgrade cannot be read.
pub fn reported(state_dir: &StateDir) -> Result<Option<AgentUpgrade>, AgentError> {
    let Some(served) = Served::read(state_dir)? else { return Ok(None) };
    let Some(to) = served.settings.agent_version.clone() else { return Ok(None) };
    let last = Upgrade::read(state_dir)?.filter(|upgrade| upgrade.to == to);
    let (state, why) = match last {
        Some(upgrade) if upgrade.is_under_way() && !has_reported(state_dir)? => {
            (UpgradeState::UnderWay, None)
        }
        _ if to == OWN_VERSION => (UpgradeState::Done, None),
        Some(Upgrade { step: Step::Failed { why }, .. }) => (UpgradeState::Failed, Some(why)),
        other => {
            let now = state_dir.now();
            let why = match (upgrade_due(&served.run_settings(state_dir, now)?, now), other) {
                (UpgradeDue::At(at), _) => Some(format!("the change window opens {at:.0}")),
                (UpgradeDue::Left(why), _) => Some(why),
                (UpgradeDue::Now, Some(Upgrade { step: Step::NotBegun { why }, .. })) => Some(why),
                (UpgradeDue::Now, _) => None,
            };
            (UpgradeState::Waiting, why)
        }
    };
    Ok(Some(AgentUpgrade { to, state, why }))
}

fn has_reported(state_dir: &StateDir) -> Result<bool, AgentError> {
    Ok(state_dir.read_text(REPORTED)?.as_deref() == Some(OWN_VERSION))
}

/// Notes that this agent has reported: if it is a new one, the guard need not go back.
///
/// # Errors
///
/// Returns why that cannot be noted.
pub fn note_reported(state_dir: &StateDir) -> Result<(), AgentError> {
    match Upgrade::read(state_dir)? {
        Some(upgrade) if upgrade.is_under_way() && upgrade.to == OWN_VERSION => {
            state_dir.write(REPORTED, OWN_VERSION.as_bytes())
        }
        _ => Ok(()),
    }
}

/// Lets an upgrade that failed be tried again. Returns its version; none if none has failed.
///
/// # Errors
///
/// Returns why it cannot be noted.
pub fn retry(state_dir: &StateDir) -> Result<Option<String>, AgentError> {
    let last = Upgrade::read(state_dir)?.filter(|upgrade| matches!(upgrade.step, Step::Failed { .. }));
    if last.is_some() {
        state_dir.remove(UPGRADE);
    }
    Ok(last.map(|upgrade| upgrade.to))
}

/// Starts the guard, unless it goes on.
///
/// # Errors
///
/// Returns why it cannot be started.
pub fn start_guard(state_dir: &StateDir, upgrade: &Upgrade) -> Result<(), AgentError> {
    let Some(free) = state_dir.try_lock(LOCK)? else { return Ok(()) };
    drop(free);
    let guard = state_dir.path().join(GUARD);
    let mut command = if upgrade.is_service {
        // Out of the agent's own unit, which ends with the agent.
        let mut command = Command::new("systemd-run");
        command.args(["--quiet", "--collect", "--unit=constans-agent-upgrade"]).args([
            "--property=Restart=on-failure",
            "--property=RestartSec=2",
            "--property=StartLimitIntervalSec=0",
        ]);
        command
    } else {
        let mut command = Command::new("setsid");
        command.arg("--fork");
        command
    };
    command.arg(guard).args(["upgrade-guard", "--state-dir"]).arg(state_dir.path());
    let failed = |why: String| AgentError::new(format!("the guard of the upgrade cannot be started: {why}"));
    // A guard that holds what it was given to write to would be waited for.
    let said = state_dir.path().join("upgrade/guard.log");
    let out = File::create(&said).map_err(|error| AgentError::own_file("write", &said, &error))?;
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(out);
    match command.status() {
        Ok(status) if status.success() => Ok(()),
        Ok(_) => Err(failed(last_line(&fs::read_to_string(&said).unwrap_or_default()))),
        Err(error) => Err(failed(error.to_string())),
    }
}

fn last_line(text: &str) -> String {
    let last = text.lines().map(str::trim).rfind(|line| !line.is_empty());
    last.unwrap_or("it said nothing").chars().take(300).collect()
}
