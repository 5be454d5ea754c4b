//! The storage form of a row: one value a field, in the types that SQLite has, and a hash of it.

use std::borrow::Cow;
use std::hash::Hasher;

use siphasher::sip128::SipHasher13;

use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldKind, FieldNo, IdType, Schema, TableNo};
use crate::sorting;
use crate::table::{Cell, Slot, State, Times};
use crate::table::{Staged, checked_text};
use crate::value::{IdRef, Json, RowId};

/// A field's value in the storage form: booleans are 0 or 1, times are texts in UTC with six
/// decimals, links are the ids that they point at. Absent is null here; which fields of a row are
/// absent is stored beside it.
///
/// ```
/// use backwater::storage::Stored;
///
/// assert_eq!(Stored::Int(1), Stored::from(1));
/// ```
#[derive(Debug, Clone, PartialEq)]
pub enum Stored<'a> {
    /// Null, or absent.
    Null,
    /// A whole number.
    Int(i64),
    /// A binary64 number.
    Real(f64),
    /// A text.
    Text(Cow<'a, str>),
}

impl Stored<'_> {
    /// The same, owned.
    ///
    /// ```
    /// use backwater::storage::Stored;
    ///
    /// let text = String::from("SAL");
    /// let owned: Stored<'static> = Stored::Text(text.as_str().into()).into_owned();
    /// assert_eq!(owned, Stored::Text("SAL".into()));
    /// ```
    pub fn into_owned(self) -> Stored<'static> {
        match self {
            Stored::Null => Stored::Null,
            Stored::Int(number) => Stored::Int(number),
            Stored::Real(number) => Stored::Real(number),
            Stored::Text(text) => Stored::Text(text.into_owned().into()),
        }
    }
}

impl From<i64> for Stored<'_> {
    fn from(number: i64) -> Self {
        Stored::Int(number)
    }
}

impl<'a> From<IdRef<'a>> for Stored<'a> {
    fn from(id: IdRef<'a>) -> Self {
        match id {
            IdRef::Int(number) => Stored::Int(number),
            IdRef::Text(text) => Stored::Text(text.into()),
            parts => Stored::Text(parts.to_id().to_json().as_str().to_owned().into()),
        }
    }
}

/// The sum of the hashes of a table's rows, by which damage and edits by other programs are
/// noticed.
///
/// The order of the rows does not matter, and a changed row costs one subtraction and one
/// addition.
///
/// ```
/// assert_eq!(backwater::storage::Hash::default().to_string(), "00000000000000000000000000000000");
/// ```
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Hash(u128);

impl Hash {
    /// The hash as 16 bytes, the highest first.
    ///
    /// ```
    /// assert_eq!(backwater::storage::Hash::default().to_bytes(), [0; 16]);
    /// ```
    pub fn to_bytes(self) -> [u8; 16] {
        self.0.to_be_bytes()
    }

    /// The hash of 16 bytes.
    ///
    /// ```
    /// assert_eq!(backwater::storage::Hash::from_bytes([0; 16]), backwater::storage::Hash::default());
    /// ```
    pub fn from_bytes(bytes: [u8; 16]) -> Self {
        Self(u128::from_be_bytes(bytes))
    }

    /// The hash of a few texts and numbers of any kind, one behind the other.
    #[cfg(any(feature = "sqlite", feature = "json-lines"))]
    pub(crate) fn of(parts: &[&[u8]]) -> Self {
        let mut bytes = Vec::new();
        for part in parts {
            bytes.extend_from_slice(&(part.len() as u64).to_le_bytes());
            bytes.extend_from_slice(part);
        }
        Self(hasher().hash(&bytes).as_u128())
    }

    pub(crate) fn add(&mut self, row: Hash) {
        self.0 = self.0.wrapping_add(row.0);
    }

    pub(crate) fn subtract(&mut self, row: Hash) {
        self.0 = self.0.wrapping_sub(row.0);
    }
}

impl std::fmt::Display for Hash {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{:032x}", self.0)
    }
}

/// A table as a storage has it: one column for each field that persists.
///
/// See [`Loader`](crate::storage::Loader) for an example.
#[derive(Clone, Copy)]
pub struct StoredTable<'f> {
    pub(crate) schema: &'f Schema,
    pub(crate) form: &'f Form,
    pub(crate) number: TableNo,
}

impl<'f> StoredTable<'f> {
    pub(crate) fn new(schema: &'f Schema, form: &'f Form, number: TableNo) -> Self {
        Self { schema, form, number }
    }

