//! Batches: what takes a storage from one commit boundary to a later one.

use std::fmt;
use std::sync::Arc;

use super::form::{Form, Hash, Stored, StoredTable, stored, stored_times};
use super::loaded::TableDigest;
#[cfg(all(test, feature = "sqlite", feature = "unicode"))]
use super::retained;
use crate::schema::{FieldNo, Schema, TableNo};
use crate::table::{Cell, Slot, State, Times};
use crate::value::RowId;

/// What takes a storage from one commit boundary to a later one.
///
/// A driver does, in this order and all or nothing: it removes the tables that are
/// [dropped](Batch::dropped), with all their rows; takes the new schema, if there is one; deletes
/// and puts the rows of [each table](Batch::tables), and notes how many rows it has then and their
/// hash; and notes [the commit](Batch::commit) and [the step](Batch::step).
///
/// See [`MemoryStorage`](crate::storage::MemoryStorage) for a storage that does so.
pub struct Batch {
    pub(super) main: BatchSide,
    pub(super) retained: BatchSide,
    pub(super) stored_commit: u64,
    pub(super) commit: u64,
    pub(super) step: u32,
    pub(super) first: bool,
    pub(super) schema_changed: bool,
    pub(super) dropped: Vec<String>,
}

pub(super) struct BatchSide {
    pub(super) form: Arc<Form>,
    pub(super) now: Arc<State>,
    pub(super) digests: Vec<TableDigest>,
    pub(super) tables: Vec<TableWrites>,
}

pub(super) struct TableWrites {
    pub(super) table: TableNo,
    pub(super) deletes: Vec<RowId>,
    pub(super) puts: Vec<Put>,
}

/// A row to write, with the times that go with it.
pub(super) type Put = (Slot, Times);

impl Batch {
    #[cfg(all(test, feature = "sqlite", feature = "unicode"))]
    pub(crate) fn image(state: &Arc<State>) -> Self {
        let side = |form: Form, state: &Arc<State>| {
            let puts = |table: TableNo| TableWrites {
                table,
                deletes: Vec::new(),
                puts: state.table(table).iter().map(|slot| (slot, Times::default())).collect(),
            };
            BatchSide {
                form: Arc::new(form),
                now: state.clone(),
                digests: vec![TableDigest::default(); state.schema.tables.len()],
                tables: state.schema.table_numbers().map(puts).collect(),
            }
        };
        let nothing = Arc::new(retained::nothing());
        Self {
            main: side(Form::whole(&state.schema), state),
            retained: side(Form::of(&nothing.schema), &nothing),
            stored_commit: 0,
            commit: 1,
            step: 0,
            first: true,
            schema_changed: true,
            dropped: Vec::new(),
        }
    }

    /// The commit that the storage holds now, 0 for none. If it holds another one, another program
    /// was there, and nothing must be written.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn from_commit(&self) -> u64 {
        self.stored_commit
    }

    /// The commit that the storage holds afterwards.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn commit(&self) -> u64 {
        self.commit
    }

    /// The number of the last [step](crate::CacheBuilder::step) that was applied to the rows; the
    /// storage gives it back in its [`Header`](super::Header).
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn step(&self) -> u32 {
        self.step
    }

    /// Whether the storage holds nothing yet.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn is_first(&self) -> bool {
        self.first
    }

    /// The schema, if the storage does not have it in this text yet.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn new_schema(&self) -> Option<&Schema> {
        self.schema_changed.then_some(&*self.main.now.schema)
    }

    /// Stored tables that go as a whole, before anything else is written. One of them may be among
    /// the tables to write again.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn dropped(&self) -> &[String] {
        &self.dropped
    }

    /// The tables in which rows are written or deleted.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn tables(&self) -> impl Iterator<Item = TableBatch<'_>> {
        let of = |side: &'_ BatchSide| (0..side.tables.len()).collect::<Vec<_>>();
        let tables = [&self.main, &self.retained].map(|side| (side, of(side)));
        tables.into_iter().flat_map(|(side, tables)| {
            tables.into_iter().map(move |table| TableBatch { side, writes: &side.tables[table] })
        })
    }

    /// All tables that the storage has afterwards.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn stored_tables(&self) -> impl Iterator<Item = StoredTable<'_>> {
        [&self.main, &self.retained].into_iter().flat_map(|side| side.form.tables(&side.now.schema))
    }

    #[cfg(feature = "sqlite")]
    pub(crate) fn schema(&self) -> &Schema {
        &self.main.now.schema
    }
}

