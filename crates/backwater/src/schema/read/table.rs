//! Reading tables and their fields.

use std::sync::Arc;

use toml::Spanned;
use toml::de::DeValue;

use super::{Reader, Value, found, one_or_several};
use crate::error::nearest;
use crate::schema::{
    Branch, ByKey, Checks, Epoch, FieldDef, FieldKind, FieldNo, LinkRule, Lookup, Names, OnDelete,
    OneOfDef, OtherTypes, Pointer, TableDef, TableNo, TableOrigin, Tree, Unknown,
};

/// Prefixes that SQLite and the storage form keep for themselves.
const RESERVED: [&str; 2] = ["sqlite_", "backwater_"];
/// Tables that the library itself declares.
const LIBRARY_TABLES: [&str; 4] =
    ["backwater_answer", "backwater_base", "backwater_feed", "backwater_pending"];
/// An SQLite table has 2,000 columns at most.
const MOST_FIELDS: usize = 1000;
/// The member by which a nested object names its table, unless the schema says otherwise.
pub(crate) const TYPE_MEMBER: &str = "type";

pub(super) const ON_DELETE: [(&str, OnDelete); 4] = [
    ("keep", OnDelete::Keep),
    ("cascade", OnDelete::Cascade),
    ("set null", OnDelete::SetNull),
    ("restrict", OnDelete::Restrict),
];

/// What becomes of what a link cannot point at.
const OTHER_TYPES: [(&str, OtherTypes); 2] =
    [("error", OtherTypes::Refused), ("skip", OtherTypes::Skipped)];

/// What a field's table of options may say.
const OPTIONS: [&str; 17] = [
    "type",
    "to",
    "to_many",
    "persist",
    "required",
    "values",
    "from",
    "on_delete",
    "type_field",
    "type_member",
    "link_table",
    "was",
    "unit",
    "other_types",
    "record",
    "by",
    "fields",
];

/// What is said of a field, in the order of [`OPTIONS`].
struct Options<'d, 't>([Option<&'d Value<'t>>; OPTIONS.len()]);

impl<'d, 't> Options<'d, 't> {
    fn get(&self, option: &str) -> Option<&'d Value<'t>> {
        debug_assert!(OPTIONS.contains(&option), "an option that a field can have");
        self.0[OPTIONS.iter().position(|known| *known == option)?]
    }
}

/// A link to one of several tables whose type field is looked for when all fields are known.
pub(super) struct Typed {
    field: usize,
    at: usize,
    type_field: Arc<str>,
}

/// A link whose key is looked for when all tables are known.
pub(super) struct LinkByKey {
    of: TableNo,
    field: FieldNo,
    at: usize,
    /// The field of the target that it holds.
    name: String,
    /// Its type, if the text says it.
    kind: Option<FieldKind>,
}

impl<'t> Reader<'t> {
    pub(super) fn table_name(&mut self, name: &str, at: usize, number: usize) {
        if name.is_empty() || name.contains('\0') {
            self.problem(at, "a table's name is empty or has a U+0000", "give it a name");
        }
        self.reserved(name, at);
        let before = self.tables[..number].iter();
        if let Some(same) = before.clone().find(|other| other.eq_ignore_ascii_case(name)) {
            let message =
                format!("tables \"{same}\" and \"{name}\" are one name in SQL, which ignores case");
            self.problem(at, message, "take another name");
        }
    }

    /// Some names of tables are not to be had.
    pub(super) fn reserved(&mut self, name: &str, at: usize) {
        let lower = name.to_lowercase();
        let prefix = RESERVED.iter().find(|prefix| lower.starts_with(**prefix));
        if let Some(prefix) = prefix.filter(|_| !LIBRARY_TABLES.contains(&name)) {
            let message = format!("table names that begin with \"{prefix}\" are reserved");
            self.problem(at, message, "take another name");
        }
    }

