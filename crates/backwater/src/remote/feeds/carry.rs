//! Carries out what the book of feeds decides: requests, commits, and what follows a gap.

use std::sync::Arc;
use std::time::Duration;

use compact_str::CompactString;
use http::header::{ACCEPT, CACHE_CONTROL, CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue};
use http::{Response, StatusCode};

use super::FeedShared;
use super::batch::Batch;
use super::book::{FeedEntry, FeedPhase, FeedWork};
use super::decoder::{RawEvent, TooLong};
use super::row::{FEEDS, FeedPlace, FeedRow};
use crate::change::ChangeKind;
use crate::error::{Error, ErrorKind, Result, nearest};
use crate::remote::answer::{Failure, FailureKind};
use crate::remote::cover;
use crate::remote::key::{AnswerKey, KeyRef};
use crate::remote::response::refused;
use crate::remote::transport::FeedCall;
use crate::remote::url;
use crate::remote::{RemoteInner, RemoteTables};
use crate::schema::{FeedFormat, FeedRule, Resume};
use crate::trace::Report;
use crate::typed::Found;
use crate::value::{Named, RowId};

const LAST_EVENT_ID: HeaderName = HeaderName::from_static("last-event-id");

impl RemoteInner {
    pub(super) fn listen(&self, name: &str, variables: &Named) -> Result<Arc<FeedShared>> {
        let schema = self.schema();
        let rule = schema.feed(name)?;
        let own = |variable: &&str| match &rule.resume {
            Resume::Variable(position) => **position != **variable,
            Resume::LastEventId | Resume::Never => true,
        };
        let known: Vec<&str> = rule.url.variables().filter(own).collect();
        let given = KeyRef::new(name, variables);
        if let Some(unknown) = given.names().find(|name| !known.contains(name)) {
            let message = format!("feed \"{name}\" has no variable \"{unknown}\"");
            let help = nearest(unknown, known.iter().copied());
            return Err(Error::new(ErrorKind::Parameter, message).help(help));
        }
        let key = given.to_key(&rule.secret, |value| cover(self.seed, value));
        self.declare_feeds()?;
        let position = self.feed_position(&key)?;
        let recall = || (Arc::new(FeedShared::new(key.clone())), position);
        let (shared, is_new) = self.feeds().hold(&key, &Arc::new(rule.clone()), recall);
        if is_new && let Err(error) = self.note_feed("is listened to", &key) {
            let released = self.feeds().release(&key);
            released.into_iter().for_each(|(_, wakers)| wakers.wake());
            return Err(error);
        }
        self.drive();
        Ok(shared)
    }

    /// The table in which it stands how far feeds were read.
    fn declare_feeds(&self) -> Result<()> {
        if self.schema().find_table(FEEDS).is_none() {
            let lacking = RemoteTables { feeds: true, ..RemoteTables::default() };
            self.cache().declare("a feed is listened to", |schema| lacking.add_to(schema))?;
        }
        self.cache().rehydrate([FEEDS])
    }

    /// How far a feed was read before.
    fn feed_position(&self, key: &AnswerKey) -> Result<Option<String>> {
        let snapshot = self.cache().snapshot();
        let place = FeedPlace::of(self.name(), key);
        let row = snapshot.get(FEEDS, place.id())?;
        let position = row.map(|row| row.get("position")).transpose()?.flatten();
        Ok(position.and_then(|position| position.as_str().map(str::to_owned)))
    }

    pub(super) fn stop_listening(&self, key: &AnswerKey) {
        let released = self.feeds().release(key);
        let Some((entry, wakers)) = released else { return };
        wakers.wake();
        let state = entry.shared.state();
        let label = format!("feed {} is no longer listened to", key.words());
        let place = FeedPlace::of(self.name(), key);
        let noted = self.cache().commit_bookkeeping(&label, |tx| {
            match tx.get(FEEDS, place.id())?.is_some() {
                true => place.put(tx, &state, None),
                false => Ok(()),
            }
        });
        if let Err(error) = noted {
            tracing::warn!(%error, "what became of a feed could not be noted");
        }
    }

    /// Opens the next feed that is to be opened; returns whether there was one.
    pub(in crate::remote) fn start_feed(&self, ticks: Duration) -> bool {
        if !self.feeds().has_waiting() || !self.engine().may_begin(ticks) {
            return false;
        }
        let schema = self.schema();
        let (call, limits) = {
            let mut engine = self.engine();
            (engine.new_call(), engine.limits.clone())
        };
        let mut feeds = self.feeds();
        let Some(entry) = feeds.next() else { return false };
        let (key, position) = (entry.key.clone(), entry.position.clone());
        let rule = match schema.feed(key.rule()) {
            Ok(rule) => Arc::new(rule.clone()),
            Err(_) => entry.rule.clone(),
        };
        entry.begin(call, rule.clone(), ticks.saturating_add(limits.time_out));
        drop(feeds);
        if let Err(error) = self.note_feed("connects", &key) {
            tracing::error!(%error, "where a feed stands could not be noted");
        }
        let feed = FeedCall::new(self.this.clone(), call, limits.bytes);
        match self.feed_request(&rule, &key, position.as_deref()) {
            Ok(request) => self.transport.open(request, feed),
            Err(error) => feed.refuse(error.to_string()),
        }
        true
    }

