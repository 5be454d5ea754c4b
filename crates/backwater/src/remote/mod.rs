//! The remote: a server whose rows a cache holds. What views want is asked for once, shared while
//! it is under way, and asked again when it is stale.
//!
//! It knows the cache, response rules, HTTP's header fields and the time. It makes no request: a
//! [`Transport`] does. It starts no thread and reads no clock but the one that it is given.

mod answer;
mod engine;
mod freshness;
mod stand_in;
mod transport;
mod url;

use std::fmt;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError, Weak};
use std::task::Waker;

use http::header::{
    ACCEPT, CONTENT_TYPE, HeaderMap, HeaderValue, IF_MODIFIED_SINCE, IF_NONE_MATCH,
};

use crate::cache::Cache;
use crate::change::{ChangeKind, Transaction};
use crate::error::{Error, ErrorKind, Result, nearest};
use crate::ingest::Request;
use crate::schema::Schema;
use crate::trace::{Report, Watch};
use crate::typed::{Found, SchemaBuilder};
use crate::value::{Clock, Named, Timestamp};
use answer::AnswerRow;
pub use answer::{Answer, AnswerState, Failure, FailureKind, Here, Settled, UnderWay};
use engine::{AnswerKey, CallOutcome, DueRequest, Engine};
use freshness::Validators;
/// The `http` crate, whose requests and responses a [`Transport`] moves.
pub use http;
pub use stand_in::StandIn;
pub use transport::{Call, Transport};

/// A server whose rows a cache holds. It is a cheap handle: clones are the same remote.
///
/// A response rule with a `url` can be asked for. While an answer is fresh, asking again costs no
/// request; while one is under way, all callers share it.
///
/// ```
/// use std::time::Duration;
///
/// use backwater::clock::SetClock;
/// use backwater::remote::{Remote, StandIn};
/// use backwater::{Cache, Schema};
///
/// let cache = Cache::new(Schema::parse("backwater.toml", r#"
///     table.sailing = { id = "id", fields = { id = "int", port = "text" } }
///
///     [response.departures]
///     url = "/departures{?port}"
///     table = "sailing"
///     max_age = "1 min"
/// "#)?);
/// let server = StandIn::new(|request| match request.uri().query() {
///     Some("port=SAL") => StandIn::json(r#"[{ "id": 311, "port": "SAL" }]"#),
///     _ => StandIn::status(404),
/// });
/// let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
/// let remote = Remote::builder(&cache)
///     .base("https://ferries.example/api")
///     .transport(server.clone())
///     .clock(clock.clone())
///     .build()?;
///
/// let departures = remote.ask("departures", [("port", "SAL")])?;
/// assert!(departures.state().here.is_none() && departures.state().under_way.is_some());
/// server.answer_all();
/// assert!(departures.state().is_fresh(&clock));
/// assert_eq!(cache.snapshot().count("sailing")?, 1);
///
/// // The page is opened again: what is fresh costs no request.
/// remote.ask("departures", [("port", "SAL")])?;
/// assert_eq!(server.requests(), ["GET https://ferries.example/api/departures?port=SAL"]);
///
/// // A minute later it is stale: it stays here, and is asked for again.
/// clock.advance(Duration::from_secs(61));
/// let again = remote.ask("departures", [("port", "SAL")])?;
/// assert!(again.state().here.is_some() && again.state().under_way.is_some());
/// # server.answer_all();
/// # assert_eq!(server.requests().len(), 2);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Clone)]
pub struct Remote(Arc<RemoteInner>);

/// Builds a [`Remote`]; see [`Remote::builder`].
pub struct RemoteBuilder {
    cache: Cache,
    name: String,
    base: String,
    transport: Option<Arc<dyn Transport>>,
    clock: Option<Arc<dyn Clock>>,
    at_a_time: usize,
}

pub(crate) struct RemoteInner {
    in_use: NameInUse,
    base: String,
    transport: Arc<dyn Transport>,
    clock: Arc<dyn Clock>,
    engine: Mutex<Engine>,
    /// For calls, which must not keep the remote alive.
    this: Weak<RemoteInner>,
    /// Which rows of answers are deleted.
    follows: OnceLock<Watch>,
}

/// The name of a remote, which no other one of its cache has meanwhile.
struct NameInUse {
    cache: Cache,
    name: String,
}

