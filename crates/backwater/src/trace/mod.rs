//! What each commit did to each query, and why.
//!
//! It knows changes and outcomes, and recomputes nothing: untouched queries are explained on
//! request, from what the commit changed and what the query reads.

mod events;
mod local;
mod origin;
mod ring;
mod stream;
mod watch;
mod why;

pub(crate) use events::emit;
pub use local::LocalWatch;
pub use origin::Origin;
pub(crate) use origin::{no_row, origins};
pub(crate) use ring::Ring;
pub use stream::DeltaStream;
pub(crate) use stream::waker;
pub(crate) use watch::PanicHandler;
#[cfg(feature = "remote")]
pub(crate) use watch::WantsCommit;
pub use watch::Watch;
pub(crate) use watch::{HandleMove, Watchers};

use std::fmt;
use std::ops::Deref;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

#[cfg(feature = "remote")]
use crate::change::Happened;
use crate::change::{Change, Changes, Ingested};
use crate::error::Error;
use crate::query::{BindingNo, Delta, Outcome, Query, QueryResult, Reached, ReachedList};
#[cfg(feature = "remote")]
use crate::schema::TableNo;
use crate::value::{Timestamp, Value};

/// What a commit did: its number and label, the rows that it changed, and every standing query
/// that it reached, with its outcome and its delta.
///
/// A commit whose report is held can be withdrawn, so each later commit costs a little more for
/// every report that is older than the history (1,024 commits). A program that makes very many
/// commits should take from a report what it needs, and drop it.
///
/// ```
/// use backwater::{Cache, Outcome, Schema, Value};
///
/// let cache = Cache::new(Schema::parse("s.toml", r#"
///     table.sailing = { id = "id", fields = { id = "int", status = "text", note = "text" } }
/// "#)?);
/// let by_status = cache.query("SELECT status, count(*) AS n FROM sailing GROUP BY status", ())?;
/// let _watch = by_status.keep_current();
/// cache.commit("sailing announced", |tx| tx.insert("sailing", [("id", Value::from(311)), ("status", "on time".into())]))?;
///
/// let report = cache.commit("status changed", |tx| tx.update("sailing", 311, [("status", "boarding")]))?;
/// assert_eq!((report.number(), report.label()), (2, "status changed"));
/// assert_eq!(report.changes().next().unwrap().to_string(), "sailing 311: status on time -> boarding");
/// assert_eq!(report.outcome(&by_status), Outcome::Maintained);
/// assert_eq!(report.why(&by_status), "maintained: 1 row entered and 1 left, because sailing 311 changed status");
///
/// let report = cache.commit("note written", |tx| tx.update("sailing", 311, [("note", "calm sea")]))?;
/// assert_eq!(report.why(&by_status), "untouched: commit 3 changed sailing.note; the query reads sailing.status");
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Clone)]
pub struct Report(Arc<ReportInner>);

struct ReportInner {
    number: u64,
    label: String,
    changes: Changes,
    /// The same with what is noted of pending changes, once somebody looks, if that differs.
    noted: OnceLock<Option<Changes>>,
    reached: ReachedList,
    ingested: Vec<Ingested>,
    /// Queries with this number or a higher one were defined later.
    later: BindingNo,
    at: Option<Timestamp>,
    took: Option<Duration>,
}

/// What a report is made of, besides its number and label.
pub(crate) struct Done {
    pub(crate) changes: Changes,
    pub(crate) ingested: Vec<Ingested>,
    pub(crate) reached: ReachedList,
    /// The number of the next query to be defined.
    pub(crate) later: BindingNo,
    pub(crate) at: Option<Timestamp>,
    pub(crate) took: Option<Duration>,
}

/// A commit that was made: what its closure returned, and the commit's report.
///
/// It can be used wherever its [`Report`] can.
///
/// ```
/// # use backwater::{Cache, Schema};
/// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
/// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
/// let closed = cache.commit("a port closed", |tx| tx.delete("port", "SAL"))?;
/// assert!(closed.value); // it was there
/// assert_eq!(closed.number(), 2);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone)]
#[non_exhaustive]
pub struct Committed<T> {
    /// What the closure returned.
    pub value: T,
    /// What the commit did.
    pub report: Report,
}

impl<T> Deref for Committed<T> {
    type Target = Report;

    fn deref(&self) -> &Report {
        &self.report
    }
}

