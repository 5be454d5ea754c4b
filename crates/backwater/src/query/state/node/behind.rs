//! Nodes that are not watched: what they have yet to follow, and how they catch up.

use std::borrow::Cow;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::{
    Behind, Current, InnerNodes, Node, NodeMove, Stretch, compute, lock, start, statement_starts,
};
use crate::change::{Happened, compare};
use crate::query::operator::join::{Start, Starts};
use crate::query::operator::statement_rows::{StatementRow, StatementRows, Undo};
use crate::query::operator::view::View;
use crate::query::plan::BoundPlan;
use crate::query::state::backlog::{Backlog, DerivedBacklog, Pending};
use crate::query::work;
use crate::schema::TableNo;
use crate::table::{Slot, State};

impl Node {
    /// Has a new binding, which was made from these rows of what it reads, follow how they changed.
    pub(crate) fn fall_behind_inner(
        &self,
        then: &Arc<State>,
        commit: u64,
        rows: &[Option<StatementRows>],
    ) {
        for (source, (node, rows)) in self.inner().iter().zip(rows).enumerate() {
            let (Some(node), Some(rows)) = (node, rows) else { continue };
            let changes = node.statement_rows().map(|now| now.changes_since(rows));
            let changes = changes.filter(|changes| !changes.is_empty());
            if let Some(changes) = changes {
                let changes = changes.iter().map(|change| (change.slot, &change.before));
                self.defer_statement((commit, commit), then, source, changes);
            }
        }
    }

    /// Whether there is something that it has yet to follow. If what it reads has, it has as well.
    pub(crate) fn is_behind(&self) -> bool {
        !lock(&self.pending).is_nothing()
    }

    /// Puts off following a commit's changes; `before` are the tables before it. `rows` are the
    /// changed rows by source, unless the group's log has them.
    pub(crate) fn defer(
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
            let of_table = rows.iter().filter(|(table, _)| of.relation.table() == Some(*table));
            of_table.map(move |(_, slot)| (last, source as u16, *slot))
        });
        if first <= last {
            *lock(&self.pending) = Pending::of_rows(then, (first, last), rows.collect());
        }
    }

    /// Puts off following what a statement that it reads did in the commits from one to another,
    /// unless that was put off before.
    pub(crate) fn defer_statement<'r>(
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
    ) -> Result<Option<NodeMove>, Behind> {
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
        let commits = (first, commit);
        match (taken, rows) {
            (Pending::Nothing, _) => {
                current.commit = commit;
                Ok(None)
            }
            (Pending::Few(backlog), Some(rows)) => {
                let follow =
                    || self.follow_backlog(&mut current, (&backlog, rows), state, commits, &inner);
                Ok(Some(work::can_stop(false, follow)))
            }
            _ => {
                let nothing = FxHashMap::default();
                let views = inner.views(&nothing);
                let view = View { plan: &self.bound_plan.plan, state, derived: &views };
                let fresh = compute(&self.bound_plan, self.key.is_none(), &view, &inner);
                if let Err(failure) = &fresh
                    && failure.is_stopped
                {
                    lock(&self.pending).forget(commit);
                    return Err(Behind::Stopped(failure.clone()));
                }
                current.commit = commit;
                let progress = self.replace(&mut current, fresh, &view);
                self.show(&current, commits);
                self.notify_readers(commits, state, &progress.derived, true);
                Ok(Some(progress))
            }
        }
    }

    fn follow_backlog(
        &self,
        current: &mut Current,
        (backlog, rows): (&Backlog, Vec<(u16, Slot)>),
        state: &Arc<State>,
        commits: (u64, u64),
        inner: &InnerNodes<'_>,
    ) -> NodeMove {
        let mut starts = Starts::new();
        for (source, slot) in rows {
            if let Some(table) = self.bound_plan.plan.sources[source as usize].relation.table()
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
                let newer = versions.iter().find(|(of, _)| *of > commits.1);
                newer.into_iter().for_each(|(_, row)| later.add(*slot, row));
            }
            then.insert(*source, first);
            now.insert(*source, later);
        }
        let (old, new) = (inner.views(&then), inner.views(&now));
        starts.extend(statement_starts(&self.bound_plan.plan, &then, &new));
        let BoundPlan { plan, params, .. } = &*self.bound_plan;
        let before = View { plan, state: &backlog.state, derived: &old };
        let after = View { plan, state, derived: &new };
        let (views, old_state) = ((&before, &after), &backlog.state);
        let stretch = Stretch { commits, views, old_state, starts: &starts, inner };
        let tuples = stretch.tuples(params);
        let tuples = tuples.and_then(|tuples| {
            let belonging = || self.belonging(views, Cow::Owned(tuples.into_vec()), true);
            work::within(&plan.limits, belonging)
        });
        self.follow_stretch(current, &stretch, tuples.ok().as_deref(), true)
    }
}
