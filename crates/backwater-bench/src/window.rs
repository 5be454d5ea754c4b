//! Rows that are numbered in their partitions.

use std::collections::HashMap;

use backwater::{Cache, Query, Value, Watch};

use crate::hand::Maps;
use crate::ingest::figure;
use crate::measure::{Figure, alternate};
use crate::query::filled;

const PARTITIONS: i64 = 1000;
const RANKED: &str = "SELECT id, row_number() OVER (PARTITION BY id % 1000 ORDER BY delay_min) AS n \
    FROM sailing";
/// How many commits one run makes, where there are as many sailings.
const COMMITS: usize = 1000;

/// A row of a delta: where it stood and stands, and what it shows.
type Step = (Option<usize>, Option<usize>, Vec<Value>);

/// The same kept by hand: each partition in order, and all rows in the order of their ids.
struct Kept {
    partitions: HashMap<i64, Vec<(Option<i64>, i64)>>,
    delays: HashMap<i64, Option<i64>>,
    ids: Vec<i64>,
    numbers: HashMap<i64, i64>,
}

impl Kept {
    fn new(maps: &Maps) -> Self {
        let mut partitions: HashMap<i64, Vec<(Option<i64>, i64)>> = HashMap::new();
        let mut ids: Vec<i64> = maps.sailings.keys().copied().collect();
        ids.sort_unstable();
        let delays: HashMap<i64, Option<i64>> =
            maps.sailings.iter().map(|(id, sailing)| (*id, sailing.delay_min)).collect();
        for id in &ids {
            partitions.entry(id % PARTITIONS).or_default().push((delays[id], *id));
        }
        let mut numbers = HashMap::new();
        for rows in partitions.values_mut() {
            rows.sort_unstable();
            numbers.extend(rows.iter().zip(1..).map(|((_, id), number)| (*id, number)));
        }
        Self { partitions, delays, ids, numbers }
    }

    fn update(&mut self, id: i64, delay: i64) -> Vec<Step> {
        let Some(old) = self.delays.insert(id, Some(delay)) else { return Vec::new() };
        let Some(rows) = self.partitions.get_mut(&(id % PARTITIONS)) else { return Vec::new() };
        let Ok(from) = rows.binary_search(&(old, id)) else { return Vec::new() };
        rows.remove(from);
        let to = rows.partition_point(|row| *row < (Some(delay), id));
        rows.insert(to, (Some(delay), id));
        let mut steps = Vec::new();
        if from == to {
            return steps;
        }
        let first = from.min(to);
        for (place, (_, id)) in rows.iter().enumerate().take(from.max(to) + 1).skip(first) {
            let number = place as i64 + 1;
            self.numbers.insert(*id, number);
            let position = self.ids.binary_search(id).ok();
            steps.push((position, position, vec![Value::Int(*id), Value::Int(number)]));
        }
        steps.sort_unstable_by_key(|(_, to, _)| *to);
        steps
    }
}

struct Shown {
    cache: Cache,
    query: Query,
    _kept: Watch,
}

impl Shown {
    fn update(&self, id: i64, delay: i64) -> Result<Vec<Step>, backwater::Error> {
        let write =
            |tx: &mut backwater::Transaction| tx.update("sailing", id, [("delay_min", delay)]);
        let report = self.cache.commit("delay reported", write)?;
        let rows = report.delta(&self.query).into_iter().flat_map(|delta| delta.rows());
        let steps = rows.map(|row| {
            let values = row.after().map(|row| row.values().to_vec()).unwrap_or_default();
            (row.from(), row.to(), values)
        });
        Ok(steps.collect())
    }
}

/// One row moves in one of a thousand partitions.
pub(crate) fn rank(size: usize) -> anyhow::Result<Vec<Figure>> {
    let (cache, maps) = filled(size)?;
    let query = cache.query(RANKED, ())?;
    let (shown, mut kept) = (Shown { _kept: query.keep_current(), cache, query }, Kept::new(&maps));
    let round = || -> Vec<(i64, i64)> {
        let one = |_| (fastrand::i64(1..=size as i64), fastrand::i64(0..90));
        (0..COMMITS.min(size)).map(one).collect()
    };
    for (id, delay) in round() {
        let (ours, hand) = (shown.update(id, delay)?, kept.update(id, delay));
        anyhow::ensure!(ours == hand, "other numbers than by hand: {ours:?} {hand:?}");
    }
    let (ours, hand) = alternate(
        round,
        |changes| {
            let steps =
                changes.iter().map(|(id, delay)| shown.update(*id, *delay).map_or(0, |s| s.len()));
            steps.sum::<usize>()
        },
        |changes| changes.iter().map(|(id, delay)| kept.update(*id, *delay).len()).sum::<usize>(),
    );
    let commits = COMMITS.min(size) as f64;
    Ok(vec![figure("window/rank", size, ours / commits, "hand-written", hand / commits, 4.0)])
}
