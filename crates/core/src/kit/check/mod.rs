//! The check of a kit: everything that can be said of it before anything runs.

mod baseline;
mod files;
mod names;
mod risks;
mod whole;

pub use baseline::resolve_sample;
pub use whole::{Checked, Kit, LOCAL_KIT, Surroundings, check, check_single};
