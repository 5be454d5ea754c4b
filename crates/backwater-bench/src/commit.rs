//! From a commit to the queries that it touches.

use std::cmp::Reverse;
use std::collections::{BTreeSet, HashMap};

use backwater::{Cache, DeltaKind, Query, Report, Value, Watch};

use crate::hand::Maps;
use crate::ingest::figure;
use crate::measure::{Figure, alternate};
use crate::query::{TOP, filled, sqlite};

const COUNT: &str = "SELECT count(*) AS n FROM sailing WHERE delay_min > 30";
const SUMS: &str = "SELECT route, sum(delay_min) AS delay FROM sailing GROUP BY route";
/// Bindings that none of the changes touch.
const OTHERS: &str =
    "SELECT count(*) AS n, sum(cars_booked) AS cars FROM sailing WHERE vessel = :vessel";
/// How many commits one run makes, where there are as many sailings.
const COMMITS: usize = 2000;

/// One row of a delta as values: which query, where it stood and stands, and what it shows.
type Step = (usize, Option<usize>, Option<usize>, Vec<Value>);

/// The three results kept by hand.
struct Kept {
    maps: Maps,
    late: i64,
    sums: HashMap<Box<str>, i64>,
    /// By delay, longest first; those without stand at the end.
    top: BTreeSet<(Reverse<Option<i64>>, i64)>,
    /// Counters by vessel, which no change of a delay touches.
    others: HashMap<Box<str>, (i64, i64)>,
}

impl Kept {
    fn new(maps: Maps) -> Self {
        let mut kept = Self {
            maps,
            late: 0,
            sums: HashMap::new(),
            top: BTreeSet::new(),
            others: HashMap::new(),
        };
        for (id, sailing) in &kept.maps.sailings {
            kept.late += i64::from(sailing.delay_min > Some(30));
            *kept.sums.entry(sailing.route.clone()).or_default() += sailing.delay_min.unwrap_or(0);
            kept.top.insert((Reverse(sailing.delay_min), *id));
            let other = kept.others.entry(sailing.vessel.clone()).or_default();
            other.0 += 1;
            other.1 += sailing.cars_booked;
        }
        kept
    }

    /// The first 20 as they stand.
    fn page(&self) -> Vec<(Reverse<Option<i64>>, i64)> {
        self.top.iter().take(20).copied().collect()
    }

    /// Changes one delay, and returns how the three results move.
    fn update(&mut self, id: i64, delay: i64) -> Vec<Step> {
        let mut steps = Vec::new();
        let Some(sailing) = self.maps.sailings.get_mut(&id) else { return steps };
        let old = sailing.delay_min.replace(delay);
        if old == Some(delay) {
            return steps;
        }
        let late = i64::from(delay > 30) - i64::from(old > Some(30));
        if late != 0 {
            self.late += late;
            steps.push((0, Some(0), Some(0), vec![Value::Int(self.late)]));
        }
        let more = delay - old.unwrap_or(0);
        if let Some(sum) = self.sums.get_mut(&sailing.route)
            && more != 0
        {
            *sum += more;
            let row = vec![Value::from(&*sailing.route), Value::Int(*sum)];
            // A group's place is that of its key, which stays.
            steps.push((1, None, None, row));
        }
        let departs = sailing.departs_at;
        let (from, to) = ((Reverse(old), id), (Reverse(Some(delay)), id));
        // Only what is among the first, or becomes one of them, shows.
        let last = self.top.iter().nth(19).copied();
        let shows = last.is_none_or(|last| from <= last || to <= last);
        let before = if shows { self.page() } else { Vec::new() };
        self.top.remove(&from);
        self.top.insert(to);
        if shows {
            self.page_steps(&before, id, departs, &mut steps);
        }
        steps
    }

