//! What is known of an answer: for handles, and as a row.

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::task::{Context, Poll, Waker};
use std::time::{Duration, Instant};

use http::header::{HeaderName, HeaderValue};
use serde::{Deserialize, Serialize};

use super::engine::AnswerKey;
use super::freshness::Validators;
use crate::Table;
use crate::value::{Clock, Json, RowId, Timestamp};

/// A handle on an answer; see [`Remote::ask`](super::Remote::ask). Clones are of the same answer.
///
/// See [`Remote`](super::Remote) for an example.
#[derive(Clone)]
pub struct Answer(Arc<SharedState>);

/// An answer, as two independent facts and their circumstances: whether it is here, and whether a
/// request for it is under way; and how the last one failed, if it did.
///
/// See [`Remote`](super::Remote) for an example.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct AnswerState {
    /// Since when it is here, if it is.
    pub here: Option<Here>,
    /// The request for it, if one is under way or waits for its turn.
    pub under_way: Option<UnderWay>,
    /// How the last request failed, if it did.
    pub failed: Option<Failure>,
}

/// When an answer came.
///
/// See [`Remote`](super::Remote) for an example.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub struct Here {
    /// When it came, or was last validated.
    pub since: Timestamp,
    /// It is fresh before this.
    pub fresh_until: Timestamp,
}

/// A request for an answer.
///
/// See [`Remote`](super::Remote) for an example.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub struct UnderWay {
    /// Whether nothing is here yet: the first load, and no refresh.
    pub is_first: bool,
}

/// How a request failed. Its `Display` says it in words.
///
/// ```
/// # use backwater::{Cache, Schema, clock::SetClock, remote::{FailureKind, Remote, StandIn}};
/// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't' }")?);
/// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
/// let server = StandIn::new(|_| {
///     let details = r#"{ "title": "Out of order", "detail": "The harbour is frozen" }"#;
///     let response = http::Response::builder().status(503);
///     let response = response.header("content-type", "application/problem+json");
///     response.body(details.into()).unwrap()
/// });
/// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
/// let answer = remote.ask("all", ())?;
/// server.answer();
/// let failure = answer.state().failed.unwrap();
/// assert_eq!((failure.kind, failure.status), (FailureKind::Status, Some(503)));
/// assert_eq!(failure.to_string(), "status: 503, Out of order: The harbour is frozen");
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct Failure {
    /// In which way.
    pub kind: FailureKind,
    /// What the network, the server or the reader of the response says.
    pub message: String,
    /// The server's status, if it answered.
    pub status: Option<u16>,
}

/// In which way a request failed.
///
/// See [`Failure`] for an example.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum FailureKind {
    /// There was no connection, or it was lost.
    Network,
    /// The time was over.
    TimeOut,
    /// The server answered with an error; the message is that of its problem details (RFC 9457), if
    /// it has some.
    Status,
    /// The response does not fit its rule; the message has the pointer. Rows stay as they were.
    Unreadable,
}

impl FailureKind {
    fn name(self) -> &'static str {
        match self {
            FailureKind::Network => "network",
            FailureKind::TimeOut => "time-out",
            FailureKind::Status => "status",
            FailureKind::Unreadable => "unreadable",
        }
    }
}

impl Failure {
    pub(super) fn new(kind: FailureKind, message: impl Into<String>) -> Self {
        Self { kind, message: message.into(), status: None }
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.status {
            Some(status) => write!(f, "{}: {status}, {}", self.kind.name(), self.message),
            None => write!(f, "{}: {}", self.kind.name(), self.message),
        }
    }
}

impl AnswerState {
    /// Whether it is here and fresh.
    ///
    /// See [`Remote`](super::Remote) for an example.
    pub fn is_fresh(&self, clock: &dyn Clock) -> bool {
        self.here.is_some_and(|here| clock.now() < here.fresh_until)
    }
}

/// What the handles of an answer share with the engine.
#[derive(Default)]
pub(super) struct SharedState {
    now: Mutex<(AnswerState, Vec<Waker>)>,
    settled: Condvar,
}

impl SharedState {
    fn lock(&self) -> MutexGuard<'_, (AnswerState, Vec<Waker>)> {
        self.now.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Shows another state; returns the tasks to wake, which is done without a lock.
    pub(super) fn show(&self, state: AnswerState) -> Vec<Waker> {
        let mut now = self.lock();
        let is_settled = state.under_way.is_none();
        now.0 = state;
        if !is_settled {
            return Vec::new();
        }
        self.settled.notify_all();
        std::mem::take(&mut now.1)
    }
}

impl Answer {
    pub(super) fn of(shared: Arc<SharedState>) -> Self {
        Self(shared)
    }

    /// What is known of it now.
    ///
    /// See [`Remote`](super::Remote) for an example.
    pub fn state(&self) -> AnswerState {
        self.0.lock().0.clone()
    }

    /// Waits until no request for it is under way, as a future of any runtime.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.one = { url = '/t/{id}', table = 't' }")?);
    /// # let server = StandIn::new(|_| StandIn::json(r#"{"id": 1}"#));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let answer = remote.ask("one", [("id", "1")])?;
    /// # server.answer_all();
    /// let settled = async { answer.settled().await };
    /// # let mut settled = std::pin::pin!(settled);
    /// # let std::task::Poll::Ready(state) = std::future::Future::poll(settled.as_mut(), &mut std::task::Context::from_waker(std::task::Waker::noop())) else { panic!() };
    /// # assert!(state.here.is_some());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn settled(&self) -> Settled {
        Settled(self.clone())
    }

    /// Waits on this thread until no request for it is under way, or for that long; returns what is
    /// known of it then. It is for programs without a runtime, whose transport has a thread.
    ///
    /// See [`Transport`](super::Transport) for an example.
    pub fn wait(&self, limit: Duration) -> AnswerState {
        let end = Instant::now().checked_add(limit);
        let mut now = self.0.lock();
        while now.0.under_way.is_some() {
            let rest = end.map(|end| end.saturating_duration_since(Instant::now()));
            if rest.is_some_and(|rest| rest.is_zero()) {
                break;
            }
            let rest = rest.unwrap_or(Duration::from_secs(3600));
            now = self.0.settled.wait_timeout(now, rest).unwrap_or_else(PoisonError::into_inner).0;
        }
        now.0.clone()
    }
}

