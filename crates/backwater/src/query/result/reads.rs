//! What a result reads of the tables, there or not: single rows, and rows with certain values in
//! certain fields.
//!
//! Found on request, by going along the statement's path once more from the rows that are there;
//! what is unknown for want of a value counts as possible.

use std::collections::HashSet;

use crate::query::expr::scalar::{Key, Scalar};
use crate::query::expr::{ColumnNo, Comparison, Expr, NoColumns};
use crate::query::operator::order::ordered::Ordered;
use crate::query::operator::statement_rows::StatementView;
use crate::query::operator::view::{NONE, Tuple, View};
use crate::query::operator::walk::Walk;
use crate::query::plan::{Access, BoundPlan, Excerpt, Identity, JoinStep, Path, Plan};
use crate::query::result::missing::{Gathering, ShownTuples, views};
use crate::schema::{FieldNo, TableNo};
use crate::sorting;
use crate::table::{Cell, State};
use crate::value::{RowId, Value};

/// Rows that a result reads.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum ReadScope {
    /// The one with this id.
    Row(TableNo, RowId),
    /// Those with these values in these fields; without any, all of the table.
    Rows(TableNo, Vec<(FieldNo, Value)>),
}

/// What a result reads.
#[derive(Debug)]
pub(crate) struct ReadScopes {
    pub(crate) scopes: Vec<ReadScope>,
    /// Whether these are all, and not only as many as are wanted.
    pub(crate) is_all: bool,
}

/// What a result reads, as many scopes of it as are wanted.
pub(in crate::query) fn reads(
    bound_plan: &BoundPlan,
    ordered: Option<&Ordered>,
    state: &State,
    most: usize,
) -> ReadScopes {
    let mut cells = Default::default();
    let (known, gathered) = Default::default();
    let statements = Gathering { state, known, gathered, cells: &mut cells };
    let (scopes, is_cut, seen_rows, seen, statements_seen) = Default::default();
    let mut reading =
        Reading { state, statements, scopes, is_cut, seen_rows, seen, statements_seen, most };
    let excerpt = bound_plan.excerpt;
    let shown = ordered.map(|ordered| (ordered, excerpt));
    if excerpt.limit > 0 {
        reading.statement(&bound_plan.plan, &bound_plan.params, &[], shown);
    }
    ReadScopes { scopes: reading.scopes, is_all: !reading.is_cut }
}

/// A column's value that the statement around has decided.
type Fixed = (ColumnNo, Scalar<'static>);

struct Reading<'g> {
    state: &'g State,
    /// Recomputes the rows of statements that others read.
    statements: Gathering<'g>,
    scopes: Vec<ReadScope>,
    /// Whether there would be more.
    is_cut: bool,
    seen_rows: HashSet<(TableNo, RowId)>,
    seen: HashSet<(TableNo, Vec<(FieldNo, Key)>)>,
    /// With the columns that are fixed, and the values of its parameters and of these.
    statements_seen: HashSet<(Identity, Vec<ColumnNo>, Vec<Scalar<'static>>)>,
    most: usize,
}

impl Reading<'_> {
    fn is_full(&self) -> bool {
        self.scopes.len() >= self.most
    }

    fn statement(
        &mut self,
        plan: &Plan,
        params: &[Scalar<'static>],
        fixed: &[Fixed],
        shown: Option<(&Ordered, Excerpt)>,
    ) {
        let rows = self.statements.read_in_the_end(plan, params);
        let views: Vec<Option<StatementView<'_>>> = views(&rows);
        let view = View { plan, state: self.state, derived: &views };
        let shows = ShownTuples::of(&view, shown);
        let mut along = Along { reading: self, view: &view, params, fixed, shows };
        plan.scratch_paths().iter().for_each(|path| along.start(path));
    }

    fn row(&mut self, table: TableNo, id: RowId) {
        if self.seen_rows.insert((table, id.clone())) {
            self.add(ReadScope::Row(table, id));
        }
    }

    fn add(&mut self, scope: ReadScope) {
        match self.is_full() {
            true => self.is_cut = true,
            false => self.scopes.push(scope),
        }
    }

    fn rows(&mut self, table: TableNo, mut by: Vec<(FieldNo, Value)>) {
        let definition = self.state.schema.table(table);
        if definition.is_one_row() {
            return;
        }
        sorting::few(&mut by, |(one, _), (other, _)| one < other);
        by.dedup_by_key(|(field, _)| *field);
        if let [id] = *definition.id
            && let Some((_, value)) = by.iter().find(|(field, _)| *field == id)
            && let Some(id) = row_id(value)
        {
            return self.row(table, id);
        }
        let key = by.iter().map(|(field, value)| (*field, Key::from(Scalar::from(value))));
        if self.seen.insert((table, key.collect())) {
            self.add(ReadScope::Rows(table, by));
        }
    }
}

fn row_id(value: &Value) -> Option<RowId> {
    match value {
        Value::Int(number) => Some(RowId::Int(*number)),
        Value::Text(text) => Some(RowId::from(&**text)),
        _ => None,
    }
}

/// Goes along one statement's path.
struct Along<'r, 'g, 'a> {
    reading: &'r mut Reading<'g>,
    view: &'a View<'a>,
    params: &'a [Scalar<'static>],
    fixed: &'a [Fixed],
    shows: ShownTuples,
}

