//! Feeds: what a server pushes becomes rows as it comes.
//!
//! `decoder.rs` finds events in bytes, `batch.rs` says what they do to rows, `book.rs` keeps account
//! of connections, and `carry.rs` carries out what it decides.

mod batch;
mod book;
mod carry;
mod decoder;
mod row;

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

pub(super) use book::FeedBook;
pub(super) use row::{FEEDS, FeedRow};

use super::RemoteInner;
use super::answer::Failure;
use super::awaited::{Awaited, Settles, Wakers};
use super::key::AnswerKey;
use crate::error::Result;
use crate::remote::Remote;
use crate::value::{Named, Timestamp};

/// Where a feed stands.
///
/// See [`Remote::listen`] for an example.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct FeedState {
    /// Whether it is connected.
    pub connection: Connection,
    /// Since when it is, if it is.
    pub since: Option<Timestamp>,
    /// When an event came last, since the program listens.
    pub last_event: Option<Timestamp>,
    /// How often the connection was lost, since the program listens.
    pub lost: u32,
    /// Why it is not connected, or how the last try failed.
    pub failed: Option<Failure>,
}

/// Where a feed's connection stands.
///
/// See [`Remote::listen`] for an example.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Connection {
    /// The request is made, or waits for the network.
    #[default]
    Connecting,
    /// Events come as they happen.
    Connected,
    /// It was lost, and is opened again at [`Failure::again_at`].
    Waiting,
    /// It is not opened again by itself: nobody listens, the server does not allow it, or the cache
    /// was emptied.
    Closed,
}

impl Connection {
    /// As `backwater_feed` has it.
    pub(super) fn name(self) -> &'static str {
        match self {
            Connection::Connecting => "connecting",
            Connection::Connected => "connected",
            Connection::Waiting => "waiting",
            Connection::Closed => "closed",
        }
    }
}

impl Settles for FeedState {
    fn is_settled(&self) -> bool {
        matches!(self.connection, Connection::Connected | Connection::Closed)
    }
}

/// What those who listen share with the remote.
pub(super) struct FeedShared {
    key: AnswerKey,
    now: Awaited<FeedState>,
}

impl FeedShared {
    fn new(key: AnswerKey) -> Self {
        Self { key, now: Awaited::new(FeedState::default()) }
    }

    fn state(&self) -> FeedState {
        self.now.lock().clone()
    }

    fn change(&self, change: impl FnOnce(&mut FeedState)) -> Wakers {
        self.now.change(change)
    }
}

/// A feed that is listened to for as long as this is held; see [`Remote::listen`].
#[must_use = "it is listened to for as long as it is held"]
pub struct Listening {
    shared: Arc<FeedShared>,
    remote: Arc<RemoteInner>,
}

impl Listening {
    /// Where it stands now.
    ///
    /// See [`Remote::listen`] for an example.
    pub fn state(&self) -> FeedState {
        self.shared.state()
    }

    /// Waits until it is connected, or will not be, as a future of any runtime.
    ///
    /// ```
    /// # use backwater::remote::{Connection, Listening};
    /// async fn is_live(listening: &Listening) -> bool {
    ///     listening.settled().await.connection == Connection::Connected
    /// }
    /// ```
    pub fn settled(&self) -> FeedSettled<'_> {
        FeedSettled(&self.shared)
    }

    /// Waits on this thread until it is connected, or will not be, or for that long; returns where
    /// it stands then. It is for programs whose transport has a thread of its own.
    ///
    /// ```
    /// # use backwater::remote::{Connection, Listening};
    /// fn is_live(listening: &Listening) -> bool {
    ///     let state = listening.wait(std::time::Duration::from_secs(5));
    ///     state.connection == Connection::Connected
    /// }
    /// ```
    pub fn wait(&self, limit: Duration) -> FeedState {
        self.shared.now.wait(limit, Clone::clone)
    }
}

impl Drop for Listening {
    fn drop(&mut self) {
        self.remote.stop_listening(&self.shared.key);
    }
}

impl fmt::Debug for Listening {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Listening").field(&self.shared.key).field(&self.state()).finish()
    }
}

/// The future of [`Listening::settled`], which has an example.
#[must_use = "it waits when it is awaited"]
pub struct FeedSettled<'l>(&'l FeedShared);

impl fmt::Debug for FeedSettled<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("FeedSettled")
    }
}

impl Future for FeedSettled<'_> {
    type Output = FeedState;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<FeedState> {
        self.0.now.poll(context, Clone::clone)
    }
}

impl Remote {
    /// Listens to a feed of the schema for as long as the returned value is held. What the server
    /// pushes is committed as it comes, below pending changes: events that come together are one
    /// commit, in which the feed's position is as well.
    ///
    /// A connection that is lost is opened again, sooner or later as by
    /// [`RemoteBuilder::back_off`](super::RemoteBuilder::back_off), and goes on behind the position,
    /// also after a restart. Where events may have been missed, the answers that the feed covers
    /// are stale, and those that are wanted are asked for again: after a first connection, after
    /// one whose position the server does not know, and after an event that could not be read.
    /// All who listen to one feed share its connection.
    ///
    /// If the cache is emptied, as when a user signs out, the feed is closed, until
    /// [`Remote::resume`] or [`Remote::sign_in`].
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`](crate::ErrorKind::UnknownName) if there is no such feed,
    /// [`ErrorKind::Parameter`](crate::ErrorKind::Parameter) if it has no such variable; else as
    /// [`Cache::commit`](crate::Cache::commit).
    ///
    /// ```
    /// # use backwater::{Cache, Schema, clock::SetClock, remote::{Connection, Remote, StandIn}};
    /// let cache = Cache::new(Schema::parse("backwater.toml", r#"
    ///     table.sailing = { id = "id", fields = { id = "int", status = "text" } }
    ///     response.sailing = { url = "/sailings/{id}", table = "sailing" }
    ///
    ///     [feed.changes]
    ///     url = "/feed"                       # server-sent events
    ///     events.sailing = "sailing"          # read as by that response rule
    ///     events.withdrawn = { delete = "sailing" }
    /// "#)?);
    /// let server = StandIn::new(|_| StandIn::events());
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// let boarding = cache.query("SELECT id FROM sailing WHERE status = 'boarding'", ())?;
    /// let listening = remote.listen("changes", ())?;
    /// server.answer_all();
    /// assert_eq!(listening.state().connection, Connection::Connected);
    ///
    /// server.push("id: 1\nevent: sailing\ndata: { \"id\": 311, \"status\": \"boarding\" }\n\n");
    /// assert_eq!(boarding.read()?.len(), 1);
    /// server.push("id: 2\nevent: withdrawn\ndata: { \"id\": 311 }\n\n");
    /// assert_eq!(boarding.read()?.len(), 0);
    /// let known = cache.query("SELECT state, position FROM backwater_feed", ())?;
    /// assert_eq!(known.read()?.row(0).unwrap().values(), ["connected".into(), "2".into()]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn listen(&self, feed: &str, variables: impl Into<Named>) -> Result<Listening> {
        let shared = self.0.listen(feed, &variables.into())?;
        Ok(Listening { shared, remote: self.0.clone() })
    }
}
