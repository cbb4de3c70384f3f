//! Changes of desired state: listed, shown, confirmed, stopped, reverted.

use crate::body::{JsonBody, Number};
use crate::change::documents::read_documents_of;
use crate::change::draft::{Draft, queue, refuse_while_recovering, wait};
use crate::change::prepare::read_edits;
use crate::change::waves::read_plan;
use crate::here::Here;
use crate::list::{ListQuery, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::change::{self, ChangeRow, ChangedByRow, ChangedNodeRow};
use crate::store::cursor::{Cursor, PageRange};
use crate::store::job::{self, JobKind};
use crate::store::{audit, node, wanted};
use crate::trust::{
    Allowed, AllowedWithin, Asker, ChangeDecide, MayAsk, MayAskWithin, NodeRead, Permission as _,
};
use constans_core::change::{
    Confirmed, DocumentEdit, Impact, asks_for_second_person, later_edits, typed_from,
};
use constans_core::filter::{CHANGED_NODES, CHANGES};
use constans_core::rollout::RolloutPlan;
use constans_core::words::check_reason;
use constans_wire::change::{
    ChangeShown, ChangeStatus, ChangeSummary, ChangedBy, ChangedNode, DenyChange, HowToChange, ShownEdit,
};
use constans_wire::kit::Changed;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::PgPool;
use std::sync::Arc;
use uuid::Uuid;

/// The changes, the newest first; or those that altered one node.
#[utoipa::path(tag = "changes", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(("before" = Option<u32>, Query, description = "Only those before this number"), ListQuery), responses((status = 200, body = Vec<ChangeSummary>)))]
#[get("/api/changes?<before>&<of_node>&<list..>")]
pub async fn list(
    before: Number,
    of_node: Option<&str>,
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<ChangeSummary> {
    let node = match of_node {
        None => None,
        Some(name) => Some(
            node::by_name(db.inner(), name)
                .await?
                .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?,
        ),
    };
    let before = before.0.map_or(i64::MAX, i64::from);
    let read = |range: PageRange| async move {
        let rows = change::list(db.inner(), range.before(before), node, range.rows()).await?;
        placed(rows, |row| Cursor::of_number(row.no), summary)
    };
    list.page(&CHANGES, read).await
}

/// Shows the change that altered something.
pub fn changed_by(row: ChangedByRow) -> ChangedBy {
    let ChangedByRow { no, what, who, because, ended_at } = row;
    ChangedBy { no, what, who, because, at: ended_at.to_jiff() }
}

/// A change with its impact, its edits and its nodes.
#[utoipa::path(tag = "changes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = ChangeShown)))]
#[get("/api/changes/<no>")]
pub async fn show(no: u32, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<ChangeShown> {
    let db = db.inner();
    let row = by_no(db, i64::from(no)).await?;
    let edits = read_edits(&row)?
        .into_iter()
        .map(|edit| ShownEdit { title: edit.title(), difference: edit.difference(), edit })
        .collect();
    let impact = read_impact(&row)?;
    let nodes = change::nodes(db, row.no, None, NODES).await?.into_iter().map(changed_node).collect();
    let last_by = change::last_by(db, row.no).await?.map(|at| at.to_jiff());
    let ahead = if row.status == "waiting" { job::ahead_of(db, row.no).await? } else { None };
    let behind = ahead.map(|(no, who, done, total)| format!("C{no}, {who}: {done} of {total} nodes"));
    let typed_from = typed_from(wanted::node_count(db).await?.unsigned_abs());
    let documents = read_documents_of(&mut *db.acquire().await?, &[]).await?;
    let asks = asks_for_second_person(&documents, &read_edits(&row)?).into_iter().collect();
    let in_waves = row.rollout.clone().map(|plan| read_plan(row.no, plan)).transpose()?;
    Ok(Json(ChangeShown {
        change: summary(row)?,
        in_waves,
        behind,
        impact,
        edits,
        nodes,
        last_by,
        asks_for_second_person: asks,
        typed_from,
    }))
}

/// How many nodes of a change are sent at once.
const NODES: i64 = 1_000;

fn changed_node(row: ChangedNodeRow) -> ChangedNode {
    ChangedNode {
        name: row.name,
        has_since: row.taken_at.map(|at| at.to_jiff()),
        next_check_in: row.promised_at.map(|at| at.to_jiff()),
        is_later: row.is_later,
    }
}

/// The nodes that a change gives something else, those that do not have it first, then by name.
#[utoipa::path(tag = "changes", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<ChangedNode>)))]
#[get("/api/changes/<no>/nodes?<list..>")]
pub async fn nodes(
    no: u32,
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<ChangedNode> {
    let db = db.inner();
    let no = by_no(db, i64::from(no)).await?.no;
    let read = |range: PageRange| async move {
        let after = match range.after.as_ref().map(|after| after.key.split_once(' ')) {
            None => None,
            Some(Some((what @ ("has" | "lacks"), name))) => Some((what == "has", name)),
            Some(_) => return Err(ApiError::invalid("after", "take it from the `Link` of the page before")),
        };
        let rows = change::nodes(db, no, after, range.rows()).await?;
        placed(rows, ChangedNodeRow::cursor, |row| Ok(changed_node(row)))
    };
    list.page(&CHANGED_NODES, read).await
}

/// Hands out a change that was previewed, or that waits for confirmation since it takes clauses from nodes.
#[utoipa::path(tag = "changes", security(("token" = ["change.decide"]), ("session" = ["change.decide"])), request_body = Confirmed, responses((status = 200, body = Changed)))]
#[post("/api/changes/<no>/confirm", data = "<confirmed>")]
pub async fn confirm(
    no: u32,
    confirmed: JsonBody<Confirmed>,
    caller: AllowedWithin<ChangeDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let row = by_no(db, i64::from(no)).await?;
    caller.check_change(&mut *db.acquire().await?, row.no, &row.who).await?;
    decide(&row, Decision::Confirm, &confirmed, None, &caller.person, db, here).await
}

/// Approves a change that another person requested, or that needs a second person, and hands it out.
#[utoipa::path(tag = "changes", security(("token" = ["change.decide"]), ("session" = ["change.decide"])), request_body = Confirmed, responses((status = 200, body = Changed)))]
#[post("/api/changes/<no>/approve", data = "<confirmed>")]
pub async fn approve(
    no: u32,
    confirmed: JsonBody<Confirmed>,
    caller: Allowed<ChangeDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let row = by_no(db, i64::from(no)).await?;
    decide(&row, Decision::Approve, &confirmed, None, &caller.person, db, here).await
}

/// How a change that waits is handed out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decision {
    /// It was previewed, or its impact is confirmed.
    Confirm,
    /// Another person approves it.
    Approve,
}

/// Hands a change out that waits for that: at once, or in waves.
///
/// # Errors
///
/// Returns that it does not wait for that, that the person asked for it themselves, or why it was not handed out.
pub async fn decide(
    row: &ChangeRow,
    decision: Decision,
    confirmed: &Confirmed,
    rollout: Option<&RolloutPlan>,
    person: &str,
    db: &PgPool,
    here: &Here,
) -> Answer<Changed> {
    let no = row.no;
    let approves = decision == Decision::Approve;
    if approves && row.who == person {
        return Err(ApiError::Conflict {
            message: format!("you asked for C{no} yourself: another person approves it"),
            hint: format!("whoever holds change.decide: constans change approve C{no}"),
        });
    }
    let (stored, plan) = (json!(confirmed), rollout.map(|plan| json!(plan)));
    let mut transaction = db.begin().await?;
    refuse_while_recovering(&mut transaction).await?;
    let has_waited = if approves {
        change::approve(&mut *transaction, no, &stored, plan.as_ref(), person).await?
    } else {
        change::confirm(&mut *transaction, no, &stored, plan.as_ref(), person).await?
    };
    if !has_waited {
        let expected = if approves { "approval" } else { "confirmation" };
        return Err(ApiError::Conflict {
            message: format!("C{no} does not wait for {expected}: it is {}", row.status.replace('_', " ")),
            hint: format!("constans change show C{no}"),
        });
    }
    // All its nodes are prepared already, up to its snapshot.
    let what = format!("C{no}: {}", row.what);
    job::queue(&mut *transaction, JobKind::Change, no, &what, person, Some(Uuid::max())).await?;
    let mut detail = json!({ "change": no, "confirmed": confirmed });
    if let Some(plan) = plan {
        detail["rollout"] = plan;
    }
    let act = if approves {
        detail["requested_by"] = json!(row.who);
        "approved a change"
    } else {
        "confirmed a change"
    };
    audit::add(&mut *transaction, person, act, &row.what, &detail).await?;
    transaction.commit().await?;
    answer(wait(db, &here.nudge, no).await?)
}

/// Denies a change that another person requested, with a reason.
#[utoipa::path(tag = "changes", security(("token" = ["change.decide"]), ("session" = ["change.decide"])), request_body = DenyChange, responses((status = 200, body = ChangeSummary)))]
#[post("/api/changes/<no>/deny", data = "<denied>")]
pub async fn deny(
    no: u32,
    denied: JsonBody<DenyChange>,
    caller: Allowed<ChangeDecide>,
    db: &State<PgPool>,
) -> Answer<ChangeSummary> {
    check_reason(&denied.because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    let row = by_no(db, i64::from(no)).await?;
    if row.status != "requested" {
        return Err(ApiError::Conflict {
            message: format!("C{no} does not wait for approval: it is {}", row.status.replace('_', " ")),
            hint: format!("constans change show C{no}"),
        });
    }
    let mut transaction = db.begin().await?;
    change::drop_nodes(&mut *transaction, &[row.no]).await?;
    let message = format!("{} denied it: {}", caller.person, denied.because);
    change::set_status(
        &mut *transaction,
        row.no,
        "refused",
        Some((&message, "talk to each other, then ask for it again")),
    )
    .await?;
    let detail = json!({ "change": no, "requested_by": row.who, "because": denied.because });
    audit::add(&mut *transaction, &caller.person, "denied a change", &row.what, &detail).await?;
    transaction.commit().await?;
    Ok(Json(summary(by_no(db, row.no).await?)?))
}

/// Stops a change that is not handed out yet. Who may not hand out stops only what they asked for themselves.
#[utoipa::path(tag = "changes", security(("token" = ["change.decide"]), ("session" = ["change.decide"]), ("token" = ["change.request"]), ("session" = ["change.request"])), responses((status = 200, body = ChangeSummary)))]
#[post("/api/changes/<no>/stop")]
pub async fn stop(no: u32, caller: MayAskWithin<ChangeDecide>, db: &State<PgPool>) -> Answer<ChangeSummary> {
    // What one asked for oneself one may stop, wherever one may ask.
    let (person, may_hand_out) = (caller.person().to_owned(), caller.may_everywhere());
    let row = by_no(db, i64::from(no)).await?;
    if !may_hand_out && row.who != person {
        return Err(ApiError::NotAllowed { person, permission: ChangeDecide::NAME });
    }
    let is_worked_at = matches!(row.status.as_str(), "waiting" | "preparing");
    let mut transaction = db.begin().await?;
    if is_worked_at {
        job::stop(&mut *transaction, JobKind::Change, row.no, &person).await?;
    } else if matches!(row.status.as_str(), "previewed" | "unconfirmed" | "requested") {
        change::drop_nodes(&mut *transaction, &[row.no]).await?;
        let stopped = format!("C{no} was stopped by {person}");
        change::set_status(&mut *transaction, row.no, "stopped", Some((&stopped, "ask for it again")))
            .await?;
    } else {
        return Err(ApiError::Conflict {
            message: format!("C{no} is {} already", row.status.replace('_', " ")),
            hint: match row.status.as_str() {
                "handed_out" => format!("take it back: constans change go-back C{no}"),
                "in_waves" => format!("halt it: constans rollout halt C{no}"),
                _ => "nothing to stop".to_owned(),
            },
        });
    }
    audit::add(&mut *transaction, &person, "stopped a change", &row.what, &json!({ "change": no })).await?;
    transaction.commit().await?;
    Ok(Json(summary(by_no(db, row.no).await?)?))
}

/// Takes back a change: each document that it edited is as it was before. Refused if one of them was changed since.
#[utoipa::path(tag = "changes", security(("token" = ["change.decide"]), ("session" = ["change.decide"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = HowToChange, responses((status = 200, body = Changed)))]
#[post("/api/changes/<no>/go-back", data = "<how>")]
pub async fn go_back(
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
    let edits: Vec<_> = read_edits(&row)?.into_iter().map(|edit| edit.reversed()).collect();
    if row.status == "in_waves" {
        return Err(ApiError::Conflict {
            message: format!("C{no} is a rollout that is under way"),
            hint: format!("turn it back: constans rollout turn-back C{no}"),
        });
    }
    if row.status != "handed_out" || edits.is_empty() {
        let why = if edits.is_empty() && row.status == "handed_out" {
            "edits no document"
        } else {
            "was not handed out"
        };
        return Err(ApiError::Conflict {
            message: format!("C{no} {why}: there is nothing to take back"),
            hint: format!("constans change show C{no}"),
        });
    }
    let mut connection = db.acquire().await?;
    if let Some(retired) = edits.iter().find(|edit| edit.before.is_none() && edit.key.node().is_some()) {
        return Err(ApiError::Conflict {
            message: format!(
                "C{no} cannot be taken back: the {} is retired, and its agent has ended",
                retired.title()
            ),
            hint: "let the machine join again, as a new node: constans invite".to_owned(),
        });
    }
    let documents = read_documents_of(&mut connection, &edits).await?;
    if let Some(later) = later_edits(&edits, &documents).first() {
        let last = change::last_of_key(&mut *connection, &later.key).await?;
        let by = last.map(|(later, who)| format!(" by C{later}, {who}")).unwrap_or_default();
        return Err(ApiError::Conflict {
            message: format!("C{no} cannot be taken back: {} was changed since{by}", later.title()),
            hint: "take that one back first, or set the document as it should be".to_owned(),
        });
    }
    drop(connection);
    let what = format!("take back C{no}: {}", row.what);
    let draft = Draft { goes_back: Some(row.no), ..draft_of("go_back", what, edits, &how, &caller.asker) };
    ask(db, here, &draft).await
}

/// Returns what was confirmed beforehand.
pub fn confirmed(how: &HowToChange) -> Option<Confirmed> {
    how.confirm.map(|takes_from| Confirmed { takes_from, ..Confirmed::default() })
}

/// Returns the result of the change that a request made before, if this one repeats it by its key.
///
/// # Errors
///
/// Returns why that was not handed out.
pub async fn repeated(db: &PgPool, here: &Here, asker: &Asker) -> Result<Option<Changed>, ApiError> {
    let Some(key) = &asker.request_key else { return Ok(None) };
    let Some(no) = change::by_request(db, &asker.person, key).await? else { return Ok(None) };
    Ok(Some(answer(wait(db, &here.nudge, no).await?)?.into_inner()))
}

/// Returns the change that a person asks for in this way.
pub fn draft_of<'a>(
    kind: &'a str,
    what: String,
    edits: Vec<DocumentEdit>,
    how: &'a HowToChange,
    asker: &'a Asker,
) -> Draft<'a> {
    Draft {
        kind,
        what,
        who: &asker.person,
        because: how.because.as_deref(),
        edits,
        although_unusable: how.although_unusable,
        is_preview: how.preview,
        is_request: how.request || !asker.may_hand_out,
        confirmed: confirmed(how),
        goes_back: None,
        unless_changed_after: how.unless_changed_after,
        request_key: asker.request_key.as_deref(),
        rollout: None,
        of_rollout: None,
    }
}

/// Queues a change, waits for it, and answers its result.
///
/// # Errors
///
/// Returns why it was not handed out.
pub async fn ask(db: &PgPool, here: &Here, draft: &Draft<'_>) -> Answer<Changed> {
    if let Some(because) = draft.because {
        check_reason(because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    }
    let mut transaction = db.begin().await?;
    let no = match queue(&mut transaction, draft).await {
        Ok(no) => no,
        // The same request came twice at once: the other one made the change.
        Err(ApiError::Database(error)) if is_repeated(&error) => {
            transaction.rollback().await?;
            let made = change::by_request(db, draft.who, draft.request_key.unwrap_or_default()).await?;
            let no = made.ok_or_else(|| ApiError::Database(error))?;
            return answer(wait(db, &here.nudge, no).await?);
        }
        Err(error) => return Err(error),
    };
    if draft.is_request && !draft.is_preview {
        let detail = json!({ "change": no, "because": draft.because, "edits": draft.edits });
        audit::add(&mut *transaction, draft.who, "requested a change", &draft.what, &detail).await?;
    }
    transaction.commit().await?;
    answer(wait(db, &here.nudge, no).await?)
}

fn is_repeated(error: &sqlx::Error) -> bool {
    error.as_database_error().and_then(|error| error.constraint()) == Some("change_of_request")
}

fn answer(row: ChangeRow) -> Answer<Changed> {
    let impact = read_impact(&row)?.unwrap_or_default();
    match row.status.as_str() {
        "handed_out" | "previewed" | "requested" | "in_waves" | "turned_back" => Ok(Json(Changed {
            change: Some(row.no),
            in_waves: row.status == "in_waves",
            previewed: row.status == "previewed",
            requested: row.status == "requested",
            nodes: impact.nodes,
            unusable: impact.unusable.clone(),
            impact,
            findings: Vec::new(),
        })),
        "unconfirmed" => Err(ApiError::Unconfirmed {
            change: row.no,
            takes: impact.takes,
            takes_from: impact.takes_from,
            findings: Vec::new(),
        }),
        _ => Err(ApiError::Conflict {
            message: row
                .refused
                .unwrap_or_else(|| format!("C{} was dropped: the server is recovering", row.no)),
            hint: row.hint.unwrap_or_else(|| format!("constans change show C{}", row.no)),
        }),
    }
}

/// Returns a change.
///
/// # Errors
///
/// Returns that there is none.
pub async fn by_no(db: &PgPool, no: i64) -> Result<ChangeRow, ApiError> {
    change::by_no(db, no).await?.ok_or_else(|| ApiError::Missing { what: "change", name: format!("C{no}") })
}

/// Reads the impact of a change, once it was prepared.
///
/// # Errors
///
/// Returns that it cannot be read.
pub fn read_impact(row: &ChangeRow) -> Result<Option<Impact>, ApiError> {
    row.impact.clone().map(|stored| read_stored(|| format!("impact of C{}", row.no), stored)).transpose()
}

fn summary(row: ChangeRow) -> Result<ChangeSummary, ApiError> {
    let impact = read_impact(&row)?.unwrap_or_default();
    let status: ChangeStatus = read_stored(|| format!("status of C{}", row.no), row.status.into())?;
    Ok(ChangeSummary {
        no: row.no,
        kind: row.kind,
        what: row.what,
        who: row.who,
        because: row.because,
        confirmed_by: row.confirmed_by,
        approved_by: row.approved_by,
        status,
        drafted: row.drafted_at.to_jiff(),
        ended: row.ended_at.map(|at| at.to_jiff()),
        nodes: impact.nodes,
        outstanding: if status == ChangeStatus::HandedOut { row.outstanding.unsigned_abs() } else { 0 },
        takes: impact.takes,
        refused: row.refused,
        hint: row.hint,
        goes_back: row.goes_back,
        of_rollout: row.of_rollout,
        has_rollout: row.has_rollout,
    })
}
