//! The engine: shapes and their bindings, and the way from a commit to those that it touches.

mod intervals;
mod rebind;
mod route;

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use super::delta::Delta;
use super::edit::Failure;
use super::live::Live;
use super::node::{Node, Progress, derived_start, start};
use super::plan::{Asked, KeyPart, Plan, Relation};
use super::relation::{DerivedChange, DerivedRow, View};
use super::scalar::{Key, KeyValues, Scalar};
use super::walk::{Start, TupleDelta, changed_tuples};
use super::{BindingNo, DERIVED, Outcome};
use crate::change::Changes;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldNo, Schema, TableNo};
use crate::table::{Slot, State};
use crate::value::{Clock, Stopwatch};
use intervals::Intervals;
pub(crate) use rebind::Rebound;
use rebind::Recent;
use route::{RangePart, Routes, Wanted, wanted};

/// Old versions of the tables are kept for queries that are behind for so many commits.
const KEPT_FOR: u64 = 256;

/// A group of so many bindings is sent only rows with the keys of one of them; a larger one is sent
/// all, and finds its bindings itself.
const FEW: usize = 4;

/// Whether so many changed rows are more work than all the rows that a statement goes through from
/// nothing. Measured over 200,000 rows, deltas cost as much as that at a twenty-fifth of them for a
/// plain condition, at an eighteenth for an order, at a seventh for a grouping, at a quarter for a
/// grouped join.
fn is_much(changed: usize, rows: usize) -> bool {
    // Tests have few rows.
    let few = if cfg!(test) { 4 } else { 512 };
    changed > few.max(rows / 16)
}

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
    by_identity: HashMap<String, ShapeNo>,
    groups: FxHashMap<GroupNo, Group>,
    bindings: FxHashMap<BindingNo, Binding>,
    /// How many shapes look for a table's rows by the values of some fields.
    indexes: FxHashMap<(TableNo, Vec<FieldNo>), usize>,
    routes: Routes,
    /// Those that are behind, by the commit since when.
    behind: BTreeMap<u64, Vec<BindingNo>>,
    /// Those that nobody asks for any more, and that are kept for a while.
    recent: Recent,
    next: u32,
    next_binding: u64,
}

/// A plan with all its bindings.
struct Shape {
    plan: Arc<Plan>,
    /// What its first binding is called, and mostly all.
    name: Arc<str>,
    by_params: HashMap<Arc<[Key]>, BindingNo>,
    groups: HashMap<GroupKey, GroupNo>,
    /// Tables' rows in the order of a field, by which those between two bounds are found.
    orders: Vec<(TableNo, FieldNo, BindingNo)>,
}

/// What the bindings of a group have in common: the statements that they read, and, where tuples
/// cannot be told without them, the parameters.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct GroupKey {
    inner: Box<[Option<BindingNo>]>,
    params: Option<Box<[Key]>>,
}

/// Bindings of one shape for which changed tuples are looked for once.
struct Group {
    shape: ShapeNo,
    key: GroupKey,
    /// By the key of a tuple; without keys all of them have the same.
    by_key: HashMap<KeyValues, SmallVec<[BindingNo; 2]>>,
    /// By the key, and by what the tuple holds in a column that is compared with parameters.
    by_range: Option<(RangePart, HashMap<KeyValues, Intervals<BindingNo>>)>,
    len: usize,
    /// What the rows that are sent here must hold, for each source.
    wanted: Vec<Option<Wanted>>,
}

struct Binding {
    node: Arc<Node>,
    shape: ShapeNo,
    group: GroupNo,
    identity: Arc<[Key]>,
    /// How many handles there are, and statements that read it.
    uses: usize,
    /// How many handles programs hold.
    handles: usize,
}

/// What a commit did to a binding that it reached.
pub(crate) struct Reached {
    pub(crate) node: Arc<Node>,
    pub(crate) outcome: Outcome,
    pub(crate) failure: Option<Failure>,
    pub(crate) delta: Option<Delta>,
    /// The changes that reached it, by their numbers in the commit.
    pub(crate) causes: Vec<u32>,
    /// Whether programs hold it, and not only statements that read it.
    pub(crate) is_held: bool,
    /// What the query asked until it was given other values, if that was it.
    pub(crate) from: Option<Arc<Asked>>,
    /// How long it took, if there is a clock.
    pub(crate) took: Option<Duration>,
}

