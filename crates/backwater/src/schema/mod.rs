//! What a cache holds: tables, their fields and links, response rules, named queries.
//!
//! It knows names, types and where a schema's text says them. It must not know rows, nor parse
//! SQL: a named query is a text here, which the query room checks. Every room below reads it.

mod feed;
mod names;
mod places;
mod pointer;
mod reach;
mod read;
mod renumber;
mod rule;
mod send;
mod table;
mod template;
mod tree;
mod tuning;
pub(crate) use read::{TYPE_MEMBER, lasting, line_and_column, plain};

use std::any::Any;
use std::fmt;
use std::sync::{Arc, OnceLock};

use crate::error::{Error, ErrorKind, Result, nearest};
use crate::value::{Json, RowId};

pub(crate) use feed::{EventRule, FeedFormat, FeedRule, Resume};
pub(crate) use names::Names;
pub(crate) use places::{FieldPlaces, KnownPlaces};
pub(crate) use pointer::{Pointer, write_part};
pub(crate) use reach::table_set;
pub(crate) use rule::{
    Asking, Format, Given, LaterPages, ListRule, NamedType, NextPage, OnError, ResponsePart, Rule,
    Scope, TakenFrom, TypeNo,
};
pub(crate) use send::{IfMatch, OnConflict, SendBody, SendRule};
pub(crate) use table::{
    ByKey, Checks, Epoch, FieldDef, FieldKind, IdType, LinkRule, LinkTo, OnDelete, OneOfDef,
    OtherTypes, TableDef, TableOrigin, Unknown,
};
#[cfg(feature = "infer")]
pub(crate) use template::decoded;
pub(crate) use template::{Template, Variables, path_and_query};
pub(crate) use tree::{Branch, Lookup, Tree};
pub(crate) use tuning::Tuning;

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
    pub(crate) tables: Arc<[TableDef]>,
    pub(crate) rules: Arc<[Rule]>,
    pub(crate) sends: Arc<[SendRule]>,
    pub(crate) feeds: Arc<[FeedRule]>,
    pub(crate) queries: Arc<[NamedQuery]>,
    pub(crate) limits: Limits,
    pub(crate) tuning: Tuning,
    /// Tables and fields that are not persisted.
    pub(crate) drops: Arc<[Arc<str>]>,
    pub(crate) text: Arc<str>,
    pub(crate) name: Arc<str>,
    pub(crate) places: Arc<KnownPlaces>,
}

/// How deep and how long a response may be, and what is kept.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) struct Limits {
    /// Objects and arrays inside of each other on the way to a row's fields.
    pub(crate) depth: usize,
    pub(crate) bytes: usize,
    /// How many bytes the rows that persist may take, if that is limited.
    pub(crate) stored_bytes: Option<usize>,
    pub(crate) results: ResultLimits,
}

impl Default for Limits {
    fn default() -> Self {
        let results = ResultLimits { rows: 10_000_000, bytes: 1 << 30, ..ResultLimits::NONE };
        Self { depth: 127, bytes: 1 << 30, stored_bytes: None, results }
    }
}

/// How large a result may be that is kept of a statement, and a text that a function makes in one.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct ResultLimits {
    pub(crate) rows: usize,
    pub(crate) bytes: usize,
    /// In bytes.
    pub(crate) text: usize,
}

impl ResultLimits {
    /// No limits but that of a text, which is SQLite's.
    pub(crate) const NONE: Self = Self { rows: usize::MAX, bytes: usize::MAX, text: 1_000_000_000 };
}

impl Limits {
    /// Reading descends by calls, and a thread's stack has an end.
    pub(crate) const DEEPEST: usize = 500;
}

