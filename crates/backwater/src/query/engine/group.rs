//! Bindings that are searched for together, and how from a changed row those are found that it
//! concerns.
//!
//! There may be very many bindings, so that their parameters are stored once, in their nodes: the
//! tables here hold numbers alone.

use std::borrow::Cow;
use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};
use std::sync::Arc;

use hashbrown::HashTable;
use hashbrown::hash_table::Entry;
use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use super::intervals::Intervals;
use super::route::{Needed, RangePart};
use super::{Binding, Engine, GroupKey, ShapeNo};
use crate::query::BindingNo;
use crate::query::expr::scalar::{Key, KeyValues, Scalar};
use crate::query::operator::join::TupleDelta;
use crate::query::operator::view::View;
use crate::query::plan::Plan;
use crate::query::state::backlog::GroupLog;
use crate::query::state::node::Node;
use crate::sorting;

/// Bindings of one shape for which changed tuples are looked for once.
pub(super) struct Group {
    pub(super) shape: ShapeNo,
    pub(super) key: GroupKey,
    /// By the key of a tuple; without keys all of them have the same.
    by_key: HashTable<Sharing>,
    /// By the key, and by what the tuple holds in a column that is compared with parameters.
    pub(super) by_range: Option<(RangePart, HashMap<KeyValues, Intervals<BindingNo>>)>,
    pub(super) len: usize,
    /// What it was sent, of a statement whose rows are made of several.
    pub(super) log: Option<Arc<GroupLog>>,
    /// What the rows that are sent here must hold, for each source.
    pub(super) needed: Vec<Option<Needed>>,
}

/// Those that share a key: mostly one, and there may be very many keys.
enum Sharing {
    One(BindingNo),
    #[expect(clippy::box_collection, reason = "each byte counts in `memory/standing`")]
    More(Box<Vec<BindingNo>>),
}

impl Sharing {
    fn all(&self) -> &[BindingNo] {
        match self {
            Sharing::One(one) => std::slice::from_ref(one),
            Sharing::More(all) => all,
        }
    }

    fn add(&mut self, binding: BindingNo) {
        match self {
            Sharing::One(one) => *self = Sharing::More(Box::new(vec![*one, binding])),
            Sharing::More(all) => all.push(binding),
        }
    }

    /// Takes one out; whether none is left.
    fn remove(&mut self, binding: BindingNo) -> bool {
        match self {
            Sharing::One(_) => true,
            Sharing::More(all) => {
                all.retain(|other| *other != binding);
                if let [last] = ***all {
                    *self = Sharing::One(last);
                }
                false
            }
        }
    }
}

/// All bindings, and how keys are hashed.
type Known<'k> = (&'k FxHashMap<BindingNo, Binding>, &'k RandomState);

/// The key of those that share one.
fn key_of<'k>(sharing: &Sharing, bindings: &'k FxHashMap<BindingNo, Binding>) -> Option<&'k [Key]> {
    bindings.get(&sharing.all()[0])?.node.key.as_deref()
}

/// Bindings with the tuples that each has to look at.
pub(super) type Divided<'t> = SmallVec<[(BindingNo, Cow<'t, [TupleDelta]>); 1]>;

impl Group {
    pub(super) fn new(
        shape: ShapeNo,
        key: GroupKey,
        plan: &Plan,
        needed: Vec<Option<Needed>>,
    ) -> Self {
        let by_range = RangePart::of(plan).map(|part| (part, HashMap::new()));
        let log = plan.joins().then(Arc::default);
        Self { shape, key, by_key: HashTable::new(), by_range, len: 0, log, needed }
    }

    /// Those that a row may belong to.
    pub(super) fn bindings(&self) -> impl Iterator<Item = BindingNo> {
        self.by_key.iter().flat_map(Sharing::all).copied()
    }

    /// Whether a row goes to some of its bindings, and not to all.
    pub(super) fn divides(&self, plan: &Plan) -> bool {
        !plan.keys.is_empty() || self.by_range.is_some()
    }

    /// Adds a binding, which must be known already.
    pub(super) fn add(&mut self, node: &Node, (bindings, hasher): Known<'_>) {
        self.len += 1;
        self.add_range(node);
        let Some(key) = node.key.as_deref() else { return };
        let hash = |sharing: &Sharing| hasher.hash_one(key_of(sharing, bindings));
        let is_key = |sharing: &Sharing| key_of(sharing, bindings) == Some(key);
        match self.by_key.entry(hasher.hash_one(Some(key)), is_key, hash) {
            Entry::Occupied(mut sharing) => sharing.get_mut().add(node.number),
            Entry::Vacant(place) => drop(place.insert(Sharing::One(node.number))),
        }
    }

