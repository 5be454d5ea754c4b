//! One binding: a statement with values for its parameters, its state, and what it has yet to catch
//! up with.
//!
//! A node is independent: a reader can bring it up to date without the writer. Several nodes are
//! locked in the order from those that are read to those that read them.

use std::borrow::Cow;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};

use rustc_hash::{FxHashMap, FxHashSet};

use crate::caught::step;
use crate::change::{Happened, compare};
use crate::error::Error;
use crate::query::expr::Expr;
use crate::query::expr::scalar::{Key, KeyValues, Scalar};
use crate::query::operator::failed::failure;
use crate::query::operator::filter::Filter;
use crate::query::operator::join::{Start, Starts, TupleDelta, TupleDeltas, changed_tuples};
use crate::query::operator::order::Moves;
use crate::query::operator::statement_rows::{
    StatementChange, StatementRow, StatementRows, StatementView, Undo, changed_columns,
};
use crate::query::operator::view::View;
use crate::query::operator::walk::Walk;
use crate::query::plan::{BoundPlan, Plan, Relation, Window};
use crate::query::result::Entry;
use crate::query::result::edit::Failure;
use crate::query::state::backlog::{Backlog, DerivedBacklog, GroupLog, Pending};
use crate::query::state::binding::{BindingState, OperatorState};
use crate::query::state::ordered::Ordered;
use crate::query::state::rebind::{End, RebindStrategy, difference, window_moved};
use crate::query::{BindingNo, work};
use crate::schema::TableNo;
use crate::table::{Slot, State};

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
    /// Something that it reads is at a later commit than the one bound_plan for, which is about to be
    /// published.
    Ahead,
    /// It was stopped.
    Stopped(Failure),
}

/// How a node moved.
pub(crate) struct Progress {
    /// `None` if that is not known.
    pub(crate) moved: Option<Moves>,
    /// Whether it was recomputed.
    pub(crate) is_anew: bool,
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
        nodes.sort_by_key(|node| node.number);
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

    /// The state of another binding of the shape, made from this one's, which is up to date; and
    /// how the rows move, if that is known already. `rows` are those that may come or go. `None` if
    /// it cannot be made. What cannot be shared is taken, if `take`: then nothing else may need it.
    pub(crate) fn toward(
        &self,
        to: &BoundPlan,
        way: &RebindStrategy,
        rows: &[(usize, Slot)],
        state: &State,
        take: bool,
    ) -> Option<(BindingState, Option<Moves>)> {
        let inner = InnerNodes::of(self.inner());
        let nothing = FxHashMap::default();
        let views = inner.views(&nothing);
        let view = View { plan: &self.bound_plan.plan, state, derived: &views };
        let mut current = lock(&self.current);
        let Current { entry, operators, .. } = &mut *current;
        let ordered = entry.ordered.as_ref().ok()?;
        let (old, new) = (self.bound_plan.window, to.window);
        if view.has_failed() {
            return None;
        }
        let copy = |operators: &mut OperatorState| BindingState {
            ordered: ordered.clone(),
            operators: if take { std::mem::take(operators) } else { operators.clone() },
            failure: None,
        };
        match way {
            RebindStrategy::Recompute => None,
            RebindStrategy::Window => {
                let len = ordered.len();
                if !ordered.reaches(new.end()) {
                    return None;
                }
                Some((copy(operators), Some(window_moved(old.ranks(len), new.ranks(len)))))
            }
            RebindStrategy::Ends(ends) => {
                let at = |end: End| {
                    let here = ends.iter().filter(|(of, _)| *of == end);
                    Filter::of(here.map(|(_, number)| &to.plan.late[*number]), &to.params)
                };
                let meet = (&at(End::Front), &at(End::Back));
                let (live, moved) = BindingState::cut(ordered, (old, new), &view, meet)?;
                Some((live, Some(moved)))
            }
            RebindStrategy::Narrower => {
                let (live, moved) = BindingState::narrowed((ordered, operators), &view, to, old)?;
                Some((live, Some(moved)))
            }
            RebindStrategy::Bands(_) => {
                let mut live = copy(operators);
                let moved = work::within(&to.plan.limits, || {
                    let tuples = self.rebound_tuples(to, rows, &view);
                    let moved = live.apply((&view, &view), &to.params, new, &tuples);
                    live.check_size(&to.plan.limits);
                    moved
                });
                let moved = moved.ok()??;
                (live.failure.is_none()).then_some((live, (old == new).then_some(moved)))
            }
        }
    }

