//! A schema's tables as the Rust source of structs.

use std::fmt::Write;

use crate::error::list;
use crate::schema::{
    Field, FieldNo, Kind, Made, OnDelete, Pointer, Schema, Table, Unknown, lasting,
};
use crate::table::TARGET;
use crate::value::Value;

/// Words that no field can be called without a mark.
const KEYWORDS: [&str; 36] = [
    "as", "async", "await", "break", "const", "continue", "dyn", "else", "enum", "extern", "false",
    "fn", "for", "gen", "if", "impl", "in", "let", "loop", "match", "mod", "move", "mut", "pub",
    "ref", "return", "static", "struct", "trait", "true", "type", "unsafe", "use", "where",
    "while", "yield",
];

impl Schema {
    /// The tables as the source of structs that declare the same, to begin with when a program goes
    /// from a text to types. Fields may be null, as they may in the text; take the `Option` away
    /// where they are not. What structs cannot say stands in comments and stays with the text: links
    /// to one of several tables, sets of numbers, unknown members that are kept; so do response rules
    /// and named queries.
    ///
    /// ```
    /// # use backwater::Schema;
    /// let schema = Schema::parse("s.toml", r#"
    ///     table.vessel = { id = "name", fields = { name = "text", state = { type = "text", values = ["in dock"] } } }
    /// "#)?;
    /// assert_eq!(schema.to_rust(), r#"use backwater::{Table, Values};
    ///
    /// #[derive(Debug, Clone, PartialEq, Values)]
    /// pub enum VesselState {
    ///     #[values("in dock")]
    ///     InDock,
    /// }
    ///
    /// #[derive(Debug, Clone, PartialEq, Table)]
    /// pub struct Vessel {
    ///     #[table(id)]
    ///     pub name: String,
    ///     pub state: Option<VesselState>,
    /// }
    /// "#);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn to_rust(&self) -> String {
        let (mut enums, mut structs) = (String::new(), String::new());
        for table in self.tables.iter().filter(|table| table.made == Made::Declared) {
            self.write_struct(table, &mut enums, &mut structs);
        }
        let used = ["Json", "Link", "Links", "Timestamp"];
        let is_used = |name: &&&str| {
            let type_of = [format!("<{name}>"), format!("{name}<"), format!(": {name},")];
            type_of.iter().any(|text| structs.contains(text))
        };
        let mut imports: Vec<&str> = used.iter().filter(is_used).copied().collect();
        imports.push("Table");
        imports.extend((!enums.is_empty()).then_some("Values"));
        imports.sort_unstable();
        format!("use backwater::{{{}}};\n{enums}{structs}", imports.join(", "))
    }

    fn write_struct(&self, table: &Table, enums: &mut String, out: &mut String) {
        let name = pascal(&table.name);
        let mut options: Vec<String> = Vec::new();
        let mut remarks: Vec<String> = Vec::new();
        options.extend((snake(&name) != *table.name).then(|| format!("name = {:?}", table.name)));
        options.extend(table.is_one_row().then(|| "one_row".to_owned()));
        options.extend((!table.persist).then(|| "persist = false".to_owned()));
        let version = table.version.map(|field| &table.field(field).name);
        options.extend(version.map(|field| format!("version = {field:?}")));
        let tombstone = table.tombstone.as_ref().map(Pointer::to_string);
        options.extend(tombstone.map(|from| format!("tombstone = {from:?}")));
        options.extend(
            (table.resource != table.name).then(|| format!("resource = {:?}", table.resource)),
        );
        let expires = table.expires_after.map(lasting);
        options.extend(expires.map(|time| format!("expires_after = {time:?}")));
        match table.unknown {
            Unknown::Ignored => {}
            Unknown::Refused => options.push("unknown = \"error\"".to_owned()),
            Unknown::Kept(field) => {
                remarks.push(format!("unknown members are kept in {}", table.field(field).name));
            }
        }
        match &*table.was {
            [] => {}
            [was] => options.push(format!("was = {was:?}")),
            names => remarks.push(format!(
                "it was {}",
                list(&names.iter().map(|name| &**name).collect::<Vec<_>>())
            )),
        }
        let mut fields = String::new();
        for number in table.field_numbers() {
            match self.declared(table, number, &name, enums) {
                Ok(field) => fields += &field,
                Err(remark) => remarks.push(remark),
            }
        }
        out.push('\n');
        remarks
            .iter()
            .for_each(|remark| *out += &format!("// Said by the text alone: {remark}.\n"));
        let default = if table.is_one_row() { "Default, " } else { "" };
        *out += &format!("#[derive(Debug, Clone, {default}PartialEq, Table)]\n");
        if !options.is_empty() {
            *out += &format!("#[table({})]\n", options.join(", "));
        }
        *out += &format!("pub struct {name} {{\n{fields}}}\n");
    }

    /// A field's line, or why there is none.
    fn declared(
        &self,
        table: &Table,
        number: FieldNo,
        owner: &str,
        enums: &mut String,
    ) -> Result<String, String> {
        let field = table.field(number);
        if table.link_told_by(number).is_some() {
            return Err(format!("{} names the table of a link", field.name));
        }
        let (kind, target) = match field.kind {
            Kind::Int if field.values.is_empty() => ("i64".to_owned(), field),
            Kind::Int => return Err(format!("{} has a set of numbers", field.name)),
            Kind::Float => ("f64".to_owned(), field),
            Kind::Bool => ("bool".to_owned(), field),
            Kind::Text if field.values.is_empty() => ("String".to_owned(), field),
            Kind::Text => (values(owner, field, enums), field),
            Kind::Timestamp => ("Timestamp".to_owned(), field),
            Kind::Json => ("Json".to_owned(), field),
            Kind::Link(to) => (format!("Link<{}>", pascal(&self.table(to).name)), field),
            Kind::Links(entries) => {
                let target = self.table(entries).field(TARGET);
                let Kind::Link(to) = target.kind else {
                    return Err(format!("{} links to one of several tables", field.name));
                };
                (format!("Links<{}>", pascal(&self.table(to).name)), target)
            }
            Kind::OneOf => return Err(format!("{} links to one of several tables", field.name)),
        };
        let ident = ident(&field.name);
        let is_id = table.id.contains(&number);
        let mut options: Vec<String> = Vec::new();
        options.extend(is_id.then(|| "id".to_owned()));
        let is_same = ident.strip_prefix("r#").unwrap_or(&ident) == &*field.name;
        options.extend((!is_same).then(|| format!("name = {:?}", field.name)));
        options.extend((!field.persist).then(|| "persist = false".to_owned()));
        match &*field.was {
            [] => {}
            [was] => options.push(format!("was = {was:?}")),
            _ => return Err(format!("{} was several", field.name)),
        }
        options.extend(field.required.then(|| "required".to_owned()));
        if field.from != Pointer::member(&field.name) {
            options.push(format!("from = {:?}", field.from.to_string()));
        }
        let on_delete = match target.link.as_ref().map(|link| link.on_delete) {
            Some(OnDelete::Cascade) => Some("cascade"),
            Some(OnDelete::SetNull) => Some("set null"),
            Some(OnDelete::Restrict) => Some("restrict"),
            Some(OnDelete::Keep) | None => None,
        };
        options.extend(on_delete.map(|what| format!("on_delete = {what:?}")));
        if let Kind::Links(entries) = field.kind {
            let known = format!("{}_{}", table.name, field.name);
            let name = &self.table(entries).name;
            options.extend((**name != *known).then(|| format!("link_table = {name:?}")));
        }
        let mut line = String::new();
        if !options.is_empty() {
            line += &format!("    #[table({})]\n", options.join(", "));
        }
        let plain = is_id || field.required || matches!(field.kind, Kind::Links(_));
        let kind = if plain { kind } else { format!("Option<{kind}>") };
        line += &format!("    pub {ident}: {kind},\n");
        Ok(line)
    }
}

