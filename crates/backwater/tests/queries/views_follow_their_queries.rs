//! A list that follows a query equals it whenever it is brought up to date, whatever happened in
//! between; watchers of one thread and of derived values miss nothing, and a panic in one is
//! reported.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use backwater::{Cache, ErrorKind, Schema, Table};
use proptest::prelude::*;

#[derive(Debug, Clone, PartialEq, Table)]
struct Sailing {
    #[table(id)]
    id: i64,
    port: i64,
    delay: Option<i64>,
}

#[derive(Debug, Clone)]
enum Op {
    Write(i64, i64, Option<i64>),
    Delete(i64),
    DeleteWhere(i64),
    UpdateWhere(i64, i64),
    Rebind(i64),
    Update,
}

/// A number, one that makes a sum that cannot be computed, or none, which the list's rows cannot
/// have.
fn delay() -> impl Strategy<Value = Option<i64>> {
    prop_oneof![8 => (0..9_i64).prop_map(Some), 1 => Just(Some(i64::MAX)), 1 => Just(None)]
}

fn op() -> impl Strategy<Value = Op> {
    prop_oneof![
        4 => (0..12_i64, 0..3_i64, delay()).prop_map(|(id, port, delay)| Op::Write(id, port, delay)),
        1 => (0..12_i64).prop_map(Op::Delete),
        1 => (0..9_i64).prop_map(Op::DeleteWhere),
        1 => (0..3_i64, 0..9_i64).prop_map(|(port, delay)| Op::UpdateWhere(port, delay)),
        1 => (0..3_i64).prop_map(Op::Rebind),
        2 => Just(Op::Update),
    ]
}

fn cache() -> Cache {
    Cache::new(Schema::builder().table::<Sailing>().build().unwrap())
}

/// A row of it cannot be read where it has no delay, nor all of it where the sum is beyond 64 bits.
const SQL: &str = "
    SELECT id, delay, (SELECT coalesce(sum(x.delay), 0) FROM sailing AS x WHERE x.port = s.port)
    FROM sailing AS s WHERE port = :port ORDER BY delay DESC, id LIMIT 6";

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_list_equals_its_query(ops in prop::collection::vec(op(), 1..40)) {
        let cache = cache();
        let query = cache.query(SQL, [("port", 0)]).unwrap().typed::<(i64, i64, i64)>().unwrap();
        let woken = Arc::new(AtomicUsize::new(0));
        let wakes = woken.clone();
        let mut list = cache.live(&query, move || {
            wakes.fetch_add(1, Ordering::SeqCst);
        }).unwrap();
        // A list of another kind, kept by the steps alone.
        let mut mirror: Vec<(i64, i64, i64)> = Vec::new();
        let mut model: HashMap<i64, (i64, Option<i64>)> = HashMap::new();
        for op in ops.iter().chain([&Op::Update]) {
            let seen = woken.swap(0, Ordering::SeqCst);
            match op {
                Op::Write(id, port, delay) => {
                    let row = Sailing { id: *id, port: *port, delay: *delay };
                    cache.commit("written", |tx| match delay {
                        // Absent, if the row is new.
                        None if !model.contains_key(id) => tx.insert("sailing", [("id", *id), ("port", *port)]),
                        _ => tx.table::<Sailing>()?.merge(&row),
                    }).unwrap();
                    model.insert(*id, (*port, *delay));
                }
                Op::Delete(id) => {
                    let deleted = cache.commit("deleted", |tx| tx.delete("sailing", *id)).unwrap();
                    prop_assert_eq!(deleted.value, model.remove(id).is_some());
                }
                Op::DeleteWhere(above) => {
                    let deleted = cache.commit("deleted", |tx| tx.delete_where("sailing", |row| {
                        Ok(row.get(Sailing::DELAY)?.and_then(|delay| delay.as_int()) > Some(*above))
                    }));
                    let before = model.len();
                    model.retain(|_, (_, delay)| *delay <= Some(*above));
                    prop_assert_eq!(deleted.unwrap().value, before - model.len());
                }
                Op::UpdateWhere(port, delay) => {
                    let changed = cache.commit("changed", |tx| {
                        let mut sailings = tx.table::<Sailing>()?;
                        sailings.update_where(|of| of.port == *port, |of| of.delay = Some(*delay))
                    });
                    let of_port = model.values_mut().filter(|(of, _)| of == port);
                    prop_assert_eq!(changed.unwrap().value, of_port.map(|of| of.1 = Some(*delay)).count());
                }
                Op::Rebind(port) => drop(cache.rebind("another port", &query, [("port", *port)]).unwrap()),
                Op::Update => {
                    let rows = query.rows();
                    // A view that is behind has been woken since it looked last.
                    let is_behind = rows.as_ref().is_ok_and(|rows| rows[..] != list[..]);
                    prop_assert!(!is_behind || seen > 0, "{:?} is to be {:?}", list, rows);
                    match (list.update(), rows) {
                        (Ok(steps), Ok(rows)) => {
                            for step in steps {
                                step.map(|()| (0, 0, 0)).apply(&mut mirror);
                            }
                            prop_assert_eq!(mirror.len(), list.len());
                            mirror.copy_from_slice(&list);
                            prop_assert_eq!(&list[..], &rows[..]);
                        }
                        (Err(found), Err(expected)) => {
                            prop_assert_eq!(found.to_string(), expected.to_string());
                            prop_assert_eq!(&list[..], &mirror[..], "it stays as it was");
                        }
                        (found, expected) => prop_assert!(false, "{:?}, not {:?}", found, expected),
                    }
                    continue;
                }
            }
            woken.fetch_add(seen, Ordering::SeqCst);
        }
        prop_assert_eq!(cache.commit("counted", |tx| tx.count("sailing")).unwrap().value, model.len());
    }
}

