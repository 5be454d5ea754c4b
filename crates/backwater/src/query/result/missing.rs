//! What a result would have needed and was not there: absent fields, and rows that are missing.
//!
//! Found on request, by going through the rows once more; what is unknown for want of a value
//! counts as possible.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use crate::change::FieldSet;
use crate::query::expr::Expr;
use crate::query::expr::scalar::{Key, Scalar};
use crate::query::operator::indexes;
use crate::query::operator::order::ordered::{Ordered, Slots, of_tables};
use crate::query::operator::statement_rows::{StatementRow, StatementRows, StatementView};
use crate::query::operator::view::{NONE, Tuple, View};
use crate::query::operator::walk::Walk;
use crate::query::plan::{Access, BoundPlan, Excerpt, Identity, JoinStep, Plan, Rows};
use crate::query::state::binding::BindingState;
use crate::query::work;
use crate::schema::{FieldNo, TableNo};
use crate::table::{Cell, Slot, State};
use crate::value::RowId;

/// The cells that a result needed and that were not there.
///
/// ```
/// # use backwater::{Cache, Schema, Value};
/// # let cache = Cache::new(Schema::parse("s.toml", r#"
/// #     table.sailing = { id = "id", fields = { id = "int", vessel = { to = "vessel" }, delay_min = "int" } }
/// #     table.vessel = { id = "name", fields = { name = "text", cars_max = "int" } }
/// # "#)?);
/// cache.commit("announced", |tx| {
///     tx.insert("sailing", [("id", Value::from(311)), ("vessel", "Marram".into()), ("delay_min", 0.into())])?;
///     tx.insert("sailing", [("id", 312)])
/// })?;
/// let room = cache.query(
///     "SELECT s.id, v.cars_max FROM sailing s LEFT JOIN vessel v ON v.name = s.vessel WHERE s.delay_min < 5",
///     (),
/// )?;
/// let missing = room.missing(10)?;
/// // Nobody knows whether 312 is late, nor on which vessel it is; and Marram is missing.
/// let listed: Vec<String> = missing.cells.iter().map(ToString::to_string).collect();
/// assert_eq!(listed, [
///     "sailing 312: vessel is absent",
///     "sailing 312: delay_min is absent",
///     "vessel Marram is missing: name",
///     "vessel Marram is missing: cars_max",
/// ]);
/// assert_eq!(missing.count, 4);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq, Default)]
#[non_exhaustive]
pub struct Missing {
    /// How many there are.
    pub count: usize,
    /// The first of them, by table, row and field.
    pub cells: Vec<MissingCell>,
}

/// A cell that is not there.
///
/// See [`Missing`] for an example.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct MissingCell {
    /// The table's name.
    pub table: String,
    /// The row's id; `None` in a one-row table.
    pub id: Option<RowId>,
    /// The field's name.
    pub field: String,
    /// Whether the row is there, and only lacks the field.
    pub is_loaded: bool,
}

impl std::fmt::Display for MissingCell {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let id = self.id.as_ref().map_or(String::new(), |id| format!(" {id}"));
        match self.is_loaded {
            true => write!(f, "{}{id}: {} is absent", self.table, self.field),
            false => write!(f, "{}{id} is missing: {}", self.table, self.field),
        }
    }
}

pub(super) type Cells = BTreeSet<(TableNo, Slot, FieldNo)>;

/// What is missing of a result, at most this many cells of it one by one.
pub(in crate::query) fn missing(
    bound_plan: &BoundPlan,
    ordered: &Ordered,
    state: &State,
    most: usize,
) -> Missing {
    let mut cells = Cells::new();
    let (known, gathered) = Default::default();
    let mut gathering = Gathering { state, known, gathered, cells: &mut cells };
    gathering.gather(&bound_plan.plan, &bound_plan.params, Some((ordered, bound_plan.excerpt)));
    let listed = cells.iter().take(most).map(|(table, slot, field)| {
        let definition = state.schema.table(*table);
        MissingCell {
            table: definition.name.to_string(),
            id: state.id(*table, *slot).map(|id| id.to_id()),
            field: definition.field(*field).name.to_string(),
            is_loaded: state.table(*table).is_row(*slot),
        }
    });
    Missing { cells: listed.collect(), count: cells.len() }
}

