//! Derived values give what their functions give now, and run exactly when the rule says: when one
//! of the last run's reads, checked in their order, gives something else; of all rows of a table,
//! when a commit has changed them. A slow tracker keeps what each read gave, whole, and says so.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use backwater::{
    Cache, Derived, ErrorKind, Found, Link, Links, OneOf, Query, Report, Schema, Table,
    derived::Reader, error::Result, report::ChangeKind,
};
use proptest::prelude::*;

#[derive(Debug, Clone, PartialEq, Table)]
struct Port {
    #[table(id)]
    code: i64,
    name: Option<i64>,
}

#[derive(Debug, Clone, PartialEq, OneOf)]
enum About {
    Port(Link<Port>),
    Sailing(Link<Sailing>),
}

/// The same with the rows nested.
#[derive(Debug, PartialEq, OneOf)]
enum Shown {
    Port(Found<Name>),
    Sailing(Found<Delay>),
}

#[derive(Debug, Clone, PartialEq, Table)]
struct Sailing {
    #[table(id)]
    id: i64,
    from: Link<Port>,
    delay: i64,
    note: i64,
    stops: Links<Port>,
    about: Option<About>,
    also: Vec<About>,
}

#[derive(Debug, PartialEq, Table)]
#[table(of = Sailing)]
struct Delay {
    delay: i64,
}

#[derive(Debug, PartialEq, Table)]
#[table(of = Sailing)]
struct Stops {
    stops: Links<Port>,
}

#[derive(Debug, PartialEq, Table)]
#[table(of = Port)]
struct Name {
    name: Option<i64>,
}

/// A sailing with its ports nested in it, and the same with links.
#[derive(Debug, PartialEq, Table)]
#[table(of = Sailing)]
struct Card {
    from: Found<Name>,
    stops: Vec<Found<Name>>,
    about: Option<Shown>,
    also: Vec<Shown>,
}

#[derive(Debug, PartialEq, Table)]
#[table(of = Sailing)]
struct Ports {
    from: Link<Port>,
    stops: Links<Port>,
    about: Option<About>,
    also: Vec<About>,
}

#[derive(Debug, Default, PartialEq, Table)]
#[table(one_row)]
struct Board {
    shown: i64,
    other: i64,
}

/// What one read of a function is. What it gives goes into a number.
#[derive(Debug, Clone)]
enum Step {
    Delay(i64),
    Whole(i64),
    Stops(i64),
    Card(i64),
    Delays,
    Count,
    From(i64),
    About(About),
    Board,
    Late,
    /// Another derived value with a lower number.
    Other(usize),
    /// The next steps are only made if the number so far is odd.
    IfOdd,
    /// The number so far is cut, so that other reads often give an equal value.
    Cut,
}

fn about() -> impl Strategy<Value = About> {
    prop_oneof![
        (0..3_i64).prop_map(|code| About::Port(Link::to(code))),
        (0..4_i64).prop_map(|id| About::Sailing(Link::to(id))),
    ]
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        (0..4_i64).prop_map(Step::Delay),
        (0..4_i64).prop_map(Step::Whole),
        (0..4_i64).prop_map(Step::Stops),
        (0..4_i64).prop_map(Step::Card),
        Just(Step::Delays),
        Just(Step::Count),
        (0..3_i64).prop_map(Step::From),
        about().prop_map(Step::About),
        Just(Step::Board),
        Just(Step::Late),
        (0..8_usize).prop_map(Step::Other),
        Just(Step::IfOdd),
        Just(Step::Cut),
    ]
}

/// A number that differs for most things.
fn reported(of: impl std::fmt::Debug) -> u64 {
    format!("{of:?}").bytes().fold(7, |all, byte| all.wrapping_mul(31).wrapping_add(byte.into()))
}

fn sorted<T: std::fmt::Debug>(rows: impl Iterator<Item = T>) -> Vec<String> {
    let mut rows: Vec<String> = rows.map(|row| format!("{row:?}")).collect();
    rows.sort_unstable();
    rows
}

/// What a read gives in the tables as they are: for functions and for the tracker.
trait World {
    fn give(&self, step: &Step, others: &[Derived<u64>]) -> Result<String>;
}

