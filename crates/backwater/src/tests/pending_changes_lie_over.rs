//! What is shown is the base, then the pending changes in their order, however rows are written;
//! and it is so after a restart. The model holds the base in a cache of its own, and makes what is
//! shown anew at each step.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use proptest::prelude::*;

use crate::change::{BASE, Transaction};
use crate::error::Result;
use crate::remote::pending::{BaseNote, read_changes, stored_changes};
use crate::value::{Json, RowId, Value};
use crate::{Cache, Query, QueryResult, Schema};

const SCHEMA: &str = r#"
    [table.port]
    id = "code"
    fields = { code = "text", name = "text", size = "int" }
    [table.sailing]
    id = "id"
    version = "version"
    tombstone = "deleted"
    [table.sailing.fields]
    id = "int"
    from = { to = "port", on_delete = "set null" }
    stops = { to_many = "port", on_delete = "cascade" }
    about = { to = ["port", "sailing"] }
    status = "text"
    delay = "int"
    version = "int"
    [table.booking]
    id = ["sailing", "number"]
    [table.booking.fields]
    sailing = { to = "sailing", on_delete = "cascade" }
    number = "int"
    cars = "int"
    [table.crew]
    id = "id"
    fields = { id = "int", sailing = { to = "sailing", on_delete = "restrict" } }
    [response.sailings]
    table = "sailing"
    records = ""
    on_error = "skip"
    [response.all_of]
    url = "/sailings{?status}"
    table = "sailing"
    records = ""
    complete = { status = ":status" }
    list = "by_status"
    [response.cancelled]
    table = "sailing"
    method = "DELETE"
    url = "/sailings/{id}"
    fields = { id = ":id" }
    deletes = true
    [table.board]
    one_row = true
    fields = { search = "text", port = { to = "port" } }
"#;
const TABLES: [&str; 5] = ["port", "sailing", "booking", "crew", "board"];
const PORTS: [&str; 3] = ["SAL", "EEL", "NOR"];
const STATUSES: [&str; 2] = ["boarding", "sailed"];

/// One write, made from numbers so that it shrinks.
type Write = (u8, u8, u8, u8);

