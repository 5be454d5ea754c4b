//! `backwater check`: is this schema right, is this cache file whole, and do they go together?

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use anyhow::{Context, bail};
use backwater::{
    Cache, Report, Schema, SqliteFile, SystemClock, Value,
    verify::{Verification, VerifiedQuery},
};

use crate::failure::wrong_call;
use crate::output::{Format, Rows, count};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The schema, such as backwater.toml
    schema: Option<PathBuf>,
    /// A cache file to look through; with a schema, also says what opening the file with it would
    /// do
    #[arg(long, value_name = "FILE")]
    cache: Option<PathBuf>,
    /// How to print what was found; the machine formats are for a cache file alone
    #[arg(long, value_enum, default_value_t = Format::Table)]
    format: Format,
    /// Print nothing but what is wrong
    #[arg(long, short, conflicts_with = "format")]
    quiet: bool,
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    if arguments.format != Format::Table && arguments.schema.is_some() {
        let message = "the check of a schema prints no rows; leave out --format";
        return Err(wrong_call(anyhow::anyhow!(message)));
    }
    match (&arguments.schema, &arguments.cache) {
        (Some(schema), None) => check_schema(schema, arguments.quiet),
        (None, Some(cache)) => check_cache(cache, arguments),
        (Some(schema), Some(cache)) => check_both(schema, cache, arguments.quiet),
        (None, None) => {
            Err(wrong_call(anyhow::anyhow!("name a schema, a cache file with --cache, or both")))
        }
    }
}

fn check_schema(path: &PathBuf, quiet: bool) -> anyhow::Result<()> {
    let schema = read_schema(path)?;
    if quiet {
        return Ok(());
    }
    let sends = match schema.send_names().count() {
        0 => String::new(),
        sends => format!(", {}", count(sends, "send rule")),
    };
    let feeds = match schema.feed_names().count() {
        0 => String::new(),
        feeds => format!(", {}", count(feeds, "feed")),
    };
    say!(
        "{}: {}, {}{sends}{feeds} and {}, nothing wrong",
        path.display(),
        count(schema.table_names().count(), "table"),
        count(schema.rule_names().count(), "response rule"),
        match schema.query_names().count() {
            1 => "1 named query".to_owned(),
            queries => format!("{queries} named queries"),
        },
    );
    Ok(())
}

/// Looks through a cache file.
fn check_cache(path: &Path, arguments: &Arguments) -> anyhow::Result<()> {
    let found = SqliteFile::verify(path)?;
    let name = path.display();
    match (arguments.quiet, arguments.format) {
        (true, _) => {}
        (false, Format::Table) => {
            say!("{name}: every row is as it was written\n");
            print_found(&found)?;
        }
        (false, format) => records_of(&found).print(format)?,
    }
    match found.queries.iter().filter(|query| query.difference.is_some()).count() {
        0 => Ok(()),
        differ => bail!(
            "{name}: {} not answered as SQLite does",
            if differ == 1 { "1 query is".to_owned() } else { format!("{differ} queries are") }
        ),
    }
}

/// For people: the tables, and the queries.
fn print_found(found: &Verification) -> anyhow::Result<()> {
    let columns = ["table", "rows", "links to missing rows"].map(str::to_owned).to_vec();
    let rows = found
        .tables
        .iter()
        .map(|table| vec![table.name.as_str().into(), number(table.rows), number(table.missing())]);
    Rows { columns, rows: rows.collect() }.print(Format::Table)?;
    if found.queries.is_empty() {
        return Ok(());
    }
    let columns = ["query", "times tried", "rows", "against SQLite"].map(str::to_owned).to_vec();
    let rows = found.queries.iter().map(|query| {
        let name = query.name.as_str().into();
        vec![name, number(query.tried), number(query.rows), against_sqlite(query).into()]
    });
    say!();
    Rows { columns, rows: rows.collect() }.print(Format::Table)
}

/// For machines: tables and queries as records of one kind.
fn records_of(found: &Verification) -> Rows {
    let columns = ["table", "query", "rows", "missing", "times_tried", "against_sqlite"];
    let tables = found.tables.iter().map(|table| {
        let (name, missing) = (table.name.as_str().into(), number(table.missing()));
        vec![name, Value::Null, number(table.rows), missing, Value::Null, Value::Null]
    });
    let queries = found.queries.iter().map(|query| {
        let (name, against) = (query.name.as_str().into(), against_sqlite(query).into());
        vec![Value::Null, name, number(query.rows), Value::Null, number(query.tried), against]
    });
    Rows { columns: columns.map(str::to_owned).to_vec(), rows: tables.chain(queries).collect() }
}

fn against_sqlite(query: &VerifiedQuery) -> String {
    match (&query.difference, &query.not_tried) {
        (Some(difference), _) => difference.clone(),
        (_, Some(why)) => format!("not tried: {why}"),
        (None, None) => "the same".to_owned(),
    }
}

fn number(number: usize) -> Value {
    Value::Int(number as i64)
}

/// Says what opening the file with the schema would do, and does none of it.
fn check_both(schema: &PathBuf, path: &Path, quiet: bool) -> anyhow::Result<()> {
    let (name, read) = (path.display(), read_schema(schema)?);
    let builder = Cache::builder().schema(read).storage(SqliteFile::read_only(path));
    let cache = builder.clock(SystemClock::new()).build()?;
    let mut lines: Vec<String> =
        cache.opening().schema_changes.iter().map(ToString::to_string).collect();
    lines.extend(leaves(&cache));
    // In memory alone, as nothing is written here.
    if let Some(report) = cache.trim("what is too much")? {
        lines.extend(lets_go(&report));
    }
    if quiet {
        return Ok(());
    }
    if lines.is_empty() {
        say!("{name}: all of it goes with {}, nothing would change", schema.display());
        return Ok(());
    }
    say!("{name}: opened with {}, this would be done:", schema.display());
    for line in &lines {
        say!("  {line}");
    }
    Ok(())
}

/// What is left out of a cache that was opened, a line a table.
pub(crate) fn leaves(cache: &Cache) -> Vec<String> {
    let left = cache.opening().left_out.into_iter();
    left.map(|(table, rows)| format!("{table}: {} left out, as too old", count(rows, "row")))
        .collect()
}

/// What a commit has deleted as it was too much, a line a table.
pub(crate) fn lets_go(report: &Report) -> Vec<String> {
    let mut rows: BTreeMap<&str, usize> = BTreeMap::new();
    report.changes().for_each(|change| *rows.entry(change.table()).or_default() += 1);
    let lines = |(table, rows)| {
        format!("{table}: {} deleted, as more than stored_bytes are stored", count(rows, "row"))
    };
    rows.into_iter().map(lines).collect()
}

/// Reads a schema and checks its queries too.
pub(crate) fn read_schema(path: &PathBuf) -> anyhow::Result<Schema> {
    let name = path.display().to_string();
    let bytes = fs::read(path).with_context(|| format!("{name}: it cannot be read"));
    let bytes = bytes.map_err(|error| anyhow::anyhow!("{error:#}"))?;
    let text = String::from_utf8(bytes).map_err(|error| {
        anyhow::anyhow!("{name}: byte {} is not UTF-8", error.utf8_error().valid_up_to())
    })?;
    let schema = Schema::parse(&name, &text)?;
    schema.check()?;
    Ok(schema)
}
