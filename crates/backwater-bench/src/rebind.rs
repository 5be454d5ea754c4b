//! Other values for a query's parameters.

use std::collections::BTreeMap;

use backwater::{Cache, Query, Report, Schema, Timestamp, Value, Watch, delta::DeltaRow};
use memchr::memmem::Finder;

use crate::ingest::figure;
use crate::measure::{Figure, alternate};
use crate::query::filled;
use crate::world::SCHEMA;

const NEXT: &str =
    "SELECT id, departs_at FROM sailing WHERE departs_at > :now ORDER BY departs_at, id LIMIT 20";
/// A name, typed letter by letter.
const TYPED: &str = "Samphire";
/// How many minutes go by in one run.
const MINUTES: i64 = 1000;

/// A row of a delta: where it stood and stands, and its id.
type Step = (Option<usize>, Option<usize>, i64);

fn steps(report: &Report, query: &Query) -> Vec<Step> {
    let Some(delta) = report.delta(query) else { return Vec::new() };
    let step = |row: DeltaRow<'_>| {
        let id = row.key().first().and_then(Value::as_int).unwrap_or_default();
        (row.from(), row.to(), id)
    };
    delta.rows().map(step).collect()
}

fn first_rows(query: &Query) -> Result<Vec<Vec<Value>>, backwater::Error> {
    Ok(query.read()?.rows().take(20).map(|row| row.values().to_vec()).collect())
}

/// Names of parties, as people write them.
fn parties(size: usize) -> Vec<(i64, Box<str>)> {
    const FIRST: [&str; 16] = [
        "Aldo", "Brisa", "Corin", "Delia", "Emrys", "Fenna", "Gwil", "Hesper", "Ivo", "Jorun",
        "Kester", "Linnet", "Merrin", "Nerys", "Oswin", "Tamsin",
    ];
    const LAST: [&str; 16] = [
        "Marram",
        "Tideway",
        "Heron",
        "Lantern",
        "Samphire",
        "Eelgrass",
        "Skerry",
        "Whin",
        "Norrin",
        "Oster",
        "Saltmarsh",
        "Brack",
        "Sandpiper",
        "Fulmar",
        "Thrift",
        "Samson",
    ];
    let mut rng = fastrand::Rng::with_seed(5);
    let mut party = || {
        let (first, last) = (FIRST[rng.usize(..16)], LAST[rng.usize(..16)]);
        format!("{first} {last} and {} others, berth {}", rng.u32(1..9), rng.u32(..100_000)).into()
    };
    (1..=size as i64).map(|id| (id, party())).collect()
}

/// What a good engineer writes: the column ready in one case, and the last result.
struct Search {
    rows: Vec<(i64, Box<str>)>,
    folded: Vec<Box<str>>,
    found: Vec<usize>,
}

impl Search {
    fn search(&mut self, text: &str) -> Vec<Step> {
        let text = text.to_lowercase();
        let finder = Finder::new(&text);
        let found = self.folded.iter().enumerate();
        let found: Vec<usize> = found
            .filter(|(_, party)| finder.find(party.as_bytes()).is_some())
            .map(|(place, _)| place)
            .collect();
        let (mut steps, mut entered) = (Vec::new(), Vec::new());
        let (mut old, mut new) = (0, 0);
        while old < self.found.len() || new < found.len() {
            match (self.found.get(old), found.get(new)) {
                (Some(a), Some(b)) if a == b => (old, new) = (old + 1, new + 1),
                (Some(a), b) if b.is_none_or(|b| a < b) => {
                    steps.push((Some(old), None, self.rows[*a].0));
                    old += 1;
                }
                (_, Some(b)) => {
                    entered.push((None, Some(new), self.rows[*b].0));
                    new += 1;
                }
                _ => break,
            }
        }
        self.found = found;
        steps.append(&mut entered);
        steps
    }

