//! The nodes of a rank tree: leaves of entries, branches of nodes, and how each is searched and
//! edited.

use std::cmp::Ordering;
use std::ops::Range;
use std::sync::Arc;

use smallvec::SmallVec;

/// A branch has at most this many children. A version that differs in one entry copies the nodes
/// above it, and with them a counted reference to each of their children: that is the most of its
/// work, so branches are small.
pub(super) const FAN: usize = 8;

/// A leaf has at most this many entries: more of those that are copied as they are than of those
/// that are references themselves.
pub(super) const fn most_entries<E>() -> usize {
    if std::mem::needs_drop::<E>() { 16 } else { 64 }
}

/// Where an entry stands as far as 64 bits decide it: one with a smaller prefix stands before one
/// with a larger; between equal ones the order decides.
pub(crate) type Prefix = u64;

/// What is looked for: its prefix, and what compares entries with it.
pub(crate) struct Sought<F> {
    pub(crate) prefix: Prefix,
    pub(crate) against: F,
}

impl<F> Sought<F> {
    pub(super) fn order<E>(&self, keyed: &Keyed<E>) -> Ordering
    where
        F: Fn(&E) -> Ordering,
    {
        keyed.prefix().cmp(&self.prefix).then_with(|| (self.against)(&keyed.entry))
    }
}

/// A part of the tree, shared by the versions in which it is the same.
pub(super) enum TreeNode<E> {
    Leaf(Leaf<E>),
    Branch(Arc<Branch<E>>),
}

impl<E> Clone for TreeNode<E> {
    #[inline]
    fn clone(&self) -> Self {
        match self {
            TreeNode::Leaf(leaf) => TreeNode::Leaf(leaf.clone()),
            TreeNode::Branch(branch) => TreeNode::Branch(branch.clone()),
        }
    }
}

/// Its children, all of one kind, lie in the node itself.
pub(super) struct Branch<E>(pub(super) SmallVec<[Child<E>; FAN + 1]>);

impl<E> Clone for Branch<E> {
    fn clone(&self) -> Self {
        let mut children = SmallVec::with_capacity(self.0.len());
        self.0.iter().for_each(|child| children.push(child.clone()));
        Self(children)
    }
}

/// A node below another one, and what is known of it without a look at it.
pub(super) struct Child<E> {
    pub(super) node: TreeNode<E>,
    pub(super) len: u32,
    /// Of its last entry.
    pub(super) prefix: Prefix,
}

impl<E> Clone for Child<E> {
    #[inline]
    fn clone(&self) -> Self {
        Self { node: self.node.clone(), ..*self }
    }
}

impl<E> Child<E> {
    pub(super) fn new(node: TreeNode<E>) -> Self {
        let (len, prefix) = node.sort_key();
        Self { node, len, prefix }
    }

    #[inline]
    pub(super) fn len(&self) -> usize {
        self.len as usize
    }

    /// Does something with the node, of which more or others are known then.
    pub(super) fn change<T>(&mut self, change: impl FnOnce(&mut TreeNode<E>) -> T) -> T {
        let done = change(&mut self.node);
        (self.len, self.prefix) = self.node.sort_key();
        done
    }
}

/// Neighbouring entries, in one piece of memory that takes no more than they need: there may be very
/// many leaves, and each step to one waits for memory.
pub(crate) struct Leaf<E> {
    pub(super) entries: Arc<[Keyed<E>]>,
}

impl<E> Clone for Leaf<E> {
    #[inline]
    fn clone(&self) -> Self {
        Self { entries: self.entries.clone() }
    }
}

/// An entry with its prefix in two halves, which are aligned so that no room is lost.
#[derive(Clone, Copy)]
pub(super) struct Keyed<E> {
    pub(super) prefix: [u32; 2],
    pub(super) entry: E,
}

impl<E> Keyed<E> {
    pub(super) fn new(prefix: Prefix, entry: E) -> Self {
        Self { prefix: [(prefix >> 32) as u32, prefix as u32], entry }
    }

    #[inline]
    pub(super) fn prefix(&self) -> Prefix {
        Prefix::from(self.prefix[0]) << 32 | Prefix::from(self.prefix[1])
    }
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

