//! Reading structs from a table.

use std::marker::PhantomData;
use std::sync::Arc;

use super::shape::{Cells, Field, Fields, OneRowTable, ReadTable, Shape, Table};
use super::{Found, Id, IntoId, Key, Kind, Link, OneOf, Partly};
use crate::error::{Error, ErrorKind, Result, nearest};
use crate::schema::{self, FieldPlaces, IdType, Schema, TableNo};
use crate::table::{ONLY, RowCells, Slot, Snapshot, State, field_no};
use crate::value::{RowId, Value};

/// The rows of a table as structs, of one version of the tables.
///
/// ```
/// use backwater::{Cache, Link, Schema, Table};
///
/// #[derive(Table)]
/// struct Vessel {
///     #[table(id)]
///     name: String,
/// }
///
/// #[derive(Table)]
/// struct Sailing {
///     #[table(id)]
///     id: i64,
///     vessel: Link<Vessel>,
///     cars_booked: i64,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Vessel>().table::<Sailing>().build()?);
/// cache.commit("announced", |tx| {
///     let mut sailings = tx.table::<Sailing>()?;
///     sailings.insert(&Sailing { id: 311, vessel: Link::to("Marram"), cars_booked: 12 })?;
///     sailings.insert(&Sailing { id: 312, vessel: Link::to("Lantern"), cars_booked: 3 })
/// })?;
/// let snapshot = cache.snapshot();
/// let sailings = snapshot.table::<Sailing>()?;
/// assert_eq!(sailings.len(), 2);
/// assert_eq!(sailings.get(312).here().unwrap().cars_booked, 3);
/// assert_eq!(sailings.here().map(|sailing| sailing.cars_booked).sum::<i64>(), 15);
/// let on_marram: Vec<i64> =
///     sailings.pointing_at(Sailing::VESSEL, "Marram").filter_map(|found| found.here()).map(|s| s.id).collect();
/// assert_eq!(on_marram, [311]);
/// # let _ = Vessel { name: String::new() }.name;
/// # let _ = Sailing { id: 1, vessel: Link::to("m"), cars_booked: 1 }.vessel;
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct TableRows<'s, T> {
    state: &'s State,
    places: Arc<FieldPlaces>,
    of: PhantomData<fn() -> T>,
}

impl Snapshot {
    /// The rows of a struct's table, or of the fields that a struct has of it.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if the schema has no such table or field, [`ErrorKind::Type`] if
    /// it has one of another type.
    ///
    /// See [`TableRows`] for an example.
    pub fn table<'s, T: ReadTable<'s>>(&'s self) -> Result<TableRows<'s, T>> {
        TableRows::of(&self.state)
    }
}

impl<'s, T: ReadTable<'s>> TableRows<'s, T> {
    pub(crate) fn of(state: &'s State) -> Result<Self> {
        let places = places::<T>(&state.schema)?;
        state.need_ready(places.table)?;
        Ok(Self::at(state, places))
    }

    /// Those of a table whose fields and rows are known to be there.
    pub(super) fn at(state: &'s State, places: Arc<FieldPlaces>) -> Self {
        Self { state, places, of: PhantomData }
    }

    pub(crate) fn places(&self) -> &Arc<FieldPlaces> {
        &self.places
    }

    /// How many rows there are.
    ///
    /// See [`TableRows`] for an example.
    pub fn len(&self) -> usize {
        self.table().rows() as usize
    }

    /// Whether there are none.
    ///
    /// See [`TableRows`] for an example.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The row with that id.
    ///
    /// See [`Found`] for an example.
    pub fn get(&self, id: impl IntoId<T::Of>) -> Found<T> {
        match self.slot(&id.into_id()) {
            Some(slot) => read_at(self.state, &self.places, slot),
            None => Found::Missing,
        }
    }

