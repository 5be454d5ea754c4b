//! An ordered collection in versions, that also answers by rank: what a result is made of.
//!
//! A tree of small leaves; each node knows how many entries lie below it. Of the sort keys it keeps
//! the first 64 bits; whoever calls brings the order. A version shares with the next what did not
//! change.

use std::cmp::Ordering;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

use crate::value::Value;

const LEAF: usize = 32;
const FAN: usize = 16;

/// Where an entry stands as far as 64 bits tell it: one with a smaller prefix stands before one
/// with a larger; of equal ones the order must be asked.
pub(crate) type Prefix = u64;

/// What is looked for: its prefix, and what compares entries with it.
pub(crate) struct Sought<F> {
    pub(crate) prefix: Prefix,
    pub(crate) against: F,
}

impl<F> Sought<F> {
    fn order<E>(&self, keyed: &Keyed<E>) -> Ordering
    where
        F: Fn(&E) -> Ordering,
    {
        keyed.prefix().cmp(&self.prefix).then_with(|| (self.against)(&keyed.entry))
    }
}

/// An ordered collection of entries.
#[derive(Clone)]
pub(crate) struct Ranked<E> {
    /// None if there are no entries: there may be very many empty ones.
    root: Option<Arc<Node<E>>>,
}

enum Node<E> {
    Leaf(Leaf<E>),
    Branch(Branch<E>),
}

#[derive(Clone)]
struct Branch<E> {
    len: usize,
    children: Vec<Child<E>>,
}

/// A node below another one, and what is known of it without a look at it.
struct Child<E> {
    node: Arc<Node<E>>,
    len: usize,
    /// Of its last entry.
    prefix: Prefix,
}

impl<E> Clone for Child<E> {
    fn clone(&self) -> Self {
        Self { node: self.node.clone(), ..*self }
    }
}

impl<E> Child<E> {
    fn new(node: Arc<Node<E>>) -> Self {
        let (len, prefix) = node.told();
        Self { node, len, prefix }
    }

    /// Does something with the node, of which more or others are known then.
    fn change<T>(&mut self, change: impl FnOnce(&mut Node<E>) -> T) -> T
    where
        E: Clone,
    {
        let done = change(Arc::make_mut(&mut self.node));
        (self.len, self.prefix) = self.node.told();
        done
    }
}

/// Neighbouring entries, and their rows once somebody has read them.
pub(crate) struct Leaf<E> {
    entries: Vec<Keyed<E>>,
    rows: ReadRows,
}

/// An entry with its prefix in two halves: so it takes no more room than both of them.
#[derive(Clone)]
struct Keyed<E> {
    prefix: [u32; 2],
    entry: E,
}

impl<E> Keyed<E> {
    fn new(prefix: Prefix, entry: E) -> Self {
        Self { prefix: [(prefix >> 32) as u32, prefix as u32], entry }
    }

    #[inline]
    fn prefix(&self) -> Prefix {
        Prefix::from(self.prefix[0]) << 32 | Prefix::from(self.prefix[1])
    }
}

type Row = Box<[Value]>;

/// The rows of a leaf that somebody has read. Often that is one of them.
#[derive(Default)]
struct ReadRows {
    first: OnceLock<(usize, Row)>,
    others: OnceLock<Box<[OnceLock<Row>]>>,
}

impl<E> Leaf<E> {
    pub(crate) fn len(&self) -> usize {
        self.entries.len()
    }

    pub(crate) fn entry(&self, place: usize) -> &E {
        &self.entries[place].entry
    }

    pub(crate) fn prefix(&self, place: usize) -> Prefix {
        self.entries[place].prefix()
    }

    /// The entries from a place on.
    pub(crate) fn from(&self, place: usize) -> impl ExactSizeIterator<Item = &E> {
        self.entries[place..].iter().map(|keyed| &keyed.entry)
    }

    /// The row of an entry, which `read` reads if nobody has yet.
    pub(crate) fn row(&self, place: usize, read: impl FnOnce(&E) -> Row) -> &[Value] {
        let mut read = Some(read);
        let mut read = || read.take().map_or(Row::default(), |read| read(self.entry(place)));
        let (of, row) = self.rows.first.get_or_init(|| (place, read()));
        if *of == place {
            return row;
        }
        let nobody = || self.entries.iter().map(|_| OnceLock::new()).collect();
        let others = self.rows.others.get_or_init(nobody);
        others[place].get_or_init(read)
    }

