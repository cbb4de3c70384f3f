//! Following: while somebody looks, the server is told what comes out of a run, clause by clause.

use super::telling::millis;
use crate::run_loop::RunWatcher;
use crate::server_link::Way;
use crate::state_dir::Begun;
use constans_clock::Clock;
use constans_core::run::ClauseResult;
use constans_core::state::Clause;
use constans_link::LinkError;
use constans_wire::bounded_clause;
use constans_wire::follow::{
    FollowGoesOn, MAX_AT_ONCE, MAX_OF_RUN, RunEnd, RunUnderWay, ToldClause, ToldRun,
};
use constans_wire::report::RunReport;
use jiff::Timestamp;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tokio::sync::watch;

/// Where it is told, after the address of the server.
const TOLD_TO: &str = "/followed-run";
/// How often it is told.
const TELL_EVERY: Duration = Duration::from_millis(500);
/// How long is waited after the server did not answer, and until it is asked again whether anybody follows.
const ASK_AGAIN_AFTER: Duration = Duration::from_secs(10);
/// How long the end of a run may take to be told.
const END_WITHIN: Duration = Duration::from_secs(5);
/// So many bytes of texts are kept of what came out before anybody follows.
const TEXTS: usize = 64 * 1024;
/// So many clauses that need attention are kept of it.
const KEPT_BEFORE: usize = 100;

/// What of a run is to be told.
struct ToTell {
    run: Option<RunUnderWay>,
    /// Since when the clause is under way.
    since: Timestamp,
    /// The number of the first of what is not told yet.
    first: u64,
    clauses: Vec<ToldClause>,
    /// How many bytes of texts may follow.
    of_run: usize,
    is_followed: bool,
    last_took: Option<Duration>,
}

/// A run that may be followed: the run writes, and a task of its own tells it.
pub(super) struct FollowedRun {
    shared: Arc<Mutex<ToTell>>,
    clock: Clock,
}

fn lock(shared: &Mutex<ToTell>) -> MutexGuard<'_, ToTell> {
    shared.lock().unwrap_or_else(PoisonError::into_inner)
}

impl FollowedRun {
    /// Prepares it; `is_followed` says whether anybody follows from its beginning.
    pub fn new(clock: Clock, is_followed: bool, last_took: Option<Duration>) -> Self {
        let to_tell = ToTell {
            run: None,
            since: clock.now(),
            first: 1,
            clauses: Vec::new(),
            of_run: TEXTS,
            is_followed,
            last_took,
        };
        Self { shared: Arc::new(Mutex::new(to_tell)), clock }
    }

    /// Begins to tell, at this server, once anybody follows: from the beginning, or when the server wakes this node.
    pub fn tell(&self, way: Way, server: &str, woken: watch::Receiver<u64>) -> Telling {
        let teller = Teller {
            shared: self.shared.clone(),
            clock: self.clock.clone(),
            way,
            url: format!("{server}{TOLD_TO}"),
        };
        let task = tokio::spawn(teller.clone().tell(woken));
        Telling { teller, task }
    }
}

impl RunWatcher for FollowedRun {
    fn begins(&mut self, begun: &Begun) {
        let mut shared = lock(&self.shared);
        shared.since = begun.began;
        shared.run = Some(RunUnderWay {
            id: begun.run,
            began: begun.began,
            mode: begun.mode,
            started_by: begun.started_by,
            sweep: begun.sweep.map(|sweep| sweep.no),
            reached: 0,
            of: begun.clauses as u64,
            doing: String::new(),
            address: None,
            for_ms: 0,
            last_took_ms: millis(shared.last_took),
            before: 0,
            end: None,
        });
    }

    fn reaches(&mut self, at: usize, of: usize, doing: &str, clause: &Clause) {
        let now = self.clock.now();
        let mut shared = lock(&self.shared);
        shared.since = now;
        if let Some(run) = &mut shared.run {
            (run.reached, run.of) = (at as u64 + 1, of as u64);
            doing.clone_into(&mut run.doing);
            run.address = Some(clause.address.clone());
        }
    }

    fn settles(&mut self, at: usize, result: &ClauseResult) {
        let mut shared = lock(&self.shared);
        let is_kept = shared.is_followed || !result.is_quiet() && shared.clauses.len() < KEPT_BEFORE;
        let is_told = shared.first + (shared.clauses.len() as u64) <= MAX_OF_RUN;
        if is_kept && is_told {
            let result = bounded_clause(result.clone(), &mut shared.of_run);
            shared.clauses.push(ToldClause { place: at as u64 + 1, result });
        } else if let Some(run) = &mut shared.run {
            run.before += 1;
        }
    }
}

/// Tells what is to be told.
#[derive(Clone)]
struct Teller {
    shared: Arc<Mutex<ToTell>>,
    clock: Clock,
    way: Way,
    url: String,
}

