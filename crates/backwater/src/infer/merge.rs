//! Adding to the text of a schema: what stands there stays as it is, comments and all.

use rustc_hash::FxHashSet;
use toml_edit::{DocumentMut, InlineTable, Item, Key, Table, TableLike, Value};

use super::claims::Declared;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{Names, Schema};

/// A byte order mark, as some editors put in front of a text.
const MARK: char = '\u{feff}';

/// The text of a schema, to be added to.
#[derive(Clone)]
pub(super) struct Document {
    document: DocumentMut,
    /// Whether its lines end as on Windows.
    crlf: bool,
    /// Whether it begins with a byte order mark.
    mark: bool,
}

impl Document {
    pub(super) fn parse(text: &str) -> Result<Self> {
        let document = text.parse().map_err(|error: toml_edit::TomlError| {
            Error::new(ErrorKind::Schema, format!("this is not TOML: {}", error.message()))
        })?;
        Ok(Self { document, crlf: text.contains("\r\n"), mark: text.starts_with(MARK) })
    }

    /// What it says of itself that a schema does not remember; `reading` are the rules that read the
    /// samples.
    pub(super) fn declared(
        &self,
        text: &str,
        schema: Schema,
        reading: Vec<Option<usize>>,
    ) -> Declared {
        let named = schema.table_numbers().filter_map(|number| {
            let table = self.document.get("table")?.get(&*schema.table(number).name)?;
            let name = table.get("names")?.as_str()?;
            let known = Names::KNOWN.iter().find(|(known, _)| *known == name)?;
            Some((number, known.1))
        });
        let names = named.collect();
        let mut declared = Declared {
            schema,
            reading,
            names,
            declined: Default::default(),
            declined_rules: FxHashSet::default(),
            declined_rows: FxHashSet::default(),
        };
        let mut head: Vec<String> = Vec::new();
        for line in text.lines() {
            let line = line.trim_start();
            if let Some(path) = header(line) {
                head = path;
                continue;
            }
            let Some(comment) = line.strip_prefix('#').map(str::trim_start) else { continue };
            if let Some(path) = header(comment) {
                if let [kind, name] = &*path
                    && kind == "response"
                {
                    declared.declined_rules.insert(name.clone());
                }
                head = path;
                continue;
            }
            let Ok(commented) = comment.parse::<DocumentMut>() else { continue };
            if let [kind, rule] = &*head
                && kind == "response"
            {
                let beside = commented.get("beside").and_then(Item::as_table_like);
                let rows = beside.into_iter().flat_map(TableLike::iter);
                let rows = rows.map(|(table, _)| (rule.clone(), table.to_owned()));
                declared.declined_rows.extend(rows);
            }
            let fields = match &*head {
                [kind, _, fields] if kind == "table" && fields == "fields" => {
                    Some(commented.as_item())
                }
                [kind, _] if kind == "table" => commented.get("fields"),
                _ => None,
            };
            let table = head.get(1).and_then(|table| declared.schema.find_table(table));
            let fields = fields.and_then(Item::as_table_like).into_iter().flat_map(TableLike::iter);
            if let Some(table) = table {
                let names = fields.map(|(name, _)| name.to_owned());
                declared.declined.entry(table).or_default().extend(names);
            }
        }
        declared
    }

    /// Adds a line to the fields of a table.
    pub(super) fn add_field(&mut self, table: &str, line: &str, comment: &str) -> Result<()> {
        let fields = self.at(&["table", table, "fields"])?;
        match fields {
            Item::Value(Value::InlineTable(fields)) => add_inline(fields, line),
            fields => add(fields.as_table_like_mut().ok_or_else(unexpected)?, line, comment),
        }
    }

    /// Gives a rule another URL Template.
    pub(super) fn set_url(&mut self, rule: &str, template: &str) -> Result<()> {
        let url = self.at(&["response", rule, "url"])?.as_value_mut().ok_or_else(unexpected)?;
        let decor = url.decor().clone();
        *url = Value::from(template);
        *url.decor_mut() = decor;
        Ok(())
    }

    /// Says in a rule where rows of a table stand beside its records.
    pub(super) fn add_rows(&mut self, rule: &str, table: &str, place: &str) -> Result<()> {
        let rule = self.at(&["response", rule])?.as_table_like_mut().ok_or_else(unexpected)?;
        if !rule.contains_key("beside") {
            let mut dotted = Table::new();
            dotted.set_dotted(true);
            rule.insert("beside", Item::Table(dotted));
        }
        let beside = rule.get_mut("beside").and_then(Item::as_table_like_mut);
        let Some(beside) = beside else { return Err(unexpected()) };
        let place: Value = place.parse().map_err(|_| unexpected())?;
        match beside.get_mut(table).and_then(Item::as_value_mut) {
            Some(Value::Array(several)) => several.push(place),
            Some(one) => {
                let decor = one.decor().clone();
                let several = [one.clone(), place].into_iter().map(|mut place| {
                    place.decor_mut().clear();
                    place
                });
                *one = Value::Array(several.collect());
                *one.decor_mut() = decor;
            }
            None => drop(beside.insert(table, Item::Value(place))),
        }
        Ok(())
    }

