//! Stores reports, each once: runs that found something new whole, equal ones as one span; and the drift in them.

use super::batch::Batched;
use super::history;
use super::report_times::{bounded_times, plausible};
use super::texts::take_out;
use crate::clock;
use crate::problem::ApiError;
use crate::store::exception::{self, NewException};
use crate::store::history::TwoTimes;
use crate::store::run::{self, NewRun, Order, OrderRow, PlainRun};
use crate::store::{drill, episode, event, history as stored_history, related, report_text};
use crate::sweep::note_report;
use crate::thread::on_thread;
use constans_core::address::ClauseAddress;
use constans_core::attention::ExceptionSort;
use constans_core::digest::Digest;
use constans_core::episode::{ClosedAs, EpisodeChange, follow, keep_causes};
use constans_core::run::{Found, Outcome, RelatedRecords, RunFindings, Status, found, status_of};
use constans_wire::newer::keep_unknown;
use constans_wire::node_event::{NamedClauses, NodeEvent};
use constans_wire::report::{LeftOut, RunReport};
use constans_wire::run::Received;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use sqlx::types::Json;
use sqlx::{PgConnection, PgPool};
use std::collections::{HashMap, HashSet};
use uuid::Uuid;

/// This many bytes of reports of a node are kept with all details a day, by the server's clock in UTC; after twice as many, only
/// what a run came to.
const MAX_A_DAY: i64 = 32 * 1024 * 1024;

/// More runs than these are not missing between two reports, whatever a node numbers them.
const MOST_MISSING: i64 = 1_000_000;

/// A report of more clauses is bounded beside the threads that answer.
const BOUNDED_AT_ONCE: usize = 500;

impl Batched for PlainRun {
    type Done = ();

    fn node(&self) -> Uuid {
        self.node
    }

    async fn take(db: &PgPool, all: &[Self]) -> sqlx::Result<HashMap<Uuid, ()>> {
        Ok(run::lengthen_plain(db, all).await?.into_iter().map(|node| (node, ())).collect())
    }
}

/// Returns a report of the node with this key as a run that may only lengthen a span, if it changed nothing and its node's clock is
/// about right.
pub fn plain(report: &RunReport, node: Uuid, spki: Vec<u8>) -> Option<PlainRun> {
    if report.sweep.is_some() {
        return None;
    }
    let found = found_by(report)?;
    if plausible(report.began, clock::now()) != report.began {
        return None;
    }
    if found.is_none() && report.clauses.iter().any(|result| result.drift_window.is_some()) {
        return None;
    }
    let owned = |value: Value| word(&value).to_owned();
    Some(PlainRun {
        node,
        spki,
        order: Order { memory_epoch: report.memory_epoch, sequence: i64::try_from(report.sequence).ok()? },
        run: report.run,
        began: report.began,
        mode: owned(json!(report.mode)),
        status: owned(json!(report.status)),
        state: report.wanted.digest.as_str().to_owned(),
        found: found.map(|digest| digest.as_str().to_owned()),
        known_by_metadata: known_by_metadata(report),
    })
}

/// What a node says is believed up to the number of clauses that it has; that is looked at when it is counted.
fn known_by_metadata(report: &RunReport) -> i32 {
    i32::try_from(report.known_by_metadata).unwrap_or(i32::MAX)
}

/// Returns the digest of what a run found, if runs that find the same can be counted with it; none in it if all was in line.
#[expect(clippy::option_option, reason = "a run that changed something is not one that found nothing")]
fn found_by(report: &RunReport) -> Option<Option<Digest>> {
    let is_cut = report.left_out.is_some_and(|left_out| left_out.clauses > report.counts.in_line);
    if report.partial || report.did_not_end.is_some() || is_cut {
        return None;
    }
    match found(RunFindings {
        status: report.status,
        clauses: &report.clauses,
        due: &report.due,
        package_preview: report.package_preview.as_ref(),
        restart_pending: report.restart_pending.as_ref(),
    }) {
        Found::Nothing => Some(None),
        Found::Standing(digest) => Some(Some(digest)),
        Found::Changed => None,
    }
}

