//! The record of what truly happened to the nodes of a crowd, written as it happens and independent of agent and server.

use crate::error::CrowdError;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io::{BufWriter, Write as _};
use std::path::Path;

/// One thing that happened to a node, at the crowd's time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Fact {
    /// When.
    pub at: Timestamp,
    /// The node.
    pub node: String,
    /// What.
    #[serde(flatten)]
    pub truth: Truth,
}

/// What can happen to a node.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "what", rename_all = "snake_case")]
pub enum Truth {
    /// It was approved.
    Joined,
    /// It left for good.
    Left,
    /// Someone changed what a clause keeps.
    Drifted {
        /// The clause's address.
        address: String,
    },
    /// Corrections of a clause fail from now on.
    Failing {
        /// The clause's address.
        address: String,
    },
    /// They succeed again.
    Fixed {
        /// The clause's address.
        address: String,
    },
    /// It was switched off.
    Off,
    /// It was switched on again.
    On,
    /// It cannot reach its server any more.
    Cut,
    /// It can again.
    Reaching,
    /// It ran.
    Ran {
        /// The digest of the state that it ran.
        state: String,
        /// What had been changed since the run before, or could not be put right by it.
        drifted: Vec<String>,
        /// What of it cannot be put right.
        failing: Vec<String>,
    },
}

/// The record of a crowd: in memory, and as a line of JSON for each fact in a file.
#[derive(Default)]
pub(crate) struct Record {
    pub facts: Vec<Fact>,
    file: Option<BufWriter<File>>,
}

impl Record {
    pub fn in_file(path: &Path) -> Result<Self, CrowdError> {
        let file = File::create(path)
            .map_err(|source| CrowdError::File { what: path.display().to_string(), source })?;
        Ok(Self { facts: Vec::new(), file: Some(BufWriter::new(file)) })
    }

    pub fn write(&mut self, facts: Vec<Fact>) -> Result<(), CrowdError> {
        if let Some(file) = &mut self.file {
            let failed = |source| CrowdError::File { what: "the truth".to_owned(), source };
            for fact in &facts {
                serde_json::to_writer(&mut *file, fact).map_err(|error| failed(error.into()))?;
                file.write_all(b"\n").map_err(failed)?;
            }
            file.flush().map_err(failed)?;
        }
        self.facts.extend(facts);
        Ok(())
    }
}
