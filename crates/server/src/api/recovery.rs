//! Recovering after the database was restored to an earlier state.

use crate::body::JsonBody;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::{audit, freeze, recovery};
use crate::trust::{Allowed, NodeRead, ServerRecover};
use constans_wire::recovery::{EndRecovery, ForgottenFreeze, Recovering, Recovery};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::{PgConnection, PgPool};

/// Whether the server is recovering, and what ending the recovery would change.
#[utoipa::path(tag = "server", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Recovery)))]
#[get("/api/recovery")]
pub async fn show(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Recovery> {
    let mut connection = db.acquire().await?;
    Ok(Json(Recovery { recovering: now(&mut connection).await? }))
}

async fn now(db: &mut PgConnection) -> Result<Option<Recovering>, ApiError> {
    let Some(since) = recovery::since(&mut *db).await? else { return Ok(None) };
    let nodes = recovery::nodes(&mut *db).await?;
    let forgotten = freeze::forgotten(db).await?.into_iter().map(|row| {
        let freeze = read_stored(|| format!("freezes of {}", row.node), row.held)?;
        Ok(ForgottenFreeze { nodes: row.nodes.unsigned_abs(), node: row.node, freeze })
    });
    let names =
        |rows: Vec<&recovery::NodeRow>| rows.into_iter().map(|row| row.name.clone()).collect::<Vec<String>>();
    let differs = |row: &&recovery::NodeRow| row.heard && row.has.is_some() && row.has != row.wanted;
    Ok(Some(Recovering {
        since: since.to_jiff(),
        nodes: nodes.len(),
        not_heard: names(nodes.iter().filter(|row| !row.heard).collect()),
        would_change: names(nodes.iter().filter(differs).collect()),
        forgotten_freezes: forgotten.collect::<Result<_, ApiError>>()?,
    }))
}

/// Ends the recovery: nodes receive the desired state of this database from now on.
#[utoipa::path(tag = "server", security(("token" = ["server.recover"]), ("session" = ["server.recover"])), request_body = EndRecovery, responses((status = 200, body = Recovering)))]
#[post("/api/recovery/end", data = "<sent>")]
pub async fn end(
    sent: JsonBody<EndRecovery>,
    caller: Allowed<ServerRecover>,
    db: &State<PgPool>,
) -> Answer<Recovering> {
    let mut transaction = db.begin().await?;
    let before = now(&mut transaction).await?.ok_or_else(|| ApiError::Conflict {
        message: "the server is not recovering".to_owned(),
        hint: "nothing to end".to_owned(),
    })?;
    if !before.not_heard.is_empty() && !sent.although_not_heard {
        return Err(ApiError::Conflict {
            message: format!("{} of {} nodes have had no contact since: {}", before.not_heard.len(), before.nodes, before.not_heard.join(", ")),
            hint: "wait for them, or end it with --although-not-heard: they then receive the desired state of this database, whatever they have"
                .to_owned(),
        });
    }
    recovery::end(&mut transaction, &caller.person).await?;
    let detail = json!({ "would_change": before.would_change, "forgotten_freezes": before.forgotten_freezes, "not_heard": before.not_heard });
    audit::add(&mut *transaction, &caller.person, "ended recovering", "server", &detail).await?;
    transaction.commit().await?;
    Ok(Json(before))
}
