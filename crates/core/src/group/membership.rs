//! Whether a node belongs to a group.

use super::{EVERYONE, Group};
use crate::filter::InputCache;
use crate::filter::{Answer, Condition, ConditionError, NodeView};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::collections::BTreeSet;

/// This many names are told at most where nodes of a group are listed.
pub const MAX_GROUP_NAMES: usize = 200;

/// Whether a node belongs to a group, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Membership {
    /// It is named by hand, or the group has all nodes.
    Named,
    /// The filter selects it.
    Filtered,
    /// It does not belong to it.
    No,
    /// It cannot be told: the node did not report these fields.
    Undecidable(Vec<String>),
}

impl Group {
    /// Returns whether it has a node whatever its filter says.
    pub(super) fn has_by_name(&self, node: &str) -> bool {
        self.name == EVERYONE || self.nodes.contains(node)
    }

    /// Returns whether a node belongs to the group, whose filter was read before.
    ///
    /// # Errors
    ///
    /// Returns why the filter cannot be evaluated although the node reported all that it asks for.
    pub fn membership(
        &self,
        filter: Option<&Condition>,
        view: &NodeView,
    ) -> Result<Membership, ConditionError> {
        if self.has_by_name(&view.name) {
            return Ok(Membership::Named);
        }
        let Some(filter) = filter else { return Ok(Membership::No) };
        Ok(match filter.holds(view, &json!({}))? {
            Answer::Yes => Membership::Filtered,
            Answer::No => Membership::No,
            Answer::Undecidable(missing) => Membership::Undecidable(missing),
        })
    }
}

/// A node of which it cannot be told whether a filter selects it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UndecidableNode {
    /// Its name.
    pub name: String,
    /// The fields that it did not report.
    pub missing: Vec<String>,
}

/// The nodes that a filter and named members select. Of each kind at most 200 are named, in the order of their names.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GroupMembers {
    /// How many there are.
    pub nodes: u64,
    /// Their names.
    pub names: Vec<String>,
    /// Named members that the filter does not select.
    pub only_named: Vec<String>,
    /// Named members that are no nodes.
    pub no_nodes: Vec<String>,
    /// How many nodes cannot be told.
    pub undecidable: u64,
    /// Which, each with the fields that it did not report.
    pub undecidable_nodes: Vec<UndecidableNode>,
    /// How many nodes the group does not have now.
    pub coming: u64,
    /// Which.
    pub coming_names: Vec<String>,
    /// How many nodes the group has now and would not.
    pub going: u64,
    /// Which.
    pub going_names: Vec<String>,
}

/// Counts the nodes that a filter and named members select, node by node.
#[derive(Debug)]
pub struct MemberCount {
    group: Group,
    filter: Option<Condition>,
    /// The nodes that the group has now.
    has_now: BTreeSet<String>,
    known: InputCache<Membership>,
    /// Named members that were not met yet.
    not_met: BTreeSet<String>,
    members: GroupMembers,
}

impl MemberCount {
    /// Begins to count the nodes of a group, of which it has some now.
    ///
    /// # Errors
    ///
    /// Returns everything that is wrong with its filter.
    pub fn new(group: Group, has_now: BTreeSet<String>) -> Result<Self, Vec<ConditionError>> {
        let filter = group.filter.as_deref().map(Condition::parse_for_group).transpose()?;
        let not_met = group.nodes.clone();
        Ok(Self {
            group,
            filter,
            has_now,
            known: InputCache::default(),
            not_met,
            members: GroupMembers::default(),
        })
    }

