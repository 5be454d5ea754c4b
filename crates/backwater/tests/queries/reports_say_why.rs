//! A report explains each query's outcome in words that a person can act on.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{
    Cache, DeltaKind, ErrorKind, Named, Outcome, Query, Report, Schema, Transaction, Value,
};

fn cache() -> Cache {
    let schema = r#"
        table.sailing = { id = "id", fields = { id = "int", port = "text", status = "text", delay_min = "int", cars = "int", note = "text" } }
        table.vessel = { id = "name", fields = { name = "text", cars = "int" } }
        table.board = { one_row = true, fields = { search = "text" } }
    "#;
    let cache = Cache::new(Schema::parse("test.toml", schema).unwrap());
    let sailings = [
        (1, "SAL", "on time", 0),
        (2, "SAL", "late", 9),
        (3, "NOR", "on time", 0),
        (4, "NOR", "late", 20),
    ];
    let load = cache.commit("loaded", |tx| {
        sailings.iter().try_for_each(|(id, port, status, delay)| {
            let fields =
                [("id", Value::from(*id)), ("port", (*port).into()), ("status", (*status).into())];
            tx.insert("sailing", fields)?;
            tx.update("sailing", *id, [("delay_min", *delay), ("cars", 10)])
        })
    });
    assert_eq!(load.unwrap().number(), 1);
    cache
}

fn why(
    cache: &Cache,
    query: &Query,
    write: impl FnOnce(&mut Transaction) -> Result<(), backwater::Error>,
) -> String {
    cache.commit("a change", write).unwrap().why(query)
}

#[test]
fn every_outcome_has_its_words() {
    let cache = cache();
    let late = cache
        .query(
            "SELECT id, delay_min FROM sailing WHERE delay_min > 5 ORDER BY delay_min DESC, id",
            (),
        )
        .unwrap();
    let of_port = "SELECT status, count(*) AS n FROM sailing WHERE port = :port GROUP BY status";
    let sal = cache.query(of_port, [("port", "SAL")]).unwrap();
    let count = cache.query("SELECT count(*) AS n FROM sailing", ()).unwrap();
    let _watches = [&late, &sal, &count].map(Query::keep_current);
    let set = |id: i64, field: &'static str, value: Value| {
        move |tx: &mut Transaction| tx.update("sailing", id, [(field, value)])
    };

    assert_eq!(
        why(&cache, &late, set(1, "delay_min", 7.into())),
        "maintained: 1 row entered, because sailing 1 changed delay_min"
    );
    assert_eq!(
        why(&cache, &late, set(1, "delay_min", 30.into())),
        "maintained: 1 row moved, because sailing 1 changed delay_min"
    );
    assert_eq!(
        why(&cache, &late, set(1, "delay_min", 31.into())),
        "maintained: 1 row changed, because sailing 1 changed delay_min"
    );
    assert_eq!(
        why(&cache, &late, set(1, "delay_min", 0.into())),
        "maintained: 1 row left, because sailing 1 changed delay_min"
    );
    assert_eq!(
        why(&cache, &late, set(3, "delay_min", 5.into())),
        "same: sailing 3 changed delay_min, but nothing in the result moved"
    );
    assert_eq!(
        why(&cache, &late, set(3, "delay_min", 4.into())),
        "same: sailing 3 changed delay_min, but nothing in the result moved"
    );
    assert_eq!(
        why(&cache, &late, set(3, "delay_min", 3.into())),
        "untouched: commit 8 changed no row of sailing that meets the query's conditions"
    );
    assert_eq!(
        why(&cache, &late, set(3, "note", "calm".into())),
        "untouched: commit 9 changed sailing.note; the query reads sailing.id and sailing.delay_min"
    );
    assert_eq!(
        why(&cache, &sal, set(3, "status", "late".into())),
        "untouched: commit 10 changed no row of sailing with port = SAL"
    );
    assert_eq!(
        why(&cache, &sal, set(3, "port", "SAL".into())),
        "maintained: 1 row changed, because sailing 3 changed port"
    );
    assert_eq!(
        why(&cache, &sal, |tx| tx.insert("vessel", [("name", "Marram")])),
        "untouched: commit 12 changed vessel; the query reads sailing"
    );
    assert_eq!(why(&cache, &sal, |_| Ok(())), "untouched: commit 13 changed nothing");
    assert_eq!(
        why(&cache, &count, |tx| tx.delete("sailing", 2).map(|_| ())),
        "maintained: 1 row changed, because sailing 2 was deleted"
    );
    assert_eq!(
        why(&cache, &count, set(1, "status", "gone".into())),
        "untouched: commit 15 changed sailing.status; the query reads only which rows sailing has"
    );
    let many =
        |tx: &mut Transaction| (10..19).try_for_each(|id| tx.insert("sailing", [("id", id)]));
    assert_eq!(
        why(&cache, &count, many),
        "maintained: 1 row changed, because sailing 10 was inserted, sailing 11 was inserted, sailing 12 was inserted, sailing 13 was inserted and 5 more"
    );
    let report = cache.commit("before", |tx| tx.delete("sailing", 10)).unwrap();
    let later = cache.query("SELECT max(id) FROM sailing", ()).unwrap();
    assert_eq!(
        report.why(&later),
        "untouched: the query was defined, or given its values, after commit 17"
    );
    let mixed = cache.commit("mixed", |tx| {
        tx.update("sailing", 4, [("delay_min", 1)])?;
        tx.update("sailing", 1, [("delay_min", 90)])?;
        tx.update("sailing", 3, [("delay_min", 80)])
    });
    assert_eq!(
        mixed.unwrap().why(&late),
        "maintained: 2 rows entered and 1 left, because sailing 1 changed delay_min, sailing 3 changed delay_min, sailing 4 changed delay_min"
    );
}

