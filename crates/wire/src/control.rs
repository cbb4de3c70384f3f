//! Controls: the catalogue, how far the fleet meets it, its gaps, and machines that never joined.

use constans_core::compliance::{ClauseCounts, NodeCounts};
use constans_core::control::{Catalogue, CatalogueDifference, TimeAllowed, TimeAllowedOfRelease};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A catalogue to be set.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SetCatalogue {
    /// The catalogue, in place of the one before.
    pub catalogue: Catalogue,
    /// Whether controls keep the scopes that they have, where the new catalogue gives them none, and the times allowed stay.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub keep_scopes: bool,
    /// Why, at most 500 characters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
    /// Refuse it if the catalogue was set after this version; 0 if there was none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unless_changed_after: Option<u32>,
    /// Only return what would be other than before.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub preview: bool,
}

/// What setting a catalogue altered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CatalogueSet {
    /// The number of the version that is valid now; 0 if there is none.
    pub version: i64,
    /// What is other than before.
    pub difference: CatalogueDifference,
    /// Ids that clauses name and that the catalogue does not have.
    pub unknown: Vec<String>,
}

/// The catalogue at a moment, and how far the nodes of a filter meet it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Controls {
    /// The moment that the figures are of.
    pub as_of: Timestamp,
    /// What the server had learned by then counts.
    pub as_known_at: Timestamp,
    /// Number of nodes that were of the fleet at the moment.
    pub nodes_in_all: u64,
    /// The version of the catalogue that was valid; none if there was none.
    pub version: Option<CatalogueVersion>,
    /// The controls of the catalogue in their order, then those that only clauses name.
    pub controls: Vec<ControlFigures>,
    /// How long what is newly desired might wait until it was overdue.
    pub time_allowed_secs: TimeAllowed,
    /// The same for what single releases desire, by `KIT@VERSION`.
    pub time_allowed_of_releases_secs: BTreeMap<String, TimeAllowedOfRelease>,
    /// How the list of assets compares with the fleet now, if there is one.
    pub assets: Option<AssetSummary>,
}

/// A version of the catalogue.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CatalogueVersion {
    /// Its number.
    pub no: i64,
    /// Who set it.
    pub set_by: String,
    /// Why.
    pub because: Option<String>,
    /// Since when it is valid.
    pub from: Timestamp,
    /// Until when it was.
    pub until: Option<Timestamp>,
}

/// The catalogue that is valid now, as it is written.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ValidCatalogue {
    /// The number of its version; 0 if there is none.
    pub version: u32,
    /// Itself; empty if there is none.
    pub catalogue: Catalogue,
}

/// A control, and how far nodes meet it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ControlFigures {
    /// Its id.
    pub id: String,
    /// What it is called; none if the catalogue does not have it.
    pub title: Option<String>,
    /// What it demands.
    pub text: Option<String>,
    /// What it is a part of.
    pub parent: Option<String>,
    /// Where it comes from.
    pub source: Option<String>,
    /// Which nodes it applies to; to all if there is none.
    pub scope: Option<String>,
    /// Whether it only gathers others; it has no figures then.
    pub is_heading: bool,
    /// Number of nodes that it applies to; none if the catalogue does not have it.
    pub in_scope: Option<u64>,
    /// Number of nodes that it applies to and that have no clause that satisfies it.
    pub gaps: u64,
    /// Number of nodes that it does not apply to and that have such a clause; they are counted.
    pub beyond_scope: u64,
    /// The nodes that have such a clause. A node without deviation satisfies the control.
    pub nodes: NodeCounts,
    /// The clauses that satisfy it, on nodes.
    pub clauses: ClauseCounts,
    /// The share of these clauses that is compliant as found, in hundredths of a percent, rounded down.
    pub rate_basis_points: Option<u64>,
    /// The same of the clauses that are not conceded.
    pub rate_with_concessions_basis_points: Option<u64>,
}

/// The nodes that a control applies to and that have no clause that satisfies it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ControlGaps {
    /// The control.
    pub control: String,
    /// Which nodes it applies to; to all if there is none.
    pub scope: Option<String>,
    /// The first of them by name, at most 1,000.
    pub nodes: Vec<String>,
    /// Whether there are more.
    pub has_more: bool,
}

/// A machine that an inventory names.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Asset {
    /// Its name, as its node is called.
    pub name: String,
    /// What else the inventory says of it, by column.
    #[serde(default)]
    pub fields: BTreeMap<String, String>,
}

/// The machines of an inventory, in place of those before.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SetAssets {
    /// The machines, at most 100,000.
    pub assets: Vec<Asset>,
}

/// A machine as it is listed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AssetShown {
    /// Its name.
    pub name: String,
    /// What else the inventory says of it.
    pub fields: BTreeMap<String, String>,
    /// Whether a node of this name is of the fleet.
    pub is_enrolled: bool,
}

/// How a list of assets compares with the fleet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AssetSummary {
    /// Who set it.
    pub set_by: String,
    /// When.
    pub set: Timestamp,
    /// How many machines it names.
    pub assets: u64,
    /// How many of them are not of the fleet.
    pub never_enrolled: u64,
    /// How many nodes of the fleet it does not name.
    pub not_listed: u64,
}
