//! Sessions of the console: a cookie that only this server gets back, and a token against requests that another page sends.

use super::caller::refuse;
use super::secret::{Secret, digest_of};
use crate::problem::ApiError;
use constans_core::digest::hex;
use rocket::http::{Cookie, SameSite};
use rocket::request::{FromRequest, Outcome, Request};
use sha2::{Digest as _, Sha256};

/// The name of the cookie. The prefix makes browsers insist on HTTPS, this host alone, and the path `/`.
const COOKIE: &str = "__Host-constans";
/// The header that carries the session's token with each request that changes something.
pub const TOKEN_HEADER: &str = "Constans-Token";
/// How long a session lasts, in seconds.
pub const LASTS_SECS: i64 = 12 * 3_600;
/// After how many seconds without a request it ends.
pub const IDLE_SECS: i64 = 4 * 3_600;

/// Returns the cookie of a new session.
pub fn cookie(secret: &Secret) -> Cookie<'static> {
    let base = Cookie::build((COOKIE, secret.text().to_owned()))
        .path("/")
        .secure(true)
        .http_only(true)
        .same_site(SameSite::Strict);
    base.max_age(rocket::time::Duration::seconds(LASTS_SECS)).build()
}

/// Returns the cookie to be removed.
pub fn no_cookie() -> Cookie<'static> {
    Cookie::build((COOKIE, "")).path("/").secure(true).http_only(true).same_site(SameSite::Strict).build()
}

/// Returns the digest of the session that a request shows.
pub fn shown(request: &Request<'_>) -> Option<Vec<u8>> {
    request.cookies().get(COOKIE).map(|cookie| digest_of(cookie.value().as_bytes()))
}

/// Returns the token of the session with this digest. It is derived, so that nothing more need be stored.
pub fn token(session: &[u8]) -> String {
    hex(&Sha256::new().chain_update(b"constans token\0").chain_update(session).finalize())
}

/// Returns whether a request that changes something was sent by our own pages: it names the session's token, and comes
/// from our own origin.
pub fn is_our_own(request: &Request<'_>, session: &[u8]) -> bool {
    let shown = request.headers().get_one(TOKEN_HEADER).unwrap_or_default();
    let has_token = digest_of(shown.as_bytes()) == digest_of(token(session).as_bytes());
    has_token && is_our_origin(request)
}

/// Returns whether the browser says that a request comes from our own pages.
pub fn is_our_origin(request: &Request<'_>) -> bool {
    let host = request.host().map(ToString::to_string);
    let origin = request.headers().get_one("Origin").and_then(|origin| origin.strip_prefix("https://"));
    origin.is_some() && origin == host.as_deref()
}

/// A request that the browser says was sent by our own pages: for signing in, when there is no session's token yet.
pub struct OurPage;

#[rocket::async_trait]
impl<'r> FromRequest<'r> for OurPage {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        if is_our_origin(request) { Outcome::Success(Self) } else { refuse(request, &ApiError::NotOurPage) }
    }
}

/// The digest of the bearer token that a request shows.
pub struct ShownToken(pub Option<Vec<u8>>);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for ShownToken {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        let token =
            request.headers().get_one("Authorization").and_then(|header| header.strip_prefix("Bearer "));
        Outcome::Success(Self(token.map(|token| digest_of(token.as_bytes()))))
    }
}
