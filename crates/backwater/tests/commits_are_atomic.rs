//! A commit is applied whole or not at all, and no reader ever sees half of one.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;

use backwater::{Cache, ErrorKind, Outcome, Schema, Value, report::ChangeKind};

fn cache() -> Cache {
    let schema = r#"
        table.account = { id = "id", fields = { id = "int", cents = "int", note = "text", bank = { to = "bank" } } }
        table.bank = { id = "name", fields = { name = "text" } }
        table.log = { id = "id", fields = { id = "int", text = "text" } }
    "#;
    let cache = Cache::new(Schema::parse("test.toml", schema).unwrap());
    let open = cache.commit("accounts opened", |tx| {
        (0..10_i64).try_for_each(|id| tx.insert("account", [("id", id), ("cents", 100)]))
    });
    assert_eq!(open.unwrap().changes().count(), 10);
    cache
}

#[test]
fn an_error_or_a_panic_leaves_nothing_behind() {
    let cache = cache();
    let total = cache.query("SELECT sum(cents) AS cents, count(*) AS n FROM account", ()).unwrap();
    let _watch = total.keep_current();
    let before = total.read().unwrap();
    let failed = cache.commit("half", |tx| {
        tx.update("account", 1, [("cents", 0)])?;
        tx.delete("account", 2)?;
        tx.insert("account", [("id", 3)])
    });
    assert_eq!(failed.unwrap_err().kind(), ErrorKind::Row);
    let panicked = catch_unwind(AssertUnwindSafe(|| {
        cache.commit("panics", |tx| -> Result<(), backwater::Error> {
            tx.delete("account", 2)?;
            panic!("in the closure")
        })
    }));
    assert!(panicked.is_err());
    assert!(total.read().unwrap().is_same(&before));
    assert_eq!(cache.snapshot().commit(), 1);
    // And the cache goes on.
    let report = cache.commit("goes on", |tx| tx.update("account", 1, [("cents", 50)])).unwrap();
    assert_eq!((report.number(), report.outcome(&total)), (2, Outcome::Maintained));
}

#[test]
fn a_commit_inside_of_a_commit_is_an_error_and_no_deadlock() {
    let cache = cache();
    let inner = cache.clone();
    let report = cache.commit("outer", |tx| {
        assert_eq!(inner.commit("inner", |_| Ok(())).unwrap_err().kind(), ErrorKind::Nested);
        assert_eq!(
            inner.query("SELECT id FROM account", ()).unwrap_err().kind(),
            ErrorKind::Nested
        );
        assert_eq!(inner.snapshot().count("account")?, 10, "readers go on");
        tx.delete("account", 1)
    });
    assert_eq!(report.unwrap().changes().count(), 1);
}

/// Writers move money between accounts; no reader ever finds a sum that is not the whole.
#[test]
fn readers_never_see_half_a_commit() {
    let cache = cache();
    let total = cache.query("SELECT sum(cents) AS cents FROM account", ()).unwrap();
    let done = AtomicBool::new(false);
    thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while !done.load(Ordering::Relaxed) {
                    assert_eq!(total.read().unwrap().row(0).unwrap().values(), [Value::Int(1000)]);
                    let snapshot = cache.snapshot();
                    let cents = snapshot
                        .rows("account")
                        .unwrap()
                        .map(|row| row.get("cents").unwrap().unwrap());
                    assert_eq!(cents.map(|cents| cents.as_int().unwrap()).sum::<i64>(), 1000);
                }
            });
        }
        for turn in 0..400_i64 {
            let (from, to) = (turn % 10, (turn * 7 + 3) % 10);
            let moved = cache.commit("money moved", |tx| {
                for (account, cents) in [(from, -turn), (to, turn)] {
                    let has = tx.get("account", account)?.and_then(|row| row.get("cents").ok()?);
                    tx.update(
                        "account",
                        account,
                        [("cents", has.and_then(|v| v.as_int()).unwrap_or(0) + cents)],
                    )?;
                }
                Ok(())
            });
            moved.unwrap();
        }
        done.store(true, Ordering::Relaxed);
    });
}

/// Only what is different in the end is a change, whatever happened on the way.
#[test]
fn changes_are_net() {
    let cache = cache();
    let report = cache.commit("there and back", |tx| {
        tx.update("account", 1, [("cents", 7)])?;
        tx.update("account", 1, [("cents", 100)])?;
        tx.delete("account", 2)?;
        tx.insert("account", [("id", 2), ("cents", 100)])?;
        tx.delete("account", 3)?;
        tx.merge("account", [("id", Value::from(3)), ("note", "new".into())])?;
        tx.insert("log", [("id", Value::from(1)), ("text", "gone again".into())])?;
        tx.delete("log", 1)?;
        tx.update("account", 4, [("bank", "Tarn Savings")])
    });
    let report = report.unwrap();
    let reported: Vec<String> = report.changes().map(|change| change.to_string()).collect();
    assert_eq!(
        reported,
        [
            "account 3: cents 100 -> absent, note absent -> new",
            "account 4: bank absent -> Tarn Savings"
        ]
    );
    assert!(report.changes().all(|change| change.kind() == ChangeKind::Updated));
}

/// Rows come and go by the thousand, and their places are used again.
#[test]
fn places_of_deleted_rows_are_used_again() {
    let cache = cache();
    let texts = cache.query("SELECT id, text FROM log ORDER BY text DESC", ()).unwrap();
    let _watch = texts.keep_current();
    for round in 0..5_i64 {
        let write = cache.commit("log written", |tx| {
            (0..1000).try_for_each(|n| {
                let id = round * 1000 + n;
                tx.insert(
                    "log",
                    [("id", Value::from(id)), ("text", format!("entry {id:05}").into())],
                )
            })
        });
        assert_eq!(write.unwrap().delta(&texts).unwrap().rows().count(), 1000);
        assert_eq!(
            texts.read().unwrap().row(0).unwrap().values()[0],
            Value::Int(round * 1000 + 999)
        );
        let clear = cache.commit("log cleared", |tx| {
            (0..1000).try_for_each(|n| tx.delete("log", round * 1000 + n).map(|_| ()))
        });
        assert_eq!(clear.unwrap().changes().count(), 1000);
        assert!(texts.read().unwrap().is_empty());
    }
}
