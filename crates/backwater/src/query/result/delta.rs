//! Deltas: how a result moved from one commit to the next, row by row.

use std::collections::{HashMap, HashSet};
use std::fmt;

use crate::error::{Error, ErrorKind, Result};
use crate::query::operator::order::moves::{Moved, Moves, settle};
use crate::query::result::read_rows::ReadRows;
use crate::query::result::{Cursor, QueryResult, ResultRow, RowKey, RowRef};
use crate::value::{RowId, Value};

/// How a standing query's result moved in one commit.
///
/// The old result with the delta applied is the new one, positions included. Only rows to which
/// something happened are named: a row that others pushed along has not moved.
///
/// ```
/// use backwater::{Cache, DeltaKind, Schema, Value};
///
/// let cache = Cache::new(Schema::parse("s.toml", r#"
///     table.sailing = { id = "id", fields = { id = "int", delay_min = "int" } }
/// "#)?);
/// let late = cache.query("SELECT id FROM sailing WHERE delay_min > 5 ORDER BY delay_min DESC", ())?;
/// let _watch = late.keep_current();
/// let report = cache.commit("delay reported", |tx| tx.insert("sailing", [("id", 311), ("delay_min", 15)]))?;
///
/// let delta = report.delta(&late).unwrap();
/// let row = delta.rows().next().unwrap();
/// assert_eq!((row.kind(), row.to()), (DeltaKind::Enter, Some(0)));
/// assert_eq!(row.after().unwrap().values(), [Value::Int(311)]);
/// assert_eq!((delta.before().len(), delta.after().len()), (0, 1));
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Clone)]
pub struct Delta {
    pub(crate) before: QueryResult,
    pub(crate) after: QueryResult,
    pub(crate) rows: Moves,
    /// The rows of the old result that were read, by their numbers among those that moved.
    read_before: ReadRows,
    /// The same of the new one.
    read_after: ReadRows,
}

/// What happened to one row of a result.
///
/// See [`Delta`] for an example.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DeltaKind {
    /// The row is new in the result.
    Enter,
    /// The row stands where it stood, with other values.
    Change,
    /// The row stands elsewhere among the others; its values may have changed too.
    Move,
    /// The row is not in the result any more.
    Leave,
}

impl Moved {
    #[inline]
    fn kind(self) -> DeltaKind {
        match (self.before(), self.after()) {
            (None, _) => DeltaKind::Enter,
            (_, None) => DeltaKind::Leave,
            _ if self.moved => DeltaKind::Move,
            _ => DeltaKind::Change,
        }
    }
}

impl Delta {
    pub(crate) fn new(before: QueryResult, after: QueryResult, rows: Moves) -> Self {
        let (read_before, read_after) = (ReadRows::default(), ReadRows::default());
        Self { before, after, rows, read_before, read_after }
    }

    /// The same delta where rows got other ids: one that left and one that entered are one row.
    pub(crate) fn with_renamed(mut self, renamed: &[(RowId, RowId)]) -> Self {
        if renamed.is_empty() {
            return self;
        }
        // Values have no hash of their own.
        let text = |value: &Value| format!("{value:?}");
        let names: HashMap<String, Value> = renamed
            .iter()
            .map(|(old, new)| (text(&old.clone().into()), new.clone().into()))
            .collect();
        let key = |result: &QueryResult, at: usize, is_old: bool| -> Option<Vec<String>> {
            let key = result.row(at)?.key();
            let parts = key.iter().map(text);
            let new = |part: String| names.get(&part).filter(|_| is_old).map_or(part, text);
            Some(parts.map(new).collect())
        };
        let entered = self.rows.iter().filter(|moved| moved.before().is_none());
        let entered = entered.filter_map(|moved| moved.after());
        let entered: HashMap<Vec<String>, usize> =
            entered.filter_map(|at| Some((key(&self.after, at, false)?, at))).collect();
        let left = self.rows.iter().filter(|moved| moved.after().is_none());
        let pairs = left.filter_map(|moved| {
            let before = moved.before()?;
            Some((before, *entered.get(&key(&self.before, before, true)?)?))
        });
        let pairs: HashMap<usize, usize> = pairs.collect();
        let known: HashSet<usize> = pairs.values().copied().collect();
        self.rows.retain(|moved| match (moved.before(), moved.after()) {
            (Some(before), None) => !pairs.contains_key(&before),
            (None, Some(after)) => !known.contains(&after),
            _ => true,
        });
        let both = |(before, after)| Moved::between(Some(before), Some(after)).with(true, true);
        self.rows.extend(pairs.into_iter().map(both));
        settle(&mut self.rows);
        self
    }

