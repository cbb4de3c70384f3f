//! Rollouts, their waves and nodes as they are told.

use crate::change::waves::read_plan;
use crate::problem::{ApiError, read_stored};
use crate::store::rollout::{self as stored, NodeRow, RolloutRow};
use constans_core::rollout::WaveFigures;
use constans_wire::rollout::{
    BadClause, BadWithin, Rollout, RolloutHalted, RolloutNode, RolloutNodeState, RolloutSummary, RolloutWave,
};
use jiff::SignedDuration;
use serde_json::Value;
use sqlx::PgConnection;
use std::collections::HashMap;

/// How many nodes of each wave are how.
pub type Figures = HashMap<i32, HashMap<String, u64>>;

/// Counts how many nodes of each wave of a rollout are how.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn figures(db: &mut PgConnection, no: i64) -> sqlx::Result<Figures> {
    let mut all = Figures::new();
    for (wave, state, nodes) in stored::figures(db, no).await? {
        all.entry(wave).or_default().insert(state, nodes.unsigned_abs());
    }
    Ok(all)
}

/// Returns the figures of one wave.
pub fn wave_figures(all: &Figures, wave: i32) -> WaveFigures {
    let of = |state: &str| all.get(&wave).and_then(|by_state| by_state.get(state)).copied().unwrap_or(0);
    let [failed, unusable, not_heard, untried] = ["failed", "unusable", "not_heard", "untried"].map(of);
    let finished = failed + untried + of("finished");
    let received = finished + unusable + not_heard + of("received");
    let silent = of("silent");
    WaveFigures {
        nodes: received + silent + of("pending") + of("waiting"),
        silent,
        received,
        finished,
        untried,
        failed,
        unusable,
        not_heard,
    }
}

/// Returns a rollout as it is listed.
///
/// # Errors
///
/// Returns that it cannot be read.
pub fn summary(row: RolloutRow) -> Result<RolloutSummary, ApiError> {
    let halted = row.halted_because.zip(row.halted_by).zip(row.halted_at);
    Ok(RolloutSummary {
        no: row.no,
        what: row.what,
        who: row.who,
        because: row.because,
        approved_by: row.approved_by,
        plan: read_plan(row.no, row.plan)?,
        status: read_stored(|| format!("status of the rollout C{}", row.no), row.status.into())?,
        began_at: row.began_at.to_jiff(),
        reached: row.reached.unsigned_abs(),
        next_change: row.next_change,
        halted: halted.map(|((because, who), at)| RolloutHalted { because, who, at: at.to_jiff() }),
        ended_at: row.ended_at.map(|at| at.to_jiff()),
        ended_by: row.ended_by,
    })
}

/// Returns a rollout with its waves and what failed.
///
/// # Errors
///
/// Returns why the database does not answer, or that it cannot be read.
pub async fn shown(db: &mut PgConnection, row: RolloutRow) -> Result<Rollout, ApiError> {
    let rollout = summary(row)?;
    let figures = figures(&mut *db, rollout.no).await?;
    let handed_out = stored::waves(&mut *db, rollout.no).await?;
    let settle = SignedDuration::from_secs(i64::try_from(rollout.plan.settle_secs).unwrap_or(i64::MAX));
    let wave = |(at, percent): (usize, &u32)| {
        let wave = i32::try_from(at + 1).unwrap_or(i32::MAX);
        let row = handed_out.iter().find(|row| row.wave == wave);
        let settling_since = row.and_then(|row| row.settling_since).map(|at| at.to_jiff());
        RolloutWave {
            wave: wave.unsigned_abs(),
            percent: *percent,
            change: row.map(|row| row.change),
            handed_out_at: row.map(|row| row.handed_out_at.to_jiff()),
            settling_since,
            settles_until: settling_since.and_then(|since| since.checked_add(settle).ok()),
            figures: wave_figures(&figures, wave),
        }
    };
    let waves = rollout.plan.waves.iter().enumerate().map(wave).collect();
    let mut within = Vec::new();
    if let Some(label) = &rollout.plan.within {
        for (value, nodes, bad) in stored::bad_within(&mut *db, rollout.no, label).await? {
            within.push(BadWithin { value, nodes: nodes.unsigned_abs(), bad: bad.unsigned_abs() });
        }
    }
    let bad_clauses = stored::bad_clauses(db, rollout.no).await?.into_iter().map(|row| BadClause {
        address: row.address,
        message: row.message,
        nodes: row.nodes.unsigned_abs(),
        names: row.names,
    });
    Ok(Rollout { bad_clauses: bad_clauses.collect(), within, waves, rollout, now: crate::clock::now() })
}

/// Returns a node of a rollout as it is told.
///
/// # Errors
///
/// Returns that it cannot be read.
pub fn shown_node(row: NodeRow) -> Result<RolloutNode, ApiError> {
    let what = || format!("how {} is in the rollout", row.name);
    let state: RolloutNodeState = read_stored(what, Value::from(row.state.as_str()))?;
    let status = row.full_status.map(|status| read_stored(what, status.into())).transpose()?;
    Ok(RolloutNode {
        wave: row.wave.unsigned_abs(),
        state,
        status,
        heard_at: row.heard_at.map(|at| at.to_jiff()),
        next_check_in: row.promised_at.map(|at| at.to_jiff()),
        name: row.name,
    })
}
