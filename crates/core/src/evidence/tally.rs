//! Counting the rows of evidence again: the figures are those of the rows, or it is no evidence.

use super::row::{ClauseCountsAs, ClauseRow};
use crate::compliance::{ClauseCounts, NodeCounts};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Clauses and the nodes that have them.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Tallied {
    /// The clauses.
    pub clauses: ClauseCounts,
    /// The nodes.
    pub nodes: NodeCounts,
}

/// The clauses of one node.
#[derive(Default)]
struct OfNode {
    clauses: ClauseCounts,
    has_critical: bool,
}

impl OfNode {
    fn add(&mut self, row: &ClauseRow) {
        let count = match row.result {
            ClauseCountsAs::Compliant => &mut self.clauses.compliant,
            ClauseCountsAs::Noncompliant => &mut self.clauses.noncompliant,
            ClauseCountsAs::Conceded => &mut self.clauses.conceded,
            ClauseCountsAs::Unexamined => &mut self.clauses.unexamined,
            ClauseCountsAs::Unknown => &mut self.clauses.unknown,
        };
        *count += 1;
        let is_compliant = row.result == ClauseCountsAs::Compliant;
        self.clauses.in_doubt += u64::from(is_compliant && row.in_doubt);
        self.has_critical |= row.result == ClauseCountsAs::Noncompliant && row.severity == "critical";
    }
}

impl Tallied {
    fn add(&mut self, node: &OfNode) {
        let OfNode { clauses, has_critical } = node;
        for (sum, part) in [
            (&mut self.clauses.compliant, clauses.compliant),
            (&mut self.clauses.in_doubt, clauses.in_doubt),
            (&mut self.clauses.noncompliant, clauses.noncompliant),
            (&mut self.clauses.conceded, clauses.conceded),
            (&mut self.clauses.unexamined, clauses.unexamined),
            (&mut self.clauses.unknown, clauses.unknown),
        ] {
            *sum += part;
        }
        let nodes = &mut self.nodes;
        let count = if clauses.noncompliant > 0 {
            &mut nodes.with_deviation
        } else if clauses.unexamined + clauses.unknown > 0 {
            &mut nodes.not_known
        } else if clauses.conceded > 0 {
            &mut nodes.conceded
        } else {
            &mut nodes.without_deviation
        };
        *count += 1;
        nodes.with_critical += u64::from(*has_critical);
    }
}

/// Rows, counted as they come: those of a node one after another.
#[derive(Default)]
pub struct Tally {
    all: Tallied,
    by_control: BTreeMap<String, Tallied>,
    by_cause: BTreeMap<String, u64>,
    node: Option<String>,
    of_node: OfNode,
    of_node_by_control: BTreeMap<String, OfNode>,
}

impl Tally {
    /// Counts a row.
    pub fn add(&mut self, row: &ClauseRow) {
        if self.node.as_ref() != Some(&row.node_id) {
            self.end_node();
            self.node = Some(row.node_id.clone());
        }
        self.of_node.add(row);
        for control in &row.controls {
            self.of_node_by_control.entry(control.clone()).or_default().add(row);
        }
        if let (ClauseCountsAs::Noncompliant, Some(found)) = (row.result, &row.found) {
            *self.by_cause.entry(found.cause.clone()).or_default() += 1;
        }
    }

    fn end_node(&mut self) {
        if self.node.take().is_some() {
            self.all.add(&std::mem::take(&mut self.of_node));
            for (control, of_node) in std::mem::take(&mut self.of_node_by_control) {
                self.by_control.entry(control).or_default().add(&of_node);
            }
        }
    }

    /// Returns all of them, by control, and those that are not compliant by cause.
    pub fn end(mut self) -> (Tallied, BTreeMap<String, Tallied>, BTreeMap<String, u64>) {
        self.end_node();
        (self.all, self.by_control, self.by_cause)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::evidence::Found;
    use jiff::Timestamp;

    fn row(node: &str, result: ClauseCountsAs, severity: &str, controls: &[&str]) -> ClauseRow {
        let now = Timestamp::UNIX_EPOCH;
        let found = (result == ClauseCountsAs::Noncompliant).then(|| Found {
            cause: "drift".into(),
            actual: None,
            since: now,
            learned: now,
            run: "r".into(),
        });
        ClauseRow {
            node: node.into(),
            node_id: format!("id of {node}"),
            address: "file:/etc/gate/tariff.conf".into(),
            severity: severity.into(),
            controls: controls.iter().map(|&control| control.into()).collect(),
            baselines: Vec::new(),
            releases: Vec::new(),
            result,
            in_doubt: true,
            conceded_by: None,
            desired: String::new(),
            wanted: String::new(),
            found,
            examined: None,
            desired_by: None,
        }
    }

    #[test]
    fn a_node_counts_by_the_worst_of_its_clauses_and_for_each_control_apart() {
        use ClauseCountsAs::{Compliant, Conceded, Noncompliant, Unexamined};
        let mut tally = Tally::default();
        for row in [
            row("gate-1", Compliant, "high", &["SK-1"]),
            row("gate-1", Noncompliant, "critical", &["SK-9"]),
            row("gate-2", Compliant, "high", &["SK-1", "SK-9"]),
            row("kiosk-1", Conceded, "low", &["SK-9"]),
            row("kiosk-1", Compliant, "low", &[]),
            row("ship-1", Unexamined, "low", &["SK-9"]),
        ] {
            tally.add(&row);
        }
        let (all, by_control, by_cause) = tally.end();
        let clauses = ClauseCounts {
            compliant: 3,
            in_doubt: 3,
            noncompliant: 1,
            conceded: 1,
            unexamined: 1,
            unknown: 0,
        };
        let nodes = NodeCounts {
            without_deviation: 1,
            with_deviation: 1,
            not_known: 1,
            conceded: 1,
            with_critical: 1,
        };
        assert_eq!(all, Tallied { clauses, nodes });
        assert_eq!(by_control["SK-1"].nodes.without_deviation, 2);
        assert_eq!(by_control["SK-9"].nodes, nodes);
        assert_eq!(by_cause, BTreeMap::from([("drift".to_owned(), 1)]));
        assert_eq!(Tally::default().end().0, Tallied::default());
    }
}
