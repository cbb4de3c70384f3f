//! The server's one clock. Every time that is stored or compared is bound from it and never asked of the database, whose clock
//! may be another machine's, and which cannot be moved.

use constans_clock::Clock;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use std::sync::OnceLock;

static CLOCK: OnceLock<Clock> = OnceLock::new();

/// Has this process go by a clock from now on; the first call counts. Without one it goes by the system's.
pub fn go_by(clock: Clock) {
    let _ = CLOCK.set(clock);
}

/// Returns the time.
pub fn now() -> Timestamp {
    CLOCK.get_or_init(Clock::system).now()
}

static ZONE: OnceLock<TimeZone> = OnceLock::new();

/// Has days of this process end at midnight in a zone; the first call counts. Without one they end in UTC.
pub fn days_end_in(zone: TimeZone) {
    let _ = ZONE.set(zone);
}

/// Returns the zone in which days end.
pub fn zone() -> &'static TimeZone {
    ZONE.get_or_init(|| TimeZone::UTC)
}

/// Returns the time as statements bind it.
pub fn sql_now() -> SqlTimestamp {
    now().to_sqlx()
}
