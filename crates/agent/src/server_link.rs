//! The link of a joined agent to its server: checking in, taking over, delivering.

use crate::error::AgentError;
use crate::membership::{Membership, NodeKey};
use crate::served::{Served, Takeover};
use crate::spool::Spool;
use crate::state_dir::StateDir;
use constans_core::filter::About;
use constans_link::{LinkError, client, send};
use constans_wire::check_in::{CheckIn, CheckInAnswer, Held};
use constans_wire::exit::Exit;
use constans_wire::join::{AskAgain, JoinAnswer, Renew, Renewed};
use constans_wire::run::Received;
use jiff::Timestamp;
use reqwest::Client;

/// What the agent promises before the server has set an interval, in seconds.
pub const USUAL_INTERVAL_SECS: u64 = 15 * 60;

/// The problem that a server has with a node that it refuses from now on.
const REVOKED: &str = "revoked";

/// A joined agent's link to the first of its servers that answers.
pub struct ServerLink {
    /// The fleet.
    pub membership: Membership,
    client: Client,
}

/// What a check-in came to.
pub struct CheckedIn {
    /// The server that answered.
    pub url: String,
    /// The node's name.
    pub name: String,
    /// What became of what is wanted; none before anything is.
    pub takeover: Option<Takeover>,
    /// Whether the server is recovering and offers nothing.
    pub recovering: bool,
}

impl ServerLink {
    /// Prepares the link.
    ///
    /// # Errors
    ///
    /// Returns that the machine belongs to no fleet, or that its key cannot be used.
    pub fn open(state_dir: &StateDir) -> Result<Self, AgentError> {
        let membership = crate::join::membership(state_dir)?;
        let key = NodeKey::open(state_dir)?.pem();
        let client = client(&membership.ca, Some(&membership.identity(&key)))?;
        Ok(Self { membership, client })
    }

    /// Checks in: says that the node is here, takes over what is new, and delivers what waits.
    ///
    /// # Errors
    ///
    /// Returns why no server was heard, or what it refused.
    pub async fn check_in(&self, state_dir: &StateDir, about: &About) -> Result<CheckedIn, AgentError> {
        let said = Saying::of(state_dir, about)?;
        let link = match self.membership.ends_at <= Timestamp::now() {
            // The handshake would break off without a word.
            true => &self.ask_again(state_dir, about).await?,
            false => self,
        };
        let mut last: Option<LinkError> = None;
        for url in &link.membership.urls {
            match say_here(&link.client, url, &link.membership, &said).await {
                Ok(answer) => return link.after(state_dir, url, answer).await,
                Err(error @ LinkError::NotReached { .. }) => last = Some(error),
                Err(LinkError::Refused(problem)) if problem.kind == REVOKED => {
                    Served::forget(state_dir);
                    return Err(
                        AgentError::from(LinkError::Refused(problem)).noting("what the server wanted, and every secret of it, was deleted here")
                    );
                }
                Err(error) => return Err(error.into()),
            }
        }
        Err(last.map_or_else(|| AgentError::new("no server is known"), AgentError::from))
    }

    /// Asks for another certificate after the node's own ended, with the key that it has.
    async fn ask_again(&self, state_dir: &StateDir, about: &About) -> Result<Self, AgentError> {
        let key = NodeKey::open(state_dir)?;
        let asked = AskAgain { request: key.request()?, about: about.clone(), agent: env!("CARGO_PKG_VERSION").to_owned() };
        let nobody = client(&self.membership.ca, None)?;
        let mut last: Option<LinkError> = None;
        for url in &self.membership.urls {
            match send(nobody.post(format!("{url}/ask-again")).json(&asked), &self.membership.ca).await {
                Ok(JoinAnswer::Approved { certificate, renew_after, ends_at, .. }) => {
                    Membership { certificate, renew_after, ends_at, ..self.membership.clone() }.keep(state_dir)?;
                    return Self::open(state_dir);
                }
                Ok(JoinAnswer::Waiting { request }) => {
                    let ended = self.membership.ends_at.strftime("%Y-%m-%d");
                    let message = format!("this node's certificate ended on {ended}; request {request} for another one waits for approval");
                    let hint = format!(
                        "an operator compares the key's fingerprint, {}, and approves: constans join approve {}",
                        key.fingerprint, self.membership.name
                    );
                    return Err(AgentError::new(message).hint(hint));
                }
                Ok(JoinAnswer::Denied { because }) => {
                    return Err(AgentError::new(format!("this node's certificate ended, and an operator denied it another one: {because}"))
                        .hint("ask them; with another invitation it can join again: constans-agent join --again --invitation FILE")
                        .exit(Exit::Refused));
                }
                Err(error @ LinkError::NotReached { .. }) => last = Some(error),
                Err(error) => return Err(error.into()),
            }
        }
        Err(last.map_or_else(|| AgentError::new("no server is known"), AgentError::from))
    }

