//! The SQLite driver: the storage form as tables that any SQLite shell opens.

use std::collections::HashMap;
use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};

use rusqlite::types::{ToSql, ToSqlOutput, ValueRef};
use rusqlite::{Connection, OpenFlags, TransactionBehavior, params_from_iter};

use super::form::{Form, Hash, Stored, id_of};
use super::outbox::{Batch, StoredRow, TableBatch};
use super::{Header, Loader, Storage};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldNo, IdType, Kind, Schema, Table, TableNo};
use crate::value::RowId;

/// "BWtr", in the header of every cache file.
const APPLICATION_ID: i32 = 0x4257_7472;
/// The version of the layout that this code writes.
const FORMAT: i32 = 1;

/// The tables that stand beside those of the schema.
const SIDE_TABLES: &str = "
    CREATE TABLE IF NOT EXISTS backwater_cache (
        only INTEGER PRIMARY KEY CHECK (only = 1),
        last_commit INTEGER NOT NULL,
        schema_name TEXT NOT NULL,
        schema TEXT NOT NULL,
        hash BLOB NOT NULL
    ) STRICT;
    CREATE TABLE IF NOT EXISTS backwater_hash (
        table_name TEXT PRIMARY KEY,
        row_count INTEGER NOT NULL,
        hash BLOB NOT NULL
    ) STRICT, WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS backwater_absent (
        table_name TEXT NOT NULL,
        row_id ANY NOT NULL,
        field TEXT NOT NULL,
        PRIMARY KEY (table_name, row_id, field)
    ) STRICT, WITHOUT ROWID;
";

/// A cache in an SQLite file. It is made by the first commit, so that a program which never gets
/// to one leaves nothing behind.
///
/// Each table of the schema is an ordinary `STRICT` table of the file, one column a field.
///
/// ```
/// use backwater::{Cache, Schema, SqliteFile, Value};
///
/// let folder = tempfile::tempdir().unwrap();
/// let path = folder.path().join("saltmere.db");
/// let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?;
///
/// let cache = Cache::open_with(schema, SqliteFile::new(&path))?;
/// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
/// cache.flush()?;
/// drop(cache);
///
/// let cache = Cache::open(SqliteFile::new(&path))?; // the file knows its schema
/// assert_eq!(cache.snapshot().count("port")?, 1);
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct SqliteFile {
    path: PathBuf,
    read_only: bool,
    connection: Option<Connection>,
}

impl SqliteFile {
    /// The cache in that file, which need not be there yet.
    ///
    /// See [`SqliteFile`] for an example.
    pub fn new(path: impl AsRef<Path>) -> Self {
        Self { path: path.as_ref().to_owned(), read_only: false, connection: None }
    }

    /// The cache in that file, only to look at: no row of it is ever written. What a program that
    /// was stopped in the middle of a write has left is taken back, if the file may be written.
    ///
    /// ```
    /// # use backwater::{Cache, ErrorKind, SqliteFile};
    /// let error = Cache::open(SqliteFile::read_only("no such file.db")).unwrap_err();
    /// assert_eq!(error.kind(), ErrorKind::Storage);
    /// ```
    pub fn read_only(path: impl AsRef<Path>) -> Self {
        Self { read_only: true, ..Self::new(path) }
    }

    fn connect(&mut self) -> Result<&mut Connection> {
        if self.connection.is_none() {
            // Also who only looks must be able to take back what a program that was stopped in
            // the middle of a write has left; SQLite opens a file that it may not write all the
            // same.
            let mut access = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            access.set(OpenFlags::SQLITE_OPEN_CREATE, !self.read_only);
            let connection = Connection::open_with_flags(&self.path, access)
                .map_err(|error| failed("it cannot be opened", error))?;
            // The links are declared for readers of the file, and may point at rows not loaded.
            let rules = format!(
                "PRAGMA foreign_keys = OFF; PRAGMA trusted_schema = OFF; PRAGMA query_only = {};",
                if self.read_only { "ON" } else { "OFF" }
            );
            connection
                .execute_batch(&rules)
                .map_err(|error| failed("it cannot be opened", error))?;
            self.connection = Some(connection);
        }
        match &mut self.connection {
            Some(connection) => Ok(connection),
            None => unreachable!("the connection was just made"),
        }
    }

