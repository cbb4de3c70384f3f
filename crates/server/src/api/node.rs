//! Nodes.

use super::fleet::{Narrowed, narrowed, undecided};
use crate::launch::Here;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::listing::{self, NodeRow};
use crate::store::narrowing::Narrowing;
use crate::store::{audit, effective_state, heard, node, notice, wanted};
use crate::trust::{Allowed, NodeRead, NodeRevoke, Refusal};
use constans_core::standing::{self, Hearing, NodeFacts};
use constans_wire::check_in::{Explained, NodeStanding, NodeSummary};
use constans_wire::fleet::NodePage;
use jiff::{SignedDuration, Timestamp};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use sqlx::PgPool;
use std::collections::BTreeMap;
use std::sync::Arc;

/// The nodes by name, 1,000 at a time, or those that a filter names.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = NodePage)))]
#[get("/api/nodes?<after>&<filter>")]
pub async fn list(after: Option<&str>, filter: Option<&str>, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<NodePage> {
    let (db, now) = (db.inner(), crate::clock::now());
    let Narrowed { by, undecidable } = narrowed(db, filter, now).await?;
    let (nodes, unknown) = tokio::try_join!(summaries(db, &by, after.unwrap_or_default(), now), undecided(db, &by))?;
    Ok(Json(NodePage { next: next_page(&nodes), nodes, undecidable: undecidable + unknown }))
}

/// How many nodes a page has at most.
const PAGE: usize = 1_000;

fn next_page(nodes: &[NodeSummary]) -> Option<String> {
    (nodes.len() == PAGE).then(|| nodes.last().map(|last| last.name.clone())).flatten()
}

/// One node.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = NodeSummary)))]
#[get("/api/nodes/<name>")]
pub async fn show(name: &str, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<NodeSummary> {
    let now = crate::clock::now();
    let row = listing::one(db.inner(), name).await?.ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    summarised(db.inner(), vec![row], now).await?.pop().map(Json).ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })
}

/// Returns all nodes that were not retired.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn all_summaries(db: &PgPool, now: Timestamp) -> Result<Vec<NodeSummary>, ApiError> {
    let mut all: Vec<NodeSummary> = Vec::new();
    loop {
        let page = summaries(db, &Narrowing::All, all.last().map_or("", |last| last.name.as_str()), now).await?;
        let is_last = page.len() < PAGE;
        all.extend(page);
        if is_last {
            return Ok(all);
        }
    }
}

async fn summaries(db: &PgPool, by: &Narrowing, after: &str, now: Timestamp) -> Result<Vec<NodeSummary>, ApiError> {
    summarised(db, listing::all(db, by, after, PAGE as i64).await?, now).await
}

async fn summarised(db: &PgPool, rows: Vec<NodeRow>, now: Timestamp) -> Result<Vec<NodeSummary>, ApiError> {
    let mut digests: Vec<String> = rows.iter().flat_map(|row| [&row.state, &row.full_state]).flatten().cloned().collect();
    digests.sort_unstable();
    digests.dedup();
    let releases: BTreeMap<String, Vec<String>> = effective_state::releases(db, &digests).await?.into_iter().collect();
    rows.into_iter().map(|row| summary(row, &releases, now)).collect()
}

