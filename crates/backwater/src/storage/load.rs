//! Stored rows become rows in memory, checked against the stored hashes.

use std::hash::Hasher;
use std::sync::Arc;

use rustc_hash::FxHasher;
use smallvec::SmallVec;

use super::Storage;
use super::form::{Form, Hash, Stored, StoredTable, TableForm, id_of, id_part, staged, times_of};
use super::loaded::{LoadedTables, TableDigest};
use super::progress::{PROGRESS_EVERY, Progress};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldDef, FieldKind, FieldNo, IdType, Schema, TableDef, TableNo};
use crate::table::Staged;
use crate::table::{Cell, Filling, IndexKey, ONLY, Slot, State, Times};

/// Takes the rows that a storage has of one table, and the hash that was recorded for it.
///
/// A storage in memory, whole: it gives back what [`Batch`](crate::storage::Batch)es put into it.
///
/// ```
/// use std::collections::BTreeMap;
/// use std::sync::{Arc, Mutex};
///
/// use backwater::{Cache, Schema, error::Result, storage::{Batch, Hash, Header, Loader, Storage, Stored, StoredTable}};
///
/// #[derive(Default)]
/// struct LoadedTables {
///     header: Option<Header>,
///     tables: BTreeMap<String, Table>,
/// }
///
/// #[derive(Default)]
/// struct Table {
///     /// By id: the values, and which fields are absent.
///     rows: BTreeMap<String, (Vec<Stored<'static>>, Vec<String>)>,
///     recorded: (u64, Hash),
/// }
///
/// #[derive(Clone, Default)]
/// struct InMemory(Arc<Mutex<LoadedTables>>);
///
/// impl Storage for InMemory {
///     fn name(&self) -> String {
///         "memory".to_owned()
///     }
///     fn header(&mut self) -> Result<Option<Header>> {
///         Ok(self.0.lock().unwrap().header.clone())
///     }
///     fn load(&mut self, table: &StoredTable, loader: &mut Loader) -> Result<()> {
///         let held = self.0.lock().unwrap();
///         let Some(table) = held.tables.get(table.name()) else { return Ok(()) };
///         table.rows.values().try_for_each(|(values, absent)| loader.row(values, absent))?;
///         loader.digest(table.recorded.0, table.recorded.1);
///         Ok(())
///     }
///     fn digest(&mut self, table: &StoredTable) -> Result<Option<(u64, Hash)>> {
///         Ok(self.0.lock().unwrap().tables.get(table.name()).map(|table| table.recorded))
///     }
///     fn write(&mut self, batch: &Batch) -> Result<()> {
///         let mut held = self.0.lock().unwrap();
///         let before = held.header.take();
///         assert_eq!(batch.from_commit(), before.as_ref().map_or(0, |header| header.commit));
///         for table in batch.dropped() {
///             held.tables.remove(table);
///         }
///         for rows in batch.tables() {
///             let table = held.tables.entry(rows.table().name().to_owned()).or_default();
///             for id in rows.deletes() {
///                 table.rows.remove(&id.to_string());
///             }
///             for row in rows.puts() {
///                 let id = row.id().map_or_else(String::new, |id| id.to_string());
///                 let values = row.values().map(Stored::into_owned).collect();
///                 table.rows.insert(id, (values, row.absent().map(str::to_owned).collect()));
///             }
///             table.recorded = (rows.rows(), rows.hash());
///         }
///         held.header = Some(match (batch.new_schema(), before) {
///             (None, Some(before)) => Header { commit: batch.commit(), ..before },
///             (schema, _) => Header::of(schema.expect("the first batch has one"), batch),
///         });
///         Ok(())
///     }
/// }
///
/// let memory = InMemory::default();
/// let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }")?;
/// let cache = Cache::open_with(schema, memory.clone())?;
/// cache.commit("ports opened", |tx| { tx.insert("port", [("code", "SAL")])?; tx.insert("port", [("code", "EEL")]) })?;
/// cache.commit("a port closed", |tx| tx.delete("port", "EEL"))?;
/// cache.flush()?;
///
/// let again = Cache::open(memory)?;
/// assert_eq!((again.snapshot().count("port")?, again.snapshot().commit()), (1, 2));
/// assert_eq!(again.snapshot().get("port", "SAL")?.unwrap().get("name")?, None); // still absent
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct Loader<'l> {
    rows: &'l mut Rows,
    table: TableNo,
    by: (Arc<Schema>, Arc<Form>),
    recorded: TableDigest,
}

