//! From one binding of a shape to another one: what of a node's state the other can use.

use rustc_hash::FxHashMap;

use super::{Current, InnerNodes, Node, lock};
use crate::query::expr::Expr;
use crate::query::operator::filter::Filter;
use crate::query::operator::filter::band::{End, cut};
use crate::query::operator::join::rebound_tuples;
use crate::query::operator::limit::excerpt_moved;
use crate::query::operator::order::difference::difference;
use crate::query::operator::order::moves::Moves;
use crate::query::operator::view::View;
use crate::query::plan::BoundPlan;
use crate::query::state::binding::{BindingState, OperatorState};
use crate::query::state::rebind::RebindStrategy;
use crate::query::work;
use crate::table::{Slot, State};

impl Node {
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
        let (old, new) = (self.bound_plan.excerpt, to.excerpt);
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
            RebindStrategy::Excerpt => {
                let len = ordered.len();
                if !ordered.reaches(new.end()) {
                    return None;
                }
                Some((copy(operators), Some(excerpt_moved(old.ranks(len), new.ranks(len)))))
            }
            RebindStrategy::Ends(ends) => {
                let at = |end: End| {
                    let here = ends.iter().filter(|(of, _)| *of == end);
                    Filter::of(here.map(|(_, number)| &to.plan.late[*number]), &to.params)
                };
                let meet = (&at(End::Front), &at(End::Back));
                let (ordered, moved) = cut(ordered, (old, new), &view, meet)?;
                Some((ordered.into(), Some(moved)))
            }
            RebindStrategy::Narrower => {
                let (live, moved) = BindingState::narrowed((ordered, operators), &view, to, old)?;
                Some((live, Some(moved)))
            }
            RebindStrategy::Bands(_) => {
                let mut live = copy(operators);
                let moved = work::within(&to.plan.limits, || {
                    let tuples = self
                        .key
                        .as_ref()
                        .map(|key| rebound_tuples(&view, key, (&self.bound_plan, to), rows));
                    let tuples = tuples.unwrap_or_default();
                    let moved = live.apply((&view, &view), (&to.params, new), &tuples);
                    live.check_size(&to.plan.limits);
                    moved
                });
                let moved = moved.ok()??;
                (live.failure.is_none()).then_some((live, (old == new).then_some(moved)))
            }
        }
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
}
