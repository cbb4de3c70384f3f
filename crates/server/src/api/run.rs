//! Runs of a node.

use crate::body::Number;
use crate::intake::texts::put_in;
use crate::list::{ListQuery, placed};
use crate::page::{Page, PageAnswer, PageQuery};
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::cursor::{Cursor, PageRange};
use crate::store::episode::{self, EpisodeRow};
use crate::store::run::{KeptRow, ListedRow};
use crate::store::run_hour::{self, RunHourRow};
use crate::store::{node, related, report_text, run};
use crate::trust::{Allowed, NodeRead};
use constans_core::filter::RUNS;
use constans_core::run_comparison::{ResultChange, changed_results};
use constans_wire::report::RunReport;
use constans_wire::run::{
    ComparedRun, Episode, Repeats, RunComparison, RunHour, RunSummary, RunWords, ShownRelated, ShownRun,
};
use jiff::Timestamp;
use rocket::serde::json::Json;
use rocket::{State, get};
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use sqlx::PgPool;
use std::collections::BTreeMap;
use uuid::Uuid;

/// How many hours are shown if nobody asks for another number, and at most.
const HOURS: u32 = 24;
const MAX_HOURS: u32 = 744;
/// The run before another one is looked for among so many.
const LOOKED_THROUGH: i64 = 200;