/// This many links are remembered by their texts while rows are read.
const KNOWN: usize = 1 << 12;

/// A link that was met: the table that it points at, its text, and where the row is.
type KnownLink = (TableNo, Box<str>, Slot);

/// Tables in the making.
pub(super) struct Rows {
    pub(super) state: State,
    pub(super) form: Arc<Form>,
    digests: Vec<TableDigest>,
    /// For tables that have them, the times of their rows, by slot.
    times: Vec<Vec<Times>>,
    /// Links that were met, by their texts; empty until one was.
    known: Box<[Option<KnownLink>]>,
    /// Whether rows are taken that are not those that were written, as long as they fit.
    pub(super) accepts_edits: bool,
    /// The tables in which that was so.
    pub(super) edited: Vec<TableNo>,
    /// If a table is read over the rows that it has: which slots were met.
    over: Option<Vec<bool>>,
    /// If a table is read that had no slots: its rows so far.
    filling: Option<Box<Filling>>,
    /// Called with how much is read; its answer may cancel the reading.
    pub(super) progress: Option<Arc<Progress>>,
}

impl Rows {
    pub(super) fn new(schema: Arc<Schema>) -> Self {
        let (form, digests) =
            (Form::of(&schema), vec![TableDigest::default(); schema.tables.len()]);
        let times = vec![Vec::new(); schema.tables.len()];
        let (accepts_edits, edited) = (false, Vec::new());
        let known = Box::default();
        Self {
            state: State::new(schema),
            form: Arc::new(form),
            digests,
            times,
            known,
            accepts_edits,
            edited,
            over: None,
            filling: None,
            progress: None,
        }
    }

    /// Goes on with tables that are there.
    pub(super) fn going_on(state: State, form: Arc<Form>) -> Self {
        let digests = vec![TableDigest::default(); state.schema.tables.len()];
        let times = vec![Vec::new(); state.schema.tables.len()];
        let known = Box::default();
        let (edited, over, filling, progress) = (Vec::new(), None, None, None);
        let accepts_edits = false;
        Self { state, form, digests, times, known, accepts_edits, edited, over, filling, progress }
    }

    /// What was read of a table: its rows' number and hash, and the times of each.
    pub(super) fn digests(&mut self, table: TableNo) -> (TableDigest, Vec<Times>) {
        (self.digests[table.index()], std::mem::take(&mut self.times[table.index()]))
    }

    pub(super) fn into_held(self) -> LoadedTables {
        let Self { form, state, digests, times, .. } = self;
        LoadedTables { form, state: Arc::new(state), digests, times }
    }

    /// Reads a table from a storage, and checks that what is read is what was written.
    pub(super) fn load(&mut self, storage: &mut dyn Storage, table: TableNo) -> Result<()> {
        let (schema, form) = (self.state.schema.clone(), self.form.clone());
        let stored = StoredTable::new(&schema, &form, table);
        // Rows that are those that were written have different ids.
        let is_fresh = self.over.is_none() && !self.accepts_edits && !schema.links_to_itself(table);
        let may_fill = is_fresh && !schema.table(table).is_one_row();
        self.filling =
            may_fill.then(|| Filling::of(self.state.table(table))).flatten().map(Box::new);
        let by = (schema.clone(), form.clone());
        let mut loader = Loader { rows: self, table, by, recorded: TableDigest::default() };
        let loaded = storage.load(&stored, &mut loader);
        let recorded = loader.recorded;
        if let Some(filling) = self.filling.take() {
            self.state.table_mut(table).fill(*filling);
        }
        loaded?;
        let found = self.digests[table.index()];
        if found == recorded {
            return Ok(());
        }
        if self.accepts_edits {
            self.edited.push(table);
            return Ok(());
        }
        let name = stored.name();
        let message = if found.rows == recorded.rows {
            format!("the {} rows of table \"{name}\" are not those that were written", found.rows)
        } else {
            format!("table \"{name}\" has {} rows, but {} were written", found.rows, recorded.rows)
        };
        Err(Error::new(ErrorKind::Damaged, message)
            .help("the file was damaged, or edited by another program"))
    }

