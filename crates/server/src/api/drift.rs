//! Drift over the fleet.

use super::compliance::read_moment;
use super::overview::{Narrowed, narrowed, undecided};
use super::run::shown_episode;
use crate::page::{Page, PageAnswer, PageQuery};
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::drift::{
    self, DriftDimension, EpisodeChoice, FiguresRow, FoundRow, MAX_FOUND, MAX_ROWS, NodeEpisodeRow,
};
use crate::store::exception;
use crate::trust::{Allowed, NodeRead};
use constans_core::words::check_label;
use constans_wire::drift::{
    Drift, DriftFigures, DriftRow, Durations, FoundAcross, FoundAlike, FoundOn, NodeEpisode, Recurring,
};
use jiff::{SignedDuration, Timestamp};
use rocket::serde::json::Json;
use rocket::{State, get};
use serde_json::Value;
use sqlx::PgPool;
use std::collections::BTreeMap;
use std::collections::btree_map::Entry;

/// How long a period is if nobody says otherwise.
const PERIOD: SignedDuration = SignedDuration::from_hours(30 * 24);

/// How often things drifted in a period, how long until it was detected and corrected, how it ended, and where.
#[utoipa::path(tag = "drift", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("by" = Option<String>, Query, description = "`clause`, `node`, `severity`, `baseline`, `control` or `label:KEY`: by what the rows count"),
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
    ("since" = Option<String>, Query, description = "The beginning of the period; 30 days before its end if left out"),
    ("until" = Option<String>, Query, description = "The end of the period; now if left out"),
), responses((status = 200, body = Drift)))]
#[get("/api/drift?<by>&<filter>&<since>&<until>")]
pub async fn figures(
    by: Option<&str>,
    filter: Option<&str>,
    since: Option<&str>,
    until: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<Drift> {
    let now = crate::clock::now();
    let by = by.map(dimension).transpose()?;
    let (since, until) = read_period(since, until, now)?;
    let db = db.inner();
    let Narrowed { by: narrowing, undecidable } = narrowed(db, filter, now).await?;
    let undecidable = undecidable + undecided(db, &narrowing).await?;
    let choice = EpisodeChoice { narrowing: &narrowing, since, until, clause: None, is_open: None };
    let all = drift::count(db, &choice, None).await?.pop().unwrap_or_default();
    let mut rows = match &by {
        Some(by) => drift::count(db, &choice, Some(by)).await?,
        None => Vec::new(),
    };
    let has_more_rows = rows.len() > MAX_ROWS;
    rows.truncate(MAX_ROWS);
    let recurring = exception::recurring_drifts(db, &narrowing).await?.into_iter();
    Ok(Json(Drift {
        since,
        until,
        undecidable: undecidable as u64,
        all: shown(&all),
        rows: rows.into_iter().map(|row| DriftRow { figures: shown(&row), key: row.key }).collect(),
        has_more_rows,
        recurring: recurring
            .map(|(node, address, times, since)| Recurring { node, address, times, since: since.to_jiff() })
            .collect(),
    }))
}

/// The episodes of a period, open ones first, then the newest.
#[utoipa::path(tag = "drift", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
    ("since" = Option<String>, Query, description = "The beginning of the period; 30 days before its end if left out"),
    ("until" = Option<String>, Query, description = "The end of the period; now if left out"),
    ("clause" = Option<String>, Query, description = "Only of this clause, by its address"),
    ("open" = Option<bool>, Query, description = "Only open ones, or with `false` only those that ended"),
    PageQuery
), responses((status = 200, body = Vec<NodeEpisode>)))]
#[get("/api/drift/episodes?<filter>&<since>&<until>&<clause>&<open>&<page..>")]
#[expect(clippy::too_many_arguments, reason = "each is a part of the address")]
pub async fn episodes(
    filter: Option<&str>,
    since: Option<&str>,
    until: Option<&str>,
    clause: Option<&str>,
    open: Option<&str>,
    page: PageQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<NodeEpisode> {
    let now = crate::clock::now();
    let range = page.range()?;
    let (since, until) = read_period(since, until, now)?;
    let is_open = match open {
        None => None,
        Some("true") => Some(true),
        Some("false") => Some(false),
        Some(_) => return Err(ApiError::invalid("open", "it is true or false")),
    };
    let Narrowed { by: narrowing, .. } = narrowed(db, filter, now).await?;
    let choice = EpisodeChoice { narrowing: &narrowing, since, until, clause, is_open };
    let rows = drift::list(db.inner(), &choice, range.after.as_ref(), range.size).await?;
    let shown = |row: NodeEpisodeRow| -> Result<NodeEpisode, ApiError> {
        Ok(NodeEpisode { node: row.name, episode: shown_episode(row.episode)? })
    };
    Page::of_rows(rows, &range, |row| row.episode.cursor()).shown(shown)
}

/// What was found of one clause, side by side: nodes that have the same differences together.
#[utoipa::path(tag = "drift", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("clause" = String, Query, description = "The clause, by its address"),
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
), responses((status = 200, body = FoundAcross)))]
#[get("/api/drift/found?<clause>&<filter>")]
pub async fn found(
    clause: Option<&str>,
    filter: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<FoundAcross> {
    let clause = clause.ok_or_else(|| ApiError::invalid("clause", "name the clause, as file:/etc/issue"))?;
    let Narrowed { by: narrowing, .. } = narrowed(db.inner(), filter, crate::clock::now()).await?;
    let mut rows = drift::found(db.inner(), &narrowing, clause).await?;
    let has_more_nodes = rows.len() > MAX_FOUND;
    rows.truncate(MAX_FOUND);
    let nodes = rows.len() as u64;
    let read = |value: Value| read_stored(|| clause.to_owned(), value);
    let mut alike: BTreeMap<(String, String), FoundAlike> = BTreeMap::new();
    for FoundRow { node, outcome, message, since, run, result } in rows {
        let differences = result.map(|mut result| result["differences"].take()).unwrap_or_default();
        let on = FoundOn { node, since: since.to_jiff(), run };
        match alike.entry((outcome.clone(), differences.to_string())) {
            Entry::Occupied(known) => known.into_mut().nodes.push(on),
            Entry::Vacant(new) => {
                let differences = if differences.is_null() {
                    Vec::new()
                } else {
                    serde_json::from_value(differences)
                        .map_err(|error| ApiError::failed("reading a run", &error))?
                };
                new.insert(FoundAlike {
                    sort: read(Value::from(outcome))?,
                    message,
                    differences,
                    nodes: vec![on],
                });
            }
        }
    }
    let mut alike: Vec<FoundAlike> = alike.into_values().collect();
    alike.sort_by_key(|one| std::cmp::Reverse(one.nodes.len()));
    Ok(Json(FoundAcross { alike, nodes, has_more_nodes }))
}

fn read_period(
    since: Option<&str>,
    until: Option<&str>,
    now: Timestamp,
) -> Result<(Timestamp, Timestamp), ApiError> {
    let until = read_moment("until", until, now)?;
    let since = match since {
        Some(_) => read_moment("since", since, now)?,
        None => until - PERIOD,
    };
    if until <= since {
        return Err(ApiError::invalid(
            "until",
            format!("{until} is not after {since}, the beginning of the period"),
        ));
    }
    Ok((since, until))
}

fn dimension(written: &str) -> Result<DriftDimension, ApiError> {
    Ok(match written {
        "clause" => DriftDimension::Clause,
        "node" => DriftDimension::Node,
        "severity" => DriftDimension::Severity,
        "baseline" => DriftDimension::Baseline,
        "control" => DriftDimension::Control,
        _ => {
            let key = written.strip_prefix("label:").ok_or_else(|| {
                ApiError::invalid(
                    "by",
                    format!("`{written}` cannot be counted by: take clause, node, severity, baseline, control or label:KEY"),
                )
            })?;
            check_label(key, "").map_err(|because| ApiError::invalid("by", because))?;
            DriftDimension::Label(key.to_owned())
        }
    })
}

fn shown(row: &FiguresRow) -> DriftFigures {
    DriftFigures {
        episodes: row.episodes.unsigned_abs(),
        nodes: row.nodes.unsigned_abs(),
        open: row.open.unsigned_abs(),
        only_reported: row.only_reported.unsigned_abs(),
        detected: row.detected.unsigned_abs(),
        corrected: row.corrected.unsigned_abs(),
        by_hand: row.by_hand.unsigned_abs(),
        by_rollout: row.by_rollout.unsigned_abs(),
        no_longer: row.no_longer.unsigned_abs(),
        detected_within: Durations {
            median_secs: row.within_median,
            p95_secs: row.within_p95,
            mean_secs: row.within_mean,
        },
        corrected_after: Durations {
            median_secs: row.after_median,
            p95_secs: row.after_p95,
            mean_secs: row.after_mean,
        },
    }
}
