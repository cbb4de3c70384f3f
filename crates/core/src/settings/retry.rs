//! When a server that did not answer is tried again.

/// The first try comes after this many seconds.
const FIRST_SECS: u64 = 15;
/// However long the interval is, tries are no further apart.
const WIDEST_SECS: u64 = 15 * 60;

/// Returns after how many milliseconds a server is tried again that did not answer `tries` times in a row: after 15 s, then
/// twice as long each time, up to the interval and at most a quarter of an hour. `chance` is any number; it takes off up to
/// half, so that a fleet does not come back all at once.
pub fn retry_after_ms(tries: u32, interval_secs: u64, chance: u64) -> u64 {
    let widest = interval_secs.clamp(1, WIDEST_SECS);
    let secs = FIRST_SECS.saturating_mul(2_u64.saturating_pow(tries.saturating_sub(1))).min(widest);
    secs * 1_000 - chance % (secs * 500 + 1)
}

#[cfg(test)]
mod tests {
    use super::retry_after_ms;

    #[test]
    fn tries_come_further_and_further_apart_up_to_the_interval() {
        let widest: Vec<u64> = (1..9).map(|tries| retry_after_ms(tries, 600, 0) / 1_000).collect();
        assert_eq!(widest, [15, 30, 60, 120, 240, 480, 600, 600]);
        assert_eq!(retry_after_ms(90, 7 * 86_400, 0), 900_000);
        assert_eq!(retry_after_ms(1, 5, 0), 5_000, "never rarer than the interval asks");
        assert!((7_500..=15_000).contains(&retry_after_ms(1, 900, 123_456_789)));
    }
}
