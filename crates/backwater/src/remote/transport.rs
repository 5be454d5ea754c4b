//! What moves one request and its response, and the call that it answers.

use std::fmt;
use std::sync::Weak;

use super::answer::{Failure, FailureKind};
use super::{Begun, Inner};

/// Moves requests and responses: an HTTP client, a browser's `fetch`, a [`StandIn`](super::StandIn)
/// in tests.
///
/// Credentials, cookies, TLS and redirects are its own.
pub trait Transport: Send + Sync {
    /// Starts a request and returns at once. What comes of it goes to the call, from any thread,
    /// which may be this one.
    fn start(&self, request: http::Request<Vec<u8>>, call: Call);
}

impl<T: Transport + ?Sized> Transport for std::sync::Arc<T> {
    fn start(&self, request: http::Request<Vec<u8>>, call: Call) {
        (**self).start(request, call);
    }
}

/// A request under way, to be answered once. Dropped without an answer it counts as one that the
/// network has lost.
pub struct Call {
    remote: Weak<Inner>,
    begun: Option<Begun>,
}

impl Call {
    pub(super) fn new(remote: Weak<Inner>, begun: Begun) -> Self {
        Self { remote, begun: Some(begun) }
    }

    /// Whether the answer is still wanted: not once the remote is dropped, the cache emptied, or the
    /// answer's row deleted. What comes of it then is ignored.
    pub fn is_wanted(&self) -> bool {
        match (self.remote.upgrade(), &self.begun) {
            (Some(remote), Some(begun)) => remote.is_wanted(begun),
            _ => false,
        }
    }

    /// The server has answered, with whatever status.
    pub fn respond(mut self, response: http::Response<Vec<u8>>) {
        self.settle(Ok(response));
    }

    /// There is no answer: the network failed, or the time is over.
    pub fn fail(mut self, kind: FailureKind, message: impl Into<String>) {
        self.settle(Err(Failure::new(kind, message)));
    }

    fn settle(&mut self, result: Result<http::Response<Vec<u8>>, Failure>) {
        if let (Some(remote), Some(begun)) = (self.remote.upgrade(), self.begun.take()) {
            remote.settle(begun, result);
        }
    }
}

impl Drop for Call {
    fn drop(&mut self) {
        self.settle(Err(Failure::new(FailureKind::Network, "the transport gave no answer")));
    }
}

impl fmt::Debug for Call {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Call")
    }
}
