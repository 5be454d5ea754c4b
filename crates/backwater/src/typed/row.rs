//! Rows of a query's result as structs or tuples.

use std::fmt;
use std::marker::PhantomData;
use std::ops::Deref;
use std::sync::Arc;

use super::{Id, Key, Kind, Link, Table};
use crate::error::{Error, ErrorKind, Result, nearest};
use crate::query::{Query, QueryResult};
use crate::schema::Kind as Held;
use crate::value::{Json, RowId, Timestamp, Value};

/// A type that a row of a result can be read as: a struct that derives [`Row`](derive@crate::Row),
/// whose fields are columns by name, or a tuple, whose parts are the columns in their order.
///
/// ```
/// use backwater::{Cache, Row, Schema};
///
/// #[derive(Debug, PartialEq, Row)]
/// struct Late {
///     id: i64,
///     #[row(name = "min")]
///     minutes: Option<i64>,
/// }
///
/// let cache = Cache::new(Schema::parse("s.toml", "table.sailing = { id = 'id', fields = { id = 'int', delay_min = 'int' } }")?);
/// let late = cache.query_of::<Late>("SELECT id, delay_min AS min FROM sailing WHERE delay_min > :over", [("over", 5)])?;
/// cache.commit("delay reported", |tx| tx.insert("sailing", [("id", 311), ("delay_min", 15)]))?;
/// assert_eq!(late.rows()?, [Late { id: 311, minutes: Some(15) }]);
///
/// let count = cache.query_of::<(i64,)>("SELECT count(*) FROM sailing", ())?;
/// assert_eq!(count.rows()?, [(1,)]);
///
/// let wrong = cache.query_of::<Late>("SELECT id FROM sailing", ()).unwrap_err();
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

/// A type that a value of a result can be read as.
///
/// ```
/// use backwater::{RowValue, Value};
///
/// assert_eq!(Option::<i64>::of_value(&Value::Null), Some(None));
/// assert_eq!(i64::of_value(&Value::Null), None);
/// ```
pub trait RowValue: Sized {
    /// What it is, for messages.
    const KIND: Kind;

    /// The value as this type; `None` if it is of another one.
    fn of_value(value: &Value) -> Option<Self>;
}

/// The columns of a result: their names, and their types where these are known.
///
/// ```
/// use backwater::{Cache, FromRow, Result, ResultColumns, RowValue, Schema, Value};
///
/// /// What `#[derive(Row)]` writes, by hand.
/// struct Late(i64);
///
/// impl FromRow for Late {
///     fn places(columns: &ResultColumns) -> Result<Box<[usize]>> {
///         Ok([columns.place::<i64>("delay_min")?].into())
///     }
///
///     fn read(values: &[Value], places: &[usize]) -> Result<Self> {
///         Ok(Self(i64::of_value(&values[places[0]]).unwrap_or(0)))
///     }
/// }
///
/// let cache = Cache::new(Schema::parse("s.toml", "table.sailing = { id = 'id', fields = { id = 'int', delay_min = 'int' } }")?);
/// let late = cache.query_of::<Late>("SELECT delay_min FROM sailing", ())?;
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
    pub fn place<T: RowValue>(&self, name: &str) -> Result<usize> {
        let place = self.0.iter().position(|(column, _)| column == name).ok_or_else(|| {
            let message = format!("the result has no column \"{name}\"");
            Error::new(ErrorKind::UnknownName, message)
                .help(nearest(name, self.0.iter().map(|(column, _)| column.as_str())))
        })?;
        self.check::<T>(place).map(|()| place)
    }

    /// Whether a column can be read as a type, as far as that is known.
    fn check<T: RowValue>(&self, place: usize) -> Result<()> {
        let (name, Some(held)) = &self.0[place] else { return Ok(()) };
        let fits = match (T::KIND, held) {
            (Kind::Int | Kind::OneOfNumbers(_), Held::Int | Held::Bool | Held::Links(_))
            | (Kind::Float, Held::Float | Held::Int)
            | (Kind::Bool, Held::Bool)
            | (Kind::Text | Kind::OneOf(_), Held::Text)
            | (Kind::Timestamp, Held::Timestamp)
            | (Kind::Json, Held::Json)
            | (_, Held::Link(_) | Held::OneOf)
            | (Kind::Link(_), _) => true,
            (found, _) => found == ANY,
        };
        if fits {
            return Ok(());
        }
        let held =
            Held::NAMES.iter().find(|(_, kind)| kind == held).map_or("int", |(name, _)| name);
        let message = format!("the column is of type {held}, and is read as {}", T::KIND.told());
        Err(Error::new(ErrorKind::Type, message).at(format!("column \"{name}\"")))
    }
}

/// Any value.
const ANY: Kind = Kind::OneOf(&[]);

macro_rules! value {
    ($($type:ty: $kind:expr, $($value:pat => $read:expr),*;)*) => {$(
        impl RowValue for $type {
            const KIND: Kind = $kind;

            fn of_value(value: &Value) -> Option<Self> {
                match value {
                    $($value => $read,)*
                    #[allow(unreachable_patterns)]
                    _ => None,
                }
            }
        }
    )*};
}