/// A sum that cannot be computed fails the statement that asks for it, and no other one.
#[test]
fn a_sum_that_is_not_asked_for_fails_nothing() {
    let cache = cache();
    let sums = "(SELECT port AS at, sum(cars) AS cars FROM sailing GROUP BY port)";
    let busy = "(SELECT port AS at FROM sailing GROUP BY port HAVING sum(cars) > 0)";
    let of = |port: &str| {
        let sql = format!("SELECT g.at, g.cars FROM {sums} AS g WHERE g.at = '{port}'");
        let having = format!(
            "SELECT s.id FROM sailing AS s JOIN {busy} AS g ON g.at = s.port WHERE s.port = '{port}'"
        );
        [sql, having].map(|sql| cache.query(&sql, ()).unwrap())
    };
    let ports = cache.query("SELECT DISTINCT port FROM sailing ORDER BY 1", ()).unwrap();
    let ports = ports.read().unwrap();
    let ports: Vec<&str> = ports.rows().filter_map(|row| row.values()[0].as_str()).collect();
    assert!(ports.len() > 1);
    let queries: Vec<[Query; 2]> = ports.iter().map(|port| of(port)).collect();
    let _kept_up = queries[0].each_ref().map(Query::keep_current);
    let big = |cars: i64| {
        cache.commit("written", |tx| tx.update("sailing", 1, [("cars", cars)])).unwrap();
        let fails = |query: &Query| query.read().is_err();
        queries.iter().map(|of| of.each_ref().map(fails)).collect::<Vec<_>>()
    };
    let none = big(1);
    assert!(none.iter().flatten().all(|fails| !fails), "{none:?}");
    let some = big(i64::MAX);
    assert!(some.contains(&[true, true]) && some.contains(&[false, false]), "{some:?}");
    assert_eq!(some, ports.iter().map(|port| [*port == "SAL"; 2]).collect::<Vec<_>>());
    assert_eq!(big(1), none);
}