    /// How one result of a query moved to another one, over however many commits.
    ///
    /// ```
    /// # use backwater::{Cache, Delta, DeltaKind, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int', n = 'int' } }")?);
    /// # cache.commit("two came", |tx| { tx.insert("t", [("id", 1), ("n", 10)])?; tx.insert("t", [("id", 2), ("n", 20)]) })?;
    /// let all = cache.query("SELECT id, n FROM t ORDER BY n", ())?;
    /// let before = all.read()?;
    /// cache.commit("the first moved", |tx| tx.update("t", 1, [("n", 30)]))?;
    /// cache.commit("the second left", |tx| tx.delete("t", 2).map(drop))?;
    /// let delta = Delta::between(&before, &all.read()?);
    /// assert_eq!((delta.count(DeltaKind::Leave), delta.count(DeltaKind::Change)), (1, 1));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn between(before: &QueryResult, after: &QueryResult) -> Self {
        let mut gone: HashMap<_, _> =
            before.keyed().enumerate().map(|(at, (key, values))| (key, (at, values))).collect();
        let mut rows = Moves::new();
        for (at, (key, values)) in after.keyed().enumerate() {
            let known = gone.remove(&key);
            let before = known.as_ref().map(|(before, _)| *before);
            let changed = known.as_ref().is_some_and(|(_, before)| *before != values);
            rows.push(Moved::between(before, Some(at)).with(changed, known.is_some()));
        }
        rows.extend(gone.into_values().map(|(at, _)| Moved::left(at)));
        settle(&mut rows);
        Self::new(before.clone(), after.clone(), rows)
    }

    /// The result before the commit.
    ///
    /// See [`Delta`] for an example.
    pub fn before(&self) -> &QueryResult {
        &self.before
    }

    /// The result after the commit.
    ///
    /// See [`Delta`] for an example.
    pub fn after(&self) -> &QueryResult {
        &self.after
    }

    /// The rows to which something happened: first those that left, by their old positions, then
    /// the others by their new ones.
    ///
    /// See [`Delta`] for an example.
    pub fn rows(&self) -> impl ExactSizeIterator<Item = DeltaRow<'_>> {
        let (mut before, mut after) = (Cursor::new(&self.before), Cursor::new(&self.after));
        self.rows.iter().enumerate().map(move |(number, moved)| {
            // Many who look at a row as it is have no use for what it was.
            let at = match (moved.after(), moved.before()) {
                (Some(position), _) => after.at(position),
                (None, position) => before.at(position.unwrap_or(usize::MAX)),
            };
            DeltaRow { delta: self, number, moved: *moved, at }
        })
    }

    /// How many rows something of that kind happened to.
    ///
    /// ```
    /// # use backwater::{Cache, DeltaKind, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// let _watch = all.keep_current();
    /// let report = cache.commit("two came", |tx| { tx.insert("t", [("id", 1)])?; tx.insert("t", [("id", 2)]) })?;
    /// assert_eq!(report.delta(&all).unwrap().count(DeltaKind::Enter), 2);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn count(&self, kind: DeltaKind) -> usize {
        self.rows.iter().filter(|moved| moved.kind() == kind).count()
    }

    /// The way from a list that shows the old result to the new one, step by step and in order:
    /// first rows are removed, from the last to the first, then others are inserted and set, from
    /// the first to the last. A row that moved is removed and inserted. This is for lists of any
    /// kind, such as those of a toolkit; [`Delta::apply`] does it for a `Vec`.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, delta::Step};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int', n = 'int' } }")?);
    /// # cache.commit("two came", |tx| { tx.insert("t", [("id", 1), ("n", 10)])?; tx.insert("t", [("id", 2), ("n", 20)]) })?;
    /// let all = cache.query("SELECT id, n FROM t ORDER BY n", ())?;
    /// let _watch = all.keep_current();
    /// let report = cache.commit("the first moved", |tx| tx.update("t", 1, [("n", 30)]))?;
    /// let steps: Vec<String> = report.delta(&all).unwrap().steps().map(|step| match step {
    ///     Step::Remove { at } => format!("remove {at}"),
    ///     Step::Insert { at, row } => format!("insert {:?} at {at}", row.row().values()),
    ///     Step::Set { at, row } => format!("set {at} to {:?}", row.row().values()),
    /// }).collect();
    /// assert_eq!(steps, ["remove 0", "insert [Int(1), Int(30)] at 1"]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn steps(&self) -> impl Iterator<Item = Step<DeltaRow<'_>>> {
        let rows = self.rows().filter(|row| row.kind() != DeltaKind::Change);
        let mut out: Vec<usize> = rows.filter_map(|row| row.from()).collect();
        out.sort_unstable();
        let removed = out.into_iter().rev().map(|at| Step::Remove { at });
        removed.chain(self.rows().filter_map(|row| {
            let at = row.to()?;
            Some(match row.kind() {
                DeltaKind::Change => Step::Set { at, row },
                _ => Step::Insert { at, row },
            })
        }))
    }

    /// Applies the delta to a list of rows that shows the old result, such as a view's own copy.
    ///
    /// # Errors
    /// [`ErrorKind::Result`] if the list is not as long as the old result; it then stays as it is.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// let _watch = all.keep_current();
    /// let mut shown = Vec::new();
    /// let report = cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// report.delta(&all).unwrap().apply(&mut shown)?;
    /// assert_eq!(shown[0], all.read()?.row(0).unwrap().values());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn apply(&self, shown: &mut Vec<Vec<Value>>) -> Result<()> {
        self.apply_with(shown, |row| Ok(row.row().values().to_vec()))
    }

    /// The same for a list of anything: `make` gives what is shown for a row that was inserted or
    /// set.
    ///
    /// # Errors
    /// As [`Delta::apply`]; what `make` returns. The list then stays as it is.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// let _watch = all.keep_current();
    /// let mut lines: Vec<String> = Vec::new();
    /// let report = cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// report.delta(&all).unwrap().apply_with(&mut lines, |row| Ok(format!("{:?} {}", row.kind(), row.row().get("id")?)))?;
    /// assert_eq!(lines, ["Enter 1"]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn apply_with<T>(
        &self,
        shown: &mut Vec<T>,
        mut make: impl FnMut(&DeltaRow<'_>) -> Result<T>,
    ) -> Result<()> {
        let (found, expected) = (shown.len(), self.before.len());
        if found != expected {
            let message = format!("the list has {found} rows, the delta begins with {expected}");
            return Err(Error::new(ErrorKind::Result, message)
                .help("read the result again, and apply the deltas after it, each of them once"));
        }
        // What may fail is done first.
        let made = self.steps().map(|step| step.try_map(|row| make(&row)));
        let steps = made.collect::<Result<Vec<_>>>()?;
        apply_all(steps, shown);
        Ok(())
    }
}

