//! The membership of this machine in a fleet: its key, its certificate, and its server.

use crate::error::AgentError;
use crate::joining::Joining;
use crate::state_dir::{Lock, StateDir};
use constans_core::digest::hex;
use constans_link::Identity;
use constans_wire::exit::Exit;
use jiff::Timestamp;
use rcgen::{CertificateParams, KeyPair, PublicKeyData as _};
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use std::time::{Duration, Instant};
use uuid::Uuid;

/// The fleet that this machine belongs to.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Membership {
    /// The URLs of the agents' listener.
    pub urls: Vec<String>,
    /// The fingerprint of the server's CA.
    pub ca: String,
    /// The node's id.
    pub node: Uuid,
    /// The node's name.
    pub name: String,
    /// The node's certificate, PEM.
    pub certificate: String,
    /// When it is to be renewed.
    pub renew_after: Timestamp,
    /// End of its validity.
    pub ends_at: Timestamp,
    /// The mark to show at the next check-in; none before the first.
    #[serde(default)]
    pub mark: Option<Uuid>,
    /// That the server refuses this node.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dismissed: Option<Dismissed>,
}

/// The answer of a server that refuses this node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Dismissed {
    /// Whether it was retired: it can join as a new node only. Else it was revoked.
    pub is_retired: bool,
    /// When it answered so first.
    pub at: Timestamp,
}

/// The file that records it.
const JOINED: &str = "joined.json";

/// The file of the node's key.
const NODE_KEY: &str = "node.key";

/// The node's key.
pub struct NodeKey {
    pair: KeyPair,
    /// The SHA-256 of its public part (SPKI), to be compared by eye.
    pub fingerprint: String,
}

impl Membership {
    /// Returns the fleet that this machine belongs to.
    ///
    /// # Errors
    ///
    /// Returns that there is none.
    pub fn of(state_dir: &StateDir) -> Result<Self, AgentError> {
        if let Some(membership) = Self::read(state_dir)? {
            return Ok(membership);
        }
        Err(match Joining::read(state_dir)? {
            None => AgentError::new("this machine belongs to no fleet")
                .hint("create an invitation with constans invite, then run constans-agent join"),
            Some(Joining { name, fingerprint, since, .. }) => AgentError::new(format!(
                "this machine waits for approval as {name} since {since:.0}, key fingerprint {fingerprint}"
            ))
            .hint(format!("an operator compares the fingerprint and approves: constans join approve {name}")),
        })
    }

    /// Returns the fleet that this machine belongs to, if it joined one.
    ///
    /// # Errors
    ///
    /// Returns why that cannot be read.
    pub fn read(state_dir: &StateDir) -> Result<Option<Self>, AgentError> {
        let Some(bytes) = state_dir.read(JOINED)? else { return Ok(None) };
        // It is never set aside: without it the machine would be no node any more.
        serde_json::from_slice(&bytes).map(Some).map_err(|error| {
            AgentError::new(format!("{} cannot be read: {error}", state_dir.shown(JOINED).display()))
                .hint("put it back from a backup, or join again: constans-agent join --again --invitation-file FILE; an operator approves it as this node")
        })
    }

    /// Keeps it. From now on the machine belongs to the fleet.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn keep(&self, state_dir: &StateDir) -> Result<(), AgentError> {
        state_dir.write_json(JOINED, self)
    }

    /// Returns certificate and key for the link to the server.
    pub fn identity<'a>(&'a self, key: &'a str) -> Identity<'a> {
        Identity { certificate: &self.certificate, key }
    }
}

/// An exchange of marks with a server: one at a time on a machine, so that each shows the mark that was given last.
pub struct MarkExchange {
    /// The fleet, as it is known now.
    pub membership: Membership,
    _lock: Box<dyn Lock>,
}

/// How long another exchange of this machine is waited for.
const EXCHANGE_PATIENCE: Duration = Duration::from_secs(60);

impl MarkExchange {
    /// Begins one, when nobody else on this machine has one.
    ///
    /// # Errors
    ///
    /// Returns that another one goes on still, or that the machine belongs to no fleet.
    pub async fn begin(state_dir: &StateDir) -> Result<Self, AgentError> {
        let end = Instant::now() + EXCHANGE_PATIENCE;
        let lock = loop {
            if let Some(lock) = state_dir.try_lock("exchange")? {
                break lock;
            }
            if Instant::now() >= end {
                return Err(AgentError::new("another check-in of this machine is in progress")
                    .hint("wait until it finishes, then check in again")
                    .exit(Exit::Busy));
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        };
        Ok(Self { membership: Membership::of(state_dir)?, _lock: lock })
    }

    /// Ends it: keeps the mark that the next one shows.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn end(self, state_dir: &StateDir, mark: Uuid) -> Result<Membership, AgentError> {
        let membership = Membership { mark: Some(mark), dismissed: None, ..self.membership };
        membership.keep(state_dir)?;
        Ok(membership)
    }
}

impl NodeKey {
    /// Returns the node's key; it is made at first and never leaves the machine.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read or made.
    pub fn open(state_dir: &StateDir) -> Result<Self, AgentError> {
        let name = NODE_KEY;
        let broken = |error: rcgen::Error| {
            AgentError::new(format!("the key in {} cannot be used: {error}", state_dir.shown(name).display()))
                .hint("delete it and join again")
        };
        let pair = if let Some(pem) = state_dir.read_text(name)? {
            KeyPair::from_pem(&pem).map_err(broken)?
        } else {
            let pair = KeyPair::generate().map_err(broken)?;
            state_dir.write(name, pair.serialize_pem().as_bytes())?;
            pair
        };
        let fingerprint = hex(&Sha256::digest(pair.subject_public_key_info()));
        Ok(Self { pair, fingerprint })
    }

    /// Takes the key away: the next one is another node's.
    pub fn forget(state_dir: &StateDir) {
        state_dir.remove(NODE_KEY);
    }

    /// Returns the key, PEM.
    pub fn pem(&self) -> String {
        self.pair.serialize_pem()
    }

    /// Returns a certificate request (PKCS #10), PEM.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be made.
    pub fn request(&self) -> Result<String, AgentError> {
        let made = CertificateParams::new(Vec::new())
            .and_then(|params| params.serialize_request(&self.pair))
            .and_then(|request| request.pem());
        made.map_err(|error| AgentError::new(format!("cannot create a certificate request: {error}")))
    }
}
