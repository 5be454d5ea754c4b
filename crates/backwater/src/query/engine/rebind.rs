//! Rebinding: what the new binding reuses of the old one, and which bindings are kept although no
//! handle refers to them any more.

use std::collections::VecDeque;
use std::sync::Arc;

use super::{Bound, Causes, ComputedApart, Engine, Made, Reached, ShapeNo, hash_of};
use crate::error::{Error, ErrorKind, Result};
use crate::query::check::compile;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::filter::band::{Band, each_in};
use crate::query::operator::order::moves::Moves;
use crate::query::operator::order::ordered::Ordered;
use crate::query::operator::view::View;
use crate::query::plan::BoundPlan;
use crate::query::result::delta::Delta;
use crate::query::state::binding::BindingState;
use crate::query::state::node::Node;
use crate::query::state::rebind::{self, RebindStrategy};
use crate::query::{BindingNo, Outcome};
use crate::schema::{FieldNo, TableNo};
use crate::table::{Slot, State};

/// At most this many bindings without a handle are kept.
const RECENT: usize = 64;

/// Bindings that had a handle until lately, the last one at the end, with the bytes that they take:
/// going back to one, as from tab to tab, costs nothing (`rebind/back`).
pub(super) struct Recent {
    bindings: VecDeque<(BindingNo, usize)>,
    bytes: usize,
    /// How many bytes they may take.
    budget: usize,
}

impl Recent {
    pub(super) fn new(budget: usize) -> Self {
        Self { bindings: VecDeque::new(), bytes: 0, budget }
    }

    fn take(&mut self, number: BindingNo) -> bool {
        let place = self.bindings.iter().position(|(other, _)| *other == number);
        let taken = place.and_then(|place| self.bindings.remove(place));
        taken.inspect(|(_, bytes)| self.bytes -= bytes).is_some()
    }

    fn push(&mut self, number: BindingNo, bytes: usize) {
        self.bindings.push_back((number, bytes));
        self.bytes += bytes;
    }

    /// One that there is no room for.
    fn pop(&mut self) -> Option<BindingNo> {
        if self.bytes <= self.budget && self.bindings.len() <= RECENT {
            return None;
        }
        let (number, bytes) = self.bindings.pop_front()?;
        self.bytes -= bytes;
        Some(number)
    }
}

/// Whether the result for other values is computed while commits go on.
pub(crate) enum Apart {
    /// Not yet; it may have to be.
    Ask,
    Computed(Box<ComputedApart>),
    No,
}

/// A query with other values.
pub(crate) struct Rebound {
    pub(crate) bound: Bound,
    pub(crate) reached: Reached,
}

impl Engine {
    /// Moves the handle of a binding to one with other values. `None` if their result shall be
    /// computed first, while commits go on.
    pub(crate) fn rebind(
        &mut self,
        from: BindingNo,
        params: Vec<Scalar<'static>>,
        (state, commit): (&mut Arc<State>, u64),
        apart: Apart,
    ) -> Result<Option<Rebound>> {
        let Some(binding) = self.bindings.get(&from) else {
            return Err(Error::new(ErrorKind::Result, "this query is not kept any more"));
        };
        let (old, is_alone, shape) = (binding.node.clone(), binding.uses == 1, binding.shape);
        let plan = old.bound_plan.plan.clone();
        let excerpt = plan.excerpt(&params)?;
        // This is the writer: no reader is ahead of it.
        let caught_up = old.catch_up(state, commit);
        debug_assert!(caught_up.is_ok());
        let before = old.entry();
        let hash = hash_of(&params, &self.hasher);
        let known = self.with_params(shape, &params, hash);
        let to = BoundPlan { plan: plan.clone(), params: params.into(), excerpt };
        let elsewhere = self
            .shapes
            .get_mut(&shape)
            .map(|shape| &**shape.elsewhere.get_or_insert_with(|| rebind::elsewhere(&shape.plan)));
        let way = RebindStrategy::between(&old.bound_plan, &to, elsewhere.unwrap_or_default());
        let is_new = known.is_none() && excerpt.limit > 0 && old.key.is_some();
        if is_new
            && matches!((&way, &apart), (RebindStrategy::Recompute, Apart::Ask))
            && self.is_worth_apart(&plan, &to.params, state)
        {
            return Ok(None);
        }
        let mut made = None;
        if is_new {
            made = self.make(shape, &old, &to, (&way, is_alone), (&mut *state, commit))?;
        }
        // Where rebinding back costs as little, nothing of the old one needs to be kept.
        let is_far = matches!(way, RebindStrategy::Narrower | RebindStrategy::Recompute);
        let (live, moved) = made.map_or((None, None), |(live, moved)| (Some(live), moved));
        let is_near = live.is_some();
        let stays = is_alone && !is_far && old.inner().is_empty();
        let new = match live {
            Some(live) if stays => self.turn(&old, (to, hash), live, (&*state, commit)),
            live => {
                let computed = match apart {
                    Apart::Computed(computed) => Some(Made::Before(*computed)),
                    Apart::Ask | Apart::No => None,
                };
                let made = live.map(Made::Now).or(computed);
                self.go_to(from, to.params.into(), is_far, made, (&mut *state, commit))?
            }
        };
        let after = new.entry();
        let moved = moved.or_else(|| new.difference(&old, state));
        let failure = after.ordered.as_ref().err().cloned();
        let outcome = match &moved {
            _ if failure.is_some() => Outcome::Failed,
            Some(moved) if moved.is_empty() => Outcome::Same,
            Some(_) if is_near || known.is_some() => Outcome::Maintained,
            _ => Outcome::Recomputed,
        };
        let delta = moved.filter(|moved| !moved.is_empty()).and_then(|rows| {
            let (before, after) = (before.result(state).ok()?, after.result(state).ok()?);
            Some(Delta::new(before, after, rows))
        });
        let failed = failure.is_some() || outcome == Outcome::Recomputed;
        let from = Some(old.bound_plan.clone());
        let (causes, is_held) = (Causes::new(), true);
        let reached = Reached {
            node: new.clone(),
            outcome,
            failure,
            before: (delta.is_none() && failed).then(|| before.result(state).ok()).flatten(),
            delta,
            causes,
            is_held,
            from,
            took: None,
        };
        Ok(Some(Rebound { bound: Bound { node: new, state: state.clone() }, reached }))
    }

