//! The order in which clauses are handled: as written, moved only as far as relations ask.

use super::clause::Clause;
use super::instantiate::{Instantiated, is_gone};
use super::resolve::path_of;
use crate::address::ClauseAddress;
use crate::document::{Code, Finding, Place};
use foldhash::HashMap;
use serde::Serialize;
use std::collections::HashSet;

/// Clauses in order, and why they are in it.
pub(super) struct Ordered {
    pub clauses: Vec<Clause>,
    pub places: Vec<Place>,
    pub moves: Vec<Relation>,
    pub relations: Vec<Relation>,
}

/// One clause that comes before another, and why; both by their positions in the state.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Relation {
    /// The one that comes first.
    pub earlier: usize,
    /// The one that comes after it.
    pub later: usize,
    /// Why.
    pub why: Why,
}

/// Why one clause comes before another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Why {
    /// The later one says `needs`.
    Needs,
    /// The later one says `reacts_to`.
    ReactsTo,
    /// Implied: the later one is in the directory of the earlier one.
    LiesIn,
    /// Implied: the directory is removed last, after its entries.
    GoesWithIt,
    /// Implied: the later one names the earlier one as its owner, group or account.
    BelongsTo,
    /// Implied: an account or group goes last, after what belonged to it.
    GoesAfterIts,
}

impl Why {
    /// Returns whether it follows from what the clauses keep, and is not said by them.
    pub fn is_implied(self) -> bool {
        !matches!(self, Self::Needs | Self::ReactsTo)
    }

    /// Returns what the later clause is to the earlier one.
    pub fn words(self) -> &'static str {
        match self {
            Self::Needs => "needs",
            Self::ReactsTo => "reacts to",
            Self::LiesIn => "lies in",
            Self::GoesWithIt => "handled after its contents:",
            Self::BelongsTo => "belongs to",
            Self::GoesAfterIts => "handled after what it owns:",
        }
    }
}

/// Orders the clauses; each comes after what it needs, what it reacts to, and what its thing is in or belongs to.
///
/// # Errors
///
/// Returns the circle, printed with its places, if there is one.
pub(super) fn in_order(drafts: Vec<Instantiated>) -> Result<Ordered, Finding> {
    let before = predecessors(&drafts);
    let mut marks = vec![Mark::Untouched; drafts.len()];
    let mut order = Vec::with_capacity(drafts.len());
    let mut required = Vec::new();
    for at in 0..drafts.len() {
        visit(at, &before, &mut marks, &mut order, &mut required)
            .map_err(|circle| circle_finding(&drafts, &circle))?;
    }
    let mut position = vec![0; drafts.len()];
    order.iter().enumerate().for_each(|(at, draft)| position[*draft] = at);
    let relation = |earlier: usize, later: usize, why: Why| Relation {
        earlier: position[earlier],
        later: position[later],
        why,
    };
    let moves = required
        .iter()
        .filter(|(moved, by, _)| moved > by)
        .map(|(moved, by, why)| relation(*moved, *by, *why))
        .collect();
    let all = before
        .iter()
        .enumerate()
        .flat_map(|(later, earlier)| earlier.iter().map(move |(earlier, why)| (*earlier, later, *why)));
    let relations = all.map(|(earlier, later, why)| relation(earlier, later, why)).collect();
    let mut unordered: Vec<Option<Instantiated>> = drafts.into_iter().map(Some).collect();
    let (mut clauses, mut places) = (Vec::with_capacity(order.len()), Vec::with_capacity(order.len()));
    for Instantiated { clause, place, .. } in order.into_iter().filter_map(|at| unordered[at].take()) {
        clauses.push(clause);
        places.push(place);
    }
    Ok(Ordered { clauses, places, moves, relations })
}

#[derive(Clone, Copy, PartialEq)]
enum Mark {
    Untouched,
    Open,
    Done,
}

type Predecessors = Vec<Vec<(usize, Why)>>;

/// Puts a clause into the order after its predecessors, and notes who asked for each. Kept without recursion: chains may
/// be long.
fn visit(
    start: usize,
    before: &Predecessors,
    marks: &mut [Mark],
    order: &mut Vec<usize>,
    required: &mut Vec<(usize, usize, Why)>,
) -> Result<(), Vec<usize>> {
    let mut path: Vec<(usize, usize)> = Vec::new();
    if marks[start] == Mark::Untouched {
        marks[start] = Mark::Open;
        path.push((start, 0));
    }
    while let Some((at, next)) = path.last().copied() {
        let Some(&(predecessor, why)) = before[at].get(next) else {
            marks[at] = Mark::Done;
            order.push(at);
            path.pop();
            continue;
        };
        path.last_mut().expect("just seen").1 += 1;
        match marks[predecessor] {
            Mark::Done => {}
            Mark::Open => {
                let from = path.iter().position(|(open, _)| *open == predecessor).unwrap_or(0);
                return Err(path[from..].iter().map(|(open, _)| *open).collect());
            }
            Mark::Untouched => {
                marks[predecessor] = Mark::Open;
                required.push((predecessor, at, why));
                path.push((predecessor, 0));
            }
        }
    }
    Ok(())
}

