//! What is deleted when a storage holds too much: only what nothing links to, that first which was
//! received or read least recently, and lists as a whole.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use backwater::{Cache, Request, Schema, clock::SetClock, storage::MemoryStorage};
use proptest::prelude::*;

const TABLES: &str = r#"
    table.port = { id = "code", fields = { code = "text" } }
    table.vessel = { id = "name", fields = { name = "text", home = { to = "port" } } }
    table.sailing = { id = "id", fields = { id = "text", vessel = { to = "vessel" }, stops = { to_many = "port" }, after = { to = "sailing" } } }
    table.booking = { id = "id", fields = { id = "text", sailing = { to = "sailing" }, note = "text" } }
    table.board = { one_row = true, fields = { shown = { to = "sailing" } } }
    table.scratch = { id = "id", persist = false, fields = { id = "text", booking = { to = "booking" } } }
    response.page = { url = "/page/{port}", table = "sailing", list = "page_list" }
"#;

#[derive(Debug, Clone)]
enum Step {
    Vessel(u8, u8),
    Sailing(u8, u8, Vec<u8>, Option<u8>),
    Booking(u8, u8, usize),
    Scratch(u8, u8),
    Show(u8),
    Page(u8, Vec<u8>),
    Get(u8),
    Follow(u8),
    Query(u8),
    Delete(u8),
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let id = 0..5_u8;
    let several = prop::collection::vec(id.clone(), 0..4);
    let step = prop_oneof![
        2 => (id.clone(), id.clone()).prop_map(|(id, to)| Step::Vessel(id, to)),
        3 => (id.clone(), id.clone(), several.clone(), prop::option::of(id.clone()))
            .prop_map(|(id, to, stops, after)| Step::Sailing(id, to, stops, after)),
        3 => (id.clone(), id.clone(), 0..300_usize).prop_map(|(id, to, len)| Step::Booking(id, to, len)),
        1 => (id.clone(), id.clone()).prop_map(|(id, to)| Step::Scratch(id, to)),
        1 => id.clone().prop_map(Step::Show),
        2 => (id.clone(), several).prop_map(|(port, rows)| Step::Page(port, rows)),
        1 => id.clone().prop_map(Step::Get),
        1 => id.clone().prop_map(Step::Follow),
        1 => id.clone().prop_map(Step::Query),
        1 => id.prop_map(Step::Delete),
    ];
    prop::collection::vec(step, 1..30)
}

/// What a test knows of a row or a list.
#[derive(Default, Debug, Clone)]
struct Thing {
    last: u64,
    links: Vec<String>,
    /// Whether it takes nothing in a storage, or is always there.
    stays: bool,
}

type Model = BTreeMap<String, Thing>;

fn bring(model: &mut Model, name: String, now: u64, links: Vec<String>) {
    let thing = model.entry(name).or_default();
    (thing.last, thing.links) = (now, links);
}

fn ask(model: &mut Model, name: &str, now: u64) {
    if let Some(thing) = model.get_mut(name) {
        thing.last = now;
    }
}

/// Lets things go, the oldest first, for as long as there are such that can. Of those that are as old
/// as each other any may be the next: if only `some` may go, and so many at most, the order is looked
/// for in which most of them do. Returns how many went.
fn let_go(model: &Model, some: Option<(&BTreeSet<String>, usize)>) -> usize {
    let is_linked = |name: &String| {
        model.iter().any(|(other, thing)| other != name && thing.links.contains(name))
    };
    let free = || model.iter().filter(|(name, thing)| !thing.stays && !is_linked(name));
    let oldest = free().map(|(_, thing)| thing.last).min();
    let next = free().filter(|(_, thing)| Some(thing.last) == oldest).map(|(name, _)| name);
    let without = |name: &String| {
        let mut model = model.clone();
        model.remove(name);
        model
    };
    let Some((may_go, most)) = some else {
        return { next }.next().map_or(0, |name| 1 + let_go(&without(name), None));
    };
    let mut best = 0;
    for name in next.filter(|name| may_go.contains(*name)) {
        if best < most {
            best = best.max(1 + let_go(&without(name), Some((may_go, most - 1))));
        }
    }
    best
}