impl Report {
    pub(crate) fn new(number: u64, label: String, done: Done) -> Self {
        let Done { changes, ingested, reached, later, at, took } = done;
        let noted = OnceLock::new();
        Self(Arc::new(ReportInner {
            number,
            label,
            changes,
            noted,
            reached,
            ingested,
            later,
            at,
            took,
        }))
    }

    /// When the commit was made, if the cache has a clock.
    ///
    /// See [`Clock`](crate::clock::Clock) for an example.
    pub fn at(&self) -> Option<Timestamp> {
        self.0.at
    }

    /// How long the commit took, from when its closure began until every query that it reached was
    /// up to date, if the cache has a clock.
    ///
    /// See [`Clock`](crate::clock::Clock) for an example.
    pub fn took(&self) -> Option<Duration> {
        self.0.took
    }

    /// The commit's number, counted from 1. After a restart counting continues from the last commit
    /// that the storage holds.
    ///
    /// See [`Report`] for an example.
    pub fn number(&self) -> u64 {
        self.0.number
    }

    /// What the commit said that it was.
    ///
    /// See [`Report`] for an example.
    pub fn label(&self) -> &str {
        &self.0.label
    }

    /// The rows that the commit changed, table by table. A row that ends as it began is not among
    /// them.
    ///
    /// See [`Report`] for an example.
    pub fn changes(&self) -> impl Iterator<Item = Change<'_>> {
        let changes = self.noted_changes();
        (0..changes.rows.len()).filter_map(|index| changes.view(index))
    }

    /// What it changed, with what is noted of pending changes.
    fn noted_changes(&self) -> &Changes {
        self.0.noted.get_or_init(|| self.0.changes.noted()).as_ref().unwrap_or(&self.0.changes)
    }

    /// Whether the commit deleted a row.
    #[cfg(feature = "remote")]
    pub(crate) fn has_deleted(&self) -> bool {
        self.0.changes.rows.iter().any(|row| matches!(row.happened, Happened::Deleted))
    }

    /// The rows of one table that the commit changed.
    #[cfg(feature = "remote")]
    pub(crate) fn changes_of(&self, table: TableNo) -> impl Iterator<Item = Change<'_>> {
        let rows = self.0.changes.rows.iter().enumerate();
        let of = rows.filter(move |(_, row)| row.table == table);
        of.filter_map(|(index, _)| self.0.changes.view(index))
    }

    /// The number of a table, if it is among those that the commit knew.
    #[cfg(feature = "remote")]
    pub(crate) fn table_no(&self, name: &str) -> Option<TableNo> {
        self.0.changes.after.schema.find_table(name)
    }

    /// Which parameters of a query the commit gave other values, in words, if that is what it did.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let above = cache.query("SELECT id FROM t WHERE id > :least", [("least", 1)])?;
    /// let report = cache.rebind("looked further up", &above, [("least", 5)])?;
    /// assert_eq!(report.rebound().as_deref(), Some(":least went from 1 to 5"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn rebound(&self) -> Option<String> {
        self.0.reached.first().and_then(why::rebound)
    }

    /// What each response contained that the commit ingested.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.port = { id = "code", fields = { code = "text" } }
    /// #     response.ports = { records = "", table = "port" }
    /// # "#)?);
    /// let report = cache.commit("ports loaded", |tx| tx.ingest("ports", r#"[{ "code": "SAL" }]"#))?;
    /// assert_eq!(report.ingested()[0].rows(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn ingested(&self) -> &[Ingested] {
        &self.0.ingested
    }

    /// Every standing query that the commit reached, in the order in which they were defined.
    ///
    /// ```
    /// # use backwater::{Cache, Outcome, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// let _watch = all.keep_current();
    /// let report = cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// let reached = report.reached().next().unwrap();
    /// assert_eq!((reached.name(), reached.outcome()), (all.name(), Outcome::Maintained));
    /// assert_eq!(reached.params().count(), 0);
    /// assert_eq!(reached.delta().unwrap().after().len(), 1);
    /// assert_eq!(reached.why(), "maintained: 1 row entered, because t 1 was inserted");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn reached(&self) -> impl Iterator<Item = ReachedQuery<'_>> {
        let held = self.0.reached.iter().filter(|reached| reached.is_held);
        held.map(|reached| ReachedQuery { report: self, reached })
    }

    /// What the commit did to a query; [`Outcome::Untouched`] if it never reached it.
    ///
    /// See [`Report`] for an example.
    pub fn outcome(&self, query: &Query) -> Outcome {
        self.find(query).map_or(Outcome::Untouched, |reached| reached.outcome)
    }

    /// How long a query took that the commit reached, if the cache has a clock; what is searched
    /// for several queries at once is divided among them.
    ///
    /// See [`Clock`](crate::clock::Clock) for how a cache gets a clock.
    pub fn time_of(&self, query: &Query) -> Option<Duration> {
        self.find(query)?.took
    }

    /// How a query's result moved, if it did.
    ///
    /// ```
    /// # use backwater::{Cache, DeltaKind, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// let all = cache.query("SELECT id FROM t", ())?;
    /// let _watch = all.keep_current();
    /// let report = cache.commit("one came", |tx| tx.insert("t", [("id", 1)]))?;
    /// assert_eq!(report.delta(&all).unwrap().count(DeltaKind::Enter), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn delta(&self, query: &Query) -> Option<&Delta> {
        self.find(query)?.delta.as_ref()
    }

    /// Why the commit did to a query what it did, in words.
    ///
    /// See [`Report`] for an example.
    pub fn why(&self, query: &Query) -> String {
        match self.find(query) {
            Some(reached) => why::reached(self, reached),
            None if query.node().number >= self.0.later => {
                format!(
                    "untouched: the query was defined, or given its values, after commit {}",
                    self.0.number
                )
            }
            None => why::untouched(self, query),
        }
    }

    pub(crate) fn all_changes(&self) -> &Changes {
        &self.0.changes
    }

    fn find(&self, query: &Query) -> Option<&Reached> {
        self.0.reached.iter().find(|reached| reached.node.number == query.node().number)
    }
}