impl NameInUse {
    fn claim(cache: Cache, name: String) -> Result<Self> {
        if cache.claim_remote(&name) {
            return Ok(Self { cache, name });
        }
        let message =
            format!("the cache has a remote \"{name}\" already, whose answers are by that name");
        Err(Error::new(ErrorKind::Schema, message)
            .help("clone that one, drop it before, or give this one another `name`"))
    }
}

impl Drop for NameInUse {
    fn drop(&mut self) {
        self.cache.release_remote(&self.name);
    }
}

impl fmt::Debug for Remote {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Remote").field("name", &self.0.in_use.name).finish_non_exhaustive()
    }
}

impl fmt::Debug for RemoteBuilder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RemoteBuilder").field("name", &self.name).finish_non_exhaustive()
    }
}

impl RemoteBuilder {
    /// The remote's name in `backwater_answer`, for a cache of several; `remote` by default.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// let named = |name: &str| {
    ///     let server = StandIn::new(|_| StandIn::status(404));
    ///     let remote = Remote::builder(&cache).name(name).base("https://x.example");
    ///     remote.transport(server).clock(clock.clone()).build()
    /// };
    /// let (ferries, tides) = (named("ferries")?, named("tides")?);
    /// assert!(named("tides").is_err()); // their answers would be mixed
    /// # drop((ferries, tides));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    #[must_use]
    pub fn name(mut self, name: impl Into<String>) -> Self {
        self.name = name.into();
        self
    }

    /// The URL in front of rules' URLs that have no scheme, such as `https://ferries.example/api`.
    ///
    /// See [`Remote`] for an example.
    #[must_use]
    pub fn base(mut self, url: impl Into<String>) -> Self {
        self.base = url.into();
        self
    }

    /// What moves requests and responses.
    ///
    /// See [`Remote`] for an example.
    #[must_use]
    pub fn transport(mut self, transport: impl Transport + 'static) -> Self {
        self.transport = Some(Arc::new(transport));
        self
    }

    /// The clock by which answers are fresh.
    ///
    /// See [`Remote`] for an example.
    #[must_use]
    pub fn clock(mut self, clock: impl Clock + 'static) -> Self {
        self.clock = Some(Arc::new(clock));
        self
    }

    /// How many requests are under way at a time, 6 by default; the others wait.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.one = { url = '/t/{id}', table = 't' }")?);
    /// let server = StandIn::new(|_| StandIn::status(404));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone());
    /// let remote = remote.clock(clock).at_a_time(2).build()?;
    /// for id in ["1", "2", "3"] {
    ///     remote.ask("one", [("id", id)])?;
    /// }
    /// assert_eq!(server.waiting(), 2);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    #[must_use]
    pub fn at_a_time(mut self, requests: usize) -> Self {
        self.at_a_time = requests.max(1);
        self
    }

    /// The remote. The cache gets the table `backwater_answer`, if it does not have it.
    ///
    /// # Errors
    /// [`ErrorKind::Schema`] without a transport or a clock, if the base is no URL, or if the cache
    /// has a remote of that name already; else as [`Cache::declare`].
    ///
    /// See [`Remote`] for an example.
    pub fn build(self) -> Result<Remote> {
        let missing = |what: &str| {
            Error::new(ErrorKind::Schema, format!("a remote needs a {what}"))
                .help(format!("call `{what}` before `build`"))
        };
        let transport = self.transport.ok_or_else(|| missing("transport"))?;
        let clock = self.clock.ok_or_else(|| missing("clock"))?;
        url::check_base(&self.base)?;
        let in_use = NameInUse::claim(self.cache.clone(), self.name)?;
        let declared = self.cache.schema().table_names().any(|name| name == AnswerRow::TABLE_NAME);
        if !declared {
            self.cache.declare("a remote is used", |schema| schema.table::<AnswerRow>())?;
        }
        self.cache.rehydrate([AnswerRow::TABLE_NAME])?;
        let engine = Mutex::new(Engine::new(self.at_a_time));
        let base = self.base;
        let remote = Remote(Arc::new_cyclic(|this| RemoteInner {
            in_use,
            base,
            transport,
            clock,
            engine,
            this: this.clone(),
            follows: OnceLock::new(),
        }));
        remote.0.recall()?;
        let this = Arc::downgrade(&remote.0);
        let follows = remote.0.cache().watch_commits(move |report| {
            if let Some(remote) = this.upgrade() {
                remote.follow(report);
            }
        })?;
        remote.0.follows.get_or_init(|| follows);
        Ok(remote)
    }
}

