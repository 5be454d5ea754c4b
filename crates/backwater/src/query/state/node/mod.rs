//! One binding: a statement with values for its parameters, its state, and what it has yet to catch
//! up with.
//!
//! A node is independent: a reader can bring it up to date without the writer. Several nodes are
//! locked in the order from those that are read to those that read them.

mod behind;
mod follow;
mod rebind;
mod stretch;

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};

use rustc_hash::FxHashMap;

use crate::error::Error;
use crate::query::expr::scalar::{Key, KeyValues, Scalar};
use crate::query::operator::failed::failure;
use crate::query::operator::order::moves::Moves;
use crate::query::operator::order::ordered::Ordered;
use crate::query::operator::statement_rows::{
    StatementChange, StatementRow, StatementRows, StatementView, Undo,
};
use crate::query::operator::view::View;
use crate::query::plan::{BoundPlan, Excerpt, Plan};
use crate::query::result::Entry;
use crate::query::state::backlog::{GroupLog, Pending};
use crate::query::state::binding::{BindingState, OperatorState};
use crate::query::work::Failure;
use crate::query::{BindingNo, work};
use crate::sorting::{self, Numbered};
use crate::table::State;
pub(crate) use stretch::{Stretch, start, statement_starts};

/// What a binding reads, of which most read rows of one table alone: there may be very many.
pub(crate) struct Reads {
    /// For each source that is another statement, its binding; none at all, if no source is one.
    pub(crate) inner: Box<[Option<Arc<Node>>]>,
    /// What its group was sent, of a statement whose rows are made of several.
    pub(crate) log: Option<Arc<GroupLog>>,
}

/// A binding.
pub(crate) struct Node {
    pub(crate) number: BindingNo,
    pub(crate) bound_plan: Arc<BoundPlan>,
    /// What a row must have to belong here; `None` if no row can: a value is NULL, or LIMIT is 0.
    pub(crate) key: Option<KeyValues>,
    pub(crate) name: Arc<str>,
    pub(crate) reads: Option<Arc<Reads>>,
    current: Mutex<Current>,
    shown: Mutex<ForReaders>,
    pending: Mutex<Pending>,
    /// Those that read this one; mostly there are none.
    #[expect(clippy::box_collection, reason = "there may be very many nodes")]
    readers: Mutex<Option<Box<Vec<Weak<Node>>>>>,
    /// How many subscribe to it at every commit: watches, and watched readers.
    watched: AtomicUsize,
}

/// What a binding is.
pub(crate) type Parts =
    ((BindingNo, Arc<str>), Arc<BoundPlan>, Option<KeyValues>, Option<Arc<Reads>>);

/// What readers find, without waiting for a thread that brings it up to date.
struct ForReaders {
    now: Arc<Entry>,
    /// The commit that made it.
    since: u64,
    /// What there was until then, if that was up to date with the commit before it.
    before: Option<Arc<Entry>>,
}

struct Current {
    /// The result.
    entry: Arc<Entry>,
    /// Whether that failed for some of its rows, and those that read this one can do without them.
    failed_in_part: bool,
    operators: OperatorState,
    /// The rows for those that read this one.
    derived: Option<Box<StatementRows>>,
    /// The commit that it is surely up to date with.
    commit: u64,
}

/// Why a node could not be brought up to date.
#[derive(Debug, Clone)]
pub(crate) enum Behind {
    /// Something that it reads is at a later commit than the one asked for, which is about to be
    /// published.
    Ahead,
    /// It was stopped.
    Stopped(Failure),
}

/// How a node moved.
pub(crate) struct NodeMove {
    /// `None` if that is not known.
    pub(crate) moved: Option<Moves>,
    /// Whether it was recomputed.
    pub(crate) is_recomputed: bool,
    pub(crate) failure: Option<Failure>,
    pub(crate) old: Arc<Entry>,
    pub(crate) new: Arc<Entry>,
    pub(crate) derived: Vec<StatementChange>,
}

/// The nodes that a node reads, locked.
pub(crate) struct InnerNodes<'n> {
    /// Each once, however many sources it is.
    nodes: Vec<(BindingNo, MutexGuard<'n, Current>)>,
    sources: Vec<Option<BindingNo>>,
}

