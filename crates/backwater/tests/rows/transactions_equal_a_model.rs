//! Whatever a transaction does, the rows, the reported changes and every snapshot ever taken are
//! those of a map that does the same in the slow, obvious way.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, BTreeSet};

use backwater::{
    Cache, ErrorKind, Json, Named, RowId, Schema, Snapshot, Timestamp, Transaction, Value,
    report::ChangeKind,
};
use proptest::prelude::*;

const SCHEMA: &str = r#"
    table.ship = { id = "id", fields = { id = "int", t = "text", u = "text", n = "int", r = "float", b = "bool", w = "timestamp", j = "json", to = { to = "port" }, twin = { to = "ship" } } }
    table.port = { id = "code", fields = { code = "text", n = "int" } }
    table.log = { id = "key", fields = { key = "text", t = "text" } }
    table.only = { one_row = true, fields = { t = "text", ship = { to = "ship" } } }
"#;

type Fields = BTreeMap<String, Value>;
/// Rows by table and id; the one-row table's id is none.
type Model = BTreeMap<(&'static str, Option<RowId>), Fields>;

#[derive(Debug, Clone)]
enum Write {
    Insert(&'static str, RowId, Vec<(&'static str, Value)>),
    Merge(&'static str, RowId, Vec<(&'static str, Value)>),
    Update(&'static str, RowId, Vec<(&'static str, Value)>),
    Delete(&'static str, RowId),
    Set(Vec<(&'static str, Value)>),
}

/// Few texts that repeat, many that do not, and long ones.
fn text() -> impl Strategy<Value = String> {
    prop_oneof![
        (0..4_u8).prop_map(|n| format!("often {n}")),
        (0..100_000_u32).prop_map(|n| format!("rarely {n}")),
        (0..90_usize).prop_map(|n| "é".repeat(n)),
    ]
}

fn field(table: &'static str) -> BoxedStrategy<(&'static str, Value)> {
    let code = (0..40_u8).prop_map(|n| format!("P{n}"));
    match table {
        "ship" => prop_oneof![
            3 => text().prop_map(|t| ("t", t.into())),
            2 => text().prop_map(|t| ("u", t.into())),
            1 => any::<i64>().prop_map(|n| ("n", n.into())),
            1 => (-1e9..1e9_f64).prop_map(|r| ("r", r.into())),
            1 => any::<bool>().prop_map(|b| ("b", b.into())),
            1 => (0..1_000_000_i64).prop_map(|n| ("w", Timestamp::from_micros(n * 7_654_321).unwrap().into())),
            1 => (0..99_u8).prop_map(|n| ("j", Json::parse(&format!("{{\"n\":{n}}}")).unwrap().into())),
            1 => code.prop_map(|code| ("to", code.into())),
            1 => (0..700_i64).prop_map(|id| ("twin", id.into())),
            1 => prop::sample::select(vec!["t", "n", "r", "b", "w", "j", "to"]).prop_map(|name| (name, Value::Null)),
        ]
        .boxed(),
        "port" => (0..9_i64).prop_map(|n| ("n", n.into())).boxed(),
        _ => text().prop_map(|t| ("t", t.into())).boxed(),
    }
}

fn write() -> BoxedStrategy<Write> {
    let tables = prop_oneof![5 => Just("ship"), 1 => Just("port"), 2 => Just("log")];
    let row = tables.prop_flat_map(|table| {
        let id = match table {
            "ship" => (0..700_i64).prop_map(RowId::from).boxed(),
            "port" => (0..40_u8).prop_map(|n| RowId::from(format!("P{n}"))).boxed(),
            _ => "[a-d]{1,3}".prop_map(RowId::from).boxed(),
        };
        (Just(table), id, prop::collection::vec(field(table), 0..5), 0..10_u8)
    });
    let one = prop::collection::vec(text().prop_map(|t| ("t", Value::from(t))), 0..2);
    prop_oneof![
        20 => row.prop_map(|(table, id, fields, what)| match what {
            0..3 => Write::Insert(table, id, fields),
            3..6 => Write::Merge(table, id, fields),
            6..8 => Write::Update(table, id, fields),
            _ => Write::Delete(table, id),
        }),
        1 => (one, 0..700_i64).prop_map(|(mut fields, ship)| {
            fields.push(("ship", ship.into()));
            Write::Set(fields)
        }),
    ]
    .boxed()
}

fn id_field(table: &str) -> &'static str {
    match table {
        "ship" => "id",
        "port" => "code",
        _ => "key",
    }
}

fn put(model: &mut Model, key: (&'static str, Option<RowId>), fields: &[(&'static str, Value)]) {
    let row = model.entry(key.clone()).or_default();
    if let Some(id) = key.1 {
        row.insert(id_field(key.0).to_owned(), id.into());
    }
    row.extend(fields.iter().map(|(name, value)| ((*name).to_owned(), value.clone())));
}

