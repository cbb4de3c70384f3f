//! Preparing: what a change makes of each node is resolved and stored beside what the node has, some hundred nodes a transaction,
//! and caught up with what was edited meanwhile.

use super::documents::{nodes_of, read_documents_of};
use super::draft::under_way;
use super::resolver::Resolver;
use super::stop_at::stop_at;
use super::waves::Part;
use crate::here::Here;
use crate::problem::{ApiError, read_stored};
use crate::store::change::{self, ChangeRow, NewChangeNode};
use crate::store::job::{self, Claim, JobRow};
use crate::store::wanted::{self, NodeViewRow};
use crate::store::{fleet, notice};
use constans_core::change::{
    ClauseInState, DocumentEdit, DocumentKey, Impact, ImpactBuilder, NodeDocument, NodesBySettings,
    counted_by_when, edited, later_edits, only_nodes, restarting,
};
use serde_json::json;
use sqlx::{Connection as _, PgConnection};
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use uuid::Uuid;

/// This many nodes are prepared in a transaction.
const TOGETHER: i64 = 500;
/// When fewer were edited meanwhile, they are caught up with under the lock.
const FEW: usize = 200;
/// This many clauses are known at once while the impact is counted.
const MAX_CLAUSES: usize = 100_000;

/// Work on a change that this process claimed.
pub struct Work<'w> {
    /// What the server is.
    pub here: &'w Here,
    /// The claim.
    pub job: JobRow,
    /// The change.
    pub change: ChangeRow,
    /// Its edits.
    pub edits: Vec<DocumentEdit>,
    /// What it does of a rollout, if it is a part of one.
    pub part: Option<Part>,
}

/// Why preparing ended early.
#[derive(Debug)]
pub enum Ended {
    /// Another process works at it.
    Lost,
    /// This person stopped it.
    Stopped(String),
    /// It cannot be done as things are: what happened, and what to do.
    Refused(String, String),
    /// Something went wrong.
    Failed(ApiError),
}

impl<E: Into<ApiError>> From<E> for Ended {
    fn from(error: E) -> Self {
        Self::Failed(error.into())
    }
}

/// A change that is prepared up to its snapshot.
pub struct Prepared {
    /// What it was prepared from.
    pub base: fleet::FleetRow,
    /// Resolves by its documents.
    pub resolver: Resolver,
    /// Everything that it alters.
    pub impact: Impact,
    /// How many of the nodes joined after it was drafted.
    pub joined: u64,
}

/// Prepares a change, or goes on where it was left, until few nodes are left to be caught up with.
///
/// # Errors
///
/// Returns why that ended early.
pub async fn prepare(db: &mut PgConnection, work: &Work<'_>) -> Result<Prepared, Ended> {
    let (base, mut reached) = begin(&mut *db, work).await?;
    let documents = read_documents_of(&mut *db, &work.edits).await?;
    if let Some(later) = later_edits(&work.edits, &documents).first() {
        return Err(refused_for_later(&mut *db, later).await?);
    }
    if let Some((edit, rollout)) = under_way(&mut *db, &work.edits, work.change.of_rollout).await? {
        return Err(Ended::Refused(
            format!("{} is part of a rollout that began meanwhile: C{rollout}", edit.title()),
            format!("let it end, or turn it back: constans rollout show C{rollout}"),
        ));
    }
    let documents = edited(documents, &work.edits);
    let step = work.part.as_ref().map(|part| part.step);
    let mut prepared = Prepared {
        base,
        resolver: Resolver::new(&mut *db, work.here, documents, step).await?,
        impact: Impact::default(),
        joined: 0,
    };
    stop_at("drafted");
    let only = match &work.part {
        Some(part) => part.nodes(&mut *db).await?,
        None => only_nodes(&work.edits).map(|_| nodes_of(&work.edits)),
    };
    let total = match &only {
        Some(only) => only.len() as i64,
        None => wanted::node_count(&mut *db).await?,
    };
    let mut done = if reached.is_some() { work.job.done } else { 0 };
    loop {
        let nodes = wanted::node_views_after(&mut *db, reached, only.as_deref(), TOGETHER).await?;
        let Some(last) = nodes.last().map(|node| node.id) else { break };
        done += nodes.len() as i64;
        let mut transaction = db.begin().await?;
        prepare_nodes(&mut transaction, work, &mut prepared.resolver, nodes).await?;
        note(&mut transaction, work, Some(last), done, total.max(done)).await?;
        transaction.commit().await?;
        work.here.waker.wake(notice::ACTIVITIES);
        stop_at("preparing");
        reached = Some(last);
    }
    while catch_up(&mut *db, work, &mut prepared, FEW).await? {}
    stop_at("caught_up");
    count_impact(&mut *db, work.change.no, &mut prepared).await?;
    Ok(prepared)
}

