//! What a node keeps of clauses that are no longer desired.

use super::{EffectiveState, Origin};
use crate::address::ClauseAddress;
use crate::kit::Gone;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A clause that was wanted and applied, and is no longer desired: the node keeps its thing until someone makes it gone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LeftBehind {
    /// Its address.
    pub address: ClauseAddress,
    /// The releases and baselines that wanted it last.
    pub origins: Vec<Origin>,
    /// Until when it was wanted.
    pub wanted_until: Timestamp,
}

/// Returns what is left behind by past states, the oldest first, each with the moment until which it was wanted.
///
/// What a later state wanted gone is not left behind, nor what the present one speaks of under any address.
pub fn left_behind(past: &[(EffectiveState, Timestamp)], present: &EffectiveState) -> Vec<LeftBehind> {
    let mut left: BTreeMap<ClauseAddress, LeftBehind> = BTreeMap::new();
    for (state, until) in past {
        for clause in &state.clauses {
            if clause.gone != Gone::No {
                left.remove(&clause.address);
            } else if !clause.is_only_a_reaction() {
                let (address, origins) = (clause.address.clone(), clause.origins.clone());
                left.insert(address.clone(), LeftBehind { address, origins, wanted_until: *until });
            }
        }
    }
    for clause in &present.clauses {
        for address in std::iter::once(&clause.address).chain(&clause.also) {
            left.remove(address);
        }
    }
    left.into_values().collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::DigestKey;
    use crate::state::testing::clause;

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(secs).unwrap()
    }

    fn state(addresses: &[&str]) -> EffectiveState {
        let clauses = addresses
            .iter()
            .map(|text| {
                let mut one = clause(text.trim_start_matches('-'));
                one.gone = if text.starts_with('-') { Gone::Yes } else { Gone::No };
                one
            })
            .collect();
        EffectiveState::new(clauses, &DigestKey::new([7; 32]))
    }

    #[test]
    fn what_was_wanted_and_is_not_any_more_is_left_behind_until_it_is_made_gone() {
        for (past, present, expected) in [
            (vec![&["file:/a", "file:/b"][..]], &["file:/a"][..], "file:/b until 1"),
            (vec![&["file:/a"], &["file:/a", "file:/b"]], &[], "file:/a until 2, file:/b until 2"),
            (vec![&["file:/a"], &["-file:/a"]], &[], ""),
            (vec![&["file:/a"]], &["-file:/a"], ""),
            (vec![&["-file:/a"]], &[], ""),
            (vec![&["file:/a"]], &["file:/a"], ""),
        ] {
            let past: Vec<(EffectiveState, Timestamp)> =
                past.iter().zip(1..).map(|(addresses, secs)| (state(addresses), at(secs))).collect();
            let left = left_behind(&past, &state(present));
            let words: Vec<String> = left
                .iter()
                .map(|one| format!("{} until {}", one.address, one.wanted_until.as_second()))
                .collect();
            assert_eq!(words.join(", "), expected);
        }
    }
}
