//! A transport for tests: a closure answers, when the test says so.

use std::collections::VecDeque;
use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::FailureKind;
use super::transport::{Call, Transport};

type Answers = dyn Fn(&http::Request<Vec<u8>>) -> http::Response<Vec<u8>> + Send + Sync;

/// A server in a closure, for tests. Requests wait until [`StandIn::answer_all`] or
/// [`StandIn::answer`]; clones are the same server.
///
/// See [`Remote`](super::Remote) for an example.
#[derive(Clone)]
pub struct StandIn(Arc<Server>);

struct Server {
    answers: Box<Answers>,
    waiting: Mutex<VecDeque<(http::Request<Vec<u8>>, Call)>>,
    requests: Mutex<Vec<String>>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl StandIn {
    /// A server that answers as the closure says.
    ///
    /// See [`Remote`](super::Remote) for an example.
    pub fn new(
        answers: impl Fn(&http::Request<Vec<u8>>) -> http::Response<Vec<u8>> + Send + Sync + 'static,
    ) -> Self {
        let (waiting, requests) = Default::default();
        Self(Arc::new(Server { answers: Box::new(answers), waiting, requests }))
    }

    /// A response of status 200 with a JSON text.
    ///
    /// See [`Remote`](super::Remote) for an example.
    pub fn json(text: impl Into<String>) -> http::Response<Vec<u8>> {
        http::Response::new(text.into().into_bytes())
    }

    /// A response without a body; 500, if that is no status.
    ///
    /// See [`Remote`](super::Remote) for an example.
    pub fn status(status: u16) -> http::Response<Vec<u8>> {
        let mut response = http::Response::new(Vec::new());
        *response.status_mut() =
            http::StatusCode::from_u16(status).unwrap_or(http::StatusCode::INTERNAL_SERVER_ERROR);
        response
    }

    /// Answers all requests, those that come of the answers included.
    ///
    /// See [`Remote`](super::Remote) for an example.
    pub fn answer_all(&self) {
        while self.answer() {}
    }

    /// Answers the request that waits longest; returns whether there was one.
    ///
    /// See [`Failure`](super::Failure) for an example.
    pub fn answer(&self) -> bool {
        let Some((request, call)) = lock(&self.0.waiting).pop_front() else { return false };
        call.respond((self.0.answers)(&request));
        true
    }

    /// Loses the request that waits longest; returns whether there was one.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't' }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let answer = remote.ask("all", ())?;
    /// assert!(server.lose());
    /// assert_eq!(answer.state().failed.unwrap().to_string(), "network: the connection was lost");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn lose(&self) -> bool {
        let Some((_, call)) = lock(&self.0.waiting).pop_front() else { return false };
        call.fail(FailureKind::Network, "the connection was lost");
        true
    }

    /// How many requests wait.
    ///
    /// See [`RemoteBuilder::at_a_time`](super::RemoteBuilder::at_a_time) for an example.
    pub fn waiting(&self) -> usize {
        lock(&self.0.waiting).len()
    }

    /// The requests that came, by method and URL.
    ///
    /// See [`Remote`](super::Remote) for an example.
    pub fn requests(&self) -> Vec<String> {
        lock(&self.0.requests).clone()
    }
}

impl Transport for StandIn {
    fn start(&self, request: http::Request<Vec<u8>>, call: Call) {
        lock(&self.0.requests).push(format!("{} {}", request.method(), request.uri()));
        lock(&self.0.waiting).push_back((request, call));
    }
}

impl fmt::Debug for StandIn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("StandIn")
    }
}
