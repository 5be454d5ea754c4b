//! A cache file, looked through: is it whole, do its rows and links agree, and do its named queries
//! give what SQLite itself answers from the file?

use std::path::Path;

use rusqlite::functions::FunctionFlags;
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};

use crate::cache::Cache;
use crate::error::{Error, ErrorKind, Result};
#[cfg(feature = "unicode")]
use crate::query::compare_unicode;
use crate::query::{Query, contains};
use crate::schema::{Schema, TableNo};
use crate::storage::{SqliteFile, quoted};
use crate::table::TableSummary;
use crate::value::{Named, Value};

/// At most this many sets of values are tried for a query's parameters, fewer once as many gave
/// rows.
const TRIALS: usize = 64;
const WITH_ROWS: usize = 8;

/// What looking through a cache file has found; see [`SqliteFile::verify`].
#[derive(Debug)]
#[non_exhaustive]
pub struct Verification {
    /// The tables, with how many links point at rows that are missing.
    pub tables: Vec<TableSummary>,
    /// The named queries.
    pub queries: Vec<VerifiedQuery>,
}

/// A named query, evaluated by the cache and by SQLite.
///
/// See [`SqliteFile::verify`] for an example.
#[derive(Debug)]
#[non_exhaustive]
pub struct VerifiedQuery {
    /// Its name.
    pub name: String,
    /// How many sets of values its parameters were given.
    pub tried: usize,
    /// How many rows were compared.
    pub rows: usize,
    /// The first difference, in words.
    pub difference: Option<String>,
    /// Why SQLite could not evaluate it.
    pub not_tried: Option<String>,
}

impl SqliteFile {
    /// Looks through a cache file: its pages by SQLite, its rows by the schema and by the hashes
    /// that were written with them, its links by the rows that they point at, and each of its named
    /// queries by SQLite's own answer from the file, with values for the parameters that are in the
    /// file. Nothing is written.
    ///
    /// # Errors
    /// As [`Cache::open`](crate::Cache::open), if the file is not whole.
    ///
    /// ```
    /// use backwater::{Cache, Schema, SqliteFile};
    ///
    /// # let folder = tempfile::tempdir().unwrap();
    /// let path = folder.path().join("ports.db");
    /// let schema = Schema::parse("s.toml", r#"
    ///     table.port = { id = "code", fields = { code = "text", island = "text" } }
    ///     query.on = "SELECT code FROM port WHERE island = :island"
    /// "#)?;
    /// let cache = Cache::open_with(schema, SqliteFile::new(&path))?;
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL"), ("island", "Great Saltmere")]))?;
    /// cache.flush()?;
    /// let found = SqliteFile::verify(&path)?;
    /// assert_eq!((found.queries[0].difference.as_deref(), found.queries[0].rows), (None, 1));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn verify(path: impl AsRef<Path>) -> Result<Verification> {
        let path = path.as_ref();
        let cache = Cache::open(SqliteFile::read_only(path))?;
        let at = |error: rusqlite::Error| {
            Error::new(ErrorKind::Damaged, format!("SQLite cannot read it: {error}"))
                .at(path.display())
                .caused_by(error)
        };
        let file = connect(path).map_err(at)?;
        let schema = cache.schema();
        file.execute_batch(&views(&schema)).map_err(at)?;
        let verdict: String =
            file.query_row("PRAGMA integrity_check", [], |row| row.get(0)).map_err(at)?;
        if verdict != "ok" {
            return Err(Error::new(ErrorKind::Damaged, format!("SQLite says: {verdict}"))
                .at(path.display()));
        }
        let samples = samples(&cache);
        let queries = schema.query_names().map(|name| verify_query(&cache, &file, name, &samples));
        Ok(Verification { tables: cache.snapshot().tables(), queries: queries.collect() })
    }
}

/// SQLite with what our statements have beyond it.
fn connect(path: &Path) -> rusqlite::Result<Connection> {
    let file = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
    #[cfg(feature = "unicode")]
    file.create_collation("UNICODE", compare_unicode)?;
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC;
    file.create_scalar_function("contains", 2, flags, |arguments| {
        let text = |at: usize| -> rusqlite::Result<Option<String>> {
            Ok(match arguments.get_raw(at) {
                ValueRef::Null => None,
                ValueRef::Integer(number) => Some(number.to_string()),
                ValueRef::Real(number) => Some(Value::Float(number).to_string()),
                other => Some(other.as_str()?.to_owned()),
            })
        };
        Ok(text(0)?.zip(text(1)?).map(|(text, needle)| contains(&text, &needle)))
    })?;
    Ok(file)
}

/// The tables as statements see them, where the file's are not: without what is kept beside the
/// rows, and with what does not persist, which is absent.
fn views(schema: &Schema) -> String {
    let differs = |number: &TableNo| {
        let table = schema.table(*number);
        let persists = table.persist && table.fields.iter().all(|field| field.persist);
        schema.keeps_times(*number) || !persists
    };
    let view = |number: TableNo| {
        let table = schema.table(number);
        let columns = table.fields.iter().map(|field| match field.persist && table.persist {
            true => quoted(&field.name),
            false => format!("NULL AS {}", quoted(&field.name)),
        });
        let columns: Vec<String> = columns.collect();
        let from = match (table.persist, table.is_one_row()) {
            (true, _) => format!("FROM main.{}", quoted(&table.name)),
            (false, true) => String::new(),
            (false, false) => "WHERE FALSE".to_owned(),
        };
        format!("CREATE TEMP VIEW {} AS SELECT {} {from};", quoted(&table.name), columns.join(", "))
    };
    schema.table_numbers().filter(differs).map(view).collect()
}

