//! Rows of a query's result as structs or tuples.

use std::fmt;
use std::hash::{Hash, Hasher};
use std::marker::PhantomData;
use std::ops::Deref;
use std::sync::Arc;

use super::{FieldCell, FieldType, Kind};
use crate::error::{Error, ErrorKind, Result, nearest};
use crate::query::{Delta, Query, QueryResult, Step};
use crate::schema::FieldKind as Held;
use crate::value::Value;

/// A type that a row of a result can be read as: a struct that derives
/// [`Row`](derive@crate::FromRow), whose fields are columns by name, or a tuple, whose parts are
/// the columns in their order.
///
/// ```
/// use backwater::{Cache, FromRow, Schema};
///
/// #[derive(Debug, PartialEq, FromRow)]
/// struct Late {
///     id: i64,
///     #[row(name = "min")]
///     minutes: Option<i64>,
/// }
///
/// let cache = Cache::new(Schema::parse("s.toml", "table.sailing = { id = 'id', fields = { id = 'int', delay_min = 'int' } }")?);
/// let late = cache.query("SELECT id, delay_min AS min FROM sailing WHERE delay_min > :over", [("over", 5)])?.typed::<Late>()?;
/// cache.commit("delay reported", |tx| tx.insert("sailing", [("id", 311), ("delay_min", 15)]))?;
/// assert_eq!(late.rows()?, [Late { id: 311, minutes: Some(15) }]);
///
/// let count = cache.query("SELECT count(*) FROM sailing", ())?.typed::<(i64,)>()?;
/// assert_eq!(count.rows()?, [(1,)]);
///
/// let wrong = cache.query("SELECT id FROM sailing", ())?.typed::<Late>().unwrap_err();
/// assert!(wrong.to_string().contains("the result has no column \"min\""));
/// # Ok::<(), backwater::Error>(())
/// ```
pub trait FromRow: Sized {
    /// Where the fields are among the columns of a result, as far as that is known before there is
    /// a row.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if a column is not there, [`ErrorKind::Type`] if one has another
    /// type.
    fn places(columns: &ResultColumns) -> Result<Box<[usize]>>;

    /// Reads a row; `places` are those of [`FromRow::places`].
    ///
    /// # Errors
    /// [`ErrorKind::Type`] if a value has another type, or is NULL where there is no `Option`.
    fn read(values: &[Value], places: &[usize]) -> Result<Self>;
}

/// The columns of a result: their names, and their types where these are known.
///
/// ```
/// use backwater::{Cache, Error, FromRow, Schema, Value, typed::ResultColumns};
///
/// /// What `#[derive(FromRow)]` writes, by hand.
/// struct Late(i64);
///
/// impl FromRow for Late {
///     fn places(columns: &ResultColumns) -> Result<Box<[usize]>, Error> {
///         Ok([columns.place::<i64>("delay_min")?].into())
///     }
///
///     fn read(values: &[Value], places: &[usize]) -> Result<Self, Error> {
///         Ok(Self(values[places[0]].as_int().unwrap_or(0)))
///     }
/// }
///
/// let cache = Cache::new(Schema::parse("s.toml", "table.sailing = { id = 'id', fields = { id = 'int', delay_min = 'int' } }")?);
/// let late = cache.query("SELECT delay_min FROM sailing", ())?.typed::<Late>()?;
/// cache.commit("delay reported", |tx| tx.insert("sailing", [("id", 311), ("delay_min", 15)]))?;
/// assert_eq!(late.rows()?[0].0, 15);
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct ResultColumns<'r>(&'r [(String, Option<Held>)]);

