//! A basket that works without a network, is there after the program was closed, and goes to the
//! server when there is one.
//!
//! `cargo run -p backwater --example basket_offline`

use std::path::Path;

use backwater::clock::SetClock;
use backwater::remote::{Remote, StandIn};
use backwater::{Cache, Query, RowId, Schema, SqliteFile, Value, error::Result};

const SCHEMA: &str = r#"
    table.ticket = { id = "code", fields = { code = "text", price = "int" } }

    [table.item]
    id = "id"
    fields = { id = "int", ticket = { to = "ticket" }, count = "int" }

    [response.item]
    url = "/basket/{id}"
    table = "item"

    [send.put]
    table = "item"
    method = "POST"
    url = "/basket"
    body = { ticket = ":ticket", count = ":count" }
    answer = "item" # it gives the item its id

    [send.change]
    table = "item"
    method = "PATCH"
    url = "/basket/{id}"
    merge = true # of several changes that wait, the server hears the last

    [send.take_out]
    table = "item"
    method = "DELETE"
    url = "/basket/{id}"
"#;
const SUM: &str = "SELECT sum(i.count) AS tickets, sum(i.count * t.price) AS pence FROM item i \
                   JOIN ticket t ON t.code = i.ticket";

/// The program: a cache in a file, and a remote that stands for the shop.
struct Program {
    cache: Cache,
    remote: Remote,
    sum: Query,
}

fn start(file: &Path, shop: &StandIn) -> Result<Program> {
    let schema = Schema::parse("backwater.toml", SCHEMA)?;
    let cache = Cache::open_with(schema, SqliteFile::new(file))?;
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    let remote = Remote::builder(&cache).base("https://ferries.example/api");
    let remote = remote.transport(shop.clone()).clock(clock).build()?;
    let sum = cache.query(SUM, ())?;
    Ok(Program { cache, remote, sum })
}

impl Program {
    fn show(&self, what: &str) -> Result<()> {
        let sum = self.sum.read()?;
        let row = sum.row(0).map(|row| row.values().to_vec()).unwrap_or_default();
        println!("{what}: {} tickets, {} pence; {} unsent", row[0], row[1], self.remote.unsent());
        Ok(())
    }
}

fn main() -> Result<()> {
    let folder = std::env::temp_dir().join(format!("backwater-basket-{}", std::process::id()));
    std::fs::create_dir_all(&folder).map_err(backwater::Error::other)?;
    let file = folder.join("basket.db");
    let shop = StandIn::new(|request| match request.method().as_str() {
        "POST" => StandIn::json(r#"{ "id": 71 }"#),
        _ => StandIn::status(204),
    });

    let day = start(&file, &shop)?;
    day.cache.commit("tickets known", |tx| {
        tx.insert("ticket", [("code", Value::from("day")), ("price", 700.into())])
    })?;
    day.remote.set_online(false); // on the ferry
    let mut item = RowId::from(0);
    day.remote.send("put", "a day ticket", |tx| {
        item = tx.insert_local("item", [("ticket", Value::from("day")), ("count", 1.into())])?;
        Ok(())
    })?;
    for count in 2..=4 {
        let label = format!("{count} of them");
        day.remote.send("change", label, |tx| tx.update("item", &item, [("count", count)]))?;
    }
    day.show("on the ferry")?;
    assert_eq!(day.remote.unsent(), 2); // to put it in, and to change it once
    day.cache.flush()?;
    drop(day); // the program is closed

    let evening = start(&file, &shop)?;
    evening.show("in the evening")?;
    shop.answer_all();
    evening.show("at home")?;
    println!("{}", shop.requests().join("\n"));
    assert_eq!(evening.remote.unsent(), 0);
    assert!(evening.cache.snapshot().get("item", 71)?.is_some());
    drop(evening);
    std::fs::remove_dir_all(&folder).map_err(backwater::Error::other)
}
