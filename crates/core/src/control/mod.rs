//! Controls: the entries of the organisation's own catalogue, which clauses satisfy.

mod catalogue;
mod difference;
mod oscal;

pub use catalogue::{Catalogue, CatalogueProblem, Control, MAX_CONTROLS, TimeAllowed, TimeAllowedOfRelease};
pub use difference::{CatalogueDifference, difference};
pub use oscal::{OscalError, OscalImport, from_oscal};
