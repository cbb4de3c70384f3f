//! Changes of desired state, as they are listed and shown.

use constans_core::change::{DocumentEdit, Impact};
use constans_core::rollout::RolloutPlan;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// How a change is to be made.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct HowToChange {
    /// The reason for the change, at most 500 characters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
    /// Only compute the impact: nothing is handed out.
    #[serde(default)]
    pub preview: bool,
    /// Request it: another person hands it out.
    #[serde(default)]
    pub request: bool,
    /// Confirms that the change takes clauses from at most this many nodes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confirm: Option<u64>,
    /// Continue although the desired state of some nodes cannot be resolved.
    #[serde(default)]
    pub although_unusable: bool,
    /// Refuse it if a document that it edits was edited after the change with this number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(minimum = 0))]
    pub unless_changed_after: Option<u32>,
}

/// How far a change is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ChangeStatus {
    /// It waits for its turn.
    Waiting,
    /// Its nodes are being resolved.
    Preparing,
    /// Only its impact was computed.
    Previewed,
    /// It takes clauses from nodes and waits for confirmation.
    Unconfirmed,
    /// It waits for approval by another person.
    Requested,
    /// It reaches its nodes in waves, of which the last is not handed out yet.
    InWaves,
    /// It is the desired state.
    HandedOut,
    /// It reached its nodes in waves and was turned back.
    TurnedBack,
    /// It was refused.
    Refused,
    /// A person stopped it.
    Stopped,
    /// Nobody confirmed it within an hour, or the server began recovering.
    Dropped,
}

/// A change as it is listed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChangeSummary {
    /// Its number: 118 is called C118.
    pub no: i64,
    /// Its kind: `group`, `stage`, `serve`, `node`, `go_back`, `join`, `reported`, `resolver`, `wave` or `turn_back`.
    pub kind: String,
    /// What it does, in words.
    pub what: String,
    /// Who asked for it.
    pub who: String,
    /// Why, if that was given.
    pub because: Option<String>,
    /// Who confirmed it after its impact was shown.
    pub confirmed_by: Option<String>,
    /// Who approved it, of those who did not ask for it.
    pub approved_by: Option<String>,
    /// How far it is.
    pub status: ChangeStatus,
    /// When it was asked for.
    pub drafted: Timestamp,
    /// When it was handed out, or ended otherwise.
    pub ended: Option<Timestamp>,
    /// How many nodes it affects.
    pub nodes: u64,
    /// How many of them do not have it yet, those left out that a later change altered.
    pub outstanding: u64,
    /// How many clauses it takes from nodes, counted per node.
    pub takes: u64,
    /// Why it was refused or stopped, and what to do about that.
    pub refused: Option<String>,
    /// What to do.
    pub hint: Option<String>,
    /// The change that it reverts.
    pub goes_back: Option<i64>,
    /// The change whose rollout it is a part of: it hands out one of its waves, or turns it back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of_rollout: Option<i64>,
    /// Whether it reaches its nodes in waves, or did.
    #[serde(default)]
    pub has_rollout: bool,
}

/// A change whole.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChangeShown {
    /// Itself.
    pub change: ChangeSummary,
    /// The change that is worked at before it, as `C117, tor.havik: 500 of 100000 nodes`.
    pub behind: Option<String>,
    /// Its impact, once that is computed.
    pub impact: Option<Impact>,
    /// The documents that it edits.
    pub edits: Vec<ShownEdit>,
    /// The nodes that it gives something else, those that do not have it first; at most 1,000.
    pub nodes: Vec<ChangedNode>,
    /// When the last node that does not have it checks in next; none if all have it, or one is not expected.
    pub last_by: Option<Timestamp>,
    /// What asks for a second person, as `the group gates`; nothing if who asked only may not hand it out.
    #[serde(default)]
    pub asks_for_second_person: Vec<String>,
    /// How it reaches its nodes in waves, if it is to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub in_waves: Option<RolloutPlan>,
    /// From how many nodes on the number is typed by the person who confirms it.
    pub typed_from: u64,
}

/// A document before and after a change.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShownEdit {
    /// What is edited, as a person calls it: `group kiosks`, `node kiosk-auken-1`.
    pub title: String,
    /// The document before and after.
    pub edit: DocumentEdit,
    /// What is altered, line by line: `-` before what goes, `+` before what comes.
    pub difference: String,
}

/// A node that a change gives something else.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChangedNode {
    /// Its name.
    pub name: String,
    /// When it was seen to have it.
    pub has_since: Option<Timestamp>,
    /// When it checks in next; none if it never did.
    pub next_check_in: Option<Timestamp>,
    /// Whether a later change altered it since.
    pub is_later: bool,
}

/// The change that altered a node last.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChangedBy {
    /// Its number.
    pub no: i64,
    /// What it does, in words.
    pub what: String,
    /// Who asked for it.
    pub who: String,
    /// Why, if that was given.
    pub because: Option<String>,
    /// When it was handed out.
    pub at: Timestamp,
}

/// Labels that nodes get, and lose.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LabelNodes {
    /// The names of the nodes, at most 1,000.
    #[cfg_attr(feature = "schema", schema(min_items = 1, max_items = 1_000))]
    pub nodes: Vec<String>,
    /// Labels to be set, with their values.
    #[serde(default)]
    pub set: BTreeMap<String, String>,
    /// Keys of labels to be removed.
    #[serde(default)]
    pub remove: BTreeSet<String>,
    /// How.
    #[serde(flatten)]
    pub how: HowToChange,
}

/// Nodes that are retired.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RetireNodes {
    /// The names of the nodes, at most 1,000.
    #[cfg_attr(feature = "schema", schema(min_items = 1, max_items = 1_000))]
    pub nodes: Vec<String>,
    /// How.
    #[serde(flatten)]
    pub how: HowToChange,
}

/// Labels and names of nodes as a table.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EditNodeTable {
    /// CSV: the columns are `name`, perhaps `rename_to`, and labels. An empty cell leaves a label as it is, `-` takes it away; at most
    /// 10,000 nodes.
    pub table_csv: String,
    /// How.
    #[serde(flatten)]
    pub how: HowToChange,
}

/// Another name for a node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RenameNode {
    /// Its next name.
    pub to: String,
    /// How.
    #[serde(flatten)]
    pub how: HowToChange,
}

/// Why a request is denied.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct DenyChange {
    /// The reason, at most 500 characters.
    pub because: String,
}
