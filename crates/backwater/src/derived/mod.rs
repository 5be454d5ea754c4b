//! Derived values: memoized Rust functions over tables, queries and other derived values.

// This room knows what a function read, and when that last changed. It must not know how a query is
// kept current, nor notify: a derived value is brought up to date when it is read.

mod node;
mod reader;
mod reads;
mod tracked;

use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::FxBuildHasher;
use std::collections::HashMap;

use crate::error::Result;
use node::DerivedNode;
pub(crate) use node::Evaluation;
pub use reader::Reader;
pub use tracked::TrackedRows;

use crate::query::Published;

/// This many values of a derived value with a parameter are kept without a handle.
const MOST: usize = 1 << 16;

/// A derived value: a Rust function over tables, queries and other derived values, whose result is
/// kept until something that it read has changed.
///
/// It runs when it is read and only then. What it read is recorded, by row and field; at the next
/// call these reads are checked in their order, up to the first that changed. If none has, the same
/// object is returned; if one has, the function runs again, and if its result equals the old one,
/// values that depend on it need not run.
///
/// The function returns a [`Result`]; an error, or a panic in it, is this value's
/// alone, and stays until something that it read has changed.
///
/// ```
/// use backwater::{Cache, Schema, Table};
///
/// #[derive(Table)]
/// struct Sailing {
///     #[table(id)]
///     id: i64,
///     port: String,
///     delay_min: i64,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Sailing>().build()?);
/// cache.commit("announced", |tx| {
///     let mut sailings = tx.table::<Sailing>()?;
///     sailings.insert(&Sailing { id: 311, port: "SAL".into(), delay_min: 20 })?;
///     sailings.insert(&Sailing { id: 312, port: "EEL".into(), delay_min: 0 })
/// })?;
/// let late = cache.derived("late sailings", |read| {
///     let sailings = read.table::<Sailing>()?;
///     Ok(sailings.here().filter(|sailing| sailing.delay_min > 5).map(|sailing| sailing.id).collect::<Vec<_>>())
/// });
/// let headline = {
///     let late = late.clone();
///     cache.derived("headline", move |read| Ok(format!("{} sailings are late", read.derived(&late)?.len())))
/// };
/// assert_eq!(*headline.get()?, "1 sailings are late");
///
/// // Another delay, and the same list: the headline need not run.
/// cache.commit("delay reported", |tx| tx.table::<Sailing>()?.write(311, Sailing::DELAY_MIN, 25))?;
/// assert_eq!(*headline.get()?, "1 sailings are late");
/// assert_eq!((late.runs(), headline.runs()), (2, 1));
/// # let _ = Sailing { id: 1, port: String::new(), delay_min: 1 }.port;
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct Derived<T>(Arc<DerivedNode<T>>);

impl<T: PartialEq + Send + Sync + 'static> Derived<T> {
    pub(crate) fn new(
        published: Arc<Published>,
        evaluation: Arc<Evaluation>,
        name: Arc<str>,
        function: impl Fn(&Reader) -> Result<T> + Send + Sync + 'static,
    ) -> Self {
        Self(Arc::new(DerivedNode::new(published, evaluation, name, Box::new(function))))
    }

    /// The value as of the last commit. While nothing that it read has changed, this is the same
    /// object.
    ///
    /// # Errors
    /// What the function returns, [`ErrorKind::Result`](crate::ErrorKind::Result) if it panicked,
    /// or [`ErrorKind::Circle`](crate::ErrorKind::Circle) if it reads itself, also by way of
    /// others.
    ///
    /// See [`Derived`] for an example.
    pub fn get(&self) -> Result<Arc<T>> {
        self.0.get()
    }

    /// How often the function has run.
    ///
    /// See [`Derived`] for an example.
    pub fn runs(&self) -> u64 {
        self.0.runs()
    }

    /// Whether it is one of the cache's whose results are published there.
    pub(crate) fn is_of(&self, published: &Arc<Published>) -> bool {
        self.0.is_of(published)
    }

    /// What it is called.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "")?);
    /// assert_eq!(cache.derived("seven", |_| Ok(7)).name(), "seven");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn name(&self) -> &str {
        self.0.name()
    }
}

impl<T> Clone for Derived<T> {
    fn clone(&self) -> Self {
        Self(self.0.clone())
    }
}

