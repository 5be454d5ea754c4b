//! Changes that are shown at once: what they cost, and what they cost others.

use backwater::remote::{Remote, http};
use backwater::{Cache, Report, Schema, SystemClock};

use crate::ingest::figure;
use crate::measure::{Figure, alternate, alternate_so_often};
use crate::remote::Kept;
use crate::world::{SCHEMA, World};

const RULES: &str = r#"
    [send.note]
    table = "sailing"
    url = "/sailings/{id}"
    answer = "sailing"
"#;
const PENDING: i64 = 100;
/// Commits in a run, and runs. Short runs, since the machine's speed changes by more than what is
/// measured.
const BATCH: usize = 200;
const BATCHES: usize = 201;
/// How many changes are made in a run, and how many before it: the cache forgets an old commit with
/// each new one, and what a run forgets is to be of its own kind, as in the baseline.
const SENDS: usize = 48;
const SENDS_BEFORE: usize = 16;
/// What a view of the departures shows, and a counter above it.
const QUERIES: [&str; 2] = [
    "SELECT status, count(*) AS n FROM sailing GROUP BY status",
    "SELECT id, status, delay_min FROM sailing WHERE delay_min > 80 ORDER BY delay_min DESC, id",
];

fn cache(size: usize) -> anyhow::Result<(Cache, Vec<backwater::Query>, Vec<backwater::Watch>)> {
    let cache = Cache::new(Schema::parse("backwater.toml", format!("{SCHEMA}{RULES}").as_str())?);
    let mut world = World::new(size, 1);
    let sailings = world.sailings(size);
    let page = world.page(&sailings, false);
    cache.commit("departures loaded", |tx| tx.ingest("departures", &page))?;
    let queries = QUERIES.iter().map(|sql| cache.query(sql, ()));
    let queries: Vec<_> = queries.collect::<Result<_, _>>()?;
    let watches = queries.iter().map(|query| cache.watch(query, |_| {}));
    let watches = watches.collect::<Result<_, _>>()?;
    Ok((cache, queries, watches))
}

fn remote(cache: &Cache) -> anyhow::Result<(Remote, Kept)> {
    let kept = Kept::default();
    let remote = Remote::builder(cache).base("https://ferries.example/api").at_a_time(usize::MAX);
    Ok((remote.transport(kept.clone()).clock(SystemClock::new()).build()?, kept))
}

fn delay(cache: &Cache, id: i64, delay: i64) -> Result<Report, backwater::Error> {
    let update = cache.commit("delay", |tx| tx.update("sailing", id, [("delay_min", delay)]));
    Ok(update?.report)
}

/// A commit of one field where nothing is pending, and where changes are pending elsewhere.
pub(crate) fn overlay(size: usize) -> anyhow::Result<Vec<Figure>> {
    let size = size.max(1000);
    let some = cache(size)?;
    let none = cache(size)?;
    let plain = cache(size)?;
    let (remote_of_some, _kept) = remote(&some.0)?;
    let (_remote_of_none, _) = remote(&none.0)?;
    let send = |remote: &Remote, id: i64| {
        remote.send("note", "noted", |tx| tx.update("sailing", id, [("note", "fog")]))
    };
    for id in 1..=PENDING {
        send(&remote_of_some, id)?;
    }
    let ids = || -> Vec<(i64, i64)> {
        let id = |_| (fastrand::i64(PENDING + 1..=size as i64), fastrand::i64(0..90));
        (0..BATCH).map(id).collect()
    };
    let all = |cache: &Cache, ids: &[(i64, i64)]| {
        ids.iter().filter(|(id, minutes)| delay(cache, *id, *minutes).is_ok()).count()
    };
    let each = |seconds: f64| seconds / BATCH as f64;
    let side_by_side = |ours: &Cache, baseline: &Cache| {
        alternate_so_often(BATCHES, ids, |ids| all(ours, ids), |ids| all(baseline, ids))
    };
    let (with, without) = side_by_side(&none.0, &plain.0);
    let figure_of_none =
        figure("overlay/none", size, each(with), "without a remote", each(without), 1.02);
    let (with, without) = side_by_side(&some.0, &none.0);
    let figure_of_some =
        figure("overlay/some", size, each(with), "nothing pending", each(without), 1.1);
    anyhow::ensure!(remote_of_some.unsent() == PENDING as usize, "they are still pending");
    Ok(vec![figure_of_none, figure_of_some])
}

/// A change that is shown and queued, against the commit of the same field.
pub(crate) fn shown(size: usize) -> anyhow::Result<Vec<Figure>> {
    let size = size.max(1000);
    let ours = cache(size)?;
    let plain = cache(size)?;
    let (remote, kept) = remote(&ours.0)?;
    let send = |remote: &Remote, (id, minutes): (i64, i64)| {
        remote.send("note", "delay", |tx| tx.update("sailing", id, [("delay_min", minutes)]))
    };
    // Once for each row, so that they go side by side.
    let mut next = 0;
    let (send, commit) = alternate(
        || {
            remote.set_online(true);
            while remote.unsent() > 0 {
                for call in kept.take() {
                    call.respond(
                        http::Response::builder().status(204).body(Vec::new()).unwrap_or_default(),
                    );
                }
            }
            remote.set_online(false);
            let mut id = || {
                next = next % size as i64 + 1;
                (next, fastrand::i64(0..90))
            };
            let before: Vec<(i64, i64)> = (0..SENDS_BEFORE).map(|_| id()).collect();
            let ids: Vec<(i64, i64)> = (0..SENDS).map(|_| id()).collect();
            for (id, minutes) in before {
                drop((delay(&plain.0, id, minutes), send(&remote, (id, minutes))));
            }
            ids
        },
        |ids| ids.iter().filter(|of| send(&remote, **of).is_ok()).count(),
        |ids| ids.iter().filter(|(id, minutes)| delay(&plain.0, *id, *minutes).is_ok()).count(),
    );
    let each = |seconds: f64| seconds / SENDS as f64;
    Ok(vec![figure("send/shown", size, each(send), "the commit alone", each(commit), 1.5)])
}
