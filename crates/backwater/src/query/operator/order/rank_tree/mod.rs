//! An ordered collection in versions, that also answers by rank: what a result is made of.
//!
//! A tree of small leaves; each node knows how many entries lie below it. Of the sort keys it keeps
//! the first 64 bits; the caller gives the order. A version shares with the next what did not
//! change.

mod node;

use std::cmp::Ordering;
use std::ops::Range;
use std::sync::Arc;

use smallvec::SmallVec;

use crate::table::{TOGETHER, Together};
use node::{Branch, FAN, Keyed, TreeNode, insert, keep, most_entries, remove};
pub(crate) use node::{Leaf, Prefix, Sought};

/// An ordered collection of entries.
pub(crate) struct RankTree<E> {
    root: TreeNode<E>,
    /// This many in front and at the end have left, and lie in the tree until it is written to.
    /// They may be stale by now, so nothing is compared with them.
    left: [u32; 2],
    keeps: Keeps,
}

/// Which entries a tree keeps.
#[derive(Clone, Copy)]
enum Keeps {
    All,
    /// The first alone, about so many, because the others are not needed.
    First(u32),
}

impl<E> Clone for RankTree<E> {
    fn clone(&self) -> Self {
        Self { root: self.root.clone(), ..*self }
    }
}

impl<E: Clone> RankTree<E> {
    /// A tree of entries that are in order already, with their prefixes.
    pub(crate) fn from_sorted(entries: &mut dyn Iterator<Item = (Prefix, E)>) -> Self {
        // Nodes are left some room, so that the next insert does not split each.
        let (mut level, mut leaf) = (Vec::<TreeNode<E>>::new(), Vec::new());
        loop {
            let some = (&mut *entries).take(most_entries::<E>() * 3 / 4);
            leaf.extend(some.map(|(prefix, entry)| Keyed::new(prefix, entry)));
            if leaf.is_empty() {
                break;
            }
            level.push(TreeNode::leaf(&*leaf));
            leaf.clear();
        }
        while level.len() > 1 {
            let mut above = Vec::with_capacity(level.len().div_ceil(FAN * 3 / 4));
            for nodes in level.chunks(FAN * 3 / 4) {
                above.push(TreeNode::branch(Branch::of(nodes.iter().cloned())));
            }
            level = above;
        }
        Self { root: level.pop().unwrap_or_else(TreeNode::empty), left: [0; 2], keeps: Keeps::All }
    }

    /// A tree of the first entries, in order already, of many of which only a few are needed.
    pub(crate) fn from_first(entries: &mut dyn Iterator<Item = (Prefix, E)>) -> Self {
        let tree = Self::from_sorted(entries);
        Self { keeps: Keeps::First(tree.len() as u32), ..tree }
    }

    /// How many of this many entries are worth keeping where only the first few are needed: so many
    /// that it costs little to look for others when they run out. `None` if all are.
    pub(crate) fn room(few: usize, len: usize) -> Option<usize> {
        let room = few.max(len / 16);
        (len / 2 > room).then_some(room)
    }

    /// Keeps the first entries alone, where there are far more than the few that are needed.
    pub(crate) fn keep_first(&mut self, few: usize) {
        let len = self.len();
        let room = match self.keeps {
            Keeps::All => Self::room(few, len),
            Keeps::First(first) => Some(few.max(first as usize)).filter(|room| len / 2 > *room),
        };
        if let Some(room) = room {
            self.cut(0, len - room);
            self.keeps = Keeps::First(room as u32);
        }
    }

    /// Whether all entries up to this rank are there, however many there are.
    pub(crate) fn reaches(&self, rank: usize) -> bool {
        matches!(self.keeps, Keeps::All) || self.len() >= rank
    }

    /// Where only the first entries are kept, the prefix of the last of them.
    pub(crate) fn last_of_first(&self) -> Option<Prefix> {
        match self.keeps {
            Keeps::All => None,
            Keeps::First(_) => self.root.last_prefix(),
        }
    }

    /// Whether an entry stands behind those that are kept.
    pub(crate) fn is_behind(&self, at: &Sought<impl Fn(&E) -> Ordering>) -> bool {
        if matches!(self.keeps, Keeps::All) {
            return false;
        }
        let root = self.searched();
        match root.last_prefix().cmp(&Some(at.prefix)) {
            Ordering::Less => true,
            Ordering::Greater => false,
            Ordering::Equal => root.last().is_some_and(|last| (at.against)(last).is_lt()),
        }
    }

    pub(crate) fn len(&self) -> usize {
        let [front, end] = self.left;
        self.root.len() - (front + end) as usize
    }

    /// Takes out the first and the last entries, this many of each, without a look at them. Where
    /// some leave at the end, those behind them that are not kept do as well.
    pub(crate) fn cut(&mut self, front: usize, end: usize) {
        debug_assert!(front + end <= self.len(), "only what is there can leave");
        self.left[0] += front as u32;
        self.left[1] += end as u32;
        if end > 0 {
            self.keeps = Keeps::All;
        }
        let [front, end] = self.left;
        if (front + end) as usize > self.len() {
            self.forget_left();
        }
    }

