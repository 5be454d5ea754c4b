//! Making changes: the commit that shows one and queues it, the request that carries it, and what
//! comes back after a restart.

use std::sync::Arc;
use std::time::Duration;

use compact_str::CompactString;
use http::header::{CONTENT_TYPE, HeaderValue, IF_MATCH};

use super::queue::{MadeRequest, SendEntry, SendKey, SendOrder, SendPhase};
use super::{SendState, SentState};
use crate::change::{BASE, Transaction};
use crate::error::{Error, ErrorKind, Result};
use crate::query::AsOf;
use crate::remote::RemoteTables;
use crate::remote::answer::{Failure, FailureKind};
use crate::remote::engine::Engine;
use crate::remote::inner::{RemoteInner, SentRequest};
use crate::remote::pending::{
    BaseNote, PENDING, PendingRow, read_changes, stored_changes, stored_request, stored_variables,
};
use crate::remote::transport::Call;
use crate::schema::{Schema, SendBody, SendRule, TableNo};
use crate::sorting;
use crate::table::{Cell, Edit, PendingChange, Row, RowAt, Slot, Staged, State};
use crate::typed::Found;
use crate::value::{Json, RowId, Timestamp, Value};

/// What became of a change that was made.
enum Made {
    New(Arc<SentState>),
    /// It is part of one that waits.
    Merged(Merged),
    /// There is nothing to send.
    Nothing(Arc<SentState>),
}

/// A change that waits and that has taken up another one.
struct Merged {
    number: i64,
    change: Arc<PendingChange>,
    key: SendKey,
}

/// What is noted of a change that is made: its row.
struct SendNote {
    order: Arc<SendOrder>,
    remote: Arc<str>,
    /// Whether its rule asks what becomes of conflicts.
    is_guarded: bool,
    made_at: Timestamp,
}

impl SendNote {
    fn write(&self, tx: &mut Transaction) {
        let (schema, order) = (tx.schema(), &*self.order);
        let table = order.about.map(|(table, _)| schema.table(table).name.to_string());
        let row_id = order.about.and_then(|(table, slot)| tx.state.id(table, slot));
        let row = PendingRow {
            number: order.change.number,
            remote: self.remote.to_string(),
            send: order.rule.to_string(),
            label: order.label.to_string(),
            state: "waiting".to_owned(),
            made_at: Some(self.made_at),
            table_name: table,
            row_id: row_id.map(|id| id.to_id().to_string()),
            key: order.key.to_string(),
            variables: stored_variables(&order.variables),
            changes: stored_changes(&tx.state, &order.change),
            original: order.about.filter(|_| self.is_guarded).and_then(|at| below(&tx.state, at)),
            request: None,
            kept_for: None,
            failure: None,
            message: None,
            status: None,
            tries: None,
            again_at: None,
        };
        row.put(tx);
    }
}

/// What a change that is being made has claimed in the queue: it is given back if the change is not
/// committed.
struct Claim<'r> {
    remote: &'r RemoteInner,
    number: Option<i64>,
    /// One that waits and is held meanwhile, as the change is to be a part of it.
    held: Option<i64>,
}

impl Drop for Claim<'_> {
    fn drop(&mut self) {
        let mut sends = self.remote.sends();
        if let Some(number) = self.number {
            sends.end(number);
        }
        if let Some(entry) = self.held.and_then(|held| sends.get_mut(held)) {
            entry.phase = SendPhase::Waiting;
        }
    }
}

