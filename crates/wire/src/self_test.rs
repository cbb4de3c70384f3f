//! Self-tests: a node is asked, fetches, compares and reports, and nothing on it is altered.

use constans_core::digest::Digest;
use constans_core::run::Verdict;
use constans_core::self_test::TestedClause;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A self-test that a node is to do, in the answer to a check-in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SelfTestOffer {
    /// Its number: 3 is called T3.
    pub no: i64,
    /// The digest of the state that is compared.
    pub digest: Digest,
}

/// What an agent reports of a self-test.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SelfTestReport {
    /// How long fetching took, in microseconds.
    pub fetched_us: u64,
    /// How long comparing took, in microseconds.
    pub compared_us: u64,
    /// What was seen of each clause.
    #[serde(default)]
    pub seen: BTreeMap<String, Verdict>,
    /// Why it was not done, if it was not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
}

/// A node is to do a self-test.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewSelfTest {
    /// The node.
    pub node: String,
}

/// A self-test of a node, step by step. What is none has not happened yet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SelfTest {
    /// Its number: 3 is called T3.
    pub no: i64,
    /// The node.
    pub node: String,
    /// By whom it was asked.
    pub who: String,
    /// When.
    pub asked_at: Timestamp,
    /// Until when it is offered to the node.
    pub ends_at: Timestamp,
    /// The server's clock.
    pub now: Timestamp,
    /// Whether the server held a request of the node, by which it was woken.
    pub was_waiting: bool,
    /// When the node checks in next by itself, as it promised.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_check_in: Option<Timestamp>,
    /// When it checked in and was offered it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offered_at: Option<Timestamp>,
    /// When it fetched the state and its content.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fetched_at: Option<Timestamp>,
    /// When it reported.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reported_at: Option<Timestamp>,
    /// What it reported.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub report: Option<SelfTestReport>,
    /// What should be seen of each clause, and what was; empty before it reported.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub clauses: Vec<TestedClause>,
    /// Whether all of it was proven.
    pub is_proven: bool,
}
