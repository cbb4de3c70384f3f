//! The locks that must all be open before something is corrected.

use super::cause::{Cause, CauseFound};
use super::drill::Drilled;
use super::result::{Blocker, Decision, Leave};
use crate::address::{ClauseAddress, fits};
use crate::digest::Digest;
use crate::hours::{ChangeWindow, WeeklyHours, window_at};
use crate::kit::{OnDrift, OnRollout};
use crate::state::{Clause, Switch, SwitchFrom};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Whether a run may change anything.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Mode {
    /// Nothing on the node is changed.
    Observe,
    /// The switches decide.
    Enforce,
}

/// Nothing is changed until an hour: of all clauses, or of some.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Freeze {
    /// Its number: 7 is called F7.
    pub no: i64,
    /// The hour, by the clock of the node.
    pub until: Timestamp,
    /// Why.
    pub because: String,
    /// The addresses of the clauses that it is for, or patterns of them; all clauses, if none is named.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub clauses: BTreeSet<String>,
}

impl Freeze {
    /// Returns it in words: `F7 until 2026-12-24 06:00:00 UTC (stocktaking), all clauses`.
    pub fn words(&self) -> String {
        let until = self.until.strftime("%Y-%m-%d %H:%M:%S UTC");
        let clauses = self.clauses.iter().map(String::as_str).collect::<Vec<_>>().join(", ");
        let of = if clauses.is_empty() { "all clauses" } else { &clauses };
        format!("F{} until {until} ({}), {of}", self.no, self.because)
    }
}

/// This many openings of windows are followed until all are open at once; windows that never are have an opening all the same.
const MAX_OPENINGS: usize = 64;

/// What holds for all clauses of a run.
#[derive(Debug, Clone)]
pub struct RunSettings {
    /// Whether anything may change.
    pub mode: Mode,
    /// The group's switch for drift.
    pub on_drift: OnDrift,
    /// The group's switch for what is newly wanted.
    pub on_rollout: OnRollout,
    /// How long drift is left as it is, in seconds.
    pub grace_secs: u64,
    /// The node's change window, if there is one.
    pub window: Option<ChangeWindow>,
    /// The hours that it comes back at.
    pub change_window: Vec<WeeklyHours>,
    /// The time zone of the node's hours and of those of its assignments.
    pub zone: TimeZone,
    /// The freezes, also those that are over.
    pub freezes: Vec<Freeze>,
    /// Whether a person opened grace and window.
    pub now: bool,
    /// Whether records that are related to drift are gathered.
    pub gathers_related: bool,
    /// What was put back since it cut the node's way to its server: not applied again as long as the same is wanted.
    pub put_back: BTreeMap<ClauseAddress, RevertedChange>,
    /// Clauses that a person has corrected once, whatever their switches say.
    pub correct_once: BTreeSet<ClauseAddress>,
    /// What an observing run would have corrected: nothing else is corrected, and nothing that is otherwise now. All may be, if none is
    /// named.
    pub observed: Option<Observed>,
    /// The drill that goes on.
    pub drilled: Option<Drilled>,
}

/// What an observing run would have corrected, by clause.
pub type Observed = BTreeMap<ClauseAddress, ObservedClause>;

/// A clause that an observing run would have corrected.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ObservedClause {
    /// The digest of what was wanted.
    pub wanted: Digest,
    /// The digest of what was found.
    pub found: Digest,
}

/// A change that was put back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RevertedChange {
    /// What was wanted.
    pub wanted: Digest,
    /// When it was put back.
    pub at: Timestamp,
}

impl RunSettings {
    /// Returns the defaults of the group `everyone`, in the given mode.
    pub fn of(mode: Mode) -> Self {
        Self {
            mode,
            on_drift: OnDrift::Correct,
            on_rollout: OnRollout::Apply,
            grace_secs: 0,
            window: None,
            change_window: Vec::new(),
            zone: TimeZone::UTC,
            freezes: Vec::new(),
            now: false,
            gathers_related: true,
            put_back: BTreeMap::new(),
            correct_once: BTreeSet::new(),
            observed: None,
            drilled: None,
        }
    }

    /// Returns the freeze of all clauses that is in force at a moment; of several the longest.
    pub fn freeze_at(&self, now: Timestamp) -> Option<&Freeze> {
        self.longest_freeze(now, |freeze| freeze.clauses.is_empty())
    }

    /// Returns the freeze of a clause that is in force at a moment; of several the longest.
    pub fn freeze_of(&self, clause: &ClauseAddress, now: Timestamp) -> Option<&Freeze> {
        self.longest_freeze(now, |freeze| {
            freeze.clauses.is_empty() || freeze.clauses.iter().any(|pattern| fits(pattern, clause))
        })
    }

