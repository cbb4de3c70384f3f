//! Resolving: assigned baselines and one node in, its effective state out.

use super::clause::{Clause, EffectiveState};
use super::instantiate::{Draft, Instantiation};
use super::{claims, order, reference};
use crate::digest::{Digest, DigestKey};
use crate::filter::NodeView;
use crate::kit::{Baseline, Finding, Gone, Kit, OnDrift, OnRollout, Place};
use crate::param::{self, Given, ParameterValue};
use std::collections::BTreeMap;

/// A baseline that is wanted of the node.
pub struct Assigned<'a> {
    /// The kit that it belongs to.
    pub kit: &'a Kit,
    /// The baseline.
    pub baseline: &'a Baseline,
    /// The assignment's own switch for drift.
    pub on_drift: Option<OnDrift>,
    /// The assignment's own switch for what is newly wanted.
    pub on_rollout: Option<OnRollout>,
    /// Values for its parameters, by name, the lowest layer first.
    pub given: BTreeMap<String, Vec<Given>>,
}

/// Whether conditions are asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Conditions {
    /// They decide.
    Decide,
    /// All count as true, so that a check sees every clause.
    CountAsTrue,
}

/// What no clause may stop, remove or alter: the agent itself.
#[derive(Debug, Clone, Default)]
pub struct Untouchable {
    /// Folders and programs of the agent.
    pub paths: Vec<String>,
    /// Its packages and services.
    pub names: Vec<String>,
}

/// All that resolving needs.
pub struct ResolveInput<'a> {
    /// The baselines, in order.
    pub assigned: Vec<Assigned<'a>>,
    /// The node.
    pub view: &'a NodeView,
    /// The key for what is concealed.
    pub key: &'a DigestKey,
    /// Whether conditions are asked.
    pub conditions: Conditions,
    /// What no clause may touch.
    pub untouchable: &'a Untouchable,
}

/// A clause that its condition excludes on this node.
#[derive(Debug, Clone)]
pub struct Excluded {
    /// Its address.
    pub address: crate::address::ClauseAddress,
    /// The condition.
    pub condition: String,
}

/// A node's effective state and what belongs to it.
#[derive(Debug)]
pub struct Resolved {
    /// The state.
    pub state: EffectiveState,
    /// The contents that it refers to, by digest.
    pub contents: BTreeMap<Digest, Vec<u8>>,
    /// The clauses that do not count here.
    pub excluded: Vec<Excluded>,
    /// The parameters' values, by `KIT/BASELINE.PARAM`, with the layer each comes from.
    pub parameters: BTreeMap<String, ParameterValue>,
}

/// Computes a node's effective state.
///
/// # Errors
///
/// Returns everything that keeps it from being computed, each with its place: conflicts name both.
pub fn resolve(input: &ResolveInput<'_>) -> Result<Resolved, Vec<Finding>> {
    let mut findings = Vec::new();
    let mut parameters = BTreeMap::new();
    let mut drafts: Vec<Draft> = Vec::new();
    let mut contents = BTreeMap::new();
    for assigned in &input.assigned {
        let baseline = assigned.baseline;
        let values = match param::resolve(&baseline.parameters, &assigned.given, &baseline.name.place) {
            Ok(values) => values,
            Err(errors) => {
                findings.extend(errors);
                continue;
            }
        };
        let mut instantiation = Instantiation::new(assigned, input, &param::plain(&values), &mut contents);
        for document in &baseline.clauses {
            match instantiation.clause(document) {
                Ok(draft) => drafts.push(draft),
                Err(errors) => findings.extend(errors),
            }
        }
        parameters.extend(values.into_iter().map(|(name, value)| (format!("{}/{}.{name}", assigned.kit.name, baseline.name.value), value)));
    }
    for draft in &drafts {
        findings.extend(touches_agent(draft, input.untouchable));
    }
    let (included, left_out): (Vec<Draft>, Vec<Draft>) = drafts.into_iter().partition(|draft| draft.excluded_by.is_none());
    let mut merged = claims::merge(included, input.conditions, &mut findings);
    reference::connect(&mut merged, &left_out, &mut findings);
    if !findings.is_empty() {
        return Err(findings);
    }
    let excluded = left_out.into_iter().filter_map(|draft| Some(Excluded { address: draft.clause.address, condition: draft.excluded_by? })).collect();
    know_entries(&mut merged);
    for draft in &mut merged {
        draft.clause.wanted = draft.clause.wanted_digest(input.key);
    }
    let clauses = order::in_order(merged).map_err(|circle| vec![circle])?;
    Ok(Resolved { state: EffectiveState::new(clauses, input.key), contents, excluded, parameters })
}

/// Tells each directory that keeps only what is known which of its entries clauses name.
fn know_entries(drafts: &mut [Draft]) {
    let paths: Vec<String> = drafts.iter().filter_map(|draft| path_of(&draft.clause).map(str::to_owned)).collect();
    for draft in drafts {
        if draft.clause.flag("only_known") != Some(true) {
            continue;
        }
        let below = format!("{}/", draft.clause.name().trim_end_matches('/'));
        let mut known: Vec<String> =
            paths.iter().filter_map(|path| path.strip_prefix(&below)).filter_map(|rest| rest.split('/').next()).map(str::to_owned).collect();
        known.sort();
        known.dedup();
        draft.clause.properties.insert("known_entries".into(), known.into());
    }
}

pub(super) fn path_of(clause: &Clause) -> Option<&str> {
    match &clause.claim {
        crate::kind::Claim::Path(path) => Some(path),
        _ => None,
    }
}

fn touches_agent(draft: &Draft, untouchable: &Untouchable) -> Option<Finding> {
    let clause = &draft.clause;
    let within =
        |inner: &str, outer: &str| inner == outer || inner.strip_prefix(outer.trim_end_matches('/')).is_some_and(|rest| rest.starts_with('/'));
    let touches = match path_of(clause) {
        Some(path) => untouchable
            .paths
            .iter()
            .any(|own| within(path, own) || (within(own, path) && (clause.gone != Gone::No || clause.address.kind() != "directory"))),
        None => {
            untouchable.names.iter().any(|own| own == clause.name())
                && (clause.gone != Gone::No || clause.flag("running") == Some(false) || clause.flag("enabled") == Some(false))
        }
    };
    touches.then(|| {
        Finding::error(
            crate::kit::Code::TouchesAgent,
            draft.place.clone(),
            format!("{} would stop, remove or alter the agent itself", clause.address),
        )
        .hint("the agent is not kept by clauses; take this one out")
    })
}

/// Returns the place of a draft for findings about two of them.
pub(super) fn place(draft: &Draft) -> Place {
    draft.place.clone()
}
