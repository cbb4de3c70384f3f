//! The chain of days: what was learned on a day has one digest, and each day's covers the day before.

use crate::digest::{canonical, of_contents};
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use serde_json::json;

/// A day of the chain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DayLink {
    /// The day in UTC on which it was learned.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = Date))]
    pub day: Date,
    /// How many rows were learned.
    pub rows: u64,
    /// The digest of the Merkle tree over these rows (RFC 6962), in hexadecimal digits.
    pub root: String,
    /// The digest of the chain up to this day: SHA-256 over the digits of the day before and this day's canonical JSON.
    pub digest: String,
}

impl DayLink {
    /// Returns the next link of a chain; `before` is the digest of the day before, empty for the first one.
    pub fn chained(before: &str, day: Date, rows: u64, root: String) -> Self {
        let value = json!({ "day": day.to_string(), "rows": rows, "root": root });
        let digest = of_contents(&[before.as_bytes(), &canonical(&value)].concat());
        let digest = digest.as_str().trim_start_matches("sha256:").to_owned();
        Self { day, rows, root, digest }
    }
}

/// What is wrong with a chain of days.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ChainFault {
    /// The digest of a day does not follow from it and the day before.
    #[error(
        "the digest of {0} does not follow from what was learned on that day and the day before: one of them was altered"
    )]
    Digest(Date),
    /// A day is missing, or comes twice.
    #[error("{after} is followed by {found}: a day was removed or inserted")]
    Days {
        /// The day before.
        after: Date,
        /// The day that follows it.
        found: Date,
    },
}

/// Checks a chain of days from its first one.
///
/// # Errors
///
/// Returns the first fault.
pub fn check_chain(days: &[DayLink]) -> Result<(), ChainFault> {
    let mut before: Option<&DayLink> = None;
    for link in days {
        if let Some(before) = before
            && before.day.tomorrow().ok() != Some(link.day)
        {
            return Err(ChainFault::Days { after: before.day, found: link.day });
        }
        let digest = before.map_or("", |before| &before.digest);
        if DayLink::chained(digest, link.day, link.rows, link.root.clone()) != *link {
            return Err(ChainFault::Digest(link.day));
        }
        before = Some(link);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    #[test]
    fn a_removed_altered_or_inserted_day_is_found() {
        let mut days = vec![DayLink::chained("", date(2026, 11, 20), 4, "aa".into())];
        for (day, rows) in [(21, 0), (22, 7)] {
            let before = days.last().expect("the day before").digest.clone();
            days.push(DayLink::chained(&before, date(2026, 11, day), rows, "bb".into()));
        }
        // printf '%s' '{"day":"2026-11-20","root":"aa","rows":4}' | sha256sum
        assert_eq!(days[0].digest, "7b1347d4f41d078892a369f8702e054e643ec5c7fea14d383a403f14e28d74e5");
        assert_eq!(check_chain(&days), Ok(()));
        let altered = |alter: fn(&mut Vec<DayLink>)| {
            let mut days = days.clone();
            alter(&mut days);
            check_chain(&days)
        };
        assert_eq!(altered(|days| days[1].rows = 1), Err(ChainFault::Digest(date(2026, 11, 21))));
        assert_eq!(altered(|days| days[0].root = "ab".into()), Err(ChainFault::Digest(date(2026, 11, 20))));
        assert_eq!(
            altered(|days| drop(days.remove(1))),
            Err(ChainFault::Days { after: date(2026, 11, 20), found: date(2026, 11, 22) })
        );
        assert_eq!(altered(|days| drop(days.remove(0))), Err(ChainFault::Digest(date(2026, 11, 21))));
        // Somebody who rewrites a day and all after it has other digests than those that were noted elsewhere.
        let rewritten = DayLink::chained(&days[0].digest, date(2026, 11, 21), 1, "bb".into());
        assert_ne!(rewritten.digest, days[1].digest);
    }
}
