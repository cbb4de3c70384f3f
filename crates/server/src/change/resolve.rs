//! Resolving: the desired state of every node, computed when something changed and not when it asks.

use crate::change::publish::kit_of;
use crate::jobs::progress::Progress;
use crate::launch::Here;
use crate::problem::{ApiError, read_stored};
use crate::store::effective_state::{self, NewClause};
use crate::store::wanted::{self, NewWanted, NodeViewRow};
use crate::store::{group, node_attribute, release, stage};
use constans_core::digest::{Digest, DigestKey};
use constans_core::filter::{InputCache, NodeInputs, NodeView};
use constans_core::group::{Group, Plan, Planner};
use constans_core::kit::Kit;
use constans_core::node_status::overdue_after;
use constans_core::state::{Assigned, Clause, Conditions, EffectiveState, ResolveInput, Untouchable, resolve_noting};
use constans_folder::on_large_stack;
use constans_wire::check_in::StateSources;
use constans_wire::kit::Changed;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use sqlx::PgConnection;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::num::NonZero;
use std::ops::Range;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use uuid::Uuid;

/// Everything that resolving depends on.
struct Inputs {
    planner: Planner<Arc<Planned>>,
    served: BTreeMap<String, BTreeMap<String, String>>,
    kits: BTreeMap<(String, String), Arc<Kit>>,
    nodes: Vec<NodeViewRow>,
    key: DigestKey,
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
    groups: Value,
    stage: Value,
    settings: Value,
    /// What their states came to.
    resolved: Mutex<InputCache<Result<Arc<Made>, String>>>,
}

/// The desired state of one node.
struct Outcome {
    node: Uuid,
    /// None if the node cannot be assigned anything.
    planned: Option<Arc<Planned>>,
    result: Result<Arc<Made>, String>,
    /// The state itself, with the first node that has it.
    new: Option<NewState>,
}

/// A resolved state.
struct Made {
    digest: String,
    releases: Vec<String>,
    sources: Value,
}

/// A state ready to be stored, with what no state before it had.
struct NewState {
    /// The digests of its clauses, in their order.
    clauses: Vec<Digest>,
    new_clauses: Vec<NewClause>,
    new_contents: Vec<(String, Arc<[u8]>, bool)>,
}

/// So many nodes are resolved, and then stored, at once: what is made for them is held in memory.
const TOGETHER: usize = 250;

/// Resolves the states of all nodes and stores what changed.
///
/// # Errors
///
/// Returns why groups, kits or nodes could not be read or stored.
pub async fn resolve_all(db: &mut PgConnection, here: &Here, mut progress: Progress) -> Result<Changed, ApiError> {
    resolve(db, here, None, Some(&mut progress)).await
}

/// Resolves the state of one node and stores it if it changed.
///
/// # Errors
///
/// Returns why groups, kits or the node could not be read or stored.
pub async fn resolve_one(db: &mut PgConnection, here: &Here, node: Uuid) -> Result<Changed, ApiError> {
    resolve(db, here, Some(node), None).await
}

/// Reads the groups as they are stored. One that cannot be read stops what goes by groups: without it, nodes would be given
/// something else.
///
/// # Errors
///
/// Returns which cannot be read.
pub fn read_groups(stored: Vec<Value>) -> Result<Vec<Group>, ApiError> {
    let name = |body: &Value| body["name"].as_str().unwrap_or_default().to_owned();
    stored.into_iter().map(|body| read_stored(|| format!("group {}", name(&body)), body.clone())).collect()
}

/// While some nodes' states are stored, the next ones' are resolved, on as many threads as the machine has.
async fn resolve(db: &mut PgConnection, here: &Here, only: Option<Uuid>, mut progress: Option<&mut Progress>) -> Result<Changed, ApiError> {
    let began = std::time::Instant::now();
    let inputs = Arc::new(read_inputs(db, here, only).await?);
    let epoch = here.handed_out.newest().map_err(ApiError::Protected)?.epoch;
    let mut changed = Changed::default();
    let mut clause_ids = HashMap::new();
    let resolving = |start: usize| {
        let inputs = inputs.clone();
        tokio::task::spawn_blocking(move || compute(&inputs, start..inputs.nodes.len().min(start + TOGETHER)))
    };
    let mut next = resolving(0);
    for start in (0..inputs.nodes.len()).step_by(TOGETHER) {
        let outcomes = next.await.map_err(|error| ApiError::BrokeOff("resolving states", error))?;
        next = resolving((start + TOGETHER).min(inputs.nodes.len()));
        store_states(db, &outcomes, &mut clause_ids).await?;
        store(db, &inputs.nodes[start..], &outcomes, epoch, &mut changed).await?;
        if let Some(progress) = &mut progress {
            progress.reached(start + outcomes.len(), inputs.nodes.len()).await;
        }
    }
    wanted::show(db, only).await?;
    here.metrics.resolving.observe(began.elapsed().as_secs_f64());
    Ok(changed)
}

