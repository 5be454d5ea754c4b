//! Reading responses into the tables.

use backwater::{
    Cache, Report, Schema,
    report::{Change, ChangeKind},
};
use peak_alloc::PeakAlloc;

use crate::hand::{Changed, Maps, NEW};
use crate::measure::{Figure, alternate};
use crate::world::{SCHEMA, World};

/// How many small responses one run reads.
const SMALL: usize = 2000;
const FIELDS: [(&str, &[&str]); 4] = [
    ("port", &["name", "island"]),
    ("route", &["from", "to", "minutes"]),
    ("vessel", &["name", "cars_max"]),
    ("sailing", &["route", "vessel", "status", "departs_at", "delay_min", "cars_booked", "note"]),
];

fn cache() -> anyhow::Result<Cache> {
    Ok(Cache::new(Schema::parse("backwater.toml", SCHEMA)?))
}

fn ingest(cache: &Cache, page: &str) -> Result<Report, backwater::Error> {
    Ok(cache.commit("departures loaded", |tx| tx.ingest("departures", page))?.report)
}

/// Ours against maps written by hand, and against parsing alone.
pub(crate) fn nested(size: usize) -> anyhow::Result<Vec<Figure>> {
    let mut world = World::new(size, 1);
    let sailings = world.sailings(size);
    let page = world.page(&sailings, false);
    check_equal(&ingest(&cache()?, &page)?, &Maps::with_room(size).ingest(page.as_bytes())?)?;
    let schema = Schema::parse("backwater.toml", SCHEMA)?;
    let (ours, hand) = alternate(
        || (Cache::new(schema.clone()), Maps::with_room(size)),
        |(cache, _)| ingest(cache, &page),
        |(_, maps)| maps.ingest(page.as_bytes()),
    );
    let (ours_again, value) = alternate(
        || Cache::new(schema.clone()),
        |cache| ingest(cache, &page),
        |_| serde_json::from_slice::<serde_json::Value>(page.as_bytes()),
    );
    Ok(vec![
        figure("ingest/nested", size, ours, "hand-written", hand, 0.6),
        figure("ingest/nested-vs-value", size, ours_again, "serde_json::Value", value, 0.3),
    ])
}

/// The same sailings once more, shuffled, with other white space: nothing is new.
pub(crate) fn again(size: usize) -> anyhow::Result<Vec<Figure>> {
    let mut world = World::new(size, 1);
    let mut sailings = world.sailings(size);
    let page = world.page(&sailings, false);
    world.shuffle(&mut sailings);
    let other = world.page(&sailings, true);
    let (cache, mut maps) = (cache()?, Maps::with_room(size));
    ingest(&cache, &page)?;
    maps.ingest(page.as_bytes())?;
    anyhow::ensure!(ingest(&cache, &other)?.changes().count() == 0, "something was new");
    anyhow::ensure!(maps.ingest(other.as_bytes())?.is_empty(), "something was new");
    let (ours, hand) =
        alternate(|| (), |()| ingest(&cache, &other), |()| maps.ingest(other.as_bytes()));
    Ok(vec![figure("ingest/again", size, ours, "hand-written", hand, 0.5)])
}

/// One sailing at a time into a full cache, each a commit with its report.
pub(crate) fn small(size: usize) -> anyhow::Result<Vec<Figure>> {
    let mut world = World::new(size, 1);
    let sailings = world.sailings(size);
    let page = world.page(&sailings, false);
    let (cache, mut maps) = (cache()?, Maps::with_room(size));
    ingest(&cache, &page)?;
    maps.ingest(page.as_bytes())?;
    let round = |world: &mut World| -> Vec<String> {
        (0..SMALL)
            .map(|_| {
                let id = fastrand::i64(1..=size as i64);
                let sailing = world.sailing(id);
                world.page(&[sailing], false)
            })
            .collect()
    };
    for page in round(&mut world) {
        check_equal(&ingest(&cache, &page)?, &maps.ingest(page.as_bytes())?)?;
    }
    let (ours, hand) = alternate(
        || round(&mut world),
        |pages| {
            let changes = pages
                .iter()
                .map(|page| ingest(&cache, page).map_or(0, |report| report.changes().count()));
            changes.sum::<usize>()
        },
        |pages| {
            let changes = pages
                .iter()
                .map(|page| maps.ingest(page.as_bytes()).map_or(0, |report| report.len()));
            changes.sum::<usize>()
        },
    );
    let each = SMALL as f64;
    Ok(vec![figure("ingest/small", size, ours / each, "hand-written", hand / each, 2.5)])
}

