//! Operators by themselves, with a handful of rows: what goes in, what comes out.

use crate::{Cache, Delta, DeltaKind, Query, Schema, Transaction, Value};

fn cache(rows: &[(i64, i64)]) -> Cache {
    let cache = Cache::new(
        Schema::parse(
            "s",
            "table.t = { id = 'id', fields = { id = 'int', k = 'int', v = 'float' } }",
        )
        .unwrap(),
    );
    let load = cache.commit("loaded", |tx| {
        rows.iter().try_for_each(|(id, k)| tx.insert("t", [("id", *id), ("k", *k)]))
    });
    assert_eq!(load.unwrap().changes().count(), rows.len());
    cache
}

/// A query that is kept up to date for as long as the test runs.
fn watched(cache: &Cache, sql: &str) -> Query {
    let query = cache.query(sql, ()).unwrap();
    std::mem::forget(query.keep_current());
    query
}

fn ids(query: &Query) -> Vec<i64> {
    query.read().unwrap().rows().map(|row| row.values()[0].as_int().unwrap()).collect()
}

/// A delta in short: `+3@0` entered, `-3@1` left, `3@0>2` moved, `~3@1` changed.
fn short(delta: Option<&Delta>) -> String {
    let steps = delta.into_iter().flat_map(Delta::rows).map(|row| {
        let key = row.key()[0].to_string();
        let at = |position: Option<usize>| {
            position.map_or(String::new(), |position| position.to_string())
        };
        match row.kind() {
            DeltaKind::Enter => format!("+{key}@{}", at(row.to())),
            DeltaKind::Leave => format!("-{key}@{}", at(row.from())),
            DeltaKind::Move => format!("{key}@{}>{}", at(row.from()), at(row.to())),
            DeltaKind::Change => format!("~{key}@{}", at(row.to())),
        }
    });
    steps.collect::<Vec<_>>().join(" ")
}

/// Writes `k` of some rows, and returns how a query moved.
fn after(cache: &Cache, query: &Query, writes: &[(i64, i64)]) -> String {
    let write = |tx: &mut Transaction| {
        writes.iter().try_for_each(|(id, k)| tx.merge("t", [("id", *id), ("k", *k)]))
    };
    short(cache.commit("written", write).unwrap().delta(query))
}

/// Of the rows that changed places, the fewest possible are reported as moved.
#[test]
fn an_order_names_those_who_moved_and_nobody_else() {
    let cache = cache(&[(1, 10), (2, 20), (3, 30), (4, 40), (5, 50), (6, 60)]);
    let query = watched(&cache, "SELECT id FROM t ORDER BY k");
    assert_eq!(after(&cache, &query, &[(1, 35)]), "1@0>2");
    assert_eq!(ids(&query), [2, 3, 1, 4, 5, 6]);
    assert_eq!(after(&cache, &query, &[(1, 36)]), "", "between the same two it has not moved");
    assert_eq!(after(&cache, &query, &[(2, 120), (3, 130), (1, 140)]), "2@0>3 3@1>4 1@2>5");
    assert_eq!(
        after(&cache, &query, &[(4, 41), (5, 42), (6, 43)]),
        "",
        "all of them, and still in the same order"
    );
    assert_eq!(after(&cache, &query, &[(4, 43), (5, 42), (6, 41)]), "6@2>0 4@0>2");
    assert_eq!(after(&cache, &query, &[(7, 0), (1, -1)]), "1@5>0 +7@1");
}

