//! A server behind a socket of this machine.

use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::thread::JoinHandle;
use std::time::Duration;

use axum::Router;
use axum::body::{Body, Bytes, HttpBody, to_bytes};
use axum::extract::ws::{Message, WebSocket, WebSocketUpgrade};
use axum::extract::{FromRequestParts, State};
use http::header::{CONTENT_TYPE, HeaderValue};
use http::{Request, Response, StatusCode};
use http_body::Frame;
use tokio::sync::oneshot;
use tokio::time::Sleep;

use crate::faults::{Choices, Fate, Faults};
use crate::{Answers, Events, Sent};

/// The largest body of a request.
const MOST_BYTES: usize = 1 << 20;
/// How long what a feed has sent may take to leave before it is cut.
const BEFORE_CUT: Duration = Duration::from_millis(2);

/// A server that runs on a thread of its own until it is dropped.
///
/// See [the crate](crate) for an example.
#[derive(Debug)]
pub struct Running {
    address: SocketAddr,
    end: Option<oneshot::Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Running {
    /// Where it listens, such as `http://127.0.0.1:40123`.
    ///
    /// See [the crate](crate) for an example.
    pub fn url(&self) -> String {
        format!("http://{}", self.address)
    }

    /// Waits until it ends, which it does by itself if its socket fails.
    ///
    /// ```
    /// # use std::sync::Arc;
    /// # use backwater_serve::{Faults, Ferries, start};
    /// let server = start(Arc::new(Ferries::new()), Faults::default(), 0)?;
    /// # if false {
    /// server.wait(); // for ever
    /// # }
    /// # Ok::<(), std::io::Error>(())
    /// ```
    pub fn wait(mut self) {
        if let Some(thread) = self.thread.take() {
            let _ended = thread.join();
        }
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        drop(self.end.take());
        if let Some(thread) = self.thread.take() {
            let _ended = thread.join();
        }
    }
}

/// Starts a server on a port of this machine, on the loopback address alone; 0 takes a free one.
///
/// # Errors
/// If the port is in use, or no thread can be started.
///
/// See [the crate](crate) for an example.
pub fn start(answers: Arc<dyn Answers>, faults: Faults, port: u16) -> io::Result<Running> {
    let listener = std::net::TcpListener::bind((Ipv4Addr::LOCALHOST, port))?;
    listener.set_nonblocking(true)?;
    let address = listener.local_addr()?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let (end, ended) = oneshot::channel::<()>();
    let shared = Arc::new(Shared { answers, choices: Choices::of(faults) });
    let thread =
        std::thread::Builder::new().name("backwater serve".to_owned()).spawn(move || {
            runtime.block_on(async move {
                let Ok(listener) = tokio::net::TcpListener::from_std(listener) else { return };
                let router = Router::new().fallback(answer).with_state(shared);
                let serving = axum::serve(listener, router);
                let serving = std::pin::pin!(serving.into_future());
                let ended = std::pin::pin!(ended);
                Either(serving, ended).await;
            });
        })?;
    Ok(Running { address, end: Some(end), thread: Some(thread) })
}

struct Shared {
    answers: Arc<dyn Answers>,
    choices: Choices,
}

/// The first of two futures to be ready.
struct Either<A, B>(A, B);

impl<A: Future + Unpin, B: Future + Unpin> Future for Either<A, B> {
    type Output = ();

    fn poll(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<()> {
        let first = Pin::new(&mut self.0).poll(context).is_ready();
        if first || Pin::new(&mut self.1).poll(context).is_ready() {
            return Poll::Ready(());
        }
        Poll::Pending
    }
}

async fn answer(State(shared): State<Arc<Shared>>, request: Request<Body>) -> Response<Body> {
    let (fate, delay) = shared.choices.next();
    tokio::time::sleep(delay).await;
    let (mut parts, body) = request.into_parts();
    let socket = WebSocketUpgrade::from_request_parts(&mut parts, &()).await.ok();
    let Ok(body) = to_bytes(body, MOST_BYTES).await else {
        return problem(StatusCode::PAYLOAD_TOO_LARGE, "The request is too large");
    };
    let request = Request::from_parts(parts, body.to_vec());
    if fate == Fate::Failed {
        shared.answers.note(&request, Sent::Failure);
        return problem(StatusCode::SERVICE_UNAVAILABLE, "Out of order, on purpose");
    }
    let response = shared.answers.answer(&request);
    if fate == Fate::Lost {
        shared.answers.note(&request, Sent::Part);
        // The server has done what it was asked for: only the response is lost.
        let (parts, body) = response.into_parts();
        let half = Bytes::from(body[..body.len() / 2].to_vec());
        return Response::from_parts(parts, Body::new(Cut(Some(half))));
    }
    let sent = Sent::Response(response.status().as_u16(), response.body().len());
    shared.answers.note(&request, sent);
    let Some(events) = shared.answers.follow(&request) else { return response.map(Body::from) };
    match socket {
        Some(socket) => socket.on_upgrade(move |socket| messages(socket, events, shared)),
        None => response.map(|_| Body::new(Feed { events, shared, cut: None })),
    }
}

/// Sends events as text messages, until one of the two closes the connection.
async fn messages(mut socket: WebSocket, mut events: Events, shared: Arc<Shared>) {
    loop {
        tokio::select! {
            event = events.recv() => {
                let Some(event) = event.filter(|_| !shared.choices.cuts()) else { return };
                if socket.send(Message::Text(event.into())).await.is_err() {
                    return;
                }
            }
            heard = socket.recv() => {
                if !matches!(heard, Some(Ok(_))) {
                    return;
                }
            }
        }
    }
}

fn problem(status: StatusCode, title: &str) -> Response<Body> {
    let body = serde_json::json!({ "title": title, "status": status.as_u16() });
    let mut response = Response::new(Body::from(body.to_string()));
    *response.status_mut() = status;
    let kind = HeaderValue::from_static("application/problem+json");
    response.headers_mut().insert(CONTENT_TYPE, kind);
    response
}

/// A body that ends before it is whole.
struct Cut(Option<Bytes>);

impl HttpBody for Cut {
    type Data = Bytes;
    type Error = io::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        _: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, io::Error>>> {
        Poll::Ready(Some(match self.0.take().filter(|half| !half.is_empty()) {
            Some(half) => Ok(Frame::data(half)),
            None => Err(io::Error::other("the connection is cut on purpose")),
        }))
    }
}

/// A body that goes on for as long as there are events, unless it is cut.
struct Feed {
    events: Events,
    shared: Arc<Shared>,
    /// When it is cut: once what was sent before is on its way.
    cut: Option<Pin<Box<Sleep>>>,
}

impl HttpBody for Feed {
    type Data = Bytes;
    type Error = io::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, io::Error>>> {
        if self.cut.is_none() {
            let Some(event) = ready!(self.events.poll_recv(context)) else {
                return Poll::Ready(None);
            };
            if !self.shared.choices.cuts() {
                return Poll::Ready(Some(Ok(Frame::data(Bytes::from(event)))));
            }
        }
        let cut = self.cut.get_or_insert_with(|| Box::pin(tokio::time::sleep(BEFORE_CUT)));
        ready!(cut.as_mut().poll(context));
        Poll::Ready(Some(Err(io::Error::other("the feed is cut on purpose"))))
    }
}
