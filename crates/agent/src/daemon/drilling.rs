//! Drills: what the server asks to be broken, what runs make of it, and its end.

use super::{Daemon, PATIENCE};
use crate::drill::Drill;
use crate::error::AgentError;
use crate::local::LocalContents;
use crate::served::Served;
use crate::server_link::ServerLink;
use constans_host::{Contents, Host};
use constans_link::LinkError;
use constans_terminal::harmless;
use constans_wire::drill::DrillOffer;
use constans_wire::report::{RunReport, StartedBy};
use constans_wire::run::Received;
use log::Level;
use std::sync::Arc;

impl<H: Host> Daemon<H> {
    /// Does a drill, unless it is known already.
    pub(super) fn drill(&mut self, offer: &DrillOffer) -> Result<(), AgentError> {
        if Drill::read(&self.state_dir)?.is_some() {
            return Ok(());
        }
        let Some(served) = Served::read(&self.state_dir)? else { return Ok(()) };
        let name = format!("drill D{}", offer.no);
        let asked = format!("{name} for {}: {}", offer.who, offer.because);
        self.journal.say(Level::Warn, &harmless(&asked));
        let _lock = self.state_dir.lock("drill", PATIENCE, |_| ())?;
        let settings = served.run_settings(&self.state_dir, self.state_dir.now())?;
        let wanted = served.wanted(&self.state_dir)?;
        let drill = Drill::begin(offer, &wanted, &settings, &self.state_dir, &mut self.host)?;
        if let Some(why) = &drill.report.refused {
            self.journal.say(Level::Warn, &format!("{name}: nothing is broken: {why}"));
        }
        for told in &drill.report.clauses {
            let words = match (&told.failed, &told.words) {
                (Some(why), _) => format!("not broken: {why}"),
                (None, words) => format!("broken on purpose: {}", words.as_deref().unwrap_or_default()),
            };
            self.journal.say(Level::Warn, &format!("{name}: {} {words}", told.address));
        }
        if offer.now && !drill.report.is_over() {
            self.due.wants_run(StartedBy::Drill);
        }
        Ok(())
    }

    /// Notes what a run made of the drill.
    pub(super) fn note_drill(&mut self, report: &RunReport) -> Result<(), AgentError> {
        let Some(mut drill) = Drill::read(&self.state_dir)? else { return Ok(()) };
        if drill.note(report, self.state_dir.now()) {
            drill.keep(&self.state_dir)?;
        }
        Ok(())
    }

    /// Undoes what is left of a drill whose time is over, has the next round come when it is, and tells the server how it is.
    pub(super) async fn attend_to_drill(&mut self, link: Option<&ServerLink<'_>>) -> Result<(), AgentError> {
        let Some(mut drill) = Drill::read(&self.state_dir)? else { return Ok(()) };
        if !drill.report.is_over() {
            if drill.undo_at <= self.state_dir.now() {
                let _lock = self.state_dir.lock("drill", PATIENCE, |_| ())?;
                let served = Served::read(&self.state_dir)?;
                let contents: Arc<dyn Contents> = match served.map(|served| served.wanted(&self.state_dir)) {
                    Some(Ok(wanted)) => wanted.contents,
                    _ => Arc::new(LocalContents(Arc::default())),
                };
                drill.undo(&contents, &self.state_dir, &mut self.host)?;
                self.journal.say(Level::Warn, &format!("drill D{}: undone, its time is over", drill.no));
            } else {
                self.due.check_in_by(drill.undo_at);
            }
        }
        let url = self.contact.as_ref().filter(|_| self.is_reached).map(|contact| contact.url.clone());
        let (Some(link), Some(url)) = (link, url) else { return Ok(()) };
        if !drill.is_told {
            let told: Result<Received, LinkError> =
                link.way().tell(&format!("{url}/drills/{}", drill.no), &drill.report).await;
            match told {
                // A server that refuses it does not know of it, or that it was over.
                Ok(_) | Err(LinkError::Refused(_)) => drill.is_told = true,
                Err(error) => {
                    self.journal
                        .say(Level::Warn, &format!("how the drill D{} is was not told: {error}", drill.no));
                    return Ok(());
                }
            }
            drill.keep(&self.state_dir)?;
        }
        if drill.report.is_over() {
            Drill::forget(&self.state_dir);
        }
        Ok(())
    }
}
