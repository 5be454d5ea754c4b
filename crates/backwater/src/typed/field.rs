//! How Rust types lie in fields.

use std::cell::RefCell;
use std::sync::Arc;

use super::read::{places, read_at};
use super::{FieldProblem, Found, Id, Key, Kind, Link, Links, OneOf, ReadTable, Shape, Table};
use crate::schema::{FieldKind as Held, FieldNo, TableNo, TableOrigin};
use crate::table::{Cell, OWNER, RowCells, Slot, State, TARGET};
use crate::value::{Json, RowId, Timestamp, Value};

/// A type that a field of a table and a column of a result can have in a struct. With
/// `From<…> for Value` it can be given for a parameter, too.
///
/// A type of one's own is read and written through one that is there:
///
/// ```
/// use backwater::{Cache, Schema, Table, typed::{FieldCell, FieldType, Kind, FieldProblem, Written}};
///
/// #[derive(Debug, Clone, Copy, PartialEq)]
/// struct Minutes(i64);
///
/// impl<'s> FieldType<'s> for Minutes {
///     const KIND: Kind = Kind::Int;
///
///     fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
///         i64::read(cell).map(Minutes)
///     }
///
///     fn write(&self) -> Written {
///         self.0.write()
///     }
/// }
///
/// #[derive(Table)]
/// struct Sailing {
///     #[table(id)]
///     id: i64,
///     delay: Minutes,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Sailing>().build()?);
/// cache.commit("announced", |tx| tx.table::<Sailing>()?.insert(&Sailing { id: 311, delay: Minutes(5) }))?;
/// assert_eq!(cache.snapshot().table::<Sailing>()?.get(311).here().unwrap().delay, Minutes(5));
/// # Ok::<(), backwater::Error>(())
/// ```
#[diagnostic::on_unimplemented(
    message = "a field of a table cannot be of type `{Self}`",
    note = "it can be a number, a bool, a text, a Timestamp, Json, an enum that derives Values or OneOf, a Link, Links, or an Option of these"
)]
pub trait FieldType<'s>: Sized {
    /// What such a field holds.
    const KIND: Kind;

    /// What is known of the structs of the rows that it nests; nothing, if it nests none.
    const NESTED: Option<fn() -> Vec<&'static Shape>> = None;

    /// Reads what a field holds.
    ///
    /// # Errors
    /// Why it cannot be read.
    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem>;

    /// What to write into a field.
    fn write(&self) -> Written;

    /// What stands for a field that is lacking, if something can.
    fn without() -> Option<Self> {
        None
    }
}

/// What a field of one row holds, or a column of a result; see [`FieldType`].
#[derive(Clone, Copy)]
pub struct FieldCell<'s>(pub(super) CellOf<'s>);

/// Where it stands.
#[derive(Clone, Copy)]
pub(super) enum CellOf<'s> {
    Table(TableCell<'s>),
    Result(&'s Value),
}

/// A field of a row of a table.
#[derive(Clone, Copy)]
pub(super) struct TableCell<'s> {
    pub(super) state: &'s State,
    pub(super) at: (TableNo, Slot, FieldNo),
    pub(super) row: RowCells<'s>,
}

