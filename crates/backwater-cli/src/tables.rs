//! `backwater tables`: what is in this cache file?

use std::path::PathBuf;

use anyhow::{anyhow, bail};
use backwater::{Cache, SqliteFile, Value};

use crate::failure::wrong_call;
use crate::output::{Format, Rows, indented};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The cache file
    #[arg(long, value_name = "FILE")]
    cache: PathBuf,
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
    if let Some(row) = &arguments.row {
        return print_row(&cache, row, arguments.depth);
    }
    let rows = cache.snapshot().tables().into_iter().map(|table| {
        let fields = table.fields.iter().map(|(name, kind)| match kind.strip_prefix("link to ") {
            Some(to) => format!("{name} -> {to}"),
            None => format!("{name} {kind}"),
        });
        vec![
            Value::from(table.name),
            Value::Int(table.rows as i64),
            Value::Int(table.absent as i64),
            Value::Int(table.not_loaded as i64),
            Value::from(fields.collect::<Vec<_>>().join(", ")),
        ]
    });
    let columns = ["table", "rows", "absent", "not_loaded", "fields"].map(str::to_owned).to_vec();
    Rows { columns, rows: rows.collect() }.print(arguments.format)
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
            let Some(row) = snapshot.get(table, &id)? else { bail!("{table} {id} is not here") };
            row.nested(depth)
        }
    };
    say!("{}", indented(nested.as_str()));
    Ok(())
}
