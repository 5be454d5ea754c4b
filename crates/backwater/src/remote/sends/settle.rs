//! What becomes of a change: confirmed, refused, tried again, or in conflict.

use std::sync::Arc;

use http::{Response, StatusCode};

use super::make::{below, change_row};
use super::queue::{SendCommits, SendPhase, with_new_ids};
use super::{Conflict, Resolution, SendState};
use crate::change::{ChangeKind, Transaction};
use crate::error::{Error, ErrorKind, Result};
use crate::ingest::Request;
use crate::remote::answer::{Failure, FailureKind};
use crate::remote::inner::{RemoteInner, SentRequest};
use crate::remote::key::AnswerKey;
use crate::remote::pending::{PENDING, PendingRow, read_changes, stored_changes, stored_variables};
use crate::remote::response::refused;
use crate::remote::url;
use crate::schema::{OnConflict, Rule, Schema, SendRule, TableNo};
use crate::table::{Cell, Edit, EditedRow, PendingChange, RenamedRow, RowAt, Staged};
use crate::trace::Report;
use crate::value::{Json, RowId};

/// What a server's answer means for a change.
enum Verdict {
    Confirmed(Option<Response<Vec<u8>>>),
    Refused(Failure),
    /// The same request may go well a little later.
    Again(Failure),
    /// It may once the program has done something, such as sign in.
    Held(Failure),
    Conflict(Failure, Response<Vec<u8>>),
}

impl RemoteInner {
    /// A call has come to its end that carried a change.
    pub(in crate::remote) fn settle_send(
        &self,
        sent: &SentRequest,
        result: Result<Response<Vec<u8>>, Failure>,
    ) {
        let Some(number) = self.sends().returned(sent.call) else { return };
        let schema = self.schema();
        let Some(rule) = self.sends().get(number).map(|entry| entry.order.rule.clone()) else {
            return;
        };
        let done = match schema.send(&rule) {
            Ok(rule) => match self.verdict(rule, result) {
                Verdict::Confirmed(response) => self.confirm(number, rule, response.as_ref()),
                Verdict::Refused(failure) => self.refuse(number, &failure),
                Verdict::Again(failure) => self.try_again(number, failure, true),
                Verdict::Held(failure) => self.try_again(number, failure, false),
                Verdict::Conflict(failure, response) => {
                    self.conflict(number, rule, failure, &response)
                }
            },
            Err(error) => {
                let message = format!("it cannot be sent any more: {error}");
                self.refuse(number, &Failure::new(FailureKind::Unreadable, message))
            }
        };
        if let Err(error) = done {
            // It is tried again, with the same key.
            tracing::error!(%error, number, "what became of a change could not be written");
            let failure = Failure::new(FailureKind::Unreadable, error.to_string());
            drop(self.try_again(number, failure, true));
        }
        self.drive();
    }

    /// A call that carries a change has not been answered in time.
    pub(in crate::remote) fn fail_send(&self, call: u64, failure: Failure) {
        let Some(number) = self.sends().returned(call) else { return };
        if let Err(error) = self.try_again(number, failure, true) {
            tracing::error!(%error, number, "what became of a change could not be noted");
        }
    }

    fn verdict(&self, rule: &SendRule, result: Result<Response<Vec<u8>>, Failure>) -> Verdict {
        let response = match result {
            Ok(response) => response,
            Err(failure) if failure.is_final => return Verdict::Refused(failure),
            Err(failure) => return Verdict::Again(failure),
        };
        let status = response.status();
        if status.is_success() {
            return Verdict::Confirmed(Some(response));
        }
        // What is to be deleted is not there any more.
        let is_gone = matches!(status, StatusCode::NOT_FOUND | StatusCode::GONE);
        if is_gone && &*rule.method == "DELETE" {
            return Verdict::Confirmed(None);
        }
        let failure = refused(&response, self.clock.now());
        match status.as_u16() {
            408 | 425 | 429 | 502 | 503 | 504 => Verdict::Again(failure),
            401 | 407 | 511 => Verdict::Held(failure),
            409 | 412 => Verdict::Conflict(failure, response),
            _ => Verdict::Refused(failure),
        }
    }

