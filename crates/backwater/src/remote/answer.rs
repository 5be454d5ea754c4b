//! What is known of an answer: for handles, and as a row.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::fmt;
use std::future::Future;
use std::ops::Deref;
use std::pin::Pin;
use std::sync::{Arc, Weak};
use std::task::{Context, Poll};
use std::time::Duration;

use http::header::{HeaderName, HeaderValue};
use serde::{Deserialize, Serialize};
use smallvec::SmallVec;

use super::RemoteInner;
use super::awaited::{Awaited, Settles, Wakers};
use super::cover::Presence;
use super::engine::KnownAnswer;
use super::freshness::{Freshness, Validators};
use super::key::AnswerKey;
use crate::Table;
use crate::change::{ANSWERS, Transaction};
use crate::error::{Error, ErrorKind, Result};
use crate::table::Staged;
use crate::table::{Cell, State};
use crate::trace::Watch;
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
    /// A stale one may be used before this while it is asked for (RFC 5861, section 3).
    pub while_revalidating: Timestamp,
    /// A stale one may be used before this if asking for it fails (RFC 5861, section 4).
    pub if_error: Timestamp,
}

/// A request for an answer.
///
/// See [`Remote`](super::Remote) for an example.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub struct UnderWay {
    /// Whether nothing is here yet: the first load, and no refresh.
    pub is_first: bool,
    /// Which try it is, counted from 1. From the second on it may be waiting for its time, which is
    /// [`Failure::again_at`].
    pub tries: u32,
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
    /// When it is tried again, or when the server allows it.
    pub again_at: Option<Timestamp>,
    /// How long the server asks to wait.
    pub(super) retry_after: Option<Duration>,
    /// Whether the same request fails in the same way whenever it is made.
    pub(super) is_final: bool,
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
    pub(super) fn named(name: Option<&str>) -> Option<Self> {
        let kinds = [
            FailureKind::Network,
            FailureKind::TimeOut,
            FailureKind::Status,
            FailureKind::Unreadable,
        ];
        kinds.into_iter().find(|kind| Some(kind.name()) == name)
    }

    pub(super) fn name(self) -> &'static str {
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
        let (message, again_at, retry_after) = (message.into(), None, None);
        Self { kind, message, status: None, again_at, retry_after, is_final: false }
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

impl Here {
    pub(super) fn of(since: Timestamp, freshness: &Freshness) -> Self {
        let Freshness { until: fresh_until, while_revalidating, if_error, .. } = *freshness;
        Self { since, fresh_until, while_revalidating, if_error }
    }

    /// The same, not fresh any more.
    pub(super) fn stale_at(self, now: Timestamp) -> Self {
        Self { fresh_until: self.fresh_until.min(now), ..self }
    }

    /// One that comes from the future is stale: the clock was set back, and nobody knows its age.
    pub(super) fn is_fresh(&self, now: Timestamp) -> bool {
        self.since <= now && now < self.fresh_until
    }
}

impl AnswerState {
    /// Whether it is here and fresh.
    ///
    /// See [`Remote`](super::Remote) for an example.
    pub fn is_fresh(&self, clock: &dyn Clock) -> bool {
        self.here.is_some_and(|here| here.is_fresh(clock.now()))
    }

    /// Whether HTTP lets it be used as it is: it is fresh, or stale but within
    /// `stale-while-revalidate` while it is asked for, or within `stale-if-error` when that has
    /// failed (RFC 5861). Rows stay readable in any case.
    ///
    /// ```
    /// # use std::time::Duration;
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't' }")?);
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// let server = StandIn::new(|_| {
    ///     let response = http::Response::builder();
    ///     let response = response.header("cache-control", "max-age=60, stale-while-revalidate=600");
    ///     response.body("[]".into()).unwrap()
    /// });
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock.clone()).build()?;
    /// remote.ask("all", ())?;
    /// server.answer_all();
    /// clock.advance(Duration::from_secs(120));
    /// let again = remote.ask("all", ())?.state();
    /// assert!(!again.is_fresh(&clock) && again.is_usable(&clock));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn is_usable(&self, clock: &dyn Clock) -> bool {
        let now = clock.now();
        self.here.is_some_and(|here| {
            let meanwhile = self.under_way.is_some() && now < here.while_revalidating;
            let in_need = self.failed.is_some() && now < here.if_error;
            here.is_fresh(now) || (here.since <= now && (meanwhile || in_need))
        })
    }
}

