//! The parser against SQLite's: what is taken, and how strongly operators bind.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use proptest::prelude::*;
use rusqlite::Connection;
use rusqlite::types::Value;

use super::parse;
use super::token::tokens;
use super::tree::{Arguments, Expr, ExprKind, Item, Literal, Unary};

fn judge() -> Connection {
    let judge = Connection::open_in_memory().unwrap();
    judge.execute_batch("CREATE TABLE a(x, y, z); CREATE TABLE b(x, n)").unwrap();
    judge
}

/// What SQLite says of a statement: `None` if it takes it.
fn refused(judge: &Connection, sql: &str) -> Option<String> {
    judge.prepare(sql).err().map(|error| error.to_string())
}

/// Whether it does not even know the form.
fn is_of_syntax(message: &str) -> bool {
    ["syntax error", "incomplete input", "unrecognized token"].iter().any(|of| message.contains(of))
}

/// An expression with parentheses around everything.
fn written(expr: &Expr) -> String {
    let not = |negated: &bool| if *negated { "NOT " } else { "" };
    let list = |list: &[Expr]| list.iter().map(written).collect::<Vec<_>>().join(", ");
    match &expr.kind {
        ExprKind::Column(parts) => {
            parts.iter().map(|part| format!("\"{}\"", part.text)).collect::<Vec<_>>().join(".")
        }
        ExprKind::Literal(Literal::Number(digits)) => digits.clone(),
        ExprKind::Literal(Literal::Text(text)) => format!("'{}'", text.replace('\'', "''")),
        ExprKind::Literal(Literal::Blob(digits)) => format!("X'{digits}'"),
        ExprKind::Literal(Literal::Truth(truth)) => truth.to_string(),
        ExprKind::Literal(Literal::Null) => "NULL".to_owned(),
        ExprKind::Literal(Literal::Param(name)) => name.clone(),
        ExprKind::Unary(Unary::Minus, of) => format!("(- {})", written(of)),
        ExprKind::Unary(Unary::Plus, of) => format!("(+ {})", written(of)),
        ExprKind::Unary(Unary::Not, of) => format!("(NOT {})", written(of)),
        ExprKind::Unary(Unary::Invert, of) => format!("(~ {})", written(of)),
        ExprKind::Binary(left, op, right) => {
            format!("({} {} {})", written(left), op.spelled(), written(right))
        }
        ExprKind::IsNull { of, negated } => format!("({} IS {}NULL)", written(of), not(negated)),
        ExprKind::IsTruth { of, truth, negated } => {
            format!("({} IS {}{truth})", written(of), not(negated))
        }
        ExprKind::Is { left, right, negated } => {
            format!("({} IS {}{})", written(left), not(negated), written(right))
        }
        ExprKind::Between { of, low, high, negated } => {
            let (low, high) = (written(low), written(high));
            format!("({} {}BETWEEN {low} AND {high})", written(of), not(negated))
        }
        ExprKind::InList { of, list: items, negated } => {
            format!("({} {}IN ({}))", written(of), not(negated), list(items))
        }
        ExprKind::Like { of, pattern, escape, negated } => {
            let escape = escape.as_ref().map(|escape| format!(" ESCAPE {}", written(escape)));
            let (of, pattern, escape) = (written(of), written(pattern), escape.unwrap_or_default());
            format!("({of} {}LIKE {pattern}{escape})", not(negated))
        }
        ExprKind::Case { operand, branches, otherwise } => {
            let operand = operand.as_ref().map(|of| written(of)).unwrap_or_default();
            let branches = branches.iter().map(|(condition, result)| {
                format!("WHEN {} THEN {}", written(condition), written(result))
            });
            let branches = branches.collect::<Vec<_>>().join(" ");
            let otherwise = otherwise.as_ref().map(|of| format!("ELSE {}", written(of)));
            format!("(CASE {operand} {branches} {} END)", otherwise.unwrap_or_default())
        }
        ExprKind::Call(call) => match &call.arguments {
            Arguments::All => format!("{}(*)", call.name.text),
            Arguments::List(of) => format!("{}({})", call.name.text, list(of)),
        },
        ExprKind::Collate(of, name) => format!("({} COLLATE {})", written(of), name.text),
        ExprKind::Cast(of, data_type) => format!("CAST({} AS {data_type})", written(of)),
        ExprKind::Row(of) => format!("({})", list(of)),
        ExprKind::Exists(_) | ExprKind::Subquery(_) | ExprKind::InQuery { .. } => {
            unreachable!("not among the expressions here")
        }
    }
}