    fn page_steps(
        &self,
        before: &[(Reverse<Option<i64>>, i64)],
        id: i64,
        departs: i64,
        steps: &mut Vec<Step>,
    ) {
        let after = self.page();
        let place = |page: &[(Reverse<Option<i64>>, i64)], id: i64| {
            page.iter().position(|(_, other)| *other == id)
        };
        let row = |id: i64, departs: i64| {
            let delay = self.maps.sailings.get(&id).and_then(|sailing| sailing.delay_min);
            let delay = delay.map_or(Value::Null, Value::Int);
            let time = backwater::Timestamp::from_micros(departs).map_or(Value::Null, Value::from);
            vec![Value::Int(id), delay, time]
        };
        let (from, to) = (place(before, id), place(&after, id));
        steps.push((2, from, to, row(id, departs)));
        // One more enters or leaves at the end.
        let edge = match (from, to) {
            (Some(_), None) => after.last().map(|(_, id)| *id),
            (None, Some(_)) => before.last().map(|(_, id)| *id),
            _ => None,
        };
        if let Some(edge) = edge.filter(|edge| *edge != id) {
            let departs = self.maps.sailings.get(&edge).map_or(0, |sailing| sailing.departs_at);
            steps.push((2, place(before, edge), place(&after, edge), row(edge, departs)));
        }
    }
}

/// The queries of a program that shows three of its results.
struct Shown {
    cache: Cache,
    queries: [Query; 3],
    _others: Vec<Query>,
    _kept: Vec<Watch>,
}

impl Shown {
    fn new(cache: Cache, others: usize) -> Result<Self, backwater::Error> {
        let queries = [cache.query(COUNT, ())?, cache.query(SUMS, ())?, cache.query(TOP, ())?];
        let others: Vec<Query> = (0..others)
            .map(|number| cache.query(OTHERS, [("vessel", format!("vessel-{number}"))]))
            .collect::<Result<_, backwater::Error>>()?;
        let kept = queries.iter().chain(&others).map(Query::keep_current).collect();
        Ok(Self { cache, queries, _others: others, _kept: kept })
    }

    fn update(&self, id: i64, delay: i64) -> Result<Vec<Step>, backwater::Error> {
        let report = self
            .cache
            .commit("delay reported", |tx| tx.update("sailing", id, [("delay_min", delay)]))?;
        Ok(self.steps(&report))
    }

    fn steps(&self, report: &Report) -> Vec<Step> {
        let mut steps = Vec::new();
        for (number, query) in self.queries.iter().enumerate() {
            for row in report.delta(query).into_iter().flat_map(|delta| delta.rows()) {
                let shown = match row.kind() {
                    DeltaKind::Leave => row.before(),
                    _ => row.after(),
                };
                let values = shown.map(|row| row.values().to_vec()).unwrap_or_default();
                steps.push((number, row.from(), row.to(), values));
            }
        }
        steps
    }
}

/// Both move the same rows in the same way. By hand a group has no position.
fn check(ours: &[Step], hand: &[Step]) -> anyhow::Result<()> {
    let sorted = |steps: &[Step]| -> Vec<String> {
        let mut sorted: Vec<String> = steps
            .iter()
            .map(|(query, from, to, values)| match query {
                2 if to.is_none() => format!("2 leaves {from:?} {:?}", values.first()),
                2 => format!("2 {from:?} {to:?} {values:?}"),
                _ => format!("{query} {values:?}"),
            })
            .collect();
        sorted.sort_unstable();
        sorted
    };
    anyhow::ensure!(sorted(ours) == sorted(hand), "other deltas than by hand: {ours:?} {hand:?}");
    Ok(())
}

fn round(size: usize) -> Vec<(i64, i64)> {
    (0..COMMITS.min(size)).map(|_| (fastrand::i64(1..=size as i64), fastrand::i64(0..90))).collect()
}

/// Seconds of one commit, ours and by hand.
fn each(shown: &Shown, kept: &mut Kept, size: usize) -> anyhow::Result<(f64, f64)> {
    for (id, delay) in round(size) {
        check(&shown.update(id, delay)?, &kept.update(id, delay))?;
    }
    let (ours, hand) = alternate(
        || round(size),
        |changes| {
            let steps =
                changes.iter().map(|(id, delay)| shown.update(*id, *delay).map_or(0, |s| s.len()));
            steps.sum::<usize>()
        },
        |changes| changes.iter().map(|(id, delay)| kept.update(*id, *delay).len()).sum::<usize>(),
    );
    let commits = COMMITS.min(size) as f64;
    Ok((ours / commits, hand / commits))
}