/// A result that cannot be computed fails alone, says why, and comes back once it can be.
#[test]
fn a_failed_result_says_why_and_recovers() {
    let cache = cache();
    let sum = cache.query("SELECT port, sum(cars) AS cars FROM sailing GROUP BY port", ()).unwrap();
    let count = cache.query("SELECT count(cars) AS n FROM sailing", ()).unwrap();
    let _watches = [&sum, &count].map(Query::keep_current);
    let report =
        cache.commit("too many", |tx| tx.update("sailing", 1, [("cars", i64::MAX)])).unwrap();
    assert_eq!(report.outcome(&sum), Outcome::Failed);
    assert_eq!(
        report.why(&sum),
        "failed: sum() of group SAL is beyond 64 bits; total() sums without that limit, because sailing 1 changed cars"
    );
    assert!(report.delta(&sum).is_none());
    let error = sum.read().unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Result);
    assert!(error.to_string().contains("beyond 64 bits"), "{error}");
    assert_eq!(report.outcome(&count), Outcome::Same, "the commit stands, and so do the others");

    let report =
        cache.commit("elsewhere", |tx| tx.update("sailing", 3, [("note", "calm")])).unwrap();
    assert_eq!(report.outcome(&sum), Outcome::Untouched);
    assert!(sum.read().is_err());
    let report = cache.commit("fewer", |tx| tx.update("sailing", 1, [("cars", 4)])).unwrap();
    assert_eq!(report.outcome(&sum), Outcome::Recomputed);
    assert_eq!(
        report.why(&sum),
        "recomputed: its result can be computed again, because sailing 1 changed cars"
    );
    let rows: Vec<Vec<Value>> =
        sum.read().unwrap().rows().map(|row| row.values().to_vec()).collect();
    assert_eq!(rows, [["NOR".into(), Value::Int(20)], ["SAL".into(), Value::Int(14)]]);
}

/// Two handles to the same statement and values are one standing query; each value is one of its
/// own, and a commit reaches just those whose key it touches.
#[test]
fn bindings_share_their_shape_and_are_reached_by_key() {
    let cache = cache();
    let sql = "SELECT id FROM sailing WHERE port = :port";
    let all: Vec<Query> =
        (0..500).map(|n| cache.query(sql, [("port", format!("P{n}"))]).unwrap()).collect();
    let (sal, nor) = (
        cache.query(sql, [("port", "SAL")]).unwrap(),
        cache.query(sql, [(":port", "NOR")]).unwrap(),
    );
    let again = cache.query("select id\nfrom sailing where port=:port", [("port", "SAL")]).unwrap();
    assert!(again.read().unwrap().is_same(&sal.read().unwrap()));
    let watch = [&again, &nor].map(Query::keep_current);
    let report = cache.commit("moved", |tx| tx.update("sailing", 1, [("port", "NOR")])).unwrap();
    assert_eq!(report.reached().count(), 2);
    let params = report
        .reached()
        .flat_map(|reached| reached.params().map(|(_, value)| value))
        .collect::<Vec<_>>();
    assert_eq!(params, [Value::from("SAL"), "NOR".into()]);
    assert_eq!(report.delta(&again).unwrap().count(DeltaKind::Leave), 1);
    assert_eq!(report.delta(&nor).unwrap().count(DeltaKind::Enter), 1);
    // A result without a handle is not kept current.
    drop((sal, nor, watch));
    let report =
        cache.commit("moved back", |tx| tx.update("sailing", 1, [("port", "SAL")])).unwrap();
    assert_eq!(report.reached().count(), 1);
    drop(again);
    let null = cache.query(sql, [("port", Value::Null)]).unwrap();
    let report =
        cache.commit("no port", |tx| tx.update("sailing", 1, [("port", Value::Null)])).unwrap();
    assert_eq!(report.reached().count(), 0, "NULL equals nothing");
    assert!(null.read().unwrap().is_empty());
    assert!(all.iter().all(|query| query.read().unwrap().is_empty()));
}

/// Queries are defined, read and dropped by many threads while commits go on.
#[test]
fn queries_come_and_go_from_many_threads() {
    let cache = cache();
    std::thread::scope(|scope| {
        for thread in 0..3_i64 {
            let cache = cache.clone();
            scope.spawn(move || {
                for turn in 0..150_i64 {
                    let over = (thread + turn) % 7;
                    let query = cache
                        .query(
                            "SELECT count(*) AS n FROM sailing WHERE id > :over",
                            [("over", over)],
                        )
                        .unwrap();
                    let (seen, snapshot) = (query.read().unwrap(), cache.snapshot());
                    assert_eq!(
                        seen,
                        query.clone().read().unwrap().clone(),
                        "no commit inserts or deletes here"
                    );
                    let ids = snapshot
                        .rows("sailing")
                        .unwrap()
                        .filter_map(|row| row.get("id").unwrap()?.as_int());
                    assert_eq!(
                        seen.row(0).unwrap().values(),
                        [Value::Int(ids.filter(|id| *id > over).count() as i64)]
                    );
                }
            });
        }
        for turn in 0..300_i64 {
            cache
                .commit("delay", |tx| tx.update("sailing", turn % 4 + 1, [("delay_min", turn)]))
                .unwrap();
        }
    });
}

