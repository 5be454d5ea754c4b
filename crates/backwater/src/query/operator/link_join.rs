//! Joins in which each row of one table leads to the others by links alone: what a link leads to
//! is looked up once for each row that it points at, and not for each that points.

use crate::query::expr::Expr;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::filter::Filter;
use crate::query::operator::scanned::ScannedRow;
use crate::query::operator::view::{NONE, Tuple, View};
use crate::query::operator::walk::Walk;
use crate::query::plan::{Access, JoinStep, Plan};
use crate::schema::{FieldNo, TableNo};
use crate::table::Slot;

/// How all tuples of such a join are found.
pub(crate) struct LinkJoin<'p> {
    plan: &'p Plan,
    table: TableNo,
    ways: Vec<LinkWay<'p>>,
    /// Conditions that need whole tuples.
    late: Vec<&'p Expr>,
}

/// One link of the first table, and all that it leads to.
struct LinkWay<'p> {
    link: FieldNo,
    steps: Vec<&'p JoinStep>,
    /// For each step the conditions that depend on its rows and those before it.
    conditions: Vec<(Vec<&'p Expr>, Vec<&'p Expr>)>,
    known: Known,
}

/// What each row that the link points at leads to: a slot for each step.
struct Known {
    states: Vec<LinkState>,
    slots: Vec<Slot>,
    /// The same where the link points at nothing.
    without: (LinkState, Vec<Slot>),
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum LinkState {
    Unknown,
    /// It makes no tuple.
    Fails,
    Holds,
}

impl<'p> LinkJoin<'p> {
    /// If the plan is such a join.
    pub(crate) fn of(plan: &'p Plan) -> Option<Self> {
        let path = &plan.scratch;
        let table = plan.sources.get(path.start)?.relation.table()?;
        if path.access != Access::Scan || path.steps.is_empty() {
            return None;
        }
        let (mut ways, mut late): (Vec<LinkWay<'p>>, Vec<&Expr>) = (Vec::new(), Vec::new());
        for step in &path.steps {
            let Access::Follow(link) = step.access else { return None };
            if link.source() == path.start {
                ways.push(LinkWay::new(link.field(), plan));
            }
            let leads = |way: &LinkWay<'_>| {
                way.link == link.field() && link.source() == path.start && way.steps.is_empty()
                    || way.leads_to(link.source())
            };
            let way = ways.iter_mut().find(|way| leads(way))?;
            let is_covered = |way: &LinkWay<'_>, condition: &Expr| {
                let columns = condition.columns();
                columns.iter().all(|of| of.source() == step.source || way.leads_to(of.source()))
            };
            let (on, others): (Vec<&Expr>, Vec<&Expr>) =
                step.on.iter().partition(|condition| is_covered(way, condition));
            // Whether there is a partner would not be the same for all that point here.
            if step.optional && !others.is_empty() {
                return None;
            }
            late.extend(others);
            let (checks, others): (Vec<&Expr>, Vec<&Expr>) =
                step.checks.iter().partition(|condition| is_covered(way, condition));
            late.extend(others);
            way.steps.push(step);
            way.conditions.push((on, checks));
        }
        Some(Self { plan, table, ways, late })
    }

    /// Calls `found` with each tuple, and the row of the first table in it.
    pub(crate) fn each<'a>(
        self,
        view: &View<'a>,
        params: &'a [Scalar<'static>],
        mut found: impl FnMut(&ScannedRow<'a>, &[Slot]),
    ) where
        'p: 'a,
    {
        let walk = Walk { view, params };
        let path = &self.plan.scratch;
        let filter = Filter::of(&path.checks, params);
        let mut tuple = Tuple::from_elem(NONE, self.plan.sources.len());
        let Self { table, mut ways, late, .. } = self;
        view.each_row(table, filter, |slot, row| {
            tuple[path.start] = slot;
            for way in ways.iter_mut() {
                let to = row.link(way.link);
                if !way.follow(&walk, to, &mut tuple) {
                    return;
                }
            }
            if late.iter().all(|condition| walk.is_true(condition, &tuple)) {
                found(&row, &tuple);
            }
        });
    }
}

impl<'p> LinkWay<'p> {
    fn new(link: FieldNo, plan: &Plan) -> Self {
        let without = (LinkState::Unknown, vec![NONE; plan.sources.len()]);
        let known = Known { states: Vec::new(), slots: Vec::new(), without };
        Self { link, steps: Vec::new(), conditions: Vec::new(), known }
    }

    fn leads_to(&self, source: usize) -> bool {
        self.steps.iter().any(|step| step.source == source)
    }

    /// Puts what a link leads to into a tuple; whether the conditions on that hold.
    #[inline]
    fn follow<'a>(&mut self, walk: &Walk<'a, '_>, to: Option<Slot>, tuple: &mut Tuple) -> bool
    where
        'p: 'a,
    {
        let width = self.steps.len();
        let (state, slots) = match to {
            Some(Slot(to)) => {
                let to = to as usize;
                if self.known.states.get(to).is_none_or(|state| *state == LinkState::Unknown) {
                    self.look_up(walk, Some(Slot(to as u32)), tuple);
                }
                (self.known.states[to], &self.known.slots[to * width..(to + 1) * width])
            }
            None => {
                if self.known.without.0 == LinkState::Unknown {
                    self.look_up(walk, None, tuple);
                }
                (self.known.without.0, &self.known.without.1[..width])
            }
        };
        for (step, slot) in self.steps.iter().zip(slots) {
            tuple[step.source] = *slot;
        }
        state == LinkState::Holds
    }

    #[cold]
    fn look_up<'a>(&mut self, walk: &Walk<'a, '_>, to: Option<Slot>, tuple: &mut Tuple)
    where
        'p: 'a,
    {
        let state = match self.holds(walk, tuple) {
            true => LinkState::Holds,
            false => LinkState::Fails,
        };
        let slots = self.steps.iter().map(|step| tuple[step.source]);
        let Some(Slot(to)) = to else {
            self.known.without = (state, slots.collect());
            return;
        };
        let (to, width) = (to as usize, self.steps.len());
        if self.known.states.len() <= to {
            self.known.states.resize(to + 1, LinkState::Unknown);
            self.known.slots.resize((to + 1) * width, NONE);
        }
        self.known.states[to] = state;
        for (place, slot) in self.known.slots[to * width..].iter_mut().zip(slots) {
            *place = slot;
        }
    }

    /// Goes the steps one by one from the first row of a tuple.
    fn holds<'a>(&self, walk: &Walk<'a, '_>, tuple: &mut Tuple) -> bool
    where
        'p: 'a,
    {
        self.steps.iter().for_each(|step| tuple[step.source] = NONE);
        for (step, (on, checks)) in self.steps.iter().zip(&self.conditions) {
            let Access::Follow(link) = step.access else { return false };
            tuple[step.source] = walk.followed(step.source, link, tuple).unwrap_or(NONE);
            if tuple[step.source] != NONE && !on.iter().all(|on| walk.is_true(on, tuple)) {
                tuple[step.source] = NONE;
            }
            let is_there = tuple[step.source] != NONE || step.optional;
            if !is_there || !checks.iter().all(|check| walk.is_true(check, tuple)) {
                return false;
            }
        }
        true
    }
}
