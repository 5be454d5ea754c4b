//! What a storage must do, tried on one: for authors of a storage.

// It knows the public interface alone.

use std::collections::BTreeMap;
use std::time::Duration;

use crate::cache::Cache;
use crate::change::Transaction;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::Schema;
use crate::storage::{MemoryStorage, Storage};
use crate::value::{Json, SetClock, Timestamp, Value};

const FIRST: &str = r#"
    [table.port]
    id = "code"
    fields = { code = "text", name = "text", depth = "float" }
    [table.sailing]
    id = "id"
    [table.sailing.fields]
    id = "int"
    from = { to = "port" }
    stops = { to_many = "port" }
    about = { to = ["port", "sailing"] }
    at = "timestamp"
    open = "bool"
    extras = "json"
    note = "text"
    secret = { type = "text", persist = false }
    [table.seat]
    id = ["sailing", "number"]
    expires_after = "20 hours"
    fields = { sailing = { to = "sailing" }, number = "text", deck = "int" }
    [table.scratch]
    id = "id"
    persist = false
    fields = { id = "int", t = "text" }
    [table.board]
    one_row = true
    fields = { search = "text", port = { to = "port" } }
    [response.page]
    records = ""
    table = "seat"
    list = "page_list"
"#;

/// The same under other names, with less in some places and more in others.
const SECOND: &str = r#"
    drop = ["sailing.extras"]
    [table.harbour]
    was = "port"
    id = "code"
    fields = { name = "text", code = "text" }
    [table.sailing]
    id = "id"
    [table.sailing.fields]
    open = "int"
    id = "int"
    from = { to = "harbour" }
    calls = { to_many = "harbour", was = "stops" }
    note = "text"
    fare = "float"
"#;

/// Texts and numbers on which a storage may stumble.
const TEXTS: [&str; 7] = [
    "",
    "Marram",
    "é 🚢 \u{202e}",
    "a \"quoted\" \\ text\nin two lines\t",
    "null",
    "311",
    "'; DROP TABLE port; --",
];
const NUMBERS: [i64; 5] = [0, -1, i64::MIN, i64::MAX, (1 << 53) + 1];
const FLOATS: [f64; 6] = [0.5, -0.0, 5e-324, f64::MAX, 2.0, 0.1];

/// A sequence of numbers that looks random and is the same every time.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % sides
    }

    fn of<T: Clone>(&mut self, among: &[T]) -> T {
        among[self.roll(among.len())].clone()
    }
}

/// Tests a storage: it must give back exactly what it was given, also after being reopened; it must
/// apply a batch whole or not at all, and refuse a batch that continues from a commit that it does
/// not hold.
///
/// `open` opens the same place each time; nothing must have been written there before. The storage
/// is dropped before it is opened again.
///
/// # Errors
/// [`ErrorKind::Caller`], with what it did not do.
///
/// ```
/// use backwater::{storage::MemoryStorage, suite::check_storage};
///
/// let memory = MemoryStorage::new();
/// check_storage(|| memory.clone())?;
/// # Ok::<(), backwater::Error>(())
/// ```
pub fn check_storage<S: Storage + 'static>(open: impl Fn() -> S) -> Result<()> {
    let broken = |what: String| Err(Error::new(ErrorKind::Caller, what));
    if open().header()?.is_some() {
        return broken("a place where nothing was written has a header".to_owned());
    }
    let judge = MemoryStorage::new();
    let first = Schema::parse("first.toml", FIRST)?;
    let second = Schema::parse("second.toml", SECOND)?;
    let mut dice = Dice(7);
    let clock = SetClock::at(Timestamp::from_micros(1_935_000_000_000_000)?);
    for round in 0..60 {
        // In between the tables are others for a while.
        let schema = if (20..30).contains(&round) { &second } else { &first };
        clock.advance(Duration::from_secs(3600));
        let builder = || Cache::builder().schema(schema.clone()).clock(clock.clone());
        let builder_of_it = builder().storage(open());
        // In every other round its tables are loaded one by one, some of them after a write.
        let cache = match round % 2 {
            0 => builder_of_it,
            _ => builder_of_it.load_first(["sailing"]).load_rest_on_demand(),
        };
        let cache =
            cache.build().map_err(|error| in_round(round, "it cannot be opened again", error))?;
        let known = builder().storage(judge.clone()).build()?;
        for cache in [&cache, &known] {
            let ports = if schema == &first { "port" } else { "harbour" };
            cache.commit("opened", |tx| {
                tx.merge(ports, (("code", "first"), ("name", format!("{round}"))))
            })?;
        }
        cache.flush().map_err(|error| in_round(round, "it did not take a batch", error))?;
        cache
            .rehydrate(..)
            .map_err(|error| in_round(round, "a table cannot be read later", error))?;
        compare(&cache, &known, round, "what it gave back is not what it was given")?;
        if cache.opening().schema_changes != known.opening().schema_changes {
            return broken(format!("round {round}: it did not carry over what the judge does"));
        }
        for _ in 0..dice.roll(4) {
            let before = dice.0;
            for cache in [&cache, &known] {
                dice.0 = before;
                cache.commit("written", |tx| write(tx, &mut dice))?;
            }
            if dice.roll(2) == 0 {
                cache.flush().map_err(|error| in_round(round, "it did not take a batch", error))?;
            }
        }
        if round == 45 {
            cache.clear("signed out")?;
            known.clear("signed out")?;
        }
        cache.flush().map_err(|error| in_round(round, "it did not take a batch", error))?;
        known.flush()?;
    }
    overtaken(&open)
}