    fn first_rows(&self) -> Vec<Vec<Value>> {
        let rows = self.found.iter().take(20).map(|place| &self.rows[*place]);
        rows.map(|(id, party)| vec![Value::Int(*id), Value::from(&**party)]).collect()
    }
}

/// A search text grows letter by letter, from nothing.
pub(crate) fn letters(size: usize) -> anyhow::Result<Vec<Figure>> {
    let rows = parties(size);
    let cache = Cache::new(Schema::parse("backwater.toml", SCHEMA)?);
    cache.commit("bookings loaded", |tx| {
        rows.iter().try_for_each(|(id, party)| {
            tx.insert("booking", [("id", Value::Int(*id)), ("party", Value::from(&**party))])
        })
    })?;
    let folded = rows.iter().map(|(_, party)| party.to_lowercase().into()).collect();
    let mut hand = Search { found: (0..rows.len()).collect(), rows, folded };
    let texts: Vec<&str> = (1..=TYPED.len()).map(|len| &TYPED[..len]).collect();
    // Each search is a query of its own, so that nothing is known of what the last one found.
    let mut number = 0;
    let mut fresh = || -> Result<(Query, Watch), backwater::Error> {
        number += 1;
        let sql =
            format!("SELECT id, party AS party_{number} FROM booking WHERE contains(party, :text)");
        let query = cache.query(&sql, [("text", "")])?;
        let kept = query.keep_current();
        Ok((query, kept))
    };
    let (query, _kept) = fresh()?;
    for text in &texts {
        let report = cache.rebind("letter typed", &query, [("text", *text)])?;
        anyhow::ensure!(steps(&report, &query) == hand.search(text), "other deltas for {text}");
        anyhow::ensure!(first_rows(&query)? == hand.first_rows(), "other rows for {text}");
    }
    drop((query, _kept));
    let all: Vec<usize> = (0..size).collect();
    let (ours, by_hand) = alternate(
        || (fresh().ok(), all.clone()),
        |(query, _)| {
            let Some((query, _)) = query else { return 0 };
            let shown = texts.iter().map(|text| {
                let report = cache.rebind("letter typed", query, [("text", *text)]);
                let shown = report.map_or(0, |report| steps(&report, query).len());
                shown + first_rows(query).map_or(0, |rows| rows.len())
            });
            shown.sum::<usize>()
        },
        |(_, all)| {
            hand.found = std::mem::take(all);
            let shown = texts.iter().map(|text| hand.search(text).len() + hand.first_rows().len());
            shown.sum::<usize>()
        },
    );
    Ok(vec![figure("search/letters", size, ours, "hand-written", by_hand, 0.7)])
}

/// The next departures, kept by hand: a cursor into a map that is kept anyway.
struct Board {
    by_time: BTreeMap<(i64, i64), ()>,
    shown: Vec<(i64, i64)>,
}

impl Board {
    fn move_on(&mut self, now: i64) -> Vec<Step> {
        let after = self.by_time.range((now + 1, i64::MIN)..).take(20).map(|(key, ())| *key);
        let after: Vec<(i64, i64)> = after.collect();
        let gone = self.shown.iter().take_while(|(time, _)| *time <= now).count();
        let mut steps: Vec<Step> =
            (0..gone).map(|place| (Some(place), None, self.shown[place].1)).collect();
        let stay = self.shown.len() - gone;
        let new = after.iter().enumerate().skip(stay);
        steps.extend(new.map(|(place, (_, id))| (None, Some(place), *id)));
        self.shown = after;
        steps
    }

    fn values(&self) -> Vec<Vec<Value>> {
        let rows = self.shown.iter().map(|(time, id)| {
            let time = Timestamp::from_micros(*time).map_or(Value::Null, Value::from);
            vec![Value::Int(*id), time]
        });
        rows.collect()
    }
}

