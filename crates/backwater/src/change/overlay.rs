//! How commits are made where changes are pending: on the base values of what these cover.
//!
//! A commit that meets a covered row uncovers it, writes, and applies the pending changes of it once
//! more, in their order; where changes have to do with further rows, all of them. One that meets none
//! costs a look at each row that it writes.

#![cfg_attr(
    not(feature = "remote"),
    allow(dead_code, reason = "only a remote makes changes that are pending")
)]

use std::cell::OnceCell;
use std::collections::BTreeSet;
use std::sync::{Arc, OnceLock};

use smallvec::SmallVec;

use super::{
    Changes, FieldSet, Happened, Remembered, RowAt, RowChange, TouchedRows, Transaction,
    changed_rows, compare, entries_of,
};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldDef, FieldKind, FieldNo, OnDelete, Schema, TableNo, TableOrigin};
use crate::table::{
    Cell, Edit, EditedFields, EditedRow, Overlay, PendingChange, RenamedRow, Row, Slot, Staged,
    State,
};
use crate::value::{Json, Named, RowId, Value};

/// Only a remote makes changes that are pending; without one no code is made for them.
const IS_MET: bool = cfg!(feature = "remote");

/// The table of base values.
pub(crate) const BASE: &str = "backwater_base";

/// What lifts and covers. It is known once something may be pending, so that a program without a
/// remote does not contain it.
struct Ways {
    lift: fn(&mut Transaction),
    lift_some: fn(&mut Transaction, Option<i64>, &[RowAt]),
    end: fn(&mut Transaction) -> Ended,
}

/// What became of base values, if they differ from what is shown; and what was changed, if that is
/// known.
type Ended = (Option<Changes>, Option<Vec<RowChange>>);

static WAYS: OnceLock<Ways> = OnceLock::new();

/// Something may be pending from here on.
fn make_ways_known() {
    WAYS.get_or_init(|| Ways {
        lift: Transaction::lift_known,
        lift_some: Transaction::lift_some_known,
        end: Transaction::end_covering_known,
    });
}

/// What a transaction knows of pending changes.
#[derive(Default)]
pub(super) struct Covering {
    /// Whether what is written now is written over base values.
    writes_pending: bool,
    /// The pending changes that are to be, if they are others than before.
    pending: Option<Vec<Arc<PendingChange>>>,
    /// The changes that are lifted and the rows, in their order, that are uncovered, while others
    /// stay shown.
    lifted: (Vec<i64>, Vec<RowAt>),
    /// The version before all that is written, less what the rows showed that were uncovered first.
    pub(super) bare: Option<Arc<State>>,
    /// The base values as they are by now, if they were uncovered.
    base: Option<Base>,
    /// Whether pending changes were made.
    is_made: bool,
    /// What was written to covered rows.
    below: Vec<(RowAt, FieldSet)>,
    /// Rows of which a record was older than what is known.
    older: BTreeSet<RowAt>,
    /// Where the ids come from that stand for those that the remote will give.
    local_ids: Option<fastrand::Rng>,
    /// The rows that have such ids in the change that is made.
    local: BTreeSet<RowAt>,
    /// Rows that got another id: the old one and the new one.
    renamed: Vec<(RowId, RowId)>,
    /// Whether what is noted of the change that is made may wait.
    pub(super) defers_notes: bool,
    /// The rows that it covers, while that is not noted.
    pub(super) to_note: SmallVec<[RowAt; 2]>,
    /// What it changed, if nothing was written before it, and how often rows were written by then.
    changed: Option<(Vec<RowChange>, u64)>,
}

/// What became of base values.
struct Base {
    /// The version before changes were applied again.
    state: Arc<State>,
    /// Where it was written to.
    touched: TouchedRows,
    /// The rows that were uncovered for it, if not all were.
    rows: Option<Vec<RowAt>>,
    /// The version before all that is written, less what these rows showed, if it is known.
    before: Option<Arc<State>>,
}

