//! The SQLite driver: the storage form as tables that any SQLite shell opens.

mod errors;
#[cfg(feature = "threads")]
mod pipe;
mod read;
mod write;

use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};

use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags, TransactionBehavior};

use self::errors::{damaged, failed, foreign, unreadable, unwritable};
use self::read::load_table;
pub(crate) use self::write::quoted;
use self::write::{APPLICATION_ID, FORMAT, write_batch};
use super::batch::Batch;
use super::form::StoredTable;
use super::held::overtaken;
use super::identity::Identity;
use super::lock::{self, Lock};
use super::{Hash, Header, Loader, Storage, aside};
use crate::error::{Error, ErrorKind, Result};

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
    /// The file that is open, and what SQLite counts of the changes that others make to it.
    known: Option<(Identity, i64)>,
    /// The right to write, which is released after the connection.
    lock: Option<Lock>,
}

impl SqliteFile {
    /// The cache in that file, which need not exist yet.
    ///
    /// See [`SqliteFile`] for an example.
    pub fn new(path: impl AsRef<Path>) -> Self {
        let path = path.as_ref().to_owned();
        Self { path, read_only: false, connection: None, known: None, lock: None }
    }

    /// The cache in that file, read-only: no row of it is ever written. A write that
    /// was interrupted is rolled back, if the file may be written.
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
            if !self.read_only {
                // What SQLite puts beside it gets the same rights. If it cannot be made, SQLite says so.
                drop(lock::make(&self.path));
            }
            // A read-only opener, too, must be able to roll back a write that was interrupted;
            // SQLite opens a file that it may not write all the same.
            let mut access = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            access.set(OpenFlags::SQLITE_OPEN_CREATE, !self.read_only);
            let connection = Connection::open_with_flags(plain(&self.path), access)
                .map_err(|error| failed("it cannot be opened", error))?;
            // The links are declared for readers of the file, and may point at rows not loaded.
            // What is deleted is overwritten, so that signing out leaves nothing to find.
            let pragma =
                if self.read_only { "PRAGMA query_only = ON" } else { "PRAGMA secure_delete = ON" };
            connection
                .set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_FKEY, false)
                .and_then(|_| {
                    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_TRUSTED_SCHEMA, false)
                })
                .and_then(|_| connection.execute_batch(pragma))
                .map_err(|error| failed("it cannot be opened", error))?;
            self.connection = Some(connection);
        }
        match &mut self.connection {
            Some(connection) => Ok(connection),
            None => unreachable!("the connection was just made"),
        }
    }

    fn read_header(&mut self) -> Result<Option<Header>> {
        if !self.exists()? {
            return Ok(None);
        }
        if !self.read_only && self.lock.is_none() {
            match lock::take(&self.path) {
                Ok(lock) => self.lock = Some(lock),
                // Where nothing can be made beside it, it can at least be read.
                Err(error) if std::error::Error::source(&error).is_some() => {}
                Err(error) => return Err(error),
            }
        }
        let connection = self.connect()?;
        if connection.is_autocommit() {
            // All that is read until everything is loaded is of one commit.
            connection.execute_batch("BEGIN").map_err(unreadable)?;
        }
        let pragma = |name: &str| {
            connection.query_row(&format!("PRAGMA {name}"), [], |row| row.get::<_, i32>(0))
        };
        let application = pragma("application_id").map_err(unreadable)?;
        let format = pragma("user_version").map_err(unreadable)?;
        if (application, format) == (0, 0) {
            let tables: i64 = connection
                .query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0))
                .map_err(unreadable)?;
            if tables == 0 {
                return Ok(None);
            }
        }
        check_marks(Some((application, format)))?;
        if (application, format) == (0, 0) {
            return Err(foreign("it is an SQLite file of another program"));
        }
        let sql = "SELECT last_commit, step, schema_name, schema, hash FROM backwater_cache";
        let header = connection.query_row(sql, [], |row| {
            let header = Header {
                commit: row.get::<_, i64>(0)? as u64,
                step: row.get(1)?,
                schema_name: row.get(2)?,
                schema: row.get(3)?,
            };
            Ok((header, row.get::<_, [u8; 16]>(4)?))
        });
        match header {
            Ok((header, hash)) => (hash == header.guard().to_bytes())
                .then_some(Some(header))
                .ok_or_else(|| damaged("its schema is not as it was written".to_owned())),
            Err(rusqlite::Error::QueryReturnedNoRows) => {
                Err(damaged("it does not say which schema it has".to_owned()))
            }
            Err(error) => Err(unreadable(error)),
        }
    }

    /// Takes note of the file as it is now, as this program has read or written it.
    fn note_known(&mut self) -> Result<()> {
        let identity = Identity::of(&self.path)?;
        let version = data_version(self.connect()?)?;
        self.known = identity.map(|identity| (identity, version));
        Ok(())
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
        // Nothing is made beside a file that is another program's.
        check_marks(marks(&start))?;
        if self.has_journal() {
            // What the header says may be half of a write that is about to be taken back.
            return Ok(true);
        }
        let found = file.metadata().map_err(unreadable)?.len();
        match stated_len(&start) {
            Some(stated) if found >= stated => Ok(true),
            Some(stated) => Err(damaged(format!("it is cut short: {found} bytes of {stated}"))),
            None => Err(damaged("it is cut short".to_owned())),
        }
    }
}

