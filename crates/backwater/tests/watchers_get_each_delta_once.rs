//! Watchers get each commit's delta once, in the order of the commits, and do not harm each other.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::{Arc, Mutex};

use backwater::{Cache, DeltaKind, Query, Schema, Value, report::ReachedQuery};

const SCHEMA: &str = r#"
    table.sailing = { id = "id", fields = { id = "int", delay = "int", vessel = { to = "vessel" } } }
    table.vessel = { id = "name", fields = { name = "text", cars = "int" } }
"#;
const LATE: &str = "SELECT s.id, s.delay, v.cars FROM sailing s LEFT JOIN vessel v ON v.name = s.vessel \
    WHERE s.delay > 5 ORDER BY s.delay DESC LIMIT 4";

type Shown = Arc<Mutex<Vec<Vec<Value>>>>;

fn cache() -> Cache {
    Cache::new(Schema::parse("test.toml", SCHEMA).unwrap())
}

fn delay(cache: &Cache, id: i64, minutes: i64) {
    let fields = [("id", id), ("delay", minutes)];
    cache.commit("delay reported", |tx| tx.merge("sailing", fields)).unwrap();
}

fn rows(query: &Query) -> Vec<Vec<Value>> {
    query.read().unwrap().rows().map(|row| row.values().to_vec()).collect()
}

/// A copy of a result that only follows deltas.
fn follow(cache: &Cache, query: &Query) -> (Shown, backwater::Watch) {
    let shown: Shown = Arc::default();
    let view = shown.clone();
    let reported = move |reported: &ReachedQuery<'_>| {
        reported.delta().unwrap().apply(&mut view.lock().unwrap()).unwrap()
    };
    let mut before = shown.lock().unwrap();
    let (start, watch) = cache.read_and_watch(query, reported).unwrap();
    before.extend(start.rows().map(|row| row.values().to_vec()));
    drop(before);
    (shown, watch)
}

#[test]
fn a_view_that_follows_deltas_shows_the_result_also_of_many_threads_commits() {
    let cache = cache();
    let late = cache.query(LATE, ()).unwrap();
    let (shown, _watch) = follow(&cache, &late);
    let later = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        scope.spawn(|| {
            for _ in 0..20 {
                later.lock().unwrap().push(follow(&cache, &late));
                std::thread::yield_now();
            }
        });
        for thread in 0..4_i64 {
            let cache = &cache;
            scope.spawn(move || {
                for step in 0..200_i64 {
                    let id = (step * 7 + thread * 3) % 11;
                    match step % 5 {
                        0 => drop(cache.commit("gone", |tx| tx.delete("sailing", id)).unwrap()),
                        1 => {
                            let write = |tx: &mut backwater::Transaction| {
                                tx.merge(
                                    "sailing",
                                    [("id", Value::from(id)), ("vessel", "Marram".into())],
                                )?;
                                tx.merge(
                                    "vessel",
                                    [("name", Value::from("Marram")), ("cars", step.into())],
                                )
                            };
                            drop(cache.commit("a vessel in its place", write).unwrap());
                        }
                        _ => delay(cache, id, (step * 13 + thread) % 40),
                    }
                }
            });
        }
    });
    // What the last commits left to deliver is delivered once the next one has been.
    delay(&cache, 99, 0);
    assert_eq!(*shown.lock().unwrap(), rows(&late));
    for (shown, _watch) in later.into_inner().unwrap() {
        assert_eq!(*shown.lock().unwrap(), rows(&late), "one that began meanwhile");
    }
}

