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
    Leaf(Arc<Leaf<E>>),
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

/// Nodes below a node, all of one kind, and what is known of them without a look at them. What a
/// search goes by lies together.
pub(super) struct Branch<E> {
    /// The prefix of each child's last entry; where there is no child, the largest.
    prefixes: [Prefix; FAN + 1],
    /// How many entries lie up to each child's end; where there is no child, the largest number.
    ends: [u32; FAN + 1],
    children: SmallVec<[TreeNode<E>; FAN + 1]>,
}

impl<E> Default for Branch<E> {
    fn default() -> Self {
        let (prefixes, ends) = ([Prefix::MAX; FAN + 1], [u32::MAX; FAN + 1]);
        Self { prefixes, ends, children: SmallVec::new() }
    }
}

impl<E> Clone for Branch<E> {
    fn clone(&self) -> Self {
        let mut children = SmallVec::with_capacity(self.children.len());
        self.children.iter().for_each(|child| children.push(child.clone()));
        Self { children, ..*self }
    }
}

/// Neighbouring entries.
pub(crate) struct Leaf<E> {
    /// Many results have one row alone.
    pub(super) entries: SmallVec<[Keyed<E>; 1]>,
}

impl<E: Clone> Clone for Leaf<E> {
    fn clone(&self) -> Self {
        if let [only] = &*self.entries {
            return Self { entries: SmallVec::from_buf([only.clone()]) };
        }
        // A leaf is copied when something is about to be put in.
        let mut entries = Vec::with_capacity(self.entries.len() + 1);
        entries.extend_from_slice(&self.entries);
        Self { entries: entries.into() }
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

impl<E> TreeNode<E> {
    pub(super) fn leaf(entries: SmallVec<[Keyed<E>; 1]>) -> Self {
        TreeNode::Leaf(Arc::new(Leaf { entries }))
    }

    /// A node over others.
    pub(super) fn branch(children: impl IntoIterator<Item = TreeNode<E>>) -> Self {
        let mut branch = Branch::default();
        children.into_iter().for_each(|child| branch.insert(branch.children.len(), child));
        TreeNode::Branch(Arc::new(branch))
    }

    pub(super) fn len(&self) -> usize {
        match self {
            TreeNode::Leaf(leaf) => leaf.entries.len(),
            TreeNode::Branch(branch) => branch.start(branch.children.len()),
        }
    }

    pub(super) fn last_prefix(&self) -> Option<Prefix> {
        match self {
            TreeNode::Leaf(leaf) => leaf.entries.last().map(Keyed::prefix),
            TreeNode::Branch(branch) => {
                branch.children.len().checked_sub(1).map(|last| branch.prefixes[last])
            }
        }
    }

    /// How many entries or children the node has of its own.
    pub(super) fn width(&self) -> usize {
        match self {
            TreeNode::Leaf(leaf) => leaf.entries.len(),
            TreeNode::Branch(branch) => branch.children.len(),
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
            TreeNode::Branch(branch) => branch.children.last().and_then(TreeNode::last),
        }
    }
}

impl<E> TreeNode<E> {
    /// Has what a search looks at first come from memory; nothing waits for it.
    #[inline]
    pub(super) fn fetch(&self) {
        match self {
            TreeNode::Leaf(leaf) => {
                let middle = leaf.entries.get(leaf.entries.len() / 2);
                std::hint::black_box(middle.map(Keyed::prefix));
            }
            TreeNode::Branch(branch) => {
                std::hint::black_box((branch.prefixes[FAN], branch.ends[FAN]));
            }
        }
    }
}

impl<E> Branch<E> {
    pub(super) fn child(&self, place: usize) -> &TreeNode<E> {
        &self.children[place]
    }

    /// The only child.
    pub(super) fn only(&self) -> Option<&TreeNode<E>> {
        match &*self.children {
            [only] => Some(only),
            _ => None,
        }
    }

    /// How many entries lie in front of a child.
    #[inline]
    pub(super) fn start(&self, place: usize) -> usize {
        place.checked_sub(1).map_or(0, |before| self.ends[before] as usize)
    }

    /// The place of the child in which the entry of a rank lies, which is there.
    #[inline]
    pub(super) fn at_rank(&self, rank: usize) -> usize {
        // They are so few that all are looked at without a branch.
        self.ends.iter().map(|end| usize::from(*end as usize <= rank)).sum()
    }

    /// The place of the first child whose last entry is not before what is looked for, or of the
    /// last one, if none is.
    #[inline]
    pub(super) fn at(&self, at: &Sought<impl Fn(&E) -> Ordering>) -> usize {
        let last = self.children.len() - 1;
        let place: usize =
            self.prefixes.iter().map(|prefix| usize::from(*prefix < at.prefix)).sum();
        if place >= last || self.prefixes[place] != at.prefix {
            return place.min(last);
        }
        self.among_equal(place, at)
    }

    /// The same among children of the same prefix, from a place on.
    #[inline(never)]
    fn among_equal(&self, place: usize, at: &Sought<impl Fn(&E) -> Ordering>) -> usize {
        let same = self.prefixes[place..].iter().take_while(|prefix| **prefix == at.prefix);
        let end = (place + same.count()).min(self.children.len());
        let is_before =
            |child: &TreeNode<E>| child.last().is_some_and(|last| (at.against)(last).is_lt());
        let place = place + self.children[place..end].partition_point(is_before);
        place.min(self.children.len() - 1)
    }

    fn insert(&mut self, place: usize, child: TreeNode<E>) {
        let (len, prefix) = (child.len() as u32, child.last_prefix().unwrap_or(0));
        let (start, count) = (self.start(place) as u32, self.children.len());
        self.prefixes.copy_within(place..count, place + 1);
        self.ends.copy_within(place..count, place + 1);
        self.ends[place + 1..=count].iter_mut().for_each(|end| *end += len);
        (self.prefixes[place], self.ends[place]) = (prefix, start + len);
        self.children.insert(place, child);
    }

    fn remove(&mut self, place: usize) -> TreeNode<E> {
        let (len, count) = (self.ends[place] - self.start(place) as u32, self.children.len());
        self.prefixes.copy_within(place + 1..count, place);
        self.ends.copy_within(place + 1..count, place);
        self.ends[place..count - 1].iter_mut().for_each(|end| *end -= len);
        (self.prefixes[count - 1], self.ends[count - 1]) = (Prefix::MAX, u32::MAX);
        self.children.remove(place)
    }

    /// The child at a place, to put another entry into the place of one.
    pub(super) fn child_mut(&mut self, place: usize) -> &mut TreeNode<E> {
        &mut self.children[place]
    }

    /// Does something with a child, of which more or others are known then.
    fn change<T>(&mut self, place: usize, change: impl FnOnce(&mut TreeNode<E>) -> T) -> T {
        let done = change(&mut self.children[place]);
        let child = &self.children[place];
        self.prefixes[place] = child.last_prefix().unwrap_or(0);
        let (old, new) = (self.ends[place], (self.start(place) + child.len()) as u32);
        let ends = self.ends[place..self.children.len()].iter_mut();
        ends.for_each(|end| *end = *end - old + new);
        done
    }

    /// Takes the second half of the children, where they are too many.
    fn split(&mut self) -> Option<TreeNode<E>> {
        let mut right = Self::default();
        if self.children.len() <= FAN {
            return None;
        }
        while self.children.len() > FAN / 2 {
            right.insert(0, self.remove(self.children.len() - 1));
        }
        Some(TreeNode::Branch(Arc::new(right)))
    }
}

impl<E: Clone> Branch<E> {
    /// Joins a child that has grown small with a neighbour, if both fit into one.
    fn join(&mut self, place: usize) {
        let children = &self.children;
        if children[place].len() == 0 && children.len() > 1 {
            self.remove(place);
            return;
        }
        let left = place.saturating_sub(1);
        let fits = children
            .get(left + 1)
            .is_some_and(|right| children[left].width() + right.width() <= right.most());
        if !fits {
            return;
        }
        let right = self.remove(left + 1);
        self.change(left, |left| match (left, &right) {
            (TreeNode::Leaf(left), TreeNode::Leaf(right)) => {
                let left = &mut Arc::make_mut(left).entries;
                right.entries.iter().for_each(|entry| left.push(entry.clone()));
            }
            (TreeNode::Branch(left), TreeNode::Branch(right)) => {
                let left = Arc::make_mut(left);
                let right = right.children.iter().cloned();
                right.for_each(|child| left.insert(left.children.len(), child));
            }
            _ => unreachable!("children of one branch are of one kind"),
        });
    }
}

/// Takes all out of a node but what stands at some places.
pub(super) fn keep<E: Clone>(node: &mut TreeNode<E>, places: Range<usize>) {
    match node {
        TreeNode::Leaf(leaf) => {
            *node = TreeNode::leaf(leaf.entries[places].iter().cloned().collect());
        }
        TreeNode::Branch(branch) => {
            let mut kept = Branch::default();
            for (place, child) in branch.children.iter().enumerate() {
                let (from, end) = (branch.start(place), branch.start(place + 1));
                let here = places.start.max(from)..places.end.min(end);
                if here.is_empty() {
                    continue;
                }
                let mut child = child.clone();
                if here.len() < end - from {
                    keep(&mut child, here.start - from..here.end - from);
                }
                kept.insert(kept.children.len(), child);
            }
            for place in [kept.children.len().saturating_sub(1), 0] {
                let is_small = |child: &TreeNode<E>| child.width() * 3 < child.most();
                if kept.children.get(place).is_some_and(is_small) {
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
            let entries = &mut Arc::make_mut(leaf).entries;
            entries.insert(place, Keyed::new(at.prefix, entry));
            let most = most_entries::<E>();
            let right = (entries.len() > most).then(|| TreeNode::leaf(split(entries, most / 2)));
            (place, right)
        }
        TreeNode::Branch(branch) => {
            let place = branch.at(at);
            let branch = Arc::make_mut(branch);
            let (rank, sibling) = branch.change(place, |node| insert(node, entry, at));
            if let Some(sibling) = sibling {
                branch.insert(place + 1, sibling);
            }
            (branch.start(place) + rank, branch.split())
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
            Arc::make_mut(leaf).entries.remove(place);
            Some(place)
        }
        TreeNode::Branch(branch) => {
            let place = branch.at(at);
            let branch = Arc::make_mut(branch);
            let rank = branch.start(place) + branch.change(place, |node| remove(node, at))?;
            let node = &branch.children[place];
            if node.width() * 3 < node.most() {
                branch.join(place);
            }
            Some(rank)
        }
    }
}
