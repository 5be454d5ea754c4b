//! Reading response rules.

use std::sync::Arc;

use toml::de::{DeTable, DeValue};

use super::table::{ON_DELETE, members, plain};
use super::{Reader, Value, found, one_or_several};
use crate::error::{either, nearest};
use crate::schema::{
    Asking, Branch, Checks, FieldDef, FieldKind, FieldNo, Format, Given, IdType, LaterPages,
    LinkRule, ListRule, NamedType, NextPage, OnDelete, OnError, Pointer, ResponsePart, Rule, Scope,
    TableDef, TableNo, TableOrigin, TakenFrom, Template, TypeNo, Unknown, whole,
};
use crate::sorting;
use crate::value::{Timestamp, Value as V};

const FORMATS: [(&str, Format); 4] = [
    ("json", Format::Json),
    ("ndjson", Format::Ndjson),
    ("json:api", Format::JsonApi),
    ("graphql", Format::GraphQl),
];
const LATER_PAGES: [(&str, LaterPages); 3] =
    [("reload", LaterPages::Reload), ("keep", LaterPages::Keep), ("drop", LaterPages::Drop)];
const ON_ERROR: [(&str, OnError); 2] = [("fail", OnError::Fail), ("skip", OnError::Skip)];

/// What a rule says of its records.
const OF_RECORDS: [&str; 8] =
    ["records", "record", "keyed_by_id", "fields", "list", "part", "complete", "deletes"];

/// The variables of a rule's requests, with their types as far as the schema declares them.
#[derive(Default)]
struct Known {
    fields: Vec<FieldDef>,
    /// Variables that the URI Template has; none if there is no template.
    named: Option<Vec<String>>,
    /// Variables that are not shown or stored.
    secret: Vec<String>,
}

