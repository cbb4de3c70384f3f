//! Joining requests: seen, approved, denied.

use super::change::ask;
use crate::body::JsonBody;
use crate::change::documents::read_documents;
use crate::change::draft::Draft;
use crate::change::resolver::Resolver;
use crate::here::Here;
use crate::joining::admit::{Admission, Becomes, admit, becomes};
use crate::joining::place::naming;
use crate::list::{ListQuery, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::joining::{self, NameUserRow, RequestRow};
use crate::store::{audit, fleet};
use crate::trust::{Allowed, JoinDecide, NodeRead};
use constans_core::change::{DocumentEdit, edited};
use constans_core::digest::hex;
use constans_core::filter::JOINING_REQUESTS;
use constans_core::joining::WaitsBecause;
use constans_core::words::{MAX_LABELS, check_label, check_reason};
use constans_wire::join::{
    ApproveRequest, ApproveRequests, Approved, DenyRequests, JoinDecision, JoiningRequest, MAX_DECIDED,
    NameUser, RuleWaits,
};
use rocket::form::FromFormField;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::{Value, json};
use sqlx::{PgConnection, PgPool};
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use uuid::Uuid;

/// Which requests are listed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromFormField)]
pub enum Listed {
    /// Those that nobody decided yet, the oldest first.
    Waiting,
    /// Those that were approved, the newest decision first.
    Approved,
    /// Those that were denied, the newest decision first.
    Denied,
}

/// The requests that wait, the oldest first; or those that were decided, the newest decision first.
#[utoipa::path(tag = "joining", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("only" = Option<String>, Query, description = "`waiting`, `approved` or `denied`; waiting ones if left out"),
    ListQuery,
), responses((status = 200, body = Vec<JoiningRequest>)))]
#[get("/api/joining-requests?<only>&<list..>")]
pub async fn list(
    only: Option<Listed>,
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<JoiningRequest> {
    let db = db.inner();
    let only = only.unwrap_or(Listed::Waiting);
    let read = |range| async move {
        let rows = match only {
            Listed::Waiting => joining::waiting(db, &range).await?,
            Listed::Approved => joining::decided(db, "approved", &range).await?,
            Listed::Denied => joining::decided(db, "denied", &range).await?,
        };
        let names: Vec<String> = rows.iter().map(|row| row.name.clone()).collect();
        let users: HashMap<String, NameUserRow> = joining::name_users(db, &names)
            .await?
            .into_iter()
            .map(|user| (user.name.clone(), user))
            .collect();
        placed(rows, RequestRow::cursor, |row| shown(row, &users))
    };
    list.page(&JOINING_REQUESTS, read).await
}

fn shown(row: RequestRow, users: &HashMap<String, NameUserRow>) -> Result<JoiningRequest, ApiError> {
    let labels =
        row.labels.map(|labels| read_stored(|| format!("labels of the request of {}", row.name), labels));
    let user = users.get(&row.name).filter(|_| row.known_node.is_none() && row.decision.is_none());
    let rule_waits = row.waits_for_rule.zip(row.waits_because).map(|(rule, because)| {
        let because: WaitsBecause = read_stored(|| format!("request of {}", row.name), Value::from(because))?;
        Ok::<_, ApiError>(RuleWaits { rule, because })
    });
    let decision = row.decision.zip(row.decided_by).zip(row.decided_at).map(|((decision, who), at)| {
        let (rule, because, node) = (row.rule, row.because, row.node_name);
        JoinDecision { is_approved: decision == "approved", who, at: at.to_jiff(), rule, because, node }
    });
    Ok(JoiningRequest {
        id: row.id,
        fingerprint: hex(&row.spki_digest),
        address: row.address,
        about: read_stored(|| format!("report of {} about itself", row.name), row.about)?,
        invitation: row.invitation,
        labels: labels.transpose()?.unwrap_or_default(),
        invited_by: row.made_by,
        requested_at: row.requested_at.to_jiff(),
        name_used_by: user.map(name_user),
        known_as: row.known_node.map(|_| row.name.clone()),
        revoked_since: row.revoked_at.map(|at| at.to_jiff()),
        rule_waits: rule_waits.transpose()?,
        decision,
        name: row.name,
    })
}

fn name_user(row: &NameUserRow) -> NameUser {
    NameUser {
        joined_at: row.joined_at.to_jiff(),
        fingerprint: row.spki_digest.as_deref().map(hex),
        last_contact: row.last_contact.map(|at| at.to_jiff()),
        revoked_since: row.revoked_at.map(|at| at.to_jiff()),
    }
}

/// Requests become nodes, placed together, or known nodes again: all of them, or none if one cannot. Groups are made to name them first,
/// so that they are placed from their first moment on.
#[utoipa::path(tag = "joining", security(("token" = ["join.approve"]), ("session" = ["join.approve"])), request_body = ApproveRequests, responses((status = 200, body = Approved)))]
#[post("/api/joining-requests/approve", data = "<wanted>")]
pub async fn approve(
    wanted: JsonBody<ApproveRequests>,
    caller: Allowed<JoinDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Approved> {
    check(&wanted.0)?;
    let (wanted, by) = (&wanted.0, caller.person.as_str());
    super::node_own::check_placement(&mut *db.acquire().await?, here, &wanted.placement).await?;
    let mut change = None;
    if !wanted.preview && !wanted.placement.groups.is_empty() {
        let mut transaction = db.begin().await?;
        let planned = plan(&mut transaction, &wanted.requests).await?;
        let edits =
            naming(&read_documents(&mut transaction).await?, &wanted.placement.groups, &new_names(&planned))?;
        drop(transaction);
        if !edits.is_empty() {
            change = hand_out(edits, by, db, here).await?;
        }
    }
    let mut transaction = db.begin().await?;
    fleet::share(&mut *transaction).await?;
    let planned = plan(&mut transaction, &wanted.requests).await?;
    let mut documents = read_documents(&mut transaction).await?;
    if wanted.preview {
        let edits = naming(&documents, &wanted.placement.groups, &new_names(&planned))?;
        documents = edited(documents, &edits);
    }
    let mut resolver = Resolver::new(&mut transaction, here, documents, None).await?;
    let admission = Admission { by, rule: None, placement: &wanted.placement, is_preview: wanted.preview };
    let mut nodes = Vec::with_capacity(planned.len());
    for (request, becomes) in &planned {
        nodes.push(admit(&mut transaction, here, &mut resolver, request, becomes, &admission).await?);
    }
    if !wanted.preview {
        transaction.commit().await?;
        here.waker.wake("joining");
    }
    Ok(Json(Approved { nodes, change }))
}

/// Returns what each request becomes.
///
/// # Errors
///
/// Returns everything for which requests cannot be approved.
async fn plan(
    db: &mut PgConnection,
    requests: &[ApproveRequest],
) -> Result<Vec<(RequestRow, Becomes)>, ApiError> {
    let mut names = BTreeSet::new();
    let (mut planned, mut problems) = (Vec::new(), Vec::new());
    for how in requests {
        let Some(request) = joining::by_id(&mut *db, how.id).await? else {
            problems.push((format!("there is no joining request {}", how.id), String::new()));
            continue;
        };
        match becomes(&mut *db, &request, how, &mut names).await? {
            Ok(becomes) => planned.push((request, becomes)),
            Err(problem) => problems.push(problem),
        }
    }
    let Some((_, hint)) = problems.first() else { return Ok(planned) };
    let hint = if requests.len() == 1 {
        hint.clone()
    } else {
        format!("none was approved; leave it out, or: {hint}")
    };
    let all: Vec<&str> = problems.iter().take(MAX_PROBLEMS).map(|(message, _)| message.as_str()).collect();
    let more = problems.len().saturating_sub(MAX_PROBLEMS);
    let more = if more > 0 { format!("; and {more} more") } else { String::new() };
    Err(ApiError::Conflict { message: all.join("; ") + &more, hint })
}

/// This many reasons are told at once.
const MAX_PROBLEMS: usize = 20;

fn new_names(planned: &[(RequestRow, Becomes)]) -> BTreeSet<String> {
    let new = planned.iter().filter_map(|(_, becomes)| match becomes {
        Becomes::New(name) => Some(name.clone()),
        Becomes::Moved(..) | Becomes::Again(..) => None,
    });
    new.collect()
}

/// Has groups name the nodes, as a change. Returns its number.
async fn hand_out(
    edits: Vec<DocumentEdit>,
    by: &str,
    db: &PgPool,
    here: &Here,
) -> Result<Option<i64>, ApiError> {
    let titles: Vec<String> = edits.iter().map(DocumentEdit::title).collect();
    let draft = Draft {
        kind: "group",
        what: format!("nodes that join are named by {}", titles.join(", ")),
        who: by,
        because: None,
        edits,
        although_unusable: false,
        is_preview: false,
        is_request: false,
        confirmed: None,
        goes_back: None,
        unless_changed_after: None,
        request_key: None,
        rollout: None,
        of_rollout: None,
    };
    Ok(ask(db, here, &draft).await?.into_inner().change)
}

fn check(wanted: &ApproveRequests) -> Result<(), ApiError> {
    check_number(wanted.requests.len())?;
    let ids: BTreeSet<Uuid> = wanted.requests.iter().map(|request| request.id).collect();
    if ids.len() < wanted.requests.len() {
        return Err(ApiError::invalid("requests", "a request is there twice"));
    }
    if wanted.placement.labels.len() > MAX_LABELS {
        return Err(ApiError::invalid("labels", format!("a node is given at most {MAX_LABELS} labels here")));
    }
    let labels = &wanted.placement.labels;
    labels
        .iter()
        .try_for_each(|(key, value)| check_label(key, value))
        .map_err(|because| ApiError::invalid("labels", because))
}

fn check_number(requests: usize) -> Result<(), ApiError> {
    if (1..=MAX_DECIDED).contains(&requests) {
        Ok(())
    } else {
        Err(ApiError::invalid("requests", format!("from 1 to {MAX_DECIDED} requests are decided at once")))
    }
}

/// Requests are refused, all or none. Returns the names by which they asked.
#[utoipa::path(tag = "joining", security(("token" = ["join.approve"]), ("session" = ["join.approve"])), request_body = DenyRequests, responses((status = 200, body = Vec<String>)))]
#[post("/api/joining-requests/deny", data = "<wanted>")]
pub async fn deny(
    wanted: JsonBody<DenyRequests>,
    caller: Allowed<JoinDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Vec<String>> {
    check_number(wanted.requests.len())?;
    check_reason(&wanted.because).map_err(|because| ApiError::invalid("because", because))?;
    let mut transaction = db.begin().await?;
    let mut names = Vec::new();
    for id in &wanted.requests {
        let missing = || ApiError::Missing { what: "joining request", name: id.to_string() };
        let request = joining::by_id(&mut *transaction, *id).await?.ok_or_else(missing)?;
        if let Some(decision) = &request.decision {
            return Err(ApiError::Conflict {
                message: format!("the request of {} was {decision} already", request.name),
                hint: "constans join list shows the waiting requests".to_owned(),
            });
        }
        joining::deny(&mut *transaction, *id, &wanted.because, &caller.person).await?;
        let detail = json!({ "request": id, "because": wanted.because });
        audit::add(&mut *transaction, &caller.person, "denied", &request.name, &detail).await?;
        names.push(request.name);
    }
    transaction.commit().await?;
    here.waker.wake("joining");
    Ok(Json(names))
}