    /// The same over the loaded rows: those that are not read are deleted, and what does not
    /// persist stays.
    pub(super) fn load_over(&mut self, storage: &mut dyn Storage, table: TableNo) -> Result<()> {
        self.over = Some(vec![false; self.state.table(table).slots()]);
        let read = self.load(storage, table);
        let met = self.over.take().unwrap_or_default();
        read?;
        let is_met = |slot: &Slot| met.get(slot.0 as usize).copied().unwrap_or_default();
        let gone = self.state.table(table).iter().filter(|slot| !is_met(slot));
        if !self.state.table(table).is_one_row() {
            gone.collect::<Vec<_>>().into_iter().for_each(|slot| {
                self.state.table_mut(table).delete(slot);
            });
        }
        Ok(())
    }

    /// Whether a row is met for the second time.
    fn is_known(&mut self, table: TableNo, slot: Slot) -> bool {
        match &mut self.over {
            Some(met) => {
                let place = slot.0 as usize;
                if met.len() <= place {
                    met.resize(place + 1, false);
                }
                std::mem::replace(&mut met[place], true)
            }
            None => self.state.table(table).is_row(slot),
        }
    }

    /// Takes a row of a table: its values, of which some are absent, and the hash of these, if it
    /// is known.
    pub(super) fn put(
        &mut self,
        number: TableNo,
        values: &[Stored<'_>],
        is_absent: &[bool],
        hash: Option<Hash>,
    ) -> Result<Slot> {
        let (schema, form) = (self.state.schema.clone(), self.form.clone());
        self.put_in((&schema, &form), number, values, is_absent, hash)
    }

    /// The same for a caller that puts many rows and holds the index of ids.
    fn put_in(
        &mut self,
        (schema, form): (&Schema, &Form),
        number: TableNo,
        values: &[Stored<'_>],
        is_absent: &[bool],
        hash: Option<Hash>,
    ) -> Result<Slot> {
        if let Some(progress) = &self.progress
            && self.digests[number.index()].rows.is_multiple_of(PROGRESS_EVERY)
        {
            progress.report()?;
        }
        let row = Incoming {
            definition: schema.table(number),
            form: form.table(number),
            number,
            values,
            is_absent,
        };
        let columns = row.form.columns();
        if values.len() != columns {
            return Err(row.damaged(format!("it has {} values, expected {columns}", values.len())));
        }
        let times = times_of(&values[row.form.fields.len()..]);
        let times = times.map_err(|error| error.at(row.place()))?;
        let slot = match self.filling.take() {
            Some(mut filling) => {
                let slot = self.fill(&mut filling, &row, times)?;
                self.filling = Some(filling);
                slot
            }
            None => self.merge(&row, times)?,
        };
        if row.form.has_times {
            set_times(&mut self.times[number.index()], slot, times);
        }
        let digest = &mut self.digests[number.index()];
        digest.rows += 1;
        digest.hash.add(hash.unwrap_or_else(|| row.form.hash_of(values, is_absent)));
        Ok(slot)
    }

    /// Appends a row to a table that was empty at first.
    fn fill(&mut self, filling: &mut Filling, row: &Incoming<'_>, times: Times) -> Result<Slot> {
        let mut key = IndexKey::new();
        for field in &row.definition.id {
            let part = row.value_of(field).and_then(|value| self.part(row, *field, value));
            key.push(part.ok_or_else(|| row.without_id())?);
        }
        let slot = filling.begin(&key, times);
        for (field, value, is_absent) in row.fields() {
            if !is_absent {
                let staged = self.staged(row, field, value)?;
                filling.set(field, staged.cell());
            }
        }
        Ok(slot)
    }

    /// Puts a row in the place of the one with its id, or makes it.
    fn merge(&mut self, row: &Incoming<'_>, times: Times) -> Result<Slot> {
        let number = row.number;
        let slot = if row.definition.is_one_row() {
            ONLY
        } else {
            let slot = self.slot_of(number, |field| row.value_of(field));
            let slot = slot.ok_or_else(|| row.without_id())?;
            if self.is_known(number, slot) {
                let id = self.state.id(number, slot).map(|id| id.to_id().to_string());
                let id = id.unwrap_or_default();
                return Err(row.damaged(format!("two rows have the id {id}")));
            }
            slot
        };
        let mut cells: SmallVec<[(FieldNo, Staged<'_>); 16]> = SmallVec::new();
        for (field, value, is_absent) in row.fields() {
            if !is_absent {
                cells.push((field, self.staged(row, field, value)?));
            } else if self.over.is_some() {
                cells.push((field, Staged::Absent));
            }
        }
        let written = cells.iter().map(|(field, staged)| (*field, staged.cell()));
        let written: SmallVec<[_; 8]> = written.collect();
        let is_as_it_is =
            self.over.is_some()
                && self.state.table(number).row(slot).is_some_and(|row| {
                    written.iter().all(|(field, cell)| row.cell(*field) == *cell)
                });
        if !is_as_it_is {
            self.state.table_mut(number).merge(slot, &written);
        }
        if row.form.has_times {
            self.state.table(number).set_times(slot, times);
        }
        Ok(slot)
    }

    /// A stored value as one of a field.
    fn staged<'v>(
        &mut self,
        row: &Incoming<'v>,
        field: FieldNo,
        value: &'v Stored<'v>,
    ) -> Result<Staged<'v>> {
        let said = row.definition.field(field);
        let staged = match (said.kind, value) {
            (_, Stored::Null) => Ok(Staged::Null),
            (FieldKind::Link(to), value) => self.link(to, value).map(Staged::Link),
            (FieldKind::OneOf, value) => row
                .said_table(said)
                .ok_or_else(|| Error::new(ErrorKind::Damaged, "no table is named for a link"))
                .and_then(|to| Ok(Staged::OneOf(to, self.link(to, value)?))),
            (kind, value) => staged(kind, value),
        };
        staged.map_err(|error| error.at(format!("{}.{}", row.definition.name, said.name)))
    }

    /// A stored value as a part of an id.
    fn part<'v>(
        &mut self,
        row: &Incoming<'v>,
        field: FieldNo,
        value: &'v Stored<'v>,
    ) -> Option<Cell<'v>> {
        match (row.definition.field(field).kind, value) {
            (FieldKind::Int, Stored::Int(number)) => Some(Cell::Int(*number)),
            (FieldKind::Text, Stored::Text(text)) => Some(Cell::Text(text)),
            (FieldKind::Link(to), value) => self.link(to, value).ok().map(Cell::Link),
            _ => None,
        }
    }

