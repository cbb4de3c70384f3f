//! The link of a joined agent to its server: checking in, taking over, delivering.

use crate::error::AgentError;
use crate::membership::{Membership, NodeKey};
use crate::served::{Served, Takeover};
use crate::spool::Spool;
use crate::state_dir::StateDir;
use constans_core::filter::About;
use constans_link::{LinkError, client, send};
use constans_wire::check_in::{CheckIn, CheckInAnswer};
use constans_wire::join::{Renew, Renewed};
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
        let next_in_secs = Served::read(state_dir)?.map_or(USUAL_INTERVAL_SECS, |served| served.settings.interval_secs);
        let mut last: Option<LinkError> = None;
        for url in &self.membership.urls {
            match say_here(&self.client, url, &self.membership, about, next_in_secs).await {
                Ok(answer) => return self.after(state_dir, url, answer).await,
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

    async fn after(&self, state_dir: &StateDir, url: &str, answer: CheckInAnswer) -> Result<CheckedIn, AgentError> {
        let mut membership = Membership { mark: Some(answer.mark), ..self.membership.clone() };
        membership.keep(state_dir)?;
        if Timestamp::now() >= membership.renew_after {
            let wish = Renew { request: NodeKey::open(state_dir)?.request()? };
            let renewed: Renewed = send(self.client.post(format!("{url}/renew")).json(&wish), &membership.ca).await?;
            membership = Membership { certificate: renewed.certificate, renew_after: renewed.renew_after, ..membership };
            membership.keep(state_dir)?;
        }
        let takeover = match &answer.wanted {
            Some(offer) => Some(Served::take_over(state_dir, offer, &self.client, url, &self.membership).await?),
            None => None,
        };
        self.deliver(state_dir, url).await?;
        Ok(CheckedIn { url: url.to_owned(), name: answer.name, takeover })
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

/// Says to a server that this node is here.
///
/// # Errors
///
/// Returns why it was not heard, or what it refused.
pub async fn say_here(client: &Client, url: &str, membership: &Membership, about: &About, next_in_secs: u64) -> Result<CheckInAnswer, LinkError> {
    let said =
        CheckIn { agent: env!("CARGO_PKG_VERSION").to_owned(), now: Timestamp::now(), next_in_secs, about: about.clone(), mark: membership.mark };
    send(client.post(format!("{url}/check-in")).json(&said), &membership.ca).await
}
