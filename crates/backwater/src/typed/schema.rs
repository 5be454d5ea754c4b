//! A schema put together from structs, and from a text.

use std::borrow::Cow;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::Kind;
use super::read::find;
use super::shape::{FieldShape, Fields, Shape};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{Schema, line_and_column};
use crate::sorting;

/// Puts a schema together from any number of structs, each of which declares a table or some fields
/// of one, and of a text, which may declare further tables, response rules and named queries.
///
/// ```
/// use backwater::{Schema, Table};
///
/// #[derive(Table)]
/// struct Vessel {
///     #[table(id)]
///     name: String,
///     cars_max: i64,
/// }
///
/// let schema = Schema::builder()
///     .text("rules.toml", r#"
///         response.fleet = { url = "/fleet", table = "vessel" }
///         query.large = "SELECT name FROM vessel WHERE cars_max > 40"
///     "#)
///     .table::<Vessel>()
///     .build()?;
/// let same = Schema::parse("backwater.toml", r#"
///     table.vessel = { id = "name", fields = { name = "text", cars_max = "int" } }
///     response.fleet = { url = "/fleet", table = "vessel" }
///     query.large = "SELECT name FROM vessel WHERE cars_max > 40"
/// "#)?;
/// assert!(schema == same);
/// assert!(Schema::parse("written", schema.text())? == same);
/// # let _ = Vessel { name: String::new(), cars_max: 0 }.cars_max;
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Default)]
pub struct SchemaBuilder {
    /// What all of it is put to.
    base: Option<Schema>,
    /// Texts, with what errors call them.
    texts: Vec<(String, String)>,
    structs: Vec<Struct>,
}

/// A struct that declares a table or some of its fields.
#[derive(Debug, Clone, Copy)]
struct Struct {
    name: &'static str,
    shape: &'static Shape,
}

impl Schema {
    /// Puts a schema together from structs and a text.
    ///
    /// See [`SchemaBuilder`] for an example.
    pub fn builder() -> SchemaBuilder {
        SchemaBuilder::default()
    }
}

impl SchemaBuilder {
    /// Begins with all that a schema says.
    pub(crate) fn beyond(base: &Schema) -> Self {
        let texts = vec![(base.name.to_string(), base.text.to_string())];
        Self { base: Some(base.clone()), texts, structs: Vec::new() }
    }

    /// Adds a struct's table. Structs of one table are merged: a field that two of them have must
    /// be the same in both. A table that the text declares must have the struct's fields.
    ///
    /// See [`SchemaBuilder`] for an example.
    pub fn table<T: Fields>(mut self) -> Self {
        let name = std::any::type_name::<T>();
        let name = name.rsplit("::").next().unwrap_or(name);
        self.structs.push(Struct { name, shape: T::SHAPE });
        self
    }

    /// A text, as [`Schema::parse`] takes it; `name` is what errors call it. Several texts are put
    /// together; each table, rule and query is in one of them.
    ///
    /// ```
    /// # use backwater::Schema;
    /// let schema = Schema::builder()
    ///     .text("ports.toml", "table.port = { id = 'code', fields = { code = 'text' } }")
    ///     .text("queries.toml", "query.ports = 'SELECT code FROM port'")
    ///     .build()?;
    /// assert_eq!((schema.table_names().count(), schema.query_names().count()), (1, 1));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn text(mut self, name: impl Into<String>, text: impl Into<String>) -> Self {
        self.texts.push((name.into(), text.into()));
        self
    }

    /// The schema. Its [text](Schema::text) is the given one, and behind it what the structs
    /// declare.
    ///
    /// # Errors
    /// As [`Schema::parse`]; [`ErrorKind::Schema`] if structs contradict each other or the text, or
    /// link to a table that is not declared, or if two texts declare the same.
    ///
    /// See [`SchemaBuilder`] for an example.
    pub fn build(self) -> Result<Schema> {
        let (name, mut text) = together(self.texts)?;
        let (document, _) = DeTable::parse_recoverable(&text);
        let tables = document.get_ref().get("table");
        let tables = tables.and_then(|tables| tables.get_ref().as_table());
        let written: Vec<String> = tables
            .into_iter()
            .flat_map(|of| of.keys())
            .map(|key| key.get_ref().to_string())
            .collect();
        let is = |one: &str, other: &str| one.eq_ignore_ascii_case(other);
        let is_written = |table: &str| written.iter().any(|of| is(of, table));
        let is_declared = |table: &str| self.structs.iter().any(|of| is(of.shape.table, table));

        let mut problems = Vec::new();
        for of in &self.structs {
            for field in of.shape.fields {
                let to: &[&str] = match field.kind {
                    Kind::Link(to) | Kind::Links(to) => &[to],
                    Kind::LinkToOneOf(to) | Kind::LinksToOneOf(to) => {
                        &to.iter().map(|(_, to)| *to).collect::<Vec<_>>()
                    }
                    _ => &[],
                };
                for to in to.iter().filter(|to| !is_written(to) && !is_declared(to)) {
                    let message = format!("this links to table \"{to}\", which is not declared");
                    problems.push(
                        Error::new(ErrorKind::Schema, message)
                            .at(format!("{}.{}", of.name, field.name))
                            .help("add its struct with `.table::<…>()`"),
                    );
                }
            }
        }
        let mut done: Vec<&str> = Vec::new();
        for of in &self.structs {
            let table = of.shape.table;
            if is_written(table) || done.iter().any(|other| is(other, table)) {
                continue;
            }
            done.push(table);
            let all: Vec<Struct> =
                self.structs.iter().filter(|of| is(of.shape.table, table)).copied().collect();
            write(&mut text, &all, &mut problems);
        }
        if let Some(problems) = Error::gather(problems) {
            return Err(problems);
        }
        let schema = match &self.base {
            Some(base) => {
                let schema = base.numbering(&name, &text)?;
                let known = schema.tables.get(..base.tables.len());
                debug_assert_eq!(known, Some(&*base.tables), "what is known stays as it is");
                schema
            }
            None => Schema::parse(&name, &text)?,
        };
        for of in &self.structs {
            find(of.shape, &schema).map_err(|error| error.at(of.name))?;
        }
        Ok(schema)
    }
}

