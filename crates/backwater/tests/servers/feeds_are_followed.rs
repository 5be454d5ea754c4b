//! What a server pushes becomes rows as it comes, goes on where it stopped, and asks anew for what
//! may have been missed.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::atomic::{AtomicU16, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use backwater::clock::SetClock;
use backwater::remote::{Connection, FailureKind, Listening, Remote, StandIn, Wanted};
use backwater::storage::MemoryStorage;
use backwater::{Cache, Schema, Value};

const SCHEMA: &str = r#"
    table.sailing = { id = "id", fields = { id = "int", status = "text", delay_min = "int", vessel = { to = "vessel" } } }
    table.vessel = { id = "id", fields = { id = "text", name = "text" } }
    table.booking = { id = "id", fields = { id = "int", sailing = { to = "sailing" }, party = "text" } }
    response.departures = { url = "/departures", table = "sailing", max_age = "1 day" }
    response.sailing = { url = "/sailings/{id}", table = "sailing", max_age = "1 day" }
    response.vessels = { url = "/vessels", table = "vessel", max_age = "1 day" }
    response.bookings = { url = "/sailings/{sailing}/bookings", table = "booking", fields = { sailing = ":sailing" } }
    send.report = { table = "sailing", url = "/sailings/{id}" }

    [feed.changes]
    url = "/feed"
    covers = ["departures"]
    [feed.changes.events]
    sailing = "sailing"
    booked = { rule = "bookings", variables = { sailing = "/of/sailing" } }
    moved = { patch = "sailing", changes = "/now" }
    withdrawn = { delete = "sailing" }
    reset = { gap = true }

    [feed.lines]
    url = "/lines{?since,port}"
    format = "ndjson"
    kind = "/kind"
    position = "/seq"
    resume = ":since"
    events.sailing = "sailing"
    per_second = 2
    silence = "10 s"

    [feed.socket]
    url = "/socket{?token}"
    format = "websocket"
    kind = "/kind"
    secret = ["token"]
    events.sailing = "sailing"
"#;

/// The URLs and `Last-Event-ID`s of requests.
type Asked = Arc<Mutex<Vec<(String, Option<String>)>>>;

struct World {
    cache: Cache,
    remote: Remote,
    server: StandIn,
    clock: SetClock,
    /// The requests for feeds.
    asked: Asked,
    status: Arc<AtomicU16>,
}

fn world(cache: Cache) -> World {
    let asked = Asked::default();
    let status = Arc::new(AtomicU16::new(200));
    let (seen, says) = (asked.clone(), status.clone());
    let server = StandIn::new(move |request| {
        let path = request.uri().path();
        let is_feed = ["/feed", "/lines", "/socket"].contains(&path);
        if !is_feed {
            return StandIn::json(if request.method() == "GET" {
                r#"[{ "id": 1, "status": "on time" }]"#
            } else {
                ""
            });
        }
        let last = request.headers().get("last-event-id");
        let last = last.map(|last| last.to_str().unwrap().to_owned());
        seen.lock().unwrap().push((request.uri().path_and_query().unwrap().to_string(), last));
        let mut response = http::Response::builder().status(says.load(Ordering::Relaxed));
        if path == "/feed" {
            response = response.header("content-type", "text/event-stream; charset=utf-8");
        }
        response.body(Vec::new()).unwrap()
    });
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
    let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone());
    let remote = remote.clock(clock.clone()).seed(7).build().unwrap();
    World { cache, remote, server, clock, asked, status }
}

fn new_world() -> World {
    world(Cache::new(Schema::parse("s.toml", SCHEMA).unwrap()))
}

impl World {
    fn rows(&self, sql: &str) -> Vec<Vec<Value>> {
        let query = self.cache.query(sql, ()).unwrap();
        let result = query.read().unwrap();
        result.rows().map(|row| row.values().to_vec()).collect()
    }

    fn text(&self, sql: &str) -> String {
        format!("{:?}", self.rows(sql))
    }

    fn pass(&self, seconds: u64) {
        self.server.pass(&self.clock, Duration::from_secs(seconds));
        self.server.answer_all();
    }
}

/// A cache that listens to the feed `changes` of a server.
fn listening(schema: &str, server: &StandIn) -> (Cache, Remote, Listening) {
    let cache = Cache::new(Schema::parse("s.toml", schema).unwrap());
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
    let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone());
    let remote = remote.clock(clock).build().unwrap();
    let listening = remote.listen("changes", ()).unwrap();
    server.answer_all();
    (cache, remote, listening)
}

