//! What a cache keeps and how long its commits take, after very many of them, while queries,
//! watches, other values, snapshots and derived values come and go.

use std::collections::VecDeque;
use std::time::Instant;

use backwater::{Cache, Query, Schema, Value, Watch};
use peak_alloc::PeakAlloc;

use crate::measure::Figure;

const SCHEMA: &str = r#"
    [table.port]
    id = "code"
    fields = { code = "text", n = "int" }
    [table.call]
    id = "id"
    fields = { id = "int", port = { to = "port", on_delete = "cascade" }, n = "int", note = "text" }
"#;

/// About how many rows there are.
const ROWS: i64 = 2000;

const STATEMENTS: [&str; 5] = [
    "SELECT id, n FROM call WHERE n > :k ORDER BY n LIMIT 20",
    "SELECT c.id, p.n FROM call AS c LEFT JOIN port AS p ON p.code = c.port WHERE c.n < :k ORDER BY c.id LIMIT 20",
    "SELECT port, count(*), sum(n) FROM call WHERE n <> :k GROUP BY port",
    "SELECT p.code FROM port AS p WHERE NOT EXISTS (SELECT 1 FROM call AS c WHERE c.port = p.code AND c.n = :k)",
    "SELECT s.k, s.c FROM (SELECT port AS k, count(*) AS c FROM call GROUP BY port) AS s WHERE s.c > :k",
];

/// What a program holds for a while; some of it is only held.
enum Held {
    Query(Query, #[expect(dead_code, reason = "it is held")] Option<Kept>),
    Report(backwater::Report),
}

enum Kept {
    Up(#[expect(dead_code, reason = "it is held")] Watch),
    Watched(#[expect(dead_code, reason = "it is held")] Watch),
}

/// `soak/memory` compares live bytes at the end with those after a tenth of the commits;
/// `soak/slowest` the slowest commit with the median.
pub(crate) fn soak(size: usize, alloc: &PeakAlloc) -> anyhow::Result<Vec<Figure>> {
    let cache = Cache::new(Schema::parse("soak.toml", SCHEMA)?);
    let mut rng = fastrand::Rng::with_seed(7);
    let mut held: VecDeque<Held> = VecDeque::new();
    let total = cache.derived("calls", {
        let all = cache.query("SELECT count(*) AS n FROM call", ())?;
        move |read| Ok(read.query(&all)?.row(0).map(|row| row.values().to_vec()))
    });
    // These are never read again, nor is anything of theirs touched.
    let still = cache.query("SELECT code FROM port WHERE n = -1", ())?;
    let _still = cache.watch(&still, |_| {})?;
    let waiting = cache.derived("never again", move |read| Ok(read.query(&still)?.len()));
    waiting.get()?;
    let (mut took, mut early) = (Vec::with_capacity(size), 0);
    for number in 0..size {
        let (id, port, n) = (rng.i64(0..ROWS), format!("P{}", rng.u32(..60)), rng.i64(0..50));
        let what = rng.u32(..100);
        let start = Instant::now();
        let report = cache.commit("a step", |tx| match what {
            0..5 => tx.delete("call", id).map(drop),
            5 => tx.delete("port", port.as_str()).map(drop),
            6..12 => tx.merge("port", [("code", Value::from(port.as_str())), ("n", n.into())]),
            12..30 => tx.merge(
                "call",
                [("id", Value::from(id)), ("note", format!("note {}", rng.u64(..)).into())],
            ),
            _ => tx.merge(
                "call",
                [("id", Value::from(id)), ("port", port.as_str().into()), ("n", n.into())],
            ),
        })?;
        took.push(start.elapsed().as_secs_f64());
        if number % 8 == 0 {
            let query =
                cache.query(STATEMENTS[rng.usize(..STATEMENTS.len())], [("k", rng.i64(0..50))])?;
            held.push_back(match rng.u32(..4) {
                0 => Held::Query(query, None),
                1 => {
                    let kept = query.keep_current();
                    Held::Query(query, Some(Kept::Up(kept)))
                }
                2 => {
                    let watch = cache.watch(&query, |_| {})?;
                    Held::Query(query, Some(Kept::Watched(watch)))
                }
                _ => Held::Report(report.report),
            });
            if held.len() > 60 {
                held.pop_front();
            }
            match held.get(rng.usize(..held.len())) {
                Some(Held::Query(query, _)) => {
                    drop(query.read()?);
                    cache.rebind("other values", query, [("k", rng.i64(0..50))])?;
                }
                Some(Held::Report(report)) if rng.u32(..4) == 0 => {
                    cache.withdraw("withdrawn", report)?;
                }
                _ => {}
            }
            total.get()?;
        }
        if number == size / 10 {
            early = alloc.current_usage();
        }
    }
    let late = alloc.current_usage().saturating_sub(took.capacity() * 8);
    let early = early.saturating_sub(took.capacity() * 8);
    let slowest = took.iter().copied().fold(0.0, f64::max);
    took.sort_by(f64::total_cmp);
    let median = took[took.len() / 2];
    let figure = |case, ours, baseline, baseline_name, at_most, unit| Figure {
        case,
        size,
        ours,
        baseline_name,
        baseline,
        at_most,
        unit,
    };
    Ok(vec![
        figure("soak/memory", late as f64, early as f64, "a tenth of the commits", 1.1, "bytes"),
        figure("soak/slowest", slowest, median, "the median commit", 100.0, "s"),
    ])
}
