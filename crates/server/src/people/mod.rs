//! Persons, their roles and tokens: changed by an administrator, at the interface or on the server's own command line.

pub mod command_line;

use crate::problem::ApiError;
use crate::store::person::{self, EndedRow};
use crate::store::token::{self, NewRow};
use crate::store::{audit, group};
use crate::trust::{HeldRole, Role, Secret};
use constans_core::words::{check_name, check_person};
use constans_wire::people::{Concealed, Granted, MadeToken};
use serde_json::json;
use sqlx::PgConnection;
use uuid::Uuid;

/// The longest that a token holds: ten years.
pub const LONGEST_TOKEN_SECS: u64 = 10 * 365 * 86_400;

/// Gives a person a role; a new name is a new person.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn grant(
    db: &mut PgConnection,
    by: &str,
    name: &str,
    role: &HeldRole,
) -> Result<Granted, ApiError> {
    check_person(name).map_err(|because| ApiError::invalid("name", because))?;
    if let Some(missing) = &role.group
        && !group::all(&mut *db).await?.iter().any(|body| body["name"] == **missing)
    {
        return Err(ApiError::Missing { what: "group", name: missing.clone() });
    }
    let word = role.word();
    let is_known = person::roles(&mut *db, name).await?.is_some();
    if !person::grant(&mut *db, name, &word).await? {
        return Ok(Granted::NothingNew);
    }
    audit::add(db, by, "granted a role", name, &json!({ "role": word, "new_person": !is_known })).await?;
    Ok(if is_known { Granted::NewRole } else { Granted::NewPerson })
}

/// Takes a role from a person.
///
/// # Errors
///
/// Returns that there is no such person, that they do not have it, or that nobody would be administrator.
pub async fn take(db: &mut PgConnection, by: &str, name: &str, role: &HeldRole) -> Result<(), ApiError> {
    known(&mut *db, name).await?;
    let word = role.word();
    if role.role == Role::Administrator {
        not_the_last_administrator(&mut *db, name).await?;
    }
    if !person::take(&mut *db, name, &word).await? {
        return Err(ApiError::Missing { what: "role of this person", name: word });
    }
    Ok(audit::add(db, by, "took a role", name, &json!({ "role": word })).await?)
}

/// Removes a person: sessions, tokens, one-time links and open invitations end with it. Returns how many.
///
/// # Errors
///
/// Returns that there is no such person, or that nobody would be administrator.
pub async fn remove(db: &mut PgConnection, by: &str, name: &str) -> Result<EndedRow, ApiError> {
    let roles = known(&mut *db, name).await?;
    not_the_last_administrator(&mut *db, name).await?;
    let ended = person::remove(&mut *db, name, by).await?;
    let detail = json!({ "roles": roles, "sessions": ended.sessions, "tokens": ended.tokens, "invitations": ended.invitations });
    audit::add(db, by, "removed a person", name, &detail).await?;
    Ok(ended)
}

/// Makes a token for a program of a person.
///
/// # Errors
///
/// Returns that there is no such person, or what is wrong with the name or the time.
pub async fn make_token(
    db: &mut PgConnection,
    by: &str,
    person: &str,
    name: &str,
    for_secs: Option<u64>,
) -> Result<MadeToken, ApiError> {
    known(&mut *db, person).await?;
    check_name(name).map_err(|because| ApiError::invalid("name", because))?;
    if for_secs.is_some_and(|secs| secs == 0 || secs > LONGEST_TOKEN_SECS) {
        return Err(ApiError::invalid("for_secs", "a token holds for 1 s to 10 years, or without end"));
    }
    if token::is_named(&mut *db, person, name).await? {
        return Err(ApiError::Conflict {
            message: format!("{person} has a token called {name} already"),
            hint: "name it otherwise, or withdraw that one first: constans token withdraw".to_owned(),
        });
    }
    let secret = Secret::make().map_err(ApiError::Random)?;
    let (id, digest) = (Uuid::now_v7(), secret.digest());
    let for_secs = for_secs.and_then(|secs| i64::try_from(secs).ok());
    let ends =
        token::add(&mut *db, &NewRow { id, person, name, made_for: "program", digest: &digest, for_secs })
            .await?;
    let ends_at = ends.map(|ends| ends.to_jiff());
    audit::add(db, by, "made a token", person, &json!({ "token": id, "name": name, "until": ends_at }))
        .await?;
    Ok(MadeToken { id, token: Concealed(secret.text().to_owned()), ends_at })
}

/// Withdraws a token, of this person or of anyone. Returns whose it was and what it was called.
///
/// # Errors
///
/// Returns that there is none.
pub async fn withdraw_token(
    db: &mut PgConnection,
    by: &str,
    id: Uuid,
    only_of: Option<&str>,
) -> Result<(String, String), ApiError> {
    let missing = || ApiError::Missing { what: "token", name: id.to_string() };
    let withdrawn = token::withdraw(&mut *db, id, only_of).await?.ok_or_else(missing)?;
    audit::add(
        db,
        by,
        "withdrew a token",
        &withdrawn.person,
        &json!({ "token": id, "name": withdrawn.name }),
    )
    .await?;
    Ok((withdrawn.person, withdrawn.name))
}

async fn known(db: &mut PgConnection, name: &str) -> Result<Vec<String>, ApiError> {
    person::roles(db, name).await?.ok_or_else(|| ApiError::Missing { what: "person", name: name.to_owned() })
}

async fn not_the_last_administrator(db: &mut PgConnection, name: &str) -> Result<(), ApiError> {
    if person::locked_administrators(db).await? == [name] {
        return Err(ApiError::Conflict {
            message: format!("{name} is the only administrator"),
            hint: "make somebody else administrator first: constans person grant NAME administrator"
                .to_owned(),
        });
    }
    Ok(())
}
