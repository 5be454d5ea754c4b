//! Results as a reader holds them: immutable, consistent, and computed where they are looked at.

pub(in crate::query) mod delta;
pub(in crate::query) mod missing;
pub(in crate::query) mod read_rows;
#[cfg(feature = "remote")]
pub(crate) mod reads;

use std::fmt;
use std::ops::Range;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, Weak};

use crate::query::expr::scalar::{Key, Scalar};
use crate::query::expr::{Columns, Expr};
use crate::query::operator::order::ordered::{LeafOf, Ordered, Slots, of_tables};
use crate::query::operator::order::sort_prefix::whole;
use crate::query::operator::view::{ShownTuple, View};
use crate::query::plan::BoundPlan;
use crate::query::result::missing::{Missing, missing};
use crate::query::result::read_rows::{ReadRows, Row};
use crate::query::work::Failure;
use smallvec::SmallVec;

use crate::error::{Error, ErrorKind, Result, nearest};
use crate::table::{Slot, State};
use crate::value::Value;

/// What is published of a binding: its result, of which readers share one object.
pub(crate) struct Entry {
    bound_plan: Arc<BoundPlan>,
    pub(crate) ordered: Result<Ordered, Failure>,
    last: Mutex<Weak<ResultInner>>,
    /// Identifies the object whose rows these are.
    serial: u64,
}

impl Entry {
    pub(crate) fn new(bound_plan: Arc<BoundPlan>, ordered: Result<Ordered, Failure>) -> Self {
        static SERIAL: AtomicU64 = AtomicU64::new(0);
        let serial = SERIAL.fetch_add(1, Ordering::Relaxed);
        Self { bound_plan, ordered, last: Mutex::default(), serial }
    }

    /// The entry after a commit that moved nothing in its excerpt: it goes on giving the object that
    /// readers hold.
    pub(crate) fn with_same_rows(&self, ordered: Ordered) -> Self {
        Self {
            bound_plan: self.bound_plan.clone(),
            ordered: Ok(ordered),
            last: Mutex::new(self.last.lock().unwrap_or_else(PoisonError::into_inner).clone()),
            serial: self.serial,
        }
    }

    /// What the result lacks in that version of the tables; nothing, if it cannot be computed.
    pub(crate) fn missing(&self, state: &State, most: usize) -> Option<Missing> {
        Some(missing(&self.bound_plan, self.ordered.as_ref().ok()?, state, most))
    }

    #[cfg(feature = "remote")]
    pub(crate) fn serial(&self) -> u64 {
        self.serial
    }

    /// What the result reads of that version of the tables, there or not.
    #[cfg(feature = "remote")]
    pub(crate) fn reads(&self, state: &State, most: usize) -> reads::ReadScopes {
        reads::reads(&self.bound_plan, self.ordered.as_ref().ok(), state, most)
    }

    /// The result, as the same object for as long as a reader holds it.
    ///
    /// `state` is any version between the last commit that reached the binding and the next one:
    /// the rows of the result read the same in all of them.
    pub(crate) fn result(&self, state: &Arc<State>) -> Result<QueryResult> {
        let ordered = self.ordered.as_ref().map_err(Failure::error)?;
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        let known = last.upgrade();
        if let Some(inner) = &known
            && Arc::ptr_eq(&inner.state, state)
        {
            return Ok(QueryResult(inner.clone()));
        }
        // Its rows are the same in this version of the tables; the one from before need not be kept.
        let inner = Arc::new(ResultInner {
            bound_plan: self.bound_plan.clone(),
            ordered: ordered.clone(),
            state: state.clone(),
            rows: known.map(|inner| inner.rows.clone()).unwrap_or_default(),
            serial: self.serial,
        });
        *last = Arc::downgrade(&inner);
        Ok(QueryResult(inner))
    }
}

