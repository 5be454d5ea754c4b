//! Changes that are shown at once and go to a server: handles on them, and where they stand.

mod make;
mod queue;
mod request;
mod settle;

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::{Arc, Weak};
use std::task::{Context, Poll};
use std::time::Duration;

pub(super) use queue::{MadeRequest, SendQueue};

use super::answer::Failure;
use super::awaited::{Awaited, Settles, Wakers};
use super::{Remote, RemoteInner};
use crate::change::Transaction;
use crate::error::{Error, ErrorKind, Result};
use crate::value::{Json, Named, RowId};

/// Where a change stands that goes to a server.
///
/// See [`Remote::send`] for an example.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub enum SendState {
    /// It waits for its turn, for the network, or for the time of its next try.
    Waiting {
        /// How the last try failed, if there was one.
        failed: Option<Failure>,
    },
    /// Its request is under way.
    UnderWay {
        /// Which try it is, counted from 1.
        tries: u32,
    },
    /// The server has taken it.
    Confirmed,
    /// The server has refused it, or it depended on a change that was refused. It is no longer
    /// shown; its row in `backwater_pending` stays until it is dismissed or sent again.
    Refused(Failure),
    /// The server has another version of the row than the one that was changed; it waits for the
    /// program to decide.
    Conflict(Failure),
    /// The program took it back, or emptied the cache.
    Cancelled,
    /// The user has signed out, or the remote was dropped: it is kept, and goes once the user signs in
    /// again, or a remote of that name is built.
    Kept,
}

/// What becomes of changes that have not arrived when a user signs out; see [`Remote::sign_out`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unsent<'u> {
    /// They are gone.
    Dropped,
    /// They are kept for this user, and go once [`Remote::sign_in`] names the user again.
    KeptFor(&'u str),
}

/// A change of a row that the server has in another version than the one that was changed.
///
/// See [`Sent::conflict`] for an example.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct Conflict {
    /// The label of the change.
    pub label: String,
    /// The name of its send rule.
    pub send: String,
    /// The table of its row.
    pub table: String,
    /// The row's id.
    pub row_id: Option<RowId>,
    /// The row as the server had it when the change was made, as a JSON object.
    pub original: Json,
    /// The row as the server has it, as far as that is known by now.
    pub theirs: Json,
    /// The fields that the change writes.
    pub ours: Json,
    /// What the server said.
    pub failure: Failure,
}

/// What becomes of a change that is in conflict.
///
/// See [`Sent::conflict`] for an example.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Resolution {
    /// It is made once more, to what the server has by now.
    Ours,
    /// It is refused, and what the server has is shown.
    Theirs,
}

/// A program's decisions.
pub(super) type DecidesConflicts = Box<dyn Fn(&Conflict) -> Option<Resolution> + Send + Sync>;

impl SendState {
    /// Whether it has come to its end.
    ///
    /// See [`Remote::send`] for an example.
    pub fn is_settled(&self) -> bool {
        !matches!(
            self,
            SendState::Waiting { .. } | SendState::UnderWay { .. } | SendState::Conflict(_)
        )
    }

    /// How the last try failed, if it did.
    ///
    /// See [`Sent::send_again`] for an example.
    pub fn failure(&self) -> Option<&Failure> {
        match self {
            SendState::Waiting { failed } => failed.as_ref(),
            SendState::Refused(failure) | SendState::Conflict(failure) => Some(failure),
            _ => None,
        }
    }

    pub(super) fn name(&self) -> &'static str {
        match self {
            SendState::Waiting { .. } => "waiting",
            SendState::UnderWay { .. } => "under way",
            SendState::Confirmed => "confirmed",
            SendState::Refused(_) => "refused",
            SendState::Conflict(_) => "conflict",
            SendState::Cancelled => "cancelled",
            SendState::Kept => "kept",
        }
    }
}

/// What the handles of a change share with the queue.
pub(super) struct SentState {
    number: i64,
    remote: Weak<RemoteInner>,
    now: Awaited<SentNow>,
}

struct SentNow {
    state: SendState,
    /// The id of the row that it is about.
    row_id: Option<RowId>,
}

impl Settles for SentNow {
    fn is_settled(&self) -> bool {
        self.state.is_settled()
    }
}

