//! A program with a subscriber gets commits and outcomes as events; one without pays nothing.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::{Arc, Mutex};

use backwater::{Cache, Schema};
use tracing::field::{Field, Visit};
use tracing::span::{Attributes, Id, Record};
use tracing::{Event, Level, Metadata, Subscriber};

/// Writes events down, up to a level.
#[derive(Clone)]
struct Listener(Level, Arc<Mutex<Vec<String>>>);

impl Subscriber for Listener {
    fn enabled(&self, metadata: &Metadata<'_>) -> bool {
        *metadata.level() <= self.0 && metadata.target().starts_with("backwater")
    }
    fn new_span(&self, _: &Attributes<'_>) -> Id {
        Id::from_u64(1)
    }
    fn record(&self, _: &Id, _: &Record<'_>) {}
    fn record_follows_from(&self, _: &Id, _: &Id) {}
    fn event(&self, event: &Event<'_>) {
        let mut line = Line(event.metadata().level().to_string());
        event.record(&mut line);
        self.1.lock().unwrap().push(line.0);
    }
    fn enter(&self, _: &Id) {}
    fn exit(&self, _: &Id) {}
}

struct Line(String);

impl Visit for Line {
    fn record_debug(&mut self, field: &Field, value: &dyn std::fmt::Debug) {
        self.0 += &format!(" {}={value:?}", field.name());
    }
}

#[test]
fn a_subscriber_hears_of_each_commit_and_of_each_outcome() {
    let schema = "table.t = { id = 'id', fields = { id = 'int', n = 'int' } }";
    let cache = Cache::new(Schema::parse("s.toml", schema).unwrap());
    let all = cache.query("SELECT count(*) FROM t", ()).unwrap();
    let _kept = all.keep_current();
    let heard = |level: Level, id: i64| {
        let listener = Listener(level, Arc::default());
        tracing::subscriber::with_default(listener.clone(), || {
            cache.commit("one came", |tx| tx.insert("t", [("id", id)])).unwrap();
        });
        listener.1.lock().unwrap().clone()
    };
    let commit = |number: u64| {
        format!("DEBUG message=commit commit={number} label=\"one came\" rows=1 queries=1")
    };
    assert_eq!(
        heard(Level::TRACE, 1),
        [
            commit(1),
            "TRACE message=maintained: 1 row changed, because t 1 was inserted commit=1 \
             query=\"SELECT count(*) FROM t\" outcome=\"maintained\""
                .to_owned(),
        ]
    );
    assert_eq!(heard(Level::DEBUG, 2), [commit(2)]);
    assert_eq!(heard(Level::INFO, 3), [""; 0]);
}
