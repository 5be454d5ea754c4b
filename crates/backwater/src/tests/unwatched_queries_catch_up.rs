//! Bindings of one statement side by side, however each is used: kept up to date, only read now and
//! then, given other values, dropped and defined again. Whenever one is read, it gives what the
//! bundled SQLite gives on the image.

use std::cell::RefCell;
use std::rc::Rc;

use proptest::prelude::*;

use super::choices::Statement;
use super::queries_equal_sqlite::{Watched, case_count, image_of};
use super::{Meanwhile, cases, meanwhile, tuned};
use crate::schema::Tuning;
use crate::{Report, Value};

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
    "SELECT p.code, c.c, p.n FROM part AS p JOIN (SELECT code, count(*) AS c FROM item WHERE n > 1 GROUP BY code) AS c ON c.code = p.code WHERE p.m >= :k ORDER BY p.code",
    "SELECT a.id, a.n, c.m FROM (SELECT id, n FROM item WHERE n < 3 GROUP BY id, n) AS a JOIN item AS c ON c.id = a.id WHERE a.n + c.m > :k ORDER BY a.id",
    "SELECT count(*), sum(a.n + c.m) FROM (SELECT id, n FROM item WHERE n < 3 GROUP BY id, n) AS a JOIN item AS c ON c.id = a.id WHERE a.n + c.m > :k",
    "SELECT b.c, count(*) FROM (SELECT code, count(*) AS c FROM item WHERE n > 1 GROUP BY code) AS b WHERE b.c > :k GROUP BY b.c ORDER BY b.c",
    "SELECT i.id, (SELECT max(x.m) FROM item AS x WHERE x.code = i.code) AS c FROM item AS i WHERE i.n >= :k ORDER BY i.id",
    "SELECT u.v FROM (SELECT id AS v FROM item WHERE n = :k UNION ALL SELECT m FROM item WHERE id < 3) AS u WHERE u.v < 3 ORDER BY u.v",
    "SELECT a.k, a.c, b.c FROM (SELECT n AS k, count(*) AS c FROM item GROUP BY n) AS a JOIN (SELECT n AS k, count(*) AS c FROM item WHERE id > :k GROUP BY n) AS b ON b.k = a.k ORDER BY 1",
    "SELECT id FROM item WHERE n >= :k AND id IN (SELECT max(id) FROM item GROUP BY n) ORDER BY id LIMIT 2",
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
    "SELECT id, row_number() OVER (PARTITION BY n ORDER BY m, id) AS r FROM item WHERE id < :k ORDER BY id",
    "SELECT id, m FROM (SELECT id, m, rank() OVER (PARTITION BY code ORDER BY n) AS r FROM item) WHERE r <= :k ORDER BY id",
    "SELECT n, count(*), sum(count(*)) OVER (ORDER BY n) FROM item WHERE id < :k GROUP BY n ORDER BY n",
    "SELECT id, lead(m, :k) OVER (ORDER BY m, id) AS next FROM item ORDER BY next, id LIMIT 3",
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
    /// At this step of the next commit it is read, or begins to be kept up to date.
    Meanwhile(usize, usize, bool),
    /// The next so many writes are one commit, made while the next result is computed.
    Apart(usize),
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
        3 => (0..7_usize, 0..4_usize, any::<bool>()).prop_map(|(at, of, begins)| Step::Meanwhile(at, of, begins)),
        1 => (1..4_usize).prop_map(Step::Apart),
    ]
}

fn write(tx: &mut crate::Transaction, step: &Step) -> crate::error::Result<()> {
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
        sql in prop::array::uniform2(prop::sample::select(STATEMENTS)),
        bindings in prop::collection::vec((0..2_usize, 0..4_i64, any::<bool>()), 1..5),
        steps in prop::collection::vec(step(), 1..60),
        tuning in Tuning::any(),
    ) {
        cases::noted(|| {
        let cache = tuned("test.toml", SCHEMA, tuning);
        let define = |sql: &str, k: i64, watched: bool| {
            let params = vec![("k", Value::from(k))];
            Watched::new(&cache, Statement { sql: sql.into(), judge: sql.into(), params, plain: false, watched })
        };
        let mut bindings: Vec<Watched> =
            bindings.into_iter().map(|(of, k, watched)| define(sql[of], k, watched)).collect();
        let mut steps = steps.iter();
        let follow = |bindings: &mut [Watched], report: &Report| {
            bindings.iter_mut().try_for_each(|binding| {
                match binding.watch {
                    Some(_) => binding.check_delta(report)?,
                    None => binding.look_away(),
                }
                binding.come_to_an_end()
            })
        };
        let apart = Rc::new(RefCell::new(Vec::new()));
        while let Some(step) = steps.next() {
            let of = |of: &usize| of % bindings.len();
            match step {
                Step::Read(which) => {
                    let which = of(which);
                    bindings[which].check_result(&image_of(&cache))?;
                }
                Step::Rebind(which, k) => {
                    let which = of(which);
                    bindings[which].rebind(&cache, vec![("k", (*k).into())], &image_of(&cache))?;
                }
                Step::Redefine(which, k) => {
                    let which = of(which);
                    let Statement { sql, watched, .. } = bindings.remove(which).end();
                    bindings.push(define(&sql, *k, watched));
                }
                Step::Turn(which) => {
                    let which = of(which);
                    bindings[which].turn();
                }
                Step::Meanwhile(place, which, begins) => {
                    bindings[of(which)].meanwhile(&cache, *place, *begins);
                }
                Step::Apart(count) => {
                    let writes: Vec<Step> = steps.by_ref().take(*count).cloned().collect();
                    let (cache, apart) = (cache.clone(), apart.clone());
                    meanwhile(Meanwhile::Apart, move || {
                        let report = cases::apart(|| {
                            let writes = |tx: &mut crate::Transaction| writes.iter().try_for_each(|step| write(tx, step));
                            cache.commit("written", writes).unwrap().report
                        });
                        apart.borrow_mut().push(report);
                    });
                }
                step => {
                    let count = if let Step::Together(count) = step { *count } else { 0 };
                    let more: Vec<_> = steps.by_ref().take(count).collect();
                    let report = cache.commit("written", |tx| {
                        [step].into_iter().chain(more).try_for_each(|step| write(tx, step))
                    }).unwrap();
                    follow(&mut bindings, &report)?;
                }
            }
            let reports = apart.take();
            if reports.len() > 1 {
                bindings.iter_mut().for_each(Watched::look_away);
            }
            reports.last().map_or(Ok(()), |report| follow(&mut bindings, report))?;
        }
        let image = image_of(&cache);
        for binding in &bindings {
            binding.check_result(&image)?;
        }
            Ok(())
        })?;
    }
}