macro_rules! give {
    ($self:ident, $step:ident, $others:ident, $late:expr, $other:expr) => {{
        let sailings = || $self.table::<Sailing>();
        Ok(match $step {
            Step::Delay(id) => format!("{:?}", $self.table::<Delay>()?.get(*id)),
            Step::Whole(id) => format!("{:?}", sailings()?.get(*id)),
            Step::Stops(id) => format!("{:?}", $self.table::<Stops>()?.get(*id)),
            Step::Card(id) => format!("{:?}", $self.table::<Card>()?.get(*id)),
            Step::Delays => format!("{:?}", sorted($self.table::<Delay>()?.iter())),
            Step::Count => format!("{:?}", sailings()?.len()),
            Step::From(port) => {
                format!("{:?}", sorted($self.table::<Delay>()?.pointing_at(Sailing::FROM, *port)))
            }
            Step::About(about) => {
                format!("{:?}", sorted($self.table::<Delay>()?.pointing_at(Sailing::ABOUT, about)))
            }
            Step::Board => format!("{:?}", $self.table::<Board>()?.only()),
            Step::Late => $late,
            Step::Other(number) => match $others.get(*number) {
                Some(other) => $other(other),
                None => String::new(),
            },
            Step::IfOdd | Step::Cut => String::new(),
        })
    }};
}

struct Asked<'r>(&'r Reader, &'r Query);

impl World for Asked<'_> {
    fn give(&self, step: &Step, others: &[Derived<u64>]) -> Result<String> {
        let read = self.0;
        give!(read, step, others, format!("{:?}", read.query(self.1)?), |other: &Derived<u64>| {
            format!("{:?}", read.derived(other).unwrap())
        })
    }
}

struct Now<'c>(&'c backwater::Snapshot, &'c Query, Stamps, &'c RefCell<Results>);

/// The results that a query had when it was read, each unlike the one before it. One that becomes
/// again what it was is another result, if it was read in between.
#[derive(Default)]
struct Results(Vec<String>);

impl Results {
    fn note(&mut self, given: String) -> usize {
        if self.0.last() != Some(&given) {
            self.0.push(given);
        }
        self.0.len()
    }
}

/// The last commits that changed a delay, and that let sailings come or go.
#[derive(Debug, Clone, Copy, Default)]
struct Stamps {
    delays: u64,
    rows: u64,
}

impl Stamps {
    fn note(&mut self, report: &Report) {
        for change in report.changes().filter(|change| change.table() == "sailing") {
            match change.kind() {
                ChangeKind::Updated
                    if change.fields().iter().any(|field| field.name == "delay") =>
                {
                    self.delays = report.number();
                }
                ChangeKind::Updated => {}
                _ => self.rows = report.number(),
            }
        }
    }
}

impl Now<'_> {
    /// What decides whether a read has changed: the value that it gives, but of all rows of a
    /// table, which commit last changed them.
    fn tell(&self, step: &Step, others: &[Derived<u64>]) -> String {
        match step {
            Step::Delays => format!("{:?}", self.2),
            Step::Count => format!("{:?}", self.2.rows),
            // Another row with the same delay is another row.
            Step::From(_) | Step::About(_) => {
                let rows = self.0.table::<Sailing>().unwrap();
                let rows: Vec<_> = match step {
                    Step::About(about) => rows.pointing_at(Sailing::ABOUT, about).collect(),
                    Step::From(port) => rows.pointing_at(Sailing::FROM, *port).collect(),
                    _ => Vec::new(),
                };
                let rows = rows.into_iter();
                format!("{:?}", sorted(rows.map(|row| row.here().map(|row| (row.id, row.delay)))))
            }
            // Another port of the same name is another row.
            Step::Card(id) => {
                let ports = self.0.table::<Ports>().unwrap().get(*id);
                format!("{ports:?} {}", self.give(step, others).unwrap())
            }
            // Absent is not the value that stands for it.
            Step::Board => format!("{:?}", self.0.only("board").unwrap()),
            Step::Late => self.3.borrow_mut().note(self.give(step, others).unwrap()).to_string(),
            _ => self.give(step, others).unwrap(),
        }
    }
}

