//! Sweeps and their nodes as they are told.

use crate::problem::{ApiError, read_stored};
use crate::store::sweep::{self, FailureRow, NodeRow, SweepRow};
use constans_core::run::Counts;
use constans_core::sentence::Sentence;
use constans_core::sweep::{CameOf, FailedClause, Refused, SweepOrder};
use constans_wire::sweep::{
    Stopped, Sweep, SweepCounts, SweepFailure, SweepProgress, SweepStatus, SweptNode, SweptState,
};
use jiff::Timestamp;
use serde_json::Value;
use sqlx::PgPool;

/// Of the clauses of a node so many are named in one sentence.
const MAX_IN_SENTENCE: usize = 3;

/// Returns a sweep as it is told.
///
/// # Errors
///
/// Returns that it cannot be read.
pub fn shown_sweep(row: SweepRow) -> Result<Sweep, ApiError> {
    let order: SweepOrder = read_stored(|| format!("sweep S{}", row.no), row.body)?;
    let counts = SweepCounts {
        nodes: row.nodes.unsigned_abs(),
        pending: row.pending.unsigned_abs(),
        silent: row.silent.unsigned_abs(),
        offered: row.offered.unsigned_abs(),
        begun: row.begun.unsigned_abs(),
        done: row.done.unsigned_abs(),
        refused: row.refused.unsigned_abs(),
        not_reached: row.not_reached.unsigned_abs(),
        in_line: row.in_line.unsigned_abs(),
        in_line_before: row.in_line_before.unsigned_abs(),
        failed: row.failed.unsigned_abs(),
        corrected: row.corrected.unsigned_abs(),
        left: row.with_left.unsigned_abs(),
        would: row.would.unsigned_abs(),
        corrected_clauses: row.corrected_clauses.unsigned_abs(),
        changed_since: row.changed_since.unsigned_abs(),
    };
    let status = if counts.pending + counts.offered + counts.begun > 0 {
        SweepStatus::Running
    } else if row.stopped_at.is_some() {
        SweepStatus::Stopped
    } else if counts.not_reached > 0 {
        SweepStatus::Over
    } else {
        SweepStatus::Done
    };
    Ok(Sweep {
        no: row.no,
        what: order.words(),
        order,
        which: row.which,
        who: row.who,
        because: row.because,
        asked_at: row.asked_at.to_jiff(),
        begins_at: row.begins_at.to_jiff(),
        ends_at: row.ends_at.to_jiff(),
        status,
        last_done_at: row.last_done_at.map(|at| at.to_jiff()),
        expected_end: row.expected_end.map(|at| at.to_jiff()),
        stopped: row.stopped_by.zip(row.stopped_at).map(|(who, at)| Stopped { who, at: at.to_jiff() }),
        after: row.follows,
        enforced_by: row.enforced_by,
        counts,
        now: crate::clock::now(),
    })
}

/// Returns a node of a sweep as it is told.
///
/// # Errors
///
/// Returns that it cannot be read.
pub fn shown_node(row: NodeRow, now: Timestamp) -> Result<SweptNode, ApiError> {
    let what = || format!("what the sweep knows of {}", row.name);
    let state: SweptState = read_stored(what, Value::from(row.state.as_str()))?;
    let came_of: Option<CameOf> =
        row.came_of.clone().map(|came_of| read_stored(what, came_of)).transpose()?;
    let refused: Option<Refused> =
        row.refused.clone().map(|refused| read_stored(what, refused)).transpose()?;
    let progress: Option<SweepProgress> =
        row.progress.clone().map(|progress| read_stored(what, progress)).transpose()?;
    let words = words(state, &row, came_of.as_ref(), refused.as_ref(), progress.as_ref());
    let counts = came_of.as_ref().map(|came_of| came_of.counts);
    let (reached, of) = match (&counts, &progress) {
        (Some(counts), _) => {
            let all = total(counts);
            (all.saturating_sub(counts.blocked).saturating_sub(counts.failed), all)
        }
        (None, Some(progress)) => (progress.reached, progress.of),
        (None, None) => (0, 0),
    };
    let running_ms = || {
        let began = row.begun_at.filter(|_| state == SweptState::Begun)?.to_jiff();
        u64::try_from(now.duration_since(began).as_millis()).ok()
    };
    Ok(SweptNode {
        state,
        words,
        status: came_of.as_ref().map(|came_of| came_of.status),
        is_in_line: came_of.as_ref().map(CameOf::is_in_line),
        run: row.run,
        reached,
        of,
        would: u64::from(row.would.unsigned_abs()),
        counts,
        took_ms: came_of.as_ref().map(|came_of| came_of.took_us / 1_000).or_else(running_ms),
        last_took_ms: progress
            .as_ref()
            .filter(|_| state == SweptState::Begun)
            .and_then(|progress| progress.last_took_ms),
        refused,
        next_check_in: row.promised_at.map(|at| at.to_jiff()),
        name: row.name,
    })
}

