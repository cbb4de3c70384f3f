//! Joining, as an agent does it: the only requests that need no certificate.

use crate::body::SmallBody;
use crate::callers::CallerAddress;
use crate::here::Here;
use crate::joining::judge::{Judged, judge};
use crate::problem::{Answer, ApiError};
use crate::store::invitation::{self, InvitationStatus};
use crate::store::joining::{self, RequestRow};
use crate::store::node::KeyRow;
use crate::store::{audit, node};
use crate::trust::{NodeCaller, ReadRequest, digest_of, renew_after};
use constans_core::words::check_node_name;
use constans_wire::check_in::Greeting;
use constans_wire::join::{AskAgain, JoinAnswer, JoinRequest, Renew, Renewed};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::sync::Arc;
use uuid::Uuid;

/// The server's version and clock, for anyone who wants to know whether it can be reached.
#[utoipa::path(tag = "agents", security(()), responses((status = 200, body = Greeting)))]
#[get("/greeting")]
pub fn greeting() -> Json<Greeting> {
    Json(Greeting { server: env!("CARGO_PKG_VERSION").to_owned(), now: crate::clock::now() })
}

/// Asks to be a node of this fleet, or for the result.
#[utoipa::path(tag = "agents", security(()), request_body = JoinRequest, responses((status = 200, body = JoinAnswer)))]
#[post("/join", data = "<sent>")]
pub async fn join(
    sent: SmallBody<JoinRequest>,
    from: CallerAddress,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<JoinAnswer> {
    let sent = sent.0;
    let read = read_certificate_request(&sent.request)?;
    check_node_name(&sent.name).map_err(|because| ApiError::invalid("name", because))?;
    let mut transaction = db.begin().await?;
    let status =
        invitation::status(&mut *transaction, sent.invitation, &digest_of(sent.secret.as_bytes())).await?;
    let last = joining::by_key(&mut *transaction, &read.spki).await?;
    let known = node::of_key(&mut *transaction, &read.spki).await?;
    if let Some(retired) = known.as_ref().filter(|node| node.is_retired) {
        // Its key is that node's: it joins with another one, or the node is brought back.
        return Err(ApiError::Retired(retired.name.clone()));
    }
    let revoked = known.filter(|node| node.is_revoked && !node.is_key_revoked);
    // Who holds the key of a known request may ask its result, also when the invitation is over.
    let is_asked_by =
        |last: &RequestRow| status != InvitationStatus::Unknown && last.invitation == Some(sent.invitation);
    let mut is_new = false;
    let answer = match (last, revoked) {
        (Some(last), Some(_))
            if is_asked_by(&last)
                && last.known_node.is_some()
                && last.decision.as_deref() != Some("approved") =>
        {
            state_of(&mut transaction, &last).await?
        }
        (_, Some(node)) => {
            is_new = true;
            ask(&mut transaction, &sent, &read.spki, status, from, Some(&node)).await?
        }
        (Some(last), None) if is_asked_by(&last) => state_of(&mut transaction, &last).await?,
        (Some(_), None) => return Err(ApiError::Unknown("invitation")),
        (None, None) => {
            is_new = true;
            ask(&mut transaction, &sent, &read.spki, status, from, None).await?
        }
    };
    transaction.commit().await?;
    Ok(Json(if is_new { judged(db, here, &read.spki, answer).await? } else { answer }))
}

/// Holds a new request against the admission rules, and returns what became of it.
async fn judged(db: &PgPool, here: &Here, spki: &[u8], answer: JoinAnswer) -> Result<JoinAnswer, ApiError> {
    here.waker.wake("joining");
    let JoinAnswer::Waiting { request } = &answer else { return Ok(answer) };
    match judge(db, here, *request).await {
        Ok(Judged::LetIn) => {}
        Ok(Judged::Waits | Judged::Later) => return Ok(answer),
        // The request is there: it is judged later, or a person decides.
        Err(error) => {
            tracing::warn!(%error, %request, "a joining request is not held against the admission rules yet");
            return Ok(answer);
        }
    }
    let mut transaction = db.begin().await?;
    match joining::by_key(&mut *transaction, spki).await? {
        Some(last) => state_of(&mut transaction, &last).await,
        None => Ok(answer),
    }
}

fn read_certificate_request(pem: &str) -> Result<ReadRequest, ApiError> {
    ReadRequest::read(pem).map_err(|error| {
        ApiError::invalid("request", format!("the certificate request cannot be read: {error}"))
    })
}

/// A known node whose certificate ended asks for another, or for the result. Its request is
/// signed by the key that it has.
#[utoipa::path(tag = "agents", security(()), request_body = AskAgain, responses((status = 200, body = JoinAnswer)))]
#[post("/ask-again", data = "<sent>")]
pub async fn ask_again(
    sent: SmallBody<AskAgain>,
    from: CallerAddress,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<JoinAnswer> {
    let sent = sent.0;
    let spki = read_certificate_request(&sent.request)?.spki;
    let mut transaction = db.begin().await?;
    let known = node::of_key(&mut *transaction, &spki).await?.ok_or(ApiError::Unknown("key"))?;
    if known.is_retired {
        return Err(ApiError::Retired(known.name));
    }
    if known.is_revoked || known.is_key_revoked {
        return Err(ApiError::Revoked(known.name));
    }
    let last = joining::by_key(&mut *transaction, &spki).await?;
    let last = last.filter(|last| !known.has_ended || last.decision.as_deref() != Some("approved"));
    let is_new = last.is_none();
    let answer = match last {
        Some(last) => state_of(&mut transaction, &last).await?,
        None => {
            let id = Uuid::now_v7();
            let about = serde_json::to_value(sent.about.only_stable())
                .map_err(|error| ApiError::failed("writing JSON", &error))?;
            let (name, request, address) = (&known.name, &sent.request, &from.0.to_string());
            let row = joining::NewRow {
                id,
                invitation: None,
                known_node: Some(known.node),
                spki: &spki,
                name,
                request,
                address,
                about: &about,
            };
            joining::add(&mut *transaction, &row).await?;
            audit::add(&mut *transaction, address, "asked again", name, &json!({ "request": id })).await?;
            JoinAnswer::Waiting { request: id }
        }
    };
    transaction.commit().await?;
    Ok(Json(if is_new { judged(db, here, &spki, answer).await? } else { answer }))
}

/// A newer certificate for the key that the node has.
#[utoipa::path(tag = "agents", security(("node" = [])), request_body = Renew, responses((status = 200, body = Renewed)))]
#[post("/renew", data = "<sent>")]
pub async fn renew(
    sent: Json<Renew>,
    node: NodeCaller,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Renewed> {
    let read = read_certificate_request(&sent.request)?;
    let spki = read.spki.clone();
    let issued = here.authority.issue_node(node.id, read)?;
    let mut transaction = db.begin().await?;
    if !node::renew(&mut *transaction, node.id, &spki, &issued.certificate, issued.ends_at).await? {
        return Err(ApiError::invalid("request", "the request is for another key than the node has"));
    }
    audit::add(
        &mut *transaction,
        &node.name,
        "renewed its certificate",
        &node.name,
        &json!({ "until": issued.ends_at }),
    )
    .await?;
    transaction.commit().await?;
    Ok(Json(Renewed {
        certificate: issued.certificate,
        renew_after: renew_after(issued.ends_at),
        ends_at: issued.ends_at,
    }))
}

/// Adds a request: of a machine that nobody knows, or of a node that was revoked.
async fn ask(
    db: &mut PgConnection,
    sent: &JoinRequest,
    spki: &[u8],
    status: InvitationStatus,
    from: CallerAddress,
    revoked: Option<&KeyRow>,
) -> Result<JoinAnswer, ApiError> {
    let over = |message: &str| ApiError::Conflict {
        message: message.to_owned(),
        hint: "ask an operator for a new one: constans invite".to_owned(),
    };
    match status {
        InvitationStatus::Open => {}
        InvitationStatus::Unknown => return Err(ApiError::Unknown("invitation")),
        InvitationStatus::Expired => return Err(over("the invitation expired")),
        InvitationStatus::Withdrawn => return Err(over("the invitation was withdrawn")),
        InvitationStatus::UsedUp => return Err(over("the invitation has no uses left")),
    }
    let id = Uuid::now_v7();
    let about = serde_json::to_value(sent.about.only_stable())
        .map_err(|error| ApiError::failed("writing JSON", &error))?;
    let address = from.0.to_string();
    let row = joining::NewRow {
        id,
        invitation: Some(sent.invitation),
        known_node: revoked.map(|node| node.node),
        spki,
        name: revoked.map_or(&sent.name, |node| &node.name),
        request: &sent.request,
        address: &address,
        about: &about,
    };
    joining::add(&mut *db, &row).await?;
    invitation::use_once(&mut *db, sent.invitation).await?;
    audit::add(db, &address, "asked to join", row.name, &json!({ "request": id })).await?;
    Ok(JoinAnswer::Waiting { request: id })
}

async fn state_of(db: &mut PgConnection, known: &RequestRow) -> Result<JoinAnswer, ApiError> {
    match known.decision.as_deref() {
        Some("approved") => {
            let missing =
                || ApiError::Missing { what: "certificate for the request", name: known.id.to_string() };
            let (node, name, certificate, ends_at) =
                node::certificate(db, &known.spki_digest).await?.ok_or_else(missing)?;
            let ends_at = ends_at.to_jiff();
            Ok(JoinAnswer::Approved { node, name, certificate, renew_after: renew_after(ends_at), ends_at })
        }
        Some(_) => Ok(JoinAnswer::Denied { because: known.because.clone().unwrap_or_default() }),
        None => Ok(JoinAnswer::Waiting { request: known.id }),
    }
}
