//! The remote: a server whose rows a cache holds. What views want is asked for once, shared while
//! it is under way, and asked again when it is stale.
//!
//! It knows the cache, response rules, HTTP's header fields and the time. It makes no request: a
//! [`Transport`] does. It starts no thread and reads no clock but the one that it is given.

mod answer;
mod awaited;
mod builder;
mod cover;
mod engine;
mod feeds;
mod fill;
mod freshness;
mod inner;
mod key;
mod pages;
pub(crate) mod pending;
mod playback;
mod response;
mod sends;
mod stand_in;
mod transport;
mod url;

use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use http::header::{ACCEPT, HeaderMap, HeaderValue};
use siphasher::sip::SipHasher13;

use crate::cache::Cache;
use crate::error::Result;
use crate::query::Query;
use crate::schema::Schema;
use crate::typed::SchemaBuilder;
use crate::value::Named;
use answer::AnswerRow;
pub use answer::{Answer, AnswerState, Failure, FailureKind, Here, Settled, UnderWay, Wanted};
pub use builder::RemoteBuilder;
pub use cover::{FillPlan, PlannedRequest};
use engine::Asker;
pub use feeds::{Connection, FeedSettled, FeedState, Listening};
use feeds::{FEEDS, FeedRow};
pub use fill::{Fill, FillSettled, FillState, KeptFilled, fill_plan};
/// The `http` crate, whose requests and responses a [`Transport`] moves.
pub use http;
pub(crate) use inner::RemoteInner;
use pending::{BaseNote, PENDING, PendingRow};
pub use playback::Playback;
pub use sends::{Conflict, Resolution, SendState, Sent, SentSettled, Unsent};
pub use stand_in::StandIn;
pub use transport::{Alarm, Call, FeedCall, Transport, Unwanted};

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

impl fmt::Debug for Remote {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Remote").field("name", &self.0.name()).finish_non_exhaustive()
    }
}

impl Remote {
    /// Begins to build a remote of a cache.
    ///
    /// See [`Remote`] for an example.
    pub fn builder(cache: &Cache) -> RemoteBuilder {
        RemoteBuilder::new(cache)
    }

    /// Asks for the answer of a response rule for these variables: at once if it is not here, again
    /// if it is stale, and not at all if it is fresh or under way.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`](crate::ErrorKind::UnknownName) if there is no such rule,
    /// [`ErrorKind::Parameter`](crate::ErrorKind::Parameter) if it has no `url`, is not of GET, or
    /// has no such variable; else as [`Cache::commit`], since what is asked for is noted by a
    /// commit. A commit's closure therefore cannot ask; a watcher can.
    ///
    /// See [`Remote`] for an example.
    pub fn ask(&self, rule: &str, variables: impl Into<Named>) -> Result<Answer> {
        self.0.ask(rule, &variables.into(), (false, Asker::Once)).map(Answer::of)
    }

