//! Every standing query, after every commit, gives what the bundled SQLite gives for the statement
//! on the image, in the same order; the old result with the delta is the new one; and what a
//! commit does not touch stays the same object.
//!
//! `BACKWATER_CASES` sets how many cases are tried.

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::rc::Rc;
use std::sync::Arc;

use proptest::prelude::*;
use rusqlite::types::Value as Sql;
use serde_json::json;

use super::choices::{Choices, Statement};
use super::world::World;
use super::{Meanwhile, cases, meanwhile, tuned};
use crate::query::{Node, Source};
use crate::schema::Tuning;
use crate::storage::image;
use crate::{
    Cache, Delta, DeltaKind, Json, Named, Outcome, Query, QueryResult, Report, Schema, Snapshot,
    Value, Watch,
};

const SCHEMA: &str = r#"
    [table.item]
    id = "id"
    [table.item.fields]
    id = "int"
    n = "int"
    r = "float"
    b = "bool"
    t = "text"
    w = "timestamp"
    j = "json"
    part = { to = "part" }
    note = { type = "text", persist = false }

    [table.part]
    id = "code"
    fields = { code = "text", n = "int", item = { to = "item" } }

    [table.one]
    one_row = true
    fields = { n = "int", t = "text" }
"#;

/// One write of a commit.
#[derive(Debug, Clone)]
enum Write {
    Merge(i64, Vec<(&'static str, Value)>),
    Delete(i64),
    Part(&'static str, Vec<(&'static str, Value)>),
    DeletePart(&'static str),
    One(Vec<(&'static str, Value)>),
}

fn texts() -> impl Strategy<Value = &'static str> {
    prop::sample::select(vec!["", "a", "A", "ab", "b", "7", "7.5", " 8 ", "-1e1", "1.", "x%", "ü"])
}

fn times() -> impl Strategy<Value = Value> {
    (0..5_i64).prop_map(|hours| {
        crate::Timestamp::from_micros(1_900_000_000_000_000 + hours * 3_600_000_000).unwrap().into()
    })
}

fn field() -> impl Strategy<Value = (&'static str, Value)> {
    let n = prop_oneof![8 => -3..8_i64, 1 => Just(i64::MAX), 1 => Just(i64::MIN)];
    prop_oneof![
        3 => n.prop_map(|n| ("n", n.into())),
        // Quarters add up without rounding, so that the judge's order of adding does not matter.
        3 => (-8..20_i32).prop_map(|quarters| ("r", (f64::from(quarters) / 4.0).into())),
        2 => any::<bool>().prop_map(|b| ("b", b.into())),
        3 => texts().prop_map(|t| ("t", t.into())),
        2 => times().prop_map(|w| ("w", w)),
        1 => (0..3_i32).prop_map(|n| ("j", Json::parse(&format!("{{\"k\": {n}}}")).unwrap().into())),
        2 => codes().prop_map(|code| ("part", code.into())),
        1 => texts().prop_map(|t| ("note", t.into())),
        2 => prop::sample::select(vec!["n", "r", "b", "t", "w", "j", "part"]).prop_map(|name| (name, Value::Null)),
    ]
}

fn codes() -> impl Strategy<Value = &'static str> {
    prop::sample::select(vec!["P", "Q", "R"])
}

fn write() -> impl Strategy<Value = Write> {
    prop_oneof![
        8 => (0..12_i64, prop::collection::vec(field(), 0..4)).prop_map(|(id, fields)| Write::Merge(id, fields)),
        3 => (0..12_i64).prop_map(Write::Delete),
        2 => (codes(), -2..3_i64).prop_map(|(code, n)| Write::Part(code, vec![("n", n.into())])),
        1 => codes().prop_map(Write::DeletePart),
        1 => texts().prop_map(|t| Write::One(vec![("t", t.into())])),
    ]
}

/// A row that changes a little, mostly nothing that decides where it stands.
fn one_field() -> impl Strategy<Value = Write> {
    let field = prop_oneof![3 => any::<bool>().prop_map(|b| ("b", b.into())), 2 => field()];
    prop_oneof![6 => (0..12_i64, field).prop_map(|(id, field)| Write::Merge(id, vec![field])), 1 => write()]
}

/// An expression over the columns of `item`, often without parentheses.
fn expression() -> BoxedStrategy<String> {
    let leaf = prop_oneof![
        6 => prop::sample::select(vec!["id", "n", "r", "b", "t", "w", "j", "part", "note"]).prop_map(str::to_owned),
        3 => prop::sample::select(vec!["0", "1", "2", "7", "1.5", "'a'", "'7'", "'7.5'", "''", "NULL", "TRUE", "1e2"])
            .prop_map(str::to_owned),
        2 => prop::sample::select(vec![":p", ":q"]).prop_map(str::to_owned),
    ];
    leaf.prop_recursive(3, 16, 3, |inner| {
        let operators = vec![
            "+",
            "-",
            "*",
            "/",
            "%",
            "||",
            "=",
            "==",
            "<>",
            "!=",
            "<",
            "<=",
            ">",
            ">=",
            "AND",
            "OR",
            "IS",
            "IS NOT",
            "LIKE",
            "NOT LIKE",
            "IS DISTINCT FROM",
            "IS NOT DISTINCT FROM",
        ];
        let binary = (inner.clone(), prop::sample::select(operators), inner.clone());
        let three = (inner.clone(), inner.clone(), inner.clone());
        prop_oneof![
            8 => (binary, 0..4_u8).prop_map(|((a, op, b), brackets)| match brackets {
                0 => format!("({a} {op} {b})"),
                1 => format!("({a}) {op} ({b})"),
                _ => format!("{a} {op} {b}"),
            }),
            1 => inner.clone().prop_map(|a| format!("NOT {a}")),
            1 => inner.clone().prop_map(|a| format!("- {a}")),
            1 => inner.clone().prop_map(|a| format!("+ {a}")),
            1 => inner.clone().prop_map(|a| format!("{a} IS NULL")),
            1 => inner.clone().prop_map(|a| format!("{a} NOTNULL")),
            1 => inner.clone().prop_map(|a| format!("{a} IS TRUE")),
            1 => three.clone().prop_map(|(a, b, c)| format!("{a} BETWEEN ({b}) AND ({c})")),
            1 => three.clone().prop_map(|(a, b, c)| format!("{a} NOT IN ({b}, {c}, 1, 'a')")),
            1 => three.clone().prop_map(|(a, b, c)| format!("CASE WHEN {a} THEN {b} ELSE {c} END")),
            1 => three.clone().prop_map(|(a, b, c)| format!("CASE {a} WHEN {b} THEN {c} END")),
            1 => three.prop_map(|(a, b, c)| format!("coalesce({a}, iif({b}, {c}, 2))")),
            1 => (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("nullif({a}, {b})")),
            1 => inner.prop_map(|a| format!("length(upper({a}))")),
        ]
    })
    .boxed()
}

fn condition() -> impl Strategy<Value = String> {
    prop_oneof![
        3 => prop::sample::select(vec![
            "t = :p", "n = :p AND t = :q", "part = :p", "b = :p AND n > :q", ":q = w", "id = :p", "r = :p", "w > :p",
            "n > 2", "t IN ('a', 'b', :p)",
        ])
        .prop_map(str::to_owned),
        3 => expression(),
    ]
}

fn aggregate() -> impl Strategy<Value = String> {
    let functions = vec!["count", "sum", "total", "avg", "min", "max"];
    prop_oneof![
        1 => Just("count(*)".to_owned()),
        5 => (prop::sample::select(functions), prop::sample::select(vec!["n", "r", "b", "t", "w", "part", "n + r"]))
            .prop_map(|(function, argument)| format!("{function}({argument})")),
    ]
}

fn order_ends() -> impl Strategy<Value = &'static str> {
    prop::sample::select(vec!["", " DESC", " NULLS LAST", " DESC NULLS FIRST"])
}

fn param() -> impl Strategy<Value = Value> {
    prop_oneof![
        3 => (-1..8_i64).prop_map(Value::from),
        2 => texts().prop_map(Value::from),
        1 => codes().prop_map(Value::from),
        1 => (0..9_i32).prop_map(|quarters| (f64::from(quarters) / 4.0).into()),
        1 => any::<bool>().prop_map(Value::from),
        1 => times(),
        1 => Just(Value::Null),
    ]
}

fn statement() -> impl Strategy<Value = Statement> {
    let excerpt = prop_oneof![
        3 => Just(String::new()),
        3 => (0..6_u8).prop_map(|limit| format!(" LIMIT {limit}")),
        2 => (0..6_u8, 0..6_u8).prop_map(|(limit, offset)| format!(" LIMIT {limit} OFFSET {offset}")),
    ];
    let tail = (prop::option::of(condition()), excerpt, (param(), param()), any::<bool>()).boxed();
    let plain = (
        prop::collection::vec(expression(), 1..4),
        prop::collection::vec((expression(), order_ends()), 0..3),
    );
    let grouped = (
        prop::collection::vec(
            prop::sample::select(vec!["n", "b", "t", "part", "w", "r", "n % 2", "t || 'x'"]),
            0..3,
        ),
        prop::collection::vec(aggregate(), 1..4),
        prop::option::of((aggregate(), prop::sample::select(vec!["> 1", "IS NOT NULL", "< 'b'"]))),
        prop::option::of((aggregate(), order_ends())),
    );
    prop_oneof![
        (plain, tail.clone()).prop_map(
            |((columns, order), (condition, excerpt, params, watched))| {
                let columns =
                    columns.iter().enumerate().map(|(n, column)| format!("{column} AS c{n}"));
                let order = order
                    .into_iter()
                    .map(|(key, end)| format!("coalesce({key}, NULL){end}"))
                    .collect();
                finish(columns.collect(), condition, &[], None, order, &excerpt, params, watched)
            }
        ),
        (grouped, tail).prop_map(
            |((mut keys, aggregates, having, order), (condition, excerpt, params, watched))| {
                keys.dedup();
                let columns = keys.iter().map(|key| (*key).to_owned()).chain(aggregates).collect();
                let having = having.map(|(aggregate, test)| format!("{aggregate} {test}"));
                let order = order.into_iter().map(|(key, end)| format!("{key}{end}")).collect();
                finish(columns, condition, &keys, having, order, &excerpt, params, watched)
            }
        ),
    ]
}

/// A statement in the order of a column that has bounds, of rows of one table or of two.
fn bounded() -> impl Strategy<Value = Statement> {
    let bounds = prop::sample::select(vec![
        "? > :p",
        "? >= :p",
        "? < :p",
        ":p >= ?",
        "? > :p AND ? < :q",
        "? > :p AND ? <= :q",
        "? >= :p AND ? <= :q AND n > 0",
    ]);
    let column = prop::sample::select(vec!["n", "r", "t", "w", "id"]);
    let excerpt = prop::sample::select(vec!["", " LIMIT 3", " LIMIT 2 OFFSET 1", " LIMIT :q"]);
    let joined = prop::sample::select(vec!["", "", " JOIN part ON part.code = item.part"]);
    let given = (param(), 0..5_i64, any::<bool>());
    (bounds, column, order_ends(), (excerpt, joined), given).prop_map(
        |(bounds, column, ends, (excerpt, joined), (p, q, watched))| {
            let column = format!("item.{column}");
            let bounds = bounds.replace('?', &column).replace(" n ", " item.n ");
            let body = format!("SELECT item.id, item.b, {column} FROM item{joined} WHERE {bounds}");
            let sql = format!("{body} ORDER BY {column}{ends}{excerpt}");
            let judge = format!("{body} ORDER BY {column}{ends}, item.id{excerpt}");
            let params = [("p", p), ("q", q.into())].into_iter();
            let params = params.filter(|(name, _)| sql.contains(&format!(":{name}"))).collect();
            Statement { sql, judge, params, plain: joined.is_empty(), watched }
        },
    )
}

#[expect(clippy::too_many_arguments, reason = "a statement has so many parts")]
fn finish(
    columns: Vec<String>,
    condition: Option<String>,
    keys: &[&str],
    having: Option<String>,
    order: Vec<String>,
    excerpt: &str,
    (p, q): (Value, Value),
    watched: bool,
) -> Statement {
    let plain =
        order.len() < 3 && keys.is_empty() && columns.iter().all(|column| column.contains(" AS c"));
    let mut body = format!("SELECT {} FROM item", columns.join(", "));
    if let Some(condition) = condition {
        body += &format!(" WHERE {condition}");
    }
    if !keys.is_empty() {
        body += &format!(" GROUP BY {}", keys.join(", "));
    }
    if let Some(having) = having {
        body += &format!(" HAVING {having}");
    }
    let ties = if plain {
        vec!["id".to_owned()]
    } else {
        keys.iter().map(|key| (*key).to_owned()).collect()
    };
    let by = |keys: Vec<String>| {
        if keys.is_empty() { String::new() } else { format!(" ORDER BY {}", keys.join(", ")) }
    };
    let sql = format!("{body}{}{excerpt}", by(order.clone()));
    let judge = format!("{body}{}{excerpt}", by(order.into_iter().chain(ties).collect()));
    let mut params = Vec::new();
    if sql.contains(":p") {
        params.push(("p", p));
    }
    if sql.contains(":q") {
        params.push(("q", q));
    }
    Statement { sql, judge, params, plain, watched }
}

fn apply(cache: &Cache, writes: &[Write]) -> Report {
    let report = cache.commit("random writes", |tx| {
        for write in writes {
            match write {
                Write::Merge(id, fields) => {
                    let fields = fields.iter().cloned().chain([("id", (*id).into())]);
                    tx.merge("item", fields.collect::<Named>())?;
                }
                Write::Delete(id) => {
                    tx.delete("item", *id)?;
                }
                Write::Part(code, fields) => {
                    let fields = fields.iter().cloned().chain([("code", (*code).into())]);
                    tx.merge("part", fields.collect::<Named>())?;
                }
                Write::DeletePart(code) => {
                    tx.delete("part", *code)?;
                }
                Write::One(fields) => tx.set("one", fields.iter().cloned().collect::<Named>())?,
            }
        }
        Ok(())
    });
    report.unwrap().report
}

/// A value in the storage form.
pub(super) fn sql(value: &Value) -> Sql {
    match value {
        Value::Null => Sql::Null,
        Value::Bool(flag) => Sql::Integer((*flag).into()),
        Value::Int(number) => Sql::Integer(*number),
        Value::Float(number) => Sql::Real(*number),
        Value::Text(text) => Sql::Text(text.to_string()),
        Value::Timestamp(time) => Sql::Text(time.to_string()),
        Value::Json(json) => Sql::Text(json.as_str().to_owned()),
    }
}

/// SQLite's answer on the image, or `None` where it fails while it runs: a sum beyond 64 bits.
fn judged(image: &rusqlite::Connection, statement: &Statement) -> Option<Vec<Vec<Sql>>> {
    let prepared = image.prepare(&statement.judge);
    let mut prepared = prepared.unwrap_or_else(|error| panic!("{error} in {}", statement.judge));
    for (name, value) in &statement.params {
        let Some(index) = prepared.parameter_index(&format!(":{name}")).unwrap() else { continue };
        prepared.raw_bind_parameter(index, sql(value)).unwrap();
    }
    let width = prepared.column_count();
    let compares_json = statement.sql.contains(".j = ");
    let mut rows = prepared.raw_query();
    let mut out = Vec::new();
    loop {
        match rows.next() {
            Ok(Some(row)) => out.push((0..width).map(|n| row.get_unwrap::<_, Sql>(n)).collect()),
            Ok(None) => return Some(out),
            Err(error) if error.to_string().contains("integer overflow") => return None,
            // SQLite reads what a column is compared with as JSON where no row has it.
            Err(error) if error.to_string() == "malformed JSON" && compares_json => return None,
            Err(error) => panic!("{error} in {}", statement.judge),
        }
    }
}

fn values(result: &QueryResult) -> Vec<Vec<Value>> {
    result.rows().map(|row| row.values().to_vec()).collect()
}

/// The judge's statement, whose `⟨number:column⟩` identify rows of a source: those that are
/// determined by others say nothing.
fn judge(query: &Query, text: &str) -> String {
    let node = query.node();
    let mut plan = &*node.bound_plan.plan;
    // Window functions and subqueries beside a grouping stand in a statement around it.
    if let [Source { relation, name, .. }, ..] = &*plan.sources
        && name == "the groups"
    {
        plan = relation.plan().unwrap();
    }
    let mut parts = text.split('⟨');
    let mut out = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        let (tie, rest) = part.split_once('⟩').unwrap();
        let (source, column) = tie.split_once(':').unwrap();
        let source = plan.sources.get(source.parse::<usize>().unwrap());
        let source = source.unwrap_or_else(|| panic!("no source {tie} of {text}"));
        let is_determined = source.is_determined;
        out += if is_determined { "NULL" } else { column };
        out += rest;
    }
    out
}