impl RemoteInner {
    /// Makes a change that is shown at once and queued.
    pub(in crate::remote) fn send(
        &self,
        rule: &str,
        variables: Vec<(String, String)>,
        label: String,
        write: impl FnOnce(&mut Transaction) -> Result<()>,
    ) -> Result<Arc<SentState>> {
        let (AsOf { state, commit: after, .. }, notes) = self.declare_sends()?;
        let schema = &state.schema;
        let rule = schema.send(rule)?;
        let (key, seed) = {
            let mut engine = self.engine();
            (new_key(&mut engine), engine.random_number())
        };
        let mut claim = Claim { remote: self, number: None, held: None };
        let shared_label = CompactString::from(&label);
        let made = self.cache().commit_pending(label, notes, |tx| {
            // Changes are numbered in the order of their commits.
            let number = self.cache().next_send();
            let ((), change) = tx.write_over((number, seed), |tx| {
                write(tx)?;
                set_reference(tx, schema, rule, &key)
            })?;
            let about = about(schema, rule, &change, &variables)?;
            let id = about.and_then(|(table, slot)| tx.state.id(table, slot));
            let id = id.map(|id| id.to_id());
            // A row that the server will name is made by a request of its own.
            let merges = rule.merges && change.local_row().is_none();
            if let Some(at) = about.filter(|_| merges)
                && let Some(merged) = self.merged(tx, rule, (at, &change), &mut claim)?
            {
                return Ok::<_, Error>(Made::Merged(merged));
            }
            if rule.body == SendBody::Changes && change.rows.is_empty() {
                let confirmed = (SendState::Confirmed, id);
                return Ok(Made::Nothing(self.shared_send(number, confirmed)));
            }
            let points = tx.state.points_of(&change);
            let order = Arc::new(SendOrder {
                rule: rule.name.clone(),
                change,
                about,
                variables,
                key: key.clone(),
                label: shared_label,
            });
            let note = SendNote {
                order: order.clone(),
                remote: self.shared_name(),
                is_guarded: rule.if_match.is_some(),
                made_at: self.clock.now(),
            };
            tx.note_pending(move |tx| note.write(tx));
            let shared = self.shared_send(number, (SendState::Waiting { failed: None }, id));
            let mut entry = SendEntry::new(shared.clone(), order, points);
            // It has its place from here on, and its turn once it is committed.
            (entry.after, entry.phase) = (after, SendPhase::Committing);
            self.sends().add(number, entry);
            claim.number = Some(number);
            Ok(Made::New(shared))
        })?;
        (claim.number, claim.held) = (None, None);
        match made.value {
            Made::Nothing(shared) => Ok(shared),
            Made::New(shared) => {
                if let Some(entry) = self.sends().get_mut(shared.number) {
                    entry.phase = SendPhase::Waiting;
                }
                // Else it is driven once it is.
                if self.engine().is_online() {
                    self.drive();
                }
                Ok(shared)
            }
            Made::Merged(Merged { number, change, key }) => {
                let mut sends = self.sends();
                let Some(entry) = sends.get_mut(number) else {
                    drop(sends);
                    return Ok(self.shared_send(number, (SendState::Cancelled, None)));
                };
                entry.points = self.cache().snapshot().state.points_of(&change);
                let order = Arc::make_mut(&mut entry.order);
                (order.change, order.key) = (change, key);
                entry.phase = SendPhase::Waiting;
                let shared = entry.shared.clone();
                drop(sends);
                self.drive();
                Ok(shared)
            }
        }
    }

    fn shared_send(&self, number: i64, state: (SendState, Option<RowId>)) -> Arc<SentState> {
        Arc::new(SentState::new(number, self.this.clone(), state))
    }

    /// Makes sure of the tables in which changes that have not arrived stand; gives the last commit,
    /// and which tables these are.
    pub(in crate::remote) fn declare_sends(&self) -> Result<(AsOf, [TableNo; 2])> {
        let mut now = self.cache().now();
        let mut notes = self.notes(&now.state.schema);
        if notes.is_none() {
            let lacking = RemoteTables { sends: true, ..RemoteTables::default() };
            self.cache().declare("changes are sent", |schema| lacking.add_to(schema))?;
            now = self.cache().now();
            notes = self.notes(&now.state.schema);
        }
        if now.state.has_unready() {
            self.cache().rehydrate([PENDING, BASE])?;
            now = self.cache().now();
        }
        let lacking = || Error::new(ErrorKind::Schema, format!("there is no table \"{PENDING}\""));
        Ok((now, notes.ok_or_else(lacking)?))
    }

    /// A key that no other request has.
    pub(super) fn new_key(&self) -> SendKey {
        new_key(&mut self.engine())
    }