fn total(counts: &Counts) -> u64 {
    let Counts { in_line, corrected, out_of_line, blocked, failed, unsupported, idle } = *counts;
    // A node may report any number.
    [in_line, corrected, out_of_line, blocked, failed, unsupported, idle]
        .into_iter()
        .fold(0, u64::saturating_add)
}

/// How a node is, in one sentence.
fn words(
    state: SweptState,
    row: &NodeRow,
    came_of: Option<&CameOf>,
    refused: Option<&Refused>,
    progress: Option<&SweepProgress>,
) -> Sentence {
    match (state, came_of, refused) {
        (SweptState::Done, Some(came_of), _) => done_words(came_of),
        (SweptState::Refused, _, Some(refused)) => Sentence::new("refused: ").then(refused.words()),
        (SweptState::Begun, ..) => running_words(progress),
        (SweptState::Offered, ..) => match progress {
            Some(waiting) => Sentence::new(format!("waits: {}", waiting.doing)),
            None => Sentence::new("received, not begun yet"),
        },
        (SweptState::NotReached, ..) if row.begun_at.is_some() => {
            Sentence::new("begun, and not heard of since").then(match row.told_at.or(row.begun_at) {
                Some(at) => Sentence::new(" ").time(at.to_jiff()),
                None => Sentence::default(),
            })
        }
        (SweptState::NotReached, ..) => Sentence::new("not reached before the end"),
        _ if row.is_silent => {
            let silent = match row.heard_at {
                Some(at) => Sentence::new("silent since ").time(at.to_jiff()),
                None => Sentence::new("never heard"),
            };
            silent.text(": gets it if it is heard before ").time(row.ends_at.to_jiff())
        }
        _ => match row.promised_at {
            Some(at) => Sentence::new("not received yet: next check-in ").due(at.to_jiff()),
            None => Sentence::new("not received yet"),
        },
    }
}

fn running_words(progress: Option<&SweepProgress>) -> Sentence {
    match progress {
        Some(SweepProgress { address: Some(address), doing, .. }) => {
            Sentence::new(format!("running: {doing} {address}"))
        }
        Some(SweepProgress { doing, of: 0, .. }) => Sentence::new(format!("waits: {doing}")),
        _ => Sentence::new("running"),
    }
}

fn done_words(came_of: &CameOf) -> Sentence {
    let mut words = match &came_of.interrupted {
        Some(interrupted) => Sentence::new(interrupted.clone()),
        None if came_of.is_stopped => Sentence::new(format!("stopped, {}", came_of.status.words())),
        None => Sentence::new(came_of.status.words()),
    };
    if !came_of.failed.is_empty() {
        let named: Vec<&str> =
            came_of.failed.iter().take(MAX_IN_SENTENCE).map(|failed| failed.address.as_str()).collect();
        let more = came_of.counts.failed.saturating_sub(named.len() as u64);
        words = words.text(format!(": {}", named.join(", ")));
        if more > 0 {
            words = words.text(format!(" and {more} more"));
        }
    }
    if came_of.counts.blocked > 0 {
        words = words.text(format!("; {} blocked", came_of.counts.blocked));
    }
    if came_of.due > 0 {
        let are = if came_of.due == 1 { "reaction is" } else { "reactions are" };
        words = words.text(format!("; {} {are} due", came_of.due));
    }
    if came_of.would > 0 {
        words = words.text(format!("; {} would be corrected", came_of.would));
    }
    let mut reasons: Vec<(Sentence, usize)> = Vec::new();
    for left in &came_of.left {
        let why = left.why.words();
        match reasons.iter_mut().find(|(known, _)| *known == why) {
            Some((_, count)) => *count += 1,
            None => reasons.push((why, 1)),
        }
    }
    for (why, count) in reasons.into_iter().take(MAX_IN_SENTENCE) {
        words = words.text(format!("; {count} left: ")).then(why);
    }
    words
}

/// Returns what failed in a sweep, by clause and message.
///
/// # Errors
///
/// Returns that it cannot be read.
pub async fn failures(db: &PgPool, no: i64) -> Result<Vec<SweepFailure>, ApiError> {
    let shown = |row: FailureRow| {
        let address = read_stored(|| format!("sweep S{no}"), Value::from(row.address))?;
        let failed = FailedClause { address, message: row.message };
        Ok(SweepFailure { failed, nodes: row.nodes.unsigned_abs(), names: row.names })
    };
    sweep::failures(db, no).await?.into_iter().map(shown).collect()
}