/// A standing query with all that is known of it.
pub(super) struct Watched {
    /// What it is called in the case.
    name: String,
    query: Query,
    pub(super) watch: Option<Watch>,
    pub(super) statement: Statement,
    shown: Option<(QueryResult, Vec<Vec<Value>>)>,
    meanwhile: Rc<Happened>,
}

/// What became of what was done in the middle of a commit.
#[derive(Default)]
struct Happened {
    begun: RefCell<Vec<Arc<Node>>>,
    read: RefCell<Vec<Result<(), TestCaseError>>>,
}

impl Watched {
    pub(super) fn new(cache: &Cache, statement: Statement) -> Self {
        Self::try_new(cache, statement).unwrap()
    }

    /// `None` if the statement is of a kind that is refused with reason.
    fn try_new(cache: &Cache, statement: Statement) -> Option<Self> {
        let query =
            cache.query(&statement.sql, statement.params.iter().cloned().collect::<Named>());
        let is_known = |text: &str| {
            let known = [
                "COLLATE inside",
                "only an equality may",
                "this ON has a subquery",
                "this subquery stands beside a grouping, and another one inside of it",
                "a subquery in ON of a full join",
                "json_each() reads more than one table around it, or what is none",
            ];
            known.iter().any(|of| text.contains(of))
        };
        if query.as_ref().is_err_and(|error| is_known(&error.to_string())) {
            return None;
        }
        let query = query.unwrap_or_else(|error| panic!("{error} in {}", statement.sql));
        let statement = Statement { judge: judge(&query, &statement.judge), ..statement };
        let name = cases::defined(&statement);
        let watch = statement.watched.then(|| query.keep_current());
        let mut watched =
            Self { name, query, watch, statement, shown: None, meanwhile: Rc::default() };
        watched.show();
        Some(watched)
    }

