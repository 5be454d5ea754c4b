//! What a cache holds: tables, their fields and links, response rules, named queries.
//!
//! It knows names, types and where a schema's text says them. It must not know rows, nor parse
//! SQL: a named query is a text here, which the query room checks. Every room below reads it.

mod pointer;
mod read;
pub(crate) use read::line_and_column;

use std::fmt;
use std::sync::Arc;

use crate::error::{Error, ErrorKind, Result, nearest};

pub(crate) use pointer::{Pointer, write_part};

/// A table's number in its schema.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct TableNo(pub(crate) u32);

/// A field's number in its table, in the order in which the schema names them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct FieldNo(pub(crate) u32);

impl TableNo {
    pub(crate) fn index(self) -> usize {
        self.0 as usize
    }
}

impl FieldNo {
    pub(crate) fn index(self) -> usize {
        self.0 as usize
    }
}

/// The tables, response rules and named queries of a cache, read from `backwater.toml`.
///
/// ```
/// use backwater::Schema;
///
/// let schema = Schema::parse("backwater.toml", r#"
///     [table.port]
///     id = "code"
///     fields = { code = "text", name = "text" }
///
///     [table.sailing]
///     id = "id"
///     fields = { id = "int", from = { to = "port" }, departs_at = "timestamp" }
///
///     [table.board]
///     one_row = true
///     fields = { search = { type = "text", persist = false } }
///
///     [response.departures]
///     records = "/sailings"
///     table = "sailing"
///
///     [query]
///     next = "SELECT id, departs_at FROM sailing ORDER BY departs_at LIMIT 5"
/// "#)?;
/// assert_eq!(schema.table_names().collect::<Vec<_>>(), ["port", "sailing", "board"]);
/// assert_eq!(schema.query("next"), Some("SELECT id, departs_at FROM sailing ORDER BY departs_at LIMIT 5"));
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Clone)]
pub struct Schema {
    pub(crate) tables: Arc<[Table]>,
    pub(crate) rules: Arc<[Rule]>,
    pub(crate) queries: Arc<[NamedQuery]>,
    pub(crate) text: Arc<str>,
    pub(crate) name: Arc<str>,
}

/// A table: its fields, and which of them tells its rows apart.
#[derive(Debug, PartialEq)]
pub(crate) struct Table {
    pub(crate) name: Arc<str>,
    pub(crate) fields: Vec<Field>,
    /// The field that holds the id; a one-row table has none.
    pub(crate) id: Option<FieldNo>,
    pub(crate) persist: bool,
}

/// A field of a table.
#[derive(Debug, PartialEq)]
pub(crate) struct Field {
    pub(crate) name: Arc<str>,
    pub(crate) kind: Kind,
    pub(crate) persist: bool,
}

/// What a field holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    Int,
    Float,
    Bool,
    Text,
    Timestamp,
    Json,
    /// A to-one link; its value is the id of a row of that table.
    Link(TableNo),
}

/// What one kind of API response holds, and where.
#[derive(Debug)]
pub(crate) struct Rule {
    pub(crate) name: Arc<str>,
    pub(crate) records: Pointer,
    pub(crate) table: TableNo,
}

/// An SQL statement with a name.
#[derive(Debug)]
pub(crate) struct NamedQuery {
    pub(crate) name: Arc<str>,
    pub(crate) sql: Arc<str>,
    /// Where the statement begins in the schema's text.
    pub(crate) offset: usize,
    /// Whether the statement stands in the schema's text letter by letter.
    pub(crate) verbatim: bool,
}

impl Kind {
    /// The types that a schema can name.
    pub(crate) const NAMES: [(&'static str, Kind); 6] = [
        ("int", Kind::Int),
        ("float", Kind::Float),
        ("bool", Kind::Bool),
        ("text", Kind::Text),
        ("timestamp", Kind::Timestamp),
        ("json", Kind::Json),
    ];
}

impl Table {
    /// The field of that name; SQL names do not tell upper from lower case.
    pub(crate) fn field_no(&self, name: &str) -> Option<FieldNo> {
        let exact = self.fields.iter().position(|field| &*field.name == name);
        exact
            .or_else(|| self.fields.iter().position(|field| field.name.eq_ignore_ascii_case(name)))
            .map(|position| FieldNo(position as u32))
    }

    pub(crate) fn field(&self, number: FieldNo) -> &Field {
        &self.fields[number.index()]
    }

    pub(crate) fn field_names(&self) -> impl Iterator<Item = &str> {
        self.fields.iter().map(|field| &*field.name)
    }

    pub(crate) fn field_numbers(&self) -> impl Iterator<Item = FieldNo> + use<> {
        (0..self.fields.len() as u32).map(FieldNo)
    }

