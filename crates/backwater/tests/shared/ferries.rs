//! Tables of many kinds with the links between them, random writes to them, and their rows as text.

#![allow(dead_code, reason = "each test takes what it needs")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{Cache, Schema, Transaction, Value, error::Result};
use proptest::prelude::*;

pub(crate) const SCHEMA: &str = r#"
    table.port = { id = "code", fields = { code = "text", name = "text" } }
    table.vessel = { id = "name", fields = { name = "text", home = { to = "port", on_delete = "set null" } } }
    table.sailing = { id = "id", version = "seen", fields = { id = "int", seen = "int", vessel = { to = "vessel", on_delete = "restrict" }, stops = { to_many = "port", on_delete = "cascade" }, note = "text", remark = { type = "text", persist = false }, best = { to = "seat" } } }
    table.booking = { id = "id", fields = { id = "int", sailing = { to = "sailing", on_delete = "cascade" }, cars = "int" } }
    table.seat = { id = ["sailing", "seat"], fields = { sailing = { to = "sailing", on_delete = "cascade" }, seat = "text" } }
    table.board = { one_row = true, fields = { search = "text" } }
    response.departures = { url = "/departures{?port,page}", records = "/s", table = "sailing", list = "departure_list", part = "page" }
    response.seats = { url = "/seats/{sailing}", table = "seat", fields = { sailing = ":sailing" }, complete = { sailing = ":sailing" } }
"#;
pub(crate) const TABLES: [&str; 7] =
    ["port", "vessel", "sailing", "booking", "seat", "departure_list", "sailing_stops"];
pub(crate) const QUERIES: [&str; 3] = [
    "SELECT v.name, count(*) AS n FROM sailing AS s LEFT JOIN vessel AS v ON v.name = s.vessel GROUP BY 1",
    "SELECT b.id, s.note, s.seen FROM booking AS b JOIN sailing AS s ON s.id = b.sailing ORDER BY s.seen DESC LIMIT 4",
    "SELECT owner, position, target FROM sailing_stops ORDER BY owner, position",
];

/// Something that a program does, to be done by both.
#[derive(Debug, Clone)]
pub(crate) enum Write {
    Merge(usize, i64, i64),
    Update(i64, i64),
    Delete(usize, i64),
    Stops(i64, Vec<i64>),
    Departures(i64, i64, Vec<(i64, i64)>),
    Seats(i64, Vec<i64>),
    Patch(usize, i64, i64),
    Search(i64),
    Fail,
}

fn code(number: i64) -> String {
    format!("P{number}")
}

