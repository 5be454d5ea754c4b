//! What is computed for many rows at once equals what is computed for each: conditions and
//! groupings over more rows than a piece of memory holds, against a loop over plain values.

use std::collections::BTreeMap;

use proptest::prelude::*;

use super::tuned;
use super::world::time;
use crate::schema::Tuning;
use crate::{Cache, Named, Query, Value};

const SCHEMA: &str = r#"
    table.t = { id = "id", fields = { id = "int", n = "int", w = "timestamp", s = "text", u = "text", k = { to = "kind" } } }
    table.kind = { id = "name", fields = { name = "text", m = "int" } }
"#;

type Row = (Option<i64>, Option<usize>, Option<&'static str>, Option<&'static str>, Option<usize>);

fn row() -> impl Strategy<Value = Row> {
    let text = || {
        let texts =
            vec!["", "Ferry", "sea, Strasse", "STRAẞE", "İs", "ferry ferry", "y", "k\u{212a}"];
        prop::option::weighted(0.8, prop::sample::select(texts))
    };
    let n = prop_oneof![6 => -3..4_i64, 1 => Just(i64::MIN), 1 => Just(i64::MAX)];
    let n = prop::option::weighted(0.8, n);
    (
        n,
        prop::option::weighted(0.8, 0..5_usize),
        text(),
        text(),
        prop::option::weighted(0.8, 0..4_usize),
    )
}

fn kind(number: usize) -> Value {
    ["ferry", "tug", "skiff", "gone"][number].into()
}

fn write(cache: &Cache, rows: &[(i64, Option<Row>)]) {
    let report = cache.commit("written", |tx| {
        for (id, row) in rows {
            let Some((n, w, s, u, k)) = row else {
                tx.delete("t", *id)?;
                continue;
            };
            let mut fields = vec![("id", Value::from(*id))];
            fields.push(("n", n.map_or(Value::Null, Value::from)));
            fields.push(("w", w.map_or(Value::Null, time)));
            fields.extend(s.map(|s| ("s", s.into())));
            fields.push(("u", u.map_or(Value::Null, Value::from)));
            fields.push(("k", k.map_or(Value::Null, kind)));
            tx.delete("t", *id)?;
            tx.insert("t", fields.into_iter().collect::<Named>())?;
        }
        Ok(())
    });
    report.unwrap();
}

fn ids(query: &Query) -> Vec<i64> {
    query.read().unwrap().rows().map(|row| row.values()[0].as_int().unwrap()).collect()
}

