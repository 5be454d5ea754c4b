//! Nested JSON: each object that is a record, or that a link points at, becomes a row.
//!
//! The response is read once, from its bytes into rows: at each place the reader knows from the
//! schema what to expect, and no tree of the response is built. An object that stands in it once
//! more, letter by letter, is recognised by its text and not read again.

use super::building::{Building, Found};
use super::json::{Fault, FaultKind, JsonReader, Next};
use super::place::{Step, pointer};
use super::repeats::Repeats;
use crate::change::{Happened, IngestedTable, StagedRow, Touched, Transaction, compare};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{Rule, Schema, TableNo, line_and_column};
use crate::table::{Slot, State};

/// How deep objects and arrays may nest on the way to a row's fields.
const DEEPEST: usize = 127;

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
        around: Vec::new(),
        used: usize::MAX,
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

/// Why reading stopped; small, since every step hands it on.
pub(super) struct Failure(Box<Why>);

enum Why {
    /// The text is not JSON.
    Fault(Fault),
    /// It does not fit.
    Misfit(String),
}

impl From<Fault> for Failure {
    #[cold]
    fn from(fault: Fault) -> Self {
        Failure(Box::new(Why::Fault(fault)))
    }
}

pub(super) type Read<T> = Result<T, Failure>;

#[cold]
pub(super) fn misfit<T>(found: &str, expected: &str) -> Read<T> {
    Err(Failure::misfit(format!("found {found}, expected {expected}")))
}

impl Failure {
    #[cold]
    pub(super) fn misfit(message: String) -> Self {
        Failure(Box::new(Why::Misfit(message)))
    }

    /// What does not fit has a pointer, what is not JSON a line as well.
    fn explain(self, pointer: &str, text: &str) -> Error {
        let place = if pointer.is_empty() { "the response" } else { pointer };
        let message = match *self.0 {
            Why::Misfit(message) => message,
            Why::Fault(Fault { at, kind }) => {
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

pub(super) struct Reader<'a, 'de> {
    pub(super) json: JsonReader<'de>,
    pub(super) tx: &'a mut Transaction,
    pub(super) schema: &'a Schema,
    /// Where a failure was met, from the inside out.
    steps: Vec<Step<'de>>,
    pub(super) depth: usize,
    counts: Vec<Counts>,
    /// For each table, the names of its last object's members as they were spelled, colon and all:
    /// objects of one kind have them in one order.
    pub(super) orders: Vec<Vec<(&'de str, Found)>>,
    /// Lists to be used again.
    pub(super) spare: Vec<StagedRow<'de>>,
    repeats: Repeats<'de>,
    /// The objects that are being read, from the outside in.
    pub(super) around: Vec<Around>,
    /// The outermost of them that gave an object inside of it a part of its id.
    pub(super) used: usize,
}

/// An object that is being read.
pub(super) struct Around {
    pub(super) table: TableNo,
    /// Where it begins.
    pub(super) start: usize,
    /// The slot of its row, once its id is known.
    pub(super) slot: Option<Slot>,
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
    pub(super) fn open(&mut self) -> Read<()> {
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
            // Some servers write an empty list so.
            Next::Null => Ok(self.json.word("null")?),
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
    pub(super) fn at(&mut self, step: Step<'de>, failure: Failure) -> Failure {
        self.steps.push(step);
        failure
    }

    /// Reads one of the records, whose bracket comes next.
    fn record(&mut self, table: TableNo) -> Read<()> {
        self.repeats.begin_record();
        self.object(table, None, true).map(|_| ())
    }

    /// Reads an object that a link points at, whose bracket comes next. `told_by` is the member by
    /// which it tells its table.
    pub(super) fn linked(&mut self, table: TableNo, told_by: Option<&str>) -> Read<Slot> {
        let start = self.json.at();
        if let Some((len, slot, objects)) = self.repeats.find(table, self.json.rest(start)) {
            for table in objects {
                self.counts[table.index()].objects += 1;
            }
            self.json.jump(start + len);
            return Ok(slot);
        }
        let (mark, used_before) = (self.repeats.mark(), self.used);
        self.used = usize::MAX;
        let slot = self.object(table, told_by, false)?;
        // What took a part of its id from further out is something else in another place.
        if self.used >= self.around.len() {
            let text = self.json.since(start).as_bytes();
            self.repeats.remember(table, text, slot, mark);
        }
        self.used = self.used.min(used_before);
        Ok(slot)
    }

    /// Reads an object and merges it into its row.
    fn object(&mut self, table: TableNo, told_by: Option<&str>, record: bool) -> Read<Slot> {
        let start = self.json.at();
        self.around.push(Around { table, start, slot: None });
        let mut building = Building::new(self.spare.pop().unwrap_or_default());
        self.members(table, &mut building, told_by)?;
        let slot = self.finish(table, &mut building, record)?;
        self.around.pop();
        self.merge(table, slot, &building.staged);
        building.staged.clear();
        self.spare.push(building.staged);
        Ok(slot)
    }

    fn merge(&mut self, table: TableNo, slot: Slot, staged: &StagedRow<'de>) {
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
}