/// Values that are in the cache: of each field one from the middle and the last one.
fn samples(cache: &Cache) -> Vec<Value> {
    let snapshot = cache.snapshot();
    let mut samples = vec![Value::Null];
    for table in snapshot.tables() {
        let Ok(rows) = snapshot.rows(&table.name) else { continue };
        let chosen: Vec<_> = rows
            .enumerate()
            .filter(|(at, _)| *at == table.rows / 2 || at + 1 == table.rows)
            .collect();
        for (_, row) in chosen {
            for (_, value) in row.fields() {
                if !samples.contains(&value) && !matches!(value, Value::Json(_)) {
                    samples.push(value);
                }
            }
        }
    }
    samples
}

fn verify_query(cache: &Cache, file: &Connection, name: &str, samples: &[Value]) -> VerifiedQuery {
    let mut verified = VerifiedQuery {
        name: name.to_owned(),
        tried: 0,
        rows: 0,
        difference: None,
        not_tried: None,
    };
    let schema = cache.schema();
    let sql = schema.query(name).unwrap_or_default();
    let params = match crate::query::compile(sql, &schema) {
        Ok(plan) => plan.params.iter().map(|param| param.name.clone()).collect::<Vec<_>>(),
        Err(error) => {
            verified.difference = Some(error.to_string());
            return verified;
        }
    };
    let trials = if params.is_empty() { 1 } else { samples.len() * params.len() };
    let mut with_rows = 0;
    for trial in 0..trials {
        // Each parameter goes through the samples at its own pace, so that they meet in many ways.
        let values = params.iter().enumerate().map(|(place, param)| {
            let at = trial / (place + 1) + place * trial;
            (param.clone(), samples[at % samples.len()].clone())
        });
        let values: Named = values.collect();
        // A value that the statement does not take is not tried.
        let Ok(query) = cache.query(sql, values.clone()) else { continue };
        match compare(&query, file, sql, &values) {
            Ok(Ok(rows)) => {
                verified.rows += rows;
                with_rows += usize::from(rows > 0);
            }
            Ok(Err(difference)) => {
                let given: Vec<String> =
                    values.iter().map(|(name, value)| format!(":{name} = {value}")).collect();
                let given = if given.is_empty() {
                    String::new()
                } else {
                    format!(" with {}", given.join(", "))
                };
                verified.difference = Some(format!("{difference}{given}"));
                return verified;
            }
            Err(error) => {
                verified.not_tried = Some(error.to_string());
                return verified;
            }
        }
        verified.tried += 1;
        if verified.tried == TRIALS || with_rows == WITH_ROWS {
            break;
        }
    }
    verified
}

/// Compares the answers: how many rows they have, or how they differ.
fn compare(
    query: &Query,
    file: &Connection,
    sql: &str,
    values: &Named,
) -> rusqlite::Result<std::result::Result<usize, String>> {
    let ours = match query.read() {
        Ok(result) => result,
        Err(error) => return Ok(Err(format!("the cache cannot answer: {error}"))),
    };
    let mut ours: Vec<Vec<String>> = ours
        .rows()
        .map(|row| row.values().iter().map(|value| rendered(&stored(value))).collect())
        .collect();
    let mut statement = file.prepare(sql)?;
    for (name, value) in values.iter() {
        if let Some(place) = statement.parameter_index(&format!(":{name}"))? {
            statement.raw_bind_parameter(place, stored(value))?;
        }
    }
    let columns = statement.column_count();
    let mut rows = statement.raw_query();
    let mut theirs = Vec::new();
    while let Some(row) = rows.next()? {
        let values = (0..columns)
            .map(|place| row.get::<_, rusqlite::types::Value>(place).map(|value| rendered(&value)));
        theirs.push(values.collect::<rusqlite::Result<Vec<String>>>()?);
    }
    // What SQLite leaves open, the order of equals, is fixed here.
    ours.sort();
    theirs.sort();
    // Which of several equal rows a LIMIT cuts off is left open as well.
    let is_cut = sql.to_ascii_uppercase().contains("LIMIT") && ours.len() == theirs.len();
    if ours == theirs || is_cut {
        return Ok(Ok(ours.len()));
    }
    let differs = ours.iter().zip(&theirs).find(|(ours, theirs)| ours != theirs);
    Ok(Err(match differs {
        Some((ours, theirs)) => {
            format!("the cache says ({}), SQLite says ({})", ours.join(", "), theirs.join(", "))
        }
        None => format!("the cache gives {} rows, SQLite gives {}", ours.len(), theirs.len()),
    }))
}

/// A value as the file has it.
fn stored(value: &Value) -> rusqlite::types::Value {
    match value {
        Value::Null => rusqlite::types::Value::Null,
        Value::Int(number) => (*number).into(),
        Value::Float(number) => (*number).into(),
        Value::Bool(flag) => i64::from(*flag).into(),
        Value::Text(text) => text.to_string().into(),
        Value::Timestamp(time) => time.to_string().into(),
        Value::Json(json) => json.as_str().to_owned().into(),
    }
}

/// A value for comparison: sums of floats may differ in their last digits.
fn rendered(value: &rusqlite::types::Value) -> String {
    match value {
        rusqlite::types::Value::Real(number) => format!("{number:.9e}"),
        other => format!("{other:?}"),
    }
}