/// Bindings with another value, or another range, are not even looked at.
#[test]
fn a_commit_reaches_only_those_whose_values_and_ranges_its_rows_have() {
    let schema = "table.t = { id = 'id', fields = { id = 'int', port = 'text', delay = 'int', note = 'text' } }";
    let cache = Cache::new(Schema::parse("s.toml", schema).unwrap());
    let mut queries: Vec<(String, Query)> = Vec::new();
    for n in 0..30_i64 {
        let statements = [
            format!("SELECT id, {n} AS shape FROM t WHERE port = 'P{n}'"),
            format!("SELECT id, {n} AS shape FROM t WHERE port IN ('P{n}', 'nowhere')"),
            format!("SELECT id, {n} AS shape FROM t WHERE delay > {n} AND delay <= {}", n + 2),
            "SELECT id FROM t WHERE port = :port AND delay >= :from AND delay < :to".to_owned(),
            "SELECT count(*) AS n FROM t WHERE delay < :below".to_owned(),
        ];
        let named = |of: &str| -> Vec<(&'static str, Value)> {
            let all = [
                ("port", Value::from("P3")),
                ("from", n.into()),
                ("to", (n + 3).into()),
                ("below", n.into()),
            ];
            all.into_iter().filter(|(name, _)| of.contains(&format!(":{name}"))).collect()
        };
        for statement in statements {
            let query =
                cache.query(&statement, named(&statement).into_iter().collect::<Named>()).unwrap();
            queries.push((format!("{statement} {n}"), query));
        }
    }
    let _kept: Vec<_> = queries.iter().map(|(_, query)| query.keep_current()).collect();
    let reached = |report: &Report| -> Vec<String> {
        let reached =
            queries.iter().filter(|(_, query)| report.outcome(query) != Outcome::Untouched);
        for (_, query) in &queries {
            assert!(report.why(query).starts_with(report.outcome(query).name()));
        }
        reached.map(|(name, _)| name.rsplit_once(" FROM t WHERE ").unwrap().1.to_owned()).collect()
    };
    let row = [("id", Value::from(1)), ("port", "P3".into()), ("delay", 7.into())];
    let report = cache.commit("announced", |tx| tx.insert("t", row)).unwrap();
    let mut expected = vec!["port = 'P3' 3".to_owned(), "port IN ('P3', 'nowhere') 3".to_owned()];
    expected.extend([5, 6].map(|n| format!("delay > {n} AND delay <= {} {n}", n + 2)));
    expected
        .extend([5, 6, 7].map(|n| format!("port = :port AND delay >= :from AND delay < :to {n}")));
    // The ends of a range are looked at, and found to be outside.
    expected.extend([
        "delay > 7 AND delay <= 9 7".to_owned(),
        "port = :port AND delay >= :from AND delay < :to 4".to_owned(),
    ]);
    expected.extend((7..30).map(|n| format!("delay < :below {n}")));
    let sorted = |mut names: Vec<String>| {
        names.sort();
        names
    };
    assert_eq!(sorted(reached(&report)), sorted(expected));
    let report = cache.commit("noted", |tx| tx.update("t", 1, [("note", "calm")])).unwrap();
    assert_eq!(reached(&report), Vec::<String>::new());
    // From one port to the other: only these two, and whose range it is in at that port.
    let report = cache.commit("moved", |tx| tx.update("t", 1, [("port", "P4")])).unwrap();
    assert_eq!(
        sorted(reached(&report)),
        sorted(
            [3, 4]
                .into_iter()
                .flat_map(|n| [
                    format!("port = 'P{n}' {n}"),
                    format!("port IN ('P{n}', 'nowhere') {n}")
                ])
                .chain(
                    [4, 5, 6, 7]
                        .map(|n| format!("port = :port AND delay >= :from AND delay < :to {n}"))
                )
                .collect()
        )
    );
    let other = &queries[0].1;
    assert_eq!(
        report.why(other),
        "untouched: commit 3 changed no row of t that meets the query's conditions"
    );
}