    /// The server has taken a change: what it did is base by now, unless the answer says otherwise.
    fn confirm(
        &self,
        number: i64,
        rule: &SendRule,
        response: Option<&Response<Vec<u8>>>,
    ) -> Result<()> {
        let known = self.sends().get(number).map(|entry| {
            let made = entry.request.as_ref().map(|made| made.url.clone());
            let change = (entry.order.change.clone(), entry.commits());
            (entry.order.label.clone(), change, entry.order.variables.clone(), made)
        });
        let Some((label, (change, commits), variables, url)) = known else { return Ok(()) };
        let url = url.unwrap_or_default();
        let request = self.request_of_answer(rule, &variables, &url);
        let body = response.map(|response| response.body().as_slice());
        let body = body.filter(|body| !body.iter().all(u8::is_ascii_whitespace));
        let named = change.local_row().zip(response);
        let named = named.and_then(|((table, _), to)| self.named_by(rule, table, to, &url));
        let is_unnamed = change.local_row().is_some() && named.is_none();
        let lost = if is_unnamed { self.sends().dependents(number) } else { Vec::new() };
        let next = self.cache().now().commit + 1;
        self.overtake_by(&change, next);
        let failure = Failure::new(
            FailureKind::Unreadable,
            format!("depended on: {label}; the server's answer does not say which id it gave"),
        );
        let report = self.cache().try_commit(format!("{label}: confirmed"), |tx| {
            tx.delete(PENDING, number)?;
            let Some(change) = tx.end_pending(number) else { return Ok((Vec::new(), false)) };
            let mut is_in_doubt = false;
            match (change.local_row(), &named) {
                (None, _) => is_in_doubt = write_confirmed(tx, (&*change, commits), request, body),
                (Some(at), Some(id)) => {
                    let of = (&*change, commits);
                    let (renamed, is_in_doubt) = write_named(tx, of, (at, id), request, body)?;
                    note_renamed(tx, &renamed)?;
                    return Ok((renamed, is_in_doubt));
                }
                // Of a row that nobody has named nothing is known but that it is there.
                (Some(_), None) => lost.iter().try_for_each(|n| note_refused(tx, *n, &failure))?,
            }
            Ok::<_, Error>((Vec::new(), is_in_doubt))
        })?;
        let (renamed, is_in_doubt) = &report.value;
        self.follow_renamed(renamed);
        self.overtake_by(&change, report.number());
        self.forget_sends(&lost, &SendState::Refused(failure));
        self.forget_sends(&[number], &SendState::Confirmed);
        let headers = response.map(|response| response.headers().clone()).unwrap_or_default();
        let urls = url::changed_by(&self.base, &url, &headers);
        // Where a row was changed or deleted in between, only the server knows which was first.
        let names = rule.makes_stale.as_deref().filter(|_| !is_in_doubt);
        self.make_stale_after(&change, names, &variables, (&urls, commits.sent))
    }

    /// The id that a server gave to a row: in its answer, or in the row's URL (RFC 9110, section
    /// 10.2.2).
    fn named_by(
        &self,
        rule: &SendRule,
        table: TableNo,
        response: &Response<Vec<u8>>,
        url: &str,
    ) -> Option<RowId> {
        let schema = self.schema();
        let read = schema.rule(rule.answer.as_deref()?).ok()?;
        id_in(&schema, table, read, response.body()).or_else(|| {
            let location = response.headers().get(http::header::LOCATION)?.to_str().ok()?;
            let found = url::variables_of(&self.base, read.url.as_ref()?, url, location)?;
            let [field] = *schema.table(table).id else { return None };
            let name = &schema.table(table).field(field).name;
            let (_, value) = found.into_iter().find(|(known, _)| **known == **name)?;
            schema.id(&schema.table(table).name, &value).ok()
        })
    }