/// An excerpt gains and loses rows at both of its ends, also when only others moved.
#[test]
fn an_excerpt_takes_in_and_lets_go_at_its_ends() {
    let cache = cache(&[(1, 10), (2, 20), (3, 30), (4, 40), (5, 50), (6, 60)]);
    let page = watched(&cache, "SELECT id FROM t ORDER BY k LIMIT 2 OFFSET 2");
    let top = watched(&cache, "SELECT id FROM t ORDER BY k LIMIT 2");
    assert_eq!(ids(&page), [3, 4]);
    assert_eq!(after(&cache, &page, &[(7, 0)]), "-4@1 +2@0", "pushed along by one in front");
    assert_eq!(after(&cache, &page, &[(7, 100)]), "-2@0 +4@1");
    assert_eq!(after(&cache, &page, &[(6, 45)]), "", "behind the excerpt");
    assert_eq!(after(&cache, &page, &[(1, 35)]), "-3@0 +1@0");
    assert_eq!(ids(&page), [1, 4]);
    let report = cache.commit("gone", |tx| tx.delete("t", 2)).unwrap();
    assert_eq!(
        (short(report.delta(&page)), short(report.delta(&top))),
        ("-1@0 +6@1".to_owned(), "-2@0 +1@1".to_owned())
    );
    let report = cache
        .commit("all gone", |tx| {
            [1, 3, 4, 5, 6, 7].into_iter().try_for_each(|id| tx.delete("t", id).map(drop))
        })
        .unwrap();
    assert_eq!(short(report.delta(&page)), "-4@0 -6@1");
    assert!(ids(&top).is_empty());
}

/// Groups come with their first row, go with their last, and count no row twice.
#[test]
fn groups_come_change_and_go() {
    let cache = cache(&[(1, 1), (2, 1), (3, 2)]);
    let groups = watched(
        &cache,
        "SELECT k, count(*) AS n, min(id) AS first, max(id) AS last FROM t GROUP BY k",
    );
    let many = watched(&cache, "SELECT k FROM t GROUP BY k HAVING count(*) > 1");
    let all = watched(&cache, "SELECT count(*), max(k), avg(k) FROM t");
    let rows = |query: &Query| {
        query.read().unwrap().rows().map(|row| row.values().to_vec()).collect::<Vec<_>>()
    };
    assert_eq!(after(&cache, &groups, &[(2, 2)]), "~1@0 ~2@1");
    assert_eq!(rows(&groups), [[1, 1, 1, 1].map(Value::Int), [2, 2, 2, 3].map(Value::Int)]);
    assert_eq!(after(&cache, &many, &[(3, 1)]), "-2@0 +1@0");
    assert_eq!(after(&cache, &groups, &[(2, 1)]), "-2@1 ~1@0");
    assert_eq!(after(&cache, &groups, &[(4, 0), (1, 0), (2, 0), (3, 0)]), "-1@0 +0@0");
    assert_eq!(rows(&all), [[Value::Int(4), Value::Int(0), Value::Float(0.0)]]);
    let report = cache
        .commit("all gone", |tx| (1..5).try_for_each(|id| tx.delete("t", id).map(drop)))
        .unwrap();
    assert_eq!(short(report.delta(&groups)), "-0@0");
    assert_eq!(
        rows(&all),
        [[Value::Int(0), Value::Null, Value::Null]],
        "a group without keys is always there"
    );
}

