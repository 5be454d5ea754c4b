//! An ordered collection in versions, that also answers by rank: what a result is made of.
//!
//! A tree of small leaves; each node knows how many entries lie below it. It keeps no sort keys:
//! whoever calls brings the order. A version shares with the next what did not change.

use std::cmp::Ordering;
use std::sync::{Arc, OnceLock};

use crate::value::Value;

const LEAF: usize = 32;
const FAN: usize = 16;

/// An ordered collection of entries.
#[derive(Clone)]
pub(crate) struct Ranked<E> {
    root: Arc<Node<E>>,
}

enum Node<E> {
    Leaf(Leaf<E>),
    Branch { len: usize, children: Vec<Arc<Node<E>>> },
}

/// Neighbouring entries, and their rows once somebody has read one of them.
pub(crate) struct Leaf<E> {
    pub(crate) entries: Vec<E>,
    pub(crate) rows: OnceLock<Box<[Box<[Value]>]>>,
}

impl<E: Clone> Clone for Node<E> {
    fn clone(&self) -> Self {
        match self {
            Node::Leaf(leaf) => Node::leaf(leaf.entries.clone()),
            Node::Branch { len, children } => {
                Node::Branch { len: *len, children: children.clone() }
            }
        }
    }
}

impl<E> Node<E> {
    fn leaf(entries: Vec<E>) -> Self {
        Node::Leaf(Leaf { entries, rows: OnceLock::new() })
    }

    fn branch(children: Vec<Arc<Node<E>>>) -> Self {
        Node::Branch { len: children.iter().map(|child| child.len()).sum(), children }
    }

    fn len(&self) -> usize {
        match self {
            Node::Leaf(leaf) => leaf.entries.len(),
            Node::Branch { len, .. } => *len,
        }
    }

    /// How many entries or children the node has of its own.
    fn width(&self) -> usize {
        match self {
            Node::Leaf(leaf) => leaf.entries.len(),
            Node::Branch { children, .. } => children.len(),
        }
    }

    fn most(&self) -> usize {
        match self {
            Node::Leaf(_) => LEAF,
            Node::Branch { .. } => FAN,
        }
    }

    /// The last entry; nodes are never empty, but for the root of an empty tree.
    fn last(&self) -> Option<&E> {
        match self {
            Node::Leaf(leaf) => leaf.entries.last(),
            Node::Branch { children, .. } => children.last().and_then(|child| child.last()),
        }
    }
}

impl<E: Clone> Ranked<E> {
    pub(crate) fn new() -> Self {
        Self { root: Arc::new(Node::leaf(Vec::new())) }
    }

    /// A tree of entries that are in order already.
    pub(crate) fn from_sorted(entries: &[E]) -> Self {
        // Leaves are left some room, so that the next insert does not split each.
        let mut level: Vec<_> = entries
            .chunks(LEAF * 3 / 4)
            .map(|entries| Arc::new(Node::leaf(entries.to_vec())))
            .collect();
        while level.len() > 1 {
            level = level
                .chunks(FAN * 3 / 4)
                .map(|nodes| Arc::new(Node::branch(nodes.to_vec())))
                .collect();
        }
        level.pop().map_or_else(Self::new, |root| Self { root })
    }

    pub(crate) fn len(&self) -> usize {
        self.root.len()
    }

    /// The leaf that holds the entry of a rank, and its place there.
    pub(crate) fn leaf(&self, rank: usize) -> Option<(&Leaf<E>, usize)> {
        let (mut node, mut rank) = (&*self.root, rank);
        loop {
            match node {
                Node::Leaf(leaf) => return (rank < leaf.entries.len()).then_some((leaf, rank)),
                Node::Branch { children, .. } => {
                    node = children.iter().find(|child| {
                        let here = rank < child.len();
                        if !here {
                            rank -= child.len();
                        }
                        here
                    })?;
                }
            }
        }
    }

    pub(crate) fn get(&self, rank: usize) -> Option<&E> {
        self.leaf(rank).map(|(leaf, place)| &leaf.entries[place])
    }

    /// The rank of an entry, found by its order: `against` compares an entry of the tree with it.
    pub(crate) fn rank(&self, against: impl Fn(&E) -> Ordering) -> Result<usize, usize> {
        let (mut node, mut before) = (&*self.root, 0);
        loop {
            match node {
                Node::Leaf(leaf) => {
                    return leaf
                        .entries
                        .binary_search_by(against)
                        .map(|place| before + place)
                        .map_err(|place| before + place);
                }
                Node::Branch { children, .. } => {
                    let place = child(children, &against);
                    before += children[..place].iter().map(|child| child.len()).sum::<usize>();
                    node = &children[place];
                }
            }
        }
    }

