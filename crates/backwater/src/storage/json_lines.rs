//! A storage that is a file of JSON lines: one that a person can read, and that shows in a diff
//! what has changed.
//!
//! The whole file is rewritten each time, so it is for small caches. The first line is about the
//! cache; then follows, table by table, a line for each row, ordered by id, and after them their
//! number and hash.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use serde_json::{Map, Value as Tree};

use super::form::id_of;
use super::held::{Held, HeldTable, overtaken};
use super::identity::Identity;
use super::lock::{self, Lock};
use super::{Batch, Hash, Header, Loader, Storage, Stored, StoredRow, StoredTable, aside};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::FieldNo;
use crate::value::RowId;

/// The version of the file's form.
const FORMAT: u64 = 2;
/// The member of the first line, and of the line behind a table; no table can be called so.
const HEAD: &str = "backwater";
const FOOT: &str = "backwater_hash";

/// A cache in a file of JSON lines, to be read by people and compared by line. Every write writes
/// the whole file, so it is for small caches; for others there is
/// [`SqliteFile`](crate::SqliteFile).
///
/// ```
/// use backwater::{Cache, Schema, storage::JsonLines};
///
/// # let folder = tempfile::tempdir().unwrap();
/// let path = folder.path().join("ports.ndjson");
/// let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }")?;
/// let cache = Cache::open_with(schema, JsonLines::new(&path))?;
/// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
/// drop(cache);
///
/// assert!(std::fs::read_to_string(&path).unwrap().contains("{\"port\":{\"code\":\"SAL\"}}\n"));
/// assert_eq!(Cache::open(JsonLines::new(&path))?.snapshot().count("port")?, 1);
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct JsonLines {
    path: PathBuf,
    read_only: bool,
    held: Held<Line>,
    /// The file as it was read or written last.
    known: Option<Identity>,
    lock: Option<Lock>,
}

/// A row as its line has it: the columns whose fields are not absent.
type Line = Map<String, Tree>;

impl JsonLines {
    /// The cache in that file, which need not exist yet.
    ///
    /// See [`JsonLines`] for an example.
    pub fn new(path: impl AsRef<Path>) -> Self {
        let path = path.as_ref().to_owned();
        Self { path, read_only: false, held: Held::default(), known: None, lock: None }
    }

    /// The cache in that file, read-only: nothing is ever written.
    ///
    /// ```
    /// # use backwater::{Cache, ErrorKind, storage::JsonLines};
    /// let error = Cache::open(JsonLines::read_only("no such file.ndjson")).unwrap_err();
    /// assert_eq!(error.kind(), ErrorKind::Storage);
    /// ```
    pub fn read_only(path: impl AsRef<Path>) -> Self {
        Self { read_only: true, ..Self::new(path) }
    }
}

impl Storage for JsonLines {
    fn name(&self) -> String {
        self.path.display().to_string()
    }

    fn header(&mut self) -> Result<Option<Header>> {
        let bytes = match fs::read(&self.path) {
            Ok(bytes) => bytes,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => {
                let message = format!("it cannot be read: {error}");
                return Err(Error::new(ErrorKind::Storage, message).caused_by(error));
            }
        };
        if bytes.is_empty() {
            return Ok(None);
        }
        if self.lock.is_none() && !self.read_only {
            self.lock = Some(lock::take(&self.path)?);
        }
        let text = String::from_utf8(bytes).map_err(|error| {
            let place = error.utf8_error().valid_up_to();
            damaged(format!("byte {place} is not UTF-8"))
        })?;
        self.held = read(&text)?;
        self.known = Identity::of(&self.path)?;
        Ok(self.held.header.clone())
    }

    fn is_read_only(&self) -> bool {
        self.read_only
    }

    fn set_aside(&mut self) -> Result<String> {
        if self.read_only {
            return Err(Error::new(ErrorKind::Storage, "it was opened only to be read"));
        }
        (self.held, self.known) = (Held::default(), None);
        aside::set_aside(&self.path, &[])
    }

