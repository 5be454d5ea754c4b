//! A page of many rows is what sorting all of them gives, and its deltas lead from one to the next,
//! however many rows come and go in front of it, behind it and in it, wherever it is turned to, and
//! as its bounds move: of so many rows a query keeps only the first.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, BTreeSet};

use backwater::{Cache, Query, Report, Schema, Value};
use proptest::prelude::*;

const SCHEMA: &str = r#"
    table.vessel = { id = "id", fields = { id = "int", name = "text" } }
    table.sailing = { id = "id", fields = { id = "int", minute = "int", vessel = { to = "vessel" } } }
"#;
const NEXT: &str = "SELECT id, minute FROM sailing WHERE minute > :now ORDER BY minute \
                    LIMIT 10 OFFSET :from";
const LAST: &str = "SELECT s.id, v.name FROM sailing AS s JOIN vessel AS v ON v.id = s.vessel \
                    WHERE s.minute < :until AND s.minute > :now ORDER BY s.minute DESC, s.id LIMIT 4";
/// It reads another statement, and keeps its rows' values for that.
const AFLOAT: &str = "SELECT s.id, s.minute FROM sailing AS s WHERE EXISTS \
                      (SELECT 1 FROM vessel AS v WHERE v.id = s.vessel AND v.name <> 'Marram 0') \
                      ORDER BY s.minute LIMIT 6";
/// Sailings in the beginning: so many that only the first of them are kept in order.
const MANY: i64 = 3000;
/// The minutes that they depart in.
const MINUTES: i64 = 5000;

#[derive(Debug, Clone)]
enum Step {
    /// So many sailings are announced, from a minute on.
    Announce(i64, i64),
    /// So many of the first, or of the last, are cancelled.
    CancelFirst(usize),
    CancelLast(usize),
    /// Those behind the first ones depart later, or earlier.
    Delay(usize, Vec<i64>),
    Rename(i64, u8),
    /// Time goes by, or back.
    Now(i64),
    Until(i64),
    /// The page is turned.
    From(usize),
}

fn step() -> impl Strategy<Value = Step> {
    let minutes = prop_oneof![4 => -20..60_i64, 1 => -MINUTES..MINUTES];
    let place = prop_oneof![3 => 0..12_usize, 1 => 0..MANY as usize];
    prop_oneof![
        1 => (0..300_i64, 0..MINUTES).prop_map(|(count, minute)| Step::Announce(count, minute)),
        2 => (0..400_usize).prop_map(Step::CancelFirst),
        1 => (0..400_usize).prop_map(Step::CancelLast),
        4 => (place.clone(), prop::collection::vec(minutes, 1..4)).prop_map(|(from, by)| Step::Delay(from, by)),
        1 => (0..4_i64, 0..5_u8).prop_map(|(vessel, name)| Step::Rename(vessel, name)),
        3 => prop_oneof![4 => -10..200_i64, 1 => 0..MINUTES].prop_map(Step::Now),
        2 => prop_oneof![4 => -200..10_i64, 1 => -MINUTES..MINUTES].prop_map(Step::Until),
        2 => place.prop_map(Step::From),
    ]
}

type Rows = Vec<Vec<Value>>;

#[derive(Clone)]
struct Model {
    names: BTreeMap<i64, String>,
    /// Sailings by their minutes.
    sailings: BTreeSet<(i64, i64)>,
    now: i64,
    until: i64,
    from: usize,
}

impl Model {
    fn shown(&self) -> [Rows; 3] {
        let next = self.sailings.range((self.now + 1, 0)..).skip(self.from).take(10);
        let next = next.map(|(minute, id)| vec![Value::Int(*id), Value::Int(*minute)]);
        let between = (self.now + 1, 0)..(self.until.max(self.now + 1), 0);
        let mut last: Vec<_> = self.sailings.range(between).rev().take(4).collect();
        if let Some((minute, _)) = last.pop() {
            // Of those in one minute the first ids come first, and more of them may be in front.
            last.retain(|(other, _)| other != minute);
            last.extend(self.sailings.range((*minute, 0)..(*minute + 1, 0)));
        }
        last.sort_by_key(|(minute, id)| (-minute, *id));
        let name = |id: &i64| Value::from(self.names[&(id % 4)].as_str());
        let last = last.iter().take(4).map(|(_, id)| vec![Value::Int(*id), name(id)]);
        let afloat = self.sailings.iter().filter(|(_, id)| self.names[&(id % 4)] != "Marram 0");
        let afloat = afloat.take(6).map(|(minute, id)| vec![Value::Int(*id), (*minute).into()]);
        [next.collect(), last.collect(), afloat.collect()]
    }

