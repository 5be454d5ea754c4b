//! Clients ask a server over a network that delays, reorders and loses, with a clock that is set
//! back, kills, sign-outs and a server that fails. At no time are two requests for one thing under
//! way, or is something called fresh that is not; once the faults end, every client has what the
//! server has.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use backwater::clock::{Clock, SetClock};
use backwater::remote::{Answer, Remote, Wanted};
use backwater::{Cache, Schema, Table, Timestamp};
use proptest::prelude::*;

use crate::killed_disk::Disk;

use crate::network::Flight;

/// What the server answers.
type Answered = (http::Response<Vec<u8>>, Served);
type Network = crate::network::Network<Answered>;

const SCHEMA: &str = r#"
    table.sailing = { id = "id", fields = { id = "int", port = "text", version = "int" } }

    [response.sailings]
    url = "/sailings{?port}"
    table = "sailing"
    fields = { port = ":port" }
    complete = { port = ":port" }
    reload_every = "5 min"
"#;
const PORTS: [&str; 3] = ["EEL", "NOR", "SAL"];
const CLIENTS: usize = 2;
const AT_A_TIME: usize = 2;

#[derive(Table)]
#[table(name = "sailing")]
struct Sailing {
    #[table(id)]
    id: i64,
    port: String,
    version: i64,
}

/// What the server answered with, and when.
#[derive(Debug, Clone, Copy)]
struct Served {
    version: i64,
    at: Duration,
    max_age: Option<u32>,
}

#[derive(Default)]
struct Server {
    versions: BTreeMap<String, i64>,
    max_age: Option<u32>,
    no_store: bool,
    /// What it answers with instead.
    fails: Option<u16>,
}