    fn is_there(&mut self) -> Result<bool> {
        let Some(known) = &self.known else { return Ok(true) };
        match Identity::of(&self.path)? {
            Some(found) if found.is_unchanged(known) => Ok(true),
            Some(found) if !found.is_empty() => {
                Err(damaged("another program has changed it while it was open".to_owned()))
            }
            _ => {
                (self.held, self.known) = (Held::default(), None);
                Ok(false)
            }
        }
    }

    fn digest(&mut self, table: &StoredTable<'_>) -> Result<Option<(u64, Hash)>> {
        Ok(self.held.tables.get(table.name()).map(|table| table.digest))
    }

    fn load(&mut self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()> {
        let Some(held) = self.held.tables.get_mut(table.name()) else { return Ok(()) };
        let mut ids = Vec::with_capacity(held.rows.len());
        for row in held.rows.values() {
            let mut absent = Vec::new();
            let mut values = Vec::new();
            for column in table.columns() {
                match row.get(column) {
                    None => {
                        absent.push(column);
                        values.push(Stored::Null);
                    }
                    Some(value) => values.push(stored(value)?),
                }
            }
            loader.row(&values, &absent)?;
            let fields = &table.form.table(table.number).fields;
            let value_of = |id: &FieldNo| values.get(fields.iter().position(|field| field == id)?);
            let is_one_row = table.key().next().is_none();
            ids.push((!is_one_row).then(|| id_of(table.schema, table.number, value_of)).flatten());
        }
        let rows = std::mem::take(&mut held.rows).into_values();
        held.rows = ids.into_iter().zip(rows).collect();
        loader.digest(held.digest.0, held.digest.1);
        Ok(())
    }

    fn write(&mut self, batch: &Batch) -> Result<()> {
        if self.read_only {
            return Err(Error::new(ErrorKind::Storage, "it was opened only to be read"));
        }
        if self.lock.is_none() {
            self.lock = Some(lock::take(&self.path)?);
        }
        if batch.is_first() && fs::metadata(&self.path).is_ok_and(|file| file.len() > 0) {
            // Another program was first: its content must not be overwritten, however often this is
            // tried.
            return Err(overtaken());
        }
        let mut held = self.held.clone();
        held.take(batch, line)?;
        write_file(&self.path, &held).map_err(|error| {
            let message = format!("it cannot be written: {error}");
            Error::new(ErrorKind::Storage, message)
                .help("is its folder there, and writable?")
                .caused_by(error)
        })?;
        self.held = held;
        self.known = Identity::of(&self.path)?;
        Ok(())
    }
}

impl std::fmt::Debug for JsonLines {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "JsonLines({})", self.path.display())
    }
}

fn line(table: StoredTable<'_>, row: StoredRow<'_>) -> Line {
    let absent: Vec<&str> = row.absent().collect();
    let here = table.columns().zip(row.values()).filter(|(column, _)| !absent.contains(column));
    here.map(|(column, value)| (column.to_owned(), tree(&value))).collect()
}

fn tree(value: &Stored<'_>) -> Tree {
    match value {
        Stored::Null => Tree::Null,
        Stored::Int(number) => (*number).into(),
        Stored::Real(number) => (*number).into(),
        Stored::Text(text) => text.as_ref().into(),
    }
}

fn stored(value: &Tree) -> Result<Stored<'_>> {
    Ok(match value {
        Tree::Null => Stored::Null,
        Tree::String(text) => Stored::Text(text.as_str().into()),
        Tree::Number(number) => match (number.as_i64(), number.as_f64()) {
            (Some(number), _) => Stored::Int(number),
            (_, Some(number)) => Stored::Real(number),
            _ => return Err(damaged(format!("{number} is no number of ours"))),
        },
        other => return Err(damaged(format!("found {other} for a value"))),
    })
}

fn damaged(how: String) -> Error {
    Error::new(ErrorKind::Damaged, how)
        .help("take a copy from elsewhere; this file is left as it is")
}

