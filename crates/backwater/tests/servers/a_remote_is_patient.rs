//! What fails in passing is tried again, at the time that the server says; what is wanted is kept
//! fresh; what nobody wants any more is not asked for; what must not be kept is not.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::future::Future;
use std::pin::pin;
use std::sync::atomic::{AtomicU16, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll, Wake, Waker};
use std::time::Duration;

use crate::kept_calls::KeptCalls;
use backwater::clock::{Clock, SetClock};
use backwater::remote::{Alarm, Call, FailureKind, Remote, StandIn, Transport};
use backwater::storage::{JsonLines, MemoryStorage};
use backwater::{Cache, ErrorKind, Schema, Table};

const SCHEMA: &str = r#"
    table.sailing = { id = "id", fields = { id = "int", note = "text" } }

    [response.sailing]
    url = "/sailings/{id}"
    table = "sailing"

    [response.departures]
    url = "/departures{?port,token}"
    records = "/sailings"
    table = "sailing"
    list = "departures"
    secret = ["token"]

    [response.every]
    url = "/every"
    table = "sailing"
    reload_every = "1 min"
"#;

fn clock() -> SetClock {
    SetClock::at("2031-05-04T07:40:00Z".parse().unwrap())
}

fn remote(cache: &Cache, server: &StandIn, clock: &SetClock) -> Remote {
    let remote = Remote::builder(cache).base("https://ferries.example").seed(1);
    remote.transport(server.clone()).clock(clock.clone()).build().unwrap()
}

fn cache() -> Cache {
    Cache::new(Schema::parse("s.toml", SCHEMA).unwrap())
}

