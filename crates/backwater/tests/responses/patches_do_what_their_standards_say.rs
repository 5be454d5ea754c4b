//! JSON Patch (RFC 6902) and JSON Merge Patch (RFC 7396) do to the rows what another implementation
//! does to a document of them.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{Cache, ErrorKind, Schema, Snapshot};
use proptest::prelude::*;
use serde_json::{Map, Value, json};

const SCHEMA: &str = r#"
    table.port = { id = "code", fields = { code = "text", name = "text" } }
    table.sailing = { id = "id", fields = { id = "int", status = "text", load = "float", stops = { to_many = "port" }, extra = "json", base = { to = "port" } } }
    table.seat = { id = ["sailing", "seat"], fields = { sailing = { to = "sailing" }, seat = "text", taken = "bool" } }
    table.board = { one_row = true, fields = { search = "text", n = "int" } }
"#;

/// All rows as one document.
fn document(snapshot: &Snapshot) -> Value {
    let mut tables = Map::new();
    for table in ["port", "sailing", "seat"] {
        let rows = snapshot.rows(table).unwrap().map(|row| {
            let nested = serde_json::from_str(row.nested(0).as_str()).unwrap();
            (row.id().unwrap().to_string(), nested)
        });
        tables.insert(table.to_owned(), Value::Object(rows.collect()));
    }
    let board = snapshot.only("board").unwrap().nested(0);
    tables.insert("board".to_owned(), serde_json::from_str(board.as_str()).unwrap());
    Value::Object(tables)
}

/// A kind of place: some pointers to it, and values that fit there.
fn places() -> Vec<(Vec<&'static str>, Vec<Value>)> {
    let codes = vec![json!("P0"), json!("P1"), json!("P2")];
    let any = vec![
        json!(1),
        json!(-2.5),
        json!(null),
        json!([]),
        json!({"a": [1, {"b": null}]}),
        json!("x"),
        json!([0, [1]]),
    ];
    vec![
        (
            vec![
                "/port/P0/name",
                "/port/P1/name",
                "/sailing/1/status",
                "/sailing/2/status",
                "/board/search",
                "/port/P9/name",
            ],
            vec![json!("a"), json!("b ~/"), json!(null)],
        ),
        (vec!["/sailing/1/load", "/sailing/2/load"], vec![json!(1.5), json!(0.0), json!(null)]),
        (vec!["/board/n"], vec![json!(7), json!(null)]),
        (
            vec!["/sailing/1/base", "/sailing/2/base"],
            vec![codes[0].clone(), codes[1].clone(), json!(null)],
        ),
        (vec!["/seat/[1,\"A\"]/taken", "/seat/[2,\"~1\"]/taken"], vec![json!(true), json!(false)]),
        (
            vec!["/sailing/1/stops", "/sailing/2/stops"],
            vec![json!([]), json!(["P0"]), json!(["P2", "P1", "P0"])],
        ),
        (
            vec![
                "/sailing/1/stops/0",
                "/sailing/1/stops/1",
                "/sailing/1/stops/-",
                "/sailing/2/stops/2",
                "/sailing/2/stops/0",
            ],
            codes,
        ),
        (
            vec![
                "/sailing/1/extra",
                "/sailing/2/extra",
                "/sailing/1/extra/a",
                "/sailing/1/extra/a/0",
                "/sailing/1/extra/a/-",
                "/sailing/1/extra/a/1/b",
            ],
            any,
        ),
    ]
}

fn operation() -> BoxedStrategy<Value> {
    let field = prop::sample::select(places()).prop_flat_map(|(paths, values)| {
        let path = prop::sample::select(paths.clone());
        (path, prop::sample::select(paths), prop::sample::select(values), 0..6_u8).prop_map(
            |(path, from, value, op)| match op {
                0 | 1 => json!({ "op": "add", "path": path, "value": value }),
                2 => json!({ "op": "replace", "path": path, "value": value }),
                3 => json!({ "op": "remove", "path": path }),
                4 => json!({ "op": "copy", "path": path, "from": from }),
                _ => json!({ "op": "move", "path": path, "from": from }),
            },
        )
    });
    let rows = vec![
        ("/port/P0", json!({ "code": "P0", "name": "n" })),
        ("/port/P1", json!({ "code": "P1" })),
        (
            "/sailing/1",
            json!({ "id": 1, "status": null, "stops": ["P1"], "extra": { "a": [1, 2] } }),
        ),
        ("/sailing/2", json!({ "id": 2 })),
        ("/seat/[1,\"A\"]", json!({ "sailing": 1, "seat": "A", "taken": true })),
        ("/seat/[2,\"~1\"]", json!({ "sailing": 2, "seat": "/" })),
    ];
    let row = (prop::sample::select(rows), 0..4_u8).prop_map(|((path, value), op)| match op {
        0 | 1 => json!({ "op": "add", "path": path, "value": value }),
        2 => json!({ "op": "replace", "path": path, "value": value }),
        _ => json!({ "op": "remove", "path": path }),
    });
    prop_oneof![3 => field, 2 => row].boxed()
}