/// A path that SQLite takes for nothing but a path: no URI, and no name of a file in memory.
fn plain(path: &Path) -> PathBuf {
    if path.is_absolute() { path.to_owned() } else { Path::new(".").join(path) }
}

/// Counts what other connections have changed.
fn data_version(connection: &Connection) -> Result<i64> {
    connection.query_row("PRAGMA data_version", [], |row| row.get(0)).map_err(unreadable)
}

/// By what a file says that it is a cache, and of which layout, in the header of an SQLite file.
fn marks(header: &[u8]) -> Option<(i32, i32)> {
    let number = |at: usize| Some(i32::from_be_bytes(header.get(at..at + 4)?.try_into().ok()?));
    Some((number(68)?, number(60)?))
}

fn check_marks(marks: Option<(i32, i32)>) -> Result<()> {
    match marks {
        // Of an empty one that can be begun, or one that is cut short, more is known later.
        None | Some((0, 0) | (APPLICATION_ID, FORMAT)) => Ok(()),
        Some((APPLICATION_ID, format)) => Err(Error::new(
            ErrorKind::Version,
            format!(
                "it has file format {format}, and this version of Backwater reads format {FORMAT}"
            ),
        )
        .help("use the version that wrote it")),
        Some(_) => Err(foreign("it is an SQLite file of another program")),
    }
}

/// How long the header of an SQLite file says that the file is: page size times page count, which
/// counts if it was written along with the last change.
fn stated_len(header: &[u8]) -> Option<u64> {
    let number = |at: usize| Some(u32::from_be_bytes(header.get(at..at + 4)?.try_into().ok()?));
    let page = u64::from(u16::from_be_bytes(header.get(16..18)?.try_into().ok()?));
    let page = if page == 1 { 65_536 } else { page };
    let is_current = number(24)? == number(92)?;
    Some(if is_current { page * u64::from(number(28)?) } else { page })
}

impl Storage for SqliteFile {
    fn name(&self) -> String {
        self.path.display().to_string()
    }

    fn header(&mut self) -> Result<Option<Header>> {
        if self.path.as_os_str().is_empty() {
            let error = Error::new(ErrorKind::Storage, "the path of the file is empty");
            return Err(error.help("name a file"));
        }
        let had_lock = self.lock.is_some();
        let header = self.read_header();
        if header.is_err() && !had_lock {
            // A file that is refused is left as it is, and nothing is left beside it.
            self.connection = None;
            self.lock.take().into_iter().for_each(Lock::discard);
        }
        header
    }