    /// The tuples with these rows that belong to one of two bindings and not to the other.
    fn rebound_tuples(
        &self,
        to: &BoundPlan,
        rows: &[(usize, Slot)],
        view: &View<'_>,
    ) -> TupleDeltas {
        let mut out = TupleDeltas::new();
        if rows.is_empty() {
            return out;
        }
        let Some(key) = &self.key else { return out };
        let plan = view.plan;
        let (was, is) =
            (Filter::of(&plan.late, &self.bound_plan.params), Filter::of(&plan.late, &to.params));
        let walk = Walk { view, params: &to.params };
        for (source, slot) in rows {
            walk.from(*source, *slot, &mut |tuple| {
                let row = view.row(tuple);
                let (before, after) = (was.holds(&row), is.holds(&row));
                if before == after
                    || !key.is_empty() && view.binding_key(tuple).as_ref() != Some(key)
                {
                    return;
                }
                let tuple = tuple.into();
                let (content, order, is_another, alone, cause) = (true, true, false, None, 0);
                let fields = u64::MAX;
                out.push(TupleDelta {
                    tuple,
                    before,
                    after,
                    content,
                    order,
                    is_another,
                    alone,
                    fields,
                    cause,
                });
            });
        }
        out.sort_unstable_by(|a, b| a.tuple.cmp(&b.tuple));
        out.dedup_by(|a, b| a.tuple == b.tuple);
        out
    }

    /// How the rows move from the result of another binding of the shape to that of this one, both
    /// as of one commit; `None` if one of them cannot be computed.
    pub(crate) fn difference(&self, from: &Node, state: &State) -> Option<Moves> {
        let (old, new) = (from.entry(), self.entry());
        let (Ok(old), Ok(new)) = (&old.ordered, &new.ordered) else { return None };
        let view = View { plan: &self.bound_plan.plan, state, derived: &[] };
        let mut reads = false;
        let outputs = self.bound_plan.plan.outputs.iter().map(|output| &output.expr);
        for expr in outputs.chain(self.bound_plan.plan.order.iter().map(|key| &key.expr)) {
            expr.walk(&mut |expr| reads |= matches!(expr, Expr::Param(_)));
        }
        // The rows are the same; only parameters can make them something else, or another partner.
        let changed = |old: &[Slot], new: &[Slot]| reads || old != new;
        Some(difference((&from.bound_plan, old, &view), (&self.bound_plan, new, &view), &changed))
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
            .map_or(0, |ordered| self.bound_plan.window.len(ordered.len()))
    }

    /// Bytes that its state takes, more or less.
    pub(crate) fn bytes(&self) -> usize {
        let current = lock(&self.current);
        current.entry.ordered.as_ref().map_or(0, Ordered::bytes) + current.operators.bytes()
    }

    /// The rows that a statement which reads this one sees, as they are.
    pub(crate) fn derived_rows(&self) -> Option<StatementRows> {
        lock(&self.current).derived.as_deref().cloned()
    }