impl Transaction {
    /// Adds a row whose id the remote will give, in a change that is sent
    /// (`Remote::send`). Until then it has a local id, which is returned: a negative number, or a
    /// text that begins with `local-`. The commit that brings the server's id moves every link to
    /// it, and the deltas of results say that the row's key has changed.
    ///
    /// # Errors
    /// [`ErrorKind::Row`] outside of a change that is sent, or if the table's id is not one plain
    /// field; else as [`Transaction::insert`].
    ///
    /// ```
    /// # #[cfg(feature = "remote")] {
    /// # use backwater::{Cache, RowId, Schema, Value, clock::SetClock, remote::{Remote, StandIn}};
    /// let cache = Cache::new(Schema::parse("backwater.toml", r#"
    ///     table.booking = { id = "id", fields = { id = "int", party = "text" } }
    ///     response.booking = { url = "/bookings/{id}", table = "booking" }
    ///     send.book = { table = "booking", method = "POST", url = "/bookings", answer = "booking" }
    /// "#)?);
    /// let server = StandIn::new(|_| StandIn::json(r#"{ "id": 9001, "party": "Fenwick" }"#));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let mut id = RowId::from(0);
    /// let booked = remote.send("book", "a party booked", |tx| {
    ///     id = tx.insert_local("booking", [("party", "Fenwick")])?;
    ///     Ok(())
    /// })?;
    /// assert!(cache.snapshot().get("booking", &id)?.is_some());
    /// server.answer_all();
    /// assert!(cache.snapshot().get("booking", &id)?.is_none());
    /// assert!(cache.snapshot().get("booking", 9001)?.is_some());
    /// assert_eq!(booked.row_id(), Some(RowId::from(9001)));
    /// # }
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn insert_local(&mut self, table: &str, fields: impl Into<Named>) -> Result<RowId> {
        let number = self.state.schema.table_no(table)?;
        let definition = self.definition(number);
        let kind = match definition.id.as_slice() {
            [field] => definition.field(*field).kind,
            _ => FieldKind::Json,
        };
        let name = definition.id.first().map(|field| definition.field(*field).name.clone());
        let refused = |message: String, help: &str| {
            Err(Error::new(ErrorKind::Row, message).help(help.to_owned()))
        };
        let Some(ids) = self.covering.local_ids.as_mut().filter(|_| self.covering.writes_pending)
        else {
            return refused(
                "this row would never get its id, since it is sent to no server".to_owned(),
                "call `insert_local` in `Remote::send`, or give the row an id and `insert` it",
            );
        };
        let id = match kind {
            FieldKind::Int => RowId::Int(-1 - (ids.u64(..) >> 11).cast_signed()),
            FieldKind::Text => {
                RowId::Text(format!("local-{:016x}{:016x}", ids.u64(..), ids.u64(..)).into())
            }
            _ => {
                let message = format!("the id of \"{table}\" is not one plain field");
                return refused(message, "give the row its id and `insert` it");
            }
        };
        let own = name.map(|name| (name.to_string(), Value::from(id.clone())));
        let fields = fields.into();
        let fields = fields.iter().map(|(name, value)| (name.to_owned(), value.clone()));
        let fields: Named = fields.chain(own).collect();
        self.insert(table, fields)?;
        if let Some(slot) = self.state.slot(number, &id)? {
            self.covering.local.insert((number, slot));
        }
        Ok(id)
    }

    /// Whether a row is covered by a pending change that is not the one that is made.
    pub(crate) fn is_covered(&self, table: TableNo, slot: Slot) -> bool {
        let overlay = self.state.overlay.as_ref().or(self.before.overlay.as_ref());
        let overlay = overlay.filter(|_| IS_MET && !self.covering.writes_pending);
        let is_lifted = || self.covering.lifted.1.binary_search(&(table, slot)).is_ok();
        overlay.is_some_and(|overlay| overlay.covers(table, slot) || is_lifted())
    }

