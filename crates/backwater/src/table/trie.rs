//! A vector whose versions share their parts: a shallow tree of reference-counted nodes.

use std::sync::Arc;

use smallvec::{SmallVec, smallvec};

/// A node has 2 to this power of children.
const BITS: u32 = 4;
const FAN: usize = 1 << BITS;

/// A persistent vector. A clone costs one reference; a write copies the path to what it touches,
/// as far as that path is shared with another version.
#[derive(Clone)]
pub(crate) struct Trie<T> {
    root: Arc<TrieNode<T>>,
    /// Levels of branches above the last nodes.
    height: u32,
    len: usize,
}

/// Children lie in the node itself: a step down is one place in memory.
#[derive(Clone)]
enum TrieNode<T> {
    Branch(SmallVec<[Arc<TrieNode<T>>; FAN]>),
    /// A node whose children are what the vector holds.
    Last(SmallVec<[Arc<T>; FAN]>),
}

impl<T: Clone> Trie<T> {
    pub(crate) fn new() -> Self {
        Self { root: Arc::new(TrieNode::Last(SmallVec::new())), height: 0, len: 0 }
    }

    pub(crate) fn len(&self) -> usize {
        self.len
    }

    /// # Panics
    /// If `index` is not below the length: indexes come from our own tables only.
    #[inline]
    pub(crate) fn get(&self, index: usize) -> &T {
        let (mut node, mut level) = (&*self.root, self.height);
        loop {
            match node {
                TrieNode::Last(children) => return &children[place(index, level)],
                TrieNode::Branch(children) => node = &children[place(index, level)],
            }
            level -= 1;
        }
    }

    /// # Panics
    /// As [`Trie::get`].
    pub(crate) fn get_mut(&mut self, index: usize) -> &mut T {
        let (mut node, mut level) = (Arc::make_mut(&mut self.root), self.height);
        loop {
            match node {
                TrieNode::Last(children) => {
                    return Arc::make_mut(&mut children[place(index, level)]);
                }
                TrieNode::Branch(children) => {
                    node = Arc::make_mut(&mut children[place(index, level)])
                }
            }
            level -= 1;
        }
    }

    pub(crate) fn push(&mut self, value: T) {
        let index = self.len;
        self.len += 1;
        if index == FAN << (BITS * self.height) {
            self.root = Arc::new(TrieNode::Branch(smallvec![self.root.clone()]));
            self.height += 1;
        }
        let (mut node, mut level) = (Arc::make_mut(&mut self.root), self.height);
        loop {
            match node {
                TrieNode::Last(children) => return children.push(Arc::new(value)),
                TrieNode::Branch(children) => {
                    let place = place(index, level);
                    level -= 1;
                    if place == children.len() {
                        children.push(Arc::new(match level {
                            0 => TrieNode::Last(SmallVec::new()),
                            _ => TrieNode::Branch(SmallVec::new()),
                        }));
                    }
                    node = Arc::make_mut(&mut children[place]);
                }
            }
        }
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = &T> {
        let mut stack: Vec<&TrieNode<T>> = vec![&self.root];
        let mut last: &[Arc<T>] = &[];
        std::iter::from_fn(move || {
            loop {
                if let Some((value, rest)) = last.split_first() {
                    last = rest;
                    return Some(&**value);
                }
                match stack.pop()? {
                    TrieNode::Last(children) => last = children,
                    TrieNode::Branch(children) => {
                        stack.extend(children.iter().rev().map(|child| &**child));
                    }
                }
            }
        })
    }
}

/// The child to take at a branch with `level` levels of branches below it.
#[inline]
fn place(index: usize, level: u32) -> usize {
    index >> (BITS * level) & (FAN - 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// A version stays as it was, whatever is done to its clone.
        #[test]
        fn versions_are_independent(len in 0..600_usize, writes in prop::collection::vec((0..600_usize, 0..9_u8), 0..40)) {
            let mut trie = Trie::new();
            (0..len).for_each(|number| trie.push(number));
            let kept = trie.clone();
            let mut model: Vec<usize> = (0..len).collect();
            for (index, what) in writes {
                if what == 0 || index >= model.len() {
                    trie.push(index);
                    model.push(index);
                } else {
                    *trie.get_mut(index) = index + 1000;
                    model[index] = index + 1000;
                }
            }
            prop_assert_eq!(trie.iter().copied().collect::<Vec<_>>(), model.clone());
            prop_assert!((0..model.len()).all(|index| *trie.get(index) == model[index]));
            prop_assert_eq!(kept.iter().copied().collect::<Vec<_>>(), (0..len).collect::<Vec<_>>());
        }
    }
}
