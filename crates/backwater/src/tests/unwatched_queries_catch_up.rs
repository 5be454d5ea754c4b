//! Bindings of one statement side by side, however each is used: kept up to date, only read now and
//! then, given other values, dropped and defined again. Whenever one is read, it gives what the
//! bundled SQLite gives on the image.

use proptest::prelude::*;

use super::choices::Statement;
use super::queries_equal_sqlite::{Watched, case_count};
use super::{cases, tuned};
use crate::Value;
use crate::schema::Tuning;
use crate::storage::image;

const SCHEMA: &str = r#"
    [table.item]
    id = "id"
    fields = { id = "int", n = "int", m = "int", code = "text", up = { to = "item" } }

    [table.part]
    id = "code"
    fields = { code = "text", n = "int", m = "int" }
"#;

/// Statements of which whether a row belongs to the result hangs on several rows, each with `:k`.
const STATEMENTS: &[&str] = &[
    "SELECT i.id, i.m FROM item AS i LEFT JOIN part AS p ON p.code = i.code WHERE p.code IS NULL AND i.id < :k ORDER BY i.id",
    "SELECT i.id, i.m FROM item AS i WHERE NOT EXISTS (SELECT 1 FROM part AS p WHERE p.code = i.code) AND i.id < :k ORDER BY i.id",
    "SELECT i.id, i.m FROM item AS i WHERE i.code NOT IN (SELECT p.code FROM part AS p) AND i.n = :k ORDER BY i.id",
    "SELECT i.id, i.m FROM item AS i WHERE (SELECT count(*) FROM part AS p WHERE p.code = i.code) = 0 AND i.n = :k ORDER BY i.id",
    "SELECT i.id, i.m, p.m FROM item AS i JOIN part AS p ON p.code = i.code WHERE p.n > 1 AND i.n > 0 AND i.id < :k ORDER BY i.id",
    "SELECT i.id, i.m, p.m FROM item AS i JOIN part AS p ON p.code = i.code WHERE p.n > :k ORDER BY p.m, i.id",
    "SELECT i.id, p.m FROM item AS i LEFT JOIN part AS p ON p.code = i.code AND p.n > 1 WHERE i.n = :k ORDER BY i.id",
    "SELECT i.id, p.m FROM item AS i LEFT JOIN part AS p ON p.code = i.code AND p.n > :k ORDER BY i.id",
    "SELECT i.id, u.m FROM item AS i LEFT JOIN item AS u ON u.id = i.up WHERE u.n IS NULL OR u.n <> :k ORDER BY i.id",
    "SELECT i.id, u.m FROM item AS i JOIN item AS u ON u.id = i.up WHERE u.n > 1 AND i.n < 3 ORDER BY i.m, i.id LIMIT :k",
    "SELECT p.code, count(*), sum(i.m) FROM item AS i JOIN part AS p ON p.code = i.code WHERE p.n > 1 AND i.n < :k GROUP BY p.code ORDER BY p.code",
    "SELECT i.code, c.c, i.m FROM item AS i LEFT JOIN (SELECT code, count(*) AS c FROM item WHERE n > 1 GROUP BY code) AS c ON c.code = i.code WHERE i.id < :k ORDER BY i.id",
    "SELECT id, m FROM item WHERE n > 1 AND m > 0 AND id < :k ORDER BY m, id LIMIT 2",
    "SELECT id, m FROM item WHERE n = :k OR n = 1 ORDER BY id",
    "SELECT id, m FROM item WHERE n BETWEEN :k AND :k + 1 ORDER BY id",
    "SELECT id, m FROM item WHERE n IN (:k, 1, :k + 1, NULL) ORDER BY id",
    "SELECT id, m FROM item WHERE n = :k + 0 OR n > :k * 2 OR 3 = n ORDER BY id",
    "SELECT id, m FROM item WHERE n = :k + 0 AND m < :k + 3 ORDER BY id",
    "SELECT id, m FROM item WHERE n = :k OR m = :k ORDER BY id",
    "SELECT id, m FROM item WHERE code = CAST(:k AS INTEGER) OR m = 2 ORDER BY id",
    "SELECT id, m FROM item WHERE code < CAST(:k AS INTEGER) ORDER BY id",
    "SELECT i.id, p.m FROM item AS i JOIN part AS p ON p.code = i.code WHERE p.n IN (:k, :k + 2) ORDER BY i.id",
];

