//! Resolving: the desired state of nodes, computed when something changed and not when it asks.

use super::documents::{Documents, Served, read_groups, read_served, stages_of};
use crate::here::Here;
use crate::own_machine::{OwnMachine, of_agent};
use crate::problem::ApiError;
use crate::store::change::NewChangeNode;
use crate::store::effective_state::{self, NewClause};
use crate::store::release;
use crate::store::wanted::{self, NewPlacement, NodeViewRow};
use constans_core::change::DocumentKey;
use constans_core::digest::{Digest, DigestKey, of_value};
use constans_core::filter::{InputCache, NodeInputs, NodeView};
use constans_core::group::{AssignedBy, Group, NodeOwn, Plan, Planner, plan};
use constans_core::kit::Kit;
use constans_core::node_status::overdue_after;
use constans_core::state::{
    Assigned, Clause, Conditions, EffectiveState, ResolveInput, Resolved, Untouchable, resolve_noting,
    with_included,
};
use constans_folder::on_large_stack;
use constans_wire::check_in::StateSources;
use serde::Deserialize as _;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use sqlx::PgConnection;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::num::NonZero;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// The schemes of the digests of what nodes have in common.
const PLACEMENT_SCHEME: &str = "p1";
const SETTINGS_SCHEME: &str = "g1";
const SOURCES_SCHEME: &str = "o1";

/// Resolves nodes by documents, and stores what they come to once for the whole fleet.
pub struct DocumentResolver {
    inputs: Arc<Inputs>,
    /// The ids of what is stored, by digest.
    clauses: HashMap<String, i64>,
    states: HashMap<String, i64>,
    placements: HashMap<String, i64>,
    sources: HashMap<String, i64>,
}

/// Everything that resolving depends on besides the nodes.
struct Inputs {
    planner: Planner<Arc<Planned>>,
    served: Served,
    key: DigestKey,
    machine: OwnMachine,
    seen: Mutex<Seen>,
}

/// What is stored already, or handed over to be.
#[derive(Default)]
struct Seen {
    states: HashSet<String>,
    clauses: HashSet<Digest>,
    contents: HashSet<String>,
}

/// What nodes of the same groups have in common, as it is stored too.
struct Planned {
    plan: Plan,
    digest: String,
    groups: Value,
    assignments: Value,
    settings: Value,
    settings_digest: String,
    /// What their states came to.
    resolved: Mutex<InputCache<Result<Arc<Made>, String>>>,
}

/// The desired state of one node.
struct ResolvedNode {
    planned: Arc<Planned>,
    result: Result<Arc<Made>, String>,
    /// The state itself, with the first node that has it.
    new: Option<NewState>,
}

/// A resolved state.
struct Made {
    digest: String,
    releases: Vec<String>,
    sources: Value,
    sources_digest: String,
}

/// A state ready to be stored, with what no state before it had.
struct NewState {
    /// The digests of its clauses, in their order.
    clauses: Vec<Digest>,
    new_clauses: Vec<NewClause>,
    new_contents: Vec<(String, Arc<[u8]>, bool)>,
}

impl DocumentResolver {
    /// Reads what resolving by these documents depends on.
    ///
    /// # Errors
    ///
    /// Returns why groups or kits could not be read.
    pub async fn new(db: &mut PgConnection, here: &Here, documents: &Documents) -> Result<Self, ApiError> {
        let groups = documents
            .iter()
            .filter(|(key, _)| matches!(key, DocumentKey::Group(_)))
            .map(|(_, body)| body.clone())
            .collect();
        let groups = read_groups(groups)?;
        let served = read_served(db, here, documents).await?;
        let stages = stages_of(documents.get(&DocumentKey::Stages));
        // Reading filters takes time and a deep stack.
        let planner = tokio::task::spawn_blocking(|| on_large_stack(|| Planner::new(groups, stages))).await;
        let planner = planner.map_err(|error| ApiError::BrokeOff("reading filters", error))?;
        let inputs = Inputs {
            planner,
            served,
            key: here.key.clone(),
            machine: here.machine.clone(),
            seen: Mutex::default(),
        };
        let (clauses, states, placements, sources) = <_>::default();
        Ok(Self { inputs: Arc::new(inputs), clauses, states, placements, sources })
    }