    fn longest_freeze(&self, now: Timestamp, is_meant: impl Fn(&Freeze) -> bool) -> Option<&Freeze> {
        self.freezes
            .iter()
            .filter(|freeze| now < freeze.until && is_meant(freeze))
            .max_by_key(|freeze| freeze.until)
    }

    /// Returns the node's change window that is closed at a moment, unless a person opened it.
    fn closed_window(&self, now: Timestamp) -> Option<&ChangeWindow> {
        self.window.as_ref().filter(|window| !self.now && (now < window.opens || window.closes <= now))
    }

    /// Returns when the node's change window and those of a clause's assignments are all open next, if one is closed at a moment
    /// and no person opened them.
    pub fn closed_until(&self, clause: &Clause, now: Timestamp) -> Option<Timestamp> {
        if self.now {
            return None;
        }
        let open_of = |hours: &Vec<WeeklyHours>, from: Timestamp| {
            window_at(hours, &self.zone, from).map_or(from, |window| window.opens.max(from))
        };
        let open_of_node = |from: Timestamp| match &self.window {
            Some(window) if from < window.closes => window.opens.max(from),
            Some(_) => open_of(&self.change_window, from),
            None => from,
        };
        let mut open = now;
        for _ in 0..MAX_OPENINGS {
            let next =
                clause.change_windows.iter().fold(open_of_node(open), |from, hours| open_of(hours, from));
            if next == open {
                break;
            }
            open = next;
        }
        (open > now || self.closed_window(now).is_some()).then_some(open)
    }
}

/// All that the decision about one different clause depends on.
pub struct DecisionInput<'a> {
    /// The clause.
    pub clause: &'a Clause,
    /// Whether its kind can be corrected at all.
    pub correctable: bool,
    /// Why it is different.
    pub cause: CauseFound,
    /// The digest of what was found.
    pub found: &'a Digest,
    /// The first run that found its drift.
    pub drift_found_at: Timestamp,
    /// What it needs and is not in line.
    pub blocker: Option<Blocker>,
}

/// Returns what an enforcing run is due to do about a different clause.
///
/// The locks are asked in this order: freeze, what was observed before, what cut the way to the server, switches, grace, window, needs. The first
/// that is closed is named.
pub fn decide(want: &DecisionInput<'_>, settings: &RunSettings, now: Timestamp) -> Decision {
    match closed_lock(want, settings, now) {
        Some(why) => Decision::Leave { why },
        None => want.blocker.clone().map_or(Decision::Correct, |by| Decision::Blocked { by }),
    }
}

fn closed_lock(want: &DecisionInput<'_>, settings: &RunSettings, now: Timestamp) -> Option<Leave> {
    if !want.correctable {
        return Some(Leave::OnlyAPerson);
    }
    let clause = want.clause;
    if let Some(freeze) = settings.freeze_of(&clause.address, now) {
        return Some(Leave::Freeze { no: freeze.no, until: freeze.until, because: freeze.because.clone() });
    }
    if let Some(observed) = &settings.observed
        && observed
            .get(&clause.address)
            .is_none_or(|before| before.wanted != clause.wanted || before.found != *want.found)
    {
        return Some(Leave::ChangedSinceObserved);
    }
    if let Some(put_back) = settings
        .put_back
        .get(&clause.address)
        .filter(|put_back| put_back.wanted == clause.wanted && !settings.now)
    {
        return Some(Leave::CutTheWay { at: put_back.at });
    }
    let on_drift = clause.on_drift.unwrap_or(Switch { value: settings.on_drift, from: SwitchFrom::Group });
    let on_rollout =
        clause.on_rollout.unwrap_or(Switch { value: settings.on_rollout, from: SwitchFrom::Group });
    let is_opened = settings.correct_once.contains(&clause.address);
    if want.cause.has_drift() && on_drift.value == OnDrift::Report && !is_opened {
        return Some(Leave::OnDrift { from: on_drift.from });
    }
    if want.cause.cause != Cause::Drift && on_rollout.value == OnRollout::Wait && !is_opened {
        return Some(Leave::OnRollout { from: on_rollout.from });
    }
    if want.cause.has_drift() && !settings.now {
        let grace_secs = settings.grace_secs.max(clause.grace_secs.unwrap_or(0));
        let grace = SignedDuration::from_secs(i64::try_from(grace_secs).unwrap_or(i64::MAX / 2));
        let until = want.drift_found_at.checked_add(grace).unwrap_or(Timestamp::MAX);
        if now < until {
            return Some(Leave::Grace { until });
        }
    }
    let is_of_assignment = settings.closed_window(now).is_none();
    settings.closed_until(clause, now).map(|opens| Leave::Window { opens, is_of_assignment })
}
