//! Tables and their fields: types, links, and what a response says of them.

use std::sync::Arc;

use super::{FieldNo, Lookup, Pointer, TableNo, Tree};
use crate::value::Value;

/// A table: its fields, and which of them identify a row.
#[derive(Debug, PartialEq)]
pub(crate) struct TableDef {
    pub(crate) name: Arc<str>,
    pub(crate) fields: Vec<FieldDef>,
    /// The fields that hold the id; a one-row table has none.
    pub(crate) id: Vec<FieldNo>,
    pub(crate) persist: bool,
    /// Rows that were received this many seconds ago are left out when the table is rehydrated.
    pub(crate) expires_after: Option<u32>,
    /// Fields that no two rows have the same values in, beside the id.
    pub(crate) unique: Vec<Vec<FieldNo>>,
    /// The field that orders versions of a row, newest highest.
    pub(crate) version: Option<FieldNo>,
    /// What becomes of members that are no field.
    pub(crate) unknown: Unknown,
    /// Where the fields are in an object of a response.
    pub(crate) members: Tree<Lookup>,
    /// How JSON:API documents call the type of its rows.
    pub(crate) resource: Arc<str>,
    /// What in an object says that its row was deleted.
    pub(crate) tombstone: Option<Pointer>,
    /// Which members matter in every object of the table, worked out once.
    pub(crate) checks: Checks,
    pub(crate) made: TableOrigin,
    /// How it was called before.
    pub(crate) was: Vec<Arc<str>>,
}

/// Which of the rarer options some field of a table has.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Checks {
    pub(crate) required: bool,
    /// Links to one of several tables.
    pub(crate) one_of: bool,
    /// To-many links.
    pub(crate) links: bool,
    /// A bit for each of the first 64 fields that takes any value of its type, and is no part of the
    /// id.
    plain: u64,
}

impl Checks {
    pub(crate) fn of(fields: &[FieldDef], id: &[FieldNo]) -> Self {
        let is_plain = |number: FieldNo| {
            let field = &fields[number.index()];
            let kind = matches!(field.kind, FieldKind::OneOf | FieldKind::Links(_));
            let places = !field.also_from.is_empty() || field.by().is_some();
            let checks = field.required || !field.values.is_empty() || kind || places;
            !checks && !id.contains(&number)
        };
        let first = (0..fields.len().min(64) as u32).map(FieldNo).filter(|field| is_plain(*field));
        Self {
            plain: first.fold(0, |bits, field| bits | 1 << field.0),
            required: fields.iter().any(|field| field.required),
            one_of: fields.iter().any(|field| field.kind == FieldKind::OneOf),
            links: fields.iter().any(|field| matches!(field.kind, FieldKind::Links(_))),
        }
    }
}

/// Why a table is in the schema.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum TableOrigin {
    /// Its text says so.
    Declared,
    /// It holds the entries of a to-many link.
    Entries { owner: TableNo, field: FieldNo },
    /// It holds rows in the order in which responses gave them.
    List,
}

/// What becomes of the members of an object that are no field of its table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Unknown {
    Ignored,
    Refused,
    /// They are kept in this field, as one JSON object.
    Kept(FieldNo),
}

/// A field of a table.
#[derive(Debug, PartialEq)]
pub(crate) struct FieldDef {
    pub(crate) name: Arc<str>,
    pub(crate) kind: FieldKind,
    pub(crate) persist: bool,
    /// Whether it is never null, and there in every record.
    pub(crate) required: bool,
    /// The only values that it takes; any, if there are none.
    pub(crate) values: Vec<Value>,
    /// Where it is in an object of a response.
    pub(crate) from: Pointer,
    /// Where else it may be, the first choice first.
    pub(crate) also_from: Vec<Pointer>,
    /// What a number means that is a time.
    pub(crate) epoch: Option<Epoch>,
    pub(crate) link: Option<LinkRule>,
    /// How it was called before.
    pub(crate) was: Vec<Arc<str>>,
}

/// In which unit a time is counted from 1970-01-01T00:00:00Z on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Epoch {
    Seconds,
    Milliseconds,
}

