//! The network part as a separate process without rights: the main process sends it requests and verifies its answers.
//! Whatever a server or anyone in between sends is first read there.
//!
//! Both speak in frames over a pipe: four bytes of length, then this many bytes. A request is what is request in JSON, then its body;
//! an answer is the pieces of its body, an empty one, and in JSON whether it ended.

use crate::network::{Carried, Carry, Direct, NetworkRequest, Taker};
use crate::{Identity, LinkError};
use serde::{Deserialize, Serialize};
use std::io;
use std::process::Stdio;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::process::{Child, ChildStdin, ChildStdout, Command};
use tokio::sync::Mutex;
use tokio::sync::mpsc::unbounded_channel;

/// The largest body of a request or an answer, in bytes.
const MAX_FRAME: usize = 80 * 1024 * 1024;

/// The first message to the network part: the server to trust and the identity to use.
#[derive(Serialize, Deserialize)]
struct Begin {
    fingerprint: String,
    identity: Option<(String, String)>,
}

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
    pub async fn start(
        mut command: Command,
        fingerprint: &str,
        identity: Option<&Identity<'_>>,
    ) -> Result<Self, LinkError> {
        command.env_clear().current_dir("/").stdin(Stdio::piped()).stdout(Stdio::piped()).kill_on_drop(true);
        let mut child =
            command.spawn().map_err(|error| LinkError::Apart(format!("could not be started: {error}")))?;
        let pipes = child.stdin.take().zip(child.stdout.take());
        let (mut requests, answers) = pipes.ok_or_else(|| LinkError::Apart("has no pipes".to_owned()))?;
        let identity = identity.map(|identity| (identity.certificate.to_owned(), identity.key.to_owned()));
        let begin = Begin { fingerprint: fingerprint.to_owned(), identity };
        write_json(&mut requests, &begin).await.map_err(broken)?;
        Ok(Self { process: Mutex::new(Process { _child: child, requests, answers }) })
    }

    async fn ask(&self, request: &NetworkRequest, body: &[u8], take: Taker<'_>) -> Result<(), LinkError> {
        let mut process = self.process.lock().await;
        write_json(&mut process.requests, request).await.map_err(broken)?;
        write_frame(&mut process.requests, body).await.map_err(broken)?;
        let mut result = Ok(());
        loop {
            let piece = read_frame(&mut process.answers).await.map_err(broken)?;
            if piece.is_empty() {
                break;
            }
            // What follows an unreadable answer is read, so that the next answer is found behind it.
            result = result.and_then(|()| take(&piece));
        }
        let ended = read_frame(&mut process.answers).await.map_err(broken)?;
        let ended: Result<(), LinkError> = serde_json::from_slice(&ended)
            .map_err(|error| LinkError::Apart(format!("sent an invalid answer: {error}")))?;
        ended?;
        result.map_err(|error| LinkError::Apart(format!("brought what could not be taken in: {error}")))
    }
}

impl Carry for Apart {
    fn carry<'a>(&'a self, request: NetworkRequest, body: Vec<u8>, take: Taker<'a>) -> Carried<'a> {
        Box::pin(async move { self.ask(&request, &body, take).await })
    }
}

#[expect(clippy::needless_pass_by_value, reason = "it is given to map_err")]
fn broken(error: io::Error) -> LinkError {
    LinkError::Apart(if error.kind() == io::ErrorKind::UnexpectedEof {
        "ended before it answered".to_owned()
    } else {
        error.to_string()
    })
}

/// Carries requests to the server and answers back, until nobody asks any more. This is the network part's whole life.
///
/// # Errors
///
/// Returns that it received invalid arguments.
pub async fn serve() -> io::Result<()> {
    let (mut requests, mut answers) = (tokio::io::stdin(), tokio::io::stdout());
    let begin: Begin = serde_json::from_slice(&read_frame(&mut requests).await?)?;
    let identity = begin.identity.as_ref().map(|(certificate, key)| Identity { certificate, key });
    let client = Direct::new(&begin.fingerprint, identity.as_ref());
    loop {
        let request: NetworkRequest = match read_frame(&mut requests).await {
            Ok(frame) => serde_json::from_slice(&frame)?,
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(()),
            Err(error) => return Err(error),
        };
        let body = read_frame(&mut requests).await?;
        let ended = match &client {
            Ok(client) => carry_pieces(client, request, body, &mut answers).await?,
            Err(error) => Err(error.clone()),
        };
        write_frame(&mut answers, &[]).await?;
        write_json(&mut answers, &ended).await?;
    }
}

/// Carries one request, and writes the pieces of its answer as they come, a few on their way at a time.
async fn carry_pieces(
    client: &Direct,
    request: NetworkRequest,
    body: Vec<u8>,
    answers: &mut tokio::io::Stdout,
) -> io::Result<Result<(), LinkError>> {
    let (pieces, mut coming) = unbounded_channel::<Vec<u8>>();
    let mut take = move |piece: &[u8]| {
        if piece.is_empty() { Ok(()) } else { pieces.send(piece.to_vec()).map_err(io::Error::other) }
    };
    let mut carried = client.carry(request, body, &mut take);
    let ended = loop {
        tokio::select! {
            biased;
            Some(piece) = coming.recv() => write_frame(answers, &piece).await?,
            ended = &mut carried => break ended,
        }
    };
    while let Ok(piece) = coming.try_recv() {
        write_frame(answers, &piece).await?;
    }
    Ok(ended)
}

async fn write_json(to: &mut (impl AsyncWrite + Unpin), value: &impl Serialize) -> io::Result<()> {
    write_frame(to, &serde_json::to_vec(value)?).await
}

async fn write_frame(to: &mut (impl AsyncWrite + Unpin), bytes: &[u8]) -> io::Result<()> {
    let length = u32::try_from(bytes.len()).ok().filter(|length| *length as usize <= MAX_FRAME);
    to.write_u32_le(length.ok_or_else(too_large)?).await?;
    to.write_all(bytes).await?;
    to.flush().await
}

async fn read_frame(from: &mut (impl AsyncRead + Unpin)) -> io::Result<Vec<u8>> {
    let length = from.read_u32_le().await? as usize;
    if length > MAX_FRAME {
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
        assert_eq!(
            read_frame(&mut u32::MAX.to_le_bytes().as_slice()).await.unwrap_err().kind(),
            io::ErrorKind::InvalidData
        );
    }
}
