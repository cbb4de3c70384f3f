//! The network part as a separate process without rights: the main process sends it requests and verifies its answers.
//! Whatever a server or anyone in between sends is first read there.
//!
//! Both speak in frames over a pipe: four bytes with the number of the request that it belongs to, four bytes of length, then this many
//! bytes. A request is two frames: what is asked in JSON, then its body. An answer is the pieces of its body, an empty one, and
//! in JSON whether it ended. Several requests may be under way: one that the server holds does not keep the others.

use crate::network::{Carried, Carry, Direct, NetworkRequest, Taker};
use crate::{Identity, LinkError};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::io;
use std::process::Stdio;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::process::{Child, Command};
use tokio::sync::mpsc::{self, Receiver, Sender, UnboundedReceiver, UnboundedSender, unbounded_channel};
use tokio::task::AbortHandle;

/// The largest body of a request or an answer, in bytes.
const MAX_FRAME: usize = 80 * 1024 * 1024;
/// This many pieces of an answer may wait to be taken in.
const MAX_PIECES: usize = 4;

/// The first message to the network part: the server to trust and the identity to use.
#[derive(Serialize, Deserialize)]
struct Begin {
    fingerprint: String,
    identity: Option<(String, String)>,
}

/// What the network part is asked for.
#[derive(Serialize, Deserialize)]
enum Asked {
    /// To carry a request; its body follows.
    Carry(NetworkRequest),
    /// To let a request be: nobody waits for its answer any more.
    Leave,
}

/// What belongs to one request.
struct Frame {
    request: u32,
    bytes: Vec<u8>,
}

/// The requests that are under way, by number; none once the network part has ended.
type UnderWay = Arc<Mutex<Option<HashMap<u32, Sender<Vec<u8>>>>>>;

/// A network part that was started.
pub struct Apart {
    /// It ends with this.
    _child: Option<Child>,
    frames: UnboundedSender<Vec<Frame>>,
    under_way: UnderWay,
    next: AtomicU32,
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
        write_frame(&mut requests, &frame_of(0, &begin)?).await.map_err(broken)?;
        Ok(Self { _child: Some(child), ..Self::over(requests, answers) })
    }

    fn over(
        requests: impl AsyncWrite + Unpin + Send + 'static,
        answers: impl AsyncRead + Unpin + Send + 'static,
    ) -> Self {
        let (frames, waiting) = unbounded_channel();
        let under_way = UnderWay::new(Mutex::new(Some(HashMap::new())));
        tokio::spawn(write_frames(requests, waiting));
        tokio::spawn(hand_out(answers, under_way.clone()));
        Self { _child: None, frames, under_way, next: AtomicU32::new(1) }
    }

    async fn ask(&self, request: NetworkRequest, body: Vec<u8>, take: Taker<'_>) -> Result<(), LinkError> {
        let mut answer = self.begin(request, body)?;
        let mut result = Ok(());
        loop {
            let piece = answer.next().await?;
            if piece.is_empty() {
                break;
            }
            // What follows an unreadable answer is read: only its end says how it ended.
            result = result.and_then(|()| take(&piece));
        }
        let ended: Result<(), LinkError> = serde_json::from_slice(&answer.next().await?)
            .map_err(|error| LinkError::Apart(format!("sent an invalid answer: {error}")))?;
        answer.is_over = true;
        ended?;
        result.map_err(|error| LinkError::Apart(format!("brought what could not be taken in: {error}")))
    }

    fn begin(&self, request: NetworkRequest, body: Vec<u8>) -> Result<ComingAnswer<'_>, LinkError> {
        if body.len() > MAX_FRAME {
            return Err(broken(too_large()));
        }
        let no = self.next.fetch_add(1, Ordering::Relaxed);
        let (sender, pieces) = mpsc::channel(MAX_PIECES);
        match &mut *self.under_way.lock().unwrap_or_else(PoisonError::into_inner) {
            Some(under_way) => under_way.insert(no, sender),
            None => return Err(ended_early()),
        };
        let answer = ComingAnswer { part: self, no, pieces, is_over: false };
        // Together: what another thread asks for does not come between.
        let asked = vec![frame_of(no, &Asked::Carry(request))?, Frame { request: no, bytes: body }];
        self.frames.send(asked).map_err(|_| ended_early())?;
        Ok(answer)
    }
}