/// An operand, and operators around it, without parentheses.
fn operand() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        4 => (0..5_i64).prop_map(|number| number.to_string()),
        1 => prop::sample::select(vec!["NULL", "'1'", "'ab'", "'AB'", "1.5", "TRUE", "0x1F", "1_0", ".5e1", "X'31'"])
            .prop_map(str::to_owned),
    ];
    let operator = prop::sample::select(vec![
        "=",
        "==",
        "<>",
        "!=",
        "<",
        "<=",
        ">",
        ">=",
        "&",
        "|",
        "<<",
        ">>",
        "+",
        "-",
        "*",
        "/",
        "%",
        "||",
        "AND",
        "OR",
        "IS",
        "IS NOT",
        "IS DISTINCT FROM",
        "IS NOT DISTINCT FROM",
        "LIKE",
        "NOT LIKE",
        "GLOB",
        "NOT GLOB",
        "->>",
    ]);
    leaf.prop_recursive(4, 40, 3, move |inner| {
        let inner = || inner.clone();
        let not = || prop::sample::select(vec!["", "NOT "]);
        prop_oneof![
            8 => (inner(), operator.clone(), inner()).prop_map(|(a, op, b)| format!("{a} {op} {b}")),
            2 => (prop::sample::select(vec!["-", "+", "~", "NOT"]), inner())
                .prop_map(|(op, of)| format!("{op} {of}")),
            2 => (inner(), not(), inner(), inner())
                .prop_map(|(of, not, low, high)| format!("{of} {not}BETWEEN {low} AND {high}")),
            1 => (inner(), not(), inner(), inner())
                .prop_map(|(of, not, one, other)| format!("{of} {not}IN ({one}, {other})")),
            1 => (inner(), prop::sample::select(vec!["ISNULL", "NOTNULL", "NOT NULL", "IS NULL", "COLLATE NOCASE", "IN ()"]))
                .prop_map(|(of, op)| format!("{of} {op}")),
            1 => (inner(), not(), inner()).prop_map(|(of, not, like)| format!("{of} {not}LIKE {like} ESCAPE 'x'")),
            1 => (inner(), inner(), inner()).prop_map(|(a, b, c)| format!("CASE {a} WHEN {b} THEN {c} END")),
            1 => inner().prop_map(|of| format!("CASE WHEN {of} THEN 1 ELSE {of} END")),
            1 => inner().prop_map(|of| format!("CAST({of} AS INTEGER)")),
            1 => inner().prop_map(|of| format!("coalesce({of}, 7)")),
            1 => inner().prop_map(|of| format!("({of})")),
        ]
    })
}

/// Statements with everything in them that the grammar has.
const STATEMENTS: [&str; 17] = [
    "SELECT x , y AS n , z m , 1 'text' FROM a AS t",
    "SELECT DISTINCT * , a . * FROM a WHERE x = :p AND NOT y IS NULL ;",
    "SELECT ALL t . x FROM a t LEFT OUTER JOIN b ON t . x = b . x INNER JOIN b AS c ON 1",
    "SELECT x FROM a NATURAL JOIN b CROSS JOIN ( SELECT n FROM b ) AS s",
    "SELECT a . x FROM a RIGHT JOIN b USING ( x ) , b AS c",
    "SELECT a . x FROM a FULL JOIN b ON a . x = b . x",
    "SELECT 1 FROM ( a JOIN b ON 1 )",
    "SELECT y , count ( * ) , sum ( DISTINCT x ) FILTER ( WHERE x > 1 ) FROM a GROUP BY y , z HAVING max ( x ) > 1",
    "SELECT x FROM a ORDER BY x COLLATE NOCASE DESC NULLS LAST , y ASC NULLS FIRST LIMIT 1 OFFSET 2",
    "SELECT x FROM a UNION ALL SELECT n FROM b EXCEPT VALUES ( 1 ) , ( 2 ) ORDER BY 1 LIMIT 1 , 2",
    "WITH w ( n ) AS ( SELECT x FROM a ) , v AS MATERIALIZED ( SELECT n FROM w ) SELECT n FROM v",
    "WITH RECURSIVE w ( n ) AS ( SELECT 1 UNION ALL SELECT n + 1 FROM w LIMIT 3 ) SELECT n FROM w",
    "SELECT CASE x WHEN 1 THEN 'a' WHEN 2 THEN y ELSE NULL END FROM a",
    "SELECT x IN ( SELECT x FROM b ) , x NOT IN ( 1 , 2 ) , EXISTS ( SELECT 1 ) , ( SELECT max ( x ) FROM b ) FROM a",
    "SELECT group_concat ( x , ',' ORDER BY y DESC ) , x BETWEEN 1 AND 2 , y NOT LIKE 'a' ESCAPE 'b' FROM a",
    "SELECT row_number ( ) OVER ( PARTITION BY y ORDER BY x ROWS BETWEEN 1 PRECEDING AND CURRENT ROW EXCLUDE TIES ) FROM a",
    "SELECT sum ( x ) OVER w , CAST ( y AS VARCHAR ( 10 ) ) FROM a WINDOW w AS ( ORDER BY x ) , v AS ( w )",
];
/// Tokens that change them. Where SQLite takes a text or nothing for a name, we do not.
const TOKENS: [&str; 40] = [
    "SELECT", "FROM", "WHERE", "AS", "JOIN", "LEFT", "ON", "x", "\"y\"", "a", ".", ",", "(", ")",
    "*", "=", "-", "NOT", "NULL", "IS", "AND", "BETWEEN", "IN", "LIKE", "ORDER", "BY", "LIMIT",
    "UNION", "ALL", "DISTINCT", "GROUP", "HAVING", "WITH", "END", "OVER", "FILTER", "1", "COLLATE",
    "CAST", "WINDOW",
];

