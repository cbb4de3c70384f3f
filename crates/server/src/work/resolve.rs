//! Resolving: what every node is wanted to be, computed when something changed and not when it asks.

use crate::launch::Here;
use crate::problem::ApiError;
use crate::store::wanted::{self, NodeViewRow};
use crate::store::{fact, group, release, stage};
use crate::work::publish::kit_of;
use constans_core::digest::DigestKey;
use constans_core::filter::NodeView;
use constans_core::group::{Group, Plan, plan};
use constans_core::kit::Kit;
use constans_core::settings::AgentSettings;
use constans_core::state::{Assigned, Conditions, ResolveInput, Untouchable, resolve};
use constans_folder::on_large_stack;
use constans_wire::check_in::Explained;
use constans_wire::kit::Changed;
use serde_json::{Value, json};
use sqlx::PgConnection;
use std::collections::BTreeMap;
use std::sync::Arc;
use uuid::Uuid;

/// Everything that resolving depends on.
struct Inputs {
    groups: Vec<Group>,
    stages: Vec<String>,
    served: BTreeMap<String, BTreeMap<String, String>>,
    kits: BTreeMap<(String, String), Arc<Kit>>,
    nodes: Vec<NodeViewRow>,
    key: DigestKey,
}

/// What one node is wanted to be.
struct Outcome {
    node: Uuid,
    plan: Option<Plan>,
    result: Result<Made, String>,
}

/// A resolved state, ready to be stored.
struct Made {
    digest: String,
    body: Value,
    names: Vec<String>,
    releases: Vec<String>,
    explained: Explained,
    contents: Vec<(String, Arc<[u8]>, bool)>,
}

/// Resolves the states of all nodes, or of one, and stores what changed.
///
/// # Errors
///
/// Returns why groups, kits or nodes could not be read or stored.
pub async fn resolve_nodes(db: &mut PgConnection, here: &Here, only: Option<Uuid>) -> Result<Changed, ApiError> {
    let inputs = Arc::new(read_inputs(db, here, only).await?);
    let for_thread = inputs.clone();
    let outcomes = tokio::task::spawn_blocking(move || on_large_stack(|| compute(&for_thread))).await;
    let outcomes = outcomes.map_err(|error| ApiError::Wrong(format!("resolving broke off: {error}")))?;
    let (mut changed, epoch) = (Changed::default(), here.handed_out.newest().epoch);
    for (before, outcome) in inputs.nodes.iter().zip(outcomes) {
        note_plan(db, &outcome).await?;
        let new_settings = json!(outcome.plan.as_ref().map_or_else(AgentSettings::default, |plan| plan.settings.clone()));
        match outcome.result {
            Ok(made) => {
                store(db, &made).await?;
                let explained = json!(made.explained);
                if before.state.as_ref() != Some(&made.digest) || before.settings.as_ref() != Some(&new_settings) || before.unusable.is_some() {
                    wanted::set(db, outcome.node, Some(&made.digest), &new_settings, epoch).await?;
                    let value = json!({ "state": made.digest, "releases": made.releases });
                    fact::now_is(db, outcome.node, "wanted", &value).await?;
                    changed.nodes += 1;
                }
                wanted::explain(db, outcome.node, &explained).await?;
            }
            Err(because) => {
                wanted::set_unusable(db, outcome.node, &because, &new_settings, epoch).await?;
                fact::now_is(db, outcome.node, "unusable", &json!(because)).await?;
                changed.unusable.push((before.name.clone(), because));
            }
        }
    }
    Ok(changed)
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
    })
}

fn compute(inputs: &Inputs) -> Vec<Outcome> {
    inputs.nodes.iter().map(|node| compute_node(inputs, node)).collect()
}

fn compute_node(inputs: &Inputs, node: &NodeViewRow) -> Outcome {
    let read = |value: &Option<Value>| value.clone().unwrap_or_else(|| json!({}));
    let view = NodeView {
        name: node.name.clone(),
        labels: serde_json::from_value(read(&node.labels)).unwrap_or_default(),
        about: serde_json::from_value(read(&node.about)).unwrap_or_default(),
    };
    match plan(&view, &inputs.groups, &inputs.stages) {
        Err(error) => Outcome { node: node.id, plan: None, result: Err(error.to_string()) },
        Ok(plan) => {
            let result = make(inputs, &view, &plan);
            Outcome { node: node.id, plan: Some(plan), result }
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
    let contents = resolved.contents.into_iter().map(|(name, bytes)| (name.as_str().to_owned(), bytes, name.scheme() == "h1"));
    let sealed = sealed.into_iter().map(|(name, bytes)| (name.as_str().to_owned(), bytes.into(), true));
    Ok(Made {
        digest: state.digest.as_str().to_owned(),
        names: state.names().into_iter().collect(),
        body: serde_json::to_value(&state).map_err(|error| error.to_string())?,
        releases,
        explained,
        contents: contents.chain(sealed).collect(),
    })
}

async fn store(db: &mut PgConnection, made: &Made) -> sqlx::Result<()> {
    for (name, bytes, sealed) in &made.contents {
        release::store_content(&mut *db, name, bytes, *sealed).await?;
    }
    wanted::store_state(db, &made.digest, &made.body, &made.names, &made.releases).await
}

async fn note_plan(db: &mut PgConnection, outcome: &Outcome) -> sqlx::Result<()> {
    let Some(plan) = &outcome.plan else { return Ok(()) };
    for (what, value) in [("groups", json!(plan.groups)), ("stage", json!(plan.stage)), ("settings", json!(plan.settings))] {
        fact::now_is(&mut *db, outcome.node, what, &value).await?;
    }
    Ok(())
}
