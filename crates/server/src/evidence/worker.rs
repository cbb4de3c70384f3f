//! The loop that makes evidence: any process of the server claims one, gathers it, and keeps its file.

use super::gather::{Asked, GatherError, Gathered, gather};
use crate::clock;
use crate::followed::{Selected, selected};
use crate::here::Here;
use crate::problem::{ApiError, read_stored};
use crate::store::evidence::{self, EvidenceRow, MadeRow};
use crate::store::job::{self, Claim, JobKind, JobRow};
use crate::store::narrowing::Narrowing;
use crate::store::{audit, notice};
use constans_core::evidence::{Question, file_digest};
use constans_evidence::{Contents, Facts, Format, Signer};
use jiff::SignedDuration;
use serde_json::json;
use sqlx::{Connection as _, PgPool};
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom};
use std::sync::Arc;
use std::time::Duration;
use tokio::runtime::Handle;
use tokio::task::spawn_blocking;
use uuid::Uuid;

/// How often it is looked for work that another process queued or left.
const EVERY: Duration = Duration::from_secs(1);
/// How often a claim is prolonged.
const PROLONGED: Duration = Duration::from_millis(1_500);
/// How often work is begun that broke off.
const MAX_TRIES: i32 = 3;
/// The bytes of a part.
const PART: usize = 1 << 20;
/// The largest file that is kept.
const MAX_FILE: u64 = 2 << 30;
/// So long a file is kept.
pub const KEPT: SignedDuration = SignedDuration::from_hours(90 * 24);
/// How often it is looked for old ones.
const TIDIED: Duration = Duration::from_secs(3_600);

/// Makes evidence until the process ends.
pub async fn work(db: PgPool, here: Arc<Here>) {
    let owner = Uuid::now_v7();
    loop {
        let nudged = here.nudge.notified();
        match job::claim(&db, JobKind::Evidence, owner).await {
            Ok(Some(claimed)) => {
                if let Err(error) = work_at(&db, &here, &claimed).await {
                    tracing::warn!(%error, "evidence is not made yet");
                    tokio::time::sleep(EVERY).await;
                }
                here.waker.wake(notice::ACTIVITIES);
            }
            Ok(None) => drop(tokio::time::timeout(EVERY, nudged).await),
            Err(error) => {
                tracing::warn!(%error, "no work can be claimed");
                tokio::time::sleep(EVERY).await;
            }
        }
    }
}

/// Removes the files of evidence that is old, until the process ends.
pub async fn tidy(db: PgPool) {
    loop {
        if let Err(error) = remove_old(&db).await {
            tracing::warn!(%error, "old evidence is not removed yet");
        }
        tokio::time::sleep(TIDIED).await;
    }
}

async fn remove_old(db: &PgPool) -> sqlx::Result<()> {
    for no in evidence::old(db, clock::now() - KEPT).await? {
        let mut transaction = db.begin().await?;
        evidence::end(&mut *transaction, no, "removed", "it was kept for 90 days", &["made"]).await?;
        evidence::drop_parts(&mut *transaction, no).await?;
        transaction.commit().await?;
    }
    Ok(())
}

async fn work_at(db: &PgPool, here: &Arc<Here>, job: &JobRow) -> Result<(), ApiError> {
    let Some(row) = evidence::by_no(db, job.subject).await? else { return Ok(()) };
    let no = row.no;
    if job.tries > MAX_TRIES {
        return fail(
            db,
            job,
            no,
            "failed",
            &format!("it was begun {MAX_TRIES} times and broke off each time"),
        )
        .await;
    }
    let keeper = tokio::spawn(keep(db.clone(), job.clone()));
    // Writing files takes its time: on a thread of its own.
    let made = {
        let (db, here, job, runtime) = (db.clone(), here.clone(), job.clone(), Handle::current());
        spawn_blocking(move || runtime.block_on(make(&db, &here, &job, &row))).await
    };
    keeper.abort();
    let failed = match made
        .unwrap_or_else(|error| Err(ApiError::BrokeOff("the making of evidence", error).into()))
    {
        Ok(()) => return Ok(()),
        // Whether somebody stopped it or another process has it, the job says.
        Err(GatherError::Stopped) => match job::note(&mut *db.acquire().await?, job, None, 0, 0).await? {
            Claim::Stopped(by) => ("stopped", by),
            Claim::Held | Claim::Lost => return Ok(()),
        },
        Err(GatherError::Api(error)) if job.tries < MAX_TRIES && matches!(error, ApiError::Database(_)) => {
            return Err(error);
        }
        Err(GatherError::Api(error)) => {
            let problem = error.problem();
            (
                "failed",
                [Some(problem.title), problem.hint].into_iter().flatten().collect::<Vec<_>>().join("; "),
            )
        }
        Err(error) => ("failed", error.to_string()),
    };
    let (status, because) = failed;
    fail(db, job, no, status, &because).await
}

