//! The engine: shapes and their bindings, and the way from a commit to those that it touches.

use std::collections::HashMap;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::delta::Delta;
use super::edit::{Failure, RowDelta};
use super::index::{Index, KeyValues, key_of};
use super::live::Live;
use super::order::Moved;
use super::plan::{Plan, Window};
use super::result::Entry;
use super::scalar::{Key, Scalar};
use super::{BindingNo, Outcome};
use crate::change::{Changes, Happened};
use crate::error::Result;
use crate::schema::{FieldNo, Schema, TableNo};
use crate::table::State;

/// A shape's number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct ShapeNo(u32);

/// All standing queries of a cache.
pub(crate) struct Engine {
    shapes: FxHashMap<ShapeNo, Shape>,
    by_text: HashMap<String, ShapeNo>,
    bindings: FxHashMap<BindingNo, Binding>,
    indexes: Vec<Index>,
    /// For each table, for each of its fields, the shapes that read it.
    by_field: Vec<Vec<Vec<ShapeNo>>>,
    /// For each table, all shapes that read it.
    by_table: Vec<Vec<ShapeNo>>,
    next_shape: u32,
    next_binding: u64,
}

/// A plan with all its bindings.
struct Shape {
    plan: Arc<Plan>,
    by_params: HashMap<Box<[Key]>, BindingNo>,
    by_key: HashMap<KeyValues, Vec<BindingNo>>,
    /// The fields of the plan's keys.
    key_fields: Vec<FieldNo>,
}

/// A shape with values for its parameters.
struct Binding {
    shape: ShapeNo,
    identity: Box<[Key]>,
    /// What a row must have to belong here; `None` if no row can: a value is NULL, or LIMIT is 0.
    key: Option<KeyValues>,
    window: Window,
    params: Arc<[Scalar<'static>]>,
    live: Result<Live, Failure>,
    entry: Arc<Entry>,
    name: Arc<str>,
    /// How many handles there are.
    handles: usize,
}

/// What a commit did to a binding that it reached.
pub(crate) struct Reached {
    pub(crate) binding: BindingNo,
    pub(crate) name: Arc<str>,
    pub(crate) params: Arc<[Scalar<'static>]>,
    pub(crate) plan: Arc<Plan>,
    pub(crate) outcome: Outcome,
    pub(crate) failure: Option<Failure>,
    pub(crate) delta: Option<Delta>,
    /// The changes that reached it, by their numbers in the commit.
    pub(crate) causes: Vec<u32>,
    /// What readers find from now on, if it is another result than before.
    pub(crate) entry: Option<Arc<Entry>>,
}

impl Engine {
    pub(crate) fn new(schema: &Schema) -> Self {
        Self {
            shapes: FxHashMap::default(),
            by_text: HashMap::new(),
            bindings: FxHashMap::default(),
            indexes: Vec::new(),
            by_field: schema
                .tables
                .iter()
                .map(|table| vec![Vec::new(); table.fields.len()])
                .collect(),
            by_table: vec![Vec::new(); schema.tables.len()],
            next_shape: 0,
            next_binding: 0,
        }
    }

