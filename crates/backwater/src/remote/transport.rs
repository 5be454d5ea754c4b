//! What moves one request and its response, and the call that it answers.

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Weak;
use std::task::{Context, Poll};
use std::time::Duration;

use super::answer::{Failure, FailureKind};
use super::engine::Limits;
use super::inner::{RemoteInner, SentRequest};

/// Moves requests and responses: an HTTP client, a browser's `fetch`, a [`StandIn`](super::StandIn)
/// in tests.
///
/// Credentials, cookies, TLS and redirects are its own.
///
/// ```
/// use std::time::Duration;
///
/// use backwater::remote::{Alarm, Call, FailureKind, Transport};
///
/// /// Makes each request on a thread of its own.
/// struct Threads;
///
/// impl Transport for Threads {
///     fn start(&self, request: http::Request<Vec<u8>>, call: Call) {
///         std::thread::spawn(move || {
///             if !call.is_wanted() {
///                 return; // dropped without an answer
///             }
///             match send(request) {
///                 Ok(response) => call.respond(response),
///                 Err(error) => call.fail(FailureKind::Network, error.to_string()),
///             }
///         });
///     }
///
///     fn wake_after(&self, delay: Duration, alarm: Alarm) {
///         std::thread::spawn(move || {
///             std::thread::sleep(delay);
///             alarm.ring();
///         });
///     }
/// }
///
/// /// Some HTTP client.
/// fn send(request: http::Request<Vec<u8>>) -> std::io::Result<http::Response<Vec<u8>>> {
///     let body = format!("no {} here", request.uri());
///     Ok(http::Response::builder().status(404).body(body.into_bytes()).unwrap())
/// }
///
/// # use backwater::{Cache, Schema, clock::SetClock, remote::Remote};
/// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }\nresponse.all = { url = '/t', table = 't' }")?);
/// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
/// let remote = Remote::builder(&cache).base("https://x.example").transport(Threads).clock(clock).build()?;
/// let state = remote.ask("all", ())?.wait(std::time::Duration::from_secs(60));
/// assert_eq!(state.failed.unwrap().status, Some(404));
/// # Ok::<(), backwater::Error>(())
/// ```
pub trait Transport: Send + Sync {
    /// Starts a request and returns at once. What comes of it goes to the call, from any thread,
    /// which may be this one.
    fn start(&self, request: http::Request<Vec<u8>>, call: Call);

    /// Opens a feed: a request whose response does not end, or a WebSocket if the URL's scheme is
    /// `ws` or `wss`. It returns at once; what comes goes to the call, in its order.
    ///
    /// A transport that does not do this has no feeds.
    fn open(&self, request: http::Request<Vec<u8>>, call: FeedCall) {
        drop(request);
        call.refuse("this transport opens no feeds");
    }

    /// Rings the alarm after that time: a request is to be tried again then, or has not been
    /// answered in time, or an answer that is wanted grows stale. It returns at once. An alarm that
    /// rings too early or too late, or beside a later one, does no harm.
    fn wake_after(&self, delay: Duration, alarm: Alarm);
}

impl<T: Transport + ?Sized> Transport for std::sync::Arc<T> {
    fn start(&self, request: http::Request<Vec<u8>>, call: Call) {
        (**self).start(request, call);
    }

    fn open(&self, request: http::Request<Vec<u8>>, call: FeedCall) {
        (**self).open(request, call);
    }

    fn wake_after(&self, delay: Duration, alarm: Alarm) {
        (**self).wake_after(delay, alarm);
    }
}

/// Tells a remote that time has passed.
///
/// See [`Transport`] for an example.
pub struct Alarm {
    remote: Weak<RemoteInner>,
    due: Duration,
}

impl Alarm {
    pub(super) fn new(remote: Weak<RemoteInner>, due: Duration) -> Self {
        Self { remote, due }
    }

    /// When it is to ring, by the [ticks](crate::clock::Clock::ticks) of the remote's clock.
    ///
    /// See [`StandIn::pass`](super::StandIn::pass), which lets time go by from one to the next.
    pub fn due(&self) -> Duration {
        self.due
    }

    /// It is time. A remote that was dropped meanwhile hears nothing.
    ///
    /// See [`Transport`] for an example.
    pub fn ring(self) {
        if let Some(remote) = self.remote.upgrade() {
            remote.ring(self.due);
        }
    }
}

impl fmt::Debug for Alarm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Alarm").field("due", &self.due).finish_non_exhaustive()
    }
}

