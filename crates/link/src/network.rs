//! Requests of an agent to its servers, whatever carries them: the network part, a process of its own, or this process.

use crate::{Identity, LinkError, answered, client};
use constans_wire::text::without_nul;
use reqwest::Client;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::net::SocketAddr;
use std::pin::Pin;
use std::time::Duration;
use tokio::net::{TcpStream, lookup_host};
use tokio::time::timeout;

/// How long a name server or a port may take to answer.
const PATIENCE: Duration = Duration::from_secs(10);

/// A request; its body goes beside it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub enum Asked {
    /// Asks for what is at a URL.
    Get {
        /// The URL.
        url: String,
    },
    /// Says something at a URL, in JSON.
    Post {
        /// The URL.
        url: String,
    },
    /// Finds out how far the way to a host leads, saying nothing there; the answer is a [`Reached`].
    Reach {
        /// The host, with its port.
        host: String,
    },
}

/// How far the way to a host leads, before anything is said there.
#[derive(Debug, Serialize, Deserialize)]
pub enum Reached {
    /// Its name is not known, and why; nothing if nobody answered who could know it.
    NoName(Option<String>),
    /// Nothing is open there, and why; nothing if nobody answered.
    NoPort(SocketAddr, Option<String>),
    /// It is open there; these are all its addresses.
    Open(SocketAddr, Vec<SocketAddr>),
}

/// An answer's bytes, once they are there.
pub type Carried<'a> = Pin<Box<dyn Future<Output = Result<Vec<u8>, LinkError>> + Send + 'a>>;

/// What carries requests to a server, and answers back.
pub trait Carry: Send + Sync {
    /// Carries one request there, and its answer back.
    fn carry(&self, asked: Asked, body: Vec<u8>) -> Carried<'_>;
}

/// A way to servers.
pub struct Network {
    carry: Box<dyn Carry>,
}

impl Network {
    /// Returns the way to servers that something carries requests on.
    pub fn over(carry: impl Carry + 'static) -> Self {
        Self { carry: Box::new(carry) }
    }

    /// Asks for something.
    ///
    /// # Errors
    ///
    /// Returns why the server was not heard, or what it refused.
    pub async fn get<T: DeserializeOwned>(&self, url: &str) -> Result<T, LinkError> {
        read_answer(url, &self.bytes(url).await?)
    }

    /// Asks for something and returns its bytes.
    ///
    /// # Errors
    ///
    /// Returns why the server was not heard, or what it refused.
    pub async fn bytes(&self, url: &str) -> Result<Vec<u8>, LinkError> {
        self.carry.carry(Asked::Get { url: url.to_owned() }, Vec::new()).await
    }

    /// Says something and reads the answer.
    ///
    /// # Errors
    ///
    /// Returns why the server was not heard, or what it refused.
    pub async fn post<T: DeserializeOwned>(&self, url: &str, said: &impl Serialize) -> Result<T, LinkError> {
        let mut body = serde_json::to_vec(said).map_err(|error| LinkError::Apart(format!("cannot say this: {error}")))?;
        without_nul(&mut body);
        read_answer(url, &self.carry.carry(Asked::Post { url: url.to_owned() }, body).await?)
    }

    /// Finds out how far the way to `host:port` leads, saying nothing there.
    ///
    /// # Errors
    ///
    /// Returns that the network part did not do its work.
    pub async fn reach(&self, host: &str) -> Result<Reached, LinkError> {
        read_answer(host, &self.carry.carry(Asked::Reach { host: host.to_owned() }, Vec::new()).await?)
    }
}

fn read_answer<T: DeserializeOwned>(url: &str, body: &[u8]) -> Result<T, LinkError> {
    serde_json::from_slice(body).map_err(|error| LinkError::Strange { url: url.to_owned(), because: error.to_string() })
}

/// Carries requests from this process.
pub struct Direct {
    client: Client,
    fingerprint: String,
}

impl Direct {
    /// Prepares requests to the server whose CA has this fingerprint.
    ///
    /// # Errors
    ///
    /// Returns what is wrong with fingerprint or identity.
    pub fn new(fingerprint: &str, identity: Option<&Identity<'_>>) -> Result<Self, LinkError> {
        Ok(Self { client: client(fingerprint, identity)?, fingerprint: fingerprint.to_owned() })
    }

    async fn ask(&self, asked: Asked, body: Vec<u8>) -> Result<Vec<u8>, LinkError> {
        let request = match asked {
            Asked::Reach { host } => return Ok(serde_json::to_vec(&reach(&host).await).expect("it is plain data")),
            Asked::Get { url } => self.client.get(url),
            Asked::Post { url } => self.client.post(url).header("Content-Type", "application/json").body(body),
        };
        Ok(answered(request, &self.fingerprint).await?.body)
    }
}

impl Carry for Direct {
    fn carry(&self, asked: Asked, body: Vec<u8>) -> Carried<'_> {
        Box::pin(self.ask(asked, body))
    }
}

async fn reach(host: &str) -> Reached {
    let addresses: Vec<SocketAddr> = match timeout(PATIENCE, lookup_host(host)).await {
        Ok(Ok(addresses)) => addresses.collect(),
        Ok(Err(error)) => return Reached::NoName(Some(error.to_string())),
        Err(_) => return Reached::NoName(None),
    };
    let Some(address) = addresses.first().copied() else { return Reached::NoName(Some("it has no address".to_owned())) };
    match timeout(PATIENCE, TcpStream::connect(address)).await {
        Ok(Ok(_)) => Reached::Open(address, addresses),
        Ok(Err(error)) => Reached::NoPort(address, Some(error.to_string())),
        Err(_) => Reached::NoPort(address, None),
    }
}