/// Applies the steps of one delta to a list. Many are applied in one pass, as each by itself moves
/// all rows behind it.
pub(crate) fn apply_all<T>(steps: Vec<Step<T>>, list: &mut Vec<T>) {
    const FEW: usize = 4;
    if steps.len() < FEW {
        return steps.into_iter().for_each(|step| step.apply(list));
    }
    let removals = steps.iter().take_while(|step| matches!(step, Step::Remove { .. })).count();
    let mut steps = steps.into_iter();
    let mut removed: Vec<usize> = Vec::with_capacity(removals);
    removed.extend(steps.by_ref().take(removals).map(|step| step.at()));
    // They stand from the last to the first.
    let mut place = 0;
    list.retain(|_| {
        let is_removed = removed.last() == Some(&place);
        removed.truncate(removed.len() - usize::from(is_removed));
        place += 1;
        !is_removed
    });
    let mut kept = std::mem::take(list).into_iter();
    for step in steps {
        let before = step.at().saturating_sub(list.len());
        list.extend(kept.by_ref().take(before));
        match step {
            Step::Insert { row, .. } => list.push(row),
            Step::Set { row, .. } => {
                kept.next();
                list.push(row);
            }
            Step::Remove { .. } => debug_assert!(false, "removals come first"),
        }
    }
    list.extend(kept);
}

