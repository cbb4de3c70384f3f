//! What one node is given by itself, over what its groups give it.

use super::{Assignment, Group, SettingEnd};
use crate::settings::{GroupSettings, NODE_ITSELF};
use crate::state::{OwnProperties, OwnValue};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// This many properties of one node have values of its own at most.
pub const MAX_OWN_PROPERTIES: usize = 100;
/// They have this many bytes together at most, as JSON: each resolving of the node reads them.
pub const MAX_OWN_PROPERTY_BYTES: usize = 256 * 1024;

/// What one node is given by itself: baselines after those of its groups, parameters and settings over those of its groups.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NodeOwn {
    /// The baselines that it is assigned, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub assignments: Vec<Assignment>,
    /// Parameters' values, by `KIT/BASELINE.PARAM`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub parameters: BTreeMap<String, Value>,
    /// Settings of its agent, as far as it names any.
    #[serde(default, skip_serializing_if = "GroupSettings::is_empty")]
    pub settings: GroupSettings,
    /// Until when it has some of them, by their words; it has the others without end.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub settings_until: BTreeMap<String, SettingEnd>,
    /// Values of single properties, by the address of their clause.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = BTreeMap<String, BTreeMap<String, OwnValue>>))]
    pub properties: OwnProperties,
}

impl NodeOwn {
    /// Returns whether it gives nothing.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Returns it as a group over all others that has this node only; none if it gives nothing.
    pub fn as_group(&self) -> Option<Group> {
        (!self.is_empty()).then(|| self.group())
    }

    /// Returns it as a group over all others that has this node only; what no group has is not in it.
    pub fn group(&self) -> Group {
        Group {
            name: NODE_ITSELF.to_owned(),
            priority: i32::MAX,
            assignments: self.assignments.clone(),
            parameters: self.parameters.clone(),
            settings: self.settings.clone(),
            settings_until: self.settings_until.clone(),
            ..Group::default()
        }
    }

    /// Returns what it gives with the baselines, parameters and settings of a group instead.
    #[must_use]
    pub fn with(self, group: Group) -> Self {
        let Group { assignments, parameters, settings, settings_until, .. } = group;
        Self { assignments, parameters, settings, settings_until, ..self }
    }

    /// Returns the number of properties that have values of the node's own.
    pub fn property_count(&self) -> usize {
        self.properties.values().map(BTreeMap::len).sum()
    }

    /// Returns what is given from a time on: without the values and settings that end by then. None if none does.
    pub fn ended(&self, now: Timestamp) -> Option<Self> {
        let without_settings = self.group().ended(now).map(|group| self.clone().with(group));
        let mut own = without_settings.unwrap_or_else(|| self.clone());
        for values in own.properties.values_mut() {
            values.retain(|_, own| own.until.is_none_or(|until| until > now));
        }
        own.properties.retain(|_, values| !values.is_empty());
        (own != *self).then_some(own)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::filter::NodeView;
    use crate::group::{AssignedBy, EVERYONE, PlanError, plan};
    use crate::param::Layer;
    use crate::run::Mode;
    use serde_json::json;

    #[test]
    fn what_a_node_is_given_by_itself_is_over_all_its_groups_and_says_so() {
        let read = |value: Value| serde_json::from_value::<Group>(value).unwrap();
        let groups = [
            read(json!({ "name": EVERYONE, "settings": { "mode": "enforce", "interval_secs": 600 },
                "assignments": [{ "kit": "quay-base", "baseline": "login" }], "parameters": { "quay-base/login.banner": "all" } })),
            read(json!({ "name": "kiosks", "priority": 1_000_000, "filter": "labels.role == 'kiosk'",
                "settings": { "interval_secs": 900 }, "parameters": { "quay-base/login.banner": "kiosks" } })),
        ];
        let own: NodeOwn = serde_json::from_value(json!({
            "assignments": [{ "kit": "kiosk-floor", "baseline": "kiosk-lockdown", "on_drift": "report" }],
            "parameters": { "quay-base/login.banner": "mine" }, "settings": { "mode": "observe" },
        }))
        .unwrap();
        let view = NodeView {
            name: "kiosk-auken-1".into(),
            labels: BTreeMap::from([("role".into(), "kiosk".into())]),
            ..NodeView::default()
        };
        let stages = ["open-water".to_owned()];
        let planned = plan(&view, &own, &groups, &stages).unwrap();
        assert_eq!(planned.groups, ["everyone", "kiosks"], "it is no group");
        let by = |group: &str, kit: &str, baseline: &str| AssignedBy {
            group: group.into(),
            kit: kit.into(),
            baseline: baseline.into(),
        };
        assert_eq!(
            planned.assigned_by,
            [by(EVERYONE, "quay-base", "login"), by(NODE_ITSELF, "kiosk-floor", "kiosk-lockdown")]
        );
        let banner = &planned.given["quay-base/login.banner"];
        assert_eq!(
            banner.iter().map(|layer| (layer.layer.clone(), layer.value.clone())).collect::<Vec<_>>(),
            [
                (Layer::Group(EVERYONE.into()), json!("all")),
                (Layer::Group("kiosks".into()), json!("kiosks")),
                (Layer::Node, json!("mine"))
            ]
        );
        assert_eq!((planned.settings.mode, planned.settings.interval_secs), (Mode::Observe, 900));
        assert_eq!(planned.settings.from["mode"], [NODE_ITSELF]);
        assert_eq!(planned.settings.from["interval_secs"], ["kiosks"]);
        let without = plan(&view, &NodeOwn::default(), &groups, &stages).unwrap();
        assert_eq!((without.settings.mode, without.assignments.len()), (Mode::Enforce, 1));
    }

    #[test]
    fn groups_that_disagree_do_not_where_the_node_itself_decides_the_mode_only() {
        let group = |name: &str, value: i32| Group {
            name: name.into(),
            priority: 5,
            filter: Some("true".into()),
            parameters: BTreeMap::from([("a/b.c".into(), json!(value))]),
            ..Group::default()
        };
        let own = NodeOwn { parameters: BTreeMap::from([("a/b.c".into(), json!(3))]), ..NodeOwn::default() };
        let groups = [group("gates", 1), group("night-trial", 2)];
        let error = plan(&NodeView::default(), &own, &groups, &["open-water".to_owned()]).unwrap_err();
        assert!(matches!(error, PlanError::Disagree { .. }), "what is below is a conflict still: {error}");
    }

    #[test]
    fn what_a_node_has_for_a_time_ends_each_by_its_own_hour() {
        let own: NodeOwn = serde_json::from_value(json!({
            "settings": { "mode": "observe", "interval_secs": 600 },
            "settings_until": { "mode": { "until": "2026-11-23T08:00:00Z" } },
            "properties": { "file:/etc/issue": { "permissions": { "value": "0640", "until": "2026-11-23T09:00:00Z" } } },
        }))
        .unwrap();
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        assert_eq!(own.ended(at("2026-11-23T07:59:59Z")), None);
        let first = own.ended(at("2026-11-23T08:00:00Z")).unwrap();
        assert_eq!(json!(first)["settings"], json!({ "interval_secs": 600 }));
        assert_eq!(first.property_count(), 1);
        assert_eq!(first.ended(at("2026-11-23T09:00:00Z")).unwrap().property_count(), 0);
    }
}