impl ResultColumns<'_> {
    /// The place of a column that can be read as a type.
    ///
    /// # Errors
    /// As [`FromRow::places`].
    pub fn place<T: for<'v> FieldType<'v>>(&self, name: &str) -> Result<usize> {
        let place = self.0.iter().position(|(column, _)| column == name).ok_or_else(|| {
            let message = format!("the result has no column \"{name}\"");
            Error::new(ErrorKind::UnknownName, message)
                .help(nearest(name, self.0.iter().map(|(column, _)| column.as_str())))
        })?;
        self.check::<T>(place).map(|()| place)
    }

    /// Whether a column can be read as a type, as far as that is known.
    fn check<T: for<'v> FieldType<'v>>(&self, place: usize) -> Result<()> {
        let (name, Some(held)) = &self.0[place] else { return Ok(()) };
        let kind = <T as FieldType<'_>>::KIND;
        let fits = matches!(
            (kind, held),
            (Kind::Int | Kind::OneOfNumbers(_), Held::Int | Held::Bool | Held::Links(_))
                | (Kind::Float, Held::Float | Held::Int)
                | (Kind::Bool, Held::Bool)
                | (Kind::Text | Kind::OneOf(_), Held::Text)
                | (Kind::Timestamp, Held::Timestamp)
                | (Kind::Json, Held::Json)
                | (_, Held::Link(_) | Held::OneOf)
                | (Kind::Link(_) | Kind::Any, _)
        );
        if fits {
            return Ok(());
        }
        let held =
            Held::NAMES.iter().find(|(_, kind)| kind == held).map_or("int", |(name, _)| name);
        let message = format!("the column is of type {held}, and is read as {}", kind.name());
        Err(Error::new(ErrorKind::Type, message).at(format!("column \"{name}\"")))
    }
}

/// Reads one value of a row; for `#[derive(FromRow)]`.
#[doc(hidden)]
pub fn value<T: for<'v> FieldType<'v>>(values: &[Value], place: usize, name: &str) -> Result<T> {
    let found = values.get(place).unwrap_or(&Value::Null);
    T::read(FieldCell::of_value(found)).map_err(|_| {
        let expected = <T as FieldType<'_>>::KIND.name();
        let message = match found {
            Value::Null => format!("found NULL, expected {expected}"),
            _ => format!("found {} ({found}), expected {expected}", found.kind()),
        };
        let help = if found.is_null() { "make the field an Option" } else { "" };
        Error::new(ErrorKind::Type, message).at(format!("column \"{name}\"")).help(help)
    })
}

macro_rules! tuple {
    ($count:literal: $($part:ident $place:tt),*) => {
        impl<$($part: for<'v> FieldType<'v>),*> FromRow for ($($part,)*) {
            fn places(columns: &ResultColumns) -> Result<Box<[usize]>> {
                if columns.0.len() != $count {
                    let message = format!("the result has {} columns, and is read as {}", columns.0.len(), $count);
                    return Err(Error::new(ErrorKind::Type, message));
                }
                $(columns.check::<$part>($place)?;)*
                Ok((0..$count).collect())
            }

            fn read(values: &[Value], places: &[usize]) -> Result<Self> {
                Ok(($(value::<$part>(values, places[$place], stringify!($place))?,)*))
            }
        }
    };
}

tuple!(1: A 0);
tuple!(2: A 0, B 1);
tuple!(3: A 0, B 1, C 2);
tuple!(4: A 0, B 1, C 2, D 3);
tuple!(5: A 0, B 1, C 2, D 3, E 4);
tuple!(6: A 0, B 1, C 2, D 3, E 4, F 5);
tuple!(7: A 0, B 1, C 2, D 3, E 4, F 5, G 6);
tuple!(8: A 0, B 1, C 2, D 3, E 4, F 5, G 6, H 7);

/// A standing query whose rows are read as a type. It is a [`Query`] in all else.
///
/// See [`FromRow`] for an example.
pub struct TypedQuery<T> {
    query: Query,
    places: Arc<[usize]>,
    of: PhantomData<fn() -> T>,
}

impl Query {
    /// The same query with its rows read as structs or tuples, which is checked here as far as it
    /// can be.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] and [`ErrorKind::Type`] if the columns are not those that the
    /// type has.
    ///
    /// See [`FromRow`] for an example.
    pub fn typed<T: FromRow>(&self) -> Result<TypedQuery<T>> {
        let node = self.node();
        let outputs = node.bound_plan.plan.outputs.iter();
        let columns: Vec<_> = outputs.map(|of| (of.name.clone(), of.declared)).collect();
        let places = T::places(&ResultColumns(&columns)).map_err(|error| error.at(self.name()))?;
        Ok(TypedQuery { query: self.clone(), places: places.into(), of: PhantomData })
    }
}