#[test]
fn a_commit_inside_of_a_watcher_is_delivered_after_the_current_one() {
    let cache = cache();
    let late = cache.query("SELECT id, delay FROM sailing WHERE delay > 5", ()).unwrap();
    let log: Arc<Mutex<Vec<String>>> = Arc::default();
    let (inner, first) = (cache.clone(), log.clone());
    let _first = cache.watch(&late, move |reached| {
        let entered = reached.delta().unwrap().count(DeltaKind::Enter);
        first.lock().unwrap().push(format!("first: {entered} entered"));
        if entered > 0 {
            let report =
                inner.commit("calmed down", |tx| tx.update("sailing", 1, [("delay", 0)])).unwrap();
            first.lock().unwrap().push(format!("first: made commit {}", report.number()));
        }
    });
    let _first = _first.unwrap();
    let second = log.clone();
    let _second = cache.watch(&late, move |reached| {
        let delta = reached.delta().unwrap();
        second.lock().unwrap().push(format!("second: {} entered", delta.count(DeltaKind::Enter)));
    });
    let _second = _second.unwrap();
    delay(&cache, 1, 10);
    assert_eq!(
        *log.lock().unwrap(),
        [
            "first: 1 entered",
            "first: made commit 2",
            "second: 1 entered",
            "first: 0 entered",
            "second: 0 entered"
        ]
    );
    assert!(rows(&late).is_empty());
}

#[test]
fn a_watcher_that_panics_harms_no_other_and_one_that_ended_hears_nothing() {
    let cache = cache();
    let late = cache.query("SELECT id FROM sailing WHERE delay > 5", ()).unwrap();
    let reported = Arc::new(Mutex::new(0));
    let count = reported.clone();
    let bad = cache.watch(&late, move |_| {
        *count.lock().unwrap() += 1;
        panic!("a view that broke");
    });
    let bad = bad.unwrap();
    let (shown, good) = follow(&cache, &late);
    std::panic::set_hook(Box::new(|_| {}));
    delay(&cache, 1, 10);
    delay(&cache, 2, 10);
    drop(std::panic::take_hook());
    assert_eq!((*reported.lock().unwrap(), shown.lock().unwrap().len()), (2, 2), "both, each time");
    drop(bad);
    drop(good);
    delay(&cache, 3, 10);
    assert_eq!((*reported.lock().unwrap(), shown.lock().unwrap().len()), (2, 2));
    assert_eq!(rows(&late).len(), 3);
}

/// The deltas across new values come in turn with those of the commits; another handle to the old
/// values goes on with these.
#[test]
fn a_watch_survives_other_values_for_the_parameters() {
    const OVER: &str =
        "SELECT id, delay FROM sailing WHERE delay > :over ORDER BY delay, id LIMIT :shown";
    let cache = cache();
    (0..40).for_each(|id| delay(&cache, id, id % 13));
    let bind = || cache.query(OVER, [("over", 5), ("shown", 10)]).unwrap();
    let (moving, staying) = (bind(), bind());
    let (moved, _watch) = follow(&cache, &moving);
    let (stayed, _other) = follow(&cache, &staying);
    std::thread::scope(|scope| {
        scope.spawn(|| (0..300).for_each(|step| delay(&cache, step * 7 % 40, step % 17)));
        scope.spawn(|| {
            for step in 0..300_i64 {
                let values = match step % 3 {
                    0 => [("over", step % 11)],
                    1 => [("shown", step % 14)],
                    _ => [("over", 5)],
                };
                let report = cache.rebind("looked elsewhere", &moving, values).unwrap();
                assert!(report.why(&moving).contains("because") || report.delta(&moving).is_none());
                assert_eq!(report.changes().count(), 0);
            }
        });
    });
    assert_eq!(*moved.lock().unwrap(), rows(&moving));
    assert_eq!(*stayed.lock().unwrap(), rows(&staying));
    let wrong = cache.rebind("mistyped", &moving, [("ovr", 1)]).unwrap_err();
    assert_eq!(wrong.kind(), backwater::ErrorKind::Parameter);
    assert_eq!(*moved.lock().unwrap(), rows(&moving));
    let nested =
        cache.commit("inside", |_| cache.rebind("nested", &moving, [("over", 1)]).map(drop));
    assert_eq!(nested.unwrap_err().kind(), backwater::ErrorKind::Nested);
    let other = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
    assert!(other.rebind("elsewhere", &moving, [("over", 1)]).is_err());
}

