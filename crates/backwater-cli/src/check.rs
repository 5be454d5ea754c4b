//! `backwater check`: is this schema right?

use std::fs;
use std::path::PathBuf;

use anstream::println;
use anyhow::Context;
use backwater::Schema;

use crate::output::count;

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The schema, such as backwater.toml
    schema: PathBuf,
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    let schema = read_schema(&arguments.schema)?;
    println!(
        "{}: {}, {} and {}, nothing wrong",
        arguments.schema.display(),
        count(schema.table_names().count(), "table"),
        count(schema.rule_names().count(), "response rule"),
        match schema.query_names().count() {
            1 => "1 named query".to_owned(),
            queries => format!("{queries} named queries"),
        },
    );
    Ok(())
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