    async fn after(&self, state_dir: &StateDir, url: &str, answer: CheckInAnswer) -> Result<CheckedIn, AgentError> {
        let mut membership = Membership { mark: Some(answer.mark), ..self.membership.clone() };
        membership.keep(state_dir)?;
        if Timestamp::now() >= membership.renew_after {
            let wish = Renew { request: NodeKey::open(state_dir)?.request()? };
            let renewed: Renewed = send(self.client.post(format!("{url}/renew")).json(&wish), &membership.ca).await?;
            membership = Membership { certificate: renewed.certificate, renew_after: renewed.renew_after, ends_at: renewed.ends_at, ..membership };
            membership.keep(state_dir)?;
        }
        let takeover = match &answer.wanted {
            Some(offer) => Some(Served::take_over(state_dir, offer, &self.client, url, &self.membership).await?),
            None => None,
        };
        self.deliver(state_dir, url).await?;
        Ok(CheckedIn { url: url.to_owned(), name: answer.name, takeover, recovering: answer.recovering })
    }

    /// Delivers the waiting reports, the oldest first; what is not acknowledged stays.
    ///
    /// # Errors
    ///
    /// Returns why one could not be delivered.
    pub async fn deliver(&self, state_dir: &StateDir, url: &str) -> Result<(), AgentError> {
        let spool = Spool::open(state_dir)?;
        for path in spool.waiting() {
            if let Some(report) = spool.read(&path)? {
                let _: Received = send(self.client.post(format!("{url}/runs")).json(&report), &self.membership.ca).await?;
            }
            spool.delivered(&path);
        }
        Ok(())
    }

    /// Delivers at once after a run; if no server answers, the reports wait.
    ///
    /// # Errors
    ///
    /// Returns what a server refused.
    pub async fn deliver_soon(&self, state_dir: &StateDir) -> Result<bool, AgentError> {
        for url in &self.membership.urls {
            if self.deliver(state_dir, url).await.is_ok() {
                return Ok(true);
            }
        }
        Ok(false)
    }
}

/// What a node says when it is here.
pub struct Saying<'a> {
    /// What it found out about itself.
    pub about: &'a About,
    /// In how many seconds it comes next.
    pub next_in_secs: u64,
    /// What it was given last.
    pub has: Option<Held>,
}

impl<'a> Saying<'a> {
    /// Returns what the node of this folder says.
    ///
    /// # Errors
    ///
    /// Returns why what it was given last cannot be read.
    pub fn of(state_dir: &StateDir, about: &'a About) -> Result<Self, AgentError> {
        let served = Served::read(state_dir)?;
        let next_in_secs = served.as_ref().map_or(USUAL_INTERVAL_SECS, |served| served.settings.interval_secs);
        Ok(Self { about, next_in_secs, has: served.map(|served| Held { digest: served.digest, generation: served.generation }) })
    }
}

/// Says to a server that this node is here.
///
/// # Errors
///
/// Returns why it was not heard, or what it refused.
pub async fn say_here(client: &Client, url: &str, membership: &Membership, saying: &Saying<'_>) -> Result<CheckInAnswer, LinkError> {
    let said = CheckIn {
        agent: env!("CARGO_PKG_VERSION").to_owned(),
        now: Timestamp::now(),
        next_in_secs: saying.next_in_secs,
        about: saying.about.clone(),
        mark: membership.mark,
        has: saying.has.clone(),
    };
    send(client.post(format!("{url}/check-in")).json(&said), &membership.ca).await
}