    /// Rows that a server has brought before it has confirmed the changes that make them get their
    /// ids, in the transaction that brought them: they are known by their references.
    pub(in crate::remote) fn name_by_reference(
        &self,
        tx: &mut Transaction,
    ) -> Result<Vec<RenamedRow>> {
        let schema = self.schema();
        let mut all = Vec::new();
        if schema.sends.iter().all(|rule| rule.reference.is_none()) {
            return Ok(all);
        }
        for change in tx.pending() {
            let Some((table, slot)) = change.local_row() else { continue };
            let rule = self.sends().get(change.number).map(|entry| entry.order.rule.clone());
            let rule = rule.and_then(|rule| schema.send(&rule).ok());
            let field = rule.and_then(|rule| rule.reference.as_deref());
            let field = field.and_then(|name| schema.table(table).field_no(name));
            let Some(field) = field else { continue };
            let row = change.rows.iter().find(|row| (row.table, row.slot) == (table, slot));
            let given = row.and_then(|row| {
                row.edit.fields().iter().find(|(of, _)| *of == field).map(|(_, staged)| staged)
            });
            let Some(Staged::Text(reference)) = given else { continue };
            let Some(found) = tx.written_with(table, field, reference) else { continue };
            let Some(id) = tx.state.id(table, found).map(|id| id.to_id()) else { continue };
            all.extend(tx.rename_pending((table, slot), id)?);
        }
        if !all.is_empty() {
            note_renamed(tx, &all)?;
        }
        Ok(all)
    }

    /// What was given other ids in a commit has them in the queue from then on.
    pub(in crate::remote) fn follow_renamed(&self, renamed: &[RenamedRow]) {
        if !renamed.is_empty() {
            let state = self.cache().snapshot().state;
            self.sends().renamed(&state, renamed);
        }
    }

    /// By which rule the answer to a change is read.
    fn request_of_answer(
        &self,
        rule: &SendRule,
        variables: &[(String, String)],
        url: &str,
    ) -> Option<Request> {
        let mut request = Request::rule(rule.answer.as_deref()?);
        let of_url = url::variables_of(&self.base, &rule.url, url, url);
        for (name, value) in of_url.unwrap_or_default().iter().chain(variables) {
            request = request.var(name.as_str(), value.as_str());
        }
        Some(request)
    }

    /// A change is settled by a commit: what was asked for before may not have it yet.
    fn overtake_by(&self, change: &PendingChange, commit: u64) {
        self.engine().overtake(change.rows.iter().map(|row| row.table), commit);
    }

    /// Answers that may have been computed before a change are stale once it is settled: those of
    /// the rules that are named, or of all that write to its tables. What came of these while it was
    /// under way is so in any case: it may be older than the change, or newer.
    fn make_stale_after(
        &self,
        change: &PendingChange,
        names: Option<&[String]>,
        variables: &[(String, String)],
        (urls, sent): (&[String], u64),
    ) -> Result<()> {
        let schema = self.schema();
        let writes = |key: &AnswerKey| {
            schema.rule(key.rule()).is_ok_and(|rule| {
                let written = schema.written_by(rule);
                change.rows.iter().any(|row| written.contains(&row.table))
            })
        };
        let heard = names.map(|_| self.engine().heard_since(sent)).unwrap_or_default();
        let is_meant = |key: &AnswerKey| match names {
            Some(names) => {
                let agrees = |(name, value): &(String, String)| {
                    key.variable(name).is_none_or(|known| known == value)
                };
                let is_named = names.iter().any(|name| name == key.rule());
                is_named && variables.iter().all(agrees) || heard.contains(key) && writes(key)
            }
            None => writes(key),
        };
        self.make_stale_at(urls, is_meant).map(drop)
    }

    /// The server has refused a change: it is no longer shown, and neither is what depends on it.
    fn refuse(&self, number: i64, failure: &Failure) -> Result<()> {
        let sends = self.sends();
        let Some(entry) = sends.get(number) else { return Ok(()) };
        let (label, change, rule) =
            (entry.order.label.clone(), entry.order.change.clone(), entry.order.rule.clone());
        let variables = entry.order.variables.clone();
        let dependents = sends.dependents(number);
        drop(sends);
        let after = Failure { message: format!("depended on: {label}"), ..failure.clone() };
        let all = [(number, failure.clone())].into_iter();
        let all: Vec<_> = all.chain(dependents.into_iter().map(|n| (n, after.clone()))).collect();
        let next = self.cache().now().commit + 1;
        self.overtake_by(&change, next);
        let report = self.cache().try_commit(format!("{label}: refused"), |tx| {
            all.iter().try_for_each(|(number, failure)| note_refused(tx, *number, failure))?;
            Ok::<_, Error>(())
        })?;
        self.overtake_by(&change, report.number());
        for (number, failure) in all {
            let ended = self.sends().end(number);
            let wakers = ended.map(|entry| entry.shared.show(SendState::Refused(failure)));
            wakers.into_iter().for_each(super::Wakers::wake);
        }
        let schema = self.schema();
        match schema.send(&rule) {
            Ok(rule) => {
                // Whenever an answer came, it has nothing of it.
                let (names, never) = (rule.makes_stale.as_deref(), u64::MAX);
                self.make_stale_after(&change, names, &variables, (&[], never))
            }
            Err(_) => Ok(()),
        }
    }