/// Returns what comes before each clause.
fn predecessors(drafts: &[Instantiated]) -> Predecessors {
    let by_address: HashMap<&ClauseAddress, usize> =
        drafts.iter().enumerate().map(|(at, draft)| (&draft.clause.address, at)).collect();
    let holders = Containers::of(drafts);
    let declared = |draft: &Instantiated| {
        let needs = draft.clause.needs.iter().map(|address| (address, Why::Needs));
        let reacts = draft.clause.reacts_to.iter().map(|address| (address, Why::ReactsTo));
        needs
            .chain(reacts)
            .filter_map(|(address, why)| Some((*by_address.get(address)?, why)))
            .collect::<Vec<_>>()
    };
    let mut before: Predecessors = drafts.iter().map(declared).collect();
    let outright = before.clone();
    for (at, draft) in drafts.iter().enumerate() {
        for (earlier, later, why) in implied(at, &draft.clause, drafts, &holders) {
            if earlier == later || before[later].iter().any(|(known, _)| *known == earlier) {
                continue;
            }
            // What is said outright counts more than what is implied, also over several steps.
            if !leads_to(&outright, earlier, later) {
                before[later].push((earlier, why));
            }
        }
    }
    before
}

/// Returns whether `from` comes after `to` by what is said outright.
fn leads_to(before: &Predecessors, from: usize, to: usize) -> bool {
    if before[from].is_empty() {
        return false;
    }
    let mut seen = HashSet::from([from]);
    let mut open = vec![from];
    while let Some(at) = open.pop() {
        for (predecessor, _) in &before[at] {
            if *predecessor == to {
                return true;
            }
            if seen.insert(*predecessor) {
                open.push(*predecessor);
            }
        }
    }
    false
}

/// What others can be in or belong to, by its name.
struct Containers<'d> {
    paths: HashMap<&'d str, usize>,
    accounts: HashMap<&'d str, usize>,
    account_groups: HashMap<&'d str, usize>,
}

impl<'d> Containers<'d> {
    fn of(drafts: &'d [Instantiated]) -> Self {
        let of_kind = |kind: &str| {
            drafts
                .iter()
                .enumerate()
                .filter(|(_, draft)| draft.clause.address.kind() == kind)
                .map(|(at, draft)| (draft.clause.name(), at))
                .collect()
        };
        Self {
            paths: drafts
                .iter()
                .enumerate()
                .filter_map(|(at, draft)| Some((path_of(&draft.clause)?, at)))
                .collect(),
            accounts: of_kind("account"),
            account_groups: of_kind("account_group"),
        }
    }
}

/// Returns (earlier, later, why) that follow from what the clauses keep.
fn implied(
    at: usize,
    clause: &Clause,
    drafts: &[Instantiated],
    holders: &Containers<'_>,
) -> Vec<(usize, usize, Why)> {
    let mut relations = Vec::new();
    if let Some(path) = path_of(clause) {
        let parents = std::iter::successors(path.rsplit_once('/'), |(parent, _)| parent.rsplit_once('/'))
            .map(|(parent, _)| parent);
        if let Some(&holder) =
            parents.filter(|parent| !parent.is_empty()).find_map(|parent| holders.paths.get(parent))
        {
            let removed = is_gone(&drafts[holder].clause);
            relations.push(if removed { (at, holder, Why::GoesWithIt) } else { (holder, at, Why::LiesIn) });
        }
    }
    let mut belongs = |known: &HashMap<&str, usize>, name: Option<&str>| {
        if let Some(&other) = name.and_then(|name| known.get(name)) {
            let removed = is_gone(&drafts[other].clause);
            relations.push(if removed {
                (at, other, Why::GoesAfterIts)
            } else {
                (other, at, Why::BelongsTo)
            });
        }
    };
    if !holders.accounts.is_empty() {
        belongs(&holders.accounts, clause.text("owner"));
        belongs(&holders.accounts, clause.text("account"));
    }
    if !holders.account_groups.is_empty() {
        belongs(&holders.account_groups, clause.text("group"));
        belongs(&holders.account_groups, clause.text("primary_group"));
        if clause.address.kind() == "account" {
            clause.list("groups").into_iter().for_each(|group| belongs(&holders.account_groups, Some(group)));
        }
    }
    relations
}

fn circle_finding(drafts: &[Instantiated], circle: &[usize]) -> Finding {
    let names: Vec<&str> =
        circle.iter().chain(circle.first()).map(|at| drafts[*at].clause.address.as_str()).collect();
    let first = &drafts[circle[0]];
    let mut finding = Finding::error(
        Code::Circle,
        first.place.clone(),
        format!("cycle of clauses: {}", names.join(" after ")),
    )
    .hint("remove one of these needs or reactions");
    for at in &circle[1..] {
        finding = finding.related(drafts[*at].clause.address.as_str(), drafts[*at].place.clone());
    }
    finding
}
