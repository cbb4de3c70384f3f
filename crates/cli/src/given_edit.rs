//! What a group gives its nodes, or a node is given by itself: edits in one line.

use crate::invitation::duration;
use clap::{ArgGroup, Args, ValueEnum};
use constans_core::address::ClauseAddress;
use constans_core::change::{GroupEdit, TermsEdit};
use constans_core::kit::{OnDrift, OnRollout, Severity};
use constans_core::state::typed_value;
use constans_terminal::time;
use jiff::{SignedDuration, Timestamp};
use serde_json::Value;

/// A baseline that is assigned, and on which terms.
#[derive(Debug, Args)]
pub struct AssignArguments {
    /// The baseline
    #[arg(value_name = "KIT/BASELINE", value_parser = baseline)]
    baseline: (String, String),
    /// Whether drift of its clauses is corrected
    #[arg(long, value_enum)]
    on_drift: Option<Drift>,
    /// Whether what is newly desired is applied
    #[arg(long, value_enum)]
    on_rollout: Option<Rollout>,
    /// The severity of clauses that set none
    #[arg(long, value_enum)]
    severity: Option<SeverityTerm>,
    /// Controls that its clauses satisfy beside their own; an empty text for none
    #[arg(long, value_name = "CONTROLS", value_delimiter = ',')]
    satisfies: Option<Vec<String>>,
    /// Its place among the assignments, from 1; the last by default
    #[arg(long, value_name = "PLACE", value_parser = clap::value_parser!(u32).range(1..))]
    place: Option<u32>,
}

/// A baseline that is no longer assigned.
#[derive(Debug, Args)]
pub struct UnassignArguments {
    /// The baseline
    #[arg(value_name = "KIT/BASELINE", value_parser = baseline)]
    baseline: (String, String),
}

/// A parameter and its value, or that none is given.
#[derive(Debug, Args)]
#[command(group = ArgGroup::new("how").required(true))]
pub struct ParamArguments {
    /// The parameter
    #[arg(value_name = "KIT/BASELINE.PARAMETER")]
    parameter: String,
    /// The value as in a document: 45, true, ["A", "B"]; anything else is a text
    #[arg(group = "how", allow_hyphen_values = true)]
    value: Option<String>,
    /// Take away what is given here
    #[arg(long, group = "how")]
    unset: bool,
}

/// A setting and its value, or that it is not set.
#[derive(Debug, Args)]
#[command(group = ArgGroup::new("how").required(true))]
pub struct SettingArguments {
    /// The setting, for example mode or interval_secs; group show lists them
    #[arg(value_name = "SETTING")]
    word: String,
    /// The value as in a document; a time also as "15 min"
    #[arg(group = "how", allow_hyphen_values = true)]
    value: Option<String>,
    /// Take away what is set here
    #[arg(long, group = "how")]
    unset: bool,
    /// How long, for example 2h or 7d: then it is as before; say why with --because
    #[arg(long = "for", value_name = "TIME", value_parser = duration, conflicts_with_all = ["unset", "until"])]
    for_secs: Option<u64>,
    /// Until when, for example 2026-12-24T06:00:00Z
    #[arg(long, value_name = "INSTANT", conflicts_with = "unset")]
    until: Option<Timestamp>,
}

/// Properties of a clause and their values on one node.
#[derive(Debug, Args)]
#[command(group = ArgGroup::new("end").required(true))]
pub struct SetArguments {
    /// The clause, as file:/etc/issue
    #[arg(value_name = "ADDRESS", value_parser = ClauseAddress::parse)]
    clause: ClauseAddress,
    /// A property and its value as in a document, for example permissions=0640
    #[arg(value_name = "PROPERTY=VALUE", required = true, value_parser = property_pair)]
    values: Vec<(String, String)>,
    /// How long, for example 2h or 7d: then the node has again what its baselines say
    #[arg(long = "for", group = "end", value_name = "TIME", value_parser = duration)]
    for_secs: Option<u64>,
    /// Until when, for example 2026-12-24T06:00:00Z
    #[arg(long, group = "end", value_name = "INSTANT")]
    until: Option<Timestamp>,
    /// Until it is unset
    #[arg(long, group = "end")]
    without_end: bool,
}

