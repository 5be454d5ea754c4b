//! JSON:API 1.1 documents: resources with attributes and relationships, primary and included.

use super::building::Building;
use super::json::Next;
use super::nested::{Around, Failure, Read, Reader, misfit};
use super::place::PointerStep;
use super::resource::{Identifier, ResourceMember};
use crate::error::either;
use crate::schema::{
    Branch, FieldDef, FieldKind, FieldNo, IdType, OtherTypes, TableDef, TableNo, Unknown, whole,
};
use crate::table::{Cell, Slot, TARGET};
use crate::table::{EntryFields, Staged, StagedEntry};

impl<'de> Reader<'_, 'de> {
    /// Reads the resources that a document includes beside its primary data.
    pub(super) fn included(&mut self) -> Read<()> {
        if self.json.peek()? != Next::Array {
            return misfit(&self.found()?, "an array of resources");
        }
        self.open()?;
        let mut index = 0;
        while self.json.element(index == 0)? {
            if self.json.peek()? == Next::Object {
                self.resource(false)
                    .map_err(|failure| self.at(PointerStep::Index(index), failure))?;
            } else {
                let misfit = misfit(&self.found()?, "a resource");
                return misfit.map_err(|failure| self.at(PointerStep::Index(index), failure));
            }
            index += 1;
        }
        self.depth -= 1;
        Ok(())
    }

    /// A document of errors has no data.
    pub(super) fn refused(&mut self) -> Read<()> {
        let errors: serde_json::Value = serde_json::from_str(self.json.skip()?).unwrap_or_default();
        let messages = errors.as_array().into_iter().flatten().map(|error| {
            let text = |name: &str| error.get(name).and_then(serde_json::Value::as_str);
            let parts = [text("status"), text("title"), text("detail")];
            parts.into_iter().flatten().collect::<Vec<_>>().join(" ")
        });
        let messages: Vec<String> = messages.collect();
        misfit(&format!("the server's errors: {}", messages.join("; ")), "an answer")
    }

    /// Reads a resource, whose bracket comes next. One that is included and of a type that the
    /// schema does not know is passed over.
    pub(super) fn resource(&mut self, record: bool) -> Read<Slot> {
        let start = self.json.at();
        let Identifier { type_name: kind, id, .. } = self.json.identifier()?;
        let known = |table: &TableNo| kind.as_deref() == Some(&*self.schema.table(*table).resource);
        let Some(table) = self.schema.table_numbers().find(known) else {
            if !record {
                return Ok(Slot(0));
            }
            let found = kind.map_or("no such member".to_owned(), |kind| format!("string {kind:?}"));
            let names: Vec<&str> =
                self.schema.tables.iter().map(|table| &*table.resource).collect();
            let failure = Failure::misfit(format!("found {found}, expected {}", either(&names)));
            return Err(self.at(PointerStep::Name("type".into()), failure));
        };
        let rule = self.reading.rule;
        let is_other = record && table != rule.table;
        if is_other && (rule.list.is_some() || rule.complete.is_some()) {
            let found = format!("string {:?}", kind.unwrap_or_default());
            let expected = format!("{:?}", self.schema.table(rule.table).resource);
            let failure = misfit(&found, &expected);
            return failure.map_err(|failure| self.at(PointerStep::Name("type".into()), failure));
        }
        let definition = self.schema.table(table);
        let mut building = self.new_building();
        if record && !is_other {
            let given = self.reading.given.iter();
            building
                .staged
                .extend(given.filter(|(field, _)| !definition.id.contains(field)).cloned());
        }
        if let [field] = *definition.id {
            let staged = self.resource_id(definition.field(field), id.as_deref());
            let staged =
                staged.map_err(|failure| self.at(PointerStep::Name("id".into()), failure))?;
            building.id.push((field, staged));
        }
        self.around.push(Around { table, start, slot: None });
        self.json.go(start);
        self.open()?;
        let mut first = true;
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?;
            let read = match ResourceMember::of(&name, self.json.peek()?) {
                ResourceMember::Attributes => self.members(table, &mut building, None),
                ResourceMember::Relationships => self.relationships(table, &mut building),
                _ => self.json.skip().map(|_| ()).map_err(Failure::from),
            };
            read.map_err(|failure| self.at(PointerStep::Name(name), failure))?;
        }
        self.depth -= 1;
        self.close(table, record && !is_other, building)
    }

    fn resource_id(&self, field: &FieldDef, id: Option<&str>) -> Read<Staged<'static>> {
        match (id, field.kind) {
            (None, _) => misfit("no such member", "the id of a resource"),
            (Some(id), FieldKind::Int) => match whole(id) {
                Some(number) => Ok(Staged::Int(number)),
                None => misfit(&format!("string {id:?}"), "an id of type int"),
            },
            (Some(id), _) => Ok(Staged::Text(id.to_owned().into())),
        }
    }

    fn relationships(&mut self, table: TableNo, building: &mut Building<'de>) -> Read<()> {
        self.open()?;
        let mut first = true;
        while self.json.member(first)? {
            first = false;
            let name = self.json.name()?;
            let definition = self.schema.table(table);
            let field = definition.members.get(&name).and_then(Branch::only_field);
            let link = field.filter(|field| {
                let field = definition.field(*field);
                // The linkage of a resource has its id, and no other key.
                (field.link.is_some() && field.by().is_none())
                    || matches!(field.kind, FieldKind::Links(_))
            });
            let read = match link {
                Some(field) => self.relationship(definition, field, building),
                None if definition.unknown == Unknown::Refused => {
                    let expected = format!("only the links of \"{}\"", definition.name);
                    misfit(&format!("the unknown relationship {name:?}"), &expected)
                }
                None => self.json.skip().map(|_| ()).map_err(Failure::from),
            };
            read.map_err(|failure| self.at(PointerStep::Name(name), failure))?;
        }
        self.depth -= 1;
        Ok(())
    }

    /// Reads a relationship's linkage; without one, nothing is said of the link.
    fn relationship(
        &mut self,
        definition: &TableDef,
        field: FieldNo,
        building: &mut Building<'de>,
    ) -> Read<()> {
        if self.json.peek()? != Next::Object {
            return misfit(&self.found()?, "a relationship object");
        }
        self.open()?;
        let mut first = true;
        while self.json.linkage(&mut first)? {
            self.linkage(definition.field(field), field, building)
                .map_err(|failure| self.at(PointerStep::Name("data".into()), failure))?;
        }
        self.depth -= 1;
        Ok(())
    }

    /// The link's own fields in the `meta` of the resource identifier that began there.
    fn linkage_fields(&mut self, entries: TableNo, start: usize) -> Read<Option<EntryFields>> {
        if self.schema.table(entries).entry_fields().len() == 0 {
            return Ok(None);
        }
        let (end, depth) = (self.json.at(), self.depth);
        self.json.go(start);
        let meta = ["meta".to_owned()];
        let fields = match self.descend(&meta)? && self.json.peek()? == Next::Object {
            true => self.entry_fields(entries).map_err(|failure| self.at_way(&meta, failure))?,
            false => None,
        };
        self.depth = depth;
        self.json.go(end);
        Ok(fields)
    }

    fn linkage(
        &mut self,
        link: &FieldDef,
        field: FieldNo,
        building: &mut Building<'de>,
    ) -> Read<()> {
        let staged = match (self.json.peek()?, link.kind) {
            (Next::Null, _) => {
                self.json.word("null")?;
                Staged::Null
            }
            (Next::Array, FieldKind::Links(entries)) => {
                let target = self.schema.table(entries).field(TARGET);
                self.open()?;
                let (mut targets, mut index) = (Vec::new(), 0);
                while self.json.element(index == 0)? {
                    let start = self.json.at();
                    let found = self.identifier(target);
                    let step = PointerStep::Index(index);
                    let found = found.map_err(|failure| self.at(step, failure))?;
                    if let Some(found) = found {
                        let fields = self.linkage_fields(entries, start)?;
                        targets.push(StagedEntry { fields, ..found.into() });
                    }
                    index += 1;
                }
                self.depth -= 1;
                Staged::Links(targets)
            }
            (Next::Object, FieldKind::Link(_) | FieldKind::OneOf) => match self.identifier(link)? {
                None => Staged::Null,
                Some((_, slot)) if link.one_of().is_none() => Staged::Link(slot),
                Some((table, slot)) => Staged::OneOf(table, slot),
            },
            _ => return misfit(&self.found()?, "the linkage of this relationship"),
        };
        match staged.misfit(link) {
            Some(message) => Err(Failure::misfit(message)),
            None => {
                building.staged.push((field, staged));
                Ok(())
            }
        }
    }

    /// Where a resource identifier points; `None` if the link leaves out what it is of.
    fn identifier(&mut self, link: &FieldDef) -> Read<Option<(TableNo, Slot)>> {
        if self.json.peek()? != Next::Object {
            return misfit(&self.found()?, "a resource identifier");
        }
        let Identifier { type_name: kind, id, .. } = self.json.identifier()?;
        let tables: Vec<TableNo> = match (link.kind, link.one_of()) {
            (FieldKind::Link(to), _) => vec![to],
            (_, Some(one_of)) => one_of.tables.iter().map(|(_, table)| *table).collect(),
            _ => Vec::new(),
        };
        let is_it =
            |table: &&TableNo| kind.as_deref() == Some(&*self.schema.table(**table).resource);
        let other = link.one_of().and_then(|one_of| one_of.table_of(None));
        let Some(to) = tables.iter().find(is_it).copied().or(other) else {
            if link.one_of().is_some_and(|it| it.others == OtherTypes::Skipped) {
                let number = self.unplaced.number(None, &link.from.to_string(), None);
                self.unplaced.add(number, "an identifier");
                return Ok(None);
            }
            let names: Vec<&str> =
                tables.iter().map(|table| &*self.schema.table(*table).resource).collect();
            let found = format!("type {:?}", kind.unwrap_or_default());
            return misfit(&found, &either(&names));
        };
        let definition = self.schema.table(to);
        let slot = match (definition.id_type(), id.as_deref()) {
            (IdType::Int, Some(id)) if whole(id).is_some() => {
                whole(id).map(|number| self.tx.refer(to, &[Cell::Int(number)]))
            }
            (IdType::Text, Some(id)) => Some(self.tx.refer(to, &[Cell::Text(id)])),
            _ => None,
        };
        match slot {
            Some(slot) => Ok(Some((to, slot))),
            None => misfit(&format!("id {:?}", id.unwrap_or_default()), &self.schema.id_form(to)),
        }
    }
}
