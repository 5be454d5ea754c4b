//! Rows of a table, with a record of which of them were read.

use std::sync::Arc;

use super::reader::Reader;
use super::reads::{Read, Which, back_print, row_print, span};
use crate::change::Span;
use crate::error::Result;
use crate::schema::FieldPlaces;
use crate::table::{ONLY, field_no};
use crate::typed::{
    Field, Fields, Found, IntoId, OneRowTable, PointsAt, ReadTable, TableRows, target,
};
use crate::value::RowId;

/// The rows of a table as a derived value reads them; see [`Reader::table`].
///
/// ```
/// # use backwater::{Cache, Link, Schema, Table};
/// # #[derive(Table)] struct Vessel { #[table(id)] name: String }
/// # #[derive(Table)] struct Sailing { #[table(id)] id: i64, vessel: Link<Vessel> }
/// # #[derive(Default, Table)] #[table(one_row)] struct Board { vessel: String }
/// # let _ = (Vessel { name: String::new() }.name, Sailing { id: 1, vessel: Link::to("x") }.vessel);
/// # let cache = Cache::new(Schema::builder().table::<Vessel>().table::<Sailing>().table::<Board>().build()?);
/// let shown = cache.derived("sailings of the vessel on the board", |read| {
///     let board = read.table::<Board>()?.only();
///     let sailings = read.table::<Sailing>()?;
///     let found = sailings.pointing_at(Sailing::VESSEL, board.vessel).filter_map(|found| found.here());
///     Ok(found.map(|sailing| sailing.id).collect::<Vec<_>>())
/// });
/// cache.commit("announced", |tx| {
///     tx.table::<Board>()?.set(|board| board.vessel = "Marram".into())?;
///     tx.table::<Sailing>()?.insert(&Sailing { id: 311, vessel: Link::to("Marram") })
/// })?;
/// assert_eq!(*shown.get()?, [311]);
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct TrackedRows<'s, T> {
    reader: &'s Reader,
    rows: TableRows<'s, T>,
    span: Arc<Span>,
}

impl<'s, T: ReadTable<'s>> TrackedRows<'s, T> {
    pub(super) fn new(reader: &'s Reader) -> Result<Self> {
        let rows = TableRows::<T>::of(&reader.now.state)?;
        let span = Arc::new(span(&reader.now.state, rows.places(), None));
        Ok(Self { reader, rows, span })
    }

    /// How many rows there are.
    ///
    /// See [`TableRows::len`], of which this is recorded.
    pub fn len(&self) -> usize {
        let span = Span([(self.rows.places().table, Default::default())].into_iter().collect());
        self.reader.record(Read::Table { span: Arc::new(span) });
        self.rows.len()
    }

    /// Whether there are none.
    ///
    /// See [`TableRows::is_empty`], of which this is recorded.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The row with that id.
    ///
    /// See [`TableRows::get`], of which this is recorded.
    pub fn get(&self, id: impl IntoId<T::Of>) -> Found<T> {
        let id = id.into_id();
        let slot = self.rows.slot(&id);
        let of = slot.map_or_else(|| Which::Id(RowId::from(&id)), Which::At);
        self.record_row(of, slot);
        self.rows.get(id)
    }

    fn record_row(&self, of: Which, slot: Option<crate::table::Slot>) {
        let (places, span): (Arc<FieldPlaces>, _) = (self.rows.places().clone(), self.span.clone());
        let print = row_print(&self.reader.now.state, &places, slot, self.reader.key);
        self.reader.record(Read::Row { of, places, span, print });
    }

    /// All rows, in no particular order.
    ///
    /// See [`TableRows::iter`], of which this is recorded.
    pub fn iter(&self) -> impl Iterator<Item = Found<T>> + use<'s, T> {
        self.reader.record(Read::Table { span: self.span.clone() });
        self.rows.iter()
    }

    /// All rows that have all fields of the struct, in no particular order.
    ///
    /// See [`TableRows::here`], of which this is recorded.
    pub fn here(&self) -> impl Iterator<Item = T> + use<'s, T> {
        self.iter().filter_map(Found::here)
    }

    /// The rows whose link points at a row, in no particular order.
    ///
    /// See [`TableRows::pointing_at`], of which this is recorded.
    pub fn pointing_at<L: PointsAt<To>, To>(
        &self,
        link: Field<T::Of, L>,
        to: To,
    ) -> impl Iterator<Item = Found<T>> + use<'s, T, L, To> {
        let (state, places) = (&self.reader.now.state, self.rows.places().clone());
        let row = target::<L, To>(to, &state.schema);
        let number = field_no(state.schema.table(places.table), link.name()).ok();
        if let Some((number, target)) = number.zip(row.clone()) {
            let span = Arc::new(span(state, &places, Some(number)));
            let print = back_print(state, &places, number, &target, self.reader.key);
            self.reader.record(Read::Back { link: number, target, places, span, print });
        }
        self.rows.pointing_at_row(link.name(), row)
    }
}

impl<'s, T: ReadTable<'s> + Fields<Of: OneRowTable> + Default> TrackedRows<'s, T> {
    /// The row of a one-row table.
    ///
    /// See [`TableRows::only`], of which this is recorded.
    pub fn only(&self) -> T {
        self.record_row(Which::Only, Some(ONLY));
        self.rows.only()
    }
}

impl<T> std::fmt::Debug for TrackedRows<'_, T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.rows.fmt(f)
    }
}
