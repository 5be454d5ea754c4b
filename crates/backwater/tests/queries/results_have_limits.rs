//! A result is limited, can be given up while it is computed, and holds up no commit meanwhile.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use backwater::{Cache, ErrorKind, Query, Schema, Stop, Transaction, Value};

fn cache(limits: &str, rows: i64) -> Cache {
    let tables = "table.t = { id = 'id', fields = { id = 'int', n = 'int', word = 'text' } }";
    let cache = Cache::new(Schema::parse("test.toml", &format!("{limits}\n{tables}")).unwrap());
    let filled = cache.commit("filled", |tx| {
        (0..rows).try_for_each(|id| {
            tx.insert("t", [("id", Value::from(id)), ("n", (id % 7).into()), ("word", "ab".into())])
        })
    });
    filled.unwrap();
    cache
}

fn message(query: &Query) -> String {
    let error = query.read().unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Result);
    error.to_string()
}

/// Each limit is an error that names it, at the bound and not before, from nothing and by a commit,
/// and ends with what went beyond it.
#[test]
fn results_have_limits() {
    let limited = cache("limits = { result_rows = 100, text_bytes = 50 }", 10);
    let add = |id: i64| {
        limited
            .commit("one more", |tx| tx.insert("t", [("id", Value::from(id)), ("n", id.into())]))
            .unwrap();
    };
    let statements = [
        "SELECT a.id, b.id FROM t AS a, t AS b",
        "SELECT a.id, b.id FROM t AS a, t AS b ORDER BY a.n + b.n, b.id DESC",
        "SELECT a.id, b.id, count(*) FROM t AS a, t AS b GROUP BY a.id, b.id",
        "SELECT g.id, h.id FROM (SELECT DISTINCT id FROM t) AS g, (SELECT DISTINCT id FROM t) AS h",
        "SELECT id FROM t UNION ALL SELECT b.id FROM (SELECT a.id FROM t AS a, t AS b WHERE a.id < 9) AS b",
    ];
    for kept_up in [true, false] {
        let queries = statements.map(|sql| limited.query(sql, ()).unwrap());
        let count = limited.query("SELECT count(*) AS n FROM t AS a, t AS b", ()).unwrap();
        let _kept: Vec<_> =
            queries.iter().chain([&count]).filter(|_| kept_up).map(Query::keep_current).collect();
        queries
            .iter()
            .for_each(|query| assert_eq!(query.read().unwrap().len(), 100, "{}", query.name()));
        add(100);
        for query in &queries {
            assert!(message(query).contains("more than 100 rows"), "{}", message(query));
            assert!(message(query).contains("limits.result_rows"));
        }
        assert_eq!(count.read().unwrap().row(0).unwrap().values(), [Value::Int(121)]);
        limited.commit("one less", |tx| tx.delete("t", 100).map(drop)).unwrap();
        queries
            .iter()
            .for_each(|query| assert_eq!(query.read().unwrap().len(), 100, "{}", query.name()));
    }
    for (text, fits) in [
        ("replace(word, 'b', :long)", "word"),
        ("hex(:long)", "hex(word)"),
        ("concat_ws(:long, word, word)", "concat_ws(word, word)"),
        ("json_array(:long, :long)", "json_array(word)"),
    ] {
        let long = "x".repeat(50);
        for sql in [
            format!("SELECT {text} AS text FROM t"),
            format!("SELECT id FROM t WHERE length({text} || '') > 1"),
            format!("SELECT {text} AS text, count(*) FROM t GROUP BY word"),
            format!("SELECT max({text}) FROM t"),
        ] {
            let query = limited.query(&sql, [("long", long.as_str())]).unwrap();
            assert!(message(&query).contains("longer than 50 bytes"), "{sql}: {}", message(&query));
            let sql = sql.replace(text, fits);
            assert!(limited.query(&sql, ()).unwrap().read().is_ok(), "{sql}");
        }
    }
    let words =
        limited.query("SELECT group_concat(word, '') AS words FROM t WHERE id < 25", ()).unwrap();
    let _kept_up = words.keep_current();
    assert!(words.read().is_ok());
    let long = |word: &str| {
        limited.commit("a long one", |tx| tx.update("t", 1, [("word", word)])).unwrap()
    };
    long(&"y".repeat(40));
    assert!(message(&words).contains("longer than 50 bytes"));
    long("ab");
    assert!(words.read().is_ok());

    // Not where it is computed once for a binding either: a million times a million bytes fit
    // nowhere.
    let (long, endless) = ("x".repeat(1_000_000), cache("", 3));
    for sql in [
        "SELECT id FROM t WHERE n < length(replace(:long, 'x', :long))",
        "SELECT id FROM t WHERE n IN (1, length(replace(:long, 'x', :long)))",
        "SELECT id, replace(:long, 'x', :long) AS text FROM t",
    ] {
        let query = endless.query(sql, [("long", long.as_str())]).unwrap();
        let _kept_up = query.keep_current();
        assert!(
            message(&query).contains("longer than 1000000000 bytes"),
            "{sql}: {}",
            message(&query)
        );
        endless.commit("one more", |tx| tx.merge("t", [("id", 3), ("n", 1)])).unwrap();
        assert!(query.read().is_err(), "{sql}");
    }
    let window = "SELECT id FROM t LIMIT length(replace(:long, 'x', :long))";
    let error = endless.query(window, [("long", long.as_str())]).unwrap_err();
    assert!(error.to_string().contains("LIMIT is not a whole number"), "{error}");

    // Of what a LIMIT leaves out, nothing is kept.
    let pages = cache("limits.result_rows = 1000", 40);
    let first =
        pages.query("SELECT b.id FROM t AS a, t AS b ORDER BY b.id, a.id LIMIT 3 OFFSET 39", ());
    let first = first.unwrap().read().unwrap();
    let first: Vec<_> = first.rows().map(|row| row.values()[0].clone()).collect();
    assert_eq!(first, [0, 1, 1].map(Value::from));

    let bytes = cache("limits.result_bytes = 10_000", 1000);
    let all = bytes.query("SELECT a.id, b.id FROM t AS a, t AS b", ()).unwrap();
    assert!(message(&all).contains("limits.result_bytes"), "{}", message(&all));
}

