//! Restarting the node when its operating system needs it.

use super::Daemon;
use crate::error::AgentError;
use crate::noted::{RestartNote, StartNote};
use crate::served::Served;
use constans_core::run::{RestartDue, RestartPending, restart_due};
use constans_host::{Host, restart};
use constans_wire::report::StartedBy;
use log::Level;

impl<H: Host> Daemon<H> {
    /// Restarts the node if its operating system needs it and its settings allow it; else reports that a restart is due.
    pub(super) fn restart_if_due(&mut self) -> Result<(), AgentError> {
        let noted = StartNote::read(&self.state_dir)?;
        let pending = self.host.restart_pending().map_err(|error| AgentError::new(error.message))?;
        let Some(pending) = pending else {
            if noted.restarted_for.is_some() {
                StartNote { restarted_for: None, ..noted }.keep(&self.state_dir)?;
            }
            self.restart = None;
            return Ok(());
        };
        let Some(served) = Served::read(&self.state_dir)? else { return Ok(()) };
        let settings = served.run_settings(&self.state_dir, self.state_dir.now())?;
        let mut due = restart_due(
            served.settings.restart,
            &settings,
            &pending,
            noted.restarted_for.as_ref(),
            self.state_dir.now(),
        );
        if self.host.acted_on().is_private_root() {
            due = RestartDue::Left("a private root folder cannot be restarted".to_owned());
        }
        let words = match due {
            RestartDue::Now => return self.restart_node(pending, noted),
            RestartDue::At(at) => {
                self.due.run_by(at, StartedBy::AnnouncedHour);
                format!("restart at {at:.0}, when the change window opens")
            }
            RestartDue::Left(why) => why,
        };
        let note = RestartNote { pending, due: words };
        if self.restart.as_ref().is_none_or(|known| known.due != note.due) {
            self.journal.say(
                Level::Warn,
                &format!("restart pending ({}): {}", note.pending.because.join(", "), note.due),
            );
        }
        self.restart = Some(note);
        Ok(())
    }

    fn restart_node(&mut self, pending: RestartPending, noted: StartNote) -> Result<(), AgentError> {
        let why = pending.because.join(", ");
        self.journal
            .say(Level::Warn, &format!("restarting this node, because the operating system needs it: {why}"));
        // Noted first: a restart that does not help must not be tried again and again.
        StartNote { restarted_for: Some(pending.clone()), ..noted }.keep(&self.state_dir)?;
        let due = match restart::restart(&format!(
            "Constans restarts this node, because the operating system needs it: {why}"
        )) {
            Ok(_) => "restarting".to_owned(),
            Err(error) => {
                self.journal.say(Level::Error, &format!("NOT restarted: {}", error.message));
                format!("not restarted: {}", error.message)
            }
        };
        self.restart = Some(RestartNote { pending, due });
        Ok(())
    }
}