    pub(super) fn table(&mut self, number: TableNo, name: &str, value: &Value<'t>) -> TableDef {
        let mut made = TableDef {
            name: name.into(),
            fields: Vec::new(),
            id: Vec::new(),
            persist: true,
            expires_after: None,
            unique: Vec::new(),
            version: None,
            unknown: Unknown::Ignored,
            members: Tree::default(),
            resource: name.into(),
            tombstone: None,
            checks: Checks::default(),
            made: TableOrigin::Declared,
            was: Vec::new(),
        };
        let at = value.span().start;
        let Some(table) =
            self.as_table(value, "a table with `id` (or `one_row = true`) and `fields`")
        else {
            return made;
        };
        let known = [
            "id",
            "one_row",
            "fields",
            "persist",
            "names",
            "unknown",
            "version",
            "tombstone",
            "resource",
            "was",
            "expires_after",
            "unique",
        ];
        let [
            id,
            one_row,
            fields,
            persist,
            names,
            unknown,
            version,
            tombstone,
            resource,
            was,
            expires,
            unique,
        ] = self.parts(table, "a table", known);
        made.was = self.earlier_names(was);
        made.persist = self.as_flag(persist, true);
        let names = names.and_then(|value| self.as_name(value, "`names`", &Names::KNOWN));
        if !self.fields(&mut made, number, at, fields, names) {
            return made;
        }
        let one_row = one_row.is_some() && self.as_flag(one_row, true);
        match (id, one_row) {
            (None, true) => {}
            (Some(id), true) => {
                self.problem(
                    id.span().start,
                    "a one-row table needs no id",
                    "leave out `id` or `one_row`",
                );
            }
            (None, false) => self.problem(
                at,
                format!("table \"{name}\" does not say which field holds the id"),
                "add `id = \"FIELD\"`, or `one_row = true` for a table of a single row",
            ),
            (Some(id), false) => self.id(id, &mut made),
        }
        if let Some(unknown) = unknown {
            made.unknown = self.unknown(unknown, &made).unwrap_or(Unknown::Ignored);
        }
        made.expires_after = expires.and_then(|value| self.expires_after(value, &made));
        made.version = version.and_then(|version| self.version(version, &made));
        made.unique = unique.map(|value| self.unique(value, &made)).unwrap_or_default();
        if let Some(resource) = resource {
            let said = self.as_text(resource, "the type of a JSON:API resource");
            made.resource = said.map_or(made.resource, Arc::from);
        }
        made.tombstone = tombstone.and_then(|value| self.from(value));
        made.members = members(&made.fields, made.tombstone.as_ref());
        made.checks = Checks::of(&made.fields, &made.id);
        made
    }

    /// Whether the fields are few enough to be read.
    fn fields(
        &mut self,
        made: &mut TableDef,
        number: TableNo,
        at: usize,
        fields: Option<&Value<'t>>,
        names: Option<Names>,
    ) -> bool {
        let name = made.name.clone();
        let entries = self.entries_of(fields, &format!("table.{name}.fields"));
        if entries.is_empty()
            && (fields.is_none() || matches!(fields.map(Spanned::get_ref), Some(DeValue::Table(_))))
        {
            self.problem(
                at,
                format!("table \"{name}\" has no fields"),
                format!("list them under [table.{name}.fields]"),
            );
        }
        if entries.len() > MOST_FIELDS {
            let message = format!("table \"{name}\" has {} fields", entries.len());
            self.problem(at, message, format!("a table has at most {MOST_FIELDS}"));
            return false;
        }
        let mut typed = Vec::new();
        let places: Vec<usize> = entries.iter().map(|(_, at, _)| *at).collect();
        for (field_name, at, value) in entries {
            self.field_name(field_name, at, made);
            let field = self.field(field_name, value, made, number, names, &mut typed);
            made.fields.push(field);
        }
        self.check_places(made, &places);
        for typed in typed {
            self.type_field(made, typed, names);
        }
        true
    }

    /// Where one field has a plain value, no other field can be inside of it.
    fn check_places(&mut self, table: &TableDef, at: &[usize]) {
        let is_plain = |field: &FieldDef| {
            let kind = field.kind;
            let is_nested = matches!(
                kind,
                FieldKind::Json | FieldKind::Link(_) | FieldKind::OneOf | FieldKind::Links(_)
            );
            !is_nested && field.also_from.is_empty() && field.link.is_none()
        };
        let only = |field: &&FieldDef| field.also_from.is_empty();
        for (inner, at) in { table.fields.iter().zip(at) }.filter(|(field, _)| only(field)) {
            let around = table.fields.iter().find(|outer| {
                let (outer_way, way) = (outer.from.parts(), inner.from.parts());
                is_plain(outer) && way.len() > outer_way.len() && way.starts_with(outer_way)
            });
            if let Some(outer) = around {
                let (place, name) = (outer.from.to_string(), &outer.name);
                let message = format!(
                    "\"{}\" is inside of {place}, where \"{name}\" has a plain value: no object has both",
                    inner.name
                );
                self.problem(*at, message, "correct one of the places, by `from`");
            }
        }
    }

    /// A number of seconds, given as a text such as `7 days`.
    pub(super) fn seconds(&mut self, value: &Value<'t>) -> Option<u32> {
        let expected = "how long, such as \"30 min\", \"12 hours\" or \"7 days\"";
        let text = self.as_text(value, expected)?;
        let at = value.span().start;
        let seconds = seconds(text);
        if seconds.is_none() {
            self.problem(at, format!("found \"{text}\", expected {expected}"), "");
        }
        seconds
    }

    /// After how many seconds a row is too old.
    fn expires_after(&mut self, value: &Value<'t>, table: &TableDef) -> Option<u32> {
        let at = value.span().start;
        if table.id.is_empty() || !table.persist {
            let message = format!("no row of table \"{}\" can expire", table.name);
            let help = match table.persist {
                false => "what does not persist is not rehydrated: leave out `expires_after`",
                true => "the row of a one-row table is always there: leave out `expires_after`",
            };
            self.problem(at, message, help);
            return None;
        }
        self.seconds(value)
    }

