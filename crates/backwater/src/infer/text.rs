//! Writing the proposal as `backwater.toml`, with a comment at each line that says what it was
//! seen from.

use std::collections::HashSet;
use std::fmt::Write;

use super::columns::{Column, ColumnKind, ProposedTable};
use super::entities::{Entities, Entity};
use super::evidence::{ObjectsNo, World};
use super::rules::{BesideRows, ProposedRule};
use super::scan::Written;
use super::update::MoreRows;
use super::words::Taken;
use crate::ingest::TYPE_NAME;
use crate::schema::{Names, TYPE_MEMBER, write_part};

/// Comments begin no further to the right than here.
const COLUMN: usize = 56;
/// This many places are named in a comment.
const PLACES: usize = 2;

/// What is proposed.
pub(super) struct Proposed<'a> {
    pub(super) world: &'a World,
    pub(super) entities: &'a Entities,
    pub(super) tables: &'a [ProposedTable],
    pub(super) rules: &'a [ProposedRule],
    pub(super) samples: usize,
    /// Rows beside the records of rules that there are.
    pub(super) more_rows: &'a [MoreRows],
    /// Responses that no rule could be found for, and why.
    pub(super) left_out: &'a [String],
    /// The most bytes that a response has.
    pub(super) bytes: usize,
}

/// What is added to a schema.
#[derive(Default)]
pub(super) struct Additions {
    /// Fields of tables that it has: the table, the line, the comment.
    pub(super) fields: Vec<(String, String, String)>,
    /// Tables and rules.
    pub(super) blocks: String,
}

/// Lines with comments behind them.
#[derive(Default)]
struct Block(Vec<(String, String)>);

impl Block {
    fn line(&mut self, code: impl Into<String>, comment: impl Into<String>) {
        self.0.push((code.into(), comment.into()));
    }

    fn write(&self, out: &mut String) {
        let widths = self.0.iter().filter(|(_, comment)| !comment.is_empty());
        let widths = widths.map(|(code, _)| code.chars().count()).filter(|width| *width <= COLUMN);
        let column = widths.max().unwrap_or(0);
        for (code, comment) in &self.0 {
            out.push_str(code);
            if !comment.is_empty() {
                let space = column.saturating_sub(code.chars().count());
                let _ = write!(out, "{:space$} # {}", "", one_line(comment));
            }
            out.push('\n');
        }
        out.push('\n');
    }
}

