//! Nested JSON: each object that is a record, or that a link points at, becomes a row.
//!
//! The response is read once, from its bytes into rows: at each place the reader knows from the
//! schema what to expect, and no tree of the response is built. An object that stands in it once
//! more, letter by letter, is recognised by its text and not read again.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::BitOr;
use std::sync::Arc;

use smallvec::SmallVec;

use super::ahead::Ahead;
use super::building::{Building, IdParts, MemberOrder};
use super::counts::Tally;
use super::json::{Fault, FaultKind, JsonReader, Next};
use super::place::{PointerStep, pointer};
use super::repeats::Repeats;
use super::unplaced::Unplaced;
use crate::change::{FieldSet, Later, Skipped, Transaction, UnplacedValues};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldNo, Format, Rule, Schema, TableNo, Unknown};
use crate::table::Slot;
use crate::table::{Staged, StagedRow};

/// A response up to this length holds too few objects to learn from.
const SHORT: usize = 2048;
/// A longer response has its objects often enough for them to be looked up apart from those of
/// earlier responses, which takes less.
const LONG: usize = 16 << 10;
/// So many objects of a response are remembered for those after it, which are often pages of one
/// list.
const REMEMBERED: usize = 256;

/// Progress is reported after this many bytes.
const PROGRESS_EVERY: usize = 1 << 16;

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
    /// Where each event ends, if these are events of a feed.
    pub(super) ends: Option<&'a [usize]>,
    /// Called with how many bytes are read.
    pub(super) progress: Option<&'a dyn Fn(usize)>,
}

/// What a response held.
pub(super) struct Outcome {
    pub(super) tally: Tally,
    /// The rows of the records, in their order, skipped ones included, if the rule needs them;
    /// `None` for one whose id cannot be read.
    pub(super) records: Vec<Option<Slot>>,
    pub(super) kept: usize,
    /// Records that do not fit, by their place in the order.
    pub(super) misfits: BTreeMap<usize, Skipped>,
    /// What the server says that it failed to resolve.
    pub(super) errors: Vec<Skipped>,
    /// Whether all records are there, as far as is known.
    pub(super) whole: bool,
    /// Values that went nowhere.
    pub(super) unplaced: Arc<[UnplacedValues]>,
}

