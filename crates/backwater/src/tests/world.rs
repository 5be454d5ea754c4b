//! Schemas made from a list of numbers: what tables there are, what identifies their rows, and of
//! what types their fields are. No numbers at all make the plainest one.

use std::fmt::Write;

use super::choices::{Choices, Holds};
use crate::{Json, RowId, Timestamp, Value};

/// The tables of one case.
#[derive(Debug, Clone)]
pub(super) struct World {
    pub(super) tables: Vec<Table>,
}

#[derive(Debug, Clone)]
pub(super) struct Table {
    pub(super) name: &'static str,
    /// The fields that identify rows; none in a one-row table.
    pub(super) id: Vec<&'static str>,
    pub(super) fields: Vec<Field>,
}

#[derive(Debug, Clone, Copy)]
pub(super) struct Field {
    pub(super) name: &'static str,
    pub(super) kind: Kind,
    on_delete: &'static str,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Int,
    Float,
    Bool,
    Text,
    Time,
    Json,
    /// To a table, by its number.
    Link(usize),
}

/// The tables that are always there; others come behind.
pub(super) const ITEM: usize = 0;
pub(super) const PART: usize = 1;
pub(super) const ONE: usize = 2;

/// Statements of the schema, which others read.
pub(super) const COUNTS: &str =
    "SELECT part AS k, count(*) AS c, max(n) AS m FROM item GROUP BY part";
pub(super) const ABOVE: &str = "SELECT id AS i, n AS v, part AS k FROM item WHERE n > :p";
const TOP: &str = "SELECT id AS i, n AS v FROM item ORDER BY n DESC, t LIMIT 3";
pub(super) const TOP_JUDGED: &str =
    "SELECT id AS i, n AS v FROM item ORDER BY n DESC, t, id LIMIT 3";

impl World {
    pub(super) fn of(numbers: &[u16]) -> Self {
        let none = World { tables: Vec::new() };
        let mut choices = Choices::new(numbers, &none);
        let mut tables = Vec::new();
        let mut item = Table { name: "item", id: vec!["id"], fields: Vec::new() };
        for (name, kinds) in [
            ("id", &[Kind::Int, Kind::Int, Kind::Text][..]),
            ("n", &[Kind::Int, Kind::Int, Kind::Float]),
            ("r", &[Kind::Float, Kind::Float, Kind::Int]),
            ("b", &[Kind::Bool, Kind::Bool, Kind::Int]),
            ("t", &[Kind::Text]),
            ("w", &[Kind::Time, Kind::Time, Kind::Text]),
            ("j", &[Kind::Json, Kind::Json, Kind::Text]),
            ("part", &[Kind::Link(PART)]),
            ("up", &[Kind::Link(ITEM)]),
        ] {
            item.fields.push(choices.typed(name, kinds));
        }
        tables.push(item);
        let n = tables[ITEM].fields[1].kind;
        let mut part = Table { name: "part", id: vec!["code"], fields: Vec::new() };
        for (name, kinds) in [
            ("code", &[Kind::Text, Kind::Text, Kind::Int][..]),
            // As of an item: what a column is of which UNION ALL makes one type of two, SQLite
            // leaves open.
            ("n", &[n]),
            ("t", &[Kind::Text]),
            ("item", &[Kind::Link(ITEM)]),
        ] {
            part.fields.push(choices.typed(name, kinds));
        }
        tables.push(part);
        let fields = [("n", Kind::Int), ("t", Kind::Text), ("part", Kind::Link(PART))];
        let fields = fields.map(|(name, kind)| Field { name, kind, on_delete: "" }).to_vec();
        tables.push(Table { name: "one", id: Vec::new(), fields });
        for (name, keys) in [("leg", ["lid", "lno"]), ("pin", ["pid", "pno"])] {
            if choices.pick(3) == 0 {
                break;
            }
            let mut fields = match choices.pick(3) {
                0 => vec![Field { name: keys[0], kind: Kind::Int, on_delete: "" }],
                1 => vec![Field { name: keys[0], kind: Kind::Text, on_delete: "" }],
                // A part of its id is the row that it belongs to.
                _ => vec![
                    Field { name: keys[0], kind: Kind::Link(ITEM), on_delete: "cascade" },
                    Field { name: keys[1], kind: Kind::Int, on_delete: "" },
                ],
            };
            let id = fields.iter().map(|field| field.name).collect();
            let links = (0..tables.len()).filter(|table| tables[*table].id.len() == 1);
            let links = links.map(Kind::Link).collect::<Vec<_>>();
            for field in ["f", "g", "h"].into_iter().take(choices.pick(3) + 1) {
                let plain =
                    [Kind::Int, Kind::Text, Kind::Float, Kind::Bool, Kind::Time, Kind::Json];
                fields.push(choices.typed(field, &[&links[..], &plain].concat()));
            }
            tables.push(Table { name, id, fields });
        }
        for table in &mut tables {
            let by = choices.pick(table.fields.len());
            table.fields.rotate_left(by);
        }
        World { tables }
    }