impl SentState {
    pub(super) fn new(
        number: i64,
        remote: Weak<RemoteInner>,
        (state, row_id): (SendState, Option<RowId>),
    ) -> Self {
        Self { number, remote, now: Awaited::new(SentNow { state, row_id }) }
    }

    pub(super) fn state(&self) -> SendState {
        self.now.lock().state.clone()
    }

    /// The row that it is about has another id.
    pub(super) fn rename(&self, id: RowId) {
        self.now.lock().row_id = Some(id);
    }

    /// Shows another state; returns the tasks that wait for its end, if this is it.
    pub(super) fn show(&self, state: SendState) -> Wakers {
        self.now.change(|now| now.state = state)
    }
}

/// A handle on a change that goes to a server; see [`Remote::send`]. Clones are of the same change.
/// It may be dropped: the change goes all the same.
#[derive(Clone)]
pub struct Sent(Arc<SentState>);

impl Sent {
    /// Where it stands now.
    ///
    /// See [`Remote::send`] for an example.
    pub fn state(&self) -> SendState {
        self.0.state()
    }

    /// Its number in `backwater_pending`.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int', done = 'bool' } }\nsend.done = { table = 't', url = '/t/{id}' }")?);
    /// # cache.commit("loaded", |tx| tx.insert("t", [("id", 1)]))?;
    /// # let server = StandIn::new(|_| StandIn::status(204));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let done = remote.send("done", "it is done", |tx| tx.update("t", 1, [("done", true)]))?;
    /// let row = cache.query("SELECT state FROM backwater_pending WHERE number = :n", [("n", done.number())])?;
    /// assert_eq!(row.read()?.row(0).unwrap().get("state")?.as_str(), Some("under way"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn number(&self) -> i64 {
        self.0.number
    }

    /// The id of the row that it is about: once a server has named the row, that one.
    ///
    /// See [`Transaction::insert_local`] for an example.
    pub fn row_id(&self) -> Option<RowId> {
        self.0.now.lock().row_id.clone()
    }

    /// Waits until it is confirmed, refused or cancelled, as a future of any runtime.
    ///
    /// ```
    /// # use backwater::remote::{SendState, Sent};
    /// async fn save(sent: Sent) -> Result<(), String> {
    ///     match sent.settled().await {
    ///         SendState::Refused(failure) => Err(failure.to_string()),
    ///         _ => Ok(()),
    ///     }
    /// }
    /// ```
    pub fn settled(&self) -> SentSettled {
        SentSettled(self.clone())
    }

    /// Waits on this thread until it is confirmed, refused or cancelled, or for that long; returns
    /// where it stands then. It is for programs whose transport has a thread of its own.
    ///
    /// ```
    /// # use backwater::remote::{SendState, Sent};
    /// fn is_saved(sent: &Sent) -> bool {
    ///     sent.wait(std::time::Duration::from_secs(5)) == SendState::Confirmed
    /// }
    /// ```
    pub fn wait(&self, limit: Duration) -> SendState {
        self.0.now.wait(limit, |now| now.state.clone())
    }

    /// Takes it back: it is no longer shown, nor sent, and neither is what depends on it. Returns
    /// whether that was possible: not once its request is under way, or it has come to its end.
    ///
    /// # Errors
    /// [`ErrorKind::Stopped`] if the remote was dropped; else as [`Cache::commit`](crate::Cache::commit).
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value, clock::SetClock, remote::{Remote, SendState, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int', name = 'text' } }\nsend.named = { table = 't', url = '/t/{id}' }")?);
    /// # cache.commit("loaded", |tx| tx.insert("t", [("id", Value::from(1)), ("name", "Marram".into())]))?;
    /// # let server = StandIn::new(|_| StandIn::status(204));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// remote.set_online(false);
    /// let named = remote.send("named", "another name", |tx| tx.update("t", 1, [("name", "Dunlin")]))?;
    /// assert!(named.cancel()?);
    /// assert_eq!(named.state(), SendState::Cancelled);
    /// assert_eq!(cache.snapshot().get("t", 1)?.unwrap().get("name")?, Some("Marram".into()));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn cancel(&self) -> Result<bool> {
        self.remote()?.cancel_send(self.0.number)
    }

    /// Sends a refused change once more: it is shown again, on what the rows are by now, and goes
    /// with a key of its own.
    ///
    /// # Errors
    /// [`ErrorKind::Row`] if it is not a refused one; else as [`Sent::cancel`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, SendState, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int', done = 'bool' } }\nsend.done = { table = 't', url = '/t/{id}' }")?);
    /// # cache.commit("loaded", |tx| tx.insert("t", [("id", 1)]))?;
    /// # let is_down = std::sync::atomic::AtomicBool::new(true);
    /// # let server = StandIn::new(move |_| StandIn::status(if is_down.swap(false, std::sync::atomic::Ordering::Relaxed) { 500 } else { 204 }));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let done = remote.send("done", "it is done", |tx| tx.update("t", 1, [("done", true)]))?;
    /// server.answer_all();
    /// assert_eq!(done.state().failure().unwrap().status, Some(500));
    /// let again = done.send_again()?;
    /// server.answer_all();
    /// assert_eq!(again.state(), SendState::Confirmed);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn send_again(&self) -> Result<Sent> {
        let remote = self.remote()?;
        Ok(Sent(remote.send_again(self.0.number)?))
    }

    /// Lets go of a refused change: its row in `backwater_pending` is deleted. Returns whether there
    /// was one.
    ///
    /// # Errors
    /// As [`Sent::cancel`].
    ///
    /// See [`Remote::send`] for an example.
    pub fn dismiss(&self) -> Result<bool> {
        self.remote()?.dismiss(self.0.number)
    }

    /// The versions of its row, if it is in conflict.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value, clock::SetClock, remote::{Remote, Resolution, SendState, StandIn}};
    /// let cache = Cache::new(Schema::parse("backwater.toml", r#"
    ///     table.note = { id = "id", version = "version", fields = { id = "int", text = "text", version = "int" } }
    ///     response.note = { url = "/notes/{id}", table = "note" }
    ///
    ///     [send.write]
    ///     table = "note"
    ///     url = "/notes/{id}"
    ///     answer = "note"
    ///     if_match = "version"
    ///     on_conflict = "ask"
    /// "#)?);
    /// # cache.commit("loaded", |tx| tx.ingest("note", r#"{"id": 1, "text": "fog", "version": 4}"#))?;
    /// let server = StandIn::new(|request| match request.headers()["if-match"].to_str() {
    ///     Ok("\"5\"") => StandIn::json(r#"{ "id": 1, "text": "thick fog", "version": 6 }"#),
    ///     _ => { // it has another version, and says which
    ///         let response = http::Response::builder().status(412);
    ///         response.body(br#"{ "id": 1, "text": "rain", "version": 5 }"#.to_vec()).unwrap()
    ///     }
    /// });
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let write = remote.send("write", "noted", |tx| tx.update("note", 1, [("text", "thick fog")]))?;
    /// server.answer_all();
    /// let conflict = write.conflict().unwrap();
    /// assert_eq!(conflict.original.as_str(), r#"{"id":1,"text":"fog","version":4}"#);
    /// assert_eq!(conflict.theirs.as_str(), r#"{"id":1,"text":"rain","version":5}"#);
    /// assert_eq!(conflict.ours.as_str(), r#"{"text":"thick fog"}"#);
    ///
    /// write.resolve(Resolution::Ours)?;
    /// server.answer_all();
    /// assert_eq!(write.state(), SendState::Confirmed);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn conflict(&self) -> Option<Conflict> {
        let SendState::Conflict(failure) = self.state() else { return None };
        self.0.remote.upgrade()?.conflict_of(self.0.number, failure)
    }

    /// Decides what becomes of it, if it is in conflict.
    ///
    /// # Errors
    /// [`ErrorKind::Row`] if it is in none; else as [`Sent::cancel`].
    ///
    /// See [`Sent::conflict`] for an example.
    pub fn resolve(&self, resolution: Resolution) -> Result<()> {
        self.remote()?.resolve(self.0.number, resolution)
    }

    fn remote(&self) -> Result<Arc<RemoteInner>> {
        self.0.remote.upgrade().ok_or_else(|| {
            Error::new(ErrorKind::Stopped, "the remote of this change was dropped")
                .help("keep it for as long as its changes are of use")
        })
    }
}

