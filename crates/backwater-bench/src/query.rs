//! Standing queries from nothing, and what they keep.

use std::collections::HashMap;

use backwater::{Cache, Query, QueryResult, Schema, Value, Watch};
use peak_alloc::PeakAlloc;
use rusqlite::Connection;

use crate::hand::{Maps, Sailing, Status};
use crate::ingest::figure;
use crate::measure::{Figure, alternate};
use crate::world::{SCHEMA, World};

pub(crate) const GROUP: &str = "SELECT status, count(*) AS sailings, sum(cars_booked) AS cars \
    FROM sailing WHERE delay_min > 5 GROUP BY status";
pub(crate) const JOIN: &str = "SELECT p.name, count(*) AS sailings, sum(s.cars_booked) AS cars, max(v.cars_max) AS largest \
    FROM sailing AS s JOIN route AS r ON r.id = s.route JOIN port AS p ON p.code = r.\"from\" \
    JOIN vessel AS v ON v.id = s.vessel GROUP BY p.code, p.name";
pub(crate) const TOP: &str =
    "SELECT id, delay_min, departs_at FROM sailing ORDER BY delay_min DESC, id LIMIT 20";

/// A cache and maps that have read the same page.
pub(crate) fn filled(size: usize) -> anyhow::Result<(Cache, Maps)> {
    let mut world = World::new(size, 1);
    let sailings = world.sailings(size);
    let page = world.page(&sailings, false);
    let cache = Cache::new(Schema::parse("backwater.toml", SCHEMA)?);
    cache.commit("departures loaded", |tx| tx.ingest("departures", &page))?;
    let mut maps = Maps::with_room(size);
    maps.ingest(page.as_bytes())?;
    Ok((cache, maps))
}

