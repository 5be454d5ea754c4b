//! Changes: which rows a commit inserted, updated or deleted, and their fields before and after.

use std::fmt;
use std::sync::{Arc, LazyLock, Mutex};

use smallvec::SmallVec;

use super::again::WrittenAgain;
use super::since::Since;
use super::touched::TouchedRows;
use crate::schema::{FieldNo, TableNo};
use crate::table::{Cell, Quads, RowAt, RowCells, Slot, State, TOGETHER};
use crate::value::{RowId, Value};

/// A row, and a bit for each of its first 64 fields that were written.
pub(crate) type WrittenRow = (RowAt, u64);

/// A set of fields of one table.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default)]
pub(crate) struct FieldSet(SmallVec<[u64; 1]>);

impl FieldSet {
    pub(crate) fn insert(&mut self, field: FieldNo) {
        let (word, bit) = (field.index() / 64, field.index() % 64);
        while self.0.len() <= word {
            self.0.push(0);
        }
        self.0[word] |= 1 << bit;
    }

    pub(crate) fn contains(&self, field: FieldNo) -> bool {
        self.0.get(field.index() / 64).is_some_and(|word| word >> (field.index() % 64) & 1 == 1)
    }

    pub(crate) fn meets(&self, other: &FieldSet) -> bool {
        self.0.iter().zip(&other.0).any(|(mine, theirs)| mine & theirs != 0)
    }

    pub(crate) fn add(&mut self, other: &FieldSet) {
        other.iter().for_each(|field| self.insert(field));
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.0.iter().all(|word| *word == 0)
    }

    /// A bit for each of the first 64 fields.
    pub(crate) fn first(&self) -> u64 {
        self.0.first().copied().unwrap_or(0)
    }

    /// The set of which [`Self::first`] says all.
    pub(crate) fn of_first(bits: u64) -> Self {
        Self(SmallVec::from_elem(bits, 1))
    }

    pub(crate) fn iter(&self) -> FieldsIn<'_> {
        FieldsIn { word: 0, number: 0, words: &self.0 }
    }
}

/// The fields of a set, in their order.
pub(crate) struct FieldsIn<'s> {
    /// What is left of a word.
    word: u64,
    /// How many fields stand in it and in front of it.
    number: u32,
    words: &'s [u64],
}

impl Iterator for FieldsIn<'_> {
    type Item = FieldNo;

    #[inline]
    fn next(&mut self) -> Option<FieldNo> {
        while self.word == 0 {
            let (first, rest) = self.words.split_first()?;
            (self.word, self.words) = (*first, rest);
            self.number += 64;
        }
        let bit = self.word.trailing_zeros();
        self.word &= self.word - 1;
        Some(FieldNo(self.number - 64 + bit))
    }
}

impl FromIterator<FieldNo> for FieldSet {
    fn from_iter<I: IntoIterator<Item = FieldNo>>(fields: I) -> Self {
        let mut set = Self::default();
        fields.into_iter().for_each(|field| set.insert(field));
        set
    }
}

/// What happened to a row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Happened {
    Inserted,
    Updated(FieldSet),
    Deleted,
}

/// One row that a commit changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct RowChange {
    pub(crate) table: TableNo,
    pub(crate) slot: Slot,
    pub(crate) happened: Happened,
}

/// All that a commit changed, ordered by table and slot, between two versions of the tables.
#[derive(Clone)]
pub(crate) struct Changes {
    pub(crate) before: Arc<State>,
    pub(crate) after: Arc<State>,
    pub(crate) rows: Arc<ChangedRows>,
}

/// The rows that a commit changed, ordered by table and slot; and, as it may be withdrawn, what it
/// wrote besides, and what became of all that since.
#[derive(Default)]
pub(crate) struct ChangedRows {
    /// Not copied into a slice of its own: there may be very many.
    rows: Vec<RowChange>,
    again: Option<Box<WrittenAgain>>,
    /// What it changed below pending changes, where that differs.
    base: Option<Changes>,
    /// Rows that got another id: the old one and the new one.
    renamed: Vec<(RowId, RowId)>,
    /// Rows that it deleted, whether or not they were there.
    gone: Vec<(TableNo, RowId)>,
    /// Rows that pending changes cover and that it wrote to, whether or not that changed them.
    below: Vec<(RowAt, FieldSet)>,
    pub(super) since: Mutex<Option<Box<Since>>>,
}