#[derive(Debug, Clone)]
enum Step {
    Item(i64, [i64; 2], &'static str, i64),
    ItemField(i64, &'static str, i64),
    DeleteItem(i64),
    Part(&'static str, [i64; 2]),
    DeletePart(&'static str),
    /// All that follows, up to this many writes, in one commit.
    Together(usize),
    Read(usize),
    Rebind(usize, i64),
    Redefine(usize, i64),
    /// Begins, or ends, to be kept up to date.
    Turn(usize),
}

fn step() -> impl Strategy<Value = Step> {
    let code = || prop::sample::select(vec!["P", "Q", "2"]);
    let number = || 0..4_i64;
    prop_oneof![
        3 => (number(), [number(), number()], code(), number()).prop_map(|(id, n, code, up)| Step::Item(id, n, code, up)),
        4 => (number(), prop::sample::select(vec!["n", "m", "up"]), number()).prop_map(|(id, field, n)| Step::ItemField(id, field, n)),
        3 => number().prop_map(Step::DeleteItem),
        4 => (code(), [number(), number()]).prop_map(|(code, n)| Step::Part(code, n)),
        3 => code().prop_map(Step::DeletePart),
        1 => (2..4_usize).prop_map(Step::Together),
        4 => (0..4_usize).prop_map(Step::Read),
        1 => (0..4_usize, number()).prop_map(|(of, k)| Step::Rebind(of, k)),
        1 => (0..4_usize, number()).prop_map(|(of, k)| Step::Redefine(of, k)),
        1 => (0..4_usize).prop_map(Step::Turn),
    ]
}

fn write(tx: &mut crate::Transaction, step: &Step) -> crate::Result<()> {
    match step {
        Step::Item(id, [n, m], code, up) => {
            let fields: [(&str, Value); 5] = [
                ("id", (*id).into()),
                ("n", (*n).into()),
                ("m", (*m).into()),
                ("code", (*code).into()),
                ("up", (*up).into()),
            ];
            tx.merge("item", fields)
        }
        Step::ItemField(id, field, n) => tx.merge("item", [("id", *id), (field, *n)]),
        Step::DeleteItem(id) => tx.delete("item", *id).map(drop),
        Step::Part(code, [n, m]) => {
            let fields: [(&str, Value); 3] =
                [("code", (*code).into()), ("n", (*n).into()), ("m", (*m).into())];
            tx.merge("part", fields)
        }
        Step::DeletePart(code) => tx.delete("part", *code).map(drop),
        _ => Ok(()),
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: case_count(), max_shrink_iters: 20_000, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn whenever_a_query_is_read_it_equals_sqlite(
        sql in prop::sample::select(STATEMENTS),
        bindings in prop::collection::vec((0..4_i64, any::<bool>()), 1..5),
        steps in prop::collection::vec(step(), 1..60),
        tuning in Tuning::any(),
    ) {
        cases::told(|| {
        let cache = tuned("test.toml", SCHEMA, tuning);
        let define = |k: i64, watched: bool| {
            let params = vec![("k", Value::from(k))];
            Watched::new(&cache, Statement { sql: sql.into(), judge: sql.into(), params, plain: false, watched })
        };
        let mut bindings: Vec<Watched> =
            bindings.into_iter().map(|(k, watched)| define(k, watched)).collect();
        let mut steps = steps.iter();
        while let Some(step) = steps.next() {
            let of = |of: &usize| of % bindings.len();
            match step {
                Step::Read(which) => {
                    let which = of(which);
                    bindings[which].check_result(&image(&cache.snapshot().state))?;
                }
                Step::Rebind(which, k) => {
                    let which = of(which);
                    let image = image(&cache.snapshot().state);
                    bindings[which].rebind(&cache, vec![("k", (*k).into())], &image)?;
                }
                Step::Redefine(which, k) => {
                    let which = of(which);
                    let watched = bindings.remove(which).end().watched;
                    bindings.push(define(*k, watched));
                }
                Step::Turn(which) => {
                    let which = of(which);
                    bindings[which].turn();
                }
                step => {
                    let count = if let Step::Together(count) = step { *count } else { 0 };
                    let more: Vec<_> = steps.by_ref().take(count).collect();
                    let report = cache.commit("written", |tx| {
                        [step].into_iter().chain(more).try_for_each(|step| write(tx, step))
                    }).unwrap();
                    for binding in &mut bindings {
                        match binding.watch {
                            Some(_) => binding.check_delta(&report)?,
                            None => binding.look_away(),
                        }
                    }
                }
            }
        }
        let image = image(&cache.snapshot().state);
        for binding in &bindings {
            binding.check_result(&image)?;
        }
            Ok(())
        })?;
    }
}