    /// Names the fields of the id.
    fn id(&mut self, value: &Value<'t>, table: &mut TableDef) {
        let expected = "the name of the field that holds the id, or an array of such names";
        let names = one_or_several(value);
        if names.is_empty() {
            self.problem(value.span().start, "the id has no parts", "name at least one field");
        }
        for value in &names {
            let Some(number) = self.field_of(value, table, expected) else { continue };
            let (at, field) = (value.span().start, table.field(number));
            let name = &field.name;
            let allowed = match field.kind {
                FieldKind::Int | FieldKind::Text => true,
                FieldKind::Link(_) => names.len() > 1,
                _ => false,
            };
            if !allowed {
                let message = format!("the id \"{name}\" is neither int nor text");
                let help = match field.kind {
                    FieldKind::Link(_) => "a link can only be one of several parts of an id",
                    _ => "give that field one of these types",
                };
                self.problem(at, message, help);
            }
            if !field.persist && table.persist {
                let message = format!("the id \"{name}\" must persist, as its rows do");
                self.problem(at, message, "mark the table instead");
            }
            if field.link.as_ref().is_some_and(|link| link.on_delete == OnDelete::SetNull) {
                let message = format!("\"{name}\" is part of the id, which cannot be set null");
                self.problem(at, message, "use `on_delete = \"cascade\"` or \"restrict\"");
            }
            if table.id.contains(&number) {
                self.problem(at, format!("the id names \"{name}\" twice"), "name it once");
                continue;
            }
            table.id.push(number);
        }
    }

    /// The keys beside the id: a field, several that make one key, or several such.
    fn unique(&mut self, value: &Value<'t>, table: &TableDef) -> Vec<Vec<FieldNo>> {
        let expected = "the name of a field, an array of names that make one key, or several such";
        let nested = |value: &Value<'t>| matches!(value.get_ref(), DeValue::Array(_));
        let keys = match value.get_ref() {
            DeValue::Array(keys) if keys.iter().any(nested) => keys.iter().collect(),
            _ => vec![value],
        };
        let mut unique: Vec<Vec<FieldNo>> = Vec::new();
        for value in keys {
            let at = value.span().start;
            let names = one_or_several(value);
            let fields: Vec<FieldNo> =
                names.iter().filter_map(|name| self.field_of(name, table, expected)).collect();
            if fields.len() < names.len() {
                continue;
            }
            let name = |field: &FieldNo| &table.field(*field).name;
            let plain = |field: &FieldNo| {
                let kind = table.field(*field).kind;
                matches!(kind, FieldKind::Int | FieldKind::Text | FieldKind::Link(_))
            };
            let twice = fields.iter().enumerate().find(|(n, field)| fields[..*n].contains(field));
            let problem = match (twice, fields.iter().find(|field| !plain(field))) {
                (Some((_, field)), _) => {
                    Some((format!("the key names \"{}\" twice", name(field)), "name it once"))
                }
                (_, Some(field)) => Some((
                    format!("\"{}\" is neither int nor text nor a link to one table", name(field)),
                    "only such fields make a key",
                )),
                _ if fields.is_empty() => {
                    Some(("the key has no fields".to_owned(), "name at least one"))
                }
                _ if table.is_one_row() => {
                    Some(("a one-row table needs no key".to_owned(), "leave out `unique`"))
                }
                _ if fields.iter().all(|field| table.id.contains(field)) => Some((
                    "the fields of the id are unique already".to_owned(),
                    "leave out this key",
                )),
                _ if unique.contains(&fields) => {
                    Some(("this key is named twice".to_owned(), "name it once"))
                }
                _ => None,
            };
            match problem {
                Some((message, help)) => self.problem(at, message, help),
                None => unique.push(fields),
            }
        }
        unique
    }

    /// The number of a field that the text names.
    pub(super) fn field_of(
        &mut self,
        value: &Value<'t>,
        table: &TableDef,
        expected: &str,
    ) -> Option<FieldNo> {
        let name = self.as_text(value, expected)?;
        let number = table.field_no(name);
        if number.is_none() {
            let help = nearest(name, table.field_names());
            let message = format!("table \"{}\" has no field \"{name}\"", table.name);
            self.problem(value.span().start, message, help);
        }
        number
    }

    fn unknown(&mut self, value: &Value<'t>, table: &TableDef) -> Option<Unknown> {
        let DeValue::Table(parts) = value.get_ref() else {
            let known = [("ignore", Unknown::Ignored), ("error", Unknown::Refused)];
            return self.as_name(value, "`unknown`", &known);
        };
        let [kept] = self.parts(parts, "`unknown`", ["keep"]);
        let Some(kept) = kept else {
            let help = "write `unknown = { keep = \"FIELD\" }`, \"ignore\" or \"error\"";
            self.problem(value.span().start, "no field to keep unknown members in", help);
            return None;
        };
        let field = self.field_of(kept, table, "the name of a json field")?;
        if table.field(field).kind != FieldKind::Json {
            let message = format!("\"{}\" is not of type json", table.field(field).name);
            self.problem(kept.span().start, message, "unknown members are kept as one JSON object");
        }
        Some(Unknown::Kept(field))
    }

