//! Nested JSON: each object that is a record, or that a link points at, becomes a row.
//!
//! The response is read once, from its bytes into rows: at each place the reader knows from the
//! schema what to expect, and no tree of the response is built. An object that stands in it once
//! more, letter by letter, is recognised by its text and not read again.

use std::collections::{BTreeMap, BTreeSet};

use smallvec::SmallVec;

use super::building::{Building, Found, IdParts};
use super::json::{Fault, FaultKind, JsonReader, Next};
use super::place::{Step, pointer};
use super::repeats::Repeats;
use crate::change::{Later, Skipped, Staged, StagedRow, Touched, Transaction};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{
    Branch, FieldNo, Format, Kind, OnError, Rule, Schema, TableNo, Wanted, line_and_column, whole,
};
use crate::table::{ONLY, Slot};

/// A response up to this length holds too few objects to learn from.
const SHORT: usize = 2048;

/// How a response is read.
pub(super) struct Reading<'a> {
    pub(super) schema: &'a Schema,
    pub(super) rule: &'a Rule,
    /// Fields of the records that the request says.
    pub(super) given: &'a [(FieldNo, Staged<'static>)],
    /// Records that were found not to fit.
    pub(super) skip: &'a BTreeSet<usize>,
    /// What was changed since the request began.
    pub(super) later: Option<&'a Later>,
}

/// What a response held.
pub(super) struct Outcome {
    pub(super) counts: Vec<Counts>,
    /// The rows of the records, in their order, skipped ones included; `None` for one whose id
    /// cannot be read.
    pub(super) records: Vec<Option<Slot>>,
    pub(super) kept: usize,
    /// Records that do not fit, by their place in the order.
    pub(super) misfits: BTreeMap<usize, Skipped>,
    /// What the server says that it could not tell.
    pub(super) errors: Vec<Skipped>,
    /// Whether all records are there, as far as anybody knows.
    pub(super) whole: bool,
}

