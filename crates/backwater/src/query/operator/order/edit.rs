//! What operators hand to the order: what happens to its entries.

use smallvec::SmallVec;

/// What happens to the entries of an order; mostly to one or two.
pub(crate) type Edits<E> = SmallVec<[Edit<E>; 2]>;

/// What happens to one entry of the order.
#[derive(Debug, Clone)]
pub(crate) enum Edit<E> {
    Enter(E),
    Leave(E),
    /// It stays as it is, where it is; what its rows hold has changed, and shows.
    Change(E),
    Replace {
        old: E,
        new: E,
        /// Whether its place in the order may be another one.
        reorder: bool,
        /// Whether its visible columns changed.
        changed: bool,
    },
}

impl<E> Edit<E> {
    /// The entry that is not where it was.
    pub(super) fn taken_out(&self) -> Option<&E> {
        match self {
            Edit::Leave(old) | Edit::Replace { old, reorder: true, .. } => Some(old),
            _ => None,
        }
    }

    /// The entry that is where it was not.
    pub(super) fn put_in(&self) -> Option<&E> {
        match self {
            Edit::Enter(new) | Edit::Replace { new, reorder: true, .. } => Some(new),
            _ => None,
        }
    }
}
