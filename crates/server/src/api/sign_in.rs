//! Signing in and out.

use crate::body::SmallBody;
use crate::callers::{CallerAddress, network_text};
use crate::here::Here;
use crate::problem::{Answer, ApiError};
use crate::store::person::FailuresRow;
use crate::store::{audit, person, token};
use crate::trust::session::{OurPage, ShownToken};
use crate::trust::{
    Allowed, Role, Secret, SessionOwn, digest_of, limited_permissions, password, permissions_of, session,
};
use constans_core::words::check_person;
use constans_wire::people::{
    ClientToken, Concealed, LimitedPermission, ServerAbout, Session, SignIn, Welcome, WelcomeFor,
};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::Timestamp as SqlTimestamp;
use rocket::http::CookieJar;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::sync::Arc;
use uuid::Uuid;

/// This many failures of one name from one address cost no waiting; from then on it doubles with each.
const FREE_FAILURES: i64 = 4;
/// After this many failures from one address each further try has to wait.
const MANY_FROM_ADDRESS: i64 = 30;
/// The longest wait.
const LONGEST_WAIT_SECS: u64 = 60;
/// How long the client's token holds.
const CLIENT_TOKEN_SECS: i64 = 12 * 3_600;

/// Signs a person in on the console: the answer sets the session's cookie.
#[utoipa::path(tag = "people", security(()), request_body = SignIn, responses((status = 200, body = Session)))]
#[post("/api/sign-in", data = "<by>")]
pub async fn sign_in(
    by: SmallBody<SignIn>,
    _our_page: OurPage,
    from: CallerAddress,
    cookies: &CookieJar<'_>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Session> {
    let roles = check_password(db, &by.0, from).await?;
    let mut transaction = db.begin().await?;
    let answer = begin_session(&mut transaction, &by.0.name, roles, from, cookies, here).await?;
    audit::add(
        &mut *transaction,
        &by.0.name,
        "signed in",
        &by.0.name,
        &json!({ "from": from.0.to_string(), "by": "password" }),
    )
    .await?;
    transaction.commit().await?;
    Ok(Json(answer))
}

