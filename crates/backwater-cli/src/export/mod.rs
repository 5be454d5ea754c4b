//! `backwater export`: a cache file's rows in open formats. A format is a file here and a line in
//! the list of `Format`.

mod csv;
mod jsonapi;
mod ndjson;

use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use backwater::{Cache, SqliteFile};
use clap::ValueEnum;

use crate::failure::wrong_call;
use crate::output::Rows;

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The cache file
    #[arg(long, value_name = "FILE")]
    cache: PathBuf,
    /// How to write the rows
    #[arg(long, value_enum, default_value_t = Format::Ndjson)]
    format: Format,
    /// Where to write them; standard output, by default
    #[arg(long, short, value_name = "FILE")]
    out: Option<PathBuf>,
    /// A table, or a named query without parameters; the whole cache, by default
    #[arg(value_name = "TABLE|QUERY")]
    what: Option<String>,
}

/// Declares the formats of exports: for each a name, its help, and the file that writes it.
macro_rules! formats {
    ($($(#[$help:meta])* $name:ident => $file:ident,)*) => {
        #[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
        enum Format {
            $($(#[$help])* $name,)*
        }

        impl Format {
            fn write(self, cache: &Cache, what: &What<'_>, out: &mut dyn Write) -> anyhow::Result<()> {
                match self {
                    $(Format::$name => $file::write(cache, what, out),)*
                }
            }
        }
    };
}

formats! {
    /// One JSON object a line; of the whole cache, `backwater ingest` gives it back
    Ndjson => ndjson,
    /// Comma-separated values (RFC 4180)
    Csv => csv,
    /// A JSON:API 1.1 document
    #[value(name = "json:api")]
    JsonApi => jsonapi,
}

/// What is exported.
enum What<'a> {
    Cache,
    Table(&'a str),
    Query(Rows),
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    let cache = Cache::open(SqliteFile::read_only(&arguments.cache))?;
    let Some(path) = &arguments.out else {
        return write(&cache, arguments, io::BufWriter::new(io::stdout().lock()));
    };
    let named = |error: anyhow::Error| match error.downcast::<io::Error>() {
        Ok(error) => anyhow::anyhow!("{}: it cannot be written: {error}", path.display()),
        Err(error) => error,
    };
    write_to(path, arguments, &cache).map_err(named)
}

/// Writes into a file, which is there whole or as it was. What is no ordinary file, such as a
/// device, is written to; a link stays one.
fn write_to(path: &Path, arguments: &Arguments, cache: &Cache) -> anyhow::Result<()> {
    let target = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let known = match fs::metadata(&target) {
        Ok(known) => Some(known),
        Err(error) if error.kind() == io::ErrorKind::NotFound => None,
        Err(error) => return Err(error.into()),
    };
    if known.is_some() && fs::canonicalize(&arguments.cache)? == target {
        return Err(wrong_call(anyhow::anyhow!(
            "{}: this is the cache itself; name another file with --out",
            path.display()
        )));
    }
    if known.as_ref().is_some_and(|known| !known.is_file()) {
        let file = fs::OpenOptions::new().write(true).open(&target)?;
        return write(cache, arguments, io::BufWriter::new(file));
    }
    // It has a name of its own until all of it is written, and is its owner's alone, as a cache is.
    let folder = match target.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    };
    let part = tempfile::NamedTempFile::new_in(folder)?;
    if let Some(known) = known {
        part.as_file().set_permissions(known.permissions())?;
    }
    write(cache, arguments, io::BufWriter::new(part.as_file()))?;
    part.as_file().sync_all()?;
    part.persist(&target).map_err(|error| error.error)?;
    Ok(())
}

fn write(cache: &Cache, arguments: &Arguments, mut out: impl Write) -> anyhow::Result<()> {
    let what = match arguments.what.as_deref() {
        None => What::Cache,
        Some(query) if cache.schema().query(query).is_some() => {
            What::Query(Rows::of(&cache.query(query, ()).map_err(wrong_call)?.read()?))
        }
        Some(table) => What::Table(table),
    };
    arguments.format.write(cache, &what, &mut out)?;
    Ok(out.flush()?)
}
