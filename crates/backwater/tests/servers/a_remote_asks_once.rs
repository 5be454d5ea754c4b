//! What views want of a server is asked for once, shared while it is under way, fresh for as long
//! as the server says, validated after that, and remembered after a restart.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, mpsc};
use std::time::Duration;

use crate::kept_calls::KeptCalls;
use backwater::clock::{Clock, SetClock};
use backwater::remote::{Alarm, AnswerState, Call, FailureKind, Remote, StandIn, Transport};
use backwater::storage::MemoryStorage;
use backwater::{Cache, ErrorKind, Schema, Timestamp, Value};
use proptest::prelude::*;

const SCHEMA: &str = r#"
    table.sailing = { id = "id", fields = { id = "int", port = "text", version = "int" } }

    [response.sailings]
    url = "/sailings{?port}"
    table = "sailing"
    fields = { port = ":port" }
    complete = { port = ":port" }
    max_age = "20 s"

    [response.raw]
    url = "{+path}"
    table = "sailing"

    [response.unasked]
    table = "sailing"
"#;

const PORTS: [&str; 3] = ["EEL", "NOR", "SAL"];

/// What the server has for each port: a version, which its rows show and its validator is.
#[derive(Default)]
struct Server {
    versions: BTreeMap<String, i64>,
    /// Whether it is out of order.
    fails: bool,
    /// How long its answers are fresh, in seconds, if it says so.
    max_age: Option<u32>,
    conditional: usize,
}

fn serve(state: &Arc<Mutex<Server>>) -> StandIn {
    let state = state.clone();
    StandIn::new(move |request| {
        let mut server = state.lock().unwrap();
        if server.fails {
            let body = br#"{"title": "out of order", "detail": "until noon"}"#.to_vec();
            let response = http::Response::builder().status(503);
            let response = response.header("content-type", "application/problem+json");
            return response.body(body).unwrap();
        }
        let port = request.uri().query().unwrap().strip_prefix("port=").unwrap().to_owned();
        let version = *server.versions.entry(port.clone()).or_default();
        let tag = format!("\"{version}\"");
        let mut response = http::Response::builder().header("etag", &tag);
        if let Some(seconds) = server.max_age {
            response = response.header("cache-control", format!("max-age={seconds}"));
        }
        if request.headers().contains_key("if-none-match") {
            server.conditional += 1;
        }
        if request.headers().get("if-none-match").is_some_and(|known| *known == *tag) {
            return response.status(304).body(Vec::new()).unwrap();
        }
        // As many rows as the version says, so that some go as it grows.
        let place = PORTS.iter().position(|known| *known == port).unwrap() as i64;
        let rows = (0..version % 3).map(|row| {
            let id = version * 100 + row * 10 + place;
            format!(r#"{{"id": {id}, "version": {version}}}"#)
        });
        response.body(format!("[{}]", rows.collect::<Vec<_>>().join(",")).into_bytes()).unwrap()
    })
}

#[derive(Debug, Clone, Copy)]
enum Act {
    Ask(usize),
    Reload(usize),
    Answer,
    Lose,
    Wait(u64),
    Edit(usize),
    Break(bool),
    Say(Option<u32>),
    SignOut,
    Restart,
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        6 => (0..PORTS.len()).prop_map(Act::Ask),
        1 => (0..PORTS.len()).prop_map(Act::Reload),
        5 => Just(Act::Answer),
        1 => Just(Act::Lose),
        2 => (0..30_u64).prop_map(Act::Wait),
        2 => (0..PORTS.len()).prop_map(Act::Edit),
        1 => any::<bool>().prop_map(Act::Break),
        1 => prop::option::of(0..60_u32).prop_map(Act::Say),
        1 => Just(Act::SignOut),
        1 => Just(Act::Restart),
    ]
}

/// An answer as the slow and obvious way knows it.
#[derive(Debug, Clone, Default, PartialEq)]
struct Known {
    version: Option<i64>,
    fresh_until: Option<Timestamp>,
    /// What the server said of it last.
    max_age: Option<u32>,
    is_under_way: bool,
    /// When its request began.
    began: Option<Timestamp>,
    failed: Option<FailureKind>,
}

struct World {
    storage: MemoryStorage,
    clock: SetClock,
    state: Arc<Mutex<Server>>,
    server: StandIn,
    cache: Cache,
    remote: Remote,
    known: BTreeMap<&'static str, Known>,
    /// The ports that are asked for, in their order; those that wait for a turn behind the others.
    line: Vec<&'static str>,
    asked: usize,
}