impl Remote {
    /// Begins to build a remote of a cache.
    ///
    /// See [`Remote`] for an example.
    pub fn builder(cache: &Cache) -> RemoteBuilder {
        RemoteBuilder {
            cache: cache.clone(),
            name: "remote".to_owned(),
            base: String::new(),
            transport: None,
            clock: None,
            at_a_time: 6,
        }
    }

    /// Asks for the answer of a response rule for these variables: at once if it is not here, again
    /// if it is stale, and not at all if it is fresh or under way.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such rule, [`ErrorKind::Parameter`] if it has no
    /// `url`, or no such variable; else as [`Cache::commit`], since what is asked for is noted by a
    /// commit. A commit's closure therefore cannot ask; a watcher can.
    ///
    /// See [`Remote`] for an example.
    pub fn ask(&self, rule: &str, variables: impl Into<Named>) -> Result<Answer> {
        self.0.ask(rule, &variables.into(), false)
    }

    /// Asks although it is fresh. What is under way already is shared.
    ///
    /// # Errors
    /// As [`Remote::ask`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't', max_age = '1 min' }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// remote.ask("all", ())?;
    /// server.answer_all();
    /// remote.reload("all", ())?; // the user pulls the list down
    /// server.answer_all();
    /// assert_eq!(server.requests().len(), 2);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn reload(&self, rule: &str, variables: impl Into<Named>) -> Result<Answer> {
        self.0.ask(rule, &variables.into(), true)
    }
}

/// A schema with the remote's tables, if the one that a storage was written with has them: a
/// program does not declare them, and its file is to stay as it is.
pub(crate) fn with_tables_of(wanted: Schema, stored: &Schema) -> Result<Schema> {
    let has = |schema: &Schema| schema.table_names().any(|name| name == AnswerRow::TABLE_NAME);
    match has(stored) && !has(&wanted) {
        true => SchemaBuilder::beyond(&wanted).table::<AnswerRow>().build(),
        false => Ok(wanted),
    }
}

impl RemoteInner {
    fn cache(&self) -> &Cache {
        &self.in_use.cache
    }

    fn name(&self) -> &str {
        &self.in_use.name
    }

    fn engine(&self) -> MutexGuard<'_, Engine> {
        self.engine.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes up the answers that the cache came back with, and forgets those that never came.
    fn recall(&self) -> Result<()> {
        let snapshot = self.cache().snapshot();
        let table = snapshot.table::<AnswerRow>()?;
        let own = table.iter().filter_map(Found::known).filter(|row| row.remote == self.name());
        let mut engine = self.engine();
        let (mut rows, mut all) = (Vec::new(), 0);
        for row in own {
            all += 1;
            let Some((key, here, validators)) = row.recalled() else { continue };
            engine.recall(key.clone(), here, validators);
            if let Some((state, call, validators)) = engine.known(&key) {
                rows.push(AnswerRow::of(self.name(), &key, (&state, call, validators.as_ref())));
            }
        }
        drop(engine);
        if all == 0 {
            return Ok(());
        }
        // What does not persist, such as that nothing is under way, is known from here on.
        self.cache().commit_bookkeeping("answers are taken up again", |tx| {
            let mut table = tx.table::<AnswerRow>()?;
            table.delete_where(|row| row.remote == self.name() && row.recalled().is_none())?;
            rows.iter().try_for_each(|row| table.merge(row))
        })?;
        Ok(())
    }

    fn ask(&self, rule: &str, variables: &Named, anyway: bool) -> Result<Answer> {
        let schema = self.cache().schema();
        let (key, url) = self.request_of(&schema, rule, variables)?;
        let now = self.clock.now();
        let (shared, request) = self.engine().ask(&key, (url, &fields()), now, anyway);
        if let Some(call) = request {
            // It has a row before it may be answered: a row that is deleted is an answer forgotten.
            if let Err(error) = self.note(&format!("{rule} is asked for"), &key, None) {
                wake(self.engine().cancel(call));
                return Err(error);
            }
            self.engine().enqueue(call);
            self.drive();
        }
        Ok(Answer::of(shared))
    }

