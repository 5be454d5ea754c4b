//! Structs out of tables, derived values, watchers and snapshots.

use std::collections::HashMap;
use std::hint::black_box;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use backwater::{Cache, Derived, Id, Schema, Table, Watch};

use crate::ingest::figure;
use crate::measure::{Figure, alternate};

#[derive(Debug, Clone, PartialEq, Table)]
struct Sailing {
    #[table(id)]
    id: i64,
    route: String,
    vessel: String,
    status: String,
    delay_min: Option<i64>,
    cars_booked: i64,
}

/// What a list shows of a sailing, its texts borrowed.
#[derive(Debug, Clone, PartialEq, Table)]
#[table(of = Sailing)]
struct Shown<'s> {
    vessel: &'s str,
    status: &'s str,
    cars_booked: i64,
}

#[derive(Debug, Clone, PartialEq, Table)]
#[table(of = Sailing)]
struct Delay {
    delay_min: Option<i64>,
}

/// How often one run reads or commits.
const TIMES: usize = 2000;
const DERIVED: usize = 10_000;

fn sailings(size: usize) -> Vec<Sailing> {
    let mut rng = fastrand::Rng::with_seed(3);
    let statuses = ["on time", "boarding", "delayed", "departed", "cancelled"];
    let mut sailing = |id| Sailing {
        id,
        route: format!("R{:04}", rng.usize(..200)),
        vessel: format!("vessel-{}", rng.usize(..200)),
        status: statuses[rng.usize(..5)].to_owned(),
        delay_min: (rng.u32(..20) > 0).then(|| rng.i64(0..90)),
        cars_booked: rng.i64(0..90),
    };
    (1..=size as i64).map(&mut sailing).collect()
}

fn filled(rows: &[Sailing]) -> Result<Cache, backwater::Error> {
    let cache = Cache::new(Schema::builder().table::<Sailing>().build()?);
    cache.commit("sailings loaded", |tx| {
        let mut sailings = tx.table::<Sailing>()?;
        rows.iter().try_for_each(|row| sailings.insert(row))
    })?;
    Ok(cache)
}

fn ids(size: usize, count: usize) -> Vec<i64> {
    (0..count).map(|_| fastrand::i64(1..=size as i64)).collect()
}

fn report(cache: &Cache, id: i64, delay: i64) -> Result<backwater::Report, backwater::Error> {
    let done =
        cache.commit("delay reported", |tx| tx.update("sailing", id, [("delay_min", delay)]));
    Ok(done?.report)
}

/// One row by its id, and all rows one after the other.
pub(crate) fn read(size: usize) -> anyhow::Result<Vec<Figure>> {
    let rows = sailings(size);
    let cache = filled(&rows)?;
    let snapshot = cache.snapshot();
    let table = snapshot.table::<Sailing>()?;
    let map: HashMap<i64, Sailing> = rows.iter().map(|row| (row.id, row.clone())).collect();
    let same = ids(size, TIMES).iter().all(|id| table.get(*id).here() == map.get(id).cloned());
    anyhow::ensure!(same, "other rows than in the map");
    let (get, by_hand) = alternate(
        || ids(size, TIMES),
        |ids| ids.iter().filter_map(|id| black_box(table.get(*id).here())).count(),
        |ids| ids.iter().filter_map(|id| black_box(map.get(id).cloned())).count(),
    );
    let shown = snapshot.table::<Shown<'_>>()?;
    let sum = |len: usize, cars: i64| len as i64 + cars;
    let ours = || -> i64 {
        shown.here().map(|row| sum(row.vessel.len() + row.status.len(), row.cars_booked)).sum()
    };
    let hand = || -> i64 {
        rows.iter().map(|row| sum(row.vessel.len() + row.status.len(), row.cars_booked)).sum()
    };
    anyhow::ensure!(ours() == hand(), "another sum than over the structs");
    let (iter, over) = alternate(|| (), |()| ours(), |()| hand());
    let each = |seconds: f64| seconds / TIMES as f64;
    Ok(vec![
        figure("read/get", size, each(get), "HashMap, clone", each(by_hand), 3.0),
        figure("read/iter", size, iter, "a Vec of structs", over, 3.0),
    ])
}

/// Derived values, each of one row, and all read once.
fn derived(cache: &Cache, runs: &Arc<AtomicU64>) -> anyhow::Result<Vec<Derived<i64>>> {
    let runs = runs.clone();
    let delay = cache.derived_by("delay", move |read, id: &Id<Sailing>| {
        runs.fetch_add(1, Ordering::Relaxed);
        let row = read.table::<Delay>()?.get(id).here();
        Ok(row.and_then(|row| row.delay_min).unwrap_or(0))
    });
    let all: Vec<_> = (1..=DERIVED as i64).map(|id| delay.of(Id::new(id))).collect();
    for of in &all {
        of.get()?;
    }
    Ok(all)
}

