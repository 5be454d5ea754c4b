//! Entries on their way into an order.

use std::cmp::Ordering;

use crate::query::operator::order::rank_tree::{Prefix, RankTree};
use crate::sorting::{self, Numbered};

/// Entries that are in no order yet. They are sorted by numbers that stand for them, so that one
/// sort serves entries of all kinds.
pub(super) struct Unordered<E> {
    entries: Vec<E>,
    places: Vec<Numbered>,
    /// How many of the first are certain, since later ones were left out.
    certain: Option<usize>,
}

impl<E: Clone> Unordered<E> {
    pub(super) fn new() -> Self {
        Self { entries: Vec::new(), places: Vec::new(), certain: None }
    }

    pub(super) fn len(&self) -> usize {
        self.entries.len()
    }

    pub(super) fn push(&mut self, prefix: Prefix, entry: E) {
        self.places.push((prefix, self.entries.len() as u32));
        self.entries.push(entry);
    }

    /// Keeps only the first ones, as many as are needed, if there are far more. Of those that come
    /// later some may stand behind ones that have left: in the end only so many are certain.
    pub(super) fn keep_first(&mut self, few: Option<usize>, order: &dyn Fn(&E, &E) -> Ordering) {
        let Some(room) = few.and_then(|few| RankTree::<E>::room(few, self.len())) else { return };
        let entries = &self.entries;
        sorting::first_numbers(&mut self.places, room, &|a, b| order(&entries[a], &entries[b]));
        self.places.truncate(room);
        self.entries = self.places.iter().map(|(_, at)| entries[*at as usize].clone()).collect();
        self.places.iter_mut().zip(0..).for_each(|((_, at), number)| *at = number);
        self.certain = Some(self.certain.map_or(room, |certain| certain.min(room)));
    }

    /// The tree of them, or of the first ones, if only a few are needed.
    pub(super) fn in_order(
        mut self,
        few: Option<usize>,
        order: &dyn Fn(&E, &E) -> Ordering,
    ) -> RankTree<E> {
        let before = self.certain;
        self.keep_first(few, order);
        let Self { entries, mut places, certain } = self;
        sorting::numbers(&mut places, &|a, b| order(&entries[a], &entries[b]));
        places.truncate(before.unwrap_or(usize::MAX));
        let entry = |(prefix, at): &Numbered| (*prefix, entries[*at as usize].clone());
        let mut sorted = places.iter().map(entry);
        match certain {
            Some(_) => RankTree::from_first(&mut sorted),
            None => RankTree::from_sorted(&mut sorted),
        }
    }
}
