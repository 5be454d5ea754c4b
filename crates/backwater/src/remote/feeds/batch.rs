//! Events that have come and are not committed, and what each does.

use std::borrow::Cow;

use super::decoder::RawEvent;
use crate::change::Transaction;
use crate::error::{Error, ErrorKind, Result};
use crate::ingest::Request;
use crate::remote::key::AnswerKey;
use crate::remote::url::{member, raw_member};
use crate::schema::{
    EventRule, FeedFormat, FeedRule, Format, Pointer, Rule, Schema, Template, write_part,
};
use crate::table::Cell;
use crate::value::{Json, RowId};

/// Events in their order.
#[derive(Default)]
pub(super) struct Batch {
    /// Their data, one behind the other.
    text: String,
    /// Of each which kind it is, and where its data ends.
    events: Vec<(u32, usize)>,
    /// What the first one that has a label says of itself.
    label: Option<Box<str>>,
    /// Behind the last one of them.
    pub(super) position: Option<String>,
    /// Events of kinds that mean nothing here.
    skipped: u64,
    /// Events that could not be read, and why the last one.
    unreadable: u64,
    why: Option<String>,
    /// Whether events were missed.
    pub(super) is_gap: bool,
}

impl Batch {
    pub(super) fn is_empty(&self) -> bool {
        self.events.is_empty() && self.skipped == 0 && self.unreadable == 0 && !self.is_gap
    }

    /// What has happened, for people.
    pub(super) fn label(&self, key: &AnswerKey) -> String {
        match (&self.label, self.events.len()) {
            (Some(label), 1) => label.to_string(),
            (Some(label), events) => format!("{label}, in {events} events"),
            (None, 1) => format!("feed {}: 1 event", key.words()),
            (None, events) => format!("feed {}: {events} events", key.words()),
        }
    }

    /// How many bytes its events have.
    pub(super) fn len(&self) -> usize {
        self.text.len()
    }

    /// How many events were read, were skipped, and did not fit.
    pub(super) fn counts(&self) -> (u64, u64, u64) {
        (self.events.len() as u64, self.skipped, self.unreadable)
    }

    /// An empty one that has its memory, unless that is much.
    pub(super) fn emptied(mut self) -> Self {
        if self.text.capacity() > 1 << 16 {
            return Self::default();
        }
        self.text.clear();
        self.events.clear();
        Self { text: self.text, events: self.events, ..Self::default() }
    }

    /// Why events could not be read.
    pub(super) fn why(&self) -> Option<&str> {
        self.why.as_deref()
    }

    /// Makes room for events of so many bytes.
    pub(super) fn expect(&mut self, bytes: usize) {
        self.text.reserve(bytes);
    }

    /// Adds an event as it comes.
    pub(super) fn add(&mut self, rule: &FeedRule, event: &RawEvent<'_>) {
        let kind = match &rule.kind {
            None => Some(Cow::Borrowed(event.name)),
            Some(pointer) => {
                member(event.data.as_bytes(), pointer.parts()).map(|kind| Cow::Owned(kind.into()))
            }
        };
        match &rule.position {
            // An empty one says that there is none.
            None if rule.format == FeedFormat::Sse => {
                event.id.clone_into(self.position.get_or_insert_default());
            }
            None => {}
            Some(pointer) => {
                let position = member(event.data.as_bytes(), pointer.parts());
                self.position = position.map(Into::into).or(self.position.take());
            }
        }
        let Some(kind) = kind else {
            match serde_json::from_str::<serde::de::IgnoredAny>(event.data) {
                Ok(_) => self.skipped += 1,
                Err(error) => self.note_unreadable(format!("this is not JSON: {error}")),
            }
            return;
        };
        let Some(number) = rule.event(&kind) else {
            self.skipped += 1;
            return;
        };
        if let (Some(pointer), None) = (&rule.label, &self.label) {
            self.label = member(event.data.as_bytes(), pointer.parts());
        }
        self.is_gap |= rule.events[number as usize].1 == EventRule::Gap;
        self.text.push_str(event.data);
        self.events.push((number, self.text.len()));
    }

    fn note_unreadable(&mut self, why: String) {
        self.unreadable += 1;
        self.why = Some(why);
        // What it would have changed is not known.
        self.is_gap = true;
    }

    /// Writes what the events say. One that does not fit is left out.
    pub(super) fn write(&mut self, tx: &mut Transaction, rule: &FeedRule, key: &AnswerKey) {
        let schema = tx.schema();
        let (text, events) = (std::mem::take(&mut self.text), std::mem::take(&mut self.events));
        let (mut begin, mut ends) = (0, Vec::new());
        for group in events.chunk_by(|(one, _), (other, _)| one == other) {
            let (kind, event) = &rule.events[group[0].0 as usize];
            ends.clear();
            ends.extend(group.iter().map(|(_, end)| end - begin));
            let all = begin + ends.last().copied().unwrap_or(0);
            let of_group = &text[begin..all];
            let is_written =
                group.len() > 1 && write_together(tx, &schema, (event, key), of_group, &ends);
            for (_, end) in group.iter().filter(|_| !is_written) {
                if let Err(error) = write(tx, &schema, (event, key), &text[begin..*end]) {
                    self.note_unreadable(format!("event {kind}: {error}"));
                }
                begin = *end;
            }
            begin = all;
        }
        (self.text, self.events) = (text, events);
    }
}

