//! Deltas: how a result moved from one commit to the next, row by row.

use std::collections::HashMap;
use std::fmt;

use super::order::{Moved, Moves, settle};
use super::read_rows::ReadRows;
use super::result::{Cursor, QueryResult, ResultRow, RowAt, RowKey};
use crate::value::Value;

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
/// let _watch = late.keep_up();
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
    /// The rows that somebody has read of the old result, by their numbers among those that moved.
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
            let before = moved.before().and_then(|position| before.at(position));
            let after = moved.after().and_then(|position| after.at(position));
            DeltaRow { delta: self, number, moved: *moved, before, after }
        })
    }

    /// How many rows something of that kind happened to.
    ///
    /// ```
    /// # use backwater::{Cache, DeltaKind, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// let _watch = all.keep_up();
    /// let report = cache.commit("two came", |tx| { tx.insert("t", [("id", 1)])?; tx.insert("t", [("id", 2)]) })?;
    /// assert_eq!(report.delta(&all).unwrap().count(DeltaKind::Enter), 2);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn count(&self, kind: DeltaKind) -> usize {
        self.rows.iter().filter(|moved| moved.kind() == kind).count()
    }

    /// Applies the delta to a list of rows that shows the old result, such as a view's own copy.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// let _watch = all.keep_up();
    /// let mut shown = Vec::new();
    /// let report = cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// report.delta(&all).unwrap().apply(&mut shown);
    /// assert_eq!(shown[0], all.read()?.row(0).unwrap().values());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn apply(&self, shown: &mut Vec<Vec<Value>>) {
        self.apply_with(shown, |row| {
            row.after().map(|row| row.values().to_vec()).unwrap_or_default()
        });
    }

    /// The same for a list of anything: `make` gives what is shown for a row that entered, changed or
    /// moved.
    ///
    /// ```
    /// # use backwater::{Cache, DeltaKind, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// let _watch = all.keep_up();
    /// let mut lines: Vec<String> = Vec::new();
    /// let report = cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// report.delta(&all).unwrap().apply_with(&mut lines, |row| format!("{:?} {:?}", row.key(), row.kind()));
    /// assert_eq!(lines, ["[Int(1)] Enter"]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn apply_with<T>(&self, shown: &mut Vec<T>, mut make: impl FnMut(&DeltaRow<'_>) -> T) {
        let mut out: Vec<usize> = self
            .rows()
            .filter(|row| row.kind() != DeltaKind::Change)
            .filter_map(|row| row.from())
            .collect();
        out.sort_unstable();
        for from in out.into_iter().rev() {
            shown.remove(from);
        }
        for row in self.rows() {
            let Some(to) = row.to() else { continue };
            if row.kind() == DeltaKind::Change {
                shown[to] = make(&row);
            } else {
                shown.insert(to, make(&row));
            }
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
/// let _watch = all.keep_up();
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
    before: Option<RowAt<'d>>,
    after: Option<RowAt<'d>>,
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
        self.before.map(|at| self.kept(at, &self.delta.read_before))
    }

    /// The row as it is, unless it left.
    ///
    /// See [`DeltaRow`] for an example.
    pub fn after(&self) -> Option<ResultRow<'d>> {
        self.after.map(|at| self.kept(at, &self.delta.read_after))
    }

    /// A row that the delta keeps.
    fn kept(&self, at: RowAt<'d>, read: &'d ReadRows) -> ResultRow<'d> {
        at.row_kept(read, self.number, self.delta.rows.len())
    }

    /// What tells the row from the others of the result; see [`ResultRow::key`].
    ///
    /// See [`DeltaRow`] for an example.
    #[inline]
    pub fn key(&self) -> RowKey {
        self.after.as_ref().or(self.before.as_ref()).map_or_else(RowKey::default, RowAt::key)
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