/// Joins several texts into one, with a name for it. If one after the other they mean the same as
/// apart, they are concatenated; else the whole is generated from the schema.
fn together(mut texts: Vec<(String, String)>) -> Result<(String, String)> {
    if texts.len() < 2 {
        return Ok(texts.pop().unwrap_or_else(|| ("structs".into(), String::new())));
    }
    let mut all: Vec<Entry> = Vec::new();
    for (name, text) in &texts {
        for entry in entries(text).map_err(|(at, message)| {
            let at = format!("{name}:{}", line_and_column(text, at));
            Error::new(ErrorKind::Schema, message).at(at)
        })? {
            if all.iter().any(|known| known.part == entry.part && known.name == entry.name) {
                let Entry { part, name: entry, .. } = entry;
                let message = format!("{part}.{entry} is declared by another text already");
                return Err(Error::new(ErrorKind::Schema, message)
                    .at(name)
                    .help("declare it in one of them"));
            }
            let behind = all.iter().rposition(|known| known.part == entry.part);
            all.insert(behind.map_or(all.len(), |place| place + 1), entry);
        }
    }
    let (names, texts): (Vec<String>, Vec<String>) = texts.into_iter().unzip();
    let joined = texts.join("\n");
    let text = match entries(&joined) {
        Ok(read) if read == all => joined,
        // Inline, so that fields keep their order.
        _ => all
            .iter()
            .map(|Entry { part, name, value }| format!("{part}.{} = {value}\n", quoted(name)))
            .collect(),
    };
    Ok((names.join(" + "), text))
}

/// What stands in a text under one of its tables.
#[derive(PartialEq)]
struct Entry {
    part: String,
    name: String,
    /// In one line.
    value: String,
}

/// All entries of a text, part by part; or where it is wrong, and why.
fn entries(text: &str) -> Result<Vec<Entry>, (usize, String)> {
    let (document, problems) = DeTable::parse_recoverable(text);
    if let Some(problem) = problems.first() {
        let at = problem.span().map_or(text.len(), |span| span.start);
        return Err((at, format!("this is not TOML: {}", problem.message())));
    }
    let mut all = Vec::new();
    for (part, entries) in document.get_ref() {
        let part = part.get_ref();
        let DeValue::Table(entries) = entries.get_ref() else {
            return Err((entries.span().start, format!("`{part}` is no table")));
        };
        all.extend(entries.iter().map(|(name, value)| Entry {
            part: part.to_string(),
            name: name.get_ref().to_string(),
            value: in_line(value.get_ref()),
        }));
    }
    Ok(all)
}

/// A value as TOML in one line.
fn in_line(value: &DeValue<'_>) -> String {
    match value {
        DeValue::String(text) => quoted(text),
        DeValue::Integer(number) => number.to_string(),
        DeValue::Float(number) => number.to_string(),
        DeValue::Boolean(flag) => flag.to_string(),
        DeValue::Datetime(time) => time.to_string(),
        DeValue::Array(items) => {
            let items: Vec<String> = items.iter().map(|item| in_line(item.get_ref())).collect();
            format!("[{}]", items.join(", "))
        }
        DeValue::Table(members) => {
            let member = |(name, value): (&Spanned<Cow<'_, str>>, &Spanned<DeValue<'_>>)| {
                format!("{} = {}", quoted(name.get_ref()), in_line(value.get_ref()))
            };
            let members: Vec<String> = members.iter().map(member).collect();
            format!("{{ {} }}", members.join(", "))
        }
    }
}

