//! Joins: from nothing, or from one row, to the tuples of rows that go together.

use smallvec::SmallVec;

use crate::query::expr::scalar::{Key, Scalar};
use crate::query::expr::{ColumnNo, Expr};
use crate::query::operator::describe::Printed;
use crate::query::operator::filter::Filter;
use crate::query::operator::input;
use crate::query::operator::link_join::LinkJoin;
use crate::query::operator::scanned::ScannedRow;
use crate::query::operator::view::{NONE, Tuple, View};
use crate::query::operator::walk::{Pins, Walk};
use crate::query::plan::explain::Operator;
use crate::query::plan::text::PlanNames;
use crate::query::plan::{Access, BoundPlan, Path, Rows};
use crate::query::work;
use crate::schema::{FieldNo, TableNo};
use crate::table::{Prefetch, Slot, TOGETHER, each_prefetched};

/// A tuple of which a row changed: whether it belongs to the result before and after.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct TupleDelta {
    pub(crate) tuple: Tuple,
    pub(crate) before: bool,
    pub(crate) after: bool,
    /// Whether something may have changed that the grouping or the outputs read.
    pub(crate) content: bool,
    /// Whether something may have changed that the order reads.
    pub(crate) order: bool,
    /// Whether one of its slots may hold another row than before.
    pub(crate) is_another: bool,
    /// The source whose row changed, if no other one's did.
    pub(crate) alone: Option<u16>,
    /// A bit for each of the first fields of that row that may have changed.
    pub(crate) fields: u64,
    /// A change that it derives from.
    pub(crate) cause: u32,
}

impl TupleDelta {
    /// Puts them into the order of their tuples.
    pub(crate) fn put_in_order(all: &mut [Self]) {
        all.sort_unstable_by(|one, other| one.tuple.cmp(&other.tuple));
    }

    /// Whether a column of a tuple whose rows are the same surely holds what it held.
    pub(crate) fn stays(&self, column: ColumnNo) -> bool {
        let has_changed = |field: u32| field >= u64::BITS || self.fields >> field & 1 == 1;
        self.alone.is_some_and(|alone| {
            usize::from(alone) != column.source() || !has_changed(column.field().0)
        })
    }
}

/// Tuples that changed; mostly one did.
pub(crate) type TupleDeltas = SmallVec<[TupleDelta; 2]>;

/// A row at which a search for changed tuples starts.
#[derive(Debug, Clone)]
pub(crate) struct Start {
    pub(crate) source: usize,
    pub(crate) slot: Slot,
    /// Whether it may have come, gone, or changed what decides which tuples there are.
    pub(crate) structure: bool,
    pub(crate) content: bool,
    pub(crate) order: bool,
    /// A bit for each of its first fields that may have changed.
    pub(crate) fields: u64,
    /// Whether the slot holds another row than before: in the course of several commits it can be
    /// used again.
    pub(crate) is_another: bool,
    pub(crate) cause: u32,
}

impl Start {
    /// A tuple that its row is part of.
    fn tuple(&self, tuple: Tuple, before: bool, after: bool) -> TupleDelta {
        let Start { content, order, fields, is_another, cause, .. } = *self;
        let alone = Some(self.source as u16);
        TupleDelta { tuple, before, after, content, order, is_another, alone, fields, cause }
    }
}

/// Such rows; mostly one.
pub(crate) type Starts = SmallVec<[Start; 4]>;

