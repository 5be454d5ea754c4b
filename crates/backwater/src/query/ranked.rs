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
    fn order<E>(&self, prefix: Prefix, entry: &E) -> Ordering
    where
        F: Fn(&E) -> Ordering,
    {
        prefix.cmp(&self.prefix).then_with(|| (self.against)(entry))
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

struct Branch<E> {
    len: usize,
    children: Vec<Arc<Node<E>>>,
    /// What is known of each child without a look at it.
    marks: Vec<Mark>,
}

#[derive(Clone, Copy)]
struct Mark {
    len: usize,
    /// Of its last entry.
    prefix: Prefix,
}

/// Neighbouring entries, and their rows once somebody has read them.
pub(crate) struct Leaf<E> {
    pub(crate) entries: Vec<E>,
    prefixes: Vec<Prefix>,
    rows: ReadRows,
}

type Row = Box<[Value]>;

/// The rows of a leaf that somebody has read. Often that is one of them.
#[derive(Default)]
struct ReadRows {
    first: OnceLock<(usize, Row)>,
    others: OnceLock<Box<[OnceLock<Row>]>>,
}

impl<E> Leaf<E> {
    /// The row of an entry, which `read` reads if nobody has yet.
    pub(crate) fn row(&self, place: usize, read: impl FnOnce(&E) -> Row) -> &[Value] {
        let mut read = Some(read);
        let mut read = || read.take().map_or(Row::default(), |read| read(&self.entries[place]));
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
            match sought.order(self.prefixes[middle], &self.entries[middle]) {
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
            Node::Leaf(leaf) => Node::leaf(with_room(&leaf.entries), with_room(&leaf.prefixes)),
            Node::Branch(branch) => Node::Branch(Branch {
                len: branch.len,
                children: branch.children.clone(),
                marks: branch.marks.clone(),
            }),
        }
    }
}

impl<E> Node<E> {
    fn leaf(entries: Vec<E>, prefixes: Vec<Prefix>) -> Self {
        Node::Leaf(Leaf { entries, prefixes, rows: ReadRows::default() })
    }

    fn branch(children: Vec<Arc<Node<E>>>) -> Self {
        let marks: Vec<Mark> = children.iter().map(|child| child.mark()).collect();
        let len = marks.iter().map(|mark| mark.len).sum();
        Node::Branch(Branch { len, children, marks })
    }

    fn len(&self) -> usize {
        match self {
            Node::Leaf(leaf) => leaf.entries.len(),
            Node::Branch(branch) => branch.len,
        }
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
            Node::Leaf(leaf) => leaf.entries.last(),
            Node::Branch(branch) => branch.children.last().and_then(|child| child.last()),
        }
    }

    fn mark(&self) -> Mark {
        let prefix = match self {
            Node::Leaf(leaf) => leaf.prefixes.last().copied(),
            Node::Branch(branch) => branch.marks.last().map(|mark| mark.prefix),
        };
        Mark { len: self.len(), prefix: prefix.unwrap_or(0) }
    }
}

impl<E: Clone> Ranked<E> {
    /// A tree of entries that are in order already, with their prefixes.
    pub(crate) fn from_sorted(entries: &[(Prefix, E)]) -> Self {
        // Leaves are left some room, so that the next insert does not split each.
        let mut level: Vec<_> = entries
            .chunks(LEAF * 3 / 4)
            .map(|entries| {
                let prefixes = entries.iter().map(|(prefix, _)| *prefix).collect();
                let entries = entries.iter().map(|(_, entry)| entry.clone()).collect();
                Arc::new(Node::leaf(entries, prefixes))
            })
            .collect();
        while level.len() > 1 {
            level = level
                .chunks(FAN * 3 / 4)
                .map(|nodes| Arc::new(Node::branch(nodes.to_vec())))
                .collect();
        }
        Self { root: level.pop() }
    }

    pub(crate) fn len(&self) -> usize {
        self.root.as_ref().map_or(0, |root| root.len())
    }

    /// Bytes that an entry takes, more or less.
    pub(crate) fn entry_bytes(&self) -> usize {
        (size_of::<E>() + size_of::<Prefix>()) * 4 / 3
    }

    /// The leaf that holds the entry of a rank, and its place there.
    pub(crate) fn leaf(&self, rank: usize) -> Option<(&Leaf<E>, usize)> {
        let (mut node, mut rank) = (self.root.as_deref()?, rank);
        loop {
            match node {
                Node::Leaf(leaf) => return (rank < leaf.entries.len()).then_some((leaf, rank)),
                Node::Branch(branch) => {
                    let place = branch.marks.iter().position(|mark| {
                        let here = rank < mark.len;
                        rank -= if here { 0 } else { mark.len };
                        here
                    })?;
                    node = &branch.children[place];
                }
            }
        }
    }

    pub(crate) fn get(&self, rank: usize) -> Option<&E> {
        self.leaf(rank).map(|(leaf, place)| &leaf.entries[place])
    }

