//! Feeds: responses that do not end, and WebSockets over the same client.

use std::sync::Arc;
use std::time::Duration;

use backwater::remote::http::header::{
    CONNECTION, HeaderValue, SEC_WEBSOCKET_ACCEPT, SEC_WEBSOCKET_KEY, SEC_WEBSOCKET_VERSION,
    UPGRADE,
};
use backwater::remote::http::{Request, Response, StatusCode, Uri, Version};
use backwater::remote::{FailureKind, FeedCall};
use futures_util::{FutureExt, StreamExt};
use tokio::runtime::Handle;
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::handshake::client::generate_key;
use tokio_tungstenite::tungstenite::handshake::derive_accept_key;
use tokio_tungstenite::tungstenite::protocol::{Role, WebSocketConfig};
use tokio_tungstenite::tungstenite::{Error as SocketError, Message};

use super::{Inner, Problem, head, problem, read};

/// How much is given on at once of what has come together.
const PIECE: usize = 1 << 20;
/// The largest body of a response that refuses a feed.
const MOST_REFUSAL: usize = 64 << 10;
/// How long a server may take to answer that a WebSocket is closed.
const CLOSING: Duration = Duration::from_secs(1);

/// Opens a feed and follows it, as a task of the transport's runtime.
pub(super) fn open(inner: &Arc<Inner>, request: Request<Vec<u8>>, call: FeedCall) {
    let runtime = inner.runtime.clone();
    // A task does not hold the sender that ends the thread it runs on.
    let inner = Arc::downgrade(inner);
    let on = runtime.clone();
    runtime.spawn(async move {
        let call = Arc::new(call);
        let Some(inner) = inner.upgrade() else { return };
        let opened = tokio::select! {
            opened = connect(&inner, request, &call) => opened,
            () = call.unwanted() => return,
        };
        drop(inner);
        let ended = match opened {
            Ok(Opened::Refused(response)) => {
                tell(&on, &call, move |call| call.opened(&response)).await;
                Ok(())
            }
            Ok(Opened::Body(response, body)) => {
                tell(&on, &call, move |call| call.opened(&response)).await;
                follow_body(&on, &call, body).await
            }
            Ok(Opened::Socket(response, socket)) => {
                tell(&on, &call, move |call| call.opened(&response)).await;
                follow_socket(&on, &call, socket).await
            }
            Err(problem) => Err(problem),
        };
        // Those who were told something have heard it, so that nobody else has the call.
        let Some(call) = Arc::into_inner(call) else { return };
        let end = move || match ended {
            Ok(()) => call.ended(),
            Err(Problem::Passing(kind, message)) => call.fail(kind, message),
            Err(Problem::Final(message)) => call.refuse(message),
        };
        drop(on.spawn_blocking(end));
    });
}

enum Opened {
    /// Another status than success.
    Refused(Response<Vec<u8>>),
    Body(Response<Vec<u8>>, reqwest::Response),
    Socket(Response<Vec<u8>>, Box<WebSocketStream<reqwest::Upgraded>>),
}

/// Tells the remote something: a commit, which calls watchers, is not for a thread that moves
/// requests.
async fn tell(
    runtime: &Handle,
    call: &Arc<FeedCall>,
    tell: impl FnOnce(&FeedCall) + Send + 'static,
) {
    let call = call.clone();
    // A watcher's panic is the remote's.
    drop(runtime.spawn_blocking(move || tell(&call)).await);
}

