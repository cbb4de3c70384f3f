//! What clauses of documents came to on nodes so far, for nodes of which the same is inputs and that say the same.

use super::instantiate::Instantiated;
use crate::filter::{NodeInputs, NodeView};
use serde_json::Value;
use std::sync::{Arc, Mutex, PoisonError};

/// So much is kept of one clause: where what is inputs for differs from node to node, nothing is gained by more.
const MAX_KEPT: usize = 16;
/// Larger contents are made again, unless they are the same on every node.
const MAX_KEPT_BYTES: usize = 16 * 1024;

/// What one clause of a document came to.
#[derive(Debug, Default)]
pub(super) struct Made(Mutex<Cache>);

#[derive(Debug, Default)]
struct Cache {
    all: Vec<CacheEntry>,
    /// The one that gives way to the next when there are too many.
    oldest: usize,
}

#[derive(Debug)]
struct CacheEntry {
    /// The number of the values of the baseline's parameters; none of what is the same whatever they are.
    params: Option<usize>,
    inputs: NodeInputs,
    values: String,
    drafts: Arc<Vec<Instantiated>>,
}

impl Made {
    /// Returns what it came to with these parameters for a node that says the same, and what was inputs for it.
    pub(super) fn find(
        &self,
        params: Option<usize>,
        view: &NodeView,
    ) -> Option<(Arc<Vec<Instantiated>>, NodeInputs)> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut values: Option<(&NodeInputs, String)> = None;
        kept.all.iter().filter(|one| one.params.is_none() || one.params == params).find_map(|one| {
            let (_, values) = match &mut values {
                Some(known) if *known.0 == one.inputs => known,
                other => other.insert((&one.inputs, one.inputs.values_of(view))),
            };
            (*values == one.values).then(|| (one.drafts.clone(), one.inputs.clone()))
        })
    }

    /// Keeps what it came to; without parameters, what it comes to everywhere. What asks for the node's name is of no use to
    /// another node, and what is concealed is not kept.
    pub(super) fn keep(
        &self,
        params: Option<usize>,
        inputs: NodeInputs,
        view: &NodeView,
        drafts: Arc<Vec<Instantiated>>,
    ) {
        let size = |draft: &Instantiated| draft.contents.iter().map(|(_, bytes)| bytes.len()).sum::<usize>();
        let is_kept = |draft: &Instantiated| {
            draft.clause.concealed.is_empty() && (params.is_none() || size(draft) <= MAX_KEPT_BYTES)
        };
        if inputs.name || !drafts.iter().all(is_kept) {
            return;
        }
        let one = CacheEntry { params, values: inputs.values_of(view), inputs, drafts };
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let is_same = |known: &CacheEntry| {
            known.params == one.params && known.inputs == one.inputs && known.values == one.values
        };
        if kept.all.iter().any(is_same) {
            // Another thread was quicker.
        } else if kept.all.len() < MAX_KEPT {
            kept.all.push(one);
        } else {
            let oldest = kept.oldest;
            kept.all[oldest] = one;
            kept.oldest = (oldest + 1) % MAX_KEPT;
        }
    }
}

/// The values that a baseline's parameters had so far.
#[derive(Debug, Default)]
pub(super) struct KnownParams(Mutex<Vec<Value>>);

impl KnownParams {
    /// Returns by which number these values are known; none if there are too many to know them all.
    pub(super) fn number(&self, params: &Value) -> Option<usize> {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(at) = known.iter().position(|one| one == params) {
            return Some(at);
        }
        (known.len() < MAX_KEPT).then(|| {
            known.push(params.clone());
            known.len() - 1
        })
    }
}