/// Writes events of one kind as one text, which is faster; returns whether that was possible: not if
/// one of them does not fit, or each replaces something else.
fn write_together(
    tx: &mut Transaction,
    schema: &Schema,
    (event, key): (&EventRule, &AnswerKey),
    text: &str,
    ends: &[usize],
) -> bool {
    let EventRule::Response { rule: name, variables } = event else { return false };
    let Ok(rule) = schema.rule(name) else { return false };
    let is_plain = rule.format == Format::Json && rule.list.is_none() && rule.complete.is_none();
    if !is_plain || rule.deletes || !variables.is_empty() {
        return false;
    }
    tx.ingest_events(request_of(rule, key), text, ends).is_ok()
}

/// What a feed is of, its events are of.
fn request_of(rule: &Rule, key: &AnswerKey) -> Request {
    let mut request = Request::rule(&*rule.name);
    if !key.variables().is_empty() {
        let of_url = rule.url.iter().flat_map(Template::variables);
        let known: Vec<&str> = of_url.chain(rule.variables()).collect();
        for (name, value) in key.variables() {
            if known.contains(&name.as_str()) {
                request = request.var(name.as_str(), value.as_str());
            }
        }
    }
    request
}

fn write(
    tx: &mut Transaction,
    schema: &Schema,
    (event, key): (&EventRule, &AnswerKey),
    data: &str,
) -> Result<()> {
    match event {
        EventRule::Gap => Ok(()),
        EventRule::Response { rule, variables } => {
            let mut request = request_of(schema.rule(rule)?, key);
            for (name, pointer) in variables {
                let value = member(data.as_bytes(), pointer.parts());
                let value = value.ok_or_else(|| lacks(pointer, "a text or a number"))?;
                request = request.var(&**name, value);
            }
            tx.ingest_events(request, data, &[data.len()]).map(drop)
        }
        EventRule::Delete { table, id, version } => {
            let id = id_in(schema, table, id, data)?;
            if let Some(pointer) = version
                && is_newer(tx, (table, &id), member(data.as_bytes(), pointer.parts()))?
            {
                return Ok(());
            }
            tx.all_or_nothing(|tx| tx.delete(table, id).map(drop))
        }
        EventRule::Patch { table, id, changes } => {
            let id = id_in(schema, table, id, data)?;
            // What is not here is not made whole by a change.
            if tx.get(table, id.clone())?.is_none() {
                return Ok(());
            }
            let patch = raw_member(data.as_bytes(), changes.parts());
            // Null would delete the row, for which there is another kind of event.
            let patch = patch.filter(|patch| patch.get().starts_with(['{', '[']));
            let patch =
                patch.ok_or_else(|| lacks(changes, "an object or an array of operations"))?;
            patch_row(tx, (table, &id), patch.get())
        }
    }
}

/// Applies a JSON Merge Patch (RFC 7396) to a row, or a JSON Patch (RFC 6902), which is an array.
fn patch_row(tx: &mut Transaction, (table, id): (&str, &RowId), patch: &str) -> Result<()> {
    if !patch.starts_with('[') {
        let key = serde_json::Value::from(id.to_string()).to_string();
        let table = serde_json::Value::from(table).to_string();
        return tx.merge_patch(format!("{{{table}:{{{key}:{patch}}}}}"));
    }
    let wrong = |error| {
        Error::new(ErrorKind::Response, "this is no JSON Patch (RFC 6902)").caused_by(error)
    };
    let mut operations: Vec<serde_json::Map<String, serde_json::Value>> =
        serde_json::from_str(patch).map_err(wrong)?;
    let mut row = String::new();
    for part in [table, &id.to_string()] {
        let _ = write_part(&mut row, part);
    }
    for operation in &mut operations {
        for name in ["path", "from"] {
            if let Some(serde_json::Value::String(pointer)) = operation.get_mut(name) {
                pointer.insert_str(0, &row);
            }
        }
    }
    tx.json_patch(serde_json::to_string(&operations).map_err(wrong)?)
}

/// The id of a row that a message has.
fn id_in(schema: &Schema, table: &str, pointer: &Pointer, data: &str) -> Result<RowId> {
    let number = schema.table_no(table)?;
    let found = raw_member(data.as_bytes(), pointer.parts());
    let id = found.and_then(|raw| RowId::from_json(&Json::parse(raw.get()).ok()?).ok());
    let id = id.and_then(|id| schema.fitted(number, id));
    id.ok_or_else(|| lacks(pointer, &schema.id_form(number)))
}

/// Whether a row has a higher version than a message says.
fn is_newer(
    tx: &Transaction,
    (table, id): (&str, &RowId),
    version: Option<Box<str>>,
) -> Result<bool> {
    let Some(version) = version else { return Ok(false) };
    let number = tx.state.schema.table_no(table)?;
    let Some(field) = tx.state.schema.table(number).version else { return Ok(false) };
    let Some(slot) = tx.find(number, id)? else { return Ok(false) };
    Ok(match tx.version_of(number, slot).table(number).cell(slot, field) {
        Cell::Int(known) => version.parse::<i64>().is_ok_and(|version| version < known),
        Cell::Text(known) => *version < *known,
        Cell::Timestamp(known) => {
            version.parse::<crate::value::Timestamp>().is_ok_and(|version| version < known)
        }
        _ => false,
    })
}

fn lacks(pointer: &Pointer, expected: &str) -> Error {
    Error::new(ErrorKind::Response, format!("expected {expected}")).at(pointer.to_string())
}