/// Returns a token for a person to the client, valid for 12 hours.
#[utoipa::path(tag = "people", security(()), request_body = SignIn, responses((status = 200, body = ClientToken)))]
#[post("/api/sign-in/client", data = "<by>")]
pub async fn client_token(
    by: SmallBody<SignIn>,
    from: CallerAddress,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<ClientToken> {
    check_password(db, &by.0, from).await?;
    let secret = Secret::make().map_err(ApiError::Random)?;
    let mut transaction = db.begin().await?;
    let (digest, person) = (secret.digest(), &by.0.name);
    let row = token::NewRow {
        id: Uuid::now_v7(),
        person,
        name: "client",
        made_for: "client",
        digest: &digest,
        for_secs: Some(CLIENT_TOKEN_SECS),
    };
    let ends = token::add(&mut *transaction, &row).await?;
    audit::add(
        &mut *transaction,
        &by.0.name,
        "signed in",
        &by.0.name,
        &json!({ "from": from.0.to_string(), "by": "password, client" }),
    )
    .await?;
    transaction.commit().await?;
    let expires_at = ends.map_or(jiff::Timestamp::MAX, |ends| ends.to_jiff());
    Ok(Json(ClientToken {
        person: by.0.name.clone(),
        token: Concealed(secret.text().to_owned()),
        expires_at,
        server: about(here),
    }))
}

/// Returns the person of a one-time link.
#[utoipa::path(tag = "people", security(()), request_body = Concealed, responses((status = 200, body = WelcomeFor)))]
#[post("/api/welcome/for", data = "<secret>")]
pub async fn welcome_for(
    secret: SmallBody<Concealed>,
    _our_page: OurPage,
    db: &State<PgPool>,
) -> Answer<WelcomeFor> {
    let name =
        person::link(db.inner(), &digest_of(secret.0.0.as_bytes())).await?.ok_or(ApiError::LinkOver)?;
    Ok(Json(WelcomeFor { name }))
}

/// Signs a person in by a one-time link, and sets the password.
#[utoipa::path(tag = "people", security(()), request_body = Welcome, responses((status = 200, body = Session)))]
#[post("/api/welcome", data = "<by>")]
pub async fn welcome(
    by: SmallBody<Welcome>,
    _our_page: OurPage,
    from: CallerAddress,
    cookies: &CookieJar<'_>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Session> {
    let digest = digest_of(by.0.secret.0.as_bytes());
    let hash = {
        let meant = person::link(db.inner(), &digest).await?.ok_or(ApiError::LinkOver)?;
        let name = meant.or_else(|| by.0.name.clone()).unwrap_or_default();
        check_person(&name).map_err(|because| ApiError::invalid("name", because))?;
        if let Some(refusal) = password::refusal(&name, &by.0.password.0) {
            return Err(ApiError::invalid("password", refusal));
        }
        password::hash(by.0.password.0.clone())
            .await
            .ok_or_else(|| ApiError::failed("hashing the password", &"argon2 refused"))?
    };
    let mut transaction = db.begin().await?;
    // Looked up again, now locked: of two who use the link at once only one gets in.
    let meant = person::locked_link(&mut *transaction, &digest).await?.ok_or(ApiError::LinkOver)?;
    let name = match meant {
        Some(name) => name,
        None => first_administrator(&mut transaction, by.0.name.as_deref().unwrap_or_default()).await?,
    };
    person::use_link(&mut *transaction, &digest).await?;
    person::set_password(&mut transaction, &name, &hash).await?;
    let roles = person::roles(&mut *transaction, &name).await?.unwrap_or_default();
    let answer = begin_session(&mut transaction, &name, roles, from, cookies, here).await?;
    audit::add(
        &mut *transaction,
        &name,
        "signed in",
        &name,
        &json!({ "from": from.0.to_string(), "by": "one-time link" }),
    )
    .await?;
    transaction.commit().await?;
    Ok(Json(answer))
}

/// Returns the caller.
#[utoipa::path(tag = "people", security(("token" = ["session.own"]), ("session" = ["session.own"])), responses((status = 200, body = Session)))]
#[get("/api/session")]
pub async fn own_session(caller: Allowed<SessionOwn>, here: &State<Arc<Here>>) -> Answer<Session> {
    Ok(Json(described(&caller.person, caller.roles, caller.session.as_deref(), here)))
}

/// Signs out: ends the session, or the token of the client.
#[utoipa::path(tag = "people", security(("token" = ["session.own"]), ("session" = ["session.own"])), responses((status = 200, body = String)))]
#[post("/api/sign-out")]
pub async fn sign_out(
    caller: Allowed<SessionOwn>,
    shown: ShownToken,
    cookies: &CookieJar<'_>,
    db: &State<PgPool>,
) -> Answer<String> {
    let mut transaction = db.begin().await?;
    match (&caller.session, &shown.0) {
        (Some(session), _) => person::end_session(&mut *transaction, session).await?,
        (None, Some(digest)) => token::remove(&mut *transaction, digest).await?,
        (None, None) => {}
    }
    cookies.add(session::no_cookie());
    audit::add(&mut *transaction, &caller.person, "signed out", &caller.person, &json!({})).await?;
    transaction.commit().await?;
    Ok(Json(caller.person))
}

/// Returns a person's roles if the password is right; failures are counted and slowed down.
async fn check_password(db: &PgPool, by: &SignIn, from: CallerAddress) -> Result<Vec<String>, ApiError> {
    let address = network_text(from.0);
    let name: String = by.name.chars().take(64).collect();
    // Many attempts at once do not get past the count of failures before it rises.
    let _turn = password::turn().await;
    let failures = person::failures(db, &name, &address).await?;
    if let Some(wait_secs) = wait_secs(&failures, crate::clock::now()) {
        return Err(ApiError::TooOften { wait_secs });
    }
    let hash = person::password(db, &name).await?;
    let given: String =
        if by.password.0.len() > password::LONGEST { String::new() } else { by.password.0.clone() };
    if password::is_right(given, hash).await {
        return Ok(person::roles(db, &name).await?.unwrap_or_default());
    }
    let mut connection = db.acquire().await?;
    person::note_failure(&mut connection, &name, &address).await?;
    audit::add(&mut *connection, &address, "failed to sign in", "server", &json!({ "from": address }))
        .await?;
    Err(ApiError::WrongPassword)
}

/// Returns for how many seconds nobody is let try from where failures came from. Nobody is locked out: what others do elsewhere
/// never keeps a person from signing in.
fn wait_secs(failures: &FailuresRow, now: Timestamp) -> Option<u64> {
    let of_both = u32::try_from(failures.of_both.saturating_sub(FREE_FAILURES))
        .ok()
        .map(|more| 1u64 << more.min(6))
        .unwrap_or(0);
    let of_address = if failures.of_address >= MANY_FROM_ADDRESS { LONGEST_WAIT_SECS } else { 0 };
    let left = |last: Option<SqlTimestamp>, wait: u64| {
        let over =
            last?.to_jiff() + SignedDuration::from_secs(i64::try_from(wait.min(LONGEST_WAIT_SECS)).ok()?);
        u64::try_from(over.duration_since(now).as_secs()).ok().filter(|left| *left > 0)
    };
    left(failures.last_of_both, if failures.of_both >= FREE_FAILURES { of_both } else { 0 })
        .max(left(failures.last_of_address, of_address))
}

async fn first_administrator(db: &mut PgConnection, name: &str) -> Result<String, ApiError> {
    check_person(name).map_err(|because| ApiError::invalid("name", because))?;
    if person::has_administrator(&mut *db).await? {
        return Err(ApiError::LinkOver);
    }
    person::grant(db, name, Role::Administrator.word()).await?;
    Ok(name.to_owned())
}

async fn begin_session(
    db: &mut PgConnection,
    name: &str,
    roles: Vec<String>,
    from: CallerAddress,
    cookies: &CookieJar<'_>,
    here: &Here,
) -> Result<Session, ApiError> {
    let secret = Secret::make().map_err(ApiError::Random)?;
    person::begin_session(db, name, &secret.digest(), &from.0.to_string(), session::LASTS_SECS).await?;
    cookies.add(session::cookie(&secret));
    Ok(described(name, roles, Some(&secret.digest()), here))
}

fn described(person: &str, roles: Vec<String>, session: Option<&[u8]>, here: &Here) -> Session {
    let permissions = permissions_of(&roles).into_iter().map(str::to_owned).collect();
    let limited = limited_permissions(&roles)
        .into_iter()
        .map(|(permission, groups)| LimitedPermission { permission: permission.to_owned(), groups })
        .collect();
    Session {
        person: person.to_owned(),
        permissions,
        limited,
        roles,
        token: session.map(session::token),
        server: about(here),
    }
}

fn about(here: &Here) -> ServerAbout {
    ServerAbout {
        title: here.title.clone(),
        colour: here.colour.clone(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        fingerprint: here.authority.fingerprint().to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff_sqlx::ToSqlx as _;

    #[test]
    fn waiting_grows_with_failures_from_one_network_and_has_an_end() {
        let now = Timestamp::UNIX_EPOCH + SignedDuration::from_hours(1);
        let failures = |of_both, of_address, secs_ago| {
            let last = Some((now - SignedDuration::from_secs(secs_ago)).to_sqlx());
            wait_secs(&FailuresRow { of_both, last_of_both: last, of_address, last_of_address: last }, now)
        };
        let waits: Vec<Option<u64>> = (0..12).map(|of_both| failures(of_both, of_both, 0)).collect();
        assert_eq!(waits, [0, 0, 0, 0, 1, 2, 4, 8, 16, 32, 60, 60].map(|wait| (wait > 0).then_some(wait)));
        assert_eq!(
            (failures(20, 20, 59), failures(20, 20, 61), failures(0, 40, 10)),
            (Some(1), None, Some(50))
        );
        let network = |address: &str| network_text(address.parse().unwrap());
        assert_eq!(network("2001:db8:1:2:3:4:5:6"), network("2001:db8:1:2::1"));
        assert_ne!(network("2001:db8:1:3::1"), network("2001:db8:1:2::1"));
        assert_eq!(network("::ffff:192.0.2.7"), "192.0.2.7");
    }
}