/// What a type writes into a field; see [`FieldType`].
#[derive(Debug, Clone, PartialEq)]
pub enum Written {
    /// A value.
    Value(Value),
    /// The rows that a to-many link points at.
    Links(Vec<RowId>),
    /// The row of that table that a link to one of several points at.
    LinkTo(&'static str, RowId),
    /// The rows that a to-many link to several tables points at, with the table of each.
    LinksTo(Vec<(&'static str, RowId)>),
    /// Nothing: the field stays as it is.
    Nothing,
}

impl<'s> FieldCell<'s> {
    /// A column of a result.
    pub(super) fn of_value(value: &'s Value) -> Self {
        Self(CellOf::Result(value))
    }

    #[inline]
    fn cell(self) -> Cell<'s> {
        match self.0 {
            CellOf::Table(cell) => cell.cell(),
            CellOf::Result(value) => match value {
                Value::Null => Cell::Null,
                Value::Bool(flag) => Cell::Bool(*flag),
                Value::Int(number) => Cell::Int(*number),
                Value::Float(number) => Cell::Float(*number),
                Value::Text(text) => Cell::Text(text),
                Value::Timestamp(time) => Cell::Timestamp(*time),
                Value::Json(json) => Cell::Json(json.as_str()),
            },
        }
    }

    #[cold]
    fn problem(self) -> FieldProblem {
        problem_of(self.cell())
    }

    /// As a field of a table's row, which it must be for what is nested or a list.
    pub(super) fn in_table(self) -> Result<TableCell<'s>, FieldProblem> {
        match self.0 {
            CellOf::Table(cell) => Ok(cell),
            CellOf::Result(_) => Err(self.problem()),
        }
    }

    /// The id of the row that a link points at.
    fn id<T: Table>(self) -> Result<RowId, FieldProblem> {
        match self.0 {
            CellOf::Table(cell) => cell.id(),
            CellOf::Result(value) => match value {
                Value::Int(number) => Ok(RowId::Int(*number)),
                // The id of several parts, as SQL has it.
                Value::Text(text) if T::SHAPE.id.len() > 1 => {
                    let json = Json::parse(text).map_err(|_| FieldProblem::Unfit)?;
                    RowId::from_json(&json).map_err(|_| FieldProblem::Unfit)
                }
                Value::Text(text) => Ok(RowId::Text(text.clone())),
                Value::Json(json) => RowId::from_json(json).map_err(|_| FieldProblem::Unfit),
                _ => Err(self.problem()),
            },
        }
    }
}

impl<'s> TableCell<'s> {
    #[inline]
    fn cell(self) -> Cell<'s> {
        self.row.cell(self.at.2)
    }

    #[cold]
    fn problem(self) -> FieldProblem {
        problem_of(self.cell())
    }

    /// Where a link points.
    pub(super) fn target(self) -> Result<(TableNo, Slot), FieldProblem> {
        let (table, _, field) = self.at;
        self.state.target(table, field, self.cell()).ok_or_else(|| self.problem())
    }

    /// The id of the row that a link points at.
    fn id(self) -> Result<RowId, FieldProblem> {
        let (to, slot) = self.target()?;
        self.state.id(to, slot).map(|id| id.to_id()).ok_or(FieldProblem::Unfit)
    }

    /// The ids of the rows that a to-many link points at.
    fn ids(self) -> Result<Vec<RowId>, FieldProblem> {
        let ids = self.targets()?.map(|(to, slot)| self.state.id(to, slot).map(|id| id.to_id()));
        ids.collect::<Option<_>>().ok_or(FieldProblem::Unfit)
    }

    /// The link table of a to-many link.
    fn entries(self) -> Result<TableNo, FieldProblem> {
        let (table, _, field) = self.at;
        match (self.cell(), self.state.schema.table(table).field(field).kind) {
            (Cell::Int(_), Held::Links(entries)) => Ok(entries),
            _ => Err(self.problem()),
        }
    }

    /// Where a to-many link points.
    fn targets(self) -> Result<impl Iterator<Item = (TableNo, Slot)>, FieldProblem> {
        Ok(self.state.targets(self.entries()?, self.at.1))
    }

    /// The to-one links that a to-many link is made of.
    fn each(self) -> Result<impl Iterator<Item = FieldCell<'s>>, FieldProblem> {
        let (state, entries, owner) = (self.state, self.entries()?, self.at.1);
        let slots = (0..).map_while(move |position| state.entry(entries, owner, position));
        Ok(slots.filter_map(move |slot| {
            let row = state.table(entries).row(slot)?;
            Some(FieldCell(CellOf::Table(TableCell { state, at: (entries, slot, TARGET), row })))
        }))
    }
}

/// Why a field that holds this is not read as what a struct has.
#[inline]
fn problem_of(cell: Cell<'_>) -> FieldProblem {
    match cell {
        Cell::Absent => FieldProblem::Absent,
        Cell::Null => FieldProblem::Null,
        _ => FieldProblem::Unfit,
    }
}