    fn is_read_only(&self) -> bool {
        self.read_only
    }

    fn set_aside(&mut self) -> Result<String> {
        if self.read_only {
            return Err(Error::new(ErrorKind::Storage, "it was opened only to be read"));
        }
        if self.lock.is_none() {
            self.lock = Some(lock::take(&self.path)?);
        }
        (self.connection, self.known) = (None, None);
        // A journal goes with its file, under the name by which SQLite finds it.
        aside::set_aside(&self.path, &["-journal", "-wal", "-shm"])
    }

    fn loaded(&mut self) -> Result<()> {
        let connection = self.connect()?;
        if connection.is_autocommit() {
            return Ok(());
        }
        // As of the commit that was read.
        self.note_known()?;
        self.connect()?.execute_batch("COMMIT").map_err(unreadable)
    }

    fn is_there(&mut self) -> Result<bool> {
        let Some((known, _)) = &self.known else { return Ok(true) };
        match Identity::of(&self.path)? {
            Some(found) if found.is_same_file(known) => {
                // It may have been cut.
                self.exists()?;
                Ok(true)
            }
            found => {
                // What is open has no name any more, or another one.
                self.connection = None;
                if found.is_some_and(|found| !found.is_empty()) {
                    let what = "another file has taken its place while it was open";
                    return Err(damaged(what.to_owned()));
                }
                self.known = None;
                Ok(false)
            }
        }
    }

    fn compact(&mut self) -> Result<()> {
        if self.read_only || !self.exists()? {
            return Ok(());
        }
        self.loaded()?;
        self.connect()?.execute_batch("VACUUM").map_err(unwritable)?;
        self.note_known()
    }

    fn digest(&mut self, table: &StoredTable<'_>) -> Result<Option<(u64, Hash)>> {
        read::digest(self.connect()?, table.name())
    }

    fn load(&mut self, table: &StoredTable<'_>, loader: &mut Loader<'_>) -> Result<()> {
        load_table(self.connect()?, table, loader)
    }

    fn write(&mut self, batch: &Batch) -> Result<()> {
        if self.read_only {
            return Err(Error::new(ErrorKind::Storage, "it was opened only to be read"));
        }
        if self.lock.is_none() {
            self.lock = Some(lock::take(&self.path)?);
        }
        if batch.is_first() && self.exists()? {
            // Another program was first: its content must not be overwritten.
            if self.header()?.is_some() {
                return Err(overtaken());
            }
        }
        self.loaded()?;
        let known = self.known.take();
        let written = self.write_known(batch, &known);
        if written.is_err() {
            // What has changed it is still to be found out.
            self.known = known;
        }
        written
    }
}

impl SqliteFile {
    /// Writes a batch, unless others have changed the file since that was known.
    fn write_known(&mut self, batch: &Batch, known: &Option<(Identity, i64)>) -> Result<()> {
        let connection = self.connect()?;
        let transaction = connection
            .transaction_with_behavior(TransactionBehavior::Immediate)
            .map_err(unwritable)?;
        if let Some((_, version)) = known
            && data_version(&transaction)? != *version
        {
            let sql = "SELECT last_commit FROM backwater_cache";
            let last = transaction.query_row(sql, [], |row| row.get::<_, i64>(0)).ok();
            // Another program of this kind says so in its own words.
            if last == Some(batch.from_commit() as i64) {
                let what = "another program has changed it while it was open";
                return Err(damaged(what.to_owned()));
            }
        }
        write_batch(&transaction, batch)?;
        transaction.commit().map_err(unwritable)?;
        self.note_known()
    }
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
    use crate::{Cache, Schema};

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
        one(&cache, &long);
        let message = cache.flush().unwrap_err().to_string();
        assert!(message.contains("full"), "{message}");
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
