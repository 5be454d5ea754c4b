//! Statements and writes made from a list of numbers: each number is one choice, and where the
//! list is at its end, or a number is 0, the simplest thing is chosen. So a shorter list of smaller
//! numbers is a simpler case, and a failing one shrinks to a readable statement.

use super::world::{ABOVE, COUNTS, ITEM, ONE, PART, TOP_JUDGED, World, time};
use crate::{Cache, Named, Report, Value};

/// A statement, the same with ties broken as ours are, and values for its parameters.
#[derive(Debug, Clone)]
pub(super) struct Statement {
    pub(super) sql: String,
    pub(super) judge: String,
    pub(super) params: Vec<(&'static str, Value)>,
    /// Whether only rows that a commit changed may be said to have moved.
    pub(super) plain: bool,
    /// Whether it is kept up to date; else it is read after some of the commits.
    pub(super) watched: bool,
}

/// What a column holds, as far as it matters for what goes with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Holds {
    Number,
    Text,
    /// What identifies a row of that table.
    Row(usize),
    Json,
    Time,
}

#[derive(Debug, Clone)]
struct Column {
    sql: String,
    holds: Holds,
}

struct Source {
    sql: String,
    alias: String,
    columns: Vec<(&'static str, Holds)>,
    ties: Vec<&'static str>,
}

pub(super) struct Choices<'c> {
    numbers: std::slice::Iter<'c, u16>,
    world: &'c World,
}

/// What json_each() gives.
const ELEMENT: &[(&str, Holds)] = &[
    ("key", Holds::Number),
    ("value", Holds::Row(PART)),
    ("type", Holds::Text),
    ("atom", Holds::Row(PART)),
    ("fullkey", Holds::Text),
    ("path", Holds::Text),
];

const COLLATIONS: [&str; 3] = ["NOCASE", "RTRIM", "UNICODE"];

/// The link table of an item's parts.
const TAGS: &[(&str, Holds)] =
    &[("owner", Holds::Row(ITEM)), ("position", Holds::Number), ("target", Holds::Row(PART))];

impl<'c> Choices<'c> {
    pub(super) fn new(numbers: &'c [u16], world: &'c World) -> Self {
        Self { numbers: numbers.iter(), world }
    }
}

