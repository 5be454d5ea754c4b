//! What a program holds of a standing query, and where readers find its results.

use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};

use super::BindingNo;
use super::work::may_stop;
use crate::change::{Changes, LastChanged};
use crate::error::{Error, ErrorKind, Result};
use crate::query::result::missing::Missing;
#[cfg(feature = "remote")]
use crate::query::result::reads::ReadScopes;
use crate::query::result::{Entry, QueryResult};
use crate::query::state::node::{Behind, Node};
use crate::schema::TableNo;
use crate::sync::Arrivals;
use crate::table::{Snapshot, State};
use crate::value::Clock;

/// One version of the tables, with what is known of when they last changed.
#[derive(Clone)]
pub(crate) struct AsOf {
    pub(crate) state: Arc<State>,
    pub(crate) commit: u64,
    /// Not kept until it is read.
    pub(crate) last: Option<Arc<LastChanged>>,
}

/// What readers see: the tables as they are after the last commit.
pub(crate) struct Published {
    current: RwLock<AsOf>,
    /// Bindings whose handles were dropped since the writer last looked.
    released: Mutex<Vec<BindingNo>>,
    /// Whether a commit has failed in its middle.
    is_broken: AtomicBool,
    clock: Option<Arc<dyn Clock>>,
    /// Raised when a commit is shown, or never will be.
    news: Arrivals,
}

/// Something that must not fail in its middle.
pub(crate) struct Whole<'p>(&'p Published);

impl Whole<'_> {
    pub(crate) fn end(self) {
        std::mem::forget(self);
    }
}

impl Drop for Whole<'_> {
    fn drop(&mut self) {
        self.0.is_broken.store(true, Ordering::Release);
        self.0.news.announce();
    }
}

impl Published {
    pub(crate) fn new(state: Arc<State>, commit: u64, clock: Option<Arc<dyn Clock>>) -> Self {
        let current = RwLock::new(AsOf { state, commit, last: None });
        let (released, is_broken) = (Mutex::default(), AtomicBool::new(false));
        Self { current, released, is_broken, clock, news: Arrivals::default() }
    }