    /// All rows, in no particular order.
    ///
    /// See [`TableRows`] for an example.
    pub fn iter(&self) -> impl Iterator<Item = Found<T>> + use<'s, T> {
        let (state, places) = (self.state, self.places.clone());
        let rows = state.table(places.table).rows_with_cells();
        rows.map(move |(slot, cells)| read(state, &places, slot, cells))
    }

    /// All rows that have all fields of the struct, in no particular order.
    ///
    /// See [`TableRows`] for an example.
    pub fn here(&self) -> impl Iterator<Item = T> + use<'s, T> {
        let (state, places) = (self.state, self.places.clone());
        let rows = state.table(places.table).rows_with_cells();
        rows.filter_map(move |(slot, row)| {
            let mut cells = cells(state, &places, slot, row);
            T::read(&mut cells).filter(|_| cells.problems.is_none())
        })
    }

    /// The rows whose link points at a row, in no particular order: the way back along a link. It
    /// goes through all rows of the table, unless the link has an `on_delete` or a standing query
    /// joins by it.
    ///
    /// See [`TableRows`] for an example.
    pub fn pointing_at<L: PointsAt<To>, To>(
        &self,
        link: Field<T::Of, L>,
        to: To,
    ) -> impl Iterator<Item = Found<T>> + use<'s, T, L, To> {
        self.pointing_at_row(link.name, target::<L, To>(to, &self.state.schema))
    }

    pub(crate) fn pointing_at_row(
        &self,
        link: &str,
        row: Option<(TableNo, RowId)>,
    ) -> impl Iterator<Item = Found<T>> + use<'s, T> {
        let field = field_no(self.state.schema.table(self.places.table), link).ok();
        let found = field
            .zip(row)
            .map(|(field, (to, id))| self.state.pointing_at(self.places.table, field, to, &id));
        let (state, places) = (self.state, self.places.clone());
        found.unwrap_or_default().into_iter().map(move |slot| read_at(state, &places, slot))
    }

    fn table(&self) -> &'s crate::table::TableRows {
        self.state.table(self.places.table)
    }

    pub(crate) fn slot(&self, id: &Id<T::Of>) -> Option<Slot> {
        // Its type is that of the schema, as was checked.
        self.state.slot(self.places.table, &id.key().to_row_id()).ok().flatten()
    }
}

impl<'s, T: ReadTable<'s, Of: OneRowTable>> TableRows<'s, T> {
    /// The row of a one-row table.
    ///
    /// See [`OneRowTable`] for an example.
    pub fn only(&self) -> T
    where
        T: Default,
    {
        read_at(self.state, &self.places, ONLY).known().unwrap_or_default()
    }
}

impl<T> std::fmt::Debug for TableRows<'_, T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "TableRows({})", self.state.schema.table(self.places.table).name)
    }
}

/// A field that is a to-one link, and what names a row that it may point at: for a [`Link`]
/// anything that is an id of its table ([`IntoId`]), for an enum that derives
/// [`OneOf`](derive@crate::OneOf) the enum itself; the same for an `Option` of it.
///
/// See [`TableRows`] and [`OneOf`](trait@crate::OneOf) for examples.
#[diagnostic::on_unimplemented(
    message = "a field of type `{Self}` does not point at `{To}`",
    label = "not a link that `{To}` names a row of"
)]
pub trait PointsAt<To> {
    /// The row's table and its id; `None` if it names none.
    fn target(to: To) -> Option<(&'static str, RowId)>;
}

impl<T: Table, I: IntoId<T>> PointsAt<I> for Link<T> {
    fn target(to: I) -> Option<(&'static str, RowId)> {
        Some((T::TABLE, to.into_id().into()))
    }
}

impl<T: OneOf<'static>> PointsAt<T> for T {
    fn target(to: T) -> Option<(&'static str, RowId)> {
        OneOf::target(&to)
    }
}

impl<T: OneOf<'static>> PointsAt<&T> for T {
    fn target(to: &T) -> Option<(&'static str, RowId)> {
        OneOf::target(to)
    }
}

impl<To, L: PointsAt<To>> PointsAt<To> for Option<L> {
    fn target(to: To) -> Option<(&'static str, RowId)> {
        L::target(to)
    }
}

/// The row that `to` names.
pub(crate) fn target<L: PointsAt<To>, To>(to: To, schema: &Schema) -> Option<(TableNo, RowId)> {
    let (table, id) = L::target(to)?;
    Some((schema.table_no(table).ok()?, id))
}