    fn version(&mut self, value: &Value<'t>, table: &TableDef) -> Option<FieldNo> {
        let number = self.field_of(value, table, "the name of a field")?;
        let field = table.field(number);
        if !matches!(field.kind, FieldKind::Int | FieldKind::Text | FieldKind::Timestamp) {
            let message = format!("the version \"{}\" has no order", field.name);
            let help = "give that field the type int, text or timestamp";
            self.problem(value.span().start, message, help);
        }
        if !field.persist && table.persist {
            let message = format!("the version \"{}\" must persist, as its rows do", field.name);
            self.problem(value.span().start, message, "mark the table instead");
        }
        Some(number)
    }

    fn field_name(&mut self, name: &str, at: usize, table: &TableDef) {
        if name.is_empty() || name.contains('\0') {
            self.problem(at, "a field's name is empty or has a U+0000", "give it a name");
        }
        if let Some(same) = table.fields.iter().find(|field| field.name.eq_ignore_ascii_case(name))
        {
            let message = format!(
                "fields \"{}\" and \"{name}\" are one name in SQL, which ignores case",
                same.name
            );
            self.problem(at, message, "take another name");
        }
    }

    pub(super) fn field(
        &mut self,
        name: &str,
        value: &Value<'t>,
        table: &TableDef,
        number: TableNo,
        names: Option<Names>,
        typed: &mut Vec<Typed>,
    ) -> FieldDef {
        let mut made = plain(name, FieldKind::Text, names);
        let parts = match value.get_ref() {
            DeValue::String(_) => {
                made.kind = self.kind(value).unwrap_or(FieldKind::Text);
                return made;
            }
            DeValue::Table(parts) => parts,
            other => {
                let expected = "a type such as \"text\", or a link such as { to = \"vessel\" }";
                let message = format!("found {}, expected {expected}", found(other));
                self.problem(value.span().start, message, "");
                return made;
            }
        };
        let options = Options(self.parts(parts, "a field", OPTIONS));
        made.persist = self.as_flag(options.get("persist"), true);
        made.required = self.as_flag(options.get("required"), false);
        if let Some(from) = options.get("from") {
            self.places(from, &mut made);
        }
        made.was = self.earlier_names(options.get("was"));
        let at = value.span().start;
        match (options.get("type"), options.get("to"), options.get("to_many")) {
            (Some(kind), None, None) => made.kind = self.kind(kind).unwrap_or(FieldKind::Text),
            (kind, Some(to), None) if options.get("by").is_some() => {
                let kind = kind.and_then(|kind| self.kind(kind));
                let field = FieldNo(table.fields.len() as u32);
                made.link = self.link_by(to, &options, (number, field, kind));
                made.kind = kind.unwrap_or(made.kind);
            }
            (None, Some(to), None) => {
                if let Some((kind, link)) = self.link(to, &options) {
                    if link.one_of.is_some() {
                        let type_field = self.type_field_name(&options, name);
                        typed.push(Typed { field: table.fields.len(), at, type_field });
                    }
                    (made.kind, made.link) = (kind, Some(link));
                }
            }
            (None, None, Some(to)) => {
                let target = self.link(to, &options);
                if let Some((kind, link)) = target {
                    made.kind =
                        self.entries(table, number, &made, (at, names), &options, (kind, link));
                }
            }
            (None, None, None) => self.problem(
                at,
                format!("field \"{name}\" says no type"),
                "add `type = \"text\"`, or `to = \"TABLE\"` for a link",
            ),
            (_, to, to_many) => {
                let at = to_many.or(to).map_or(at, |value| value.span().start);
                let message = "a field has a `type` or is a link, not both";
                self.problem(at, message, "leave out all but one of `type`, `to` and `to_many`");
            }
        }
        made.epoch =
            options.get("unit").and_then(|unit| self.as_name(unit, "`unit`", &Epoch::NAMES));
        self.misplaced(&made, &options);
        if let Some(values) = options.get("values") {
            made.values = self.values(values, &made);
        }
        made
    }

    /// One name, or an array of them.
    fn earlier_names(&mut self, value: Option<&Value<'t>>) -> Vec<Arc<str>> {
        let Some(value) = value else { return Vec::new() };
        let expected = "the name that it had before, or an array of such names";
        let names = one_or_several(value);
        names.into_iter().filter_map(|name| self.as_text(name, expected).map(Arc::from)).collect()
    }

