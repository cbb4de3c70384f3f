//! Single edits of a group, so that one thing can be altered without writing the whole group again.

use crate::address::ClauseAddress;
use crate::group::{Assignment, Group, MAX_OWN_PROPERTIES, SettingEnd};
use crate::hours::WeeklyHours;
use crate::kit::{OnDrift, OnRollout, Severity};
use crate::nearest::nearest_word;
use crate::settings::{GroupSettings, NODE_ITSELF, SETTINGS};
use jiff::Timestamp;
use serde::{Deserialize, Deserializer, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeSet;

/// What is done to a group.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "edit", rename_all = "snake_case", deny_unknown_fields)]
pub enum GroupEdit {
    /// A baseline is assigned, or assigned otherwise.
    Assign {
        /// The kit.
        kit: String,
        /// The baseline.
        baseline: String,
        /// What is altered of the terms of its clauses.
        #[serde(default)]
        terms: TermsEdit,
        /// Its place among the assignments, from 0; the last if it is new and nothing is said.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        place: Option<usize>,
    },
    /// A baseline is no longer assigned.
    Unassign {
        /// The kit.
        kit: String,
        /// The baseline.
        baseline: String,
    },
    /// A parameter is given a value, or none.
    Parameter {
        /// As `KIT/BASELINE.PARAMETER`.
        name: String,
        /// The value; none takes away what the group gives.
        value: Option<Value>,
    },
    /// A setting of the nodes' agents is set, or no longer by this group.
    Setting {
        /// Its word in the group's document, as `interval_secs`.
        word: String,
        /// The value; none takes away what the group sets.
        value: Option<Value>,
        /// When that ends; never by itself if none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        until: Option<Timestamp>,
    },
    /// A property of one clause is given a value, or none. Only one node by itself is given such.
    Property {
        /// The clause's address, as `file:/etc/issue`.
        clause: ClauseAddress,
        /// The property, as `permissions`.
        property: String,
        /// The value; none takes away what the node is given.
        value: Option<Value>,
        /// When it ends; never by itself if none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        until: Option<Timestamp>,
    },
    /// It has other nodes by its filter.
    Filter {
        /// In CEL; none leaves only the named members.
        filter: Option<String>,
    },
    /// Nodes become named members, or are no longer.
    Members {
        /// Those that become members, by name.
        #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
        add: BTreeSet<String>,
        /// Those that no longer are.
        #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
        remove: BTreeSet<String>,
    },
    /// Its nodes have another stage.
    Stage {
        /// The stage; none leaves it to other groups.
        stage: Option<String>,
    },
    /// It has another priority.
    Priority {
        /// A higher one is put over a lower one.
        priority: i32,
    },
    /// Changes of it ask for a second person, or no longer.
    SecondPerson {
        /// Whether they do.
        required: bool,
    },
}

/// What is altered of the terms of an assignment: what is not named stays, what is null is taken away.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct TermsEdit {
    /// The switch for drift.
    #[serde(default, deserialize_with = "named", skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<OnDrift>))]
    pub on_drift: Option<Option<OnDrift>>,
    /// The switch for what is newly wanted.
    #[serde(default, deserialize_with = "named", skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<OnRollout>))]
    pub on_rollout: Option<Option<OnRollout>>,
    /// The severity of clauses that set none.
    #[serde(default, deserialize_with = "named", skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Severity>))]
    pub severity: Option<Option<Severity>>,
    /// Controls that the clauses satisfy beside their own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub satisfies: Option<BTreeSet<String>>,
    /// Hours in which the clauses may be corrected.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change_window: Option<Vec<WeeklyHours>>,
}

/// Reads what is there, null too.
fn named<'de, D: Deserializer<'de>, T: Deserialize<'de>>(from: D) -> Result<Option<Option<T>>, D::Error> {
    Option::deserialize(from).map(Some)
}