    /// A try has failed: another follows after a while, or once the program says so.
    fn try_again(&self, number: i64, failure: Failure, by_itself: bool) -> Result<()> {
        let at = self.moment();
        let failures = self.sends().get(number).map_or(0, |entry| entry.failures + 1);
        let delay = by_itself.then(|| {
            let mut engine = self.engine();
            let delay = engine.delay(failures, failure.retry_after);
            if failure.status == Some(429) && failure.retry_after.is_some() {
                engine.pause(at.ticks.saturating_add(delay));
            }
            delay
        });
        let wakers = self.sends().again(number, (failure, delay), at);
        wakers.wake();
        let Some((shared, tries, label)) = self
            .sends()
            .get(number)
            .map(|entry| (entry.shared.clone(), entry.tries, entry.order.label.clone()))
        else {
            return Ok(());
        };
        self.note_pending(&format!("{label}: waits"), number, |row| {
            row.note(&shared.state(), tries);
        })
    }

    /// The server has another version than the one that was changed.
    fn conflict(
        &self,
        number: i64,
        rule: &SendRule,
        failure: Failure,
        response: &Response<Vec<u8>>,
    ) -> Result<()> {
        let known = self
            .sends()
            .get(number)
            .map(|entry| (entry.order.variables.clone(), entry.request.clone(), entry.failures));
        let Some((variables, made, failures)) = known else { return Ok(()) };
        // A server that says so whatever it is sent means something else.
        let is_enough = failures >= self.engine().limits.tries;
        if rule.on_conflict == OnConflict::Theirs || is_enough {
            return self.refuse(number, &failure);
        }
        // A server may say at once what it has.
        let url = made.map(|made| made.url).unwrap_or_default();
        let request = self.request_of_answer(rule, &variables, &url);
        let theirs = request.filter(|_| !response.body().is_empty()).map(|request| {
            let label = format!("{}: what the server has", rule.name);
            self.cache().commit(label, |tx| tx.ingest(request, response.body()))
        });
        let is_known = matches!(theirs, Some(Ok(_)));
        if !is_known && let Some(answer) = &rule.answer {
            self.reload_row(answer, rule, &variables, &url);
        }
        let decided = match rule.on_conflict {
            OnConflict::Ask => self.decide(number, &failure),
            OnConflict::Ours | OnConflict::Theirs => Some(Resolution::Ours),
        };
        if decided == Some(Resolution::Theirs) {
            return self.refuse(number, &failure);
        }
        if decided.is_none() {
            let state = SendState::Conflict(failure);
            let mut sends = self.sends();
            let Some(entry) = sends.get_mut(number) else { return Ok(()) };
            entry.hold();
            let tries = entry.tries;
            let wakers = entry.shared.show(state.clone());
            drop(sends);
            wakers.wake();
            return self.note_pending("a change is in conflict", number, |row| {
                row.note(&state, tries);
            });
        }
        // Another request, on what the server has by now.
        self.renew_request(number)?;
        self.try_again(number, failure, true)
    }

