//! Many responses of one server, as a recording has them: read one by one into a file, and a schema
//! proposed from them.

use std::sync::Arc;

use backwater::infer::Samples;
use backwater::{Cache, Request, Schema, SqliteFile};
use peak_alloc::PeakAlloc;

use crate::ingest::figure;
use crate::measure::{Figure, alternate};
use crate::persist::Folder;
use crate::world::{SCHEMA, World};

/// How many sailings one response has.
const EACH: usize = 8;

/// Pages of a few sailings, and all of these on one page.
fn pages(size: usize) -> (Vec<String>, String) {
    let mut world = World::new(size, 1);
    let sailings = world.sailings(size);
    let pages = sailings.chunks(EACH).map(|few| world.page(few, false)).collect();
    (pages, world.page(&sailings, false))
}

fn request(page: usize) -> Request {
    Request::get(format!("https://ferries.example/departures?page={page}"))
}

fn samples(pages: &[String]) -> Result<Samples, backwater::Error> {
    let mut samples = Samples::new();
    for (number, page) in pages.iter().enumerate() {
        samples.add(request(number), page.as_str())?;
    }
    Ok(samples)
}

/// Responses one by one into a file that is written at the end, against one that has all; and the
/// proposal of a schema against reading by one.
pub(crate) fn many(size: usize) -> anyhow::Result<Vec<Figure>> {
    let (pages, whole) = pages(size);
    let schema = Schema::parse("backwater.toml", SCHEMA)?;
    let (folder, mut number) = (Folder::new()?, 0);
    let mut stored = || {
        number += 1;
        let file = SqliteFile::new(folder.file(&format!("recording {number}.db")));
        Cache::builder().schema(schema.clone()).storage(file).write_when_flushed().build()
    };
    // As `backwater ingest` does it: a recording is one commit.
    let all = |cache: &Cache, pages: &[&str]| {
        cache.commit("a recording ingested", |tx| {
            pages.iter().try_for_each(|page| tx.ingest("departures", page).map(drop))
        })?;
        cache.flush()?;
        cache.snapshot().count("sailing")
    };
    let each: Vec<&str> = pages.iter().map(String::as_str).collect();
    anyhow::ensure!(all(&stored()?, &each)? == all(&stored()?, &[&whole])?, "other rows");
    let (one_by_one, at_once) = alternate(
        || [stored(), stored()].map(Result::ok),
        |caches| caches[0].as_ref().map(|cache| all(cache, &each)),
        |caches| caches[1].as_ref().map(|cache| all(cache, &[&whole])),
    );
    let given = samples(&pages)?;
    let proposal = Arc::new(Schema::parse("proposed", given.propose().text())?);
    let (proposing, reading) = alternate(
        || Cache::new(Schema::clone(&proposal)),
        |_| given.propose(),
        |cache| {
            let numbered = each.iter().enumerate();
            let mut read = numbered.map(|(number, page)| {
                cache.commit("read", |tx| tx.ingest(request(number), page)).map(drop)
            });
            read.try_for_each(|read| read)
        },
    );
    Ok(vec![
        figure("infer/recording", size, one_by_one, "all in one response", at_once, 1.2),
        figure("infer/propose", size, proposing, "ingest by the proposal", reading, 4.0),
    ])
}

/// The most live bytes while a schema is proposed, the responses included.
pub(crate) fn memory(size: usize, alloc: &PeakAlloc) -> anyhow::Result<Vec<Figure>> {
    let (pages, whole) = pages(size);
    let input: usize = pages.iter().map(String::len).sum();
    drop(whole);
    let start = alloc.current_usage();
    let given = samples(&pages)?;
    alloc.reset_peak_usage();
    drop(given.propose());
    let peak = alloc.peak_usage() - start;
    let bytes = figure("infer/memory", size, peak as f64, "the responses", input as f64, 2.0);
    Ok(vec![Figure { unit: "bytes", ..bytes }])
}