    /// A commit that is not read. Another handle to the same may be watched.
    pub(super) fn look_away(&mut self) {
        self.shown = None;
    }

    /// Begins to be kept up to date, or is only read from here on.
    pub(super) fn turn(&mut self) {
        cases::note(json!({ "turn": self.name }));
        self.watch = match self.watch.take() {
            Some(_) => None,
            None => Some(self.query.keep_current()),
        };
        self.statement.watched = self.watch.is_some();
        self.show();
    }

    /// The statement of one that is dropped.
    pub(super) fn end(self) -> Statement {
        cases::note(json!({ "drop": self.name }));
        self.statement
    }

    fn show(&mut self) {
        self.shown = self.query.read().ok().map(|result| (result.clone(), values(&result)));
    }

    pub(super) fn check_result(&self, image: &rusqlite::Connection) -> Result<(), TestCaseError> {
        cases::note(json!({ "read": self.name }));
        let result = self.query.read();
        if let Ok(result) = &result {
            self.check_names(image, result)?;
        }
        equals(&self.statement, result, image)
    }

    /// In the middle of the next commit it is read, or begins to be kept up to date.
    pub(super) fn meanwhile(&self, cache: &Cache, place: usize, begins: bool) {
        cases::note(json!({ "meanwhile": self.name, "place": place, "begins": begins }));
        let (cache, query, statement) = (cache.clone(), self.query.clone(), self.statement.clone());
        let (happened, now) = (self.meanwhile.clone(), query.node());
        meanwhile(Meanwhile::Commit(place), move || {
            if begins {
                // The first half of that; the other one waits for the commit.
                let node = query.node();
                node.watch();
                return happened.begun.borrow_mut().push(node);
            }
            let Snapshot { state, commit } = cache.snapshot();
            // It may wait for the commit, or ask for something else by then.
            let result = query.read_at(&state, commit);
            let Some(result) = result.filter(|_| Arc::ptr_eq(&now, &query.node())) else { return };
            happened.read.borrow_mut().push(equals(&statement, result, &image_of(&cache)));
        });
    }