    /// Puts a change into one of the same row that waits, if there is one.
    fn merged(
        &self,
        tx: &mut Transaction,
        rule: &SendRule,
        (about, change): (RowAt, &PendingChange),
        held: &mut Claim<'_>,
    ) -> Result<Option<Merged>> {
        // It is not to go before this is committed.
        let Some(open) = self.sends().claim_open(&rule.name, about) else { return Ok(None) };
        held.held = Some(open);
        let pending = tx.pending();
        let Some(place) = pending.iter().position(|known| known.number == open) else {
            return Ok(None);
        };
        let both = Arc::new(pending[place].followed_by(change));
        let mut left: Vec<_> =
            pending.into_iter().filter(|known| known.number != change.number).collect();
        left[place] = both.clone();
        tx.set_pending(left);
        // What is on the disk may be from before this, and is sent once more after a kill: that is
        // another request. One that makes a row is not: there must not be two.
        let makes_row = both.rows.iter().any(|row| matches!(row.edit, Edit::Insert(_)));
        let known =
            self.sends().get(open).filter(|_| makes_row).map(|entry| entry.order.key.clone());
        let key = known.unwrap_or_else(|| self.new_key());
        let changes = Value::from(stored_changes(&tx.state, &both));
        tx.update(PENDING, open, [("changes", changes), ("key", (&*key).into())])?;
        Ok(Some(Merged { number: open, change: both, key }))
    }

    /// Starts the next change's request; returns whether there was one.
    pub(in crate::remote) fn start_send(&self, ticks: Duration) -> bool {
        let (may_begin, limits) = {
            let engine = self.engine();
            (engine.may_begin(ticks), engine.limits.clone())
        };
        if !may_begin {
            return false;
        }
        let Some(number) = self.sends().next(limits.at_a_time) else { return false };
        let call = self.engine().new_call();
        let snapshot = self.cache().snapshot();
        let begins = (call, snapshot.commit());
        self.sends().sent(number, begins, ticks.saturating_add(limits.time_out));
        let made = self.make_request(number, &snapshot.state).and_then(|(request, made)| {
            // What was made is known before it is under way: another try is the same.
            self.note_sent(number, made)?;
            Ok(request)
        });
        let commit = self.cache().now().commit;
        let (fields, url) = match &made {
            Ok(request) => (request.headers().clone(), request.uri().to_string()),
            Err(_) => Default::default(),
        };
        let sent = SentRequest { call, commit, sent: ticks, fields, url };
        match made {
            Ok(request) => {
                self.transport.start(request, Call::new(self.this.clone(), sent, limits))
            }
            Err(error) => {
                let mut failure = Failure::new(FailureKind::Network, error.to_string());
                failure.is_final = true;
                self.settle_send(&sent, Err(failure));
            }
        }
        true
    }

    fn make_request(
        &self,
        number: i64,
        state: &State,
    ) -> Result<(http::Request<Vec<u8>>, MadeRequest)> {
        let schema = self.schema();
        let sends = self.sends();
        let gone = || Error::new(ErrorKind::Stopped, "the change was taken back");
        let entry = sends.get(number).ok_or_else(gone)?;
        let rule = schema.send(&entry.order.rule)?;
        let made = match &entry.request {
            Some(made) => made.clone(),
            None => self.request_of_send(entry, rule, state)?,
        };
        let key = entry.order.key.clone();
        drop(sends);
        let uri = made.url.parse::<http::Uri>().map_err(|error| {
            let message = format!("send rule \"{}\" makes no URL of this row", rule.name);
            Error::new(ErrorKind::Parameter, message).caused_by(error)
        })?;
        let mut request = http::Request::new(made.body.clone().unwrap_or_default().into_bytes());
        *request.method_mut() = rule.method.parse().unwrap_or(http::Method::PATCH);
        *request.uri_mut() = uri;
        let mut fields = self.fields_now();
        let text = |text: &str| HeaderValue::from_str(text).ok();
        if made.body.is_some() {
            let usual = match rule.body {
                SendBody::Changes => "application/merge-patch+json",
                SendBody::Patch => "application/json-patch+json",
                _ => "application/json",
            };
            let kind = text(rule.content_type.as_deref().unwrap_or(usual));
            kind.into_iter().for_each(|kind| drop(fields.insert(CONTENT_TYPE, kind)));
        }
        if let Some(tag) = made.if_match.as_deref().and_then(text) {
            fields.insert(IF_MATCH, tag);
        }
        // A structured field, whose value is a string.
        if let Some(key) = text(&format!("\"{key}\"")) {
            fields.insert("idempotency-key", key);
        }
        *request.headers_mut() = fields;
        Ok((request, made))
    }