/// What the handles of an answer share with the engine.
pub(super) struct SharedState {
    pub(super) key: AnswerKey,
    remote: Weak<RemoteInner>,
    now: Awaited<SharedNow>,
}

/// What is known, in few bytes: most answers have not failed.
#[derive(Default)]
struct SharedNow {
    here: Option<Here>,
    under_way: Option<UnderWay>,
    failed: Option<Box<Failure>>,
}

impl Settles for SharedNow {
    fn is_settled(&self) -> bool {
        self.under_way.is_none()
    }
}

impl SharedNow {
    fn state(&self) -> AnswerState {
        let failed = self.failed.as_deref().cloned();
        AnswerState { here: self.here, under_way: self.under_way, failed }
    }
}

impl SharedState {
    pub(super) fn new(key: AnswerKey, remote: Weak<RemoteInner>) -> Self {
        Self { key, remote, now: Awaited::default() }
    }

    pub(super) fn state(&self) -> AnswerState {
        self.now.lock().state()
    }

    /// Shows another state; returns the tasks that wait for it, if it is settled.
    pub(super) fn show(&self, state: AnswerState) -> Wakers {
        self.change(|known| *known = state)
    }

    /// A request has failed; `under_way` is the try that follows, if there is one.
    pub(super) fn fail(&self, failure: Failure, under_way: Option<UnderWay>) -> Wakers {
        self.change(|state| {
            state.under_way = under_way;
            state.failed = Some(failure);
        })
    }

    pub(super) fn change(&self, change: impl FnOnce(&mut AnswerState)) -> Wakers {
        self.now.change(|now| {
            let mut state = now.state();
            change(&mut state);
            (now.here, now.under_way) = (state.here, state.under_way);
            now.failed = state.failed.map(Box::new);
        })
    }
}

impl Answer {
    pub(super) fn of(shared: Arc<SharedState>) -> Self {
        Self(shared)
    }

    pub(super) fn key(&self) -> &AnswerKey {
        &self.0.key
    }

    /// Its rule and variables, for people.
    pub(crate) fn words(&self) -> String {
        self.0.key.words()
    }

    fn remote(&self) -> Result<Arc<RemoteInner>> {
        self.0.remote.upgrade().ok_or_else(|| {
            Error::new(ErrorKind::Stopped, "the remote of this answer was dropped")
                .help("keep it for as long as its answers are of use")
        })
    }

