//! From a commit's changes to the groups of bindings that they may concern: by table and field,
//! and by what a row must hold.

use std::collections::VecDeque;

use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use super::intervals::{Interval, Intervals};
use super::{GroupNo, Work};
use crate::change::{Changes, Happened, RowChange};
use crate::query::expr::collation::Collation;
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::expr::shape::compared;
use crate::query::expr::{ColumnNo, Comparison, Expr, NoColumns};
use crate::query::plan::Plan;
use crate::schema::{FieldNo, Schema, TableNo};
use crate::sorting;
use crate::table::{Prefetch, RowCells, RowReader, State, TOGETHER};

/// What a row of a source must hold in a field to concern a group: a value in one of these.
#[derive(Debug, Clone)]
pub(super) struct Needed {
    field: FieldNo,
    intervals: Vec<Interval>,
}

/// The groups that read a table, or one of its fields.
#[derive(Default)]
struct Readers {
    /// Those that any row may concern.
    all: Vec<GroupNo>,
    /// Those that only some rows concern, by what these hold.
    by_value: Vec<(FieldNo, Intervals<GroupNo>)>,
}

/// What groups have to look at, by their numbers.
pub(super) struct Works(VecDeque<(GroupNo, Work)>);

impl Works {
    /// What a group has to look at. A group that reads another one has a higher number, so that it
    /// is mostly found, or put, at the end.
    pub(super) fn of(&mut self, group: GroupNo) -> &mut Work {
        let place = self.0.binary_search_by_key(&group, |(of, _)| *of);
        let place = place.unwrap_or_else(|place| {
            self.0.insert(place, (group, Work::default()));
            place
        });
        &mut self.0[place].1
    }

    /// How many groups have something to look at.
    pub(super) fn len(&self) -> usize {
        self.0.len()
    }

    pub(super) fn pop_first(&mut self) -> Option<(GroupNo, Work)> {
        self.0.pop_front()
    }
}

/// The same in their order. Mostly they are few; of more, their places are kept.
#[derive(Default)]
struct Routed {
    works: Vec<(GroupNo, Work)>,
    places: FxHashMap<GroupNo, usize>,
}

impl Routed {
    const FEW: usize = 8;

    fn of(&mut self, group: GroupNo) -> &mut Work {
        let place = match self.works.len() {
            ..=Self::FEW => self.works.iter().position(|(of, _)| *of == group),
            _ => self.places.get(&group).copied(),
        };
        let place = place.unwrap_or_else(|| {
            self.works.push((group, Work::default()));
            if self.works.len() > Self::FEW {
                let first = if self.places.is_empty() { 0 } else { self.works.len() - 1 };
                let fresh = self.works.iter().enumerate().skip(first);
                self.places.extend(fresh.map(|(place, (of, _))| (*of, place)));
            }
            self.works.len() - 1
        });
        &mut self.works[place].1
    }
}

/// All groups, by what they read.
pub(super) struct Routes {
    /// For each table, for each of its fields.
    by_field: Vec<Vec<Readers>>,
    by_table: Vec<Readers>,
}

impl Readers {
    fn is_empty(&self) -> bool {
        self.all.is_empty() && self.by_value.is_empty()
    }

    fn add(&mut self, group: GroupNo, needed: Option<&Needed>) {
        let Some(needed) = needed else {
            if self.all.last() != Some(&group) {
                self.all.push(group);
            }
            return;
        };
        let place = self.by_value.iter().position(|(field, _)| *field == needed.field);
        let place = place.unwrap_or_else(|| {
            self.by_value.push((needed.field, Intervals::default()));
            self.by_value.len() - 1
        });
        for interval in &needed.intervals {
            self.by_value[place].1.insert(interval.clone(), group);
        }
    }

    fn remove(&mut self, group: GroupNo, needed: Option<&Needed>) {
        let Some(needed) = needed else {
            self.all.retain(|other| *other != group);
            return;
        };
        if let Some((_, by_value)) =
            self.by_value.iter_mut().find(|(field, _)| *field == needed.field)
        {
            needed.intervals.iter().for_each(|interval| by_value.remove(interval, group));
        }
        self.by_value.retain(|(_, by_value)| !by_value.is_empty());
    }