/// Commits go on while a join of ten thousand million pairs is computed, which would take for ever,
/// until it is cancelled; then nothing of it is left.
#[test]
fn what_takes_for_ever_is_stopped_and_holds_up_nothing() {
    let cache = cache("", 12_000);
    let count = "SELECT count(*) AS n FROM t AS a, t AS b, t AS c WHERE a.n + b.n + c.n > :n";
    let (stop, is_over) = (Stop::new(), AtomicBool::new(false));
    let known = cache.query("SELECT count(*) AS n FROM t WHERE n > :n", [("n", 0)]).unwrap();
    thread::scope(|scope| {
        let defined = scope.spawn(|| {
            let defined = stop.during(|| cache.query(count, [("n", 3)]));
            is_over.store(true, Ordering::SeqCst);
            defined.map(drop)
        });
        for id in 0..200 {
            cache.commit("a delay", |tx| tx.update("t", id, [("n", 9)])).unwrap();
            known.read().unwrap();
            thread::sleep(Duration::from_millis(1));
        }
        assert!(!is_over.load(Ordering::SeqCst), "commits were made while it was computed");
        stop.stop();
        assert_eq!(defined.join().unwrap().unwrap_err().kind(), ErrorKind::Stopped);
    });
    let report = cache.commit("a delay", |tx| tx.update("t", 1, [("n", 1)])).unwrap();
    assert_eq!(report.reached().count(), 1, "nothing of what was stopped is left");
}

/// The same of a statement over the results of others, which commits change meanwhile: it follows
/// them, as it is defined and as it is given other values.
#[test]
fn statements_over_statements_hold_up_nothing_and_follow() {
    let cache = cache("", 12_000);
    let sql = "SELECT count(*) AS n, sum(a.n + c.n) AS s FROM (SELECT id, n FROM t WHERE n < :k GROUP BY id, n) AS a \
        JOIN t AS c ON c.id = a.id WHERE a.n + c.n > :k - 3";
    let made = AtomicI64::new(0);
    let while_commits_go_on = |work: &(dyn Fn() + Sync)| {
        let (done, before) = (AtomicBool::new(false), made.load(Ordering::SeqCst));
        thread::scope(|scope| {
            scope.spawn(|| {
                work();
                done.store(true, Ordering::SeqCst);
            });
            while !done.load(Ordering::SeqCst) {
                let made = made.fetch_add(1, Ordering::SeqCst);
                let commit = |tx: &mut Transaction| {
                    tx.update("t", made % 100, [("n", made % 11)])?;
                    tx.delete("t", 11_999 - made % 50)?;
                    let id = Value::from(20_000 + made % 70);
                    tx.merge("t", [("id", id), ("n", (made % 5).into())])
                };
                cache.commit("a delay", commit).unwrap();
            }
        });
        let made = made.load(Ordering::SeqCst) - before;
        assert!(made > 2, "{made} commits were made while it was computed");
    };
    let rows = |query: &Query| query.read().unwrap().row(0).unwrap().values().to_vec();
    let again = |k: i64| cache.query(&format!("{sql} AND 1 = 1"), [("k", k)]).unwrap();
    let defined = OnceLock::new();
    while_commits_go_on(&|| drop(defined.set(cache.query(sql, [("k", 5)]).unwrap())));
    let defined = defined.into_inner().unwrap();
    assert_eq!(rows(&defined), rows(&again(5)));
    while_commits_go_on(&|| drop(cache.rebind("others", &defined, [("k", 6)]).unwrap()));
    assert_eq!(rows(&defined), rows(&again(6)));
    let _kept_up = defined.keep_current();
    cache.commit("a delay", |tx| tx.update("t", 7, [("n", 1)])).unwrap();
    assert_eq!(rows(&defined), rows(&again(6)));
}