/// The row in a slot, if there is one.
pub(super) fn read_at<'s, T: ReadTable<'s>>(
    state: &'s State,
    places: &FieldPlaces,
    slot: Slot,
) -> Found<T> {
    match state.table(places.table).row(slot) {
        Some(cells) => read(state, places, slot, cells),
        None if state.is_ready(places.table) => Found::Missing,
        None => Found::NotReady,
    }
}

#[inline]
fn cells<'n, 's>(
    state: &'s State,
    places: &'n FieldPlaces,
    slot: Slot,
    cells: RowCells<'s>,
) -> Cells<'n, 's> {
    let (table, numbers) = (places.table, &*places.fields);
    Cells { state, table, slot, cells, numbers, problems: None }
}

#[inline]
fn read<'s, T: ReadTable<'s>>(
    state: &'s State,
    places: &FieldPlaces,
    slot: Slot,
    row: RowCells<'s>,
) -> Found<T> {
    let mut cells = cells(state, places, slot, row);
    match (T::read(&mut cells), &cells.problems) {
        (Some(row), None) => Found::Here(row),
        (row, problems) => {
            let problems = problems.iter().flat_map(|problems| &problems.0);
            let problems =
                problems.map(|(place, problem)| (T::SHAPE.fields[*place].name, *problem));
            Found::Partly(Partly { row, problems: problems.collect() })
        }
    }
}

/// Where a struct's fields are in a schema, which is looked for once.
pub(super) fn places<T: Fields>(schema: &Schema) -> Result<Arc<FieldPlaces>> {
    if let Some(known) = schema.places.find(key(T::SHAPE)) {
        return Ok(known);
    }
    find(T::SHAPE, schema)
}

/// Identifies a struct's declaration.
fn key(shape: &'static Shape) -> usize {
    std::ptr::from_ref(shape).addr()
}

/// Where a struct's fields are, and those of the structs that it nests.
pub(super) fn find(shape: &'static Shape, schema: &Schema) -> Result<Arc<FieldPlaces>> {
    let mut found = Vec::new();
    let places = find_all(shape, schema, &mut found)?;
    found.into_iter().for_each(|(key, places)| schema.places.put(key, places));
    Ok(places)
}

fn find_all(
    shape: &'static Shape,
    schema: &Schema,
    found: &mut Vec<(usize, Arc<FieldPlaces>)>,
) -> Result<Arc<FieldPlaces>> {
    let met = found.iter().find(|(met, _)| *met == key(shape)).map(|(_, places)| places.clone());
    if let Some(known) = met.or_else(|| schema.places.find(key(shape))) {
        return Ok(known);
    }
    let places = Arc::new(find_fields(shape, schema)?);
    found.push((key(shape), places.clone()));
    for field in shape.fields {
        for nested in field.nested.map(|nested| nested()).unwrap_or_default() {
            find_all(nested, schema, found).map_err(|error| error.at(field.name))?;
        }
    }
    Ok(places)
}

fn find_fields(shape: &Shape, schema: &Schema) -> Result<FieldPlaces> {
    let table = schema.table_no(shape.table)?;
    let definition = schema.table(table);
    let is_id = |field: &schema::FieldNo| {
        shape.id.iter().any(|name| definition.field(*field).name.eq_ignore_ascii_case(name))
    };
    if shape.id.len() != definition.id.len() || !definition.id.iter().all(is_id) {
        let names = definition.id.iter().map(|part| &*definition.field(*part).name);
        let found = match shape.id {
            [] => "a one-row table".to_owned(),
            parts => format!("the id {}", parts.join(", ")),
        };
        let expected = names.collect::<Vec<_>>().join(", ");
        let message = format!("found {found}, expected that of the schema: {expected}");
        return Err(
            Error::new(ErrorKind::Type, message).at(format!("the id of \"{}\"", definition.name))
        );
    }
    let numbers = shape.fields.iter().map(|field| {
        let number = definition.field_no(field.name).ok_or_else(|| {
            let message = format!("table \"{}\" has no field \"{}\"", shape.table, field.name);
            Error::new(ErrorKind::UnknownName, message)
                .help(nearest(field.name, definition.field_names()))
        })?;
        match misfit(field.kind, definition.field(number), definition, schema) {
            Some(message) => Err(Error::new(ErrorKind::Type, message)
                .at(format!("{}.{}", definition.name, field.name))),
            None => Ok(number),
        }
    });
    let fields: Box<[schema::FieldNo]> = numbers.collect::<Result<_>>()?;
    let nests =
        shape.fields.iter().zip(&fields).filter_map(|(field, at)| Some((field.nested?, at)));
    let nested = nests.flat_map(|(nested, at)| nested().into_iter().map(|of| (*at, key(of))));
    Ok(FieldPlaces { table, nested: nested.collect(), fields })
}