/// A query follows a one-row table, also where a watcher of it writes that table again, and while
/// others write it.
#[test]
fn a_query_takes_its_parameters_from_a_row() {
    use backwater::{Table, typed::OneRowTable};

    #[derive(Default, Table)]
    #[table(one_row)]
    struct Board {
        over: i64,
        shown: i64,
    }

    #[derive(Table)]
    struct Item {
        #[table(id)]
        id: i64,
    }

    fn is_one_row<T: OneRowTable>() {}
    is_one_row::<Board>();
    let cache = Cache::new(Schema::builder().table::<Board>().table::<Item>().build().unwrap());
    let insert = |tx: &mut backwater::Transaction| {
        (0..50).try_for_each(|id| tx.table::<Item>()?.insert(&Item { id }))
    };
    cache.commit("loaded", insert).unwrap();
    let query = cache.query("SELECT id FROM item WHERE id > :over", [("over", 0)]).unwrap();
    let follows = cache.params_from(&query, |board: &Board| [("over", board.over)].into()).unwrap();
    let writer = cache.clone();
    let watch = cache.watch(&query, move |reached| {
        let shown = reached.delta().map_or(0, |delta| delta.after().len());
        let set = |board: &mut Board| board.shown = shown as i64;
        writer.commit("shown", |tx| tx.table::<Board>()?.set(set)).unwrap();
    });
    let watch = watch.unwrap();
    std::thread::scope(|scope| {
        for thread in 0..3 {
            let cache = &cache;
            scope.spawn(move || {
                for step in 0..30 {
                    let over = (step * 7 + thread * 11) % 50;
                    cache
                        .commit("moved", |tx| tx.table::<Board>()?.set(|board| board.over = over))
                        .unwrap();
                }
            });
        }
    });
    cache.commit("at last", |tx| tx.table::<Board>()?.set(|board| board.over = 40)).unwrap();
    assert_eq!(query.read().unwrap().len(), 9);
    assert_eq!(cache.snapshot().table::<Board>().unwrap().only().shown, 9);
    drop((follows, watch));
    cache.commit("moved", |tx| tx.table::<Board>()?.set(|board| board.over = 0)).unwrap();
    assert_eq!(query.read().unwrap().len(), 9);
}

/// A watcher may end itself, end another one and begin one while it is called; what it holds is
/// dropped when it has ended.
#[test]
fn watchers_end_and_begin_while_they_are_reported() {
    let cache = cache();
    let late = cache.query(LATE, ()).unwrap();
    let (reported, held) = (Arc::new(Mutex::new(Vec::new())), Arc::new(()));
    let watches: Arc<Mutex<Vec<backwater::Watch>>> = Arc::default();
    let add = |name: &'static str| {
        let (reported, held) = (reported.clone(), held.clone());
        let watch = cache.watch(&late, move |_| {
            reported.lock().unwrap().push(name);
            let _ = &held;
        });
        watch.unwrap()
    };
    let own: Arc<Mutex<Option<backwater::Watch>>> = Arc::default();
    let (mine, others, later) = (own.clone(), watches.clone(), reported.clone());
    let (handle, query, kept) = (cache.clone(), late.clone(), held.clone());
    let first = cache.watch(&late, move |_| {
        later.lock().unwrap().push("first");
        drop(mine.lock().unwrap().take());
        drop(others.lock().unwrap().pop());
        let (later, kept) = (later.clone(), kept.clone());
        let begun = handle.watch(&query, move |_| {
            later.lock().unwrap().push("begun");
            let _ = &kept;
        });
        others.lock().unwrap().push(begun.unwrap());
    });
    *own.lock().unwrap() = Some(first.unwrap());
    watches.lock().unwrap().extend([add("second"), add("third")]);
    delay(&cache, 1, 10);
    // The third one was ended by the first, and the new one was not there yet.
    assert_eq!(*reported.lock().unwrap(), ["first", "second"]);
    // Here, and in the two that are left.
    assert_eq!(Arc::strong_count(&held), 3);
    reported.lock().unwrap().clear();
    delay(&cache, 1, 11);
    assert_eq!(*reported.lock().unwrap(), ["second", "begun"]);
    watches.lock().unwrap().clear();
    assert_eq!(Arc::strong_count(&held), 1);
    delay(&cache, 1, 12);
    assert_eq!(reported.lock().unwrap().len(), 2);
}
