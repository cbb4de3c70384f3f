//! Clauses and nodes, counted; rates of them.

use serde::{Deserialize, Serialize};

/// How many clauses on nodes have which result.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClauseCounts {
    /// As desired at their last examination.
    pub compliant: u64,
    /// Of these, the ones in the window of a drift that was found later.
    pub in_doubt: u64,
    /// Not as desired at their last examination.
    pub noncompliant: u64,
    /// Not compliant, and covered by a concession that was in force: these are counted here only.
    pub conceded: u64,
    /// Never examined since they are desired as they are.
    pub unexamined: u64,
    /// Not inspectable, or the node's last run was too long ago.
    pub unknown: u64,
}

impl ClauseCounts {
    /// All of them.
    pub fn all(&self) -> u64 {
        self.compliant + self.noncompliant + self.conceded + self.unexamined + self.unknown
    }

    /// The share that is compliant, as found: what is unexamined, unknown or conceded is not. No concession raises it.
    pub fn rate(&self) -> Option<Rate> {
        Rate::of(self.compliant, self.all())
    }

    /// The share that is compliant of what is not conceded.
    pub fn rate_with_concessions(&self) -> Option<Rate> {
        Rate::of(self.compliant, self.all() - self.conceded)
    }
}

/// How many nodes are how, by the worst of their clauses. The first four add up to the nodes that have clauses.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeCounts {
    /// All clauses are compliant.
    pub without_deviation: u64,
    /// Some clause is not compliant and not conceded.
    pub with_deviation: u64,
    /// Of the others, those with a clause that is unexamined or unknown.
    pub not_known: u64,
    /// The rest: all that is not compliant is conceded.
    pub conceded: u64,
    /// Of those with a deviation, the ones with a critical clause that is neither compliant nor conceded.
    pub with_critical: u64,
}

impl NodeCounts {
    /// The nodes that have clauses.
    pub fn all(&self) -> u64 {
        self.without_deviation + self.with_deviation + self.not_known + self.conceded
    }
}

/// A share of a whole that is not empty.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rate {
    part: u64,
    whole: u64,
}

impl Rate {
    /// Returns the share; none of nothing.
    pub fn of(part: u64, whole: u64) -> Option<Self> {
        (whole > 0).then_some(Self { part: part.min(whole), whole })
    }

    /// Returns hundredths of a percent, rounded down: 10,000 is the whole and nothing less.
    pub fn basis_points(self) -> u64 {
        u64::try_from(u128::from(self.part) * 10_000 / u128::from(self.whole)).unwrap_or(10_000)
    }

    /// Returns it in words, as `97.35 %`; of something that rounds to nothing, `< 0.01 %`.
    pub fn words(self) -> String {
        match self.basis_points() {
            0 if self.part > 0 => "< 0.01 %".to_owned(),
            10_000 => "100 %".to_owned(),
            points => format!("{}.{:02} %", points / 100, points % 100),
        }
    }

    /// Returns the words of a rate, or `–` if there is nothing to count.
    pub fn words_of(rate: Option<Self>) -> String {
        rate.map_or_else(|| "–".to_owned(), Self::words)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rate_is_100_percent_only_of_all_and_a_dash_of_nothing() {
        let words = |part, whole| Rate::words_of(Rate::of(part, whole));
        assert_eq!(words(9_842, 9_847), "99.94 %");
        assert_eq!(words(1_999_999, 2_000_000), "99.99 %");
        assert_eq!(words(7, 7), "100 %");
        assert_eq!(words(1, 2_000_000), "< 0.01 %");
        assert_eq!(words(0, 7), "0.00 %");
        assert_eq!(words(0, 0), "–");
    }

    #[test]
    fn what_is_not_known_is_not_compliant() {
        let counts = ClauseCounts {
            compliant: 90,
            noncompliant: 4,
            unexamined: 3,
            unknown: 3,
            in_doubt: 7,
            conceded: 0,
        };
        assert_eq!((counts.all(), Rate::words_of(counts.rate()).as_str()), (100, "90.00 %"));
    }

    #[test]
    fn a_concession_raises_only_the_rate_with_concessions() {
        let counts = ClauseCounts { compliant: 90, conceded: 10, ..ClauseCounts::default() };
        assert_eq!(Rate::words_of(counts.rate()), "90.00 %");
        assert_eq!(Rate::words_of(counts.rate_with_concessions()), "100 %");
        let all_conceded = ClauseCounts { conceded: 10, ..ClauseCounts::default() };
        assert_eq!(Rate::words_of(all_conceded.rate()), "0.00 %");
        assert_eq!(Rate::words_of(all_conceded.rate_with_concessions()), "–");
    }
}
