//! The locks that must all be open before something is corrected.

use super::cause::{Cause, CauseFound};
use super::result::{Blocker, Decision, Leave};
use crate::address::ClauseAddress;
use crate::digest::Digest;
use crate::kit::{OnDrift, OnRollout};
use crate::state::{Clause, Switch, SwitchFrom};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Whether a run may change anything.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Mode {
    /// Nothing on the node is changed.
    Observe,
    /// The switches decide.
    Enforce,
}

/// Nothing is changed until an hour.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Freeze {
    /// The hour.
    pub until: Timestamp,
    /// Why.
    pub because: String,
}

/// The change window that is open, or the next one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChangeWindow {
    /// When it opens.
    pub opens: Timestamp,
    /// When it closes: no clause is begun from here on.
    pub closes: Timestamp,
}

/// What holds for all clauses of a run.
#[derive(Debug, Clone)]
pub struct Settings {
    /// Whether anything may change.
    pub mode: Mode,
    /// The group's switch for drift.
    pub on_drift: OnDrift,
    /// The group's switch for what is newly wanted.
    pub on_rollout: OnRollout,
    /// How long drift is left as it is, in seconds.
    pub grace_secs: u64,
    /// The change window, if there is one.
    pub window: Option<ChangeWindow>,
    /// The freeze, if one is in force.
    pub freeze: Option<Freeze>,
    /// Whether a person opened grace and window.
    pub now: bool,
    /// What was put back since it cut the node's way to its server: not applied again as long as the same is wanted.
    pub put_back: BTreeMap<ClauseAddress, PutBack>,
}

/// A change that was put back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PutBack {
    /// What was wanted.
    pub wanted: Digest,
    /// When it was put back.
    pub at: Timestamp,
}

impl Settings {
    /// Returns the defaults of the group `everyone`, in the given mode.
    pub fn of(mode: Mode) -> Self {
        Self {
            mode,
            on_drift: OnDrift::Correct,
            on_rollout: OnRollout::Apply,
            grace_secs: 0,
            window: None,
            freeze: None,
            now: false,
            put_back: BTreeMap::new(),
        }
    }

    /// Returns the freeze that is in force at a moment.
    pub fn freeze_at(&self, now: Timestamp) -> Option<&Freeze> {
        self.freeze.as_ref().filter(|freeze| now < freeze.until)
    }

    /// Returns the change window that is closed at a moment, unless a person opened it.
    pub fn closed_window(&self, now: Timestamp) -> Option<&ChangeWindow> {
        self.window.as_ref().filter(|window| !self.now && (now < window.opens || window.closes <= now))
    }
}

/// All that the decision about one different clause depends on.
pub struct Want<'a> {
    /// The clause.
    pub clause: &'a Clause,
    /// Whether its kind can be corrected at all.
    pub correctable: bool,
    /// Why it is different.
    pub cause: CauseFound,
    /// The first run that found its drift.
    pub drift_found_at: Timestamp,
    /// What it needs and is not in line.
    pub blocker: Option<Blocker>,
}

/// Returns what an enforcing run is due to do about a different clause.
///
/// The locks are asked in this order: freeze, what cut the way to the server, switches, grace, window, needs. The first that is closed is named.
pub fn decide(want: &Want<'_>, settings: &Settings, now: Timestamp) -> Decision {
    match closed_lock(want, settings, now) {
        Some(why) => Decision::Leave { why },
        None => want.blocker.clone().map_or(Decision::Correct, |by| Decision::Blocked { by }),
    }
}

fn closed_lock(want: &Want<'_>, settings: &Settings, now: Timestamp) -> Option<Leave> {
    if !want.correctable {
        return Some(Leave::OnlyAPerson);
    }
    if let Some(freeze) = settings.freeze_at(now) {
        return Some(Leave::Freeze { until: freeze.until, because: freeze.because.clone() });
    }
    let clause = want.clause;
    if let Some(put_back) = settings.put_back.get(&clause.address).filter(|put_back| put_back.wanted == clause.wanted && !settings.now) {
        return Some(Leave::CutTheWay { at: put_back.at });
    }
    let on_drift = clause.on_drift.unwrap_or(Switch { value: settings.on_drift, from: SwitchFrom::Group });
    let on_rollout = clause.on_rollout.unwrap_or(Switch { value: settings.on_rollout, from: SwitchFrom::Group });
    if want.cause.has_drift() && on_drift.value == OnDrift::Report {
        return Some(Leave::OnDrift { from: on_drift.from });
    }
    if want.cause.cause != Cause::Drift && on_rollout.value == OnRollout::Wait {
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
    settings.closed_window(now).map(|window| Leave::Window { opens: window.opens })
}
