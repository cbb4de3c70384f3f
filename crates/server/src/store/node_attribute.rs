//! Node attributes: values of a node as intervals with two times, when the value applied and when the server learned it.
//! Current values that lists show are copied to columns of `node`.

use crate::clock::sql_now;
use serde_json::Value;
use sqlx::PgConnection;
use uuid::Uuid;

/// Sets an attribute of a node from now on. Returns false, and writes nothing, if it had this value already.
pub async fn set(db: &mut PgConnection, node: Uuid, name: &str, value: &Value) -> sqlx::Result<bool> {
    set_all(db, name, &[(node, value)]).await.map(|new| !new.is_empty())
}

/// Sets an attribute of several nodes from now on. Returns the nodes whose value changed; nothing is written for the others.
pub async fn set_all(
    db: &mut PgConnection,
    name: &str,
    values: &[(Uuid, &Value)],
) -> sqlx::Result<Vec<Uuid>> {
    let (nodes, values): (Vec<Uuid>, Vec<&Value>) = values.iter().copied().unzip();
    let now = sql_now();
    sqlx::query(include_str!("sql/node_attribute/set_all_update_node_attribute.sql"))
        .bind(name)
        .bind(&nodes)
        .bind(&values)
        .bind(now)
        .execute(&mut *db)
        .await?;
    let new: Vec<Uuid> =
        sqlx::query_scalar(include_str!("sql/node_attribute/set_all_insert_node_attribute.sql"))
            .bind(name)
            .bind(&nodes)
            .bind(&values)
            .bind(now)
            .fetch_all(&mut *db)
            .await?;
    if let (Some(copy), false) = (copy_to_node(name), new.is_empty()) {
        sqlx::query(copy).bind(&nodes).bind(&values).execute(db).await?;
    }
    Ok(new)
}

/// Returns the statement that copies an attribute to its column of `node`, if lists show it.
fn copy_to_node(name: &str) -> Option<&'static str> {
    Some(match name {
        "labels" => {
            "update node set labels = new.value from unnest($1::uuid[], $2::jsonb[]) as new (id, value) where node.id = new.id"
        }
        "about" => {
            "update node set about = new.value from unnest($1::uuid[], $2::jsonb[]) as new (id, value) where node.id = new.id"
        }
        "restart_pending" => {
            "update node set restart_pending = new.value from unnest($1::uuid[], $2::jsonb[]) as new (id, value) where node.id = new.id"
        }
        "agent_upgrade" => {
            "update node set agent_upgrade = new.value from unnest($1::uuid[], $2::jsonb[]) as new (id, value) where node.id = new.id"
        }
        _ => return None,
    })
}
