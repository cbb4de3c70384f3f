//! Pages of the console that failed in someone's browser: the server's log is where they are looked for.

use crate::body::SmallBody;
use crate::problem::{Answer, ApiError};
use crate::trust::{Allowed, SessionOwn};
use constans_wire::people::PageError;
use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use rocket::post;
use rocket::serde::json::Json;
use std::num::NonZeroU32;
use std::sync::LazyLock;

/// The longest page and message, in characters.
const LONGEST_MESSAGE: usize = 500;
/// The longest stack.
const LONGEST_STACK: usize = 4_000;
/// A page that fails may fail again and again.
const LINES_A_MINUTE: NonZeroU32 = NonZeroU32::new(30).expect("it is not 0");

/// Logs the failure of a page; returns false if there were too many to log.
#[utoipa::path(tag = "server", security(("token" = ["session.own"]), ("session" = ["session.own"])), request_body = PageError, responses((status = 200, body = bool)))]
#[post("/api/page-errors", data = "<failed>")]
pub fn report(failed: SmallBody<PageError>, caller: Allowed<SessionOwn>) -> Answer<bool> {
    static LINES: LazyLock<DefaultDirectRateLimiter> =
        LazyLock::new(|| RateLimiter::direct(Quota::per_minute(LINES_A_MINUTE)));
    let (PageError { page, message, stack }, person) = (failed.0, caller.person);
    for (field, text, longest) in [
        ("page", &page, LONGEST_MESSAGE),
        ("message", &message, LONGEST_MESSAGE),
        ("stack", &stack, LONGEST_STACK),
    ] {
        if text.chars().count() > longest {
            return Err(ApiError::invalid(field, format!("`{field}` has at most {longest} characters")));
        }
    }
    if LINES.check().is_err() {
        return Ok(Json(false));
    }
    tracing::error!(person, ?page, ?message, ?stack, "a page of the console failed in somebody's browser");
    Ok(Json(true))
}
