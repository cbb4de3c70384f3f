//! People and programs: who calls, by bearer token, and whether they may.

use super::permission::{Permission, allows};
use super::secret::digest_of;
use crate::problem::{ApiError, LeftProblem};
use crate::store::person;
use rocket::State;
use rocket::http::Status;
use rocket::request::{FromRequest, Outcome, Request};
use sqlx::PgPool;
use std::marker::PhantomData;

/// A person who holds the permission `P`.
pub struct Allowed<P> {
    /// The person's name.
    pub person: String,
    _permission: PhantomData<P>,
}

#[rocket::async_trait]
impl<'r, P: Permission> FromRequest<'r> for Allowed<P> {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match allowed::<P>(request).await {
            Ok(person) => Outcome::Success(Self { person, _permission: PhantomData }),
            Err(error) => refuse(request, &error),
        }
    }
}

async fn allowed<P: Permission>(request: &Request<'_>) -> Result<String, ApiError> {
    let header = request.headers().get_one("Authorization").and_then(|header| header.strip_prefix("Bearer "));
    let token = header.ok_or(ApiError::Unknown("token"))?;
    let db = request.guard::<&State<PgPool>>().await.succeeded().ok_or(ApiError::Unknown("token"))?;
    let person = person::by_token(db.inner(), &digest_of(token.as_bytes())).await?.ok_or(ApiError::Unknown("token"))?;
    if allows(&person.roles, P::NAME) { Ok(person.name) } else { Err(ApiError::NotAllowed { person: person.name, permission: P::NAME }) }
}

/// Leaves the problem for the catcher, since a guard cannot answer itself.
pub(super) fn refuse<T>(request: &Request<'_>, error: &ApiError) -> Outcome<T, ()> {
    let problem = error.problem();
    let status = Status::new(problem.status);
    request.local_cache(|| LeftProblem(problem));
    Outcome::Error((status, ()))
}
