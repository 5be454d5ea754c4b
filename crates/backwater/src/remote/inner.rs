//! Carries out what the engine decides: commits, calls of the transport, and wakes what waits.
//!
//! Nothing is locked while it does: a commit calls watchers, and these may ask; a transport may
//! answer at once.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError, Weak};
use std::time::Duration;

use http::header::HeaderMap;

use super::answer::{AnswerRow, Failure, FailureKind, Here, RowPlace, SharedState, read};
use super::engine::{
    Arrival, Asker, CallOutcome, DueRequest, DueWork, Engine, KnownAnswer, LONGEST_WAIT, Later,
    Limits, Moment,
};
use super::feeds::FeedBook;
use super::fill::FillInner;
use super::key::{AnswerKey, KeyRef};
use super::pending::PENDING;
use super::sends::{DecidesConflicts, SendQueue};
use super::transport::{Alarm, Call, Transport};
use super::{cover, url};
use crate::cache::Cache;
use crate::change::{BASE, ChangeKind, Transaction};
use crate::error::{Error, ErrorKind, Result, nearest};
use crate::schema::{Schema, TableNo};
use crate::trace::{Report, Watch};
use crate::typed::Found;
use crate::value::{Clock, Named};

/// A remote, without the handle's methods.
pub(crate) struct RemoteInner {
    in_use: NameInUse,
    pub(super) base: String,
    pub(super) transport: Arc<dyn Transport>,
    pub(super) clock: Arc<dyn Clock>,
    engine: Mutex<Engine>,
    /// The header fields of every request.
    fields: Mutex<HeaderMap>,
    /// Covers the values of secret variables: another number each time a program starts.
    pub(super) seed: u64,
    /// When the earliest alarm is to ring that the transport was given.
    armed: Mutex<Option<Duration>>,
    fills: Mutex<Vec<Arc<FillInner>>>,
    /// Whether there ever was one that follows its query.
    pub(super) keeps_fills: Arc<AtomicBool>,
    /// Changes that have not arrived.
    sends: Mutex<SendQueue>,
    notes: OnceLock<[TableNo; 2]>,
    /// Feeds that are listened to.
    feeds: Mutex<FeedBook>,
    pub(super) on_conflict: Option<DecidesConflicts>,
    /// For calls, which must not keep the remote alive.
    pub(super) this: Weak<RemoteInner>,
    /// Which rows of answers are deleted.
    follows: OnceLock<Watch>,
}

/// A request that was made.
pub(crate) struct SentRequest {
    pub(super) call: u64,
    /// The commit after which it was sent: later ones are newer than its answer.
    pub(super) commit: u64,
    /// When it was sent, by the clock's ticks.
    pub(super) sent: Duration,
    pub(super) fields: HeaderMap,
    pub(super) url: String,
}

/// The name of a remote, which no other one of its cache has meanwhile.
pub(super) struct NameInUse {
    cache: Cache,
    name: Arc<str>,
}

impl NameInUse {
    pub(super) fn claim(cache: Cache, name: String) -> Result<Self> {
        if cache.claim_remote(&name) {
            return Ok(Self { cache, name: name.into() });
        }
        let message =
            format!("the cache has a remote \"{name}\" already, whose answers are by that name");
        Err(Error::new(ErrorKind::Schema, message)
            .help("clone that one, drop it before, or give this one another `name`"))
    }
}

