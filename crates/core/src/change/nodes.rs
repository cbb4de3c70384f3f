//! Edits of what a person says of nodes: labels, names, what one is given by itself, retirement.

use super::{DocumentEdit, DocumentKey, GroupEdit, GroupEditError};
use crate::address::ClauseAddress;
use crate::group::{MAX_OWN_PROPERTIES, MAX_OWN_PROPERTY_BYTES, NodeOwn};
use crate::state::{OwnProperties, OwnValue};
use crate::words::check_label;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

/// What a person says of a node; the document `node:ID`. A retired node has none.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeDocument {
    /// Its name.
    pub name: String,
    /// Its labels.
    pub labels: BTreeMap<String, String>,
    /// What it is given by itself.
    #[serde(default, skip_serializing_if = "NodeOwn::is_empty")]
    pub own: NodeOwn,
}

/// What is done to nodes.
#[derive(Debug, Clone, PartialEq)]
pub enum NodeEdit {
    /// Labels are set and removed.
    Label {
        /// Labels to be set, with their values.
        set: BTreeMap<String, String>,
        /// Keys of labels to be removed.
        remove: BTreeSet<String>,
    },
    /// A node gets another name; groups that name it follow.
    Rename {
        /// Its next name.
        to: String,
    },
    /// Nodes are given this by themselves, and nothing else.
    Give(Box<NodeOwn>),
    /// Nodes are retired; groups no longer name them.
    Retire,
}

/// Why nodes cannot be edited so.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NodeEditError {
    /// A label is none.
    #[error("{0}")]
    Label(String),
    /// A label is set and removed at once.
    #[error("the label {0} is both set and removed")]
    Both(String),
    /// None of the nodes would be altered.
    #[error("{0}")]
    Same(String),
}

/// Returns the edits of documents by which nodes, given by id, are edited. Of nodes that have the labels already nothing is edited.
///
/// # Errors
///
/// Returns why they cannot be.
pub fn edit_nodes(
    documents: &BTreeMap<DocumentKey, Value>,
    nodes: &BTreeMap<String, NodeDocument>,
    edit: &NodeEdit,
) -> Result<Vec<DocumentEdit>, NodeEditError> {
    let next = |node: &NodeDocument| match edit {
        NodeEdit::Label { set, remove } => {
            let mut labels = node.labels.clone();
            labels.retain(|key, _| !remove.contains(key));
            labels.extend(set.clone());
            Some(NodeDocument { labels, ..node.clone() })
        }
        NodeEdit::Rename { to } => Some(NodeDocument { name: to.clone(), ..node.clone() }),
        NodeEdit::Give(own) => Some(NodeDocument { own: (**own).clone(), ..node.clone() }),
        NodeEdit::Retire => None,
    };
    if let NodeEdit::Label { set, remove } = edit {
        let removed = remove.iter().map(|key| (key.as_str(), ""));
        let mut all = set.iter().map(|(key, value)| (key.as_str(), value.as_str())).chain(removed);
        all.try_for_each(|(key, value)| check_label(key, value)).map_err(NodeEditError::Label)?;
        if let Some(both) = remove.iter().find(|key| set.contains_key(*key)) {
            return Err(NodeEditError::Both(both.clone()));
        }
    }
    let mut edits: Vec<DocumentEdit> = Vec::new();
    for (id, node) in nodes {
        let after = next(node);
        if after.as_ref() != Some(node) {
            edits.push(DocumentEdit {
                key: DocumentKey::Node(id.clone()),
                before: Some(json!(node)),
                after: after.map(|after| json!(after)),
            });
        }
    }
    if edits.is_empty() {
        let same = match edit {
            NodeEdit::Rename { to } => format!("the node is called {to} already"),
            NodeEdit::Give(_) => "the node is given the same already".to_owned(),
            _ if nodes.len() == 1 => "the node has these labels already".to_owned(),
            _ => "all these nodes have these labels already".to_owned(),
        };
        return Err(NodeEditError::Same(same));
    }
    let names: BTreeSet<&str> = nodes.values().map(|node| node.name.as_str()).collect();
    let to = match edit {
        NodeEdit::Label { .. } | NodeEdit::Give(_) => return Ok(edits),
        NodeEdit::Rename { to } => Some(to),
        NodeEdit::Retire => None,
    };
    edits.extend(documents.iter().filter_map(|(key, body)| follow(key, body, &names, to)));
    Ok(edits)
}

