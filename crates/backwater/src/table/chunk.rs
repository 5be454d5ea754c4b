//! A few hundred neighbouring slots of one table: which are rows, and a segment a field.

use std::sync::Arc;

use smallvec::SmallVec;

use super::Cell;
use super::dictionary::Dictionary;
use super::segment::{Bits, Segment};
use crate::schema::{FieldNo, Kind};

#[derive(Clone)]
pub(super) struct Chunk {
    present: Bits,
    segments: SmallVec<[Arc<Segment>; 8]>,
}

impl Chunk {
    pub(super) fn new(kinds: &[Kind]) -> Self {
        Self {
            present: Bits::default(),
            segments: kinds.iter().map(|kind| Arc::new(Segment::new(*kind))).collect(),
        }
    }

    pub(super) fn is_row(&self, at: usize) -> bool {
        self.present.get(at)
    }

    pub(super) fn set_row(&mut self, at: usize, is_row: bool) {
        self.present.set(at, is_row);
    }

    /// The places of the rows.
    pub(super) fn rows(&self) -> impl Iterator<Item = usize> {
        self.present.ones()
    }

    pub(super) fn cell<'a>(
        &'a self,
        at: usize,
        field: FieldNo,
        dictionary: &'a Dictionary,
    ) -> Cell<'a> {
        self.segments[field.index()].get(at, dictionary)
    }

    pub(super) fn set(
        &mut self,
        at: usize,
        field: FieldNo,
        cell: Cell<'_>,
        dictionary: &Dictionary,
    ) {
        Arc::make_mut(&mut self.segments[field.index()]).set(at, cell, dictionary);
    }

    /// Takes the row at a place away, and all its fields but the one to keep.
    pub(super) fn clear(&mut self, at: usize, kept: Option<FieldNo>) {
        self.present.set(at, false);
        for (number, segment) in self.segments.iter_mut().enumerate() {
            if kept.map(FieldNo::index) != Some(number) && !segment.is_absent(at) {
                Arc::make_mut(segment).clear(at);
            }
        }
    }
}
