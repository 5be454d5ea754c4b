//! What a function read, and whether that has changed since.

use std::any::Any;
use std::hash::Hasher;
use std::sync::Arc;

use siphasher::sip128::{Hasher128, SipHasher13};

use super::node::AnyDerived;
use crate::change::{FieldSet, LastChanged, Span};
use crate::query::{AsOf, Query};
use crate::schema::{FieldKind, FieldNo, FieldPlaces, TableNo};
use crate::table::{Cell, ONLY, Slot, State, TARGET};
use crate::typed::DEEPEST;
use crate::value::RowId;

/// One read.
pub(crate) enum Read {
    /// Some fields of one row, or that it is not there.
    Row { of: Which, places: Arc<FieldPlaces>, span: Arc<Span>, print: u128 },
    /// All rows whose link points at one, and some fields of them.
    Back {
        link: FieldNo,
        target: (TableNo, RowId),
        places: Arc<FieldPlaces>,
        span: Arc<Span>,
        print: u128,
    },
    /// Some fields of all rows of a table.
    Table { span: Arc<Span> },
    Query {
        query: Query,
        /// Not the result, which would keep a version of the tables.
        serial: u64,
    },
    /// Something that may be otherwise after any commit.
    Unsure,
    /// Another derived value, and what it gave.
    Derived { node: Arc<dyn AnyDerived>, given: Arc<dyn Any + Send + Sync> },
}

/// Which row of a table.
pub(crate) enum Which {
    Only,
    /// One that is or was there, or that something points at.
    At(Slot),
    /// One that nothing was known of.
    Id(RowId),
}

impl Read {
    /// Whether it would give something else now than at a commit.
    pub(crate) fn has_changed(&self, since: u64, now: &AsOf, key: (u64, u64)) -> bool {
        let spared = |span: &Span, last: &LastChanged| !span.changed_since(since, last);
        match self {
            Read::Row { span, .. } | Read::Back { span, .. } | Read::Table { span }
                if now.last.as_ref().is_some_and(|last| spared(span, last)) =>
            {
                false
            }
            Read::Row { of, places, print, .. } => {
                let slot = match of {
                    Which::Only => Some(ONLY),
                    Which::At(slot) => Some(*slot),
                    Which::Id(id) => now.state.slot(places.table, id).ok().flatten(),
                };
                row_print(&now.state, places, slot, key) != *print
            }
            Read::Back { link, target, places, print, .. } => {
                back_print(&now.state, places, *link, target, key) != *print
            }
            Read::Table { .. } | Read::Unsure => true,
            Read::Query { query, serial } => match query.read_at(&now.state, now.commit) {
                Some(Ok(new)) => new.serial() != *serial,
                _ => true,
            },
            Read::Derived { node, given } => !node.still_gives(&**given, now),
        }
    }
}

/// What a row's fields hold, in 128 bits; another print for a row that is not there.
pub(crate) fn row_print(
    state: &State,
    places: &FieldPlaces,
    slot: Option<Slot>,
    key: (u64, u64),
) -> u128 {
    let mut hasher = SipHasher13::new_with_keys(key.0, key.1);
    if let Some(slot) = slot {
        hash_row(&mut hasher, state, places, slot, &mut Vec::new());
    }
    hasher.finish128().as_u128()
}

/// Hashes a row, and the rows that it nests; `around` are those that it is nested in.
fn hash_row(
    hasher: &mut SipHasher13,
    state: &State,
    places: &FieldPlaces,
    slot: Slot,
    around: &mut Vec<(TableNo, Slot)>,
) {
    let Some(row) = state.table(places.table).row(slot) else {
        if !state.is_ready(places.table) {
            hasher.write_u8(2);
        }
        return;
    };
    hasher.write_u8(1);
    let definition = state.schema.table(places.table);
    for field in &places.fields {
        hash_cell(hasher, row.cell(*field));
        if let FieldKind::Links(entries) = definition.field(*field).kind {
            let targets = (0..).map_while(|position| state.entry(entries, slot, position));
            targets.for_each(|entry| hash_cell(hasher, state.table(entries).cell(entry, TARGET)));
        }
    }
    around.push((places.table, slot));
    for (link, nested) in &places.nested {
        let Some(nested) = state.schema.places.find(*nested) else { continue };
        let mut nest = |(to, slot)| {
            // A link to one of several tables nests a struct for each.
            if to != nested.table {
                return;
            }
            hasher.write_u8(2);
            if around.len() <= DEEPEST && !around.contains(&(to, slot)) {
                hash_row(hasher, state, &nested, slot, around);
            }
        };
        match definition.field(*link).kind {
            FieldKind::Links(entries) => state.targets(entries, slot).for_each(nest),
            _ => state.target(places.table, *link, row.cell(*link)).into_iter().for_each(&mut nest),
        }
    }
    around.pop();
}

fn hash_cell(hasher: &mut SipHasher13, cell: Cell<'_>) {
    let mut tagged = |tag: u8, value: u64| {
        hasher.write_u8(tag);
        hasher.write_u64(value);
    };
    match cell {
        Cell::Absent => tagged(0, 0),
        Cell::Null => tagged(1, 0),
        Cell::Int(number) => tagged(2, number as u64),
        Cell::Float(number) => tagged(3, number.to_bits()),
        Cell::Bool(flag) => tagged(4, flag.into()),
        Cell::Timestamp(time) => tagged(5, time.as_micros() as u64),
        Cell::Link(slot) => tagged(6, slot.0.into()),
        Cell::OneOf(table, slot) => tagged(7, u64::from(table.0) << 32 | u64::from(slot.0)),
        Cell::Text(text) | Cell::Json(text) => {
            tagged(8, text.len() as u64);
            hasher.write(text.as_bytes());
        }
    }
}

/// Which rows point at one, and what their fields hold, in 128 bits.
pub(crate) fn back_print(
    state: &State,
    places: &FieldPlaces,
    link: FieldNo,
    (to, target): &(TableNo, RowId),
    key: (u64, u64),
) -> u128 {
    let mut hasher = SipHasher13::new_with_keys(key.0, key.1);
    let mut slots = state.pointing_at(places.table, link, *to, target);
    slots.sort_unstable();
    for slot in slots {
        hasher.write_u32(slot.0);
        hash_row(&mut hasher, state, places, slot, &mut Vec::new());
    }
    hasher.finish128().as_u128()
}

/// The fields of a struct, with the entries of those that are to-many links, and the fields of the
/// structs that it nests.
pub(crate) fn span(state: &State, places: &FieldPlaces, more: Option<FieldNo>) -> Span {
    let (mut all, mut met) = (Span::default(), Vec::new());
    add_span(state, places, more, &mut all, &mut met);
    all
}

/// The same for the structs that it nests, each once.
fn add_span(
    state: &State,
    places: &FieldPlaces,
    more: Option<FieldNo>,
    span: &mut Span,
    met: &mut Vec<usize>,
) {
    let definition = state.schema.table(places.table);
    span.0.push((places.table, places.fields.iter().copied().chain(more).collect()));
    for field in &places.fields {
        if let FieldKind::Links(entries) = definition.field(*field).kind {
            span.0.push((entries, whole(state, entries)));
        }
    }
    for (_, nested) in &places.nested {
        if let Some(places) = state.schema.places.find(*nested).filter(|_| !met.contains(nested)) {
            met.push(*nested);
            add_span(state, &places, None, span, met);
        }
    }
}

fn whole(state: &State, table: TableNo) -> FieldSet {
    state.schema.table(table).field_numbers().collect()
}
