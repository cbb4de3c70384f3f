//! By which documents a node is resolved while rollouts are under way: the documents as they are, with those of the rollouts that
//! reached it.

use crate::change::{DocumentEdit, DocumentKey, edited};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// What a rollout that is not over makes of documents, on the nodes that it reached.
#[derive(Debug, Clone, PartialEq)]
pub struct Overlay {
    /// The number of the rollout's change.
    pub rollout: i64,
    /// Its edits.
    pub edits: Vec<DocumentEdit>,
}

/// That a node belongs to a wave of a rollout that is not over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Membership {
    /// The number of the rollout's change.
    pub rollout: i64,
    /// The wave of the node, from 1 on.
    pub wave: i32,
    /// The last wave that was handed out; 0 before the first.
    pub reached: i32,
}

/// A step of a rollout, as a change prepares it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step {
    /// This wave is handed out, and others follow.
    Wave {
        /// The number of the rollout's change.
        rollout: i64,
        /// The wave.
        wave: i32,
    },
    /// It is over: its last wave is handed out and its documents are those of all nodes, or it is turned back.
    Over {
        /// The number of the rollout's change.
        rollout: i64,
    },
}

/// Returns which rollouts reach a node of these memberships, after a step if one is given.
pub fn overlays_of(memberships: &[Membership], step: Option<Step>) -> BTreeSet<i64> {
    let reaches = |of: &&Membership| match step {
        Some(Step::Over { rollout }) if rollout == of.rollout => false,
        Some(Step::Wave { rollout, wave }) if rollout == of.rollout => of.wave <= wave.max(of.reached),
        _ => of.wave <= of.reached,
    };
    memberships.iter().filter(reaches).map(|of| of.rollout).collect()
}

/// Returns the documents by which nodes are resolved that these rollouts reached.
#[must_use]
pub fn documents_of(
    documents: &BTreeMap<DocumentKey, Value>,
    overlays: &[Overlay],
    reached_by: &BTreeSet<i64>,
) -> BTreeMap<DocumentKey, Value> {
    let reaching = overlays.iter().filter(|overlay| reached_by.contains(&overlay.rollout));
    reaching.fold(documents.clone(), |documents, overlay| edited(documents, &overlay.edits))
}

/// Returns the first of the edits whose document a rollout has under way, with that rollout: until it is over, nothing else edits it.
pub fn overlapping<'e>(edits: &'e [DocumentEdit], overlays: &[Overlay]) -> Option<(&'e DocumentEdit, i64)> {
    edits.iter().find_map(|edit| {
        let has_it = |overlay: &&Overlay| overlay.edits.iter().any(|other| other.key == edit.key);
        overlays.iter().find(has_it).map(|overlay| (edit, overlay.rollout))
    })
}