    /// What a row held and holds in the fields by which groups are found.
    fn values<'c>(&self, row: &VersionsOfRow<'c>, read: &mut ReadSides<'c>) {
        for (field, _) in &self.by_value {
            let value = |version: &Option<RowOf<'c>>| match version {
                Some((state, cells)) => Scalar::of(state, row.table, *field, cells.cell(*field)),
                None => Scalar::Null,
            };
            read.push((value(&row.before), value(&row.after)));
        }
    }

    /// The groups that a row concerns with these values.
    fn each(&self, values: &mut std::slice::Iter<'_, Sides<'_>>, found: &mut dyn FnMut(GroupNo)) {
        self.all.iter().for_each(|group| found(*group));
        for ((_, by_value), (before, after)) in self.by_value.iter().zip(values) {
            by_value.holding(before, &mut *found);
            if after != before {
                by_value.holding(after, &mut *found);
            }
        }
    }
}

/// Who reads what was changed of a row.
struct ReadersOf<'r> {
    row: &'r RowChange,
    readers: SmallVec<[&'r Readers; 4]>,
    /// Whether it matters to anyone which values the row held or holds.
    asks_values: bool,
}

impl ReadersOf<'_> {
    /// Whether the same was changed of another row, so that they read that as well.
    fn is_same_change(&self, row: &RowChange) -> bool {
        self.row.table == row.table && self.row.happened == row.happened
    }
}

/// What a field held, and what it holds.
type Sides<'c> = (Scalar<'c>, Scalar<'c>);

/// The same of the fields by which groups are found; mostly few.
type ReadSides<'c> = SmallVec<[Sides<'c>; 4]>;

/// A row of a version of the tables.
type RowOf<'c> = (&'c State, RowCells<'c>);

/// A row before and after a commit.
struct VersionsOfRow<'c> {
    table: TableNo,
    before: Option<RowOf<'c>>,
    after: Option<RowOf<'c>>,
}

/// What reads the rows of a table before and after a commit.
struct Versions<'c> {
    changes: &'c Changes,
    table: TableNo,
    before: RowReader<'c>,
    after: RowReader<'c>,
}

impl<'c> Versions<'c> {
    fn of(changes: &'c Changes, table: TableNo) -> Self {
        let reader = |state: &'c State| state.table(table).reader();
        Self { changes, table, before: reader(&changes.before), after: reader(&changes.after) }
    }

    fn row(&mut self, row: &RowChange) -> VersionsOfRow<'c> {
        let was = !matches!(row.happened, Happened::Inserted);
        let is = !matches!(row.happened, Happened::Deleted);
        VersionsOfRow {
            table: self.table,
            before: was.then(|| (&*self.changes.before, self.before.row(row.slot))),
            after: is.then(|| (&*self.changes.after, self.after.row(row.slot))),
        }
    }
}

impl Routes {
    pub(super) fn new(schema: &Schema) -> Self {
        let readers = |count: usize| (0..count).map(|_| Readers::default()).collect();
        let fields = schema.tables.iter().map(|table| readers(table.fields.len()));
        Self { by_field: fields.collect(), by_table: readers(schema.tables.len()) }
    }

    /// Makes room for the tables that a schema has behind those that are known.
    pub(super) fn extend(&mut self, schema: &Schema) {
        let more = Self::new(schema);
        let known = self.by_table.len();
        self.by_table.extend(more.by_table.into_iter().skip(known));
        self.by_field.extend(more.by_field.into_iter().skip(known));
    }

    /// Routes to a group the rows that it needs of its sources.
    pub(super) fn add(&mut self, group: GroupNo, plan: &Plan, needed: &[Option<Needed>]) {
        self.each_readers(plan, needed, |readers, needed| readers.add(group, needed));
    }

