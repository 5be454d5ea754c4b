//! What moves one request and its response, and the call that it answers.

use std::fmt;
use std::sync::Weak;

use super::answer::{Failure, FailureKind};
use super::{RemoteInner, SentRequest};

/// Moves requests and responses: an HTTP client, a browser's `fetch`, a [`StandIn`](super::StandIn)
/// in tests.
///
/// Credentials, cookies, TLS and redirects are its own.
///
/// ```
/// use backwater::remote::{Call, FailureKind, Transport};
///
/// /// Makes each request on a thread of its own.
/// struct Threads;
///
/// impl Transport for Threads {
///     fn start(&self, request: http::Request<Vec<u8>>, call: Call) {
///         std::thread::spawn(move || {
///             if !call.is_wanted() {
///                 return; // dropped without an answer
///             }
///             match send(request) {
///                 Ok(response) => call.respond(response),
///                 Err(error) => call.fail(FailureKind::Network, error.to_string()),
///             }
///         });
///     }
/// }
///
/// /// Some HTTP client.
/// fn send(request: http::Request<Vec<u8>>) -> std::io::Result<http::Response<Vec<u8>>> {
///     let body = format!("no {} here", request.uri());
///     Ok(http::Response::builder().status(404).body(body.into_bytes()).unwrap())
/// }
///
/// # use backwater::{Cache, Schema, clock::SetClock, remote::Remote};
/// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't' }")?);
/// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
/// let remote = Remote::builder(&cache).base("https://x.example").transport(Threads).clock(clock).build()?;
/// let state = remote.ask("all", ())?.wait(std::time::Duration::from_secs(60));
/// assert_eq!(state.failed.unwrap().status, Some(404));
/// # Ok::<(), backwater::Error>(())
/// ```
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
///
/// See [`Transport`] for an example.
pub struct Call {
    remote: Weak<RemoteInner>,
    sent: Option<SentRequest>,
}

impl Call {
    pub(super) fn new(remote: Weak<RemoteInner>, sent: SentRequest) -> Self {
        Self { remote, sent: Some(sent) }
    }

    /// Whether the answer is still wanted: not once the remote is dropped, the cache emptied, or
    /// the answer's row deleted. What comes of it then is ignored.
    ///
    /// See [`Transport`] for an example.
    pub fn is_wanted(&self) -> bool {
        match (self.remote.upgrade(), &self.sent) {
            (Some(remote), Some(sent)) => remote.is_wanted(sent),
            _ => false,
        }
    }

    /// The server has answered, with whatever status.
    ///
    /// See [`Transport`] for an example.
    pub fn respond(mut self, response: http::Response<Vec<u8>>) {
        self.settle(Ok(response));
    }

    /// There is no answer: the network failed, or the time is over.
    ///
    /// See [`Transport`] for an example.
    pub fn fail(mut self, kind: FailureKind, message: impl Into<String>) {
        self.settle(Err(Failure::new(kind, message)));
    }

    fn settle(&mut self, result: Result<http::Response<Vec<u8>>, Failure>) {
        if let (Some(remote), Some(sent)) = (self.remote.upgrade(), self.sent.take()) {
            remote.settle(sent, result);
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
