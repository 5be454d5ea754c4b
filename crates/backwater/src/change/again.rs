//! What a commit wrote without changing it.

use rustc_hash::FxHashMap;

use super::{FieldSet, RowAt};
use crate::schema::TableNo;
use crate::sorting;
use crate::table::{Slot, row_key};

/// What a commit wrote of rows that recent commits had changed, whether or not it changed it. There
/// may be very many, as where a long response is repeated: each takes few bytes.
#[derive(Default)]
pub(crate) struct WrittenAgain {
    /// By table: slots, and which of the sets of fields was written.
    fields: Vec<Vec<(Slot, u32)>>,
    sets: Vec<FieldSet>,
    /// The set that was written last, and all of them.
    last: u32,
    numbers: FxHashMap<FieldSet, u32>,
    /// Rows that were deleted, which those commits had deleted already.
    gone: Vec<(RowAt, u64)>,
}

pub(super) enum Again<'w> {
    Fields(&'w FieldSet),
    /// The row was deleted, which that commit had deleted already.
    Gone(u64),
}

impl WrittenAgain {
    pub(crate) fn add(&mut self, (table, slot): RowAt, fields: FieldSet) {
        if self.sets.get(self.last as usize) != Some(&fields) {
            self.last = self.number(fields);
        }
        if self.fields.len() <= table.index() {
            self.fields.resize_with(table.index() + 1, Vec::new);
        }
        let of_table = &mut self.fields[table.index()];
        if of_table.last() != Some(&(slot, self.last)) {
            of_table.push((slot, self.last));
        }
    }

    /// The number of a set. While there are few, looking through them is faster than hashing.
    fn number(&mut self, fields: FieldSet) -> u32 {
        const FEW: usize = 8;
        let next = self.sets.len() as u32;
        if self.sets.len() <= FEW {
            if let Some(number) = self.sets.iter().position(|set| *set == fields) {
                return number as u32;
            }
        } else {
            if self.numbers.is_empty() {
                self.numbers = self.sets.iter().cloned().zip(0..).collect();
            }
            if let Some(number) = self.numbers.get(&fields) {
                return *number;
            }
            self.numbers.insert(fields.clone(), next);
        }
        self.sets.push(fields);
        next
    }

    pub(super) fn add_gone(&mut self, place: RowAt, by: u64) {
        self.gone.push((place, by));
    }

    /// The same in order, each once, if there is any.
    pub(super) fn finished(mut self) -> Option<Box<Self>> {
        if self.sets.is_empty() && self.gone.is_empty() {
            return None;
        }
        for of_table in &mut self.fields {
            of_table.sort_unstable();
            of_table.dedup();
        }
        sorting::by_key(&mut self.gone, |(_, number)| *number);
        sorting::by_key(&mut self.gone, |(row, _)| row_key(*row));
        self.gone.dedup();
        self.numbers = FxHashMap::default();
        Some(Box::new(self))
    }

    pub(crate) fn len(&self) -> usize {
        self.fields.iter().map(Vec::len).sum::<usize>() + self.gone.len()
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = (RowAt, Again<'_>)> {
        let fields = self.fields.iter().enumerate().flat_map(move |(table, rows)| {
            let table = TableNo(table as u32);
            rows.iter()
                .map(move |(slot, set)| ((table, *slot), Again::Fields(&self.sets[*set as usize])))
        });
        fields.chain(self.gone().map(|(place, by)| (place, Again::Gone(by))))
    }

    pub(super) fn gone(&self) -> impl Iterator<Item = (RowAt, u64)> + '_ {
        self.gone.iter().copied()
    }

    pub(super) fn has_fields(&self, (table, slot): RowAt) -> bool {
        let of_table = self.fields.get(table.index());
        of_table.is_some_and(|rows| rows.binary_search_by_key(&slot, |(slot, _)| *slot).is_ok())
    }

    /// Which commit had deleted a row already that this one deleted again.
    pub(super) fn gone_by(&self, place: RowAt) -> Option<u64> {
        let at = self.gone.partition_point(|(other, _)| *other < place);
        self.gone.get(at).filter(|(other, _)| *other == place).map(|(_, by)| *by)
    }
}
