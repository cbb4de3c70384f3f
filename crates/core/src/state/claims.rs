//! Two clauses with one claim: merged if they want the same, a conflict if they do not.

use super::assigned::join_windows;
use super::clause::{Clause, Switch};
use super::instantiate::Instantiated;
use super::resolve::{Conditions, path_of, place};
use crate::address::ClauseAddress;
use crate::document::{Code, Finding};
use crate::kind::Claim;
use crate::kit::Gone;
use foldhash::{HashMap, HashMapExt as _};

/// Merges equal clauses into the first of them and says of all others that they are in conflict.
pub(super) fn merge(
    drafts: Vec<Instantiated>,
    conditions: Conditions,
    findings: &mut Vec<Finding>,
) -> Vec<Instantiated> {
    let Some(first_of) = first_of_each_claim(&drafts) else { return drafts };
    let mut merged: Vec<Instantiated> = Vec::with_capacity(drafts.len());
    let mut places = vec![0; drafts.len()];
    for (at, draft) in drafts.into_iter().enumerate() {
        if first_of[at] == at {
            places[at] = merged.len();
            merged.push(draft);
            continue;
        }
        let first = &mut merged[places[first_of[at]]];
        let either_undecidable = first.clause.undecidable.is_some() || draft.clause.undecidable.is_some();
        if want_the_same(&first.clause, &draft.clause) {
            join(first, draft);
        } else if either_undecidable
            || (conditions == Conditions::CountAsTrue && (first.conditional || draft.conditional))
        {
            // Which of the two counts is decided on a node; here both are only looked at.
            merged.push(draft);
        } else {
            findings.push(conflict(first, &draft));
        }
    }
    merged
}

/// Returns for each clause the first one with its claim; none if each has its own.
fn first_of_each_claim(drafts: &[Instantiated]) -> Option<Vec<usize>> {
    let mut known: HashMap<&Claim, usize> = HashMap::with_capacity(drafts.len());
    let first_of: Vec<usize> = drafts
        .iter()
        .enumerate()
        .map(|(at, draft)| *known.entry(&draft.clause.claim).or_insert(at))
        .collect();
    (known.len() < drafts.len()).then_some(first_of)
}

/// Says of a part of a file that another clause keeps the file whole.
pub(super) fn parts_of_whole(drafts: &[Instantiated], conditions: Conditions, findings: &mut Vec<Finding>) {
    if drafts.iter().all(|draft| draft.clause.claim.part_of().is_none()) {
        return;
    }
    let whole: HashMap<&str, &Instantiated> = drafts
        .iter()
        .filter(|draft| {
            draft.clause.address.kind() != "file"
                || draft.clause.get("content").is_some()
                || draft.clause.gone != Gone::No
        })
        .filter_map(|draft| Some((path_of(&draft.clause)?, draft)))
        .collect();
    for draft in drafts {
        let Some(first) = draft.clause.claim.part_of().and_then(|path| whole.get(path)) else { continue };
        if conditions == Conditions::Decide || !(first.conditional || draft.conditional) {
            let message = format!(
                "{} manages a part of a file that {} manages as a whole",
                draft.clause.address, first.clause.address
            );
            findings.push(
                Finding::error(Code::ClaimConflict, place(draft), message)
                    .related("the other one", place(first))
                    .hint("put the part into the file's contents, or keep the file's ownership only"),
            );
        }
    }
}

/// Reports clauses that share a name by which they can be referred to; the turns of one loop share
/// their second name.
pub(super) fn tell_apart(drafts: &[Instantiated], conditions: Conditions, findings: &mut Vec<Finding>) {
    let mut known: HashMap<&ClauseAddress, &Instantiated> = HashMap::with_capacity(drafts.len());
    for draft in drafts {
        for name in std::iter::once(&draft.clause.address).chain(&draft.clause.also) {
            let Some(first) = known.insert(name, draft) else { continue };
            let either_conditional =
                conditions == Conditions::CountAsTrue && (first.conditional || draft.conditional);
            let either_undecidable = first.clause.undecidable.is_some() || draft.clause.undecidable.is_some();
            if first.place != draft.place
                && first.clause.claim != draft.clause.claim
                && !either_conditional
                && !either_undecidable
            {
                findings.push(
                    Finding::error(Code::SameName, place(draft), format!("two clauses are called `{name}`"))
                        .related("the other one", place(first))
                        .hint("give each its own name in `as`"),
                );
            }
        }
    }
}

fn want_the_same(left: &Clause, right: &Clause) -> bool {
    left.address.kind() == right.address.kind()
        && left.gone == right.gone
        && left.described() == right.described()
}

fn conflict(first: &Instantiated, second: &Instantiated) -> Finding {
    let differing: Vec<String> = first
        .clause
        .described()
        .iter()
        .filter(|(name, value, _)| second.clause.get(name).is_some_and(|other| other != *value))
        .map(|(name, _, _)| format!("`{name}`"))
        .collect();
    let about = if differing.is_empty() { String::new() } else { format!(", in {}", differing.join(", ")) };
    Finding::error(
        Code::ClaimConflict,
        place(second),
        format!("conflicting clauses for {}{about}", first.clause.claim),
    )
    .related("the other one", place(first))
    .hint("keep one of them, or tell them apart by `where`")
}

fn join(first: &mut Instantiated, second: Instantiated) {
    let (into, from) = (&mut first.clause, second.clause);
    for name in std::iter::once(from.address).chain(from.also) {
        if name != into.address && !into.also.contains(&name) {
            into.also.push(name);
        }
    }
    into.severity = into.severity.max(from.severity);
    into.satisfies.extend(from.satisfies);
    into.topics.extend(from.topics);
    into.concealed.extend(from.concealed);
    into.reaction = into.reaction.max(from.reaction);
    into.on_drift = more_careful(into.on_drift, from.on_drift);
    into.on_rollout = more_careful(into.on_rollout, from.on_rollout);
    join_windows(&mut into.change_windows, &from.change_windows);
    into.grace_secs = into.grace_secs.max(from.grace_secs);
    for origin in from.origins {
        if !into.origins.contains(&origin) {
            into.origins.push(origin);
        }
    }
    first.needs.extend(second.needs);
    first.reacts_to.extend(second.reacts_to);
    first.conditional &= second.conditional;
}

/// Returns the more careful of two switches; one that leaves it to the group is never made bolder.
fn more_careful<T: Careful>(left: Option<Switch<T>>, right: Option<Switch<T>>) -> Option<Switch<T>> {
    match (left, right) {
        (Some(left), Some(right)) => Some(if right.value > left.value { right } else { left }),
        (one, other) => one.or(other).filter(|switch| switch.value == T::CAREFUL),
    }
}

trait Careful: Ord + Copy {
    const CAREFUL: Self;
}

impl Careful for crate::kit::OnDrift {
    const CAREFUL: Self = Self::Report;
}

impl Careful for crate::kit::OnRollout {
    const CAREFUL: Self = Self::Wait;
}
