//! A list whose versions share it: it lies in few parts, each several times as long as the next one,
//! so that a version with some more copies little.

use std::sync::Arc;

use smallvec::SmallVec;

/// A part is longer than the next one by more than this factor.
const FACTOR: usize = 4;

/// Elements in their order; or, if they are only added by [`Parts::add`], sorted in each part.
#[derive(Clone)]
pub(super) struct Parts<T>(SmallVec<[Arc<Vec<T>>; 2]>);

impl<T> Default for Parts<T> {
    fn default() -> Self {
        Self(SmallVec::new())
    }
}

impl<T: Clone> Parts<T> {
    /// The parts, in the order in which they were begun.
    pub(super) fn parts(&self) -> impl Iterator<Item = &[T]> {
        self.0.iter().map(|part| &***part)
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &T> {
        self.parts().flatten()
    }

    pub(super) fn len(&self) -> usize {
        self.parts().map(<[T]>::len).sum()
    }

    pub(super) fn last(&self) -> Option<&T> {
        self.0.last()?.last()
    }

    pub(super) fn get(&self, mut place: usize) -> Option<&T> {
        for part in self.parts() {
            match part.get(place) {
                Some(found) => return Some(found),
                None => place -= part.len(),
            }
        }
        None
    }

    /// Puts more behind all others.
    pub(super) fn append(&mut self, more: Vec<T>) {
        self.join(more, |_, _| false);
    }

    fn join(&mut self, mut joined: Vec<T>, is_before: impl Fn(&T, &T) -> bool) {
        if joined.is_empty() {
            return;
        }
        while let Some(part) = self.0.last().filter(|part| part.len() <= FACTOR * joined.len()) {
            let room = Vec::with_capacity(part.len() + joined.len());
            let mut later = std::mem::replace(&mut joined, room).into_iter().peekable();
            for one in part.iter() {
                while let Some(before) = later.next_if(|later| is_before(later, one)) {
                    joined.push(before);
                }
                joined.push(one.clone());
            }
            joined.extend(later);
            self.0.pop();
        }
        self.0.push(Arc::new(joined));
    }
}

impl<T: Clone + Ord> Parts<T> {
    /// Adds more, which are sorted.
    pub(super) fn add(&mut self, more: Vec<T>) {
        debug_assert!(more.is_sorted());
        self.join(more, |one, other| one < other);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// Each version is what was in it when it was made.
        #[test]
        fn versions_are_independent(
            first in prop::collection::vec(any::<u16>(), 0..40),
            added in prop::collection::vec(prop::collection::vec(any::<u16>(), 0..9), 0..60),
        ) {
            let sorted_of = |all: &[u16]| { let mut all = all.to_vec(); all.sort_unstable(); all };
            let (mut in_order, mut sorted) = (Parts::<u16>::default(), Parts::<u16>::default());
            in_order.append(first.clone());
            sorted.add(sorted_of(&first));
            let mut model = first;
            let mut kept = vec![(in_order.clone(), sorted.clone(), model.len())];
            for more in added {
                model.extend(&more);
                sorted.add(sorted_of(&more));
                in_order.append(more);
                kept.push((in_order.clone(), sorted.clone(), model.len()));
            }
            for (in_order, sorted, len) in kept {
                let model = &model[..len];
                prop_assert_eq!(in_order.len(), len);
                prop_assert!(in_order.iter().eq(model));
                prop_assert_eq!(in_order.last(), model.last());
                prop_assert!((0..=len).all(|place| in_order.get(place) == model.get(place)));
                prop_assert!(sorted.parts().all(<[u16]>::is_sorted));
                prop_assert!(sorted.0.windows(2).all(|two| two[0].len() > FACTOR * two[1].len()));
                prop_assert_eq!(sorted_of(&Vec::from_iter(sorted.iter().copied())), sorted_of(model));
            }
        }
    }
}
