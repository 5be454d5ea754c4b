//! What looking for a row gives.

use smallvec::SmallVec;

/// A row that was looked for: complete, partly there, or missing.
///
/// As a field of a struct that has a part of a table, it is the row that a link points at, nested:
/// see [`ReadTable`](crate::typed::ReadTable).
///
/// ```
/// use backwater::{Cache, Found, Schema, Table};
///
/// #[derive(Debug, PartialEq, Table)]
/// struct Vessel {
///     #[table(id)]
///     name: String,
///     cars_max: i64,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Vessel>().build()?);
/// cache.commit("heard of", |tx| tx.insert("vessel", [("name", "Marram")]))?;
/// let snapshot = cache.snapshot();
/// let vessels = snapshot.table::<Vessel>()?;
/// match vessels.get("Marram") {
///     Found::Here(vessel) => println!("{} takes {} cars", vessel.name, vessel.cars_max),
///     Found::Partly(partly) => assert_eq!(partly.absent().collect::<Vec<_>>(), ["cars_max"]),
///     Found::Missing => println!("no such vessel"),
///     Found::NotReady => println!("the vessels are being read"),
/// }
/// assert!(vessels.get("Lantern").is_missing());
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq)]
pub enum Found<T> {
    /// All of it is loaded.
    Here(T),
    /// The row is there, but lacks fields that the struct has.
    Partly(Partly<T>),
    /// There is no such row.
    Missing,
    /// Whether there is such a row is not known yet, as those of its table are not loaded: see
    /// [`CacheBuilder::load_first`](crate::CacheBuilder::load_first).
    NotReady,
}

/// Why a field of a struct cannot be read from a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum FieldProblem {
    /// No response has had it yet.
    Absent,
    /// It is null, and the struct has no `Option` there.
    Null,
    /// It holds something that the struct's type cannot: a text that is none of an enum's, a
    /// number that is too large.
    Unfit,
    /// The row is nested inside of itself, or deeper than 64 levels.
    Endless,
}

/// A row of which some fields cannot be read.
///
/// See [`Found`] for an example.
#[derive(Debug, Clone, PartialEq)]
pub struct Partly<T> {
    pub(super) row: Option<T>,
    pub(super) problems: SmallVec<[(&'static str, FieldProblem); 2]>,
}

impl<T> Partly<T> {
    /// The row, if the struct has an `Option` for all that is lacking.
    ///
    /// See [`Found::known`] for an example.
    pub fn row(&self) -> Option<&T> {
        self.row.as_ref()
    }

    /// The fields that no response has had yet.
    ///
    /// See [`Found`] for an example.
    pub fn absent(&self) -> impl Iterator<Item = &'static str> {
        let problems = self.problems.iter();
        problems.filter(|(_, problem)| *problem == FieldProblem::Absent).map(|(field, _)| *field)
    }

    /// All fields that cannot be read, and why.
    ///
    /// ```
    /// # use backwater::{Cache, Found, Schema, Table, typed::FieldProblem};
    /// # #[derive(Debug, Table)] struct Vessel { #[table(id)] name: String, cars_max: i64 }
    /// # let cache = Cache::new(Schema::builder().table::<Vessel>().build()?);
    /// # cache.commit("heard of", |tx| tx.insert("vessel", [("name", "Marram")]))?;
    /// # let snapshot = cache.snapshot();
    /// let Found::Partly(partly) = snapshot.table::<Vessel>()?.get("Marram") else { panic!() };
    /// assert_eq!(partly.problems(), [("cars_max", FieldProblem::Absent)]);
    /// # let _ = Vessel { name: String::new(), cars_max: 1 }.cars_max;
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn problems(&self) -> &[(&'static str, FieldProblem)] {
        &self.problems
    }
}

impl<T> Found<T> {
    /// The row, if it is complete.
    ///
    /// ```
    /// assert_eq!(backwater::Found::Here(7).here(), Some(7));
    /// ```
    pub fn here(self) -> Option<T> {
        match self {
            Found::Here(row) => Some(row),
            Found::Partly(_) | Found::Missing | Found::NotReady => None,
        }
    }

    /// The row as far as it is known: `None` stands for a field that is absent, where the struct
    /// has an `Option`.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Table};
    /// #[derive(Debug, PartialEq, Table)]
    /// struct Vessel {
    ///     #[table(id)]
    ///     name: String,
    ///     cars_max: Option<i64>,
    /// }
    /// # let cache = Cache::new(Schema::builder().table::<Vessel>().build()?);
    /// cache.commit("heard of", |tx| tx.insert("vessel", [("name", "Marram")]))?;
    /// let snapshot = cache.snapshot();
    /// let found = snapshot.table::<Vessel>()?.get("Marram");
    /// assert_eq!(found.clone().here(), None);
    /// assert_eq!(found.known(), Some(Vessel { name: "Marram".into(), cars_max: None }));
    /// # impl Clone for Vessel { fn clone(&self) -> Self { Self { name: self.name.clone(), cars_max: self.cars_max } } }
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn known(self) -> Option<T> {
        match self {
            Found::Here(row) => Some(row),
            Found::Partly(partly) => partly.row,
            Found::Missing | Found::NotReady => None,
        }
    }

    /// Whether there is no such row.
    ///
    /// See [`Found`] for an example.
    pub fn is_missing(&self) -> bool {
        matches!(self, Found::Missing)
    }
}
