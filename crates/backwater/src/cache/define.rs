//! Defining queries: their first results, and those for other values.
//!
//! What goes through many rows is computed from a version of the tables while commits go on, and
//! follows what these changed afterwards.

use std::sync::Arc;

use super::Cache;
use crate::caught::step;
use crate::change::Changes;
use crate::commit::{CommitKind, Writer, Writing};
use crate::error::{Error, ErrorKind, Result, of_another_cache};
use crate::query::{
    Apart, BindingNo, Bound, ComputedApart, Plan, Query, Rebound, Scalar, compile, compute_apart,
    index_to_follow, may_stop,
};
use crate::trace::{HandleMove, Report};
use crate::value::{Named, Stopwatch};

/// How often a result is computed while commits go on; after that they wait.
const ATTEMPTS: usize = 3;
/// This many rows may be changed meanwhile; if they are more, it is computed once more.
const CHANGED_MEANWHILE: usize = 4096;

/// Statements that another one reads, which are held until that is in use.
struct Held<'c>(&'c Cache, Vec<BindingNo>);

impl Drop for Held<'_> {
    fn drop(&mut self) {
        self.1.iter().for_each(|number| self.0.0.core.published.release(*number));
    }
}

impl Cache {
    pub(super) fn define(&self, name: &str, sql: &str, params: &Named) -> Result<Query> {
        let core = &self.0.core;
        let writing = core.begin()?;
        let known = writing.engine.plan_of(sql);
        let plan = known.map_or_else(|| compile(sql, &writing.state.schema), Ok)?;
        let params = plan.bind(params, None)?;
        plan.excerpt(&params)?;
        let (mut writing, bound) = self.bound(writing, &plan, &params, name)?;
        writing.engine.note_text(sql, &plan);
        // The same rows, and perhaps an index more to find them by.
        writing.state = bound.state.clone();
        core.published.publish(bound.state, writing.commit);
        Ok(Query::new(core.published.clone(), bound.node, name))
    }

    /// One more handle for a plan with parameters.
    fn bound<'c>(
        &'c self,
        mut writing: Writing<'c>,
        plan: &Arc<Plan>,
        params: &[Scalar<'static>],
        name: &str,
    ) -> Result<(Writing<'c>, Bound)> {
        let _held;
        (writing, _held) = self.statements_bound(writing, plan, params)?;
        let worth = |writer: &Writer| writer.engine.is_worth_apart(plan, params, &writer.state);
        let (mut writing, computed) = self.computed_apart(writing, plan, params, name, worth)?;
        let (state, commit) = (writing.state.clone(), writing.commit);
        let bind =
            || writing.engine.bind(plan.clone(), params.to_vec(), name, (&state, commit), computed);
        let bound = may_stop(bind)?;
        if let Some(error) = bound.node.stopped() {
            // No other thread finds it yet: it goes before another one's turn.
            let Writer { engine, state, .. } = &mut *writing;
            *state = bound.state;
            engine.release(bound.node.number, state);
            return Err(error);
        }
        Ok((writing, bound))
    }

    /// Has the statements in use that a plan with parameters reads, each for itself.
    fn statements_bound<'c>(
        &'c self,
        mut writing: Writing<'c>,
        plan: &Plan,
        params: &[Scalar<'static>],
    ) -> Result<(Writing<'c>, Held<'c>)> {
        let mut held = Held(self, Vec::new());
        let is_known = writing.engine.is_known(plan, params);
        let statements = if is_known { Vec::new() } else { plan.statements(params) };
        for (plan, params, name) in statements {
            let bound;
            (writing, bound) = self.bound(writing, &plan, &params, &name)?;
            writing.state = bound.state;
            held.1.push(bound.node.number);
        }
        Ok((writing, held))
    }

