//! The check of a kit before anything runs: everything that can be found in its documents, and its cases.

mod baseline;
mod case;
mod files;
mod names;
mod risks;
mod whole;

pub use baseline::resolve_sample;
pub use case::{Case, CaseFailure, CaseResult, read_cases, run_case};
pub use whole::{Checked, Surroundings, check, check_single};
