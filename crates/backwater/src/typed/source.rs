//! A schema's tables as the Rust source of structs.

use crate::schema::{
    Epoch, FieldDef, FieldKind, FieldNo, OnDelete, OtherTypes, Pointer, Schema, TYPE_MEMBER,
    TableDef, TableNo, TableOrigin, Unknown, lasting, plain, write_part,
};
use crate::sorting;
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
    /// where they are not. Response rules, named queries and limits stay with the text.
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
        let mut source = SourceText {
            schema: self,
            names: Names::types(),
            structs: Vec::new(),
            enums: String::new(),
        };
        let declared = self.tables.iter().map(|table| match table.made {
            TableOrigin::Declared => source.names.free(pascal(&table.name)),
            TableOrigin::Entries { .. } | TableOrigin::List => String::new(),
        });
        source.structs = declared.collect();
        let mut structs = String::new();
        for (number, name) in
            source.structs.clone().iter().enumerate().filter(|(_, name)| !name.is_empty())
        {
            source.write_struct(TableNo(number as u32), name, &mut structs);
        }
        let all = source.enums + &structs;
        let used = ["Json", "Link", "Links", "OneOf", "Timestamp", "Values"];
        let is_used = |name: &&&str| {
            let said = [
                format!("<{name}>"),
                format!("{name}<"),
                format!(": {name},"),
                format!(", {name})]"),
            ];
            said.iter().any(|text| all.contains(text))
        };
        let mut imports: Vec<&str> = used.iter().filter(is_used).copied().collect();
        imports.push("Table");
        sorting::few_once(&mut imports);
        format!("use backwater::{{{}}};\n{all}", imports.join(", "))
    }
}

/// The text written so far.
struct SourceText<'s> {
    schema: &'s Schema,
    names: Names,
    /// How the struct of each table is called; those that are not declared have none.
    structs: Vec<String>,
    enums: String,
}

/// Names that are taken.
struct Names(Vec<String>);

impl Names {
    /// What the source calls by name without having written it.
    fn types() -> Self {
        let known = [
            "Json",
            "Link",
            "Links",
            "OneOf",
            "Option",
            "Some",
            "None",
            "Self",
            "String",
            "Table",
            "Timestamp",
            "Values",
            "Vec",
        ];
        Self(known.map(str::to_owned).into())
    }

    /// What no variant can be called.
    fn variants() -> Self {
        Self(vec!["Self".to_owned()])
    }

    /// Takes a name, or one like it if it is taken.
    fn free(&mut self, mut name: String) -> String {
        while self.0.contains(&name) {
            name.push('_');
        }
        self.0.push(name.clone());
        name
    }
}