impl fmt::Debug for Report {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "Report({}: {}, {} rows changed)",
            self.number(),
            self.label(),
            self.noted_changes().rows.len()
        )
    }
}

/// A standing query that a commit reached.
///
/// See [`Report::reached`] for an example.
#[derive(Clone, Copy)]
pub struct ReachedQuery<'r> {
    report: &'r Report,
    reached: &'r Reached,
}

impl<'r> ReachedQuery<'r> {
    /// The query's name in the schema, or its statement.
    ///
    /// See [`Report::reached`] for an example.
    pub fn name(&self) -> &'r str {
        &self.reached.node.name
    }

    /// The values of its parameters, by name.
    ///
    /// See [`Report::reached`] for an example.
    pub fn params(&self) -> impl Iterator<Item = (&'r str, Value)> + use<'r> {
        let reached = self.reached;
        let names = reached.node.bound_plan.plan.params.iter().map(|param| param.name.as_str());
        names.zip(reached.node.bound_plan.params.iter().map(|value| value.clone().into_value(None)))
    }

    /// What the commit did to it.
    ///
    /// See [`Report::reached`] for an example.
    pub fn outcome(&self) -> Outcome {
        self.reached.outcome
    }

    /// How its result moved, if it did.
    ///
    /// See [`Report::reached`] for an example.
    pub fn delta(&self) -> Option<&'r Delta> {
        self.reached.delta.as_ref()
    }

    /// The result from before, where no delta leads on from it.
    fn before(&self) -> Option<&'r QueryResult> {
        self.reached.before.as_ref()
    }

    /// Why its result cannot be computed any more, if the outcome is that it failed.
    ///
    /// ```
    /// # use backwater::{Cache, Outcome, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int', n = 'int' } }")?);
    /// let sum = cache.query("SELECT sum(n) FROM t", ())?;
    /// let _kept = sum.keep_current();
    /// let report = cache.commit("too much", |tx| {
    ///     tx.insert("t", [("id", 1), ("n", i64::MAX)])?;
    ///     tx.insert("t", [("id", 2), ("n", 1)])
    /// })?;
    /// let reached = report.reached().next().unwrap();
    /// assert_eq!(reached.outcome(), Outcome::Failed);
    /// assert!(reached.failure().unwrap().to_string().contains("sum"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn failure(&self) -> Option<Error> {
        let failure = self.reached.failure.as_ref()?;
        Some(failure.error().at(self.name()))
    }

    /// How long that took, if the cache has a clock. What is searched for several queries at once
    /// is divided among them.
    ///
    /// See [`Clock`](crate::clock::Clock) for how a cache gets a clock.
    pub fn took(&self) -> Option<Duration> {
        self.reached.took
    }

    /// Why, in words.
    ///
    /// See [`Report::reached`] for an example.
    pub fn why(&self) -> String {
        why::reached(self.report, self.reached)
    }
}

impl fmt::Debug for ReachedQuery<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.name(), self.why())
    }
}
