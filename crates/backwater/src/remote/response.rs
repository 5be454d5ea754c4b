//! What a response means: rows, nothing new, or a failure.

use std::time::Duration;

use http::header::{
    CONTENT_TYPE, ETAG, HeaderMap, IF_MODIFIED_SINCE, IF_NONE_MATCH, LAST_MODIFIED, RETRY_AFTER,
};
use http::{Response, StatusCode};

use super::answer::{AnswerRow, Failure, FailureKind, Here, read, stored};
use super::engine::{Arrival, CallOutcome, Engine, Later};
use super::freshness::{Validators, delta_seconds, seconds_of};
use super::inner::{RemoteInner, SentRequest};
use super::key::AnswerKey;
use super::url;
use crate::change::Transaction;
use crate::error::Result;
use crate::ingest::Request;
use crate::schema::{LaterPages, NextPage, Rule};
use crate::value::{Json, Timestamp};

impl RemoteInner {
    /// What a response means. Rows and what is known of their answer are one commit. `None` if the
    /// answer was forgotten.
    pub(super) fn take(
        &self,
        sent: &SentRequest,
        key: &AnswerKey,
        known: Option<&Json>,
        response: &Response<Vec<u8>>,
    ) -> Option<CallOutcome> {
        let (status, headers, now) = (response.status(), response.headers(), self.clock.now());
        // The time of day may have been set meanwhile.
        let took = self.clock.ticks().saturating_sub(sent.sent);
        let took = i64::try_from(took.as_micros()).unwrap_or(i64::MAX);
        let requested = Timestamp::nearest(now.as_micros().saturating_sub(took));
        let schema = self.schema();
        let Ok((rule, _)) = schema.askable(key.rule()) else {
            let message = format!("rule \"{}\" was dropped meanwhile", key.rule());
            return Some(CallOutcome::Failed(Failure::new(FailureKind::Unreadable, message)));
        };
        let by_rule = rule.asking.max_age.map(u64::from);
        let (old_next, page) = self.engine().page_of(key);
        let came = self.engine().came(key);
        let arrival = |validators: Validators| {
            let freshness = validators.freshness(by_rule);
            let here = Here::of(now, &freshness);
            Arrival {
                here,
                freshness,
                validators: stored(&validators),
                next: None,
                page,
                commit: came,
                after: self.cache().now().commit,
                is_validated: false,
                is_doubtful: false,
                later: None,
            }
        };
        let is_conditional = [IF_NONE_MATCH, IF_MODIFIED_SINCE];
        let is_conditional = is_conditional.iter().any(|name| sent.fields.contains_key(name));
        if status == StatusCode::NOT_MODIFIED && is_conditional {
            let known = known.and_then(read);
            let freshened = known.and_then(|known| known.freshened(headers, requested, now));
            return Some(freshened.map_or(CallOutcome::OtherRepresentation, |validators| {
                let mut arrival = arrival(validators);
                (arrival.next, arrival.is_validated) = (old_next, true);
                // The rows that are here are not stored, whatever is said by now: they would be
                // missing where the answer is.
                arrival.freshness.no_store |= self.engine().is_unstored(key);
                CallOutcome::Came(arrival)
            }));
        }
        if !status.is_success() || status == StatusCode::PARTIAL_CONTENT {
            return Some(CallOutcome::Failed(refused(response, now)));
        }
        let unreadable = |message: String| {
            let failure = Failure::new(FailureKind::Unreadable, message);
            CallOutcome::Failed(Failure { status: Some(status.as_u16()), ..failure })
        };
        let most = self.engine().limits.bytes;
        // A transport may have read no further.
        if response.body().len() > most {
            let message = format!("the response has more than {most} bytes, which are allowed");
            return Some(unreadable(message));
        }
        let mut validators = Validators::of(&sent.fields, headers, requested, now);
        let mut arrival = arrival(validators.clone());
        let request = Self::request_of(key, page).began_at(sent.commit);
        let request = match arrival.freshness.no_store {
            true => request.unstored(),
            false => request,
        };
        let label = format!("{} loaded: GET {}", key.rule(), self.shown_url(&sent.url, key, rule));
        let later = self.later_pages(key, rule);
        let place = self.place(key);
        let taken = self.cache().try_commit(label, |tx| {
            if !Self::is_row_of(Some(sent.call), &place, tx).map_err(Some)? {
                return Err(None);
            }
            let ingested = tx.ingest(request, response.body()).map_err(Some)?;
            let written = || schema.written_by(rule);
            let is_overtaken = || self.engine().is_overtaken(sent.commit, written);
            if ingested.kept > 0 || !tx.remembers_since(sent.commit) || is_overtaken() {
                // It may have been computed before what is known by now: it is asked for again, and
                // not whether it has changed.
                validators.fields.retain(|(name, _)| !matches!(*name, ETAG | LAST_MODIFIED));
                arrival.validators = stored(&validators);
                arrival.here = arrival.here.stale_at(now);
                arrival.is_doubtful = true;
            }
            arrival.next = next_page(rule, key, response, ingested.records);
            let next = arrival.next.as_deref();
            let next = next.and_then(|next| self.next_key(key, rule, next).ok());
            arrival.later = self.end_pages(tx, rule, page, (next, &later)).map_err(Some)?;
            let known = Engine::would_be(&arrival);
            AnswerRow::put(tx, &place, &known).map_err(Some)?;
            self.name_by_reference(tx).map_err(Some)
        });
        match taken {
            Ok(taken) => {
                // What was deleted since then is not in it, though it may be on the server.
                arrival.commit = if arrival.is_doubtful { sent.commit } else { taken.number() };
                self.follow_renamed(&taken.value);
                Some(CallOutcome::Came(arrival))
            }
            Err(None) => None,
            Err(Some(error)) => {
                let kind = headers.get(CONTENT_TYPE).and_then(|kind| kind.to_str().ok());
                let other = kind.filter(|kind| !kind.to_ascii_lowercase().contains("json"));
                Some(unreadable(match other {
                    Some(kind) => format!("the response is {kind}, expected JSON: {error}"),
                    None => error.to_string(),
                }))
            }
        }
    }

