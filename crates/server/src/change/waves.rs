//! Changes that reach their nodes in waves: begun in place of a hand-out, carried on wave by wave, ended with the last one, or turned back.

use super::draft::{self, Draft};
use super::prepare::{Ended, Prepared, Work};
use crate::problem::{ApiError, read_stored};
use crate::store::change::ChangeRow;
use crate::store::rollout::{self, NewRollout};
use crate::store::{audit, change, wanted};
use constans_core::change::{Confirmed, DocumentEdit};
use constans_core::rollout::{Member, RolloutPlan, Step, counts_by_wave, waves_of};
use constans_wire::rollout::PlannedWave;
use serde_json::json;
use sqlx::PgConnection;
use uuid::Uuid;

/// The kind of changes that hand out a wave.
pub const WAVE: &str = "wave";
/// The kind of changes that turn a rollout back.
pub const TURN_BACK: &str = "turn_back";

/// What a change does of a rollout.
#[derive(Debug, Clone)]
pub struct Part {
    /// The change of the rollout.
    pub rollout: i64,
    /// The step that it prepares.
    pub step: Step,
    /// The wave that it hands out; none if it turns back.
    wave: Option<i32>,
    /// The last wave that was handed out before it.
    reached: i32,
}

impl Part {
    /// Returns what a change does of a rollout, if it is a part of one.
    ///
    /// # Errors
    ///
    /// Returns that the rollout is over.
    pub async fn of(db: &mut PgConnection, change: &ChangeRow) -> Result<Option<Self>, Ended> {
        let Some(rollout) = change.of_rollout else { return Ok(None) };
        let stands = rollout::lock(&mut *db, rollout).await?.filter(|stands| stands.is_open);
        let stands = stands.ok_or_else(|| is_over(rollout))?;
        let plan: RolloutPlan = read_plan(rollout, stands.plan)?;
        let reached = stands.reached;
        let wave = (change.kind == WAVE).then_some(reached + 1);
        let step = match wave {
            Some(wave) if (wave as usize) < plan.waves.len() => Step::Wave { rollout, wave },
            _ => Step::Over { rollout },
        };
        Ok(Some(Self { rollout, step, wave, reached }))
    }

    /// Returns the nodes that it may alter; all of them if none is returned.
    ///
    /// # Errors
    ///
    /// Returns why the database does not answer.
    pub async fn nodes(&self, db: &mut PgConnection) -> sqlx::Result<Option<Vec<Uuid>>> {
        let waves = match (self.wave, self.step) {
            (Some(wave), Step::Wave { .. }) => wave..=wave,
            (Some(_), Step::Over { .. }) => return Ok(None),
            (None, _) => 1..=self.reached,
        };
        rollout::nodes_of_waves(db, self.rollout, waves).await.map(Some)
    }

    /// Notes in the transaction that hands the change out that its step is done.
    ///
    /// # Errors
    ///
    /// Returns that it is not its turn any more: the rollout is halted or over.
    pub async fn done(&self, db: &mut PgConnection, work: &Work<'_>) -> Result<(), Ended> {
        let no = self.rollout;
        match self.wave {
            Some(wave) => {
                let although_halted = work.change.confirmed_by.is_some();
                if !rollout::reach(&mut *db, no, wave, work.change.no, although_halted).await? {
                    return Err(Ended::Refused(
                        format!("the rollout C{no} was halted or ended before this wave was handed out"),
                        format!("constans rollout show C{no}"),
                    ));
                }
                if matches!(self.step, Step::Over { .. }) {
                    change::set_status(&mut *db, no, "handed_out", None).await?;
                }
            }
            None => {
                let stands = rollout::lock(&mut *db, no).await?;
                if !stands.is_some_and(|stands| stands.is_open && stands.reached == self.reached) {
                    return Err(is_over(no));
                }
                rollout::end(&mut *db, no, "turned_back", &work.change.who).await?;
                change::set_status(&mut *db, no, "turned_back", None).await?;
            }
        }
        Ok(())
    }
}

fn is_over(rollout: i64) -> Ended {
    Ended::Refused(
        format!("the rollout C{rollout} has ended, or its last wave is handed out"),
        format!("constans rollout show C{rollout}"),
    )
}

/// Reads how a rollout goes.
///
/// # Errors
///
/// Returns that it cannot be read.
pub fn read_plan(rollout: i64, plan: serde_json::Value) -> Result<RolloutPlan, ApiError> {
    read_stored(|| format!("plan of the rollout C{rollout}"), plan)
}

/// The nodes that a prepared change alters, each with its wave, and how many nodes each wave has.
struct Planned {
    nodes: Vec<(Uuid, i32)>,
    counts: Vec<u64>,
}