    fn find(&self, sought: &Sought<impl Fn(&E) -> Ordering>) -> Result<usize, usize> {
        let (mut low, mut high) = (0, self.entries.len());
        while low < high {
            let middle = usize::midpoint(low, high);
            match sought.order(&self.entries[middle]) {
                Ordering::Less => low = middle + 1,
                Ordering::Equal => return Ok(middle),
                Ordering::Greater => high = middle,
            }
        }
        Err(low)
    }
}

impl<E: Clone> Clone for Node<E> {
    fn clone(&self) -> Self {
        match self {
            Node::Leaf(leaf) => {
                // Who copies a leaf is about to put something in.
                let mut entries = Vec::with_capacity(leaf.entries.len() + 1);
                entries.extend_from_slice(&leaf.entries);
                Node::leaf(entries)
            }
            Node::Branch(branch) => Node::Branch(branch.clone()),
        }
    }
}

impl<E> Node<E> {
    fn leaf(entries: Vec<Keyed<E>>) -> Self {
        Node::Leaf(Leaf { entries, rows: ReadRows::default() })
    }

    fn branch(children: Vec<Child<E>>) -> Self {
        Node::Branch(Branch { len: children.iter().map(|child| child.len).sum(), children })
    }

    fn len(&self) -> usize {
        match self {
            Node::Leaf(leaf) => leaf.entries.len(),
            Node::Branch(branch) => branch.len,
        }
    }

    /// What is known of the node where it is a child: its length, and its last prefix.
    fn told(&self) -> (usize, Prefix) {
        let prefix = match self {
            Node::Leaf(leaf) => leaf.entries.last().map(Keyed::prefix),
            Node::Branch(branch) => branch.children.last().map(|child| child.prefix),
        };
        (self.len(), prefix.unwrap_or(0))
    }

    /// How many entries or children the node has of its own.
    fn width(&self) -> usize {
        match self {
            Node::Leaf(leaf) => leaf.entries.len(),
            Node::Branch(branch) => branch.children.len(),
        }
    }

    fn most(&self) -> usize {
        match self {
            Node::Leaf(_) => LEAF,
            Node::Branch(_) => FAN,
        }
    }

    /// The last entry; nodes are never empty, but for a root that is about to go.
    fn last(&self) -> Option<&E> {
        match self {
            Node::Leaf(leaf) => leaf.entries.last().map(|keyed| &keyed.entry),
            Node::Branch(branch) => branch.children.last().and_then(|child| child.node.last()),
        }
    }
}

impl<E: Clone> Ranked<E> {
    /// A tree of entries that are in order already, with their prefixes.
    pub(crate) fn from_sorted(entries: &[(Prefix, E)]) -> Self {
        // Leaves are left some room, so that the next insert does not split each.
        let mut level: Vec<_> = entries
            .chunks(LEAF * 3 / 4)
            .map(|entries| {
                let keyed = |(prefix, entry): &(Prefix, E)| Keyed::new(*prefix, entry.clone());
                Arc::new(Node::leaf(entries.iter().map(keyed).collect()))
            })
            .collect();
        while level.len() > 1 {
            let children = |nodes: &[Arc<Node<E>>]| nodes.iter().cloned().map(Child::new).collect();
            level = level
                .chunks(FAN * 3 / 4)
                .map(|nodes| Arc::new(Node::branch(children(nodes))))
                .collect();
        }
        Self { root: level.pop() }
    }

    pub(crate) fn len(&self) -> usize {
        self.root.as_ref().map_or(0, |root| root.len())
    }

    /// Bytes that an entry takes, more or less.
    pub(crate) fn entry_bytes(&self) -> usize {
        size_of::<Keyed<E>>() * 4 / 3
    }

    /// The leaf that holds the entry of a rank, and its place there.
    pub(crate) fn leaf(&self, rank: usize) -> Option<(&Leaf<E>, usize)> {
        let (mut node, mut rank) = (self.root.as_deref()?, rank);
        loop {
            match node {
                Node::Leaf(leaf) => return (rank < leaf.entries.len()).then_some((leaf, rank)),
                Node::Branch(branch) => {
                    let child = branch.children.iter().find(|child| {
                        let here = rank < child.len;
                        rank -= if here { 0 } else { child.len };
                        here
                    })?;
                    node = &child.node;
                }
            }
        }
    }

    pub(crate) fn get(&self, rank: usize) -> Option<&E> {
        self.leaf(rank).map(|(leaf, place)| leaf.entry(place))
    }