    /// Whether a program was stopped in the middle of a write, or is in one.
    fn has_journal(&self) -> bool {
        let mut name = self.path.clone().into_os_string();
        name.push("-journal");
        fs::metadata(name).is_ok_and(|journal| journal.len() > 0)
    }

    /// Whether there is a file with anything in it, of SQLite's making and not cut short.
    fn exists(&self) -> Result<bool> {
        let unreadable = |error: std::io::Error| {
            Error::new(ErrorKind::Storage, format!("it cannot be read: {error}")).caused_by(error)
        };
        let mut file = match fs::File::open(&self.path) {
            Ok(file) => file,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(false),
            Err(error) => return Err(unreadable(error)),
        };
        let mut start = Vec::new();
        file.by_ref().take(100).read_to_end(&mut start).map_err(unreadable)?;
        if start.is_empty() {
            return Ok(false);
        }
        if !start.starts_with(b"SQLite format 3\0") {
            return Err(foreign("it is no SQLite file"));
        }
        if self.has_journal() {
            // What the header says may be half of a write that is about to be taken back.
            return Ok(true);
        }
        let found = file.metadata().map_err(unreadable)?.len();
        match told_len(&start) {
            Some(told) if found >= told => Ok(true),
            Some(told) => Err(damaged(format!("it is cut short: {found} bytes of {told}"))),
            None => Err(damaged("it is cut short".to_owned())),
        }
    }
}

/// How long the header of an SQLite file says that the file is: page size times page count, which
/// counts if it was written along with the last change.
fn told_len(header: &[u8]) -> Option<u64> {
    let number = |at: usize| Some(u32::from_be_bytes(header.get(at..at + 4)?.try_into().ok()?));
    let page = u64::from(u16::from_be_bytes(header.get(16..18)?.try_into().ok()?));
    let page = if page == 1 { 65_536 } else { page };
    let is_current = number(24)? == number(92)?;
    Some(if is_current { page * u64::from(number(28)?) } else { page })
}

fn damaged(how: String) -> Error {
    Error::new(ErrorKind::Damaged, how)
        .help("take a copy from elsewhere; this file is left as it is")
}

/// What guards the row that tells of the cache itself.
fn cache_hash(commit: i64, schema_name: &str, schema: &str) -> [u8; 16] {
    Hash::of(&[&commit.to_be_bytes(), schema_name.as_bytes(), schema.as_bytes()]).to_bytes()
}

fn foreign(why: &str) -> Error {
    Error::new(ErrorKind::Foreign, format!("this is not a Backwater cache: {why}"))
        .help("name another file; this one is left as it is")
}

/// An error of SQLite's, as damage where it says so.
fn failed(what: &str, error: rusqlite::Error) -> Error {
    use rusqlite::ErrorCode;
    let (kind, help) = match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase) => {
            (ErrorKind::Damaged, "the file was damaged, or is not whole")
        }
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            (ErrorKind::Storage, "another program is writing to it")
        }
        Some(ErrorCode::DiskFull) => (ErrorKind::Storage, "make room on the disk"),
        Some(ErrorCode::CannotOpen) => (ErrorKind::Storage, "is its folder there, and writable?"),
        Some(ErrorCode::ReadOnly) => (ErrorKind::Storage, "the file or its folder is read-only"),
        _ => (ErrorKind::Storage, ""),
    };
    Error::new(kind, format!("{what}: {error}")).help(help).caused_by(error)
}

fn unreadable(error: rusqlite::Error) -> Error {
    if error.sqlite_error_code() == Some(rusqlite::ErrorCode::ReadOnly) {
        let what = "a program was stopped while it wrote to it, which must be taken back first";
        return Error::new(ErrorKind::Storage, what)
            .help("open it once where it may be written")
            .caused_by(error);
    }
    failed("it cannot be read", error)
}