/// A statement with values for its parameters.
pub(super) type Bound = (Identity, Box<[Key]>);

fn bound(plan: &Plan, params: &[Scalar<'static>]) -> Bound {
    (plan.identity, params.iter().cloned().map(Key::from).collect())
}

/// Goes through the rows that a statement reads, and those that it reads by way of others: each of
/// these once, however many read it.
pub(super) struct Gathering<'g> {
    pub(super) state: &'g State,
    /// The rows of statements, recomputed.
    pub(super) known: HashMap<Bound, Option<Arc<KeyedRows>>>,
    pub(super) gathered: HashSet<Bound>,
    pub(super) cells: &'g mut Cells,
}

pub(super) type KeyedRows = Vec<(Box<[Key]>, Arc<StatementRow>)>;

impl Gathering<'_> {
    fn gather(
        &mut self,
        plan: &Plan,
        params: &[Scalar<'static>],
        shown: Option<(&Ordered, Excerpt)>,
    ) {
        for source in &plan.sources {
            if let Some((inner, params)) = source.relation.statement(params)
                && self.gathered.insert(bound(inner, &params))
            {
                self.gather(inner, &params, None);
            }
        }
        let rows = self.read_in_the_end(plan, params);
        let views = views(&rows);
        let view = View { plan, state: self.state, derived: &views };
        search(&view, params, shown, self.cells);
    }

    /// The rows of the statements that a statement reads.
    pub(super) fn read_statements(
        &mut self,
        plan: &Plan,
        params: &[Scalar<'static>],
    ) -> Vec<Option<StatementRows>> {
        let rows = plan.sources.iter().enumerate().map(|(source, of)| {
            let (inner, params) = of.relation.statement(params)?;
            let mut rows = StatementRows::default();
            for (key, row) in self.rows_of(inner, &params)?.iter() {
                rows.set(key, Some(row.clone()));
            }
            plan.statement_indexes(source).iter().for_each(|fields| rows.index(fields));
            Some(rows)
        });
        rows.collect()
    }

    /// The same, with all rows of a recursion in the place of those that it begins with.
    pub(super) fn read_in_the_end(
        &mut self,
        plan: &Plan,
        params: &[Scalar<'static>],
    ) -> Vec<Option<StatementRows>> {
        let mut rows = self.read_statements(plan, params);
        if let Rows::Recursion(recursion) = &plan.rows {
            let first = views(&rows);
            let view = View { plan, state: self.state, derived: &first };
            let all = work::within(&plan.limits, || recursion.rows(&view, params));
            rows[recursion.source] = all.ok();
        }
        rows
    }

    fn rows_of(&mut self, plan: &Plan, params: &[Scalar<'static>]) -> Option<Arc<KeyedRows>> {
        let bound = bound(plan, params);
        if let Some(known) = self.known.get(&bound) {
            return known.clone();
        }
        let rows = self.compute(plan, params).map(Arc::new);
        self.known.insert(bound, rows.clone());
        rows
    }

    fn compute(&mut self, plan: &Plan, params: &[Scalar<'static>]) -> Option<KeyedRows> {
        let rows = self.read_statements(plan, params);
        let views = views(&rows);
        let view = View { plan, state: self.state, derived: &views };
        let excerpt = plan.excerpt(params).ok()?;
        let live = BindingState::compute(&view, (params, excerpt), false).ok()?;
        let ranks = 0..excerpt.len(live.ordered.len());
        let rows = ranks.map(|rank| {
            let (key, row) = live.ordered.statement_row(rank + excerpt.offset, &view, params)?;
            Some((key, Arc::new(row)))
        });
        rows.collect()
    }
}

/// Looks for what is missing of the rows of one statement.
fn search(
    view: &View<'_>,
    params: &[Scalar<'static>],
    shown: Option<(&Ordered, Excerpt)>,
    cells: &mut Cells,
) {
    let plan = view.plan;
    // The search begins with any row; the indexes for that may be missing before the first commit.
    let state = indexes::with(indexes::to_follow(plan), view.state);
    let view = &View { state: &state, ..*view };
    let mut search = Search { view, params, excerpt: ShownTuples::of(view, shown), cells };
    let follows = |source: &usize| {
        let steps = &plan.paths[*source].steps;
        steps.iter().any(|step| matches!(step.access, Access::Follow(_)))
    };
    let inner = |source: &usize| plan.sources[*source].outer.is_none();
    // From the rows that point at others: those that are missing cannot be begun with.
    let mut starts: Vec<usize> = (0..plan.sources.len()).filter(inner).filter(follows).collect();
    if starts.is_empty() && plan.first().is_some() {
        starts.push(plan.scratch.start);
    }
    for start in starts {
        let mut found = Vec::new();
        view.input(start).each(&mut |slot| found.push(slot));
        found.into_iter().for_each(|slot| search.from(start, slot));
    }
}

pub(super) fn views(rows: &[Option<StatementRows>]) -> Vec<Option<StatementView<'_>>> {
    let views =
        rows.iter().map(|rows| rows.as_ref().map(|rows| StatementView { rows, undo: None }));
    views.collect()
}

/// Which tuples show.
pub(super) enum ShownTuples {
    All,
    Tuples(HashSet<Tuple>),
    Keys(HashSet<Box<[Key]>>),
}

impl ShownTuples {
    pub(super) fn of(view: &View<'_>, shown: Option<(&Ordered, Excerpt)>) -> Self {
        let Some((ordered, excerpt)) = shown.filter(|_| view.plan.rows.are_by_tuple()) else {
            return ShownTuples::All;
        };
        if excerpt.is_whole() {
            return ShownTuples::All;
        }
        let ranks = excerpt.offset..excerpt.offset + excerpt.len(ordered.len());
        let (mut tuples, mut keys) = (HashSet::new(), HashSet::new());
        of_tables!(
            Ordered, ordered,
            ranked => ranked.each(ranks, |_, _, entry| {
                tuples.insert(Tuple::from_slice(entry.slots()));
            }),
            kept ranked, _ => ranked.each(ranks, |_, _, row| { keys.insert(row.place()); })
        );
        match ordered {
            Ordered::Kept(..) => ShownTuples::Keys(keys),
            _ => ShownTuples::Tuples(tuples),
        }
    }

    pub(super) fn has(&self, view: &View<'_>, tuple: &Tuple) -> bool {
        match self {
            ShownTuples::All => true,
            ShownTuples::Tuples(tuples) => tuples.contains(tuple),
            ShownTuples::Keys(keys) => {
                let key: Box<[Key]> = view.key(tuple).into_iter().map(Key::from).collect();
                keys.contains(&key)
            }
        }
    }
}

struct Search<'a, 'v> {
    view: &'v View<'a>,
    params: &'a [Scalar<'static>],
    excerpt: ShownTuples,
    cells: &'v mut Cells,
}

/// An unfinished tuple, with the rows in it that are missing.
#[derive(Clone)]
struct PartialTuple {
    tuple: Tuple,
    missing_rows: Vec<(usize, TableNo, Slot)>,
}

impl<'a> Search<'a, '_> {
    fn from(&mut self, source: usize, slot: Slot) {
        let plan = self.view.plan;
        let mut tuple = Tuple::from_elem(NONE, plan.sources.len());
        tuple[source] = slot;
        let mut partial = PartialTuple { tuple, missing_rows: Vec::new() };
        let path = &plan.paths[source];
        if self.are_possible(&path.checks, &partial) {
            self.steps(&path.steps, &mut partial);
        }
    }

    fn steps(&mut self, steps: &'a [JoinStep], partial: &mut PartialTuple) {
        let Some((step, rest)) = steps.split_first() else { return self.found(partial) };
        let walk = Walk { view: self.view, params: self.params };
        let partners = walk.partners(step.source, &step.access, &partial.tuple);
        let mut alone = step.optional;
        for partner in partners {
            partial.tuple[step.source] = partner;
            if self.are_possible(&step.on, partial) {
                alone = false;
                if self.are_possible(&step.checks, partial) {
                    self.steps(rest, partial);
                }
            }
            partial.tuple[step.source] = NONE;
        }
        let pointed = self.missing_rows(step, partial);
        if let Some(row) = pointed {
            partial.missing_rows.push(row);
            if self.are_possible(&step.on, partial) && self.are_possible(&step.checks, partial) {
                self.steps(rest, partial);
            }
            partial.missing_rows.pop();
        } else if alone && self.are_possible(&step.checks, partial) {
            self.steps(rest, partial);
        }
    }

    /// The row that a step leads to and that is missing.
    fn missing_rows(
        &self,
        step: &JoinStep,
        partial: &PartialTuple,
    ) -> Option<(usize, TableNo, Slot)> {
        let sources = &self.view.plan.sources;
        let to = sources[step.source].relation.table()?;
        let state = self.view.state;
        let slot = match &step.access {
            Access::Follow(link) => {
                let from = sources[link.source()].relation.table()?;
                let row = partial.tuple[link.source()];
                match state.table(from).cell(row, link.field()) {
                    Cell::Link(slot) if row != NONE => slot,
                    _ => return None,
                }
            }
            Access::Id(value) => {
                value.eval(&self.view.row(&partial.tuple), self.params).as_slot(state, to)?
            }
            _ => return None,
        };
        (!state.table(to).is_row(slot)).then_some((step.source, to, slot))
    }

    /// Whether conditions hold, or may hold once what is missing is there.
    fn are_possible(&self, conditions: &'a [Expr], partial: &PartialTuple) -> bool {
        let row = self.view.row(&partial.tuple);
        conditions.iter().all(|condition| match condition.eval(&row, self.params).as_truth() {
            Some(truth) => truth || self.lacks_a_row(condition, partial),
            None => self.is_lacking(condition, partial),
        })
    }

    fn lacks_a_row(&self, condition: &Expr, partial: &PartialTuple) -> bool {
        condition.columns().iter().any(|column| {
            partial.missing_rows.iter().any(|(source, ..)| *source == column.source())
        })
    }

    /// Whether a cell that a condition reads is not there.
    fn is_lacking(&self, condition: &Expr, partial: &PartialTuple) -> bool {
        self.lacks_a_row(condition, partial)
            || condition.columns().iter().any(|column| {
                let slot = partial.tuple[column.source()];
                let table = self.view.plan.sources[column.source()].relation.table();
                table.filter(|_| slot != NONE).is_some_and(|table| {
                    self.view.state.table(table).cell(slot, column.field()) == Cell::Absent
                })
            })
    }

    /// A tuple that belongs to the result, or may: what of its rows is missing counts.
    fn found(&mut self, partial: &PartialTuple) {
        let (plan, view) = (self.view.plan, self.view);
        let keys = plan.keys.iter().all(|key| {
            let value = view.value(key.column, partial.tuple[key.column.source()]);
            let sought = self.params[key.param].clone().under(key.affinity);
            match value.is_null() {
                true => self.is_lacking(&Expr::Column(key.column), partial),
                false => value.order(&sought).is_eq(),
            }
        });
        if !keys || !self.are_possible(&plan.late, partial) {
            return;
        }
        for (number, table, slot) in &partial.missing_rows {
            let reads = plan.sources[*number].reads.iter();
            self.cells.extend(reads.map(|field| (*table, *slot, field)));
        }
        let shows = self.excerpt.has(view, &partial.tuple);
        for (source, slot) in plan.sources.iter().zip(&partial.tuple) {
            let Some(table) = source.relation.table() else { continue };
            if *slot == NONE {
                continue;
            }
            let mut fields = FieldSet::default();
            fields.add(&source.structure);
            fields.add(&source.order);
            if shows {
                fields.add(&source.reads);
            }
            let rows = view.state.table(table);
            let absent = fields.iter().filter(|field| rows.cell(*slot, *field) == Cell::Absent);
            self.cells.extend(absent.map(|field| (table, *slot, field)));
        }
    }
}
