//! What evidence says of each clause on each node, and of each deviation.

use super::learned::Learned;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// How a clause on a node counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ClauseCountsAs {
    /// As desired at its last examination.
    Compliant,
    /// Not as desired at its last examination.
    Noncompliant,
    /// Not compliant, and covered by a concession.
    Conceded,
    /// Never examined since it is desired as it is.
    Unexamined,
    /// Not inspectable, or the node's last run was too long ago.
    Unknown,
}

impl ClauseCountsAs {
    /// Returns its word, the one of JSON.
    pub fn word(self) -> &'static str {
        match self {
            Self::Compliant => "compliant",
            Self::Noncompliant => "noncompliant",
            Self::Conceded => "conceded",
            Self::Unexamined => "unexamined",
            Self::Unknown => "unknown",
        }
    }
}

/// When a clause on a node was last examined, and by which run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Examined {
    /// Not before.
    pub from: Timestamp,
    /// Not after. Runs that found the same are kept as one span: the moment of each is known to lie within it.
    pub until: Timestamp,
    /// The run; none for one that found all as desired and is kept only as a part of its span.
    pub run: Option<String>,
    /// Whether the run was enforcing or only observing.
    pub mode: String,
    /// When the server learned it.
    pub learned: Timestamp,
}

/// Which change desired a clause on a node as it is desired.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DesiredBy {
    /// Its number: 118 is called C118.
    pub change: i64,
    /// When it was handed out.
    pub at: Timestamp,
    /// Who asked for it.
    pub who: String,
    /// The other person who approved it; none if none was needed.
    pub approved_by: Option<String>,
}

/// What was found in place of what is desired.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Found {
    /// Why it is not as desired: `drift`, `drill`, `waiting`, `overdue`, `failed`, `blocked`, `needs_person`; `unknown` if it could not be
    /// inspected.
    pub cause: String,
    /// How it was found, in words; none if the run is no longer kept.
    pub actual: Option<String>,
    /// Since when.
    pub since: Timestamp,
    /// When the server learned it.
    pub learned: Timestamp,
    /// The run that found it.
    pub run: String,
}

/// A clause on a node at the moment that evidence is of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClauseRow {
    /// The node's name.
    pub node: String,
    /// The node's id.
    pub node_id: String,
    /// The clause's address.
    pub address: String,
    /// Its severity.
    pub severity: String,
    /// The controls that it satisfies.
    pub controls: Vec<String>,
    /// The baselines that it comes from.
    pub baselines: Vec<String>,
    /// The releases that it comes from.
    pub releases: Vec<String>,
    /// How it counts.
    pub result: ClauseCountsAs,
    /// Whether it is compliant and in the window of a drift that was found later.
    pub in_doubt: bool,
    /// The concession that covers it: 3 is called D3.
    pub conceded_by: Option<i64>,
    /// What is desired, in words; concealed values are left out.
    pub desired: String,
    /// The digest of what is desired.
    pub wanted: String,
    /// What was found instead.
    pub found: Option<Found>,
    /// When it was last examined.
    pub examined: Option<Examined>,
    /// The change that desired it.
    pub desired_by: Option<DesiredBy>,
}

/// The place of a learned row in the tree of its day.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Proof {
    /// Its place, from 0.
    pub place: usize,
    /// The digests beside its way up, the lowest first, in hexadecimal digits.
    pub path: Vec<String>,
}

/// A deviation of a clause on a node, with what proves when it was learned.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DeviationRow {
    /// The node's name.
    pub node: String,
    /// The node's id.
    pub node_id: String,
    /// The clause's address.
    pub address: String,
    /// The digest of what is desired.
    pub wanted: String,
    /// Why it was not as desired; none if it could not be inspected.
    pub cause: Option<String>,
    /// Since when.
    pub since: Timestamp,
    /// When the server learned it.
    pub learned: Timestamp,
    /// The run that found it.
    pub run: String,
    /// Until when; none if it was open at the moment that evidence is of, as far as was known.
    pub until: Option<Timestamp>,
    /// When the server learned that.
    pub until_learned: Option<Timestamp>,
    /// Its place in the tree of the day on which it was learned; none if that day is not chained yet.
    pub opened: Option<Proof>,
    /// The place of its end in the tree of the day on which that was learned.
    pub closed: Option<Proof>,
}

impl DeviationRow {
    /// Returns what was learned when it was found.
    pub fn opening(&self) -> Learned<'_> {
        Learned::Opened {
            node: &self.node_id,
            address: &self.address,
            wanted: &self.wanted,
            cause: self.cause.as_deref(),
            from: self.since,
            learned: self.learned,
            run: &self.run,
        }
    }

    /// Returns what was learned when it ended.
    pub fn closing(&self) -> Option<Learned<'_>> {
        Some(Learned::Closed {
            node: &self.node_id,
            address: &self.address,
            wanted: &self.wanted,
            from: self.since,
            until: self.until?,
            learned: self.until_learned?,
        })
    }
}