impl Server {
    fn serve(
        &mut self,
        request: &http::Request<Vec<u8>>,
        at: Duration,
    ) -> (http::Response<Vec<u8>>, Served) {
        let port = request.uri().query().unwrap().strip_prefix("port=").unwrap();
        let version = *self.versions.entry(port.to_owned()).or_default();
        let served = Served { version, at, max_age: self.max_age };
        let mut response = http::Response::builder();
        if let Some(status) = self.fails {
            response = response.status(status);
            if status == 429 {
                response = response.header("retry-after", "20");
            }
            return (response.body(Vec::new()).unwrap(), served);
        }
        let tag = format!("\"{version}\"");
        let control = self.max_age.map(|seconds| format!("max-age={seconds}"));
        let control = control.into_iter().chain(self.no_store.then(|| "no-store".to_owned()));
        let control: Vec<String> = control.collect();
        response = response.header("etag", &tag).header("cache-control", control.join(", "));
        if request.headers().get("if-none-match").is_some_and(|known| *known == *tag) {
            return (response.status(304).body(Vec::new()).unwrap(), served);
        }
        let place = PORTS.iter().position(|known| *known == port).unwrap() as i64;
        let rows = rows(version)
            .map(|row| format!(r#"{{"id": {}, "version": {version}}}"#, row * 10 + place));
        let rows = format!("[{}]", rows.collect::<Vec<_>>().join(","));
        (response.body(rows.into_bytes()).unwrap(), served)
    }
}

/// The rows of a version: some stay from one to the next, some come and go.
fn rows(version: i64) -> impl Iterator<Item = i64> {
    (0..4).filter(move |row| (version + row) % 3 != 0)
}

struct Client {
    disk: Disk,
    cache: Cache,
    remote: Remote,
    wanted: Vec<Wanted>,
    asked: BTreeMap<usize, Answer>,
    /// The last response that it took, by port.
    took: BTreeMap<usize, Served>,
}

struct World {
    clock: SetClock,
    network: Network,
    server: Server,
    clients: Vec<Client>,
}

fn open(index: usize, disk: &Disk, clock: &SetClock, network: &Network) -> (Cache, Remote) {
    let schema = Schema::parse("s.toml", SCHEMA).unwrap();
    let cache = Cache::builder().schema(schema).storage(disk.clone()).write_when_flushed();
    let cache = cache.build().unwrap();
    let remote = Remote::builder(&cache).base("https://ferries.example").at_a_time(AT_A_TIME);
    let remote = remote.time_out(Duration::from_secs(10)).tries(3).seed(index as u64);
    let remote = remote.transport(network.way_of(index)).clock(clock.clone());
    (cache, remote.build().unwrap())
}

#[derive(Debug, Clone, Copy)]
enum Act {
    Ask(usize, usize),
    Reload(usize, usize),
    Want(usize, usize),
    Release(usize),
    /// The server answers a request; its response is in the network.
    Serve(usize),
    /// What is in the network arrives, if it is a response.
    Arrive(usize),
    Lose(usize),
    Pass(u64),
    SetBack,
    Edit(usize),
    Fail(Option<u16>),
    Say(Option<u32>, bool),
    Online(usize, bool),
    Resume(usize),
    SignOut(usize),
    Flush(usize),
    Kill(usize),
}

fn act() -> impl Strategy<Value = Act> {
    let (client, port) = (0..CLIENTS, 0..PORTS.len());
    let one = (client.clone(), port.clone());
    prop_oneof![
        5 => one.clone().prop_map(|(client, port)| Act::Ask(client, port)),
        1 => one.clone().prop_map(|(client, port)| Act::Reload(client, port)),
        2 => one.prop_map(|(client, port)| Act::Want(client, port)),
        1 => client.clone().prop_map(Act::Release),
        8 => (0..6_usize).prop_map(Act::Serve),
        8 => (0..6_usize).prop_map(Act::Arrive),
        2 => (0..6_usize).prop_map(Act::Lose),
        4 => (0..40_000_u64).prop_map(Act::Pass),
        1 => Just(Act::SetBack),
        3 => port.prop_map(Act::Edit),
        2 => prop::option::of(prop::sample::select(vec![404, 429, 503])).prop_map(Act::Fail),
        2 => (prop::option::of(0..90_u32), any::<bool>()).prop_map(|(age, no)| Act::Say(age, no)),
        1 => (client.clone(), any::<bool>()).prop_map(|(client, is)| Act::Online(client, is)),
        1 => client.clone().prop_map(Act::Resume),
        1 => client.clone().prop_map(Act::SignOut),
        1 => client.clone().prop_map(Act::Flush),
        1 => client.prop_map(Act::Kill),
    ]
}

impl World {
    fn new() -> Self {
        let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
        let network = Network::default();
        let clients = (0..CLIENTS).map(|index| {
            let disk = Disk::default();
            let (cache, remote) = open(index, &disk, &clock, &network);
            let (wanted, asked, took) = Default::default();
            Client { disk, cache, remote, wanted, asked, took }
        });
        let clients = clients.collect();
        Self { clock, network, server: Server::default(), clients }
    }

    fn act(&mut self, act: Act) {
        match act {
            Act::Ask(client, port) => {
                let client = &mut self.clients[client];
                let answer = client.remote.ask("sailings", [("port", PORTS[port])]).unwrap();
                client.asked.insert(port, answer);
            }
            Act::Reload(client, port) => {
                let client = &mut self.clients[client];
                let answer = client.remote.reload("sailings", [("port", PORTS[port])]).unwrap();
                client.asked.insert(port, answer);
            }
            Act::Want(client, port) => {
                let client = &mut self.clients[client];
                let wanted = client.remote.want("sailings", [("port", PORTS[port])]).unwrap();
                client.asked.insert(port, (*wanted).clone());
                client.wanted.push(wanted);
            }
            Act::Release(client) => drop(self.clients[client].wanted.pop()),
            Act::Serve(flight) => {
                let at = self.clock.ticks();
                self.network.serve(flight, |request| self.server.serve(request, at));
            }
            Act::Arrive(flight) => self.arrive(flight),
            Act::Lose(flight) => self.network.lose(flight),
            Act::Pass(millis) => self.network.pass(&self.clock, Duration::from_millis(millis)),
            Act::SetBack => {
                let now = self.clock.now().as_micros() - 600_000_000;
                self.clock.set(Timestamp::from_micros(now).unwrap());
            }
            Act::Edit(port) => *self.server.versions.entry(PORTS[port].into()).or_default() += 1,
            Act::Fail(status) => self.server.fails = status,
            Act::Say(max_age, no_store) => {
                (self.server.max_age, self.server.no_store) = (max_age, no_store);
            }
            Act::Online(client, is_online) => self.clients[client].remote.set_online(is_online),
            Act::Resume(client) => self.clients[client].remote.resume(),
            Act::SignOut(client) => {
                self.clients[client].cache.clear("signed out").unwrap();
                self.clients[client].took.clear();
            }
            Act::Flush(client) => self.clients[client].cache.flush().unwrap(),
            Act::Kill(client) => self.kill(client),
        }
    }

    fn arrive(&mut self, flight: usize) {
        let Some((flight, (response, served))) = self.network.take_response(flight) else { return };
        let Flight { client, request, call, .. } = flight;
        let is_taken = call.is_wanted() && matches!(response.status().as_u16(), 200 | 304);
        call.respond(response);
        if is_taken {
            let port = request.uri().query().unwrap().strip_prefix("port=").unwrap();
            let port = PORTS.iter().position(|known| *known == port).unwrap();
            self.clients[client].took.insert(port, served);
        }
    }

    /// The program ends without a word, and is started again: what was not flushed is lost.
    fn kill(&mut self, index: usize) {
        let client = &mut self.clients[index];
        client.disk.kill();
        let nothing = Disk::default();
        let (cache, remote) = open(index, &nothing, &self.clock, &self.network);
        client.wanted.clear();
        client.asked.clear();
        let killed = std::mem::replace(&mut client.remote, remote);
        drop((std::mem::replace(&mut client.cache, cache), killed));
        client.disk = client.disk.of_next_program();
        (client.cache, client.remote) = open(index, &client.disk, &self.clock, &self.network);
        // What it had not flushed is as if it had not come.
        client.took.retain(|port, served| {
            let snapshot = client.cache.snapshot();
            let rows = snapshot.table::<Sailing>().unwrap();
            let mut of_port = rows.here().filter(|row| row.port == PORTS[*port]);
            of_port.all(|row| row.version == served.version)
        });
    }

    fn shown(&self, client: usize, port: usize) -> BTreeSet<(i64, i64)> {
        let snapshot = self.clients[client].cache.snapshot();
        let rows = snapshot.table::<Sailing>().unwrap();
        let of_port = rows.here().filter(|row| row.port == PORTS[port]);
        of_port.map(|row| (row.id, row.version)).collect()
    }

    fn expected(port: usize, version: i64) -> BTreeSet<(i64, i64)> {
        rows(version).map(|row| (row * 10 + port as i64, version)).collect()
    }

    fn check(&self) {
        for index in 0..CLIENTS {
            let wanted: Vec<String> = self.network.look(|flights| {
                let own = flights.iter().filter(|flight| flight.client == index);
                let wanted = own.filter(|flight| flight.call.is_wanted());
                wanted.map(|flight| flight.request.uri().to_string()).collect()
            });
            let different: BTreeSet<&String> = wanted.iter().collect();
            assert_eq!(different.len(), wanted.len(), "two requests for one thing: {wanted:?}");
            assert!(wanted.len() <= AT_A_TIME, "too many requests: {wanted:?}");
            let client = &self.clients[index];
            for (port, answer) in &client.asked {
                let state = answer.state();
                let served = client.took.get(port);
                if state.here.is_some() {
                    let Some(served) = served else { continue };
                    assert_eq!(self.shown(index, *port), Self::expected(*port, served.version));
                }
                if state.is_fresh(&self.clock) {
                    let served = served.unwrap();
                    let fresh = Duration::from_secs(served.max_age.unwrap_or(0).into());
                    assert!(self.clock.ticks() < served.at + fresh, "called fresh: {served:?}");
                }
            }
        }
    }

    /// All that is under way ends.
    fn rest(&mut self) {
        for round in 0.. {
            assert!(round < 500, "it does not come to rest");
            while !self.network.is_empty() {
                self.act(Act::Serve(0));
                self.act(Act::Arrive(0));
                self.check();
            }
            let busy = "SELECT 1 FROM backwater_answer WHERE is_under_way";
            let is_busy =
                |client: &Client| !client.cache.query(busy, ()).unwrap().read().unwrap().is_empty();
            if !self.clients.iter().any(is_busy) {
                break;
            }
            self.network.pass(&self.clock, Duration::from_secs(5));
        }
    }

    /// The faults end. Everybody looks at everything.
    fn heal(&mut self) {
        self.server.fails = None;
        for client in 0..CLIENTS {
            self.clients[client].remote.set_online(true);
            for port in 0..PORTS.len() {
                self.act(Act::Want(client, port));
            }
        }
        self.rest();
        for client in 0..CLIENTS {
            for port in 0..PORTS.len() {
                self.act(Act::Reload(client, port));
            }
        }
        // A server that said when to come again is not asked before.
        self.rest();
        for client in 0..CLIENTS {
            for (port, name) in PORTS.iter().enumerate() {
                let version = self.server.versions.get(*name).copied().unwrap_or_default();
                assert_eq!(self.shown(client, port), Self::expected(port, version), "{name}");
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(
        std::env::var("BACKWATER_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(1000)
    ))]

    #[test]
    fn asks_survive_faults(acts in prop::collection::vec(act(), 1..120)) {
        let mut world = World::new();
        for act in acts {
            world.act(act);
            world.check();
        }
        world.heal();
    }
}