    /// What becomes of the pages that were behind one that has come, if something follows it by now:
    /// the one that is to be asked for again.
    fn end_pages(
        &self,
        tx: &mut Transaction,
        rule: &Rule,
        page: u32,
        (next, later): (Option<AnswerKey>, &[AnswerKey]),
    ) -> Result<Option<Later>> {
        let forget = |tx: &mut Transaction, key: &AnswerKey| {
            tx.delete(AnswerRow::TABLE_NAME, self.place(key).id()).map(drop)
        };
        match (next, rule.asking.later_pages, later.split_first()) {
            (None, ..) | (_, LaterPages::Drop, _) => {
                for (number, key) in (page + 1..).zip(later) {
                    tx.drop_part(&Self::request_of(key, number))?;
                    forget(tx, key)?;
                }
                Ok(None)
            }
            (Some(next), LaterPages::Reload, Some((old, behind))) => {
                if *old != next {
                    // One that is numbered has the place that the new one takes.
                    if !rule.asking.next.as_ref().is_some_and(NextPage::numbers_parts) {
                        tx.drop_part(&Self::request_of(old, page + 1))?;
                    }
                    forget(tx, old)?;
                }
                Ok(Some(Later { key: next, page: page + 1, behind: behind.into() }))
            }
            _ => Ok(None),
        }
    }

    /// The request that a page answers.
    fn request_of(key: &AnswerKey, page: u32) -> Request {
        let mut request = Request::rule(key.rule()).part(page.into());
        for (name, value) in key.variables() {
            request = request.var(name.as_str(), value.as_str());
        }
        request
    }

    /// The URL of a request, relative to the base, in which secret values are covered.
    fn shown_url(&self, url: &str, key: &AnswerKey, rule: &Rule) -> String {
        let covered =
            rule.url.as_ref().filter(|_| !rule.asking.secret.is_empty()).map(|template| {
                let shown = AnswerKey::of_shown(key.rule(), &key.shown());
                let url =
                    shown.and_then(|key| url::expand(&self.base, template, key.variables()).ok());
                url.unwrap_or_default()
            });
        let url = covered.as_deref().unwrap_or(url);
        url.strip_prefix(self.base.trim_end_matches('/')).unwrap_or(url).to_owned()
    }
}

/// What follows a page, as its answer's row says it: a URL, or a value of the part's variable.
fn next_page(
    rule: &Rule,
    key: &AnswerKey,
    response: &Response<Vec<u8>>,
    records: usize,
) -> Option<Box<str>> {
    let counted = |first: u64, by: u64| {
        let here = rule.part().and_then(|part| key.variable(part)).and_then(|n| n.parse().ok());
        let next = here.unwrap_or(first).saturating_add(by);
        (records > 0).then(|| next.to_string().into())
    };
    match &rule.asking.next {
        Some(NextPage::Page) => counted(1, 1),
        Some(NextPage::Offset) => counted(0, records as u64),
        Some(NextPage::Member(pointer)) => url::member(response.body(), pointer.parts()),
        Some(NextPage::Link) | None => url::next_link(response.headers()),
    }
}

/// An answer that has no rows.
pub(super) fn refused(response: &Response<Vec<u8>>, now: Timestamp) -> Failure {
    let status = response.status();
    let message = problem(response)
        .unwrap_or_else(|| status.canonical_reason().unwrap_or("the server refused").to_owned());
    let retry_after = retry_after(response.headers(), now);
    let again_at = retry_after.map(|after| super::engine::later(now, after));
    let failure = Failure::new(FailureKind::Status, message);
    Failure { status: Some(status.as_u16()), retry_after, again_at, ..failure }
}

/// How long the server asks to wait (RFC 9110, section 10.2.3): a number of seconds, or a date.
fn retry_after(headers: &HeaderMap, now: Timestamp) -> Option<Duration> {
    let value = headers.get(RETRY_AFTER)?.to_str().ok()?.trim();
    if let Some(seconds) = delta_seconds(value) {
        return Some(Duration::from_secs(seconds));
    }
    let date = headers.get(http::header::DATE).and_then(|date| seconds_of(date.to_str().ok()?));
    let from = date.unwrap_or_else(|| now.as_micros().div_euclid(1_000_000));
    let seconds = seconds_of(value)?.saturating_sub(from);
    Some(Duration::from_secs(seconds.max(0).unsigned_abs()))
}

/// The title and detail of a server's problem details (RFC 9457).
fn problem(response: &Response<Vec<u8>>) -> Option<String> {
    let kind = response.headers().get(CONTENT_TYPE)?.to_str().ok()?;
    if !kind.to_ascii_lowercase().starts_with("application/problem+json") {
        return None;
    }
    let details: serde_json::Value = serde_json::from_slice(response.body()).ok()?;
    let member = |name: &str| details.get(name).and_then(serde_json::Value::as_str);
    let parts: Vec<&str> = [member("title"), member("detail")].into_iter().flatten().collect();
    (!parts.is_empty()).then(|| parts.join(": "))
}