    /// As `backwater.toml`.
    pub(super) fn text(&self) -> String {
        let mut out = String::new();
        for table in &self.tables {
            let id = match &table.id[..] {
                [] => "one_row = true".to_owned(),
                id => format!("id = {id:?}"),
            };
            writeln!(out, "[table.{}]\n{id}\n[table.{}.fields]", table.name, table.name).unwrap();
            for field in &table.fields {
                let kind = match field.kind {
                    Kind::Int => "\"int\"".to_owned(),
                    Kind::Float => "\"float\"".to_owned(),
                    Kind::Bool => "\"bool\"".to_owned(),
                    Kind::Text => "\"text\"".to_owned(),
                    Kind::Time => "\"timestamp\"".to_owned(),
                    Kind::Json => "\"json\"".to_owned(),
                    Kind::Link(to) => {
                        let to = self.tables[to].name;
                        match field.on_delete {
                            "" => format!("{{ to = \"{to}\" }}"),
                            then => format!("{{ to = \"{to}\", on_delete = \"{then}\" }}"),
                        }
                    }
                };
                writeln!(out, "{} = {kind}", field.name).unwrap();
            }
            if table.name == "item" {
                out += "tags = { to_many = \"part\" }\n";
            }
        }
        format!("{out}[query]\ncounts = \"{COUNTS}\"\nabove = \"{ABOVE}\"\ntop = \"{TOP}\"\n")
    }

    /// A table's columns, and what they hold.
    pub(super) fn columns(&self, table: usize) -> Vec<(&'static str, Holds)> {
        let of = &self.tables[table];
        let mut columns: Vec<_> = of
            .fields
            .iter()
            .map(|field| match field.kind {
                _ if of.id == [field.name] => (field.name, Holds::Row(table)),
                Kind::Int | Kind::Float | Kind::Bool => (field.name, Holds::Number),
                Kind::Text => (field.name, Holds::Text),
                Kind::Time => (field.name, Holds::Time),
                Kind::Json => (field.name, Holds::Json),
                Kind::Link(to) => (field.name, Holds::Row(to)),
            })
            .collect();
        if table == ITEM {
            columns.push(("tags", Holds::Number));
        }
        columns
    }

    /// One of a few values of a type; a row of a table by its number.
    pub(super) fn value(&self, kind: Kind, number: usize) -> Value {
        match kind {
            Kind::Int => (number as i64 % 8 - 2).into(),
            Kind::Float => (number as f64 / 4.0 - 1.0).into(),
            Kind::Bool => (number % 2 == 1).into(),
            Kind::Text => ["a", "A", "ab", "7", "", "é", "b "][number % 7].into(),
            Kind::Time => time(number % 5),
            Kind::Json => {
                let json = match number {
                    3 => r#"[1,"a",null,2.5]"#,
                    5 => r#"["P","Q","P"]"#,
                    6 => r#"{"a b":[1.5,true,[]],"k":{"x":"P"},"k":7}"#,
                    7 => "[]",
                    8 => r#"["P","a"]"#,
                    9 => "7",
                    10 => r#""P""#,
                    11 => "null",
                    _ => &format!("{{\"k\":{}}}", number % 3),
                };
                Json::parse(json).unwrap().into()
            }
            Kind::Link(to) => self.id(to, number),
        }
    }

    pub(super) fn id(&self, table: usize, number: usize) -> Value {
        self.plain_id(table, number).into()
    }

    /// What identifies a row of a table with a plain id.
    fn plain_id(&self, table: usize, number: usize) -> RowId {
        let of = &self.tables[table];
        let kind = of.fields.iter().find(|field| of.id == [field.name]).map(|field| field.kind);
        match kind {
            Some(Kind::Text) if table == PART => ["P", "Q", "R", "S"][number % 4].into(),
            Some(Kind::Text) => number.to_string().into(),
            _ if table == PART => (number as i64 % 4).into(),
            _ => (number as i64).into(),
        }
    }

    /// The fields that identify a row of a table, with values, and the row's id.
    pub(super) fn key(&self, table: usize, number: usize) -> (Vec<(&'static str, Value)>, RowId) {
        let of = &self.tables[table];
        match &of.id[..] {
            [first, second] => {
                let (owner, no) = (self.plain_id(ITEM, number / 2), number as i64 % 2);
                (vec![(first, owner.clone().into()), (second, no.into())], (owner, no).into())
            }
            id => {
                let value = self.plain_id(table, number);
                (vec![(id[0], value.clone().into())], value)
            }
        }
    }
}

impl Choices<'_> {
    fn typed(&mut self, name: &'static str, kinds: &[Kind]) -> Field {
        let kind = self.one(kinds);
        let on_delete = match kind {
            Kind::Link(_) => self.one(&["", "", "set null", "cascade"]),
            _ => "",
        };
        Field { name, kind, on_delete }
    }
}

pub(super) fn time(hours: usize) -> Value {
    Timestamp::from_micros(1_900_000_000_000_000 + hours as i64 * 3_600_000_000).unwrap().into()
}
