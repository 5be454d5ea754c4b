//! `backwater tables`: what is in this cache file?

use std::path::PathBuf;

use backwater::{Cache, SqliteFile, Value};

use crate::output::{Format, Rows};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The cache file
    #[arg(long, value_name = "FILE")]
    cache: PathBuf,
    /// How to print the rows
    #[arg(long, value_enum, default_value_t = Format::Table)]
    format: Format,
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    let cache = Cache::open(SqliteFile::read_only(&arguments.cache))?;
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
