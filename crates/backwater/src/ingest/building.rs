//! An object on its way into a row: which member is which field, and which row it is.

use std::borrow::Cow;

use smallvec::SmallVec;

use super::json::{JsonReader, Next};
use super::nested::{Around, Failure, Read, Reader, misfit};
use super::place::PointerStep;
use super::unplaced::UnplacedNo;
use crate::error::{either, list, nearest};
use crate::schema::{
    Branch, FieldKind, FieldNo, Lookup, OtherTypes, TableDef, TableNo, Unknown, whole,
};
use crate::table::{Cell, IndexKey, ONLY, Slot};
use crate::table::{Staged, StagedRow};
use crate::value::{RowId, write_json_text};

/// The member by which GraphQL gives an object's type.
pub(crate) const TYPE_NAME: &str = "__typename";

/// What a member of an object is.
#[derive(Debug, Clone, Copy)]
pub(super) enum MemberUse {
    /// A field whose value is taken as it is.
    Plain(FieldNo),
    /// A field that has conditions on its value, or is part of the id.
    Field(FieldNo),
    /// It holds several fields, or fields deeper inside.
    Deep,
    /// It is no field; its number among such members.
    Unknown(UnplacedNo),
}

impl MemberUse {
    #[inline]
    fn of(definition: &TableDef, member: &Branch<Lookup>) -> Self {
        match member.only_field() {
            None => MemberUse::Deep,
            Some(field) if definition.takes_as_it_comes(field) => MemberUse::Plain(field),
            Some(field) => MemberUse::Field(field),
        }
    }
}

/// The names of the members of a table's last object as they were spelled, colon and all, and what
/// they are: objects of one kind have them in one order.
#[derive(Default)]
pub(super) struct MemberOrder<'de> {
    /// Whether it was found to be another order than that of the schema.
    is_wanted: bool,
    members: Vec<(&'de str, MemberUse)>,
}

impl<'de> MemberOrder<'de> {
    #[inline]
    fn note(&mut self, place: usize, member: (&'de str, MemberUse)) {
        if let Some(last) = self.members.get_mut(place) {
            *last = member;
        } else if self.is_wanted && self.members.len() == place {
            self.members.push(member);
        }
    }
}

/// The parts of an id that are known.
pub(super) type IdParts<'de> = SmallVec<[(FieldNo, Staged<'de>); 1]>;

/// What was read of an object.
#[derive(Default)]
pub(super) struct Building<'de> {
    pub(super) staged: StagedRow<'de>,
    pub(super) id: IdParts<'de>,
    /// Whether it says that its row was deleted.
    pub(super) gone: bool,
    /// Whether what it says is older than what is known of its row.
    pub(super) older: bool,
    /// Bare ids that a field beside them says the table of.
    pub(super) pending: Vec<(FieldNo, RowId)>,
    /// Fields that may be in several places, and where they were found; `None` is the best place.
    ranks: SmallVec<[(FieldNo, Option<u8>); 2]>,
    /// Members to be kept that are no field.
    unknown: Vec<(Cow<'de, str>, &'de str)>,
}

impl<'de> Building<'de> {
    /// Empties it for the next object.
    pub(super) fn clear(&mut self) {
        self.staged.clear();
        self.id.clear();
        self.pending.clear();
        self.unknown.clear();
        self.ranks.clear();
        self.gone = false;
        self.older = false;
    }

    /// Whether a field is to be taken from one of its places, the best being `None`; notes that it
    /// is.
    fn wants(&mut self, field: FieldNo, rank: Option<u8>) -> bool {
        match self.ranks.iter_mut().find(|(known, _)| *known == field) {
            Some((_, known)) => {
                let is_wanted = rank < *known;
                *known = rank.min(*known);
                is_wanted
            }
            None => {
                self.ranks.push((field, rank));
                true
            }
        }
    }

    fn staged(&self, field: FieldNo) -> Option<&Staged<'de>> {
        self.staged.iter().rev().find(|(other, _)| *other == field).map(|(_, staged)| staged)
    }
}

