//! Whether an agent is upgraded to the version that its settings name.

use super::decide::RunSettings;
use super::restart::kept_from_change;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// How an agent is with the version that its settings name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AgentUpgrade {
    /// That version.
    pub to: String,
    /// How it is.
    pub state: UpgradeState,
    /// What it waits for, or why it failed, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// How an agent is with the version that its settings name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum UpgradeState {
    /// It has that version.
    Done,
    /// That version is fetched, installed or has not reported yet.
    UnderWay,
    /// It is left for now: the mode, a freeze or the change window says so, or the package could not be fetched.
    Waiting,
    /// It failed, and the version before is there again. It is not tried again before the settings name another version.
    Failed,
}

impl AgentUpgrade {
    /// Returns it in words: `to 0.2.0: failed: it did not report within 10 min`.
    pub fn words(&self) -> String {
        let state = match self.state {
            UpgradeState::Done => "done",
            UpgradeState::UnderWay => "under way",
            UpgradeState::Waiting => "waits",
            UpgradeState::Failed => "failed",
        };
        let why = self.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
        format!("to {}: {state}{why}", self.to)
    }
}

/// What is due about a version that an agent does not have.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum UpgradeDue {
    /// Now.
    Now,
    /// When the change window opens.
    At(Timestamp),
    /// It is left, and why.
    Left(String),
}

/// Returns what is due about a version that an agent does not have: like any change of its node it waits for the mode, for freezes and for
/// the change window.
pub fn upgrade_due(settings: &RunSettings, now: Timestamp) -> UpgradeDue {
    if let Some(why) = kept_from_change(settings, now) {
        return UpgradeDue::Left(why);
    }
    match &settings.window {
        Some(window) if now < window.opens => UpgradeDue::At(window.opens),
        Some(window) if window.closes <= now => UpgradeDue::Left("the change window has closed".to_owned()),
        _ => UpgradeDue::Now,
    }
}

#[cfg(test)]
mod tests {
    use super::super::decide::{Freeze, Mode};
    use super::*;
    use crate::hours::ChangeWindow;
    use std::collections::BTreeSet;

    fn at(hour: i64) -> Timestamp {
        Timestamp::from_second(hour * 3_600).unwrap()
    }

    #[test]
    fn an_agent_is_upgraded_where_its_node_may_be_changed() {
        let due = |settings: &RunSettings| upgrade_due(settings, at(10));
        let enforced = RunSettings::of(Mode::Enforce);
        assert_eq!(due(&enforced), UpgradeDue::Now);
        let in_window = |opens, closes| RunSettings {
            window: Some(ChangeWindow { opens: at(opens), closes: at(closes) }),
            ..enforced.clone()
        };
        assert_eq!(due(&in_window(20, 22)), UpgradeDue::At(at(20)));
        assert_eq!(due(&in_window(9, 11)), UpgradeDue::Now);
        assert!(matches!(due(&in_window(8, 10)), UpgradeDue::Left(why) if why.contains("closed")));
        assert!(
            matches!(due(&RunSettings::of(Mode::Observe)), UpgradeDue::Left(why) if why.contains("observe"))
        );
        let freeze = Freeze { no: 3, until: at(11), because: "stocktaking".into(), clauses: BTreeSet::new() };
        let frozen = RunSettings { freezes: vec![freeze], ..enforced };
        assert!(
            matches!(due(&frozen), UpgradeDue::Left(why) if why.contains("F3") && why.contains("stocktaking"))
        );
    }

    #[test]
    fn it_is_said_in_words() {
        let said = |state, why: Option<&str>| {
            AgentUpgrade { to: "0.2.0".to_owned(), state, why: why.map(str::to_owned) }.words()
        };
        assert_eq!(said(UpgradeState::Done, None), "to 0.2.0: done");
        assert_eq!(said(UpgradeState::Waiting, Some("mode is observe")), "to 0.2.0: waits: mode is observe");
    }
}
