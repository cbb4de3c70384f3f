//! Drift episodes.

use super::cursor::{Cursor, PageRange};
use crate::clock::sql_now;
use constans_core::episode::{ClosedAs, EpisodeChange, OpenEpisode};
use constans_core::run::RelatedRecords;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde::Serialize;
use sqlx::types::Json;
use sqlx::{PgConnection, PgExecutor};
use std::collections::BTreeMap;
use uuid::Uuid;

/// An episode as it is listed.
#[derive(Debug, sqlx::FromRow)]
pub struct EpisodeRow {
    /// Its id.
    pub id: i64,
    /// The clause.
    pub address: String,
    /// Its severity.
    pub severity: String,
    /// The last moment the clause was known to be in line.
    pub in_line_until: SqlTimestamp,
    /// When it was detected.
    pub detected_at: SqlTimestamp,
    /// The run that detected it.
    pub detected_run: Uuid,
    /// When it was in line again, or no longer desired.
    pub closed_at: Option<SqlTimestamp>,
    /// How it ended.
    pub closed_as: Option<String>,
    /// The run that ended it.
    pub closed_run: Option<Uuid>,
    /// The drill in which it was broken on purpose.
    pub drill: Option<i64>,
    /// What the node had on record of the time in which it happened, if that is kept.
    pub related: Option<Json<RelatedRecords>>,
    /// By which moment it is ordered in the list.
    pub listed_at: SqlTimestamp,
}

/// Returns a node's open episodes by address.
pub async fn open_of(
    db: impl PgExecutor<'_>,
    node: Uuid,
) -> sqlx::Result<BTreeMap<constans_core::address::ClauseAddress, OpenEpisode>> {
    let rows: Vec<(String, String, SqlTimestamp, SqlTimestamp)> =
        sqlx::query_as(include_str!("sql/episode/open_of.sql")).bind(node).fetch_all(db).await?;
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

/// Episodes that open, column by column.
#[derive(Default)]
struct Opened {
    addresses: Vec<String>,
    severities: Vec<String>,
    wanted: Vec<String>,
    from: Vec<SqlTimestamp>,
    to: Vec<SqlTimestamp>,
    drills: Vec<Option<i64>>,
}

/// Episodes that end, column by column.
#[derive(Default)]
struct Closed {
    addresses: Vec<String>,
    ways: Vec<String>,
    at: Vec<SqlTimestamp>,
}

/// Notes what a run did to the episodes of its node: they are put right `ended_at`, and found right when it `began`. However many
/// there are, it takes two statements.
pub async fn apply(
    db: &mut PgConnection,
    node: Uuid,
    run: Uuid,
    changes: &[EpisodeChange],
    began: Timestamp,
    ended_at: Timestamp,
) -> sqlx::Result<()> {
    let (mut opened, mut closed) = (Opened::default(), Closed::default());
    for change in changes {
        match change {
            EpisodeChange::Open { address, severity, wanted, window, drill } => {
                opened.drills.push(*drill);
                opened.addresses.push(address.to_string());
                opened.severities.push(word(severity));
                opened.wanted.push(wanted.as_str().to_owned());
                opened.from.push(window.from.to_sqlx());
                opened.to.push(window.to.to_sqlx());
            }
            EpisodeChange::Close { address, closed_as } => {
                closed.addresses.push(address.to_string());
                closed.ways.push(word(closed_as));
                closed.at.push(if *closed_as == ClosedAs::Corrected { ended_at } else { began }.to_sqlx());
            }
        }
    }
    sqlx::query(include_str!("sql/episode/apply_insert_episode.sql"))
        .bind(node)
        .bind(run)
        .bind(sql_now())
        .bind(opened.addresses)
        .bind(opened.severities)
        .bind(opened.wanted)
        .bind(opened.from)
        .bind(opened.to)
        .bind(opened.drills)
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/episode/apply_update_episode.sql"))
        .bind(node)
        .bind(run)
        .bind(sql_now())
        .bind(closed.addresses)
        .bind(closed.ways)
        .bind(closed.at)
        .execute(db)
        .await
        .map(|_| ())
}

fn word(value: &impl Serialize) -> String {
    serde_json::to_value(value).ok().and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default()
}

/// Counts a node's open episodes again, so that its next run knows whether there is anything to follow.
pub async fn count_open(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/episode/count_open.sql")).bind(node).execute(db).await.map(|_| ())
}

impl EpisodeRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.listed_at.to_jiff(), key: self.id.to_string() }
    }
}

/// Returns a page of a node's episodes, open ones first, then the newest.
pub async fn of_node(
    db: impl PgExecutor<'_>,
    range: &PageRange,
    node: Uuid,
) -> sqlx::Result<Vec<EpisodeRow>> {
    range.bind(sqlx::query_as(include_str!("sql/episode/of_node.sql"))).bind(node).fetch_all(db).await
}