fn event(id: u32, kind: &str, data: &str) -> String {
    format!("id: {id}\nevent: {kind}\ndata: {data}\n\n")
}

#[test]
fn each_kind_of_event_does_what_the_schema_says() {
    let world = new_world();
    let listening = world.remote.listen("changes", ()).unwrap();
    world.server.answer_all();
    assert_eq!(listening.state().connection, Connection::Connected);
    let push = |kind: &str, data: &str| world.server.push(&event(1, kind, data));
    push(
        "sailing",
        r#"{ "id": 1, "status": "on time", "vessel": { "id": "marram", "name": "Marram" } }"#,
    );
    assert_eq!(
        world.text("SELECT s.status, v.name FROM sailing s JOIN vessel v ON v.id = s.vessel"),
        r#"[[Text("on time"), Text("Marram")]]"#
    );
    push("booked", r#"{ "of": { "sailing": 1 }, "id": 7, "party": "Brill" }"#);
    assert_eq!(world.text("SELECT sailing, party FROM booking"), r#"[[Int(1), Text("Brill")]]"#);
    push("moved", r#"{ "id": 1, "now": { "delay_min": 12, "vessel": null } }"#);
    push(
        "moved",
        r#"{ "id": 1, "now": [{ "op": "replace", "path": "/status", "value": "delayed" }] }"#,
    );
    push("moved", r#"{ "id": 1, "now": null }"#);
    // A change does not make a row whole that is not here.
    push("moved", r#"{ "id": 2, "now": { "delay_min": 12 } }"#);
    assert_eq!(
        world.text("SELECT id, status, delay_min, vessel FROM sailing"),
        r#"[[Int(1), Text("delayed"), Int(12), Null]]"#
    );
    push("withdrawn", r#"{ "id": 1 }"#);
    push("weather", r#"{ "wind": "strong" }"#);
    assert_eq!(world.rows("SELECT id FROM sailing").len(), 0);
    assert_eq!(
        world.text("SELECT state, position, events, skipped, unreadable FROM backwater_feed"),
        r#"[[Text("connected"), Text("1"), Int(7), Int(1), Int(1)]]"#
    );
}

/// Events that come together are read together, and are each whole by themselves all the same.
#[test]
fn of_events_that_come_together_each_counts_by_itself() {
    let row = |id: u32| format!(r#"{{ "id": {id}, "status": "late" }}"#);
    for (bad, why) in [
        (vec![r#"{ "id": 7"#, "}"], "an object in two pieces"),
        (vec!["[", r#"{ "id": 7 }"#, "]"], "a list in pieces"),
        (vec![r#"{ "id": 7 } { "id": 8 }"#], "two values"),
        (vec![r#"{ "id": "seven" }"#], "another type"),
        (vec![" "], "nothing"),
    ] {
        let world = new_world();
        let _listening = world.remote.listen("changes", ()).unwrap();
        world.server.answer_all();
        let before = world.cache.snapshot().commit();
        let all = [row(1), row(2)].into_iter().chain(bad.iter().map(|bad| (*bad).to_owned()));
        let all: String = all.chain([row(3)]).map(|data| event(1, "sailing", &data)).collect();
        world.server.push(&all);
        let ids = world.text("SELECT id FROM sailing ORDER BY id");
        let whole = bad.iter().filter(|bad| **bad == r#"{ "id": 7 }"#).count();
        let seventh = if whole == 1 { ", [Int(7)]" } else { "" };
        assert_eq!(ids, format!("[[Int(1)], [Int(2)], [Int(3)]{seventh}]"), "{why}");
        let unreadable = bad.len() - whole;
        let counts = world.text("SELECT events, unreadable, failure FROM backwater_feed");
        let events = bad.len() + 3;
        assert_eq!(
            counts,
            format!(r#"[[Int({events}), Int({unreadable}), Text("unreadable")]]"#),
            "{why}"
        );
        let rows = world
            .cache
            .commits()
            .into_iter()
            .filter(|of| of.number() > before && of.label().contains("events"));
        assert_eq!(rows.count(), 1, "{why}");
    }
}

#[test]
fn a_feed_goes_on_where_it_stopped_also_after_a_restart() {
    let storage = MemoryStorage::new();
    let open =
        || Cache::open_with(Schema::parse("s.toml", SCHEMA).unwrap(), storage.clone()).unwrap();
    let first = world(open());
    let listening = first.remote.listen("changes", ()).unwrap();
    first.server.answer_all();
    first.server.push(&event(41, "sailing", r#"{ "id": 1, "status": "on time" }"#));
    assert_eq!(first.server.cut(), 1);
    assert_eq!(listening.state().connection, Connection::Waiting);
    assert_eq!(
        listening.state().failed.as_ref().map(|failed| failed.kind),
        Some(FailureKind::Network)
    );
    first.pass(2);
    assert_eq!((listening.state().connection, listening.state().lost), (Connection::Connected, 1));
    // The half of an event is none, and what is committed with it is where the feed goes on.
    first.server.push("id: 43\nevent: sailing\ndata: { \"id\": 2, \"sta");
    first
        .server
        .push(&format!("tus\": \"boarding\" }}\n\n{}", "id: 44\nevent: sailing\ndata: { \"id\":"));
    first.server.cut();
    assert_eq!(first.text("SELECT id FROM sailing WHERE status = 'boarding'"), "[[Int(2)]]");
    let asked = |world: &World| -> Vec<Option<String>> {
        world.asked.lock().unwrap().iter().map(|(_, last)| last.clone()).collect()
    };
    assert_eq!(asked(&first), [None, Some("41".to_owned())]);
    first.cache.flush().unwrap();
    drop(listening);
    drop(first);

    let second = world(open());
    let _listening = second.remote.listen("changes", ()).unwrap();
    second.server.answer_all();
    assert_eq!(asked(&second), [Some("43".to_owned())]);
    assert_eq!(
        second.text("SELECT lost, state FROM backwater_feed"),
        r#"[[Int(0), Text("connected")]]"#
    );
}

#[test]
fn what_may_have_been_missed_is_asked_for_anew() {
    let world = new_world();
    let departures = world.remote.want("departures", ()).unwrap();
    let _vessels = world.remote.want("vessels", ()).unwrap();
    world.server.answer_all();
    let asked = || {
        world.server.requests().iter().filter(|request| request.ends_with("/departures")).count()
    };
    assert_eq!(asked(), 1);
    let _listening = world.remote.listen("changes", ()).unwrap();
    // Nobody knows what happened before the first connection.
    world.server.answer_all();
    assert_eq!((asked(), departures.state().is_fresh(&world.clock)), (2, true));
    world.server.push(&event(5, "sailing", r#"{ "id": 1, "status": "delayed" }"#));
    world.server.cut();
    world.pass(2);
    assert_eq!(asked(), 2, "the feed went on where it was");
    world.server.push(&event(6, "reset", "{}"));
    world.server.answer_all();
    assert_eq!(asked(), 3);
    world.server.push(&event(7, "sailing", r#"{ "id": "#));
    world.server.answer_all();
    assert_eq!(asked(), 4, "an event that cannot be read is missed");
    assert_eq!(
        world.text("SELECT unreadable, position FROM backwater_feed"),
        r#"[[Int(1), Text("7")]]"#
    );
    // The server has forgotten the position.
    world.status.store(410, Ordering::Relaxed);
    world.server.cut();
    world.pass(2);
    world.status.store(200, Ordering::Relaxed);
    world.pass(5);
    assert_eq!(asked(), 5);
    assert_eq!(
        world.asked.lock().unwrap().iter().map(|(_, last)| last.as_deref()).collect::<Vec<_>>(),
        [None, Some("5"), Some("7"), None]
    );
    assert!(
        world.server.requests().iter().filter(|request| request.ends_with("/vessels")).count() == 1
    );
}

/// An answer that was asked for before a gap, and comes after it, may lack what was missed.
#[test]
fn an_answer_that_a_gap_overtakes_is_asked_for_again() {
    let world = new_world();
    let departures = world.remote.want("departures", ()).unwrap();
    let _listening = world.remote.listen("changes", ()).unwrap();
    assert_eq!(world.server.waiting(), 2);
    assert!(world.server.answer_at(1)); // the feed is connected first
    assert!(world.server.answer_at(0));
    assert!(!departures.state().is_fresh(&world.clock));
}

#[test]
fn bursts_are_few_commits_and_silence_is_a_loss() {
    let world = new_world();
    let listening = world.remote.listen("lines", [("port", "SAL")]).unwrap();
    world.server.answer_all();
    let commits = Arc::new(Mutex::new(Vec::new()));
    let seen = commits.clone();
    let _watch = world
        .cache
        .watch_commits(move |report| seen.lock().unwrap().push(report.label().to_owned()))
        .unwrap();
    for seq in 1..=50 {
        world.server.push(&format!(
            "{{ \"kind\": \"sailing\", \"seq\": {seq}, \"id\": {seq}, \"status\": \"late\" }}\n"
        ));
    }
    assert_eq!(world.rows("SELECT id FROM sailing").len(), 1, "half a second has not passed");
    world.pass(1);
    assert_eq!(world.rows("SELECT id FROM sailing").len(), 50);
    assert_eq!(
        *commits.lock().unwrap(),
        [r#"feed lines {"port":"SAL"}: 1 event"#, r#"feed lines {"port":"SAL"}: 49 events"#]
    );
    world.pass(8);
    assert_eq!(listening.state().connection, Connection::Connected);
    world.pass(1);
    let state = listening.state();
    assert_eq!(
        (state.connection, state.failed.unwrap().to_string().as_str()),
        (Connection::Waiting, "time-out: nothing was heard for 10s")
    );
    world.pass(2);
    let asked = world.asked.lock().unwrap().clone();
    assert_eq!(
        asked.iter().map(|(url, _)| url.as_str()).collect::<Vec<_>>(),
        ["/lines?port=SAL", "/lines?since=50&port=SAL"]
    );
    assert!(
        world.remote.listen("lines", [("since", "7")]).is_err(),
        "the position is not the program's"
    );
    // What waits for its commit when the connection is lost is committed before it goes on.
    world.server.push("{ \"kind\": \"sailing\", \"seq\": 51, \"id\": 51 }\n{ \"kind\": \"sailing\", \"seq\": 52, \"id\": 52 }\n");
    world.server.push("{ \"kind\": \"sailing\", \"seq\": 53, \"id\": 53 }\n");
    world.server.cut();
    assert_eq!(world.text("SELECT position FROM backwater_feed"), r#"[[Text("53")]]"#);
}

#[test]
fn messages_of_a_socket_are_events_and_its_token_is_nowhere() {
    let world = new_world();
    let listening = world.remote.listen("socket", [("token", "s3cr3t")]).unwrap();
    world.server.answer_all();
    assert_eq!(listening.state().connection, Connection::Connected);
    assert_eq!(world.server.requests(), ["GET wss://x.example/socket?token=s3cr3t"]);
    world.server.push(r#"{ "kind": "sailing", "id": 4, "status": "late" }"#);
    world.server.push("ping");
    world.server.push(r#"{ "kind": "pong" }"#);
    assert_eq!(
        world.text("SELECT events, skipped, unreadable FROM backwater_feed"),
        "[[Int(1), Int(1), Int(1)]]"
    );
    let shown = world.text("SELECT * FROM backwater_feed") + &format!("{listening:?}");
    assert!(!shown.contains("s3cr3t"), "{shown}");
}

#[test]
fn what_the_server_refuses_is_left_alone_until_the_program_says_so() {
    let world = new_world();
    for (status, says) in [
        (403, "status: 403, Forbidden"),
        (204, "status: 204, the server says that the feed is over"),
    ] {
        world.status.store(status, Ordering::Relaxed);
        let listening = world.remote.listen("changes", ()).unwrap();
        world.server.answer_all();
        world.pass(7200);
        let state = listening.state();
        assert_eq!(
            (state.connection, state.failed.unwrap().to_string().as_str()),
            (Connection::Closed, says)
        );
    }
    assert_eq!(world.server.requests().len(), 2);
    // A server that is down for a while is asked again, less and less often.
    world.status.store(503, Ordering::Relaxed);
    let listening = world.remote.listen("changes", ()).unwrap();
    world.server.answer_all();
    world.pass(3600);
    for _ in 0..60 {
        world.pass(60);
    }
    let tries = world.server.requests().len() - 2;
    assert!((55..140).contains(&tries), "{tries} tries in two hours");
    world.status.store(200, Ordering::Relaxed);
    world.remote.resume();
    world.server.answer_all();
    assert_eq!(listening.state().connection, Connection::Connected);
    // Without a network nothing is tried.
    world.remote.set_online(false);
    world.server.cut();
    world.pass(600);
    assert_eq!(listening.state().connection, Connection::Connecting);
    world.remote.set_online(true);
    world.server.answer_all();
    assert_eq!(listening.state().connection, Connection::Connected);
    drop(listening);
    assert_eq!(world.text("SELECT state FROM backwater_feed"), r#"[[Text("closed")]]"#);
    assert_eq!(world.server.push(&event(1, "sailing", r#"{ "id": 1 }"#)), 0);
}

#[test]
fn listeners_share_a_connection_and_an_emptied_cache_closes_it() {
    let world = new_world();
    let one = world.remote.listen("changes", ()).unwrap();
    let other = world.remote.listen("changes", ()).unwrap();
    world.server.answer_all();
    assert_eq!(world.server.requests().len(), 1);
    drop(one);
    assert_eq!(world.server.push(&event(9, "sailing", r#"{ "id": 1 }"#)), 1);
    world.cache.clear("signed out").unwrap();
    assert_eq!(other.state().connection, Connection::Closed);
    assert_eq!(world.server.push(&event(10, "sailing", r#"{ "id": 2 }"#)), 0);
    assert_eq!(
        world.rows("SELECT id FROM sailing").len(),
        0,
        "what comes for the one who left is not written"
    );
    world.pass(600);
    assert_eq!(world.server.requests().len(), 1);
    world.remote.resume();
    world.server.answer_all();
    assert_eq!(
        world.asked.lock().unwrap().last().unwrap().1,
        None,
        "the position of another user is forgotten"
    );
    assert_eq!(other.state().connection, Connection::Connected);
}

/// The server says back what the program has sent, in any order with its confirmation.
#[test]
fn an_echo_of_ones_own_edit_moves_nothing() {
    for confirmed_first in [true, false] {
        let world = new_world();
        let _listening = world.remote.listen("changes", ()).unwrap();
        world.server.answer_all();
        world.server.push(&event(1, "sailing", r#"{ "id": 1, "status": "on time" }"#));
        let shown = world.cache.query("SELECT id, status FROM sailing", ()).unwrap();
        let deltas = Arc::new(Mutex::new(0));
        let seen = deltas.clone();
        let _watch = world.cache.watch(&shown, move |_| *seen.lock().unwrap() += 1).unwrap();
        let before = *deltas.lock().unwrap();
        let sent = world
            .remote
            .send("report", "it boards", |tx| tx.update("sailing", 1, [("status", "boarding")]))
            .unwrap();
        let echo = event(2, "sailing", r#"{ "id": 1, "status": "boarding" }"#);
        match confirmed_first {
            true => {
                world.server.answer_all();
                world.server.push(&echo);
            }
            false => {
                world.server.push(&echo);
                world.server.answer_all();
            }
        }
        assert!(sent.state().is_settled());
        assert_eq!(*deltas.lock().unwrap() - before, 1, "confirmed first: {confirmed_first}");
    }
}

/// What happened to a row is told in its order by versions, whatever comes by which way.
#[test]
fn an_older_event_does_not_bring_a_deleted_row_back() {
    let schema = r#"
        table.note = { id = "id", version = "version", tombstone = "/gone", fields = { id = "int", text = "text", version = "int" } }
        response.notes = { url = "/notes", table = "note", complete = true }
        response.note = { url = "/notes/{id}", table = "note" }
        feed.changes = { url = "/feed", events = { note = "note", removed = { delete = "note", version = "/version" } } }
    "#;
    let world = world(Cache::new(Schema::parse("s.toml", schema).unwrap()));
    let _listening = world.remote.listen("changes", ()).unwrap();
    world.server.answer_all();
    let push = |kind: &str, data: &str| world.server.push(&event(1, kind, data));
    let notes = || world.text("SELECT id, text, version FROM note");
    push("note", r#"{ "id": 1, "text": "fog", "version": 3 }"#);
    push("removed", r#"{ "id": 1, "version": 2 }"#);
    push("note", r#"{ "id": 1, "gone": true, "version": 2 }"#);
    assert_eq!(notes(), r#"[[Int(1), Text("fog"), Int(3)]]"#, "a deletion of an older version");
    push("removed", r#"{ "id": 1, "version": 4 }"#);
    push("note", r#"{ "id": 1, "text": "mist", "version": 3 }"#);
    assert_eq!(notes(), "[]", "an event that is older than the deletion");
    push("note", r#"{ "id": 1, "text": "rain", "version": 5 }"#);
    assert_eq!(notes(), r#"[[Int(1), Text("rain"), Int(5)]]"#);
    push("note", r#"{ "id": 1, "gone": true, "version": 6 }"#);
    push("note", r#"{ "id": 1, "text": "mist", "version": 5 }"#);
    assert_eq!(notes(), "[]");
    // What the program itself reads is what the server says now.
    world
        .cache
        .commit("loaded", |tx| tx.ingest("notes", r#"[{ "id": 1, "text": "rain", "version": 5 }]"#))
        .unwrap();
    assert_eq!(notes(), r#"[[Int(1), Text("rain"), Int(5)]]"#);
}

/// A feed deletes a row of which the cache has not heard, and that an answer on its way may have.
fn a_row_goes_while_it_is_asked_for() -> (World, Listening, Wanted) {
    let world = new_world();
    let listening = world.remote.listen("changes", ()).unwrap();
    world.server.answer_all();
    let departures = world.remote.want("departures", ()).unwrap();
    world.server.push(&event(1, "withdrawn", r#"{ "id": 1 }"#));
    (world, listening, departures)
}

#[test]
fn an_older_answer_does_not_bring_what_a_feed_has_deleted() {
    let (world, _listening, departures) = a_row_goes_while_it_is_asked_for();
    world.server.answer();
    assert_eq!(world.rows("SELECT id FROM sailing").len(), 0);
    assert!(!departures.state().is_fresh(&world.clock), "it is asked for again");
}

/// So much has happened since the answer was asked for that nobody knows any more what: it is asked
/// for again.
#[test]
fn an_answer_from_before_all_that_is_remembered_is_in_doubt() {
    let (world, _listening, departures) = a_row_goes_while_it_is_asked_for();
    for delay in 0..1100 {
        world.server.push(&event(2, "sailing", &format!(r#"{{ "id": 2, "delay_min": {delay} }}"#)));
    }
    world.server.answer();
    assert!(!departures.state().is_fresh(&world.clock));
    // Deletions of rows that are not here are not remembered for ever.
    let many = |from: i64| -> String {
        (from..from + 50_000)
            .map(|id| event(3, "withdrawn", &format!(r#"{{"id":{id}}}"#)))
            .collect()
    };
    let vessels = world.remote.want("vessels", ()).unwrap();
    world.server.push(&many(1_000));
    world.server.push(&many(100_000));
    while world.server.answer() {}
    assert!(!vessels.state().is_fresh(&world.clock));
}

/// The server has taken the change, and somebody has deleted the row since: the feed has said so
/// before the confirmation came.
#[test]
fn a_confirmation_does_not_bring_a_row_back_that_was_deleted_since() {
    let schema = r#"
        table.note = { id = "id", fields = { id = "int", text = "text" } }
        response.note = { url = "/notes/{id}", table = "note" }
        feed.changes = { url = "/feed", events = { note = "note", removed = { delete = "note" } } }
        send.write = { table = "note", url = "/notes/{id}", answer = "note", makes_stale = [] }
        send.add = { table = "note", method = "PUT", url = "/notes/{id}", answer = "note", makes_stale = [] }
        send.post = { table = "note", method = "POST", url = "/notes", answer = "note", makes_stale = [] }
    "#;
    for way in ["write", "add", "post"] {
        let server = StandIn::new(|request| match request.method().as_str() {
            "GET" => StandIn::events(),
            _ => StandIn::json(r#"{ "id": 1, "text": "fog" }"#),
        });
        let (cache, remote, _listening) = listening(schema, &server);
        if way == "write" {
            server.push(&event(1, "note", r#"{ "id": 1, "text": "rain" }"#));
        }
        let text = [("text", Value::from("fog"))];
        let sent = remote.send(way, "noted", |tx| match way {
            "write" => tx.update("note", 1, text),
            "add" => {
                tx.insert("note", text.into_iter().chain([("id", 1.into())]).collect::<Vec<_>>())
            }
            _ => tx.insert_local("note", text).map(drop),
        });
        assert_eq!(cache.snapshot().count("note").unwrap(), 1);
        server.push(&event(2, "note", r#"{ "id": 1, "text": "fog" }"#));
        server.push(&event(3, "removed", r#"{ "id": 1 }"#));
        server.answer_all();
        assert!(sent.unwrap().state().is_settled());
        assert_eq!(cache.snapshot().count("note").unwrap(), 0, "{way}");
    }
}

/// Others have changed a field while the request was under way, and the confirmation has no version:
/// only the server knows which came last.
#[test]
fn what_a_confirmation_contradicts_is_asked_for_again() {
    let schema = r#"
        table.note = { id = "id", fields = { id = "int", text = "text", pinned = "bool" } }
        response.note = { url = "/notes/{id}", table = "note" }
        response.board = { url = "/board", table = "note", max_age = "1 day" }
        feed.changes = { url = "/feed", events = { note = "note" } }
        send.write = { table = "note", url = "/notes/{id}", answer = "note", makes_stale = [] }
        send.post = { table = "note", method = "POST", url = "/notes", answer = "note", makes_stale = [] }
    "#;
    let fog = r#"{ "id": 1, "text": "fog" }"#;
    for (way, later, is_asked, together) in [
        ("write", r#"{ "id": 1, "text": "storm" }"#, true, false),
        // What was there all the time is told again, and nobody knows of when.
        ("write", r#"{ "id": 1, "text": "storm" }"#, true, true),
        ("post", r#"{ "id": 1, "text": "storm" }"#, true, false),
        ("write", r#"{ "id": 1, "pinned": true }"#, false, false),
        ("post", fog, false, false),
    ] {
        let asked = Arc::new(Mutex::new(0));
        let counted = asked.clone();
        let server = StandIn::new(move |request| match request.method().as_str() {
            "GET" if request.uri().path() == "/feed" => StandIn::events(),
            "GET" => {
                *counted.lock().unwrap() += 1;
                StandIn::json(r#"[{ "id": 1, "text": "storm" }]"#)
            }
            _ => StandIn::json(fog),
        });
        let (cache, remote, _listening) = listening(schema, &server);
        let _wanted = remote.want("board", ()).unwrap();
        server.answer_all();
        let asked_before = *asked.lock().unwrap();
        let text = [("text", Value::from("fog"))];
        let sent = remote.send(way, "noted", |tx| match way {
            "write" => tx.update("note", 1, text),
            _ => tx.insert_local("note", text).map(drop),
        });
        let events = [event(1, "note", fog), event(2, "note", later)];
        let pieces = if together { vec![events.concat()] } else { events.to_vec() };
        for piece in pieces {
            server.push(&piece);
        }
        server.answer_all();
        assert!(sent.unwrap().state().is_settled());
        assert_eq!(*asked.lock().unwrap() > asked_before, is_asked, "{way} {later}");
        let snapshot = cache.snapshot();
        let note = snapshot.get("note", 1).unwrap().unwrap();
        let text = if is_asked { "storm" } else { "fog" };
        assert_eq!(note.get("text").unwrap(), Some(text.into()), "{way} {later}");
    }
}

/// A server tells of a new row before it has answered: with a reference that both know, the row is
/// one all the while, and its change is confirmed over it.
#[test]
fn a_row_that_a_feed_brings_before_its_confirmation_is_one() {
    let schema = r#"
        table.booking = { id = "id", fields = { id = "int", party = "text", cars = "int", reference = "text" } }
        table.seat = { id = "id", fields = { id = "int", booking = { to = "booking" } } }
        response.booking = { url = "/bookings/{id}", table = "booking" }
        feed.changes = { url = "/feed", events = { booking = "booking" } }
        send.book = { table = "booking", method = "POST", url = "/bookings", answer = "booking", reference = "reference" }
        send.seat = { table = "seat", method = "POST", url = "/bookings/{booking}/seats" }
        send.cars = { table = "booking", url = "/bookings/{id}" }
    "#;
    for refused in [false, true] {
        let booked = Arc::new(Mutex::new(String::new()));
        let sent = booked.clone();
        let server = StandIn::new(move |request| {
            let body = String::from_utf8(request.body().clone()).unwrap();
            match (request.method().as_str(), request.uri().path()) {
                ("POST", "/bookings") => {
                    *sent.lock().unwrap() = body;
                    match refused {
                        true => StandIn::status(422),
                        false => StandIn::json(r#"{ "id": 70 }"#),
                    }
                }
                ("GET", "/feed") => StandIn::events(),
                _ => StandIn::status(204),
            }
        });
        let (cache, remote, _listening) = listening(schema, &server);
        let shown = cache.query("SELECT id, party, cars FROM booking", ()).unwrap();
        let rows = || -> Vec<Vec<Value>> {
            shown.read().unwrap().rows().map(|row| row.values().to_vec()).collect()
        };
        let row = [("party", Value::from("Brill")), ("cars", 2.into())];
        let booking =
            remote.send("book", "booked", |tx| tx.insert_local("booking", row).map(drop)).unwrap();
        let local = booking.row_id().unwrap();
        let seat = remote
            .send("seat", "seated", |tx| {
                tx.insert(
                    "seat",
                    [
                        ("id", Value::from(1)),
                        ("booking", local.to_string().parse::<i64>().unwrap().into()),
                    ],
                )
            })
            .unwrap();
        let reference = cache.query("SELECT reference FROM booking", ()).unwrap();
        let reference = reference.read().unwrap().row(0).unwrap().values()[0].to_string();
        server.push(&event(
            1,
            "booking",
            &format!(r#"{{ "id": 70, "party": "Brill", "cars": 1, "reference": "{reference}" }}"#),
        ));
        assert_eq!(
            rows(),
            [vec![70.into(), "Brill".into(), 2.into()]],
            "one row, and the edit is shown over it"
        );
        assert_eq!(booking.row_id(), Some(70.into()));
        let seats = cache.query("SELECT booking FROM seat", ()).unwrap();
        assert_eq!(seats.read().unwrap().row(0).unwrap().values(), [70.into()]);
        server.answer_all();
        assert!(booked.lock().unwrap().contains(&reference));
        match refused {
            false => {
                assert_eq!(rows(), [vec![70.into(), "Brill".into(), 2.into()]]);
                assert!(
                    server
                        .requests()
                        .contains(&"POST https://x.example/bookings/70/seats".to_owned())
                );
                assert_eq!((remote.unsent(), seat.state().is_settled()), (0, true));
            }
            // The server has it all the same: what it says is what is shown.
            true => assert_eq!(rows(), [vec![70.into(), "Brill".into(), 1.into()]]),
        }
    }
}

#[test]
fn a_schema_says_what_is_wrong_with_a_feed() {
    let problems = |feed: &str| {
        let text = format!(
            "table.t = {{ id = ['a', 'b'], fields = {{ a = 'int', b = 'int' }} }}\nresponse.one = {{ url = '/t/{{a}}', table = 't' }}\n{feed}"
        );
        Schema::parse("s.toml", &text).unwrap_err().to_string()
    };
    for (feed, says) in [
        ("feed.f = { events = { t = 'one' } }", "feed \"f\" has no URL"),
        ("feed.f = { url = '/f' }", "does not say what its events mean"),
        ("feed.f = { url = '/f', events = { t = 'two' } }", "there is no response rule \"two\""),
        (
            "feed.f = { url = '/f', events = { t = { rule = 'one', delete = 't' } } }",
            "expected the name of a response rule, or a table",
        ),
        (
            "feed.f = { url = '/f', events = { t = { delete = 't' } } }",
            "the id of \"t\" is not one plain field",
        ),
        (
            "feed.f = { url = '/f', events = { t = { rule = 'one', variables = { c = '/c' } } } }",
            "the rule has no variable \"c\"",
        ),
        (
            "feed.f = { url = '/f', format = 'ndjson', events = { t = 'one' } }",
            "which member tells events apart",
        ),
        (
            "feed.f = { url = '/f{?since}', resume = ':sinse', events = { t = 'one' } }",
            "the URL has no variable \"sinse\"",
        ),
        (
            "feed.f = { url = '/f', secret = ['token'], events = { t = 'one' } }",
            "the URL has no variable \"token\"",
        ),
        (
            "feed.f = { url = '/f', covers = ['all'], events = { t = 'one' } }",
            "there is no response rule \"all\"",
        ),
    ] {
        let found = problems(feed);
        assert!(found.contains(says), "{feed}: {found}");
    }
    let world = new_world();
    let refused = |feed: &str, variables: &[(&str, &str)]| {
        world.remote.listen(feed, variables.to_vec()).unwrap_err().to_string()
    };
    assert!(
        refused("change", &[]).contains("did you mean \"changes\""),
        "{}",
        refused("change", &[])
    );
    assert!(
        refused("changes", &[("port", "SAL")])
            .contains("feed \"changes\" has no variable \"port\"")
    );
}

/// Many events that come in one piece do what each by itself does, wherever their ids stand.
#[test]
fn ids_are_found_wherever_they_stand() {
    let data = |number: u32| {
        let (id, other) = (number * 7 % 40, number * 3 % 40);
        match number % 6 {
            0 => format!(r#"{{"id":{id},"status":"{number}"}}"#),
            1 => format!(r#"{{"status":"{number}","id":{id}}}"#),
            2 => format!(r#"{{"about":{{"id":{other}}},"id":{id},"status":"{number}"}}"#),
            3 => format!(r#"{{ "id" : {id} , "status" : "{number}" }}"#),
            4 => format!(r#"{{"id":{other},"id":{id},"status":"{number}"}}"#),
            _ => format!(r#"{{"status":"\"id\":{other}","id":{id}}}"#),
        }
    };
    let events: Vec<String> =
        (0..100).map(|number| event(number, "sailing", &data(number))).collect();
    let rows = |pieces: &[String]| {
        let world = new_world();
        let _listening = world.remote.listen("changes", ()).unwrap();
        world.server.answer_all();
        pieces.iter().for_each(|piece| assert!(world.server.push(piece) > 0));
        world.text("SELECT id, status FROM sailing ORDER BY id")
    };
    assert_eq!(rows(&[events.concat()]), rows(&events));
}
