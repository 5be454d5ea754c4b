//! What a server hears of a change, and what becomes of it: by which request, in which order, how
//! often, and what is shown when the server says no.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::{Arc, Mutex};
use std::time::Duration;

use backwater::clock::SetClock;
use backwater::remote::{FailureKind, Remote, Resolution, SendState, StandIn, Unsent};
use backwater::storage::MemoryStorage;
use backwater::{Cache, RowId, Schema, Value};

const SCHEMA: &str = r#"
    [table.sailing]
    id = "id"
    version = "version"
    [table.sailing.fields]
    id = "int"
    status = "text"
    delay = { type = "int", from = "/times/delay" }
    vessel = { to = "vessel" }
    stops = { to_many = "port" }
    calls = { to_many = "port", record = "/at/port", fields = { due = { type = "timestamp", unit = "seconds", from = "/times/due" } } }
    version = "int"

    [table.vessel]
    id = "name"
    fields = { name = "text" }

    [table.port]
    id = "code"
    fields = { code = "text" }

    [table.booking]
    id = "id"
    fields = { id = "int", sailing = { to = "sailing", on_delete = "cascade" }, cars = "int" }

    [table.party]
    id = ["sailing", "number"]
    fields = { sailing = { to = "sailing" }, number = "int", cars = "int", parts = { to_many = "port" } }

    [response.sailing]
    url = "/sailings/{id}"
    table = "sailing"

    [response.booking]
    url = "/bookings/{id}"
    table = "booking"

    [table.count]
    one_row = true
    fields = { late = "int" }

    [response.late]
    url = "/late"
    table = "sailing"
    records = "/sailings"
    beside.count = { late = "/count" }
    max_age = "1 hour"

    [send.patch]
    table = "sailing"
    url = "/sailings/{id}"
    answer = "sailing"

    [send.merged]
    table = "sailing"
    url = "/sailings/{id}"
    answer = "sailing"
    merge = true

    [send.operations]
    table = "sailing"
    url = "/sailings/{id}"
    body = "patch"

    [send.put]
    table = "sailing"
    method = "PUT"
    url = "/sailings/{id}"

    [send.guarded]
    table = "sailing"
    url = "/sailings/{id}"
    answer = "sailing"
    if_match = "version"

    [send.ours]
    table = "sailing"
    url = "/sailings/{id}"
    answer = "sailing"
    if_match = "version"
    on_conflict = "ours"

    [send.ask]
    table = "sailing"
    url = "/sailings/{id}"
    answer = "sailing"
    if_match = "version"
    on_conflict = "ask"

    [send.announce]
    table = "sailing"
    method = "POST"
    url = "/sailings"
    answer = "sailing"

    [send.book]
    table = "booking"
    method = "POST"
    url = "/sailings/{sailing}/bookings"
    answer = "booking"

    [send.seat]
    table = "party"
    method = "PUT"
    url = "/sailings/{sailing}/parties/{number}"

    [send.remind]
    table = "sailing"
    method = "POST"
    url = "/reminders"
    body = { text = ":text", urgent = true }
"#;

type Heard = Arc<Mutex<Vec<http::Request<Vec<u8>>>>>;

struct World {
    cache: Cache,
    remote: Remote,
    server: StandIn,
    clock: SetClock,
    heard: Heard,
}

