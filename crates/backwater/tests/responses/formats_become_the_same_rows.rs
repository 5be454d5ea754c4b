//! The same sailings as nested JSON, a line each, as a JSON:API document and as a GraphQL response.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{Cache, ErrorKind, Report, Schema, Value};
use serde_json::{Value as Json, json};

const SCHEMA: &str = r#"
    [table.sailing]
    id = "id"
    resource = "sailings"
    names = "camelCase"
    tombstone = "gone"
    fields = { id = "int", departs_at = "timestamp", vessel = { to = "vessel" }, stops = { to_many = "port" }, about = { to = ["vessel", "port"], type_member = "kind" } }

    [table.vessel]
    id = "id"
    resource = "vessels"
    fields = { id = "text", name = "text" }

    [table.port]
    id = "code"
    resource = "ports"
    fields = { code = "text", name = "text" }

    [table.page]
    one_row = true
    fields = { total = "int" }

    [response.nested]
    records = "/sailings"
    table = "sailing"
    complete = true
    beside.page.total = "/total"

    [response.lines]
    format = "ndjson"
    table = "sailing"
    on_error = "skip"

    [response.document]
    format = "json:api"
    table = "sailing"
    complete = true
    beside.page.total = "/meta/total"

    [response.mixed]
    format = "json:api"
    table = "sailing"

    [response.graph]
    format = "graphql"
    records = "/data/sailings/edges"
    record = "/node"
    table = "sailing"
    complete = true
    aliases.sailing = { leaves = "departs_at", ship = "vessel" }
    beside.page.total = "/data/sailings/total"
"#;

fn cache() -> Cache {
    Cache::new(Schema::parse("s.toml", SCHEMA).unwrap())
}

fn read(cache: &Cache, rule: &str, response: &str) -> Result<Report, backwater::Error> {
    Ok(cache.commit(rule, |tx| tx.ingest(rule, response))?.report)
}

/// Everything that the tables hold.
fn dump(cache: &Cache) -> Vec<String> {
    let snapshot = cache.snapshot();
    let rows = snapshot.tables().into_iter().flat_map(|table| {
        let mut rows: Vec<String> = snapshot
            .rows(&table.name)
            .unwrap()
            .map(|row| format!("{} {}", table.name, row.nested(0).as_str()))
            .collect();
        rows.sort();
        rows
    });
    rows.collect()
}

fn nested() -> Json {
    json!({ "total": 2, "sailings": [
        { "id": 311, "departsAt": "2031-05-04T08:00:00Z", "vessel": { "id": "marram", "name": "Marram" }, "stops": [{ "code": "SAL", "name": "Saltmere" }, "EEL"], "about": { "kind": "port", "code": "SAL" } },
        { "id": 312, "departsAt": null, "vessel": null, "stops": [] }
    ] })
}

fn document() -> Json {
    json!({ "jsonapi": { "version": "1.1" }, "meta": { "total": 2 }, "links": { "self": "/sailings" },
        "data": [
            { "type": "sailings", "id": "311", "attributes": { "departsAt": "2031-05-04T08:00:00Z" }, "relationships": {
                "vessel": { "data": { "type": "vessels", "id": "marram" }, "links": {} },
                "stops": { "data": [{ "type": "ports", "id": "SAL" }, { "id": "EEL", "type": "ports" }] },
                "about": { "data": { "type": "ports", "id": "SAL" } }, "crew": { "data": null } } },
            { "attributes": { "departsAt": null }, "relationships": { "vessel": { "data": null }, "stops": { "data": [] }, "about": { "links": {} } }, "id": "312", "type": "sailings" }
        ],
        "included": [
            { "type": "vessels", "id": "marram", "attributes": { "name": "Marram" } },
            { "type": "captains", "id": "7", "attributes": { "name": "Varr" } },
            { "type": "ports", "id": "SAL", "attributes": { "name": "Saltmere" } }
        ] })
}

fn graph() -> Json {
    json!({ "data": { "sailings": { "total": 2, "edges": [
        { "node": { "__typename": "Sailing", "id": "311", "leaves": "2031-05-04T08:00:00Z", "ship": { "__typename": "Vessel", "id": "marram", "name": "Marram" }, "stops": [{ "code": "SAL", "name": "Saltmere" }, { "code": "EEL" }], "about": { "__typename": "port", "code": "SAL" } } },
        { "node": { "id": "312", "leaves": null, "ship": null, "stops": [] } }
    ] } } })
}

