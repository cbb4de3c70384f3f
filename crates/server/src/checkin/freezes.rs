//! The freezes that a node is given at a check-in.

use crate::store::freeze::{self, InForceRow};
use constans_core::digest::of_value;
use constans_core::run::Freeze;
use constans_wire::check_in::{CheckIn, FreezeOffer, Generation, HeldFreezes, OfferedFreeze};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use sqlx::PgPool;
use std::collections::BTreeSet;
use uuid::Uuid;

/// The scheme of digests of freezes.
const FREEZES_SCHEME: &str = "freezes1";
/// The most reported freezes of a node that are stored.
const MAX_HELD: usize = 100;
/// This many characters of a reason or an address of these.
const LONGEST_TEXT: usize = 500;

/// Returns the freezes that a node is given, if it holds others. While the server recovers, a node keeps those that it holds and
/// this database does not know: they were set after the database was kept.
pub async fn offer(
    db: &PgPool,
    check_in: &CheckIn,
    in_force: &[InForceRow],
    node: Uuid,
    is_recovering: bool,
    now: Timestamp,
) -> sqlx::Result<Option<FreezeOffer>> {
    let mine = in_force.iter().filter(|freeze| freeze.is_for(node));
    let mut offered: Vec<OfferedFreeze> = mine
        .map(|freeze| OfferedFreeze {
            no: freeze.no,
            for_secs: secs_until(freeze.until_at.to_jiff(), now),
            because: freeze.because.clone(),
            clauses: freeze.clauses.iter().cloned().collect::<BTreeSet<_>>(),
        })
        .collect();
    let held = check_in.freezes.as_ref();
    if offered.is_empty() && held.is_none_or(|held| held.freezes.is_empty()) {
        return Ok(None);
    }
    let mut ends: Vec<Timestamp> = in_force
        .iter()
        .filter(|freeze| freeze.is_for(node))
        .map(|freeze| freeze.until_at.to_jiff())
        .collect();
    if is_recovering {
        let forgotten = held.iter().flat_map(|held| &held.freezes).take(MAX_HELD);
        for freeze in forgotten.filter(|held| {
            held.until > check_in.now
                && !in_force.iter().any(|known| known.no == held.no && known.because == held.because)
        }) {
            let for_secs = secs_until(freeze.until, check_in.now);
            offered.push(OfferedFreeze {
                no: freeze.no,
                for_secs,
                because: freeze.because.clone(),
                clauses: freeze.clauses.clone(),
            });
            // The node keeps it as it is: its number and reason distinguish it from others.
            ends.push(Timestamp::UNIX_EPOCH);
        }
    }
    let named: Vec<_> = offered
        .iter()
        .zip(&ends)
        .map(|(freeze, until)| (freeze.no, until.as_second(), &freeze.because, &freeze.clauses))
        .collect();
    let digest = of_value(FREEZES_SCHEME, &named);
    if held.is_some_and(|held| held.digest == digest) {
        return Ok(None);
    }
    let (epoch, counter) = freeze::generation(db).await?;
    Ok(Some(FreezeOffer { generation: Generation { epoch, counter }, digest, freezes: offered }))
}

fn secs_until(until: Timestamp, now: Timestamp) -> u64 {
    let left: SignedDuration = until.duration_since(now);
    // Not a second too short.
    u64::try_from(left.as_secs() + 1).unwrap_or(0)
}

/// Returns the freezes that a node reports it holds, as many as are stored.
pub fn bounded(held: &HeldFreezes) -> serde_json::Value {
    let cut = |text: &str| text.chars().take(LONGEST_TEXT).collect::<String>();
    let freezes: Vec<Freeze> = held
        .freezes
        .iter()
        .take(MAX_HELD)
        .map(|freeze| Freeze {
            because: cut(&freeze.because),
            clauses: freeze.clauses.iter().take(MAX_HELD).map(|clause| cut(clause)).collect(),
            ..freeze.clone()
        })
        .collect();
    json!({ "generation": held.generation, "digest": held.digest, "freezes": freezes })
}

#[cfg(test)]
mod tests {
    use super::*;
    use constans_core::digest::of_contents;

    #[test]
    fn of_what_a_node_says_it_holds_little_is_taken_in() {
        let freeze = |no| Freeze {
            no,
            until: Timestamp::UNIX_EPOCH,
            because: "x".repeat(10_000),
            clauses: (0..1_000).map(|at| format!("file:/{at}/{}", "y".repeat(2_000))).collect(),
        };
        let held = HeldFreezes {
            generation: Generation { epoch: 1, counter: 1 },
            digest: of_contents(b""),
            freezes: (0..300).map(freeze).collect(),
        };
        let kept = bounded(&held);
        assert_eq!(kept["freezes"].as_array().map(Vec::len), Some(MAX_HELD));
        assert_eq!(kept["freezes"][0]["because"].as_str().map(str::len), Some(LONGEST_TEXT));
        assert_eq!(kept["freezes"][0]["clauses"].as_array().map(Vec::len), Some(MAX_HELD));
        assert!(kept["freezes"][0]["clauses"][0].as_str().is_some_and(|clause| clause.len() <= LONGEST_TEXT));
    }
}
