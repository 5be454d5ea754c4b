//! A proposed schema is right, reads the very samples that it was proposed from with nothing
//! edited, and finds the things that are in them.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::infer::{Proposal, Samples};
use backwater::{Cache, Request, RowId, Schema};
use proptest::prelude::*;
use serde_json::{Map, Value, json};

fn config(cases: u32) -> ProptestConfig {
    let cases = std::env::var("BACKWATER_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(cases);
    ProptestConfig { cases, failure_persistence: None, ..ProptestConfig::default() }
}

/// Proposes a schema twice, which must be the same, and reads the samples by it.
fn propose(samples: &[(Request, String)]) -> Result<(String, Cache), TestCaseError> {
    let once = || {
        let mut all = Samples::new();
        for (request, body) in samples {
            all.add(request.clone(), body.as_str())
                .map_err(|error| TestCaseError::fail(format!("{error}: {body}")))?;
        }
        Ok::<_, TestCaseError>(all.propose())
    };
    let (proposal, again) = (once()?, once()?);
    prop_assert_eq!(proposal.text(), again.text());
    let text = proposal.text().to_owned();
    let schema = Schema::parse("proposed", &text);
    let schema = schema.map_err(|error| TestCaseError::fail(format!("{error}\n{text}")))?;
    schema.check().map_err(|error| TestCaseError::fail(format!("{error}\n{text}")))?;
    let cache = Cache::new(schema);
    for (request, body) in samples {
        let read = cache.commit("sample", |tx| tx.ingest(request.clone(), body));
        if let Err(error) = read {
            return Err(TestCaseError::fail(format!("{error}\n{body}\n{text}")));
        }
    }
    prop_assert_eq!(proposal.refused().collect::<Vec<_>>(), Vec::<&str>::new(), "{}", text);
    Ok((text, cache))
}

/// JSON as no server would write it.
fn anything() -> impl Strategy<Value = String> {
    let name = prop::sample::select(vec![
        "id",
        "ID",
        "code",
        "name",
        "port",
        "port_id",
        "portId",
        "ports",
        "type",
        "__typename",
        "data",
        "items",
        "errors",
        "",
        "/a",
        "a~b",
        "from",
        "7",
        "12",
        "é é",
        "\u{1}",
        "a\"b",
        "sqlite_x",
        "order",
        "Order",
        "total",
        "position",
        "owner",
        "target",
        "attributes",
        "relationships",
        "included",
        "key",
        "on",
        "edges",
        "node",
        "\u{0}",
    ]);
    let text = prop::sample::select(vec![
        "\"\"",
        "\"SAL\"",
        "\"NOR\"",
        "\"port\"",
        "\"7\"",
        "\"2031-05-04T09:40:00Z\"",
        "\"\\u0000\"",
        "\"a\\nb\"",
        "\"#\"",
        "\"'\\\"\"",
    ]);
    let number = prop::sample::select(vec![
        "0",
        "7",
        "-0",
        "12",
        "1.5",
        "1e3",
        "9007199254740993",
        "18446744073709551615",
        "1e999",
        "7.0",
    ]);
    let scalar = prop_oneof![
        1 => Just("null".to_owned()),
        1 => Just("true".to_owned()),
        4 => text.prop_map(str::to_owned),
        4 => number.prop_map(str::to_owned),
    ];
    scalar.prop_recursive(5, 40, 5, move |inner| {
        let member = (name.clone(), inner.clone()).prop_map(|(name, value)| {
            format!("{}:{value}", serde_json::to_string(name).unwrap())
        });
        prop_oneof![
            1 => prop::collection::vec(inner.clone(), 0..4).prop_map(|of| format!("[{}]", of.join(","))),
            3 => prop::collection::vec(member, 0..5).prop_map(|of| format!("{{{}}}", of.join(","))),
            // The same again, as lists have it.
            1 => (inner.clone(), inner).prop_map(|(one, other)| format!("[{one},{other},{one}]")),
        ]
    })
}

fn request() -> impl Strategy<Value = Request> {
    let urls = prop::sample::select(vec![
        "https://ferries.example/ports",
        "https://ferries.example/ports/SAL",
        "https://ferries.example/ports/7",
        "https://ferries.example/ports/7/items?page=2&code=SAL",
        "https://ferries.example/ports/8/items?filter[a]=b",
        "https://other.example/graphql",
        "https://ferries.example/",
        "https://ferries.example/a/{b}/c%20d",
    ]);
    prop_oneof![
        2 => prop::sample::select(vec!["ports", "a b", "sqlite_x", "\u{e9}"]).prop_map(Request::rule),
        3 => urls.prop_map(Request::get),
        1 => Just(Request::new("POST", "https://ferries.example/ports")),
    ]
}

/// How an unknown server writes what it has.
#[derive(Debug, Clone)]
struct Server {
    /// How members' names are put together: departs_at, departsAt, DepartsAt, departs-at.
    style: usize,
    /// Whether ids are numbers, texts, or now this and now that.
    ids: usize,
    id_name: &'static str,
    /// Around the sailings.
    wrapped: usize,
    /// Whether a vessel is nested or given by its id.
    bare: bool,
    ndjson: bool,
    sailings: Vec<Sailing>,
}

#[derive(Debug, Clone)]
struct Sailing {
    vessel: Option<usize>,
    from: usize,
    stops: Vec<usize>,
    late: Option<bool>,
    load: Option<u16>,
    delay: Option<i64>,
    seats: usize,
    lat: i8,
}

const PORTS: [(&str, &str); 5] = [
    ("SAL", "Saltmere Quay"),
    ("NOR", "Norrin Head"),
    ("EEL", "Eelgrass Bay"),
    ("WHI", "Whinsound"),
    ("TAR", "Tarn Isle"),
];
const VESSELS: [(&str, i64); 3] = [("Marram", 42), ("Lantern Jack", 18), ("Teal", 60)];

fn server() -> impl Strategy<Value = Server> {
    let sailing = (
        prop::option::weighted(0.8, 0..3_usize),
        0..5_usize,
        prop::collection::vec(0..5_usize, 0..3),
        any::<Option<bool>>(),
        any::<Option<u16>>(),
        any::<Option<i64>>(),
        0..4_usize,
        any::<i8>(),
    );
    let sailing = sailing.prop_map(|(vessel, from, stops, late, load, delay, seats, lat)| {
        Sailing { vessel, from, stops, late, load, delay, seats, lat }
    });
    let ids = prop::sample::select(vec!["id", "_id", "sailingId", "uuid"]);
    (
        0..4_usize,
        0..3_usize,
        ids,
        0..5_usize,
        any::<bool>(),
        any::<bool>(),
        prop::collection::vec(sailing, 3..12),
    )
        .prop_map(|(style, ids, id_name, wrapped, bare, ndjson, mut sailings)| {
            // One port alone would be too little to see that it is a thing.
            (sailings[0].from, sailings[1].from) = (0, 1);
            Server { style, ids, id_name, wrapped, bare, ndjson: ndjson && wrapped == 0, sailings }
        })
}

impl Server {
    fn name(&self, snake: &str) -> String {
        let capital = |word: &str| word[..1].to_uppercase() + &word[1..];
        let mut words = snake.split('_');
        let first = words.next().unwrap_or_default();
        let rest: Vec<String> = words.map(capital).collect();
        match self.style {
            0 => snake.to_owned(),
            1 => first.to_owned() + &rest.concat(),
            2 => capital(first) + &rest.concat(),
            _ => snake.replace('_', "-"),
        }
    }

    fn id(&self, number: usize) -> Value {
        match (self.ids, number % 2) {
            (0, _) | (2, 0) => json!(number),
            _ => json!(number.to_string()),
        }
    }

    fn object<'m>(&self, members: impl IntoIterator<Item = (&'m str, Value)>) -> Value {
        Value::Object(members.into_iter().map(|(name, value)| (self.name(name), value)).collect())
    }

    fn port(&self, number: usize) -> Value {
        let (code, name) = PORTS[number];
        self.object([("code", json!(code)), ("full_name", json!(name)), ("open", json!(true))])
    }

    fn vessel(&self, number: usize) -> Value {
        let (name, cars) = VESSELS[number];
        let id = json!(name.to_lowercase());
        self.object([("id", id), ("name", json!(name)), ("cars_max", json!(cars))])
    }

    fn sailing(&self, number: usize) -> Value {
        let it = &self.sailings[number];
        let seat = |seat: usize| {
            self.object([
                ("seat", json!(format!("{seat}A"))),
                ("is_taken", json!((seat + number).is_multiple_of(2))),
            ])
        };
        let mut members = vec![
            ("departs_at", json!(format!("2031-05-04T{:02}:40:00+02:00", number + 1))),
            ("from", self.port(it.from)),
            ("stops", it.stops.iter().map(|stop| self.port(*stop)).collect()),
            ("is_late", json!(it.late)),
            ("load_share", json!(it.load.map(|load| f64::from(load) + 0.5))),
            ("seats", (0..it.seats).map(seat).collect()),
            ("place", self.object([("lat", json!(f64::from(it.lat) + 0.25))])),
        ];
        members.extend(it.delay.map(|delay| ("delay_min", json!(delay))));
        if self.bare {
            let id = it.vessel.map(|vessel| VESSELS[vessel].0.to_lowercase());
            members.push(("vessel_id", json!(id)));
        } else {
            members.push(("vessel", it.vessel.map_or(Value::Null, |vessel| self.vessel(vessel))));
        }
        let Value::Object(mut object) = self.object(members) else { unreachable!() };
        object.insert(self.id_name.to_owned(), self.id(number));
        Value::Object(object)
    }

    /// Two pages of departures, the fleet, one sailing and its bookings.
    fn samples(&self) -> Vec<(Request, String)> {
        let all = 0..self.sailings.len();
        let half = all.len() / 2;
        let page = |numbers: std::ops::Range<usize>| {
            let sailings: Vec<Value> = numbers.clone().map(|number| self.sailing(number)).collect();
            let lines = || sailings.iter().map(Value::to_string).collect::<Vec<_>>().join("\n");
            let list = Value::Array(sailings.clone());
            let name = self.name("sailings");
            match self.wrapped {
                _ if self.ndjson => lines(),
                0 => list.to_string(),
                1 => json!({ name: list, "total": 60, "next": null }).to_string(),
                2 => json!({ "data": { name: list }, "meta": { "total": 60 } }).to_string(),
                3 => {
                    let keyed: Map<String, Value> = numbers
                        .zip(&sailings)
                        .map(|(number, it)| (number.to_string(), it.clone()))
                        .collect();
                    json!({ name: keyed }).to_string()
                }
                _ => {
                    let edges: Vec<Value> =
                        sailings.iter().map(|it| json!({ "node": it, "cursor": "x" })).collect();
                    json!({ name: { "edges": edges } }).to_string()
                }
            }
        };
        let url = |path: &str| Request::get(format!("https://ferries.example/api/v2{path}"));
        let bookings = |sailing: usize| {
            let booking = |n: usize| json!({ "id": 9000 + sailing * 10 + n, "party": "Fen" });
            Value::Array((0..2).map(booking).collect()).to_string()
        };
        vec![
            (url("/departures?port=SAL&page=1"), page(0..half)),
            (url("/departures?port=SAL&page=2"), page(half..all.end)),
            (
                url("/fleet"),
                json!({ "vessels": (0..3).map(|n| self.vessel(n)).collect::<Vec<_>>() })
                    .to_string(),
            ),
            (url("/sailings/1"), self.sailing(1).to_string()),
            (url("/sailings/1/bookings"), bookings(1)),
            (url("/sailings/2/bookings"), bookings(2)),
        ]
    }
}