    /// Resolves nodes and stores the states, placements and sources that are new. Returns how each is to be. After an error in
    /// this transaction, or one that is rolled back, another resolver is needed: this one assumes as stored what is not.
    ///
    /// # Errors
    ///
    /// Returns why something could not be stored.
    pub async fn resolve(
        &mut self,
        db: &mut PgConnection,
        nodes: Vec<NodeViewRow>,
    ) -> Result<Vec<NewChangeNode>, ApiError> {
        let inputs = self.inputs.clone();
        let computed = tokio::task::spawn_blocking(move || {
            let outcomes = compute(&inputs, &nodes);
            (nodes, outcomes)
        });
        let (nodes, outcomes) =
            computed.await.map_err(|error| ApiError::BrokeOff("resolving states", error))?;
        self.store_states(&mut *db, &outcomes).await?;
        self.store_placements(&mut *db, &outcomes).await?;
        self.store_sources(&mut *db, &outcomes).await?;
        nodes.iter().zip(&outcomes).map(|(node, outcome)| self.row(node, outcome)).collect()
    }

    fn row(&self, before: &NodeViewRow, outcome: &ResolvedNode) -> Result<NewChangeNode, ApiError> {
        let known = |ids: &HashMap<String, i64>, digest: &str| {
            ids.get(digest).copied().ok_or_else(|| {
                ApiError::stored(format!("result {digest}"), &"it is missing after it was stored")
            })
        };
        let placement = known(&self.placements, &outcome.planned.digest)?;
        let has_other_settings = before.settings_digest.as_ref() != Some(&outcome.planned.settings_digest);
        let (state, sources, unusable) = match &outcome.result {
            Ok(made) => (
                Some(known(&self.states, &made.digest)?),
                Some(known(&self.sources, &made.sources_digest)?),
                None,
            ),
            // It keeps its last good one, and gets its mode and settings all the same.
            Err(because) => (before.state, before.sources, Some(because.clone())),
        };
        let is_new = state != before.state || has_other_settings;
        let is_altered = is_new
            || Some(placement) != before.placement
            || sources != before.sources
            || unusable != before.unusable;
        Ok(NewChangeNode {
            node: before.id,
            is_new,
            is_altered,
            state,
            placement,
            sources,
            unusable,
            before_state: before.state,
            before_placement: before.placement,
        })
    }

    /// Stores the states that are new, with the clauses and contents that are.
    async fn store_states(
        &mut self,
        db: &mut PgConnection,
        outcomes: &[ResolvedNode],
    ) -> Result<(), ApiError> {
        let made = || {
            outcomes
                .iter()
                .filter_map(|outcome| Some((&**outcome.result.as_ref().ok()?, outcome.new.as_ref())))
        };
        let new: Vec<(&Made, &NewState)> = made().filter_map(|(made, new)| Some((made, new?))).collect();
        for (name, bytes, sealed) in new.iter().flat_map(|(_, new)| &new.new_contents) {
            release::store_content(&mut *db, name, bytes, *sealed).await?;
        }
        let new_clauses: Vec<_> = new.iter().flat_map(|(_, new)| &new.new_clauses).collect();
        if !new_clauses.is_empty() {
            effective_state::store_clauses(&mut *db, &new_clauses).await?;
        }
        let named = new.iter().flat_map(|(_, new)| &new.clauses).map(Digest::as_str);
        let unknown: HashSet<&str> = named.filter(|digest| !self.clauses.contains_key(*digest)).collect();
        if !unknown.is_empty() {
            self.clauses.extend(
                effective_state::clause_ids(&mut *db, &unknown.into_iter().collect::<Vec<_>>()).await?,
            );
        }
        for (made, new) in new {
            let clauses: Option<Vec<i64>> =
                new.clauses.iter().map(|digest| self.clauses.get(digest.as_str()).copied()).collect();
            let clauses = clauses.ok_or_else(|| {
                ApiError::stored(format!("state {}", made.digest), &"one of its clauses is missing")
            })?;
            effective_state::store(&mut *db, &made.digest, &clauses, &made.releases).await?;
        }
        let unknown: HashSet<&str> = made()
            .map(|(made, _)| made.digest.as_str())
            .filter(|digest| !self.states.contains_key(*digest))
            .collect();
        if !unknown.is_empty() {
            self.states.extend(effective_state::ids(db, &unknown.into_iter().collect::<Vec<_>>()).await?);
        }
        Ok(())
    }

