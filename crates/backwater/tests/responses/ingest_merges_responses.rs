//! A response becomes rows, merged field by field, all of it or nothing.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;

use backwater::{Cache, ErrorKind, Schema, Snapshot, Timestamp, Value};
use proptest::prelude::*;
use serde_json::{Map, Value as Json, json};

const SCHEMA: &str = r#"
    [table.sailing]
    id = "id"
    fields = { id = "int", vessel = { to = "vessel" }, next = { to = "sailing" }, at = "timestamp", late = "bool", load = "float", extra = "json" }

    [table.vessel]
    id = "name"
    fields = { name = "text", cars = "int", last = { to = "sailing" } }

    [response.page]
    records = "/data/items"
    table = "sailing"
"#;

type Model = BTreeMap<(String, String), BTreeMap<String, Json>>;

fn cache() -> Cache {
    Cache::new(Schema::parse("test.toml", SCHEMA).unwrap())
}

/// Which table a link of a table points at.
fn target(table: &str, field: &str) -> Option<&'static str> {
    match (table, field) {
        ("sailing", "vessel") => Some("vessel"),
        ("sailing", "next") | ("vessel", "last") => Some("sailing"),
        _ => None,
    }
}

fn id_field(table: &str) -> &'static str {
    if table == "sailing" { "id" } else { "name" }
}

/// A value of a field; the same for the same row and `turn`, and null for some.
fn value(table: &str, id: u8, field: &str, turn: u8) -> Json {
    let seed = usize::from(id) * 7 + field.len() * 3 + usize::from(turn);
    match field {
        _ if seed.is_multiple_of(5) => Json::Null,
        "at" => json!(format!("2031-05-{:02}T07:{:02}:00+02:00", 1 + seed % 28, seed % 60)),
        "late" => json!(seed.is_multiple_of(2)),
        "load" => json!(seed as f64 / 4.0),
        "extra" => json!({ "deck": [seed, "a b"] }),
        "cars" => json!(seed),
        _ => json!({ "ignored": table }),
    }
}

/// A nested object: which row, which fields, and what its links hold.
#[derive(Debug, Clone)]
struct Object {
    id: u8,
    fields: Vec<&'static str>,
    turn: u8,
    links: Vec<(&'static str, Option<Object>)>,
}

fn object() -> BoxedStrategy<Object> {
    // Few kinds of objects, so that the same text comes again, with others of the row in between.
    let kinds: Vec<Vec<&'static str>> = vec![
        vec!["at", "late", "load", "extra", "cars", "unknown"],
        vec!["at", "extra", "cars"],
        vec!["late"],
        vec![],
    ];
    let leaf = (0..4_u8, prop::sample::select(kinds), 0..3_u8)
        .prop_map(|(id, fields, turn)| Object { id, fields, turn, links: Vec::new() });
    leaf.prop_recursive(4, 24, 3, |inner| {
        let link =
            (prop::sample::select(vec!["vessel", "next", "last"]), prop::option::of(inner.clone()));
        (inner, prop::collection::vec(link, 0..3))
            .prop_map(|(object, links)| Object { links, ..object })
    })
    .boxed()
}

impl Object {
    /// The object as JSON; with `steady`, the same row has the same values wherever it is met.
    fn json(&self, table: &str, steady: bool) -> Json {
        let mut out = Map::new();
        let turn = if steady { 0 } else { self.turn };
        for field in &self.fields {
            out.insert((*field).to_owned(), value(table, self.id, field, turn));
        }
        for (link, object) in &self.links {
            let Some(to) = target(table, link) else { continue };
            // Where a row points is part of the row: a steady one points at one place only.
            let object = object
                .clone()
                .map(|object| if steady { Object { id: self.id / 2, ..object } } else { object });
            let held = object.map_or(Json::Null, |object| object.json(to, steady));
            if !(steady && held.is_null()) {
                out.insert((*link).to_owned(), held);
            }
        }
        let id = if table == "sailing" { json!(self.id) } else { json!(format!("v{}", self.id)) };
        out.insert(id_field(table).to_owned(), id);
        Json::Object(out)
    }
}