proptest! {
    #![proptest_config(config(600))]

    /// Any JSON as the answer to anything.
    #[test]
    fn any_json_has_a_schema_that_reads_it(samples in prop::collection::vec((request(), anything()), 1..5)) {
        propose(&samples)?;
    }

    /// Any JSON is added to the schema of any other, which goes on reading what it read.
    #[test]
    fn any_json_is_added_to_a_schema(
        first in prop::collection::vec((request(), anything()), 1..4),
        later in prop::collection::vec((request(), anything()), 1..4),
    ) {
        let samples = |all: &[(Request, String)]| {
            let mut samples = Samples::new();
            all.iter().for_each(|(request, body)| samples.add(request.clone(), body.as_str()).unwrap());
            samples
        };
        let before = samples(&first).propose().text().to_owned();
        let update = samples(&later).update("before", &before).unwrap();
        let after = update.text().to_owned();
        let read = |text: &str, (request, body): &(Request, String)| {
            let schema = Schema::parse("schema", text);
            let schema = schema.map_err(|error| TestCaseError::fail(format!("{error}\n{text}")))?;
            let checked = schema.check();
            prop_assert!(checked.is_ok(), "{:?}\n{}", checked, text);
            let read = Cache::new(schema).commit("read", |tx| tx.ingest(request.clone(), body));
            Ok(read.map(drop))
        };
        // Where rows were seen beside what was kept as json, other things may have stood before.
        let is_kept = |added: &str| !added.starts_with("rows of ");
        for sample in first.iter().filter(|_| update.added().all(is_kept)).chain(&later) {
            let (once, now) = (read(&before, sample)?, read(&after, sample)?);
            prop_assert!(once.is_err() || now.is_ok(), "{:?}\n{:?}\n{}\n{}", now, sample, before, after);
        }
        if update.against().count() == 0 && !update.account().contains("Not understood: ") {
            for sample in &later {
                let now = read(&after, sample)?;
                prop_assert!(now.is_ok(), "{:?}\n{:?}\n{}\n{}", now, sample, before, after);
            }
        }
        let again = samples(&later).update("after", &after).unwrap();
        prop_assert_eq!(again.added().collect::<Vec<_>>(), Vec::<&str>::new(), "{}\n{}", before, after);
    }

    /// Of a server that has sailings with their vessels, ports, seats and bookings, just these
    /// become tables, and each row holds what was said of it.
    #[test]
    fn what_a_server_has_is_found_again(server in server()) {
        let (text, cache) = propose(&server.samples())?;
        let snapshot = cache.snapshot();
        let count = |table: &str| snapshot.count(table).map_err(|error| TestCaseError::fail(format!("{error}\n{text}")));
        prop_assert_eq!(count("sailing")?, server.sailings.len(), "{}", text);
        prop_assert_eq!(count("vessel")?, 3, "{}", text);
        prop_assert_eq!(count("booking")?, 4, "{}", text);
        for (number, wanted) in server.sailings.iter().enumerate() {
            let id = match server.ids {
                1 => RowId::from(number.to_string()),
                _ => RowId::from(number as i64),
            };
            let row = snapshot.get("sailing", id).unwrap();
            let row = row.ok_or_else(|| TestCaseError::fail(format!("no sailing {number}\n{text}")))?;
            let tree: Value = serde_json::from_str(row.nested(1).as_str()).unwrap();
            let vessel = ["vessel", "vessel_id"].iter().find_map(|name| tree.get(*name)).unwrap();
            let reported = wanted.vessel.map_or(Value::Null, |vessel| json!(VESSELS[vessel].1));
            prop_assert_eq!(vessel.get("cars_max").cloned().unwrap_or(Value::Null), reported, "{}\n{}", tree, text);
            prop_assert_eq!(&tree["from"]["full_name"], PORTS[wanted.from].1, "{}\n{}", tree, text);
            let stops: Vec<Value> = tree["stops"].as_array().unwrap().iter().map(|port| port["code"].clone()).collect();
            let reported: Vec<Value> = wanted.stops.iter().map(|port| json!(PORTS[*port].0)).collect();
            prop_assert_eq!(stops, reported, "{}\n{}", tree, text);
            prop_assert_eq!(&tree["is_late"], &json!(wanted.late));
            prop_assert_eq!(tree["load_share"].as_f64(), wanted.load.map(|load| f64::from(load) + 0.5));
            prop_assert_eq!(tree.get("delay_min").and_then(Value::as_i64), wanted.delay);
            prop_assert_eq!(tree["place_lat"].as_f64(), Some(f64::from(wanted.lat) + 0.25));
            prop_assert_eq!(tree["seats"].as_array().map(Vec::len), Some(wanted.seats));
            // Seats that one sailing has alone are no rows: there is no evidence for an id.
            let seat = |name: &str| tree["seats"][1].get(name).cloned();
            let late = seat("is_taken").or_else(|| seat(&server.name("is_taken")));
            prop_assert_eq!(late, (wanted.seats > 1).then(|| json!((1 + number).is_multiple_of(2))), "{}\n{}", tree, text);
        }
        let of_second = cache.query("SELECT id FROM booking WHERE sailing = :of ORDER BY id", [("of", 2)]).unwrap();
        prop_assert_eq!(of_second.read().unwrap().len(), 2, "{}", text);
    }
}

