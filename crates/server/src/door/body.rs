//! The bodies that go through the door, both ways.

use super::activity::Busy;
use super::back::{BackConnections, Sender};
use crate::body::MAX_FILE;
use bytes::Bytes;
use http_body_util::{BodyExt as _, Full};
use hyper::body::{Body, Frame, Incoming, SizeHint};
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::Duration;
use tokio::time::{Instant, Sleep, sleep, timeout_at};

/// A body that sends nothing for this long is over.
const STALL: Duration = Duration::from_secs(20);
/// How long one may take in all.
const LONGEST: Duration = Duration::from_secs(600);
/// This many bytes are read of one at most, those that Rocket refused included: twice what any request may have, which is a file
/// of a kit.
const MAX_BYTES: usize = 2 * MAX_FILE as usize;
/// After Rocket has answered, this much longer is the rest of a body read, so that the caller comes to read the answer.
const DRAINED_FOR: Duration = Duration::from_secs(10);

/// What a caller sends, bounded in time and size.
pub(super) struct CallersBody {
    body: Option<Incoming>,
    stall: Pin<Box<Sleep>>,
    ends: Instant,
    left: usize,
}

impl CallersBody {
    pub fn new(body: Incoming) -> Self {
        let now = Instant::now();
        let body = Some(body).filter(|body| !body.is_end_stream());
        Self { body, stall: Box::pin(sleep(STALL)), ends: now + LONGEST, left: MAX_BYTES }
    }
}

impl Body for CallersBody {
    type Data = Bytes;
    type Error = io::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<io::Result<Frame<Bytes>>>> {
        let Some(body) = &mut self.body else { return Poll::Ready(None) };
        let polled = match Pin::new(body).poll_frame(context) {
            Poll::Pending => {
                ready!(self.stall.as_mut().poll(context));
                self.body = None;
                return Poll::Ready(Some(Err(io::ErrorKind::TimedOut.into())));
            }
            Poll::Ready(polled) => polled,
        };
        let now = Instant::now();
        let stalls_at = (now + STALL).min(self.ends);
        self.stall.as_mut().reset(stalls_at);
        let Some(frame) = polled else {
            self.body = None;
            return Poll::Ready(None);
        };
        let frame = frame.map_err(io::Error::other)?;
        let length = frame.data_ref().map_or(0, Bytes::len);
        if length > self.left || now > self.ends {
            self.body = None;
            return Poll::Ready(Some(Err(io::ErrorKind::QuotaExceeded.into())));
        }
        self.left -= length;
        Poll::Ready(Some(Ok(frame)))
    }

    fn is_end_stream(&self) -> bool {
        self.body.as_ref().is_none_or(Body::is_end_stream)
    }

    fn size_hint(&self) -> SizeHint {
        self.body.as_ref().map_or(SizeHint::with_exact(0), Body::size_hint)
    }
}

impl Drop for CallersBody {
    fn drop(&mut self) {
        if let Some(body) = self.body.take().filter(|body| !body.is_end_stream()) {
            tokio::spawn(drain(body, self.left, self.ends.min(Instant::now() + DRAINED_FOR)));
        }
    }
}

async fn drain(mut body: Incoming, mut left: usize, until: Instant) {
    while let Ok(Some(Ok(frame))) = timeout_at(until, body.frame()).await {
        let length = frame.data_ref().map_or(0, Bytes::len);
        if length > left {
            return;
        }
        left -= length;
    }
}

/// What is answered.
enum Source {
    /// By the door itself.
    Own(Full<Bytes>),
    /// By Rocket.
    Passed(Incoming),
}

/// What a caller is answered: by Rocket, or by the door itself.
pub(super) struct AnswerBody {
    source: Source,
    /// The connection it comes by: given back as soon as it has ended, since the last part of a body may never be asked for.
    back: Option<(Sender, Arc<BackConnections>)>,
    _busy: Busy,
}

impl AnswerBody {
    pub fn own(text: impl Into<Bytes>, busy: Busy) -> Self {
        Self { source: Source::Own(Full::new(text.into())), back: None, _busy: busy }
    }

    pub fn passed(body: Incoming, sender: Sender, connections: Arc<BackConnections>, busy: Busy) -> Self {
        let mut passed =
            Self { source: Source::Passed(body), back: Some((sender, connections)), _busy: busy };
        passed.give_back_at_end();
        passed
    }

    fn give_back_at_end(&mut self) {
        if self.is_end_stream()
            && let Some((sender, connections)) = self.back.take()
        {
            connections.give_back(sender);
        }
    }
}

impl Body for AnswerBody {
    type Data = Bytes;
    type Error = io::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<io::Result<Frame<Bytes>>>> {
        let frame = match &mut self.source {
            Source::Own(body) => {
                ready!(Pin::new(body).poll_frame(context)).map(|frame| frame.map_err(io::Error::other))
            }
            Source::Passed(body) => {
                ready!(Pin::new(body).poll_frame(context)).map(|frame| frame.map_err(io::Error::other))
            }
        };
        self.give_back_at_end();
        Poll::Ready(frame)
    }

    fn is_end_stream(&self) -> bool {
        match &self.source {
            Source::Own(body) => body.is_end_stream(),
            Source::Passed(body) => body.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match &self.source {
            Source::Own(body) => body.size_hint(),
            Source::Passed(body) => body.size_hint(),
        }
    }
}
