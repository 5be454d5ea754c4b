//! What a derived value's function reads with.

use std::cell::{Cell, RefCell};
use std::sync::Arc;

use super::node::AnyDerived;
use super::reads::Read;
use super::{Derived, TrackedRows};
use crate::error::{Error, ErrorKind, Result, of_another_cache};
use crate::query::{AsOf, Published, Query, QueryResult};
use crate::typed::ReadTable;

/// Gives the function of a derived value access to tables, queries and other derived values, all as
/// of one commit, and records what it reads.
///
/// See [`Derived`] for an example.
pub struct Reader {
    published: Arc<Published>,
    pub(super) now: AsOf,
    pub(super) key: (u64, u64),
    pub(super) reads: RefCell<Vec<Read>>,
    /// Whether something was read that is ahead of the commit.
    is_torn: Cell<bool>,
}

impl Reader {
    pub(super) fn new(published: Arc<Published>, now: AsOf, key: (u64, u64)) -> Self {
        Self { published, now, key, reads: RefCell::default(), is_torn: Cell::new(false) }
    }

    pub(super) fn finish(self) -> (Vec<Read>, bool) {
        (self.reads.into_inner(), self.is_torn.get())
    }

    pub(super) fn record(&self, read: Read) {
        self.reads.borrow_mut().push(read);
    }

    /// The rows of a struct's table. What is recorded are the rows that are read one by one, or all
    /// of them, and of these the fields that the struct has.
    ///
    /// # Errors
    /// As [`Snapshot::table`](crate::Snapshot::table).
    ///
    /// See [`Derived`] for an example.
    pub fn table<'s, T: ReadTable<'s>>(&'s self) -> Result<TrackedRows<'s, T>> {
        TrackedRows::new(self).inspect_err(|_| {
            // The table may be declared later.
            self.record(Read::Unsure);
        })
    }

    /// A query's result.
    ///
    /// # Errors
    /// As [`Query::read`]; [`ErrorKind::Result`] if the query is another cache's.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// let ports = cache.query("SELECT code FROM port", ())?;
    /// let count = cache.derived("how many ports", move |read| Ok(read.query(&ports)?.len()));
    /// assert_eq!(*count.get()?, 0);
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// assert_eq!(*count.get()?, 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn query(&self, query: &Query) -> Result<QueryResult> {
        if !query.is_of(&self.published) {
            return Err(of_another_cache("the query").help("define it in this cache"));
        }
        let result = match query.read_at(&self.now.state, self.now.commit) {
            Some(result) => result,
            None => {
                self.is_torn.set(true);
                query.read()
            }
        };
        match result {
            Ok(result) => {
                self.record(Read::Query { query: query.clone(), serial: result.serial() });
                Ok(result)
            }
            Err(error) => {
                // An error may go with any commit.
                self.record(Read::Unsure);
                Err(error)
            }
        }
    }

    /// Another derived value.
    ///
    /// # Errors
    /// As [`Derived::get`]; [`ErrorKind::Result`] if it is another cache's.
    ///
    /// See [`Derived`] for an example.
    pub fn derived<T: PartialEq + Send + Sync + 'static>(&self, of: &Derived<T>) -> Result<Arc<T>> {
        if !of.0.is_of(&self.published) {
            return Err(of_another_cache("the derived value").help("define it in this cache"));
        }
        let value = match of.0.at(&self.now) {
            Some(value) => value,
            None => {
                self.is_torn.set(true);
                Err(Error::new(ErrorKind::Result, "a commit was made meanwhile"))
            }
        };
        let node: Arc<dyn AnyDerived> = of.0.clone();
        self.record(Read::Derived { node, given: Arc::new(value.clone()) });
        value
    }
}

impl std::fmt::Debug for Reader {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Reader(commit {})", self.now.commit)
    }
}