macro_rules! plain {
    ($($type:ty: $kind:ident { $($cell:pat => $read:expr),+ } |$value:ident| $written:expr;)*) => {$(
        impl<'s> FieldType<'s> for $type {
            const KIND: Kind = Kind::$kind;

            #[inline]
            fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
                match cell.cell() {
                    $($cell => $read,)+
                    _ => Err(cell.problem()),
                }
            }

            fn write(&self) -> Written {
                let $value = self;
                Written::Value($written.into())
            }
        }
    )*};
}

impl<'s> FieldType<'s> for i64 {
    const KIND: Kind = Kind::Int;

    #[inline(always)]
    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
        match cell.0 {
            CellOf::Table(TableCell { row, at, .. }) => {
                row.whole(at.2).ok_or_else(|| problem_of(row.cell_seldom(at.2)))
            }
            CellOf::Result(Value::Int(number)) => Ok(*number),
            CellOf::Result(Value::Bool(flag)) => Ok((*flag).into()),
            CellOf::Result(_) => Err(cell.problem()),
        }
    }

    fn write(&self) -> Written {
        Written::Value((*self).into())
    }
}

impl<'s> FieldType<'s> for &'s str {
    const KIND: Kind = Kind::Text;

    #[inline(always)]
    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
        match cell.0 {
            CellOf::Table(TableCell { row, at, .. }) => {
                row.text(at.2).ok_or_else(|| problem_of(row.cell_seldom(at.2)))
            }
            CellOf::Result(value) => value.as_str().ok_or_else(|| cell.problem()),
        }
    }

    fn write(&self) -> Written {
        Written::Value((*self).into())
    }
}

plain! {
    i32: Int { Cell::Int(number) => number.try_into().map_err(|_| FieldProblem::Unfit) } |number| *number;
    u32: Int { Cell::Int(number) => number.try_into().map_err(|_| FieldProblem::Unfit) } |number| *number;
    usize: Int { Cell::Int(number) => number.try_into().map_err(|_| FieldProblem::Unfit) } |number| i64::try_from(*number).map_or(Value::Float(*number as f64), Value::Int);
    f64: Float { Cell::Float(number) => Ok(number), Cell::Int(number) => Ok(number as f64) } |number| *number;
    // What SQL gives is a number.
    bool: Bool { Cell::Bool(flag) => Ok(flag), Cell::Int(number) => Ok(number != 0) } |flag| *flag;
    String: Text { Cell::Text(text) => Ok(text.to_owned()) } |text| text.as_str();
    Box<str>: Text { Cell::Text(text) => Ok(text.into()) } |text| &**text;
    Timestamp: Timestamp { Cell::Timestamp(time) => Ok(time), Cell::Text(text) => text.parse().map_err(|_| FieldProblem::Unfit) } |time| *time;
    Json: Json { Cell::Json(text) => Ok(Json::from_minified(text.to_owned())) } |json| json.clone();
}

impl<'s> FieldType<'s> for Arc<str> {
    const KIND: Kind = Kind::Text;

    #[inline]
    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
        let Cell::Text(text) = cell.cell() else { return Err(cell.problem()) };
        // A text that repeats is shared with the table, one of a result with that.
        let shared = match cell.0 {
            CellOf::Table(TableCell { state, at: (table, slot, field), .. }) => {
                state.shared_text(table, slot, field)
            }
            CellOf::Result(Value::Text(text)) => Some(text.clone()),
            CellOf::Result(_) => None,
        };
        Ok(shared.unwrap_or_else(|| text.into()))
    }

    fn write(&self) -> Written {
        Written::Value(self.clone().into())
    }
}

/// Any value, as a column of a result and to read a field; a table is not declared with it.
impl<'s> FieldType<'s> for Value {
    const KIND: Kind = Kind::Any;

    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
        match cell.0 {
            CellOf::Result(value) => Ok(value.clone()),
            CellOf::Table(TableCell { state, at: (table, slot, field), .. }) => {
                state.value(table, slot, field).ok_or(FieldProblem::Absent)
            }
        }
    }

    fn write(&self) -> Written {
        Written::Value(self.clone())
    }
}