impl<'a> Walk<'a, '_> {
    /// All tuples, by the paths from nothing.
    pub(crate) fn all(&self, found: &mut dyn FnMut(&[Slot])) {
        let plan = self.view.plan;
        if let Some(table) = self.view.scanned() {
            let filter = Filter::of(&plan.scratch.checks, self.params);
            return self.view.each_row(table, filter, |slot, _| found(&[slot]));
        }
        if let Some(link_join) = LinkJoin::of(plan) {
            let mut tuple = Tuple::from_elem(NONE, plan.sources.len());
            return link_join.each(self.view, self.params, |rows, tuples| {
                for place in rows.places().ones() {
                    tuples.put(rows.slot(place), &mut tuple);
                    found(&tuple);
                }
            });
        }
        if plan.sources.is_empty() {
            return found(&[]);
        }
        let mut tuple = Tuple::from_elem(NONE, plan.sources.len());
        for path in plan.scratch_paths() {
            let start = &mut |slot: Slot| {
                tuple[path.start] = slot;
                if !work::is_over() && self.all_true(&path.checks, &tuple) {
                    self.steps(&path.steps, &mut tuple, &[], found);
                }
            };
            self.candidates(path.start, &path.access, &[], start);
            tuple[path.start] = NONE;
        }
    }

    /// The tuples that one row is part of.
    pub(crate) fn from(&self, source: usize, slot: Slot, found: &mut dyn FnMut(&[Slot])) {
        let plan = self.view.plan;
        if !self.view.input(source).is_row(slot) {
            return;
        }
        let mut tuple = Tuple::from_elem(NONE, plan.sources.len());
        tuple[source] = slot;
        let path: &Path = &plan.paths[source];
        if self.all_true(&path.checks, &tuple) {
            self.steps(&path.steps, &mut tuple, &[], found);
        }
    }

    /// The rows that one row of a left join's source may be the partner of.
    fn anchors(&self, source: usize, slot: Slot) -> Vec<Pins> {
        let plan = self.view.plan;
        let Some(Some(path)) = plan.anchors.get(source) else { return Vec::new() };
        if !self.view.input(source).is_row(slot) {
            return Vec::new();
        }
        let mut tuple = Tuple::from_elem(NONE, plan.sources.len());
        tuple[source] = slot;
        let mut out = Vec::new();
        if self.all_true(&path.checks, &tuple) {
            self.steps(&path.steps, &mut tuple, &[], &mut |tuple| {
                let mut pins: Pins = tuple.iter().map(|_| None).collect();
                for known in path.steps.iter().map(|step| step.source) {
                    pins[known] = Some(tuple[known]);
                }
                out.push(pins);
            });
        }
        out.sort_unstable();
        out.dedup();
        out
    }

    /// The tuples without partner at `source` whose other rows are those of the pins.
    fn without_partner(&self, source: usize, pins: &Pins, found: &mut dyn FnMut(&[Slot])) {
        // Not the path from nothing: that depends on one binding's parameters, and this is done for
        // all of them.
        let path = &self.view.plan.paths[self.view.plan.scratch.start];
        let mut tuple = Tuple::from_elem(NONE, pins.len());
        let Some(start) = pins[path.start].filter(|start| *start != NONE) else { return };
        tuple[path.start] = start;
        if self.view.input(path.start).is_row(start) && self.all_true(&path.checks, &tuple) {
            self.steps(&path.steps, &mut tuple, pins, &mut |tuple| {
                let fits =
                    pins.iter().zip(tuple).all(|(pin, slot)| pin.is_none_or(|pin| pin == *slot));
                if tuple[source] == NONE && fits {
                    found(tuple);
                }
            });
        }
    }
}