async fn fail(db: &PgPool, job: &JobRow, no: i64, status: &str, because: &str) -> Result<(), ApiError> {
    let mut transaction = db.begin().await?;
    if job::end(&mut *transaction, job).await? {
        evidence::end(&mut *transaction, no, status, because, &["waiting"]).await?;
        evidence::drop_parts(&mut *transaction, no).await?;
        transaction.commit().await?;
    }
    Ok(())
}

async fn keep(db: PgPool, job: JobRow) {
    loop {
        tokio::time::sleep(PROLONGED).await;
        if let Err(error) = job::prolong(&db, &job).await {
            tracing::warn!(%error, "a claim was not prolonged");
        }
    }
}

async fn make(db: &PgPool, here: &Here, job: &JobRow, row: &EvidenceRow) -> Result<(), GatherError> {
    let question: Question = read_stored(|| format!("question of E{}", row.no), row.question.clone())?;
    let formats: BTreeSet<Format> = read_stored(|| format!("formats of E{}", row.no), json!(row.formats))?;
    let made = clock::now();
    let Selected { nodes, undecidable } = match &question.filter {
        Some(filter) => selected(&mut *db.acquire().await?, filter).await?,
        None => Selected { nodes: Narrowing::All, undecidable: 0 },
    };
    let scope = format!("{} E{} {} {}", here.title, row.no, row.asked_at.to_jiff(), question.as_of);
    let mut contents = Contents::begin(&formats, scope)?;
    let asked = Asked { question: &question, narrowing: &nodes, undecidable };
    let mut connection = db.acquire().await?;
    let mut reading = connection.begin_with("begin isolation level repeatable read, read only").await?;
    let mut noting = db.acquire().await?;
    let go_on = async |done, total| {
        let [done, total] = [done, total].map(|count| i64::try_from(count).unwrap_or(i64::MAX));
        Ok(job::note(&mut noting, job, None, done, total).await? == Claim::Held)
    };
    let gathered = gather(db, &mut reading, &asked, &mut contents, go_on).await?;
    reading.commit().await?;
    drop(connection);
    let Gathered { figures, concessions, days, rows } = gathered;
    let facts = Facts {
        server: here.title.clone(),
        made_by: concat!("Constans ", env!("CARGO_PKG_VERSION")).to_owned(),
        evidence: row.no,
        question: question.clone(),
        asked_by: row.asked_by.clone(),
        asked: row.asked_at.to_jiff(),
        because: row.because.clone(),
        made,
        figures,
        concessions,
    };
    let signer = Signer { key: &here.evidence.key, keys: &here.evidence.entries };
    let file = contents.end(&facts, &days, &signer)?;
    store(db, here, job, &facts, rows, file).await
}

async fn store(
    db: &PgPool,
    here: &Here,
    job: &JobRow,
    facts: &Facts,
    rows: u64,
    mut file: File,
) -> Result<(), GatherError> {
    let failed = |error: io::Error| GatherError::File(error.into());
    let (bytes, sha256) = file_digest(&mut file).map_err(failed)?;
    if bytes > MAX_FILE {
        return Err(GatherError::TooMuch(format!(
            "the file is {} MiB, more than the {} MiB that are kept: take fewer nodes, controls or formats",
            bytes >> 20,
            MAX_FILE >> 20
        )));
    }
    file.seek(SeekFrom::Start(0)).map_err(failed)?;
    let mut transaction = db.begin().await?;
    let mut buffer = Vec::with_capacity(PART);
    for place in 0.. {
        buffer.clear();
        (&mut file).take(PART as u64).read_to_end(&mut buffer).map_err(failed)?;
        if buffer.is_empty() {
            break;
        }
        evidence::add_part(&mut *transaction, facts.evidence, place, &buffer).await?;
    }
    if !job::end(&mut *transaction, job).await? {
        return Err(GatherError::Stopped);
    }
    let [rows, bytes] = [rows, bytes].map(|count| i64::try_from(count).unwrap_or(i64::MAX));
    let figures = json!(facts.figures);
    let made = MadeRow { rows, bytes, sha256: &sha256, key: here.evidence.id(), figures: &figures };
    evidence::made(&mut *transaction, facts.evidence, &made).await?;
    let detail =
        json!({ "evidence": facts.evidence, "sha256": sha256, "bytes": bytes, "key": here.evidence.id() });
    let name = facts.name();
    audit::add(&mut *transaction, "the server", "made evidence", &name, &detail).await?;
    Ok(transaction.commit().await?)
}