    /// The response rule that it is by.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.one = { url = '/t/{id}', table = 't' }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let answer = remote.ask("one", [("id", 1)])?;
    /// assert_eq!((answer.rule(), answer.variable("id")), ("one", Some("1")));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn rule(&self) -> &str {
        self.0.key.rule()
    }

    /// The value of one of its variables, as text.
    ///
    /// See [`Answer::rule`] for an example.
    pub fn variable(&self, name: &str) -> Option<&str> {
        self.0.key.variable(name)
    }

    /// What is known of it now.
    ///
    /// See [`Remote`](super::Remote) for an example.
    pub fn state(&self) -> AnswerState {
        self.0.state()
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
        self.0.now.wait(limit, SharedNow::state)
    }

    /// Calls back with what is known of it after each change of that, for as long as the returned
    /// guard lives. As with [`Cache::watch`](crate::Cache::watch), `callback` runs on a thread that
    /// commits.
    ///
    /// # Errors
    /// [`ErrorKind::Stopped`](crate::ErrorKind::Stopped) if the remote was dropped; else as
    /// [`Cache::watch`](crate::Cache::watch).
    ///
    /// ```
    /// # use std::sync::{Arc, Mutex};
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.one = { url = '/t/{id}', table = 't' }")?);
    /// # let server = StandIn::new(|_| StandIn::json(r#"{"id": 1}"#));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let answer = remote.ask("one", [("id", 1)])?;
    /// let shown = Arc::new(Mutex::new(Vec::new()));
    /// let view = shown.clone();
    /// let _watch = answer.watch(move |state| view.lock().unwrap().push(state.here.is_some()))?;
    /// server.answer_all();
    /// assert_eq!(*shown.lock().unwrap(), [true]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn watch(&self, mut callback: impl FnMut(&AnswerState) + Send + 'static) -> Result<Watch> {
        let remote = self.remote()?;
        let sql = "SELECT * FROM backwater_answer \
            WHERE remote = :remote AND rule = :rule AND variables = :variables";
        let (rule, variables) = (self.rule(), self.0.key.shown());
        let by = (("remote", remote.name()), ("rule", rule), ("variables", &*variables));
        let row = remote.cache().query(sql, by)?;
        let (cache, key) = (remote.cache().clone(), self.0.key.clone());
        let id: (Arc<str>, Arc<str>, Arc<str>) =
            (remote.name().into(), key.rule().into(), (&*key.shown()).into());
        remote.cache().watch(&row, move |_| {
            let snapshot = cache.snapshot();
            let row = snapshot.table::<AnswerRow>().map(|table| table.get(id.clone()).known());
            let state = row.ok().flatten().map(|row| row.state());
            callback(&state.unwrap_or_default());
        })
    }

    /// Asks for the page that follows the last one that is here, of this answer's list or from this
    /// page on; returns its answer, or `None` if the server says that there is none.
    ///
    /// What follows a page is said by the rule's `next`, or by the server's `Link` header field
    /// with the relation `next` (RFC 8288). While the last page is under way, that one is returned.
    ///
    /// # Errors
    /// [`ErrorKind::Parameter`](crate::ErrorKind::Parameter) if the URL of the next page is not one
    /// of the rule; [`ErrorKind::Stopped`](crate::ErrorKind::Stopped) if the remote was dropped; else
    /// as [`Remote::ask`](super::Remote::ask).
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// let cache = Cache::new(Schema::parse("backwater.toml", r#"
    ///     table.sailing = { id = "id", fields = { id = "int" } }
    ///
    ///     [response.departures]
    ///     url = "/departures{?after}"
    ///     records = "/sailings"
    ///     table = "sailing"
    ///     list = "departures"
    ///     part = "after"
    ///     next = "/next"          # a URL, or the value of `after`
    /// "#)?);
    /// let server = StandIn::new(|request| match request.uri().query() {
    ///     None => StandIn::json(r#"{ "sailings": [{ "id": 9 }, { "id": 4 }], "next": "k4" }"#),
    ///     Some("after=k4") => StandIn::json(r#"{ "sailings": [{ "id": 7 }], "next": null }"#),
    ///     _ => StandIn::status(404),
    /// });
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let departures = remote.ask("departures", ())?;
    /// server.answer_all();
    /// departures.more()?.expect("a second page");
    /// server.answer_all();
    /// assert!(departures.more()?.is_none());
    /// let order = cache.query("SELECT target FROM departures ORDER BY part, position", ())?;
    /// let ids: Vec<_> = order.read()?.rows().map(|row| row.values()[0].clone()).collect();
    /// assert_eq!(ids, [9.into(), 4.into(), 7.into()]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn more(&self) -> Result<Option<Answer>> {
        self.remote()?.more(&self.0.key)
    }
}

