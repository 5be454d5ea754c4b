//! What a struct says about its table, known when the program is compiled.

use super::field::{CellOf, FieldCell, FieldType, TableCell, Written};
use super::{FieldProblem, Id, Key};
use crate::schema::{self, FieldNo, Schema, TableNo};
use crate::table::{RowCells, Slot, State};
use crate::value::{Named, RowId, Value};

/// A struct that is a row of a table; `#[derive(Table)]` makes it one.
///
/// Its fields are the table's: `i64`, `i32`, `u32`, `f64`, `bool`, `String`, `Arc<str>`,
/// [`Timestamp`](crate::Timestamp), [`Json`](crate::Json), an enum that derives
/// [`Values`](derive@crate::Values), [`Link`](crate::Link), [`Links`](crate::Links), an enum that
/// derives [`OneOf`](derive@crate::OneOf) or a `Vec` of these, and of each an `Option` where it may
/// be null. What `backwater.toml` says of a table or a field stands in `#[table(…)]`:
///
/// | on the struct | |
/// |---|---|
/// | `name = "sailing"` | the table's name, if not the struct's in snake_case |
/// | `one_row` | a one-row table; the struct has a [`Default`] for absent fields |
/// | `persist = false`, `names = "camelCase"`, `version = "updated_at"`, `unique = "badge"`, `unique = ["route", "number"]` (once for each key), `unknown = "error"`, `unknown(keep = "extras")`, `tombstone = "deleted"`, `resource = "sailings"`, `expires_after = "7 days"`, `was = "trip"` | as in `backwater.toml` |
/// | `of = Sailing` | a part of another struct's table: any of its fields, to read or to merge |
///
/// | on a field | |
/// |---|---|
/// | `id` | (part of) the id; `id = "int"` or `id = "text"` where the field is the row's own [`Id`](crate::Id), or of a type of one's own |
/// | `name = "departs_at"` | the field's name, if not the struct's |
/// | `to = "crew"`, `by = "badge"` | on a text or a number: a link that holds another unique key than the id |
/// | `default` | absent reads as [`Default`], and does not count as lacking |
/// | `persist = false`, `required`, `from = "/at/port"`, `from = ["full_name", "name"]`, `unit = "seconds"`, `on_delete = "cascade"`, `record = "/node"`, `other_types = "skip"`, `other_types(to = "thing")`, `link_table = "…"`, `type_field = "…"`, `type_member = "…"`, `was = ["price", "fare"]` | as in `backwater.toml` |
///
/// For each field there is a constant, `Sailing::DELAY_MIN`, that names it for
/// [`TableWriter::write`](crate::typed::TableWriter::write) and
/// [`TableRows::pointing_at`](crate::typed::TableRows::pointing_at).
///
/// ```
/// use backwater::{Cache, Schema, Table, Timestamp, Values};
///
/// #[derive(Debug, Clone, Copy, PartialEq, Values)]
/// enum Status {
///     #[values("on time")]
///     OnTime,
///     Delayed,
/// }
///
/// #[derive(Debug, Table)]
/// #[table(version = "updated_at")]
/// struct Sailing {
///     #[table(id)]
///     id: i64,
///     status: Status,
///     departs_at: Timestamp,
///     delay_min: Option<i64>,
///     #[table(default)]
///     note: Option<String>,
///     updated_at: i64,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Sailing>().build()?);
/// let departs_at = "2031-05-04T07:41:00+02:00".parse()?;
/// cache.commit("announced", |tx| {
///     tx.table::<Sailing>()?.insert(&Sailing {
///         id: 311, status: Status::OnTime, departs_at, delay_min: None, note: None, updated_at: 1,
///     })
/// })?;
/// cache.commit("delay reported", |tx| {
///     let mut sailings = tx.table::<Sailing>()?;
///     sailings.update(311, |sailing| sailing.status = Status::Delayed)?;
///     sailings.write(311, Sailing::DELAY_MIN, Some(15))
/// })?;
/// let sailing = cache.snapshot().table::<Sailing>()?.get(311).here().unwrap();
/// assert_eq!((sailing.status, sailing.delay_min), (Status::Delayed, Some(15)));
/// assert!(cache.schema().text().contains(r#""status" = { type = "text", values = ["on time", "delayed"] }"#));
/// # Ok::<(), backwater::Error>(())
/// ```
pub trait Table: Fields<Of = Self> + for<'s> ReadTable<'s> + Sized + 'static {
    /// What its ids are made of.
    type Key: Key;

    /// The row's id; that of a one-row table's row says nothing.
    ///
    /// ```
    /// # use backwater::{Id, Table};
    /// # #[derive(Table)] struct Sailing { #[table(id)] id: i64 }
    /// assert_eq!(Sailing { id: 311 }.row_id(), Id::new(311));
    /// ```
    fn row_id(&self) -> Id<Self>;
}