/// Returns what a node is given by itself after edits, made as those of a group. What only groups have is refused.
///
/// # Errors
///
/// Returns why an edit cannot be made.
pub fn edit_own(own: &NodeOwn, edits: &[GroupEdit]) -> Result<NodeOwn, GroupEditError> {
    let is_for_nodes = |edit: &GroupEdit| {
        matches!(
            edit,
            GroupEdit::Assign { .. }
                | GroupEdit::Unassign { .. }
                | GroupEdit::Parameter { .. }
                | GroupEdit::Setting { .. }
                | GroupEdit::Property { .. }
        )
    };
    if !edits.iter().all(is_for_nodes) {
        return Err(GroupEditError::OnlyOfGroups);
    }
    let (of_properties, as_of_groups): (Vec<&GroupEdit>, Vec<&GroupEdit>) =
        edits.iter().partition(|edit| matches!(edit, GroupEdit::Property { .. }));
    let as_of_groups: Vec<GroupEdit> = as_of_groups.into_iter().cloned().collect();
    let mut own = own.clone().with(own.group().edited(&as_of_groups)?);
    for edit in of_properties {
        let GroupEdit::Property { clause, property, value, until } = edit else { continue };
        set_property(&mut own.properties, clause, property, value.as_ref(), *until)?;
    }
    if own.property_count() > MAX_OWN_PROPERTIES
        || json!(own.properties).to_string().len() > MAX_OWN_PROPERTY_BYTES
    {
        return Err(GroupEditError::TooManyOwnValues);
    }
    Ok(own)
}

fn set_property(
    properties: &mut OwnProperties,
    clause: &ClauseAddress,
    property: &str,
    value: Option<&Value>,
    until: Option<Timestamp>,
) -> Result<(), GroupEditError> {
    if let Some(value) = value {
        let own = OwnValue { value: value.clone(), until };
        properties.entry(clause.clone()).or_default().insert(property.to_owned(), own);
        return Ok(());
    }
    let taken = properties.get_mut(clause).and_then(|values| values.remove(property));
    properties.retain(|_, values| !values.is_empty());
    taken.map(drop).ok_or_else(|| GroupEditError::NoOwnValue {
        clause: clause.clone(),
        property: property.to_owned(),
        given: properties
            .iter()
            .flat_map(|(clause, values)| values.keys().map(move |property| format!("{clause} {property}")))
            .collect(),
    })
}

/// Returns the edit by which a group that names nodes names what they are called next, or no longer names them.
fn follow(
    key: &DocumentKey,
    body: &Value,
    names: &BTreeSet<&str>,
    to: Option<&String>,
) -> Option<DocumentEdit> {
    let DocumentKey::Group(_) = key else { return None };
    let named: BTreeSet<&str> = body["nodes"].as_array()?.iter().filter_map(Value::as_str).collect();
    if named.is_disjoint(names) {
        return None;
    }
    let kept: BTreeSet<&str> = named.difference(names).copied().chain(to.map(String::as_str)).collect();
    let mut after = body.clone();
    after["nodes"] = json!(kept);
    Some(DocumentEdit { key: key.clone(), before: Some(body.clone()), after: Some(after) })
}

