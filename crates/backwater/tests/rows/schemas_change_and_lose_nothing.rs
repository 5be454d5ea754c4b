//! A storage that was written with one schema opens with another: what has a place in it moves
//! there, what has none is retained until it has one again, and only what is dropped is lost.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

use backwater::{
    Cache, ErrorKind, Schema, SqliteFile, Value, clock::SetClock, storage::MemoryStorage,
};
use proptest::prelude::*;

fn parse(text: &str) -> Schema {
    Schema::parse("s.toml", text).unwrap()
}

/// All fields of all rows of a table, as text.
fn rows(cache: &Cache, table: &str) -> Vec<String> {
    let snapshot = cache.snapshot();
    let rows = snapshot.rows(table).unwrap().map(|row| {
        let fields: Vec<String> =
            row.fields().map(|(name, value)| format!("{name}={value}")).collect();
        fields.join(" ")
    });
    let mut rows: Vec<String> = rows.collect();
    rows.sort();
    rows
}

fn changes(cache: &Cache) -> Vec<String> {
    cache.opening().schema_changes.iter().map(ToString::to_string).collect()
}

const FIRST: &str = r#"
    table.port = { id = "code", fields = { code = "text", name = "text" } }
    [table.sailing]
    id = "id"
    [table.sailing.fields]
    id = "int"
    from = { to = "port" }
    stops = { to_many = "port" }
    delay = "int"
    note = "text"
    secret = { type = "text", persist = false }
    [table.crew]
    id = "id"
    fields = { id = "int", name = "text", on = { to = "sailing" } }
    [table.board]
    one_row = true
    fields = { search = "text", dark = "bool" }
"#;

fn first(storage: impl backwater::storage::Storage + 'static) -> Cache {
    let cache = Cache::open_with(parse(FIRST), storage).unwrap();
    cache
        .commit("loaded", |tx| {
            tx.insert("port", [("code", "SAL"), ("name", "Saltmere Quay")])?;
            tx.insert(
                "sailing",
                (("id", 311), ("from", "SAL"), ("delay", 25), ("note", "fog"), ("secret", "s")),
            )?;
            tx.insert("sailing", (("id", 312), ("delay", Value::Null)))?;
            tx.set_links("sailing", 311, "stops", ["SAL", "EEL"])?;
            tx.insert("crew", (("id", 7), ("name", "Ada"), ("on", 311)))?;
            tx.set("board", (("search", "ma"), ("dark", true)))
        })
        .unwrap();
    cache.flush().unwrap();
    cache
}

