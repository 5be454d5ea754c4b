//! Joins in which each row of one table leads to the others by links alone: what a link leads to
//! is looked up once for each row that it points at, and not for each that points.

use crate::query::expr::Expr;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::filter::Filter;
use crate::query::operator::scanned::ScannedRows;
use crate::query::operator::view::{NONE, Tuple, View};
use crate::query::operator::walk::Walk;
use crate::query::plan::{Access, JoinStep, Plan};
use crate::schema::{FieldNo, TableNo};
use crate::table::{CHUNK, Slot};

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
    /// What is known of where the link may point: first at nothing, then at a row by its slot.
    known: Vec<LinkState>,
    /// What that leads to: a slot for each step.
    slots: Vec<Slot>,
}

/// Tuples of rows of the first table that lie together.
pub(crate) struct Tuples {
    start: usize,
    /// What goes with the rows: for each other source a slot for each place in their chunk.
    others: Vec<[Slot; CHUNK]>,
}

impl Tuples {
    /// Those of rows of the only source.
    pub(crate) fn of_one() -> Self {
        Self { start: 0, others: Vec::new() }
    }

    /// The slot of a source that goes with a row of the first table.
    #[inline]
    pub(crate) fn slot(&self, source: usize, row: Slot) -> Slot {
        if source == self.start { row } else { self.others[source][row.0 as usize % CHUNK] }
    }

    pub(crate) fn tuple(&self, row: Slot) -> Tuple {
        let mut tuple = Tuple::from_elem(NONE, self.others.len().max(1));
        self.put(row, &mut tuple);
        tuple
    }

    /// Puts the slots of a tuple into the place of another one's.
    #[inline]
    pub(crate) fn put(&self, row: Slot, tuple: &mut Tuple) {
        let slots = tuple.iter_mut().enumerate();
        slots.for_each(|(source, slot)| *slot = self.slot(source, row));
    }
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
                ways.push(LinkWay::new(link.field()));
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

    /// Calls `found` with all tuples, some at a time, and the rows of the first table in them.
    pub(crate) fn each<'a>(
        self,
        view: &View<'a>,
        params: &'a [Scalar<'static>],
        mut found: impl FnMut(ScannedRows<'a>, &Tuples),
    ) where
        'p: 'a,
    {
        let walk = Walk { view, params };
        let path = &self.plan.scratch;
        let filter = Filter::of(&path.checks, params);
        let others = vec![[NONE; CHUNK]; self.plan.sources.len()];
        let mut tuples = Tuples { start: path.start, others };
        let mut tuple = Tuple::from_elem(NONE, self.plan.sources.len());
        let Self { table, mut ways, late, .. } = self;
        view.each_chunk(table, filter, |mut rows| {
            for way in &mut ways {
                rows = way.follow(&walk, rows, &mut tuples);
            }
            if !late.is_empty() {
                rows = rows.among(|place| {
                    tuples.put(rows.slot(place), &mut tuple);
                    late.iter().all(|condition| walk.is_true(condition, &tuple))
                });
            }
            found(rows, &tuples);
        });
    }
}

impl<'p> LinkWay<'p> {
    fn new(link: FieldNo) -> Self {
        let (known, slots) = (Vec::new(), Vec::new());
        Self { link, steps: Vec::new(), conditions: Vec::new(), known, slots }
    }

    fn leads_to(&self, source: usize) -> bool {
        self.steps.iter().any(|step| step.source == source)
    }

    /// Puts what rows' links lead to into their tuples; gives those for which the conditions on
    /// that hold.
    fn follow<'a>(
        &mut self,
        walk: &Walk<'a, '_>,
        rows: ScannedRows<'a>,
        tuples: &mut Tuples,
    ) -> ScannedRows<'a>
    where
        'p: 'a,
    {
        let (mut targets, mut numbers) = ([0; CHUNK], [0; CHUNK]);
        let links = rows.column(self.link, &mut targets);
        let rows = rows.among(|place| {
            let number = if links.get(place) { targets[place] as usize + 1 } else { 0 };
            numbers[place] = number;
            if self.known.get(number).is_none_or(|state| *state == LinkState::Unknown) {
                self.look_up(walk, number, (tuples.start, rows.slot(place)));
            }
            self.known[number] == LinkState::Holds
        });
        let width = self.steps.len();
        for (place, step) in self.steps.iter().enumerate() {
            let to = &mut tuples.others[step.source];
            for row in rows.places().ones() {
                to[row] = self.slots[numbers[row] * width + place];
            }
        }
        rows
    }

    /// Notes what the link leads to from a row, in the first source, where it points there.
    #[cold]
    fn look_up<'a>(&mut self, walk: &Walk<'a, '_>, number: usize, (start, slot): (usize, Slot))
    where
        'p: 'a,
    {
        let width = self.steps.len();
        if self.known.len() <= number {
            self.known.resize(number + 1, LinkState::Unknown);
            self.slots.resize((number + 1) * width, NONE);
        }
        let mut tuple = Tuple::from_elem(NONE, walk.view.plan.sources.len());
        tuple[start] = slot;
        self.known[number] = match self.holds(walk, &mut tuple) {
            true => LinkState::Holds,
            false => LinkState::Fails,
        };
        for (place, step) in self.slots[number * width..].iter_mut().zip(&self.steps) {
            *place = tuple[step.source];
        }
    }

    /// Goes the steps one by one from the first row of a tuple.
    fn holds<'a>(&self, walk: &Walk<'a, '_>, tuple: &mut Tuple) -> bool
    where
        'p: 'a,
    {
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
