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

/// Directives of format().
fn directive() -> impl Strategy<Value = String> {
    let one = (
        "[-+ #0,!]{0,2}",
        prop_oneof![2 => Just(String::new()), 1 => "[0-9]", 1 => Just("12".into()), 1 => Just("*".into())],
        prop_oneof![2 => Just(String::new()), 2 => "[.][0-9]", 1 => "[.]1[0-9]", 1 => Just(".*".into())],
        // Of NULL %c makes U+0000, which no text here holds.
        "(l|ll)?[diuxXoeEfgGszqQw%dfgs]",
    );
    let one = one.prop_map(|(flags, width, precision, letter)| {
        format!("%{flags}{width}{precision}{letter}")
    });
    prop::collection::vec(prop_oneof![4 => one, 1 => "[a %;]"], 1..4).prop_map(|of| of.concat())
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
        " & ",
        " | ",
        " << ",
        " >> ",
        " GLOB ",
        " NOT GLOB ",
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
    let term = (
        prop::sample::select(vec!["", "", "", "", "- ", "+ ", "~ ", "NOT ", "NOT NOT "]),
        literal(),
    )
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

/// Rows of operators inside of everything that may hold an expression.
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
        1 => ("[ab\\]^-]{0,5}", "[ab*?\\[\\]^-]{0,7}").prop_map(|(text, pattern)| format!("'{text}' GLOB '{pattern}'")),
        1 => ("[abc]{0,5}", "(a|b|\\*|\\?|\\[a-b\\]|\\[\\^b\\]){0,5}").prop_map(|(text, pattern)| format!("glob('{pattern}', '{text}')")),
        1 => (any::<i64>(), -70..70_i64, prop::sample::select(vec!["<<", ">>", "&", "|"])).prop_map(|(n, by, op)| format!("{n} {op} {by}")),
        1 => prop::collection::vec(prop_oneof![1..300_i64, 0x2000..0x2100_i64], 1..4).prop_map(|letters| format!("char({})", letters.iter().map(i64::to_string).collect::<Vec<_>>().join(", "))),
        4 => (directive(), literal(), literal(), -20..20).prop_map(|(form, a, b, n)| match form.contains('*') {
            // What is no width is one of these, too.
            true => format!("format('{form}', {n}, {n} / 2, {n} * 10, 'e''ab')"),
            // SQLite cuts letters in the middle, and we do not.
            false => format!("printf('{form}', {a}, {b})").replace('é', "e"),
        }),
        1 => ("[ab%_!é]{0,6}", "[ab%_!é]{0,5}").prop_map(|(text, pattern)| format!("'{text}' LIKE '{pattern}'")),
        1 => ("[abA%_!]{0,6}", "[abA%_!]{0,5}").prop_map(|(text, pattern)| format!("'{text}' LIKE '{pattern}' ESCAPE '!'")),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), failure_persistence: None, ..ProptestConfig::default() })]

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

    /// Scalar functions, with arguments of every kind.
    #[test]
    fn a_function_gives_what_it_gives_in_sqlite(call in call()) {
        judge(&call)?;
    }

    /// Dates and times, near the ends of months and years too.
    #[test]
    fn times_are_computed_as_in_sqlite(call in times()) {
        judge(&call)?;
    }
}

fn judge(expression: &str) -> Result<(), TestCaseError> {
    let sqlite = rusqlite::Connection::open_in_memory().unwrap();
    let statement = format!("SELECT {expression} AS v");
    let Ok(judged) = sqlite.query_row(&statement, [], |row| row.get::<_, Sql>(0)) else {
        // It fails for a single row: an overflow, or JSON that is none.
        return Ok(());
    };
    let schema = "table.one = { one_row = true, fields = { n = 'int' } }";
    let cache = Cache::new(Schema::parse("s", schema).unwrap());
    let query = cache.query(&format!("{statement} FROM one"), ());
    let query = query.map_err(|error| TestCaseError::fail(format!("{statement}: {error}")))?;
    let result = query.read().unwrap();
    prop_assert_eq!(sql(&result.row(0).unwrap().values()[0]), judged, "{}", statement);
    Ok(())
}

