//! When nodes apply a change: with their next run, when their change window opens, or not by themselves; and which of them restart.

use crate::kit::OnRollout;
use crate::run::{Mode, RestartDue, RestartPending, restart_due};
use crate::settings::AgentSettings;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// When a node applies what it is newly given.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "when", rename_all = "snake_case")]
pub enum WhenApplied {
    /// With its next run.
    NextRun,
    /// When its change window opens.
    WindowOpens {
        /// When that is.
        at: Timestamp,
    },
    /// When an operator applies it on the node: its settings say so.
    OnOrder,
    /// Not at all: it only observes.
    Never,
}

/// Nodes that apply a change at one time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AppliedWhen {
    /// How many.
    pub nodes: u64,
    /// When.
    #[serde(flatten)]
    pub when: WhenApplied,
    /// Of those that apply it with their next run: when the last one checks in, and so runs, as it promised.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_at: Option<Timestamp>,
    /// How many of those are not expected: they did not check in when they had promised to, or never did.
    #[serde(default, skip_serializing_if = "is_none")]
    pub not_expected: u64,
}

fn is_none(number: &u64) -> bool {
    *number == 0
}

/// Nodes with the same settings that are to be given something else.
#[derive(Debug, Clone)]
pub struct NodesBySettings {
    /// The settings that they are to have.
    pub settings: AgentSettings,
    /// How many.
    pub nodes: u64,
    /// When the last of them checks in, of those whose promise is still ahead.
    pub last_at: Option<Timestamp>,
    /// How many did not keep their promise, or gave none.
    pub not_expected: u64,
}

/// A node whose operating system needs a restart, and which a change lets restart.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RestartingNode {
    /// Its name.
    pub node: String,
    /// Since when the restart is pending.
    pub since: Timestamp,
    /// What asks for it.
    pub because: Vec<String>,
    /// When it restarts: with its next run if none, unless it is left.
    pub at: Option<Timestamp>,
    /// Why it is left all the same.
    pub left: Option<String>,
}

/// Returns when nodes with these settings apply what they are newly given.
pub fn applied_when(settings: &AgentSettings, now: Timestamp) -> WhenApplied {
    if settings.mode == Mode::Observe {
        return WhenApplied::Never;
    }
    if settings.on_rollout == OnRollout::Wait {
        return WhenApplied::OnOrder;
    }
    match settings.window(&settings.time_zone(), now) {
        Some(window) if window.opens > now => WhenApplied::WindowOpens { at: window.opens },
        _ => WhenApplied::NextRun,
    }
}

/// Counts nodes by when they apply a change.
pub fn counted_by_when(all: &[NodesBySettings], now: Timestamp) -> Vec<AppliedWhen> {
    let mut counted: BTreeMap<WhenApplied, AppliedWhen> = BTreeMap::new();
    for one in all {
        let when = applied_when(&one.settings, now);
        let is_next_run = when == WhenApplied::NextRun;
        let counted =
            counted.entry(when).or_insert(AppliedWhen { nodes: 0, when, last_at: None, not_expected: 0 });
        counted.nodes += one.nodes;
        counted.last_at = counted.last_at.max(one.last_at.filter(|_| is_next_run));
        counted.not_expected += if is_next_run { one.not_expected } else { 0 };
    }
    counted.into_values().collect()
}

/// Returns when a node with a pending restart restarts by the settings that it is to have.
pub fn restarting(
    node: String,
    pending: RestartPending,
    settings: &AgentSettings,
    now: Timestamp,
) -> RestartingNode {
    let of_run = settings.for_run(&settings.time_zone(), now);
    let (at, left) = match restart_due(settings.restart, &of_run, &pending, None, now) {
        RestartDue::Now => (None, None),
        RestartDue::At(at) => (Some(at), None),
        RestartDue::Left(why) => (None, Some(why)),
    };
    RestartingNode { node, since: pending.since, because: pending.because, at, left }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::run::RestartPolicy;
    use serde_json::json;

    fn enforcing(change: impl FnOnce(&mut AgentSettings)) -> AgentSettings {
        let mut settings = AgentSettings { mode: Mode::Enforce, ..AgentSettings::default() };
        change(&mut settings);
        settings
    }

    fn at_night(settings: &mut AgentSettings) {
        settings.change_window =
            vec![serde_json::from_value(json!({ "from": "22:00", "until": "04:00" })).unwrap()];
        settings.zone = "Europe/Oslo".to_owned();
    }

    #[test]
    fn nodes_apply_with_their_next_run_when_their_window_opens_on_order_or_never() {
        let noon: Timestamp = "2026-11-23T11:00:00Z".parse().unwrap();
        let opens: Timestamp = "2026-11-23T21:00:00Z".parse().unwrap();
        let minute = |minute: i64| Some(noon + jiff::SignedDuration::from_mins(minute));
        let of = |settings, nodes, last_at, not_expected| NodesBySettings {
            settings,
            nodes,
            last_at,
            not_expected,
        };
        let all = [
            of(enforcing(|_| {}), 3, minute(4), 1),
            of(enforcing(at_night), 9, minute(14), 2),
            of(enforcing(|settings| settings.on_rollout = OnRollout::Wait), 2, minute(14), 0),
            of(AgentSettings::default(), 4, minute(14), 0),
            of(enforcing(|settings| settings.grace_secs = 60), 1, minute(9), 0),
        ];
        let applied = |nodes, when, last_at, not_expected| AppliedWhen { nodes, when, last_at, not_expected };
        assert_eq!(
            counted_by_when(&all, noon),
            [
                applied(4, WhenApplied::NextRun, minute(9), 1),
                applied(9, WhenApplied::WindowOpens { at: opens }, None, 0),
                applied(2, WhenApplied::OnOrder, None, 0),
                applied(4, WhenApplied::Never, None, 0),
            ]
        );
        let in_the_window: Timestamp = "2026-11-23T23:00:00Z".parse().unwrap();
        assert_eq!(applied_when(&enforcing(at_night), in_the_window), WhenApplied::NextRun);
    }

    #[test]
    fn a_pending_restart_comes_at_once_in_the_window_or_is_left_with_the_reason() {
        let noon: Timestamp = "2026-11-23T11:00:00Z".parse().unwrap();
        let when = |settings: AgentSettings| {
            let pending = RestartPending { since: noon, because: vec!["linux-image".to_owned()] };
            let one = restarting("gate-auken-1".to_owned(), pending, &settings, noon);
            (one.at, one.left)
        };
        let policy = |policy: RestartPolicy| move |settings: &mut AgentSettings| settings.restart = policy;
        assert_eq!(when(enforcing(policy(RestartPolicy::WhenNeeded))), (None, None));
        let in_window = enforcing(|settings| {
            at_night(settings);
            settings.restart = RestartPolicy::InWindow;
        });
        assert_eq!(when(in_window).0, Some("2026-11-23T21:00:00Z".parse().unwrap()));
        let without = when(enforcing(policy(RestartPolicy::InWindow)));
        assert!(without.1.is_some_and(|why| why.contains("no change window is set")));
        let observing =
            when(AgentSettings { restart: RestartPolicy::WhenNeeded, ..AgentSettings::default() });
        assert_eq!(observing.1.as_deref(), Some("mode is observe"));
    }
}