/// How the time of one sailing grows from a hundredth of the size to ten times it.
pub(crate) fn growth(size: usize) -> anyhow::Result<Vec<Figure>> {
    let schema = Schema::parse("backwater.toml", SCHEMA)?;
    let each = |size: usize| {
        let mut world = World::new(200_000, 1);
        let sailings = world.sailings(size);
        let page = world.page(&sailings, false);
        let (ours, hand) = alternate(
            || (Cache::new(schema.clone()), Maps::with_room(size)),
            |(cache, _)| ingest(cache, &page),
            |(_, maps)| maps.ingest(page.as_bytes()),
        );
        (ours / size as f64, hand / size as f64)
    };
    let (small, large) = (each((size / 100).max(1)), each(size * 10));
    Ok(vec![Figure {
        unit: "x",
        ..figure(
            "ingest/growth",
            size * 10,
            large.0 / small.0,
            "hand-written growth",
            large.1 / small.1,
            1.25,
        )
    }])
}

/// Live bytes of the tables, and the most while they were filled.
pub(crate) fn memory(size: usize, alloc: &PeakAlloc) -> anyhow::Result<Vec<Figure>> {
    let mut world = World::new(size, 1);
    let sailings = world.sailings(size);
    let page = world.page(&sailings, false);
    drop((sailings, world));
    let start = alloc.current_usage();
    let mut maps = Maps::with_room(size);
    drop(maps.ingest(page.as_bytes())?);
    let hand = alloc.current_usage() - start;
    let rows = maps.sailings.len();
    drop(maps);

    let cache = cache()?;
    let start = alloc.current_usage();
    alloc.reset_peak_usage();
    drop(ingest(&cache, &page)?);
    let (ours, peak) = (alloc.current_usage() - start, alloc.peak_usage() - start);
    anyhow::ensure!(cache.snapshot().count("sailing")? == rows, "not all of them");
    let bytes = |case, ours: usize, name, baseline: usize, at_most| Figure {
        unit: "bytes",
        ..figure(case, size, ours as f64, name, baseline as f64, at_most)
    };
    Ok(vec![
        bytes("memory/table", ours / size, "hand-written, a sailing", hand / size, 0.6),
        bytes("memory/peak", peak + page.len(), "final size + input", ours + page.len(), 1.2),
    ])
}

pub(crate) fn figure(
    case: &'static str,
    size: usize,
    ours: f64,
    baseline_name: &'static str,
    baseline: f64,
    at_most: f64,
) -> Figure {
    Figure { case, size, ours, baseline_name, baseline, at_most, unit: "s" }
}

/// Both have the same rows, and the same fields of them.
fn check_equal(ours: &Report, hand: &[Changed]) -> anyhow::Result<()> {
    let mut ours: Vec<String> = ours.changes().map(|change| changed(&change)).collect();
    let mut hand: Vec<String> = hand.iter().map(changed_by_hand).collect();
    // By hand, an object that occurs with two values in one response is counted twice.
    for list in [&mut ours, &mut hand] {
        list.sort_unstable();
    }
    anyhow::ensure!(ours == hand, "other changes than by hand");
    Ok(())
}

fn changed(change: &Change<'_>) -> String {
    let id = change.id().map(|id| id.to_string()).unwrap_or_default();
    let fields = match change.kind() {
        ChangeKind::Inserted => "new".to_owned(),
        ChangeKind::Deleted => "gone".to_owned(),
        ChangeKind::Updated => {
            change.fields().iter().map(|field| field.name.clone()).collect::<Vec<_>>().join(" ")
        }
    };
    format!("{} {id}: {fields}", change.table())
}

fn changed_by_hand(change: &Changed) -> String {
    let (table, id, bits) = match change {
        Changed::Port(id, bits) => (0, id.to_string(), *bits),
        Changed::Route(id, bits) => (1, id.to_string(), *bits),
        Changed::Vessel(id, bits) => (2, id.to_string(), *bits),
        Changed::Sailing(id, bits) => (3, id.to_string(), *bits),
    };
    let (table, fields) = FIELDS[table];
    let changed = fields.iter().enumerate().filter(|(number, _)| bits >> number & 1 == 1);
    let fields = match bits {
        NEW => "new".to_owned(),
        _ => changed.map(|(_, field)| *field).collect::<Vec<_>>().join(" "),
    };
    format!("{table} {id}: {fields}")
}
