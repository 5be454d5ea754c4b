//! Response rules: how a response is recognised, where its records are, and what becomes of the
//! rows that it does not have.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, BTreeSet};

use backwater::{Cache, ErrorKind, Report, Request, Schema, Value};
use proptest::prelude::*;
use serde_json::json;

const SCHEMA: &str = r#"
    [table.sailing]
    id = "id"
    tombstone = "gone"
    fields = { id = "int", port = { to = "port" }, status = { type = "text", values = ["on time", "late"] }, delay = "int", vessel = { to = "vessel", on_delete = "restrict" } }

    [table.port]
    id = "code"
    fields = { code = "text", name = "text" }

    [table.vessel]
    id = "id"
    fields = { id = "text", name = "text" }

    [table.seat]
    id = ["sailing", "seat"]
    fields = { sailing = { to = "sailing" }, seat = "text", taken = "bool" }

    [table.page]
    one_row = true
    fields = { total = "int", next = "text" }

    [response.departures]
    url = "/departures{?port,page}"
    records = "/data/edges"
    record = "/node"
    table = "sailing"
    fields = { port = ":port" }
    list = { name = "departure_list", on_delete = "cascade" }
    part = "page"
    on_error = "skip"
    beside.page = { total = "/total", next = "/paging/next" }

    [response.in_port]
    url = "/ports/{port}/sailings"
    table = "sailing"
    fields = { port = ":port" }
    complete = { port = ":port" }
    on_error = "skip"

    [response.ports]
    url = "/ports"
    records = "/ports"
    keyed_by_id = true
    table = "port"
    complete = true

    [response.vessels]
    url = "/vessels"
    table = "vessel"
    complete = true

    [response.sailing]
    url = "/sailings/{id}"
    table = "sailing"
    fields = { id = ":id" }

    [response.seats]
    url = "/sailings/{sailing}/seats"
    table = "seat"
    fields = { sailing = ":sailing", taken = false }

    [response.cancel]
    method = "DELETE"
    url = "/sailings/{id}"
    table = "sailing"
    fields = { id = ":id" }
    deletes = true
"#;

fn cache() -> Cache {
    Cache::new(Schema::parse("rules.toml", SCHEMA).unwrap())
}

fn get(cache: &Cache, url: &str, response: impl ToString) -> Result<Report, backwater::Error> {
    let response = response.to_string();
    Ok(cache.commit(url, |tx| tx.ingest(Request::get(url), &response))?.report)
}

fn rows(cache: &Cache, sql: &str) -> Vec<String> {
    let result = cache.query(sql, ()).unwrap().read().unwrap();
    let reported = |row: &[Value]| row.iter().map(Value::to_string).collect::<Vec<_>>().join(" ");
    result.rows().map(|row| reported(row.values())).collect()
}

/// What a commit of the model test does.
#[derive(Debug, Clone)]
enum Step {
    /// A page of a port's departures, with the sailings on it, and whether each is a good record.
    Page(u8, u8, Vec<(u8, bool)>),
    /// All sailings of a port; a bad record may lack even its id.
    InPort(u8, Vec<(u8, bool, bool)>),
    Delete(u8),
}

