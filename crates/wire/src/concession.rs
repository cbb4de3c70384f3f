//! Concessions: permissions to deviate, as they are asked for, decided and listed.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// A concession that is asked for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewConcession {
    /// The addresses of the clauses that may deviate, or patterns of them; from 1 to 100.
    #[cfg_attr(feature = "schema", schema(min_items = 1, max_items = 100))]
    pub clauses: BTreeSet<String>,
    /// The names of the nodes that it is for, at most 1,000; none if it has a filter.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    #[cfg_attr(feature = "schema", schema(max_items = 1_000))]
    pub nodes: BTreeSet<String>,
    /// CEL over labels, about and node.name: the nodes that it is for, also those that match later.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    /// Whether it is only for the nodes that match the filter now.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub only_present_nodes: bool,
    /// Until when it is asked for, at most a year.
    pub until: Timestamp,
    /// Why, at most 500 characters.
    pub because: String,
    /// Whether it also covers clauses of which nothing is known: unexamined ones, and those of silent nodes.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub covers_unknown: bool,
    /// Only return what it would cover: nothing is stored.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub preview: bool,
}

/// The approval of a concession.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ApproveConcession {
    /// Set no freeze: the next run of a node that enforces corrects what is conceded.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub without_freeze: bool,
    /// Why, at most 500 characters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
}

/// The refusal or the end of a concession.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct CloseConcession {
    /// Why, at most 500 characters.
    pub because: String,
}

/// How far a concession is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ConcessionStatus {
    /// Another person has to approve it.
    Asked,
    /// It is in force.
    InForce,
    /// It was refused.
    Refused,
    /// It was withdrawn before it was decided.
    Withdrawn,
    /// It was ended before its time.
    Ended,
    /// Its time is over; if it was never decided, it was never in force.
    Over,
}

impl ConcessionStatus {
    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Asked => "waits for approval",
            Self::InForce => "in force",
            Self::Refused => "refused",
            Self::Withdrawn => "withdrawn",
            Self::Ended => "ended",
            Self::Over => "over",
        }
    }
}

/// What somebody decided of a concession, and when.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ConcessionAct {
    /// Who.
    pub who: String,
    /// When.
    pub at: Timestamp,
    /// Why, if it was said.
    pub because: Option<String>,
}

/// A concession with what it covers now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Concession {
    /// Its number: 3 is called D3. 0 in a preview.
    pub no: i64,
    /// How far it is.
    pub status: ConcessionStatus,
    /// The addresses of the clauses that may deviate, or patterns of them.
    pub clauses: Vec<String>,
    /// Those of them that fit no clause of a node.
    pub unknown_clauses: Vec<String>,
    /// CEL: it is for the nodes that match this, also later; none if it is for those that were listed.
    pub filter: Option<String>,
    /// The names of the nodes that it is for now, at most 1,000 of them.
    pub nodes: Vec<String>,
    /// Whether it also covers what is unexamined or unknown.
    pub covers_unknown: bool,
    /// Who asked for it, when and why.
    pub asked: ConcessionAct,
    /// Until when.
    pub until: Timestamp,
    /// Who approved or refused it; another person.
    pub decided: Option<ConcessionAct>,
    /// Who withdrew or ended it before its time.
    pub ended: Option<ConcessionAct>,
    /// The number of the freeze that keeps what it covers from being corrected, while it is in force.
    pub freeze: Option<i64>,
    /// What it covers.
    pub coverage: ConcessionCoverage,
}

/// What a concession covers, of what is desired now.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ConcessionCoverage {
    /// Number of nodes.
    pub nodes: u64,
    /// Number of clauses on these nodes that it covers.
    pub clauses: u64,
    /// How many of them are not compliant.
    pub noncompliant: u64,
    /// On how many of the nodes.
    pub nodes_noncompliant: u64,
    /// How many of the clauses that are not compliant are corrected when nothing keeps them any more: they are on nodes that
    /// enforce, and neither their own switch nor the group's says otherwise. What failed or is blocked is not among them.
    pub to_correct: u64,
}