/// The result of a report that was sent.
pub struct StoredReport {
    /// The answer for the agent.
    pub received: Received,
    /// Whether it reports something that pages show.
    pub is_news: bool,
}

/// Stores a node's report, which was sent as these bytes. Sent twice, it is stored once.
///
/// # Errors
///
/// Returns why it could not be stored.
pub async fn take_in(
    db: &mut PgConnection,
    node: Uuid,
    mut report: RunReport,
    sent: &[u8],
) -> Result<StoredReport, ApiError> {
    let sequence = i64::try_from(report.sequence)
        .map_err(|_| ApiError::invalid("sequence", "the sequence is too large"))?;
    if report.clauses.len() > BOUNDED_AT_ONCE {
        report = on_thread(|| report.bounded()).await?;
    } else {
        report = report.bounded();
    }
    let order = run::order(&mut *db, node).await?;
    // An agent delivers in order, so what is not newer was stored already.
    if order
        .as_ref()
        .is_some_and(|order| order.memory_epoch == report.memory_epoch && order.sequence >= sequence)
    {
        return Ok(StoredReport { received: Received::Known, is_news: false });
    }
    let now = clock::now();
    let known = stored_history::node(&mut *db, node, report.wanted.digest.as_str()).await?;
    let began = bounded_times(&mut report, SignedDuration::from_millis(known.clock_off_ms), now);
    only_known_drills(&mut *db, node, &mut report, began).await?;
    let memory_lost = order.as_ref().is_some_and(|order| order.memory_epoch != report.memory_epoch);
    let episodes = follow_drift(db, node, &mut report, began, order.as_ref(), memory_lost).await?;
    let (ran_at, is_full) = history::take_in(&mut *db, &known, &report, order.as_ref(), now).await?;
    if let Some(order) = &order
        && let Some(before) = order.ran_at
    {
        // Under a new memory the first run is 1; how many runs of the old one are missing is not known.
        let next = if memory_lost { 1 } else { order.sequence.saturating_add(1) };
        let missing = sequence.saturating_sub(next).min(MOST_MISSING);
        if missing > 0 {
            let ran = TwoTimes { at: ran_at, learned_at: now };
            stored_history::missing_runs(&mut *db, known.no, missing, before.to_jiff().min(ran_at), ran)
                .await?;
        }
    }
    keep_related(&mut *db, node, &mut report).await?;
    let (mode, status) = (json!(report.mode), json!(report.status));
    let found = found_by(&report);
    let digest = found.as_ref().and_then(|found| found.as_ref()).map(Digest::as_str);
    let mut row = NewRun {
        run: report.run,
        began,
        mode: word(&mode),
        status: word(&status),
        partial: report.partial,
        state: report.wanted.digest.as_str(),
        ran_at,
        is_full,
        learned_at: now,
        found: digest,
        known_by_metadata: known_by_metadata(&report),
    };
    // What a node without its memory reports is kept, even if it is what was known before.
    let may_repeat = found.is_some() && episodes.is_empty() && (digest.is_none() || !memory_lost);
    let last_span = order.as_ref().and_then(|order| order.span).filter(|_| may_repeat);
    let repeated = match last_span {
        Some(span) => run::lengthen(&mut *db, span, &row).await?,
        None => None,
    };
    let is_kept_whole = repeated.is_none() && (digest.is_some() || !may_repeat);
    if is_kept_whole {
        keep_whole(db, node, &report, sent, &row).await?;
    }
    let span = match repeated {
        None if digest.is_some() || may_repeat => Some(run::begin_span(&mut *db, node, &row).await?),
        known => known,
    };
    let kept_as = if is_kept_whole { Some(report.run) } else { span.and_then(|span| span.run) };
    note_report(&mut *db, node, &report, kept_as, began).await?;
    row.run = span.and_then(|span| span.run).unwrap_or(row.run);
    let order_now = Order { memory_epoch: report.memory_epoch, sequence };
    run::note(&mut *db, node, &order_now, span.map(|span| span.id), &row).await?;
    if !episodes.is_empty() {
        episode::count_open(&mut *db, node).await?;
    }
    let events = events_of(&report, &episodes, order.as_ref().and_then(|order| order.full_status.as_deref()));
    if !events.is_empty() {
        event::add_of_node(&mut *db, node, &events).await?;
    }
    if !report.partial {
        if repeated.is_none() && (is_kept_whole || order.as_ref().is_none_or(|order| order.has_exceptions)) {
            keep_exceptions(&mut *db, node, &report, began).await?;
        }
        // After a first run under a new memory, one that leaves nothing open has everything remembered again.
        let is_whole_again =
            !memory_lost && report.counts.out_of_line + report.counts.blocked + report.counts.failed == 0;
        if memory_lost || order.as_ref().is_some_and(|order| order.is_memory_lost) {
            run::note_memory(&mut *db, node, memory_lost, is_whole_again).await?;
        }
    }
    Ok(StoredReport { received: Received::Stored, is_news: repeated.is_none() })
}