    /// Has a new binding, which was made from these rows of what it reads, follow how they changed.
    pub(crate) fn fall_behind_inner(
        &self,
        then: &Arc<State>,
        commit: u64,
        rows: &[Option<StatementRows>],
    ) {
        for (source, (node, rows)) in self.inner().iter().zip(rows).enumerate() {
            let (Some(node), Some(rows)) = (node, rows) else { continue };
            let changes = node.derived_rows().map(|now| now.changes_since(rows));
            let changes = changes.filter(|changes| !changes.is_empty());
            if let Some(changes) = changes {
                let changes = changes.iter().map(|change| (change.slot, &change.before));
                self.put_off_derived((commit, commit), then, source, changes);
            }
        }
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

    /// The rows in the window, for those that read this one.
    fn rows<'r>(
        &'r self,
        ordered: Option<&'r Ordered>,
        view: &'r View<'_>,
    ) -> impl Iterator<Item = (Box<[Key]>, StatementRow)> + use<'r> {
        let BoundPlan { window, params, .. } = &*self.bound_plan;
        let len = ordered.map_or(0, |ordered| window.len(ordered.len()));
        (0..len).filter_map(move |rank| ordered?.statement_row(rank + window.offset, view, params))
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
        let mut out: Vec<(Arc<Node>, usize)> = sources.collect();
        out.sort_by_key(|(node, source)| (node.number, *source));
        out.dedup_by_key(|(node, source)| (node.number, *source));
        out
    }

    /// Whether there is something that it has yet to follow. If what it reads has, it has as well.
    pub(crate) fn is_behind(&self) -> bool {
        !lock(&self.pending).is_nothing()
    }

    /// Puts off following a commit's changes; `before` are the tables before it. `rows` are the
    /// changed rows by source, unless the group's log has them.
    pub(crate) fn put_off(
        &self,
        commit: u64,
        before: &Arc<State>,
        rows: impl Iterator<Item = (usize, Slot)>,
    ) {
        let mut pending = lock(&self.pending);
        let Some(backlog) = pending.backlog(commit, before, self.log()) else { return };
        if !backlog.add_rows(commit, rows, self.bound_plan.plan.tuning.backlog_rows) {
            pending.forget(commit);
        }
    }

    /// Has a new binding, which is as of another version of the tables, follow the rows that were
    /// changed in the commits since.
    pub(crate) fn fall_behind(
        &self,
        then: &Arc<State>,
        (first, last): (u64, u64),
        rows: &[(TableNo, Slot)],
    ) {
        let sources = self.bound_plan.plan.sources.iter().enumerate();
        let rows = sources.flat_map(|(source, of)| {
            let of_table = rows.iter().filter(
                |(table, _)| matches!(of.relation, Relation::Table(here) if here == *table),
            );
            of_table.map(move |(_, slot)| (last, source as u16, *slot))
        });
        if first <= last {
            *lock(&self.pending) = Pending::of_rows(then, (first, last), rows.collect());
        }
    }

    /// Puts off following what a statement that it reads did in the commits from one to another,
    /// unless that was put off before.
    pub(crate) fn put_off_derived<'r>(
        &self,
        (first, commit): (u64, u64),
        before: &Arc<State>,
        source: usize,
        changes: impl Iterator<Item = (Slot, &'r Option<Arc<StatementRow>>)>,
    ) {
        let mut pending = lock(&self.pending);
        let Some(backlog) = pending.backlog(commit, before, self.log()) else { return };
        if !backlog.add_derived(
            (first, commit),
            source,
            changes,
            self.bound_plan.plan.tuning.backlog_rows,
        ) {
            pending.forget(commit);
        }
    }

    /// Forgets what it has yet to follow and recomputes at the next read, so that old versions of
    /// the tables are not kept for it.
    pub(crate) fn give_up_backlog(&self, before: u64) {
        lock(&self.pending).give_up(before);
    }

    /// Brings it up to date with a commit, and what it reads. `Ok(None)` if nothing was to do.
    ///
    /// # Errors
    /// [`Behind::Ahead`] if something that it reads is at a later commit already;
    /// [`Behind::Stopped`], and then nothing has changed.
    pub(crate) fn catch_up(
        &self,
        state: &Arc<State>,
        commit: u64,
    ) -> Result<Option<Progress>, Behind> {
        // Each only once, however many read it.
        if !self.inner().is_empty() && lock(&self.current).commit >= commit {
            return Ok(None);
        }
        for inner in self.inner().iter().flatten() {
            inner.catch_up(state, commit)?;
        }
        let inner = InnerNodes::of(self.inner());
        let mut current = lock(&self.current);
        if current.commit >= commit {
            return Ok(None);
        }
        let mut pending = lock(&self.pending);
        let rows = pending.rows_up_to(commit);
        if rows.is_none() && inner.is_ahead(commit) || pending.is_between(commit) {
            return Err(Behind::Ahead);
        }
        let taken = pending.take_up_to(state, commit);
        let first = taken.first(current.commit);
        drop(pending);
        let was = std::mem::replace(&mut current.commit, commit);
        let (before, progress) = match (taken, rows) {
            (Pending::Nothing, _) => return Ok(None),
            (Pending::Few(backlog), Some(rows)) => {
                let before = backlog.state.clone();
                let follow =
                    || self.follow_backlog(&mut current, (&backlog, rows), state, commit, &inner);
                (before, work::can_stop(false, follow))
            }
            _ => {
                let nothing = FxHashMap::default();
                let views = inner.views(&nothing);
                let view = View { plan: &self.bound_plan.plan, state, derived: &views };
                let fresh = compute(&self.bound_plan, self.key.is_none(), &view, &inner);
                if let Err(failure) = &fresh
                    && failure.is_stopped
                {
                    current.commit = was;
                    lock(&self.pending).forget(commit);
                    return Err(Behind::Stopped(failure.clone()));
                }
                (state.clone(), self.replace(&mut current, fresh, &view))
            }
        };
        self.show(&current, (first, commit));
        self.notify_readers((first, commit), &before, &progress.derived, true);
        Ok(Some(progress))
    }

    fn follow_backlog(
        &self,
        current: &mut Current,
        (backlog, rows): (&Backlog, Vec<(u16, Slot)>),
        state: &Arc<State>,
        commit: u64,
        inner: &InnerNodes<'_>,
    ) -> Progress {
        let mut starts = Starts::new();
        for (source, slot) in rows {
            if let Relation::Table(table) = self.bound_plan.plan.sources[source as usize].relation
                && let Some(happened) = compare(&backlog.state, state, table, slot)
            {
                let id = &state.schema.table(table).id;
                let is_another = matches!(&happened, Happened::Updated(fields)
                    if id.iter().any(|field| fields.contains(*field)));
                let happened = if is_another { Happened::Inserted } else { happened };
                let is_another =
                    is_another && !self.bound_plan.plan.sources[source as usize].is_determined;
                let start = start(&self.bound_plan.plan, source.into(), slot, &happened, 0);
                starts.extend(start.map(|start| Start { is_another, ..start }));
            }
        }
        let (mut then, mut now) = (FxHashMap::default(), FxHashMap::default());
        for (source, DerivedBacklog { slots, .. }) in &backlog.derived {
            let (mut first, mut later) = (Undo::default(), Undo::default());
            for (slot, versions) in slots {
                versions.first().into_iter().for_each(|(_, row)| first.add(*slot, row));
                let newer = versions.iter().find(|(of, _)| *of > commit);
                newer.into_iter().for_each(|(_, row)| later.add(*slot, row));
            }
            let rows = inner.rows(*source as usize, Some(&later));
            for (slot, before) in first.iter() {
                let after = rows.as_ref().and_then(|rows| rows.row(slot));
                let source = *source as usize;
                starts.extend(derived_start(
                    &self.bound_plan.plan,
                    source,
                    slot,
                    before.as_deref(),
                    after,
                ));
            }
            then.insert(*source, first);
            now.insert(*source, later);
        }
        let (old, new) = (inner.views(&then), inner.views(&now));
        let before = View { plan: &self.bound_plan.plan, state: &backlog.state, derived: &old };
        let after = View { plan: &self.bound_plan.plan, state, derived: &new };
        let BoundPlan { plan, params, .. } = &*self.bound_plan;
        let tuples = work::within(&plan.limits, || {
            let tuples = changed_tuples(&before, &after, params, &starts);
            self.belonging((&before, &after), Cow::Borrowed(&tuples), true).into_owned()
        });
        match tuples {
            Ok(tuples) => self.advance(current, (&before, &after), &tuples, inner),
            Err(_) => self.recompute(current, (&before, &after), &|_, _| true, inner),
        }
    }

    /// Of changed tuples those that belong here before or after.
    pub(crate) fn belonging<'t>(
        &self,
        (before, after): (&View<'_>, &View<'_>),
        tuples: Cow<'t, [TupleDelta]>,
        by_key: bool,
    ) -> Cow<'t, [TupleDelta]> {
        let Some(key) = &self.key else { return Cow::default() };
        if self.bound_plan.plan.late.is_empty() && (!by_key || key.is_empty()) {
            return tuples;
        }
        let belongs = |view: &View<'_>, tuple: &TupleDelta| {
            let row = view.row(&tuple.tuple);
            let is_true = |condition: &crate::query::expr::Expr| {
                condition.eval(&row, &self.bound_plan.params).as_truth() == Some(true)
            };
            (!by_key || view.binding_key(&tuple.tuple).as_ref() == Some(key))
                && self.bound_plan.plan.late.iter().all(is_true)
        };
        let mut out = Vec::new();
        for tuple in tuples.iter() {
            let was = tuple.before && belongs(before, tuple);
            let is = tuple.after && belongs(after, tuple);
            if was || is {
                out.push(TupleDelta { before: was, after: is, ..tuple.clone() });
            }
        }
        out.into()
    }

    /// Follows a commit at once.
    pub(crate) fn follow(
        &self,
        commit: u64,
        (before, after): (&View<'_>, &View<'_>),
        old_state: &Arc<State>,
        tuples: &[TupleDelta],
        inner: &InnerNodes<'_>,
    ) -> Progress {
        let mut current = lock(&self.current);
        current.commit = commit;
        let progress = self.advance(&mut current, (before, after), tuples, inner);
        step("binding");
        self.show(&current, (commit, commit));
        self.notify_readers((commit, commit), old_state, &progress.derived, false);
        progress
    }

    /// Follows a commit at once by recomputing, since it changed very much; `changed` are the rows,
    /// by source.
    pub(crate) fn follow_by_recomputing(
        &self,
        commit: u64,
        (before, after): (&View<'_>, &View<'_>),
        old_state: &Arc<State>,
        changed: &[Start],
        inner: &InnerNodes<'_>,
    ) -> Progress {
        let mut current = lock(&self.current);
        current.commit = commit;
        let rows: FxHashSet<(usize, Slot)> =
            changed.iter().map(|start| (start.source, start.slot)).collect();
        let has_changed = |old: &[Slot], new: &[Slot]| {
            old != new
                || new.iter().enumerate().any(|(source, slot)| rows.contains(&(source, *slot)))
        };
        let progress = self.recompute(&mut current, (before, after), &has_changed, inner);
        self.show(&current, (commit, commit));
        self.notify_readers((commit, commit), old_state, &progress.derived, false);
        progress
    }

    /// Recomputes, and finds by comparing how the rows moved; `has_changed` says of rows that are
    /// in both results whether they may have changed.
    fn recompute(
        &self,
        current: &mut Current,
        (before, after): (&View<'_>, &View<'_>),
        has_changed: &dyn Fn(&[Slot], &[Slot]) -> bool,
        inner: &InnerNodes<'_>,
    ) -> Progress {
        let fresh = compute(&self.bound_plan, self.key.is_none(), after, inner);
        let mut progress = self.replace(current, fresh, after);
        if let (Ok(old), Ok(new)) = (&progress.old.ordered, &progress.new.ordered) {
            let (from, to) = ((&*self.bound_plan, old, before), (&*self.bound_plan, new, after));
            let moved = difference(from, to, has_changed);
            if moved.is_empty() {
                // A result that a reader holds stays the same object.
                current.entry = Arc::new(progress.old.with_same_rows(new.clone()));
            }
            progress.moved = Some(moved);
        }
        progress.new = current.entry.clone();
        progress
    }

    /// How many rows recomputing goes through, more or less, if they are those of tables.
    pub(crate) fn rows_of_tables(&self, state: &State) -> Option<usize> {
        let plan = &self.bound_plan.plan;
        match lock(&self.current).entry.ordered.as_ref().ok()? {
            Ordered::Kept(_) => None,
            ordered if ordered.reaches(usize::MAX) => Some(ordered.len()),
            // Only the first are kept: of all there is no count.
            _ => match plan.sources[plan.scratch.start].relation {
                Relation::Table(table) => Some(state.table(table).rows() as usize),
                Relation::Statement(..) => None,
            },
        }
    }

    /// Passes on to those that read it what changed for them in the commits from one to another,
    /// while the change is still held: all of them, or those that are behind or may be, where the
    /// others follow at once.
    fn notify_readers(
        &self,
        commits: (u64, u64),
        before: &Arc<State>,
        changes: &[StatementChange],
        all: bool,
    ) {
        if changes.is_empty() {
            return;
        }
        for (reader, source) in self.readers() {
            if all || !reader.is_watched() || reader.is_behind() {
                let changes = changes.iter().map(|change| (change.slot, &change.before));
                reader.put_off_derived(commits, before, source, changes);
            }
        }
    }

    fn advance(
        &self,
        current: &mut Current,
        (before, after): (&View<'_>, &View<'_>),
        rows: &[TupleDelta],
        inner: &InnerNodes<'_>,
    ) -> Progress {
        let old = current.entry.clone();
        let was = match (&old.ordered, inner.failure()) {
            (_, Some(failure)) => return self.replace(current, Err(failure), after),
            (Ok(was), None) if current.operators.is_of(&self.bound_plan.plan) => was,
            (_, None) => {
                let fresh = compute(&self.bound_plan, self.key.is_none(), after, inner);
                return self.replace(current, fresh, after);
            }
        };
        if after.has_failed() {
            return self.recompute(current, (before, after), &|_, _| true, inner);
        }
        let operators = std::mem::take(&mut current.operators);
        let mut live = BindingState { ordered: was.clone(), operators, failure: None };
        let BoundPlan { plan, params, window } = &*self.bound_plan;
        let applied = work::within(&plan.limits, || {
            let moved = live.apply((before, after), params, *window, rows);
            live.check_size(&plan.limits);
            moved
        });
        match applied {
            Err(failure) => self.replace(current, Err(failure), after),
            Ok(_) if live.failure.is_some() => self.replace(current, Ok(live), after),
            Ok(None) => {
                let changed: FxHashSet<&[Slot]> = rows.iter().map(|row| &*row.tuple).collect();
                let has_changed = |old: &[Slot], new: &[Slot]| old != new || changed.contains(new);
                let mut progress = self.recompute(current, (before, after), &has_changed, inner);
                if rows.iter().any(|row| row.is_another)
                    && let (Ok(old), Ok(new)) = (&progress.old.ordered, &progress.new.ordered)
                {
                    // A slot does not distinguish a row from another one that was there before.
                    let [old, new] = [old, new].map(|rows| self.bound_plan.window.len(rows.len()));
                    progress.moved = Some(window_moved(0..old, old..old + new));
                }
                progress
            }
            Ok(Some(moved)) => {
                let BindingState { ordered: is, operators, .. } = live;
                current.operators = operators;
                let mut derived = Vec::new();
                if let Some(rows) = &mut current.derived {
                    for moved in &moved {
                        let rank = |position: usize| position + self.bound_plan.window.offset;
                        let old = moved.before().and_then(|position| {
                            was.statement_row(rank(position), before, &self.bound_plan.params)
                        });
                        let new = moved.after().and_then(|position| {
                            is.statement_row(rank(position), after, &self.bound_plan.params)
                        });
                        match (old, new) {
                            (_, Some((key, row))) => {
                                derived.push(rows.set(&key, Some(Arc::new(row))));
                            }
                            (Some((key, _)), None) => derived.push(rows.set(&key, None)),
                            (None, None) => {}
                        }
                    }
                }
                current.entry = Arc::new(if moved.is_empty() {
                    // The order may have moved beyond the window. Readers get the new one, but a
                    // result that a reader holds stays the same object.
                    current.entry.with_same_rows(is)
                } else {
                    Entry::new(self.bound_plan.clone(), Ok(is))
                });
                Progress {
                    moved: Some(moved),
                    is_anew: false,
                    failure: None,
                    old,
                    new: current.entry.clone(),
                    derived,
                }
            }
        }
    }

    /// Replaces the current state by a recomputed one.
    fn replace(
        &self,
        current: &mut Current,
        live: Result<BindingState, Failure>,
        view: &View<'_>,
    ) -> Progress {
        let old = current.entry.clone();
        let mut derived = Vec::new();
        if let Some(rows) = &mut current.derived {
            let live = live
                .as_ref()
                .ok()
                .filter(|live| live.failure.is_none() || fails_in_part(&self.bound_plan));
            derived = rows.replace_all(self.rows(live.map(|live| &live.ordered), view));
        }
        let kept = kept(&self.bound_plan, live);
        current.entry = kept.entry;
        current.operators = kept.operators;
        current.failed_in_part = kept.failed_in_part;
        let failure = current.entry.ordered.as_ref().err().cloned();
        Progress { moved: None, is_anew: true, failure, old, new: current.entry.clone(), derived }
    }
}