    /// Asks although it is fresh. What is under way already is shared; what waits for another try
    /// has it now.
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
        self.0.ask(rule, &variables.into(), (true, Asker::Once)).map(Answer::of)
    }

    /// Asks, and keeps the answer fresh for as long as the returned value is held: it is asked for
    /// again when it grows stale, after the time of the rule's `reload_every`, when the network is
    /// back, and at [`Remote::resume`]. An answer that is never fresh, since neither the server nor
    /// the rule says for how long, is asked for again by the last three alone.
    ///
    /// # Errors
    /// As [`Remote::ask`].
    ///
    /// ```
    /// use std::time::Duration;
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.found = { url = '/t{?text}', table = 't', max_age = '1 min' }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock.clone()).at_a_time(1).build()?;
    /// let page = remote.want("found", [("text", "sal")])?;
    /// server.answer_all();
    /// server.pass(&clock, Duration::from_secs(61));
    /// assert!(page.state().under_way.is_some()); // asked for again
    ///
    /// // A letter is typed before the request for the text without it has its turn.
    /// let mut shown = remote.want("found", [("text", "salt")])?;
    /// shown = remote.want("found", [("text", "saltm")])?;
    /// server.answer_all();
    /// assert!(server.requests().iter().all(|request| !request.ends_with("text=salt")));
    /// # drop((page, shown));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn want(&self, rule: &str, variables: impl Into<Named>) -> Result<Wanted> {
        let shared = self.0.ask(rule, &variables.into(), (false, Asker::Holder))?;
        Ok(Wanted::new(Answer::of(shared), self.0.clone()))
    }

    /// Asks for exactly what a query reads and answers do not cover: rows in a scope by the rule that
    /// is complete for it, single rows by a rule with their id in its URL, several at once by one
    /// that takes several. What comes may lead to further rows, which are asked for in turn; each
    /// answer is asked for once.
    ///
    /// # Errors
    /// As a read of the query.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// let cache = Cache::new(Schema::parse("backwater.toml", r#"
    ///     table.sailing = { id = "id", fields = { id = "int", port = "text", vessel = { to = "vessel" } } }
    ///     table.vessel = { id = "id", fields = { id = "text", name = "text" } }
    ///
    ///     [response.departures]
    ///     url = "/departures/{port}"
    ///     table = "sailing"
    ///     fields = { port = ":port" }
    ///     complete = { port = ":port" }
    ///
    ///     [response.vessels]
    ///     url = "/vessels{?ids*}"
    ///     table = "vessel"
    /// "#)?);
    /// let server = StandIn::new(|request| match request.uri().path() {
    ///     "/departures/SAL" => StandIn::json(r#"[{ "id": 311, "vessel": "marram" }, { "id": 312, "vessel": "sea-pink" }]"#),
    ///     _ => StandIn::json(r#"[{ "id": "marram", "name": "Marram" }, { "id": "sea-pink", "name": "Sea Pink" }]"#),
    /// });
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let shown = cache.query(
    ///     "SELECT s.id, v.name FROM sailing AS s JOIN vessel AS v ON v.id = s.vessel WHERE s.port = :port",
    ///     [("port", "SAL")],
    /// )?;
    /// let fill = remote.fill(&shown)?;
    /// assert_eq!(fill.state().under_way, 1);
    /// server.answer_all();
    /// assert!(fill.state().is_whole);
    /// assert_eq!(shown.read()?.len(), 2);
    /// assert_eq!(server.requests(), [
    ///     "GET https://x.example/departures/SAL",
    ///     "GET https://x.example/vessels?ids=marram&ids=sea-pink",
    /// ]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn fill(&self, query: &Query) -> Result<Fill> {
        self.0.fill(query, false)
    }

    /// Keeps a query's result filled for as long as the returned value is held: across rebinds, as
    /// rows come that lead to others, and as answers grow stale. A view states its query, and nothing
    /// else.
    ///
    /// # Errors
    /// As [`Remote::fill`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("backwater.toml", r#"
    /// #     table.booking = { id = "id", fields = { id = "int", sailing = "int" } }
    /// #     response.bookings = { url = "/sailings/{sailing}/bookings", table = "booking", fields = { sailing = ":sailing" }, complete = { sailing = ":sailing" } }
    /// # "#)?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let bookings = cache.query("SELECT id FROM booking WHERE sailing = :sailing", [("sailing", 311)])?;
    /// let filled = remote.keep_filled(&bookings)?;
    /// server.answer_all();
    /// cache.rebind("another sailing is opened", &bookings, [("sailing", 312)])?;
    /// server.answer_all();
    /// assert!(filled.state().is_whole);
    /// assert_eq!(server.requests().last().unwrap(), "GET https://x.example/sailings/312/bookings");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn keep_filled(&self, query: &Query) -> Result<KeptFilled> {
        Ok(KeptFilled::new(self.0.fill(query, true)?, self.0.clone()))
    }

    /// Says that the program is looked at again, as when its window comes to the front: what is
    /// wanted and stale is asked for, and what waits for another try has it now.
    ///
    /// ```
    /// # use std::time::Duration;
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't' }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock.clone()).build()?;
    /// let all = remote.want("all", ())?;
    /// server.answer_all();
    /// clock.advance(Duration::from_secs(3600));
    /// remote.resume();
    /// assert!(all.state().under_way.is_some());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn resume(&self) {
        let at = self.0.moment();
        let work = self.0.engine().resume(at);
        self.0.sends().resume();
        self.0.feeds().resume();
        self.0.carry_out(work);
    }

    /// Says whether there is a network. Without one requests wait; when it is back, they are made,
    /// and what is wanted and stale is asked for.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't' }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock.clone()).build()?;
    /// remote.set_online(false);
    /// remote.ask("all", ())?;
    /// assert_eq!(server.waiting(), 0);
    /// remote.set_online(true);
    /// assert_eq!(server.waiting(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn set_online(&self, is_online: bool) {
        let at = self.0.moment();
        let work = self.0.engine().set_online(is_online, at);
        if is_online {
            self.0.sends().resume();
            self.0.feeds().resume();
        }
        self.0.carry_out(work);
    }

    /// Sets a header field of every request from now on, or leaves it out if there is no value. Where the server says by `Vary` that its
    /// answers depend on that field, those for another value are stale.
    ///
    /// # Errors
    /// [`ErrorKind::Parameter`](crate::ErrorKind::Parameter) if it cannot be sent, or has
    /// credentials: these are the transport's.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't', max_age = '1 hour' }")?);
    /// let server = StandIn::new(|_| {
    ///     let response = http::Response::builder().header("vary", "accept-language");
    ///     response.body("[]".into()).unwrap()
    /// });
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone());
    /// let remote = remote.clock(clock).field("accept-language", "en").build()?;
    /// remote.ask("all", ())?;
    /// server.answer_all();
    /// remote.set_field("accept-language", "de")?;
    /// remote.ask("all", ())?;
    /// assert_eq!(server.waiting(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn set_field<'v>(&self, name: &str, value: impl Into<Option<&'v str>>) -> Result<()> {
        let value = value.into();
        self.0.set_fields(|fields| builder::set_field(fields, name, value))
    }

    /// Makes the answers of a rule stale that have these values of variables, and those that are
    /// wanted are asked for again; returns how many there are.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`](crate::ErrorKind::UnknownName) if there is no such rule; else as
    /// [`Cache::commit`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.one = { url = '/t/{id}', table = 't', max_age = '1 hour' }")?);
    /// # let server = StandIn::new(|_| StandIn::json("[]"));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock.clone()).build()?;
    /// let (first, second) = (remote.ask("one", [("id", 1)])?, remote.ask("one", [("id", 2)])?);
    /// server.answer_all();
    /// assert_eq!(remote.make_stale("one", [("id", 2)])?, 1);
    /// assert!(first.state().is_fresh(&clock) && !second.state().is_fresh(&clock));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn make_stale(&self, rule: &str, variables: impl Into<Named>) -> Result<usize> {
        self.0.schema().rule(rule)?;
        let variables = variables.into();
        let variables: Vec<(&str, String)> =
            variables.iter().map(|(name, value)| (name, value.to_string())).collect();
        self.0.make_stale(|key| {
            let has = |(name, value): &(&str, String)| key.variable(name) == Some(value);
            key.rule() == rule && variables.iter().all(has)
        })
    }

    /// Says that the program itself has made an unsafe request, such as a PATCH, and what came of
    /// it. If it went well, answers are stale that it may have changed (RFC 9111, section 4.4):
    /// those of its URL and of the URLs in `Location` and `Content-Location` on the same host, and
    /// those of the rules in `makes_stale` of the rule that the request is by, where variables of
    /// one name have equal values. It returns how many there are.
    ///
    /// # Errors
    /// As [`Cache::commit`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// let cache = Cache::new(Schema::parse("backwater.toml", r#"
    ///     table.sailing = { id = "id", fields = { id = "int" } }
    ///
    ///     [response.sailing]
    ///     url = "/sailings/{id}"
    ///     table = "sailing"
    ///     max_age = "1 hour"
    ///
    ///     [response.departures]
    ///     url = "/departures{?port}"
    ///     table = "sailing"
    ///     max_age = "1 hour"
    ///
    ///     [response.delayed]
    ///     method = "PATCH"
    ///     url = "/sailings/{id}"
    ///     table = "sailing"
    ///     makes_stale = ["departures"]
    /// "#)?);
    /// # let server = StandIn::new(|_| StandIn::json(r#"{ "id": 311 }"#));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock.clone()).build()?;
    /// remote.ask("sailing", [("id", 311)])?;
    /// remote.ask("sailing", [("id", 312)])?;
    /// remote.ask("departures", [("port", "SAL")])?;
    /// server.answer_all();
    /// let response = http::Response::new(()); // of the program's own client
    /// assert_eq!(remote.made_unsafe("PATCH", "/sailings/311", &response)?, 2);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn made_unsafe<B>(
        &self,
        method: &str,
        url: &str,
        response: &http::Response<B>,
    ) -> Result<usize> {
        let status = response.status();
        let is_safe = ["GET", "HEAD", "OPTIONS", "TRACE"];
        if !(status.is_success() || status.is_redirection()) || is_safe.contains(&method) {
            return Ok(0);
        }
        let schema = self.0.schema();
        let by_rule = schema.rule_for(method, url).ok();
        let by_rule = by_rule.and_then(|(rule, variables)| {
            Some((schema.rule(rule).ok()?.asking.makes_stale.clone(), variables))
        });
        let urls = url::changed_by(&self.0.base, url, response.headers());
        self.0.make_stale_at(&urls, |key| {
            by_rule.as_ref().is_some_and(|(makes_stale, variables)| {
                let agrees = |(name, value): &(String, String)| {
                    key.variable(name).is_none_or(|known| known == value)
                };
                makes_stale.iter().any(|name| name == key.rule()) && variables.iter().all(agrees)
            })
        })
    }
}