/// Takes out of a report what the node had on record, and keeps it apart, since it is kept for less long: as long as the node has not
/// sent more today than it may.
async fn keep_related(db: &mut PgConnection, node: Uuid, report: &mut RunReport) -> Result<(), ApiError> {
    let gathered: Vec<(String, Json<RelatedRecords>)> = report
        .clauses
        .iter_mut()
        .filter_map(|result| Some((result.address.to_string(), Json(*result.related.take()?))))
        .collect();
    if gathered.is_empty() {
        return Ok(());
    }
    let bytes = i64::try_from(json!(gathered).to_string().len()).unwrap_or(i64::MAX);
    if run::count_kept(&mut *db, node, bytes).await? <= MAX_A_DAY {
        related::store(&mut *db, node, report.run, &gathered).await?;
    }
    Ok(())
}

/// Returns what a run noticed that the full run before it, of this status, did not.
fn events_of(report: &RunReport, episodes: &[EpisodeChange], status_before: Option<&str>) -> Vec<NodeEvent> {
    let run = report.run;
    let named = |addresses: Vec<String>| Some(NamedClauses::of(addresses)).filter(|named| !named.is_empty());
    let over: HashSet<&ClauseAddress> = episodes
        .iter()
        .filter_map(|change| match change {
            EpisodeChange::Close { address, .. } => Some(address),
            EpisodeChange::Open { .. } => None,
        })
        .collect();
    let opened = episodes.iter().filter_map(|change| match change {
        // Drift that the run corrected at once is one event, its end.
        EpisodeChange::Open { address, .. } if !over.contains(address) => Some(address.to_string()),
        _ => None,
    });
    let closed = |way: ClosedAs| {
        let addresses = episodes.iter().filter_map(|change| match change {
            EpisodeChange::Close { address, closed_as } if *closed_as == way => Some(address.to_string()),
            _ => None,
        });
        Some(NodeEvent::DriftEnded { run, closed_as: way, clauses: named(addresses.collect())? })
    };
    let found = named(opened.collect()).map(|clauses| NodeEvent::DriftFound { run, clauses });
    let mut events: Vec<NodeEvent> =
        found.into_iter().chain(ClosedAs::ALL.into_iter().filter_map(closed)).collect();
    if !report.partial {
        let (fails, failed) = (report.status == Status::Failed, status_before == Some("failed"));
        if fails && !failed {
            let clauses = report.clauses.iter().filter(|result| result.outcome == Outcome::Failed);
            let clauses = NamedClauses::of(clauses.map(|result| result.address.to_string()));
            events.push(NodeEvent::RunFailed { run, clauses });
        } else if failed && !fails {
            events.push(NodeEvent::RunRecovered { run });
        }
    }
    events
}