fn unwritable(error: rusqlite::Error) -> Error {
    failed("it cannot be written", error)
}

impl Storage for SqliteFile {
    fn name(&self) -> String {
        self.path.display().to_string()
    }

    fn header(&mut self) -> Result<Option<Header>> {
        if !self.exists()? {
            return Ok(None);
        }
        let connection = self.connect()?;
        let pragma = |name: &str| {
            connection.query_row(&format!("PRAGMA {name}"), [], |row| row.get::<_, i32>(0))
        };
        let application = pragma("application_id").map_err(unreadable)?;
        let format = pragma("user_version").map_err(unreadable)?;
        let tables: i64 = connection
            .query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0))
            .map_err(unreadable)?;
        if application == 0 && tables == 0 {
            return Ok(None);
        }
        if application != APPLICATION_ID {
            return Err(foreign("it is an SQLite file of another program"));
        }
        if format != FORMAT {
            return Err(Error::new(
                ErrorKind::Version,
                format!("it has file format {format}, and this version of Backwater reads format {FORMAT}"),
            )
            .help("use the version that wrote it"));
        }
        let sql = "SELECT last_commit, schema_name, schema, hash FROM backwater_cache";
        let header = connection.query_row(sql, [], |row| {
            let header = Header {
                commit: row.get::<_, i64>(0)? as u64,
                schema_name: row.get(1)?,
                schema: row.get(2)?,
            };
            Ok((header, row.get::<_, [u8; 16]>(3)?))
        });
        match header {
            Ok((header, hash)) => {
                let is_whole =
                    hash == cache_hash(header.commit as i64, &header.schema_name, &header.schema);
                is_whole
                    .then_some(Some(header))
                    .ok_or_else(|| damaged("its schema is not as it was written".to_owned()))
            }
            Err(rusqlite::Error::QueryReturnedNoRows) => {
                Err(damaged("it does not say which schema it has".to_owned()))
            }
            Err(error) => Err(unreadable(error)),
        }
    }

    fn load(&mut self, schema: &Schema, loader: &mut Loader) -> Result<()> {
        let form = Form::of(schema);
        let transaction = self.connect()?.transaction().map_err(unreadable)?;
        for number in schema.table_numbers() {
            if form.table(number).persists {
                load_table(&transaction, schema, &form, number, loader)?;
            }
        }
        let mut hashes = transaction
            .prepare("SELECT table_name, row_count, hash FROM backwater_hash")
            .map_err(unreadable)?;
        let mut rows = hashes.query([]).map_err(unreadable)?;
        while let Some(row) = rows.next().map_err(unreadable)? {
            let table: String = row.get(0).map_err(unreadable)?;
            let count: i64 = row.get(1).map_err(unreadable)?;
            let hash: [u8; 16] = row.get(2).map_err(unreadable)?;
            loader.hash(&table, count as u64, Hash::from_bytes(hash))?;
        }
        Ok(())
    }

    fn write(&mut self, batch: &Batch) -> Result<()> {
        if self.read_only {
            return Err(Error::new(ErrorKind::Storage, "it was opened only to be read"));
        }
        if batch.is_first() && self.exists()? {
            // Somebody else was first: what is there must not be written over.
            if self.header()?.is_some() {
                return Err(overtaken());
            }
        }
        let connection = self.connect()?;
        let transaction = connection
            .transaction_with_behavior(TransactionBehavior::Immediate)
            .map_err(unwritable)?;
        write_batch(&transaction, batch)?;
        transaction.commit().map_err(unwritable)
    }
}

fn overtaken() -> Error {
    Error::new(ErrorKind::Storage, "another program has written to it since it was opened")
        .help("open the cache again; nothing was written")
}