    /// The slot of the row with the id that is among its values.
    fn slot_of<'v>(
        &mut self,
        table: TableNo,
        value_of: impl Fn(&FieldNo) -> Option<&'v Stored<'v>>,
    ) -> Option<Slot> {
        let schema = self.state.schema.clone();
        let definition = schema.table(table);
        if let [only] = *definition.id {
            // Most ids are a number or a text, and need no copy.
            match (definition.field(only).kind, value_of(&only)?) {
                (FieldKind::Int, Stored::Int(number)) => {
                    return Some(self.state.refer(table, &[Cell::Int(*number)]));
                }
                (FieldKind::Text, Stored::Text(text)) => {
                    return Some(self.state.refer(table, &[Cell::Text(text)]));
                }
                _ => {}
            }
        }
        let id = id_of(&schema, table, value_of)?;
        self.state.refer_id(table, &id).ok()
    }

    fn link(&mut self, to: TableNo, value: &Stored<'_>) -> Result<Slot> {
        if let Stored::Text(text) = value {
            if self.known.is_empty() {
                self.known = (0..KNOWN).map(|_| None).collect();
            }
            let known = &mut self.known[place(to, text)];
            if let Some((table, known, slot)) = known
                && *table == to
                && **known == **text
            {
                return Ok(*slot);
            }
            let slot = self.new_link(to, value)?;
            self.known[place(to, text)] = Some((to, text.as_ref().into(), slot));
            return Ok(slot);
        }
        self.new_link(to, value)
    }

    fn new_link(&mut self, to: TableNo, value: &Stored<'_>) -> Result<Slot> {
        let slot = match (self.state.schema.table(to).id_type(), value) {
            (IdType::Int, Stored::Int(number)) => Some(self.state.refer(to, &[Cell::Int(*number)])),
            (IdType::Text, Stored::Text(text)) => Some(self.state.refer(to, &[Cell::Text(text)])),
            _ => {
                let id = id_part(&self.state.schema, FieldKind::Link(to), value);
                id.and_then(|id| self.state.refer_id(to, &id).ok())
            }
        };
        slot.ok_or_else(|| Error::new(ErrorKind::Damaged, format!("found {value:?} for a link")))
    }
}