/// Keeps a run whole, its long texts apart: as long as the node has not sent more today than it may, with all details.
async fn keep_whole(
    db: &mut PgConnection,
    node: Uuid,
    report: &RunReport,
    sent: &[u8],
    row: &NewRun<'_>,
) -> Result<(), ApiError> {
    let wrong = |error: serde_json::Error| ApiError::failed("writing JSON", &error);
    let mut body = serde_json::to_value(report).map_err(wrong)?;
    let too_large = keep_unknown(&mut body, sent);
    if too_large > 0 {
        let left_out = report.left_out.unwrap_or_default();
        body["left_out"] = json!(LeftOut { entries: left_out.entries + too_large, ..left_out });
    }
    let bytes = i64::try_from(body.to_string().len()).unwrap_or(i64::MAX);
    let kept_today = run::count_kept(&mut *db, node, bytes).await?;
    if kept_today > MAX_A_DAY {
        let mut bare = report.clone().without_details();
        if kept_today > 2 * MAX_A_DAY {
            let clauses = std::mem::take(&mut bare.clauses).len() as u64;
            bare.left_out =
                bare.left_out.map(|left_out| LeftOut { clauses: left_out.clauses + clauses, ..left_out });
        }
        body = serde_json::to_value(bare).map_err(wrong)?;
    }
    let extracted = take_out(&mut body);
    report_text::store(&mut *db, &extracted.texts).await?;
    Ok(run::add(&mut *db, node, row, &body, &json!(extracted.places)).await?)
}

/// Takes out of a report what says of clauses that they were broken in a drill, where none was asked for: it would be counted apart.
async fn only_known_drills(
    db: &mut PgConnection,
    node: Uuid,
    report: &mut RunReport,
    began: Timestamp,
) -> Result<(), ApiError> {
    let Some(no) = report.clauses.iter().find_map(|result| result.drill) else { return Ok(()) };
    let known = drill::clauses_of(&mut *db, no, node, began).await?;
    for result in &mut report.clauses {
        result.drill = result.drill.filter(|of| *of == no && known.contains(result.address.as_str()));
    }
    Ok(())
}

/// Follows the drift episodes of the node; after its memory was lost, causes stay what they were last known to be.
/// Returns the episodes that opened or ended.
async fn follow_drift(
    db: &mut PgConnection,
    node: Uuid,
    report: &mut RunReport,
    began: Timestamp,
    order: Option<&OrderRow>,
    memory_lost: bool,
) -> Result<Vec<EpisodeChange>, ApiError> {
    let has_drift = report.clauses.iter().any(|result| result.drift_window.is_some());
    if !has_drift && order.is_none_or(|order| order.open_episodes == 0) {
        return Ok(Vec::new());
    }
    let open = episode::open_of(&mut *db, node).await?;
    if memory_lost && keep_causes(&open, &mut report.clauses) {
        report.status = status_of(&report.clauses, !report.due.is_empty());
    }
    let ended_at = began + SignedDuration::from_micros(i64::try_from(report.took_us).unwrap_or(0));
    // Of a clause that was left out it is not known whether it is wanted still.
    let is_whole = !report.partial && report.left_out.is_none_or(|left_out| left_out.clauses == 0);
    let changes = follow(&open, &report.clauses, is_whole);
    if !changes.is_empty() {
        episode::apply(&mut *db, node, report.run, &changes, began, ended_at).await?;
    }
    Ok(changes)
}

/// Keeps what is not in line as of a full run.
async fn keep_exceptions(
    db: &mut PgConnection,
    node: Uuid,
    report: &RunReport,
    began: Timestamp,
) -> Result<(), ApiError> {
    let owned = |value: Value| word(&value).to_owned();
    let rows: Vec<NewException> = report
        .clauses
        .iter()
        .filter_map(|result| {
            let (sort, message) = ExceptionSort::of(result)?;
            Some(NewException {
                address: result.address.to_string(),
                severity: owned(json!(result.severity)),
                sort: owned(json!(sort)),
                cause: result.cause.map(|cause| owned(json!(cause))),
                message: message.lines().next().unwrap_or_default().to_owned(),
            })
        })
        .collect();
    Ok(exception::set(db, node, report.run, began, &rows).await?)
}

fn word(value: &Value) -> &str {
    value.as_str().unwrap_or_default()
}