fn step() -> impl Strategy<Value = Step> {
    let on_page = (0..12_u8, prop::bool::weighted(0.85));
    let in_port = (0..12_u8, prop::bool::weighted(0.85), prop::bool::weighted(0.8));
    prop_oneof![
        3 => (0..2_u8, 0..3_u8, prop::collection::vec(on_page, 0..6)).prop_map(|(port, page, ids)| Step::Page(port, page, ids)),
        2 => (0..2_u8, prop::collection::vec(in_port, 0..6)).prop_map(|(port, ids)| Step::InPort(port, ids)),
        1 => (0..12_u8).prop_map(Step::Delete),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Pages replace their part of a list, a row met again leaves the old part, and a complete
    /// response takes away what it does not have.
    #[test]
    fn lists_and_complete_responses_equal_a_model(steps in prop::collection::vec(step(), 1..14)) {
        let cache = cache();
        // Port of each sailing; and of each list its entries: sailing to page and position.
        let mut sailings: BTreeMap<u8, Option<u8>> = BTreeMap::new();
        let mut lists: BTreeMap<u8, BTreeMap<u8, (u8, usize)>> = BTreeMap::new();
        for step in steps {
            match step {
                Step::Page(port, page, ids) => {
                    let edges = ids.iter().map(|(id, good)| json!({ "node": { "id": id, "status": if *good { "late" } else { "early" } } }));
                    let edges: Vec<_> = edges.collect();
                    let url = format!("/departures?port=P{port}&page={page}");
                    let report = get(&cache, &url, json!({ "data": { "edges": edges }, "total": ids.len() })).unwrap();
                    prop_assert_eq!(report.ingested()[0].skipped.len(), ids.iter().filter(|(_, good)| !good).count());
                    for (id, _) in ids.iter().filter(|(_, good)| *good) {
                        sailings.insert(*id, Some(port));
                    }
                    let list = lists.entry(port).or_default();
                    list.retain(|_, (of, _)| *of != page);
                    let mut met = BTreeSet::new();
                    for (position, (id, _)) in ids.iter().enumerate() {
                        // A bad record's row keeps its place if it is there.
                        if sailings.contains_key(id) && met.insert(*id) {
                            list.insert(*id, (page, position));
                        }
                    }
                }
                Step::InPort(port, ids) => {
                    let records = ids.iter().map(|(id, good, has_id)| match (good, has_id) {
                        (true, _) => json!({ "id": id, "delay": 3 }),
                        (_, true) => json!({ "delay": "much", "id": id.to_string() }),
                        _ => json!({ "delay": 3 }),
                    });
                    let records: Vec<_> = records.collect();
                    get(&cache, &format!("/ports/P{port}/sailings"), json!(records)).unwrap();
                    for (id, ..) in ids.iter().filter(|(_, good, _)| *good) {
                        sailings.insert(*id, Some(port));
                    }
                    if ids.iter().all(|(_, good, has_id)| *good || *has_id) {
                        sailings.retain(|id, of| *of != Some(port) || ids.iter().any(|(seen, ..)| seen == id));
                    }
                }
                Step::Delete(id) => {
                    let request = Request::new("DELETE", format!("https://ferries.example/sailings/{id}"));
                    let report = cache.commit("cancelled", |tx| tx.ingest(request, "")).unwrap();
                    let deleted = report.ingested()[0].tables[0].deleted;
                    prop_assert_eq!(deleted == 1, sailings.remove(&id).is_some());
                }
            }
            // What is gone leaves the lists.
            lists.values_mut().for_each(|list| list.retain(|id, _| sailings.contains_key(id)));
            let wanted: Vec<String> = sailings.iter().map(|(id, port)| format!("{id} P{}", port.unwrap())).collect();
            prop_assert_eq!(rows(&cache, "SELECT id, port FROM sailing"), wanted);
            let listed = lists.iter().flat_map(|(port, list)| list.iter().map(move |(id, (page, at))| (port, page, at, id)));
            let mut listed: Vec<_> = listed.collect();
            listed.sort();
            let listed: Vec<String> = listed.iter().map(|(port, page, at, id)| format!("P{port} {page} {at} {id}")).collect();
            prop_assert_eq!(rows(&cache, "SELECT port, part, position, target FROM departure_list ORDER BY port, part, position"), listed);
        }
    }
}

#[test]
fn records_are_found_wherever_they_are() {
    let cache = cache();
    get(&cache, "/ports", r#"{"ports": {"SAL": {"name": "Saltmere Quay"}, "EEL": {"code": "EEL", "name": "Eelgrass Bay"}}}"#).unwrap();
    assert_eq!(
        rows(&cache, "SELECT code, name FROM port"),
        ["EEL Eelgrass Bay", "SAL Saltmere Quay"]
    );
    get(&cache, "/ports", r#"{"ports": {"SAL": {}}}"#).unwrap();
    assert_eq!(rows(&cache, "SELECT code FROM port"), ["SAL"]);
    get(&cache, "/ports", r#"{"ports": null}"#).unwrap();
    assert_eq!(rows(&cache, "SELECT code FROM port"), Vec::<String>::new());

    get(&cache, "/sailings/311", r#"{"status": "late"}"#).unwrap();
    get(&cache, "/sailings/311/seats", r#"[{"seat": "7A"}, {"seat": "7B", "taken": true}]"#)
        .unwrap();
    assert_eq!(
        rows(&cache, "SELECT sailing, seat, taken FROM seat"),
        ["311 7A false", "311 7B true"]
    );

    let page = json!({ "data": { "edges": [] }, "paging": { "next": "c7" }, "total": 60 });
    get(&cache, "/departures", &page).unwrap_err(); // no port: the rule needs it
    get(&cache, "/departures?port=SAL", &page).unwrap();
    assert_eq!(rows(&cache, "SELECT total, next FROM page"), ["60 c7"]);
    get(
        &cache,
        "/departures?port=SAL",
        json!({ "data": { "edges": [] }, "paging": null, "total": null }),
    )
    .unwrap();
    assert_eq!(rows(&cache, "SELECT total, next FROM page"), ["NULL c7"]);

    let report = get(&cache, "/sailings/311", r#"{"gone": true, "status": "on time"}"#).unwrap();
    assert_eq!(report.ingested()[0].tables[0].deleted, 1);
    assert_eq!(rows(&cache, "SELECT id FROM sailing"), Vec::<String>::new());
    get(&cache, "/sailings/311", r#"{"gone": false}"#).unwrap();
    assert_eq!(rows(&cache, "SELECT id, status FROM sailing"), ["311 NULL"]);
}

/// Rows of several tables side by side in one response, none of which has to be there.
#[test]
fn rows_may_stand_beside_the_records() {
    let schema = r#"
        table.sailing = { id = "id", fields = { id = "int", vessel = { to = "vessel" } } }
        table.vessel = { id = "id", fields = { id = "text", name = { type = "text", required = true } } }
        table.page = { one_row = true, fields = { total = "int" } }
        [response.day]
        records = "/sailings"
        table = "sailing"
        beside = { page = { total = "/total" }, vessel = "/linked/vessels" }
        [response.any]
        format = "graphql"
        beside = { sailing = "/data/sailings", vessel = "/data/vessel" }
    "#;
    let cache = Cache::new(Schema::parse("s.toml", schema).unwrap());
    let ingest = |rule: &str, body: &str| cache.commit(rule, |tx| tx.ingest(rule, body));
    let body = r#"{"linked": {"vessels": [{"id": "marram", "name": "Marram"}, {"id": "teal"}]},
        "sailings": [{"id": 1, "vessel": "marram"}], "total": 1}"#;
    let report = ingest("day", body).unwrap();
    assert_eq!(report.ingested()[0].rows(), 4);
    ingest("day", r#"{"sailings": []}"#).unwrap();
    ingest("any", r#"{"data": {"vessel": {"id": "marram", "name": "Marram II"}}}"#).unwrap();
    let untold = r#"{"data": {"sailings": [{"id": 2}, null], "vessel": null}, "errors": [{"message": "no", "path": ["sailings", 1]}]}"#;
    ingest("any", untold).unwrap();
    assert_eq!(rows(&cache, "SELECT id, vessel FROM sailing"), ["1 marram", "2 NULL"]);
    assert_eq!(rows(&cache, "SELECT id, name FROM vessel"), ["marram Marram II", "teal NULL"]);
    let wrong = [
        (
            r#"{"sailings": [], "linked": {"vessels": ["teal"]}}"#,
            "/linked/vessels/0: found string \"teal\", expected a \"vessel\" object, or an array of them",
        ),
        (
            r#"{"sailings": [], "linked": {"vessels": [{"id": "x", "name": null}]}}"#,
            "/linked/vessels/0/name: found null",
        ),
    ];
    for (body, wanted) in wrong {
        let error = ingest("day", body).unwrap_err().to_string();
        assert!(error.contains(wanted), "{error}");
    }
    assert_eq!(cache.snapshot().count("vessel").unwrap(), 2);
}

#[test]
fn what_does_not_fit_its_rule_says_so() {
    let cache = cache();
    cache
        .commit("a vessel", |tx| {
            tx.insert("vessel", [("id", "marram")])?;
            tx.insert("sailing", [("id", Value::from(9)), ("vessel", "marram".into())])
        })
        .unwrap();
    let before = cache.snapshot().commit();
    let cases = [
        (
            "/nowhere",
            "[]",
            ErrorKind::UnknownName,
            "there is no response rule for GET /nowhere; the rules are for GET /departures{?port,page}",
        ),
        (
            "/sailings/x",
            "{}",
            ErrorKind::Type,
            "rule \"sailing\", variable \"id\": found text (x), expected int",
        ),
        (
            "/departures?port=SAL&page=two",
            "{}",
            ErrorKind::Type,
            "variable \"page\": found text (two), expected int",
        ),
        (
            "/departures?port=SAL",
            r#"{"data": {"edges": 7}}"#,
            ErrorKind::Response,
            "/data/edges: found integer `7`, expected \"sailing\" records",
        ),
        (
            "/departures?port=SAL",
            r#"{"data": {}}"#,
            ErrorKind::Response,
            "/data: found no member \"edges\"",
        ),
        (
            "/vessels",
            "[]",
            ErrorKind::Row,
            "vessel marram cannot be deleted: sailing 9 points at it",
        ),
        (
            "/ports",
            r#"{"ports": {"SAL": 3}}"#,
            ErrorKind::Response,
            "/ports/SAL: found integer `3`, expected a \"port\" object",
        ),
        (
            "/departures?port=SAL",
            r#"{"data": {"edges": [{"node": {"id": 1}}, {"node": {"id": 2"#,
            ErrorKind::Response,
            "/data/edges/1/node: it ends in the middle of a value",
        ),
    ];
    for (url, response, kind, wanted) in cases {
        let error = get(&cache, url, response).unwrap_err();
        assert_eq!(
            (error.kind(), error.to_string().contains(wanted)),
            (kind, true),
            "{error}\nshould say: {wanted}"
        );
    }
    assert_eq!(cache.snapshot().commit(), before, "nothing of these is left");

    let report = get(
        &cache,
        "/departures?port=SAL",
        r#"{"data": {"edges": [{"node": {"id": 1, "status": "early"}}, {"node": {"id": 2}}, {"edge": 0}, 4, {"node": {"id": 3, "vessel": {"id": "x", "name": 7}}}]}}"#,
    );
    let report = report.unwrap();
    let skipped: Vec<_> = report.ingested()[0]
        .skipped
        .iter()
        .map(|it| format!("{}: {}", it.pointer, it.problem))
        .collect();
    assert_eq!(
        skipped,
        [
            "/data/edges/0/node/status: found string \"early\", expected \"on time\" or \"late\"",
            "/data/edges/2: found no \"node\" inside, expected the \"sailing\" record there",
            "/data/edges/3: found no \"node\" inside, expected the \"sailing\" record there",
            "/data/edges/4/node/vessel/name: found integer `7`, expected text",
        ]
    );
    assert_eq!(rows(&cache, "SELECT id FROM sailing WHERE port = 'SAL'"), ["2"]);
    assert_eq!(
        rows(&cache, "SELECT id FROM vessel"),
        ["marram"],
        "nor what was inside of a bad record"
    );

    let unknown = Request::rule("sailing").var("idd", "1");
    let error = cache.commit("", |tx| tx.ingest(unknown, "{}")).unwrap_err();
    assert!(
        error
            .to_string()
            .contains("rule \"sailing\" has no variable \"idd\"; did you mean \"id\"?"),
        "{error}"
    );
    let other = Request::get("/ports").read_by("sailing");
    let error = cache.commit("", |tx| tx.ingest(other, "{}")).unwrap_err();
    assert!(error.to_string().contains("/ports is not of the form /sailings/{id}"), "{error}");
}

/// A response to an older request: what was changed since it began stays, deletes and lists of
/// links too, and what was not is taken.
#[test]
fn what_was_changed_since_the_request_began_stays() {
    let cache = cache();
    get(
        &cache,
        "/ports/SAL/sailings",
        r#"[{"id": 1, "delay": 0}, {"id": 2, "delay": 0}, {"id": 3, "delay": 0}]"#,
    )
    .unwrap();
    let began = cache.snapshot().commit();
    cache
        .commit("meanwhile", |tx| {
            tx.update("sailing", 1, [("delay", 5)])?;
            tx.delete("sailing", 2)?;
            tx.insert("sailing", [("id", Value::from(4)), ("port", "SAL".into())])
        })
        .unwrap();
    let answer = r#"[{"id": 1, "delay": 1, "status": "late"}, {"id": 2, "delay": 1}]"#;
    let request = Request::get("/ports/SAL/sailings").began_at(began);
    let report = cache.commit("an old answer", |tx| tx.ingest(request, answer)).unwrap();
    // 3 is not in the answer and goes; 4 came after it was asked for.
    assert_eq!(rows(&cache, "SELECT id, delay, status FROM sailing"), ["1 5 late", "4 NULL NULL"]);
    assert_eq!(report.ingested()[0].kept, 3);

    // Longer ago than is remembered: only what is absent is filled.
    for turn in 0..1100 {
        cache.commit("time passes", |tx| tx.merge("port", [("code", format!("P{turn}"))])).unwrap();
    }
    let request = Request::rule("sailing").var("id", "4").began_at(began);
    let answer = r#"{"port": {"code": "EEL"}, "delay": 7}"#;
    cache.commit("a very old answer", |tx| tx.ingest(request, answer)).unwrap();
    assert_eq!(rows(&cache, "SELECT port, delay FROM sailing WHERE id = 4"), ["SAL 7"]);
}

/// A link to one of several tables and the field that says to which stay together, also where the
/// one that was written since points at the same table as before.
#[test]
fn a_link_and_its_type_stay_together() {
    let schema = r#"
        table.port = { id = "code", fields = { code = "text" } }
        table.note = { id = "id", fields = { id = "int", about = { to = ["port", "note"] } } }
        response.notes = { table = "note" }
    "#;
    let cache = Cache::new(Schema::parse("notes.toml", schema).unwrap());
    let say = |about: &str| {
        let said = [("about", Value::from(about)), ("about_type", "port".into())];
        cache.commit("said", |tx| tx.update("note", 1, said)).unwrap()
    };
    cache.commit("written", |tx| tx.ingest("notes", r#"[{ "id": 1 }, { "id": 2 }]"#)).unwrap();
    say("SAL");
    let began = cache.snapshot().commit();
    say("EEL");
    let answer = r#"[{ "id": 1, "about": 2, "about_type": "note" }]"#;
    let request = Request::rule("notes").began_at(began);
    cache.commit("an old answer", |tx| tx.ingest(request, answer)).unwrap();
    assert_eq!(rows(&cache, "SELECT about, about_type FROM note WHERE id = 1"), ["EEL port"]);
    let request = Request::rule("notes").began_at(cache.snapshot().commit());
    cache.commit("a new answer", |tx| tx.ingest(request, answer)).unwrap();
    assert_eq!(rows(&cache, "SELECT about, about_type FROM note WHERE id = 1"), ["2 note"]);
}

#[test]
fn limits_can_be_set() {
    let nested = |depth: usize| {
        format!("{}null{}", r#"{"id": 1, "mate": "#.repeat(depth), "}".repeat(depth))
    };
    let with = |limits: &str| {
        Cache::new(Schema::parse("s.toml", &format!("{limits}\ntable.v = {{ id = 'id', fields = {{ id = 'int', mate = {{ to = 'v' }} }} }}\nresponse.v.table = 'v'")).unwrap())
    };
    let read = |limits: &str, depth: usize| {
        with(limits).commit("read", |tx| tx.ingest("v", nested(depth))).map(|_| ())
    };
    read("", 127).unwrap();
    assert!(read("", 128).unwrap_err().to_string().contains("nested deeper than 127 levels"));
    read("limits = { depth = 500 }", 500).unwrap();
    assert!(
        read("limits.depth = 3", 4)
            .unwrap_err()
            .to_string()
            .contains("nested deeper than 3 levels")
    );
    assert!(
        read("limits.bytes = 40", 4)
            .unwrap_err()
            .to_string()
            .contains("it has 80 bytes, at most 40 are allowed")
    );
    let error = Schema::parse("s.toml", "limits.depth = 501").unwrap_err();
    assert_eq!(
        error.to_string(),
        "s.toml:1:16: found an integer, expected a whole number from 1 to 500"
    );
}

/// A schema for a server that has grown for years.
const GROWN: &str = r#"
    [table.yard]
    id = "id"
    fields = { id = "int", login = "text" }

    [table.person]
    id = "id"
    fields = { id = "int", login = "text" }

    [table.vessel]
    id = "id"
    [table.vessel.fields]
    id = "int"
    title = { type = "text", from = ["full_name", "/names/full", "name"] }
    seen = { type = "timestamp", unit = "seconds" }
    built = { type = "timestamp", unit = "milliseconds" }
    owner = { to = { Yard = "yard", Person = "person" }, other_types = "skip" }
    crew = { to_many = { Yard = "yard", Person = "person" }, other_types = "skip" }
    guests = { to_many = "person", record = "/who" }
    maker = { to = { Yard = "yard" }, other_types = { to = "thing" } }
    parts = { to_many = { Yard = "yard" }, other_types = { to = "thing" } }

    [table.thing]
    id = "id"
    fields = { id = "int", type = "text", login = "text" }

    [table.berth]
    id = ["vessel", "name"]
    fields = { vessel = { to = "vessel" }, name = "text", length = "float", role = "text" }

    [response.vessel]
    url = ["/vessels/{id}", "/v2/vessels/{id}", "/fleet/{id}{?deep}"]
    method = ["GET", "PUT"]
    table = "vessel"

    [response.berths]
    records = "/places"
    record = "/berth"
    table = "berth"
    fields = { vessel = { from = "/vessel/id" }, role = { beside = "/role" } }
    on_error = "skip"
    beside.vessel = "/vessel"

    [response.told]
    format = "ndjson"
    records = "/vessel"
    table = "vessel"
    deletes = { "/action" = ["deleted", "sunk"] }
    on_error = "skip"
    beside.yard = { at = "/sender", type = "Yard" }
    beside.person = [{ at = "/sender", type = "Person" }, "/by"]
"#;

/// Fields stand outside of records, records are deleted by what is said beside them, rows of several
/// tables stand in one place, and what has no place is counted.
#[test]
fn what_is_said_around_a_record_counts() {
    let cache = Cache::new(Schema::parse("grown.toml", GROWN).unwrap());
    let read = |rule: &str, response: String| {
        let report = cache.commit(rule, |tx| tx.ingest(rule, &response)).unwrap().report;
        let ingested = report.ingested()[0].clone();
        let unplaced: Vec<String> = ingested.unplaced.iter().map(ToString::to_string).collect();
        let skipped: Vec<String> =
            ingested.skipped.iter().map(|it| format!("{}: {}", it.pointer, it.problem)).collect();
        (unplaced.join(", "), skipped.join(", "))
    };
    let berth = |name: &str, length: serde_json::Value| json!({ "role": "guest", "cursor": name, "berth": { "name": name, "length": length } });
    let berths = json!({
        "places": [berth("A", json!(80.5)), berth("B", json!("long")), { "berth": { "name": "C", "depth": 4, "colour": null } }],
        "day": "2031-05-04", "vessel": { "id": 7, "full_name": "Teal" },
    });
    let (unplaced, skipped) = read("berths", berths.to_string());
    assert_eq!(unplaced, "1 at /day, 1 at /places/*/cursor, 1 at /depth of berth");
    assert_eq!(skipped, "/places/1/berth/length: found string \"long\", expected float");
    assert_eq!(
        rows(
            &cache,
            "SELECT b.vessel, v.title, b.name, b.length, b.role FROM berth b JOIN vessel v ON v.id = b.vessel"
        ),
        ["7 Teal A 80.5 guest", "7 Teal C NULL NULL"]
    );
    let lost = cache.commit("", |tx| tx.ingest("berths", r#"{ "places": [] }"#));
    let lost = lost.unwrap_err().to_string();
    assert!(
        lost.starts_with(
            "/vessel/id: found no such member, expected the \"vessel\" of the records"
        ),
        "{lost}"
    );

    let told = |action: &str, id: i64, sender: serde_json::Value| {
        json!({ "action": action, "vessel": { "id": id, "full_name": format!("V{id}") }, "sender": sender }).to_string()
    };
    let sender =
        |kind: &str, id: i64| json!({ "type": kind, "id": id, "login": format!("{kind}{id}") });
    let lines = [
        told("seen", 1, sender("Yard", 5)),
        told("seen", 2, json!([sender("Person", 5), sender("Robot", 6), { "id": 9 }])),
        told("sunk", 7, sender("Person", 8)),
        json!({ "vessel": { "id": 3 }, "sender": { "type": "Yard", "id": "x" }, "by": [{ "id": 11 }, { "id": [] }, 12] }).to_string(),
    ];
    let (unplaced, skipped) = read("told", lines.join("\n"));
    assert_eq!(unplaced, "2 at /sender");
    assert_eq!(
        skipped,
        "line 4: /by/1/id: found an array, expected int, \
         line 4: /by/2: found integer `12`, expected a \"person\" object, or an array of them, \
         line 4: /sender/id: found string \"x\", expected an id of type int"
    );
    assert_eq!(rows(&cache, "SELECT id FROM vessel"), ["1", "2", "3"]);
    assert_eq!(rows(&cache, "SELECT id, login FROM yard"), ["5 Yard5"]);
    assert_eq!(rows(&cache, "SELECT id FROM person"), ["5", "8", "11"]);

    // A link leaves out what it cannot point at, and says so.
    let owned = |kind: &str, crew: &[&str]| {
        let crew: Vec<_> = crew.iter().map(|kind| sender(kind, 21)).collect();
        json!({ "id": 1, "owner": sender(kind, 20), "crew": crew }).to_string()
    };
    for (method, url) in [
        ("GET", "/vessels/1"),
        ("PUT", "https://a.example/v2/vessels/1"),
        ("GET", "/fleet/1?deep=1"),
    ] {
        let ask = |kind: &str, crew: &[&str]| {
            let request = Request::new(method, url);
            cache.commit(url, |tx| tx.ingest(request, owned(kind, crew))).unwrap().report
        };
        ask("Yard", &["Person", "Yard"]);
        assert_eq!(
            rows(&cache, "SELECT owner, owner_type, crew FROM vessel WHERE id = 1"),
            ["20 Yard 2"]
        );
        let report = ask("Robot", &["Robot", "Yard"]);
        assert_eq!(
            rows(&cache, "SELECT owner, owner_type, crew FROM vessel WHERE id = 1"),
            ["NULL NULL 1"]
        );
        assert_eq!(report.ingested()[0].unplaced.iter().map(|it| it.values).sum::<usize>(), 2);
    }
    // Or there is a table for what is of any other type.
    for maker in [sender("Robot", 40), json!(40)] {
        let body = json!({ "id": 1, "maker_type": "Robot", "maker": maker, "parts": [sender("Yard", 5), sender("Loom", 41)] });
        cache.commit("", |tx| tx.ingest(Request::get("/vessels/1"), body.to_string())).unwrap();
        assert_eq!(rows(&cache, "SELECT maker, maker_type FROM vessel WHERE id = 1"), ["40 thing"]);
        assert_eq!(
            rows(&cache, "SELECT target, target_type FROM vessel_parts"),
            ["5 Yard", "41 thing"]
        );
    }
    assert_eq!(rows(&cache, "SELECT id, type FROM thing"), ["40 Robot", "41 Loom"]);
    // Entries have their targets inside.
    let guests = |of: serde_json::Value| {
        let body = json!({ "id": 1, "guests": of }).to_string();
        cache
            .commit("guests", |tx| tx.ingest(Request::get("/vessels/1"), body))
            .map(|done| done.report)
    };
    let report =
        guests(json!([{ "who": { "id": 31, "login": "fen" }, "cursor": "a" }, { "who": 32 }]))
            .unwrap();
    assert_eq!(report.ingested()[0].unplaced[0].to_string(), "1 at /cursor of vessel_guests");
    assert_eq!(rows(&cache, "SELECT position, target FROM vessel_guests"), ["0 31", "1 32"]);
    let refused = guests(json!([{ "who": 31 }, { "whom": 32 }])).unwrap_err().to_string();
    assert!(
        refused.starts_with(
            "/guests/1: found an object, expected an object with the target at \"who\""
        ),
        "{refused}"
    );
    let refused = guests(json!([{ "who": { "id": "x" } }])).unwrap_err().to_string();
    assert!(refused.starts_with("/guests/0/who/id: found string \"x\""), "{refused}");
    assert_eq!(rows(&cache, "SELECT position, target FROM vessel_guests"), ["0 31", "1 32"]);

    // A deletion says only which row it is of, whatever is required.
    let strict = GROWN.replace("title = {", "title = { required = true,");
    let strict = Cache::new(Schema::parse("strict.toml", &strict).unwrap());
    let whole = r#"{ "id": 1, "name": "V1" }"#;
    strict.commit("", |tx| tx.ingest(Request::get("/vessels/1"), whole)).unwrap();
    for (action, left) in [("seen", 1), ("sunk", 0)] {
        let told = format!(r#"{{ "action": "{action}", "vessel": {{ "id": 1 }} }}"#);
        let report = strict.commit("", |tx| tx.ingest("told", told)).unwrap().report;
        assert_eq!(report.ingested()[0].skipped.len(), left, "what is no deletion lacks a title");
        assert_eq!(strict.snapshot().count("vessel").unwrap(), left);
    }

    let unknown = cache.schema().rule_for("POST", "/vessels/1").unwrap_err().to_string();
    assert!(unknown.contains("GET /v2/vessels/{id}"), "{unknown}");
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Of several places of a field the first one counts that is there, in whatever order they come;
    /// times are counted in their unit, or written as always.
    #[test]
    fn a_field_has_several_places_and_a_time_a_unit(
        there in prop::collection::vec((0..4_usize, prop::option::of("[a-z]{1,3}")), 0..5),
        seconds in -60_000_000_000_i64..200_000_000_000,
        style in 0..4_usize,
    ) {
        let mut members = vec![("id", json!(1))];
        // A number and a time as they may be written.
        let second = match style {
            0 => json!(seconds),
            1 => json!(seconds as f64),
            2 => json!(seconds.to_string()),
            _ => json!(backwater::Timestamp::from_micros(seconds * 1_000_000).unwrap().to_string()),
        };
        members.push(("seen", second));
        members.push(("built", json!(seconds * 1000 + 7)));
        let names = ["full_name", "names", "name", "other"];
        let mut first: Option<(usize, Option<String>)> = None;
        let mut met = BTreeSet::new();
        for (place, value) in there {
            if !met.insert(place) {
                continue;
            }
            members.push((names[place], if place == 1 { json!({ "full": value, "short": "s" }) } else { json!(value) }));
            if place < 3 && first.as_ref().is_none_or(|(best, _)| place < *best) {
                first = Some((place, value));
            }
        }
        let text: Vec<String> = members.iter().map(|(name, value)| format!("\"{name}\":{value}")).collect();
        let cache = Cache::new(Schema::parse("grown.toml", GROWN).unwrap());
        cache.commit("", |tx| tx.ingest(Request::get("/vessels/1"), format!("{{{}}}", text.join(",")))).unwrap();
        let snapshot = cache.snapshot();
        let row = snapshot.get("vessel", 1).unwrap().unwrap();
        let title = row.get("title").unwrap().map(|value| value.as_str().map(str::to_owned));
        prop_assert_eq!(title, first.map(|(_, value)| value));
        let micros = |field: &str| match row.get(field).unwrap() {
            Some(Value::Timestamp(time)) => time.as_micros(),
            other => panic!("{other:?}"),
        };
        prop_assert_eq!(micros("seen"), seconds * 1_000_000);
        prop_assert_eq!(micros("built"), seconds * 1_000_000 + 7000);
    }
}