    /// Notes that a change's request is under way.
    fn note_sent(&self, number: i64, made: MadeRequest) -> Result<()> {
        let mut sends = self.sends();
        let Some(entry) = sends.get_mut(number) else { return Ok(()) };
        let is_new = entry.request.as_ref() != Some(&made);
        entry.request = Some(made.clone());
        let (tries, label) = (entry.tries, entry.order.label.clone());
        let _nobody = entry.shared.show(SendState::UnderWay { tries });
        drop(sends);
        self.note_pending(&format!("{label}: sent"), number, |row| {
            row.note(&SendState::UnderWay { tries }, tries);
            if is_new {
                row.request = stored_request(&made);
            }
        })
    }

    /// Changes the row of a change, if it is there.
    pub(in crate::remote) fn note_pending(
        &self,
        label: &str,
        number: i64,
        change: impl FnOnce(&mut PendingRow),
    ) -> Result<()> {
        self.cache().commit_bookkeeping(label, |tx| change_row(tx, number, change))?;
        Ok(())
    }

    /// Takes up the changes that had not arrived when the program ended.
    pub(in crate::remote) fn take_up_sends(&self) -> Result<()> {
        let schema = self.schema();
        if schema.find_table(PENDING).is_none() {
            return Ok(());
        }
        self.declare_sends()?;
        let snapshot = self.cache().snapshot();
        let rows: Vec<PendingRow> =
            snapshot.table::<PendingRow>()?.iter().filter_map(Found::known).collect();
        let last = rows.iter().map(|row| row.number).max().unwrap_or(0);
        self.cache().begin_sends_after(last);
        let is_open = |row: &&PendingRow| row.state != "refused" && row.state != "kept";
        if snapshot.state.overlay.is_none() && rows.iter().any(|row| is_open(&row)) {
            // Of other remotes, too: what is shown is one.
            self.cache().rehydrate(self.tables_of(&rows))?;
            let notes = snapshot.table::<BaseNote>()?;
            let notes: Vec<BaseNote> = notes.iter().filter_map(Found::known).collect();
            self.cache().commit_bookkeeping("pending changes are taken up again", |tx| {
                tx.take_up(notes.into_iter().filter_map(BaseNote::into_row).collect())?;
                let changes = rows.iter().filter(is_open);
                let changes = changes.map(|row| read_changes(tx, row.number, &row.changes));
                let changes: Result<Vec<_>> = changes.map(|change| Ok(change?.into())).collect();
                tx.set_pending(changes?);
                for row in rows.iter().filter(is_open).filter(|row| row.state == "under way") {
                    tx.update(PENDING, row.number, [("state", "waiting")])?;
                }
                Ok(())
            })?;
        }
        let state = self.cache().snapshot().state;
        let pending = state.overlay.iter().flat_map(|overlay| overlay.pending().cloned());
        let pending: Vec<Arc<PendingChange>> = pending.collect();
        for row in rows.iter().filter(is_open).filter(|row| row.remote == self.name()) {
            let Some(change) = pending.iter().find(|change| change.number == row.number) else {
                continue;
            };
            self.queue_again(row, change.clone(), &state);
        }
        Ok(())
    }

    /// Queues a change whose row is there.
    fn queue_again(&self, row: &PendingRow, change: Arc<PendingChange>, state: &State) {
        let is_conflict = row.state == "conflict";
        let state_now = match is_conflict {
            true => SendState::Conflict(row.failure()),
            false => SendState::Waiting { failed: None },
        };
        let about = row.about(state);
        let id = about.and_then(|(table, slot)| state.id(table, slot)).map(|id| id.to_id());
        let shared = self.shared_send(row.number, (state_now, id));
        let points = state.points_of(&change);
        let order = SendOrder {
            rule: row.send.as_str().into(),
            change,
            about,
            variables: row.variables(),
            key: row.key.as_str().into(),
            label: row.label.as_str().into(),
        };
        let mut entry = SendEntry::new(shared, order.into(), points);
        entry.request = row.made_request();
        entry.first_sent = entry.request.as_ref().map(|_| 0);
        if is_conflict {
            entry.hold();
        }
        self.sends().add(row.number, entry);
    }

