//! Closing without losing the last answer: a caller that still sends would see a broken connection, and read nothing.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Sleep, sleep};

/// So long, and this many bytes, a caller may go on sending after the last answer; nobody reads them.
const LINGER: Duration = Duration::from_secs(1);
const MAX_BYTES: usize = 1024 * 1024;

/// A connection that is read on for a moment after it was shut down.
pub(super) struct Lingering<S> {
    stream: S,
    until: Option<Pin<Box<Sleep>>>,
    read: usize,
}

impl<S> Lingering<S> {
    pub fn new(stream: S) -> Self {
        Self { stream, until: None, read: 0 }
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Lingering<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(context, buffer)
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncWrite for Lingering<S> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        if self.until.is_none() {
            ready!(Pin::new(&mut self.stream).poll_shutdown(context))?;
            self.until = Some(Box::pin(sleep(LINGER)));
        }
        let this = &mut *self;
        let mut unread = [0; 8 * 1024];
        loop {
            let over = this.until.as_mut().is_none_or(|until| until.as_mut().poll(context).is_ready());
            if over || this.read > MAX_BYTES {
                return Poll::Ready(Ok(()));
            }
            let mut buffer = ReadBuf::new(&mut unread);
            match ready!(Pin::new(&mut this.stream).poll_read(context, &mut buffer)) {
                Ok(()) if !buffer.filled().is_empty() => this.read += buffer.filled().len(),
                _ => return Poll::Ready(Ok(())),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _, duplex};

    #[tokio::test]
    async fn what_is_still_sent_is_read_and_forgotten_but_not_for_ever() {
        let (mut caller, server) = duplex(4 * 1024);
        let mut server = Lingering::new(server);
        server.write_all(b"too long").await.unwrap();
        let closing = tokio::spawn(async move { server.shutdown().await.map(|()| server.read) });
        caller.write_all(&[0; 100 * 1024]).await.unwrap();
        let mut answer = String::new();
        caller.read_to_string(&mut answer).await.unwrap();
        assert_eq!(answer, "too long");
        assert_eq!(
            closing.await.unwrap().unwrap(),
            100 * 1024,
            "it was closed after a second, though the caller said no more"
        );
    }
}