/// The same rows in SQLite, in memory, with its links indexed.
pub(crate) fn sqlite(cache: &Cache) -> anyhow::Result<Connection> {
    let connection = Connection::open_in_memory()?;
    connection.execute_batch(
        "CREATE TABLE port (code TEXT PRIMARY KEY, name TEXT) WITHOUT ROWID;
         CREATE TABLE route (id TEXT PRIMARY KEY, \"from\" TEXT, minutes INTEGER) WITHOUT ROWID;
         CREATE TABLE vessel (id TEXT PRIMARY KEY, name TEXT, cars_max INTEGER) WITHOUT ROWID;
         CREATE TABLE sailing (id INTEGER PRIMARY KEY, route TEXT, vessel TEXT, status TEXT,
            departs_at TEXT, delay_min INTEGER, cars_booked INTEGER);
         BEGIN",
    )?;
    let tables: [(&str, &[&str]); 4] = [
        ("port", &["code", "name"]),
        ("route", &["id", "from", "minutes"]),
        ("vessel", &["id", "name", "cars_max"]),
        ("sailing", &["id", "route", "vessel", "status", "departs_at", "delay_min", "cars_booked"]),
    ];
    let snapshot = cache.snapshot();
    for (table, fields) in tables {
        let marks = vec!["?"; fields.len()].join(", ");
        let mut insert = connection.prepare(&format!("INSERT INTO {table} VALUES ({marks})"))?;
        for row in snapshot.rows(table)? {
            for (number, field) in fields.iter().enumerate() {
                let value = row.get(field)?.unwrap_or(Value::Null);
                match value {
                    Value::Int(of) => insert.raw_bind_parameter(number + 1, of)?,
                    Value::Null => insert.raw_bind_parameter(number + 1, None::<i64>)?,
                    other => insert.raw_bind_parameter(number + 1, other.to_string())?,
                }
            }
            insert.raw_execute()?;
        }
    }
    connection.execute_batch(
        "COMMIT;
         CREATE INDEX a ON sailing (route); CREATE INDEX b ON sailing (vessel);
         CREATE INDEX c ON route (\"from\"); ANALYZE",
    )?;
    Ok(connection)
}

/// All rows of a result, as values.
pub(crate) fn values(result: &QueryResult) -> Vec<Vec<Value>> {
    result.rows().map(|row| row.values().to_vec()).collect()
}

fn sql_rows(statement: &mut rusqlite::Statement<'_>) -> rusqlite::Result<Vec<Vec<Value>>> {
    let columns = statement.column_count();
    let mut rows = statement.raw_query();
    let mut out = Vec::new();
    while let Some(row) = rows.next()? {
        let value = |number| -> rusqlite::Result<Value> {
            Ok(match row.get_ref(number)? {
                rusqlite::types::ValueRef::Null => Value::Null,
                rusqlite::types::ValueRef::Integer(number) => Value::Int(number),
                rusqlite::types::ValueRef::Real(number) => Value::Float(number),
                text => Value::from(text.as_str().unwrap_or_default()),
            })
        };
        out.push((0..columns).map(value).collect::<rusqlite::Result<_>>()?);
    }
    Ok(out)
}

fn group_by_hand(sailings: &[Sailing]) -> Vec<Vec<Value>> {
    let mut groups: HashMap<Status, (i64, i64)> = HashMap::new();
    for sailing in sailings.iter().filter(|sailing| sailing.delay_min.is_some_and(|min| min > 5)) {
        let group = groups.entry(sailing.status).or_default();
        group.0 += 1;
        group.1 += sailing.cars_booked;
    }
    let mut rows: Vec<_> = groups.into_iter().collect();
    rows.sort_by_key(|(status, _)| status.text());
    rows.into_iter()
        .map(|(status, (count, cars))| {
            vec![Value::from(status.text()), Value::Int(count), Value::Int(cars)]
        })
        .collect()
}

/// Filter, group and sum.
pub(crate) fn cold_group(size: usize) -> anyhow::Result<Vec<Figure>> {
    let (cache, maps) = filled(size)?;
    let sqlite = sqlite(&cache)?;
    let mut prepared = sqlite.prepare(GROUP)?;
    let sailings: Vec<Sailing> = maps.sailings.into_values().collect();
    let ours = || -> Result<(Query, Vec<Vec<Value>>), backwater::Error> {
        let query = cache.query(GROUP, ())?;
        let rows = values(&query.read()?);
        Ok((query, rows))
    };
    anyhow::ensure!(ours()?.1 == group_by_hand(&sailings), "other groups than by hand");
    anyhow::ensure!(ours()?.1 == sql_rows(&mut prepared)?, "other groups than SQLite's");
    let (ours_took, hand) = alternate(|| (), |()| ours(), |()| group_by_hand(&sailings));
    let (ours_again, sql) = alternate(|| (), |()| ours(), |()| sql_rows(&mut prepared));
    Ok(vec![
        figure("query/cold-group", size, ours_took, "hand-written", hand, 2.0),
        figure("query/cold-group-sql", size, ours_again, "SQLite", sql, 0.1),
    ])
}

/// Four tables joined and grouped.
pub(crate) fn cold_join(size: usize) -> anyhow::Result<Vec<Figure>> {
    let (cache, _) = filled(size)?;
    let sqlite = sqlite(&cache)?;
    let mut prepared = sqlite.prepare(JOIN)?;
    let ours = || -> Result<(Query, Vec<Vec<Value>>), backwater::Error> {
        let query = cache.query(JOIN, ())?;
        let rows = values(&query.read()?);
        Ok((query, rows))
    };
    anyhow::ensure!(ours()?.1 == sql_rows(&mut prepared)?, "other groups than SQLite's");
    let (ours_took, sql) = alternate(|| (), |()| ours(), |()| sql_rows(&mut prepared));
    Ok(vec![figure("query/cold-join", size, ours_took, "SQLite", sql, 0.1)])
}

/// What the join and the top 20 keep, and what one more binding costs.
pub(crate) fn memory(size: usize, alloc: &PeakAlloc) -> anyhow::Result<Vec<Figure>> {
    let empty = alloc.current_usage();
    let mut world = World::new(size, 1);
    let page = {
        let sailings = world.sailings(size);
        world.page(&sailings, false)
    };
    let start = alloc.current_usage();
    let cache = Cache::new(Schema::parse("backwater.toml", SCHEMA)?);
    drop(cache.commit("departures loaded", |tx| tx.ingest("departures", &page))?);
    let tables = alloc.current_usage() - start;
    let start = alloc.current_usage();
    let queries = [cache.query(JOIN, ())?, cache.query(TOP, ())?];
    let kept: Vec<Watch> = queries.iter().map(Query::keep_current).collect();
    // From here on they follow commits, and have what that takes.
    drop(cache.commit("delay reported", |tx| tx.update("sailing", 1, [("delay_min", 7)]))?);
    let joined = alloc.current_usage() - start;
    drop((kept, queries));

    const BINDINGS: i64 = 10_000;
    let sql = "SELECT id, status FROM sailing WHERE id = :id";
    let one = cache.query(sql, [("id", -1)])?;
    let start = alloc.current_usage();
    let bindings: Vec<Query> = (0..BINDINGS)
        .map(|number| cache.query(sql, [("id", -2 - number)]))
        .collect::<Result<_, backwater::Error>>()?;
    let standing = (alloc.current_usage() - start) / BINDINGS as usize;
    drop((bindings, one, page));
    anyhow::ensure!(alloc.current_usage() > empty, "the cache is still there");
    let bytes = |case, ours: usize, name, baseline: usize, at_most| Figure {
        unit: "bytes",
        ..figure(case, size, ours as f64, name, baseline as f64, at_most)
    };
    Ok(vec![
        bytes("memory/query", joined, "the tables", tables, 0.5),
        bytes("memory/standing", standing, "600 bytes", 600, 1.0),
    ])
}