/// One step from a list that shows an old result to the new one; see [`Delta::steps`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step<T> {
    /// The row at this position goes.
    Remove {
        /// Where it stands.
        at: usize,
    },
    /// A row is inserted in front of the one at this position.
    Insert {
        /// Where it will stand.
        at: usize,
        /// The row.
        row: T,
    },
    /// The row at this position has other values.
    Set {
        /// Where it stands.
        at: usize,
        /// The row.
        row: T,
    },
}

impl<T> Step<T> {
    /// The position that the step is about.
    ///
    /// ```
    /// use backwater::delta::Step;
    ///
    /// assert_eq!(Step::Set { at: 3, row: "7" }.at(), 3);
    /// ```
    pub fn at(&self) -> usize {
        let (Step::Remove { at } | Step::Insert { at, .. } | Step::Set { at, .. }) = self;
        *at
    }

    /// The same step with another kind of row.
    ///
    /// ```
    /// use backwater::delta::Step;
    ///
    /// assert_eq!(Step::Set { at: 3, row: "7" }.map(str::len), Step::Set { at: 3, row: 1 });
    /// ```
    pub fn map<U>(self, make: impl FnOnce(T) -> U) -> Step<U> {
        match self {
            Step::Remove { at } => Step::Remove { at },
            Step::Insert { at, row } => Step::Insert { at, row: make(row) },
            Step::Set { at, row } => Step::Set { at, row: make(row) },
        }
    }

    /// The same step with another kind of row, which may not be to be had.
    pub(crate) fn try_map<U, E>(
        self,
        make: impl FnOnce(T) -> std::result::Result<U, E>,
    ) -> std::result::Result<Step<U>, E> {
        Ok(match self {
            Step::Remove { at } => Step::Remove { at },
            Step::Insert { at, row } => Step::Insert { at, row: make(row)? },
            Step::Set { at, row } => Step::Set { at, row: make(row)? },
        })
    }

    /// Takes the step on a list.
    ///
    /// # Panics
    /// If the position is beyond the list's end.
    ///
    /// ```
    /// use backwater::delta::Step;
    ///
    /// let mut list = vec!['a', 'c'];
    /// Step::Insert { at: 1, row: 'b' }.apply(&mut list);
    /// assert_eq!(list, ['a', 'b', 'c']);
    /// ```
    pub fn apply(self, list: &mut Vec<T>) {
        match self {
            Step::Remove { at } => drop(list.remove(at)),
            Step::Insert { at, row } => list.insert(at, row),
            Step::Set { at, row } => list[at] = row,
        }
    }
}

impl fmt::Debug for Delta {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.rows()).finish()
    }
}