    /// Counts a node.
    ///
    /// # Errors
    ///
    /// Returns why the filter cannot be evaluated although the node reported all that it asks for.
    pub fn add(&mut self, view: &NodeView) -> Result<(), ConditionError> {
        let by_filter = match (&self.filter, self.known.find(view)) {
            (None, _) => Membership::No,
            (Some(_), Some(known)) => known,
            (Some(filter), None) => {
                let others = Group { filter: self.group.filter.clone(), ..Group::default() };
                let membership = others.membership(Some(filter), view)?;
                self.known.keep(filter.inputs(), view, membership.clone());
                membership
            }
        };
        let is_named = self.group.has_by_name(&view.name);
        self.not_met.remove(&view.name);
        let found = &mut self.members;
        let is_member = is_named || by_filter == Membership::Filtered;
        if is_member {
            note(&mut found.nodes, &mut found.names, view.name.clone());
        }
        if self.group.nodes.contains(&view.name)
            && by_filter != Membership::Filtered
            && found.only_named.len() < MAX_GROUP_NAMES
        {
            found.only_named.push(view.name.clone());
        }
        if let (false, Membership::Undecidable(missing)) = (is_named, by_filter) {
            let node = UndecidableNode { name: view.name.clone(), missing };
            note(&mut found.undecidable, &mut found.undecidable_nodes, node);
        }
        match (self.has_now.contains(&view.name), is_member) {
            (false, true) => note(&mut found.coming, &mut found.coming_names, view.name.clone()),
            (true, false) => note(&mut found.going, &mut found.going_names, view.name.clone()),
            _ => {}
        }
        Ok(())
    }

    /// Returns what was counted.
    pub fn done(mut self) -> GroupMembers {
        self.members.no_nodes = self.not_met.into_iter().take(MAX_GROUP_NAMES).collect();
        self.members
    }
}

/// Nodes come in the order of their names.
fn note<T>(count: &mut u64, names: &mut Vec<T>, name: T) {
    *count += 1;
    if names.len() < MAX_GROUP_NAMES {
        names.push(name);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::filter::About;
    use serde_json::json;

    fn node(name: &str, role: &str, cpus: Option<u64>) -> NodeView {
        NodeView {
            name: name.into(),
            labels: [("role".to_owned(), role.to_owned())].into(),
            about: About::new(cpus.map(|cpus| ("cpu.count".to_owned(), json!(cpus)))),
        }
    }

    fn counted(filter: Option<&str>, named: &[&str], has_now: &[&str]) -> GroupMembers {
        let texts = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<BTreeSet<_>>();
        let group = Group {
            name: "kiosks".into(),
            filter: filter.map(str::to_owned),
            nodes: texts(named),
            ..Group::default()
        };
        let mut count = MemberCount::new(group, texts(has_now)).unwrap();
        for node in [
            node("gate-auken-1", "gate", Some(2)),
            node("kiosk-auken-1", "kiosk", Some(4)),
            node("kiosk-auken-2", "kiosk", None),
            node("kiosk-lab-1", "lab", Some(8)),
        ] {
            count.add(&node).unwrap();
        }
        count.done()
    }

    #[test]
    fn nodes_are_counted_by_filter_and_by_name_and_it_is_said_who_comes_and_goes() {
        let members = counted(
            Some("labels.role == 'kiosk'"),
            &["kiosk-lab-1", "kiosk-lab-9"],
            &["gate-auken-1", "kiosk-auken-1"],
        );
        assert_eq!(members.names, ["kiosk-auken-1", "kiosk-auken-2", "kiosk-lab-1"]);
        assert_eq!((members.nodes, members.undecidable), (3, 0));
        assert_eq!(
            (&members.only_named[..], &members.no_nodes[..]),
            (&["kiosk-lab-1".to_owned()][..], &["kiosk-lab-9".to_owned()][..])
        );
        assert_eq!(members.coming_names, ["kiosk-auken-2", "kiosk-lab-1"]);
        assert_eq!(members.going_names, ["gate-auken-1"]);
    }

    #[test]
    fn a_node_that_did_not_report_a_field_is_named_with_it_unless_it_is_a_member_by_name() {
        let filter = Some("about.cpu.count > 3");
        let members = counted(filter, &[], &[]);
        assert_eq!(members.names, ["kiosk-auken-1", "kiosk-lab-1"]);
        let [node] = &members.undecidable_nodes[..] else { panic!("{members:?}") };
        assert_eq!(
            (node.name.as_str(), &node.missing[..]),
            ("kiosk-auken-2", &["about.cpu.count".to_owned()][..])
        );
        let members = counted(filter, &["kiosk-auken-2"], &[]);
        assert_eq!((members.nodes, members.undecidable), (3, 0));
    }

    #[test]
    fn a_group_without_a_filter_has_named_members_only() {
        assert_eq!(counted(None, &["gate-auken-1"], &[]).names, ["gate-auken-1"]);
    }
}