/// Words that are part of SQLite's language.
const KEYWORDS: &str = "ABORT ACTION ADD AFTER ALL ALTER ALWAYS ANALYZE AND AS ASC ATTACH \
    AUTOINCREMENT BEFORE BEGIN BETWEEN BY CASCADE CASE CAST CHECK COLLATE COLUMN COMMIT CONFLICT \
    CONSTRAINT CREATE CROSS CURRENT DATABASE DEFAULT DEFERRABLE DEFERRED DELETE DESC DETACH \
    DISTINCT DO DROP EACH ELSE END ESCAPE EXCEPT EXCLUDE EXCLUSIVE EXISTS EXPLAIN FAIL FILTER \
    FIRST FOLLOWING FOR FOREIGN FROM FULL GENERATED GLOB GROUP GROUPS HAVING IF IGNORE IMMEDIATE \
    IN INDEX INDEXED INITIALLY INNER INSERT INSTEAD INTERSECT INTO IS ISNULL JOIN KEY LAST LEFT \
    LIKE LIMIT MATCH MATERIALIZED NATURAL NO NOT NOTHING NOTNULL NULLS OF OFFSET ON OR ORDER \
    OTHERS OUTER OVER PARTITION PLAN PRAGMA PRECEDING PRIMARY QUERY RAISE RANGE RECURSIVE \
    REFERENCES REGEXP REINDEX RELEASE RENAME REPLACE RESTRICT RETURNING RIGHT ROLLBACK ROW ROWS \
    SAVEPOINT SELECT SET TABLE TEMP TEMPORARY THEN TIES TO TRANSACTION TRIGGER UNBOUNDED UNION \
    UNIQUE UPDATE USING VACUUM VALUES VIEW VIRTUAL WHEN WHERE WINDOW WITH WITHIN WITHOUT";

