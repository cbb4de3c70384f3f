//! Reading kits: documents with places, findings, and the check that runs before anything else does.

mod baseline;
mod check;
mod codes;
pub(crate) mod document;
mod files;
mod finding;
mod manifest;
mod syntax;

pub use baseline::{Baseline, COMMON, ClauseDocument, Common, Gone, Located, OnDrift, OnRollout, Severity};
pub use check::{Checked, Kit, LOCAL_KIT, check, check_single};
pub use codes::Code;
pub use document::{MAX_DOCUMENT_BYTES, Node, NodeValue};
pub use files::{KitFiles, Place};
pub use finding::{Finding, Level, explain_findings};
pub use manifest::Requirement;
