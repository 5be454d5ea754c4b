//! Nested JSON: each object that is a record, or that a link points at, becomes a row.
//!
//! The response is read once, from its bytes into rows: at each place the reader knows from the
//! schema what to expect, and no tree of the response is built. An object that stands in it once
//! more, letter by letter, is recognised by its text and not read again.

use std::borrow::Cow;

use super::json::{Fault, FaultKind, JsonReader, Next, Number};
use super::place::{Step, pointer};
use super::repeats::Repeats;
use crate::change::{Happened, IngestedTable, Staged, Touched, Transaction, checked_text, compare};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldNo, Kind, Rule, Schema, TableNo, line_and_column};
use crate::table::{ONLY, Slot, State};
use crate::value::{IdRef, Json, Timestamp};

/// How deep objects and arrays may nest on the way to a row's fields.
const DEEPEST: usize = 127;
/// Whole numbers up to here have a binary64 of their own.
const EXACT: f64 = 9_007_199_254_740_992.0;

/// Reads a response into a transaction by a rule. `before` is what the transaction held.
pub(super) fn read(
    tx: &mut Transaction,
    before: &State,
    schema: &Schema,
    rule: &Rule,
    text: &str,
) -> Result<Vec<IngestedTable>> {
    let counts = schema.tables.iter().map(|_| Counts::default()).collect();
    let mut reader = Reader {
        json: JsonReader::new(text),
        tx,
        schema,
        steps: Vec::new(),
        depth: 0,
        counts,
        orders: vec![Vec::new(); schema.tables.len()],
        spare: Vec::new(),
        repeats: Repeats::new(text.len(), schema.tables.len()),
    };
    let read = reader.descend(rule.records.parts(), rule.table);
    match read.and_then(|()| Ok(reader.json.end()?)) {
        Ok(()) => Ok(reader.summary(before)),
        Err(failure) => {
            reader.steps.reverse();
            Err(failure.explain(&pointer(&reader.steps, schema), text))
        }
    }
}

/// Why reading stopped.
enum Failure {
    /// The text is not JSON.
    Fault(Fault),
    /// It does not fit.
    Misfit(String),
}

impl From<Fault> for Failure {
    fn from(fault: Fault) -> Self {
        Failure::Fault(fault)
    }
}

type Read<T> = Result<T, Failure>;

fn misfit<T>(found: &str, expected: &str) -> Read<T> {
    Err(Failure::Misfit(format!("found {found}, expected {expected}")))
}

impl Failure {
    /// What does not fit has a pointer, what is not JSON a line as well.
    fn explain(self, pointer: &str, text: &str) -> Error {
        let place = if pointer.is_empty() { "the response" } else { pointer };
        let message = match self {
            Failure::Misfit(message) => message,
            Failure::Fault(Fault { at, kind }) => {
                let position = line_and_column(text, at);
                let position = position.replace(':', " column ");
                match kind {
                    FaultKind::End if text.trim().is_empty() => {
                        "it is empty, expected JSON".to_owned()
                    }
                    FaultKind::End => {
                        format!(
                            "it ends in the middle of a value at line {position}: is it truncated?"
                        )
                    }
                    FaultKind::Depth => {
                        format!("it is nested deeper than {DEEPEST} levels at line {position}")
                    }
                    FaultKind::Syntax(what) => {
                        format!("it is not JSON at line {position}: {what}")
                    }
                }
            }
        };
        Error::new(ErrorKind::Response, message).at(place)
    }
}

/// A row's fields on their way into it.
type StagedRow<'de> = Vec<(FieldNo, Staged<'de>)>;

struct Reader<'a, 'de> {
    json: JsonReader<'de>,
    tx: &'a mut Transaction,
    schema: &'a Schema,
    /// Where a failure was met, from the inside out.
    steps: Vec<Step<'de>>,
    depth: usize,
    counts: Vec<Counts>,
    /// For each table, the names of its last object's members as they were spelled, colon and all:
    /// objects of one kind have them in one order.
    orders: Vec<Vec<(&'de str, Option<FieldNo>)>>,
    /// Lists to be used again.
    spare: Vec<StagedRow<'de>>,
    repeats: Repeats<'de>,
}

/// What was met of one table.
#[derive(Default)]
struct Counts {
    objects: usize,
    rows: usize,
    inserted: usize,
    seen: Touched,
    changed: Touched,
}

impl<'de> Reader<'_, 'de> {
    fn summary(self, before: &State) -> Vec<IngestedTable> {
        let tables = self.schema.table_numbers().zip(self.counts);
        let met = tables.filter(|(_, counts)| counts.objects > 0);
        met.map(|(number, counts)| {
            let compared =
                counts.changed.slots().map(|slot| compare(before, &self.tx.state, number, slot));
            let updated =
                compared.filter(|happened| matches!(happened, Some(Happened::Updated(_))));
            IngestedTable {
                table: self.schema.table(number).name.clone(),
                objects: counts.objects,
                rows: counts.rows,
                inserted: counts.inserted,
                updated: updated.count(),
            }
        })
        .collect()
    }

