//! Resolving: what every node is wanted to be, computed when something changed and not when it asks.

use crate::launch::Here;
use crate::problem::ApiError;
use crate::store::wanted::{self, NewWanted, NodeViewRow};
use crate::store::{fact, group, release, stage};
use crate::work::publish::kit_of;
use constans_core::digest::DigestKey;
use constans_core::filter::NodeView;
use constans_core::group::{Group, Plan, plan};
use constans_core::kit::Kit;
use constans_core::settings::AgentSettings;
use constans_core::standing::overdue_after;
use constans_core::state::{Assigned, Conditions, ResolveInput, Untouchable, resolve};
use constans_folder::on_large_stack;
use constans_wire::check_in::Explained;
use constans_wire::kit::Changed;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use sqlx::PgConnection;
use std::collections::{BTreeMap, HashSet};
use std::num::NonZero;
use std::ops::Range;
use std::sync::{Arc, Mutex};
use uuid::Uuid;

/// Everything that resolving depends on.
struct Inputs {
    groups: Vec<Group>,
    stages: Vec<String>,
    served: BTreeMap<String, BTreeMap<String, String>>,
    kits: BTreeMap<(String, String), Arc<Kit>>,
    nodes: Vec<NodeViewRow>,
    key: DigestKey,
    /// The digests of the states that were made so far.
    made: Mutex<HashSet<String>>,
}

/// What one node is wanted to be.
struct Outcome {
    node: Uuid,
    plan: Option<Plan>,
    settings: AgentSettings,
    result: Result<Made, String>,
}

/// A resolved state.
struct Made {
    digest: String,
    releases: Vec<String>,
    explained: Explained,
    /// The state itself, for the first node that has it.
    state: Option<NewState>,
}

/// A state ready to be stored.
struct NewState {
    body: String,
    names: Vec<String>,
    contents: Vec<(String, Arc<[u8]>, bool)>,
}

/// So many nodes are resolved, and then stored, at once: what is made for them is held in memory.
const TOGETHER: usize = 250;

/// Resolves the states of all nodes, or of one, and stores what changed. While some nodes' states are stored, the next ones'
/// are resolved, on as many threads as the machine has.
///
/// # Errors
///
/// Returns why groups, kits or nodes could not be read or stored.
pub async fn resolve_nodes(db: &mut PgConnection, here: &Here, only: Option<Uuid>) -> Result<Changed, ApiError> {
    let inputs = Arc::new(read_inputs(db, here, only).await?);
    let epoch = here.handed_out.newest().epoch;
    let mut changed = Changed::default();
    let resolving = |start: usize| {
        let inputs = inputs.clone();
        tokio::task::spawn_blocking(move || compute(&inputs, start..inputs.nodes.len().min(start + TOGETHER)))
    };
    let mut next = resolving(0);
    for start in (0..inputs.nodes.len()).step_by(TOGETHER) {
        let outcomes = next.await.map_err(|error| ApiError::Wrong(format!("resolving broke off: {error}")))?;
        next = resolving((start + TOGETHER).min(inputs.nodes.len()));
        store(db, &inputs.nodes[start..], &outcomes, epoch, &mut changed).await?;
    }
    wanted::show(db, only).await?;
    Ok(changed)
}

/// Stores what became of nodes, `before` being how they were.
async fn store(db: &mut PgConnection, before: &[NodeViewRow], outcomes: &[Outcome], epoch: i64, changed: &mut Changed) -> Result<(), ApiError> {
    note_plans(db, outcomes).await?;
    let settings: Vec<Value> = outcomes.iter().map(|outcome| json!(outcome.settings)).collect();
    let (mut wanted, mut facts, mut explained) = (Vec::new(), Vec::new(), Vec::new());
    for ((before, outcome), settings) in before.iter().zip(outcomes).zip(&settings) {
        match &outcome.result {
            Ok(made) => {
                if let Some(state) = &made.state {
                    for (name, bytes, sealed) in &state.contents {
                        release::store_content(&mut *db, name, bytes, *sealed).await?;
                    }
                    wanted::store_state(&mut *db, &made.digest, &state.body, &state.names, &made.releases).await?;
                }
                if before.state.as_ref() != Some(&made.digest) || before.settings.as_ref() != Some(settings) || before.unusable.is_some() {
                    let overdue_secs = overdue_after(outcome.settings.longest_between_runs()).as_secs();
                    let mode = json!(outcome.settings.mode).as_str().unwrap_or_default().to_owned();
                    wanted.push(NewWanted { node: outcome.node, state: &made.digest, settings, mode, overdue_secs });
                    facts.push((outcome.node, json!({ "state": made.digest, "releases": made.releases })));
                }
                explained.push((outcome.node, json!(made.explained)));
            }
            Err(because) => {
                wanted::set_unusable(db, outcome.node, because, settings, epoch).await?;
                fact::now_is(db, outcome.node, "unusable", &json!(because)).await?;
                changed.unusable.push((before.name.clone(), because.clone()));
            }
        }
    }
    changed.nodes += wanted.len() as u64;
    wanted::set(db, epoch, &wanted).await?;
    fact::now_are(db, "wanted", &borrowed(&facts)).await?;
    Ok(wanted::explain(db, &borrowed(&explained)).await?)
}