    /// The table's name.
    ///
    /// See [`Loader`](crate::storage::Loader) for an example.
    pub fn name(&self) -> &'f str {
        &self.schema.table(self.number).name
    }

    /// The names of the fields that persist, in the schema's order. Behind them, where rows may
    /// expire or be limited, `backwater_received_at` and `backwater_read_at`: when the row was last
    /// received and read, in whole seconds since 1970.
    ///
    /// See [`Loader`](crate::storage::Loader) for an example.
    pub fn columns(&self) -> impl Iterator<Item = &'f str> + use<'f> {
        let (table, form) = (self.schema.table(self.number), self.form.table(self.number));
        let fields = form.fields.iter().map(move |field| &*table.field(*field).name);
        fields.chain(TIMES.into_iter().filter(|_| form.has_times))
    }

    /// The columns that are no fields.
    #[cfg(feature = "sqlite")]
    pub(super) fn times(&self) -> impl Iterator<Item = &'static str> + use<> {
        let has_times = self.form.table(self.number).has_times;
        TIMES.into_iter().filter(move |_| has_times)
    }

    /// The columns that identify a row; a one-row table has none.
    ///
    /// See [`Loader`](crate::storage::Loader) for an example.
    pub fn key(&self) -> impl Iterator<Item = &'f str> + use<'f> {
        let table = self.schema.table(self.number);
        table.id.iter().map(move |field| &*table.field(*field).name)
    }
}

impl std::fmt::Debug for StoredTable<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "StoredTable({})", self.name())
    }
}

/// The columns that say when a row was last received and read.
const TIMES: [&str; 2] = ["backwater_received_at", "backwater_read_at"];

/// Times in the storage form.
pub(super) fn stored_times(times: Times) -> [Stored<'static>; 2] {
    [times.received, times.read].map(|seconds| match seconds {
        0 => Stored::Null,
        seconds => Stored::Int(seconds.into()),
    })
}

/// Stored times as they are in memory, or what is wrong with them.
pub(super) fn times_of(stored: &[Stored<'_>]) -> Result<Times> {
    let seconds = |stored: &Stored<'_>| match stored {
        Stored::Null => Ok(0),
        Stored::Int(seconds) => Ok(u32::try_from(*seconds).unwrap_or(u32::MAX)),
        other => Err(Error::new(ErrorKind::Damaged, format!("found {other:?}, expected a time"))),
    };
    match stored {
        [received, read] => Ok(Times { received: seconds(received)?, read: seconds(read)? }),
        _ => Ok(Times::default()),
    }
}

/// Which fields a storage has of each table.
#[derive(Clone)]
pub(crate) struct Form {
    tables: Vec<TableForm>,
}

#[derive(Clone)]
pub(crate) struct TableForm {
    pub(crate) persists: bool,
    /// The fields that are stored, in the schema's order.
    pub(crate) fields: Vec<FieldNo>,
    /// Whether the times at which rows were received and read are stored behind these.
    pub(crate) has_times: bool,
    /// The same, ordered by name, each with the hash of its name: the order in which they are
    /// hashed, so that a row's hash survives fields that are added, removed or reordered.
    hashed: Vec<(u64, FieldNo)>,
    /// For each of these its place among the stored ones.
    places: Vec<usize>,
}

impl TableForm {
    /// The hash of a row of these values, of which some are absent.
    pub(super) fn hash_of(&self, values: &[Stored<'_>], is_absent: &[bool]) -> Hash {
        let mut bytes = Vec::with_capacity(ROOM);
        self.hash_raw(&mut bytes, |place| Raw::from(&values[place]), |place| is_absent[place])
    }

    /// The same of values that are given one by one, with a buffer that is used again.
    pub(super) fn hash_raw<'v>(
        &self,
        bytes: &mut Vec<u8>,
        value: impl Fn(usize) -> Raw<'v>,
        is_absent: impl Fn(usize) -> bool,
    ) -> Hash {
        bytes.clear();
        for ((name, _), place) in self.hashed.iter().zip(&self.places) {
            if !is_absent(*place) {
                lay_out(bytes, *name, value(*place));
            }
        }
        (self.fields.len()..self.columns()).for_each(|time| lay_out_time(bytes, value(time)));
        Hash(hasher().hash(bytes).as_u128())
    }

    /// How many columns there are.
    pub(super) fn columns(&self) -> usize {
        self.fields.len() + if self.has_times { TIMES.len() } else { 0 }
    }
}

