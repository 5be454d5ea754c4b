//! Opening a storage: its rows become the tables of a cache, under the schema that is wanted.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::load::Rows;
use super::loaded::LoadedTables;
use super::opening::{Damage, SchemaChange, WhenDamaged};
use super::outbox::Outbox;
use super::steps::Steps;
use super::{Header, Storage, expired, migrate, retained};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{Schema, TableDef, TableNo, TableOrigin};
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

/// How a storage is opened.
#[derive(Default)]
pub(crate) struct How {
    pub(crate) steps: Steps,
    pub(crate) when_damaged: WhenDamaged,
    /// The tables that are loaded at once, if the others are loaded later.
    pub(crate) first: Option<Vec<String>>,
    /// By which rows expire, if there is one.
    pub(crate) clock: Option<Arc<dyn Clock>>,
    /// What a wanted schema is together with those tables of the stored one that the library
    /// declares by itself.
    pub(crate) with_library_tables: Option<WithLibraryTables>,
}

pub(crate) type WithLibraryTables = fn(wanted: Schema, stored: &Schema) -> Result<Schema>;

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

/// An empty storage.
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
    let stored = stored_schema(wanted.as_ref(), header)?;
    let last_step = match &wanted {
        Some(_) => known_step(header, &how.steps)?,
        None => header.step,
    };
    let wanted = match (wanted, how.with_library_tables) {
        (None, _) => stored.clone(),
        (Some(wanted), None) => wanted,
        (Some(wanted), Some(with_library_tables)) => with_library_tables(wanted, &stored)?,
    };
    let mut retained = Rows::new(retained::schema());
    retained.accepts_edits = accepts_edits;
    retained.load(storage, retained::TABLE)?;
    let fits = header.step == last_step && migrate::is_same(&stored, &wanted, &retained.state);
    let stored_tables: Vec<Arc<str>> =
        stored.tables.iter().map(|table| table.name.clone()).collect();
    let has_same_text = wanted.text == stored.text;
    let mut rows = Rows::new(Arc::new(if fits { wanted.clone() } else { stored }));
    rows.accepts_edits = accepts_edits;
    // A migration is done as a whole.
    let first = how.first.as_deref().filter(|_| fits);
    load(&mut rows, storage, &stored_tables, first)?;
    if !rows.state.has_unready() {
        storage.loaded()?;
    }
    let read = Read { edited: Edited::in_rows(&rows, &retained), rows, retained, stored_tables };
    match fits {
        true => Ok(as_stored(read, &wanted, header, how, has_same_text)),
        false => migrated(read, wanted, header, how),
    }
}

/// What was read of a storage.
struct Read {
    rows: Rows,
    retained: Rows,
    edited: Edited,
    /// The names of the tables that the storage has.
    stored_tables: Vec<Arc<str>>,
}

/// Which tables have rows that are not those that were written.
struct Edited {
    tables: BTreeSet<TableNo>,
    names: Vec<String>,
    retained: bool,
}

impl Edited {
    fn in_rows(rows: &Rows, retained: &Rows) -> Self {
        let name = |table: &TableNo| rows.state.schema.table(*table).name.to_string();
        Self {
            tables: rows.edited.iter().copied().collect(),
            names: rows.edited.iter().map(name).collect(),
            retained: !retained.edited.is_empty(),
        }
    }

    fn damage(&self) -> Option<Damage> {
        let retained = self.retained.then(|| retained::NAME.to_owned());
        let tables: Vec<String> = self.names.iter().cloned().chain(retained).collect();
        (!tables.is_empty()).then_some(Damage::Accepted { tables })
    }
}

/// The schema that the stored rows were written with.
fn stored_schema(wanted: Option<&Schema>, header: &Header) -> Result<Schema> {
    match wanted {
        Some(wanted) if *wanted.text == *header.schema && *wanted.name == *header.schema_name => {
            Ok(wanted.clone())
        }
        _ => Schema::parse(&header.schema_name, &header.schema).map_err(|error| {
            Error::new(ErrorKind::Version, "the schema in it cannot be read")
                .help("it may be of a newer version of Backwater")
                .caused_by(error)
        }),
    }
}

/// The last step that the program knows, if the rows have gone through no later one.
fn known_step(header: &Header, steps: &Steps) -> Result<u32> {
    let last = steps.last();
    if header.step <= last {
        return Ok(last);
    }
    let message = format!(
        "its rows have gone through step {}, and the last step known here is {last}",
        header.step
    );
    Err(Error::new(ErrorKind::Version, message)
        .help("a newer version of this program wrote it, and can read it"))
}

/// Tables that are stored as the schema wants them.
fn as_stored(
    read: Read,
    wanted: &Schema,
    header: &Header,
    how: &How,
    has_same_text: bool,
) -> Opened {
    let Read { mut rows, retained, edited, stored_tables } = read;
    let tables = rows.state.schema.table_numbers();
    let loaded: Vec<TableNo> = tables.filter(|table| rows.state.is_ready(*table)).collect();
    how.set_time(&rows.state);
    let left = expired::leave_out(&mut rows.state, &rows.form, &loaded);
    let (main, retained) = (rows.into_held(), retained.into_held());
    let state = main.state.clone();
    let mut outbox = Outbox::new(main, retained, Some(header.commit), header.step, has_same_text);
    outbox.note_left_out(left);
    let damage = edited.damage();
    if damage.is_some() {
        outbox.rebuild(edited.names, edited.tables, header.step);
    }
    if edited.retained {
        outbox.rebuild_retained();
    }
    let is_new = |table: &&TableDef| {
        table.persist && table.made == TableOrigin::Declared && !stored_tables.contains(&table.name)
    };
    let new = wanted.tables.iter().filter(is_new);
    let changes = new.map(|table| SchemaChange::New(table.name.to_string())).collect();
    Opened { state, commit: header.commit, outbox, changes, damage }
}

/// Tables that are stored otherwise, or whose rows have yet to go through steps.
fn migrated(read: Read, wanted: Schema, header: &Header, how: &How) -> Result<Opened> {
    let Read { rows, retained, edited, .. } = read;
    let (held, retained) = (rows.into_held(), retained.into_held());
    let damage = edited.damage();
    let retained_rows = State::clone(&retained.state);
    let steps = how.steps.after(header.step);
    let mut carried = migrate::over(&held.state, Arc::new(wanted), retained_rows, steps)?;
    for name in edited.names {
        let schema = &carried.state.schema;
        let table = schema.table_numbers().find(|table| *schema.table(*table).name == *name);
        carried.rebuilt.extend(table);
        if !carried.dropped.contains(&name) {
            carried.dropped.push(name);
        }
    }
    let digests = migrate::digests(&held, &carried);
    let mut state = State::clone(&carried.state);
    how.set_time(&state);
    let tables: Vec<TableNo> = state.schema.table_numbers().collect();
    let left = expired::leave_out(&mut state, &carried.form, &tables);
    let state = Arc::new(state);
    let (form, times) = (carried.form, carried.times);
    let main = LoadedTables { form, state: state.clone(), digests, times };
    let mut outbox = Outbox::new(main, retained, Some(header.commit), header.step, false);
    outbox.note_left_out(left);
    outbox.rebuild(carried.dropped, carried.rebuilt, how.steps.last());
    outbox.set_retained(Arc::new(carried.retained_rows));
    if edited.retained {
        outbox.rebuild_retained();
    }
    Ok(Opened { state, commit: header.commit, outbox, changes: carried.changes, damage })
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