/// The answer to a request that is under way. If it is dropped before its end, the request is let be.
struct ComingAnswer<'a> {
    part: &'a Apart,
    no: u32,
    pieces: Receiver<Vec<u8>>,
    is_over: bool,
}

impl ComingAnswer<'_> {
    async fn next(&mut self) -> Result<Vec<u8>, LinkError> {
        self.pieces.recv().await.ok_or_else(ended_early)
    }
}

impl Drop for ComingAnswer<'_> {
    fn drop(&mut self) {
        if let Some(under_way) = &mut *self.part.under_way.lock().unwrap_or_else(PoisonError::into_inner) {
            under_way.remove(&self.no);
        }
        if !self.is_over
            && let Ok(leave) = frame_of(self.no, &Asked::Leave)
        {
            // Who has ended left it already.
            let _ = self.part.frames.send(vec![leave]);
        }
    }
}

impl Carry for Apart {
    fn carry<'a>(&'a self, request: NetworkRequest, body: Vec<u8>, take: Taker<'a>) -> Carried<'a> {
        Box::pin(self.ask(request, body, take))
    }
}

async fn write_frames(mut requests: impl AsyncWrite + Unpin, mut waiting: UnboundedReceiver<Vec<Frame>>) {
    while let Some(together) = waiting.recv().await {
        for frame in &together {
            if write_frame(&mut requests, frame).await.is_err() {
                // It has ended, and so will what is read of it.
                return;
            }
        }
    }
}

/// Hands the pieces of answers out to those who wait for them, until the network part ends.
async fn hand_out(mut answers: impl AsyncRead + Unpin, under_way: UnderWay) {
    while let Ok(Frame { request, bytes }) = read_frame(&mut answers).await {
        let taker = under_way
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .as_ref()
            .and_then(|under_way| under_way.get(&request).cloned());
        if let Some(taker) = taker {
            // Who no longer waits has gone.
            let _ = taker.send(bytes).await;
        }
    }
    *under_way.lock().unwrap_or_else(PoisonError::into_inner) = None;
}

fn ended_early() -> LinkError {
    LinkError::Apart("ended before it answered".to_owned())
}

#[expect(clippy::needless_pass_by_value, reason = "it is given to map_err")]
fn broken(error: io::Error) -> LinkError {
    if error.kind() == io::ErrorKind::UnexpectedEof {
        ended_early()
    } else {
        LinkError::Apart(error.to_string())
    }
}

/// Carries requests to the server and answers back, until nobody asks any more. This is the network part's whole life.
///
/// # Errors
///
/// Returns that it received invalid arguments.
pub async fn serve() -> io::Result<()> {
    let mut requests = tokio::io::stdin();
    let begin: Begin = serde_json::from_slice(&read_frame(&mut requests).await?.bytes)?;
    let identity = begin.identity.as_ref().map(|(certificate, key)| Identity { certificate, key });
    let client = Direct::new(&begin.fingerprint, identity.as_ref());
    let (answers, waiting) = mpsc::channel(MAX_PIECES);
    tokio::spawn(write_answers(waiting));
    let mut carried: HashMap<u32, AbortHandle> = HashMap::new();
    loop {
        let Frame { request: no, bytes } = match read_frame(&mut requests).await {
            Ok(frame) => frame,
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(()),
            Err(error) => return Err(error),
        };
        carried.retain(|_, task| !task.is_finished());
        match serde_json::from_slice(&bytes)? {
            Asked::Leave => {
                if let Some(task) = carried.remove(&no) {
                    task.abort();
                }
            }
            Asked::Carry(request) => {
                let body = read_frame(&mut requests).await?.bytes;
                let (client, answers) = (client.clone(), answers.clone());
                let task = tokio::spawn(async move {
                    // Who asked has ended if this cannot be written.
                    let _ = answer(no, client, request, body, &answers).await;
                });
                carried.insert(no, task.abort_handle());
            }
        }
    }
}

