//! Ids of one table's rows, and links to them.

use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::ops::Deref;
use std::sync::Arc;

use super::Table;
use crate::value::{RowId, Value};

/// What an id of a table is made of: `i64`, `Arc<str>`, an [`Id`] of another table, or a tuple of
/// these.
///
/// ```
/// use backwater::{RowId, typed::Key};
///
/// assert_eq!(311_i64.to_row_id(), RowId::from(311));
/// assert_eq!(<(i64, i64)>::from_row_id(&RowId::from((311, 7))), Some((311, 7)));
/// ```
pub trait Key: sealed::Key + Clone + Eq + Hash + Ord + fmt::Debug + Send + Sync + 'static {
    /// The id as a table has it.
    fn to_row_id(&self) -> RowId;

    /// The key that an id is; `None` if it is one of another type.
    fn from_row_id(id: &RowId) -> Option<Self>;
}

mod sealed {
    /// What may be an id is known here.
    pub trait Key {}
}

impl sealed::Key for i64 {}
impl sealed::Key for std::sync::Arc<str> {}
impl<T: Table> sealed::Key for Id<T> {}
impl sealed::Key for () {}

impl Key for i64 {
    fn to_row_id(&self) -> RowId {
        RowId::Int(*self)
    }

    fn from_row_id(id: &RowId) -> Option<Self> {
        match id {
            RowId::Int(number) => Some(*number),
            _ => None,
        }
    }
}

impl Key for Arc<str> {
    fn to_row_id(&self) -> RowId {
        RowId::Text(self.clone())
    }

    fn from_row_id(id: &RowId) -> Option<Self> {
        match id {
            RowId::Text(text) => Some(text.clone()),
            _ => None,
        }
    }
}

impl<T: Table> Key for Id<T> {
    fn to_row_id(&self) -> RowId {
        self.0.to_row_id()
    }

    fn from_row_id(id: &RowId) -> Option<Self> {
        T::Key::from_row_id(id).map(Self)
    }
}

/// A one-row table's row needs no id.
impl Key for () {
    fn to_row_id(&self) -> RowId {
        RowId::Parts(Arc::default())
    }

    fn from_row_id(_: &RowId) -> Option<Self> {
        None
    }
}

macro_rules! key_of_parts {
    ($($part:ident $place:tt),*) => {
        impl<$($part: Key),*> sealed::Key for ($($part,)*) {}

        impl<$($part: Key),*> Key for ($($part,)*) {
            fn to_row_id(&self) -> RowId {
                RowId::Parts([$(self.$place.to_row_id()),*].into())
            }

            fn from_row_id(id: &RowId) -> Option<Self> {
                match id {
                    RowId::Parts(parts) => Some(($($part::from_row_id(parts.get($place)?)?,)*)),
                    _ => None,
                }
            }
        }
    };
}

key_of_parts!(A 0, B 1);
key_of_parts!(A 0, B 1, C 2);

/// The id of a row of one table. The compiler keeps ids of different tables apart.
///
/// ```
/// use backwater::{Id, Table};
///
/// #[derive(Table)]
/// struct Vessel {
///     #[table(id)]
///     name: String,
/// }
///
/// #[derive(Table)]
/// struct Sailing {
///     #[table(id = "int")]
///     id: Id<Sailing>,
/// }
///
/// let sailing: Id<Sailing> = Id::new(311);
/// let vessel = Id::<Vessel>::new("Marram");
/// assert_eq!((sailing.to_string(), vessel.to_string()), ("311".to_owned(), "Marram".to_owned()));
/// // `vessel == sailing` does not compile.
/// # let _ = Sailing { id: sailing };
/// # let _ = Vessel { name: String::new() };
/// ```
pub struct Id<T: Table>(T::Key);

impl<T: Table> Id<T> {
    /// The id that is made of a key: a number, a text, or a tuple of such parts.
    ///
    /// See [`Id`] for an example.
    pub fn new(key: impl Into<T::Key>) -> Self {
        Self(key.into())
    }

    /// What the id is made of.
    ///
    /// ```
    /// # use backwater::{Id, Table};
    /// # #[derive(Table)] struct Sailing { #[table(id)] id: i64 }
    /// assert_eq!(*Id::<Sailing>::new(311).key(), 311);
    /// # let _ = Sailing { id: 1 }.id;
    /// ```
    pub fn key(&self) -> &T::Key {
        &self.0
    }
}

impl<T: Table> Clone for Id<T> {
    fn clone(&self) -> Self {
        Self(self.0.clone())
    }
}

impl<T: Table<Key: Copy>> Copy for Id<T> {}

