//! What the reports of nodes came to in their sweeps.

use crate::problem::ApiError;
use crate::store::sweep::{self, Done};
use constans_core::run::{ClauseResult, Decision, Leave, Mode};
use constans_core::sweep::{CameOf, observed_by};
use constans_wire::report::RunReport;
use jiff::Timestamp;
use serde_json::json;
use sqlx::PgConnection;
use uuid::Uuid;

/// Notes what a report came to, if its run was part of a sweep. `run` is under which it is kept whole, if it is; `began` by the server's
/// clock.
///
/// # Errors
///
/// Returns why it could not be noted.
pub async fn note_report(
    db: &mut PgConnection,
    node: Uuid,
    report: &RunReport,
    run: Option<Uuid>,
    began: Timestamp,
) -> Result<(), ApiError> {
    let Some(swept) = report.sweep else { return Ok(()) };
    let came_of = CameOf {
        counts: report.counts,
        due: report.due.len() as u64,
        is_stopped: swept.is_stopped,
        interrupted: report.did_not_end.as_ref().map(|end| end.words()),
        ..CameOf::of(&report.clauses, report.mode, report.status, report.took_us)
    };
    let found = (report.mode == Mode::Observe).then(|| observed_by(&report.clauses));
    let found = found.map(|found| (json!(found), i32::try_from(found.len()).unwrap_or(i32::MAX)));
    let found = found.as_ref().map(|(found, would)| (found, *would));
    let is_changed = |result: &&ClauseResult| {
        matches!(&result.decision, Decision::Leave { why: Leave::ChangedSinceObserved })
    };
    let number = |count: u64| i32::try_from(count).unwrap_or(i32::MAX);
    let status = json!(came_of.status);
    let done = Done {
        id: swept.id,
        node,
        began,
        run,
        came_of: &json!(came_of),
        status: status.as_str().unwrap_or_default(),
        is_in_line: came_of.is_in_line(),
        corrected: number(came_of.counts.corrected),
        with_left: !came_of.left.is_empty(),
        changed_since: number(report.clauses.iter().filter(is_changed).count() as u64),
        found,
    };
    sweep::done(&mut *db, &done).await?;
    Ok(())
}
