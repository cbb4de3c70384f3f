//! When runs were, whatever the clocks of nodes say, and the time for which nothing is known of a node.

use jiff::{SignedDuration, Timestamp};

/// Returns the time of a run by the server's clock: when it began by the node's clock, less how far that clock was ahead at
/// the last check-in, never before the run before it and never after the server learned of it.
pub fn run_time(
    began: Timestamp,
    clock_off_ms: i64,
    before: Option<Timestamp>,
    learned_at: Timestamp,
) -> Timestamp {
    let corrected = began.checked_sub(SignedDuration::from_millis(clock_off_ms)).unwrap_or(learned_at);
    let earliest = before.unwrap_or(Timestamp::MIN).min(learned_at);
    corrected.clamp(earliest, learned_at)
}

/// The last full run of a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LastRun {
    /// Until when what it found counts, if no other run follows.
    pub known_until: Timestamp,
    /// When the server learned of it.
    pub learned_at: Timestamp,
}

/// A time for which nothing is known of a node: its last full run was too long ago.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Gap {
    /// From when.
    pub from: Timestamp,
    /// Until when, as far as is known since the run that ended it was learned. Not after `from` if that run was made in time
    /// and only its report came late.
    pub until: Timestamp,
    /// From when on the server knew of it.
    pub learned_at: Timestamp,
}

/// Returns the gap between the last full run of a node and the next one, made at `ran_at` and learned of at `learned_at`. If
/// the report came late, the gap was real for whoever asked before.
pub fn gap_before(last: &LastRun, ran_at: Timestamp, learned_at: Timestamp) -> Option<Gap> {
    let from = last.known_until;
    (ran_at > from || learned_at > from).then(|| Gap {
        from,
        until: ran_at.max(from),
        learned_at: from.max(last.learned_at),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(secs).unwrap()
    }

    #[test]
    fn a_run_is_dated_by_the_servers_clock_between_the_run_before_and_its_report() {
        assert_eq!(run_time(at(1_000), 0, None, at(1_010)), at(1_000));
        assert_eq!(run_time(at(1_300), 300_000, Some(at(900)), at(1_010)), at(1_000), "five minutes ahead");
        assert_eq!(run_time(at(700), -300_000, Some(at(900)), at(1_010)), at(1_000), "five minutes behind");
        assert_eq!(run_time(at(500), 0, Some(at(900)), at(1_010)), at(900), "not before the one before it");
        assert_eq!(run_time(at(9_000), 0, Some(at(900)), at(1_010)), at(1_010), "not after it was learned");
        assert_eq!(
            run_time(at(9_000), 0, Some(at(2_000)), at(1_010)),
            at(1_010),
            "the server's clock went back"
        );
    }

    #[test]
    fn a_gap_lasts_from_the_end_of_what_is_known_to_the_next_run() {
        let last = LastRun { known_until: at(1_000), learned_at: at(100) };
        let gap = |ran, learned| gap_before(&last, at(ran), at(learned));
        assert_eq!(gap(900, 990), None);
        assert_eq!(gap(1_000, 1_000), None);
        assert_eq!(gap(1_500, 1_510), Some(Gap { from: at(1_000), until: at(1_500), learned_at: at(1_000) }));
        let late = gap(900, 1_510);
        assert_eq!(
            late,
            Some(Gap { from: at(1_000), until: at(1_000), learned_at: at(1_000) }),
            "reported late"
        );
        let long_delayed = LastRun { learned_at: at(3_000), ..last };
        let gap = gap_before(&long_delayed, at(1_200), at(3_001)).unwrap();
        assert_eq!(gap.learned_at, at(3_000), "nobody knew of it before the run before it was learned");
    }
}