/// The slow, obvious way: walk the tree, and let what is met later win.
fn merge(model: &mut Model, table: &str, object: &Json) -> Json {
    let object = object.as_object().unwrap();
    let mut row = BTreeMap::new();
    for (name, held) in object {
        let held = match target(table, name) {
            Some(to) if held.is_object() => merge(model, to, held),
            _ => held.clone(),
        };
        row.insert(name.clone(), held);
    }
    let id = object[id_field(table)].clone();
    model.entry((table.to_owned(), id.to_string())).or_default().extend(row);
    id
}

fn plain(value: &Value) -> Json {
    match value {
        Value::Null => Json::Null,
        Value::Bool(flag) => json!(flag),
        Value::Int(number) => json!(number),
        Value::Float(number) => json!(number),
        Value::Text(text) => json!(**text),
        Value::Timestamp(time) => json!(time.to_string()),
        Value::Json(json) => serde_json::from_str(json.as_str()).unwrap(),
    }
}

/// A value of a response in the form in which a row gives it back.
fn coerced(field: &str, value: &Json) -> Json {
    match (field, value) {
        ("at", Json::String(text)) => json!(text.parse::<Timestamp>().unwrap().to_string()),
        ("load", number) if number.is_number() => json!(number.as_f64()),
        _ => value.clone(),
    }
}

fn known(table: &str, field: &str) -> bool {
    match table {
        "sailing" => ["id", "vessel", "next", "at", "late", "load", "extra"].contains(&field),
        _ => ["name", "cars", "last"].contains(&field),
    }
}

/// Everything that the tables hold, in the model's form.
fn dump(snapshot: &Snapshot) -> Model {
    let mut out = Model::new();
    for table in ["sailing", "vessel"] {
        for row in snapshot.rows(table).unwrap() {
            let fields = row.fields().map(|(name, value)| (name.to_owned(), plain(&value)));
            let id = plain(&row.id().unwrap().into()).to_string();
            out.insert((table.to_owned(), id), fields.collect());
        }
    }
    out
}

/// The response again, read back from the rows by their links.
fn nest(snapshot: &Snapshot, table: &str, object: &Json) -> Json {
    let id = &object[id_field(table)];
    let row = match id.as_i64() {
        Some(id) => snapshot.get(table, id),
        None => snapshot.get(table, id.as_str().unwrap()),
    };
    let row = row.unwrap().unwrap();
    let members = object.as_object().unwrap().iter().filter(|(name, _)| known(table, name)).map(
        |(name, held)| {
            let back = match target(table, name) {
                Some(to) if held.is_object() => {
                    let linked = row.follow(name).unwrap().unwrap();
                    let inner = nest(snapshot, to, held);
                    assert_eq!(plain(&linked.id().unwrap().into()), inner[id_field(to)]);
                    inner
                }
                _ => plain(&row.get(name).unwrap().unwrap()),
            };
            (name.clone(), back)
        },
    );
    Json::Object(members.collect())
}

/// What a response should come back as: without what the schema ignores, in stored form.
fn expected(table: &str, object: &Json) -> Json {
    let members = object.as_object().unwrap().iter().filter(|(name, _)| known(table, name));
    let members = members.map(|(name, held)| match target(table, name) {
        Some(to) if held.is_object() => (name.clone(), expected(to, held)),
        _ => (name.clone(), coerced(name, held)),
    });
    Json::Object(members.collect())
}