fn open(storage: &MemoryStorage, clock: &SetClock, server: &StandIn) -> (Cache, Remote) {
    let schema = Schema::parse("s.toml", SCHEMA).unwrap();
    let cache = Cache::open_with(schema, storage.clone()).unwrap();
    assert_eq!(cache.opening().schema_changes, [], "its table is the library's own matter");
    let remote = Remote::builder(&cache).base("https://ferries.example/api/").at_a_time(2).tries(1);
    let remote = remote.transport(server.clone()).clock(clock.clone()).build().unwrap();
    (cache, remote)
}

impl World {
    fn new() -> Self {
        let state: Arc<Mutex<Server>> = Arc::default();
        let (storage, server) = (MemoryStorage::new(), serve(&state));
        let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
        let (cache, remote) = open(&storage, &clock, &server);
        let (known, line) = Default::default();
        let asked = 0;
        Self { storage, clock, state, server, cache, remote, known, line, asked }
    }

    fn ask(&mut self, port: &'static str, anyway: bool) {
        let variables = [("port", port)];
        let answer = match anyway {
            true => self.remote.reload("sailings", variables),
            false => self.remote.ask("sailings", variables),
        };
        let known = self.known.entry(port).or_default();
        let is_fresh = known.fresh_until.is_some_and(|until| self.clock.now() < until);
        if (anyway || !is_fresh) && !known.is_under_way {
            known.is_under_way = true;
            self.line.push(port);
            self.asked += 1;
        }
        let (state, known) = (answer.unwrap().state(), known.clone());
        self.begin();
        assert_eq!(
            state.under_way.map(|way| way.is_first),
            known.is_under_way.then_some(known.version.is_none())
        );
    }

    /// The first two have their turn.
    fn begin(&mut self) {
        let now = self.clock.now();
        for port in self.line.iter().take(2) {
            self.known.get_mut(port).unwrap().began.get_or_insert(now);
        }
    }

    fn answered(&mut self) {
        let Some(port) = (!self.line.is_empty()).then(|| self.line.remove(0)) else { return };
        let server = self.state.lock().unwrap();
        let version = server.versions.get(port).copied().unwrap_or_default();
        let known = self.known.get_mut(port).unwrap();
        known.is_under_way = false;
        let began = known.began.take().unwrap();
        if server.fails {
            known.failed = Some(FailureKind::Status);
            return;
        }
        // A 304 that says nothing leaves what was said before.
        let was = known.max_age.filter(|_| known.version == Some(version));
        known.max_age = server.max_age.or(was);
        let seconds = i64::from(known.max_age.unwrap_or(20));
        // The way of the response is part of its age.
        let until = began.as_micros() + seconds * 1_000_000;
        known.fresh_until = Some(Timestamp::from_micros(until).unwrap());
        (known.version, known.failed) = (Some(version), None);
    }

    fn restart(&mut self) {
        self.cache.flush().unwrap();
        let (cache, remote) = open(&MemoryStorage::new(), &self.clock, &self.server);
        // What was under way is lost with the program.
        drop((
            std::mem::replace(&mut self.cache, cache),
            std::mem::replace(&mut self.remote, remote),
        ));
        while self.server.lose() {}
        (self.cache, self.remote) = open(&self.storage, &self.clock, &self.server);
        self.asked -= self.line.len().saturating_sub(2);
        self.line.clear();
        for known in self.known.values_mut() {
            (known.is_under_way, known.failed, known.began) = (false, None, None);
        }
        self.known.retain(|_, known| known.version.is_some());
    }

    /// The cache is emptied, and with it what it was asked for.
    fn sign_out(&mut self) {
        self.cache.clear("signed out").unwrap();
        self.asked -= self.line.len().saturating_sub(2);
        self.line.clear();
        self.known.clear();
    }

