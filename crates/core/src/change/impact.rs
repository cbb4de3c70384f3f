//! The impact of a change, clause by clause, from the states that nodes have and those that they are to have.

use super::timing::{AppliedWhen, RestartingNode};
use serde::{Deserialize, Serialize};
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// This many nodes are named as examples.
const EXAMPLES: usize = 3;
/// This many clauses, and restarts, are listed.
const LISTED: usize = 200;

/// A clause as part of a state.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClauseInState {
    /// Stands for all of the clause but its origins: where this is equal, nothing changes for a node.
    pub body: Arc<str>,
    /// Its address.
    pub address: Arc<str>,
    /// The addresses on whose correction it restarts.
    pub restarts_on: Vec<Arc<str>>,
}

/// The impact of a change.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Impact {
    /// How many nodes are given another state or other settings.
    pub nodes: u64,
    /// How many of them get other settings of their agent.
    pub settings: u64,
    /// How many clauses are taken from nodes, counted per node: their next states do not have them.
    pub takes: u64,
    /// From how many nodes clauses are taken.
    pub takes_from: u64,
    /// The clauses that are affected, those that are taken from most nodes first.
    pub clauses: Vec<ClauseImpact>,
    /// How many more clauses are affected than are listed.
    pub clauses_left_out: u64,
    /// The services that restart when the change is applied.
    pub restarts: Vec<Restart>,
    /// When nodes that are given another state apply it, and services restart with that.
    #[serde(default)]
    pub applied: Vec<AppliedWhen>,
    /// Nodes with a pending restart that the change lets restart, at most 200.
    #[serde(default)]
    pub restarting: Vec<RestartingNode>,
    /// The nodes whose next state cannot be resolved, although the present one could, with the reason.
    pub unusable: Vec<(String, String)>,
    /// The baselines that are assigned to affected nodes and not served in their stage, as `KIT/BASELINE`.
    #[serde(default)]
    pub not_served: Vec<String>,
}

/// The impact on one clause.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClauseImpact {
    /// Its address.
    pub address: String,
    /// To how many nodes it is new.
    pub new: u64,
    /// On how many nodes it changes.
    pub changed: u64,
    /// From how many nodes it is taken.
    pub taken: u64,
    /// Some of these nodes.
    pub examples: Vec<String>,
}

/// A service that restarts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Restart {
    /// Its clause.
    pub address: String,
    /// On how many nodes.
    pub nodes: u64,
}

/// Counts the impact.
#[derive(Default)]
pub struct ImpactBuilder {
    impact: Impact,
    clauses: BTreeMap<Arc<str>, ClauseImpact>,
    restarts: BTreeMap<Arc<str>, u64>,
}

impl ImpactBuilder {
    /// Adds nodes that all have one state and are to have another; some of them are named. `before` and `after` need hold no clause
    /// that both states have, and `kept` those that both have and that may restart.
    pub fn add(
        &mut self,
        before: &[ClauseInState],
        after: &[ClauseInState],
        kept: &[ClauseInState],
        nodes: u64,
        names: &[String],
    ) {
        let by_address = |clauses: &[ClauseInState]| {
            clauses
                .iter()
                .map(|clause| (clause.address.clone(), clause.body.clone()))
                .collect::<BTreeMap<_, _>>()
        };
        let (had, has) = (by_address(before), by_address(after));
        let mut corrected = BTreeSet::new();
        for (address, body) in &has {
            match had.get(address) {
                Some(known) if known == body => continue,
                Some(_) => self.clause(address, names).changed += nodes,
                None => self.clause(address, names).new += nodes,
            }
            corrected.insert(address.clone());
        }
        let taken: Vec<_> = had.keys().filter(|address| !has.contains_key(*address)).collect();
        for address in &taken {
            self.clause(address, names).taken += nodes;
        }
        self.impact.takes += nodes * taken.len() as u64;
        self.impact.takes_from += if taken.is_empty() { 0 } else { nodes };
        for clause in after
            .iter()
            .chain(kept)
            .filter(|clause| clause.restarts_on.iter().any(|on| corrected.contains(on)))
        {
            *self.restarts.entry(clause.address.clone()).or_insert(0) += nodes;
        }
    }

