//! A commit is withdrawn field by field: the cache is as if it had never been made, whatever others
//! wrote since and in whatever order that happens. And a cache that is cleared is as it began, in
//! the file too.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;

use backwater::{Cache, Report, Request, Schema, SqliteFile, Transaction, Value, error::Result};
use proptest::prelude::*;

const SCHEMA: &str = r#"
    [table.port]
    id = "code"
    fields = { code = "text", name = "text", size = "int" }
    [table.sailing]
    id = "id"
    tombstone = "deleted"
    [table.sailing.fields]
    id = "int"
    from = { to = "port", on_delete = "set null" }
    stops = { to_many = "port", on_delete = "cascade", record = "/port", fields = { berth = "int" } }
    about = { to = ["port", "sailing"] }
    status = "text"
    delay = "int"
    [table.booking]
    id = ["sailing", "number"]
    [table.booking.fields]
    sailing = { to = "sailing", on_delete = "cascade" }
    number = "int"
    cars = "int"
    [response.sailings]
    table = "sailing"
    records = ""
    [response.cancelled]
    table = "sailing"
    method = "DELETE"
    url = "/sailings/{id}"
    fields = { id = ":id" }
    deletes = true
    [table.elsewhere]
    one_row = true
    fields = { many = "int" }
    [table.board]
    one_row = true
    fields = { search = "text", port = { to = "port" } }
"#;

/// A table that is declared while commits are made and withdrawn.
const LATER: &str = r#"
    [table.note]
    id = "id"
    [table.note.fields]
    id = "int"
    sailing = { to = "sailing", on_delete = "cascade" }
    ports = { to_many = "port" }
    text = "text"
"#;

const PORTS: [&str; 3] = ["SAL", "EEL", "NOR"];

/// One write, made from numbers so that it shrinks.
type Write = (u8, u8, u8, u8);