impl<'n> InnerNodes<'n> {
    fn of(inner: &'n [Option<Arc<Node>>]) -> Self {
        if inner.is_empty() {
            return Self { nodes: Vec::new(), sources: Vec::new() };
        }
        let sources = inner.iter().map(|node| node.as_ref().map(|node| node.number)).collect();
        let mut nodes: Vec<&Arc<Node>> = inner.iter().flatten().collect();
        sorting::few(&mut nodes, |a, b| a.number < b.number);
        nodes.dedup_by_key(|node| node.number);
        let nodes = nodes.into_iter().map(|node| (node.number, lock(&node.current))).collect();
        Self { nodes, sources }
    }

    fn rows<'a>(&'a self, source: usize, undo: Option<&'a Undo>) -> Option<StatementView<'a>> {
        let number = (*self.sources.get(source)?)?;
        let (_, current) = self.nodes.iter().find(|(other, _)| *other == number)?;
        current.derived.as_ref().map(|rows| StatementView { rows, undo })
    }

    /// Whether one of them is ahead of a commit.
    fn is_ahead(&self, commit: u64) -> bool {
        self.nodes.iter().any(|(_, current)| current.commit > commit)
    }

    /// Their rows as they are, or with what has changed since put back.
    pub(crate) fn views<'a>(
        &'a self,
        undo: &'a FxHashMap<u16, Undo>,
    ) -> Vec<Option<StatementView<'a>>> {
        (0..self.sources.len())
            .map(|source| self.rows(source, undo.get(&(source as u16))))
            .collect()
    }

    /// Why one of them cannot be computed.
    fn failure(&self) -> Option<Failure> {
        let mut failed = self.nodes.iter().filter(|(_, current)| !current.failed_in_part);
        failed.find_map(|(_, current)| current.entry.ordered.as_ref().err().cloned())
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Node {
    /// For each source that is another statement, its binding; none at all, if no source is one.
    pub(crate) fn inner(&self) -> &[Option<Arc<Node>>] {
        self.reads.as_ref().map_or(&[], |reads| &reads.inner)
    }

    /// What its group was sent, of a statement whose rows are made of several.
    fn log(&self) -> Option<&Arc<GroupLog>> {
        self.reads.as_ref()?.log.as_ref()
    }

    /// A new binding. Its state is that of `made`, or else computed from scratch.
    pub(crate) fn new(
        named: (BindingNo, Arc<str>),
        bound_plan: Arc<BoundPlan>,
        key: Option<KeyValues>,
        reads: Option<Arc<Reads>>,
        made: Option<Result<BindingState, Failure>>,
        (state, commit): (&Arc<State>, u64),
    ) -> Arc<Self> {
        Self::as_of((named, bound_plan, key, reads), made, (state, commit), commit)
    }

    /// The same, with a state that is of an earlier commit.
    pub(crate) fn as_of(
        (named, bound_plan, key, reads): Parts,
        made: Option<Result<BindingState, Failure>>,
        (state, commit): (&Arc<State>, u64),
        made_at: u64,
    ) -> Arc<Self> {
        let inner = reads.as_ref().map_or(&[][..], |reads| &reads.inner);
        for (source, node) in inner.iter().enumerate() {
            if let Some(node) = node {
                // The writer makes nodes: no reader is ahead of it.
                let caught_up = work::can_stop(false, || node.catch_up(state, commit));
                debug_assert!(caught_up.is_ok());
                node.serve(&bound_plan.plan, source, state);
            }
        }
        let live = match made {
            Some(live) => live,
            None => {
                let (inner, nothing) = (InnerNodes::of(inner), FxHashMap::default());
                let views = inner.views(&nothing);
                let view = View { plan: &bound_plan.plan, state, derived: &views };
                compute(&bound_plan, key.is_none(), &view, &inner)
            }
        };
        let Stored { entry, operators, failed_in_part } = kept(&bound_plan, live);
        let shown = Mutex::new(ForReaders { now: entry.clone(), since: made_at, before: None });
        let current = Current { entry, failed_in_part, operators, derived: None, commit: made_at };
        let (number, name) = named;
        let node = Arc::new(Self {
            number,
            bound_plan,
            key,
            name,
            reads,
            current: Mutex::new(current),
            shown,
            pending: Mutex::default(),
            readers: Mutex::default(),
            watched: AtomicUsize::new(0),
        });
        for inner in node.inner().iter().flatten() {
            lock(&inner.readers).get_or_insert_default().push(Arc::downgrade(&node));
        }
        node
    }

    /// Why it has no result, if it was stopped.
    pub(crate) fn stopped(&self) -> Option<Error> {
        let entry = self.entry();
        let failure = entry.ordered.as_ref().err().filter(|failure| failure.is_stopped);
        failure.map(Failure::error)
    }

    /// The result as the writer has it.
    pub(crate) fn entry(&self) -> Arc<Entry> {
        lock(&self.current).entry.clone()
    }

    /// How many rows its result has, if it can be computed.
    pub(crate) fn rows_shown(&self) -> usize {
        let current = lock(&self.current);
        current
            .entry
            .ordered
            .as_ref()
            .map_or(0, |ordered| self.bound_plan.excerpt.len(ordered.len()))
    }

    /// Bytes that its state takes, more or less.
    pub(crate) fn bytes(&self) -> usize {
        let current = lock(&self.current);
        current.entry.ordered.as_ref().map_or(0, Ordered::bytes) + current.operators.bytes()
    }

    /// The rows that a statement which reads this one sees, as they are.
    pub(crate) fn statement_rows(&self) -> Option<StatementRows> {
        lock(&self.current).derived.as_deref().cloned()
    }

    /// Keeps rows for a statement that reads this one as its source of that number.
    pub(crate) fn serve(&self, reader: &Plan, source: usize, state: &State) {
        let inner = InnerNodes::of(self.inner());
        let mut current = lock(&self.current);
        if current.derived.is_none() {
            let mut rows = StatementRows::default();
            let nothing = FxHashMap::default();
            let views = inner.views(&nothing);
            let view = View { plan: &self.bound_plan.plan, state, derived: &views };
            let fresh = current
                .failed_in_part
                .then(|| compute(&self.bound_plan, self.key.is_none(), &view, &inner).ok());
            let fresh = fresh.flatten().map(|live| live.ordered);
            let ordered = fresh.as_ref().or(current.entry.ordered.as_ref().ok());
            for (key, row) in self.rows(ordered, &view) {
                rows.set(&key, Some(Arc::new(row)));
            }
            current.derived = Some(Box::new(rows));
        }
        if let Some(rows) = &mut current.derived {
            reader.statement_indexes(source).iter().for_each(|fields| rows.index(fields));
        }
    }

    /// The rows in the excerpt, for those that read this one.
    fn rows<'r>(
        &'r self,
        ordered: Option<&'r Ordered>,
        view: &'r View<'_>,
    ) -> impl Iterator<Item = (Box<[Key]>, StatementRow)> + use<'r> {
        let BoundPlan { excerpt, params, .. } = &*self.bound_plan;
        let len = ordered.map_or(0, |ordered| excerpt.len(ordered.len()));
        (0..len).filter_map(move |rank| ordered?.statement_row(rank + excerpt.offset, view, params))
    }

    /// Whether it is to be up to date at every commit.
    pub(crate) fn is_watched(&self) -> bool {
        self.watched.load(Ordering::Acquire) > 0
    }

    /// Adds a subscriber to every commit; it must be up to date. It subscribes once to what it
    /// reads, however many subscribe to it.
    pub(crate) fn watch(&self) {
        if self.watched.fetch_add(1, Ordering::AcqRel) == 0 {
            self.inner().iter().flatten().for_each(|inner| inner.watch());
        }
    }

    pub(crate) fn unwatch(&self) {
        if self.watched.fetch_sub(1, Ordering::AcqRel) == 1 {
            self.inner().iter().flatten().for_each(|inner| inner.unwatch());
        }
    }

    pub(crate) fn lock_inner(&self) -> InnerNodes<'_> {
        InnerNodes::of(self.inner())
    }

    /// What readers find as of a commit that is published.
    ///
    /// # Errors
    /// [`Behind::Ahead`] if it is at a later commit already, which is about to be published;
    /// [`Behind::Stopped`].
    pub(crate) fn read(&self, state: &Arc<State>, commit: u64) -> Result<Arc<Entry>, Behind> {
        if !self.is_watched() || self.is_behind() {
            self.catch_up(state, commit)?;
        }
        let shown = lock(&self.shown);
        match &shown.before {
            _ if shown.since <= commit => Ok(shown.now.clone()),
            Some(before) if shown.since == commit + 1 => Ok(before.clone()),
            _ => Err(Behind::Ahead),
        }
    }

    /// Shows a new entry to readers, by which the commits from one to another were followed.
    fn show(&self, current: &Current, (first, commit): (u64, u64)) {
        let mut shown = lock(&self.shown);
        let before = std::mem::replace(&mut shown.now, current.entry.clone());
        shown.since = commit;
        shown.before = (first == commit).then_some(before);
    }

    /// Those that read this one, and as which source.
    pub(crate) fn readers(&self) -> Vec<(Arc<Node>, usize)> {
        let mut readers = lock(&self.readers);
        let Some(readers) = &mut *readers else { return Vec::new() };
        readers.retain(|reader| reader.strong_count() > 0);
        let nodes = readers.iter().filter_map(Weak::upgrade);
        let sources = nodes.flat_map(|node| {
            let mine = (0..node.inner().len()).filter(|source| {
                node.inner()[*source].as_ref().is_some_and(|inner| inner.number == self.number)
            });
            mine.map(|source| (node.clone(), source)).collect::<Vec<_>>()
        });
        let all: Vec<(Arc<Node>, usize)> = sources.collect();
        if all.len() < 2 {
            return all;
        }
        let mut numbered: Vec<Numbered> =
            all.iter().map(|(node, _)| node.number.0).zip(0..).collect();
        sorting::numbers(&mut numbered, &|a, b| all[a].1.cmp(&all[b].1));
        let ordered = numbered.into_iter().map(|(_, number)| all[number as usize].clone());
        let mut out: Vec<_> = ordered.collect();
        out.dedup_by_key(|(node, source)| (node.number, *source));
        out
    }
}