impl Teller {
    async fn tell(self, mut woken: watch::Receiver<u64>) {
        woken.mark_unchanged();
        let mut was_followed = false;
        loop {
            let is_followed = lock(&self.shared).is_followed;
            was_followed |= is_followed;
            if !is_followed {
                tokio::select! {
                    told = woken.changed() => if told.is_err() { return },
                    // Who follows again does not wake a node that is in a run.
                    () = tokio::time::sleep(ASK_AGAIN_AFTER), if was_followed => {}
                }
            }
            let pause = match self.tell_once().await {
                Some(Ok(is_followed)) => {
                    lock(&self.shared).is_followed = is_followed;
                    was_followed |= is_followed;
                    TELL_EVERY
                }
                // A server that refuses it does not know what it is.
                Some(Err(LinkError::Refused(_))) => return,
                Some(Err(_)) => ASK_AGAIN_AFTER,
                None => TELL_EVERY,
            };
            tokio::time::sleep(pause).await;
        }
    }

    /// Tells what is not told yet, at most so much; nothing before the run has begun. Returns whether anybody follows.
    async fn tell_once(&self) -> Option<Result<bool, LinkError>> {
        let told = {
            let shared = lock(&self.shared);
            let mut run = shared.run.clone()?;
            if run.end.is_none() {
                let for_ms = self.clock.now().duration_since(shared.since).as_millis();
                run.for_ms = u64::try_from(for_ms).unwrap_or(0);
            }
            let clauses: Vec<ToldClause> = shared.clauses.iter().take(MAX_AT_ONCE).cloned().collect();
            run.end.take_if(|_| clauses.len() < shared.clauses.len());
            ToldRun { run, first: shared.first, clauses }
        };
        let answer: Result<FollowGoesOn, LinkError> = self.way.tell(&self.url, &told).await;
        if answer.is_ok() {
            let mut shared = lock(&self.shared);
            shared.clauses.drain(..told.clauses.len());
            shared.first += told.clauses.len() as u64;
        }
        Some(answer.map(|answer| answer.is_followed))
    }

    /// Tells the rest, and what the run came to.
    async fn tell_end(&self) {
        while let Some(Ok(true)) = self.tell_once().await
            && !lock(&self.shared).clauses.is_empty()
        {}
    }
}

/// The telling of a run, until its end.
pub(super) struct Telling {
    teller: Teller,
    task: tokio::task::JoinHandle<()>,
}

impl Drop for Telling {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Telling {
    /// Tells what the run came to, if anybody follows.
    pub async fn end(mut self, report: &RunReport) {
        self.task.abort();
        // Otherwise it might tell the same at the same time.
        let _ = (&mut self.task).await;
        let is_followed = {
            let mut shared = lock(&self.teller.shared);
            if let Some(run) = &mut shared.run {
                run.end =
                    Some(RunEnd { status: report.status, counts: report.counts, took_us: report.took_us });
                (run.reached, run.address) = (run.of, None);
            }
            shared.is_followed
        };
        if is_followed {
            let _ = tokio::time::timeout(END_WITHIN, self.teller.tell_end()).await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn result(outcome: &str) -> ClauseResult {
        serde_json::from_value(json!({
            "address": "file:/etc/issue", "severity": "low", "origins": [], "wanted": format!("sha256:{}", "0".repeat(64)),
            "verdict": "alike", "decision": { "due": "nothing" }, "outcome": outcome, "took_us": 1,
        }))
        .unwrap()
    }

    fn begun() -> Begun {
        serde_json::from_value(json!({
            "run": "0198c0de-0000-7000-8000-000000000001", "began": "2026-03-02T08:00:00Z", "mode": "enforce", "started_by": "interval",
            "reason": null, "partial": false, "clauses": 300,
            "wanted": { "digest": format!("sha256:{}", "0".repeat(64)), "generation": null, "releases": [] },
        }))
        .unwrap()
    }

    #[test]
    fn before_anybody_follows_only_so_much_of_what_needs_attention_is_kept() {
        let mut run = FollowedRun::new(Clock::system(), false, None);
        run.begins(&begun());
        for at in 0..300 {
            run.settles(at, &result(if at % 2 == 0 { "in_line" } else { "failed" }));
        }
        let before = lock(&run.shared).run.as_ref().map(|run| run.before);
        assert_eq!(
            (before, lock(&run.shared).clauses.len()),
            (Some(200), 100),
            "150 in line, and 50 of 150 that failed"
        );
        lock(&run.shared).is_followed = true;
        run.settles(0, &result("in_line"));
        assert_eq!(lock(&run.shared).clauses.last().map(|told| told.place), Some(1));
        // No more than so many of one run, however long somebody follows.
        for at in 0..6_000 {
            run.settles(at, &result("in_line"));
        }
        assert_eq!(lock(&run.shared).clauses.len() as u64, MAX_OF_RUN);
    }
}