impl fmt::Debug for Answer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Answer").field(&self.state()).finish()
    }
}

/// The future of [`Answer::settled`], which has an example.
#[derive(Debug)]
#[must_use = "it waits when it is awaited"]
pub struct Settled(Answer);

impl Future for Settled {
    type Output = AnswerState;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<AnswerState> {
        let mut now = self.0.0.lock();
        if now.0.under_way.is_none() {
            return Poll::Ready(now.0.clone());
        }
        if !now.1.iter().any(|waker| waker.will_wake(context.waker())) {
            now.1.push(context.waker().clone());
        }
        Poll::Pending
    }
}

/// A row of `backwater_answer`.
#[derive(Debug, Clone, PartialEq, Table)]
#[table(name = "backwater_answer")]
pub(super) struct AnswerRow {
    #[table(id)]
    pub(super) remote: String,
    #[table(id)]
    rule: String,
    /// A JSON object, by name.
    #[table(id)]
    variables: String,
    came_at: Option<Timestamp>,
    fresh_until: Option<Timestamp>,
    validators: Option<Json>,
    #[table(persist = false)]
    is_under_way: Option<bool>,
    /// The number of the request that is under way.
    #[table(persist = false)]
    pub(super) request: Option<i64>,
    #[table(persist = false)]
    failure: Option<String>,
    #[table(persist = false)]
    message: Option<String>,
    #[table(persist = false)]
    status: Option<i64>,
}

/// Validators as they are stored.
#[derive(Serialize, Deserialize)]
struct StoredValidators {
    fields: Vec<(String, String)>,
    selecting: Vec<(String, Option<String>)>,
    requested: i64,
    received: i64,
}

impl AnswerRow {
    pub(super) const TABLE_NAME: &'static str = "backwater_answer";

    pub(super) fn of(
        remote: &str,
        key: &AnswerKey,
        (state, call, validators): (&AnswerState, Option<u64>, Option<&Validators>),
    ) -> Self {
        let failed = state.failed.as_ref();
        Self {
            remote: remote.to_owned(),
            rule: key.rule.clone(),
            variables: key.json(),
            came_at: state.here.map(|here| here.since),
            fresh_until: state.here.map(|here| here.fresh_until),
            validators: validators.and_then(stored),
            is_under_way: Some(state.under_way.is_some()),
            request: call.map(|call| call as i64),
            failure: failed.map(|failed| failed.kind.name().to_owned()),
            message: failed.map(|failed| failed.message.clone()),
            status: failed.and_then(|failed| failed.status).map(i64::from),
        }
    }

    pub(super) fn id_of(remote: &str, key: &AnswerKey) -> (Arc<str>, Arc<str>, Arc<str>) {
        (remote.into(), key.rule.as_str().into(), key.json().into())
    }

    /// The remote and the key that an id is of.
    pub(super) fn key_of(id: &RowId) -> Option<(&str, AnswerKey)> {
        let RowId::Parts(parts) = id else { return None };
        let [RowId::Text(remote), RowId::Text(rule), RowId::Text(variables)] = &**parts else {
            return None;
        };
        Some((remote, AnswerKey::of_json(rule, variables)?))
    }

    /// What the engine has to know of an answer that came before a restart.
    pub(super) fn recalled(&self) -> Option<(AnswerKey, Here, Validators)> {
        let key = AnswerKey::of_json(&self.rule, &self.variables)?;
        let here = Here { since: self.came_at?, fresh_until: self.fresh_until? };
        Some((key, here, read(self.validators.as_ref()?)?))
    }
}

fn stored(validators: &Validators) -> Option<Json> {
    let text = |value: &HeaderValue| value.to_str().ok().map(str::to_owned);
    let fields = validators.fields.iter();
    let selecting = validators.selecting.iter();
    let stored = StoredValidators {
        fields: fields.filter_map(|(name, value)| Some((name.to_string(), text(value)?))).collect(),
        selecting: selecting
            .map(|(name, value)| (name.to_string(), value.as_ref().and_then(text)))
            .collect(),
        requested: validators.requested.as_micros(),
        received: validators.received.as_micros(),
    };
    Json::parse(&serde_json::to_string(&stored).ok()?).ok()
}

fn read(json: &Json) -> Option<Validators> {
    let stored: StoredValidators = serde_json::from_str(json.as_str()).ok()?;
    let name = |name: &str| name.parse::<HeaderName>().ok();
    let value = |value: &str| HeaderValue::from_str(value).ok();
    let fields = stored.fields.iter();
    let selecting = stored.selecting.iter();
    Some(Validators {
        fields: fields.map(|(n, v)| Some((name(n)?, value(v)?))).collect::<Option<_>>()?,
        selecting: selecting
            .map(|(n, v)| Some((name(n)?, v.as_deref().and_then(value))))
            .collect::<Option<_>>()?,
        requested: Timestamp::from_micros(stored.requested).ok()?,
        received: Timestamp::from_micros(stored.received).ok()?,
    })
}
