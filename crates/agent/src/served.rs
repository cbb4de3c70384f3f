//! The desired state from the server: received as a whole, stored, and used while the server is unreachable.

use crate::drill::drilled;
use crate::error::AgentError;
use crate::freezes;
use crate::kept_contents::KeptContents;
use crate::local::Wanted;
use crate::state_dir::StateDir;
use crate::way;
use crate::zone::zone;
use constans_core::digest::{Digest, hex};
use constans_core::run::RunSettings;
use constans_core::settings::AgentSettings;
use constans_core::state::{EffectiveState, Resolved};
use constans_host::Contents as _;
use constans_link::{LinkError, Network};
use constans_wire::check_in::{Generation, WantedOffer};
use constans_wire::report::Release;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

/// The name under which what the server wants is remembered.
pub const SERVED_STORE: &str = "served";

/// The file of what was received.
const SERVED: &str = "served.json";

/// The form of the kept state.
const FORM: u32 = 1;

/// What was received from the server.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Served {
    form: u32,
    /// The digest of the effective state.
    pub digest: Digest,
    /// A number that only rises.
    pub generation: Generation,
    /// The settings of the agent.
    pub settings: AgentSettings,
    /// The state, sealed.
    pub state: EffectiveState,
}

impl Served {
    /// Returns what was received last.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read(state_dir: &StateDir) -> Result<Option<Self>, AgentError> {
        state_dir.read_json(SERVED)
    }

    /// Deletes what was received, secrets first: the server refuses this node.
    pub fn forget(state_dir: &StateDir) {
        KeptContents::of(state_dir).keep_only(&BTreeSet::new());
        state_dir.remove(SERVED);
        freezes::forget(state_dir);
    }

    /// Takes over what the server offers, if it is new. Contents come first: a state is kept only when all of it is here.
    ///
    /// # Errors
    ///
    /// Returns why it was not accepted; what was there before stays.
    pub async fn take_over(
        state_dir: &StateDir,
        offer: &WantedOffer,
        network: &Network,
        url: &str,
    ) -> Result<Takeover, AgentError> {
        let before = Self::read(state_dir)?;
        if let Some(before) = &before {
            if before.generation > offer.generation {
                let message = format!(
                    "the server offers generation {}, and this node has {} already",
                    offer.generation, before.generation
                );
                return Err(AgentError::new(message)
                    .hint("check whether the database of the server was restored; an older state is applied only if an operator orders it"));
            }
            if before.generation == offer.generation && before.digest == offer.digest {
                // What was lost here since comes again.
                let names = before.state.names();
                fetch_contents(&KeptContents::of(state_dir), &names, network, url).await?;
                forget_other_contents(state_dir, &names);
                return Ok(Takeover::Unchanged);
            }
        }
        let state: EffectiveState = match before.filter(|before| before.digest == offer.digest) {
            Some(before) => before.state,
            None => network.get(&format!("{url}/states/{}", offer.digest)).await?,
        };
        if state.digest != offer.digest || !state.is_as_named() {
            return Err(AgentError::new("the received state differs from the offered one: wrong digest")
                .hint("nothing was applied; check that the agent has the version of the server or the one before"));
        }
        let names = state.names();
        fetch_contents(&KeptContents::of(state_dir), &names, network, url).await?;
        let served = Self {
            form: FORM,
            digest: offer.digest.clone(),
            generation: offer.generation,
            settings: offer.settings.clone(),
            state,
        };
        state_dir.write_json(SERVED, &served)?;
        forget_other_contents(state_dir, &names);
        Ok(Takeover::New)
    }

    /// Returns the releases that it is made of, with the baselines of each.
    pub fn releases(&self) -> Vec<Release> {
        let mut by_release: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for origin in self.state.clauses.iter().flat_map(|clause| &clause.origins) {
            by_release
                .entry(format!("{}@{}", origin.kit, origin.version))
                .or_default()
                .insert(origin.baseline.to_string());
        }
        by_release
            .into_iter()
            .map(|(release, baselines)| Release { release, baselines: baselines.into_iter().collect() })
            .collect()
    }

    /// Returns what holds for a run that begins now.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read what was put back since it cut the way to the server, what is frozen, or what a drill broke.
    pub fn run_settings(&self, state_dir: &StateDir, now: Timestamp) -> Result<RunSettings, AgentError> {
        let put_back = way::put_back(state_dir, &self.state.digest)?;
        Ok(RunSettings {
            put_back,
            freezes: freezes::in_force(state_dir, now)?,
            drilled: drilled(state_dir)?,
            ..self.settings.for_run(&zone(&self.settings), now)
        })
    }

    /// Returns what a run needs: the state with what was sealed, and its contents.
    ///
    /// # Errors
    ///
    /// Returns which contents are not here.
    pub fn wanted(self, state_dir: &StateDir) -> Result<Wanted, AgentError> {
        let missing = |name: &str| {
            AgentError::new(format!("the contents {name} are missing"))
                .hint("constans-agent check-in downloads them")
        };
        let contents = KeptContents::of(state_dir);
        if let Some(name) = contents.missing(&self.state.names()).next() {
            return Err(missing(name));
        }
        let releases = self.releases();
        let mut state = self.state;
        state
            .unseal(|name| serde_json::from_slice(&contents.get(name)?).ok())
            .map_err(|name| missing(&name))?;
        Ok(Wanted {
            store: PathBuf::from(SERVED_STORE),
            releases,
            generation: Some(self.generation.to_string()),
            resolved: Resolved { state, ..Resolved::default() },
            contents: Arc::new(contents),
        })
    }
}

/// The result of an offer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takeover {
    /// It was there already.
    Unchanged,
    /// It was accepted.
    New,
}

async fn fetch_contents(
    kept: &KeptContents,
    names: &BTreeSet<String>,
    network: &Network,
    url: &str,
) -> Result<(), AgentError> {
    for name in kept.missing(names) {
        let (mut incoming, mut hash) = (kept.begin()?, Sha256::new());
        let take = |piece: &[u8]| {
            hash.update(piece);
            incoming.add(piece)
        };
        network.fetch(&format!("{url}/contents/{name}"), take).await?;
        if name.starts_with("sha256:") && format!("sha256:{}", hex(&hash.finalize())) != name {
            let because = "the contents do not match their digest".to_owned();
            return Err(LinkError::Strange { url: url.to_owned(), because }.into());
        }
        kept.keep(name, incoming)?;
    }
    Ok(())
}

/// Takes away the contents that a state does not name. A run that goes on may still need those of the state before: then the
/// next check-in does it.
fn forget_other_contents(state_dir: &StateDir, names: &BTreeSet<String>) {
    if let Ok(_lock) = state_dir.lock("check-in", Duration::ZERO, |_| ()) {
        KeptContents::of(state_dir).keep_only(names);
    }
}