#[test]
fn words_are_names_where_sqlite_takes_them_for_names() {
    let judge = judge();
    for word in KEYWORDS.split_whitespace() {
        judge.execute_batch(&format!("CREATE TABLE \"{word}\"(x, \"{word}\")")).unwrap();
        for form in [
            "SELECT WORD FROM \"WORD\"",
            "SELECT t.WORD FROM \"WORD\" AS t",
            "SELECT 1 AS WORD",
            "SELECT 1 WORD",
            "SELECT x FROM WORD",
            "SELECT x FROM a WORD",
            "SELECT x FROM a AS WORD",
            "SELECT WORD.* FROM \"WORD\"",
            "WITH WORD AS (SELECT 1 AS x) SELECT x FROM WORD",
        ] {
            let sql = form.replace("WORD", word);
            let (ours, sqlite) = (parse(&sql).err().map(|no| no.message), refused(&judge, &sql));
            assert_eq!(ours.is_none(), sqlite.is_none(), "{sql}: {ours:?}, {sqlite:?}");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(
        std::env::var("BACKWATER_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(2000)
    ))]

    #[test]
    fn operators_bind_as_strongly_as_in_sqlite(text in operand()) {
        thread_local!(static JUDGE: Connection = judge());
        JUDGE.with(|judge| {
            let sql = format!("SELECT {text}");
            let values = |sql: &str| judge.query_row(sql, (), |row| row.get::<_, Value>(0));
            let plain = values(&sql);
            let parsed = match parse(&sql) {
                Ok(parsed) => parsed,
                Err(refusal) => {
                    let says = plain.unwrap_err().to_string();
                    let is_alike = is_of_syntax(&says) || says.contains("wrong number of arguments");
                    assert!(is_alike, "{sql}: {refusal:?}, {says}");
                    return;
                }
            };
            let Item::Expr { expr, .. } = &parsed.query.selects[0].items[0] else { panic!("{sql}") };
            let bracketed = values(&format!("SELECT {}", written(expr)));
            // Whether something is computed that fails depends on what SQLite simplifies.
            let fails = |value: &rusqlite::Result<Value>| {
                let says = value.as_ref().err().map(ToString::to_string).unwrap_or_default();
                ["ESCAPE expression", "malformed JSON", "JSON path"].iter().any(|of| says.contains(of))
            };
            match (plain, bracketed) {
                (plain, bracketed) if fails(&plain) || fails(&bracketed) => {}
                (Ok(plain), Ok(bracketed)) => assert_eq!(plain, bracketed, "{sql}: {}", written(expr)),
                (Err(plain), bracketed) => {
                    assert!(!is_of_syntax(&plain.to_string()), "{sql}: {plain}");
                    assert!(bracketed.is_err(), "{sql}: {plain}");
                }
                (Ok(_), Err(error)) => panic!("{sql}: {}: {error}", written(expr)),
            }
        });
    }

    #[test]
    fn statements_are_taken_that_sqlite_takes(
        statement in prop::sample::select(STATEMENTS.to_vec()),
        changes in prop::collection::vec((0..4, any::<prop::sample::Index>(), prop::sample::select(TOKENS.to_vec())), 0..4),
    ) {
        thread_local!(static JUDGE: Connection = judge());
        let mut words: Vec<&str> = statement.split(' ').collect();
        for (change, place, token) in changes {
            let place = place.index(words.len());
            match change {
                0 => drop(words.remove(place)),
                1 => words.insert(place, token),
                2 => words[place] = token,
                _ => words.insert(place, words[place]),
            }
            if words.is_empty() {
                words.push("SELECT");
            }
        }
        let sql = words.join(" ");
        let ours = parse(&sql).err().map(|refusal| refusal.message);
        let sqlite = JUDGE.with(|judge| refused(judge, &sql));
        // A text as a name, a table behind IN, and a type of no words are SQLite's alone.
        let is_odd = ["'text'", "','", "'a'", "'b'"].iter().any(|text| sql.contains(text))
            || words.windows(2).any(|pair| pair[0] == "IN" && pair[1] != "(")
            || sql.contains("AS )")
            || sql.contains("AS (")
            || sql.split_once(';').is_some_and(|(_, more)| !more.is_empty());
        match (ours, sqlite) {
            (None, Some(message)) => prop_assert!(!is_of_syntax(&message), "{}: {}", sql, message),
            (Some(message), None) => prop_assert!(is_odd, "{}: {}", sql, message),
            _ => {}
        }
    }

    #[test]
    fn any_text_is_taken_or_refused(text in "\\PC{0,40}", sql in "(SELECT|[a-z]|[0-9._'\"`\\[\\]x?:@$#]|[(),;]|--|/\\*|\\*/|\n| ){0,40}") {
        for text in [text, sql] {
            if let Err(refusal) = parse(&text) {
                let lines: Vec<&str> = text.split('\n').collect();
                prop_assert!(refusal.at.line <= lines.len(), "{:?}: {:?}", text, refusal);
                let width = lines[refusal.at.line - 1].chars().count();
                prop_assert!(refusal.at.column <= width + 1, "{:?}: {:?}", text, refusal);
            }
            // Its tokens are its own text, one behind the other.
            for pair in tokens(&text).iter().flat_map(|tokens| tokens.windows(2)) {
                prop_assert!(pair[0].start < pair[0].end && pair[0].end <= pair[1].start);
            }
        }
    }
}
