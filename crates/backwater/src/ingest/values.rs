//! A field's value in a response, in the field's type.

use std::borrow::Cow;

use super::building::{Building, TYPE_NAME};
use super::json::{Next, Number};
use super::nested::{Failure, Read, Reader, misfit};
use super::place::PointerStep;
use crate::error::either;
use crate::schema::{
    ByKey, Epoch, FieldDef, FieldKind, FieldNo, IdType, OneOfDef, OtherTypes, Pointer, TableNo,
    whole,
};
use crate::table::{Cell, EntryFields, Slot, Staged, StagedEntry, TARGET, checked_text};
use crate::value::{Json, LONE_SURROGATE, RowId, Timestamp, has_lone_surrogate};

/// Whole numbers up to here have a binary64 of their own.
const EXACT: f64 = 9_007_199_254_740_992.0;

impl<'de> Reader<'_, 'de> {
    /// Reads a field's value, in the field's type.
    pub(super) fn value(&mut self, field: &FieldDef, is_id: bool) -> Read<Staged<'de>> {
        let value = match field.by() {
            Some(by) if self.json.peek()? == Next::Object => self.key_of(by)?,
            _ => self.plain_value(field, is_id)?,
        };
        if (field.required || !field.values.is_empty())
            && let Some(message) = value.misfit(field)
        {
            return Err(Failure::misfit(message));
        }
        Ok(value)
    }

    /// The key by which a link goes to the object that comes next.
    fn key_of(&mut self, by: &ByKey) -> Read<Staged<'de>> {
        let slot = self.linked(by.table, None)?;
        self.tx.lift_at(by.table, slot);
        Ok(Staged::of_cell(self.tx.state.table(by.table).cell(slot, by.field)).into_owned())
    }

    /// As [`Self::value`], the most common ways first.
    #[inline(always)]
    pub(super) fn plain_value(&mut self, field: &FieldDef, is_id: bool) -> Read<Staged<'de>> {
        match (self.json.peek()?, field.kind) {
            (Next::Text, FieldKind::Text) => {
                let text = self.json.text()?;
                storable(text).map(Staged::Text)
            }
            (Next::Number, FieldKind::Int) => match self.json.number()? {
                Number::Int(number) => Ok(Staged::Int(number)),
                number => self.number(number, field, is_id),
            },
            (Next::Object, FieldKind::Link(to)) => Ok(Staged::Link(self.linked(to, None)?)),
            _ => self.any_value(field, is_id),
        }
    }

    #[inline]
    fn any_value(&mut self, field: &FieldDef, is_id: bool) -> Read<Staged<'de>> {
        let next = self.json.peek()?;
        if next == Next::Null {
            self.json.word("null")?;
            return Ok(Staged::Null);
        }
        Ok(match (next, field.kind) {
            (_, FieldKind::Json) => Staged::Json(minified(kept(self.json.skip()?)?)),
            (_, FieldKind::Links(entries)) => self.links(entries)?,
            (Next::True, FieldKind::Bool) => {
                self.json.word("true")?;
                Staged::Bool(true)
            }
            (Next::False, FieldKind::Bool) => {
                self.json.word("false")?;
                Staged::Bool(false)
            }
            (Next::Object, FieldKind::Link(to)) => Staged::Link(self.linked(to, None)?),
            (Next::Array, FieldKind::Link(to)) => self.at_most_one(to, field)?,
            (Next::Text | Next::Number, FieldKind::Link(to)) => Staged::Link(self.bare(to, field)?),
            (Next::Text, _) => {
                let text = self.json.text()?;
                return self.text(text, field, is_id);
            }
            (Next::Number, _) => {
                let number = self.json.number()?;
                return self.number(number, field, is_id);
            }
            _ => return misfit(&self.found()?, &self.expected(field)),
        })
    }

    fn text(&mut self, text: Cow<'de, str>, field: &FieldDef, is_id: bool) -> Read<Staged<'de>> {
        match field.kind {
            FieldKind::Text => storable(text).map(Staged::Text),
            FieldKind::Timestamp => match text.parse::<Timestamp>() {
                Ok(time) => Ok(Staged::Timestamp(time)),
                Err(_) => match (field.epoch, whole(&text)) {
                    (Some(epoch), Some(number)) => self.time(Number::Int(number), epoch, field),
                    _ => misfit(&format!("string {text:?}"), &self.expected(field)),
                },
            },
            FieldKind::Int if is_id => match whole(&text) {
                Some(number) => Ok(Staged::Int(number)),
                None => misfit(&format!("string {text:?}"), "an id of type int"),
            },
            _ => misfit(&format!("string {text:?}"), &self.expected(field)),
        }
    }

    fn number(&mut self, number: Number, field: &FieldDef, is_id: bool) -> Read<Staged<'de>> {
        let whole = match number {
            Number::Int(number) => Some(number),
            Number::Float(number) if number.fract() == 0.0 && number.abs() <= EXACT => {
                Some(number as i64)
            }
            _ => None,
        };
        if let Some(epoch) = field.epoch {
            return self.time(number, epoch, field);
        }
        match (field.kind, number, whole) {
            (FieldKind::Float, Number::Int(number), _) => Ok(Staged::Float(number as f64)),
            (FieldKind::Float, Number::Large(number), _) => Ok(Staged::Float(number as f64)),
            (FieldKind::Float, Number::Float(number), _) => Ok(Staged::Float(number)),
            (FieldKind::Int, _, Some(number)) => Ok(Staged::Int(number)),
            // A number where a text is the id: its digits are the text.
            (FieldKind::Text, Number::Int(number), _) if is_id => {
                Ok(Staged::Text(number.to_string().into()))
            }
            (FieldKind::Int, Number::Large(_), _) => {
                misfit(&as_text(number), "a whole number of 64 bits")
            }
            _ => misfit(&as_text(number), &self.expected(field)),
        }
    }

    /// A time that is counted.
    fn time(&mut self, number: Number, epoch: Epoch, field: &FieldDef) -> Read<Staged<'de>> {
        let micros = match number {
            Number::Int(number) => number.checked_mul(epoch.micros()),
            Number::Float(number) => {
                let micros = (number * epoch.micros() as f64).round();
                (micros.abs() < i64::MAX as f64).then_some(micros as i64)
            }
            Number::Large(_) => None,
        };
        match micros.map(Timestamp::from_micros) {
            Some(Ok(time)) => Ok(Staged::Timestamp(time)),
            _ => misfit(&as_text(number), &self.expected(field)),
        }
    }

    /// A bare id of a row that a link points at.
    fn bare(&mut self, to: TableNo, field: &FieldDef) -> Read<Slot> {
        let id_type = self.schema.table(to).id_type();
        if self.json.peek()? == Next::Text {
            let text = self.json.text()?;
            return match id_type {
                IdType::Text => storable(text).map(|text| self.tx.refer(to, &[Cell::Text(&text)])),
                IdType::Int => match whole(&text) {
                    Some(number) => Ok(self.tx.refer(to, &[Cell::Int(number)])),
                    None => misfit(&format!("string {text:?}"), "an id of type int"),
                },
                IdType::Parts => self.part(to, RowId::from(&*text), field),
            };
        }
        match (self.json.number()?, id_type) {
            (Number::Int(number), IdType::Int) => Ok(self.tx.refer(to, &[Cell::Int(number)])),
            (Number::Int(number), IdType::Text) => {
                Ok(self.tx.refer(to, &[Cell::Text(&number.to_string())]))
            }
            (Number::Int(number), IdType::Parts) => self.part(to, RowId::Int(number), field),
            (number @ Number::Large(_), _) => misfit(&as_text(number), "a whole number of 64 bits"),
            (number, _) => misfit(&as_text(number), &self.expected(field)),
        }
    }

    /// A single value that is an id together with the row around it, or the whole id as a text.
    fn part(&mut self, to: TableNo, value: RowId, field: &FieldDef) -> Read<Slot> {
        let found = value.to_json().as_str().to_owned();
        if let RowId::Text(text) = &value
            && let Some(id) = Json::parse(text).ok().and_then(|json| RowId::from_json(&json).ok())
            && let Some(slot) = self.slot_of(to, id)
        {
            return Ok(slot);
        }
        match self.slot_with_part(to, value)? {
            Some(slot) => Ok(slot),
            None => misfit(&found, &self.expected(field)),
        }
    }

    /// A to-one link as an array: nothing, or one target, or the parts of an id.
    fn at_most_one(&mut self, to: TableNo, field: &FieldDef) -> Read<Staged<'de>> {
        let start = self.json.at();
        if self.schema.table(to).id_type() == IdType::Parts
            && let Ok(id) = Json::parse(self.json.skip()?).and_then(|json| RowId::from_json(&json))
            && let Some(slot) = self.slot_of(to, id)
        {
            return Ok(Staged::Link(slot));
        }
        self.json.go(start);
        self.open()?;
        let mut staged = Staged::Null;
        let mut count = 0;
        while self.json.element(count == 0)? {
            if count == 1 {
                let expected = self.expected(field);
                return misfit("an array of several elements", &expected);
            }
            let target = self.target(to, field);
            staged =
                Staged::Link(target.map_err(|failure| self.at(PointerStep::Index(0), failure))?);
            count += 1;
        }
        self.depth -= 1;
        Ok(staged)
    }

    /// One target of a link to one table.
    fn target(&mut self, to: TableNo, field: &FieldDef) -> Read<Slot> {
        match self.json.peek()? {
            Next::Object => self.linked(to, None),
            Next::Text | Next::Number => self.bare(to, field),
            Next::Array if self.schema.table(to).id_type() == IdType::Parts => {
                match self.at_most_one(to, field)? {
                    Staged::Link(slot) => Ok(slot),
                    _ => misfit("an empty array", &self.expected(field)),
                }
            }
            _ => misfit(&self.found()?, &self.expected(field)),
        }
    }

    /// The targets of a to-many link: an array of them, or one alone.
    fn links(&mut self, entries: TableNo) -> Read<Staged<'de>> {
        let schema = self.schema;
        let field = schema.table(entries).field(TARGET);
        if self.json.peek()? != Next::Array {
            return Ok(Staged::Links(self.entry(entries, field)?.into_iter().collect()));
        }
        self.open()?;
        let (mut targets, mut whole, mut index) = (Vec::new(), true, 0);
        while self.json.element(index == 0)? {
            index += 1;
            if self.is_unresolved()? {
                self.json.word("null")?;
                whole = false;
                continue;
            }
            let entry = self.entry(entries, field);
            let entry = entry.map_err(|failure| self.at(PointerStep::Index(index - 1), failure))?;
            targets.extend(entry);
        }
        self.depth -= 1;
        Ok(if whole { Staged::Links(targets) } else { Staged::Absent })
    }

    /// One entry of a to-many link; none if the link leaves it out.
    fn entry(&mut self, entries: TableNo, field: &FieldDef) -> Read<Option<StagedEntry>> {
        let record = field.link.as_ref().map_or(&[][..], |link| &link.record);
        if record.is_empty() {
            return Ok(self.bare_target(entries, field)?.map(StagedEntry::from));
        }
        let (start, depth) = (self.json.at(), self.depth);
        let target = match self.json.peek()? == Next::Object && self.descend(record)? {
            true => self.bare_target(entries, field),
            false => {
                self.back_to(start, depth)?;
                let expected = format!("an object with the target at {:?}", record.join("/"));
                return misfit(&self.found()?, &expected);
            }
        };
        let target = target.map_err(|failure| self.at_way(record, failure))?;
        self.back_to(start, depth)?;
        let fields = self.entry_fields(entries)?;
        Ok(target.map(|target| StagedEntry { fields, ..target.into() }))
    }

    /// The link's own fields in the object that comes next.
    pub(super) fn entry_fields(&mut self, entries: TableNo) -> Read<Option<EntryFields>> {
        let definition = self.schema.table(entries);
        let mut building = self.new_building();
        self.json.peek()?;
        self.members(entries, &mut building, None)?;
        let required = { definition.entry_fields() }.find(|field| {
            let is_said = building.staged.iter().any(|(said, _)| said == field);
            definition.field(*field).required && !is_said
        });
        if let Some(field) = required {
            let name = definition.field(field).from.to_string();
            return misfit(&format!("no {name:?}"), "every entry of this link to have it");
        }
        let own = building.staged.drain(..).map(|(field, staged)| (field, staged.into_owned()));
        let fields = (definition.entry_fields().len() > 0).then(|| own.collect());
        self.keep(building);
        Ok(fields)
    }

    /// The same of what is not inside of anything.
    fn bare_target(&mut self, entries: TableNo, field: &FieldDef) -> Read<Option<(TableNo, Slot)>> {
        match (field.kind, field.one_of()) {
            (FieldKind::Link(to), _) => Ok(Some((to, self.target(to, field)?))),
            (_, Some(one_of)) if self.json.peek()? == Next::Object => {
                self.typed_object(one_of, (entries, None))
            }
            _ => misfit(&self.found()?, &self.expected(field)),
        }
    }

    /// A link to one of several tables: an object that names its type, or an id beside which the
    /// type is given.
    pub(super) fn one_of(
        &mut self,
        table: TableNo,
        number: FieldNo,
        building: &mut Building<'de>,
    ) -> Read<()> {
        let field = self.schema.table(table).field(number);
        let Some(one_of) = field.one_of() else { return Ok(()) };
        building.pending.retain(|(other, _)| *other != number);
        let staged = match self.json.peek()? {
            Next::Null => {
                self.json.word("null")?;
                if let Some(message) = Staged::Null.misfit(field) {
                    return Err(Failure::misfit(message));
                }
                Staged::Null
            }
            Next::Object => match self.typed_object(one_of, (table, Some(&field.from)))? {
                Some((to, slot)) => Staged::OneOf(to, slot),
                None => Staged::Null,
            },
            Next::Text => {
                let text = self.json.text()?;
                building.pending.push((number, RowId::from(&*text)));
                return Ok(());
            }
            Next::Number => match self.json.number()? {
                Number::Int(id) => {
                    building.pending.push((number, RowId::Int(id)));
                    return Ok(());
                }
                other => return misfit(&as_text(other), &self.expected(field)),
            },
            _ => return misfit(&self.found()?, &self.expected(field)),
        };
        building.staged.push((number, staged));
        Ok(())
    }

    /// The type that the object which comes next names by a member, or as GraphQL has it; the reader
    /// stays in front of it.
    pub(super) fn type_name(&mut self, member: &str) -> Read<Option<Cow<'de, str>>> {
        let start = self.json.at();
        self.json.open();
        let (mut type_name, mut first) = (None, true);
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?;
            let tells = *name == *member || (type_name.is_none() && *name == *TYPE_NAME);
            if tells && self.json.peek()? == Next::Text {
                type_name = Some(self.json.text()?);
            } else {
                self.json.skip()?;
            }
        }
        self.json.go(start);
        Ok(type_name)
    }

    /// An object that names its table by one of its members; `None` if it names another type, and
    /// the link leaves such out. Then it counts in that table, at that place of its rows.
    fn typed_object(
        &mut self,
        one_of: &OneOfDef,
        (table, from): (TableNo, Option<&Pointer>),
    ) -> Read<Option<(TableNo, Slot)>> {
        let type_name = self.type_name(&one_of.type_member)?;
        let to = one_of.table_of(type_name.as_deref());
        if to.is_none() && one_of.others == OtherTypes::Skipped {
            let way = from.map(Pointer::to_string).unwrap_or_default();
            let number = self.unplaced.number(Some(table), &way, None);
            let raw = self.json.skip()?;
            self.unplaced.add(number, raw);
            return Ok(None);
        }
        let Some(to) = to else {
            let member = one_of.type_member.to_string();
            let found = type_name
                .map_or("no such member".to_owned(), |type_name| format!("string {type_name:?}"));
            let expected = format!("{} to tell the table of this object", either(&one_of.names()));
            let failure = Failure::misfit(format!("found {found}, expected {expected}"));
            return Err(self.at(PointerStep::Name(member.into()), failure));
        };
        Ok(Some((to, self.linked(to, Some(&one_of.type_member))?)))
    }

    /// The slot of an id, in whatever type it came; `None` if it is no id of the table.
    pub(super) fn slot_of(&mut self, table: TableNo, id: RowId) -> Option<Slot> {
        let id = self.schema.fitted(table, id)?;
        self.tx.state.refer_id(table, &id).ok()
    }

    /// What a field takes.
    fn expected(&self, field: &FieldDef) -> String {
        match field.kind {
            FieldKind::Timestamp => {
                match Epoch::NAMES.iter().find(|it| field.epoch == Some(it.1)) {
                    Some((unit, _)) => {
                        format!("a time as a number of {unit} since 1970, or as in RFC 3339")
                    }
                    None => "a time of RFC 3339, such as \"2031-05-04T09:40:00+02:00\"".to_owned(),
                }
            }
            FieldKind::Link(to) => {
                format!("a \"{}\" object, its id, or null", self.schema.table(to).name)
            }
            FieldKind::OneOf => {
                let names = field.one_of().map_or_else(Vec::new, OneOfDef::names);
                format!("an object that is {}, its id, or null", either(&names))
            }
            _ => self.schema.kind_of(field),
        }
    }

    /// What was found, for "found …".
    pub(super) fn found(&mut self) -> Read<String> {
        Ok(match self.json.peek()? {
            Next::Object => "an object".to_owned(),
            Next::Array => "an array".to_owned(),
            Next::Text => format!("string {:?}", self.json.text()?),
            Next::Number => as_text(self.json.number()?),
            Next::True => "boolean `true`".to_owned(),
            Next::False => "boolean `false`".to_owned(),
            Next::Null => "null".to_owned(),
        })
    }
}

