//! How a node follows commits: by deltas, or by recomputing.

use std::borrow::Cow;
use std::sync::Arc;

use super::{Current, Node, NodeMove, Stretch, compute, fails_in_part, kept, lock};
use crate::caught::step;
use crate::query::operator::filter;
use crate::query::operator::join::TupleDelta;
use crate::query::operator::limit::excerpt_moved;
use crate::query::operator::order::difference::difference;
use crate::query::operator::order::ordered::Ordered;
use crate::query::operator::statement_rows::StatementChange;
use crate::query::operator::view::View;
use crate::query::plan::BoundPlan;
use crate::query::result::Entry;
use crate::query::state::binding::BindingState;
use crate::query::work::{self, Failure};
use crate::table::State;

impl Node {
    /// Of changed tuples those that belong here before or after.
    pub(crate) fn belonging<'t>(
        &self,
        views: (&View<'_>, &View<'_>),
        tuples: Cow<'t, [TupleDelta]>,
        by_key: bool,
    ) -> Cow<'t, [TupleDelta]> {
        let Some(key) = &self.key else { return Cow::default() };
        let key = by_key.then_some(&**key).filter(|key| !key.is_empty());
        filter::belonging(&self.bound_plan, key, views, tuples)
    }

    /// Follows a commit at once, together with those that it reads.
    pub(crate) fn follow(&self, stretch: &Stretch<'_>, tuples: Option<&[TupleDelta]>) -> NodeMove {
        self.follow_stretch(&mut lock(&self.current), stretch, tuples, false)
    }

    /// The step from before a stretch of commits to behind it, by the tuples that belong here
    /// before or after, or without them by recomputing; `alone` is whether those that read it have
    /// yet to follow.
    pub(super) fn follow_stretch(
        &self,
        current: &mut Current,
        stretch: &Stretch<'_>,
        tuples: Option<&[TupleDelta]>,
        alone: bool,
    ) -> NodeMove {
        current.commit = stretch.commits.1;
        let tuples = tuples.filter(|tuples| !self.is_much(current, tuples.len(), stretch));
        let progress = match tuples {
            Some(tuples) => self.advance(current, stretch, tuples),
            None => self.recompute(current, stretch),
        };
        step("binding");
        self.show(current, stretch.commits);
        self.notify_readers(stretch.commits, stretch.old_state, &progress.derived, alone);
        progress
    }

    /// Recomputes, and finds by comparing how the rows moved.
    fn recompute(&self, current: &mut Current, stretch: &Stretch<'_>) -> NodeMove {
        let (before, after) = stretch.views;
        let fresh = compute(&self.bound_plan, self.key.is_none(), after, stretch.inner);
        let mut progress = self.replace(current, fresh, after);
        if let (Ok(old), Ok(new)) = (&progress.old.ordered, &progress.new.ordered) {
            let (from, to) = ((&*self.bound_plan, old, before), (&*self.bound_plan, new, after));
            let moved = match stretch.has_another() {
                false => difference(from, to, &stretch.has_changed()),
                // A slot does not distinguish a row from another one that was there before.
                true => {
                    let [old, new] = [old, new].map(|of| self.bound_plan.excerpt.len(of.len()));
                    excerpt_moved(0..old, old..old + new)
                }
            };
            if moved.is_empty() {
                // A result that a reader holds stays the same object.
                current.entry = Arc::new(progress.old.with_same_rows(new.clone()));
            }
            progress.moved = Some(moved);
        }
        progress.new = current.entry.clone();
        progress
    }

    /// Whether so many tuples changed that recomputing is less work.
    fn is_much(&self, current: &Current, tuples: usize, stretch: &Stretch<'_>) -> bool {
        let plan = &self.bound_plan.plan;
        let rows = match &current.entry.ordered {
            Ok(Ordered::Kept(..)) | Err(_) => return false,
            Ok(ordered) if ordered.reaches(usize::MAX) => ordered.len(),
            // Only the first are kept: of all there is no count.
            Ok(_) => match plan.first().and_then(|first| first.relation.table()) {
                Some(table) => stretch.views.1.state.table(table).rows() as usize,
                None => return false,
            },
        };
        plan.is_much(tuples, rows) && stretch.is_of_tables()
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

    fn advance(
        &self,
        current: &mut Current,
        stretch: &Stretch<'_>,
        rows: &[TupleDelta],
    ) -> NodeMove {
        let Stretch { views: (before, after), inner, .. } = *stretch;
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
            return self.recompute(current, stretch);
        }
        let operators = std::mem::take(&mut current.operators);
        let mut live = BindingState { ordered: was.clone(), operators, failure: None };
        let BoundPlan { plan, params, excerpt } = &*self.bound_plan;
        let applied = work::within(&plan.limits, || {
            let moved = live.apply((before, after), (params, *excerpt), rows);
            live.check_size(&plan.limits);
            moved
        });
        match applied {
            Err(failure) => self.replace(current, Err(failure), after),
            Ok(_) if live.failure.is_some() => self.replace(current, Ok(live), after),
            Ok(None) => self.recompute(current, stretch),
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