/// A merge patch: for some rows null or some fields.
fn merge() -> impl Strategy<Value = Value> {
    let fields = |fields: Vec<(&'static str, Vec<Value>)>| {
        let some = prop::sample::select(fields)
            .prop_flat_map(|(name, values)| (Just(name), prop::sample::select(values)));
        prop::option::weighted(0.8, prop::collection::vec(some, 0..4)).prop_map(|fields| {
            fields.map_or(Value::Null, |fields| {
                Value::Object(
                    fields.into_iter().map(|(name, value)| (name.to_owned(), value)).collect(),
                )
            })
        })
    };
    let sailing = vec![
        ("status", vec![json!("x"), json!(null)]),
        ("stops", vec![json!(["P0", "P1"]), json!([]), json!(null)]),
        (
            "extra",
            vec![
                json!({"a": {"b": 1, "c": null}}),
                json!({"a": null, "d": [null]}),
                json!([1]),
                json!(null),
            ],
        ),
        ("base", vec![json!("P0"), json!(null)]),
    ];
    let seat = vec![("taken", vec![json!(true), json!(null)])];
    let board = vec![("search", vec![json!("eel"), json!(null)])];
    let port = vec![("name", vec![json!("n"), json!(null)])];
    let patch =
        (fields(sailing.clone()), fields(sailing), fields(seat), fields(board), fields(port));
    patch.prop_map(|(one, two, seat, board, port)| {
        json!({ "sailing": { "1": one, "2": two }, "seat": { "[1,\"A\"]": seat }, "board": if board.is_null() { json!({}) } else { board }, "port": { "P0": port } })
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn rows_change_as_a_document_of_them_does(
        patches in prop::collection::vec(prop_oneof![3 => prop::collection::vec(operation(), 1..6).prop_map(Value::Array), 1 => merge()], 1..12)
    ) {
        let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
        let mut judge = document(&cache.snapshot());
        for patch in patches {
            let text = patch.to_string();
            if patch.is_array() {
                let mut wanted = judge.clone();
                let judged = json_patch::patch_unsafe(&mut wanted, &serde_json::from_value::<json_patch::Patch>(patch).unwrap());
                let ours = cache.commit("patched", |tx| tx.json_patch(&text));
                prop_assert_eq!(ours.is_ok(), judged.is_ok(), "{}: {:?} {:?}", text, ours.err(), judged);
                if judged.is_ok() {
                    judge = wanted;
                }
            } else {
                json_patch::merge(&mut judge, &patch);
                cache.commit("merged", |tx| tx.merge_patch(&text)).unwrap();
                // A row has its id, also if a patch has only just inserted it.
                for (path, id) in [("/sailing/1", json!({"id": 1})), ("/sailing/2", json!({"id": 2})), ("/port/P0", json!({"code": "P0"})), ("/seat/[1,\"A\"]", json!({"sailing": 1, "seat": "A"}))] {
                    if let Some(row) = judge.pointer_mut(path) {
                        json_patch::merge(row, &id);
                    }
                }
            }
            prop_assert_eq!(document(&cache.snapshot()), judge.clone(), "after {}", text);
        }
    }
}

#[test]
fn patches_that_do_not_fit_say_so_and_leave_nothing() {
    let cache = Cache::new(Schema::parse("s.toml", SCHEMA).unwrap());
    cache.commit("a sailing", |tx| tx.json_patch(r#"[{"op": "add", "path": "/sailing/1", "value": {"status": "x", "load": 1.50, "extra": {"n": 1.50}}}]"#)).unwrap();
    let cases = [
        ("{}", "a JSON Patch is an array of operations: invalid type: map"),
        (r#"[{"path": "/port/P0"}]"#, "/0: the operation has no \"op\""),
        (
            r#"[{"op": "ad", "path": "/port/P0", "value": {}}]"#,
            "/0: there is no operation \"ad\"; expected \"add\"",
        ),
        (r#"[{"op": "add", "path": "port/P0", "value": {}}]"#, "/0: a JSON Pointer is empty"),
        (
            r#"[{"op": "add", "path": "", "value": {}}]"#,
            "/0: this is the whole cache; point at a row or a field",
        ),
        (
            r#"[{"op": "remove", "path": "/port"}]"#,
            "/0: /port: this is a whole table; point at one of its rows",
        ),
        (
            r#"[{"op": "add", "path": "/prot/P0", "value": {}}]"#,
            "/0: /prot/P0: there is no table \"prot\"; did you mean \"port\"?",
        ),
        (
            r#"[{"op": "add", "path": "/sailing/one", "value": {}}]"#,
            "the id of \"sailing\": found \"one\", expected an id of type int",
        ),
        (
            r#"[{"op": "add", "path": "/seat/7", "value": {}}]"#,
            "the id of \"seat\": found \"7\", expected an id [sailing, seat]",
        ),
        (
            r#"[{"op": "replace", "path": "/sailing/2/status", "value": "y"}]"#,
            "/0: /sailing/2/status: there is nothing here",
        ),
        (
            r#"[{"op": "replace", "path": "/sailing/1/status", "value": 7}]"#,
            "sailing.status: found int (7), expected text",
        ),
        (
            r#"[{"op": "add", "path": "/sailing/1/id", "value": 7}]"#,
            "sailing.id: a row keeps its id",
        ),
        (r#"[{"op": "remove", "path": "/sailing/1/id"}]"#, "a row keeps its id"),
        (
            r#"[{"op": "add", "path": "/sailing/1/status/0", "value": 7}]"#,
            "this field has nothing inside of it",
        ),
        (
            r#"[{"op": "remove", "path": "/sailing/1"}, {"op": "test", "path": "/port/P0", "value": {}}]"#,
            "/1: /port/P0: there is nothing here",
        ),
        (
            r#"[{"op": "remove", "path": "/sailing/1/status"}, {"op": "test", "path": "/sailing/1/load", "value": 2}]"#,
            "/1: /sailing/1/load: the test failed: found 1.5, expected 2",
        ),
        (
            r#"[{"op": "move", "from": "/sailing/1/extra", "path": "/sailing/1/extra/n"}]"#,
            "nothing can be moved into itself",
        ),
        (
            r#"[{"op": "add", "path": "/sailing/1/stops", "value": ["P0", 7, true]}]"#,
            "stops: /2: found true, expected an id",
        ),
    ];
    let before = document(&cache.snapshot());
    for (patch, wanted) in cases {
        let error = cache.commit("patched", |tx| tx.json_patch(patch)).unwrap_err();
        assert!(error.to_string().contains(wanted), "{error}\nshould say: {wanted}");
    }
    let merges = [
        ("[]", "a merge patch of a cache is an object of tables"),
        (r#"{"port": null}"#, "/port: an object of rows by their ids"),
        (
            r#"{"sailing": {"1": {"status": 5}}}"#,
            "/sailing/1: sailing.status: found int (5), expected text",
        ),
        (r#"{"sailing": {"1": {"id": null}}}"#, "/sailing/1: id: a row keeps its id"),
        (
            r#"{"sailing": {"1": null}, "seat": {"x": {}}}"#,
            "/seat/x: the id of \"seat\": found \"x\"",
        ),
    ];
    for (patch, wanted) in merges {
        let error = cache.commit("merged", |tx| tx.merge_patch(patch)).unwrap_err();
        assert!(error.to_string().contains(wanted), "{error}\nshould say: {wanted}");
        assert!([ErrorKind::Response, ErrorKind::Type, ErrorKind::Row].contains(&error.kind()));
    }
    assert_eq!(document(&cache.snapshot()), before);
    let row = cache.snapshot().get("sailing", 1).unwrap().unwrap().nested(0);
    assert_eq!(
        row.as_str(),
        r#"{"id":1,"status":"x","load":1.5,"extra":{"n":1.50}}"#,
        "number literals stay as they came"
    );
}

/// A json field keeps its numbers as they are written, and its members in their order, whatever is
/// done to its inside.
#[test]
fn numbers_stay_as_they_are_written() {
    const WRITTEN: &str = r#"{"z":123456789012345678901234567890,"a":[0.1234567890123456789012345,1e3],"m":{"b":1.50,"c":-0.0}}"#;
    let cache = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
    let add = format!(r#"[{{"op":"add","path":"/sailing/1","value":{{"extra":{WRITTEN}}}}}]"#);
    cache.commit("added", |tx| tx.json_patch(add)).unwrap();
    let extra = || {
        let row = cache.snapshot().get("sailing", 1).unwrap().unwrap().nested(0);
        row.as_str().to_owned()
    };
    assert_eq!(extra(), format!(r#"{{"id":1,"extra":{WRITTEN}}}"#));
    cache
        .commit("merged", |tx| {
            tx.merge_patch(r#"{"sailing":{"1":{"extra":{"m":{"c":null,"d":2.50},"y":1E2}}}}"#)
        })
        .unwrap();
    let merged = r#"{"z":123456789012345678901234567890,"a":[0.1234567890123456789012345,1e3],"m":{"b":1.50,"d":2.50},"y":1E2}"#;
    assert_eq!(extra(), format!(r#"{{"id":1,"extra":{merged}}}"#));
    let inside = r#"[
        {"op":"test","path":"/sailing/1/extra/a/1","value":1000.0},
        {"op":"test","path":"/sailing/1/extra/z","value":1234567890123456789012345678.90e2},
        {"op":"replace","path":"/sailing/1/extra/a/0","value":7.0},
        {"op":"move","from":"/sailing/1/extra/m/b","path":"/sailing/1/extra/a/-"}
    ]"#;
    cache.commit("changed inside", |tx| tx.json_patch(inside)).unwrap();
    let changed =
        r#"{"z":123456789012345678901234567890,"a":[7.0,1e3,1.50],"m":{"d":2.50},"y":1E2}"#;
    assert_eq!(extra(), format!(r#"{{"id":1,"extra":{changed}}}"#));
    let other =
        r#"[{"op":"test","path":"/sailing/1/extra/z","value":123456789012345678901234567891}]"#;
    assert!(cache.commit("tested", |tx| tx.json_patch(other)).is_err());
}
