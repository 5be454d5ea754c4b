//! Where the records of a response are, and what stands beside them.

use smallvec::{SmallVec, smallvec};

use super::building::IdParts;
use super::json::{FaultKind, Next};
use super::nested::{Around, Failure, Read, Reader, misfit};
use super::place::{PointerStep, pointer};
use crate::change::Skipped;
use crate::schema::{
    Branch, FieldKind, FieldNo, Format, NamedType, OnError, Pointer, ResponsePart, TableNo,
    TakenFrom, whole,
};
use crate::table::Staged;
use crate::table::{ONLY, Slot};

/// Which branches of a tree were met.
type Places = SmallVec<[usize; 4]>;

impl<'de> Reader<'_, 'de> {
    /// Reads one value a line, each like a response of its own.
    pub(super) fn lines(&mut self) -> Read<()> {
        let mut line = 0;
        while !self.json.is_at_end() {
            self.line = Some(line);
            self.look_ahead(line);
            let begin = self.json.at();
            self.document().and_then(|()| self.check_event(line, begin)).map_err(|failure| {
                match self.reading.ends {
                    // An event by itself has no line.
                    Some([_]) => failure,
                    _ => self.at(PointerStep::Line(line), failure),
                }
            })?;
            line += 1;
        }
        match self.reading.ends {
            Some(ends) if ends.len() > line => misfit("an empty event", "a JSON value"),
            _ => Ok(()),
        }
    }

    /// Reads a response, or a line of one.
    pub(super) fn document(&mut self) -> Read<()> {
        let rule = self.reading.rule;
        self.taken.clear();
        for (field, from) in &rule.taken {
            if let TakenFrom::Response(pointer) = from {
                let value = self.elsewhere(*field, pointer)?;
                self.taken.extend(value.map(|value| (*field, value)));
            }
        }
        if let Some((pointer, values)) = &rule.deletes_if {
            let (start, depth) = (self.json.at(), self.depth);
            self.deletes = self.descend(pointer.parts())? && self.json.peek()? == Next::Text && {
                let text = self.json.text()?;
                values.iter().any(|value| **value == *text)
            };
            self.json.go(start);
            self.depth = depth;
        }
        self.place(&rule.places)
    }

    /// Reads a field of the records that stands behind a pointer from here, and goes back; `None` if
    /// it is not there.
    fn elsewhere(&mut self, field: FieldNo, pointer: &Pointer) -> Read<Option<Staged<'de>>> {
        let definition = self.schema.table(self.reading.rule.table);
        let (start, depth, is_id) = (self.json.at(), self.depth, definition.id.contains(&field));
        let is_there = self.descend(pointer.parts())?;
        let value = match is_there {
            true => self.value(definition.field(field), is_id),
            false if is_id => misfit(
                "no such member",
                &format!("the \"{}\" of the records there", definition.field(field).name),
            ),
            false => return self.back_to(start, depth).map(|()| None),
        };
        let value = value.map_err(|failure| self.at_way(pointer.parts(), failure))?;
        self.back_to(start, depth).map(|()| Some(value))
    }

    pub(super) fn back_to(&mut self, start: usize, depth: usize) -> Read<()> {
        self.json.go(start);
        self.depth = depth;
        Ok(())
    }

    /// Whether a value that has been read is an event, from its beginning to its end.
    fn check_event(&mut self, number: usize, begin: usize) -> Read<()> {
        let Some(ends) = self.reading.ends else { return Ok(()) };
        let before = number.checked_sub(1).map_or(0, |before| ends[before]);
        match ends.get(number) {
            Some(end) if before <= begin && self.json.at() <= *end => Ok(()),
            _ => misfit("another value in an event", "each to be one JSON value"),
        }
    }

    /// Reads what is looked for at a place of the response and further inside.
    pub(super) fn place(&mut self, branch: &Branch<ResponsePart>) -> Read<()> {
        let start = self.json.at();
        let is_typed = |part: &ResponsePart| matches!(part, ResponsePart::Rows(_, Some(_)));
        if branch.here.iter().any(is_typed) {
            self.rows_by_type(branch)?;
        }
        for part in branch.here.iter().filter(|part| !is_typed(part)) {
            self.json.go(start);
            match part {
                ResponsePart::Records => self.records()?,
                ResponsePart::Included => self.included()?,
                ResponsePart::Errors => self.refused()?,
                ResponsePart::Value(table, field) => self.value_beside(*table, *field)?,
                ResponsePart::Rows(table, _) => {
                    let expected = format!(
                        "a \"{}\" object, or an array of them",
                        self.schema.table(*table).name
                    );
                    self.each_beside(&expected, &branch.way, |reader, step| {
                        reader.row_beside(*table, None, (&branch.way, step))
                    })?;
                }
            }
        }
        if branch.inside.is_empty() {
            return Ok(());
        }
        self.json.go(start);
        if self.is_unresolved()? {
            self.outcome.whole = false;
            return Ok(self.json.word("null")?);
        }
        let on_the_way = |branch: &Branch<ResponsePart>| branch.leads_to(&ResponsePart::Records);
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
                let expected = format!(
                    "an object or array with {name:?} on the way to the {}",
                    self.where_records()
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
    fn place_in_object(&mut self, branch: &Branch<ResponsePart>) -> Read<Places> {
        self.open()?;
        let (mut found, mut first) = (Places::new(), true);
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?;
            match branch.inside.entry(&name) {
                Some((place, inside)) => {
                    found.push(place);
                    self.place(inside)
                        .map_err(|failure| self.at(PointerStep::Name(name), failure))?;
                }
                None => {
                    let number = self.unplaced.number(None, &branch.way, Some(&name));
                    let raw = self.json.skip()?;
                    self.unplaced.add(number, raw);
                }
            }
        }
        self.depth -= 1;
        Ok(found)
    }

    /// As [`Self::place_in_object`], for an array's elements by their numbers.
    fn place_in_array(&mut self, branch: &Branch<ResponsePart>) -> Read<Places> {
        self.open()?;
        let (mut found, mut index) = (Places::new(), 0);
        while self.json.element(index == 0)? {
            match branch.inside.entry(&index.to_string()) {
                Some((place, inside)) => {
                    found.push(place);
                    self.place(inside)
                        .map_err(|failure| self.at(PointerStep::Index(index), failure))?;
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
        if self.is_unresolved()? {
            return Ok(self.json.word("null")?);
        }
        let value = self.value(self.schema.table(table).field(field), false)?;
        match self.beside.iter_mut().find(|(known, _)| *known == table) {
            Some((_, staged)) => staged.push((field, value)),
            None => self.beside.push((table, smallvec![(field, value)])),
        }
        Ok(())
    }

    pub(super) fn write_beside(&mut self) {
        for (table, mut staged) in std::mem::take(&mut self.beside) {
            self.tx.lift_at(table, ONLY);
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
                    self.element(Some(&name), &PointerStep::Name(name.clone()))
                        .map_err(|failure| self.at(PointerStep::Name(name), failure))?;
                    index += 1;
                }
                self.depth -= 1;
                Ok(())
            }
            Next::Object => self.element(None, &PointerStep::Whole),
            // Some servers write an empty list so.
            Next::Null => {
                self.outcome.whole &= !self.is_unresolved()?;
                Ok(self.json.word("null")?)
            }
            Next::Array => {
                self.open()?;
                let mut index = 0;
                while self.json.element(index == 0)? {
                    self.element(None, &PointerStep::Index(index))
                        .map_err(|failure| self.at(PointerStep::Index(index), failure))?;
                    index += 1;
                }
                self.depth -= 1;
                Ok(())
            }
            _ => {
                let expected =
                    format!("{}: an array of objects, or one object", self.where_records());
                misfit(&self.found()?, &expected)
            }
        }
    }

    /// Reads rows that stand beside the records, each of the table that its type says. What names no
    /// type that the rule knows goes nowhere.
    fn rows_by_type(&mut self, branch: &Branch<ResponsePart>) -> Read<()> {
        let rule = self.reading.rule;
        let types = branch.here.iter().filter_map(|part| match part {
            ResponsePart::Rows(table, Some(number)) => {
                Some((*table, &rule.types[number.0 as usize]))
            }
            _ => None,
        });
        let types: SmallVec<[(TableNo, &NamedType); 4]> = types.collect();
        self.each_beside("an object, or an array of objects", &branch.way, |reader, step| {
            for (table, named) in &types {
                let found = reader.type_name(&named.member)?;
                if found.is_some_and(|found| *found == *named.name) {
                    return reader.row_beside(*table, Some(&named.member), (&branch.way, step));
                }
            }
            let number = reader.unplaced.number(None, &branch.way, None);
            let raw = reader.json.skip()?;
            reader.unplaced.add(number, raw);
            Ok(())
        })
    }

    /// Goes through objects in an array, or takes one alone, that stand behind a pointer.
    fn each_beside(
        &mut self,
        expected: &str,
        way: &str,
        mut read: impl FnMut(&mut Self, PointerStep<'de>) -> Read<()>,
    ) -> Read<()> {
        match self.json.peek()? {
            Next::Null => Ok(self.json.word("null")?),
            Next::Object => read(self, PointerStep::Whole),
            Next::Array => {
                self.open()?;
                let mut index = 0;
                while self.json.element(index == 0)? {
                    let step = PointerStep::Index(index);
                    let read = match self.json.peek()? {
                        Next::Object => read(self, PointerStep::Index(index)),
                        Next::Null if self.is_unresolved()? => Ok(self.json.word("null")?),
                        _ => self.no_row_beside(expected, (way, &step)),
                    };
                    read.map_err(|failure| self.at(step, failure))?;
                    index += 1;
                }
                self.depth -= 1;
                Ok(())
            }
            _ => misfit(&self.found()?, expected),
        }
    }

    /// Reads an object that is a row beside the records, or leaves it out if it does not fit and the
    /// rule says so. `type_member` is the member by which it names its table.
    fn row_beside(
        &mut self,
        table: TableNo,
        type_member: Option<&str>,
        (way, step): (&str, PointerStep<'de>),
    ) -> Read<()> {
        let (start, depth, index) = (self.json.at(), self.depth, self.met);
        self.met += 1;
        if start >= self.report_at {
            self.report();
        }
        self.repeats.begin_record();
        if !self.reading.skip.contains(&index) {
            match self.linked(table, type_member) {
                Err(failure) if self.may_be_left_out(&failure) => {
                    self.leave_out(index, way, &step, failure);
                }
                read => return read.map(|_| ()),
            }
        }
        self.go_behind(start, depth)
    }

    /// Leaves out what is no object, if the rule says so.
    fn no_row_beside(
        &mut self,
        expected: &str,
        (way, step): (&str, &PointerStep<'de>),
    ) -> Read<()> {
        let (start, depth, index) = (self.json.at(), self.depth, self.met);
        self.met += 1;
        if !self.reading.skip.contains(&index) {
            match misfit(&self.found()?, expected) {
                Err(failure) if self.may_be_left_out(&failure) => {
                    self.leave_out(index, way, step, failure);
                }
                refused => return refused,
            }
        }
        self.go_behind(start, depth)
    }

    fn may_be_left_out(&self, failure: &Failure) -> bool {
        self.reading.rule.on_error == OnError::Skip && failure.is_misfit()
    }

    /// Notes that an object does not fit, which stands at a step behind a pointer.
    fn leave_out(&mut self, index: usize, way: &str, step: &PointerStep<'de>, failure: Failure) {
        self.steps.reverse();
        let inner = pointer(&self.steps, self.schema);
        let outer = pointer(std::slice::from_ref(step), self.schema);
        let line = self.line.map_or_else(String::new, |line| format!("line {}: ", line + 1));
        let mut pointer = format!("{line}{way}{outer}{inner}");
        // Of a whole line only the line is said.
        if way.is_empty() && inner.is_empty() {
            pointer.truncate(pointer.trim_end_matches(": ").len());
        }
        self.outcome.misfits.insert(index, Skipped { pointer, problem: failure.message() });
    }

    /// Passes over an object that was read only in part.
    fn go_behind(&mut self, start: usize, depth: usize) -> Read<()> {
        (self.depth, self.used) = (depth, usize::MAX);
        self.steps.clear();
        self.around.clear();
        self.json.go(start);
        self.json.skip()?;
        Ok(())
    }

    fn where_records(&self) -> String {
        format!("\"{}\" records", self.schema.table(self.reading.rule.table).name)
    }

    /// The id that a member's name is.
    fn key(&self, name: &str) -> Read<Staged<'de>> {
        let definition = self.schema.table(self.reading.rule.table);
        match definition.id.first().map(|id| definition.field(*id).kind) {
            Some(FieldKind::Int) => match whole(name) {
                Some(number) => Ok(Staged::Int(number)),
                None => misfit(&format!("member {name:?}"), "an id of type int as its name"),
            },
            _ => Ok(Staged::Text(name.to_owned().into())),
        }
    }

    /// Reads one of the records, or leaves it out if it does not fit and the rule says so. `key` is
    /// the name that it has among them, if that is its id.
    fn element(&mut self, key: Option<&str>, step: &PointerStep<'de>) -> Read<()> {
        let (start, depth, index) = (self.json.at(), self.depth, self.met);
        self.met += 1;
        if start >= self.report_at {
            self.report();
        }
        if self.is_unresolved()? {
            self.note(None);
            return Ok(self.json.word("null")?);
        }
        let key = key.map(|key| self.key(key)).transpose();
        let is_skipped = self.reading.skip.contains(&index);
        let slot = match key.and_then(|key| match is_skipped {
            true => Ok(self.id_alone(key)),
            false => self.within(&self.reading.rule.record, key).map(Some),
        }) {
            Err(failure) if self.may_be_left_out(&failure) => {
                self.leave_out(index, &self.reading.rule.records.to_string(), step, failure);
                None
            }
            Err(failure) if failure.deletes_nothing() => None,
            read => read?,
        };
        if is_skipped || slot.is_none() {
            self.go_behind(start, depth)?;
        }
        self.note(slot);
        Ok(())
    }

    /// Notes a record, if the rule does something with them when all are read.
    fn note(&mut self, record: Option<Slot>) {
        let rule = self.reading.rule;
        if rule.list.is_some() || rule.complete.is_some() {
            self.outcome.records.push(record);
        }
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

    /// Goes down to a place inside of the value that comes next, and leaves the reader in front of
    /// it; returns whether it is there.
    pub(super) fn descend(&mut self, way: &[String]) -> Read<bool> {
        let found = self.json.descend(way)?;
        self.depth += way.len();
        if self.depth > self.deepest { Ok(self.json.fault(FaultKind::Depth)?) } else { Ok(found) }
    }

    /// Reads a record inside of an element.
    fn within(&mut self, way: &[String], key: Option<Staged<'de>>) -> Read<Slot> {
        let (start, depth) = (self.json.at(), self.depth);
        let rule = self.reading.rule;
        let of_element = |field: &FieldNo| {
            let mut taken = rule.taken.iter();
            taken.any(|(known, from)| known == field && matches!(from, TakenFrom::Element(_)))
        };
        self.taken.retain(|(field, _)| !of_element(field));
        for (field, from) in &rule.taken {
            if let TakenFrom::Element(pointer) = from {
                let value = self.elsewhere(*field, pointer)?;
                self.taken.extend(value.map(|value| (*field, value)));
            }
        }
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
            self.back_to(start, depth)?;
            self.pass_element(way)?;
        }
        Ok(slot)
    }

    /// Passes over an element whose record was read, and counts what stands beside that.
    fn pass_element(&mut self, way: &[String]) -> Read<()> {
        let rule = self.reading.rule;
        let is_taken = |name: &str| {
            let first = |from: &TakenFrom| match from {
                TakenFrom::Element(pointer) => pointer.parts().first().is_some_and(|it| it == name),
                TakenFrom::Response(_) => false,
            };
            way[0] == name || rule.taken.iter().any(|(_, from)| first(from))
        };
        self.pass_entry(way, |name| (None, is_taken(name)))
    }

    /// Passes over an object of which what lies behind a way was read, and counts what stands beside
    /// that: `belongs` says of a member of which table's rows it is, if of one, and whether it was
    /// taken.
    pub(super) fn pass_entry(
        &mut self,
        way: &[String],
        belongs: impl Fn(&str) -> (Option<TableNo>, bool),
    ) -> Read<()> {
        if self.json.peek()? != Next::Object || way.len() > 1 {
            self.json.skip()?;
            return Ok(());
        }
        self.json.open();
        let mut first = true;
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?;
            let raw = self.json.skip()?;
            if let (table, false) = belongs(&name) {
                let way = if table.is_some() { "" } else { &self.element };
                let number = self.unplaced.number(table, way, Some(&name));
                self.unplaced.add(number, raw);
            }
        }
        Ok(())
    }

    #[cold]
    pub(super) fn at_way(&mut self, way: &[String], failure: Failure) -> Failure {
        way.iter().rev().for_each(|part| self.steps.push(PointerStep::Name(part.clone().into())));
        failure
    }

    /// Reads one of the records, whose bracket comes next.
    fn record(&mut self, key: Option<Staged<'de>>) -> Read<Slot> {
        self.repeats.begin_record();
        if self.reading.rule.format == Format::JsonApi {
            return self.resource(true);
        }
        let table = self.reading.rule.table;
        let mut building = self.new_building();
        if key.is_some() || !self.reading.given.is_empty() || !self.taken.is_empty() {
            let definition = self.schema.table(table);
            let given = self.reading.given.iter().chain(&self.taken);
            let given = given.filter(|(field, _)| !definition.id.contains(field));
            building.staged.extend(given.cloned());
            building.id = self.given_id(key);
        }
        self.object(table, None, true, building)
    }

    /// The parts of a record's id that stand outside of it.
    fn given_id(&self, key: Option<Staged<'de>>) -> IdParts<'de> {
        let definition = self.schema.table(self.reading.rule.table);
        let given = self.reading.given.iter().chain(&self.taken);
        let given = given.filter(|(field, _)| definition.id.contains(field));
        let key = key.and_then(|key| Some((*definition.id.first()?, key)));
        given.cloned().chain(key).collect()
    }
}
