//! A schema put together from structs, and from a text.

use toml::de::DeTable;

use super::Kind;
use super::read::find;
use super::shape::{FieldShape, Fields, Shape};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::Schema;

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
    text: Option<(String, String)>,
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
    /// Takes in a struct's table. Structs of one table are put together: a field that two of them
    /// have must be the same in both. A table that the text declares must have the struct's fields.
    ///
    /// See [`SchemaBuilder`] for an example.
    pub fn table<T: Fields>(mut self) -> Self {
        let name = std::any::type_name::<T>();
        let name = name.rsplit("::").next().unwrap_or(name);
        self.structs.push(Struct { name, shape: T::SHAPE });
        self
    }

    /// The text, as [`Schema::parse`] takes it; `name` is what errors call it.
    ///
    /// See [`SchemaBuilder`] for an example.
    pub fn text(mut self, name: impl Into<String>, text: impl Into<String>) -> Self {
        self.text = Some((name.into(), text.into()));
        self
    }

    /// The schema. Its [text](Schema::text) is the given one, and behind it what the structs declare.
    ///
    /// # Errors
    /// As [`Schema::parse`]; [`ErrorKind::Schema`] if structs do not agree with each other or with
    /// the text, or link to a table that nobody declares.
    ///
    /// See [`SchemaBuilder`] for an example.
    pub fn build(self) -> Result<Schema> {
        let (name, mut text) = self.text.unwrap_or_else(|| ("structs".into(), String::new()));
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
                if let Kind::Link(to) | Kind::Links(to) = field.kind
                    && !is_written(to)
                    && !is_declared(to)
                {
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
        let schema = Schema::parse(&name, &text)?;
        for of in &self.structs {
            find(of.shape, &schema).map_err(|error| error.at(of.name))?;
        }
        Ok(schema)
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
    options.sort_unstable();
    options.dedup();
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
        Kind::OneOf(texts) => {
            let texts: Vec<String> = texts.iter().map(|text| quoted(text)).collect();
            ("", vec!["type = \"text\"".to_owned(), format!("values = [{}]", texts.join(", "))])
        }
        other => ("type", vec![format!("type = {}", quoted(&other.told()))]),
    };
    if kind == "type" && field.options.is_empty() {
        return quoted(&field.kind.told());
    }
    parts.extend((!field.options.is_empty()).then(|| field.options.to_owned()));
    format!("{{ {} }}", parts.join(", "))
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