    /// One more handle for a plan with parameters: an existing binding, or a new one.
    pub(crate) fn bind(
        &mut self,
        plan: Plan,
        params: Vec<Scalar<'static>>,
        name: Arc<str>,
        state: &State,
    ) -> Result<(BindingNo, Arc<Entry>)> {
        let window = plan.window(&params)?;
        let number = self.shape(plan, state);
        // A parameter of another type may compare differently, so the type is part of it.
        let identity: Box<[Key]> = params
            .iter()
            .flat_map(|param| {
                let is_real = matches!(param, Scalar::Real(_));
                [Key::Int(is_real.into()), Key::from(param.clone())]
            })
            .collect();
        let Some(shape) = self.shapes.get_mut(&number) else {
            unreachable!("the shape was just made")
        };
        if let Some(known) = shape.by_params.get(&identity)
            && let Some(binding) = self.bindings.get_mut(known)
        {
            binding.handles += 1;
            return Ok((*known, binding.entry.clone()));
        }
        let binding = BindingNo(self.next_binding);
        self.next_binding += 1;
        let keys = shape.plan.keys.iter().map(|part| {
            match params[part.param].clone().under(part.affinity) {
                Scalar::Null => None,
                value => Some(Key::from(value)),
            }
        });
        // Nothing can show in an empty window, so no row belongs to it either.
        let key: Option<KeyValues> = keys.collect::<Option<_>>().filter(|_| window.limit > 0);
        if let Some(key) = &key {
            shape.by_key.entry(key.clone()).or_default().push(binding);
        }
        shape.by_params.insert(identity.clone(), binding);
        let plan = shape.plan.clone();
        let params: Arc<[Scalar<'static>]> = params.into();
        let live = compute(&self.indexes, &plan, &params, key.as_deref(), state);
        let entry = entry(&plan, &params, window, &live);
        self.bindings.insert(
            binding,
            Binding {
                shape: number,
                identity,
                key,
                window,
                params,
                live,
                entry: entry.clone(),
                name,
                handles: 1,
            },
        );
        Ok((binding, entry))
    }

    fn shape(&mut self, plan: Plan, state: &State) -> ShapeNo {
        if let Some(known) = self.by_text.get(&plan.text) {
            return *known;
        }
        let number = ShapeNo(self.next_shape);
        self.next_shape += 1;
        self.by_text.insert(plan.text.clone(), number);
        self.by_table[plan.table.index()].push(number);
        for field in plan.footprint.iter() {
            self.by_field[plan.table.index()][field.index()].push(number);
        }
        let key_fields: Vec<FieldNo> = plan.keys.iter().map(|part| part.field).collect();
        if !key_fields.is_empty() {
            let known = find(&self.indexes, plan.table, &key_fields);
            let index = known.unwrap_or_else(|| {
                self.indexes.push(Index::build(state, plan.table, key_fields.clone()));
                self.indexes.len() - 1
            });
            self.indexes[index].users += 1;
        }
        let shape = Shape {
            plan: Arc::new(plan),
            by_params: HashMap::new(),
            by_key: HashMap::new(),
            key_fields,
        };
        self.shapes.insert(number, shape);
        number
    }

    /// One handle less; a binding without any is forgotten, and so is a shape without bindings.
    /// Tells whether the binding is gone.
    pub(crate) fn release(&mut self, number: BindingNo) -> bool {
        let Some(binding) = self.bindings.get_mut(&number) else {
            return true;
        };
        binding.handles -= 1;
        if binding.handles > 0 {
            return false;
        }
        let Some(binding) = self.bindings.remove(&number) else {
            return true;
        };
        let Some(shape) = self.shapes.get_mut(&binding.shape) else {
            return true;
        };
        shape.by_params.remove(&binding.identity);
        if let Some(key) = binding.key
            && let Some(bindings) = shape.by_key.get_mut(&key)
        {
            bindings.retain(|other| *other != number);
            if bindings.is_empty() {
                shape.by_key.remove(&key);
            }
        }
        if shape.by_params.is_empty() {
            self.forget_shape(binding.shape);
        }
        true
    }

    fn forget_shape(&mut self, number: ShapeNo) {
        let Some(shape) = self.shapes.remove(&number) else {
            return;
        };
        let table = shape.plan.table;
        self.by_text.remove(&shape.plan.text);
        self.by_table[table.index()].retain(|other| *other != number);
        for field in shape.plan.footprint.iter() {
            self.by_field[table.index()][field.index()].retain(|other| *other != number);
        }
        if let Some(index) = find(&self.indexes, table, &shape.key_fields) {
            self.indexes[index].users -= 1;
            if self.indexes[index].users == 0 {
                self.indexes.swap_remove(index);
            }
        }
    }

    /// The number that the next new binding will have.
    pub(crate) fn next_binding(&self) -> BindingNo {
        BindingNo(self.next_binding)
    }

    /// Brings every binding that a commit touches up to date, and no other.
    pub(crate) fn apply(&mut self, changes: &Changes) -> Vec<Reached> {
        for index in &mut self.indexes {
            index.apply(changes);
        }
        let mut reached = Vec::new();
        for (number, rows) in self.route(changes) {
            for (binding, rows) in self.shapes[&number].divide(changes, &rows) {
                reached.push((binding, rows));
            }
        }
        reached.sort_by_key(|(binding, _)| *binding);
        reached
            .into_iter()
            .filter_map(|(binding, rows)| self.follow(binding, changes, &rows))
            .collect()
    }

    /// The changes that each shape has to look at: by table and field.
    fn route(&self, changes: &Changes) -> FxHashMap<ShapeNo, Vec<u32>> {
        let mut routed: FxHashMap<ShapeNo, Vec<u32>> = FxHashMap::default();
        let mut send = |shapes: &[ShapeNo], change: u32| {
            for shape in shapes {
                let rows = routed.entry(*shape).or_default();
                if rows.last() != Some(&change) {
                    rows.push(change);
                }
            }
        };
        for (number, row) in changes.rows.iter().enumerate() {
            let table = row.table.index();
            match &row.happened {
                Happened::Updated(fields) => {
                    fields.iter().for_each(|field| {
                        send(&self.by_field[table][field.index()], number as u32)
                    });
                }
                Happened::Inserted | Happened::Deleted => {
                    send(&self.by_table[table], number as u32)
                }
            }
        }
        routed
    }

    fn follow(
        &mut self,
        number: BindingNo,
        changes: &Changes,
        rows: &[RowDelta],
    ) -> Option<Reached> {
        let binding = self.bindings.get_mut(&number)?;
        let plan = self.shapes.get(&binding.shape)?.plan.clone();
        let mut reached = Reached {
            binding: number,
            name: binding.name.clone(),
            params: binding.params.clone(),
            plan: plan.clone(),
            outcome: Outcome::Same,
            failure: None,
            delta: None,
            causes: rows.iter().map(|row| row.change).collect(),
            entry: None,
        };
        let moved = match &mut binding.live {
            Ok(live) => live.apply(&plan, &binding.params, binding.window, changes, rows).map(Some),
            Err(_) => {
                let key = binding.key.as_deref();
                compute(&self.indexes, &plan, &binding.params, key, &changes.after).map(|live| {
                    binding.live = Ok(live);
                    None
                })
            }
        };
        match moved {
            Ok(Some(moved)) if moved.is_empty() => {
                // The order may have moved beyond the window. Readers get the new one, but what
                // somebody holds of the result stays the same object.
                if let Ok(live) = &binding.live {
                    binding.entry = Arc::new(binding.entry.with_same_rows(live.ordered.clone()));
                }
            }
            Ok(moved) => {
                reached.outcome =
                    if moved.is_some() { Outcome::Maintained } else { Outcome::Recomputed };
                let old = std::mem::replace(
                    &mut binding.entry,
                    entry(&plan, &binding.params, binding.window, &binding.live),
                );
                reached.delta = delta(&old, &binding.entry, changes, moved);
            }
            Err(failure) => {
                reached.outcome = Outcome::Failed;
                reached.failure = Some(failure.clone());
                binding.live = Err(failure);
                binding.entry = entry(&plan, &binding.params, binding.window, &binding.live);
            }
        }
        reached.entry = Some(binding.entry.clone());
        Some(reached)
    }
}

impl Shape {
    /// The rows that each binding has to look at: by the old and the new key of each row.
    fn divide(&self, changes: &Changes, rows: &[u32]) -> FxHashMap<BindingNo, Vec<RowDelta>> {
        let mut divided: FxHashMap<BindingNo, Vec<RowDelta>> = FxHashMap::default();
        for &change in rows {
            let row = &changes.rows[change as usize];
            let (was, is) = (row.happened != Happened::Inserted, row.happened != Happened::Deleted);
            let mut send = |key: &Option<KeyValues>, before: bool, after: bool| {
                let Some(bindings) = key.as_ref().and_then(|key| self.by_key.get(key)) else {
                    return;
                };
                for binding in bindings {
                    let delta = RowDelta { change, slot: row.slot, before, after };
                    divided.entry(*binding).or_default().push(delta);
                }
            };
            let key = |state| key_of(state, row.table, row.slot, &self.key_fields);
            let old = was.then(|| key(&changes.before)).flatten();
            let new = is.then(|| key(&changes.after)).flatten();
            if old == new {
                send(&old, was, is);
            } else {
                send(&old, was, false);
                send(&new, false, is);
            }
        }
        divided
    }
}

fn find(indexes: &[Index], table: TableNo, fields: &[FieldNo]) -> Option<usize> {
    indexes.iter().position(|index| index.table == table && index.fields == fields)
}

/// A binding's state from scratch: from the rows of its key, or from all.
fn compute(
    indexes: &[Index],
    plan: &Plan,
    params: &[Scalar<'static>],
    key: Option<&[Key]>,
    state: &State,
) -> Result<Live, Failure> {
    let fields: Vec<FieldNo> = plan.keys.iter().map(|part| part.field).collect();
    match (key, find(indexes, plan.table, &fields)) {
        (None, _) => Live::compute(plan, params, state, std::iter::empty()),
        (Some(key), Some(index)) => Live::compute(plan, params, state, indexes[index].slots(key)),
        (Some(_), None) => Live::compute(plan, params, state, state.table(plan.table).iter()),
    }
}

fn entry(
    plan: &Arc<Plan>,
    params: &Arc<[Scalar<'static>]>,
    window: Window,
    live: &Result<Live, Failure>,
) -> Arc<Entry> {
    let ordered = live.as_ref().map(|live| live.ordered.clone()).map_err(Clone::clone);
    Arc::new(Entry::new(plan.clone(), params.clone(), window, ordered))
}

/// The delta between two entries, unless one of them is a failure.
fn delta(old: &Entry, new: &Entry, changes: &Changes, moved: Option<Vec<Moved>>) -> Option<Delta> {
    let (before, after) = (old.result(&changes.before).ok()?, new.result(&changes.after).ok()?);
    moved.map(|rows| Delta { before, after, rows })
}