    /// Takes an opening bracket.
    fn open(&mut self) -> Read<()> {
        self.json.open();
        self.depth += 1;
        if self.depth > DEEPEST { Ok(self.json.fault(FaultKind::Depth)?) } else { Ok(()) }
    }

    /// Goes down to the records, and reads them.
    fn descend(&mut self, way: &[String], table: TableNo) -> Read<()> {
        let Some((name, rest)) = way.split_first() else { return self.records(table) };
        let (found, part) = match self.json.peek()? {
            Next::Object => (self.descend_object(name, rest, table)?, "member"),
            Next::Array => (self.descend_array(name, rest, table)?, "element"),
            _ => {
                let table = &self.schema.table(table).name;
                let expected = format!(
                    "an object or array with {name:?} on the way to the \"{table}\" records"
                );
                return misfit(&self.found()?, &expected);
            }
        };
        self.depth -= 1;
        if found {
            Ok(())
        } else {
            misfit(&format!("no {part} {name:?}"), "it on the way to the records")
        }
    }

    fn descend_object(&mut self, name: &str, rest: &[String], table: TableNo) -> Read<bool> {
        self.open()?;
        let (mut found, mut first) = (false, true);
        while self.json.member(first)? {
            first = false;
            let key = self.json.name()?;
            if key != name {
                self.json.skip()?;
                continue;
            }
            found = true;
            self.descend(rest, table).map_err(|failure| self.at(Step::Name(key), failure))?;
        }
        Ok(found)
    }

    fn descend_array(&mut self, name: &str, rest: &[String], table: TableNo) -> Read<bool> {
        self.open()?;
        let wanted: Option<usize> = name.parse().ok();
        let (mut found, mut index) = (false, 0);
        while self.json.element(index == 0)? {
            if Some(index) == wanted {
                found = true;
                self.descend(rest, table)
                    .map_err(|failure| self.at(Step::Index(index), failure))?;
            } else {
                self.json.skip()?;
            }
            index += 1;
        }
        Ok(found)
    }

    fn records(&mut self, table: TableNo) -> Read<()> {
        match self.json.peek()? {
            Next::Object => self.record(table),
            Next::Array => {
                self.open()?;
                let mut index = 0;
                while self.json.element(index == 0)? {
                    self.element(table).map_err(|failure| self.at(Step::Index(index), failure))?;
                    index += 1;
                }
                self.depth -= 1;
                Ok(())
            }
            _ => {
                let name = &self.schema.table(table).name;
                let expected = format!("\"{name}\" records: an array of objects, or one object");
                misfit(&self.found()?, &expected)
            }
        }
    }

    /// Reads one of an array of records.
    fn element(&mut self, table: TableNo) -> Read<()> {
        if self.json.peek()? == Next::Object {
            return self.record(table);
        }
        let expected = format!("a \"{}\" object", self.schema.table(table).name);
        misfit(&self.found()?, &expected)
    }

    /// Notes on the way up where a failure was met.
    #[cold]
    fn at(&mut self, step: Step<'de>, failure: Failure) -> Failure {
        self.steps.push(step);
        failure
    }

    /// Reads one of the records, whose bracket comes next.
    fn record(&mut self, table: TableNo) -> Read<()> {
        self.repeats.begin_record();
        self.object(table).map(|_| ())
    }

    /// Reads an object that a link points at, whose bracket comes next.
    fn linked(&mut self, table: TableNo) -> Read<Slot> {
        let start = self.json.at();
        if let Some((len, slot, objects)) = self.repeats.find(table, self.json.rest(start)) {
            for table in objects {
                self.counts[table.index()].objects += 1;
            }
            self.json.jump(start + len);
            return Ok(slot);
        }
        let mark = self.repeats.mark();
        let slot = self.object(table)?;
        let text = self.json.since(start).as_bytes();
        self.repeats.remember(table, text, slot, mark);
        Ok(slot)
    }

