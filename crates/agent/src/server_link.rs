//! Requests of a joined agent to its server: checking in, fetching desired state, delivering reports.

use crate::error::{AgentError, ServerSeen};
use crate::freezes;
use crate::membership::{Dismissed, MarkExchange, Membership, NodeKey};
use crate::network_part::{Connect, ThroughNetworkPart};
use crate::noted::DaemonNote;
use crate::served::{Served, Takeover};
use crate::spool::Spool;
use crate::state_dir::StateDir;
use crate::sweep;
use crate::upgrade;
use crate::zone::zone;
use constans_core::filter::About;
use constans_core::run::{AgentUpgrade, RestartPending};
use constans_host::Host;
use constans_link::{LinkError, Network};
use constans_wire::agent_package::AgentPackage;
use constans_wire::check_in::{CheckIn, CheckInAnswer, Held, HeldFreezes, Problem};
use constans_wire::drill::DrillOffer;
use constans_wire::exit::Exit;
use constans_wire::inspection::InspectionOffer;
use constans_wire::join::{AskAgain, JoinAnswer, Renew, Renewed};
use constans_wire::run::Received;
use constans_wire::self_test::SelfTestOffer;
use constans_wire::wake::WaitAnswer;
use jiff::Timestamp;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::io;
use std::sync::Arc;

/// A joined agent's link to the first of its servers that answers.
pub struct ServerLink<'c> {
    /// The fleet.
    pub membership: Membership,
    connect: &'c dyn Connect,
    way: Way,
}

/// A way to the servers, prepared for the node's certificate.
#[derive(Clone)]
pub struct Way {
    ca: String,
    certificate: String,
    network: Arc<Network>,
}

impl Way {
    /// Returns whether both are the same way, or neither is one.
    pub fn are_one(one: Option<&Self>, other: Option<&Self>) -> bool {
        match (one, other) {
            (Some(one), Some(other)) => Arc::ptr_eq(&one.network, &other.network),
            (one, other) => one.is_none() && other.is_none(),
        }
    }

    /// Tells a server something, and returns what it says.
    ///
    /// # Errors
    ///
    /// Returns why it did not answer, or what it refused.
    pub async fn tell<T: DeserializeOwned>(
        &self,
        url: &str,
        told: &(impl Serialize + Sync),
    ) -> Result<T, LinkError> {
        self.network.post(url, told).await
    }

    /// Waits for a wake at a URL.
    ///
    /// # Errors
    ///
    /// Returns why the server did not hold the request until its end.
    pub async fn wait(&self, url: &str) -> Result<WaitAnswer, LinkError> {
        self.network.wait(url).await
    }
}

/// The result of a check-in.
pub struct CheckedIn {
    /// The server that answered.
    pub url: String,
    /// The node's name.
    pub name: String,
    /// The result for the desired state; none before there is one.
    pub takeover: Option<Takeover>,
    /// Whether the server is recovering and offers nothing.
    pub recovering: bool,
    /// Whether this node has now what the server does not know that it has: another state, or other freezes.
    pub has_news: bool,
    /// The newest wake of this node; none if the server holds no requests.
    pub wake: Option<i64>,
    /// Whether somebody follows the runs.
    pub is_followed: bool,
    /// A drill to be done.
    pub drill: Option<DrillOffer>,
    /// What is to be told of what is there.
    pub inspections: Vec<InspectionOffer>,
    /// A self-test to be done.
    pub self_test: Option<SelfTestOffer>,
    /// Whether sweeps wait that can be begun: the node has what the server wants of it, and its freezes.
    pub may_sweep: bool,
    /// What failed of what follows a check-in, each apart from the others: renewing, taking over, delivering.
    pub failed: Vec<AgentError>,
}

impl ServerLink<'static> {
    /// Prepares the link through the network part.
    ///
    /// # Errors
    ///
    /// Returns that the machine belongs to no fleet, or that its key cannot be used.
    pub async fn open(state_dir: &StateDir) -> Result<Self, AgentError> {
        Self::open_by(&ThroughNetworkPart, state_dir, None).await
    }
}

impl<'c> ServerLink<'c> {
    /// Prepares the link, by the way that was prepared before if it is for the same certificate.
    ///
    /// # Errors
    ///
    /// Returns that the machine belongs to no fleet, or that its key cannot be used.
    pub async fn open_by(
        connect: &'c dyn Connect,
        state_dir: &StateDir,
        prepared: Option<Way>,
    ) -> Result<Self, AgentError> {
        let membership = Membership::of(state_dir)?;
        let fits = |way: &Way| way.ca == membership.ca && way.certificate == membership.certificate;
        let way = match prepared.filter(fits) {
            Some(way) => way,
            None => {
                let key = NodeKey::open(state_dir)?.pem();
                let network = connect.connect(&membership.ca, Some(membership.identity(&key))).await?;
                let (ca, certificate) = (membership.ca.clone(), membership.certificate.clone());
                Way { ca, certificate, network: Arc::new(network) }
            }
        };
        Ok(Self { membership, connect, way })
    }