/// Commits beside derived values, and one that changes what one of them reads.
pub(crate) fn of_derived(size: usize) -> anyhow::Result<Vec<Figure>> {
    let size = size.max(2 * DERIVED);
    let rows = sailings(size);
    let (with, without) = (filled(&rows)?, filled(&rows)?);
    let runs = Arc::new(AtomicU64::new(0));
    let values = derived(&with, &runs)?;
    let beside = || -> Vec<(i64, i64)> {
        let ids = (0..TIMES).map(|_| fastrand::i64(DERIVED as i64 + 1..=size as i64));
        ids.map(|id| (id, fastrand::i64(0..1000))).collect()
    };
    let commits = |cache: &Cache, changes: &[(i64, i64)]| {
        changes.iter().filter(|(id, delay)| report(cache, *id, *delay).is_ok()).count()
    };
    let (ours, none) =
        alternate(beside, |changes| commits(&with, changes), |changes| commits(&without, changes));
    for of in &values {
        of.get()?;
    }
    anyhow::ensure!(runs.load(Ordering::Relaxed) == DERIVED as u64, "some ran in vain");

    let mut map: HashMap<i64, Sailing> = rows.into_iter().map(|row| (row.id, row)).collect();
    let function = |row: &Sailing| black_box(row.delay_min.unwrap_or(0));
    let round = || -> Vec<(i64, i64)> {
        let ids = (0..TIMES).map(|_| fastrand::i64(1..=DERIVED as i64));
        ids.map(|id| (id, fastrand::i64(0..1000))).collect()
    };
    let mut by_hand = |id: i64, delay: i64| -> i64 {
        let Some(row) = map.get(&id) else { return 0 };
        if row.delay_min == Some(delay) {
            return function(row);
        }
        let new = Sailing { delay_min: Some(delay), ..row.clone() };
        let value = function(&new);
        map.insert(id, new);
        value
    };
    let follow = |id: i64, delay: i64| -> Result<i64, backwater::Error> {
        drop(report(&with, id, delay)?);
        values[id as usize - 1].get().map(|value| *value)
    };
    for (id, delay) in round() {
        anyhow::ensure!(follow(id, delay)? == by_hand(id, delay), "another value than by hand");
    }
    let (key, hand) = alternate(
        round,
        |changes| changes.iter().map(|(id, delay)| follow(*id, *delay).unwrap_or(0)).sum::<i64>(),
        |changes| changes.iter().map(|(id, delay)| by_hand(*id, *delay)).sum::<i64>(),
    );
    let each = |seconds: f64| seconds / TIMES as f64;
    Ok(vec![
        figure("derived/untouched", size, each(ours), "without them", each(none), 1.1),
        figure("derived/key", size, each(key), "hand-written", each(hand), 15.0),
    ])
}

/// What each further watcher of a query costs.
pub(crate) fn fan(size: usize) -> anyhow::Result<Vec<Figure>> {
    let (few, many) = (10, 1000);
    let cache = filled(&sailings(size.min(1000)))?;
    let query = cache.query("SELECT id, delay_min FROM sailing WHERE id = 1", ())?;
    let calls = Arc::new(AtomicU64::new(0));
    let watch = |count: usize| -> Result<Vec<Watch>, backwater::Error> {
        let watch = |_| {
            let calls = calls.clone();
            cache.watch(&query, move |_| {
                calls.fetch_add(1, Ordering::Relaxed);
            })
        };
        (0..count).map(watch).collect()
    };
    let mut delay = 0;
    let mut commits = || {
        for _ in 0..200 {
            delay += 1;
            drop(report(&cache, 1, delay));
        }
    };
    let mut took = |count: usize| -> anyhow::Result<f64> {
        let _watches = watch(count)?;
        let (took, _) = alternate(|| (), |()| commits(), |()| ());
        Ok(took / 200.0)
    };
    let slope = (took(many)? - took(few)?) / (many - few) as f64;
    let callbacks: Vec<Box<dyn Fn()>> = (0..many)
        .map(|_| {
            let calls = calls.clone();
            let call = move || {
                calls.fetch_add(1, Ordering::Relaxed);
            };
            Box::new(call) as Box<dyn Fn()>
        })
        .collect();
    let call = || (0..200).for_each(|_| callbacks.iter().for_each(|of| black_box(of)()));
    let (_, called) = alternate(|| (), |()| (), |()| call());
    Ok(vec![figure("watch/fan", many, slope, "a boxed closure", called / (200 * many) as f64, 3.0)])
}

/// A snapshot of many rows against one of few.
pub(crate) fn snapshot(size: usize) -> anyhow::Result<Vec<Figure>> {
    let (large, small) = (size * 10, (size / 100).max(1));
    let (large_cache, small_cache) = (filled(&sailings(large))?, filled(&sailings(small))?);
    let take = |cache: &Cache| (0..100_000).for_each(|_| drop(black_box(cache.snapshot())));
    let (of_large, of_small) = alternate(|| (), |()| take(&large_cache), |()| take(&small_cache));
    let each = |seconds: f64| seconds / 1e5;
    Ok(vec![figure("snapshot/take", large, each(of_large), "of few rows", each(of_small), 1.2)])
}