    pub(super) fn remove(&mut self, group: GroupNo, plan: &Plan, needed: &[Option<Needed>]) {
        self.each_readers(plan, needed, |readers, needed| readers.remove(group, needed));
    }

    fn each_readers(
        &mut self,
        plan: &Plan,
        needed: &[Option<Needed>],
        mut each: impl FnMut(&mut Readers, Option<&Needed>),
    ) {
        for (source, needed) in plan.sources.iter().zip(needed) {
            if let Some(table) = source.relation.table() {
                each(&mut self.by_table[table.index()], needed.as_ref());
                for field in source.reads.iter() {
                    each(&mut self.by_field[table.index()][field.index()], needed.as_ref());
                }
            }
        }
    }

    /// Whether any group reads a table.
    #[cfg(feature = "remote")]
    pub(super) fn is_read(&self, table: TableNo) -> bool {
        !self.by_table[table.index()].is_empty()
    }

    /// Those who read what was changed of a row.
    fn readers<'r>(&'r self, row: &'r RowChange) -> ReadersOf<'r> {
        let table = row.table.index();
        let mut readers: SmallVec<[&Readers; 4]> = SmallVec::new();
        match &row.happened {
            Happened::Updated(fields) => {
                let of_fields = fields.iter().map(|field| &self.by_field[table][field.index()]);
                readers.extend(of_fields.filter(|readers| !readers.is_empty()));
            }
            Happened::Inserted | Happened::Deleted => readers.push(&self.by_table[table]),
        }
        let asks_values = readers.iter().any(|readers| !readers.by_value.is_empty());
        ReadersOf { row, readers, asks_values }
    }