/// The runs of a node, the newest first; runs that found the same are one entry.
#[utoipa::path(tag = "runs", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<RunSummary>)))]
#[get("/api/nodes/<name>/runs?<list..>")]
pub async fn list(
    name: &str,
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<RunSummary> {
    let db = db.inner();
    let id = node::by_name(db, name)
        .await?
        .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    let read = |range: PageRange| async move {
        let wrong = |_| ApiError::invalid("after", "take it from the `Link` of the page before");
        let place = |after: &Cursor| after.key.parse().map(|began| (after.at, began)).map_err(wrong);
        let before = range.after.as_ref().map(place).transpose()?;
        let rows = run::of_node(db, id, before, range.rows()).await?;
        placed(rows, ListedRow::cursor, shown)
    };
    list.page(&RUNS, read).await
}

/// The report of a run; the beginning of its id is enough.
#[utoipa::path(tag = "runs", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = ShownRun)))]
#[get("/api/nodes/<name>/runs/<id>")]
pub async fn show(name: &str, id: &str, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Value> {
    let node = node::by_name(db.inner(), name)
        .await?
        .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    let missing = || ApiError::Missing { what: "run kept whole", name: id.to_owned() };
    // As it is stored: what a newer agent reported beside what this version knows is in it.
    let kept = run::report(db.inner(), node, id).await?.ok_or_else(missing)?;
    let repeats = repeats_of(&kept);
    let mut shown = with_texts(db.inner(), node, kept).await?;
    let report: RunReport = read(shown.clone())?;
    shown["words"] = json!(RunWords::of(&report));
    if let Some(repeats) = repeats {
        shown["repeats"] = json!(repeats);
    }
    Ok(Json(shown))
}

/// What is otherwise in a run than in the one before it, or than in another one.
#[utoipa::path(tag = "runs", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(("with" = Option<String>, Query, description = "The run to compare with; the one before it if none is named. The beginning of its id is enough")), responses((status = 200, body = RunComparison)))]
#[get("/api/nodes/<name>/runs/<id>/comparison?<with>")]
pub async fn compare(
    name: &str,
    id: &str,
    with: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<RunComparison> {
    let node = node::by_name(db.inner(), name)
        .await?
        .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    let missing = |id: &str| ApiError::Missing { what: "run kept whole", name: id.to_owned() };
    let kept = run::report(db.inner(), node, id).await?.ok_or_else(|| missing(id))?;
    let learned = kept.learned_at.to_jiff();
    let after: RunReport = read(kept.report)?;
    let before = match with {
        Some(with) => {
            let kept = run::report(db.inner(), node, with).await?.ok_or_else(|| missing(with))?;
            Some((None, Some(read::<RunReport>(kept.report)?)))
        }
        None => {
            let earlier =
                run::of_node(db.inner(), node, Some((learned, after.began)), LOOKED_THROUGH).await?;
            match earlier.into_iter().find(|row| !row.partial && row.did_not_end.is_none()) {
                None => None,
                Some(row) => {
                    let report = match row.run {
                        None => None,
                        Some(run) => whole_report(db, node, &run.to_string()).await?,
                    };
                    Some((Some(shown(row)?), report))
                }
            }
        }
    };
    let of_report = |report: &RunReport| ComparedRun {
        run: Some(report.run),
        began: report.began,
        status: report.status,
        releases: report.wanted.releases.iter().map(|release| release.release.clone()).collect(),
    };
    let is_of_a_part = after.partial
        || after.left_out.is_some()
        || matches!(&before, Some((_, Some(report))) if report.partial || report.left_out.is_some());
    let clauses_before =
        before.as_ref().map(|(_, report)| report.as_ref().map(|report| report.clauses.as_slice()));
    let mut changed = clauses_before.map_or_else(Vec::new, |before| changed_results(before, &after.clauses));
    if is_of_a_part {
        changed.retain(|one| !matches!(one.change, ResultChange::New | ResultChange::Gone));
    }
    Ok(Json(RunComparison {
        before: before.map(|(listed, report)| match (report, listed) {
            (Some(report), _) => of_report(&report),
            (None, Some(listed)) => ComparedRun {
                run: listed.run,
                began: listed.began,
                status: listed.status,
                releases: Vec::new(),
            },
            (None, None) => of_report(&after),
        }),
        after: of_report(&after),
        changed,
        is_of_a_part,
    }))
}

/// The stored report of a run, with its long texts.
///
/// # Errors
///
/// Returns why it cannot be read.
pub async fn whole_report(db: &PgPool, node: Uuid, id: &str) -> Result<Option<RunReport>, ApiError> {
    let Some(kept) = run::report(db, node, id).await? else { return Ok(None) };
    read(with_texts(db, node, kept).await?).map(Some)
}

/// The report with what is kept apart from it: its long texts, and what the node had on record.
async fn with_texts(db: &PgPool, node: Uuid, kept: KeptRow) -> Result<Value, ApiError> {
    let mut report = kept.report;
    let places: BTreeMap<String, String> = read(kept.texts)?;
    let digests: Vec<String> = places.values().cloned().collect();
    put_in(&mut report, &places, &report_text::find(db, &digests).await?.into_iter().collect());
    let run: Uuid = read(report["run"].clone())?;
    let mut related: BTreeMap<_, _> = related::of_run(db, node, run).await?.into_iter().collect();
    if let Some(clauses) = report["clauses"].as_array_mut().filter(|_| !related.is_empty()) {
        for clause in clauses {
            if let Some(gathered) = clause["address"].as_str().and_then(|address| related.remove(address)) {
                clause["related"] = json!(gathered);
            }
        }
    }
    Ok(report)
}

fn repeats_of(kept: &KeptRow) -> Option<Repeats> {
    let (count, last, learned) = (kept.count?, kept.last_at?, kept.last_learned_at?);
    (count > 1).then(|| Repeats { count: count - 1, last: last.to_jiff(), learned: learned.to_jiff() })
}

/// The drift episodes of a node, open ones first, then the newest.
#[utoipa::path(tag = "runs", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(PageQuery), responses((status = 200, body = Vec<Episode>)))]
#[get("/api/nodes/<name>/episodes?<page..>")]
pub async fn episodes(
    name: &str,
    page: PageQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<Episode> {
    let range = page.range()?;
    let node = node::by_name(db.inner(), name)
        .await?
        .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    let rows = episode::of_node(db.inner(), &range, node).await?;
    Page::of_rows(rows, &range, EpisodeRow::cursor).shown(shown_episode)
}

/// An episode as it is shown.
///
/// # Errors
///
/// Returns that it cannot be read.
pub fn shown_episode(row: EpisodeRow) -> Result<Episode, ApiError> {
    Ok(Episode {
        address: row.address,
        severity: read(Value::from(row.severity))?,
        in_line_until: row.in_line_until.to_jiff(),
        detected_at: row.detected_at.to_jiff(),
        detected_run: row.detected_run,
        closed_at: row.closed_at.map(|at| at.to_jiff()),
        closed_as: row.closed_as.map(|word| read(Value::from(word))).transpose()?,
        closed_run: row.closed_run,
        drill: row.drill,
        related: row
            .related
            .map(|sqlx::types::Json(related)| ShownRelated { words: related.words(), related }),
    })
}

fn shown(row: ListedRow) -> Result<RunSummary, ApiError> {
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
        partial: row.partial,
        did_not_end: row.did_not_end.map(read).transpose()?,
        missing: row.missing.unsigned_abs(),
    })
}

fn read<T: DeserializeOwned>(value: Value) -> Result<T, ApiError> {
    read_stored(|| "run".to_owned(), value)
}

/// Runs, corrections and failures of all nodes in each of the last hours, the present one last.
#[utoipa::path(tag = "runs", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("hours" = Option<u32>, Query, minimum = 1, maximum = 744, description = "How many hours, from 1 to 744; 24 if left out"),
), responses((status = 200, body = Vec<RunHour>)))]
#[get("/api/run-hours?<hours>")]
pub async fn hours(hours: Number, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<RunHour>> {
    let hours = hours.0.unwrap_or(HOURS);
    if !(1..=MAX_HOURS).contains(&hours) {
        return Err(ApiError::invalid("hours", format!("take 1 to {MAX_HOURS}, not {hours}")));
    }
    let now = crate::clock::now().as_second();
    let last = now - now.rem_euclid(3_600);
    let at = |hour: i64| Timestamp::from_second(hour).unwrap_or(Timestamp::UNIX_EPOCH);
    let first = last - 3_600 * i64::from(hours - 1);
    let reported = run_hour::since(db.inner(), at(first)).await?;
    let of = |hour: i64| {
        let row = reported.iter().find(|row| row.from_at.to_jiff() == at(hour));
        let number = |part: fn(&RunHourRow) -> i64| row.map_or(0, |row| part(row).unsigned_abs());
        RunHour {
            from: at(hour),
            runs: number(|row| row.runs),
            corrections: number(|row| row.corrections),
            failures: number(|row| row.failures),
        }
    };
    Ok(Json((first..=last).step_by(3_600).map(of).collect()))
}