    async fn store_placements(
        &mut self,
        db: &mut PgConnection,
        outcomes: &[ResolvedNode],
    ) -> Result<(), ApiError> {
        let unknown: BTreeMap<&str, &Planned> = outcomes
            .iter()
            .map(|outcome| (outcome.planned.digest.as_str(), &*outcome.planned))
            .filter(|(digest, _)| !self.placements.contains_key(*digest))
            .collect();
        if !unknown.is_empty() {
            let new: Vec<NewPlacement<'_>> = unknown.into_values().map(Planned::as_new).collect();
            self.placements.extend(wanted::placement_ids(db, &new).await?);
        }
        Ok(())
    }

    async fn store_sources(
        &mut self,
        db: &mut PgConnection,
        outcomes: &[ResolvedNode],
    ) -> Result<(), ApiError> {
        let made = outcomes.iter().filter_map(|outcome| outcome.result.as_ref().ok());
        let unknown: BTreeMap<&str, &Value> = made
            .map(|made| (made.sources_digest.as_str(), &made.sources))
            .filter(|(digest, _)| !self.sources.contains_key(*digest))
            .collect();
        if !unknown.is_empty() {
            self.sources.extend(wanted::sources_ids(db, &unknown.into_iter().collect::<Vec<_>>()).await?);
        }
        Ok(())
    }
}