    /// Empties the cache; changes that have not arrived are kept for a user, or dropped. Returns how
    /// many there were.
    pub(in crate::remote) fn sign_out(&self, label: String, user: Option<&str>) -> Result<usize> {
        let unsent = self.sends().numbers();
        let is_open = |row: &PendingRow| row.remote == self.name() && unsent.contains(&row.number);
        self.cache().clear_but(label, |tx| {
            // Of those that others keep nothing goes.
            let kept = self.rows_to_keep(user, &is_open)?;
            if !kept.is_empty() {
                let mut rows = tx.table::<PendingRow>()?;
                kept.iter().try_for_each(|row| rows.insert(row))?;
            }
            Ok(())
        })?;
        self.forget_sends(
            &unsent,
            if user.is_some() { &SendState::Kept } else { &SendState::Cancelled },
        );
        self.drive();
        Ok(unsent.len())
    }

    fn rows_to_keep(
        &self,
        user: Option<&str>,
        is_open: &impl Fn(&PendingRow) -> bool,
    ) -> Result<Vec<PendingRow>> {
        if self.schema().find_table(PENDING).is_none() {
            return Ok(Vec::new());
        }
        let snapshot = self.cache().snapshot();
        let rows = snapshot.table::<PendingRow>()?;
        let rows = rows.iter().filter_map(Found::known).filter_map(|mut row| {
            if row.state == "kept" {
                return Some(row);
            }
            row.kept_for = Some(user.filter(|_| is_open(&row))?.to_owned());
            "kept".clone_into(&mut row.state);
            Some(row)
        });
        Ok(rows.collect())
    }

    /// Takes up the changes that were kept for a user; returns how many there are.
    pub(in crate::remote) fn sign_in(&self, user: &str) -> Result<usize> {
        if self.schema().find_table(PENDING).is_none() {
            return Ok(0);
        }
        self.declare_sends()?;
        let snapshot = self.cache().snapshot();
        let rows = snapshot.table::<PendingRow>()?;
        let is_of = |row: &PendingRow| {
            row.state == "kept"
                && row.remote == self.name()
                && row.kept_for.as_deref() == Some(user)
        };
        let mut rows: Vec<PendingRow> =
            rows.iter().filter_map(Found::known).filter(is_of).collect();
        sorting::few(&mut rows, |one, other| one.number < other.number);
        if rows.is_empty() {
            return Ok(0);
        }
        self.cache().rehydrate(self.tables_of(&rows))?;
        let taken =
            self.cache().commit(format!("{user} signed in: edits are shown again"), |tx| {
                let mut changes: Vec<Arc<PendingChange>> = Vec::new();
                for row in &rows {
                    changes.push(read_changes(tx, row.number, &row.changes)?.into());
                    change_row(tx, row.number, |row| {
                        "waiting".clone_into(&mut row.state);
                        row.kept_for = None;
                    })?;
                }
                let all = tx.pending().into_iter().chain(changes.iter().cloned());
                let all = all.collect();
                tx.set_pending(all);
                Ok(changes)
            })?;
        let state = self.cache().snapshot().state;
        for (row, change) in rows.iter().zip(taken.value) {
            self.queue_again(row, change, &state);
        }
        self.drive();
        Ok(rows.len())
    }

    fn tables_of(&self, rows: &[PendingRow]) -> Vec<String> {
        let schema = self.schema();
        let named = rows.iter().flat_map(PendingRow::tables);
        let known = named.filter_map(|name| schema.table_no(&name).ok());
        let all = known.flat_map(|table| schema.written_with(table));
        let all: std::collections::BTreeSet<TableNo> = all.collect();
        all.into_iter().map(|table| schema.table(table).name.to_string()).collect()
    }
}

