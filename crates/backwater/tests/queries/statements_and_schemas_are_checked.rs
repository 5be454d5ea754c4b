//! A statement or a schema is taken as it is meant, or refused with its place and a way out.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{Cache, ErrorKind, Schema, Value};
use proptest::prelude::*;

const SCHEMA: &str = r#"
    table.sailing = { id = "id", fields = { id = "int", status = "text", departs_at = "timestamp", delay = "int", "a b" = "text", paid = "bool", vessel = { to = "vessel" } } }
    table.vessel = { id = "name", fields = { name = "text" } }
"#;

fn cache() -> Cache {
    Cache::new(Schema::parse("test.toml", SCHEMA).unwrap())
}

#[test]
fn what_is_not_supported_is_refused_with_its_place_and_a_way_out() {
    let cases = [
        (
            "SELECT id FROM sailing; SELECT 1",
            "line 1, column 25 of the statement: found SELECT behind the statement",
        ),
        ("", "this is empty, expected a SELECT statement"),
        ("SELECT 1 WHERE 0", "this reads no table, so there is nothing to choose from; add FROM"),
        (
            "SELECT id FROM sailing, (SELECT id FROM sailing) AS s",
            "column 8 of the statement: column \"id\" is in \"sailing\" and in \"s\"; write sailing.id or s.id",
        ),
        (
            "SELECT 1 FROM sailing, sailing",
            "reads \"sailing\" twice; give it another name: sailing AS other",
        ),
        (
            "SELECT 1 FROM sailing FULL JOIN vessel ON EXISTS (SELECT 1 FROM vessel)",
            "a subquery in ON of a full join is not supported; put two left joins together with UNION ALL",
        ),
        (
            "SELECT 1 FROM sailing JOIN vessel USING (name)",
            "column 42 of the statement: table \"sailing\" has no column \"name\"",
        ),
        (
            "SELECT 1 FROM vessel JOIN sailing USING (name)",
            "table \"sailing\" has no column \"name\"",
        ),
        ("SELECT 1 FROM sailing JOIN (vessel JOIN vessel AS v) ON 1", "a join in parentheses"),
        (
            "SELECT 1 FROM vessel LEFT JOIN (SELECT max(id) AS m FROM sailing) AS s ON 1 LEFT JOIN vessel AS v ON s.m = (SELECT count(*) FROM vessel)",
            "column 87 of the statement: this ON has a subquery, and reads something that is no table or is outer-joined",
        ),
        ("SELECT id FROM main.sailing", "there is no table main.sailing"),
        ("SELECT id FROM saling", "there is no table \"saling\"; did you mean \"sailing\"?"),
        (
            "WITH RECURSIVE x(a) AS (SELECT a FROM x) SELECT a FROM x",
            "column 25 of the statement: \"x\" reads itself before it has any rows; begin with a SELECT of the first",
        ),
        (
            "WITH RECURSIVE x(a) AS (SELECT 1 UNION SELECT max(a) FROM x) SELECT a FROM x",
            "column 40 of the statement: \"x\" reads itself in a SELECT with a grouping, a window function or DISTINCT",
        ),
        (
            "WITH RECURSIVE x(a) AS (SELECT 1 UNION SELECT a FROM x WHERE a IN (SELECT a FROM x)) SELECT a FROM x",
            "reads itself more than once, or in a subquery; name it once",
        ),
        (
            "WITH RECURSIVE x(a) AS (SELECT 1 UNION SELECT a FROM x LIMIT 3) SELECT a FROM x",
            "\"x\" reads itself, so it cannot have ORDER BY or LIMIT; put them into",
        ),
        (
            "WITH RECURSIVE x(a) AS (SELECT 1 EXCEPT SELECT a FROM x) SELECT a FROM x",
            "put UNION in front of this",
        ),
        (
            "WITH RECURSIVE x(a) AS (SELECT 1 UNION SELECT a FROM x UNION SELECT 2) SELECT a FROM x",
            "\"x\" has another SELECT behind the one that reads it",
        ),
        (
            "WITH RECURSIVE x(a) AS (SELECT 1 UNION SELECT x.a FROM sailing LEFT JOIN x ON a = id) SELECT a FROM x",
            "\"x\" is left-joined where it reads itself; put it first",
        ),
        (
            "WITH RECURSIVE x(a) AS (SELECT 1 UNION SELECT a, a FROM x) SELECT a FROM x",
            "this part has 2 columns, the first one 1",
        ),
        ("WITH x(a, b) AS (SELECT id FROM sailing) SELECT a FROM x", "2 names for 1 columns"),
        (
            "SELECT id FROM sailing EXCEPT SELECT id, status FROM sailing",
            "this part has 2 columns, the first one 1; EXCEPT joins parts of equal width",
        ),
        (
            "SELECT id FROM sailing UNION ALL SELECT id, status FROM sailing",
            "this part has 2 columns, the first one 1",
        ),
        ("VALUES (1)", "only SELECT is supported here, no VALUES"),
        (
            "SELECT status COLLATE NOCASE AS s FROM sailing UNION SELECT name FROM vessel",
            "COLLATE behind column \"s\" is not supported here; another statement reads it",
        ),
        (
            "SELECT max(status COLLATE NOCASE) FROM sailing",
            "COLLATE inside of this is not supported",
        ),
        (
            "SELECT (SELECT id FROM sailing) FROM sailing",
            "column 9 of the statement: this subquery may give several rows where one value is expected; add LIMIT 1",
        ),
        (
            "SELECT s.id FROM sailing AS s, sailing AS t WHERE EXISTS (SELECT 1 FROM vessel AS v WHERE v.name < s.vessel || t.vessel)",
            "other conditions in its WHERE may read one table around it that is not left-joined",
        ),
        (
            "SELECT s.id, (SELECT max(v.name || s.status) FROM vessel AS v) FROM sailing AS s",
            "reads the statement around it in a way that only an equality may",
        ),
        (
            "SELECT id FROM sailing AS s WHERE id IN (SELECT max(id) FROM sailing AS v WHERE v.vessel = s.vessel GROUP BY status)",
            "join it by what they have in common",
        ),
        (
            "SELECT id FROM sailing WHERE id IN (SELECT id, status FROM sailing)",
            "has 2 columns; IN compares with one",
        ),
        (
            "SELECT (SELECT max(id) FROM sailing), count((SELECT max(name) FROM vessel)) FROM sailing",
            "this subquery stands beside a grouping, and another one inside of it",
        ),
        (
            "SELECT status, (SELECT count(*) FROM vessel AS v WHERE v.name = s.vessel) FROM sailing AS s GROUP BY status",
            "column 17 of the statement: column \"vessel\" is neither grouped by",
        ),
        (
            "SELECT id FROM sailing ORDER BY status COLLATE GERMAN",
            "there is no collation GERMAN; there are BINARY, NOCASE, RTRIM, UNICODE",
        ),
        ("SELECT status COLLATE NOCASE || 'x' FROM sailing", "COLLATE cannot stand here"),
        ("SELECT lower(DISTINCT status) FROM sailing", "lower() is no aggregate"),
        (
            "SELECT DISTINCT status FROM sailing ORDER BY id",
            "names something that is no result column",
        ),
        (
            "SELECT id FROM sailing WHERE row_number() OVER () < 3",
            "column 30 of the statement: the window function row_number() cannot stand here",
        ),
        (
            "SELECT count(*) FROM sailing HAVING rank() OVER () < 3",
            "to filter by it, put the statement into FROM (SELECT …)",
        ),
        ("SELECT sum(lag(id) OVER ()) OVER () FROM sailing", "lag() cannot stand here"),
        ("SELECT rank() FROM sailing", "rank() is a window function, and needs OVER"),
        ("SELECT length(status) OVER () FROM sailing", "length() is no window function"),
        ("SELECT lag(id, 1, 2, 3) OVER () FROM sailing", "lag() has 4 arguments, expected 1 to 3"),
        ("SELECT rank(1) OVER () FROM sailing", "rank() has 1 argument, expected none"),
        ("SELECT ntile(0) OVER () FROM sailing", "ntile() takes a whole number above 0"),
        ("SELECT rank() FILTER (WHERE id) OVER () FROM sailing", "so it takes no FILTER"),
        ("SELECT count(DISTINCT id) OVER () FROM sailing", "DISTINCT is not supported in a window"),
        ("SELECT group_concat(id ORDER BY id) OVER () FROM sailing", "order the window"),
        (
            "SELECT rank() OVER w FROM sailing",
            "column 20 of the statement: there is no window \"w\"",
        ),
        (
            "SELECT rank() OVER v FROM sailing WINDOW v AS (w), w AS (ORDER BY id)",
            "there is no window \"w\"",
        ),
        (
            "SELECT rank() OVER (w ORDER BY id) FROM sailing WINDOW w AS (ORDER BY id)",
            "the window \"w\" has an order already",
        ),
        (
            "SELECT rank() OVER (w PARTITION BY id) FROM sailing WINDOW w AS (ORDER BY id)",
            "PARTITION BY cannot follow the window \"w\"",
        ),
        (
            "SELECT sum(id) OVER (ORDER BY id RANGE 1 PRECEDING) FROM sailing",
            "RANGE with a number is not supported",
        ),
        (
            "SELECT sum(id) OVER (ORDER BY id ROWS BETWEEN 1 FOLLOWING AND CURRENT ROW) FROM sailing",
            "this frame ends before it begins",
        ),
        (
            "SELECT sum(id) OVER (ORDER BY id ROWS delay PRECEDING) FROM sailing",
            "a frame counts a whole number of rows, the same for all of them",
        ),
        (
            "SELECT sum(id) OVER (ROWS UNBOUNDED PRECEDING EXCLUDE TIES) FROM sailing",
            "EXCLUDE is not supported",
        ),
        (
            "SELECT status, sum(id) OVER () FROM sailing GROUP BY status",
            "column 20 of the statement: column \"id\" is neither grouped by",
        ),
        (
            "SELECT cont(*) FROM sailing",
            "function cont() is not supported; did you mean \"count\"?",
        ),
        ("SELECT CAST(id AS BLOB) FROM sailing", "cast to INTEGER, REAL or TEXT"),
        ("SELECT json_object('a') FROM sailing", "takes pairs of a name and a value"),
        ("SELECT id FROM sailing WHERE status MATCH 'x*'", "operator MATCH is not supported"),
        ("SELECT id FROM sailing WHERE status REGEXP 'x*'", "operator REGEXP is not supported"),
        ("SELECT id FROM sailing WHERE status GLOB 'x' ESCAPE 'y'", "GLOB has no ESCAPE; LIKE has"),
        ("SELECT id FROM sailing WHERE id = ?", "parameter \"?\" has no name; write it as :name"),
        (
            "SELECT status, count(*) FROM sailing",
            "column 8 of the statement: column \"status\" is neither grouped by",
        ),
        (
            "SELECT status, delay + count(*) FROM sailing GROUP BY status",
            "column 16 of the statement: column \"delay\" is neither",
        ),
        (
            "SELECT count(*) FROM sailing ORDER BY delay",
            "column 39 of the statement: column \"delay\" is neither",
        ),
        (
            "SELECT id FROM sailing WHERE count(*) > 1",
            "column 30 of the statement: the aggregate count() cannot stand here",
        ),
        ("SELECT sum(count(*)) FROM sailing", "the aggregate count() cannot stand here"),
        ("SELECT id FROM sailing HAVING id > 1", "HAVING needs GROUP BY or an aggregate"),
        (
            "SELECT id FROM sailing GROUP BY 2",
            "there is no result column 2; the result has 1 columns",
        ),
        ("SELECT id FROM sailing ORDER BY 2", "there is no result column 2"),
        ("SELECT id FROM sailing LIMIT delay", "LIMIT and OFFSET cannot read a row"),
        (
            "SELECT vessel.name FROM sailing",
            "the statement reads no table \"vessel\"; it reads \"sailing\"",
        ),
        ("SELECT s.naem FROM sailing s", "table \"sailing\" has no column \"naem\""),
        ("SELECT lower() FROM sailing", "lower() has 0 arguments, expected one"),
        (
            "SELECT id FROM sailing WHERE status LIKE 'x' ESCAPE 'yy'",
            "ESCAPE takes a text of one letter",
        ),
        (
            "SELECT id FROM sailing WHERE status = 'unfinished",
            "column 39 of the statement: this text has no end; close it with '",
        ),
        (
            "SELECT id\nFROM sailing\nWHERE dely > 1",
            "line 3, column 7 of the statement: table \"sailing\" has no column \"dely\"; did you mean \"delay\"?",
        ),
        ("SELECT id FROM sailing LIMIT 1.5", "LIMIT is not a whole number"),
        ("UPDATE sailing SET id = 1", "expected a SELECT statement; a query only reads"),
        (
            "SELECT id FROM sailing FOR UPDATE",
            "column 28 of the statement: found UPDATE behind the statement, expected its end",
        ),
        (
            "SELECT TOP 3 id FROM sailing",
            "column 12 of the statement: found 3 behind the statement",
        ),
        (
            "SELECT id, FROM sailing",
            "column 12 of the statement: found the keyword FROM, expected an expression",
        ),
        (
            "SELECT id FROM sailing WHERE",
            "column 29 of the statement: the statement ends here, expected an expression",
        ),
        ("SELECT id FROM sailing WHERE (id = 1", "the statement ends here, expected )"),
        (
            "SELECT group FROM sailing",
            "found the keyword group, expected an expression; if it is a name, put it in double quotes: \"group\"",
        ),
        ("SELECT 12ab FROM sailing", "column 8 of the statement: \"12ab\" is not a number"),
        (
            "SELECT id FROM sailing WHERE id = 1 ^ 2",
            "column 37 of the statement: found '^', which is no part of SQL",
        ),
        (
            "SELECT X'4' FROM sailing",
            "this is no blob; it has two hexadecimal digits for each byte",
        ),
        ("SELECT X'41' FROM sailing", "the blob X'41' is not supported"),
        (
            "SELECT id FROM sailing WHERE (id, delay) = (1, 2, 3)",
            "column 44 of the statement: a row of 2 values is compared with one of 3",
        ),
        ("SELECT id FROM sailing WHERE (id, delay) < 3", "is compared with a single one"),
        (
            "SELECT (id, delay) FROM sailing",
            "column 8 of the statement: a row of values cannot stand",
        ),
        (
            "SELECT id FROM sailing WHERE (id, delay) NOT IN (SELECT id, delay FROM sailing)",
            "let it stand alone or behind AND in WHERE, or write EXISTS",
        ),
        (
            "SELECT id FROM sailing WHERE departs_at < CURRENT_TIMESTAMP",
            "the current time is not known here",
        ),
        ("SELECT id FROM json_tree('[1]')", "json_tree() cannot stand in FROM; write json_each(…)"),
        (
            "SELECT id FROM json_each('[1]')",
            "json_each() \"json_each\" has no column \"id\"; known are \"key\", \"value\"",
        ),
        (
            "SELECT e.key FROM sailing AS s, vessel AS v, json_each(s.status || v.name) AS e",
            "column 46 of the statement: json_each() reads more than one table around it",
        ),
        (
            "SELECT e.key FROM sailing AS s RIGHT JOIN json_each(s.status) AS e ON 1",
            "write LEFT JOIN json_each(…)",
        ),
        ("SELECT key FROM json_each()", "json_each() takes a JSON value, and perhaps a path"),
        (
            "SELECT id FROM sailing WINDOW w AS (ORDER BY id)",
            "column 31 of the statement: the window \"w\" is not used",
        ),
        ("SELECT lower(*) FROM sailing", "\"*\" is no argument of lower()"),
        ("SELECT v.* FROM sailing", "the statement reads no table \"v\""),
    ];
    for (sql, wanted) in cases {
        let error = cache().query(sql, ()).map(|query| query.read()).expect_err(sql);
        assert!(error.to_string().contains(wanted), "{sql}: {error}\nshould say: {wanted}");
        assert!(
            matches!(error.kind(), ErrorKind::Sql | ErrorKind::UnknownName | ErrorKind::Parameter),
            "{error:?}"
        );
    }
    let deep = format!("SELECT {}id{} FROM sailing", "(".repeat(900), ")".repeat(900));
    assert!(cache().query(&deep, ()).unwrap_err().to_string().contains("nests deeper than"));
    let wide = format!("SELECT id{} AS n FROM sailing", " + id".repeat(500));
    let cache = cache();
    let wide = cache.query(&wide, ()).unwrap();
    cache.commit("one", |tx| tx.insert("sailing", [("id", 2)])).unwrap();
    assert_eq!(wide.read().unwrap().row(0).unwrap().values(), [Value::Int(1002)]);
    let long = format!("SELECT id{} FROM sailing", " + id".repeat(50_000));
    assert!(cache.query(&long, ()).unwrap_err().to_string().contains("more than 500 operators"));
}