/// Renamed tables and fields, links among them, another order, other types, an id of another type.
#[test]
fn what_has_a_place_moves_there() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("moved.db");
    drop(first(SqliteFile::new(&path)));
    let second = r#"
        table.harbour = { was = "port", id = "code", fields = { name = "text", code = "text" } }
        [table.sailing]
        id = "id"
        [table.sailing.fields]
        id = "text"
        delay_min = { type = "float", was = ["minutes", "delay"] }
        calls = { to_many = "harbour", was = "stops" }
        from = { to = "harbour" }
        note = { type = "text", persist = false }
        fare = "int"
        [table.crew]
        id = "id"
        fields = { id = "int", on = { to = "sailing" }, name = { type = "text", required = true } }
        [table.board]
        one_row = true
        fields = { dark = "int", search = "text" }
        [query]
        late = "SELECT id FROM sailing WHERE delay_min > 5"
    "#;
    // A read-only opening reports the same, and writes nothing.
    let before = std::fs::read(&path).unwrap();
    let looked = Cache::open_with(parse(second), SqliteFile::read_only(&path)).unwrap();
    assert_eq!(std::fs::read(&path).unwrap(), before);
    let cache = Cache::open_with(parse(second), SqliteFile::new(&path)).unwrap();
    assert_eq!(changes(&cache), changes(&looked));
    drop(looked);
    assert_eq!(
        changes(&cache),
        [
            "harbour was port",
            "sailing.id went from int to text",
            "sailing.delay_min was sailing.delay",
            "sailing.delay_min went from int to float",
            "sailing.calls was sailing.stops",
            "sailing.fare is new",
            "sailing.note does not persist any more, and is gone from the storage",
            "board.dark went from bool to int",
            "sailing_calls was sailing_stops",
        ]
    );
    let check = |cache: &Cache| {
        assert_eq!(
            rows(cache, "sailing"),
            ["id=311 delay_min=25.0 calls=2 from=SAL", "id=312 delay_min=NULL"]
        );
        assert_eq!(
            rows(cache, "sailing_calls"),
            ["owner=311 position=0 target=SAL", "owner=311 position=1 target=EEL",]
        );
        assert_eq!(rows(cache, "crew"), ["id=7 on=311 name=Ada"]);
        assert_eq!(
            (rows(cache, "harbour"), rows(cache, "board")),
            (vec!["name=Saltmere Quay code=SAL".to_owned()], vec!["dark=1 search=ma".to_owned()],)
        );
        assert_eq!(cache.query("late", ()).unwrap().read().unwrap().len(), 1);
    };
    check(&cache);
    cache.commit("fare set", |tx| tx.update("sailing", "312", [("fare", 12)])).unwrap();
    cache.commit("and taken back", |tx| tx.delete("sailing", "312")).unwrap();
    cache
        .commit("and again", |tx| {
            tx.insert("sailing", [("id", Value::from("312")), ("delay_min", Value::Null)])
        })
        .unwrap();
    drop(cache);
    let cache = Cache::open(SqliteFile::new(&path)).unwrap();
    assert!(changes(&cache).is_empty());
    check(&cache);
    let bytes = std::fs::read(&path).unwrap();
    assert!(
        !bytes.windows(3).any(|window| window == b"fog"),
        "what persists no more is in no byte"
    );
}

/// Fields and tables that no schema names are retained whatever happens, and come back when they
/// are named.
#[test]
fn what_is_not_named_sleeps_and_only_drop_removes_it() {
    let memory = MemoryStorage::new();
    drop(first(memory.clone()));
    let small = "table.sailing = { id = 'id', fields = { id = 'int', delay = 'int' } }";
    let cache = Cache::open_with(parse(small), memory.clone()).unwrap();
    let mut reported = changes(&cache);
    reported.sort();
    assert_eq!(
        reported,
        [
            "board is retained: 1 value stays in the storage until a schema names it again",
            "crew is retained: 1 value stays in the storage until a schema names it again",
            "port is retained: 1 value stays in the storage until a schema names it again",
            "sailing.from is retained: 1 value stays in the storage until a schema names it again",
            "sailing.note is retained: 1 value stays in the storage until a schema names it again",
            "sailing.stops is retained: 1 value stays in the storage until a schema names it again",
            "sailing_stops is retained: 2 values stay in the storage until a schema names it again",
        ]
    );
    cache.commit("delayed", |tx| tx.update("sailing", 311, [("delay", 30)])).unwrap();
    cache.commit("announced", |tx| tx.insert("sailing", [("id", 313)])).unwrap();
    drop(cache);
    // A table that is declared while the program runs wakes as well.
    let cache = Cache::open_with(parse(small), memory.clone()).unwrap();
    assert!(changes(&cache).is_empty());
    cache.declare("crew comes", |schema| {
        schema.text("crew", "table.crew = { id = 'id', fields = { id = 'int', name = 'text', on = { to = 'sailing' } } }")
    }).unwrap();
    assert_eq!(rows(&cache, "crew"), ["id=7 name=Ada on=311"]);
    cache.commit("renamed", |tx| tx.update("crew", 7, [("name", "Ida")])).unwrap();
    drop(cache);
    // All of it is back, with what was written meanwhile.
    let cache = Cache::open_with(parse(FIRST), memory.clone()).unwrap();
    assert_eq!(
        rows(&cache, "sailing"),
        ["id=311 from=SAL stops=2 delay=30 note=fog", "id=312 delay=NULL", "id=313"]
    );
    assert_eq!(rows(&cache, "sailing_stops").len(), 2);
    assert_eq!(rows(&cache, "crew"), ["id=7 name=Ida on=311"]);
    assert_eq!(rows(&cache, "board"), ["search=ma dark=true"]);
    drop(cache);
    // A row that goes takes along what is retained of it, and a drop takes what it names.
    let cache = Cache::open_with(parse(small), memory.clone()).unwrap();
    cache.commit("taken out", |tx| tx.delete("sailing", 311)).unwrap();
    cache.commit("another of that number", |tx| tx.insert("sailing", [("id", 311)])).unwrap();
    drop(cache);
    let dropped =
        Cache::open_with(parse(&format!("drop = ['crew', 'board.dark']\n{small}")), memory.clone())
            .unwrap();
    assert_eq!(
        changes(&dropped),
        ["board.dark is dropped, with 1 value", "crew is dropped, with 3 values"]
    );
    drop(dropped);
    let cache = Cache::open_with(parse(FIRST), memory.clone()).unwrap();
    assert_eq!(rows(&cache, "sailing"), ["id=311", "id=312 delay=NULL", "id=313"]);
    assert_eq!(
        (rows(&cache, "crew").len(), rows(&cache, "board")),
        (0, vec!["search=ma".to_owned()])
    );
    // Signing out empties what is retained as well.
    drop(cache);
    let cache = Cache::open_with(parse(small), memory.clone()).unwrap();
    cache.clear("signed out").unwrap();
    drop(cache);
    let cache = Cache::open_with(parse(FIRST), memory).unwrap();
    assert_eq!((rows(&cache, "port").len(), rows(&cache, "board")), (0, vec![String::new()]));
}