impl<'t> Reader<'t> {
    pub(super) fn rule(
        &mut self,
        name: &str,
        value: &Value<'t>,
        tables: &mut Vec<TableDef>,
    ) -> Option<Rule> {
        let parts = self.as_table(value, "a table with `records` and `table`")?;
        let at = value.span().start;
        let known = [
            "records",
            "table",
            "url",
            "method",
            "record",
            "keyed_by_id",
            "vars",
            "fields",
            "list",
            "part",
            "complete",
            "beside",
            "on_error",
            "deletes",
            "format",
            "aliases",
            "max_age",
            "reload_every",
            "secret",
            "next",
            "later_pages",
            "makes_stale",
        ];
        let [
            records,
            table,
            url,
            method,
            record,
            keyed,
            vars,
            fields,
            list,
            part,
            complete,
            beside,
            on_error,
            deletes,
            format,
            aliases,
            max_age,
            reload_every,
            secret,
            next,
            later_pages,
            makes_stale,
        ] = self.parts(parts, "a response rule", known);
        let records = match records {
            None => Pointer::parse("").ok(),
            Some(value) => self.as_pointer(value),
        };
        let format = format.and_then(|value| self.as_name(value, "`format`", &FORMATS));
        let format = format.unwrap_or(Format::Json);
        let (mut places, mut types) = (Vec::new(), Vec::new());
        self.beside(beside, tables, &mut places, &mut types);
        let has_records = table.is_some();
        let table = match table {
            Some(table) => self.as_table_no(table, "the name of a table")?,
            None => self.first_beside(name, at, parts, format, &places)?,
        };
        let has_list = list.is_some();
        let urls = self.urls(url, has_list);
        let methods = self.texts(method, "an HTTP method such as \"GET\"");
        let in_all = |name: &&str| urls.iter().all(|url| url.variables().any(|it| it == *name));
        let named = urls.first().map(|url| url.variables().filter(in_all));
        let mut known = Known {
            fields: Vec::new(),
            named: named.map(|named| named.map(str::to_owned).collect()),
            secret: Vec::new(),
        };
        let mut urls = urls.into_iter();
        let mut methods = methods.into_iter();
        if let Some(vars) = vars {
            self.vars(vars, &mut known, &tables[table.index()], table);
        }
        let mut taken = Vec::new();
        let given = self.given(fields, &tables[table.index()], &mut known, Some(&mut taken));
        if !taken.is_empty() && format == Format::JsonApi {
            let help = "take it from the request, or from a relationship";
            self.problem(at, "resources of a JSON:API document say all themselves", help);
        }
        let complete =
            complete.and_then(|value| self.scope(value, &tables[table.index()], &mut known));
        let part = part.and_then(|value| {
            let name = self.as_text(value, "the name of a variable")?;
            self.variable(value, name, &known).then(|| Arc::from(name))
        });
        let has_part = part.is_some();
        let next = next.and_then(|value| self.next_page(value, has_part));
        let numbers_parts = next.as_ref().is_some_and(NextPage::numbers_parts);
        let secret = self.secret(secret, &mut known);
        let list = list.and_then(|value| {
            self.list(value, table, (part.clone(), numbers_parts), &known, tables)
        });
        let mut records = records?;
        if format == Format::JsonApi {
            if !records.parts().is_empty() || record.is_some() || keyed.is_some() {
                let help = "leave out `records`, `record` and `keyed_by_id`";
                self.problem(at, "the records of a JSON:API document are its primary data", help);
            }
            records = Pointer::member("data");
            places.push((Pointer::member("errors"), ResponsePart::Errors));
            places.push((Pointer::member("included"), ResponsePart::Included));
        }
        if has_records {
            places.push((records.clone(), ResponsePart::Records));
        }
        let keyed = self.as_flag(keyed, false);
        if keyed && tables[table.index()].id.len() != 1 {
            let message =
                format!("the id of \"{}\" is no single member's name", tables[table.index()].name);
            self.problem(at, message, "leave out `keyed_by_id`");
        }
        let record = record.and_then(|value| self.as_pointer(value));
        let is_given = |id: &FieldNo| given.iter().any(|(field, _)| field == id);
        let definition = &tables[table.index()];
        let mut keys = std::iter::once(&definition.id).chain(&definition.unique);
        let (names_row, deleting) = (keys.any(|key| key.iter().all(is_given)), deletes);
        let deletes_if = deletes.and_then(|value| self.deletes_if(value, has_records, format));
        let is_flag = |value: &&Value<'t>| !matches!(value.get_ref(), DeValue::Table(_));
        let deletes = self.as_flag(deletes.filter(is_flag), false);
        if let Some(value) = deleting.filter(|_| deletes && !names_row) {
            let message = format!("rule \"{name}\" does not say which row is deleted");
            let help =
                "give the id, or a unique key, from the request, as by `fields = { id = \":id\" }`";
            self.problem(value.span().start, message, help);
        }
        let on_error = on_error.and_then(|value| self.as_name(value, "`on_error`", &ON_ERROR));
        let aliases = self.aliases(aliases, tables);
        self.check_secret(
            at,
            &secret,
            given.iter().chain(match &complete {
                Some(Scope::Rows(rows)) => rows.as_slice(),
                _ => &[],
            }),
        );
        let later_pages =
            later_pages.and_then(|value| self.as_name(value, "`later_pages`", &LATER_PAGES));
        let asking = Asking {
            max_age: max_age.and_then(|value| self.seconds(value)),
            reload_every: reload_every.and_then(|value| self.seconds(value)),
            secret,
            next,
            later_pages: later_pages.unwrap_or_default(),
            makes_stale: self.names(makes_stale, "an array of rules' names"),
        };
        Some(Rule {
            name: name.into(),
            format,
            aliases,
            method: methods.next().unwrap_or_else(|| "GET".into()),
            also_methods: methods.collect(),
            url: urls.next(),
            also_urls: urls.collect(),
            records,
            places: Branch::of(places.iter().map(|(pointer, part)| (pointer, *part))),
            types,
            record: record.map(|pointer| pointer.parts().to_vec()).unwrap_or_default(),
            keyed,
            table,
            given,
            taken,
            list,
            part,
            complete,
            on_error: on_error.unwrap_or(OnError::Fail),
            deletes,
            deletes_if,
            asking,
        })
    }

    /// How a page says what follows it.
    fn next_page(&mut self, value: &Value<'t>, has_part: bool) -> Option<NextPage> {
        let expected =
            "a JSON Pointer such as \"/links/next\", or \"page\", \"offset\" or \"link\"";
        let next = match self.as_text(value, expected)? {
            "page" => NextPage::Page,
            "offset" => NextPage::Offset,
            "link" => NextPage::Link,
            text if text.starts_with('/') => NextPage::Member(self.as_pointer(value)?),
            text => {
                let message = format!("found \"{text}\", expected {expected}");
                self.problem(value.span().start, message, "");
                return None;
            }
        };
        if matches!(next, NextPage::Page | NextPage::Offset) && !has_part {
            let message = "the rule does not say which variable counts";
            self.problem(value.span().start, message, "name it by `part = \"VARIABLE\"`");
        }
        Some(next)
    }

