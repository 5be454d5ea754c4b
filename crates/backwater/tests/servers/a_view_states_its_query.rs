//! A query is filled by exactly the requests that it needs: once it is called whole it shows what
//! it would show if all that the server has were here, and nothing is asked for twice.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use backwater::clock::SetClock;
use backwater::remote::{Remote, StandIn, fill_plan};
use backwater::{Cache, Query, Schema};
use proptest::prelude::*;
use serde_json::json;

const SCHEMA: &str = r#"
    table.port = { id = "code", fields = { code = "text", name = "text" } }
    table.route = { id = "id", fields = { id = "int", from = { to = "port" }, to = { to = "port" } } }
    table.vessel = { id = "id", fields = { id = "int", name = "text", home = { to = "port" } } }
    table.sailing = { id = "id", fields = { id = "int", route = { to = "route" }, vessel = { to = "vessel" }, delay = "int" } }
    table.booking = { id = "id", fields = { id = "int", sailing = { to = "sailing" }, cars = "int" } }

    [response.ports]
    url = "/ports"
    table = "port"
    complete = true
    max_age = "1 hour"

    [response.route]
    url = "/routes/{id}"
    table = "route"
    max_age = "1 hour"

    [response.of_route]
    url = "/routes/{route}/sailings{?page}"
    table = "sailing"
    fields = { route = ":route" }
    complete = { route = ":route" }
    max_age = "1 hour"

    [response.sailing]
    url = "/sailings/{id}"
    table = "sailing"
    max_age = "1 hour"

    [response.vessels]
    url = "/vessels{?ids*}"
    table = "vessel"
    max_age = "1 hour"

    [response.bookings]
    url = "/sailings/{sailing}/bookings"
    table = "booking"
    fields = { sailing = ":sailing" }
    complete = { sailing = ":sailing" }
    max_age = "1 hour"

    # Neither of these is complete, or about one row.
    [response.search]
    url = "/search{?id,text}"
    table = "booking"

    [response.late]
    url = "/late"
    table = "sailing"
"#;

/// Statements, whether rules can bring all that they read, and which `:of` is a parameter.
const QUERIES: [(&str, bool); 15] = [
    ("SELECT code, name FROM port ORDER BY code", true),
    ("SELECT id, delay FROM sailing WHERE route = :of", true),
    ("SELECT id FROM sailing WHERE route = :of AND delay > 3", true),
    ("SELECT id, cars FROM booking WHERE sailing = :of", true),
    (
        "SELECT s.id, v.name FROM sailing AS s JOIN vessel AS v ON v.id = s.vessel WHERE s.route = :of",
        true,
    ),
    (
        "SELECT s.id, v.name FROM sailing AS s LEFT JOIN vessel AS v ON v.id = s.vessel WHERE s.route = :of ORDER BY s.id LIMIT 2",
        true,
    ),
    (
        "SELECT s.id, p.name FROM sailing AS s JOIN vessel AS v ON v.id = s.vessel JOIN port AS p ON p.code = v.home WHERE s.route = :of",
        true,
    ),
    (
        "SELECT s.id, b.cars FROM sailing AS s JOIN booking AS b ON b.sailing = s.id WHERE s.route = :of",
        true,
    ),
    (
        "SELECT s.id, (SELECT count(*) FROM booking AS b WHERE b.sailing = s.id) AS n FROM sailing AS s WHERE s.route = :of",
        true,
    ),
    (
        "SELECT id FROM sailing AS s WHERE s.route = :of AND EXISTS (SELECT 1 FROM booking AS b WHERE b.sailing = s.id)",
        true,
    ),
    ("SELECT id, delay FROM sailing WHERE id = :of", true),
    (
        "SELECT s.id, p.name FROM sailing AS s JOIN route AS r ON r.id = s.route JOIN port AS p ON p.code = r.\"to\" WHERE s.id = :of",
        true,
    ),
    (
        "SELECT s.delay, count(*) AS n FROM sailing AS s WHERE s.route IN (1, 2) GROUP BY s.delay",
        true,
    ),
    ("SELECT id FROM sailing WHERE delay > :of", false),
    ("SELECT id FROM booking", false),
];

/// All that the server has.
#[derive(Debug, Clone)]
struct Data {
    /// Home ports of vessels.
    vessels: Vec<usize>,
    /// Route, vessel and delay of sailings.
    sailings: Vec<(i64, Option<usize>, i64)>,
    /// Sailings of bookings.
    bookings: Vec<usize>,
}