    /// Options that say nothing about a field of this kind.
    fn misplaced(&mut self, field: &FieldDef, options: &Options<'_, 't>) {
        let links = matches!(field.kind, FieldKind::Links(_));
        let is_link = links || field.link.is_some();
        let one_of = field.link.as_ref().is_some_and(|link| link.one_of.is_some());
        let only = [
            ("unit", field.kind == FieldKind::Timestamp, "a timestamp"),
            ("by", field.by().is_some(), "a link to one table"),
            ("on_delete", is_link, "a link"),
            ("link_table", links, "a to-many link"),
            ("record", links, "a to-many link"),
            ("fields", links, "a to-many link"),
            ("other_types", one_of || links, "a link to one of several tables"),
            ("type_field", one_of, "a link to one of several tables"),
            ("type_member", one_of || links, "a link to one of several tables"),
        ];
        for (option, fits, what) in only {
            if let Some(value) = options.get(option).filter(|_| !fits) {
                let message = format!("\"{}\" is not {what}", field.name);
                self.problem(value.span().start, message, format!("leave out `{option}`"));
            }
        }
        let nulls = [
            ("on_delete", field.link.as_ref().is_some_and(|it| it.on_delete == OnDelete::SetNull)),
            ("other_types", field.one_of().is_some_and(|it| it.others == OtherTypes::Skipped)),
        ];
        for (option, sets_null) in nulls {
            if let Some(value) = options.get(option).filter(|_| field.required && sets_null) {
                let message = format!("\"{}\" is required, and cannot be set null", field.name);
                let help = match option {
                    "on_delete" => "use \"cascade\", \"restrict\" or \"keep\"",
                    _ => "use \"error\", or leave out `required`",
                };
                self.problem(value.span().start, message, help);
            }
        }
    }

    /// Where a field is in an object: one place, or several of which the first that is there counts.
    fn places(&mut self, value: &Value<'t>, field: &mut FieldDef) {
        let several = one_or_several(value);
        if several.is_empty() || several.len() > usize::from(u8::MAX) {
            let help = "name one member or some, the first choice first";
            self.problem(value.span().start, "the field is nowhere, or in too many places", help);
            return;
        }
        let places: Vec<Pointer> =
            several.into_iter().filter_map(|value| self.from(value)).collect();
        if let Some((first, others)) = places.split_first() {
            (field.from, field.also_from) = (first.clone(), others.to_vec());
        }
    }

    /// A member's name, or a JSON Pointer to a value inside of a nested object.
    fn from(&mut self, value: &Value<'t>) -> Option<Pointer> {
        let text =
            self.as_text(value, "a member's name, or a JSON Pointer such as \"/at/port\"")?;
        if !text.starts_with('/') {
            return Some(Pointer::member(text));
        }
        self.as_pointer(value)
    }

    fn kind(&mut self, value: &Value<'t>) -> Option<FieldKind> {
        self.as_name(value, "type", &FieldKind::NAMES)
    }

    /// What a link points at.
    fn link(&mut self, to: &Value<'t>, options: &Options<'_, 't>) -> Option<(FieldKind, LinkRule)> {
        let on_delete = options
            .get("on_delete")
            .and_then(|value| self.as_name(value, "`on_delete`", &ON_DELETE));
        let on_delete = on_delete.unwrap_or(OnDelete::Keep);
        let record = options.get("record").and_then(|value| self.as_pointer(value));
        let record = record.map(|pointer| pointer.parts().to_vec()).unwrap_or_default();
        let named: Vec<(&str, &Value<'t>)> = match to.get_ref() {
            DeValue::Table(tables) => {
                tables.iter().map(|(name, table)| (name.get_ref().as_ref(), table)).collect()
            }
            DeValue::Array(tables) => tables
                .iter()
                .filter_map(|table| Some((self.as_text(table, "the name of a table")?, table)))
                .collect(),
            _ => {
                let expected = "the name of the table that the link points at";
                let number = self.as_table_no(to, expected)?;
                self.links.push((to.span().start, number));
                return Some((
                    FieldKind::Link(number),
                    LinkRule { on_delete, record, ..LinkRule::default() },
                ));
            }
        };
        let mut tables: Vec<(Arc<str>, TableNo)> = Vec::new();
        for (name, table) in named {
            let number = self.as_table_no(table, "the name of a table")?;
            self.links.push((table.span().start, number));
            tables.push((name.into(), number));
        }
        if tables.is_empty() {
            self.problem(to.span().start, "this link points at no table", "name at least one");
            return None;
        }
        let type_member = options
            .get("type_member")
            .and_then(|value| self.as_text(value, "the name of the member that tells the table"));
        let type_member = type_member.unwrap_or(TYPE_MEMBER).into();
        let others = options.get("other_types");
        let others = others.and_then(|value| self.other_types(value, &mut tables));
        let others = others.unwrap_or_default();
        let one_of = OneOfDef { tables, others, type_field: FieldNo(0), type_member };
        let link = LinkRule { on_delete, record, one_of: Some(one_of), by: None };
        Some((FieldKind::OneOf, link))
    }

    /// A link that goes by a key of its target, which is found when all tables are known.
    fn link_by(
        &mut self,
        to: &Value<'t>,
        options: &Options<'_, 't>,
        (of, field, kind): (TableNo, FieldNo, Option<FieldKind>),
    ) -> Option<LinkRule> {
        let by = options.get("by")?;
        let at = by.span().start;
        let table = self.as_table_no(to, "the name of one table, if the link goes by a key")?;
        let name = self.as_text(by, "the name of a field of that table")?.to_owned();
        let on_delete = options.get("on_delete");
        let on_delete = on_delete.and_then(|value| self.as_name(value, "`on_delete`", &ON_DELETE));
        self.by_key.push(LinkByKey { of, field, at, name, kind });
        let by = ByKey { table, field: FieldNo(0), key: Vec::new() };
        Some(LinkRule {
            on_delete: on_delete.unwrap_or(OnDelete::Keep),
            by: Some(by),
            ..LinkRule::default()
        })
    }