    /// Turns a binding that nothing else needs into that of other values, with another state.
    fn turn(
        &mut self,
        old: &Node,
        (to, hash): (BoundPlan, u64),
        live: BindingState,
        (state, commit): (&Arc<State>, u64),
    ) -> Arc<Node> {
        let (number, key) = (old.number, old.key.clone());
        let named = (number, old.name.clone());
        let reads = old.reads.clone();
        let new = Node::new(named, to.into(), key, reads, Some(Ok(live)), (state, commit));
        let Some(binding) = self.bindings.get(&number) else { return new };
        let (shape, group) = (binding.shape, binding.group);
        self.remove_params(shape, number);
        if let Some(binding) = self.bindings.get_mut(&number) {
            binding.node = new.clone();
        }
        self.add_params(shape, number, hash);
        if let Some(group) = self.groups.get_mut(&group) {
            group.turn(old, &new);
        }
        new
    }

    /// A handle leaves a binding for another one of its shape, which is caught up.
    fn go_to(
        &mut self,
        from: BindingNo,
        params: Vec<Scalar<'static>>,
        is_far: bool,
        made: Option<Made>,
        (state, commit): (&mut Arc<State>, u64),
    ) -> Result<Arc<Node>> {
        let gone = || Error::new(ErrorKind::Result, "this query is not kept any more");
        let binding = self.bindings.get(&from).ok_or_else(gone)?;
        let (shape, name) = (binding.shape, binding.node.name.clone());
        let number = self.use_shape(shape, params, &name, (&mut *state, commit), made)?;
        if self.recent.take(number) {
            self.let_go(number, state);
        }
        let binding = self.bindings.get_mut(&number).ok_or_else(gone)?;
        binding.handles += 1;
        let new = binding.node.clone();
        let caught_up = new.catch_up(state, commit);
        debug_assert!(caught_up.is_ok());
        self.leave(from, is_far, state);
        Ok(new)
    }

    /// The new binding's state from the old one's.
    fn make(
        &mut self,
        shape: ShapeNo,
        old: &Node,
        to: &BoundPlan,
        (way, take): (&RebindStrategy, bool),
        (state, commit): (&mut Arc<State>, u64),
    ) -> Result<Option<(BindingState, Option<Moves>)>> {
        let mut rows: Vec<(usize, Slot)> = Vec::new();
        if let RebindStrategy::Bands(bands) = way {
            for band in bands {
                self.rows_in(shape, band, (&mut *state, commit), &mut rows)?;
                // Beyond that it is cheaper to go through all of them.
                if rows.len()
                    > self.tuning.rebound_rows.max(state.table(band.table).rows() as usize / 8)
                {
                    return Ok(None);
                }
            }
        }
        Ok(old.toward(to, way, &rows, state, take))
    }

    /// Adds the rows of a table that have values in a band.
    fn rows_in(
        &mut self,
        shape: ShapeNo,
        band: &Band,
        (state, commit): (&mut Arc<State>, u64),
        rows: &mut Vec<(usize, Slot)>,
    ) -> Result<()> {
        let number = self.by_value(shape, band.table, band.field, state, commit)?;
        let node = &self.bindings[&number].node;
        let caught_up = node.catch_up(state, commit);
        debug_assert!(caught_up.is_ok());
        let view = View { plan: &node.bound_plan.plan, state, derived: &[] };
        if let Ok(Ordered::One(index)) = &node.entry().ordered {
            each_in(band, index, &view, |slot| rows.push((band.source, slot)));
        }
        Ok(())
    }

    /// A table's rows in the order of a field: a standing query like any other, which the shape
    /// keeps for as long as it has bindings.
    fn by_value(
        &mut self,
        shape: ShapeNo,
        table: TableNo,
        field: FieldNo,
        state: &mut Arc<State>,
        commit: u64,
    ) -> Result<BindingNo> {
        let orders = self.shapes.get(&shape).into_iter().flat_map(|shape| &shape.orders);
        for (of, by, number) in orders {
            if (*of, *by) == (table, field) {
                return Ok(*number);
            }
        }
        let definition = state.schema.table(table);
        let (name, field_name) = (&definition.name, &definition.field(field).name);
        let sql = format!("SELECT 1 FROM \"{name}\" ORDER BY \"{field_name}\"");
        let order = compile(&sql, &state.schema)?;
        let number = self.use_binding(order, Vec::new(), &sql, state, commit)?;
        if let Some(shape) = self.shapes.get_mut(&shape) {
            shape.orders.push((table, field, number));
        }
        Ok(number)
    }

    /// Removes a handle from a binding, which is kept for a while if its result would be costly to
    /// compute again.
    fn leave(&mut self, number: BindingNo, is_far: bool, state: &mut Arc<State>) {
        let Some(binding) = self.bindings.get_mut(&number) else { return };
        binding.handles -= 1;
        if is_far && binding.uses == 1 {
            let bytes = binding.node.bytes();
            self.recent.push(number, bytes);
        } else {
            self.let_go(number, state);
        }
        while let Some(oldest) = self.recent.pop() {
            self.let_go(oldest, state);
        }
    }
}