const PORTS: [&str; 3] = ["EEL", "NOR", "SAL"];
const ROUTES: i64 = 3;

fn data() -> impl Strategy<Value = Data> {
    let vessels = prop::collection::vec(0..PORTS.len(), 1..4);
    let sailings =
        prop::collection::vec((1..=ROUTES, prop::option::of(0..3_usize), 0..6_i64), 0..7);
    let bookings = prop::collection::vec(0..7_usize, 0..7);
    (vessels, sailings, bookings).prop_map(|(vessels, mut sailings, mut bookings)| {
        sailings
            .iter_mut()
            .for_each(|(_, vessel, _)| *vessel = vessel.map(|at| at % vessels.len()));
        bookings.retain(|sailing| *sailing < sailings.len());
        Data { vessels, sailings, bookings }
    })
}

impl Data {
    fn ports(&self) -> Vec<serde_json::Value> {
        PORTS.iter().map(|code| json!({ "code": code, "name": format!("port {code}") })).collect()
    }

    fn route(&self, id: i64) -> Option<serde_json::Value> {
        (1..=ROUTES)
            .contains(&id)
            .then(|| json!({ "id": id, "from": "SAL", "to": PORTS[id as usize % 3] }))
    }

    fn vessel(&self, id: usize) -> Option<serde_json::Value> {
        let home = self.vessels.get(id)?;
        Some(json!({ "id": id, "name": format!("vessel {id}"), "home": PORTS[*home] }))
    }

    fn sailing(&self, id: usize) -> Option<serde_json::Value> {
        let (route, vessel, delay) = self.sailings.get(id)?;
        Some(json!({ "id": id, "route": route, "vessel": vessel, "delay": delay }))
    }

    fn of_route(&self, route: i64) -> Vec<serde_json::Value> {
        let all = (0..self.sailings.len()).filter(|id| self.sailings[*id].0 == route);
        all.filter_map(|id| self.sailing(id)).collect()
    }

    fn bookings(&self, of: usize) -> Vec<serde_json::Value> {
        let all = self.bookings.iter().enumerate().filter(|(_, sailing)| **sailing == of);
        all.map(|(id, _)| json!({ "id": id, "cars": id % 3 })).collect()
    }

    fn answer(&self, uri: &http::Uri) -> Option<serde_json::Value> {
        let parts: Vec<&str> = uri.path().split('/').skip(1).collect();
        Some(match *parts {
            ["ports"] => json!(self.ports()),
            ["routes", id] => self.route(id.parse().ok()?)?,
            ["routes", id, "sailings"] => json!(self.of_route(id.parse().ok()?)),
            ["sailings", id] => self.sailing(id.parse().ok()?)?,
            ["sailings", id, "bookings"] => json!(self.bookings(id.parse().ok()?)),
            ["vessels"] => {
                let ids = uri.query().unwrap_or("").split('&');
                let ids = ids.filter_map(|pair| pair.strip_prefix("ids=")?.parse().ok());
                json!(ids.filter_map(|id| self.vessel(id)).collect::<Vec<_>>())
            }
            _ => return None,
        })
    }

    /// A cache that has all of it.
    fn all(&self) -> Cache {
        let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
        let put = |rule: &str, variables: &[(&str, i64)], body: serde_json::Value| {
            let mut request = backwater::Request::rule(rule);
            for (name, value) in variables {
                request = request.var(*name, value.to_string());
            }
            cache.commit("all", |tx| tx.ingest(request, body.to_string())).unwrap();
        };
        put("ports", &[], json!(self.ports()));
        for id in 1..=ROUTES {
            put("route", &[], self.route(id).unwrap());
            put("of_route", &[("route", id)], json!(self.of_route(id)));
        }
        let vessels: Vec<_> = (0..3).filter_map(|id| self.vessel(id)).collect();
        put("vessels", &[], json!(vessels));
        for id in 0..self.sailings.len() {
            put("bookings", &[("sailing", id as i64)], json!(self.bookings(id)));
        }
        cache
    }
}

fn rows(query: &Query) -> BTreeSet<String> {
    let result = query.read().unwrap();
    result.rows().map(|row| format!("{:?}", row.values())).collect()
}