/// What is wrong with a struct's field in a schema's.
fn misfit(
    kind: Kind,
    field: &schema::FieldDef,
    table: &schema::TableDef,
    schema: &Schema,
) -> Option<String> {
    use schema::FieldKind as Held;
    let is_table = |to: TableNo, name: &str| schema.table(to).name.eq_ignore_ascii_case(name);
    // A link may point at all tables of the enum, and at no other.
    let are_tables = |field: &schema::FieldDef, names: &[(&str, &str)]| {
        field.one_of().is_some_and(|one_of| {
            let to = &one_of.tables;
            to.iter().all(|(_, to)| names.iter().any(|(_, name)| is_table(*to, name)))
                && names.iter().all(|(_, name)| to.iter().any(|(_, to)| is_table(*to, name)))
        })
    };
    let fits = match (kind, field.kind) {
        (Kind::Int | Kind::OneOfNumbers(_), Held::Int)
        | (Kind::Float, Held::Float)
        | (Kind::Bool, Held::Bool)
        | (Kind::Text | Kind::OneOf(_), Held::Text)
        | (Kind::Timestamp, Held::Timestamp)
        | (Kind::Json, Held::Json)
        | (Kind::Any, _) => true,
        // The row's own id.
        (Kind::Link(name), Held::Int | Held::Text) => {
            table.name.eq_ignore_ascii_case(name)
                && table.id_type()
                    == if field.kind == Held::Int { IdType::Int } else { IdType::Text }
        }
        (Kind::Link(name), Held::Link(to)) => is_table(to, name),
        (Kind::Links(name), Held::Links(entries)) => {
            match schema.table(entries).field(crate::table::TARGET).kind {
                Held::Link(to) => is_table(to, name),
                _ => false,
            }
        }
        (Kind::LinkToOneOf(names), _) => are_tables(field, names),
        (Kind::LinksToOneOf(names), Held::Links(entries)) => {
            are_tables(schema.table(entries).field(crate::table::TARGET), names)
        }
        _ => false,
    };
    if !fits {
        let expected = schema.kind_of(field);
        return Some(format!("the struct has {}, the schema {expected}", kind.name()));
    }
    let strange = field.values.iter().find(|value| match (kind, value) {
        (Kind::OneOf(texts), Value::Text(text)) => !texts.contains(&&**text),
        (Kind::OneOfNumbers(numbers), Value::Int(number)) => !numbers.contains(number),
        _ => false,
    });
    strange.map(|value| format!("the schema also has \"{value}\", which the enum has not"))
}

impl Kind {
    /// The kind as a schema's text names it.
    pub(super) fn name(self) -> String {
        match self {
            Kind::Int | Kind::OneOfNumbers(_) => "int".into(),
            Kind::Float => "float".into(),
            Kind::Bool => "bool".into(),
            Kind::Text | Kind::OneOf(_) => "text".into(),
            Kind::Timestamp => "timestamp".into(),
            Kind::Json => "json".into(),
            Kind::Any => "any value".into(),
            Kind::Link(to) => format!("link to {to}"),
            Kind::Links(to) => format!("links to {to}"),
            Kind::LinkToOneOf(tables) => format!("link to {}", either_of(tables)),
            Kind::LinksToOneOf(tables) => format!("links to {}", either_of(tables)),
        }
    }
}

fn either_of(tables: &[(&str, &str)]) -> String {
    let names: Vec<&str> = tables.iter().map(|(_, table)| *table).collect();
    names.join(" or ")
}
