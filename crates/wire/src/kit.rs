//! Publishing kits, serving releases, groups.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A kit to be published: its paths with the SHA-256 of each file's contents, sorted by path.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReleaseFiles {
    /// Pairs of path and `sha256:…`.
    pub files: Vec<(String, String)>,
}

/// The contents that the server lacks.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Lacking {
    /// Their names, `sha256:…`.
    pub contents: Vec<String>,
}

/// A published release.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Release {
    /// The kit.
    pub kit: String,
    /// Its version.
    pub version: String,
    /// Over all its files.
    pub digest: String,
    /// What it is for.
    pub summary: String,
    /// Who published it.
    pub published_by: String,
    /// When.
    pub published_at: Timestamp,
}

/// Which releases a stage is to serve from now on, beside what it serves of other kits.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Serve {
    /// `kit@1.0.0` each.
    pub releases: Vec<String>,
    /// Go on although some nodes' state cannot be resolved then.
    #[serde(default)]
    pub although_unusable: bool,
}

/// What a stage serves.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Stage {
    /// Its name.
    pub name: String,
    /// The releases, `kit@1.0.0`.
    pub serves: Vec<String>,
}

/// What a change of releases, groups or parameters came to.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Changed {
    /// How many nodes are wanted to be otherwise from now on.
    pub nodes: u64,
    /// The nodes whose state cannot be resolved, with the reason.
    pub unusable: Vec<(String, String)>,
}