    /// The commit in whose middle something was done is made.
    pub(super) fn come_to_an_end(&mut self) -> Result<(), TestCaseError> {
        for node in self.meanwhile.begun.take() {
            let kept = self.query.keep_current();
            node.unwatch();
            self.watch.get_or_insert(kept);
            self.statement.watched = true;
            self.show();
        }
        self.meanwhile.read.take().into_iter().collect()
    }

    /// Columns are called as SQLite calls them, where both statements say the same of them.
    fn check_names(
        &self,
        image: &rusqlite::Connection,
        result: &QueryResult,
    ) -> Result<(), TestCaseError> {
        let Statement { sql, judge, .. } = &self.statement;
        let prepared = image.prepare(judge).unwrap();
        let ours: Vec<&str> = result.columns().collect();
        let theirs: Vec<&str> = prepared.column_names().collect();
        prop_assert_eq!(ours.len(), theirs.len());
        let is_same = sql == judge
            || ours.iter().zip(&theirs).all(|(a, b)| judge.contains(*a) && sql.contains(*b));
        if is_same {
            prop_assert_eq!(ours, theirs, "{}", sql);
        }
        Ok(())
    }

    /// Each row of a result has a key of its own, and none leaves and enters at once.
    fn check_keys(&self, delta: &Delta) -> Result<(), TestCaseError> {
        let text = |key: crate::result::RowKey| format!("{key:?}");
        let mut keys = BTreeSet::new();
        for row in delta.after().rows() {
            prop_assert!(keys.insert(text(row.key())), "{:?} twice in {:?}", row, self.statement);
        }
        for row in delta.rows().filter(|row| row.kind() == DeltaKind::Leave) {
            prop_assert!(!keys.contains(&text(row.key())), "{:?} of {:?}", delta, self.statement);
        }
        Ok(())
    }

