//! A stream of deltas leads from where it began to where the query is, however seldom it is polled.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::pin::pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::task::{Context, Poll, Wake, Waker};

use backwater::{Cache, Delta, QueryResult, Schema, Value};
use futures_core::Stream;
use proptest::prelude::*;

#[derive(Default)]
struct Woken(AtomicUsize);

impl Wake for Woken {
    fn wake(self: Arc<Self>) {
        self.0.fetch_add(1, Ordering::Relaxed);
    }
}

fn rows(result: &QueryResult) -> Vec<Vec<Value>> {
    result.rows().map(|row| row.values().to_vec()).collect()
}

fn statements() -> impl Strategy<Value = &'static str> {
    prop::sample::select(vec![
        "SELECT id, n FROM t ORDER BY n",
        "SELECT id, n FROM t ORDER BY n DESC LIMIT 3",
        "SELECT g, count(*) AS rows, sum(n) AS n FROM t GROUP BY g",
        "SELECT t.id, other.n FROM t LEFT JOIN t AS other ON other.id = t.n ORDER BY other.n DESC",
    ])
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn old_and_merged_delta_are_new(
        sql in statements(),
        commits in prop::collection::vec((0..6_i64, prop_oneof![5 => 0..5_i64, 1 => Just(i64::MAX)], 0..3_i64, 0..5_u8, any::<bool>()), 1..40),
    ) {
        let schema = "table.t = { id = 'id', fields = { id = 'int', n = 'int', g = 'int' } }";
        let cache = Cache::new(Schema::parse("test.toml", schema).unwrap());
        let query = cache.query(sql, ()).unwrap();
        let (start, stream) = cache.deltas(&query).unwrap();
        let (mut stream, mut shown) = (pin!(stream), rows(&start));
        let woken = Arc::new(Woken::default());
        let waker = Waker::from(woken.clone());
        let mut context = Context::from_waker(&waker);
        let apply = |delta: &Delta, shown: &mut Vec<Vec<Value>>| {
            prop_assert_eq!(&rows(delta.before()), &*shown);
            delta.apply(shown).unwrap();
            prop_assert_eq!(&rows(delta.after()), &*shown);
            Ok(())
        };
        for (id, n, g, what, polls) in commits {
            cache.commit("written", |tx| match what {
                0 => tx.delete("t", id).map(drop),
                _ => tx.merge("t", [("id", id), ("n", n), ("g", g)]),
            }).unwrap();
            if polls {
                while let Poll::Ready(delta) = stream.as_mut().poll_next(&mut context) {
                    match delta.unwrap() {
                        Ok(delta) => apply(&delta, &mut shown)?,
                        // A sum beyond 64 bits; what is shown stays until it can be computed again.
                        Err(_) => prop_assert!(query.read().is_err()),
                    }
                }
                if let Ok(result) = query.read() {
                    prop_assert_eq!(&shown, &rows(&result));
                }
            }
        }
        cache.commit("small again", |tx| (0..6).try_for_each(|id| tx.merge("t", [("id", id), ("n", 0)]))).unwrap();
        let before = woken.0.load(Ordering::Relaxed);
        while let Poll::Ready(delta) = stream.as_mut().poll_next(&mut context) {
            apply(&delta.unwrap().unwrap(), &mut shown)?;
        }
        prop_assert_eq!(&shown, &rows(&query.read().unwrap()));
        // A waiting task is woken by the next delta, once.
        cache.commit("one more", |tx| tx.merge("t", [("id", 77), ("n", 99), ("g", 99)])).unwrap();
        cache.commit("and another", |tx| tx.merge("t", [("id", 78), ("n", 99), ("g", 98)])).unwrap();
        prop_assert_eq!(woken.0.load(Ordering::Relaxed), before + 1);
    }
}