/// A server that answers with that status and that header field, until it is told otherwise.
fn with(status: &Arc<AtomicU16>, field: (&'static str, &'static str)) -> StandIn {
    let status = status.clone();
    StandIn::new(move |request| {
        let id = request.uri().path().rsplit('/').next().unwrap().parse::<i64>().unwrap_or(1);
        let response = http::Response::builder().status(status.load(Ordering::Relaxed));
        let response = response.header(field.0, field.1);
        response.body(format!(r#"{{"id": {id}, "note": "a gull"}}"#).into_bytes()).unwrap()
    })
}

/// The seconds after which requests came.
fn tries(server: &StandIn, clock: &SetClock, seconds: u64) -> Vec<u64> {
    let mut came = Vec::new();
    for second in 0..seconds {
        if server.answer() {
            came.push(second);
        }
        server.pass(clock, Duration::from_secs(1));
    }
    came
}

/// Back-off grows and has jitter; it ends after so many tries, and waits at least as long as the
/// server asks for, as a number of seconds or as a date; a remote that is told that it asks too
/// often asks for nothing at all until then.
#[test]
fn another_try_comes_in_its_time() {
    let ends = |status: u16, field: (&'static str, &'static str)| {
        let (cache, clock) = (cache(), clock());
        let server = with(&Arc::new(AtomicU16::new(status)), field);
        let remote = remote(&cache, &server, &clock);
        let answer = remote.ask("sailing", [("id", 311)]).unwrap();
        let came = tries(&server, &clock, 200);
        let state = answer.state();
        assert_eq!((state.under_way, state.failed.unwrap().status), (None, Some(status)));
        came
    };
    for status in [404, 401, 501] {
        assert_eq!(ends(status, ("x", "y")), [0], "{status}");
    }
    for status in [408, 425, 429, 500, 502, 503, 504] {
        let came = ends(status, ("x", "y"));
        let delays: Vec<u64> = came.windows(2).map(|two| two[1] - two[0]).collect();
        assert!(matches!(*delays, [1, 1..=2, 2..=4]), "{status}: {delays:?}");
    }
    for after in ["30", "Sun, 04 May 2031 07:40:30 GMT"] {
        let came = ends(503, ("retry-after", after));
        assert!(came.len() == 4 && (30..=34).contains(&came[1]), "{came:?}");
    }
    assert_eq!(ends(503, ("retry-after", "soon")).len(), 4);

    let (cache, clock, status) = (cache(), clock(), Arc::new(AtomicU16::new(429)));
    let server = with(&status, ("retry-after", "60"));
    let remote = remote(&cache, &server, &clock);
    let first = remote.ask("sailing", [("id", 1)]).unwrap();
    server.answer();
    status.store(200, Ordering::Relaxed);
    for id in 2..100 {
        remote.ask("sailing", [("id", id)]).unwrap();
    }
    server.pass(&clock, Duration::from_secs(59));
    assert_eq!(server.requests().len(), 1);
    assert!(first.state().failed.unwrap().again_at.unwrap() > clock.now());
    server.pass(&clock, Duration::from_secs(8));
    server.answer_all();
    assert_eq!(cache.snapshot().count("sailing").unwrap(), 99);

    // A year is too long for anybody.
    let server = with(&Arc::new(AtomicU16::new(503)), ("retry-after", "31536000"));
    let remote = Remote::builder(&cache).name("slow").base("https://ferries.example");
    let remote = remote.transport(server.clone()).clock(clock.clone()).build().unwrap();
    let answer = remote.ask("sailing", [("id", 1)]).unwrap();
    server.answer();
    server.pass(&clock, Duration::from_secs(3601));
    assert_eq!(server.requests().len(), 2);
    // Who asks again by hand does not wait.
    server.answer();
    remote.reload("sailing", [("id", 1)]).unwrap();
    assert_eq!((server.waiting(), answer.state().under_way.unwrap().tries), (1, 3));
}

/// What is wanted is asked for as it grows stale, every so often if the rule says so, and when the
/// program is looked at again; and not once it is let go.
#[test]
fn what_is_wanted_is_kept_fresh() {
    let (cache, clock, status) = (cache(), clock(), Arc::new(AtomicU16::new(200)));
    let server = with(&status, ("cache-control", "max-age=10"));
    let remote = remote(&cache, &server, &clock);
    let wanted = remote.want("sailing", [("id", 1)]).unwrap();
    assert_eq!(tries(&server, &clock, 31), [0, 10, 20, 30]);
    let second = remote.want("sailing", [("id", 1)]).unwrap();
    drop(wanted);
    assert_eq!(tries(&server, &clock, 10), [9], "somebody still wants it");
    // It fails for good and is not asked for again; but it is when somebody looks.
    status.store(404, Ordering::Relaxed);
    assert_eq!(tries(&server, &clock, 40), [9]);
    status.store(200, Ordering::Relaxed);
    remote.resume();
    assert_eq!(tries(&server, &clock, 5), [0]);
    drop(second);
    assert_eq!(tries(&server, &clock, 60), [0_u64; 0]);

    // A passing trouble does not end it, even if it outlasts the tries.
    let wanted = remote.want("sailing", [("id", 2)]).unwrap();
    status.store(503, Ordering::Relaxed);
    let came = tries(&server, &clock, 300).len();
    assert!((7..=14).contains(&came), "{came} tries in five minutes");
    status.store(200, Ordering::Relaxed);
    assert!(!tries(&server, &clock, 61).is_empty() && wanted.state().here.is_some());
    drop(wanted);

    server.answer_all();

    // Without a network nothing is asked for and no try is lost.
    let wanted = remote.want("sailing", [("id", 3)]).unwrap();
    remote.set_online(false);
    server.lose();
    assert_eq!((tries(&server, &clock, 100), wanted.state().under_way.unwrap().tries), (vec![], 1));
    remote.set_online(true);
    assert_eq!(tries(&server, &clock, 1), [0]);
    drop(wanted);

    let server = with(&status, ("cache-control", "max-age=600"));
    let remote = Remote::builder(&cache).name("every").base("https://ferries.example");
    let remote = remote.transport(server.clone()).clock(clock.clone()).build().unwrap();
    let _wanted = remote.want("every", ()).unwrap();
    assert_eq!(tries(&server, &clock, 125), [0, 60, 120]);
}

struct Woken(AtomicUsize);

impl Wake for Woken {
    fn wake(self: Arc<Self>) {
        self.0.fetch_add(1, Ordering::Relaxed);
    }
}

/// A transport learns when a request is no longer wanted; those who wait for its answer learn it
/// too, also when the remote is dropped.
#[test]
fn what_is_not_wanted_is_given_up() {
    let (cache, kept) = (cache(), KeptCalls::default());
    let remote = Remote::builder(&cache).base("https://ferries.example").at_a_time(2);
    let remote = remote.transport(kept.clone()).clock(clock()).build().unwrap();
    let rows = cache.query("SELECT rule, failure FROM backwater_answer WHERE is_under_way", ());
    let rows = || rows.as_ref().unwrap().read().unwrap().len();
    let (first, second) =
        (remote.ask("sailing", [("id", 1)]).unwrap(), remote.ask("sailing", [("id", 2)]).unwrap());
    let waits = remote.want("sailing", [("id", 3)]).unwrap();
    let asked = remote.want("sailing", [("id", 4)]).unwrap();
    remote.ask("sailing", [("id", 4)]).unwrap();
    assert_eq!(rows(), 4);
    drop((waits, asked));
    assert_eq!(rows(), 3, "one was wanted by nobody else and waited for its turn");

    let woken = Arc::new(Woken(AtomicUsize::new(0)));
    let waker: Waker = woken.clone().into();
    let mut context = Context::from_waker(&waker);
    let calls = std::mem::take(&mut *kept.0.lock().unwrap());
    let mut unwanted: Vec<_> = calls.iter().map(|call| Box::pin(call.unwanted())).collect();
    for future in &mut unwanted {
        assert!(future.as_mut().poll(&mut context).is_pending());
    }
    let mut settled = pin!(second.settled());
    assert!(settled.as_mut().poll(&mut context).is_pending());
    let id = ("remote", "sailing", r#"{"id":"1"}"#);
    cache.commit("forgotten", |tx| tx.delete("backwater_answer", id)).unwrap();
    assert_eq!(woken.0.load(Ordering::Relaxed), 1);
    assert!(unwanted[0].as_mut().poll(&mut context).is_ready() && first.state().here.is_none());
    drop(remote);
    assert_eq!(woken.0.load(Ordering::Relaxed), 3);
    assert!(unwanted[1].as_mut().poll(&mut context).is_ready());
    let Poll::Ready(state) = settled.as_mut().poll(&mut context) else { panic!("it waits") };
    assert_eq!(state.failed.unwrap().kind, FailureKind::Network);
    assert_eq!(rows(), 0, "nothing is under way without a remote");
    assert_eq!(second.more().unwrap_err().kind(), ErrorKind::Stopped);
}

/// What must not be stored is not: neither the answer nor the rows and list that it alone brought;
/// until another answer brings them.
#[test]
fn what_is_not_to_be_stored_is_not() {
    let (storage, clock) = (MemoryStorage::new(), clock());
    let open =
        || Cache::open_with(Schema::parse("s.toml", SCHEMA).unwrap(), storage.clone()).unwrap();
    let stored = |cache: &Cache| {
        cache.flush().unwrap();
        let again = open().snapshot();
        let count = |table| again.count(table).unwrap();
        (count("sailing"), count("departures"), count("backwater_answer"))
    };
    let control = Arc::new(Mutex::new("no-store"));
    let its = control.clone();
    let server = StandIn::new(move |request| {
        let one = r#"{"id": 1, "note": "a gull"}"#;
        let body = match request.uri().path() {
            "/departures" => format!(r#"{{"sailings": [{one}, {{"id": 2}}]}}"#),
            _ => one.to_owned(),
        };
        let response = http::Response::builder().header("cache-control", *its.lock().unwrap());
        response.body(body.into_bytes()).unwrap()
    });
    let cache = open();
    let remote = remote(&cache, &server, &clock);
    remote.ask("departures", [("port", "SAL")]).unwrap();
    assert_eq!(stored(&cache), (0, 0, 0), "what is asked for is not stored before it is here");
    server.answer_all();
    assert_eq!(stored(&cache), (0, 0, 0));
    assert_eq!(cache.snapshot().count("sailing").unwrap(), 2);

    // Another answer brings one of the rows, as it was.
    *control.lock().unwrap() = "max-age=5";
    remote.ask("sailing", [("id", 1)]).unwrap();
    server.answer_all();
    assert_eq!(stored(&cache), (1, 0, 1));
    // A change of the other one by the program does not let it be stored; a row of its own is.
    cache.commit("noted", |tx| tx.update("sailing", 2, [("note", "mine")])).unwrap();
    cache.commit("mine", |tx| tx.insert("sailing", [("id", 3)])).unwrap();
    assert_eq!(stored(&cache), (2, 0, 1));
    // What was stored before stays, whatever is said later; its answer does not.
    *control.lock().unwrap() = "no-store";
    remote.reload("sailing", [("id", 1)]).unwrap();
    server.answer_all();
    assert_eq!(stored(&cache), (2, 0, 0));
    cache.commit("deleted", |tx| tx.delete("sailing", 2)).unwrap();
    cache.commit("again", |tx| tx.insert("sailing", [("id", 2)])).unwrap();
    assert_eq!(stored(&cache), (3, 0, 0), "a deleted row leaves nothing behind");
    *control.lock().unwrap() = "max-age=5";
    remote.reload("departures", [("port", "SAL")]).unwrap();
    server.answer_all();
    assert_eq!(stored(&cache), (3, 2, 1));
}

/// That an answer has not changed brings no rows: what was not stored is not missing after a
/// restart.
#[test]
fn what_is_validated_is_stored_with_its_rows() {
    let (storage, clock) = (MemoryStorage::new(), clock());
    let open =
        || Cache::open_with(Schema::parse("s.toml", SCHEMA).unwrap(), storage.clone()).unwrap();
    let server = StandIn::new(|request| {
        let response = http::Response::builder().header("etag", "\"1\"");
        match request.headers().contains_key("if-none-match") {
            true => response.header("cache-control", "max-age=5").status(304).body(Vec::new()),
            false => response.header("cache-control", "no-store").body(br#"{"id": 1}"#.to_vec()),
        }
        .unwrap()
    });
    let cache = open();
    let remote = remote(&cache, &server, &clock);
    remote.ask("sailing", [("id", 1)]).unwrap();
    server.answer_all();
    let again = remote.reload("sailing", [("id", 1)]).unwrap();
    server.answer_all();
    assert!(again.state().is_fresh(&clock));
    cache.flush().unwrap();
    let (rows, answers) = (open().snapshot(), open().snapshot());
    assert_eq!(rows.count("sailing").unwrap(), answers.count("backwater_answer").unwrap());
}

/// A secret variable reaches the server and nothing else: no row, file, label, message or debug
/// output.
#[test]
fn a_secret_reaches_the_server_alone() {
    let dir = tempfile::tempdir().unwrap();
    let (path, clock) = (dir.path().join("cache.jsonl"), clock());
    let schema = Schema::parse("s.toml", SCHEMA).unwrap();
    let cache = Cache::open_with(schema.clone(), JsonLines::new(&path)).unwrap();
    let server = StandIn::new(|request| {
        assert!(request.uri().to_string().contains("hush-hush"));
        StandIn::json(r#"{"sailings": [{"id": 1}]}"#)
    });
    let remote = remote(&cache, &server, &clock);
    let token = (("port", "SAL"), ("token", "hush-hush"));
    let answer = remote.ask("departures", token).unwrap();
    let other = remote.ask("departures", (("port", "SAL"), ("token", "other"))).unwrap();
    assert!(server.answer());
    server.lose();
    let failed = remote.reload("departures", token).unwrap();
    let call = pin!(failed.settled());
    let echoing = StandIn::new(|request| {
        let body = format!(r#"{{"title": "no", "detail": "{}"}}"#, request.uri());
        let response = http::Response::builder().status(400);
        let response = response.header("content-type", "application/problem+json");
        response.body(body.into_bytes()).unwrap()
    });
    let echoed = Remote::builder(&cache).name("echo").base("https://ferries.example");
    let echoed = echoed.transport(echoing.clone()).clock(clock.clone()).build().unwrap();
    let refused = echoed.ask("departures", token).unwrap();
    echoing.answer();
    assert!(refused.state().failed.unwrap().message.contains("token=(secret)"));
    assert!(answer.state().here.is_some() && other.state().here.is_none());
    server.lose();
    cache.flush().unwrap();
    let mut said = format!("{answer:?} {remote:?} {call:?} {:?}", failed.state());
    for report in cache.commits() {
        said += report.label();
        report.changes().for_each(|change| said += &change.to_string());
    }
    let rows = cache.query("SELECT * FROM backwater_answer", ()).unwrap().read().unwrap();
    rows.rows().flat_map(|row| row.values().to_vec()).for_each(|value| said += &value.to_string());
    assert!(said.contains("GET /departures?port=SAL&token=secret"), "{said}");
    said += &std::fs::read_to_string(&path).unwrap();
    assert!(!said.contains("hush"), "{said}");
    // Its row can be deleted, which forgets the answer.
    cache.clear("signed out").unwrap();
    assert!(answer.state().here.is_none());
    drop((remote, echoed, cache));
    let again = Cache::open_with(schema, JsonLines::new(&path)).unwrap();
    assert_eq!(again.snapshot().count("backwater_answer").unwrap(), 0);

    let into_a_row = SCHEMA.replace("list = \"departures\"", "fields = { note = \":token\" }");
    let error = Schema::parse("s.toml", &into_a_row).unwrap_err().to_string();
    assert!(error.contains("\"token\" is secret, but is written to a row"), "{error}");
}

/// An answer is fresh only if its rows are there: those that are let go since they are too old take
/// it along, and it is asked for without a condition.
#[test]
fn what_is_let_go_is_asked_for_again() {
    let clock = clock();
    let schema =
        SCHEMA.replace("id = \"id\", fields", "id = \"id\", expires_after = \"1 day\", fields");
    let schema = Schema::parse("s.toml", &schema).unwrap();
    let cache = Cache::builder().schema(schema).clock(clock.clone()).build().unwrap();
    let server = StandIn::new(|request| {
        assert!(!request.headers().contains_key("if-none-match"));
        let response = http::Response::builder().header("etag", "\"1\"");
        let response = response.header("cache-control", "max-age=31536000");
        response.body(br#"{"id": 1}"#.to_vec()).unwrap()
    });
    let remote = remote(&cache, &server, &clock);
    let answer = remote.ask("sailing", [("id", 1)]).unwrap();
    server.answer_all();
    clock.advance(Duration::from_secs(2 * 86_400));
    assert!(answer.state().is_fresh(&clock));
    cache.trim("a new day").unwrap().unwrap();
    assert_eq!((answer.state().here, cache.snapshot().count("sailing").unwrap()), (None, 0));
    remote.ask("sailing", [("id", 1)]).unwrap();
    server.answer_all();
    assert_eq!(cache.snapshot().count("sailing").unwrap(), 1);
}

/// A load that is withdrawn is no answer any more.
#[test]
fn what_is_withdrawn_is_not_here() {
    let (cache, clock) = (cache(), clock());
    let server = with(&Arc::new(AtomicU16::new(200)), ("cache-control", "max-age=600"));
    let remote = remote(&cache, &server, &clock);
    let answer = remote.ask("sailing", [("id", 1)]).unwrap();
    server.answer_all();
    let loaded = cache.commits().into_iter().rev().find(|report| !report.ingested().is_empty());
    cache.withdraw("undone", &loaded.unwrap()).unwrap();
    assert_eq!((answer.state().here, cache.snapshot().count("sailing").unwrap()), (None, 0));
    assert_eq!(cache.snapshot().count("backwater_answer").unwrap(), 0);
    remote.ask("sailing", [("id", 1)]).unwrap();
    server.answer_all();
    assert_eq!(cache.snapshot().count("sailing").unwrap(), 1);
}

/// A transport that counts the alarms that were set and have not rung.
#[derive(Clone)]
struct Counting(StandIn, Arc<AtomicUsize>);

impl Transport for Counting {
    fn start(&self, request: http::Request<Vec<u8>>, call: Call) {
        self.0.start(request, call);
    }

    fn wake_after(&self, delay: Duration, alarm: Alarm) {
        self.1.fetch_add(1, Ordering::Relaxed);
        self.0.wake_after(delay, alarm);
    }
}

/// However many requests are made, alarms do not become more and more: those in whose place an
/// earlier one was set are not set again when they ring.
#[test]
fn alarms_stay_few() {
    let (cache, clock) = (cache(), clock());
    let server = with(&Arc::new(AtomicU16::new(200)), ("cache-control", "max-age=600"));
    let counting = Counting(server.clone(), Arc::default());
    let remote = Remote::builder(&cache).base("https://ferries.example").seed(1);
    let remote = remote.transport(counting.clone()).clock(clock.clone()).build().unwrap();
    let _wanted: Vec<_> = (0..5).map(|id| remote.want("sailing", [("id", id)]).unwrap()).collect();
    let mut set = Vec::new();
    for _ in 0..6 {
        let before = counting.1.load(Ordering::Relaxed);
        for _ in 0..20 {
            remote.reload("sailing", [("id", 99)]).unwrap();
            server.pass(&clock, Duration::from_secs(3));
            server.answer_all();
            server.pass(&clock, Duration::from_secs(47));
        }
        set.push(counting.1.load(Ordering::Relaxed) - before);
    }
    assert!(set[5] <= 2 * set[0], "in each 1000 s: {set:?}");
}

/// Variables may be a struct.
#[test]
fn variables_may_be_a_struct() {
    #[derive(Default, Table)]
    #[table(one_row)]
    struct Search {
        port: String,
        token: Option<String>,
    }
    let (cache, server) = (cache(), StandIn::new(|_| StandIn::json(r#"{"sailings": []}"#)));
    let remote = remote(&cache, &server, &clock());
    let search = Search { port: "SAL".to_owned(), token: None };
    let answer = remote.ask("departures", &search).unwrap();
    assert_eq!((answer.variable("port"), answer.variable("token")), (Some("SAL"), None));
    assert_eq!(server.requests(), ["GET https://ferries.example/departures?port=SAL"]);
}
