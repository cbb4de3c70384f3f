//! From groups and stages to what one node is assigned: its stage, its baselines in order, its parameters' layers and
//! its agent's settings, each with where it comes from.

mod check;
mod layers;
mod membership;
mod merge;
mod own;
mod planner;
mod view;

use crate::filter::NodeView;
use crate::hours::WeeklyHours;
use crate::kit::{OnDrift, OnRollout, Severity};
use crate::param::{Layer, LayerValue, disagree};
use crate::settings::{AgentSettings, GroupSettings, NODE_ITSELF};
use crate::state::{AssignmentTerms, OwnProperties};
pub use check::{GroupFinding, GroupSurroundings, check_group};
use jiff::Timestamp;
pub use layers::{LayeredValue, NodeLayers, node_layers};
pub use membership::{GroupMembers, MAX_GROUP_NAMES, MemberCount, Membership, UndecidableNode};
use merge::settings_of;
pub use own::{MAX_OWN_PROPERTIES, MAX_OWN_PROPERTY_BYTES, NodeOwn};
pub use planner::Planner;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
pub use view::{
    AssignmentView, GivenBy, GroupView, ParameterView, PlacedAlike, ServedTo, SettingView, SharedNodes,
    ViewSurroundings,
};

/// Priorities are between this and its negative.
pub const HIGHEST_PRIORITY: i32 = 1_000_000;

/// The group that every node belongs to.
pub const EVERYONE: &str = "everyone";

/// When a setting ends, and what is set then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SettingEnd {
    /// When.
    pub until: Timestamp,
    /// Its value from then on, as it was before; none if it is no longer set then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub then: Option<Value>,
}

/// A named set of nodes and what they are given.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Group {
    /// Its name.
    pub name: String,
    /// A higher one is put over a lower one, from −1,000,000 to 1,000,000; `everyone` has 0.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(minimum = -1_000_000, maximum = 1_000_000))]
    pub priority: i32,
    /// Which nodes it has; none by itself for a group that only pins.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    /// Nodes pinned by hand, by name.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub nodes: BTreeSet<String>,
    /// The stage of its nodes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stage: Option<String>,
    /// The baselines that its nodes are assigned, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub assignments: Vec<Assignment>,
    /// Parameters' values, by `KIT/BASELINE.PARAM`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub parameters: BTreeMap<String, Value>,
    /// Whether a second person has to approve changes of it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub second_person: bool,
    /// Settings of its nodes' agents, as far as it names any.
    #[serde(default)]
    pub settings: GroupSettings,
    /// Until when it sets some of them, by their words; it sets the others without end.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub settings_until: BTreeMap<String, SettingEnd>,
}

/// A baseline given to a group.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Assignment {
    /// The kit.
    pub kit: String,
    /// The baseline.
    pub baseline: String,
    /// Its own switch for drift.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_drift: Option<OnDrift>,
    /// Its own switch for what is newly wanted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_rollout: Option<OnRollout>,
    /// The severity of clauses that set none, in place of the baseline's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub severity: Option<Severity>,
    /// Controls that the clauses satisfy beside their own.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub satisfies: BTreeSet<String>,
    /// Hours in which the clauses may be corrected, within the node's change window and in its time zone; always if there are none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub change_window: Vec<WeeklyHours>,
}

impl Group {
    /// Returns whether it assigns a baseline.
    pub fn assigns(&self, kit: &str, baseline: &str) -> bool {
        self.assignments.iter().any(|one| one.kit == kit && one.baseline == baseline)
    }
}

impl Assignment {
    fn terms(&self) -> AssignmentTerms {
        AssignmentTerms {
            on_drift: self.on_drift,
            on_rollout: self.on_rollout,
            severity: self.severity,
            satisfies: self.satisfies.clone(),
            change_windows: Some(self.change_window.clone())
                .filter(|hours| !hours.is_empty())
                .into_iter()
                .collect(),
        }
    }
}

