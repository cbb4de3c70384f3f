//! Files of evidence: writing them in several formats, and verifying them without a server.

mod error;
mod facts;
mod html;
mod json;
mod oscal;
mod package;
mod read;
mod tables;
mod verify;
mod xlsx;

pub use error::EvidenceError;
pub use facts::{ConcessionFact, Facts, Format, GapFact, NodeFact};
pub use package::{Contents, Signer};
pub use verify::{Addition, Check, Verified, additions, verify};
