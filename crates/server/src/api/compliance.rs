//! Compliance of the fleet.

use super::overview::{Narrowed, narrowed, undecided};
use crate::clock::zone;
use crate::problem::{Answer, ApiError};
use crate::store::clause_result;
use crate::store::compliance::{
    self, Compared, Counted, CountedRow, Dimension, HandedOutRow, MAX_ROWS, Moment, OnlyClauses,
};
use crate::store::control;
use crate::store::day_figure::{self, end_in_utc, end_of};
use crate::store::narrowing::Narrowing;
use crate::store::retention;
use crate::trust::{Allowed, NodeRead};
use constans_core::compliance::{Moved, Rate, moves as gather_moves};
use constans_core::kit::Severity;
use constans_core::words::check_label;
use constans_wire::compliance::{
    Compliance, ComplianceDay, ComplianceDays, ComplianceMoves, ComplianceRow, Examinations, NamedChange,
};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan as _};
use rocket::serde::json::Json;
use rocket::{State, get};
use sqlx::{PgExecutor, PgPool};
use std::collections::BTreeMap;

/// How many days are shown if nobody asks for another number, and at most.
const DAYS: i16 = 30;
const MAX_DAYS: i16 = 92;
/// A key that clauses are asked about by has this many characters at most.
const LONGEST_KEY: usize = 4_096;
/// 2000-01-01: nothing is known of the time before, and what is long before it the database cannot hold.
const FIRST: Timestamp = Timestamp::constant(946_684_800, 0);