/// One row of a [`Delta`].
///
/// ```
/// # use backwater::{Cache, DeltaKind, Schema, Value};
/// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int', n = 'int' } }")?);
/// # cache.commit("two came", |tx| { tx.insert("t", [("id", 1), ("n", 10)])?; tx.insert("t", [("id", 2), ("n", 20)]) })?;
/// let all = cache.query("SELECT id, n FROM t ORDER BY n", ())?;
/// let _watch = all.keep_current();
/// let report = cache.commit("the first moved", |tx| tx.update("t", 1, [("n", 30)]))?;
/// let row = report.delta(&all).unwrap().rows().next().unwrap();
/// assert_eq!((row.kind(), row.from(), row.to()), (DeltaKind::Move, Some(0), Some(1)));
/// assert_eq!(row.key(), [Value::Int(1)]);
/// assert_eq!(row.columns(), ["n"]);
/// assert_eq!(row.before().unwrap().get("n")?, &Value::Int(10));
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Clone, Copy)]
pub struct DeltaRow<'d> {
    delta: &'d Delta,
    number: usize,
    moved: Moved,
    /// Where it is in the new result, or was in the old one if it left.
    at: Option<RowRef<'d>>,
}

impl<'d> DeltaRow<'d> {
    /// What happened to the row.
    ///
    /// See [`DeltaRow`] for an example.
    #[inline]
    pub fn kind(&self) -> DeltaKind {
        self.moved.kind()
    }

    /// The row's position in the old result, unless it entered.
    ///
    /// See [`DeltaRow`] for an example.
    #[inline]
    pub fn from(&self) -> Option<usize> {
        self.moved.before()
    }

    /// The row's position in the new result, unless it left.
    ///
    /// See [`DeltaRow`] for an example.
    #[inline]
    pub fn to(&self) -> Option<usize> {
        self.moved.after()
    }

    /// The row as it was, unless it entered.
    ///
    /// See [`DeltaRow`] for an example.
    pub fn before(&self) -> Option<ResultRow<'d>> {
        let position = self.moved.before()?;
        let at = match self.moved.after() {
            Some(_) => Cursor::new(&self.delta.before).at(position),
            None => self.at,
        };
        at.map(|at| self.kept(at, &self.delta.read_before))
    }

    /// The row as it is, unless it left.
    ///
    /// See [`DeltaRow`] for an example.
    pub fn after(&self) -> Option<ResultRow<'d>> {
        self.at
            .filter(|_| self.moved.after().is_some())
            .map(|at| self.kept(at, &self.delta.read_after))
    }

    /// The row as it is, or as it was if it left.
    ///
    /// See [`Delta::steps`] for an example.
    pub fn row(&self) -> ResultRow<'d> {
        let read = match self.moved.after() {
            Some(_) => &self.delta.read_after,
            None => &self.delta.read_before,
        };
        match self.at {
            Some(at) => self.kept(at, read),
            None => unreachable!("a row of a delta is in a result"),
        }
    }

    /// A row that the delta keeps.
    fn kept(&self, at: RowRef<'d>, read: &'d ReadRows) -> ResultRow<'d> {
        at.row_kept(read, self.number, self.delta.rows.len())
    }

    /// What identifies the row in the result; see [`ResultRow::key`].
    ///
    /// See [`DeltaRow`] for an example.
    #[inline]
    pub fn key(&self) -> RowKey {
        self.at.as_ref().map_or_else(RowKey::default, RowRef::key)
    }

    /// The columns whose values changed; none for a row that entered or left.
    ///
    /// See [`DeltaRow`] for an example.
    pub fn columns(&self) -> Vec<&'d str> {
        let (Some(before), Some(after)) = (self.before(), self.after()) else {
            return Vec::new();
        };
        let values = before.values().iter().zip(after.values());
        let columns = self.delta.after.columns().zip(values);
        columns.filter(|(_, (before, after))| before != after).map(|(name, _)| name).collect()
    }
}

impl fmt::Debug for DeltaRow<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{:?} {:?} -> {:?}: {:?}",
            self.kind(),
            self.from(),
            self.to(),
            self.after().or(self.before())
        )
    }
}