/// Names in every way that SQL lets them be written, and what results call their columns.
#[test]
fn names_are_taken_as_sql_takes_them() {
    let cache = cache();
    let fields = [
        ("id", Value::from(1)),
        ("status", "late".into()),
        ("a b", "x".into()),
        ("vessel", "Marram".into()),
    ];
    cache.commit("one", |tx| tx.insert("sailing", fields)).unwrap();
    let cases: [(&str, &[&str], &[Value]); 13] = [
        ("select ID, Status from SAILING", &["id", "status"], &[1.into(), "late".into()]),
        (
            r#"SELECT "a b", [a b], `a b` FROM "sailing""#,
            &["a b", "a b", "a b"],
            &["x".into(), "x".into(), "x".into()],
        ),
        (
            "SELECT s.id AS n, s.vessel FROM sailing AS s WHERE n = 1",
            &["n", "vessel"],
            &[1.into(), "Marram".into()],
        ),
        (
            "SELECT * FROM sailing s",
            &["id", "status", "departs_at", "delay", "a b", "paid", "vessel"],
            &[
                1.into(),
                "late".into(),
                Value::Null,
                Value::Null,
                "x".into(),
                Value::Null,
                "Marram".into(),
            ],
        ),
        (
            "SELECT s.* FROM sailing s LIMIT 1, 1",
            &["id", "status", "departs_at", "delay", "a b", "paid", "vessel"],
            &[],
        ),
        ("SELECT count(*), count() FROM sailing", &["count(*)", "count()"], &[1.into(), 1.into()]),
        (
            "SELECT status AS k, count(*) AS n FROM sailing GROUP BY k HAVING n > 0 ORDER BY n",
            &["k", "n"],
            &["late".into(), 1.into()],
        ),
        (
            "SELECT upper(status), count(*) FROM sailing GROUP BY 1",
            &["upper(status)", "count(*)"],
            &["LATE".into(), 1.into()],
        ),
        (
            "WITH w AS (SELECT id, id + 1 FROM sailing) SELECT count(*), max(id) + 1, id IS NOT DISTINCT FROM 1 AS one FROM w GROUP BY id",
            &["count(*)", "max(id) + 1", "one"],
            &[1.into(), 2.into(), 1.into()],
        ),
        (
            "WITH a AS (SELECT id FROM sailing), b AS (SELECT id, status FROM sailing) SELECT ALL id + 1, (SELECT max(id) FROM b) FROM a UNION ALL SELECT id, id FROM a",
            &["id + 1", "(SELECT max(id) FROM b)"],
            &[2.into(), 1.into()],
        ),
        (
            "SELECT *, b.id FROM (SELECT id, status FROM sailing) AS a NATURAL LEFT JOIN (SELECT id, delay FROM sailing) AS b WHERE id = 1",
            &["id", "status", "delay", "id"],
            &[1.into(), "late".into(), Value::Null, 1.into()],
        ),
        (
            "SELECT b.*, id FROM sailing JOIN (SELECT id, count(*) AS n FROM sailing GROUP BY id) AS b USING (\"ID\")",
            &["id", "n", "id"],
            &[1.into(), 1.into(), 1.into()],
        ),
        ("SELECT id -- the number\n FROM sailing /* all */ ;", &["id"], &[1.into()]),
    ];
    for (sql, columns, values) in cases {
        let result = cache.query(sql, ()).unwrap().read().unwrap();
        assert_eq!(result.columns().collect::<Vec<_>>(), columns, "{sql}");
        assert_eq!(
            result.row(0).map(|row| row.values().to_vec()).unwrap_or_default(),
            values,
            "{sql}"
        );
    }
}

