//! Which change desired a clause on a node as it is desired.

use std::collections::{HashMap, HashSet};

/// What one change gave a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Given {
    /// The change's number.
    pub change: i64,
    /// The state; none if it could not be resolved, or nothing was desired any more.
    pub state: Option<i64>,
}

/// Returns, for each clause that is desired at the end of a node's history, the change since which it was desired without a break.
///
/// `history` is in the order in which the changes were handed out; `clauses_of` returns what a state desires.
pub fn desired_by<'a>(
    history: &[Given],
    clauses_of: impl Fn(i64) -> Option<&'a HashSet<i32>>,
) -> HashMap<i32, i64> {
    let Some((last, before)) = history.split_last() else { return HashMap::new() };
    let mut since: HashMap<i32, i64> =
        last.state.and_then(&clauses_of).into_iter().flatten().map(|clause| (*clause, last.change)).collect();
    let mut open: HashSet<i32> = since.keys().copied().collect();
    for given in before.iter().rev() {
        let clauses = given.state.and_then(&clauses_of);
        open.retain(|clause| clauses.is_some_and(|clauses| clauses.contains(clause)));
        if open.is_empty() {
            break;
        }
        for clause in &open {
            since.insert(*clause, given.change);
        }
    }
    since
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clause_is_desired_by_the_change_that_began_it_and_not_by_one_that_only_kept_it() {
        let states: HashMap<i64, HashSet<i32>> =
            HashMap::from([(1, HashSet::from([10])), (2, HashSet::from([10, 20])), (3, HashSet::from([20]))]);
        let given = |(change, state)| Given { change, state };
        let of = |history: &[(i64, Option<i64>)]| {
            let history: Vec<Given> = history.iter().copied().map(given).collect();
            let mut found: Vec<(i32, i64)> =
                desired_by(&history, |state| states.get(&state)).into_iter().collect();
            found.sort_unstable();
            found
        };
        assert_eq!(of(&[(5, Some(1)), (6, Some(2)), (7, Some(2))]), [(10, 5), (20, 6)]);
        assert_eq!(of(&[(5, Some(2)), (6, Some(3)), (7, Some(2))]), [(10, 7), (20, 5)]);
        assert_eq!(of(&[(5, Some(2)), (6, None), (7, Some(2))]), [(10, 7), (20, 7)], "there was a break");
        assert_eq!(of(&[(5, Some(2)), (6, None)]), []);
        assert_eq!(of(&[]), []);
    }
}