impl Proposed<'_> {
    pub(super) fn text(&self) -> String {
        let mut out = String::from("# Proposed by `backwater infer` from ");
        out.push_str(&counted(self.samples, "response"));
        out.push_str(". Each line says what it was derived from;\n");
        out.push_str("# change what you know better.\n\n");
        if self.bytes > 1 << 30 {
            let _ =
                writeln!(out, "limits.bytes = {} # the longest response has as many\n", self.bytes);
        }
        let Additions { blocks, .. } = self.additions(&[]);
        out += &blocks;
        for why in self.left_out {
            let _ = writeln!(out, "# {}", one_line(why));
        }
        out.truncate(out.trim_end().len());
        out + "\n"
    }

    /// What is new; `known` are the names of the tables that there are.
    pub(super) fn additions(&self, known: &[&str]) -> Additions {
        let used = self.used();
        let mut names: Taken = Taken::default();
        known.iter().for_each(|name| drop(names.take(name)));
        let new = self.entities.list.iter().filter(|entity| entity.declared.is_none());
        new.for_each(|entity| drop(names.take(&entity.name)));
        self.rules.iter().for_each(|rule| {
            rule.page.iter().for_each(|(name, _)| drop(names.take(name)));
            rule.list.iter().for_each(|(name, ..)| drop(names.take(name)));
        });
        let mut additions = Additions::default();
        let out = &mut additions.blocks;
        for (number, entity) in self.entities.list.iter().enumerate() {
            if !used.contains(&number) {
                continue;
            }
            if entity.declared.is_none() {
                self.table(entity, &self.tables[number], &mut names).write(out);
                continue;
            }
            let (mut block, table) = (Block::default(), &self.tables[number]);
            for column in table.columns.iter().filter(|column| !column.declared) {
                self.column(column, Some((entity, table, &mut names)), &mut block);
            }
            let lines = block.0.into_iter();
            additions.fields.extend(lines.map(|(line, why)| (entity.name.clone(), line, why)));
        }
        for (name, columns) in self.rules.iter().filter_map(|rule| rule.page.as_ref()) {
            let mut block = Block::default();
            let head = format!("[table.{}]", key(name));
            block.line(head, "values outside of rows: those of the last response");
            block.line("one_row = true", "a single row without an id");
            block.line(format!("[table.{}.fields]", key(name)), "");
            columns.iter().for_each(|column| self.column(column, None, &mut block));
            block.write(out);
        }
        self.rules.iter().for_each(|rule| self.rule(rule).write(out));
        additions
    }

    /// The tables that some rule leads to.
    pub(super) fn used(&self) -> HashSet<usize> {
        let records = self.rules.iter().filter_map(|rule| rule.records.as_ref());
        let beside = self.rules.iter().flat_map(|rule| rule.rows.iter().map(|rows| rows.table));
        let there = self.entities.list.iter().enumerate();
        let there = there.filter(|(_, entity)| entity.declared.is_some()).map(|(at, _)| at);
        let more = self.more_rows.iter().map(|more| more.rows.table);
        let new = records.map(|found| found.table).chain(beside);
        let mut next: Vec<usize> = new.chain(there).chain(more).collect();
        let mut used = HashSet::new();
        while let Some(table) = next.pop() {
            if used.insert(table) {
                let kinds = self.tables[table].columns.iter().map(|column| &column.kind);
                kinds.for_each(|kind| targets(kind, &mut next));
            }
        }
        // Resources are recognised by their types, wherever they are included.
        let is_resource = |entity: &Entity| self.world.objects(entity.objects[0]).resource;
        let numbers = 0..self.entities.list.len();
        used.extend(numbers.filter(|number| is_resource(&self.entities.list[*number])));
        used
    }

    fn table(&self, entity: &Entity, table: &ProposedTable, names: &mut Taken) -> Block {
        let mut block = Block::default();
        let seen: usize = entity.objects.iter().map(|it| self.world.objects(*it).seen).sum();
        let seen_text = counted(seen, "object");
        let places = self.places(&entity.objects);
        block.line(format!("[table.{}]", key(&entity.name)), format!("{seen_text}: {places}"));
        block.line(format!("id = {}", self.id(&table.id)), entity.note.clone());
        if let Some(names) = table.names {
            let known = Names::KNOWN.iter().find(|(_, known)| *known == names);
            let name = known.map_or("", |(name, _)| name);
            block.line(format!("names = {}", text(name)), "how its members are named");
        }
        let is_resource = self.world.objects(entity.objects[0]).resource;
        if let Some(type_name) =
            entity.type_name.as_ref().filter(|type_name| is_resource && **type_name != entity.name)
        {
            block.line(format!("resource = {}", text(type_name)), "its type in JSON:API documents");
        }
        block.line(format!("[table.{}.fields]", key(&entity.name)), "");
        for column in &table.columns {
            self.column(column, Some((entity, table, names)), &mut block);
        }
        for why in &table.left_out {
            block.line(format!("# left out: {}", one_line(why)), "");
        }
        block
    }

    fn id(&self, id: &[String]) -> String {
        match id {
            [only] => text(only),
            parts => {
                format!("[{}]", parts.iter().map(|part| text(part)).collect::<Vec<_>>().join(", "))
            }
        }
    }

    fn places(&self, objects: &[ObjectsNo]) -> String {
        let mut places: Vec<&str> = Vec::new();
        for number in objects {
            let place = &*self.world.place(*number).pointer;
            if !places.contains(&place) {
                places.push(place);
            }
        }
        let listed = places.iter().take(PLACES).copied().collect::<Vec<_>>().join(", ");
        match places.len().checked_sub(PLACES) {
            Some(more) if more > 0 => format!("{listed} and {more} more"),
            _ => listed,
        }
    }

    fn column(
        &self,
        column: &Column,
        of: Option<(&Entity, &ProposedTable, &mut Taken)>,
        block: &mut Block,
    ) {
        let mut options = Vec::new();
        let names = of.as_ref().and_then(|(_, table, _)| table.names);
        if let Some((entity, table, taken)) = of {
            if let ColumnKind::Many(..) = column.kind {
                let usual = format!("{}_{}", entity.name, column.name);
                let given = taken.take(&usual);
                if given != usual {
                    options.push(format!("link_table = {}", text(&given)));
                }
            }
            if let ColumnKind::OneOf(_, typename) = &column.kind {
                let other = table.type_field(&column.name);
                options.extend(other.map(|name| format!("type_field = {}", text(&name))));
                options.extend(typename.then(|| format!("type_member = {}", text(TYPE_NAME))));
                options.push("other_types = \"skip\"".to_owned());
            }
            if let ColumnKind::Many(_, Some(wrapper)) = &column.kind {
                let record = std::slice::from_ref(&wrapper.record);
                options.push(format!("record = {}", text(&pointer(record))));
            }
            if let ColumnKind::Many(inner, _) = &column.kind
                && let ColumnKind::OneOf(_, typename) = **inner
            {
                options.extend(typename.then(|| format!("type_member = {}", text(TYPE_NAME))));
                options.push("other_types = \"skip\"".to_owned());
            }
            let written = names.map_or_else(|| column.name.clone(), |it| it.write(&column.name));
            match &*column.way {
                [] => {}
                [member] if *member == written => {}
                [member] if !member.is_empty() && !member.starts_with('/') => {
                    options.push(format!("from = {}", text(member)));
                }
                way => options.push(format!("from = {}", text(&pointer(way)))),
            }
            if let ColumnKind::Many(_, Some(wrapper)) = &column.kind {
                let fields = wrapper.fields.iter().map(|(name, member, kind)| {
                    let mut options = match kind {
                        ColumnKind::Counted(unit) => {
                            vec![text("timestamp"), format!("unit = {}", text(unit))]
                        }
                        ColumnKind::Plain(kind, _) => vec![text(kind)],
                        _ => vec![text("json")],
                    };
                    let written = names.map_or_else(|| name.clone(), |names| names.write(name));
                    options.extend((*member != written).then(|| {
                        let is_plain = !member.is_empty() && !member.starts_with('/');
                        let from =
                            if is_plain { member } else { &pointer(std::slice::from_ref(member)) };
                        format!("from = {}", text(from))
                    }));
                    match &*options {
                        [only] => format!("{} = {only}", key(name)),
                        all => format!("{} = {{ type = {} }}", key(name), all.join(", ")),
                    }
                });
                let fields: Vec<String> = fields.collect();
                if !fields.is_empty() {
                    options.push(format!("fields = {{ {} }}", fields.join(", ")));
                }
            }
        }
        let (kind, values) = match &column.kind {
            ColumnKind::Plain(kind, values) => (text(kind), values.as_slice()),
            ColumnKind::Counted(unit) => {
                options.insert(0, format!("unit = {}", text(unit)));
                (text("timestamp"), &[][..])
            }
            kind => (self.link(kind), &[][..]),
        };
        if !values.is_empty() {
            let values = values.iter().map(|value| text(value)).collect::<Vec<_>>().join(", ");
            options.insert(0, format!("values = [{values}]"));
        }
        let code = match &column.kind {
            ColumnKind::Plain(..) if options.is_empty() => kind,
            ColumnKind::Plain(..) | ColumnKind::Counted(_) => {
                format!("{{ type = {kind}, {} }}", options.join(", "))
            }
            _ => {
                options.insert(0, kind);
                format!("{{ {} }}", options.join(", "))
            }
        };
        block.line(format!("{} = {code}", key(&column.name)), column.note.clone());
    }

    /// What a link points at: `to = "port"`.
    fn link(&self, kind: &ColumnKind) -> String {
        let to = |kind: &ColumnKind| match kind {
            ColumnKind::Link(to) => text(&self.entities.list[*to].name),
            ColumnKind::OneOf(tables, _) => {
                let named = tables.iter().map(|(type_name, to)| {
                    format!("{} = {}", key(type_name), text(&self.entities.list[*to].name))
                });
                format!("{{ {} }}", named.collect::<Vec<_>>().join(", "))
            }
            ColumnKind::Plain(..) | ColumnKind::Counted(_) | ColumnKind::Many(..) => String::new(),
        };
        match kind {
            ColumnKind::Many(inner, _) => format!("to_many = {}", to(inner)),
            kind => format!("to = {}", to(kind)),
        }
    }

    fn rule(&self, rule: &ProposedRule) -> Block {
        let mut block = Block::default();
        let head = format!("[response.{}]", key(&rule.name));
        let mut note = counted(rule.samples.len(), "response");
        if let [first, second, more @ ..] = &*rule.called {
            let more = counted(more.len(), "other");
            note += &format!(" called {first}, {second} and {more}: read them as {}", rule.name);
        }
        block.line(head, note);
        if let Some(why) = &rule.refused {
            block.line(
                format!("# kept as json, since it does not fit as rows: {}", one_line(why)),
                "",
            );
        }
        if let Some(method) = &rule.method {
            block.line(format!("method = {}", text(method)), "the requests' method");
        }
        if let Some(url) = &rule.url {
            block.line(format!("url = {}", text(url)), rule.urls.clone());
        }
        let format = match rule.written {
            Some(Written::Ndjson) => Some(("ndjson", "several values in one")),
            Some(Written::JsonApi) => Some(("json:api", "resources with type and id")),
            Some(Written::GraphQl) => Some(("graphql", "data, and errors or __typename")),
            _ => None,
        };
        if let Some((format, why)) = format {
            block.line(format!("format = {}", text(format)), why);
        }
        if let Some(found) = &rule.records {
            let is_document = rule.written == Some(Written::JsonApi);
            let note = match found.objects {
                0 => String::new(),
                number => counted(number, "record"),
            };
            if !found.way.is_empty() && !is_document {
                block.line(format!("records = {}", text(&pointer(&found.way))), note.clone());
            }
            if !found.record.is_empty() {
                block.line(format!("record = {}", text(&pointer(&found.record))), "inside of each");
            }
            if found.keyed {
                block.line("keyed_by_id = true", "members by their ids");
            }
            let shown = !found.way.is_empty() && !is_document;
            let note = match (shown, rule.deletes) {
                (true, _) => "what they are".to_owned(),
                (_, true) => "what the URL names".to_owned(),
                _ => note,
            };
            block.line(format!("table = {}", text(&self.entities.list[found.table].name)), note);
        }
        if !rule.given.is_empty() {
            let given = rule.given.iter().map(|(field, variable)| {
                format!("{} = {}", key(field), text(&format!(":{variable}")))
            });
            let given = given.collect::<Vec<_>>().join(", ");
            block.line(format!("fields = {{ {given} }}"), "the URL says it");
        }
        if let Some((name, part, is_text)) = &rule.list {
            if *is_text {
                block.line(format!("vars = {{ {} = \"text\" }}", key(part)), "not always a number");
            }
            block.line(format!("list = {}", text(name)), "the server's order, page by page");
            block.line(format!("part = {}", text(part)), "what it is called");
            if let Some((next, why)) = &rule.next {
                // What is read without a remote has its parts by their names.
                let aside = if next.starts_with('/') { "# " } else { "" };
                block.line(format!("{aside}next = {}", text(next)), *why);
            }
        }
        if rule.deletes {
            block.line("deletes = true", "a DELETE that succeeded");
        }
        let mut tables: Vec<usize> = Vec::new();
        for BesideRows { table, .. } in &rule.rows {
            if tables.contains(table) {
                continue;
            }
            tables.push(*table);
            let places: Vec<_> = rule.rows.iter().filter(|rows| rows.table == *table).collect();
            let values: Vec<String> = places.iter().map(|rows| place_of(rows)).collect();
            let notes: Vec<&str> = places.iter().map(|rows| rows.note.as_str()).collect();
            let value = match &*values {
                [only] => only.clone(),
                several => format!("[{}]", several.join(", ")),
            };
            let name = key(&self.entities.list[*table].name);
            block.line(format!("beside.{name} = {value}"), notes.join(", "));
        }
        let beside = rule.rows.iter().map(|rows| (rows.table, rows.others));
        let records = rule.records.iter().map(|found| (found.table, found.others));
        let mut amiss: Vec<String> = Vec::new();
        for (table, others) in records.chain(beside) {
            let Entity { name, lacking, .. } = &self.entities.list[table];
            let verb = |number: usize, one, many| if number == 1 { one } else { many };
            amiss.extend((*lacking > 0).then(|| {
                format!("{} {} no id", counted(*lacking, name), verb(*lacking, "has", "have"))
            }));
            amiss.extend((others > 0).then(|| {
                format!("{} {} no {name}", counted(others, "element"), verb(others, "is", "are"))
            }));
        }
        if !amiss.is_empty() {
            block.line("on_error = \"skip\"", format!("{}: left out", amiss.join(", ")));
        }
        if let Some((name, columns)) = &rule.page {
            block.line(format!("[response.{}.beside.{}]", key(&rule.name), key(name)), "");
            for column in columns {
                let code = format!("{} = {}", key(&column.name), text(&pointer(&column.way)));
                block.line(code, column.note.clone());
            }
        }
        block
    }
}