/// An answer that somebody holds as wanted; see [`Remote::want`](super::Remote::want).
///
/// It can be used wherever an [`Answer`] can. Dropping the last one takes back a request that was
/// not made yet, unless somebody else asked for it.
///
/// See [`Remote::want`](super::Remote::want) for an example.
#[must_use = "it is wanted for as long as it is held"]
pub struct Wanted {
    answer: Answer,
    remote: Arc<RemoteInner>,
}

impl Wanted {
    pub(super) fn new(answer: Answer, remote: Arc<RemoteInner>) -> Self {
        Self { answer, remote }
    }
}

impl Deref for Wanted {
    type Target = Answer;

    fn deref(&self) -> &Answer {
        &self.answer
    }
}

impl Drop for Wanted {
    fn drop(&mut self) {
        self.remote.release(self.answer.key());
    }
}

impl fmt::Debug for Wanted {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Wanted").field(&self.answer.state()).finish()
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
        self.0.0.now.poll(context, SharedNow::state)
    }
}

/// A row of `backwater_answer`.
#[derive(Debug, Clone, PartialEq, Table)]
#[table(name = "backwater_answer")]
pub(super) struct AnswerRow {
    #[table(id)]
    pub(super) remote: String,
    #[table(id)]
    pub(super) rule: String,
    /// A JSON object, by name.
    #[table(id)]
    variables: String,
    came_at: Option<Timestamp>,
    fresh_until: Option<Timestamp>,
    validators: Option<Json>,
    /// What follows this page, as the server says it.
    next_page: Option<String>,
    /// Which part of its list it is, counted from 0.
    page: Option<i64>,
    #[table(persist = false)]
    is_under_way: Option<bool>,
    /// Which try is under way, or was the last one.
    #[table(persist = false)]
    tries: Option<i64>,
    /// The number of the request that is under way.
    #[table(persist = false)]
    pub(super) request: Option<i64>,
    #[table(persist = false)]
    failure: Option<String>,
    #[table(persist = false)]
    message: Option<String>,
    #[table(persist = false)]
    status: Option<i64>,
    #[table(persist = false)]
    again_at: Option<Timestamp>,
}

/// Validators as they are stored: header fields by name, those that the request was sent with, when
/// the response was received, and how long that took.
#[derive(Serialize, Deserialize)]
struct StoredValidators {
    fields: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    sent_with: BTreeMap<String, Option<String>>,
    received: i64,
    #[serde(default, skip_serializing_if = "is_zero")]
    took: i64,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde calls it so")]
fn is_zero(number: &i64) -> bool {
    *number == 0
}

impl AnswerRow {
    pub(super) const TABLE_NAME: &'static str = ANSWERS;

    /// Writes what is known of an answer into its row. It is stored if the answer is here, and may
    /// be stored. Field by field, since it happens twice for each request.
    pub(super) fn put(
        tx: &mut Transaction,
        place: &RowPlace<'_>,
        known: &KnownAnswer,
    ) -> Result<()> {
        let schema = tx.schema();
        let table = schema.table_no(Self::TABLE_NAME)?;
        let definition = schema.table(table);
        let slot = tx.refer(table, &place.cells());
        let text = |text: Option<&str>| {
            text.map_or(Staged::Null, |text| Staged::Text(text.to_owned().into()))
        };
        let time = |time: Option<Timestamp>| time.map_or(Staged::Null, Staged::Timestamp);
        let int = |number: Option<i64>| number.map_or(Staged::Null, Staged::Int);
        let KnownAnswer { state, call, validators, next, page, .. } = known;
        let (here, failed) = (state.here, state.failed.as_ref());
        let validators = validators.as_ref().map(|json| Staged::Json(json.as_str().into()));
        let fields = [
            ("came_at", time(here.map(|here| here.since))),
            ("fresh_until", time(here.map(|here| here.fresh_until))),
            ("validators", validators.unwrap_or(Staged::Null)),
            ("next_page", text(next.as_deref())),
            ("page", Staged::Int((*page).into())),
            ("is_under_way", Staged::Bool(state.under_way.is_some())),
            ("tries", int(state.under_way.map(|under_way| under_way.tries.into()))),
            ("request", int(call.map(|call| call as i64))),
            ("failure", text(failed.map(|failed| failed.kind.name()))),
            ("message", text(failed.map(|failed| failed.message.as_str()))),
            ("status", int(failed.and_then(|failed| failed.status).map(i64::from))),
            ("again_at", time(failed.and_then(|failed| failed.again_at))),
        ];
        let fields = fields.into_iter().map(|(name, staged)| match definition.field_no(name) {
            Some(field) => Ok((field, staged)),
            None => {
                let message = format!("the cache's table {} is another one", Self::TABLE_NAME);
                Err(Error::new(ErrorKind::Schema, message).help("the library declares it itself"))
            }
        });
        let fields: SmallVec<[_; 12]> = fields.collect::<Result<_>>()?;
        tx.merge_row(table, slot, &fields);
        let may_be = here.is_some() && !known.no_store;
        if tx.state.table(table).is_unstored(slot) == may_be {
            tx.state.table_mut(table).set_unstored(slot, !may_be);
        }
        Ok(())
    }