    /// What a result says is missing is not there, each cell once; and its plan can be printed.
    fn check_missing(&self, cache: &Cache) -> Result<(), TestCaseError> {
        let Ok(missing) = self.query.missing(usize::MAX) else { return Ok(()) };
        let snapshot = cache.snapshot();
        prop_assert_eq!(missing.count, missing.cells.len());
        let mut cells = BTreeSet::new();
        for cell in &missing.cells {
            prop_assert!(cells.insert(cell.to_string()), "{} twice", cell);
            let Some(id) = &cell.id else { continue };
            let row = snapshot.get(&cell.table, id.clone()).unwrap();
            prop_assert_eq!(row.is_some(), cell.is_loaded);
            let value = row.and_then(|row| row.get(&cell.field).unwrap());
            prop_assert_eq!(value, None, "{} in {:?}", cell, self.statement);
        }
        let reported = cache.schema().explain(&self.statement.sql).unwrap();
        prop_assert!(!reported.to_string().contains('?'), "{}", reported);
        Ok(())
    }

    /// Rebinds the query, with the delta from the old result to the new one.
    pub(super) fn rebind(
        &mut self,
        cache: &Cache,
        params: Vec<(&'static str, Value)>,
        image: &rusqlite::Connection,
    ) -> Result<(), TestCaseError> {
        self.show();
        for (name, value) in &params {
            if let Some(param) = self.statement.params.iter_mut().find(|(other, _)| other == name) {
                param.1 = value.clone();
            }
        }
        cases::note(json!({ "rebind": self.name, "params": cases::params_of(&params) }));
        let values = params.into_iter().collect::<Named>();
        let before = cache.snapshot().commit();
        let report = cache.rebind("other values", &self.query, values).unwrap();
        if report.number() > before + 1 {
            // Another commit was made meanwhile.
            self.show();
            return self.check_result(&image_of(cache));
        }
        self.check_delta(&report)?;
        self.check_result(image)
    }

    pub(super) fn check_delta(&mut self, report: &Report) -> Result<(), TestCaseError> {
        let Some((before, mut shown)) = self.shown.take() else {
            self.show();
            return Ok(());
        };
        prop_assert_eq!(
            values(&before),
            shown.clone(),
            "a result never changes: {:?}",
            self.statement
        );
        let outcome = report.outcome(&self.query);
        match (outcome, report.delta(&self.query)) {
            (Outcome::Untouched, None) if self.watch.is_none() => {}
            (Outcome::Same, None) if report.label() == "other values" => {
                prop_assert_eq!(values(&self.query.read().unwrap()), values(&before));
            }
            (Outcome::Untouched | Outcome::Same, None) => {
                let now = self.query.read().unwrap();
                prop_assert!(
                    now.is_same(&before),
                    "{} of {:?}",
                    report.why(&self.query),
                    self.statement
                );
            }
            (Outcome::Maintained | Outcome::Recomputed, Some(delta)) => {
                prop_assert!(delta.rows().count() > 0);
                let apply = std::panic::AssertUnwindSafe(|| delta.apply(&mut shown));
                let applied = std::panic::catch_unwind(apply).is_ok_and(|applied| applied.is_ok());
                prop_assert!(applied, "{:?} does not fit: {:?}", delta, self.statement);
                prop_assert_eq!(
                    shown,
                    values(&self.query.read().unwrap()),
                    "{:?} of {:?}",
                    delta,
                    self.statement
                );
                if report.label() == "other values" {
                    self.show();
                    return Ok(());
                }
                self.check_keys(delta)?;
                let changed: BTreeSet<_> =
                    report.changes().filter_map(|change| change.id()).collect();
                for row in
                    delta.rows().filter(|row| self.statement.plain && row.kind() == DeltaKind::Move)
                {
                    let id = row.key()[0].as_int().unwrap();
                    prop_assert!(
                        changed.contains(&id.into()),
                        "pushed along, not moved: {:?}",
                        delta
                    );
                }
            }
            (Outcome::Deferred, None) => prop_assert!(self.watch.is_none()),
            (Outcome::Failed, None) => prop_assert!(self.query.read().is_err()),
            (outcome, delta) => prop_assert!(false, "{outcome:?} with {delta:?}"),
        }
        prop_assert!(report.why(&self.query).starts_with(outcome.name()));
        self.show();
        Ok(())
    }
}

/// What the judge knows of the tables as they are.
pub(super) fn image_of(cache: &Cache) -> rusqlite::Connection {
    let image = image(&cache.snapshot().state);
    register(&image);
    image
}

/// A result is what SQLite has on an image.
fn equals(
    statement: &Statement,
    result: crate::error::Result<QueryResult>,
    image: &rusqlite::Connection,
) -> Result<(), TestCaseError> {
    let Some(judged) = judged(image, statement) else { return Ok(()) };
    let result = match result {
        Ok(result) => result,
        // SQLite may stop at a LIMIT before it meets the group whose sum overflows.
        Err(_) if statement.sql.contains("LIMIT") => return Ok(()),
        Err(error) => return Err(TestCaseError::fail(error.to_string())),
    };
    let found: Vec<Vec<Sql>> =
        values(&result).iter().map(|row| row.iter().map(sql).collect()).collect();
    prop_assert_eq!(found, judged, "{:?}", statement);
    Ok(())
}

pub(super) fn case_count() -> u32 {
    std::env::var("BACKWATER_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(300)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: case_count(), max_shrink_iters: 20_000, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn every_standing_query_equals_sqlite_after_every_commit(
        first in prop::collection::vec(write(), 0..30),
        early in prop::collection::vec(statement(), 1..6),
        late in prop::collection::vec(statement(), 0..3),
        commits in prop::collection::vec(prop::collection::vec(write(), 0..6), 1..8),
        others in prop::collection::vec((0..6_usize, param(), param()), 0..8),
        tuning in Tuning::any(),
    ) {
        cases::noted(|| {
        let cache = tuned("test.toml", SCHEMA, tuning);
        let mut watched: Vec<_> = early.into_iter().map(|statement| Watched::new(&cache, statement)).collect();
        for (number, writes) in [first].into_iter().chain(commits).enumerate() {
            let report = apply(&cache, &writes);
            let image = image(&cache.snapshot().state);
            for (place, watched) in watched.iter_mut().enumerate() {
                if watched.watch.is_none() && (number + place) % 3 != 2 {
                    watched.look_away();
                    continue;
                }
                watched.check_delta(&report)?;
                watched.check_result(&image)?;
            }
            for (of, p, q) in others.iter().skip(number).take(1) {
                let Some(watched) = watched.get_mut(*of) else { continue };
                let params = watched.statement.params.iter().map(|(name, _)| *name);
                let params = params.map(|name| (name, if name == "p" { p } else { q }.clone())).collect();
                watched.rebind(&cache, params, &image)?;
            }
            if number == 1 {
                watched.extend(late.iter().map(|statement| Watched::new(&cache, statement.clone())));
            }
        }
            Ok(())
        })?;
    }

    /// Rows come and go at the ends of an order as its bounds move, while others change.
    #[test]
    fn every_result_whose_bounds_move_equals_sqlite(
        first in prop::collection::vec(write(), 8..40),
        statements in prop::collection::vec(bounded(), 1..3),
        steps in prop::collection::vec(
            (prop::collection::vec(one_field(), 0..3), prop::collection::vec((param(), 0..5_i64), 0..4)),
            1..8,
        ),
        tuning in Tuning::any(),
    ) {
        cases::noted(|| {
        let cache = tuned("test.toml", SCHEMA, tuning);
        apply(&cache, &first);
        let mut watched: Vec<_> =
            statements.into_iter().map(|statement| Watched::new(&cache, statement)).collect();
        for (writes, bounds) in steps {
            let report = apply(&cache, &writes);
            let image = image(&cache.snapshot().state);
            for watched in &mut watched {
                watched.check_delta(&report)?;
                watched.check_result(&image)?;
                for (p, q) in &bounds {
                    let params = watched.statement.params.iter().map(|(name, _)| *name);
                    let params = params.map(|name| (name, if name == "p" { p.clone() } else { (*q).into() }));
                    watched.rebind(&cache, params.collect(), &image)?;
                }
            }
        }
            Ok(())
        })?;
    }

    /// The whole grammar over random schemas: joins of tables, lists, other statements and named
    /// queries, subqueries, groupings and excerpts over them.
    #[test]
    fn statements_over_several_tables_equal_sqlite_after_every_commit(
        world in prop::collection::vec(any::<u16>(), 0..40),
        statements in prop::collection::vec(prop::collection::vec(any::<u16>(), 0..60), 1..5),
        commits in prop::collection::vec(prop::collection::vec(any::<u16>(), 0..60), 1..8),
        tuning in Tuning::any(),
    ) {
        cases::noted(|| {
        let world = World::of(&world);
        let cache = tuned("test.toml", &world.text(), tuning);
        let mut watched: Vec<Watched> = Vec::new();
        for (number, commit) in commits.iter().enumerate() {
            let report = Choices::new(commit, &world).write(&cache);
            let image = image(&cache.snapshot().state);
            register(&image);
            for (place, watched) in watched.iter_mut().enumerate() {
                if watched.watch.is_none() && (number + place) % 3 != 2 {
                    watched.look_away();
                    continue;
                }
                watched.check_delta(&report)?;
                watched.check_result(&image)?;
                watched.check_missing(&cache)?;
            }
            let mut choices = Choices::new(statements.first().map_or(&[], |of| of), &world);
            for (place, watched) in watched.iter_mut().enumerate() {
                if (place + number) % 2 == 0 {
                    let params = choices.other_values(&watched.statement.params);
                    watched.rebind(&cache, params, &image)?;
                }
            }
            if number % 3 == 2 && !watched.is_empty() {
                // One is dropped, and defined again beside its twins.
                let place = choices.pick(watched.len());
                let statement = watched.remove(place).end();
                watched.extend(Watched::try_new(&cache, statement));
            }
            if number < 2 {
                for of in statements.iter().skip(number * 2).take(2 + number * 9) {
                    let statement = Choices::new(of, &world).statement();
                    // The same with other values, all searched for together: one that follows at
                    // once, and one that catches up when it is read.
                    let mut twins = Vec::new();
                    for is_watched in [!statement.watched, choices.pick(2) == 0] {
                        let mut twin = Statement { watched: is_watched, ..statement.clone() };
                        for (name, value) in choices.other_values(&statement.params) {
                            twin.params.retain(|(other, _)| *other != name);
                            twin.params.push((name, value));
                        }
                        twins.extend(Some(twin).filter(|twin| !twin.params.is_empty()));
                    }
                    let all = [statement].into_iter().chain(twins);
                    watched.extend(all.filter_map(|statement| Watched::try_new(&cache, statement)));
                }
                for watched in &watched {
                    watched.check_result(&image)?;
                }
            }
        }
            Ok(())
        })?;
    }
}

/// Gives the judge what is ours: an order of names, and a search regardless of case.
pub(super) fn register(image: &rusqlite::Connection) {
    use rusqlite::functions::FunctionFlags;
    image.create_collation("UNICODE", crate::query::compare_unicode).unwrap();
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC;
    let contains = |context: &mut rusqlite::functions::Context<'_>| {
        let text = |number: usize| match context.get_raw(number) {
            rusqlite::types::ValueRef::Null => None,
            rusqlite::types::ValueRef::Integer(number) => Some(number.to_string()),
            rusqlite::types::ValueRef::Real(_) => Some(String::new()),
            value => value.as_str().ok().map(str::to_owned),
        };
        let (text, needle) = (text(0), text(1));
        Ok(text
            .zip(needle)
            .map(|(text, needle)| text.to_lowercase().contains(&needle.to_lowercase())))
    };
    image.create_scalar_function("contains", 2, flags, contains).unwrap();
}