    fn check(&self) {
        let waiting = self.server.waiting();
        assert_eq!(waiting, self.line.len().min(2), "at most two at a time");
        let waits = self.line.len().saturating_sub(2);
        assert_eq!(self.server.requests().len(), self.asked - waits, "no request too many");
        let sql = "SELECT variables, came_at IS NOT NULL, is_under_way, failure IS NOT NULL \
            FROM backwater_answer";
        let rows = self.cache.query(sql, ()).unwrap().read().unwrap();
        let mut shown: Vec<Vec<Value>> = rows.rows().map(|row| row.values().to_vec()).collect();
        let known = self.known.iter().map(|(port, known)| -> Vec<Value> {
            vec![
                format!(r#"{{"port":"{port}"}}"#).into(),
                i64::from(known.version.is_some()).into(),
                known.is_under_way.into(),
                i64::from(known.failed.is_some()).into(),
            ]
        });
        shown.sort_by_key(|row| row[0].to_string());
        assert_eq!(shown, known.collect::<Vec<_>>());
        for port in PORTS {
            let sql = "SELECT version FROM sailing WHERE port = :port";
            let rows = self.cache.query(sql, [("port", port)]).unwrap().read().unwrap();
            let known = self.known.get(port).and_then(|known| known.version).unwrap_or_default();
            assert_eq!(rows.len() as i64, known % 3, "{port}");
            assert!(rows.rows().all(|row| row.values()[0] == known.into()), "{port}");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(
        std::env::var("BACKWATER_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(60)
    ))]

    #[test]
    fn asks_equal_a_model(acts in prop::collection::vec(act(), 1..60)) {
        let mut world = World::new();
        for act in acts {
            match act {
                Act::Ask(port) => world.ask(PORTS[port], false),
                Act::Reload(port) => world.ask(PORTS[port], true),
                Act::Answer => {
                    let is_one = world.server.answer();
                    prop_assert_eq!(is_one, !world.line.is_empty());
                    world.answered();
                }
                Act::Lose => {
                    if world.server.lose() {
                        let known = world.known.get_mut(world.line.remove(0)).unwrap();
                        (known.is_under_way, known.failed) = (false, Some(FailureKind::Network));
                        known.began = None;
                    }
                }
                Act::Wait(seconds) => world.clock.advance(Duration::from_secs(seconds)),
                Act::Edit(port) => {
                    *world.state.lock().unwrap().versions.entry(PORTS[port].into()).or_default() += 1;
                }
                Act::Break(fails) => world.state.lock().unwrap().fails = fails,
                Act::Say(seconds) => world.state.lock().unwrap().max_age = seconds,
                Act::SignOut => world.sign_out(),
                Act::Restart => world.restart(),
            }
            world.begin();
            world.check();
        }
    }
}

/// A stale answer costs a conditional request, also after a restart, and a 304 changes no row.
#[test]
fn what_is_stale_is_validated_after_a_restart() {
    let mut world = World::new();
    world.state.lock().unwrap().versions.insert("SAL".into(), 2);
    world.ask("SAL", false);
    world.server.answer_all();
    world.answered();
    world.restart();
    world.ask("SAL", false);
    assert_eq!(world.server.waiting(), 0, "it is fresh");
    world.clock.advance(Duration::from_secs(60));
    world.ask("SAL", false);
    let rows = world.cache.query("SELECT id, version FROM sailing", ()).unwrap();
    let before = rows.read().unwrap();
    world.server.answer_all();
    assert_eq!(world.state.lock().unwrap().conditional, 1);
    assert!(rows.read().unwrap().is_same(&before), "304 brings nothing");
}

/// Failures say what happened and leave the rows; what is not to be asked for is refused.
#[test]
fn failures_are_told_apart_and_leave_the_rows() {
    let world = World::new();
    let ask = || world.remote.reload("sailings", [("port", "SAL")]).unwrap();
    world.state.lock().unwrap().fails = true;
    let answer = ask();
    world.server.answer_all();
    let failed = answer.wait(Duration::ZERO).failed.unwrap();
    assert_eq!(failed.to_string(), "status: 503, out of order: until noon");
    let answer = ask();
    world.server.lose();
    assert_eq!(answer.state().failed.unwrap().kind, FailureKind::Network);

    // Nothing has changed, says a server that was not asked whether.
    let confused = StandIn::new(|_| StandIn::status(304));
    let remote = Remote::builder(&world.cache).name("confused").base("https://ferries.example");
    let remote = remote.transport(confused.clone()).clock(world.clock.clone()).build().unwrap();
    let answer = remote.ask("sailings", [("port", "SAL")]).unwrap();
    assert!(confused.answer() && !confused.answer(), "it is not asked again and again");
    assert_eq!(answer.state().failed.unwrap().to_string(), "status: 304, Not Modified");

    let broken = StandIn::new(|_| StandIn::json(r#"[{ "id": 1 }, { "id": "one" }]"#));
    let remote =
        Remote::builder(&world.cache).name("other").base("https://ferries.example").tries(1);
    let remote = remote.transport(broken.clone()).clock(world.clock.clone()).build().unwrap();
    let answer = remote.ask("sailings", [("port", "SAL")]).unwrap();
    broken.answer_all();
    let failed = answer.state().failed.unwrap();
    assert_eq!(failed.kind, FailureKind::Unreadable);
    assert!(failed.message.contains("/1/id"), "{failed}");
    assert_eq!(world.cache.snapshot().count("sailing").unwrap(), 0);

    // What a variable brings along does not choose the host.
    for path in
        ["http://elsewhere.example/", "//elsewhere.example", "@elsewhere.example", ".elsewhere"]
    {
        remote.ask("raw", [("path", path)]).unwrap();
        broken.answer();
    }
    let is_own = |request: &String| request.starts_with("GET https://ferries.example/");
    assert!(broken.requests().iter().all(is_own), "{:?}", broken.requests());

    let kind = |result: backwater::error::Result<_>| {
        result.map(|_: backwater::remote::Answer| ()).unwrap_err().kind()
    };
    assert_eq!(kind(remote.ask("departures", ())), ErrorKind::UnknownName);
    assert_eq!(kind(remote.ask("unasked", ())), ErrorKind::Parameter);
    assert_eq!(kind(remote.ask("sailings", [("prot", "SAL")])), ErrorKind::Parameter);
    let built =
        Remote::builder(&world.cache).base("ferries").transport(broken).clock(world.clock.clone());
    assert_eq!(built.build().unwrap_err().kind(), ErrorKind::Schema);
    // A program's own commits are not crowded out by what the remote keeps account of.
    assert!(world.cache.commits().iter().all(|report| !report.label().contains("under way")));
}

/// Once a user has signed out, or an answer's row is deleted, nothing that began before may write.
#[test]
fn what_began_before_a_user_signed_out_is_ignored() {
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    let (held, clock) =
        (KeptCalls::default(), SetClock::at("2031-05-04T07:40:00Z".parse().unwrap()));
    let remote = Remote::builder(&cache).base("https://ferries.example").at_a_time(1);
    let remote = remote.transport(held.clone()).clock(clock).build().unwrap();
    let ask = |port| remote.ask("sailings", [("port", port)]).unwrap();
    let take = || held.0.lock().unwrap().remove(0);
    let rows = || cache.snapshot().count("sailing").unwrap();
    let response = || StandIn::json(r#"[{ "id": 1, "version": 1 }]"#);

    let (answer, queued) = (ask("SAL"), ask("NOR"));
    let call = take();
    assert!(call.is_wanted());
    cache.clear("signed out").unwrap();
    assert!(!call.is_wanted());
    let gone = AnswerState::default();
    assert_eq!((answer.state(), queued.state()), (gone.clone(), gone));
    // The next user asks for the same before the old answer comes.
    let next = ask("SAL");
    call.respond(response());
    assert_eq!((rows(), next.state().under_way.is_some()), (0, true));
    take().respond(response());
    assert_eq!((rows(), next.state().here.is_some()), (1, true));
    assert!(held.0.lock().unwrap().is_empty(), "what waited for its turn is not asked for");

    // A row that is deleted is one answer forgotten, and makes room for those that wait.
    remote.reload("sailings", [("port", "SAL")]).unwrap();
    let other = ask("NOR");
    let unwanted = take();
    let id = ("remote", "sailings", r#"{"port":"SAL"}"#);
    cache.commit("forgotten", |tx| tx.delete("backwater_answer", id)).unwrap();
    assert!(!unwanted.is_wanted() && next.state().here.is_none());
    take().respond(response());
    assert!(other.state().here.is_some());
}

/// The remote hears of a sign-out late where another thread is telling watchers of an earlier
/// commit. What is asked for meanwhile is asked for anew, and is not taken back then.
#[test]
fn a_sign_out_that_is_heard_of_late_takes_back_nothing_newer() {
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    let (held, clock) =
        (KeptCalls::default(), SetClock::at("2031-05-04T07:40:00Z".parse().unwrap()));
    let remote = Remote::builder(&cache).base("https://ferries.example").transport(held.clone());
    let remote = remote.clock(clock).build().unwrap();
    let ask = |port| remote.ask("sailings", [("port", port)]).unwrap();
    let take = || held.0.lock().unwrap().remove(0);
    let response = |id: i64| StandIn::json(format!(r#"[{{ "id": {id}, "version": 1 }}]"#));

    let (tells, (told, is_told)) = (mpsc::channel(), mpsc::channel());
    let _watch = cache.watch_commits(move |report| {
        if report.label() == "told slowly" {
            told.send(()).unwrap();
            tells.1.recv().unwrap();
        }
    });
    let known = ask("SAL");
    take().respond(response(1));
    let _under_way = ask("NOR");
    let old = take();
    assert!(known.state().here.is_some());

    let teller = cache.clone();
    let teller = std::thread::spawn(move || {
        teller.commit("told slowly", |tx| tx.insert("sailing", [("id", 9)])).unwrap();
    });
    is_told.recv().unwrap();
    cache.clear("signed out").unwrap();
    let next = [ask("SAL"), ask("NOR")];
    let are_under_way = || {
        let states = next.each_ref().map(|answer| answer.state());
        states.iter().all(|state| state.under_way.is_some() && state.here.is_none())
    };
    assert!(are_under_way() && !old.is_wanted());
    tells.0.send(()).unwrap();
    teller.join().unwrap();
    assert!(are_under_way(), "taken back by what was before it");
    old.respond(response(1));
    assert_eq!(cache.snapshot().count("sailing").unwrap(), 0);
    take().respond(response(2));
    take().respond(response(3));
    assert!(next.iter().all(|answer| answer.state().here.is_some()));
    assert_eq!(cache.snapshot().count("sailing").unwrap(), 2);
}

/// A transport that answers at once, loses at once, or panics, as it is told.
#[derive(Clone, Default)]
struct Moody(Arc<Mutex<(Mood, Vec<Call>)>>);

#[derive(Clone, Copy, Default)]
enum Mood {
    #[default]
    Keeps,
    Loses,
    Panics,
}

impl Transport for Moody {
    fn start(&self, _: http::Request<Vec<u8>>, call: Call) {
        let mut this = self.0.lock().unwrap();
        match this.0 {
            Mood::Keeps => this.1.push(call),
            Mood::Loses => drop((drop(this), call)),
            Mood::Panics => {
                drop(this);
                panic!("the transport is broken");
            }
        }
    }

    fn wake_after(&self, _: Duration, _: Alarm) {}
}

/// However a transport fails, every request comes to its end, and the next one has its turn.
#[test]
fn a_broken_transport_leaves_nothing_under_way() {
    let (moody, clock) = (Moody::default(), SetClock::at("2031-05-04T07:40:00Z".parse().unwrap()));
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    let remote = Remote::builder(&cache).base("https://ferries.example").at_a_time(1).tries(1);
    let remote = remote.transport(moody.clone()).clock(clock).build().unwrap();
    for (mood, many) in [(Mood::Loses, 3000), (Mood::Panics, 20)] {
        moody.0.lock().unwrap().0 = Mood::Keeps;
        let many = (0..many).map(|port| remote.reload("sailings", [("port", port.to_string())]));
        let answers: Vec<_> = many.collect::<Result<_, _>>().unwrap();
        let first = moody.0.lock().unwrap().1.remove(0);
        moody.0.lock().unwrap().0 = mood;
        drop(first);
        for answer in &answers {
            let state = answer.state();
            assert_eq!(state.under_way, None);
            assert_eq!(state.failed.unwrap().kind, FailureKind::Network);
        }
    }
    let busy = cache.query("SELECT count(*) FROM backwater_answer WHERE is_under_way", ()).unwrap();
    assert_eq!(busy.read().unwrap().row(0).unwrap().values(), [0.into()]);
}

/// What would mix the answers of two remotes, or ask in the middle of a commit, is refused.
#[test]
fn what_cannot_go_well_is_refused() {
    let world = World::new();
    let second = || {
        let other = Remote::builder(&world.cache).base("https://elsewhere.example");
        other.transport(StandIn::new(|_| StandIn::json("[]"))).clock(world.clock.clone()).build()
    };
    let error = second().unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Schema);
    assert!(error.to_string().contains("\"remote\""), "{error}");

    let twice = SCHEMA.replace("url = \"{+path}\"", "url = \"/sailings{?port}\"");
    let error = Schema::parse("s.toml", &twice).unwrap_err().to_string();
    assert!(
        error.contains("\"sailings\" and \"raw\" are both for GET /sailings{?port}"),
        "{error}"
    );

    let inside = world.cache.commit("asks", |_| world.remote.ask("sailings", [("port", "SAL")]));
    assert_eq!(inside.unwrap_err().kind(), ErrorKind::Nested);
    // It works afterwards.
    let answer = world.remote.ask("sailings", [("port", "SAL")]).unwrap();
    world.server.answer_all();
    assert!(answer.state().here.is_some() && answer.state().under_way.is_none());

    let World { remote, cache, clock, .. } = world;
    drop((answer, remote));
    let again = Remote::builder(&cache).base("https://ferries.example").clock(clock);
    again.transport(KeptCalls::default()).build().unwrap();
}
