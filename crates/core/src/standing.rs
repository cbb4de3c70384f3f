//! What a node says by being heard: on time, late, silent.
//!
//! Statuses of runs are the business of [`crate::run`].

use jiff::{SignedDuration, Timestamp};

/// Whether a node was heard when it promised.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hearing {
    /// It was, or its promise is not over yet.
    OnTime,
    /// It is past its promise by more than is usual.
    Late,
    /// It is past the cut-off.
    Silent,
    /// It was never heard.
    NeverReported,
}

/// After so many promised spans without a word a node is silent.
pub const USUAL_CUT_OFF: i32 = 3;

/// The check-in that a node was last heard by.
#[derive(Debug, Clone, Copy)]
pub struct Promise {
    /// When it was heard.
    pub heard_at: Timestamp,
    /// When it promised to come next.
    pub next_at: Timestamp,
}

/// Returns how a node is heard at `now`.
///
/// Late is past the promise by the larger of 10 % of the promised span and 60 s; silent is past `cut_off` promised
/// spans. `server_down` is how long the server itself could not hear since then.
pub fn hearing(promise: Option<Promise>, cut_off: i32, server_down: SignedDuration, now: Timestamp) -> Hearing {
    let Some(promise) = promise else { return Hearing::NeverReported };
    let promised = promise.next_at.duration_since(promise.heard_at);
    let waited = now.duration_since(promise.heard_at) - server_down;
    let slack = (promised / 10).max(SignedDuration::from_secs(60));
    if waited > (promised * cut_off).max(promised + slack) {
        Hearing::Silent
    } else if waited > promised + slack {
        Hearing::Late
    } else {
        Hearing::OnTime
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(secs).unwrap()
    }

    #[test]
    fn a_node_is_late_past_its_promise_and_silent_past_the_cut_off() {
        for (promised, now, down, expected) in [
            (900, 900, 0, Hearing::OnTime),
            (900, 990, 0, Hearing::OnTime),
            (900, 991, 0, Hearing::Late),
            (900, 2_700, 0, Hearing::Late),
            (900, 2_701, 0, Hearing::Silent),
            (900, 2_701, 600, Hearing::Late),
            (60, 120, 0, Hearing::OnTime),
            (60, 121, 0, Hearing::Late),
            (10, 70, 0, Hearing::OnTime),
            (10, 71, 0, Hearing::Silent),
        ] {
            let promise = Some(Promise { heard_at: at(0), next_at: at(promised) });
            assert_eq!(hearing(promise, USUAL_CUT_OFF, SignedDuration::from_secs(down), at(now)), expected, "promised {promised}, now {now}");
        }
    }

    #[test]
    fn a_node_that_was_never_heard_says_so() {
        assert_eq!(hearing(None, USUAL_CUT_OFF, SignedDuration::ZERO, at(9)), Hearing::NeverReported);
    }
}