fn load_table(
    connection: &Connection,
    schema: &Schema,
    form: &Form,
    number: TableNo,
    loader: &mut Loader,
) -> Result<()> {
    let table = schema.table(number);
    let absent = load_absent(connection, &table.name)?;
    let fields = &form.table(number).fields;
    let columns: Vec<String> =
        fields.iter().map(|field| quoted(&table.field(*field).name)).collect();
    // A table without any field that persists still has a row to count.
    let columns = if columns.is_empty() { "NULL".to_owned() } else { columns.join(", ") };
    let sql = format!("SELECT {columns} FROM {}", quoted(&table.name));
    let mut statement = connection.prepare(&sql).map_err(unreadable)?;
    let mut rows = statement.query([]).map_err(unreadable)?;
    let none = Vec::new();
    while let Some(row) = rows.next().map_err(unreadable)? {
        let mut values = Vec::with_capacity(fields.len());
        for place in 0..fields.len() {
            values.push(read_value(row.get_ref(place).map_err(unreadable)?)?);
        }
        let value_of = |id: &FieldNo| values.get(fields.iter().position(|field| field == id)?);
        let key = match id_of(schema, number, value_of) {
            _ if table.is_one_row() => Some(RowId::Int(0)),
            Some(id @ RowId::Parts(_)) => Some(RowId::from(id.to_json().as_str())),
            id => id,
        };
        let absent = key.and_then(|key| absent.get(&key)).unwrap_or(&none);
        loader.row(&table.name, &values, absent)?;
    }
    Ok(())
}

/// Which fields are absent in which rows of a table.
fn load_absent(connection: &Connection, table: &str) -> Result<HashMap<RowId, Vec<String>>> {
    let mut statement = connection
        .prepare("SELECT row_id, field FROM backwater_absent WHERE table_name = ?")
        .map_err(unreadable)?;
    let mut rows = statement.query([table]).map_err(unreadable)?;
    let mut absent: HashMap<RowId, Vec<String>> = HashMap::new();
    while let Some(row) = rows.next().map_err(unreadable)? {
        let id = match read_value(row.get_ref(0).map_err(unreadable)?)? {
            Stored::Int(number) => RowId::Int(number),
            Stored::Text(text) => RowId::from(text.as_ref()),
            other => {
                return Err(Error::new(
                    ErrorKind::Damaged,
                    format!("found {other:?} for a row's id"),
                ));
            }
        };
        absent.entry(id).or_default().push(row.get(1).map_err(unreadable)?);
    }
    Ok(absent)
}

fn read_value(value: ValueRef<'_>) -> Result<Stored<'_>> {
    Ok(match value {
        ValueRef::Null => Stored::Null,
        ValueRef::Integer(number) => Stored::Int(number),
        ValueRef::Real(number) => Stored::Real(number),
        ValueRef::Text(bytes) => match std::str::from_utf8(bytes) {
            Ok(text) => Stored::Text(text.into()),
            Err(_) => return Err(Error::new(ErrorKind::Damaged, "a text in it is not UTF-8")),
        },
        ValueRef::Blob(_) => return Err(Error::new(ErrorKind::Damaged, "a value in it is a blob")),
    })
}

impl ToSql for Stored<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self {
            Stored::Null => ValueRef::Null,
            Stored::Int(number) => ValueRef::Integer(*number),
            Stored::Real(number) => ValueRef::Real(*number),
            Stored::Text(text) => ValueRef::Text(text.as_bytes()),
        }))
    }
}

