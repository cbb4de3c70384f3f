//! Rollouts: begun, shown, halted, continued, turned back.

use super::change::{Decision, ask, by_no as change_by_no, decide, draft_of, read_impact, repeated};
use crate::body::JsonBody;
use crate::change::draft::{Draft, check_rollout};
use crate::change::prepare::read_edits;
use crate::change::waves::{TURN_BACK, planned_waves};
use crate::here::Here;
use crate::list::{ListQuery, place_and_name, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError};
use crate::rollout::shown::{shown, shown_node, summary};
use crate::store::cursor::PageRange;
use crate::store::rollout::{self as stored, NodeRow, RolloutRow};
use crate::store::{audit, notice};
use crate::trust::{Allowed, AllowedWithin, ChangeDecide, MayAsk, NodeRead};
use constans_core::filter::{ROLLOUT_NODES, ROLLOUTS};
use constans_core::words::check_reason;
use constans_wire::change::HowToChange;
use constans_wire::kit::Changed;
use constans_wire::rollout::{NewRollout, Rollout, RolloutBegun, RolloutNode, RolloutReason, RolloutSummary};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::sync::Arc;

/// So many rollouts are under way at once: the nodes of each are looked at again and again.
const MAX_OPEN: usize = 20;

/// Hands a previewed change out in waves, or only looks at which nodes each wave would have.
#[utoipa::path(tag = "rollouts", security(("token" = ["change.decide"]), ("session" = ["change.decide"])), request_body = NewRollout, responses((status = 200, body = RolloutBegun)))]
#[post("/api/rollouts", data = "<new>")]
pub async fn begin(
    new: JsonBody<NewRollout>,
    caller: AllowedWithin<ChangeDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<RolloutBegun> {
    let change = change_by_no(db, new.change).await?;
    if let Some(rollout) = change.of_rollout {
        return Err(ApiError::Conflict {
            message: format!("C{} is a part of the rollout C{rollout}", change.no),
            hint: format!("it is handed out by itself: constans rollout show C{rollout}"),
        });
    }
    check_rollout(&new.plan, &read_edits(&change)?)?;
    let waves = planned_waves(&mut *db.acquire().await?, change.no, &new.plan).await?;
    if new.preview {
        return Ok(Json(RolloutBegun { waves, begun: false, requested: false }));
    }
    if waves.iter().all(|wave| wave.nodes == 0) && read_impact(&change)?.is_some() {
        return Err(ApiError::Conflict {
            message: format!(
                "C{} gives no node anything else: there is nothing to hand out in waves",
                change.no
            ),
            hint: format!("constans change show C{}", change.no),
        });
    }
    if stored::open(db.inner()).await?.len() >= MAX_OPEN {
        return Err(ApiError::Conflict {
            message: format!("{MAX_OPEN} rollouts are under way"),
            hint: "let one end first, or turn it back: constans rollout list".to_owned(),
        });
    }
    let decision = if change.status == "requested" {
        caller.check_fleet("a rollout that another person requested")?;
        Decision::Approve
    } else {
        caller.check_change(&mut *db.acquire().await?, change.no, &change.who).await?;
        Decision::Confirm
    };
    let changed =
        decide(&change, decision, &new.confirmed, Some(&new.plan), &caller.person, db, here).await?;
    Ok(Json(RolloutBegun { waves, begun: changed.in_waves, requested: changed.requested }))
}

/// The rollouts, the newest first.
#[utoipa::path(tag = "rollouts", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<RolloutSummary>)))]
#[get("/api/rollouts?<list..>")]
pub async fn list(
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<RolloutSummary> {
    let db = db.inner();
    let read = |range: PageRange| async move {
        placed(stored::list(db, &range).await?, RolloutRow::cursor, summary)
    };
    list.page(&ROLLOUTS, read).await
}

/// A rollout: its waves, how their nodes are, and what failed.
#[utoipa::path(tag = "rollouts", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Rollout)))]
#[get("/api/rollouts/<no>")]
pub async fn show(no: u32, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Rollout> {
    shown_by_no(db, i64::from(no)).await
}

async fn by_no(db: &PgPool, no: i64) -> Result<RolloutRow, ApiError> {
    let missing = || ApiError::Missing { what: "rollout", name: format!("C{no}") };
    stored::by_no(db, no).await?.ok_or_else(missing)
}

async fn shown_by_no(db: &PgPool, no: i64) -> Answer<Rollout> {
    let row = by_no(db, no).await?;
    Ok(Json(shown(&mut *db.acquire().await?, row).await?))
}

/// The nodes of a rollout: the bad ones first, then by wave; each by name.
#[utoipa::path(tag = "rollouts", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<RolloutNode>)))]
#[get("/api/rollouts/<no>/nodes?<list..>")]
pub async fn nodes(
    no: u32,
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<RolloutNode> {
    let db = db.inner();
    let no = by_no(db, i64::from(no)).await?.no;
    let read = |range: PageRange| async move {
        let rows = stored::nodes(db, no, place_and_name(&range)?, range.rows()).await?;
        placed(rows, NodeRow::cursor, shown_node)
    };
    list.page(&ROLLOUT_NODES, read).await
}

/// Halts a rollout: no further wave is handed out; nodes that have it keep it.
#[utoipa::path(tag = "rollouts", security(("token" = ["change.decide"]), ("session" = ["change.decide"])), request_body = RolloutReason, responses((status = 200, body = Rollout)))]
#[post("/api/rollouts/<no>/halt", data = "<reason>")]
pub async fn halt(
    no: u32,
    reason: JsonBody<RolloutReason>,
    caller: AllowedWithin<ChangeDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Rollout> {
    let row = by_no(db, i64::from(no)).await?;
    let mut transaction = db.begin().await?;
    check_decision(&mut transaction, &row, &reason.because, &caller).await?;
    if !stored::halt(&mut *transaction, Some(row.no), &reason.because, &caller.person).await? {
        return Err(is_not(&row, "going on"));
    }
    note(&mut transaction, &caller.person, "halted a rollout", &row, &reason.because).await?;
    transaction.commit().await?;
    here.waker.wake(notice::ACTIVITIES);
    shown_by_no(db, row.no).await
}

/// Has a rollout go on. If it was halted since too many nodes are bad, or goes on already, the next wave begins at once, whatever came of
/// those so far.
#[utoipa::path(tag = "rollouts", security(("token" = ["change.decide"]), ("session" = ["change.decide"])), request_body = RolloutReason, responses((status = 200, body = Rollout)))]
#[post("/api/rollouts/<no>/go-on", data = "<reason>")]
pub async fn go_on(
    no: u32,
    reason: JsonBody<RolloutReason>,
    caller: AllowedWithin<ChangeDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Rollout> {
    let row = by_no(db, i64::from(no)).await?;
    let mut transaction = db.begin().await?;
    check_decision(&mut transaction, &row, &reason.because, &caller).await?;
    let Some(stands) = stored::lock(&mut *transaction, row.no).await?.filter(|stands| stands.is_open) else {
        return Err(is_not(&row, "under way"));
    };
    // What a person halted settles as before; a wave that was not handed out is tried again.
    let was_halted_by_person =
        row.halted_by.as_deref().is_some_and(|by| by != crate::rollout::conduct::SERVER);
    let accepts = stands.next_change.is_none() && !was_halted_by_person;
    stored::go_on(&mut *transaction, row.no, accepts).await?;
    note(&mut transaction, &caller.person, "had a rollout go on", &row, &reason.because).await?;
    transaction.commit().await?;
    here.waker.wake(notice::ACTIVITIES);
    shown_by_no(db, row.no).await
}

/// Refuses a decision about a rollout without a reason, or by whom it is not for on all of its nodes.
async fn check_decision(
    db: &mut PgConnection,
    row: &RolloutRow,
    because: &str,
    caller: &AllowedWithin<ChangeDecide>,
) -> Result<(), ApiError> {
    check_reason(because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    let nodes = stored::nodes_of_waves(&mut *db, row.no, 1..=i32::MAX).await?;
    caller.check_nodes(db, &nodes).await
}

fn is_not(row: &RolloutRow, expected: &str) -> ApiError {
    ApiError::Conflict {
        message: format!("the rollout C{} is not {expected}: it is {}", row.no, row.status.replace('_', " ")),
        hint: format!("constans rollout show C{}", row.no),
    }
}

async fn note(
    db: &mut PgConnection,
    who: &str,
    what: &str,
    row: &RolloutRow,
    because: &str,
) -> sqlx::Result<()> {
    audit::add(db, who, what, &format!("C{}", row.no), &json!({ "because": because, "reached": row.reached }))
        .await
}

/// Turns a rollout back: the nodes that it reached are as they were before it. It is halted first; with `preview` only its impact is computed.
#[utoipa::path(tag = "rollouts", security(("token" = ["change.decide"]), ("session" = ["change.decide"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = HowToChange, responses((status = 200, body = Changed)))]
#[post("/api/rollouts/<no>/turn-back", data = "<how>")]
pub async fn turn_back(
    no: u32,
    how: JsonBody<HowToChange>,
    caller: MayAsk<ChangeDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    if let Some(changed) = repeated(db, here, &caller.asker).await? {
        return Ok(Json(changed));
    }
    let row = by_no(db, i64::from(no)).await?;
    let is_everywhere = row.reached.unsigned_abs() as usize >= summary(row.clone())?.plan.waves.len();
    if row.ended_at.is_some() || is_everywhere {
        return Err(ApiError::Conflict {
            message: format!(
                "the last wave of C{no} is handed out, or it has ended: there is nothing to turn back"
            ),
            hint: format!("take the change back: constans change go-back C{no}"),
        });
    }
    if !how.preview && caller.asker.may_hand_out {
        let because = how.because.as_deref().unwrap_or("it is to be turned back");
        stored::halt(db.inner(), Some(row.no), because, &caller.asker.person).await?;
    }
    let what = format!("turn back C{no}: {}", row.what);
    let draft = Draft {
        of_rollout: Some(row.no),
        although_unusable: true,
        ..draft_of(TURN_BACK, what, Vec::new(), &how, &caller.asker)
    };
    ask(db, here, &draft).await
}