fn here(cache: &Cache) -> BTreeSet<String> {
    let snapshot = cache.snapshot();
    let mut names = BTreeSet::new();
    for table in ["port", "vessel", "sailing", "booking"] {
        names.extend(snapshot.rows(table).unwrap().map(|row| row.id().unwrap().to_string()));
    }
    for row in snapshot.rows("page_list").unwrap() {
        names.insert(format!("list {}", row.get("port").unwrap().unwrap()));
    }
    names
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_was_asked_for_longest_ago_goes_first(steps in steps()) {
        let memory = MemoryStorage::new();
        let clock = SetClock::at("2031-05-04T05:00:00Z".parse().unwrap());
        let open = |most: usize| {
            let text = format!("limits.stored_bytes = {most}\n{TABLES}");
            let builder = Cache::builder().schema(Schema::parse("s.toml", &text).unwrap());
            builder.clock(clock.clone()).storage(memory.clone()).build().unwrap()
        };
        let cache = open(1 << 40);
        let mut model = Model::new();
        let sailings = cache.query("SELECT vessel FROM sailing WHERE id = :id", [("id", "")]).unwrap();
        for (now, step) in (1..).zip(&steps) {
            // Times are recorded in steps of ten minutes.
            clock.advance(Duration::from_secs(601));
            match step {
                Step::Vessel(id, to) => {
                    let (id, to) = (format!("V{id}"), format!("P{to}"));
                    cache.commit("vessel", |tx| tx.merge("vessel", (("name", &*id), ("home", &*to)))).unwrap();
                    bring(&mut model, id, now, vec![to]);
                }
                Step::Sailing(id, to, stops, after) => {
                    let (id, to) = (format!("S{id}"), format!("V{to}"));
                    let stops: Vec<String> = stops.iter().map(|to| format!("P{to}")).collect();
                    let after = after.map(|id| format!("S{id}"));
                    cache.commit("sailing", |tx| {
                        tx.merge("sailing", (("id", &*id), ("vessel", &*to), ("after", after.as_deref())))?;
                        tx.set_links("sailing", id.as_str(), "stops", stops.iter().map(String::as_str))
                    }).unwrap();
                    bring(&mut model, id, now, stops.into_iter().chain([to]).chain(after).collect());
                }
                Step::Booking(id, to, len) => {
                    let (id, to, note) = (format!("B{id}"), format!("S{to}"), "x".repeat(*len));
                    let fields = (("id", &*id), ("sailing", &*to), ("note", &*note));
                    cache.commit("booking", |tx| tx.merge("booking", fields)).unwrap();
                    bring(&mut model, id, now, vec![to]);
                }
                Step::Scratch(id, to) => {
                    let (id, to) = (format!("D{id}"), format!("B{to}"));
                    cache.commit("scratch", |tx| tx.merge("scratch", (("id", &*id), ("booking", &*to)))).unwrap();
                    model.insert(id, Thing { stays: true, links: vec![to], last: 0 });
                }
                Step::Show(id) => {
                    let id = format!("S{id}");
                    cache.commit("shown", |tx| tx.set("board", [("shown", id.as_str())])).unwrap();
                    model.insert("board".into(), Thing { stays: true, links: vec![id], last: 0 });
                }
                Step::Page(port, rows) => {
                    let mut ids: Vec<String> = Vec::new();
                    rows.iter().map(|id| format!("S{id}")).for_each(|id| if !ids.contains(&id) { ids.push(id) });
                    let text = ids.iter().map(|id| format!(r#"{{"id":"{id}"}}"#)).collect::<Vec<_>>().join(",");
                    let request = Request::get(format!("/page/Q{port}"));
                    cache.commit("page", |tx| tx.ingest(request, format!("[{text}]"))).unwrap();
                    for id in &ids {
                        let links = model.get(id).map(|thing| thing.links.clone()).unwrap_or_default();
                        bring(&mut model, id.clone(), now, links);
                    }
                    let name = format!("list Q{port}");
                    if ids.is_empty() { model.remove(&name); } else { bring(&mut model, name, now, ids); }
                }
                Step::Get(id) => {
                    let id = format!("S{id}");
                    drop(cache.snapshot().get("sailing", id.as_str()).unwrap().map(|row| row.id()));
                    ask(&mut model, &id, now);
                }
                Step::Follow(id) => {
                    let (snapshot, id) = (cache.snapshot(), format!("S{id}"));
                    if let Some(row) = snapshot.get("sailing", id.as_str()).unwrap() {
                        let vessel = row.follow("vessel").unwrap();
                        ask(&mut model, &id, now);
                        vessel.iter().for_each(|row| ask(&mut model, &row.id().unwrap().to_string(), now));
                    }
                }
                Step::Query(id) => {
                    let id = format!("S{id}");
                    cache.rebind("another", &sailings, [("id", id.as_str())]).unwrap();
                    if sailings.read().unwrap().row(0).is_some() {
                        ask(&mut model, &id, now);
                    }
                }
                Step::Delete(id) => {
                    let id = format!("S{id}");
                    cache.commit("gone", |tx| tx.delete("sailing", id.as_str()).map(drop)).unwrap();
                    model.remove(&id);
                }
            }
        }
        let kept_first = here(&cache);
        drop((cache, sailings));
        // After a restart nothing links from what did not persist.
        model.retain(|name, _| !name.starts_with('D'));
        let mut last = kept_first.len();
        for most in [4000, 2000, 1000, 500, 300, 200, 100, 50, 1] {
            let cache = open(most);
            let kept = here(&cache);
            let gone: BTreeSet<String> = kept_first.difference(&kept).cloned().collect();
            let oldest = let_go(&model, Some((&gone, gone.len())));
            prop_assert_eq!(oldest, gone.len(), "at most {}: {:?}", most, gone);
            prop_assert!(kept.len() <= last);
            last = kept.len();
            prop_assert!(cache.trim("again").unwrap().is_none());
        }
        prop_assert_eq!(kept_first.len() - last, let_go(&model, None));
    }
}

/// `BACKWATER_CASES=20000 cargo test --release -p backwater --test what_is_too_much_goes` is a long
/// run.
fn cases() -> u32 {
    std::env::var("BACKWATER_CASES").map_or(80, |cases| cases.parse().unwrap())
}
