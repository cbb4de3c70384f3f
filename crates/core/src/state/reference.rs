//! Connects clauses by what they need and what they react to.

use super::instantiate::Draft;
use crate::address::{ClauseAddress, fits, is_pattern};
use crate::kind::nearest_word;
use crate::kit::{Code, Finding, Located};

/// Turns the addresses and patterns of all drafts into the addresses of clauses.
pub(super) fn connect(drafts: &mut [Draft], left_out: &[Draft], findings: &mut Vec<Finding>) {
    let names: Vec<Names> = drafts
        .iter()
        .map(|draft| Names {
            canonical: draft.clause.address.clone(),
            all: std::iter::once(&draft.clause.address).chain(&draft.clause.also).cloned().collect(),
        })
        .collect();
    let excluded: Vec<ClauseAddress> = left_out.iter().map(|draft| draft.clause.address.clone()).collect();
    for draft in drafts {
        let (needs, reacts_to) = (std::mem::take(&mut draft.needs), std::mem::take(&mut draft.reacts_to));
        let own = draft.clause.address.clone();
        for written in &needs {
            let reach = Reach { names: &names, excluded: &excluded, own: &own };
            let (found, dropped) = reach.of(written, "needs", findings);
            add_new(&mut draft.clause.needs, found);
            add_new(&mut draft.clause.dropped_needs, dropped);
        }
        for written in &reacts_to {
            let reach = Reach { names: &names, excluded: &excluded, own: &own };
            let (found, _) = reach.of(written, "reacts_to", findings);
            add_new(&mut draft.clause.reacts_to, found);
        }
    }
}

struct Names {
    canonical: ClauseAddress,
    all: Vec<ClauseAddress>,
}

struct Reach<'a> {
    names: &'a [Names],
    excluded: &'a [ClauseAddress],
    own: &'a ClauseAddress,
}

impl Reach<'_> {
    /// Returns the clauses that are meant, and those that are meant and do not count on this node.
    fn of(&self, written: &Located<String>, key: &str, findings: &mut Vec<Finding>) -> (Vec<ClauseAddress>, Vec<ClauseAddress>) {
        let pattern = &written.value;
        let meant = |address: &ClauseAddress| if is_pattern(pattern) { fits(pattern, address) } else { address.as_str() == pattern };
        // A pattern may well fit the clause that it stands in; that one is not meant.
        let found: Vec<ClauseAddress> = self
            .names
            .iter()
            .filter(|names| names.all.iter().any(meant) && !(is_pattern(pattern) && names.canonical == *self.own))
            .map(|names| names.canonical.clone())
            .collect();
        let dropped: Vec<ClauseAddress> = self.excluded.iter().filter(|address| meant(address)).cloned().collect();
        if found.is_empty() && dropped.is_empty() {
            let all = self.names.iter().flat_map(|names| &names.all).map(ClauseAddress::as_str);
            let hint = nearest_word(pattern, all).map_or_else(
                || "it must be the address of a clause, or a pattern that fits one".to_owned(),
                |near| format!("did you mean `{near}`?"),
            );
            findings.push(
                Finding::error(Code::NothingFits, written.place.clone(), format!("`{key}` names `{pattern}`, and no clause is called so")).hint(hint),
            );
        }
        (found, dropped)
    }
}

fn add_new(to: &mut Vec<ClauseAddress>, from: Vec<ClauseAddress>) {
    for address in from {
        if !to.contains(&address) {
            to.push(address);
        }
    }
}