async fn connect(
    inner: &Inner,
    mut request: Request<Vec<u8>>,
    call: &FeedCall,
) -> Result<Opened, Problem> {
    let socket = as_http(request.uri()).map(|uri| {
        let key = generate_key();
        *request.uri_mut() = uri;
        let fields = request.headers_mut();
        fields.insert(CONNECTION, HeaderValue::from_static("Upgrade"));
        fields.insert(UPGRADE, HeaderValue::from_static("websocket"));
        fields.insert(SEC_WEBSOCKET_VERSION, HeaderValue::from_static("13"));
        fields.extend(HeaderValue::from_str(&key).ok().map(|key| (SEC_WEBSOCKET_KEY, key)));
        derive_accept_key(key.as_bytes())
    });
    // A connection of HTTP/2 cannot become a WebSocket.
    let version = socket.as_ref().map(|_| Version::HTTP_11);
    let mut received = inner.exchange(request, version).await?;
    let status = received.status();
    let Some(expected) = socket else {
        return match status.is_success() {
            true => Ok(Opened::Body(head(&mut received), received)),
            false => Ok(Opened::Refused(read(received, MOST_REFUSAL).await?)),
        };
    };
    if status != StatusCode::SWITCHING_PROTOCOLS {
        return Ok(Opened::Refused(read(received, MOST_REFUSAL).await?));
    }
    let response = head(&mut received);
    let accepted = response.headers().get(SEC_WEBSOCKET_ACCEPT);
    if accepted.is_none_or(|accepted| accepted.as_bytes() != expected.as_bytes()) {
        let message = "the server answers as a WebSocket, but not to this key";
        return Err(Problem::Passing(FailureKind::Network, message.to_owned()));
    }
    let upgraded = received.upgrade().await.map_err(|error| problem(&error))?;
    let most = Some(call.most_bytes());
    let limits = WebSocketConfig::default().max_message_size(most).max_frame_size(most);
    let socket = WebSocketStream::from_raw_socket(upgraded, Role::Client, Some(limits)).await;
    Ok(Opened::Socket(response, Box::new(socket)))
}

/// The URL of the request that opens a WebSocket (RFC 6455, section 4.1).
fn as_http(uri: &Uri) -> Option<Uri> {
    let scheme = match uri.scheme_str()? {
        "ws" => "http",
        "wss" => "https",
        _ => return None,
    };
    let mut parts = uri.clone().into_parts();
    parts.scheme = scheme.parse().ok();
    Uri::from_parts(parts).ok()
}

async fn follow_body(
    runtime: &Handle,
    call: &Arc<FeedCall>,
    mut body: reqwest::Response,
) -> Result<(), Problem> {
    loop {
        let first = tokio::select! {
            chunk = body.chunk() => chunk,
            () = call.unwanted() => return Ok(()),
        };
        let Some(first) = first.map_err(|error| problem(&error))? else { return Ok(()) };
        let mut bytes = first.to_vec();
        // What has come together is one commit.
        let mut end = None;
        while end.is_none() && bytes.len() < PIECE {
            match body.chunk().now_or_never() {
                Some(Ok(Some(chunk))) => bytes.extend_from_slice(&chunk),
                Some(Ok(None)) => end = Some(Ok(())),
                Some(Err(error)) => end = Some(Err(problem(&error))),
                None => break,
            }
        }
        tell(runtime, call, move |call| call.received(&bytes)).await;
        if let Some(end) = end {
            return end;
        }
    }
}

async fn follow_socket(
    runtime: &Handle,
    call: &Arc<FeedCall>,
    mut socket: Box<WebSocketStream<reqwest::Upgraded>>,
) -> Result<(), Problem> {
    loop {
        let first = tokio::select! {
            message = socket.next() => message,
            () = call.unwanted() => {
                drop(tokio::time::timeout(CLOSING, socket.close(None)).await);
                return Ok(());
            }
        };
        let (mut texts, mut bytes, mut next) = (Vec::new(), 0, first);
        let end = loop {
            match next {
                Some(Ok(Message::Text(text))) => {
                    bytes += text.len();
                    texts.push(text);
                }
                Some(Ok(Message::Close(_))) | None => break Some(Ok(())),
                // Pings are answered by the socket; what is not text is no event.
                Some(Ok(_)) => {}
                Some(Err(error)) => break Some(Err(socket_problem(&error))),
            }
            if bytes >= PIECE {
                break None;
            }
            next = match socket.next().now_or_never() {
                Some(next) => next,
                None => break None,
            };
        };
        if !texts.is_empty() {
            let pass = move |call: &FeedCall| call.messages(texts.iter().map(|text| text.as_str()));
            tell(runtime, call, pass).await;
        }
        if let Some(end) = end {
            return end;
        }
    }
}

fn socket_problem(error: &SocketError) -> Problem {
    match error {
        SocketError::Capacity(error) => Problem::Final(error.to_string()),
        error => Problem::Passing(FailureKind::Network, error.to_string()),
    }
}