fn of(cache: &Cache, sql: &str, value: i64) -> Query {
    match sql.contains(":of") {
        true => cache.query(sql, [("of", value)]).unwrap(),
        false => cache.query(sql, ()).unwrap(),
    }
}

fn serving(data: &Data, fails: &Arc<Mutex<bool>>) -> StandIn {
    let (data, fails) = (data.clone(), fails.clone());
    StandIn::new(move |request| match data.answer(request.uri()) {
        _ if *fails.lock().unwrap() => StandIn::status(503),
        Some(body) => StandIn::json(body.to_string()),
        None => StandIn::status(404),
    })
}

#[derive(Debug, Clone, Copy)]
enum Act {
    Fill(usize, i64),
    /// The query that is kept filled goes over to another parameter.
    Rebind(i64),
    Answer,
    Fail(bool),
    Delete(i64),
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        2 => (0..QUERIES.len(), 0..4_i64).prop_map(|(query, of)| Act::Fill(query, of)),
        2 => (0..4_i64).prop_map(Act::Rebind),
        4 => Just(Act::Answer),
        1 => any::<bool>().prop_map(Act::Fail),
        1 => (0..7_i64).prop_map(Act::Delete),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(
        std::env::var("BACKWATER_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(150)
    ))]

    #[test]
    fn what_is_called_whole_is_what_the_server_has(
        data in data(),
        kept in 0..QUERIES.len(),
        acts in prop::collection::vec(act(), 1..25),
    ) {
        let all = data.all();
        let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
        let fails = Arc::new(Mutex::new(false));
        let server = serving(&data, &fails);
        let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
        let remote = Remote::builder(&cache).base("https://x.example").seed(1);
        let remote = remote.transport(server.clone()).clock(clock.clone()).build().unwrap();
        let (mut param, sql) = (1, QUERIES[kept].0);
        let query = of(&cache, sql, param);
        let filled = remote.keep_filled(&query).unwrap();
        let mut fills = Vec::new();
        let mut was_deleted = false;
        for act in acts {
            match act {
                Act::Fill(number, value) => {
                    let query = of(&cache, QUERIES[number].0, value);
                    let fill = remote.fill(&query).unwrap();
                    fills.push((number, value, query, fill));
                }
                Act::Rebind(value) if sql.contains(":of") => {
                    cache.rebind("another", &query, [("of", value)]).unwrap();
                    param = value;
                }
                Act::Rebind(_) => {}
                Act::Answer => drop(server.answer()),
                Act::Fail(is) => *fails.lock().unwrap() = is,
                Act::Delete(id) => {
                    // The program deletes a row that the server has: what answers cover is not
                    // what is here any more.
                    was_deleted |= cache.commit("gone", |tx| tx.delete("vessel", id)).unwrap().value;
                }
            }
            if filled.state().is_whole {
                prop_assert_eq!(rows(&query), rows(&of(&all, sql, param)), "kept: {}", sql);
            }
            // What is said of one that is not kept is of when its last answer came.
            if was_deleted {
                continue;
            }
            for (number, value, query, fill) in &fills {
                if fill.state().is_whole {
                    let sql = QUERIES[*number].0;
                    prop_assert_eq!(rows(query), rows(&of(&all, sql, *value)), "{} {}", sql, value);
                }
            }
        }
        *fails.lock().unwrap() = false;
        for _ in 0..10 {
            server.answer_all();
            server.pass(&clock, Duration::from_secs(120));
        }
        // What rules can bring is here, and was asked for once, but for what had failed.
        let can = QUERIES[kept].1;
        prop_assert_eq!(filled.state().impossible.is_empty(), can, "{}: {:?}", sql, filled.state());
        if can {
            prop_assert!(filled.state().is_whole, "{}: {:?}", sql, filled.state());
            prop_assert_eq!(rows(&query), rows(&of(&all, sql, param)), "{}", sql);
            let before = server.requests().len();
            let plan = fill_plan(&cache, &query).unwrap();
            prop_assert!(plan.is_whole && plan.requests.is_empty(), "{}", plan);
            remote.fill(&query).unwrap();
            // What the server did not have may be there by now.
            let again = filled.state().failed.len();
            prop_assert_eq!(server.requests().len(), before + again);
            server.answer_all();
        }
        for (number, value, query, _) in &fills {
            let (sql, can) = QUERIES[*number];
            let fill = remote.fill(query).unwrap();
            server.answer_all();
            if can {
                prop_assert!(fill.state().is_whole, "{}: {:?}", sql, fill.state());
                prop_assert_eq!(rows(query), rows(&of(&all, sql, *value)), "{}", sql);
            }
        }
    }
}