/// Where a value would be lost, nothing is written, and the row is named; a step can say what
/// becomes of it. A storage of a newer version is left alone.
#[test]
fn a_value_is_never_lost_on_the_way() {
    let memory = MemoryStorage::new();
    drop(first(memory.clone()));
    for (from, to, said) in [
        (
            "note = \"text\"",
            "note = \"int\"",
            "sailing 311: note: the stored value \"fog\" cannot be int without loss",
        ),
        (
            "delay = \"int\"",
            "delay = \"bool\"",
            "sailing 311: delay: the stored value 25 cannot be bool without loss",
        ),
        (
            "note = \"text\"",
            "note = { type = \"text\", values = [\"calm\"] }",
            "cannot be one of the field's values",
        ),
        (
            "delay = \"int\"",
            "delay = { type = \"int\", required = true }",
            "sailing 312: delay: the stored value null cannot be a value",
        ),
        ("dark = \"bool\"", "dark = \"text\"", "board null: dark"),
        (
            "id = \"id\"\n    fields = { id = \"int\", name",
            "id = \"name\"\n    fields = { id = \"int\", name",
            "table \"crew\": the id was id and is name",
        ),
    ] {
        assert!(FIRST.contains(from));
        let opened = Cache::open_with(parse(&FIRST.replace(from, to)), memory.clone());
        let error = opened.expect_err(to);
        assert_eq!(error.kind(), ErrorKind::Version);
        assert!(error.to_string().contains(said), "{error}");
    }
    let stepped = FIRST.replace("note = \"text\"", "note = \"int\"");
    let open = |last: u32, fails: bool| {
        let mut builder = Cache::builder().schema(parse(&stepped)).storage(memory.clone());
        for number in 1..=last {
            builder = builder.step(number, "notes are counted", move |old, tx| {
                if fails {
                    return Err(backwater::Error::new(ErrorKind::Caller, "not today"));
                }
                for row in old.rows("sailing")? {
                    if let Some(Value::Text(note)) = row.get("note")? {
                        tx.update(
                            "sailing",
                            row.id().unwrap(),
                            [("note", i64::from(number) * note.len() as i64)],
                        )?;
                    }
                }
                Ok(())
            });
        }
        builder.build()
    };
    let failed = open(2, true).unwrap_err();
    assert_eq!(failed.to_string(), "memory: step 1 (notes are counted): not today");
    let cache = open(2, false).unwrap();
    assert_eq!(
        cache.snapshot().get("sailing", 311).unwrap().unwrap().get("note").unwrap(),
        Some(6.into())
    );
    assert_eq!(
        changes(&cache)[1..],
        ["step 1 was done: notes are counted", "step 2 was done: notes are counted"]
    );
    drop(cache);
    assert!(changes(&open(2, true).unwrap()).is_empty(), "a step is done once");
    let newer = open(1, false).unwrap_err();
    assert_eq!(newer.kind(), ErrorKind::Version);
    assert!(newer.to_string().contains("gone through step 2"), "{newer}");
    assert_eq!(Cache::open(memory.clone()).unwrap().snapshot().count("crew").unwrap(), 1);
}