    /// Finds the keys that links go by, and gives these the types of what they hold.
    pub(super) fn find_keys(&mut self, tables: &mut [TableDef]) {
        let mut open = std::mem::take(&mut self.by_key);
        // A key may have a field that is such a link itself.
        loop {
            let before = open.len();
            let known: Vec<(TableNo, FieldNo)> = open.iter().map(|it| (it.of, it.field)).collect();
            for link in std::mem::take(&mut open) {
                let own = (link.of, link.field);
                let is_open = |table: TableNo, field: &FieldNo| {
                    (table, *field) != own && known.contains(&(table, *field))
                };
                let Some(by) = tables[own.0.index()].field(own.1).by() else { continue };
                let (there, target) = (by.table, &tables[by.table.index()]);
                let field = target.field_no(&link.name);
                let key = target.unique.iter().find(|key| key.iter().any(|it| Some(*it) == field));
                let waits = key.into_iter().flatten().any(|part| {
                    let here = tables[own.0.index()].field_no(&target.field(*part).name);
                    is_open(there, part) || here.is_some_and(|here| is_open(own.0, &here))
                });
                let waits = waits || field.is_some_and(|field| (there, field) == own);
                match waits {
                    true => open.push(link),
                    false => self.find_key(tables, &link, (there, field)),
                }
            }
            if open.is_empty() || open.len() == before {
                break;
            }
        }
        for link in open {
            let message = format!("\"{}\" is itself a link whose key this one is", link.name);
            self.problem(link.at, message, "let one of them be a plain field");
        }
    }

    /// Finds the key that one link goes by.
    fn find_key(
        &mut self,
        tables: &mut [TableDef],
        link: &LinkByKey,
        (there, field): (TableNo, Option<FieldNo>),
    ) {
        let (own, target) = (&tables[link.of.index()], &tables[there.index()]);
        let Some(field) = field else {
            let help = nearest(&link.name, target.field_names());
            let message = format!("table \"{}\" has no field \"{}\"", target.name, link.name);
            return self.problem(link.at, message, help);
        };
        let kind = target.field(field).kind;
        let Some(key) = target.unique.iter().find(|key| key.contains(&field)) else {
            let (table, name) = (&target.name, &link.name);
            let message = format!("\"{name}\" is no unique key of table \"{table}\"");
            let help = match target.id.contains(&field) {
                true => "leave out `by`: a link goes by the id of its target".to_owned(),
                false => format!("add `unique = \"{name}\"` to [table.{table}]"),
            };
            return self.problem(link.at, message, help);
        };
        if !matches!(kind, FieldKind::Int | FieldKind::Text) {
            let message = format!("\"{}\" is neither int nor text", link.name);
            return self.problem(link.at, message, "go by another field of the key");
        }
        if link.kind.is_some_and(|said| said != kind) {
            let message = format!("\"{}\" is of another type", link.name);
            return self.problem(link.at, message, "leave out `type`");
        }
        let mut pairs = Vec::new();
        for part in key {
            let name = &target.field(*part).name;
            let here = match *part == field {
                true => Some(link.field),
                false => own.field_no(name),
            };
            let same = |here: &FieldNo| {
                *part == field || own.field(*here).kind == target.field(*part).kind
            };
            let Some(here) = here.filter(same) else {
                let message = format!(
                    "the key of \"{}\" has a field \"{name}\", and table \"{}\" none of that name and type",
                    target.name, own.name
                );
                let help = format!("add the field \"{name}\" to [table.{}.fields]", own.name);
                return self.problem(link.at, message, help);
            };
            pairs.push((*part, here));
        }
        let made = &mut tables[link.of.index()].fields[link.field.index()];
        made.kind = kind;
        if let Some(LinkRule { by: Some(by), .. }) = &mut made.link {
            (by.field, by.key) = (field, pairs);
        }
    }

    /// What becomes of other types; a table for them is one of the link's, under its own name.
    fn other_types(
        &mut self,
        value: &Value<'t>,
        tables: &mut Vec<(Arc<str>, TableNo)>,
    ) -> Option<OtherTypes> {
        let DeValue::Table(parts) = value.get_ref() else {
            return self.as_name(value, "`other_types`", &OTHER_TYPES);
        };
        let [to] = self.parts(parts, "`other_types`", ["to"]);
        let Some(to) = to else {
            let help = "write `other_types = { to = \"TABLE\" }`, \"skip\" or \"error\"";
            self.problem(value.span().start, "no table for what is of another type", help);
            return None;
        };
        let number = self.as_table_no(to, "the name of a table")?;
        self.links.push((to.span().start, number));
        if tables.iter().all(|(_, table)| *table != number) {
            let name = self.tables[number.index()].clone();
            if tables.iter().any(|(known, _)| *known == name) {
                let message = format!("\"{name}\" is the type of another table here");
                self.problem(to.span().start, message, "name the table among those of the link");
                return None;
            }
            tables.push((name, number));
        }
        Some(OtherTypes::To(number))
    }

