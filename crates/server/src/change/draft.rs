//! Drafting: a change is asked for, queued, and waited for.

use super::resolver::read_overlays;
use crate::here::Nudge;
use crate::problem::ApiError;
use crate::store::change::{self, ChangeRow, NewChange};
use crate::store::job::{self, JobKind};
use crate::store::{fleet, recovery};
use constans_core::change::{Confirmed, DocumentEdit, DocumentKey};
use constans_core::rollout::{RolloutPlan, overlapping};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::time::Duration;

/// A change that a person asks for.
pub struct Draft<'a> {
    /// Its kind: `group`, `serve`, `go_back`.
    pub kind: &'a str,
    /// What it does, in words.
    pub what: String,
    /// Who asks for it.
    pub who: &'a str,
    /// Why.
    pub because: Option<&'a str>,
    /// The edits of documents.
    pub edits: Vec<DocumentEdit>,
    /// Continue although the state of some nodes cannot be resolved.
    pub although_unusable: bool,
    /// Only its impact is wanted.
    pub is_preview: bool,
    /// It is requested: another person hands it out.
    pub is_request: bool,
    /// What was confirmed.
    pub confirmed: Option<Confirmed>,
    /// The change that it reverts.
    pub goes_back: Option<i64>,
    /// It is refused if a document that it edits was edited after this change.
    pub unless_changed_after: Option<u32>,
    /// The key of the request, if it has one: repeated, it makes no second change.
    pub request_key: Option<&'a str>,
    /// How it goes if it reaches its nodes in waves.
    pub rollout: Option<RolloutPlan>,
    /// The change whose rollout it is a part of.
    pub of_rollout: Option<i64>,
}

/// This many requests of one person wait at once: each keeps what was prepared of its nodes.
const MAX_REQUESTS: i64 = 20;

/// Queues a change and returns its number. It is worked at when the transaction is committed.
///
/// # Errors
///
/// Returns that the server is recovering, or why it could not be stored.
pub async fn queue(db: &mut PgConnection, draft: &Draft<'_>) -> Result<i64, ApiError> {
    refuse_while_recovering(&mut *db).await?;
    if let Some(newest) = draft.unless_changed_after {
        refuse_later(&mut *db, &draft.edits, i64::from(newest)).await?;
    }
    if draft.is_request && change::open_requests(&mut *db, draft.who).await? >= MAX_REQUESTS {
        return Err(ApiError::Conflict {
            message: format!("{MAX_REQUESTS} requests of {} wait already", draft.who),
            hint: "let them be decided first, or stop one: constans change list, constans change stop"
                .to_owned(),
        });
    }
    if let Some(plan) = &draft.rollout {
        check_rollout(plan, &draft.edits)?;
    }
    if let Some((edit, rollout)) = under_way(&mut *db, &draft.edits, draft.of_rollout).await? {
        return Err(ApiError::Conflict {
            message: format!("{} is part of a rollout that is under way: C{rollout}", edit.title()),
            hint: format!("let it end, or turn it back: constans rollout show C{rollout}"),
        });
    }
    let epoch = fleet::read(&mut *db).await?.epoch;
    let rollout = draft.rollout.as_ref().map(|plan| json!(plan));
    let confirmed = draft.confirmed.as_ref().map(|confirmed| json!(confirmed));
    let new = NewChange {
        kind: draft.kind,
        what: &draft.what,
        who: draft.who,
        because: draft.because,
        edits: &json!(draft.edits),
        although_unusable: draft.although_unusable,
        is_preview: draft.is_preview,
        is_request: draft.is_request,
        confirmed: confirmed.as_ref(),
        goes_back: draft.goes_back,
        epoch,
        status: "waiting",
        request_key: draft.request_key,
        rollout: rollout.as_ref(),
        of_rollout: draft.of_rollout,
    };
    let no = change::add(&mut *db, &new).await?;
    let kind = if draft.is_preview || draft.is_request { JobKind::Preview } else { JobKind::Change };
    job::queue(db, kind, no, &format!("C{no}: {}", draft.what), draft.who, None).await?;
    Ok(no)
}

/// Checks that a change can reach its nodes in waves.
///
/// # Errors
///
/// Returns what is wrong with the plan, or that the change is one of single nodes or of stages.
pub fn check_rollout(plan: &RolloutPlan, edits: &[DocumentEdit]) -> Result<(), ApiError> {
    plan.check().map_err(|wrong| ApiError::invalid(wrong.field(), wrong.to_string()))?;
    let fits = |edit: &DocumentEdit| matches!(edit.key, DocumentKey::Group(_) | DocumentKey::Served { .. });
    match edits.iter().find(|edit| !fits(edit)) {
        Some(edit) => Err(ApiError::Conflict {
            message: format!("{} cannot be changed in waves", edit.title()),
            hint: "waves are for groups and for the releases that stages serve; change it at once".to_owned(),
        }),
        None if edits.is_empty() => Err(ApiError::Conflict {
            message: "this change edits no document that could reach nodes in waves".to_owned(),
            hint: "waves are for groups and for the releases that stages serve".to_owned(),
        }),
        None => Ok(()),
    }
}

/// Returns the first of the edits whose document a rollout has under way, with that rollout; but for `own`.
///
/// # Errors
///
/// Returns why rollouts could not be read.
pub async fn under_way<'e>(
    db: &mut PgConnection,
    edits: &'e [DocumentEdit],
    own: Option<i64>,
) -> Result<Option<(&'e DocumentEdit, i64)>, ApiError> {
    let mut overlays = read_overlays(db).await?;
    overlays.retain(|overlay| Some(overlay.rollout) != own);
    Ok(overlapping(edits, &overlays))
}

async fn refuse_later(db: &mut PgConnection, edits: &[DocumentEdit], newest: i64) -> Result<(), ApiError> {
    for edit in edits {
        if let Some((no, who)) =
            change::last_of_key(&mut *db, &edit.key).await?.filter(|(no, _)| *no > newest)
        {
            return Err(ApiError::Conflict {
                message: format!("{} was changed after C{newest}, by C{no}, {who}", edit.title()),
                hint: format!("look at it as it is now: constans change show C{no}; then try again"),
            });
        }
    }
    Ok(())
}

/// Refuses what would be handed out while nothing is.
///
/// # Errors
///
/// Returns that the server is recovering.
pub async fn refuse_while_recovering(db: &mut PgConnection) -> Result<(), ApiError> {
    if recovery::since(db).await?.is_some() {
        return Err(ApiError::Conflict {
            message: "the server is recovering: nothing is handed out until that is ended".to_owned(),
            hint: "see constans recovery show, then constans recovery end".to_owned(),
        });
    }
    Ok(())
}

/// How often it is looked whether a change ended, at first and later.
const LOOKED: (Duration, Duration) = (Duration::from_millis(20), Duration::from_millis(250));

/// Waits until a change was handed out, or ended otherwise. It goes on when nobody waits any more.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn wait(db: &PgPool, nudge: &Nudge, no: i64) -> Result<ChangeRow, ApiError> {
    nudge.nudge();
    let mut pause = LOOKED.0;
    while matches!(change::status(db, no).await?.as_str(), "waiting" | "preparing") {
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(LOOKED.1);
    }
    change::by_no(db, no).await?.ok_or_else(|| ApiError::Missing { what: "change", name: format!("C{no}") })
}
