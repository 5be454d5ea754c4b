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
pub(super) struct Branch<E>(pub(super) Children<E>);

pub(super) type Children<E> = SmallVec<[Child<E>; FAN + 1]>;

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
    /// How many entries of the branch lie up to its end.
    pub(super) end: u32,
    /// Of its last entry.
    pub(super) prefix: Prefix,
}

impl<E> Clone for Child<E> {
    #[inline]
    fn clone(&self) -> Self {
        Self { node: self.node.clone(), ..*self }
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

    /// How many entries have a smaller prefix. Each line of memory is looked at, and all of them at
    /// once: the steps of a binary search would wait for one line after the other.
    #[inline]
    fn first_from(&self, prefix: Prefix) -> usize {
        let of_line = const {
            let fit = 64 / size_of::<Keyed<E>>();
            if fit > 0 { fit } else { 1 }
        };
        let is_before = |keyed: &Keyed<E>| usize::from(keyed.prefix() < prefix);
        let lines = self.entries.chunks_exact(of_line);
        let before = of_line * lines.map(|line| is_before(&line[of_line - 1])).sum::<usize>();
        let last = self.entries[before..].iter().take(of_line);
        before + last.map(is_before).sum::<usize>()
    }

    /// Whether at least this many entries have a smaller prefix.
    #[inline]
    pub(super) fn has_before(&self, many: usize, prefix: Prefix) -> bool {
        self.entries.get(many - 1).is_some_and(|keyed| keyed.prefix() < prefix)
    }

    pub(super) fn find(&self, sought: &Sought<impl Fn(&E) -> Ordering>) -> Result<usize, usize> {
        self.find_from(self.first_from(sought.prefix), sought)
    }

    /// The same where it is known how many entries have a smaller prefix.
    pub(super) fn find_from(
        &self,
        first: usize,
        sought: &Sought<impl Fn(&E) -> Ordering>,
    ) -> Result<usize, usize> {
        // Mostly at most one has the same prefix.
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

    pub(super) fn branch(branch: Branch<E>) -> Self {
        TreeNode::Branch(Arc::new(branch))
    }

    pub(super) fn len(&self) -> usize {
        match self {
            TreeNode::Leaf(leaf) => leaf.entries.len(),
            TreeNode::Branch(branch) => branch.start(branch.0.len()),
        }
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
        // They are so few that all are looked at without a branch.
        let is_before = |child: &Child<E>| usize::from(child.prefix < at.prefix);
        let mut place: usize = self.0.iter().map(is_before).sum();
        if self.0.get(place).is_some_and(|child| child.prefix == at.prefix) {
            let open = self.0[place..].iter().take_while(|child| child.prefix == at.prefix);
            let open = place..place + open.count();
            place += self.0[open].partition_point(|child| {
                child.node.last().is_some_and(|last| (at.against)(last).is_lt())
            });
        }
        let place = place.min(self.0.len() - 1);
        (place, self.start(place))
    }

    /// How many entries lie in front of a child.
    #[inline]
    pub(super) fn start(&self, place: usize) -> usize {
        place.checked_sub(1).map_or(0, |before| self.0[before].end as usize)
    }

    /// How many entries lie in a child.
    #[inline]
    fn len_of(&self, place: usize) -> usize {
        self.0[place].end as usize - self.start(place)
    }

    pub(super) fn of(nodes: impl IntoIterator<Item = TreeNode<E>>) -> Self {
        let mut branch = Self(Children::new());
        nodes.into_iter().for_each(|node| branch.insert(branch.0.len(), node));
        branch
    }

    /// Puts a child in at a place.
    fn insert(&mut self, place: usize, node: TreeNode<E>) {
        let (end, prefix) = (self.start(place) as u32, node.last_prefix().unwrap_or(0));
        let len = node.len();
        self.0.insert(place, Child { node, end, prefix });
        self.grow(place, len);
    }

    /// Puts a child behind the others, without a look at it.
    fn push(&mut self, node: TreeNode<E>, len: usize, prefix: Prefix) {
        let end = (self.start(self.0.len()) + len) as u32;
        self.0.push(Child { node, end, prefix });
    }

    /// Puts some children of another branch behind the others.
    fn extend(&mut self, other: &Self, places: Range<usize>) {
        for place in places {
            let child = &other.0[place];
            self.push(child.node.clone(), other.len_of(place), child.prefix);
        }
    }

    /// Takes a child out.
    fn remove(&mut self, place: usize) -> TreeNode<E> {
        let child = self.0.remove(place);
        self.grow(place, self.start(place).wrapping_sub(child.end as usize));
        child.node
    }

    /// Does something with a child, of which more or others are known then.
    pub(super) fn change<T>(
        &mut self,
        place: usize,
        change: impl FnOnce(&mut TreeNode<E>) -> T,
    ) -> T {
        let child = &mut self.0[place];
        let len = child.node.len();
        let done = change(&mut child.node);
        child.prefix = child.node.last_prefix().unwrap_or(0);
        let more = child.node.len().wrapping_sub(len);
        self.grow(place, more);
        done
    }

    /// From a child on, all have moved by so many entries, or by so many less than none.
    #[inline]
    fn grow(&mut self, place: usize, more: usize) {
        for child in &mut self.0[place..] {
            child.end = child.end.wrapping_add(more as u32);
        }
    }
}

impl<E: Clone> Branch<E> {
    /// Takes the children from a place on.
    fn split(&mut self, place: usize) -> Self {
        let mut right = Self(Children::new());
        right.extend(self, place..self.0.len());
        self.0.truncate(place);
        right
    }

    /// Joins a child that has grown small with a neighbour, if both fit into one.
    pub(super) fn join(&mut self, place: usize) {
        if self.len_of(place) == 0 && self.0.len() > 1 {
            self.remove(place);
            return;
        }
        let left = place.saturating_sub(1);
        let fits = self.0.get(left + 1).is_some_and(|right| {
            self.0[left].node.width() + right.node.width() <= right.node.most()
        });
        if !fits {
            return;
        }
        let right = self.remove(left + 1);
        self.change(left, |left| match (left, &right) {
            (TreeNode::Leaf(left), TreeNode::Leaf(right)) => {
                left.entries = left.entries.iter().chain(&*right.entries).cloned().collect();
            }
            (TreeNode::Branch(left), TreeNode::Branch(right)) => {
                Arc::make_mut(left).extend(right, 0..right.0.len());
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
            let mut kept = Branch(Children::new());
            for (place, child) in branch.0.iter().enumerate() {
                let (from, len) = (branch.start(place), branch.len_of(place));
                let here =
                    places.start.saturating_sub(from)..(places.end.saturating_sub(from)).min(len);
                if here.is_empty() {
                    continue;
                }
                let mut node = child.node.clone();
                if here.len() == len {
                    kept.push(node, len, child.prefix);
                } else {
                    keep(&mut node, here);
                    kept.insert(kept.0.len(), node);
                }
            }
            for place in [kept.0.len().saturating_sub(1), 0] {
                let is_small = |child: &Child<E>| child.node.width() * 3 < child.node.most();
                if kept.0.get(place).is_some_and(is_small) {
                    kept.join(place);
                }
            }
            *node = TreeNode::branch(kept);
        }
    }
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
            let branch = Arc::make_mut(branch);
            let (rank, sibling) = branch.change(place, |node| insert(node, entry, at));
            if let Some(sibling) = sibling {
                branch.insert(place + 1, sibling);
            }
            let right = (branch.0.len() > FAN).then(|| TreeNode::branch(branch.split(FAN / 2)));
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
            let rank = before + branch.change(place, |node| remove(node, at))?;
            let node = &branch.0[place].node;
            if node.width() * 3 < node.most() {
                branch.join(place);
            }
            Some(rank)
        }
    }
}
