//! Hours of the day and of the week, in a time zone.

use jiff::civil::{Date, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan as _};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::fmt;

/// An hour and minute of the day, written `06:30`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(value_type = String, example = "06:30"))]
#[serde(try_from = "String", into = "String")]
pub struct HourOfDay(MinuteOfDay);

type MinuteOfDay = u16;

/// What is no hour of the day.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no hour of the day: write it as \"06:30\"")]
pub struct NoHour(String);

impl TryFrom<String> for HourOfDay {
    type Error = NoHour;

    fn try_from(text: String) -> Result<Self, NoHour> {
        let two_digits = |part: &str| {
            part.parse::<MinuteOfDay>()
                .ok()
                .filter(|_| part.len() == 2 && part.bytes().all(|byte| byte.is_ascii_digit()))
        };
        let read =
            text.split_once(':').and_then(|(hour, minute)| Some((two_digits(hour)?, two_digits(minute)?)));
        match read.filter(|(hour, minute)| *hour < 24 && *minute < 60) {
            Some((hour, minute)) => Ok(Self(hour * 60 + minute)),
            None => Err(NoHour(text)),
        }
    }
}

impl From<HourOfDay> for String {
    fn from(hour: HourOfDay) -> Self {
        hour.to_string()
    }
}

impl fmt::Display for HourOfDay {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:02}:{:02}", self.0 / 60, self.0 % 60)
    }
}

/// The change window that is open, or the next one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChangeWindow {
    /// When it opens.
    pub opens: Timestamp,
    /// When it closes: no clause is begun from here on.
    pub closes: Timestamp,
}

/// A day of the week.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[expect(missing_docs, reason = "they are the days")]
pub enum Day {
    Mon,
    Tue,
    Wed,
    Thu,
    Fri,
    Sat,
    Sun,
}

impl Day {
    fn of(weekday: Weekday) -> Self {
        [Self::Mon, Self::Tue, Self::Wed, Self::Thu, Self::Fri, Self::Sat, Self::Sun]
            [usize::try_from(weekday.to_monday_zero_offset()).unwrap_or(0)]
    }

    fn word(self) -> &'static str {
        ["mon", "tue", "wed", "thu", "fri", "sat", "sun"][self as usize]
    }
}

/// Hours that come back every week.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct WeeklyHours {
    /// The days on which they begin; all days if none is named.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub days: BTreeSet<Day>,
    /// When they begin.
    pub from: HourOfDay,
    /// When they end: on the next day if that is not after the beginning.
    pub until: HourOfDay,
}

impl fmt::Display for WeeklyHours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let days: Vec<&str> = self.days.iter().map(|day| day.word()).collect();
        write!(
            f,
            "{} {}–{}",
            if days.is_empty() { "daily".to_owned() } else { days.join(" ") },
            self.from,
            self.until
        )
    }
}

/// Returns the moment of an hour on a day. One that the clocks leave out is the one as long after midnight; of one that
/// comes twice it is the first (RFC 5545, 3.3.5).
fn moment(day: Date, hour: HourOfDay, zone: &TimeZone) -> Option<Timestamp> {
    let time = Time::new(i8::try_from(hour.0 / 60).ok()?, i8::try_from(hour.0 % 60).ok()?, 0, 0).ok()?;
    zone.to_ambiguous_timestamp(day.to_datetime(time)).compatible().ok()
}

/// Returns the first of these hours after a moment; that moment itself if there are none.
pub fn next_of_day(hours: &BTreeSet<HourOfDay>, zone: &TimeZone, after: Timestamp) -> Timestamp {
    let today = after.to_zoned(zone.clone()).date();
    let days = (0..3).filter_map(|ahead| today.checked_add(ahead.days()).ok());
    let moments = days.flat_map(|day| hours.iter().filter_map(move |hour| moment(day, *hour, zone)));
    moments.filter(|moment| *moment > after).min().unwrap_or(after)
}

/// Returns the window that is open now, or the next one; none if no hours are named. Hours that touch are one window.
pub fn window_at(hours: &[WeeklyHours], zone: &TimeZone, now: Timestamp) -> Option<ChangeWindow> {
    let today = now.to_zoned(zone.clone()).date();
    // From the days before, since hours may go over midnight and touch; to a week ahead, when all of them came once.
    let days: Vec<Date> = (-8..=8).filter_map(|ahead| today.checked_add(ahead.days()).ok()).collect();
    let of_day = |hours: &WeeklyHours, day: Date| {
        let begins = hours.days.is_empty() || hours.days.contains(&Day::of(day.weekday()));
        let last = if hours.until > hours.from { day } else { day.tomorrow().ok()? };
        begins.then_some(ChangeWindow {
            opens: moment(day, hours.from, zone)?,
            closes: moment(last, hours.until, zone)?,
        })
    };
    let mut windows: Vec<ChangeWindow> =
        days.iter().flat_map(|day| hours.iter().filter_map(|hours| of_day(hours, *day))).collect();
    windows.sort_by_key(|window| window.opens);
    let mut joined: Vec<ChangeWindow> = Vec::new();
    for window in windows {
        match joined.last_mut().filter(|last| window.opens <= last.closes) {
            Some(last) => last.closes = last.closes.max(window.closes),
            None => joined.push(window),
        }
    }
    joined.into_iter().find(|window| now < window.closes)
}
