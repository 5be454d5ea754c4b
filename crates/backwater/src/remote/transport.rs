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

    /// Rings the alarm after that time: a request is to be tried again then, or has not been
    /// answered in time, or an answer that is wanted grows stale. It returns at once. An alarm that
    /// rings too early or too late, or beside a later one, does no harm.
    fn wake_after(&self, delay: Duration, alarm: Alarm);
}

impl<T: Transport + ?Sized> Transport for std::sync::Arc<T> {
    fn start(&self, request: http::Request<Vec<u8>>, call: Call) {
        (**self).start(request, call);
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
        Unwanted(self)
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

/// The future of [`Call::unwanted`], which has an example.
#[derive(Debug)]
#[must_use = "it waits when it is awaited"]
pub struct Unwanted<'c>(&'c Call);

impl Future for Unwanted<'_> {
    type Output = ();

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<()> {
        let remote = self.0.remote.upgrade();
        let is_wanted = remote
            .zip(self.0.sent.as_ref())
            .is_some_and(|(remote, sent)| remote.wake_if_unwanted(sent.call, context.waker()));
        if is_wanted { Poll::Pending } else { Poll::Ready(()) }
    }
}