/// An unfinished tuple, the sources whose row is missing, and what is read only if it shows.
struct PartialTuple {
    tuple: Tuple,
    missing: Vec<usize>,
    if_shown: Vec<(TableNo, RowId)>,
}

impl<'a> Along<'_, '_, 'a> {
    fn start(&mut self, path: &'a Path) {
        let source = path.start;
        let width = self.view.plan.sources.len();
        let mut by = self.constants(source, path.checks.iter());
        match &path.access {
            Access::Equal { fields, values } => {
                for (field, value) in fields.iter().zip(values) {
                    by.extend(self.constant(source, *field, value).map(|value| (*field, value)));
                }
            }
            Access::Id(value) => {
                if let Some(table) = self.table(source)
                    && let [id] = *self.reading.state.schema.table(table).id
                {
                    by.extend(self.constant(source, id, value).map(|value| (id, value)));
                }
            }
            _ => {}
        }
        let some = self.one_of(source, path.checks.iter());
        self.read(source, by, some);
        let walk = Walk { view: self.view, params: self.params };
        let none = Tuple::from_elem(NONE, width);
        for slot in walk.partners(source, &path.access, &none) {
            let mut tuple = none.clone();
            tuple[source] = slot;
            let (missing, if_shown) = Default::default();
            let mut partial = PartialTuple { tuple, missing, if_shown };
            if self.belongs(source, &partial) && self.are_possible(&path.checks, &partial) {
                self.steps(&path.steps, &mut partial);
            }
            if self.reading.is_cut {
                return;
            }
        }
    }

    fn table(&self, source: usize) -> Option<TableNo> {
        self.view.plan.sources[source].relation.table()
    }

    /// Reads the rows of a source with these values: of a table as a scope, and of a statement what
    /// that one reads. `some` are the values of a field of which one is meant.
    fn read(
        &mut self,
        source: usize,
        by: Vec<(FieldNo, Value)>,
        some: Option<(FieldNo, Vec<Value>)>,
    ) {
        match (self.table(source), some) {
            (Some(table), Some((field, values))) => {
                for value in values {
                    let by = by.iter().cloned().chain([(field, value)]).collect();
                    self.reading.rows(table, by);
                }
            }
            (Some(table), None) => self.reading.rows(table, by),
            (None, _) => self.all_of(source, &by),
        }
    }

    /// Reads what a statement reads for its rows with these values in these columns.
    fn all_of(&mut self, source: usize, by: &[(FieldNo, Value)]) {
        let relation = &self.view.plan.sources[source].relation;
        let Some((inner, params)) = relation.statement(self.params) else { return };
        let column = |field: &FieldNo| {
            let column = inner.outputs.get(field.index())?.expr.plain_column()?;
            match inner.rows.operator() {
                Some(rows) => rows.column_of(column.column as usize),
                None => Some(column),
            }
        };
        let fixed: Vec<Fixed> = by
            .iter()
            .filter_map(|(field, value)| Some((column(field)?, Scalar::from(value))))
            .collect();
        let given = params.iter().chain(fixed.iter().map(|(_, value)| value));
        let values = given.cloned().collect();
        let columns = fixed.iter().map(|(column, _)| *column).collect();
        if self.reading.statements_seen.insert((inner.identity, columns, values)) {
            self.reading.statement(inner, &params, &fixed, None);
        }
    }

