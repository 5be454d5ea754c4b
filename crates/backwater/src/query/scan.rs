//! Grouping all rows of one table, without a detour where conditions, keys and aggregates are as
//! plain as they mostly are.

use super::aggregate::{Aggregate, AggregateFunction, Kept};
use super::expr::Expr;
use super::filter::Filter;
use super::group::Groups;
use super::plan::{Grouping, Plan};
use super::relation::{ScannedRow, View};
use super::scalar::Scalar;
use crate::schema::{FieldNo, TableNo};
use crate::table::Cell;

/// What of a row goes into an aggregate.
#[derive(Clone, Copy)]
enum Feed {
    /// That it is there.
    Row,
    /// A field as it is.
    Field(FieldNo),
    Other,
}

/// So many keys' groups are remembered by what the key is in memory.
const REMEMBERED: usize = 128;

/// A key as it lies in memory, and its group.
#[derive(Clone, Copy)]
struct Known {
    key: (u64, u64),
    group: u32,
}

/// Takes all rows of a table that meet the conditions into groups.
pub(crate) fn group(
    groups: &mut Groups,
    grouping: &Grouping,
    view: &View<'_>,
    table: TableNo,
    params: &[Scalar<'static>],
) {
    let plan = view.plan;
    let filter = Filter::of(&plan.scratch.checks, params);
    let feeds: Vec<Feed> = grouping.aggregates.iter().map(feed).collect();
    let key_field = match grouping.keys.as_slice() {
        [Expr::Column(column)] => Some(column.field()),
        _ => None,
    };
    let mut remembered = [Known { key: (u64::MAX, u64::MAX), group: 0 }; REMEMBERED];
    view.each_row(table, |slot, row| {
        if !filter.holds(&row) {
            return;
        }
        let number = match key_field.and_then(|field| in_memory(row.cell(field))) {
            Some(key) => {
                let hash = (key.0 ^ key.1.rotate_left(32)).wrapping_mul(0x9e37_79b9_7f4a_7c15);
                let known = &mut remembered[(hash >> 57) as usize % REMEMBERED];
                if known.key != key {
                    *known = Known { key, group: groups.number_of(grouping, params, &row) };
                }
                known.group
            }
            None => groups.number_of(grouping, params, &row),
        };
        let Some((rows, kept)) = groups.contents(number) else { return };
        *rows += 1;
        let aggregates = grouping.aggregates.iter().zip(kept.iter_mut()).zip(&feeds);
        for ((aggregate, kept), feed) in aggregates {
            match (feed, &mut *kept) {
                (Feed::Row, Kept::Count(count)) => *count += 1,
                (Feed::Field(field), kept) => match (row.cell(*field), kept) {
                    (Cell::Null | Cell::Absent, _) => {}
                    (Cell::Int(number), Kept::Sum(sum)) => sum.add_whole(number),
                    (_, Kept::Count(count)) => *count += 1,
                    (_, kept) => add(aggregate, kept, view, &row, params, slot),
                },
                (_, kept) => add(aggregate, kept, view, &row, params, slot),
            }
        }
    });
}

fn add(
    aggregate: &Aggregate,
    kept: &mut Kept,
    view: &View<'_>,
    row: &ScannedRow<'_>,
    params: &[Scalar<'static>],
    slot: crate::table::Slot,
) {
    aggregate.update(kept, row, params, || view.key(&[slot]).into(), 1);
}

fn feed(aggregate: &Aggregate) -> Feed {
    use AggregateFunction as F;
    if aggregate.distinct || aggregate.filter.is_some() {
        return Feed::Other;
    }
    match (aggregate.function, &aggregate.argument) {
        (F::CountRows, _) => Feed::Row,
        (F::Count | F::Sum | F::Total | F::Average, Some(Expr::Column(column))) => {
            Feed::Field(column.field())
        }
        _ => Feed::Other,
    }
}

/// A key that tells itself by what it is in memory; the same text may lie in several places.
fn in_memory(cell: Cell<'_>) -> Option<(u64, u64)> {
    match cell {
        Cell::Int(number) => Some((number as u64, 1 << 62)),
        Cell::Bool(flag) => Some((flag.into(), 2 << 62)),
        Cell::Link(slot) => Some((slot.0.into(), 3 << 62)),
        Cell::Text(text) => Some((text.as_ptr().addr() as u64, text.len() as u64)),
        _ => None,
    }
}

/// Remembers the group of each row of the one source that the keys are read from.
pub(crate) struct GroupsOfSource {
    source: usize,
    known: Vec<u32>,
}

const UNKNOWN: u32 = u32::MAX;

impl GroupsOfSource {
    /// If all keys are read from one source of several.
    pub(crate) fn of(plan: &Plan, grouping: &Grouping) -> Option<Self> {
        let mut sources =
            grouping.keys.iter().flat_map(Expr::columns).map(|column| column.source());
        let source = sources.next()?;
        let one = plan.sources.len() > 1 && !plan.is_union && sources.all(|other| other == source);
        one.then_some(Self { source, known: Vec::new() })
    }

    /// The number of a tuple's group; `find` finds one that is not known yet.
    pub(crate) fn number(
        &mut self,
        tuple: &[crate::table::Slot],
        find: impl FnOnce() -> u32,
    ) -> u32 {
        let slot = tuple[self.source];
        if slot == super::relation::NONE {
            return find();
        }
        let place = slot.0 as usize;
        if place >= self.known.len() {
            self.known.resize(place + 1, UNKNOWN);
        }
        if self.known[place] == UNKNOWN {
            self.known[place] = find();
        }
        self.known[place]
    }
}
