//! A program that edits rows of a real server, which fails on purpose, and listens to what it pushes
//! is killed again and again: what was flushed arrives, once, and in order, and what others do is not
//! missed.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use backwater::remote::{Listening, Remote};
use backwater::{Cache, Schema, SqliteFile, SystemClock, Value};
use backwater_http::HttpTransport;
use backwater_serve::{Answers, Faults, Ferries, start};

const SCHEMA: &str = include_str!("../../../demo/backwater.toml");
const CHILD: &str = "BACKWATER_KILLED_WHILE_SENDING";
const NAME: &str = "what_was_flushed_arrives_once_and_in_order";

fn open(path: &Path, url: &str) -> (Cache, Remote, Listening) {
    let schema = Schema::parse("backwater.toml", SCHEMA).unwrap();
    let cache = Cache::open_with(schema, SqliteFile::new(path)).unwrap();
    let transport = HttpTransport::builder().build().unwrap();
    let remote = Remote::builder(&cache).base(url).transport(transport).clock(SystemClock::new());
    let remote = remote.back_off(Duration::from_millis(1), Duration::from_millis(20));
    let remote = remote.build().unwrap();
    let listening = remote.listen("changes", ()).unwrap();
    (cache, remote, listening)
}

fn sailing(number: i64) -> i64 {
    300 + number % 7
}

/// Grows with the edits of one sailing, and is one that the server accepts: at most a day.
fn delay(number: i64) -> i64 {
    assert!(number / 7 <= 1_440, "too many edits: {number}");
    number / 7
}

/// Edits until it is killed, and says what it has made, and up to which edit that is flushed.
fn child(path: &Path, url: &str, first: i64) {
    let (cache, remote, _listening) = open(path, url);
    let mut out = std::io::stdout().lock();
    for number in first.. {
        let sailing = sailing(number);
        // As much of the row as is needed, whether or not the server was asked for it.
        let known = [("id", sailing)];
        cache.commit("a sailing is known", |tx| tx.merge("sailing", known)).unwrap();
        remote
            .send("report", "delay", |tx| {
                tx.update("sailing", sailing, [("delay_min", delay(number))])
            })
            .unwrap();
        let booking = [
            ("sailing", Value::from(sailing)),
            ("party", format!("party {number}").into()),
            ("cars", 1.into()),
        ];
        remote.send("book", "booked", |tx| tx.insert_local("booking", booking).map(drop)).unwrap();
        writeln!(out, "made {number} ").unwrap();
        if number % 3 == 0 {
            cache.flush().unwrap();
            writeln!(out, "flushed {number} ").unwrap();
        }
        out.flush().unwrap();
    }
}

/// A row that only others write to.
fn theirs(number: u64) -> u64 {
    310 + number % 7
}

