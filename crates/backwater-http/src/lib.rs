//! Moves the requests of a Backwater remote over HTTP, with `reqwest` on `tokio`.
//!
//! ```no_run
//! use std::time::Duration;
//!
//! use backwater::remote::Remote;
//! use backwater::{Cache, Schema, SystemClock};
//! use backwater_http::HttpTransport;
//!
//! let cache = Cache::new(Schema::parse("backwater.toml", r#"
//!     table.sailing = { id = "id", fields = { id = "int", status = "text" } }
//!     response.sailing = { url = "/sailings/{id}", table = "sailing" }
//! "#)?);
//! let remote = Remote::builder(&cache)
//!     .base("https://ferries.example/api")
//!     .transport(HttpTransport::builder().build()?) // with a thread of its own
//!     .clock(SystemClock::new())
//!     .build()?;
//! let state = remote.ask("sailing", [("id", 311)])?.wait(Duration::from_secs(10));
//! println!("{state:?}");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! Feeds are responses that do not end, and WebSockets (RFC 6455), by the same client.

mod credentials;
mod feed;

use std::error::Error as StdError;
use std::fmt;
use std::future::Future;
use std::sync::Arc;
use std::time::Duration;

use backwater::remote::http::header::{AUTHORIZATION, HeaderValue};
use backwater::remote::http::{Request, Response, StatusCode, Version};
use backwater::remote::{Alarm, Call, FailureKind, FeedCall, Transport};
use tokio::runtime::Handle;
use tokio::sync::oneshot;

use credentials::Credentials;
pub use credentials::{CredentialsError, CredentialsFor};

/// The `reqwest` crate, for a client of your own.
pub use reqwest;

/// Moves requests and responses over HTTP/1.1 and HTTP/2, with TLS and compression.
///
/// Clones share a client, its connections, and the thread. See [the crate](crate) for an example.
#[derive(Clone)]
pub struct HttpTransport(Arc<Inner>);

struct Inner {
    client: reqwest::Client,
    runtime: Handle,
    credentials: Option<Credentials>,
    change_request: Option<Box<ChangeRequest>>,
    change_response: Option<Box<ChangeResponse>>,
    /// Ends the thread, if the transport has one.
    _end: Option<oneshot::Sender<()>>,
}

type ChangeRequest = dyn Fn(&mut Request<Vec<u8>>) + Send + Sync;
type ChangeResponse = dyn Fn(&mut Response<Vec<u8>>) + Send + Sync;

/// Builds an [`HttpTransport`].
///
/// See [`HttpTransport`] for an example.
#[derive(Default)]
pub struct HttpTransportBuilder {
    client: Option<reqwest::Client>,
    runtime: Option<Handle>,
    credentials: Option<Credentials>,
    change_request: Option<Box<ChangeRequest>>,
    change_response: Option<Box<ChangeResponse>>,
}

impl HttpTransport {
    /// Begins to build a transport.
    ///
    /// See [the crate](crate) for an example.
    pub fn builder() -> HttpTransportBuilder {
        HttpTransportBuilder::default()
    }

    /// Forgets the credentials, as when a user signs out: before the next request they are asked
    /// for anew.
    ///
    /// ```
    /// use backwater_http::HttpTransport;
    ///
    /// # let cache = backwater::Cache::new(backwater::Schema::parse("s.toml", "").unwrap());
    /// let transport = HttpTransport::builder().build()?;
    /// let in_the_remote = transport.clone();
    /// // Later, the user signs out:
    /// cache.clear("signed out")?;
    /// transport.forget_credentials();
    /// # drop(in_the_remote);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn forget_credentials(&self) {
        if let Some(credentials) = &self.0.credentials {
            credentials.forget();
        }
    }
}