/// In a partition in which a row moves, those change that have another place or another value for
/// it; in no other partition does anything.
#[test]
fn windows_give_the_rows_of_a_partition_their_places() {
    let cache = cache(&[(1, 1), (2, 3), (3, 5), (4, 2), (5, 4)]);
    let ranked =
        watched(&cache, "SELECT id, row_number() OVER (PARTITION BY k % 2 ORDER BY k) AS n FROM t");
    let sums = watched(
        &cache,
        "SELECT id, lag(id) OVER w, sum(k) OVER w FROM t WINDOW w AS (PARTITION BY k % 2 ORDER BY k)",
    );
    let top = watched(
        &cache,
        "SELECT id FROM (SELECT id, rank() OVER (ORDER BY k) AS r FROM t) WHERE r < 3",
    );
    let rows = |query: &Query| {
        let rows = query.read().unwrap();
        let row = |row: crate::result::ResultRow| {
            row.values().iter().map(Value::to_string).collect::<Vec<_>>().join(" ")
        };
        rows.rows().map(row).collect::<Vec<_>>()
    };
    assert_eq!(rows(&ranked), ["1 1", "2 2", "3 3", "4 1", "5 2"]);
    assert_eq!(rows(&sums), ["1 NULL 1", "2 1 4", "3 2 9", "4 NULL 2", "5 4 6"]);
    assert_eq!(ids(&top), [1, 4]);
    assert_eq!(after(&cache, &ranked, &[(1, 7)]), "~1@0 ~2@1 ~3@2");
    assert_eq!(after(&cache, &ranked, &[(5, 6)]), "", "it is the second one still");
    assert_eq!(after(&cache, &sums, &[(5, 8)]), "~5@4");
    assert_eq!(after(&cache, &ranked, &[(4, 9)]), "~4@3 ~5@4", "it is the last one of the others");
    assert_eq!(rows(&sums), ["1 3 15", "2 NULL 3", "3 2 8", "4 1 24", "5 NULL 8"]);
    assert_eq!(ids(&top), [2, 3]);
    assert_eq!(after(&cache, &top, &[(6, 4), (3, 3)]), "", "two are the first");
    assert_eq!(after(&cache, &sums, &[(3, i64::MAX), (1, 5)]), "", "a sum is beyond 64 bits");
    assert!(sums.read().unwrap_err().to_string().contains("sum() in a window is beyond 64 bits"));
    cache.commit("gone", |tx| tx.delete("t", 3).map(drop)).unwrap();
    assert_eq!(rows(&sums), ["1 2 8", "2 NULL 3", "4 1 17", "5 6 12", "6 NULL 4"]);
    for (sql, n, found) in [
        ("SELECT sum(k) OVER (ROWS :n PRECEDING) FROM t", Value::Int(-1), "bounded by -1"),
        ("SELECT ntile(:n) OVER (ORDER BY k) FROM t", Value::Null, "ntile() is called with NULL"),
    ] {
        let query = cache.query(sql, [("n", n)]).unwrap();
        assert!(query.read().unwrap_err().to_string().contains(found), "{sql}");
        cache.rebind("another", &query, [("n", 1)]).unwrap();
        assert_eq!(query.read().unwrap().len(), 5, "{sql}");
    }
}

/// A sum of floats is what it would be if rows that went had never been there.
#[test]
fn float_sums_leave_no_drift() {
    let cache = cache(&[]);
    let sum = watched(&cache, "SELECT sum(v) AS v, total(v) AS t, avg(v) AS a FROM t");
    let put = |id: i64, v: f64| {
        cache.commit("put", |tx| tx.merge("t", [("id", Value::from(id)), ("v", v.into())])).unwrap()
    };
    put(1, 0.1);
    put(2, 0.2);
    for (id, v) in [(3, 1e300), (4, 7e-300), (5, -1e17), (6, 0.3)] {
        put(id, v);
    }
    cache.commit("gone", |tx| (3..7).try_for_each(|id| tx.delete("t", id).map(drop))).unwrap();
    let values = sum.read().unwrap().row(0).unwrap().values().to_vec();
    assert_eq!(values, [0.1 + 0.2, 0.1 + 0.2, (0.1 + 0.2) / 2.0].map(Value::Float));
}

/// Some sailings on vessels, with lists of crew.
fn ferries() -> Cache {
    let schema = r#"
        table.vessel = { id = "id", fields = { id = "int", name = "text" } }
        table.sailing = { id = "id", fields = { id = "int", vessel = { to = "vessel" }, crew = { to_many = "person" } } }
        table.person = { id = "id", fields = { id = "int", name = "text" } }
    "#;
    let cache = Cache::new(Schema::parse("s", schema).unwrap());
    cache
        .commit("loaded", |tx| {
            for (id, name) in [(1, "Marram"), (2, "Tidewife")] {
                tx.insert("vessel", [("id", Value::from(id)), ("name", name.into())])?;
            }
            for (id, vessel) in [(10, 1), (20, 1), (30, 2), (40, 3)] {
                tx.insert("sailing", [("id", id), ("vessel", vessel)])?;
            }
            Ok(())
        })
        .unwrap();
    cache
}