/// The tuples that the changed rows are part of, before and after, and those that gained or lost
/// the partner that they did not have.
pub(crate) fn changed_tuples(
    before: &View<'_>,
    after: &View<'_>,
    params: &[Scalar<'static>],
    starts: &[Start],
) -> TupleDeltas {
    let plan = after.plan;
    let (old, new) = (Walk { view: before, params }, Walk { view: after, params });
    // What decides which tuples there are has not changed anywhere, so they are the same.
    let calm = starts.iter().all(|start| !start.structure);
    if matches!(plan.rows, Rows::Recursion(_)) {
        let alone = starts.iter().map(|start| {
            let mut tuple = Tuple::from_elem(NONE, plan.sources.len());
            tuple[start.source] = start.slot;
            let is_row = |view: &View<'_>| view.input(start.source).is_row(start.slot);
            start.tuple(tuple, is_row(before), is_row(after))
        });
        return alone.collect();
    }
    let mut out = TupleDeltas::new();
    if !plan.joins() {
        for starts in starts.chunk_by(|one, other| one.source == other.source) {
            match plan.sources[starts[0].source].relation.table() {
                Some(table) => alone(before, after, params, (table, starts), &mut out),
                None => {
                    out.extend(starts.iter().filter_map(|start| derived_alone(&old, &new, start)));
                }
            }
        }
        return out;
    }
    if let ([start], true) = (starts, calm) {
        // There may be very many, and the slots alone are a sixth of what they take.
        let mut slots: Vec<Slot> = Vec::new();
        new.from(start.source, start.slot, &mut |tuple| slots.extend_from_slice(tuple));
        let tuples = slots.chunks_exact(plan.sources.len());
        return tuples.map(|of| start.tuple(Tuple::from_slice(of), true, true)).collect();
    }
    let mut search = |start: &Start| {
        let mut add = |tuple: &[Slot], before: bool, after: bool| {
            let tuple = Tuple::from_slice(tuple);
            out.push(start.tuple(tuple, before, after));
        };
        if calm {
            new.from(start.source, start.slot, &mut |tuple| add(tuple, true, true));
            return;
        }
        old.from(start.source, start.slot, &mut |tuple| add(tuple, true, false));
        new.from(start.source, start.slot, &mut |tuple| add(tuple, false, true));
        if plan.sources[start.source].outer.is_none() {
            return;
        }
        let new_pins = new.anchors(start.source, start.slot);
        let old_pins = old.anchors(start.source, start.slot);
        for pins in &new_pins {
            old.without_partner(start.source, pins, &mut |tuple| add(tuple, true, false));
        }
        for pins in &old_pins {
            new.without_partner(start.source, pins, &mut |tuple| add(tuple, false, true));
        }
    };
    each_prefetched(
        starts,
        &|prefetch, start| {
            before.input(start.source).prefetch(start.slot, prefetch);
            after.input(start.source).prefetch(start.slot, prefetch);
        },
        &mut search,
    );
    TupleDelta::put_in_order(&mut out);
    out.dedup_by(|next, first| {
        let same = next.tuple == first.tuple;
        if same {
            first.before |= next.before;
            first.after |= next.after;
            first.content |= next.content;
            first.order |= next.order;
            first.is_another |= next.is_another;
            first.alone = first.alone.filter(|alone| next.alone == Some(*alone));
            first.fields |= next.fields;
        }
        same
    });
    out
}

/// The same of rows of a table that go with no other ones.
fn alone<'a>(
    before: &View<'a>,
    after: &View<'a>,
    params: &'a [Scalar<'static>],
    (table, starts): (TableNo, &[Start]),
    out: &mut TupleDeltas,
) {
    let source = starts[0].source;
    let checks = &after.plan.paths[source].checks;
    // It is there, and nothing more is needed of it.
    let stays = |start: &Start| !start.structure && checks.is_empty();
    let are_many = starts.len() >= after.plan.tuning.prepared_rows;
    let filter = are_many.then(|| Filter::of(checks, params));
    let none = Tuple::from_elem(NONE, after.plan.sources.len());
    let tuple = |start: &Start| {
        let mut tuple = Tuple::from_slice(&none);
        tuple[source] = start.slot;
        tuple
    };
    let (mut old, mut new) = (before.row_finder(table), after.row_finder(table));
    out.reserve(starts.len());
    for some in starts.chunks(TOGETHER) {
        if some.iter().all(stays) {
            out.extend(some.iter().map(|start| start.tuple(tuple(start), true, true)));
            continue;
        }
        if some.len() > 1 {
            let mut prefetch = Prefetch::default();
            for start in some {
                let versions = [(start.structure, before), (!stays(start), after)];
                let asked = versions.into_iter().filter(|(asks, _)| *asks);
                asked.for_each(|(_, view)| view.input(source).prefetch(start.slot, &mut prefetch));
            }
            prefetch.fetch();
        }
        for start in some {
            let old = start.structure.then(|| old(start.slot)).flatten();
            let new = (!stays(start)).then(|| new(start.slot)).flatten();
            let belongs = |row: &ScannedRow<'a>| match &filter {
                Some(filter) => filter.holds(row),
                None => row.meets(checks, params),
            };
            let after = stays(start) || new.as_ref().is_some_and(belongs);
            let before = if start.structure { old.as_ref().is_some_and(belongs) } else { after };
            if before || after {
                out.push(start.tuple(tuple(start), before, after));
            }
        }
    }
}

/// The same of the row of another statement.
fn derived_alone(old: &Walk<'_, '_>, new: &Walk<'_, '_>, start: &Start) -> Option<TupleDelta> {
    let mut tuple = Tuple::from_elem(NONE, new.view.plan.sources.len());
    tuple[start.source] = start.slot;
    let path = &new.view.plan.paths[start.source];
    if !start.structure && path.checks.is_empty() {
        // It is there, and nothing more is needed of it.
        return Some(start.tuple(tuple, true, true));
    }
    let (mut before, mut after) = (false, false);
    new.from(start.source, start.slot, &mut |_| after = true);
    if start.structure {
        old.from(start.source, start.slot, &mut |_| before = true);
    } else {
        before = after;
    }
    (before || after).then(|| start.tuple(tuple, before, after))
}