/// Writes one frame after the other: a request that is let be leaves no half a frame.
async fn write_answers(mut waiting: Receiver<Frame>) {
    let mut answers = tokio::io::stdout();
    while let Some(frame) = waiting.recv().await {
        if write_frame(&mut answers, &frame).await.is_err() {
            // Who asked has ended.
            return;
        }
    }
}

type Answers = Sender<Frame>;

/// Carries one request, and writes the pieces of its answer as they come, a few on their way at a time.
async fn answer(
    no: u32,
    client: Result<Direct, LinkError>,
    request: NetworkRequest,
    body: Vec<u8>,
    answers: &Answers,
) -> io::Result<()> {
    let ended = match &client {
        Ok(client) => carry_pieces(no, client, request, body, answers).await?,
        Err(error) => Err(error.clone()),
    };
    send(answers, Frame { request: no, bytes: Vec::new() }).await?;
    send(answers, frame_of(no, &ended).map_err(io::Error::other)?).await
}

async fn carry_pieces(
    no: u32,
    client: &Direct,
    request: NetworkRequest,
    body: Vec<u8>,
    answers: &Answers,
) -> io::Result<Result<(), LinkError>> {
    let (pieces, mut coming) = unbounded_channel::<Vec<u8>>();
    let mut take = move |piece: &[u8]| {
        if piece.is_empty() { Ok(()) } else { pieces.send(piece.to_vec()).map_err(io::Error::other) }
    };
    let mut carried = client.carry(request, body, &mut take);
    let ended = loop {
        tokio::select! {
            biased;
            Some(bytes) = coming.recv() => send(answers, Frame { request: no, bytes }).await?,
            ended = &mut carried => break ended,
        }
    };
    while let Ok(bytes) = coming.try_recv() {
        send(answers, Frame { request: no, bytes }).await?;
    }
    Ok(ended)
}

async fn send(answers: &Answers, frame: Frame) -> io::Result<()> {
    answers.send(frame).await.map_err(io::Error::other)
}

fn frame_of(request: u32, value: &impl Serialize) -> Result<Frame, LinkError> {
    let bytes =
        serde_json::to_vec(value).map_err(|error| LinkError::Apart(format!("cannot say this: {error}")))?;
    Ok(Frame { request, bytes })
}

async fn write_frame(to: &mut (impl AsyncWrite + Unpin), frame: &Frame) -> io::Result<()> {
    let length = u32::try_from(frame.bytes.len()).ok().filter(|length| *length as usize <= MAX_FRAME);
    to.write_u32_le(frame.request).await?;
    to.write_u32_le(length.ok_or_else(too_large)?).await?;
    to.write_all(&frame.bytes).await?;
    to.flush().await
}