    /// Takes those out of the tree that have left.
    pub(crate) fn forget_left(&mut self) {
        let [front, end] = std::mem::take(&mut self.left);
        if front + end > 0 {
            let len = self.root.len();
            keep(&mut self.root, front as usize..len - end as usize);
            self.shrink();
        }
    }

    /// Makes the root no higher than it must be.
    fn shrink(&mut self) {
        while let TreeNode::Branch(branch) = &self.root
            && let [only] = &*branch.0
        {
            self.root = only.node.clone();
        }
        if self.root.len() == 0 {
            self.root = TreeNode::empty();
        }
    }

    /// The tree, in which one can search.
    fn searched(&self) -> &TreeNode<E> {
        debug_assert!(self.left == [0; 2], "what has left cannot be compared");
        &self.root
    }

    /// Bytes that an entry takes, more or less.
    pub(crate) fn entry_bytes(&self) -> usize {
        size_of::<Keyed<E>>() * 4 / 3
    }

    /// The leaf that holds the entry of a rank, and its place there.
    pub(crate) fn leaf(&self, rank: usize) -> Option<(&Leaf<E>, usize)> {
        if rank >= self.len() {
            return None;
        }
        let (mut node, mut rank) = (&self.root, rank + self.left[0] as usize);
        loop {
            match node {
                TreeNode::Leaf(leaf) => return Some((leaf, rank)),
                TreeNode::Branch(branch) => {
                    let ends = branch.0.iter().map(|child| child.end as usize);
                    let place = ends.map(|end| usize::from(end <= rank)).sum();
                    rank -= branch.start(place);
                    node = &branch.0[place].node;
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
        let ranks = rank..ranks.end.min(self.len());
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

    /// Calls `goes_on` with the entries that are not before what is looked for, in order, until it
    /// says no.
    pub(crate) fn each_from(
        &self,
        at: &Sought<impl Fn(&E) -> Ordering>,
        mut goes_on: impl FnMut(Prefix, &E) -> bool,
    ) {
        let (mut node, mut rank) = (self.searched(), 0);
        let (mut leaf, mut place) = loop {
            match node {
                TreeNode::Leaf(leaf) => {
                    let is_before = |keyed: &Keyed<E>| at.order(keyed).is_lt();
                    break (leaf, leaf.entries.partition_point(is_before));
                }
                TreeNode::Branch(branch) => {
                    let (place, before) = branch.child(at);
                    rank += before;
                    node = &branch.0[place].node;
                }
            }
        };
        loop {
            let mut rest = leaf.entries[place..].iter();
            if !rest.all(|keyed| goes_on(keyed.prefix(), &keyed.entry)) {
                return;
            }
            rank += leaf.entries.len();
            let Some(next) = self.leaf(rank) else { return };
            (leaf, place) = next;
        }
    }

    /// The rank of an entry, if it is there.
    pub(crate) fn rank(&self, at: &Sought<impl Fn(&E) -> Ordering>) -> Option<usize> {
        let (leaf, before) = self.leaf_of(at);
        Some(before + leaf.find(at).ok()?)
    }

    /// The ranks of several entries. Each step down the tree, and each of a search in a leaf, waits
    /// for memory, and so it is made for all of them at once.
    pub(crate) fn ranks(&self, all: &[&Sought<impl Fn(&E) -> Ordering>]) -> Together<usize> {
        let mut ranks = [None; TOGETHER];
        if let [only] = all {
            ranks[0] = self.rank(only);
            return ranks;
        }
        let roots = all.iter().take(TOGETHER).map(|_| (self.searched(), 0));
        let mut nodes: SmallVec<[(&TreeNode<E>, usize); TOGETHER]> = roots.collect();
        let leaves: SmallVec<[(&Leaf<E>, usize); TOGETHER]> = loop {
            let leaves = nodes.iter().map_while(|(node, before)| match node {
                TreeNode::Leaf(leaf) => Some((leaf, *before)),
                TreeNode::Branch(_) => None,
            });
            let leaves: SmallVec<_> = leaves.collect();
            // All leaves have the same depth.
            if leaves.len() == nodes.len() {
                break leaves;
            }
            for ((node, rank), at) in nodes.iter_mut().zip(all) {
                if let TreeNode::Branch(branch) = node {
                    let (place, before) = branch.child(at);
                    (*node, *rank) = (&branch.0[place].node, *rank + before);
                }
            }
        };
        let (mut firsts, mut step) = ([0; TOGETHER], most_entries::<E>());
        while step > 0 {
            for ((first, at), (leaf, _)) in firsts.iter_mut().zip(all).zip(&leaves) {
                *first += step * usize::from(leaf.has_before(*first + step, at.prefix));
            }
            step /= 2;
        }
        for ((rank, at), ((leaf, before), first)) in
            ranks.iter_mut().zip(all).zip(leaves.iter().zip(firsts))
        {
            *rank = leaf.find_from(first, at).ok().map(|place| before + place);
        }
        ranks
    }

    /// The leaf in which an entry is, if it is there, and how many entries lie in front of it.
    fn leaf_of(&self, at: &Sought<impl Fn(&E) -> Ordering>) -> (&Leaf<E>, usize) {
        let (mut node, mut rank) = (self.searched(), 0);
        loop {
            match node {
                TreeNode::Leaf(leaf) => return (leaf, rank),
                TreeNode::Branch(branch) => {
                    let (place, before) = branch.child(at);
                    rank += before;
                    node = &branch.0[place].node;
                }
            }
        }
    }

    /// Puts an entry in at its place; gives its rank.
    pub(crate) fn insert(&mut self, entry: E, at: &Sought<impl Fn(&E) -> Ordering>) -> usize {
        self.forget_left();
        let root = &mut self.root;
        let (rank, sibling) = insert(root, entry, at);
        if let Some(sibling) = sibling {
            *root = TreeNode::branch(Branch::of([root.clone(), sibling]));
        }
        rank
    }

    /// Takes an entry out; gives its rank, if it was there.
    pub(crate) fn remove(&mut self, at: &Sought<impl Fn(&E) -> Ordering>) -> Option<usize> {
        self.forget_left();
        let removed = remove(&mut self.root, at);
        self.shrink();
        removed
    }

    /// Replaces an entry by one of the same place; gives its rank, if it was there.
    pub(crate) fn replace(
        &mut self,
        entry: E,
        at: &Sought<impl Fn(&E) -> Ordering>,
    ) -> Option<usize> {
        self.forget_left();
        let (mut node, mut rank) = (&mut self.root, 0);
        loop {
            match node {
                TreeNode::Leaf(leaf) => {
                    let place = leaf.find(at).ok()?;
                    leaf.set(place, entry);
                    return Some(rank + place);
                }
                TreeNode::Branch(branch) => {
                    let (place, before) = branch.child(at);
                    rank += before;
                    node = &mut Arc::make_mut(branch).0[place].node;
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::cell::RefCell;
    use std::collections::HashSet;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// Against a sorted `Vec`: every operation, every rank, and the version kept from before.
        /// Nothing is ever compared with what has left.
        #[test]
        fn is_a_sorted_vector(
            start in prop::collection::btree_set(0..2000_u32, 0..900),
            steps in prop::collection::vec((0..2000_u32, 0..100_u32), 0..900),
        ) {
            // Many numbers have the same prefix.
            let prefix = |number: u32| Prefix::from(number / 50);
            let mut model: Vec<u32> = start.into_iter().collect();
            let present: RefCell<HashSet<u32>> = RefCell::new(model.iter().copied().collect());
            let at = |number: u32| {
                let present = &present;
                let against = move |other: &u32| {
                    assert!(present.borrow().contains(other));
                    other.cmp(&number)
                };
                Sought { prefix: prefix(number), against }
            };
            let mut sorted = model.iter().map(|number| (prefix(*number), *number));
            let mut tree = RankTree::from_sorted(&mut sorted);
            let (kept, kept_model) = (tree.clone(), model.clone());
            for (number, step) in steps {
                let place = model.binary_search(&number);
                match (step, place) {
                    (0..8, _) => {
                        let front = (number as usize / 10).min(model.len());
                        let end = (number as usize % 10 * step as usize).min(model.len() - front);
                        let gone = model.drain(..front).collect::<Vec<_>>();
                        let gone = gone.into_iter().chain(model.drain(model.len() - end..));
                        gone.for_each(|gone| { present.borrow_mut().remove(&gone); });
                        tree.cut(front, end);
                    }
                    (8..54, Err(place)) => {
                        model.insert(place, number);
                        present.borrow_mut().insert(number);
                        let rank = tree.insert(number, &at(number));
                        prop_assert_eq!(rank, place);
                        prop_assert_eq!(tree.replace(number, &at(number)), Some(place));
                        // Some that are there, and one that may not be.
                        let some = model.iter().copied().step_by(31).take(14);
                        let some: Vec<u32> = some.chain([number, number + 1]).collect();
                        let sought: Vec<_> = some.iter().map(|number| at(*number)).collect();
                        let ranks = tree.ranks(&sought.iter().collect::<Vec<_>>());
                        let expected = some.iter().map(|number| model.binary_search(number).ok());
                        prop_assert!(expected.eq(ranks.into_iter().take(some.len())));
                    }
                    (54.., Ok(_)) | (90.., _) => {
                        prop_assert_eq!(tree.remove(&at(number)), place.ok());
                        place.into_iter().for_each(|place| { model.remove(place); });
                        present.borrow_mut().remove(&number);
                    }
                    _ => {}
                }
                prop_assert_eq!(tree.len(), model.len());
                let rank = number as usize % 64;
                prop_assert_eq!(tree.get(rank), model.get(rank));
            }
            for (tree, model) in [(&tree, &model), (&kept, &kept_model)] {
                prop_assert_eq!(tree.len(), model.len());
                prop_assert_eq!((0..=model.len()).map(|rank| tree.get(rank).copied()).collect::<Vec<_>>(),
                    model.iter().copied().map(Some).chain([None]).collect::<Vec<_>>());
            }
        }
    }
}
