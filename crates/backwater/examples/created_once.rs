//! Something that must be created once and never again, such as the registration of a device, is
//! asked for before the cache has been read, from several places, and again at each start.
//!
//! `cargo run -p backwater --example created_once`

use std::path::Path;

use backwater::clock::SetClock;
use backwater::remote::{Remote, SendState, StandIn};
use backwater::{Cache, Schema, SqliteFile, error::Result};

const SCHEMA: &str = r#"
    table.device = { id = "name", fields = { name = "text", kind = "text" } }

    [send.register]
    table = "device"
    method = "PUT" # by its name: the same request twice is one device
    url = "/devices/{name}"
    body = "row"
"#;

/// Registers the device if neither the server nor an earlier call has it.
fn register(cache: &Cache, remote: &Remote) -> Result<Option<SendState>> {
    // The table is read first; what is pending is in it.
    cache.rehydrate(["device"])?;
    if cache.snapshot().get("device", "kiosk-4")?.is_some() {
        return Ok(None);
    }
    let sent = remote.send("register", "the kiosk registers", |tx| {
        // Looked at once more, inside: another thread may have been faster.
        tx.merge("device", [("name", "kiosk-4"), ("kind", "kiosk")])
    })?;
    Ok(Some(sent.state()))
}

fn start(file: &Path, server: &StandIn) -> Result<(Cache, Remote)> {
    let schema = Schema::parse("backwater.toml", SCHEMA)?;
    let builder = Cache::builder().schema(schema).storage(SqliteFile::new(file));
    let cache = builder.load_first(Vec::<String>::new()).load_rest_on_demand().build()?;
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    let remote = Remote::builder(&cache).base("https://ferries.example/api");
    Ok((cache.clone(), remote.transport(server.clone()).clock(clock).build()?))
}

fn main() -> Result<()> {
    let folder = std::env::temp_dir().join(format!("backwater-once-{}", std::process::id()));
    std::fs::create_dir_all(&folder).map_err(backwater::Error::other)?;
    let file = folder.join("kiosk.db");
    let server = StandIn::new(|_| StandIn::status(201));

    let (cache, remote) = start(&file, &server)?;
    println!("first: {:?}", register(&cache, &remote)?);
    println!("again: {:?}", register(&cache, &remote)?);
    cache.flush()?;
    // The answer is lost with the program, whose edit is on the disk.
    drop((cache, remote));

    let (cache, remote) = start(&file, &server)?;
    println!("after a restart: {:?}, {} unsent", register(&cache, &remote)?, remote.unsent());
    server.answer_all();
    println!("later: {:?}, {} unsent", register(&cache, &remote)?, remote.unsent());
    let requests = server.requests();
    println!("{}", requests.join("\n"));
    assert!(requests.iter().all(|request| request == &requests[0]));
    drop((cache, remote));
    std::fs::remove_dir_all(&folder).map_err(backwater::Error::other)
}