/// Does a write in the transaction and in the model; both must agree on whether it can be done.
fn apply(tx: &mut Transaction, model: &mut Model, write: &Write) -> Result<(), TestCaseError> {
    let named = |table: &str, id: &RowId, fields: &[(&'static str, Value)]| -> Named {
        let id = (id_field(table), Value::from(id.clone()));
        fields.iter().cloned().chain([id]).collect()
    };
    match write {
        Write::Insert(table, id, fields) => {
            let key = (*table, Some(id.clone()));
            let done = tx.insert(table, named(table, id, fields));
            prop_assert_eq!(
                done.map_err(|error| error.kind()),
                if model.contains_key(&key) { Err(ErrorKind::Row) } else { Ok(()) }
            );
            if !model.contains_key(&key) {
                put(model, key, fields);
            }
        }
        Write::Merge(table, id, fields) => {
            tx.merge(table, named(table, id, fields)).unwrap();
            put(model, (*table, Some(id.clone())), fields);
        }
        Write::Update(table, id, fields) => {
            let key = (*table, Some(id.clone()));
            let done = tx.update(table, id.clone(), fields.iter().cloned().collect::<Named>());
            prop_assert_eq!(
                done.map_err(|error| error.kind()),
                if model.contains_key(&key) { Ok(()) } else { Err(ErrorKind::Row) }
            );
            if model.contains_key(&key) {
                put(model, key, fields);
            }
        }
        Write::Delete(table, id) => {
            let was = model.remove(&(*table, Some(id.clone()))).is_some();
            prop_assert_eq!(tx.delete(table, id.clone()).unwrap(), was);
        }
        Write::Set(fields) => {
            tx.set("only", fields.iter().cloned().collect::<Named>()).unwrap();
            put(model, ("only", None), fields);
        }
    }
    // What a transaction reads is what it wrote.
    if let Write::Insert(table, id, _)
    | Write::Merge(table, id, _)
    | Write::Update(table, id, _)
    | Write::Delete(table, id) = write
    {
        let row = tx.get(table, id.clone()).unwrap();
        let fields = row.map(|row| {
            row.fields().map(|(name, value)| (name.to_owned(), value)).collect::<Fields>()
        });
        prop_assert_eq!(fields.as_ref(), model.get(&(*table, Some(id.clone()))));
    }
    Ok(())
}

fn dump(snapshot: &Snapshot) -> Model {
    let mut model = Model::new();
    for table in ["ship", "port", "log", "only"] {
        for row in snapshot.rows(table).unwrap() {
            let fields = row.fields().map(|(name, value)| (name.to_owned(), value)).collect();
            model.insert((table, row.id()), fields);
        }
        assert_eq!(
            snapshot.count(table).unwrap(),
            model.keys().filter(|(other, _)| *other == table).count()
        );
    }
    model
}

/// Every link leads to the row that it names, if that is here.
fn links_lead_there(snapshot: &Snapshot, model: &Model) -> Result<(), TestCaseError> {
    for row in snapshot.rows("ship").unwrap() {
        for (link, table) in [("to", "port"), ("twin", "ship")] {
            let id = row.get(link).unwrap().and_then(|value| match value {
                Value::Int(id) => Some(RowId::from(id)),
                Value::Text(id) => Some(RowId::from(&*id)),
                _ => None,
            });
            let there = id.clone().is_some_and(|id| model.contains_key(&(table, Some(id))));
            let followed = row.follow(link).unwrap();
            prop_assert_eq!(followed.is_some(), there);
            prop_assert!(followed.is_none_or(|row| row.id() == id));
        }
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn rows_changes_and_snapshots_are_the_models(commits in prop::collection::vec(prop::collection::vec(write(), 0..150), 1..9)) {
        let cache = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
        let mut model = Model::from([(("only", None), Fields::new())]);
        let mut kept: Vec<(Snapshot, Model)> = Vec::new();
        for writes in &commits {
            let before = model.clone();
            let mut agreed = Ok(());
            let report = cache.commit("random writes", |tx| {
                agreed = writes.iter().try_for_each(|write| apply(tx, &mut model, write));
                Ok(())
            }).unwrap();
            agreed?;
            let snapshot = cache.snapshot();
            prop_assert_eq!(dump(&snapshot), model.clone());
            links_lead_there(&snapshot, &model)?;

            let mut changed = BTreeSet::new();
            for change in report.changes() {
                let table = ["ship", "port", "log", "only"].into_iter().find(|table| *table == change.table()).unwrap();
                let key = (table, change.id());
                let (old, new) = (before.get(&key), model.get(&key));
                let kind = match (old, new) {
                    (None, Some(_)) => ChangeKind::Inserted,
                    (Some(_), None) => ChangeKind::Deleted,
                    _ => ChangeKind::Updated,
                };
                prop_assert_eq!(change.kind(), kind);
                let reported: BTreeMap<_, _> = change.fields().into_iter().map(|field| (field.name, (field.before, field.after))).collect();
                let names = old.into_iter().chain(new).flat_map(|row| row.keys().cloned());
                let pair = |name: &String| (old.and_then(|row| row.get(name).cloned()), new.and_then(|row| row.get(name).cloned()));
                let wanted = names.map(|name| (name.clone(), pair(&name))).filter(|(_, (a, b))| a != b).collect();
                prop_assert_eq!(reported, wanted);
                prop_assert!(changed.insert(key));
            }
            let keys: BTreeSet<_> = before.keys().chain(model.keys()).cloned().collect();
            let wanted: BTreeSet<_> = keys.into_iter().filter(|key| before.get(key) != model.get(key)).collect();
            prop_assert_eq!(changed, wanted);
            kept.push((snapshot, model.clone()));
        }
        for (snapshot, model) in kept {
            prop_assert_eq!(dump(&snapshot), model, "a snapshot never changes");
        }
    }
}

/// What does not fit is refused with its place, what was found and what was expected.
#[test]
fn values_that_do_not_fit_are_refused() {
    let cache = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
    cache.commit("a ship", |tx| tx.insert("ship", [("id", 1)])).unwrap();
    type Try = fn(&mut Transaction) -> Result<(), backwater::Error>;
    let cases: [(Try, ErrorKind, &str); 16] = [
        (
            |tx| tx.update("ship", 1, [("n", "7")]),
            ErrorKind::Type,
            "ship.n: found text (7), expected int",
        ),
        (
            |tx| tx.update("ship", 1, [("n", 7.5)]),
            ErrorKind::Type,
            "ship.n: found float (7.5), expected int",
        ),
        (
            |tx| tx.update("ship", 1, [("b", 1)]),
            ErrorKind::Type,
            "ship.b: found int (1), expected bool",
        ),
        (
            |tx| tx.update("ship", 1, [("r", f64::NAN)]),
            ErrorKind::Type,
            "ship.r: found NaN, expected a finite number",
        ),
        (
            |tx| tx.update("ship", 1, [("w", "noon")]),
            ErrorKind::Type,
            "ship.w: \"noon\" is not a time of RFC 3339",
        ),
        (
            |tx| tx.update("ship", 1, [("j", "{}")]),
            ErrorKind::Type,
            "ship.j: found text ({}), expected json",
        ),
        (
            |tx| tx.update("ship", 1, [("t", "a\0b")]),
            ErrorKind::Type,
            "ship.t: this text holds U+0000",
        ),
        (
            |tx| tx.update("ship", 1, [("to", 5)]),
            ErrorKind::Type,
            "ship.to: the id of \"port\": found 5, expected an id of type text",
        ),
        (|tx| tx.update("ship", 1, [("id", 2)]), ErrorKind::Row, "ship.id: a row keeps its id"),
        (
            |tx| tx.update("ship", 1, [("nn", 2)]),
            ErrorKind::UnknownName,
            "table \"ship\" has no field \"nn\"; did you mean \"n\"?",
        ),
        (
            |tx| tx.update("shop", 1, [("n", 2)]),
            ErrorKind::UnknownName,
            "there is no table \"shop\"; did you mean \"ship\"?",
        ),
        (|tx| tx.update("only", 1, [("t", "x")]), ErrorKind::Row, "only 1 is not there"),
        (|tx| tx.insert("ship", [("n", 2)]), ErrorKind::Row, "ship.id: a row needs its id"),
        (
            |tx| tx.merge("port", [("code", 2)]),
            ErrorKind::Type,
            "port.code: found int (2), expected an id of type text",
        ),
        (|tx| tx.set("ship", [("n", 2)]), ErrorKind::Row, "\"ship\" is not a one-row table"),
        (
            |tx| tx.delete("only", 1).map(|_| ()),
            ErrorKind::Row,
            "the row of one-row table \"only\" is always there",
        ),
    ];
    for (attempt, kind, wanted) in cases {
        let error = cache.commit("refused", attempt).unwrap_err();
        assert_eq!(
            (error.kind(), error.to_string().contains(wanted)),
            (kind, true),
            "{error}\nshould say: {wanted}"
        );
    }
    assert_eq!(cache.snapshot().commit(), 1);
    cache
        .commit("what fits", |tx| {
            tx.update("ship", 1, [("r", Value::from(7)), ("w", "2031-05-04 07:40:00Z".into())])
        })
        .unwrap();
    let snapshot = cache.snapshot();
    let row = snapshot.get("ship", 1).unwrap().unwrap();
    assert_eq!(row.get("r").unwrap(), Some(Value::Float(7.0)));
    assert_eq!(row.get("w").unwrap().unwrap().to_string(), "2031-05-04T07:40:00.000000Z");
}