    /// The rules that another one makes stale have to be there, and a request is read by one rule.
    pub(super) fn check_rules(&mut self, rules: &[Rule], tables: &[TableDef]) {
        for (number, rule) in rules.iter().enumerate() {
            let same = rules[..number].iter().find_map(|other| {
                let same = |url: &&Template| other.urls().any(|known| known.recognises_what(url));
                let methods = std::iter::once(&rule.method).chain(&rule.also_methods);
                let method = { methods }.find(|method| other.reads_method(method))?;
                Some((other, method, rule.urls().find(same)?))
            });
            if let Some((other, method, url)) = same {
                let message = format!(
                    "rules \"{}\" and \"{}\" are both for {method} {}",
                    other.name,
                    rule.name,
                    url.as_str()
                );
                let help =
                    "make one rule of them, with `beside` for what stands beside its records";
                self.problem(0, message, help);
            }
            for (field, given) in &rule.given {
                let field = tables[rule.table.index()].field(*field);
                let (FieldKind::Link(to), Given::Value(value)) = (field.kind, given) else {
                    continue;
                };
                let target = &tables[to.index()];
                let is_whole = |text: &str| whole(text).is_some();
                let fits = matches!(value, V::Int(_)) || value.as_str().is_some_and(is_whole);
                if target.id_type() == IdType::Int && !fits {
                    let (rule, field, table) = (&rule.name, &field.name, &target.name);
                    let message = format!(
                        "rule \"{rule}\", field \"{field}\": {value} is no id of \"{table}\""
                    );
                    self.problem(0, message, "its ids are whole numbers");
                }
            }
            for name in &rule.asking.makes_stale {
                if rules.iter().all(|other| *other.name != **name) {
                    let message = format!(
                        "rule \"{}\" makes \"{name}\" stale, but there is no such rule",
                        rule.name
                    );
                    let help = nearest(name, rules.iter().map(|rule| &*rule.name));
                    self.problem(0, message, help);
                }
            }
        }
    }

    /// Variables that are not shown or stored.
    fn secret(&mut self, value: Option<&Value<'t>>, known: &mut Known) -> Vec<String> {
        let names = self.names(value, "an array of variables' names");
        for (value, name) in value.iter().flat_map(|value| names.iter().map(move |n| (value, n))) {
            self.variable(value, name, known);
        }
        known.secret.clone_from(&names);
        names
    }