impl HttpTransportBuilder {
    /// Runs on a runtime of the program, whose timer is enabled, instead of on a thread of its own.
    ///
    /// ```
    /// # fn main() -> Result<(), backwater_http::BuildError> {
    /// # let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    /// # let _entered = runtime.enter();
    /// use backwater_http::HttpTransport;
    ///
    /// let transport = HttpTransport::builder().runtime(tokio::runtime::Handle::current()).build()?;
    /// # drop(transport);
    /// # Ok(())
    /// # }
    /// ```
    #[must_use]
    pub fn runtime(mut self, runtime: Handle) -> Self {
        self.runtime = Some(runtime);
        self
    }

    /// Uses a client of your own: with a proxy, certificates, cookies, or other time-outs.
    ///
    /// The client that is used otherwise follows up to ten redirects on the same host alone, tries
    /// to connect for ten seconds, and decompresses.
    ///
    /// ```
    /// use backwater_http::{HttpTransport, reqwest};
    ///
    /// let client = reqwest::Client::builder().user_agent("departures-board/1.0").build()?;
    /// let transport = HttpTransport::builder().client(client).build()?;
    /// # drop(transport);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn client(mut self, client: reqwest::Client) -> Self {
        self.client = Some(client);
        self
    }

    /// Sends an `Authorization` with every request. The value is asked for before the first one and
    /// kept; if the server answers 401, it is asked for once more, by all requests that this value
    /// was refused to together, and the request is repeated once. It reaches no row, file or
    /// message. When a user signs out, call [`HttpTransport::forget_credentials`].
    ///
    /// Whoever gives the value sees the request's URL, and may give `None` for another host.
    ///
    /// ```
    /// use backwater_http::{HttpTransport, CredentialsFor};
    ///
    /// let transport = HttpTransport::builder().credentials(|of: CredentialsFor| async move {
    ///     if of.url.host() != Some("ferries.example") {
    ///         return Ok(None);
    ///     }
    ///     // `of.is_refused` says that the last value is no longer good.
    ///     Ok(Some("Bearer a token from the keychain, or a fresh one".to_owned()))
    /// });
    /// # let _transport = transport.build()?;
    /// # Ok::<(), backwater_http::BuildError>(())
    /// ```
    #[must_use]
    pub fn credentials<F>(
        mut self,
        give: impl Fn(CredentialsFor) -> F + Send + Sync + 'static,
    ) -> Self
    where
        F: Future<Output = Result<Option<String>, CredentialsError>> + Send + 'static,
    {
        self.credentials = Some(Credentials::new(give));
        self
    }

    /// Changes each request before it is sent: another host, a field that the API wants.
    ///
    /// ```
    /// use backwater_http::HttpTransport;
    ///
    /// let transport = HttpTransport::builder().change_request(|request| {
    ///     request.headers_mut().insert("x-api-version", "2031-05".parse().unwrap());
    /// });
    /// # let _transport = transport.build()?;
    /// # Ok::<(), backwater_http::BuildError>(())
    /// ```
    #[must_use]
    pub fn change_request(
        mut self,
        change: impl Fn(&mut Request<Vec<u8>>) + Send + Sync + 'static,
    ) -> Self {
        self.change_request = Some(Box::new(change));
        self
    }

    /// Changes each response before it is read: a wrapper around all bodies, an API that says 200
    /// for errors.
    ///
    /// ```
    /// use backwater::remote::http::StatusCode;
    /// use backwater_http::HttpTransport;
    ///
    /// let transport = HttpTransport::builder().change_response(|response| {
    ///     if response.body().starts_with(b"{\"error\"") {
    ///         *response.status_mut() = StatusCode::BAD_REQUEST;
    ///     }
    /// });
    /// # let _transport = transport.build()?;
    /// # Ok::<(), backwater_http::BuildError>(())
    /// ```
    #[must_use]
    pub fn change_response(
        mut self,
        change: impl Fn(&mut Response<Vec<u8>>) + Send + Sync + 'static,
    ) -> Self {
        self.change_response = Some(Box::new(change));
        self
    }

    /// The transport.
    ///
    /// # Errors
    /// A [`BuildError`] if TLS cannot be set up or the thread cannot be started.
    ///
    /// See [the crate](crate) for an example.
    pub fn build(self) -> Result<HttpTransport, BuildError> {
        let client = match self.client {
            Some(client) => client,
            None => default_client().map_err(|error| BuildError(Box::new(error)))?,
        };
        let (runtime, end) = match self.runtime {
            Some(runtime) => (runtime, None),
            None => {
                let (runtime, end) = own_thread().map_err(|error| BuildError(Box::new(error)))?;
                (runtime, Some(end))
            }
        };
        Ok(HttpTransport(Arc::new(Inner {
            client,
            runtime,
            credentials: self.credentials,
            change_request: self.change_request,
            change_response: self.change_response,
            _end: end,
        })))
    }
}