/// Stores the states that are new, with the clauses and contents that are. `clause_ids` are those of stored clauses.
async fn store_states(db: &mut PgConnection, outcomes: &[Outcome], clause_ids: &mut HashMap<String, i64>) -> Result<(), ApiError> {
    let new: Vec<(&Made, &NewState)> =
        outcomes.iter().filter_map(|outcome| Some((&**outcome.result.as_ref().ok()?, outcome.new.as_ref()?))).collect();
    if new.is_empty() {
        return Ok(());
    }
    for (name, bytes, sealed) in new.iter().flat_map(|(_, new)| &new.new_contents) {
        release::store_content(&mut *db, name, bytes, *sealed).await?;
    }
    effective_state::store_clauses(db, &new.iter().flat_map(|(_, new)| &new.new_clauses).collect::<Vec<_>>()).await?;
    let unknown: HashSet<&str> =
        new.iter().flat_map(|(_, new)| &new.clauses).map(Digest::as_str).filter(|digest| !clause_ids.contains_key(*digest)).collect();
    clause_ids.extend(effective_state::clause_ids(&mut *db, &unknown.into_iter().collect::<Vec<_>>()).await?);
    for (made, new) in new {
        let clauses: Option<Vec<i64>> = new.clauses.iter().map(|digest| clause_ids.get(digest.as_str()).copied()).collect();
        let clauses = clauses.ok_or_else(|| ApiError::stored(format!("state {}", made.digest), &"one of its clauses is missing"))?;
        effective_state::store(&mut *db, &made.digest, &clauses, &made.releases).await?;
    }
    Ok(())
}

/// Stores what became of nodes, `before` being how they were.
async fn store(db: &mut PgConnection, before: &[NodeViewRow], outcomes: &[Outcome], epoch: i64, changed: &mut Changed) -> Result<(), ApiError> {
    note_plans(db, outcomes).await?;
    let unplanned = Arc::new(Planned::new(Plan::default()));
    let (mut wanted, mut values, mut sources) = (Vec::new(), Vec::new(), Vec::new());
    for (before, outcome) in before.iter().zip(outcomes) {
        let planned = outcome.planned.as_ref().unwrap_or(&unplanned);
        let settings = &planned.settings;
        match &outcome.result {
            Ok(made) => {
                if before.state.as_ref() != Some(&made.digest) || before.settings.as_ref() != Some(settings) || before.unusable.is_some() {
                    let overdue_secs = overdue_after(planned.plan.settings.longest_between_runs()).as_secs();
                    let mode = settings["mode"].as_str().unwrap_or_default();
                    wanted.push(NewWanted { node: outcome.node, state: &made.digest, settings, mode, overdue_secs });
                    values.push((outcome.node, json!({ "state": made.digest, "releases": made.releases })));
                }
                sources.push((outcome.node, &made.sources));
            }
            Err(because) => {
                wanted::set_unusable(db, outcome.node, because, settings, epoch).await?;
                node_attribute::set(db, outcome.node, "unusable", &json!(because)).await?;
                changed.unusable.push((before.name.clone(), because.clone()));
            }
        }
    }
    changed.nodes += wanted.len() as u64;
    wanted::set(db, epoch, &wanted).await?;
    let usable_again: Vec<Uuid> = before
        .iter()
        .zip(outcomes)
        .filter(|(before, outcome)| before.unusable.is_some() && outcome.result.is_ok())
        .map(|(before, _)| before.id)
        .collect();
    if !usable_again.is_empty() {
        node_attribute::end(db, "unusable", &usable_again).await?;
    }
    node_attribute::set_all(db, "wanted", &values.iter().map(|(node, value)| (*node, value)).collect::<Vec<_>>()).await?;
    Ok(wanted::set_sources(db, &sources).await?)
}