/// A plan says what would be asked for and why; requests are counted, and what comes does not go in
/// a circle.
#[test]
fn requests_are_those_that_are_needed() {
    let data = Data {
        vessels: vec![0, 1, 2],
        sailings: vec![(1, Some(0), 0), (1, Some(1), 5), (2, Some(2), 0)],
        bookings: vec![0, 0, 1],
    };
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    let server = serving(&data, &Arc::default());
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
    let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone());
    let remote = remote.clock(clock).build().unwrap();
    let shown = of(&cache, QUERIES[6].0, 1);
    assert_eq!(
        fill_plan(&cache, &shown).unwrap().to_string(),
        "GET /routes/1/sailings, by rule \"of_route\": rows of sailing with route = 1 are read\n"
    );
    remote.fill(&shown).unwrap();
    server.answer();
    assert_eq!(
        fill_plan(&cache, &shown).unwrap().to_string(),
        "GET /vessels?ids=0&ids=1, by rule \"vessels\": 2 rows of vessel are not here\n"
    );
    server.answer_all();
    let made = server.requests();
    let paths: Vec<&str> = made.iter().map(|made| made.split(".example").nth(1).unwrap()).collect();
    assert_eq!(paths, ["/routes/1/sailings", "/vessels?ids=0&ids=1", "/ports"]);
    assert_eq!(shown.read().unwrap().len(), 2);
    assert!(fill_plan(&cache, &shown).unwrap().is_whole);

    // One that the server does not have is asked for once.
    let none = of(&cache, QUERIES[10].0, 99);
    let fill = remote.fill(&none).unwrap();
    server.answer_all();
    let state = fill.state();
    assert!(state.is_whole && state.under_way == 0);
    assert_eq!(state.failed[0].1.status, Some(404));
    assert_eq!(server.requests().len(), 4);
    let books = fill_plan(&cache, &of(&cache, QUERIES[14].0, 0)).unwrap();
    assert_eq!(books.impossible, ["all rows of booking are read, which no rule brings"]);
    assert!(!books.is_whole && books.requests.is_empty());
}

/// When a user signs out, a view that is still open asks for nothing, with whatever credentials,
/// until the program says so.
#[test]
fn an_open_view_waits_for_the_next_user() {
    let data = Data { vessels: vec![0], sailings: vec![(1, Some(0), 0)], bookings: vec![] };
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    let server = serving(&data, &Arc::default());
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
    let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone());
    let remote = remote.clock(clock.clone()).build().unwrap();
    let shown = of(&cache, QUERIES[6].0, 1);
    let filled = remote.keep_filled(&shown).unwrap();
    server.answer_all();
    assert!(filled.state().is_whole && shown.read().unwrap().len() == 1);
    let before = server.requests().len();
    cache.clear("signed out").unwrap();
    server.pass(&clock, Duration::from_secs(7200));
    assert_eq!((server.requests().len(), shown.read().unwrap().len()), (before, 0));
    assert!(!filled.state().is_whole);
    remote.resume();
    server.answer_all();
    assert!(filled.state().is_whole && shown.read().unwrap().len() == 1);
}

