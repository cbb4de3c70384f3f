//! How agents are set: mode, rhythm, switches, grace, hours, restarts; each with the group that it comes from.

mod comparison;
mod described;
mod retry;
#[cfg(test)]
mod tests;

use crate::hours::{ChangeWindow, HourOfDay, WeeklyHours, next_of_day, window_at};
use crate::kit::{OnDrift, OnRollout};
use crate::run::{Mode, RestartPolicy, RunSettings};
pub use comparison::{AlikeNodes, DifferingSetting, SettingOfNodes, compare_settings};
pub use described::{SETTINGS, SettingDescription, setting_words};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
pub use retry::retry_after_ms;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::slice;

/// In place of a group's name where something is given to a node by itself. No group can be called so.
pub const NODE_ITSELF: &str = "this node";

/// The time zone of agents that nobody gives another one.
pub const DEFAULT_ZONE: &str = "UTC";
/// The shortest interval between two check-ins or two runs, in seconds.
pub const SHORTEST_INTERVAL_SECS: u64 = 5;
/// The longest interval between two check-ins or two runs, in seconds.
pub const LONGEST_INTERVAL_SECS: u64 = 7 * 86_400;
/// The longest grace, in seconds.
pub const LONGEST_GRACE_SECS: u64 = 90 * 86_400;
/// How much an attic may hold at the least, in MiB.
pub const SMALLEST_ATTIC_MIB: u64 = 1;
/// Fixed hours are spread over this many seconds after them unless said otherwise.
const DEFAULT_SPREAD_AFTER_HOUR_SECS: u64 = 300;

/// Settings of agents, as far as a group names any.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the words are those of AgentSettings")]
pub struct GroupSettings {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<Mode>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval_secs: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub check_in_at: Option<BTreeSet<HourOfDay>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run_interval_secs: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run_at: Option<BTreeSet<HourOfDay>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spread_secs: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_drift: Option<OnDrift>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_rollout: Option<OnRollout>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_secs: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change_window: Option<Vec<WeeklyHours>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restart: Option<RestartPolicy>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reach_within_secs: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub attic_mib: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub related_records: Option<bool>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wakeable: Option<bool>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub agent_version: Option<String>,
}

/// The settings of one node's agent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct AgentSettings {
    /// Whether anything may change.
    pub mode: Mode,
    /// The interval of its check-ins in seconds, and of its runs unless they have their own.
    pub interval_secs: u64,
    /// At which hours it checks in instead.
    #[serde(skip_serializing_if = "BTreeSet::is_empty")]
    pub check_in_at: BTreeSet<HourOfDay>,
    /// The interval of its runs in seconds, if it differs from that of its check-ins.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub run_interval_secs: Option<u64>,
    /// At which hours it runs instead.
    #[serde(skip_serializing_if = "BTreeSet::is_empty")]
    pub run_at: BTreeSet<HourOfDay>,
    /// How far check-ins and runs are spread, in seconds: before the end of an interval, or after a fixed hour. A tenth of
    /// the interval, or 300 after an hour, if nothing is said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub spread_secs: Option<u64>,
    /// The time zone of all hours, as `Europe/Oslo` (IANA).
    pub zone: String,
    /// The switch for drift of clauses that set none.
    pub on_drift: OnDrift,
    /// The switch for what is newly wanted.
    pub on_rollout: OnRollout,
    /// How long drift is left as it is before it is corrected, in seconds.
    pub grace_secs: u64,
    /// The hours in which corrections and restarts may happen; always if there are none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub change_window: Vec<WeeklyHours>,
    /// Whether the node is restarted when its operating system needs it.
    pub restart: RestartPolicy,
    /// How many seconds after a change of network or access a server must be reached again before the change is put back.
    pub reach_within_secs: u64,
    /// How much its attic holds at the most, in MiB; the oldest goes first, the newest always stays.
    pub attic_mib: u64,
    /// Whether the agent gathers what the system has on record of the time in which something drifted: who was signed in, what
    /// sudo ran, packages that changed.
    pub related_records: bool,
    /// Whether the agent keeps a connection open on which the server can have it check in at once.
    pub wakeable: bool,
    /// The version that the agent upgrades itself to; it stays as it was installed without one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub agent_version: Option<String>,
    /// The groups that each setting comes from, by its word; several where they disagree about the mode. What is not named
    /// is as usual.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub from: BTreeMap<String, Vec<String>>,
}

