//! Exports as CSV: one table, or a query's rows.

use std::io::Write;

use anyhow::{anyhow, bail};
use backwater::{Cache, Value};

use super::What;
use crate::failure::wrong_call;
use crate::output::{self, Rows};

pub(super) fn write(cache: &Cache, what: &What<'_>, mut out: &mut dyn Write) -> anyhow::Result<()> {
    match what {
        What::Cache => Err(wrong_call(anyhow!("a CSV file has one table; name one, or a query"))),
        What::Table(table) => table_rows(cache, table)?.write(output::Format::Csv, &mut out),
        What::Query(rows) => rows.write(output::Format::Csv, &mut out),
    }
}

fn table_rows(cache: &Cache, table: &str) -> anyhow::Result<Rows> {
    let snapshot = cache.snapshot();
    let Some(known) = snapshot.tables().into_iter().find(|known| known.name == table) else {
        // The library knows how to say this.
        match snapshot.count(table) {
            Err(error) => return Err(wrong_call(error)),
            Ok(_) => bail!("{table} is called otherwise"),
        }
    };
    let columns: Vec<String> = known.fields.into_iter().map(|field| field.name).collect();
    let rows = snapshot.rows(table)?.map(|row| {
        let cell = |name: &String| row.get(name).ok().flatten().unwrap_or(Value::Null);
        columns.iter().map(cell).collect()
    });
    let rows = rows.collect();
    Ok(Rows { columns, rows })
}