/// Writes a table as the structs declare it that have fields of it.
fn write(text: &mut String, structs: &[Struct], problems: &mut Vec<Error>) {
    let mut fields: Vec<(&Struct, &FieldShape)> = Vec::new();
    for of in structs {
        for field in of.shape.fields {
            let known =
                fields.iter().find(|(_, known)| known.name.eq_ignore_ascii_case(field.name));
            let Some((first, known)) = known else {
                fields.push((of, field));
                continue;
            };
            // A part need not say again what the other says of it.
            let says_more = !field.options.is_empty() && field.options != known.options;
            if known.kind != field.kind || says_more {
                let (one, other) = (declared(known), declared(field));
                let message = format!("{} declares {one}, and {} {other}", first.name, of.name);
                problems.push(
                    Error::new(ErrorKind::Schema, message)
                        .at(format!("{}.{}", of.shape.table, field.name))
                        .help("let both be the same, or take another name for one"),
                );
            }
        }
    }
    let (first, shape) = (&structs[0], structs[0].shape);
    for of in structs.iter().filter(|of| of.shape.id != shape.id) {
        let message = format!("{} and {} have other ids", first.name, of.name);
        problems.push(
            Error::new(ErrorKind::Schema, message).at(format!("table \"{}\"", shape.table)).help(
                "say `#[table(of = …)]` of a struct that has some fields of another one's table",
            ),
        );
    }
    *text += &format!("\n[table.{}]\n", quoted(shape.table));
    *text += &match shape.id {
        [] => "one_row = true\n".to_owned(),
        [only] => format!("id = {}\n", quoted(only)),
        parts => {
            let parts: Vec<String> = parts.iter().map(|part| quoted(part)).collect();
            format!("id = [{}]\n", parts.join(", "))
        }
    };
    let mut options: Vec<&str> = structs.iter().flat_map(|of| of.shape.options.lines()).collect();
    sorting::few_once(&mut options);
    options.iter().for_each(|option| *text += &format!("{option}\n"));
    *text += &format!("[table.{}.fields]\n", quoted(shape.table));
    for (_, field) in fields {
        *text += &format!("{} = {}\n", quoted(field.name), declared(field));
    }
}

/// A field as a schema's text declares it.
fn declared(field: &FieldShape) -> String {
    let (kind, mut parts) = match field.kind {
        Kind::Link(to) => ("to", vec![format!("to = {}", quoted(to))]),
        Kind::Links(to) => ("to_many", vec![format!("to_many = {}", quoted(to))]),
        Kind::LinkToOneOf(tables) => ("to", vec![format!("to = {}", named(tables))]),
        Kind::LinksToOneOf(tables) => ("to_many", vec![format!("to_many = {}", named(tables))]),
        Kind::OneOf(texts) => {
            let texts: Vec<String> = texts.iter().map(|text| quoted(text)).collect();
            ("", vec!["type = \"text\"".to_owned(), format!("values = [{}]", texts.join(", "))])
        }
        Kind::OneOfNumbers(numbers) => {
            ("", vec!["type = \"int\"".to_owned(), format!("values = {numbers:?}")])
        }
        other => ("type", vec![format!("type = {}", quoted(&other.name()))]),
    };
    if kind == "type" && field.options.is_empty() {
        return quoted(&field.kind.name());
    }
    parts.extend((!field.options.is_empty()).then(|| field.options.to_owned()));
    format!("{{ {} }}", parts.join(", "))
}

/// The tables that a link may point at, as a schema's text lists them.
fn named(tables: &[(&str, &str)]) -> String {
    let plain = tables.iter().all(|(name, table)| name == table);
    let each = tables.iter().map(|(name, table)| match plain {
        true => quoted(table),
        false => format!("{} = {}", quoted(name), quoted(table)),
    });
    let each = each.collect::<Vec<_>>().join(", ");
    if plain { format!("[{each}]") } else { format!("{{ {each} }}") }
}

/// A text as a basic string of TOML.
fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for character in text.chars() {
        match character {
            '"' | '\\' => out.extend(['\\', character]),
            control if control.is_control() => out += &format!("\\u{:04X}", u32::from(control)),
            other => out.push(other),
        }
    }
    out.push('"');
    out
}
