//! Why the rate moved between two moments: each clause on each node that counts otherwise takes the first reason that applies, so
//! that all of them add up.

use super::counts::ClauseCounts;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The result of a clause on a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ClauseStatus {
    /// As desired.
    Compliant,
    /// Not as desired.
    Noncompliant,
    /// Never examined.
    Unexamined,
    /// Nothing is known of it.
    Unknown,
}

/// Why a clause on a node counts otherwise than before. The first that applies counts, in this order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum MoveReason {
    /// Its node left the fleet.
    NodeLeft,
    /// Its node came to the fleet.
    NodeCame,
    /// It became one of the clauses that are asked about, or no longer is one: for example, it satisfies other controls. It is desired as
    /// before.
    MappingChanged,
    /// A change took it from its node.
    NoLongerDesired,
    /// A change gave it to its node.
    NewlyDesired,
    /// A change altered what is desired of it.
    OtherwiseDesired,
    /// It was examined for the first time.
    FirstExamined,
    /// Its node fell silent, or it can no longer be inspected.
    BecameUnknown,
    /// Its node ran again, or it can be inspected again.
    KnownAgain,
    /// It was as desired, and then was not.
    Deviated,
    /// It was not as desired, and then was.
    PutRight,
    /// A concession began or ended for it; the rate as found stays.
    Concession,
}

impl MoveReason {
    /// All of them, in the order in which they apply.
    pub const ALL: [Self; 12] = [
        Self::NodeLeft,
        Self::NodeCame,
        Self::MappingChanged,
        Self::NoLongerDesired,
        Self::NewlyDesired,
        Self::OtherwiseDesired,
        Self::FirstExamined,
        Self::BecameUnknown,
        Self::KnownAgain,
        Self::Deviated,
        Self::PutRight,
        Self::Concession,
    ];

    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::NodeLeft => "of nodes that left",
            Self::NodeCame => "of nodes that came",
            Self::MappingChanged => "mapped otherwise",
            Self::NoLongerDesired => "no longer desired",
            Self::NewlyDesired => "newly desired",
            Self::OtherwiseDesired => "desired otherwise",
            Self::FirstExamined => "examined for the first time",
            Self::BecameUnknown => "became unknown",
            Self::KnownAgain => "known again",
            Self::Deviated => "deviated",
            Self::PutRight => "put right",
            Self::Concession => "conceded, or a concession ended",
        }
    }
}

/// A clause on a node at two moments.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Moved {
    /// Whether its node was of the fleet, at both moments.
    pub has_node: [bool; 2],
    /// Its result at both moments, whether conceded or not; none if it was not desired there.
    pub status: [Option<ClauseStatus>; 2],
    /// Whether it was conceded, at both moments.
    pub is_conceded: [bool; 2],
    /// Whether something else was desired of it at the second moment.
    pub is_desired_otherwise: bool,
    /// Whether it is desired at both moments, and only at one of them is one of the clauses that are asked about.
    pub is_other_clause: bool,
    /// The change that altered what is desired of it last, or which clauses it is one of.
    pub change: Option<i64>,
}

impl Moved {
    /// Returns why it counts otherwise; none if it counts as before.
    pub fn reason(&self) -> Option<MoveReason> {
        use ClauseStatus::{Compliant, Noncompliant, Unexamined, Unknown};
        Some(match (self.has_node, self.status) {
            (_, [None, None]) => return None,
            ([true, false], _) => MoveReason::NodeLeft,
            ([false, true], _) => MoveReason::NodeCame,
            _ if self.is_other_clause => MoveReason::MappingChanged,
            (_, [Some(_), None]) => MoveReason::NoLongerDesired,
            (_, [None, Some(_)]) => MoveReason::NewlyDesired,
            (_, [Some(before), Some(after)]) if before == after => {
                return (self.is_conceded[0] != self.is_conceded[1]).then_some(MoveReason::Concession);
            }
            _ if self.is_desired_otherwise => MoveReason::OtherwiseDesired,
            (_, [Some(Unexamined), _]) => MoveReason::FirstExamined,
            (_, [_, Some(Unknown)]) => MoveReason::BecameUnknown,
            (_, [Some(Unknown), _]) => MoveReason::KnownAgain,
            (_, [_, Some(Noncompliant)]) => MoveReason::Deviated,
            (_, [_, Some(Compliant)]) => MoveReason::PutRight,
            // What was examined once stays so, as long as the same is desired of it.
            (_, [_, Some(Unexamined)]) => MoveReason::BecameUnknown,
        })
    }
}

/// What one reason moved.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Move {
    /// The reason.
    pub reason: MoveReason,
    /// The change that altered what is desired, if it is one of these reasons; none also of those with the fewest clauses, which are
    /// put together if there are many.
    pub change: Option<i64>,
    /// Number of clauses on nodes.
    pub clauses: u64,
    /// How many more clauses are compliant by it.
    pub compliant: i64,
    /// How many more clauses there are by it.
    pub all: i64,
    /// By how much the rate moved, in hundredths of a percent. Those of all reasons add up to the difference of the two rates.
    pub basis_points: i64,
}