    /// Takes a binding out, which must still be known.
    pub(super) fn remove(&mut self, node: &Node, (bindings, hasher): Known<'_>) {
        self.len -= 1;
        self.remove_range(node);
        let Some(key) = node.key.as_deref() else { return };
        let is_key = |sharing: &Sharing| key_of(sharing, bindings) == Some(key);
        if let Ok(mut sharing) = self.by_key.find_entry(hasher.hash_one(Some(key)), is_key)
            && sharing.get_mut().remove(node.number)
        {
            sharing.remove();
        }
    }

    /// A binding has other values from here on; its key is what it was.
    pub(super) fn turn(&mut self, old: &Node, new: &Node) {
        let Some(((part, ranges), key)) = self.by_range.as_mut().zip(old.key.as_ref()) else {
            return;
        };
        let (from, to) =
            (part.intervals(&old.bound_plan.params), part.intervals(&new.bound_plan.params));
        // Where no parameter is a key there is but one.
        let ranges_of = match key.is_empty() {
            true => ranges.values_mut().next(),
            false => ranges.get_mut(key),
        };
        match (from.as_slice(), to.as_slice(), ranges_of) {
            ([from], [to], Some(intervals)) => intervals.turn(from, to.clone(), new.number),
            _ => {
                self.remove_range(old);
                self.add_range(new);
            }
        }
    }

    fn add_range(&mut self, node: &Node) {
        if let (Some((part, ranges)), Some(key)) = (&mut self.by_range, &node.key) {
            for interval in part.intervals(&node.bound_plan.params) {
                ranges.entry(key.clone()).or_default().insert(interval, node.number);
            }
        }
    }

    fn remove_range(&mut self, node: &Node) {
        if let (Some((part, ranges)), Some(key)) = (&mut self.by_range, &node.key)
            && let Some(intervals) = ranges.get_mut(key)
        {
            for interval in part.intervals(&node.bound_plan.params) {
                intervals.remove(&interval, node.number);
            }
            if intervals.is_empty() {
                ranges.remove(key);
            }
        }
    }

    /// The bindings with a key for which the value in the range's column is of interest.
    fn selected(
        &self,
        key: &KeyValues,
        values: &[Scalar<'_>],
        (bindings, hasher): Known<'_>,
    ) -> SmallVec<[BindingNo; 4]> {
        let Some((part, ranges)) = &self.by_range else {
            let is_key = |sharing: &Sharing| key_of(sharing, bindings) == Some(key);
            let found = self.by_key.find(hasher.hash_one(Some(&**key)), is_key);
            return found.map_or(SmallVec::new(), |sharing| sharing.all().into());
        };
        let mut found = SmallVec::new();
        if let Some(intervals) = ranges.get(key) {
            values.iter().for_each(|value| intervals.holding(value, |of| found.push(of)));
        }
        if values.len() > 1 || part.is_several() {
            sorting::by_key(&mut found, |number: &BindingNo| number.0);
            found.dedup();
        }
        found
    }

    /// The tuples that each binding has to look at, in the bindings' order: by the old and the new
    /// key of each tuple, and by what it holds where parameters are compared.
    pub(super) fn divide<'t>(
        &self,
        plan: &Plan,
        (before, after): (&View<'_>, &View<'_>),
        tuples: &'t [TupleDelta],
        engine: &Engine,
    ) -> Divided<'t> {
        if !self.divides(plan) {
            let all = self.bindings().filter(|_| !tuples.is_empty());
            let mut divided: Divided<'t> = all.map(|of| (of, Cow::Borrowed(tuples))).collect();
            sorting::by_key(&mut divided, |(number, _)| number.0);
            return divided;
        }
        let known = (&engine.bindings, &engine.hasher);
        let mut divided: FxHashMap<BindingNo, Vec<TupleDelta>> = FxHashMap::default();
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
            for binding in self.selected(key, &values, known) {
                let tuple = TupleDelta { before: was, after: is, ..tuple.clone() };
                divided.entry(binding).or_default().push(tuple);
            }
        };
        for tuple in tuples {
            let old = tuple.before.then(|| before.binding_key(&tuple.tuple)).flatten();
            let new = tuple.after.then(|| after.binding_key(&tuple.tuple)).flatten();
            if old == new {
                send(&old, tuple, tuple.before, tuple.after);
            } else {
                send(&old, tuple, tuple.before, false);
                send(&new, tuple, false, tuple.after);
            }
        }
        let divided = divided.into_iter().map(|(number, tuples)| (number, Cow::Owned(tuples)));
        let mut divided: Divided<'t> = divided.collect();
        sorting::by_key(&mut divided, |(number, _)| number.0);
        divided
    }
}