fn in_round(round: usize, what: &str, error: Error) -> Error {
    Error::new(ErrorKind::Caller, format!("round {round}: {what}"))
        .caused_by(error.clone())
        .help(error.to_string())
}

/// A batch that continues from a commit that the storage no longer holds is refused.
fn overtaken<S: Storage + 'static>(open: &impl Fn() -> S) -> Result<()> {
    let (Ok(one), Ok(other)) = (Cache::open(open()), Cache::open(open())) else {
        // It can be opened once at a time.
        return Ok(());
    };
    let write = |cache: &Cache, text: &str| {
        cache.commit("written", |tx| tx.set("board", [("search", text)]))?;
        cache.flush()
    };
    write(&one, "the first was here")?;
    if write(&other, "and so was the other").is_ok() {
        let message = "it took a batch that goes on from a commit which it does not hold any more";
        return Err(Error::new(ErrorKind::Caller, message));
    }
    drop((one, other));
    let found = Cache::open(open())?.snapshot().only("board")?.get("search")?;
    if found != Some("the first was here".into()) {
        let message = format!("a batch that it refused has left something: {found:?}");
        return Err(Error::new(ErrorKind::Caller, message));
    }
    Ok(())
}

/// All rows, as JSON, by table; what does not persist is left out.
fn dump(cache: &Cache) -> Result<BTreeMap<String, Vec<String>>> {
    let (snapshot, schema) = (cache.snapshot(), cache.schema());
    let mut tables = BTreeMap::new();
    for table in schema.tables.iter().filter(|table| table.persist) {
        let rows = snapshot.rows(&table.name)?.map(|row| {
            let fields = row.fields().filter(|(name, _)| {
                table.field_no(name).is_some_and(|field| table.field(field).persist)
            });
            let times = row.state.table(row.table).times(row.slot);
            format!("{:?} {:?} {times:?}", row.id(), fields.collect::<Vec<_>>())
        });
        let mut rows: Vec<String> = rows.collect();
        rows.sort();
        tables.insert(table.name.to_string(), rows);
    }
    Ok(tables)
}

fn compare(cache: &Cache, known: &Cache, round: usize, what: &str) -> Result<()> {
    let (found, expected) = (dump(cache)?, dump(known)?);
    for (table, expected) in expected {
        let found = found.get(&table).cloned().unwrap_or_default();
        if found == expected {
            continue;
        }
        let differs = expected.iter().find(|row| !found.contains(row));
        let differs = differs.or_else(|| found.iter().find(|row| !expected.contains(row)));
        let row = differs.map_or_else(String::new, |row| format!(": {row}"));
        let message = format!("round {round}: {what}, in table \"{table}\"{row}");
        return Err(Error::new(ErrorKind::Caller, message));
    }
    Ok(())
}

/// A few writes of any kind.
fn write(tx: &mut Transaction, dice: &mut Dice) -> Result<()> {
    let is_first = tx.schema().table_names().any(|table| table == "port");
    let ports = if is_first { "port" } else { "harbour" };
    for _ in 0..dice.roll(6) {
        let (text, number) = (dice.of(&TEXTS), dice.of(&NUMBERS));
        let (port, sailing) = (dice.of(&TEXTS[1..]), dice.of(&NUMBERS));
        match dice.roll(if is_first { 13 } else { 5 }) {
            0 => tx.merge(ports, [("code", port), ("name", text)])?,
            1 => tx.merge("sailing", (("id", sailing), ("from", port), ("note", text)))?,
            2 => {
                tx.merge("sailing", [("id", sailing)])?;
                let stops = (0..dice.roll(4)).map(|_| dice.of(&TEXTS[1..])).collect::<Vec<_>>();
                tx.set_links("sailing", sailing, if is_first { "stops" } else { "calls" }, stops)?;
            }
            3 => drop(tx.delete("sailing", sailing)?),
            4 => drop(tx.delete(ports, port)?),
            5 => tx.merge("port", (("code", port), ("depth", dice.of(&FLOATS))))?,
            6 => {
                let at =
                    Value::from(Timestamp::from_micros(number.rem_euclid(4_000_000_000_000_000))?);
                tx.merge(
                    "sailing",
                    (("id", sailing), ("at", at), ("open", dice.roll(2) == 0), ("secret", text)),
                )?;
            }
            7 => {
                let json = dice.of(&["{\"n\":1.50,\"a\":[null]}", "\"text\"", "1e3", "null", "{}"]);
                tx.merge(
                    "sailing",
                    (("id", sailing), ("extras", Json::parse(json)?), ("note", Value::Null)),
                )?;
            }
            8 => {
                let (id, table) = if dice.roll(2) == 0 {
                    (Value::from(port), "port")
                } else {
                    (number.into(), "sailing")
                };
                tx.merge("sailing", (("id", sailing), ("about", id), ("about_type", table)))?;
            }
            9 => tx.merge("seat", (("sailing", sailing), ("number", text), ("deck", number)))?,
            10 => tx.set("board", (("search", text.repeat(dice.roll(400))), ("port", port)))?,
            11 => tx.merge("scratch", (("id", number), ("t", text)))?,
            _ => {
                let seat =
                    format!("[{{\"sailing\":{{\"id\":{}}},\"number\":\"7A\"}}]", dice.of(&NUMBERS));
                drop(tx.ingest("page", seat)?);
            }
        }
    }
    Ok(())
}
