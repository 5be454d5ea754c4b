//! Very many bindings of one statement, and commits that touch few of them.

use std::collections::HashMap;
use std::time::Instant;

use backwater::{Cache, Query, Value, Watch};

use crate::hand::Maps;
use crate::ingest::figure;
use crate::measure::{Figure, alternate};
use crate::query::filled;

/// How many bindings there are.
const BINDINGS: i64 = 10_000;
/// How many commits one run makes.
const COMMITS: usize = 500;
/// Between the values that bindings select, none of which is selected twice.
const APART: i64 = 10;

/// A cache with bindings of a statement, all of them watched.
struct Bound {
    cache: Cache,
    queries: Vec<Query>,
    _kept: Vec<Watch>,
}

impl Bound {
    fn new(size: usize, condition: &str) -> anyhow::Result<Self> {
        let (cache, _) = filled(size)?;
        let sql = format!("SELECT id FROM sailing WHERE {condition}");
        let queries = (0..BINDINGS).map(|number| {
            let a = number * APART;
            match condition.contains(":b") {
                true => cache.query(&sql, [("a", a), ("b", a + 1)]),
                false => cache.query(&sql, [("a", a)]),
            }
        });
        let queries = queries.collect::<Result<Vec<Query>, _>>()?;
        let kept = queries.iter().map(Query::keep_current).collect();
        Ok(Self { cache, queries, _kept: kept })
    }

    /// Books cars, and returns how many bindings that moved.
    fn book(&self, id: i64, cars: i64) -> Result<usize, backwater::Error> {
        let write =
            |tx: &mut backwater::Transaction| tx.update("sailing", id, [("cars_booked", cars)]);
        Ok(self.cache.commit("booked", write)?.reached().count())
    }

    fn round(&self, changes: &[(i64, i64)]) -> usize {
        changes.iter().map(|(id, cars)| self.book(*id, *cars).unwrap_or(0)).sum()
    }
}

/// Ranges and lists against equalities.
pub(crate) fn forms(size: usize) -> anyhow::Result<Vec<Figure>> {
    let equal = Bound::new(size, "cars_booked = :a")?;
    let round = || -> Vec<(i64, i64)> {
        let one = |_| (fastrand::i64(1..=size as i64), fastrand::i64(0..BINDINGS) * APART);
        (0..COMMITS).map(one).collect()
    };
    let mut figures = Vec::new();
    for (case, condition) in [
        ("commit/forms-range", "cars_booked BETWEEN :a AND :a + 5"),
        ("commit/forms-list", "cars_booked IN (:a, :b)"),
    ] {
        let other = Bound::new(size, condition)?;
        for (id, cars) in round() {
            equal.book(id, cars)?;
            other.book(id, cars)?;
            let place = (cars / APART) as usize;
            let (a, b) = (equal.queries[place].read()?.len(), other.queries[place].read()?.len());
            anyhow::ensure!(a > 0 && b > 0, "booked, and not found: {a} and {b}");
        }
        let (ours, theirs) =
            alternate(round, |changes| other.round(changes), |changes| equal.round(changes));
        let commits = COMMITS as f64;
        figures.push(figure(case, size, ours / commits, "equalities", theirs / commits, 2.0));
    }
    Ok(figures)
}

/// The slowest of a thousand commits against the one in their middle, with 1,000 queries watched.
pub(crate) fn tail(size: usize) -> anyhow::Result<Vec<Figure>> {
    const EACH: usize = 20_000;
    let (cache, _) = filled(size)?;
    let sql = "SELECT count(*) AS n, sum(cars_booked) AS cars FROM sailing WHERE vessel = :vessel";
    let queries = (0..1000).map(|of| cache.query(sql, [("vessel", format!("vessel-{of}"))]));
    let queries = queries.collect::<Result<Vec<Query>, _>>()?;
    let _kept: Vec<Watch> = queries.iter().map(Query::keep_current).collect();
    let mut took = Vec::with_capacity(EACH);
    for _ in 0..EACH {
        let (id, cars) = (fastrand::i64(1..=size as i64), fastrand::i64(0..90));
        let start = Instant::now();
        cache.commit("booked", |tx| tx.update("sailing", id, [("cars_booked", cars)]))?;
        took.push(start.elapsed().as_secs_f64());
    }
    took.sort_by(f64::total_cmp);
    let (slow, middle) = (took[EACH - EACH / 1000], took[EACH / 2]);
    Ok(vec![figure("commit/tail", size, slow, "the median", middle, 20.0)])
}

/// A thousand more bindings of a shape that is known, over five times as many rows.
pub(crate) fn define(size: usize) -> anyhow::Result<Vec<Figure>> {
    let size = size * 5;
    let sql = "SELECT count(*) AS n, sum(cars_booked) AS cars FROM sailing WHERE vessel = :vessel";
    let (cache, maps) = filled(size)?;
    let _known = cache.query(sql, [("vessel", "none")])?;
    let by_vessel = by_vessel(&maps);
    let names: Vec<String> = (0..1000).map(|of| format!("vessel-{of}")).collect();
    let define = || -> Result<Vec<Query>, backwater::Error> {
        names.iter().map(|name| cache.query(sql, [("vessel", name.as_str())])).collect()
    };
    for (query, name) in define()?.iter().zip(&names) {
        let (n, cars) = by_hand(&maps, &by_vessel, name);
        let shown = query.read()?.row(0).map(|row| row.values().to_vec());
        let cars = if n == 0 { Value::Null } else { Value::Int(cars) };
        anyhow::ensure!(shown == Some(vec![Value::Int(n), cars]), "another sum than by hand");
    }
    let (ours, hand) = alternate(
        || (),
        |()| define(),
        |()| names.iter().map(|name| by_hand(&maps, &by_vessel, name)).collect::<Vec<_>>(),
    );
    Ok(vec![figure("query/define", size, ours / 1e3, "hand-written", hand / 1e3, 5.0)])
}

fn by_vessel(maps: &Maps) -> HashMap<&str, Vec<i64>> {
    let mut by_vessel: HashMap<&str, Vec<i64>> = HashMap::new();
    for (id, sailing) in &maps.sailings {
        by_vessel.entry(&*sailing.vessel).or_default().push(*id);
    }
    by_vessel
}

/// How many sailings a vessel has, and how many cars are booked on them.
fn by_hand(maps: &Maps, by_vessel: &HashMap<&str, Vec<i64>>, name: &str) -> (i64, i64) {
    let ids = by_vessel.get(name).map_or(&[][..], |ids| ids);
    let cars = ids.iter().filter_map(|id| maps.sailings.get(id)).map(|of| of.cars_booked);
    (ids.len() as i64, cars.sum())
}