/// A baseline that a node is assigned, by one group or several.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedBaseline {
    /// The kit.
    pub kit: String,
    /// The baseline.
    pub baseline: String,
    /// The terms of all its assignments.
    pub terms: AssignmentTerms,
}

/// A baseline that one group assigns.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AssignedBy {
    /// The group.
    pub group: String,
    /// The kit.
    pub kit: String,
    /// The baseline.
    pub baseline: String,
}

/// What one node is assigned.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Plan {
    /// The groups that it belongs to, the lowest first.
    pub groups: Vec<String>,
    /// Groups whose filter cannot be evaluated, because the node did not report a field.
    pub undecidable: Vec<String>,
    /// Its stage.
    pub stage: String,
    /// Its baselines in order; one that came twice keeps its first place and joins the terms of both.
    pub assignments: Vec<PlannedBaseline>,
    /// Which group assigns which baseline; [`NODE_ITSELF`] what the node is given by itself.
    pub assigned_by: Vec<AssignedBy>,
    /// Parameters' values by `KIT/BASELINE.PARAM`, the lowest layer first.
    pub given: BTreeMap<String, Vec<LayerValue>>,
    /// Values of single properties that the node is given by itself.
    pub own: OwnProperties,
    /// Its agent's settings.
    pub settings: AgentSettings,
}

/// Why a node cannot be assigned anything.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PlanError {
    /// Two groups of one priority disagree.
    #[error("the groups `{first}` and `{second}` have the same priority and conflict in {about}")]
    Disagree {
        /// One.
        first: String,
        /// The other.
        second: String,
        /// About what.
        about: String,
    },
    /// A group's filter cannot be evaluated.
    #[error("the filter of the group `{group}` cannot be used: {because}")]
    Filter {
        /// The group.
        group: String,
        /// Why.
        because: String,
    },
}

/// Returns what a node is assigned. `stages` are in order; a node whose groups name none is in the last.
///
/// # Errors
///
/// Returns the first disagreement, naming both groups. A disagreement about the mode resolves to `observe`.
pub fn plan(view: &NodeView, own: &NodeOwn, groups: &[Group], stages: &[String]) -> Result<Plan, PlanError> {
    Planner::new(groups.to_vec(), stages.to_vec()).plan(view, own, |plan| plan)
}

/// Returns what the nodes of these groups are assigned that are given the same by themselves.
fn plan_for(
    of_groups: Vec<&Group>,
    own: &NodeOwn,
    undecidable: Vec<String>,
    stages: &[String],
) -> Result<Plan, PlanError> {
    let own_properties = own.properties.clone();
    let own = own.as_group();
    let mut mine = of_groups;
    mine.sort_by(|left, right| (left.priority, &left.name).cmp(&(right.priority, &right.name)));
    let names = mine.iter().map(|group| group.name.clone()).collect();
    mine.extend(&own);
    let stage = highest(&mine, "the stage", |group| group.stage.clone())?;
    Ok(Plan {
        groups: names,
        undecidable,
        stage: stage.map(|(stage, _)| stage).or_else(|| stages.last().cloned()).unwrap_or_default(),
        assignments: assignments(&mine),
        assigned_by: assigned_by(&mine),
        given: given(&mine)?,
        own: own_properties,
        settings: settings_of(&mine)?,
    })
}

/// Returns what the highest group says, and its name; two of one priority must not disagree.
fn highest<T: PartialEq>(
    groups: &[&Group],
    about: &str,
    field: impl Fn(&Group) -> Option<T>,
) -> Result<Option<(T, String)>, PlanError> {
    let mut top: Option<(&Group, T)> = None;
    for group in groups {
        let Some(value) = field(group) else { continue };
        if let Some((first, known)) = &top
            && first.priority == group.priority
            && *known != value
        {
            return Err(PlanError::Disagree {
                first: first.name.clone(),
                second: group.name.clone(),
                about: about.to_owned(),
            });
        }
        top = Some((group, value));
    }
    Ok(top.map(|(group, value)| (value, group.name.clone())))
}

