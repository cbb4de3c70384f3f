//! Connects clauses by what they need and what they react to.

use super::instantiate::Instantiated;
use crate::address::{ClauseAddress, fits, is_pattern};
use crate::document::{Code, Finding, Located};
use crate::nearest::nearest_word;
use foldhash::{HashMap, HashMapExt as _};

/// Turns the addresses and patterns of all drafts into the addresses of clauses.
pub(super) fn connect(drafts: &mut [Instantiated], left_out: &[Instantiated], findings: &mut Vec<Finding>) {
    let connected: Vec<Connected> = {
        let reach = Reach::of(drafts, left_out);
        drafts.iter().enumerate().map(|(at, draft)| reach.connect(at, draft, findings)).collect()
    };
    for (draft, connected) in drafts.iter_mut().zip(connected) {
        (draft.clause.needs, draft.clause.dropped_needs, draft.clause.reacts_to) =
            (connected.needs, connected.dropped, connected.reacts_to);
    }
}

/// What one clause needs and reacts to.
#[derive(Default)]
struct Connected {
    needs: Vec<ClauseAddress>,
    dropped: Vec<ClauseAddress>,
    reacts_to: Vec<ClauseAddress>,
}

/// The clauses that can be referred to, by each of their names.
struct Reach<'d> {
    drafts: &'d [Instantiated],
    /// The first that has a name, and the others.
    named: HashMap<&'d str, (usize, Vec<usize>)>,
    left_out: &'d [Instantiated],
}

impl<'d> Reach<'d> {
    fn of(drafts: &'d [Instantiated], left_out: &'d [Instantiated]) -> Self {
        let mut named: HashMap<&str, (usize, Vec<usize>)> = HashMap::with_capacity(drafts.len());
        for (at, draft) in drafts.iter().enumerate() {
            for name in names_of(draft) {
                named
                    .entry(name.as_str())
                    .and_modify(|(_, others)| others.push(at))
                    .or_insert((at, Vec::new()));
            }
        }
        Self { drafts, named, left_out }
    }

    fn connect(&self, own: usize, draft: &Instantiated, findings: &mut Vec<Finding>) -> Connected {
        let mut connected = Connected::default();
        for written in &draft.needs {
            let (found, dropped) = self.meant(own, written, "needs", findings);
            add_new(&mut connected.needs, found);
            add_new(&mut connected.dropped, dropped);
        }
        for written in &draft.reacts_to {
            let (found, _) = self.meant(own, written, "reacts_to", findings);
            add_new(&mut connected.reacts_to, found);
        }
        connected
    }

    /// Returns the clauses that match, and those that match and do not apply on this node.
    fn meant(
        &self,
        own: usize,
        written: &Located<String>,
        key: &str,
        findings: &mut Vec<Finding>,
    ) -> (Vec<ClauseAddress>, Vec<ClauseAddress>) {
        let pattern = &written.value;
        let meant = |address: &ClauseAddress| {
            if is_pattern(pattern) { fits(pattern, address) } else { address.as_str() == pattern }
        };
        let address = |at: usize| self.drafts[at].clause.address.clone();
        // A pattern may well fit its own clause; that one does not match.
        let found: Vec<ClauseAddress> = if is_pattern(pattern) {
            let fitting =
                (0..self.drafts.len()).filter(|at| *at != own && names_of(&self.drafts[*at]).any(meant));
            fitting.map(address).collect()
        } else {
            self.named
                .get(pattern.as_str())
                .into_iter()
                .flat_map(|(first, others)| std::iter::once(first).chain(others))
                .map(|at| address(*at))
                .collect()
        };
        let dropped: Vec<ClauseAddress> =
            self.left_out.iter().flat_map(names_of).filter(|name| meant(name)).cloned().collect();
        if found.is_empty() && dropped.is_empty() {
            let hint =
                nearest_word(pattern, self.drafts.iter().flat_map(names_of).map(ClauseAddress::as_str))
                    .map_or_else(
                        || "it must be the address of a clause, or a pattern that fits one".to_owned(),
                        |near| format!("did you mean `{near}`?"),
                    );
            findings.push(
                Finding::error(
                    Code::NothingFits,
                    written.place.clone(),
                    format!("`{key}` names `{pattern}`, which matches no clause"),
                )
                .hint(hint),
            );
        }
        (found, dropped)
    }
}

fn names_of(draft: &Instantiated) -> impl Iterator<Item = &ClauseAddress> {
    std::iter::once(&draft.clause.address).chain(&draft.clause.also)
}

fn add_new(to: &mut Vec<ClauseAddress>, from: Vec<ClauseAddress>) {
    for address in from {
        if !to.contains(&address) {
            to.push(address);
        }
    }
}
