//! A result that a reader holds shows for ever what it showed when it was given, and a delta what
//! moved then, whenever their rows are looked at first: later commits change the tables that these
//! lie in, and share their order.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;

use backwater::{Cache, Delta, Query, QueryResult, Schema, Value, Watch};
use proptest::prelude::*;

const SCHEMA: &str = r#"
    table.vessel = { id = "id", fields = { id = "int", name = "text" } }
    table.sailing = { id = "id", fields = { id = "int", delay_min = "int", vessel = { to = "vessel" } } }
"#;
const SHOWN: [&str; 3] = [
    "SELECT s.id, v.name, s.delay_min FROM sailing AS s JOIN vessel AS v ON v.id = s.vessel \
     ORDER BY s.delay_min, s.id",
    "SELECT s.id, v.name, s.delay_min FROM sailing AS s JOIN vessel AS v ON v.id = s.vessel \
     ORDER BY s.id DESC LIMIT 5",
    "SELECT v.name, count(*) AS n, max(s.delay_min) AS longest FROM sailing AS s \
     JOIN vessel AS v ON v.id = s.vessel GROUP BY v.name ORDER BY v.name",
];

#[derive(Debug, Clone)]
enum Step {
    Rename(i64, u8),
    Delay(i64, i64),
    Swap(i64, i64),
    Cancel(i64),
    Announce(i64, i64, i64),
}

fn step() -> impl Strategy<Value = Step> {
    let (vessel, sailing, delay) = (0..4_i64, 0..70_i64, 0..5_i64);
    prop_oneof![
        4 => (vessel.clone(), 0..20_u8).prop_map(|(vessel, name)| Step::Rename(vessel, name)),
        3 => (sailing.clone(), delay.clone()).prop_map(|(of, delay)| Step::Delay(of, delay)),
        2 => (sailing.clone(), vessel.clone()).prop_map(|(of, vessel)| Step::Swap(of, vessel)),
        1 => sailing.clone().prop_map(Step::Cancel),
        2 => (sailing, vessel, delay).prop_map(|(of, vessel, delay)| Step::Announce(of, vessel, delay)),
    ]
}

#[derive(Clone, Default)]
struct Model {
    names: BTreeMap<i64, String>,
    /// Vessel and delay.
    sailings: BTreeMap<i64, (i64, i64)>,
}

type Rows = Vec<Vec<Value>>;

impl Model {
    fn shown(&self) -> [Rows; 3] {
        let row = |(id, (vessel, delay)): (&i64, &(i64, i64))| {
            let name = self.names[vessel].as_str();
            vec![Value::Int(*id), Value::from(name), Value::Int(*delay)]
        };
        let mut by_delay: Rows = self.sailings.iter().map(row).collect();
        by_delay.sort_by_key(|row| row[2].as_int());
        let last = self.sailings.iter().rev().take(5).map(row).collect();
        let mut groups: BTreeMap<&str, (i64, i64)> = BTreeMap::new();
        for (vessel, delay) in self.sailings.values() {
            let group = groups.entry(&self.names[vessel]).or_default();
            *group = (group.0 + 1, group.1.max(*delay));
        }
        let group = |(name, (count, longest)): (&str, (i64, i64))| {
            vec![Value::from(name), Value::Int(count), Value::Int(longest)]
        };
        [by_delay, last, groups.into_iter().map(group).collect()]
    }

    fn apply(&mut self, step: &Step) {
        match step {
            Step::Rename(vessel, name) => {
                drop(self.names.insert(*vessel, format!("Marram {name}")))
            }
            Step::Delay(of, delay) => drop(self.sailings.get_mut(of).map(|row| row.1 = *delay)),
            Step::Swap(of, vessel) => drop(self.sailings.get_mut(of).map(|row| row.0 = *vessel)),
            Step::Cancel(of) => drop(self.sailings.remove(of)),
            Step::Announce(of, vessel, delay) => drop(self.sailings.insert(*of, (*vessel, *delay))),
        }
    }
}

