//! Which documents a node is resolved by: those of the fleet, with those of the rollouts that reached it.

use super::documents::Documents;
use super::resolve::DocumentResolver;
use crate::here::Here;
use crate::problem::{ApiError, read_stored};
use crate::store::change::NewChangeNode;
use crate::store::rollout;
use crate::store::wanted::NodeViewRow;
use constans_core::rollout::{Overlay, Step, documents_of, overlays_of};
use sqlx::PgConnection;
use std::collections::{BTreeMap, BTreeSet};

/// Resolves nodes, each by the documents that count for it, and stores what they come to.
pub struct Resolver {
    documents: Documents,
    overlays: Vec<Overlay>,
    step: Option<Step>,
    /// By the rollouts that reached the nodes.
    resolvers: BTreeMap<BTreeSet<i64>, DocumentResolver>,
}

impl Resolver {
    /// Reads what resolving by these documents depends on, and by those of rollouts that are under way: as they stand, or after a step.
    ///
    /// # Errors
    ///
    /// Returns why groups, kits or rollouts could not be read.
    pub async fn new(
        db: &mut PgConnection,
        here: &Here,
        documents: Documents,
        step: Option<Step>,
    ) -> Result<Self, ApiError> {
        let plain = DocumentResolver::new(&mut *db, here, &documents).await?;
        let overlays = read_overlays(db).await?;
        Ok(Self { documents, overlays, step, resolvers: BTreeMap::from([(BTreeSet::new(), plain)]) })
    }

    /// Resolves nodes and stores the states, placements and sources that are new. Returns how each is to be, in any order. After an error
    /// in this transaction, or one that is rolled back, another resolver is needed: this one assumes as stored what is not.
    ///
    /// # Errors
    ///
    /// Returns why something could not be read or stored.
    pub async fn resolve(
        &mut self,
        db: &mut PgConnection,
        here: &Here,
        nodes: Vec<NodeViewRow>,
    ) -> Result<Vec<NewChangeNode>, ApiError> {
        let mut alike: BTreeMap<BTreeSet<i64>, Vec<NodeViewRow>> = BTreeMap::new();
        for node in nodes {
            alike.entry(overlays_of(&node.memberships, self.step)).or_default().push(node);
        }
        let mut all = Vec::new();
        for (reached_by, nodes) in alike {
            if !self.resolvers.contains_key(&reached_by) {
                let documents = documents_of(&self.documents, &self.overlays, &reached_by);
                let resolver = DocumentResolver::new(&mut *db, here, &documents).await?;
                self.resolvers.insert(reached_by.clone(), resolver);
            }
            if let Some(resolver) = self.resolvers.get_mut(&reached_by) {
                all.extend(resolver.resolve(&mut *db, nodes).await?);
            }
        }
        Ok(all)
    }
}

/// Reads what rollouts that are under way make of documents.
///
/// # Errors
///
/// Returns which cannot be read.
pub async fn read_overlays(db: &mut PgConnection) -> Result<Vec<Overlay>, ApiError> {
    let read = |(rollout, edits)| {
        let edits = read_stored(|| format!("edits of C{rollout}"), edits)?;
        Ok(Overlay { rollout, edits })
    };
    rollout::overlays(db).await?.into_iter().map(read).collect()
}