/// This many pairs of a reason and a change are told apart at most, those with the most clauses.
const MOST_CHANGES: usize = 200;

/// Gathers what moved, by reason and change, in the order in which reasons apply; each with the number of clauses on nodes. The
/// points of a reason are the rate recomputed after it, less the one before; they are rounded so that they add up (largest
/// remainder).
pub fn moves(before: &ClauseCounts, moved: impl IntoIterator<Item = (Moved, u64)>) -> Vec<Move> {
    let mut by_reason = ByReason::new();
    for (one, count) in moved {
        let Some(reason) = one.reason() else { continue };
        let signed = i64::try_from(count).unwrap_or(i64::MAX);
        let [was, is] = one.status.map(|status| i64::from(status == Some(ClauseStatus::Compliant)));
        let [had, has] = one.status.map(|status| i64::from(status.is_some()));
        let (clauses, compliant, all) = by_reason.entry((reason, one.change)).or_default();
        *clauses += count;
        *compliant += (is - was) * signed;
        *all += (has - had) * signed;
    }
    let by_reason = folded(by_reason, MOST_CHANGES);
    let mut compliant = i128::from(before.compliant);
    let mut all = i128::from(before.all());
    let mut exact = Vec::new();
    let mut moves = Vec::new();
    for ((reason, change), (clauses, more_compliant, more)) in by_reason {
        let rate_before = (compliant, all);
        compliant += i128::from(more_compliant);
        all += i128::from(more);
        exact.push(Share::of(compliant, all).less(Share::of(rate_before.0, rate_before.1)));
        moves.push(Move { reason, change, clauses, compliant: more_compliant, all: more, basis_points: 0 });
    }
    let total = floor_points(compliant, all) - floor_points(before.compliant.into(), before.all().into());
    for (one, points) in moves.iter_mut().zip(rounded(&exact, total)) {
        one.basis_points = points;
    }
    moves
}

/// The number of clauses on nodes by reason and change, and how many more are compliant and there are by it.
type ByReason = BTreeMap<(MoveReason, Option<i64>), (u64, i64, i64)>;

/// Puts the changes of a reason together that are not among the ones with the most clauses.
fn folded(by_reason: ByReason, most: usize) -> ByReason {
    let mut largest: Vec<_> = by_reason.into_iter().collect();
    largest.sort_by_key(|((_, change), (clauses, ..))| (change.is_some(), std::cmp::Reverse(*clauses)));
    let without_change = largest.iter().take_while(|((_, change), _)| change.is_none()).count();
    let mut folded = ByReason::new();
    for (place, ((reason, change), (clauses, compliant, all))) in largest.into_iter().enumerate() {
        let change = change.filter(|_| place < without_change + most);
        let sum = folded.entry((reason, change)).or_default();
        *sum = (sum.0 + clauses, sum.1 + compliant, sum.2 + all);
    }
    folded
}

/// A rate in millionths of a hundredth of a percent; nothing of nothing is taken as nothing.
#[derive(Debug, Clone, Copy)]
struct Share(i128);

const PER_POINT: i128 = 1_000_000;

impl Share {
    fn of(part: i128, all: i128) -> Self {
        Self(if all == 0 { 0 } else { part * 10_000 * PER_POINT / all })
    }

    fn less(self, other: Self) -> i128 {
        self.0 - other.0
    }
}

/// The rate as it is shown: rounded down.
fn floor_points(part: i128, all: i128) -> i64 {
    i64::try_from(if all == 0 { 0 } else { part * 10_000 / all }).unwrap_or(0)
}

/// Rounds so that the sum is a given one: down first, then those with the largest remainders up, as far as is needed.
fn rounded(exact: &[i128], total: i64) -> Vec<i64> {
    let mut points: Vec<i64> =
        exact.iter().map(|exact| i64::try_from(exact.div_euclid(PER_POINT)).unwrap_or(0)).collect();
    let mut largest: Vec<usize> = (0..exact.len()).collect();
    largest.sort_by_key(|at| std::cmp::Reverse(exact[*at].rem_euclid(PER_POINT)));
    let mut missing = total - points.iter().sum::<i64>();
    for at in largest.iter().cycle().take(exact.len() * 2) {
        if missing == 0 {
            break;
        }
        points[*at] += missing.signum();
        missing -= missing.signum();
    }
    points
}

#[cfg(test)]
mod tests {
    use super::ClauseStatus::{Compliant, Noncompliant, Unexamined, Unknown};
    use super::*;

    fn moved(before: Option<ClauseStatus>, after: Option<ClauseStatus>) -> Moved {
        let is_conceded = [false, false];
        Moved {
            has_node: [true, true],
            status: [before, after],
            is_conceded,
            is_desired_otherwise: false,
            is_other_clause: false,
            change: None,
        }
    }