/// The rows of a standing query as of one commit. It never changes; a later commit makes another
/// one, which shares with this one what did not change.
///
/// ```
/// # use backwater::{Cache, Schema, Value};
/// # let cache = Cache::new(Schema::parse("s.toml", r#"
/// #     table.sailing = { id = "id", fields = { id = "int", delay_min = "int" } }
/// # "#)?);
/// # cache.commit("sailings announced", |tx| {
/// #     tx.insert("sailing", [("id", 311), ("delay_min", 15)])?;
/// #     tx.insert("sailing", [("id", 312), ("delay_min", 0)])
/// # })?;
/// let late = cache.query("SELECT id, delay_min FROM sailing WHERE delay_min > :over", [("over", 5)])?;
/// let result = late.read()?;
/// assert_eq!(result.columns().collect::<Vec<_>>(), ["id", "delay_min"]);
/// for row in result.rows() {
///     println!("{} is {} minutes late", row.get("id")?, row.get("delay_min")?);
/// }
/// assert_eq!(result.row(0).unwrap().values(), [Value::Int(311), Value::Int(15)]);
/// assert_eq!(result.rows().last().unwrap().position(), 0);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Clone)]
pub struct QueryResult(Arc<ResultInner>);

struct ResultInner {
    bound_plan: Arc<BoundPlan>,
    ordered: Ordered,
    state: Arc<State>,
    rows: Arc<ReadRows>,
    serial: u64,
}

impl QueryResult {
    /// How many rows there are.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// assert_eq!(cache.query("SELECT id FROM t", ())?.read()?.len(), 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn len(&self) -> usize {
        self.0.bound_plan.excerpt.len(self.0.ordered.len())
    }

    /// Whether there is no row.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// assert!(cache.query("SELECT id FROM t", ())?.read()?.is_empty());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The columns' names.
    ///
    /// See [`QueryResult`] for an example.
    pub fn columns(&self) -> impl Iterator<Item = &str> {
        self.0.bound_plan.plan.outputs.iter().map(|output| output.name.as_str())
    }

    /// The row at a position, counted from 0.
    ///
    /// See [`QueryResult`] for an example.
    pub fn row(&self, position: usize) -> Option<ResultRow<'_>> {
        Cursor::new(self).at(position).map(RowRef::row)
    }

    /// All rows in their order.
    ///
    /// See [`QueryResult`] for an example.
    pub fn rows(&self) -> impl Iterator<Item = ResultRow<'_>> {
        let mut cursor = Cursor::new(self);
        (0..self.len()).filter_map(move |position| cursor.at(position).map(RowRef::row))
    }

    /// Whether both are the same result, which no commit has changed in between, and so surely
    /// equal.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.port = { id = "code", fields = { code = "text", name = "text" } }
    /// #     table.vessel = { id = "name", fields = { name = "text" } }
    /// # "#)?);
    /// let ports = cache.query("SELECT count(*) FROM port", ())?;
    /// let before = ports.read()?;
    /// cache.commit("a vessel launched", |tx| tx.insert("vessel", [("name", "Marram")]))?;
    /// assert!(ports.read()?.is_same(&before));
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// assert!(!ports.read()?.is_same(&before));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn is_same(&self, other: &QueryResult) -> bool {
        self.0.serial == other.0.serial
    }

    /// What [`QueryResult::is_same`] compares.
    pub(crate) fn serial(&self) -> u64 {
        self.0.serial
    }

    /// The key of each row, and what it shows.
    pub(in crate::query) fn keyed(
        &self,
    ) -> impl Iterator<Item = (Box<[Key]>, Box<[Scalar<'static>]>)> {
        let start = self.0.bound_plan.excerpt.offset;
        (start..start + self.len()).filter_map(|rank| {
            let view = self.view();
            let (key, row) =
                self.0.ordered.statement_row(rank, &view, &self.0.bound_plan.params)?;
            Some((key, row.values))
        })
    }

    /// The tables that the result's rows lie in.
    fn view(&self) -> View<'_> {
        View { plan: &self.0.bound_plan.plan, state: &self.0.state, derived: &[] }
    }

    /// The rows of a tuple are shown.
    fn ask(&self, slots: &[Slot]) {
        for (source, slot) in self.0.bound_plan.plan.sources.iter().zip(slots) {
            if let Some(table) = source.relation.table() {
                self.0.state.table(table).note_read(*slot);
            }
        }
    }

    fn tuple(&self, slots: &[Slot]) -> Row {
        let view = self.view();
        let row = view.row(slots);
        let mut shown = ShownTuple::new(row);
        let outputs = self.0.bound_plan.plan.outputs.iter();
        outputs
            .map(|output| match &output.expr {
                Expr::Column(column) => shown.value(*column, output.declared),
                expr => expr.eval(&row, &self.0.bound_plan.params).into_value(output.declared),
            })
            .collect()
    }

    fn values<'a>(&'a self, row: &impl Columns<'a>) -> Row {
        let outputs = self.0.bound_plan.plan.outputs.iter();
        outputs
            .map(|output| {
                output.expr.eval(row, &self.0.bound_plan.params).into_value(output.declared)
            })
            .collect()
    }
}