impl World for Now<'_> {
    fn give(&self, step: &Step, others: &[Derived<u64>]) -> Result<String> {
        let now = self.0;
        give!(now, step, others, format!("{:?}", self.1.read()?), |other: &Derived<u64>| {
            format!("{:?}", other.get().unwrap())
        })
    }
}

/// Runs a function; notes each read and what it gave.
fn run(
    world: &impl World,
    steps: &[Step],
    others: &[Derived<u64>],
    mut note: impl FnMut(&Step, &str),
) -> Result<u64> {
    let mut number = 1_u64;
    for step in steps {
        match step {
            Step::IfOdd if number.is_multiple_of(2) => break,
            Step::IfOdd => continue,
            Step::Cut => number %= 3,
            _ => {
                let given = world.give(step, others)?;
                note(step, &given);
                number = number.wrapping_mul(31).wrapping_add(reported(given));
            }
        }
    }
    Ok(number)
}

/// The slow tracker of one value: what each read of the last run gave.
#[derive(Default)]
struct Tracked {
    reads: Vec<(Step, String)>,
    runs: u64,
}

#[derive(Debug, Clone)]
enum Write {
    Sailing(i64, i64, i64),
    Note(i64, i64),
    Stops(i64, Vec<i64>),
    About(i64, Option<About>, Vec<About>),
    Delete(i64),
    Port(i64, i64),
    Board(i64),
    Other(i64),
}

fn write() -> impl Strategy<Value = Write> {
    prop_oneof![
        (0..4_i64, 0..3_i64, 0..3_i64)
            .prop_map(|(id, from, delay)| Write::Sailing(id, from, delay)),
        (0..4_i64, 0..3_i64).prop_map(|(id, note)| Write::Note(id, note)),
        (0..4_i64, prop::collection::vec(0..3_i64, 0..3))
            .prop_map(|(id, stops)| Write::Stops(id, stops)),
        (0..4_i64, prop::option::of(about()), prop::collection::vec(about(), 0..3))
            .prop_map(|(id, about, also)| Write::About(id, about, also)),
        (0..4_i64).prop_map(Write::Delete),
        (0..3_i64, 0..3_i64).prop_map(|(code, name)| Write::Port(code, name)),
        (0..3_i64).prop_map(Write::Board),
        (0..3_i64).prop_map(Write::Other),
    ]
}

fn apply(cache: &Cache, writes: &[Write]) -> Report {
    let written = cache.commit("written", |tx| {
        for write in writes {
            match write {
                Write::Sailing(id, from, delay) => {
                    let known = tx.table::<Sailing>()?.get(*id).here();
                    let fresh = Sailing {
                        id: *id,
                        from: Link::to(*from),
                        delay: *delay,
                        note: 0,
                        stops: Links::default(),
                        about: None,
                        also: Vec::new(),
                    };
                    let row = known.map_or(fresh.clone(), |row| Sailing {
                        from: fresh.from,
                        delay: *delay,
                        ..row
                    });
                    tx.table::<Sailing>()?.merge(&row)?;
                }
                Write::Note(id, note) => {
                    drop(tx.table::<Sailing>()?.write(*id, Sailing::NOTE, *note))
                }
                Write::Stops(id, stops) => {
                    drop(tx.table::<Sailing>()?.write(
                        *id,
                        Sailing::STOPS,
                        Links::to(stops.iter().copied()),
                    ));
                }
                Write::About(id, about, also) => {
                    // None is about itself: nested in itself, it would lack all that it nests.
                    let is_other = |about: &&About| **about != About::Sailing(Link::to(*id));
                    let (about, also) =
                        (about.as_ref().filter(is_other), also.iter().filter(is_other));
                    drop(tx.table::<Sailing>()?.update(*id, |row| {
                        (row.about, row.also) = (about.cloned(), also.cloned().collect());
                    }));
                }
                Write::Delete(id) => drop(tx.table::<Sailing>()?.delete(*id)?),
                Write::Port(code, name) => {
                    tx.table::<Port>()?.merge(&Port { code: *code, name: Some(*name) })?
                }
                Write::Board(shown) => tx.table::<Board>()?.set(|board| board.shown = *shown)?,
                Write::Other(other) => tx.table::<Board>()?.set(|board| board.other = *other)?,
            }
        }
        Ok(())
    });
    written.unwrap().report
}

