//! Nodes.

use super::change::changed_by;
use super::overview::{Narrowed, narrowed, undecided};
use crate::body::Number;
use crate::here::Here;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::listing::{self, NodeCursor, NodeKey, NodeOrder, NodeRow};
use crate::store::narrowing::Narrowing;
use crate::store::{audit, change, check_in, effective_state, freeze, node, wake, wanted};
use crate::trust::{Allowed, AllowedWithin, NodeRead, NodeRevoke, Refusal};
use constans_core::node_status::{LastContact, ProblemInputs, node_status, problems};
use constans_core::run::Freeze;
use constans_wire::check_in::StateSources;
use constans_wire::node::NodeSummary;
use constans_wire::node::NodeWords;
use constans_wire::overview::NodePage;
use jiff::{SignedDuration, Timestamp};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use sqlx::PgPool;
use std::collections::BTreeMap;
use std::sync::Arc;

/// The nodes, or those that match a filter, in the order that is asked for: a page at a time.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("after" = Option<String>, Query, description = "`next` of the page before, with the same order and filter"),
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node"),
    ("sort" = Option<String>, Query, description = "`name`, `status` (the most severe first), `last_contact` or `last_run` (the oldest first); with `-` before it the other way round"),
    ("count" = Option<bool>, Query, description = "Whether the nodes on all pages are counted"),
    ("size" = Option<u32>, Query, minimum = 1, maximum = 1000, description = "How many nodes a page has at most; 1,000 if left out"),
), responses((status = 200, body = NodePage)))]
#[get("/api/nodes?<after>&<filter>&<sort>&<size>&<count>")]
pub async fn list(
    after: Option<&str>,
    filter: Option<&str>,
    sort: Option<&str>,
    size: Number,
    count: bool,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<NodePage> {
    let (db, now) = (db.inner(), crate::clock::now());
    let order = order_of(sort.unwrap_or("name"))?;
    let after = after.filter(|after| !after.is_empty()).map(|after| cursor_of(order, after)).transpose()?;
    let most = match size.0 {
        None => PAGE,
        Some(size) => usize::try_from(size)
            .ok()
            .filter(|size| (1..=PAGE).contains(size))
            .ok_or_else(|| ApiError::invalid("size", format!("a page has between 1 and {PAGE} nodes")))?,
    };
    let Narrowed { by, undecidable } = narrowed(db, filter, now).await?;
    let page = async { Ok(listing::ordered(db, &by, order, after.as_ref(), most as i64).await?) };
    let total = async { Ok(if count { Some(listing::count(db, &by).await?) } else { None }) };
    let (rows, total, unknown) = tokio::try_join!(page, total, undecided(db, &by))?;
    let next = rows.last().filter(|_| rows.len() == most).map(|last| next_page(order, last));
    Ok(Json(NodePage {
        next,
        nodes: summarised(db, rows, now).await?,
        total: total.and_then(|total| usize::try_from(total).ok()),
        undecidable: undecidable + unknown,
    }))
}

/// How many nodes a page has at most.
const PAGE: usize = 1_000;

fn order_of(sort: &str) -> Result<NodeOrder, ApiError> {
    let (descending, word) = sort.strip_prefix('-').map_or((false, sort), |word| (true, word));
    let by = match word {
        "name" => NodeKey::Name,
        "status" => NodeKey::Status,
        "last_contact" => NodeKey::LastContact,
        "last_run" => NodeKey::LastRun,
        _ => {
            let message =
                "nodes are sorted by name, status, last_contact or last_run, or by one of them with `-`";
            return Err(ApiError::invalid("sort", message.to_owned()));
        }
    };
    Ok(NodeOrder { by, descending })
}

/// A page begins after a name; where the order is another one, after a place and a name.
fn next_page(order: NodeOrder, last: &NodeRow) -> String {
    match order.by {
        NodeKey::Name => last.name.clone(),
        _ => format!("{} {}", last.place, last.name),
    }
}

fn cursor_of(order: NodeOrder, after: &str) -> Result<NodeCursor, ApiError> {
    if order.by == NodeKey::Name {
        return Ok(NodeCursor { place: 0, name: after.to_owned() });
    }
    let parts = after.split_once(' ').and_then(|(place, name)| Some((place.parse().ok()?, name.to_owned())));
    let (place, name) = parts.ok_or_else(|| {
        ApiError::invalid("after", "it is `next` of the page before, in the same order".to_owned())
    })?;
    Ok(NodeCursor { place, name })
}

/// One node.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = NodeSummary)))]
#[get("/api/nodes/<name>")]
pub async fn show(name: &str, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<NodeSummary> {
    let now = crate::clock::now();
    let row = listing::one(db.inner(), name)
        .await?
        .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    let missing = || ApiError::Missing { what: "node", name: name.to_owned() };
    let summary = summarised(db.inner(), vec![row], now).await?.pop().ok_or_else(missing)?;
    let last = change::last_of_node(db.inner(), summary.id).await?;
    let changed_by = last.map(changed_by);
    let in_force = freeze::in_force(db.inner(), &[summary.id]).await?;
    let freeze = |row: freeze::InForceRow| Freeze {
        no: row.no,
        until: row.until_at.to_jiff(),
        because: row.because,
        clauses: row.clauses.into_iter().collect(),
    };
    let can_be_woken = Some(wake::waits(db.inner(), summary.id).await?);
    let freezes = in_force.into_iter().map(freeze).collect();
    Ok(Json(NodeSummary { changed_by, freezes, can_be_woken, ..summary }))
}

/// Returns all nodes that were not retired.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn all_summaries(db: &PgPool, now: Timestamp) -> Result<Vec<NodeSummary>, ApiError> {
    let mut all: Vec<NodeSummary> = Vec::new();
    loop {
        let page =
            summaries(db, &Narrowing::All, all.last().map_or("", |last| last.name.as_str()), now).await?;
        let is_last = page.len() < PAGE;
        all.extend(page);
        if is_last {
            return Ok(all);
        }
    }
}

async fn summaries(
    db: &PgPool,
    by: &Narrowing,
    after: &str,
    now: Timestamp,
) -> Result<Vec<NodeSummary>, ApiError> {
    summarised(db, listing::all(db, by, after, PAGE as i64).await?, now).await
}

async fn summarised(db: &PgPool, rows: Vec<NodeRow>, now: Timestamp) -> Result<Vec<NodeSummary>, ApiError> {
    let mut digests: Vec<String> =
        rows.iter().flat_map(|row| [&row.state, &row.full_state]).flatten().cloned().collect();
    digests.sort_unstable();
    digests.dedup();
    let releases: BTreeMap<String, Vec<String>> =
        effective_state::releases(db, &digests).await?.into_iter().collect();
    rows.into_iter().map(|row| summary(row, &releases, now)).collect()
}

/// The sources of the node's desired state: stage, groups, settings, baselines, parameters.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = StateSources)))]
#[get("/api/nodes/<name>/why")]
pub async fn why(name: &str, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<StateSources> {
    let id = node::by_name(db.inner(), name)
        .await?
        .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    let stored = wanted::sources(db.inner(), id)
        .await?
        .map(|stored| read_stored(|| format!("sources of {name}"), stored));
    let sources: StateSources = stored.transpose()?.unwrap_or_default();
    Ok(Json(StateSources { settings_described: sources.settings.described(), ..sources }))
}

/// The node is refused from its next request on.
#[utoipa::path(tag = "nodes", security(("token" = ["node.revoke"]), ("session" = ["node.revoke"])), responses((status = 200, body = String)))]
#[post("/api/nodes/<name>/revoke")]
pub async fn revoke(
    name: &str,
    caller: AllowedWithin<NodeRevoke>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<String> {
    let mut transaction = db.begin().await?;
    let id = node::locked_by_name(&mut *transaction, name)
        .await?
        .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    caller.check_nodes(&mut transaction, &[id]).await?;
    // It is told at once, if it can be woken: it deletes its secrets then.
    wake::add(&mut transaction, &caller.person, Some("revoked"), &[id]).await?;
    if !node::revoke(&mut transaction, id).await? {
        return Err(ApiError::Conflict {
            message: format!("{name} is already revoked"),
            hint: "constans node list shows since when".to_owned(),
        });
    }
    here.refusals
        .add(&Refusal { at: crate::clock::now(), node: id, refused: true, keys: Vec::new() })
        .map_err(ApiError::Protected)?;
    audit::add(&mut *transaction, &caller.person, "revoked", name, &json!({ "node": id })).await?;
    transaction.commit().await?;
    here.waker.wake("nodes");
    Ok(Json(name.to_owned()))
}

/// Resolves a duplicate identity: the machine that checks in next is the node.
#[utoipa::path(tag = "nodes", security(("token" = ["node.revoke"]), ("session" = ["node.revoke"])), responses((status = 200, body = String)))]
#[post("/api/nodes/<name>/resolve-duplicate")]
pub async fn resolve_duplicate(
    name: &str,
    caller: AllowedWithin<NodeRevoke>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<String> {
    let mut transaction = db.begin().await?;
    let id = node::locked_by_name(&mut *transaction, name)
        .await?
        .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    caller.check_nodes(&mut transaction, &[id]).await?;
    if !check_in::resolve_duplicate(&mut transaction, id).await? {
        return Err(ApiError::Conflict {
            message: format!("{name} has no duplicate identity"),
            hint: "nothing to resolve".to_owned(),
        });
    }
    audit::add(&mut *transaction, &caller.person, "resolved duplicate", name, &json!({ "node": id })).await?;
    transaction.commit().await?;
    here.waker.wake("nodes");
    Ok(Json(name.to_owned()))
}

fn summary(
    row: NodeRow,
    releases: &BTreeMap<String, Vec<String>>,
    now: Timestamp,
) -> Result<NodeSummary, ApiError> {
    fn read<T: DeserializeOwned>(
        row: &NodeRow,
        what: &str,
        value: Option<Value>,
    ) -> Result<Option<T>, ApiError> {
        value.map(|value| read_stored(|| format!("{what} of {}", row.name), value)).transpose()
    }
    let of = |digest: &Option<String>| {
        digest.as_ref().and_then(|digest| releases.get(digest)).cloned().unwrap_or_default()
    };
    let last_contact =
        read_stored(|| format!("last contact of {}", row.name), row.last_contact.clone().into())?;
    let inputs = problem_inputs(&row, last_contact);
    let run_status = read(&row, "status", row.full_status.clone().map(Value::from))?;
    let mut node = NodeSummary {
        id: row.id,
        last_heard: row.heard_at.map(|at| at.to_jiff()),
        promised: row.promised_at.map(|at| at.to_jiff()),
        clock_off_secs: row.heard_at.map(|_| row.clock_off_ms / 1_000),
        last_contact,
        status: node_status(row.revoked_at.is_some(), inputs.is_unusable, last_contact, run_status),
        problems: problems(&inputs, now),
        open_episodes: row.open_episodes,
        revoked_at: row.revoked_at.map(|at| at.to_jiff()),
        certificate_ends: row.ends_at.map(|at| at.to_jiff()),
        stage: Some(row.stage.clone()).filter(|stage| !stage.is_empty()),
        groups: read(&row, "groups", Some(row.groups.clone()))?.unwrap_or_default(),
        releases: of(&row.state),
        wanted: row.state.clone(),
        wanted_since: row.since.map(|at| at.to_jiff()),
        changed_by: None,
        freezes: Vec::new(),
        can_be_woken: None,
        mode: read(&row, "mode", Some(row.mode.clone()).filter(|mode| !mode.is_empty()).map(Value::from))?,
        unusable: row.unusable.clone(),
        duplicate_identity_since: row.duplicate_identity_since.map(|at| at.to_jiff()),
        memory_lost_at: row.memory_lost_at.map(|at| at.to_jiff()),
        restart_pending: read(
            &row,
            "pending restart",
            row.restart_pending.clone().filter(|pending| !pending.is_null()),
        )?,
        agent_upgrade: read(
            &row,
            "upgrade of the agent",
            row.agent_upgrade.clone().filter(|upgrade| !upgrade.is_null()),
        )?,
        run: row.full_run,
        run_status,
        run_began: row.full_began.map(|at| at.to_jiff()),
        has: row.full_state.clone(),
        has_releases: of(&row.full_state),
        labels: read_stored(|| format!("labels of {}", row.name), row.labels)?,
        about: read_stored(|| format!("report of {} about itself", row.name), row.about)?,
        name: row.name,
        words: NodeWords::default(),
    };
    node.words = NodeWords::of(&node);
    Ok(node)
}

fn problem_inputs(row: &NodeRow, last_contact: LastContact) -> ProblemInputs {
    ProblemInputs {
        last_contact,
        is_unusable: row.unusable.is_some(),
        has_duplicate_identity: row.duplicate_identity_since.is_some(),
        is_memory_lost: row.memory_lost_at.is_some(),
        is_upgrade_failed: row.agent_upgrade.as_ref().is_some_and(|upgrade| upgrade["state"] == "failed"),
        certificate_ends: row.ends_at.map(|at| at.to_jiff()),
        overdue_at: row.overdue_at.map(|at| at.to_jiff()),
        clock_off: SignedDuration::from_millis(row.clock_off_ms),
    }
}