async fn read_inputs(db: &mut PgConnection, here: &Here, only: Option<Uuid>) -> Result<Inputs, ApiError> {
    let mut served: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
    let mut kits = BTreeMap::new();
    for (stage, kit, version) in stage::served(&mut *db).await? {
        served.entry(stage).or_default().insert(kit.clone(), version.clone());
        let key = (kit, version);
        if !kits.contains_key(&key)
            && let Some(row) = release::find(&mut *db, &key.0, &key.1).await?
            && let Some(kit) = kit_of(db, here, &row).await?
        {
            kits.insert(key, kit);
        }
    }
    let groups = read_groups(group::all(&mut *db).await?)?;
    let stages = stage::names(&mut *db).await?;
    let nodes = wanted::node_views(&mut *db, only).await?;
    let states = nodes.iter().filter_map(|node| node.state.clone()).collect();
    // Reading filters takes its time and a deep stack.
    let planner = tokio::task::spawn_blocking(|| on_large_stack(|| Planner::new(groups, stages))).await;
    Ok(Inputs {
        planner: planner.map_err(|error| ApiError::BrokeOff("reading filters", error))?,
        served,
        kits,
        nodes,
        key: here.key.clone(),
        seen: Mutex::new(Seen { states, ..Seen::default() }),
    })
}

fn compute(inputs: &Inputs, range: Range<usize>) -> Vec<Outcome> {
    let threads = std::thread::available_parallelism().map_or(1, NonZero::get);
    let nodes = &inputs.nodes[range];
    let parts = nodes.chunks(nodes.len().div_ceil(threads).max(1));
    std::thread::scope(|scope| {
        let all: Vec<_> =
            parts.map(|part| scope.spawn(|| on_large_stack(|| part.iter().map(|node| compute_node(inputs, node)).collect::<Vec<_>>()))).collect();
        all.into_iter().flat_map(|part| part.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))).collect()
    })
}

fn compute_node(inputs: &Inputs, node: &NodeViewRow) -> Outcome {
    fn read<T: DeserializeOwned + Default>(value: &Value) -> T {
        T::deserialize(value).unwrap_or_default()
    }
    let view = NodeView { name: node.name.clone(), labels: read(&node.labels), about: read(&node.about) };
    match inputs.planner.plan(&view, |plan| Arc::new(Planned::new(plan))) {
        Err(error) => Outcome { node: node.id, planned: None, result: Err(error.to_string()), new: None },
        Ok(planned) => {
            let known = planned.known().find(&view);
            let (result, new) = known.map_or_else(|| make_and_keep(inputs, &view, &planned), |known| (known, None));
            Outcome { node: node.id, planned: Some(planned), result, new }
        }
    }
}

impl Inputs {
    fn seen(&self) -> MutexGuard<'_, Seen> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Planned {
    fn new(plan: Plan) -> Self {
        let (groups, stage, settings) = (json!(plan.groups), json!(plan.stage), json!(plan.settings));
        Self { plan, groups, stage, settings, resolved: Mutex::default() }
    }