/// A joined row is that of its sailing: its vessel changes, comes and goes, is swapped; only in an
/// inner join does it need one.
#[test]
fn a_join_follows_the_rows_of_both_sides() {
    let cache = ferries();
    let inner = watched(
        &cache,
        "SELECT s.id, v.name FROM sailing AS s JOIN vessel AS v ON v.id = s.vessel",
    );
    let left = watched(
        &cache,
        "SELECT s.id, v.name FROM sailing AS s LEFT JOIN vessel AS v ON v.id = s.vessel",
    );
    let turned = watched(
        &cache,
        "SELECT s.id, v.name FROM vessel AS v JOIN sailing AS s ON v.id = s.vessel ORDER BY v.name",
    );
    let reported = |label: &str, write: &dyn Fn(&mut Transaction) -> crate::error::Result<()>| {
        let report = cache.commit(label, |tx| write(tx)).unwrap();
        [&inner, &left, &turned].map(|query| short(report.delta(query)))
    };
    let rename = |tx: &mut Transaction| {
        tx.merge("vessel", [("id", Value::from(1)), ("name", "Zephyr".into())])
    };
    assert_eq!(reported("renamed", &rename), ["~10@0 ~20@1", "~10@0 ~20@1", "10@0>1 20@1>2"]);
    let swap = |tx: &mut Transaction| tx.update("sailing", 20, [("vessel", 2)]);
    assert_eq!(reported("swapped", &swap), ["~20@1", "~20@1", "20@2>0"]);
    let launch = |tx: &mut Transaction| {
        tx.insert("vessel", [("id", Value::from(3)), ("name", "Auk".into())])
    };
    assert_eq!(reported("launched", &launch), ["+40@3", "~40@3", "+40@0"]);
    let scrap = |tx: &mut Transaction| tx.delete("vessel", 2).map(drop);
    assert_eq!(reported("scrapped", &scrap), ["-20@1 -30@2", "~20@1 ~30@2", "-20@1 -30@2"]);
    let both = |tx: &mut Transaction| {
        tx.update("sailing", 10, [("vessel", 3)])?;
        tx.update("sailing", 40, [("vessel", 1)])?;
        tx.delete("sailing", 30).map(drop)
    };
    assert_eq!(reported("two swap", &both), ["~10@0 ~40@1", "-30@2 ~10@0 ~40@2", "10@1>0 ~40@1"]);
    assert_eq!(inner.read().unwrap().row(0).unwrap().key(), [Value::Int(10)]);
}

/// Other values find another partner for the same row: the row has changed.
#[test]
fn another_partner_is_a_change_also_when_values_change() {
    let cache = ferries();
    let sql = "SELECT s.id, v.name FROM sailing AS s LEFT JOIN vessel AS v
               ON v.id = s.vessel AND contains(v.name, :text)";
    let query = cache.query(sql, [("text", "Ti")]).unwrap();
    let report = cache.rebind("text typed", &query, [("text", "")]).unwrap();
    assert_eq!(short(report.delta(&query)), "~10@0 ~20@1");
    assert_eq!(query.read().unwrap().row(0).unwrap().values()[1], Value::from("Marram"));
}

/// One row of a link table goes with one of each side, a row may go with itself, and NULL makes no
/// partners. The old partner changes, or goes, in the commit that swaps it for one of the same
/// value.
#[test]
fn a_swapped_partner_may_change_as_it_goes() {
    for goes in [false, true] {
        let schema = "table.t = { id = 'id', fields = { id = 'int', to = 'int', n = 'int' } }";
        let cache = Cache::new(Schema::parse("test.toml", schema).unwrap());
        let write = |id: i64, to: i64, n: i64| [("id", id), ("to", to), ("n", n)];
        cache
            .commit("begun", |tx| {
                (2..9).try_for_each(|id| tx.insert("t", write(id, id, 10 * id)))?;
                tx.insert("t", write(1, 4, 0))?;
                tx.insert("t", write(9, 9, 40))
            })
            .unwrap();
        let sql = |order: &str| {
            format!(
                "SELECT a.id, b.n FROM t AS a LEFT JOIN t AS b ON b.id = a.\"to\" ORDER BY b.n{order}"
            )
        };
        let followed = cache.query(&sql(""), ()).unwrap();
        let _kept = followed.keep_current();
        let swap = cache.commit("swapped", |tx| {
            tx.update("t", 1, [("to", 9)])?;
            if goes { tx.delete("t", 4).map(drop) } else { tx.update("t", 4, [("n", 77)]) }
        });
        assert!(swap.unwrap().delta(&followed).is_some());
        cache.commit("another value", |tx| tx.update("t", 9, [("n", 5)])).unwrap();
        let fresh = cache.query(&sql(" + 0"), ()).unwrap().read().unwrap();
        assert_eq!(format!("{:?}", followed.read().unwrap()), format!("{fresh:?}"));
    }
}