/// Where each row takes a request of its own, only so many are made at once, and the others follow.
#[test]
fn many_rows_are_asked_for_in_turn() {
    let schema = SCHEMA.replace("/vessels{?ids*}", "/vessels/{id}");
    let cache = Cache::new(Schema::parse("s.toml", &schema).unwrap());
    let server = StandIn::new(|request| {
        let id = request.uri().path().rsplit('/').next().unwrap();
        StandIn::json(format!(r#"{{"id": {id}, "name": "vessel {id}"}}"#))
    });
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
    let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone());
    let remote = remote.clock(clock).at_a_time(1000).build().unwrap();
    let sailings = (0..250).map(|id| format!(r#"{{"id": {id}, "vessel": {id}}}"#));
    let sailings = format!("[{}]", sailings.collect::<Vec<_>>().join(","));
    let request = backwater::Request::rule("late");
    cache.commit("loaded", |tx| tx.ingest(request, sailings)).unwrap();
    let sql = "SELECT v.name FROM sailing AS s LEFT JOIN vessel AS v ON v.id = s.vessel \
        WHERE s.id IN (SELECT id FROM sailing)";
    let shown = cache.query(sql, ()).unwrap();
    let plan = fill_plan(&cache, &shown).unwrap();
    assert_eq!(plan.requests.len(), 100);
    assert!(plan.impossible.iter().any(|what| what.starts_with("150 requests more")), "{plan}");
    remote.fill(&shown).unwrap();
    assert_eq!(server.waiting(), 100);
    server.answer_all();
    assert_eq!(server.requests().len(), 250);
    assert_eq!(cache.snapshot().count("vessel").unwrap(), 250);
}

/// Nothing is called whole that was asked for differently a moment ago, also while another thread's
/// watchers hold up those of this commit.
#[test]
fn a_rebind_is_known_at_once() {
    let data =
        Data { vessels: vec![0], sailings: vec![(1, Some(0), 0), (2, None, 1)], bookings: vec![] };
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    let server = serving(&data, &Arc::default());
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
    let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone());
    let remote = remote.clock(clock).build().unwrap();
    let shown = of(&cache, QUERIES[1].0, 1);
    let filled = remote.keep_filled(&shown).unwrap();
    server.answer_all();
    assert!(filled.state().is_whole);
    let (begun, begins) = std::sync::mpsc::channel();
    let _slow = cache.watch_commits(move |report| {
        if report.label() == "slow" {
            begun.send(()).unwrap();
            std::thread::sleep(Duration::from_millis(200));
        }
    });
    let other = cache.clone();
    let slow = std::thread::spawn(move || {
        other.commit("slow", |tx| tx.insert("vessel", [("id", 99)])).unwrap();
    });
    begins.recv().unwrap();
    cache.rebind("another", &shown, [("of", 2)]).unwrap();
    let state = filled.state();
    assert!(!state.is_whole && state.under_way == 1, "{state:?}");
    slow.join().unwrap();
    server.answer_all();
    assert!(filled.state().is_whole && shown.read().unwrap().len() == 1);
}

/// Who waits for a result to be filled is told when nothing will come: the user has signed out, or
/// the remote is dropped.
#[test]
fn nobody_waits_in_vain() {
    let data = Data { vessels: vec![], sailings: vec![(1, None, 0)], bookings: vec![] };
    for is_kept in [false, true] {
        for signs_out in [true, false] {
            let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
            let server = serving(&data, &Arc::default());
            let clock = SetClock::at("2031-05-04T07:40:00Z".parse().unwrap());
            let remote = Remote::builder(&cache).base("https://x.example").transport(server);
            let remote = remote.clock(clock).build().unwrap();
            let shown = of(&cache, QUERIES[1].0, 1);
            let kept = is_kept.then(|| remote.keep_filled(&shown).unwrap());
            let fill = match &kept {
                Some(kept) => (**kept).clone(),
                None => remote.fill(&shown).unwrap(),
            };
            let waits = std::thread::spawn(move || fill.wait(Duration::from_secs(30)));
            std::thread::sleep(Duration::from_millis(20));
            match signs_out {
                true => drop(cache.clear("signed out").unwrap()),
                false => drop((kept, remote)),
            }
            let begun = std::time::Instant::now();
            let state = waits.join().unwrap();
            assert!(!state.is_whole && state.under_way == 0, "{state:?}");
            assert!(begun.elapsed() < Duration::from_secs(20), "it waited in vain");
        }
    }
}

/// Of what is too much to look at nothing is called whole.
#[test]
fn what_is_not_looked_at_is_not_whole() {
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    let rows = (0..10_001).map(|id| format!(r#"{{"id": {id}, "route": 1, "vessel": {id}}}"#));
    let rows = format!("[{}]", rows.collect::<Vec<_>>().join(","));
    let vessels = (0..10_001).map(|id| format!(r#"{{"id": {id}}}"#));
    let vessels = format!("[{}]", vessels.collect::<Vec<_>>().join(","));
    cache
        .commit("loaded", |tx| {
            tx.ingest(backwater::Request::rule("of_route").var("route", "1"), rows)?;
            tx.ingest("vessels", vessels)
        })
        .unwrap();
    let shown = of(&cache, QUERIES[4].0, 1);
    let plan = fill_plan(&cache, &shown).unwrap();
    assert!(!plan.is_whole);
    assert_eq!(plan.impossible, ["more than 10000 scopes and rows are read"]);
}