    /// Computes a result from a version of the tables, if that is worth it.
    fn computed_apart<'c>(
        &'c self,
        mut writing: Writing<'c>,
        plan: &Arc<Plan>,
        params: &[Scalar<'static>],
        name: &str,
        is_worth_it: impl Fn(&Writer) -> bool,
    ) -> Result<(Writing<'c>, Option<ComputedApart>)> {
        let core = &self.0.core;
        for _ in 0..ATTEMPTS {
            if !is_worth_it(&writing) {
                break;
            }
            let Writer { engine, state, commit, .. } = &mut *writing;
            engine.prepare(plan, name, state);
            core.published.publish(state.clone(), *commit);
            let (mut state, commit) = (state.clone(), *commit);
            let Some(inner) = engine.inner_rows(plan, params, (&state, commit)) else { break };
            // Commits go on while it is computed; it follows them afterwards.
            drop(writing);
            step("apart");
            let live = compute_apart(plan, params, &state, &inner);
            // Without the writer, as far as it is known by now that there is something to follow.
            if core.published.now().commit > commit {
                index_to_follow(plan, &mut state);
            }
            writing = core.begin()?;
            let live = match live {
                Ok(live) => live,
                Err(error) => {
                    let Writer { engine, state, commit, .. } = &mut *writing;
                    engine.forget_prepared(plan, state);
                    core.published.publish(state.clone(), *commit);
                    return Err(error);
                }
            };
            let rows = writing.rows_since(commit);
            let rows = rows.map(|rows| rows.take(CHANGED_MEANWHILE + 1).collect::<Vec<_>>());
            if let Some(rows) = rows.filter(|rows| rows.len() <= CHANGED_MEANWHILE) {
                let computed = ComputedApart { live, state, commit, rows, inner };
                return Ok((writing, Some(computed)));
            }
        }
        Ok((writing, None))
    }

    /// Whether a query is this cache's.
    pub(super) fn check_own(&self, query: &Query) -> Result<()> {
        if query.is_of(&self.0.core.published) {
            return Ok(());
        }
        Err(of_another_cache("the query").help("define it in this cache"))
    }

    /// Rebinds a query's handle to other values.
    pub(super) fn go_over(&self, label: String, query: &Query, params: &Named) -> Result<Report> {
        let core = &self.0.core;
        let mut writing = core.begin()?;
        self.check_own(query)?;
        let watch = Stopwatch::start(core.clock());
        writing.complete_indexes();
        let to = || {
            let old = query.node();
            let params = old.bound_plan.plan.bind(params, Some(&old.bound_plan.params))?;
            Ok::<_, Error>((old, params))
        };
        // What must not fail in its middle.
        let rebind = |writing: &mut Writing<'_>, from, params, apart| {
            let Writer { engine, state, commit, .. } = &mut **writing;
            let whole = core.published.begin();
            let rebound = engine.rebind(from, params, (state, *commit), apart);
            (rebound, whole)
        };
        let (old, params) = to()?;
        let (mut rebound, mut whole) = rebind(&mut writing, old.number, params, Apart::Ask);
        let mut from = old.number;
        let _held;
        if matches!(rebound, Ok(None)) {
            whole.end();
            let (plan, (old, first)) = (old.bound_plan.plan.clone(), to()?);
            let worth =
                |writer: &Writer| writer.engine.is_worth_apart(&plan, &first, &writer.state);
            let computed;
            (writing, _held) = self.statements_bound(writing, &plan, &first)?;
            (writing, computed) =
                self.computed_apart(writing, &plan, &first, query.name(), worth)?;
            // It may have been rebound meanwhile.
            drop(old);
            let (old, params) = to()?;
            let computed = computed.filter(|_| params == first);
            let apart = computed.map_or(Apart::No, |computed| Apart::Computed(computed.into()));
            from = old.number;
            (rebound, whole) = rebind(&mut writing, from, params, apart);
        }
        let Rebound { bound, reached } = match rebound {
            Ok(Some(rebound)) => rebound,
            failed => {
                whole.end();
                let gone = || Error::new(ErrorKind::Result, "this query is not kept any more");
                return Err(failed.err().unwrap_or_else(gone));
            }
        };
        let (handle, to) = (query.handle(), bound.node.number);
        query.go_over(bound.node, writing.commit + 1);
        let kind = CommitKind::Rebound(Box::new(reached), HandleMove { handle, from, to });
        let changes = Changes::none(bound.state);
        let report = core.make(&mut writing, (label, watch), changes, kind);
        whole.end();
        core.deliver(writing, &[&report]);
        Ok(report)
    }
}