    /// Returns the way, for the next link.
    pub fn way(&self) -> Way {
        self.way.clone()
    }

    /// Returns the packages of the agent that the server has.
    ///
    /// # Errors
    ///
    /// Returns why no server answered, or what it refused.
    pub async fn packages(&self) -> Result<Vec<AgentPackage>, AgentError> {
        let mut last = None;
        for url in &self.membership.urls {
            match self.way.network.get(&format!("{url}/packages")).await {
                Ok(packages) => return Ok(packages),
                Err(error) => last = Some(error),
            }
        }
        Err(last.map_or_else(|| AgentError::new("no server is known"), AgentError::from))
    }

    /// Fetches a package of the agent, by its SHA-256, in pieces.
    ///
    /// # Errors
    ///
    /// Returns why no server answered, what it refused, or why a piece could not be taken in.
    pub async fn fetch_package(
        &self,
        sha256: &str,
        mut take: impl FnMut(&[u8]) -> io::Result<()> + Send,
    ) -> Result<(), AgentError> {
        let url = self.membership.urls.first().ok_or_else(|| AgentError::new("no server is known"))?;
        Ok(self.way.network.fetch(&format!("{url}/packages/{sha256}"), &mut take).await?)
    }

    /// Checks in: reports about the node, receives what is new, and delivers what waits.
    ///
    /// # Errors
    ///
    /// Returns why no server answered, or what it refused.
    pub async fn check_in(
        &self,
        state_dir: &StateDir,
        contents: CheckInContents,
    ) -> Result<CheckedIn, AgentError> {
        let about = &contents.about;
        let link = match self.membership.ends_at <= state_dir.now() {
            // The handshake would break off without a word.
            true => &self.ask_again(state_dir, about).await?,
            false => self,
        };
        let exchange = MarkExchange::begin(state_dir).await?;
        let mut last: Option<LinkError> = None;
        for url in &link.membership.urls {
            match send_check_in(&link.way.network, url, &exchange, &contents, state_dir.now()).await {
                Ok(answer) => return link.after(state_dir, url, exchange, answer).await,
                Err(error @ LinkError::NotReached { .. }) => last = Some(error),
                Err(error) => return Err(dismissed(state_dir, error.into())),
            }
        }
        Err(last.map_or_else(|| AgentError::new("no server is known"), AgentError::from))
    }

    /// Asks for another certificate after the node's own ended, with the key that it has.
    async fn ask_again(&self, state_dir: &StateDir, about: &About) -> Result<Self, AgentError> {
        let key = NodeKey::open(state_dir)?;
        let body = AskAgain {
            request: key.request()?,
            about: about.clone(),
            agent: env!("CARGO_PKG_VERSION").to_owned(),
        };
        let nobody = self.connect.connect(&self.membership.ca, None).await?;
        let mut last: Option<LinkError> = None;
        for url in &self.membership.urls {
            match nobody.post(&format!("{url}/ask-again"), &body).await {
                Ok(JoinAnswer::Approved { certificate, renew_after, ends_at, .. }) => {
                    Membership { certificate, renew_after, ends_at, ..self.membership.clone() }
                        .keep(state_dir)?;
                    return Self::open_by(self.connect, state_dir, None).await;
                }
                Ok(JoinAnswer::Waiting { request }) => {
                    let ended = self.membership.ends_at.strftime("%Y-%m-%d");
                    let message = format!(
                        "this node's certificate ended on {ended}; request {request} for a new one waits for approval"
                    );
                    let hint = format!(
                        "an operator compares the key's fingerprint, {}, and approves: constans join approve {}",
                        key.fingerprint, self.membership.name
                    );
                    return Err(AgentError::new(message).hint(hint).seen(ServerSeen::Answering));
                }
                Ok(JoinAnswer::Denied { because }) => {
                    return Err(AgentError::new(format!("this node's certificate ended, and an operator denied a new one: {because}"))
                        .hint("ask the operator; with a new invitation the machine can join again: constans-agent join --again --invitation-file FILE")
                        .exit(Exit::Refused)
                        .seen(ServerSeen::Answering));
                }
                Err(error @ LinkError::NotReached { .. }) => last = Some(error),
                Err(error) => return Err(error.into()),
            }
        }
        Err(last.map_or_else(|| AgentError::new("no server is known"), AgentError::from))
    }