impl Default for AgentSettings {
    fn default() -> Self {
        Self {
            mode: Mode::Observe,
            interval_secs: 15 * 60,
            check_in_at: BTreeSet::new(),
            run_interval_secs: None,
            run_at: BTreeSet::new(),
            spread_secs: None,
            zone: DEFAULT_ZONE.to_owned(),
            on_drift: OnDrift::Correct,
            on_rollout: OnRollout::Apply,
            grace_secs: 0,
            change_window: Vec::new(),
            restart: RestartPolicy::Never,
            reach_within_secs: 60,
            attic_mib: 512,
            related_records: true,
            wakeable: true,
            agent_version: None,
            from: BTreeMap::new(),
        }
    }
}

/// A setting in words.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DescribedSetting {
    /// What is set.
    pub word: String,
    /// How.
    pub value: String,
    /// Where that comes from.
    pub from: String,
}

/// When something is done again and again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rhythm<'s> {
    /// After this many seconds.
    Every(u64),
    /// At these hours.
    At(&'s BTreeSet<HourOfDay>),
}

impl AgentSettings {
    /// Returns when it checks in.
    pub fn check_ins(&self) -> Rhythm<'_> {
        if self.check_in_at.is_empty() {
            Rhythm::Every(self.interval_secs)
        } else {
            Rhythm::At(&self.check_in_at)
        }
    }

    /// Returns when it runs: with its check-ins, unless hours or an interval of their own are set.
    pub fn runs(&self) -> Rhythm<'_> {
        match self.run_interval_secs {
            _ if !self.run_at.is_empty() => Rhythm::At(&self.run_at),
            Some(secs) => Rhythm::Every(secs),
            None => self.check_ins(),
        }
    }

    /// Returns the longest time between two runs.
    pub fn longest_between_runs(&self) -> SignedDuration {
        match self.runs() {
            Rhythm::Every(secs) => seconds(secs),
            // Two hours may be a day apart, and an hour more when the clocks are changed.
            Rhythm::At(_) => SignedDuration::from_hours(25) + seconds(self.spread_after_hour()),
        }
    }

    /// Returns when something of this rhythm is done next. `chance` is any number; it decides where in the spread.
    pub fn next(&self, rhythm: Rhythm<'_>, zone: &TimeZone, after: Timestamp, chance: u64) -> Timestamp {
        let within = |widest_secs: u64| {
            SignedDuration::from_millis(i64::try_from(chance % (widest_secs * 1_000 + 1)).unwrap_or(0))
        };
        match rhythm {
            Rhythm::Every(secs) => {
                later(after, seconds(secs)) - within(self.spread_secs.unwrap_or(secs / 10).min(secs / 2))
            }
            Rhythm::At(hours) => later(next_of_day(hours, zone, after), within(self.spread_after_hour())),
        }
    }

    fn spread_after_hour(&self) -> u64 {
        self.spread_secs.unwrap_or(DEFAULT_SPREAD_AFTER_HOUR_SECS)
    }

    /// Returns the time zone that it names, as far as it is known here; UTC otherwise.
    pub fn time_zone(&self) -> TimeZone {
        TimeZone::get(&self.zone).unwrap_or(TimeZone::UTC)
    }

    /// Returns the change window that is open, or the next one; none if it is always open.
    pub fn window(&self, zone: &TimeZone, now: Timestamp) -> Option<ChangeWindow> {
        window_at(&self.change_window, zone, now)
    }

    /// Returns what holds for a run that begins now.
    pub fn for_run(&self, zone: &TimeZone, now: Timestamp) -> RunSettings {
        RunSettings {
            on_drift: self.on_drift,
            on_rollout: self.on_rollout,
            grace_secs: self.grace_secs,
            window: self.window(zone, now),
            change_window: self.change_window.clone(),
            zone: zone.clone(),
            gathers_related: self.related_records,
            ..RunSettings::of(self.mode)
        }
    }

    /// Returns each setting that a person may care for, in words.
    pub fn described(&self) -> Vec<DescribedSetting> {
        let rhythm = |rhythm: Rhythm<'_>| match rhythm {
            Rhythm::Every(secs) => format!("every {}", exact_span(secs)),
            Rhythm::At(hours) => format!("at {} {}", listed(hours), self.zone),
        };
        let window = match self.change_window.as_slice() {
            [] => "always open".to_owned(),
            hours => format!(
                "{} {}",
                hours.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "),
                self.zone
            ),
        };
        let grace = if self.grace_secs == 0 { "none".to_owned() } else { exact_span(self.grace_secs) };
        let on_drift = if self.on_drift == OnDrift::Correct { "correct" } else { "report" };
        let on_rollout = if self.on_rollout == OnRollout::Apply { "apply" } else { "wait" };
        let mode = if self.mode == Mode::Enforce { "enforce" } else { "observe" };
        let spread = self.spread_secs.map_or("a tenth of the interval".to_owned(), exact_span);
        let rows = [
            ("mode", mode.to_owned()),
            ("check-ins", rhythm(self.check_ins())),
            ("runs", rhythm(self.runs())),
            ("spread", spread),
            ("zone", self.zone.clone()),
            ("on_drift", on_drift.to_owned()),
            ("on_rollout", on_rollout.to_owned()),
            ("grace", grace),
            ("change window", window),
            ("restart", self.restart.words().to_owned()),
            ("reach within", exact_span(self.reach_within_secs)),
            ("attic", format!("{} MiB", self.attic_mib)),
            ("related records", if self.related_records { "gathered" } else { "not gathered" }.to_owned()),
            ("wakeable", if self.wakeable { "yes" } else { "no" }.to_owned()),
            ("agent version", self.agent_version.clone().unwrap_or_else(|| "as installed".to_owned())),
        ];
        rows.into_iter()
            .map(|(word, value)| DescribedSetting {
                word: word.to_owned(),
                value,
                from: self.origin(words_in_documents(word)),
            })
            .collect()
    }

    fn origin(&self, words: &[&str]) -> String {
        match words.iter().find_map(|word| self.from.get(*word)).map(Vec::as_slice) {
            None | Some([]) => "default".to_owned(),
            Some([itself]) if itself == NODE_ITSELF => NODE_ITSELF.to_owned(),
            Some([group]) => format!("the group {group}"),
            Some(groups) => {
                format!("the groups {} conflict: mode observe until they agree", groups.join(" and "))
            }
        }
    }
}

