//! From what a program says of a remote to the remote.

use std::collections::hash_map::RandomState;
use std::fmt;
use std::hash::{BuildHasher, Hasher};
use std::sync::Arc;
use std::time::Duration;

use http::header::{
    AUTHORIZATION, COOKIE, HeaderMap, HeaderName, HeaderValue, PROXY_AUTHORIZATION,
};

use super::answer::AnswerRow;
use super::engine::Limits;
use super::feeds::FEEDS;
use super::inner::{NameInUse, RemoteInner};
use super::pending::PENDING;
use super::sends::{Conflict, DecidesConflicts, Resolution};
use super::{Remote, RemoteTables, Transport, url};
use crate::cache::Cache;
use crate::error::{Error, ErrorKind, Result};
use crate::value::Clock;

/// Builds a [`Remote`]; see [`Remote::builder`].
pub struct RemoteBuilder {
    cache: Cache,
    name: String,
    base: String,
    transport: Option<Arc<dyn Transport>>,
    clock: Option<Arc<dyn Clock>>,
    limits: Limits,
    fields: Vec<(String, String)>,
    seed: Option<u64>,
    on_conflict: Option<DecidesConflicts>,
}

impl fmt::Debug for RemoteBuilder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RemoteBuilder").field("name", &self.name).finish_non_exhaustive()
    }
}

impl RemoteBuilder {
    pub(super) fn new(cache: &Cache) -> Self {
        let limits = Limits {
            at_a_time: 6,
            time_out: Duration::from_secs(30),
            tries: 4,
            bytes: cache.schema().limits.bytes,
            back_off: (Duration::from_secs(1), Duration::from_secs(60)),
        };
        Self {
            cache: cache.clone(),
            name: "remote".to_owned(),
            base: String::new(),
            transport: None,
            clock: None,
            limits,
            fields: Vec::new(),
            seed: None,
            on_conflict: None,
        }
    }

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