    /// Whether the id of this table's rows is a text.
    pub(crate) fn has_text_id(&self) -> bool {
        self.id.is_some_and(|id| self.field(id).kind == Kind::Text)
    }
}

impl Schema {
    /// Reads a schema's text. `name` is what errors call it, such as the path of its file.
    ///
    /// Named queries are texts here; [`Schema::check`] reads them as SQL.
    ///
    /// # Errors
    /// [`ErrorKind::Schema`], with every problem found ([`Error::all`]): each names file, line and
    /// column, what was expected and, for a misspelt name, the nearest known one.
    ///
    /// See [`Schema`] for an example.
    pub fn parse(name: &str, text: &str) -> Result<Self> {
        read::schema(name, text)
    }

    /// The text that the schema was read from.
    ///
    /// ```
    /// # use backwater::Schema;
    /// assert_eq!(Schema::parse("s.toml", "# empty\n")?.text(), "# empty\n");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The tables' names, in the order of the text.
    ///
    /// ```
    /// # use backwater::Schema;
    /// let schema = Schema::parse("s.toml", "table.board = { one_row = true, fields = { search = \"text\" } }")?;
    /// assert_eq!(schema.table_names().collect::<Vec<_>>(), ["board"]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn table_names(&self) -> impl Iterator<Item = &str> {
        self.tables.iter().map(|table| &*table.name)
    }

    /// The response rules' names, in the order of the text.
    ///
    /// ```
    /// # use backwater::Schema;
    /// assert_eq!(Schema::parse("s.toml", "")?.rule_names().count(), 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn rule_names(&self) -> impl Iterator<Item = &str> {
        self.rules.iter().map(|rule| &*rule.name)
    }

    /// The named queries' names, in the order of the text.
    ///
    /// ```
    /// # use backwater::Schema;
    /// assert_eq!(Schema::parse("s.toml", "")?.query_names().count(), 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn query_names(&self) -> impl Iterator<Item = &str> {
        self.queries.iter().map(|query| &*query.name)
    }

    /// The statement of a named query.
    ///
    /// ```
    /// # use backwater::Schema;
    /// assert_eq!(Schema::parse("s.toml", "")?.query("late"), None);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn query(&self, name: &str) -> Option<&str> {
        self.queries.iter().find(|query| &*query.name == name).map(|query| &*query.sql)
    }

    pub(crate) fn table(&self, number: TableNo) -> &Table {
        &self.tables[number.index()]
    }

    pub(crate) fn table_numbers(&self) -> impl Iterator<Item = TableNo> + use<> {
        (0..self.tables.len() as u32).map(TableNo)
    }

    pub(crate) fn table_no(&self, name: &str) -> Result<TableNo> {
        let exact = self.tables.iter().position(|table| &*table.name == name);
        exact
            .or_else(|| self.tables.iter().position(|table| table.name.eq_ignore_ascii_case(name)))
            .map(|position| TableNo(position as u32))
            .ok_or_else(|| {
                Error::new(ErrorKind::UnknownName, format!("there is no table \"{name}\""))
                    .help(nearest(name, self.table_names()))
            })
    }

    pub(crate) fn rule(&self, name: &str) -> Result<&Rule> {
        self.rules.iter().find(|rule| &*rule.name == name).ok_or_else(|| {
            let help = if self.rules.is_empty() {
                "the schema has none: add a [response.NAME] with `records` and `table`".to_owned()
            } else {
                nearest(name, self.rule_names())
            };
            Error::new(ErrorKind::UnknownName, format!("there is no response rule \"{name}\""))
                .help(help)
        })
    }

    /// Whether rows written with one schema can be read with the other as they are.
    pub(crate) fn tables_differ(&self, other: &Schema) -> Option<String> {
        for table in other.tables.iter() {
            let Some(mine) = self.tables.iter().find(|mine| mine.name == table.name) else {
                return Some(format!("table \"{}\" is not in it any more", table.name));
            };
            if let Some(field) = mine.fields.iter().find(|f| table.field_no(&f.name).is_none()) {
                return Some(format!("field {}.{} is new", table.name, field.name));
            }
            for (position, field) in table.fields.iter().enumerate() {
                let place = format!("{}.{}", table.name, field.name);
                let Some(now) = mine.fields.iter().find(|now| now.name == field.name) else {
                    return Some(format!("field {place} is not in it any more"));
                };
                if self.kind_name(now.kind) != other.kind_name(field.kind) {
                    return Some(format!("field {place} has another type"));
                }
                if now.persist != field.persist {
                    return Some(format!("`persist` has changed for field {place}"));
                }
                if mine.fields[position].name != field.name {
                    return Some(format!(
                        "the fields of table \"{}\" stand in another order",
                        table.name
                    ));
                }
            }
            if mine.id != table.id || mine.persist != table.persist {
                return Some(format!("table \"{}\" has another `id` or `persist`", table.name));
            }
        }
        None
    }

    /// How a schema's text names a type, for messages and comparisons.
    pub(crate) fn kind_name(&self, kind: Kind) -> String {
        match kind {
            Kind::Link(to) => format!("link to {}", self.table(to).name),
            _ => Kind::NAMES
                .iter()
                .find(|(_, named)| *named == kind)
                .map_or_else(String::new, |(name, _)| (*name).to_owned()),
        }
    }
}

impl fmt::Debug for Schema {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Schema({}: {} tables)", self.name, self.tables.len())
    }
}