impl World {
    fn new(
        storage: MemoryStorage,
        answer: impl Fn(&http::Request<Vec<u8>>) -> http::Response<Vec<u8>> + Send + Sync + 'static,
    ) -> Self {
        let heard = Heard::default();
        let hears = heard.clone();
        let server = StandIn::new(move |request| {
            let mut copy = http::Request::new(request.body().clone());
            copy.method_mut().clone_from(request.method());
            copy.uri_mut().clone_from(request.uri());
            copy.headers_mut().clone_from(request.headers());
            hears.lock().unwrap().push(copy);
            answer(request)
        });
        let cache = Cache::open_with(Schema::parse("s.toml", SCHEMA).unwrap(), storage).unwrap();
        let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
        let remote = Remote::builder(&cache).base("https://ferries.example/api");
        let remote = remote.transport(server.clone()).clock(clock.clone()).build().unwrap();
        let world = Self { cache, remote, server, clock, heard };
        if world.cache.snapshot().count("sailing").unwrap() == 0 {
            let sailing = r#"{"id": 311, "status": "on time", "times": {"delay": 0}, "version": 4,
                "vessel": {"name": "Marram"}, "stops": [{"code": "SAL"}, {"code": "EEL"}]}"#;
            world.cache.commit("loaded", |tx| tx.ingest("sailing", sailing)).unwrap();
        }
        world
    }

    fn of(
        answer: impl Fn(&http::Request<Vec<u8>>) -> http::Response<Vec<u8>> + Send + Sync + 'static,
    ) -> Self {
        Self::new(MemoryStorage::new(), answer)
    }

    fn field(&self, name: &str) -> Value {
        let snapshot = self.cache.snapshot();
        let row = snapshot.get("sailing", 311).unwrap().unwrap();
        row.get(name).unwrap().unwrap_or(Value::Null)
    }

    fn heard(&self) -> Vec<String> {
        let heard = self.heard.lock().unwrap();
        let line = |request: &http::Request<Vec<u8>>| {
            let body = String::from_utf8_lossy(request.body());
            format!("{} {} {body}", request.method(), request.uri().path()).trim_end().to_owned()
        };
        heard.iter().map(line).collect()
    }

    fn header(&self, name: &str) -> Vec<String> {
        let heard = self.heard.lock().unwrap();
        let value = |request: &http::Request<Vec<u8>>| {
            request
                .headers()
                .get(name)
                .map_or(String::new(), |value| value.to_str().unwrap().into())
        };
        heard.iter().map(value).collect()
    }
}