/// A stored value as it is hashed.
#[derive(Clone, Copy)]
pub(super) enum Raw<'v> {
    Null,
    Int(i64),
    Real(f64),
    Text(&'v [u8]),
}

impl<'v> From<&'v Stored<'_>> for Raw<'v> {
    fn from(stored: &'v Stored<'_>) -> Self {
        match stored {
            Stored::Null => Raw::Null,
            Stored::Int(number) => Raw::Int(*number),
            Stored::Real(number) => Raw::Real(*number),
            Stored::Text(text) => Raw::Text(text.as_bytes()),
        }
    }
}

impl Raw<'_> {
    /// The tag of its type, and 64 bits of it: of a text its length.
    fn tagged(self) -> (u8, u64) {
        match self {
            Raw::Null => (0, 0),
            Raw::Int(number) => (1, number as u64),
            Raw::Real(number) => (2, number.to_bits()),
            Raw::Text(text) => (3, text.len() as u64),
        }
    }
}

/// What of a row is hashed is laid out in one piece of mostly not more than this: hashed piece by
/// piece it would take three times as long.
const ROOM: usize = 512;

/// Lays out a field: its name's hash and its value.
#[inline]
fn lay_out(bytes: &mut Vec<u8>, name: u64, value: Raw<'_>) {
    let (tag, number) = value.tagged();
    let mut head = [0; 17];
    head[..8].copy_from_slice(&name.to_le_bytes());
    head[8] = tag;
    head[9..].copy_from_slice(&number.to_le_bytes());
    bytes.extend_from_slice(&head);
    match value {
        // There is nothing more to say of it than the tag.
        Raw::Null => bytes.truncate(bytes.len() - 8),
        Raw::Text(text) => bytes.extend_from_slice(text),
        _ => {}
    }
}

/// Lays out a time, which has its place behind the fields.
fn lay_out_time(bytes: &mut Vec<u8>, value: Raw<'_>) {
    let (tag, number) = value.tagged();
    bytes.push(tag);
    if tag != 0 {
        bytes.extend_from_slice(&number.to_le_bytes());
    }
}

impl Form {
    /// What persists.
    pub(crate) fn of(schema: &Schema) -> Self {
        Self::with(schema, |persists| persists, |table| schema.keeps_times(table))
    }

    /// Everything, as queries see it.
    #[cfg(all(test, feature = "sqlite", feature = "unicode"))]
    pub(crate) fn whole(schema: &Schema) -> Self {
        Self::with(schema, |_| true, |_| false)
    }

    fn with(
        schema: &Schema,
        keep: impl Fn(bool) -> bool,
        has_times: impl Fn(TableNo) -> bool,
    ) -> Self {
        let tables = schema.table_numbers().map(|number| {
            let (table, has_times) = (schema.table(number), has_times(number));
            let fields: Vec<FieldNo> =
                table.field_numbers().filter(|field| keep(table.field(*field).persist)).collect();
            let name = |field: &FieldNo| &*table.field(*field).name;
            let mut hashed: Vec<_> =
                fields.iter().map(|field| (hash_name(name(field)), *field)).collect();
            sorting::few(&mut hashed, |(_, a), (_, b)| name(a) < name(b));
            let place = |field: &FieldNo| fields.iter().position(|other| other == field);
            let places = hashed.iter().filter_map(|(_, field)| place(field)).collect();
            TableForm { persists: keep(table.persist), fields, has_times, hashed, places }
        });
        Self { tables: tables.collect() }
    }

    /// The tables that persist.
    pub(crate) fn tables<'f>(
        &'f self,
        schema: &'f Schema,
    ) -> impl Iterator<Item = StoredTable<'f>> {
        let persists = schema.table_numbers().filter(|number| self.table(*number).persists);
        persists.map(|number| StoredTable::new(schema, self, number))
    }

    pub(crate) fn table(&self, table: TableNo) -> &TableForm {
        &self.tables[table.index()]
    }

    /// A row's hash, with these times if the table has them. Absent fields are left out of it.
    pub(crate) fn hash(&self, state: &State, table: TableNo, slot: Slot, times: Times) -> Hash {
        let mut bytes = Vec::with_capacity(ROOM);
        let row = state.table(table).row(slot);
        for (name, field) in &self.table(table).hashed {
            let cell = row.map_or(Cell::Absent, |row| row.cell(*field));
            if cell == Cell::Absent {
                continue;
            }
            lay_out(&mut bytes, *name, Raw::from(&stored(state, table, *field, cell)));
        }
        if self.table(table).has_times {
            stored_times(times).iter().for_each(|time| lay_out_time(&mut bytes, time.into()));
        }
        Hash(hasher().hash(&bytes).as_u128())
    }
}