    fn feed_request(
        &self,
        rule: &FeedRule,
        key: &AnswerKey,
        position: Option<&str>,
    ) -> Result<http::Request<Vec<u8>>> {
        let mut variables = key.variables().to_vec();
        let mut fields = self.fields_now();
        match (&rule.resume, position) {
            (Resume::Variable(name), Some(position)) => {
                variables.push((CompactString::from(&**name), position.into()));
            }
            (Resume::LastEventId, Some(position)) => {
                // A position that no field can have is none.
                let value = HeaderValue::from_bytes(position.as_bytes()).ok();
                value.into_iter().for_each(|value| drop(fields.insert(LAST_EVENT_ID, value)));
            }
            (Resume::Never, _) | (_, None) => {}
        }
        let mut url = url::expand(&self.base, &rule.url, &variables)?;
        let accept = match rule.format {
            FeedFormat::Sse => "text/event-stream",
            FeedFormat::Ndjson => "application/x-ndjson, application/json",
            FeedFormat::WebSocket => {
                if let Some(rest) = url.strip_prefix("http") {
                    url = format!("ws{rest}");
                }
                "*/*"
            }
        };
        fields.insert(ACCEPT, HeaderValue::from_static(accept));
        fields.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
        let uri: http::Uri = url.parse().map_err(|error| {
            let message = format!("feed {} has no URL", key.words());
            Error::new(ErrorKind::Parameter, message).caused_by(error)
        })?;
        let mut request = http::Request::new(Vec::new());
        *request.uri_mut() = uri;
        *request.headers_mut() = fields;
        Ok(request)
    }

    /// The server has answered to a feed's request.
    pub(in crate::remote) fn feed_opened(&self, call: u64, response: &Response<Vec<u8>>) {
        let at = self.moment();
        let mut feeds = self.feeds();
        let Some(entry) = feeds.of_call(call) else { return };
        let (key, rule) = (entry.key.clone(), entry.rule.clone());
        if let Err(failure) = accepted(&rule, response, at.now) {
            // Where it was is not known to the server any more: from there on is as good.
            let is_lost = response.status() == StatusCode::GONE && entry.position.is_some();
            if is_lost {
                entry.position = None;
            }
            drop(feeds);
            if is_lost {
                self.forget_position(&key);
            }
            let is_final = failure.is_final && !is_lost;
            return self.feed_ended(call, Failure { is_final, ..failure });
        }
        let may_have_missed = entry.position.is_none() || rule.resume == Resume::Never;
        let wakers = entry.opened(call, at);
        drop(feeds);
        wakers.wake();
        let noted = self.note_feed("is connected", &key);
        if let Err(error) = noted {
            tracing::error!(%error, "that a feed is connected could not be noted");
        }
        if may_have_missed {
            self.feed_missed(&rule);
        }
        self.arm();
    }

    /// Bytes of a feed have come.
    pub(in crate::remote) fn feed_received(&self, call: u64, bytes: &[u8]) {
        let most = self.engine().limits.bytes;
        let read = self.hear(call, |entry| {
            let (rule, batch) = (&entry.rule, &mut entry.batch);
            batch.expect(bytes.len());
            let add = |event: RawEvent<'_>| batch.add(rule, &event);
            match rule.format {
                FeedFormat::Sse => entry.decoder.events(bytes, most, add),
                FeedFormat::Ndjson | FeedFormat::WebSocket => entry.decoder.lines(bytes, most, add),
            }
        });
        if let Some(Err(TooLong)) = read {
            let message = format!("an event has more than {most} bytes, which are allowed");
            let failure = Failure::new(FailureKind::Unreadable, message);
            self.feed_ended(call, Failure { is_final: true, ..failure });
        }
    }

    /// Messages of a feed have come.
    pub(in crate::remote) fn feed_messages(&self, call: u64, texts: &[&str]) {
        self.hear(call, |entry| {
            for data in texts {
                entry.batch.add(&entry.rule, &RawEvent { name: "message", data, id: "" });
            }
        });
    }

    /// Takes in what has come by a connection, and commits it.
    fn hear<T>(&self, call: u64, take: impl FnOnce(&mut FeedEntry) -> T) -> Option<T> {
        let ticks = self.clock.ticks();
        let mut feeds = self.feeds();
        let entry = feeds.of_call(call)?;
        if !matches!(entry.phase, FeedPhase::Open(_)) {
            return None;
        }
        entry.has_heard(ticks);
        let (taken, key) = (take(entry), entry.key.clone());
        drop(feeds);
        self.commit_feed(&key);
        self.arm();
        Some(taken)
    }

