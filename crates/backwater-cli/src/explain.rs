//! `backwater explain`: how is this statement answered, and kept true?

use std::path::PathBuf;

use backwater::{
    Cache, ErrorKind, Named, SqliteFile, Value,
    plan::{Explanation, Operator},
    remote::{self, PlannedRequest},
};
use clap::ValueEnum;

use crate::check::read_schema;
use crate::failure::wrong_call;
use crate::output::{BOLD, DIM};
use crate::query::param;

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The cache file whose schema to use
    #[arg(long, value_name = "FILE", required_unless_present = "schema")]
    cache: Option<PathBuf>,
    /// The schema, such as backwater.toml
    #[arg(long, value_name = "FILE", conflicts_with = "cache")]
    schema: Option<PathBuf>,
    /// A value for a parameter, such as `--param port=SAL`: with a value for each, the tree says
    /// which requests would bring what the result reads and the cache lacks
    #[arg(long = "param", value_name = "NAME=VALUE", value_parser = param)]
    params: Vec<(String, Value)>,
    /// How to print the plan
    #[arg(long, value_enum, default_value_t = Format::Tree)]
    format: Format,
    /// A SELECT statement, or the name of one of the schema's queries
    #[arg(value_name = "SQL")]
    sql: String,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    /// A tree for people; the rows flow from the leaves to the root
    Tree,
    /// One JSON object
    Json,
    /// A graph in Graphviz's DOT language
    Dot,
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    let cache = match (&arguments.cache, &arguments.schema) {
        (Some(cache), _) => Cache::open(SqliteFile::read_only(cache))?,
        (None, Some(schema)) => Cache::new(read_schema(schema)?),
        (None, None) => anyhow::bail!("neither --cache nor --schema is given"),
    };
    let schema = cache.schema();
    let explained = match schema.query(&arguments.sql) {
        Some(_) => schema.explain_named(&arguments.sql),
        None => schema.explain(&arguments.sql),
    };
    let explained = explained.map_err(|error| match error.kind() {
        ErrorKind::Sql | ErrorKind::UnknownName => wrong_call(error),
        _ => error.into(),
    })?;
    match arguments.format {
        Format::Tree => {
            print(&explained)?;
            print_requests(&cache, arguments)?;
        }
        Format::Json => say!("{}", explained.to_json()),
        Format::Dot => say!("{}", explained.to_dot().trim_end()),
    }
    Ok(())
}

/// Says what a remote would ask for, for the result to be whole.
fn print_requests(cache: &Cache, arguments: &Arguments) -> anyhow::Result<()> {
    let params: Named = arguments.params.iter().cloned().collect();
    let query = match cache.query(arguments.sql.trim(), params) {
        Ok(query) => query,
        Err(error) if error.kind() == ErrorKind::Parameter && arguments.params.is_empty() => {
            say!(
                "\n{DIM}With --param NAME=VALUE for each parameter: what a remote would ask for{DIM:#}"
            );
            return Ok(());
        }
        Err(error) => return Err(wrong_call(error)),
    };
    let plan = remote::fill_plan(cache, &query)?;
    if plan.is_whole {
        say!(
            "\n{BOLD}Whole{BOLD:#}: answers cover all that it reads, so a remote asks for nothing"
        );
        return Ok(());
    }
    if !plan.requests.is_empty() {
        say!("\n{BOLD}A remote would ask for{BOLD:#}");
    }
    let width = plan.requests.iter().map(|request| request.url.chars().count()).max().unwrap_or(0);
    for PlannedRequest { rule, url, why, .. } in &plan.requests {
        say!("  GET {url:width$}  {DIM}by {rule}, since {why}{DIM:#}");
    }
    if !plan.impossible.is_empty() {
        say!("\n{BOLD}Not asked for{BOLD:#}");
    }
    for what in &plan.impossible {
        say!("  {what}");
    }
    Ok(())
}

fn print(explained: &Explanation) -> anyhow::Result<()> {
    say!("{BOLD}{}{BOLD:#}", explained.title());
    branch(explained.root(), "", true)
}

/// An operator with what is known of it, then those whose rows it takes. Long facts go on in
/// further lines.
fn branch(operator: &Operator, before: &str, is_last: bool) -> anyhow::Result<()> {
    let (fork, below) = if is_last { ("└─ ", "   ") } else { ("├─ ", "│  ") };
    say!("{DIM}{before}{fork}{DIM:#}{BOLD}{}{BOLD:#} {}", operator.name(), operator.what());
    let before = format!("{before}{below}");
    let stem = if operator.inputs().is_empty() { "  " } else { "│ " };
    let width = terminal_size::terminal_size_of(std::io::stdout())
        .map_or(usize::MAX, |(width, _)| usize::from(width.0));
    let room = width.saturating_sub(before.chars().count() + 12).max(30);
    for (label, text) in operator.facts() {
        for (number, line) in folded(text, room).into_iter().enumerate() {
            let label = if number == 0 { label } else { "" };
            say!("{DIM}{before}{stem}{label:<9}{DIM:#} {line}");
        }
    }
    for (number, input) in operator.inputs().iter().enumerate() {
        branch(input, &before, number + 1 == operator.inputs().len())?;
    }
    Ok(())
}

/// A text in lines of this many letters, broken between words.
fn folded(text: &str, room: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let line = lines.last().map_or(0, |line| line.chars().count());
        if line > 0 && line + 1 + word.chars().count() > room {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            if !line.is_empty() {
                line.push(' ');
            }
            line.push_str(word);
        }
    }
    lines
}