fn samples(of: &[(&str, &str, Value)]) -> Vec<(Request, String)> {
    let request = |method: &str, url: &str| {
        Request::new(method.to_owned(), format!("https://ferries.example{url}"))
    };
    of.iter().map(|(method, url, body)| (request(method, url), body.to_string())).collect()
}

/// The proposal, which must have these lines, and the rows of some statements.
fn proposed(of: &[(Request, String)], lines: &[&str], rows: &[(&str, &[&str])]) {
    let (text, cache) = propose(of).unwrap();
    for line in lines {
        assert!(
            text.lines().any(|it| it.split('#').next().unwrap().trim() == *line),
            "{line}\n{text}"
        );
    }
    for (sql, wanted) in rows {
        let result =
            cache.query(sql, ()).unwrap_or_else(|error| panic!("{error}\n{text}")).read().unwrap();
        let reported = result.rows().map(|row| {
            let values = row
                .values()
                .iter()
                .map(|value| if value.is_null() { "NULL".to_owned() } else { value.to_string() });
            values.collect::<Vec<_>>().join(" ")
        });
        assert_eq!(reported.collect::<Vec<_>>(), *wanted, "{sql}\n{text}");
    }
}

/// What a request says that its answer does not; pages; what stands beside rows; objects by their
/// ids; links to one of several tables.
#[test]
fn requests_are_half_of_what_is_known() {
    let weather = |wind: f64| json!({ "wind": wind, "sky": "grey" });
    let seats =
        |first: bool| json!([{ "seat": "7A", "taken": first }, { "seat": "7B", "taken": !first }]);
    let about = |kind: &str, id: &str| json!({ "type": kind, "id": id, "label": id });
    let of = samples(&[
        (
            "GET",
            "/v1/ports",
            json!({ "ports": [{ "code": "SAL", "name": "Saltmere Quay" }, { "code": "NOR", "name": "Norrin Head" }] }),
        ),
        ("GET", "/v1/ports/SAL/weather", weather(3.5)),
        ("GET", "/v1/ports/NOR/weather", weather(2.25)),
        ("GET", "/v1/sailings/311", json!({ "id": 311, "from": "SAL", "fares": { "adult": 10 } })),
        ("GET", "/v1/sailings/311/seats", seats(true)),
        ("GET", "/v1/sailings/312/seats", seats(false)),
        (
            "GET",
            "/v1/news?cursor=a",
            json!({ "items": [{ "id": "e1", "subject": about("pier", "p1"), "sailing_id": 311 }], "next": "b", "alerts": [] }),
        ),
        (
            "GET",
            "/v1/news?cursor=b",
            json!({ "items": [{ "id": "e2", "subject": about("ship", "s1"), "sailing_id": 312 }], "next": null, "alerts": [] }),
        ),
        (
            "GET",
            "/v1/all",
            json!({ "ships": { "s1": about("ship", "s1"), "s2": about("ship", "s2"), "s3": about("ship", "s3") } }),
        ),
        (
            "GET",
            "/v1/linked",
            json!({ "piers": [about("pier", "p1")], "docks": [{ "id": 5, "deep": true }] }),
        ),
        ("POST", "/v1/sailings", json!({ "id": 313, "from": "NOR", "fares": null })),
        ("DELETE", "/v1/sailings/313", json!(null)),
    ]);
    let lines = [
        "url = \"/v1/ports/{port}/weather\"",
        "id = \"port\"",
        "id = [\"sailing\", \"seat\"]",
        "fields = { sailing = \":sailing\" }",
        "from = { to = \"port\" }",
        "fares_adult = { type = \"int\", from = \"/fares/adult\" }",
        "sailing_id = { to = \"sailing\" }",
        "subject = { to = { pier = \"pier\", ship = \"ship\" }, other_types = \"skip\" }",
        "part = \"cursor\"",
        "keyed_by_id = true",
        "alerts = \"json\"",
        "deletes = true",
    ];
    let rows: [(&str, &[&str]); 8] = [
        ("SELECT port, wind FROM weather", &["NOR 2.25", "SAL 3.5"]),
        (
            "SELECT sailing, seat, taken FROM seat",
            &["311 7A true", "311 7B false", "312 7A false", "312 7B true"],
        ),
        ("SELECT id, \"from\", fares_adult FROM sailing", &["311 SAL 10"]),
        ("SELECT id, subject, subject_type FROM news", &["e1 p1 pier", "e2 s1 ship"]),
        ("SELECT part, position, target FROM news_list ORDER BY part", &["a 0 e1", "b 0 e2"]),
        ("SELECT id FROM ship", &["s1", "s2", "s3"]),
        ("SELECT id FROM dock", &["5"]),
        ("SELECT next, alerts FROM news_page", &["NULL []"]),
    ];
    proposed(&of, &lines, &rows);
}

