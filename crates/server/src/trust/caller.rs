//! People and programs: who calls, by bearer token or session cookie, and whether they may.

use super::permission::{ChangeRequest, Permission, allows};
use super::secret::digest_of;
use super::session;
use crate::problem::{ApiError, ProblemFromGuard};
use crate::store::person::{self, PersonRow};
use crate::store::token;
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
    /// The digest of the token, if a program calls.
    token: Option<Vec<u8>>,
    _permission: PhantomData<P>,
}

impl<P: Permission> Allowed<P> {
    /// Returns whether the person also holds another permission.
    pub fn also<Q: Permission>(&self) -> bool {
        allows(&self.roles, Q::NAME)
    }

    /// Returns whether the session or token still holds and the person may still do this: for what goes on for long.
    pub async fn is_still_allowed(&self, db: &PgPool) -> bool {
        let person = match (&self.session, &self.token) {
            (Some(session), _) => person::by_session_unused(db, session, session::IDLE_SECS).await,
            (None, Some(token)) => token::person(db, token).await,
            (None, None) => return false,
        };
        // A database that does not answer has revoked nothing.
        person.map_or(true, |person| person.is_some_and(|person| allows(&person.roles, P::NAME)))
    }
}

/// Who called, for the answer's header.
pub struct CalledBy(pub Option<String>);

#[rocket::async_trait]
impl<'r, P: Permission> FromRequest<'r> for Allowed<P> {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match allowed::<P>(request).await {
            Ok((person, session, token)) => Outcome::Success(Self {
                person: person.name,
                roles: person.roles,
                session,
                token,
                _permission: PhantomData,
            }),
            Err(error) => refuse(request, &error),
        }
    }
}

/// A person who may do what `P` permits, or who may only request it of others.
pub struct MayAsk<P> {
    /// The person, and whether the person may do it.
    pub asker: Asker,
    _permission: PhantomData<P>,
}

/// Who asks for a change.
#[derive(Debug, Clone)]
pub struct Asker {
    /// The person's name.
    pub person: String,
    /// Whether the person may hand it out; otherwise it becomes a request.
    pub may_hand_out: bool,
    /// The key of the request (`Idempotency-Key`), if it has one.
    pub request_key: Option<String>,
}

/// The longest key of a request, in characters.
pub const LONGEST_REQUEST_KEY: usize = 128;

pub(super) fn request_key(request: &Request<'_>) -> Result<Option<String>, ApiError> {
    let Some(key) = request.headers().get_one("Idempotency-Key") else { return Ok(None) };
    if (1..=LONGEST_REQUEST_KEY).contains(&key.len()) && key.chars().all(|c| c.is_ascii_graphic()) {
        return Ok(Some(key.to_owned()));
    }
    Err(ApiError::invalid(
        "Idempotency-Key",
        format!("a key has 1 to {LONGEST_REQUEST_KEY} visible ASCII characters"),
    ))
}

#[rocket::async_trait]
impl<'r, P: Permission> FromRequest<'r> for MayAsk<P> {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match identified(request).await {
            Err(error) => refuse(request, &error),
            Ok((person, ..)) => {
                let may_hand_out = allows(&person.roles, P::NAME);
                if !may_hand_out && !allows(&person.roles, ChangeRequest::NAME) {
                    return refuse(
                        request,
                        &ApiError::NotAllowed { person: person.name, permission: P::NAME },
                    );
                }
                match request_key(request) {
                    Ok(request_key) => Outcome::Success(Self {
                        asker: Asker { person: person.name, may_hand_out, request_key },
                        _permission: PhantomData,
                    }),
                    Err(error) => refuse(request, &error),
                }
            }
        }
    }
}

async fn allowed<P: Permission>(
    request: &Request<'_>,
) -> Result<(PersonRow, Option<Vec<u8>>, Option<Vec<u8>>), ApiError> {
    let (person, session, token) = identified(request).await?;
    if allows(&person.roles, P::NAME) {
        Ok((person, session, token))
    } else {
        Err(ApiError::NotAllowed { person: person.name, permission: P::NAME })
    }
}

pub(super) async fn identified(
    request: &Request<'_>,
) -> Result<(PersonRow, Option<Vec<u8>>, Option<Vec<u8>>), ApiError> {
    let db = request.guard::<&State<PgPool>>().await.succeeded().ok_or(ApiError::Unknown("token"))?;
    let (person, session, token) = match request.headers().get_one("Authorization") {
        Some(header) => {
            let token = header.strip_prefix("Bearer ").ok_or(ApiError::Unknown("token"))?;
            {
                let digest = digest_of(token.as_bytes());
                (
                    token::person(db.inner(), &digest).await?.ok_or(ApiError::Unknown("token"))?,
                    None,
                    Some(digest),
                )
            }
        }
        None => {
            let session = session::shown(request).ok_or(ApiError::NotSignedIn)?;
            let person = person::by_session(db.inner(), &session, session::IDLE_SECS)
                .await?
                .ok_or(ApiError::NotSignedIn)?;
            if !matches!(request.method(), Method::Get | Method::Head)
                && !session::is_our_own(request, &session)
            {
                request.local_cache(|| CalledBy(Some(person.name.clone())));
                return Err(ApiError::NotOurPage);
            }
            (person, Some(session), None)
        }
    };
    // The caller is known also without the permission.
    request.local_cache(|| CalledBy(Some(person.name.clone())));
    Ok((person, session, token))
}

/// Leaves the problem for the catcher, since a guard cannot answer itself.
pub(super) fn refuse<T>(request: &Request<'_>, error: &ApiError) -> Outcome<T, ()> {
    let problem = error.problem();
    let status = Status::new(problem.status);
    request.local_cache(|| ProblemFromGuard(problem));
    Outcome::Error((status, ()))
}
