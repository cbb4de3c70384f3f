//! The crowd itself: its nodes join, and live as time passes.

use crate::error::CrowdError;
use crate::node::{Deed, KeptNode, Node};
use crate::operator::Operator;
use crate::plan::{Plan, Who, repository};
use crate::truth::{Fact, Record};
use constans_agent::join::parse_invitation;
use constans_clock::{Clock, MovedClock};
use constans_host::simulated::Repository;
use constans_wire::join::Invitation;
use fastrand::Rng;
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, HashMap};
use std::fmt::Display;
use std::fs::OpenOptions;
use std::io::{self, BufWriter, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use tokio::task::JoinSet;

/// This many ask to join before the operator looks at who waits: an operator is shown a thousand at most.
const JOIN_TOGETHER: usize = 500;
/// However long nothing is due, it is looked again so often.
const LONGEST_SLEEP: Duration = Duration::from_millis(200);

/// How time passes for a crowd.
pub enum Pace {
    /// As it does.
    Real,
    /// As fast as everything can be done that is due; readers of this clock follow.
    Moved(MovedClock),
}

/// Simulated nodes.
pub struct Crowd {
    plan: Plan,
    operator: Arc<Operator>,
    invitations: BTreeMap<(&'static str, &'static str, Option<&'static str>), Invitation>,
    repository: Arc<Repository>,
    /// None while a node does something.
    nodes: Vec<Option<Box<Node>>>,
    next_join: Option<Timestamp>,
    rng: Rng,
    pace: Pace,
    clock: Clock,
    record: Record,
}

fn not_written(path: &dyn Display, source: io::Error) -> CrowdError {
    CrowdError::File { what: path.to_string(), source }
}

type Lived = (usize, Box<Node>, Result<Vec<Fact>, CrowdError>);

impl Crowd {
    /// Gathers a crowd: all its nodes join. The truth is also written to a file, if one is named; `report` receives the progress.
    ///
    /// # Errors
    ///
    /// Returns what the server refused, or what cannot be written.
    pub async fn gather(
        plan: Plan,
        operator: Operator,
        pace: Pace,
        truth: Option<&Path>,
        tell: &mut (dyn FnMut(&str) + Send),
    ) -> Result<Self, CrowdError> {
        let mut crowd = Self::empty(plan, operator, pace)?;
        if let Some(path) = truth {
            crowd.record = Record::in_file(path)?;
        }
        while crowd.nodes.len() < crowd.plan.nodes {
            let together = JOIN_TOGETHER.min(crowd.plan.nodes - crowd.nodes.len());
            crowd.join(together).await?;
            tell(&format!("{} of {} nodes joined", crowd.nodes.len(), crowd.plan.nodes));
        }
        crowd.plan_join();
        Ok(crowd)
    }

    fn empty(plan: Plan, operator: Operator, pace: Pace) -> Result<Self, CrowdError> {
        let clock = match &pace {
            Pace::Real => Clock::system(),
            Pace::Moved(moved) => {
                moved.clock().map_err(|source| not_written(&moved.path().display(), source))?
            }
        };
        let rng = Rng::with_seed(plan.seed);
        Ok(Self {
            plan,
            operator: Arc::new(operator),
            invitations: BTreeMap::new(),
            repository: Arc::new(repository()),
            nodes: Vec::new(),
            next_join: None,
            rng,
            pace,
            clock,
            record: Record::default(),
        })
    }

    /// Has the nodes that were kept in a file go on where they were.
    ///
    /// # Errors
    ///
    /// Returns what cannot be read.
    pub fn come_back(plan: Plan, operator: Operator, pace: Pace, file: &Path) -> Result<Self, CrowdError> {
        let mut crowd = Self::empty(plan, operator, pace)?;
        let read = |source| CrowdError::Kept { path: file.to_owned(), source };
        let text = std::fs::read(file).map_err(read)?;
        let kept: Vec<KeptNode> = serde_json::from_slice(&text).map_err(|error| read(error.into()))?;
        for kept in kept {
            let seed = crowd.rng.u64(..);
            let node = Node::come_back(kept, &crowd.plan, seed, &crowd.clock, &crowd.repository)?;
            crowd.nodes.push(Some(Box::new(node)));
        }
        Ok(crowd)
    }

    /// Keeps the nodes in a file that only its owner can read: their keys are in it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn keep(&self, file: &Path) -> Result<(), CrowdError> {
        let kept: Vec<KeptNode> = self.nodes.iter().flatten().filter_map(|node| node.kept()).collect();
        let failed = |source| not_written(&file.display(), source);
        let new = file.with_extension("new");
        let _ = std::fs::remove_file(&new);
        let mut options = OpenOptions::new();
        let opened = options.create_new(true).write(true).mode(0o600).open(&new).map_err(failed)?;
        let mut writer = BufWriter::new(opened);
        serde_json::to_writer(&mut writer, &kept).map_err(|error| failed(error.into()))?;
        writer.flush().map_err(failed)?;
        std::fs::rename(&new, file).map_err(failed)
    }

    /// Does something to a node. Returns whether there is such a node, and it could be done.
    ///
    /// # Errors
    ///
    /// Returns what cannot be read of the node, or written.
    pub fn befall(&mut self, node: &str, deed: &Deed) -> Result<bool, CrowdError> {
        let Some(node) = self.nodes.iter_mut().flatten().find(|other| other.who.name == node) else {
            return Ok(false);
        };
        let fact = node.befall_by(deed)?;
        let is_done = fact.is_some();
        self.record.write(fact.into_iter().collect())?;
        Ok(is_done)
    }

    /// Returns the crowd's time.
    pub fn now(&self) -> Timestamp {
        self.clock.now()
    }

    /// Returns all that happened so far.
    pub fn facts(&self) -> &[Fact] {
        &self.record.facts
    }

    /// Returns the names of all nodes that ever joined.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.nodes.iter().flatten().map(|node| node.who.name.as_str())
    }

    /// Returns how many bytes the folders of all nodes hold.
    pub fn bytes(&self) -> usize {
        self.nodes.iter().flatten().map(|node| node.bytes()).sum()
    }

    /// This many nodes more join.
    async fn join(&mut self, count: usize) -> Result<(), CrowdError> {
        let first = self.nodes.len();
        for place in first..first + count {
            let who = Who::at(place);
            if !self.invitations.contains_key(&(who.role, who.site, who.ship)) {
                let made = self.operator.invite(who.labels()).await?;
                let invitation = parse_invitation(&made.text, "the server").map_err(|because| {
                    CrowdError::Node { node: who.name.clone(), because: because.into() }
                })?;
                self.invitations.insert((who.role, who.site, who.ship), invitation);
            }
            let node = Node::new(place, &self.plan, self.rng.u64(..), &self.clock, &self.repository)?;
            self.nodes.push(Some(Box::new(node)));
        }
        self.ask(first).await?;
        let waiting: HashMap<String, _> = self
            .operator
            .waiting()
            .await?
            .into_iter()
            .map(|request| (request.fingerprint, request.id))
            .collect();
        let mut approving = JoinSet::new();
        for node in self.nodes[first..].iter().flatten() {
            if let Some(request) = waiting.get(&node.fingerprint).copied() {
                let operator = self.operator.clone();
                approving.spawn(async move { operator.approve(request).await });
                if approving.len() >= 8 {
                    approving.join_next().await.transpose()?.transpose()?;
                }
            }
        }
        while let Some(approved) = approving.join_next().await {
            approved??;
        }
        self.ask(first).await?;
        match self.nodes[first..].iter().flatten().find(|node| !node.has_joined()) {
            Some(node) => Err(CrowdError::NotJoined {
                node: node.who.name.clone(),
                because: "it was not approved".to_owned(),
            }),
            None => Ok(()),
        }
    }

    /// Lets the nodes from a place on ask to join, or for the result of that.
    async fn ask(&mut self, first: usize) -> Result<(), CrowdError> {
        let mut asking = JoinSet::new();
        let mut place = first;
        while place < self.nodes.len() || !asking.is_empty() {
            if place < self.nodes.len() && asking.len() < self.plan.at_once {
                if let Some(mut node) = self.nodes[place].take() {
                    let invitation =
                        self.invitations.get(&(node.who.role, node.who.site, node.who.ship)).cloned();
                    asking.spawn(async move {
                        let answer = match &invitation {
                            Some(invitation) => node.ask(invitation).await,
                            None => Ok(None),
                        };
                        (place, node, answer.map(|fact| fact.into_iter().collect::<Vec<_>>()))
                    });
                }
                place += 1;
            } else if let Some(answer) = asking.join_next().await {
                self.put_back(answer?)?;
            }
        }
        Ok(())
    }

    fn put_back(&mut self, (place, node, lived): Lived) -> Result<(), CrowdError> {
        self.nodes[place] = Some(node);
        self.record.write(lived?)
    }

    /// Lives for this long; `report` receives the progress.
    ///
    /// # Errors
    ///
    /// Returns what ended a node that nobody had sent away, or what cannot be written.
    pub async fn live(
        &mut self,
        span: SignedDuration,
        tell: &mut (dyn FnMut(&str) + Send),
    ) -> Result<(), CrowdError> {
        let end = self.now() + span;
        let mut living: JoinSet<Lived> = JoinSet::new();
        let mut reported_at = self.now();
        while let Some(now) = self.move_on(end, &mut living).await? {
            self.begin_due(now, &mut living).await?;
            if self.next_join.is_some_and(|at| at <= now) {
                self.settle(&mut living).await?;
                self.join(1).await?;
                self.plan_join();
            }
            if now.duration_since(reported_at) >= SignedDuration::from_hours(1) {
                reported_at = now;
                tell(&format!("{now:.0}: {} nodes, {} facts", self.nodes.len(), self.record.facts.len()));
            }
        }
        self.settle(&mut living).await
    }

    /// Lets time pass until something is due. Returns the time, or none if the end is reached.
    async fn move_on(
        &mut self,
        end: Timestamp,
        living: &mut JoinSet<Lived>,
    ) -> Result<Option<Timestamp>, CrowdError> {
        if let Pace::Moved(_) = &self.pace {
            self.settle(living).await?;
        }
        let due = self
            .nodes
            .iter()
            .flatten()
            .filter_map(|node| node.next())
            .chain(self.next_join)
            .min()
            .unwrap_or(end);
        let now = self.now();
        match &self.pace {
            Pace::Moved(moved) => {
                let next = (due.max(now) + self.plan.step).min(end);
                moved.set(next).map_err(|source| not_written(&moved.path().display(), source))?;
                Ok((now < end).then_some(next))
            }
            Pace::Real => {
                let wait = Duration::try_from(due.duration_since(now)).unwrap_or_default().min(LONGEST_SLEEP);
                tokio::select! {
                    Some(lived) = living.join_next() => self.put_back(lived?)?,
                    () = tokio::time::sleep(wait) => {}
                }
                let now = self.now();
                Ok((now < end).then_some(now))
            }
        }
    }

    /// Has every node live for which something is due.
    async fn begin_due(&mut self, now: Timestamp, living: &mut JoinSet<Lived>) -> Result<(), CrowdError> {
        for place in 0..self.nodes.len() {
            if self.nodes[place].as_ref().is_none_or(|node| node.next().is_none_or(|at| at > now)) {
                continue;
            }
            while living.len() >= self.plan.at_once {
                if let Some(lived) = living.join_next().await {
                    self.put_back(lived?)?;
                }
            }
            if let Some(mut node) = self.nodes[place].take() {
                let operator = self.operator.clone();
                living.spawn(async move {
                    let mut lived = node.live(now).await;
                    if node.has_left()
                        && let Err(error) = operator.revoke(&node.who.name).await
                    {
                        lived = Err(error.into());
                    }
                    (place, node, lived)
                });
            }
        }
        Ok(())
    }

    /// Waits until no node does anything.
    async fn settle(&mut self, living: &mut JoinSet<Lived>) -> Result<(), CrowdError> {
        while let Some(lived) = living.join_next().await {
            self.put_back(lived?)?;
        }
        Ok(())
    }

    fn plan_join(&mut self) {
        let a_day = self.plan.rates.join * self.nodes.len() as f64;
        let wait = SignedDuration::from_secs_f64(
            (-(1.0 - self.rng.f64()).ln() * 86_400.0 / a_day.max(f64::MIN_POSITIVE)).min(1e9),
        );
        self.next_join = if a_day > 0.0 { self.now().checked_add(wait).ok() } else { None };
    }
}
