//! Reading `backwater.toml`: every problem is gathered with its place, none stops the reading.

mod feed;
mod rule;
mod send;
mod table;
pub(crate) use table::{TYPE_MEMBER, lasting, plain};

use std::ops::Range;
use std::sync::{Arc, OnceLock};

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::renumber::in_order_of;
use super::{Limits, NamedQuery, Pointer, ResultLimits, Rule, Schema, TableDef, TableNo, Tuning};
use crate::error::{Error, ErrorKind, Result, did_you_mean, either, nearest, nearest_name};
use crate::sorting;

type Value<'t> = Spanned<DeValue<'t>>;

/// Reads a whole schema, or all that is wrong with it. Tables of the known names get the numbers
/// that are the names' places.
pub(super) fn schema(name: &str, text: &str, known: &[Arc<str>]) -> Result<Schema> {
    let mut reader = Reader {
        name,
        text,
        problems: Vec::new(),
        tables: Vec::new(),
        links: Vec::new(),
        by_key: Vec::new(),
        entries: Vec::new(),
    };
    let (document, syntax) = DeTable::parse_recoverable(text);
    for error in &syntax {
        let at = error.span().map_or(text.len(), |span| span.start);
        reader.problem(at, format!("this is not TOML: {}", error.message()), "");
    }
    let mut made = None;
    if syntax.is_empty() {
        made = Some(reader.document(document.get_ref(), known));
    }
    sorting::few(&mut reader.problems, |(a, _), (b, _)| a < b);
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
    /// The tables that the text names.
    tables: Vec<Arc<str>>,
    /// Where a link stands, and what it points at.
    links: Vec<(usize, TableNo)>,
    /// Links that go by a key whose fields are still to be found.
    by_key: Vec<table::LinkByKey>,
    /// The link tables that to-many links need, in the order of their numbers.
    entries: Vec<TableDef>,
}

impl<'t> Reader<'t> {
    fn problem(&mut self, at: usize, message: impl Into<String>, help: impl Into<String>) {
        let place = format!("{}:{}", self.name, line_and_column(self.text, at));
        self.problems.push((at, Error::new(ErrorKind::Schema, message).at(place).help(help)));
    }

    fn document(&mut self, document: &DeTable<'t>, known: &[Arc<str>]) -> Schema {
        let parts = ["table", "response", "send", "feed", "query", "limits", "drop"];
        let [tables, rules, sends, feeds, queries, limits, drop] =
            self.parts(document, "a schema", parts);
        let limits = limits.and_then(|limits| self.limits(limits)).unwrap_or_default();
        let tables = self.entries_of(tables, "table.NAME");
        self.tables = tables.iter().map(|(name, ..)| Arc::from(*name)).collect();
        let read = tables.iter().enumerate().map(|(number, (name, at, value))| {
            self.table_name(name, *at, number);
            self.table(TableNo(number as u32), name, value)
        });
        let mut tables: Vec<TableDef> = read.collect();
        tables.append(&mut self.entries);
        self.find_keys(&mut tables);
        self.links(&tables);
        let drops = drop.map(|drop| self.drops(drop, &tables)).unwrap_or_default();
        let rules = self.entries_of(rules, "response.NAME");
        let mut rules: Vec<Rule> = rules
            .iter()
            .filter_map(|(name, _, value)| self.rule(name, value, &mut tables))
            .collect();
        self.check_rules(&rules, &tables);
        let sends = self.entries_of(sends, "send.NAME");
        let sends =
            sends.iter().filter_map(|(name, _, value)| self.send(name, value, &tables, &rules));
        let sends: Vec<_> = sends.collect();
        let feeds = self.entries_of(feeds, "feed.NAME");
        let feeds =
            feeds.iter().filter_map(|(name, _, value)| self.feed(name, value, &tables, &rules));
        let feeds: Vec<_> = feeds.collect();
        in_order_of(known, &mut tables, &mut rules);
        let queries = self.entries_of(queries, "query");
        let queries =
            queries.iter().filter_map(|(name, _, value)| self.query(name, value)).collect();
        Schema {
            tables: tables.into(),
            rules: rules.into(),
            sends: sends.into(),
            feeds: feeds.into(),
            queries,
            limits,
            tuning: Tuning::default(),
            drops: drops.into(),
            text: self.text.into(),
            name: self.name.into(),
            places: Arc::default(),
        }
    }

    /// Tables and fields, `table.field`, that are not persisted.
    fn drops(&mut self, value: &Value<'t>, tables: &[TableDef]) -> Vec<Arc<str>> {
        let DeValue::Array(names) = value.get_ref() else {
            self.unexpected::<()>(
                value,
                "an array of tables and fields, such as [\"crew\", \"sailing.note\"]",
            );
            return Vec::new();
        };
        let mut drops = Vec::new();
        for value in names {
            let Some(name) = self.as_text(value, "a table, or a field as \"table.field\"") else {
                continue;
            };
            let (table, field) =
                name.split_once('.').map_or((name, None), |(table, field)| (table, Some(field)));
            let declared = tables.iter().find(|declared| declared.name.eq_ignore_ascii_case(table));
            if declared.is_some_and(|declared| {
                field.is_none_or(|field| declared.field_no(field).is_some())
            }) {
                let message = format!("\"{name}\" is declared, so it cannot be dropped");
                self.problem(value.span().start, message, "leave it out of one of them");
            }
            drops.push(name.into());
        }
        drops
    }

