//! Requests of an agent to its server, sent by the network part or by this process.

use crate::{Identity, LinkError, client, judged, not_sent};
use constans_wire::text::without_nul;
use reqwest::Client;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::time::{Duration, Instant};
use tokio::net::{TcpStream, lookup_host};
use tokio::time::timeout;

/// How long a server may take to begin its answer, beside the time that the request takes on its way.
const ANSWER_PATIENCE: Duration = Duration::from_secs(60);
/// How long nothing may come of an answer that has begun.
const PIECE_PATIENCE: Duration = Duration::from_secs(30);
/// What moves more slowly does not move.
const SLOWEST_BYTES_A_SECOND: u64 = 2 * 1024;
/// No request takes longer than this.
const LONGEST: Duration = Duration::from_secs(24 * 3_600);
/// The largest answer, in bytes: contents have 64 MiB at the most.
const MAX_ANSWER: usize = 80 * 1024 * 1024;
/// How long a server may hold a request: its own 240 s and a tenth more, and the way there and back.
const HELD_PATIENCE: Duration = Duration::from_secs(300);
/// The largest answer to a request that is held, in bytes.
const MAX_HELD_ANSWER: usize = 4 * 1024;
/// The largest body of a refusal, in bytes.
const MAX_REFUSAL: usize = 1024 * 1024;
/// How long a name server or a port may take to answer.
const PATIENCE: Duration = Duration::from_secs(10);

/// A request; its body goes beside it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub enum NetworkRequest {
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
    /// Asks for what is at a URL that the server holds until it has something to say.
    Wait {
        /// The URL.
        url: String,
    },
    /// Finds out how far the way to a host leads, saying nothing there; the answer is a [`Reached`].
    Reach {
        /// The host, with its port.
        host: String,
    },
}

/// How far the way to a host leads, before anything is sent there.
#[derive(Debug, Serialize, Deserialize)]
pub enum Reached {
    /// Its name is not known, and why; nothing if nobody answered who could know it.
    NoName(Option<String>),
    /// Nothing is open there, and why; nothing if nobody answered.
    NoPort(SocketAddr, Option<String>),
    /// It is open there; these are all its addresses.
    Open(SocketAddr, Vec<SocketAddr>),
}

/// Whether an answer ended.
pub type Carried<'a> = Pin<Box<dyn Future<Output = Result<(), LinkError>> + Send + 'a>>;

/// Takes the pieces of an answer in as they come; once it fails, no more come.
pub type Taker<'a> = &'a mut (dyn FnMut(&[u8]) -> io::Result<()> + Send);

/// What carries requests to a server, and answers back.
pub trait Carry: Send + Sync {
    /// Carries one request there, and the pieces of its answer back. What came of an answer that breaks off is nothing.
    fn carry<'a>(&'a self, request: NetworkRequest, body: Vec<u8>, take: Taker<'a>) -> Carried<'a>;
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
    /// Returns why the server did not answer, or what it refused.
    pub async fn get<T: DeserializeOwned>(&self, url: &str) -> Result<T, LinkError> {
        read_answer(url, &self.bytes(url).await?)
    }

    /// Asks for something and returns its bytes.
    ///
    /// # Errors
    ///
    /// Returns why the server did not answer, or what it refused.
    pub async fn bytes(&self, url: &str) -> Result<Vec<u8>, LinkError> {
        self.whole(NetworkRequest::Get { url: url.to_owned() }, Vec::new()).await
    }

    /// Asks for something and reads its bytes as they arrive, at most 80 MiB.
    ///
    /// # Errors
    ///
    /// Returns why the server did not answer, what it refused, or why the bytes could not be read.
    pub async fn fetch(
        &self,
        url: &str,
        mut take: impl FnMut(&[u8]) -> io::Result<()> + Send,
    ) -> Result<(), LinkError> {
        let mut received = 0;
        let mut bounded = |piece: &[u8]| {
            received += piece.len();
            if received > MAX_ANSWER {
                Err(io::Error::other(format!("more than {MAX_ANSWER} bytes came")))
            } else {
                take(piece)
            }
        };
        self.carry.carry(NetworkRequest::Get { url: url.to_owned() }, Vec::new(), &mut bounded).await
    }

    /// Asks for what the server holds until it has something to say, for five minutes at most.
    ///
    /// # Errors
    ///
    /// Returns why the server did not answer, or what it refused.
    pub async fn wait<T: DeserializeOwned>(&self, url: &str) -> Result<T, LinkError> {
        read_answer(url, &self.whole(NetworkRequest::Wait { url: url.to_owned() }, Vec::new()).await?)
    }

    async fn whole(&self, request: NetworkRequest, body: Vec<u8>) -> Result<Vec<u8>, LinkError> {
        let mut answer = Vec::new();
        let mut take = |piece: &[u8]| {
            answer.extend_from_slice(piece);
            if answer.len() > MAX_ANSWER {
                Err(io::Error::other(format!("more than {MAX_ANSWER} bytes came")))
            } else {
                Ok(())
            }
        };
        self.carry.carry(request, body, &mut take).await?;
        Ok(answer)
    }