/// A struct with fields of a table: all that it declares, or some.
///
/// See [`Table`], of which `#[derive(Table)]` makes it too.
pub trait Fields {
    /// The struct that declares the table.
    type Of: Table;

    /// The table's name. It stands apart, so that a table may link to itself.
    const TABLE: &'static str;

    /// What is known of the table and the fields.
    const SHAPE: &'static Shape;

    /// Writes down what the fields hold.
    fn write(&self, writes: &mut FieldWrites);
}

/// A struct that can be read from a row of its table, and may borrow texts from it.
///
/// `#[derive(Table)]` makes it. A struct with a lifetime has fields like `&'s str`, which cost no
/// copy:
///
/// ```
/// use backwater::{Cache, Schema, Table};
///
/// #[derive(Table)]
/// struct Vessel {
///     #[table(id)]
///     name: String,
///     cars_max: i64,
/// }
///
/// #[derive(Table)]
/// #[table(of = Vessel)]
/// struct Name<'s> {
///     name: &'s str,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Vessel>().build()?);
/// cache.commit("launched", |tx| tx.table::<Vessel>()?.insert(&Vessel { name: "Marram".into(), cars_max: 42 }))?;
/// let snapshot = cache.snapshot();
/// let names: Vec<&str> = snapshot.table::<Name>()?.here().map(|vessel| vessel.name).collect();
/// assert_eq!(names, ["Marram"]);
/// # Ok::<(), backwater::Error>(())
/// ```
///
/// A link's field may be the row that it points at, as a [`Found`](crate::Found), and that of a
/// to-many link a `Vec` of these: so rows are read as a tree, each struct with just the fields that
/// it needs. Such a struct is for reading; writes leave its nested rows alone.
///
/// ```
/// use backwater::{Cache, Found, Link, Links, Schema, Table};
///
/// #[derive(Table)]
/// struct Port {
///     #[table(id)]
///     code: String,
///     name: String,
/// }
///
/// #[derive(Table)]
/// struct Route {
///     #[table(id)]
///     id: i64,
///     from: Link<Port>,
///     stops: Links<Port>,
/// }
///
/// #[derive(Table)]
/// #[table(of = Port)]
/// struct Name<'s> {
///     name: &'s str,
/// }
///
/// #[derive(Table)]
/// #[table(of = Route)]
/// struct Card<'s> {
///     from: Found<Name<'s>>,
///     stops: Vec<Found<Name<'s>>>,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Port>().table::<Route>().build()?);
/// cache.commit("opened", |tx| {
///     tx.table::<Port>()?.insert(&Port { code: "SAL".into(), name: "Saltmere Quay".into() })?;
///     tx.table::<Route>()?.insert(&Route { id: 4, from: Link::to("SAL"), stops: Links::to(["SAL", "EEL"]) })
/// })?;
/// let snapshot = cache.snapshot();
/// let card = snapshot.table::<Card>()?.get(4).here().unwrap();
/// assert_eq!(card.from.here().unwrap().name, "Saltmere Quay");
/// assert!(card.stops[1].is_missing()); // Eelgrass Bay is not loaded yet
/// # let _ = (Port { code: String::new(), name: String::new() }.name, Route { id: 1, from: Link::to("x"), stops: Links::default() }.id);
/// # Ok::<(), backwater::Error>(())
/// ```
pub trait ReadTable<'s>: Fields + Sized {
    /// Reads the fields; `None` if the struct cannot be without one that is not there.
    fn read(cells: &mut Cells<'_, 's>) -> Option<Self>;
}