/// Documents and answers that name the types of their objects.
#[test]
fn named_types_are_tables() {
    let port = |code: &str| json!({ "type": "ports", "id": code });
    let document = json!({
        "data": [
            { "type": "sailings", "id": "311", "attributes": { "departs-at": "2031-05-04T09:40:00Z", "at": { "lat": 1.5 } },
              "relationships": { "stops": { "data": [port("SAL"), port("NOR")] }, "about": { "data": port("SAL") } } },
            { "type": "sailings", "id": "312", "attributes": { "departs-at": null, "at": { "lat": 2.5 } },
              "relationships": { "stops": { "data": [] }, "about": { "data": { "type": "vessels", "id": "teal" } } } }],
        "included": [{ "type": "ports", "id": "SAL", "attributes": { "name": "Saltmere Quay" } }],
        "meta": { "total": 2 },
    });
    proposed(
        &[(Request::rule("page"), document.to_string())],
        &[
            "format = \"json:api\"",
            "resource = \"sailings\"",
            "names = \"kebab-case\"",
            "stops = { to_many = \"port\" }",
            "about = { to = { ports = \"port\", vessels = \"vessel\" }, other_types = \"skip\" }",
        ],
        &[
            (
                "SELECT id, departs_at, at_lat, stops, about FROM sailing",
                &["311 2031-05-04T09:40:00.000000Z 1.5 2 SAL", "312 NULL 2.5 0 teal"],
            ),
            ("SELECT id, name FROM port", &["SAL Saltmere Quay"]),
            ("SELECT meta_total FROM page_page", &["2"]),
        ],
    );
    let answer = json!({
        "data": {
            "sailings": [
                { "__typename": "Sailing", "id": "311", "vessel": { "__typename": "Vessel", "id": "teal", "name": "Teal" }, "of": { "__typename": "Port", "code": "SAL" } },
                { "__typename": "Sailing", "id": "312", "vessel": null, "of": { "__typename": "Vessel", "id": "marram", "name": "Marram" } },
                null],
            "viewer": { "__typename": "User", "id": "7", "login": "fen" } },
        "errors": [{ "message": "gone", "path": ["sailings", 2] }, { "message": "no", "path": ["sailings", 1, "vessel"] }],
    });
    proposed(
        &[(Request::new("POST", "https://ferries.example/graphql"), answer.to_string())],
        &[
            "format = \"graphql\"",
            "records = \"/data/sailings\"",
            "beside.user = \"/data/viewer\"",
            "of = { to = { Port = \"port\", Vessel = \"vessel\" }, type_member = \"__typename\", other_types = \"skip\" }",
        ],
        &[
            ("SELECT id, vessel, \"of\" FROM sailing", &["311 teal SAL", "312 NULL marram"]),
            ("SELECT id, name FROM vessel", &["marram Marram", "teal Teal"]),
            ("SELECT login FROM user", &["fen"]),
        ],
    );
    // Ids that begin anew for each type belong to rows of several tables.
    let what = |number: usize| match number % 2 {
        0 => {
            json!({ "type": "Sailing", "id": number / 4, "line": "Dunlin", "delay_min": number / 4 })
        }
        _ => json!({ "type": "Port", "id": number / 4, "code": "SAL", "island": "Skerry" }),
    };
    let events = (0..24).map(|number| json!({ "id": number, "what": what(number) }));
    proposed(
        &samples(&[("GET", "/events", json!({ "events": events.collect::<Vec<_>>() }))]),
        &["what = { to = { Sailing = \"sailing\", Port = \"port\" }, other_types = \"skip\" }"],
        &[
            ("SELECT count(*), sum(delay_min) FROM sailing", &["6 15"]),
            ("SELECT count(*), min(island) FROM port", &["6 Skerry"]),
        ],
    );
}

/// A few records that are none, or have no id yet, do not make json of all others; they are left out,
/// and it is said. What would take a whole row with it is another matter.
#[test]
fn a_few_records_amiss_spoil_nothing() {
    let post = |id: usize| json!({ "id": id, "title": format!("t{id}"), "author": { "id": id % 3, "name": format!("n{}", id % 3) } });
    let posts = |amiss: &[Value]| {
        let all = (1..60).map(post).chain(amiss.iter().cloned());
        samples(&[("GET", "/v1/posts", json!({ "posts": all.collect::<Vec<_>>() }))])
    };
    let rows = [("SELECT count(*), count(author) FROM post", &["59 59"] as &[&str])];
    let unsaved = json!({ "title": "unsaved", "author": { "id": 1, "name": "n1" } });
    let lacks = json!({ "id": null, "title": "unsaved", "author": { "id": 1, "name": "n1" } });
    for (amiss, said) in [
        (vec![unsaved.clone()], "# 1 post has no id: left out"),
        (vec![unsaved.clone(), lacks], "# 2 posts have no id: left out"),
        (vec![Value::Null], "# 1 element is no post: left out"),
        (
            vec![json!("gone"), unsaved.clone()],
            "# 1 post has no id, 1 element is no post: left out",
        ),
    ] {
        let of = posts(&amiss);
        proposed(&of, &["on_error = \"skip\""], &rows);
        let mut samples = Samples::new();
        of.into_iter().for_each(|(request, body)| samples.add(request, body).unwrap());
        let proposal = samples.propose();
        assert!(proposal.text().contains(said), "{said}\n{}", proposal.text());
        let records = if amiss.len() == 1 { "1 record" } else { "2 records" };
        let left_out = format!("Left out: {records}, see `on_error`.");
        assert!(proposal.account().contains(&left_out), "{}", proposal.account());
    }
    // So it is with lines, and with what wraps each of many.
    let event = |id: usize| json!({ "id": id, "port": "SAL" }).to_string();
    let lines = (1..60).map(event).chain([json!({ "port": "NOR" }).to_string()]);
    let lines = lines.collect::<Vec<_>>().join("\n");
    let counted = [("SELECT count(*) FROM event", &["59"] as &[&str])];
    let of = [(Request::rule("events"), lines)];
    proposed(&of, &["on_error = \"skip\""], &counted);
    let (_, cache) = propose(&of).unwrap();
    let report = cache.commit("again", |tx| tx.ingest("events", &of[0].1)).unwrap();
    assert_eq!(report.ingested()[0].skipped[0].pointer, "line 60");
    let edge = |id: usize| json!({ "node": if id < 60 { post(id) } else { Value::Null } });
    let edges = json!({ "posts": { "edges": (1..=60).map(edge).collect::<Vec<_>>() } });
    proposed(&samples(&[("GET", "/v1/all", edges)]), &["record = \"/node\""], &rows);
    // More of them are no accident.
    let (text, _) = propose(&posts(&vec![unsaved; 9])).unwrap();
    assert!(!text.contains("on_error") && text.contains("posts = \"json\""), "{text}");
    // A link to what lacks an id would take its row along.
    let (text, cache) = propose(&samples(&[(
        "GET",
        "/v1/posts",
        json!({ "posts": (1..60).map(|id| match id {
        7 => json!({ "id": id, "title": "t7", "author": { "id": null, "name": "ghost" } }),
        _ => post(id),
    }).collect::<Vec<_>>() }),
    )]))
    .unwrap();
    assert!(!text.contains("on_error"), "{text}");
    assert_eq!(cache.snapshot().count("post").unwrap(), 59, "{text}");
}