/// Why a group cannot be edited so.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum GroupEditError {
    /// It does not assign the baseline.
    #[error("{} does not assign {baseline}; it assigns {}", called(group), listed(assigned))]
    NotAssigned {
        /// The group.
        group: String,
        /// The baseline, as `KIT/BASELINE`.
        baseline: String,
        /// What it assigns.
        assigned: Vec<String>,
    },
    /// It gives no value for the parameter.
    #[error("{} gives no value for {name}; it gives values for {}", called(group), listed(given))]
    NotGiven {
        /// The group.
        group: String,
        /// The parameter.
        name: String,
        /// The parameters for which it gives one.
        given: Vec<String>,
    },
    /// There is no such setting.
    #[error("there is no setting `{word}`{}", or_did_you_mean(*nearest))]
    NoSetting {
        /// What was asked for.
        word: String,
        /// The nearest one.
        nearest: Option<&'static str>,
    },
    /// A setting cannot have this value.
    #[error("the setting {word} cannot be {value}: {because}")]
    Setting {
        /// The setting.
        word: String,
        /// The value, as JSON.
        value: String,
        /// Why.
        because: String,
    },
    /// A node by itself has no members, no stage and no priority.
    #[error(
        "filter, members, stage, priority and a second person are what only groups have: a node by itself is given baselines, parameters, settings and values of single properties"
    )]
    OnlyOfGroups,
    /// A group gives no values of single properties.
    #[error("a single property is given to one node by itself: a group gives values of parameters")]
    OnlyOfNodes,
    /// The node has no such value of its own.
    #[error("the node has no value of its own of {property} of {clause}{}", or_it_has(given))]
    NoOwnValue {
        /// The clause.
        clause: ClauseAddress,
        /// The property.
        property: String,
        /// What it is given, as `file:/etc/issue permissions`.
        given: Vec<String>,
    },
    /// A node has too many.
    #[error(
        "a node has at most {MAX_OWN_PROPERTIES} values of its own, of 256 KiB together: give it a parameter, or publish a kit that desires it"
    )]
    TooManyOwnValues,
    /// It does not name the node.
    #[error("{node} is not a named member of the group {group}")]
    NotNamed {
        /// The group.
        group: String,
        /// The node.
        node: String,
    },
}

fn called(group: &str) -> String {
    if group == NODE_ITSELF { group.to_owned() } else { format!("the group {group}") }
}

fn listed(names: &[String]) -> String {
    if names.is_empty() { "none".to_owned() } else { names.join(", ") }
}

fn or_it_has(given: &[String]) -> String {
    if given.is_empty() { String::new() } else { format!("; it has {}", given.join(", ")) }
}

fn or_did_you_mean(nearest: Option<&str>) -> String {
    nearest.map(|word| format!("; did you mean `{word}`?")).unwrap_or_default()
}

impl Group {
    /// Makes the edits, one after the other; none of them if one cannot be made.
    ///
    /// # Errors
    ///
    /// Returns why one cannot.
    pub fn edited(&self, edits: &[GroupEdit]) -> Result<Self, GroupEditError> {
        let mut group = self.clone();
        edits.iter().try_for_each(|edit| group.edit(edit))?;
        Ok(group)
    }

    fn edit(&mut self, edit: &GroupEdit) -> Result<(), GroupEditError> {
        match edit {
            GroupEdit::Assign { kit, baseline, terms, place } => self.assign((kit, baseline), terms, *place),
            GroupEdit::Unassign { kit, baseline } => {
                let at = self.place_of(kit, baseline).ok_or_else(|| self.not_assigned(kit, baseline))?;
                self.assignments.remove(at);
            }
            GroupEdit::Parameter { name, value: Some(value) } => {
                self.parameters.insert(name.clone(), value.clone());
            }
            GroupEdit::Parameter { name, value: None } => {
                self.parameters.remove(name).ok_or_else(|| GroupEditError::NotGiven {
                    group: self.name.clone(),
                    name: name.clone(),
                    given: self.parameters.keys().cloned().collect(),
                })?;
            }
            GroupEdit::Setting { word, value, until } => {
                let before = self.settings.get(word);
                self.settings = set(&self.settings, word, value.as_ref())?;
                // What was for a time already is followed by what was to follow it.
                let then = self.settings_until.remove(word).map_or(before, |end| end.then);
                if let Some(until) = until.filter(|_| value.is_some()) {
                    self.settings_until.insert(word.clone(), SettingEnd { until, then });
                }
            }
            GroupEdit::Property { .. } => return Err(GroupEditError::OnlyOfNodes),
            GroupEdit::Filter { filter } => self.filter.clone_from(filter),
            GroupEdit::Members { add, remove } => {
                if let Some(node) = remove.iter().find(|node| !self.nodes.contains(*node)) {
                    let (group, node) = (self.name.clone(), node.clone());
                    return Err(GroupEditError::NotNamed { group, node });
                }
                self.nodes.retain(|node| !remove.contains(node));
                self.nodes.extend(add.iter().cloned());
            }
            GroupEdit::Stage { stage } => self.stage.clone_from(stage),
            GroupEdit::Priority { priority } => self.priority = *priority,
            GroupEdit::SecondPerson { required } => self.second_person = *required,
        }
        Ok(())
    }