/// One field of one row, and three of a thousand watched queries.
pub(crate) fn one_field(size: usize) -> anyhow::Result<Vec<Figure>> {
    let (cache, maps) = filled(size)?;
    let sqlite = sqlite(&cache)?;
    let (shown, mut kept) = (Shown::new(cache, 997)?, Kept::new(maps));
    let (ours, hand) = each(&shown, &mut kept, size)?;
    let mut update = sqlite.prepare("UPDATE sailing SET delay_min = ?2 WHERE id = ?1")?;
    let mut statements = [COUNT, SUMS, TOP]
        .map(|sql| sqlite.prepare(sql))
        .into_iter()
        .collect::<Result<Vec<_>, _>>()?;
    let (_, sql) = alternate(
        || (fastrand::i64(1..=size as i64), fastrand::i64(0..90)),
        |_| (),
        |(id, delay)| -> rusqlite::Result<usize> {
            update.execute([*id, *delay])?;
            let mut count = 0;
            for statement in &mut statements {
                let mut rows = statement.raw_query();
                while rows.next()?.is_some() {
                    count += 1;
                }
            }
            Ok(count)
        },
    );
    Ok(vec![
        figure("commit/one-field", size, ours, "hand-written", hand, 8.0),
        figure("commit/one-field-sql", size, ours, "SQLite, all again", sql, 0.0001),
    ])
}

fn growth(case: &'static str, size: usize, small: (f64, f64), large: (f64, f64)) -> Vec<Figure> {
    let (ours, hand) = (large.0 / small.0, large.1 / small.1);
    vec![Figure { unit: "x", ..figure(case, size, ours, "hand-written growth", hand, 1.25) }]
}

/// 100,000 standing bindings against 100; fewer where there are fewer sailings.
pub(crate) fn flat(size: usize) -> anyhow::Result<Vec<Figure>> {
    let with = |bindings: usize| -> anyhow::Result<(f64, f64)> {
        let (cache, maps) = filled(size)?;
        let (shown, mut kept) = (Shown::new(cache, bindings)?, Kept::new(maps));
        kept.others.extend(
            (0..bindings).map(|number| (format!("vessel-{number}").into_boxed_str(), (0, 0))),
        );
        each(&shown, &mut kept, size)
    };
    Ok(growth("commit/flat", size, with(100)?, with(size.clamp(100, 100_000))?))
}

/// Ten times as many rows against a tenth.
pub(crate) fn rows(size: usize) -> anyhow::Result<Vec<Figure>> {
    let with = |size: usize| -> anyhow::Result<(f64, f64)> {
        let (cache, maps) = filled(size)?;
        let (shown, mut kept) = (Shown::new(cache, 100)?, Kept::new(maps));
        each(&shown, &mut kept, size)
    };
    Ok(growth("commit/rows", size * 10, with((size / 10).max(1))?, with(size * 10)?))
}

/// Many updates in one commit.
pub(crate) fn bulk(size: usize) -> anyhow::Result<Vec<Figure>> {
    let many = (size / 20).max(1);
    let (cache, maps) = filled(size)?;
    let (shown, mut kept) = (Shown::new(cache, 100)?, Kept::new(maps));
    let round = || -> Vec<(i64, i64)> {
        (0..many).map(|_| (fastrand::i64(1..=size as i64), fastrand::i64(0..90))).collect()
    };
    let update = |shown: &Shown, changes: &[(i64, i64)]| -> Result<usize, backwater::Error> {
        let report = shown.cache.commit("delays reported", |tx| {
            changes.iter().try_for_each(|(id, delay)| {
                tx.update("sailing", *id, [("delay_min", *delay)]).map(drop)
            })
        })?;
        Ok(shown.steps(&report).len())
    };
    let (ours, hand) = alternate(
        round,
        |changes| update(&shown, changes),
        |changes| changes.iter().map(|(id, delay)| kept.update(*id, *delay).len()).sum::<usize>(),
    );
    let count = shown.queries[0].read()?.row(0).map(|row| row.values().to_vec());
    anyhow::ensure!(count == Some(vec![Value::Int(kept.late)]), "another count than by hand");
    Ok(vec![figure("commit/bulk", size, ours, "hand-written", hand, 4.0)])
}