    /// The key of an answer, and its URL.
    fn request_of(
        &self,
        schema: &Schema,
        rule: &str,
        variables: &Named,
    ) -> Result<(AnswerKey, String)> {
        let (template, known) = schema.url_template(rule)?;
        let mut values: Vec<(String, String)> = Vec::new();
        for (name, value) in variables.iter() {
            if !known.iter().any(|known| known == name) {
                let message = format!("rule \"{rule}\" has no variable \"{name}\"");
                let help = nearest(name, known.iter().map(String::as_str));
                return Err(Error::new(ErrorKind::Parameter, message).help(help));
            }
            if !value.is_null() {
                values.push((name.to_owned(), value.to_string()));
            }
        }
        values.sort();
        let url = url::expand(&self.base, template, &values)?;
        Ok((AnswerKey { rule: rule.to_owned(), variables: values }, url))
    }

    /// Starts the requests that are due, one after the other. Nothing is locked meanwhile: a
    /// transport may answer at once, a commit calls watchers, and these may ask.
    fn drive(&self) {
        if !self.engine().drive() {
            return;
        }
        // Not in the condition, where the engine would stay locked.
        loop {
            let Some(due) = self.engine().next() else { return };
            // A transport that panics has dropped its call, which has failed by that.
            if catch_unwind(AssertUnwindSafe(|| self.start(due))).is_err() {
                tracing::error!("a transport panicked as it started a request");
            }
        }
    }

    fn start(&self, DueRequest { call, url, validators }: DueRequest) {
        let mut headers = fields();
        if let Some(validators) = validators.filter(|of| of.is_selected_by(&headers)) {
            validators.make_conditional(&mut headers);
        }
        let (commit, requested) = (self.cache().snapshot().commit(), self.clock.now());
        let sent = SentRequest { call, commit, requested, headers: headers.clone(), url };
        let mut request = http::Request::new(Vec::new());
        *request.headers_mut() = headers;
        match sent.url.parse() {
            Ok(uri) => {
                *request.uri_mut() = uri;
                self.transport.start(request, Call::new(self.this.clone(), sent));
            }
            Err(error) => {
                let message = format!("{} is no URL: {error}", sent.url);
                self.settle(sent, Err(Failure::new(FailureKind::Network, message)));
            }
        }
    }

    /// Writes what is known of an answer into its row; after a call only if the row is still that
    /// call's.
    fn note(&self, label: &str, key: &AnswerKey, after: Option<u64>) -> Result<()> {
        let Some((state, call, validators)) = self.engine().known(key) else { return Ok(()) };
        let row = AnswerRow::of(self.name(), key, (&state, call, validators.as_ref()));
        self.cache().commit_bookkeeping(label, |tx| {
            match after {
                Some(call) if !self.is_row_of(call, key, tx)? => return Ok(()),
                _ => {}
            }
            tx.table::<AnswerRow>()?.merge(&row)
        })?;
        Ok(())
    }

    /// Whether an answer's row is there and waits for this call: not if the cache was emptied, or
    /// the row deleted, since the call began.
    fn is_row_of(&self, call: u64, key: &AnswerKey, tx: &mut Transaction) -> Result<bool> {
        let row = tx.table::<AnswerRow>()?.get(AnswerRow::id_of(self.name(), key)).known();
        Ok(row.is_some_and(|row| row.request == Some(call as i64)))
    }

    fn is_wanted(&self, sent: &SentRequest) -> bool {
        self.engine().is_wanted(sent.call)
    }

    /// Forgets the answers whose rows were deleted, as when a user signs out.
    fn follow(&self, report: &Report) {
        let changes = report.changes().filter(|change| {
            change.kind() == ChangeKind::Deleted && change.table() == AnswerRow::TABLE_NAME
        });
        for id in changes.filter_map(|change| change.id()) {
            let Some((remote, key)) = AnswerRow::key_of(&id) else { continue };
            if remote == self.name() {
                wake(self.engine().forget(&key));
            }
        }
        self.drive();
    }