fn response(objects: &[Object], steady: bool) -> Json {
    json!({ "total": 3, "data": { "items": objects.iter().map(|o| o.json("sailing", steady)).collect::<Vec<_>>() } })
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn rows_are_what_a_walk_of_the_tree_merges(pages in prop::collection::vec(prop::collection::vec(object(), 0..40), 1..4)) {
        let (cache, mut model) = (cache(), Model::new());
        for page in &pages {
            let response = response(page, false);
            response["data"]["items"].as_array().unwrap().iter().for_each(|object| { merge(&mut model, "sailing", object); });
            let report = cache.commit("page loaded", |tx| tx.ingest("page", response.to_string())).unwrap();
            let touched = report.ingested()[0].tables.iter().map(|table| table.inserted + table.updated).sum::<usize>();
            prop_assert_eq!(report.changes().count(), touched);
            let again = cache.commit("page loaded again", |tx| tx.ingest("page", serde_json::to_vec_pretty(&response).unwrap()));
            if page.len() < 2 && page.iter().all(|object| object.links.is_empty()) {
                prop_assert_eq!(again.unwrap().changes().count(), 0);
            }
        }
        let wanted: Model = model.into_iter().map(|((table, id), row)| {
            let row = row.iter().filter(|(name, _)| known(&table, name)).map(|(name, held)| (name.clone(), coerced(name, held)));
            ((table.clone(), id), row.collect())
        }).collect();
        prop_assert_eq!(dump(&cache.snapshot()), wanted);
    }

    #[test]
    fn nested_again_by_its_links_a_response_comes_back(page in prop::collection::vec(object(), 0..40)) {
        let (cache, response) = (cache(), response(&page, true));
        cache.commit("page loaded", |tx| tx.ingest("page", response.to_string())).unwrap();
        let snapshot = cache.snapshot();
        for object in response["data"]["items"].as_array().unwrap() {
            prop_assert_eq!(nest(&snapshot, "sailing", object), expected("sailing", object));
        }
        let again = cache.commit("page loaded again", |tx| tx.ingest("page", response.to_string())).unwrap();
        prop_assert_eq!(again.changes().count(), 0);
    }

    /// Anything at all, and a real response with bytes changed or cut off: an error that leaves
    /// nothing behind, or rows.
    #[test]
    fn hard_input_is_refused_whole_or_taken_whole(
        noise in prop::collection::vec(any::<u8>(), 0..60),
        at in 0..28_000_usize,
        cut in any::<bool>(),
    ) {
        let departures = include_bytes!("../../../../demo/responses/departures.json");
        let schema = Schema::parse("backwater.toml", include_str!("../../../../demo/backwater.toml")).unwrap();
        let mut broken = departures.to_vec();
        if cut {
            broken.truncate(at);
        } else {
            broken.splice(at..(at + noise.len()).min(departures.len()), noise.iter().copied());
        }
        for input in [noise, broken] {
            let cache = Cache::new(schema.clone());
            match cache.commit("departures loaded", |tx| tx.ingest("departures", &input)) {
                Ok(report) => prop_assert_eq!(report.ingested()[0].bytes, input.len()),
                Err(error) => {
                    prop_assert_eq!(error.kind(), ErrorKind::Response);
                    prop_assert!(!error.place().is_empty() || error.to_string().contains("UTF-8"));
                    let rows: usize = cache.snapshot().tables().iter().map(|table| table.rows).sum();
                    prop_assert_eq!(rows, 1, "only the one-row table's row");
                }
            }
        }
    }
}