/// Finds rows of a result by their positions, quickly where these lie close together.
pub(in crate::query) struct Cursor<'r> {
    result: &'r QueryResult,
    /// The leaf where it last looked, the ranks that lie there, and the place of the first one.
    leaf: Option<(LeafOf<'r>, Range<usize>, usize)>,
}

/// Where a row of a result is found.
#[derive(Clone, Copy)]
pub(in crate::query) struct RowRef<'r> {
    result: &'r QueryResult,
    position: usize,
    leaf: LeafOf<'r>,
    place: usize,
}

impl<'r> Cursor<'r> {
    pub(in crate::query) fn new(result: &'r QueryResult) -> Self {
        Self { result, leaf: None }
    }

    #[inline]
    pub(in crate::query) fn at(&mut self, position: usize) -> Option<RowRef<'r>> {
        let result = self.result;
        let excerpt = result.0.bound_plan.excerpt;
        if position >= excerpt.limit {
            return None;
        }
        let rank = excerpt.offset + position;
        let (leaf, place) = match &self.leaf {
            Some((leaf, ranks, first)) if ranks.contains(&rank) => {
                (*leaf, rank - ranks.start + first)
            }
            _ => {
                let ordered = &result.0.ordered;
                let (leaf, place) = ordered.leaf(rank)?;
                // Some at its ends may have left.
                let before = place.min(rank);
                let end = ordered.len().min(rank + leaf.len() - place);
                self.leaf = Some((leaf, rank - before..end, place - before));
                (leaf, place)
            }
        };
        Some(RowRef { result, position, leaf, place })
    }
}

impl<'r> RowRef<'r> {
    /// The row, which the result keeps once it was read.
    pub(in crate::query) fn row(self) -> ResultRow<'r> {
        self.row_kept(&self.result.0.rows, self.position, self.result.len())
    }

    /// The row, which `rows` keep by that number.
    pub(in crate::query) fn row_kept(
        self,
        rows: &'r ReadRows,
        number: usize,
        len: usize,
    ) -> ResultRow<'r> {
        let result = self.result;
        if result.0.state.keeps_times() {
            of_tables!(
                LeafOf, self.leaf,
                leaf => result.ask(leaf.entry(self.place).slots()),
                kept leaf, _ => { let _ = leaf; }
            );
        }
        let read = || {
            of_tables!(
                LeafOf, self.leaf,
                leaf => result.tuple(leaf.entry(self.place).slots()),
                kept leaf, given => result.values(&given.of(leaf.entry(self.place)))
            )
        };
        ResultRow { at: self, values: rows.row(number, len, read) }
    }

    #[inline]
    pub(in crate::query) fn key(&self) -> RowKey {
        let from_prefix = || of_tables!(LeafOf, self.leaf, leaf => whole(leaf.prefix(self.place)), kept _leaf, _ => None);
        match self.result.0.bound_plan.plan.is_by_id.then(from_prefix).flatten() {
            Some(id) => RowKey(SmallVec::from_buf([Value::Int(id)])),
            None => self.read_key(),
        }
    }

    /// The key as stored in its row.
    fn read_key(&self) -> RowKey {
        let view = self.result.view();
        let tuple = |slots: &[Slot]| {
            let mut key = RowKey::default();
            view.each_of_key(slots, |part| key.0.push(part.into_value(None)));
            key
        };
        of_tables!(
            LeafOf, self.leaf,
            leaf => tuple(leaf.entry(self.place).slots()),
            kept leaf, _ => {
                let parts = leaf.entry(self.place).key().iter();
                parts.map(|part| part.clone().into_value(None)).collect()
            }
        )
    }
}

