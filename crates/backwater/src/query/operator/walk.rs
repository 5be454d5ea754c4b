//! From some rows of a tuple to the rows that go with them, step by step along a plan's path.

use smallvec::SmallVec;

use crate::query::expr::scalar::Scalar;
use crate::query::expr::{ColumnNo, Expr};
use crate::query::operator::view::{NONE, Tuple, View};
use crate::query::plan::{Access, JoinStep};
use crate::query::work;
use crate::table::{Cell, Slot};

/// Goes through the tuples of one version.
pub(crate) struct Walk<'a, 'v> {
    pub(crate) view: &'v View<'a>,
    pub(crate) params: &'a [Scalar<'static>],
}

/// The rows that a walk must take, source by source; none, where it must find no partner.
pub(super) type Pins = SmallVec<[Option<Slot>; 4]>;

impl<'a> Walk<'a, '_> {
    pub(super) fn steps(
        &self,
        steps: &[JoinStep],
        tuple: &mut Tuple,
        pins: &[Option<Slot>],
        found: &mut dyn FnMut(&[Slot]),
    ) {
        let Some((step, rest)) = steps.split_first() else {
            return found(tuple);
        };
        let pinned = pins.get(step.source).copied().flatten().filter(|pinned| *pinned != NONE);
        let mut alone = step.optional;
        let mut meet = |walk: &Self, partner: Slot, tuple: &mut Tuple| {
            tuple[step.source] = partner;
            let fits = walk.all_true(&step.on, tuple)
                && (pinned.is_none() || walk.all_true(&step.implied, tuple));
            if !fits {
                return;
            }
            alone = false;
            if walk.all_true(&step.checks, tuple) {
                walk.steps(rest, tuple, pins, found);
            }
        };
        match (pinned, &step.access) {
            (Some(pinned), _) => {
                if self.view.input(step.source).is_row(pinned) {
                    meet(self, pinned, tuple);
                }
            }
            // At most one: no list of them is made.
            (None, Access::Follow(link)) => {
                if let Some(partner) = self.followed(step.source, *link, tuple) {
                    meet(self, partner, tuple);
                }
            }
            (None, access) => {
                let mut partners: SmallVec<[Slot; 8]> = SmallVec::new();
                self.candidates(step.source, access, tuple, &mut |slot| partners.push(slot));
                for partner in partners {
                    if work::is_over() {
                        return;
                    }
                    meet(self, partner, tuple);
                }
            }
        }
        tuple[step.source] = NONE;
        if alone && self.all_true(&step.checks, tuple) {
            self.steps(rest, tuple, pins, found);
        }
    }

    /// The row of a source that a link of a tuple points at.
    #[inline]
    pub(in crate::query) fn followed(
        &self,
        source: usize,
        link: ColumnNo,
        tuple: &[Slot],
    ) -> Option<Slot> {
        let sources = &self.view.plan.sources;
        let of = sources[link.source()].relation.table()?;
        let to = sources[source].relation.table()?;
        let from = tuple[link.source()];
        if from == NONE {
            return None;
        }
        match self.view.state.table(of).cell(from, link.field()) {
            Cell::Link(slot) if self.view.state.table(to).is_row(slot) => Some(slot),
            _ => None,
        }
    }

    /// The rows of a source that an access gives.
    pub(crate) fn partners(&self, source: usize, access: &'a Access, tuple: &[Slot]) -> Vec<Slot> {
        let mut partners = Vec::new();
        self.candidates(source, access, tuple, &mut |slot| partners.push(slot));
        partners
    }

    pub(in crate::query) fn is_true(&self, condition: &'a Expr, tuple: &[Slot]) -> bool {
        condition.holds(&self.view.row(tuple), self.params)
    }

    pub(super) fn all_true(&self, conditions: &'a [Expr], tuple: &[Slot]) -> bool {
        if conditions.is_empty() {
            return true;
        }
        let row = self.view.row(tuple);
        conditions.iter().all(|condition| condition.holds(&row, self.params))
    }

    pub(super) fn candidates(
        &self,
        source: usize,
        access: &'a Access,
        tuple: &[Slot],
        found: &mut dyn FnMut(Slot),
    ) {
        let view = self.view;
        let (input, table) = (view.input(source), view.plan.sources[source].relation.table());
        match (access, table) {
            (Access::Follow(link), _) => {
                self.followed(source, *link, tuple).into_iter().for_each(found);
            }
            (Access::Id(value), Some(table)) => {
                let value = value.eval(&view.row(tuple), self.params);
                let slot = value.as_slot(view.state, table);
                if let Some(slot) = slot.filter(|slot| view.state.table(table).is_row(*slot)) {
                    found(slot);
                }
            }
            (Access::Back { link, to }, Some(table)) => {
                if tuple[*to] != NONE {
                    let key = [Cell::Link(tuple[*to])];
                    view.state.table(table).each_indexed(&[*link], &key, found);
                }
            }
            (Access::Equal { fields, values }, _) => {
                let row = view.row(tuple);
                let values: SmallVec<[Scalar<'_>; 2]> =
                    values.iter().map(|value| value.eval(&row, self.params)).collect();
                input.equal(fields, &values).into_iter().for_each(found);
            }
            _ => input.each(found),
        }
    }
}