    /// Reads an object and merges it into its row.
    fn object(&mut self, table: TableNo) -> Read<Slot> {
        let mut staged = self.spare.pop().unwrap_or_default();
        let slot = self.members(table, &mut staged)?;
        self.merge(table, slot, &staged);
        staged.clear();
        self.spare.push(staged);
        Ok(slot)
    }

    /// Reads an object's members; gives the slot of its row.
    fn members(&mut self, table: TableNo, staged: &mut StagedRow<'de>) -> Read<Slot> {
        let schema = self.schema;
        let definition = schema.table(table);
        self.open()?;
        let mut id = None;
        let mut members = 0;
        while self.json.member(members == 0)? {
            let (field, spelled) = self.field(table, members)?;
            members += 1;
            let Some(field) = field else {
                let skipped = self.json.skip();
                skipped.map_err(|fault| self.at(Step::spelled(spelled), fault.into()))?;
                continue;
            };
            let is_id = definition.id == Some(field);
            let value = self
                .value(definition.field(field).kind, is_id)
                .map_err(|failure| self.at(Step::Field(table, field), failure))?;
            if is_id {
                id = Some(value);
            } else {
                staged.push((field, value));
            }
        }
        self.depth -= 1;
        Ok(match (definition.id, &id) {
            (None, _) => ONLY,
            (_, Some(Staged::Int(number))) => self.tx.refer(table, IdRef::Int(*number)),
            (_, Some(Staged::Text(text))) => self.tx.refer(table, IdRef::Text(text)),
            (Some(field), _) => {
                let name = &definition.field(field).name;
                let found = if id.is_some() { "null" } else { "no such member" };
                let expected = format!("the id of a \"{}\" object", definition.name);
                return misfit(&format!("{found} \"{name}\""), &expected);
            }
        })
    }

    /// Takes a member's name: the field that it is, if it is one, by what the member in its place was
    /// in the last object of the table; and how it was spelled.
    fn field(&mut self, table: TableNo, place: usize) -> Read<(Option<FieldNo>, &'de str)> {
        let order = &mut self.orders[table.index()];
        if let Some((spelled, field)) = order.get(place)
            && self.json.take(spelled)
        {
            return Ok((*field, spelled));
        }
        let start = self.json.at();
        let name = self.json.name()?;
        let spelled = self.json.since(start);
        let fields = &self.schema.table(table).fields;
        let field = fields.iter().position(|field| *field.name == *name);
        let field = field.map(|position| FieldNo(position as u32));
        match order.get_mut(place) {
            Some(last) => *last = (spelled, field),
            None => order.push((spelled, field)),
        }
        Ok((field, spelled))
    }