    pub(super) fn id(&self) -> RowId {
        id(&self.remote, &self.rule, &self.variables)
    }

    /// The remote and the key that an id is of; see [`AnswerKey::of_shown`].
    pub(super) fn key_of(id: &RowId) -> Option<(&str, AnswerKey)> {
        let RowId::Parts(parts) = id else { return None };
        let [RowId::Text(remote), RowId::Text(rule), RowId::Text(variables)] = &**parts else {
            return None;
        };
        Some((remote, AnswerKey::of_shown(rule, variables)?))
    }

    /// The key of its answer, and whether that is here.
    pub(super) fn presence(&self) -> Option<(AnswerKey, Presence)> {
        let key = AnswerKey::of_shown(&self.rule, &self.variables)?;
        let presence = match (self.came_at, self.status) {
            (Some(_), _) => Presence::Here,
            (None, Some(404 | 410)) => Presence::Absent,
            _ => Presence::Unknown,
        };
        Some((key, presence))
    }

    /// What it says of its answer.
    fn state(&self) -> AnswerState {
        let since = self.came_at.zip(self.fresh_until);
        let here = since.map(|(since, fresh_until)| {
            let validators = self.validators.as_ref().and_then(read);
            let here = validators.map(|known| Here::of(since, &known.freshness(None)));
            let (while_revalidating, if_error) = here.map_or((fresh_until, fresh_until), |here| {
                (here.while_revalidating, here.if_error)
            });
            let while_revalidating = while_revalidating.max(fresh_until);
            Here { since, fresh_until, while_revalidating, if_error: if_error.max(fresh_until) }
        });
        let tries = self.tries.and_then(|tries| tries.try_into().ok()).unwrap_or(1);
        let is_under_way = self.is_under_way == Some(true);
        let kind = FailureKind::named(self.failure.as_deref());
        let failed = kind.map(|kind| {
            let failure = Failure::new(kind, self.message.clone().unwrap_or_default());
            let status = self.status.and_then(|status| status.try_into().ok());
            Failure { status, again_at: self.again_at, ..failure }
        });
        let under_way = is_under_way.then_some(UnderWay { is_first: here.is_none(), tries });
        AnswerState { here, under_way, failed }
    }

    /// What the engine has to know of an answer that came before a restart.
    pub(super) fn recalled(&self) -> Option<RecalledAnswer> {
        Some(RecalledAnswer {
            key: AnswerKey::of_shown(&self.rule, &self.variables)?,
            since: self.came_at?,
            fresh_until: self.fresh_until?,
            validators: self.validators.clone(),
            known: read(self.validators.as_ref()?)?,
            next: self.next_page.as_deref().map(Into::into),
            page: self.page.and_then(|page| page.try_into().ok()).unwrap_or(0),
        })
    }
}

/// Which row an answer has.
pub(super) struct RowPlace<'k> {
    remote: &'k str,
    rule: &'k str,
    variables: Cow<'k, str>,
}