/// A one-row table's struct: absent fields are as its [`Default`] has them.
///
/// ```
/// use backwater::{Cache, Schema, Table};
///
/// #[derive(Debug, Default, PartialEq, Table)]
/// #[table(one_row)]
/// struct Board {
///     #[table(persist = false)]
///     search: String,
///     dark: bool,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Board>().build()?);
/// assert_eq!(cache.snapshot().table::<Board>()?.only(), Board::default());
/// cache.commit("letter typed", |tx| tx.table::<Board>()?.set(|board| board.search.push('m')))?;
/// assert_eq!(cache.snapshot().table::<Board>()?.only().search, "m");
/// # Ok::<(), backwater::Error>(())
/// ```
pub trait OneRowTable: Table<Key = ()> + Default {}

/// What a struct's type says about its table. `#[derive(Table)]` writes it; by hand it is this:
///
/// ```
/// use backwater::{Cache, Id, Schema, Table, typed::{Cells, FieldShape, FieldType, FieldWrites, Fields, Kind, ReadTable, Shape}};
///
/// #[derive(Debug, PartialEq)]
/// struct Vessel {
///     name: String,
///     cars_max: i64,
/// }
///
/// impl Fields for Vessel {
///     type Of = Self;
///     const TABLE: &'static str = "vessel";
///     const SHAPE: &'static Shape = &Shape {
///         table: Self::TABLE,
///         id: &["name"],
///         options: "",
///         fields: &[
///             FieldShape { name: "name", kind: Kind::Text, options: "", nested: None },
///             FieldShape { name: "cars_max", kind: Kind::Int, options: "required = true", nested: None },
///         ],
///     };
///
///     fn write(&self, writes: &mut FieldWrites) {
///         writes.put("name", &self.name);
///         writes.put("cars_max", &self.cars_max);
///     }
/// }
///
/// impl<'s> ReadTable<'s> for Vessel {
///     fn read(cells: &mut Cells<'_, 's>) -> Option<Self> {
///         // By their places in the shape.
///         let (name, cars_max) = (cells.field(0), cells.field(1));
///         Some(Self { name: name?, cars_max: cars_max? })
///     }
/// }
///
/// impl Table for Vessel {
///     type Key = std::sync::Arc<str>;
///
///     fn row_id(&self) -> Id<Self> {
///         Id::new(self.name.as_str())
///     }
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Vessel>().build()?);
/// cache.commit("launched", |tx| tx.table::<Vessel>()?.insert(&Vessel { name: "Marram".into(), cars_max: 42 }))?;
/// assert_eq!(cache.snapshot().table::<Vessel>()?.get("Marram").here().unwrap().cars_max, 42);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug)]
pub struct Shape {
    /// The table's name.
    pub table: &'static str,
    /// The fields of the id; none of a one-row table.
    pub id: &'static [&'static str],
    /// The other options that a schema's text has for the table, as lines of TOML.
    pub options: &'static str,
    /// The struct's fields, in its order.
    pub fields: &'static [FieldShape],
}

/// What a struct's type says about a field. `#[derive(Table)]` writes it.
///
/// See [`Shape`] for an example.
#[derive(Debug)]
pub struct FieldShape {
    /// The field's name.
    pub name: &'static str,
    /// What it holds.
    pub kind: Kind,
    /// The other options that a schema's text has for it, as members of an inline table of TOML.
    pub options: &'static str,
    /// What is known of the structs of the rows that the field nests, if it does.
    pub nested: Option<fn() -> Vec<&'static Shape>>,
}

