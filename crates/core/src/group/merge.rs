//! The settings of one node's agent from those of its groups.

use super::{Group, PlanError, highest};
use crate::hours::HourOfDay;
use crate::run::Mode;
use crate::settings::{AgentSettings, GroupSettings};
use std::collections::{BTreeMap, BTreeSet};

/// Returns the settings that groups give, the lowest first.
///
/// # Errors
///
/// Returns the first disagreement of two groups of one priority, but for the mode: then it is `observe`.
pub(super) fn settings_of(groups: &[&Group]) -> Result<AgentSettings, PlanError> {
    let usual = AgentSettings::default();
    let mut from = BTreeMap::new();
    let mode = match highest(groups, "the mode", |group| group.settings.mode) {
        Ok(merged) => merged.map(|(mode, group)| noted(&mut from, "mode", mode, vec![group])),
        // Careful where groups disagree: nothing is changed until a person has decided.
        Err(PlanError::Disagree { first, second, .. }) => {
            Some(noted(&mut from, "mode", Mode::Observe, vec![first, second]))
        }
        Err(other) => return Err(other),
    };
    let mut take = Taking { groups, from: &mut from };
    let check_ins = take.rhythm(["interval_secs", "check_in_at"], |settings| {
        (settings.interval_secs, settings.check_in_at.clone())
    })?;
    let runs = take.rhythm(["run_interval_secs", "run_at"], |settings| {
        (settings.run_interval_secs, settings.run_at.clone())
    })?;
    Ok(AgentSettings {
        mode: mode.unwrap_or(usual.mode),
        interval_secs: check_ins.0.unwrap_or(usual.interval_secs),
        check_in_at: check_ins.1,
        run_interval_secs: runs.0,
        run_at: runs.1,
        spread_secs: take.of("spread_secs", |settings| settings.spread_secs)?,
        zone: take.of("zone", |settings| settings.zone.clone())?.unwrap_or(usual.zone),
        on_drift: take.of("on_drift", |settings| settings.on_drift)?.unwrap_or(usual.on_drift),
        on_rollout: take.of("on_rollout", |settings| settings.on_rollout)?.unwrap_or(usual.on_rollout),
        grace_secs: take.of("grace_secs", |settings| settings.grace_secs)?.unwrap_or(usual.grace_secs),
        change_window: take
            .of("change_window", |settings| settings.change_window.clone())?
            .unwrap_or_default(),
        restart: take.of("restart", |settings| settings.restart)?.unwrap_or(usual.restart),
        reach_within_secs: take
            .of("reach_within_secs", |settings| settings.reach_within_secs)?
            .unwrap_or(usual.reach_within_secs),
        attic_mib: take.of("attic_mib", |settings| settings.attic_mib)?.unwrap_or(usual.attic_mib),
        related_records: take
            .of("related_records", |settings| settings.related_records)?
            .unwrap_or(usual.related_records),
        agent_version: take.of("agent_version", |settings| settings.agent_version.clone())?,
        wakeable: take.of("wakeable", |settings| settings.wakeable)?.unwrap_or(usual.wakeable),
        from,
    })
}

struct Taking<'a> {
    groups: &'a [&'a Group],
    from: &'a mut BTreeMap<String, Vec<String>>,
}

impl Taking<'_> {
    fn of<T: PartialEq>(
        &mut self,
        word: &str,
        field: impl Fn(&GroupSettings) -> Option<T>,
    ) -> Result<Option<T>, PlanError> {
        let top = highest(self.groups, word, |group| field(&group.settings))?;
        Ok(top.map(|(value, group)| noted(self.from, word, value, vec![group])))
    }

    /// An interval and fixed hours are two ways to say one thing: the highest group that says either decides.
    fn rhythm(
        &mut self,
        words: [&str; 2],
        field: impl Fn(&GroupSettings) -> (Option<u64>, Option<BTreeSet<HourOfDay>>),
    ) -> Result<(Option<u64>, BTreeSet<HourOfDay>), PlanError> {
        let top = highest(self.groups, &words.join(" and "), |group| {
            Some(field(&group.settings)).filter(|field| *field != (None, None))
        })?;
        let Some(((interval, hours), group)) = top else { return Ok((None, BTreeSet::new())) };
        let word = if hours.is_some() { words[1] } else { words[0] };
        Ok(noted(self.from, word, (interval, hours.unwrap_or_default()), vec![group]))
    }
}

fn noted<T>(from: &mut BTreeMap<String, Vec<String>>, word: &str, value: T, groups: Vec<String>) -> T {
    from.insert(word.to_owned(), groups);
    value
}
