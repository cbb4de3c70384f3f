//! What a sweep would do on each node, by what is known of it now.

use crate::problem::{ApiError, read_stored};
use crate::store::freeze;
use crate::store::sweep::{self, TargetRow};
use constans_core::run::{Freeze, Mode, RunSettings};
use constans_core::settings::AgentSettings;
use constans_core::sweep::{NodePreview, PreviewedClause, Refused, SweepOrder, preview_of};
use constans_wire::sweep::{PlannedNode, SweepPlan};
use jiff::Timestamp;
use sqlx::PgPool;
use std::cmp::Reverse;
use std::collections::{BTreeMap, HashMap};
use uuid::Uuid;

/// The last runs of so many nodes are looked into.
const MAX_LOOKED_INTO: usize = 2_000;
/// So many nodes are told one by one.
const MAX_TOLD: usize = 1_000;

/// The statuses of nodes on which the last run left nothing.
const IN_LINE: [&str; 3] = ["in_line", "drift_corrected", "rolled_out"];

/// A node that a sweep is for.
pub struct PlannedTarget {
    /// The node.
    pub id: Uuid,
    /// Why it does nothing of it, if that is known already.
    pub refused: Option<Refused>,
}

/// What a sweep would do.
pub struct Planned {
    /// Its nodes, by name.
    pub targets: Vec<PlannedTarget>,
    /// As it is told.
    pub plan: SweepPlan,
}

/// Plans a sweep over nodes that begins at a moment. `to_correct` says on how many clauses of each exactly what was observed is corrected, if that is asked for.
///
/// # Errors
///
/// Returns why what is known of the nodes cannot be read.
pub async fn plan(
    db: &PgPool,
    order: &SweepOrder,
    nodes: &[Uuid],
    to_correct: Option<&HashMap<Uuid, u64>>,
    now: Timestamp,
) -> Result<Planned, ApiError> {
    let rows = sweep::targets(db, nodes).await?;
    let ids: Vec<Uuid> = rows.iter().map(|row| row.id).collect();
    let in_force = freeze::in_force(db, &ids).await?;
    let found = if to_correct.is_some() { HashMap::new() } else { last_found(db, &rows).await? };
    let mut told = Vec::with_capacity(rows.len());
    let mut targets = Vec::with_capacity(rows.len());
    let mut plan = SweepPlan {
        what: order.words(),
        nodes: rows.len() as u64,
        asked: 0,
        can_be_woken: 0,
        silent: 0,
        correct: 0,
        correct_on: 0,
        left_on: BTreeMap::new(),
        opens: None,
        each: Vec::new(),
    };
    for row in rows {
        let settings: AgentSettings =
            read_stored(|| format!("settings of {}", row.name), row.settings.clone())?;
        let freezes = in_force.iter().filter(|freeze| freeze.is_for(row.id)).map(|freeze| Freeze {
            no: freeze.no,
            until: freeze.until_at.to_jiff(),
            because: freeze.because.clone(),
            clauses: freeze.clauses.iter().cloned().collect(),
        });
        let of_run =
            RunSettings { freezes: freezes.collect(), ..settings.for_run(&settings.time_zone(), now) };
        let refused = refused(order, &row, &of_run, now);
        let preview = match to_correct {
            Some(to_correct) => to_correct
                .get(&row.id)
                .map(|correct| NodePreview { correct: *correct, ..NodePreview::default() }),
            None if row.full_status.as_deref().is_some_and(|status| IN_LINE.contains(&status)) => {
                Some(NodePreview::default())
            }
            None => found.get(&row.id).map(|found| preview_of(order, found)),
        };
        let opens = opens(order, &of_run, now);
        let node = PlannedNode {
            mode_from: (refused == Some(Refused::Observing)).then(|| mode_from(&settings)).flatten(),
            refused: refused.as_ref().map(Refused::words),
            preview,
            as_of: row.full_learned.map(|at| at.to_jiff()).filter(|_| to_correct.is_none()),
            opens,
            is_silent: row.is_silent,
            name: row.name,
        };
        count(&mut plan, &node, row.can_be_woken);
        targets.push(PlannedTarget { id: row.id, refused });
        told.push(node);
    }
    told.sort_by_key(|node| {
        let correct = node.preview.as_ref().map_or(0, |preview| preview.correct);
        (node.refused.is_none(), node.opens.is_none(), Reverse(correct))
    });
    told.truncate(MAX_TOLD);
    plan.each = told;
    Ok(Planned { targets, plan })
}

fn count(plan: &mut SweepPlan, node: &PlannedNode, can_be_woken: bool) {
    if node.refused.is_some() {
        return;
    }
    plan.asked += 1;
    plan.can_be_woken += u64::from(can_be_woken);
    plan.silent += u64::from(node.is_silent);
    plan.opens = plan.opens.max(node.opens);
    if node.opens.is_some() {
        *plan.left_on.entry("window".to_owned()).or_default() += 1;
    }
    let Some(preview) = &node.preview else { return };
    plan.correct += preview.correct;
    plan.correct_on += u64::from(preview.correct > 0);
    for why in preview.leave.keys().filter(|why| *why != "window") {
        *plan.left_on.entry(why.clone()).or_default() += 1;
    }
}

fn refused(order: &SweepOrder, row: &TargetRow, of_run: &RunSettings, now: Timestamp) -> Option<Refused> {
    if row.is_revoked {
        return Some(Refused::Revoked);
    }
    if row.has_duplicate_identity {
        return Some(Refused::DuplicateIdentity);
    }
    if !row.has_state {
        return Some(Refused::NoState);
    }
    order.refused_by(of_run, now)
}

/// Returns when the change window of a node opens, if it is closed and the order does not open it.
fn opens(order: &SweepOrder, of_run: &RunSettings, now: Timestamp) -> Option<Timestamp> {
    if order.mode == Mode::Observe || order.now {
        return None;
    }
    of_run.window.as_ref().map(|window| window.opens).filter(|opens| *opens > now)
}

/// Returns who set the mode of a node.
fn mode_from(settings: &AgentSettings) -> Option<String> {
    settings.described().into_iter().find(|setting| setting.word == "mode").map(|setting| setting.from)
}

/// Returns what the last runs of nodes did not find as wanted, as far as these are kept.
async fn last_found(
    db: &PgPool,
    rows: &[TargetRow],
) -> Result<HashMap<Uuid, Vec<PreviewedClause>>, ApiError> {
    let is_out =
        |row: &&TargetRow| row.full_status.as_deref().is_some_and(|status| !IN_LINE.contains(&status));
    let runs = rows.iter().filter(is_out).filter_map(|row| Some((row.id, row.full_run?)));
    let runs: Vec<(Uuid, Uuid)> = runs.take(MAX_LOOKED_INTO).collect();
    let found = sweep::out_of_line(db, &runs).await?.into_iter();
    found.map(|(node, clauses)| Ok((node, read_stored(|| format!("run of {node}"), clauses)?))).collect()
}
