//! What each setting of agents means, for people.

use super::{GroupSettings, exact_span};
use crate::hours::WeeklyHours;
use serde_json::Value;

/// A setting that a group can set, described.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SettingDescription {
    /// Its word in the group's document.
    pub word: &'static str,
    /// What it decides.
    pub means: &'static str,
    /// What it can be.
    pub takes: &'static str,
    /// What is recommended.
    pub recommended: &'static str,
    /// What it is if no group sets it.
    pub usual: &'static str,
}

const fn described(
    word: &'static str,
    means: &'static str,
    takes: &'static str,
    recommended: &'static str,
    usual: &'static str,
) -> SettingDescription {
    SettingDescription { word, means, takes, recommended, usual }
}

/// The settings that a group can set.
pub const SETTINGS: [SettingDescription; 17] = [
    described(
        "mode",
        "whether runs correct what is not in line or only report it",
        "`enforce` or `observe`",
        "observe until a first run was looked at, then enforce",
        "observe",
    ),
    described(
        "interval_secs",
        "how often the agent checks in, and runs unless runs have an interval of their own",
        "5 seconds to 7 days, in seconds; not beside check_in_at",
        "900, 15 min: a new desired state arrives within that time",
        "every 15 min",
    ),
    described(
        "check_in_at",
        "at which hours the agent checks in instead",
        "a list of hours, as [\"06:00\", \"18:30\"]; not beside interval_secs",
        "only where a connection is rarely there",
        "not set",
    ),
    described(
        "run_interval_secs",
        "how often it runs, if not at each check-in",
        "5 seconds to 7 days, in seconds; not beside run_at",
        "not set: drift is found at each check-in",
        "as the check-ins",
    ),
    described(
        "run_at",
        "at which hours it runs instead",
        "a list of hours, as [\"02:00\"]; not beside run_interval_secs",
        "only where runs must not fall into working hours",
        "not set",
    ),
    described(
        "spread_secs",
        "how far check-ins and runs are spread, so that not all nodes come at once: before the end of an interval, after a fixed hour",
        "0 to 86400, in seconds",
        "not set: a tenth of the interval, 300 after an hour",
        "a tenth of the interval",
    ),
    described(
        "zone",
        "the time zone of all hours",
        "a name of the IANA list, as \"Europe/Oslo\"",
        "that of the place where the nodes stand",
        "UTC",
    ),
    described(
        "on_drift",
        "whether what drifted is corrected or only reported, where neither assignment nor clause says so",
        "`correct` or `report`",
        "correct",
        "correct",
    ),
    described(
        "on_rollout",
        "whether what is newly desired is applied or waits for an operator on the node",
        "`apply` or `wait`",
        "apply",
        "apply",
    ),
    described(
        "grace_secs",
        "how long drift is left as it is before it is corrected, so that who changed it can be asked",
        "0 to 7776000 (90 days), in seconds",
        "0, or 1800 (30 min) where people work on the nodes",
        "none",
    ),
    described(
        "change_window",
        "the hours in which corrections and restarts may happen",
        "a list of hours of the week, as [{ days = [\"sat\"], from = \"22:00\", until = \"04:00\" }]; always open if it is empty",
        "the hours in which nobody uses the nodes",
        "always open",
    ),
    described(
        "restart",
        "whether the node is restarted when its operating system needs it",
        "`never`, `in_window` (never without a change window) or `when_needed`",
        "never, unless a change window is set",
        "never",
    ),
    described(
        "reach_within_secs",
        "after a change of network or access the server must be reached again within this time, else the change is put back",
        "5 to 3600, in seconds",
        "60",
        "1 min",
    ),
    described(
        "attic_mib",
        "how much the attic holds of what corrections replaced; the oldest goes first",
        "1 to 1048576, in MiB",
        "512",
        "512 MiB",
    ),
    described(
        "related_records",
        "whether the agent gathers what the system has on record of the time of a drift: who was signed in, what sudo ran, packages",
        "`true` or `false`",
        "true, where the people on the nodes know of it",
        "true",
    ),
    described(
        "wakeable",
        "whether the agent keeps one connection open on which the server can have it check in at once",
        "`true` or `false`",
        "true; false where an open connection costs too much, as over a satellite",
        "true",
    ),
    described(
        "agent_version",
        "the version that the agent upgrades itself to; the version before is reinstalled if the new one does not report within 10 min",
        "the version of a package that the server serves, as \"0.1.0\"",
        "set in waves: constans rollout begin agent@VERSION",
        "as it was installed",
    ),
];

/// Returns the value of a setting in words; as JSON if it is none that the setting takes.
pub fn setting_words(word: &str, value: &Value) -> String {
    let listed = |values: &[Value], written: &dyn Fn(&Value) -> String| {
        values.iter().map(written).collect::<Vec<_>>().join(", ")
    };
    match value {
        Value::Number(secs) if word.ends_with("_secs") => {
            let span = secs.as_u64().map_or_else(|| secs.to_string(), exact_span);
            if word.ends_with("interval_secs") { format!("every {span}") } else { span }
        }
        Value::Number(mib) if word.ends_with("_mib") => format!("{mib} MiB"),
        Value::String(text) => text.clone(),
        Value::Array(hours) if hours.is_empty() => "always open".to_owned(),
        Value::Array(hours) => listed(hours, &|hours| match hours {
            Value::String(hour) => hour.clone(),
            other => serde_json::from_value::<WeeklyHours>(other.clone())
                .map_or_else(|_| other.to_string(), |hours| hours.to_string()),
        }),
        other => other.to_string(),
    }
}

impl GroupSettings {
    /// Returns whether it sets nothing.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Returns the value of the setting with this word, if it is set.
    pub fn get(&self, word: &str) -> Option<Value> {
        serde_json::to_value(self).ok()?.get(word).cloned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;
    use std::collections::BTreeSet;

    #[test]
    fn every_setting_of_a_group_is_described() {
        let known: BTreeSet<String> = serde_json::from_value::<GroupSettings>(json!({ "surely_none": 1 }))
            .unwrap_err()
            .to_string()
            .split('`')
            .skip(3)
            .step_by(2)
            .map(str::to_owned)
            .collect();
        assert_eq!(known, SETTINGS.iter().map(|setting| setting.word.to_owned()).collect());
    }

    #[test]
    fn values_are_said_in_words() {
        for (word, value, words) in [
            ("interval_secs", json!(900), "every 15 min"),
            ("grace_secs", json!(1800), "30 min"),
            ("attic_mib", json!(64), "64 MiB"),
            ("run_at", json!(["02:00", "14:00"]), "02:00, 14:00"),
            (
                "change_window",
                json!([{ "days": ["sat"], "from": "22:00", "until": "04:00" }]),
                "sat 22:00–04:00",
            ),
            ("change_window", json!([]), "always open"),
            ("related_records", json!(false), "false"),
        ] {
            assert_eq!(setting_words(word, &value), words);
        }
    }
}
