//! A table as an input: rows are read where they lie.

use std::cmp::Ordering;

use smallvec::SmallVec;

use crate::query::expr::scalar::Scalar;
use crate::query::work::Failure;
use crate::schema::{FieldKind, FieldNo, TableNo};
use crate::table::{Slot, State, TableRows};

#[derive(Clone, Copy)]
pub(crate) struct TableInput<'a> {
    pub(super) state: &'a State,
    pub(super) table: TableNo,
}

impl<'a> TableInput<'a> {
    #[inline]
    pub(super) fn rows(self) -> &'a TableRows {
        self.state.table(self.table)
    }

    pub(super) fn is_row(self, slot: Slot) -> bool {
        self.rows().is_row(slot)
    }

    #[inline]
    pub(super) fn value(self, field: FieldNo, slot: Slot) -> Scalar<'a> {
        Scalar::of_cell(self.state, self.table, slot, field)
    }

    pub(super) fn len(self) -> usize {
        self.rows().rows() as usize
    }

    pub(super) fn each(self, found: &mut dyn FnMut(Slot)) {
        self.rows().iter().for_each(found);
    }

    pub(super) fn equal(self, fields: &[FieldNo], values: &[Scalar<'_>]) -> Vec<Slot> {
        let Self { state, table } = self;
        let cells = fields.iter().zip(values).map(|(field, value)| {
            let kind = state.schema.table(table).field(*field).kind;
            match value {
                // A time is a text where it meets texts.
                Scalar::Time(time) if kind != FieldKind::Timestamp => {
                    Scalar::Text(time.text().as_str().into())
                }
                other => other.clone(),
            }
        });
        let values: SmallVec<[Scalar<'_>; 2]> = cells.collect();
        let cells = fields.iter().zip(&values);
        let cells: Option<SmallVec<[_; 2]>> =
            cells.map(|(field, value)| value.as_cell(state, table, *field)).collect();
        let mut found = Vec::new();
        if let Some(cells) = cells {
            self.rows().each_indexed(fields, &cells, &mut |slot| found.push(slot));
        }
        found
    }

    pub(super) fn each_of_key(self, slot: Slot, found: &mut impl FnMut(Scalar<'_>)) {
        let id = self.state.schema.table(self.table).id.iter();
        id.for_each(|field| found(self.value(*field, slot)));
    }

    pub(super) fn tie(self, slot: Slot) -> Option<Scalar<'a>> {
        let field = *self.state.schema.table(self.table).id.first()?;
        Some(self.value(field, slot))
    }

    pub(super) fn compare(self, a: Slot, b: Slot) -> Ordering {
        self.state.compare_ids(self.table, a, b)
    }

    pub(super) fn doubt(self, _slot: Slot) -> Option<Failure> {
        None
    }
}