impl std::ops::Deref for ChangedRows {
    type Target = [RowChange];

    fn deref(&self) -> &[RowChange] {
        &self.rows
    }
}

impl ChangedRows {
    /// What was written to rows that pending changes cover, whether or not that changed them.
    pub(super) fn below(&self) -> &[(RowAt, FieldSet)] {
        &self.below
    }

    /// How many rows it keeps something of.
    pub(crate) fn weight(&self) -> usize {
        self.rows.len() + self.again().len()
    }

    /// What it wrote without changing it; mostly nothing.
    pub(super) fn again(&self) -> &WrittenAgain {
        static NOTHING: LazyLock<WrittenAgain> = LazyLock::new(WrittenAgain::default);
        self.again.as_deref().unwrap_or(&NOTHING)
    }
}

impl From<Vec<RowChange>> for ChangedRows {
    fn from(rows: Vec<RowChange>) -> Self {
        Self { rows, ..Self::default() }
    }
}

impl Changes {
    /// Compares two versions at the slots that were written to.
    pub(crate) fn between(
        before: Arc<State>,
        after: Arc<State>,
        touched: &TouchedRows,
        again: WrittenAgain,
    ) -> Self {
        let rows = changed_rows(&before, &after, touched);
        Self::of(rows, before, after, again)
    }

    /// Those of rows that are known to have changed between two versions.
    pub(super) fn of(
        rows: Vec<RowChange>,
        before: Arc<State>,
        after: Arc<State>,
        again: WrittenAgain,
    ) -> Self {
        let rows = ChangedRows { rows, again: again.finished(), ..ChangedRows::default() };
        Self { before, after, rows: Arc::new(rows) }
    }

    /// The same with what is noted of pending changes, if that was not written with them.
    pub(crate) fn noted(&self) -> Option<Self> {
        let noted = self.after.noted()?;
        let before = self.before.noted().map_or(&self.before, |before| &before.state);
        let mut touched = TouchedRows::default();
        let rows = self.rows.iter().map(|row| (row.table, row.slot));
        for (table, slot) in rows.chain(noted.rows.iter().copied()) {
            touched.insert(table, slot);
        }
        let after = noted.state.clone();
        Some(Self::between(before.clone(), after, &touched, WrittenAgain::default()))
    }

    /// The same changes, which were made over base values that changed otherwise.
    pub(super) fn over(mut self, base: Option<Changes>) -> Self {
        if let (Some(base), Some(rows)) = (base, Arc::get_mut(&mut self.rows)) {
            rows.base = Some(base);
        }
        self
    }

    /// The same changes, of which some are of a row that got another id.
    pub(super) fn with_renamed(mut self, renamed: Vec<(RowId, RowId)>) -> Self {
        if let (false, Some(rows)) = (renamed.is_empty(), Arc::get_mut(&mut self.rows)) {
            rows.renamed = renamed;
        }
        self
    }

    /// The same changes, with rows that were deleted, whether or not they were there.
    pub(super) fn with_gone(mut self, gone: Vec<(TableNo, RowId)>) -> Self {
        if let (false, Some(rows)) = (gone.is_empty(), Arc::get_mut(&mut self.rows)) {
            rows.gone = gone;
        }
        self
    }

    /// The same changes of base values, with what was written to rows that pending changes cover.
    pub(super) fn with_below(mut self, below: Vec<(RowAt, FieldSet)>) -> Self {
        if let (false, Some(rows)) = (below.is_empty(), Arc::get_mut(&mut self.rows)) {
            rows.below = below;
        }
        self
    }

    /// Whether nothing was written but pending changes.
    pub(crate) fn is_above_only(&self) -> bool {
        self.is_shown_only() && self.gone().is_empty() && self.of_base().rows.below.is_empty()
    }

    /// The rows that were deleted, whether or not they were there.
    pub(crate) fn gone(&self) -> &[(TableNo, RowId)] {
        &self.rows.gone
    }