/// Says why a transport could not be built.
///
/// See [`HttpTransportBuilder::build`].
#[derive(Debug)]
pub struct BuildError(Box<dyn StdError + Send + Sync>);

impl fmt::Display for BuildError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the HTTP transport cannot be set up: {}", self.0)
    }
}

impl StdError for BuildError {
    fn source(&self) -> Option<&(dyn StdError + 'static)> {
        Some(&*self.0)
    }
}

/// The most redirects that one request may follow.
const MOST_REDIRECTS: usize = 10;

fn default_client() -> reqwest::Result<reqwest::Client> {
    let same_host = reqwest::redirect::Policy::custom(|attempt| {
        let from = attempt.previous().last();
        let is_same = from.is_some_and(|from| from.origin() == attempt.url().origin());
        if attempt.previous().len() > MOST_REDIRECTS {
            attempt.error(Redirected("the server redirects without an end"))
        } else if is_same {
            attempt.follow()
        } else {
            attempt.error(Redirected("the server redirects to another host"))
        }
    });
    reqwest::Client::builder().redirect(same_host).connect_timeout(Duration::from_secs(10)).build()
}

#[derive(Debug)]
struct Redirected(&'static str);

impl fmt::Display for Redirected {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0)
    }
}

impl StdError for Redirected {}

/// A runtime on a thread of its own, which ends when the sender is dropped.
fn own_thread() -> std::io::Result<(Handle, oneshot::Sender<()>)> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let handle = runtime.handle().clone();
    let (end, ended) = oneshot::channel::<()>();
    std::thread::Builder::new().name("backwater http".to_owned()).spawn(move || {
        let _is_over = runtime.block_on(ended);
        // A commit that goes on may be waited for by nobody.
        runtime.shutdown_background();
    })?;
    Ok((handle, end))
}

impl Transport for HttpTransport {
    fn start(&self, request: Request<Vec<u8>>, call: Call) {
        // A task does not hold the sender that ends the thread it runs on.
        let inner = Arc::downgrade(&self.0);
        let runtime = self.0.runtime.clone();
        self.0.runtime.spawn(async move {
            let Some(inner) = inner.upgrade() else { return };
            let most = call.most_bytes();
            let outcome = tokio::select! {
                outcome = inner.carry(request, most) => outcome,
                () = call.unwanted() => return,
            };
            // A response is a commit, which calls watchers: not on a thread that moves others.
            runtime.spawn_blocking(move || match outcome {
                Ok(response) => call.respond(response),
                Err(Problem::Passing(kind, message)) => call.fail(kind, message),
                Err(Problem::Final(message)) => call.refuse(message),
            });
        });
    }

    fn open(&self, request: Request<Vec<u8>>, call: FeedCall) {
        feed::open(&self.0, request, call);
    }

    fn wake_after(&self, delay: Duration, alarm: Alarm) {
        let runtime = self.0.runtime.clone();
        self.0.runtime.spawn(async move {
            tokio::time::sleep(delay).await;
            runtime.spawn_blocking(move || alarm.ring());
        });
    }
}

/// Why there is no response.
enum Problem {
    Passing(FailureKind, String),
    /// It would be the same again.
    Final(String),
}