/// 2 and 2.0 are equal and not the same: which of them a result shows hangs on the rows alone, not
/// on which of these came first.
#[test]
fn equal_numbers_of_two_types_do_not_hang_on_history() {
    let cache = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
    let of = |column: &str| format!("SELECT {column} FROM item");
    let texts = [
        of("min(coalesce(r, 2)), max(coalesce(r, 2)), sum(coalesce(r, 2))"),
        of("count(DISTINCT coalesce(r, 2)), sum(DISTINCT coalesce(r, 2))"),
        of("json_group_array(DISTINCT coalesce(r, 2))"),
        of("DISTINCT coalesce(r, 2)"),
        of("coalesce(r, 2) AS x, count(*)") + " GROUP BY 1",
        "SELECT x, count(*) FROM (SELECT coalesce(r, 2) AS x FROM item) GROUP BY x".to_owned(),
        "SELECT min(x) FROM (SELECT coalesce(r, 2) AS x FROM item)".to_owned(),
        of("min(coalesce(r, 2)) OVER w, max(coalesce(r, 2)) OVER w") + " WINDOW w AS (ORDER BY id)",
        of("min(coalesce(r, 2)) OVER w, max(coalesce(r, 2)) OVER w")
            + " WINDOW w AS (ORDER BY id ROWS 1 PRECEDING)",
    ];
    let statement = |sql: String| Statement {
        judge: sql.clone(),
        sql,
        params: Vec::new(),
        plain: false,
        watched: true,
    };
    let watched: Vec<Watched> =
        texts.map(statement).into_iter().map(|of| Watched::new(&cache, of)).collect();
    let write = |id: i64, r: Option<f64>| {
        cache
            .commit("written", |tx| tx.merge("item", [("id", id.into()), ("r", Value::from(r))]))
            .unwrap();
    };
    let steps: [&dyn Fn(); 7] = [
        &|| write(5, Some(2.0)),
        &|| write(7, None),
        &|| write(3, None),
        &|| write(5, None),
        &|| write(3, Some(2.0)),
        &|| drop(cache.commit("gone", |tx| tx.delete("item", 3)).unwrap()),
        &|| write(2, Some(2.0)),
    ];
    for step in steps {
        step();
        let image = image(&cache.snapshot().state);
        watched.iter().for_each(|watched| watched.check_result(&image).unwrap());
    }
}