fn has(text: Option<&str>, needle: &str) -> bool {
    let folded = |text: &str| icu_casemap::CaseMapper::new().fold_string(text).into_owned();
    text.is_some_and(|text| folded(text).contains(&folded(needle)))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn many_rows_at_once_are_computed_as_each_of_them(
        first in prop::collection::vec(row(), 60..200),
        later in prop::collection::vec((0..220_i64, prop::option::weighted(0.7, row())), 0..40),
        (p, w) in (prop_oneof![-3..4_i64, Just(i64::MIN), Just(i64::MAX)], 0..5_usize),
        texts in prop::collection::vec(prop::sample::select(vec!["", "f", "E", "fe", "fer", "ferry", "ferry f", "s", "ss", "ẞe", "y, ", "k", "i"]), 2..9),
        tuning in Tuning::any(),
    ) {
        let cache = tuned("s.toml", SCHEMA, tuning);
        cache.commit("kinds", |tx| (0..3).try_for_each(|number| {
            tx.insert("kind", [("name", kind(number)), ("m", (number as i64 * 10).into())])
        })).unwrap();
        let mut model: BTreeMap<i64, Row> = BTreeMap::new();
        let numbered: Vec<_> = first.into_iter().enumerate().map(|(id, row)| (id as i64, Some(row))).collect();
        let text = "SELECT id, u FROM t WHERE contains(s, :x) AND n IS NOT NULL";
        let other = "SELECT id FROM t WHERE contains(u, :x) AND contains(s, :x) AND n <= :p";
        let mut typed: Vec<Query> = Vec::new();
        for rows in [numbered, later] {
            write(&cache, &rows);
            for (id, row) in rows {
                match row {
                    Some(row) => drop(model.insert(id, row)),
                    None => drop(model.remove(&id)),
                }
            }
            let expected = |holds: &dyn Fn(&Row) -> bool| -> Vec<i64> {
                model.iter().filter(|(_, row)| holds(row)).map(|(id, _)| *id).collect()
            };
            for operator in ["=", "<>", "<", "<=", ">", ">="] {
                let compare = |order: std::cmp::Ordering| match operator {
                    "=" => order.is_eq(),
                    "<>" => order.is_ne(),
                    "<" => order.is_lt(),
                    "<=" => order.is_le(),
                    ">" => order.is_gt(),
                    _ => order.is_ge(),
                };
                let query = cache.query(&format!("SELECT id FROM t WHERE n {operator} :p"), [("p", p)]).unwrap();
                prop_assert_eq!(ids(&query), expected(&|row| row.0.is_some_and(|n| compare(n.cmp(&p)))), "n {} {}", operator, p);
                let query = cache.query(&format!("SELECT id FROM t WHERE w {operator} :w"), [("w", time(w))]).unwrap();
                prop_assert_eq!(ids(&query), expected(&|row| row.1.is_some_and(|at| compare(at.cmp(&w)))), "w {} {}", operator, w);
            }
            if typed.is_empty() {
                typed.push(cache.query(text, [("x", "")]).unwrap());
                typed.push(cache.query(other, [("x", Value::from("")), ("p", p.into())]).unwrap());
            }
            for needle in &texts {
                for query in &typed {
                    let before = ids(query);
                    let report = cache.rebind("typed", query, [("x", *needle)]).unwrap();
                    let (after, delta) = (ids(query), report.delta(query));
                    let mut shown: Vec<Vec<Value>> = before.iter().map(|id| vec![(*id).into()]).collect();
                    for row in delta.iter().flat_map(|delta| delta.rows()) {
                        let id = row.to().map(|to| after[to]).or_else(|| Some(before[row.from()?]));
                        prop_assert_eq!(row.key().to_vec(), id.map(Value::from).into_iter().collect::<Vec<_>>());
                    }
                    if let Some(delta) = delta {
                        delta.apply(&mut shown).unwrap();
                    }
                    prop_assert_eq!(shown.iter().map(|row| row[0].as_int().unwrap()).collect::<Vec<_>>(), after);
                }
                prop_assert_eq!(ids(&typed[0]), expected(&|row| has(row.2, needle) && row.0.is_some()), "{}", needle);
                prop_assert_eq!(
                    ids(&typed[1]),
                    expected(&|row| has(row.2, needle) && has(row.3, needle) && row.0.is_some_and(|n| n <= p)),
                    "{}", needle
                );
            }
            // Counted and summed by a field, and by what a link leads to.
            let own = cache.query("SELECT w, count(*), count(s), total(n) FROM t GROUP BY w", ()).unwrap();
            let mut groups: BTreeMap<Option<usize>, (i64, i64, i128)> = BTreeMap::new();
            let mut kinds: BTreeMap<usize, (i64, i64)> = BTreeMap::new();
            for row in model.values() {
                let group = groups.entry(row.1).or_default();
                *group = (group.0 + 1, group.1 + i64::from(row.2.is_some()), group.2 + i128::from(row.0.unwrap_or(0)));
                if let Some(kind) = row.4.filter(|kind| *kind < 3) {
                    let group = kinds.entry(kind).or_default();
                    *group = (group.0 + 1, group.1 + kind as i64 * 10);
                }
            }
            let found: Vec<(i64, i64, Value)> = own.read().unwrap().rows()
                .map(|row| (row.values()[1].as_int().unwrap(), row.values()[2].as_int().unwrap(), row.values()[3].clone())).collect();
            prop_assert_eq!(found, groups.values().map(|group| (group.0, group.1, Value::Float(group.2 as f64))).collect::<Vec<_>>());
            // The same in many groups, of which a few rows in one piece of memory meet the first only.
            let many = cache.query("SELECT id % 50, count(*), count(s), total(n) FROM t GROUP BY 1 ORDER BY 1", ()).unwrap();
            let mut groups: BTreeMap<i64, (i64, i64, i128)> = BTreeMap::new();
            for (id, row) in &model {
                let group = groups.entry(id % 50).or_default();
                *group = (group.0 + 1, group.1 + i64::from(row.2.is_some()), group.2 + i128::from(row.0.unwrap_or(0)));
            }
            let expected = groups.into_iter().map(|(of, (rows, texts, sum))| {
                vec![Value::Int(of), Value::Int(rows), Value::Int(texts), Value::Float(sum as f64)]
            });
            let found: Vec<Vec<Value>> = many.read().unwrap().rows().map(|row| row.values().to_vec()).collect();
            prop_assert_eq!(found, expected.collect::<Vec<_>>());
            let joined = cache.query(
                "SELECT k.name, count(k.m), sum(k.m), count(DISTINCT k.m) FROM t JOIN kind AS k ON k.name = t.k GROUP BY k.name", ()
            ).unwrap();
            let found: BTreeMap<String, Vec<i64>> = joined.read().unwrap().rows().map(|row| {
                (row.values()[0].to_string(), row.values()[1..].iter().map(|value| value.as_int().unwrap()).collect())
            }).collect();
            let reported = kinds.iter().map(|(kind_no, (count, sum))| (kind(*kind_no).to_string(), vec![*count, *sum, 1]));
            prop_assert_eq!(found, reported.collect::<BTreeMap<_, _>>());
        }
    }
}
