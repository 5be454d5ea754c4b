//! What must hold for any input at all. The fuzz targets and a bounded test share it.
#![allow(dead_code, reason = "each target takes its part")]

use backwater::{Cache, ErrorKind, Request, Schema, infer::Samples};

/// A schema with a bit of everything.
pub(crate) const SCHEMA: &str = r#"
    limits = { depth = 60, bytes = 1000000 }

    [table.sailing]
    id = "id"
    names = "camelCase"
    unknown = { keep = "other" }
    version = "seen_at"
    tombstone = "gone"
    [table.sailing.fields]
    id = "int"
    vessel = { to = "vessel", on_delete = "cascade" }
    stops = { to_many = "port", on_delete = "cascade" }
    seats = { to_many = "seat" }
    about = { to = ["vessel", "port"], on_delete = "set null" }
    status = { type = "text", values = ["late", "on time"] }
    seen_at = "int"
    load = "float"
    late = { type = "bool", required = true }
    departs_at = { type = "timestamp", from = "/times/departs" }
    other = "json"

    [table.vessel]
    id = "id"
    fields = { id = "text", name = "text", last = { to = "sailing" } }

    [table.port]
    id = "code"
    unknown = "error"
    fields = { code = "text", name = "text" }

    [table.seat]
    id = ["sailing", "seat"]
    fields = { sailing = { to = "sailing", on_delete = "restrict" }, seat = "text", taken = "bool" }

    [table.page]
    one_row = true
    fields = { total = "int" }

    [response]
    json = { records = "/sailings", table = "sailing", beside.page.total = "/total" }
    skip = { records = "/sailings", table = "sailing", on_error = "skip", list = "all", part = "page", complete = true }
    keyed = { table = "port", keyed_by_id = true, complete = true }
    lines = { format = "ndjson", table = "sailing", on_error = "skip" }
    document = { format = "json:api", table = "sailing" }
    graph = { format = "graphql", records = "/data/sailings", table = "sailing", complete = true }
"#;

/// Responses that fit, for whoever changes them.
pub(crate) const RESPONSES: [&str; 4] = [
    r#"{"total": 2, "sailings": [{"id": 1, "late": true, "vessel": {"id": "m", "name": "Marram", "last": {"id": 1}}, "stops": ["SAL", {"code": "EEL"}], "seats": ["7A", {"seat": "7B", "taken": true}], "about": {"type": "port", "code": "SAL"}, "x": [1.50, null]}, {"id": "2", "late": false, "seenAt": 4, "times": {"departs": "2031-05-04T08:00:00Z"}, "load": -1e3, "aboutType": "vessel", "about": "m"}]}"#,
    r#"{"data": [{"type": "sailing", "id": "1", "attributes": {"late": true, "status": "late"}, "relationships": {"vessel": {"data": {"type": "vessel", "id": "m"}}, "stops": {"data": []}}}], "included": [{"type": "vessel", "id": "m", "attributes": {"name": "x"}}]}"#,
    r#"{"data": {"sailings": [{"id": 1, "late": true, "vessel": null}, null]}, "errors": [{"message": "no", "path": ["sailings", 0, "vessel"]}, {"message": "no", "path": ["sailings", 1]}]}"#,
    r#"[{"op": "add", "path": "/sailing/1", "value": {"late": true, "stops": ["SAL"], "other": {"a": [1]}}}, {"op": "move", "from": "/sailing/1/other/a/0", "path": "/sailing/1/other/a/-"}, {"op": "copy", "from": "/sailing/1/stops/0", "path": "/sailing/1/stops/-"}, {"op": "remove", "path": "/sailing/1/stops/0"}]"#,
];

/// Reads the bytes in every way, one after the other into the same cache.
pub(crate) fn ingest(data: &[u8]) {
    let Ok(schema) = Schema::parse("fuzz.toml", SCHEMA) else { panic!("the schema is right") };
    let cache = Cache::new(schema);
    let rules: Vec<String> = cache.schema().rule_names().map(str::to_owned).collect();
    let began = cache.snapshot().commit();
    for _ in 0..2 {
        for rule in &rules {
            let request = Request::rule(rule).began_at(began);
            attempt(&cache, |tx| tx.ingest(request, data).map(|_| ()));
            attempt(&cache, |tx| tx.ingest(rule, data).map(|_| ()));
        }
        attempt(&cache, |tx| tx.json_patch(data));
        attempt(&cache, |tx| tx.merge_patch(data));
    }
}

/// Proposes a schema from the bytes: it is right, and reads them, if they can be read at all.
pub(crate) fn infer(data: &[u8]) {
    let mut samples = Samples::new();
    if samples.add("any", data).is_err() {
        assert_eq!(samples.len(), 0);
        return;
    }
    let proposal = samples.propose();
    let schema = Schema::parse("fuzz.toml", proposal.text()).expect("a schema that is right");
    if schema.rule_names().next().is_some() {
        let cache = Cache::new(schema);
        cache.commit("proposed", |tx| tx.ingest("any", data)).expect("what was proposed for it");
    }
}

fn attempt(
    cache: &Cache,
    write: impl FnOnce(&mut backwater::Transaction) -> Result<(), backwater::Error>,
) {
    let before = told(cache);
    match cache.commit("fuzzed", write) {
        Ok(report) if report.changes().next().is_none() => assert_eq!(told(cache), before),
        Ok(_) => drop(told(cache)),
        Err(error) => {
            let kinds = [
                ErrorKind::Response,
                ErrorKind::Type,
                ErrorKind::Row,
                ErrorKind::UnknownName,
                ErrorKind::Parameter,
            ];
            assert!(kinds.contains(&error.kind()), "{error:?}");
            assert_eq!(told(cache), before, "{error}");
        }
    }
}

/// All rows as trees, which must be JSON, and whose links must lead to rows or nowhere.
fn told(cache: &Cache) -> Vec<String> {
    let snapshot = cache.snapshot();
    let mut out = Vec::new();
    for table in snapshot.tables() {
        let rows = snapshot.rows(&table.name).expect("a table of the schema");
        for row in rows {
            let nested = row.nested(2).as_str().to_owned();
            let tree: Result<serde_json::Value, _> = serde_json::from_str(&nested);
            assert!(tree.is_ok(), "{nested}");
            for link in ["stops", "seats"].iter().filter(|_| table.name == "sailing") {
                assert!(row.follow_all(link).is_ok());
            }
            out.push(nested);
        }
    }
    out.sort();
    out
}

/// Reads a text as a schema; one that is right must work.
pub(crate) fn schema(text: &str) {
    match Schema::parse("fuzz.toml", text) {
        Err(problems) => problems.all().for_each(|problem| {
            assert_eq!(problem.kind(), ErrorKind::Schema);
            assert!(problem.place().starts_with("fuzz.toml"), "{problem}");
        }),
        Ok(schema) => {
            let again = Schema::parse("fuzz.toml", schema.text()).expect("the same text");
            assert!(schema.table_names().eq(again.table_names()));
            let rules: Vec<String> = schema.rule_names().map(str::to_owned).collect();
            let cache = Cache::new(schema);
            for rule in rules {
                let _ = cache.commit("empty", |tx| tx.ingest(&rule, "[]"));
                let _ =
                    cache.commit("an object", |tx| tx.ingest(&rule, r#"{"id": 1, "code": "SAL"}"#));
            }
        }
    }
}