    fn constant(&self, source: usize, field: FieldNo, value: &Expr) -> Option<Value> {
        if !value.columns().is_empty() {
            return None;
        }
        let kind = self
            .table(source)
            .map(|table| self.reading.state.schema.table(table).field(field).kind);
        let value = value.eval(&NoColumns, self.params);
        let value = value.into_owned().into_value(kind);
        (!value.is_null()).then_some(value)
    }

    /// The values that conditions ask of a source's fields.
    fn constants(
        &self,
        source: usize,
        conditions: impl Iterator<Item = &'a Expr>,
    ) -> Vec<(FieldNo, Value)> {
        let plan = self.view.plan;
        let mut out = Vec::new();
        for condition in conditions.chain(&plan.late) {
            each_conjunct(condition, &mut |part| {
                let Expr::Compare(Comparison::Equal, _, _, left, right) = part else { return };
                for (column, value) in [(left, right), (right, left)] {
                    if let Some(column) =
                        column.plain_column().filter(|column| column.source() == source)
                        && let Some(value) = self.constant(source, column.field(), value)
                    {
                        out.push((column.field(), value));
                    }
                }
            });
        }
        for key in plan.keys.iter().filter(|key| key.column.source() == source) {
            let value = Expr::Param(key.param);
            let value = self.constant(source, key.column.field(), &value);
            out.extend(value.map(|value| (key.column.field(), value)));
        }
        for (column, value) in self.fixed.iter().filter(|(column, _)| column.source() == source) {
            out.push((column.field(), value.clone().into_value(None)));
        }
        out
    }

    /// The values of which conditions ask for one in a source's field: `field IN (…)`.
    fn one_of(
        &self,
        source: usize,
        conditions: impl Iterator<Item = &'a Expr>,
    ) -> Option<(FieldNo, Vec<Value>)> {
        let mut found = None;
        for condition in conditions.chain(&self.view.plan.late) {
            each_conjunct(condition, &mut |part| {
                let Expr::In(_, _, column, values) = part else { return };
                let Some(column) = column.plain_column().filter(|column| column.source() == source)
                else {
                    return;
                };
                let values: Vec<Option<Value>> = values
                    .iter()
                    .map(|value| self.constant(source, column.field(), value))
                    .collect();
                if let Some(values) = values.into_iter().collect() {
                    found = Some((column.field(), values));
                }
            });
        }
        found
    }

    fn steps(&mut self, steps: &'a [JoinStep], partial: &mut PartialTuple) {
        if self.reading.is_cut {
            return;
        }
        let Some((step, rest)) = steps.split_first() else { return self.found(partial) };
        let is_missing = self.read_step(step, partial);
        let walk = Walk { view: self.view, params: self.params };
        let partners = walk.partners(step.source, &step.access, &partial.tuple);
        let mut alone = step.optional;
        for partner in partners {
            partial.tuple[step.source] = partner;
            if self.belongs(step.source, partial) && self.are_possible(&step.on, partial) {
                alone = false;
                if self.are_possible(&step.checks, partial) {
                    self.steps(rest, partial);
                }
            }
            partial.tuple[step.source] = NONE;
        }
        if is_missing {
            partial.missing.push(step.source);
            if self.are_possible(&step.on, partial) && self.are_possible(&step.checks, partial) {
                self.steps(rest, partial);
            }
            partial.missing.pop();
        } else if alone && self.are_possible(&step.checks, partial) {
            self.steps(rest, partial);
        }
    }