/// Somebody else writes to a row; gives the number of the event.
fn note(ferries: &Ferries, sailing: u64, note: &str) -> u64 {
    let request = http::Request::builder().method("PATCH").uri(format!("/sailings/{sailing}"));
    let body = format!(r#"{{ "note": "{note}" }}"#).into_bytes();
    ferries.answer(&request.body(body).unwrap());
    ferries.events().0
}

fn kills() -> u64 {
    std::env::var("BACKWATER_KILLS").ok().and_then(|kills| kills.parse().ok()).unwrap_or(20)
}

/// `BACKWATER_KILLS=500` makes it a long run.
#[test]
fn what_was_flushed_arrives_once_and_in_order() {
    if let Some(arguments) = std::env::var_os(CHILD) {
        let arguments = arguments.into_string().unwrap();
        let parts: Vec<&str> = arguments.split('|').collect();
        return child(Path::new(parts[0]), parts[1], parts[2].parse().unwrap());
    }
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("killed.db");
    let ferries = Arc::new(Ferries::new());
    let faults = Faults { fail: 0.1, lose: 0.15, cut: 0.1, seed: 7, ..Faults::default() };
    let server = start(ferries.clone(), faults, 0).unwrap();
    // The last edit of each sailing that was flushed, and all parties that were.
    let (mut last, mut parties) = (BTreeMap::new(), Vec::new());
    // The event of what somebody else wrote last to each row.
    let mut told_by = BTreeMap::new();
    let mut next = 1;
    for kill in 0..kills() {
        let mut process = Command::new(std::env::current_exe().unwrap())
            .args(["--exact", NAME, "--nocapture"])
            .env(CHILD, format!("{}|{}|{next}", path.display(), server.url()))
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let lines = BufReader::new(process.stdout.take().unwrap()).lines();
        let told = std::thread::spawn(move || lines.map_while(Result::ok).collect::<Vec<_>>());
        // Somebody else writes to other rows meanwhile.
        let time = Duration::from_millis(40 + kill * 7919 % 160);
        std::thread::sleep(time / 2);
        told_by.insert(theirs(kill), note(&ferries, theirs(kill), &format!("theirs {kill}")));
        std::thread::sleep(time / 2);
        process.kill().unwrap();
        process.wait().unwrap();
        let told = told.join().unwrap();
        let numbers = |what: &str| -> Vec<i64> {
            let of = told.iter().filter_map(|line| line.rsplit_once(what));
            // The last line may have been cut off.
            of.filter_map(|(_, number)| number.strip_suffix(' ')?.parse().ok()).collect()
        };
        let (made, flushed) = (numbers("made "), numbers("flushed "));
        let until = flushed.last().copied().unwrap_or(0);
        for number in next..=until {
            last.insert(sailing(number), number);
            parties.push(format!("party {number}"));
        }
        next = made.last().copied().unwrap_or(next).max(next) + 2;
    }
    let (cache, remote, _listening) = open(&path, &server.url());
    assert_eq!(remote.wait_until_sent(Duration::from_secs(120)), 0, "{:?}", remote.sends().first());
    let refused = cache.query("SELECT changes FROM backwater_pending", ()).unwrap();
    let refused = refused.read().unwrap();
    let refused: Vec<String> = refused.rows().map(|row| row.values()[0].to_string()).collect();
    let get = |path: String| -> serde_json::Value {
        let request = http::Request::builder().uri(path).body(Vec::new()).unwrap();
        serde_json::from_slice(ferries.answer(&request).body()).unwrap()
    };
    let mut booked: BTreeMap<String, usize> = BTreeMap::new();
    for sailing in 300..307 {
        let bookings = get(format!("/sailings/{sailing}/bookings"));
        for booking in bookings["bookings"].as_array().unwrap() {
            let party = booking["party"].as_str().unwrap();
            // The demo's own have other names.
            if party.starts_with("party ") {
                *booked.entry(party.to_owned()).or_default() += 1;
            }
        }
        let served = get(format!("/sailings/{sailing}"))["delay_min"].as_i64().unwrap();
        let flushed = last.get(&sailing).copied().map_or(0, delay);
        assert!(served >= flushed, "sailing {sailing}: {served} is older than {flushed}");
    }
    // Behind the last event nothing is missing of any row that the feed has ever brought.
    told_by.insert(theirs(0), note(&ferries, theirs(0), "the last"));
    let noted = |sailing: u64| -> Option<String> {
        let snapshot = cache.snapshot();
        let note = snapshot.get("sailing", sailing as i64).unwrap()?.get("note").unwrap()?;
        Some(note.to_string())
    };
    let end = Instant::now() + Duration::from_secs(60);
    while noted(theirs(0)).as_deref() != Some("the last") {
        assert!(Instant::now() < end, "the last event does not come");
        // The first connection of all may have begun behind it.
        if noted(theirs(0)).is_none() {
            note(&ferries, theirs(0), "the last");
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    // The server keeps some hundred events; to who comes later it says that some were missed.
    let missed = ferries.events().1;
    let followed = told_by.iter().filter(|(_, event)| **event > missed);
    for sailing in followed.map(|(sailing, _)| *sailing) {
        let served = get(format!("/sailings/{sailing}"));
        let served = served["note"].as_str().unwrap_or_default();
        assert!(noted(sailing).is_none_or(|note| note == served), "sailing {sailing}: {served}");
    }
    assert!(booked.values().all(|times| *times == 1), "{booked:?}");
    for party in &parties {
        let is_refused = refused.iter().any(|changes| changes.contains(&format!("\"{party}\"")));
        assert!(booked.contains_key(party) != is_refused, "{party}");
    }
    assert!(!parties.is_empty(), "nothing was flushed");
    println!(
        "{} flushed parties, {} booked, {} refused; events {:?}, others' {told_by:?}",
        parties.len(),
        booked.len(),
        refused.len(),
        ferries.events()
    );
}
