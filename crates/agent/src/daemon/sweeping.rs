//! Sweeps: runs that a person asked for.

use super::telling::Telling;
use super::{Daemon, PATIENCE};
use crate::error::AgentError;
use crate::served::Served;
use crate::server_link::ServerLink;
use crate::sweep::{TakenSweep, is_over, next};
use constans_core::run::{Part, Selection};
use constans_core::sweep::Refused;
use constans_host::Host;
use constans_wire::report::StartedBy;
use constans_wire::run::Received;
use constans_wire::sweep::{SweepGoesOn, SweepOffer, SweepProgress, SweptRun};
use jiff::SignedDuration;
use log::Level;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

/// After so long a sweep is tried again that found another run under way.
const AGAIN_AFTER: SignedDuration = SignedDuration::from_secs(30);

/// A sweep as it is run.
pub(super) struct SweepRun<'s> {
    pub offer: &'s SweepOffer,
    pub part: Selection,
    pub stop: Arc<AtomicBool>,
}

impl SweepRun<'_> {
    /// Returns it as reports name it.
    pub fn told(&self) -> SweptRun {
        SweptRun { id: self.offer.id, no: self.offer.no, is_stopped: false }
    }
}

impl<H: Host> Daemon<H> {
    /// Runs what sweeps ask for, one after the other, the oldest first.
    pub(super) async fn sweep(&mut self, link: &ServerLink<'_>) -> Result<(), AgentError> {
        while let Some(sweep) = next(&self.state_dir)? {
            if !self.sweep_once(link, &sweep).await? {
                break;
            }
        }
        Ok(())
    }

    /// Runs what a sweep asks for, or refuses. Returns whether the next one may be tried now.
    async fn sweep_once(&mut self, link: &ServerLink<'_>, sweep: &TakenSweep) -> Result<bool, AgentError> {
        let (offer, name) = (&sweep.offer, sweep.name());
        let Some(url) = self.contact.as_ref().map(|contact| contact.url.clone()) else { return Ok(false) };
        let served = Served::read(&self.state_dir)?;
        let has = served.as_ref().map(|served| served.generation);
        if offer.generation.is_some_and(|needed| has.is_none_or(|has| has < needed)) {
            self.journal.say(Level::Warn, &format!("{name} waits: this node has not what it is about yet"));
            self.due.check_in_by(self.state_dir.now() + AGAIN_AFTER);
            return Ok(false);
        }
        let part = match &served {
            None => Err(Refused::NoState),
            Some(served) => {
                let usual = served.run_settings(&self.state_dir, self.state_dir.now())?;
                match offer.order.refused_by(&usual, self.state_dir.now()) {
                    Some(refused) => Err(refused),
                    None => chosen(&offer.order.part, served),
                }
            }
        };
        let (served, part) = match (served, part) {
            (Some(served), Ok(part)) => (served, part),
            (_, Ok(_)) => return Ok(true),
            (_, Err(refused)) => {
                self.journal.say(Level::Warn, &format!("{name} refused: {}", refused.words().write_dated()));
                let told = link.way().tell::<Received>(&sweep.address(&url, "refusal"), &refused).await;
                if let Err(error) = told {
                    // It is offered again, and told then.
                    self.journal.say(Level::Warn, &format!("the refusal of {name} was not told: {error}"));
                    return Ok(false);
                }
                is_over(&self.state_dir, offer.id)?;
                return Ok(true);
            }
        };
        let what = format!("{name} ({})", offer.order.words());
        let way = link.way();
        let lock = match self.state_dir.lock("sweep", PATIENCE, |_| ()) {
            Ok(lock) => lock,
            Err(error) => {
                // It waits for that run until its own end, and goes on checking in meanwhile.
                self.journal.say(Level::Warn, &format!("{what} waits: {}", error.message));
                let waiting = SweepProgress { doing: error.message, ..SweepProgress::default() };
                let told: Result<SweepGoesOn, _> = way.tell(&sweep.address(&url, "progress"), &waiting).await;
                drop(told);
                self.due.check_in_by(self.state_dir.now() + AGAIN_AFTER);
                return Ok(false);
            }
        };
        self.journal.say(Level::Info, &format!("{what} for {}: {}", offer.who, offer.because));
        is_over(&self.state_dir, offer.id)?;
        if offer.order.read_all {
            self.host.forget_readings();
        }
        let stop = Arc::<AtomicBool>::default();
        let run = SweepRun { offer, part, stop: stop.clone() };
        let last_took = self.last_took(offer.order.mode, &run.part);
        let telling = Telling::begin(&self.state_dir, way, sweep.address(&url, "progress"), stop, last_took);
        let ran = self.run_followed(served, StartedBy::Sweep, Some(&run), Some(link)).await;
        drop((telling, lock));
        match ran {
            Ok(report) => self.run_ended(&report, Some(link)).await?,
            Err(error) => {
                // It could not be run, or not to its end: what of it is on record is delivered with the next run.
                let failed = Refused::Failed { message: error.message.clone() };
                let told = link.way().tell::<Received>(&sweep.address(&url, "refusal"), &failed).await;
                drop(told);
                return Err(error);
            }
        }
        Ok(true)
    }
}

fn chosen(part: &Part, served: &Served) -> Result<Selection, Refused> {
    part.of(&served.state).map_err(|none| Refused::NoSuchPart { message: none.message })
}