/// Writes the whole file, under another name until all of it is durable.
fn write_file(path: &Path, held: &Held<Line>) -> io::Result<()> {
    let mut part = path.to_owned().into_os_string();
    part.push("-new");
    let part = PathBuf::from(part);
    drop(fs::remove_file(&part));
    lock::make(&part)?;
    let file = fs::OpenOptions::new().write(true).open(&part)?;
    let mut out = io::BufWriter::new(&file);
    if let Some(header) = &held.header {
        let Header { schema, schema_name, commit, step } = header;
        let head = serde_json::json!({ HEAD: {
            "format": FORMAT, "commit": commit, "step": step, "schema_name": schema_name, "schema": schema,
            "hash": header.guard().to_string(),
        } });
        writeln!(out, "{head}")?;
    }
    for (name, table) in &held.tables {
        for row in table.rows.values() {
            writeln!(out, "{}", serde_json::json!({ name: row }))?;
        }
        let (rows, hash) = table.digest;
        let digest =
            serde_json::json!({ FOOT: { "table": name, "rows": rows, "hash": hash.to_string() } });
        writeln!(out, "{digest}")?;
    }
    out.flush()?;
    drop(out);
    file.sync_all()?;
    fs::rename(&part, path)?;
    // The new name is durable, too, where a folder can be synced.
    if let Some(folder) = path.parent() {
        let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
        drop(File::open(folder).and_then(|folder| folder.sync_all()));
    }
    Ok(())
}

#[derive(serde::Deserialize)]
struct Head {
    format: u64,
    commit: u64,
    step: u32,
    schema_name: String,
    schema: String,
    hash: String,
}

#[derive(serde::Deserialize)]
struct Foot {
    table: String,
    rows: u64,
    hash: String,
}

fn read(text: &str) -> Result<Held<Line>> {
    let mut lines = text.lines();
    let first = lines.next().unwrap_or_default();
    let foreign = || {
        Error::new(
            ErrorKind::Foreign,
            "this is not a Backwater cache: its first line does not say so",
        )
        .help("name another file; this one is left as it is")
    };
    let mut first: BTreeMap<String, Tree> = serde_json::from_str(first).map_err(|_| foreign())?;
    let head = first.remove(HEAD).ok_or_else(foreign)?;
    if let Some(format) = head["format"].as_u64().filter(|format| *format != FORMAT) {
        let message = format!(
            "it has file format {format}, and this version of Backwater reads format {FORMAT}"
        );
        return Err(Error::new(ErrorKind::Version, message).help("use the version that wrote it"));
    }
    let head: Head = serde_json::from_value(head)
        .map_err(|_| damaged("its first line is not as it was written".to_owned()))?;
    debug_assert_eq!(head.format, FORMAT);
    let mut held = Held::default();
    // The rows of a table, by the order of their lines, until the line behind them.
    let mut rows: BTreeMap<Option<RowId>, Line> = BTreeMap::new();
    let mut table: Option<String> = None;
    for (number, line) in lines.enumerate() {
        let wrong = || damaged(format!("line {} is not as it was written", number + 2));
        let line: BTreeMap<String, Tree> = serde_json::from_str(line).map_err(|_| wrong())?;
        let (name, value) = line.into_iter().next().ok_or_else(wrong)?;
        if name == FOOT {
            let foot: Foot = serde_json::from_value(value).map_err(|_| wrong())?;
            if table.as_ref().is_some_and(|table| *table != foot.table) {
                return Err(wrong());
            }
            let hash = hash(&foot.hash).ok_or_else(wrong)?;
            let digest = (foot.rows, hash);
            held.tables.insert(foot.table, HeldTable { rows: std::mem::take(&mut rows), digest });
            table = None;
        } else {
            let Tree::Object(row) = value else { return Err(wrong()) };
            if *table.get_or_insert_with(|| name.clone()) != name {
                return Err(wrong());
            }
            // Until its schema is known, a row is identified by its position.
            let place = RowId::Int(rows.len() as i64);
            rows.insert(Some(place), row);
        }
    }
    if table.is_some() {
        return Err(damaged("it is cut short".to_owned()));
    }
    let Head { schema, schema_name, commit, step, .. } = head;
    let header = Header { schema, schema_name, commit, step };
    if header.guard().to_string() != head.hash {
        return Err(damaged("its first line is not as it was written".to_owned()));
    }
    held.header = Some(header);
    Ok(held)
}

fn hash(text: &str) -> Option<Hash> {
    let number = u128::from_str_radix(text, 16).ok().filter(|_| text.len() == 32)?;
    Some(Hash::from_bytes(number.to_be_bytes()))
}