fn write(cache: &Cache, steps: &[Step]) -> backwater::Report {
    let write = |tx: &mut backwater::Transaction, step: &Step| match step {
        Step::Rename(vessel, name) => {
            tx.merge("vessel", (("id", *vessel), ("name", format!("Marram {name}"))))
        }
        Step::Delay(of, delay) if tx.get("sailing", *of)?.is_some() => {
            tx.update("sailing", *of, [("delay_min", *delay)])
        }
        Step::Swap(of, vessel) if tx.get("sailing", *of)?.is_some() => {
            tx.update("sailing", *of, [("vessel", *vessel)])
        }
        Step::Cancel(of) if tx.get("sailing", *of)?.is_some() => {
            tx.delete("sailing", *of).map(drop)
        }
        Step::Announce(of, vessel, delay) => {
            tx.merge("sailing", [("id", *of), ("vessel", *vessel), ("delay_min", *delay)])
        }
        Step::Delay(..) | Step::Swap(..) | Step::Cancel(_) => Ok(()),
    };
    cache.commit("written", |tx| steps.iter().try_for_each(|step| write(tx, step))).unwrap().report
}

/// What a program held on to after a commit, and what it must show.
struct Held {
    result: QueryResult,
    delta: Option<Delta>,
    before: Rows,
    after: Rows,
}

fn rows(result: &QueryResult) -> Rows {
    result.rows().map(|row| row.values().to_vec()).collect()
}

/// `BACKWATER_CASES=5000` makes it a long run.
fn cases() -> u32 {
    std::env::var("BACKWATER_CASES").ok().and_then(|of| of.parse().ok()).unwrap_or(60)
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: cases(), failure_persistence: None, ..ProptestConfig::default()
    })]

    #[test]
    fn whatever_is_committed_later(
        commits in prop::collection::vec((prop::collection::vec(step(), 1..8), 0..80_usize), 1..16),
    ) {
        let cache = Cache::new(Schema::parse("backwater.toml", SCHEMA).unwrap());
        let mut model = Model::default();
        let fleet = (0..4).map(|vessel| Step::Rename(vessel, vessel as u8));
        let timetable = (0..60).map(|of| Step::Announce(of, of % 4, of % 5));
        let start: Vec<Step> = fleet.chain(timetable).collect();
        start.iter().for_each(|step| model.apply(step));
        write(&cache, &start);
        let queries: [Query; 3] = SHOWN.map(|sql| cache.query(sql, ()).unwrap());
        let _kept: Vec<Watch> = queries.iter().map(Query::keep_current).collect();
        let mut held: Vec<Held> = Vec::new();
        for (steps, looked_at) in &commits {
            let before = model.shown();
            steps.iter().for_each(|step| model.apply(step));
            let report = write(&cache, steps);
            for ((query, before), after) in queries.iter().zip(before).zip(model.shown()) {
                let (result, delta) = (query.read().unwrap(), report.delta(query).cloned());
                // A row or none is looked at now, in the result or in the delta.
                if let Some(row) = result.row(*looked_at) {
                    prop_assert_eq!(row.values(), &*after[*looked_at]);
                }
                if let Some(row) = delta.as_ref().and_then(|delta| delta.rows().nth(*looked_at)) {
                    let known = row.before().map(|row| row.values().to_vec());
                    prop_assert_eq!(known, row.from().map(|from| before[from].clone()));
                }
                held.push(Held { result, delta, before, after });
            }
        }
        for Held { result, delta, before, after } in held {
            prop_assert_eq!(&rows(&result), &after);
            prop_assert_eq!(delta.is_some(), before != after);
            if let Some(delta) = delta {
                prop_assert_eq!(&rows(delta.before()), &before);
                let mut shown = before;
                delta.apply(&mut shown).unwrap();
                prop_assert_eq!(shown, after);
            }
        }
    }
}
