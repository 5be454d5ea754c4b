//! A cache that only reads a storage, and follows what another program writes to it.

use std::sync::Arc;

use super::Cache;
use crate::change::Changes;
use crate::commit::CommitKind;
use crate::error::{Error, ErrorKind, Result};
use crate::trace::Report;
use crate::value::Stopwatch;

impl Cache {
    /// Applies what another program has written to the storage since the last call, in a cache that
    /// only reads it, such as by [`SqliteFile::read_only`](crate::SqliteFile::read_only). It is a
    /// commit like any other: queries and watchers follow, and its number is the other program's,
    /// unless this cache has made as many itself. `None` if no row differs.
    ///
    /// Of tables in which something is new, the rows are as the storage has them; what does not
    /// persist stays. See [`CacheBuilder::follow_every`](crate::CacheBuilder::follow_every) for a
    /// thread that does so.
    ///
    /// # Errors
    /// As [`Cache::open`]; [`ErrorKind::Storage`] if the cache writes to its storage itself,
    /// [`ErrorKind::Version`] if the other program has another schema now. Then the cache stays as
    /// it is.
    ///
    /// ```
    /// use backwater::{Cache, Schema, SqliteFile};
    ///
    /// # let folder = tempfile::tempdir().unwrap();
    /// let path = folder.path().join("ports.db");
    /// let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?;
    /// let writer = Cache::open_with(schema, SqliteFile::new(&path))?;
    /// writer.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// writer.flush()?;
    ///
    /// let reader = Cache::open(SqliteFile::read_only(&path))?; // perhaps in another program
    /// let ports = reader.query("SELECT count(*) AS n FROM port", ())?;
    /// assert!(reader.follow("nothing yet")?.is_none());
    /// writer.commit("another opened", |tx| tx.insert("port", [("code", "EEL")]))?;
    /// writer.flush()?;
    /// let report = reader.follow("the writer wrote")?.unwrap();
    /// assert_eq!(report.changes().next().unwrap().to_string(), "port EEL inserted");
    /// assert_eq!(ports.read()?.row(0).unwrap().get("n")?.as_int(), Some(2));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn follow(&self, label: impl Into<String>) -> Result<Option<Report>> {
        let core = &self.0.core;
        let persister = core.persister.as_ref().filter(|persister| persister.is_read_only());
        let Some(persister) = persister else {
            let message = "no other program writes to what this cache keeps";
            return Err(Error::new(ErrorKind::Storage, message)
                .help("open the storage only to be read, such as by `SqliteFile::read_only`"));
        };
        self.rehydrate(..)?;
        let mut writing = core.begin()?;
        let watch = Stopwatch::start(core.clock());
        writing.complete_indexes();
        let before = writing.state.clone();
        let Some(followed) = persister.follow(&before)? else { return Ok(None) };
        let rows = Arc::new(followed.rows.into());
        let changes = Changes { before, after: followed.state, rows };
        if changes.rows.is_empty() {
            return Ok(None);
        }
        let kind = CommitKind::Followed(followed.commit);
        let report = core.make(&mut writing, (label.into(), watch), changes, kind);
        core.deliver(writing, &[&report]);
        Ok(Some(report))
    }
}
