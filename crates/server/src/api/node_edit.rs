//! Labels and names of nodes, and their retirement.

use super::change::{ask, draft_of, repeated};
use crate::body::JsonBody;
use crate::change::documents::read_documents;
use crate::here::Here;
use crate::problem::{Answer, ApiError};
use crate::store::node;
use crate::thread::on_thread;
use crate::trust::{Asker, MayAskWithin, NodeEdit as MayEditNodes};
use constans_core::change::{
    DocumentEdit, NodeEdit, NodeEditError, edit_by_table, edit_nodes, read_node_table,
};
use constans_core::words::check_node_name;
use constans_wire::change::{EditNodeTable, HowToChange, LabelNodes, RenameNode, RetireNodes};
use constans_wire::kit::Changed;
use rocket::serde::json::Json;
use rocket::{State, post};
use sqlx::PgPool;
use std::collections::BTreeSet;
use std::slice;
use std::sync::Arc;

/// This many nodes are labelled at once.
const MAX_NODES: usize = 1_000;
/// This many labels are set and removed at once.
const MAX_LABELS: usize = 50;

/// Sets and removes labels of nodes.
#[utoipa::path(tag = "nodes", security(("token" = ["node.edit"]), ("session" = ["node.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = LabelNodes, responses((status = 200, body = Changed)))]
#[post("/api/labels", data = "<wanted>")]
pub async fn label(
    wanted: JsonBody<LabelNodes>,
    caller: MayAskWithin<MayEditNodes>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let LabelNodes { nodes, set, remove, how } = wanted.0;
    if nodes.is_empty() || nodes.len() > MAX_NODES {
        return Err(ApiError::invalid("nodes", format!("from 1 to {MAX_NODES} nodes are labelled at once")));
    }
    if set.is_empty() && remove.is_empty() {
        return Err(ApiError::invalid("set", "no label is set or removed"));
    }
    if set.len() + remove.len() > MAX_LABELS {
        return Err(ApiError::invalid(
            "set",
            format!("at most {MAX_LABELS} labels are set and removed at once"),
        ));
    }
    let of = if let [one] = nodes.as_slice() { one.clone() } else { format!("{} nodes", nodes.len()) };
    let labels = set
        .iter()
        .map(|(key, value)| format!("{key}={value}"))
        .chain(remove.iter().map(|key| format!("without {key}")));
    let what = format!("label {of}: {}", labels.collect::<Vec<_>>().join(", "));
    let asker = caller.for_names(db, &nodes).await?;
    edit(&nodes, &NodeEdit::Label { set, remove }, what, &how, &asker, db, here).await
}

/// Sets labels and names of nodes by a table, as one change: all lines or none.
#[utoipa::path(tag = "nodes", security(("token" = ["node.edit"]), ("session" = ["node.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = EditNodeTable, responses((status = 200, body = Changed)))]
#[post("/api/node-table", data = "<wanted>")]
pub async fn by_table(
    wanted: JsonBody<EditNodeTable>,
    caller: MayAskWithin<MayEditNodes>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let EditNodeTable { table_csv, how } = wanted.0;
    let told = |errors: Vec<String>| ApiError::invalid("table_csv", errors.join("\n"));
    let lines = on_thread(move || read_node_table(&table_csv))
        .await?
        .map_err(|errors| told(errors.iter().map(ToString::to_string).collect()))?;
    let names: Vec<String> = lines.iter().map(|line| line.name.clone()).collect();
    let asker = caller.for_names(db, &names).await?;
    if let Some(changed) = repeated(db, here, &asker).await? {
        return Ok(Json(changed));
    }
    let mut connection = db.acquire().await?;
    let ids = node::ids(&mut *connection, &names).await?;
    let missing = names.iter().filter(|name| !ids.contains_key(*name));
    let mut wrong: Vec<String> =
        missing.take(MAX_TOLD).map(|name| format!("there is no node {name}")).collect();
    let next: Vec<String> = lines
        .iter()
        .filter(|line| line.rename_to.as_ref().is_some_and(|to| *to != line.name))
        .filter_map(|line| line.rename_to.clone())
        .collect();
    let used = node::names_in_use(&mut *connection, &next).await?;
    wrong.extend(used.iter().take(MAX_TOLD).map(|name| format!("there is a node {name} already")));
    let mut seen = BTreeSet::new();
    wrong.extend(
        next.iter()
            .filter(|name| !seen.insert(*name))
            .take(MAX_TOLD)
            .map(|name| format!("two nodes would be called {name}")),
    );
    if !wrong.is_empty() {
        return Err(told(wrong));
    }
    let documents = read_documents(&mut connection).await?;
    let nodes = node::documents(&mut *connection, &ids.into_values().collect::<Vec<_>>()).await?;
    drop(connection);
    let nodes = nodes.into_iter().map(|(id, document)| (id.to_string(), document)).collect();
    let edits = edit_by_table(&documents, &nodes, &lines);
    if edits.is_empty() {
        let message = "all nodes have the labels and names of the table already".to_owned();
        return Err(ApiError::Conflict { message, hint: "nothing to do".to_owned() });
    }
    let what = format!("labels and names of {} nodes by a table", lines.len());
    ask_for(edits, what, &how, &asker, db, here).await
}