#[test]
fn a_watcher_of_one_thread_is_called_there_and_nowhere_else() {
    let cache = cache();
    let query =
        cache.query("SELECT id, delay FROM sailing", ()).unwrap().typed::<(i64, i64)>().unwrap();
    let here = std::thread::current().id();
    let list = Rc::new(RefCell::new(Vec::new()));
    let (mine, reads, again) = (list.clone(), query.clone(), cache.clone());
    let (start, watch) = cache
        .watch_local(&query, move |delta| {
            assert_eq!(std::thread::current().id(), here);
            reads.apply(&delta.unwrap(), &mut mine.borrow_mut()).unwrap();
            // It may commit itself.
            if mine.borrow().len() == 3 {
                again.commit("cleared", |tx| tx.delete_where("sailing", |_| Ok(true))).unwrap();
            }
        })
        .unwrap();
    assert!(start.is_empty());
    let write = |cache: &Cache, id: i64| {
        let row = Sailing { id, port: 0, delay: Some(id) };
        cache.commit("written", |tx| tx.table::<Sailing>()?.merge(&row)).unwrap();
    };
    write(&cache, 1);
    assert_eq!(list.borrow().len(), 1);
    let other = cache.clone();
    std::thread::spawn(move || write(&other, 2)).join().unwrap();
    assert_eq!(list.borrow().len(), 1, "another thread's commit waits");
    watch.deliver();
    assert_eq!(*list.borrow(), query.rows().unwrap());
    write(&cache, 3);
    assert_eq!((list.borrow().len(), query.rows().unwrap().len()), (0, 0));
    drop(watch);
    write(&cache, 4);
    assert!(list.borrow().is_empty());
}

#[test]
fn a_derived_value_is_delivered_when_it_changed() {
    let cache = cache();
    let late = cache.derived("late", |read| {
        let late =
            read.table::<Sailing>()?.here().filter(|sailing| sailing.delay > Some(5)).count();
        if late > 2 { Err(backwater::Error::new(ErrorKind::Caller, "too many")) } else { Ok(late) }
    });
    let reported = Arc::new(Mutex::new(Vec::new()));
    let list = reported.clone();
    let watch = cache
        .watch_derived(&late, move |late| {
            list.lock()
                .unwrap()
                .push(late.as_ref().map(|late| **late).map_err(ToString::to_string));
        })
        .unwrap();
    for (id, delay) in [(1, 9), (2, 0), (3, 9), (4, 9), (5, 9), (4, 0), (5, 0)] {
        let row = Sailing { id, port: 0, delay: Some(delay) };
        cache.commit("written", |tx| tx.table::<Sailing>()?.merge(&row)).unwrap();
    }
    let too_many = || Err("too many".to_owned());
    assert_eq!(*reported.lock().unwrap(), [Ok(1), Ok(2), too_many(), Ok(2)]);
    drop(watch);
    cache.commit("cleared", |tx| tx.delete_where("sailing", |_| Ok(true))).unwrap();
    assert_eq!(reported.lock().unwrap().len(), 4);
}

#[test]
fn what_is_of_another_cache_is_refused() {
    let (cache, other) = (cache(), cache());
    let query = other.query("SELECT id FROM sailing", ()).unwrap();
    let value = other.derived("seven", |_| Ok(7));
    let ids = query.typed::<(i64,)>().unwrap();
    let refused = [
        cache.watch(&query, |_| {}).map(drop),
        cache.watch_local(&query, |_| {}).map(drop),
        cache.live(&ids, || {}).map(drop),
        cache.deltas(&query).map(drop),
        cache.rehydrate(&query),
        cache.watch_derived(&value, |_| {}).map(drop),
    ];
    for refused in refused {
        let message = refused.unwrap_err().to_string();
        assert!(message.ends_with("is one of another cache; define it in this cache"), "{message}");
    }
}

#[test]
fn a_panic_in_a_watcher_is_heard_of() {
    let heard = Arc::new(Mutex::new(Vec::new()));
    let hears = heard.clone();
    let cache = Cache::builder()
        .schema(Schema::builder().table::<Sailing>().build().unwrap())
        .on_watcher_panic(move |error| hears.lock().unwrap().push(error.to_string()))
        .build()
        .unwrap();
    let query = cache.query("SELECT id FROM sailing", ()).unwrap();
    let _commits = cache.watch_commits(|_| panic!("out of ink")).unwrap();
    let _rows = cache.watch(&query, |_| panic!("out of paper")).unwrap();
    cache.commit("written", |tx| tx.insert("sailing", [("id", 1)])).unwrap();
    let heard = heard.lock().unwrap();
    assert_eq!(heard.len(), 2);
    assert!(
        heard[0].ends_with("SELECT id FROM sailing: a watcher has panicked: out of paper"),
        "{heard:?}"
    );
    assert_eq!(heard[1], "commits: a watcher has panicked: out of ink");
}

#[test]
fn a_watcher_of_one_thread_goes_on_after_a_panic_and_may_end_itself() {
    let cache = cache();
    let query = cache.query("SELECT id FROM sailing", ()).unwrap();
    let (calls, held) = (Rc::new(RefCell::new(0)), Rc::new(RefCell::new(None)));
    let (counts, holds) = (calls.clone(), held.clone());
    let (_, watch) = cache
        .watch_local(&query, move |_| {
            *counts.borrow_mut() += 1;
            match *counts.borrow() {
                1 => panic!("out of paper"),
                3 => drop(holds.take()),
                _ => {}
            }
        })
        .unwrap();
    held.replace(Some(watch));
    for id in 0..6 {
        cache.commit("written", |tx| tx.insert("sailing", [("id", id)])).unwrap();
    }
    assert_eq!(*calls.borrow(), 3);
}