/// A request under way, to be answered once. Dropped without an answer it counts as one that the
/// network has lost.
///
/// See [`Transport`] for an example.
pub struct Call {
    remote: Weak<RemoteInner>,
    sent: Option<SentRequest>,
    limits: Limits,
}

impl Call {
    pub(super) fn new(remote: Weak<RemoteInner>, sent: SentRequest, limits: Limits) -> Self {
        Self { remote, sent: Some(sent), limits }
    }

    /// How many bytes of a response's body are of use, after decompression. A transport that has
    /// read more may give up, and [`Call::respond`] with what it has: that is too much.
    ///
    /// ```
    /// # use backwater::remote::Call;
    /// fn is_enough(call: &Call, read: usize) -> bool {
    ///     read > call.most_bytes()
    /// }
    /// ```
    pub fn most_bytes(&self) -> usize {
        self.limits.bytes
    }

    /// Whether the answer is still wanted: not once its time is over, the remote is dropped, the
    /// cache emptied, or the answer's row deleted. What comes of it then is ignored.
    ///
    /// See [`Transport`] for an example.
    pub fn is_wanted(&self) -> bool {
        match (self.remote.upgrade(), &self.sent) {
            (Some(remote), Some(sent)) => remote.is_wanted(sent.call),
            _ => false,
        }
    }

    /// Waits until the answer is no longer wanted, so that a transport can give up the request.
    ///
    /// ```
    /// # use backwater::remote::{Call, FailureKind};
    /// # async fn select<T>(sent: impl std::future::Future<Output = T>, _: impl std::future::Future<Output = ()>) -> Option<T> { Some(sent.await) }
    /// # async fn send(_: http::Request<Vec<u8>>) -> http::Response<Vec<u8>> { http::Response::new(Vec::new()) }
    /// async fn carry(request: http::Request<Vec<u8>>, call: Call) {
    ///     // Of these two the first one to be ready, as by your runtime.
    ///     match select(send(request), call.unwanted()).await {
    ///         Some(response) => call.respond(response),
    ///         None => {} // the connection is closed
    ///     }
    /// }
    /// ```
    pub fn unwanted(&self) -> Unwanted<'_> {
        Unwanted { remote: &self.remote, call: self.sent.as_ref().map(|sent| sent.call) }
    }

    /// The server has answered, with whatever status.
    ///
    /// See [`Transport`] for an example.
    pub fn respond(mut self, response: http::Response<Vec<u8>>) {
        self.settle(Ok(response));
    }

    /// There is no answer: the network failed, or the time is over.
    ///
    /// See [`Transport`] for an example.
    pub fn fail(mut self, kind: FailureKind, message: impl Into<String>) {
        self.settle(Err(Failure::new(kind, message)));
    }

    /// There is no answer, and there will be none: the request itself cannot be made, so that it is
    /// not tried again.
    ///
    /// ```
    /// # use backwater::remote::Call;
    /// fn refuse(request: &http::Request<Vec<u8>>, call: Call) {
    ///     call.refuse(format!("{} is not a host of ours", request.uri().host().unwrap_or("that")));
    /// }
    /// ```
    pub fn refuse(mut self, message: impl Into<String>) {
        let failure = Failure::new(FailureKind::Network, message);
        self.settle(Err(Failure { is_final: true, ..failure }));
    }

    fn settle(&mut self, result: Result<http::Response<Vec<u8>>, Failure>) {
        if let (Some(remote), Some(sent)) = (self.remote.upgrade(), self.sent.take()) {
            remote.settle(sent, result);
        }
    }
}

impl Drop for Call {
    fn drop(&mut self) {
        self.settle(Err(Failure::new(FailureKind::Network, "the transport gave no answer")));
    }
}

impl fmt::Debug for Call {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Call")
    }
}

/// A feed that is to be opened, or is open. Dropped without an end it counts as one that the network
/// has lost.
///
/// ```
/// use backwater::remote::{FailureKind, FeedCall};
///
/// /// Of some HTTP client: a response whose body comes in parts.
/// fn carry(response: http::Response<()>, parts: impl Iterator<Item = std::io::Result<Vec<u8>>>, call: FeedCall) {
///     call.opened(&response.map(|()| Vec::new())); // of another status than 2xx with the body
///     for part in parts {
///         if !call.is_wanted() {
///             return; // the connection is closed
///         }
///         match part {
///             Ok(bytes) => call.received(&bytes),
///             Err(error) => return call.fail(FailureKind::Network, error.to_string()),
///         }
///     }
///     call.ended();
/// }
/// ```
pub struct FeedCall {
    remote: Weak<RemoteInner>,
    call: Option<u64>,
    most_bytes: usize,
}