impl Write {
    fn apply(&self, tx: &mut Transaction) -> Result<()> {
        match self {
            Write::Merge(0, id, _) => tx.merge("port", (("code", code(*id)), ("name", "new"))),
            Write::Merge(1, id, to) => {
                tx.merge("vessel", (("name", code(*id)), ("home", code(*to))))
            }
            Write::Merge(2, id, to) => {
                let fields = (("id", *id), ("vessel", code(*to)), ("remark", "now"), ("seen", *to));
                tx.merge("sailing", fields)
            }
            Write::Merge(3, id, to) => tx.merge("booking", [("id", *id), ("sailing", *to)]),
            Write::Merge(_, id, to) => tx.merge("seat", (("sailing", *to), ("seat", code(*id)))),
            Write::Update(id, to) => {
                // Its best seat may be one of another sailing, which is not here.
                let best = Value::from(backwater::RowId::from((*to + 4, code(*id))));
                let fields = (("note", code(*to)), ("seen", Value::Int(*to)), ("best", best));
                tx.update("sailing", *id, fields)
            }
            Write::Delete(0, id) => tx.delete("port", code(*id)).map(drop),
            Write::Delete(1, id) => tx.delete("vessel", code(*id)).map(drop),
            Write::Delete(2, id) => tx.delete("sailing", *id).map(drop),
            Write::Delete(_, id) => tx.delete("booking", *id).map(drop),
            Write::Stops(id, to) => {
                tx.set_links("sailing", *id, "stops", to.iter().map(|to| code(*to)))
            }
            Write::Departures(port, page, sailings) => {
                let rows = sailings.iter().map(|(id, seen)| {
                    format!(r#"{{"id":{id},"seen":{seen},"note":"n{seen}","vessel":{{"name":"P{seen}"}}}}"#)
                });
                let text = format!(r#"{{"s":[{}]}}"#, rows.collect::<Vec<_>>().join(","));
                let url = format!("/departures?port=P{port}&page={page}");
                tx.ingest(backwater::Request::get(url), text).map(drop)
            }
            Write::Seats(sailing, seats) => {
                let rows = seats.iter().map(|seat| format!(r#"{{"seat":"P{seat}"}}"#));
                let text = format!("[{}]", rows.collect::<Vec<_>>().join(","));
                tx.ingest(backwater::Request::get(format!("/seats/{sailing}")), text).map(drop)
            }
            Write::Patch(0, id, to) => {
                tx.merge_patch(format!(r#"{{"booking":{{"{id}":{{"cars":{to}}}}}}}"#))
            }
            Write::Patch(_, id, to) => tx.json_patch(format!(
                r#"[{{"op":"replace","path":"/sailing/{id}/note","value":"p{to}"}}]"#
            )),
            Write::Search(text) => tx.set("board", [("search", code(*text))]),
            Write::Fail => tx.update("booking", 9_999, [("cars", 1)]),
        }
    }
}

pub(crate) fn write() -> impl Strategy<Value = Write> {
    let id = 0..6_i64;
    prop_oneof![
        4 => (0..5_usize, id.clone(), id.clone()).prop_map(|(table, id, to)| Write::Merge(table, id, to)),
        2 => (id.clone(), id.clone()).prop_map(|(id, to)| Write::Update(id, to)),
        2 => (0..4_usize, id.clone()).prop_map(|(table, id)| Write::Delete(table, id)),
        1 => (id.clone(), prop::collection::vec(id.clone(), 0..4)).prop_map(|(id, to)| Write::Stops(id, to)),
        2 => (id.clone(), 0..2_i64, prop::collection::vec((id.clone(), id.clone()), 0..4))
            .prop_map(|(port, page, rows)| Write::Departures(port, page, rows)),
        1 => (id.clone(), prop::collection::vec(id.clone(), 0..4)).prop_map(|(id, seats)| Write::Seats(id, seats)),
        1 => (0..2_usize, id.clone(), id.clone()).prop_map(|(kind, id, to)| Write::Patch(kind, id, to)),
        1 => id.prop_map(Write::Search),
        1 => Just(Write::Fail),
    ]
}

pub(crate) fn commits(most: usize) -> impl Strategy<Value = Vec<Vec<Write>>> {
    prop::collection::vec(prop::collection::vec(write(), 1..4), 0..most)
}

pub(crate) fn schema() -> Schema {
    Schema::parse("s.toml", SCHEMA).unwrap()
}

/// Lines in an order that does not show which row came first.
fn sorted(lines: impl Iterator<Item = String>) -> String {
    let mut lines: Vec<String> = lines.collect();
    lines.sort_unstable();
    lines.join("\n")
}

pub(crate) fn commit(cache: &Cache, writes: &[Write]) -> String {
    let report = cache.commit("a step", |tx| writes.iter().try_for_each(|write| write.apply(tx)));
    match report {
        Ok(report) => sorted(report.changes().map(|change| change.to_string())),
        Err(error) => error.to_string(),
    }
}

pub(crate) fn exported(cache: &Cache) -> String {
    let mut text = Vec::new();
    cache.snapshot().export(&mut text).unwrap();
    // The first line has the number of the last commit, and coming is one.
    sorted(String::from_utf8(text).unwrap().lines().skip(1).map(str::to_owned))
}