impl fmt::Debug for Sent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Sent").field(&self.0.number).field(&self.state()).finish()
    }
}

/// The future of [`Sent::settled`], which has an example.
#[derive(Debug)]
#[must_use = "it waits when it is awaited"]
pub struct SentSettled(Sent);

impl Future for SentSettled {
    type Output = SendState;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<SendState> {
        self.0.0.now.poll(context, |now| now.state.clone())
    }
}

impl Remote {
    /// Makes a change that is shown at once, and that goes to the server by a send rule.
    ///
    /// What `write` writes is one commit, and lies over what the server says of these rows until
    /// the server has answered. Then it is confirmed, or refused: a refused change is no longer
    /// shown, and the rows are what the server says by then. It waits while there is no network,
    /// and is sent after a restart.
    ///
    /// Changes of one row go one after the other, in the order in which they were made; so does a
    /// change after the one that makes a row that it points at. Others go side by side. Every
    /// request has an `Idempotency-Key`, and is tried again if the network fails, the time is over,
    /// or the server has a passing trouble (408, 425, 429, 502, 503, 504).
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such rule; [`ErrorKind::Row`] if `write` changes
    /// several rows of the rule's table, or none; what `write` returns; else as
    /// [`Cache::commit`](crate::Cache::commit).
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value, clock::SetClock, remote::{Remote, SendState, StandIn}};
    /// let cache = Cache::new(Schema::parse("backwater.toml", r#"
    ///     table.sailing = { id = "id", fields = { id = "int", status = "text", delay_min = "int" } }
    ///
    ///     [send.report_delay]
    ///     table = "sailing"
    ///     method = "PATCH"
    ///     url = "/sailings/{id}"
    ///     body = "changes" # those fields, as a JSON Merge Patch
    /// "#)?);
    /// # cache.commit("loaded", |tx| tx.insert("sailing", [("id", Value::from(311)), ("status", "on time".into())]))?;
    /// # let server = StandIn::new(|_| StandIn::json(""));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let late = remote.send("report_delay", "delay reported", |tx| {
    ///     tx.update("sailing", 311, [("status", Value::from("delayed")), ("delay_min", 15.into())])
    /// })?;
    /// let shown = cache.snapshot();
    /// assert_eq!(shown.get("sailing", 311)?.unwrap().get("status")?, Some("delayed".into()));
    /// assert_eq!(shown.get("sailing", 311)?.unwrap().pending_fields(), ["status", "delay_min"]);
    ///
    /// server.answer_all();
    /// assert_eq!(late.state(), SendState::Confirmed);
    /// assert_eq!(cache.snapshot().count("backwater_pending")?, 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn send(
        &self,
        rule: &str,
        label: impl Into<String>,
        write: impl FnOnce(&mut Transaction) -> Result<()>,
    ) -> Result<Sent> {
        self.send_with(rule, (), label, write)
    }

    /// As [`Remote::send`], with values for the rule's URL and body that are no fields of the row.
    ///
    /// # Errors
    /// As [`Remote::send`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value, clock::SetClock, remote::{Remote, StandIn}};
    /// let cache = Cache::new(Schema::parse("backwater.toml", r#"
    ///     table.booking = { id = "id", fields = { id = "text", cars = "int" } }
    ///
    ///     [send.rebook]
    ///     table = "booking"
    ///     method = "POST"
    ///     url = "/bookings/{id}/changes"
    ///     body = { cars = ":cars", reason = ":reason", by = "app" }
    /// "#)?);
    /// # cache.commit("loaded", |tx| tx.insert("booking", [("id", Value::from("b7")), ("cars", 1.into())]))?;
    /// # let server = StandIn::new(|request| { assert_eq!(request.body(), br#"{"by":"app","cars":2,"reason":"one more"}"#); StandIn::status(204) });
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// remote.send_with("rebook", [("reason", "one more")], "a car more", |tx| {
    ///     tx.update("booking", "b7", [("cars", 2)])
    /// })?;
    /// # server.answer_all();
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn send_with(
        &self,
        rule: &str,
        variables: impl Into<Named>,
        label: impl Into<String>,
        write: impl FnOnce(&mut Transaction) -> Result<()>,
    ) -> Result<Sent> {
        let variables = variables.into();
        let variables =
            variables.iter().map(|(name, value)| (name.to_owned(), value.to_string())).collect();
        Ok(Sent(self.0.send(rule, variables, label.into(), write)?))
    }

    /// How many changes have not arrived.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int', done = 'bool' } }\nsend.done = { table = 't', url = '/t/{id}' }")?);
    /// # cache.commit("loaded", |tx| tx.insert("t", [("id", 1)]))?;
    /// # let server = StandIn::new(|_| StandIn::status(204));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// remote.send("done", "it is done", |tx| tx.update("t", 1, [("done", true)]))?;
    /// assert_eq!(remote.unsent(), 1);
    /// server.answer_all();
    /// assert_eq!(remote.unsent(), 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn unsent(&self) -> usize {
        self.0.sends().len()
    }

    /// Empties the cache, as [`Cache::clear`](crate::Cache::clear) does, when a user signs out. Says
    /// how many changes had not arrived; these are gone, or kept for that user, on the disk as well.
    /// To wait for them instead, see [`Remote::wait_until_sent`].
    ///
    /// # Errors
    /// As [`Cache::clear`](crate::Cache::clear).
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn, Unsent}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int', done = 'bool' } }\nsend.done = { table = 't', url = '/t/{id}' }")?);
    /// # cache.commit("loaded", |tx| tx.insert("t", [("id", 1)]))?;
    /// # let server = StandIn::new(|_| StandIn::status(204));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// remote.set_online(false);
    /// remote.send("done", "it is done", |tx| tx.update("t", 1, [("done", true)]))?;
    /// assert_eq!(remote.sign_out("Wren signed out", Unsent::KeptFor("wren"))?, 1);
    /// assert_eq!(cache.snapshot().count("t")?, 0);
    ///
    /// assert_eq!(remote.sign_in("heron")?, 0);
    /// assert_eq!(remote.sign_in("wren")?, 1);
    /// remote.set_online(true);
    /// server.answer_all();
    /// assert_eq!(remote.unsent(), 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn sign_out(&self, label: impl Into<String>, unsent: Unsent<'_>) -> Result<usize> {
        let user = match unsent {
            Unsent::Dropped => None,
            Unsent::KeptFor(user) => Some(user),
        };
        self.0.sign_out(label.into(), user)
    }

    /// A user has signed in: the changes that were kept for that user are shown again, and go.
    /// Returns how many there are.
    ///
    /// # Errors
    /// As [`Cache::commit`](crate::Cache::commit).
    ///
    /// See [`Remote::sign_out`] for an example.
    pub fn sign_in(&self, user: &str) -> Result<usize> {
        self.0.feeds().resume();
        let taken_up = self.0.sign_in(user);
        self.0.drive();
        taken_up
    }

    /// Waits on this thread until all changes have arrived or were refused, or for that long;
    /// returns how many have not. It is for programs whose transport has a thread of its own.
    ///
    /// ```
    /// # use std::time::Duration;
    /// # use backwater::{error::Result, remote::{Remote, Unsent}};
    /// fn sign_out(remote: &Remote) -> Result<usize> {
    ///     remote.wait_until_sent(Duration::from_secs(5));
    ///     remote.sign_out("signed out", Unsent::Dropped)
    /// }
    /// ```
    pub fn wait_until_sent(&self, limit: Duration) -> usize {
        let end = self.0.clock.ticks() + limit;
        for sent in self.sends() {
            sent.wait(end.saturating_sub(self.0.clock.ticks()));
        }
        self.unsent()
    }

    /// The changes that have not arrived, in the order in which they were made, as after a restart.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?);
    /// # let server = StandIn::new(|_| StandIn::status(204));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server).clock(clock).build()?;
    /// for sent in remote.sends() {
    ///     println!("change {} is {:?}", sent.number(), sent.state());
    /// }
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn sends(&self) -> Vec<Sent> {
        let sends = self.0.sends();
        let numbers = sends.numbers().into_iter();
        numbers.filter_map(|number| Some(Sent(sends.get(number)?.shared.clone()))).collect()
    }
}