    /// Calls `found` with the entries of these ranks, in order.
    pub(crate) fn each(&self, ranks: Range<usize>, mut found: impl FnMut(usize, Prefix, &E)) {
        let mut rank = ranks.start;
        while rank < ranks.end
            && let Some((leaf, place)) = self.leaf(rank)
        {
            let end = leaf.entries.len().min(place + ranks.end - rank);
            for keyed in &leaf.entries[place..end] {
                found(rank, keyed.prefix(), &keyed.entry);
                rank += 1;
            }
        }
    }

    /// The rank of the first entry that is not before what is looked for.
    pub(crate) fn first_from(&self, at: &Sought<impl Fn(&E) -> Ordering>) -> usize {
        let Some(mut node) = self.root.as_deref() else { return 0 };
        let mut rank = 0;
        loop {
            match node {
                Node::Leaf(leaf) => {
                    let (mut low, mut high) = (0, leaf.entries.len());
                    while low < high {
                        let middle = usize::midpoint(low, high);
                        let is_before = at.order(&leaf.entries[middle]).is_lt();
                        if is_before { low = middle + 1 } else { high = middle }
                    }
                    return rank + low;
                }
                Node::Branch(branch) => {
                    let place = branch.child(at);
                    rank += branch.len_before(place);
                    node = &branch.children[place].node;
                }
            }
        }
    }

    /// Puts an entry in at its place; gives its rank.
    pub(crate) fn insert(&mut self, entry: E, at: &Sought<impl Fn(&E) -> Ordering>) -> usize {
        let Some(root) = &mut self.root else {
            self.root = Some(Arc::new(Node::leaf(vec![Keyed::new(at.prefix, entry)])));
            return 0;
        };
        let (rank, sibling) = insert(Arc::make_mut(root), entry, at);
        if let Some(sibling) = sibling {
            let children = [root.clone(), sibling].map(Child::new);
            *root = Arc::new(Node::branch(children.into()));
        }
        rank
    }

    /// Takes an entry out; gives its rank, if it was there.
    pub(crate) fn remove(&mut self, at: &Sought<impl Fn(&E) -> Ordering>) -> Option<usize> {
        let root = self.root.as_mut()?;
        let removed = remove(Arc::make_mut(root), at);
        while let Node::Branch(branch) = &**root
            && branch.children.len() == 1
        {
            *root = branch.children[0].node.clone();
        }
        if root.len() == 0 {
            self.root = None;
        }
        removed
    }

    /// Replaces an entry by one of the same place, and forgets the row read with it; gives its
    /// rank, if it was there.
    pub(crate) fn replace(
        &mut self,
        entry: E,
        at: &Sought<impl Fn(&E) -> Ordering>,
    ) -> Option<usize> {
        let (mut node, mut rank) = (Arc::make_mut(self.root.as_mut()?), 0);
        loop {
            match node {
                Node::Leaf(leaf) => {
                    let place = leaf.find(at).ok()?;
                    leaf.entries[place].entry = entry;
                    leaf.rows = ReadRows::default();
                    return Some(rank + place);
                }
                Node::Branch(branch) => {
                    let place = branch.child(at);
                    rank += branch.len_before(place);
                    node = Arc::make_mut(&mut branch.children[place].node);
                }
            }
        }
    }
}

impl<E: Clone> Branch<E> {
    /// The first child whose last entry is not before what is looked for; the last one, if none
    /// is.
    fn child(&self, at: &Sought<impl Fn(&E) -> Ordering>) -> usize {
        let (mut low, mut high) = (0, self.children.len());
        while low < high {
            let middle = usize::midpoint(low, high);
            let child = &self.children[middle];
            let is_before = match child.prefix.cmp(&at.prefix) {
                Ordering::Less => true,
                Ordering::Greater => false,
                Ordering::Equal => child.node.last().is_some_and(|last| (at.against)(last).is_lt()),
            };
            if is_before { low = middle + 1 } else { high = middle }
        }
        low.min(self.children.len() - 1)
    }

    /// How many entries lie in front of a child.
    fn len_before(&self, place: usize) -> usize {
        self.children[..place].iter().map(|child| child.len).sum()
    }

