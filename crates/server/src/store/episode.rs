//! Drift episodes.

use crate::clock::sql_now;
use constans_core::episode::{ClosedAs, EpisodeChange, OpenEpisode};
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::{PgConnection, PgExecutor};
use std::collections::BTreeMap;
use uuid::Uuid;

/// An episode as it is listed.
#[derive(Debug, sqlx::FromRow)]
pub struct EpisodeRow {
    /// The clause.
    pub address: String,
    /// How much it matters.
    pub severity: String,
    /// The last moment the clause was known to be in line.
    pub in_line_until: SqlTimestamp,
    /// When it was detected.
    pub detected_at: SqlTimestamp,
    /// The run that detected it.
    pub detected_run: Uuid,
    /// When it was in line again, or no longer wanted.
    pub closed_at: Option<SqlTimestamp>,
    /// How it ended.
    pub closed_as: Option<String>,
    /// The run that ended it.
    pub closed_run: Option<Uuid>,
}

/// Returns a node's open episodes by address.
pub async fn open_of(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<BTreeMap<constans_core::address::ClauseAddress, OpenEpisode>> {
    let rows: Vec<(String, String, SqlTimestamp, SqlTimestamp)> =
        sqlx::query_as("select address, wanted, in_line_until, detected_at from episode where node = $1 and closed_at is null")
            .bind(node)
            .fetch_all(db)
            .await?;
    let decode = |error: serde_json::Error| sqlx::Error::Decode(error.into());
    rows.into_iter()
        .map(|(address, wanted, until, detected)| {
            let episode = OpenEpisode {
                wanted: serde_json::from_value(wanted.into()).map_err(decode)?,
                in_line_until: until.to_jiff(),
                detected_at: detected.to_jiff(),
            };
            Ok((serde_json::from_value(address.into()).map_err(decode)?, episode))
        })
        .collect()
}

/// Notes what a run did to the episodes of its node. They are put right `ended_at`, and found right when it `began`.
pub async fn apply(db: &mut PgConnection, node: Uuid, run: Uuid, change: &EpisodeChange, began: Timestamp, ended_at: Timestamp) -> sqlx::Result<()> {
    match change {
        EpisodeChange::Open { address, severity, wanted, window } => sqlx::query(
            "insert into episode (node, address, severity, wanted, in_line_until, detected_at, detected_run, learned_at) values ($1, $2, $3, $4, $5, $6, $7, $8)
             on conflict (node, address) where closed_at is null do nothing",
        )
        .bind(node)
        .bind(address.to_string())
        .bind(serde_json::to_value(severity).ok().as_ref().and_then(serde_json::Value::as_str))
        .bind(wanted.as_str())
        .bind(window.from.to_sqlx())
        .bind(window.to.to_sqlx())
        .bind(run)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ()),
        EpisodeChange::Close { address, closed_as } => {
            let at = if *closed_as == ClosedAs::Corrected { ended_at } else { began };
            sqlx::query(
                "update episode set closed_at = greatest($4, detected_at), closed_as = $5, closed_run = $3, closed_learned_at = $6
                 where node = $1 and address = $2 and closed_at is null",
            )
            .bind(node)
            .bind(address.to_string())
            .bind(run)
            .bind(at.to_sqlx())
            .bind(serde_json::to_value(closed_as).ok().as_ref().and_then(serde_json::Value::as_str))
            .bind(sql_now())
            .execute(db)
            .await
            .map(|_| ())
        }
    }
}

/// Counts a node's open episodes anew, so that its next run knows whether there is anything to follow.
pub async fn count_open(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<()> {
    sqlx::query("update node_now set open_episodes = (select count(*) from episode where node = $1 and closed_at is null) where node = $1")
        .bind(node)
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns a node's episodes, open ones first, then the newest; at most 500.
pub async fn of_node(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Vec<EpisodeRow>> {
    sqlx::query_as(
        "select address, severity, in_line_until, detected_at, detected_run, closed_at, closed_as, closed_run from episode
         where node = $1 order by closed_at is not null, detected_at desc limit 500",
    )
    .bind(node)
    .fetch_all(db)
    .await
}
