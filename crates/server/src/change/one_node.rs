//! One node with all that its desired state is resolved from: tried with other groups, or given something else, and nothing is stored.

use super::documents::{Documents, Served, read_documents, read_groups, read_served, stages_of};
use super::resolve::{own_of, resolve_only, view_of};
use super::resolver::read_overlays;
use crate::here::Here;
use crate::own_machine::of_agent;
use crate::problem::ApiError;
use crate::store::wanted::{self, NodeViewRow};
use constans_core::change::DocumentKey;
use constans_core::digest::DigestKey;
use constans_core::filter::NodeView;
use constans_core::group::{Group, NodeLayers, NodeOwn, Plan, node_layers, plan};
use constans_core::rollout::{documents_of, overlays_of};
use constans_core::state::{Clause, Excluded, Origin, Resolved, Untouchable};
use constans_wire::explained::{WouldGet, WouldGetBaseline, WouldGetClause, WouldGetExcluded};
use sqlx::PgConnection;
use std::collections::BTreeMap;
use uuid::Uuid;

/// What a node resolves to, or why it does not.
pub type Tried = Result<(Plan, Resolved), String>;

/// A node and what it is resolved from.
pub struct OneNode {
    /// All groups.
    pub groups: Vec<Group>,
    /// What it is given by itself.
    pub own: NodeOwn,
    view: NodeView,
    served: Served,
    stages: Vec<String>,
    key: DigestKey,
    untouchable: Vec<Untouchable>,
}

/// Returns the documents that a node is resolved by: those of rollouts that reached it are in their place.
async fn documents_of_node(db: &mut PgConnection, row: &NodeViewRow) -> Result<Documents, ApiError> {
    let documents = read_documents(&mut *db).await?;
    let reached_by = overlays_of(&row.memberships, None);
    if reached_by.is_empty() {
        return Ok(documents);
    }
    Ok(documents_of(&documents, &read_overlays(db).await?, &reached_by))
}

impl OneNode {
    /// Reads a node.
    ///
    /// # Errors
    ///
    /// Returns that there is none, or why documents could not be read.
    pub async fn read(db: &mut PgConnection, here: &Here, node: Uuid) -> Result<Self, ApiError> {
        let missing = || ApiError::Missing { what: "node", name: node.to_string() };
        let row = wanted::node_views(&mut *db, &[node]).await?.pop().ok_or_else(missing)?;
        let own =
            own_of(&row).map_err(|because| ApiError::stored("what a node is given".to_owned(), &because))?;
        let untouchable = if row.hosts_server { here.machine.untouchable.clone() } else { vec![of_agent()] };
        let documents = documents_of_node(&mut *db, &row).await?;
        Self::of(db, here, view_of(&row), own, untouchable, &documents).await
    }

    /// Reads what a node that need not be there would be resolved from. It reports about itself what another one does, or nothing.
    ///
    /// # Errors
    ///
    /// Returns why documents could not be read.
    pub async fn would_be(
        db: &mut PgConnection,
        here: &Here,
        name: String,
        labels: BTreeMap<String, String>,
        like: Option<Uuid>,
    ) -> Result<Self, ApiError> {
        let other = match like {
            Some(like) => wanted::node_views(&mut *db, &[like]).await?.pop(),
            None => None,
        };
        let about = other.map(|row| view_of(&row).about).unwrap_or_default();
        let documents = read_documents(&mut *db).await?;
        let view = NodeView { name, labels, about };
        Self::of(db, here, view, NodeOwn::default(), vec![of_agent()], &documents).await
    }

    async fn of(
        db: &mut PgConnection,
        here: &Here,
        view: NodeView,
        own: NodeOwn,
        untouchable: Vec<Untouchable>,
        documents: &Documents,
    ) -> Result<Self, ApiError> {
        let served = read_served(&mut *db, here, documents).await?;
        let stages = stages_of(documents.get(&DocumentKey::Stages));
        Ok(Self {
            groups: all_groups(documents)?,
            own,
            view,
            served,
            stages,
            key: here.key.clone(),
            untouchable,
        })
    }