/// Writes the enum of a set of texts; gives its name.
fn values(owner: &str, field: &Field, enums: &mut String) -> String {
    let name = format!("{owner}{}", pascal(&field.name));
    *enums += &format!("\n#[derive(Debug, Clone, PartialEq, Values)]\npub enum {name} {{\n");
    let mut known: Vec<String> = Vec::new();
    for value in &field.values {
        let Value::Text(text) = value else { continue };
        let mut variant = pascal(text);
        while known.contains(&variant) {
            variant.push('_');
        }
        if snake(&variant) != **text {
            let written = writeln!(enums, "    #[values({text:?})]");
            debug_assert!(written.is_ok());
        }
        *enums += &format!("    {variant},\n");
        known.push(variant);
    }
    *enums += "}\n";
    name
}

/// `on time` as `OnTime`.
fn pascal(text: &str) -> String {
    let words = text.split(|character: char| !character.is_alphanumeric());
    let word = |word: &str| {
        let mut rest = word.chars();
        rest.next().into_iter().flat_map(char::to_uppercase).chain(rest).collect::<String>()
    };
    let name: String = words.map(word).collect();
    if name.starts_with(char::is_alphabetic) { name } else { format!("N{name}") }
}

/// As the derives name a struct's table and an enum's variants.
fn snake(name: &str) -> String {
    let mut out = String::new();
    for character in name.chars() {
        if character.is_uppercase() && !out.is_empty() {
            out.push('_');
        }
        out.extend(character.to_lowercase());
    }
    out
}

/// A field's name as an identifier.
fn ident(name: &str) -> String {
    let mut out: String = name
        .chars()
        .map(|character| if character.is_alphanumeric() { character } else { '_' })
        .collect();
    if !out.starts_with(|first: char| first.is_alphabetic() || first == '_') {
        out.insert(0, 'n');
    }
    match out.as_str() {
        keyword if KEYWORDS.contains(&keyword) => format!("r#{keyword}"),
        "self" | "super" | "crate" | "Self" | "_" => format!("{out}_"),
        _ => out,
    }
}