/// How many clauses and nodes are as desired: now, or as of any moment, as known then or at any later moment.
#[utoipa::path(tag = "compliance", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("by" = Option<String>, Query, description = "`control`, `baseline`, `release`, `severity`, `cause`, `group`, `assignment`, `stage`, `label:KEY`, `node` or `clause`: by what the rows count"),
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
    ("only" = Option<String>, Query, description = "Only clauses of `control:ID`, `baseline:KIT/BASELINE`, `release:KIT@VERSION`, `severity:WORD` or `clause:ADDRESS`"),
    ("as_of" = Option<String>, Query, description = "The moment, as 2026-11-21T23:00:00Z; now if left out"),
    ("as_known_at" = Option<String>, Query, description = "Only what the server had learned by this moment counts, not before `as_of`; now if left out"),
), responses((status = 200, body = Compliance)))]
#[get("/api/compliance?<by>&<filter>&<only>&<as_of>&<as_known_at>")]
pub async fn figures(
    by: Option<&str>,
    filter: Option<&str>,
    only: Option<&str>,
    as_of: Option<&str>,
    as_known_at: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<Compliance> {
    let now = crate::clock::now();
    let by = by.map(dimension).transpose()?;
    let only = only.map(only_clauses).transpose()?;
    let (at, known_at) = read_moments(as_of, as_known_at, now)?;
    let moment = Moment { at, known_at, is_now: at == now };
    let db = db.inner();
    refuse_deleted(db, "as_of", at).await?;
    let Narrowed { by: narrowing, undecidable } = narrowed(db, filter, now).await?;
    // Beside each other: each of them goes through all nodes.
    let moments = [moment];
    let (more_undecidable, counted) = tokio::try_join!(undecided(db, &narrowing), async {
        Ok(compliance::count(db, &narrowing, &moments, by.as_ref(), only.as_ref()).await?)
    })?;
    let Counted { mut all, mut rows } = counted;
    let undecidable = undecidable + more_undecidable;
    let all = all.pop().unwrap_or_default();
    let titles = match by {
        Some(Dimension::Control) => control::titles(db, at).await?,
        _ => BTreeMap::new(),
    };
    let has_more_rows = rows.len() > MAX_ROWS;
    rows.truncate(MAX_ROWS);
    let (nodes, clauses) = (all.nodes(), all.clauses());
    Ok(Json(Compliance {
        as_of: at,
        as_known_at: known_at,
        nodes_in_all: all.nodes_in_all.unsigned_abs(),
        undecidable: undecidable as u64,
        nodes,
        clauses,
        rate_basis_points: clauses.rate().map(Rate::basis_points),
        rate_with_concessions_basis_points: clauses.rate_with_concessions().map(Rate::basis_points),
        rows: rows.into_iter().map(|row| shown(row, &titles)).collect(),
        has_more_rows,
    }))
}

/// The examinations that the figures rely on: how old the oldest of them is, and of which node.
#[utoipa::path(tag = "compliance", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
    ("as_of" = Option<String>, Query, description = "The moment, as 2026-11-21T23:00:00Z; now if left out"),
    ("as_known_at" = Option<String>, Query, description = "Only what the server had learned by this moment counts, not before `as_of`; now if left out"),
), responses((status = 200, body = Examinations)))]
#[get("/api/compliance/examinations?<filter>&<as_of>&<as_known_at>")]
pub async fn examinations(
    filter: Option<&str>,
    as_of: Option<&str>,
    as_known_at: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<Examinations> {
    let now = crate::clock::now();
    let (as_of, as_known_at) = read_moments(as_of, as_known_at, now)?;
    let moment = Moment { at: as_of, known_at: as_known_at, is_now: as_of == now };
    refuse_deleted(db.inner(), "as_of", as_of).await?;
    let Narrowed { by, .. } = narrowed(db.inner(), filter, now).await?;
    let row = clause_result::relied_on(db.inner(), &by, moment).await?;
    Ok(Json(Examinations {
        as_of,
        as_known_at,
        nodes: row.nodes.unsigned_abs(),
        oldest_node: row.oldest_node,
        oldest_at: row.oldest_at.map(|at| at.to_jiff()),
        nodes_with_missing_runs: row.nodes_with_missing_runs.unsigned_abs(),
        clauses_by_metadata: row.clauses_by_metadata.unsigned_abs(),
    }))
}

/// How many clauses and nodes are as desired at the end of each day of a period, in the server's zone, with the changes that gave nodes something
/// else.
#[utoipa::path(tag = "compliance", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("days" = Option<i16>, Query, description = "How many days, from 1 to 92; 30 if left out"),
    ("until" = Option<String>, Query, description = "The last day, as 2026-11-21; today if left out"),
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
    ("only" = Option<String>, Query, description = "Only clauses of `control:ID`, `baseline:KIT/BASELINE`, `release:KIT@VERSION`, `severity:WORD` or `clause:ADDRESS`"),
), responses((status = 200, body = ComplianceDays)))]
#[get("/api/compliance/days?<days>&<until>&<filter>&<only>")]
pub async fn days(
    days: Option<&str>,
    until: Option<&str>,
    filter: Option<&str>,
    only: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<ComplianceDays> {
    let now = crate::clock::now();
    let only = only.map(only_clauses).transpose()?;
    let days = match days.map(|written| (written, written.parse::<i16>())) {
        None => DAYS,
        Some((_, Ok(days))) if (1..=MAX_DAYS).contains(&days) => days,
        Some((written, _)) => {
            return Err(ApiError::invalid("days", format!("take 1 to {MAX_DAYS}, not {written}")));
        }
    };
    let today = now.to_zoned(zone().clone()).date();
    let until: Date = match until {
        None => today,
        Some(written) => {
            written.parse().map_err(|_| ApiError::invalid("until", "it is a day as 2026-11-21"))?
        }
    };
    if until > today {
        return Err(ApiError::invalid("until", format!("{until} did not begin yet: today is {today}")));
    }
    if until < FIRST.to_zoned(TimeZone::UTC).date() {
        return Err(ApiError::invalid("until", "nothing is known of the time before 2000"));
    }
    let db = db.inner();
    let Narrowed { by: narrowing, .. } = narrowed(db, filter, now).await?;
    let first = until.saturating_sub((days - 1).days());
    let mut by_day: BTreeMap<Date, CountedRow> = BTreeMap::new();
    let which = only.as_ref().map_or(Some(day_figure::ALL), OnlyClauses::kept);
    if let (Narrowing::All, Some(which)) = (&narrowing, which) {
        let kept = day_figure::between(db, first, until, which).await?;
        by_day.extend(kept.into_iter().map(|row| (row.day.to_jiff(), row.counted)));
    }
    let day_before = first.saturating_sub(1.days());
    let known_ends = day_figure::ends(db, day_before, until).await?;
    let end = |day: Date| known_ends.get(&day).copied().unwrap_or_else(|| end_of(day));
    let ends: Vec<(Date, Timestamp)> = std::iter::successors(Some(first), |day| day.tomorrow().ok())
        .take_while(|day| *day <= until)
        .map(|day| (day, end(day).min(now)))
        .collect();
    let missing: Vec<(Date, Timestamp)> =
        ends.iter().filter(|(day, _)| !by_day.contains_key(day)).copied().collect();
    if let Some((_, at)) = missing.first() {
        refuse_deleted(db, "days", *at).await?;
    }
    // Mostly only today is missing, which is read from the tables of the present.
    let moments: Vec<Moment> =
        missing.iter().map(|(_, at)| Moment { at: *at, known_at: now, is_now: *at == now }).collect();
    let rows = compliance::count(db, &narrowing, &moments, None, only.as_ref()).await?.all;
    by_day.extend(
        rows.into_iter().filter_map(|row| Some((missing.get(usize::try_from(row.moment).ok()?)?.0, row))),
    );
    let empty = CountedRow::default();
    let shown = ends.iter().map(|(day, at)| {
        let row = by_day.get(day).unwrap_or(&empty);
        let (nodes, clauses) = (row.nodes(), row.clauses());
        ComplianceDay {
            day: *day,
            from: end(day.saturating_sub(1.days())),
            at: *at,
            is_over: *at < now,
            nodes,
            clauses,
            rate_basis_points: clauses.rate().map(Rate::basis_points),
            rate_with_concessions_basis_points: clauses.rate_with_concessions().map(Rate::basis_points),
        }
    });
    let changes = compliance::changes_between(db, end(day_before), now).await?;
    Ok(Json(ComplianceDays {
        days: shown.collect(),
        zone: zone().iana_name().unwrap_or("UTC").to_owned(),
        changes: changes.into_iter().map(named).collect(),
    }))
}

/// Why the rate moved between two moments: by reason and change, adding up.
#[utoipa::path(tag = "compliance", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("since" = String, Query, description = "The first moment, as 2026-11-20T00:00:00Z"),
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
    ("only" = Option<String>, Query, description = "Only clauses of `control:ID`, `baseline:KIT/BASELINE`, `release:KIT@VERSION`, `severity:WORD` or `clause:ADDRESS`"),
    ("as_of" = Option<String>, Query, description = "The second moment, not before the first one; now if left out"),
    ("as_known_at" = Option<String>, Query, description = "Only what the server had learned by this moment counts, not before `as_of`; now if left out"),
), responses((status = 200, body = ComplianceMoves)))]
#[get("/api/compliance/moves?<since>&<filter>&<only>&<as_of>&<as_known_at>")]
pub async fn moves(
    since: Option<&str>,
    filter: Option<&str>,
    only: Option<&str>,
    as_of: Option<&str>,
    as_known_at: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<ComplianceMoves> {
    let now = crate::clock::now();
    let since =
        since.ok_or_else(|| ApiError::invalid("since", "name the first moment, as 2026-11-20T00:00:00Z"))?;
    let since = read_moment("since", Some(since), now)?;
    let only = only.map(only_clauses).transpose()?;
    let (at, known_at) = read_moments(as_of, as_known_at, now)?;
    if at < since {
        return Err(ApiError::invalid(
            "as_of",
            format!("{at} is before {since}: the first moment is `since`"),
        ));
    }
    let db = db.inner();
    refuse_deleted(db, "since", since).await?;
    let Narrowed { by: narrowing, .. } = narrowed(db, filter, now).await?;
    let moments = [since, at].map(|at| Moment { at, known_at, is_now: false });
    let Compared { counted, moved } = compliance::compare(db, &narrowing, moments, only.as_ref()).await?;
    let [before, after] = [0, 1].map(|moment| {
        counted.iter().find(|row| row.moment == moment).map(CountedRow::clauses).unwrap_or_default()
    });
    let moved: Vec<(Moved, u64)> = moved
        .iter()
        .map(|row| Ok((row.moved()?, row.count.unsigned_abs())))
        .collect::<serde_json::Result<_>>()
        .map_err(|error| ApiError::failed("reading the results of clauses", &error))?;
    let moves = gather_moves(&before, moved);
    let numbers: Vec<i64> = moves.iter().filter_map(|one| one.change).collect();
    let changes = compliance::changes(db, &numbers).await?;
    Ok(Json(ComplianceMoves {
        since,
        as_of: at,
        as_known_at: known_at,
        before,
        after,
        rate_before_basis_points: before.rate().map(Rate::basis_points),
        rate_after_basis_points: after.rate().map(Rate::basis_points),
        moves,
        changes: changes.into_iter().map(named).collect(),
    }))
}

fn named(row: HandedOutRow) -> NamedChange {
    let HandedOutRow { no, what, who, approved_by, ended_at } = row;
    NamedChange { no, what, who, approved_by, handed_out_at: ended_at.to_jiff() }
}

/// Reads the moment that is asked about, and as known when; both are now if they are left out.
///
/// # Errors
///
/// Returns which of them cannot be asked about.
pub fn read_moments(
    as_of: Option<&str>,
    as_known_at: Option<&str>,
    now: Timestamp,
) -> Result<(Timestamp, Timestamp), ApiError> {
    let known_at = read_moment("as_known_at", as_known_at, now)?;
    let at = read_moment("as_of", as_of, now)?;
    if known_at < at {
        return Err(ApiError::invalid("as_known_at", format!("nothing of {at} was known before it")));
    }
    Ok((at, known_at))
}

/// Refuses a moment of which the history is no longer kept.
///
/// # Errors
///
/// Returns since when it is kept, or why the database did not answer.
pub async fn refuse_deleted(
    db: impl PgExecutor<'_>,
    field: &'static str,
    at: Timestamp,
) -> Result<(), ApiError> {
    match retention::last_deleted(db).await?.map(end_in_utc) {
        Some(since) if at < since => Err(ApiError::invalid(
            field,
            format!(
                "the history is kept since {since} (the server's --keep-history); of days before there are only figures: constans compliance --by day"
            ),
        )),
        _ => Ok(()),
    }
}

fn dimension(written: &str) -> Result<Dimension, ApiError> {
    Ok(match written {
        "control" => Dimension::Control,
        "baseline" => Dimension::Baseline,
        "release" => Dimension::Release,
        "severity" => Dimension::Severity,
        "cause" => Dimension::Cause,
        "group" => Dimension::Group,
        "assignment" => Dimension::Assignment,
        "stage" => Dimension::Stage,
        "node" => Dimension::Node,
        "clause" => Dimension::Clause,
        _ => {
            let key = written.strip_prefix("label:").ok_or_else(|| {
                ApiError::invalid(
                    "by",
                    format!("`{written}` cannot be counted by: take control, baseline, release, severity, cause, group, assignment, stage, label:KEY, node or clause"),
                )
            })?;
            check_label(key, "").map_err(|because| ApiError::invalid("by", because))?;
            Dimension::Label(key.to_owned())
        }
    })
}

/// Reads which clauses are asked about.
fn only_clauses(written: &str) -> Result<OnlyClauses, ApiError> {
    let (of, value) = written.split_once(':').unwrap_or((written, ""));
    let only = match of {
        "control" => OnlyClauses::Control,
        "baseline" => OnlyClauses::Baseline,
        "release" => OnlyClauses::Release,
        "severity" => OnlyClauses::Severity,
        "clause" => OnlyClauses::Clause,
        _ => {
            return Err(ApiError::invalid(
                "only",
                format!(
                    "`{written}` does not say which clauses: take control:ID, baseline:KIT/BASELINE, release:KIT@VERSION, severity:WORD or clause:ADDRESS"
                ),
            ));
        }
    };
    if value.is_empty() || value.len() > LONGEST_KEY {
        return Err(ApiError::invalid(
            "only",
            format!("name which {of} after `{of}:`, in at most {LONGEST_KEY} characters"),
        ));
    }
    if of == "severity" && serde_json::from_value::<Severity>(value.into()).is_err() {
        return Err(ApiError::invalid(
            "only",
            format!("`{value}` is no severity: take low, medium, high or critical"),
        ));
    }
    Ok(only(value.to_owned()))
}

/// Reads a moment that is over; now if it is left out.
///
/// # Errors
///
/// Returns what is wrong with it.
pub fn read_moment(
    field: &'static str,
    written: Option<&str>,
    now: Timestamp,
) -> Result<Timestamp, ApiError> {
    let Some(written) = written else { return Ok(now) };
    let moment: Timestamp =
        written.parse().map_err(|_| ApiError::invalid(field, "it is a moment as 2026-11-21T23:00:00Z"))?;
    if moment > now {
        return Err(ApiError::invalid(field, format!("{moment} is not over yet: it is {now} now")));
    }
    if moment < FIRST {
        return Err(ApiError::invalid(field, "nothing is known of the time before 2000"));
    }
    Ok(moment)
}

fn shown(row: CountedRow, titles: &BTreeMap<String, String>) -> ComplianceRow {
    let (nodes, clauses) = (row.nodes(), row.clauses());
    ComplianceRow {
        title: row.key.as_ref().and_then(|key| titles.get(key)).cloned(),
        key: row.key,
        nodes,
        clauses,
        rate_basis_points: clauses.rate().map(Rate::basis_points),
        rate_with_concessions_basis_points: clauses.rate_with_concessions().map(Rate::basis_points),
    }
}