/// Where each part of what the node is wanted to be comes from.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Explained)))]
#[get("/api/nodes/<name>/explained")]
pub async fn explained(name: &str, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Explained> {
    let id = node::by_name(db.inner(), name).await?.ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    let stored = wanted::explained(db.inner(), id).await?.map(|stored| read_stored(|| format!("explanation of {name}"), stored));
    let explained: Explained = stored.transpose()?.unwrap_or_default();
    Ok(Json(Explained { settings_told: explained.settings.told(), ..explained }))
}

/// The node is refused from its next request on.
#[utoipa::path(tag = "nodes", security(("token" = ["node.revoke"]), ("session" = ["node.revoke"])), responses((status = 200, body = String)))]
#[post("/api/nodes/<name>/revoke")]
pub async fn revoke(name: &str, caller: Allowed<NodeRevoke>, db: &State<PgPool>, here: &State<Arc<Here>>) -> Answer<String> {
    let mut transaction = db.begin().await?;
    let id = node::locked_by_name(&mut *transaction, name).await?.ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    if !node::revoke(&mut *transaction, id).await? {
        return Err(ApiError::Conflict { message: format!("{name} was revoked already"), hint: "constans node list shows since when".to_owned() });
    }
    here.refusals.add(&Refusal { at: crate::clock::now(), node: id, refused: true, keys: Vec::new() }).map_err(ApiError::Protected)?;
    notice::tell(&mut *transaction, "nodes").await?;
    audit::add(&mut *transaction, &caller.person, "revoked", name, &json!({ "node": id })).await?;
    transaction.commit().await?;
    Ok(Json(name.to_owned()))
}

/// A person has decided which of two machines is the node: the one that checks in next.
#[utoipa::path(tag = "nodes", security(("token" = ["node.revoke"]), ("session" = ["node.revoke"])), responses((status = 200, body = String)))]
#[post("/api/nodes/<name>/settle")]
pub async fn settle(name: &str, caller: Allowed<NodeRevoke>, db: &State<PgPool>) -> Answer<String> {
    let mut transaction = db.begin().await?;
    let id = node::locked_by_name(&mut *transaction, name).await?.ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    if !heard::settle(&mut transaction, id).await? {
        return Err(ApiError::Conflict { message: format!("only one machine was seen as {name}"), hint: "there is nothing to decide".to_owned() });
    }
    notice::tell(&mut *transaction, "nodes").await?;
    audit::add(&mut *transaction, &caller.person, "settled", name, &json!({ "node": id })).await?;
    transaction.commit().await?;
    Ok(Json(name.to_owned()))
}

fn summary(row: NodeRow, releases: &BTreeMap<String, Vec<String>>, now: Timestamp) -> Result<NodeSummary, ApiError> {
    let standing = standing_of(&row, releases)?;
    let (last_heard, promised) = (row.heard_at.map(|at| at.to_jiff()), row.promised_at.map(|at| at.to_jiff()));
    let hearing = read_stored(|| format!("hearing of {}", row.name), row.hearing.clone().into())?;
    let facts = facts_of(&row, hearing);
    Ok(NodeSummary {
        id: row.id,
        labels: read_stored(|| format!("labels of {}", row.name), row.labels)?,
        about: read_stored(|| format!("report of {} about itself", row.name), row.about)?,
        name: row.name,
        last_heard,
        promised,
        clock_off_secs: row.heard_at.map(|_| row.clock_off_ms / 1_000),
        hearing,
        sign: standing::sign(row.revoked_at.is_some(), facts.is_unusable, hearing, standing.status),
        troubles: standing::troubles(&facts, now),
        open_episodes: row.open_episodes,
        revoked_at: row.revoked_at.map(|at| at.to_jiff()),
        certificate_ends: row.ends_at.map(|at| at.to_jiff()),
        standing,
    })
}

fn facts_of(row: &NodeRow, hearing: Hearing) -> NodeFacts {
    NodeFacts {
        hearing,
        is_unusable: row.unusable.is_some(),
        is_double: row.double_since.is_some(),
        is_memory_lost: row.memory_lost_at.is_some(),
        certificate_ends: row.ends_at.map(|at| at.to_jiff()),
        overdue_at: row.overdue_at.map(|at| at.to_jiff()),
        clock_off: SignedDuration::from_millis(row.clock_off_ms),
    }
}

fn standing_of(row: &NodeRow, releases: &BTreeMap<String, Vec<String>>) -> Result<NodeStanding, ApiError> {
    fn read<T: DeserializeOwned>(row: &NodeRow, what: &str, value: Option<Value>) -> Result<Option<T>, ApiError> {
        value.map(|value| read_stored(|| format!("{what} of {}", row.name), value)).transpose()
    }
    let of = |digest: &Option<String>| digest.as_ref().and_then(|digest| releases.get(digest)).cloned().unwrap_or_default();
    Ok(NodeStanding {
        stage: Some(row.stage.clone()).filter(|stage| !stage.is_empty()),
        groups: read(row, "groups", Some(row.groups.clone()))?.unwrap_or_default(),
        releases: of(&row.state),
        wanted: row.state.clone(),
        wanted_since: row.since.map(|at| at.to_jiff()),
        mode: read(row, "mode", Some(row.mode.clone()).filter(|mode| !mode.is_empty()).map(Value::from))?,
        unusable: row.unusable.clone(),
        double_since: row.double_since.map(|at| at.to_jiff()),
        memory_lost_at: row.memory_lost_at.map(|at| at.to_jiff()),
        restart_pending: read(row, "pending restart", row.restart_pending.clone().filter(|pending| !pending.is_null()))?,
        run: row.full_run,
        status: read(row, "status", row.full_status.clone().map(Value::from))?,
        run_began: row.full_began.map(|at| at.to_jiff()),
        has: row.full_state.clone(),
        has_releases: of(&row.full_state),
    })
}
