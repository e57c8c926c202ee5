//! A connection on which no answer is longer than it may be: whatever the server sends for a request is kept until it is whole.

use std::pin::Pin;
use std::task::{Context, Poll, ready};

use redis::RedisError;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

pub struct Bounded<S> {
    stream: S,
    most: u64,
    /// Bytes that have come since something was asked last.
    come: u64,
}

/// By these words the error is known again, which passes through the driver as text.
const TOO_LONG: &str = "the answer is longer than it may be";

impl<S> Bounded<S> {
    /// `most`: bytes of the answers to what is asked at one time.
    pub fn new(stream: S, most: u64) -> Self {
        Bounded { stream, most, come: 0 }
    }
}

pub fn is_too_long(error: &RedisError) -> bool {
    error.to_string().contains(TOO_LONG)
}

impl<S: AsyncRead + Unpin> AsyncRead for Bounded<S> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, to: &mut ReadBuf<'_>) -> Poll<std::io::Result<()>> {
        let before = to.filled().len();
        ready!(Pin::new(&mut self.stream).poll_read(cx, to))?;
        self.come += (to.filled().len() - before) as u64;
        Poll::Ready(match self.come > self.most {
            true => Err(std::io::Error::other(TOO_LONG)),
            false => Ok(()),
        })
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Bounded<S> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<std::io::Result<usize>> {
        self.come = 0;
        Pin::new(&mut self.stream).poll_write(cx, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }
}
