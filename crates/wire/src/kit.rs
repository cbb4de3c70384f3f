//! Publishing kits, serving releases, groups.

use constans_core::kit::KitPage;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A kit to be published: its paths with the SHA-256 of each file's contents, sorted by path.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReleaseFiles {
    /// Pairs of path and `sha256:…`.
    pub files: Vec<(String, String)>,
}

/// Kits to be published together: all of them or none.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Publish {
    /// The kits, in any order.
    pub kits: Vec<ReleaseFiles>,
}

/// What was published.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Published {
    /// The releases, each after those that it requires; also those that were published before with the same contents.
    pub releases: Vec<Release>,
    /// What the check warns of, as it is read; empty if it does not.
    pub warnings: String,
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
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = PublishedRelease))]
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
    /// The kits that it requires, with SemVer requirements.
    #[serde(default)]
    pub requires: BTreeMap<String, String>,
    /// The stages that serve it now.
    #[serde(default)]
    pub served_in: Vec<String>,
    /// Whether it was withdrawn.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub withdrawn: Option<Withdrawn>,
}

/// That a release was withdrawn: nothing serves it anew.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Withdrawn {
    /// When.
    pub at: Timestamp,
    /// By whom.
    pub by: String,
    /// Why.
    pub because: String,
}

/// The reason for which a release is withdrawn.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Withdraw {
    /// Why, for people.
    pub because: String,
}

/// A release whole: what it is, and its files.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReleaseShown {
    /// The release.
    pub release: Release,
    /// Its files.
    pub files: Vec<ReleaseFile>,
    /// What it wants, as people read it who do not read documents.
    pub page: KitPage,
}

/// A file of a release.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReleaseFile {
    /// Its path below the kit's folder.
    pub path: String,
    /// The name of its contents, `sha256:…`.
    pub content: String,
    /// Its size in bytes.
    pub bytes: u64,
}

/// A file of a release to be read.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReleaseText {
    /// Its text, with `•` in place of what is concealed; none if it is no text or larger than 256 KiB.
    pub text: Option<String>,
    /// Whether something in it is concealed.
    pub concealed: bool,
}

/// One release of a kit with where it was served.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Logged {
    /// The release.
    pub release: Release,
    /// Where and when it was served, the newest first.
    pub served: Vec<ServedFor>,
}

/// A time for which a stage served a release.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServedFor {
    /// The stage.
    pub stage: String,
    /// From when.
    pub from: Timestamp,
    /// Until when; none if it does now.
    pub until: Option<Timestamp>,
    /// By whom.
    pub by: String,
}

/// The kit that a stage is to serve as before.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GoBack {
    /// The kit.
    pub kit: String,
    /// Go on although some nodes' state cannot be resolved then.
    #[serde(default)]
    pub although_unusable: bool,
}

/// Where a stage went back to.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WentBack {
    /// The release that was served.
    pub from: String,
    /// The release that is served again.
    pub to: String,
    /// What the change came to.
    pub changed: Changed,
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
