//! The engine: shapes and their bindings, and the way from a commit to those that it touches.

mod follow;
mod group;
mod intervals;
mod rebind;
mod route;

use std::collections::{BTreeMap, HashMap};
use std::hash::{BuildHasher, Hasher, RandomState};
use std::sync::Arc;
use std::time::Duration;

use hashbrown::HashTable;
use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use super::{BindingNo, Outcome, work};
use crate::error::{Error, ErrorKind, Result};
use crate::query::expr::scalar::{Key, Scalar};
use crate::query::operator::indexes::{self, TableIndex};
use crate::query::operator::statement_rows::{StatementRows, StatementView, Undo};
use crate::query::operator::view::View;
use crate::query::plan::{BoundPlan, Identity, KeyPart, Plan};
use crate::query::result::QueryResult;
use crate::query::result::delta::Delta;
use crate::query::state::binding::BindingState;
use crate::query::state::node::{Behind, Node, Reads, computed};
use crate::query::work::Failure;
use crate::schema::{FieldNo, Schema, TableNo, Tuning};
use crate::table::{Slot, State};
use group::Group;
use rebind::Recent;
pub(crate) use rebind::{Apart, Rebound};
use route::{Routes, needed};

/// A shape's number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct ShapeNo(u32);

/// The number of a group of bindings that are searched for together. What a group reads has a
/// lower number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct GroupNo(u32);

/// All standing queries of a cache.
pub(crate) struct Engine {
    shapes: FxHashMap<ShapeNo, Shape>,
    by_identity: HashMap<Identity, ShapeNo>,
    /// By their text, as programs define the same for many values.
    by_text: HashMap<Box<str>, ShapeNo>,
    groups: FxHashMap<GroupNo, Group>,
    bindings: FxHashMap<BindingNo, Binding>,
    /// How many shapes look for a table's rows by the values of some fields.
    indexes: FxHashMap<TableIndex, usize>,
    /// Whether there may be some that are not made yet, as only following commits needs them.
    lacks_indexes: bool,
    routes: Routes,
    /// Those that are behind, by the commit since when.
    behind: BTreeMap<u64, Vec<BindingNo>>,
    /// Those without a handle, which are kept for a while.
    recent: Recent,
    next: u32,
    next_binding: u64,
    /// What hashes values from outside.
    hasher: RandomState,
    tuning: Tuning,
}

/// A plan with all its bindings.
struct Shape {
    plan: Arc<Plan>,
    /// What its first binding is called, and mostly all.
    name: Arc<str>,
    /// The text by which it is found.
    text: Option<Box<str>>,
    /// By the values of its parameters, which the nodes have.
    by_params: HashTable<BindingNo>,
    groups: HashMap<GroupKey, GroupNo>,
    /// Tables' rows in the order of a field, by which those between two bounds are found.
    orders: Vec<(TableNo, FieldNo, BindingNo)>,
    /// What each parameter decides on, once one was given another value.
    elsewhere: Option<Box<[bool]>>,
}

/// What the bindings of a group have in common: the statements that they read, and, where tuples
/// depend on them, the parameters.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct GroupKey {
    inner: Box<[Option<BindingNo>]>,
    params: Option<Box<[Key]>>,
}

struct Binding {
    node: Arc<Node>,
    shape: ShapeNo,
    group: GroupNo,
    /// How many handles there are, and statements that read it.
    uses: u32,
    /// How many handles programs hold.
    handles: u32,
}

/// Changes by their numbers in the commit; mostly one.
pub(crate) type Causes = SmallVec<[u32; 4]>;

/// What a commit did to a binding that it reached.
pub(crate) struct Reached {
    pub(crate) node: Arc<Node>,
    pub(crate) outcome: Outcome,
    pub(crate) failure: Option<Failure>,
    pub(crate) delta: Option<Delta>,
    /// The result from before, where no delta leads on from it.
    pub(crate) before: Option<QueryResult>,
    /// The changes that reached it, by their numbers in the commit.
    pub(crate) causes: Causes,
    /// Whether programs hold it, and not only statements that read it.
    pub(crate) is_held: bool,
    /// The query's binding before a rebind, if that was it.
    pub(crate) from: Option<Arc<BoundPlan>>,
    /// How long it took, if there is a clock.
    pub(crate) took: Option<Duration>,
}

