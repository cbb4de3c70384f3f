//! Joining, as an agent does it: the only requests that need no certificate.

use crate::launch::Here;
use crate::problem::{Answer, ApiError};
use crate::store::invitation::{self, Standing};
use crate::store::joining::{self, RequestRow};
use crate::store::{audit, node};
use crate::trust::{ReadRequest, digest_of};
use constans_wire::check_in::Greeting;
use constans_wire::join::{JoinAnswer, JoinRequest};
use rocket::State;
use rocket::serde::json::Json;
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::net::SocketAddr;
use std::sync::Arc;
use uuid::Uuid;

/// `GET /greeting`: the server's version and clock, for whoever wants to know whether it can be reached.
#[rocket::get("/greeting")]
pub fn greeting() -> Json<Greeting> {
    Json(Greeting { server: env!("CARGO_PKG_VERSION").to_owned(), now: jiff::Timestamp::now() })
}

/// `POST /join`: asks to be a node of this fleet, or what became of it.
#[rocket::post("/join", data = "<asked>")]
pub async fn join(asked: Json<JoinRequest>, from: SocketAddr, db: &State<PgPool>, here: &State<Arc<Here>>) -> Answer<JoinAnswer> {
    let read = ReadRequest::read(&asked.request).map_err(|error| ApiError::Wrong(format!("the certificate request cannot be read: {error}")))?;
    check_name(&asked.name)?;
    let mut transaction = db.begin().await?;
    let standing = invitation::standing(&mut *transaction, asked.invitation, &digest_of(asked.secret.as_bytes())).await?;
    let known = joining::by_key(&mut *transaction, &read.spki).await?;
    let answer = match known {
        // Who holds the key of a known request may ask what became of it, also when the invitation is over.
        Some(known) if standing != Standing::Unknown && known.invitation == asked.invitation => state_of(&mut transaction, &known, here).await?,
        Some(_) => return Err(ApiError::Unknown("invitation")),
        None => ask(&mut transaction, &asked, &read.spki, standing, from).await?,
    };
    transaction.commit().await?;
    Ok(Json(answer))
}

async fn ask(db: &mut PgConnection, asked: &JoinRequest, spki: &[u8], standing: Standing, from: SocketAddr) -> Result<JoinAnswer, ApiError> {
    let over = |message: &str| ApiError::Conflict { message: message.to_owned(), hint: "ask an operator for a new one: constans invite".to_owned() };
    match standing {
        Standing::Open => {}
        Standing::Unknown => return Err(ApiError::Unknown("invitation")),
        Standing::Expired => return Err(over("the invitation's time is over")),
        Standing::UsedUp => return Err(over("the invitation was used as often as it may be")),
    }
    let id = Uuid::now_v7();
    let about = serde_json::to_value(&asked.about).map_err(|error| ApiError::Wrong(error.to_string()))?;
    let address = from.ip().to_string();
    let row =
        joining::NewRow { id, invitation: asked.invitation, spki, name: &asked.name, request: &asked.request, address: &address, about: &about };
    joining::add(&mut *db, &row).await?;
    invitation::use_once(&mut *db, asked.invitation).await?;
    audit::add(db, &address, "asked to join", &asked.name, &json!({ "request": id })).await?;
    Ok(JoinAnswer::Waiting { request: id })
}

async fn state_of(db: &mut PgConnection, known: &RequestRow, here: &Here) -> Result<JoinAnswer, ApiError> {
    match known.decision.as_deref() {
        Some("approved") => {
            let missing = || ApiError::Missing { what: "certificate for the request", name: known.id.to_string() };
            let (node, name, certificate) = node::certificate(db, &known.spki_digest).await?.ok_or_else(missing)?;
            Ok(JoinAnswer::Approved { node, name, certificate, ca: here.authority.certificate().to_owned() })
        }
        Some(_) => Ok(JoinAnswer::Denied { because: known.because.clone().unwrap_or_default() }),
        None => Ok(JoinAnswer::Waiting { request: known.id }),
    }
}

/// Names are hosts' names: what a node calls itself must not deceive those who read it.
fn check_name(name: &str) -> Result<(), ApiError> {
    let fine = (1..=253).contains(&name.len())
        && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_'))
        && !name.starts_with(['-', '.']);
    if fine {
        Ok(())
    } else {
        Err(ApiError::Wrong("a node's name has letters, digits, `-`, `.`, `_`, at most 253, and begins with a letter or digit".to_owned()))
    }
}
