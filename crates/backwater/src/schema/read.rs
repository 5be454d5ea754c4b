//! Reading `backwater.toml`: every problem is gathered with its place, none stops the reading.

use std::ops::Range;
use std::sync::Arc;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::{Field, FieldNo, Kind, NamedQuery, Pointer, Rule, Schema, Table, TableNo};
use crate::error::{Error, ErrorKind, Result, did_you_mean, either, nearest, nearest_name};

type Value<'t> = Spanned<DeValue<'t>>;

/// Prefixes that SQLite and the storage form keep for themselves.
const RESERVED: [&str; 2] = ["sqlite_", "backwater_"];

/// Reads a whole schema, or all that is wrong with it.
pub(super) fn schema(name: &str, text: &str) -> Result<Schema> {
    let mut reader = Reader { name, text, problems: Vec::new(), links: Vec::new() };
    let (document, syntax) = DeTable::parse_recoverable(text);
    for error in &syntax {
        let at = error.span().map_or(text.len(), |span| span.start);
        reader.problem(at, format!("this is not TOML: {}", error.message()), "");
    }
    let mut made = None;
    if syntax.is_empty() {
        made = Some(reader.document(document.get_ref()));
    }
    reader.problems.sort_by_key(|(at, _)| *at);
    let problems = reader.problems.into_iter().map(|(_, problem)| problem).collect();
    match (Error::gather(problems), made) {
        (None, Some(schema)) => Ok(schema),
        (Some(problems), _) => Err(problems),
        (None, None) => Err(Error::new(ErrorKind::Schema, "this is not TOML").at(name)),
    }
}

struct Reader<'t> {
    name: &'t str,
    text: &'t str,
    problems: Vec<(usize, Error)>,
    /// Where a link stands, and what it points at.
    links: Vec<(usize, TableNo)>,
}

impl<'t> Reader<'t> {
    fn problem(&mut self, at: usize, message: impl Into<String>, help: impl Into<String>) {
        let place = format!("{}:{}", self.name, line_and_column(self.text, at));
        self.problems.push((at, Error::new(ErrorKind::Schema, message).at(place).help(help)));
    }

    fn document(&mut self, document: &DeTable<'t>) -> Schema {
        let [tables, rules, queries] =
            self.parts(document, "a schema", ["table", "response", "query"]);
        let tables = self.entries(tables, "table.NAME");
        let names: Vec<Arc<str>> = tables.iter().map(|(name, ..)| Arc::from(*name)).collect();
        let tables: Arc<[Table]> = tables
            .iter()
            .enumerate()
            .map(|(number, (name, at, value))| {
                self.table_name(name, *at, &names[..number]);
                self.table(name, value, &names)
            })
            .collect();
        self.links(&tables);
        let rules = self.entries(rules, "response.NAME");
        let rules =
            rules.iter().filter_map(|(name, _, value)| self.rule(name, value, &names)).collect();
        let queries = self.entries(queries, "query");
        let queries =
            queries.iter().filter_map(|(name, _, value)| self.query(name, value)).collect();
        Schema { tables, rules, queries, text: self.text.into(), name: self.name.into() }
    }

