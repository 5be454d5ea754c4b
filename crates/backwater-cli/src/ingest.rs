//! `backwater ingest`: JSON responses into a cache file, one commit a file.

use std::fs;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use anyhow::bail;
use backwater::{Cache, Report, Schema, SqliteFile, Value};
use indicatif::{ProgressBar, ProgressStyle};

use crate::check::read_schema;
use crate::failure::wrong_call;
use crate::output::{BOLD, Rows, count};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The schema; a cache file that is there already knows its own
    #[arg(long, value_name = "FILE")]
    schema: Option<PathBuf>,
    /// The cache file, which is made if it is not there
    #[arg(long, value_name = "FILE")]
    cache: PathBuf,
    /// The response rule to read by; may be left out if the schema has only one
    #[arg(long = "as", value_name = "RULE")]
    rule: Option<String>,
    /// The responses, `-` for standard input
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    let cache = open(arguments)?;
    let rule = choose_rule(&cache.schema(), arguments.rule.as_deref())?;
    let progress = progress(&arguments.files);
    let mut out = anstream::stdout();
    for file in &arguments.files {
        let name =
            if is_stdin(file) { "standard input".to_owned() } else { file.display().to_string() };
        let bytes =
            read(file).map_err(|error| anyhow::anyhow!("{name}: it cannot be read: {error}"))?;
        let label = format!("{name} ingested as {rule}");
        let report =
            cache.commit(label, |tx| tx.ingest(&rule, &bytes)).map_err(|error| error.at(&name))?;
        // A program may go on without its disk; this one has nothing else to show for its work.
        cache.flush()?;
        progress.inc(bytes.len() as u64);
        progress.suspend(|| tell(&mut out, &name, &report))?;
    }
    // Rules and queries may be new although no response brought anything.
    cache.flush()?;
    progress.finish_and_clear();
    Ok(())
}

fn open(arguments: &Arguments) -> anyhow::Result<Cache> {
    let file = SqliteFile::new(&arguments.cache);
    match &arguments.schema {
        Some(schema) => Ok(Cache::open_with(read_schema(schema)?, file)?),
        None if !arguments.cache.exists() => Err(wrong_call(anyhow::anyhow!(
            "{}: there is no cache here yet; name a schema with --schema to make one",
            arguments.cache.display()
        ))),
        None => Ok(Cache::open(file)?),
    }
}

fn choose_rule(schema: &Schema, wanted: Option<&str>) -> anyhow::Result<String> {
    let rules: Vec<&str> = schema.rule_names().collect();
    match (wanted, rules.as_slice()) {
        (Some(rule), rules) if rules.contains(&rule) => Ok(rule.to_owned()),
        (Some(rule), _) => {
            // The library knows how to say this.
            let unknown = Cache::new(schema.clone()).commit("", |tx| tx.ingest(rule, ""));
            match unknown {
                Err(error) => Err(wrong_call(error)),
                Ok(_) => Ok(rule.to_owned()),
            }
        }
        (None, [only]) => Ok((*only).to_owned()),
        (None, []) => bail!(
            "the schema has no response rule; add a [response.NAME] with `records` and `table`"
        ),
        (None, rules) => Err(wrong_call(anyhow::anyhow!(
            "the schema has several response rules; choose one with --as: {}",
            rules.join(", ")
        ))),
    }
}

fn is_stdin(file: &Path) -> bool {
    file.as_os_str() == "-"
}

fn read(file: &Path) -> io::Result<Vec<u8>> {
    if !is_stdin(file) {
        return fs::read(file);
    }
    let mut bytes = Vec::new();
    io::stdin().read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// A bar for input that takes a while; it shows on a terminal only.
fn progress(files: &[PathBuf]) -> ProgressBar {
    const WORTH_IT: u64 = 1 << 20;
    let sizes = files.iter().filter_map(|file| fs::metadata(file).ok());
    let total: u64 = sizes.map(|data| data.len()).sum();
    if total < WORTH_IT {
        return ProgressBar::hidden();
    }
    let style = ProgressStyle::with_template("{bar:40} {bytes} of {total_bytes}");
    ProgressBar::new(total).with_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()))
}

/// What a response brought, table by table.
pub(crate) fn tell(out: &mut impl Write, name: &str, report: &Report) -> anyhow::Result<()> {
    for brought in report.ingested() {
        writeln!(
            out,
            "{BOLD}{name}{BOLD:#}: {}, {}, {}{}",
            count(brought.bytes, "byte"),
            count(brought.objects(), "object"),
            count(brought.rows(), "row"),
            match brought.repeats() {
                0 => String::new(),
                repeats => format!("; {} folded", count(repeats, "repeat")),
            }
        )?;
        let number = |number: usize| Value::Int(number as i64);
        let rows = brought.tables.iter().map(|table| {
            let known = table.rows - table.inserted - table.updated;
            let counts = [table.objects, table.rows, table.inserted, table.updated, known];
            [Value::from(table.table.clone())].into_iter().chain(counts.map(number)).collect()
        });
        let columns =
            ["table", "objects", "rows", "new", "changed", "known"].map(str::to_owned).to_vec();
        Rows { columns, rows: rows.collect() }.write_table(out, "  ")?;
        if report.changes().next().is_none() {
            writeln!(out, "  Nothing of this was news.")?;
        }
    }
    Ok(())
}
