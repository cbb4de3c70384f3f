//! The order in which clauses are handled: as written, moved only as far as relations ask.

use super::clause::Clause;
use super::instantiate::{Draft, is_gone};
use super::resolve::path_of;
use crate::address::ClauseAddress;
use crate::kit::{Code, Finding};
use std::collections::HashMap;

/// Orders the clauses; each comes after what it needs, what it reacts to, and what its thing lies in or belongs to.
///
/// # Errors
///
/// Returns the circle, printed with its places, if there is one.
pub(super) fn in_order(drafts: Vec<Draft>) -> Result<Vec<Clause>, Finding> {
    let before = predecessors(&drafts);
    let mut marks = vec![Mark::Untouched; drafts.len()];
    let mut order = Vec::with_capacity(drafts.len());
    for at in 0..drafts.len() {
        visit(at, &before, &mut marks, &mut order).map_err(|circle| circle_finding(&drafts, &circle))?;
    }
    let mut clauses: Vec<Option<Clause>> = drafts.into_iter().map(|draft| Some(draft.clause)).collect();
    Ok(order.into_iter().filter_map(|at| clauses[at].take()).collect())
}

#[derive(Clone, Copy, PartialEq)]
enum Mark {
    Untouched,
    Open,
    Done,
}

/// Puts a clause into the order after its predecessors. Kept without recursion: chains may be long.
fn visit(start: usize, before: &[Vec<usize>], marks: &mut [Mark], order: &mut Vec<usize>) -> Result<(), Vec<usize>> {
    let mut path: Vec<(usize, usize)> = Vec::new();
    if marks[start] == Mark::Untouched {
        marks[start] = Mark::Open;
        path.push((start, 0));
    }
    while let Some((at, next)) = path.last().copied() {
        let Some(&predecessor) = before[at].get(next) else {
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
                path.push((predecessor, 0));
            }
        }
    }
    Ok(())
}

fn predecessors(drafts: &[Draft]) -> Vec<Vec<usize>> {
    let by_address: HashMap<&ClauseAddress, usize> = drafts.iter().enumerate().map(|(at, draft)| (&draft.clause.address, at)).collect();
    let by_path: HashMap<&str, usize> = drafts.iter().enumerate().filter_map(|(at, draft)| Some((path_of(&draft.clause)?, at))).collect();
    let mut before: Vec<Vec<usize>> = drafts
        .iter()
        .map(|draft| draft.clause.needs.iter().chain(&draft.clause.reacts_to).filter_map(|address| by_address.get(address).copied()).collect())
        .collect();
    for (at, draft) in drafts.iter().enumerate() {
        for (earlier, later) in implied(at, &draft.clause, drafts, &by_address, &by_path) {
            // What is said outright counts more than what is implied.
            if earlier != later && !before[later].contains(&earlier) && !before[earlier].contains(&later) {
                before[later].push(earlier);
            }
        }
    }
    before
}

/// Returns pairs (earlier, later) that follow from what the clauses keep.
fn implied(
    at: usize,
    clause: &Clause,
    drafts: &[Draft],
    by_address: &HashMap<&ClauseAddress, usize>,
    by_path: &HashMap<&str, usize>,
) -> Vec<(usize, usize)> {
    let mut pairs = Vec::new();
    if let Some(path) = path_of(clause) {
        let mut parent = path.rsplit_once('/').map_or("", |(parent, _)| parent);
        while !parent.is_empty() {
            if let Some(&holder) = by_path.get(parent) {
                let removed = is_gone(&drafts[holder].clause);
                pairs.push(if removed { (at, holder) } else { (holder, at) });
                break;
            }
            parent = parent.rsplit_once('/').map_or("", |(parent, _)| parent);
        }
    }
    let mut belongs = |kind: &str, name: Option<&str>| {
        if let Some(&other) = name.and_then(|name| ClauseAddress::parse(&format!("{kind}:{name}")).ok()).and_then(|address| by_address.get(&address))
        {
            pairs.push(if is_gone(&drafts[other].clause) { (at, other) } else { (other, at) });
        }
    };
    belongs("account", clause.text("owner"));
    belongs("account_group", clause.text("group"));
    belongs("account_group", clause.text("primary_group"));
    if clause.address.kind() == "account" {
        clause.list("groups").into_iter().for_each(|group| belongs("account_group", Some(group)));
    }
    belongs("account", clause.text("account"));
    pairs
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
