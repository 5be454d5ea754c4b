//! Opening a storage: its rows become the tables of a cache, under the schema that is wanted.

use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;

use super::expired::LeftOut;
use super::load::Rows;
use super::migrate::{self, Steps};
use super::outbox::{Held, Outbox};
use super::{Header, Storage, expired, retained};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{Made, Schema, TableNo};
use crate::table::State;
use crate::value::Clock;

/// A storage as it was opened.
pub(crate) struct Opened {
    pub(crate) state: Arc<State>,
    pub(crate) commit: u64,
    pub(crate) outbox: Outbox,
    pub(crate) changes: Vec<SchemaChange>,
    pub(crate) damage: Option<Damage>,
}

/// What becomes of a storage that is damaged, or that another program has edited.
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
/// cache.commit("begun anew", |tx| tx.insert("port", [("code", "SAL")]))?;
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

/// What was found damaged when a cache was opened, and what became of it; see [`WhenDamaged`].
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
/// let told: Vec<String> = cache.opening().schema_changes.iter().map(ToString::to_string).collect();
/// assert_eq!(told, [
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
    Woken(String, u64),
    /// A table or a field is no longer named; this many values stay in the storage, retained.
    Sleeps(String, u64),
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
            SchemaChange::Woken(what, count) => {
                write!(f, "{what} is back, with {} that slept", values(count))
            }
            SchemaChange::Sleeps(what, 0) => {
                write!(f, "{what} is not named any more, and had no values")
            }
            SchemaChange::Sleeps(what, count) => {
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

/// How a storage is opened.
#[derive(Default)]
pub(crate) struct How {
    pub(crate) steps: Steps,
    pub(crate) when_damaged: WhenDamaged,
    /// The tables that are loaded at once, if the others are loaded later.
    pub(crate) first: Option<Vec<String>>,
    /// By which rows expire, if there is one.
    pub(crate) clock: Option<Arc<dyn Clock>>,
}

impl How {
    fn set_time(&self, state: &State) {
        if let Some(clock) = &self.clock {
            state.set_time(&**clock);
        }
    }
}

/// The tables that a storage holds, with what is needed to keep it up to date. `wanted` is the
/// schema to go on with; without one, it is the storage's own.
pub(crate) fn open(wanted: Option<Schema>, storage: &mut dyn Storage, how: &How) -> Result<Opened> {
    let when_damaged = how.when_damaged;
    let opened = open_whole(wanted.clone(), storage, how, when_damaged);
    match opened {
        Err(error)
            if error.kind() == ErrorKind::Damaged && when_damaged == WhenDamaged::SetAside =>
        {
            let name = storage.set_aside().map_err(|error| error.at(storage.name()))?;
            let opened = open_whole(wanted, storage, how, WhenDamaged::Refuse)?;
            Ok(Opened { damage: Some(Damage::SetAside { name, error }), ..opened })
        }
        opened => opened,
    }
}

fn open_whole(
    wanted: Option<Schema>,
    storage: &mut dyn Storage,
    how: &How,
    when_damaged: WhenDamaged,
) -> Result<Opened> {
    let name = storage.name();
    let at = |error: Error| error.at(&name);
    let accepts = when_damaged == WhenDamaged::AcceptEdits;
    match storage.header().map_err(at)? {
        Some(header) => reopen(wanted, storage, &header, how, accepts).map_err(at),
        None => match wanted {
            Some(schema) => Ok(begin(schema, &how.steps)),
            None => Err(at(Error::new(ErrorKind::Storage, "there is no cache here")
                .help("make one by ingesting a response with a schema"))),
        },
    }
}

/// A storage that nothing was ever written to.
fn begin(schema: Schema, steps: &Steps) -> Opened {
    let main = Rows::new(Arc::new(schema)).into_held();
    let retained = Rows::new(retained::schema()).into_held();
    let state = main.state.clone();
    let outbox = Outbox::new(main, retained, None, steps.last(), false);
    Opened { state, commit: 0, outbox, changes: Vec::new(), damage: None }
}

fn reopen(
    wanted: Option<Schema>,
    storage: &mut dyn Storage,
    header: &Header,
    how: &How,
    accepts_edits: bool,
) -> Result<Opened> {
    let steps = &how.steps;
    let stored = match &wanted {
        Some(wanted) if *wanted.text == *header.schema && *wanted.name == *header.schema_name => {
            wanted.clone()
        }
        _ => Schema::parse(&header.schema_name, &header.schema).map_err(|error| {
            Error::new(ErrorKind::Version, "the schema in it cannot be read")
                .help("it may be of a newer version of Backwater")
                .caused_by(error)
        })?,
    };
    let own = wanted.is_none();
    let wanted = wanted.unwrap_or_else(|| stored.clone());
    if !own && header.step > steps.last() {
        let message = format!(
            "its rows have gone through step {}, and the last step known here is {}",
            header.step,
            steps.last()
        );
        return Err(Error::new(ErrorKind::Version, message)
            .help("a newer version of this program wrote it, and can read it"));
    }
    let mut retained = Rows::new(retained::schema());
    retained.accepts_edits = accepts_edits;
    retained.load(storage, retained::TABLE)?;
    let pending = !own && header.step < steps.last();
    let is_same = !pending && migrate::is_same(&stored, &wanted, &retained.state);
    let same_text = wanted.text == stored.text;
    let known: Vec<Arc<str>> = stored.tables.iter().map(|table| table.name.clone()).collect();
    let mut rows = Rows::new(Arc::new(if is_same { wanted.clone() } else { stored }));
    rows.accepts_edits = accepts_edits;
    // A migration is done as a whole.
    let first = how.first.as_deref().filter(|_| is_same);
    load(&mut rows, storage, &known, first)?;
    if !rows.state.has_unready() {
        storage.loaded()?;
    }
    let name_of = |schema: &Schema, table: &TableNo| schema.table(*table).name.to_string();
    let edited: Vec<String> =
        rows.edited.iter().map(|table| name_of(&rows.state.schema, table)).collect();
    let retained_edited = !retained.edited.is_empty();
    let was_retained = retained_edited.then(|| retained::NAME.to_owned());
    let tables: Vec<String> = edited.iter().cloned().chain(was_retained).collect();
    let damage = (!tables.is_empty()).then_some(Damage::Accepted { tables });
    let rebuilt: BTreeSet<TableNo> = rows.edited.iter().copied().collect();
    let left = if is_same {
        let tables = rows.state.schema.table_numbers();
        let here: Vec<TableNo> = tables.filter(|table| rows.state.is_ready(*table)).collect();
        how.set_time(&rows.state);
        expired::leave_out(&mut rows.state, &rows.form, &here)
    } else {
        LeftOut::default()
    };
    let (held, retained) = (rows.into_held(), retained.into_held());
    if is_same {
        let state = held.state.clone();
        let mut outbox = Outbox::new(held, retained, Some(header.commit), header.step, same_text);
        outbox.note_left_out(left);
        if damage.is_some() {
            outbox.rebuild(edited, rebuilt, header.step);
        }
        if retained_edited {
            outbox.rebuild_retained();
        }
        let new =
            wanted.tables.iter().filter(|table| table.persist && !known.contains(&table.name));
        let new = new.filter(|table| table.made == Made::Declared);
        let changes = new.map(|table| SchemaChange::New(table.name.to_string())).collect();
        return Ok(Opened { state, commit: header.commit, outbox, changes, damage });
    }
    let retained_rows = State::clone(&retained.state);
    let mut carried =
        migrate::over(&held.state, Arc::new(wanted), retained_rows, steps.after(header.step))?;
    for name in edited {
        let schema = &carried.state.schema;
        let table = schema.table_numbers().find(|table| *schema.table(*table).name == *name);
        carried.rebuilt.extend(table);
        if !carried.dropped.contains(&name) {
            carried.dropped.push(name);
        }
    }
    let totals = migrate::totals(&held, &carried);
    let mut state = State::clone(&carried.state);
    how.set_time(&state);
    let tables: Vec<TableNo> = state.schema.table_numbers().collect();
    let left = expired::leave_out(&mut state, &carried.form, &tables);
    let state = Arc::new(state);
    let main = Held { form: carried.form, state: state.clone(), totals, times: carried.times };
    let mut outbox = Outbox::new(main, retained, Some(header.commit), header.step, false);
    outbox.note_left_out(left);
    outbox.rebuild(carried.dropped, carried.rebuilt, steps.last());
    outbox.set_retained(Arc::new(carried.retained_rows));
    if retained_edited {
        outbox.rebuild_retained();
    }
    let changes = carried.changes;
    Ok(Opened { state, commit: header.commit, outbox, changes, damage })
}

/// All tables that persist, of those that the storage has; or, if some are wanted first, these and
/// the one-row tables.
fn load(
    rows: &mut Rows,
    storage: &mut dyn Storage,
    known: &[Arc<str>],
    first: Option<&[String]>,
) -> Result<()> {
    let (schema, form) = (rows.state.schema.clone(), rows.form.clone());
    let first = first.map(|names| {
        let tables = names.iter().map(|name| schema.table_no(name));
        tables.collect::<Result<Vec<_>>>()
    });
    let first: Option<BTreeSet<TableNo>> = first
        .transpose()?
        .map(|tables| tables.into_iter().flat_map(|table| schema.with_entries(table)).collect());
    let persists =
        |table: &TableNo| form.table(*table).persists && known.contains(&schema.table(*table).name);
    let is_first = |table: &TableNo| {
        let named = |first: &BTreeSet<TableNo>| first.contains(table);
        schema.table(*table).is_one_row() || first.as_ref().is_none_or(named)
    };
    let (now, later): (BTreeSet<_>, BTreeSet<_>) =
        schema.table_numbers().filter(persists).partition(is_first);
    rows.state.set_unready(later);
    now.into_iter().try_for_each(|table| rows.load(storage, table))
}
