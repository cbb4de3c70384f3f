//! One simulated node: the agent's daemon over a host and a folder in memory, and what happens to it.

use crate::error::CrowdError;
use crate::happening::{Fate, Happening, change, changeable};
use crate::link::SimulatedLink;
use crate::plan::{Plan, Who};
use crate::truth::{Fact, Truth};
use constans_agent::daemon::Daemon;
use constans_agent::error::AgentError;
use constans_agent::join::{ask, first_of_all, request};
use constans_agent::journal::Journal;
use constans_agent::membership::{Membership, NodeKey};
use constans_agent::served::Served;
use constans_agent::state_dir::{InMemory, StateDir};
use constans_clock::Clock;
use constans_core::run::{Mode, RelatedRecord};
use constans_host::simulated::{Image, Repository, SimulatedHost, Thing};
use constans_wire::join::{Invitation, JoinAnswer};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

/// This many of its eventful runs a simulated node keeps whole: a real one keeps more, but there are thousands of these.
const MAX_WHOLE_RUNS: usize = 3;
/// The operating system's message for a failing correction.
const FAILS_WITH: &str = "No space left on device (simulated)";

/// What somebody, or the weather, does to a node at a moment of a story.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Deed {
    /// Someone changes what a clause keeps.
    Change(String),
    /// Someone puts back what was changed so.
    Restore(String),
    /// Corrections of a clause fail from now on, and say this.
    Fail(String, String),
    /// They succeed again.
    Mend(String),
    /// The system keeps a record, as that somebody signed in.
    OnRecord(RelatedRecord),
    /// It cannot reach its server any more.
    Cut,
    /// It can again.
    Reach,
    /// It is switched off for good, and its disk is wiped.
    Leave,
}

/// A node as it is kept in a file.
#[derive(Serialize, Deserialize)]
pub(crate) struct KeptNode {
    pub place: usize,
    files: BTreeMap<PathBuf, Vec<u8>>,
    image: Image,
    is_cut: bool,
}

/// A simulated node.
pub(crate) struct Node {
    place: usize,
    pub who: Who,
    pub fingerprint: String,
    files: InMemory,
    state_dir: StateDir,
    link: Arc<SimulatedLink>,
    fate: Fate,
    condition: Condition,
    /// What was changed by hand and not put right since, by address.
    drifted: BTreeSet<String>,
    failing: BTreeSet<String>,
    /// What was there before someone changed it in a story.
    replaced: BTreeMap<String, Thing>,
    changes: u64,
}

enum Condition {
    /// It has not joined yet.
    New(Box<SimulatedHost>),
    On(Box<Daemon<SimulatedHost>>),
    Off(Box<Daemon<SimulatedHost>>),
    Left,
}

impl Node {
    pub fn new(
        place: usize,
        plan: &Plan,
        seed: u64,
        clock: &Clock,
        repository: &Arc<Repository>,
    ) -> Result<Self, CrowdError> {
        Self::over(place, InMemory::default(), plan, seed, clock, repository)
    }

    /// Returns a node as it was kept; it goes on where it was, as a machine that is switched on again.
    pub fn come_back(
        kept: KeptNode,
        plan: &Plan,
        seed: u64,
        clock: &Clock,
        repository: &Arc<Repository>,
    ) -> Result<Self, CrowdError> {
        let files = InMemory::with_files(kept.files);
        let mut node = Self::over(kept.place, files, plan, seed, clock, repository)?;
        node.link.cut(kept.is_cut);
        if let Condition::New(host) = std::mem::replace(&mut node.condition, Condition::Left) {
            node.condition = Condition::New(Box::new(host.with_image(kept.image)));
        }
        node.begin()?;
        Ok(node)
    }

    /// Returns what of it is kept; none of one that left.
    pub fn kept(&self) -> Option<KeptNode> {
        let host = match &self.condition {
            Condition::New(host) => host,
            Condition::On(daemon) | Condition::Off(daemon) => &daemon.host,
            Condition::Left => return None,
        };
        Some(KeptNode {
            place: self.place,
            files: self.files.files(),
            image: host.image(),
            is_cut: self.link.is_cut(),
        })
    }

    fn over(
        place: usize,
        files: InMemory,
        plan: &Plan,
        seed: u64,
        clock: &Clock,
        repository: &Arc<Repository>,
    ) -> Result<Self, CrowdError> {
        let who = Who::at(place);
        let state_dir = StateDir::in_memory(&files, clock.clone(), MAX_WHOLE_RUNS);
        let key = NodeKey::open(&state_dir)
            .map_err(|because| CrowdError::Node { node: who.name.clone(), because: because.into() })?;
        let mut fate = Fate::from(clock.now(), &plan.rates, seed);
        let is_slow = (fate.choose(1_000_000) as f64) < plan.rates.slow * 1_000_000.0;
        let host = SimulatedHost::new(&who.name, who.about.clone(), repository.clone());
        Ok(Self {
            place,
            who,
            fingerprint: key.fingerprint,
            files,
            state_dir,
            link: Arc::new(SimulatedLink::new(
                if is_slow { plan.slow_by } else { Duration::ZERO },
                plan.keeps_connections,
            )),
            fate,
            condition: Condition::New(Box::new(host)),
            drifted: BTreeSet::new(),
            failing: BTreeSet::new(),
            replaced: BTreeMap::new(),
            changes: 0,
        })
    }

