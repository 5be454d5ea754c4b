//! Objects that short responses held lately, by their text.
//!
//! A live change has a row with all that is nested in it, and what is nested is mostly as it was.
//! Where the text of such an object comes again, and no row of its tables was written to since,
//! merging it would change nothing. It takes a sixth of the time of such changes (`ingest/small`).

use std::hash::Hasher;

use rustc_hash::FxHasher;
use smallvec::SmallVec;

use super::WrittenRow;
use crate::schema::TableNo;
use crate::table::{Slot, State};

/// How many places there are at first.
const FEWEST: usize = 256;
/// And at most: then a later object takes the place of an earlier one.
const MOST: usize = 4096;
/// A longer object is not remembered.
const LONGEST: usize = 512;
/// Objects are looked up by this many of their first bytes, where an id mostly stands.
const START: usize = 24;

/// The rows of an object and of those inside of it.
pub(crate) type Rows = SmallVec<[WrittenRow; 4]>;

/// Objects by their text, valid for the version of the tables that the commit makes.
#[derive(Default)]
pub(crate) struct Remembered(Vec<Option<Known>>);

struct Known {
    table: TableNo,
    text: Box<[u8]>,
    slot: Slot,
    rows: Rows,
    /// How often the tables of these rows had been written to.
    writes: u64,
}

impl Known {
    /// Whether a text begins with it.
    fn begins(&self, table: TableNo, text: &[u8]) -> bool {
        self.table == table && text.starts_with(&self.text)
    }

    /// Whether its rows are as it says.
    fn holds(&self, state: &State) -> bool {
        self.writes == writes(state, &self.rows)
    }
}

impl Remembered {
    /// The object of a table that stands at the beginning of a text, if it is known: its length,
    /// its slot, and all rows in it.
    pub(crate) fn find(
        &self,
        state: &State,
        table: TableNo,
        text: &[u8],
    ) -> Option<(usize, Slot, &Rows)> {
        let place = self.place(table, text)?;
        let at = |place: usize| self.0[place].as_ref().filter(|known| known.begins(table, text));
        let known = at(place).or_else(|| at(place ^ 1)).filter(|known| known.holds(state))?;
        Some((known.text.len(), known.slot, &known.rows))
    }

    /// Remembers an object that was merged just now; returns whether it does.
    pub(crate) fn remember(
        &mut self,
        state: &State,
        table: TableNo,
        text: &[u8],
        slot: Slot,
        rows: &[WrittenRow],
    ) -> bool {
        // The entries of a to-many link are rows of their own, which others may write to.
        let has_entries = |table: TableNo| state.schema.table(table).checks.links;
        // Some tables record when rows were last received, also if nothing in them was new.
        let keeps_times = |table: TableNo| state.table(table).keeps_times();
        // Of some it is unknown which fields were written.
        let has_many = |table: TableNo| state.schema.table(table).fields.len() > 64;
        let is_left = rows.iter().any(|((table, slot), _)| {
            let is_row = state.table(*table).is_row(*slot);
            has_entries(*table) || keeps_times(*table) || has_many(*table) || !is_row
        });
        if text.len() < START || text.len() > LONGEST || is_left {
            return false;
        }
        if self.0.is_empty() {
            self.0.resize_with(FEWEST, || None);
        }
        let (rows, writes) = (Rows::from_slice(rows), writes(state, rows));
        let known = Known { table, text: text.into(), slot, rows, writes };
        if let Some(left_over) = self.put(state, known)
            && self.0.len() < MOST
        {
            let places = 2 * self.0.len();
            let known = std::mem::take(&mut self.0);
            self.0.resize_with(places, || None);
            let known = known.into_iter().flatten().chain([left_over]);
            known.filter(|known| known.holds(state)).for_each(|known| drop(self.put(state, known)));
        }
        true
    }

    /// Gives an object one of its two places; returns one that still holds and has none any more.
    fn put(&mut self, state: &State, known: Known) -> Option<Known> {
        let place = self.place(known.table, &known.text)?;
        let is_free = |place: &usize| {
            let there = self.0[*place].as_ref();
            there.is_none_or(|there| there.begins(known.table, &known.text) || !there.holds(state))
        };
        let free = [place, place ^ 1].into_iter().find(is_free);
        let left_over = self.0[free.unwrap_or(place)].replace(known);
        left_over.filter(|_| free.is_none())
    }

    /// The first place of an object, by its table and its first bytes; the other is beside it.
    fn place(&self, table: TableNo, text: &[u8]) -> Option<usize> {
        let last = self.0.len().checked_sub(1)?;
        let mut hasher = FxHasher::default();
        hasher.write_u32(table.0);
        hasher.write(&text[..text.len().min(START)]);
        Some((hasher.finish() >> 20) as usize & last)
    }

    /// Forgets all: what was remembered is not the version that goes on.
    pub(crate) fn forget(&mut self) {
        self.0.clear();
    }
}

fn writes(state: &State, rows: &[WrittenRow]) -> u64 {
    rows.iter().map(|((table, _), _)| state.table(*table).writes()).sum()
}