#[test]
fn parameters_must_be_those_that_the_statement_has() {
    let cache = cache();
    let sql = "SELECT id FROM sailing WHERE id = :id AND departs_at > :since LIMIT :n";
    let ask = |params: Vec<(&str, Value)>| {
        cache.query(sql, params.into_iter().collect::<backwater::Named>())
    };
    let reported = |params| ask(params).unwrap_err().to_string();
    assert!(reported(vec![("id", 1.into())]).contains(
        "parameter :since has no value; the statement's parameters are \"id\", \"since\" and \"n\""
    ));
    assert!(
        reported(vec![("ID", 1.into())])
            .contains("the statement has no parameter :ID; did you mean \"id\"?")
    );
    let full =
        |n: Value| vec![("id", 1.into()), ("since", "2031-05-04T07:40+02:00".into()), ("n", n)];
    assert!(reported(full("many".into())).contains("LIMIT is not a whole number"));
    assert!(
        reported(full(f64::INFINITY.into()))
            .contains("parameter :n is inf, expected a finite number")
    );
    cache
        .commit("one", |tx| {
            tx.insert(
                "sailing",
                [("id", Value::from(1)), ("departs_at", "2031-05-04T05:41:00Z".into())],
            )
        })
        .unwrap();
    assert_eq!(
        ask(full(5.into())).unwrap().read().unwrap().len(),
        1,
        "a text is read as the time that it is compared with"
    );
    assert_eq!(ask(full("2".into())).unwrap().read().unwrap().len(), 1, "as SQL has it");
    // One that stands in what is not used is one, too.
    let unused = "WITH late AS (SELECT id FROM sailing WHERE id > :after) SELECT id FROM sailing";
    assert_eq!(cache.query(unused, [("after", 3)]).unwrap().read().unwrap().len(), 1);
    let error = cache.query(unused, ()).unwrap_err().to_string();
    assert!(error.contains("parameter :after has no value"), "{error}");
}