/// Resolves on as many threads as the machine has.
fn compute(inputs: &Inputs, nodes: &[NodeViewRow]) -> Vec<ResolvedNode> {
    let threads = std::thread::available_parallelism().map_or(1, NonZero::get);
    let parts = nodes.chunks(nodes.len().div_ceil(threads).max(1));
    std::thread::scope(|scope| {
        let all: Vec<_> = parts
            .map(|part| {
                scope.spawn(|| {
                    on_large_stack(|| part.iter().map(|node| compute_node(inputs, node)).collect::<Vec<_>>())
                })
            })
            .collect();
        all.into_iter()
            .flat_map(|part| part.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
            .collect()
    })
}

/// Returns what conditions and templates may ask of a node.
pub fn view_of(node: &NodeViewRow) -> NodeView {
    NodeView { name: node.name.clone(), labels: read(&node.labels), about: read(&node.about) }
}

/// Returns what a node is given by itself.
///
/// # Errors
///
/// Returns that it cannot be read: without it the node would be given something else.
pub fn own_of(node: &NodeViewRow) -> Result<NodeOwn, String> {
    NodeOwn::deserialize(&node.own)
        .map_err(|error| format!("what {} is given by itself cannot be read: {error}", node.name))
}

fn read<T: DeserializeOwned + Default>(value: &Value) -> T {
    T::deserialize(value).unwrap_or_default()
}

fn compute_node(inputs: &Inputs, node: &NodeViewRow) -> ResolvedNode {
    let view = view_of(node);
    let planned = own_of(node).and_then(|own| {
        let make = |plan| Arc::new(Planned::new(plan, &inputs.served));
        inputs.planner.plan(&view, &own, make).map_err(|error| error.to_string())
    });
    match planned {
        Err(error) => ResolvedNode {
            planned: Arc::new(Planned::new(Plan::default(), &inputs.served)),
            result: Err(error),
            new: None,
        },
        Ok(planned) => {
            let (result, new) = if node.hosts_server {
                // What it must not touch is its own: no other node's result is its, nor its theirs.
                let made = make(
                    inputs,
                    &view,
                    &planned.plan,
                    &inputs.machine.untouchable,
                    &mut NodeInputs::default(),
                );
                made.map_or_else(|because| (Err(because), None), |(made, new)| (Ok(Arc::new(made)), new))
            } else {
                let known = planned.known().find(&view);
                known.map_or_else(|| make_and_keep(inputs, &view, &planned), |known| (known, None))
            };
            ResolvedNode { planned, result, new }
        }
    }
}

impl Inputs {
    fn seen(&self) -> MutexGuard<'_, Seen> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Planned {
    fn new(plan: Plan, served: &Served) -> Self {
        let (groups, settings) = (json!(plan.groups), json!(plan.settings));
        let assignments = json!(assignments_of(&plan, served));
        let settings_digest = of_value(SETTINGS_SCHEME, &settings).as_str().to_owned();
        let digest =
            of_value(PLACEMENT_SCHEME, &(&plan.stage, &groups, &settings, &assignments)).as_str().to_owned();
        Self { plan, digest, groups, assignments, settings, settings_digest, resolved: Mutex::default() }
    }

    fn as_new(&self) -> NewPlacement<'_> {
        NewPlacement {
            digest: &self.digest,
            stage: &self.plan.stage,
            groups: &self.groups,
            assignments: &self.assignments,
            mode: self.settings["mode"].as_str().unwrap_or_default(),
            settings: &self.settings,
            settings_digest: &self.settings_digest,
            overdue_secs: overdue_after(self.plan.settings.longest_between_runs()).as_secs(),
        }
    }

    fn known(&self) -> MutexGuard<'_, InputCache<Result<Arc<Made>, String>>> {
        self.resolved.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn make_and_keep(
    inputs: &Inputs,
    view: &NodeView,
    planned: &Planned,
) -> (Result<Arc<Made>, String>, Option<NewState>) {
    let mut node_inputs = NodeInputs::default();
    let (result, new) = match make(inputs, view, &planned.plan, &[of_agent()], &mut node_inputs) {
        Ok((made, new)) => (Ok(Arc::new(made)), new),
        Err(because) => (Err(because), None),
    };
    planned.known().keep(node_inputs, view, result.clone());
    (result, new)
}

/// Returns which group assigns which baseline, each with all that it includes: group, baseline, those. What its stage does not
/// serve is left out.
fn assignments_of(plan: &Plan, served: &Served) -> Vec<(String, String, Vec<String>)> {
    let Some(versions) = served.versions.get(&plan.stage) else { return Vec::new() };
    let kit = |name: &String| Some(&**served.kits.get(&(name.clone(), versions.get(name)?.clone()))?);
    let kits: Vec<&Kit> = versions.keys().filter_map(kit).collect();
    let included = |one: &AssignedBy| {
        let kit = kit(&one.kit)?;
        let all = with_included(kit, kit.baseline(&one.baseline)?, &kits);
        Some((one.group.clone(), format!("{}/{}", one.kit, one.baseline), all))
    };
    plan.assigned_by.iter().filter_map(included).collect()
}

/// What a node's plan resolves to, with where it comes from.
struct Assembled {
    resolved: Resolved,
    releases: Vec<String>,
    sources: StateSources,
}

fn assemble(
    served: &Served,
    key: &DigestKey,
    view: &NodeView,
    plan: &Plan,
    untouchable: &[Untouchable],
    node_inputs: &mut NodeInputs,
) -> Result<Assembled, String> {
    let none = BTreeMap::new();
    let versions = served.versions.get(&plan.stage).unwrap_or(&none);
    let mut assigned = Vec::new();
    let mut sources = StateSources {
        stage: plan.stage.clone(),
        groups: plan.groups.clone(),
        undecidable: plan.undecidable.clone(),
        settings: plan.settings.clone(),
        ..StateSources::default()
    };
    let mut releases: Vec<String> = Vec::new();
    for assignment in &plan.assignments {
        // What the stage does not serve is left out; the node's plan shows it.
        let Some(version) = versions.get(&assignment.kit) else {
            sources.not_served.push(format!("{}/{}", assignment.kit, assignment.baseline));
            continue;
        };
        sources.baselines.push(format!("{}@{version}/{}", assignment.kit, assignment.baseline));
        let kit = served
            .kits
            .get(&(assignment.kit.clone(), version.clone()))
            .ok_or_else(|| format!("{}@{version} cannot be read", assignment.kit))?;
        let missing = || format!("{}@{version} has no baseline `{}`", assignment.kit, assignment.baseline);
        let baseline = kit.baseline(&assignment.baseline).ok_or_else(missing)?;
        assigned.push(Assigned { kit, baseline, terms: assignment.terms.clone() });
        let release = format!("{}@{version}", assignment.kit);
        if !releases.contains(&release) {
            releases.push(release);
        }
    }
    let kits: Vec<&Kit> = versions
        .iter()
        .filter_map(|(kit, version)| served.kits.get(&(kit.clone(), version.clone())).map(Arc::as_ref))
        .collect();
    let input = ResolveInput {
        assigned,
        kits: &kits,
        given: &plan.given,
        own: &plan.own,
        view,
        key,
        conditions: Conditions::Decide,
        untouchable,
    };
    let resolved = resolve_noting(&input, node_inputs).map_err(|findings| {
        findings
            .iter()
            .map(|finding| format!("{} ({})", finding.message, finding.place))
            .collect::<Vec<_>>()
            .join("; ")
    })?;
    Ok(Assembled { resolved, releases, sources })
}

/// Resolves one node by these groups and stores nothing. It needs a deep stack.
///
/// # Errors
///
/// Returns why the node cannot be resolved.
pub fn resolve_only(
    served: &Served,
    key: &DigestKey,
    view: &NodeView,
    own: &NodeOwn,
    groups: &[Group],
    stages: &[String],
    untouchable: &[Untouchable],
) -> Result<(Plan, Resolved), String> {
    let plan = plan(view, own, groups, stages).map_err(|error| error.to_string())?;
    let resolved = assemble(served, key, view, &plan, untouchable, &mut NodeInputs::default())?.resolved;
    Ok((plan, resolved))
}

fn make(
    inputs: &Inputs,
    view: &NodeView,
    plan: &Plan,
    untouchable: &[Untouchable],
    node_inputs: &mut NodeInputs,
) -> Result<(Made, Option<NewState>), String> {
    let Assembled { resolved, mut releases, mut sources } =
        assemble(&inputs.served, &inputs.key, view, plan, untouchable, node_inputs)?;
    let mut state = resolved.state;
    for origin in state.clauses.iter().flat_map(|clause| &clause.origins) {
        let release = format!("{}@{}", origin.kit, origin.version);
        if !releases.contains(&release) {
            releases.push(release);
        }
    }
    sources.excluded = resolved
        .excluded
        .into_iter()
        .map(|excluded| (excluded.address.to_string(), excluded.condition))
        .collect();
    sources.parameters = resolved.parameters;
    sources.replaced = resolved.replaced;
    sources.clauses = state.clauses.len();
    let sealed = state.seal(&inputs.key);
    let digest = state.digest.as_str().to_owned();
    let contents = Arc::unwrap_or_clone(resolved.contents)
        .into_iter()
        .map(|(name, bytes)| (name.as_str().to_owned(), bytes, name.scheme() == "h1"));
    let sealed = sealed.into_iter().map(|(name, bytes)| (name.as_str().to_owned(), bytes.into(), true));
    let is_new = inputs.seen().states.insert(digest.clone());
    let new = is_new.then(|| new_state(inputs, &state, contents.chain(sealed)));
    let sources = json!(sources);
    let sources_digest = of_value(SOURCES_SCHEME, &sources).as_str().to_owned();
    Ok((Made { digest, releases, sources, sources_digest }, new))
}

fn new_state(
    inputs: &Inputs,
    state: &EffectiveState,
    contents: impl Iterator<Item = (String, Arc<[u8]>, bool)>,
) -> NewState {
    let clauses: Vec<Digest> = state.clauses.iter().map(Clause::digest).collect();
    let mut seen = inputs.seen();
    let new_contents = contents.filter(|(name, ..)| seen.contents.insert(name.clone())).collect();
    let new_clauses: Vec<(&Clause, &Digest)> = state
        .clauses
        .iter()
        .zip(&clauses)
        .filter(|(_, digest)| seen.clauses.insert((*digest).clone()))
        .collect();
    drop(seen);
    let write = |(clause, digest): (&Clause, &Digest)| NewClause {
        digest: digest.clone(),
        body: serde_json::to_string(clause).expect("clauses are plain data"),
        names: clause.names(),
        is_counted: !clause.is_only_a_reaction(),
    };
    NewState { new_clauses: new_clauses.into_iter().map(write).collect(), clauses, new_contents }
}
