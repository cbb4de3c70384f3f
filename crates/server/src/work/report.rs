//! Taking in reports: eventful runs whole, equal uneventful ones as one span, each once.

use crate::problem::ApiError;
use crate::store::run::{self, NewRun};
use constans_core::run::{Outcome, Status};
use constans_wire::report::RunReport;
use constans_wire::run::Received;
use jiff::{SignedDuration, Timestamp};
use serde_json::Value;
use sqlx::PgConnection;
use uuid::Uuid;

/// Stores a node's report. Sent twice, it is stored once.
///
/// # Errors
///
/// Returns why it could not be stored.
pub async fn take_in(db: &mut PgConnection, node: Uuid, report: &RunReport) -> Result<Received, ApiError> {
    let sequence = i64::try_from(report.sequence).map_err(|_| ApiError::Wrong("the sequence is too large".to_owned()))?;
    let order = run::order(&mut *db, node).await?;
    // An agent delivers in order, so what is not newer was stored already.
    if order.as_ref().is_some_and(|order| order.memory_epoch == report.memory_epoch && order.sequence >= sequence) {
        return Ok(Received::Known);
    }
    let now = Timestamp::now();
    let body = serde_json::to_value(report).map_err(|error| ApiError::Wrong(error.to_string()))?;
    let (mode, status) = (word(&body["mode"]), word(&body["status"]));
    let row =
        NewRun { run: report.run, began: report.began, mode, status, partial: report.partial, state: report.wanted.digest.as_str(), report: &body };
    let span = if is_uneventful(report) {
        let last = order.as_ref().and_then(|order| order.span);
        let lengthened = match last {
            Some(span) if run::lengthen(&mut *db, span, &row, now).await? => Some(span),
            _ => None,
        };
        Some(match lengthened {
            Some(span) => span,
            None => run::begin_span(&mut *db, node, &row, now).await?,
        })
    } else {
        run::make_partitions(&mut *db, &[now, now + SignedDuration::from_hours(24 * 28)]).await?;
        run::add(&mut *db, node, &row).await?;
        None
    };
    run::set_order(&mut *db, node, report.memory_epoch, sequence, span).await?;
    if !report.partial {
        run::set_standing(db, node, &row).await?;
    }
    Ok(Received::Stored)
}

/// Returns whether a run says nothing that the one before it did not say.
fn is_uneventful(report: &RunReport) -> bool {
    let is_quiet = |outcome: Outcome| matches!(outcome, Outcome::InLine | Outcome::Idle);
    report.status == Status::InLine
        && !report.partial
        && report.due.is_empty()
        && report.clauses.iter().all(|result| is_quiet(result.outcome) && result.reaction.is_none() && !result.already_there)
}

fn word(value: &Value) -> &str {
    value.as_str().unwrap_or_default()
}
