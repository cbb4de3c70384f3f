//! Connections to Rocket on loopback.

use super::body::CallersBody;
use super::limits::{CountedConnection, Limits};
use crate::callers::{Caller, Callers, Entry, ShownCertificate};
use hyper::client::conn::http1::{SendRequest, handshake};
use hyper_util::rt::TokioIo;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::pin::Pin;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpSocket, TcpStream};
use tokio::time::sleep;

/// A connection to Rocket that nothing is asked on for this long is closed.
const UNUSED: Duration = Duration::from_millis(200);
/// So long a request waits for a connection while there are as many as there may be.
const PATIENCE: Duration = Duration::from_secs(2);
/// How often it is looked whether there is one.
const LOOK_EVERY: Duration = Duration::from_millis(20);

pub(super) type Sender = SendRequest<CallersBody>;

/// The connections that one caller's connection has to Rocket: several, if it asks for several things at once.
pub(super) struct BackConnections {
    rocket: SocketAddr,
    callers: Callers,
    caller: Arc<Caller>,
    limits: Arc<Limits>,
    /// Since when each has been idle.
    idle: Mutex<Vec<(Instant, Sender)>>,
}

impl BackConnections {
    pub fn new(rocket: SocketAddr, callers: Callers, caller: Arc<Caller>, limits: Arc<Limits>) -> Self {
        Self { rocket, callers, caller, limits, idle: Mutex::default() }
    }

    /// Returns the node's certificate, if the caller showed one.
    pub fn shown(&self) -> Option<&ShownCertificate> {
        self.caller.shown.as_ref()
    }

    /// Closes those that nothing is asked on.
    pub fn close_idle(&self) {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    /// Returns one that takes a request.
    pub async fn take(&self) -> io::Result<Sender> {
        loop {
            let idle = self.idle.lock().unwrap_or_else(PoisonError::into_inner).pop();
            let Some((_, mut sender)) = idle else { return self.connect().await };
            if sender.ready().await.is_ok() {
                return Ok(sender);
            }
        }
    }

    /// Gives one back whose answer has ended. It is closed if nothing is asked on it soon: most callers ask for one thing or a few, and
    /// stay connected for much longer.
    pub fn give_back(self: &Arc<Self>, sender: Sender) {
        if sender.is_closed() {
            return;
        }
        self.idle.lock().unwrap_or_else(PoisonError::into_inner).push((Instant::now(), sender));
        let connections = Arc::downgrade(self);
        tokio::spawn(async move {
            sleep(UNUSED).await;
            if let Some(connections) = connections.upgrade() {
                let mut idle = connections.idle.lock().unwrap_or_else(PoisonError::into_inner);
                idle.retain(|(since, _)| since.elapsed() < UNUSED);
            }
        });
    }

    async fn place(&self) -> Option<CountedConnection> {
        let until = Instant::now() + PATIENCE;
        loop {
            let place = self.limits.take(self.caller.address.ip());
            if place.is_some() || Instant::now() >= until {
                return place;
            }
            sleep(LOOK_EVERY).await;
        }
    }

    /// Over HTTP/2 one connection asks for many things at once: what that takes is counted like connections of its own.
    async fn connect(&self) -> io::Result<Sender> {
        let mut place = self.place().await.ok_or(io::ErrorKind::WouldBlock)?;
        if self.caller.shown.as_ref().is_some_and(|shown| !place.is_of(shown.node)) {
            return Err(io::ErrorKind::WouldBlock.into());
        }
        let socket = TcpSocket::new_v4()?;
        socket.bind(next_source())?;
        let stream = socket.connect(self.rocket).await?;
        stream.set_nodelay(true)?;
        let entry = self.callers.enter(stream.local_addr()?, self.caller.clone());
        let (sender, connection) =
            handshake(TokioIo::new(BackStream { _entry: entry, _place: place, stream }))
                .await
                .map_err(io::Error::other)?;
        tokio::spawn(connection);
        Ok(sender)
    }
}

/// A port that was closed just now may be used again at once. So that nothing of its last caller is taken for the next one's, the
/// address changes each time.
fn next_source() -> SocketAddr {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    const FIRST: u32 = 0x7f00_0002;
    const COUNT: u32 = 0x00ff_fff0;
    (Ipv4Addr::from(FIRST + NEXT.fetch_add(1, Ordering::Relaxed) % COUNT), 0).into()
}

/// A stream that goes on reading where writing is over: Rocket refuses a body that is too large without reading it, and its
/// answer would be lost. The entry is dropped before the stream, so that the port is free again only after it.
struct BackStream {
    _entry: Entry,
    _place: CountedConnection,
    stream: TcpStream,
}

fn forgiven(written: Poll<io::Result<usize>>, length: usize) -> Poll<io::Result<usize>> {
    match written {
        Poll::Ready(Err(error))
            if matches!(error.kind(), io::ErrorKind::BrokenPipe | io::ErrorKind::ConnectionReset) =>
        {
            Poll::Ready(Ok(length))
        }
        other => other,
    }
}

impl AsyncRead for BackStream {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        into: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(context, into)
    }
}

impl AsyncWrite for BackStream {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        forgiven(Pin::new(&mut self.stream).poll_write(context, bytes), bytes.len())
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        slices: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let length = slices.iter().map(|slice| slice.len()).sum();
        forgiven(Pin::new(&mut self.stream).poll_write_vectored(context, slices), length)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}
