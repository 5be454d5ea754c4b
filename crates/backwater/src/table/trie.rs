//! A vector whose versions share their parts: a shallow tree of reference-counted nodes.

use std::sync::Arc;

use smallvec::{SmallVec, smallvec};

/// A node has 2 to this power of children.
const BITS: u32 = 4;
const FAN: usize = 1 << BITS;

/// A persistent vector. A clone costs one reference; a write copies the path to what it touches,
/// as far as that path is shared with another version.
#[derive(Clone)]
pub(super) struct Trie<T> {
    root: Option<Arc<Node<T>>>,
    /// Levels of branches above the leaves.
    height: u32,
    len: usize,
}

/// Children lie in the node itself: a step down is one place in memory.
#[derive(Clone)]
enum Node<T> {
    Branch(SmallVec<[Arc<Node<T>>; FAN]>),
    Leaf(T),
}

impl<T: Clone> Trie<T> {
    pub(super) fn new() -> Self {
        Self { root: None, height: 0, len: 0 }
    }

    pub(super) fn len(&self) -> usize {
        self.len
    }

    /// # Panics
    /// If `index` is not below the length: indexes come from our own tables only.
    pub(super) fn get(&self, index: usize) -> &T {
        assert!(index < self.len, "an index beyond the vector");
        let mut node = self.root.as_deref();
        let mut level = self.height;
        loop {
            match node {
                Some(Node::Leaf(value)) => return value,
                Some(Node::Branch(children)) => {
                    level -= 1;
                    node = Some(&*children[place(index, level)]);
                }
                None => unreachable!("a vector that is not empty has a root"),
            }
        }
    }

    /// # Panics
    /// As [`Trie::get`].
    pub(super) fn get_mut(&mut self, index: usize) -> &mut T {
        assert!(index < self.len, "an index beyond the vector");
        let mut level = self.height;
        let Some(root) = &mut self.root else {
            unreachable!("a vector that is not empty has a root")
        };
        let mut node = Arc::make_mut(root);
        loop {
            match node {
                Node::Leaf(value) => return value,
                Node::Branch(children) => {
                    level -= 1;
                    node = Arc::make_mut(&mut children[place(index, level)]);
                }
            }
        }
    }

    pub(super) fn push(&mut self, value: T) {
        let index = self.len;
        self.len += 1;
        let Some(root) = &mut self.root else {
            self.root = Some(Arc::new(Node::Leaf(value)));
            return;
        };
        if index == 1 << (BITS * self.height) {
            let old = root.clone();
            *root = Arc::new(Node::Branch(smallvec![old]));
            self.height += 1;
        }
        let mut level = self.height;
        let mut node = Arc::make_mut(root);
        while let Node::Branch(children) = node {
            level -= 1;
            let place = place(index, level);
            if place == children.len() {
                let leaf = Arc::new(Node::Leaf(value));
                children.push(
                    (0..level).fold(leaf, |child, _| Arc::new(Node::Branch(smallvec![child]))),
                );
                return;
            }
            node = Arc::make_mut(&mut children[place]);
        }
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &T> {
        let mut stack: Vec<&Node<T>> = self.root.as_deref().into_iter().collect();
        std::iter::from_fn(move || {
            loop {
                match stack.pop()? {
                    Node::Leaf(value) => return Some(value),
                    Node::Branch(children) => {
                        stack.extend(children.iter().rev().map(|child| &**child))
                    }
                }
            }
        })
    }
}

/// The child to take at a branch with `level` levels of branches below it.
fn place(index: usize, level: u32) -> usize {
    index >> (BITS * level) & (FAN - 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// A version that is kept stays as it was, whatever is done to its clone.
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