/// Every slip of a schema has its place, what was expected, and the nearest known name.
#[test]
fn problems_of_a_schema_have_their_places() {
    let cases = [
        (
            "[table.a]\nid = 'x'\nfields = { x = 'json' }",
            "s:2:6: the id \"x\" is neither int nor text",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = { type = 'int', persist = false } }",
            "s:2:6: the id \"x\" must persist",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = { type = 'int', to = 'a' } }",
            "s:3:37: a field has a `type` or is a link, not both",
        ),
        ("[table.a]\nid = 'x'\nfields = { x = {} }", "s:3:16: field \"x\" says no type"),
        (
            "[table.a]\nid = 'x'\nfields = { x = { type = 'int', unit = 'seconds' } }",
            "s:3:39: \"x\" is not a timestamp; leave out `unit`",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to = ['a'], required = true, other_types = 'skip' } }",
            "s:3:72: \"y\" is required, and cannot be set null; use \"error\"",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to_many = 'a', fields = { z = 'int' } } }",
            "s:3:53: the fields of a link are members beside its target; say where in each entry the target is",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to_many = 'a', record = '/a', fields = { z = { to = 'a', by = 'z' } } } }",
            "s:3:70: \"z\" of a link's own fields is a link itself",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to_many = 'a', record = '/a', fields = { Position = 'int' } } }",
            "s:3:70: fields \"position\" and \"Position\" are one name in SQL",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { type = 'int', from = '/z/y' }, z = 'text' }",
            "s:3:23: \"y\" is inside of /z, where \"z\" has a plain value: no object has both; correct one of the places",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to = 'a' } }\n[response.r]\ntable = 'a'\nfields = { y = 'seven' }",
            "rule \"r\", field \"y\": seven is no id of \"a\"; its ids are whole numbers",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int' }\n[response.r]\ntable = 'a'\ndeletes = { '/action' = [] }",
            "s:6:25: no value says that the records are deleted",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int' }\n[response.r]\ntable = 'a'\nurl = '/a/{x}'\n[response.s]\ntable = 'a'\nurl = '/a/{y}'",
            "rules \"r\" and \"s\" are both for GET /a/{y}",
        ),
        (
            "[table.a]\nid = 'x'\nunique = ['y', 'z']\nfields = { x = 'int', y = 'int' }",
            "s:3:16: table \"a\" has no field \"z\"",
        ),
        (
            "[table.a]\nid = 'x'\nunique = 'y'\nfields = { x = 'int', y = 'json' }",
            "s:3:10: \"y\" is neither int nor text nor a link to one table",
        ),
        (
            "[table.a]\nid = 'x'\nunique = 'x'\nfields = { x = 'int', y = 'int' }",
            "s:3:10: the fields of the id are unique already; leave out this key",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to = 'a', by = 'z' }, z = 'int' }",
            "s:3:44: \"z\" is no unique key of table \"a\"; add `unique = \"z\"` to [table.a]",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to = 'a', by = 'x' } }",
            "s:3:44: \"x\" is no unique key of table \"a\"; leave out `by`",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to = 'a', by = 'y' } }",
            "s:3:44: \"y\" is itself a link whose key this one is",
        ),
        (
            "[table.a]\nid = 'x'\nunique = ['y', 'z']\nfields = { x = 'int', y = 'int', z = 'int' }\n[table.b]\nid = 'x'\nfields = { x = 'int', y = 'text', a = { to = 'a', by = 'z' } }",
            "s:7:56: the key of \"a\" has a field \"y\", and table \"b\" none of that name and type; add the field \"y\" to [table.b.fields]",
        ),
        (
            "[table.a]\nid = 'x'\nunique = 'y'\nfields = { x = 'int', y = { to = 'a', by = 'y' } }",
            "s:4:44: \"y\" is itself a link whose key this one is; let one of them be a plain field",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = { type = 'int', from = [] } }",
            "s:3:39: the field is nowhere, or in too many places",
        ),
        (
            "table.a = { id = 'x', fields = { x = 'int' } }\nresponse.r = { table = 'a', url = [] }",
            "s:2:35: no URL; name one",
        ),
        (
            "table.a = { id = 'x', fields = { x = 'int' } }\nresponse.r = { table = 'a', url = ['/{p}', '/q'], list = 'l' }",
            "s:2:35: a list is identified by its variables, and these URLs have different ones",
        ),
        (
            "table.a = { id = 'x', fields = { x = 'int' } }\nresponse.r = { table = 'a', url = ['/{p}', '/q'], fields = { x = ':p' } }",
            "s:2:66: the `url` has no variable \"p\"",
        ),
        (
            "table.a = { id = 'x', fields = { x = 'int' } }\nresponse.r = { table = 'a', fields = { x = {} } }",
            "s:2:44: it does not say where the value stands",
        ),
        (
            "table.a = { id = 'x', fields = { x = 'int' } }\nresponse.r = { table = 'a', complete = { x = { from = '/x' } } }",
            "s:2:46: found a table, expected a value or \":VARIABLE\"",
        ),
        (
            "table.a = { id = 'x', fields = { x = 'int' } }\nresponse.r = { beside.a = '', deletes = { '/x' = 'y' } }",
            "s:2:14: rule \"r\" says `deletes`, but no table for its records",
        ),
        (
            "table.a = { id = 'x', fields = { x = 'int' } }\nresponse.r = { beside.a = { at = '', type_member = 'y' } }",
            "s:2:52: it names a member, but no type",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 3 }",
            "s:3:16: found an integer, expected a type such as \"text\"",
        ),
        (
            "[table.a]\nid = 'x'\none_row = true\nfields = { x = 'int' }",
            "s:2:6: a one-row table needs no id",
        ),
        ("[table.a]\nid = []\nfields = { x = 'int' }", "s:2:6: the id has no parts"),
        ("[table.a]\nid = ['x', 'x']\nfields = { x = 'int' }", "s:2:12: the id names \"x\" twice"),
        (
            "[table.a]\nid = 'x'\nfields = { x = { to = 'a' } }",
            "s:2:6: the id \"x\" is neither int nor text; a link can only be one of several parts",
        ),
        (
            "[table.a]\nid = ['x', 'n']\nfields = { x = { to = 'a' }, n = 'int' }",
            "s:1:1: the id of table \"a\" is part of itself",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { type = 'int', on_delete = 'cascade' } }",
            "s:3:55: \"y\" is not a link; leave out `on_delete`",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to = 'a', on_delete = 'casade' } }",
            "s:3:51: there is no `on_delete` \"casade\"; expected \"keep\", \"cascade\"",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to = 'a', on_delete = 'set null', required = true } }",
            "s:3:51: \"y\" is required, and cannot be set null",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to_many = 'a', on_delete = 'set null' } }",
            "s:3:27: an entry of a to-many link cannot be set null",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to_many = 'a' } }\n[table.a_y]\nid = 'x'\nfields.x = 'int'",
            "s:3:27: the link table \"a_y\" has the name of table \"a_y\"; give it another one with `link_table",
        ),
        (
            "[table.backwater]\nid = 'x'\nfields = { x = 'int', y = { to_many = 'backwater' } }",
            "s:3:27: table names that begin with \"backwater_\" are reserved",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int' }\n[response.r]\ntable = 'a'\nlist = 'sqlite_list'",
            "s:6:8: table names that begin with \"sqlite_\" are reserved",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int' }\n[response.r]\ntable = 'a'\nurl = '/a{?p}'\nlist = 'a'\npart = 'q'",
            "s:7:8: the list \"a\" is a table of another form already",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int' }\n[response.r]\ntable = 'a'\nurl = '/a{?p}'\nfields = { x = ':q' }",
            "s:7:16: the `url` has no variable \"q\"; did you mean \"p\"?",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int' }\n[response.r]\ntable = 'a'\nbeside.a.x = '/n'",
            "\"a\" is not a one-row table; say where its rows are: a = \"/POINTER\"",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int' }\n[response.r]\nbeside.a = '/n'\nlist = 'l'",
            "rule \"r\" says `list`, but no table for its records; add `table = \"TABLE\"`",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int' }\n[response.r]\ntable = 'a'\nurl = '/{'",
            "s:6:7: a \"{\" is not closed; write it as",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to = ['a', 'b'] } }",
            "s:3:40: there is no table \"b\"",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { to = ['a'], type_field = 'x' } }",
            "s:3:27: \"x\" says at which table a link points; make it a text",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = { type = 'int', values = ['a'] } }",
            "s:3:42: found a string, expected a whole number",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', y = { type = 'bool', values = [true] } }",
            "\"y\" is neither int nor text",
        ),
        (
            "[table.a]\nid = 'x'\nnames = 'camlCase'\nfields = { x = 'int' }",
            "s:3:9: there is no `names` \"camlCase\"; expected \"camelCase\", \"PascalCase\", \"snake_case\" or \"kebab-case\"; did you mean \"camelCase\"?",
        ),
        (
            "[table.a]\nid = 'x'\nunknown = { keep = 'x' }\nfields = { x = 'int' }",
            "s:3:20: \"x\" is not of type json",
        ),
        (
            "[table.a]\nid = 'x'\nversion = 'y'\nfields = { x = 'int', y = 'bool' }",
            "s:3:11: the version \"y\" has no order",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = { type = 'int', from = '/a~2' } }",
            "s:3:39: in a JSON Pointer \"~\" is written",
        ),
        (
            "[table.a]\nid = 3\nfields = { x = 'int' }",
            "s:2:6: found an integer, expected the name of the field",
        ),
        (
            "[table.a]\nid='x'\nfields={x='int'}\n[response.a]\ntable='a'\ncomplete = {}",
            "s:6:12: `complete` names no field; write `complete = true` for all rows",
        ),
        (
            "[table.a]\nid='x'\nfields={x='int', n={type='text', values=['p', 'q']}, w='timestamp'}\n[response.a]\ntable='a'\nfields={n='r'}",
            "s:6:11: field \"n\" cannot hold \"r\", expected \"p\" or \"q\"",
        ),
        (
            "[table.a]\nid='x'\nfields={x='int', w='timestamp'}\n[response.a]\ntable='a'\ncomplete={w='soon'}",
            "s:6:13: field \"w\" cannot hold \"soon\", expected a time as in RFC 3339",
        ),
        (
            "[table.a]\nid='x'\nfields={x='int'}\n[response.a]\ntable='a'\nmethod='DELETE'\nurl='/a/{no}'\ndeletes=true",
            "s:8:9: rule \"a\" does not say which row is deleted; give the id, or a unique key, from the request",
        ),
        (
            "[table.a]\nid = 'x'",
            "s:1:1: table \"a\" has no fields; list them under [table.a.fields]",
        ),
        (
            "[table.a]\nid = 'x'\nfields = { x = 'int', X = 'int' }",
            "s:3:23: fields \"x\" and \"X\" are one name in SQL",
        ),
        (
            "[table.a]\nid='x'\nfields={x='int'}\n[table.A]\nid='x'\nfields={x='int'}",
            "s:4:8: tables \"a\" and \"A\" are one name in SQL",
        ),
        (
            "[table.backwater_x]\nid='x'\nfields={x='int'}",
            "s:1:8: table names that begin with \"backwater_\" are reserved",
        ),
        (
            "[table.sqlite_x]\nid='x'\nfields={x='int'}",
            "s:1:8: table names that begin with \"sqlite_\" are reserved",
        ),
        ("table = 3", "s:1:9: found an integer, expected a table [table.NAME]"),
        ("[respons.x]", "s:1:2: a schema has no \"respons\"; did you mean \"response\"?"),
        (
            "[response.x]\nrecords = '/a~2'\ntable = 'b'",
            "s:2:11: in a JSON Pointer \"~\" is written \"~0\"",
        ),
        (
            "[response.x]\nrecords = ''",
            "s:1:1: rule \"x\" does not say which table its records go to",
        ),
        ("[query]\nx = 3", "s:2:5: found an integer, expected an SQL statement in a string"),
        ("a = ", "s:1:5: this is not TOML"),
        ("a = 1\na = 2", "s:2:1: this is not TOML: duplicate key"),
        ("[query]\nx = 'SELECT id FROM boat'", "s:2:21: query \"x\": there is no table \"boat\""),
        (
            "[query]\nx = \"SELECT\\tid FROM boat\"",
            "s:2:5: query \"x\": there is no table \"boat\"",
        ),
    ];
    for (text, wanted) in cases {
        let error = Schema::parse("s", text).and_then(|schema| schema.check()).expect_err(text);
        assert!(error.to_string().contains(wanted), "{text}\n{error}\nshould say: {wanted}");
        assert_eq!(error.kind(), ErrorKind::Schema);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// A schema with bytes changed, cut or put in: taken, or problems that lie inside of it.
    #[test]
    fn any_text_is_a_schema_or_has_problems_in_it(at in 0..2500_usize, len in 0..30_usize, put in "[a-z=\\[\\]{}\"'\\\\ .\n\0é]{0,12}") {
        let whole = include_str!("../../../../demo/backwater.toml");
        let start = (at..).find(|at| *at >= whole.len() || whole.is_char_boundary(*at)).unwrap().min(whole.len());
        let end = (start + len..).find(|at| *at >= whole.len() || whole.is_char_boundary(*at)).unwrap().min(whole.len());
        let text = format!("{}{put}{}", &whole[..start], &whole[end..]);
        match Schema::parse("s", &text).and_then(|schema| schema.check().map(|()| schema)) {
            Ok(schema) => prop_assert_eq!(schema.text(), text),
            Err(error) => for problem in error.all() {
                let mut place = problem.place().split(':').skip(1).map(|part| part.trim().parse::<usize>());
                let (line, column) = (place.next().unwrap().unwrap(), place.next().unwrap().unwrap());
                let lines: Vec<&str> = text.split('\n').collect();
                prop_assert!(line <= lines.len() && column <= lines[line - 1].chars().count() + 1, "{}", problem);
            },
        }
    }

    /// Any text at all is a statement, or is refused; nothing panics.
    #[test]
    fn any_text_is_a_statement_or_is_refused(
        words in prop::collection::vec(prop::sample::select(vec![
            "SELECT", "FROM", "sailing", "id", "WHERE", "GROUP BY", "ORDER BY", "LIMIT", "(", ")", ",", "*", "count(", "1",
            "'a'", ":p", "=", "AND", "NOT", "IN", "BETWEEN", "CASE", "WHEN", "THEN", "END", "AS", "IS", "NULL", "-", "||",
            "LIKE", "DESC", ".", ";", "\"", "'", "--", "[", "é", "\0", "HAVING", "min(", "status",
        ]), 0..25),
    ) {
        let sql = format!("SELECT {}", words.join(" "));
        if let Err(error) = cache().query(&sql, [("p", 1)]) {
            prop_assert!(matches!(error.kind(), ErrorKind::Sql | ErrorKind::UnknownName | ErrorKind::Parameter), "{error:?}");
            prop_assert!(!error.to_string().is_empty());
        }
    }
}