/// Many updates in one commit, each of which moves a row of a grouping that another query joins.
pub(crate) fn bulk_over_groups(size: usize) -> anyhow::Result<Vec<Figure>> {
    const LATEST: &str = "SELECT s.id, l.delay, s.status FROM (SELECT id, max(delay_min) AS delay \
        FROM sailing GROUP BY id) AS l JOIN sailing AS s ON s.id = l.id";
    let (cache, _) = filled(size)?;
    let judge = sqlite(&cache)?;
    let query = cache.query(LATEST, ())?;
    let _kept = query.keep_current();
    let ids: Vec<i64> = (1..=size as i64).step_by(20).collect();
    let (ours, theirs) = alternate(
        || fastrand::i64(0..90),
        |first| -> Result<usize, backwater::Error> {
            let report = cache.commit("delays reported", |tx| {
                ids.iter().try_for_each(|id| {
                    tx.update("sailing", *id, [("delay_min", (*first + *id) % 90)]).map(drop)
                })
            })?;
            Ok(report.delta(&query).into_iter().flat_map(|delta| delta.rows()).count())
        },
        |first| -> rusqlite::Result<usize> {
            judge.execute_batch("BEGIN")?;
            let mut update =
                judge.prepare_cached("UPDATE sailing SET delay_min = ?2 WHERE id = ?1")?;
            for id in &ids {
                update.execute((*id, (*first + *id) % 90))?;
            }
            judge.execute_batch("COMMIT")?;
            let mut all = judge.prepare_cached(LATEST)?;
            let mut rows = all.query(())?;
            let mut count = 0;
            while rows.next()?.is_some() {
                count += 1;
            }
            Ok(count)
        },
    );
    let mine: i64 = query.read()?.rows().filter_map(|row| row.values()[1].as_int()).sum();
    let judged = format!("SELECT sum(delay) FROM ({LATEST})");
    let judged: i64 = judge.query_row(&judged, (), |row| row.get(0))?;
    anyhow::ensure!(mine == judged, "other delays than SQLite");
    Ok(vec![figure("commit/bulk-over", size, ours, "SQLite, all again", theirs, 4.0)])
}

/// A vessel renamed, whose sailings are shown, with their positions.
pub(crate) fn join_fanout(size: usize) -> anyhow::Result<Vec<Figure>> {
    let (cache, maps) = filled(size)?;
    let query = cache.query(
        "SELECT s.id, v.name, s.departs_at FROM sailing AS s JOIN vessel AS v ON v.id = s.vessel \
         ORDER BY s.departs_at",
        (),
    )?;
    let _kept = query.keep_current();
    let mut by_vessel: HashMap<Box<str>, Vec<(i64, i64)>> = HashMap::new();
    let mut order: Vec<(i64, i64)> = Vec::new();
    for (id, sailing) in &maps.sailings {
        by_vessel.entry(sailing.vessel.clone()).or_default().push((sailing.departs_at, *id));
        order.push((sailing.departs_at, *id));
    }
    order.sort_unstable();
    let mut names: HashMap<Box<str>, Box<str>> =
        maps.vessels.iter().map(|(id, vessel)| (id.clone(), vessel.name.clone())).collect();
    let vessels: Vec<Box<str>> = by_vessel.keys().cloned().collect();
    type Renamed = Vec<(usize, Vec<Value>)>;
    let by_hand = |names: &mut HashMap<Box<str>, Box<str>>, vessel: &str, name: &str| -> Renamed {
        names.insert(vessel.into(), name.into());
        let text = Value::from(name);
        let mut rows: Renamed = by_vessel[vessel]
            .iter()
            .map(|key| {
                let place = order.binary_search(key).unwrap_or(0);
                let time =
                    backwater::Timestamp::from_micros(key.0).map_or(Value::Null, Value::from);
                (place, vec![Value::Int(key.1), text.clone(), time])
            })
            .collect();
        rows.sort_unstable_by_key(|(place, _)| *place);
        rows
    };
    let ours = |vessel: &str, name: &str| -> Result<Renamed, backwater::Error> {
        let report =
            cache.commit("a vessel renamed", |tx| tx.update("vessel", vessel, [("name", name)]))?;
        let rows = report.delta(&query).into_iter().flat_map(|delta| delta.rows());
        Ok(rows.filter_map(|row| Some((row.to()?, row.after()?.values().to_vec()))).collect())
    };
    let mut number = 0;
    let mut next = || {
        number += 1;
        (vessels[fastrand::usize(..vessels.len())].clone(), format!("Samphire {number}"))
    };
    for _ in 0..20 {
        let (vessel, name) = next();
        let same = ours(&vessel, &name)? == by_hand(&mut names, &vessel, &name);
        anyhow::ensure!(same, "other rows than by hand");
    }
    let (ours_took, hand) = alternate(
        next,
        |(vessel, name)| ours(vessel, name),
        |(vessel, name)| by_hand(&mut names, vessel, name),
    );
    Ok(vec![figure("commit/join-fanout", size, ours_took, "hand-written", hand, 4.0)])
}