impl Inner {
    async fn carry(
        &self,
        request: Request<Vec<u8>>,
        most: usize,
    ) -> Result<Response<Vec<u8>>, Problem> {
        let received = self.exchange(request, None).await?;
        let mut response = read(received, most).await?;
        if let Some(change) = &self.change_response {
            change(&mut response);
        }
        Ok(response)
    }

    /// The head of the response to a request, which has credentials if there are some.
    async fn exchange(
        &self,
        mut request: Request<Vec<u8>>,
        version: Option<Version>,
    ) -> Result<reqwest::Response, Problem> {
        if let Some(change) = &self.change_request {
            change(&mut request);
        }
        let Some(credentials) = &self.credentials else {
            return self.execute(request, version).await;
        };
        let url = request.uri().clone();
        let first = credentials.get(&url).await.map_err(refused)?;
        let response = self.execute_as(&request, first.as_ref(), version).await?;
        match (response.status(), first) {
            (StatusCode::UNAUTHORIZED, Some(first)) => {
                let again = credentials.renew(&url, &first).await.map_err(refused)?;
                match again {
                    Some(again) => self.execute_as(&request, Some(&again), version).await,
                    None => Ok(response),
                }
            }
            _ => Ok(response),
        }
    }

    async fn execute_as(
        &self,
        request: &Request<Vec<u8>>,
        credentials: Option<&HeaderValue>,
        version: Option<Version>,
    ) -> Result<reqwest::Response, Problem> {
        let mut request = request.clone();
        if let Some(credentials) = credentials {
            request.headers_mut().insert(AUTHORIZATION, credentials.clone());
        }
        self.execute(request, version).await
    }

    async fn execute(
        &self,
        request: Request<Vec<u8>>,
        version: Option<Version>,
    ) -> Result<reqwest::Response, Problem> {
        let mut request = reqwest::Request::try_from(request).map_err(|error| problem(&error))?;
        if let Some(version) = version {
            *request.version_mut() = version;
        }
        self.client.execute(request).await.map_err(|error| problem(&error))
    }
}

/// A response with its body, or with more of it than may be.
async fn read(mut received: reqwest::Response, most: usize) -> Result<Response<Vec<u8>>, Problem> {
    let mut response = head(&mut received);
    // What is decompressed may be much more than what was sent: it is counted as it comes.
    while let Some(chunk) = received.chunk().await.map_err(|error| problem(&error))? {
        response.body_mut().extend_from_slice(&chunk);
        if response.body().len() > most {
            break;
        }
    }
    Ok(response)
}

/// The status and the header fields of a response.
fn head(received: &mut reqwest::Response) -> Response<Vec<u8>> {
    let mut response = Response::new(Vec::new());
    *response.status_mut() = received.status();
    *response.headers_mut() = std::mem::take(received.headers_mut());
    response
}

fn refused(error: CredentialsError) -> Problem {
    Problem::Passing(FailureKind::Network, format!("there are no credentials: {error}"))
}

/// An error in words, without the URL, in which there may be secrets.
fn problem(error: &reqwest::Error) -> Problem {
    let mut message = String::new();
    let mut cause: Option<&dyn StdError> = error.source();
    while let Some(next) = cause {
        let part = next.to_string();
        if !message.ends_with(&part) {
            let between = if message.is_empty() { "" } else { ": " };
            message = format!("{message}{between}{part}");
        }
        cause = next.source();
    }
    if message.is_empty() {
        message = "the request failed".to_owned();
    }
    if error.is_timeout() {
        Problem::Passing(FailureKind::TimeOut, message)
    } else if error.is_builder() || error.is_redirect() {
        Problem::Final(message)
    } else {
        Problem::Passing(FailureKind::Network, message)
    }
}

impl fmt::Debug for HttpTransport {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("HttpTransport")
    }
}

impl fmt::Debug for HttpTransportBuilder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("HttpTransportBuilder")
    }
}
