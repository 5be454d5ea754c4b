//! What opening a storage found, and what it did to the stored rows.

use std::fmt;

use crate::error::Error;

/// What to do with a storage that is damaged, or that another program has edited.
///
/// ```
/// use backwater::{Cache, Schema, SqliteFile, storage::{Damage, WhenDamaged}};
///
/// # let folder = tempfile::tempdir().unwrap();
/// let path = folder.path().join("ports.db");
/// std::fs::write(&path, "SQLite format 3\0, and then nothing").unwrap();
/// let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?;
/// assert!(Cache::open_with(schema.clone(), SqliteFile::new(&path)).is_err());
///
/// let cache = Cache::builder()
///     .schema(schema)
///     .storage(SqliteFile::new(&path))
///     .when_damaged(WhenDamaged::SetAside)
///     .build()?;
/// let Some(Damage::SetAside { name, .. }) = cache.opening().damage else { panic!() };
/// assert!(std::fs::exists(name).unwrap());
/// cache.commit("begun again", |tx| tx.insert("port", [("code", "SAL")]))?;
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum WhenDamaged {
    /// It is an error, and the storage stays as it is.
    #[default]
    Refuse,
    /// The storage is given another name, and a new one is begun. If that is found when some tables
    /// were read already (see [`CacheBuilder::load_first`](crate::CacheBuilder::load_first)), what
    /// these have goes on in the new one.
    SetAside,
    /// Accepts rows whose hash does not match, as long as they fit the schema: they were edited on
    /// purpose. Other damage is refused.
    AcceptEdits,
}

/// What was found damaged when a cache was opened, and what was done about it; see [`WhenDamaged`].
#[derive(Debug, Clone)]
#[non_exhaustive]
pub enum Damage {
    /// The storage has this name now, and why.
    SetAside {
        /// The name that it has now.
        name: String,
        /// What was wrong with it.
        error: Error,
    },
    /// These tables had rows that were not those that were written.
    Accepted {
        /// The tables' names.
        tables: Vec<String>,
    },
}

/// What was done to stored rows because the schema is another one than that which they were written
/// with. Its `Display` says it in words.
///
/// ```
/// use backwater::{Cache, Schema, storage::MemoryStorage};
///
/// let memory = MemoryStorage::new();
/// let first = "table.sailing = { id = 'id', fields = { id = 'int', delay = 'int', note = 'text' } }";
/// let cache = Cache::open_with(Schema::parse("s.toml", first)?, memory.clone())?;
/// cache.commit("delay reported", |tx| tx.insert("sailing", (("id", 311), ("delay", 25), ("note", "fog"))))?;
/// drop(cache);
///
/// let second = "table.sailing = { id = 'id', fields = { id = 'int', delay_min = { type = 'float', was = 'delay' } } }";
/// let cache = Cache::open_with(Schema::parse("s.toml", second)?, memory)?;
/// assert_eq!(cache.snapshot().get("sailing", 311)?.unwrap().get("delay_min")?, Some(25.0.into()));
/// let changes: Vec<String> = cache.opening().schema_changes.iter().map(ToString::to_string).collect();
/// assert_eq!(changes, [
///     "sailing.delay_min was sailing.delay",
///     "sailing.delay_min went from int to float",
///     "sailing.note is retained: 1 value stays in the storage until a schema names it again",
/// ]);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum SchemaChange {
    /// A table or a field is new; a field is absent in all rows.
    New(String),
    /// A retained table or field is named again; this many values were restored.
    Restored(String, u64),
    /// A table or a field is no longer named; this many values stay in the storage, retained.
    Retained(String, u64),
    /// What the schema drops was deleted; this many values.
    Dropped(String, u64),
    /// A table or a field has another name, now and before.
    Renamed(String, String),
    /// A field has another type: its name, the type before, and the type now.
    Retyped(String, String, String),
    /// A step was done, by its number and what it is called.
    Step(u32, String),
    /// Whether times at which rows are received and read are stored, has changed for the table.
    Dated(String, bool),
    /// A table or a field persists from now on, or does not any more.
    Persists(String, bool),
}

impl fmt::Display for SchemaChange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let values = |count: &u64| {
            if *count == 1 { "1 value".to_owned() } else { format!("{count} values") }
        };
        match self {
            SchemaChange::New(what) => write!(f, "{what} is new"),
            SchemaChange::Restored(what, count) => {
                write!(f, "{what} is back, with {} that had been retained", values(count))
            }
            SchemaChange::Retained(what, 0) => {
                write!(f, "{what} is not named any more, and had no values")
            }
            SchemaChange::Retained(what, count) => {
                let stay = if *count == 1 { "stays" } else { "stay" };
                write!(
                    f,
                    "{what} is retained: {} {stay} in the storage until a schema names it again",
                    values(count)
                )
            }
            SchemaChange::Dropped(what, count) => {
                write!(f, "{what} is dropped, with {}", values(count))
            }
            SchemaChange::Renamed(now, was) => write!(f, "{now} was {was}"),
            SchemaChange::Retyped(what, was, now) => write!(f, "{what} went from {was} to {now}"),
            SchemaChange::Step(number, name) => write!(f, "step {number} was done: {name}"),
            SchemaChange::Dated(what, true) => write!(
                f,
                "the rows of {what} are dated from now on: all of them as of when it is opened"
            ),
            SchemaChange::Dated(what, false) => {
                write!(f, "the rows of {what} are not dated any more")
            }
            SchemaChange::Persists(what, true) => write!(f, "{what} persists from now on"),
            SchemaChange::Persists(what, false) => {
                write!(f, "{what} does not persist any more, and is gone from the storage")
            }
        }
    }
}