    fn limits(&mut self, value: &Value<'t>) -> Option<Limits> {
        let parts = ["depth", "bytes", "stored_bytes", "result_rows", "result_bytes", "text_bytes"];
        let table = self.as_table(value, "a table with limits, such as `depth = 200`")?;
        let [depth, bytes, stored, result_rows, result_bytes, text_bytes] =
            self.parts(table, "`limits`", parts);
        let otherwise = Limits::default();
        let mut count = |value: Option<&Value<'t>>, most: usize| self.as_count(value?, most);
        let most = isize::MAX as usize;
        let ResultLimits { rows, bytes: kept, text } = otherwise.results;
        Some(Limits {
            depth: count(depth, Limits::DEEPEST).unwrap_or(otherwise.depth),
            bytes: count(bytes, most).unwrap_or(otherwise.bytes),
            stored_bytes: count(stored, most),
            results: ResultLimits {
                rows: count(result_rows, u32::MAX as usize).unwrap_or(rows),
                bytes: count(result_bytes, most).unwrap_or(kept),
                text: count(text_bytes, most).unwrap_or(text),
            },
        })
    }

    /// A whole number from 1 to `most`.
    fn as_count(&mut self, value: &Value<'t>, most: usize) -> Option<usize> {
        let number = value.get_ref().as_integer();
        let number = number.and_then(|n| usize::from_str_radix(n.as_str(), n.radix()).ok());
        match number.filter(|number| (1..=most).contains(number)) {
            Some(number) => Some(number),
            None => self.unexpected(value, &format!("a whole number from 1 to {most}")),
        }
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
        self.find_parts(table, what, &known, &mut found);
        found
    }

    fn find_parts<'d>(
        &mut self,
        table: &'d DeTable<'t>,
        what: &str,
        known: &[&str],
        found: &mut [Option<&'d Value<'t>>],
    ) {
        let nearest = |name: &str| nearest_name(name, &mut known.iter().copied());
        for (key, value) in table.iter() {
            let name = key.get_ref().as_ref();
            let meant = if known.contains(&name) { Some(name) } else { nearest(name) };
            if meant != Some(name) {
                let message = format!("{what} has no \"{name}\"");
                let help =
                    meant.map_or_else(|| format!("expected {}", either(known)), did_you_mean);
                self.problem(key.span().start, message, help);
            }
            let place = known.iter().position(|name| Some(*name) == meant);
            if let Some(place) = place.filter(|place| found[*place].is_none()) {
                found[place] = Some(value);
            }
        }
    }

    /// The entries of a table of tables: name, where it stands, value.
    fn entries_of<'d>(
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
        self.note_unexpected(value, expected);
        None
    }

    fn note_unexpected(&mut self, value: &Value<'t>, expected: &str) {
        let message = format!("found {}, expected {expected}", found(value.get_ref()));
        self.problem(value.span().start, message, "");
    }

    /// One of several names.
    fn as_name<T: Copy>(
        &mut self,
        value: &Value<'t>,
        what: &str,
        known: &[(&str, T)],
    ) -> Option<T> {
        let names: Vec<&str> = known.iter().map(|(name, _)| *name).collect();
        self.as_one_of(value, what, &names).map(|place| known[place].1)
    }

    /// The place of a name among several.
    fn as_one_of(&mut self, value: &Value<'t>, what: &str, names: &[&str]) -> Option<usize> {
        let DeValue::String(name) = value.get_ref() else {
            return self.unexpected(value, &format!("{what}: {}", either(names)));
        };
        let found = names.iter().position(|known| known == name);
        if found.is_none() {
            let help = nearest_name(name, &mut names.iter().copied()).map(did_you_mean);
            let message = format!("there is no {what} \"{name}\"; expected {}", either(names));
            self.problem(value.span().start, message, help.unwrap_or_default());
        }
        found
    }

    /// A JSON Pointer.
    fn as_pointer(&mut self, value: &Value<'t>) -> Option<Pointer> {
        let text = self.as_text(value, "a JSON Pointer such as \"/sailings\"")?;
        let read = Pointer::parse(text);
        read.map_err(|why| self.problem(value.span().start, why, "write it as \"/sailings\"")).ok()
    }

    /// The number of a table that the text names.
    fn as_table_no(&mut self, value: &Value<'t>, expected: &str) -> Option<TableNo> {
        let name = self.as_text(value, expected)?;
        self.table_no(value.span().start, name)
    }

    fn table_no(&mut self, at: usize, name: &str) -> Option<TableNo> {
        let position = self.tables.iter().position(|table| table.eq_ignore_ascii_case(name));
        if position.is_none() {
            let help = nearest(name, self.tables.iter().map(|table| &**table));
            self.problem(at, format!("there is no table \"{name}\""), help);
        }
        position.map(|position| TableNo(position as u32))
    }

    fn as_flag(&mut self, value: Option<&Value<'t>>, otherwise: bool) -> bool {
        match value.map(|value| (value, value.get_ref())) {
            None => otherwise,
            Some((_, DeValue::Boolean(flag))) => *flag,
            Some((value, _)) => self.unexpected(value, "true or false").unwrap_or(otherwise),
        }
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
            compiled: OnceLock::new(),
        })
    }
}

/// A value, or the values of an array.
fn one_or_several<'v, 't>(value: &'v Value<'t>) -> Vec<&'v Value<'t>> {
    match value.get_ref() {
        DeValue::Array(several) => several.iter().collect(),
        _ => vec![value],
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