    /// The changes that each group has to look at.
    pub(super) fn route(&self, changes: &Changes) -> Works {
        let (mut routed, mut read) = (Routed::default(), ReadSides::new());
        let mut tables: Option<Versions<'_>> = None;
        let mut asked: SmallVec<[(usize, &RowChange); TOGETHER]> = SmallVec::new();
        let mut known: SmallVec<[ReadersOf<'_>; 1]> = SmallVec::new();
        let mut places: SmallVec<[usize; TOGETHER]> = SmallVec::new();
        for (rows, first) in changes.rows.chunks(TOGETHER).zip((0..).step_by(TOGETHER)) {
            // In a large commit the same mostly happened to row after row.
            known.drain(..known.len().saturating_sub(1));
            places.clear();
            read.clear();
            let mut prefetch = Prefetch::default();
            for row in rows {
                if !known.last().is_some_and(|readers| readers.is_same_change(row)) {
                    known.push(self.readers(row));
                }
                let place = known.len() - 1;
                places.push(place);
                if known[place].asks_values {
                    asked.push((place, row));
                    prefetch.add(changes.before.table(row.table), row.slot);
                    prefetch.add(changes.after.table(row.table), row.slot);
                }
            }
            if rows.len() > 1 {
                prefetch.fetch();
            }
            for (place, row) in asked.drain(..) {
                let tables = match &mut tables {
                    Some(tables) if tables.table == row.table => tables,
                    tables => tables.insert(Versions::of(changes, row.table)),
                };
                let versions = tables.row(row);
                let readers = known[place].readers.iter();
                readers.for_each(|readers| readers.values(&versions, &mut read));
            }
            let mut values = read.iter();
            for (place, number) in places.iter().zip(first..) {
                let mut send = |group: GroupNo| {
                    let work = routed.of(group);
                    if work.changes.last() != Some(&number) {
                        work.changes.push(number);
                    }
                };
                let readers = known[*place].readers.iter();
                readers.for_each(|readers| readers.each(&mut values, &mut send));
            }
        }
        sorting::by_key(&mut routed.works, |(group, _)| group.0.into());
        Works(routed.works.into())
    }
}

/// For each source of a plan, what its rows must hold; `keys` are values of the plan's keys, those
/// of all bindings of a group, if they are few.
pub(super) fn needed(plan: &Plan, keys: Option<&[&[Scalar<'static>]]>) -> Vec<Option<Needed>> {
    let sources = plan.sources.iter().enumerate();
    let needed = sources.map(|(number, source)| {
        let narrows = source.outer.is_none() && source.relation.table().is_some();
        narrows.then(|| needed_of(plan, number, keys)).flatten()
    });
    needed.collect()
}

fn needed_of(plan: &Plan, source: usize, keys: Option<&[&[Scalar<'static>]]>) -> Option<Needed> {
    let checks = &plan.paths.get(source)?.checks;
    if let Some(points) = checks.iter().find_map(points) {
        return Some(points);
    }
    if let Some(keys) = keys
        && let Some((number, part)) =
            plan.keys.iter().enumerate().find(|(_, part)| part.column.source() == source)
    {
        let intervals = keys.iter().map(|values| Interval::Point(values[number].clone()));
        return Some(Needed { field: part.column.field(), intervals: intervals.collect() });
    }
    let (mut range, mut low, mut high) = (None, None, None);
    for (field, is_low, bound) in checks.iter().filter_map(bound) {
        let end = if is_low { &mut low } else { &mut high };
        if *range.get_or_insert(field) == field && end.is_none() {
            *end = Some(bound);
        }
    }
    range.map(|field| Needed { field, intervals: vec![Interval::Between { low, high }] })
}

/// The values that an equality or a list of literals selects.
fn points(check: &Expr) -> Option<Needed> {
    let literal = |expr: &Expr| match expr {
        Expr::Literal(value) => Some(value.clone()),
        _ => None,
    };
    let (column, values) = match check {
        Expr::In(affinity, Collation::Binary, of, list) => {
            let Expr::Column(column) = of.as_ref() else { return None };
            let values = list.iter().map(|item| Some(literal(item)?.under(*affinity)));
            (*column, values.collect::<Option<SmallVec<[_; 4]>>>()?)
        }
        _ => {
            let (column, Comparison::Equal, affinity, to) = compared(check)? else { return None };
            (column, SmallVec::from_iter([literal(to)?.under(affinity)]))
        }
    };
    let values = values.into_iter().filter(|value| !value.is_null());
    let mut intervals: Vec<Scalar<'static>> = values.collect();
    intervals.sort_unstable_by(Scalar::order);
    intervals.dedup_by(|a, b| a.order(b).is_eq());
    let intervals = intervals.into_iter().map(Interval::Point).collect();
    Some(Needed { field: column.field(), intervals })
}

/// A field's bound that a comparison with a literal says, and whether it is the lower one.
fn bound(check: &Expr) -> Option<(FieldNo, bool, Scalar<'static>)> {
    use Comparison as C;
    let (column, comparison, affinity, to) = compared(check)?;
    let Expr::Literal(value) = to else { return None };
    let value = value.clone().under(affinity);
    let is_low = match comparison {
        C::Greater | C::GreaterOrEqual => true,
        C::Less | C::LessOrEqual => false,
        C::Equal | C::NotEqual => return None,
    };
    (!value.is_null()).then_some((column.field(), is_low, value))
}

/// Conditions with parameters by which bindings are found from what a row holds in a column.
#[derive(Clone)]
pub(super) struct RangePart {
    pub(super) column: ColumnNo,
    selects: Selects,
}

/// A value that a binding's parameters alone decide on, under the affinity of its comparison.
type Constant = (Affinity, Expr);

#[derive(Clone)]
enum Selects {
    /// What compares so with one of these.
    AnyOf(Vec<(Comparison, Constant)>),
    /// What lies between.
    Between { low: Option<Constant>, high: Option<Constant> },
}

impl RangePart {
    /// The first column that is equal to one of some constants, or else that is compared with one.
    pub(super) fn of(plan: &Plan) -> Option<Self> {
        let is_inner = |part: &Self| plan.sources[part.column.source()].outer.is_none();
        plan.late.iter().filter_map(any_of).find(is_inner).or_else(|| Self::between(plan))
    }

    fn between(plan: &Plan) -> Option<Self> {
        use Comparison as C;
        let (mut of, mut low, mut high) = (None, None, None);
        for (column, comparison, constant) in plan.late.iter().filter_map(compared_with_constant) {
            let end = match comparison {
                C::Greater | C::GreaterOrEqual => &mut low,
                C::Less | C::LessOrEqual => &mut high,
                C::Equal | C::NotEqual => continue,
            };
            let is_inner = plan.sources[column.source()].outer.is_none();
            if is_inner && *of.get_or_insert(column) == column && end.is_none() {
                *end = Some(constant);
            }
        }
        Some(Self { column: of?, selects: Selects::Between { low, high } })
    }

    /// Whether a value may be found several times for one binding.
    pub(super) fn is_several(&self) -> bool {
        matches!(&self.selects, Selects::AnyOf(any) if any.len() > 1)
    }

    /// The values that concern a binding; none, if no row can belong to it.
    pub(super) fn intervals(&self, params: &[Scalar<'static>]) -> SmallVec<[Interval; 1]> {
        use Comparison as C;
        let value = |(affinity, expr): &Constant| {
            let value = expr.eval(&NoColumns, params).under(*affinity).into_owned();
            (!value.is_null()).then_some(value)
        };
        let end = |constant: &Option<Constant>| match constant {
            None => Some(None),
            Some(constant) => value(constant).map(Some),
        };
        match &self.selects {
            Selects::AnyOf(any) => {
                let intervals = any.iter().filter_map(|(comparison, constant)| {
                    let value = value(constant)?;
                    Some(match comparison {
                        C::Less | C::LessOrEqual => {
                            Interval::Between { low: None, high: Some(value) }
                        }
                        C::Greater | C::GreaterOrEqual => {
                            Interval::Between { low: Some(value), high: None }
                        }
                        C::Equal | C::NotEqual => Interval::Point(value),
                    })
                });
                intervals.collect()
            }
            Selects::Between { low, high } => {
                let both = end(low).zip(end(high));
                both.map(|(low, high)| Interval::Between { low, high }).into_iter().collect()
            }
        }
    }
}

/// A column that is compared with what no row decides on.
fn compared_with_constant(condition: &Expr) -> Option<(ColumnNo, Comparison, Constant)> {
    let (column, comparison, affinity, to) = compared(condition)?;
    is_fixed(to).then(|| (column, comparison, (affinity, to.clone())))
}

/// Whether no row decides on it, nor does it have a column converted that it is compared with.
fn is_fixed(expr: &Expr) -> bool {
    !matches!(expr, Expr::Cast(..) | Expr::Under(..)) && expr.is_constant()
}

/// What a list, or equalities and others between ORs, select by one column.
fn any_of(condition: &Expr) -> Option<RangePart> {
    let mut alternatives = Vec::new();
    let mut open = vec![condition];
    while let Some(expr) = open.pop() {
        match expr {
            Expr::Or(left, right) => open.extend([left.as_ref(), right.as_ref()]),
            Expr::In(affinity, Collation::Binary, of, list) => {
                let Expr::Column(column) = of.as_ref() else { return None };
                for item in list {
                    let constant = is_fixed(item).then(|| (*affinity, item.clone()))?;
                    alternatives.push((*column, Comparison::Equal, constant));
                }
            }
            expr => alternatives.push(compared_with_constant(expr)?),
        }
    }
    let (column, first) = alternatives.first().map(|(column, first, _)| (*column, *first))?;
    let is_range = alternatives.len() == 1 && first != Comparison::Equal;
    let fits = |(of, comparison, _): &(ColumnNo, Comparison, Constant)| {
        *of == column && *comparison != Comparison::NotEqual
    };
    if is_range || !alternatives.iter().all(fits) {
        return None;
    }
    let any = alternatives.into_iter().map(|(_, comparison, constant)| (comparison, constant));
    Some(RangePart { column, selects: Selects::AnyOf(any.collect()) })
}