/// `covered` are the sailings that a complete response does not delete, where the model says so.
fn write(
    tx: &mut Transaction,
    (what, which, field, value): Write,
    covered: Option<&BTreeSet<i64>>,
) -> Result<()> {
    let port = PORTS[usize::from(which) % 3];
    let other = PORTS[usize::from(value) % 3];
    let status = STATUSES[usize::from(value) % 2];
    let sailing = i64::from(which % 3);
    let number = i64::from(value % 4);
    match what % 16 {
        0 => tx.merge("port", [("code", Value::from(port)), ("size", number.into())]),
        1 => tx.merge("sailing", [("id", Value::from(sailing)), ("from", other.into())]),
        2 if field % 3 == 0 => {
            tx.update("sailing", sailing, [("delay", number), ("version", number % 3)])
        }
        2 => tx.update("sailing", sailing, [("delay", number)]),
        3 => tx.merge("sailing", [("id", Value::from(sailing)), ("status", status.into())]),
        4 => tx.merge(
            "booking",
            [("sailing", sailing), ("number", i64::from(field % 2)), ("cars", number)],
        ),
        5 => tx.delete("sailing", sailing).map(drop),
        6 => tx.delete("port", port).map(drop),
        7 => {
            let stops = PORTS.iter().cycle().skip(value.into()).take(usize::from(field) % 4);
            tx.set_links("sailing", sailing, "stops", stops.copied())
        }
        8 => {
            let (table, id) = match field % 2 {
                0 => ("port", Value::from(other)),
                _ => ("sailing", number.into()),
            };
            let about = [("about", id), ("about_type", table.into())];
            tx.update("sailing", sailing, about)
        }
        9 => {
            let version = match field % 3 {
                0 => String::new(),
                _ => format!(r#","version":{}"#, value % 3),
            };
            let gone = if field % 5 == 4 { r#","deleted":true"# } else { "" };
            let row = format!(r#"{{"id":{sailing},"delay":{number}{version}{gone}}}"#);
            let port = format!(r#"{{"id":{number},"from":{{"code":"{port}","name":"{value}"}}}}"#);
            // What does not fit has the others read once more.
            let bad = if field % 4 == 3 { r#",{"id":1,"delay":"late"}"# } else { "" };
            tx.ingest("sailings", format!("[{row},{port}{bad}]")).map(drop)
        }
        10 => {
            let rows = (0..3).filter(|row| field >> row & 1 == 1);
            let objects = rows.clone().map(|row| format!(r#"{{"id":{row},"status":"{status}"}}"#));
            let response = format!("[{}]", objects.collect::<Vec<_>>().join(","));
            let Some(covered) = covered else {
                let request = crate::Request::get(format!("/sailings?status={status}"));
                return tx.ingest(request, response).map(drop);
            };
            tx.ingest("sailings", response)?;
            let is_missing =
                |id: &i64| !rows.clone().any(|row| row == *id) && !covered.contains(id);
            (0..3).filter(is_missing).try_for_each(|id| {
                let row = tx.get("sailing", id)?;
                let of = row.and_then(|row| row.get("status").unwrap());
                if of == Some(status.into()) { tx.delete("sailing", id).map(drop) } else { Ok(()) }
            })
        }
        11 => {
            let request = crate::Request::new("DELETE", format!("/sailings/{sailing}"));
            tx.ingest(request, "").map(drop)
        }
        12 => tx.merge("crew", [("id", number), ("sailing", sailing)]),
        13 => tx.delete("crew", number).map(drop),
        14 => {
            let patch =
                format!(r#"{{"sailing":{{"{sailing}":{{"delay":{number},"status":null}}}}}}"#);
            tx.merge_patch(patch)
        }
        _ => tx.set("board", [("search", status), ("port", other)]),
    }
}

#[derive(Debug, Clone)]
enum Step {
    /// Writes of a commit, of which one may not fit: then there is none.
    Commit(Vec<Write>),
    Pending(Vec<Write>),
    Confirm(prop::sample::Index),
    Refuse(prop::sample::Index),
    Restart,
}

fn step() -> impl Strategy<Value = Step> {
    let writes = || prop::collection::vec(any::<Write>(), 1..4);
    // Such as stand by themselves.
    let plain = (prop::sample::select(vec![0, 1, 2, 3, 4, 8, 12, 14, 15]), any::<(u8, u8, u8)>());
    let plain = plain.prop_map(|(what, (which, field, value))| (what, which, field, value));
    prop_oneof![
        5 => writes().prop_map(Step::Commit),
        2 => writes().prop_map(Step::Pending),
        5 => prop::collection::vec(plain, 1..3).prop_map(Step::Pending),
        2 => any::<prop::sample::Index>().prop_map(Step::Confirm),
        2 => any::<prop::sample::Index>().prop_map(Step::Refuse),
        1 => Just(Step::Restart),
    ]
}

/// All rows: table and id, and what they hold.
type Image = BTreeMap<(String, String), BTreeMap<String, serde_json::Value>>;

fn image(cache: &Cache) -> Image {
    let snapshot = cache.snapshot();
    let mut image = Image::new();
    for table in TABLES {
        for row in snapshot.rows(table).unwrap() {
            let id = row.id().unwrap_or(RowId::Parts([].into())).to_json();
            let fields = serde_json::from_str(row.nested(0).as_str()).unwrap();
            image.insert((table.to_owned(), id.as_str().to_owned()), fields);
        }
    }
    image
}

fn row_id(id: &str) -> RowId {
    RowId::from_json(&Json::parse(id).unwrap()).unwrap_or(RowId::Parts([].into()))
}

/// Puts rows into a cache that has none.
fn put(cache: &Cache, rows: &Image) {
    cache
        .commit("put", |tx| {
            for ((table, id), fields) in rows {
                let table_no = tx.schema().table_no(table)?;
                let id = (table != "board").then(|| row_id(id));
                tx.put_whole_row(table_no, id, &serde_json::to_string(fields).unwrap())?;
            }
            Ok(())
        })
        .unwrap();
}

fn cache() -> Cache {
    let cache = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
    cache.declare("changes are to be pending", |schema| schema.table::<BaseNote>()).unwrap();
    cache
}

/// What a pending change does: row by row, the members that it sets; those that it takes away are
/// null in `gone`; none if it deletes the row.
#[derive(Debug, Clone)]
struct ModelChange {
    number: i64,
    rows: Vec<((String, String), Option<ModelFields>)>,
}

#[derive(Debug, Clone)]
struct ModelFields {
    is_new: bool,
    set: BTreeMap<String, serde_json::Value>,
    gone: Vec<String>,
}

fn difference(before: &Image, after: &Image) -> Vec<((String, String), Option<ModelFields>)> {
    let mut rows = Vec::new();
    let gone = before.keys().filter(|at| !after.contains_key(*at));
    rows.extend(gone.map(|at| (at.clone(), None)));
    for (at, is) in after {
        let was = before.get(at);
        let differs = |(name, value): &(&String, &serde_json::Value)| {
            was.and_then(|was| was.get(*name)) != Some(*value)
        };
        let mut set: BTreeMap<_, _> =
            is.iter().filter(differs).map(|(n, v)| (n.clone(), v.clone())).collect();
        let mut gone: Vec<_> = was
            .iter()
            .flat_map(|was| was.keys())
            .filter(|name| !is.contains_key(*name))
            .cloned()
            .collect();
        // A link to one of several tables says also to which.
        let link = ["about", "about_type"].map(str::to_owned);
        if link.iter().any(|name| set.contains_key(name) || gone.contains(name)) {
            for name in link {
                match is.get(&name) {
                    Some(value) => drop(set.insert(name, value.clone())),
                    None if gone.contains(&name) => {}
                    None => gone.push(name),
                }
            }
        }
        if was.is_none() || !set.is_empty() || !gone.is_empty() {
            rows.push((at.clone(), Some(ModelFields { is_new: was.is_none(), set, gone })));
        }
    }
    rows
}

/// Does to plain rows what a pending change does.
fn apply(cache: &Cache, change: &ModelChange) {
    // What one row that goes holds goes once that is gone, or once it points elsewhere.
    let gone = change.rows.iter().filter(|(_, fields)| fields.is_none());
    let gone = gone.cycle().take(change.rows.len() * change.rows.len());
    let rest = change.rows.iter().filter(|(_, fields)| fields.is_some());
    let once = gone.chain(rest);
    for ((table, id), fields) in once.clone().chain(once) {
        let _stays = cache.commit("applied", |tx| {
            let there = table == "board" || tx.get(table, row_id(id))?.is_some();
            match fields {
                None => tx.delete(table, row_id(id)).map(drop),
                Some(fields) if fields.is_new || there => {
                    let number = tx.schema().table_no(table)?;
                    let slot = match table.as_str() {
                        "board" => crate::table::ONLY,
                        _ => tx.state.refer_id(number, &row_id(id))?,
                    };
                    tx.merge_row(number, slot, &[]);
                    let mut set = fields.set.clone();
                    let definition = tx.schema();
                    let definition = definition.table(number);
                    set.retain(|name, _| {
                        !definition.id.contains(&definition.field_no(name).unwrap())
                    });
                    let text = serde_json::to_string(&set).unwrap();
                    let mut staged = tx.staged_known(number, slot, &text);
                    staged.extend(fields.gone.iter().map(|name| {
                        (definition.field_no(name).unwrap(), crate::table::Staged::Absent)
                    }));
                    tx.merge_row(number, slot, &staged);
                    Ok(())
                }
                Some(_) => Ok(()),
            }
        });
    }
}

/// The change from one image to another. A row that goes with another one and is put in again is
/// the same in both, and yet part of it.
fn change_between(number: i64, before: &Image, after: &Image) -> ModelChange {
    let mut change = ModelChange { number, rows: difference(before, after) };
    let reached = cache();
    put(&reached, before);
    apply(&reached, &change);
    let reached = image(&reached);
    for (at, is) in after.iter().filter(|(at, _)| !reached.contains_key(*at)) {
        let fields = ModelFields { is_new: true, set: is.clone(), gone: Vec::new() };
        change.rows.retain(|(known, _)| known != at);
        change.rows.push((at.clone(), Some(fields)));
    }
    change
}

struct World {
    cache: Cache,
    /// The base alone.
    base: Cache,
    pending: Vec<ModelChange>,
    last: i64,
    queries: Vec<Query>,
}

/// Their results follow the commits.
const STATEMENTS: [&str; 3] = [
    "SELECT status, count(*) AS n, sum(delay) AS delay FROM sailing GROUP BY status",
    "SELECT s.id, p.name, b.cars FROM sailing s LEFT JOIN port p ON p.code = s.\"from\" \
     LEFT JOIN booking b ON b.sailing = s.id",
    "SELECT s.owner, s.position, p.size FROM sailing_stops s JOIN port p ON p.code = s.target",
];

fn queries(cache: &Cache) -> Vec<Query> {
    let queries = STATEMENTS.iter().map(|statement| cache.query(statement, ()).unwrap());
    queries.inspect(|query| drop(query.read().unwrap())).collect()
}

impl World {
    fn shown(&self) -> (Image, Cache) {
        let shown = cache();
        put(&shown, &image(&self.base));
        self.pending.iter().for_each(|change| apply(&shown, change));
        (image(&shown), shown)
    }

    fn act(&mut self, step: &Step) {
        match step {
            Step::Commit(writes) => {
                let covered = Some(&self.covered());
                let commit = |cache: &Cache, covered| {
                    cache.commit("written", |tx| {
                        writes.iter().try_for_each(|of| write(tx, *of, covered))
                    })
                };
                let (done, model) = (commit(&self.cache, None), commit(&self.base, covered));
                assert_eq!(done.is_ok(), model.is_ok(), "{:?} {:?}", done.err(), model.err());
            }
            Step::Pending(writes) => {
                let (before, shown) = self.shown();
                let all =
                    |tx: &mut Transaction| writes.iter().try_for_each(|of| write(tx, *of, None));
                self.last += 1;
                let number = self.last;
                // What is noted of it waits until the next commit of another kind, or a look.
                let notes = self.cache.now().state.schema.table_no(BASE).unwrap();
                let done = self.cache.commit_pending("shown".to_owned(), [notes; 2], |tx| {
                    tx.write_over((number, 0), all)?;
                    tx.note_pending(|_| ());
                    Ok(())
                });
                assert_eq!(done.is_ok(), shown.commit("shown", all).is_ok(), "{:?}", done.err());
                if done.is_ok() {
                    self.pending.push(change_between(number, &before, &image(&shown)));
                }
            }
            Step::Confirm(which) | Step::Refuse(which) if !self.pending.is_empty() => {
                let change = self.pending.remove(which.index(self.pending.len()));
                let confirms = matches!(step, Step::Confirm(_));
                let ended = self.cache.commit("ended", |tx| {
                    let change = tx.end_pending(change.number).unwrap();
                    if confirms {
                        tx.write_base(&change);
                    }
                    Ok(())
                });
                ended.unwrap();
                if confirms {
                    apply(&self.base, &change);
                }
            }
            Step::Restart => self.restart(),
            Step::Confirm(_) | Step::Refuse(_) => {}
        }
    }

    fn covered(&self) -> BTreeSet<i64> {
        let state = self.cache.snapshot().state;
        let sailing = state.schema.table_no("sailing").unwrap();
        let covered = state.overlay.iter().flat_map(|overlay| overlay.covered());
        let covered = covered.filter(|(table, _)| *table == sailing);
        let ids = covered.filter_map(|(table, slot)| match state.id(table, slot)?.to_id() {
            RowId::Int(id) => Some(id),
            _ => None,
        });
        ids.collect()
    }

    /// The cache is closed, and opened with the rows that a storage would have.
    fn restart(&mut self) {
        let rows = image(&self.cache);
        let snapshot = self.cache.snapshot();
        let state = &snapshot.state;
        let notes = snapshot.table::<BaseNote>().unwrap().here();
        let notes: Vec<BaseNote> = notes.collect();
        let pending = state.overlay.iter().flat_map(|overlay| overlay.pending());
        let pending: Vec<(i64, Json)> =
            pending.map(|change| (change.number, stored_changes(state, change))).collect();
        self.cache = cache();
        put(&self.cache, &rows);
        let taken = self.cache.commit("taken up", |tx| {
            tx.take_up(notes.into_iter().filter_map(BaseNote::into_row).collect())?;
            let pending = pending.iter().map(|(number, stored)| read_changes(tx, *number, stored));
            let pending: Result<Vec<_>> = pending.map(|change| Ok(change?.into())).collect();
            tx.set_pending(pending?);
            Ok(())
        });
        taken.unwrap();
        self.queries = queries(&self.cache);
    }

    fn check(&self) {
        let (expected, shown) = self.shown();
        assert_eq!(image(&self.cache), expected, "shown");
        // What lies below is noted.
        let mut below = image(&self.cache);
        for note in self.cache.snapshot().table::<BaseNote>().unwrap().here() {
            let at = (note.table_name.clone(), note.row_id.clone());
            let fields: Option<BTreeMap<_, _>> =
                note.fields.map(|fields| serde_json::from_str(fields.as_str()).unwrap());
            let absent = note.absent.map(|names| serde_json::from_str(names.as_str()).unwrap());
            let absent: Vec<String> = absent.unwrap_or_default();
            match (fields, note.is_whole == Some(true)) {
                (Some(fields), true) => drop(below.insert(at, fields)),
                (Some(fields), false) => {
                    let row = below.get_mut(&at).unwrap();
                    row.extend(fields);
                    row.retain(|name, _| !absent.contains(name));
                }
                (None, _) => drop(below.remove(&at)),
            }
        }
        assert_eq!(below, image(&self.base), "base");
        for (statement, query) in STATEMENTS.iter().zip(&self.queries) {
            let fresh = shown.query(statement, ()).unwrap().read().unwrap();
            let rows = |result: &QueryResult| format!("{:?}", result.rows().collect::<Vec<_>>());
            assert_eq!(rows(&query.read().unwrap()), rows(&fresh), "{statement}");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(
        std::env::var("BACKWATER_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(150)
    ))]

    #[test]
    fn pending_changes_lie_over_base_values(steps in prop::collection::vec(step(), 1..20)) {
        let (cache, base) = (cache(), cache());
        let queries = queries(&cache);
        let mut world = World { cache, base, pending: Vec::new(), last: 0, queries };
        for step in &steps {
            world.act(step);
            world.check();
        }
    }
}

/// The first of two changes of a link to one of several tables may be refused: the second one says
/// by itself to which table.
#[test]
fn a_link_that_is_pending_says_to_which_table() {
    let (cache, base) = (cache(), cache());
    let queries = queries(&cache);
    let mut world = World { cache, base, pending: Vec::new(), last: 0, queries };
    world.act(&Step::Commit(vec![(3, 0, 0, 0)]));
    world.act(&Step::Pending(vec![(8, 0, 0, 0)]));
    world.act(&Step::Pending(vec![(8, 0, 0, 1)]));
    world.check();
    let refused = world.pending.remove(0).number;
    let ended = world.cache.commit("refused", |tx| Ok(tx.end_pending(refused).is_some()));
    assert!(ended.unwrap().value);
    world.check();
    let snapshot = world.cache.snapshot();
    let row = snapshot.get("sailing", 0).unwrap().unwrap();
    assert_eq!(row.get("about_type").unwrap(), Some(Value::from("port")));
    world.restart();
    world.check();
}

/// A commit that has written to a covered row, while other changes stay shown, knows that it is
/// covered: a complete response without it does not delete it.
#[test]
fn a_row_that_was_written_to_is_covered() {
    let (cache, base) = (cache(), cache());
    let queries = queries(&cache);
    let mut world = World { cache, base, pending: Vec::new(), last: 0, queries };
    world.act(&Step::Commit(vec![(0, 0, 0, 0), (3, 0, 0, 1), (3, 1, 0, 1)]));
    world.act(&Step::Pending(vec![(15, 0, 0, 0)]));
    world.act(&Step::Pending(vec![(2, 0, 1, 1)]));
    world.act(&Step::Commit(vec![(2, 0, 1, 3), (10, 0, 0, 1)]));
    world.check();
    let sailings: Vec<_> = image(&world.cache).into_keys().map(|(_, id)| id).collect();
    assert!(sailings.contains(&"0".to_owned()) && !sailings.contains(&"1".to_owned()));
}

/// What pointed at a row with `restrict` points elsewhere, and the row is deleted, in one change:
/// it is gone however often the change is made once more, and it takes none along that was put in.
#[test]
fn a_row_goes_once_nothing_points_at_it() {
    let (cache, base) = (cache(), cache());
    let queries = queries(&cache);
    let mut world = World { cache, base, pending: Vec::new(), last: 0, queries };
    let of_two = vec![(3, 0, 0, 0), (3, 1, 0, 0), (4, 0, 0, 1), (12, 0, 0, 0)];
    world.act(&Step::Commit(of_two));
    world.act(&Step::Pending(vec![(12, 1, 0, 0), (5, 0, 0, 0), (4, 0, 0, 2)]));
    let sailings =
        |cache: &Cache| image(cache).into_keys().filter(|(of, _)| of == "sailing").count();
    let check = |world: &World| {
        world.check();
        assert_eq!(sailings(&world.cache), 1);
        assert!(image(&world.cache).contains_key(&("booking".to_owned(), "[0,0]".to_owned())));
    };
    check(&world);
    world.act(&Step::Commit(vec![(2, 0, 1, 3), (12, 0, 0, 0)]));
    check(&world);
    world.restart();
    check(&world);
    let confirmed = world.pending.remove(0);
    let ended = world.cache.commit("confirmed", |tx| {
        let change = tx.end_pending(confirmed.number).unwrap();
        tx.write_base(&change);
        Ok(())
    });
    ended.unwrap();
    apply(&world.base, &confirmed);
    check(&world);
}

/// Rows that come to be covered share a version below, but only while no other commit is made; and no
/// version below keeps earlier ones.
#[test]
fn what_lies_below_is_as_the_last_commit_left_it() {
    let cache = cache();
    let pending = |number: i64, id: i64| {
        let late = |tx: &mut Transaction| tx.update("sailing", id, [("delay", 7)]);
        cache.commit("shown", |tx| tx.write_over((number, 0), late).map(drop)).unwrap();
    };
    let below = |id: i64| {
        let state = cache.snapshot().state;
        let sailing = state.schema.table_no("sailing").unwrap();
        let slot = state.slot(sailing, &RowId::Int(id)).unwrap().unwrap();
        let below = state.overlay.as_ref().unwrap().below((sailing, slot)).unwrap().clone();
        assert!(below.overlay.is_none());
        below
    };
    let all = |tx: &mut Transaction| {
        (0..40).try_for_each(|id| tx.insert("sailing", [("id", id), ("delay", 0)]))
    };
    cache.commit("loaded", all).unwrap();
    (0..10).for_each(|id| pending(id, id));
    assert!((0..10).all(|id| Arc::ptr_eq(&below(id), &below(0))));
    for id in 10..20 {
        cache.commit("written", |tx| tx.update("sailing", id, [("delay", 3)])).unwrap();
        // A row that was covered before does not say what lies below the other one.
        pending(2 * id, 0);
        pending(2 * id + 1, id);
    }
    assert!((10..20).all(|id| (0..id).all(|other| !Arc::ptr_eq(&below(id), &below(other)))));
    // One that stands by itself takes no other along.
    let kept: Vec<_> = (0..20).filter(|id| *id != 5).map(|id| (id, below(id))).collect();
    cache.commit("refused", |tx| Ok(tx.end_pending(5).is_some())).unwrap();
    assert!(kept.iter().all(|(id, kept)| Arc::ptr_eq(&below(*id), kept)));
    let end_all = |tx: &mut Transaction| {
        tx.set_pending(Vec::new());
        Ok(())
    };
    cache.commit("refused", end_all).unwrap();
    let late = cache.query("SELECT id FROM sailing WHERE delay = 3 ORDER BY id", ()).unwrap();
    let ids: Vec<Value> = late.read().unwrap().rows().map(|row| row.values()[0].clone()).collect();
    assert_eq!(ids, (10..20).map(Value::Int).collect::<Vec<_>>());
    let late = cache.query("SELECT id FROM sailing WHERE delay = 7", ()).unwrap();
    assert!(late.read().unwrap().is_empty());
}

/// A result is computed while commits go on: it has the changes that were shown meanwhile, though
/// nothing of them is remembered.
#[test]
fn a_result_that_was_computed_meanwhile_has_them() {
    let cache = cache();
    let all = |tx: &mut Transaction| {
        (1..=10_000).try_for_each(|id| tx.insert("sailing", [("id", id), ("delay", 0)]))
    };
    cache.commit("loaded", all).unwrap();
    let other = cache.clone();
    super::meanwhile(super::Meanwhile::Apart, move || {
        let late = |tx: &mut Transaction| tx.update("sailing", 5, [("delay", 7)]);
        other.commit("shown", |tx| tx.write_over((1, 0), late).map(drop)).unwrap();
    });
    let late = cache.query("SELECT count(*) AS n FROM sailing WHERE delay > 0", ()).unwrap();
    assert_eq!(late.read().unwrap().row(0).unwrap().values(), [Value::Int(1)]);
}