    /// Calls `found` with the entries of these ranks, in order.
    pub(crate) fn each(&self, ranks: Range<usize>, mut found: impl FnMut(usize, Prefix, &E)) {
        let mut rank = ranks.start;
        while rank < ranks.end
            && let Some((leaf, place)) = self.leaf(rank)
        {
            let end = leaf.entries.len().min(place + ranks.end - rank);
            let entries = leaf.entries[place..end].iter().zip(&leaf.prefixes[place..end]);
            for (entry, prefix) in entries {
                found(rank, *prefix, entry);
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
                        let is_before =
                            at.order(leaf.prefixes[middle], &leaf.entries[middle]).is_lt();
                        if is_before { low = middle + 1 } else { high = middle }
                    }
                    return rank + low;
                }
                Node::Branch(branch) => {
                    let place = branch.child(at);
                    rank += branch.len_before(place);
                    node = &branch.children[place];
                }
            }
        }
    }

    /// Puts an entry in at its place; gives its rank.
    pub(crate) fn insert(&mut self, entry: E, at: &Sought<impl Fn(&E) -> Ordering>) -> usize {
        let Some(root) = &mut self.root else {
            self.root = Some(Arc::new(Node::leaf(vec![entry], vec![at.prefix])));
            return 0;
        };
        let (rank, sibling) = insert(Arc::make_mut(root), entry, at);
        if let Some(sibling) = sibling {
            *root = Arc::new(Node::branch(vec![root.clone(), sibling]));
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
            *root = branch.children[0].clone();
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
                    leaf.entries[place] = entry;
                    leaf.rows = ReadRows::default();
                    return Some(rank + place);
                }
                Node::Branch(branch) => {
                    let place = branch.child(at);
                    rank += branch.len_before(place);
                    node = Arc::make_mut(&mut branch.children[place]);
                }
            }
        }
    }
}

/// The same with room for one more: who copies a leaf is about to put something in.
fn with_room<T: Clone>(all: &[T]) -> Vec<T> {
    let mut copy = Vec::with_capacity(all.len() + 1);
    copy.extend_from_slice(all);
    copy
}

impl<E: Clone> Branch<E> {
    /// The first child whose last entry is not before what is looked for; the last one, if none
    /// is.
    fn child(&self, at: &Sought<impl Fn(&E) -> Ordering>) -> usize {
        let (mut low, mut high) = (0, self.children.len());
        while low < high {
            let middle = usize::midpoint(low, high);
            let is_before = match self.marks[middle].prefix.cmp(&at.prefix) {
                Ordering::Less => true,
                Ordering::Greater => false,
                Ordering::Equal => {
                    self.children[middle].last().is_some_and(|last| (at.against)(last).is_lt())
                }
            };
            if is_before { low = middle + 1 } else { high = middle }
        }
        low.min(self.children.len() - 1)
    }

    /// How many entries lie in front of a child.
    fn len_before(&self, place: usize) -> usize {
        self.marks[..place].iter().map(|mark| mark.len).sum()
    }

    /// Joins a child that has grown small with a neighbour, if both fit into one.
    fn join(&mut self, place: usize) {
        let children = &mut self.children;
        if children[place].len() == 0 && children.len() > 1 {
            children.remove(place);
            self.marks.remove(place);
            return;
        }
        let left = place.saturating_sub(1);
        let fits = children
            .get(left + 1)
            .is_some_and(|right| children[left].width() + right.width() <= right.most());
        if !fits {
            return;
        }
        let right = children.remove(left + 1);
        self.marks.remove(left + 1);
        match (Arc::make_mut(&mut children[left]), &*right) {
            (Node::Leaf(left), Node::Leaf(right)) => {
                left.entries.extend_from_slice(&right.entries);
                left.prefixes.extend_from_slice(&right.prefixes);
                left.rows = ReadRows::default();
            }
            (Node::Branch(left), Node::Branch(right)) => {
                left.len += right.len;
                left.children.extend_from_slice(&right.children);
                left.marks.extend_from_slice(&right.marks);
            }
            _ => unreachable!("children of one branch are of one kind"),
        }
        self.marks[left] = self.children[left].mark();
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
            leaf.entries.insert(place, entry);
            leaf.prefixes.insert(place, at.prefix);
            leaf.rows = ReadRows::default();
            let right = (leaf.entries.len() > LEAF).then(|| {
                let entries = leaf.entries.split_off(LEAF / 2);
                Arc::new(Node::leaf(entries, leaf.prefixes.split_off(LEAF / 2)))
            });
            (place, right)
        }
        Node::Branch(branch) => {
            branch.len += 1;
            let place = branch.child(at);
            let before = branch.len_before(place);
            let (rank, sibling) = insert(Arc::make_mut(&mut branch.children[place]), entry, at);
            branch.marks[place] = branch.children[place].mark();
            if let Some(sibling) = sibling {
                branch.marks.insert(place + 1, sibling.mark());
                branch.children.insert(place + 1, sibling);
            }
            let right = (branch.children.len() > FAN).then(|| {
                let right = Node::branch(branch.children.split_off(FAN / 2));
                branch.marks.truncate(FAN / 2);
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
            leaf.prefixes.remove(place);
            leaf.rows = ReadRows::default();
            Some(place)
        }
        Node::Branch(branch) => {
            let place = branch.child(at);
            let before = branch.len_before(place);
            let rank = before + remove(Arc::make_mut(&mut branch.children[place]), at)?;
            branch.len -= 1;
            branch.marks[place] = branch.children[place].mark();
            if branch.children[place].width() * 3 < branch.children[place].most() {
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
