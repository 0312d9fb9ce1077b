//! A body that must arrive in time.

use super::Pace;
use bytes::Bytes;
use hyper::body::{Body, Frame, Incoming, SizeHint};
use std::{
    pin::Pin,
    task::{Context, Poll},
};
use tokio::time::{Instant, Sleep, sleep_until};

/// Why a body did not arrive.
#[derive(Debug, thiserror::Error)]
pub(super) enum Broken {
    #[error("it came too slowly")]
    Slow,
    #[error("it broke off: {0}")]
    Off(#[from] hyper::Error),
}

/// Ends with [`Broken::Slow`] when nothing comes for a while, or less than the least rate on the whole.
pub(super) struct Paced {
    inner: Incoming,
    pace: Pace,
    began: Instant,
    bytes: u64,
    until: Pin<Box<Sleep>>,
}

impl Paced {
    pub(super) fn new(inner: Incoming, pace: Pace) -> Self {
        let began = Instant::now();
        Paced {
            inner,
            pace,
            began,
            bytes: 0,
            until: Box::pin(sleep_until(began + pace.idle.min(pace.grace))),
        }
    }

    fn took(&mut self, bytes: usize) {
        self.bytes += bytes as u64;
        let whole = self.began + self.pace.allowed(self.bytes);
        let until = whole.min(Instant::now() + self.pace.idle);
        self.until.as_mut().reset(until);
    }
}

impl Body for Paced {
    type Data = Bytes;
    type Error = Broken;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, Broken>>> {
        match Pin::new(&mut self.inner).poll_frame(cx) {
            Poll::Ready(Some(Ok(frame))) => {
                self.took(frame.data_ref().map_or(0, Bytes::len));
                Poll::Ready(Some(Ok(frame)))
            }
            Poll::Ready(Some(Err(error))) => Poll::Ready(Some(Err(error.into()))),
            Poll::Ready(None) => Poll::Ready(None),
            Poll::Pending => match self.until.as_mut().poll(cx) {
                Poll::Ready(()) => Poll::Ready(Some(Err(Broken::Slow))),
                Poll::Pending => Poll::Pending,
            },
        }
    }
    fn is_end_stream(&self) -> bool {
        self.inner.is_end_stream()
    }
    fn size_hint(&self) -> SizeHint {
        self.inner.size_hint()
    }
}
