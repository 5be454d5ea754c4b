//! What the objects of a response did, table by table.

use rustc_hash::FxHashSet;
use smallvec::SmallVec;

use crate::change::Touched;
use crate::schema::TableNo;
use crate::sorting;
use crate::table::Slot;

/// What was met of one table.
pub(super) struct Counts {
    pub(super) table: TableNo,
    pub(super) objects: usize,
    pub(super) rows: usize,
    pub(super) inserted: usize,
    pub(super) seen: Touched,
    pub(super) changed: Touched,
    /// Rows that were met more than once, or of which a field was: whether they changed has to be
    /// looked at again.
    pub(super) twice: FxHashSet<Slot>,
    pub(super) deleted: usize,
}

impl Counts {
    fn new(table: TableNo) -> Self {
        let (seen, changed, twice) = Default::default();
        Self { table, objects: 0, rows: 0, inserted: 0, seen, changed, twice, deleted: 0 }
    }

    /// An object was met that is this row.
    #[inline]
    pub(super) fn meet(&mut self, slot: Slot) {
        self.objects += 1;
        match self.seen.insert(slot) {
            true => self.rows += 1,
            false => drop(self.twice.insert(slot)),
        }
    }
}

/// What was met of all tables. Most responses are of few of many.
pub(super) struct Tally {
    /// Of each table by its number, the place of its counts, from 1.
    places: SmallVec<[u32; 16]>,
    counts: Vec<Counts>,
}

impl Tally {
    /// For so many tables.
    pub(super) fn new(tables: usize) -> Self {
        Self { places: SmallVec::from_elem(0, tables), counts: Vec::new() }
    }

    #[inline]
    pub(super) fn of(&mut self, table: TableNo) -> &mut Counts {
        let place = &mut self.places[table.index()];
        if *place == 0 {
            self.counts.push(Counts::new(table));
            *place = self.counts.len() as u32;
        }
        &mut self.counts[*place as usize - 1]
    }

    /// The tables that were met.
    pub(super) fn iter(&self) -> impl Iterator<Item = &Counts> {
        self.counts.iter()
    }

    /// What was met, in the schema's order; nothing is added to it from then on.
    pub(super) fn finish(&mut self) -> &[Counts] {
        self.counts.retain(|counts| counts.objects > 0 || counts.deleted > 0);
        sorting::by_key(&mut self.counts, |counts| counts.table.0.into());
        &self.counts
    }
}