/// One thing in several states is one row; what only looks like an id, or like a type, is none.
#[test]
fn ids_are_told_from_what_looks_like_one() {
    let lines = |of: &[Value]| of.iter().map(Value::to_string).collect::<Vec<_>>().join("\n");
    let run = |id: i64, status: &str| json!({ "run": { "id": id, "status": status } });
    let runs = [run(7, "queued"), run(7, "completed")];
    proposed(
        &[(Request::rule("runs"), lines(&runs))],
        &["id = \"id\""],
        &[("SELECT id, status FROM run", &["7 completed"])],
    );
    let state = |status: &str| json!({ "id": 7, "status": status });
    let of =
        samples(&[("GET", "/v1/runs", json!([state("queued"), state("held"), state("done")]))]);
    proposed(&of, &[], &[("SELECT id, status FROM run", &["7 done"])]);

    // Lines of orders are numbered anew in each.
    let order = |id: i64, of: &[&str]| {
        let line = |(n, part): (usize, &&str)| json!({ "id": n + 1, "part": part, "count": n + 2 });
        json!({ "id": id, "lines": of.iter().enumerate().map(line).collect::<Vec<_>>() })
    };
    let of = samples(&[(
        "GET",
        "/v1/orders",
        json!([order(31, &["mast", "pump"]), order(32, &["deck", "rope", "oar"])]),
    )]);
    proposed(
        &of,
        &["id = [\"orders\", \"id\"]"],
        &[("SELECT orders, id, part FROM line WHERE id = 2", &["31 2 pump", "32 2 rope"])],
    );

    // A member that one object has twice and another has not identifies neither.
    let mut of = samples(&[("POST", "/ports", json!({})), ("POST", "/ports", json!({}))]);
    of[1].1 = r#"{ "port_id": "SAL", "port_id": "SAL" }"#.to_owned();
    propose(&of).unwrap();

    // A ref that has another head elsewhere identifies nothing.
    let refs = |shift: i64| {
        let of = ["main", "fix", "spare", "tide"].iter().enumerate();
        of.map(|(n, name)| json!({ "ref": name, "head": { "at": n as i64 * 10 + shift, "note": format!("n{n}{shift}") } })).collect::<Value>()
    };
    let of = samples(&[
        ("GET", "/v1/teal/refs", refs(1)),
        ("GET", "/v1/kelp/refs", refs(2)),
        ("GET", "/v1/refs", refs(1)),
    ]);
    let (text, cache) = propose(&of).unwrap();
    assert!(cache.snapshot().count("ref").is_err(), "{text}");

    // What a gauge measures is not what it is.
    let gauge = |id: i64| json!({ "type": "Vessel", "id": id, "active": true, "every_min": 5, "events": ["rise"], "last": 2.5 });
    let vessel = |id: i64| json!({ "id": id, "name": format!("V{id}"), "full_name": format!("tern/V{id}"), "private": false });
    let of = samples(&[
        ("GET", "/v1/vessels", json!([vessel(1), vessel(2)])),
        ("GET", "/v1/gauges", json!([gauge(91), gauge(92)])),
    ]);
    proposed(
        &of,
        &[],
        &[
            ("SELECT id FROM vessel", &["1", "2"]),
            ("SELECT id, type FROM gauge", &["91 Vessel", "92 Vessel"]),
        ],
    );
}

/// Things without an id have a key that others refer to, or that is all of one form; it may lie in
/// what they consist of. Rows that name their tables are told apart by that.
#[test]
fn things_have_natural_keys() {
    let isle = |code: &str, next: &[&str]| json!({ "name": { "common": code.to_lowercase() }, "cca2": &code[..2], "cca3": code, "borders": next });
    let isles = json!([
        isle("SAL", &["NOR", "EEL"]),
        isle("NOR", &["SAL"]),
        isle("EEL", &["SAL", "WHI"]),
        isle("WHI", &["EEL"]),
        isle("TAR", &[]),
        isle("SKE", &[])
    ]);
    proposed(
        &[(Request::rule("isles"), isles.to_string())],
        &["id = \"cca3\""],
        &[("SELECT count(*), min(cca3) FROM isle", &["6 EEL"])],
    );

    let buoy = |code: &str, depth: f64| json!({ "type": "Feature", "properties": { "station": code, "depth_m": depth }, "geometry": { "type": "Point", "coordinates": [depth, 54.1] } });
    let of = |codes: [&str; 5]| {
        codes.iter().enumerate().map(|(n, code)| buoy(code, n as f64 + 0.5)).collect::<Vec<_>>()
    };
    let buoys = json!({ "type": "FeatureCollection", "features": of(["B001", "B002", "B003", "B004", "B005"]) });
    proposed(
        &[(Request::rule("buoys"), buoys.to_string())],
        &["id = \"station\""],
        &[("SELECT station, depth_m FROM feature ORDER BY 1 LIMIT 2", &["B001 0.5", "B002 1.5"])],
    );
    let light = |id: i64| json!({ "type": "Feature", "properties": { "id": id, "kind": "light" }, "geometry": null });
    let lights = json!({ "type": "FeatureCollection", "features": [light(4), light(9)] });
    proposed(
        &[(Request::rule("lights"), lights.to_string())],
        &["id = \"id\""],
        &[("SELECT id, kind FROM feature", &["4 light", "9 light"])],
    );

    let row =
        |model: &str, pk: i64, fields: Value| json!({ "model": model, "pk": pk, "fields": fields });
    let rows = json!([
        row("harbour.vessel", 1, json!({ "name": "Marram", "cars": 42 })),
        row("harbour.vessel", 2, json!({ "name": "Teal", "cars": 18 })),
        row("harbour.berth", 1, json!({ "vessel": 2, "length_m": 80.5 })),
        row("harbour.berth", 2, json!({ "vessel": 1, "length_m": 60.5 })),
    ]);
    proposed(
        &[(Request::rule("dump"), rows.to_string())],
        &["beside.vessel = { at = \"\", type = \"harbour.vessel\", type_member = \"model\" }"],
        &[
            ("SELECT pk, name FROM vessel", &["1 Marram", "2 Teal"]),
            (
                "SELECT b.pk, v.name FROM berth b JOIN vessel v ON v.pk = b.vessel",
                &["1 Teal", "2 Marram"],
            ),
        ],
    );
}