    fn type_field_name(&mut self, options: &Options<'_, 't>, link: &str) -> Arc<str> {
        let said = options
            .get("type_field")
            .and_then(|value| self.as_text(value, "the name of the field that tells the table"));
        said.map_or_else(|| format!("{link}_type").into(), Arc::from)
    }

    /// Finds the field that says at which table a link points, or makes it.
    fn type_field(&mut self, table: &mut TableDef, typed: Typed, names: Option<Names>) {
        let persist = table.fields[typed.field].persist;
        let known = table.field_no(&typed.type_field);
        let number = known.unwrap_or_else(|| {
            let made = plain(&typed.type_field, FieldKind::Text, names);
            table.fields.push(FieldDef { persist, ..made });
            FieldNo(table.fields.len() as u32 - 1)
        });
        let field = table.field(number);
        if field.kind != FieldKind::Text || field.persist != persist {
            let message = format!("\"{}\" says at which table a link points", field.name);
            self.problem(typed.at, message, "make it a text that persists as the link does");
        }
        if let Some(LinkRule { one_of: Some(one_of), .. }) = &mut table.fields[typed.field].link {
            one_of.type_field = number;
        }
    }

    /// Makes the link table of a to-many link.
    fn entries(
        &mut self,
        table: &TableDef,
        number: TableNo,
        field: &FieldDef,
        (at, names): (usize, Option<Names>),
        options: &Options<'_, 't>,
        (kind, link): (FieldKind, LinkRule),
    ) -> FieldKind {
        let name =
            options.get("link_table").and_then(|value| self.as_text(value, "a table's name"));
        let name = name.map_or_else(|| format!("{}_{}", table.name, field.name), str::to_owned);
        self.reserved(&name, at);
        let others = self.entries.iter().map(|table| &table.name).chain(&self.tables);
        if let Some(same) = others.clone().find(|other| other.eq_ignore_ascii_case(&name)) {
            let message = format!("the link table \"{name}\" has the name of table \"{same}\"");
            self.problem(at, message, "give it another one with `link_table = \"NAME\"`");
        }
        if link.on_delete == OnDelete::SetNull {
            let help = "use \"cascade\" for the entry to go with its target";
            self.problem(at, "an entry of a to-many link cannot be set null", help);
        }
        let owner = LinkRule::default();
        let (one_of, record) = (link.one_of.is_some(), Pointer::of(&link.record));
        let mut fields = vec![
            FieldDef { link: Some(owner), ..plain("owner", FieldKind::Link(number), None) },
            plain("position", FieldKind::Int, None),
            FieldDef { link: Some(link), ..plain("target", kind, None) },
        ];
        if one_of {
            fields.push(plain("target_type", FieldKind::Text, None));
            if let Some(LinkRule { one_of: Some(one_of), .. }) = &mut fields[2].link {
                one_of.type_field = FieldNo(3);
            }
        }
        self.links.push((at, number));
        let own = fields.len();
        let mut made = TableDef {
            name: name.as_str().into(),
            members: Tree::default(),
            resource: name.into(),
            tombstone: None,
            checks: Checks::default(),
            fields,
            id: vec![FieldNo(0), FieldNo(1)],
            persist: table.persist && field.persist,
            unique: Vec::new(),
            version: None,
            unknown: Unknown::Ignored,
            expires_after: None,
            made: TableOrigin::Entries { owner: number, field: FieldNo(table.fields.len() as u32) },
            was: Vec::new(),
        };
        if let Some(said) = options.get("fields") {
            self.entry_fields(said, &mut made, (number, names), options.get("record").is_some());
        }
        made.checks = Checks::of(&made.fields, &made.id);
        let target = (!record.parts().is_empty()).then_some((&record, Lookup::Target));
        made.members = Branch::of(places(&made.fields, own).chain(target)).inside;
        self.entries.push(made);
        FieldKind::Links(TableNo((self.tables.len() + self.entries.len() - 1) as u32))
    }

    /// The fields of a to-many link's own, beside where an entry points.
    fn entry_fields(
        &mut self,
        value: &Value<'t>,
        entries: &mut TableDef,
        (number, names): (TableNo, Option<Names>),
        has_record: bool,
    ) {
        if !has_record {
            let message = "the fields of a link are members beside its target";
            let help = "say where in each entry the target is: `record = \"/MEMBER\"`";
            self.problem(value.span().start, message, help);
        }
        for (name, at, value) in self.entries_of(Some(value), "fields") {
            self.field_name(name, at, entries);
            let links = match value.get_ref() {
                DeValue::Table(parts) => {
                    ["to", "to_many", "by"].iter().any(|it| parts.contains_key(*it))
                }
                _ => false,
            };
            if links {
                let message = format!("\"{name}\" of a link's own fields is a link itself");
                let help = "make the entries rows of a table of their own";
                self.problem(at, message, help);
                continue;
            }
            let field = self.field(name, value, entries, number, names, &mut Vec::new());
            entries.fields.push(field);
        }
    }