    /// Asks to join, or for the result. Once it is approved, its daemon begins.
    pub async fn ask(&mut self, invitation: &Invitation) -> Result<Option<Fact>, CrowdError> {
        let Condition::New(host) = &self.condition else { return Ok(None) };
        let node_error =
            |because: AgentError| CrowdError::Node { node: self.who.name.clone(), because: because.into() };
        let key = NodeKey::open(&self.state_dir).map_err(node_error)?;
        let joining_request = request(invitation, &key, &**host, &self.who.name).map_err(node_error)?;
        match ask(&*self.link, invitation, &joining_request).await.map_err(node_error)? {
            (url, JoinAnswer::Approved { node, name, certificate, renew_after, ends_at }) => {
                let urls = first_of_all(&url, invitation);
                let membership = Membership {
                    urls,
                    ca: invitation.ca.clone(),
                    node,
                    name,
                    certificate,
                    renew_after,
                    ends_at,
                    mark: None,
                    dismissed: None,
                };
                membership.keep(&self.state_dir).map_err(node_error)?;
                self.begin()?;
                Ok(Some(self.fact(self.state_dir.now(), Truth::Joined)))
            }
            (_, JoinAnswer::Waiting { .. }) => Ok(None),
            (_, JoinAnswer::Denied { because }) => {
                Err(CrowdError::NotJoined { node: self.who.name.clone(), because })
            }
        }
    }

    /// Begins its daemon, after it joined or was switched on.
    fn begin(&mut self) -> Result<(), CrowdError> {
        let host = match std::mem::replace(&mut self.condition, Condition::Left) {
            Condition::New(host) => *host,
            Condition::Off(daemon) => daemon.into_host(),
            other => {
                self.condition = other;
                return Ok(());
            }
        };
        let daemon =
            Daemon::new(self.state_dir.clone(), host, self.link.clone(), Journal::none(), self.fate.seed());
        let failed =
            |because: AgentError| CrowdError::Node { node: self.who.name.clone(), because: because.into() };
        self.condition = Condition::On(Box::new(daemon.map_err(failed)?));
        Ok(())
    }

    pub fn has_joined(&self) -> bool {
        !matches!(self.condition, Condition::New(_))
    }

    pub fn has_left(&self) -> bool {
        matches!(self.condition, Condition::Left)
    }

    /// Returns how many bytes its folder holds.
    pub fn bytes(&self) -> usize {
        self.files.bytes()
    }

    /// Returns when it does something next, or something happens to it.
    pub fn next(&self) -> Option<Timestamp> {
        let due = match &self.condition {
            Condition::On(daemon) => Some(daemon.next()),
            Condition::Off(_) => None,
            Condition::New(_) | Condition::Left => return None,
        };
        due.into_iter().chain(self.fate.next_at()).min()
    }

    /// Lives until now: what was to happen happens, and what is due is done.
    pub async fn live(&mut self, now: Timestamp) -> Result<Vec<Fact>, CrowdError> {
        let mut facts = Vec::new();
        while let Some((at, happening)) = self.fate.take(now) {
            let truth = self.befall(happening)?;
            facts.extend(truth.map(|truth| self.fact(at, truth)));
        }
        let Condition::On(daemon) = &mut self.condition else { return Ok(facts) };
        if daemon.next() > now {
            return Ok(facts);
        }
        let before = daemon.host.runs();
        let ended = daemon.turn(false).await;
        let has_run = daemon.host.runs() > before;
        if has_run {
            facts.extend(self.ran()?);
        }
        ended.map_err(|because| CrowdError::Node { node: self.who.name.clone(), because: because.into() })?;
        Ok(facts)
    }

    fn ran(&mut self) -> Result<Option<Fact>, CrowdError> {
        let Some(served) = self.served()? else { return Ok(None) };
        let failing = self.failing.intersection(&self.drifted).cloned().collect();
        let truth = Truth::Ran {
            state: served.digest.to_string(),
            drifted: self.drifted.iter().cloned().collect(),
            failing,
        };
        if served.settings.mode == Mode::Enforce {
            self.drifted.retain(|address| self.failing.contains(address));
        }
        Ok(Some(self.fact(self.state_dir.now(), truth)))
    }