/// Properties of a clause that have no longer values of the node's own.
#[derive(Debug, Args)]
pub struct UnsetArguments {
    /// The clause, as file:/etc/issue
    #[arg(value_name = "ADDRESS", value_parser = ClauseAddress::parse)]
    clause: ClauseAddress,
    /// The properties
    #[arg(value_name = "PROPERTY", required = true)]
    properties: Vec<String>,
}

/// The switch for drift of an assignment.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum Drift {
    Correct,
    Report,
    /// As the kit or the agent's settings say
    None,
}

/// The switch for what is newly desired.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum Rollout {
    Apply,
    Wait,
    /// As the kit or the agent's settings say
    None,
}

/// The severity of an assignment.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum SeverityTerm {
    Low,
    Medium,
    High,
    Critical,
    /// As the kit says
    None,
}

/// Reads the name of a baseline with its kit.
///
/// # Errors
///
/// Returns how it is written.
pub fn baseline(text: &str) -> Result<(String, String), String> {
    match text.split_once('/') {
        Some((kit, baseline)) if !kit.is_empty() && !baseline.is_empty() => {
            Ok((kit.to_owned(), baseline.to_owned()))
        }
        _ => Err("a baseline is written with its kit, as kiosk-floor/kiosk-lockdown".to_owned()),
    }
}

fn property_pair(text: &str) -> Result<(String, String), String> {
    let wrong = "a property and its value are written PROPERTY=VALUE, for example permissions=0640";
    let (property, value) = text.split_once('=').filter(|(property, _)| !property.is_empty()).ok_or(wrong)?;
    Ok((property.to_owned(), value.to_owned()))
}

// Each returns the edit, and what it does to the group or node of this name, in words.

impl AssignArguments {
    pub fn edit(&self, of: &str) -> (GroupEdit, String) {
        let (kit, baseline) = self.baseline.clone();
        let satisfies = self
            .satisfies
            .as_ref()
            .map(|controls| controls.iter().filter(|control| !control.is_empty()).cloned().collect());
        let terms = TermsEdit {
            on_drift: self.on_drift.map(Drift::term),
            on_rollout: self.on_rollout.map(Rollout::term),
            severity: self.severity.map(SeverityTerm::term),
            satisfies,
            change_window: None,
        };
        let what = format!("{of} is assigned {kit}/{baseline}");
        let place = self.place.map(|place| place as usize - 1);
        (GroupEdit::Assign { kit, baseline, terms, place }, what)
    }
}

impl UnassignArguments {
    pub fn edit(&self, of: &str) -> (GroupEdit, String) {
        let (kit, baseline) = self.baseline.clone();
        let what = format!("{of} is no longer assigned {kit}/{baseline}");
        (GroupEdit::Unassign { kit, baseline }, what)
    }
}

impl ParamArguments {
    pub fn edit(&self, of: &str) -> (GroupEdit, String) {
        let name = self.parameter.clone();
        let value = self.value.as_deref().map(read_value);
        let what = match (&value, of) {
            (Some(value), of) => format!("{name} = {value} for {of}"),
            (None, of) => format!("no value of its own of {name} for {of}"),
        };
        (GroupEdit::Parameter { name, value }, what)
    }
}

/// When something ends that is given for so many seconds, or until then.
fn end_of(for_secs: Option<u64>, until: Option<Timestamp>) -> Option<Timestamp> {
    let span = for_secs.map(|secs| SignedDuration::from_secs(secs.cast_signed()));
    until.or_else(|| Timestamp::now().checked_add(span?).ok())
}

fn end_words(until: Option<Timestamp>) -> String {
    until.map_or_else(String::new, |until| format!(", until {}", time(until)))
}

