//! Expressions alone, mostly without parentheses: precedence, conversions and comparisons are
//! SQLite's.

use proptest::prelude::*;
use rusqlite::types::Value as Sql;

use super::queries_equal_sqlite::sql;
use crate::{Cache, Schema, Value};

/// A literal of any kind, among them many that convert in one direction only.
fn literal() -> impl Strategy<Value = String> {
    let special = vec![
        "NULL",
        "TRUE",
        "FALSE",
        "0",
        "1",
        "-1",
        "2.0",
        "0.5",
        "1e300",
        "9223372036854775807",
        "-9223372036854775808",
        "9223372036854775808",
        "4611686018427387904",
        "''",
        "'a'",
        "'A%'",
        "'1'",
        "'1.0'",
        "'+1'",
        "' 2 '",
        "'2x'",
        "'.5'",
        "'5.'",
        "'1e2'",
        "'-'",
        "'e1'",
        "'é'",
        "'0x10'",
        "1.0e-5",
        "123456789012345678",
        "0.1",
        "'TRUE'",
    ];
    prop_oneof![
        5 => prop::sample::select(special).prop_map(str::to_owned),
        1 => any::<i32>().prop_map(|n| n.to_string()),
        1 => (-1e6..1e6_f64).prop_map(|n| format!("{n:?}")),
        1 => "[a-c%_1. ]{0,4}".prop_map(|text| format!("'{text}'")),
    ]
}

/// Terms with operators between them, and a sign or NOT in front of some.
fn chain() -> impl Strategy<Value = String> {
    let operators = vec![
        " + ",
        " - ",
        " * ",
        " / ",
        " % ",
        " || ",
        " = ",
        " == ",
        " <> ",
        " != ",
        " < ",
        " <= ",
        " > ",
        " >= ",
        " AND ",
        " OR ",
        " IS ",
        " IS NOT ",
        " LIKE ",
        " NOT LIKE ",
        " IS DISTINCT FROM ",
        " IS NOT DISTINCT FROM ",
    ];
    let term =
        (prop::sample::select(vec!["", "", "", "", "- ", "+ ", "NOT ", "NOT NOT "]), literal())
            .prop_map(|(sign, literal)| format!("{sign}{literal}"))
            .boxed();
    let ends = vec![
        "",
        "",
        "",
        " IS NULL",
        " NOTNULL",
        " ISNULL",
        " NOT NULL",
        " IS TRUE",
        " IS NOT FALSE",
        " IN (1, '1', 'a')",
        " NOT IN (2)",
        " BETWEEN 0 AND 5",
    ];
    let link = (prop::sample::select(operators), term.clone(), prop::sample::select(ends));
    (term, prop::collection::vec(link, 0..6)).prop_map(|(first, links)| {
        links
            .into_iter()
            .fold(first, |chain, (operator, term, end)| format!("{chain}{operator}{term}{end}"))
    })
}

/// Chains inside of whatever may hold an expression.
fn expression() -> impl Strategy<Value = String> {
    let two = (chain(), chain()).boxed();
    prop_oneof![
        6 => chain(),
        1 => two.clone().prop_map(|(a, b)| format!("({a}) = ({b})")),
        1 => two.clone().prop_map(|(a, b)| format!("CASE {a} WHEN {b} THEN 'same' WHEN NULL THEN 'null' ELSE {a} END")),
        1 => two.clone().prop_map(|(a, b)| format!("iif({a}, {b}, 'no')")),
        1 => two.clone().prop_map(|(a, b)| format!("coalesce(nullif({a}, {b}), ifnull({b}, 'none'))")),
        1 => two.clone().prop_map(|(a, b)| format!("length({a}) + length(lower({b}) || upper({a}))")),
        1 => two.prop_map(|(a, b)| format!("({a}) IN ({b}, 1, 'a', NULL)")),
        1 => ("[ab%_!é]{0,6}", "[ab%_!é]{0,5}").prop_map(|(text, pattern)| format!("'{text}' LIKE '{pattern}'")),
        1 => ("[abA%_!]{0,6}", "[abA%_!]{0,5}").prop_map(|(text, pattern)| format!("'{text}' LIKE '{pattern}' ESCAPE '!'")),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 4000, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn an_expression_has_the_value_that_it_has_in_sqlite(expression in expression()) {
        let sqlite = rusqlite::Connection::open_in_memory().unwrap();
        let statement = format!("SELECT {expression} AS v");
        let judged: Sql = sqlite.query_row(&statement, [], |row| row.get(0)).unwrap();
        let cache = Cache::new(Schema::parse("s", "table.one = { one_row = true, fields = { n = 'int' } }").unwrap());
        let query = cache.query(&format!("{statement} FROM one"), ());
        let query = query.map_err(|error| TestCaseError::fail(format!("{statement}: {error}")))?;
        let result = query.read().unwrap();
        let value: &Value = &result.row(0).unwrap().values()[0];
        prop_assert_eq!(sql(value), judged, "{}", statement);
    }
}
