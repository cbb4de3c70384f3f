//! Persons and their roles.

use crate::list::{ListQuery, placed};
use crate::page::{Page, PageAnswer, PageQuery};
use crate::people;
use crate::problem::{Answer, ApiError};
use crate::store::person::{self, ListedRow};
use crate::store::refused_request::{self, RefusedRow};
use crate::trust::{Allowed, HeldRole, PeopleManage};
use constans_core::filter::PEOPLE;
use constans_wire::people::{Granted, Person, RefusedRequest, RemovedPerson};
use rocket::serde::json::Json;
use rocket::{State, delete, get, put};
use sqlx::PgPool;

/// All persons, with roles, sessions and tokens; those first who were added first.
#[utoipa::path(tag = "people", security(("token" = ["people.manage"]), ("session" = ["people.manage"])), params(ListQuery), responses((status = 200, body = Vec<Person>)))]
#[get("/api/people?<list..>")]
pub async fn list(list: ListQuery, _caller: Allowed<PeopleManage>, db: &State<PgPool>) -> PageAnswer<Person> {
    let read = |range| async move {
        placed(person::list(db.inner(), &range).await?, ListedRow::cursor, |row| Ok(shown(row)))
    };
    list.page(&PEOPLE, read).await
}

fn shown(row: ListedRow) -> Person {
    Person {
        name: row.name,
        roles: row.roles,
        made_at: row.created_at.to_jiff(),
        has_password: row.has_password,
        sessions: row.sessions.unsigned_abs(),
        tokens: row.tokens.unsigned_abs(),
        last_at: row.last_at.map(|at| at.to_jiff()),
    }
}

/// Grants a role to a person, for the whole fleet as `operator`, or for the nodes of one group as `operator@kiosks`; a new name adds a
/// person.
#[utoipa::path(tag = "people", security(("token" = ["people.manage"]), ("session" = ["people.manage"])), responses((status = 200, body = Granted)))]
#[put("/api/people/<name>/roles/<role>")]
pub async fn grant(
    name: &str,
    role: &str,
    caller: Allowed<PeopleManage>,
    db: &State<PgPool>,
) -> Answer<Granted> {
    let role = role_called(role)?;
    let mut transaction = db.begin().await?;
    let granted = people::grant(&mut transaction, &caller.person, name, &role).await?;
    transaction.commit().await?;
    Ok(Json(granted))
}

/// Takes one role from a person.
#[utoipa::path(tag = "people", security(("token" = ["people.manage"]), ("session" = ["people.manage"])), responses((status = 200, body = bool)))]
#[delete("/api/people/<name>/roles/<role>")]
pub async fn take(name: &str, role: &str, caller: Allowed<PeopleManage>, db: &State<PgPool>) -> Answer<bool> {
    let role = role_called(role)?;
    let mut transaction = db.begin().await?;
    people::take(&mut transaction, &caller.person, name, &role).await?;
    transaction.commit().await?;
    Ok(Json(true))
}

/// Removes a person: roles, sessions, tokens and open invitations end. The audit trail stays.
#[utoipa::path(tag = "people", security(("token" = ["people.manage"]), ("session" = ["people.manage"])), responses((status = 200, body = RemovedPerson)))]
#[delete("/api/people/<name>")]
pub async fn remove(name: &str, caller: Allowed<PeopleManage>, db: &State<PgPool>) -> Answer<RemovedPerson> {
    let mut transaction = db.begin().await?;
    let ended = people::remove(&mut transaction, &caller.person, name).await?;
    transaction.commit().await?;
    let count = |count: i64| count.unsigned_abs();
    Ok(Json(RemovedPerson {
        sessions: count(ended.sessions),
        tokens: count(ended.tokens),
        invitations: count(ended.invitations),
    }))
}

fn role_called(word: &str) -> Result<HeldRole, ApiError> {
    HeldRole::parse(word).map_err(|because| ApiError::invalid("role", because))
}

/// Recently refused requests: caller, request, address; equal ones are one entry.
#[utoipa::path(tag = "people", security(("token" = ["people.manage"]), ("session" = ["people.manage"])), params(PageQuery), responses((status = 200, body = Vec<RefusedRequest>)))]
#[get("/api/refused-requests?<page..>")]
pub async fn refused(
    page: PageQuery,
    _caller: Allowed<PeopleManage>,
    db: &State<PgPool>,
) -> PageAnswer<RefusedRequest> {
    let range = page.range()?;
    let rows = refused_request::latest(db.inner(), &range).await?;
    Page::of_rows(rows, &range, RefusedRow::cursor).shown(|row| {
        Ok(RefusedRequest {
            person: Some(row.person).filter(|person| !person.is_empty()),
            node: row.node,
            what: row.what,
            from_where: row.from_where,
            status: row.status.unsigned_abs(),
            first_at: row.first_at.to_jiff(),
            last_at: row.last_at.to_jiff(),
            times: row.times.unsigned_abs(),
        })
    })
}