    /// What the program's callback says of a conflict.
    fn decide(&self, number: i64, failure: &Failure) -> Option<Resolution> {
        let callback = self.on_conflict.as_ref()?;
        let conflict = self.conflict_of(number, failure.clone())?;
        let decided =
            std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| callback(&conflict)));
        decided.unwrap_or_else(|_| {
            tracing::error!("the callback that decides on conflicts panicked");
            None
        })
    }

    /// The three versions of a row of which a change is in conflict.
    pub(in crate::remote) fn conflict_of(&self, number: i64, failure: Failure) -> Option<Conflict> {
        let snapshot = self.cache().snapshot();
        let sends = self.sends();
        let entry = sends.get(number)?;
        let (label, rule, about) =
            (entry.order.label.clone(), entry.order.rule.to_string(), entry.order.about?);
        let schema = self.schema();
        let written = entry.order.change.rows.iter().find(|row| (row.table, row.slot) == about);
        let written = written.map(|row| row.edit.clone());
        drop(sends);
        let nothing = || Json::from_minified("{}".to_owned());
        let fields = written.as_ref().map_or(&[][..], |edit| edit.fields());
        let ours = Json::from_minified(snapshot.state.staged_json(about.0, fields));
        let row = snapshot.table::<PendingRow>().ok()?.get(number).known();
        Some(Conflict {
            label: label.to_string(),
            send: rule,
            table: schema.table(about.0).name.to_string(),
            row_id: snapshot.state.id(about.0, about.1).map(|id| id.to_id()),
            original: row.and_then(|row| row.original).unwrap_or_else(nothing),
            theirs: below(&snapshot.state, about).unwrap_or_else(nothing),
            ours,
            failure,
        })
    }

    /// Decides on a change that is in conflict.
    pub(in crate::remote) fn resolve(&self, number: i64, resolution: Resolution) -> Result<()> {
        let sends = self.sends();
        let state = sends.get(number).map(|entry| entry.shared.state());
        drop(sends);
        let Some(SendState::Conflict(failure)) = state else {
            return Err(Error::new(ErrorKind::Row, "this change is in no conflict")
                .help("resolve one whose state is `Conflict`"));
        };
        match resolution {
            Resolution::Theirs => self.refuse(number, &failure)?,
            Resolution::Ours => {
                self.renew_request(number)?;
                let waiting = SendState::Waiting { failed: Some(failure) };
                let mut sends = self.sends();
                if let Some(entry) = sends.get_mut(number) {
                    entry.phase = SendPhase::Waiting;
                    drop(entry.shared.show(waiting.clone()));
                }
                drop(sends);
                self.note_pending("a conflict is resolved", number, |row| {
                    let tries = row_tries(row);
                    row.note(&waiting, tries);
                })?;
            }
        }
        self.drive();
        Ok(())
    }

    /// Has the row asked for that a change is about.
    fn reload_row(&self, answer: &str, rule: &SendRule, variables: &[(String, String)], url: &str) {
        let schema = self.schema();
        let Ok((_, template)) = schema.askable(answer) else { return };
        let of_url = url::variables_of(&self.base, &rule.url, url, url);
        let all = of_url.unwrap_or_default().into_iter().chain(variables.iter().cloned());
        let known = all.filter(|(name, _)| template.variables().any(|v| v == name));
        let key = self.key(answer, known, &[]);
        if let Err(error) = self.ask_key(&key, (true, crate::remote::engine::Asker::Once), None) {
            tracing::warn!(%error, answer, "what the server has could not be asked for");
        }
    }

    /// The next request of a change is another one, with a key of its own.
    fn renew_request(&self, number: i64) -> Result<()> {
        let key = self.new_key();
        let mut sends = self.sends();
        let Some(entry) = sends.get_mut(number) else { return Ok(()) };
        entry.request = None;
        Arc::make_mut(&mut entry.order).key.clone_from(&key);
        drop(sends);
        self.note_pending("a change is made anew", number, |row| {
            row.request = None;
            row.key = key.to_string();
        })
    }

    /// Takes a change back that is not under way.
    pub(in crate::remote) fn cancel_send(&self, number: i64) -> Result<bool> {
        let sends = self.sends();
        let Some(entry) = sends.get(number) else { return Ok(false) };
        let is_free = |phase| !matches!(phase, SendPhase::Sent(_) | SendPhase::Committing);
        if !is_free(entry.phase) {
            return Ok(false);
        }
        let label = format!("{}: taken back", entry.order.label);
        let mut all = sends.dependents(number);
        all.push(number);
        drop(sends);
        self.cache().try_commit(label, |tx| {
            for number in &all {
                tx.end_pending(*number);
                tx.delete(PENDING, *number)?;
            }
            Ok::<_, Error>(())
        })?;
        self.forget_sends(&all, &SendState::Cancelled);
        self.drive();
        Ok(true)
    }

    pub(super) fn forget_sends(&self, numbers: &[i64], state: &SendState) -> bool {
        let mut is_any = false;
        for number in numbers {
            let ended = self.sends().end(*number);
            is_any |= ended.is_some();
            let wakers = ended.map(|entry| entry.shared.show(state.clone()));
            wakers.into_iter().for_each(super::Wakers::wake);
        }
        is_any
    }

    /// The remote is dropped: what has not arrived goes once there is another one of its name.
    pub(in crate::remote) fn keep_sends(&self) {
        let numbers = self.sends().numbers();
        self.forget_sends(&numbers, &SendState::Kept);
    }

    /// Forgets the changes whose rows were deleted, as when a user signs out; returns whether there
    /// were any. What a program deletes of them is no longer shown, either.
    pub(in crate::remote) fn follow_sends(&self, report: &Report) -> bool {
        let Some(table) = report.table_no(PENDING) else { return false };
        let deleted = report.changes_of(table);
        let deleted = deleted.filter(|change| change.kind() == ChangeKind::Deleted);
        let numbers = deleted.filter_map(|change| match change.id()? {
            RowId::Int(number) => Some(number),
            _ => None,
        });
        let gone: Vec<i64> = numbers
            .filter(|number| {
                let sends = self.sends();
                sends.get(*number).is_some_and(|entry| entry.phase != SendPhase::Committing)
            })
            .collect();
        if gone.is_empty() {
            return false;
        }
        let state = self.cache().snapshot().state;
        let is_shown = |number: &i64| {
            let pending = state.overlay.iter().flat_map(|overlay| overlay.pending());
            pending.into_iter().any(|change| change.number == *number)
        };
        if gone.iter().any(is_shown) {
            let ended = self.cache().commit("changes are taken back", |tx| {
                gone.iter().for_each(|number| drop(tx.end_pending(*number)));
                Ok(())
            });
            if let Err(error) = ended {
                tracing::error!(%error, "changes whose rows were deleted are still shown");
            }
        }
        self.forget_sends(&gone, &SendState::Cancelled)
    }

    /// Sends a refused change once more.
    pub(in crate::remote) fn send_again(
        &self,
        number: i64,
    ) -> Result<std::sync::Arc<super::SentState>> {
        let snapshot = self.cache().snapshot();
        let row = snapshot.table::<PendingRow>()?.get(number).known();
        let Some(row) = row.filter(|row| row.state == "refused") else {
            return Err(Error::new(ErrorKind::Row, "this is no refused change")
                .help("only one that was refused, and is not dismissed, can be sent again"));
        };
        let stored = row.changes.clone();
        let variables = row.variables();
        self.send(&row.send, variables, row.label.clone(), |tx| {
            let change = read_changes(tx, number, &stored)?;
            tx.redo(&change);
            tx.delete(PENDING, number).map(drop)
        })
    }

    /// Lets go of a refused change.
    pub(in crate::remote) fn dismiss(&self, number: i64) -> Result<bool> {
        let done = self.cache().commit("a refused change is dismissed", |tx| {
            let rows = tx.table::<PendingRow>()?;
            let is_refused = rows.get(number).known().is_some_and(|row| row.state == "refused");
            Ok(is_refused && tx.delete(PENDING, number)?)
        })?;
        Ok(done.value)
    }
}

