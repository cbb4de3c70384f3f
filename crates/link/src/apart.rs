//! The part of an agent that speaks to the network, as a process of its own without rights: the part that acts gives it what
//! to say, and gets back what was answered. Whatever a server or anybody in between sends is first read there.
//!
//! Both speak in frames over a pipe: four bytes of length, then so many bytes; what is said in JSON, then the body.

use crate::{Identity, LinkError, answered, client};
use reqwest::{Client, RequestBuilder};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::io;
use std::net::SocketAddr;
use std::process::Stdio;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::net::{TcpStream, lookup_host};
use tokio::process::{Child, ChildStdin, ChildStdout, Command};
use tokio::sync::Mutex;
use tokio::time::timeout;

/// The largest body of a request or an answer, in bytes.
const LARGEST_FRAME: usize = 256 * 1024 * 1024;

/// What the network part is told first: which server to trust, and as whom to speak.
#[derive(Serialize, Deserialize)]
struct Begin {
    fingerprint: String,
    identity: Option<(String, String)>,
}

/// A request; its body follows.
#[derive(Serialize, Deserialize)]
enum Asked {
    Get { url: String },
    Post { url: String },
    Reach { host: String },
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

/// How long a name server or a port may take to answer.
const PATIENCE: Duration = Duration::from_secs(10);

/// A network part that was started.
pub struct Apart {
    process: Mutex<Process>,
}

struct Process {
    /// It ends with this.
    _child: Child,
    requests: ChildStdin,
    answers: ChildStdout,
}

impl Apart {
    /// Starts the network part by a command that calls [`serve`]; it trusts the server whose CA has this fingerprint.
    ///
    /// # Errors
    ///
    /// Returns why it could not be started.
    pub async fn start(mut command: Command, fingerprint: &str, identity: Option<&Identity<'_>>) -> Result<Self, LinkError> {
        command.env_clear().current_dir("/").stdin(Stdio::piped()).stdout(Stdio::piped()).kill_on_drop(true);
        let mut child = command.spawn().map_err(|error| LinkError::Apart(format!("could not be started: {error}")))?;
        let pipes = child.stdin.take().zip(child.stdout.take());
        let (mut requests, answers) = pipes.ok_or_else(|| LinkError::Apart("has no pipes".to_owned()))?;
        let identity = identity.map(|identity| (identity.certificate.to_owned(), identity.key.to_owned()));
        let begin = Begin { fingerprint: fingerprint.to_owned(), identity };
        write_json(&mut requests, &begin).await.map_err(broken)?;
        Ok(Self { process: Mutex::new(Process { _child: child, requests, answers }) })
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
        self.carry(Asked::Get { url: url.to_owned() }, &[]).await
    }

    /// Says something and reads the answer.
    ///
    /// # Errors
    ///
    /// Returns why the server was not heard, or what it refused.
    pub async fn post<T: DeserializeOwned>(&self, url: &str, said: &impl Serialize) -> Result<T, LinkError> {
        let body = serde_json::to_vec(said).map_err(|error| LinkError::Apart(format!("cannot say this: {error}")))?;
        read_answer(url, &self.carry(Asked::Post { url: url.to_owned() }, &body).await?)
    }

    /// Finds out how far the way to `host:port` leads, saying nothing there.
    ///
    /// # Errors
    ///
    /// Returns that the network part did not do its work.
    pub async fn reach(&self, host: &str) -> Result<Reached, LinkError> {
        read_answer(host, &self.carry(Asked::Reach { host: host.to_owned() }, &[]).await?)
    }

