//! A program that commits at full speed is killed, again and again: each time its file opens at a
//! commit boundary no older than the last flush that returned, with just the rows of that commit.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use backwater::{Cache, Schema, SqliteFile};

const SCHEMA: &str = r#"
    table.item = { id = "id", fields = { id = "int", n = "int", text = "text" } }
    table.board = { one_row = true, fields = { count = "int" } }
"#;
const CHILD: &str = "BACKWATER_KILLED_CHILD";

/// What the commit with this number does, to a cache or to the model: which rows are put, and which
/// are deleted.
fn commit(count: i64) -> (Vec<(i64, String)>, Vec<i64>) {
    let id = count * 7919 % 60;
    let long = if count % 9 == 0 { "long ".repeat(400) } else { String::new() };
    let puts = vec![(id, format!("{long}{count}")), ((id + 31) % 60, format!("and {count}"))];
    let deletes = if count % 5 == 0 { vec![count * 31 % 60] } else { Vec::new() };
    (puts, deletes)
}

/// Commits until it is killed, and prints after each flush how far it was.
fn child(path: &Path) {
    let schema = Schema::parse("s.toml", SCHEMA).unwrap();
    let cache = Cache::open_with(schema, SqliteFile::new(path)).unwrap();
    let known = cache.snapshot().only("board").unwrap().get("count").unwrap();
    let first = known.and_then(|count| count.as_int()).unwrap_or(0) + 1;
    let mut out = std::io::stdout().lock();
    for count in first.. {
        let (puts, deletes) = commit(count);
        cache
            .commit("one more", |tx| {
                tx.set("board", [("count", count)])?;
                for (id, text) in puts {
                    tx.merge("item", (("id", id), ("n", count), ("text", text)))?;
                }
                deletes.into_iter().try_for_each(|id| tx.delete("item", id).map(drop))
            })
            .unwrap();
        if count % 17 == 0 {
            cache.flush().unwrap();
            writeln!(out, "flushed {count}").unwrap();
            out.flush().unwrap();
        }
    }
}

/// `BACKWATER_KILLS=5000` makes it a long run.
fn kills() -> u64 {
    std::env::var("BACKWATER_KILLS").ok().and_then(|kills| kills.parse().ok()).unwrap_or(200)
}

#[test]
fn the_file_opens_at_a_commit_no_older_than_the_last_flush() {
    if let Some(path) = std::env::var_os(CHILD) {
        return child(Path::new(&path));
    }
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("killed.db");
    let mut model: BTreeMap<i64, (i64, String)> = BTreeMap::new();
    let (mut done, mut half_written, mut beyond) = (0, 0, 0);
    for kill in 0..kills() {
        let mut process = Command::new(std::env::current_exe().unwrap())
            .args([
                "--exact",
                "the_file_opens_at_a_commit_no_older_than_the_last_flush",
                "--nocapture",
            ])
            .env(CHILD, &path)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(process.stdout.take().unwrap()).lines();
        let flushed = std::thread::spawn(move || {
            let mut flushed = 0;
            while let Some(Ok(line)) = lines.next() {
                // The last line may have been cut off.
                let reported = line.rsplit("flushed ").next().and_then(|count| count.parse().ok());
                flushed =
                    if line.contains("flushed ") { reported.unwrap_or(flushed) } else { flushed };
            }
            flushed
        });
        std::thread::sleep(Duration::from_micros(4_000 + kill * 7919 % 37_000));
        process.kill().unwrap();
        process.wait().unwrap();
        let flushed: i64 = flushed.join().unwrap();
        half_written +=
            u64::from(std::fs::metadata(folder.path().join("killed.db-journal")).is_ok());
        if !path.exists() {
            assert_eq!(flushed, 0);
            continue;
        }
        let Ok(cache) = Cache::open(SqliteFile::new(&path)) else {
            // Killed before the first write was whole.
            assert_eq!((flushed, done), (0, 0));
            std::fs::remove_file(&path).unwrap();
            continue;
        };
        let snapshot = cache.snapshot();
        let count = snapshot.only("board").unwrap().get("count").unwrap();
        let count = count.and_then(|count| count.as_int()).unwrap_or(0);
        assert!(count >= flushed && count >= done, "{count} is older than {flushed} or {done}");
        beyond += u64::from(count > flushed.max(done));
        for commit_number in done + 1..=count {
            let (puts, deletes) = commit(commit_number);
            model.extend(puts.into_iter().map(|(id, text)| (id, (commit_number, text))));
            deletes.iter().for_each(|id| drop(model.remove(id)));
        }
        done = count;
        let rows: BTreeMap<i64, (i64, String)> = snapshot
            .rows("item")
            .unwrap()
            .map(|row| {
                let int = |field: &str| row.get(field).unwrap().unwrap().as_int().unwrap();
                let text = row.get("text").unwrap().unwrap().as_str().unwrap().to_owned();
                (int("id"), (int("n"), text))
            })
            .collect();
        assert_eq!(rows, model, "after commit {count}");
    }
    println!(
        "{} kills, {done} commits, {half_written} in the middle of a write, {beyond} beyond the last flush",
        kills()
    );
    assert!(
        done > 0 && half_written > 0,
        "the kills hit nothing: {done} commits, {half_written} writes"
    );
}
