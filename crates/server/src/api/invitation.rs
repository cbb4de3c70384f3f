//! Invitations.

use super::agent_package::line_of;
use crate::body::JsonBody;
use crate::here::Here;
use crate::list::{ListQuery, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::invitation::InvitationRow;
use crate::store::{audit, invitation};
use crate::trust::{Allowed, InvitationMake, Secret};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use constans_core::filter::INVITATIONS;
use constans_core::words::{MAX_LABELS, check_label};
use constans_wire::join::{INVITATION_FORM, Invitation, MadeInvitation, NewInvitation, OpenInvitation};
use jiff::SignedDuration;
use rocket::serde::json::Json;
use rocket::{State, delete, get, post};
use serde_json::json;
use sqlx::PgPool;
use std::sync::Arc;
use uuid::Uuid;

const LONGEST_SECS: u64 = 30 * 86_400;

/// Creates an invitation; its text is returned only once.
#[utoipa::path(tag = "joining", security(("token" = ["join.invite"]), ("session" = ["join.invite"])), request_body = NewInvitation, responses((status = 200, body = MadeInvitation)))]
#[post("/api/invitations", data = "<wanted>")]
pub async fn make(
    wanted: JsonBody<NewInvitation>,
    caller: Allowed<InvitationMake>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<MadeInvitation> {
    if !(1..=LONGEST_SECS).contains(&wanted.for_secs) {
        return Err(ApiError::invalid("for_secs", "an invitation holds for 1 s to 30 days"));
    }
    if !(1..=10_000).contains(&wanted.uses) {
        return Err(ApiError::invalid("uses", "an invitation holds for 1 to 10,000 uses"));
    }
    if wanted.labels.len() > MAX_LABELS {
        return Err(ApiError::invalid("labels", format!("an invitation has at most {MAX_LABELS} labels")));
    }
    wanted
        .labels
        .iter()
        .try_for_each(|(key, value)| check_label(key, value))
        .map_err(|because| ApiError::invalid("labels", because))?;
    let id = Uuid::now_v7();
    let secret = Secret::make().map_err(ApiError::Random)?;
    let expires_at =
        crate::clock::now() + SignedDuration::from_secs(i64::try_from(wanted.for_secs).unwrap_or(0));
    let labels = json!(wanted.labels);
    let uses = i32::try_from(wanted.uses).unwrap_or(1);
    let row = invitation::NewRow {
        id,
        secret_digest: &secret.digest(),
        labels: &labels,
        uses,
        made_by: &caller.person,
        expires_at,
    };
    let mut transaction = db.begin().await?;
    invitation::add(&mut *transaction, &row).await?;
    audit::add(
        &mut *transaction,
        &caller.person,
        "invited",
        &id.to_string(),
        &json!({ "uses": uses, "labels": labels, "until": expires_at }),
    )
    .await?;
    let install = line_of(&mut transaction, here, None).await?;
    transaction.commit().await?;
    let invitation = Invitation {
        form: INVITATION_FORM,
        urls: here.agent_urls.clone(),
        id,
        secret: secret.text().to_owned(),
        ca: here.authority.fingerprint().to_owned(),
    };
    let text = URL_SAFE_NO_PAD
        .encode(serde_json::to_vec(&invitation).map_err(|error| ApiError::failed("writing JSON", &error))?);
    Ok(Json(MadeInvitation { id, text, expires_at, install }))
}

/// The open invitations, the newest first.
#[utoipa::path(tag = "joining", security(("token" = ["join.invite"]), ("session" = ["join.invite"])), params(ListQuery), responses((status = 200, body = Vec<OpenInvitation>)))]
#[get("/api/invitations?<list..>")]
pub async fn list(
    list: ListQuery,
    _caller: Allowed<InvitationMake>,
    db: &State<PgPool>,
) -> PageAnswer<OpenInvitation> {
    let read = |range| async move {
        placed(invitation::open(db.inner(), &range).await?, InvitationRow::cursor, shown)
    };
    list.page(&INVITATIONS, read).await
}

fn shown(row: InvitationRow) -> Result<OpenInvitation, ApiError> {
    Ok(OpenInvitation {
        labels: read_stored(|| format!("labels of the invitation {}", row.id), row.labels)?,
        id: row.id,
        uses: row.uses.unsigned_abs(),
        uses_left: row.uses_left.unsigned_abs(),
        made_by: row.made_by,
        made_at: row.made_at.to_jiff(),
        expires_at: row.expires_at.to_jiff(),
    })
}

/// Withdraws an invitation. Joining requests made with it stay.
#[utoipa::path(tag = "joining", security(("token" = ["join.invite"]), ("session" = ["join.invite"])), responses((status = 200, body = bool)))]
#[delete("/api/invitations/<id>")]
pub async fn withdraw(id: &str, caller: Allowed<InvitationMake>, db: &State<PgPool>) -> Answer<bool> {
    let missing = || ApiError::Missing { what: "open invitation", name: id.to_owned() };
    let id = Uuid::parse_str(id).map_err(|_| missing())?;
    let mut transaction = db.begin().await?;
    if !invitation::withdraw(&mut *transaction, id, &caller.person).await? {
        return Err(missing());
    }
    audit::add(&mut *transaction, &caller.person, "withdrew an invitation", &id.to_string(), &json!({}))
        .await?;
    transaction.commit().await?;
    Ok(Json(true))
}
