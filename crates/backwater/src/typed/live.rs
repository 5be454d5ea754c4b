//! A list of structs that follows a standing query.

use std::fmt;
use std::ops::Deref;
use std::task::Waker;

use super::{FromRow, TypedQuery};
use crate::error::Result;
use crate::query::{Delta, DeltaRow, QueryResult, Step, apply_all};
use crate::trace::{DeltaStream, waker};

/// The rows of a standing query as a list of structs or tuples that follows it; see
/// [`Cache::live`](crate::Cache::live).
///
/// The list is a view's own: it changes when [`LiveRows::update`] is called, and not before. It
/// reads like a slice.
///
/// ```
/// use std::sync::Arc;
/// use std::sync::atomic::{AtomicBool, Ordering};
///
/// use backwater::{Cache, FromRow, Schema, delta::Step};
///
/// #[derive(FromRow)]
/// struct Late {
///     id: i64,
///     delay_min: i64,
/// }
///
/// # let cache = Cache::new(Schema::parse("s.toml", "table.sailing = { id = 'id', fields = { id = 'int', delay_min = 'int' } }")?);
/// let late = cache.query("SELECT id, delay_min FROM sailing WHERE delay_min > 5", ())?.typed::<Late>()?;
/// let redraw = Arc::new(AtomicBool::new(false)); // a toolkit's call that asks for a repaint
/// let asked = redraw.clone();
/// let mut rows = cache.live(&late, move || asked.store(true, Ordering::Release))?;
///
/// cache.commit("delay reported", |tx| tx.insert("sailing", [("id", 311), ("delay_min", 15)]))?;
/// assert!(redraw.load(Ordering::Acquire));
///
/// // Where the program draws:
/// let steps = rows.update()?;
/// assert_eq!(steps, [Step::Insert { at: 0, row: () }]); // a row to light up
/// assert_eq!((rows.len(), rows[0].id, rows[0].delay_min), (1, 311, 15));
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct LiveRows<T> {
    rows: Vec<T>,
    query: TypedQuery<T>,
    deltas: DeltaStream,
    waker: Waker,
    /// The result that the list shows, and the one that it should: a row of that cannot be read.
    unread: Option<(QueryResult, QueryResult)>,
}

impl<T: FromRow> LiveRows<T> {
    pub(crate) fn of(
        (start, deltas): (QueryResult, DeltaStream),
        query: &TypedQuery<T>,
        wake: impl Fn() + Send + Sync + 'static,
    ) -> Result<Self> {
        let (rows, waker) = (query.rows_of(&start)?, waker(wake));
        let mut live = Self { rows, query: query.clone(), deltas, waker, unread: None };
        // From here on it is woken.
        live.update()?;
        Ok(live)
    }

    /// Applies what happened since the last call and returns the steps in order, so that a view can
    /// update its own rows, or highlight what is new. The list has them already.
    ///
    /// # Errors
    /// Why the query's result cannot be computed, or a row of it not be read as the struct. The
    /// list stays as it was, each call returns the error, and once the result can be read the list
    /// follows again.
    ///
    /// See [`LiveRows`] for an example.
    pub fn update(&mut self) -> Result<Vec<Step<()>>> {
        let mut taken = Vec::new();
        self.update_with(|step| taken.push(step.map(|_| ())))?;
        Ok(taken)
    }

    /// The same, with what the query says of each row: whether it entered, changed or moved, which
    /// columns, and what it was before.
    ///
    /// # Errors
    /// As [`LiveRows::update`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, delta::Step};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }")?);
    /// # cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL"), ("name", "Saltmer")]))?;
    /// let ports = cache.query("SELECT code, name FROM port", ())?.typed::<(String, String)>()?;
    /// let mut rows = cache.live(&ports, || {})?;
    /// cache.commit("renamed", |tx| tx.update("port", "SAL", [("name", "Saltmere")]))?;
    /// rows.update_with(|step| match step {
    ///     Step::Set { at, row } => println!("{at}: {} changed", row.columns().join(", ")),
    ///     _ => {}
    /// })?;
    /// assert_eq!(rows[0].1, "Saltmere");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn update_with(&mut self, mut each: impl FnMut(Step<DeltaRow<'_>>)) -> Result<()> {
        loop {
            let delta = match (self.deltas.next(Some(&self.waker)).transpose()?, &self.unread) {
                (Some(delta), Some((shown, _))) => Delta::between(shown, delta.after()),
                (Some(delta), None) => delta,
                (None, unread) => match (self.deltas.failure(), unread) {
                    (Some(failure), _) => return Err(failure.clone()),
                    (None, Some((shown, after))) => Delta::between(shown, after),
                    (None, None) => return Ok(()),
                },
            };
            self.unread = Some((delta.before().clone(), delta.after().clone()));
            let steps = self.query.steps(&delta)?;
            self.unread = None;
            apply_all(steps, &mut self.rows);
            delta.steps().for_each(&mut each);
        }
    }

    /// The query that the list follows.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.vessel = { id = 'name', fields = { name = 'text' } }")?);
    /// # cache.commit("a vessel came", |tx| tx.insert("vessel", [("name", "Marram")]))?;
    /// let found = cache.query("SELECT name FROM vessel WHERE contains(name, :text)", [("text", "x")])?;
    /// let mut rows = cache.live(&found.typed::<(String,)>()?, || {})?;
    /// cache.rebind("letter typed", rows.query(), [("text", "m")])?;
    /// rows.update()?;
    /// assert_eq!(rows[0].0, "Marram");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn query(&self) -> &TypedQuery<T> {
        &self.query
    }
}

impl<T> Deref for LiveRows<T> {
    type Target = [T];

    fn deref(&self) -> &[T] {
        &self.rows
    }
}

impl<'l, T> IntoIterator for &'l LiveRows<T> {
    type Item = &'l T;
    type IntoIter = std::slice::Iter<'l, T>;

    fn into_iter(self) -> Self::IntoIter {
        self.rows.iter()
    }
}

impl<T> fmt::Debug for LiveRows<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "LiveRows({} of {:?})", self.rows.len(), self.query)
    }
}
