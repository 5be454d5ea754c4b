//! Cases as text: a schema, commits and statements, one step a line. A random test that fails
//! prints its case so; each that was ever found is kept in `cases/`, and played here. To try one,
//! save what a test has printed as `cases/NAME.ndjson`.
//!
//! | step | meaning |
//! |---|---|
//! | `{"schema": […]}` | its lines |
//! | `{"tuning": […]}` | the engine's sizes; without, it is played with several |
//! | `{"query": NAME, "sql": …, "params": {…}, "watched": true}` | a query is defined; `judge` is SQLite's statement, where that is another one |
//! | `{"commit": […]}` | a JSON Patch |
//! | `{"meanwhile": NAME, "place": N, "begins": true}` | at that step of the next commit a query is read, or begins to be kept up to date |
//! | `{"apart": […]}` | the same as a commit, while the next result is computed |
//! | `{"read": NAME}`, `{"rebind": NAME, "params": {…}}`, `{"turn": NAME}`, `{"drop": NAME}` | a query is read, given other values, kept up to date from here on or not any more, dropped |

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;
use std::path::Path;
use std::rc::Rc;

use proptest::prelude::*;
use serde_json::{Value as Json, json};

use super::choices::Statement;
use super::queries_equal_sqlite::{Watched, image_of};
use super::{Meanwhile, meanwhile, nothing_meanwhile, tuned};
use crate::report::ChangeKind;
use crate::schema::{TableOrigin, Tuning};
use crate::{Cache, Report, RowId, Timestamp, Transaction, Value, Watch};

thread_local! {
    /// The steps of the case that this thread plays, and what notes its commits.
    static CASE: RefCell<(Vec<Json>, Option<Watch>)> = const { RefCell::new((Vec::new(), None)) };
}

/// A case begins with this cache.
pub(super) fn begin(cache: &Cache, schema: &str, tuning: Tuning) {
    let lines: Vec<&str> = schema.trim().lines().map(str::trim).collect();
    let first = vec![json!({ "schema": lines }), json!({ "tuning": tuning.numbers() })];
    CASE.replace((first, None));
    let watched = cache.clone();
    let watch = cache.watch_commits(move |report| {
        let patch = patch(report, &watched);
        if !patch.is_empty() {
            note(json!({ "commit": patch }));
        }
    });
    CASE.with_borrow_mut(|case| case.1 = watch.ok());
}

pub(super) fn note(step: Json) {
    CASE.with_borrow_mut(|case| case.0.push(step));
}

/// Makes a commit while a result is computed.
pub(super) fn apart(commit: impl FnOnce() -> Report) -> Report {
    let noted = || CASE.with_borrow(|case| case.0.len());
    let before = noted();
    let report = commit();
    if noted() > before {
        CASE.with_borrow_mut(|case| {
            let commit = case.0.remove(before);
            let is_rebind = case.0.last().is_some_and(|step| step["rebind"].is_string());
            case.0.insert(before - usize::from(is_rebind), json!({ "apart": commit["commit"] }));
        });
    }
    report
}

/// The next query's name, noted as defined.
pub(super) fn defined(statement: &Statement) -> String {
    let queries =
        CASE.with_borrow(|case| case.0.iter().filter(|step| step["query"].is_string()).count());
    let name = format!("q{queries}");
    let Statement { sql, judge, params, watched, plain } = statement;
    let mut step =
        json!({ "query": name, "sql": sql, "params": params_of(params), "watched": watched });
    if judge != sql {
        step["judge"] = json!(judge);
    }
    if *plain {
        step["plain"] = json!(true);
    }
    note(step);
    name
}