    /// Something happens. Returns what, if it can happen to this node as it is.
    fn befall(&mut self, happening: Happening) -> Result<Option<Truth>, CrowdError> {
        Ok(match happening {
            Happening::Drift => self.drift()?.map(|address| Truth::Drifted { address }),
            Happening::Failure => {
                let address = self.drift()?;
                if let (Some(address), Some(host)) = (&address, self.host()) {
                    host.fail(address, Some(FAILS_WITH));
                    self.failing.insert(address.clone());
                }
                address.map(|address| Truth::Failing { address })
            }
            Happening::Mending => {
                let address = self.failing.pop_first();
                if let (Some(address), Some(host)) = (&address, self.host()) {
                    host.fail(address, None);
                }
                address.map(|address| Truth::Fixed { address })
            }
            Happening::Off => {
                self.condition = match std::mem::replace(&mut self.condition, Condition::Left) {
                    Condition::On(daemon) => Condition::Off(daemon),
                    other => other,
                };
                Some(Truth::Off)
            }
            Happening::On => {
                self.begin()?;
                Some(Truth::On)
            }
            Happening::Cut | Happening::Reaching => {
                self.link.cut(happening == Happening::Cut);
                Some(if happening == Happening::Cut { Truth::Cut } else { Truth::Reaching })
            }
            Happening::Leaving => {
                self.condition = Condition::Left;
                self.files.clear();
                Some(Truth::Left)
            }
        })
    }

    /// Someone changes what one of its clauses keeps. Returns the clause's address; none if nothing is kept here yet.
    fn drift(&mut self) -> Result<Option<String>, CrowdError> {
        let Some(served) = self.served()? else { return Ok(None) };
        let is_free = |address: &str| !self.drifted.contains(address) && !self.failing.contains(address);
        let kept = |host: &SimulatedHost, address: &str| host.thing(address).is_some();
        let Some(host) = host_of(&mut self.condition) else { return Ok(None) };
        let clauses: Vec<_> = changeable(&served.state)
            .into_iter()
            .filter(|clause| is_free(clause.address.as_str()) && kept(host, clause.address.as_str()))
            .collect();
        if clauses.is_empty() {
            return Ok(None);
        }
        let clause = clauses[self.fate.choose(clauses.len())];
        self.changes += 1;
        change(host, clause, self.changes);
        let address = clause.address.as_str().to_owned();
        self.drifted.insert(address.clone());
        Ok(Some(address))
    }

    /// Does something to it. Returns what truly happened.
    pub fn befall_by(&mut self, deed: &Deed) -> Result<Option<Fact>, CrowdError> {
        let now = self.state_dir.now();
        let truth = match deed {
            Deed::Change(address) => {
                self.change(address)?.then(|| Truth::Drifted { address: address.clone() })
            }
            Deed::Restore(address) => {
                if let (Some(thing), Some(host)) =
                    (self.replaced.remove(address), host_of(&mut self.condition))
                {
                    host.change(address, |now| *now = thing);
                }
                self.drifted.remove(address).then(|| Truth::Fixed { address: address.clone() })
            }
            Deed::Fail(address, says) => {
                let address = address.clone();
                if let Some(host) = self.host() {
                    host.fail(&address, Some(says));
                }
                self.failing.insert(address.clone());
                Some(Truth::Failing { address })
            }
            Deed::Mend(address) => {
                let address = address.clone();
                if let Some(host) = self.host() {
                    host.fail(&address, None);
                }
                self.failing.remove(&address).then_some(Truth::Fixed { address })
            }
            Deed::OnRecord(record) => {
                if let Some(host) = host_of(&mut self.condition) {
                    host.record(record.clone());
                }
                None
            }
            Deed::Cut => self.befall(Happening::Cut)?,
            Deed::Reach => self.befall(Happening::Reaching)?,
            Deed::Leave => self.befall(Happening::Leaving)?,
        };
        Ok(truth.map(|truth| self.fact(now, truth)))
    }

    /// Someone changes what the clause at this address keeps. Returns whether it is wanted here.
    fn change(&mut self, address: &str) -> Result<bool, CrowdError> {
        let Some(served) = self.served()? else { return Ok(false) };
        let Some(clause) = served.state.clauses.iter().find(|clause| clause.address.as_str() == address)
        else {
            return Ok(false);
        };
        self.changes += 1;
        if let Some(host) = host_of(&mut self.condition) {
            let before = host.thing(address).cloned();
            change(host, clause, self.changes);
            self.replaced.extend(before.map(|thing| (address.to_owned(), thing)));
        }
        self.drifted.insert(address.to_owned());
        Ok(true)
    }

    fn host(&mut self) -> Option<&mut SimulatedHost> {
        host_of(&mut self.condition)
    }

    fn served(&self) -> Result<Option<Served>, CrowdError> {
        Served::read(&self.state_dir)
            .map_err(|because| CrowdError::Node { node: self.who.name.clone(), because: because.into() })
    }

    fn fact(&self, at: Timestamp, truth: Truth) -> Fact {
        Fact { at, node: self.who.name.clone(), truth }
    }
}

fn host_of(condition: &mut Condition) -> Option<&mut SimulatedHost> {
    match condition {
        Condition::New(host) => Some(host),
        Condition::On(daemon) | Condition::Off(daemon) => Some(&mut daemon.host),
        Condition::Left => None,
    }
}