/// Where rows beside the records are, as a rule says it.
pub(super) fn place_of(rows: &BesideRows) -> String {
    let at = text(&pointer(&rows.way));
    let Some((type_name, member)) = &rows.typed else { return at };
    let usual = *member == TYPE_MEMBER;
    let by = if usual { String::new() } else { format!(", type_member = {}", text(member)) };
    format!("{{ at = {at}, type = {}{by} }}", text(type_name))
}

fn targets(kind: &ColumnKind, out: &mut Vec<usize>) {
    match kind {
        ColumnKind::Plain(..) | ColumnKind::Counted(_) => {}
        ColumnKind::Link(to) => out.push(*to),
        ColumnKind::OneOf(tables, _) => out.extend(tables.iter().map(|(_, to)| *to)),
        ColumnKind::Many(inner, _) => targets(inner, out),
    }
}

/// So many of something: `1 object`, `2 objects`.
pub(super) fn counted(number: usize, what: &str) -> String {
    if number == 1 { format!("1 {what}") } else { format!("{number} {what}s") }
}

pub(super) fn pointer(way: &[String]) -> String {
    let mut out = String::new();
    for part in way {
        let _ = write_part(&mut out, part);
    }
    out
}

/// A comment ends with its line.
pub(super) fn one_line(comment: &str) -> String {
    comment.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// A key of TOML: bare, if it can be.
fn key(name: &str) -> String {
    let bare = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '-';
    if !name.is_empty() && name.chars().all(bare) { name.to_owned() } else { text(name) }
}

/// A basic string of TOML.
fn text(value: &str) -> String {
    let mut out = String::from("\"");
    for letter in value.chars() {
        match letter {
            '"' | '\\' => {
                out.push('\\');
                out.push(letter);
            }
            letter if letter.is_control() => {
                let _ = write!(out, "\\u{:04X}", u32::from(letter));
            }
            letter => out.push(letter),
        }
    }
    out + "\""
}