    /// Puts an entry in at its place.
    pub(crate) fn insert(&mut self, entry: E, against: &impl Fn(&E) -> Ordering) {
        if let Some(sibling) = insert(Arc::make_mut(&mut self.root), entry, against) {
            let old = self.root.clone();
            self.root = Arc::new(Node::branch(vec![old, sibling]));
        }
    }

    /// Takes an entry out; tells whether it was there.
    pub(crate) fn remove(&mut self, against: &impl Fn(&E) -> Ordering) -> bool {
        let removed = remove(Arc::make_mut(&mut self.root), against);
        while let Node::Branch { children, .. } = &*self.root
            && children.len() == 1
        {
            self.root = children[0].clone();
        }
        removed
    }

    /// Replaces an entry by one of the same place, and forgets the rows read with it.
    pub(crate) fn replace(&mut self, entry: E, against: &impl Fn(&E) -> Ordering) {
        let mut node = Arc::make_mut(&mut self.root);
        loop {
            match node {
                Node::Leaf(leaf) => {
                    if let Ok(place) = leaf.entries.binary_search_by(against) {
                        leaf.entries[place] = entry;
                        leaf.rows = OnceLock::new();
                    }
                    return;
                }
                Node::Branch { children, .. } => {
                    let place = child(children, against);
                    node = Arc::make_mut(&mut children[place]);
                }
            }
        }
    }
}

/// The first child whose last entry is not before what is looked for; the last one, if none is.
fn child<E>(children: &[Arc<Node<E>>], against: &impl Fn(&E) -> Ordering) -> usize {
    children
        .partition_point(|child| child.last().is_some_and(|last| against(last).is_lt()))
        .min(children.len() - 1)
}

/// Inserts below a node; gives the right half back if the node had to be divided.
fn insert<E: Clone>(
    node: &mut Node<E>,
    entry: E,
    against: &impl Fn(&E) -> Ordering,
) -> Option<Arc<Node<E>>> {
    match node {
        Node::Leaf(leaf) => {
            let place = leaf.entries.partition_point(|other| against(other).is_lt());
            leaf.entries.insert(place, entry);
            leaf.rows = OnceLock::new();
            (leaf.entries.len() > LEAF).then(|| {
                let right = leaf.entries.split_off(LEAF / 2);
                Arc::new(Node::leaf(right))
            })
        }
        Node::Branch { len, children } => {
            *len += 1;
            let place = child(children, against);
            if let Some(sibling) = insert(Arc::make_mut(&mut children[place]), entry, against) {
                children.insert(place + 1, sibling);
            }
            (children.len() > FAN).then(|| {
                let right = Node::branch(children.split_off(FAN / 2));
                *len -= right.len();
                Arc::new(right)
            })
        }
    }
}

fn remove<E: Clone>(node: &mut Node<E>, against: &impl Fn(&E) -> Ordering) -> bool {
    match node {
        Node::Leaf(leaf) => {
            let found = leaf.entries.binary_search_by(against);
            if let Ok(place) = found {
                leaf.entries.remove(place);
                leaf.rows = OnceLock::new();
            }
            found.is_ok()
        }
        Node::Branch { len, children } => {
            let place = child(children, against);
            if !remove(Arc::make_mut(&mut children[place]), against) {
                return false;
            }
            *len -= 1;
            if children[place].width() * 3 < children[place].most() {
                join(children, place);
            }
            true
        }
    }
}

/// Joins a child that has grown small with a neighbour, if both fit into one.
fn join<E: Clone>(children: &mut Vec<Arc<Node<E>>>, place: usize) {
    if children[place].len() == 0 && children.len() > 1 {
        children.remove(place);
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
    match (Arc::make_mut(&mut children[left]), &*right) {
        (Node::Leaf(left), Node::Leaf(right)) => {
            left.entries.extend_from_slice(&right.entries);
            left.rows = OnceLock::new();
        }
        (Node::Branch { len, children }, Node::Branch { len: more, children: others }) => {
            *len += more;
            children.extend_from_slice(others);
        }
        _ => unreachable!("children of one branch are of one kind"),
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
            let mut model: Vec<u32> = start.into_iter().collect();
            let mut tree = Ranked::from_sorted(&model);
            let (kept, kept_model) = (tree.clone(), model.clone());
            for (number, insert) in steps {
                let place = model.binary_search(&number);
                prop_assert_eq!(tree.rank(|other| other.cmp(&number)), place);
                match (insert, place) {
                    (true, Err(place)) => {
                        model.insert(place, number);
                        tree.insert(number, &|other: &u32| other.cmp(&number));
                    }
                    (false, _) => {
                        prop_assert_eq!(tree.remove(&|other: &u32| other.cmp(&number)), place.is_ok());
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