/// Schemas are equal if they declare the same tables, rules and queries, however they are written.
impl PartialEq for Schema {
    fn eq(&self, other: &Self) -> bool {
        let names = |schema: &Schema| -> Vec<Arc<str>> {
            schema.tables.iter().map(|table| table.name.clone()).collect()
        };
        // One of which tables were declared later has them in another order.
        if names(self) != names(other) {
            let ordered = self.numbering(&other.name, &other.text);
            return ordered.is_ok_and(|other| names(self) == names(&other) && *self == other);
        }
        let queries = |schema: &Schema| -> Vec<(Arc<str>, Arc<str>)> {
            schema.queries.iter().map(|of| (of.name.clone(), of.sql.clone())).collect()
        };
        self.tables == other.tables
            && self.rules == other.rules
            && self.sends == other.sends
            && self.feeds == other.feeds
            && self.limits == other.limits
            && self.drops == other.drops
            && queries(self) == queries(other)
    }
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
    /// Its plan, once it was asked for.
    pub(crate) compiled: OnceLock<Arc<dyn Any + Send + Sync>>,
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
        read::schema(name, text, &[])
    }

    /// The same with another name for its first table, also one that a text cannot give.
    pub(crate) fn renamed(mut self, name: &str) -> Self {
        let first = Arc::get_mut(&mut self.tables).and_then(|tables| tables.first_mut());
        first.into_iter().for_each(|table| table.name = name.into());
        self
    }

    /// Reads another text, whose tables get this schema's numbers where it has tables of that name.
    pub(crate) fn numbering(&self, name: &str, text: &str) -> Result<Self> {
        let known: Vec<Arc<str>> = self.tables.iter().map(|table| table.name.clone()).collect();
        read::schema(name, text, &known)
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

    /// The send rules' names, in the order of the text.
    ///
    /// ```
    /// # use backwater::Schema;
    /// let schema = Schema::parse("s.toml", r#"
    ///     table.port = { id = "code", fields = { code = "text" } }
    ///     send.open = { table = "port", method = "PUT", url = "/ports/{code}" }
    /// "#)?;
    /// assert_eq!(schema.send_names().collect::<Vec<_>>(), ["open"]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn send_names(&self) -> impl Iterator<Item = &str> {
        self.sends.iter().map(|rule| &*rule.name)
    }

    /// The feeds' names, in the order of the text.
    ///
    /// ```
    /// # use backwater::Schema;
    /// let schema = Schema::parse("s.toml", r#"
    ///     table.port = { id = "code", fields = { code = "text" } }
    ///     response.port = { url = "/ports/{code}", table = "port" }
    ///     feed.changes = { url = "/feed", events = { port = "port" } }
    /// "#)?;
    /// assert_eq!(schema.feed_names().collect::<Vec<_>>(), ["changes"]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn feed_names(&self) -> impl Iterator<Item = &str> {
        self.feeds.iter().map(|feed| &*feed.name)
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

    /// The name and the statement of a named query, whose name is looked for as SQL looks for
    /// names.
    pub(crate) fn query_of(&self, name: &str) -> Option<(&str, &str)> {
        let exact = self.queries.iter().find(|query| &*query.name == name);
        let found = exact
            .or_else(|| self.queries.iter().find(|query| query.name.eq_ignore_ascii_case(name)))?;
        Some((&found.name, &found.sql))
    }

    /// What the query room has made of a named query.
    pub(crate) fn compiled(&self, name: &str) -> Option<&OnceLock<Arc<dyn Any + Send + Sync>>> {
        let query = self.queries.iter().find(|query| &*query.name == name);
        query.map(|query| &query.compiled)
    }

    /// The id that a text is, in the type that a table declares: digits for a number, a JSON array
    /// for an id of several parts.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table, [`ErrorKind::Type`] if the text is no
    /// id of it.
    ///
    /// ```
    /// # use backwater::{RowId, Schema};
    /// let schema = Schema::parse("s.toml", r#"
    ///     table.sailing = { id = "id", fields = { id = "int" } }
    ///     table.seat = { id = ["sailing", "seat"], fields = { sailing = { to = "sailing" }, seat = "text" } }
    /// "#)?;
    /// assert_eq!(schema.id("sailing", "311")?, RowId::from(311));
    /// assert_eq!(schema.id("seat", r#"[311, "7A"]"#)?, RowId::from((311, "7A")));
    /// assert!(schema.id("sailing", "last").is_err());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn id(&self, table: &str, text: &str) -> Result<RowId> {
        let number = self.table_no(table)?;
        let id = match self.table(number).id_type() {
            IdType::Parts => Json::parse(text)
                .and_then(|json| RowId::from_json(&json))
                .unwrap_or(RowId::from(text)),
            _ => RowId::from(text),
        };
        let fitted = self.fitted(number, id);
        fitted.ok_or_else(|| {
            let expected = self.id_form(number);
            Error::new(ErrorKind::Type, format!("found {text:?}, expected {expected}"))
                .at(format!("the id of \"{table}\""))
        })
    }

    /// An id in the type that a table declares: a number for its digits, and the other way round;
    /// `None` if it does not fit.
    pub(crate) fn fitted(&self, table: TableNo, id: RowId) -> Option<RowId> {
        let definition = self.table(table);
        let part = |field: &FieldNo, id: &RowId| match (definition.field(*field).kind, id) {
            (FieldKind::Int, RowId::Int(_)) | (FieldKind::Text, RowId::Text(_)) => Some(id.clone()),
            (FieldKind::Int, RowId::Text(text)) => whole(text).map(RowId::Int),
            (FieldKind::Text, RowId::Int(number)) => Some(RowId::from(number.to_string())),
            (FieldKind::Link(to), id) => self.fitted(to, id.clone()),
            _ => None,
        };
        match (&*definition.id, &id) {
            ([only], _) => part(only, &id),
            (fields, RowId::Parts(parts)) if fields.len() == parts.len() => {
                let fitted = fields.iter().zip(parts.iter()).map(|(field, id)| part(field, id));
                fitted.collect::<Option<_>>().map(RowId::Parts)
            }
            _ => None,
        }
    }

    /// What an id of a table looks like: "an id of type int", "an id [sailing, number]".
    pub(crate) fn id_form(&self, table: TableNo) -> String {
        let definition = self.table(table);
        match definition.id_type() {
            IdType::Int => "an id of type int".to_owned(),
            IdType::Text => "an id of type text".to_owned(),
            IdType::Parts => {
                let names = definition.id.iter().map(|part| &*definition.field(*part).name);
                format!("an id [{}]", names.collect::<Vec<_>>().join(", "))
            }
        }
    }

    pub(crate) fn table(&self, number: TableNo) -> &TableDef {
        &self.tables[number.index()]
    }

    /// Whether a table records when its rows were last received and last read: where rows expire,
    /// or where their number is limited. Entries of a to-many link are as old as their owner.
    pub(crate) fn keeps_times(&self, table: TableNo) -> bool {
        let definition = self.table(table);
        let all = self.limits.stored_bytes.is_some()
            && !definition.is_one_row()
            && !self.is_entries(table);
        definition.persist && (all || definition.expires_after.is_some())
    }

    /// Whether a table holds the entries of a to-many link.
    pub(crate) fn is_entries(&self, table: TableNo) -> bool {
        matches!(self.table(table).made, TableOrigin::Entries { .. })
    }

    pub(crate) fn table_numbers(&self) -> impl Iterator<Item = TableNo> + use<> {
        (0..self.tables.len() as u32).map(TableNo)
    }

    pub(crate) fn table_no(&self, name: &str) -> Result<TableNo> {
        self.find_table(name).ok_or_else(|| {
            Error::new(ErrorKind::UnknownName, format!("there is no table \"{name}\""))
                .help(nearest(name, self.table_names()))
        })
    }

    /// The same where it may well be that there is none.
    pub(crate) fn find_table(&self, name: &str) -> Option<TableNo> {
        let exact = self.tables.iter().position(|table| &*table.name == name);
        let any_case =
            || self.tables.iter().position(|table| table.name.eq_ignore_ascii_case(name));
        exact.or_else(any_case).map(|position| TableNo(position as u32))
    }

    /// The name of the rule for a request, and the values of its variables: of the rules whose
    /// method and URI Template fit, the one whose template says most.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if none fits.
    ///
    /// ```
    /// # use backwater::Schema;
    /// let schema = Schema::parse("s.toml", r#"
    ///     table.sailing = { id = "id", fields = { id = "int" } }
    ///     response.sailing = { url = "/sailings/{id}", table = "sailing" }
    ///     response.departures = { url = "/departures{?port,page}", table = "sailing" }
    /// "#)?;
    /// let (rule, variables) = schema.rule_for("GET", "https://ferries.example/departures?port=SAL")?;
    /// assert_eq!((rule, variables), ("departures", vec![("port".to_owned(), "SAL".to_owned())]));
    /// assert!(schema.rule_for("POST", "/sailings/311").is_err());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn rule_for(&self, method: &str, url: &str) -> Result<(&str, Vec<(String, String)>)> {
        let path = path_and_query(url);
        let reading = self.rules.iter().filter(|rule| rule.reads_method(method));
        let fitting = reading.flat_map(|rule| rule.urls().map(move |template| (rule, template)));
        let fitting = fitting.filter_map(|(rule, template)| {
            let variables = template.matches_either(url, path)?;
            Some((template.letters(), rule, variables))
        });
        // Of two equivalent ones, the first.
        let best = fitting.reduce(|best, next| if next.0 > best.0 { next } else { best });
        best.map(|(_, rule, variables)| (&*rule.name, variables)).ok_or_else(|| {
            let known: Vec<String> = self
                .rules
                .iter()
                .flat_map(|rule| rule.urls().map(move |url| (rule, url)))
                .map(|(rule, url)| format!("{} {}", rule.method, url.as_str()))
                .collect();
            let help = match &*known {
                [] => "no rule has a `url`: name the rule, or give it one".to_owned(),
                known => format!("the rules are for {}", known.join(", ")),
            };
            let message = format!("there is no response rule for {method} {url}");
            Error::new(ErrorKind::UnknownName, message).help(help)
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

    /// A send rule.
    #[cfg(feature = "remote")]
    pub(crate) fn send(&self, name: &str) -> Result<&SendRule> {
        self.sends.iter().find(|rule| &*rule.name == name).ok_or_else(|| {
            let help = match self.sends.is_empty() {
                true => "the schema has none: add a [send.NAME] with `table` and `url`".to_owned(),
                false => nearest(name, self.sends.iter().map(|rule| &*rule.name)),
            };
            Error::new(ErrorKind::UnknownName, format!("there is no send rule \"{name}\""))
                .help(help)
        })
    }

    /// A feed.
    #[cfg(feature = "remote")]
    pub(crate) fn feed(&self, name: &str) -> Result<&FeedRule> {
        self.feeds.iter().find(|feed| &*feed.name == name).ok_or_else(|| {
            let help = match self.feeds.is_empty() {
                true => "the schema has none: add a [feed.NAME] with `url` and `events`".to_owned(),
                false => nearest(name, self.feed_names()),
            };
            Error::new(ErrorKind::UnknownName, format!("there is no feed \"{name}\"")).help(help)
        })
    }

    /// A rule that can be asked for, and its URI Template.
    #[cfg(feature = "remote")]
    pub(crate) fn askable(&self, rule: &str) -> Result<(&Rule, &Template)> {
        let found = self.rule(rule)?;
        let refused = |message: String, help: &str| {
            Err(Error::new(ErrorKind::Parameter, message).help(help.to_owned()))
        };
        let Some(url) = &found.url else {
            let message = format!("rule \"{rule}\" has no `url`, so it cannot be asked for");
            return refused(message, "add one to the rule");
        };
        if !found.method.eq_ignore_ascii_case("GET") {
            let message =
                format!("rule \"{rule}\" is of {}, so it cannot be asked for", found.method);
            return refused(message, "only what a GET brings can be asked for");
        }
        Ok((found, url))
    }

    #[cfg(feature = "remote")]
    pub(crate) fn rules(&self) -> impl Iterator<Item = &Rule> {
        self.rules.iter()
    }

    /// The links that point at a table and do something when its rows are deleted.
    pub(crate) fn links_to(&self, target: TableNo) -> impl Iterator<Item = LinkTo<'_>> {
        self.table_numbers().flat_map(move |table| {
            let definition = self.table(table);
            definition.field_numbers().filter_map(move |field| {
                let link = definition.field(field).link.as_ref()?;
                let (one_of, by) = (link.one_of.as_ref(), link.by.as_ref());
                let points = match (definition.field(field).kind, one_of) {
                    (FieldKind::Link(to), _) => to == target,
                    _ if by.is_some_and(|by| by.table == target) => true,
                    (_, Some(one_of)) => one_of.tables.iter().any(|(_, to)| *to == target),
                    _ => false,
                };
                let on_delete = link.on_delete;
                (points && on_delete != OnDelete::Keep).then_some(LinkTo {
                    table,
                    field,
                    on_delete,
                    one_of: one_of.is_some(),
                    by,
                })
            })
        })
    }

    /// Fields by whose values rows of a table are looked for together.
    pub(crate) fn indexes(&self, table: TableNo) -> Vec<Vec<FieldNo>> {
        let definition = self.table(table);
        // Links to rows that a server names are looked up when it does.
        let is_named = |to: TableNo| {
            let named = self.sends.iter().filter(|send| &*send.method == "POST");
            named.into_iter().any(|send| send.table == self.table(to).name)
        };
        let points_at_named = |link: &LinkRule, kind: FieldKind| match (&link.one_of, kind) {
            (Some(one_of), _) => one_of.tables.iter().any(|(_, to)| is_named(*to)),
            (None, FieldKind::Link(to)) => is_named(to),
            _ => false,
        };
        let links = definition.field_numbers().filter(|field| {
            let FieldDef { link, kind, .. } = definition.field(*field);
            link.as_ref().is_some_and(|link| {
                link.on_delete != OnDelete::Keep || points_at_named(link, *kind)
            })
        });
        let fields = links.map(|field| match definition.field(field).by() {
            Some(by) => by.here(),
            None => vec![field],
        });
        let mut indexes: Vec<Vec<FieldNo>> = fields.collect();
        let rules = self.rules.iter();
        let scopes = rules
            .clone()
            .filter(|rule| rule.table == table)
            .filter_map(|rule| rule.complete.as_ref().and_then(Scope::fields));
        let parts = rules.filter_map(|rule| rule.list.as_ref()).filter(|list| list.table == table);
        let parts = parts.map(|list| list.part_fields());
        for fields in scopes.chain(parts).chain(definition.unique.iter().cloned()) {
            if !indexes.contains(&fields) {
                indexes.push(fields);
            }
        }
        indexes
    }

    /// How the ids are written that a field holds; `None` if it is no to-one link.
    ///
    /// Ids of several types have one type in common: a text.
    pub(crate) fn linked_id_type(&self, field: &FieldDef) -> Option<IdType> {
        match (field.kind, &field.link) {
            (FieldKind::Link(to), _) => Some(self.table(to).id_type()),
            (FieldKind::OneOf, Some(LinkRule { one_of: Some(one_of), .. })) => {
                let mut types = one_of.tables.iter().map(|(_, table)| self.table(*table).id_type());
                let first = types.next()?;
                Some(if types.all(|other| other == first) { first } else { IdType::Text })
            }
            _ => None,
        }
    }

    /// How a schema's text names a field's type, for messages and comparisons.
    pub(crate) fn kind_of(&self, field: &FieldDef) -> String {
        match &field.link {
            Some(LinkRule { one_of: Some(one_of), .. }) => {
                format!("link to {}", one_of.names().join(" or "))
            }
            _ => self.kind_name(field.kind),
        }
    }

    /// As [`Schema::kind_of`], where only the kind is known.
    pub(crate) fn kind_name(&self, kind: FieldKind) -> String {
        match kind {
            FieldKind::Link(to) => format!("link to {}", self.table(to).name),
            FieldKind::OneOf => "link".to_owned(),
            FieldKind::Links(entries) => format!("links in {}", self.table(entries).name),
            _ => FieldKind::NAMES
                .iter()
                .find(|(_, named)| *named == kind)
                .map_or_else(String::new, |(name, _)| (*name).to_owned()),
        }
    }
}

/// The number whose digits a text is.
pub(crate) fn whole(text: &str) -> Option<i64> {
    text.parse().ok().filter(|number: &i64| number.to_string() == text)
}

impl fmt::Debug for Schema {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Schema({}: {} tables)", self.name, self.tables.len())
    }
}
