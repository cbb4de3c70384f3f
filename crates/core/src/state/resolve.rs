//! Resolving: assigned baselines and one node in, its effective state out.

use super::assigned::Assigned;
use super::clause::{Clause, EffectiveState};
use super::instantiate::{Instantiated, Instantiation};
use super::order::Relation;
use super::own_values::{self, OwnProperties, ReplacedValue};
use super::{claims, include, order, reference};
use crate::digest::{Digest, DigestKey};
use crate::document::{Code, Finding, Place};
use crate::filter::{NodeInputs, NodeView};
use crate::kit::{Baseline, Gone, Kit};
use crate::param::{self, LayerValue, ParameterType, ParameterValue};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Whether conditions are inputs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Conditions {
    /// They decide.
    Decide,
    /// All count as true, so that a check sees every clause.
    CountAsTrue,
}

/// What no clause may stop, remove or alter.
#[derive(Debug, Clone, Default)]
pub struct Untouchable {
    /// What it is, in words: `the agent itself`.
    pub what: &'static str,
    /// Its folders and programs.
    pub paths: Vec<String>,
    /// Its packages, services and accounts.
    pub names: Vec<String>,
    /// How the names of more of its packages and services begin.
    pub name_starts: Vec<String>,
}

/// All that resolving needs.
pub struct ResolveInput<'a> {
    /// The baselines, in order; what they include is found in their own kit and in `kits`.
    pub assigned: Vec<Assigned<'a>>,
    /// The other kits, one release of each.
    pub kits: &'a [&'a Kit],
    /// Values for parameters, by `KIT/BASELINE.PARAM`, the lowest layer first; those of other baselines do not count.
    pub given: &'a BTreeMap<String, Vec<LayerValue>>,
    /// Values of single properties that the node is given by itself.
    pub own: &'a OwnProperties,
    /// The node.
    pub view: &'a NodeView,
    /// The key for what is concealed.
    pub key: &'a DigestKey,
    /// Whether conditions are inputs.
    pub conditions: Conditions,
    /// What no clause may touch.
    pub untouchable: &'a [Untouchable],
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
#[derive(Debug, Default)]
pub struct Resolved {
    /// The state.
    pub state: EffectiveState,
    /// The contents that it refers to, by digest; shared with who looks for them.
    pub contents: Arc<BTreeMap<Digest, Arc<[u8]>>>,
    /// The clauses that do not count here.
    pub excluded: Vec<Excluded>,
    /// The parameters' values, by `KIT/BASELINE.PARAM`, with the layer each comes from.
    pub parameters: BTreeMap<String, ParameterValue>,
    /// Values that the node has by itself, with what they replaced; those of clauses that it does not have are not among them.
    pub replaced: Vec<ReplacedValue>,
    /// The position of each clause of the state in its document.
    pub places: Vec<Place>,
    /// What moved clauses: the earlier one is written after the later one.
    pub moves: Vec<Relation>,
    /// All that orders two clauses.
    pub relations: Vec<Relation>,
}

/// Computes a node's effective state.
///
/// # Errors
///
/// Returns everything that keeps it from being computed, each with its place: conflicts name both.
pub fn resolve(input: &ResolveInput<'_>) -> Result<Resolved, Vec<Finding>> {
    resolve_noting(input, &mut NodeInputs::default())
}

/// Computes a node's effective state, and adds to `inputs` what was inputs of the node: all that says the same of it comes to
/// the same, errors too.
///
/// # Errors
///
/// Returns everything that keeps it from being computed, each with its place: conflicts name both.
pub fn resolve_noting(input: &ResolveInput<'_>, inputs: &mut NodeInputs) -> Result<Resolved, Vec<Finding>> {
    let mut findings = Vec::new();
    let mut parameters = BTreeMap::new();
    let assigned = include::with_includes(&input.assigned, input.kits, input.conditions, &mut findings);
    let mut drafts: Vec<Instantiated> =
        Vec::with_capacity(assigned.iter().map(|assigned| assigned.baseline.clauses.len()).sum());
    for assigned in &assigned {
        let (kit, baseline) = (assigned.kit, assigned.baseline);
        let in_kit = |errors: Vec<Finding>| errors.into_iter().map(|error| error.in_kit(&kit.name));
        let prefix = format!("{}/{}.", kit.name, baseline.name.value);
        let values =
            match param::resolve(&baseline.parameters, &given_to(input.given, &prefix), &baseline.name.place)
            {
                Ok(values) => values,
                Err(errors) => {
                    findings.extend(in_kit(errors));
                    continue;
                }
            };
        if input.conditions == Conditions::Decide {
            findings.extend(in_kit(secrets_that_are_not_there(baseline, &values)));
        }
        let mut instantiation = Instantiation::new(assigned, input, &param::plain(&values));
        for document in &baseline.clauses {
            match instantiation.clause(document) {
                Ok(concrete) => drafts.extend(concrete),
                Err(errors) => findings.extend(in_kit(errors)),
            }
        }
        inputs.add(&instantiation.inputs());
        parameters.extend(values.into_iter().map(|(name, value)| (format!("{prefix}{name}"), value)));
    }
    let left_out: Vec<Instantiated> = drafts.extract_if(.., |draft| draft.excluded_by.is_some()).collect();
    let mut merged = claims::merge(drafts, input.conditions, &mut findings);
    let replaced = own_values::lay_over(input.own, &mut merged, &mut findings);
    for draft in left_out.iter().chain(&merged) {
        findings.extend(input.untouchable.iter().filter_map(|untouchable| touches(draft, untouchable)));
    }
    let contents: BTreeMap<_, _> =
        merged.iter_mut().flat_map(|draft| std::mem::take(&mut draft.contents)).collect();
    claims::parts_of_whole(&merged, input.conditions, &mut findings);
    claims::tell_apart(&merged, input.conditions, &mut findings);
    reference::connect(&mut merged, &left_out, &mut findings);
    if !findings.is_empty() {
        return Err(findings);
    }
    let excluded = left_out
        .into_iter()
        .filter_map(|draft| Some(Excluded { address: draft.clause.address, condition: draft.excluded_by? }))
        .collect();
    know_entries(&mut merged);
    // A check looks at what comes out, and needs no name for it.
    let is_named = input.conditions == Conditions::Decide;
    for draft in merged
        .iter_mut()
        .filter(|draft| is_named && (!draft.clause.wanted.is_named() || !draft.clause.concealed.is_empty()))
    {
        draft.clause.wanted = draft.clause.wanted_digest(input.key);
    }
    let order::Ordered { clauses, places, moves, relations } =
        order::in_order(merged).map_err(|circle| vec![circle])?;
    let state =
        if is_named { EffectiveState::new(clauses, input.key) } else { EffectiveState::unnamed(clauses) };
    Ok(Resolved {
        state,
        contents: Arc::new(contents),
        excluded,
        parameters,
        replaced,
        places,
        moves,
        relations,
    })
}

