//! Requests that are held in the door itself: one socket each, without a connection to Rocket.

use super::forward::Passage;
use crate::problem::ApiError;
use crate::waking::{NotHeld, Waking};
use constans_wire::check_in::Problem;
use constans_wire::wake::{WAIT_PATH, WaitAnswer};
use hyper::{Method, Request, StatusCode};

impl Passage {
    /// Returns where requests are held, if this one is to be.
    pub(super) fn holds<B>(&self, request: &Request<B>) -> Option<&Waking> {
        self.settings.waking.as_deref().filter(|_| request.uri().path() == WAIT_PATH)
    }

    /// Holds a request until the node is to check in, or the time is over.
    pub(super) async fn hold<B>(&self, waking: &Waking, request: &Request<B>) -> Result<WaitAnswer, Problem> {
        if request.method() != Method::GET {
            let problem = super::forward::problem(
                StatusCode::METHOD_NOT_ALLOWED,
                "method_not_allowed",
                "a request is held by GET only",
            );
            return Err(problem);
        }
        let shown = self.back.shown().ok_or_else(|| ApiError::Unknown("certificate").problem())?;
        let after = request.uri().query().and_then(|query| query.strip_prefix("after="));
        let after = after.and_then(|after| after.parse().ok()).ok_or_else(|| {
            ApiError::invalid("after", "the number of the newest wake that the node knows; 0 if none")
                .problem()
        })?;
        self.back.close_idle();
        waking.hold(shown, after).await.map_err(|error: NotHeld| error.problem())
    }
}
