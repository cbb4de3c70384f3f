//! Runs of a node.

use crate::problem::{Answer, ApiError};
use crate::store::{node, run};
use crate::trust::{Allowed, NodeRead};
use constans_wire::report::RunReport;
use constans_wire::run::RunSummary;
use rocket::State;
use rocket::serde::json::Json;
use serde::de::DeserializeOwned;
use serde_json::Value;
use sqlx::PgPool;

/// `GET /api/nodes/<name>/runs`: a node's runs, the newest first; equal uneventful ones as one.
#[rocket::get("/api/nodes/<name>/runs")]
pub async fn list(name: &str, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<RunSummary>> {
    let id = node::by_name(db.inner(), name).await?.ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    let rows = run::of_node(db.inner(), id).await?;
    rows.into_iter().map(shown).collect::<Result<Vec<_>, _>>().map(Json)
}

/// `GET /api/nodes/<name>/runs/<id>`: the whole report of a run; the beginning of its id is enough.
#[rocket::get("/api/nodes/<name>/runs/<id>")]
pub async fn show(name: &str, id: &str, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<RunReport> {
    let node = node::by_name(db.inner(), name).await?.ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    let report = run::report(db.inner(), node, id).await?.ok_or_else(|| ApiError::Missing { what: "run kept whole", name: id.to_owned() })?;
    read(report).map(Json)
}

fn shown(row: run::ListedRow) -> Result<RunSummary, ApiError> {
    Ok(RunSummary {
        run: row.run,
        began: row.began.to_jiff(),
        last: row.last.to_jiff(),
        count: row.count,
        mode: read(Value::from(row.mode))?,
        status: read(Value::from(row.status))?,
        counts: row.counts.map(read).transpose()?,
        state: row.state,
        learned: row.learned.to_jiff(),
    })
}

fn read<T: DeserializeOwned>(value: Value) -> Result<T, ApiError> {
    serde_json::from_value(value).map_err(|error| ApiError::Wrong(format!("what is stored cannot be read: {error}")))
}
