//! The nodes that a filter selects which is followed: also nodes that come later are selected, and what was selected when is kept.
//! It asks for what a node is, by labels, name and what it reported, and not for how it is doing.

use crate::problem::ApiError;
use crate::store::control;
use crate::store::listing;
use crate::store::narrowing::Narrowing;
use crate::store::wanted;
use crate::thread::on_thread;
use constans_core::filter::{Answer, Condition, ConditionError, NodeView};
use serde::de::DeserializeOwned;
use serde_json::Value;
use sqlx::PgConnection;

/// This many nodes are read at once.
const AT_ONCE: i64 = 10_000;

/// The nodes that match a filter.
pub struct Selected {
    /// Which.
    pub nodes: Narrowing,
    /// Number of nodes that did not report a field that it reads; they do not match.
    pub undecidable: usize,
}

/// Returns the nodes that match now. Those that did not report a field that it reads do not match.
///
/// # Errors
///
/// Returns everything that is wrong with the filter.
pub async fn nodes_of(db: &mut PgConnection, filter: &str) -> Result<Narrowing, ApiError> {
    selected(db, filter).await.map(|selected| selected.nodes)
}

/// Returns the nodes that match now, and how many did not report a field that it reads.
///
/// # Errors
///
/// Returns everything that is wrong with the filter.
pub async fn selected(db: &mut PgConnection, filter: &str) -> Result<Selected, ApiError> {
    let text = filter.to_owned();
    let plain = on_thread(move || parse(&text).map(|condition| condition.plain())).await??;
    if let Some(plain) = plain {
        let nodes = Narrowing::By(plain);
        let unknown =
            if nodes.may_be_undecidable() { listing::undecidable(&mut *db, &nodes).await? } else { 0 };
        return Ok(Selected { nodes, undecidable: usize::try_from(unknown).unwrap_or(0) });
    }
    let (mut selected, mut undecidable) = (Vec::new(), 0);
    let mut after = None;
    loop {
        let rows = wanted::node_views_after(&mut *db, after, None, AT_ONCE).await?;
        let Some(last) = rows.last() else {
            return Ok(Selected { nodes: Narrowing::Only(selected), undecidable });
        };
        after = Some(last.id);
        let text = filter.to_owned();
        let (more, unknown) = on_thread(move || -> Result<_, ApiError> {
            let condition = parse(&text)?;
            let (mut more, mut unknown) = (Vec::new(), 0);
            for row in rows {
                let view = NodeView { name: row.name, labels: read(row.labels), about: read(row.about) };
                match condition.holds(&view, &Value::Null) {
                    Ok(Answer::Yes) => more.push(row.id),
                    Ok(Answer::No) => {}
                    Ok(Answer::Undecidable(_)) => unknown += 1,
                    Err(error) => return Err(refused(&[error])),
                }
            }
            Ok((more, unknown))
        })
        .await??;
        selected.extend(more);
        undecidable += unknown;
    }
}

/// Has the scopes of the catalogue as it is now select the nodes that match them now, and no other scope any. Returns how many nodes
/// came or went.
///
/// # Errors
///
/// Returns why the database did not.
pub async fn put_in_scopes(db: &mut PgConnection) -> Result<u64, ApiError> {
    let now = control::scopes_now(&mut *db).await?;
    let mut altered = 0;
    for scope in control::scopes(&mut *db).await? {
        let nodes = if now.contains(&scope) {
            match nodes_of(&mut *db, &scope).await {
                Ok(nodes) => Some(nodes),
                Err(error @ ApiError::Filter { .. }) => {
                    tracing::warn!(%error, scope, "the scope cannot be evaluated");
                    continue;
                }
                Err(error) => return Err(error),
            }
        } else {
            None
        };
        altered += control::put_in_scope(&mut *db, &scope, nodes.as_ref()).await?;
    }
    Ok(altered)
}

fn parse(filter: &str) -> Result<Condition, ApiError> {
    Condition::parse_for_group(filter).map_err(|errors| refused(&errors))
}

fn refused(errors: &[ConditionError]) -> ApiError {
    let messages: Vec<&str> = errors.iter().map(|error| error.message.as_str()).collect();
    let hint = errors.iter().find_map(|error| error.hint.clone());
    let example = "a filter is CEL over labels, about and node.name, for example labels.role == \"kiosk\"";
    ApiError::Filter { message: messages.join("; "), hint: hint.unwrap_or_else(|| example.to_owned()) }
}

fn read<T: DeserializeOwned + Default>(value: Value) -> T {
    T::deserialize(value).unwrap_or_default()
}
