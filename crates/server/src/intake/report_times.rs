//! Times that nodes report: a clock may be wrong by centuries. What cannot be is dated by the server, so that it never looks like
//! the newest, or the oldest; the report keeps what the node reported.

use constans_wire::report::RunReport;
use jiff::{SignedDuration, Timestamp};

/// A report may wait for this long until the server can be reached again.
const LONGEST_DELAY: SignedDuration = SignedDuration::from_hours(400 * 24);
/// A clock may go ahead by so much, which is shown as a trouble of the node long before.
const AHEAD: SignedDuration = SignedDuration::from_hours(1);
/// 2000-01-01: nothing was remembered before.
const FIRST: Timestamp = Timestamp::constant(946_684_800, 0);

/// Returns the time that a node reports, or the server's own if that cannot be.
pub fn plausible(reported: Timestamp, now: Timestamp) -> Timestamp {
    if (now - LONGEST_DELAY..=now + AHEAD).contains(&reported) { reported } else { now }
}

/// Returns when a run began by the node's clock, as far as that can be. Windows of drift are dated by the server's clock, which
/// the node's is ahead of by so much.
pub fn bounded_times(report: &mut RunReport, clock_off: SignedDuration, now: Timestamp) -> Timestamp {
    let by_server = |at: Timestamp| at.checked_sub(clock_off).unwrap_or(at);
    for window in report.clauses.iter_mut().filter_map(|result| result.drift_window.as_mut()) {
        window.to = plausible(by_server(window.to), now);
        window.from = by_server(window.from).clamp(FIRST, window.to);
    }
    plausible(report.began, now)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_cannot_be_is_dated_by_the_server() {
        let now: Timestamp = "2026-11-28T12:00:00Z".parse().unwrap();
        let dated = |reported: &str| plausible(reported.parse().unwrap(), now).to_string();
        assert_eq!(dated("2026-11-28T11:00:00Z"), "2026-11-28T11:00:00Z");
        assert_eq!(dated("2026-11-28T12:50:00Z"), "2026-11-28T12:50:00Z");
        assert_eq!(dated("2025-12-01T00:00:00Z"), "2025-12-01T00:00:00Z", "it waited for long");
        for reported in [
            "0303-03-03T03:03:03Z",
            "-009999-01-03T00:00:00Z",
            "2026-11-28T13:00:01Z",
            "9999-12-30T00:00:00Z",
        ] {
            assert_eq!(dated(reported), now.to_string(), "{reported}");
        }
    }
}