    /// Commits what has come of a feed, for as long as there is something that may be committed now.
    fn commit_feed(&self, key: &AnswerKey) {
        loop {
            let limit = (self.clock.ticks(), self.engine().limits.bytes);
            let Some((mut batch, rule, call)) = self.feeds().take_batch(key, limit) else { break };
            let is_written = self.write_batch(key, &rule, (&mut batch, call));
            let is_gap = batch.is_gap;
            if let Some(why) = batch.why() {
                tracing::warn!(feed = key.words(), why, "an event could not be read");
            }
            self.feeds().committed(key, batch, is_written);
            if is_gap {
                self.feed_missed(&rule);
            }
        }
        if self.feeds().has_waiting() {
            self.drive();
        }
    }

    /// Writes events and the position behind them in one commit; returns whether that was done: not
    /// if the feed's row is gone.
    fn write_batch(
        &self,
        key: &AnswerKey,
        rule: &FeedRule,
        (batch, call): (&mut Batch, Option<u64>),
    ) -> bool {
        let now = self.clock.now();
        let mut feeds = self.feeds();
        let Some(entry) = feeds.get(key) else { return false };
        let (before, counts) = (entry.position.clone(), entry.counts);
        entry.heard_event(now);
        drop(feeds);
        let place = FeedPlace::of(self.name(), key);
        let written = self.cache().try_commit(batch.label(key), |tx| {
            // One that was lost meanwhile is the last one of its row all the same.
            let is_row = match call {
                Some(call) => place.is_of(tx, call),
                None => tx.get(FEEDS, place.id()).map(|row| row.is_some()),
            };
            if !is_row.map_err(Some)? {
                return Err(None);
            }
            batch.write(tx, rule, key);
            let (read, skipped, unreadable) = batch.counts();
            let counts = (counts.0 + read, counts.1 + skipped, counts.2 + unreadable);
            let position = batch.position.as_deref().or(before.as_deref());
            let position = position.filter(|position| !position.is_empty());
            place.put_progress(tx, (position, now), counts).map_err(Some)?;
            if let Some(why) = batch.why() {
                place.put_unreadable(tx, why).map_err(Some)?;
            }
            self.name_by_reference(tx).map_err(Some)
        });
        match written {
            Ok(written) => {
                self.follow_renamed(&written.value);
                true
            }
            Err(None) => false,
            Err(Some(error)) => {
                tracing::error!(%error, feed = key.words(), "events could not be written");
                batch.is_gap = true;
                false
            }
        }
    }

    /// A feed's connection is lost, or there was none.
    pub(in crate::remote) fn feed_ended(&self, call: u64, failure: Failure) {
        let at = self.moment();
        let mut failure = failure;
        let mut feeds = self.feeds();
        let Some(entry) = feeds.of_call(call) else { return };
        let (key, failures) = (entry.key.clone(), entry.failures + 1);
        for name in &entry.rule.secret {
            if let Some(value) = key.variable(name).filter(|value| !value.is_empty()) {
                failure.message = failure.message.replace(value, "(secret)");
            }
        }
        drop(feeds);
        let delay = (!failure.is_final).then(|| self.engine().delay(failures, failure.retry_after));
        let mut feeds = self.feeds();
        let Some(entry) = feeds.of_call(call) else { return };
        let wakers = entry.lost(failure, at, delay);
        drop(feeds);
        wakers.wake();
        self.commit_feed(&key);
        if let Err(error) = self.note_feed("is lost", &key) {
            tracing::error!(%error, "that a feed is lost could not be noted");
        }
        self.drive();
    }

    /// Events of a feed may have been missed: what it covers is stale, and so is what was asked for
    /// before.
    fn feed_missed(&self, rule: &FeedRule) {
        let schema = self.schema();
        let tables = rule.tables(&schema);
        let commit = self.cache().now().commit + 1;
        self.engine().overtake(tables.iter().copied(), commit);
        let covers = |key: &AnswerKey| match &rule.covers {
            Some(names) => names.iter().any(|name| **name == *key.rule()),
            None => schema
                .rule(key.rule())
                .is_ok_and(|rule| !schema.written_by(rule).is_disjoint(&tables)),
        };
        if let Err(error) = self.make_stale(covers) {
            tracing::error!(%error, "answers could not be made stale");
        }
    }

