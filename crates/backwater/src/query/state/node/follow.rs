//! How a node follows commits: by deltas, or by recomputing.

use std::borrow::Cow;
use std::sync::Arc;

use rustc_hash::FxHashSet;

use super::{Current, InnerNodes, Node, NodeMove, compute, fails_in_part, kept, lock};
use crate::caught::step;
use crate::query::operator::join::{Start, TupleDelta};
use crate::query::operator::statement_rows::StatementChange;
use crate::query::operator::view::View;
use crate::query::plan::{BoundPlan, Relation};
use crate::query::result::Entry;
use crate::query::result::edit::Failure;
use crate::query::state::binding::BindingState;
use crate::query::state::ordered::Ordered;
use crate::query::state::rebind::{difference, excerpt_moved};
use crate::query::work;
use crate::table::{Slot, State};

impl Node {
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
    ) -> NodeMove {
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
    ) -> NodeMove {
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
    pub(super) fn recompute(
        &self,
        current: &mut Current,
        (before, after): (&View<'_>, &View<'_>),
        has_changed: &dyn Fn(&[Slot], &[Slot]) -> bool,
        inner: &InnerNodes<'_>,
    ) -> NodeMove {
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
            Ordered::Kept(..) => None,
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
    pub(super) fn notify_readers(
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
                reader.defer_statement(commits, before, source, changes);
            }
        }
    }

    pub(super) fn advance(
        &self,
        current: &mut Current,
        (before, after): (&View<'_>, &View<'_>),
        rows: &[TupleDelta],
        inner: &InnerNodes<'_>,
    ) -> NodeMove {
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
        let BoundPlan { plan, params, excerpt } = &*self.bound_plan;
        let applied = work::within(&plan.limits, || {
            let moved = live.apply((before, after), params, *excerpt, rows);
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
                    let [old, new] = [old, new].map(|rows| self.bound_plan.excerpt.len(rows.len()));
                    progress.moved = Some(excerpt_moved(0..old, old..old + new));
                }
                progress
            }
            Ok(Some(moved)) => {
                let BindingState { ordered: is, operators, .. } = live;
                current.operators = operators;
                let mut derived = Vec::new();
                if let Some(rows) = &mut current.derived {
                    for moved in &moved {
                        let rank = |position: usize| position + self.bound_plan.excerpt.offset;
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
                    // The order may have moved beyond the excerpt. Readers get the new one, but a
                    // result that a reader holds stays the same object.
                    current.entry.with_same_rows(is)
                } else {
                    Entry::new(self.bound_plan.clone(), Ok(is))
                });
                NodeMove {
                    moved: Some(moved),
                    is_recomputed: false,
                    failure: None,
                    old,
                    new: current.entry.clone(),
                    derived,
                }
            }
        }
    }

    /// Replaces the current state by a recomputed one.
    pub(super) fn replace(
        &self,
        current: &mut Current,
        live: Result<BindingState, Failure>,
        view: &View<'_>,
    ) -> NodeMove {
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
        NodeMove {
            moved: None,
            is_recomputed: true,
            failure,
            old,
            new: current.entry.clone(),
            derived,
        }
    }
}