impl SettingArguments {
    pub fn edit(&self, of: &str) -> (GroupEdit, String) {
        let word = self.word.clone();
        let value = self.value.as_deref().map(|value| read_setting(&word, value));
        let until = end_of(self.for_secs, self.until);
        let what = match &value {
            Some(value) => format!("{word} = {value} for {of}{}", end_words(until)),
            None => format!("{word} is no longer set for {of}"),
        };
        (GroupEdit::Setting { word, value, until }, what)
    }
}

impl SetArguments {
    pub fn edits(&self, of: &str) -> (Vec<GroupEdit>, String) {
        let until = end_of(self.for_secs, self.until);
        let edit = |(property, text): &(String, String)| GroupEdit::Property {
            clause: self.clause.clone(),
            property: property.clone(),
            value: Some(typed_value(&self.clause, property, text, read_value(text))),
            until,
        };
        let values: Vec<String> =
            self.values.iter().map(|(property, text)| format!("{property} = {text}")).collect();
        let what = format!("{} of {} on {of} alone{}", values.join(", "), self.clause, end_words(until));
        (self.values.iter().map(edit).collect(), what)
    }
}

impl UnsetArguments {
    pub fn edits(&self, of: &str) -> (Vec<GroupEdit>, String) {
        let edit = |property: &String| GroupEdit::Property {
            clause: self.clause.clone(),
            property: property.clone(),
            value: None,
            until: None,
        };
        let what = format!("{of} has {} of {} as its baselines say", self.properties.join(", "), self.clause);
        (self.properties.iter().map(edit).collect(), what)
    }
}

impl Drift {
    fn term(self) -> Option<OnDrift> {
        match self {
            Self::Correct => Some(OnDrift::Correct),
            Self::Report => Some(OnDrift::Report),
            Self::None => None,
        }
    }
}

impl Rollout {
    fn term(self) -> Option<OnRollout> {
        match self {
            Self::Apply => Some(OnRollout::Apply),
            Self::Wait => Some(OnRollout::Wait),
            Self::None => None,
        }
    }
}

impl SeverityTerm {
    fn term(self) -> Option<Severity> {
        match self {
            Self::Low => Some(Severity::Low),
            Self::Medium => Some(Severity::Medium),
            Self::High => Some(Severity::High),
            Self::Critical => Some(Severity::Critical),
            Self::None => None,
        }
    }
}

/// Reads a value as a document has it; what is none there is a text.
fn read_value(text: &str) -> Value {
    let document: Result<std::collections::BTreeMap<String, Value>, _> =
        toml::from_str(&format!("value = {text}"));
    match document.ok().as_mut().filter(|document| document.len() == 1).and_then(|read| read.remove("value"))
    {
        Some(value) => value,
        None => Value::String(text.to_owned()),
    }
}

/// Reads the value of a setting; one in seconds also as a time with its unit.
fn read_setting(word: &str, text: &str) -> Value {
    let value = read_value(text);
    let span = value
        .as_str()
        .filter(|_| word.ends_with("_secs"))
        .and_then(|text| text.parse::<SignedDuration>().ok());
    span.map_or(value, |span| span.as_secs().into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn values_are_read_as_in_a_document_and_everything_else_is_a_text() {
        for (text, value) in [
            ("45", json!(45)),
            ("true", json!(true)),
            ("[\"A\", \"B\"]", json!(["A", "B"])),
            ("\"45\"", json!("45")),
            ("Ticket office", json!("Ticket office")),
            ("1 = 2", json!("1 = 2")),
            ("45\nother = 1", json!("45\nother = 1")),
        ] {
            assert_eq!(read_value(text), value, "{text}");
        }
    }

    #[test]
    fn a_setting_in_seconds_takes_a_time_with_its_unit() {
        assert_eq!(read_setting("interval_secs", "15 min"), json!(900));
        assert_eq!(read_setting("grace_secs", "1h 30m"), json!(5400));
        assert_eq!(read_setting("grace_secs", "soon"), json!("soon"));
        assert_eq!(read_setting("zone", "Europe/Oslo"), json!("Europe/Oslo"));
        assert_eq!(read_setting("interval_secs", "900"), json!(900));
    }
}
