//! Upgrading the agent itself, as its settings say.

use super::{AgentError, Daemon, Level, Served, ServerLink, StartedBy};
use crate::upgrade::{self, OWN_VERSION, Step, Upgrade};
use crate::upgrade_packages;
use constans_core::run::{UpgradeDue, upgrade_due};
use constans_host::Host;
use std::os::unix::process::CommandExt as _;
use std::path::PathBuf;
use std::process::Command;
use std::time::Duration;

/// Between two looks while an upgrade is under way.
const PAUSE: Duration = Duration::from_secs(5);
/// What the system says of a program that was replaced since it started.
const REPLACED: &str = " (deleted)";

impl<H: Host> Daemon<H> {
    /// Upgrades the agent if its settings name another version and its node may be changed. Returns whether the new agent runs what is
    /// wanted, and not this one.
    pub(super) async fn upgrade_if_due(&mut self, link: &ServerLink<'_>) -> Result<bool, AgentError> {
        let last = Upgrade::read(&self.state_dir)?;
        if let Some(under_way) = last.as_ref().filter(|upgrade| upgrade.is_under_way()) {
            return self.leave_to_guard(under_way);
        }
        let Some(served) = Served::read(&self.state_dir)? else { return Ok(false) };
        let Some(to) = served.settings.agent_version.clone().filter(|to| to != OWN_VERSION) else {
            return Ok(false);
        };
        let has_failed = |last: &Upgrade| last.to == to && matches!(last.step, Step::Failed { .. });
        if last.as_ref().is_some_and(has_failed) {
            return Ok(false);
        }
        let now = self.state_dir.now();
        match upgrade_due(&served.run_settings(&self.state_dir, now)?, now) {
            UpgradeDue::Now => {}
            UpgradeDue::At(at) => {
                self.due.run_by(at, StartedBy::AnnouncedHour);
                return Ok(false);
            }
            UpgradeDue::Left(_) => return Ok(false),
        }
        self.journal.say(Level::Info, &format!("upgrading the agent from {OWN_VERSION} to {to}"));
        let is_private_root = self.host.acted_on().is_private_root();
        let begun =
            upgrade_packages::begin(&self.state_dir, link, &to, is_private_root, self.report_within_secs)
                .await?;
        match &begun.step {
            Step::Failed { why } => {
                self.journal.say(Level::Error, &format!("the agent was NOT upgraded to {to}: {why}"));
                Ok(false)
            }
            Step::NotBegun { why } => {
                let again =
                    format!("the agent is not upgraded to {to} yet: {why}; retrying at the next check-in");
                self.journal.say(Level::Warn, &again);
                Ok(false)
            }
            _ => self.leave_to_guard(&begun),
        }
    }

    /// Has the server learn at once how the upgrade is, if that is something else than it was told last.
    pub(super) fn tell_upgrade(&mut self) -> Result<(), AgentError> {
        if self.is_reached && upgrade::reported(&self.state_dir)? != self.told_upgrade {
            self.due.wants_check_in();
        }
        Ok(())
    }

    fn leave_to_guard(&mut self, under_way: &Upgrade) -> Result<bool, AgentError> {
        upgrade::start_guard(&self.state_dir, under_way)?;
        let is_left = under_way.to != OWN_VERSION;
        if is_left {
            let pause = jiff::SignedDuration::try_from(PAUSE).unwrap_or_default();
            self.due.not_before(self.state_dir.now() + pause);
        }
        Ok(is_left)
    }
}

/// Returns the file of the program that this process began with.
pub(super) fn installed_program() -> PathBuf {
    let running = std::env::current_exe().unwrap_or_else(|_| PathBuf::from("/usr/bin/constans-agent"));
    match running.to_str().and_then(|path| path.strip_suffix(REPLACED)) {
        Some(path) => PathBuf::from(path),
        None => running,
    }
}

/// Executes the program that is installed now in place of this one. Returns only if that fails.
pub(super) fn execute(program: &PathBuf) -> AgentError {
    let error = Command::new(program).args(std::env::args_os().skip(1)).exec();
    AgentError::new(format!("{} cannot be executed: {error}", program.display()))
}
