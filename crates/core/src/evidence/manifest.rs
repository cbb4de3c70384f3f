//! What a file of evidence says of itself; this is what is signed.

use super::chain::DayLink;
use super::tally::Tallied;
use jiff::Timestamp;
use ring::digest::{Context, SHA256};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::io::{self, Read};

/// The name of the file with the [`Manifest`].
pub const MANIFEST: &str = "manifest.json";
/// The name of the file with its signature.
pub const SIGNATURE: &str = "signature.txt";

/// What evidence answers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Question {
    /// Which nodes: CEL over labels, about and node as they were when it was asked; all if there is none.
    pub filter: Option<String>,
    /// Only clauses that satisfy one of these controls; all clauses if there is none.
    pub controls: Vec<String>,
    /// The moment that the figures are of.
    pub as_of: Timestamp,
    /// What the server had learned by then counts.
    pub as_known_at: Timestamp,
    /// Deviations that were open at any time from here to that moment are listed too; only those of the moment if there is none.
    pub since: Option<Timestamp>,
}

/// The figures of one control.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ControlSummary {
    /// Its id.
    pub id: String,
    /// What it is called; none if the catalogue does not have it.
    pub title: Option<String>,
    /// What it demands.
    pub text: Option<String>,
    /// Which nodes it applies to; to all if there is none.
    pub scope: Option<String>,
    /// Number of nodes that it applies to; none if the catalogue does not have it.
    pub in_scope: Option<u64>,
    /// Number of nodes that it applies to and that have no clause for it.
    pub gaps: u64,
    /// Number of nodes that have a clause for it and that it does not apply to; they are counted.
    pub beyond_scope: u64,
    /// The clauses for it, and the nodes that have them.
    pub counted: Tallied,
}

/// Nodes that are not counted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LeftOut {
    /// Why.
    pub because: String,
    /// How many.
    pub nodes: u64,
}

/// The figures that the rows of evidence add up to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Figures {
    /// Number of nodes that were of the fleet at the moment and match the filter.
    pub nodes_in_all: u64,
    /// The clauses, and the nodes that have them.
    pub counted: Tallied,
    /// The share of the clauses that is compliant as found, in hundredths of a percent, rounded down; none of nothing.
    pub rate_basis_points: Option<u64>,
    /// The same of the clauses that are not conceded.
    pub rate_with_concessions_basis_points: Option<u64>,
    /// Clauses that are not compliant, by cause.
    pub by_cause: BTreeMap<String, u64>,
    /// By control, in the order of the catalogue.
    pub by_control: Vec<ControlSummary>,
    /// Nodes that are not counted, and why.
    pub left_out: Vec<LeftOut>,
    /// The version of the catalogue that was valid at the moment; none if there was none.
    pub catalogue: Option<i64>,
}

/// A file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FileEntry {
    /// Its name.
    pub name: String,
    /// What is in it.
    pub what: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// Its SHA-256 in hexadecimal digits.
    pub sha256: String,
}

/// What a file of evidence says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Manifest {
    /// The version of this form.
    pub format: u32,
    /// What the server is called.
    pub server: String,
    /// The program that made it, with its version.
    pub made_by: String,
    /// Its number on this server: 3 is called E3.
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
    /// The last day of the chain when it was made.
    pub last_day: Option<DayLink>,
    /// The id of the key that signed it.
    pub key: String,
    /// All other files.
    pub files: Vec<FileEntry>,
}

/// Returns the size in bytes and the SHA-256 in hexadecimal digits of what is read.
///
/// # Errors
///
/// Returns why it cannot be read.
pub fn file_digest(mut file: impl Read) -> io::Result<(u64, String)> {
    let (mut context, mut bytes, mut buffer) = (Context::new(&SHA256), 0, vec![0; 64 * 1024]);
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok((bytes, super::hex(context.finish().as_ref()))),
            read => {
                context.update(&buffer[..read]);
                bytes += read as u64;
            }
        }
    }
}