/// Whether a failure of some rows concerns only readers of these: where the order, or the window,
/// does not depend on their values.
fn fails_in_part(bound_plan: &BoundPlan) -> bool {
    bound_plan.plan.order.is_empty() && bound_plan.window.is_whole()
}

/// Where the search for changed tuples starts at a changed row; nowhere, if nothing of it is read.
pub(crate) fn start(
    plan: &Plan,
    source: usize,
    slot: Slot,
    happened: &Happened,
    cause: u32,
) -> Option<Start> {
    let of = &plan.sources[source];
    Some(match happened {
        Happened::Updated(fields) => {
            if !fields.meets(&of.reads) {
                return None;
            }
            let structure = fields.meets(&of.structure);
            let (content, order) = (fields.meets(&of.content), fields.meets(&of.order));
            let (fields, is_another) = (fields.first(), false);
            Start { source, slot, structure, content, order, fields, is_another, cause }
        }
        Happened::Inserted | Happened::Deleted => {
            let (structure, content, order, is_another) = (true, true, true, false);
            let fields = u64::MAX;
            Start { source, slot, structure, content, order, fields, is_another, cause }
        }
    })
}

/// The same at a changed row of another statement.
pub(crate) fn derived_start(
    plan: &Plan,
    source: usize,
    slot: Slot,
    before: Option<&StatementRow>,
    after: Option<&StatementRow>,
) -> Option<Start> {
    let happened = match (before, after) {
        (None, None) => return None,
        (None, Some(_)) => Happened::Inserted,
        (Some(_), None) => Happened::Deleted,
        // A place was taken by another row.
        (Some(before), Some(after)) if before.key != after.key => Happened::Inserted,
        (Some(_), Some(_)) => Happened::Updated(changed_columns(before, after)?),
    };
    start(plan, source, slot, &happened, crate::query::DERIVED | source as u32)
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
        None => computed(view, (&bound_plan.params, bound_plan.window), empty),
    }
}

/// The same where all that it reads can be computed.
pub(crate) fn computed(
    view: &View<'_>,
    (params, window): (&[Scalar<'static>], Window),
    empty: bool,
) -> Result<BindingState, Failure> {
    view.take_needed();
    let live = BindingState::compute(view, (params, window), empty)?;
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
