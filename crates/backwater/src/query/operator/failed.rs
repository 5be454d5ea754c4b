//! Whether a statement asks for something that cannot be computed, such as a sum beyond 64 bits in
//! one of the groups that it reads.
//!
//! The values of a row that other conditions leave out are never needed, in whichever order
//! conditions are tested on the way. So once something that cannot be computed was met, the
//! statement is evaluated again row by row: it fails only if some tuple's presence or values depend
//! on it.

use crate::query::expr::Expr;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::view::{NONE, Tuple, View};
use crate::query::operator::walk::Walk;
use crate::query::plan::{Access, JoinStep};
use crate::query::work::Failure;
use crate::table::Slot;

/// Why the result of a statement cannot be computed, if so.
pub(in crate::query) fn failure(view: &View<'_>, params: &[Scalar<'static>]) -> Option<Failure> {
    let mut search = Search { walk: Walk { view, params }, failure: None };
    view.take_needed();
    search.all();
    search.failure
}

struct Search<'a, 'v> {
    walk: Walk<'a, 'v>,
    failure: Option<Failure>,
}

/// Why it is not sure that a tuple is one, if it is not.
type Doubt = Option<Failure>;

impl<'a> Search<'a, '_> {
    fn all(&mut self) {
        let plan = self.walk.view.plan;
        let mut tuple = Tuple::from_elem(NONE, plan.sources.len());
        for path in plan.scratch_paths() {
            for (slot, doubt) in self.candidates(path.start, &path.access, &tuple.clone()) {
                tuple[path.start] = slot;
                if let Some(doubt) = self.holds(&path.implied, &tuple, doubt)
                    && let Some(doubt) = self.holds(&path.checks, &tuple, doubt)
                {
                    self.steps(&path.steps, &mut tuple, doubt);
                }
            }
            tuple[path.start] = NONE;
        }
    }

    fn steps(&mut self, steps: &'a [JoinStep], tuple: &mut Tuple, doubt: Doubt) {
        if self.failure.is_some() {
            return;
        }
        let Some((step, rest)) = steps.split_first() else { return self.found(tuple, doubt) };
        let mut alone = step.optional.then(|| doubt.clone());
        for (slot, doubted) in self.candidates(step.source, &step.access, &tuple.clone()) {
            tuple[step.source] = slot;
            let Some(doubted) = self.holds(&step.implied, tuple, doubted) else { continue };
            let Some(doubted) = self.holds(&step.on, tuple, doubted) else { continue };
            // Whether a partner is there decides whether the tuple is without one, too.
            alone = alone.filter(|_| doubted.is_some()).map(|alone| alone.or(doubted.clone()));
            let doubted = doubt.clone().or(doubted);
            if let Some(doubted) = self.holds(&step.checks, tuple, doubted) {
                self.steps(rest, tuple, doubted);
            }
        }
        tuple[step.source] = NONE;
        if let Some(alone) = alone
            && let Some(alone) = self.holds(&step.checks, tuple, alone)
        {
            self.steps(rest, tuple, alone);
        }
    }

    /// Whether conditions hold, and what doubt there is; `None` if they do not.
    fn holds(&self, conditions: &'a [Expr], tuple: &[Slot], mut doubt: Doubt) -> Option<Doubt> {
        for condition in conditions {
            let holds = self.walk.is_true(condition, tuple);
            match self.walk.view.take_needed() {
                Some(failure) => doubt = doubt.or(Some(failure)),
                None if holds => {}
                None => return None,
            }
        }
        Some(doubt)
    }

    fn candidates(&self, source: usize, access: &'a Access, tuple: &[Slot]) -> Vec<(Slot, Doubt)> {
        let view = self.walk.view;
        let mut found = self.walk.partners(source, access, tuple);
        if view.take_needed().is_some() {
            // Those that were looked for may be any, as far as what is implied does not say otherwise.
            found = self.walk.partners(source, &Access::Scan, tuple);
            view.take_needed();
        }
        found.into_iter().map(|slot| (slot, view.input(source).doubt(slot))).collect()
    }

    /// A tuple that may be one: its values and its place are needed.
    fn found(&mut self, tuple: &[Slot], doubt: Doubt) {
        let Walk { view, params } = self.walk;
        let row = view.row(tuple);
        if let Some(operator) = view.plan.rows.operator() {
            operator.each_expr(&mut |expr| drop(expr.eval(&row, params)));
        }
        let needed = view.take_needed();
        self.failure = self.failure.take().or(doubt).or(needed);
    }
}