#[test]
fn lists_and_rows_of_one_table_are_joined() {
    let cache = ferries();
    let crew = watched(
        &cache,
        "SELECT s.id, c.position, p.name FROM sailing AS s JOIN sailing_crew AS c ON c.owner = s.id
         LEFT JOIN person AS p ON p.id = c.target",
    );
    let pairs = watched(
        &cache,
        "SELECT a.id, b.id FROM sailing AS a JOIN sailing AS b ON a.vessel = b.vessel AND a.id <= b.id",
    );
    let reported = |write: &dyn Fn(&mut Transaction) -> crate::error::Result<()>| {
        let report = cache.commit("written", |tx| write(tx)).unwrap();
        [&crew, &pairs].map(|query| {
            let rows = query.read().unwrap();
            let rows = rows.rows().map(|row| {
                row.values().iter().map(|value| value.to_string()).collect::<Vec<_>>().join(" ")
            });
            (short(report.delta(query)), rows.collect::<Vec<_>>().join(", "))
        })
    };
    let sign_on = |tx: &mut Transaction| tx.set_links("sailing", 30, "crew", [7, 8]);
    let [crew_reported, pairs_reported] = reported(&sign_on);
    assert_eq!(crew_reported, ("+30@0 +30@1".into(), "30 0 NULL, 30 1 NULL".into()));
    assert_eq!(pairs_reported, (String::new(), "10 10, 10 20, 20 20, 30 30, 40 40".into()));
    let meet = |tx: &mut Transaction| {
        tx.insert("person", [("id", Value::from(8)), ("name", "Odo".into())])?;
        tx.update("sailing", 40, [("vessel", Value::Null)])?;
        tx.update("sailing", 10, [("vessel", 2)])
    };
    let [crew_reported, pairs_reported] = reported(&meet);
    assert_eq!(crew_reported, ("~30@1".into(), "30 0 NULL, 30 1 Odo".into()));
    assert_eq!(pairs_reported.1, "10 10, 10 30, 20 20, 30 30");
    let turn = |tx: &mut Transaction| tx.set_links("sailing", 30, "crew", [8]);
    let [crew_reported, _] = reported(&turn);
    assert_eq!(crew_reported, ("-30@1 ~30@0".into(), "30 0 Odo".into()));
}

