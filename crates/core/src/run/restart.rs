//! Whether a node is restarted when its operating system needs it.

use super::decide::{Mode, RunSettings};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Whether the agent restarts its node.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum RestartPolicy {
    /// It only says that a restart is pending.
    #[default]
    Never,
    /// When a restart is pending and the change window is open; never without a window.
    InWindow,
    /// As soon as a restart is pending, whatever the hour.
    WhenNeeded,
}

impl RestartPolicy {
    /// Returns it as documents write it.
    pub fn words(self) -> &'static str {
        match self {
            Self::Never => "never",
            Self::InWindow => "in_window",
            Self::WhenNeeded => "when_needed",
        }
    }
}

/// The operating system needs a restart of its node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RestartPending {
    /// Since when.
    pub since: Timestamp,
    /// What asks for it: packages, or what else was seen.
    pub because: Vec<String>,
}

/// What is due about a restart that is pending.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RestartDue {
    /// Now.
    Now,
    /// When the change window opens.
    At(Timestamp),
    /// It is left, and why.
    Left(String),
}

/// Returns what is due. `restarted_for` is the pending restart that the node was last restarted for: what is still pending
/// after a restart is not fixed by another one.
pub fn restart_due(
    policy: RestartPolicy,
    settings: &RunSettings,
    pending: &RestartPending,
    restarted_for: Option<&RestartPending>,
    now: Timestamp,
) -> RestartDue {
    let left = |why: &str| RestartDue::Left(why.to_owned());
    if policy == RestartPolicy::Never {
        return left("restarts are manual (restart = \"never\")");
    }
    if let Some(why) = kept_from_change(settings, now) {
        return RestartDue::Left(why);
    }
    if restarted_for.is_some_and(|before| before.because == pending.because) {
        return left("still pending after a restart: a person has to look");
    }
    match (policy, &settings.window) {
        (RestartPolicy::InWindow, None) => left("restart = \"in_window\", and no change window is set"),
        (RestartPolicy::InWindow, Some(window)) if now < window.opens => RestartDue::At(window.opens),
        (RestartPolicy::InWindow, Some(window)) if window.closes <= now => {
            left("the change window has closed")
        }
        _ => RestartDue::Now,
    }
}

/// Returns why nothing of the node may be changed now, whatever the hour: the mode, or a freeze of all clauses.
pub(super) fn kept_from_change(settings: &RunSettings, now: Timestamp) -> Option<String> {
    if settings.mode == Mode::Observe {
        return Some("mode is observe".to_owned());
    }
    let freeze = settings.freeze_at(now)?;
    Some(format!("frozen by F{} until {:.0} ({})", freeze.no, freeze.until, freeze.because))
}

#[cfg(test)]
mod tests {
    use super::super::decide::Freeze;
    use super::*;
    use crate::hours::ChangeWindow;
    use std::collections::BTreeSet;

    fn at(hour: i64) -> Timestamp {
        Timestamp::from_second(hour * 3_600).unwrap()
    }

    fn pending(because: &str) -> RestartPending {
        RestartPending { since: at(1), because: vec![because.to_owned()] }
    }

    fn due(policy: RestartPolicy, settings: &RunSettings) -> RestartDue {
        restart_due(policy, settings, &pending("linux-image"), Some(&pending("libc6")), at(10))
    }

    fn with_window(opens: i64, closes: i64) -> RunSettings {
        RunSettings {
            window: Some(ChangeWindow { opens: at(opens), closes: at(closes) }),
            ..RunSettings::of(Mode::Enforce)
        }
    }

    #[test]
    fn a_node_is_restarted_as_its_policy_says() {
        assert_eq!(due(RestartPolicy::WhenNeeded, &RunSettings::of(Mode::Enforce)), RestartDue::Now);
        assert_eq!(
            due(RestartPolicy::WhenNeeded, &with_window(20, 22)),
            RestartDue::Now,
            "whatever the hour"
        );
        assert_eq!(due(RestartPolicy::InWindow, &with_window(20, 22)), RestartDue::At(at(20)));
        assert_eq!(due(RestartPolicy::InWindow, &with_window(9, 22)), RestartDue::Now);
        assert!(
            matches!(due(RestartPolicy::InWindow, &RunSettings::of(Mode::Enforce)), RestartDue::Left(why) if why.contains("no change window"))
        );
        assert!(
            matches!(due(RestartPolicy::Never, &with_window(9, 22)), RestartDue::Left(why) if why.contains("restarts are manual"))
        );
    }

    #[test]
    fn nothing_restarts_a_node_that_observes_or_is_held_or_was_restarted_for_the_same() {
        let held = RunSettings {
            freezes: vec![Freeze {
                no: 3,
                until: at(11),
                because: "stocktaking".into(),
                clauses: BTreeSet::new(),
            }],
            ..RunSettings::of(Mode::Enforce)
        };
        assert!(
            matches!(due(RestartPolicy::WhenNeeded, &held), RestartDue::Left(why) if why.contains("stocktaking"))
        );
        assert!(
            matches!(due(RestartPolicy::WhenNeeded, &RunSettings::of(Mode::Observe)), RestartDue::Left(why) if why.contains("mode is observe"))
        );
        let again = restart_due(
            RestartPolicy::WhenNeeded,
            &RunSettings::of(Mode::Enforce),
            &pending("libc6"),
            Some(&pending("libc6")),
            at(10),
        );
        assert!(matches!(again, RestartDue::Left(why) if why.contains("still pending")));
    }
}