impl Epoch {
    pub(crate) const NAMES: [(&str, Epoch); 2] =
        [("seconds", Epoch::Seconds), ("milliseconds", Epoch::Milliseconds)];

    /// How many microseconds the unit has.
    pub(crate) fn micros(self) -> i64 {
        match self {
            Epoch::Seconds => 1_000_000,
            Epoch::Milliseconds => 1000,
        }
    }
}

/// What a field says about the rows that it points at.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct LinkRule {
    pub(crate) on_delete: OnDelete,
    /// Where in each entry of a to-many link the target is.
    pub(crate) record: Vec<String>,
    /// If it may point at one of several tables: the name of each, and where a response gives it.
    pub(crate) one_of: Option<OneOfDef>,
    /// If it does not hold the id of its target, but another key of it.
    pub(crate) by: Option<ByKey>,
}

/// A link that goes by a unique key of its target.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct ByKey {
    pub(crate) table: TableNo,
    /// The field of the target whose value the link holds.
    pub(crate) field: FieldNo,
    /// The fields of the key, each with the field beside the link that has its value.
    pub(crate) key: Vec<(FieldNo, FieldNo)>,
}

impl ByKey {
    /// The fields that have the values of the key.
    pub(crate) fn here(&self) -> Vec<FieldNo> {
        self.key.iter().map(|(_, here)| *here).collect()
    }

    /// The fields of the key.
    pub(crate) fn there(&self) -> Vec<FieldNo> {
        self.key.iter().map(|(there, _)| *there).collect()
    }
}

/// The tables that a link may point at.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct OneOfDef {
    pub(crate) tables: Vec<(Arc<str>, TableNo)>,
    pub(crate) others: OtherTypes,
    /// The field beside the link that holds the name.
    pub(crate) type_field: FieldNo,
    /// The member of a nested object that holds it.
    pub(crate) type_member: Arc<str>,
}

/// What becomes of what names a type that a link does not know.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum OtherTypes {
    #[default]
    Refused,
    /// It is left out.
    Skipped,
    /// It is a row of that table, which is among those of the link.
    To(TableNo),
}

/// What becomes of a link when the row that it points at is deleted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum OnDelete {
    /// It stays, and points at nothing.
    #[default]
    Keep,
    /// Its row is deleted too.
    Cascade,
    SetNull,
    /// The row that it points at cannot be deleted.
    Restrict,
}

/// A link that points at a table.
#[derive(Debug, Clone, Copy)]
pub(crate) struct LinkTo<'s> {
    pub(crate) table: TableNo,
    pub(crate) field: FieldNo,
    pub(crate) on_delete: OnDelete,
    /// Whether it may point at other tables too.
    pub(crate) one_of: bool,
    /// If it goes by a key of the target.
    pub(crate) by: Option<&'s ByKey>,
}

/// What a field holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum FieldKind {
    Int,
    Float,
    Bool,
    Text,
    Timestamp,
    Json,
    /// A to-one link; its value is the id of a row of that table.
    Link(TableNo),
    /// A to-one link to one of several tables, which [`LinkRule::one_of`] names.
    OneOf,
    /// A to-many link; its value is how many entries it has in that link table.
    Links(TableNo),
}

/// How the id of a table's rows is written as one value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum IdType {
    Int,
    Text,
    /// As a JSON array, since the id has several parts; or as that of the one row that it links to,
    /// in a list without variables.
    Parts,
}

impl FieldDef {
    /// The key of its target that it goes by, if it is such a link.
    pub(crate) fn by(&self) -> Option<&ByKey> {
        self.link.as_ref().and_then(|link| link.by.as_ref())
    }

    /// The tables that the link may point at, if it may point at several.
    pub(crate) fn one_of(&self) -> Option<&OneOfDef> {
        self.link.as_ref().and_then(|link| link.one_of.as_ref())
    }
}

impl OneOfDef {
    /// The table of what names a type, or no type: the one that goes by that name, or that of other
    /// types.
    pub(crate) fn table_of(&self, type_name: Option<&str>) -> Option<TableNo> {
        let other = match self.others {
            OtherTypes::To(table) => Some(table),
            OtherTypes::Refused | OtherTypes::Skipped => None,
        };
        type_name.and_then(|name| self.table(name)).or(other)
    }

