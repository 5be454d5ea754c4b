//! Tables of every kind, random writes to all of them, and their rows as text.

#![allow(dead_code, reason = "each test takes what it needs")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;

use backwater::{Cache, Named, Schema, Timestamp, Transaction, Value, error::Result};

pub(crate) const FIRST: &str = r#"
    [table.port]
    id = "code"
    fields = { code = "text", name = "text" }
    [table.sailing]
    id = "id"
    [table.sailing.fields]
    id = "int"
    stops = { to_many = "port", record = "/port", fields = { berth = "int", note = "text", due = "timestamp" } }
    delay = "int"
    [response.page]
    records = "/sailings"
    table = "sailing"
    list = "page_list"
    [query]
    late = "SELECT id, delay FROM sailing WHERE delay > 1 ORDER BY delay"
"#;

/// Links in both kinds to what was there, a link table, a list, a table of one row, an index that a
/// table needs which is there already.
pub(crate) const SECOND: &str = r#"
    [table.booking]
    id = ["sailing", "number"]
    [table.booking.fields]
    sailing = { to = "sailing", on_delete = "cascade" }
    number = "int"
    cars = "int"
    through = { to_many = "port", on_delete = "cascade" }
    about = { to = ["port", "sailing"], on_delete = "set null" }
    [table.desk]
    one_row = true
    fields = { open = "bool", port = { to = "port" } }
    [response.bookings]
    records = "/bookings"
    table = "booking"
    list = "booking_list"
    beside.desk.open = "/open"
    [response.delays]
    records = "/delays"
    table = "sailing"
    complete = { delay = 3 }
    [query]
    booked = "SELECT s.id, count(b.number) AS n, sum(b.cars) AS cars FROM sailing AS s LEFT JOIN booking AS b ON b.sailing = s.id GROUP BY s.id"
"#;

const PORTS: [&str; 3] = ["SAL", "EEL", "NOR"];
pub(crate) const TABLES: [&str; 8] = [
    "port",
    "sailing",
    "sailing_stops",
    "page_list",
    "booking",
    "booking_through",
    "booking_list",
    "desk",
];

pub(crate) type Write = (u8, u8, u8);

/// What can be written before the second tables are there, and after it.
pub(crate) fn write(tx: &mut Transaction, (what, which, value): Write, all: bool) -> Result<()> {
    let (port, other) = (PORTS[usize::from(which) % 3], PORTS[usize::from(value) % 3]);
    let (sailing, number) = (i64::from(which % 3), i64::from(value % 4));
    match if all { what % 9 } else { what % 5 } {
        0 => tx.merge("port", [("code", port.to_owned()), ("name", format!("name {value}"))]),
        1 => tx.merge("sailing", [("id", sailing), ("delay", number)]),
        2 => {
            tx.merge("sailing", [("id", sailing)])?;
            match value % 3 {
                0 => tx.set_links("sailing", sailing, "stops", [port, other]),
                _ => {
                    let note = if value % 2 == 0 { Value::Null } else { format!("note {value}").into() };
                    let due = Timestamp::from_micros(i64::from(value) * 7_654_321)?;
                    let first = Named::from([("berth", Value::from(number)), ("note", note)]);
                    let second = Named::from([("due", Value::from(due))]);
                    tx.set_entries("sailing", sailing, "stops", [(port, first), (other, second)])
                }
            }
        }
        3 => tx.ingest("page", format!(r#"{{"sailings": [{{"id": {sailing}, "delay": {number}}}]}}"#)).map(drop),
        4 if value % 2 == 0 => tx.delete("sailing", sailing).map(drop),
        4 => tx.delete("port", port).map(drop),
        5 => {
            let (about, kind) = if value % 2 == 0 { (Value::from(port), "port") } else { (sailing.into(), "sailing") };
            tx.merge("booking", (
                ("sailing", sailing), ("number", number), ("cars", 2), ("about", about), ("about_type", kind),
            ))?;
            tx.set_links("booking", (sailing, number), "through", [port, other])
        }
        6 => tx.set("desk", (("open", value % 2 == 0), ("port", port))),
        7 => tx.ingest("bookings", format!(
            r#"{{"open": true, "bookings": [{{"sailing": {{"id": {sailing}, "delay": 5}}, "number": {number}}}]}}"#
        )).map(drop),
        _ => tx.ingest("delays", format!(r#"{{"delays": [{{"id": {sailing}, "delay": 3}}]}}"#)).map(drop),
    }
}

pub(crate) fn image(cache: &Cache) -> BTreeMap<String, Vec<String>> {
    let snapshot = cache.snapshot();
    let rows = |table: &str| -> Vec<String> {
        let rows = snapshot.rows(table).unwrap();
        let rows =
            rows.map(|row| format!("{:?}: {:?}", row.id(), row.fields().collect::<Vec<_>>()));
        let mut rows: Vec<String> = rows.collect();
        rows.sort();
        rows
    };
    TABLES.map(|table| (table.to_owned(), rows(table))).into()
}

pub(crate) fn whole() -> Schema {
    Schema::builder().text("first", FIRST).text("second", SECOND).build().unwrap()
}