/// Entries of a link with fields of its own are shown, kept over a restart, and sent as the server
/// has them; what a refusal takes back it takes back whole.
#[test]
fn entries_are_sent_as_the_server_writes_them() {
    let storage = MemoryStorage::new();
    let world = World::new(storage.clone(), |_| StandIn::status(500));
    let calls = |text: &str| format!(r#"{{"id": 311, "calls": [{text}]}}"#);
    let before = calls(r#"{"at": {"port": "SAL"}, "times": {"due": 60}}"#);
    world.cache.commit("loaded", |tx| tx.ingest("sailing", before)).unwrap();
    let due = |text: &str| [("due", Value::from(text.parse::<backwater::Timestamp>().unwrap()))];
    let entries = [("EEL", due("1970-01-01T00:02:00Z")), ("SAL", due("1970-01-01T00:03:00Z"))];
    world
        .remote
        .send("patch", "calls", |tx| tx.set_entries("sailing", 311, "calls", entries))
        .unwrap();
    let shown = |cache: &Cache| {
        let row = cache.snapshot().get("sailing", 311).unwrap().unwrap().nested(0);
        let row: serde_json::Value = serde_json::from_str(row.as_str()).unwrap();
        row["calls"].to_string().replace(".000000Z", "Z")
    };
    let sent = r#"[{"due":"1970-01-01T00:02:00Z","target":"EEL"},{"due":"1970-01-01T00:03:00Z","target":"SAL"}]"#;
    assert_eq!(shown(&world.cache), sent);
    world.cache.flush().unwrap();
    drop(world);
    let world = World::new(storage, |_| StandIn::status(422));
    assert_eq!(shown(&world.cache), sent);
    world.server.answer_all();
    assert_eq!(
        world.heard(),
        [
            r#"PATCH /api/sailings/311 {"calls":[{"at":{"port":"EEL"},"times":{"due":120}},{"at":{"port":"SAL"},"times":{"due":180}}]}"#
        ]
    );
    assert_eq!(shown(&world.cache), r#"[{"due":"1970-01-01T00:01:00Z","target":"SAL"}]"#);
}

#[test]
fn bodies_are_what_the_rule_says() {
    let world = World::of(|_| StandIn::status(204));
    let delayed = [("status", Value::from("delayed")), ("delay", 15.into())];
    for rule in ["patch", "operations", "put"] {
        world
            .remote
            .send(rule, rule, |tx| {
                tx.update("sailing", 311, delayed.clone())?;
                tx.set_links("sailing", 311, "stops", ["EEL"])
            })
            .unwrap();
        world.server.answer_all();
        // Back to what it was, below.
        world
            .cache
            .commit("again", |tx| {
                tx.update(
                    "sailing",
                    311,
                    [("status", Value::from("on time")), ("delay", 0.into())],
                )?;
                tx.set_links("sailing", 311, "stops", ["SAL", "EEL"])
            })
            .unwrap();
    }
    world.remote.send_with("remind", [("text", "fog")], "reminded", |_| Ok(())).unwrap();
    world.server.answer_all();
    assert_eq!(
        world.heard(),
        [
            r#"PATCH /api/sailings/311 {"status":"delayed","stops":["EEL"],"times":{"delay":15}}"#,
            r#"PATCH /api/sailings/311 [{"op":"replace","path":"/status","value":"delayed"},{"op":"replace","path":"/times/delay","value":15},{"op":"replace","path":"/stops","value":["EEL"]}]"#,
            r#"PUT /api/sailings/311 {"id":311,"status":"delayed","stops":["EEL"],"times":{"delay":15},"version":4,"vessel":"Marram"}"#,
            r#"POST /api/reminders {"text":"fog","urgent":true}"#,
        ]
    );
    assert_eq!(
        world.header("content-type"),
        [
            "application/merge-patch+json",
            "application/json-patch+json",
            "application/json",
            "application/json",
        ]
    );
    let wrong = world.remote.send("patch", "nothing", |tx| tx.insert("port", [("code", "NOR")]));
    assert!(wrong.unwrap_err().to_string().contains("changes no row of \"sailing\""));
    assert_eq!(world.cache.snapshot().count("port").unwrap(), 2, "nothing is left of it");
}

#[test]
fn tries_are_one_request_and_rows_keep_their_order() {
    let world = World::of(|_| StandIn::status(204));
    let send = |rule: &str, delay: i64| {
        world.remote.send(rule, "late", |tx| tx.update("sailing", 311, [("delay", delay)])).unwrap()
    };
    let (first, second) = (send("patch", 5), send("patch", 10));
    assert_eq!(world.server.waiting(), 1, "one after the other");
    world.server.lose();
    assert!(matches!(first.state(), SendState::Waiting { failed: Some(_) }));
    world.server.pass(&world.clock, Duration::from_secs(30));
    world.server.answer();
    assert_eq!(first.state(), SendState::Confirmed);
    assert_eq!(world.field("delay"), 10.into());
    world.server.answer_all();
    assert_eq!(second.state(), SendState::Confirmed);
    let keys = world.header("idempotency-key");
    assert_eq!(keys.len(), 2, "what is lost is not heard");
    assert_ne!(keys[0], keys[1]);

    // An insert goes before what points at its row, and takes it along when it is refused.
    let world = World::of(|_| StandIn::status(422));
    let mut id = RowId::from(0);
    let announced = world
        .remote
        .send("announce", "announced", |tx| {
            id = tx.insert_local("sailing", [("status", "on time")])?;
            Ok(())
        })
        .unwrap();
    let booked = world
        .remote
        .send("book", "booked", |tx| {
            let sailing = Value::from(id.clone());
            tx.insert_local("booking", [("sailing", sailing), ("cars", 2.into())]).map(drop)
        })
        .unwrap();
    assert_eq!(world.server.waiting(), 1);
    world.server.answer_all();
    assert_eq!(announced.state().failure().unwrap().status, Some(422));
    let failure = booked.state().failure().unwrap().clone();
    assert_eq!(failure.message, "depended on: announced");
    assert_eq!(world.cache.snapshot().count("booking").unwrap(), 0);
    let sql = "SELECT label, state, message FROM backwater_pending ORDER BY number";
    let rows = world.cache.query(sql, ()).unwrap().read().unwrap();
    assert_eq!(rows.len(), 2);
    assert!(booked.dismiss().unwrap() && !booked.dismiss().unwrap());
}

#[test]
fn a_conflict_is_decided() {
    // The server has version 5, and says so where it is asked or contradicted.
    let theirs = r#"{"id": 311, "status": "boarding", "times": {"delay": 2}, "version": 5}"#;
    let server = move |with_body: bool| {
        move |request: &http::Request<Vec<u8>>| {
            let tag = request.headers().get("if-match").map(|tag| tag.to_str().unwrap().to_owned());
            match (request.method().as_str(), tag.as_deref()) {
                ("GET", _) => StandIn::json(theirs),
                (_, Some("\"5\"")) => StandIn::json(
                    r#"{"id": 311, "status": "boarding", "times": {"delay": 15}, "version": 6}"#,
                ),
                _ => {
                    let body = if with_body { theirs } else { "" };
                    http::Response::builder().status(412).body(body.into()).unwrap()
                }
            }
        }
    };
    let send = |world: &World, rule: &str| {
        world.remote.send(rule, "late", |tx| tx.update("sailing", 311, [("delay", 15)])).unwrap()
    };
    let world = World::of(server(true));
    let sent = send(&world, "guarded");
    world.server.answer_all();
    assert_eq!(sent.state().failure().unwrap().status, Some(412));
    assert_eq!(world.field("delay"), 0.into());

    for with_body in [true, false] {
        let world = World::of(server(with_body));
        let sent = send(&world, "ours");
        for _ in 0..4 {
            world.server.answer_all();
            world.server.pass(&world.clock, Duration::from_secs(30));
        }
        assert_eq!(sent.state(), SendState::Confirmed, "{with_body}");
        assert_eq!((world.field("delay"), world.field("status")), (15.into(), "boarding".into()));
    }

    // One that says so whatever it is sent is not asked for ever.
    let world = World::of(|_| StandIn::status(409));
    let sent = send(&world, "ours");
    for _ in 0..20 {
        world.server.answer_all();
        world.server.pass(&world.clock, Duration::from_secs(90));
    }
    assert!(matches!(sent.state(), SendState::Refused(_)), "{:?}", sent.state());

    for (resolution, delay) in [(Resolution::Ours, 15), (Resolution::Theirs, 2)] {
        let storage = MemoryStorage::new();
        let world = World::new(storage.clone(), server(true));
        send(&world, "ask");
        world.server.answer();
        world.cache.flush().unwrap();
        drop(world);
        // It is in conflict after a restart, too.
        let world = World::new(storage, server(true));
        let sent = world.remote.sends().remove(0);
        assert_eq!(world.field("delay"), 15.into(), "it is shown until it is decided");
        let conflict = sent.conflict().unwrap();
        assert_eq!(conflict.ours.as_str(), r#"{"delay":15}"#);
        assert!(conflict.theirs.as_str().contains(r#""delay":2"#), "{conflict:?}");
        assert!(conflict.original.as_str().contains(r#""version":4"#), "{conflict:?}");
        sent.resolve(resolution).unwrap();
        world.server.answer_all();
        assert_eq!(world.field("delay"), delay.into());
        assert!(sent.resolve(resolution).is_err(), "once is enough");
    }
}

#[test]
fn edits_wait_for_credentials_and_for_users() {
    let is_out = Arc::new(std::sync::atomic::AtomicBool::new(true));
    let asked = is_out.clone();
    let world = World::of(move |_| {
        StandIn::status(if asked.load(std::sync::atomic::Ordering::Relaxed) { 401 } else { 204 })
    });
    let send = |delay: i64| {
        world
            .remote
            .send("patch", "late", |tx| tx.update("sailing", 311, [("delay", delay)]))
            .unwrap()
    };
    let late = send(15);
    world.server.answer_all();
    world.server.pass(&world.clock, Duration::from_secs(7200));
    assert_eq!(world.server.waiting(), 0, "it waits for the program");
    assert_eq!(late.state().failure().unwrap().kind, FailureKind::Status);
    is_out.store(false, std::sync::atomic::Ordering::Relaxed);
    world.remote.resume();
    world.server.answer_all();
    assert_eq!(late.state(), SendState::Confirmed);
    assert_eq!(world.header("idempotency-key")[0], world.header("idempotency-key")[1]);

    // Two users, one after the other, who do not see each other's rows.
    world.remote.set_online(false);
    let late = send(30);
    assert_eq!(world.remote.sign_out("out", Unsent::KeptFor("wren")).unwrap(), 1);
    assert_eq!(late.state(), SendState::Kept);
    assert_eq!(world.remote.sign_in("heron").unwrap(), 0);
    world.remote.set_online(true);
    assert_eq!(world.server.waiting(), 0);
    assert_eq!(world.remote.sign_out("out", Unsent::Dropped).unwrap(), 0);
    let sailing = r#"{"id": 311, "times": {"delay": 0}, "version": 7}"#;
    world.cache.commit("loaded", |tx| tx.ingest("sailing", sailing)).unwrap();
    assert_eq!(world.remote.sign_in("wren").unwrap(), 1);
    assert_eq!(world.field("delay"), 30.into(), "shown again");
    world.server.answer_all();
    assert_eq!(world.remote.unsent(), 0);
    send(45);
    assert_eq!(world.remote.sign_out("out", Unsent::Dropped).unwrap(), 1);
    world.server.answer_all();
    assert_eq!(world.cache.snapshot().count("sailing").unwrap(), 0, "nothing writes afterwards");
}

/// What a server counted before it knew of an edit is not called fresh, nor what it says of a field
/// that was edited meanwhile.
#[test]
fn an_answer_that_an_edit_has_overtaken_is_in_doubt() {
    let world = World::of(|request| match request.method().as_str() {
        "GET" => StandIn::json(r#"{ "count": 0, "sailings": [] }"#),
        _ => StandIn::status(204),
    });
    let late = world.remote.want("late", ()).unwrap();
    let edit = || {
        let sent =
            world.remote.send("patch", "late", |tx| tx.update("sailing", 311, [("delay", 15)]));
        sent.unwrap()
    };
    // The answer is under way as the edit is made, and arrives after its confirmation.
    let sent = edit();
    assert_eq!(world.server.waiting(), 2);
    world.server.answer_at(1);
    assert_eq!(sent.state(), SendState::Confirmed);
    world.server.answer();
    assert!(late.state().here.is_some() && !late.state().is_fresh(&world.clock));
    world.server.pass(&world.clock, Duration::from_secs(2));
    assert_eq!(world.server.waiting(), 1, "it is asked for again");
    world.server.answer();
    assert!(late.state().is_fresh(&world.clock));
    // One that is here when an edit is confirmed is asked for again as well.
    edit();
    world.server.answer();
    assert!(late.state().is_fresh(&world.clock), "nothing has changed by that");
    let sent = world.remote.send("patch", "late", |tx| tx.update("sailing", 311, [("delay", 20)]));
    world.server.answer();
    assert_eq!(sent.unwrap().state(), SendState::Confirmed);
    assert!(!late.state().is_fresh(&world.clock) && late.state().under_way.is_some());
}

/// Two servers for one cache: what is shown is one, what is sent is not.
#[test]
fn two_remotes_share_what_is_shown() {
    let storage = MemoryStorage::new();
    let open = |storage: &MemoryStorage| {
        let world = World::new(storage.clone(), |_| StandIn::status(204));
        let other = Remote::builder(&world.cache).name("other").base("https://other.example");
        let server = StandIn::new(|_| StandIn::status(500));
        let other = other.transport(server.clone()).clock(world.clock.clone()).build().unwrap();
        (world, other, server)
    };
    let (world, other, _) = open(&storage);
    world.remote.set_online(false);
    other.set_online(false);
    for (remote, field, value) in [(&world.remote, "delay", 15), (&other, "version", 9)] {
        remote.send("patch", field, |tx| tx.update("sailing", 311, [(field, value)])).unwrap();
    }
    assert_eq!((world.field("delay"), world.field("version")), (15.into(), 9.into()));
    world.cache.flush().unwrap();
    drop((world, other));

    let (world, other, server) = open(&storage);
    assert_eq!((world.remote.unsent(), other.unsent()), (1, 1));
    assert_eq!((world.field("delay"), world.field("version")), (15.into(), 9.into()));
    world.server.answer_all();
    server.answer_all();
    assert_eq!((world.field("delay"), world.field("version")), (15.into(), 4.into()));
}

/// A row that the server names takes along what has its id as a part of its own, below and above,
/// and what the program gave for later requests.
#[test]
fn ids_follow_the_name_that_a_server_gives() {
    let world = World::of(|request| match request.uri().path() {
        "/api/sailings" => StandIn::json(r#"{ "id": 500 }"#),
        _ => StandIn::status(204),
    });
    world.remote.set_online(false);
    let mut id = RowId::from(0);
    let announce = world.remote.send("announce", "announced", |tx| {
        id = tx.insert_local("sailing", [("status", "on time")])?;
        Ok(())
    });
    let party = |number: i64| {
        let sailing = ("sailing", Value::from(id.clone()));
        [sailing, ("number", number.into()), ("cars", 2.into())]
    };
    let seat = world.remote.send("seat", "seated", |tx| {
        tx.insert("party", party(1))?;
        let seat = RowId::Parts([id.clone(), RowId::from(1)].into());
        tx.set_links("party", seat, "parts", ["SAL"])
    });
    // A row of the program's own has such an id as well.
    world.cache.commit("noted", |tx| tx.insert("party", party(2))).unwrap();
    let text = [("text", id.to_string())];
    world.remote.send_with("remind", text, "reminded", |_| Ok(())).unwrap();
    let sql = "SELECT number, cars, parts FROM party JOIN sailing s ON s.id = party.sailing ORDER BY number";
    let joined = world.cache.query(sql, ()).unwrap();
    assert_eq!(joined.read().unwrap().len(), 2);
    world.remote.set_online(true);
    assert_eq!(world.server.waiting(), 2, "the reminder, and the sailing before what is on it");
    world.server.answer_at(0);
    world.server.answer_all();
    assert_eq!(announce.unwrap().row_id(), Some(RowId::from(500)));
    let named = RowId::Parts([RowId::from(500), RowId::from(1)].into());
    assert_eq!(seat.unwrap().row_id(), Some(named));
    assert_eq!(joined.read().unwrap().len(), 2);
    let snapshot = world.cache.snapshot();
    let parties = snapshot.rows("party").unwrap().map(|row| row.nested(0).as_str().to_owned());
    assert_eq!(
        parties.collect::<std::collections::BTreeSet<_>>().into_iter().collect::<Vec<_>>(),
        [
            r#"{"sailing":500,"number":1,"cars":2,"parts":["SAL"]}"#,
            r#"{"sailing":500,"number":2,"cars":2}"#,
        ]
    );
    let heard = world.heard();
    assert!(
        heard.iter().any(|line| line.starts_with("PUT /api/sailings/500/parties/1 ")),
        "{heard:?}"
    );
    assert_eq!(snapshot.count("backwater_base").unwrap(), 0);
}

/// A later request that was given the local id has the server's.
#[test]
fn values_that_were_given_follow_it_too() {
    let world = World::of(|request| match request.uri().path() {
        "/api/sailings" => StandIn::json(r#"{ "id": 500 }"#),
        _ => StandIn::status(204),
    });
    let mut id = RowId::from(0);
    world
        .remote
        .send("announce", "announced", |tx| {
            id = tx.insert_local("sailing", [("status", "on time")])?;
            Ok(())
        })
        .unwrap();
    // It is about the row, and so waits for it.
    world
        .remote
        .send_with("remind", [("text", id.to_string())], "reminded", |tx| {
            tx.update("sailing", &id, [("status", "delayed")])
        })
        .unwrap();
    world.server.answer_all();
    assert_eq!(world.heard()[1], r#"POST /api/reminders {"text":"500","urgent":true}"#);
}

/// A server that does not name a row has not taken what depends on it.
#[test]
fn what_a_server_does_not_name_cannot_be_changed() {
    let world = World::of(|_| StandIn::status(204));
    let mut id = RowId::from(0);
    let announced = world
        .remote
        .send("announce", "announced", |tx| {
            id = tx.insert_local("sailing", [("status", "on time")])?;
            Ok(())
        })
        .unwrap();
    let late =
        world.remote.send("patch", "late", |tx| tx.update("sailing", &id, [("delay", 5)])).unwrap();
    world.server.answer_all();
    assert_eq!(announced.state(), SendState::Confirmed);
    let message = &late.state().failure().unwrap().message.clone();
    assert!(message.contains("does not say which id"), "{message}");
    assert_eq!(world.heard().len(), 1);
    assert_eq!(world.cache.snapshot().count("sailing").unwrap(), 1);
}

/// Sent again, a row that the server is to name is still one.
#[test]
fn what_was_refused_is_sent_again_as_it_was() {
    let is_first = std::sync::atomic::AtomicBool::new(true);
    let world =
        World::of(move |_| match is_first.swap(false, std::sync::atomic::Ordering::Relaxed) {
            true => StandIn::status(422),
            false => StandIn::json(r#"{ "id": 500 }"#),
        });
    let announced = world
        .remote
        .send("announce", "announced", |tx| {
            tx.insert_local("sailing", [("status", "on time")]).map(drop)
        })
        .unwrap();
    world.server.answer_all();
    let again = announced.send_again().unwrap();
    assert!(announced.send_again().is_err(), "once");
    let pending = world.cache.snapshot().count("backwater_pending").unwrap();
    assert_eq!(pending, 1, "it takes the place of the refused one");
    world.server.answer_all();
    assert_eq!((again.state(), again.row_id()), (SendState::Confirmed, Some(RowId::from(500))));
    assert_eq!(world.heard()[1], r#"POST /api/sailings {"status":"on time"}"#);
}

/// A change of a row that was not loaded yet is a change of that row, and not a new one.
#[test]
fn a_row_that_is_not_loaded_yet_can_be_changed() {
    let storage = MemoryStorage::new();
    let world = World::new(storage.clone(), |_| StandIn::status(204));
    world.cache.flush().unwrap();
    drop(world);
    let heard = Heard::default();
    let hears = heard.clone();
    let server = StandIn::new(move |request| {
        hears.lock().unwrap().push(http::Request::new(request.body().clone()));
        StandIn::status(422)
    });
    let schema = Schema::parse("s.toml", SCHEMA).unwrap();
    let cache = Cache::builder().schema(schema).storage(storage).load_first([""; 0]);
    let cache = cache.load_rest_on_demand().build().unwrap();
    let remote = Remote::builder(&cache).base("https://ferries.example/api");
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
    let remote = remote.transport(server.clone()).clock(clock).build().unwrap();
    let late = |tx: &mut backwater::Transaction| tx.update("sailing", 311, [("delay", 15)]);
    remote.send("patch", "late", late).unwrap();
    server.answer_all();
    assert_eq!(heard.lock().unwrap()[0].body(), br#"{"times":{"delay":15}}"#);
    let row = cache.snapshot().get("sailing", 311).unwrap().unwrap().nested(0);
    assert!(row.as_str().contains(r#""delay":0"#), "{row:?}");
}

/// What is noted of a change may wait until somebody looks; whoever looks finds it: in a snapshot, a
/// later one and one from before, the commit's report, a transaction, a query, and the storage.
#[test]
fn whoever_looks_finds_what_is_noted() {
    let storage = MemoryStorage::new();
    let world = World::new(storage.clone(), |_| StandIn::status(500));
    world.remote.set_online(false);
    let send = |minutes: i64| {
        let late =
            |tx: &mut backwater::Transaction| tx.update("sailing", 311, [("delay", minutes)]);
        world.remote.send("patch", format!("{minutes} late"), late).unwrap();
        world.cache.commits().last().unwrap().clone()
    };
    let labels = |snapshot: &backwater::Snapshot| -> Vec<String> {
        let rows = snapshot.rows("backwater_pending").unwrap();
        let label = |row: backwater::Row<'_>| row.get("label").unwrap().unwrap().to_string();
        let mut labels: Vec<String> = rows.map(label).collect();
        labels.sort();
        labels
    };
    let first = send(5);
    let after_one = world.cache.snapshot();
    let second = send(10);
    let third = send(15);
    assert_eq!(labels(&after_one), ["5 late"]);
    assert_eq!(labels(&world.cache.snapshot()), ["10 late", "15 late", "5 late"]);
    for (report, label) in [(first, "5 late"), (third, "15 late"), (second, "10 late")] {
        let of_notes = report.changes().filter(|change| change.table() == "backwater_pending");
        let inserted: Vec<String> =
            of_notes.map(|change| change.kind()).map(|kind| format!("{kind:?}")).collect();
        assert_eq!((report.label(), inserted), (label, vec!["Inserted".to_owned()]));
    }
    // In a change that is made, the earlier ones are there.
    let seen = std::cell::Cell::new(0);
    let looks = |tx: &mut backwater::Transaction| {
        let known =
            (1..=4).filter(|number| tx.get("backwater_pending", *number).unwrap().is_some());
        seen.set(known.count());
        tx.update("sailing", 311, [("status", "late")])
    };
    world.remote.send("patch", "status", looks).unwrap();
    assert_eq!(seen.get(), 3);
    send(20);
    let waiting = world.cache.query("SELECT count(*) AS n FROM backwater_pending", ()).unwrap();
    let count = || waiting.read().unwrap().row(0).unwrap().values()[0].clone();
    assert_eq!(count(), Value::Int(5));
    send(25);
    assert_eq!(count(), Value::Int(6));
    drop(waiting);
    // Of more than wait together each report has its own.
    let before = world.cache.snapshot();
    let reports: Vec<backwater::Report> = (0..70).map(|minutes| send(100 + minutes)).collect();
    assert_eq!(labels(&before).len(), 6);
    for report in reports {
        let of_notes = report.changes().filter(|change| change.table() == "backwater_pending");
        let label = |change: backwater::report::Change<'_>| {
            let fields = change.fields();
            let label = fields.iter().find(|field| field.name == "label").unwrap();
            (format!("{:?}", change.kind()), label.after.clone().unwrap().to_string())
        };
        let told: Vec<_> = of_notes.map(label).collect();
        assert_eq!(told, [("Inserted".to_owned(), report.label().to_owned())]);
    }
    // Those that are written to the storage and those that came after them.
    world.cache.flush().unwrap();
    send(30);
    send(35);
    world.cache.flush().unwrap();
    world.cache.commit("another", |tx| tx.update("sailing", 311, [("status", "on time")])).unwrap();
    send(40);
    let all = labels(&world.cache.snapshot());
    assert_eq!(all.len(), 79);
    drop(world);
    let world = World::new(storage, |_| StandIn::status(204));
    assert_eq!(labels(&world.cache.snapshot()), all);
    assert_eq!((world.remote.unsent(), world.field("delay")), (79, Value::Int(40)));
    world.server.answer_all();
    assert_eq!((world.remote.unsent(), world.field("delay")), (0, Value::Int(40)));
    assert_eq!(world.cache.snapshot().count("backwater_base").unwrap(), 0);
}

/// A change that is merged into one that waits, and a derived value, meet what is not noted yet.
#[test]
fn what_is_noted_late_is_stored_and_followed() {
    #[derive(backwater::Table)]
    #[table(name = "backwater_pending")]
    struct Waiting {
        #[table(id)]
        number: i64,
    }

    let storage = MemoryStorage::new();
    let world = World::new(storage.clone(), |_| StandIn::status(500));
    world.cache.flush().unwrap();
    world.remote.set_online(false);
    let send = |rule: &str, field: &str, value: Value| {
        let write = |tx: &mut backwater::Transaction| tx.update("sailing", 311, [(field, value)]);
        world.remote.send(rule, field, write).unwrap();
    };
    send("patch", "delay", 5.into());
    send("merged", "status", "late".into());
    send("merged", "status", "later".into());
    world.cache.flush().unwrap();
    send("patch", "delay", 10.into());
    let numbers = world.cache.derived("numbers", |read| {
        Ok(read.table::<Waiting>()?.here().map(|row| row.number).collect::<Vec<_>>())
    });
    let sorted = || {
        let mut numbers = numbers.get().unwrap().to_vec();
        numbers.sort_unstable();
        numbers
    };
    assert_eq!(sorted(), [1, 2, 4]);
    send("patch", "delay", 15.into());
    assert_eq!(sorted(), [1, 2, 4, 5]);
    drop(numbers);
    world.cache.flush().unwrap();
    drop(world);
    let world = World::new(storage, |_| StandIn::status(204));
    assert_eq!(world.remote.unsent(), 4);
    assert_eq!((world.field("status"), world.field("delay")), ("later".into(), 15.into()));
    world.server.answer_all();
    assert_eq!((world.remote.unsent(), world.field("status")), (0, "later".into()));
}

/// In each snapshot as many changes are noted as rows are pending, whoever sends, looks, writes to
/// the storage or commits meanwhile.
#[test]
fn each_snapshot_has_its_notes() {
    const ROWS: i64 = 300;
    let storage = MemoryStorage::new();
    let world = World::new(storage.clone(), |_| StandIn::status(500));
    world.remote.set_online(false);
    let all = |tx: &mut backwater::Transaction| {
        (1..=ROWS).try_for_each(|id| tx.insert("sailing", [("id", 1000 + id), ("delay", 0)]))
    };
    world.cache.commit("loaded", all).unwrap();
    let (cache, remote) = (&world.cache, &world.remote);
    let counts = |cache: &Cache| {
        let snapshot = cache.snapshot();
        let pending = snapshot.rows("sailing").unwrap().filter(|row| row.is_pending()).count();
        let notes =
            ["backwater_pending", "backwater_base"].map(|name| snapshot.count(name).unwrap());
        (pending, notes)
    };
    std::thread::scope(|scope| {
        for part in 0..2 {
            scope.spawn(move || {
                for id in (1..=ROWS).filter(|id| id % 2 == part) {
                    let late = |tx: &mut backwater::Transaction| {
                        tx.update("sailing", 1000 + id, [("delay", id)])
                    };
                    remote.send("patch", "late", late).unwrap();
                }
            });
        }
        scope.spawn(move || {
            for n in 0..40 {
                cache.commit("another", |tx| tx.set("count", [("late", n)])).unwrap();
                cache.flush().unwrap();
                std::thread::yield_now();
            }
        });
        loop {
            let (pending, notes) = counts(cache);
            if remote.unsent() < ROWS as usize {
                assert_eq!(notes, [pending; 2]);
                continue;
            }
            break;
        }
    });
    assert_eq!(counts(cache), (ROWS as usize, [ROWS as usize; 2]));
    drop(world);
    let world = World::new(storage, |_| StandIn::status(204));
    assert_eq!(counts(&world.cache), (ROWS as usize, [ROWS as usize; 2]));
    world.server.answer_all();
    assert_eq!(counts(&world.cache), (0, [0, 0]));
}