value! {
    i64: Kind::Int, Value::Int(number) => Some(*number), Value::Bool(flag) => Some((*flag).into());
    i32: Kind::Int, Value::Int(number) => (*number).try_into().ok();
    u32: Kind::Int, Value::Int(number) => (*number).try_into().ok();
    usize: Kind::Int, Value::Int(number) => (*number).try_into().ok();
    f64: Kind::Float, Value::Float(number) => Some(*number), Value::Int(number) => Some(*number as f64);
    bool: Kind::Bool, Value::Bool(flag) => Some(*flag), Value::Int(number) => Some(*number != 0);
    String: Kind::Text, Value::Text(text) => Some(text.to_string());
    Arc<str>: Kind::Text, Value::Text(text) => Some(text.clone());
    Timestamp: Kind::Timestamp, Value::Timestamp(time) => Some(*time), Value::Text(text) => text.parse().ok();
    Json: Kind::Json, Value::Json(json) => Some(json.clone());
    Value: ANY, value => Some(value.clone());
}

impl<T: RowValue> RowValue for Option<T> {
    const KIND: Kind = T::KIND;

    fn of_value(value: &Value) -> Option<Self> {
        if value.is_null() { Some(None) } else { T::of_value(value).map(Some) }
    }
}

impl<T: Table> RowValue for Id<T> {
    const KIND: Kind = Kind::Link(T::TABLE);

    fn of_value(value: &Value) -> Option<Self> {
        let id = match value {
            Value::Int(number) => RowId::Int(*number),
            // The id of several parts, as SQL has it.
            Value::Text(text) => {
                let parts = T::SHAPE.id.len() > 1;
                let json = parts.then(|| Json::parse(text).ok()).flatten();
                match json {
                    Some(json) => RowId::from_json(&json).ok()?,
                    None => RowId::Text(text.clone()),
                }
            }
            Value::Json(json) => RowId::from_json(json).ok()?,
            _ => return None,
        };
        T::Key::from_row_id(&id).map(Id::new)
    }
}

impl<T: Table> RowValue for Link<T> {
    const KIND: Kind = Kind::Link(T::TABLE);

    fn of_value(value: &Value) -> Option<Self> {
        Id::of_value(value).map(Link::from)
    }
}

/// Reads one value of a row; for `#[derive(Row)]`.
#[doc(hidden)]
pub fn value<T: RowValue>(values: &[Value], place: usize, name: &str) -> Result<T> {
    let found = values.get(place).unwrap_or(&Value::Null);
    T::of_value(found).ok_or_else(|| {
        let message = match found {
            Value::Null => format!("found NULL, expected {}", T::KIND.told()),
            _ => format!("found {} ({found}), expected {}", found.kind(), T::KIND.told()),
        };
        let help = if found.is_null() { "make the field an Option" } else { "" };
        Error::new(ErrorKind::Type, message).at(format!("column \"{name}\"")).help(help)
    })
}

macro_rules! tuple {
    ($count:literal: $($part:ident $place:tt),*) => {
        impl<$($part: RowValue),*> FromRow for ($($part,)*) {
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
pub struct QueryOf<T> {
    query: Query,
    places: Arc<[usize]>,
    of: PhantomData<fn() -> T>,
}

impl<T: FromRow> QueryOf<T> {
    pub(crate) fn new(query: Query) -> Result<Self> {
        let node = query.node();
        let outputs = node.asked.plan.outputs.iter();
        let columns: Vec<_> = outputs.map(|of| (of.name.clone(), of.declared)).collect();
        let places = T::places(&ResultColumns(&columns)).map_err(|error| error.at(query.name()))?;
        Ok(Self { query, places: places.into(), of: PhantomData })
    }

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
    /// As [`QueryOf::rows`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// let count = cache.query_of::<(i64,)>("SELECT count(*) FROM port", ())?;
    /// assert_eq!(count.first()?, Some((0,)));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn first(&self) -> Result<Option<T>> {
        self.query.read()?.row(0).map(|row| self.row(row.values())).transpose()
    }

    /// The rows of a result of this query, such as the one before a delta.
    ///
    /// # Errors
    /// As [`QueryOf::rows`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// let ports = cache.query_of::<(String,)>("SELECT code FROM port", ())?;
    /// let before = ports.read()?;
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// assert_eq!((ports.rows_of(&before)?.len(), ports.rows()?.len()), (0, 1));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn rows_of(&self, result: &QueryResult) -> Result<Vec<T>> {
        result.rows().map(|row| self.row(row.values())).collect()
    }

    /// One row of it, given as values, such as one of a delta.
    ///
    /// # Errors
    /// As [`QueryOf::rows`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// let ports = cache.query_of::<(String,)>("SELECT code FROM port", ())?;
    /// let _kept = ports.keep_up();
    /// let report = cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// let entered = report.delta(&ports).unwrap().rows().next().unwrap().after().unwrap();
    /// assert_eq!(ports.row(entered.values())?, ("SAL".to_owned(),));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn row(&self, values: &[Value]) -> Result<T> {
        T::read(values, &self.places).map_err(|error| error.at(self.query.name()))
    }
}

impl<T> Deref for QueryOf<T> {
    type Target = Query;

    fn deref(&self) -> &Query {
        &self.query
    }
}

impl<T> Clone for QueryOf<T> {
    fn clone(&self) -> Self {
        Self { query: self.query.clone(), places: self.places.clone(), of: PhantomData }
    }
}

impl<T> fmt::Debug for QueryOf<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "QueryOf({})", self.query.name())
    }
}
