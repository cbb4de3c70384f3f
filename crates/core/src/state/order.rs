//! The order in which clauses are handled: as written, moved only as far as relations ask.

use super::clause::Clause;
use super::instantiate::{Draft, is_gone};
use super::resolve::path_of;
use crate::address::ClauseAddress;
use crate::kit::{Code, Finding, Place};
use serde::Serialize;
use std::collections::{HashMap, HashSet};

/// Clauses in order, and why they are in it.
pub(super) struct Ordered {
    pub clauses: Vec<Clause>,
    pub places: Vec<Place>,
    pub moves: Vec<Move>,
    pub relations: Vec<Relation>,
}

/// A clause that comes earlier than it is written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Move {
    /// The clause.
    pub clause: ClauseAddress,
    /// What asked for it: the clause of which is `earlier`.
    pub because: Relation,
}

/// One clause that comes before another, and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Relation {
    /// The one that comes first.
    pub earlier: ClauseAddress,
    /// The one that comes after it.
    pub later: ClauseAddress,
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
    /// Implied: the later one lies in the directory of the earlier one.
    LiesIn,
    /// Implied: the directory goes last, after what lies in it.
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
            Self::GoesWithIt => "goes after what lies in it:",
            Self::BelongsTo => "belongs to",
            Self::GoesAfterIts => "goes after what belongs to it:",
        }
    }
}

/// Orders the clauses; each comes after what it needs, what it reacts to, and what its thing lies in or belongs to.
///
/// # Errors
///
/// Returns the circle, printed with its places, if there is one.
pub(super) fn in_order(drafts: Vec<Draft>) -> Result<Ordered, Finding> {
    let before = predecessors(&drafts);
    let mut marks = vec![Mark::Untouched; drafts.len()];
    let mut order = Vec::with_capacity(drafts.len());
    let mut asked = Vec::new();
    for at in 0..drafts.len() {
        visit(at, &before, &mut marks, &mut order, &mut asked).map_err(|circle| circle_finding(&drafts, &circle))?;
    }
    let relation = |earlier: usize, later: usize, why: Why| Relation {
        earlier: drafts[earlier].clause.address.clone(),
        later: drafts[later].clause.address.clone(),
        why,
    };
    let moves = asked
        .iter()
        .filter(|(moved, by, _)| moved > by)
        .map(|(moved, by, why)| Move { clause: drafts[*moved].clause.address.clone(), because: relation(*moved, *by, *why) })
        .collect();
    let relations = before.iter().enumerate().flat_map(|(later, earlier)| earlier.iter().map(move |(earlier, why)| (*earlier, later, *why)));
    let relations = relations.map(|(earlier, later, why)| relation(earlier, later, why)).collect();
    let mut clauses: Vec<Option<(Clause, Place)>> = drafts.into_iter().map(|draft| Some((draft.clause, draft.place))).collect();
    let (clauses, places) = order.into_iter().filter_map(|at| clauses[at].take()).unzip();
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
    asked: &mut Vec<(usize, usize, Why)>,
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
                asked.push((predecessor, at, why));
                path.push((predecessor, 0));
            }
        }
    }
    Ok(())
}

/// Returns what comes before each clause.
fn predecessors(drafts: &[Draft]) -> Predecessors {
    let by_address: HashMap<&ClauseAddress, usize> = drafts.iter().enumerate().map(|(at, draft)| (&draft.clause.address, at)).collect();
    let by_path: HashMap<&str, usize> = drafts.iter().enumerate().filter_map(|(at, draft)| Some((path_of(&draft.clause)?, at))).collect();
    let said = |draft: &Draft| {
        let needs = draft.clause.needs.iter().map(|address| (address, Why::Needs));
        let reacts = draft.clause.reacts_to.iter().map(|address| (address, Why::ReactsTo));
        needs.chain(reacts).filter_map(|(address, why)| Some((*by_address.get(address)?, why))).collect::<Vec<_>>()
    };
    let mut before: Predecessors = drafts.iter().map(said).collect();
    let outright = before.clone();
    for (at, draft) in drafts.iter().enumerate() {
        for (earlier, later, why) in implied(at, &draft.clause, drafts, &by_address, &by_path) {
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

/// Returns (earlier, later, why) that follow from what the clauses keep.
fn implied(
    at: usize,
    clause: &Clause,
    drafts: &[Draft],
    by_address: &HashMap<&ClauseAddress, usize>,
    by_path: &HashMap<&str, usize>,
) -> Vec<(usize, usize, Why)> {
    let mut relations = Vec::new();
    if let Some(path) = path_of(clause) {
        let mut parent = path.rsplit_once('/').map_or("", |(parent, _)| parent);
        while !parent.is_empty() {
            if let Some(&holder) = by_path.get(parent) {
                let removed = is_gone(&drafts[holder].clause);
                relations.push(if removed { (at, holder, Why::GoesWithIt) } else { (holder, at, Why::LiesIn) });
                break;
            }
            parent = parent.rsplit_once('/').map_or("", |(parent, _)| parent);
        }
    }
    let mut belongs = |kind: &str, name: Option<&str>| {
        if let Some(&other) = name.and_then(|name| ClauseAddress::parse(&format!("{kind}:{name}")).ok()).and_then(|address| by_address.get(&address))
        {
            let removed = is_gone(&drafts[other].clause);
            relations.push(if removed { (at, other, Why::GoesAfterIts) } else { (other, at, Why::BelongsTo) });
        }
    };
    belongs("account", clause.text("owner"));
    belongs("account_group", clause.text("group"));
    belongs("account_group", clause.text("primary_group"));
    if clause.address.kind() == "account" {
        clause.list("groups").into_iter().for_each(|group| belongs("account_group", Some(group)));
    }
    belongs("account", clause.text("account"));
    relations
}

fn circle_finding(drafts: &[Draft], circle: &[usize]) -> Finding {
    let names: Vec<&str> = circle.iter().chain(circle.first()).map(|at| drafts[*at].clause.address.as_str()).collect();
    let first = &drafts[circle[0]];
    let mut finding = Finding::error(Code::Circle, first.place.clone(), format!("clauses wait for each other: {}", names.join(" after ")))
        .hint("take one of these needs or reactions away");
    for at in &circle[1..] {
        finding = finding.related(drafts[*at].clause.address.as_str(), drafts[*at].place.clone());
    }
    finding
}