    /// Takes a step in the model; gives the sailings that it writes to, and their minutes, if they
    /// still depart.
    fn take(&mut self, step: &Step) -> Vec<(i64, Option<i64>)> {
        let mut out: Vec<(i64, i64)> = Vec::new();
        let mut into: Vec<(i64, i64)> = Vec::new();
        match step {
            Step::Announce(count, minute) => {
                let first = self.sailings.iter().map(|(_, id)| id + 1).max().unwrap_or(0);
                into.extend((first..first + count).map(|id| ((minute + id * 7919) % MINUTES, id)));
            }
            Step::CancelFirst(count) => out.extend(self.sailings.iter().take(*count)),
            Step::CancelLast(count) => out.extend(self.sailings.iter().rev().take(*count)),
            Step::Delay(from, by) => {
                out.extend(self.sailings.iter().skip(*from).take(by.len()));
                into.extend(out.iter().zip(by).map(|((minute, id), by)| (minute + by, *id)));
            }
            Step::Rename(vessel, name) => {
                self.names.insert(*vessel, format!("Marram {name}"));
            }
            Step::Now(by) => self.now += by,
            Step::Until(by) => self.until += by,
            Step::From(from) => self.from = *from,
        }
        self.sailings.retain(|sailing| !out.contains(sailing));
        self.sailings.extend(&into);
        out.retain(|(_, id)| into.iter().all(|(_, other)| other != id));
        let written = out.iter().map(|(_, id)| (*id, None));
        written.chain(into.iter().map(|(minute, id)| (*id, Some(*minute)))).collect()
    }

    /// Writes vessels, and these sailings as they are.
    fn write(&self, cache: &Cache, sailings: &[(i64, Option<i64>)]) -> Report {
        cache
            .commit("written", |tx| {
                for (id, name) in &self.names {
                    tx.merge("vessel", (("id", *id), ("name", name.as_str())))?;
                }
                for (id, minute) in sailings {
                    match minute {
                        Some(minute) => tx.merge(
                            "sailing",
                            [("id", *id), ("minute", *minute), ("vessel", id % 4)],
                        )?,
                        None => drop(tx.delete("sailing", *id)?),
                    }
                }
                Ok(())
            })
            .unwrap()
            .report
    }
}

fn rows(query: &Query) -> Rows {
    query.read().unwrap().rows().map(|row| row.values().to_vec()).collect()
}

/// A delta leads from one page to the next, row by row under their own ids.
fn check(report: &Report, query: &Query, before: &Rows, after: &Rows) -> Result<(), TestCaseError> {
    prop_assert_eq!(&rows(query), after);
    let delta = report.delta(query);
    prop_assert_eq!(delta.is_some(), before != after);
    let Some(delta) = delta else { return Ok(()) };
    let mut shown = before.clone();
    delta.apply(&mut shown).unwrap();
    prop_assert_eq!(&shown, after);
    for row in delta.rows() {
        for (place, page) in [(row.from(), before), (row.to(), after)] {
            let Some(place) = place else { continue };
            prop_assert_eq!(&row.key()[0], &page[place][0]);
        }
    }
    Ok(())
}

/// `BACKWATER_CASES=1000` makes it a long run.
fn cases() -> u32 {
    std::env::var("BACKWATER_CASES").ok().and_then(|of| of.parse().ok()).unwrap_or(24)
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: cases(), failure_persistence: None, ..ProptestConfig::default()
    })]

    #[test]
    fn whatever_comes_and_goes(steps in prop::collection::vec(step(), 1..40)) {
        let cache = Cache::new(Schema::parse("backwater.toml", SCHEMA).unwrap());
        let mut model = Model {
            names: (0..4).map(|vessel| (vessel, format!("Marram {vessel}"))).collect(),
            sailings: BTreeSet::new(),
            now: -1,
            until: MINUTES,
            from: 0,
        };
        let timetable = model.take(&Step::Announce(MANY, 0));
        model.write(&cache, &timetable);
        let next = cache.query(NEXT, [("now", -1), ("from", 0)]).unwrap();
        let last = cache.query(LAST, [("now", -1), ("until", MINUTES)]).unwrap();
        let afloat = cache.query(AFLOAT, ()).unwrap();
        let _kept = [&next, &last, &afloat].map(Query::keep_current);
        // The same for a reader that looks only now and then.
        let seldom = cache.query(NEXT, [("now", MINUTES / 3), ("from", 2)]).unwrap();
        for (number, step) in steps.iter().enumerate() {
            let before = model.shown();
            let written = model.take(step);
            let after = model.shown();
            let report = match step {
                Step::Now(_) | Step::From(_) => {
                    let params = [("now", model.now), ("from", model.from as i64)];
                    let report = cache.rebind("turned", &next, params).unwrap();
                    cache.rebind("turned", &last, [("now", model.now)]).unwrap();
                    check(&report, &next, &before[0], &after[0])?;
                    prop_assert_eq!(&rows(&last), &after[1]);
                    continue;
                }
                Step::Until(_) => {
                    let report = cache.rebind("turned", &last, [("until", model.until)]).unwrap();
                    check(&report, &last, &before[1], &after[1])?;
                    continue;
                }
                _ => model.write(&cache, &written),
            };
            check(&report, &next, &before[0], &after[0])?;
            check(&report, &last, &before[1], &after[1])?;
            check(&report, &afloat, &before[2], &after[2])?;
            if number % 5 == 0 {
                let then = Model { now: MINUTES / 3, from: 2, ..model.clone() };
                prop_assert_eq!(&rows(&seldom), &then.shown()[0]);
            }
        }
    }
}