impl FeedCall {
    pub(super) fn new(remote: Weak<RemoteInner>, call: u64, most_bytes: usize) -> Self {
        Self { remote, call: Some(call), most_bytes }
    }

    /// How many bytes a message of a WebSocket may have, or the body of a response of another status
    /// than 2xx.
    ///
    /// See [`Call::most_bytes`] for an example.
    pub fn most_bytes(&self) -> usize {
        self.most_bytes
    }

    /// Whether the feed is still wanted. What comes of it otherwise is ignored.
    ///
    /// See [`FeedCall`] for an example.
    pub fn is_wanted(&self) -> bool {
        let remote = self.remote.upgrade();
        remote.zip(self.call).is_some_and(|(remote, call)| remote.is_wanted(call))
    }

    /// Waits until the feed is no longer wanted, so that a transport can close the connection.
    ///
    /// See [`Call::unwanted`] for an example.
    pub fn unwanted(&self) -> Unwanted<'_> {
        Unwanted { remote: &self.remote, call: self.call }
    }

    /// The server has answered: with a status of success the feed is open. The body counts only
    /// for other ones, where it may have problem details (RFC 9457).
    ///
    /// A WebSocket is open with status 101.
    ///
    /// See [`FeedCall`] for an example.
    pub fn opened(&self, response: &http::Response<Vec<u8>>) {
        self.tell(|remote, call| remote.feed_opened(call, response));
    }

    /// The next bytes of the body, wherever they are cut. Their events are one commit, so it is
    /// good to give those together that have come together.
    ///
    /// See [`FeedCall`] for an example.
    pub fn received(&self, bytes: &[u8]) {
        self.tell(|remote, call| remote.feed_received(call, bytes));
    }

    /// Text messages of a WebSocket. Those that have come together are one commit.
    ///
    /// ```
    /// # use backwater::remote::FeedCall;
    /// fn pass_on(call: &FeedCall, waiting: &[String]) {
    ///     call.messages(waiting.iter().map(String::as_str));
    /// }
    /// ```
    pub fn messages<'m>(&self, texts: impl IntoIterator<Item = &'m str>) {
        let texts: Vec<&str> = texts.into_iter().collect();
        self.tell(|remote, call| remote.feed_messages(call, &texts));
    }

    /// The server has ended the response, or closed the WebSocket.
    ///
    /// See [`FeedCall`] for an example.
    pub fn ended(mut self) {
        self.end(Failure::new(FailureKind::Network, "the server has ended the feed"));
    }

    /// The connection is lost, or there was none.
    ///
    /// See [`FeedCall`] for an example.
    pub fn fail(mut self, kind: FailureKind, message: impl Into<String>) {
        self.end(Failure::new(kind, message));
    }

    /// The feed cannot be opened, and could not be later.
    ///
    /// See [`Call::refuse`] for an example.
    pub fn refuse(mut self, message: impl Into<String>) {
        let failure = Failure::new(FailureKind::Network, message);
        self.end(Failure { is_final: true, ..failure });
    }

    fn tell(&self, tell: impl FnOnce(&RemoteInner, u64)) {
        if let (Some(remote), Some(call)) = (self.remote.upgrade(), self.call) {
            tell(&remote, call);
        }
    }

    fn end(&mut self, failure: Failure) {
        if let (Some(remote), Some(call)) = (self.remote.upgrade(), self.call.take()) {
            remote.feed_ended(call, failure);
        }
    }
}

impl Drop for FeedCall {
    fn drop(&mut self) {
        self.end(Failure::new(FailureKind::Network, "the transport gave the feed up"));
    }
}

impl fmt::Debug for FeedCall {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("FeedCall")
    }
}

/// The future of [`Call::unwanted`], which has an example.
#[derive(Debug)]
#[must_use = "it waits when it is awaited"]
pub struct Unwanted<'c> {
    remote: &'c Weak<RemoteInner>,
    call: Option<u64>,
}

impl Future for Unwanted<'_> {
    type Output = ();

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<()> {
        let remote = self.remote.upgrade();
        let is_wanted = remote
            .zip(self.call)
            .is_some_and(|(remote, call)| remote.wake_if_unwanted(call, context.waker()));
        if is_wanted { Poll::Pending } else { Poll::Ready(()) }
    }
}