    fn clause(&mut self, address: &Arc<str>, names: &[String]) -> &mut ClauseImpact {
        let clause = self.clauses.entry(address.clone()).or_default();
        let free = EXAMPLES.saturating_sub(clause.examples.len());
        clause.examples.extend(names.iter().take(free).cloned());
        clause
    }

    /// Returns what was counted, with the number of nodes that are affected and of those that get other settings.
    pub fn done(self, nodes: u64, settings: u64) -> Impact {
        let mut clauses: Vec<ClauseImpact> = self
            .clauses
            .into_iter()
            .map(|(address, clause)| ClauseImpact { address: address.to_string(), ..clause })
            .collect();
        clauses.sort_by_key(|clause| Reverse((clause.taken, clause.changed, clause.new)));
        let clauses_left_out = clauses.len().saturating_sub(LISTED) as u64;
        clauses.truncate(LISTED);
        let restarts =
            self.restarts.into_iter().map(|(address, nodes)| Restart { address: address.to_string(), nodes });
        Impact {
            nodes,
            settings,
            clauses,
            clauses_left_out,
            restarts: restarts.take(LISTED).collect(),
            ..self.impact
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn clause(id: u32, address: &str, restarts_on: &[&str]) -> ClauseInState {
        ClauseInState {
            body: id.to_string().into(),
            address: address.into(),
            restarts_on: restarts_on.iter().map(|&on| on.into()).collect(),
        }
    }

    #[test]
    fn what_is_new_changed_and_taken_is_counted_per_node_and_services_restart_for_it() {
        let issue = clause(1, "file:/etc/issue", &[]);
        let shell = |id| clause(id, "file:/etc/kiosk/shell.conf", &[]);
        let service = clause(4, "service:kiosk-shell", &["file:/etc/kiosk/shell.conf"]);
        let motd = clause(5, "file:/etc/motd", &[]);
        let mut builder = ImpactBuilder::default();
        let names = |names: &[&str]| names.iter().map(|&name| name.to_owned()).collect::<Vec<_>>();
        builder.add(
            &[issue.clone(), shell(2)],
            &[shell(3), motd.clone()],
            std::slice::from_ref(&service),
            2,
            &names(&["kiosk-auken-1", "kiosk-auken-2"]),
        );
        builder.add(
            std::slice::from_ref(&issue),
            &[issue.clone(), motd],
            &[],
            5,
            &names(&["gate-auken-1", "gate-auken-2", "gate-auken-3", "gate-brisk-1"]),
        );
        builder.add(&[], &[service], &[], 1, &names(&["kiosk-tern-1"]));
        let impact = builder.done(8, 0);
        let counted: Vec<_> = impact
            .clauses
            .iter()
            .map(|one| (one.address.as_str(), one.new, one.changed, one.taken))
            .collect();
        assert_eq!(
            counted,
            [
                ("file:/etc/issue", 0, 0, 2),
                ("file:/etc/kiosk/shell.conf", 0, 2, 0),
                ("file:/etc/motd", 7, 0, 0),
                ("service:kiosk-shell", 1, 0, 0)
            ]
        );
        assert_eq!((impact.nodes, impact.takes, impact.takes_from), (8, 2, 2));
        assert_eq!(impact.restarts, [Restart { address: "service:kiosk-shell".into(), nodes: 2 }]);
        assert_eq!(impact.clauses[2].examples, ["kiosk-auken-1", "kiosk-auken-2", "gate-auken-1"]);
    }

    #[test]
    fn what_is_not_listed_is_counted() {
        let mut builder = ImpactBuilder::default();
        let all: Vec<_> = (0..250).map(|at| clause(at, &format!("file:/etc/kiosk/{at}.conf"), &[])).collect();
        builder.add(&all, &[], &[], 10, &[]);
        let impact = builder.done(10, 0);
        assert_eq!(
            (impact.clauses.len(), impact.clauses_left_out, impact.takes, impact.takes_from),
            (200, 50, 2_500, 10)
        );
    }
}