fn new_key(engine: &mut Engine) -> SendKey {
    let number = u128::from(engine.random_number()) << 64 | u128::from(engine.random_number());
    let mut key = [0; 22];
    for (place, digit) in key.iter_mut().enumerate() {
        *digit = DIGITS[(number >> (6 * place)) as usize % DIGITS.len()];
    }
    str::from_utf8(&key).unwrap_or_default().into()
}

/// Those of base64 in URLs (RFC 4648, section 5).
const DIGITS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";

/// Changes the row of a change, if it is there.
pub(super) fn change_row(
    tx: &mut Transaction,
    number: i64,
    change: impl FnOnce(&mut PendingRow),
) -> Result<()> {
    let mut rows = tx.table::<PendingRow>()?;
    match rows.get(number) {
        Found::Here(_) | Found::Partly(_) => rows.update(number, change),
        Found::Missing | Found::NotReady => Ok(()),
    }
}

/// A row as it is below pending changes.
pub(super) fn below(state: &State, (table, slot): RowAt) -> Option<Json> {
    let overlay = state.overlay.as_deref();
    let base = overlay.and_then(|overlay| overlay.below((table, slot)));
    let version = base.map_or(state, |base| base);
    let row = Row { state: version, table, slot };
    version.table(table).is_row(slot).then(|| row.nested(0))
}

/// Gives a row that the server will name a reference, if the program has given none.
fn set_reference(
    tx: &mut Transaction,
    schema: &Schema,
    rule: &SendRule,
    reference: &str,
) -> Result<()> {
    let Some(name) = &rule.reference else { return Ok(()) };
    let table = schema.table_no(&rule.table)?;
    let Some(field) = schema.table(table).field_no(name) else { return Ok(()) };
    for (_, slot) in tx.local_rows().into_iter().filter(|(of, _)| *of == table) {
        if tx.state.table(table).cell(slot, field) == Cell::Absent {
            tx.merge_row(table, slot, &[(field, Staged::Text(reference.to_owned().into()))]);
        }
    }
    Ok(())
}

/// The row that a change is about.
fn about(
    schema: &Schema,
    rule: &SendRule,
    change: &PendingChange,
    variables: &[(String, String)],
) -> Result<Option<RowAt>> {
    let table = schema.table_no(&rule.table)?;
    let mut rows = change.rows.iter().filter(|row| row.table == table);
    let wrong = |message: String, help: &str| {
        Err(Error::new(ErrorKind::Row, message).help(help.to_owned()))
    };
    match (rows.next(), rows.next()) {
        (Some(row), None) => Ok(Some((row.table, row.slot))),
        (Some(_), Some(_)) => wrong(
            format!("this changes several rows of \"{}\"", rule.table),
            "a send is about one row: make a send of each",
        ),
        (None, _) => {
            let is_given = |name: &&str| !variables.iter().any(|(known, _)| known == name);
            match rule.url.in_path().find(is_given) {
                None => Ok(None),
                // It may have been so already.
                Some(_) if change.rows.is_empty() && rule.body == SendBody::Changes => Ok(None),
                Some(name) => wrong(
                    format!("this changes no row of \"{}\"", rule.table),
                    &format!("change one, or give \"{name}\" by `send_with`"),
                ),
            }
        }
    }
}

/// The slot of an id that is stored as text.
pub(super) fn slot_of(state: &State, table: TableNo, id: &str) -> Option<Slot> {
    let id = state.schema.id(&state.schema.table(table).name, id).ok()?;
    state.slot(table, &id).ok().flatten()
}

impl PendingRow {
    /// The id as text of the row that its change is about.
    pub(super) fn about_in(&self, state: &State, change: &PendingChange) -> Option<String> {
        let table = state.schema.table_no(self.table_name.as_deref()?).ok()?;
        let row = change.rows.iter().find(|row| row.table == table)?;
        state.id(table, row.slot).map(|id| id.to_id().to_string())
    }

    fn about(&self, state: &State) -> Option<RowAt> {
        let table = state.schema.table_no(self.table_name.as_deref()?).ok()?;
        if state.schema.table(table).is_one_row() {
            return Some((table, crate::table::ONLY));
        }
        Some((table, slot_of(state, table, self.row_id.as_deref()?)?))
    }
}