/// A text that a field can hold. Only an escape can make one that it cannot: a borrowed text has
/// none.
#[inline]
fn storable(text: Cow<'_, str>) -> Read<Cow<'_, str>> {
    if let Cow::Owned(text) = &text
        && let Err(error) = checked_text(text)
    {
        return Err(Failure::misfit(error.to_string()));
    }
    Ok(text)
}

fn as_text(number: Number) -> String {
    match number {
        Number::Int(number) => format!("integer `{number}`"),
        Number::Large(number) => format!("integer `{number}`"),
        Number::Float(number) => format!("number `{number}`"),
    }
}

/// A JSON text that is to be kept, and so must be one that every reader takes.
pub(super) fn kept(raw: &str) -> Read<&str> {
    match has_lone_surrogate(raw) {
        true => Err(Failure::misfit(LONE_SURROGATE.to_owned())),
        false => Ok(raw),
    }
}

/// A JSON text without the white space between its tokens, borrowed if there is none.
pub(super) fn minified(raw: &str) -> Cow<'_, str> {
    match raw.bytes().any(|byte| matches!(byte, b' ' | b'\n' | b'\r' | b'\t')) {
        false => Cow::Borrowed(raw),
        true => Cow::Owned(Json::from_raw(raw).as_str().to_owned()),
    }
}