    /// Does what follows a check-in that was answered: each part independent of the others.
    async fn after(
        &self,
        state_dir: &StateDir,
        url: &str,
        exchange: MarkExchange,
        answer: CheckInAnswer,
    ) -> Result<CheckedIn, AgentError> {
        let membership = exchange.end(state_dir, answer.mark)?;
        let frozen = answer.freezes.as_ref().map_or(Ok(()), |offer| freezes::hold(state_dir, offer));
        let renewed = self.renew(state_dir, url, membership).await;
        let takeover = match &answer.wanted {
            Some(offer) => Served::take_over(state_dir, offer, &self.way.network, url).await.map(Some),
            None => Ok(None),
        };
        // What came of them is delivered first, so that the server need not hear of them again.
        let delivered = self.deliver(state_dir, url).await;
        let may_sweep = frozen.is_ok() && takeover.is_ok() && !answer.recovering;
        let swept = if may_sweep { sweep::take(state_dir, &answer.sweeps) } else { Ok(()) };
        let mut failed = Vec::new();
        let mut part = |what: &str, error: AgentError| match error.server {
            server if server.is_dismissal() => Err(dismissed(state_dir, error)),
            _ => {
                failed.push(error.about(what));
                Ok(())
            }
        };
        if let Err(error) = frozen {
            part("the freezes were not kept", error)?;
        }
        if let Err(error) = renewed {
            part("the certificate was not renewed", error)?;
        }
        if let Err(error) = swept {
            part("the sweeps were not kept", error)?;
        }
        let takeover = match takeover {
            Ok(takeover) => takeover,
            Err(error) => {
                part("the new state was not applied", error)?;
                None
            }
        };
        if let Err(error) = delivered {
            part("not all reports were delivered", error)?;
        }
        Ok(CheckedIn {
            url: url.to_owned(),
            name: answer.name,
            takeover,
            recovering: answer.recovering,
            has_news: takeover == Some(Takeover::New) || answer.freezes.is_some(),
            wake: answer.wake,
            is_followed: answer.is_followed,
            // Who recovers, or has not what is desired here, breaks nothing.
            drill: answer.drill.filter(|_| may_sweep),
            inspections: answer.inspections,
            self_test: answer.self_test,
            may_sweep,
            failed,
        })
    }

    /// Asks for something of a self-test.
    ///
    /// # Errors
    ///
    /// Returns why the server did not answer, or what it refused.
    pub async fn fetch<T: DeserializeOwned>(&self, url: &str) -> Result<T, LinkError> {
        self.way.network.get(url).await
    }

    /// Asks for a content of a self-test.
    ///
    /// # Errors
    ///
    /// Returns why the server did not answer, or what it refused.
    pub async fn fetch_bytes(&self, url: &str) -> Result<Vec<u8>, LinkError> {
        self.way.network.bytes(url).await
    }

    /// Reports a self-test.
    ///
    /// # Errors
    ///
    /// Returns why the server did not take it.
    pub async fn report_to(&self, url: &str, report: &(impl Serialize + Sync)) -> Result<(), AgentError> {
        let _: Received = self.way.network.post(url, report).await?;
        Ok(())
    }

    async fn renew(&self, state_dir: &StateDir, url: &str, membership: Membership) -> Result<(), AgentError> {
        if state_dir.now() < membership.renew_after {
            return Ok(());
        }
        let body = Renew { request: NodeKey::open(state_dir)?.request()? };
        let renewed: Renewed = self.way.network.post(&format!("{url}/renew"), &body).await?;
        Membership {
            certificate: renewed.certificate,
            renew_after: renewed.renew_after,
            ends_at: renewed.ends_at,
            ..membership
        }
        .keep(state_dir)
    }

    /// Delivers the waiting reports, the oldest first. One that the server will never accept is set aside, and those behind it go
    /// on; what is not acknowledged stays.
    ///
    /// # Errors
    ///
    /// Returns why one could not be delivered.
    pub async fn deliver(&self, state_dir: &StateDir, url: &str) -> Result<(), AgentError> {
        let spool = Spool::of(state_dir);
        for waiting in spool.waiting() {
            if let Some(report) = spool.read(&waiting)? {
                match self.way.network.post::<Received>(&format!("{url}/runs"), &report).await {
                    Ok(_) => {}
                    Err(LinkError::Refused(problem)) if is_final(&problem) => {
                        spool.set_aside(&waiting, &report, &problem.title)?;
                        continue;
                    }
                    Err(error) => return Err(error.into()),
                }
            }
            spool.delivered(&waiting);
        }
        Ok(())
    }

