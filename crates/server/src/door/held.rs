//! Requests that are held in the door itself: one socket each, without a connection to Rocket.

use super::forward::problem;
use crate::callers::ShownCertificate;
use crate::problem::ApiError;
use crate::waking::Waking;
use constans_wire::check_in::Problem;
use constans_wire::wake::WaitAnswer;
use hyper::{Method, StatusCode};

/// Waits until the node is to check in, for about four minutes. The door answers this itself.
///
/// # Errors
///
/// Returns why the request is not held.
#[utoipa::path(get, path = "/wait", tag = "agents", security(("node" = [])), params(("after" = i64, Query, description = "The newest wake that the node knows; 0 if none")), responses((status = 200, body = WaitAnswer)))]
pub async fn hold(
    waking: &Waking,
    shown: Option<&ShownCertificate>,
    method: &Method,
    query: Option<&str>,
) -> Result<WaitAnswer, Problem> {
    if *method != Method::GET {
        let title = "a request is held by GET only";
        return Err(problem(StatusCode::METHOD_NOT_ALLOWED, "method_not_allowed", title));
    }
    let shown = shown.ok_or_else(|| ApiError::Unknown("certificate").problem())?;
    let after = query.and_then(|query| query.strip_prefix("after=")).and_then(|after| after.parse().ok());
    let Some(after) = after else {
        // Who is not admitted learns that first, whatever it sends.
        shown.caller(waking.db()).await.map_err(|error| error.problem())?;
        let what = "the number of the newest wake that the node knows; 0 if none";
        return Err(ApiError::invalid("after", what).problem());
    };
    waking.hold(shown, after).await.map_err(|error| error.problem())
}