    fn merge(&mut self, table: TableNo, slot: Slot, staged: &[(FieldNo, Staged<'de>)]) {
        let merged = self.tx.merge_row(table, slot, staged);
        let counts = &mut self.counts[table.index()];
        counts.objects += 1;
        counts.rows += usize::from(counts.seen.insert(slot));
        counts.inserted += usize::from(merged.is_new);
        if merged.changed {
            counts.changed.insert(slot);
        }
        self.repeats.merged(table, merged.overwrote);
    }

    /// Reads a field's value, in the field's type.
    fn value(&mut self, kind: Kind, is_id: bool) -> Read<Staged<'de>> {
        let next = self.json.peek()?;
        if kind == Kind::Json && next != Next::Null {
            return Ok(Staged::Json(minified(self.json.skip()?)));
        }
        Ok(match (next, kind) {
            (Next::Null, _) => {
                self.json.word("null")?;
                Staged::Null
            }
            (Next::True, Kind::Bool) => {
                self.json.word("true")?;
                Staged::Bool(true)
            }
            (Next::False, Kind::Bool) => {
                self.json.word("false")?;
                Staged::Bool(false)
            }
            (Next::Text, _) => {
                let text = self.json.text()?;
                return self.text(text, kind, is_id);
            }
            (Next::Number, _) => {
                let number = self.json.number()?;
                return self.number(number, kind, is_id);
            }
            (Next::Object, Kind::Link(to)) => Staged::Link(self.linked(to)?),
            _ => return misfit(&self.found()?, &self.expected(kind)),
        })
    }

    fn text(&mut self, text: Cow<'de, str>, kind: Kind, is_id: bool) -> Read<Staged<'de>> {
        let id_is_text = match kind {
            Kind::Link(to) => self.schema.table(to).has_text_id(),
            Kind::Text => true,
            _ => false,
        };
        if id_is_text && let Err(error) = checked_text(&text) {
            return Err(Failure::Misfit(error.to_string()));
        }
        match kind {
            Kind::Text => Ok(Staged::Text(text)),
            Kind::Timestamp => match text.parse::<Timestamp>() {
                Ok(time) => Ok(Staged::Timestamp(time)),
                Err(_) => misfit(&format!("string {text:?}"), &self.expected(kind)),
            },
            Kind::Link(to) if id_is_text => Ok(Staged::Link(self.tx.refer(to, IdRef::Text(&text)))),
            Kind::Link(_) => self.id_of_digits(&text, kind),
            _ if is_id => self.id_of_digits(&text, kind),
            _ => misfit(&format!("string {text:?}"), &self.expected(kind)),
        }
    }

    /// A text where an id of type int is expected: its digits are the number.
    fn id_of_digits(&mut self, text: &str, kind: Kind) -> Read<Staged<'de>> {
        match (text.parse::<i64>(), kind) {
            (Ok(number), _) if number.to_string() != text => {
                misfit(&format!("string {text:?}"), "an id of type int")
            }
            (Ok(number), Kind::Link(to)) => Ok(Staged::Link(self.tx.refer(to, IdRef::Int(number)))),
            (Ok(number), _) => Ok(Staged::Int(number)),
            (Err(_), _) => misfit(&format!("string {text:?}"), "an id of type int"),
        }
    }

    fn number(&mut self, number: Number, kind: Kind, is_id: bool) -> Read<Staged<'de>> {
        let whole = match number {
            Number::Int(number) => Some(number),
            Number::Float(number) if number.fract() == 0.0 && number.abs() <= EXACT => {
                Some(number as i64)
            }
            _ => None,
        };
        match (kind, number, whole) {
            (Kind::Float, Number::Int(number), _) => Ok(Staged::Float(number as f64)),
            (Kind::Float, Number::Large(number), _) => Ok(Staged::Float(number as f64)),
            (Kind::Float, Number::Float(number), _) => Ok(Staged::Float(number)),
            (Kind::Int, _, Some(number)) => Ok(Staged::Int(number)),
            // A number where a text is the id: its digits are the text.
            (Kind::Text, Number::Int(number), _) if is_id => {
                Ok(Staged::Text(number.to_string().into()))
            }
            (Kind::Link(to), Number::Int(number), _) => {
                let digits = number.to_string();
                let text = self.schema.table(to).has_text_id();
                let id = if text { IdRef::Text(&digits) } else { IdRef::Int(number) };
                Ok(Staged::Link(self.tx.refer(to, id)))
            }
            (Kind::Int | Kind::Link(_), Number::Large(number), _) => {
                misfit(&format!("integer `{number}`"), "a whole number of 64 bits")
            }
            _ => misfit(&told(number), &self.expected(kind)),
        }
    }

    /// What a field of a kind takes.
    fn expected(&self, kind: Kind) -> String {
        match kind {
            Kind::Timestamp => {
                "a time of RFC 3339, such as \"2031-05-04T09:40:00+02:00\"".to_owned()
            }
            Kind::Link(to) => {
                format!("a \"{}\" object, its id, or null", self.schema.table(to).name)
            }
            kind => self.schema.kind_name(kind),
        }
    }

    /// What comes next, for "found …".
    fn found(&mut self) -> Read<String> {
        Ok(match self.json.peek()? {
            Next::Object => "an object".to_owned(),
            Next::Array => "an array".to_owned(),
            Next::Text => format!("string {:?}", self.json.text()?),
            Next::Number => told(self.json.number()?),
            Next::True => "boolean `true`".to_owned(),
            Next::False => "boolean `false`".to_owned(),
            Next::Null => "null".to_owned(),
        })
    }
}

fn told(number: Number) -> String {
    match number {
        Number::Int(number) => format!("integer `{number}`"),
        Number::Large(number) => format!("integer `{number}`"),
        Number::Float(number) => format!("number `{number}`"),
    }
}

/// A JSON text without the white space between its tokens, lent if there is none.
fn minified(raw: &str) -> Cow<'_, str> {
    match raw.bytes().any(|byte| matches!(byte, b' ' | b'\n' | b'\r' | b'\t')) {
        false => Cow::Borrowed(raw),
        true => Cow::Owned(Json::from_raw(raw).as_str().to_owned()),
    }
}