/// Starts over, unless it was prepared from the fleet as it is now.
async fn begin(db: &mut PgConnection, work: &Work<'_>) -> Result<(fleet::FleetRow, Option<Uuid>), Ended> {
    let now = fleet::read(&mut *db).await?;
    let is_base = work.change.base_rev == Some(now.rev) && now.resolver == super::RESOLVER;
    if let (Some(reached), Some(snapshot), true) = (work.job.reached, &work.change.snapshot, is_base) {
        return Ok((fleet::FleetRow { snapshot: snapshot.clone(), ..now }, Some(reached)));
    }
    let mut transaction = db.begin().await?;
    note(&mut transaction, work, None, 0, 0).await?;
    change::begin(&mut transaction, work.change.no, now.rev, now.epoch, &now.snapshot).await?;
    transaction.commit().await?;
    Ok((now, None))
}

async fn note(
    db: &mut PgConnection,
    work: &Work<'_>,
    reached: Option<Uuid>,
    done: i64,
    total: i64,
) -> Result<(), Ended> {
    match job::note(db, &work.job, reached, done, total).await? {
        Claim::Held => Ok(()),
        Claim::Lost => Err(Ended::Lost),
        Claim::Stopped(by) => Err(Ended::Stopped(by)),
    }
}

async fn refused_for_later(db: &mut PgConnection, later: &DocumentEdit) -> sqlx::Result<Ended> {
    let list = match later.key {
        DocumentKey::Group(_) => "constans group list",
        DocumentKey::Stages | DocumentKey::Served { .. } => "constans stage list",
        DocumentKey::Node(_) => "constans node list",
    };
    let by = change::last_of_key(db, &later.key)
        .await?
        .map_or_else(|| "meanwhile".to_owned(), |(no, who)| format!("meanwhile by C{no}, {who}"));
    Ok(Ended::Refused(
        format!("{} was changed {by}", later.title()),
        format!("look at it as it is now: {list}; then try again"),
    ))
}

async fn prepare_nodes(
    db: &mut PgConnection,
    work: &Work<'_>,
    resolver: &mut Resolver,
    mut nodes: Vec<NodeViewRow>,
) -> Result<(), ApiError> {
    let retired = edit_views(&work.edits, &mut nodes)?;
    let rows = resolver.resolve(&mut *db, work.here, nodes).await?;
    let (different, same): (Vec<_>, Vec<NewChangeNode>) = rows.into_iter().partition(|row| row.is_altered);
    let same: Vec<Uuid> = same.into_iter().map(|row| row.node).chain(retired).collect();
    Ok(change::set_nodes(db, work.change.no, &different, &same).await?)
}

/// Gives nodes the names and labels that edits give them, and leaves those out that they retire. Returns these.
fn edit_views(edits: &[DocumentEdit], nodes: &mut Vec<NodeViewRow>) -> Result<Vec<Uuid>, ApiError> {
    let by_node: HashMap<Uuid, &DocumentEdit> =
        edits.iter().filter_map(|edit| Some((edit.key.node()?.parse().ok()?, edit))).collect();
    let is_retired = |id: &Uuid| by_node.get(id).is_some_and(|edit| edit.after.is_none());
    let retired = nodes.iter().map(|node| node.id).filter(is_retired).collect();
    nodes.retain(|node| !is_retired(&node.id));
    for node in nodes {
        if let Some(after) = by_node.get(&node.id).and_then(|edit| edit.after.clone()) {
            let NodeDocument { name, labels, own } = read_stored(|| format!("edit of {}", node.name), after)?;
            (node.name, node.labels, node.own) = (name, json!(labels), json!(own));
        }
    }
    Ok(retired)
}

/// Prepares the nodes that were edited by what the snapshot does not see. Returns whether there were more than `few`; fewer are
/// left as they are, with their snapshot.
async fn catch_up(
    db: &mut PgConnection,
    work: &Work<'_>,
    prepared: &mut Prepared,
    few: usize,
) -> Result<bool, Ended> {
    let next = fleet::read(&mut *db).await?.snapshot;
    let edited = wanted::edited_since(&mut *db, &prepared.base.snapshot).await?;
    if edited.len() <= few {
        return Ok(false);
    }
    for part in edited.chunks(TOGETHER as usize) {
        let mut transaction = db.begin().await?;
        prepare_these(&mut transaction, work, &mut prepared.resolver, part).await?;
        if !job::prolong(&mut *transaction, &work.job).await? {
            return Err(Ended::Lost);
        }
        transaction.commit().await?;
    }
    change::set_snapshot(&mut *db, work.change.no, &next).await?;
    prepared.base.snapshot = next;
    Ok(true)
}

