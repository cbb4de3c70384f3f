//! Admission rules: made, listed, ended.

use constans_core::joining::{AdmissionRule, Placement, WaitsBecause};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// A rule to be made.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewAdmissionRule {
    /// Which machines it fits.
    #[serde(default)]
    pub rule: AdmissionRule,
    /// Its table as CSV, in place of that in `rule`: the columns are `name`, perhaps `fingerprint`, and labels.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub table_csv: Option<String>,
    /// How many machines it lets in at most; any number if it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(minimum = 1, maximum = 100_000))]
    pub at_most: Option<u32>,
    /// How long it holds, in seconds: at most 90 days.
    #[cfg_attr(feature = "schema", schema(minimum = 60, maximum = 7_776_000))]
    pub for_secs: u64,
    /// The reason.
    pub because: String,
    /// Where machines are placed that it lets in. It names no groups: those whose filters fit have them.
    #[serde(default)]
    pub placement: Placement,
    /// Only return which machines it would let in.
    #[serde(default)]
    pub preview: bool,
}

/// How far a rule is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum AdmissionStatus {
    /// It lets machines in.
    InForce,
    /// It has let in as many as it may.
    UsedUp,
    /// Its time is over.
    Over,
    /// Someone ended it.
    Ended,
    /// Who made it may no longer approve requests: it lets nobody in.
    Suspended,
}

/// A rule as it is listed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdmissionRuleShown {
    /// Its number: 3 is called A3.
    pub no: i64,
    /// Which machines it fits; its table is left out where rules are listed.
    pub rule: AdmissionRule,
    /// How many machines its table has.
    pub table_rows: u64,
    /// How many machines it lets in at most.
    pub at_most: Option<u32>,
    /// How many it has let in.
    pub let_in: u64,
    /// Where they are placed.
    pub placement: Placement,
    /// Why it was made.
    pub because: String,
    /// Who made it.
    pub made_by: String,
    /// When.
    pub made_at: Timestamp,
    /// Until when it holds.
    pub until: Timestamp,
    /// How far it is.
    pub status: AdmissionStatus,
    /// Who ended it before its time.
    pub ended_by: Option<String>,
    /// When.
    pub ended_at: Option<Timestamp>,
    /// Why it may let in more than its author thinks of.
    pub warnings: Vec<String>,
}

/// A rule with its table.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdmissionRuleWhole {
    /// The rule, with its table.
    pub rule: AdmissionRuleShown,
    /// The names of its table that it did not let in yet.
    pub expected: Vec<String>,
}

/// A machine that a rule let in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LetIn {
    /// The name by which it asked.
    pub name: String,
    /// What the node is called now; none if it is retired.
    pub node: Option<String>,
    /// The fingerprint of its key.
    pub fingerprint: String,
    /// Where it asked from.
    pub address: String,
    /// When it was let in.
    pub at: Timestamp,
}

/// A rule that was made, or would be, with what it does at once.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdmissionOutcome {
    /// The number of the rule that was made; none for a preview.
    pub no: Option<i64>,
    /// Why it may let in more than its author thinks of.
    pub warnings: Vec<String>,
    /// Waiting machines that it fits; at most 1,000.
    pub waiting: Vec<WaitingMachine>,
    /// Nodes that it would let in again after their certificates ended; at most 1,000, by name.
    pub known: Vec<String>,
}

/// A waiting machine that a rule fits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WaitingMachine {
    /// Its request.
    pub request: Uuid,
    /// The name that it claims.
    pub name: String,
    /// The fingerprint of its key.
    pub fingerprint: String,
    /// Why it waits for a person all the same; none if it is let in.
    pub waits_because: Option<WaitsBecause>,
}