/// The key is fixed, since the hashes are kept in files; it guards against accidents only.
fn hasher() -> SipHasher13 {
    SipHasher13::new_with_keys(0x6261_636b_7761_7465, 0x7220_726f_7773_2e31)
}

fn hash_name(name: &str) -> u64 {
    let mut hasher = hasher();
    hasher.write(name.as_bytes());
    hasher.finish()
}

/// A cell in the storage form.
pub(crate) fn stored<'a>(
    state: &'a State,
    table: TableNo,
    field: FieldNo,
    cell: Cell<'a>,
) -> Stored<'a> {
    match cell {
        Cell::Absent | Cell::Null => Stored::Null,
        Cell::Int(number) => Stored::Int(number),
        Cell::Float(number) => Stored::Real(number),
        Cell::Bool(flag) => Stored::Int(flag.into()),
        Cell::Text(text) | Cell::Json(text) => Stored::Text(text.into()),
        Cell::Timestamp(time) => Stored::Text(time.to_string().into()),
        link => {
            let target = state.target(table, field, link);
            match target.and_then(|(to, slot)| state.id(to, slot)) {
                Some(IdRef::Int(number)) if state.is_text(table, field) => {
                    Stored::Text(number.to_string().into())
                }
                id => id.map_or(Stored::Null, Stored::from),
            }
        }
    }
}

/// The id of a row, from the stored values of its fields.
pub(crate) fn id_of<'v>(
    schema: &Schema,
    table: TableNo,
    value_of: impl Fn(&FieldNo) -> Option<&'v Stored<'v>>,
) -> Option<RowId> {
    let definition = schema.table(table);
    let parts = definition
        .id
        .iter()
        .map(|field| id_part(schema, definition.field(*field).kind, value_of(field)?));
    let parts: Vec<RowId> = parts.collect::<Option<_>>()?;
    Some(match <[RowId; 1]>::try_from(parts) {
        Ok([only]) => only,
        Err(parts) => RowId::Parts(parts.into()),
    })
}

/// The id, or the part of one, that a stored value is in a field of a kind.
pub(crate) fn id_part(schema: &Schema, kind: FieldKind, value: &Stored<'_>) -> Option<RowId> {
    let id_type = match kind {
        FieldKind::Int => IdType::Int,
        FieldKind::Link(to) => schema.table(to).id_type(),
        _ => IdType::Text,
    };
    match (id_type, value) {
        (IdType::Int, Stored::Int(number)) => Some(RowId::Int(*number)),
        // Where ids of several types meet, all of them are texts.
        (IdType::Int, Stored::Text(digits)) => digits.parse().ok().map(RowId::Int),
        (IdType::Text, Stored::Text(text)) => Some(RowId::from(&**text)),
        (IdType::Parts, Stored::Text(text)) => RowId::from_json(&Json::parse(text).ok()?).ok(),
        _ => None,
    }
}

/// A stored value as a field's, or what is wrong with it. Links are left to the caller, which has
/// the slots.
pub(crate) fn staged<'a>(kind: FieldKind, value: &'a Stored<'_>) -> Result<Staged<'a>> {
    let wrong = |expected: &str| {
        Err(Error::new(ErrorKind::Damaged, format!("found {value:?}, expected {expected}")))
    };
    Ok(match (kind, value) {
        (_, Stored::Null) => Staged::Null,
        (FieldKind::Int | FieldKind::Links(_), Stored::Int(number)) => Staged::Int(*number),
        (FieldKind::Float, Stored::Real(number)) if number.is_finite() => Staged::Float(*number),
        (FieldKind::Float, Stored::Int(number)) => Staged::Float(*number as f64),
        (FieldKind::Bool, Stored::Int(number @ (0 | 1))) => Staged::Bool(*number == 1),
        (FieldKind::Text, Stored::Text(text)) => Staged::Text(checked_text(text)?.into()),
        (FieldKind::Json, Stored::Text(text)) => Staged::Json(checked_text(text)?.into()),
        (FieldKind::Timestamp, Stored::Text(text)) => match text.parse() {
            Ok(time) => Staged::Timestamp(time),
            Err(_) => return wrong("a time"),
        },
        (kind, _) => return wrong(&format!("{kind:?}").to_lowercase()),
    })
}