    pub(super) fn find(&self, sought: &Sought<impl Fn(&E) -> Ordering>) -> Result<usize, usize> {
        // Prefixes are compared without a branch; mostly at most one is the same.
        let first = self.entries.partition_point(|keyed| keyed.prefix() < sought.prefix);
        let (mut low, mut high) = (first, first);
        while self.entries.get(high).is_some_and(|keyed| keyed.prefix() == sought.prefix) {
            high = self.entries.len().min(high * 2 - low + 1);
        }
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

impl<E: Clone> Leaf<E> {
    /// The same with another entry at a place.
    fn with(&self, place: usize, entry: Keyed<E>) -> Arc<[Keyed<E>]> {
        let (front, back) = self.entries.split_at(place);
        front.iter().cloned().chain([entry]).chain(back.iter().cloned()).collect()
    }

    /// The same without the entry at a place.
    fn without(&self, place: usize) -> Arc<[Keyed<E>]> {
        let (front, back) = (&self.entries[..place], &self.entries[place + 1..]);
        front.iter().chain(back).cloned().collect()
    }

    /// Replaces the entry at a place.
    pub(super) fn set(&mut self, place: usize, entry: E) {
        Arc::make_mut(&mut self.entries)[place].entry = entry;
    }
}

impl<E> TreeNode<E> {
    pub(super) fn leaf(entries: impl Into<Arc<[Keyed<E>]>>) -> Self {
        TreeNode::Leaf(Leaf { entries: entries.into() })
    }

    /// One without entries, which takes no memory: there may be very many.
    pub(super) fn empty() -> Self {
        TreeNode::Leaf(Leaf { entries: Arc::default() })
    }

    pub(super) fn branch(children: SmallVec<[Child<E>; FAN + 1]>) -> Self {
        TreeNode::Branch(Arc::new(Branch(children)))
    }

    pub(super) fn len(&self) -> usize {
        match self {
            TreeNode::Leaf(leaf) => leaf.entries.len(),
            TreeNode::Branch(branch) => branch.len_of(0..branch.0.len()),
        }
    }

    /// What is known of the node where it is a child: its length, and its last prefix.
    pub(super) fn sort_key(&self) -> (u32, Prefix) {
        (self.len() as u32, self.last_prefix().unwrap_or(0))
    }

    pub(super) fn last_prefix(&self) -> Option<Prefix> {
        match self {
            TreeNode::Leaf(leaf) => leaf.entries.last().map(Keyed::prefix),
            TreeNode::Branch(branch) => branch.0.last().map(|child| child.prefix),
        }
    }

    /// How many entries or children the node has of its own.
    pub(super) fn width(&self) -> usize {
        match self {
            TreeNode::Leaf(leaf) => leaf.entries.len(),
            TreeNode::Branch(branch) => branch.0.len(),
        }
    }

    pub(super) fn most(&self) -> usize {
        match self {
            TreeNode::Leaf(_) => most_entries::<E>(),
            TreeNode::Branch(_) => FAN,
        }
    }

    /// The last entry; nodes are never empty, but for a root that is about to go.
    pub(super) fn last(&self) -> Option<&E> {
        match self {
            TreeNode::Leaf(leaf) => leaf.entries.last().map(|keyed| &keyed.entry),
            TreeNode::Branch(branch) => branch.0.last().and_then(|child| child.node.last()),
        }
    }
}

impl<E> Branch<E> {
    /// The first child whose last entry is not before what is looked for, or the last one, if none
    /// is; and how many entries lie in front of it.
    pub(super) fn child(&self, at: &Sought<impl Fn(&E) -> Ordering>) -> (usize, usize) {
        let (mut place, mut before, open) = self.before(at.prefix);
        if open > 0 {
            let is_before =
                |child: &Child<E>| child.node.last().is_some_and(|last| (at.against)(last).is_lt());
            let more = self.0[place..place + open].partition_point(is_before);
            before += self.len_of(place..place + more);
            place += more;
        }
        let last = self.0.len() - 1;
        if place > last { (last, before - self.0[last].len()) } else { (place, before) }
    }

    /// How many children have a smaller prefix, how many entries these have, and how many children
    /// have the same prefix.
    #[inline(never)]
    fn before(&self, prefix: Prefix) -> (usize, usize, usize) {
        // They are so few that all are looked at without a branch.
        let (mut place, mut before, mut open) = (0, 0, 0);
        for child in &self.0 {
            let is_before = child.prefix < prefix;
            place += usize::from(is_before);
            before += if is_before { child.len() } else { 0 };
            open += usize::from(child.prefix == prefix);
        }
        (place, before, open)
    }

    /// How many entries some children have.
    #[inline]
    fn len_of(&self, children: Range<usize>) -> usize {
        self.0[children].iter().map(Child::len).sum()
    }
}

impl<E: Clone> Branch<E> {
    /// Joins a child that has grown small with a neighbour, if both fit into one.
    pub(super) fn join(&mut self, place: usize) {
        let children = &mut self.0;
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
        children[left].change(|left| match (left, &right.node) {
            (TreeNode::Leaf(left), TreeNode::Leaf(right)) => {
                left.entries = left.entries.iter().chain(&*right.entries).cloned().collect();
            }
            (TreeNode::Branch(left), TreeNode::Branch(right)) => {
                let left = &mut Arc::make_mut(left).0;
                right.0.iter().for_each(|child| left.push(child.clone()));
            }
            _ => unreachable!("children of one branch are of one kind"),
        });
    }
}

/// Takes all out of a node but what stands at some places.
pub(super) fn keep<E: Clone>(node: &mut TreeNode<E>, places: Range<usize>) {
    match node {
        TreeNode::Leaf(leaf) => {
            *node = TreeNode::leaf(&leaf.entries[places]);
        }
        TreeNode::Branch(branch) => {
            let mut start = 0;
            let children = branch.0.iter().filter_map(|child| {
                let (from, len) = (start, child.len());
                start += len;
                let here =
                    places.start.saturating_sub(from)..(places.end.saturating_sub(from)).min(len);
                if here.is_empty() {
                    return None;
                }
                let mut child = child.clone();
                if here.len() < len {
                    child.change(|node| keep(node, here));
                }
                Some(child)
            });
            let mut kept = Branch(children.collect());
            for place in [kept.0.len().saturating_sub(1), 0] {
                let is_small = |child: &Child<E>| child.node.width() * 3 < child.node.most();
                if kept.0.get(place).is_some_and(is_small) {
                    kept.join(place);
                }
            }
            *node = TreeNode::Branch(Arc::new(kept));
        }
    }
}

/// Takes what stands from a place on.
fn split<A: smallvec::Array>(from: &mut SmallVec<A>, place: usize) -> SmallVec<A> {
    let mut right = SmallVec::with_capacity(from.len() - place);
    while from.len() > place
        && let Some(last) = from.pop()
    {
        right.push(last);
    }
    right.reverse();
    right
}

/// Inserts below a node; gives the rank there, and the right half if the node had to be divided.
pub(super) fn insert<E: Clone>(
    node: &mut TreeNode<E>,
    entry: E,
    at: &Sought<impl Fn(&E) -> Ordering>,
) -> (usize, Option<TreeNode<E>>) {
    match node {
        TreeNode::Leaf(leaf) => {
            let place = leaf.find(at).unwrap_or_else(|place| place);
            leaf.entries = leaf.with(place, Keyed::new(at.prefix, entry));
            let most = most_entries::<E>();
            if leaf.entries.len() <= most {
                return (place, None);
            }
            let (left, right) = leaf.entries.split_at(most / 2);
            let right = TreeNode::leaf(right);
            leaf.entries = left.into();
            (place, Some(right))
        }
        TreeNode::Branch(branch) => {
            let (place, before) = branch.child(at);
            let children = &mut Arc::make_mut(branch).0;
            let (rank, sibling) = children[place].change(|node| insert(node, entry, at));
            if let Some(sibling) = sibling {
                children.insert(place + 1, Child::new(sibling));
            }
            let right = (children.len() > FAN).then(|| TreeNode::branch(split(children, FAN / 2)));
            (before + rank, right)
        }
    }
}

pub(super) fn remove<E: Clone>(
    node: &mut TreeNode<E>,
    at: &Sought<impl Fn(&E) -> Ordering>,
) -> Option<usize> {
    match node {
        TreeNode::Leaf(leaf) => {
            let place = leaf.find(at).ok()?;
            leaf.entries = leaf.without(place);
            Some(place)
        }
        TreeNode::Branch(branch) => {
            let (place, before) = branch.child(at);
            let branch = Arc::make_mut(branch);
            let rank = before + branch.0[place].change(|node| remove(node, at))?;
            let node = &branch.0[place].node;
            if node.width() * 3 < node.most() {
                branch.join(place);
            }
            Some(rank)
        }
    }
}
