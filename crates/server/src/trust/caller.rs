//! People and programs: who calls, by bearer token or session cookie, and whether they may.

use super::permission::{Permission, allows};
use super::secret::digest_of;
use super::session;
use crate::problem::{ApiError, LeftProblem};
use crate::store::person::{self, PersonRow};
use rocket::State;
use rocket::http::{Method, Status};
use rocket::request::{FromRequest, Outcome, Request};
use sqlx::PgPool;
use std::marker::PhantomData;

/// A person who holds the permission `P`.
pub struct Allowed<P> {
    /// The person's name.
    pub person: String,
    /// The person's roles.
    pub roles: Vec<String>,
    /// The digest of the session, if it is the console that calls.
    pub session: Option<Vec<u8>>,
    _permission: PhantomData<P>,
}

/// Who called, for the answer's header.
pub struct CalledBy(pub Option<String>);

#[rocket::async_trait]
impl<'r, P: Permission> FromRequest<'r> for Allowed<P> {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match allowed::<P>(request).await {
            Ok((person, session)) => {
                request.local_cache(|| CalledBy(Some(person.name.clone())));
                Outcome::Success(Self { person: person.name, roles: person.roles, session, _permission: PhantomData })
            }
            Err(error) => refuse(request, &error),
        }
    }
}

async fn allowed<P: Permission>(request: &Request<'_>) -> Result<(PersonRow, Option<Vec<u8>>), ApiError> {
    let db = request.guard::<&State<PgPool>>().await.succeeded().ok_or(ApiError::Unknown("token"))?;
    let (person, session) = match request.headers().get_one("Authorization") {
        Some(header) => {
            let token = header.strip_prefix("Bearer ").ok_or(ApiError::Unknown("token"))?;
            (person::by_token(db.inner(), &digest_of(token.as_bytes())).await?.ok_or(ApiError::Unknown("token"))?, None)
        }
        None => {
            let session = session::shown(request).ok_or(ApiError::NotSignedIn)?;
            let person = person::by_session(db.inner(), &session, session::IDLE_SECS).await?.ok_or(ApiError::NotSignedIn)?;
            if !matches!(request.method(), Method::Get | Method::Head) && !session::is_our_own(request, &session) {
                return Err(ApiError::NotOurPage);
            }
            (person, Some(session))
        }
    };
    if allows(&person.roles, P::NAME) { Ok((person, session)) } else { Err(ApiError::NotAllowed { person: person.name, permission: P::NAME }) }
}

/// Leaves the problem for the catcher, since a guard cannot answer itself.
pub(super) fn refuse<T>(request: &Request<'_>, error: &ApiError) -> Outcome<T, ()> {
    let problem = error.problem();
    let status = Status::new(problem.status);
    request.local_cache(|| LeftProblem(problem));
    Outcome::Error((status, ()))
}