impl Choices<'_> {
    pub(super) fn pick(&mut self, of: usize) -> usize {
        usize::from(self.numbers.next().copied().unwrap_or(0)) % of
    }

    pub(super) fn one<T: Clone>(&mut self, of: &[T]) -> T {
        of[self.pick(of.len())].clone()
    }

    fn often(&mut self) -> bool {
        self.pick(2) == 1
    }

    fn seldom(&mut self) -> bool {
        self.pick(5) == 4
    }

    pub(super) fn statement(&mut self) -> Statement {
        let watched = self.pick(3) != 2;
        let (p, q) = (self.param(), self.param());
        let (sql, judge) = match self.pick(12) {
            11 => self.union(),
            _ => self.select(),
        };
        let (s, l) = (self.needle(), Value::from(self.pick(5) as i64));
        let mut params = Vec::new();
        for (name, value) in [("p", p), ("q", q), ("s", s), ("l", l)] {
            if sql.contains(&format!(":{name}")) || sql.contains("above") && name == "p" {
                params.push((name, value));
            }
        }
        Statement { sql, judge, params, plain: false, watched }
    }

    /// Other values for some of the parameters, often near the old ones.
    pub(super) fn other_values(
        &mut self,
        params: &[(&'static str, Value)],
    ) -> Vec<(&'static str, Value)> {
        let mut out = Vec::new();
        for (name, value) in params {
            let value = match (*name, value) {
                _ if self.seldom() => continue,
                ("s", Value::Text(old)) if self.often() => {
                    format!("{old}{}", self.one(&["a", "B", ""])).into()
                }
                ("s", _) => self.needle(),
                ("l", _) => Value::from(self.pick(5) as i64),
                (_, Value::Int(old)) if self.often() => Value::from(old + self.pick(5) as i64 - 2),
                (_, Value::Timestamp(_)) if self.often() => time(self.pick(5)),
                _ => self.param(),
            };
            out.push((*name, value));
        }
        out
    }

    fn needle(&mut self) -> Value {
        match self.pick(4) {
            0 => Value::from(self.pick(8) as i64),
            _ => self.one(&["", "a", "A", "ab", "P"]).into(),
        }
    }

    fn param(&mut self) -> Value {
        match self.pick(7) {
            0 => Value::from(1),
            1 => self.one(&["P", "Q", "R"]).into(),
            2 => Value::from(self.pick(8) as i64),
            3 => self.one(&["", "a", "A", "ab", "7"]).into(),
            4 => (self.pick(9) as f64 / 4.0).into(),
            5 => time(self.pick(5)),
            _ => Value::Null,
        }
    }

    fn source(&mut self, number: usize) -> Source {
        let alias = format!("s{number}");
        let of = |sql: &str, columns: &[(&'static str, Holds)], ties: &[&'static str]| Source {
            sql: sql.to_owned(),
            alias: format!("s{number}"),
            columns: columns.to_vec(),
            ties: ties.to_vec(),
        };
        let world = self.world;
        let inner: Vec<Column> = self.columns_of(&world.columns(ITEM), "");
        let filter = |choices: &mut Self| match choices.often() {
            true => format!(" WHERE {}", choices.condition(&inner, 1, false)),
            false => String::new(),
        };
        let mut source = match self.pick(17) {
            16 if self.often() => {
                let filter = filter(self);
                let recursion = self.recursion(&filter);
                of(
                    &recursion,
                    &[("i", Holds::Row(ITEM)), ("k", Holds::Row(PART)), ("c", Holds::Number)],
                    &["i", "k", "c"],
                )
            }
            16 => {
                let json = self.one(&[
                    r#"'[1,"P",{"a":2},null,"a"]'"#,
                    r#"'{"a":{"b":[1,2],"c d":2}}', '$.a'"#,
                    "coalesce(:p, '[7,[1]]') || ''",
                ]);
                let json = json.replace(":p, ", "NULL, ");
                of(&format!("json_each({json})"), ELEMENT, &["id"])
            }
            0..=2 => of("item", &world.columns(ITEM), &["id"]),
            3 => {
                let table = self.pick(world.tables.len());
                let (name, id) = (world.tables[table].name, &world.tables[table].id);
                of(name, &world.columns(table), id)
            }
            4..=6 => of("part", &world.columns(PART), &["code"]),
            7 => of("item_tags", TAGS, &["owner", "position"]),
            8 => of("one", &world.columns(ONE), &[]),
            9 => {
                let filter = filter(self);
                of(
                    &format!(
                        "(SELECT part AS k, count(*) AS c, sum(n) AS m FROM item{filter} GROUP BY part)"
                    ),
                    &[("k", Holds::Row(PART)), ("c", Holds::Number), ("m", Holds::Number)],
                    &["k"],
                )
            }
            10 => {
                let filter = filter(self);
                let limit = self.pick(4) + 1;
                of(
                    &format!(
                        "(SELECT id AS i, n AS v, part AS k FROM item{filter} ORDER BY n/*, id*/ LIMIT {limit})"
                    ),
                    &[("i", Holds::Row(ITEM)), ("v", Holds::Number), ("k", Holds::Row(PART))],
                    &["i"],
                )
            }
            11 if self.often() => {
                let filter = filter(self);
                let by = self.one(&["PARTITION BY part", "PARTITION BY b, part", ""]);
                let m = self.one(&[
                    "count(n) OVER (BY ORDER BY n)",
                    "max(n) OVER (BY)",
                    "min(n) OVER (BY ORDER BY n/*, id*/ ROWS BETWEEN 2 PRECEDING AND 1 PRECEDING)",
                ]);
                let m = m.replace("BY ", &format!("{by} ")).replace("BY)", &format!("{by})"));
                let m = m.replace(&format!("ORDER {by} "), "ORDER BY ");
                of(
                    &format!(
                        "(SELECT id AS i, part AS k, lag(n) OVER w AS v, row_number() OVER w AS c, \
                         {m} AS m FROM item{filter} WINDOW w AS ({by} ORDER BY n/*, id*/))"
                    ),
                    &[
                        ("i", Holds::Row(ITEM)),
                        ("k", Holds::Row(PART)),
                        ("v", Holds::Number),
                        ("c", Holds::Number),
                        ("m", Holds::Number),
                    ],
                    &["i"],
                )
            }
            11 => of(
                "(SELECT DISTINCT t AS u, b AS v FROM item)",
                &[("u", Holds::Text), ("v", Holds::Number)],
                &["u", "v"],
            ),
            12 if self.often() => {
                let joined = self.joined();
                of(
                    &joined,
                    &[
                        ("i", Holds::Row(ITEM)),
                        ("v", Holds::Number),
                        ("k", Holds::Row(PART)),
                        ("x", Holds::Text),
                        ("c", Holds::Number),
                    ],
                    &["i", "v", "k", "x"],
                )
            }
            12 => {
                let filter = filter(self);
                of(
                    &format!("(SELECT id AS i, n + 1 AS v, part AS k FROM item{filter})"),
                    &[("i", Holds::Row(ITEM)), ("v", Holds::Number), ("k", Holds::Row(PART))],
                    &["i"],
                )
            }
            13 => of(
                "(SELECT 0 AS br, id AS i, n AS v, part AS k FROM item UNION ALL SELECT 1, item, n, code FROM part ORDER BY 1)",
                &[
                    ("br", Holds::Number),
                    ("i", Holds::Row(ITEM)),
                    ("v", Holds::Number),
                    ("k", Holds::Row(PART)),
                ],
                // A part is identified by its code.
                &["br", "CASE br WHEN 0 THEN i END", "k"],
            ),
            14 if self.seldom() => of(
                "(SELECT part AS k, n AS v FROM item EXCEPT SELECT code, n FROM part)",
                &[("k", Holds::Row(PART)), ("v", Holds::Number)],
                &["k", "v"],
            ),
            14 => of(
                "counts",
                &[("k", Holds::Row(PART)), ("c", Holds::Number), ("m", Holds::Number)],
                &["k"],
            ),
            _ => match self.often() {
                true => of("top", &[("i", Holds::Row(ITEM)), ("v", Holds::Number)], &["i"]),
                false => of(
                    "above",
                    &[("i", Holds::Row(ITEM)), ("v", Holds::Number), ("k", Holds::Row(PART))],
                    &["i"],
                ),
            },
        };
        source.sql = format!("{} AS {alias}", source.sql);
        source
    }

    /// Links followed as far as they lead, or so far.
    fn recursion(&mut self, filter: &str) -> String {
        let world = self.world;
        let columns = self.columns_of(&world.columns(ITEM), "y");
        let limit = match self.often() {
            true => format!(" AND {}", self.condition(&columns, 1, true)),
            false => String::new(),
        };
        let next = self.one(&[
            "SELECT y.id, y.part, d + 1 FROM r JOIN item AS y ON y.up = r.i WHERE d < 3",
            "SELECT y.up, y.part, d + 1 FROM item AS y, r WHERE y.id = r.i AND d < 3",
            "SELECT y.id, p.code, d + 1 FROM r LEFT JOIN part AS p ON p.code = r.k JOIN item AS y ON y.up = p.item AND d < 4",
            "SELECT y.id, r.k, d FROM r JOIN item AS y ON y.up = r.i WHERE 1",
            "SELECT y.id, p.code, d + 1 FROM r JOIN item AS y ON y.up = r.i LEFT JOIN part AS p ON p.code = y.part WHERE d < 3",
            "SELECT y.id, y.part, d + 1 FROM r JOIN item AS y ON y.up = r.i WHERE d < 3 AND NOT EXISTS (SELECT 1 FROM part WHERE code = y.part)",
            "SELECT y.id, y.part, d FROM r JOIN item_tags AS t ON t.owner = r.i JOIN item AS y ON y.part = t.target WHERE 1",
        ]);
        // Without depth only equal rows end what goes round.
        let all = if next.contains("d + 1") && self.often() { "UNION ALL" } else { "UNION" };
        let first = self.one(&[
            "SELECT id, part, 0 FROM item",
            "SELECT up, part, 0 FROM item",
            "SELECT id, NULL, 0 FROM item",
        ]);
        let columns = self.one(&[
            "i, k, count(*) AS c FROM r GROUP BY i, k",
            "i, k, d AS c FROM r GROUP BY i, k, d",
            "i, k, sum(d) AS c FROM r GROUP BY i, k",
        ]);
        format!(
            "(WITH RECURSIVE r(i, k, d) AS ({first}{filter} {all} {next}{limit}) SELECT {columns})"
        )
    }

    fn columns_of(&mut self, columns: &[(&'static str, Holds)], alias: &str) -> Vec<Column> {
        let dot = if alias.is_empty() { "" } else { "." };
        columns
            .iter()
            .map(|(name, holds)| Column { sql: format!("{alias}{dot}{name}"), holds: *holds })
            .collect()
    }

    /// FROM, all columns, and what breaks ties.
    fn from(&mut self) -> (String, Vec<Column>, Vec<String>) {
        let count = self.one(&[1, 1, 2, 2, 2, 3, 3, 4]);
        let (mut sql, mut columns, mut ties) = (String::new(), Vec::new(), Vec::new());
        let mut item: Option<String> = None;
        for number in 0..count {
            let mut source = self.source(number);
            if let Some(item) = item.as_ref().filter(|_| self.seldom()) {
                let of = self.one(&["", "", ", '$.k'"]);
                source.sql = format!("json_each({item}.j{of}) AS {}", source.alias);
                source.columns = ELEMENT.to_vec();
                source.ties = vec!["id"];
                let alias = &source.alias;
                ties.push(format!("⟨{number}:iif({alias}.id IS NULL, NULL, {item}.id)⟩"));
            }
            if source.columns.contains(&("j", Holds::Json)) {
                item = Some(source.alias.clone());
            }
            let own = self.columns_of(&source.columns, &source.alias);
            if number == 0 {
                sql = format!(" FROM {}", source.sql);
            } else {
                let join = self.one(&[" JOIN ", " LEFT JOIN ", " LEFT JOIN ", ", "]);
                sql += join;
                sql += &source.sql;
                if join != ", " {
                    let mut on = self.tie(&columns, &own);
                    if self.seldom() {
                        let both: Vec<Column> = [columns.clone(), own.clone()].concat();
                        on = format!("{on} AND {}", self.condition(&both, 1, false));
                    }
                    if self.pick(12) == 11 {
                        on = self.condition(&own, 1, false);
                    }
                    sql += &format!(" ON {on}");
                }
            }
            ties.extend(source.ties.iter().map(|tie| {
                let tie = match tie.contains(' ') {
                    true => tie
                        .replace(" br ", &format!(" {}.br ", source.alias))
                        .replace(" i ", &format!(" {}.i ", source.alias)),
                    false => format!("{}.{tie}", source.alias),
                };
                format!("⟨{number}:{tie}⟩")
            }));
            columns.extend(own);
        }
        (sql, columns, ties)
    }

    /// Joins of every kind, also of USING and with subqueries in ON; of equal rows one with their
    /// number.
    fn joined(&mut self) -> String {
        let world = self.world;
        let tables = [("item", ITEM), ("part", PART), ("(SELECT * FROM part)", PART)];
        let (mut sql, mut columns) = (String::new(), Vec::new());
        let uses = self.often();
        let count = self.one(&[2, 2, 3, 3, 4]);
        let (mut item, mut part) = ("NULL".to_owned(), "NULL".to_owned());
        for number in 0..count {
            let (name, table) = if number < 2 { tables[number] } else { self.one(&tables) };
            let alias = format!("j{number}");
            let own = self.columns_of(&world.columns(table), &alias);
            let id = |id: &str| format!("{alias}.{id}");
            match table {
                ITEM => item = id("id"),
                _ => part = id("code"),
            }
            if number == 0 {
                sql = format!("{name} AS {alias}");
            } else {
                let is_natural = uses && number == 1 && self.seldom();
                let kind = self.one(&["RIGHT ", "FULL ", "LEFT ", ""]);
                let natural = if is_natural { "NATURAL " } else { "" };
                sql += &format!(" {natural}{kind}JOIN {name} AS {alias}");
                let both: Vec<Column> = [columns.clone(), own.clone()].concat();
                sql += &match () {
                    () if is_natural => String::new(),
                    () if uses => " USING (n)".to_owned(),
                    () if self.seldom() => format!(" ON {}", self.condition(&both, 1, true)),
                    () if self.seldom() => {
                        let tie = self.tie(&columns, &own);
                        format!(" ON {tie} AND {}", self.condition(&both, 1, true))
                    }
                    () => format!(" ON {}", self.tie(&columns, &own)),
                };
            }
            columns.extend(own);
        }
        let n = if uses { "n".to_owned() } else { self.one(&columns).sql };
        let other = self.one(&columns).sql;
        let filter = match self.seldom() {
            true => format!(" WHERE {}", self.condition(&columns, 1, false)),
            false => String::new(),
        };
        format!(
            "(SELECT {item} AS i, {n} AS v, {part} AS k, {other} AS x, count(*) AS c FROM {sql}{filter} \
             GROUP BY {item}, {n}, {part}, {other})"
        )
    }

    /// An equality between two sources, mostly of columns that hold the same.
    fn tie(&mut self, one: &[Column], other: &[Column]) -> String {
        let pairs: Vec<(&Column, &Column)> = one
            .iter()
            .flat_map(|a| other.iter().map(move |b| (a, b)))
            .filter(|(a, b)| a.holds == b.holds && a.holds != Holds::Json)
            .collect();
        if pairs.is_empty() || self.seldom() {
            let (a, b) = (self.one(one), self.one(other));
            return format!("{} = {}", a.sql, b.sql);
        }
        let links: Vec<_> =
            pairs.iter().filter(|(a, _)| matches!(a.holds, Holds::Row(_))).copied().collect();
        let pairs = if links.is_empty() || self.seldom() { pairs } else { links };
        let (a, b) = self.one(&pairs);
        if self.often() {
            format!("{} = {}", a.sql, b.sql)
        } else {
            format!("{} = {}", b.sql, a.sql)
        }
    }

    fn literal(&mut self) -> String {
        self.one(&["1", "0", "2", "'a'", "'P'", "7", "1.5", "'7'", "NULL", "''", ":p", ":q"])
            .to_owned()
    }

    /// What stands in a JSON value.
    fn json_value(&mut self, columns: &[Column]) -> Option<String> {
        let json: Vec<&Column> = columns.iter().filter(|of| of.holds == Holds::Json).collect();
        let column = (!json.is_empty()).then(|| self.one(&json).sql.clone())?;
        let value = self.one(&[
            "J -> '$.k'",
            "J ->> 'k'",
            "J ->> 1",
            "json_extract(J, '$[0]', '$.k')",
            "json_extract(J, '$.k.x')",
            "json_array_length(J)",
            "json_type(J, '$[1]')",
            "json_array(json(J), J, coalesce(json_array(J), 1)) || ''",
            "json_valid(J) + json_valid('[' || coalesce(J, ''))",
            "(SELECT count(*) FROM json_each(J))",
            "(SELECT max(value) FROM json_each(J) WHERE key > 0)",
        ]);
        Some(value.replace('J', &column))
    }

    fn value(&mut self, columns: &[Column], deep: usize) -> String {
        if self.pick(12) == 11
            && let Some(value) = self.json_value(columns)
        {
            return format!("({value})");
        }
        let column = self.one(columns).sql;
        if deep == 0 {
            return if self.pick(4) == 3 { self.literal() } else { column };
        }
        let of = |choices: &mut Self| choices.value(columns, deep - 1);
        match self.pick(16) {
            0..=4 => column,
            5 => self.literal(),
            6 => format!("{} + {}", of(self), of(self)),
            7 => format!("coalesce({}, {})", of(self), of(self)),
            8 => format!("({} || {})", of(self), of(self)),
            9 => format!(
                "CASE WHEN {} THEN {} ELSE {} END",
                self.condition(columns, 0, false),
                of(self),
                of(self)
            ),
            10 => format!("iif({}, {}, {})", self.condition(columns, 0, false), of(self), of(self)),
            11 => {
                let function = self.one(&["upper", "length", "typeof", "abs", "sign", "trim"]);
                format!("{function}({})", of(self))
            }
            12 => {
                let kind = self.one(&["INTEGER", "TEXT", "REAL"]);
                format!("CAST({} AS {kind})", of(self))
            }
            13 => format!(
                "substr({}, {}, {})",
                of(self),
                self.pick(5) as i64 - 2,
                self.pick(5) as i64 - 2
            ),
            14 if self.seldom() => {
                let collation = self.one(&COLLATIONS);
                format!("nullif({}, ({}) COLLATE {collation})", of(self), of(self))
            }
            14 => {
                let function = self.one(&["max", "min", "nullif"]);
                format!("{function}({}, {})", of(self), of(self))
            }
            // Where SQLite keeps rows on the way, it forgets that an element's value is JSON.
            _ => format!("json_object('a', {}, 'b', {})", of(self), of(self))
                .replace(".value", ".type"),
        }
    }

    fn condition(&mut self, columns: &[Column], deep: usize, subqueries: bool) -> String {
        let choice = self.pick(if subqueries { 16 } else { 11 });
        match choice {
            0 => format!("{} IS NOT NULL", self.one(columns).sql),
            1..=3 => {
                let operator = self.one(&["=", "<", ">=", "<>", "IS", "<="]);
                format!("{} {operator} {}", self.one(columns).sql, self.literal())
            }
            4 => format!("{} = :p", self.one(columns).sql),
            5 => {
                let operator = self.one(&["=", "<", "IS NOT"]);
                format!("{} {operator} {}", self.value(columns, deep), self.value(columns, deep))
            }
            6 if self.often() => {
                let operator = self.one(&["=", "<", ">=", "<>", "IS", "<=", "IS NOT"]);
                let mut row = || {
                    let other = if self.often() { self.one(columns).sql } else { self.literal() };
                    format!("({}, {other}, {})", self.literal(), self.one(columns).sql)
                };
                format!("{} {operator} {}", row(), row())
            }
            6 => format!("{} IN (1, 'a', 'P', :q)", self.one(columns).sql),
            7 => {
                let collation = self.one(&["NOCASE", "RTRIM", "BINARY", "UNICODE"]);
                let operator = self.one(&["=", "<", ">"]);
                format!("{} {operator} 'A' COLLATE {collation}", self.one(columns).sql)
            }
            8 => {
                let texts = columns
                    .iter()
                    .filter(|column| matches!(column.holds, Holds::Text | Holds::Row(_)));
                match texts.cloned().collect::<Vec<_>>() {
                    texts if texts.is_empty() => "1".to_owned(),
                    texts => format!(
                        "contains({}, {})",
                        self.one(&texts).sql,
                        self.one(&["'a'", ":s", ":s", "'A'", "''", "1", "NULL"])
                    ),
                }
            }
            9 if deep > 0 => {
                let operator = self.one(&["AND", "OR"]);
                let (a, b) = (
                    self.condition(columns, deep - 1, subqueries),
                    self.condition(columns, deep - 1, subqueries),
                );
                format!("({a} {operator} {b})")
            }
            10 if deep > 0 => format!("NOT ({})", self.condition(columns, deep - 1, subqueries)),
            9 | 10 => format!("{} > 0", self.one(columns).sql),
            11 if columns.iter().any(|of| of.holds == Holds::Json) => {
                let json: Vec<&Column> =
                    columns.iter().filter(|of| of.holds == Holds::Json).collect();
                let (json, of) = (self.one(&json).sql.clone(), self.one(columns).sql);
                let condition = self.one(&[
                    "V IN (SELECT value FROM json_each(J))",
                    "V NOT IN (SELECT atom FROM json_each(J))",
                    "EXISTS (SELECT 1 FROM json_each(J) AS e WHERE e.value = V OR e.key = 'k')",
                    "NOT EXISTS (SELECT 1 FROM json_each(J, '$.k') WHERE type = 'text')",
                    "V IN (SELECT value FROM json_each('[1,\"P\",2,\"a\"]'))",
                ]);
                condition.replace('J', &json).replace('V', &of)
            }
            11 | 12 => {
                let not = self.one(&["", "NOT "]);
                let (from, inner) = self.around(columns);
                let extra = self.extra(&inner);
                format!("{not}EXISTS (SELECT 1 FROM {from}{extra})")
            }
            13 | 14 => {
                let not = self.one(&["", "NOT "]);
                let (of, (from, inner)) = (self.one(columns).sql, self.around(columns));
                let what = self.one(&inner).sql;
                let extra = self.extra(&inner);
                match self.pick(4) {
                    3 => format!("{of} {not}IN (SELECT {what} FROM {from}{extra} GROUP BY {what})")
                        .replace("GROUP BY x.code)", ")"),
                    _ => format!("{of} {not}IN (SELECT {what} FROM {from}{extra})"),
                }
                // A grouping is not taken where the subquery reads what is around it.
                .replace(&format!(" GROUP BY {what})"), ")")
            }
            _ => {
                let operator = self.one(&["=", ">", "||", "-"]);
                let mut sides = [self.one(columns).sql, self.scalar(columns)];
                // Where one side is NULL, the other need not be known.
                if self.seldom() {
                    sides.reverse();
                }
                let [left, right] = sides;
                match operator {
                    "||" | "-" => format!("({left} {operator} {right}) IS NULL"),
                    _ => format!("{left} {operator} {right}"),
                }
            }
        }
    }

    /// A table inside of a subquery, perhaps tied to what is around.
    fn around(&mut self, columns: &[Column]) -> (String, Vec<Column>) {
        let world = self.world;
        let (table, of) = match self.pick(3) {
            0 => ("part", world.columns(PART)),
            1 => ("item", world.columns(ITEM)),
            _ => ("item_tags", TAGS.to_vec()),
        };
        let inner = self.columns_of(&of, "x");
        let tie = match self.pick(6) {
            3 => "1".to_owned(),
            4 => self.unequal(&inner, columns),
            5 => format!("{} AND {}", self.tie(&inner, columns), self.unequal(&inner, columns)),
            _ => self.tie(&inner, columns),
        };
        (format!("{table} AS x WHERE {tie}"), inner)
    }

    /// What a subquery says of what is around it, and is no equality.
    fn unequal(&mut self, inner: &[Column], columns: &[Column]) -> String {
        let (a, b) = (self.one(inner).sql, self.one(columns).sql);
        match self.pick(4) {
            0 => format!("({a} = 1 OR {b} > {a})"),
            1 => format!("{b} IS NOT {a}"),
            2 => format!("{a} + 1 >= {b}"),
            _ => format!("{a} < {b}"),
        }
    }

    fn extra(&mut self, inner: &[Column]) -> String {
        match self.often() {
            true => format!(" AND {}", self.condition(inner, 1, false)),
            false => String::new(),
        }
    }

    fn scalar(&mut self, columns: &[Column]) -> String {
        let (from, inner) = self.around(columns);
        let extra = self.extra(&inner);
        let of = self.one(&inner).sql;
        match self.pick(5) {
            0 => format!("(SELECT count(*) FROM {from}{extra})"),
            1 => format!("(SELECT max({of}) FROM {from}{extra})"),
            2 => {
                let of = if from.starts_with("item_tags") { "x.position" } else { "x.n" };
                // The sum of two such is beyond 64 bits: it matters which groups are asked for.
                let beyond = if self.pick(4) > 0 { "" } else { " + 9223372036854775000" };
                format!("(SELECT coalesce(sum({of}{beyond}), -1) FROM {from}{extra})")
            }
            3 => {
                let code: Vec<&Column> =
                    columns.iter().filter(|column| column.holds == Holds::Row(PART)).collect();
                match code.is_empty() {
                    true => "(SELECT t FROM one)".to_owned(),
                    false => {
                        let code = self.one(&code).sql.clone();
                        format!("(SELECT x.n + 1 FROM part AS x WHERE x.code = {code})")
                    }
                }
            }
            _ => {
                let ties = if from.starts_with("item_tags") {
                    "x.owner, x.position"
                } else if from.starts_with("item") {
                    "x.id"
                } else {
                    "x.code"
                };
                format!("(SELECT {of} FROM {from}{extra} ORDER BY {of} DESC/*, {ties}*/ LIMIT 1)")
            }
        }
    }

    fn aggregate(&mut self, columns: &[Column]) -> String {
        let of = if self.seldom() { self.value(columns, 1) } else { self.one(columns).sql };
        let plain = self.one(columns).sql;
        let filter = self.filter(columns);
        let aggregate = match self.pick(12) {
            0 => "count(*)".to_owned(),
            1 => format!("count({of})"),
            2 if self.seldom() => {
                format!("count(DISTINCT {plain} COLLATE {})", self.one(&COLLATIONS))
            }
            2 => format!("count(DISTINCT {plain})"),
            3 => format!("sum({plain})"),
            4 => format!("min({of})"),
            5 => format!("max({of})"),
            6 => format!("avg({plain})"),
            7 => format!("total(DISTINCT {plain})"),
            8 => format!("group_concat({of}, '-'/*TIES*/)"),
            // What sorts rows for a grouping forgets in SQLite that an element's value is JSON.
            10 | 11 if of.contains(".value") => format!("count({of})"),
            10 => format!("json_group_object({plain}, {of}/*TIES*/)"),
            9 => format!("group_concat({of} ORDER BY {plain} DESC/*, TIES*/)"),
            _ => format!("json_group_array({of}/*TIES*/)"),
        };
        aggregate + &filter
    }

    /// A window function. What hangs on how rows stand that the order leaves open has that told to
    /// the judge.
    fn windowed(&mut self, columns: &[Column]) -> String {
        let mut partition = Vec::new();
        for _ in 0..self.one(&[0, 1, 1, 2]) {
            partition.push(match self.seldom() {
                true => format!("({})", self.value(columns, 1)),
                false => self.one(columns).sql,
            });
        }
        let mut window = match partition.is_empty() {
            true => String::new(),
            false => format!("PARTITION BY {}", partition.join(", ")),
        };
        if !partition.is_empty() && self.seldom() {
            window += &format!(" COLLATE {}", self.one(&COLLATIONS));
        }
        let order = match self.pick(4) {
            3 => String::new(),
            _ => format!(" ORDER BY {}{}", self.one(columns).sql, self.order_end()),
        };
        window += &order;
        let (of, plain) = (self.value(columns, 1), self.one(columns).sql);
        let hangs_on_ties = self.often();
        if !hangs_on_ties {
            let called = match self.pick(9) {
                0 => "rank()".to_owned(),
                1 => "dense_rank()".to_owned(),
                2 => "percent_rank()".to_owned(),
                3 => "cume_dist()".to_owned(),
                4 => return format!("count(*) OVER ({window})"),
                _ => {
                    let function = self.one(&["count", "sum", "total", "avg", "min", "max"]);
                    let unit = self.one(&["GROUPS", "RANGE"]);
                    let frame = match self.often() {
                        true => self.frame(unit),
                        false => String::new(),
                    };
                    return format!(
                        "{function}({plain}){} OVER ({window}{frame})",
                        self.filter(columns)
                    );
                }
            };
            return format!("{called} OVER ({window})");
        }
        window += if order.is_empty() { "/*TIES*/" } else { "/*, TIES*/" };
        let frame = self.frame("ROWS");
        let frame = if self.seldom() { " ROWS UNBOUNDED PRECEDING".to_owned() } else { frame };
        let number = self.pick(3) + 1;
        let called = match self.pick(9) {
            0 => "row_number()".to_owned(),
            1 => format!("ntile({number})"),
            2 => format!("lag({of})"),
            3 => format!("lead({of}, {}, {plain})", number - 1),
            // What a number below 0 does is not defined.
            4 => format!("lag({of}, max({plain}, 0), 'none')"),
            5 => format!("first_value({of})"),
            6 => format!("last_value({of})"),
            7 => format!("nth_value({of}, {number})"),
            _ => {
                let function = self.one(&["count", "sum", "min", "max", "group_concat"]);
                let of = if matches!(function, "min" | "max") { of } else { plain };
                format!("{function}({of}){}", self.filter(columns))
            }
        };
        format!("{called} OVER ({window}{frame})")
    }

    fn filter(&mut self, columns: &[Column]) -> String {
        match self.pick(6) {
            5 => format!(" FILTER (WHERE {})", self.condition(columns, 0, false)),
            _ => String::new(),
        }
    }

    fn frame(&mut self, unit: &str) -> String {
        let numbered = |choices: &mut Self, side: &str| match unit {
            "RANGE" => "CURRENT ROW".to_owned(),
            _ => format!("{} {side}", choices.one(&["0", "1", "2", "3", ":l"])),
        };
        let (start, end) = match self.pick(5) {
            0 => (numbered(self, "PRECEDING"), numbered(self, "FOLLOWING")),
            1 => ("UNBOUNDED PRECEDING".to_owned(), numbered(self, "FOLLOWING")),
            2 => (numbered(self, "PRECEDING"), "UNBOUNDED FOLLOWING".to_owned()),
            3 => (numbered(self, "PRECEDING"), numbered(self, "PRECEDING")),
            _ => (numbered(self, "FOLLOWING"), numbered(self, "FOLLOWING")),
        };
        format!(" {unit} BETWEEN {start} AND {end}")
    }

    /// A subquery that stands beside a grouping with this key: as a value, and as a condition.
    fn beside_groups(&mut self, key: &str) -> (String, String) {
        let value = self.one(&[
            "(SELECT max(n) FROM part)",
            "(SELECT t FROM one)",
            "(SELECT count(*) FROM item AS x WHERE x.part = KEY)",
            "(SELECT max(x.n) FROM part AS x WHERE x.code = KEY)",
            "(SELECT x.n FROM part AS x WHERE x.code = KEY)",
        ]);
        let condition = self.one(&[
            "EXISTS (SELECT 1 FROM part AS x WHERE x.code = KEY)",
            "NOT EXISTS (SELECT 1 FROM part AS x WHERE x.code = KEY AND x.n > 1)",
            "KEY IN (SELECT code FROM part)",
            "count(*) > (SELECT min(n) FROM part) OR KEY IS NULL",
        ]);
        (value.replace("KEY", key), condition.replace("KEY", key))
    }

    fn order_end(&mut self) -> &'static str {
        self.one(&[
            "",
            " DESC",
            " NULLS LAST",
            " DESC NULLS FIRST",
            " COLLATE NOCASE",
            " COLLATE UNICODE DESC",
        ])
    }

    fn excerpt(&mut self) -> String {
        match self.pick(6) {
            0..=2 => String::new(),
            3 => format!(" LIMIT {}", self.pick(6)),
            4 => self.one(&[" LIMIT :l", " LIMIT 3 OFFSET :l", " LIMIT :l OFFSET 1"]).to_owned(),
            _ => format!(" LIMIT {} OFFSET {}", self.pick(6), self.pick(4)),
        }
    }

    fn select(&mut self) -> (String, String) {
        let (mut from, columns, ties) = self.from();
        if self.often() {
            from += &format!(" WHERE {}", self.condition(&columns, 2, true));
            if self.seldom() {
                let (a, b) = (self.one(&columns).sql, self.one(&columns).sql);
                from += &format!(" AND ({a}, {b}) IN (SELECT code, n FROM part)");
            }
        }
        let (body, order, ties) = match self.pick(8) {
            0..=2 => {
                let outputs: Vec<String> = (0..self.pick(3) + 1)
                    .map(|number| match self.pick(5) {
                        4 => format!("{} AS c{number}", self.scalar(&columns)),
                        _ => format!("{} AS c{number}", self.value(&columns, 2)),
                    })
                    .collect();
                let order: Vec<String> = (0..self.pick(3))
                    .map(|_| format!("{}{}", self.one(&columns).sql, self.order_end()))
                    .collect();
                (format!("SELECT {}{from}", outputs.join(", ")), order, ties)
            }
            3 => {
                let outputs: Vec<String> =
                    (0..self.pick(2) + 1).map(|_| self.one(&columns).sql).collect();
                let order = match self.often() {
                    true => vec![format!("1{}", self.order_end())],
                    false => Vec::new(),
                };
                if self.seldom() {
                    let (of, collation) = (&outputs[0], self.one(&COLLATIONS));
                    let keys = [&[format!("{of} COLLATE {collation}")], &outputs[1..]].concat();
                    let by = keys.join(", ");
                    let behind = outputs[1..].iter().map(|of| format!(", {of}"));
                    let behind = behind.collect::<String>();
                    // Which of the equal values shows is told to the judge.
                    let body = format!(
                        "SELECT ⟦DISTINCT⟧ /*min(*/{of}/*)*/ ⟦COLLATE {collation}⟧{behind}{from} /*GROUP BY {by}*/"
                    );
                    (body, Vec::new(), keys)
                } else {
                    (format!("SELECT DISTINCT {}{from}", outputs.join(", ")), order, outputs)
                }
            }
            4 | 5 => {
                let mut outputs = vec![format!("{} AS c", self.value(&columns, 1))];
                outputs.extend((0..self.pick(2) + 1).map(|number| {
                    let call = self.windowed(&columns);
                    match self.pick(5) {
                        0 => format!("coalesce({call}, 0) + 1 AS c{number}"),
                        1 => format!("{} = {call} AS c{number}", self.one(&columns).sql),
                        2 => format!("{call} < {} AS c{number}", self.one(&columns).sql),
                        _ => format!("{call} AS c{number}"),
                    }
                }));
                let order: Vec<String> = (0..self.pick(3))
                    .map(|number| match number {
                        0 => format!("c0{}", self.order_end()),
                        _ => format!("{}{}", self.one(&columns).sql, self.order_end()),
                    })
                    .collect();
                let body = format!("SELECT {}{from}", outputs.join(", "));
                let excerpt = self.excerpt();
                return finish(&body, order, ties.clone(), &excerpt, &ties);
            }
            _ => {
                let mut keys: Vec<String> =
                    (0..self.pick(3)).map(|_| self.one(&columns).sql).collect();
                let mut seen = Vec::new();
                keys.retain(|key| {
                    let new = !seen.contains(key);
                    seen.push(key.clone());
                    new
                });
                let mut outputs = keys.clone();
                let has_end = |outputs: &[String]| {
                    outputs.iter().any(|of| of.contains("min(") || of.contains("max("))
                };
                outputs.extend((0..self.pick(3) + 1).map(|_| self.aggregate(&columns)));
                let plain = if keys.is_empty() { "2".to_owned() } else { self.one(&keys) };
                if self.seldom() {
                    outputs.push(self.beside_groups(&plain).0);
                }
                let is_collated = self.seldom() && keys.iter().any(|key| *key != plain);
                if is_collated && let Some(key) = keys.iter().position(|key| *key != plain) {
                    let collation = self.one(&COLLATIONS);
                    // Which of the equal values shows is told to the judge.
                    outputs[key] = format!("/*min(*/{}/*)*/", keys[key]);
                    keys[key] += &format!(" COLLATE {collation}");
                    outputs.retain(|of| of.contains("/*") || !has_end(std::slice::from_ref(of)));
                }
                // The row of the only end, which no other one shares.
                let row = match ties.as_slice() {
                    // What identifies an element is told to the judge only.
                    [tie] if !from.contains("json_each") => {
                        let is_alone = self.seldom() && !has_end(&outputs);
                        tie.split_once(':').filter(|_| is_alone)
                    }
                    _ => None,
                };
                if let Some((_, tie)) = row {
                    let end = self.one(&["max", "min"]);
                    outputs.push(format!("{end}({})", tie.trim_end_matches('⟩')));
                    outputs.push(self.one(&columns).sql);
                }
                let further = |choices: &mut Self| match choices.aggregate(&columns) {
                    of if (row.is_some() || is_collated) && has_end(std::slice::from_ref(&of)) => {
                        "count(*)".to_owned()
                    }
                    of => of,
                };
                if self.seldom() {
                    let of: Vec<Column> = outputs
                        .iter()
                        .filter(|output| !output.contains("/*"))
                        .map(|output| Column { sql: output.clone(), holds: Holds::Number })
                        .collect();
                    let window = (!of.is_empty()).then(|| self.windowed(&of));
                    // Groups stand in the order of their keys.
                    let (by, open) = (keys.join(", "), format!(" ORDER BY {}", keys.join(", ")));
                    let (behind, open) = match keys.is_empty() {
                        true => (String::new(), String::new()),
                        false => (format!("/*, {by}*/"), format!("/*{open}*/")),
                    };
                    let told = |window: String| {
                        window.replace("/*, TIES*/", &behind).replace("/*TIES*/", &open)
                    };
                    outputs.extend(window.map(told));
                }
                let mut body = format!("SELECT {}{from}", outputs.join(", "));
                if !keys.is_empty() {
                    body += &format!(" GROUP BY {}", keys.join(", "));
                }
                match self.pick(10) {
                    7 | 8 => body += &format!(" HAVING {} > 1", further(self)),
                    9 => body += &format!(" HAVING {}", self.beside_groups(&plain).1),
                    _ => {}
                }
                let order = match self.seldom() {
                    true => vec![format!("{}{}", further(self), self.order_end())],
                    false => Vec::new(),
                };
                let excerpt = self.excerpt();
                return finish(&body, order, keys, &excerpt, &ties);
            }
        };
        let excerpt = self.excerpt();
        finish(&body, order, ties, &excerpt, &[])
    }

    fn union(&mut self) -> (String, String) {
        let item = self.columns_of(&self.world.columns(ITEM), "s0");
        let part = self.columns_of(&self.world.columns(PART), "s0");
        let (a, b) = (self.condition(&item, 1, true), self.condition(&part, 1, true));
        if self.often() {
            let mut body = format!("SELECT part AS k, n AS v FROM item AS s0 WHERE {a}");
            let mut operators = vec!["UNION", "EXCEPT", "INTERSECT", "UNION ALL"];
            for more in 0..=self.pick(3) {
                let operator = self.one(&operators);
                // At the end equal rows are one, and so each has a place of its own.
                operators.truncate(if operator == "UNION ALL" { 1 } else { 4 });
                let next = match more % 2 {
                    0 => format!("SELECT code, n FROM part AS s0 WHERE {b}"),
                    _ => "SELECT part, n FROM item".to_owned(),
                };
                body += &format!(" {operator} {next}");
            }
            if operators.len() == 1 {
                body += " INTERSECT SELECT part, n FROM item";
            }
            let order = match self.often() {
                true => vec![format!("v{}", self.order_end())],
                false => Vec::new(),
            };
            let excerpt = self.excerpt();
            return finish(&body, order, vec!["k".to_owned(), "v".to_owned()], &excerpt, &[]);
        }
        let body = format!(
            "SELECT 0 AS br, id AS i, n AS v FROM item AS s0 WHERE {a} UNION ALL SELECT 1, code, n FROM part AS s0 WHERE {b}"
        );
        let order = match self.pick(3) {
            0 => Vec::new(),
            1 => vec!["v DESC".to_owned()],
            _ => vec!["3".to_owned(), "2 DESC".to_owned()],
        };
        let excerpt = self.excerpt();
        finish(&body, order, vec!["br".to_owned(), "i".to_owned()], &excerpt, &[])
    }

    /// Writes of one commit.
    pub(super) fn write(&mut self, cache: &Cache) -> Report {
        let world = self.world;
        let report = cache.commit("random writes", |tx| {
            for _ in 0..self.one(&[1, 1, 1, 2, 3, 5, 9]) {
                let (number, other) = (self.pick(10), self.pick(4));
                let (table, number) = match self.pick(14) {
                    0..=5 => (ITEM, number),
                    6 => {
                        tx.delete("item", world.key(ITEM, number).1)?;
                        continue;
                    }
                    7 | 8 => (PART, other),
                    9 => {
                        tx.delete("part", world.key(PART, other).1)?;
                        continue;
                    }
                    10 => {
                        let (key, id) = world.key(ITEM, number);
                        tx.merge("item", key.into_iter().collect::<Named>())?;
                        let tags = (0..self.pick(4)).map(|_| world.key(PART, self.pick(3)).1);
                        let tags: Vec<_> = tags.collect();
                        tx.set_links("item", id, "tags", tags)?;
                        continue;
                    }
                    11 => (ONE, 0),
                    _ => (ITEM + self.pick(world.tables.len()), number),
                };
                let of = &world.tables[table];
                let key = if of.id.is_empty() { Vec::new() } else { world.key(table, number).0 };
                let fields = of.fields.iter().filter(|field| !of.id.contains(&field.name));
                let fields: Vec<_> = fields.collect();
                let count = if of.id.is_empty() { self.pick(2) + 1 } else { self.pick(4) };
                let others = (0..count).map(|_| {
                    let field = self.one(&fields);
                    let value = match self.pick(8) {
                        7 => Value::Null,
                        _ => world.value(field.kind, self.pick(20)),
                    };
                    (field.name, value)
                });
                let others: Vec<_> = others.collect();
                match key.is_empty() {
                    true => tx.set(of.name, others.into_iter().collect::<Named>())?,
                    false if table > ONE && self.seldom() => {
                        tx.delete(of.name, world.key(table, number).1)?;
                    }
                    false => {
                        tx.merge(of.name, key.into_iter().chain(others).collect::<Named>())?;
                    }
                }
            }
            Ok(())
        });
        report.unwrap().report
    }
}

/// The statement, and the judge's, which orders by `ties` in the end, and lists by `within`.
fn finish(
    body: &str,
    order: Vec<String>,
    ties: Vec<String>,
    excerpt: &str,
    within: &[String],
) -> (String, String) {
    let by = |keys: &[String]| {
        if keys.is_empty() { String::new() } else { format!(" ORDER BY {}", keys.join(", ")) }
    };
    let sql = without(&format!("{body}{}{excerpt}", by(&order)), "/*", "*/");
    let sql = sql.replace(['⟦', '⟧'], "");
    let within = if within.is_empty() { "1".to_owned() } else { within.join(", ") };
    let judge = format!("{body}{}{excerpt}", by(&[order, ties].concat()))
        .replace("/*TIES*/", &format!(" ORDER BY {within}"))
        .replace("/*, TIES*/", &format!(", {within}"))
        .replace("/*", "")
        .replace("*/", "");
    let judge = without(&judge, "⟦", "⟧");
    let with = format!("WITH counts AS ({COUNTS}), above AS ({ABOVE}), top AS ({TOP_JUDGED}) ");
    // A named query of the schema is the same as one that WITH names.
    let sql = if body.len().is_multiple_of(3) { with.clone() + &sql } else { sql };
    (sql, with + &judge)
}

/// A text without what stands between these marks.
fn without(sql: &str, open: &str, close: &str) -> String {
    let mut out = String::new();
    let mut rest = sql;
    while let Some((before, after)) = rest.split_once(open) {
        out += before;
        rest = after.split_once(close).map_or("", |(_, after)| after);
    }
    out + rest
}