    #[test]
    fn the_first_reason_that_applies_counts() {
        let reason = |before, after| moved(before, after).reason();
        assert_eq!(reason(Some(Compliant), Some(Compliant)), None);
        assert_eq!(reason(None, None), None);
        assert_eq!(reason(Some(Compliant), None), Some(MoveReason::NoLongerDesired));
        assert_eq!(reason(None, Some(Unexamined)), Some(MoveReason::NewlyDesired));
        assert_eq!(reason(Some(Unexamined), Some(Unknown)), Some(MoveReason::FirstExamined));
        assert_eq!(reason(Some(Noncompliant), Some(Unknown)), Some(MoveReason::BecameUnknown));
        assert_eq!(reason(Some(Unknown), Some(Noncompliant)), Some(MoveReason::KnownAgain));
        assert_eq!(reason(Some(Compliant), Some(Noncompliant)), Some(MoveReason::Deviated));
        assert_eq!(reason(Some(Noncompliant), Some(Compliant)), Some(MoveReason::PutRight));
        let conceded = Moved { is_conceded: [false, true], ..moved(Some(Noncompliant), Some(Noncompliant)) };
        assert_eq!(conceded.reason(), Some(MoveReason::Concession));
        let put_right = Moved { is_conceded: [true, false], ..moved(Some(Noncompliant), Some(Compliant)) };
        assert_eq!(put_right.reason(), Some(MoveReason::PutRight));
        let otherwise = Moved { is_desired_otherwise: true, ..moved(Some(Compliant), Some(Unexamined)) };
        assert_eq!(otherwise.reason(), Some(MoveReason::OtherwiseDesired));
        let mapped = Moved { is_other_clause: true, ..moved(Some(Compliant), None) };
        assert_eq!(mapped.reason(), Some(MoveReason::MappingChanged));
        let left = Moved { has_node: [true, false], ..moved(Some(Compliant), None) };
        assert_eq!(left.reason(), Some(MoveReason::NodeLeft));
        let came = Moved { has_node: [false, true], ..moved(None, Some(Compliant)) };
        assert_eq!(came.reason(), Some(MoveReason::NodeCame));
    }

    #[test]
    fn clauses_and_points_add_up() {
        let before = ClauseCounts { compliant: 2, noncompliant: 1, ..ClauseCounts::default() };
        let all = [
            (moved(Some(Compliant), Some(Noncompliant)), 1),
            (moved(Some(Noncompliant), Some(Compliant)), 1),
            (moved(None, Some(Unexamined)), 4),
            (moved(Some(Compliant), Some(Compliant)), 1),
        ];
        let moves = moves(&before, all);
        let by_reason: Vec<_> = moves
            .iter()
            .map(|one| (one.reason, one.clauses, one.compliant, one.all, one.basis_points))
            .collect();
        // 2 of 3, 2 of 7, 1 of 7, 2 of 7: -38.095, -14.286 and +14.286 points.
        assert_eq!(
            by_reason,
            [
                (MoveReason::NewlyDesired, 4, 0, 4, -3_809),
                (MoveReason::Deviated, 1, -1, 0, -1_429),
                (MoveReason::PutRight, 1, 1, 0, 1_429),
            ]
        );
        assert_eq!(by_reason.iter().map(|row| row.4).sum::<i64>(), 2_857 - 6_666);
    }

    #[test]
    fn changes_with_few_clauses_are_put_together() {
        let by = |reason, change| (reason, change);
        let all = ByReason::from([
            (by(MoveReason::NewlyDesired, Some(1)), (5, 0, 5)),
            (by(MoveReason::NewlyDesired, Some(2)), (1, 0, 1)),
            (by(MoveReason::NewlyDesired, Some(3)), (2, 0, 2)),
            (by(MoveReason::Deviated, None), (9, -9, 0)),
        ]);
        let expected = ByReason::from([
            (by(MoveReason::NewlyDesired, Some(1)), (5, 0, 5)),
            (by(MoveReason::NewlyDesired, None), (3, 0, 3)),
            (by(MoveReason::Deviated, None), (9, -9, 0)),
        ]);
        assert_eq!(folded(all, 1), expected);
    }

    #[test]
    fn nothing_becomes_something_and_something_nothing() {
        let came = Moved { has_node: [false, true], ..moved(None, Some(Compliant)) };
        let moves_of = |before: &ClauseCounts, one| moves(before, [(one, 5)]);
        assert_eq!(moves_of(&ClauseCounts::default(), came)[0].basis_points, 10_000);
        let before = ClauseCounts { compliant: 5, ..ClauseCounts::default() };
        let mapped = Moved { is_other_clause: true, ..moved(Some(Compliant), None) };
        assert_eq!(mapped.reason(), Some(MoveReason::MappingChanged));
        let left = Moved { has_node: [true, false], ..moved(Some(Compliant), None) };
        assert_eq!(moves_of(&before, left)[0].basis_points, -10_000);
        assert_eq!(moves(&before, []), []);
    }
}
