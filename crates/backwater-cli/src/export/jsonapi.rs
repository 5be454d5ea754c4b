//! Exports as JSON:API 1.1 documents.

use std::io::Write;

use anyhow::anyhow;
use backwater::Cache;

use super::What;
use crate::failure::wrong_call;

pub(super) fn write(cache: &Cache, what: &What<'_>, out: &mut dyn Write) -> anyhow::Result<()> {
    let table = match what {
        What::Cache => None,
        What::Table(table) => Some(*table),
        What::Query(_) => {
            let message = "the rows of a query are no resources; take ndjson or csv";
            return Err(wrong_call(anyhow!(message)));
        }
    };
    cache.snapshot().export_jsonapi(table, out).map_err(wrong_call)
}
