//! Tokens: listed, made for programs, withdrawn.

use crate::body::JsonBody;
use crate::list::{ListQuery, placed};
use crate::page::PageAnswer;
use crate::people;
use crate::problem::{Answer, ApiError};
use crate::store::token::{self, TokenRow};
use crate::trust::{Allowed, PeopleManage, SessionOwn};
use constans_core::filter::TOKENS;
use constans_wire::people::{MadeToken, NewToken, Token};
use rocket::serde::json::Json;
use rocket::{State, delete, get, post};
use sqlx::PgPool;
use uuid::Uuid;

/// The caller's valid tokens; all valid tokens if the caller manages people.
#[utoipa::path(tag = "people", security(("token" = ["session.own"]), ("session" = ["session.own"])), params(ListQuery), responses((status = 200, body = Vec<Token>)))]
#[get("/api/tokens?<list..>")]
pub async fn list(list: ListQuery, caller: Allowed<SessionOwn>, db: &State<PgPool>) -> PageAnswer<Token> {
    let only_of = only_of(&caller);
    let read = |range| async move {
        placed(token::list(db.inner(), &range, only_of).await?, TokenRow::cursor, |row| Ok(shown(row)))
    };
    list.page(&TOKENS, read).await
}

fn only_of(caller: &Allowed<SessionOwn>) -> Option<&str> {
    if caller.also::<PeopleManage>() { None } else { Some(&caller.person) }
}

fn shown(row: TokenRow) -> Token {
    Token {
        id: row.id,
        person: row.person,
        name: row.name,
        made_for: row.made_for,
        made_at: row.created_at.to_jiff(),
        ends_at: row.expires_at.map(|at| at.to_jiff()),
        last_at: row.last_at.map(|at| at.to_jiff()),
    }
}

/// Creates a token for a program; it is returned only once.
#[utoipa::path(tag = "people", security(("token" = ["people.manage"]), ("session" = ["people.manage"])), request_body = NewToken, responses((status = 200, body = MadeToken)))]
#[post("/api/tokens", data = "<wanted>")]
pub async fn make(
    wanted: JsonBody<NewToken>,
    caller: Allowed<PeopleManage>,
    db: &State<PgPool>,
) -> Answer<MadeToken> {
    let mut transaction = db.begin().await?;
    let made =
        people::make_token(&mut transaction, &caller.person, &wanted.person, &wanted.name, wanted.for_secs)
            .await?;
    transaction.commit().await?;
    Ok(Json(made))
}

/// Withdraws one of the caller's tokens, or any token if the caller manages people.
#[utoipa::path(tag = "people", security(("token" = ["session.own"]), ("session" = ["session.own"])), responses((status = 200, body = bool)))]
#[delete("/api/tokens/<id>")]
pub async fn withdraw(id: &str, caller: Allowed<SessionOwn>, db: &State<PgPool>) -> Answer<bool> {
    let id = Uuid::parse_str(id).map_err(|_| ApiError::Missing { what: "token", name: id.to_owned() })?;
    let mut transaction = db.begin().await?;
    people::withdraw_token(&mut transaction, &caller.person, id, only_of(&caller)).await?;
    transaction.commit().await?;
    Ok(Json(true))
}
