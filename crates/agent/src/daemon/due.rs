//! What is due when: check-ins and runs, each by its own rhythm.

use super::{Signal, StartedBy};
use crate::zone::zone;
use constans_clock::Clock;
use constans_core::settings::{AgentSettings, Rhythm, retry_after_ms};
use jiff::{SignedDuration, Timestamp};
use std::time::{Duration, Instant};

/// However long there is nothing to do, the clock is looked at so often.
const LONGEST_SLEEP: Duration = Duration::from_secs(30);
/// A clock that was set back by more is noticed.
const CLOCK_SET_BACK: SignedDuration = SignedDuration::from_secs(60);

/// When the next check-in and the next run are due.
pub struct Due {
    /// The next check-in.
    pub check_in: Timestamp,
    /// The next run.
    pub run: Timestamp,
    run_for: StartedBy,
    clock: Clock,
    /// Sets the chances of this daemon apart from those of others.
    seed: u64,
    /// How often in a row no server answered.
    pub unanswered: u32,
}

impl Due {
    /// At the start both are due.
    pub fn from_start(clock: Clock, seed: u64, started_by: StartedBy) -> Self {
        let now = clock.now();
        Self { check_in: now, run: now, run_for: started_by, clock, seed, unanswered: 0 }
    }

    /// Returns a number that is by chance.
    pub fn chance_now(&self) -> u64 {
        self.chance(self.clock.now())
    }

    fn chance(&self, now: Timestamp) -> u64 {
        mixed(self.seed ^ now.as_nanosecond().unsigned_abs() as u64)
    }

    /// Returns what the next run is for, if not for the interval.
    pub fn run_for_words(&self) -> Option<String> {
        (self.run_for != StartedBy::Interval).then(|| self.run_for.words().to_owned())
    }

    /// Returns when it will check in after the present check-in, which it promises there.
    pub fn next_check_in(&self, settings: &AgentSettings) -> Timestamp {
        let now = self.clock.now();
        settings.next(settings.check_ins(), &zone(settings), now, self.chance(now))
    }

    /// A server answered.
    pub fn answered(&mut self, next: Timestamp) {
        (self.check_in, self.unanswered) = (next, 0);
    }

    /// No server answered: it is tried again sooner than promised, and further and further apart.
    pub fn unanswered(&mut self, next: Timestamp, settings: &AgentSettings) {
        self.unanswered += 1;
        let now = self.clock.now();
        let interval = match settings.check_ins() {
            Rhythm::Every(secs) => secs,
            Rhythm::At(_) => u64::MAX,
        };
        let wait = SignedDuration::from_millis(
            i64::try_from(retry_after_ms(self.unanswered, interval, self.chance(now))).unwrap_or(i64::MAX),
        );
        self.check_in = next.min(now + wait);
    }

    /// A check-in is due now.
    pub fn wants_check_in(&mut self) {
        self.check_in = self.clock.now();
    }

    /// A check-in is due no later than this.
    pub fn check_in_by(&mut self, at: Timestamp) {
        self.check_in = self.check_in.min(at);
    }

    /// Something else is wanted: a run is due now.
    pub fn wants_run(&mut self, started_by: StartedBy) {
        (self.run, self.run_for) = (self.clock.now(), started_by);
    }

    /// The settings came with other hours: it comes by the nearer of what it promised and of those.
    pub fn rhythm_changed(&mut self, before: &AgentSettings, now: &AgentSettings) {
        if before.check_ins() != now.check_ins() {
            self.check_in = self.check_in.min(self.next_check_in(now));
        }
    }

    /// A run begins: returns its purpose and when the next one is due.
    pub fn begin_run(&mut self, settings: &AgentSettings) -> StartedBy {
        let now = self.clock.now();
        let follows_check_ins =
            settings.runs() == settings.check_ins() && self.unanswered == 0 && self.check_in > now;
        self.run = if follows_check_ins {
            self.check_in
        } else {
            settings.next(settings.runs(), &zone(settings), now, self.chance(now))
        };
        std::mem::replace(&mut self.run_for, StartedBy::Interval)
    }

    /// Nothing is due before this.
    pub fn not_before(&mut self, at: Timestamp) {
        (self.check_in, self.run) = (self.check_in.max(at), self.run.max(at));
    }

    /// A run is due no later than this.
    pub fn run_by(&mut self, at: Timestamp, started_by: StartedBy) {
        if at < self.run {
            (self.run, self.run_for) = (at, started_by);
        }
    }

    /// Sleeps until something is due. Returns whether it was asked to end meanwhile.
    pub async fn sleep(
        &mut self,
        ended: &mut Signal,
        interrupted: &mut Signal,
        settings: impl Fn() -> AgentSettings,
    ) -> bool {
        let (wall, began) = (self.clock.now(), Instant::now());
        loop {
            let now = self.clock.now();
            let expected = wall + SignedDuration::try_from(began.elapsed()).unwrap_or_default();
            if expected.duration_since(now) > CLOCK_SET_BACK {
                // The hours that were waited for are further off than they should be.
                let settings = settings();
                self.check_in = self.check_in.min(self.next_check_in(&settings));
                self.run =
                    self.run.min(settings.next(settings.runs(), &zone(&settings), now, self.chance(now)));
            }
            let left = self.check_in.min(self.run).duration_since(now);
            let Ok(left) = Duration::try_from(left) else { return false };
            if left.is_zero() {
                return false;
            }
            tokio::select! {
                () = tokio::time::sleep(left.min(LONGEST_SLEEP)) => {}
                _ = ended.recv() => return true,
                _ = interrupted.recv() => return true,
            }
        }
    }
}

/// Spreads what is alike (SplitMix64).
fn mixed(number: u64) -> u64 {
    let number = (number ^ (number >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    let number = (number ^ (number >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    number ^ (number >> 31)
}
