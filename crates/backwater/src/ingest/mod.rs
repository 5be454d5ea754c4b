//! Reading responses into transactions: one reader a format.
//!
//! A reader knows its format, the schema's rules and the transaction that it writes through. It
//! must not know queries or storage, and it does no I/O: the caller has the bytes.

mod ahead;
mod around;
mod building;
mod counts;
mod graphql;
mod har;
mod json;
mod jsonapi;
mod nested;
mod patch;
mod place;
mod records;
mod repeats;
mod request;
pub(crate) mod resource;
mod unplaced;
mod values;

use std::cell::RefCell;
use std::collections::BTreeSet;

use crate::change::{Ingested, Transaction};
use crate::error::{Error, ErrorKind, Result};

use crate::schema::{Rule, Schema};
use around::RequestContext;
#[cfg(feature = "infer")]
pub(crate) use building::TYPE_NAME;
#[cfg(feature = "infer")]
pub(crate) use graphql::path_of;
pub use har::{Exchange, Fate, Recording};
#[cfg(feature = "infer")]
pub(crate) use json::{Fault, JsonReader, Next, Number};
use nested::Reading;
pub use request::Request;

/// Hears how many bytes are read.
type Progress<'p> = Option<&'p dyn Fn(usize)>;

impl Transaction {
    /// Reads a response by a rule of the schema. It merges field by field: a field that is there
    /// overwrites, an explicit null sets null, a field that is not there stays as it was.
    ///
    /// The rule is named, or found by the request's method and URL: see [`Request`]. A response is
    /// taken whole or not at all, except for records that the rule says to skip; after an error the
    /// transaction is as it was before the call.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such rule; [`ErrorKind::Parameter`] if a variable
    /// of the request is missing or does not fit; [`ErrorKind::Response`] if the response is not
    /// JSON in UTF-8 or does not fit, with the JSON Pointer (RFC 6901) of what does not;
    /// [`ErrorKind::Row`] if a row that the response deletes cannot be deleted.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.sailing = { id = "id", fields = { id = "int", departs_at = "timestamp" } }
    /// #     response.departures = { records = "/sailings", table = "sailing" }
    /// # "#)?);
    /// let error = cache.commit("departures loaded", |tx| {
    ///     tx.ingest("departures", r#"{ "sailings": [{ "id": 311, "departs_at": "soon" }] }"#)
    /// }).unwrap_err();
    /// assert!(error.to_string().starts_with("/sailings/0/departs_at: found string \"soon\", expected a time"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn ingest(
        &mut self,
        request: impl Into<Request>,
        response: impl AsRef<[u8]>,
    ) -> Result<Ingested> {
        self.ingest_reporting(request.into(), response.as_ref(), (None, None))
    }

    /// As [`Self::ingest`], and reports now and then how many bytes of the response are read, for a
    /// progress display. If records are skipped, it begins again at 0.
    ///
    /// # Errors
    /// As [`Self::ingest`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.sailing = { id = "id", fields = { id = "int" } }
    /// #     response.departures = { table = "sailing" }
    /// # "#)?);
    /// let response = format!("[{}{{}}]", r#"{ "id": 311 }, "#.repeat(10_000)).replace("{}", r#"{ "id": 312 }"#);
    /// let mut read = Vec::new();
    /// cache.commit("departures loaded", |tx| {
    ///     tx.ingest_with_progress("departures", &response, |bytes| read.push(bytes))
    /// })?;
    /// assert!(read.len() > 1 && read.is_sorted() && *read.last().unwrap() <= response.len());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn ingest_with_progress(
        &mut self,
        request: impl Into<Request>,
        response: impl AsRef<[u8]>,
        progress: impl FnMut(usize),
    ) -> Result<Ingested> {
        let progress = RefCell::new(progress);
        let report = |read| progress.borrow_mut()(read);
        self.ingest_reporting(request.into(), response.as_ref(), (Some(&report), None))
    }

    /// Reads events of a feed, which are read by one rule, one behind the other: all of them or none.
    /// `ends` says where each of them ends in the text. They are news, whatever is known; but one that is
    /// older than what is known of a row that was deleted does not bring it back.
    ///
    /// # Errors
    /// As [`Self::ingest`].
    #[cfg(feature = "remote")]
    pub(crate) fn ingest_events(
        &mut self,
        request: Request,
        text: &str,
        ends: &[usize],
    ) -> Result<Ingested> {
        self.ingest_reporting(request, text.as_bytes(), (None, Some(ends)))
    }

    fn ingest_reporting(
        &mut self,
        request: Request,
        bytes: &[u8],
        (progress, ends): (Progress<'_>, Option<&[usize]>),
    ) -> Result<Ingested> {
        let schema = self.schema();
        let (rule, variables) = request.resolve(&schema)?;
        // Lists, complete answers and deletions look at rows that the response does not have.
        let only_its_rows = rule.list.is_none() && rule.complete.is_none() && !rule.deletes;
        self.need_for_rows(only_its_rows, |schema| schema.written_by(rule))?;
        // What this refers to is no row, and may stay if the response fails.
        let context = RequestContext::new(self, &schema, rule, &variables, request.place())?;
        self.save(bytes.len(), context.refers());
        let (received, gone) = (self.received.len(), self.gone.len());
        let newness = (request.began, ends);
        let read = self.read(&schema, rule, newness, context, bytes, progress);
        let read = read.and_then(|read| match request.is_strict {
            true => read.require_all_placed().map(|()| read),
            false => Ok(read),
        });
        let read = match read {
            Ok(mut received) => {
                if request.is_unstored {
                    self.keep_back();
                }
                received.is_news = self.has_written;
                self.ingested.push(received.clone());
                Ok(received)
            }
            Err(error) => {
                self.roll_back();
                self.received.truncate(received);
                self.gone.truncate(gone);
                Err(in_force(error, &rule.name))
            }
        };
        self.release();
        read
    }

    /// Takes a part out of its list.
    #[cfg(feature = "remote")]
    pub(crate) fn drop_part(&mut self, request: &Request) -> Result<()> {
        let schema = self.schema();
        let (rule, variables) = request.resolve(&schema)?;
        self.need(|schema| schema.written_by(rule))?;
        let context = RequestContext::new(self, &schema, rule, &variables, request.place())?;
        context.drop_part(self, rule);
        Ok(())
    }

    fn read(
        &mut self,
        schema: &Schema,
        rule: &Rule,
        (began, ends): (Option<u64>, Option<&[usize]>),
        context: RequestContext<'_>,
        bytes: &[u8],
        progress: Progress<'_>,
    ) -> Result<Ingested> {
        if rule.deletes {
            return context.delete(self, rule, bytes.len());
        }
        if bytes.len() > schema.limits.bytes {
            let most = schema.limits.bytes;
            let message = format!("it has {} bytes, at most {most} are allowed", bytes.len());
            return Err(Error::new(ErrorKind::Response, message).at("the response"));
        }
        let text = utf8(bytes)?;
        // Most often nothing has happened meanwhile, and then nothing has to be compared.
        let later = began.map(|commit| self.history.since(commit));
        let later = later.filter(|later| !later.is_nothing());
        let mut skip = BTreeSet::new();
        let mut skipped = Vec::new();
        let mut outcome = loop {
            let reading = Reading {
                schema,
                rule,
                given: &context.given,
                skip: &skip,
                later: later.as_ref(),
                ends,
                progress,
            };
            let outcome = nested::read(self, &reading, text)?;
            if outcome.misfits.is_empty() {
                break outcome;
            }
            // Once more without them, so that nothing of them is left.
            self.roll_back();
            skip.extend(outcome.misfits.keys());
            skipped.extend(outcome.misfits.into_values());
        };
        skipped.append(&mut outcome.errors);
        let unplaced = std::mem::take(&mut outcome.unplaced);
        let records = outcome.records.len();
        if !context.is_unstored {
            for counts in outcome.tally.iter() {
                if self.has_unstored(counts.table) {
                    self.let_be_stored(counts.table, counts.seen.slots());
                }
            }
        }
        context.finish(self, outcome, later.as_ref(), rule).map(|(tables, kept)| Ingested {
            rule: rule.name.clone(),
            bytes: bytes.len(),
            records,
            tables,
            skipped,
            kept,
            unplaced,
            is_news: false,
        })
    }
}

fn in_force(error: Error, rule: &str) -> Error {
    match error.kind() {
        ErrorKind::Response => error.help(format!("read by rule \"{rule}\"")),
        _ => error,
    }
}

/// JSON text is UTF-8; a byte order mark in front of it may be ignored (RFC 8259, section 8.1).
pub(crate) fn utf8(bytes: &[u8]) -> Result<&str> {
    let text = std::str::from_utf8(bytes).map_err(|error| {
        let at = error.valid_up_to();
        Error::new(ErrorKind::Response, format!("byte {at} is not UTF-8, which JSON has to be"))
            .caused_by(error)
    })?;
    Ok(text.strip_prefix('\u{feff}').unwrap_or(text))
}