/// The id of the first record of a response.
fn id_in(schema: &Schema, table: TableNo, rule: &Rule, body: &[u8]) -> Option<RowId> {
    let tree: serde_json::Value = serde_json::from_slice(body).ok()?;
    let mut record = rule.records.parts().iter().try_fold(&tree, |tree, part| tree.get(part))?;
    if let Some(list) = record.as_array() {
        record = list.first()?;
    }
    record = rule.record.iter().try_fold(record, |tree, part| tree.get(part))?;
    let [field] = *schema.table(table).id else { return None };
    let from = &schema.table(table).field(field).from;
    let id = from.parts().iter().try_fold(record, |tree, part| tree.get(part))?;
    let id = RowId::from_json(&Json::parse(&id.to_string()).ok()?).ok()?;
    schema.fitted(table, id)
}

/// Writes what a change did whose row the server has named: what the server says of it, and what it
/// does not say as the change has it. Returns the rows that have other ids by that, and whether the
/// row was changed or deleted since.
fn write_named(
    tx: &mut Transaction,
    (change, commits): (&PendingChange, SendCommits),
    (at, id): (RowAt, &RowId),
    request: Option<Request>,
    body: Option<&[u8]>,
) -> Result<(Vec<RenamedRow>, bool)> {
    let renamed = tx.rename(at, id.clone())?;
    if renamed.first().is_some_and(|row| tx.is_deleted_since(commits.made, (row.table, row.to))) {
        return Ok((renamed, true));
    }
    let before = tx.state.clone();
    if let (Some(request), Some(body)) = (request, body) {
        let read = tx.all_or_nothing(|tx| tx.ingest(request, body));
        if let Err(error) = read {
            tracing::warn!(%error, "the server's answer to a change could not be read");
        }
    }
    let schema = tx.schema();
    let mut moved = change.clone();
    for row in &renamed {
        moved = moved.moved(&schema, row);
    }
    for row in moved.rows.iter_mut().filter(|row| row.is_local) {
        if let Edit::Insert(fields) = &mut row.edit {
            let rows = tx.state.table(row.table);
            fields.retain(|(field, _)| rows.cell(row.slot, *field) == Cell::Absent);
        }
    }
    tx.write_base(&moved);
    let rows = moved.rows.iter().map(|row| (row.table, row.slot));
    let is_in_doubt = tx.contradicts(&before, commits.sent, rows);
    Ok((renamed, is_in_doubt))
}