async fn plan_of(db: &mut PgConnection, no: i64, plan: &RolloutPlan) -> sqlx::Result<Planned> {
    let (ids, members): (Vec<Uuid>, Vec<Member>) = rollout::members(&mut *db, no, plan.within.as_deref())
        .await?
        .into_iter()
        .map(|(id, within)| (id, Member { id: id.to_string(), within }))
        .unzip();
    let waves = waves_of(no, &plan.waves, &members);
    let counts = counts_by_wave(&waves, plan.waves.len());
    let number = |wave: usize| i32::try_from(wave).unwrap_or(i32::MAX);
    Ok(Planned { nodes: ids.into_iter().zip(waves.into_iter().map(number)).collect(), counts })
}

/// This many nodes of a wave are named beforehand.
const NAMED: usize = 5;

/// Returns the waves that a prepared change would have.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn planned_waves(
    db: &mut PgConnection,
    no: i64,
    plan: &RolloutPlan,
) -> sqlx::Result<Vec<PlannedWave>> {
    let Planned { nodes, counts } = plan_of(&mut *db, no, plan).await?;
    let mut waves = Vec::with_capacity(counts.len());
    for (at, (percent, count)) in plan.waves.iter().zip(counts).enumerate() {
        let first = nodes.iter().filter(|(_, wave)| usize::try_from(*wave) == Ok(at + 1)).map(|(id, _)| *id);
        let first: Vec<Uuid> = first.take(NAMED).collect();
        let mut names: Vec<String> =
            wanted::node_views(&mut *db, &first).await?.into_iter().map(|node| node.name).collect();
        names.sort();
        waves.push(PlannedWave { percent: *percent, nodes: count, names });
    }
    Ok(waves)
}

/// Begins the rollout of a prepared change in the transaction that would hand it out, and queues its first wave. Returns false if there is
/// none: it alters no node, or is to be handed out at once.
///
/// # Errors
///
/// Returns why it could not be stored.
pub async fn begin(db: &mut PgConnection, work: &Work<'_>, prepared: &Prepared) -> Result<bool, Ended> {
    // A part of a rollout is no rollout itself.
    let Some(plan) = work.change.rollout.clone().filter(|_| work.part.is_none()) else { return Ok(false) };
    let no = work.change.no;
    let plan = read_plan(no, plan)?;
    let Planned { nodes, counts } = plan_of(&mut *db, no, &plan).await?;
    if nodes.is_empty() {
        return Ok(false);
    }
    let count = i32::try_from(plan.waves.len()).unwrap_or(i32::MAX);
    let stored = json!(plan);
    rollout::begin(&mut *db, &NewRollout { change: no, plan: &stored, waves: count, nodes: &nodes }).await?;
    // Each wave is prepared anew when its time has come.
    change::drop_nodes(&mut *db, &[no]).await?;
    change::set_impact(&mut *db, no, &json!(prepared.impact)).await?;
    change::set_status(&mut *db, no, "in_waves", None).await?;
    queue_wave(&mut *db, &work.change, 1, &plan).await?;
    let detail = json!({ "change": no, "because": work.change.because, "approved_by": work.change.approved_by, "plan": plan, "nodes": counts, "edits": work.change.edits });
    audit::add(&mut *db, &work.change.who, "began a rollout", &format!("C{no}"), &detail).await?;
    Ok(true)
}

/// Queues the change that hands out a wave.
///
/// # Errors
///
/// Returns why it could not be stored.
pub async fn queue_wave(
    db: &mut PgConnection,
    change: &ChangeRow,
    wave: i32,
    plan: &RolloutPlan,
) -> Result<i64, ApiError> {
    let is_last = wave as usize >= plan.waves.len();
    let edits: Vec<DocumentEdit> = if is_last {
        read_stored(|| format!("edits of C{}", change.no), change.edits.clone())?
    } else {
        Vec::new()
    };
    let confirmed: Option<Confirmed> = change
        .confirmed
        .clone()
        .map(|stored| read_stored(|| format!("confirmation of C{}", change.no), stored))
        .transpose()?;
    let draft = Draft {
        kind: WAVE,
        what: format!("wave {wave} of {} of C{}: {}", plan.waves.len(), change.no, change.what),
        who: &change.who,
        because: change.because.as_deref(),
        edits,
        although_unusable: change.although_unusable,
        is_preview: false,
        is_request: false,
        confirmed,
        goes_back: None,
        unless_changed_after: None,
        request_key: None,
        rollout: None,
        of_rollout: Some(change.no),
    };
    let no = draft::queue(&mut *db, &draft).await?;
    rollout::set_next(db, change.no, Some(no)).await?;
    Ok(no)
}
