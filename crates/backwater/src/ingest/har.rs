//! Recordings of a browser's session: HAR 1.2, read for the responses in it.

use std::borrow::Cow;
use std::sync::Arc;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::Deserialize;

use super::Request;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{Schema, path_and_query};

/// A recording of a browser's session, as its developer tools save it (HAR 1.2).
///
/// ```
/// # use backwater::{Cache, Schema, recording::{Fate, Recording}};
/// # let cache = Cache::new(Schema::parse("s.toml", r#"
/// #     table.port = { id = "code", fields = { code = "text" } }
/// #     response.ports = { url = "/ports", table = "port" }
/// # "#)?);
/// let recording = Recording::parse(r#"{ "log": { "version": "1.2", "entries": [{
///     "request": { "method": "GET", "url": "https://ferries.example/ports" },
///     "response": { "status": 200, "content": { "mimeType": "application/json", "text": "[{\"code\": \"SAL\"}]" } }
/// }] } }"#)?;
/// for exchange in recording.exchanges() {
///     if exchange.fate(&cache.schema()) == Fate::Read {
///         cache.commit(exchange.label(), |tx| tx.ingest(exchange.request(), exchange.body()))?;
///     }
/// }
/// assert_eq!(cache.snapshot().count("port")?, 1);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug)]
pub struct Recording {
    exchanges: Vec<Exchange>,
}

/// A request of a recording and its response.
///
/// See [`Recording`] for an example.
#[derive(Debug)]
pub struct Exchange {
    method: String,
    url: String,
    status: u16,
    media_type: String,
    /// The header fields of the response.
    #[cfg(feature = "remote")]
    fields: Vec<(String, String)>,
    body: Arc<Vec<u8>>,
}

/// What is to be done with a recorded response.
///
/// ```
/// # use backwater::{Schema, recording::{Fate, Recording}};
/// let recording = Recording::parse(r#"{ "log": { "entries": [{
///     "request": { "method": "GET", "url": "https://ferries.example/logo.png" },
///     "response": { "status": 200, "content": { "mimeType": "image/png" } }
/// }] } }"#)?;
/// let fate = recording.exchanges().next().unwrap().fate(&Schema::parse("s.toml", "")?);
/// assert_eq!(fate, Fate::NotJson);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Fate {
    /// A rule reads it.
    Read,
    /// It is JSON, but no rule is for its request.
    NoRule,
    /// It is something else than JSON, such as a picture.
    NotJson,
    /// The server did not answer with success.
    Failed,
}

#[derive(Deserialize)]
struct File<'f> {
    #[serde(borrow)]
    log: Log<'f>,
}

#[derive(Deserialize)]
struct Log<'f> {
    #[serde(borrow)]
    entries: Vec<Entry<'f>>,
}

#[derive(Deserialize)]
struct Entry<'f> {
    request: HarRequest,
    #[serde(borrow)]
    response: Answered<'f>,
}

#[derive(Deserialize)]
struct HarRequest {
    method: String,
    url: String,
}

#[derive(Deserialize)]
struct Answered<'f> {
    /// Some tools write 0 or -1 for a request that was not answered.
    status: i64,
    #[cfg(feature = "remote")]
    #[serde(default)]
    headers: Vec<HarField>,
    #[serde(borrow, default)]
    content: Content<'f>,
}

#[cfg(feature = "remote")]
#[derive(Deserialize)]
struct HarField {
    name: String,
    value: String,
}

#[derive(Deserialize, Default)]
#[serde(rename_all = "camelCase", default)]
struct Content<'f> {
    mime_type: String,
    #[serde(borrow)]
    text: Cow<'f, str>,
    encoding: String,
}