async fn read_frame(from: &mut (impl AsyncRead + Unpin)) -> io::Result<Frame> {
    let request = from.read_u32_le().await?;
    let length = from.read_u32_le().await? as usize;
    if length > MAX_FRAME {
        return Err(too_large());
    }
    let mut bytes = Vec::new();
    // Grows with what comes, not with what was announced.
    from.take(length as u64).read_to_end(&mut bytes).await?;
    if bytes.len() == length {
        Ok(Frame { request, bytes })
    } else {
        Err(io::ErrorKind::UnexpectedEof.into())
    }
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
        write_frame(&mut pipe, &Frame { request: 7, bytes: b"ferry".to_vec() }).await.unwrap();
        let read = read_frame(&mut pipe.as_slice()).await.unwrap();
        assert_eq!((read.request, read.bytes.as_slice()), (7, b"ferry".as_slice()));
        let kind = async |bytes: &[u8]| read_frame(&mut &*bytes).await.err().map(|error| error.kind());
        assert_eq!(kind(&pipe[..11]).await, Some(io::ErrorKind::UnexpectedEof));
        assert_eq!(kind(&[7, 0, 0, 0, 255, 255, 255, 255]).await, Some(io::ErrorKind::InvalidData));
    }

    async fn asked(part: &Apart, url: &str) -> Result<String, LinkError> {
        let mut answer = Vec::new();
        let mut take = |piece: &[u8]| {
            answer.extend_from_slice(piece);
            Ok(())
        };
        part.ask(NetworkRequest::Wait { url: url.to_owned() }, Vec::new(), &mut take).await?;
        Ok(String::from_utf8(answer).unwrap())
    }

    async fn request_at(part: &mut (impl AsyncRead + Unpin)) -> (u32, Option<String>) {
        let Frame { request, bytes } = read_frame(part).await.unwrap();
        match serde_json::from_slice(&bytes).unwrap() {
            Asked::Carry(NetworkRequest::Wait { url }) => {
                read_frame(part).await.unwrap();
                (request, Some(url))
            }
            Asked::Carry(other) => panic!("{other:?} was not asked for"),
            Asked::Leave => (request, None),
        }
    }

    async fn answer_at(part: &mut (impl AsyncWrite + Unpin), request: u32, answer: &[u8]) {
        let ended: Result<(), LinkError> = Ok(());
        let bytes = [answer.to_vec(), Vec::new(), serde_json::to_vec(&ended).unwrap()];
        for bytes in bytes {
            write_frame(part, &Frame { request, bytes }).await.unwrap();
        }
    }

    #[tokio::test]
    async fn a_request_that_is_held_does_not_keep_others_and_one_that_is_dropped_is_left() {
        let (requests, mut at_part) = tokio::io::duplex(64);
        let (mut from_part, answers) = tokio::io::duplex(64);
        let part = Apart::over(requests, answers);
        {
            let held = asked(&part, "/held");
            tokio::pin!(held);
            let (first, second) = tokio::select! {
                _ = &mut held => panic!("nobody answered it"),
                asked = async { (request_at(&mut at_part).await, asked(&part, "/at-once")) } => asked,
            };
            assert_eq!(first.1.as_deref(), Some("/held"));
            let answered = async {
                let (no, url) = request_at(&mut at_part).await;
                assert_eq!(url.as_deref(), Some("/at-once"));
                answer_at(
                    &mut from_part,
                    no,
                    b"this is longer than the pipe holds, so that it comes in parts",
                )
                .await;
            };
            let (answer, ()) = tokio::join!(second, answered);
            assert!(answer.unwrap().ends_with("in parts"));
            // Dropped here, before its answer.
        }
        assert_eq!(request_at(&mut at_part).await, (1, None), "the held one is left");
        // What still comes of it is nobody's, and does not disturb.
        answer_at(&mut from_part, 1, b"late").await;
        let third = async {
            let (no, _) = request_at(&mut at_part).await;
            answer_at(&mut from_part, no, b"third").await;
        };
        assert_eq!(tokio::join!(asked(&part, "/third"), third).0.unwrap(), "third");
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 4)]
    async fn the_body_of_a_request_follows_it_however_many_ask_at_once() {
        let (requests, mut at_part) = tokio::io::duplex(64 * 1024);
        let (mut from_part, answers) = tokio::io::duplex(64 * 1024);
        let part = Arc::new(Apart::over(requests, answers));
        let all: Vec<_> = (0..2_000)
            .map(|number| {
                let part = part.clone();
                tokio::spawn(async move { asked(&part, &format!("/{number}")).await })
            })
            .collect();
        for _ in &all {
            let asked = read_frame(&mut at_part).await.unwrap();
            let body = read_frame(&mut at_part).await.unwrap();
            assert_eq!((body.request, body.bytes.len()), (asked.request, 0), "another request came between");
            answer_at(&mut from_part, asked.request, b"well").await;
        }
        for answer in all {
            assert_eq!(answer.await.unwrap().unwrap(), "well");
        }
    }

    #[tokio::test]
    async fn whoever_waits_learns_that_the_network_part_ended_and_so_does_who_asks_then() {
        let (requests, at_part) = tokio::io::duplex(64);
        let (from_part, answers) = tokio::io::duplex(64);
        let part = Apart::over(requests, answers);
        let ends = async {
            tokio::task::yield_now().await;
            drop((at_part, from_part));
        };
        let (ended, ()) = tokio::join!(asked(&part, "/held"), ends);
        assert_eq!(ended.unwrap_err().to_string(), "the agent's network part ended before it answered");
        assert!(matches!(asked(&part, "/later").await, Err(LinkError::Apart(_))));
    }
}
