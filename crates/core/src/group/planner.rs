//! Plans of many nodes: each group's filter is read once, and nodes of the same groups share what is made of their plan.

use super::{Group, Membership, NodeOwn, Plan, PlanError, plan_for};
use crate::filter::{Condition, InputCache, NodeInputs, NodeView};
use serde_json::json;
use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

/// Says what nodes are assigned, and keeps what is made of it. Reading filters needs a deep stack.
pub struct Planner<T> {
    groups: Vec<(Group, Option<Result<Condition, String>>)>,
    stages: Vec<String>,
    /// What the filters ask of a node.
    inputs: NodeInputs,
    by_what_it_says: Mutex<InputCache<Result<T, PlanError>>>,
    by_membership: Mutex<HashMap<Key, Result<T, PlanError>>>,
}

/// The groups that a node belongs to, and what it is given by itself, written as JSON.
type Key = (Vec<Member>, Option<String>);

/// Whether a node belongs to a group.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Member {
    Yes,
    No,
    Undecidable,
}

impl<T: Clone> Planner<T> {
    /// Reads the groups' filters. `stages` are in order; a node whose groups name none is in the last.
    pub fn new(groups: Vec<Group>, stages: Vec<String>) -> Self {
        let mut inputs = NodeInputs::default();
        let read = |group: Group| {
            let filter = group
                .filter
                .as_ref()
                .map(|filter| Condition::parse(filter, &[]).map_err(|errors| errors[0].message.clone()));
            (group, filter)
        };
        let groups: Vec<_> = groups.into_iter().map(read).collect();
        for condition in groups.iter().filter_map(|(_, filter)| filter.as_ref()?.as_ref().ok()) {
            inputs.add(&condition.inputs());
        }
        Self { groups, stages, inputs, by_what_it_says: Mutex::default(), by_membership: Mutex::default() }
    }

    /// Returns what is made of a node's plan: it is made once for all nodes that belong to the same groups and are given the same by
    /// themselves.
    ///
    /// # Errors
    ///
    /// Returns why the node cannot be assigned anything.
    pub fn plan(&self, view: &NodeView, own: &NodeOwn, make: impl FnOnce(Plan) -> T) -> Result<T, PlanError> {
        let is_alone =
            !own.is_empty() || self.groups.iter().any(|(group, _)| group.nodes.contains(&view.name));
        if let (false, Some(known)) = (is_alone, locked(&self.by_what_it_says).find(view)) {
            return known;
        }
        let planned = self.membership(view).and_then(|membership| self.made_for(membership, own, make));
        if !is_alone {
            locked(&self.by_what_it_says).keep(self.inputs.clone(), view, planned.clone());
        }
        planned
    }

    fn membership(&self, view: &NodeView) -> Result<Vec<Member>, PlanError> {
        self.groups.iter().map(|(group, filter)| belongs(view, group, filter.as_ref())).collect()
    }

    fn made_for(
        &self,
        membership: Vec<Member>,
        own: &NodeOwn,
        make: impl FnOnce(Plan) -> T,
    ) -> Result<T, PlanError> {
        let written = (!own.is_empty()).then(|| json!(own).to_string());
        let key = (membership, written);
        if let Some(known) = locked(&self.by_membership).get(&key) {
            return known.clone();
        }
        let membership = &key.0;
        let of = |which: Member| {
            self.groups
                .iter()
                .zip(membership)
                .filter(move |(_, member)| **member == which)
                .map(|((group, _), _)| group)
        };
        let undecidable = of(Member::Undecidable).map(|group| group.name.clone()).collect();
        let made = plan_for(of(Member::Yes).collect(), own, undecidable, &self.stages).map(make);
        // Where another thread was faster, its own is kept: what is made of one plan is one.
        locked(&self.by_membership).entry(key).or_insert(made).clone()
    }
}

fn belongs(
    view: &NodeView,
    group: &Group,
    filter: Option<&Result<Condition, String>>,
) -> Result<Member, PlanError> {
    let failed = |because: String| PlanError::Filter { group: group.name.clone(), because };
    let unread = |because: &String| failed(because.clone());
    // Whoever is named by hand belongs to it even if the filter cannot be read.
    let filter = match filter.map(|filter| filter.as_ref().map_err(unread)).transpose() {
        Err(error) if !group.has_by_name(&view.name) => return Err(error),
        read => read.ok().flatten(),
    };
    let membership = group.membership(filter, view).map_err(|error| failed(error.message))?;
    Ok(match membership {
        Membership::Named | Membership::Filtered => Member::Yes,
        Membership::No => Member::No,
        Membership::Undecidable(_) => Member::Undecidable,
    })
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::filter::About;
    use std::collections::BTreeSet;
    use std::sync::atomic::{AtomicUsize, Ordering};

    #[test]
    fn nodes_of_the_same_groups_share_one_plan_whatever_they_say_otherwise() {
        let group = |name: &str, filter: Option<&str>| Group {
            name: name.into(),
            filter: filter.map(str::to_owned),
            ..Group::default()
        };
        let trial = Group {
            nodes: BTreeSet::from(["kiosk-auken-2".into()]),
            ..group("night-trial", Some("labels.ship == 'tern'"))
        };
        let big = group("big", Some("about.cpu.count > 8"));
        let made = AtomicUsize::new(0);
        for groups in [
            vec![trial.clone(), big.clone()],
            vec![trial, big, group("gates", Some("node.name.startsWith('gate-')"))],
        ] {
            let planner = Planner::new(groups, vec!["open-water".into()]);
            made.store(0, Ordering::Relaxed);
            let groups_of = |name: &str, ship: &str, site: &str, cpus: Option<u64>| {
                let labels =
                    [("ship", ship), ("site", site)].map(|(key, value)| (key.to_owned(), value.to_owned()));
                let about = About::new(cpus.map(|cpus| ("cpu.count".to_owned(), json!(cpus))));
                let view = NodeView { name: name.into(), labels: labels.into(), about };
                let make = |plan: Plan| {
                    made.fetch_add(1, Ordering::Relaxed);
                    [plan.groups, plan.undecidable].map(|names| names.join(" ")).join("/")
                };
                planner.plan(&view, &NodeOwn::default(), make).unwrap()
            };
            assert_eq!(groups_of("kiosk-auken-1", "", "auken", Some(2)), "/");
            assert_eq!(
                groups_of("kiosk-auken-2", "", "auken", Some(2)),
                "night-trial/",
                "pinned by its name"
            );
            assert_eq!(groups_of("kiosk-auken-3", "tern", "auken", Some(2)), "night-trial/");
            assert_eq!(groups_of("kiosk-brisk-1", "", "brisk", Some(2)), "/");
            assert_eq!(groups_of("kiosk-brisk-2", "", "brisk", None), "/big");
            assert_eq!(groups_of("kiosk-brisk-3", "gannet", "brisk", Some(4)), "/");
            assert_eq!(made.load(Ordering::Relaxed), 3, "one for each set of groups");
        }
    }
}
