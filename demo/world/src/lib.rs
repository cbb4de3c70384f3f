//! The Skerry Line world for demo and tests: its packages, and machines as private root folders.

mod packages;
mod postgres;
mod root;

pub use packages::{PACKAGES, Package, build_packages, build_repository, package};
pub use postgres::Postgres;
pub use root::{PrivateRoot, UNPRIVILEGED, is_root};

use std::path::PathBuf;

/// Returns the folder of the demo's kits.
pub fn kits() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../kits")
}
