//! Exports as NDJSON.

use std::io::Write;

use backwater::Cache;

use super::What;
use crate::failure::wrong_call;
use crate::output;

pub(super) fn write(cache: &Cache, what: &What<'_>, mut out: &mut dyn Write) -> anyhow::Result<()> {
    match what {
        What::Cache => Ok(cache.snapshot().export(out)?),
        What::Table(table) => cache.snapshot().export_table(table, out).map_err(wrong_call),
        What::Query(rows) => rows.write(output::Format::Ndjson, &mut out),
    }
}