    /// Notes what a step reads; returns whether it leads to a row that is missing.
    fn read_step(&mut self, step: &'a JoinStep, partial: &mut PartialTuple) -> bool {
        let (source, view) = (&self.view.plan.sources[step.source], self.view);
        let conditions = || step.on.iter().chain(&step.implied).chain(&step.checks);
        let mut by = self.constants(step.source, conditions());
        let some = self.one_of(step.source, conditions());
        let row = view.row(&partial.tuple);
        match &step.access {
            Access::Follow(link) => {
                let from = self.table(link.source());
                let slot = partial.tuple[link.source()];
                let (Some(from), Some(to)) = (from, self.table(step.source)) else { return false };
                let Cell::Link(target) = (match slot {
                    NONE => Cell::Absent,
                    slot => view.state.table(from).cell(slot, link.field()),
                }) else {
                    return false;
                };
                let Some(id) = view.state.id(to, target).map(|id| id.to_id()) else { return false };
                let only_shown =
                    step.optional && source.structure.is_empty() && source.order.is_empty();
                match only_shown {
                    true => partial.if_shown.push((to, id)),
                    false => self.reading.row(to, id),
                }
                return !view.state.table(to).is_row(target);
            }
            Access::Id(value) => {
                let Some(table) = self.table(step.source) else { return false };
                let value = value.eval(&row, self.params);
                if value.is_null() {
                    return false;
                }
                let slot = value.as_slot(view.state, table);
                let id = slot.and_then(|slot| Some(view.state.id(table, slot)?.to_id()));
                let id = id.or_else(|| row_id(&value.clone().into_owned().into_value(None)));
                if let Some(id) = id {
                    self.reading.row(table, id);
                }
                return !slot.is_some_and(|slot| view.state.table(table).is_row(slot));
            }
            Access::Back { link, to } => {
                let target = self.table(*to).filter(|_| partial.tuple[*to] != NONE);
                let Some(id) = target.and_then(|to_table| {
                    Some(view.state.id(to_table, partial.tuple[*to])?.to_id())
                }) else {
                    return false;
                };
                by.push((*link, value_of(&id)));
            }
            Access::Equal { fields, values } => {
                for (field, value) in fields.iter().zip(values) {
                    let value = value.eval(&row, self.params).into_owned();
                    if value.is_null() {
                        return false;
                    }
                    by.push((*field, value.into_value(None)));
                }
            }
            Access::Scan => {}
        }
        self.read(step.source, by, some);
        false
    }

    /// Whether a row has the values that the statement's bindings and the one around it ask for.
    fn belongs(&self, source: usize, partial: &PartialTuple) -> bool {
        let plan = self.view.plan;
        let slot = partial.tuple[source];
        let keys = plan.keys.iter().filter(|key| key.column.source() == source);
        let keys = keys.map(|key| (key.column, self.params[key.param].clone().under(key.affinity)));
        let fixed = self.fixed.iter().filter(|(column, _)| column.source() == source).cloned();
        keys.chain(fixed).all(|(column, sought)| {
            let value = self.view.value(column, slot);
            value.is_null() || value.order(&sought).is_eq()
        })
    }

    /// Whether conditions hold, or may hold once what is missing is there.
    fn are_possible(&self, conditions: &'a [Expr], partial: &PartialTuple) -> bool {
        let row = self.view.row(&partial.tuple);
        conditions.iter().all(|condition| {
            let columns = condition.columns();
            let lacks = columns.iter().any(|column| {
                let slot = partial.tuple[column.source()];
                let is_absent = self.table(column.source()).is_some_and(|table| {
                    slot != NONE
                        && self.view.state.table(table).cell(slot, column.field()) == Cell::Absent
                });
                is_absent || partial.missing.contains(&column.source())
            });
            lacks || condition.holds(&row, self.params)
        })
    }

    fn found(&mut self, partial: &PartialTuple) {
        if !partial.if_shown.is_empty()
            && self.are_possible(&self.view.plan.late, partial)
            && self.shows.has(self.view, &partial.tuple)
        {
            for (table, id) in &partial.if_shown {
                self.reading.row(*table, id.clone());
            }
        }
    }
}

fn value_of(id: &RowId) -> Value {
    match id {
        RowId::Int(number) => Value::Int(*number),
        other => Value::from(other.to_string().as_str()),
    }
}

fn each_conjunct(condition: &Expr, each: &mut impl FnMut(&Expr)) {
    match condition {
        Expr::And(left, right) => {
            each_conjunct(left, each);
            each_conjunct(right, each);
        }
        other => each(other),
    }
}
