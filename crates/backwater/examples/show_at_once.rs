//! An edit form with tabs and counters: a change is shown at once wherever it shows, goes to the
//! server, and is undone if the server refuses it.
//!
//! `cargo run -p backwater --example show_at_once`

use backwater::clock::SetClock;
use backwater::remote::{Remote, SendState, StandIn};
use backwater::{Cache, FromRow, Query, Schema, error::Result};

const SCHEMA: &str = r#"
    [table.task]
    id = "id"
    fields = { id = "int", title = "text", category = "text", done = "bool" }

    [response.tasks]
    url = "/tasks"
    table = "task"

    [response.task]
    url = "/tasks/{id}"
    table = "task"

    [send.save]
    table = "task"
    method = "PATCH"
    url = "/tasks/{id}"
    answer = "task"
    merge = true # while it waits, a later change of the same task is part of it
"#;

#[derive(FromRow)]
struct Tab {
    category: String,
    open: i64,
}

#[derive(FromRow)]
struct Line {
    id: i64,
    title: String,
}

/// What the form shows of edits that have not arrived, or were refused.
#[derive(FromRow)]
struct Unsaved {
    label: String,
    state: String,
    message: Option<String>,
}

fn main() -> Result<()> {
    // In a program of yours the server is somewhere else, and its transport is backwater-http's.
    let server = StandIn::new(|request| match (request.method().as_str(), request.body()) {
        ("GET", _) => StandIn::json(
            r#"[
                { "id": 1, "title": "Grease the ramp", "category": "deck", "done": false },
                { "id": 2, "title": "Count the life jackets", "category": "deck", "done": false },
                { "id": 3, "title": "Order tea", "category": "galley", "done": false }
            ]"#,
        ),
        // It fails over one title.
        (_, body) if body.windows(5).any(|text| text == b"crash") => StandIn::status(500),
        _ => StandIn::status(204),
    });
    let cache = Cache::new(Schema::parse("backwater.toml", SCHEMA)?);
    let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    let remote = Remote::builder(&cache).base("https://ferries.example/api");
    let remote = remote.transport(server.clone()).clock(clock).build()?;

    // The tabs with their counters, the list of one tab, and what is not saved: all are queries.
    let tabs = cache.query(
        "SELECT category, count(*) FILTER (WHERE NOT done) AS open FROM task \
         GROUP BY category ORDER BY category",
        (),
    )?;
    let list = cache.query(
        "SELECT id, title FROM task WHERE category = :category AND NOT done ORDER BY id",
        [("category", "deck")],
    )?;
    let unsaved = cache.query("SELECT label, state, message FROM backwater_pending", ())?;
    remote.ask("tasks", ())?;
    server.answer_all();
    println!("loaded");
    show(&tabs, &list, &unsaved)?;

    // The user gives a task another category: it leaves this tab, and both counters follow.
    let moved = remote.send("save", "the ramp is for the galley", |tx| {
        tx.update("task", 1, [("category", "galley")])
    })?;
    println!("\nsaved by the user, before the server knows");
    show(&tabs, &list, &unsaved)?;
    server.answer_all();
    assert_eq!(moved.state(), SendState::Confirmed);

    // The server fails over a title: the form shows what the server has, and why.
    let renamed = remote
        .send("save", "another title", |tx| tx.update("task", 2, [("title", "crash the boat")]))?;
    println!("\nanother title");
    show(&tabs, &list, &unsaved)?;
    server.answer_all();
    println!("\nthe server has answered");
    show(&tabs, &list, &unsaved)?;
    assert!(matches!(renamed.state(), SendState::Refused(_)));

    // The user is told, and lets it go; `send_again` would try once more.
    renamed.dismiss()?;
    assert!(unsaved.read()?.is_empty());

    let titles: Vec<Line> = list.typed()?.rows()?;
    assert_eq!(titles.len(), 1);
    assert_eq!(titles[0].title, "Count the life jackets");
    Ok(())
}

fn show(tabs: &Query, list: &Query, unsaved: &Query) -> Result<()> {
    let tabs: Vec<Tab> = tabs.typed()?.rows()?;
    let tabs = tabs.iter().map(|tab| format!("{} {}", tab.category, tab.open));
    println!("  [{}]", tabs.collect::<Vec<_>>().join(" | "));
    for line in list.typed::<Line>()?.rows()? {
        println!("  {}. {}", line.id, line.title);
    }
    for edit in unsaved.typed::<Unsaved>()?.rows()? {
        let why = edit.message.map(|message| format!(": {message}")).unwrap_or_default();
        println!("  ({}, {}{why})", edit.label, edit.state);
    }
    Ok(())
}