    /// Begins with what must not fail in its middle: if it does, the cache is broken.
    pub(crate) fn begin(&self) -> Whole<'_> {
        Whole(self)
    }

    /// # Errors
    /// [`ErrorKind::Broken`] if a commit has failed in its middle.
    pub(crate) fn check(&self) -> Result<()> {
        if !self.is_broken.load(Ordering::Acquire) {
            return Ok(());
        }
        let last = self.now().commit;
        let message = format!(
            "a panic in the middle of a commit behind commit {last} has left this cache unusable"
        );
        Err(Error::new(ErrorKind::Broken, message)
            .help("open it again from its storage, which has whole commits only"))
    }

    pub(crate) fn snapshot(&self) -> Snapshot {
        let (state, commit) = self.current();
        Snapshot { state, commit }
    }

    fn current(&self) -> (Arc<State>, u64) {
        let current = self.current.read().unwrap_or_else(PoisonError::into_inner);
        let mut now = (current.state.clone(), current.commit);
        drop(current);
        if let Some(noted) = now.0.noted() {
            now.0 = noted.state.clone();
        }
        if now.0.keeps_times()
            && let Some(clock) = &self.clock
        {
            // A read result shows rows, and it is recorded when that was.
            now.0.set_time(&**clock);
        }
        now
    }

    pub(crate) fn now(&self) -> AsOf {
        self.current.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Keeps from here on which commit last changed what. Only the writer calls it.
    pub(crate) fn keep_last_changed(&self) {
        let mut current = self.current.write().unwrap_or_else(PoisonError::into_inner);
        let AsOf { state, commit, last } = &mut *current;
        if let Some(noted) = state.noted().map(|noted| noted.state.clone()) {
            *state = noted;
        }
        last.get_or_insert_with(|| LastChanged::unknown_before(*commit, &state.schema).into());
    }

    /// Whether that is kept.
    #[cfg(feature = "remote")]
    pub(crate) fn keeps_last_changed(&self) -> bool {
        self.current.read().unwrap_or_else(PoisonError::into_inner).last.is_some()
    }

    /// Publishes a commit to readers, all of it at once; with it all rows of some tables are
    /// loaded.
    pub(crate) fn publish_commit(&self, changes: &Changes, commit: u64, ready: &[TableNo]) {
        // Only the writer changes it.
        let (mut last, mut state) = (self.now().last, changes.after.clone());
        if let Some(last) = &mut last {
            // It may be kept only since the commit began.
            let noted = changes.noted();
            let changes = noted.as_ref().unwrap_or(changes);
            let last = Arc::make_mut(last);
            last.note(changes, commit);
            last.note_ready(ready, commit);
            state = changes.after.clone();
        }
        self.show(AsOf { state, commit, last });
    }

    /// Shows a version of the tables that has further ones.
    pub(crate) fn publish_tables(&self, state: Arc<State>, commit: u64) {
        let mut last = self.now().last;
        if let Some(last) = &mut last {
            Arc::make_mut(last).extend(commit, &state.schema);
        }
        self.show(AsOf { state, commit, last });
    }

    /// Shows a version of the tables with the same rows.
    pub(crate) fn publish(&self, state: Arc<State>, commit: u64) {
        let last = self.now().last;
        self.show(AsOf { state, commit, last });
    }

    fn show(&self, now: AsOf) {
        let mut current = self.current.write().unwrap_or_else(PoisonError::into_inner);
        let old = std::mem::replace(&mut *current, now);
        drop(current);
        self.news.announce();
        // Dropped here, while readers go on.
        drop(old);
    }

    /// Waits until a commit behind that one is shown, or never will be.
    fn wait_beyond(&self, commit: u64) {
        self.news.wait_until(|| self.now().commit > commit || self.check().is_err());
    }

    /// A handle on a binding was dropped.
    pub(crate) fn release(&self, binding: BindingNo) {
        self.released.lock().unwrap_or_else(PoisonError::into_inner).push(binding);
    }

    /// The bindings of the handles that were dropped since the last call.
    pub(crate) fn take_released(&self) -> Vec<BindingNo> {
        std::mem::take(&mut *self.released.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// A standing query: a statement with values for its parameters, maintained for as long as
/// a handle to it lives. Two handles to the same statement and values share one result.
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
    name: Arc<str>,
    stands_for: Mutex<StandsFor>,
}

/// The binding that a handle stands for.
struct StandsFor {
    node: Arc<Node>,
    /// The commit since when it does.
    since: u64,
    /// How many keep it up to date through this handle.
    kept: usize,
}

impl Handle {
    fn stands_for(&self) -> MutexGuard<'_, StandsFor> {
        self.stands_for.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Query {
    pub(crate) fn new(published: Arc<Published>, node: Arc<Node>, name: &str) -> Self {
        // A statement in another spelling is the same query under another name.
        let name = if *node.name == *name { node.name.clone() } else { name.into() };
        let stands_for = Mutex::new(StandsFor { node, since: 0, kept: 0 });
        Self(Arc::new(Handle { published, name, stands_for }))
    }

    /// The result as of the last commit. While no commit touches it, this is the same object.
    ///
    /// # Errors
    /// [`ErrorKind::Result`](crate::ErrorKind::Result) if the result cannot be computed, such as a
    /// sum beyond 64 bits.
    ///
    /// See [`Query`] for an example.
    pub fn read(&self) -> Result<QueryResult> {
        self.read_as_of().map(|(result, _)| result)
    }

    /// What the result as of the last commit needed and was not there, at most this many cells of
    /// it one by one: fields that are absent, and rows that links point at and that are missing.
    /// In SQL they read as NULL; a program can fetch just those.
    ///
    /// A row counts if it shows, or if it might once the missing is there; of rows that the excerpt
    /// leaves out, only what decides about that. It is found by going through the rows that the
    /// statement reads, at each call.
    ///
    /// # Errors
    /// As [`Query::read`].
    ///
    /// See [`Missing`] for an example.
    pub fn missing(&self, most: usize) -> Result<Missing> {
        let (entry, state, _) = self.entry()?;
        self.tables().into_iter().try_for_each(|table| state.need_ready(table))?;
        // The same error that a reader gets.
        entry.result(&state).map_err(|error| error.at(&self.0.name))?;
        Ok(entry.missing(&state, most).unwrap_or_default())
    }

    /// What the result reads, there or not, with the version of the tables that it is of.
    #[cfg(feature = "remote")]
    pub(crate) fn reads(&self, most: usize) -> Result<(ReadScopes, Arc<State>)> {
        let (entry, state, _) = self.entry()?;
        self.tables().into_iter().try_for_each(|table| state.need_ready(table))?;
        Ok((entry.reads(&state, most), state))
    }

    /// Tells results apart: another number is another result.
    #[cfg(feature = "remote")]
    pub(crate) fn result_serial(&self) -> Result<u64> {
        Ok(self.entry()?.0.serial())
    }

    /// The result as of a commit that is or was published; `None` if it is at a later one already.
    pub(crate) fn read_at(&self, state: &Arc<State>, commit: u64) -> Option<Result<QueryResult>> {
        let (node, since) = {
            let stands_for = self.0.stands_for();
            (stands_for.node.clone(), stands_for.since)
        };
        if since > commit {
            return None;
        }
        let entry = node.read(state, commit).ok()?;
        Some(entry.result(state).map_err(|error| error.at(&self.0.name)))
    }

    /// The result, and the commit that it is of.
    pub(crate) fn read_as_of(&self) -> Result<(QueryResult, u64)> {
        let (entry, state, commit) = self.entry()?;
        let result = entry.result(&state).map_err(|error| error.at(&self.0.name));
        Ok((result?, commit))
    }

    /// What readers find, with the tables and the commit that it is of.
    fn entry(&self) -> Result<(Arc<Entry>, Arc<State>, u64)> {
        loop {
            self.0.published.check()?;
            let (state, commit) = self.0.published.current();
            let (node, since) = {
                let stands_for = self.0.stands_for();
                (stands_for.node.clone(), stands_for.since)
            };
            let entry = match since > commit {
                true => Err(Behind::Ahead),
                false => may_stop(|| node.read(&state, commit)),
            };
            match entry {
                Ok(entry) => return Ok((entry, state, commit)),
                // Its commit is about to be published.
                Err(Behind::Ahead) => self.0.published.wait_beyond(commit),
                Err(Behind::Stopped(failure)) => return Err(failure.error().at(&self.0.name)),
            }
        }
    }

    /// Keeps the query up to date at every commit, for as long as the returned guard lives.
    pub(crate) fn subscribe(&self) -> KeepCurrent {
        {
            let mut stands_for = self.0.stands_for();
            stands_for.node.watch();
            stands_for.kept += 1;
        }
        let kept = KeepCurrent(self.0.clone());
        // A commit that is being made may have deferred it just before: then it includes that one,
        // too. The reader gets an error, if there is one.
        while let Ok((_, _, commit)) = self.entry()
            && self.node().is_behind()
        {
            self.0.published.wait_beyond(commit);
        }
        kept
    }

    /// Whether all tables that it reads are loaded; until then, its result covers what is loaded.
    /// See [`CacheBuilder::load_first`](crate::CacheBuilder::load_first) for an example.
    pub fn is_ready(&self) -> bool {
        let (state, _) = self.0.published.current();
        !state.has_unready() || self.tables().into_iter().all(|table| state.is_ready(table))
    }

    /// The tables that it reads.
    pub(crate) fn tables(&self) -> Vec<TableNo> {
        self.node().bound_plan.plan.tables().into_iter().collect()
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

    pub(crate) fn node(&self) -> Arc<Node> {
        self.0.stands_for().node.clone()
    }

    /// Identifies the handle and its clones.
    pub(crate) fn handle(&self) -> HandleNo {
        HandleNo(Arc::as_ptr(&self.0).addr())
    }

    /// Whether it is one of the cache's whose results are published there.
    pub(crate) fn is_of(&self, published: &Arc<Published>) -> bool {
        Arc::ptr_eq(&self.0.published, published)
    }

    /// Stands for another binding, which is up to date, from a commit on.
    pub(crate) fn go_over(&self, node: Arc<Node>, commit: u64) {
        let mut stands_for = self.0.stands_for();
        (0..stands_for.kept).for_each(|_| node.watch());
        let old = std::mem::replace(&mut stands_for.node, node);
        (0..stands_for.kept).for_each(|_| old.unwatch());
        stands_for.since = commit;
    }
}

/// A handle, as long as a clone of it exists.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct HandleNo(usize);

/// Keeps a query up to date at every commit for as long as it lives.
pub(crate) struct KeepCurrent(Arc<Handle>);

impl Drop for KeepCurrent {
    fn drop(&mut self) {
        let mut stands_for = self.0.stands_for();
        stands_for.node.unwatch();
        stands_for.kept -= 1;
    }
}

impl fmt::Debug for KeepCurrent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "KeepCurrent({})", self.0.name)
    }
}

/// Handles are equal if one is a clone of the other.
impl PartialEq for Query {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl Eq for Query {}

impl Hash for Query {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.handle().hash(state);
    }
}

impl fmt::Debug for Query {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Query({})", self.0.name)
    }
}

impl Drop for Handle {
    fn drop(&mut self) {
        let number = self.stands_for().node.number;
        self.published.release(number);
    }
}
