//! Which rows were written to.

use rustc_hash::FxHashMap;
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
    pub(crate) fn of_table(&self, table: TableNo) -> impl Iterator<Item = Slot> + use<> {
        self.tables.get(table.index()).cloned().unwrap_or_default().slots()
    }
}

/// The slots of one table that were written to.
#[derive(Clone, Default)]
pub(crate) struct Touched {
    /// A bit for each slot of the chunks that were met.
    chunks: SmallVec<[(u32, Bits); 3]>,
    /// Where each of them is, once there are more than a few.
    places: Option<Box<FxHashMap<u32, u32>>>,
}

/// Up to this many chunks are looked through one by one.
const FEW: usize = 8;

impl Touched {
    /// Adds a slot; returns whether it is new here.
    #[inline]
    pub(crate) fn insert(&mut self, slot: Slot) -> bool {
        let (chunk, bit) = (slot.0 / CHUNK as u32, 1 << (slot.0 % CHUNK as u32));
        // Neighbours follow each other.
        let bits = match self.chunks.last_mut() {
            Some((last, bits)) if *last == chunk => bits,
            _ => {
                let place = self.place(chunk);
                &mut self.chunks[place].1
            }
        };
        let is_new = bits.0 & bit == 0;
        bits.0 |= bit;
        is_new
    }

    fn place(&mut self, chunk: u32) -> usize {
        let len = self.chunks.len();
        let known = match &self.places {
            None => self.chunks.iter().position(|(other, _)| *other == chunk),
            Some(places) => places.get(&chunk).map(|place| *place as usize),
        };
        known.unwrap_or_else(|| {
            self.chunks.push((chunk, Bits::default()));
            match &mut self.places {
                Some(places) => drop(places.insert(chunk, len as u32)),
                None if len < FEW => {}
                None => {
                    let places = self.chunks.iter().zip(0..);
                    let places = places.map(|((chunk, _), place)| (*chunk, place));
                    self.places = Some(Box::new(places.collect()));
                }
            }
            len
        })
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.chunks.is_empty()
    }

    /// How many slots there are.
    pub(crate) fn len(&self) -> usize {
        self.chunks.iter().map(|(_, bits)| bits.len()).sum()
    }

    /// The slots in their order.
    pub(crate) fn slots(&self) -> impl Iterator<Item = Slot> + use<> {
        let mut chunks = self.chunks.clone();
        chunks.sort_unstable_by_key(|(chunk, _)| *chunk);
        chunks.into_iter().flat_map(|(chunk, bits)| {
            bits.ones().map(move |at| Slot(chunk * CHUNK as u32 + at as u32))
        })
    }
}