impl Drop for NameInUse {
    fn drop(&mut self) {
        self.cache.release_remote(&self.name);
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl RemoteInner {
    pub(super) fn new(
        in_use: NameInUse,
        (base, transport, clock): (String, Arc<dyn Transport>, Arc<dyn Clock>),
        (limits, seed): (Limits, u64),
        (fields, on_conflict): (HeaderMap, Option<DecidesConflicts>),
    ) -> Result<Arc<Self>> {
        let remote = Arc::new_cyclic(|this| RemoteInner {
            in_use,
            base,
            transport,
            clock,
            engine: Mutex::new(Engine::new(limits, seed)),
            fields: Mutex::new(fields),
            seed,
            armed: Mutex::new(None),
            fills: Mutex::default(),
            keeps_fills: Arc::default(),
            sends: Mutex::default(),
            notes: OnceLock::new(),
            feeds: Mutex::default(),
            on_conflict,
            this: this.clone(),
            follows: OnceLock::new(),
        });
        remote.recall()?;
        remote.take_up_sends()?;
        remote.recall_feeds()?;
        let (this, keeps_fills) = (Arc::downgrade(&remote), remote.keeps_fills.clone());
        // Most commits are none of its business.
        let concerns =
            move |report: &Report| report.has_deleted() || keeps_fills.load(Ordering::Acquire);
        let follows = remote.cache().watch_commits_if(Box::new(concerns), move |report| {
            if let Some(remote) = this.upgrade() {
                remote.follow(report);
            }
        })?;
        remote.follows.get_or_init(|| follows);
        if remote.sends().len() > 0 {
            remote.drive();
        }
        Ok(remote)
    }

    pub(super) fn cache(&self) -> &Cache {
        &self.in_use.cache
    }

    /// The schema as it is now, shared.
    pub(super) fn schema(&self) -> Arc<Schema> {
        self.cache().now().state.schema.clone()
    }

    /// The tables in which pending changes are noted, once these are declared.
    pub(super) fn notes(&self, schema: &Schema) -> Option<[TableNo; 2]> {
        if let Some(known) = self.notes.get() {
            return Some(*known);
        }
        let known = [schema.find_table(PENDING)?, schema.find_table(BASE)?];
        // A table keeps its number.
        Some(*self.notes.get_or_init(|| known))
    }

    pub(super) fn shared_name(&self) -> Arc<str> {
        self.in_use.name.clone()
    }

    pub(super) fn name(&self) -> &str {
        &self.in_use.name
    }

    pub(super) fn engine(&self) -> MutexGuard<'_, Engine> {
        lock(&self.engine)
    }

    pub(super) fn fills(&self) -> MutexGuard<'_, Vec<Arc<FillInner>>> {
        lock(&self.fills)
    }

