//! A recorded session as a server: an offline twin of an API.

use std::collections::HashMap;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::{Mutex, PoisonError};

use http::header::{
    CONNECTION, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_TYPE, ETAG, HeaderName, HeaderValue,
    IF_NONE_MATCH, SET_COOKIE, TRANSFER_ENCODING,
};
use http::{Request, Response, StatusCode};
use siphasher::sip::SipHasher13;

use crate::ingest::Recording;

/// Fields of a recorded response that are about its way, or about whom it was for.
const LEFT_OUT: [HeaderName; 5] =
    [CONNECTION, CONTENT_ENCODING, CONTENT_LENGTH, SET_COOKIE, TRANSFER_ENCODING];

/// Answers requests as they were answered in a recording: by method, path and query, whatever the
/// host and the order of the query's parameters. A request that was recorded several times gets
/// one response after the other, and then the last one again.
///
/// It honours `If-None-Match`: a recorded response without an `ETag` gets one.
///
/// ```
/// use backwater::recording::Recording;
/// use backwater::remote::Playback;
///
/// let playback = Playback::new(Recording::parse(r#"{ "log": { "version": "1.2", "entries": [{
///     "request": { "method": "GET", "url": "https://ferries.example/ports?b=2&a=1" },
///     "response": { "status": 200, "content": { "mimeType": "application/json", "text": "[]" } }
/// }] } }"#)?);
/// let request = |tag: &str| {
///     let request = http::Request::get("http://localhost/ports?a=1&b=2");
///     request.header("if-none-match", tag).body(()).unwrap()
/// };
/// let response = playback.answer(&request("none"));
/// assert_eq!((response.status().as_u16(), response.body().as_slice()), (200, b"[]".as_slice()));
/// let tag = response.headers()["etag"].to_str().unwrap();
/// assert_eq!(playback.answer(&request(tag)).status(), 304);
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct Playback {
    recording: Recording,
    /// The exchanges of each request, and how many of them were played.
    played: Mutex<HashMap<String, (Vec<usize>, usize)>>,
}

impl Playback {
    /// Plays a recording.
    ///
    /// See [`Playback`] for an example.
    pub fn new(recording: Recording) -> Self {
        let mut played: HashMap<String, (Vec<usize>, usize)> = HashMap::new();
        for (index, exchange) in recording.exchanges().enumerate() {
            // What was not answered, and what was answered by what the browser had, has no body.
            if exchange.status() >= 200 && exchange.status() != 304 {
                let of = played.entry(name(exchange.method(), exchange.url())).or_default();
                of.0.push(index);
            }
        }
        Self { recording, played: Mutex::new(played) }
    }

    /// The requests that it answers, by method, path and query.
    ///
    /// ```
    /// # use backwater::{recording::Recording, remote::Playback};
    /// let playback = Playback::new(Recording::parse(r#"{ "log": { "entries": [] } }"#)?);
    /// assert!(playback.requests().is_empty());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn requests(&self) -> Vec<String> {
        let played = self.played.lock().unwrap_or_else(PoisonError::into_inner);
        let mut requests: Vec<String> = played.keys().cloned().collect();
        requests.sort();
        requests
    }

    /// The response to a request; 404 with problem details if the recording has none.
    ///
    /// See [`Playback`] for an example.
    pub fn answer<B>(&self, request: &Request<B>) -> Response<Vec<u8>> {
        let of = name(request.method().as_str(), &request.uri().to_string());
        let mut played = self.played.lock().unwrap_or_else(PoisonError::into_inner);
        let Some((exchanges, count)) = played.get_mut(&of) else {
            let detail = serde_json::json!({
                "title": "Not recorded",
                "detail": format!("{of} is not in the recording"),
            });
            let mut response = Response::new(detail.to_string().into_bytes());
            *response.status_mut() = StatusCode::NOT_FOUND;
            let kind = HeaderValue::from_static("application/problem+json");
            response.headers_mut().insert(CONTENT_TYPE, kind);
            return response;
        };
        let index = exchanges[(*count).min(exchanges.len() - 1)];
        *count += 1;
        drop(played);
        let Some(exchange) = self.recording.exchanges().nth(index) else {
            return Response::new(Vec::new());
        };
        let mut response = Response::new(exchange.body().to_vec());
        *response.status_mut() = StatusCode::from_u16(exchange.status()).unwrap_or(StatusCode::OK);
        let fields = response.headers_mut();
        for (known, value) in exchange.fields() {
            let (Ok(known), Ok(value)) = (known.parse(), HeaderValue::from_str(value)) else {
                continue;
            };
            if !LEFT_OUT.contains(&known) {
                fields.append(known, value);
            }
        }
        if let Ok(kind) = HeaderValue::from_str(exchange.media_type())
            && !exchange.media_type().is_empty()
        {
            fields.entry(CONTENT_TYPE).or_insert(kind);
        }
        if exchange.method() == "GET" && response.status().is_success() {
            let mut hasher = SipHasher13::new();
            exchange.body().hash(&mut hasher);
            let tag = format!("\"{:016x}\"", hasher.finish());
            let fields = response.headers_mut();
            if let Ok(tag) = HeaderValue::from_str(&tag) {
                fields.entry(ETAG).or_insert(tag);
            }
            if request.headers().get(IF_NONE_MATCH).is_some_and(|known| *known == fields[ETAG]) {
                *response.status_mut() = StatusCode::NOT_MODIFIED;
                response.body_mut().clear();
            }
        }
        response
    }
}

/// A request's name: its method, path and query, with the query's parameters in the order of their
/// names.
fn name(method: &str, url: &str) -> String {
    let rest = url
        .split_once("://")
        .map_or(url, |(_, rest)| rest.find(['/', '?']).map_or("/", |start| &rest[start..]));
    let rest = rest.split('#').next().unwrap_or(rest);
    match rest.split_once('?') {
        None => format!("{method} {rest}"),
        Some((path, query)) => {
            let mut parameters: Vec<&str> = query.split('&').collect();
            parameters.sort_unstable();
            format!("{method} {path}?{}", parameters.join("&"))
        }
    }
}

impl fmt::Debug for Playback {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Playback({} exchanges)", self.recording.exchanges().len())
    }
}