fn call() -> impl Strategy<Value = String> {
    let one = vec![
        "abs",
        "hex",
        "length",
        "lower",
        "ltrim",
        "round",
        "rtrim",
        "sign",
        "trim",
        "typeof",
        "unicode",
        "upper",
        "json_array",
        "concat",
    ];
    let two = vec![
        "concat",
        "concat_ws",
        "ifnull",
        "instr",
        "json_array",
        "ltrim",
        "max",
        "min",
        "nullif",
        "rtrim",
        "substr",
        "trim",
    ];
    let small = (-9..9_i64).prop_map(|n| n.to_string());
    prop_oneof![
        4 => (prop::sample::select(one), literal()).prop_map(|(f, a)| format!("{f}({a})")),
        4 => (prop::sample::select(two), literal(), literal()).prop_map(|(f, a, b)| format!("{f}({a}, {b})")),
        2 => (literal(), small.clone(), small.clone()).prop_map(|(a, b, c)| format!("substr({a}, {b}, {c})")),
        2 => ((-1e4..1e4_f64), 0..6_u8).prop_map(|(n, digits)| format!("round({n:?}, {digits})")),
        2 => ((-40_000..40_000_i64), 0..5_u8).prop_map(|(n, digits)| format!("round({}, {digits})", n as f64 / 1000.0)),
        1 => (literal(), literal(), literal()).prop_map(|(a, b, c)| format!("replace({a}, {b}, {c})")),
        1 => (literal(), literal()).prop_map(|(a, b)| format!("json_object('k', {a}, 'l', json_array({b}))")),
        1 => (literal(), literal(), prop::sample::select(vec!["", ", '$'", ", '$.a'", ", '$.b'", ", '$.b[1]'", ", '$.c'"]), prop::sample::select(vec!["json_type", "json_array_length"]))
            .prop_map(|(a, b, path, function)| format!("{function}(json_object('a', {a}, 'b', json_array({b}, {a})){path})")),
        2 => (literal(), prop::sample::select(vec!["INTEGER", "TEXT", "REAL", "BIGINT", "VARCHAR(9)"]))
            .prop_map(|(a, kind)| format!("CAST({a} AS {kind})")),
        2 => (literal(), literal(), prop::sample::select(vec!["'$.a'", "'a'", "'$.b[1]'", "'$.b[#-1]'", "1", "'$'"]), prop::sample::select(vec!["->", "->>"]))
            .prop_map(|(a, b, path, arrow)| format!("json_object('a', {a}, 'b', json_array({b}, {a})) {arrow} {path}")),
    ]
}

fn times() -> impl Strategy<Value = String> {
    let dates = vec![
        "'2031-05-04'",
        "'2031-05-04T05:41:00.000000Z'",
        "'2028-02-29 23:59:59.999'",
        "'1999-12-31 24:00'",
        "'0000-01-01'",
        "'9999-12-31 23:59:59'",
        "'2031-01-31'",
        "'12:30'",
        "'12:30:15.5+02:00'",
        "2461234.5",
        "0",
        "1900000000",
        "'2461234.75'",
        "'2031-13-01'",
        "''",
        "NULL",
        "'2031-02-30'",
        "'1970-01-01'",
        "'-0001-03-01'",
    ];
    let day = (1990..2040_u32, 1..13_u32, 1..32_u32, 0..86_400_u32).prop_map(|(y, m, d, s)| {
        format!("'{y:04}-{m:02}-{d:02} {:02}:{:02}:{:02}'", s / 3600, s / 60 % 60, s % 60)
    });
    let date = prop_oneof![prop::sample::select(dates).prop_map(str::to_owned), day];
    let units =
        vec!["day", "days", "hours", "minute", "seconds", "month", "months", "years", "Year"];
    let shift = (
        prop::sample::select(vec!["+", "-", ""]),
        0..40_u32,
        prop::sample::select(vec!["", ".5"]),
        prop::sample::select(units),
    )
        .prop_map(|(sign, n, fraction, unit)| format!("'{sign}{n}{fraction} {unit}'"));
    // Years, months and days, and times, also such that are none.
    let sign = || prop::sample::select(vec!["+", "-", ""]);
    let by_time =
        (sign(), 0..26_u32, 0..61_u32, prop::sample::select(vec!["", ":30", ":59.5", ":7", "Z"]))
            .prop_map(|(sign, h, m, s)| format!("'{sign}{h:02}:{m:02}{s}'"));
    let by_date = (
        sign(),
        0..40_u32,
        0..13_u32,
        0..32_u32,
        prop::sample::select(vec!["", " 01:30", " 23:59:59.9", "x", " 7"]),
    )
        .prop_map(|(sign, y, m, d, time)| format!("'{sign}{y:04}-{m:02}-{d:02}{time}'"));
    let modifier = prop_oneof![
        3 => shift,
        1 => by_time,
        1 => by_date,
        2 => prop::sample::select(vec![
            "'start of day'", "'start of month'", "'start of year'", "'weekday 0'", "'weekday 3'",
            "'weekday -2'", "'end of day'", "'end of month'", "'end of year'", "'floor'", "'ceiling'",
            "'unixepoch'", "'auto'", "'julianday'", "'subsec'", "'nonsense'",
        ]).prop_map(str::to_owned),
    ];
    let function = prop_oneof![
        4 => prop::sample::select(vec!["date(", "time(", "datetime(", "julianday(", "unixepoch("]).prop_map(str::to_owned),
        3 => prop::collection::vec(
            prop::sample::select(vec!["%d", "%e", "%f", "%F", "%g", "%G", "%H", "%I", "%j", "%J", "%k", "%l", "%m", "%M", "%p", "%P", "%R", "%s", "%S", "%T", "%u", "%U", "%V", "%w", "%W", "%Y", "%%", "-", "x"]),
            1..4,
        ).prop_map(|parts| format!("strftime('{}', ", parts.concat())),
    ];
    (function, date, prop::collection::vec(modifier, 0..3)).prop_map(
        |(function, date, modifiers)| {
            let arguments: Vec<String> = [date].into_iter().chain(modifiers).collect();
            format!("{function}{})", arguments.join(", "))
        },
    )
}

fn cases() -> u32 {
    std::env::var("BACKWATER_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(4000)
}
