//! What is known of a feed, as a row.

use super::FeedState;
use crate::Table;
use crate::change::Transaction;
use crate::error::Result;
use crate::remote::answer::FailureKind;
use crate::remote::key::AnswerKey;
use crate::table::{Cell, Slot, Staged, StagedRow};
use crate::value::{RowId, Timestamp};

/// The table of feeds.
pub(crate) const FEEDS: &str = "backwater_feed";

/// A row of `backwater_feed`.
#[derive(Debug, Clone, PartialEq, Table)]
#[table(name = "backwater_feed")]
pub(crate) struct FeedRow {
    #[table(id)]
    pub(super) remote: String,
    #[table(id)]
    pub(super) feed: String,
    /// A JSON object, by name.
    #[table(id)]
    pub(super) variables: String,
    /// Where the feed is to go on, as the server calls it.
    pub(super) position: Option<String>,
    last_event_at: Option<Timestamp>,
    /// `connecting`, `connected`, `waiting` or `closed`.
    #[table(persist = false)]
    state: Option<String>,
    /// Since when it is connected.
    #[table(persist = false)]
    since: Option<Timestamp>,
    /// How often the connection was lost.
    #[table(persist = false)]
    lost: Option<i64>,
    /// How many events were read, were of a kind that means nothing here, and did not fit.
    #[table(persist = false)]
    events: Option<i64>,
    #[table(persist = false)]
    skipped: Option<i64>,
    #[table(persist = false)]
    unreadable: Option<i64>,
    /// The number of the connection.
    #[table(persist = false)]
    connection: Option<i64>,
    #[table(persist = false)]
    failure: Option<String>,
    #[table(persist = false)]
    message: Option<String>,
    #[table(persist = false)]
    status: Option<i64>,
    #[table(persist = false)]
    again_at: Option<Timestamp>,
}

/// Which row a feed has.
pub(super) struct FeedPlace<'k> {
    remote: &'k str,
    key: &'k AnswerKey,
}

impl<'k> FeedPlace<'k> {
    pub(super) fn of(remote: &'k str, key: &'k AnswerKey) -> Self {
        Self { remote, key }
    }

    /// The id of its row.
    pub(super) fn id(&self) -> RowId {
        let parts = [self.remote, self.key.rule(), &self.key.shown()];
        RowId::Parts(parts.map(RowId::from).into_iter().collect())
    }

    fn slot(&self, tx: &mut Transaction) -> Result<Slot> {
        let table = tx.schema().table_no(FEEDS)?;
        let shown = self.key.shown();
        let cells = [self.remote, self.key.rule(), &*shown].map(Cell::Text);
        Ok(tx.refer(table, &cells))
    }

    /// Whether the row is of this connection: not once the cache was emptied, or the row deleted.
    pub(super) fn is_of(&self, tx: &Transaction, connection: u64) -> Result<bool> {
        let table = tx.state.schema.table_no(FEEDS)?;
        let (rows, shown) = (tx.state.table(table), self.key.shown());
        let cells = [self.remote, self.key.rule(), &*shown].map(Cell::Text);
        let field = tx.state.schema.table(table).field_no("connection");
        let cell = rows.slot(&cells).zip(field).map(|(slot, field)| rows.cell(slot, field));
        Ok(matches!(cell, Some(Cell::Int(of)) if of == connection as i64))
    }

    /// Writes what is known of its connection.
    pub(super) fn put(
        &self,
        tx: &mut Transaction,
        state: &FeedState,
        connection: Option<u64>,
    ) -> Result<()> {
        let text = |text: Option<&str>| {
            text.map_or(Staged::Null, |text| Staged::Text(text.to_owned().into()))
        };
        let time = |time: Option<Timestamp>| time.map_or(Staged::Null, Staged::Timestamp);
        let int = |number: Option<i64>| number.map_or(Staged::Null, Staged::Int);
        let failed = state.failed.as_ref();
        self.write(
            tx,
            [
                ("state", text(Some(state.connection.name()))),
                ("since", time(state.since)),
                ("lost", Staged::Int(state.lost.into())),
                ("connection", int(connection.map(|connection| connection as i64))),
                ("failure", text(failed.map(|failed| failed.kind.name()))),
                ("message", text(failed.map(|failed| failed.message.as_str()))),
                ("status", int(failed.and_then(|failed| failed.status).map(i64::from))),
                ("again_at", time(failed.and_then(|failed| failed.again_at))),
            ],
        )
    }

    /// Writes how far the feed has been read.
    pub(super) fn put_progress(
        &self,
        tx: &mut Transaction,
        (position, at): (Option<&str>, Timestamp),
        (events, skipped, unreadable): (u64, u64, u64),
    ) -> Result<()> {
        let position =
            position.map_or(Staged::Null, |position| Staged::Text(position.to_owned().into()));
        self.write(
            tx,
            [
                ("position", position),
                ("last_event_at", Staged::Timestamp(at)),
                ("events", Staged::Int(events as i64)),
                ("skipped", Staged::Int(skipped as i64)),
                ("unreadable", Staged::Int(unreadable as i64)),
            ],
        )
    }

    /// Writes why an event could not be read.
    pub(super) fn put_unreadable(&self, tx: &mut Transaction, why: &str) -> Result<()> {
        let text = |text: &str| Staged::Text(text.to_owned().into());
        let kind = text(FailureKind::Unreadable.name());
        self.write(tx, [("failure", kind), ("message", text(why))])
    }

    /// Forgets how far it has been read.
    pub(super) fn forget_position(&self, tx: &mut Transaction) -> Result<()> {
        self.write(tx, [("position", Staged::Null)])
    }

    fn write<const N: usize>(
        &self,
        tx: &mut Transaction,
        fields: [(&str, Staged<'_>); N],
    ) -> Result<()> {
        let schema = tx.schema();
        let table = schema.table_no(FEEDS)?;
        let definition = schema.table(table);
        let slot = self.slot(tx)?;
        let fields = fields
            .into_iter()
            .filter_map(|(name, staged)| Some((definition.field_no(name)?, staged)));
        let fields: StagedRow<'_> = fields.collect();
        tx.merge_row(table, slot, &fields);
        Ok(())
    }
}