/// Reads a response into a transaction.
pub(super) fn read(tx: &mut Transaction, reading: &Reading<'_>, text: &str) -> Result<Outcome> {
    let schema = reading.schema;
    let mut reader = Reader {
        json: JsonReader::new(text),
        tx,
        schema,
        reading,
        deepest: schema.limits.depth,
        steps: Vec::new(),
        depth: 0,
        orders: Vec::new(),
        is_short: text.len() <= SHORT,
        spare: SmallVec::new(),
        // An older answer is checked against what is newer; an alias means something in this rule
        // only.
        remembers: reading.later.is_none() && reading.rule.aliases.is_empty(),
        remembered: 0,
        is_long: text.len() > LONG,
        repeats: Repeats::new(text.len()),
        around: SmallVec::new(),
        used: usize::MAX,
        beside: Vec::new(),
        met: 0,
        taken: IdParts::default(),
        deletes: false,
        line: None,
        ahead: Ahead::default(),
        unresolved: BTreeSet::new(),
        report_at: if reading.progress.is_some() { 0 } else { usize::MAX },
        unplaced: Unplaced::default(),
        element: match reading.rule.record.is_empty() {
            true => String::new(),
            false => format!("{}/*", reading.rule.records),
        },
        outcome: Outcome {
            tally: Tally::new(schema.tables.len()),
            records: Vec::new(),
            kept: 0,
            misfits: BTreeMap::new(),
            errors: Vec::new(),
            whole: true,
            unplaced: Arc::default(),
        },
    };
    let read = match reading.rule.format {
        Format::Ndjson => reader.lines(),
        Format::Json if reading.ends.is_some() => reader.lines(),
        Format::Json | Format::JsonApi => reader.document(),
        Format::GraphQl => reader.graphql(),
    };
    match read.and_then(|()| Ok(reader.json.end()?)) {
        Ok(()) => {
            reader.write_beside();
            let unplaced = std::mem::take(&mut reader.unplaced);
            let last = reader.tx.ingested.last();
            reader.outcome.unplaced = unplaced.finish(schema, reading.rule, last);
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
    /// It says that a row is deleted which is not there.
    NothingToDelete,
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

    #[cold]
    pub(super) fn nothing_to_delete() -> Self {
        Failure(Box::new(Why::NothingToDelete))
    }

    pub(super) fn deletes_nothing(&self) -> bool {
        matches!(*self.0, Why::NothingToDelete)
    }

    pub(super) fn is_misfit(&self) -> bool {
        matches!(*self.0, Why::Misfit(_))
    }

    pub(super) fn message(self) -> String {
        match *self.0 {
            Why::Misfit(message) => message,
            Why::Fault(fault) => format!("{fault:?}"),
            Why::NothingToDelete => "the row that it deletes is not there".to_owned(),
        }
    }

    /// What does not fit has a pointer, what is not JSON a line as well.
    fn explain(self, pointer: &str, text: &str, deepest: usize) -> Error {
        let pointer = pointer.trim_end_matches(": ");
        let place = if pointer.is_empty() { "the response" } else { pointer };
        let message = match *self.0 {
            Why::Misfit(message) => message,
            Why::Fault(fault) => fault.explain(text, deepest),
            why @ Why::NothingToDelete => Failure(Box::new(why)).message(),
        };
        Error::new(ErrorKind::Response, message).at(place)
    }
}

pub(super) struct Reader<'a, 'de> {
    pub(super) json: JsonReader<'de>,
    pub(super) tx: &'a mut Transaction,
    pub(super) schema: &'a Schema,
    pub(super) reading: &'a Reading<'a>,
    pub(super) deepest: usize,
    /// Where a failure was met, from the inside out.
    pub(super) steps: Vec<PointerStep<'de>>,
    pub(super) depth: usize,
    /// In what order the members of each table's objects come; empty while that is the schema's.
    pub(super) orders: Vec<MemberOrder<'de>>,
    /// Whether the response is too short for noting that to be worth while.
    pub(super) is_short: bool,
    /// Lists to be used again.
    spare: SmallVec<[Box<Building<'de>>; 4]>,
    pub(super) repeats: Repeats<'de>,
    /// Whether objects of earlier responses are known by their text.
    remembers: bool,
    /// How many objects of this one are from now on.
    remembered: usize,
    /// Whether its own objects are looked up apart from those.
    is_long: bool,
    /// The objects that are being read, from the outside in.
    pub(super) around: SmallVec<[Around; 4]>,
    /// The outermost of them that gave an object inside of it a part of its id.
    pub(super) used: usize,
    /// Values beside the records.
    pub(super) beside: Vec<(TableNo, StagedRow<'de>)>,
    /// How many records were met.
    pub(super) met: usize,
    /// Fields of the records that stand outside of them, in the response or line that is read.
    pub(super) taken: IdParts<'de>,
    /// Whether that says that its records are deleted.
    pub(super) deletes: bool,
    /// The line of a response that has a value a line.
    pub(super) line: Option<usize>,
    /// Rows of the events that come next.
    pub(super) ahead: Ahead<'de>,
    /// Where a null means that the server failed to resolve the value.
    pub(super) unresolved: BTreeSet<usize>,
    /// Where progress is reported the next time.
    pub(super) report_at: usize,
    pub(super) unplaced: Unplaced,
    /// The JSON Pointer to any element of the records.
    pub(super) element: String,
    pub(super) outcome: Outcome,
}

/// An object that is being read.
pub(super) struct Around {
    pub(super) table: TableNo,
    /// Where it begins.
    pub(super) start: usize,
    /// The slot of its row, once its id is known.
    pub(super) slot: Option<Slot>,
}

impl<'de> Reader<'_, 'de> {
    /// Takes an opening bracket.
    pub(super) fn open(&mut self) -> Read<()> {
        self.json.open();
        self.depth += 1;
        if self.depth > self.deepest { Ok(self.json.fault(FaultKind::Depth)?) } else { Ok(()) }
    }

    /// Reports how far the reading is.
    #[cold]
    pub(super) fn report(&mut self) {
        let at = self.json.at();
        if let Some(progress) = self.reading.progress {
            progress(at);
        }
        self.report_at = at + PROGRESS_EVERY;
    }

    /// Notes on the way up where a failure was met.
    #[cold]
    pub(super) fn at(&mut self, step: PointerStep<'de>, failure: Failure) -> Failure {
        self.steps.push(step);
        failure
    }

    /// Whether the value that comes next is a null that means a failure of the server.
    #[inline]
    pub(super) fn is_unresolved(&mut self) -> Read<bool> {
        if self.unresolved.is_empty() { Ok(false) } else { self.is_listed_unresolved() }
    }

    #[cold]
    fn is_listed_unresolved(&mut self) -> Read<bool> {
        Ok(self.json.peek()? == Next::Null && self.unresolved.contains(&self.json.at()))
    }

    pub(super) fn new_building(&mut self) -> Box<Building<'de>> {
        self.spare.pop().unwrap_or_default()
    }

    /// Keeps lists to be used again.
    #[inline]
    pub(super) fn keep(&mut self, mut building: Box<Building<'de>>) {
        building.clear();
        self.spare.push(building);
    }

    /// Reads an object that a link points at, whose bracket comes next. `type_member` is the member
    /// by which it names its table.
    #[inline]
    pub(super) fn linked(&mut self, table: TableNo, type_member: Option<&str>) -> Read<Slot> {
        // The member that names the table is no unknown member here, but one elsewhere; and a null
        // that means a failure of the server is one elsewhere.
        let by_text = self.unresolved.is_empty()
            && (type_member.is_none() || self.schema.table(table).unknown == Unknown::Ignored);
        let known = if by_text { self.known_by_text(table) } else { None };
        known.map_or_else(|| self.linked_anew(table, type_member, by_text), Ok)
    }

    /// Passes over an object that was read before and would not change anything.
    fn known_by_text(&mut self, table: TableNo) -> Option<Slot> {
        let start = self.json.at();
        let text = self.json.rest(start);
        if let Some((len, slot, rows)) = self.repeats.find(table, text) {
            for ((table, _), _) in rows {
                self.outcome.tally.of(*table).objects += 1;
            }
            self.json.go(start + len);
            return Some(slot);
        }
        if !self.remembers {
            return None;
        }
        let Transaction { remembered, state, history, again, .. } = &mut *self.tx;
        let (len, slot, rows) = remembered.find(state, table, text)?;
        if history.has_recent() {
            // The commit that wrote a row may be withdrawn yet, and this one writes it, too.
            for ((table, slot), fields) in rows {
                if history.is_recent(*table, *slot) {
                    again.add((*table, *slot), FieldSet::of_first(*fields));
                }
            }
        }
        for ((table, slot), _) in rows {
            let counts = self.outcome.tally.of(*table);
            counts.objects += 1;
            counts.rows += usize::from(counts.seen.insert(*slot));
        }
        if self.is_long {
            self.repeats.remember(table, &text[..len], slot, rows);
        }
        self.repeats.met(rows);
        self.json.go(start + len);
        Some(slot)
    }

    /// Reads an object that a link points at, and remembers it by its text if that tells what it is.
    fn linked_anew(
        &mut self,
        table: TableNo,
        type_member: Option<&str>,
        by_text: bool,
    ) -> Read<Slot> {
        let (start, used_before) = (self.json.at(), self.used);
        let recalls = by_text && self.remembers;
        let unplaced = self.unplaced.values;
        self.used = usize::MAX;
        let mark = self.repeats.begin_object();
        let building = self.new_building();
        let slot = self.object(table, type_member, false, building)?;
        self.repeats.end_object();
        // What took a part of its id from further out is something else in another place.
        if by_text && self.used >= self.around.len() {
            let text = self.json.since(start).as_bytes();
            // Each response says itself what of it has no place.
            let is_left_out = self.remembered >= REMEMBERED || self.unplaced.values > unplaced;
            let is_remembered = recalls && !is_left_out && {
                let Transaction { remembered, state, .. } = &mut *self.tx;
                remembered.remember(state, table, text, slot, self.repeats.since(mark))
            };
            self.remembered += usize::from(is_remembered);
            if !is_remembered || self.is_long {
                self.repeats.remember_since(table, text, slot, mark);
            }
        }
        self.used = self.used.min(used_before);
        Ok(slot)
    }

    /// Reads an object and merges it into its row.
    #[inline]
    pub(super) fn object(
        &mut self,
        table: TableNo,
        type_member: Option<&str>,
        record: bool,
        mut building: Box<Building<'de>>,
    ) -> Read<Slot> {
        let start = self.json.at();
        self.around.push(Around { table, start, slot: None });
        self.members(table, &mut building, type_member)?;
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
        building.gone |= record && self.deletes;
        if !self.schema.table(table).unique.is_empty() {
            let (later, staged) = (self.reading.later, &mut building.staged);
            self.outcome.kept += self.tx.leave_out_taken_keys(table, slot, staged, later);
        }
        let mut is_newer = false;
        if let Some(later) = self.reading.later {
            let state = &self.tx.state;
            is_newer = later.has_changed(state, table, slot);
            self.outcome.kept += later.leave_out(state, table, slot, &mut building.staged);
            is_newer &= building.gone || !state.table(table).is_row(slot);
        }
        // A deletion that is older than its row is no news, nor an event that is older than that.
        is_newer |= building.gone && building.older;
        is_newer |= self.reading.ends.is_some()
            && self.tx.is_before_deletion(table, slot, &building.staged);
        if building.gone && !is_newer {
            self.bury(table, slot)?;
        } else if is_newer {
            self.outcome.tally.of(table).objects += 1;
            self.outcome.kept += 1;
        } else {
            self.merge(table, slot, &building.staged);
        }
        self.keep(building);
        Ok(slot)
    }

    /// Deletes a row that the response says was deleted.
    fn bury(&mut self, table: TableNo, slot: Slot) -> Read<()> {
        // Others may follow it.
        self.tx.lift();
        let counts = self.outcome.tally.of(table);
        counts.meet(slot);
        if self.tx.state.table(table).is_row(slot) {
            counts.deleted += 1;
            self.tx.delete_row(table, slot).map_err(|error| Failure::misfit(error.to_string()))?;
        }
        if let Some(id) = self.tx.state.id(table, slot).map(|id| id.to_id()) {
            self.tx.note_gone(table, id);
        }
        // What else was read of the tables may not hold any more.
        self.schema.table_numbers().for_each(|table| self.repeats.overwrote(table));
        self.repeats.met(&[((table, slot), 0)]);
        Ok(())
    }

    #[inline]
    pub(super) fn merge(&mut self, table: TableNo, slot: Slot, staged: &StagedRow<'de>) {
        let merged = self.tx.merge_row(table, slot, staged);
        let counts = self.outcome.tally.of(table);
        counts.meet(slot);
        counts.inserted += usize::from(merged.is_new);
        if merged.changed {
            counts.changed.insert(slot);
            let mut fields = staged.iter().enumerate();
            if fields.any(|(n, (field, _))| staged[..n].iter().any(|(other, _)| other == field)) {
                counts.twice.insert(slot);
            }
        }
        // Of what is remembered it is also known what was written.
        if self.repeats.is_inside() {
            let bits = staged.iter().map(|(field, _)| 1 << (field.index() % 64));
            let fields = if self.remembers { bits.fold(0, u64::bitor) } else { 0 };
            self.repeats.met(&[((table, slot), fields)]);
        }
        if merged.overwrote {
            self.repeats.overwrote(table);
        }
    }
}