    /// The clock by which answers are fresh, and by whose ticks requests wait.
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
        self.limits.at_a_time = requests.max(1);
        self
    }

    /// How long a try may take, 30 seconds by default.
    ///
    /// See [`RemoteBuilder::tries`] for an example.
    #[must_use]
    pub fn time_out(mut self, limit: Duration) -> Self {
        self.limits.time_out = limit;
        self
    }

    /// How often a request is tried, 4 times by default, if the network fails, the time is over, or
    /// the server has a passing trouble (408, 425, 429, 500, 502, 503, 504). Another try comes after
    /// a second, then after twice as long each time, up to a minute, less a random part of up to
    /// one half, and not before the time that `Retry-After` says.
    ///
    /// ```
    /// use std::time::Duration;
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{FailureKind, Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't' }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone());
    /// let remote = remote.clock(clock.clone()).tries(2).time_out(Duration::from_secs(5)).build()?;
    /// let answer = remote.ask("all", ())?; // the server does not answer
    /// server.pass(&clock, Duration::from_secs(5));
    /// let state = answer.state();
    /// assert_eq!(state.failed.unwrap().kind, FailureKind::TimeOut);
    /// assert_eq!(state.under_way.unwrap().tries, 2); // waits for its second try
    /// server.pass(&clock, Duration::from_secs(10));
    /// assert!(answer.state().under_way.is_none());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    #[must_use]
    pub fn tries(mut self, tries: u32) -> Self {
        self.limits.tries = tries.max(1);
        self
    }

    /// The delay before the second try, and the longest one before any, in place of a second and a
    /// minute; see [`RemoteBuilder::tries`].
    ///
    /// ```
    /// use std::time::Duration;
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't' }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone());
    /// let quick = (Duration::from_millis(5), Duration::from_millis(50));
    /// let remote = remote.clock(clock.clone()).back_off(quick.0, quick.1).build()?;
    /// remote.ask("all", ())?;
    /// server.lose();
    /// server.pass(&clock, quick.0);
    /// assert_eq!(server.waiting(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    #[must_use]
    pub fn back_off(mut self, least: Duration, most: Duration) -> Self {
        self.limits.back_off = (least.min(most), most);
        self
    }

    /// The largest response in bytes, after decompression; the schema's `limits.bytes` by default.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{FailureKind, Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't' }")?);
    /// let server = StandIn::new(|_| StandIn::json(r#"[{ "id": 1 }]"#));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone());
    /// let remote = remote.clock(clock).most_bytes(10).build()?;
    /// let answer = remote.ask("all", ())?;
    /// server.answer_all();
    /// let failed = answer.state().failed.unwrap();
    /// assert_eq!(failed.message, "the response has more than 10 bytes, which are allowed");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    #[must_use]
    pub fn most_bytes(mut self, bytes: usize) -> Self {
        self.limits.bytes = bytes;
        self
    }

    /// A header field of every request, such as `Accept-Language`; see [`Remote::set_field`].
    ///
    /// See [`Remote::set_field`] for an example.
    #[must_use]
    pub fn field(mut self, name: impl Into<String>, value: impl Into<String>) -> Self {
        self.fields.push((name.into(), value.into()));
        self
    }

    /// Where random numbers begin, for tests that must repeat: the parts of delays, and the
    /// `Idempotency-Key` of each change. A program that is started again needs another one.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// let remote = Remote::builder(&cache).base("https://x.example").transport(server).clock(clock).seed(7).build()?;
    /// # Ok::<(), backwater::Error>(())
    /// ```
    #[must_use]
    pub fn seed(mut self, seed: u64) -> Self {
        self.seed = Some(seed);
        self
    }

    /// Decides on changes that are in conflict, by rules with `on_conflict = "ask"`: of a row that
    /// the server has in another version than the one that was changed. `None` leaves it to
    /// [`Sent::resolve`](super::Sent::resolve).
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value, clock::SetClock, remote::{Remote, Resolution, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// # let server = StandIn::new(|_| StandIn::status(404));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// let remote = Remote::builder(&cache).base("https://x.example").transport(server).clock(clock);
    /// let remote = remote.on_conflict(|conflict| match conflict.table.as_str() {
    ///     "note" => Some(Resolution::Ours),
    ///     _ => None, // the program asks its user
    /// });
    /// # remote.build()?;
    /// # Ok::<(), backwater::Error>(())
    /// ```
    #[must_use]
    pub fn on_conflict(
        mut self,
        decide: impl Fn(&Conflict) -> Option<Resolution> + Send + Sync + 'static,
    ) -> Self {
        self.on_conflict = Some(Box::new(decide));
        self
    }

    /// The remote. The cache gets the table `backwater_answer`, and for a schema with send rules
    /// `backwater_pending` and `backwater_base`, for one with feeds `backwater_feed`, if it does not
    /// have them.
    ///
    /// # Errors
    /// [`ErrorKind::Schema`] without a transport or a clock, if the base is no URL, or if the cache
    /// has a remote of that name already; [`ErrorKind::Parameter`] for a header field that cannot
    /// be sent; else as [`Cache::declare`].
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
        let mut fields = super::accepted();
        for (name, value) in &self.fields {
            set_field(&mut fields, name, Some(value))?;
        }
        let in_use = NameInUse::claim(self.cache.clone(), self.name)?;
        let schema = self.cache.schema();
        let lacks = |name: &str| schema.find_table(name).is_none();
        let lacking = RemoteTables {
            answers: lacks(AnswerRow::TABLE_NAME),
            sends: !schema.sends.is_empty() && lacks(PENDING),
            feeds: !schema.feeds.is_empty() && lacks(FEEDS),
        };
        if lacking.is_any() {
            self.cache.declare("a remote is used", |schema| lacking.add_to(schema))?;
        }
        self.cache.rehydrate([AnswerRow::TABLE_NAME])?;
        let seed = self.seed.unwrap_or_else(|| RandomState::new().build_hasher().finish());
        let parts = (self.base, transport, clock);
        let inner =
            RemoteInner::new(in_use, parts, (self.limits, seed), (fields, self.on_conflict))?;
        Ok(Remote(inner))
    }
}

/// Sets a header field, of which answers may be chosen by a server; credentials are the
/// transport's, and never reach a row.
pub(super) fn set_field(fields: &mut HeaderMap, name: &str, value: Option<&str>) -> Result<()> {
    let wrong = |message: String| Error::new(ErrorKind::Parameter, message);
    let known: HeaderName = name.parse().map_err(|error| {
        wrong(format!("{name:?} is no name of a header field")).caused_by(error)
    })?;
    if [AUTHORIZATION, COOKIE, PROXY_AUTHORIZATION].contains(&known) {
        let message = format!("{known} has credentials, which a remote does not keep");
        return Err(wrong(message).help("let the transport add it to its requests"));
    }
    let Some(value) = value else {
        fields.remove(known);
        return Ok(());
    };
    let value = HeaderValue::from_str(value)
        .map_err(|error| wrong(format!("the value of {known} cannot be sent")).caused_by(error))?;
    fields.insert(known, value);
    Ok(())
}
