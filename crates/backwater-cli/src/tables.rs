//! `backwater tables`: what is in this cache file?

use std::path::PathBuf;

use anyhow::{anyhow, bail};
use backwater::{Cache, SqliteFile, Value, report::TableSummary};

use crate::failure::wrong_call;
use crate::output::{Format, Rows, count, folded, indented, report_width, value_text};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The cache file
    #[arg(long, value_name = "FILE")]
    cache: PathBuf,
    /// List the fields of one table instead
    #[arg(value_name = "TABLE", conflicts_with = "row")]
    table: Option<String>,
    /// Print one row as JSON instead, with its links as a tree
    #[arg(long, value_name = "TABLE/ID", conflicts_with = "format")]
    row: Option<String>,
    /// How deep the tree goes
    #[arg(long, value_name = "LEVELS", default_value_t = 1, requires = "row")]
    depth: usize,
    /// How to print the rows
    #[arg(long, value_enum, default_value_t = Format::Table)]
    format: Format,
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    let cache = Cache::open(SqliteFile::read_only(&arguments.cache))?;
    match (&arguments.row, &arguments.table) {
        (Some(row), _) => print_row(&cache, row, arguments.depth),
        (None, Some(table)) => print_fields(&cache, table, arguments.format),
        (None, None) => print_tables(&cache, arguments.format),
    }
}

fn print_tables(cache: &Cache, format: Format) -> anyhow::Result<()> {
    let tables = cache.snapshot().tables();
    let columns = ["table", "rows", "absent", "missing", "fields"].map(str::to_owned);
    let rows = tables.iter().map(|table| {
        let numbers = [table.rows, table.absent(), table.missing()];
        let numbers = numbers.map(|number| Value::Int(number as i64));
        let name = Value::from(table.name.as_str());
        [name].into_iter().chain(numbers).chain([fields_of(table).into()]).collect()
    });
    let rows = Rows { columns: columns.to_vec(), rows: rows.collect() };
    if format != Format::Table {
        return rows.print(format);
    }
    // The fields of a table are folded beside what stands in front of them.
    let longest = tables.iter().map(|table| table.name.chars().count()).max().unwrap_or(0);
    let width = report_width().saturating_sub(longest + 32).max(30);
    rows.write_table_as(&mut anstream::stdout().lock(), "", |column, value| {
        let text = value_text(value);
        if column == "fields" { folded(&text, width) } else { text }
    })?;
    Ok(())
}

/// The fields of a table with their types.
fn fields_of(table: &TableSummary) -> String {
    let fields = table.fields.iter().map(|field| match field.kind.strip_prefix("link to ") {
        Some(to) => format!("{} -> {to}", field.name),
        None => format!("{} {}", field.name, field.kind),
    });
    fields.collect::<Vec<_>>().join(", ")
}

fn print_fields(cache: &Cache, name: &str, format: Format) -> anyhow::Result<()> {
    let snapshot = cache.snapshot();
    // The library knows how to say that there is no such table.
    snapshot.count(name).map_err(wrong_call)?;
    let Some(table) = snapshot.tables().into_iter().find(|table| table.name == name) else {
        bail!("{name} is not listed")
    };
    let rows = table.fields.iter().map(|field| {
        vec![
            Value::from(field.name.as_str()),
            Value::from(field.kind.as_str()),
            Value::Int(field.absent as i64),
            Value::Int(field.missing as i64),
        ]
    });
    if format == Format::Table {
        say!("{name}: {}\n", count(table.rows, "row"));
    }
    let columns = ["field", "type", "absent", "missing"].map(str::to_owned).to_vec();
    Rows { columns, rows: rows.collect() }.print(format)
}

fn print_row(cache: &Cache, row: &str, depth: usize) -> anyhow::Result<()> {
    let snapshot = cache.snapshot();
    let nested = match row.split_once('/') {
        None => match snapshot.only(row) {
            Ok(row) => row.nested(depth),
            Err(_) if cache.schema().table_names().any(|name| name == row) => {
                let help = format!("name one by its id, as in `--row {row}/ID`");
                return Err(wrong_call(anyhow!("\"{row}\" may have many rows; {help}")));
            }
            Err(error) => return Err(wrong_call(error)),
        },
        Some((table, id)) => {
            let id = cache.schema().id(table, id).map_err(wrong_call)?;
            let Some(row) = snapshot.get(table, &id)? else { bail!("{table} {id} is not there") };
            row.nested(depth)
        }
    };
    say!("{}", indented(nested.as_str()));
    Ok(())
}