    /// A call has come to its end.
    pub(crate) fn settle(
        &self,
        sent: SentRequest,
        result: Result<http::Response<Vec<u8>>, Failure>,
    ) {
        let Some((key, validators)) = self.engine().of_call(sent.call) else { return };
        let outcome = match result {
            Ok(response) => self.take(&sent, &key, validators.as_ref(), &response),
            Err(failure) => Some(CallOutcome::Failed(failure)),
        };
        let Some(outcome) = outcome else {
            wake(self.engine().forget(&key));
            return self.drive();
        };
        let settled = self.engine().settle(sent.call, outcome);
        if let Some((key, state, wakers)) = settled {
            let how = match (&state.failed, state.under_way) {
                (Some(_), _) => "failed",
                (None, Some(_)) => "is asked for once more",
                (None, None) => "came",
            };
            let noted = self.note(&format!("{} {how}", key.rule), &key, Some(sent.call));
            if let Err(error) = noted {
                tracing::error!(%error, "what became of a request could not be noted");
            }
            wake(wakers);
        }
        self.drive();
    }

    /// What a response means: rows, nothing new, or a failure. `None` if its answer was forgotten.
    fn take(
        &self,
        sent: &SentRequest,
        key: &AnswerKey,
        known: Option<&Validators>,
        response: &http::Response<Vec<u8>>,
    ) -> Option<CallOutcome> {
        let (status, headers, now) = (response.status(), response.headers(), self.clock.now());
        let by_rule = self.cache().schema().max_age(&key.rule);
        let came = |validators: Validators| {
            let fresh_until = validators.freshness(by_rule).until;
            CallOutcome::Came(Here { since: now, fresh_until }, validators)
        };
        let is_conditional = [IF_NONE_MATCH, IF_MODIFIED_SINCE];
        let is_conditional = is_conditional.iter().any(|name| sent.headers.contains_key(name));
        if status == http::StatusCode::NOT_MODIFIED && is_conditional {
            let freshened = known.and_then(|known| known.freshened(headers, sent.requested, now));
            return Some(freshened.map_or(CallOutcome::OtherRepresentation, came));
        }
        if !status.is_success() {
            let message = problem(response).unwrap_or_else(|| {
                status.canonical_reason().unwrap_or("the server refused").to_owned()
            });
            let failure = Failure::new(FailureKind::Status, message);
            return Some(CallOutcome::Failed(Failure { status: Some(status.as_u16()), ..failure }));
        }
        let mut request = Request::rule(&key.rule).began_at(sent.commit);
        for (name, value) in &key.variables {
            request = request.var(name, value);
        }
        let label = format!("{} loaded: GET {}", key.rule, sent.url);
        let taken = self.cache().try_commit(label, |tx| {
            if !self.is_row_of(sent.call, key, tx).map_err(Some)? {
                return Err(None);
            }
            tx.ingest(request, response.body()).map_err(Some)
        });
        match taken {
            Ok(_) => Some(came(Validators::of(&sent.headers, headers, sent.requested, now))),
            Err(None) => None,
            Err(Some(error)) => {
                let failure = Failure::new(FailureKind::Unreadable, error.to_string());
                Some(CallOutcome::Failed(Failure { status: Some(status.as_u16()), ..failure }))
            }
        }
    }
}

fn wake(wakers: Vec<Waker>) {
    wakers.into_iter().for_each(Waker::wake);
}

/// A request that was made.
pub(crate) struct SentRequest {
    call: u64,
    /// The commit after which it was sent: later ones are newer than its answer.
    commit: u64,
    requested: Timestamp,
    headers: HeaderMap,
    url: String,
}

/// The fields of every request.
fn fields() -> HeaderMap {
    HeaderMap::from_iter([(ACCEPT, HeaderValue::from_static(ACCEPTED))])
}

const ACCEPTED: &str = "application/json, application/vnd.api+json, application/x-ndjson";

/// The title and detail of a server's problem details (RFC 9457).
fn problem(response: &http::Response<Vec<u8>>) -> Option<String> {
    let kind = response.headers().get(CONTENT_TYPE)?.to_str().ok()?;
    if !kind.to_ascii_lowercase().starts_with("application/problem+json") {
        return None;
    }
    let details: serde_json::Value = serde_json::from_slice(response.body()).ok()?;
    let member = |name: &str| details.get(name).and_then(serde_json::Value::as_str);
    let parts: Vec<&str> = [member("title"), member("detail")].into_iter().flatten().collect();
    (!parts.is_empty()).then(|| parts.join(": "))
}
