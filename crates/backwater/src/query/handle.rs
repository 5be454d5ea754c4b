//! What a program holds of a standing query, and where readers find its results.

use std::fmt;
use std::sync::{Arc, Mutex, PoisonError, RwLock};

use rustc_hash::FxHashMap;

use super::BindingNo;
use super::engine::Reached;
use super::plan::Plan;
use super::result::{Entry, QueryResult};
use super::scalar::Scalar;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{Schema, Table};
use crate::table::{Snapshot, State};

/// What readers see: the tables and every result, all of the same commit.
pub(crate) struct Published {
    current: RwLock<Current>,
    /// Bindings whose handles were dropped since the writer last looked.
    released: Mutex<Vec<BindingNo>>,
}

struct Current {
    state: Arc<State>,
    commit: u64,
    entries: FxHashMap<BindingNo, Arc<Entry>>,
}

impl Published {
    pub(crate) fn new(state: Arc<State>, commit: u64) -> Self {
        let current = Current { state, commit, entries: FxHashMap::default() };
        Self { current: RwLock::new(current), released: Mutex::default() }
    }

    pub(crate) fn snapshot(&self) -> Snapshot {
        let current = self.current.read().unwrap_or_else(PoisonError::into_inner);
        Snapshot { state: current.state.clone(), commit: current.commit }
    }

    /// Shows a commit to readers, all of it at once.
    pub(crate) fn publish(&self, state: Arc<State>, commit: u64, reached: &[Reached]) {
        let mut current = self.current.write().unwrap_or_else(PoisonError::into_inner);
        let old = std::mem::replace(&mut current.state, state);
        current.commit = commit;
        for reached in reached {
            if let Some(entry) = &reached.entry {
                current.entries.insert(reached.binding, entry.clone());
            }
        }
        drop(current);
        // What nobody holds any more is taken apart while readers go on.
        drop(old);
    }

    pub(crate) fn add(&self, binding: BindingNo, entry: Arc<Entry>) {
        let mut current = self.current.write().unwrap_or_else(PoisonError::into_inner);
        current.entries.entry(binding).or_insert(entry);
    }

    /// Forgets bindings, after asking which of those released are really gone.
    pub(crate) fn forget_released(&self, mut is_gone: impl FnMut(BindingNo) -> bool) {
        let released =
            std::mem::take(&mut *self.released.lock().unwrap_or_else(PoisonError::into_inner));
        if released.is_empty() {
            return;
        }
        let gone: Vec<BindingNo> =
            released.into_iter().filter(|binding| is_gone(*binding)).collect();
        let mut current = self.current.write().unwrap_or_else(PoisonError::into_inner);
        for binding in gone {
            current.entries.remove(&binding);
        }
    }

    fn read(&self, binding: BindingNo) -> Option<(Arc<Entry>, Arc<State>)> {
        let current = self.current.read().unwrap_or_else(PoisonError::into_inner);
        Some((current.entries.get(&binding)?.clone(), current.state.clone()))
    }
}

/// A standing query: a statement with values for its parameters, kept true for as long as a handle
/// to it lives. Two handles to the same statement and values share one result.
///
/// ```
/// # use backwater::{Cache, Schema};
/// # let cache = Cache::new(Schema::parse("s.toml", r#"
/// #     table.sailing = { id = "id", fields = { id = "int", port = "text", status = "text" } }
/// # "#)?);
/// let from_saltmere = cache.query("SELECT count(*) AS n FROM sailing WHERE port = :port", [("port", "SAL")])?;
/// assert_eq!(from_saltmere.read()?.row(0).unwrap().get("n")?.as_int(), Some(0));
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Clone)]
pub struct Query(Arc<Handle>);

struct Handle {
    published: Arc<Published>,
    binding: BindingNo,
    plan: Arc<Plan>,
    params: Arc<[Scalar<'static>]>,
    name: Arc<str>,
    schema: Arc<Schema>,
}

impl Query {
    pub(crate) fn new(
        published: Arc<Published>,
        binding: BindingNo,
        entry: &Entry,
        name: Arc<str>,
    ) -> Self {
        let schema = published.snapshot().state.schema.clone();
        let (plan, params) = (entry.plan.clone(), entry.params.clone());
        Self(Arc::new(Handle { published, binding, plan, params, name, schema }))
    }

    /// The result as of the last commit. While no commit touches it, this is the same object.
    ///
    /// # Errors
    /// [`ErrorKind::Result`](crate::ErrorKind::Result) if the result cannot be told, such as a sum
    /// beyond 64 bits.
    ///
    /// See [`Query`] for an example.
    pub fn read(&self) -> Result<QueryResult> {
        let found = self.0.published.read(self.0.binding);
        debug_assert!(found.is_some(), "a binding stays while a handle to it lives");
        let result = match found {
            Some((entry, state)) => entry.result(&state),
            None => Err(Error::new(ErrorKind::Result, "this query is not kept any more")),
        };
        result.map_err(|error| error.at(&self.0.name))
    }

    /// What reports call the query: its name in the schema, or its statement.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// assert_eq!(cache.query("SELECT id FROM t", ())?.name(), "SELECT id FROM t");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn name(&self) -> &str {
        &self.0.name
    }

    pub(crate) fn binding(&self) -> BindingNo {
        self.0.binding
    }

    pub(crate) fn plan(&self) -> &Plan {
        &self.0.plan
    }

    pub(crate) fn table_definition(&self) -> &Table {
        self.0.schema.table(self.plan().table)
    }

    pub(crate) fn params(&self) -> &[Scalar<'static>] {
        &self.0.params
    }
}

impl fmt::Debug for Query {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Query({})", self.0.name)
    }
}

impl Drop for Handle {
    fn drop(&mut self) {
        let mut released = self.published.released.lock().unwrap_or_else(PoisonError::into_inner);
        released.push(self.binding);
    }
}