    /// The table that goes by a name.
    pub(crate) fn table(&self, name: &str) -> Option<TableNo> {
        self.tables.iter().find(|(known, _)| **known == *name).map(|(_, table)| *table)
    }

    /// How a table is called here.
    pub(crate) fn name(&self, table: TableNo) -> &Arc<str> {
        let known = self.tables.iter().find(|(_, number)| *number == table);
        known.map_or(&self.tables[0].0, |(name, _)| name)
    }

    pub(crate) fn names(&self) -> Vec<&str> {
        self.tables.iter().map(|(name, _)| &**name).collect()
    }
}

impl FieldKind {
    /// The types that a schema can name.
    pub(crate) const NAMES: [(&'static str, FieldKind); 6] = [
        ("int", FieldKind::Int),
        ("float", FieldKind::Float),
        ("bool", FieldKind::Bool),
        ("text", FieldKind::Text),
        ("timestamp", FieldKind::Timestamp),
        ("json", FieldKind::Json),
    ];
}

impl TableDef {
    /// Whether the library keeps account in it.
    pub(crate) fn is_own(&self) -> bool {
        self.name.starts_with("backwater_")
    }

    /// The field of that name; SQL names are case-insensitive.
    pub(crate) fn field_no(&self, name: &str) -> Option<FieldNo> {
        let exact = self.fields.iter().position(|field| &*field.name == name);
        exact
            .or_else(|| self.fields.iter().position(|field| field.name.eq_ignore_ascii_case(name)))
            .map(|position| FieldNo(position as u32))
    }

    pub(crate) fn field(&self, number: FieldNo) -> &FieldDef {
        &self.fields[number.index()]
    }

    pub(crate) fn field_names(&self) -> impl Iterator<Item = &str> {
        self.fields.iter().map(|field| &*field.name)
    }

    pub(crate) fn field_numbers(&self) -> impl Iterator<Item = FieldNo> + use<> {
        (0..self.fields.len() as u32).map(FieldNo)
    }

    /// Whether any value of a field's type is right, and the field is no part of the id; of a table with
    /// very many fields it may be unknown.
    #[inline]
    pub(crate) fn takes_as_it_comes(&self, field: FieldNo) -> bool {
        field.0 < 64 && self.checks.plain >> field.0 & 1 == 1
    }

    /// The link of which a field says at which table it points.
    pub(crate) fn link_typed_by(&self, type_field: FieldNo) -> Option<FieldNo> {
        let names_type = |field: &FieldDef| {
            let one_of = field.link.as_ref().and_then(|link| link.one_of.as_ref());
            one_of.is_some_and(|one_of| one_of.type_field == type_field)
        };
        let link = self.fields.iter().position(names_type)?;
        Some(FieldNo(link as u32))
    }

    /// The other one of a link to one of several tables and the field that says to which: they are
    /// only ever written together.
    pub(crate) fn paired(&self, field: FieldNo) -> Option<FieldNo> {
        let type_field = self.field(field).one_of().map(|one_of| one_of.type_field);
        type_field.or_else(|| self.link_typed_by(field))
    }

    /// Of a table of entries, the fields that say more than where they point.
    pub(crate) fn entry_fields(&self) -> impl ExactSizeIterator<Item = FieldNo> + Clone + use<> {
        let own = match self.made {
            // Behind the owner, the position, the target, and perhaps its type.
            TableOrigin::Entries { .. } => {
                if self.fields[2].one_of().is_some() {
                    4
                } else {
                    3
                }
            }
            TableOrigin::Declared | TableOrigin::List => self.fields.len(),
        };
        (own as u32..self.fields.len() as u32).map(FieldNo)
    }

    pub(crate) fn is_one_row(&self) -> bool {
        self.id.is_empty()
    }

    /// How the id of this table's rows is written as one value.
    pub(crate) fn id_type(&self) -> IdType {
        match *self.id {
            [id] if self.field(id).kind == FieldKind::Int => IdType::Int,
            [id] if self.field(id).kind == FieldKind::Text => IdType::Text,
            _ => IdType::Parts,
        }
    }
}