    /// Says something and reads the answer.
    ///
    /// # Errors
    ///
    /// Returns why the server did not answer, or what it refused.
    pub async fn post<T: DeserializeOwned>(&self, url: &str, body: &impl Serialize) -> Result<T, LinkError> {
        let mut body = serde_json::to_vec(body)
            .map_err(|error| LinkError::Apart(format!("cannot say this: {error}")))?;
        without_nul(&mut body);
        read_answer(url, &self.whole(NetworkRequest::Post { url: url.to_owned() }, body).await?)
    }

    /// Finds out how far the way to `host:port` leads, saying nothing there.
    ///
    /// # Errors
    ///
    /// Returns that the network part did not do its work.
    pub async fn reach(&self, host: &str) -> Result<Reached, LinkError> {
        read_answer(host, &self.whole(NetworkRequest::Reach { host: host.to_owned() }, Vec::new()).await?)
    }
}

fn read_answer<T: DeserializeOwned>(url: &str, body: &[u8]) -> Result<T, LinkError> {
    serde_json::from_slice(body)
        .map_err(|error| LinkError::Strange { url: url.to_owned(), because: error.to_string() })
}

/// Carries requests from this process; clones share their connections.
#[derive(Clone)]
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

    async fn ask(&self, request: NetworkRequest, body: Vec<u8>, take: Taker<'_>) -> Result<(), LinkError> {
        let bytes = body.len() as u64;
        let is_held = matches!(request, NetworkRequest::Wait { .. });
        let (url, request) = match request {
            NetworkRequest::Reach { host } => {
                let reached = serde_json::to_vec(&reach(&host).await).expect("it is plain data");
                return take(&reached).map_err(|error| not_taken(&host, &error));
            }
            NetworkRequest::Get { url } | NetworkRequest::Wait { url } => (url.clone(), self.client.get(url)),
            NetworkRequest::Post { url } => {
                (url.clone(), self.client.post(url).header("Content-Type", "application/json").body(body))
            }
        };
        let slow = |because: &str| LinkError::NotReached { url: url.clone(), because: because.to_owned() };
        let patience = if is_held { HELD_PATIENCE } else { ANSWER_PATIENCE + at_slowest(bytes) };
        // The whole may take as long as it moves.
        let sent = timeout(patience, request.timeout(LONGEST).send());
        let mut response = sent
            .await
            .map_err(|_| slow("no answer in time"))?
            .map_err(|error| not_sent(&error, &self.fingerprint))?;
        let (status, mut received, began) = (response.status(), 0, Instant::now());
        let mut refusal = Vec::new();
        loop {
            let piece = timeout(PIECE_PATIENCE, response.chunk())
                .await
                .map_err(|_| slow("the connection was lost during the answer"))?;
            let Some(piece) = piece.map_err(|error| not_sent(&error, &self.fingerprint))? else { break };
            received += piece.len();
            if is_held && received > MAX_HELD_ANSWER {
                let because = format!("it answers a held request with more than {MAX_HELD_ANSWER} bytes");
                return Err(LinkError::Strange { url, because });
            }
            if status.is_success() {
                take(&piece).map_err(|error| not_taken(&url, &error))?;
            } else if received <= MAX_REFUSAL {
                refusal.extend_from_slice(&piece);
            } else {
                return Err(LinkError::Strange {
                    url,
                    because: format!("it refuses with more than {MAX_REFUSAL} bytes"),
                });
            }
            if began.elapsed() > PIECE_PATIENCE + at_slowest(received as u64) {
                return Err(slow("the answer makes no progress"));
            }
        }
        if status.is_success() { Ok(()) } else { judged(&url, status, refusal).map(drop) }
    }
}

fn not_taken(url: &str, error: &io::Error) -> LinkError {
    LinkError::Strange { url: url.to_owned(), because: error.to_string() }
}

/// Returns how long this many bytes may take on the slowest link that is supported.
fn at_slowest(bytes: u64) -> Duration {
    Duration::from_secs(bytes / SLOWEST_BYTES_A_SECOND)
}

impl Carry for Direct {
    fn carry<'a>(&'a self, request: NetworkRequest, body: Vec<u8>, take: Taker<'a>) -> Carried<'a> {
        Box::pin(self.ask(request, body, take))
    }
}

async fn reach(host: &str) -> Reached {
    let addresses: Vec<SocketAddr> = match timeout(PATIENCE, lookup_host(host)).await {
        Ok(Ok(addresses)) => addresses.collect(),
        Ok(Err(error)) => return Reached::NoName(Some(error.to_string())),
        Err(_) => return Reached::NoName(None),
    };
    let Some(address) = addresses.first().copied() else {
        return Reached::NoName(Some("it has no address".to_owned()));
    };
    match timeout(PATIENCE, TcpStream::connect(address)).await {
        Ok(Ok(_)) => Reached::Open(address, addresses),
        Ok(Err(error)) => Reached::NoPort(address, Some(error.to_string())),
        Err(_) => Reached::NoPort(address, None),
    }
}