    pub(super) fn sends(&self) -> MutexGuard<'_, SendQueue> {
        lock(&self.sends)
    }

    pub(super) fn feeds(&self) -> MutexGuard<'_, FeedBook> {
        lock(&self.feeds)
    }

    /// The header fields of every request, as they are now.
    pub(super) fn fields_now(&self) -> HeaderMap {
        lock(&self.fields).clone()
    }

    pub(super) fn moment(&self) -> Moment {
        Moment { now: self.clock.now(), ticks: self.clock.ticks() }
    }

    /// The key of an answer, in which this remote covers secret values.
    pub(super) fn key(
        &self,
        rule: &str,
        variables: impl IntoIterator<Item = (String, String)>,
        secret: &[String],
    ) -> AnswerKey {
        let mut variables: Vec<_> =
            variables.into_iter().map(|(name, value)| (name.into(), value.into())).collect();
        variables.sort();
        AnswerKey::new(rule, variables.into(), secret, |value| cover(self.seed, value))
    }

    fn shared(&self, key: &AnswerKey) -> Arc<SharedState> {
        Arc::new(SharedState::new(key.clone(), self.this.clone()))
    }

    /// Takes up the answers that the cache came back with, and forgets those that never came.
    fn recall(&self) -> Result<()> {
        let (snapshot, schema) = (self.cache().snapshot(), self.schema());
        let table = snapshot.table::<AnswerRow>()?;
        let own = table.iter().filter_map(Found::known).filter(|row| row.remote == self.name());
        let fields = lock(&self.fields).clone();
        let mut engine = self.engine();
        let (mut rows, mut gone) = (Vec::new(), Vec::new());
        for row in own {
            // Of a secret value only the cover is known, by which nobody asks again.
            let rule = schema.askable(&row.rule).ok();
            let rule = rule.map(|(rule, _)| &rule.asking).filter(|asking| asking.secret.is_empty());
            let (Some(known), Some(asking)) = (row.recalled(), rule) else {
                gone.push(row);
                continue;
            };
            let freshness = known.known.freshness(asking.max_age.map(u64::from));
            let mut here = Here::of(known.since, &freshness);
            // It may have been made stale since.
            here.fresh_until = here.fresh_until.min(known.fresh_until);
            let (validators, next) = (known.validators, known.next);
            let (page, commit) = (known.page, snapshot.commit());
            let (is_validated, is_doubtful, later) = (false, false, None);
            let arrival = Arrival {
                here,
                freshness,
                validators,
                next,
                page,
                commit,
                after: commit,
                is_validated,
                is_doubtful,
                later,
            };
            engine.recall(self.shared(&known.key), arrival, asking.reload_every);
            if let Some(known_now) = engine.known(&known.key) {
                rows.push((known.key.clone(), known_now));
            }
        }
        engine.select(&fields);
        drop(engine);
        if rows.is_empty() && gone.is_empty() {
            return Ok(());
        }
        // What does not persist, such as that nothing is under way, is known from here on.
        self.cache().commit_bookkeeping("answers are taken up again", |tx| {
            for row in &gone {
                tx.delete(AnswerRow::TABLE_NAME, row.id())?;
            }
            rows.iter().try_for_each(|(key, known)| AnswerRow::put(tx, &self.place(key), known))
        })?;
        Ok(())
    }

    pub(super) fn ask(
        &self,
        rule: &str,
        variables: &Named,
        (anyway, asker): (bool, Asker),
    ) -> Result<Arc<SharedState>> {
        let by = KeyRef::new(rule, variables);
        if !anyway
            && asker == Asker::Once
            && !self.cache().has_undelivered()
            && let Some(shared) = self.engine().settled_ask(&by, || self.clock.now())
        {
            return Ok(shared);
        }
        let schema = self.schema();
        let (rule, template) = schema.askable(rule)?;
        for name in by.names() {
            if template.variables().all(|known| known != name) {
                let message = format!("rule \"{}\" has no variable \"{name}\"", rule.name);
                let help = nearest(name, template.variables());
                return Err(Error::new(ErrorKind::Parameter, message).help(help));
            }
        }
        let key = by.to_key(&rule.asking.secret, |value| cover(self.seed, value));
        // Of what was asked for before it is known that there is a URL.
        let is_known = self.engine().shared(&key).is_some();
        if !is_known {
            url::expand(&self.base, template, key.variables())?;
        }
        self.ask_key(&key, (anyway, asker), None)
    }

    /// Asks for an answer whose key is known to be right; `page` says which part of its list it is.
    pub(super) fn ask_key(
        &self,
        key: &AnswerKey,
        (anyway, asker): (bool, Asker),
        page: Option<u32>,
    ) -> Result<Arc<SharedState>> {
        let schema = self.schema();
        let reload_every = schema.askable(key.rule())?.0.asking.reload_every;
        let at = self.moment();
        let new = || self.shared(key);
        if self.cache().has_undelivered() && self.engine().is_noted(key) {
            // It may be that its row was deleted, of which this has not heard yet.
            let row = self.place(key).id();
            if self.cache().snapshot().get(AnswerRow::TABLE_NAME, row)?.is_none() {
                let wakers = self.engine().forget(key);
                wakers.wake();
            }
        }
        let (shared, call) = self.engine().ask(new, key, (at, anyway, asker), (reload_every, page));
        if let Some(call) = call {
            // It has a row before it may be answered: a row that is deleted is an answer forgotten.
            if let Err(error) = self.note(&format!("{} is asked for", key.words()), key, None) {
                let mut engine = self.engine();
                let wakers = engine.cancel(call);
                if asker == Asker::Holder {
                    engine.release(key).0.wake();
                }
                drop(engine);
                wakers.wake();
                return Err(error);
            }
            let commit = self.cache().now().commit;
            self.engine().enqueue(call, commit);
        }
        self.drive();
        Ok(shared)
    }

    /// Somebody no longer wants an answer.
    pub(super) fn release(&self, key: &AnswerKey) {
        let (wakers, taken_back) = self.engine().release(key);
        wakers.wake();
        if let Some(call) = taken_back {
            let label = format!("{} is no longer wanted", key.words());
            self.note_or_log(&label, key, call);
            self.drive();
        }
    }

    /// Starts the requests that are due, one after the other, and sets the alarm.
    pub(super) fn drive(&self) {
        if !self.engine().drive() {
            return;
        }
        // Not in the condition, where the engine would stay locked.
        loop {
            let ticks = self.clock.ticks();
            // Changes go first: what is asked for after them is answered with them.
            let started = || self.start_send(ticks) || self.start_feed(ticks);
            match catch_unwind(AssertUnwindSafe(started)) {
                Ok(false) => {}
                Ok(true) => continue,
                Err(_) => {
                    tracing::error!("a transport panicked as it started a request");
                    continue;
                }
            }
            let Some(due) = self.engine().next(ticks) else { break };
            // A transport that panics has dropped its call, which has failed by that.
            if catch_unwind(AssertUnwindSafe(|| self.start(due))).is_err() {
                tracing::error!("a transport panicked as it started a request");
            }
        }
        self.arm();
    }

    /// Lets the transport ring when there is something to do.
    pub(super) fn arm(&self) {
        // One lock at a time.
        let (of_sends, waits) = {
            let sends = self.sends();
            (sends.next_wake(), sends.has_waiting())
        };
        let (of_feeds, feed_waits) = {
            let feeds = self.feeds();
            (feeds.next_wake(), feeds.has_waiting())
        };
        let of_asks = self.engine().next_wake(waits || feed_waits);
        let due = [of_asks, of_sends, of_feeds].into_iter().flatten().min();
        let mut armed = lock(&self.armed);
        let ticks = self.clock.ticks();
        // A longer wait is made of several.
        let due = due.map(|due| due.min(ticks.saturating_add(LONGEST_WAIT)));
        let Some(due) = due.filter(|due| armed.is_none_or(|armed| *due < armed)) else { return };
        *armed = Some(due);
        drop(armed);
        let (delay, alarm) = (due.saturating_sub(ticks), Alarm::new(self.this.clone(), due));
        let set = || self.transport.wake_after(delay, alarm);
        if catch_unwind(AssertUnwindSafe(set)).is_err() {
            tracing::error!("a transport panicked as it set an alarm");
        }
    }

    /// An alarm rings that was set for then. One in whose place an earlier one was set ends with
    /// that, so that there are not more and more of them.
    pub(super) fn ring(&self, due: Duration) {
        let mut armed = lock(&self.armed);
        *armed = armed.filter(|armed| *armed != due);
        drop(armed);
        let at = self.moment();
        let mut work = self.engine().wake(at);
        work.timed_out.extend(self.sends().wake(at));
        let limits = self.engine().limits.clone();
        let of_feeds = self.feeds().wake(at, (limits.time_out, limits.bytes));
        self.do_feed_work(of_feeds);
        self.carry_out(work);
    }

    pub(super) fn carry_out(&self, work: DueWork) {
        for call in work.timed_out {
            let limit = self.engine().limits.time_out;
            let message = format!("no answer within {limit:?}");
            let failure = Failure::new(FailureKind::TimeOut, message);
            if self.sends().of_call(call).is_some() {
                self.fail_send(call, failure);
            } else {
                self.finish(call, CallOutcome::Failed(failure));
            }
        }
        for (key, anyway) in work.asks {
            if let Err(error) = self.ask_key(&key, (anyway, Asker::Again), None) {
                tracing::error!(%error, answer = key.words(), "what is wanted cannot be asked for");
            }
        }
        self.drive();
    }

    fn start(&self, DueRequest { call, key, validators }: DueRequest) {
        let mut fields = lock(&self.fields).clone();
        if let Some(validators) = validators.as_ref().and_then(read) {
            validators.make_conditional(&mut fields);
        }
        let (commit, ticks) = (self.cache().now().commit, self.clock.ticks());
        let schema = self.schema();
        let template = schema.askable(key.rule());
        let url = template
            .and_then(|(_, template)| url::expand(&self.base, template, key.variables()))
            .and_then(|url| match url.parse::<http::Uri>() {
                Ok(uri) => Ok((url, uri)),
                Err(error) => {
                    let message = format!("{} has no URL", key.words());
                    Err(Error::new(ErrorKind::Parameter, message).caused_by(error))
                }
            });
        match url {
            Ok((url, uri)) => {
                let mut request = http::Request::new(Vec::new());
                *request.uri_mut() = uri;
                request.headers_mut().clone_from(&fields);
                let sent = SentRequest { call, commit, sent: ticks, fields, url };
                let limits = self.engine().limits.clone();
                self.transport.start(request, Call::new(self.this.clone(), sent, limits));
            }
            Err(error) => {
                let mut failure = Failure::new(FailureKind::Network, error.to_string());
                failure.is_final = true;
                self.finish(call, CallOutcome::Failed(failure));
            }
        }
    }

    /// Writes what is known of an answer into its row; after a call only if the row is still that
    /// call's.
    fn note(&self, label: &str, key: &AnswerKey, after: Option<u64>) -> Result<()> {
        let Some(known) = self.engine().known(key) else { return Ok(()) };
        let place = self.place(key);
        self.cache().commit_bookkeeping(label, |tx| {
            if after.is_some() && !Self::is_row_of(after, &place, tx)? {
                return Ok(());
            }
            // Of what was taken back before anything came, nothing is to be known.
            match known.is_nothing() {
                true => tx.delete(AnswerRow::TABLE_NAME, place.id()).map(drop),
                false => AnswerRow::put(tx, &place, &known),
            }
        })?;
        Ok(())
    }

    fn note_or_log(&self, label: &str, key: &AnswerKey, after: u64) {
        if let Err(error) = self.note(label, key, Some(after)) {
            tracing::error!(%error, "what became of a request could not be noted");
        }
    }

    /// Writes what is known of several answers, in one commit.
    pub(super) fn note_all(&self, label: &str, keys: &[AnswerKey]) -> Result<()> {
        if keys.is_empty() {
            return Ok(());
        }
        let engine = self.engine();
        let known = keys.iter().filter_map(|key| Some((key, engine.known(key)?)));
        let rows: Vec<_> = known.collect();
        drop(engine);
        self.cache().commit_bookkeeping(label, |tx| {
            for (key, known) in &rows {
                let place = self.place(key);
                if place.is_row(&tx.state)? {
                    AnswerRow::put(tx, &place, known)?;
                }
            }
            Ok(())
        })?;
        Ok(())
    }

    /// Whether an answer's row is there and waits for this call, or for an earlier one, whose next
    /// try this is and is not noted yet: not if the cache was emptied, or the row deleted, since the
    /// call began. A row that was made since waits for a later one.
    pub(super) fn is_row_of(
        call: Option<u64>,
        place: &RowPlace<'_>,
        tx: &Transaction,
    ) -> Result<bool> {
        Ok(match (place.request(&tx.state)?, call) {
            (Some(request), Some(call)) => request <= call as i64,
            (request, call) => request.is_none() && call.is_none(),
        })
    }

    /// Which row an answer has.
    pub(super) fn place<'k>(&'k self, key: &'k AnswerKey) -> RowPlace<'k> {
        RowPlace::of(self.name(), key)
    }

    /// Forgets the answers whose rows were deleted, as when a user signs out.
    fn follow(&self, report: &Report) {
        if !report.has_deleted() {
            return self.follow_fills(report);
        }
        let mut is_any = false;
        let table = report.table_no(AnswerRow::TABLE_NAME);
        for change in table.iter().flat_map(|table| report.changes_of(*table)) {
            if change.kind() != ChangeKind::Deleted {
                continue;
            }
            let id = change.id();
            let Some((remote, key)) = id.as_ref().and_then(AnswerRow::key_of) else { continue };
            if remote == self.name() {
                is_any = true;
                let wakers = self.engine().forget_before(&key, report.number());
                wakers.wake();
            }
        }
        self.follow_feeds(report);
        let is_any = self.follow_sends(report) || is_any;
        if is_any {
            self.drive();
        }
        match is_any {
            // Who waits for an answer that is forgotten waits in vain.
            true => self.hear_of_all(),
            false => self.follow_fills(report),
        }
    }

    /// A transport has come to the end of a call.
    pub(crate) fn settle(
        &self,
        sent: SentRequest,
        result: Result<http::Response<Vec<u8>>, Failure>,
    ) {
        if self.sends().of_call(sent.call).is_some() {
            return self.settle_send(&sent, result);
        }
        let Some((key, validators)) = self.engine().of_call(sent.call) else { return };
        let outcome = match result {
            Ok(response) => self.take(&sent, &key, validators.as_ref(), &response),
            Err(failure) => Some(CallOutcome::Failed(failure)),
        };
        let outcome = outcome.map(|outcome| self.without_secrets(outcome, &key));
        match outcome {
            Some(outcome) => self.finish(sent.call, outcome),
            None => {
                let wakers = self.engine().forget_call(sent.call);
                wakers.wake();
                self.drive();
            }
        }
    }

    /// What a transport or a server says of a failure may repeat the request.
    fn without_secrets(&self, outcome: CallOutcome, key: &AnswerKey) -> CallOutcome {
        let CallOutcome::Failed(mut failure) = outcome else { return outcome };
        let schema = self.schema();
        let secret = schema.askable(key.rule()).map(|(rule, _)| rule.asking.secret.clone());
        for name in secret.unwrap_or_default() {
            if let Some(value) = key.variable(&name).filter(|value| !value.is_empty()) {
                failure.message = failure.message.replace(value, "(secret)");
            }
        }
        CallOutcome::Failed(failure)
    }

    /// Ends a call, and notes what became of it, unless its rows were committed with that.
    pub(super) fn finish(&self, call: u64, outcome: CallOutcome) {
        let (how, is_noted) = match &outcome {
            CallOutcome::Came(arrival) => ("came", !arrival.is_validated),
            CallOutcome::Failed(_) => ("failed", false),
            CallOutcome::OtherRepresentation => ("is asked for once more", false),
        };
        let later = match &outcome {
            CallOutcome::Came(arrival) => arrival.later.clone(),
            _ => None,
        };
        let at = self.moment();
        let settled = self.engine().settle(call, outcome, at);
        if let Some((key, wakers)) = settled {
            if !is_noted {
                self.note_or_log(&format!("{} {how}", key.words()), &key, call);
            }
            wakers.wake();
            self.check_fills(&key);
            if let Some(Later { key, page, behind }) = later {
                self.engine().set_behind(&key, behind);
                if let Err(error) = self.ask_key(&key, (true, Asker::Once), Some(page)) {
                    tracing::error!(%error, answer = key.words(), "a page cannot be asked for");
                }
            }
        }
        self.drive();
    }

    /// Changes a header field of every request; answers that depend on another value are stale.
    pub(super) fn set_fields(
        &self,
        change: impl FnOnce(&mut HeaderMap) -> Result<()>,
    ) -> Result<()> {
        let mut fields = lock(&self.fields);
        let mut changed = fields.clone();
        change(&mut changed)?;
        fields.clone_from(&changed);
        drop(fields);
        let wanted = self.engine().select(&changed);
        let asks = wanted.into_iter().map(|key| (key, false)).collect();
        self.carry_out(DueWork { timed_out: Vec::new(), asks });
        Ok(())
    }

    /// Makes the answers stale that are meant; those that are wanted are asked for again.
    pub(super) fn make_stale(&self, is_meant: impl Fn(&AnswerKey) -> bool) -> Result<usize> {
        let now = self.clock.now();
        let (stale, wanted) = self.engine().make_stale(now, is_meant);
        self.note_all("answers are made stale", &stale)?;
        let asks = wanted.into_iter().map(|key| (key, false)).collect();
        self.carry_out(DueWork { timed_out: Vec::new(), asks });
        Ok(stale.len())
    }

    /// The same for answers of some URLs as well.
    pub(super) fn make_stale_at(
        &self,
        urls: &[String],
        is_meant: impl Fn(&AnswerKey) -> bool,
    ) -> Result<usize> {
        let schema = self.schema();
        self.make_stale(|key| {
            let is_url = || {
                let template = schema.askable(key.rule()).ok().map(|(_, template)| template);
                let own = template.and_then(|t| url::expand(&self.base, t, key.variables()).ok());
                own.is_some_and(|own| urls.contains(&own))
            };
            is_meant(key) || is_url()
        })
    }

    pub(super) fn is_wanted(&self, call: u64) -> bool {
        self.engine().is_wanted(call)
            || self.sends().of_call(call).is_some()
            || self.feeds().is_wanted(call)
    }

    /// Wakes a task once a request is no longer wanted; returns whether it is. A change that is
    /// under way is wanted.
    pub(super) fn wake_if_unwanted(&self, call: u64, waker: &std::task::Waker) -> bool {
        self.sends().of_call(call).is_some()
            || self.feeds().wake_if_unwanted(call, waker)
            || self.engine().wake_if_unwanted(call, waker)
    }
}

impl KnownAnswer {
    /// Whether it is not here, not under way, and has not failed.
    fn is_nothing(&self) -> bool {
        self.state == super::AnswerState::default()
    }
}

impl Drop for RemoteInner {
    /// What is under way comes to no end any more, which those that wait have to know.
    fn drop(&mut self) {
        let (wakers, busy) = self.engine().end();
        wakers.wake();
        let wakers = self.feeds().end();
        wakers.wake();
        self.keep_sends();
        for fill in std::mem::take(&mut *self.fills()) {
            fill.end();
        }
        if !busy.is_empty()
            && let Err(error) = self.note_all("a remote is dropped", &busy)
        {
            tracing::warn!(%error, "requests that a dropped remote gave up could not be noted");
        }
    }
}