/// What a field of a struct holds.
///
/// ```
/// use backwater::typed::{FieldType, Kind};
///
/// assert_eq!((<i64 as FieldType>::KIND, <Option<String> as FieldType>::KIND), (Kind::Int, Kind::Text));
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Kind {
    /// A whole number of 64 bits.
    Int,
    /// A binary64 number.
    Float,
    /// True or false.
    Bool,
    /// A text.
    Text,
    /// One of these texts.
    OneOf(&'static [&'static str]),
    /// One of these whole numbers.
    OneOfNumbers(&'static [i64]),
    /// Any value.
    Any,
    /// A point in time.
    Timestamp,
    /// A JSON text.
    Json,
    /// The id of a row of that table.
    Link(&'static str),
    /// The ids of rows of that table.
    Links(&'static str),
    /// The id of a row of one of several tables: how the link calls each, and the table.
    LinkToOneOf(&'static [(&'static str, &'static str)]),
    /// The ids of rows of several tables.
    LinksToOneOf(&'static [(&'static str, &'static str)]),
}

/// A field of a table by its name, of the type that the struct has there; see [`Table`].
pub struct Field<T, V> {
    pub(crate) name: &'static str,
    of: std::marker::PhantomData<fn(&T) -> V>,
}

impl<T, V> Field<T, V> {
    /// Names a field; `#[derive(Table)]` does so for each field of the struct.
    pub const fn new(name: &'static str) -> Self {
        Self { name, of: std::marker::PhantomData }
    }

    /// The field's name.
    ///
    /// ```
    /// # use backwater::Table;
    /// # #[derive(Table)] struct Sailing { #[table(id)] id: i64 }
    /// assert_eq!(Sailing::ID.name(), "id");
    /// # let _ = Sailing { id: 1 }.id;
    /// ```
    pub fn name(&self) -> &'static str {
        self.name
    }
}

/// So that it stands wherever a field is named.
impl<T, V> AsRef<str> for Field<T, V> {
    fn as_ref(&self) -> &str {
        self.name
    }
}

impl<T, V> Clone for Field<T, V> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T, V> Copy for Field<T, V> {}

impl<T, V> std::fmt::Debug for Field<T, V> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Field({})", self.name)
    }
}

/// The cells of one row, as a struct's fields are read from them.
///
/// See [`Shape`] for an example.
pub struct Cells<'n, 's> {
    pub(super) state: &'s State,
    pub(super) table: TableNo,
    pub(super) slot: Slot,
    pub(super) cells: RowCells<'s>,
    /// For each field of the struct its number in the table.
    pub(super) numbers: &'n [FieldNo],
    /// Fields of the struct that are not there, or not as the struct has them; mostly none.
    pub(super) problems: Option<Box<Problems>>,
}

/// The places of fields in their struct, and what is wrong with them.
#[derive(Default)]
pub(super) struct Problems(pub(super) Vec<(usize, FieldProblem)>);

impl Problems {
    /// By value, so that the cells of a row need not lie in memory where nothing is wrong.
    #[cold]
    #[inline(never)]
    fn and(known: Option<Box<Self>>, place: usize, problem: FieldProblem) -> Option<Box<Self>> {
        let mut known = known.unwrap_or_default();
        known.0.push((place, problem));
        Some(known)
    }
}

impl<'s> Cells<'_, 's> {
    /// A field by its place in the struct; notes that it is lacking, if it is.
    #[inline(always)]
    pub fn field<T: FieldType<'s>>(&mut self, place: usize) -> Option<T> {
        match T::read(self.cell(place)) {
            Ok(value) => Some(value),
            Err(problem) => {
                self.problems = Problems::and(self.problems.take(), place, problem);
                T::without()
            }
        }
    }

    /// The same with a value for a field that is lacking, which then does not count.
    #[inline]
    pub fn field_or<T: FieldType<'s>>(&mut self, place: usize, otherwise: impl FnOnce() -> T) -> T {
        T::read(self.cell(place)).unwrap_or_else(|_| otherwise())
    }

    /// The same with the type's own value for an absent field.
    #[inline]
    pub fn field_or_default<T: FieldType<'s> + Default>(&mut self, place: usize) -> Option<T> {
        match T::read(self.cell(place)) {
            Err(FieldProblem::Absent) => Some(T::default()),
            _ => self.field(place),
        }
    }

    #[inline(always)]
    fn cell(&self, place: usize) -> FieldCell<'s> {
        let field = self.numbers[place];
        let at = (self.table, self.slot, field);
        FieldCell(CellOf::Table(TableCell { state: self.state, at, row: self.cells }))
    }
}