/// Whether a failure of some rows concerns only readers of these: where the order, or the excerpt,
/// does not depend on their values.
fn fails_in_part(bound_plan: &BoundPlan) -> bool {
    let plan = &bound_plan.plan;
    let by_row = plan.rows.operator().is_none_or(|rows| rows.fails_by_row());
    by_row && plan.order.is_empty() && bound_plan.excerpt.is_whole()
}

/// A binding's state from scratch, as of a version of all that it reads; without rows, if `empty`.
fn compute(
    bound_plan: &BoundPlan,
    empty: bool,
    view: &View<'_>,
    inner: &InnerNodes<'_>,
) -> Result<BindingState, Failure> {
    match inner.failure() {
        Some(failure) => Err(failure),
        None => computed(view, (&bound_plan.params, bound_plan.excerpt), empty),
    }
}

/// The same where all that it reads can be computed.
pub(crate) fn computed(
    view: &View<'_>,
    (params, excerpt): (&[Scalar<'static>], Excerpt),
    empty: bool,
) -> Result<BindingState, Failure> {
    view.take_needed();
    let live = BindingState::compute(view, (params, excerpt), empty)?;
    let failure = view.take_needed().and_then(|_| failure(view, params));
    failure.map_or(Ok(live), Err)
}

/// A state as it is kept.
struct Stored {
    entry: Arc<Entry>,
    operators: OperatorState,
    failed_in_part: bool,
}

fn kept(bound_plan: &Arc<BoundPlan>, live: Result<BindingState, Failure>) -> Stored {
    let (ordered, operators, failed_in_part) = match live {
        Ok(BindingState { failure: Some(failure), .. }) => {
            (Err(failure), OperatorState::default(), fails_in_part(bound_plan))
        }
        Ok(BindingState { ordered, operators, failure: None }) => (Ok(ordered), operators, false),
        Err(failure) => (Err(failure), OperatorState::default(), false),
    };
    Stored { entry: Arc::new(Entry::new(bound_plan.clone(), ordered)), operators, failed_in_part }
}