/// Null is `None`. So is what is absent, but then the row counts as partly here, unless the field
/// is marked `#[table(default)]`.
impl<'s, T: FieldType<'s>> FieldType<'s> for Option<T> {
    const KIND: Kind = T::KIND;
    const NESTED: Option<fn() -> Vec<&'static Shape>> = T::NESTED;

    #[inline]
    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
        match cell.cell() {
            Cell::Null => Ok(None),
            _ => T::read(cell).map(Some),
        }
    }

    fn write(&self) -> Written {
        self.as_ref().map_or(Written::Value(Value::Null), T::write)
    }

    fn without() -> Option<Self> {
        Some(None)
    }
}

impl<'s, T: Table> FieldType<'s> for Link<T> {
    const KIND: Kind = Kind::Link(T::TABLE);

    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
        T::Key::from_row_id(&cell.id::<T>()?)
            .map(|key| Id::new(key).into())
            .ok_or(FieldProblem::Unfit)
    }

    fn write(&self) -> Written {
        Written::Value((**self).clone().into())
    }
}

/// The row that a to-one link points at.
impl<'s, T: ReadTable<'s>> FieldType<'s> for Found<T> {
    const KIND: Kind = Kind::Link(T::TABLE);
    const NESTED: Option<fn() -> Vec<&'static Shape>> = Some(|| vec![T::SHAPE]);

    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
        let cell = cell.in_table()?;
        let target = cell.target()?;
        inside_of(cell, |nest| nest(target))
    }

    fn write(&self) -> Written {
        Written::Nothing
    }
}

/// The rows that a to-many link points at, in its order.
impl<'s, T: ReadTable<'s>> FieldType<'s> for Vec<Found<T>> {
    const KIND: Kind = Kind::Links(T::TABLE);
    const NESTED: Option<fn() -> Vec<&'static Shape>> = Some(|| vec![T::SHAPE]);

    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
        let cell = cell.in_table()?;
        let targets = cell.targets()?;
        inside_of(cell, |nest| targets.map(nest).collect())
    }

    fn write(&self) -> Written {
        Written::Nothing
    }
}

/// The rows of several tables that a to-many link points at, in its order.
impl<'s, T: OneOf<'s>> FieldType<'s> for Vec<T> {
    const KIND: Kind = Kind::LinksToOneOf(T::TABLES);
    const NESTED: Option<fn() -> Vec<&'static Shape>> = T::NESTED;

    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
        cell.in_table()?.each()?.map(T::read).collect()
    }

    fn write(&self) -> Written {
        let targets: Option<Vec<_>> = self.iter().map(T::target).collect();
        targets.map_or(Written::Nothing, Written::LinksTo)
    }
}

/// The number that a part of an id writes; for `#[derive(Table)]`.
#[doc(hidden)]
pub fn number<'s>(part: &impl FieldType<'s>) -> i64 {
    match part.write() {
        Written::Value(Value::Int(number)) => number,
        _ => 0,
    }
}

/// The text that a part of an id writes; for `#[derive(Table)]`.
#[doc(hidden)]
pub fn text<'s>(part: &impl FieldType<'s>) -> Arc<str> {
    match part.write() {
        Written::Value(Value::Text(text)) => text,
        _ => Arc::default(),
    }
}

/// How deep rows may be nested.
pub(crate) const DEEPEST: usize = 64;

thread_local! {
    /// The rows around the one that is being read on this thread.
    static AROUND: RefCell<Vec<(TableNo, Slot)>> = const { RefCell::new(Vec::new()) };
}

/// Takes a row off [`AROUND`] again, also when reading panics.
struct Inside;

impl Drop for Inside {
    fn drop(&mut self) {
        AROUND.with_borrow_mut(|around| around.truncate(around.len().saturating_sub(1)));
    }
}

