//! Compliance of the fleet.

use super::overview::{Narrowed, narrowed, undecided};
use crate::problem::{Answer, ApiError};
use crate::store::compliance::{self, CountedRow, Dimension, MAX_ROWS, Moment};
use crate::trust::{Allowed, NodeRead};
use constans_core::compliance::{ClauseCounts, NodeCounts};
use constans_core::words::check_label;
use constans_wire::compliance::{Compliance, ComplianceRow};
use jiff::Timestamp;
use rocket::serde::json::Json;
use rocket::{State, get};
use sqlx::PgPool;

/// How many clauses and nodes are as desired: now, or as of any moment, as known then or at any later moment.
#[utoipa::path(tag = "compliance", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("by" = Option<String>, Query, description = "`control`, `baseline`, `release`, `severity`, `cause`, `group`, `stage`, `label:KEY`, `node` or `clause`: by what the rows count"),
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
    ("as_of" = Option<String>, Query, description = "The moment, as 2026-11-21T23:00:00Z; now if left out"),
    ("as_known_at" = Option<String>, Query, description = "Only what the server had learned by this moment counts, not before `as_of`; now if left out"),
), responses((status = 200, body = Compliance)))]
#[get("/api/compliance?<by>&<filter>&<as_of>&<as_known_at>")]
pub async fn figures(
    by: Option<&str>,
    filter: Option<&str>,
    as_of: Option<&str>,
    as_known_at: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<Compliance> {
    let now = crate::clock::now();
    let by = by.map(dimension).transpose()?;
    let known_at = read_moment("as_known_at", as_known_at, now)?;
    let at = read_moment("as_of", as_of, now)?;
    if known_at < at {
        return Err(ApiError::invalid("as_known_at", format!("nothing of {at} was known before it")));
    }
    let moment = Moment { at, known_at, is_now: at == now };
    let db = db.inner();
    let Narrowed { by: narrowing, undecidable } = narrowed(db, filter, now).await?;
    let undecidable = undecidable + undecided(db, &narrowing).await?;
    let all = compliance::count(db, &narrowing, moment, None).await?.pop().unwrap_or_default();
    let mut rows = match &by {
        Some(by) => compliance::count(db, &narrowing, moment, Some(by)).await?,
        None => Vec::new(),
    };
    let has_more_rows = rows.len() > MAX_ROWS;
    rows.truncate(MAX_ROWS);
    let (nodes, clauses) = counts(&all);
    Ok(Json(Compliance {
        as_of: at,
        as_known_at: known_at,
        nodes_in_all: compliance::nodes(db, &narrowing, moment).await?.unsigned_abs(),
        undecidable: undecidable as u64,
        nodes,
        clauses,
        rate_basis_points: clauses.rate().map(|rate| rate.basis_points()),
        rows: rows.into_iter().map(shown).collect(),
        has_more_rows,
    }))
}

fn dimension(written: &str) -> Result<Dimension, ApiError> {
    Ok(match written {
        "control" => Dimension::Control,
        "baseline" => Dimension::Baseline,
        "release" => Dimension::Release,
        "severity" => Dimension::Severity,
        "cause" => Dimension::Cause,
        "group" => Dimension::Group,
        "stage" => Dimension::Stage,
        "node" => Dimension::Node,
        "clause" => Dimension::Clause,
        _ => {
            let key = written.strip_prefix("label:").ok_or_else(|| {
                ApiError::invalid(
                    "by",
                    format!("`{written}` cannot be counted by: take control, baseline, release, severity, cause, group, stage, label:KEY, node or clause"),
                )
            })?;
            check_label(key, "").map_err(|because| ApiError::invalid("by", because))?;
            Dimension::Label(key.to_owned())
        }
    })
}

fn read_moment(field: &'static str, written: Option<&str>, now: Timestamp) -> Result<Timestamp, ApiError> {
    let Some(written) = written else { return Ok(now) };
    let moment: Timestamp =
        written.parse().map_err(|_| ApiError::invalid(field, "it is a moment as 2026-11-21T23:00:00Z"))?;
    if moment > now {
        return Err(ApiError::invalid(field, format!("{moment} is not over yet: it is {now} now")));
    }
    Ok(moment)
}

fn counts(row: &CountedRow) -> (NodeCounts, ClauseCounts) {
    let nodes = NodeCounts {
        without_deviation: row.nodes_compliant.unsigned_abs(),
        with_deviation: row.nodes_deviating.unsigned_abs(),
        not_known: row.nodes_not_known.unsigned_abs(),
        with_critical: row.nodes_critical.unsigned_abs(),
    };
    let clauses = ClauseCounts {
        compliant: row.compliant.unsigned_abs(),
        in_doubt: row.in_doubt.unsigned_abs(),
        noncompliant: row.noncompliant.unsigned_abs(),
        unexamined: row.unexamined.unsigned_abs(),
        unknown: row.unknown.unsigned_abs(),
    };
    (nodes, clauses)
}

fn shown(row: CountedRow) -> ComplianceRow {
    let (nodes, clauses) = counts(&row);
    let rate_basis_points = clauses.rate().map(|rate| rate.basis_points());
    ComplianceRow { key: row.key, nodes, clauses, rate_basis_points }
}