/// Returns the only nodes that edits can alter, if those edit nothing else than nodes.
pub fn only_nodes(edits: &[DocumentEdit]) -> Option<Vec<&str>> {
    let node = |edit: &'_ DocumentEdit| matches!(edit.key, DocumentKey::Node(_));
    (!edits.is_empty() && edits.iter().all(node))
        .then(|| edits.iter().filter_map(|edit| edit.key.node()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::group::Group;

    const KIOSK: &str = "01977e2c-0000-7000-8000-000000000001";
    const GATE: &str = "01977e2c-0000-7000-8000-000000000002";

    fn nodes() -> BTreeMap<String, NodeDocument> {
        let node = |name: &str, role: &str| NodeDocument {
            name: name.into(),
            labels: BTreeMap::from([("role".into(), role.into())]),
            own: NodeOwn::default(),
        };
        BTreeMap::from([
            (KIOSK.into(), node("kiosk-auken-1", "kiosk")),
            (GATE.into(), node("gate-auken-1", "gate")),
        ])
    }

    fn label(set: &[(&str, &str)], remove: &[&str]) -> NodeEdit {
        let set = set.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect();
        NodeEdit::Label { set, remove: remove.iter().map(|key| (*key).to_owned()).collect() }
    }

    fn groups() -> BTreeMap<DocumentKey, Value> {
        let group = |name: &str, nodes: Value| {
            (DocumentKey::Group(name.into()), json!({ "name": name, "nodes": nodes }))
        };
        BTreeMap::from([
            group("night-trial", json!(["kiosk-auken-1", "till-auken-1"])),
            group("gates", json!([])),
            group("all", Value::Null),
        ])
    }

    #[test]
    fn labels_are_set_and_removed_and_nodes_that_have_them_are_left_alone() {
        let edits = edit_nodes(&groups(), &nodes(), &label(&[("role", "kiosk")], &["site"])).unwrap();
        assert_eq!(edits.len(), 1, "the kiosk has it already");
        assert_eq!(edits[0].key.to_string(), format!("node:{GATE}"));
        assert_eq!(edits[0].title(), "node gate-auken-1");
        assert_eq!(edits[0].after, Some(json!({ "name": "gate-auken-1", "labels": { "role": "kiosk" } })));
        assert_eq!(only_nodes(&edits), Some(vec![GATE]));
        let removed = edit_nodes(&groups(), &nodes(), &label(&[], &["role"])).unwrap();
        assert!(
            removed.iter().all(|edit| edit.after.as_ref().unwrap()["labels"] == json!({}))
                && removed.len() == 2
        );
    }

    #[test]
    fn what_alters_nothing_or_is_no_label_is_refused() {
        let error = |edit: &NodeEdit| edit_nodes(&groups(), &nodes(), edit).unwrap_err().to_string();
        assert_eq!(error(&label(&[], &["site"])), "all these nodes have these labels already");
        assert_eq!(error(&label(&[("site", "auken")], &["site"])), "the label site is both set and removed");
        assert!(error(&label(&[("si te", "auken")], &[])).contains("is no key of a label"));
        assert!(error(&label(&[], &["si\nte"])).contains("is no key of a label"));
    }

    #[test]
    fn a_node_is_given_by_itself_what_groups_give_and_nothing_that_only_groups_have() {
        let assign = GroupEdit::Assign {
            kit: "kiosk-floor".into(),
            baseline: "kiosk-lockdown".into(),
            terms: crate::change::TermsEdit::default(),
            place: None,
        };
        let mode = |value: Value| GroupEdit::Setting { word: "mode".into(), value: Some(value), until: None };
        let own = edit_own(&NodeOwn::default(), &[assign.clone(), mode(json!("observe"))]).unwrap();
        assert_eq!(
            json!(own),
            json!({ "assignments": [{ "kit": "kiosk-floor", "baseline": "kiosk-lockdown" }], "settings": { "mode": "observe" } })
        );
        let kiosk: BTreeMap<_, _> = nodes().into_iter().filter(|(id, _)| id == KIOSK).collect();
        let edits = edit_nodes(&groups(), &kiosk, &NodeEdit::Give(Box::new(own.clone()))).unwrap();
        assert_eq!((edits.len(), &edits[0].after.as_ref().unwrap()["own"]), (1, &json!(own)));
        assert!(
            edits[0].before.as_ref().unwrap().get("own").is_none(),
            "nothing is written of what is not given"
        );
        let given =
            kiosk.into_iter().map(|(id, node)| (id, NodeDocument { own: own.clone(), ..node })).collect();
        let same = edit_nodes(&groups(), &given, &NodeEdit::Give(Box::new(own.clone()))).unwrap_err();
        assert_eq!(same.to_string(), "the node is given the same already");
        let gone = GroupEdit::Unassign { kit: "kiosk-floor".into(), baseline: "kiosk-lockdown".into() };
        assert_eq!(edit_own(&own, &[gone]).unwrap().assignments, []);
        let wrong = edit_own(&own, &[GroupEdit::Priority { priority: 3 }]).unwrap_err().to_string();
        assert!(wrong.contains("only groups have"), "{wrong}");
        let wrong = edit_own(&own, &[mode(json!("enforced"))]).unwrap_err().to_string();
        assert!(wrong.contains("the setting mode cannot be \"enforced\""), "{wrong}");
    }

    #[test]
    fn values_of_a_nodes_own_are_set_and_taken_away_and_bounded_in_number_and_size() {
        let property = |property: &str, value: Option<Value>| GroupEdit::Property {
            clause: ClauseAddress::parse("file:/etc/issue").unwrap(),
            property: property.to_owned(),
            value,
            until: None,
        };
        let own = edit_own(&NodeOwn::default(), &[property("owner", Some(json!("ops")))]).unwrap();
        assert_eq!(
            json!(own),
            json!({ "properties": { "file:/etc/issue": { "owner": { "value": "ops" } } } })
        );
        assert!(edit_own(&own, &[property("owner", None)]).unwrap().is_empty(), "nothing of it is left");
        let wrong = edit_own(&own, &[property("group", None)]).unwrap_err().to_string();
        assert_eq!(
            wrong,
            "the node has no value of its own of group of file:/etc/issue; it has file:/etc/issue owner"
        );
        let many: Vec<_> =
            (0..=MAX_OWN_PROPERTIES).map(|at| property(&format!("p{at}"), Some(json!(at)))).collect();
        assert_eq!(edit_own(&own, &many).unwrap_err(), GroupEditError::TooManyOwnValues);
        let large = property("text", Some(json!("x".repeat(MAX_OWN_PROPERTY_BYTES))));
        assert_eq!(edit_own(&own, &[large]).unwrap_err(), GroupEditError::TooManyOwnValues);
        let of_group = Group::default().edited(&[property("owner", None)]).unwrap_err();
        assert_eq!(of_group, GroupEditError::OnlyOfNodes);
    }

    #[test]
    fn groups_that_name_a_node_follow_its_renaming_and_its_retirement() {
        let kiosk: BTreeMap<_, _> = nodes().into_iter().filter(|(id, _)| id == KIOSK).collect();
        let edits = edit_nodes(&groups(), &kiosk, &NodeEdit::Rename { to: "kiosk-auken-9".into() }).unwrap();
        assert_eq!(
            edits.iter().map(DocumentEdit::title).collect::<Vec<_>>(),
            ["node kiosk-auken-1", "group night-trial"]
        );
        assert_eq!(edits[1].after.as_ref().unwrap()["nodes"], json!(["kiosk-auken-9", "till-auken-1"]));
        assert_eq!(only_nodes(&edits), None, "the group may have other nodes");
        let edits = edit_nodes(&groups(), &kiosk, &NodeEdit::Retire).unwrap();
        assert_eq!(
            (&edits[0].after, &edits[1].after.as_ref().unwrap()["nodes"]),
            (&None, &json!(["till-auken-1"]))
        );
        let same = NodeEdit::Rename { to: "kiosk-auken-1".into() };
        assert_eq!(
            edit_nodes(&groups(), &kiosk, &same).unwrap_err().to_string(),
            "the node is called kiosk-auken-1 already"
        );
    }
}
