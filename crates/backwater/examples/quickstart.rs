//! A departures page, three answers from it, two changes, and a restart.
//!
//! Run it with `cargo run -p backwater --example quickstart`.

use backwater::{Cache, Query, Schema, SqliteFile, error::Result};
use std::error::Error;

const SCHEMA: &str = include_str!("../../../demo/backwater.toml");
const DEPARTURES: &str = include_str!("../../../demo/responses/departures.json");
const NOW: [(&str, &str); 1] = [("now", "2031-05-04T07:40:00+02:00")];

fn main() -> Result<(), Box<dyn Error>> {
    let folder = tempfile::tempdir()?;
    let path = folder.path().join("saltmere.db");
    let cache = Cache::open_with(Schema::parse("backwater.toml", SCHEMA)?, SqliteFile::new(&path))?;

    // One response becomes rows, each thing once.
    let report = cache.commit("departures loaded", |tx| tx.ingest("departures", DEPARTURES))?;
    let page = &report.ingested()[0];
    println!("{} bytes, {} objects, {} rows", page.bytes, page.objects(), page.rows());

    // Three standing queries.
    let next = cache.query("next_departures", NOW)?;
    let by_status = cache.query("by_status", ())?;
    let on_route = cache.query("delays_on_route", [("route", "NOR-SAL")])?;
    let queries = [&next, &by_status, &on_route];
    let _shown = queries.map(Query::keep_current);
    queries.into_iter().try_for_each(show)?;

    // Two changes: each query says what they did to it, and why.
    let delay =
        cache.commit("delay reported", |tx| tx.update("sailing", 304, [("delay_min", 25)]))?;
    let fog = cache
        .commit("sailing cancelled", |tx| tx.update("sailing", 302, [("status", "cancelled")]))?;
    for report in [delay, fog] {
        println!("\n{}: {}", report.number(), report.label());
        for query in queries {
            println!("  {:16} {}", query.name(), report.why(query));
        }
    }

    // After a restart the same answers are there, without a request.
    let before = next.read()?;
    cache.flush()?;
    drop(cache);
    let cache = Cache::open(SqliteFile::new(&path))?;
    let next = cache.query("next_departures", NOW)?;
    assert_eq!(next.read()?, before);
    println!("\nafter a restart:");
    Ok(show(&next)?)
}

fn show(query: &Query) -> Result<()> {
    println!("\n{}", query.name());
    for row in query.read()?.rows() {
        let values: Vec<String> = row.values().iter().map(ToString::to_string).collect();
        println!("  {}", values.join("  "));
    }
    Ok(())
}