/// Prepares the last nodes, in the transaction that hands out. Returns whether there were any.
///
/// # Errors
///
/// Returns why that could not be done.
pub async fn prepare_rest(
    db: &mut PgConnection,
    work: &Work<'_>,
    prepared: &mut Prepared,
) -> Result<bool, ApiError> {
    let edited = wanted::edited_since(&mut *db, &prepared.base.snapshot).await?;
    for part in edited.chunks(TOGETHER as usize) {
        prepare_these(&mut *db, work, &mut prepared.resolver, part).await?;
    }
    Ok(!edited.is_empty())
}

async fn prepare_these(
    db: &mut PgConnection,
    work: &Work<'_>,
    resolver: &mut Resolver,
    nodes: &[Uuid],
) -> Result<(), ApiError> {
    let views = wanted::node_views(&mut *db, nodes).await?;
    prepare_nodes(db, work, resolver, views).await
}

/// Counts what a prepared change alters.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn count_impact(db: &mut PgConnection, no: i64, prepared: &mut Prepared) -> Result<(), ApiError> {
    let mut builder = ImpactBuilder::default();
    let mut clauses: HashMap<i64, ClauseInState> = HashMap::new();
    let mut reached = (0, -1);
    loop {
        let transitions = change::transitions(&mut *db, no, reached).await?;
        let Some(last) = transitions.last() else { break };
        reached = (last.before_state, last.state);
        if clauses.len() > MAX_CLAUSES {
            clauses.clear();
        }
        let ids: BTreeSet<i64> =
            transitions.iter().flat_map(|one| one.before.iter().chain(&one.after)).copied().collect();
        let unknown: Vec<i64> = ids.into_iter().filter(|id| !clauses.contains_key(id)).collect();
        let read = |(id, body, address, restarts_on): (i64, String, String, Vec<String>)| {
            (
                id,
                ClauseInState {
                    body: body.into(),
                    address: address.into(),
                    restarts_on: restarts_on.into_iter().map(Arc::from).collect(),
                },
            )
        };
        clauses.extend(change::clauses(&mut *db, &unknown).await?.into_iter().map(read));
        for one in &transitions {
            let [before, after] =
                [&one.before, &one.after].map(|ids| ids.iter().copied().collect::<HashSet<i64>>());
            let of = |ids: &mut dyn Iterator<Item = &i64>| {
                ids.filter_map(|id| clauses.get(id).cloned()).collect::<Vec<_>>()
            };
            let mut kept = of(&mut after.intersection(&before));
            kept.retain(|clause| !clause.restarts_on.is_empty());
            let (removed, added) = (of(&mut before.difference(&after)), of(&mut after.difference(&before)));
            builder.add(&removed, &added, &kept, one.nodes.unsigned_abs(), &one.names);
        }
    }
    let affected = change::affected(&mut *db, no).await?;
    let impact = builder.done(affected.nodes.unsigned_abs(), affected.settings.unsigned_abs());
    prepared.joined = affected.joined.unsigned_abs();
    let now = crate::clock::now();
    let settings: Vec<_> = change::settings_of_changed(&mut *db, no)
        .await?
        .into_iter()
        .map(|row| NodesBySettings {
            settings: row.settings.0,
            nodes: row.nodes.unsigned_abs(),
            last_at: row.last_at.map(|at| at.to_jiff()),
            not_expected: row.not_expected.unsigned_abs(),
        })
        .collect();
    let let_restart = change::let_restart(&mut *db, no).await?.into_iter();
    prepared.impact = Impact {
        applied: counted_by_when(&settings, now),
        restarting: let_restart
            .map(|(node, pending, settings)| restarting(node, pending.0, &settings.0, now))
            .collect(),
        unusable: change::unusable(&mut *db, no).await?,
        not_served: change::not_served(db, no).await?,
        ..impact
    };
    Ok(())
}

/// Reads the edits of a change.
///
/// # Errors
///
/// Returns that they cannot be read.
pub fn read_edits(change: &ChangeRow) -> Result<Vec<DocumentEdit>, ApiError> {
    read_stored(|| format!("edits of C{}", change.no), change.edits.clone())
}
