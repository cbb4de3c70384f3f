//! The kinds of things that clauses keep: one table of what each takes, claims and normalises.
//!
//! How a kind reaches the operating system is the business of `host`.

mod built_in;
mod claim;
mod custom;
mod normalise;
mod one;
mod page;
mod property;
mod row;
mod schema;
mod search;
mod table;
mod version;

pub use built_in::BuiltInKind;
pub use claim::Claim;
pub use custom::{CustomKind, CustomProperty, CustomType};
pub(crate) use normalise::absolute_path;
pub use normalise::{Refused, duration_secs, normalise};
pub use one::Kind;
pub use page::{KindPage, PropertyPage, kind_page, kinds_as_markdown};
pub use property::{Matcher, Property, Reaction, ValueType, Words};
pub use row::{KindRow, Naming};
pub use schema::{baseline_schema, case_schema, manifest_schema};
pub use search::search;
pub use table::{KINDS, UNKNOWN, find, find_among, nearest};
pub use version::{VersionOrder, VersionRequirement, VersionRequirementError};