/// Statements that read statements cost as much as there are of them, however often each is read:
/// to define, to explain, to keep true and to say what is missing.
#[test]
fn statements_over_statements_stay_small() {
    let schema = |queries: &str| {
        let text =
            format!("table.t = {{ id = 'id', fields = {{ id = 'int', k = 'int' }} }}\n{queries}");
        let schema = Schema::parse("s.toml", &text).unwrap();
        schema.check().unwrap();
        schema
    };
    let works = |schema: Schema, statement: &str| {
        let explained = schema.explain(statement).unwrap().to_string();
        assert!(explained.len() < 4_000_000, "{} letters of a plan", explained.len());
        let cache = Cache::new(schema);
        let query = cache.query(statement, ()).unwrap();
        let _kept = query.keep_current();
        for id in 0..3 {
            cache.commit("one more", |tx| tx.insert("t", [("id", id), ("k", 0)])).unwrap();
        }
        assert_eq!(query.read().unwrap().len(), 1, "{statement}");
        assert_eq!(query.missing(9).unwrap().count, 0);
    };
    // Groupings nested in FROM, as deep as a statement may be.
    let mut nested = "SELECT k, count(*) AS n FROM t GROUP BY k".to_owned();
    for level in 0..39 {
        nested = format!("SELECT k, count(*) AS n FROM ({nested}) AS g{level} GROUP BY k");
    }
    works(schema(""), &nested);
    // Named queries that read each other in a row.
    let mut chain = "query.q0 = 'SELECT k, count(*) AS n FROM t GROUP BY k'\n".to_owned();
    for number in 1..200 {
        chain +=
            &format!("query.q{number} = 'SELECT k, sum(n) AS n FROM q{} GROUP BY k'\n", number - 1);
    }
    works(schema(&chain), "SELECT k, n FROM q199");
    // Each is read twice by the next, and by the one behind that.
    for reads in ["JOIN q{a} AS b ON b.k = a.k", "JOIN q{b} AS b ON b.k = a.k"] {
        let mut twice = "query.q0 = 'SELECT k, count(*) AS n FROM t GROUP BY k'\nquery.q1 = 'SELECT k, n FROM q0'\n".to_owned();
        for number in 2..60 {
            let reads = reads
                .replace("{a}", &(number - 1).to_string())
                .replace("{b}", &(number - 2).to_string());
            twice += &format!(
                "query.q{number} = 'SELECT a.k, count(*) AS n FROM q{} AS a {reads} GROUP BY a.k'\n",
                number - 1
            );
        }
        works(schema(&twice), "SELECT k, n FROM q59");
    }
}
