//! Who is let into a fleet: what admission rules let in by themselves, and where new nodes are placed.

mod rule;
mod table;

pub use rule::{AdmissionRule, Applicant, MAX_EXPECTED, Standing, WaitsBecause, is_like, read_key};
pub use table::{ExpectedMachine, read_table};

use crate::group::{Assignment, NodeOwn};
use crate::run::Mode;
use crate::settings::GroupSettings;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Where a machine is placed when it becomes a node.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Placement {
    /// Its labels, over those of its invitation.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
    /// Groups that name it as their member.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
    /// Its own mode, over that of its groups.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<Mode>,
    /// Baselines that it is assigned by itself, after those of its groups.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub assignments: Vec<Assignment>,
}

impl Placement {
    /// Returns what the node is given by itself.
    pub fn own(&self) -> NodeOwn {
        NodeOwn {
            assignments: self.assignments.clone(),
            settings: GroupSettings { mode: self.mode, ..GroupSettings::default() },
            ..NodeOwn::default()
        }
    }

    /// Returns the labels that the node has: those of its invitation, under its own.
    pub fn labels_over(&self, invited: &BTreeMap<String, String>) -> BTreeMap<String, String> {
        let mut labels = invited.clone();
        labels.extend(self.labels.clone());
        labels
    }
}
