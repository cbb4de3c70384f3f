//! Random events of a simulated node: when, and which.

use crate::plan::Rates;
use constans_core::kit::OnDrift;
use constans_core::state::{Clause, EffectiveState};
use constans_host::simulated::SimulatedHost;
use fastrand::Rng;
use jiff::{SignedDuration, Timestamp};

const SECS_OF_A_DAY: f64 = 86_400.0;
/// How long it lasts on average that a node is off, cut off or fails.
const LASTS_SECS: f64 = 3.0 * 3_600.0;

/// Something that happens to a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Happening {
    Drift,
    Failure,
    Mending,
    Off,
    On,
    Cut,
    Reaching,
    Leaving,
}

/// What is to happen to one node, each at its time. The same seed brings about the same.
#[derive(Debug)]
pub(crate) struct Fate {
    rng: Rng,
    rates: Rates,
    next: Vec<(Timestamp, Happening)>,
}

impl Fate {
    pub fn from(at: Timestamp, rates: &Rates, seed: u64) -> Self {
        let mut fate = Self { rng: Rng::with_seed(seed), rates: rates.clone(), next: Vec::new() };
        for happening in
            [Happening::Drift, Happening::Failure, Happening::Off, Happening::Cut, Happening::Leaving]
        {
            fate.plan(happening, at);
        }
        fate
    }

    /// Returns when the next thing happens.
    pub fn next_at(&self) -> Option<Timestamp> {
        self.next.iter().map(|(at, _)| *at).min()
    }

    /// Returns what happens next, if that is until now, and plans what follows from it.
    pub fn take(&mut self, now: Timestamp) -> Option<(Timestamp, Happening)> {
        let first = (0..self.next.len())
            .min_by_key(|place| self.next[*place].0)
            .filter(|place| self.next[*place].0 <= now)?;
        let (at, happening) = self.next.swap_remove(first);
        match happening {
            Happening::Drift | Happening::Mending | Happening::On | Happening::Reaching => {
                self.plan(follower(happening), at);
            }
            Happening::Failure => self.after(LASTS_SECS, Happening::Mending, at),
            Happening::Off => self.after(LASTS_SECS, Happening::On, at),
            Happening::Cut => self.after(LASTS_SECS, Happening::Reaching, at),
            Happening::Leaving => self.next.clear(),
        }
        Some((at, happening))
    }

    /// Returns one of this many, by chance.
    pub fn choose(&mut self, from: usize) -> usize {
        self.rng.usize(..from)
    }

    /// Returns a seed for something else.
    pub fn seed(&mut self) -> u64 {
        self.rng.u64(..)
    }

    fn plan(&mut self, happening: Happening, from: Timestamp) {
        let a_day = match happening {
            Happening::Drift => self.rates.drift,
            Happening::Failure => self.rates.failure,
            Happening::Off => self.rates.off,
            Happening::Cut => self.rates.cut,
            Happening::Leaving => self.rates.leave,
            Happening::Mending | Happening::On | Happening::Reaching => return,
        };
        if a_day > 0.0 {
            self.after(SECS_OF_A_DAY / a_day, happening, from);
        }
    }

    /// Plans it by chance, on average after this many seconds: what has no memory comes exponentially spread.
    fn after(&mut self, secs: f64, happening: Happening, from: Timestamp) {
        let wait =
            SignedDuration::from_secs_f64((-secs * (1.0 - self.rng.f64()).ln()).min(3_650.0 * SECS_OF_A_DAY));
        self.next.extend(from.checked_add(wait).ok().map(|at| (at, happening)));
    }
}

/// Returns what can happen again after something.
fn follower(happening: Happening) -> Happening {
    match happening {
        Happening::Mending => Happening::Failure,
        Happening::On => Happening::Off,
        Happening::Reaching => Happening::Cut,
        other => other,
    }
}

/// Returns the clauses of a state that someone can change so that a run finds and corrects it.
pub(crate) fn changeable(state: &EffectiveState) -> Vec<&Clause> {
    let is_simple = |clause: &&Clause| match clause.address.kind() {
        "file" => clause.get("content").is_some() && clause.gone == constans_core::kit::Gone::No,
        "account" => clause.gone == constans_core::kit::Gone::No,
        "service" => clause.flag("running") == Some(true),
        _ => false,
    };
    // What is only reported would stay changed for ever.
    let is_corrected =
        |clause: &&Clause| clause.on_drift.is_none_or(|switch| switch.value != OnDrift::Report);
    state.clauses.iter().filter(is_simple).filter(is_corrected).collect()
}

/// Changes what a clause keeps, as someone would by hand.
pub(crate) fn change(host: &mut SimulatedHost, clause: &Clause, number: u64) {
    let address = clause.address.as_str();
    match clause.address.kind() {
        "file" => {
            host.change(address, |file| {
                file.contents = format!("# changed by hand, {number}\n").into_bytes();
            });
        }
        "service" => host.change(address, |service| service.set("running", false)),
        _ => host.remove(address),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_seed_brings_about_the_same_as_often_as_said() {
        let (begin, days) = (Timestamp::UNIX_EPOCH, 2_000);
        let lived = |seed| {
            let rates = Rates { drift: 0.5, cut: 0.1, ..Rates::none() };
            let mut fate = Fate::from(begin, &rates, seed);
            std::iter::from_fn(|| fate.take(begin + SignedDuration::from_hours(24 * days)))
                .collect::<Vec<_>>()
        };
        let happened = lived(7);
        assert_eq!(happened, lived(7));
        assert!(happened.is_sorted_by_key(|(at, _)| *at));
        let times = |wanted| happened.iter().filter(|(_, happening)| *happening == wanted).count();
        assert!((850..1_150).contains(&times(Happening::Drift)), "{}", times(Happening::Drift));
        assert!((150..250).contains(&times(Happening::Cut)), "{}", times(Happening::Cut));
        assert!(times(Happening::Cut) - times(Happening::Reaching) <= 1);
    }
}