    /// The rows that got another id: the old one and the new one.
    pub(crate) fn renamed(&self) -> &[(RowId, RowId)] {
        &self.rows.renamed
    }

    /// Whether pending changes alone were changed.
    pub(crate) fn is_shown_only(&self) -> bool {
        self.rows.base.as_ref().is_some_and(|base| base.rows.is_empty())
    }

    /// What was changed below pending changes; mostly there are none, and it is the same.
    pub(crate) fn of_base(&self) -> &Changes {
        self.rows.base.as_ref().unwrap_or(self)
    }

    /// None at all.
    pub(crate) fn none(state: Arc<State>) -> Self {
        static NONE: LazyLock<Arc<ChangedRows>> = LazyLock::new(Arc::default);
        Self { before: state.clone(), after: state, rows: NONE.clone() }
    }

    pub(crate) fn view(&self, index: usize) -> Option<Change<'_>> {
        let row = self.rows.get(index)?;
        Some(Change { before: &self.before, after: &self.after, row })
    }

    /// The changes of one table.
    pub(crate) fn of_table(&self, table: TableNo) -> std::ops::Range<usize> {
        let start = self.rows.partition_point(|row| row.table < table);
        start..self.rows.partition_point(|row| row.table <= table)
    }
}

/// The rows that were changed between two versions, of those that were written to, in the order of
/// tables and slots.
pub(super) fn changed_rows(before: &State, after: &State, touched: &TouchedRows) -> Vec<RowChange> {
    let mut rows = Vec::with_capacity(touched.len());
    for (table, touched) in touched.tables() {
        let (mut old, mut new) = (before.table(table).reader(), after.table(table).reader());
        let mut slots = touched.slots().peekable();
        let mut some: SmallVec<[(Slot, RowVersions<'_>); TOGETHER]> = SmallVec::new();
        let mut quads: SmallVec<[Option<Quads>; TOGETHER]> = SmallVec::new();
        while slots.peek().is_some() {
            for slot in slots.by_ref().take(TOGETHER) {
                some.push((slot, RowVersions(old.find(slot), new.find(slot))));
            }
            some.iter().for_each(|(_, row)| quads.push(row.quads()));
            for ((slot, row), quads) in some.iter().zip(&quads) {
                if let Some(happened) = row.happened(*quads) {
                    rows.push(RowChange { table, slot: *slot, happened });
                }
            }
            some.clear();
            quads.clear();
        }
    }
    rows
}

/// What happened to the row of a slot between two versions; `None` if nothing did.
pub(crate) fn compare(
    before: &State,
    after: &State,
    table: TableNo,
    slot: Slot,
) -> Option<Happened> {
    let row = RowVersions(before.table(table).row(slot), after.table(table).row(slot));
    row.happened(row.quads())
}

/// A row before and after.
struct RowVersions<'a>(Option<RowCells<'a>>, Option<RowCells<'a>>);

impl RowVersions<'_> {
    /// Where both differ in memory, if there are both.
    fn quads(&self) -> Option<Quads> {
        Some(self.0.as_ref()?.quads(self.1.as_ref()?))
    }

    /// What happened to the row, if anything did.
    fn happened(&self, quads: Option<Quads>) -> Option<Happened> {
        match (&self.0, &self.1) {
            (None, None) => None,
            (None, Some(_)) => Some(Happened::Inserted),
            (Some(_), None) => Some(Happened::Deleted),
            (Some(old), Some(new)) => {
                let mut changed = FieldSet::default();
                old.each_differing(new, quads?, |field| changed.insert(field));
                (!changed.is_empty()).then_some(Happened::Updated(changed))
            }
        }
    }
}

/// What kind of change a row went through.
///
/// ```
/// # use backwater::{Cache, Schema, report::ChangeKind};
/// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
/// let report = cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
/// assert_eq!(report.changes().next().unwrap().kind(), ChangeKind::Inserted);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChangeKind {
    /// The row was not there before.
    Inserted,
    /// Some of its fields have another value.
    Updated,
    /// The row is not there any more.
    Deleted,
}