fn cache() -> Cache {
    Cache::new(
        Schema::builder().table::<Port>().table::<Sailing>().table::<Board>().build().unwrap(),
    )
}

fn cases() -> u32 {
    std::env::var("BACKWATER_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(256)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn they_run_as_often_as_a_slow_tracker_says(
        functions in prop::collection::vec(prop::collection::vec(step(), 0..6), 1..7),
        rounds in prop::collection::vec(
            (prop::collection::vec(write(), 0..4), prop::collection::vec(0..7_usize, 0..4)), 1..14),
    ) {
        let cache = cache();
        let late = cache.query("SELECT id FROM sailing WHERE delay > 1", ()).unwrap();
        let mut derived: Vec<Derived<u64>> = Vec::new();
        for (number, steps) in functions.iter().enumerate() {
            let (steps, others, late) = (steps.clone(), derived.clone(), late.clone());
            derived.push(cache.derived(format!("value {number}"), move |read| {
                run(&Asked(read, &late), &steps, &others, |_, _| ())
            }));
        }
        let mut stamps = Stamps::default();
        let results = RefCell::default();
        let mut tracked: Vec<Tracked> = functions.iter().map(|_| Tracked::default()).collect();
        for (writes, asked) in rounds {
            stamps.note(&apply(&cache, &writes));
            let snapshot = cache.snapshot();
            let world = Now(&snapshot, &late, stamps, &results);
            for number in asked.into_iter().filter(|number| *number < derived.len()) {
                track(number, &functions, &derived, &world, &mut tracked);
                let others = &derived[..number];
                let expected = run(&world, &functions[number], others, |_, _| ()).unwrap();
                prop_assert_eq!(*derived[number].get().unwrap(), expected);
                for (number, tracked) in tracked.iter().enumerate() {
                    prop_assert_eq!(derived[number].runs(), tracked.runs, "value {} of {:?}", number, functions);
                }
            }
        }
    }
}

/// Moves a value's track up to now, as the rule says; evaluates first the others that it reads.
fn track(
    number: usize,
    functions: &[Vec<Step>],
    derived: &[Derived<u64>],
    world: &Now<'_>,
    tracked: &mut [Tracked],
) {
    let others = &derived[..number];
    let reads = std::mem::take(&mut tracked[number].reads);
    let mut changed = tracked[number].runs == 0;
    for (step, given) in &reads {
        if let Step::Other(other) = step
            && *other < number
        {
            track(*other, functions, derived, world, tracked);
        }
        if world.tell(step, others) != *given {
            changed = true;
            break;
        }
    }
    if !changed {
        tracked[number].reads = reads;
        return;
    }
    tracked[number].runs += 1;
    let mut noted = Vec::new();
    // In the order of its reads, others are evaluated as they are met.
    let mut value = 1_u64;
    for step in &functions[number] {
        match step {
            Step::IfOdd if value.is_multiple_of(2) => break,
            Step::IfOdd => continue,
            Step::Cut => value %= 3,
            _ => {
                if let Step::Other(other) = step
                    && *other < number
                {
                    track(*other, functions, derived, world, tracked);
                }
                let given = world.give(step, others).unwrap();
                noted.push((step.clone(), world.tell(step, others)));
                value = value.wrapping_mul(31).wrapping_add(reported(given));
            }
        }
    }
    tracked[number].reads = noted;
}

#[test]
fn a_circle_is_an_error_that_names_it() {
    let cache = cache();
    let late: Arc<Mutex<Option<Derived<i64>>>> = Arc::default();
    let through = late.clone();
    let first = cache.derived("first", move |read| {
        let third = through.lock().unwrap().clone().unwrap();
        read.derived(&third).map(|third| *third + 1)
    });
    let second = {
        let first = first.clone();
        cache.derived("second", move |read| Ok(*read.derived(&first)? + 1))
    };
    *late.lock().unwrap() = Some(second.clone());
    let error = second.get().unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Circle);
    assert!(error.to_string().contains("second -> first -> second"), "{error}");
    *late.lock().unwrap() = None;
}