fn given_to(given: &BTreeMap<String, Vec<LayerValue>>, prefix: &str) -> BTreeMap<String, Vec<LayerValue>> {
    let from_prefix = given.range::<str, _>((std::ops::Bound::Included(prefix), std::ops::Bound::Unbounded));
    from_prefix
        .map_while(|(name, layers)| Some((name.strip_prefix(prefix)?.to_owned(), layers.clone())))
        .collect()
}

/// Values of secrets are kept by no server of this version: what asks for one cannot be corrected.
fn secrets_that_are_not_there(
    baseline: &Baseline,
    values: &BTreeMap<String, ParameterValue>,
) -> Vec<Finding> {
    let secrets =
        baseline.parameters.iter().filter(|parameter| parameter.value_type == ParameterType::Secret);
    let given = secrets.filter_map(|parameter| Some((parameter, values.get(&parameter.name.value)?)));
    given
        .map(|(parameter, value)| {
            let name = value.value.as_str().unwrap_or_default();
            Finding::error(
                Code::UnknownSecret,
                parameter.name.place.clone(),
                format!("there is no secret `{name}` (from {})", value.from.words()),
            )
            .hint("this version of Constans has no secret store yet; remove the value of the parameter")
        })
        .collect()
}

/// Tells each directory that keeps only what is known which of its entries clauses name.
fn know_entries(drafts: &mut [Instantiated]) {
    if drafts.iter().all(|draft| draft.clause.flag("only_known") != Some(true)) {
        return;
    }
    let paths: Vec<String> =
        drafts.iter().filter_map(|draft| path_of(&draft.clause).map(str::to_owned)).collect();
    for draft in drafts {
        if draft.clause.flag("only_known") != Some(true) {
            continue;
        }
        let below = format!("{}/", draft.clause.name().trim_end_matches('/'));
        let mut known: Vec<String> = paths
            .iter()
            .filter_map(|path| path.strip_prefix(&below))
            .filter_map(|rest| rest.split('/').next())
            .map(str::to_owned)
            .collect();
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

fn touches(draft: &Instantiated, untouchable: &Untouchable) -> Option<Finding> {
    let clause = &draft.clause;
    let within = |inner: &str, outer: &str| {
        inner == outer
            || inner.strip_prefix(outer.trim_end_matches('/')).is_some_and(|rest| rest.starts_with('/'))
    };
    let touches = match path_of(clause) {
        Some(path) => untouchable.paths.iter().any(|own| {
            within(path, own)
                || (within(own, path) && (clause.gone != Gone::No || clause.address.kind() != "directory"))
        }),
        None => {
            let begins = |own: &String| clause.name().starts_with(own.as_str());
            (untouchable.names.iter().any(|own| own == clause.name())
                || untouchable.name_starts.iter().any(begins))
                && (clause.gone != Gone::No
                    || clause.flag("running") == Some(false)
                    || clause.flag("enabled") == Some(false))
        }
    };
    touches.then(|| {
        Finding::error(
            Code::TouchesAgent,
            draft.place.clone(),
            format!("{} would stop, remove or change {}", clause.address, untouchable.what),
        )
        .hint(format!("{} cannot be managed by clauses; remove this one", untouchable.what))
    })
}

/// Returns the place of a draft for findings about two of them.
pub(super) fn place(draft: &Instantiated) -> Place {
    draft.place.clone()
}
