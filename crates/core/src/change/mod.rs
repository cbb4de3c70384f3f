//! What a change of desired state alters: the documents that it edits, its impact clause by clause, and when a person must
//! confirm it.

mod commented;
mod document;
mod groups;
mod impact;
mod node_table;
mod nodes;
mod second_person;
mod stages;
mod timing;
mod whole;

pub use commented::updated_text;
pub use document::{DocumentEdit, DocumentKey, KeyError, edited, later_edits};
pub use groups::{GroupEdit, GroupEditError, TermsEdit};
pub use impact::{ClauseImpact, ClauseInState, Impact, ImpactBuilder, Restart};
pub use node_table::{MAX_TABLE_NODES, NodeLine, edit_by_table, read_node_table};
pub use nodes::{NodeDocument, NodeEdit, NodeEditError, edit_nodes, edit_own, only_nodes};
pub use second_person::asks_for_second_person;
pub use stages::{StageEdit, StageEntry, StageError, edit_stage};
pub use timing::{
    AppliedWhen, NodesBySettings, RestartingNode, WhenApplied, applied_when, counted_by_when, restarting,
};
pub use whole::{WholeDocument, WholeStage};

use serde::{Deserialize, Serialize};

/// What a person confirmed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Confirmed {
    /// From how many nodes the change takes clauses at most.
    pub takes_from: u64,
    /// How many clauses it takes from them at most, counted per node; any number if it is not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub takes: Option<u64>,
    /// How many nodes it affects; any number if it is not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nodes: Option<u64>,
}

/// Returns from how many nodes on the number is typed by the person who confirms that a change takes clauses from nodes: the
/// smaller of 5 % of the fleet and 50, but at least 3.
pub fn typed_from(fleet: u64) -> u64 {
    (fleet / 20).clamp(3, 50)
}

/// Returns whether a person has to confirm a change, or to confirm it again: it takes clauses from nodes and nobody agreed to
/// that, or it affects over 1 % (at least 3) more nodes, or takes more clauses, than was confirmed. `joined` of the affected
/// nodes joined since, and are not counted.
pub fn must_be_confirmed(impact: &Impact, confirmed: Option<&Confirmed>, joined: u64) -> bool {
    let Some(confirmed) = confirmed else { return impact.takes > 0 };
    let takes_more =
        impact.takes_from > confirmed.takes_from || confirmed.takes.is_some_and(|takes| impact.takes > takes);
    let affects_more = confirmed
        .nodes
        .is_some_and(|nodes| impact.nodes.saturating_sub(joined) > nodes + (nodes / 100).max(3));
    takes_more || affects_more
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_number_is_typed_from_five_percent_but_between_three_and_fifty_nodes() {
        let at = |fleet| typed_from(fleet);
        assert_eq!([0, 6, 60, 79, 80, 200, 1_000, 100_000].map(at), [3, 3, 3, 3, 4, 10, 50, 50]);
    }

    #[test]
    fn what_takes_clauses_is_confirmed_and_again_if_it_grew() {
        let impact = |nodes, takes, takes_from| Impact { nodes, takes, takes_from, ..Impact::default() };
        let confirmed = |nodes: u64| Confirmed { takes_from: 3, takes: Some(9), nodes: Some(nodes) };
        assert!(!must_be_confirmed(&impact(500, 0, 0), None, 0), "nothing is taken");
        assert!(must_be_confirmed(&impact(1, 1, 1), None, 0));
        assert!(!must_be_confirmed(&impact(500, 9, 3), Some(&confirmed(500)), 0));
        assert!(must_be_confirmed(&impact(500, 10, 3), Some(&confirmed(500)), 0), "a clause more");
        assert!(must_be_confirmed(&impact(500, 9, 4), Some(&confirmed(500)), 0), "a node more");
        assert!(!must_be_confirmed(&impact(505, 0, 0), Some(&confirmed(500)), 0), "1 % more");
        assert!(must_be_confirmed(&impact(506, 0, 0), Some(&confirmed(500)), 0));
        assert!(!must_be_confirmed(&impact(506, 0, 0), Some(&confirmed(500)), 1), "it joined since");
        assert!(!must_be_confirmed(&impact(13, 0, 0), Some(&confirmed(10)), 0), "3 more at least");
        let any = Confirmed { takes_from: 3, ..Confirmed::default() };
        assert!(
            !must_be_confirmed(&impact(90_000, 50, 3), Some(&any), 0),
            "a number that was not given is not held against it"
        );
    }
}