/// What the fields of a struct hold, to be written into a row.
///
/// See [`Shape`] for an example.
#[derive(Debug, Default)]
pub struct FieldWrites {
    pub(super) fields: Vec<(&'static str, Value)>,
    /// Links to one of several tables, with the table.
    one_of: Vec<(&'static str, (&'static str, RowId))>,
    /// To-many links.
    pub(super) links: Vec<(&'static str, Vec<Target>)>,
}

/// The fields of a struct by name, such as the parameters of a query or the variables of a rule.
/// Links to many rows and to one of several tables have no single value, and are left out.
///
/// ```
/// use backwater::{Cache, Named, Schema, Table};
///
/// #[derive(Default, Table)]
/// #[table(one_row)]
/// struct Search {
///     port: String,
///     most: i64,
/// }
///
/// let search = Search { port: "SAL".to_owned(), most: 10 };
/// assert_eq!(Named::from(&search), Named::from((("port", "SAL"), ("most", 10))));
/// ```
impl<T: Fields> From<&T> for Named {
    fn from(of: &T) -> Self {
        FieldWrites::of(of).fields.into_iter().collect()
    }
}

/// What a to-many link points at: with its table, if it may be one of several.
type Target = (Option<&'static str>, RowId);

impl FieldWrites {
    /// Adds a field of that name.
    pub fn put<'s, T: FieldType<'s>>(&mut self, name: &'static str, value: &T) {
        match value.write() {
            Written::Value(value) => self.fields.push((name, value)),
            Written::Links(ids) => {
                self.links.push((name, ids.into_iter().map(|id| (None, id)).collect()));
            }
            Written::LinkTo(table, id) => self.one_of.push((name, (table, id))),
            Written::LinksTo(targets) => {
                let targets = targets.into_iter().map(|(table, id)| (Some(table), id));
                self.links.push((name, targets.collect()));
            }
            Written::Nothing => {}
        }
    }

    pub(crate) fn of(row: &impl Fields) -> Self {
        let mut writes = Self::default();
        row.write(&mut writes);
        writes
    }

    /// What is written here and was not there.
    pub(super) fn since(self, before: &Self) -> Self {
        let fields = self.fields.into_iter().filter(|field| !before.fields.contains(field));
        let one_of = self.one_of.into_iter().filter(|link| !before.one_of.contains(link));
        let links = self.links.into_iter().filter(|link| !before.links.contains(link));
        Self { fields: fields.collect(), one_of: one_of.collect(), links: links.collect() }
    }

    /// Whether no field but to-many links is written.
    pub(super) fn is_empty(&self) -> bool {
        self.fields.is_empty() && self.one_of.is_empty()
    }

    /// All but the to-many links, as the table has it.
    pub(super) fn named(&self, table: &schema::TableDef, schema: &Schema) -> Named {
        let one_ofs = self.one_of.iter().filter_map(|(name, (to, _))| {
            let one_of = table.field(table.field_no(name)?).one_of()?;
            let called = one_of.name(schema.table_no(to).ok()?);
            Some((&*table.field(one_of.type_field).name, Value::from(called.clone())))
        });
        let one_ofs: Vec<(&str, Value)> = one_ofs.collect();
        let fields = self.fields.iter().map(|(name, value)| (*name, value.clone()));
        let fields = fields.filter(|(name, _)| !one_ofs.iter().any(|(other, _)| other == name));
        let links = self.one_of.iter().map(|(name, (_, id))| (*name, Value::from(id.clone())));
        let all: Vec<(&str, Value)> = fields.chain(links).collect();
        all.into_iter().chain(one_ofs).collect()
    }
}
