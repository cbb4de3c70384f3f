//! Publishing kits, serving releases, groups.

use crate::change::HowToChange;
use constans_core::change::Impact;
use constans_core::group::GroupFinding;
use constans_core::kit::KitPage;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::cmp::Reverse;
use std::collections::BTreeMap;

/// A kit to publish: its paths with the SHA-256 of each file, sorted by path.
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
    /// The warnings of the check, as text; empty if there are none.
    pub warnings: String,
}

/// The missing contents.
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

/// The withdrawal of a release: no stage can serve it again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Withdrawn {
    /// When.
    pub at: Timestamp,
    /// Who did it.
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

/// A release with its files.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReleaseShown {
    /// The release.
    pub release: Release,
    /// Its files.
    pub files: Vec<ReleaseFile>,
    /// Its desired state in words.
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
    /// Its text, with `•` in place of concealed values; none if it is not a text or larger than 256 KiB.
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
    /// Until when; none if it still does.
    pub until: Option<Timestamp>,
    /// Who did it.
    pub by: String,
}

/// The kit whose previous release a stage is to serve.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GoBack {
    /// The kit.
    pub kit: String,
    /// How the change is to be made.
    #[serde(flatten)]
    pub how: HowToChange,
}

/// The release that a stage serves again.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WentBack {
    /// The release that was served.
    pub from: String,
    /// The release that is served again.
    pub to: String,
    /// The effect of the change.
    pub changed: Changed,
}

/// The stage whose releases another one is to serve too.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Advance {
    /// The earlier stage.
    pub from: String,
    /// Only these kits; all that it serves if there are none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub kits: Vec<String>,
    /// How the change is to be made.
    #[serde(flatten)]
    pub how: HowToChange,
}

/// Releases for a stage to serve, besides its releases of other kits.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Serve {
    /// `kit@1.0.0` each.
    pub releases: Vec<String>,
    /// Baselines of them that groups are assigned by the same change; at most 100.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub assign: Vec<AssignAlso>,
    /// How the change is to be made.
    #[serde(flatten)]
    pub how: HowToChange,
}

/// A baseline that a group is assigned by the change that serves its kit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct AssignAlso {
    /// The group.
    pub group: String,
    /// The kit.
    pub kit: String,
    /// The baseline.
    pub baseline: String,
}

/// A stage to be made, or to be moved.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PlaceStage {
    /// The stage that comes after it; none for the end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// How the change is to be made.
    #[serde(flatten)]
    pub how: HowToChange,
}

/// The next name of a stage.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RenameStage {
    /// The name.
    pub to: String,
    /// How the change is to be made.
    #[serde(flatten)]
    pub how: HowToChange,
}

/// What a stage serves.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Stage {
    /// Its name.
    pub name: String,
    /// The releases, `kit@1.0.0`.
    pub serves: Vec<String>,
    /// Whether a second person has to approve changes of what it serves.
    #[serde(default)]
    pub second_person: bool,
}

/// Whether changes of what a stage serves need a second person.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SecondPerson {
    /// Whether they do.
    pub required: bool,
    /// How the change is to be made.
    #[serde(flatten)]
    pub how: HowToChange,
}

/// The effect of a change of releases, groups or parameters.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Changed {
    /// The number of the change: 118 is called C118.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change: Option<i64>,
    /// Whether only its impact was computed, and nothing was handed out.
    #[serde(default)]
    pub previewed: bool,
    /// Whether it waits for approval by another person, and nothing was handed out.
    #[serde(default)]
    pub requested: bool,
    /// Whether it reaches its nodes in waves, of which the first is on its way.
    #[serde(default)]
    pub in_waves: bool,
    /// Its impact.
    #[serde(default)]
    pub impact: Impact,
    /// Warnings of the check of a group.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub findings: Vec<GroupFinding>,
    /// Number of nodes whose desired state changed.
    pub nodes: u64,
    /// The nodes whose state cannot be resolved, with the reason.
    pub unusable: Vec<(String, String)>,
}

impl Changed {
    /// Returns why states cannot be resolved, each reason once after the nodes that it keeps from it, as
    /// `gate-auken-1, gate-brisk-1, gate-corran-1 and 9 more: …`; the ten that most nodes have.
    pub fn reasons(&self) -> Vec<String> {
        const MAX_REASONS: usize = 10;
        const MAX_NAMES: usize = 3;
        let mut by_reason: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for (node, because) in &self.unusable {
            by_reason.entry(because).or_default().push(node);
        }
        let mut by_reason: Vec<(&str, Vec<&str>)> = by_reason.into_iter().collect();
        by_reason.sort_by_key(|(_, nodes)| Reverse(nodes.len()));
        let left_out = by_reason.len().saturating_sub(MAX_REASONS);
        let worded = |(because, nodes): &(&str, Vec<&str>)| {
            let more = nodes.len().saturating_sub(MAX_NAMES);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            format!("{}{more}: {because}", nodes[..nodes.len().min(MAX_NAMES)].join(", "))
        };
        let reasons = by_reason.iter().take(MAX_REASONS).map(worded);
        reasons.chain((left_out > 0).then(|| format!("and {left_out} more reasons"))).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reason_is_said_once_however_many_nodes_have_it() {
        let unusable = |node: String, because: &str| (node, because.to_owned());
        let gates = (1..=12).map(|at| unusable(format!("gate-auken-{at}"), "two groups disagree"));
        let changed = Changed {
            unusable: std::iter::once(unusable("depot-print-1".into(), "a parameter is missing"))
                .chain(gates)
                .collect(),
            ..Changed::default()
        };
        assert_eq!(
            changed.reasons(),
            [
                "gate-auken-1, gate-auken-2, gate-auken-3 and 9 more: two groups disagree",
                "depot-print-1: a parameter is missing"
            ]
        );
        let changed = Changed {
            unusable: (0..13).map(|at| unusable("depot-print-1".into(), &format!("reason {at}"))).collect(),
            ..Changed::default()
        };
        assert_eq!(changed.reasons().last().map(String::as_str), Some("and 3 more reasons"));
    }
}