    /// The text with tables and rules behind it.
    pub(super) fn with(mut self, blocks: &str, head: &str) -> Result<String> {
        let added: DocumentMut = blocks.parse().map_err(|_| unexpected())?;
        let in_one = ["table", "response"].into_iter().any(|kind| {
            self.document.get(kind).is_some_and(Item::is_inline_table) && added.contains_key(kind)
        });
        for kind in ["table", "response"].into_iter().filter(|_| in_one) {
            let all = self.document.entry(kind).or_insert(Item::Table(Table::new()));
            let new = added.get(kind).and_then(Item::as_table_like);
            for (name, item) in new.into_iter().flat_map(TableLike::iter) {
                let value = item.clone().into_value().map_err(|_| unexpected())?;
                match &mut *all {
                    Item::Value(Value::InlineTable(all)) => insert(all, name, value),
                    all => {
                        drop(all.as_table_like_mut().map(|it| it.insert(name, Item::Value(value))))
                    }
                }
            }
        }
        let mut text = self.document.to_string();
        if !in_one && !blocks.is_empty() {
            if !text.is_empty() && !text.ends_with('\n') {
                text.push('\n');
            }
            let apart = if text.is_empty() { "" } else { "\n" };
            text = format!("{text}{apart}# {head}\n\n{}\n", blocks.trim_end());
        }
        if self.crlf {
            text = text.replace("\r\n", "\n").replace('\n', "\r\n");
        }
        if self.mark && !text.starts_with(MARK) {
            text.insert(0, MARK);
        }
        Ok(text)
    }

    fn at(&mut self, path: &[&str]) -> Result<&mut Item> {
        let mut item = self.document.as_item_mut();
        for name in path {
            let inside = item.as_table_like_mut().ok_or_else(unexpected)?;
            // SQL's names are case-insensitive.
            let known = inside.iter().map(|(known, _)| known.to_owned());
            let same = { known }.find(|known| known.eq_ignore_ascii_case(name));
            let same = same.unwrap_or_else(|| (*name).to_owned());
            item = inside.get_mut(&same).ok_or_else(unexpected)?;
        }
        Ok(item)
    }
}

/// The path in the brackets of a table's header.
fn header(line: &str) -> Option<Vec<String>> {
    let alone: DocumentMut = line.starts_with('[').then(|| line.parse().ok())??;
    let (mut path, mut inside) = (Vec::new(), alone.as_item());
    while let Some((name, next)) = inside.as_table_like().and_then(|table| table.iter().next()) {
        path.push(name.to_owned());
        inside = next;
    }
    Some(path)
}

/// What a line of the form `name = value` says.
fn entry(line: &str) -> Result<(String, Value)> {
    let parsed: DocumentMut = line.parse().map_err(|_| unexpected())?;
    let (name, item) = parsed.iter().next().ok_or_else(unexpected)?;
    let mut value = item.as_value().ok_or_else(unexpected)?.clone();
    value.decor_mut().set_prefix(" ");
    Ok((name.to_owned(), value))
}

/// Adds a line to a table that has no room for comments.
fn add_inline(fields: &mut InlineTable, line: &str) -> Result<()> {
    let (name, value) = entry(line)?;
    insert(fields, &name, value);
    Ok(())
}

/// Inserts a value at the end, with the space in front of the brace behind it.
fn insert(all: &mut InlineTable, name: &str, mut value: Value) {
    let last = all.iter_mut().last();
    let space = last.and_then(|(_, last)| {
        let space = last.decor().suffix()?.as_str()?.to_owned();
        last.decor_mut().set_suffix("");
        Some(space)
    });
    value.decor_mut().set_prefix(" ");
    value.decor_mut().set_suffix(space.unwrap_or_default());
    all.insert(name, value);
}

/// Adds a line to a table, its comment below those of the others.
fn add(fields: &mut dyn TableLike, line: &str, comment: &str) -> Result<()> {
    let (name, mut value) = entry(line)?;
    let column = fields.iter().filter_map(|(name, item)| {
        let suffix = item.as_value()?.decor().suffix()?.as_str()?;
        let spaces = suffix.find('#')?;
        let mut plain = item.as_value()?.clone();
        plain.decor_mut().clear();
        Some(format!("{} = {plain}", Key::new(name).display_repr()).chars().count() + spaces)
    });
    let column = column.max().unwrap_or(0);
    let space = column.saturating_sub(line.chars().count()).max(1);
    if !comment.is_empty() {
        value.decor_mut().set_suffix(format!("{:space$}# {comment}", ""));
    }
    fields.insert(&name, Item::Value(value));
    Ok(())
}

/// The text was read as a schema, so it has the form that one has.
fn unexpected() -> Error {
    Error::new(ErrorKind::Schema, "this form of TOML cannot be added to")
        .help("write tables as [table.NAME] and rules as [response.NAME]")
}