/// A change is no longer shown; its row says why.
fn note_refused(tx: &mut Transaction, number: i64, failure: &Failure) -> Result<()> {
    tx.end_pending(number);
    let refused = SendState::Refused(failure.clone());
    change_row(tx, number, |row| row.note(&refused, row_tries(row)))
}

/// Writes the rows of changes anew that are about, or point at, a row with another id.
fn note_renamed(tx: &mut Transaction, renamed: &[RenamedRow]) -> Result<()> {
    let (pending, state) = (tx.pending(), tx.state.clone());
    pending.iter().try_for_each(|change| {
        change_row(tx, change.number, |row| {
            row.row_id = row.about_in(&state, change).or(row.row_id.take());
            row.changes = stored_changes(&state, change);
            row.variables = stored_variables(&with_new_ids(&row.variables(), renamed));
        })
    })
}

fn row_tries(row: &PendingRow) -> u32 {
    row.tries.and_then(|tries| tries.try_into().ok()).unwrap_or(0)
}

/// Writes what a change did into the base, and over it what the server says of it. Where that is
/// older news than what is known, so was the change. A row that was deleted since the change was made
/// is not brought back. Returns whether there is such a one, or one that others have changed since.
fn write_confirmed(
    tx: &mut Transaction,
    (change, commits): (&PendingChange, SendCommits),
    request: Option<Request>,
    body: Option<&[u8]>,
) -> bool {
    tx.lift_rows_of(change);
    let gone = |row: &EditedRow| {
        let is_row = tx.state.table(row.table).is_row(row.slot);
        match row.edit {
            // What was changed was there.
            Edit::Update(_) => !is_row,
            Edit::Insert(_) => tx.is_deleted_since(commits.made, (row.table, row.slot)),
            Edit::Delete => false,
        }
    };
    let (gone, left): (Vec<_>, Vec<_>) = change.rows.iter().cloned().partition(gone);
    if !gone.is_empty() {
        tx.write_base(&PendingChange { number: change.number, rows: left.into() });
        return true;
    }
    let before = tx.state.clone();
    tx.write_base(change);
    if let (Some(request), Some(body)) = (request, body) {
        match tx.all_or_nothing(|tx| tx.ingest(request, body)) {
            Ok(_) => {
                for row in &change.rows {
                    if tx.has_met_older(row.table, row.slot) {
                        tx.state.take_row(&before, row.table, row.slot);
                    }
                }
            }
            Err(error) => {
                tracing::warn!(%error, "the server's answer to a change could not be read");
            }
        }
    }
    tx.contradicts(&before, commits.sent, change.rows.iter().map(|row| (row.table, row.slot)))
}