    /// Returns all layers of its settings and parameters. It needs a deep stack.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be resolved.
    pub fn layers(&self) -> Result<NodeLayers, String> {
        let (plan, resolved) = self.by(&self.groups)?;
        let defaults = resolved.parameters.keys().filter_map(|name| {
            let (baseline, parameter) = name.rsplit_once('.')?;
            let (kit, baseline) = baseline.split_once('/')?;
            let version = self.served.versions.get(&plan.stage)?.get(kit)?;
            let kit = self.served.kits.get(&(kit.to_owned(), version.clone()))?;
            let declared = &kit.baseline(baseline)?.parameters;
            let declared = declared.iter().find(|declared| declared.name.value == parameter)?;
            Some((name.clone(), declared.default.as_ref()?.value.clone()))
        });
        let defaults = defaults.collect();
        Ok(node_layers(&plan, &self.groups, &self.own, &resolved.parameters, &defaults))
    }

    /// Returns what it would get. It needs a deep stack.
    pub fn would_get(&self) -> WouldGet {
        let plan = match plan(&self.view, &self.own, &self.groups, &self.stages) {
            Ok(plan) => plan,
            Err(error) => return WouldGet { unusable: Some(error.to_string()), ..planned(&Plan::default()) },
        };
        let none = BTreeMap::new();
        let versions = self.served.versions.get(&plan.stage).unwrap_or(&none);
        let baselines = plan.assignments.iter().map(|assigned| WouldGetBaseline {
            baseline: format!("{}/{}", assigned.kit, assigned.baseline),
            version: versions.get(&assigned.kit).cloned(),
        });
        let planned = WouldGet { baselines: baselines.collect(), ..planned(&plan) };
        match self.by(&self.groups) {
            Err(because) => WouldGet { unusable: Some(because), ..planned },
            Ok((_, resolved)) => WouldGet {
                parameters: resolved.parameters,
                clauses: resolved.state.clauses.iter().map(shown).collect(),
                excluded: resolved.excluded.iter().map(shown_excluded).collect(),
                ..planned
            },
        }
    }

    /// Returns what it resolves to by these groups. It needs a deep stack.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be resolved.
    pub fn by(&self, groups: &[Group]) -> Tried {
        self.given(&self.own, groups)
    }

    /// Returns what it resolves to if it is given this by itself. It needs a deep stack.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be resolved.
    pub fn given(&self, own: &NodeOwn, groups: &[Group]) -> Tried {
        resolve_only(&self.served, &self.key, &self.view, own, groups, &self.stages, &self.untouchable)
    }
}

fn planned(plan: &Plan) -> WouldGet {
    WouldGet {
        stage: plan.stage.clone(),
        groups: plan.groups.clone(),
        undecidable: plan.undecidable.clone(),
        baselines: Vec::new(),
        settings: plan.settings.described(),
        parameters: BTreeMap::new(),
        clauses: Vec::new(),
        excluded: Vec::new(),
        unusable: None,
    }
}

fn shown(clause: &Clause) -> WouldGetClause {
    let from = |origin: &Origin| format!("{}@{}/{}", origin.kit, origin.version, origin.baseline);
    WouldGetClause { address: clause.address.to_string(), from: clause.origins.iter().map(from).collect() }
}

fn shown_excluded(excluded: &Excluded) -> WouldGetExcluded {
    WouldGetExcluded { address: excluded.address.to_string(), condition: excluded.condition.clone() }
}

fn all_groups(documents: &Documents) -> Result<Vec<Group>, ApiError> {
    read_groups(
        documents
            .iter()
            .filter(|(key, _)| matches!(key, DocumentKey::Group(_)))
            .map(|(_, body)| body.clone())
            .collect(),
    )
}
