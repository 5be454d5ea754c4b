//! Clients edit rows of a server over a network that delays, reorders, loses and repeats, with
//! kills, and others who write there too. An edit is shown in the commit that makes it; one that is
//! confirmed is not unseen again; none is applied twice, or refused and applied; and once the
//! faults end, every client shows what the server has.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use backwater::clock::SetClock;
use backwater::remote::{FailureKind, Listening, Remote, SendState, Sent, Wanted};
use backwater::{Cache, DeltaKind, RowId, Schema, Value};
use proptest::prelude::*;

use crate::killed_disk::Disk;

use crate::network::Flight;

/// What the server answers.
type Answered = (u16, String, i64);
type Network = crate::network::Network<Answered>;

const SCHEMA: &str = r#"
    [table.sailing]
    id = "id"
    VERSION
    fields = { id = "int", note = "int", status = "text", version = "int" }

    [table.board]
    one_row = true
    fields = { shown = { to = "sailing" } }

    [response.by_status]
    url = "/sailings{?status}"
    table = "sailing"
    complete = { status = ":status" }
    FRESH

    [response.sailing]
    url = "/sailings/{id}"
    table = "sailing"

    [send.change]
    table = "sailing"
    method = "PATCH"
    url = "/sailings/{id}"
    answer = "sailing"
    MERGE
    ALONE

    [send.announce]
    table = "sailing"
    method = "POST"
    url = "/sailings"
    answer = "sailing"
    ALONE

    [send.cancel]
    table = "sailing"
    method = "DELETE"
    url = "/sailings/{id}"
    ALONE

    [feed.changes]
    url = "/feed"
    RATE
    [feed.changes.events]
    written = "sailing"
    deleted = { delete = "sailing", version = "/version" }
    reset = { gap = true }
"#;
const STATUSES: [&str; 2] = ["boarding", "sailed"];

/// A row as a client shows it.
#[derive(Debug, Clone, PartialEq)]
struct Sailing {
    id: i64,
    note: Option<i64>,
    status: Option<String>,
    version: Option<i64>,
}

/// A row as the server has it: note, status.
type Row = (i64, String);

#[derive(Default)]
struct Server {
    rows: BTreeMap<i64, Row>,
    /// How many writes there were: the order of the server.
    writes: i64,
    versions: BTreeMap<i64, i64>,
    history: BTreeMap<i64, Vec<(i64, Option<Row>)>>,
    /// What it answered to a key.
    answers: BTreeMap<String, (u16, String, i64)>,
    applied: Vec<String>,
    refused: BTreeSet<String>,
    with_versions: bool,
    with_body: bool,
    /// Whether it gives new rows their ids.
    names: bool,
    fails: Option<u16>,
    /// The events before this write are no longer known.
    forgotten: i64,
}

/// Whether clients listen to what the server pushes.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Feed {
    None,
    AsItComes,
    /// Few commits a second.
    Slowly,
}

impl Server {
    fn wrote(&mut self, id: i64) {
        self.writes += 1;
        self.versions.insert(id, self.writes);
        let row = self.rows.get(&id).cloned();
        self.history.entry(id).or_default().push((self.writes, row));
    }

