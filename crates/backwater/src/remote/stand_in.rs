//! A transport for tests: a closure answers, when the test says so.

use std::collections::VecDeque;
use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use super::transport::{Alarm, Call, FeedCall, Transport};
use super::{FailureKind, Playback};
use crate::ingest::Recording;
use crate::value::{Clock, SetClock};

type Answers = dyn Fn(&http::Request<Vec<u8>>) -> http::Response<Vec<u8>> + Send + Sync;

/// A server in a closure, for tests. Requests wait until [`StandIn::answer_all`] or
/// [`StandIn::answer`]; clones are the same server.
///
/// See [`Remote`](super::Remote) for an example.
#[derive(Clone)]
pub struct StandIn(Arc<Server>);

struct Server {
    answers: Box<Answers>,
    waiting: Mutex<VecDeque<(http::Request<Vec<u8>>, Waiting)>>,
    /// Feeds that are open, and whether they are WebSockets.
    feeds: Mutex<Vec<(bool, FeedCall)>>,
    requests: Mutex<Vec<String>>,
    alarms: Mutex<Vec<Alarm>>,
}

/// What an answer goes to.
enum Waiting {
    Call(Call),
    Feed(FeedCall),
}

impl Waiting {
    fn is_wanted(&self) -> bool {
        match self {
            Waiting::Call(call) => call.is_wanted(),
            Waiting::Feed(call) => call.is_wanted(),
        }
    }
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
        let (waiting, feeds, requests, alarms) = Default::default();
        Self(Arc::new(Server { answers: Box::new(answers), waiting, feeds, requests, alarms }))
    }

    /// A server that answers as one did that was recorded; see [`Playback`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, recording::Recording, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }\nresponse.ports = { url = '/ports', table = 'port' }")?);
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// let recording = Recording::parse(r#"{ "log": { "version": "1.2", "entries": [{
    ///     "request": { "method": "GET", "url": "https://ferries.example/ports" },
    ///     "response": { "status": 200, "content": { "mimeType": "application/json", "text": "[{\"code\": \"SAL\"}]" } }
    /// }] } }"#)?;
    /// let server = StandIn::playing(recording);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// remote.ask("ports", ())?;
    /// server.answer_all();
    /// assert_eq!(cache.snapshot().count("port")?, 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn playing(recording: Recording) -> Self {
        let playback = Playback::new(recording);
        Self::new(move |request| playback.answer(request))
    }

    /// A server that answers with these responses, one after the other; once there are none left,
    /// with status 500.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }\nresponse.ports = { url = '/ports', table = 'port' }")?);
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// let server = StandIn::list([StandIn::status(404), StandIn::json("[]")]);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let ports = remote.ask("ports", ())?;
    /// server.answer();
    /// assert!(ports.state().failed.is_some());
    /// remote.ask("ports", ())?;
    /// server.answer();
    /// assert!(ports.state().failed.is_none() && ports.state().here.is_some());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn list(responses: impl IntoIterator<Item = http::Response<Vec<u8>>>) -> Self {
        let responses = Mutex::new(responses.into_iter().collect::<VecDeque<_>>());
        Self::new(move |_| lock(&responses).pop_front().unwrap_or_else(|| Self::status(500)))
    }

    /// A response of status 200 with a JSON text.
    ///
    /// See [`Remote`](super::Remote) for an example.
    pub fn json(text: impl Into<String>) -> http::Response<Vec<u8>> {
        http::Response::new(text.into().into_bytes())
    }

    /// A response that opens a feed of server-sent events, which [`StandIn::push`] goes on with.
    ///
    /// See [`Remote::listen`](super::Remote::listen) for an example.
    pub fn events() -> http::Response<Vec<u8>> {
        let mut response = http::Response::new(Vec::new());
        let kind = http::HeaderValue::from_static("text/event-stream");
        response.headers_mut().insert(http::header::CONTENT_TYPE, kind);
        response
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
        self.answer_at(0)
    }

    /// Answers the request that waits at a place, counted from 0, so that answers overtake each
    /// other; returns whether there was one.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.one = { url = '/t/{id}', table = 't' }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let (first, second) = (remote.ask("one", [("id", 1)])?, remote.ask("one", [("id", 2)])?);
    /// assert!(server.answer_at(1));
    /// assert!(first.state().here.is_none() && second.state().here.is_some());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn answer_at(&self, place: usize) -> bool {
        let Some((request, waiting)) = self.at(place) else { return false };
        let mut response = (self.0.answers)(&request);
        match waiting {
            Waiting::Call(call) => call.respond(response),
            Waiting::Feed(call) => {
                let is_socket = request.uri().scheme_str().is_some_and(|it| it.starts_with("ws"));
                if is_socket && response.status() == http::StatusCode::OK {
                    *response.status_mut() = http::StatusCode::SWITCHING_PROTOCOLS;
                }
                call.opened(&response);
                if call.is_wanted() {
                    lock(&self.0.feeds).push((is_socket, call));
                    self.push_to_last(response.body());
                }
            }
        }
        true
    }

    /// What a feed's response has at once.
    fn push_to_last(&self, bytes: &[u8]) {
        let last = lock(&self.0.feeds).pop();
        let Some((is_socket, call)) = last else { return };
        if !bytes.is_empty() {
            call.received(bytes);
        }
        lock(&self.0.feeds).push((is_socket, call));
    }

    /// Pushes a text to the feeds that are open: bytes of a response, or a message of a WebSocket.
    /// Returns how many there are.
    ///
    /// See [`Remote::listen`](super::Remote::listen) for an example.
    pub fn push(&self, text: &str) -> usize {
        // What comes of it may open or close feeds.
        let feeds = std::mem::take(&mut *lock(&self.0.feeds));
        let mut open: Vec<_> = feeds.into_iter().filter(|(_, call)| call.is_wanted()).collect();
        let count = open.len();
        for (is_socket, call) in &open {
            match is_socket {
                true => call.messages([text]),
                false => call.received(text.as_bytes()),
            }
        }
        open.append(&mut lock(&self.0.feeds));
        *lock(&self.0.feeds) = open;
        count
    }

    /// Cuts the feeds that are open; returns how many there were.
    ///
    /// ```
    /// # use std::time::Duration;
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Connection, Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.one = { url = '/t/{id}', table = 't' }\nfeed.changes = { url = '/feed', format = 'ndjson', kind = '/kind', events = { t = 'one' } }")?);
    /// # let server = StandIn::new(|_| StandIn::status(200));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock.clone()).build()?;
    /// let listening = remote.listen("changes", ())?;
    /// server.answer_all();
    /// assert_eq!(server.cut(), 1);
    /// assert_eq!(listening.state().connection, Connection::Waiting);
    /// server.pass(&clock, Duration::from_secs(1));
    /// server.answer_all();
    /// assert_eq!((listening.state().connection, listening.state().lost), (Connection::Connected, 1));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn cut(&self) -> usize {
        let feeds = std::mem::take(&mut *lock(&self.0.feeds));
        let open: Vec<_> = feeds.into_iter().filter(|(_, call)| call.is_wanted()).collect();
        let count = open.len();
        for (_, call) in open {
            call.fail(FailureKind::Network, "the connection was lost");
        }
        count
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
        let Some((_, waiting)) = self.at(0) else { return false };
        match waiting {
            Waiting::Call(call) => call.fail(FailureKind::Network, "the connection was lost"),
            Waiting::Feed(call) => call.fail(FailureKind::Network, "the connection was lost"),
        }
        true
    }

    /// Lets time pass, in which what is due happens: requests are tried again or time out, and
    /// answers that are wanted grow stale. The clock is the remote's.
    ///
    /// ```
    /// use std::time::Duration;
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't' }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock.clone()).build()?;
    /// let answer = remote.ask("all", ())?;
    /// server.lose();
    /// assert_eq!((server.waiting(), answer.state().under_way.unwrap().tries), (0, 2));
    /// server.pass(&clock, Duration::from_secs(1));
    /// assert_eq!(server.waiting(), 1); // the second try
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn pass(&self, clock: &SetClock, time: Duration) {
        let end = clock.ticks().saturating_add(time);
        loop {
            let mut alarms = lock(&self.0.alarms);
            let first = (0..alarms.len()).min_by_key(|index| alarms[*index].due());
            let first = first.filter(|index| alarms[*index].due() <= end);
            let alarm = first.map(|index| alarms.swap_remove(index));
            drop(alarms);
            let due = alarm.as_ref().map_or(end, Alarm::due);
            clock.advance(due.saturating_sub(clock.ticks()));
            match alarm {
                Some(alarm) => alarm.ring(),
                None => return,
            }
        }
    }

    /// How many requests wait whose answers are still wanted.
    ///
    /// See [`RemoteBuilder::at_a_time`](super::RemoteBuilder::at_a_time) for an example.
    pub fn waiting(&self) -> usize {
        lock(&self.0.waiting).iter().filter(|(_, call)| call.is_wanted()).count()
    }

    /// The request at a place among those that are wanted.
    fn at(&self, place: usize) -> Option<(http::Request<Vec<u8>>, Waiting)> {
        let mut waiting = lock(&self.0.waiting);
        // A call that is dropped may begin another one, which waits for the lock.
        let all = std::mem::take(&mut *waiting).into_iter();
        let (wanted, unwanted): (Vec<_>, Vec<_>) = all.partition(|(_, call)| call.is_wanted());
        waiting.extend(wanted);
        let found = waiting.remove(place);
        drop(waiting);
        drop(unwanted);
        found
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
        lock(&self.0.waiting).push_back((request, Waiting::Call(call)));
    }

    fn open(&self, request: http::Request<Vec<u8>>, call: FeedCall) {
        lock(&self.0.requests).push(format!("{} {}", request.method(), request.uri()));
        lock(&self.0.waiting).push_back((request, Waiting::Feed(call)));
    }

    fn wake_after(&self, _: Duration, alarm: Alarm) {
        lock(&self.0.alarms).push(alarm);
    }
}

impl fmt::Debug for StandIn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("StandIn")
    }
}
