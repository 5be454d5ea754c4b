//! `backwater query`: a question in SQL, or by its name in the schema.

use std::path::PathBuf;

use anstream::eprintln;
use backwater::{Cache, ErrorKind, Named, SqliteFile, Value, report::Missing};

use crate::failure::wrong_call;
use crate::output::{DIM, Format, Rows, count, grouped};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The cache file
    #[arg(long, value_name = "FILE")]
    cache: PathBuf,
    /// A value for a parameter, such as `--param port=SAL`; 'single quotes' make a number a text
    #[arg(long = "param", value_name = "NAME=VALUE", value_parser = param)]
    params: Vec<(String, Value)>,
    /// How to print the rows
    #[arg(long, value_enum, default_value_t = Format::Table)]
    format: Format,
    /// A SELECT statement, or the name of one of the schema's queries
    #[arg(value_name = "SQL")]
    sql: String,
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    let cache = Cache::open(SqliteFile::read_only(&arguments.cache))?;
    let params: Named = arguments.params.iter().cloned().collect();
    let query = cache.query(arguments.sql.trim(), params);
    let query = query.map_err(|error| match error.kind() {
        ErrorKind::Sql | ErrorKind::UnknownName | ErrorKind::Parameter => wrong_call(error),
        _ => error.into(),
    })?;
    let result = query.read()?;
    Rows::of(&result).print(arguments.format)?;
    if result.is_empty() && arguments.format == Format::Table {
        eprintln!("no rows");
    }
    if arguments.format == Format::Table {
        print_missing(&query.missing(NAMED)?);
    }
    Ok(())
}

/// This many missing cells are named before the rest is counted.
const NAMED: usize = 3;

/// Also list what the answer would have needed and is missing.
fn print_missing(missing: &Missing) {
    if missing.count == 0 {
        return;
    }
    let cells: Vec<String> = missing.cells.iter().map(ToString::to_string).collect();
    let rest = match missing.count - cells.len() {
        0 => String::new(),
        rest => format!(", and {} more", grouped(rest)),
    };
    eprintln!(
        "{DIM}{} needed and missing, so NULL: {}{rest}{DIM:#}",
        count(missing.count, "value"),
        cells.join("; ")
    );
}

/// Reads `name=value`: the value as SQL spells it, or else as a text.
pub(crate) fn param(text: &str) -> Result<(String, Value), String> {
    let Some((name, value)) = text.split_once('=') else {
        return Err("expected NAME=VALUE, such as port=SAL".to_owned());
    };
    let quoted = value.strip_prefix('\'').and_then(|rest| rest.strip_suffix('\''));
    let value = match (quoted, value.to_ascii_lowercase().as_str()) {
        (Some(text), _) => Value::from(text.replace("''", "'")),
        (None, "null") => Value::Null,
        (None, "true") => Value::Bool(true),
        (None, "false") => Value::Bool(false),
        _ => number(value).unwrap_or_else(|| Value::from(value)),
    };
    Ok((name.to_owned(), value))
}

/// A number, if that is how the text spells it itself: `007` stays a text, which SQL compares with
/// a number all the same.
fn number(text: &str) -> Option<Value> {
    let whole = text.parse().ok().map(Value::Int);
    let number = whole.or_else(|| text.parse().ok().map(Value::Float))?;
    (number.to_string() == text).then_some(number)
}