impl<T: FromRow> TypedQuery<T> {
    /// All rows as of the last commit.
    ///
    /// # Errors
    /// As [`Query::read`]; [`ErrorKind::Type`] if a value has another type than the field, or is
    /// NULL where there is no `Option`.
    ///
    /// See [`FromRow`] for an example.
    pub fn rows(&self) -> Result<Vec<T>> {
        self.rows_of(&self.query.read()?)
    }

    /// The first row as of the last commit.
    ///
    /// # Errors
    /// As [`TypedQuery::rows`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// let count = cache.query("SELECT count(*) FROM port", ())?.typed::<(i64,)>()?;
    /// assert_eq!(count.first()?, Some((0,)));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn first(&self) -> Result<Option<T>> {
        self.query.read()?.row(0).map(|row| self.row(row.values())).transpose()
    }

    /// The rows of a result of this query, such as the one before a delta.
    ///
    /// # Errors
    /// As [`TypedQuery::rows`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// let ports = cache.query("SELECT code FROM port", ())?.typed::<(String,)>()?;
    /// let before = ports.read()?;
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// assert_eq!((ports.rows_of(&before)?.len(), ports.rows()?.len()), (0, 1));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn rows_of(&self, result: &QueryResult) -> Result<Vec<T>> {
        result.rows().map(|row| self.row(row.values())).collect()
    }

    /// The steps from the list of rows before a delta of this query to the one after it.
    ///
    /// # Errors
    /// As [`TypedQuery::rows`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, delta::Step};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// let ports = cache.query("SELECT code FROM port", ())?.typed::<(String,)>()?;
    /// let _watch = ports.keep_current();
    /// let report = cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// let steps = ports.steps(report.delta(&ports).unwrap())?;
    /// assert_eq!(steps, [Step::Insert { at: 0, row: ("SAL".to_owned(),) }]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn steps(&self, delta: &Delta) -> Result<Vec<Step<T>>> {
        delta.steps().map(|step| step.try_map(|row| self.row(row.row().values()))).collect()
    }

    /// Applies a delta of this query to a list that shows the rows before it.
    ///
    /// # Errors
    /// As [`TypedQuery::rows`] and [`Delta::apply`]. The list then stays as it is.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// let ports = cache.query("SELECT code FROM port", ())?.typed::<(String,)>()?;
    /// let _watch = ports.keep_current();
    /// let mut shown = ports.rows()?;
    /// let report = cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// ports.apply(report.delta(&ports).unwrap(), &mut shown)?;
    /// assert_eq!(shown, ports.rows()?);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn apply(&self, delta: &Delta, shown: &mut Vec<T>) -> Result<()> {
        delta.apply_with(shown, |row| self.row(row.row().values()))
    }

    /// One row of it, given as values, such as one of a delta.
    ///
    /// # Errors
    /// As [`TypedQuery::rows`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// let ports = cache.query("SELECT code FROM port", ())?.typed::<(String,)>()?;
    /// let _kept = ports.keep_current();
    /// let report = cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// let entered = report.delta(&ports).unwrap().rows().next().unwrap().after().unwrap();
    /// assert_eq!(ports.row(entered.values())?, ("SAL".to_owned(),));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn row(&self, values: &[Value]) -> Result<T> {
        T::read(values, &self.places).map_err(|error| error.at(self.query.name()))
    }
}

impl<T> Deref for TypedQuery<T> {
    type Target = Query;

    fn deref(&self) -> &Query {
        &self.query
    }
}

impl<T> Clone for TypedQuery<T> {
    fn clone(&self) -> Self {
        Self { query: self.query.clone(), places: self.places.clone(), of: PhantomData }
    }
}

/// Handles are equal if one is a clone of the other.
impl<T> PartialEq for TypedQuery<T> {
    fn eq(&self, other: &Self) -> bool {
        self.query == other.query
    }
}

impl<T> Eq for TypedQuery<T> {}

impl<T> Hash for TypedQuery<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.query.hash(state);
    }
}

/// The values as they are, for rows that no struct is made of.
impl FromRow for Vec<Value> {
    fn places(_: &ResultColumns) -> Result<Box<[usize]>> {
        Ok(Box::default())
    }

    fn read(values: &[Value], _: &[usize]) -> Result<Self> {
        Ok(values.to_vec())
    }
}

impl<T> fmt::Debug for TypedQuery<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "TypedQuery({})", self.query.name())
    }
}