    /// Notes that fields of a row are written, if the row was covered when the transaction began.
    pub(super) fn note_below(&mut self, at: RowAt, fields: &[(FieldNo, Staged<'_>)]) {
        let overlay = self.before.overlay.as_ref();
        let Some(overlay) = overlay.filter(|_| IS_MET && !self.writes_pending()) else { return };
        if overlay.covers(at.0, at.1) {
            self.covering.below.push((at, fields.iter().map(|(field, _)| *field).collect()));
        }
    }

    /// Whether what is written now is written over base values.
    pub(super) fn writes_pending(&self) -> bool {
        self.covering.writes_pending
    }

    fn is_lifted(&self) -> bool {
        let was = self.before.overlay.is_some() || self.covering.pending.is_some();
        IS_MET && was && (self.state.overlay.is_none() || !self.covering.lifted.0.is_empty())
    }

    /// Gives all covered rows their base values, until the transaction ends.
    pub(crate) fn lift(&mut self) {
        if IS_MET
            && !self.covering.writes_pending
            && let Some(ways) = WAYS.get()
        {
            (ways.lift)(self);
        }
    }

    fn lift_known(&mut self) {
        self.write_notes();
        let Some(overlay) = self.state.overlay.clone() else { return };
        self.about_to_write_all();
        for (table, slot) in overlay.covered() {
            self.touched.insert(table, slot);
        }
        self.state.uncover(&overlay);
    }

    /// Gives some rows their base values, and the rows of a change; with them the rows of all changes
    /// that have to do with them. Where that is not known, it is all rows.
    fn lift_some(&mut self, change: Option<i64>, rows: &[RowAt]) {
        if IS_MET
            && !self.covering.writes_pending
            && let Some(ways) = WAYS.get()
        {
            (ways.lift_some)(self, change, rows);
        }
    }

    fn lift_some_known(&mut self, change: Option<i64>, rows: &[RowAt]) {
        self.write_notes();
        let Some(overlay) = self.state.overlay.clone() else { return };
        // Of what can be taken back, and of what was covered again, it would have to be known.
        let is_first = self.saved.is_none() && self.covering.base.is_none();
        let apart = is_first.then(|| overlay.apart(change, rows)).flatten();
        let Some((numbers, rows)) = apart.filter(|(numbers, _)| {
            overlay.pending().any(|change| !numbers.contains(&change.number))
        }) else {
            return self.lift();
        };
        let pending = self.pending();
        self.covering.pending.get_or_insert(pending);
        let schema = self.schema();
        let has_written = self.touched.rows().any(|(table, _)| is_covering(&schema, table));
        for (table, slot) in rows.iter().copied() {
            self.touched.insert(table, slot);
        }
        self.state.uncover_rows(&overlay, rows.iter().copied());
        self.state.overlay = None;
        let is_first = self.covering.lifted.0.is_empty() && !has_written;
        self.covering.bare = is_first.then(|| {
            let mut bare = self.state.clone();
            bare.take_own_tables(&self.before);
            Arc::new(bare)
        });
        self.state.overlay = Some(Arc::new(overlay.without(&numbers, &rows)));
        self.covering.lifted.0.extend(numbers);
        self.covering.lifted.1.extend(rows);
        crate::sorting::few_once(&mut self.covering.lifted.1);
    }

    /// Whether every pending change stands by itself, so that it is enough to lift a row before it is
    /// looked at.
    pub(super) fn lifts_rows_alone(&self) -> bool {
        self.state.overlay.as_ref().is_none_or(|overlay| !overlay.is_entangled())
    }

    /// Gives a row its base values, if it is covered.
    pub(crate) fn lift_at(&mut self, table: TableNo, slot: Slot) {
        let overlay = self.state.overlay.as_ref().filter(|_| IS_MET);
        if overlay.is_some_and(|overlay| overlay.covers(table, slot)) {
            self.lift_some(None, &[(table, slot)]);
        }
    }

    /// The same of the rows of a change.
    pub(crate) fn lift_rows_of(&mut self, change: &PendingChange) {
        for row in &change.rows {
            match row.edit {
                Edit::Delete => self.lift(),
                Edit::Insert(_) | Edit::Update(_) => self.lift_at(row.table, row.slot),
            }
        }
    }

    /// Gives rows their base values if one, or what its fields are to point at, is covered: a row that
    /// points at a deleted one follows it.
    pub(super) fn lift_for(
        &mut self,
        table: TableNo,
        slot: Slot,
        fields: &[(FieldNo, Staged<'_>)],
    ) {
        let overlay = self.state.overlay.as_ref();
        let is_met = IS_MET && !self.covering.writes_pending;
        let Some(overlay) = overlay.filter(|_| is_met) else { return };
        let definition = self.state.schema.table(table);
        let kind = |field: FieldNo| definition.field(field).kind;
        // A link that is a part of the id is not among the fields.
        let row_points = |field: &FieldNo| match kind(*field) {
            FieldKind::Link(to) => match self.state.table(table).cell(slot, *field) {
                Cell::Link(slot) => overlay.covers(to, slot),
                _ => false,
            },
            _ => false,
        };
        let points = |(field, staged): &(FieldNo, Staged<'_>)| match (staged, kind(*field)) {
            (Staged::Link(slot), FieldKind::Link(to)) => overlay.covers(to, *slot),
            (Staged::OneOf(to, slot), _) => overlay.covers(*to, *slot),
            (Staged::Links(targets), _) => {
                targets.iter().any(|entry| overlay.covers(entry.table, entry.slot))
            }
            _ => false,
        };
        // Which row a link by a key points at is not said by its value alone.
        let points_by_key = |field: &FieldDef| {
            let by = field.by().filter(|_| {
                field.link.as_ref().is_some_and(|link| link.on_delete != OnDelete::Keep)
            });
            by.is_some_and(|by| overlay.covers_any_of(by.table))
        };
        let is_entangled = fields.iter().any(points)
            || definition.fields.iter().any(points_by_key)
            || definition.id.iter().any(row_points);
        match is_entangled {
            true => self.lift(),
            false => self.lift_at(table, slot),
        }
    }

    /// The same if rows of some tables are covered.
    pub(super) fn lift_any_of(&mut self, tables: impl FnOnce(&Schema) -> BTreeSet<TableNo>) {
        if IS_MET && self.state.overlay.is_some() && !self.covering.writes_pending {
            self.lift_tables(&tables(&self.state.schema));
        }
    }

    fn lift_tables(&mut self, tables: &BTreeSet<TableNo>) {
        let overlay = self.state.overlay.as_ref();
        let is_covered = |table: &TableNo| overlay.is_some_and(|of| of.covers_any_of(*table));
        if tables.iter().any(is_covered) {
            self.lift();
        }
    }

    /// The version in which a row is read: below pending changes, as that is what is written.
    pub(crate) fn version_of(&self, table: TableNo, slot: Slot) -> &State {
        let overlay = self.state.overlay.as_ref();
        let overlay = overlay.filter(|_| IS_MET && !self.covering.writes_pending);
        overlay.and_then(|overlay| overlay.below((table, slot))).map_or(&self.state, |below| below)
    }

    /// The pending changes as they are by now.
    pub(crate) fn pending(&self) -> Vec<Arc<PendingChange>> {
        let overlay = self.state.overlay.as_ref().or(self.before.overlay.as_ref());
        match (&self.covering.pending, overlay) {
            (Some(pending), _) => pending.clone(),
            (None, overlay) => {
                overlay.into_iter().flat_map(|overlay| overlay.pending()).cloned().collect()
            }
        }
    }

    /// Sets which changes are pending.
    pub(crate) fn set_pending(&mut self, pending: Vec<Arc<PendingChange>>) {
        make_ways_known();
        self.lift();
        self.covering.pending = Some(pending);
    }

    /// Takes one of them away; what it did is no longer shown.
    pub(crate) fn end_pending(&mut self, number: i64) -> Option<Arc<PendingChange>> {
        let mut pending = self.pending();
        let place = pending.iter().position(|change| change.number == number)?;
        let ended = pending.remove(place);
        self.lift_some(Some(number), &[]);
        self.covering.pending = Some(pending);
        Some(ended)
    }

    /// Writes what a change did into the base.
    pub(crate) fn write_base(&mut self, change: &PendingChange) {
        self.lift_rows_of(change);
        self.apply(change);
        for row in change.rows.iter().filter(|row| matches!(row.edit, Edit::Delete)) {
            if let Some(id) = self.state.id(row.table, row.slot).map(|id| id.to_id()) {
                self.note_gone(row.table, id);
            }
        }
    }

    /// Makes a change once more, in one that is made now.
    pub(crate) fn redo(&mut self, change: &PendingChange) {
        let local = change.rows.iter().filter(|row| row.is_local);
        self.covering.local.extend(local.map(|row| (row.table, row.slot)));
        self.apply(change);
    }

    /// Notes that a record is older than its row.
    pub(super) fn note_older(&mut self, table: TableNo, slot: Slot) {
        if self.covering.pending.is_some() {
            self.covering.older.insert((table, slot));
        }
    }

    /// Whether a record was older than its row, since the pending changes were set.
    pub(crate) fn has_met_older(&self, table: TableNo, slot: Slot) -> bool {
        self.covering.older.contains(&(table, slot))
    }

    /// Whether what became of some rows since a version of this transaction contradicts what others
    /// wrote to them after a commit, so that only their order says which is right: not where a row
    /// says which version it is.
    pub(crate) fn contradicts(
        &self,
        before: &State,
        commit: u64,
        rows: impl Iterator<Item = (TableNo, Slot)>,
    ) -> bool {
        let later = OnceCell::new();
        let contradicts = |(table, slot)| {
            let all = || self.definition(table).field_numbers().collect();
            let fields = match compare(before, &self.state, table, slot) {
                Some(Happened::Updated(fields)) => fields,
                Some(Happened::Deleted) => all(),
                Some(Happened::Inserted) | None => return false,
            };
            let version = self.definition(table).version;
            !version.is_some_and(|version| fields.contains(version))
                && later
                    .get_or_init(|| self.history.since(commit))
                    .has_written((table, slot), &fields)
        };
        { rows }.any(contradicts)
    }

    /// Makes a change that is pending: what the closure writes is shown, over what is there.
    pub(crate) fn write_over<T, E>(
        &mut self,
        (number, seed): (i64, u64),
        write: impl FnOnce(&mut Self) -> Result<T, E>,
    ) -> Result<(T, Arc<PendingChange>), E> {
        make_ways_known();
        self.cover();
        let is_first = self.touched.is_empty();
        let written = (!is_first).then(|| Arc::new(self.state.clone()));
        self.covering.local_ids = Some(fastrand::Rng::with_seed(seed));
        let (value, others) = self.record_over(write);
        let value = value?;
        let touched = others.as_ref().unwrap_or(&self.touched);
        let before = written.unwrap_or_else(|| self.before.clone());
        let local = std::mem::take(&mut self.covering.local);
        let changed = changed_rows(&before, &self.state, touched);
        let mut rows = edits_of(&changed, &before, &self.state);
        for row in &mut rows {
            row.is_local = local.contains(&(row.table, row.slot));
        }
        let mut change = PendingChange { number, rows };
        self.put_in_again(&mut change, &before, touched);
        let change = Arc::new(change);
        let mut overlay = self.state.overlay.as_deref().cloned().unwrap_or_default();
        let rows = changed.iter().map(|row| (row.table, row.slot));
        let rows = rows.filter(|(table, _)| is_covering(&before.schema, *table));
        // Of a row whose entries alone have changed nothing else says so.
        let rows = rows.chain(change.rows.iter().map(|row| (row.table, row.slot)));
        // Of one that was covered already, more is by now.
        let mut covered: SmallVec<[RowAt; 2]> = SmallVec::new();
        for at in rows {
            if let Err(place) = covered.binary_search(&at) {
                covered.insert(place, at);
            }
        }
        overlay.push(change.clone(), covered.iter().copied(), &before, &self.state);
        self.covering.changed = is_first.then(|| (changed, self.writes()));
        self.state.overlay = Some(Arc::new(overlay));
        self.covering.is_made = true;
        self.covering.pending = None;
        match self.covering.defers_notes {
            true => self.covering.to_note = covered,
            false => self.note_base(&covered),
        }
        Ok((value, change))
    }

    /// What a change deletes may take rows along that it puts in again. Where they are as they were
    /// before, nothing else says so, and making the change once more would lose them.
    fn put_in_again(&self, change: &mut PendingChange, before: &Arc<State>, touched: &TouchedRows) {
        if !change.rows.iter().any(|row| matches!(row.edit, Edit::Delete)) {
            return;
        }
        let mut state = self.state.clone();
        let rows: Vec<RowAt> = touched.rows().collect();
        state.uncover(&Overlay::new(Vec::new(), &rows, before.clone(), &self.state));
        let (state, history) = (Arc::new(state), self.history.clone());
        let mut again = Transaction::new(state, history, Remembered::default());
        again.covering.writes_pending = true;
        again.apply(change);
        let schema = &self.state.schema;
        for (table, slot) in touched.rows().filter(|(table, _)| is_covering(schema, *table)) {
            let is_lost = compare(&again.state, &self.state, table, slot)
                .is_some_and(|happened| matches!(happened, Happened::Inserted));
            if is_lost && schema.table(table).made == TableOrigin::Declared {
                let edit = Edit::Insert(staged_row(&self.state, (table, slot)));
                change.rows.retain(|row| (row.table, row.slot) != (table, slot));
                change.rows.push(EditedRow { table, slot, edit, is_local: false });
            }
        }
        change.rows.sort_by_key(|row| (row.table, row.slot));
    }

    /// Writes over base values; gives which rows were written to, unless these are all that were.
    fn record_over<T>(&mut self, write: impl FnOnce(&mut Self) -> T) -> (T, Option<TouchedRows>) {
        let before = std::mem::take(&mut self.touched);
        self.covering.writes_pending = true;
        let value = write(self);
        self.covering.writes_pending = false;
        if before.is_empty() {
            return (value, None);
        }
        let touched = std::mem::replace(&mut self.touched, before);
        for (table, slot) in touched.rows() {
            self.touched.insert(table, slot);
        }
        (value, Some(touched))
    }

    /// Applies the pending changes again, if their rows have base values.
    fn cover(&mut self) {
        if !self.is_lifted() {
            return;
        }
        let pending = self.pending();
        // What is not lifted stays as it is.
        let rest = self.state.overlay.take();
        let (numbers, rows) = std::mem::take(&mut self.covering.lifted);
        let base = Arc::new(self.state.clone());
        let rows = rest.is_some().then_some(rows);
        let (touched, before) = (self.touched.clone(), self.covering.bare.take());
        self.covering.base = Some(Base {
            state: base.clone(),
            touched,
            before: before.filter(|_| rows.is_some()),
            rows,
        });
        let is_lifted =
            |change: &&Arc<PendingChange>| rest.is_none() || numbers.contains(&change.number);
        let ((), touched) = self.record_over(|tx| {
            for change in pending.iter().filter(is_lifted) {
                tx.apply(change);
            }
        });
        let touched = touched.as_ref().unwrap_or(&self.touched);
        let edited = pending.iter().filter(is_lifted).flat_map(|change| &change.rows);
        let edited = edited.map(|row| (row.table, row.slot)).chain(touched.rows());
        let mut places = BTreeSet::new();
        places.extend(edited);
        let covered: Vec<RowAt> = places.iter().copied().collect();
        let rest = rest.unwrap_or_default();
        self.state.overlay = match pending.is_empty() {
            true => None,
            false => Some(Arc::new(rest.with_all(pending, &covered, base, &self.state))),
        };
        self.note_base(&covered);
    }

    /// Does what a pending change does. A row that one with `on_delete = "restrict"` points at
    /// stays, unless that goes too or comes to point elsewhere: the remote will say.
    fn apply(&mut self, change: &PendingChange) {
        let is_delete = |row: &&EditedRow| matches!(row.edit, Edit::Delete);
        let mut left: Vec<&EditedRow> = change.rows.iter().filter(is_delete).collect();
        self.delete_those(&mut left);
        self.edit_rows(change);
        // What now goes may take rows along that the change has put in.
        if self.delete_those(&mut left) {
            self.edit_rows(change);
        }
    }

    /// Deletes rows until no more of them can be, and leaves the others; says whether one was.
    fn delete_those(&mut self, left: &mut Vec<&EditedRow>) -> bool {
        let first = left.len();
        loop {
            let before = left.len();
            left.retain(|row| {
                self.state.table(row.table).is_row(row.slot)
                    && self.delete_row(row.table, row.slot).is_err()
            });
            if left.is_empty() || left.len() == before {
                return left.len() < first;
            }
        }
    }

    fn edit_rows(&mut self, change: &PendingChange) {
        for row in &change.rows {
            let is_row = self.state.table(row.table).is_row(row.slot);
            match &row.edit {
                Edit::Update(fields) if is_row => drop(self.merge_row(row.table, row.slot, fields)),
                Edit::Insert(fields) => drop(self.merge_row(row.table, row.slot, fields)),
                Edit::Delete | Edit::Update(_) => {}
            }
        }
    }

    /// Gives a row that the remote has named its id: what points at it points at the row of that id,
    /// in the base and in pending changes, and rows that have it as a part of their own id get
    /// another one by that. Returns these rows, the one that is named first.
    ///
    /// # Errors
    /// [`ErrorKind::Type`] if the table has ids of another type.
    pub(crate) fn rename(&mut self, at: RowAt, id: RowId) -> Result<Vec<RenamedRow>> {
        self.lift();
        let mut renamed = Vec::new();
        let mut next = vec![(at, id)];
        while let Some(((table, from), new)) = next.pop() {
            let to = self.state.refer_id(table, &new)?;
            let Some(old) = self.state.id(table, from).map(|id| id.to_id()) else { continue };
            let row = RenamedRow { table, from, to, old, new };
            next.extend(self.rows_named_after(&row));
            self.follow_rename(&row);
            self.covering.renamed.push((row.old.clone(), row.new.clone()));
            renamed.push(row);
        }
        Ok(renamed)
    }

    /// The same for a row that the remote has brought before it has confirmed the change that makes
    /// it: the change goes on, over that row.
    pub(crate) fn rename_pending(&mut self, at: RowAt, id: RowId) -> Result<Vec<RenamedRow>> {
        let renamed = self.rename(at, id)?;
        let mut pending = self.pending();
        for change in &mut pending {
            let is_renamed = |at: RowAt| renamed.iter().any(|row| (row.table, row.to) == at);
            if change.rows.iter().any(|row| row.is_local && is_renamed((row.table, row.slot))) {
                let rows = &mut Arc::make_mut(change).rows;
                for row in rows.iter_mut().filter(|row| is_renamed((row.table, row.slot))) {
                    row.is_local = false;
                }
            }
        }
        self.set_pending(pending);
        Ok(renamed)
    }

    /// A row of a table that this transaction has written to the base, whose field has that text.
    pub(crate) fn written_with(&self, table: TableNo, field: FieldNo, text: &str) -> Option<Slot> {
        let mut slots = self.touched.of_table(table);
        slots.find(|slot| {
            let rows = self.version_of(table, *slot).table(table);
            rows.is_row(*slot) && rows.cell(*slot, field) == Cell::Text(text)
        })
    }

    /// The rows that are made by now in a change that is sent, and that the remote will name.
    pub(crate) fn local_rows(&self) -> Vec<RowAt> {
        self.covering.local.iter().copied().collect()
    }

    /// The rows that have a row as a part of their id, in the base or in pending changes, and the
    /// ids that they get when it gets its own.
    fn rows_named_after(&self, renamed: &RenamedRow) -> Vec<(RowAt, RowId)> {
        let (schema, cell) = (&self.state.schema, Cell::Link(renamed.from));
        let (mut rows, pending) = (BTreeSet::new(), self.pending());
        for (of, definition) in schema.table_numbers().zip(schema.tables.iter()) {
            // Entries follow their owners.
            if definition.made != TableOrigin::Declared {
                continue;
            }
            let is_link =
                |field: &&FieldNo| definition.field(**field).kind == FieldKind::Link(renamed.table);
            for field in definition.id.iter().filter(is_link) {
                let below = self.state.pointing_at(of, *field, renamed.table, &renamed.old);
                let above = pending.iter().flat_map(|change| &change.rows);
                let above = above.filter(|row| {
                    row.table == of && self.state.table(of).cell(row.slot, *field) == cell
                });
                rows.extend(below.into_iter().chain(above.map(|row| row.slot)).map(|at| (of, at)));
            }
        }
        let named = rows.into_iter().filter_map(|(of, slot)| {
            let definition = schema.table(of);
            let RowId::Parts(parts) = self.state.id(of, slot)?.to_id() else {
                return Some(((of, slot), renamed.new.clone()));
            };
            let parts = definition.id.iter().zip(parts.iter()).map(|(field, part)| {
                let is_renamed = definition.field(*field).kind == FieldKind::Link(renamed.table)
                    && self.state.table(of).cell(slot, *field) == cell;
                if is_renamed { renamed.new.clone() } else { part.clone() }
            });
            Some(((of, slot), RowId::Parts(parts.collect())))
        });
        named.collect()
    }

    /// Lets all that is or points at a row be or point at where it lies under its new id.
    fn follow_rename(&mut self, renamed: &RenamedRow) {
        let (schema, table) = (self.schema(), renamed.table);
        let pending = self.pending();
        let pending = pending.iter().map(|change| Arc::new(change.moved(&schema, renamed)));
        self.covering.pending = Some(pending.collect());
        for from in schema.table_numbers() {
            let definition = schema.table(from);
            let fields = definition.field_numbers().filter(|field| !definition.id.contains(field));
            for field in fields {
                let target = match definition.field(field).kind {
                    FieldKind::Link(to) if to == table => Staged::Link(renamed.to),
                    FieldKind::OneOf => Staged::OneOf(table, renamed.to),
                    _ => continue,
                };
                for row in self.state.pointing_at(from, field, table, &renamed.old) {
                    self.merge_row(from, row, &[(field, target.clone())]);
                }
            }
        }
        if self.state.table(table).is_row(renamed.from) {
            let fields = staged_row(&self.state, (table, renamed.from));
            self.merge_row(table, renamed.to, &fields);
            self.let_rows_go([(table, renamed.from)]);
        }
    }

    /// The rows that got another id: the old one and the new one.
    pub(crate) fn take_renamed(&mut self) -> Vec<(RowId, RowId)> {
        std::mem::take(&mut self.covering.renamed)
    }

    /// How often rows were written of the tables that were written to.
    fn writes(&self) -> u64 {
        let tables = self.touched.tables();
        tables.map(|(table, _)| self.state.table(table).writes()).sum()
    }

    /// Ends the transaction's pending changes: gives what became of base values, if they differ
    /// from what is shown; and what was changed, if that is one pending change alone, of which it is
    /// known already.
    pub(super) fn end_covering(&mut self) -> Ended {
        match WAYS.get().filter(|_| IS_MET) {
            Some(ways) => (ways.end)(self),
            None => (None, None),
        }
    }

    fn end_covering_known(&mut self) -> Ended {
        self.cover();
        let covering = std::mem::take(&mut self.covering);
        let Covering { base, is_made, below, to_note, changed, .. } = covering;
        if !to_note.is_empty() {
            self.note_base(&to_note);
        }
        let base = match base {
            Some(Base { state: after, touched, rows, before }) => {
                let before = before.unwrap_or_else(|| {
                    let mut before = State::clone(&self.before);
                    if let Some(overlay) = before.overlay.take() {
                        match rows {
                            Some(rows) => before.uncover_rows(&overlay, rows.into_iter()),
                            None => before.uncover(&overlay),
                        }
                    }
                    Arc::new(before)
                });
                let again = std::mem::take(&mut self.again);
                Some(Changes::between(before, after, &touched, again).with_below(below))
            }
            None => is_made.then(|| Changes::none(self.before.clone())),
        };
        let changed = changed.filter(|(_, writes)| *writes == self.writes());
        (base, changed.map(|(changed, _)| changed))
    }
}

impl Transaction {
    /// Notes the base values of these rows, and that others are no longer covered.
    pub(super) fn note_base(&mut self, places: &[RowAt]) {
        let schema = self.schema();
        let Some(notes) = schema.find_table(BASE) else { return };
        let overlay = self.state.overlay.clone().unwrap_or_default();
        let noted = |at: &RowAt| schema.table(at.0).made == TableOrigin::Declared;
        // Only those that were uncovered may be covered no more.
        if let (Some(was), Some(base)) = (self.before.overlay.clone(), &self.covering.base) {
            let uncovered: Vec<RowAt> = match &base.rows {
                Some(rows) => rows.iter().copied().filter(|at| was.covers(at.0, at.1)).collect(),
                None => was.covered().collect(),
            };
            let gone = uncovered.iter().filter(|at| !overlay.covers(at.0, at.1) && noted(at));
            gone.for_each(|at| self.drop_note(notes, *at));
        }
        let definition = schema.table(notes);
        let numbers = ["is_there", "is_whole", "fields", "absent"];
        let numbers = numbers.map(|name| definition.field_no(name));
        let [Some(is_there), Some(is_whole), Some(fields), Some(absent)] = numbers else { return };
        for at in places.iter().copied().filter(noted) {
            let (Some(key), Some(base)) = (self.note_key(at), overlay.below(at)) else {
                continue;
            };
            let is_row = base.table(at.0).is_row(at.1);
            let covered = match self.state.table(at.0).is_row(at.1) {
                true if is_row => Some(self.fields_covered(base, &overlay, at)),
                _ => None,
            };
            let row = Row { state: base, table: at.0, slot: at.1 };
            let is_meant = |field| covered.as_ref().is_none_or(|covered| covered.contains(field));
            let stored = is_row.then(|| row.stored(is_meant));
            let names = covered.iter().flat_map(FieldSet::iter);
            let names = names.filter(|field| base.table(at.0).cell(at.1, *field) == Cell::Absent);
            let names = names.map(|field| &*schema.table(at.0).field(field).name);
            let names: Vec<&str> = names.collect();
            let names =
                (!names.is_empty()).then(|| serde_json::to_string(&names)).and_then(Result::ok);
            let slot = self.refer(notes, &[Cell::Text(&key.0), Cell::Text(&key.1)]);
            let note = [
                (is_there, Staged::Bool(is_row)),
                (is_whole, Staged::Bool(covered.is_none())),
                (fields, json(stored.as_ref().map(Json::as_str))),
                (absent, json(names.as_deref())),
            ];
            self.merge_row(notes, slot, &note);
            if !schema.table(at.0).persist || base.table(at.0).is_unstored(at.1) {
                self.state.table_mut(notes).set_unstored(slot, true);
            }
        }
    }

    /// A row is not covered any more.
    fn drop_note(&mut self, notes: TableNo, at: RowAt) {
        let Some(key) = self.note_key(at) else { return };
        let slot = self.state.table(notes).slot(&[Cell::Text(&key.0), Cell::Text(&key.1)]);
        if let Some(slot) = slot.filter(|slot| self.state.table(notes).is_row(*slot)) {
            self.remove(notes, slot);
        }
    }

    /// The fields of a row that are others than below, or that pending changes write.
    fn fields_covered(&self, base: &State, overlay: &Overlay, (table, slot): RowAt) -> FieldSet {
        let mut fields = match compare(base, &self.state, table, slot) {
            Some(Happened::Updated(fields)) => fields,
            _ => FieldSet::default(),
        };
        for edit in overlay.edits_of(table, slot) {
            edit.fields().iter().for_each(|(field, _)| fields.insert(*field));
        }
        fields
    }

    /// By what the note of a row's base values is known: its table, and its id as JSON.
    fn note_key(&self, (table, slot): RowAt) -> Option<(Arc<str>, String)> {
        let definition = self.definition(table);
        let id = match definition.is_one_row() {
            true => RowId::Parts([].into()),
            false => self.state.id(table, slot)?.to_id(),
        };
        Some((definition.name.clone(), id.to_json().as_str().to_owned()))
    }
}

/// A JSON text, or null, on its way into a row.
fn json(text: Option<&str>) -> Staged<'_> {
    text.map_or(Staged::Null, |text| Staged::Json(text.into()))
}

/// Whether rows of a table are covered: not those in which the library itself notes something.
fn is_covering(schema: &Schema, table: TableNo) -> bool {
    !schema.table(table).is_own()
}

/// What changes of rows do to each row, to be done again; in the order of tables and slots.
fn edits_of(rows: &[RowChange], before: &State, after: &State) -> SmallVec<[EditedRow; 1]> {
    let schema = &after.schema;
    let mut edits: SmallVec<[EditedRow; 1]> = SmallVec::with_capacity(rows.len());
    for row in rows.iter().filter(|row| is_covering(schema, row.table)) {
        let RowChange { table, slot, .. } = *row;
        if schema.table(table).made != TableOrigin::Declared {
            continue;
        }
        let edit = match &row.happened {
            Happened::Deleted => Edit::Delete,
            Happened::Inserted => Edit::Insert(staged_row(after, (table, slot))),
            Happened::Updated(changed) => {
                let mut fields = EditedFields::new();
                stage(&mut fields, after, (table, slot), changed);
                Edit::Update(fields)
            }
        };
        edits.push(EditedRow { table, slot, edit, is_local: false });
    }
    for ((table, slot), links) in entries_of(rows, before, after) {
        match edits.binary_search_by_key(&(table, slot), |row| (row.table, row.slot)) {
            Ok(place) => {
                if let Edit::Update(fields) = &mut edits[place].edit {
                    stage(fields, after, (table, slot), &links);
                }
            }
            Err(place) => {
                let mut fields = EditedFields::new();
                stage(&mut fields, after, (table, slot), &links);
                let edit = Edit::Update(fields);
                edits.insert(place, EditedRow { table, slot, edit, is_local: false });
            }
        }
    }
    edits
}

/// Adds what fields of a row hold, each once, in their order. A link to one of several tables says
/// also to which, whatever lies below later.
fn stage(fields: &mut EditedFields, state: &State, at: RowAt, written: &FieldSet) {
    let definition = state.schema.table(at.0);
    for field in written.iter() {
        for field in [Some(field), definition.paired(field)].into_iter().flatten() {
            let place = fields.partition_point(|(known, _)| known.index() < field.index());
            if fields.get(place).is_none_or(|(known, _)| *known != field) {
                fields.insert(place, (field, staged_field(state, at, field)));
            }
        }
    }
}

/// What a row holds beside its id, on its way into another.
fn staged_row(state: &State, at: RowAt) -> EditedFields {
    let definition = state.schema.table(at.0);
    let written = definition.field_numbers().filter(|field| {
        !definition.id.contains(field) && state.table(at.0).cell(at.1, *field) != Cell::Absent
    });
    written.map(|field| (field, staged_field(state, at, field))).collect()
}

/// What a field of a row holds; of a to-many link, where it points.
fn staged_field(state: &State, (table, slot): RowAt, field: FieldNo) -> Staged<'static> {
    let cell = state.table(table).cell(slot, field);
    match state.schema.table(table).field(field).kind {
        FieldKind::Links(entries) if cell != Cell::Absent => {
            Staged::Links(state.entries_of(entries, slot).collect())
        }
        _ => Staged::of_cell(cell).into_owned(),
    }
}
