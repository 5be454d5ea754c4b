//! Threads that read while others commit see each commit whole, in order, and everything that
//! follows from it as of the same moment.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Barrier, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use backwater::{Cache, Delta, QueryResult, Schema, Table, Value, report::ReachedQuery};

#[derive(Table)]
struct Deck {
    #[table(id)]
    id: i64,
    cars: i64,
    note: String,
}

const DECKS: i64 = 12;
const CARS: i64 = 40;

/// `BACKWATER_COMMITS=100000` makes it a long run.
fn commits() -> u64 {
    std::env::var("BACKWATER_COMMITS").ok().and_then(|of| of.parse().ok()).unwrap_or(1500)
}

/// Moves cars from one deck to another: their sum stays.
fn transfer(cache: &Cache, round: u64) {
    let (from, to) = ((round % DECKS as u64) as i64, (round * 7 % DECKS as u64) as i64);
    cache
        .commit("cars moved", |tx| {
            let mut decks = tx.table::<Deck>()?;
            decks.update(from, |deck| deck.cars -= 3)?;
            decks.update(to, |deck| {
                deck.cars += 3;
                deck.note = format!("round {round} of the ferry's deck");
            })
        })
        .unwrap();
}

/// A view that begins while a commit is made hears of all that comes after what it began with.
#[test]
fn views_that_begin_meanwhile_miss_nothing() {
    const PAUSE: Duration = Duration::from_micros(60);
    let schema = "table.deck = { id = 'id', fields = { id = 'int', cars = 'int' } }";
    let cache = Cache::new(Schema::parse("s.toml", schema).unwrap());
    let all = "SELECT id, cars FROM deck WHERE cars >= :least ORDER BY id";
    let others = "SELECT d.id, n.n FROM deck AS d
        JOIN (SELECT cars, count(*) AS n FROM deck GROUP BY cars) AS n ON n.cars = d.cars
        WHERE d.id >= :least ORDER BY d.id";
    let queries = [all, others].map(|sql| cache.query(sql, [("least", 0)]).unwrap());
    let values = |result: &QueryResult| -> Vec<Vec<Value>> {
        result.rows().map(|row| row.values().to_vec()).collect()
    };
    for round in 0..commits() as i64 {
        let writes = Barrier::new(2);
        let watched = thread::scope(|scope| {
            scope.spawn(|| {
                writes.wait();
                for step in 0..4 {
                    let row = [("id", (round + step) % 9), ("cars", round * step % 5)];
                    cache.commit("written", |tx| tx.merge("deck", row)).unwrap();
                }
            });
            writes.wait();
            let begun = Instant::now();
            while begun.elapsed() < PAUSE * (round as u32 % 5) {}
            queries.each_ref().map(|query| {
                let deltas: Arc<Mutex<Vec<Delta>>> = Arc::default();
                let reported = deltas.clone();
                let reported = move |reached: &ReachedQuery<'_>| {
                    reported.lock().unwrap().push(reached.delta().unwrap().clone());
                };
                (cache.read_and_watch(query, reported).unwrap(), deltas)
            })
        });
        for (query, ((start, _watch), deltas)) in queries.iter().zip(watched) {
            let mut view = values(&start);
            deltas.lock().unwrap().iter().for_each(|delta| delta.apply(&mut view).unwrap());
            assert_eq!(view, values(&query.read().unwrap()), "{} in round {round}", query.name());
        }
    }
}

#[test]
fn sums_stay_whoever_reads() {
    let cache = Cache::new(Schema::builder().table::<Deck>().build().unwrap());
    cache
        .commit("loaded", |tx| {
            let mut decks = tx.table::<Deck>()?;
            let deck = |id| Deck { id, cars: CARS, note: String::new() };
            (0..DECKS).try_for_each(|id| decks.insert(&deck(id)))
        })
        .unwrap();
    let watched = cache
        .query("SELECT sum(cars), count(*) FROM deck", ())
        .unwrap()
        .typed::<(i64, i64)>()
        .unwrap();
    let deferred = cache.query("SELECT id, cars FROM deck ORDER BY cars", ()).unwrap();
    let (sums, rows) = (watched.clone(), deferred.clone());
    let derived = cache.derived("sums", move |read| {
        let decks = read.table::<Deck>()?;
        let of_rows: i64 = decks.here().map(|deck| deck.cars).sum();
        let of_query = sums.rows_of(&read.query(&sums)?)?[0].0;
        let cell = |row: backwater::result::ResultRow<'_>| row.values()[1].as_int().unwrap();
        let of_other: i64 = read.query(&rows)?.rows().map(cell).sum();
        Ok((of_rows, of_query, of_other))
    });
    let view = Arc::new(Mutex::new((deferred.read().unwrap().len(), 0_u64)));
    let reported = AtomicU64::new(0);
    let (hears, _kept) = (view.clone(), watched.keep_current());
    let _watch = cache.watch_commits(move |report| {
        assert_eq!(reported.swap(report.number(), Ordering::SeqCst).max(1) + 1, report.number());
        hears.lock().unwrap().1 = report.number();
    });
    let done = AtomicBool::new(false);
    let all = (DECKS * CARS, DECKS);
    thread::scope(|scope| {
        for reader in 0..2 {
            let (cache, watched, deferred, derived, done) =
                (&cache, &watched, &deferred, &derived, &done);
            scope.spawn(move || {
                let mut last = 0;
                while !done.load(Ordering::Acquire) {
                    let snapshot = cache.snapshot();
                    assert!(snapshot.commit() >= last, "time goes on");
                    last = snapshot.commit();
                    let decks = snapshot.table::<Deck>().unwrap();
                    assert_eq!(decks.here().map(|deck| deck.cars).sum::<i64>(), all.0);
                    assert_eq!(watched.first().unwrap(), Some(all));
                    if reader == 0 {
                        let rows = deferred.read().unwrap();
                        let cars = rows.rows().map(|row| row.values()[1].as_int().unwrap());
                        assert_eq!(cars.sum::<i64>(), all.0);
                    }
                    assert_eq!(*derived.get().unwrap(), (all.0, all.0, all.0));
                }
            });
        }
        let writers: Vec<_> = (0..2_u64)
            .map(|writer| {
                let cache = &cache;
                scope.spawn(move || {
                    (0..commits() / 2).for_each(|round| transfer(cache, round * 2 + writer));
                })
            })
            .collect();
        writers.into_iter().for_each(|writer| writer.join().unwrap());
        done.store(true, Ordering::Release);
    });
    assert_eq!(view.lock().unwrap().1, cache.snapshot().commit());
}