#[test]
fn every_format_brings_the_same_rows() {
    let (by_nesting, by_document, by_graph, by_lines) = (cache(), cache(), cache(), cache());
    read(&by_nesting, "nested", &nested().to_string()).unwrap();
    read(&by_document, "document", &document().to_string()).unwrap();
    read(&by_graph, "graph", &graph().to_string()).unwrap();
    let lines: Vec<String> =
        nested()["sailings"].as_array().unwrap().iter().map(Json::to_string).collect();
    read(&by_lines, "lines", &format!("{}\n\n{}\r\n", lines[0], lines[1])).unwrap();
    by_lines.commit("the total", |tx| tx.set("page", [("total", 2)])).unwrap();
    let wanted = dump(&by_nesting);
    assert!(wanted.contains(&r#"sailing {"id":311,"departs_at":"2031-05-04T08:00:00.000000Z","vessel":"marram","stops":["SAL","EEL"],"about":"SAL","about_type":"port"}"#.to_owned()), "{wanted:#?}");
    // A GraphQL object always has its id along, so that EEL has a row there.
    let mut graph = dump(&by_graph);
    graph.retain(|row| row != r#"port {"code":"EEL"}"#);
    assert_eq!(dump(&by_document), wanted);
    assert_eq!(graph, wanted);
    assert_eq!(dump(&by_lines), wanted);
    for (cache, rule, response) in
        [(&by_document, "document", document()), (&by_graph, "graph", self::graph())]
    {
        let again = read(cache, rule, &response.to_string()).unwrap();
        assert_eq!(again.changes().count(), 0, "{rule}: {:?}", again.changes().collect::<Vec<_>>());
    }
}

/// A null that an error is about says nothing: what was known stays, and nothing is taken for gone.
#[test]
fn what_a_graphql_server_could_not_tell_stays_as_it_was() {
    let cache = cache();
    read(&cache, "graph", &graph().to_string()).unwrap();
    let before = dump(&cache);
    let error = |path: Json| json!({ "message": "the harbour is closed", "path": path });
    let node = |index: usize, name: &str| json!(["sailings", "edges", index, "node", name]);
    let mut broken = graph();
    let first = &mut broken["data"]["sailings"]["edges"][0]["node"];
    first["leaves"] = Json::Null;
    first["ship"] = Json::Null;
    first["stops"] = json!([null, { "code": "EEL" }]);
    broken["data"]["sailings"]["edges"][1] = Json::Null;
    broken["data"]["sailings"]["total"] = Json::Null;
    broken["errors"] = json!([
        error(node(0, "leaves")),
        error(json!(["sailings", "edges", 0, "node", "ship", "name"])),
        error(json!(["sailings", "edges", 0, "node", "stops", 0])),
        error(node(1, "id")),
        error(json!(["sailings", "total"])),
    ]);
    let report = read(&cache, "graph", &broken.to_string()).unwrap();
    assert_eq!(report.changes().count(), 0, "{:?}", report.changes().collect::<Vec<_>>());
    assert_eq!(dump(&cache), before);
    let reported: Vec<&str> =
        report.ingested()[0].skipped.iter().map(|it| it.pointer.as_str()).collect();
    assert_eq!(reported[1], "/data/sailings/edges/0/node/ship/name");
    assert_eq!(
        report.ingested()[0].skipped[1].problem,
        "the server could not tell: the harbour is closed"
    );

    let nothing = json!({ "data": { "sailings": null }, "errors": [error(json!(["sailings"]))] });
    assert_eq!(read(&cache, "graph", &nothing.to_string()).unwrap().changes().count(), 0);
    let nothing = json!({ "data": null, "errors": [{ "message": "no" }] });
    assert_eq!(read(&cache, "graph", &nothing.to_string()).unwrap().changes().count(), 0);
    // The same nulls without errors are nulls.
    broken["errors"] = json!([]);
    broken["data"]["sailings"]["edges"].as_array_mut().unwrap().pop();
    broken["data"]["sailings"]["edges"][0]["node"]["stops"] = json!([]);
    read(&cache, "graph", &broken.to_string()).unwrap();
    let left = cache.snapshot();
    assert_eq!(left.count("sailing").unwrap(), 1);
    assert_eq!(
        left.get("sailing", 311).unwrap().unwrap().get("departs_at").unwrap(),
        Some(Value::Null)
    );
}

#[test]
fn what_is_wrong_in_a_format_has_its_place() {
    let cases = [
        (
            "document",
            json!({ "errors": [{ "status": "404", "title": "Not found", "detail": "no such page" }] }),
            "/errors: found the server's errors: 404 Not found no such page, expected an answer",
        ),
        ("document", json!({ "meta": {} }), "the response: found no member \"data\""),
        (
            "document",
            json!({ "data": [{ "type": "sailing", "id": "1" }] }),
            "/data/0/type: found string \"sailing\", expected \"sailings\", \"vessels\"",
        ),
        (
            "document",
            json!({ "data": [{ "type": "vessels", "id": "1" }] }),
            "/data/0/type: found string \"vessels\", expected \"sailings\"",
        ),
        (
            "document",
            json!({ "data": { "type": "sailings" } }),
            "/data/id: found no such member, expected the id of a resource",
        ),
        (
            "document",
            json!({ "data": { "type": "sailings", "id": "one" } }),
            "/data/id: found string \"one\", expected an id of type int",
        ),
        (
            "document",
            json!({ "data": { "type": "sailings", "id": "1", "attributes": { "departsAt": 4 } } }),
            "/data/attributes/departsAt: found integer `4`, expected a time",
        ),
        (
            "document",
            json!({ "data": { "type": "sailings", "id": "1", "relationships": { "vessel": { "data": { "type": "ports", "id": "x" } } } } }),
            "/data/relationships/vessel/data: found type \"ports\", expected \"vessels\"",
        ),
        (
            "document",
            json!({ "data": { "type": "sailings", "id": "1", "relationships": { "stops": { "data": [{ "type": "ports" }] } } } }),
            "/data/relationships/stops/data/0: found id \"\", expected an id of type text",
        ),
        (
            "document",
            json!({ "data": [], "included": [{ "type": "vessels", "id": "x", "attributes": { "name": 4 } }] }),
            "/included/0/attributes/name: found integer `4`",
        ),
        (
            "graph",
            json!({ "errors": [{ "message": "syntax error" }] }),
            "found the server's error \"syntax error\", expected an answer",
        ),
        (
            "graph",
            json!({ "data": { "sailings": { "edges": [{ "node": { "id": 1, "about": { "__typename": "Crew" } } }] } } }),
            "/data/sailings/edges/0/node/about/kind: found string \"Crew\"",
        ),
        (
            "nested",
            json!({ "sailings": [{ "id": 1, "departsAt": "now" }] }),
            "/sailings/0/departsAt: found string \"now\"",
        ),
    ];
    for (rule, response, wanted) in cases {
        let error = read(&cache(), rule, &response.to_string()).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::Response);
        assert!(error.to_string().contains(wanted), "{error}\nshould say: {wanted}");
    }
    let cache = cache();
    let mixed =
        json!({ "data": [{ "type": "vessels", "id": "marram" }, { "type": "sailings", "id": 7 }] });
    read(&cache, "mixed", &mixed.to_string()).unwrap();
    assert_eq!(
        (cache.snapshot().count("vessel").unwrap(), cache.snapshot().count("sailing").unwrap()),
        (1, 1)
    );
    let lines = "{\"id\": 1}\n{\"id\": 2, \"departsAt\": 5}\n{\"id\": 1, \"gone\": true}";
    let report = read(&cache, "lines", lines).unwrap();
    assert_eq!(report.ingested()[0].skipped[0].pointer, "line 2: /departsAt");
    assert_eq!(cache.snapshot().count("sailing").unwrap(), 1, "7 is left, 1 was buried");
    let error = read(&cache, "lines", "{\"id\": 1}\n{\"id\": }").unwrap_err();
    assert!(
        error.to_string().starts_with("line 2: /id: it is not JSON at line 2 column 8"),
        "{error}"
    );
    let reported = Schema::parse("s.toml", "table.t = { id = 'a', fields = { a = 'int' } }\nresponse.r = { format = 'json:api', table = 't', records = '/x' }").unwrap_err();
    assert!(
        reported.to_string().contains("the records of a JSON:API document are its primary data"),
        "{reported}"
    );
}

/// Each format has a way to say that a row was deleted.
#[test]
fn a_delete_is_expressible_in_each_format() {
    let nested = json!({ "sailings": [{ "id": 311 }, { "id": 312, "gone": true }] });
    let lines = json!({ "id": 312, "gone": "2031-05-04" });
    let document =
        json!({ "data": { "type": "sailings", "id": "312", "attributes": { "gone": true } } });
    let graph = json!({ "data": { "sailings": { "edges": [{ "node": { "id": 311, "gone": null } }, { "node": { "id": 312, "gone": true } }] } } });
    for (rule, response) in
        [("nested", nested), ("lines", lines), ("mixed", document), ("graph", graph)]
    {
        let cache = cache();
        read(&cache, "nested", &self::nested().to_string()).unwrap();
        let report = read(&cache, rule, &response.to_string()).unwrap();
        let deleted: usize = report.ingested()[0].tables.iter().map(|table| table.deleted).sum();
        assert_eq!(deleted, 1, "{rule}");
        let left: Vec<_> =
            cache.snapshot().rows("sailing").unwrap().map(|row| row.id().unwrap()).collect();
        assert_eq!(left, [311.into()], "{rule}");
    }
}