impl<'k> RowPlace<'k> {
    pub(super) fn of(remote: &'k str, key: &'k AnswerKey) -> Self {
        Self { remote, rule: key.rule(), variables: key.shown() }
    }

    pub(super) fn id(&self) -> RowId {
        id(self.remote, self.rule, &self.variables)
    }

    fn cells(&self) -> [Cell<'_>; 3] {
        [self.remote, self.rule, &self.variables].map(Cell::Text)
    }

    /// The number of the request that the row waits for.
    pub(super) fn request(&self, state: &State) -> Result<Option<i64>> {
        let table = state.schema.table_no(AnswerRow::TABLE_NAME)?;
        let (rows, field) = (state.table(table), state.schema.table(table).field_no("request"));
        let (Some(field), Some(slot)) = (field, rows.slot(&self.cells())) else { return Ok(None) };
        Ok(match rows.cell(slot, field) {
            Cell::Int(request) => Some(request),
            _ => None,
        })
    }

    pub(super) fn is_row(&self, state: &State) -> Result<bool> {
        let rows = state.table(state.schema.table_no(AnswerRow::TABLE_NAME)?);
        Ok(rows.slot(&self.cells()).is_some_and(|slot| rows.is_row(slot)))
    }
}

fn id(remote: &str, rule: &str, variables: &str) -> RowId {
    RowId::Parts([remote, rule, variables].map(RowId::from).into_iter().collect())
}

/// An answer that came before a restart.
pub(super) struct RecalledAnswer {
    pub(super) key: AnswerKey,
    pub(super) since: Timestamp,
    pub(super) fresh_until: Timestamp,
    pub(super) validators: Option<Json>,
    pub(super) known: Validators,
    pub(super) next: Option<Box<str>>,
    pub(super) page: u32,
}

/// Validators for a row.
pub(super) fn stored(validators: &Validators) -> Option<Json> {
    let text = |value: &HeaderValue| value.to_str().ok().map(str::to_owned);
    let mut fields: BTreeMap<String, String> = BTreeMap::new();
    for (name, value) in &validators.fields {
        let Some(value) = text(value) else { continue };
        // Several lines of one field are one list (RFC 9110, section 5.3).
        match fields.entry(name.to_string()) {
            Entry::Vacant(none) => drop(none.insert(value)),
            Entry::Occupied(mut some) => *some.get_mut() += &format!(", {value}"),
        }
    }
    let selecting = validators.selecting.iter();
    let received = validators.received.as_micros();
    let stored = StoredValidators {
        fields,
        sent_with: selecting
            .map(|(name, value)| (name.to_string(), value.as_ref().and_then(text)))
            .collect(),
        received,
        took: received.saturating_sub(validators.requested.as_micros()),
    };
    Some(Json::from_minified(serde_json::to_string(&stored).ok()?))
}

/// The validators of a row.
pub(super) fn read(json: &Json) -> Option<Validators> {
    let stored: StoredValidators = serde_json::from_str(json.as_str()).ok()?;
    let name = |name: &str| name.parse::<HeaderName>().ok();
    let value = |value: &str| HeaderValue::from_str(value).ok();
    let fields = stored.fields.iter();
    let selecting = stored.sent_with.iter();
    Some(Validators {
        fields: fields.map(|(n, v)| Some((name(n)?, value(v)?))).collect::<Option<_>>()?,
        selecting: selecting
            .map(|(n, v)| Some((name(n)?, v.as_deref().and_then(value))))
            .collect::<Option<_>>()?,
        requested: Timestamp::nearest(stored.received.saturating_sub(stored.took)),
        received: Timestamp::from_micros(stored.received).ok()?,
    })
}