/// A size is no page, and a number in a URL is no id.
#[test]
fn urls_say_what_they_say() {
    let ticket = |id: i64, number: i64| json!({ "id": 90_000 + id, "number": number, "title": format!("T{id}") });
    let label = |id: i64| json!({ "id": 70_000 + id, "color": "ff0000" });
    let of = samples(&[
        ("GET", "/v1/tickets?per_page=2&page=1", json!([ticket(1, 1), ticket(2, 2)])),
        ("GET", "/v1/tickets?per_page=2&page=2", json!([ticket(3, 3)])),
        ("GET", "/v1/tickets/1/labels", json!([label(1)])),
        ("GET", "/v1/tickets/2/labels", json!([label(1), label(2)])),
    ]);
    proposed(
        &of,
        &[
            "url = \"/v1/tickets{?per_page,page}\"",
            "part = \"page\"",
            "next = \"page\"",
            "url = \"/v1/tickets/{ticket}/labels\"",
        ],
        &[
            ("SELECT per_page, part, position FROM tickets_list", &["2 1 0", "2 1 1", "2 2 0"]),
            ("SELECT id, color FROM label", &["70001 ff0000", "70002 ff0000"]),
        ],
    );

    // What stands around the records of one request is no row of its own, though it has the day of
    // another one.
    let calls = |ids: &[i64]| {
        let calls: Vec<Value> =
            ids.iter().map(|id| json!({ "id": id, "quay": format!("B{id}") })).collect();
        json!({ "day": "2031-05-04", "total": ids.len(), "notices": [{ "id": 5, "text": "fog" }], "calls": calls })
    };
    let of = samples(&[
        ("GET", "/v1/calls?port=SAL&page=1", calls(&[31, 32])),
        ("GET", "/v1/calls?port=SAL&page=2", calls(&[33, 34])),
        ("GET", "/v1/calls?port=NOR&page=1", calls(&[35])),
    ]);
    proposed(
        &of,
        &["records = \"/calls\"", "beside.notice = \"/notices\""],
        &[("SELECT count(*) FROM call", &["5"]), ("SELECT id FROM notice", &["5"])],
    );
}

/// What wraps rows inside of a row: entries that only say where they stand are a link; those that
/// say more are rows of their own.
#[test]
fn wrappers_inside_of_rows_are_links_or_rows() {
    let port = |code: &str| json!({ "id": code, "name": format!("{code} harbour") });
    let edge = |code: &str| json!({ "cursor": format!("c{code}"), "node": port(code) });
    let route = |id: i64, stops: &[&str]| json!({ "id": id, "stops": { "edges": stops.iter().map(|it| edge(it)).collect::<Vec<_>>(), "totalCount": stops.len() } });
    let of = samples(&[(
        "GET",
        "/v1/routes",
        json!([route(1, &["SAL", "NOR"]), route(2, &["EEL"]), route(3, &[])]),
    )]);
    proposed(
        &of,
        &[
            "stops = { to_many = \"stop\", record = \"/node\", from = \"/stops/edges\", fields = { cursor = \"text\" } }",
        ],
        &[
            ("SELECT id, stops, stops_total_count FROM route", &["1 2 2", "2 1 1", "3 0 0"]),
            ("SELECT owner, position, target FROM route_stops", &["1 0 SAL", "1 1 NOR", "2 0 EEL"]),
            ("SELECT count(*) FROM stop", &["3"]),
        ],
    );
    let member = |id: i64, role: &str| json!({ "role": role, "person": { "id": id, "name": format!("P{id}") } });
    let vessel = |id: i64, crew: Value| json!({ "id": id, "name": format!("V{id}"), "crew": crew });
    let of = samples(&[(
        "GET",
        "/v1/vessels",
        json!([
            vessel(1, json!([member(5, "lead"), member(6, "hand")])),
            vessel(2, json!([member(6, "lead"), member(7, "hand"), member(5, "hand")])),
        ]),
    )]);
    proposed(
        &of,
        &["crew = { to_many = \"person\", record = \"/person\", fields = { role = \"text\" } }"],
        &[
            (
                "SELECT owner, target, role FROM vessel_crew WHERE role = 'lead'",
                &["1 5 lead", "2 6 lead"],
            ),
            (
                "SELECT v.id, p.name FROM vessel v JOIN vessel_crew c ON c.owner = v.id JOIN person p ON p.id = c.target WHERE v.id = 1",
                &["1 P5", "1 P6"],
            ),
        ],
    );
}

/// Adds to a schema, and gives what came of it.
fn updated(before: &str, of: &[(Request, String)]) -> Proposal {
    let mut samples = Samples::new();
    of.iter().for_each(|(request, body)| samples.add(request.clone(), body.as_str()).unwrap());
    let update = samples.update("ours.toml", before).unwrap();
    Schema::parse("updated", update.text()).unwrap().check().unwrap();
    update
}

/// A schema is added to in the form in which it is written.
#[test]
fn a_schema_keeps_its_form() {
    let sailing = json!({ "id": 311, "departsAt": "2031-05-04T09:40:00Z", "quayNo": 2, "vessel": { "id": "marram", "cars": 42 } });
    let of = samples(&[("GET", "/sailings/311", sailing)]);
    let forms = [
        (
            "table.sailing = { id = \"id\", names = \"camelCase\", fields = { id = \"int\", departs_at = \"timestamp\" } }\n\
             response.sailing = { url = \"/sailings/{id}\", table = \"sailing\" } # one",
            "table.sailing = { id = \"id\", names = \"camelCase\", fields = { id = \"int\", departs_at = \"timestamp\", quay_no = \"int\", vessel = { to = \"vessel\" } } }\n\
             response.sailing = { url = \"/sailings/{id}\", table = \"sailing\" } # one\n\n\
             # Added by `backwater infer` from 1 response.\n\n\
             [table.vessel] # 1 object: GET /sailings/{} at /vessel\n",
        ),
        (
            "# Ours.\r\n[table.Sailing]\r\nid = \"no\"\r\n[table.Sailing.fields]\r\nno = { type = \"int\", from = \"id\" }   # as they say\r\n\
             departs = { type = \"timestamp\", from = \"departsAt\" }\r\n\r\n# One.\r\n[response.one]\r\nurl = \"/sailings/{no}\"\r\ntable = \"Sailing\"\r\n",
            "departs = { type = \"timestamp\", from = \"departsAt\" }\r\n\
             quay_no = { type = \"int\", from = \"quayNo\" } # 1 object\r\n\
             vessel = { to = \"vessel\" }                  # 1 object\r\n\r\n# One.\r\n[response.one]\r\n",
        ),
        (
            "table = { sailing = { id = \"id\", fields = { id = \"int\" } } }\n[response]\none = { url = \"/sailings/{id}\", table = \"sailing\" }\n",
            "departs_at = { type = \"timestamp\", from = \"departsAt\" }, quay_no = { type = \"int\", from = \"quayNo\" }, vessel = { to = \"vessel\" } } }, vessel = { id",
        ),
    ];
    for (before, wanted) in forms {
        let update = updated(before, &of);
        assert!(update.text().contains(wanted), "{wanted}\n{}", update.text());
        assert_eq!(update.against().count(), 0);
        let added: Vec<&str> = update.added().collect();
        assert_eq!(
            added.len(),
            if added.iter().any(|it| it.ends_with("departs_at")) { 4 } else { 3 }
        );
    }
}