impl<'de> Reader<'_, 'de> {
    /// Reads an object's members.
    #[inline]
    pub(super) fn members(
        &mut self,
        table: TableNo,
        building: &mut Building<'de>,
        type_member: Option<&str>,
    ) -> Read<()> {
        self.open()?;
        let schema = self.schema;
        let definition = schema.table(table);
        let (mut count, mut next) = (0, 0);
        while self.json.member(count == 0)? {
            let (found, spelled) = self.member(table, count, &mut next)?;
            count += 1;
            match found {
                _ if self.is_unresolved()? => self.json.word("null")?,
                MemberUse::Plain(field) => match self.plain_value(definition.field(field), false) {
                    Ok(value) => building.staged.push((field, value)),
                    Err(failure) => return Err(self.at(PointerStep::Field(table, field), failure)),
                },
                MemberUse::Field(field) => self.field(table, field, building)?,
                MemberUse::Deep => {
                    let name = PointerStep::spelled(spelled);
                    if let Some(member) = definition.members.get(name.name()) {
                        self.deep(table, member, building)
                            .map_err(|failure| self.at(name, failure))?;
                    }
                }
                MemberUse::Unknown(number) => self
                    .unknown(table, (spelled, number), building, type_member)
                    .map_err(|failure| self.at(PointerStep::spelled(spelled), failure))?,
            }
        }
        self.depth -= 1;
        Ok(())
    }

    /// Takes a member's name: what it is, by what the member in its place was in the last object of
    /// the table, or by the one that comes next in the schema; and how it was spelled.
    #[inline]
    fn member(
        &mut self,
        table: TableNo,
        place: usize,
        next: &mut usize,
    ) -> Read<(MemberUse, &'de str)> {
        let known = self.orders.get(table.index()).and_then(|order| order.members.get(place));
        if let Some((spelled, found)) = known
            && self.json.take(spelled)
        {
            return Ok((*found, spelled));
        }
        let (schema, start) = (self.schema, self.json.at());
        let (definition, aliases) = (schema.table(table), &self.reading.rule.aliases);
        let expected = definition.members.spelled(*next).filter(|_| aliases.is_empty());
        let found = match expected {
            Some((spelled, member)) if self.json.take(spelled) => {
                *next += 1;
                MemberUse::of(definition, member)
            }
            _ => {
                self.learn_order(table);
                let name = self.json.name()?;
                let mut aliases = aliases.iter();
                let alias = aliases.find(|(of, alias, _)| *of == table && **alias == *name);
                match (alias, definition.members.entry(&name)) {
                    (Some((.., field)), _) => MemberUse::Field(*field),
                    (None, None) => {
                        MemberUse::Unknown(self.unplaced.number(Some(table), "", Some(&name)))
                    }
                    (None, Some((place, member))) => {
                        *next = place + 1;
                        MemberUse::of(definition, member)
                    }
                }
            }
        };
        let spelled = self.json.since(start);
        if let Some(order) = self.orders.get_mut(table.index()) {
            order.note(place, (spelled, found));
        }
        Ok((found, spelled))
    }

    /// From now on notes the order of a table's members, which is not that of the schema.
    #[cold]
    fn learn_order(&mut self, table: TableNo) {
        if self.is_short {
            return;
        }
        if self.orders.is_empty() {
            self.orders.resize_with(self.schema.tables.len(), MemberOrder::default);
        }
        self.orders[table.index()].is_wanted = true;
    }

    /// Reads the value of a field of the table.
    fn field(&mut self, table: TableNo, field: FieldNo, building: &mut Building<'de>) -> Read<()> {
        self.note_place(table, field, building);
        self.take(table, field, building)
            .map_err(|failure| self.at(PointerStep::Field(table, field), failure))
    }

    /// Notes that a field is in its best place, if it may be in several.
    #[inline]
    fn note_place(&self, table: TableNo, field: FieldNo, building: &mut Building<'de>) {
        if !self.schema.table(table).field(field).also_from.is_empty() {
            building.wants(field, None);
        }
    }

    #[inline]
    fn take(&mut self, table: TableNo, field: FieldNo, building: &mut Building<'de>) -> Read<()> {
        let definition = self.schema.table(table);
        let is_id = definition.id.contains(&field);
        if definition.field(field).kind == FieldKind::OneOf {
            return self.one_of(table, field, building);
        }
        let value = self.value(definition.field(field), is_id)?;
        if !is_id {
            // A value that the server failed to give counts as absent.
            if !matches!(value, Staged::Absent) {
                building.staged.push((field, value));
            }
            return Ok(());
        }
        if let Staged::Null | Staged::Absent = value {
            let expected = format!("the id of a \"{}\" object", definition.name);
            let found = if matches!(value, Staged::Null) { "null" } else { "an object without it" };
            return misfit(found, &expected);
        }
        building.id.retain(|(other, _)| *other != field);
        building.id.push((field, value));
        if building.id.len() == definition.id.len() {
            let slot = self.row_of(definition, table, &building.id);
            if let Some(last) = self.around.last_mut() {
                last.slot = Some(slot);
            }
        }
        Ok(())
    }

    /// The slot of a row whose id is complete.
    #[inline]
    fn row_of(
        &mut self,
        definition: &TableDef,
        table: TableNo,
        id: &[(FieldNo, Staged<'de>)],
    ) -> Slot {
        if let [(_, only)] = id {
            let (line, key) = (self.line.filter(|_| table == self.reading.rule.table), only.cell());
            let known = self.ahead.slot(line, &key);
            return known.unwrap_or_else(|| self.tx.refer(table, &[key]));
        }
        let part = |field| id.iter().find(|(other, _)| *other == field);
        let key: IndexKey<'_> = definition
            .id
            .iter()
            .map(|field| part(*field).map_or(Cell::Absent, |(_, staged)| staged.cell()))
            .collect();
        self.tx.refer(table, &key)
    }

    /// Reads a member that holds several fields, or fields deeper inside.
    fn deep(
        &mut self,
        table: TableNo,
        member: &Branch<Lookup>,
        building: &mut Building<'de>,
    ) -> Read<()> {
        let start = self.json.at();
        for sought in &member.here {
            self.json.go(start);
            match sought {
                Lookup::Field(field) => {
                    self.note_place(table, *field, building);
                    self.take(table, *field, building)?;
                }
                Lookup::Also(field, rank) if building.wants(*field, Some(*rank)) => {
                    self.take(table, *field, building)?;
                }
                Lookup::Also(..) | Lookup::Target => drop(self.json.skip()?),
                Lookup::Tombstone => {
                    building.gone = !matches!(self.json.peek()?, Next::False | Next::Null);
                    self.json.skip()?;
                }
            }
        }
        if member.inside.is_empty() {
            return Ok(());
        }
        self.json.go(start);
        match self.json.peek()? {
            // What lies behind a null is null.
            Next::Null => {
                self.json.word("null")?;
                let inside = member.inside.iter().flat_map(|(_, inside)| inside.all());
                let fields = inside.filter_map(|sought| match sought {
                    Lookup::Field(field) => Some(field),
                    Lookup::Also(..) | Lookup::Tombstone | Lookup::Target => None,
                });
                for field in fields {
                    self.note_place(table, field, building);
                    let staged = Staged::Null;
                    if let Some(message) = staged.misfit(self.schema.table(table).field(field)) {
                        return Err(Failure::misfit(message));
                    }
                    building.staged.push((field, staged));
                }
                Ok(())
            }
            Next::Object => {
                self.open()?;
                let mut first = true;
                while self.json.member(first)? {
                    first = false;
                    let name = self.json.name()?;
                    match member.inside.get(&name) {
                        Some(member) => self
                            .deep(table, member, building)
                            .map_err(|failure| self.at(PointerStep::Name(name), failure))?,
                        None => {
                            let number =
                                self.unplaced.number(Some(table), &member.way, Some(&name));
                            let raw = self.json.skip()?;
                            self.unplaced.add(number, raw);
                        }
                    }
                }
                self.depth -= 1;
                Ok(())
            }
            Next::Array => {
                self.open()?;
                let mut index = 0;
                while self.json.element(index == 0)? {
                    match member.inside.get(&index.to_string()) {
                        Some(member) => self
                            .deep(table, member, building)
                            .map_err(|failure| self.at(PointerStep::Index(index), failure))?,
                        None => drop(self.json.skip()?),
                    }
                    index += 1;
                }
                self.depth -= 1;
                Ok(())
            }
            _ => {
                let names: Vec<&str> = member.inside.iter().map(|(name, _)| name).collect();
                let expected = format!("an object or array with {}, or null", list(&names));
                misfit(&self.found()?, &expected)
            }
        }
    }

    /// Reads a member that is no field.
    fn unknown(
        &mut self,
        table: TableNo,
        (spelled, number): (&'de str, UnplacedNo),
        building: &mut Building<'de>,
        type_member: Option<&str>,
    ) -> Read<()> {
        let definition = self.schema.table(table);
        let raw = self.json.skip()?;
        if definition.unknown == Unknown::Ignored {
            // What names the table has said what it has to say.
            let tells = |name: &str| PointerStep::spelled(spelled).name() == name;
            if !type_member.is_some_and(tells) {
                self.unplaced.add(number, raw);
            }
            return Ok(());
        }
        let Ok(name) = JsonReader::new(spelled).name() else { return Ok(()) };
        match definition.unknown {
            _ if type_member == Some(&*name) || *name == *TYPE_NAME => {}
            Unknown::Ignored => {}
            Unknown::Kept(_) => building.unknown.push((name, super::values::kept(raw)?)),
            Unknown::Refused => {
                let known: Vec<&str> = definition.members.iter().map(|(name, _)| name).collect();
                let expected = format!("only the fields of \"{}\"", definition.name);
                let help = nearest(&name, known.iter().copied());
                let hint = if help.is_empty() { help } else { format!("; {help}") };
                return misfit(&format!("the unknown member {name:?}"), &(expected + &hint));
            }
        }
        Ok(())
    }

    /// Ends an object: gives the slot of its row, and leaves what is to be merged into it.
    #[inline]
    pub(super) fn finish(
        &mut self,
        table: TableNo,
        building: &mut Building<'de>,
        record: bool,
    ) -> Read<Slot> {
        let definition = self.schema.table(table);
        let slot = self.own_slot(definition, table, building, record)?;
        self.tx.lift_at(table, slot);
        if definition.checks.one_of {
            self.settle_types(definition, table, slot, building)?;
        }
        if let Unknown::Kept(field) = definition.unknown
            && !building.unknown.is_empty()
        {
            let before = match self.tx.state.table(table).cell(slot, field) {
                Cell::Json(text) => Some(text),
                _ => None,
            };
            let kept = overlay(before, &building.unknown);
            building.staged.push((field, Staged::Json(kept.into())));
        }
        // A deletion need not say more than which row it is of.
        if record && definition.checks.required && !self.deletes {
            for field in definition.field_numbers() {
                let required = definition.field(field).required;
                let there = definition.id.contains(&field) || building.staged(field).is_some();
                if required && !there {
                    let name = format!("{}", definition.field(field).from);
                    let expected = format!("every \"{}\" record to have it", definition.name);
                    return misfit(&format!("no {name:?}"), &expected);
                }
            }
        }
        if let Some(version) = definition.version {
            building.older = self.tx.leave_out_older(table, slot, version, &mut building.staged);
        }
        Ok(slot)
    }

    /// The slot of the object's row; parts of the id that it does not have itself are the rows
    /// around it.
    #[inline]
    fn own_slot(
        &mut self,
        definition: &TableDef,
        table: TableNo,
        building: &mut Building<'de>,
        record: bool,
    ) -> Read<Slot> {
        if definition.is_one_row() {
            return Ok(ONLY);
        }
        let own = self.around.len() - 1;
        if let Some(slot) = self.around[own].slot {
            return Ok(slot);
        }
        match self.complete(definition, &mut building.id, own) {
            Ok(()) => Ok(self.row_of(definition, table, &building.id)),
            Err(failure) if failure.is_misfit() => {
                let deletes = building.gone || (record && self.deletes);
                let slot = self.slot_by_key((definition, table), building, deletes);
                let slot = slot.unwrap_or(Err(failure))?;
                self.around[own].slot = Some(slot);
                Ok(slot)
            }
            failed => failed.map(|()| ONLY),
        }
    }

    /// The slot of the row that has the unique key which an object without an id has; `None` if it
    /// has none.
    #[cold]
    fn slot_by_key(
        &self,
        (definition, table): (&TableDef, TableNo),
        building: &Building<'de>,
        deletes: bool,
    ) -> Option<Read<Slot>> {
        let part = |field: &FieldNo| {
            let id = building.id.iter().find(|(other, _)| other == field).map(|(_, part)| part);
            let cell = building.staged(*field).or(id).map(Staged::cell);
            cell.filter(|cell| !matches!(cell, Cell::Absent | Cell::Null))
        };
        let keys = definition.unique.iter();
        let keys = keys
            .filter_map(|key| Some((key, key.iter().map(part).collect::<Option<IndexKey<'_>>>()?)));
        let keys: Vec<_> = keys.collect();
        let (named, _) = keys.first()?;
        let state = &self.tx.state;
        if let Some(slot) = keys.iter().find_map(|(key, cells)| state.row_by_key(table, key, cells))
        {
            return Some(Ok(slot));
        }
        if deletes {
            return Some(Err(Failure::nothing_to_delete()));
        }
        let names: Vec<&str> = named.iter().map(|field| &*definition.field(*field).name).collect();
        let found = format!("no id, and no row that has this {}", names.join(" and "));
        Some(misfit(&found, &format!("a \"{}\" object that names its row", definition.name)))
    }

    /// Adds the parts that an id lacks and that the rows around it are.
    fn complete(&mut self, definition: &TableDef, id: &mut IdParts<'de>, own: usize) -> Read<()> {
        for field in &definition.id {
            if id.iter().any(|(other, _)| other == field) {
                continue;
            }
            let part = definition.field(*field);
            let around = match part.kind {
                FieldKind::Link(to) => {
                    self.around[..own].iter().rposition(|around| around.table == to)
                }
                _ => None,
            };
            let slot = match around {
                Some(around) => self.slot_ahead(around)?,
                None => None,
            };
            match slot {
                Some(slot) => id.push((*field, Staged::Link(slot))),
                None => {
                    let found = format!("no such member {:?}", part.from.last());
                    let expected = format!("the id of a \"{}\" object", definition.name);
                    return misfit(&found, &expected);
                }
            }
        }
        Ok(())
    }

    /// The slot of a row of which one part of the id is given, the others being the rows around.
    pub(super) fn slot_with_part(&mut self, table: TableNo, value: RowId) -> Read<Option<Slot>> {
        let definition = self.schema.table(table);
        let own = definition.id.iter().filter(|field| match definition.field(**field).kind {
            FieldKind::Link(to) => self.around.iter().all(|around| around.table != to),
            _ => true,
        });
        let own: Vec<FieldNo> = own.copied().collect();
        let [field] = *own else { return Ok(None) };
        let staged = match (definition.field(field).kind, &value) {
            (FieldKind::Int, RowId::Int(number)) => Staged::Int(*number),
            (FieldKind::Int, RowId::Text(text)) => match whole(text) {
                Some(number) => Staged::Int(number),
                None => return Ok(None),
            },
            (FieldKind::Text, RowId::Int(number)) => Staged::Text(number.to_string().into()),
            (FieldKind::Text, RowId::Text(text)) => Staged::Text(text.to_string().into()),
            _ => return Ok(None),
        };
        if let Some(message) = staged.misfit(definition.field(field)) {
            return Err(Failure::misfit(message));
        }
        let mut id = SmallVec::from_iter([(field, staged)]);
        self.complete(definition, &mut id, self.around.len())?;
        Ok(Some(self.row_of(definition, table, &id)))
    }

    /// The slot of an object whose members are not all read yet: its id may follow.
    fn slot_ahead(&mut self, around: usize) -> Read<Option<Slot>> {
        self.used = self.used.min(around);
        let Around { table, start, slot } = self.around[around];
        if slot.is_some() {
            return Ok(slot);
        }
        let (here, depth) = (self.json.at(), self.depth);
        self.json.go(start);
        let slot = self.slot_read_ahead(around, table, IdParts::new());
        self.depth = depth;
        self.json.go(here);
        let slot = slot?;
        self.around[around].slot = Some(slot);
        Ok(Some(slot))
    }

    /// The slot of the object that comes next, of which nothing but the id is read.
    pub(super) fn slot_alone(&mut self, given: IdParts<'de>) -> Read<Slot> {
        let around = self.around.len() - 1;
        let table = self.around[around].table;
        self.slot_read_ahead(around, table, given)
    }

    fn slot_read_ahead(
        &mut self,
        around: usize,
        table: TableNo,
        mut id: IdParts<'de>,
    ) -> Read<Slot> {
        let definition = self.schema.table(table);
        self.json.peek()?;
        self.json.open();
        let mut first = true;
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?;
            let field = definition.members.get(&name).and_then(Branch::only_field);
            match field.filter(|field| definition.id.contains(field)) {
                Some(field) => {
                    let value = self.value(definition.field(field), true)?;
                    id.retain(|(other, _)| *other != field);
                    id.push((field, value));
                }
                None => drop(self.json.skip()?),
            }
        }
        self.complete(definition, &mut id, around)?;
        if id.iter().any(|(_, part)| matches!(part, Staged::Null | Staged::Absent)) {
            return misfit("null", &format!("the id of a \"{}\" object", definition.name));
        }
        Ok(self.row_of(definition, table, &id))
    }

    /// A link to one of several tables and the field that says to which are written together.
    fn settle_types(
        &mut self,
        definition: &TableDef,
        table: TableNo,
        slot: Slot,
        building: &mut Building<'de>,
    ) -> Read<()> {
        for (field, id) in std::mem::take(&mut building.pending) {
            let Some(one_of) = definition.field(field).one_of() else { continue };
            let type_name = match building.staged(one_of.type_field) {
                Some(Staged::Text(name)) => Some(name.to_string()),
                Some(_) => None,
                None => match self.tx.state.table(table).cell(slot, one_of.type_field) {
                    Cell::Text(name) => Some(name.to_owned()),
                    _ => None,
                },
            };
            let to = type_name.as_deref().and_then(|name| one_of.table_of(Some(name)));
            let skips = one_of.others == OtherTypes::Skipped;
            if to.is_none() && skips && type_name.is_some() {
                let way = definition.field(field).from.to_string();
                let number = self.unplaced.number(Some(table), &way, None);
                self.unplaced.add(number, "an id");
                building.staged.push((field, Staged::Null));
                continue;
            }
            let Some(to) = to else {
                let (type_from, from) =
                    (&definition.field(one_of.type_field).from, &definition.field(field).from);
                let found = type_name
                    .map_or("nothing".to_owned(), |type_name| format!("string {type_name:?}"));
                let expected = format!(
                    "{} to say at which table {:?} points",
                    either(&one_of.names()),
                    from.to_string()
                );
                let failure = Failure::misfit(format!("found {found}, expected {expected}"));
                return Err(self.at(PointerStep::Name(type_from.last().to_owned().into()), failure));
            };
            let found = id.to_json();
            let Some(target) = self.slot_of(to, id) else {
                let expected = self.schema.id_form(to);
                let message = format!("found {}, expected {expected}", found.as_str());
                let failure = Failure::misfit(message);
                return Err(self.at(PointerStep::Field(table, field), failure));
            };
            building.staged.push((field, Staged::OneOf(to, target)));
        }
        for field in definition.field_numbers() {
            let Some(one_of) = definition.field(field).one_of() else { continue };
            let name = match building.staged(field) {
                Some(Staged::OneOf(to, _)) => Some(one_of.name(*to).to_string()),
                _ => None,
            };
            let staged = building.staged(field).is_some();
            building.staged.retain(|(other, _)| *other != one_of.type_field);
            if staged {
                let type_name = name.map_or(Staged::Null, |name| Staged::Text(name.into()));
                building.staged.push((one_of.type_field, type_name));
            }
        }
        Ok(())
    }
}

/// The members of a JSON object with others put over them.
fn overlay(before: Option<&str>, over: &[(Cow<'_, str>, &str)]) -> String {
    let mut members: Vec<(Cow<'_, str>, Cow<'_, str>)> = Vec::new();
    let mut put = |name: Cow<'_, str>, raw: Cow<'_, str>| match members
        .iter_mut()
        .find(|(known, _)| *known == name)
    {
        Some(member) => member.1 = raw.into_owned().into(),
        None => members.push((name.into_owned().into(), raw.into_owned().into())),
    };
    // A field that holds something else than an object is replaced.
    if let Some(text) = before {
        let mut json = JsonReader::new(text);
        if json.peek() == Ok(Next::Object) {
            json.open();
            let mut first = true;
            while json.member(first) == Ok(true) {
                first = false;
                let (Ok(name), Ok(raw)) = (json.name(), json.skip()) else { break };
                put(name, raw.into());
            }
        }
    }
    over.iter().for_each(|(name, raw)| put(name.clone(), super::values::minified(raw)));
    let mut out = String::from("{");
    for (number, (name, raw)) in members.iter().enumerate() {
        out.push_str(if number == 0 { "" } else { "," });
        write_json_text(&mut out, name);
        out.push(':');
        out.push_str(raw);
    }
    out + "}"
}