/// A schema with the remote's tables, if the one that a storage was written with has them: a
/// program does not declare them, and its file is to stay as it is.
pub(crate) fn with_tables_of(wanted: Schema, stored: &Schema) -> Result<Schema> {
    let has = |schema: &Schema, table: &str| schema.table_names().any(|name| name == table);
    let lacks = |table: &str| has(stored, table) && !has(&wanted, table);
    let lacking = RemoteTables {
        answers: lacks(AnswerRow::TABLE_NAME),
        sends: lacks(PENDING),
        feeds: lacks(FEEDS),
    };
    match lacking.is_any() {
        false => Ok(wanted),
        true => lacking.add_to(SchemaBuilder::beyond(&wanted)).build(),
    }
}

/// The tables in which a remote notes what it asks for, what it sends and what it listens to.
#[derive(Clone, Copy, Default)]
struct RemoteTables {
    answers: bool,
    sends: bool,
    feeds: bool,
}

impl RemoteTables {
    fn is_any(self) -> bool {
        self.answers || self.sends || self.feeds
    }

    fn add_to(self, builder: SchemaBuilder) -> SchemaBuilder {
        let builder = if self.answers { builder.table::<AnswerRow>() } else { builder };
        let builder = match self.sends {
            true => builder.table::<PendingRow>().table::<BaseNote>(),
            false => builder,
        };
        if self.feeds { builder.table::<FeedRow>() } else { builder }
    }
}

/// The header fields of every request.
fn accepted() -> HeaderMap {
    HeaderMap::from_iter([(ACCEPT, HeaderValue::from_static(ACCEPTED))])
}

const ACCEPTED: &str = "application/json, application/vnd.api+json, application/x-ndjson";

/// What is shown instead of a secret value: the same for the same value while a program runs.
fn cover(seed: u64, value: &str) -> String {
    let mut hasher = SipHasher13::new_with_keys(seed, !seed);
    value.hash(&mut hasher);
    format!("secret {:016x}", hasher.finish())
}