/// A field of the random schemas: its type, whether it persists, its place.
#[derive(Debug, Clone)]
struct Shape {
    tables: BTreeMap<usize, Vec<(usize, u8)>>,
    /// Those whose rows are dated.
    dated: BTreeSet<usize>,
}

const TYPES: [&str; 4] = ["int", "text", "float", "bool"];

impl Shape {
    fn text(&self) -> String {
        let mut text = String::new();
        for (table, fields) in &self.tables {
            writeln!(text, "[table.t{table}]\nid = 'id'").unwrap();
            if self.dated.contains(table) {
                text.push_str("expires_after = '7 days'\n");
            }
            write!(text, "[table.t{table}.fields]\nid = 'int'\n").unwrap();
            for (field, kind) in fields {
                writeln!(text, "f{field} = '{}'", TYPES[usize::from(*kind)]).unwrap();
            }
        }
        text
    }
}

/// A json field becomes one of another type as if a response had given its values there, and back;
/// what would lose something is refused, with the value as JSON. The same after it was retained.
#[test]
fn json_becomes_what_it_says() {
    let schema = |kind: &str| {
        parse(&format!("table.t = {{ id = 'id', fields = {{ id = 'int', v = '{kind}' }} }}"))
    };
    let nothing = || parse("table.t = { id = 'id', fields = { id = 'int' } }");
    let open = |schema: Schema, memory: &MemoryStorage| Cache::open_with(schema, memory.clone());
    for (json, kind, becomes) in [
        (r#""fog""#, "text", Ok(Value::from("fog"))),
        (r#""a \"quoted\" word""#, "text", Ok("a \"quoted\" word".into())),
        (
            r#""2031-05-04T05:41:00Z""#,
            "timestamp",
            Ok(Value::Timestamp("2031-05-04T05:41:00Z".parse().unwrap())),
        ),
        (
            r#""2031-05-04T05:41:00+02:00""#,
            "timestamp",
            Err(r#"the stored value "2031-05-04T05:41:00+02:00" cannot be timestamp"#),
        ),
        ("25", "int", Ok(Value::Int(25))),
        ("2.5e1", "float", Ok(Value::Float(25.0))),
        ("0.1", "float", Ok(Value::Float(0.1))),
        (
            "0.1234567890123456789012345",
            "float",
            Err("the stored value 0.1234567890123456789012345 cannot be float"),
        ),
        ("true", "bool", Ok(Value::Bool(true))),
        ("25", "text", Err("the stored value 25 cannot be text")),
        (r#"{"a":[1.50]}"#, "text", Err(r#"the stored value {"a":[1.50]} cannot be text"#)),
        (r#""fog""#, "int", Err(r#"the stored value "fog" cannot be int"#)),
    ] {
        let memory = MemoryStorage::new();
        let cache = open(schema("json"), &memory).unwrap();
        let value = Value::Json(backwater::Json::parse(json).unwrap());
        cache
            .commit("written", |tx| tx.merge("t", [("id", 1.into()), ("v", value.clone())]))
            .unwrap();
        drop(cache);
        let read = |cache: &Cache| cache.snapshot().get("t", 1).unwrap().unwrap().get("v").unwrap();
        for is_retained in [false, true] {
            if is_retained {
                drop(open(nothing(), &memory).unwrap());
            }
            match (open(schema(kind), &memory), &becomes) {
                (Ok(cache), Ok(becomes)) => {
                    assert_eq!(read(&cache).as_ref(), Some(becomes), "{json}")
                }
                (Err(error), Err(said)) => assert!(error.to_string().contains(said), "{error}"),
                // What was retained and does not fit stays retained.
                (Ok(cache), Err(_)) if is_retained => assert_eq!(read(&cache), None),
                (opened, _) => panic!("{json} as {kind}: {opened:?}"),
            }
            let back = read(&open(schema("json"), &memory).unwrap()).unwrap();
            let Value::Json(back) = back else { panic!("{back:?}") };
            let plain = if json == "2.5e1" { "25.0" } else { json };
            assert!(
                back.as_str() == json || back.as_str() == plain || kind == "timestamp",
                "{back:?}"
            );
        }
    }
}

fn shape() -> impl Strategy<Value = Shape> {
    // A field's type goes with its name, so that every value fits again.
    let fields = prop::collection::btree_set(0..5_usize, 0..5)
        .prop_map(|fields| {
            fields.into_iter().map(|field| (field, (field % 4) as u8)).collect::<Vec<_>>()
        })
        .prop_shuffle();
    let tables = prop::collection::btree_map(0..3_usize, fields, 0..4);
    let dated = prop::collection::btree_set(0..3_usize, 0..3);
    (tables, dated).prop_map(|(tables, dated)| Shape { tables, dated })
}

fn value(kind: u8, n: i64) -> Value {
    match kind {
        0 => Value::Int(n),
        1 => format!("text {n}").into(),
        2 => Value::Float(n as f64 / 4.0),
        _ => Value::Bool(n % 2 == 0),
    }
}

type Model = BTreeMap<(usize, i64), BTreeMap<usize, String>>;

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, failure_persistence: None, ..ProptestConfig::default() })]

    /// Schemas that come one after the other, with writes in between: the model keeps a value for
    /// each row and field that was ever written and whose row was not deleted since, named or not.
    #[test]
    fn random_schemas_keep_what_a_model_keeps(
        rounds in prop::collection::vec(
            (shape(), prop::collection::vec((0..3_usize, 0..4_i64, 0..5_usize, 0..9_i64, 0..6_u8), 0..8)), 1..7),
        on_disk in any::<bool>(),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let (path, memory) = (folder.path().join("m.db"), MemoryStorage::new());
        let mut model = Model::new();
        for (shape, writes) in rounds {
            let schema = parse(&shape.text());
            let clock = SetClock::at("2031-05-04T05:00:00Z".parse().unwrap());
            let builder = Cache::builder().schema(schema).clock(clock);
            let cache = match on_disk {
                true => builder.storage(SqliteFile::new(&path)),
                false => builder.storage(memory.clone()),
            }.build().unwrap();
            for (table, id, field, n, what) in writes {
                let Some(fields) = shape.tables.get(&table) else { continue };
                let name = format!("t{table}");
                if what == 0 {
                    cache.commit("deleted", |tx| tx.delete(&name, id)).unwrap();
                    model.remove(&(table, id));
                } else if let Some((_, kind)) = fields.iter().find(|(of, _)| *of == field) {
                    let value = value(*kind, n);
                    cache.commit("written", |tx| {
                        tx.merge(&name, [("id".to_owned(), Value::Int(id)), (format!("f{field}"), value.clone())])
                    }).unwrap();
                    model.entry((table, id)).or_default().insert(field, value.to_string());
                }
            }
            let expected: Vec<(usize, i64, usize, String)> = model.iter()
                .filter_map(|((table, id), values)| Some((*table, *id, shape.tables.get(table)?, values)))
                .flat_map(|(table, id, fields, values)| {
                    let mut fields: Vec<usize> = fields.iter().map(|(field, _)| *field).collect();
                    fields.sort_unstable();
                    fields.into_iter().filter_map(move |field| Some((table, id, field, values.get(&field)?.clone())))
                })
                .collect();
            let snapshot = cache.snapshot();
            let mut found = Vec::new();
            for table in shape.tables.keys() {
                for row in snapshot.rows(&format!("t{table}")).unwrap() {
                    for (name, value) in row.fields().filter(|(name, _)| *name != "id") {
                        let id = row.get("id").unwrap().unwrap().as_int().unwrap();
                        found.push((*table, id, name[1..].parse().unwrap(), value.to_string()));
                    }
                }
            }
            found.sort();
            prop_assert_eq!(found, expected);
        }
    }
}