/// One row that a commit changed, with its fields before and after.
///
/// ```
/// # use backwater::{Cache, Schema, Value};
/// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }")?);
/// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL"), ("name", "Saltmere")]))?;
/// let report = cache.commit("a port renamed", |tx| tx.update("port", "SAL", [("name", "Saltmere Quay")]))?;
///
/// let change = report.changes().next().unwrap();
/// assert_eq!((change.table(), change.id().unwrap().to_string()), ("port", "SAL".to_owned()));
/// let name = &change.fields()[0];
/// assert_eq!((name.name.as_str(), &name.before), ("name", &Some(Value::from("Saltmere"))));
/// assert_eq!(change.subject(), "port SAL");
/// assert_eq!(change.to_string(), "port SAL: name Saltmere -> Saltmere Quay");
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Clone, Copy)]
pub struct Change<'r> {
    before: &'r State,
    after: &'r State,
    pub(crate) row: &'r RowChange,
}

/// A field of a changed row: `None` is absent.
///
/// See [`Change`] for an example.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct FieldChange {
    /// The field's name.
    pub name: String,
    /// What it was; `None` if it was absent or the row was not there.
    pub before: Option<Value>,
    /// What it is; `None` if it is absent or the row is not there.
    pub after: Option<Value>,
}

impl<'r> Change<'r> {
    /// The table's name.
    ///
    /// See [`Change`] for an example.
    pub fn table(&self) -> &'r str {
        &self.after.schema.table(self.row.table).name
    }

    /// The row's id; a one-row table's row has none.
    ///
    /// See [`Change`] for an example.
    pub fn id(&self) -> Option<RowId> {
        let state = if self.kind() == ChangeKind::Deleted { self.before } else { self.after };
        state.id(self.row.table, self.row.slot).map(|id| id.to_id())
    }

    /// What happened to the row.
    ///
    /// See [`Change`] for an example.
    pub fn kind(&self) -> ChangeKind {
        match self.row.happened {
            Happened::Inserted => ChangeKind::Inserted,
            Happened::Updated(_) => ChangeKind::Updated,
            Happened::Deleted => ChangeKind::Deleted,
        }
    }

    /// The fields that changed: of an update, those with another value; of an insert or a delete,
    /// those that have or had one.
    ///
    /// See [`Change`] for an example.
    pub fn fields(&self) -> Vec<FieldChange> {
        let definition = self.after.schema.table(self.row.table);
        let changed = definition.field_numbers().filter(|field| match &self.row.happened {
            Happened::Updated(fields) => fields.contains(*field),
            Happened::Inserted => {
                self.after.table(self.row.table).cell(self.row.slot, *field) != Cell::Absent
            }
            Happened::Deleted => {
                self.before.table(self.row.table).cell(self.row.slot, *field) != Cell::Absent
            }
        });
        changed
            .map(|field| FieldChange {
                name: definition.field(field).name.to_string(),
                before: match self.row.happened {
                    Happened::Inserted => None,
                    _ => self.before.value(self.row.table, self.row.slot, field),
                },
                after: match self.row.happened {
                    Happened::Deleted => None,
                    _ => self.after.value(self.row.table, self.row.slot, field),
                },
            })
            .collect()
    }

    pub(crate) fn field_name(&self, field: FieldNo) -> &'r str {
        &self.after.schema.table(self.row.table).field(field).name
    }

    /// The row in a few words: `sailing 311`, or `board` for a one-row table.
    ///
    /// See [`Change`] for an example.
    pub fn subject(&self) -> String {
        match self.id() {
            Some(id) => format!("{} {id}", self.table()),
            None => self.table().to_owned(),
        }
    }
}

/// The change in a line.
impl fmt::Display for Change<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.subject())?;
        match self.kind() {
            ChangeKind::Inserted => f.write_str(" inserted"),
            ChangeKind::Deleted => f.write_str(" deleted"),
            ChangeKind::Updated => {
                let shown = |value: &Option<Value>| {
                    value.as_ref().map_or("absent".to_owned(), Value::to_string)
                };
                self.fields().iter().enumerate().try_for_each(|(number, field)| {
                    let mark = if number == 0 { ":" } else { "," };
                    write!(
                        f,
                        "{mark} {} {} -> {}",
                        field.name,
                        shown(&field.before),
                        shown(&field.after)
                    )
                })
            }
        }
    }
}

impl fmt::Debug for Change<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Change({self})")
    }
}