    fn known(&self) -> MutexGuard<'_, InputCache<Result<Arc<Made>, String>>> {
        self.resolved.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn make_and_keep(inputs: &Inputs, view: &NodeView, planned: &Planned) -> (Result<Arc<Made>, String>, Option<NewState>) {
    let mut node_inputs = NodeInputs::default();
    let (result, new) = match make(inputs, view, &planned.plan, &mut node_inputs) {
        Ok((made, new)) => (Ok(Arc::new(made)), new),
        Err(because) => (Err(because), None),
    };
    planned.known().keep(node_inputs, view, result.clone());
    (result, new)
}

fn make(inputs: &Inputs, view: &NodeView, plan: &Plan, node_inputs: &mut NodeInputs) -> Result<(Made, Option<NewState>), String> {
    let none = BTreeMap::new();
    let served = inputs.served.get(&plan.stage).unwrap_or(&none);
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
        let Some(version) = served.get(&assignment.kit) else {
            sources.not_served.push(format!("{}/{}", assignment.kit, assignment.baseline));
            continue;
        };
        sources.baselines.push(format!("{}@{version}/{}", assignment.kit, assignment.baseline));
        let kit =
            inputs.kits.get(&(assignment.kit.clone(), version.clone())).ok_or_else(|| format!("{}@{version} cannot be read", assignment.kit))?;
        let missing = || format!("{}@{version} has no baseline `{}`", assignment.kit, assignment.baseline);
        let baseline = kit.baseline(&assignment.baseline).ok_or_else(missing)?;
        assigned.push(Assigned { kit, baseline, on_drift: assignment.on_drift, on_rollout: assignment.on_rollout });
        let release = format!("{}@{version}", assignment.kit);
        if !releases.contains(&release) {
            releases.push(release);
        }
    }
    let untouchable = Untouchable {
        paths: vec!["/var/lib/constans".to_owned(), "/usr/bin/constans-agent".to_owned()],
        names: vec!["constans-agent".to_owned(), "constans-agent.service".to_owned()],
    };
    let kits: Vec<&Kit> = served.iter().filter_map(|(kit, version)| inputs.kits.get(&(kit.clone(), version.clone())).map(Arc::as_ref)).collect();
    let input =
        ResolveInput { assigned, kits: &kits, given: &plan.given, view, key: &inputs.key, conditions: Conditions::Decide, untouchable: &untouchable };
    let resolved = resolve_noting(&input, node_inputs)
        .map_err(|findings| findings.iter().map(|finding| format!("{} ({})", finding.message, finding.place)).collect::<Vec<_>>().join("; "))?;
    let mut state = resolved.state;
    for origin in state.clauses.iter().flat_map(|clause| &clause.origins) {
        let release = format!("{}@{}", origin.kit, origin.version);
        if !releases.contains(&release) {
            releases.push(release);
        }
    }
    sources.excluded = resolved.excluded.into_iter().map(|excluded| (excluded.address.to_string(), excluded.condition)).collect();
    sources.parameters = resolved.parameters;
    sources.clauses = state.clauses.len();
    let sealed = state.seal(&inputs.key);
    let digest = state.digest.as_str().to_owned();
    let contents = Arc::unwrap_or_clone(resolved.contents).into_iter().map(|(name, bytes)| (name.as_str().to_owned(), bytes, name.scheme() == "h1"));
    let sealed = sealed.into_iter().map(|(name, bytes)| (name.as_str().to_owned(), bytes.into(), true));
    let is_new = inputs.seen().states.insert(digest.clone());
    let new = is_new.then(|| new_state(inputs, &state, contents.chain(sealed)));
    Ok((Made { digest, releases, sources: json!(sources) }, new))
}

fn new_state(inputs: &Inputs, state: &EffectiveState, contents: impl Iterator<Item = (String, Arc<[u8]>, bool)>) -> NewState {
    let clauses: Vec<Digest> = state.clauses.iter().map(Clause::digest).collect();
    let mut seen = inputs.seen();
    let new_contents = contents.filter(|(name, ..)| seen.contents.insert(name.clone())).collect();
    let new_clauses: Vec<(&Clause, &Digest)> =
        state.clauses.iter().zip(&clauses).filter(|(_, digest)| seen.clauses.insert((*digest).clone())).collect();
    drop(seen);
    let write = |(clause, digest): (&Clause, &Digest)| NewClause {
        digest: digest.clone(),
        body: serde_json::to_string(clause).expect("clauses are plain data"),
        names: clause.names(),
    };
    NewState { new_clauses: new_clauses.into_iter().map(write).collect(), clauses, new_contents }
}

async fn note_plans(db: &mut PgConnection, outcomes: &[Outcome]) -> sqlx::Result<()> {
    let part = |of: fn(&Planned) -> &Value| -> Vec<(Uuid, &Value)> {
        outcomes.iter().filter_map(|outcome| Some((outcome.node, of(outcome.planned.as_ref()?)))).collect()
    };
    node_attribute::set_all(&mut *db, "groups", &part(|planned| &planned.groups)).await?;
    node_attribute::set_all(&mut *db, "stage", &part(|planned| &planned.stage)).await?;
    node_attribute::set_all(db, "settings", &part(|planned| &planned.settings)).await.map(|_| ())
}