impl Recording {
    /// Reads a recording.
    ///
    /// # Errors
    /// [`ErrorKind::Response`] if it is not HAR, with the entry that is damaged.
    ///
    /// See [`Recording`] for an example.
    pub fn parse(bytes: impl AsRef<[u8]>) -> Result<Self> {
        let text = super::utf8(bytes.as_ref())?;
        let file: File<'_> = serde_json::from_str(text).map_err(|error| {
            let message = format!("this is not a HAR recording: {error}");
            Error::new(ErrorKind::Response, message).caused_by(error)
        })?;
        let exchanges = file.log.entries.into_iter().map(|entry| {
            let content = entry.response.content;
            let body = if content.encoding.eq_ignore_ascii_case("base64") {
                // One damaged entry does not affect the others: it is taken as it is, and reading
                // it reports what is wrong with it.
                STANDARD.decode(&*content.text).unwrap_or_else(|_| content.text.into_owned().into())
            } else {
                content.text.into_owned().into_bytes()
            };
            Exchange {
                method: entry.request.method,
                url: entry.request.url,
                status: u16::try_from(entry.response.status).unwrap_or(0),
                media_type: content.mime_type,
                #[cfg(feature = "remote")]
                fields: {
                    let fields = entry.response.headers.into_iter();
                    fields.map(|field| (field.name, field.value)).collect()
                },
                body: Arc::new(body),
            }
        });
        Ok(Self { exchanges: exchanges.collect() })
    }

    /// Whether a file's beginning looks like that of a recording.
    ///
    /// ```
    /// use backwater::recording::Recording;
    ///
    /// assert!(Recording::looks_like_one(br#"{ "log": { "version": "1.2" } }"#));
    /// assert!(!Recording::looks_like_one(b"[]"));
    /// ```
    pub fn looks_like_one(bytes: &[u8]) -> bool {
        let text = bytes.strip_prefix("\u{feff}".as_bytes()).unwrap_or(bytes);
        let rest = text.trim_ascii_start().strip_prefix(b"{").map(<[u8]>::trim_ascii_start);
        let rest =
            rest.and_then(|rest| rest.strip_prefix(b"\"log\"")).map(<[u8]>::trim_ascii_start);
        rest.is_some_and(|rest| rest.starts_with(b":"))
    }

    /// The requests and their responses, in the order of the file.
    ///
    /// See [`Recording`] for an example.
    pub fn exchanges(&self) -> impl ExactSizeIterator<Item = &Exchange> {
        self.exchanges.iter()
    }
}

impl Exchange {
    /// The request's method and URL, without scheme and host: `GET /departures?port=SAL`.
    ///
    /// See [`Recording`] for an example.
    pub fn label(&self) -> String {
        [&*self.method, path_and_query(&self.url)].join(" ")
    }

    /// The request, for [`Transaction::ingest`](crate::Transaction::ingest).
    ///
    /// See [`Recording`] for an example.
    pub fn request(&self) -> Request {
        Request::new(&self.method, &self.url)
    }

    #[cfg(feature = "remote")]
    pub(crate) fn method(&self) -> &str {
        &self.method
    }

    #[cfg(feature = "remote")]
    pub(crate) fn url(&self) -> &str {
        &self.url
    }

    #[cfg(feature = "remote")]
    pub(crate) fn status(&self) -> u16 {
        self.status
    }

    #[cfg(feature = "remote")]
    pub(crate) fn media_type(&self) -> &str {
        &self.media_type
    }

    /// The header fields of the response.
    #[cfg(feature = "remote")]
    pub(crate) fn fields(&self) -> impl Iterator<Item = (&str, &str)> {
        self.fields.iter().map(|(name, value)| (name.as_str(), value.as_str()))
    }

    /// What the server answered.
    ///
    /// See [`Recording`] for an example.
    pub fn body(&self) -> &[u8] {
        &self.body
    }

    /// The same, to be kept without a copy.
    #[cfg(feature = "infer")]
    pub(crate) fn shared_body(&self) -> Arc<Vec<u8>> {
        self.body.clone()
    }

    /// What is to be done with the response.
    ///
    /// See [`Fate`] for an example.
    pub fn fate(&self, schema: &Schema) -> Fate {
        let rule = schema.rule_for(&self.method, &self.url).ok();
        let rule = rule.and_then(|(name, _)| schema.rule(name).ok());
        match rule {
            _ if !self.succeeded() => Fate::Failed,
            Some(rule) if rule.deletes => Fate::Read,
            _ if !self.is_json() => Fate::NotJson,
            Some(_) => Fate::Read,
            None => Fate::NoRule,
        }
    }

    /// Whether the server answered with success, and with JSON or to a DELETE.
    #[cfg(feature = "infer")]
    pub(crate) fn brings_data(&self) -> bool {
        self.succeeded() && (self.method == "DELETE" || self.is_json())
    }

    fn succeeded(&self) -> bool {
        (200..300).contains(&self.status)
    }

    fn is_json(&self) -> bool {
        let essence = self.media_type.split(';').next().unwrap_or_default().trim().as_bytes();
        let ends_in = |end: &&str| {
            let start = essence.len().checked_sub(end.len());
            start.is_some_and(|start| essence[start..].eq_ignore_ascii_case(end.as_bytes()))
        };
        let ends = ["/json", "+json", "/x-ndjson", "/ndjson"];
        !self.body.is_empty() && ends.iter().any(ends_in)
    }
}
