//! What evidence says besides its rows.

use constans_core::evidence::{Figures, Question};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A format in which the clauses are written besides CSV, which is always there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Format {
    /// One JSON document.
    Json,
    /// A page that prints well.
    Html,
    /// A spreadsheet.
    Xlsx,
    /// OSCAL assessment results with their plan.
    Oscal,
}

/// A node that was of the fleet at the moment.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodeFact {
    /// Its name.
    pub node: String,
    /// Its id.
    pub node_id: String,
    /// Its stage.
    pub stage: String,
    /// Its groups.
    pub groups: Vec<String>,
    /// The digest of its desired state.
    pub state: Option<String>,
    /// When the change was handed out that gave it this state.
    pub since: Option<Timestamp>,
    /// Number of that change.
    pub change: Option<i64>,
    /// Until when it was last examined, as far as was known.
    pub examined: Option<Timestamp>,
    /// Whether it ran again before the moment, and no report of that run ever came.
    pub has_missing_run: bool,
    /// How many clauses that examination knew at most by the metadata of their files, which were read before.
    pub known_by_metadata: u64,
    /// Why it is not counted; none if it is.
    pub left_out: Option<String>,
}

/// A concession that was in force at the moment.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ConcessionFact {
    /// Its number: 3 is called D3.
    pub no: i64,
    /// The clauses that may deviate.
    pub clauses: Vec<String>,
    /// For nodes that match this filter.
    pub filter: Option<String>,
    /// Number of nodes that it covered.
    pub nodes: u64,
    /// Number of clauses in this evidence that it covers.
    pub conceded: u64,
    /// Why.
    pub because: String,
    /// Who asked for it.
    pub asked_by: String,
    /// When.
    pub asked: Timestamp,
    /// Who approved it.
    pub approved_by: String,
    /// When.
    pub approved: Timestamp,
    /// Until when it is in force.
    pub until: Timestamp,
}

/// A node that a control applied to and that had no clause for it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GapFact {
    /// The control.
    pub control: String,
    /// The node's name.
    pub node: String,
}

/// What evidence says besides its rows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Facts {
    /// What the server is called.
    pub server: String,
    /// The program that makes it, with its version.
    pub made_by: String,
    /// Its number on this server.
    pub evidence: i64,
    /// What it answers.
    pub question: Question,
    /// Who asked for it.
    pub asked_by: String,
    /// When.
    pub asked: Timestamp,
    /// Why.
    pub because: Option<String>,
    /// When the figures were counted.
    pub made: Timestamp,
    /// The figures.
    pub figures: Figures,
    /// The concessions that were in force.
    pub concessions: Vec<ConcessionFact>,
}

impl Facts {
    /// Returns what it is called: `E3`.
    pub fn name(&self) -> String {
        format!("E{}", self.evidence)
    }
}
