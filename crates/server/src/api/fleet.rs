//! The fleet as a whole, and the part of it that a filter names.

use super::node::all_summaries;
use crate::problem::{Answer, ApiError};
use crate::store::{exception, joining, recovery, run};
use crate::trust::{Allowed, NodeRead};
use constans_core::attention::{AttentionNode, Exception, TugOfWar, attention};
use constans_core::filter::{Answer as Decided, Condition, NodeView};
use constans_core::standing::Hearing;
use constans_folder::on_large_stack;
use constans_wire::check_in::NodeSummary;
use constans_wire::fleet::{Fleet, LateRun, SignCount, Tick};
use jiff::Timestamp;
use rocket::serde::json::Json;
use rocket::{State, get};
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use sqlx::PgPool;
use std::collections::{BTreeMap, BTreeSet};

/// More nodes are not sent one by one.
const MOST_TICKS: usize = 2_000;

/// Nodes that a filter names, and how many did not report what it asks for.
pub struct Filtered {
    /// The nodes.
    pub nodes: Vec<NodeSummary>,
    /// How many could not be decided.
    pub undecidable: usize,
}

/// The fleet, or the part of it that a filter names: signs, what wants attention, what happened lately.
#[utoipa::path(tag = "fleet", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(("filter" = Option<String>, Query, description = "CEL over labels, about and node")), responses((status = 200, body = Fleet)))]
#[get("/api/fleet?<filter>")]
pub async fn fleet(filter: Option<&str>, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Fleet> {
    let now = Timestamp::now();
    let all = all_summaries(db.inner(), now).await?;
    let total = all.iter().filter(|node| node.revoked_at.is_none()).count();
    let Filtered { nodes, undecidable } = filtered(all, filter).await?;
    let names: BTreeSet<&str> = nodes.iter().map(|node| node.name.as_str()).collect();
    let lately = run::latest(db.inner()).await?.into_iter().filter(|row| names.contains(row.node.as_str())).take(12);
    let stages = super::stage::stages(db.inner()).await?;
    Ok(Json(Fleet {
        now,
        total,
        shown: nodes.iter().filter(|node| node.revoked_at.is_none()).count(),
        undecidable,
        signs: signs(&nodes),
        ticks: ticks(&nodes),
        attention: what_wants_attention(db.inner(), &nodes, now).await?,
        stages,
        lately: lately.map(late_run).collect::<Result<_, _>>()?,
        joining: joining::waiting(db.inner()).await?.len(),
        recovering_since: recovery::since(db.inner()).await?.map(|at| at.to_jiff()),
    }))
}

/// Returns the nodes that a filter names. It is compiled and evaluated on a thread with a large stack.
///
/// # Errors
///
/// Returns everything that is wrong with the filter.
pub async fn filtered(nodes: Vec<NodeSummary>, filter: Option<&str>) -> Result<Filtered, ApiError> {
    let Some(filter) = filter.map(str::trim).filter(|filter| !filter.is_empty()).map(str::to_owned) else {
        return Ok(Filtered { nodes, undecidable: 0 });
    };
    let work = move || on_large_stack(|| decide(nodes, &filter));
    tokio::task::spawn_blocking(work).await.map_err(|error| ApiError::Wrong(format!("the filter broke off: {error}")))?
}

fn decide(nodes: Vec<NodeSummary>, filter: &str) -> Result<Filtered, ApiError> {
    let condition = Condition::parse_for_list(filter).map_err(|errors| {
        let said: Vec<String> =
            errors.iter().map(|error| format!("{} (at `{}`)", error.message, filter.get(error.range.clone()).unwrap_or(""))).collect();
        let hint = errors.into_iter().find_map(|error| error.hint);
        ApiError::Filter {
            message: said.join("; "),
            hint: hint.unwrap_or_else(|| "a filter is CEL, as labels.site == \"auken\" && node.sign == \"failed\"".to_owned()),
        }
    })?;
    let mut kept = Filtered { nodes: Vec::new(), undecidable: 0 };
    for node in nodes {
        let view = NodeView { name: node.name.clone(), labels: node.labels.clone(), about: node.about.clone() };
        match condition.holds_now(&view, listed_fields(&node)) {
            Ok(Decided::Yes) => kept.nodes.push(node),
            Ok(Decided::No) => {}
            Ok(Decided::Undecidable(_)) => kept.undecidable += 1,
            Err(error) => {
                return Err(ApiError::Filter { message: error.message, hint: "compare texts with texts and numbers with numbers".to_owned() });
            }
        }
    }
    Ok(kept)
}

/// Returns what filters of lists may ask of a node as it is now.
fn listed_fields(node: &NodeSummary) -> Value {
    let standing = &node.standing;
    json!({
        "sign": node.sign,
        "hearing": node.hearing,
        "mode": standing.mode.map_or_else(|| json!(""), |mode| json!(mode)),
        "stage": standing.stage.clone().unwrap_or_default(),
        "groups": standing.groups,
        "releases": standing.has_releases,
        "troubles": node.troubles,
        "open_episodes": node.open_episodes,
    })
}

fn signs(nodes: &[NodeSummary]) -> Vec<SignCount> {
    let mut counts = BTreeMap::new();
    for node in nodes {
        *counts.entry(node.sign).or_insert(0) += 1;
    }
    counts.into_iter().map(|(sign, nodes)| SignCount { sign, nodes }).collect()
}

fn ticks(nodes: &[NodeSummary]) -> Vec<Tick> {
    if nodes.len() > MOST_TICKS {
        return Vec::new();
    }
    let mut ticks: Vec<Tick> =
        nodes.iter().map(|node| Tick { name: node.name.clone(), sign: node.sign, late: node.hearing == Hearing::Late }).collect();
    ticks.sort_by(|left, right| (left.sign, &left.name).cmp(&(right.sign, &right.name)));
    ticks
}

async fn what_wants_attention(db: &PgPool, nodes: &[NodeSummary], now: Timestamp) -> Result<Vec<constans_core::attention::Attention>, ApiError> {
    let seen: Vec<AttentionNode> = nodes
        .iter()
        .map(|node| AttentionNode {
            name: node.name.clone(),
            sign: node.sign,
            hearing: node.hearing,
            last_heard: node.last_heard,
            promised: node.promised,
            troubles: node.troubles.clone(),
            unusable: node.standing.unusable.clone(),
            wanted_since: node.standing.wanted_since,
        })
        .collect();
    let exceptions: Vec<Exception> = exception::all(db)
        .await?
        .into_iter()
        .map(|row| {
            let (node, address, said, since) = (row.node, row.address, row.said, row.since.to_jiff());
            Ok(Exception { node, address, sort: read(Value::from(row.outcome))?, said, since })
        })
        .collect::<Result<_, ApiError>>()?;
    let is_shown = |name: &str| nodes.iter().any(|node| node.name == name);
    let tugs: Vec<TugOfWar> = exception::tugs_of_war(db)
        .await?
        .into_iter()
        .filter(|(node, ..)| is_shown(node))
        .map(|(node, address, times, since)| TugOfWar { node, address, times, since: since.to_jiff() })
        .collect();
    Ok(attention(&seen, &exceptions, &tugs, now))
}

fn late_run(row: run::LateRow) -> Result<LateRun, ApiError> {
    Ok(LateRun {
        node: row.node,
        run: row.run,
        began: row.began.to_jiff(),
        learned: row.learned.to_jiff(),
        mode: read(Value::from(row.mode))?,
        status: read(Value::from(row.status))?,
    })
}

fn read<T: DeserializeOwned>(value: Value) -> Result<T, ApiError> {
    serde_json::from_value(value).map_err(|error| ApiError::Wrong(format!("what is stored cannot be read: {error}")))
}