/// Statements are read through others as deep as is allowed, on the stack that a thread has; what is
/// deeper is refused.
#[test]
fn statements_nest_as_deep_as_they_may() {
    let with = |levels: usize| {
        let names = (1..levels).map(|level| {
            let before = level - 1;
            format!(", w{level} AS (SELECT id, n FROM w{before} GROUP BY id, n)")
        });
        let names: String = names.collect();
        let last = levels - 1;
        format!(
            "WITH w0 AS (SELECT id, n FROM t WHERE n < :k GROUP BY id, n){names} SELECT id FROM w{last} ORDER BY id"
        )
    };
    let compound = |operator: &str, parts: usize| {
        let more = format!("{operator}SELECT id FROM t").repeat(parts - 1);
        format!("SELECT id FROM t WHERE n < :k{more} ORDER BY id")
    };
    let works = |sql: &str| {
        let cache = cache("", 100);
        let query = cache.query(sql, [("k", 5)]).unwrap();
        let _watch = query.keep_current();
        let before = query.read().unwrap().len();
        cache.commit("more", |tx| tx.merge("t", [("id", 7_000), ("n", 1)])).unwrap();
        let after = query.read().unwrap().len();
        cache.rebind("others", &query, [("k", 4)]).unwrap();
        drop(query.missing(5).unwrap());
        (before, after)
    };
    let on_a_thread = move || {
        let (before, after) = works(&with(255));
        assert_eq!(after, before + 1);
        let (before, after) = works(&compound(" UNION ", 40));
        assert_eq!(after, before + 1);
        // Each of them reads those in front of it, through what puts them together.
        let (before, after) = works(&compound(" INTERSECT ", 30));
        assert_eq!(after, before + 1);
        for sql in [with(257), with(2_000), compound(" EXCEPT ", 2_000)] {
            let error = cache("", 1).query(&sql, [("k", 5)]).unwrap_err().to_string();
            assert!(
                error.contains("builds on more than 256 statements, one upon another"),
                "{error}"
            );
        }
    };
    thread::Builder::new().stack_size(2 << 20).spawn(on_a_thread).unwrap().join().unwrap();
}

/// Going over to other values, and catching up, can be stopped as well: the query is as it was.
#[test]
fn a_query_that_is_stopped_is_as_it_was() {
    let cache = cache("", 600);
    let sql = "SELECT count(*) AS n FROM t AS a, t AS b WHERE a.n + b.n > :n AND :all";
    let query = cache.query(sql, [("n", Value::from(3)), ("all", 0.into())]).unwrap();
    let inner = "SELECT sum(g.c) FROM (SELECT a.n + b.n AS k, count(*) AS c FROM t AS a, t AS b GROUP BY 1) AS g";
    let reader = cache.query(inner, ()).unwrap();
    let before = reader.read().unwrap();
    // More than is followed by deltas.
    let raised =
        cache.commit("all later", |tx| (0..600).try_for_each(|id| tx.update("t", id, [("n", 2)])));
    assert_eq!(raised.unwrap().changes().count(), 514);
    let stop = Stop::new();
    stop.stop();
    let began = Instant::now();
    for query in [&query, &reader] {
        let read = stop.during(|| query.read());
        assert!(read.is_ok() || read.unwrap_err().kind() == ErrorKind::Stopped);
    }
    let stopped = stop.during(|| reader.read());
    assert_eq!(stopped.unwrap_err().kind(), ErrorKind::Stopped);
    assert!(began.elapsed() < Duration::from_secs(60));
    assert_eq!(reader.read().unwrap().row(0).unwrap().values(), [Value::Int(600 * 600)]);
    assert_eq!(before.row(0).unwrap().values(), [Value::Int(600 * 600)]);
    assert_eq!(query.read().unwrap().row(0).unwrap().values(), [Value::Int(0)]);
    // A commit is never stopped.
    let kept_up = reader.keep_current();
    let report =
        stop.during(|| cache.commit("one less", |tx| tx.delete("t", 3).map(drop))).unwrap();
    assert!(report.delta(&reader).is_some(), "{}", report.why(&reader));
    drop(kept_up);
}
