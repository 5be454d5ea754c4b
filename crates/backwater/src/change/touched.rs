//! Which rows were written to.

use smallvec::SmallVec;

use crate::schema::TableNo;
use crate::table::{Bits, CHUNK, Slot};

/// The rows that were written to.
#[derive(Clone, Default)]
pub(crate) struct TouchedRows {
    /// Of each table by its number, up to the last one that was written to.
    tables: Vec<Touched>,
}

impl TouchedRows {
    /// Adds a row; returns whether it is new here.
    #[inline]
    pub(crate) fn insert(&mut self, table: TableNo, slot: Slot) -> bool {
        if self.tables.len() <= table.index() {
            self.tables.resize_with(table.index() + 1, Touched::default);
        }
        self.tables[table.index()].insert(slot)
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.tables.iter().all(Touched::is_empty)
    }

    /// How many rows there are.
    pub(crate) fn len(&self) -> usize {
        self.tables().map(|(_, touched)| touched.len()).sum()
    }

    /// The tables that were written to, in their order.
    pub(crate) fn tables(&self) -> impl Iterator<Item = (TableNo, &Touched)> {
        let tables = self.tables.iter().zip(0..);
        let touched = tables.filter(|(touched, _)| !touched.is_empty());
        touched.map(|(touched, number)| (TableNo(number), touched))
    }

    /// The rows, in the order of tables and slots.
    pub(crate) fn rows(&self) -> impl Iterator<Item = (TableNo, Slot)> + '_ {
        self.tables().flat_map(|(table, touched)| touched.slots().map(move |slot| (table, slot)))
    }

    /// The slots of one table, in their order.
    pub(crate) fn of_table(&self, table: TableNo) -> impl Iterator<Item = Slot> + '_ {
        self.tables.get(table.index()).into_iter().flat_map(Touched::slots)
    }
}

/// The slots of one table that were written to: a bit for each slot of the chunks that were met.
#[derive(Clone, Default)]
pub(crate) struct Touched {
    /// While these are few; in their order.
    few: SmallVec<[(u32, Bits); 3]>,
    /// All of them once there are more: a block for so many neighbouring chunks.
    many: Vec<Option<Box<[Bits; BLOCK]>>>,
}

/// Up to this many chunks are looked through one by one.
const FEW: usize = 8;
const BLOCK: usize = 64;

impl Touched {
    /// Adds a slot; returns whether it is new here.
    #[inline]
    pub(crate) fn insert(&mut self, slot: Slot) -> bool {
        let (chunk, bit) = (slot.0 / CHUNK as u32, 1 << (slot.0 % CHUNK as u32));
        // Neighbours follow each other.
        let bits = match self.few.last_mut() {
            Some((last, bits)) if *last == chunk => bits,
            _ => self.bits(chunk),
        };
        let is_new = bits.0 & bit == 0;
        bits.0 |= bit;
        is_new
    }

    fn bits(&mut self, chunk: u32) -> &mut Bits {
        if !self.many.is_empty() {
            return self.bits_of_many(chunk);
        }
        match self.few.binary_search_by_key(&chunk, |(other, _)| *other) {
            Ok(place) => &mut self.few[place].1,
            Err(place) if self.few.len() < FEW => {
                self.few.insert(place, (chunk, Bits::default()));
                &mut self.few[place].1
            }
            Err(_) => {
                for (chunk, bits) in std::mem::take(&mut self.few) {
                    *self.bits_of_many(chunk) = bits;
                }
                self.bits_of_many(chunk)
            }
        }
    }

    fn bits_of_many(&mut self, chunk: u32) -> &mut Bits {
        let (block, place) = (chunk as usize / BLOCK, chunk as usize % BLOCK);
        if self.many.len() <= block {
            self.many.resize_with(block + 1, || None);
        }
        &mut self.many[block].get_or_insert_with(|| Box::new([Bits::default(); BLOCK]))[place]
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.few.is_empty() && self.many.is_empty()
    }

    /// How many slots there are.
    pub(crate) fn len(&self) -> usize {
        self.chunks().map(|(_, bits)| bits.len()).sum()
    }

    /// The slots in their order.
    pub(crate) fn slots(&self) -> impl Iterator<Item = Slot> + '_ {
        self.chunks().flat_map(|(chunk, bits)| {
            bits.ones().map(move |at| Slot(chunk * CHUNK as u32 + at as u32))
        })
    }

    /// The chunks in their order.
    fn chunks(&self) -> impl Iterator<Item = (u32, Bits)> + '_ {
        let blocks = self.many.iter().zip((0..).step_by(BLOCK));
        let blocks = blocks.filter_map(|(block, first)| block.as_ref().zip(Some(first)));
        let many = blocks.flat_map(|(block, first)| (first..).zip(block.iter().copied()));
        self.few.iter().copied().chain(many)
    }
}