/// Time goes by, a minute at a time.
pub(crate) fn now(size: usize) -> anyhow::Result<Vec<Figure>> {
    let (cache, maps) = filled(size)?;
    let by_time = maps.sailings.iter().map(|(id, sailing)| ((sailing.departs_at, *id), ()));
    let mut board = Board { by_time: by_time.collect(), shown: Vec::new() };
    let minute = 60_000_000;
    let first = board.by_time.keys().next().map_or(0, |(time, _)| *time);
    let time = |micros: i64| Timestamp::from_micros(micros).map_or(Value::Null, Value::from);
    let query = cache.query(NEXT, [("now", time(first - 1))])?;
    let _kept = query.keep_current();
    board.move_on(first - 1);
    let mut now = first;
    for _ in 0..MINUTES {
        now += minute;
        let report = cache.rebind("a minute went by", &query, [("now", time(now))])?;
        anyhow::ensure!(steps(&report, &query) == board.move_on(now), "other deltas at {now}");
        anyhow::ensure!(first_rows(&query)? == board.values(), "other rows at {now}");
    }
    let (ours, by_hand) = alternate(
        || {
            now += MINUTES * minute;
            now - MINUTES * minute
        },
        |now| {
            let minutes = (1..=MINUTES).map(|step| {
                let to = [("now", time(*now + step * minute))];
                let report = cache.rebind("a minute went by", &query, to);
                report.map_or(0, |report| steps(&report, &query).len())
            });
            minutes.sum::<usize>()
        },
        |now| {
            let minutes = (1..=MINUTES).map(|step| board.move_on(*now + step * minute).len());
            minutes.sum::<usize>()
        },
    );
    let each = |seconds: f64| seconds / MINUTES as f64;
    Ok(vec![figure("rebind/now", size, each(ours), "hand-written", each(by_hand), 8.0)])
}

/// From one tab to another and back again.
pub(crate) fn back(size: usize) -> anyhow::Result<Vec<Figure>> {
    const TABS: [&str; 2] = ["on time", "delayed"];
    let (cache, maps) = filled(size)?;
    let sql = "SELECT id FROM sailing WHERE status = :tab ORDER BY departs_at, id LIMIT 20";
    let query = cache.query(sql, [("tab", TABS[1])])?;
    let _kept = query.keep_current();
    let first = |tab: &str| -> Vec<i64> {
        let sailings = maps.sailings.iter().filter(|(_, sailing)| sailing.status.text() == tab);
        let mut rows: Vec<_> = sailings.map(|(id, sailing)| (sailing.departs_at, *id)).collect();
        rows.sort_unstable();
        rows.iter().take(20).map(|(_, id)| *id).collect()
    };
    let by_hand = TABS.map(first);
    let switch = |tab: usize| -> Vec<Step> {
        let gone = by_hand[1 - tab].iter().enumerate().map(|(place, id)| (Some(place), None, *id));
        let new = by_hand[tab].iter().enumerate().map(|(place, id)| (None, Some(place), *id));
        gone.chain(new).collect()
    };
    let choose = |tab: usize| cache.rebind("tab chosen", &query, [("tab", TABS[tab])]);
    for tab in [0, 1, 0, 1] {
        let (mut ours, mut hand) = (steps(&choose(tab)?, &query), switch(tab));
        ours.sort_unstable();
        hand.sort_unstable();
        anyhow::ensure!(ours == hand, "other deltas at {}", TABS[tab]);
    }
    const SWITCHES: usize = 100;
    let (ours, hand) = alternate(
        || (),
        |()| {
            let steps = (0..SWITCHES)
                .map(|number| choose(number % 2).map_or(0, |report| steps(&report, &query).len()));
            steps.sum::<usize>()
        },
        |()| (0..SWITCHES).map(|number| switch(number % 2).len()).sum::<usize>(),
    );
    let each = |seconds: f64| seconds / SWITCHES as f64;
    Ok(vec![figure("rebind/back", size, each(ours), "hand-written", each(hand), 100.0)])
}