impl fmt::Debug for QueryResult {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.rows().map(|row| row.values)).finish()
    }
}

/// Two results are equal when they have the same columns and the same rows in the same order.
impl PartialEq for QueryResult {
    fn eq(&self, other: &Self) -> bool {
        self.is_same(other)
            || self.len() == other.len()
                && self.columns().eq(other.columns())
                && self.rows().map(|row| row.values).eq(other.rows().map(|row| row.values))
    }
}

/// What identifies a row among those of its result, as a slice of values; see [`ResultRow::key`].
///
/// ```
/// # use backwater::{Cache, Schema, Value};
/// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
/// # cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
/// let ports = cache.query("SELECT length(code) FROM port", ())?.read()?;
/// let key = ports.row(0).unwrap().key();
/// assert_eq!(key, [Value::from("SAL")]);
/// assert_eq!(key[0].as_str(), Some("SAL"));
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Clone, Default, PartialEq)]
pub struct RowKey(SmallVec<[Value; 1]>);

impl std::ops::Deref for RowKey {
    type Target = [Value];

    #[inline]
    fn deref(&self) -> &[Value] {
        &self.0
    }
}

impl<const LEN: usize> PartialEq<[Value; LEN]> for RowKey {
    fn eq(&self, other: &[Value; LEN]) -> bool {
        **self == *other
    }
}

impl FromIterator<Value> for RowKey {
    fn from_iter<I: IntoIterator<Item = Value>>(values: I) -> Self {
        Self(values.into_iter().collect())
    }
}

impl fmt::Debug for RowKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// One row of a [`QueryResult`], with its values in the order of the columns.
///
/// See [`QueryResult`] for an example.
#[derive(Clone, Copy)]
pub struct ResultRow<'r> {
    at: RowRef<'r>,
    values: &'r [Value],
}

impl<'r> ResultRow<'r> {
    /// The row's values.
    ///
    /// See [`QueryResult`] for an example.
    pub fn values(&self) -> &'r [Value] {
        self.values
    }

    /// The row's position in its result, counted from 0.
    ///
    /// See [`QueryResult`] for an example.
    pub fn position(&self) -> usize {
        self.at.position
    }

    /// What identifies the row in all versions of its result: the id of the table's row, those of
    /// the rows of a join (NULL for a partner that is missing), or the values that a grouping
    /// groups by. A row that another one determines, by a link or an id, is left out: a sailing
    /// with its vessel is identified by the sailing, and stays the same row when the vessel
    /// changes.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.sailing = { id = 'id', fields = { id = 'int', status = 'text' } }")?);
    /// cache.commit("announced", |tx| tx.insert("sailing", [("id", Value::from(311)), ("status", "on time".into())]))?;
    /// let by_status = cache.query("SELECT count(*) AS n FROM sailing GROUP BY status", ())?;
    /// assert_eq!(by_status.read()?.row(0).unwrap().key(), [Value::from("on time")]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn key(&self) -> RowKey {
        self.at.key()
    }

    /// The value of a column.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if the result has no such column.
    ///
    /// See [`QueryResult`] for an example.
    pub fn get(&self, column: &str) -> Result<&'r Value> {
        let place = self.at.result.columns().position(|name| name == column);
        place.map(|place| &self.values[place]).ok_or_else(|| {
            Error::new(ErrorKind::UnknownName, format!("the result has no column \"{column}\""))
                .help(nearest(column, self.at.result.columns()))
        })
    }
}

impl fmt::Debug for ResultRow<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_map().entries(self.at.result.columns().zip(self.values)).finish()
    }
}