/// Writes a batch; `connection` is in a transaction, so that all of it is there or nothing.
fn write_batch(connection: &Connection, batch: &Batch) -> Result<()> {
    if batch.is_first() {
        let marks =
            format!("PRAGMA application_id = {APPLICATION_ID}; PRAGMA user_version = {FORMAT};");
        connection.execute_batch(&marks).map_err(unwritable)?;
    }
    if let Some(schema) = batch.new_schema() {
        connection.execute_batch(SIDE_TABLES).map_err(unwritable)?;
        for number in schema.table_numbers() {
            if batch.form().table(number).persists {
                connection
                    .execute_batch(&create_table(schema, batch.form(), number))
                    .map_err(unwritable)?;
            }
        }
    }
    let before: Option<i64> =
        match connection.query_row("SELECT last_commit FROM backwater_cache", [], |row| row.get(0))
        {
            Ok(commit) => Some(commit),
            Err(rusqlite::Error::QueryReturnedNoRows) => None,
            Err(error) => return Err(unwritable(error)),
        };
    if before.unwrap_or(0) as u64 != batch.from_commit() || before.is_some() == batch.is_first() {
        return Err(overtaken());
    }
    for table in batch.tables() {
        write_table(connection, batch, &table).map_err(unwritable)?;
    }
    let schema = batch.schema();
    let commit = batch.commit() as i64;
    let hash = cache_hash(commit, &schema.name, schema.text());
    let told = if batch.new_schema().is_some() {
        let sql = "INSERT OR REPLACE INTO backwater_cache VALUES (1, ?, ?, ?, ?)";
        connection.execute(sql, (commit, &*schema.name, schema.text(), hash))
    } else {
        let sql = "UPDATE backwater_cache SET last_commit = ?, schema_name = ?, hash = ?";
        connection.execute(sql, (commit, &*schema.name, hash))
    };
    told.map(|_| ()).map_err(unwritable)
}

fn write_table(
    connection: &Connection,
    batch: &Batch,
    table: &TableBatch<'_>,
) -> rusqlite::Result<()> {
    let definition = batch.schema().table(table.number());
    let name = quoted(table.name());
    let mut forget_absent = connection
        .prepare_cached("DELETE FROM backwater_absent WHERE table_name = ? AND row_id = ?")?;
    let mut note_absent =
        connection.prepare_cached("INSERT INTO backwater_absent VALUES (?, ?, ?)")?;
    if !definition.is_one_row() {
        let parts = definition.id.iter().map(|id| quoted(&definition.field(*id).name) + " = ?");
        let key = parts.collect::<Vec<_>>().join(" AND ");
        let mut delete = connection.prepare_cached(&format!("DELETE FROM {name} WHERE {key}"))?;
        for id in table.deletes() {
            match id {
                RowId::Parts(parts) if definition.id.len() != 1 => {
                    delete.execute(params_from_iter(parts.iter().map(stored_id)))?
                }
                single => delete.execute([stored_id(single)])?,
            };
            forget_absent.execute((table.name(), stored_id(id)))?;
        }
    } else {
        connection.execute(&format!("DELETE FROM {name}"), [])?;
    }
    let fields = &batch.form().table(table.number()).fields;
    let columns: Vec<String> =
        fields.iter().map(|field| quoted(&definition.field(*field).name)).collect();
    let sql = if columns.is_empty() {
        format!("INSERT INTO {name} DEFAULT VALUES")
    } else {
        let marks = vec!["?"; columns.len()].join(", ");
        format!("INSERT OR REPLACE INTO {name} ({}) VALUES ({marks})", columns.join(", "))
    };
    let mut put = connection.prepare_cached(&sql)?;
    for row in table.puts() {
        put.execute(params_from_iter(row.values().map(|(_, value)| value)))?;
        let id = row_id(&row);
        forget_absent.execute((table.name(), &id))?;
        for field in row.absent() {
            note_absent.execute((table.name(), &id, field))?;
        }
    }
    let mut tell =
        connection.prepare_cached("INSERT OR REPLACE INTO backwater_hash VALUES (?, ?, ?)")?;
    tell.execute((table.name(), table.rows() as i64, table.hash().to_bytes()))?;
    Ok(())
}

/// The id under which a row's absent fields are listed; 0 for a one-row table's row.
fn row_id<'r>(row: &StoredRow<'r>) -> Stored<'r> {
    row.id().unwrap_or(Stored::Int(0))
}

fn stored_id(id: &RowId) -> Stored<'_> {
    Stored::from(id.borrow())
}