fn write(tx: &mut Transaction, (what, which, field, value): Write) -> Result<()> {
    let port = PORTS[usize::from(which) % 3];
    let other = PORTS[usize::from(value) % 3];
    let sailing = i64::from(which % 3);
    let number = Value::from(i64::from(value % 4));
    match what % 11 {
        0 => tx.merge(
            "port",
            [
                ("code", port.into()),
                (
                    ["name", "size"][usize::from(field) % 2],
                    match field % 2 {
                        0 => Value::from(format!("name {value}")),
                        _ => number,
                    },
                ),
            ],
        ),
        1 => tx.merge("sailing", [("id", Value::from(sailing)), ("from", other.into())]),
        2 => tx.merge(
            "sailing",
            [
                ("id", Value::from(sailing)),
                (
                    ["delay", "status"][usize::from(field) % 2],
                    match field % 2 {
                        0 => number,
                        _ => Value::from(format!("status {value}")),
                    },
                ),
            ],
        ),
        3 => tx.merge(
            "booking",
            [
                ("sailing", Value::from(sailing)),
                ("number", Value::from(i64::from(field % 2))),
                ("cars", number),
            ],
        ),
        4 if field % 2 == 0 => tx.delete("sailing", sailing).map(drop),
        4 => {
            let request = Request::new("DELETE", format!("/sailings/{sailing}"));
            tx.ingest(request, "").map(drop)
        }
        5 => tx.delete("port", port).map(drop),
        6 => {
            tx.merge("sailing", [("id", sailing)])?;
            let stops = PORTS.iter().cycle().skip(value.into()).take(usize::from(field) % 4);
            let berth = |number: u8| [("berth", i64::from((value ^ number) % 5))];
            tx.set_entries("sailing", sailing, "stops", stops.copied().zip((0..).map(berth)))
        }
        7 => {
            let (table, id) =
                if field % 2 == 0 { ("port", Value::from(other)) } else { ("sailing", number) };
            tx.merge(
                "sailing",
                [("id", Value::from(sailing)), ("about", id), ("about_type", table.into())],
            )
        }
        9 => {
            let note = [("id", number), ("sailing", sailing.into()), ("text", other.into())];
            tx.merge("note", note)?;
            let ports = PORTS.iter().take(usize::from(field) % 4);
            tx.set_links("note", i64::from(value % 4), "ports", ports.copied())
        }
        10 => {
            let port = format!(r#"{{"code":"{port}","name":"what many responses say"}}"#);
            let mut sailings = format!(r#"{{"id":{sailing},"delay":{},"from":{port}}}"#, value % 4);
            if is_twice(field) {
                // The same row twice in one response, or once more as one that is gone.
                let gone = if value % 2 == 0 { r#","deleted":true"# } else { "" };
                let number = field / 4 % 3;
                sailings += &format!(r#",{{"id":{number}{gone},"from":{port}}}"#);
            }
            tx.ingest("sailings", format!("[{sailings}]"))?;
            Ok(())
        }
        _ => tx.set("board", [("search", Value::from(format!("{value}"))), ("port", other.into())]),
    }
}

fn deletes((what, _, field, value): Write) -> bool {
    match what % 11 {
        4 | 5 => true,
        10 => is_twice(field) && value % 2 == 0,
        _ => false,
    }
}

/// Whether a response holds a second sailing.
fn is_twice(field: u8) -> bool {
    field % 4 == 3
}

fn commit(cache: &Cache, writes: &[Write]) -> Report {
    let writes = writes_that_fit(cache, writes);
    cache.commit("written", |tx| writes.iter().try_for_each(|of| write(tx, *of))).unwrap().report
}

/// Those to tables that are declared.
fn writes_that_fit(cache: &Cache, writes: &[Write]) -> Vec<Write> {
    let has_notes = cache.snapshot().count("note").is_ok();
    writes.iter().copied().filter(|(what, ..)| has_notes || what % 11 != 9).collect()
}

/// All fields of all rows.
fn image(cache: &Cache) -> BTreeMap<(String, String), BTreeMap<String, String>> {
    let snapshot = cache.snapshot();
    let mut out = BTreeMap::new();
    let mut tables = vec!["port", "sailing", "booking", "sailing_stops", "board"];
    if snapshot.count("note").is_ok() {
        tables.extend(["note", "note_ports"]);
    }
    for table in tables {
        for row in snapshot.rows(table).unwrap() {
            let fields = row.fields().map(|(name, value)| (name.to_owned(), format!("{value:?}")));
            let id = row.id().map(|id| id.to_string()).unwrap_or_default();
            out.insert((table.to_owned(), id), fields.collect());
        }
    }
    out
}

fn writes() -> impl Strategy<Value = Vec<Write>> {
    prop::collection::vec(any::<Write>(), 0..8)
}

#[derive(Debug, Clone)]
enum Step {
    Commit(Vec<Write>),
    /// One of the commits made so far, or of those that withdrew one.
    Withdraw(prop::sample::Index),
    Declare,
    /// The program lets go of a report.
    Drop(prop::sample::Index),
    /// So many commits elsewhere that the cache remembers none from before.
    Forget,
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        3 => prop::collection::vec(any::<Write>(), 0..4).prop_map(Step::Commit),
        2 => any::<prop::sample::Index>().prop_map(Step::Withdraw),
        1 => Just(Step::Declare),
    ]
}

fn step_of_long() -> impl Strategy<Value = Step> {
    prop_oneof![
        8 => step(),
        2 => any::<prop::sample::Index>().prop_map(Step::Drop),
        1 => Just(Step::Forget),
    ]
}

/// What a report stands for: a commit by its place, or that such a one was withdrawn or restored.
type Made = (Report, usize, bool);

/// A cache in which only those commits were made that are not withdrawn.
fn replayed(schema: &Schema, commits: &[(Vec<Write>, bool)]) -> Cache {
    let cache = Cache::new(schema.clone());
    for (writes, _) in commits.iter().filter(|(_, is_withdrawn)| !is_withdrawn) {
        commit(&cache, writes);
    }
    cache
}

/// Plays steps beside the model; `is_held` says whether the model holds with these commits, of
/// which those from a place on were made while, or before, another one was withdrawn.
fn play(
    on_delete: bool,
    steps: &[Step],
    is_held: impl Fn(&[(Vec<Write>, bool)], usize) -> bool,
) -> std::result::Result<(), TestCaseError> {
    let text = |text: &str| match on_delete {
        true => text.to_owned(),
        false => {
            text.replace(", on_delete = \"set null\"", "").replace(", on_delete = \"cascade\"", "")
        }
    };
    let mut schema = Schema::parse("test.toml", &text(SCHEMA)).unwrap();
    let cache = Cache::new(schema.clone());
    let (mut made, mut commits): (Vec<Made>, Vec<(Vec<Write>, bool)>) = Default::default();
    let mut first = usize::MAX;
    for step in steps {
        match step {
            Step::Commit(writes) => {
                made.push((commit(&cache, writes), commits.len(), true));
                commits.push((writes_that_fit(&cache, writes), false));
            }
            Step::Declare if cache.snapshot().count("note").is_err() => {
                cache.declare("notes", |schema| schema.text("later", text(LATER))).unwrap();
                schema = cache.schema();
            }
            Step::Withdraw(which) if !made.is_empty() => {
                let (report, of, withdraws) = which.get(&made).clone();
                let withdrawal = cache.withdraw("withdrawn", &report).unwrap();
                if commits[of].1 != withdraws {
                    made.push((withdrawal, of, !withdraws));
                } else {
                    prop_assert_eq!(withdrawal.changes().count(), 0, "once is enough");
                }
                commits[of].1 = withdraws;
                first = first.min(of);
            }
            Step::Drop(which) if !made.is_empty() => {
                made.swap_remove(which.index(made.len()));
            }
            Step::Forget => (0..1100).for_each(|many| {
                cache.commit("elsewhere", |tx| tx.set("elsewhere", [("many", many)])).unwrap();
            }),
            Step::Withdraw(_) | Step::Declare | Step::Drop(_) => continue,
        }
        if is_held(&commits, first) {
            prop_assert_eq!(image(&cache), image(&replayed(&schema, &commits)), "{:?}", step);
        }
    }
    Ok(())
}

fn cases() -> u32 {
    std::env::var("BACKWATER_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(400)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), max_shrink_iters: 50_000, failure_persistence: None, ..ProptestConfig::default() })]

    /// In any order, and as often as one likes: it is as if they had never been made.
    #[test]
    fn what_is_withdrawn_was_never_made(steps in prop::collection::vec(step(), 1..14)) {
        play(false, &steps, |_, _| true)?;
    }

    /// The same where deletes take others along, as far as these deletes are withdrawn themselves:
    /// what a delete that stands took along was written by it.
    #[test]
    fn what_went_along_comes_back(steps in prop::collection::vec(step(), 1..14)) {
        let deletes = |writes: &[Write]| writes.iter().any(|of| deletes(*of));
        play(true, &steps, |commits, first| {
            let mut since = commits.iter().skip(first);
            !since.any(|(writes, is_withdrawn)| !is_withdrawn && deletes(writes))
        })?;
    }

    #[test]
    fn at_once_nothing_of_it_is_left(first in prop::collection::vec(any::<Write>(), 0..20), shown in writes()) {
        let cache = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
        commit(&cache, &first);
        let before = image(&cache);
        let report = commit(&cache, &shown);
        let taken = cache.withdraw("withdrawn", &report).unwrap();
        prop_assert_eq!(image(&cache), before);
        // Once more there is nothing left to take back.
        prop_assert_eq!(taken.changes().count(), report.changes().count());
        prop_assert_eq!(cache.withdraw("once more", &report).unwrap().changes().count(), 0);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases() / 8, max_shrink_iters: 2_000, failure_persistence: None, ..ProptestConfig::default() })]

    /// The same where the cache has forgotten the commits, and the program some of their reports.
    #[test]
    fn what_is_forgotten_is_withdrawn_too(steps in prop::collection::vec(step_of_long(), 1..24)) {
        play(false, &steps, |_, _| true)?;
    }
}

/// A commit is withdrawn long after the cache has forgotten what was written meanwhile, and what it
/// wrote too.
#[test]
fn what_was_written_long_after_is_known() {
    let cache = Cache::builder()
        .schema(Schema::parse("test.toml", SCHEMA).unwrap())
        .remember_commits(4)
        .build()
        .unwrap();
    let delay = |id: i64, delay: i64| {
        cache.commit("written", |tx| tx.merge("sailing", [("id", id), ("delay", delay)])).unwrap()
    };
    let read = |id: i64| {
        let snapshot = cache.snapshot();
        let row = snapshot.get("sailing", id).unwrap();
        row.and_then(|row| row.get("delay").unwrap()).and_then(|delay| delay.as_int())
    };
    delay(1, 10);
    delay(2, 20);
    let (first, second, third) = (delay(1, 11), delay(1, 12), delay(2, 21));
    for id in 0..3000 {
        delay(100 + id, id);
    }
    cache.withdraw("refused", &first).unwrap();
    assert_eq!(read(1), Some(12), "the second stands over it");
    cache.withdraw("refused", &second).unwrap();
    assert_eq!(read(1), Some(10));
    // The server says what the edit said.
    delay(2, 21);
    cache.withdraw("refused", &third).unwrap();
    assert_eq!(read(2), Some(21));
}

#[test]
fn cleared_is_empty_in_memory_and_in_the_file() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("cache.db");
    let cache =
        Cache::open_with(Schema::parse("test.toml", SCHEMA).unwrap(), SqliteFile::new(&file))
            .unwrap();
    let count = cache.query("SELECT count(*) FROM port", ()).unwrap();
    commit(&cache, &[(0, 0, 0, 1), (6, 1, 3, 1), (3, 1, 1, 2), (8, 0, 0, 7), (7, 1, 0, 0)]);
    let began = image(&Cache::new(Schema::parse("test.toml", SCHEMA).unwrap()));
    let report = cache.clear("signed out").unwrap();
    assert!(report.changes().count() >= 5);
    assert_eq!(image(&cache), began);
    assert_eq!(count.read().unwrap().row(0).unwrap().values(), [Value::Int(0)]);
    drop((cache, count));
    assert_eq!(image(&Cache::open(SqliteFile::new(&file)).unwrap()), began);
}

/// A link that a withdrawal lets through to a row that is gone is null, as the delete would have
/// had it; and is there again once the delete is withdrawn, too, unless others have written it.
#[test]
fn what_a_delete_would_have_taken_along_comes_back_with_it() {
    let (sailing, none) = (
        |cache: &Cache| {
            let snapshot = cache.snapshot();
            let row = snapshot.get("sailing", 2).unwrap().unwrap();
            let from = row.get("from").unwrap();
            (from.map(|from| from.to_string()), snapshot.rows("sailing_stops").unwrap().count())
        },
        Some("NULL".to_owned()),
    );
    for way in 0..4 {
        let cache = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
        let from = |port: &'static str| {
            cache
                .commit("written", |tx| {
                    tx.merge("sailing", [("id", Value::from(2)), ("from", port.into())])?;
                    tx.set_links("sailing", 2, "stops", [port])
                })
                .unwrap()
        };
        cache
            .commit("opened", |tx| {
                PORTS.iter().try_for_each(|port| tx.insert("port", [("code", *port)]))
            })
            .unwrap();
        from("SAL");
        let second = from("NOR");
        let deleted = cache.commit("closed", |tx| tx.delete("port", "SAL")).unwrap();
        let withdrawal = cache.withdraw("refused", &second).unwrap();
        assert_eq!(sailing(&cache), (none.clone(), 0), "{:?}", image(&cache));
        match way {
            // Restored, what it wrote stays.
            0 => drop(cache.withdraw("restored", &withdrawal).unwrap()),
            1 => drop(from("EEL")),
            // Long forgotten.
            2 => (0..1100).for_each(|many| {
                cache.commit("elsewhere", |tx| tx.set("elsewhere", [("many", many)])).unwrap();
            }),
            _ => {}
        }
        let reopened = cache.withdraw("not closed", &deleted).unwrap();
        let expected = ["NOR", "EEL", "SAL", "SAL"][way];
        assert_eq!(sailing(&cache), (Some(expected.to_owned()), 1), "way {way}");
        cache.withdraw("closed after all", &reopened).unwrap();
        let expected = [Some("NOR"), Some("EEL"), None, None][way];
        let expected = expected.map_or((none.clone(), 0), |port| (Some(port.to_owned()), 1));
        assert_eq!(sailing(&cache), expected, "way {way}");
    }
}

/// A row is inserted and deleted once more by one commit, and deleted by the next: when what had
/// inserted it first is restored, each of the two keeps it away.
#[test]
fn a_second_deletion_holds() {
    let cache = Cache::new(Schema::parse("test.toml", SCHEMA).unwrap());
    let (shown, deletes) = ((10, 0, 0, 0), (5, 0, 0, 0));
    let first = commit(&cache, &[shown]);
    let withdrawn = cache.withdraw("withdrawn", &first).unwrap();
    let second = commit(&cache, &[shown, deletes]);
    let third = commit(&cache, &[deletes]);
    cache.withdraw("restored", &withdrawn).unwrap();
    cache.withdraw("withdrawn", &second).unwrap();
    assert_eq!(cache.snapshot().count("port").unwrap(), 0);
    cache.withdraw("withdrawn", &third).unwrap();
    assert_eq!(cache.snapshot().count("port").unwrap(), 1);
}