/// This many mistakes of one sort are told at once.
const MAX_TOLD: usize = 20;

/// Gives a node another name. Groups that name it follow; its identity and its certificate stay.
#[utoipa::path(tag = "nodes", security(("token" = ["node.edit"]), ("session" = ["node.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = RenameNode, responses((status = 200, body = Changed)))]
#[post("/api/nodes/<name>/rename", data = "<wanted>")]
pub async fn rename(
    name: &str,
    wanted: JsonBody<RenameNode>,
    caller: MayAskWithin<MayEditNodes>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let RenameNode { to, how } = wanted.0;
    check_node_name(&to).map_err(|because| ApiError::invalid("to", because))?;
    let asker = caller.for_names(db, &[name.to_owned()]).await?;
    if let Some(changed) = repeated(db, here, &asker).await? {
        return Ok(Json(changed));
    }
    if to != name && !node::names_in_use(db.inner(), slice::from_ref(&to)).await?.is_empty() {
        return Err(ApiError::Conflict {
            message: format!("there is a node {to} already"),
            hint: format!("constans node show {to}"),
        });
    }
    let what = format!("rename the node {name} to {to}");
    edit(&[name.to_owned()], &NodeEdit::Rename { to }, what, &how, &asker, db, here).await
}

/// Retires nodes: they are refused from their next requests on, and are no longer listed or counted. What their machines have stays there.
#[utoipa::path(tag = "nodes", security(("token" = ["node.edit"]), ("session" = ["node.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = RetireNodes, responses((status = 200, body = Changed)))]
#[post("/api/retirements", data = "<wanted>")]
pub async fn retire(
    wanted: JsonBody<RetireNodes>,
    caller: MayAskWithin<MayEditNodes>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let RetireNodes { nodes, how } = wanted.0;
    if nodes.is_empty() || nodes.len() > MAX_NODES {
        return Err(ApiError::invalid("nodes", format!("from 1 to {MAX_NODES} nodes are retired at once")));
    }
    let what = match nodes.as_slice() {
        [one] => format!("retire the node {one}"),
        several => format!("retire {} nodes", several.len()),
    };
    let asker = caller.for_names(db, &nodes).await?;
    edit(&nodes, &NodeEdit::Retire, what, &how, &asker, db, here).await
}

/// Edits nodes, as a change.
pub(super) async fn edit(
    names: &[String],
    edit: &NodeEdit,
    what: String,
    how: &HowToChange,
    asker: &Asker,
    db: &PgPool,
    here: &Here,
) -> Answer<Changed> {
    if let Some(changed) = repeated(db, here, asker).await? {
        return Ok(Json(changed));
    }
    let mut connection = db.acquire().await?;
    let ids = node::ids(&mut *connection, names).await?;
    if let Some(missing) = names.iter().find(|name| !ids.contains_key(*name)) {
        return Err(ApiError::Missing { what: "node", name: missing.clone() });
    }
    let documents = read_documents(&mut connection).await?;
    let nodes = node::documents(&mut *connection, &ids.into_values().collect::<Vec<_>>()).await?;
    drop(connection);
    let nodes = nodes.into_iter().map(|(id, document)| (id.to_string(), document)).collect();
    let edits = edit_nodes(&documents, &nodes, edit).map_err(|error| match error {
        NodeEditError::Same(message) => ApiError::Conflict { message, hint: "nothing to do".to_owned() },
        NodeEditError::Label(_) | NodeEditError::Both(_) => ApiError::invalid("set", error.to_string()),
    })?;
    ask_for(edits, what, how, asker, db, here).await
}

async fn ask_for(
    edits: Vec<DocumentEdit>,
    what: String,
    how: &HowToChange,
    asker: &Asker,
    db: &PgPool,
    here: &Here,
) -> Answer<Changed> {
    ask(db, here, &draft_of("node", what, edits, how, asker)).await
}