/// What a person decided stays so: ids of several parts, names, what was commented out. What speaks
/// against it is said.
#[test]
fn a_schema_is_believed_as_far_as_it_goes() {
    let before = r#"
[table.leg]
id = ["sailing", "no"]
[table.leg.fields]
sailing = { to = "trip" }
no = "int"
# mood = "text"

[table.trip]
id = "id"
[table.trip.fields]
id = "int"
state = { type = "text", values = ["late", "on time"] }
crossing = "text"

[response.trips]
url = "/trips"
records = "/trips"
table = "trip"

[response.legs]
url = "/trips/{sailing}/legs"
table = "leg"
fields = { sailing = ":sailing" }

# [response.tides]
# url = "/tides"
"#;
    let trip = |id: i64, state: &str| json!({ "id": id, "state": state });
    let trips: Vec<Value> = (1..8).map(|id| trip(id, "late")).collect();
    let of = samples(&[
        (
            "GET",
            "/trips",
            json!({ "trips": trips, "notices": [{ "id": 5, "text": "fog" }, { "id": 6, "text": "ice" }] }),
        ),
        ("GET", "/trips?day=2", json!({ "trips": [trip(9, "lost")] })),
        (
            "GET",
            "/trips/1/legs",
            json!([{ "no": 1, "mood": "calm", "to": "NOR" }, { "no": 2, "mood": "rough", "to": "EEL" }]),
        ),
        ("GET", "/trips/1/legs/2", json!({ "no": 2, "mood": "rough", "to": "EEL" })),
        ("GET", "/tides", json!({ "high": 3.5 })),
    ]);
    let update = updated(before, &of);
    let text = update.text();
    let added: Vec<&str> = update.added().collect();
    let against: Vec<&str> = update.against().collect();
    let lost = "response.trips refuses GET https://ferries.example/trips?day=2: /trips/0/state: ";
    assert!(matches!(&*against, [only] if only.starts_with(lost)), "{against:?}");
    assert!(text.contains("url = \"/trips{?day}\""), "{text}");
    let wanted = ["field leg.to", "rows of notice in rule trips", "table notice", "rule leg"];
    assert!(wanted.iter().all(|it| added.contains(it)), "{added:?}\n{text}");
    assert!(
        !added.iter().any(|it| it.contains("mood") || it.contains("tides")),
        "{added:?}\n{text}"
    );
    // The new rule gives the whole id from its URL.
    let leg = &text[text.find("[response.leg] ").unwrap()..];
    assert!(leg.contains("url = \"/trips/{trip}/legs/{leg}\""), "{text}");
    assert!(leg.contains("fields = { sailing = \":trip\" }"), "{text}");
    assert!(update.account().contains("In no response: trip.crossing."), "{}", update.account());

    // A URL that only lacks a variable of the query gets it, but for a list, or for what is complete.
    // A response that is wrong does not keep a rule from reading the others.
    let before = r#"
[table.call]
id = "id"
fields = { id = "int", quay = "text" }

[response.calls]
url = "/calls{?port}" # by port
records = "/calls"
table = "call"

[response.all]
url = "/all"
records = "/calls"
table = "call"
complete = true
"#;
    let call = |id: i64, quay: Value| json!({ "id": id, "quay": quay });
    let of = samples(&[
        ("GET", "/calls?port=SAL&page=1", json!({ "calls": [call(1, json!("B1"))] })),
        ("GET", "/calls?day=2", json!({ "calls": [call(2, json!("B2"))] })),
        ("GET", "/all?page=1", json!({ "calls": [call(3, json!("A1"))] })),
        ("GET", "/all?page=2", json!({ "calls": [call(4, json!(7))] })),
        ("GET", "/all?page=3", json!({ "calls": [call(5, json!("A2"))] })),
    ]);
    let update = updated(before, &of);
    let text = update.text();
    assert!(text.contains("url = \"/calls{?port,page,day}\" # by port\n"), "{text}");
    assert!(text.contains("url = \"/all\"\nrecords = \"/calls\"\n"), "{text}");
    let added: Vec<&str> = update.added().collect();
    assert_eq!(added, ["variables page, day in the URL of rule calls", "rule all_2"], "{text}");
    let against: Vec<&str> = update.against().collect();
    assert!(
        matches!(&*against, [only] if only.starts_with("response.all_2 refuses GET https://ferries.example/all?page=2: /calls/0/quay: ")),
        "{against:?}"
    );

    // What was only ever empty may be kept as json by a rule that reads less than a new one.
    let before = r#"
[table.quay_calls]
one_row = true
fields = { answer = "json" }

[response.quay_calls]
url = "/quays/B9/calls{?day}"
beside.quay_calls = { answer = "" }
"#;
    let urls = ["A1", "B1", "B2", "C1"].map(|quay| format!("/quays/{quay}/calls"));
    let calls =
        urls.iter().zip(1..).map(|(url, id)| ("GET", &**url, json!([call(id, json!("B1"))])));
    let of = samples(&calls.collect::<Vec<_>>());
    let update = updated(before, &of);
    let against: Vec<&str> = update.against().collect();
    let wanted = "response.quay_calls keeps as json what response.calls reads as rows of call";
    assert_eq!(against, [wanted], "{}", update.text());

    // Resources of JSON:API and objects of GraphQL are known by their types.
    let before = r#"
[table.quay]
id = "id"
resource = "ports"
[table.quay.fields]
id = "text"
name = "text"

[response.page]
format = "json:api"
table = "quay"
"#;
    let port = |code: &str| json!({ "type": "ports", "id": code, "attributes": { "name": code, "berths": 2 }, "relationships": { "next": { "data": { "type": "ports", "id": "NOR" } } } });
    let page = json!({ "data": [port("SAL"), port("NOR")] });
    let of = [(Request::rule("page"), page.to_string())];
    let update = updated(before, &of);
    assert_eq!(update.added().collect::<Vec<_>>(), ["field quay.berths", "field quay.next"]);
    assert!(update.text().contains("next = { to = \"quay\" }"), "{}", update.text());
}