/// Reads a response into a transaction.
pub(super) fn read(tx: &mut Transaction, reading: &Reading<'_>, text: &str) -> Result<Outcome> {
    let schema = reading.schema;
    let counts = schema.tables.iter().map(|_| Counts::default()).collect();
    let mut reader = Reader {
        json: JsonReader::new(text),
        tx,
        schema,
        reading,
        deepest: schema.limits.depth,
        steps: Vec::new(),
        depth: 0,
        orders: vec![Vec::new(); schema.tables.len()],
        learns: text.len() > SHORT,
        spare: Vec::new(),
        repeats: Repeats::new(text.len(), schema.tables.len()),
        around: Vec::new(),
        used: usize::MAX,
        beside: Vec::new(),
        line: None,
        untold: BTreeSet::new(),
        outcome: Outcome {
            counts,
            records: Vec::new(),
            kept: 0,
            misfits: BTreeMap::new(),
            errors: Vec::new(),
            whole: true,
        },
    };
    let read = match reading.rule.format {
        Format::Json | Format::JsonApi => reader.place(&reading.rule.places),
        Format::Ndjson => reader.lines(),
        Format::GraphQl => reader.graphql(),
    };
    match read.and_then(|()| Ok(reader.json.end()?)) {
        Ok(()) => {
            reader.write_beside();
            Ok(reader.outcome)
        }
        Err(failure) => {
            reader.steps.reverse();
            let place = pointer(&reader.steps, schema);
            Err(failure.explain(&place, text, schema.limits.depth))
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

    fn is_misfit(&self) -> bool {
        matches!(*self.0, Why::Misfit(_))
    }

    fn message(self) -> String {
        match *self.0 {
            Why::Misfit(message) => message,
            Why::Fault(fault) => format!("{fault:?}"),
        }
    }

    /// What does not fit has a pointer, what is not JSON a line as well.
    fn explain(self, pointer: &str, text: &str, deepest: usize) -> Error {
        let pointer = pointer.trim_end_matches(": ");
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
                        format!("it is nested deeper than {deepest} levels at line {position}")
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
    pub(super) reading: &'a Reading<'a>,
    deepest: usize,
    /// Where a failure was met, from the inside out.
    steps: Vec<Step<'de>>,
    pub(super) depth: usize,
    /// For each table, the names of its last object's members as they were spelled, colon and all:
    /// objects of one kind have them in one order.
    pub(super) orders: Vec<Vec<(&'de str, Found)>>,
    /// Whether the response is long enough for that to be worth while.
    pub(super) learns: bool,
    /// Lists to be used again.
    spare: Vec<Box<Building<'de>>>,
    repeats: Repeats<'de>,
    /// The objects that are being read, from the outside in.
    pub(super) around: Vec<Around>,
    /// The outermost of them that gave an object inside of it a part of its id.
    pub(super) used: usize,
    /// Values beside the records.
    beside: Vec<(TableNo, StagedRow<'de>)>,
    /// The line of a response that has a value a line.
    line: Option<usize>,
    /// Where a null means that the server could not tell.
    pub(super) untold: BTreeSet<usize>,
    pub(super) outcome: Outcome,
}

/// Which branches of a tree were met.
type Places = SmallVec<[usize; 4]>;

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
pub(super) struct Counts {
    pub(super) objects: usize,
    pub(super) rows: usize,
    pub(super) inserted: usize,
    pub(super) seen: Touched,
    pub(super) changed: Touched,
    /// Whether an object named a field twice, so that what changed has to be looked at again.
    pub(super) twice: bool,
    pub(super) deleted: usize,
}

impl<'de> Reader<'_, 'de> {
    /// Takes an opening bracket.
    pub(super) fn open(&mut self) -> Read<()> {
        self.json.open();
        self.depth += 1;
        if self.depth > self.deepest { Ok(self.json.fault(FaultKind::Depth)?) } else { Ok(()) }
    }

    /// Reads one value a line, each like a response of its own.
    fn lines(&mut self) -> Read<()> {
        let mut line = 0;
        while !self.json.is_at_end() {
            self.line = Some(line);
            self.place(&self.reading.rule.places)
                .map_err(|failure| self.at(Step::Line(line), failure))?;
            line += 1;
        }
        Ok(())
    }

    /// Reads what is looked for at a place of the response and further inside.
    pub(super) fn place(&mut self, branch: &Branch<Wanted>) -> Read<()> {
        let start = self.json.at();
        for wanted in &branch.here {
            self.json.go(start);
            match wanted {
                Wanted::Records => self.records()?,
                Wanted::Included => self.included()?,
                Wanted::Errors => self.refused()?,
                Wanted::Beside(table, field) => self.value_beside(*table, *field)?,
            }
        }
        if branch.inside.is_empty() {
            return Ok(());
        }
        self.json.go(start);
        if self.is_untold()? {
            self.outcome.whole = false;
            return Ok(self.json.word("null")?);
        }
        let on_the_way = |branch: &Branch<Wanted>| branch.leads_to(&Wanted::Records);
        let (part, found) = match self.json.peek()? {
            Next::Object => ("member", self.place_in_object(branch)?),
            Next::Array => ("element", self.place_in_array(branch)?),
            // Nothing is beside records that are not inside of it.
            _ if !on_the_way(branch) => {
                self.json.skip()?;
                return Ok(());
            }
            _ => {
                let next = branch.inside.iter().find(|(_, inside)| on_the_way(inside));
                let name = next.map_or("", |(name, _)| name);
                let table = &self.schema.table(self.reading.rule.table).name;
                let expected = format!(
                    "an object or array with {name:?} on the way to the \"{table}\" records"
                );
                return misfit(&self.found()?, &expected);
            }
        };
        let mut places = branch.inside.iter().enumerate();
        let missing =
            places.find(|(place, (_, inside))| on_the_way(inside) && !found.contains(place));
        match missing {
            Some((_, (name, _))) => {
                misfit(&format!("no {part} {name:?}"), "it on the way to the records")
            }
            None => Ok(()),
        }
    }

    /// Goes through an object; gives which of the members that are looked for were there.
    fn place_in_object(&mut self, branch: &Branch<Wanted>) -> Read<Places> {
        self.open()?;
        let (mut found, mut first) = (Places::new(), true);
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?;
            match branch.inside.entry(&name) {
                Some((place, inside)) => {
                    found.push(place);
                    self.place(inside).map_err(|failure| self.at(Step::Name(name), failure))?;
                }
                None => drop(self.json.skip()?),
            }
        }
        self.depth -= 1;
        Ok(found)
    }

    /// As [`Self::place_in_object`], for an array's elements by their numbers.
    fn place_in_array(&mut self, branch: &Branch<Wanted>) -> Read<Places> {
        self.open()?;
        let (mut found, mut index) = (Places::new(), 0);
        while self.json.element(index == 0)? {
            match branch.inside.entry(&index.to_string()) {
                Some((place, inside)) => {
                    found.push(place);
                    self.place(inside).map_err(|failure| self.at(Step::Index(index), failure))?;
                }
                None => drop(self.json.skip()?),
            }
            index += 1;
        }
        self.depth -= 1;
        Ok(found)
    }

    /// Reads a value that goes to a field of a one-row table.
    fn value_beside(&mut self, table: TableNo, field: FieldNo) -> Read<()> {
        if self.is_untold()? {
            return Ok(self.json.word("null")?);
        }
        let value = self.value(self.schema.table(table).field(field), false)?;
        match self.beside.iter_mut().find(|(known, _)| *known == table) {
            Some((_, staged)) => staged.push((field, value)),
            None => self.beside.push((table, vec![(field, value)])),
        }
        Ok(())
    }

    fn write_beside(&mut self) {
        for (table, mut staged) in std::mem::take(&mut self.beside) {
            if let Some(later) = self.reading.later {
                let state = &self.tx.state;
                self.outcome.kept += later.leave_out(state, table, ONLY, &mut staged);
            }
            self.merge(table, ONLY, &staged);
        }
    }

    fn records(&mut self) -> Read<()> {
        let rule = self.reading.rule;
        match self.json.peek()? {
            Next::Object if rule.keyed => {
                self.open()?;
                let mut index = 0;
                while self.json.member(index == 0)? {
                    let name = self.json.name()?;
                    self.element(Some(&name), &Step::Name(name.clone()))
                        .map_err(|failure| self.at(Step::Name(name), failure))?;
                    index += 1;
                }
                self.depth -= 1;
                Ok(())
            }
            Next::Object => self.element(None, &Step::Whole),
            // Some servers write an empty list so.
            Next::Null => {
                self.outcome.whole &= !self.is_untold()?;
                Ok(self.json.word("null")?)
            }
            Next::Array => {
                self.open()?;
                let mut index = 0;
                while self.json.element(index == 0)? {
                    self.element(None, &Step::Index(index))
                        .map_err(|failure| self.at(Step::Index(index), failure))?;
                    index += 1;
                }
                self.depth -= 1;
                Ok(())
            }
            _ => {
                let name = &self.schema.table(rule.table).name;
                let expected = format!("\"{name}\" records: an array of objects, or one object");
                misfit(&self.found()?, &expected)
            }
        }
    }

    /// The id that a member's name is.
    fn key(&self, name: &str) -> Read<Staged<'de>> {
        let definition = self.schema.table(self.reading.rule.table);
        match definition.id.first().map(|id| definition.field(*id).kind) {
            Some(Kind::Int) => match whole(name) {
                Some(number) => Ok(Staged::Int(number)),
                None => misfit(&format!("member {name:?}"), "an id of type int as its name"),
            },
            _ => Ok(Staged::Text(name.to_owned().into())),
        }
    }

    /// Reads one of the records, or leaves it out if it does not fit and the rule says so. `key` is
    /// the name that it has among them, if that is its id.
    fn element(&mut self, key: Option<&str>, step: &Step<'de>) -> Read<()> {
        let (start, depth, index) = (self.json.at(), self.depth, self.outcome.records.len());
        if self.is_untold()? {
            self.outcome.records.push(None);
            return Ok(self.json.word("null")?);
        }
        let key = key.map(|key| self.key(key)).transpose();
        let is_skipped = self.reading.skip.contains(&index);
        let slot = match key.and_then(|key| match is_skipped {
            true => Ok(self.id_alone(key)),
            false => self.within(&self.reading.rule.record, key).map(Some),
        }) {
            Err(failure) if self.reading.rule.on_error == OnError::Skip && failure.is_misfit() => {
                self.steps.reverse();
                let inner = pointer(&self.steps, self.schema);
                let outer = pointer(std::slice::from_ref(step), self.schema);
                let line =
                    self.line.map_or_else(String::new, |line| format!("line {}: ", line + 1));
                let pointer = format!("{line}{}{outer}{inner}", self.reading.rule.records);
                let problem = failure.message();
                self.outcome.misfits.insert(index, Skipped { pointer, problem });
                None
            }
            read => read?,
        };
        if is_skipped || slot.is_none() {
            // It was read only in part.
            (self.depth, self.used) = (depth, usize::MAX);
            self.steps.clear();
            self.around.clear();
            self.json.go(start);
            self.json.skip()?;
        }
        self.outcome.records.push(slot);
        Ok(())
    }

    /// The row of a record that is left out, if its id can be read.
    fn id_alone(&mut self, key: Option<Staged<'de>>) -> Option<Slot> {
        let (depth, rule) = (self.depth, self.reading.rule);
        let found = self.descend(&rule.record);
        let slot = match (found, self.json.peek()) {
            (Ok(true), Ok(Next::Object)) => {
                let start = self.json.at();
                self.around.push(Around { table: rule.table, start, slot: None });
                self.slot_alone(self.given_id(key)).ok()
            }
            _ => None,
        };
        self.depth = depth;
        slot
    }

    /// Goes to a record inside of an element, and leaves the reader in front of it.
    fn descend(&mut self, way: &[String]) -> Read<bool> {
        let Some((name, rest)) = way.split_first() else { return Ok(true) };
        let next = self.json.peek()?;
        let mut index = 0;
        if !matches!(next, Next::Object | Next::Array) {
            return Ok(false);
        }
        self.open()?;
        loop {
            let here = if next == Next::Object {
                if !self.json.member(index == 0)? {
                    return Ok(false);
                }
                *self.json.name()? == **name
            } else {
                if !self.json.element(index == 0)? {
                    return Ok(false);
                }
                index.to_string() == *name
            };
            if here {
                return self.descend(rest);
            }
            self.json.skip()?;
            index += 1;
        }
    }

    /// Reads a record inside of an element.
    fn within(&mut self, way: &[String], key: Option<Staged<'de>>) -> Read<Slot> {
        let (start, depth) = (self.json.at(), self.depth);
        if !way.is_empty() && !self.descend(way)? {
            let (last, table) = (way.join("/"), &self.schema.table(self.reading.rule.table).name);
            return misfit(
                &format!("no {last:?} inside"),
                &format!("the \"{table}\" record there"),
            );
        }
        if self.json.peek()? != Next::Object {
            let expected =
                format!("a \"{}\" object", self.schema.table(self.reading.rule.table).name);
            let misfit = misfit(&self.found()?, &expected);
            return misfit.map_err(|failure| self.at_way(way, failure));
        }
        let slot = self.record(key).map_err(|failure| self.at_way(way, failure))?;
        if !way.is_empty() {
            self.depth = depth;
            self.json.go(start);
            self.json.skip()?;
        }
        Ok(slot)
    }

    #[cold]
    fn at_way(&mut self, way: &[String], failure: Failure) -> Failure {
        way.iter().rev().for_each(|part| self.steps.push(Step::Name(part.clone().into())));
        failure
    }

    /// Notes on the way up where a failure was met.
    #[cold]
    pub(super) fn at(&mut self, step: Step<'de>, failure: Failure) -> Failure {
        self.steps.push(step);
        failure
    }

    /// Whether a null comes next that means that the server could not tell.
    #[inline]
    pub(super) fn is_untold(&mut self) -> Read<bool> {
        if self.untold.is_empty() { Ok(false) } else { self.is_told_so() }
    }

    #[cold]
    fn is_told_so(&mut self) -> Read<bool> {
        Ok(self.json.peek()? == Next::Null && self.untold.contains(&self.json.at()))
    }

    /// Reads one of the records, whose bracket comes next.
    fn record(&mut self, key: Option<Staged<'de>>) -> Read<Slot> {
        self.repeats.begin_record();
        if self.reading.rule.format == Format::JsonApi {
            return self.resource(true);
        }
        let table = self.reading.rule.table;
        let mut building = self.new_building();
        if key.is_some() || !self.reading.given.is_empty() {
            let definition = self.schema.table(table);
            let given = self.reading.given.iter();
            let given = given.filter(|(field, _)| !definition.id.contains(field));
            building.staged.extend(given.cloned());
            building.id = self.given_id(key);
        }
        self.object(table, None, true, building)
    }

    pub(super) fn new_building(&mut self) -> Box<Building<'de>> {
        self.spare.pop().unwrap_or_default()
    }

    /// The parts of a record's id that stand outside of it.
    fn given_id(&self, key: Option<Staged<'de>>) -> IdParts<'de> {
        let definition = self.schema.table(self.reading.rule.table);
        let given = self.reading.given.iter().filter(|(field, _)| definition.id.contains(field));
        let key = key.and_then(|key| Some((*definition.id.first()?, key)));
        given.cloned().chain(key).collect()
    }

    /// Reads an object that a link points at, whose bracket comes next. `told_by` is the member by
    /// which it tells its table.
    pub(super) fn linked(&mut self, table: TableNo, told_by: Option<&str>) -> Read<Slot> {
        let start = self.json.at();
        if let Some((len, slot, objects)) = self.repeats.find(table, self.json.rest(start)) {
            for table in objects {
                self.outcome.counts[table.index()].objects += 1;
            }
            self.json.go(start + len);
            return Ok(slot);
        }
        let (mark, used_before) = (self.repeats.mark(), self.used);
        self.used = usize::MAX;
        let building = self.new_building();
        let slot = self.object(table, told_by, false, building)?;
        // What took a part of its id from further out is something else in another place.
        if self.used >= self.around.len() {
            let text = self.json.since(start).as_bytes();
            self.repeats.remember(table, text, slot, mark);
        }
        self.used = self.used.min(used_before);
        Ok(slot)
    }

    /// Reads an object and merges it into its row.
    #[inline]
    fn object(
        &mut self,
        table: TableNo,
        told_by: Option<&str>,
        record: bool,
        mut building: Box<Building<'de>>,
    ) -> Read<Slot> {
        let start = self.json.at();
        self.around.push(Around { table, start, slot: None });
        self.members(table, &mut building, told_by)?;
        self.close(table, record, building)
    }

    /// Ends an object whose members are read: merges it into its row.
    #[inline]
    pub(super) fn close(
        &mut self,
        table: TableNo,
        record: bool,
        mut building: Box<Building<'de>>,
    ) -> Read<Slot> {
        let slot = self.finish(table, &mut building, record)?;
        self.around.pop();
        let mut is_newer = false;
        if let Some(later) = self.reading.later {
            let state = &self.tx.state;
            is_newer = later.has_changed(state, table, slot);
            self.outcome.kept += later.leave_out(state, table, slot, &mut building.staged);
            is_newer &= building.gone || !state.table(table).is_row(slot);
        }
        if building.gone && !is_newer {
            self.bury(table, slot)?;
        } else if is_newer {
            self.outcome.counts[table.index()].objects += 1;
            self.outcome.kept += 1;
        } else {
            self.merge(table, slot, &building.staged);
        }
        building.clear();
        self.spare.push(building);
        Ok(slot)
    }

    /// Deletes a row that the response says to be no more.
    fn bury(&mut self, table: TableNo, slot: Slot) -> Read<()> {
        let counts = &mut self.outcome.counts[table.index()];
        counts.objects += 1;
        counts.rows += usize::from(counts.seen.insert(slot));
        if self.tx.state.table(table).is_row(slot) {
            counts.deleted += 1;
            self.tx.delete_row(table, slot).map_err(|error| Failure::misfit(error.to_string()))?;
        }
        // What else was read of the tables may not hold any more.
        self.schema.table_numbers().for_each(|table| self.repeats.merged(table, true));
        Ok(())
    }

    #[inline]
    fn merge(&mut self, table: TableNo, slot: Slot, staged: &StagedRow<'de>) {
        let merged = self.tx.merge_row(table, slot, staged);
        let counts = &mut self.outcome.counts[table.index()];
        counts.objects += 1;
        counts.rows += usize::from(counts.seen.insert(slot));
        counts.inserted += usize::from(merged.is_new);
        if merged.changed {
            counts.changed.insert(slot);
            let fields = staged.iter().enumerate();
            counts.twice |= { fields }
                .any(|(n, (field, _))| staged[..n].iter().any(|(other, _)| other == field));
        }
        self.repeats.merged(table, merged.overwrote);
    }
}