    /// Delivers at once after a run; if no server accepts them, the reports wait. Returns whether all were delivered.
    ///
    /// # Errors
    ///
    /// Returns that a server answers explicitly that this node is revoked or retired.
    pub async fn deliver_soon(&self, state_dir: &StateDir) -> Result<bool, AgentError> {
        for url in &self.membership.urls {
            match self.deliver(state_dir, url).await {
                Ok(()) => return Ok(true),
                Err(error) if error.server.is_dismissal() => return Err(dismissed(state_dir, error)),
                Err(_) => {}
            }
        }
        Ok(false)
    }
}

/// Returns whether a report that was answered with this problem will be at every time: what it says is not understood or too
/// large. Anyone who is not known now, or comes too often, may be admitted later.
fn is_final(problem: &Problem) -> bool {
    matches!(problem.status, 400 | 409 | 413 | 422)
}

/// Keeps that the server admits this node no more, for status and log.
fn note_dismissal(state_dir: &StateDir, is_retired: bool) -> Result<(), AgentError> {
    match Membership::read(state_dir)? {
        Some(membership) if membership.dismissed.is_none() => {
            Membership { dismissed: Some(Dismissed { is_retired, at: state_dir.now() }), ..membership }
                .keep(state_dir)
        }
        _ => Ok(()),
    }
}

/// Deletes what the server wanted if it answers that this node is revoked or retired.
fn dismissed(state_dir: &StateDir, error: AgentError) -> AgentError {
    if !error.server.is_dismissal() {
        return error;
    }
    Served::forget(state_dir);
    // Without this note the error is the same, and so is what was deleted.
    let _ = note_dismissal(state_dir, error.server == ServerSeen::Retiring);
    error.noting("the desired state and all secrets were deleted from this machine")
}

/// What a node sends with a check-in.
pub struct CheckInContents {
    /// What its agent reported about it.
    pub about: About,
    /// The name of its machine.
    pub machine: Option<String>,
    /// When it comes next.
    pub next: Timestamp,
    /// The restart that its operating system needs, if any.
    pub restart_pending: Option<RestartPending>,
    /// What it was given last.
    pub has: Option<Held>,
    /// The freezes that it holds.
    pub freezes: Option<HeldFreezes>,
    /// How the agent is with the version that its settings name.
    pub upgrade: Option<AgentUpgrade>,
}

impl CheckInContents {
    /// Returns what the node of this folder sends.
    ///
    /// # Errors
    ///
    /// Returns why what it was given last, or the machine, cannot be read.
    pub fn of(state_dir: &StateDir, machine: &dyn Host, next: Timestamp) -> Result<Self, AgentError> {
        let has = Served::read(state_dir)?
            .map(|served| Held { digest: served.digest, generation: served.generation });
        Ok(Self {
            about: machine.about()?,
            machine: machine.machine_name(),
            next,
            restart_pending: machine.restart_pending()?,
            has,
            freezes: freezes::held(state_dir)?,
            upgrade: upgrade::reported(state_dir)?,
        })
    }
}

/// Returns when a node comes next that is not asked by its daemon: when the daemon does, if one goes on.
///
/// # Errors
///
/// Returns why what was noted or given last cannot be read.
pub fn next_promised(state_dir: &StateDir) -> Result<Timestamp, AgentError> {
    let now = state_dir.now();
    if let Some(note) =
        DaemonNote::read(state_dir)?.filter(|note| note.is_alive() && note.next_check_in > now)
    {
        return Ok(note.next_check_in);
    }
    let settings = Served::read(state_dir)?.map(|served| served.settings).unwrap_or_default();
    Ok(settings.next(settings.check_ins(), &zone(&settings), now, 0))
}

/// Says to a server that this node is here.
///
/// # Errors
///
/// Returns why it did not answer, or what it refused.
pub async fn send_check_in(
    network: &Network,
    url: &str,
    exchange: &MarkExchange,
    contents: &CheckInContents,
    now: Timestamp,
) -> Result<CheckInAnswer, LinkError> {
    let check_in = CheckIn {
        agent: env!("CARGO_PKG_VERSION").to_owned(),
        now,
        next_in_secs: u64::try_from(contents.next.duration_since(now).as_secs()).unwrap_or(0),
        restart_pending: contents.restart_pending.clone(),
        about: contents.about.clone(),
        machine: contents.machine.clone(),
        mark: exchange.membership.mark,
        has: contents.has.clone(),
        freezes: contents.freezes.clone(),
        upgrade: contents.upgrade.clone(),
    };
    network.post(&format!("{url}/check-in"), &check_in).await
}