    /// The only values that a field takes.
    fn values(&mut self, value: &Value<'t>, field: &FieldDef) -> Vec<crate::value::Value> {
        let DeValue::Array(listed) = value.get_ref() else {
            return self.unexpected(value, "an array of values").unwrap_or_default();
        };
        if listed.is_empty() {
            self.problem(value.span().start, "no value fits an empty set", "leave out `values`");
        }
        if !matches!(field.kind, FieldKind::Int | FieldKind::Text) {
            let message = format!("\"{}\" is neither int nor text", field.name);
            self.problem(value.span().start, message, "leave out `values`");
            return Vec::new();
        }
        let read = listed.iter().filter_map(|value| match (field.kind, value.get_ref()) {
            (FieldKind::Text, DeValue::String(text)) => Some(text.as_ref().into()),
            (FieldKind::Int, DeValue::Integer(number)) => {
                let digits = i64::from_str_radix(number.as_str(), number.radix());
                digits.ok().map(crate::value::Value::Int)
            }
            (FieldKind::Int, _) => self.unexpected(value, "a whole number"),
            _ => self.unexpected(value, "a string"),
        });
        read.collect()
    }

    /// A link needs an id to point at, and no id is part of itself.
    pub(super) fn links(&mut self, tables: &[TableDef]) {
        for (number, table) in tables.iter().enumerate() {
            let (mut inside, mut next) = (Vec::new(), vec![number]);
            while let Some(table) = next.pop() {
                let parts = tables[table].id.iter().map(|part| tables[table].field(*part).kind);
                let links = parts.filter_map(|kind| match kind {
                    FieldKind::Link(to) => Some(to.index()),
                    _ => None,
                });
                next.extend(links.filter(|to| !inside.contains(to)).collect::<Vec<_>>());
                inside.extend_from_slice(&next);
            }
            if inside.contains(&number) {
                let message = format!("the id of table \"{}\" is part of itself", table.name);
                self.problem(0, message, "leave out one of the links from the ids");
            }
        }
        for (at, to) in std::mem::take(&mut self.links) {
            let table = &tables[to.index()];
            if table.is_one_row() {
                let message = format!("\"{}\" has no id for a link to point at", table.name);
                self.problem(at, message, "drop the link: a one-row table is read by its name");
            }
        }
    }
}

/// What a table looks for in an object.
pub(super) fn members(fields: &[FieldDef], tombstone: Option<&Pointer>) -> Tree<Lookup> {
    let tombstone = tombstone.map(|from| (from, Lookup::Tombstone));
    Branch::of(places(fields, 0).chain(tombstone)).inside
}

/// Where the fields from a number on are in an object.
fn places(fields: &[FieldDef], first: usize) -> impl Iterator<Item = (&Pointer, Lookup)> {
    let numbered = move || (0..).map(FieldNo).zip(fields).skip(first);
    let also = numbered().flat_map(|(number, field)| {
        let ranks = field.also_from.iter().zip(0..);
        ranks.map(move |(from, rank)| (from, Lookup::Also(number, rank)))
    });
    numbered().map(|(number, field)| (&field.from, Lookup::Field(number))).chain(also)
}

/// A field of which only name and kind are known.
pub(crate) fn plain(name: &str, kind: FieldKind, names: Option<Names>) -> FieldDef {
    let from = names.map_or_else(|| name.to_owned(), |names| names.write(name));
    FieldDef {
        name: name.into(),
        kind,
        persist: true,
        required: false,
        values: Vec::new(),
        from: Pointer::member(&from),
        also_from: Vec::new(),
        epoch: None,
        link: None,
        was: Vec::new(),
    }
}

/// Units of time in seconds, the largest first: each as several and as one of it are written, and
/// as they may be.
const UNITS: [(u32, [&str; 3]); 5] = [
    (604_800, ["weeks", "week", "week"]),
    (86_400, ["days", "day", "d"]),
    (3600, ["hours", "hour", "h"]),
    (60, ["min", "minute", "minutes"]),
    (1, ["s", "second", "seconds"]),
];

/// How many seconds a text such as `7 days` says.
fn seconds(text: &str) -> Option<u32> {
    let digits = text.find(|c: char| !c.is_ascii_digit())?;
    let (number, unit) = text.split_at(digits);
    let (each, _) = UNITS.iter().find(|(_, names)| names.contains(&unit.trim_start()))?;
    number.parse::<u32>().ok()?.checked_mul(*each).filter(|seconds| *seconds > 0)
}

/// A number of seconds as such a text.
pub(crate) fn lasting(seconds: u32) -> String {
    // A number of weeks is no usual way to give days.
    let exact = UNITS[1..].iter().find(|(each, _)| seconds.is_multiple_of(*each));
    let (each, [several, one, _]) = exact.unwrap_or(&UNITS[UNITS.len() - 1]);
    let number = seconds / each;
    format!("{number} {}", if number == 1 { one } else { several })
}