    fn assign(&mut self, (kit, baseline): (&str, &str), terms: &TermsEdit, place: Option<usize>) {
        let before = self.place_of(kit, baseline);
        let mut assignment = before.map_or_else(
            || Assignment { kit: kit.to_owned(), baseline: baseline.to_owned(), ..Assignment::default() },
            |at| self.assignments.remove(at),
        );
        let TermsEdit { on_drift, on_rollout, severity, satisfies, change_window } = terms.clone();
        assignment.on_drift = on_drift.unwrap_or(assignment.on_drift);
        assignment.on_rollout = on_rollout.unwrap_or(assignment.on_rollout);
        assignment.severity = severity.unwrap_or(assignment.severity);
        assignment.satisfies = satisfies.unwrap_or(assignment.satisfies);
        assignment.change_window = change_window.unwrap_or(assignment.change_window);
        let place = place.or(before).unwrap_or(self.assignments.len()).min(self.assignments.len());
        self.assignments.insert(place, assignment);
    }

    fn place_of(&self, kit: &str, baseline: &str) -> Option<usize> {
        self.assignments
            .iter()
            .position(|assignment| assignment.kit == kit && assignment.baseline == baseline)
    }

    fn not_assigned(&self, kit: &str, baseline: &str) -> GroupEditError {
        let name = |kit: &str, baseline: &str| format!("{kit}/{baseline}");
        GroupEditError::NotAssigned {
            group: self.name.clone(),
            baseline: name(kit, baseline),
            assigned: self.assignments.iter().map(|other| name(&other.kit, &other.baseline)).collect(),
        }
    }
}

impl Group {
    /// Returns it as it is from a time on: with what follows the settings that end by then. None if none does.
    pub fn ended(&self, now: Timestamp) -> Option<Self> {
        let over = self.settings_until.iter().filter(|(_, end)| end.until <= now);
        let edits: Vec<GroupEdit> = over
            .map(|(word, end)| GroupEdit::Setting {
                word: word.clone(),
                value: end.then.clone(),
                until: None,
            })
            .collect();
        (!edits.is_empty()).then(|| self.edited(&edits).ok()).flatten()
    }
}