impl<T: Table> PartialEq for Id<T> {
    fn eq(&self, other: &Self) -> bool {
        self.0 == other.0
    }
}

impl<T: Table> Eq for Id<T> {}

impl<T: Table> Hash for Id<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.0.hash(state);
    }
}

impl<T: Table> PartialOrd for Id<T> {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl<T: Table> Ord for Id<T> {
    fn cmp(&self, other: &Self) -> Ordering {
        self.0.cmp(&other.0)
    }
}

impl<T: Table> fmt::Display for Id<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.to_row_id().fmt(f)
    }
}

/// With the table's name: `sailing 311`.
impl<T: Table> fmt::Debug for Id<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", T::TABLE, self.0.to_row_id())
    }
}

impl<T: Table> From<&Id<T>> for RowId {
    fn from(id: &Id<T>) -> Self {
        id.0.to_row_id()
    }
}

impl<T: Table> From<Id<T>> for RowId {
    fn from(id: Id<T>) -> Self {
        id.0.to_row_id()
    }
}

impl<T: Table> From<Id<T>> for Value {
    fn from(id: Id<T>) -> Self {
        RowId::from(id).into()
    }
}

impl<T: Table> From<&Id<T>> for Value {
    fn from(id: &Id<T>) -> Self {
        RowId::from(id).into()
    }
}

impl<T: Table> From<Link<T>> for RowId {
    fn from(link: Link<T>) -> Self {
        link.key().to_row_id()
    }
}

impl<T: Table> From<&Link<T>> for RowId {
    fn from(link: &Link<T>) -> Self {
        link.key().to_row_id()
    }
}

impl<T: Table> From<Link<T>> for Value {
    fn from(link: Link<T>) -> Self {
        RowId::from(link).into()
    }
}

impl<T: Table> From<&Link<T>> for Value {
    fn from(link: &Link<T>) -> Self {
        RowId::from(link).into()
    }
}

/// What names a row of a table: its [`Id`], a [`Link`] to it, or the bare key.
///
/// ```
/// use backwater::{Id, Table, typed::IntoId};
///
/// #[derive(Table)]
/// struct Sailing {
///     #[table(id)]
///     id: i64,
/// }
///
/// let id: Id<Sailing> = 311.into_id();
/// assert_eq!(id, Id::new(311));
/// # let _ = Sailing { id: 1 }.id;
/// ```
#[diagnostic::on_unimplemented(
    message = "`{Self}` is no id of table `{T}`",
    label = "not an id of `{T}`"
)]
pub trait IntoId<T: Table> {
    /// The id.
    fn into_id(self) -> Id<T>;
}

impl<T: Table> IntoId<T> for Id<T> {
    fn into_id(self) -> Id<T> {
        self
    }
}

impl<T: Table> IntoId<T> for &Id<T> {
    fn into_id(self) -> Id<T> {
        self.clone()
    }
}

impl<T: Table> IntoId<T> for Link<T> {
    fn into_id(self) -> Id<T> {
        self.0
    }
}

impl<T: Table> IntoId<T> for &Link<T> {
    fn into_id(self) -> Id<T> {
        self.0.clone()
    }
}

impl<T: Table<Key = i64>> IntoId<T> for i64 {
    fn into_id(self) -> Id<T> {
        Id(self)
    }
}

impl<T: Table<Key = i64>> IntoId<T> for i32 {
    fn into_id(self) -> Id<T> {
        Id(self.into())
    }
}

impl<T: Table<Key = Arc<str>>> IntoId<T> for &str {
    fn into_id(self) -> Id<T> {
        Id(self.into())
    }
}

impl<T: Table<Key = Arc<str>>> IntoId<T> for &String {
    fn into_id(self) -> Id<T> {
        Id(self.as_str().into())
    }
}

impl<T: Table<Key = Arc<str>>> IntoId<T> for String {
    fn into_id(self) -> Id<T> {
        Id(self.into())
    }
}

impl<T: Table<Key = Arc<str>>> IntoId<T> for Arc<str> {
    fn into_id(self) -> Id<T> {
        Id(self)
    }
}

impl<T: Table<Key = (A, B)>, A: Key, B: Key> IntoId<T> for (A, B) {
    fn into_id(self) -> Id<T> {
        Id(self)
    }
}

impl<T: Table<Key = (A, B, C)>, A: Key, B: Key, C: Key> IntoId<T> for (A, B, C) {
    fn into_id(self) -> Id<T> {
        Id(self)
    }
}