    fn json(&self, id: i64) -> String {
        let (note, status) = &self.rows[&id];
        let version = match self.with_versions {
            true => format!(r#","version":{}"#, self.versions[&id]),
            false => String::new(),
        };
        format!(r#"{{"id":{id},"note":{note},"status":"{status}"{version}}}"#)
    }

    /// The events behind a write, as the feed has them; all that is known of `many`.
    fn events(&self, told: i64, many: usize) -> Vec<(i64, String)> {
        let mut events: Vec<(i64, String)> = Vec::new();
        for (id, history) in &self.history {
            for (number, row) in history.iter().filter(|(number, _)| *number > told) {
                let version = match self.with_versions {
                    true => format!(r#","version":{number}"#),
                    false => String::new(),
                };
                let (kind, data) = match row {
                    Some((note, status)) => {
                        ("written", format!(r#""note":{note},"status":"{status}""#))
                    }
                    None => ("deleted", r#""of":"the day""#.to_owned()),
                };
                let data = format!(r#"{{"id":{id},{data}{version}}}"#);
                events.push((*number, format!("id: {number}\nevent: {kind}\ndata: {data}\n\n")));
            }
        }
        events.sort();
        events.truncate(many);
        events
    }

    /// The status, the body, and the number of the write.
    fn serve(&mut self, request: &http::Request<Vec<u8>>) -> (u16, String, i64) {
        if let Some(status) = self.fails {
            return (status, String::new(), self.writes);
        }
        let path = request.uri().path();
        let id = path.strip_prefix("/sailings/").map(|id| id.parse::<i64>().unwrap());
        if request.method() == "GET" {
            return match (id, request.uri().query()) {
                (Some(id), _) if self.rows.contains_key(&id) => (200, self.json(id), self.writes),
                (Some(_), _) => (404, String::new(), self.writes),
                (None, query) => {
                    let status = query.unwrap().strip_prefix("status=").unwrap();
                    let of = self.rows.iter().filter(|(_, (_, known))| known == status);
                    let rows: Vec<String> = of.map(|(id, _)| self.json(*id)).collect();
                    (200, format!("[{}]", rows.join(",")), self.writes)
                }
            };
        }
        let key = request.headers()["idempotency-key"].to_str().unwrap().to_owned();
        if let Some(answer) = self.answers.get(&key) {
            return answer.clone();
        }
        let answer = self.write(request, id);
        match answer.0 {
            200..300 => self.applied.push(key.clone()),
            _ => drop(self.refused.insert(key.clone())),
        }
        self.answers.insert(key, answer.clone());
        answer
    }

    fn write(&mut self, request: &http::Request<Vec<u8>>, id: Option<i64>) -> (u16, String, i64) {
        let body: serde_json::Value = serde_json::from_slice(request.body()).unwrap_or_default();
        let next = 1000 + self.writes;
        let id = id.unwrap_or_else(|| body["id"].as_i64().unwrap_or(next));
        if request.method() != "POST" && !self.rows.contains_key(&id) {
            return (404, String::new(), self.writes);
        }
        if body["note"].as_i64().is_some_and(|note| note % 7 == 3) {
            return (422, String::new(), self.writes);
        }
        if request.method() == "DELETE" {
            self.rows.remove(&id);
            self.wrote(id);
            return (204, String::new(), self.writes);
        }
        let row = self.rows.entry(id).or_insert_with(|| (0, STATUSES[0].to_owned()));
        if let Some(note) = body["note"].as_i64() {
            row.0 = note;
        }
        if let Some(status) = body["status"].as_str() {
            row.1 = status.to_owned();
        }
        self.wrote(id);
        let is_new = request.method() == "POST";
        let body = match self.with_body {
            true => self.json(id),
            false if is_new && self.names => format!(r#"{{"id":{id}}}"#),
            false => String::new(),
        };
        (200, body, self.writes)
    }
}

struct Client {
    disk: Disk,
    cache: Cache,
    remote: Remote,
    wanted: Vec<Wanted>,
    sends: Vec<Sent>,
    listening: Option<Listening>,
    made: i64,
    /// Whether a change was taken back, or lost with a program that was killed.
    is_lost: bool,
    /// For each field of a row the server's number of the last edit that was confirmed.
    since: BTreeMap<(i64, &'static str), i64>,
    /// The version of each row that was shown last.
    low: BTreeMap<i64, i64>,
}

struct World {
    clock: SetClock,
    network: Network,
    server: Server,
    clients: Vec<Client>,
    merges: bool,
    feed: Feed,
    /// How often a client was started: each has random numbers of its own.
    starts: Cell<u64>,
}

const CLIENTS: usize = 2;

#[derive(Debug, Clone, Copy)]
enum Act {
    Note(usize, i64, i64),
    Status(usize, i64, usize),
    Announce(usize, i64),
    Cancel(usize, i64),
    TakeBack(usize, usize),
    SendAgain(usize),
    Other(i64, i64),
    OtherStatus(i64, usize),
    OtherDeletes(i64),
    Ask(usize, usize),
    AskOne(usize, i64),
    Want(usize, usize),
    /// The server answers a request; its response is in the network.
    Serve(usize),
    Arrive(usize),
    Lose(usize),
    /// A request arrives once more.
    Repeat(usize),
    Pass(u64),
    Fail(Option<u16>),
    Online(usize, bool),
    Listen(usize, bool),
    /// The server opens a feed.
    Connect(usize),
    /// It pushes some of the events that it has, in two pieces.
    Push(usize, usize, usize),
    Cut(usize),
    /// It forgets what has happened.
    Forget,
    Flush(usize),
    Kill(usize),
}

fn act() -> impl Strategy<Value = Act> {
    let client = || 0..CLIENTS;
    let id = || 0..4_i64;
    let status = || 0..STATUSES.len();
    // Few, too, so that one is set again that was there before.
    let note = || prop_oneof![0..4_i64, 0..20_i64];
    prop_oneof![
        6 => (client(), id(), note()).prop_map(|(client, id, note)| Act::Note(client, id, note)),
        5 => (client(), id(), status()).prop_map(|(client, id, s)| Act::Status(client, id, s)),
        2 => (client(), 0..20_i64).prop_map(|(client, note)| Act::Announce(client, note)),
        2 => (client(), id()).prop_map(|(client, id)| Act::Cancel(client, id)),
        1 => (client(), 0..3_usize).prop_map(|(client, which)| Act::TakeBack(client, which)),
        1 => client().prop_map(Act::SendAgain),
        2 => (id(), 50..70_i64).prop_map(|(id, note)| Act::Other(id, note)),
        2 => (id(), status()).prop_map(|(id, status)| Act::OtherStatus(id, status)),
        1 => id().prop_map(Act::OtherDeletes),
        5 => (client(), status()).prop_map(|(client, status)| Act::Ask(client, status)),
        1 => (client(), id()).prop_map(|(client, id)| Act::AskOne(client, id)),
        1 => (client(), status()).prop_map(|(client, status)| Act::Want(client, status)),
        9 => (0..6_usize).prop_map(Act::Serve),
        9 => (0..6_usize).prop_map(Act::Arrive),
        2 => (0..6_usize).prop_map(Act::Lose),
        1 => (0..6_usize).prop_map(Act::Repeat),
        3 => (0..40_000_u64).prop_map(Act::Pass),
        1 => prop::option::of(prop::sample::select(vec![429, 503])).prop_map(Act::Fail),
        1 => (client(), any::<bool>()).prop_map(|(client, is)| Act::Online(client, is)),
        1 => (client(), any::<bool>()).prop_map(|(client, is)| Act::Listen(client, is)),
        4 => client().prop_map(Act::Connect),
        6 => (client(), 1..5_usize, 0..200_usize).prop_map(|(of, many, cut)| Act::Push(of, many, cut)),
        1 => client().prop_map(Act::Cut),
        1 => Just(Act::Forget),
        1 => client().prop_map(Act::Flush),
        1 => client().prop_map(Act::Kill),
    ]
}

impl World {
    fn new(
        (with_versions, with_body): (bool, bool),
        (merges, names): (bool, bool),
        feed: Feed,
    ) -> Self {
        let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
        let server = Server { with_versions, with_body, names, ..Server::default() };
        let network = Network::default();
        let (clients, starts) = Default::default();
        let mut world = Self { clock, network, server, clients, merges, feed, starts };
        for id in 0..3 {
            let status = STATUSES[id as usize % 2].to_owned();
            world.server.rows.insert(id, (id, status));
            world.server.wrote(id);
        }
        for index in 0..CLIENTS {
            let disk = Disk::default();
            let (cache, remote) = world.open(index, &disk);
            let (wanted, sends, since, low) = Default::default();
            let (made, is_lost, listening) = (0, false, None);
            let client =
                Client { disk, cache, remote, wanted, sends, listening, made, is_lost, since, low };
            world.clients.push(client);
            world.act(Act::Listen(index, true));
        }
        world
    }

    /// A schema, mostly with the remote's tables in it: to declare them is most of what a short run
    /// does.
    fn schema_of(&self, text: String) -> Schema {
        static KNOWN: Mutex<BTreeMap<String, Schema>> = Mutex::new(BTreeMap::new());
        if self.starts.get().is_multiple_of(8) {
            return Schema::parse("s.toml", &text).unwrap();
        }
        let mut known = KNOWN.lock().unwrap();
        let declared = |text: &String| {
            let cache = Cache::new(Schema::parse("s.toml", text).unwrap());
            let remote = Remote::builder(&cache).base("https://ferries.example");
            let remote = remote.transport(self.network.way_of(0)).clock(self.clock.clone());
            remote.build().map(|_| cache.schema()).unwrap()
        };
        known.entry(text).or_insert_with_key(declared).clone()
    }

    fn open(&self, index: usize, disk: &Disk) -> (Cache, Remote) {
        let version = if self.server.with_versions { "version = \"version\"" } else { "" };
        let merge = if self.merges { "merge = true" } else { "" };
        // With a feed what is here stays true; without one it has to be asked for.
        let fresh = if self.feed == Feed::None { "" } else { "max_age = \"1 day\"" };
        let rate = if self.feed == Feed::Slowly { "per_second = 2" } else { "" };
        let schema = SCHEMA.replace("VERSION", version).replace("MERGE", merge);
        // What an edit has changed is what the feed says.
        let alone = if self.feed == Feed::None { "" } else { "makes_stale = []" };
        let schema = schema.replace("FRESH", fresh).replace("RATE", rate).replace("ALONE", alone);
        let schema = self.schema_of(schema);
        let cache = Cache::builder().schema(schema).storage(disk.clone()).write_when_flushed();
        let cache = cache.build().unwrap();
        let remote = Remote::builder(&cache).base("https://ferries.example").at_a_time(3);
        let remote = remote.time_out(Duration::from_secs(10)).tries(3).seed(self.starts.get());
        self.starts.set(self.starts.get() + 1);
        let remote = remote.transport(self.network.way_of(index)).clock(self.clock.clone());
        (cache, remote.build().unwrap())
    }

    fn rows(&self, client: usize) -> BTreeMap<i64, Sailing> {
        let snapshot = self.clients[client].cache.snapshot();
        let rows = snapshot.rows("sailing").unwrap().map(|row| {
            let int = |name: &str| row.get(name).unwrap().and_then(|value| value.as_int());
            let status = row.get("status").unwrap();
            Sailing {
                id: int("id").unwrap(),
                note: int("note"),
                status: status.and_then(|value| value.as_str().map(str::to_owned)),
                version: int("version"),
            }
        });
        rows.map(|row| (row.id, row)).collect()
    }

    /// The rows of which changes have not arrived, and none is to be cancelled.
    fn pending(&self, client: usize) -> BTreeSet<i64> {
        let snapshot = self.clients[client].cache.snapshot();
        let (mut changed, mut cancelled) = (BTreeSet::new(), BTreeSet::new());
        for row in snapshot.rows("backwater_pending").into_iter().flatten() {
            let text = |name: &str| row.get(name).unwrap().unwrap_or(Value::Null).to_string();
            let id = text("row_id").parse().unwrap();
            match (text("state").as_str(), text("send").as_str()) {
                ("refused", _) => false,
                (_, "cancel") => cancelled.insert(id),
                _ => changed.insert(id),
            };
        }
        &changed - &cancelled
    }

    /// Whether a delete counts as refused because the server does not have the row any more.
    fn refuses_to_delete_what_is_gone(&self, client: usize) -> bool {
        let snapshot = self.clients[client].cache.snapshot();
        let mut rows = snapshot.rows("backwater_pending").into_iter().flatten();
        let refused =
            [("state", "refused".into()), ("send", "cancel".into()), ("status", 404.into())];
        rows.any(|row| {
            refused.iter().all(|(name, value)| row.get(name).unwrap().as_ref() == Some(value))
        })
    }

    fn is_pending(&self, client: usize, id: i64) -> bool {
        let snapshot = self.clients[client].cache.snapshot();
        let found = snapshot.get("sailing", id).unwrap();
        found.is_some_and(|row| row.is_pending())
    }

    /// Makes an edit of a row that is shown, and checks that it is shown in that commit.
    fn edit(&mut self, client: usize, rule: &str, id: i64, fields: &[(&str, Value)]) {
        if !self.rows(client).contains_key(&id) {
            return;
        }
        let of = &mut self.clients[client];
        let sent = of.remote.send(rule, "an edit", |tx| match rule {
            "cancel" => tx.delete("sailing", id).map(drop),
            _ => tx.update("sailing", id, fields.to_vec()),
        });
        of.sends.push(sent.unwrap());
        let snapshot = of.cache.snapshot();
        let shown = snapshot.get("sailing", id).unwrap();
        assert_eq!(shown.is_none(), rule == "cancel", "shown at once");
        for (name, value) in fields {
            let row = shown.as_ref().unwrap();
            assert_eq!(row.get(name).unwrap().as_ref(), Some(value), "shown at once");
        }
    }

    fn act(&mut self, act: Act) {
        match act {
            Act::Note(client, id, note) => {
                self.edit(client, "change", id, &[("note", note.into())]);
            }
            Act::Status(client, id, status) => {
                self.edit(client, "change", id, &[("status", STATUSES[status].into())]);
            }
            Act::Announce(client, note) => {
                let (names, of) = (self.server.names, &mut self.clients[client]);
                of.made += 1;
                let mut id = 100 * (client as i64 + 1) + of.made;
                let row =
                    [("note", Value::from(note)), ("status", STATUSES[note as usize % 2].into())];
                let sent = of.remote.send("announce", "announced", |tx| {
                    if !names {
                        return tx.insert(
                            "sailing",
                            row.into_iter().chain([("id", id.into())]).collect::<Vec<_>>(),
                        );
                    }
                    match tx.insert_local("sailing", row)? {
                        RowId::Int(local) => id = local,
                        other => panic!("{other}"),
                    }
                    Ok(())
                });
                of.sends.push(sent.unwrap());
                // What points at it points at it still when it has its name.
                of.cache.commit("shown", |tx| tx.set("board", [("shown", id)])).unwrap();
                assert!(self.rows(client).contains_key(&id), "shown at once");
                if note % 3 == 0 {
                    self.edit(client, "change", id, &[("note", (note + 1).into())]);
                }
            }
            Act::Cancel(client, id) => self.edit(client, "cancel", id, &[]),
            Act::TakeBack(client, which) => {
                let sends = &self.clients[client].sends;
                if let Some(sent) = sends.iter().rev().nth(which) {
                    let was = sent.state();
                    let is_back = sent.cancel().unwrap();
                    assert!(!is_back || matches!(was, SendState::Waiting { .. }), "{was:?}");
                    self.clients[client].is_lost = true;
                }
            }
            Act::SendAgain(client) => {
                let of = &mut self.clients[client];
                let refused = |sent: &&Sent| matches!(sent.state(), SendState::Refused(_));
                if let Some(sent) = of.sends.iter().rev().find(refused)
                    && let Ok(again) = sent.clone().send_again()
                {
                    of.sends.push(again);
                }
            }
            Act::Other(id, note) => {
                if let Some(row) = self.server.rows.get_mut(&id) {
                    row.0 = note;
                    self.server.wrote(id);
                }
            }
            Act::OtherStatus(id, status) => {
                if let Some(row) = self.server.rows.get_mut(&id) {
                    row.1 = STATUSES[status].to_owned();
                    self.server.wrote(id);
                }
            }
            Act::OtherDeletes(id) => {
                if self.server.rows.remove(&id).is_some() {
                    self.server.wrote(id);
                }
            }
            Act::Ask(client, status) => {
                let remote = &self.clients[client].remote;
                remote.ask("by_status", [("status", STATUSES[status])]).unwrap();
            }
            Act::AskOne(client, id) => {
                self.clients[client].remote.ask("sailing", [("id", id)]).unwrap();
            }
            Act::Want(client, status) => {
                let remote = &self.clients[client].remote;
                let wanted = remote.want("by_status", [("status", STATUSES[status])]).unwrap();
                self.clients[client].wanted.push(wanted);
            }
            Act::Serve(flight) => {
                self.network.serve(flight, |request| self.server.serve(request));
            }
            Act::Arrive(flight) => self.arrive(flight),
            Act::Lose(flight) => self.network.lose(flight),
            Act::Repeat(flight) => self.network.look(|flights| {
                if let Some(flight) = flights.get(flight) {
                    self.server.serve(&flight.request);
                }
            }),
            Act::Pass(millis) => self.network.pass(&self.clock, Duration::from_millis(millis)),
            Act::Fail(status) => self.server.fails = status,
            Act::Online(client, is_online) => self.clients[client].remote.set_online(is_online),
            Act::Listen(client, is_on) => {
                let of = &mut self.clients[client];
                of.listening = (is_on && self.feed != Feed::None)
                    .then(|| of.remote.listen("changes", ()).unwrap());
            }
            Act::Connect(place) => self.connect(place),
            Act::Push(place, many, cut) => {
                self.network.with_feed(true, place, |mut feed| {
                    let events = self.server.events(feed.told?, many);
                    feed.told = events.last().map(|(number, _)| *number).or(feed.told);
                    let text: String = events.into_iter().map(|(_, event)| event).collect();
                    let (one, other) = text.as_bytes().split_at(cut.min(text.len()));
                    [one, other].into_iter().for_each(|piece| feed.call.received(piece));
                    Some(feed)
                });
            }
            Act::Cut(place) => {
                self.network.with_feed(true, place, |feed| {
                    // The half of an event is none.
                    feed.call.received(b"id: 100000\nevent: deleted\ndata: { \"id\": 1 }\n");
                    feed.call.fail(FailureKind::Network, "cut");
                    None
                });
            }
            Act::Forget => self.server.forgotten = self.server.writes,
            Act::Flush(client) => self.clients[client].cache.flush().unwrap(),
            Act::Kill(client) => self.kill(client),
        }
    }

    /// The server opens a feed that waits, from where that was, or from now on.
    fn connect(&mut self, place: usize) {
        let server = &self.server;
        self.network.with_feed(false, place, |mut feed| {
            if let Some(status) = server.fails {
                feed.call
                    .opened(&http::Response::builder().status(status).body(Vec::new()).unwrap());
                return None;
            }
            let last = feed.request.headers().get("last-event-id");
            let last = last.map(|last| last.to_str().unwrap().parse::<i64>().unwrap());
            let response = http::Response::builder().header("content-type", "text/event-stream");
            feed.call.opened(&response.body(Vec::new()).unwrap());
            let is_known = last.is_none_or(|last| last >= server.forgotten);
            feed.told = Some(last.filter(|_| is_known).unwrap_or(server.writes));
            if !is_known {
                let reset = format!("id: {}\nevent: reset\ndata: {{}}\n\n", server.writes);
                feed.call.received(reset.as_bytes());
            }
            Some(feed)
        });
    }

    fn arrive(&mut self, flight: usize) {
        let Some((flight, (status, body, number))) = self.network.take_response(flight) else {
            return;
        };
        let Flight { client, request, call, .. } = flight;
        let is_taken = call.is_wanted();
        let response = http::Response::builder().status(status);
        call.respond(response.body(body.into_bytes()).unwrap());
        if is_taken && request.method() == "PATCH" && status == 200 {
            let body: serde_json::Value = serde_json::from_slice(request.body()).unwrap();
            let id: i64 = request.uri().path().rsplit('/').next().unwrap().parse().unwrap();
            for field in ["note", "status"].into_iter().filter(|field| !body[*field].is_null()) {
                let since = self.clients[client].since.entry((id, field)).or_default();
                *since = number.max(*since);
            }
        }
    }

    /// The program ends without a word, and is started again: what was not flushed is lost.
    fn kill(&mut self, index: usize) {
        let client = &mut self.clients[index];
        client.disk.kill();
        client.wanted.clear();
        client.sends.clear();
        let was_listening = client.listening.take();
        client.is_lost = true;
        client.since.clear();
        client.low.clear();
        let disk = client.disk.of_next_program();
        // The one that is killed lets go of nothing; its calls come to nothing.
        let (cache, remote) = self.open(index, &disk);
        let client = &mut self.clients[index];
        client.disk = disk;
        let killed = std::mem::replace(&mut client.remote, remote);
        drop((std::mem::replace(&mut client.cache, cache), killed));
        client.sends = client.remote.sends();
        self.act(Act::Listen(index, was_listening.is_some()));
    }

    fn check(&mut self) {
        let mut applied = self.server.applied.clone();
        applied.sort();
        applied.dedup();
        assert_eq!(applied.len(), self.server.applied.len(), "applied twice");
        assert!(applied.iter().all(|key| !self.server.refused.contains(key)), "refused, applied");
        for client in 0..CLIENTS {
            assert!(!self.refuses_to_delete_what_is_gone(client), "{client}: it is not there");
            let rows = self.rows(client);
            for id in self.pending(client) {
                let history = self.server.history.get(&id).into_iter().flatten();
                let was_deleted = history.into_iter().any(|(_, row)| row.is_none());
                assert!(was_deleted || rows.contains_key(&id), "{client}: {id} is not shown");
            }
            let mut low = std::mem::take(&mut self.clients[client].low);
            // Nobody knows whether an event is older than a confirmation that has no version.
            let has_versions = self.server.with_versions && self.server.with_body;
            let is_ordered = has_versions || self.feed == Feed::None;
            for ((id, field), since) in self.clients[client].since.iter().filter(|_| is_ordered) {
                let Some(row) = rows.get(id).filter(|_| !self.is_pending(client, *id)) else {
                    continue;
                };
                let history = self.server.history[id].iter();
                let later = history.filter(|(number, _)| number >= since);
                let mut known = later.filter_map(|(_, row)| row.clone());
                let is_known = known.any(|(note, status)| match *field {
                    "note" => row.note == Some(note),
                    _ => row.status.as_deref() == Some(&status),
                });
                assert!(is_known, "{client}: {field} of {id} is unseen again: {row:?}");
            }
            for (id, row) in rows.iter().filter(|_| self.server.with_versions) {
                let version = row.version.unwrap_or(0);
                let low = low.entry(*id).or_default();
                assert!(version >= *low, "{client}: row {id} went back to {version} from {low}");
                *low = version;
            }
            self.clients[client].low = low;
        }
    }

    /// Everybody knows everything, and hears what happens from here on.
    fn know(&mut self) {
        for client in 0..CLIENTS {
            (0..STATUSES.len()).for_each(|status| self.act(Act::Ask(client, status)));
        }
        self.rest();
    }

    /// The faults end. Everybody looks at everything.
    fn heal(&mut self) {
        self.server.fails = None;
        for client in 0..CLIENTS {
            self.clients[client].remote.set_online(true);
            for status in 0..STATUSES.len() {
                self.act(Act::Want(client, status));
            }
            self.act(Act::Listen(client, true));
        }
        self.rest();
        // What others wrote is seen once what is fresh grows stale; a feed has said it.
        for client in 0..CLIENTS {
            // What was tried often enough is tried again once the program is looked at.
            self.clients[client].remote.resume();
            for status in STATUSES.into_iter().filter(|_| self.feed == Feed::None) {
                let of = &self.clients[client].remote;
                of.reload("by_status", [("status", status)]).unwrap();
            }
        }
        self.rest();
        for client in 0..CLIENTS {
            let shown: BTreeMap<i64, Row> = self
                .rows(client)
                .into_values()
                .map(|row| (row.id, (row.note.unwrap(), row.status.unwrap())))
                .collect();
            assert_eq!(shown, self.server.rows, "client {client}");
            let of = &self.clients[client];
            assert_eq!(of.remote.unsent(), 0);
            let snapshot = of.cache.snapshot();
            assert_eq!(snapshot.count("backwater_base").unwrap_or(0), 0);
            let shown = snapshot.only("board").unwrap().get("shown").unwrap();
            let shown = shown.and_then(|id| id.as_int()).unwrap_or(0);
            let refused = of.cache.query("SELECT 1 FROM backwater_pending", ());
            let was_lost = of.is_lost || refused.is_ok_and(|q| !q.read().unwrap().is_empty());
            assert!(shown >= 0 || was_lost, "{shown} is no name of the server's");
        }
    }

    fn rest(&mut self) {
        for round in 0.. {
            assert!(round < 500, "it does not come to rest");
            while !self.network.is_empty() {
                self.act(Act::Serve(0));
                self.act(Act::Arrive(0));
                self.check();
            }
            for place in 0..CLIENTS {
                self.act(Act::Connect(0));
                self.act(Act::Push(place, usize::MAX, 0));
                self.check();
            }
            let is_busy = |client: &Client| {
                let busy = "SELECT 1 FROM backwater_answer WHERE is_under_way";
                let is_busy = !client.cache.query(busy, ()).unwrap().read().unwrap().is_empty();
                is_busy || client.remote.unsent() > 0
            };
            let is_busy = self.clients.iter().any(is_busy);
            self.network.pass(&self.clock, Duration::from_secs(5));
            // What is in doubt is asked for again.
            if !is_busy && self.network.is_empty() {
                break;
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(
        std::env::var("BACKWATER_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(500)
    ))]

    #[test]
    fn edits_arrive(
        of_server in any::<(bool, bool)>(),
        (merges, names) in any::<(bool, bool)>(),
        feed in prop::sample::select(vec![Feed::None, Feed::AsItComes, Feed::Slowly]),
        is_known in any::<bool>(),
        acts in prop::collection::vec(act(), 1..100),
    ) {
        let mut world = World::new(of_server, (merges, names), feed);
        if is_known {
            world.know();
        }
        for act in acts {
            world.act(act);
            world.check();
        }
        world.heal();
    }
}

/// A row that the server names is the same row to those who look: its key has changed, and what
/// points at it.
#[test]
fn a_row_that_is_named_stays_the_same() {
    let mut world = World::new((false, false), (false, true), Feed::None);
    let client = &world.clients[0];
    client.remote.set_online(false);
    let sql = "SELECT s.id, s.note FROM board b JOIN sailing s ON s.id = b.shown";
    let statements = ["SELECT id, note FROM sailing ORDER BY id", sql, "SELECT shown FROM board"];
    let seen: Arc<Mutex<Vec<(String, DeltaKind)>>> = Arc::default();
    let mut watches = Vec::new();
    for statement in statements {
        let query = client.cache.query(statement, ()).unwrap();
        let rows = query.read().unwrap();
        let mut shown: Vec<Vec<Value>> = rows.rows().map(|row| row.values().to_vec()).collect();
        let seen = seen.clone();
        watches.push(client.cache.watch(&query, move |reached| {
            let Some(delta) = reached.delta() else { return };
            delta.apply(&mut shown).unwrap();
            let now: Vec<Vec<Value>> =
                delta.after().rows().map(|row| row.values().to_vec()).collect();
            assert_eq!(shown, now, "old result + delta = new result");
            let kinds = delta.rows().map(|row| (statement.to_owned(), row.kind()));
            seen.lock().unwrap().extend(kinds);
        }));
    }
    world.act(Act::Announce(0, 2));
    seen.lock().unwrap().clear();
    world.act(Act::Online(0, true));
    world.act(Act::Serve(0));
    world.act(Act::Arrive(0));
    let seen = seen.lock().unwrap();
    assert!(
        seen.iter().all(|(_, kind)| matches!(kind, DeltaKind::Change | DeltaKind::Move)),
        "{seen:?}"
    );
    assert!(
        statements.iter().all(|of| seen.iter().any(|(statement, _)| statement == of)),
        "{seen:?}"
    );
}