fn set(settings: &GroupSettings, word: &str, value: Option<&Value>) -> Result<GroupSettings, GroupEditError> {
    if !SETTINGS.iter().any(|setting| setting.word == word) {
        let nearest = nearest_word(word, SETTINGS.iter().map(|setting| setting.word));
        return Err(GroupEditError::NoSetting { word: word.to_owned(), nearest });
    }
    let wrong = |because: serde_json::Error| GroupEditError::Setting {
        word: word.to_owned(),
        value: value.map(Value::to_string).unwrap_or_default(),
        because: because.to_string(),
    };
    let mut document: Map<String, Value> =
        serde_json::to_value(settings).and_then(serde_json::from_value).map_err(wrong)?;
    match value {
        Some(value) => drop(document.insert(word.to_owned(), value.clone())),
        None => drop(document.remove(word)),
    }
    serde_json::from_value(document.into()).map_err(wrong)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn kiosks() -> Group {
        serde_json::from_value(json!({
            "name": "kiosks", "priority": 10, "filter": "labels.role == 'kiosk'", "nodes": ["kiosk-lab-1"],
            "assignments": [
                { "kit": "quay-base", "baseline": "login", "severity": "high" },
                { "kit": "kiosk-floor", "baseline": "kiosk-lockdown", "on_drift": "report", "satisfies": ["SK-9"] },
            ],
            "parameters": { "kiosk-floor/kiosk-lockdown.idle_seconds": 45 },
            "settings": { "mode": "enforce", "interval_secs": 900 },
        }))
        .unwrap()
    }

    fn edited(edits: &Value) -> Result<Group, GroupEditError> {
        kiosks().edited(&serde_json::from_value::<Vec<GroupEdit>>(edits.clone()).unwrap())
    }

    #[test]
    fn of_an_assignment_only_the_named_terms_are_altered_and_its_place_stays() {
        let group = edited(&json!([{ "edit": "assign", "kit": "quay-base", "baseline": "login", "terms": { "on_drift": "report" } }])).unwrap();
        let login = &group.assignments[0];
        assert_eq!((login.on_drift, login.severity), (Some(OnDrift::Report), Some(Severity::High)));
        let terms = json!({ "on_drift": null, "satisfies": ["SK-7"] });
        let group = edited(&json!([{ "edit": "assign", "kit": "kiosk-floor", "baseline": "kiosk-lockdown", "terms": terms, "place": 0 }])).unwrap();
        let first = &group.assignments[0];
        assert_eq!((first.baseline.as_str(), first.on_drift), ("kiosk-lockdown", None));
        assert_eq!(first.satisfies, BTreeSet::from(["SK-7".to_owned()]));
        assert_eq!(group.assignments.len(), 2);
    }

    #[test]
    fn a_new_assignment_comes_last_or_where_it_is_put() {
        let new = |place: Value| json!([{ "edit": "assign", "kit": "quay-base", "baseline": "upkeep", "place": place }]);
        let names = |group: &Group| group.assignments.iter().map(|a| a.baseline.clone()).collect::<Vec<_>>();
        assert_eq!(names(&edited(&new(json!(null))).unwrap()), ["login", "kiosk-lockdown", "upkeep"]);
        assert_eq!(names(&edited(&new(json!(1))).unwrap()), ["login", "upkeep", "kiosk-lockdown"]);
        assert_eq!(names(&edited(&new(json!(99))).unwrap()), ["login", "kiosk-lockdown", "upkeep"]);
    }

    #[test]
    fn values_and_settings_are_set_and_taken_away_and_nothing_else_changes() {
        let name = "kiosk-floor/kiosk-lockdown.idle_seconds";
        let group = edited(&json!([
            { "edit": "parameter", "name": name, "value": null },
            { "edit": "parameter", "name": "kiosk-floor/kiosk-lockdown.lanes", "value": ["A"] },
            { "edit": "setting", "word": "interval_secs", "value": null },
            { "edit": "setting", "word": "grace_secs", "value": 1800 },
        ]))
        .unwrap();
        let mut wanted = kiosks();
        wanted.parameters = [("kiosk-floor/kiosk-lockdown.lanes".to_owned(), json!(["A"]))].into();
        wanted.settings.interval_secs = None;
        wanted.settings.grace_secs = Some(1800);
        assert_eq!(group, wanted);
    }

    #[test]
    fn what_cannot_be_edited_is_said_with_what_there_is() {
        let said = |edit: Value| edited(&json!([edit])).unwrap_err().to_string();
        assert_eq!(
            said(json!({ "edit": "unassign", "kit": "quay-base", "baseline": "logins" })),
            "the group kiosks does not assign quay-base/logins; it assigns quay-base/login, kiosk-floor/kiosk-lockdown"
        );
        assert_eq!(
            said(json!({ "edit": "parameter", "name": "quay-base/login.banner", "value": null })),
            "the group kiosks gives no value for quay-base/login.banner; it gives values for kiosk-floor/kiosk-lockdown.idle_seconds"
        );
        assert_eq!(
            said(json!({ "edit": "setting", "word": "intervall_secs", "value": 5 })),
            "there is no setting `intervall_secs`; did you mean `interval_secs`?"
        );
        let wrong = said(json!({ "edit": "setting", "word": "mode", "value": "watch" }));
        assert!(
            wrong.starts_with("the setting mode cannot be \"watch\": unknown variant `watch`"),
            "{wrong}"
        );
        assert_eq!(
            said(json!({ "edit": "members", "remove": ["kiosk-lab-2"] })),
            "kiosk-lab-2 is not a named member of the group kiosks"
        );
    }

    #[test]
    fn after_a_setting_for_a_time_it_is_as_before_and_another_value_has_no_end() {
        let at = |hour: i64| Timestamp::from_second(hour * 3_600).unwrap();
        let setting = |value: Option<Value>, until: Option<Timestamp>| GroupEdit::Setting {
            word: "mode".into(),
            value,
            until,
        };
        let observed = kiosks().edited(&[setting(Some(json!("observe")), Some(at(10)))]).unwrap();
        let end = |hour: i64| json!({ "mode": { "until": at(hour), "then": "enforce" } });
        assert_eq!(json!(observed)["settings_until"], end(10));
        let longer = observed.edited(&[setting(Some(json!("observe")), Some(at(12)))]).unwrap();
        assert_eq!(json!(longer)["settings_until"], end(12));
        assert_eq!(observed.ended(at(9)), None);
        let over = observed.ended(at(10)).unwrap();
        assert_eq!(over, kiosks(), "as before");
        assert!(over.settings_until.is_empty());
        for edit in [setting(Some(json!("enforce")), None), setting(None, None)] {
            assert!(observed.edited(&[edit]).unwrap().settings_until.is_empty());
        }
    }
}