impl fmt::Debug for Batch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let tables = self.tables().count();
        write!(f, "Batch({} -> {}, {tables} tables)", self.stored_commit, self.commit)
    }
}

/// The rows of one table that a [`Batch`] deletes and writes. Deletes are first.
#[derive(Clone, Copy)]
pub struct TableBatch<'b> {
    side: &'b BatchSide,
    writes: &'b TableWrites,
}

impl<'b> TableBatch<'b> {
    /// The table.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn table(&self) -> StoredTable<'b> {
        StoredTable::new(&self.side.now.schema, &self.side.form, self.writes.table)
    }

    /// The ids of the rows to delete.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn deletes(&self) -> &'b [RowId] {
        &self.writes.deletes
    }

    /// The rows to write, in the place of any with the same id; a one-row table's row in the place
    /// of the one that is there.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn puts(&self) -> impl Iterator<Item = StoredRow<'b>> + use<'b> {
        let (side, table) = (self.side, self.writes.table);
        let row = move |(slot, times): &Put| StoredRow { side, table, slot: *slot, times: *times };
        self.writes.puts.iter().map(row)
    }

    /// How many rows the table has afterwards.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn rows(&self) -> u64 {
        self.side.digests[self.writes.table.index()].rows
    }

    /// The table's hash afterwards.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn hash(&self) -> Hash {
        self.side.digests[self.writes.table.index()].hash
    }
}

/// A row to write, in the storage form.
#[derive(Clone, Copy)]
pub struct StoredRow<'b> {
    side: &'b BatchSide,
    table: TableNo,
    slot: Slot,
    times: Times,
}

impl<'b> StoredRow<'b> {
    /// The row's id; a one-row table's row has none.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn id(&self) -> Option<RowId> {
        self.side.now.id(self.table, self.slot).map(|id| id.to_id())
    }

    /// The values of the [columns](StoredTable::columns), in their order. What is absent is NULL.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn values(&self) -> impl Iterator<Item = Stored<'b>> + use<'b> {
        self.cells().map(|(value, _)| value)
    }

    /// What the fields hold, with their numbers.
    fn fields(&self) -> impl Iterator<Item = (FieldNo, Cell<'b>)> + use<'b> {
        let row = self.side.now.table(self.table).row(self.slot);
        let fields = self.side.form.table(self.table).fields.iter();
        fields.map(move |field| (*field, row.map_or(Cell::Absent, |row| row.cell(*field))))
    }

    /// When it was received and read, if that is stored.
    fn times(&self) -> impl Iterator<Item = Stored<'b>> + use<'b> {
        let has_times = self.side.form.table(self.table).has_times;
        stored_times(self.times).into_iter().filter(move |_| has_times)
    }

    /// The values of the columns, each with whether its field is absent.
    pub(super) fn cells(&self) -> impl Iterator<Item = (Stored<'b>, bool)> + use<'b> {
        let (now, table) = (&self.side.now, self.table);
        let fields = self
            .fields()
            .map(move |(field, cell)| (stored(now, table, field, cell), cell == Cell::Absent));
        fields.chain(self.times().map(|time| (time, false)))
    }

    /// For each column whether it is NULL, and if so, whether as it is absent.
    #[cfg(feature = "sqlite")]
    pub(super) fn nulls(&self) -> impl Iterator<Item = Option<bool>> + use<'b> {
        let fields = self.fields().map(|(_, cell)| match cell {
            Cell::Absent => Some(true),
            Cell::Null => Some(false),
            _ => None,
        });
        fields.chain(self.times().map(|time| (time == Stored::Null).then_some(false)))
    }

    /// The names of the columns whose fields are absent in this row.
    ///
    /// See [`Loader`](super::Loader) for an example.
    pub fn absent(&self) -> impl Iterator<Item = &'b str> + use<'b> {
        let table = self.side.now.schema.table(self.table);
        let absent = self.fields().filter(|(_, cell)| *cell == Cell::Absent);
        absent.map(move |(field, _)| &*table.field(field).name)
    }
}
