//! Inspections: a node is asked what is there, and tells it as the clauses that would keep it so. Nothing on it is altered.

use constans_core::kit::WrittenClause;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A node tells this many things at most.
pub const MAX_THINGS: usize = 200;
/// What a node tells takes this many bytes of JSON at most.
pub const MAX_TOLD: usize = 256 * 1024;

/// What a node is to tell, in the answer to a check-in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InspectionOffer {
    /// The number of the inspection: 3 is called I3.
    pub no: i64,
    /// The kind of the thing.
    pub kind: String,
    /// Its name; all of the kind without one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

/// What an agent tells.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InspectionReport {
    /// What is there, as the clauses that would keep it so.
    #[serde(default)]
    pub things: Vec<WrittenClause>,
    /// How many more there are that are not told, since it would be too much.
    #[serde(default)]
    pub left_out: u64,
    /// Why it could not be told, if it could not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
}

impl InspectionReport {
    /// Returns as much of these things as is told.
    pub fn of(mut things: Vec<WrittenClause>) -> Self {
        let all = things.len();
        let mut bytes = 0;
        let fitting = things.iter().take(MAX_THINGS).take_while(|thing| {
            bytes += serde_json::to_vec(thing).map_or(MAX_TOLD, |json| json.len());
            bytes <= MAX_TOLD
        });
        things.truncate(fitting.count());
        Self { left_out: (all - things.len()) as u64, things, failed: None }
    }

    /// Returns the things as the text of clauses.
    pub fn text(&self) -> String {
        self.things.iter().map(WrittenClause::toml).collect::<Vec<_>>().join("\n")
    }
}

/// What a node is to be asked.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewInspection {
    /// The node.
    pub node: String,
    /// The kind of the thing, as `file`.
    pub kind: String,
    /// Its name, as `/etc/issue`; all of the kind without one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The reason, at most 500 characters, kept in the audit trail.
    pub because: String,
}

/// An inspection of a node, and what it told.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Inspection {
    /// What was asked, by its number.
    #[serde(flatten)]
    pub asked: InspectionOffer,
    /// The node.
    pub node: String,
    /// By whom it was asked.
    pub who: String,
    /// Why.
    pub because: String,
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
    /// When it told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub told_at: Option<Timestamp>,
    /// What it told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub report: Option<InspectionReport>,
    /// The things that it told, as the text of clauses.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn thing(number: usize, text: &str) -> WrittenClause {
        let thing =
            json!({ "what": format!("file:/srv/{number}"), "properties": { "text": text }, "remarks": [] });
        serde_json::from_value(thing).unwrap()
    }

    #[test]
    fn only_so_much_is_told_and_what_is_left_out_is_counted() {
        let told = |things| {
            let report = InspectionReport::of(things);
            (report.things.len(), report.left_out)
        };
        assert_eq!(told((0..300).map(|number| thing(number, "tide")).collect()), (200, 100));
        assert_eq!(told(vec![thing(1, "tide"), thing(2, &"x".repeat(MAX_TOLD)), thing(3, "tide")]), (1, 2));
        assert_eq!(told(Vec::new()), (0, 0));
    }
}
