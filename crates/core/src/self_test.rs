//! A state that every machine can be tested with: one clause that is in line anywhere, and one that is nowhere. An agent observes it, and
//! alters nothing.

use crate::check::check_single;
use crate::digest::DigestKey;
use crate::document::Finding;
use crate::filter::NodeView;
use crate::run::Verdict;
use crate::state::{Assigned, Conditions, OwnProperties, ResolveInput, Resolved, resolve};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The clause that is in line on every machine.
pub const IN_LINE: &str = "directory:/etc";
/// The clause that is in line on none: its content is made up for each test.
pub const OUT_OF_LINE: &str = "file:/run/constans-self-test";

/// Returns the state, with a content that nobody can have before.
///
/// # Errors
///
/// Returns what is wrong with it; nothing is, in a test.
pub fn self_test_state(nonce: &str, key: &DigestKey) -> Result<Resolved, Vec<Finding>> {
    let document = format!(
        "[baseline]\nname = \"self-test\"\n\n[[clause]]\nwhat = \"{IN_LINE}\"\n\n[[clause]]\nwhat = \"{OUT_OF_LINE}\"\ntext = \"Constans self-test {nonce}\\n\"\n"
    );
    let checked = check_single("self-test.toml", document.into_bytes());
    let Some((kit, [baseline])) = checked.kit.as_ref().map(|kit| (kit, kit.baselines.as_slice())) else {
        return Err(checked.findings);
    };
    resolve(&ResolveInput {
        assigned: vec![Assigned::plainly(kit, baseline)],
        kits: &[],
        given: &BTreeMap::new(),
        own: &OwnProperties::new(),
        view: &NodeView::sample(),
        key,
        conditions: Conditions::Decide,
        untouchable: &[],
    })
}

/// A clause of a self-test.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TestedClause {
    /// Its address.
    pub address: String,
    /// What should be seen of it.
    pub expected: Verdict,
    /// What was seen; none if the agent reported nothing of it.
    pub seen: Option<Verdict>,
}

impl TestedClause {
    /// Returns whether it was seen as it should be.
    pub fn is_right(&self) -> bool {
        self.seen == Some(self.expected)
    }
}

/// Compares what an agent saw with what it should see.
pub fn judge(seen: &BTreeMap<String, Verdict>) -> Vec<TestedClause> {
    [(IN_LINE, Verdict::Alike), (OUT_OF_LINE, Verdict::Different)]
        .map(|(address, expected)| TestedClause {
            address: address.to_owned(),
            expected,
            seen: seen.get(address).copied(),
        })
        .into()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn state(nonce: &str) -> Resolved {
        self_test_state(nonce, &DigestKey::new([7; 32])).unwrap()
    }

    #[test]
    fn the_state_has_its_two_clauses_and_another_content_each_time() {
        let first = state("a");
        let addresses: Vec<&str> = first.state.clauses.iter().map(|clause| clause.address.as_str()).collect();
        assert_eq!(addresses, [IN_LINE, OUT_OF_LINE]);
        assert_eq!(first.contents.len(), 1);
        assert!(first.contents.values().next().unwrap().starts_with(b"Constans self-test a"));
        assert_eq!(first.state.digest, state("a").state.digest);
        assert_ne!(first.state.digest, state("b").state.digest);
    }

    #[test]
    fn only_what_was_seen_as_it_should_be_is_right() {
        let seen = |alike: Verdict| {
            BTreeMap::from([
                (IN_LINE.to_owned(), alike),
                (OUT_OF_LINE.to_owned(), Verdict::Different),
                ("file:/etc/issue".to_owned(), Verdict::Alike),
            ])
        };
        let right = |seen: &BTreeMap<String, Verdict>| {
            judge(seen).iter().map(TestedClause::is_right).collect::<Vec<_>>()
        };
        assert_eq!(right(&seen(Verdict::Alike)), [true, true]);
        assert_eq!(right(&seen(Verdict::Different)), [false, true]);
        assert_eq!(right(&BTreeMap::new()), [false, false]);
    }
}