pub(super) fn params_of(params: &[(&'static str, Value)]) -> Json {
    let params = params.iter().map(|(name, value)| {
        let value = match value {
            Value::Timestamp(time) => json!({ "time": time.to_string() }),
            Value::Json(text) => json!({ "json": text.as_str() }),
            plain => plain_json(plain),
        };
        ((*name).to_owned(), value)
    });
    Json::Object(params.collect())
}

/// Plays a case; if it fails, it is printed.
pub(super) fn noted(play: impl FnOnce() -> Result<(), TestCaseError>) -> Result<(), TestCaseError> {
    struct Panicking;
    impl Drop for Panicking {
        fn drop(&mut self) {
            if std::thread::panicking() {
                eprintln!("{}", text());
            }
        }
    }
    let panicking = Panicking;
    let played = play();
    drop(panicking);
    let reported = played.map_err(|error| match error {
        TestCaseError::Fail(why) => TestCaseError::fail(format!("{why}\n{}", text())),
        reject => reject,
    });
    CASE.replace(Default::default());
    reported
}

fn text() -> String {
    let mut out = "As a case, to be kept in src/tests/cases:\n".to_owned();
    CASE.with_borrow(|case| case.0.iter().for_each(|step| writeln!(out, "{step}").unwrap()));
    out
}

fn plain_json(value: &Value) -> Json {
    match value {
        Value::Null => Json::Null,
        Value::Bool(flag) => json!(flag),
        Value::Int(number) => json!(number),
        Value::Float(number) => json!(number),
        Value::Text(text) => json!(&**text),
        Value::Timestamp(time) => json!(time.to_string()),
        Value::Json(text) => serde_json::from_str(text.as_str()).unwrap(),
    }
}

/// What a commit did, as a JSON Patch.
fn patch(report: &Report, cache: &Cache) -> Vec<Json> {
    let (schema, snapshot) = (cache.schema(), cache.snapshot());
    let (mut out, mut owners) = (Vec::new(), BTreeSet::new());
    for change in report.changes() {
        let table = schema.table_no(change.table()).unwrap();
        if let TableOrigin::Entries { owner, field } = schema.table(table).made {
            let owner_of = change.fields().into_iter().find(|field| field.name == "owner").unwrap();
            let id = owner_of.after.or(owner_of.before).unwrap().to_string();
            let of = schema.table(owner);
            let id = schema.id(&of.name, &id).unwrap();
            owners.insert((of.name.to_string(), id, of.field(field).name.to_string()));
            continue;
        }
        let row = path(change.table(), change.id().as_ref());
        if change.kind() == ChangeKind::Deleted {
            out.push(json!({ "op": "remove", "path": row }));
            continue;
        }
        if change.kind() == ChangeKind::Inserted && change.id().is_some() {
            out.push(json!({ "op": "add", "path": row, "value": {} }));
        }
        let definition = schema.table(table);
        for field in change.fields() {
            let number = definition.field_no(&field.name).unwrap();
            let is_id = definition.id.contains(&number);
            if is_id || matches!(definition.field(number).kind, crate::schema::FieldKind::Links(_))
            {
                continue;
            }
            let path = format!("{row}/{}", field.name);
            out.push(match field.after {
                Some(value) => json!({ "op": "add", "path": path, "value": plain_json(&value) }),
                None => json!({ "op": "remove", "path": path }),
            });
        }
    }
    for (table, id, field) in owners {
        let Some(row) = snapshot.get(&table, id.clone()).unwrap() else { continue };
        let nested: BTreeMap<String, Json> = serde_json::from_str(row.nested(0).as_str()).unwrap();
        let links = nested.get(&field).cloned().unwrap_or(json!([]));
        let path = format!("{}/{field}", path(&table, Some(&id)));
        out.push(json!({ "op": "add", "path": path, "value": links }));
    }
    out
}

fn path(table: &str, id: Option<&RowId>) -> String {
    let id = id.map_or(String::new(), |id| {
        format!("/{}", id.to_string().replace('~', "~0").replace('/', "~1"))
    });
    format!("/{table}{id}")
}

/// Plays a patch; what was deleted along with another row is gone already.
fn apply(tx: &mut Transaction, patch: &Json) -> crate::error::Result<()> {
    for step in patch.as_array().unwrap() {
        let path = step["path"].as_str().unwrap();
        let parts: Vec<String> = path
            .split('/')
            .skip(1)
            .map(|part| part.replace("~1", "/").replace("~0", "~"))
            .collect();
        match (step["op"].as_str(), &parts[..]) {
            (Some("remove"), [table, id]) => {
                let id = tx.schema().id(table, id)?;
                tx.delete(table, id)?;
            }
            _ => tx.json_patch(json!([step]).to_string())?,
        }
    }
    Ok(())
}

/// Plays a case's steps with sizes of its own or these.
fn play(name: &str, steps: &[Json], otherwise: Tuning) -> Result<(), TestCaseError> {
    let lines = |step: &Json| -> Option<String> {
        let lines: Option<Vec<&str>> =
            step["schema"].as_array()?.iter().map(Json::as_str).collect();
        Some(lines?.join("\n"))
    };
    let schema = steps.iter().find_map(lines).expect("a case has a schema");
    let numbers = steps.iter().find_map(|step| step["tuning"].as_array());
    let numbers =
        numbers.map(|all| all.iter().map(|of| of.as_u64().unwrap() as usize).collect::<Vec<_>>());
    let tuning = numbers.map_or(otherwise, |numbers| Tuning::of(numbers.try_into().unwrap()));
    let cache = tuned(name, &schema, tuning);
    let mut queries: BTreeMap<&str, Watched> = BTreeMap::new();
    let judge = || image_of(&cache);
    let follow = |queries: &mut BTreeMap<&str, Watched>, report: &Report| {
        for query in queries.values_mut() {
            match query.watch {
                Some(_) => query.check_delta(report)?,
                None => query.look_away(),
            }
            query.come_to_an_end()?;
        }
        let (image, mut queries) = (judge(), queries.values());
        queries.try_for_each(|query| {
            query.watch.as_ref().map_or(Ok(()), |_| query.check_result(&image))
        })
    };
    let commit = |patch: &Json| cache.commit("random writes", |tx| apply(tx, patch)).unwrap();
    let apart = Rc::new(RefCell::new((Vec::new(), Vec::new())));
    for step in steps {
        let text = |key: &str| step[key].as_str();
        if let Some(name) = text("query") {
            let sql = text("sql").unwrap().to_owned();
            let judge = text("judge").map_or_else(|| sql.clone(), str::to_owned);
            let is = |key: &str| step[key].as_bool() == Some(true);
            let statement = Statement {
                sql,
                judge,
                params: params(&step["params"]),
                plain: is("plain"),
                watched: is("watched"),
            };
            queries.insert(name, Watched::new(&cache, statement));
        } else if step["commit"].is_array() {
            follow(&mut queries, &commit(&step["commit"]))?;
        } else if step["apart"].is_array() {
            let (cache, patch, made) = (cache.clone(), step["apart"].clone(), apart.clone());
            apart.borrow_mut().0.push(patch.clone());
            meanwhile(Meanwhile::Apart, move || {
                let report = cache.commit("random writes", |tx| apply(tx, &patch)).unwrap();
                let (waits, made) = &mut *made.borrow_mut();
                waits.clear();
                made.push(report);
            });
            continue;
        } else if let Some(name) = text("meanwhile") {
            let place = step["place"].as_u64().unwrap() as usize;
            queries[name].meanwhile(&cache, place, step["begins"] == true);
            continue;
        } else if let Some(name) = text("read") {
            queries[name].check_result(&judge())?;
        } else if let Some(query) = text("rebind").and_then(|name| queries.get_mut(name)) {
            query.rebind(&cache, params(&step["params"]), &judge())?;
        } else if let Some(query) = text("turn").and_then(|name| queries.get_mut(name)) {
            query.turn();
        } else if let Some(name) = text("drop") {
            queries.remove(name);
        } else {
            assert!(
                step["schema"].is_array() || step["tuning"].is_array(),
                "{name}: {step} is no step"
            );
        }
        // Where commits wait for a result, what was made meanwhile comes afterwards.
        let (waits, made) = apart.take();
        nothing_meanwhile(|when| when == Meanwhile::Apart);
        waits.iter().try_for_each(|patch| follow(&mut queries, &commit(patch)))?;
        if made.len() > 1 {
            queries.values_mut().for_each(Watched::look_away);
        }
        made.last().map_or(Ok(()), |report| follow(&mut queries, report))?;
    }
    let image = judge();
    queries.values().try_for_each(|query| query.check_result(&image))
}

fn params(params: &Json) -> Vec<(&'static str, Value)> {
    let params = params.as_object().into_iter().flatten().map(|(name, value)| {
        let name: &'static str = Box::leak(name.clone().into_boxed_str());
        let value = match value {
            Json::Null => Value::Null,
            Json::Bool(flag) => (*flag).into(),
            Json::Number(number) => {
                number.as_i64().map_or_else(|| number.as_f64().unwrap().into(), Value::from)
            }
            Json::String(text) => text.as_str().into(),
            other => match (other["time"].as_str(), other["json"].as_str()) {
                (Some(time), _) => time.parse::<Timestamp>().unwrap().into(),
                (None, text) => crate::Json::parse(text.unwrap()).unwrap().into(),
            },
        };
        (name, value)
    });
    params.collect()
}

/// All that was ever found, and what stands in the notes of those that found it.
#[test]
fn what_was_once_wrong_is_right() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/tests/cases");
    let mut cases = 0;
    for file in std::fs::read_dir(folder).unwrap() {
        let path = file.unwrap().path();
        let text = std::fs::read_to_string(&path).unwrap();
        let steps = text.lines().filter(|line| !line.starts_with('#') && !line.trim().is_empty());
        let steps: Vec<Json> = steps
            .map(|line| {
                serde_json::from_str(line)
                    .unwrap_or_else(|error| panic!("{}: {error}: {line}", path.display()))
            })
            .collect();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let of = |size: usize| Tuning::of([size; Tuning::SIZES]);
        for tuning in [Tuning::default(), of(0), of(1), of(3), of(usize::MAX)] {
            if let Err(error) = play(&name, &steps, tuning) {
                panic!("{name}, {tuning:?}: {error}");
            }
        }
        cases += 1;
    }
    assert!(cases > 5, "{cases} cases are kept");
}

/// A case that is printed says all that happened: played again, it ends with the same tables.
#[test]
fn a_case_that_is_printed_can_be_played() {
    let schema = "
        table.item = { id = 'id', fields = { id = 'int', n = 'float', j = 'json', w = 'timestamp', up = { to = 'item' }, tags = { to_many = 'part' } } }
        table.part = { id = ['a', 'b'], fields = { a = 'text', b = 'int', n = 'bool' } }
        table.one = { one_row = true, fields = { t = 'text' } }
    ";
    let write = |tx: &mut Transaction| {
        let fields = [
            ("id", Value::from(1)),
            ("n", Value::Float(2.0)),
            ("j", crate::Json::parse(r#"{"k":[1.5]}"#)?.into()),
            ("w", Timestamp::from_micros(1_900_000_000_000_000).unwrap().into()),
            ("up", 2.into()),
        ];
        tx.merge("item", fields)?;
        tx.merge("part", [("a", Value::from("x/~y")), ("b", 3.into()), ("n", Value::Null)])?;
        tx.merge("part", [("a", Value::from("z")), ("b", 4.into()), ("n", true.into())])?;
        tx.set_links("item", 1, "tags", [("z", 4), ("x/~y", 3)])?;
        tx.set("one", [("t", "…")])
    };
    let cache = tuned("first", schema, Tuning::default());
    let statement = Statement {
        sql: "SELECT count(*) FROM item WHERE n > :n".into(),
        judge: "SELECT count(*) FROM item WHERE n > :n".into(),
        params: vec![("n", Value::Float(1.0))],
        plain: false,
        watched: true,
    };
    let query = Watched::new(&cache, statement);
    cache.commit("random writes", write).unwrap();
    cache.commit("random writes", |tx| tx.delete("part", ("z", 4)).map(drop)).unwrap();
    cache
        .commit("random writes", |tx| tx.json_patch(r#"[{"op":"remove","path":"/item/1/n"}]"#))
        .unwrap();
    let steps = CASE.with_borrow(|case| case.0.clone());
    let rows = |cache: &Cache| {
        let snapshot = cache.snapshot();
        ["item", "part", "one", "item_tags"].map(|table| {
            snapshot
                .rows(table)
                .unwrap()
                .map(|row| row.nested(0).as_str().to_owned())
                .collect::<Vec<_>>()
        })
    };
    let (before, commits) =
        (rows(&cache), steps.iter().filter(|step| step["commit"].is_array()).count());
    assert_eq!(commits, 3);
    play("second", &steps, Tuning::default()).unwrap();
    let again = tuned("third", schema, Tuning::default());
    for step in steps.iter().filter(|step| step["commit"].is_array()) {
        again.commit("random writes", |tx| apply(tx, &step["commit"])).unwrap();
    }
    assert_eq!(rows(&again), before);
    drop(query);
}