/// A to-one link: the id of a row of another table, which may or may not be here.
///
/// As a field of a [`Table`], `Link<Vessel>` is never null; one that may be is
/// `Option<Link<Vessel>>`.
///
/// ```
/// use backwater::{Cache, Id, Link, Schema, Table};
///
/// #[derive(Table)]
/// struct Vessel {
///     #[table(id)]
///     name: String,
///     cars_max: i64,
/// }
///
/// #[derive(Table)]
/// struct Sailing {
///     #[table(id)]
///     id: i64,
///     vessel: Link<Vessel>,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Vessel>().table::<Sailing>().build()?);
/// cache.commit("announced", |tx| {
///     tx.table::<Vessel>()?.insert(&Vessel { name: "Marram".into(), cars_max: 42 })?;
///     tx.table::<Sailing>()?.insert(&Sailing { id: 311, vessel: Link::to("Marram") })
/// })?;
/// let snapshot = cache.snapshot();
/// let sailing = snapshot.table::<Sailing>()?.get(311).here().unwrap();
/// let vessel = snapshot.table::<Vessel>()?.get(&sailing.vessel).here().unwrap();
/// assert_eq!((sailing.id, vessel.name.as_str(), vessel.cars_max), (311, "Marram", 42));
/// assert_eq!(*sailing.vessel, Id::new("Marram"));
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct Link<T: Table>(Id<T>);

impl<T: Table> Link<T> {
    /// A link to the row with that id.
    ///
    /// See [`Link`] for an example.
    pub fn to(id: impl IntoId<T>) -> Self {
        Self(id.into_id())
    }
}

impl<T: Table> Deref for Link<T> {
    type Target = Id<T>;

    fn deref(&self) -> &Id<T> {
        &self.0
    }
}

impl<T: Table> Clone for Link<T> {
    fn clone(&self) -> Self {
        Self(self.0.clone())
    }
}

impl<T: Table<Key: Copy>> Copy for Link<T> {}

impl<T: Table> PartialEq for Link<T> {
    fn eq(&self, other: &Self) -> bool {
        self.0 == other.0
    }
}

impl<T: Table> Eq for Link<T> {}

impl<T: Table> Hash for Link<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.0.hash(state);
    }
}

impl<T: Table> fmt::Debug for Link<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "-> {:?}", self.0)
    }
}

impl<T: Table> From<Id<T>> for Link<T> {
    fn from(id: Id<T>) -> Self {
        Self(id)
    }
}

/// A to-many link: the ids of rows of another table, in their order.
///
/// ```
/// use backwater::{Cache, Links, Schema, Table};
///
/// #[derive(Table)]
/// struct Port {
///     #[table(id)]
///     code: String,
/// }
///
/// #[derive(Table)]
/// struct Route {
///     #[table(id)]
///     id: i64,
///     stops: Links<Port>,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Port>().table::<Route>().build()?);
/// cache.commit("a route opened", |tx| {
///     tx.table::<Route>()?.insert(&Route { id: 4, stops: Links::to(["SAL", "EEL"]) })
/// })?;
/// let route = cache.snapshot().table::<Route>()?.get(4).here().unwrap();
/// assert_eq!((route.id, route.stops.len(), route.stops[1].to_string()), (4, 2, "EEL".to_owned()));
/// # let _ = Port { code: String::new() }.code;
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct Links<T: Table>(Vec<Id<T>>);

impl<T: Table> Links<T> {
    /// Links to the rows with these ids, in this order.
    ///
    /// See [`Links`] for an example.
    pub fn to<I: IntoId<T>>(ids: impl IntoIterator<Item = I>) -> Self {
        Self(ids.into_iter().map(IntoId::into_id).collect())
    }
}

impl<T: Table> Deref for Links<T> {
    type Target = Vec<Id<T>>;

    fn deref(&self) -> &Vec<Id<T>> {
        &self.0
    }
}

impl<T: Table> std::ops::DerefMut for Links<T> {
    fn deref_mut(&mut self) -> &mut Vec<Id<T>> {
        &mut self.0
    }
}

impl<T: Table> Clone for Links<T> {
    fn clone(&self) -> Self {
        Self(self.0.clone())
    }
}

impl<T: Table> Default for Links<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

impl<T: Table> PartialEq for Links<T> {
    fn eq(&self, other: &Self) -> bool {
        self.0 == other.0
    }
}

impl<T: Table> Eq for Links<T> {}

impl<T: Table> fmt::Debug for Links<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(&self.0).finish()
    }
}

impl<T: Table> FromIterator<Id<T>> for Links<T> {
    fn from_iter<I: IntoIterator<Item = Id<T>>>(ids: I) -> Self {
        Self(ids.into_iter().collect())
    }
}