fn assignments(groups: &[&Group]) -> Vec<PlannedBaseline> {
    let mut all: Vec<PlannedBaseline> = Vec::new();
    for assignment in groups.iter().flat_map(|group| &group.assignments) {
        match all
            .iter_mut()
            .find(|known| known.kit == assignment.kit && known.baseline == assignment.baseline)
        {
            Some(known) => drop(known.terms.join(&assignment.terms())),
            None => all.push(PlannedBaseline {
                kit: assignment.kit.clone(),
                baseline: assignment.baseline.clone(),
                terms: assignment.terms(),
            }),
        }
    }
    all
}

fn assigned_by(groups: &[&Group]) -> Vec<AssignedBy> {
    let of_group = |group: &&Group| {
        let name = group.name.clone();
        group.assignments.clone().into_iter().map(move |Assignment { kit, baseline, .. }| AssignedBy {
            group: name.clone(),
            kit,
            baseline,
        })
    };
    groups.iter().flat_map(of_group).collect()
}

fn given(groups: &[&Group]) -> Result<BTreeMap<String, Vec<LayerValue>>, PlanError> {
    let names: BTreeSet<&String> = groups.iter().flat_map(|group| group.parameters.keys()).collect();
    let mut given = BTreeMap::new();
    for name in names {
        let set_by: Vec<(&Group, &Value)> =
            groups.iter().filter_map(|group| Some((*group, group.parameters.get(name)?))).collect();
        for (at, (first, value)) in set_by.iter().enumerate() {
            if let Some((second, _)) = set_by[at + 1..]
                .iter()
                .find(|(second, other)| second.priority == first.priority && disagree(value, other))
            {
                return Err(PlanError::Disagree {
                    first: first.name.clone(),
                    second: second.name.clone(),
                    about: format!("the parameter {name}"),
                });
            }
        }
        let layer = |group: &Group| {
            if group.name == NODE_ITSELF { Layer::Node } else { Layer::Group(group.name.clone()) }
        };
        let layers = set_by.into_iter().map(|(group, value)| LayerValue::new(value.clone(), layer(group)));
        given.insert(name.clone(), layers.collect());
    }
    Ok(given)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::run::Mode;
    use serde_json::json;

    fn group(name: &str, priority: i32) -> Group {
        Group {
            name: name.into(),
            priority,
            filter: Some("labels.role == 'kiosk'".into()),
            ..Group::default()
        }
    }

    fn everyone() -> Group {
        Group { name: EVERYONE.into(), ..Group::default() }
    }

    fn kiosk() -> NodeView {
        NodeView {
            name: "kiosk-auken-1".into(),
            labels: BTreeMap::from([("role".into(), "kiosk".into())]),
            ..NodeView::default()
        }
    }

    fn stages() -> Vec<String> {
        vec!["harbour".into(), "open-water".into()]
    }

    fn assignment(baseline: &str, on_drift: Option<OnDrift>) -> Assignment {
        Assignment { kit: "quay-base".into(), baseline: baseline.into(), on_drift, ..Assignment::default() }
    }

    fn planned(assignment: Assignment) -> PlannedBaseline {
        PlannedBaseline { terms: assignment.terms(), kit: assignment.kit, baseline: assignment.baseline }
    }

    #[test]
    fn a_node_belongs_by_filter_by_name_and_always_to_everyone() {
        let pinned = Group {
            name: "night-trial".into(),
            nodes: BTreeSet::from(["kiosk-auken-1".into()]),
            ..Group::default()
        };
        let ships = Group { filter: Some("labels.role == 'bridge'".into()), ..group("ships", 5) };
        let big = Group { filter: Some("about.cpu.count > 8".into()), ..group("big", 5) };
        let plan = plan(
            &kiosk(),
            &NodeOwn::default(),
            &[group("kiosks", 10), pinned, ships, everyone(), big],
            &stages(),
        )
        .unwrap();
        assert_eq!(plan.groups, ["everyone", "night-trial", "kiosks"]);
        assert_eq!(plan.undecidable, ["big"]);
        assert_eq!(plan.stage, "open-water", "no group names a stage: the last one");
    }

    #[test]
    fn the_highest_group_decides_and_layers_are_kept_in_order() {
        let low = Group {
            stage: Some("open-water".into()),
            parameters: BTreeMap::from([("a/b.c".into(), json!(1))]),
            ..group("low", 1)
        };
        let high = Group {
            stage: Some("harbour".into()),
            parameters: BTreeMap::from([("a/b.c".into(), json!(2))]),
            ..group("high", 2)
        };
        let plan = plan(&kiosk(), &NodeOwn::default(), &[high, low], &stages()).unwrap();
        assert_eq!(plan.stage, "harbour");
        assert_eq!(
            plan.given["a/b.c"].iter().map(|given| given.value.clone()).collect::<Vec<_>>(),
            [json!(1), json!(2)]
        );
    }

    #[test]
    fn a_baseline_that_comes_twice_keeps_its_first_place_and_the_more_careful_switch() {
        let low = Group {
            assignments: vec![assignment("login", Some(OnDrift::Correct)), assignment("upkeep", None)],
            ..group("low", 1)
        };
        let high =
            Group { assignments: vec![assignment("login", Some(OnDrift::Report))], ..group("high", 2) };
        let plan = plan(&kiosk(), &NodeOwn::default(), &[low, high], &stages()).unwrap();
        assert_eq!(
            plan.assignments,
            [assignment("login", Some(OnDrift::Report)), assignment("upkeep", None)].map(planned)
        );
    }

    #[test]
    fn a_baseline_that_comes_twice_has_the_higher_severity_all_controls_and_only_the_hours_of_both() {
        let hours = |from: &str| {
            serde_json::from_value::<WeeklyHours>(json!({ "from": from, "until": "04:00" })).unwrap()
        };
        let terms = |severity, control: &str, from: &str| Assignment {
            severity: Some(severity),
            satisfies: BTreeSet::from([control.into()]),
            change_window: vec![hours(from)],
            ..assignment("login", None)
        };
        let low = Group {
            assignments: vec![terms(Severity::Critical, "SK-3", "22:00"), assignment("upkeep", None)],
            ..group("low", 1)
        };
        let high = Group { assignments: vec![terms(Severity::Low, "SK-7", "23:00")], ..group("high", 2) };
        let joined =
            &plan(&kiosk(), &NodeOwn::default(), &[low, high], &stages()).unwrap().assignments[0].terms;
        assert_eq!(joined.severity, Some(Severity::Critical));
        assert_eq!(joined.satisfies, BTreeSet::from(["SK-3".into(), "SK-7".into()]));
        assert_eq!(joined.change_windows, [vec![hours("22:00")], vec![hours("23:00")]]);
    }

    #[test]
    fn equal_priorities_that_disagree_are_named_but_for_the_mode_which_is_observe() {
        let with = |name: &str, value: i32| Group {
            parameters: BTreeMap::from([("a/b.c".into(), json!(value))]),
            ..group(name, 5)
        };
        let error =
            plan(&kiosk(), &NodeOwn::default(), &[with("gates", 1), with("night-trial", 2)], &stages())
                .unwrap_err();
        assert_eq!(
            error.to_string(),
            "the groups `gates` and `night-trial` have the same priority and conflict in the parameter a/b.c"
        );
        let mode = |name: &str, mode| Group {
            settings: GroupSettings { mode: Some(mode), ..GroupSettings::default() },
            ..group(name, 5)
        };
        let plan = plan(
            &kiosk(),
            &NodeOwn::default(),
            &[mode("a", Mode::Enforce), mode("b", Mode::Observe)],
            &stages(),
        )
        .unwrap();
        assert_eq!(plan.settings.mode, Mode::Observe);
        assert_eq!(plan.settings.from["mode"], ["a", "b"]);
    }

    #[test]
    fn without_any_word_an_agent_observes_every_fifteen_minutes() {
        let plan = plan(&kiosk(), &NodeOwn::default(), &[everyone()], &stages()).unwrap();
        assert_eq!((plan.settings.mode, plan.settings.interval_secs), (Mode::Observe, 900));
    }
}