#[test]
fn a_panic_harms_nobody_else_and_ends_with_the_next_change() {
    let cache = cache();
    drop(apply(&cache, &[Write::Board(1)]));
    let runs = Arc::new(AtomicUsize::new(0));
    let counted = runs.clone();
    let fragile = cache.derived("fragile", move |read| {
        counted.fetch_add(1, Ordering::Relaxed);
        let shown = read.table::<Board>()?.only().shown;
        assert_ne!(shown, 1, "not this one");
        Ok(shown)
    });
    let reader = {
        let fragile = fragile.clone();
        cache.derived("reader", move |read| Ok(read.derived(&fragile).is_ok()))
    };
    let error = fragile.get().unwrap_err().to_string();
    assert!(
        error.contains("derived value \"fragile\": its function panicked")
            && error.contains("not this one"),
        "{error}"
    );
    assert!(fragile.get().is_err() && !*reader.get().unwrap());
    assert_eq!(runs.load(Ordering::Relaxed), 1);
    drop(apply(&cache, &[Write::Board(2)]));
    assert_eq!((*fragile.get().unwrap(), *reader.get().unwrap()), (2, true));
}

/// Threads that read while others commit see one moment each: tables, queries and other derived
/// values of one commit.
#[test]
fn readers_on_many_threads_see_one_moment_each() {
    let cache = cache();
    let sum = cache.query("SELECT sum(delay) AS sum FROM sailing", ()).unwrap();
    let _kept = sum.keep_current();
    let by_rows = cache.derived("sum by rows", |read| {
        Ok(read.table::<Delay>()?.here().map(|sailing| sailing.delay).sum::<i64>())
    });
    let both = {
        let by_rows = by_rows.clone();
        cache.derived("both", move |read| {
            let sum =
                read.query(&sum)?.row(0).and_then(|row| row.values()[0].as_int()).unwrap_or(0);
            Ok((*read.derived(&by_rows)?, sum, read.table::<Board>()?.only().shown))
        })
    };
    let done = AtomicBool::new(false);
    let seen = Mutex::new(BTreeMap::<i64, usize>::new());
    std::thread::scope(|scope| {
        for _ in 0..3 {
            scope.spawn(|| {
                while !done.load(Ordering::Relaxed) {
                    let (rows, query, board) = *both.get().unwrap();
                    assert_eq!((rows, query), (board, board));
                    *seen.lock().unwrap().entry(board).or_default() += 1;
                }
            });
        }
        for total in 1..200_i64 {
            apply(
                &cache,
                &[
                    Write::Sailing(1, 0, total / 2),
                    Write::Sailing(2, 0, total - total / 2),
                    Write::Board(total),
                ],
            );
        }
        done.store(true, Ordering::Relaxed);
    });
    assert_eq!(*both.get().unwrap(), (199, 199, 199));
}

/// A function that commits, or defines a query, gets an error, and harms nothing.
#[test]
fn a_function_cannot_commit() {
    let cache =
        Cache::new(Schema::parse("s", "table.t = { id = 'id', fields = { id = 'int' } }").unwrap());
    let inside = cache.clone();
    let value = cache.derived("ids", move |_| {
        let made = inside.commit("sneaked in", |tx| tx.insert("t", [("id", 1)])).unwrap_err();
        let defined = inside.query("SELECT id FROM t", ()).unwrap_err();
        Ok([made, defined].map(|error| (error.kind(), error.to_string())))
    });
    for (kind, message) in value.get().unwrap().iter() {
        assert_eq!(*kind, ErrorKind::Nested);
        assert!(message.starts_with("a derived value's function may not commit"), "{message}");
    }
    assert_eq!(cache.snapshot().commit(), 0);
    cache.commit("made", |tx| tx.insert("t", [("id", 1)])).unwrap();
}