/// What `read` gives with a way to read rows that are nested in the cell's row.
fn inside_of<'s, T: ReadTable<'s>, R>(
    cell: TableCell<'s>,
    read: impl FnOnce(
        &mut dyn FnMut((TableNo, Slot)) -> Result<Found<T>, FieldProblem>,
    ) -> Result<R, FieldProblem>,
) -> Result<R, FieldProblem> {
    let places = places::<T>(&cell.state.schema).map_err(|_| FieldProblem::Unfit)?;
    let (table, slot, _) = cell.at;
    let row = match (cell.state.schema.table(table).made, cell.row.cell(OWNER)) {
        (TableOrigin::Entries { owner, .. }, Cell::Link(slot)) => (owner, slot),
        _ => (table, slot),
    };
    AROUND.with_borrow_mut(|around| around.push(row));
    let _inside = Inside;
    read(&mut |target| {
        let is_endless =
            AROUND.with_borrow(|around| around.len() > DEEPEST || around.contains(&target));
        if is_endless {
            Err(FieldProblem::Endless)
        } else {
            Ok(read_at(cell.state, &places, target.1))
        }
    })
}

impl<'s, T: Table> FieldType<'s> for Links<T> {
    const KIND: Kind = Kind::Links(T::TABLE);

    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
        let ids =
            cell.in_table()?.ids()?.into_iter().map(|id| Some(Id::new(T::Key::from_row_id(&id)?)));
        ids.collect::<Option<_>>().ok_or(FieldProblem::Unfit)
    }

    fn write(&self) -> Written {
        Written::Links(self.iter().map(RowId::from).collect())
    }
}

/// The row's own id: a number or a text.
impl<'s, T: Table> FieldType<'s> for Id<T> {
    const KIND: Kind = Kind::Link(T::TABLE);

    #[inline]
    fn read(cell: FieldCell<'s>) -> Result<Self, FieldProblem> {
        let id = match (cell.0, cell.cell()) {
            (CellOf::Table(_), Cell::Int(number)) => RowId::Int(number),
            (CellOf::Table(_), Cell::Text(text)) => RowId::Text(text.into()),
            _ => cell.id::<T>()?,
        };
        T::Key::from_row_id(&id).map(Id::new).ok_or(FieldProblem::Unfit)
    }

    fn write(&self) -> Written {
        Written::Value(self.into())
    }
}

/// An enum whose variants are texts; `#[derive(Values)]` makes it one.
///
/// A variant is called as it is in snake_case, or as `#[values("…")]` says. With `#[values(other)]`
/// on a last variant that holds a `String`, all other texts are that one; without, the field takes
/// these texts only.
///
/// An enum whose variants all have a number, `#[values(1)]`, is a set of numbers instead; its last
/// variant may be `#[values(other)] Other(i64)`.
///
/// ```
/// use backwater::typed::Text;
///
/// #[derive(Debug, PartialEq, backwater::Values)]
/// enum Status {
///     #[values("on time")]
///     OnTime,
///     Cancelled,
///     #[values(other)]
///     Other(String),
/// }
///
/// assert_eq!(Status::OnTime.text(), "on time");
/// assert_eq!(Status::of_text("cancelled"), Some(Status::Cancelled));
/// assert_eq!(Status::of_text("adrift"), Some(Status::Other("adrift".into())));
/// ```
pub trait Text: Sized {
    /// The texts of the variants, if these are all; else none.
    const TEXTS: &'static [&'static str];

    /// The text of a variant.
    fn text(&self) -> &str;

    /// The variant of a text.
    fn of_text(text: &str) -> Option<Self>;

    /// What a field of it holds.
    #[doc(hidden)]
    const KIND: Kind = if Self::TEXTS.is_empty() { Kind::Text } else { Kind::OneOf(Self::TEXTS) };

    #[doc(hidden)]
    fn read_text(cell: FieldCell<'_>) -> Result<Self, FieldProblem> {
        match cell.cell() {
            Cell::Text(text) => Self::of_text(text).ok_or(FieldProblem::Unfit),
            _ => Err(cell.problem()),
        }
    }
}