    /// The values of the named parts; a part of another name is a problem, and is read as the one
    /// that it is most likely meant to be, so that one slip is one problem.
    fn parts<'d, const N: usize>(
        &mut self,
        table: &'d DeTable<'t>,
        what: &str,
        known: [&str; N],
    ) -> [Option<&'d Value<'t>>; N] {
        let mut found = [None; N];
        for (key, value) in table.iter() {
            let name = key.get_ref().as_ref();
            let meant = if known.contains(&name) { Some(name) } else { nearest_name(name, known) };
            if meant != Some(name) {
                let message = format!("{what} has no \"{name}\"; expected {}", either(&known));
                let help = meant.map(did_you_mean).unwrap_or_default();
                self.problem(key.span().start, message, help);
            }
            let place = known.iter().position(|name| Some(*name) == meant);
            if let Some(place) = place.filter(|place| found[*place].is_none()) {
                found[place] = Some(value);
            }
        }
        found
    }

    /// The entries of a table of tables: name, where it stands, value.
    fn entries<'d>(
        &mut self,
        value: Option<&'d Value<'t>>,
        shape: &str,
    ) -> Vec<(&'d str, usize, &'d Value<'t>)> {
        let Some(value) = value else {
            return Vec::new();
        };
        let Some(table) = self.as_table(value, &format!("a table [{shape}]")) else {
            return Vec::new();
        };
        table.iter().map(|(key, value)| (key.get_ref().as_ref(), key.span().start, value)).collect()
    }

    fn as_table<'d>(&mut self, value: &'d Value<'t>, expected: &str) -> Option<&'d DeTable<'t>> {
        match value.get_ref() {
            DeValue::Table(table) => Some(table),
            _ => self.unexpected(value, expected),
        }
    }

    fn as_text<'d>(&mut self, value: &'d Value<'t>, expected: &str) -> Option<&'d str> {
        match value.get_ref() {
            DeValue::String(text) => Some(text.as_ref()),
            _ => self.unexpected(value, expected),
        }
    }

    fn unexpected<T>(&mut self, value: &Value<'t>, expected: &str) -> Option<T> {
        let message = format!("found {}, expected {expected}", found(value.get_ref()));
        self.problem(value.span().start, message, "");
        None
    }

    fn as_flag(&mut self, value: Option<&Value<'t>>, otherwise: bool) -> bool {
        match value.map(|value| (value, value.get_ref())) {
            None => otherwise,
            Some((_, DeValue::Boolean(flag))) => *flag,
            Some((value, _)) => self.unexpected(value, "true or false").unwrap_or(otherwise),
        }
    }

    fn table_name(&mut self, name: &str, at: usize, before: &[Arc<str>]) {
        if name.is_empty() || name.contains('\0') {
            self.problem(at, "a table's name is empty or has a U+0000", "give it a name");
        }
        if let Some(prefix) =
            RESERVED.iter().find(|prefix| name.to_lowercase().starts_with(**prefix))
        {
            self.problem(
                at,
                format!("table names that begin with \"{prefix}\" are reserved"),
                "take another name",
            );
        }
        if let Some(same) = before.iter().find(|other| other.eq_ignore_ascii_case(name)) {
            self.problem(
                at,
                format!("tables \"{same}\" and \"{name}\" are one name in SQL, which ignores case"),
                "take another name",
            );
        }
    }

    fn table(&mut self, name: &str, value: &Value<'t>, tables: &[Arc<str>]) -> Table {
        let mut made = Table { name: name.into(), fields: Vec::new(), id: None, persist: true };
        let at = value.span().start;
        let Some(table) =
            self.as_table(value, "a table with `id` (or `one_row = true`) and `fields`")
        else {
            return made;
        };
        let known = ["id", "one_row", "fields", "persist"];
        let [id, one_row, fields, persist] = self.parts(table, "a table", known);
        made.persist = self.as_flag(persist, true);
        let entries = self.entries(fields, &format!("table.{name}.fields"));
        if entries.is_empty()
            && (fields.is_none() || matches!(fields.map(Spanned::get_ref), Some(DeValue::Table(_))))
        {
            self.problem(
                at,
                format!("table \"{name}\" has no fields"),
                format!("list them under [table.{name}.fields]"),
            );
        }
        for (field_name, at, value) in entries {
            self.field_name(field_name, at, &made);
            made.fields.push(self.field(field_name, value, tables));
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
            (Some(id), false) => made.id = self.id(id, &made),
        }
        made
    }

    fn id(&mut self, value: &Value<'t>, table: &Table) -> Option<FieldNo> {
        let name = self.as_text(value, "the name of the field that holds the id")?;
        let at = value.span().start;
        let Some(number) = table.field_no(name) else {
            let help = nearest(name, table.field_names());
            self.problem(at, format!("table \"{}\" has no field \"{name}\"", table.name), help);
            return None;
        };
        let field = table.field(number);
        if !matches!(field.kind, Kind::Int | Kind::Text) {
            self.problem(
                at,
                format!("the id \"{name}\" is neither int nor text"),
                "give that field one of these types",
            );
        }
        if !field.persist && table.persist {
            self.problem(
                at,
                format!("the id \"{name}\" must persist, as its rows do"),
                "mark the table instead",
            );
        }
        Some(number)
    }

    fn field_name(&mut self, name: &str, at: usize, table: &Table) {
        if name.is_empty() || name.contains('\0') {
            self.problem(at, "a field's name is empty or has a U+0000", "give it a name");
        }
        if let Some(same) = table.fields.iter().find(|field| field.name.eq_ignore_ascii_case(name))
        {
            self.problem(
                at,
                format!(
                    "fields \"{}\" and \"{name}\" are one name in SQL, which ignores case",
                    same.name
                ),
                "take another name",
            );
        }
    }

    fn field(&mut self, name: &str, value: &Value<'t>, tables: &[Arc<str>]) -> Field {
        let mut made = Field { name: name.into(), kind: Kind::Text, persist: true };
        let (mut kind, mut to) = (Some(value), None);
        match value.get_ref() {
            DeValue::String(_) => {}
            DeValue::Table(table) => {
                let [a_kind, a_link, persist] =
                    self.parts(table, "a field", ["type", "to", "persist"]);
                (kind, to) = (a_kind, a_link);
                made.persist = self.as_flag(persist, true);
            }
            other => {
                let expected = "a type such as \"text\", or a link such as { to = \"vessel\" }";
                self.problem(
                    value.span().start,
                    format!("found {}, expected {expected}", found(other)),
                    "",
                );
                return made;
            }
        }
        match (kind, to) {
            (Some(kind), None) => made.kind = self.kind(kind).unwrap_or(Kind::Text),
            (None, Some(to)) => made.kind = self.link(to, tables).unwrap_or(Kind::Text),
            (Some(_), Some(to)) => {
                self.problem(
                    to.span().start,
                    "a field has a `type` or is a link, not both",
                    "leave out one of them",
                );
            }
            (None, None) => self.problem(
                value.span().start,
                format!("field \"{name}\" says no type"),
                "add `type = \"text\"`, or `to = \"TABLE\"` for a link",
            ),
        }
        made
    }

    fn kind(&mut self, value: &Value<'t>) -> Option<Kind> {
        let name = self.as_text(value, "the name of a type")?;
        let known = Kind::NAMES.map(|(name, _)| name);
        let kind = Kind::NAMES.iter().find(|(known, _)| *known == name).map(|(_, kind)| *kind);
        if kind.is_none() {
            let help = nearest_name(name, known).map(did_you_mean).unwrap_or_default();
            let message = format!("there is no type \"{name}\"; expected {}", either(&known));
            self.problem(value.span().start, message, help);
        }
        kind
    }

    fn link(&mut self, value: &Value<'t>, tables: &[Arc<str>]) -> Option<Kind> {
        let name = self.as_text(value, "the name of the table that the link points at")?;
        let number = self.table_no(value, name, tables)?;
        self.links.push((value.span().start, number));
        Some(Kind::Link(number))
    }

    fn table_no(&mut self, value: &Value<'t>, name: &str, tables: &[Arc<str>]) -> Option<TableNo> {
        let position = tables.iter().position(|table| table.eq_ignore_ascii_case(name));
        if position.is_none() {
            let help = nearest(name, tables.iter().map(|table| &**table));
            self.problem(value.span().start, format!("there is no table \"{name}\""), help);
        }
        position.map(|position| TableNo(position as u32))
    }

    /// A link needs an id to point at.
    fn links(&mut self, tables: &[Table]) {
        for (at, to) in std::mem::take(&mut self.links) {
            let table = &tables[to.index()];
            if table.id.is_none() {
                let message = format!("\"{}\" has no id for a link to point at", table.name);
                self.problem(at, message, "drop the link: a one-row table is read by its name");
            }
        }
    }

    fn rule(&mut self, name: &str, value: &Value<'t>, tables: &[Arc<str>]) -> Option<Rule> {
        let parts = self.as_table(value, "a table with `records` and `table`")?;
        let at = value.span().start;
        let [records, table] = self.parts(parts, "a response rule", ["records", "table"]);
        let records = match records {
            None => Pointer::parse("").ok(),
            Some(value) => {
                self.as_text(value, "a JSON Pointer such as \"/sailings\"").and_then(|text| {
                    Pointer::parse(text)
                        .map_err(|why| {
                            self.problem(value.span().start, why, "write it as \"/sailings\"")
                        })
                        .ok()
                })
            }
        };
        let Some(value) = table else {
            self.problem(
                at,
                format!("rule \"{name}\" does not say which table its records go to"),
                "add `table = \"TABLE\"`",
            );
            return None;
        };
        let table = self.as_text(value, "the name of a table")?;
        let table = self.table_no(value, table, tables)?;
        Some(Rule { name: name.into(), records: records?, table })
    }

    fn query(&mut self, name: &str, value: &Value<'t>) -> Option<NamedQuery> {
        let sql = self.as_text(value, "an SQL statement in a string")?;
        let Range { start, end } = value.span();
        let inside = self.text.get(start..end).and_then(|raw| raw.find(sql));
        Some(NamedQuery {
            name: name.into(),
            sql: sql.into(),
            offset: start + inside.unwrap_or(0),
            verbatim: inside.is_some(),
        })
    }
}

/// What a TOML value is, for "found …".
fn found(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a string",
        DeValue::Integer(_) => "an integer",
        DeValue::Float(_) => "a float",
        DeValue::Boolean(_) => "a boolean",
        DeValue::Datetime(_) => "a date or time",
        DeValue::Array(_) => "an array",
        DeValue::Table(_) => "a table",
    }
}

/// `line:column` of a byte offset, both from 1, the column in characters.
pub(crate) fn line_and_column(text: &str, offset: usize) -> String {
    let before = text.get(..offset.min(text.len())).unwrap_or(text);
    let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
    let line = before.matches('\n').count() + 1;
    format!("{line}:{}", before[line_start..].chars().count() + 1)
}