/// Handles are equal if one is a clone of the other.
impl<T> PartialEq for Derived<T> {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl<T> Eq for Derived<T> {}

impl<T> Hash for Derived<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        Arc::as_ptr(&self.0).hash(state);
    }
}

impl<T> fmt::Debug for Derived<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Derived({})", self.0.name())
    }
}

/// Derived values of one function, one for each value of its parameter.
///
/// Each is kept for as long as a handle to it exists; of the others, the 65,536 that were read
/// last.
///
/// ```
/// use backwater::{Cache, Id, Schema, Table};
///
/// #[derive(Table)]
/// struct Vessel {
///     #[table(id)]
///     name: String,
///     cars_max: i64,
/// }
///
/// let cache = Cache::new(Schema::builder().table::<Vessel>().build()?);
/// cache.commit("fleet loaded", |tx| {
///     let mut vessels = tx.table::<Vessel>()?;
///     vessels.insert(&Vessel { name: "Marram".into(), cars_max: 42 })?;
///     vessels.insert(&Vessel { name: "Lantern".into(), cars_max: 8 })
/// })?;
/// let label = cache.derived_by("vessel label", |read, vessel: &Id<Vessel>| {
///     let vessel = read.table::<Vessel>()?.get(vessel).here();
///     Ok(vessel.map_or("…".to_owned(), |vessel| format!("{}, {} cars", vessel.name, vessel.cars_max)))
/// });
/// let marram = label.of(Id::new("Marram"));
/// assert_eq!(*marram.get()?, "Marram, 42 cars");
/// // Another vessel is none of its business.
/// cache.commit("refitted", |tx| tx.table::<Vessel>()?.write("Lantern", Vessel::CARS_MAX, 12))?;
/// marram.get()?;
/// assert_eq!(marram.runs(), 1);
/// assert_eq!(*label.of(Id::new("Lantern")).get()?, "Lantern, 12 cars");
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct DerivedBy<P, T>(Arc<Family<P, T>>);

struct Family<P, T> {
    published: Arc<Published>,
    evaluation: Arc<Evaluation>,
    name: Arc<str>,
    function: Function<P, T>,
    known: Mutex<Known<P, T>>,
}

type Function<P, T> = Arc<dyn Fn(&Reader, &P) -> Result<T> + Send + Sync>;

/// The values that are kept, each with when it was last read.
struct Known<P, T> {
    values: HashMap<P, (Derived<T>, u64), FxBuildHasher>,
    turn: u64,
}

impl<P, T> DerivedBy<P, T>
where
    P: Clone + Eq + Hash + fmt::Debug + Send + Sync + 'static,
    T: PartialEq + Send + Sync + 'static,
{
    pub(crate) fn new(
        published: Arc<Published>,
        evaluation: Arc<Evaluation>,
        name: Arc<str>,
        function: impl Fn(&Reader, &P) -> Result<T> + Send + Sync + 'static,
    ) -> Self {
        let known = Mutex::new(Known { values: HashMap::default(), turn: 0 });
        Self(Arc::new(Family { published, evaluation, name, function: Arc::new(function), known }))
    }

    /// The derived value for a value of the parameter.
    ///
    /// See [`DerivedBy`] for an example.
    pub fn of(&self, param: P) -> Derived<T> {
        let mut known = self.0.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.turn += 1;
        let turn = known.turn;
        if let Some((derived, last)) = known.values.get_mut(&param) {
            *last = turn;
            return derived.clone();
        }
        if known.values.len() >= 2 * MOST {
            known.values.retain(|_, (derived, last)| {
                Arc::strong_count(&derived.0) > 1 || *last + MOST as u64 > turn
            });
        }
        let (function, of) = (self.0.function.clone(), param.clone());
        let name = format!("{} of {param:?}", self.0.name).into();
        let (published, evaluation) = (self.0.published.clone(), self.0.evaluation.clone());
        let derived = Derived::new(published, evaluation, name, move |read| function(read, &of));
        known.values.insert(param, (derived.clone(), turn));
        derived
    }
}

impl<P, T> Clone for DerivedBy<P, T> {
    fn clone(&self) -> Self {
        Self(self.0.clone())
    }
}

impl<P, T> fmt::Debug for DerivedBy<P, T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "DerivedBy({})", self.0.name)
    }
}