/// Several aggregates of one joined table count each of its rows as often as it is joined.
#[test]
fn aggregates_of_a_joined_table_count_alike() {
    let cache = ferries();
    let sql = "SELECT count(v.name), count(DISTINCT v.name), max(v.name), sum(v.id), count(*)
               FROM sailing AS s LEFT JOIN vessel AS v ON v.id = s.vessel";
    let all = watched(&cache, sql);
    let values = || {
        let result = all.read().unwrap();
        let row = result.row(0).unwrap().values().to_vec();
        row.iter().map(Value::to_string).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(values(), "3 2 Tidewife 4 4");
    cache.commit("gone", |tx| tx.delete("sailing", 30).map(drop)).unwrap();
    assert_eq!(values(), "2 1 Marram 2 3");
}

/// DISTINCT, EXISTS and UNION ALL: a row is there as often as it should be, however often what it
/// stands for is.
#[test]
fn equal_rows_and_branches_are_counted() {
    let cache = cache(&[(1, 5), (2, 5), (3, 6)]);
    let distinct = watched(&cache, "SELECT DISTINCT k FROM t");
    let exists = watched(
        &cache,
        "SELECT a.id FROM t AS a WHERE EXISTS (SELECT 1 FROM t AS b WHERE b.k = a.k AND b.id <> 3)",
    );
    let union = watched(
        &cache,
        "SELECT id, k FROM t WHERE k < 6 UNION ALL SELECT id, k FROM t WHERE id > 1 ORDER BY k, id",
    );
    assert_eq!(ids(&distinct), [5, 6]);
    assert_eq!(ids(&exists), [1, 2]);
    assert_eq!(ids(&union), [1, 2, 2, 3]);
    assert_eq!(after(&cache, &distinct, &[(1, 6)]), "", "one of two is left");
    assert_eq!((ids(&exists), ids(&union)), (vec![1, 2, 3], vec![2, 2, 3]));
    assert_eq!(after(&cache, &distinct, &[(2, 6)]), "-5@0", "the last one went");
    let report = cache
        .commit("gone", |tx| [1, 2].into_iter().try_for_each(|id| tx.delete("t", id).map(drop)));
    assert_eq!(short(report.unwrap().delta(&exists)), "-1@0 -2@1 -3@2", "only itself is left");
    assert_eq!((ids(&distinct), ids(&union)), (vec![6], vec![3]));
}

/// Unread while a row goes and another one takes its place in memory: the order goes by the new
/// one's id.
#[test]
fn a_slot_that_is_used_again_holds_another_row() {
    let schema = "table.t = { id = 'id', fields = { id = 'int', n = 'int' } }";
    let cache = crate::Cache::new(crate::Schema::parse("s.toml", schema).unwrap());
    let insert = |id: i64, n: i64| {
        cache.commit("came", |tx| tx.insert("t", [("id", id), ("n", n)])).unwrap();
    };
    insert(1, 10);
    insert(2, 20);
    insert(3, 30);
    let plain = cache.query("SELECT n FROM t", ()).unwrap();
    let kept = cache.query("SELECT n FROM (SELECT n FROM t LIMIT 9)", ()).unwrap();
    let rows = |query: &crate::Query| -> Vec<Option<i64>> {
        query.read().unwrap().rows().map(|row| row.values()[0].as_int()).collect()
    };
    cache.commit("gone", |tx| tx.delete("t", 1)).unwrap();
    insert(7, 10);
    for query in [&plain, &kept] {
        assert_eq!(rows(query), [20, 30, 10].map(Some));
    }
    cache.commit("gone", |tx| tx.delete("t", 7)).unwrap();
    for query in [&plain, &kept] {
        assert_eq!(rows(query), [20, 30].map(Some));
    }
}

/// Bindings are searched for together: what one of them asks for must not hide from another one
/// that its row has found a partner.
#[test]
fn a_row_without_partner_leaves_every_binding_that_shows_it() {
    let schema = "table.t = { id = 'id', fields = { id = 'int', n = 'int' } }\n\
                  table.u = { id = 'id', fields = { id = 'int' } }";
    let cache = crate::Cache::new(crate::Schema::parse("s.toml", schema).unwrap());
    cache.commit("came", |tx| tx.insert("t", [("id", 1), ("n", 10)])).unwrap();
    let sql = "SELECT t.id, u.id FROM t LEFT JOIN u ON u.id = t.id WHERE t.n > :over";
    let queries = [50, 5].map(|over| cache.query(sql, [("over", over)]).unwrap());
    let _kept = queries.each_ref().map(crate::Query::keep_current);
    let lens = || queries.each_ref().map(|query| query.read().unwrap().len());
    assert_eq!(lens(), [0, 1]);
    cache.commit("a partner", |tx| tx.insert("u", [("id", 1)])).unwrap();
    assert_eq!(lens(), [0, 1]);
    cache.commit("alone again", |tx| tx.delete("u", 1)).unwrap();
    assert_eq!(lens(), [0, 1]);
}

/// A recursion goes on from rows that come; where one is cut off, what it led to goes with it.
#[test]
fn a_recursion_reaches_what_comes_and_loses_what_is_cut_off() {
    let cache = cache(&[(1, 0), (2, 1), (3, 2)]);
    let tree = watched(
        &cache,
        "WITH RECURSIVE r(i, d) AS (SELECT id, 0 FROM t WHERE k = 0 \
         UNION SELECT t.id, d + 1 FROM r JOIN t ON t.k = r.i) SELECT i, d FROM r",
    );
    let paths = watched(
        &cache,
        "WITH RECURSIVE r(i) AS (SELECT k FROM t UNION ALL SELECT t.id FROM r JOIN t ON t.k = r.i) \
         SELECT i, count(*) FROM r GROUP BY i",
    );
    assert_eq!(ids(&tree), [1, 2, 3]);
    assert_eq!(after(&cache, &tree, &[(4, 3)]), "+4@3");
    assert_eq!(after(&cache, &tree, &[(6, 5), (5, 4)]), "+5@4 +6@5", "one by way of the other");
    assert_eq!(after(&cache, &tree, &[(8, 7)]), "", "nothing leads there");
    assert_eq!(after(&cache, &tree, &[(3, 9)]), "-3@2 -4@3 -5@4 -6@5");
    assert_eq!(after(&cache, &tree, &[(7, 1)]), "+7@2 +8@3");
    assert_eq!(after(&cache, &tree, &[(7, 0)]), "-7@2 -8@3 +7@2 +8@3", "at another depth");
    let deep = watched(
        &cache,
        "WITH RECURSIVE r(i, d) AS (SELECT id, 0 FROM t \
         UNION SELECT t.id, d + 1 FROM r JOIN t ON t.k = r.i) SELECT max(d) FROM r",
    );
    let counts: Vec<_> = paths.read().unwrap().rows().map(|row| row.values().to_vec()).collect();
    // From 0 twice and from 1 to 2, from 9 and 3 to 4, and on to 6; from 0 twice and from 7 to 8.
    let wanted = [(0, 2), (1, 3), (2, 3), (3, 2), (4, 3), (5, 4), (6, 4), (7, 3), (8, 3), (9, 1)];
    assert_eq!(counts, wanted.map(|(i, count)| [i, count].map(Value::Int)));
    let report = cache.commit("gone", |tx| tx.delete("t", 1)).unwrap();
    assert_eq!(short(report.delta(&tree)), "-1@0 -2@1");
    // What comes where nothing was takes away what stood for that.
    let leaves = watched(
        &cache,
        "WITH RECURSIVE r(i, below) AS (SELECT id, k FROM t WHERE id = 7 \
         UNION SELECT a.id, b.id FROM r JOIN t AS a ON a.k = r.i LEFT JOIN t AS b ON b.k = a.id) \
         SELECT i, below FROM r",
    );
    let childless = watched(
        &cache,
        "WITH RECURSIVE r(i) AS (SELECT 7 UNION SELECT a.id FROM r JOIN t AS a ON a.k = r.i \
         WHERE NOT EXISTS (SELECT 1 FROM t AS b WHERE b.k = a.id)) SELECT i FROM r",
    );
    assert_eq!((ids(&leaves), ids(&childless)), (vec![7, 8], vec![7, 8]));
    assert_eq!(after(&cache, &leaves, &[(12, 8)]), "-8@1 +8@1 +12@2");
    assert_eq!((ids(&leaves), ids(&childless)), (vec![7, 8, 12], vec![7]));
    cache.commit("gone", |tx| tx.delete("t", 12)).unwrap();
    // A circle ends where nothing new comes of it.
    assert_eq!(after(&cache, &tree, &[(9, 8), (7, 9), (1, 0)]), "-7@0 -8@1 +1@0 +2@1");
    // Of rows that count their depth none is like another: their number tells.
    for endless in [&paths, &deep] {
        let error = endless.read().unwrap_err().to_string();
        assert!(error.contains("its rows lead back to themselves"), "{error}");
    }
    after(&cache, &tree, &[(7, 100)]);
    assert_eq!(ids(&deep), [6]);
    assert_eq!(paths.read().unwrap().len(), 11);
}

/// The elements of a JSON value are rows by their places.
#[test]
fn elements_are_rows_by_their_places() {
    let schema = "table.t = { id = 'id', fields = { id = 'int', j = 'json' } }";
    let cache = Cache::new(Schema::parse("s", schema).unwrap());
    let write = |id: i64, json: &str| {
        let json = Value::from(crate::Json::parse(json).unwrap());
        cache.commit("written", |tx| tx.merge("t", [("id", id.into()), ("j", json)])).unwrap()
    };
    let all = watched(&cache, "SELECT t.id, e.value FROM t, json_each(t.j) AS e");
    let with_a = watched(
        &cache,
        "SELECT id FROM t WHERE EXISTS (SELECT 1 FROM json_each(t.j) WHERE value = 'a')",
    );
    let lists = watched(
        &cache,
        "SELECT id, (SELECT json_group_array(value) FROM json_each(t.j) WHERE key > 0) FROM t",
    );
    assert_eq!(short(write(1, r#"["a","b"]"#).delta(&all)), "+1@0 +1@1");
    assert_eq!(short(write(2, r#"[{"c":1},[2],"x"]"#).delta(&all)), "+2@2 +2@3 +2@4");
    assert_eq!(ids(&with_a), [1]);
    // The first place holds another value, and the last one nothing any more.
    let report = write(1, r#"["c"]"#);
    assert_eq!(short(report.delta(&all)), "-1@1 ~1@0");
    assert_eq!(short(report.delta(&with_a)), "-1@0");
    // What was JSON is JSON in what is made of it.
    let second = lists.read().unwrap().row(1).unwrap().values()[1].clone();
    assert_eq!(second, Value::from(r#"[[2],"x"]"#));
    assert_eq!(short(write(2, "7").delta(&all)), "-2@2 -2@3 ~2@1");
    assert_eq!(short(write(2, "{}").delta(&all)), "-2@1");
    let report = cache.commit("gone", |tx| tx.delete("t", 1)).unwrap();
    assert_eq!(short(report.delta(&all)), "-1@0");
}

/// Of a full join a row that finds a partner is one with it, and two again when it loses it.
#[test]
fn a_full_join_follows_who_finds_whom() {
    let cache = cache(&[(1, 10), (2, 20)]);
    let pairs = watched(
        &cache,
        "SELECT a.id, b.id FROM t AS a FULL JOIN (SELECT * FROM t WHERE id > 2) AS b ON a.k = b.k \
         AND a.id < 3 ORDER BY 1, 2",
    );
    let right = watched(
        &cache,
        "SELECT b.id, a.id FROM t AS a RIGHT JOIN t AS b ON a.k = b.k AND a.id < b.id",
    );
    let rows = |query: &Query| -> String {
        let rows = query.read().unwrap();
        let rows = rows.rows().map(|row| format!("{}-{}", row.values()[0], row.values()[1]));
        rows.collect::<Vec<_>>().join(" ")
    };
    assert_eq!(rows(&pairs), "1-NULL 2-NULL");
    after(&cache, &pairs, &[(3, 10), (4, 40)]);
    assert_eq!(rows(&pairs), "NULL-3 NULL-4 1-3 2-NULL 3-NULL 4-NULL".replace("NULL-3 ", ""));
    assert_eq!(rows(&right), "1-NULL 2-NULL 4-NULL 3-1");
    after(&cache, &pairs, &[(3, 20)]);
    assert_eq!(rows(&pairs), "NULL-4 1-NULL 2-3 3-NULL 4-NULL");
    assert_eq!(rows(&right), "1-NULL 2-NULL 4-NULL 3-2");
    after(&cache, &pairs, &[(1, 40), (2, 40)]);
    assert_eq!(rows(&pairs), "NULL-3 1-4 2-4 3-NULL 4-NULL");
}