    /// Joins a child that has grown small with a neighbour, if both fit into one.
    fn join(&mut self, place: usize) {
        let children = &mut self.children;
        if children[place].len == 0 && children.len() > 1 {
            children.remove(place);
            return;
        }
        let left = place.saturating_sub(1);
        let fits = children.get(left + 1).is_some_and(|right| {
            children[left].node.width() + right.node.width() <= right.node.most()
        });
        if !fits {
            return;
        }
        let right = children.remove(left + 1);
        children[left].change(|left| match (left, &*right.node) {
            (Node::Leaf(left), Node::Leaf(right)) => {
                left.entries.extend_from_slice(&right.entries);
                left.rows = ReadRows::default();
            }
            (Node::Branch(left), Node::Branch(right)) => {
                left.len += right.len;
                left.children.extend_from_slice(&right.children);
            }
            _ => unreachable!("children of one branch are of one kind"),
        });
    }
}

/// Inserts below a node; gives the rank there, and the right half if the node had to be divided.
fn insert<E: Clone>(
    node: &mut Node<E>,
    entry: E,
    at: &Sought<impl Fn(&E) -> Ordering>,
) -> (usize, Option<Arc<Node<E>>>) {
    match node {
        Node::Leaf(leaf) => {
            let place = leaf.find(at).unwrap_or_else(|place| place);
            leaf.entries.insert(place, Keyed::new(at.prefix, entry));
            leaf.rows = ReadRows::default();
            let right = (leaf.entries.len() > LEAF)
                .then(|| Arc::new(Node::leaf(leaf.entries.split_off(LEAF / 2))));
            (place, right)
        }
        Node::Branch(branch) => {
            branch.len += 1;
            let place = branch.child(at);
            let before = branch.len_before(place);
            let (rank, sibling) = branch.children[place].change(|node| insert(node, entry, at));
            if let Some(sibling) = sibling {
                branch.children.insert(place + 1, Child::new(sibling));
            }
            let right = (branch.children.len() > FAN).then(|| {
                let right = Node::branch(branch.children.split_off(FAN / 2));
                branch.len -= right.len();
                Arc::new(right)
            });
            (before + rank, right)
        }
    }
}

fn remove<E: Clone>(node: &mut Node<E>, at: &Sought<impl Fn(&E) -> Ordering>) -> Option<usize> {
    match node {
        Node::Leaf(leaf) => {
            let place = leaf.find(at).ok()?;
            leaf.entries.remove(place);
            leaf.rows = ReadRows::default();
            Some(place)
        }
        Node::Branch(branch) => {
            let place = branch.child(at);
            let before = branch.len_before(place);
            let rank = before + branch.children[place].change(|node| remove(node, at))?;
            branch.len -= 1;
            let node = &branch.children[place].node;
            if node.width() * 3 < node.most() {
                branch.join(place);
            }
            Some(rank)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// Against a sorted `Vec`: every operation, every rank, and the version kept from before.
        #[test]
        fn is_a_sorted_vector(
            start in prop::collection::btree_set(0..2000_u32, 0..900),
            steps in prop::collection::vec((0..2000_u32, any::<bool>()), 0..900),
        ) {
            // Many numbers have the same prefix.
            let prefix = |number: u32| Prefix::from(number / 50);
            let at = |number: u32| {
                Sought { prefix: prefix(number), against: move |other: &u32| other.cmp(&number) }
            };
            let mut model: Vec<u32> = start.into_iter().collect();
            let sorted: Vec<_> = model.iter().map(|number| (prefix(*number), *number)).collect();
            let mut tree = Ranked::from_sorted(&sorted);
            let (kept, kept_model) = (tree.clone(), model.clone());
            for (number, insert) in steps {
                let place = model.binary_search(&number);
                match (insert, place) {
                    (true, Err(place)) => {
                        model.insert(place, number);
                        let rank = tree.insert(number, &at(number));
                        prop_assert_eq!(rank, place);
                        prop_assert_eq!(tree.replace(number, &at(number)), Some(place));
                    }
                    (false, _) => {
                        prop_assert_eq!(tree.remove(&at(number)), place.ok());
                        place.into_iter().for_each(|place| { model.remove(place); });
                    }
                    _ => {}
                }
            }
            for (tree, model) in [(&tree, &model), (&kept, &kept_model)] {
                prop_assert_eq!(tree.len(), model.len());
                prop_assert_eq!((0..=model.len()).map(|rank| tree.get(rank).copied()).collect::<Vec<_>>(),
                    model.iter().copied().map(Some).chain([None]).collect::<Vec<_>>());
            }
        }
    }
}