fn borrowed(facts: &[(Uuid, Value)]) -> Vec<(Uuid, &Value)> {
    facts.iter().map(|(node, value)| (*node, value)).collect()
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
    let groups = group::all(&mut *db).await?.into_iter().filter_map(|body| serde_json::from_value(body).ok()).collect();
    Ok(Inputs {
        groups,
        stages: stage::names(&mut *db).await?,
        served,
        kits,
        nodes: wanted::node_views(&mut *db, only).await?,
        key: here.key.clone(),
        made: Mutex::default(),
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
    match plan(&view, &inputs.groups, &inputs.stages) {
        Err(error) => Outcome { node: node.id, plan: None, settings: AgentSettings::default(), result: Err(error.to_string()) },
        Ok(plan) => {
            let result = make(inputs, &view, &plan);
            Outcome { node: node.id, settings: plan.settings.clone(), plan: Some(plan), result }
        }
    }
}

fn make(inputs: &Inputs, view: &NodeView, plan: &Plan) -> Result<Made, String> {
    let none = BTreeMap::new();
    let served = inputs.served.get(&plan.stage).unwrap_or(&none);
    let mut assigned = Vec::new();
    let mut explained = Explained {
        stage: plan.stage.clone(),
        groups: plan.groups.clone(),
        undecidable: plan.undecidable.clone(),
        settings: plan.settings.clone(),
        ..Explained::default()
    };
    let mut releases: Vec<String> = Vec::new();
    for assignment in &plan.assignments {
        // What the stage does not serve is left out; the node's plan shows it.
        let Some(version) = served.get(&assignment.kit) else {
            explained.not_served.push(format!("{}/{}", assignment.kit, assignment.baseline));
            continue;
        };
        explained.baselines.push(format!("{}@{version}/{}", assignment.kit, assignment.baseline));
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
    let resolved = resolve(&input)
        .map_err(|findings| findings.iter().map(|finding| format!("{} ({})", finding.message, finding.place)).collect::<Vec<_>>().join("; "))?;
    let mut state = resolved.state;
    for origin in state.clauses.iter().flat_map(|clause| &clause.origins) {
        let release = format!("{}@{}", origin.kit, origin.version);
        if !releases.contains(&release) {
            releases.push(release);
        }
    }
    explained.excluded = resolved.excluded.into_iter().map(|excluded| (excluded.address.to_string(), excluded.condition)).collect();
    explained.parameters = resolved.parameters;
    explained.clauses = state.clauses.len();
    let sealed = state.seal(&inputs.key);
    let digest = state.digest.as_str().to_owned();
    let is_new = inputs.made.lock().is_ok_and(|mut made| made.insert(digest.clone()));
    let state = if is_new {
        let contents = resolved.contents.into_iter().map(|(name, bytes)| (name.as_str().to_owned(), bytes, name.scheme() == "h1"));
        let sealed = sealed.into_iter().map(|(name, bytes)| (name.as_str().to_owned(), bytes.into(), true));
        let body = serde_json::to_string(&state).map_err(|error| error.to_string())?;
        Some(NewState { body, names: state.names().into_iter().collect(), contents: contents.chain(sealed).collect() })
    } else {
        None
    };
    Ok(Made { digest, releases, explained, state })
}

async fn note_plans(db: &mut PgConnection, outcomes: &[Outcome]) -> sqlx::Result<()> {
    let planned: Vec<(Uuid, &Plan)> = outcomes.iter().filter_map(|outcome| Some((outcome.node, outcome.plan.as_ref()?))).collect();
    for what in ["groups", "stage", "settings"] {
        let part = |plan: &Plan| match what {
            "groups" => json!(plan.groups),
            "stage" => json!(plan.stage),
            _ => json!(plan.settings),
        };
        let facts: Vec<(Uuid, Value)> = planned.iter().map(|(node, plan)| (*node, part(plan))).collect();
        fact::now_are(&mut *db, what, &borrowed(&facts)).await?;
    }
    Ok(())
}
