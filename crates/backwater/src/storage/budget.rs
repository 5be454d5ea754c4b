//! Which rows are deleted when what persists takes too much: those that nothing links to, and of
//! these the ones that were received or read least recently.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use rustc_hash::FxHashMap;

use super::form::{Form, Stored, stored};
use crate::schema::{FieldKind, TableNo, TableOrigin};
use crate::table::RowAt;
use crate::table::{Cell, OWNER, State};

/// What is only ever kept or dropped together: a row with the entries of its to-many links, or a
/// list.
#[derive(Default)]
struct Unit {
    rows: Vec<RowAt>,
    bytes: u64,
    /// When one of its rows was last received or read.
    last: u32,
    /// How many links point at it.
    links: u32,
    /// The units that it links to, as often as it does.
    targets: Vec<u32>,
}

/// Roughly what a row takes in a storage: its values, and as much again as a number for each.
fn bytes(state: &State, form: &Form, (table, slot): RowAt) -> u64 {
    let fields = form.table(table).fields.iter().map(|field| {
        let cell = state.table(table).cell(slot, *field);
        match stored(state, table, *field, cell) {
            Stored::Null => 1,
            Stored::Int(number) => 1 + u64::from(8 - number.unsigned_abs().leading_zeros() / 8),
            Stored::Real(_) => 9,
            Stored::Text(text) => 2 + text.len() as u64,
        }
    });
    8 + fields.sum::<u64>()
}

/// How many bytes the rows that persist take, and the rows to delete so that these are at most this
/// many.
pub(crate) fn beyond(state: &State, most: u64) -> Vec<RowAt> {
    let form = Form::of(&state.schema);
    let schema = &state.schema;
    let tables = || schema.table_numbers().filter(|table| form.table(*table).persists);
    let each = tables().flat_map(|table| state.table(table).iter().map(move |slot| (table, slot)));
    let mut digest: u64 = each.map(|row| bytes(state, &form, row)).sum();
    if digest <= most {
        return Vec::new();
    }
    let mut units = Units::of(state, &form);
    let mut oldest: BinaryHeap<Reverse<(u32, u32)>> = BinaryHeap::new();
    for (number, unit) in units.all.iter().enumerate().filter(|(_, unit)| unit.may_go()) {
        oldest.push(Reverse((unit.last, number as u32)));
    }
    let mut rows = Vec::new();
    while digest > most {
        let Some(Reverse((_, number))) = oldest.pop() else { break };
        let unit = std::mem::take(&mut units.all[number as usize]);
        digest -= unit.bytes;
        rows.extend(unit.rows);
        for target in unit.targets.into_iter().filter(|target| *target != number) {
            let unit = &mut units.all[target as usize];
            unit.links -= 1;
            if unit.may_go() {
                oldest.push(Reverse((unit.last, target)));
            }
        }
    }
    rows
}

impl Unit {
    fn may_go(&self) -> bool {
        self.links == 0 && !self.rows.is_empty()
    }
}

/// All units, and which rows are part of which.
struct Units {
    all: Vec<Unit>,
    of: FxHashMap<RowAt, u32>,
}

impl Units {
    fn of(state: &State, form: &Form) -> Self {
        let schema = &state.schema;
        let mut units = Self { all: Vec::new(), of: FxHashMap::default() };
        let mut lists: FxHashMap<(TableNo, String), u32> = FxHashMap::default();
        // Entries are part of their owners, which are first.
        let entries = |table: &TableNo| schema.is_entries(*table);
        let (later, first): (Vec<_>, Vec<_>) = schema.table_numbers().partition(entries);
        for table in first.into_iter().chain(later) {
            for slot in state.table(table).iter() {
                let row = (table, slot);
                let number = match schema.table(table).made {
                    TableOrigin::Declared => None,
                    TableOrigin::Entries { owner, .. } => {
                        match state.table(table).cell(slot, OWNER) {
                            Cell::Link(of) => units.of.get(&(owner, of)).copied(),
                            _ => None,
                        }
                    }
                    TableOrigin::List => {
                        // The last part of its id is what stands in the list.
                        let key = schema.table(table).id.split_last().map_or(&[][..], |of| of.1);
                        let key = key.iter().map(|field| state.value(table, slot, *field));
                        let list = (table, format!("{:?}", key.collect::<Vec<_>>()));
                        Some(*lists.entry(list).or_insert(units.all.len() as u32))
                    }
                };
                let number = number.unwrap_or(units.all.len() as u32);
                if number as usize == units.all.len() {
                    units.all.push(Unit::default());
                }
                let unit = &mut units.all[number as usize];
                // What does not persist takes nothing; a one-row table's row is always there.
                if form.table(table).persists && !schema.table(table).is_one_row() {
                    unit.rows.push(row);
                    unit.bytes += bytes(state, form, row);
                }
                unit.last = unit.last.max(state.table(table).times(slot).last());
                units.of.insert(row, number);
            }
        }
        units.link(state);
        units
    }

    fn link(&mut self, state: &State) {
        for table in state.schema.table_numbers() {
            let definition = state.schema.table(table);
            let is_entries = state.schema.is_entries(table);
            let links = definition.field_numbers().filter(|field| {
                let kind = definition.field(*field).kind;
                let is_link = matches!(kind, FieldKind::Link(_) | FieldKind::OneOf)
                    || definition.field(*field).by().is_some();
                is_link && !(is_entries && *field == OWNER)
            });
            let links: Vec<_> = links.collect();
            for slot in state.table(table).iter() {
                let Some(&from) = self.of.get(&(table, slot)) else { continue };
                for field in &links {
                    let cell = state.table(table).cell(slot, *field);
                    let target = match definition.field(*field).by() {
                        None => state.target(table, *field, cell),
                        Some(by) => {
                            state.target_by(table, slot, by).map(|target| (by.table, target))
                        }
                    };
                    let Some(&to) = target.and_then(|target| self.of.get(&target)) else {
                        continue;
                    };
                    if to != from {
                        self.all[to as usize].links += 1;
                        self.all[from as usize].targets.push(to);
                    }
                }
            }
        }
    }
}