/// The error for each kind of bad response: where, what was found, what was expected.
#[test]
fn errors_name_the_place_what_was_found_and_what_was_expected() {
    let item = |item: &str| format!(r#"{{"data": {{"items": [{{"id": 1}}, {item}]}}}}"#);
    let deep = r#"{"id": 1, "next": "#.repeat(100_000);
    let cases = [
        (
            item(r#"{"id": 2, "at": "soon"}"#),
            "/data/items/1/at: found string \"soon\", expected a time of RFC 3339",
        ),
        (item(r#"{"id": 2, "late": 1}"#), "/data/items/1/late: found integer `1`, expected bool"),
        (
            item(r#"{"id": 2, "load": "x"}"#),
            "/data/items/1/load: found string \"x\", expected float",
        ),
        (
            item(r#"{"id": 9223372036854775808}"#),
            "/data/items/1/id: found integer `9223372036854775808`, expected a whole number of 64 bits",
        ),
        (
            item(r#"{"id": 2, "load": 1e999}"#),
            "/data/items/1/load: it is not JSON at line 1 column",
        ),
        (
            item(r#"{"id": "two"}"#),
            "/data/items/1/id: found string \"two\", expected an id of type int",
        ),
        (
            item(r#"{"at": null}"#),
            "/data/items/1: found no such member \"id\", expected the id of a \"sailing\" object",
        ),
        (
            item(r#"{"id": null}"#),
            "/data/items/1/id: found null, expected the id of a \"sailing\" object",
        ),
        (item("7"), "/data/items/1: found integer `7`, expected a \"sailing\" object"),
        (
            item(r#"{"id": 2, "vessel": true}"#),
            "/data/items/1/vessel: found boolean `true`, expected a \"vessel\" object, its id, or null",
        ),
        (
            item(r#"{"id": 2, "vessel": {"cars": 4}}"#),
            "/data/items/1/vessel: found no such member \"name\", expected the id of a \"vessel\" object",
        ),
        (
            item(r#"{"id": 2, "vessel": {"name": "a\u0000b"}}"#),
            "/data/items/1/vessel/name: this text holds U+0000",
        ),
        (
            item(r#"{"id": 2, "vessel": {"name": "\ud800"}}"#),
            "/data/items/1/vessel/name: it is not JSON at line 1 column",
        ),
        (
            r#"{"data": {"itmes": []}}"#.to_owned(),
            "/data: found no member \"items\", expected it on the way to the records",
        ),
        (
            r#"{"data": null}"#.to_owned(),
            "/data: found null, expected an object or array with \"items\"",
        ),
        (String::new(), "the response: it is empty, expected JSON"),
        (
            r#"{"data": {"items": [{"id": 1"#.to_owned(),
            "/data/items/0: it ends in the middle of a value at line 1 column 29",
        ),
        (item(&deep), "/next/next/next: it is nested deeper than 127 levels"),
        (item("{}").replace('}', "]"), "it is not JSON at line 1 column"),
        (
            r#"{"data": {"items": []}} x"#.to_owned(),
            "the response: it is not JSON at line 1 column 25: expected the end",
        ),
    ];
    for (response, wanted) in cases {
        let error = cache().commit("page loaded", |tx| tx.ingest("page", &response)).unwrap_err();
        let reported = error.to_string();
        assert!(reported.contains(wanted), "{reported}\nshould hold: {wanted}");
        assert!(reported.ends_with("read by rule \"page\""), "{reported}");
    }
}

/// What is no error although it looks odd.
#[test]
fn odd_but_right_responses_are_taken() {
    let cache = cache();
    let odd = "\u{feff}{\"data\": {\"items\": [{\"id\": \"1\", \"load\": 7, \"load\": -0.0, \"vessel\": \"v1\", \"extra\": { \"n\": 1.50 } }]}}";
    cache.commit("page loaded", |tx| tx.ingest("page", odd)).unwrap();
    let snapshot = cache.snapshot();
    let row = snapshot.get("sailing", 1).unwrap().unwrap();
    assert_eq!(
        row.get("load").unwrap().unwrap().to_string(),
        "0.0",
        "the last of duplicate members wins"
    );
    assert_eq!(
        row.get("extra").unwrap().unwrap().to_string(),
        "{\"n\":1.50}",
        "number literals stay as they came"
    );
    assert_eq!(row.get("vessel").unwrap(), Some("v1".into()), "a link may come as a bare id");
    assert!(row.follow("vessel").unwrap().is_none(), "whose row is not here");
}

/// A failed response leaves a transaction as it was before, so that the rest of it can go on.
#[test]
fn a_transaction_goes_on_after_a_refused_response() {
    let cache = cache();
    let report = cache.commit("both", |tx| {
        tx.insert("vessel", [("name", "Marram")])?;
        assert!(
            tx.ingest("page", r#"{"data": {"items": [{"id": 1}, {"id": 2, "late": "?"}]}}"#)
                .is_err()
        );
        tx.ingest("page", r#"{"data": {"items": [{"id": 3}]}}"#)
    });
    let report = report.unwrap();
    let changed: Vec<String> = report.changes().map(|change| change.to_string()).collect();
    assert_eq!(changed, ["sailing 3 inserted", "vessel Marram inserted"]);
    assert_eq!(report.ingested().len(), 1);
}

const ASKING: &str = r#"
    [table.vessel]
    id = "id"
    version = "updated_at"
    unknown = "error"
    [table.vessel.fields]
    id = "int"
    name = { type = "text", required = true }
    state = { type = "text", values = ["afloat", "in dock"], from = "/status/now" }
    since = { type = "int", values = [1, 2], from = "/status/since" }
    updated_at = "int"
    ports = { to_many = "port" }
    mate = { to = "vessel" }
    about = { to = ["port"] }

    [table.port]
    id = "code"
    fields = { code = "text" }

    [response.vessel]
    table = "vessel"
"#;

/// What a schema demands of its fields, and the error for a response that does otherwise.
#[test]
fn what_a_schema_asks_for_is_asked_of_responses() {
    let cases = [
        (
            r#"{"id": 1}"#,
            "the response: found no \"/name\", expected every \"vessel\" record to have it",
        ),
        (
            r#"{"id": 1, "name": null}"#,
            "/name: found null, expected a value: the field is required",
        ),
        (r#"{"id": 1, "name": "x", "mate": {"id": 2, "name": null}}"#, "/mate/name: found null"),
        (
            r#"{"id": 1, "name": "x", "nam": 1}"#,
            "/nam: found the unknown member \"nam\", expected only the fields of \"vessel\"; did you mean \"name\"?",
        ),
        (
            r#"{"id": 1, "name": "x", "status": {"now": "adrift"}}"#,
            "/status/now: found string \"adrift\", expected \"afloat\" or \"in dock\"",
        ),
        (
            r#"{"id": 1, "name": "x", "status": {"since": 3}}"#,
            "found integer `3`, expected \"1\" or \"2\"",
        ),
        (
            r#"{"id": 1, "name": "x", "status": 7}"#,
            "/status: found integer `7`, expected an object or array with \"now\" and \"since\", or null",
        ),
        (
            r#"{"id": 1, "name": "x", "ports": ["SAL", null]}"#,
            "/ports/1: found null, expected a \"port\" object",
        ),
        (
            r#"{"id": 1, "name": "x", "mate": [2, 3]}"#,
            "/mate: found an array of several elements, expected a \"vessel\" object",
        ),
        (
            r#"{"id": 1, "name": "x", "about": "SAL"}"#,
            "/about_type: found nothing, expected \"port\" to say at which table \"/about\" points",
        ),
        (
            r#"{"id": 1, "name": "x", "about": {"code": "SAL"}}"#,
            "/about/type: found no such member, expected \"port\" to tell the table",
        ),
    ];
    for (response, wanted) in cases {
        let cache = Cache::new(Schema::parse("test.toml", ASKING).unwrap());
        let error = cache.commit("vessel loaded", |tx| tx.ingest("vessel", response)).unwrap_err();
        assert!(error.to_string().contains(wanted), "{error}\nshould hold: {wanted}");
    }
    let cache = Cache::new(Schema::parse("test.toml", ASKING).unwrap());
    let fine = r#"{"id": 1, "name": "x", "status": null, "mate": {"id": 2}, "about": {"type": "port", "code": "SAL"}}"#;
    cache.commit("vessel loaded", |tx| tx.ingest("vessel", fine)).unwrap();
    let reported = format!("{:?}", cache.snapshot().get("vessel", 1).unwrap().unwrap());
    assert!(
        reported.contains(r#""state": Null, "since": Null"#)
            && reported.contains(r#""about_type": Text("port")"#),
        "{reported}"
    );
    let refused = [
        [("name", Value::Null)],
        [("state", "adrift".into())],
        [("about", "SAL".into())],
        [("about_type", Value::Null)],
    ];
    for fields in refused {
        let id = if fields[0].0 == "about" { 2 } else { 1 };
        let reported =
            cache.commit("by hand", |tx| tx.update("vessel", id, fields.clone())).unwrap_err();
        assert_eq!(reported.kind(), ErrorKind::Type, "{reported}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Records of one row arrive in any order: what each field has in the end is the newest news of
    /// it, or older news where there was none.
    #[test]
    fn older_news_never_wins(
        news in prop::collection::vec((prop::option::weighted(0.9, 0..6_i64), prop::option::of(0..9_u8), prop::option::of(0..3_usize)), 1..9)
    ) {
        let cache = Cache::new(Schema::parse("test.toml", ASKING).unwrap());
        let (mut version, mut name, mut ports) = (None, None, None);
        for (at, called, stops) in news {
            let mut record = Map::new();
            record.insert("id".into(), json!(1));
            let older = at.is_some_and(|at| version.is_some_and(|version| at < version));
            if let Some(at) = at {
                record.insert("updated_at".into(), json!(at));
                version = if older { version } else { Some(at) };
            }
            // A nested record may lack what is required.
            if let Some(called) = called {
                record.insert("name".into(), json!(format!("name {called}")));
                if !older || name.is_none() { name = Some(called) }
            }
            if let Some(stops) = stops {
                record.insert("ports".into(), json!(["SAL", "EEL", "NOR"][..stops]));
                if !older || ports.is_none() { ports = Some(stops) }
            }
            let response = json!({ "id": 2, "name": "the one around", "mate": record });
            cache.commit("news", |tx| tx.ingest("vessel", response.to_string())).unwrap();
        }
        let snapshot = cache.snapshot();
        let row = snapshot.get("vessel", 1).unwrap().unwrap();
        prop_assert_eq!(row.get("updated_at").unwrap(), version.map(Value::Int));
        prop_assert_eq!(row.get("name").unwrap(), name.map(|called| format!("name {called}").into()));
        prop_assert_eq!(row.get("ports").unwrap(), ports.map(|stops| Value::Int(stops as i64)));
        prop_assert_eq!(snapshot.count("vessel_ports").unwrap(), ports.unwrap_or(0));
    }
}

/// What happens to two caches that must not differ.
#[derive(Debug, Clone)]
enum Step {
    /// A sailing with its vessel and that one's port nested, some members missing.
    Ingest {
        rule: usize,
        sailing: u8,
        vessel: u8,
        port: u8,
        name: Option<u8>,
        opened: Option<bool>,
    },
    /// A response that does not fit in the end.
    Broken {
        vessel: u8,
        name: u8,
    },
    Update {
        vessel: u8,
        name: u8,
    },
    Delete {
        port: u8,
    },
    /// A commit that fails after it has read something.
    Failed {
        vessel: u8,
        name: u8,
    },
}

fn step() -> impl Strategy<Value = Step> {
    let (few, name) = (0..3_u8, 0..3_u8);
    prop_oneof![
        5 => (0..3_usize, few.clone(), few.clone(), few.clone(), prop::option::of(name.clone()), any::<Option<bool>>())
            .prop_map(|(rule, sailing, vessel, port, name, opened)| Step::Ingest { rule, sailing, vessel, port, name, opened }),
        1 => (few.clone(), name.clone()).prop_map(|(vessel, name)| Step::Broken { vessel, name }),
        1 => (few.clone(), name.clone()).prop_map(|(vessel, name)| Step::Update { vessel, name }),
        1 => few.clone().prop_map(|port| Step::Delete { port }),
        1 => (few, name).prop_map(|(vessel, name)| Step::Failed { vessel, name }),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    /// Short responses are read by what earlier ones held, long ones are not: it must not show.
    #[test]
    fn short_responses_say_what_long_ones_do(steps in prop::collection::vec(step(), 1..25)) {
        let schema = r#"
            table.sailing = { id = "id", fields = { id = "int", vessel = { to = "vessel", on_delete = "cascade" } } }
            table.vessel = { id = "id", fields = { id = "int", name = "text", label = "text", home = { to = "port", on_delete = "set null" } } }
            table.port = { id = "id", fields = { id = "int", opened = "bool", kind = "text" } }
            [response]
            plain = { table = "sailing" }
            other = { table = "sailing", aliases = { vessel = { name = "label" } } }
            skipping = { table = "sailing", on_error = "skip", complete = true }
        "#;
        let caches = [(); 2].map(|()| Cache::new(Schema::parse("s.toml", schema).unwrap()));
        let padding = [String::new(), " ".repeat(3000)];
        let sailing = |sailing: u8, vessel: u8, name: Option<u8>, port: Option<(u8, Option<bool>)>| {
            let name = name.map_or(String::new(), |name| format!(r#","name":"the {name}th of them all""#));
            let home = port.map_or(String::new(), |(port, opened)| {
                let opened = opened.map_or(String::new(), |opened| format!(r#","opened":{opened}"#));
                format!(r#","home":{{"id":{port}{opened},"kind":"of the islands"}}"#)
            });
            format!(r#"{{"id":{sailing},"vessel":{{"id":{vessel}{name}{home}}}}}"#)
        };
        for step in &steps {
            let did = [0, 1].map(|number| {
                let (cache, pad) = (&caches[number], &padding[number]);
                let done = match step {
                    Step::Ingest { rule, sailing: id, vessel, port, name, opened } => {
                        let body = sailing(*id, *vessel, *name, Some((*port, *opened))) + pad;
                        let rule = ["plain", "other", "skipping"][*rule];
                        cache.commit("", |tx| tx.ingest(rule, &body).map(drop))
                    }
                    Step::Broken { vessel, name } => {
                        let body = format!(r#"[{},{{"id":"x"}}]{pad}"#, sailing(9, *vessel, Some(*name), None));
                        let rule = if *name == 0 { "plain" } else { "skipping" };
                        cache.commit("", |tx| {
                            drop(tx.ingest(rule, &body));
                            Ok(())
                        })
                    }
                    Step::Update { vessel, name } => cache.commit("", |tx| {
                        tx.update("vessel", i64::from(*vessel), [("name", format!("the {name}th of them all"))])
                    }),
                    Step::Delete { port } => cache.commit("", |tx| tx.delete("port", i64::from(*port)).map(drop)),
                    Step::Failed { vessel, name } => {
                        let body = sailing(0, *vessel, Some(*name), None) + pad;
                        cache.commit("", |tx| {
                            tx.ingest("plain", &body)?;
                            tx.delete("port", 99).map(drop)
                        })
                    }
                };
                let done = done.map(|report| {
                    let reported = report.ingested().iter().map(|ingested| ingested.tables.clone());
                    reported.collect::<Vec<_>>()
                });
                let snapshot = cache.snapshot();
                let rows = ["sailing", "vessel", "port"].map(|table| {
                    let mut rows: Vec<String> =
                        snapshot.rows(table).unwrap().map(|row| row.nested(0).as_str().to_owned()).collect();
                    rows.sort();
                    rows
                });
                (format!("{:?}", done.map_err(|error| error.kind())), rows)
            });
            prop_assert_eq!(&did[0], &did[1], "{:?}", step);
        }
    }
}

/// The same text may mean something else: where the server failed to resolve a null, and where a
/// member that names the table is no field.
#[test]
fn the_same_text_is_not_always_the_same_object() {
    let schema = r#"
        table.sailing = { id = "id", fields = { id = "int", vessel = { to = "vessel" }, about = { to = ["vessel", "port"] } } }
        table.vessel = { id = "id", fields = { id = "text", name = "text" }, unknown = "error" }
        table.port = { id = "id", fields = { id = "text" } }
        [response]
        graph = { format = "graphql", records = "/data/sailings", table = "sailing" }
        plain = { table = "sailing" }
    "#;
    for padding in [String::new(), " ".repeat(3000)] {
        let cache = Cache::new(Schema::parse("s.toml", schema).unwrap());
        let vessel = r#"{"id":"a-vessel-with-a-long-id","name":null}"#;
        let errors = r#"[{"message":"no","path":["sailings",0,"vessel","name"]}]"#;
        let body = format!(
            r#"{{"data":{{"sailings":[{{"id":1,"vessel":{vessel}}},{{"id":2,"vessel":{vessel}}}]}},"errors":{errors}}}{padding}"#
        );
        cache.commit("named", |tx| tx.ingest("graph", &body)).unwrap();
        let row =
            cache.snapshot().get("vessel", "a-vessel-with-a-long-id").unwrap().unwrap().nested(0);
        assert_eq!(row.as_str(), vessel);

        let typed = r#"{"type":"vessel","id":"another-with-a-long-id"}"#;
        let body = format!(r#"[{{"id":3,"about":{typed}}},{{"id":4,"vessel":{typed}}}]{padding}"#);
        let error = cache.commit("typed", |tx| tx.ingest("plain", &body)).unwrap_err().to_string();
        assert!(error.contains("/1/vessel/type: found the unknown member \"type\""), "{error}");
    }
}