    async fn carry(&self, asked: Asked, body: &[u8]) -> Result<Vec<u8>, LinkError> {
        let mut process = self.process.lock().await;
        write_json(&mut process.requests, &asked).await.map_err(broken)?;
        write_frame(&mut process.requests, body).await.map_err(broken)?;
        let said = read_frame(&mut process.answers).await.map_err(broken)?;
        let said: Result<(), LinkError> = serde_json::from_slice(&said).map_err(|error| LinkError::Apart(format!("answers oddly: {error}")))?;
        said?;
        read_frame(&mut process.answers).await.map_err(broken)
    }
}

fn read_answer<T: DeserializeOwned>(url: &str, body: &[u8]) -> Result<T, LinkError> {
    serde_json::from_slice(body).map_err(|error| LinkError::Strange { url: url.to_owned(), because: error.to_string() })
}

#[expect(clippy::needless_pass_by_value, reason = "it is given to map_err")]
fn broken(error: io::Error) -> LinkError {
    LinkError::Apart(if error.kind() == io::ErrorKind::UnexpectedEof { "ended before it answered".to_owned() } else { error.to_string() })
}

/// Carries requests to the server and answers back, until nobody asks any more. This is the network part's whole life.
///
/// # Errors
///
/// Returns that it was not told properly what to do.
pub async fn serve() -> io::Result<()> {
    let (mut requests, mut answers) = (tokio::io::stdin(), tokio::io::stdout());
    let begin: Begin = serde_json::from_slice(&read_frame(&mut requests).await?)?;
    let identity = begin.identity.as_ref().map(|(certificate, key)| Identity { certificate, key });
    let client = client(&begin.fingerprint, identity.as_ref());
    loop {
        let asked: Asked = match read_frame(&mut requests).await {
            Ok(frame) => serde_json::from_slice(&frame)?,
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(()),
            Err(error) => return Err(error),
        };
        let body = read_frame(&mut requests).await?;
        let answer = match asked {
            Asked::Reach { host } => Ok(serde_json::to_vec(&reach(&host).await)?),
            Asked::Get { url } => ask(&client, |client| client.get(url), &begin.fingerprint).await,
            Asked::Post { url } => {
                let json = |client: &Client| client.post(url).header("Content-Type", "application/json").body(body);
                ask(&client, json, &begin.fingerprint).await
            }
        };
        match answer {
            Ok(body) => {
                write_json(&mut answers, &Ok::<(), LinkError>(())).await?;
                write_frame(&mut answers, &body).await?;
            }
            Err(error) => write_json(&mut answers, &Err::<(), LinkError>(error)).await?,
        }
    }
}

async fn ask(client: &Result<Client, LinkError>, request: impl FnOnce(&Client) -> RequestBuilder, fingerprint: &str) -> Result<Vec<u8>, LinkError> {
    let client = client.as_ref().map_err(Clone::clone)?;
    Ok(answered(request(client), fingerprint).await?.body)
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

async fn write_json(to: &mut (impl AsyncWrite + Unpin), value: &impl Serialize) -> io::Result<()> {
    write_frame(to, &serde_json::to_vec(value)?).await
}

async fn write_frame(to: &mut (impl AsyncWrite + Unpin), bytes: &[u8]) -> io::Result<()> {
    let length = u32::try_from(bytes.len()).ok().filter(|length| *length as usize <= LARGEST_FRAME);
    to.write_u32_le(length.ok_or_else(too_large)?).await?;
    to.write_all(bytes).await?;
    to.flush().await
}

async fn read_frame(from: &mut (impl AsyncRead + Unpin)) -> io::Result<Vec<u8>> {
    let length = from.read_u32_le().await? as usize;
    if length > LARGEST_FRAME {
        return Err(too_large());
    }
    let mut bytes = Vec::new();
    // Grows with what comes, not with what was announced.
    from.take(length as u64).read_to_end(&mut bytes).await?;
    if bytes.len() == length { Ok(bytes) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
}

fn too_large() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "what is said is too large")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_frame_comes_back_as_it_was_written_and_a_cut_or_boundless_one_is_refused() {
        let mut pipe = Vec::new();
        write_frame(&mut pipe, b"ferry").await.unwrap();
        assert_eq!(read_frame(&mut pipe.as_slice()).await.unwrap(), b"ferry");
        assert_eq!(read_frame(&mut &pipe[..7]).await.unwrap_err().kind(), io::ErrorKind::UnexpectedEof);
        assert_eq!(read_frame(&mut u32::MAX.to_le_bytes().as_slice()).await.unwrap_err().kind(), io::ErrorKind::InvalidData);
    }
}
