//! Evidence: asked for, listed, taken away; and the chain of days that it rests on.

use super::compliance::{read_moment, read_moments, refuse_deleted};
use crate::body::JsonBody;
use crate::evidence::worker::KEPT;
use crate::followed::nodes_of;
use crate::here::Here;
use crate::learned::tree_of;
use crate::list::{ListQuery, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::evidence::{self, EvidenceRow};
use crate::store::job::{self, JobKind};
use crate::store::{audit, control};
use crate::trust::{Allowed, EvidenceMake, NodeRead, PeopleManage};
use constans_core::control::Catalogue;
use constans_core::evidence::{Question, hex};
use constans_core::filter::EVIDENCE;
use constans_core::words::check_reason;
use constans_wire::evidence::{
    DayChecked, Evidence, EvidenceChain, EvidenceFormat, EvidenceStatus, NewEvidence,
};
use jiff::Timestamp;
use jiff::civil::Date;
use rocket::http::{ContentType, Header};
use rocket::response::stream::ByteStream;
use rocket::serde::json::Json;
use rocket::{Responder, State, delete, get, post};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::collections::BTreeSet;
use std::sync::Arc;

/// This many wait or are being made at once.
const MAX_WAITING: i64 = 20;
/// And so many of one person, so that nobody keeps others from asking.
const MAX_OWN_WAITING: i64 = 5;
/// So many bytes of files are kept.
const MAX_KEPT: i64 = 20 << 30;
/// This many controls are asked about by name.
const MAX_CONTROLS: usize = 100;

/// The evidence that was asked for, the newest first.
#[utoipa::path(tag = "evidence", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<Evidence>)))]
#[get("/api/evidence?<list..>")]
pub async fn list(list: ListQuery, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> PageAnswer<Evidence> {
    let read =
        |range| async move { placed(evidence::list(db.inner(), &range).await?, EvidenceRow::cursor, shown) };
    list.page(&EVIDENCE, read).await
}

/// Evidence: what it answers, and how far it is.
#[utoipa::path(tag = "evidence", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Evidence)))]
#[get("/api/evidence/<no>")]
pub async fn show(no: u32, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Evidence> {
    Ok(Json(by_no(&mut *db.acquire().await?, no).await?))
}

/// Has evidence made: a job gathers it, and its file is kept for 90 days.
#[utoipa::path(tag = "evidence", security(("token" = ["evidence.make"]), ("session" = ["evidence.make"])), request_body = NewEvidence, responses((status = 200, body = Evidence)))]
#[post("/api/evidence", data = "<wanted>")]
pub async fn make(
    wanted: JsonBody<NewEvidence>,
    caller: Allowed<EvidenceMake>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Evidence> {
    let wanted = wanted.0;
    let mut transaction = db.begin().await?;
    let question = question(&mut transaction, &wanted).await?;
    evidence::lock(&mut *transaction).await?;
    let (waiting, own, kept) = evidence::open_and_kept(&mut *transaction, &caller.person).await?;
    if waiting >= MAX_WAITING || own >= MAX_OWN_WAITING {
        let (count, whose) = if own >= MAX_OWN_WAITING { (own, "of yours ") } else { (waiting, "") };
        return Err(ApiError::Conflict {
            message: format!("{count} {whose}wait or are being made already"),
            hint: "wait, or stop one: constans evidence list; constans evidence stop E3".to_owned(),
        });
    }
    if kept >= MAX_KEPT {
        return Err(ApiError::Conflict {
            message: format!(
                "the files of evidence that are kept take {} GiB, and that is the most",
                kept >> 30
            ),
            hint: "remove some: constans evidence list; constans evidence remove E3".to_owned(),
        });
    }
    let formats: Vec<&str> = wanted.formats.iter().map(|format| format.word()).collect();
    let because = wanted.because.as_deref();
    let no = evidence::add(&mut *transaction, &json!(question), &formats, because, &caller.person).await?;
    let what = format!("evidence E{no}");
    job::queue(&mut *transaction, JobKind::Evidence, no, &what, &caller.person, None).await?;
    let detail = json!({ "evidence": no, "question": question, "formats": formats, "because": because });
    audit::add(&mut *transaction, &caller.person, "asked for evidence", &format!("E{no}"), &detail).await?;
    let made = by_no(&mut transaction, u32::try_from(no).unwrap_or(u32::MAX)).await?;
    transaction.commit().await?;
    here.nudge.nudge();
    Ok(Json(made))
}

async fn question(db: &mut PgConnection, wanted: &NewEvidence) -> Result<Question, ApiError> {
    // The database knows microseconds.
    let now = crate::clock::now();
    let now = Timestamp::from_microsecond(now.as_microsecond()).unwrap_or(now);
    let written = |moment: Option<Timestamp>| moment.map(|moment| moment.to_string());
    let (as_of, as_known_at) = (written(wanted.as_of), written(wanted.as_known_at));
    let (as_of, as_known_at) = read_moments(as_of.as_deref(), as_known_at.as_deref(), now)?;
    if wanted.since.is_some() {
        let since = read_moment("since", written(wanted.since).as_deref(), now)?;
        if since > as_of {
            return Err(ApiError::invalid(
                "since",
                format!("{since} is after {as_of}, which is asked about"),
            ));
        }
    }
    refuse_deleted(&mut *db, "as_of", wanted.since.unwrap_or(as_of).min(as_of)).await?;
    if let Some(because) = &wanted.because {
        check_reason(because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    }
    let filter = wanted.filter.as_deref().map(str::trim).filter(|filter| !filter.is_empty());
    if let Some(filter) = filter {
        nodes_of(&mut *db, filter).await?;
    }
    if wanted.controls.len() > MAX_CONTROLS {
        return Err(ApiError::invalid("controls", format!("name at most {MAX_CONTROLS}, or none for all")));
    }
    let known = known_controls(db, as_of).await?;
    if let Some(unknown) = wanted.controls.iter().find(|control| !known.contains(*control)) {
        return Err(ApiError::Missing { what: "control", name: unknown.clone() });
    }
    Ok(Question {
        filter: filter.map(str::to_owned),
        controls: wanted.controls.iter().cloned().collect(),
        as_of,
        as_known_at,
        since: wanted.since,
    })
}

async fn known_controls(db: &mut PgConnection, at: Timestamp) -> Result<BTreeSet<String>, ApiError> {
    let mut known: BTreeSet<String> = control::named(&mut *db).await?.into_iter().collect();
    if let Some(row) = control::at(db, at).await? {
        let catalogue: Catalogue = read_stored(|| format!("version {} of the controls", row.no), row.body)?;
        known.extend(catalogue.controls.into_iter().map(|control| control.id));
    }
    Ok(known)
}

/// The file of evidence.
#[derive(Responder)]
pub struct EvidenceFile<S> {
    bytes: S,
    kind: ContentType,
    name: Header<'static>,
    length: Header<'static>,
}

/// The file of evidence: a zip file, signed.
#[utoipa::path(tag = "evidence", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, content_type = "application/zip", body = Vec<u8>)))]
#[get("/api/evidence/<no>/file")]
pub async fn file(
    no: u32,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Result<EvidenceFile<ByteStream<impl rocket::futures::Stream<Item = Vec<u8>>>>, ApiError> {
    let row = row(&mut *db.acquire().await?, no).await?;
    let Some(length) = row.bytes.filter(|_| row.status == "made") else {
        return Err(ApiError::Conflict {
            message: format!("E{no} has no file: it is {}", row.status),
            hint: "constans evidence list shows those that have one".to_owned(),
        });
    };
    let db = db.inner().clone();
    let bytes = ByteStream! {
        for place in 0.. {
            match evidence::part(&db, no.into(), place).await {
                Ok(Some(bytes)) => yield bytes,
                Ok(None) => break,
                // The answer ends before its length: whoever reads sees that.
                Err(error) => {
                    tracing::warn!(%error, "a file of evidence was cut off");
                    break;
                }
            }
        }
    };
    Ok(EvidenceFile {
        bytes,
        kind: ContentType::ZIP,
        name: Header::new(
            "Content-Disposition",
            format!("attachment; filename=\"constans-evidence-E{no}.zip\""),
        ),
        length: Header::new("Content-Length", length.to_string()),
    })
}

/// Stops the making of evidence.
#[utoipa::path(tag = "evidence", security(("token" = ["evidence.make"]), ("session" = ["evidence.make"])), responses((status = 200, body = Evidence)))]
#[post("/api/evidence/<no>/stop")]
pub async fn stop(no: u32, caller: Allowed<EvidenceMake>, db: &State<PgPool>) -> Answer<Evidence> {
    let mut transaction = db.begin().await?;
    let before = own(&mut transaction, no, &caller).await?;
    // Somebody works at it: it notices. Nobody does yet: it is ended here.
    if before.status != "waiting"
        || !job::stop(&mut *transaction, JobKind::Evidence, no.into(), &caller.person).await?
    {
        return Err(ApiError::Conflict {
            message: format!("E{no} is not being made: it is {}", before.status),
            hint: "constans evidence list shows how far each is".to_owned(),
        });
    }
    let detail = json!({ "evidence": no });
    audit::add(&mut *transaction, &caller.person, "stopped evidence", &format!("E{no}"), &detail).await?;
    let stopped = by_no(&mut transaction, no).await?;
    transaction.commit().await?;
    Ok(Json(stopped))
}

/// Removes the file of evidence; that it was made stays on record.
#[utoipa::path(tag = "evidence", security(("token" = ["evidence.make"]), ("session" = ["evidence.make"])), responses((status = 200, body = Evidence)))]
#[delete("/api/evidence/<no>")]
pub async fn remove(no: u32, caller: Allowed<EvidenceMake>, db: &State<PgPool>) -> Answer<Evidence> {
    let mut transaction = db.begin().await?;
    let before = own(&mut transaction, no, &caller).await?;
    let because = format!("removed by {}", caller.person);
    if !evidence::end(&mut *transaction, no.into(), "removed", &because, &["made"]).await? {
        return Err(ApiError::Conflict {
            message: format!("E{no} has no file: it is {}", before.status),
            hint: "constans evidence stop ends one that is being made".to_owned(),
        });
    }
    evidence::drop_parts(&mut *transaction, no.into()).await?;
    let detail = json!({ "evidence": no, "sha256": before.sha256 });
    audit::add(&mut *transaction, &caller.person, "removed evidence", &format!("E{no}"), &detail).await?;
    let removed = by_no(&mut transaction, no).await?;
    transaction.commit().await?;
    Ok(Json(removed))
}

/// Returns evidence that the caller may end: one's own, or any as an administrator.
async fn own(
    db: &mut PgConnection,
    no: u32,
    caller: &Allowed<EvidenceMake>,
) -> Result<EvidenceRow, ApiError> {
    let row = row(db, no).await?;
    if row.asked_by != caller.person && !caller.also::<PeopleManage>() {
        return Err(ApiError::NotAllowed { person: caller.person.clone(), permission: "people.manage" });
    }
    Ok(row)
}

/// The keys that sign evidence, and the chain of days.
#[utoipa::path(tag = "evidence", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = EvidenceChain)))]
#[get("/api/evidence-chain")]
pub async fn chain(
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<EvidenceChain> {
    Ok(Json(EvidenceChain { keys: here.evidence.entries.clone(), days: evidence::days(db.inner()).await? }))
}

/// Computes the digest of a day again from the history, and compares it with what was chained and with what was noted outside of the
/// database.
#[utoipa::path(tag = "evidence", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = DayChecked)))]
#[get("/api/evidence-chain/<day>")]
pub async fn check_day(
    day: &str,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<DayChecked> {
    let day: Date = day.parse().map_err(|_| ApiError::invalid("day", "it is a day as 2026-11-21"))?;
    let days = evidence::days(db.inner()).await?;
    let link = days.iter().find(|link| link.day == day);
    let link = link.ok_or_else(|| ApiError::Missing { what: "day", name: day.to_string() })?;
    let tree = tree_of(&mut *db.acquire().await?, day).await?;
    let days_file = here.days.clone();
    let noted = tokio::task::spawn_blocking(move || days_file.all())
        .await
        .map_err(|error| ApiError::BrokeOff("the check", error))?
        .map_err(|error| ApiError::failed("reading the noted days", &error))?;
    let fault = if (tree.len() as u64, hex(&tree.root())) != (link.rows, link.root.clone()) {
        Some(format!(
            "the history has {} rows that were learned on it, and their digest is not the one of the {} rows that were chained: rows were altered, inserted or removed",
            tree.len(),
            link.rows
        ))
    } else {
        match noted.get(&day.to_string()) {
            None => Some("it is not noted in the protected folder".to_owned()),
            Some(noted) if noted != link => Some(
                "the protected folder has another digest of it: the history and its chain were rewritten"
                    .to_owned(),
            ),
            Some(_) => None,
        }
    };
    Ok(Json(DayChecked { day, rows: tree.len() as u64, fault }))
}

async fn row(db: &mut PgConnection, no: u32) -> Result<EvidenceRow, ApiError> {
    let row = evidence::by_no(db, no.into()).await?;
    row.ok_or_else(|| ApiError::Missing { what: "evidence", name: format!("E{no}") })
}

async fn by_no(db: &mut PgConnection, no: u32) -> Result<Evidence, ApiError> {
    shown(row(db, no).await?)
}

fn shown(row: EvidenceRow) -> Result<Evidence, ApiError> {
    let name = || format!("E{}", row.no);
    let status: EvidenceStatus = read_stored(name, row.status.clone().into())?;
    let formats: BTreeSet<EvidenceFormat> = read_stored(name, json!(row.formats))?;
    let ended = row.ended_at.map(|at| at.to_jiff());
    Ok(Evidence {
        no: row.no,
        question: read_stored(name, row.question.clone())?,
        formats,
        because: row.because,
        asked_by: row.asked_by,
        asked: row.asked_at.to_jiff(),
        status,
        is_begun: row.is_begun,
        done: row.done.unsigned_abs(),
        total: row.total.unsigned_abs(),
        ended_because: row.ended,
        ended,
        kept_until: ended
            .filter(|_| status == EvidenceStatus::Made)
            .and_then(|ended| ended.checked_add(KEPT).ok()),
        rows: row.rows.map(i64::unsigned_abs),
        bytes: row.bytes.map(i64::unsigned_abs),
        sha256: row.sha256,
        key: row.key,
        figures: row
            .figures
            .map(|figures| read_stored(|| format!("figures of E{}", row.no), figures))
            .transpose()?,
    })
}