    /// Writes where a feed stands into its row.
    fn note_feed(&self, how: &str, key: &AnswerKey) -> Result<()> {
        let mut feeds = self.feeds();
        let Some(entry) = feeds.get(key) else { return Ok(()) };
        let (state, call) = (entry.shared.state(), entry.call());
        drop(feeds);
        let place = FeedPlace::of(self.name(), key);
        let label = format!("feed {} {how}", key.words());
        self.cache().commit_bookkeeping(&label, |tx| place.put(tx, &state, call))?;
        Ok(())
    }

    fn forget_position(&self, key: &AnswerKey) {
        let place = FeedPlace::of(self.name(), key);
        let label = format!("feed {} begins anew", key.words());
        let forgotten = self.cache().commit_bookkeeping(&label, |tx| place.forget_position(tx));
        if let Err(error) = forgotten {
            tracing::error!(%error, "a feed's position could not be forgotten");
        }
    }

    /// Closes the feeds whose rows were deleted, as when a user signs out.
    pub(in crate::remote) fn follow_feeds(&self, report: &Report) {
        let table = report.table_no(FEEDS);
        for change in table.iter().flat_map(|table| report.changes_of(*table)) {
            let Some(RowId::Parts(parts)) =
                change.id().filter(|_| change.kind() == ChangeKind::Deleted)
            else {
                continue;
            };
            let [RowId::Text(remote), RowId::Text(feed), RowId::Text(shown)] = &*parts else {
                continue;
            };
            if **remote == *self.name() {
                self.feeds().close(|key| key.rule() == &**feed && *key.shown() == **shown).wake();
            }
        }
    }

    pub(in crate::remote) fn do_feed_work(&self, work: Vec<FeedWork>) {
        for work in work {
            match work {
                FeedWork::Commit(key) => self.commit_feed(&key),
                FeedWork::Silent(call, what, limit) => {
                    let message = format!("{what} {limit:?}");
                    self.feed_ended(call, Failure::new(FailureKind::TimeOut, message));
                }
            }
        }
    }

    /// Takes up the feeds of earlier runs: of those that can be gone on with the position counts.
    pub(in crate::remote) fn recall_feeds(&self) -> Result<()> {
        let schema = self.schema();
        if schema.find_table(FEEDS).is_none() {
            return Ok(());
        }
        self.declare_feeds()?;
        let snapshot = self.cache().snapshot();
        let rows = snapshot.table::<FeedRow>()?;
        let own = rows.iter().filter_map(Found::known).filter(|row| row.remote == self.name());
        let is_over = |row: &FeedRow| {
            let rule = schema.feed(&row.feed);
            // Of a secret value only the cover is known, by which nobody listens again.
            !rule.is_ok_and(|rule| rule.secret.is_empty())
        };
        let over: Vec<RowId> = own
            .filter(is_over)
            .filter_map(|row| {
                let key = AnswerKey::of_shown(&row.feed, &row.variables)?;
                Some(FeedPlace::of(self.name(), &key).id())
            })
            .collect();
        if over.is_empty() {
            return Ok(());
        }
        self.cache().commit_bookkeeping("feeds of earlier runs are forgotten", |tx| {
            over.iter().try_for_each(|id| tx.delete(FEEDS, id.clone()).map(drop))
        })?;
        Ok(())
    }
}

/// Whether a feed is open by a response.
fn accepted(
    rule: &FeedRule,
    response: &Response<Vec<u8>>,
    now: crate::value::Timestamp,
) -> Result<(), Failure> {
    let status = response.status();
    let over = |message: String| {
        let failure = Failure::new(FailureKind::Status, message);
        Failure { status: Some(status.as_u16()), is_final: true, ..failure }
    };
    if rule.format == FeedFormat::WebSocket {
        return match status {
            StatusCode::SWITCHING_PROTOCOLS => Ok(()),
            _ if status.is_success() => {
                Err(over("the server answers, but not as a WebSocket".to_owned()))
            }
            _ => Err(failed(response, now)),
        };
    }
    if status == StatusCode::NO_CONTENT {
        return Err(over("the server says that the feed is over".to_owned()));
    }
    if !status.is_success() {
        return Err(failed(response, now));
    }
    let kind = media_type(response.headers());
    if rule.format == FeedFormat::Sse && kind.as_deref() != Some("text/event-stream") {
        let kind = kind.unwrap_or_else(|| "of no media type".to_owned());
        return Err(over(format!("the response is {kind}, expected text/event-stream")));
    }
    Ok(())
}

/// A status of failure: one that passes, or one that stays.
fn failed(response: &Response<Vec<u8>>, now: crate::value::Timestamp) -> Failure {
    let mut failure = refused(response, now);
    failure.is_final = !failure.is_passing();
    failure
}

fn media_type(headers: &HeaderMap) -> Option<String> {
    let kind = headers.get(CONTENT_TYPE)?.to_str().ok()?;
    let kind = kind.split(';').next().unwrap_or(kind).trim();
    Some(kind.to_ascii_lowercase())
}
