//! Rows of a table that a statement goes through one after the other, a chunk at a time.

use crate::query::expr::scalar::Scalar;
use crate::query::expr::{ColumnNo, Columns, Expr};
use crate::query::operator::filter::Filter;
use crate::query::operator::view::View;
use crate::query::plan::Access;
use crate::schema::{FieldKind, FieldNo, TableNo};
use crate::table::{Bits, CHUNK, Cell, ChunkRows, RowCells, Slot, State};

/// A row of the only source of a statement, a table, found once for all of its columns.
pub(crate) struct ScannedRow<'a> {
    state: &'a State,
    table: TableNo,
    cells: RowCells<'a>,
}

/// Rows of a table that lie together.
#[derive(Clone, Copy)]
pub(crate) struct ScannedRows<'a> {
    state: &'a State,
    table: TableNo,
    rows: ChunkRows<'a>,
}

impl<'a> ScannedRows<'a> {
    /// The row at a place of their chunk.
    #[inline]
    pub(crate) fn at(self, place: usize) -> (Slot, ScannedRow<'a>) {
        let Self { state, table, rows } = self;
        let (slot, cells) = rows.at(place);
        (slot, ScannedRow { state, table, cells })
    }

    /// The slot at a place of their chunk.
    #[inline]
    pub(crate) fn slot(self, place: usize) -> Slot {
        self.rows.slot(place)
    }

    /// See [`ChunkRows::places`].
    #[inline]
    pub(crate) fn places(self) -> Bits {
        self.rows.places()
    }

    /// See [`ChunkRows::column`].
    pub(crate) fn column(self, field: FieldNo, into: &mut [u64; CHUNK]) -> Bits {
        self.rows.column(field, into)
    }

    /// The same of whole numbers alone.
    pub(crate) fn wholes(self, field: FieldNo, into: &mut [u64; CHUNK]) -> Bits {
        match self.state.schema.table(self.table).field(field).kind {
            FieldKind::Int | FieldKind::Links(_) => self.column(field, into),
            _ => Bits(0),
        }
    }

    /// Those of them at places of which something holds.
    #[inline]
    pub(crate) fn among(self, holds: impl FnMut(usize) -> bool) -> Self {
        Self { rows: self.rows.among(holds), ..self }
    }
}

impl<'a> ScannedRow<'a> {
    /// Whether it meets all of some conditions.
    #[inline]
    pub(crate) fn meets(&self, conditions: &'a [Expr], params: &'a [Scalar<'static>]) -> bool {
        conditions.iter().all(|condition| condition.holds(self, params))
    }

    /// See [`RowCells::whole`].
    #[inline]
    pub(crate) fn number(&self, field: FieldNo) -> Option<i64> {
        self.cells.whole(field)
    }

    #[inline]
    pub(crate) fn cell(&self, field: FieldNo) -> Cell<'a> {
        self.cells.cell(field)
    }
}

impl<'a> Columns<'a> for ScannedRow<'a> {
    #[inline]
    fn column(&self, number: ColumnNo) -> Scalar<'a> {
        let field = number.field();
        Scalar::of(self.state, self.table, field, self.cells.cell(field))
    }

    #[inline]
    fn whole(&self, number: ColumnNo) -> Option<i64> {
        self.cells.whole(number.field())
    }
}

impl<'a> View<'a> {
    /// The table that a statement reads from one end to the other, if it reads nothing else.
    pub(crate) fn scanned(&self) -> Option<TableNo> {
        match (self.plan.sources.as_slice(), &self.plan.scratch.access) {
            ([source], Access::Scan) => source.relation.table(),
            _ => None,
        }
    }

    /// How many slots a source's rows lie in, of a table.
    pub(crate) fn slots(&self, source: usize) -> Option<usize> {
        let table = self.plan.sources[source].relation.table()?;
        Some(self.state.table(table).slots())
    }

    /// What reads rows of a table one after the other.
    pub(crate) fn row_reader(
        &self,
        table: TableNo,
    ) -> impl FnMut(Slot) -> ScannedRow<'a> + use<'a> {
        let state = self.state;
        let mut rows = state.table(table).reader();
        move |slot| ScannedRow { state, table, cells: rows.row(slot) }
    }

    /// The same for slots that may have no row.
    pub(crate) fn row_finder(
        &self,
        table: TableNo,
    ) -> impl FnMut(Slot) -> Option<ScannedRow<'a>> + use<'a> {
        let state = self.state;
        let mut rows = state.table(table).reader();
        move |slot| Some(ScannedRow { state, table, cells: rows.find(slot)? })
    }

    /// Calls `found` with all rows of a table that meet conditions.
    pub(crate) fn each_row(
        &self,
        table: TableNo,
        mut filter: Filter<'a>,
        mut found: impl FnMut(Slot, ScannedRow<'a>),
    ) {
        let state = self.state;
        let plain = filter.take_plain(state.table(table));
        let unfiltered = filter.is_empty();
        state.table(table).each_row_in(&plain.selection(), |slot, cells| {
            let row = ScannedRow { state, table, cells };
            if unfiltered || filter.holds(&row) {
                found(slot, row);
            }
        });
    }

    /// The same with rows that lie together, a few dozen at most.
    pub(crate) fn each_chunk(
        &self,
        table: TableNo,
        mut filter: Filter<'a>,
        mut found: impl FnMut(ScannedRows<'a>),
    ) {
        let state = self.state;
        let plain = filter.take_plain(state.table(table));
        let unfiltered = filter.is_empty();
        state.table(table).each_chunk_in(&plain.selection(), |rows| {
            let holds = |cells| filter.holds(&ScannedRow { state, table, cells });
            let rows = if unfiltered { rows } else { rows.filtered(holds) };
            found(ScannedRows { state, table, rows });
        });
    }
}