impl SourceText<'_> {
    fn write_struct(&mut self, number: TableNo, name: &str, out: &mut String) {
        let table = self.schema.table(number);
        let mut options: Vec<String> = Vec::new();
        options.extend((snake(name) != *table.name).then(|| format!("name = {:?}", table.name)));
        options.extend(table.is_one_row().then(|| "one_row".to_owned()));
        options.extend((!table.persist).then(|| "persist = false".to_owned()));
        let version = table.version.map(|field| &table.field(field).name);
        options.extend(version.map(|field| format!("version = {field:?}")));
        options.extend(table.unique.iter().map(|key| {
            let names = key.iter().map(|field| format!("{:?}", table.field(*field).name));
            match &*names.collect::<Vec<_>>() {
                [only] => format!("unique = {only}"),
                names => format!("unique = [{}]", names.join(", ")),
            }
        }));
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
                options.push(format!("unknown(keep = {:?})", table.field(field).name));
            }
        }
        options.extend(was(&table.was));
        let mut idents = Names(Vec::new());
        let implied = implied(table);
        let numbers = table.field_numbers().filter(|number| number.index() < implied);
        let fields: String =
            numbers.map(|number| self.declared(table, number, &mut idents)).collect();
        out.push('\n');
        let default = if table.is_one_row() { "Default, " } else { "" };
        *out += &format!("#[derive(Debug, Clone, {default}PartialEq, Table)]\n");
        if !options.is_empty() {
            *out += &format!("#[table({})]\n", options.join(", "));
        }
        *out += &format!("pub struct {name} {{\n{fields}}}\n");
    }

    /// A field's lines.
    fn declared(&mut self, table: &TableDef, number: FieldNo, idents: &mut Names) -> String {
        let field = table.field(number);
        let (kind, target) = match field.kind {
            FieldKind::Int if field.values.is_empty() => ("i64".to_owned(), field),
            FieldKind::Float => ("f64".to_owned(), field),
            FieldKind::Bool => ("bool".to_owned(), field),
            FieldKind::Text if field.values.is_empty() => ("String".to_owned(), field),
            FieldKind::Int | FieldKind::Text => (self.values(table, field), field),
            FieldKind::Timestamp => ("Timestamp".to_owned(), field),
            FieldKind::Json => ("Json".to_owned(), field),
            FieldKind::Link(to) => (format!("Link<{}>", self.structs[to.index()]), field),
            FieldKind::Links(entries) => {
                let target = self.schema.table(entries).field(TARGET);
                let kind = match target.kind {
                    FieldKind::Link(to) => format!("Links<{}>", self.structs[to.index()]),
                    _ => format!("Vec<{}>", self.one_of(table, field, target)),
                };
                (kind, target)
            }
            FieldKind::OneOf => (self.one_of(table, field, field), field),
        };
        let ident = idents.free(ident(&field.name));
        let is_id = table.id.contains(&number);
        let mut options: Vec<String> = Vec::new();
        let of_type = match field.kind {
            FieldKind::Int if !field.values.is_empty() => " = \"int\"",
            FieldKind::Text if !field.values.is_empty() => " = \"text\"",
            _ => "",
        };
        options.extend(is_id.then(|| format!("id{of_type}")));
        let is_same = ident.strip_prefix("r#").unwrap_or(&ident) == &*field.name;
        options.extend((!is_same).then(|| format!("name = {:?}", field.name)));
        options.extend((!field.persist).then(|| "persist = false".to_owned()));
        options.extend(was(&field.was));
        options.extend(field.required.then(|| "required".to_owned()));
        if !field.also_from.is_empty() {
            let places = std::iter::once(&field.from).chain(&field.also_from);
            let places = places.map(|from| format!("{:?}", from.to_string()));
            options.push(format!("from = [{}]", places.collect::<Vec<_>>().join(", ")));
        } else if field.from != Pointer::member(&field.name) {
            options.push(format!("from = {:?}", field.from.to_string()));
        }
        let unit = Epoch::NAMES.iter().find(|(_, unit)| field.epoch == Some(*unit));
        options.extend(unit.map(|(name, _)| format!("unit = {name:?}")));
        if let Some(by) = field.by() {
            let there = self.schema.table(by.table);
            let by = &there.field(by.field).name;
            options.push(format!("to = {:?}, by = {by:?}", there.name));
        }
        let record = target.link.as_ref().map(|link| &*link.record).unwrap_or_default();
        options.extend((!record.is_empty()).then(|| {
            let mut pointer = String::new();
            _ = record.iter().try_for_each(|part| write_part(&mut pointer, part));
            format!("record = {pointer:?}")
        }));
        let on_delete = match target.link.as_ref().map(|link| link.on_delete) {
            Some(OnDelete::Cascade) => Some("cascade"),
            Some(OnDelete::SetNull) => Some("set null"),
            Some(OnDelete::Restrict) => Some("restrict"),
            Some(OnDelete::Keep) | None => None,
        };
        options.extend(on_delete.map(|what| format!("on_delete = {what:?}")));
        if let FieldKind::Links(entries) = field.kind {
            let known = format!("{}_{}", table.name, field.name);
            let name = &self.schema.table(entries).name;
            options.extend((**name != *known).then(|| format!("link_table = {name:?}")));
        }
        if let Some(one_of) = target.one_of() {
            let type_field = &table.field(one_of.type_field).name;
            let is_said =
                field.kind == FieldKind::OneOf && **type_field != *format!("{}_type", field.name);
            options.extend(is_said.then(|| format!("type_field = {type_field:?}")));
            options.extend(match one_of.others {
                OtherTypes::Refused => None,
                OtherTypes::Skipped => Some("other_types = \"skip\"".to_owned()),
                OtherTypes::To(table) => {
                    Some(format!("other_types(to = {:?})", self.schema.table(table).name))
                }
            });
            let member = &one_of.type_member;
            options.extend((**member != *TYPE_MEMBER).then(|| format!("type_member = {member:?}")));
        }
        let mut line = String::new();
        if !options.is_empty() {
            line += &format!("    #[table({})]\n", options.join(", "));
        }
        let plain = is_id || field.required || matches!(field.kind, FieldKind::Links(_));
        let kind = if plain { kind } else { format!("Option<{kind}>") };
        line += &format!("    pub {ident}: {kind},\n");
        line
    }

    /// Writes the enum of a set of texts or numbers; gives its name.
    fn values(&mut self, table: &TableDef, field: &FieldDef) -> String {
        let name = self.names.free(pascal(&table.name) + &pascal(&field.name));
        let mut variants = Names::variants();
        let lines = field.values.iter().map(|value| match value {
            Value::Text(text) => {
                let variant = variants.free(pascal(text));
                let is_same = snake(&variant) == **text;
                let said =
                    if is_same { String::new() } else { format!("    #[values({text:?})]\n") };
                format!("{said}    {variant},\n")
            }
            number => {
                let digits = number.to_string().replace('-', "Minus");
                let variant = variants.free(pascal(&digits));
                format!("    #[values({number})]\n    {variant},\n")
            }
        });
        let lines: String = lines.collect();
        self.enums += &format!(
            "\n#[derive(Debug, Clone, PartialEq, Values)]\npub enum {name} {{\n{lines}}}\n"
        );
        name
    }

    /// Writes the enum of a link to one of several tables; gives its name.
    fn one_of(&mut self, table: &TableDef, field: &FieldDef, target: &FieldDef) -> String {
        let name = self.names.free(pascal(&table.name) + &pascal(&field.name));
        let mut variants = Names::variants();
        let tables = target.one_of().into_iter().flat_map(|one_of| &one_of.tables);
        let lines = tables.map(|(called, to)| {
            let variant = variants.free(pascal(called));
            let is_same = *called == self.schema.table(*to).name;
            let said = if is_same { String::new() } else { format!("    #[one_of({called:?})]\n") };
            format!("{said}    {variant}(Link<{}>),\n", self.structs[to.index()])
        });
        let lines: String = lines.collect();
        self.enums += &format!(
            "\n#[derive(Debug, Clone, PartialEq, OneOf)]\npub enum {name} {{\n{lines}}}\n"
        );
        name
    }
}

/// How many fields of a table are declared: behind them stand those that only hold the table of a
/// link, and that nothing else is said of.
fn implied(table: &TableDef) -> usize {
    let is_implied = |number: FieldNo| {
        let Some(link) = table.link_typed_by(number) else { return false };
        let (field, link) = (table.field(number), table.field(link));
        let plain = plain(&field.name, FieldKind::Text, None);
        // With a name of its own in a response, as `names` gives it, it is declared.
        *field == FieldDef { persist: link.persist, ..plain }
    };
    // Each is made when all fields are known, in the order of their links.
    let mut from = table.fields.len();
    let mut before = None;
    while from > 0 {
        let number = FieldNo(from as u32 - 1);
        let link = table.link_typed_by(number);
        let is_in_order = before.is_none_or(|before| link < Some(before));
        if !is_implied(number) || !is_in_order {
            break;
        }
        (before, from) = (link, from - 1);
    }
    from
}

/// How it was called before, as an option.
fn was(names: &[std::sync::Arc<str>]) -> Option<String> {
    match names {
        [] => None,
        [only] => Some(format!("was = {only:?}")),
        several => Some(format!("was = {several:?}")),
    }
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