/// What a group has to look at.
#[derive(Default)]
struct Work {
    changes: Vec<u32>,
    derived: FxHashMap<u16, FxHashMap<Slot, Option<Arc<DerivedRow>>>>,
    /// What reached the statements that it reads, and whether these were put off.
    causes: Vec<u32>,
    is_behind: bool,
    /// Whether one of them failed, or was computed anew.
    is_told_anew: bool,
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
            groups: FxHashMap::default(),
            bindings: FxHashMap::default(),
            indexes: FxHashMap::default(),
            routes: Routes::new(schema),
            behind: BTreeMap::new(),
            recent: Recent::new(recent),
            next: 0,
            next_binding: 0,
        }
    }

    /// One more handle for a plan with parameters: an existing binding, or a new one.
    pub(crate) fn bind(
        &mut self,
        plan: Arc<Plan>,
        params: Vec<Scalar<'static>>,
        name: &str,
        state: &Arc<State>,
        commit: u64,
    ) -> Result<Bound> {
        let mut state = state.clone();
        let number = self.use_binding(plan, params, name, &mut state, commit)?;
        let Some(binding) = self.bindings.get_mut(&number) else {
            return Err(Error::new(ErrorKind::Result, "this query is not kept any more"));
        };
        binding.handles += 1;
        Ok(Bound { node: binding.node.clone(), state })
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
        made: Option<Live>,
    ) -> Result<BindingNo> {
        let plan = self.shapes[&number].plan.clone();
        let window = plan.window(&params)?;
        let identity = identity(&params);
        if let Some(known) = self.shapes[&number].by_params.get(&identity)
            && let Some(binding) = self.bindings.get_mut(known)
        {
            binding.uses += 1;
            return Ok(*known);
        }
        let mut inner = Vec::new();
        for source in &plan.sources {
            inner.push(match &source.relation {
                Relation::Table(_) => None,
                Relation::Statement(plan, of) => {
                    let params = of.iter().map(|param| params[*param].clone()).collect();
                    match self.use_binding(plan.clone(), params, &source.name, state, commit) {
                        Ok(number) => Some(number),
                        Err(error) => {
                            let used = inner.into_iter().flatten();
                            used.for_each(|number| self.let_go(number, state));
                            return Err(error);
                        }
                    }
                }
            });
        }
        let group = self.group(number, &plan, &inner, &identity);
        let binding = BindingNo(self.next_binding);
        self.next_binding += 1;
        let keys =
            plan.keys.iter().map(|part| match params[part.param].clone().under(part.affinity) {
                Scalar::Null => None,
                value => Some(Key::from(value)),
            });
        // Nothing can show in an empty window, so no row belongs to it either.
        let key: Option<KeyValues> = keys.collect::<Option<_>>().filter(|_| window.limit > 0);
        let shared = &self.shapes[&number].name;
        let name = if **shared == *name { shared.clone() } else { name.into() };
        let nodes = inner.iter().map(|inner| Some(self.bindings.get(&(*inner)?)?.node.clone()));
        let mut nodes: Vec<Option<Arc<Node>>> = nodes.collect();
        if nodes.iter().all(Option::is_none) {
            nodes = Vec::new();
        }
        let asked = Arc::new(Asked { plan, params: params.into(), window });
        let (named, nodes) = ((binding, name), nodes.into());
        let node = Node::new(named, asked, key.clone(), nodes, made, (state, commit));
        if let Some(group) = self.groups.get_mut(&group) {
            group.add(binding, key, &node.asked.params);
        }
        if let Some(shape) = self.shapes.get_mut(&number) {
            shape.by_params.insert(identity.clone(), binding);
        }
        let shape = number;
        self.bindings
            .insert(binding, Binding { node, shape, group, identity, uses: 1, handles: 0 });
        self.set_wanted(group);
        Ok(binding)
    }

    fn shape(&mut self, plan: Arc<Plan>, name: &str, state: &mut Arc<State>) -> ShapeNo {
        if let Some(known) = self.by_identity.get(&plan.identity) {
            return *known;
        }
        let number = ShapeNo(self.next);
        self.next += 1;
        self.by_identity.insert(plan.identity.clone(), number);
        for index in table_indexes(&plan) {
            if !state.has_index(index.0, &index.1) {
                Arc::make_mut(state).index(index.0, &index.1);
            }
            *self.indexes.entry(index).or_default() += 1;
        }
        let name = name.into();
        let shape = Shape {
            plan,
            name,
            by_params: HashMap::new(),
            groups: HashMap::new(),
            orders: Vec::new(),
        };
        self.shapes.insert(number, shape);
        number
    }

    fn group(
        &mut self,
        shape: ShapeNo,
        plan: &Plan,
        inner: &[Option<BindingNo>],
        identity: &[Key],
    ) -> GroupNo {
        let params = (!plan.is_shared).then(|| identity.into());
        let key = GroupKey { inner: inner.into(), params };
        if let Some(known) = self.shapes.get(&shape).and_then(|shape| shape.groups.get(&key)) {
            return *known;
        }
        let number = GroupNo(self.next);
        self.next += 1;
        if let Some(shape) = self.shapes.get_mut(&shape) {
            shape.groups.insert(key.clone(), number);
        }
        let wanted = wanted(plan, None);
        self.routes.add(number, plan, &wanted);
        let by_range = RangePart::of(plan).map(|part| (part, HashMap::new()));
        let by_key = HashMap::new();
        self.groups.insert(number, Group { shape, key, by_key, by_range, len: 0, wanted });
        number
    }

    /// Has a group sent what its bindings ask for, after these changed.
    fn set_wanted(&mut self, number: GroupNo) {
        let Some(group) = self.groups.get_mut(&number) else { return };
        let Some(shape) = self.shapes.get(&group.shape) else { return };
        let plan = &shape.plan;
        // Whoever has grown beyond a few is not looked at again with each binding that goes.
        if plan.keys.is_empty() || group.len > FEW + 1 {
            return;
        }
        let keys = (group.len <= FEW).then(|| {
            let bindings = group.by_key.values().flatten();
            let nodes = bindings.filter_map(|number| Some(&self.bindings.get(number)?.node));
            let values = nodes.map(|node| {
                let parts = plan.keys.iter();
                let value =
                    |part: &KeyPart| node.asked.params[part.param].clone().under(part.affinity);
                parts.map(value).collect::<Vec<_>>()
            });
            values.collect::<Vec<_>>()
        });
        let keys: Option<Vec<&[Scalar<'static>]>> =
            keys.as_ref().map(|keys| keys.iter().map(Vec::as_slice).collect());
        let fresh = wanted(plan, keys.as_deref());
        self.routes.remove(number, plan, &group.wanted);
        self.routes.add(number, plan, &fresh);
        group.wanted = fresh;
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
        let Some(binding) = self.bindings.remove(&number) else { return };
        if let Some(shape) = self.shapes.get_mut(&binding.shape) {
            shape.by_params.remove(&binding.identity);
        }
        if let Some(group) = self.groups.get_mut(&binding.group) {
            group.remove(number, &binding.node);
            match group.len {
                0 => self.forget_group(binding.group),
                _ => self.set_wanted(binding.group),
            }
        }
        self.forget_if_unused(binding.shape, state);
        for inner in binding.node.inner.iter().flatten() {
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
        self.routes.remove(number, &shape.plan, &group.wanted);
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
        for (_, _, order) in shape.orders {
            self.let_go(order, state);
        }
        for index in table_indexes(&shape.plan) {
            if let Some(users) = self.indexes.get_mut(&index) {
                *users -= 1;
                if *users == 0 {
                    self.indexes.remove(&index);
                    Arc::make_mut(state).drop_index(index.0, &index.1);
                }
            }
        }
    }

    /// The number that the next new binding will have.
    pub(crate) fn next_binding(&self) -> BindingNo {
        BindingNo(self.next_binding)
    }

    /// Brings every binding that a commit touches and somebody watches up to date, tells the
    /// others what they have to follow later, and looks at nothing else.
    pub(crate) fn apply(
        &mut self,
        changes: &Changes,
        commit: u64,
        clock: Option<&dyn Clock>,
    ) -> Vec<Reached> {
        self.give_up_backlogs(commit);
        let mut work = self.routes.route(changes);
        let mut reached = Vec::new();
        while let Some((number, work_here)) = work.pop_first() {
            let from = reached.len();
            self.follow(number, &work_here, (changes, commit, clock), &mut reached);
            for (reached, derived) in &reached[from..] {
                self.pass_on(reached, derived, &mut work);
            }
        }
        let mut reached: Vec<Reached> = reached.into_iter().map(|(reached, _)| reached).collect();
        reached.sort_by_key(|reached| reached.node.number);
        reached
    }

    /// Tells the groups that read a binding what became of it.
    fn pass_on(
        &self,
        reached: &Reached,
        derived: &[DerivedChange],
        work: &mut BTreeMap<GroupNo, Work>,
    ) {
        let is_behind = reached.outcome == Outcome::Deferred;
        let is_told_anew = matches!(reached.outcome, Outcome::Failed | Outcome::Recomputed);
        if derived.is_empty() && !is_behind && !is_told_anew {
            return;
        }
        for (reader, source) in reached.node.readers() {
            let Some(binding) = self.bindings.get(&reader.number) else { continue };
            let work = work.entry(binding.group).or_default();
            work.causes.extend(&reached.causes);
            work.is_behind |= is_behind;
            work.is_told_anew |= is_told_anew;
            let undo = work.derived.entry(source as u16).or_default();
            for change in derived {
                undo.entry(change.slot).or_insert_with(|| change.before.clone());
            }
        }
    }

    fn follow(
        &mut self,
        number: GroupNo,
        work: &Work,
        (changes, commit, clock): (&Changes, u64, Option<&dyn Clock>),
        reached: &mut Vec<(Reached, Vec<DerivedChange>)>,
    ) {
        let mut watch = Stopwatch::start(clock);
        let Some(group) = self.groups.get(&number) else { return };
        let Some(shape) = self.shapes.get(&group.shape) else { return };
        let plan = shape.plan.clone();
        let all = || group.by_key.values().flatten();
        // One that stands for all: they read the same statements.
        let Some(first) = all().next().and_then(|first| self.bindings.get(first)) else { return };
        // Where keys tell bindings apart there may be very many.
        let is_told_apart = !plan.keys.is_empty() || group.by_range.is_some();
        let anybody =
            || is_told_apart || all().any(|number| self.bindings[number].node.is_watched());
        let table_starts = table_starts(&plan, work, changes);
        let put_off =
            |numbers: &[BindingNo], starts: &[Start], causes: &[u32], out: &mut Vec<_>| {
                for number in numbers {
                    let binding = &self.bindings[number];
                    let rows = starts.iter().map(|start| (start.source, start.slot));
                    binding.node.put_off(commit, &changes.before, rows);
                    out.push((binding.reached(Outcome::Deferred, causes), Vec::new()));
                }
            };
        let mut causes: Vec<u32> = table_starts.iter().map(|start| start.cause).collect();
        causes.extend(&work.causes);
        causes.sort_unstable();
        causes.dedup();
        let mut late = Vec::new();
        let mut healed: Vec<(BindingNo, Vec<u32>)> = Vec::new();
        if work.is_behind || plan.sources.len() > 1 && !anybody() {
            let numbers: Vec<BindingNo> = all().copied().collect();
            put_off(&numbers, &table_starts, &causes, reached);
            late.extend(numbers);
        } else {
            let inner = first.node.lock_inner();
            let nothing = FxHashMap::default();
            let (old, new) = (inner.views(&work.derived), inner.views(&nothing));
            let before = View { plan: &plan, state: &changes.before, derived: &old };
            let after = View { plan: &plan, state: &changes.after, derived: &new };
            let mut starts = table_starts;
            for (source, undo) in &work.derived {
                let rows = new[*source as usize];
                for (slot, before) in undo {
                    let after = rows.and_then(|rows| rows.row(*slot));
                    let source = *source as usize;
                    starts.extend(derived_start(&plan, source, *slot, before.as_deref(), after));
                }
            }
            let first_rows = match plan.sources[plan.scratch.start].relation {
                Relation::Table(table) if !plan.is_union => {
                    changes.after.table(table).rows() as usize
                }
                _ => usize::MAX,
            };
            let is_much_for_all = plan.keys.is_empty()
                && (group.by_range.is_none() || group.len == 1)
                && is_much(starts.len(), first_rows);
            let tuples = match is_much_for_all {
                true => Vec::new(),
                false => changed_tuples(&before, &after, &first.node.asked.params, &starts),
            };
            let mut divided = group.divide(&plan, (&before, &after), &tuples);
            if is_much_for_all {
                all().for_each(|number| drop(divided.insert(*number, Cow::Owned(Vec::new()))));
            } else if tuples.is_empty() && !is_told_apart && !starts.is_empty() {
                // They were asked, and it was nothing to them.
                let same = |number| self.bindings[number].reached(Outcome::Same, &causes);
                reached.extend(all().map(|number| (same(number), Vec::new())));
            }
            if work.is_told_anew {
                for number in all() {
                    divided.entry(*number).or_default();
                }
            }
            let mut divided: Vec<_> = divided.into_iter().collect();
            divided.sort_unstable_by_key(|(number, _)| *number);
            // The search is done for all of them.
            let search = watch.lap().map(|took| took / divided.len().max(1) as u32);
            for (number, asked) in divided {
                let binding = &self.bindings[&number];
                let node = &binding.node;
                if is_much_for_all {
                    let mine = || starts.iter().filter(|start| start.cause & DERIVED == 0).cloned();
                    if !node.is_watched() {
                        put_off(&[number], &mine().collect::<Vec<_>>(), &causes, reached);
                        late.push(number);
                    } else if node.is_behind() {
                        put_off(&[number], &mine().collect::<Vec<_>>(), &causes, reached);
                        reached.pop();
                        healed.push((number, causes.clone()));
                    } else {
                        let states = (&changes.before, &changes.after);
                        let views = (&before, &after);
                        let progress = node.follow_anew(commit, views, states, &starts, &inner);
                        let (mut seen, derived) = binding.told(progress, changes, causes.clone());
                        seen.took = sum(search, watch.lap());
                        reached.push((seen, derived));
                    }
                    continue;
                }
                let tuples = node.belonging((&before, &after), Cow::Borrowed(&*asked), false);
                let mut causes: Vec<u32> = Vec::new();
                for tuple in if tuples.is_empty() { &*asked } else { &*tuples } {
                    if tuple.cause & DERIVED == 0 {
                        causes.push(tuple.cause);
                    } else {
                        causes.extend(&work.causes);
                    }
                }
                if tuples.is_empty() {
                    causes.extend(&work.causes);
                }
                causes.sort_unstable();
                causes.dedup();
                if tuples.is_empty() && !work.is_told_anew {
                    let mut same = binding.reached(Outcome::Same, &causes);
                    same.took = sum(search, watch.lap());
                    reached.push((same, Vec::new()));
                    continue;
                }
                if !node.is_watched() || node.is_behind() {
                    let mine = starts.iter().filter(|start| start.cause & DERIVED == 0);
                    let mine = mine.filter(|start| {
                        tuples.iter().any(|tuple| tuple.tuple[start.source] == start.slot)
                            || plan.sources[start.source].outer.is_some()
                    });
                    let mine: Vec<Start> = mine.cloned().collect();
                    put_off(&[number], &mine, &causes, reached);
                    if node.is_watched() {
                        reached.pop();
                        healed.push((number, causes));
                    } else {
                        late.push(number);
                    }
                    continue;
                }
                let states = (&changes.before, &changes.after);
                let views = (&before, &after);
                let is_much = node.rows_of_tables().is_some_and(|rows| is_much(tuples.len(), rows));
                let progress = match is_much && work.derived.is_empty() {
                    true => node.follow_anew(commit, views, states, &starts, &inner),
                    false => node.follow(commit, views, states, &tuples, &inner),
                };
                let (mut seen, derived) = binding.told(progress, changes, causes);
                seen.took = sum(search, watch.lap());
                reached.push((seen, derived));
            }
        }
        // Somebody began to watch while the commit was made.
        for (number, causes) in healed {
            let binding = &self.bindings[&number];
            if let Ok(Some(progress)) = binding.node.catch_up(&changes.after, commit) {
                let (mut seen, derived) = binding.told(progress, changes, causes);
                seen.took = watch.lap();
                reached.push((seen, derived));
            }
        }
        for number in late {
            self.behind.entry(commit).or_default().push(number);
        }
    }

    /// What has been behind for long computes anew when somebody reads it, instead of keeping an
    /// old version of the tables.
    fn give_up_backlogs(&mut self, commit: u64) {
        let keep = self.behind.split_off(&commit.saturating_sub(KEPT_FOR));
        for number in std::mem::replace(&mut self.behind, keep).into_values().flatten() {
            if let Some(binding) = self.bindings.get(&number) {
                binding.node.give_up_backlog(commit.saturating_sub(KEPT_FOR));
            }
        }
    }
}

impl Group {
    fn add(&mut self, binding: BindingNo, key: Option<KeyValues>, params: &[Scalar<'static>]) {
        self.len += 1;
        let Some(key) = key else { return };
        if let Some((part, ranges)) = &mut self.by_range
            && let Some(interval) = part.interval(params)
        {
            ranges.entry(key.clone()).or_default().insert(interval, binding);
        }
        self.by_key.entry(key).or_default().push(binding);
    }

    fn remove(&mut self, binding: BindingNo, node: &Node) {
        self.len -= 1;
        let Some(key) = &node.key else { return };
        if let Some(bindings) = self.by_key.get_mut(key) {
            bindings.retain(|other| *other != binding);
            if bindings.is_empty() {
                self.by_key.remove(key);
            }
        }
        if let Some((part, ranges)) = &mut self.by_range
            && let Some(interval) = part.interval(&node.asked.params)
            && let Some(intervals) = ranges.get_mut(key)
        {
            intervals.remove(&interval, binding);
            if intervals.is_empty() {
                ranges.remove(key);
            }
        }
    }

    /// The bindings with a key for which the value in the range's column is of interest.
    fn asked(&self, key: &KeyValues, values: &[Scalar<'_>]) -> SmallVec<[BindingNo; 4]> {
        let Some((_, ranges)) = &self.by_range else {
            return self.by_key.get(key).into_iter().flatten().copied().collect();
        };
        let mut found = SmallVec::new();
        if let Some(intervals) = ranges.get(key) {
            values.iter().for_each(|value| intervals.holding(value, |of| found.push(of)));
        }
        if values.len() > 1 {
            found.sort_unstable();
            found.dedup();
        }
        found
    }

    /// The tuples that each binding has to look at: by the old and the new key of each, and by what
    /// it holds where parameters are compared.
    fn divide<'t>(
        &self,
        plan: &Plan,
        (before, after): (&View<'_>, &View<'_>),
        tuples: &'t [TupleDelta],
    ) -> FxHashMap<BindingNo, Cow<'t, [TupleDelta]>> {
        if plan.keys.is_empty() && self.by_range.is_none() {
            let all = self.by_key.values().flatten().filter(|_| !tuples.is_empty());
            return all.map(|binding| (*binding, Cow::Borrowed(tuples))).collect();
        }
        let mut divided: FxHashMap<BindingNo, Cow<'t, [TupleDelta]>> = FxHashMap::default();
        let value = |view: &View<'_>, tuple: &TupleDelta| -> Option<Scalar<'static>> {
            let (part, _) = self.by_range.as_ref()?;
            Some(view.value(part.column, tuple.tuple[part.column.source()]).into_owned())
        };
        let mut send = |key: &Option<KeyValues>, tuple: &TupleDelta, was: bool, is: bool| {
            let Some(key) = key else { return };
            let mut values: SmallVec<[Scalar<'static>; 2]> = SmallVec::new();
            values.extend(was.then(|| value(before, tuple)).flatten());
            values.extend(is.then(|| value(after, tuple)).flatten());
            values.dedup();
            for binding in self.asked(key, &values) {
                let tuple = TupleDelta { before: was, after: is, ..tuple.clone() };
                divided.entry(binding).or_default().to_mut().push(tuple);
            }
        };
        for tuple in tuples {
            let old = tuple.before.then(|| plan.key_of(before, &tuple.tuple)).flatten();
            let new = tuple.after.then(|| plan.key_of(after, &tuple.tuple)).flatten();
            if old == new {
                send(&old, tuple, tuple.before, tuple.after);
            } else {
                send(&old, tuple, tuple.before, false);
                send(&new, tuple, false, tuple.after);
            }
        }
        divided
    }
}

impl Binding {
    fn reached(&self, outcome: Outcome, causes: &[u32]) -> Reached {
        Reached {
            node: self.node.clone(),
            outcome,
            failure: None,
            delta: None,
            causes: causes.to_vec(),
            is_held: self.handles > 0,
            from: None,
            took: None,
        }
    }

    /// What there is to tell of a node that followed a commit.
    fn told(
        &self,
        progress: Progress,
        changes: &Changes,
        causes: Vec<u32>,
    ) -> (Reached, Vec<DerivedChange>) {
        let outcome = match (&progress.failure, &progress.moved) {
            (Some(_), _) => Outcome::Failed,
            (None, None) => Outcome::Recomputed,
            (None, Some(moved)) if moved.is_empty() => Outcome::Same,
            (None, Some(_)) if progress.is_anew => Outcome::Recomputed,
            (None, Some(_)) => Outcome::Maintained,
        };
        let moved = progress.moved.filter(|moved| !moved.is_empty());
        let delta = moved.and_then(|rows| {
            let before = progress.old.result(&changes.before).ok()?;
            let after = progress.new.result(&changes.after).ok()?;
            Some(Delta { before, after, rows })
        });
        let reached =
            Reached { failure: progress.failure, delta, ..self.reached(outcome, &causes) };
        (reached, progress.derived)
    }
}

fn sum(a: Option<Duration>, b: Option<Duration>) -> Option<Duration> {
    Some(a? + b?)
}

/// What tells a binding from the others of its shape.
fn identity(params: &[Scalar<'static>]) -> Arc<[Key]> {
    // A parameter of another type may compare differently, so the type is part of it.
    let reals = params.iter().enumerate().filter(|(_, param)| matches!(param, Scalar::Real(_)));
    let reals = reals.map(|(number, _)| Key::Real(number as u64));
    params.iter().cloned().map(Key::from).chain(reals).collect()
}

/// Where the search for changed tuples starts in tables.
fn table_starts(plan: &Plan, work: &Work, changes: &Changes) -> Vec<Start> {
    let mut starts = Vec::new();
    for &change in &work.changes {
        let row = &changes.rows[change as usize];
        for (number, source) in plan.sources.iter().enumerate() {
            if matches!(source.relation, Relation::Table(table) if table == row.table) {
                starts.extend(start(plan, number, row.slot, &row.happened, change));
            }
        }
    }
    starts
}

/// By which fields the rows of which tables a plan looks for.
fn table_indexes(plan: &Plan) -> Vec<(TableNo, Vec<FieldNo>)> {
    let indexes = plan.indexes().into_iter();
    let mut tables: Vec<_> = indexes
        .filter_map(|(source, fields)| match plan.sources[source].relation {
            Relation::Table(table) => Some((table, fields)),
            Relation::Statement(..) => None,
        })
        .collect();
    tables.sort_unstable();
    tables.dedup();
    tables
}