    /// No field may hold a secret variable.
    fn check_secret<'g>(
        &mut self,
        at: usize,
        secret: &[String],
        given: impl Iterator<Item = &'g (FieldNo, Given)>,
    ) {
        for (_, given) in given {
            if let Given::Variable(name) = given
                && secret.iter().any(|secret| **secret == **name)
            {
                let message = format!("\"{name}\" is secret, but is written to a row");
                self.problem(at, message, "leave it out of `fields` and `complete`");
            }
        }
    }

    pub(super) fn names(&mut self, value: Option<&Value<'t>>, expected: &str) -> Vec<String> {
        let Some(value) = value else { return Vec::new() };
        let DeValue::Array(names) = value.get_ref() else {
            self.unexpected::<()>(value, expected);
            return Vec::new();
        };
        let names = names.iter().filter_map(|name| self.as_text(name, "a name"));
        names.map(str::to_owned).collect()
    }

    /// The first table that a rule without records writes to.
    fn first_beside(
        &mut self,
        name: &str,
        at: usize,
        parts: &DeTable<'t>,
        format: Format,
        places: &[(Pointer, ResponsePart)],
    ) -> Option<TableNo> {
        let first = places.iter().find_map(|(_, part)| match part {
            ResponsePart::Value(table, _) | ResponsePart::Rows(table, _) => Some(*table),
            _ => None,
        });
        if first.is_none() || format == Format::JsonApi {
            let message = format!("rule \"{name}\" does not say which table its records go to");
            self.problem(at, message, "add `table = \"TABLE\"`");
            return None;
        }
        if let Some(option) = OF_RECORDS.into_iter().find(|option| parts.contains_key(*option)) {
            let message = format!("rule \"{name}\" says `{option}`, but no table for its records");
            self.problem(at, message, "add `table = \"TABLE\"`");
            return None;
        }
        first
    }

    /// One text, or an array of them.
    fn texts(&mut self, value: Option<&Value<'t>>, expected: &str) -> Vec<Arc<str>> {
        let several = value.map(one_or_several).unwrap_or_default();
        several.into_iter().filter_map(|it| self.as_text(it, expected).map(Arc::from)).collect()
    }

    /// The URLs whose responses a rule reads, the one first by which it is asked for.
    fn urls(&mut self, value: Option<&Value<'t>>, has_list: bool) -> Vec<Template> {
        let several = value.map(one_or_several).unwrap_or_default();
        if let Some(value) = value.filter(|_| several.is_empty()) {
            self.problem(value.span().start, "no URL", "name one, or leave out `url`");
        }
        let urls: Vec<Template> = several.iter().filter_map(|value| self.template(value)).collect();
        let names = |url: &Template| {
            let mut names: Vec<String> = url.variables().map(str::to_owned).collect();
            sorting::few_once(&mut names);
            names
        };
        let differ = urls.iter().any(|url| names(url) != names(&urls[0]));
        if let Some(value) = value.filter(|_| has_list && differ) {
            let message =
                "a list is identified by its variables, and these URLs have different ones";
            self.problem(value.span().start, message, "make a rule of each");
        }
        urls
    }

    pub(super) fn template(&mut self, value: &Value<'t>) -> Option<Template> {
        let text = self.as_text(value, "a URI Template such as \"/sailings/{id}\"")?;
        let read = Template::parse(text);
        let help = "write it as \"/departures{?port,page}\" (RFC 6570)";
        read.map_err(|why| self.problem(value.span().start, why, help)).ok()
    }

    /// The types of variables.
    fn vars(&mut self, value: &Value<'t>, known: &mut Known, table: &TableDef, number: TableNo) {
        for (name, at, value) in self.entries_of(Some(value), "response.NAME.vars") {
            let field = self.field(name, value, table, number, None, &mut Vec::new());
            if matches!(field.kind, FieldKind::Links(_) | FieldKind::OneOf) {
                self.problem(at, "a variable has one value", "give it a plain type");
            } else if self.variable(value, name, known) {
                known.fields.push(field);
            }
        }
    }

    /// Whether a request of this rule can have a variable.
    fn variable(&mut self, value: &Value<'t>, name: &str, known: &Known) -> bool {
        let named = known.named.as_deref().unwrap_or_default();
        let there = known.named.is_none() || named.iter().any(|known| known == name);
        if !there {
            let help = nearest(name, named.iter().map(String::as_str));
            self.problem(value.span().start, format!("the `url` has no variable \"{name}\""), help);
        }
        there
    }

    /// Values of fields that the request says.
    fn given(
        &mut self,
        value: Option<&Value<'t>>,
        table: &TableDef,
        known: &mut Known,
        mut taken: Option<&mut Vec<(FieldNo, TakenFrom)>>,
    ) -> Vec<(FieldNo, Given)> {
        let mut out = Vec::new();
        for (name, at, value) in self.entries_of(value, "response.NAME.fields") {
            let Some(field) = table.field_no(name) else {
                let help = nearest(name, table.field_names());
                self.problem(at, format!("table \"{}\" has no field \"{name}\"", table.name), help);
                continue;
            };
            let definition = table.field(field);
            if matches!(definition.kind, FieldKind::Links(_) | FieldKind::OneOf) {
                let message = format!("\"{name}\" has no single value");
                self.problem(at, message, "give plain fields and to-one links only");
                continue;
            }
            let given = match value.get_ref() {
                DeValue::Table(parts) if taken.is_some() => {
                    let from = self.taken_from(value, parts).map(|from| (field, from));
                    taken.iter_mut().for_each(|taken| taken.extend(from.clone()));
                    continue;
                }
                DeValue::String(text) => match text.strip_prefix(':') {
                    Some(variable) => {
                        if !self.variable(value, variable, known) {
                            continue;
                        }
                        if known.fields.iter().all(|field| *field.name != *variable) {
                            let link = definition.link.clone();
                            known
                                .fields
                                .push(FieldDef { link, ..plain(variable, definition.kind, None) });
                        }
                        Given::Variable(variable.into())
                    }
                    None => Given::Value(text.as_ref().into()),
                },
                DeValue::Integer(number) => {
                    match i64::from_str_radix(number.as_str(), number.radix()) {
                        Ok(number) => Given::Value(number.into()),
                        Err(_) => continue,
                    }
                }
                DeValue::Float(number) => match number.as_str().parse::<f64>() {
                    Ok(number) => Given::Value(number.into()),
                    Err(_) => continue,
                },
                DeValue::Boolean(flag) => Given::Value((*flag).into()),
                other => {
                    let message =
                        format!("found {}, expected a value or \":VARIABLE\"", found(other));
                    self.problem(value.span().start, message, "");
                    continue;
                }
            };
            if let Given::Value(given) = &given {
                self.constant(value.span().start, definition, given);
            }
            out.push((field, given));
        }
        out
    }

    /// Where a field of a record stands outside of it.
    fn taken_from(&mut self, value: &Value<'t>, parts: &DeTable<'t>) -> Option<TakenFrom> {
        match self.parts(parts, "where a field is", ["from", "beside"]) {
            [Some(from), None] => self.as_pointer(from).map(TakenFrom::Response),
            [None, Some(beside)] => self.as_pointer(beside).map(TakenFrom::Element),
            _ => {
                let help = "write { from = \"/POINTER\" } for a place in the response, or \
                            { beside = \"/POINTER\" } for one in the element that has the record inside";
                self.problem(value.span().start, "it does not say where the value stands", help);
                None
            }
        }
    }

    /// By which member a response says that its records are deleted.
    fn deletes_if(
        &mut self,
        value: &Value<'t>,
        has_records: bool,
        format: Format,
    ) -> Option<(Pointer, Vec<String>)> {
        let DeValue::Table(members) = value.get_ref() else { return None };
        let at = value.span().start;
        let help = "write `deletes = { \"/action\" = \"deleted\" }`";
        if !has_records || format == Format::JsonApi {
            let message = "what a member says of records needs records, which name their ids";
            self.problem(at, message, "add `table = \"TABLE\"`, or use `tombstone` of a table");
        }
        let mut members = members.iter();
        let (Some((name, values)), None) = (members.next(), members.next()) else {
            self.problem(at, "it does not name one member that says so", help);
            return None;
        };
        let pointer = match Pointer::parse(name.get_ref()) {
            Ok(pointer) => pointer,
            Err(why) => {
                self.problem(name.span().start, why, help);
                return None;
            }
        };
        let at = values.span().start;
        let values = self.texts(Some(values), "a text, or an array of texts");
        if values.is_empty() {
            self.problem(at, "no value says that the records are deleted", help);
        }
        Some((pointer, values.iter().map(|value| value.to_string()).collect()))
    }

    /// Whether a field can hold a value that a rule says.
    fn constant(&mut self, at: usize, field: &FieldDef, value: &V) {
        let expected = match (field.kind, value) {
            _ if !field.values.is_empty() && !field.values.contains(value) => {
                let values: Vec<String> = field.values.iter().map(V::to_string).collect();
                either(&values.iter().map(String::as_str).collect::<Vec<_>>())
            }
            (FieldKind::Int, V::Int(_))
            | (FieldKind::Bool, V::Bool(_))
            | (FieldKind::Text, V::Text(_)) => return,
            (FieldKind::Float, V::Int(_)) => return,
            (FieldKind::Float, V::Float(number)) if number.is_finite() => return,
            (FieldKind::Timestamp, V::Text(text)) if text.parse::<Timestamp>().is_ok() => return,
            (FieldKind::Link(_), V::Int(_) | V::Text(_)) => return,
            (FieldKind::Int, _) => "a whole number".to_owned(),
            (FieldKind::Bool, _) => "true or false".to_owned(),
            (FieldKind::Text, _) => "a string".to_owned(),
            (FieldKind::Float, _) => "a number".to_owned(),
            (FieldKind::Timestamp, _) => "a time as in RFC 3339".to_owned(),
            (FieldKind::Link(_), _) => "an id".to_owned(),
            (FieldKind::Json | FieldKind::Links(_) | FieldKind::OneOf, _) => {
                "a value of the response".to_owned()
            }
        };
        let shown = match value {
            V::Text(text) => format!("{text:?}"),
            other => other.to_string(),
        };
        let message = format!("field \"{}\" cannot hold {shown}, expected {expected}", field.name);
        self.problem(at, message, "");
    }

    fn scope(&mut self, value: &Value<'t>, table: &TableDef, known: &mut Known) -> Option<Scope> {
        match value.get_ref() {
            DeValue::Boolean(true) => Some(Scope::Table),
            DeValue::Boolean(false) => None,
            DeValue::Table(fields) => {
                if fields.is_empty() {
                    let help = "write `complete = true` for all rows of the table, or fields with \
                                their values such as { port = \":port\" }";
                    self.problem(value.span().start, "`complete` names no field", help);
                }
                let rows = self.given(Some(value), table, known, None);
                (!rows.is_empty()).then_some(Scope::Rows(rows))
            }
            _ => self.unexpected(
                value,
                "true, or fields with their values such as { port = \":port\" }",
            ),
        }
    }

    /// The list that a rule writes, whose table is made by the first rule that names it.
    fn list(
        &mut self,
        value: &Value<'t>,
        target: TableNo,
        (part, numbers_parts): (Option<Arc<str>>, bool),
        known: &Known,
        tables: &mut Vec<TableDef>,
    ) -> Option<ListRule> {
        let at = value.span().start;
        let (name, on_delete) = match value.get_ref() {
            DeValue::Table(parts) => {
                let [name, on_delete] = self.parts(parts, "a list", ["name", "on_delete"]);
                let name = name.and_then(|name| self.as_text(name, "the list's name"));
                let on_delete =
                    on_delete.and_then(|value| self.as_name(value, "`on_delete`", &ON_DELETE));
                if name.is_none() {
                    self.problem(at, "the list has no name", "add `name = \"NAME\"`");
                }
                (name?, on_delete.unwrap_or(OnDelete::Keep))
            }
            _ => (self.as_text(value, "the list's name")?, OnDelete::Keep),
        };
        self.reserved(name, at);
        if name.is_empty() || name.contains('\0') {
            self.problem(at, "a list's name is empty or has a U+0000", "give it a name");
        }
        if on_delete == OnDelete::SetNull {
            let help = "use \"cascade\" for the entry to go with its target";
            self.problem(at, "an entry of a list cannot be set null", help);
        }
        if tables[target.index()].is_one_row() {
            self.problem(at, "a one-row table needs no list", "leave out `list`");
        }
        let named = known
            .named
            .clone()
            .unwrap_or_else(|| known.fields.iter().map(|field| field.name.to_string()).collect());
        let typed = |name: &str, otherwise: FieldKind| {
            let field = known.fields.iter().find(|field| *field.name == *name);
            let (kind, link) = field.map_or((otherwise, None), |field| {
                (field.kind, field.link.clone().map(|_| LinkRule::default()))
            });
            FieldDef { link, ..plain(name, kind, None) }
        };
        let is_key =
            |name: &&String| Some(name.as_str()) != part.as_deref() && !known.secret.contains(name);
        let mut fields: Vec<FieldDef> =
            named.iter().filter(is_key).map(|name| typed(name, FieldKind::Text)).collect();
        for field in &fields {
            if !matches!(field.kind, FieldKind::Int | FieldKind::Text | FieldKind::Link(_)) {
                let message = format!("variable \"{}\" is neither int nor text", field.name);
                self.problem(at, message, "only such variables identify a list");
            }
        }
        let key: Vec<Arc<str>> = fields.iter().map(|field| field.name.clone()).collect();
        for own in ["part", "position", "target"] {
            if key.iter().any(|name| name.eq_ignore_ascii_case(own)) {
                let message = format!("the list has a column \"{own}\" of its own");
                self.problem(at, message, "call the variable something else in the `url`");
            }
        }
        let named = part.as_deref().filter(|_| !numbers_parts);
        let part_kind = named.map_or(FieldKind::Int, |part| typed(part, FieldKind::Int).kind);
        fields.push(plain("part", part_kind, None));
        fields.push(plain("position", FieldKind::Int, None));
        let link = LinkRule { on_delete, ..LinkRule::default() };
        fields
            .push(FieldDef { link: Some(link), ..plain("target", FieldKind::Link(target), None) });
        let target_field = FieldNo(fields.len() as u32 - 1);
        let id: Vec<FieldNo> = (0..key.len() as u32).map(FieldNo).chain([target_field]).collect();
        let made = TableDef {
            name: name.into(),
            members: members(&fields, None),
            resource: name.into(),
            tombstone: None,
            checks: Checks::of(&fields, &id),
            fields,
            id,
            persist: tables[target.index()].persist,
            unique: Vec::new(),
            version: None,
            unknown: Unknown::Ignored,
            expires_after: None,
            made: TableOrigin::List,
            was: Vec::new(),
        };
        let same = tables.iter().position(|table| table.name.eq_ignore_ascii_case(name));
        let number = match same {
            Some(same) if tables[same] == made => same,
            Some(_) => {
                let message = format!("the list \"{name}\" is a table of another form already");
                let help = "give it another name, or the same variables and target";
                self.problem(at, message, help);
                return None;
            }
            None => {
                tables.push(made);
                tables.len() - 1
            }
        };
        Some(ListRule { table: TableNo(number as u32), key, part })
    }

    /// What members are called in a response that asked for them by another name.
    fn aliases(
        &mut self,
        value: Option<&Value<'t>>,
        tables: &[TableDef],
    ) -> Vec<(TableNo, Arc<str>, FieldNo)> {
        let mut out = Vec::new();
        for (name, at, value) in self.entries_of(value, "response.NAME.aliases.TABLE") {
            let Some(number) = self.table_no(at, name) else { continue };
            for (alias, _, value) in self.entries_of(Some(value), "response.NAME.aliases.TABLE") {
                let field = self.field_of(value, &tables[number.index()], "the name of a field");
                out.extend(field.map(|field| (number, Arc::from(alias), field)));
            }
        }
        out
    }

    /// What stands beside the records: values for the fields of one-row tables, and rows of other
    /// tables.
    fn beside(
        &mut self,
        value: Option<&Value<'t>>,
        tables: &[TableDef],
        places: &mut Vec<(Pointer, ResponsePart)>,
        types: &mut Vec<NamedType>,
    ) {
        for (name, at, value) in self.entries_of(value, "response.NAME.beside.TABLE") {
            let Some(number) = self.table_no(at, name) else { continue };
            let table = &tables[number.index()];
            if !table.is_one_row() {
                for value in one_or_several(value) {
                    self.rows_beside((number, name), value, places, types);
                }
                continue;
            }
            for (name, at, value) in self.entries_of(Some(value), "response.NAME.beside.TABLE") {
                let Some(field) = table.field_no(name) else {
                    let help = nearest(name, table.field_names());
                    let message = format!("table \"{}\" has no field \"{name}\"", table.name);
                    self.problem(at, message, help);
                    continue;
                };
                if table.field(field).kind == FieldKind::OneOf {
                    let message = format!("\"{name}\" may point at one of several tables");
                    self.problem(at, message, "take another field");
                }
                if let Some(pointer) = self.as_pointer(value) {
                    places.push((pointer, ResponsePart::Value(number, field)));
                }
            }
        }
    }

    /// Where rows of a table stand: a pointer, and which of the objects there they are.
    fn rows_beside(
        &mut self,
        (table, table_name): (TableNo, &str),
        value: &Value<'t>,
        places: &mut Vec<(Pointer, ResponsePart)>,
        types: &mut Vec<NamedType>,
    ) {
        let DeValue::Table(parts) = value.get_ref() else {
            let pointer = self.as_pointer(value);
            places.extend(pointer.map(|at| (at, ResponsePart::Rows(table, None))));
            return;
        };
        if !parts.contains_key("at") {
            let message = format!("\"{table_name}\" is not a one-row table");
            let help = format!(
                "say where its rows are: {table_name} = \"/POINTER\", or {{ at = \"/POINTER\", type = \"NAME\" }}"
            );
            self.problem(value.span().start, message, help);
            return;
        }
        let known = ["at", "type", "type_member"];
        let [at, type_name, member] = self.parts(parts, "a place of rows", known);
        if let Some(member) = member.filter(|_| type_name.is_none()) {
            let help = "add `type = \"NAME\"`";
            self.problem(member.span().start, "it names a member, but no type", help);
        }
        let at = at.and_then(|at| self.as_pointer(at));
        let name = type_name.and_then(|name| self.as_text(name, "the name of a type"));
        let member = member.and_then(|member| self.as_text(member, "the name of a member"));
        let number = name.map(|name| {
            let member = member.unwrap_or("type").into();
            types.push(NamedType { member, name: name.into() });
            TypeNo(types.len() as u32 - 1)
        });
        places.extend(at.map(|at| (at, ResponsePart::Rows(table, number))));
    }
}