/// A row on its way into a table.
struct Incoming<'v> {
    definition: &'v TableDef,
    form: &'v TableForm,
    number: TableNo,
    values: &'v [Stored<'v>],
    is_absent: &'v [bool],
}

impl<'v> Incoming<'v> {
    fn value_of(&self, field: &FieldNo) -> Option<&'v Stored<'v>> {
        let place = self.form.fields.iter().position(|other| other == field);
        place.map(|place| &self.values[place])
    }

    /// The fields that are no part of the id, with their values and whether these are absent.
    fn fields(&self) -> impl Iterator<Item = (FieldNo, &'v Stored<'v>, bool)> + use<'v> {
        let id = &self.definition.id;
        let fields = self.form.fields.iter().zip(self.values).zip(self.is_absent);
        fields
            .filter(|((field, _), _)| !id.contains(field))
            .map(|((field, value), is_absent)| (*field, value, *is_absent))
    }

    /// The table that a link to one of several points at, as the field beside it says.
    fn said_table(&self, said: &FieldDef) -> Option<TableNo> {
        let one_of = said.one_of()?;
        match self.value_of(&one_of.type_field)? {
            Stored::Text(name) => one_of.table(name),
            _ => None,
        }
    }

    fn place(&self) -> String {
        format!("a row of table \"{}\"", self.definition.name)
    }

    fn damaged(&self, message: String) -> Error {
        Error::new(ErrorKind::Damaged, message).at(self.place())
    }

    fn without_id(&self) -> Error {
        self.damaged(format!("found {:?} with no id", self.values))
    }
}

/// Notes the times of a slot.
pub(super) fn set_times(times: &mut Vec<Times>, slot: Slot, said: Times) {
    let place = slot.0 as usize;
    if times.len() <= place {
        times.resize(place + 1, Times::default());
    }
    times[place] = said;
}

/// Where what is known of a text that is a link is remembered.
fn place(table: TableNo, text: &str) -> usize {
    let mut hasher = FxHasher::default();
    hasher.write_u32(table.0);
    hasher.write(text.as_bytes());
    (hasher.finish() >> 48) as usize % KNOWN
}

impl Loader<'_> {
    /// Takes one row: the values of the table's [columns](StoredTable::columns), and the names of
    /// those whose fields are absent.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`] if the values do not fit the table, or the row was there already.
    ///
    /// See [`Loader`] for an example.
    pub fn row(&mut self, values: &[Stored<'_>], absent: &[impl AsRef<str>]) -> Result<()> {
        let stored = StoredTable::new(&self.by.0, &self.by.1, self.table);
        let columns = stored.columns();
        let is_absent = columns.map(|column| absent.iter().any(|name| name.as_ref() == column));
        let is_absent: SmallVec<[bool; 16]> = is_absent.collect();
        self.put(values, &is_absent, None)
    }

    /// The same with a flag for each column, and with the hash of the row.
    #[cfg(feature = "sqlite")]
    pub(super) fn hashed(
        &mut self,
        values: &[Stored<'_>],
        is_absent: &[bool],
        hash: Hash,
    ) -> Result<()> {
        self.put(values, is_absent, Some(hash))
    }

    fn put(&mut self, values: &[Stored<'_>], is_absent: &[bool], hash: Option<Hash>) -> Result<()> {
        let by = (&*self.by.0, &*self.by.1);
        self.rows.put_in(by, self.table, values, is_absent, hash).map(drop)
    }

    /// Takes the number of rows and the hash that was last recorded for the table; these are of no
    /// rows, if none was.
    ///
    /// See [`Loader`] for an example.
    pub fn digest(&mut self, rows: u64, hash: Hash) {
        self.recorded = TableDigest { rows, hash };
    }
}

impl std::fmt::Debug for Loader<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Loader({})", self.rows.state.schema.table(self.table).name)
    }
}