fn create_table(schema: &Schema, form: &Form, number: TableNo) -> String {
    let table = schema.table(number);
    let fields = &form.table(number).fields;
    let mut columns: Vec<String> =
        fields.iter().map(|field| column(schema, form, table, *field)).collect();
    if columns.is_empty() {
        // A one-row table of which nothing persists.
        columns.push("backwater_only INTEGER".to_owned());
    }
    if table.id_type() == IdType::Parts && !table.is_one_row() {
        let parts: Vec<_> = table.id.iter().map(|id| quoted(&table.field(*id).name)).collect();
        columns.push(format!("PRIMARY KEY ({})", parts.join(", ")));
    }
    let keyed = match table.id_type() {
        _ if table.is_one_row() => "STRICT",
        IdType::Int => "STRICT",
        IdType::Text | IdType::Parts => "STRICT, WITHOUT ROWID",
    };
    format!(
        "CREATE TABLE IF NOT EXISTS {} (\n  {}\n) {keyed};",
        quoted(&table.name),
        columns.join(",\n  ")
    )
}

fn column(schema: &Schema, form: &Form, table: &Table, number: FieldNo) -> String {
    let field = table.field(number);
    let name = quoted(&field.name);
    let key = if *table.id == [number] { " PRIMARY KEY" } else { "" };
    match (field.kind, schema.linked_id_type(field)) {
        (Kind::Bool, _) => format!("{name} INTEGER CHECK ({name} IN (0, 1))"),
        (Kind::Float, _) => format!("{name} REAL"),
        (Kind::Int | Kind::Links(_), _) => format!("{name} INTEGER{key}"),
        (_, None) => format!("{name} TEXT{key}"),
        (kind, Some(id_type)) => {
            let column = if id_type == IdType::Int { "INTEGER" } else { "TEXT" };
            match kind {
                Kind::Link(to) if form.table(to).persists && id_type != IdType::Parts => {
                    let target = schema.table(to);
                    let id = quoted(&target.field(target.id[0]).name);
                    format!("{name} {column} REFERENCES {} ({id})", quoted(&target.name))
                }
                _ => format!("{name} {column}"),
            }
        }
    }
}

/// A name as SQL writes it.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// The image of a version of the tables, in memory: everything in the storage form, also what does
/// not persist.
#[cfg(test)]
pub(crate) fn image(state: &std::sync::Arc<crate::table::State>) -> Connection {
    let mut connection = Connection::open_in_memory().unwrap();
    connection.execute_batch("PRAGMA foreign_keys = OFF").unwrap();
    let transaction = connection.transaction().unwrap();
    write_batch(&transaction, &Batch::image(state)).unwrap();
    transaction.commit().unwrap();
    connection
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Cache;

    /// The first write that fails leaves nothing that a later one could stumble over.
    #[test]
    fn a_first_write_that_is_taken_back_leaves_a_place_to_begin() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("full.db");
        let schema = "table.item = { id = 'id', fields = { id = 'int', t = 'text' } }";
        let schema = Schema::parse("s.toml", schema).unwrap();
        let mut full = SqliteFile::new(&path);
        full.connect().unwrap().pragma_update(None, "max_page_count", 8).unwrap();
        let cache = Cache::open_with(schema.clone(), full).unwrap();
        let long = "much ".repeat(20_000);
        let one = |cache: &Cache, text: &str| {
            cache
                .commit("one", |tx| {
                    tx.insert("item", [("id", 1.into()), ("t", crate::Value::from(text))])
                })
                .unwrap()
        };
        let told = one(&cache, &long).storage_error().unwrap().to_string();
        assert!(told.contains("full"), "{told}");
        drop(cache);
        assert!(path.exists());
        let error = Cache::open(SqliteFile::new(&path)).unwrap_err();
        assert!(error.to_string().contains("there is no cache here"), "{error}");
        one(&Cache::open_with(schema, SqliteFile::new(&path)).unwrap(), &long);
        assert_eq!(
            Cache::open(SqliteFile::new(&path)).unwrap().snapshot().count("item").unwrap(),
            1
        );
    }
}