/// The tuples with these rows that belong to one of two bindings with the same key and not to the
/// other.
pub(crate) fn rebound_tuples(
    view: &View<'_>,
    key: &[Key],
    (from, to): (&BoundPlan, &BoundPlan),
    rows: &[(usize, Slot)],
) -> TupleDeltas {
    let late = &view.plan.late;
    let (was, is) = (Filter::of(late, &from.params), Filter::of(late, &to.params));
    let mut out = TupleDeltas::new();
    for (source, slot) in rows {
        let (content, order, fields) = (true, true, u64::MAX);
        let (structure, is_another, cause) = (true, false, 0);
        let (source, slot) = (*source, *slot);
        let start = Start { source, slot, structure, content, order, fields, is_another, cause };
        Walk { view, params: &to.params }.from(source, slot, &mut |tuple| {
            let row = view.row(tuple);
            let (before, after) = (was.holds(&row), is.holds(&row));
            if before != after
                && (key.is_empty() || view.binding_key(tuple).as_deref() == Some(key))
            {
                out.push(start.tuple(tuple.into(), before, after));
            }
        });
    }
    TupleDelta::put_in_order(&mut out);
    out.dedup_by(|next, first| next.tuple == first.tuple);
    out
}

/// The sources, each joined to those before it.
pub(super) fn describe(names: &PlanNames<'_>, printed: &Printed) -> Operator {
    let path = &names.plan.scratch;
    if names.plan.sources.is_empty() {
        return Operator::new("one row", "of no table");
    }
    let name = if path.access == Access::Scan { "scan" } else { "look up" };
    let first = Operator::new(name, input::called(names, path.start, printed))
        .fact("by", access(names, path.start, &path.access))
        .fact("where", conditions(names, &path.checks));
    let from = |source: usize| way(names, &names.plan.paths[source]);
    let first = input::describe(names, path.start, (first, &from(path.start)), printed);
    path.steps.iter().fold(first, |operator, step| {
        let name = if step.optional { "left join" } else { "join" };
        let join = Operator::new(name, input::called(names, step.source, printed))
            .fact("by", access(names, step.source, &step.access))
            .fact("on", conditions(names, &step.on))
            .fact("where", conditions(names, &step.checks))
            .input(operator);
        input::describe(names, step.source, (join, &from(step.source)), printed)
    })
}

fn conditions(names: &PlanNames<'_>, conditions: &[Expr]) -> String {
    conditions.iter().map(|condition| names.text_of(condition)).collect::<Vec<_>>().join(" AND ")
}

/// How rows of a source are found.
fn access(names: &PlanNames<'_>, source: usize, access: &Access) -> String {
    let table = input::index_of(names, &names.plan.sources[source]);
    match access {
        Access::Scan => "all rows".to_owned(),
        Access::Follow(link) => format!("the link {}", names.column(*link)),
        Access::Id(value) => format!("the id {}", names.text_of(value)),
        Access::Back { link, to } => {
            let to = &names.plan.sources[*to].name;
            format!("the index of {table}.{}: links back to {to}", names.field(source, *link))
        }
        Access::Equal { fields, values } => {
            let field = |field: &FieldNo| names.field(source, *field);
            let fields: Vec<String> = fields.iter().map(field).collect();
            let values: Vec<String> = values.iter().map(|value| names.text_of(value)).collect();
            format!("the index of {table}.{} = {}", fields.join(", "), values.join(", "))
        }
    }
}

/// From a row of one source to the others.
fn way(names: &PlanNames<'_>, path: &Path) -> String {
    let steps = path.steps.iter().map(|step| {
        let name = &names.plan.sources[step.source].name;
        match &step.access {
            Access::Scan => format!("to all of {name}"),
            Access::Follow(_) => format!("by its link to {name}"),
            Access::Id(_) => format!("by the id to {name}"),
            Access::Back { link, .. } => {
                format!("back along {name}.{}", names.field(step.source, *link))
            }
            Access::Equal { fields, .. } => {
                let fields = fields.iter().map(|field| names.field(step.source, *field));
                format!("by the index of {name}.{}", fields.collect::<Vec<_>>().join(", "))
            }
        }
    });
    steps.collect::<Vec<_>>().join(", ")
}