/// What new responses hold may be of two tables of a schema: these stay two, each thing goes where
/// most of its kind are, and what both hold is said.
#[test]
fn tables_that_new_responses_hold_both_stay_two() {
    let before = r#"
[table.person]
id = "id"
fields = { id = "int", login = "text", picture = "text" }

[table.yard]
id = "id"
fields = { id = "int", login = "text", picture = "text", about = "text" }

[response.people]
url = "/people"
table = "person"

[response.yard]
url = "/yards/{login}"
table = "yard"
"#;
    let one = |id: i64| json!({ "id": id, "login": format!("l{id}"), "picture": format!("https://pictures.example/{id}.png") });
    let yard = |id: i64| {
        let mut yard = one(id);
        yard["about"] = json!(format!("Yard {id}"));
        yard
    };
    let mut of = samples(&[
        ("GET", "/people", (1..5).map(one).collect()),
        ("GET", "/yards/l91", yard(91)),
        ("GET", "/yards/l92", yard(92)),
    ]);
    of.extend([1, 2, 91, 3, 92, 4, 1, 2].into_iter().enumerate().map(|(event, sender)| {
        let event =
            json!({ "event": event, "sender": one(sender), "at": yard(91 + event as i64 % 2) });
        (Request::rule("landed"), event.to_string())
    }));
    let update = updated(before, &of);
    let against: Vec<&str> = update.against().collect();
    assert_eq!(
        against,
        ["tables person and yard hold the same: 2 things in both"],
        "{}",
        update.text()
    );
    let added: Vec<&str> = update.added().collect();
    assert!(!added.iter().any(|it| it.starts_with("field ")), "{added:?}\n{}", update.text());

    // Objects with just the members of a table are its rows if the table is called like them, and
    // something more; things of another name are others.
    let renamed = before.replace("yard]", "our_yard]").replace("\"yard\"", "\"our_yard\"");
    for (called, wanted) in [("yards", "our_yard"), ("buoys", "buoy")] {
        let body = json!({ "id": 3, called: [yard(8), yard(9)] });
        let update = updated(&renamed, &samples(&[("GET", "/ferries/3", body)]));
        let link = format!("{called} = {{ to_many = \"{wanted}\" }}");
        assert!(update.text().contains(&link), "{link}\n{}", update.text());
    }
}

/// What servers of several styles answer: links and embedded resources, a catalogue of open data, a
/// connection of GraphQL, a feed of events.
#[test]
fn apis_of_several_styles() {
    let href = |at: String| json!({ "href": at });
    let berth = |id: i64, vessel: Option<i64>| {
        let mut berth = json!({ "id": id, "length": 60.5, "_links": { "self": href(format!("/berths/{id}")), "pier": href(format!("/piers/{id}")) } });
        if let Some(vessel) = vessel {
            berth["_embedded"] =
                json!({ "vessel": { "id": vessel, "name": format!("V{vessel}") } });
        }
        berth
    };
    let page = |number: i64, berths: Value, next: Value| json!({ "_links": { "next": next }, "_embedded": { "berths": berths }, "page": { "number": number, "size": 2, "totalElements": 3 } });
    let of = samples(&[
        (
            "GET",
            "/berths?page=1&size=2",
            page(
                1,
                json!([berth(11, Some(5)), berth(12, None)]),
                href("/berths?page=2&size=2".to_owned()),
            ),
        ),
        ("GET", "/berths?page=2&size=2", page(2, json!([berth(13, Some(6))]), json!(null))),
        ("GET", "/berths/11", berth(11, Some(5))),
        ("GET", "/vessels/5", json!({ "id": 5, "name": "V5", "crew": 4 })),
    ]);
    proposed(
        &of,
        &[
            "records = \"/_embedded/berths\"",
            "vessel = { to = \"vessel\", from = \"/_embedded/vessel\" }",
            "links_pier_href = { type = \"text\", from = \"/_links/pier/href\" }",
            "url = \"/berths{?page,size}\"",
            "part = \"page\"",
        ],
        &[
            ("SELECT id, vessel FROM berth", &["11 5", "12 NULL", "13 6"]),
            ("SELECT id, name, crew FROM vessel", &["5 V5 4", "6 V6 NULL"]),
            ("SELECT part, position, target FROM berths_list", &["1 0 11", "1 1 12", "2 0 13"]),
        ],
    );

    let column = |id: &str| json!({ "id": id, "type": "text" });
    let tide = |n: i64| json!({ "_id": n, "station": format!("ST{n}"), "level_cm": 100 + n });
    let found = |first: i64, tides: Value| {
        let columns = [column("_id"), column("station"), column("level_cm")];
        json!({ "success": true, "result": { "fields": columns, "records": tides, "total": 4, "offset": first } })
    };
    let of = samples(&[
        ("GET", "/tides/search?limit=2&offset=0", found(0, json!([tide(1), tide(2)]))),
        ("GET", "/tides/search?limit=2&offset=2", found(2, json!([tide(3), tide(4)]))),
    ]);
    proposed(
        &of,
        &[
            "records = \"/result/records\"",
            "id = { type = \"int\", from = \"_id\" }",
            "next = \"offset\"",
            "beside.field = \"/result/fields\"",
        ],
        &[
            ("SELECT count(*), max(level_cm) FROM tide", &["4 104"]),
            ("SELECT count(*) FROM field", &["3"]),
        ],
    );

    let edge = |n: i64| {
        json!({ "cursor": format!("c{n}"), "node": { "id": format!("T{n}"), "title": format!("t{n}"),
            "labels": { "nodes": [{ "id": "L1", "name": "pump" }], "totalCount": 1 } } })
    };
    let harbour = |edges: Value| {
        json!({ "data": { "harbour": { "id": "H1", "name": "Saltmere",
            "tickets": { "edges": edges, "pageInfo": { "hasNextPage": false } } } } })
    };
    let of = samples(&[("POST", "/graphql", harbour(json!([edge(1), edge(2)])))]);
    proposed(
        &of,
        &[
            "records = \"/data/harbour\"",
            "tickets = { to_many = \"ticket\", record = \"/node\", from = \"/tickets/edges\", fields = { cursor = \"text\" } }",
            "labels = { to_many = \"label\", from = \"/labels/nodes\" }",
        ],
        &[("SELECT target FROM harbour_tickets", &["T1", "T2"])],
    );

    let told = |n: i64, kind: &str, payload: Value| {
        let at = format!("2031-05-04T09:4{n}:00Z");
        json!({ "id": format!("e{n}"), "type": kind, "created_at": at, "actor": { "id": 7, "login": "fen" }, "payload": payload })
    };
    let ticket = |state: &str| json!({ "action": state, "ticket": { "id": 81, "title": "pump", "state": state } });
    let lines = [
        told(1, "Landed", json!({ "ref": "main" })),
        told(2, "TicketChanged", ticket("opened")),
        told(3, "Landed", json!({ "ref": "fix" })),
        told(4, "TicketChanged", ticket("closed")),
    ];
    proposed(
        &[(Request::rule("feed"), lines.map(|line| line.to_string()).join("\n"))],
        &[
            "format = \"ndjson\"",
            "payload_ticket = { to = \"ticket\", from = \"/payload/ticket\" }",
        ],
        &[
            (
                "SELECT id, payload_ref, payload_ticket FROM feed WHERE type = 'Landed'",
                &["e1 main NULL", "e3 fix NULL"],
            ),
            ("SELECT id, state FROM ticket", &["81 closed"]),
        ],
    );
}
