//! A self-test: what the server offers is fetched, compared with this machine and reported. Nothing here is altered or remembered.

use crate::error::AgentError;
use crate::local::{LocalContents, Wanted};
use crate::run_loop::{Persistence, Runner};
use crate::server_link::ServerLink;
use crate::state_dir::StateDir;
use constans_core::digest::{Digest, hex};
use constans_core::run::{Mode, RunSettings, Selection, Verdict};
use constans_core::state::{Clause, EffectiveState, Resolved};
use constans_host::{Host, Stalls};
use constans_wire::report::StartedBy;
use constans_wire::self_test::{SelfTestOffer, SelfTestReport};
use sha2::{Digest as _, Sha256};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// How long a self-test waits for a run to end.
const PATIENCE: Duration = Duration::from_secs(60);
/// This much of what went wrong is reported, in characters.
const LONGEST_FAILURE: usize = 1_000;

/// Does a self-test, and reports the result, also that it could not be done.
///
/// # Errors
///
/// Returns why the server did not take the report.
pub async fn do_self_test(
    link: &ServerLink<'_>,
    url: &str,
    offer: &SelfTestOffer,
    state_dir: &StateDir,
    host: &mut dyn Host,
) -> Result<(), AgentError> {
    let at = format!("{url}/self-tests/{}", offer.no);
    let began = Instant::now();
    let mut report = SelfTestReport::default();
    let done = match fetch(link, &at, offer).await {
        Ok(wanted) => {
            report.fetched_us = micros(began);
            let began = Instant::now();
            let seen = compare(&wanted, state_dir, host);
            report.compared_us = micros(began);
            seen
        }
        Err(error) => Err(error),
    };
    match done {
        Ok(seen) => report.seen = seen,
        Err(error) => report.failed = Some(error.line().chars().take(LONGEST_FAILURE).collect()),
    }
    link.report_to(&at, &report).await
}

async fn fetch(link: &ServerLink<'_>, at: &str, offer: &SelfTestOffer) -> Result<Wanted, AgentError> {
    let state: EffectiveState = link.fetch(&format!("{at}/state")).await?;
    if state.digest != offer.digest || !state.is_as_named() {
        return Err(AgentError::new("the received state differs from the offered one: wrong digest"));
    }
    let mut contents: BTreeMap<Digest, Arc<[u8]>> = BTreeMap::new();
    for name in state.content_names() {
        let bytes = link.fetch_bytes(&format!("{at}/contents/{name}")).await?;
        let digest = format!("sha256:{}", hex(&Sha256::digest(&bytes)));
        if digest != name {
            return Err(AgentError::new(format!("the received content is not {name}: wrong digest")));
        }
        let digest = digest.parse().map_err(|_| AgentError::new("a digest cannot be read"))?;
        contents.insert(digest, bytes.into());
    }
    Ok(Wanted {
        store: PathBuf::from("self-test"),
        releases: Vec::new(),
        generation: None,
        resolved: Resolved { state, ..Resolved::default() },
        contents: Arc::new(LocalContents(Arc::new(contents))),
    })
}

fn compare(
    wanted: &Wanted,
    state_dir: &StateDir,
    host: &mut dyn Host,
) -> Result<BTreeMap<String, Verdict>, AgentError> {
    let _lock = state_dir.lock("self-test", PATIENCE, |_| ())?;
    let key = state_dir.key()?;
    let mut runner = Runner {
        host,
        state_dir,
        wanted,
        key: &key,
        watcher: &mut |_: usize, _: usize, _: &str, _: &Clause| (),
        stalls: Stalls::to(|_| ()),
        started_by: StartedBy::OperatorOnNode,
        reason: None,
        by: None,
        sweep: None,
        stop: Arc::default(),
        guards_way: false,
        attic_mib: 0,
    };
    let report = runner.run(RunSettings::of(Mode::Observe), &Selection::Whole, Persistence::Nothing)?;
    Ok(report
        .clauses
        .into_iter()
        .filter_map(|clause| Some((clause.address.as_str().to_owned(), clause.verdict?)))
        .collect())
}

fn micros(began: Instant) -> u64 {
    u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX)
}