/// Returns the words by which documents say a setting that is described by one word; the first that is said decides.
pub fn words_in_documents(described: &str) -> &'static [&'static str] {
    match described {
        "check-ins" => &["check_in_at", "interval_secs"],
        "runs" => &["run_at", "run_interval_secs", "check_in_at", "interval_secs"],
        "grace" => &["grace_secs"],
        "change window" => &["change_window"],
        "related records" => &["related_records"],
        "spread" => &["spread_secs"],
        "reach within" => &["reach_within_secs"],
        "attic" => &["attic_mib"],
        "agent version" => &["agent_version"],
        same => SETTINGS
            .iter()
            .find(|setting| setting.word == same)
            .map_or(&[], |setting| slice::from_ref(&setting.word)),
    }
}

fn listed(hours: &BTreeSet<HourOfDay>) -> String {
    hours.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// Returns a span in whole units, nothing rounded: `90` is `1 min 30 s`.
fn exact_span(secs: u64) -> String {
    let units = [(secs / 86_400, "d"), (secs / 3_600 % 24, "h"), (secs / 60 % 60, "min"), (secs % 60, "s")];
    let parts: Vec<String> =
        units.iter().filter(|(count, _)| *count > 0).map(|(count, unit)| format!("{count} {unit}")).collect();
    if parts.is_empty() { "0 s".to_owned() } else { parts.join(" ") }
}

fn seconds(secs: u64) -> SignedDuration {
    SignedDuration::from_secs(i64::try_from(secs).unwrap_or(i64::MAX / 8))
}

fn later(at: Timestamp, by: SignedDuration) -> Timestamp {
    at.checked_add(by).unwrap_or(Timestamp::MAX)
}