/// What became of all that a commit reached; a rebinding reaches one.
pub(crate) type ReachedList = SmallVec<[Reached; 1]>;

/// What a group has to look at.
#[derive(Default)]
struct Work {
    changes: Causes,
    derived: FxHashMap<u16, Undo>,
    /// What reached the statements that it reads, and whether these were put off.
    causes: Causes,
    is_behind: bool,
    /// Whether one of them failed, or was recomputed.
    is_recomputed: bool,
}

/// The state of a new binding, computed from a version of the tables while commits went on.
pub(crate) struct ComputedApart {
    pub(crate) live: Result<BindingState, Failure>,
    pub(crate) state: Arc<State>,
    pub(crate) commit: u64,
    /// The rows that were changed since.
    pub(crate) rows: Vec<(TableNo, Slot)>,
    /// The rows of the statements that it reads, as they were.
    pub(crate) inner: InnerRows,
}

/// For each source that is another statement, its rows; none at all, if no source is one.
pub(crate) type InnerRows = Vec<Option<StatementRows>>;

/// Where a new binding's state comes from, if it need not be computed.
enum Made {
    Now(BindingState),
    Before(ComputedApart),
}

/// Computes a new binding's state from a version of the tables that has the indexes for it.
///
/// # Errors
/// [`ErrorKind::Stopped`](crate::ErrorKind::Stopped); what is wrong with the excerpt.
pub(crate) fn compute_apart(
    plan: &Plan,
    params: &[Scalar<'static>],
    state: &State,
    inner: &InnerRows,
) -> Result<Result<BindingState, Failure>> {
    let excerpt = plan.excerpt(params)?;
    let derived = inner.iter().map(|rows| Some(StatementView { rows: rows.as_ref()?, undo: None }));
    let derived: Vec<Option<StatementView<'_>>> = derived.collect();
    let view = View { plan, state, derived: &derived };
    let is_empty = plan.key(params, excerpt).is_none();
    let live = || computed(&view, (params, excerpt), is_empty);
    match work::can_stop(true, live) {
        Err(failure) if failure.is_stopped => Err(failure.error()),
        live => Ok(live),
    }
}

/// What is handed out of a binding.
pub(crate) struct Bound {
    pub(crate) node: Arc<Node>,
    /// The tables with the indexes that the statement needs.
    pub(crate) state: Arc<State>,
}

impl Engine {
    pub(crate) fn new(schema: &Schema, recent: usize) -> Self {
        Self {
            shapes: FxHashMap::default(),
            by_identity: HashMap::new(),
            by_text: HashMap::new(),
            groups: FxHashMap::default(),
            bindings: FxHashMap::default(),
            indexes: FxHashMap::default(),
            lacks_indexes: false,
            routes: Routes::new(schema),
            behind: BTreeMap::new(),
            recent: Recent::new(recent),
            next: 0,
            next_binding: 0,
            hasher: RandomState::new(),
            tuning: schema.tuning,
        }
    }

    /// Takes note of the tables that a schema has behind those that are known.
    pub(crate) fn extend(&mut self, schema: &Schema) {
        self.routes.extend(schema);
        // A text may mean something else now.
        self.by_text.clear();
    }

    /// The plan of a statement that is in use.
    pub(crate) fn plan_of(&self, sql: &str) -> Option<Arc<Plan>> {
        let shape = self.by_text.get(sql)?;
        self.shapes.get(shape).map(|shape| shape.plan.clone())
    }

    /// Takes note of the text of a plan that is in use.
    pub(crate) fn note_text(&mut self, sql: &str, plan: &Plan) {
        let Some(number) = self.by_identity.get(&plan.identity) else { return };
        let Some(shape) = self.shapes.get_mut(number).filter(|shape| shape.text.is_none()) else {
            return;
        };
        shape.text = Some(sql.into());
        self.by_text.insert(sql.into(), *number);
    }

    /// One more handle for a plan with parameters: an existing binding, or a new one.
    pub(crate) fn bind(
        &mut self,
        plan: Arc<Plan>,
        params: Vec<Scalar<'static>>,
        name: &str,
        (state, commit): (&Arc<State>, u64),
        computed: Option<ComputedApart>,
    ) -> Result<Bound> {
        let mut state = state.clone();
        let shape = self.shape(plan, name, &mut state);
        let made = computed.map(Made::Before);
        let number = self.use_shape(shape, params, name, (&mut state, commit), made);
        self.forget_if_unused(shape, &mut state);
        let number = number?;
        let Some(binding) = self.bindings.get_mut(&number) else {
            return Err(Error::new(ErrorKind::Result, "this query is not kept any more"));
        };
        binding.handles += 1;
        Ok(Bound { node: binding.node.clone(), state })
    }

    /// The rows of the statements that a plan reads, which are in use; `None` if one is not, or if
    /// it cannot be computed.
    pub(crate) fn inner_rows(
        &self,
        plan: &Plan,
        params: &[Scalar<'static>],
        (state, commit): (&Arc<State>, u64),
    ) -> Option<InnerRows> {
        if plan.sources.iter().all(|source| source.relation.table().is_some()) {
            return Some(Vec::new());
        }
        let rows = plan.sources.iter().enumerate().map(|(number, source)| {
            let Some((inner, params)) = source.relation.statement(params) else {
                return Some(None);
            };
            let node = &self.bindings.get(&self.known(inner, &params)?)?.node;
            work::can_stop(false, || node.catch_up(state, commit)).ok()?;
            node.serve(plan, number, state);
            node.entry().ordered.is_ok().then(|| node.statement_rows())
        });
        rows.collect()
    }

    /// Whether a plan with parameters is in use.
    pub(crate) fn is_known(&self, plan: &Plan, params: &[Scalar<'static>]) -> bool {
        self.known(plan, params).is_some()
    }

    fn known(&self, plan: &Plan, params: &[Scalar<'static>]) -> Option<BindingNo> {
        let shape = self.by_identity.get(&plan.identity)?;
        self.with_params(*shape, params, hash_of(params, &self.hasher))
    }

    /// Whether a new binding's state, or that of a statement that it reads and that is not in use,
    /// takes so long to compute that commits go on meanwhile.
    pub(crate) fn is_worth_apart(
        &self,
        plan: &Plan,
        params: &[Scalar<'static>],
        state: &State,
    ) -> bool {
        let mut rows = 0_usize;
        for source in &plan.sources {
            if let Some(table) = source.relation.table() {
                rows += state.table(table).rows() as usize;
            }
            let Some((inner, params)) = source.relation.statement(params) else { continue };
            let known = self.known(inner, &params).and_then(|of| self.bindings.get(&of));
            match known {
                Some(known) => rows += known.node.rows_shown(),
                None if self.is_worth_apart(inner, &params, state) => return true,
                None => {}
            }
        }
        // Loading the remaining rows is no news.
        rows >= self.tuning.rows_apart && !self.is_known(plan, params) && !state.has_unready()
    }

    /// Makes the indexes that are missing to follow a commit.
    pub(crate) fn complete_indexes(&mut self, state: &mut Arc<State>) {
        if std::mem::take(&mut self.lacks_indexes) {
            indexes::make(self.indexes.keys().cloned().collect(), state);
        }
    }

    /// Has the next commit look for indexes that its tables lack.
    pub(crate) fn recheck_indexes(&mut self) {
        self.lacks_indexes = true;
    }

    /// Makes the indexes that a plan's bindings are computed by.
    pub(crate) fn prepare(&mut self, plan: &Arc<Plan>, name: &str, state: &mut Arc<State>) {
        self.shape(plan.clone(), name, state);
    }

    /// Whether a query reads a table.
    #[cfg(feature = "remote")]
    pub(crate) fn is_read(&self, table: TableNo) -> bool {
        self.routes.is_read(table)
    }

    /// Releases what was prepared for a plan that was not used in the end.
    pub(crate) fn forget_prepared(&mut self, plan: &Plan, state: &mut Arc<State>) {
        if let Some(number) = self.by_identity.get(&plan.identity) {
            self.forget_if_unused(*number, state);
        }
    }

    fn use_binding(
        &mut self,
        plan: Arc<Plan>,
        params: Vec<Scalar<'static>>,
        name: &str,
        state: &mut Arc<State>,
        commit: u64,
    ) -> Result<BindingNo> {
        let number = self.shape(plan, name, state);
        let used = self.use_shape(number, params, name, (&mut *state, commit), None);
        self.forget_if_unused(number, state);
        used
    }

    fn use_shape(
        &mut self,
        number: ShapeNo,
        params: Vec<Scalar<'static>>,
        name: &str,
        (state, commit): (&mut Arc<State>, u64),
        made: Option<Made>,
    ) -> Result<BindingNo> {
        let plan = self.shapes[&number].plan.clone();
        let excerpt = plan.excerpt(&params)?;
        let hash = hash_of(&params, &self.hasher);
        if let Some(known) = self.with_params(number, &params, hash)
            && let Some(binding) = self.bindings.get_mut(&known)
        {
            binding.uses += 1;
            return Ok(known);
        }
        let mut inner = Vec::new();
        for source in &plan.sources {
            let Some((plan, params)) = source.relation.statement(&params) else {
                inner.push(None);
                continue;
            };
            match self.use_binding(plan.clone(), params, &source.name, state, commit) {
                Ok(number) => inner.push(Some(number)),
                Err(error) => {
                    let used = inner.into_iter().flatten();
                    used.for_each(|number| self.let_go(number, state));
                    return Err(error);
                }
            }
        }
        let group = self.group(number, &plan, &inner, &params);
        let binding = BindingNo(self.next_binding);
        self.next_binding += 1;
        let key = plan.key(&params, excerpt);
        let shared = &self.shapes[&number].name;
        let name = if **shared == *name { shared.clone() } else { name.into() };
        let nodes = inner.iter().map(|inner| Some(self.bindings.get(&(*inner)?)?.node.clone()));
        let mut nodes: Vec<Option<Arc<Node>>> = nodes.collect();
        if nodes.iter().all(Option::is_none) {
            nodes = Vec::new();
        }
        let bound_plan = Arc::new(BoundPlan { plan, params: params.into(), excerpt });
        let log = self.groups.get(&group).and_then(|group| group.log.clone());
        let named = (binding, name);
        let reads = (!nodes.is_empty() || log.is_some())
            .then(|| Arc::new(Reads { inner: nodes.into(), log }));
        let node = match made {
            None => Node::new(named, bound_plan, key.clone(), reads, None, (state, commit)),
            Some(Made::Now(live)) => {
                Node::new(named, bound_plan, key.clone(), reads, Some(Ok(live)), (state, commit))
            }
            Some(Made::Before(apart)) => {
                let ComputedApart { live, state: mut then, commit: at, rows, inner } = apart;
                if at < commit {
                    index_to_follow(&bound_plan.plan, state);
                    index_to_follow(&bound_plan.plan, &mut then);
                }
                let parts = (named, bound_plan, key.clone(), reads);
                let node = Node::as_of(parts, Some(live), (state, commit), at);
                node.fall_behind(&then, (at + 1, commit), &rows);
                node.fall_behind_inner(&then, commit, &inner);
                // If that is stopped, it catches up when it is read.
                let caught_up = node.catch_up(state, commit);
                debug_assert!(!matches!(caught_up, Err(Behind::Ahead)));
                node
            }
        };
        let known = Binding { node: node.clone(), shape: number, group, uses: 1, handles: 0 };
        self.bindings.insert(binding, known);
        if let Some(group) = self.groups.get_mut(&group) {
            group.add(&node, (&self.bindings, &self.hasher));
        }
        self.add_params(number, binding, hash);
        self.set_needed(group);
        Ok(binding)
    }

    /// The binding of a shape with these values for its parameters, which have that hash.
    fn with_params(
        &self,
        shape: ShapeNo,
        params: &[Scalar<'static>],
        hash: u64,
    ) -> Option<BindingNo> {
        let is_same = |number: &BindingNo| *self.bindings[number].node.bound_plan.params == *params;
        self.shapes.get(&shape)?.by_params.find(hash, is_same).copied()
    }

    fn add_params(&mut self, shape: ShapeNo, binding: BindingNo, hash: u64) {
        let (bindings, hasher) = (&self.bindings, &self.hasher);
        let rehash = |number: &BindingNo| hash_of(&bindings[number].node.bound_plan.params, hasher);
        if let Some(shape) = self.shapes.get_mut(&shape) {
            shape.by_params.insert_unique(hash, binding, rehash);
        }
    }

    fn remove_params(&mut self, shape: ShapeNo, binding: BindingNo) {
        let Some(known) = self.shapes.get_mut(&shape).map(|shape| &mut shape.by_params) else {
            return;
        };
        if known.len() == 1 {
            // It is the only one, as mostly where a query is rebound.
            return known.clear();
        }
        let hash = hash_of(&self.bindings[&binding].node.bound_plan.params, &self.hasher);
        if let Ok(found) = known.find_entry(hash, |number| *number == binding) {
            found.remove();
        }
    }

    fn shape(&mut self, plan: Arc<Plan>, name: &str, state: &mut Arc<State>) -> ShapeNo {
        if let Some(known) = self.by_identity.get(&plan.identity) {
            return *known;
        }
        let number = ShapeNo(self.next);
        self.next += 1;
        self.by_identity.insert(plan.identity, number);
        indexes::make(indexes::to_compute(&plan), state);
        for index in indexes::to_follow(&plan) {
            *self.indexes.entry(index).or_default() += 1;
        }
        self.lacks_indexes = true;
        let name = name.into();
        let shape = Shape {
            plan,
            name,
            text: None,
            by_params: HashTable::new(),
            groups: HashMap::new(),
            orders: Vec::new(),
            elsewhere: None,
        };
        self.shapes.insert(number, shape);
        number
    }

    fn group(
        &mut self,
        shape: ShapeNo,
        plan: &Plan,
        inner: &[Option<BindingNo>],
        params: &[Scalar<'static>],
    ) -> GroupNo {
        let params = (!plan.is_shared).then(|| identity(params));
        let key = GroupKey { inner: inner.into(), params };
        if let Some(known) = self.shapes.get(&shape).and_then(|shape| shape.groups.get(&key)) {
            return *known;
        }
        let number = GroupNo(self.next);
        self.next += 1;
        if let Some(shape) = self.shapes.get_mut(&shape) {
            shape.groups.insert(key.clone(), number);
        }
        let needed = needed(plan, None);
        self.routes.add(number, plan, &needed);
        self.groups.insert(number, Group::new(shape, key, plan, needed));
        number
    }

    /// Routes to a group what its bindings depend on, after these changed.
    fn set_needed(&mut self, number: GroupNo) {
        let Some(group) = self.groups.get_mut(&number) else { return };
        let Some(shape) = self.shapes.get(&group.shape) else { return };
        let plan = &shape.plan;
        // Once beyond a few, it is not looked at again with each binding that goes.
        if plan.keys.is_empty() || group.len > self.tuning.listed_keys.saturating_add(1) {
            return;
        }
        let keys = (group.len <= self.tuning.listed_keys).then(|| {
            let nodes =
                group.bindings().filter_map(|number| Some(&self.bindings.get(&number)?.node));
            let values = nodes.map(|node| {
                let parts = plan.keys.iter();
                let value = |part: &KeyPart| {
                    node.bound_plan.params[part.param].clone().under(part.affinity)
                };
                parts.map(value).collect::<Vec<_>>()
            });
            values.collect::<Vec<_>>()
        });
        let keys: Option<Vec<&[Scalar<'static>]>> =
            keys.as_ref().map(|keys| keys.iter().map(Vec::as_slice).collect());
        let fresh = needed(plan, keys.as_deref());
        self.routes.remove(number, plan, &group.needed);
        self.routes.add(number, plan, &fresh);
        group.needed = fresh;
    }

    /// One handle less.
    pub(crate) fn release(&mut self, number: BindingNo, state: &mut Arc<State>) {
        if let Some(binding) = self.bindings.get_mut(&number) {
            binding.handles -= 1;
        }
        self.let_go(number, state);
    }

    /// One use less; a binding without any is forgotten, and so is a shape without bindings.
    fn let_go(&mut self, number: BindingNo, state: &mut Arc<State>) {
        let Some(binding) = self.bindings.get_mut(&number) else { return };
        binding.uses -= 1;
        if binding.uses > 0 {
            return;
        }
        let (shape, group, node) = (binding.shape, binding.group, binding.node.clone());
        self.remove_params(shape, number);
        if let Some(group) = self.groups.get_mut(&group) {
            group.remove(&node, (&self.bindings, &self.hasher));
        }
        self.bindings.remove(&number);
        match self.groups.get(&group).map(|group| group.len) {
            Some(0) => self.forget_group(group),
            _ => self.set_needed(group),
        }
        self.forget_if_unused(shape, state);
        for inner in node.inner().iter().flatten() {
            self.let_go(inner.number, state);
        }
    }

    fn forget_group(&mut self, number: GroupNo) {
        let Some(group) = self.groups.remove(&number) else {
            return;
        };
        let Some(shape) = self.shapes.get_mut(&group.shape) else {
            return;
        };
        shape.groups.remove(&group.key);
        self.routes.remove(number, &shape.plan, &group.needed);
    }

    fn forget_if_unused(&mut self, number: ShapeNo, state: &mut Arc<State>) {
        if self.shapes.get(&number).is_some_and(|shape| shape.by_params.is_empty()) {
            self.forget_shape(number, state);
        }
    }

    fn forget_shape(&mut self, number: ShapeNo, state: &mut Arc<State>) {
        let Some(shape) = self.shapes.remove(&number) else {
            return;
        };
        self.by_identity.remove(&shape.plan.identity);
        if let Some(text) = shape.text {
            self.by_text.remove(&text);
        }
        for (_, _, order) in shape.orders {
            self.let_go(order, state);
        }
        for index in indexes::to_follow(&shape.plan) {
            if let Some(users) = self.indexes.get_mut(&index) {
                *users -= 1;
                if *users == 0 {
                    self.indexes.remove(&index);
                    if state.has_index(index.0, &index.1) {
                        Arc::make_mut(state).drop_index(index.0, &index.1);
                    }
                }
            }
        }
    }

    /// The number that the next new binding will have.
    pub(crate) fn next_binding(&self) -> BindingNo {
        BindingNo(self.next_binding)
    }

    /// What has been behind for long is recomputed at its next read, instead of keeping an old
    /// version of the tables.
    fn give_up_backlogs(&mut self, commit: u64) {
        let from = commit.saturating_sub(self.tuning.backlog_commits);
        let keep = self.behind.split_off(&from);
        for number in std::mem::replace(&mut self.behind, keep).into_values().flatten() {
            if let Some(binding) = self.bindings.get(&number) {
                binding.node.give_up_backlog(from);
            }
        }
    }
}

/// Makes the indexes that a plan's bindings need to follow commits.
pub(crate) fn index_to_follow(plan: &Plan, state: &mut Arc<State>) {
    indexes::make(indexes::to_follow(plan), state);
}

/// Of parameters that divide bindings into groups, what does.
fn identity(params: &[Scalar<'static>]) -> Box<[Key]> {
    // A parameter of another type may compare differently, so the type is part of it.
    let reals = params.iter().enumerate().filter(|(_, param)| matches!(param, Scalar::Real(_)));
    let reals = reals.map(|(number, _)| Key::Real(number as u64));
    params.iter().cloned().map(Key::from).chain(reals).collect()
}

/// The hash of parameters' values; equal ones of the same type have the same.
fn hash_of(params: &[Scalar<'static>], hasher: &RandomState) -> u64 {
    let mut hash = hasher.build_hasher();
    for param in params {
        match param {
            // A time differs from a text with its letters here, though they are equal: then they
            // are two bindings with the same rows.
            Scalar::Time(time) => hash.write_i64(time.as_micros()),
            other => other.hash_key(&mut hash),
        }
    }
    hash.finish()
}
