//! A struct is a row of its table: what is written with it is read with it, what a part does not
//! have stays, and what the schema says otherwise is an error before anything is read.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{
    Cache, Error, Found, FromRow, Id, Json, Link, Links, OneOf, Schema, Table, Timestamp, Values,
    report::ChangeKind,
    typed::{FieldProblem, Text},
};
use proptest::prelude::*;

#[derive(Debug, Clone, PartialEq, Table)]
struct Port {
    #[table(id)]
    code: String,
    name: Option<String>,
}

#[derive(Debug, Clone, PartialEq, Values)]
enum Status {
    #[values("on time")]
    OnTime,
    Boarding,
    #[values(other)]
    Other(String),
}

#[derive(Debug, Clone, Copy, PartialEq, Values)]
enum Deck {
    Upper,
    CarDeck,
}

#[derive(Debug, Clone, Copy, PartialEq, Values)]
enum Level {
    #[values(-1)]
    Hold,
    #[values(0)]
    Main,
}

#[derive(Debug, Clone, Copy, PartialEq, Values)]
enum Grade {
    #[values(1)]
    First,
    #[values(other)]
    Other(i64),
}

/// What a sailing may point at.
#[derive(Debug, Clone, PartialEq, OneOf)]
enum About {
    #[one_of("harbour")]
    Port(Link<Port>),
    Sailing(Link<Sailing>),
    Seat(Link<Seat>),
}

#[derive(Debug, Clone, PartialEq, Table)]
#[table(names = "camelCase")]
struct Sailing {
    #[table(id = "int")]
    id: Id<Sailing>,
    from: Link<Port>,
    to: Option<Link<Port>>,
    stops: Links<Port>,
    status: Status,
    departs_at: Timestamp,
    delay_min: Option<i64>,
    share: f64,
    open: bool,
    extras: Option<Json>,
    crew: u32,
    about: Option<About>,
    #[table(type_member = "is")]
    also: Vec<About>,
    level: Level,
    grade: Grade,
}

#[derive(Debug, Clone, PartialEq, Table)]
struct Seat {
    #[table(id, on_delete = "cascade")]
    sailing: Link<Sailing>,
    #[table(id)]
    number: String,
    deck: Deck,
    #[table(default)]
    taken: bool,
    #[table(persist = false)]
    looked_at: Option<i32>,
}

/// Some fields of a sailing, whose texts are borrowed.
#[derive(Debug, PartialEq, Table)]
#[table(of = Sailing)]
struct Brief<'s> {
    status: &'s str,
    delay_min: Option<i64>,
}

/// What a delay report contains.
#[derive(Table)]
#[table(of = Sailing)]
struct Delay {
    id: Id<Sailing>,
    delay_min: Option<i64>,
}

fn builder() -> backwater::SchemaBuilder {
    Schema::builder().table::<Port>().table::<Sailing>().table::<Seat>()
}

const TEXT: &str = r#"
    table.port = { id = "code", fields = { code = "text", name = "text" } }
    [table.sailing]
    id = "id"
    names = "camelCase"
    [table.sailing.fields]
    id = "int"
    from = { to = "port" }
    to = { to = "port" }
    stops = { to_many = "port" }
    status = "text"
    departs_at = "timestamp"
    delay_min = "int"
    share = "float"
    open = "bool"
    extras = "json"
    crew = "int"
    about = { to = { harbour = "port", sailing = "sailing", seat = "seat" } }
    also = { to_many = { harbour = "port", sailing = "sailing", seat = "seat" }, type_member = "is" }
    level = { type = "int", values = [-1, 0] }
    grade = "int"
    [table.seat]
    id = ["sailing", "number"]
    [table.seat.fields]
    sailing = { to = "sailing", on_delete = "cascade" }
    number = "text"
    deck = { type = "text", values = ["upper", "car_deck"] }
    taken = "bool"
    looked_at = { type = "int", persist = false }
"#;

fn port() -> impl Strategy<Value = &'static str> {
    prop::sample::select(vec!["SAL", "EEL", "NOR", "Ü\"\\"])
}

fn about() -> impl Strategy<Value = About> {
    let seat = |(sailing, number)| About::Seat(Link::to(seat(sailing, number)));
    prop_oneof![
        port().prop_map(|code| About::Port(Link::to(code))),
        (0..4_i64).prop_map(|id| About::Sailing(Link::to(id))),
        (0..4_i64, port()).prop_map(seat),
    ]
}

fn seat(sailing: i64, number: &str) -> (Id<Sailing>, std::sync::Arc<str>) {
    (Id::new(sailing), number.into())
}

fn sailing() -> impl Strategy<Value = Sailing> {
    let links = (
        port(),
        prop::option::of(port()),
        prop::collection::vec(port(), 0..4),
        prop::option::of(about()),
        prop::collection::vec(about(), 0..3),
    );
    let texts = (
        prop::sample::select(vec!["on time", "boarding", "adrift", ""]),
        prop::option::of(0..3_u8),
    );
    let numbers = (
        0..4_i64,
        any::<u32>(),
        prop::option::of(any::<i64>()),
        -1e9..1e9,
        any::<u32>(),
        any::<bool>(),
        (any::<bool>(), 0..3_i64),
    );
    (links, texts, numbers).prop_map(
        |(
            (from, to, stops, about, also),
            (status, extras),
            (id, time, delay_min, share, crew, open, (hold, grade)),
        )| Sailing {
            id: Id::new(id),
            from: Link::to(from),
            to: to.map(Link::to),
            stops: Links::to(stops),
            status: Status::of_text(status).unwrap(),
            departs_at: Timestamp::from_micros(i64::from(time) * 1_000_003).unwrap(),
            delay_min,
            share,
            open,
            extras: extras.map(|of| Json::parse(&format!("{{ \"of\": [{of}] }}")).unwrap()),
            crew,
            about,
            also,
            level: if hold { Level::Hold } else { Level::Main },
            grade: if grade == 1 { Grade::First } else { Grade::Other(grade) },
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]

    /// Against a map of structs: inserts, updates by closure, parts merged, deletes.
    #[test]
    fn what_is_written_is_what_is_read(steps in prop::collection::vec((sailing(), 0..5_u8), 1..20)) {
        let cache = Cache::new(builder().build().unwrap());
        let mut model = std::collections::BTreeMap::<Id<Sailing>, Sailing>::new();
        for (sailing, what) in steps {
            let id = sailing.id;
            let report = cache.commit("a step", |tx| {
                let mut sailings = tx.table::<Sailing>()?;
                match (model.get_mut(&id), what) {
                    (None, _) => {
                        sailings.insert(&sailing)?;
                        model.insert(id, sailing.clone());
                    }
                    (Some(known), 0) => {
                        sailings.update(id, |row| *row = sailing.clone())?;
                        *known = sailing.clone();
                    }
                    (Some(known), 1) => {
                        sailings.merge(&Delay { id, delay_min: sailing.delay_min })?;
                        known.delay_min = sailing.delay_min;
                    }
                    (Some(known), 2) => {
                        sailings.write(id, Sailing::STOPS, sailing.stops.clone())?;
                        sailings.write(id, Sailing::STATUS, sailing.status.clone())?;
                        sailings.write(id, Sailing::ABOUT, sailing.about.clone())?;
                        (known.stops, known.status) = (sailing.stops.clone(), sailing.status.clone());
                        known.about = sailing.about.clone();
                    }
                    (Some(known), 3) => {
                        sailings.merge(&sailing)?;
                        *known = sailing.clone();
                    }
                    (Some(_), _) => {
                        assert!(sailings.delete(id)?);
                        model.remove(&id);
                    }
                }
                assert_eq!(sailings.get(id).here(), model.get(&id).cloned());
                Ok(())
            });
            drop(report.unwrap());
            let snapshot = cache.snapshot();
            let rows = snapshot.table::<Sailing>().unwrap();
            let mut all: Vec<Sailing> = rows.here().collect();
            all.sort_by_key(|row| row.id);
            prop_assert_eq!(&all, &model.values().cloned().collect::<Vec<_>>());
            for code in ["SAL", "EEL"] {
                let mut there: Vec<_> = rows.pointing_at(Sailing::FROM, code).filter_map(Found::here).map(|row| row.id).collect();
                there.sort();
                let expected: Vec<_> = model.values().filter(|row| *row.from == Id::new(code)).map(|row| row.id).collect();
                prop_assert_eq!(there, expected);
            }
            for about in model.values().filter_map(|row| row.about.clone()) {
                let mut there: Vec<_> = rows.pointing_at(Sailing::ABOUT, &about).filter_map(Found::here).map(|row| row.id).collect();
                there.sort();
                let expected: Vec<_> = model.values().filter(|row| row.about.as_ref() == Some(&about)).map(|row| row.id).collect();
                prop_assert_eq!(there, expected);
            }
            let brief = snapshot.table::<Brief<'_>>().unwrap();
            for (id, row) in &model {
                let expected = Brief { status: row.status.text(), delay_min: row.delay_min };
                prop_assert_eq!(brief.get(id).here(), Some(expected));
            }
        }
    }
}

#[test]
fn types_and_text_are_one_schema() {
    let text = Schema::parse("backwater.toml", TEXT).unwrap();
    let types = builder().build().unwrap();
    assert!(types == text);
    assert!(Schema::parse("written", types.text()).unwrap() == types);
    // A text that declares the tables is checked by the types; parts may come first.
    assert!(
        Schema::builder()
            .text("backwater.toml", TEXT)
            .table::<Brief<'_>>()
            .table::<Seat>()
            .build()
            .unwrap()
            == text
    );
}

#[test]
fn what_does_not_fit_is_refused_before_anything_is_read() {
    let reported = |error: Error| error.to_string();
    let missing = Schema::builder().table::<Sailing>().build().unwrap_err();
    assert!(
        reported(missing)
            .contains("Sailing.from: this links to table \"port\", which is not declared")
    );
    let other = TEXT.replace("delay_min = \"int\"", "delay_min = \"text\"");
    let cache = Cache::new(Schema::parse("backwater.toml", &other).unwrap());
    let error = reported(cache.snapshot().table::<Sailing>().unwrap_err());
    assert!(error.contains("sailing.delay_min: the struct has int, the schema text"), "{error}");
    let other = TEXT.replace("\"car_deck\"]", "\"car_deck\", \"roof\"]");
    let error =
        Schema::builder().text("backwater.toml", other).table::<Seat>().build().unwrap_err();
    assert!(reported(error).contains("the schema also has \"roof\", which the enum has not"));
    for (said, instead, expected) in [
        (
            "seat = \"seat\"",
            "mate = \"sailing\"",
            "the struct has link to port or sailing or seat, the schema link to",
        ),
        ("[-1, 0]", "[-1, 5]", "the schema also has \"5\", which the enum has not"),
    ] {
        let other = TEXT.replace(said, instead);
        let error =
            Schema::builder().text("backwater.toml", other).table::<Sailing>().build().unwrap_err();
        assert!(reported(error).contains(expected));
    }
    let other = TEXT.replace("    crew = \"int\"\n", "");
    let error =
        Schema::builder().text("backwater.toml", other).table::<Sailing>().build().unwrap_err();
    assert!(reported(error).contains("has no field \"crew\""));

    #[derive(Table)]
    #[table(name = "port")]
    #[allow(dead_code)]
    struct Harbour {
        #[table(id)]
        code: String,
        name: i64,
    }
    let error = reported(builder().table::<Harbour>().build().unwrap_err());
    assert!(error.contains("port.name: Port declares \"text\", and Harbour \"int\""), "{error}");
}

#[test]
fn rows_are_here_partly_here_or_not_here() {
    let cache = Cache::new(
        builder().text("rules.toml", r#"response.seats = { table = "seat" }"#).build().unwrap(),
    );
    cache.commit("seats loaded", |tx| {
        tx.ingest("seats", r#"[{ "sailing": 311, "number": "7A", "deck": "upper" }, { "sailing": 311, "number": "7B" }]"#)
    }).unwrap();
    let snapshot = cache.snapshot();
    let seats = snapshot.table::<Seat>().unwrap();
    let id = |number: &str| (Id::<Sailing>::new(311), std::sync::Arc::<str>::from(number));
    // `looked_at` is absent: partly here, but known as far as the struct needs it.
    let Found::Partly(seat) = seats.get(id("7A")) else { panic!() };
    assert_eq!(
        (seat.problems(), seat.row().unwrap().deck),
        (&[("looked_at", FieldProblem::Absent)][..], Deck::Upper)
    );
    let Found::Partly(seat) = seats.get(id("7B")) else { panic!() };
    assert_eq!((seat.row(), seat.absent().collect::<Vec<_>>()), (None, vec!["deck", "looked_at"]));
    assert_eq!(seats.get(id("9C")), Found::Missing);

    let changed = |what: &dyn Fn(&mut Seat)| {
        let report =
            cache.commit("looked at", |tx| tx.table::<Seat>()?.update(id("7A"), what)).unwrap();
        report.changes().next().map(|change| (change.kind(), change.fields().len()))
    };
    // What the closure does not touch stays absent; what stays the same is no change.
    assert_eq!(changed(&|seat| seat.taken = true), Some((ChangeKind::Updated, 1)));
    assert_eq!(changed(&|seat| seat.taken = true), None);
    assert_eq!(changed(&|seat| seat.looked_at = Some(3)), Some((ChangeKind::Updated, 1)));
    assert!(
        matches!(cache.snapshot().table::<Seat>().unwrap().get(id("7A")), Found::Here(seat) if seat.taken)
    );
    let error = cache
        .commit("x", |tx| tx.table::<Seat>()?.update(id("7B"), |_| ()))
        .unwrap_err()
        .to_string();
    assert!(error.contains("lacks deck, looked_at"), "{error}");
}

#[derive(Debug, PartialEq, FromRow)]
struct Shown {
    id: Id<Sailing>,
    #[row(name = "status")]
    state: Status,
    port: Option<String>,
}

#[test]
fn rows_of_sql_are_structs_that_are_checked_when_the_query_is_defined() {
    let cache = Cache::new(builder().build().unwrap());
    let sql = "SELECT s.id, s.status, p.name AS port FROM sailing AS s LEFT JOIN port AS p ON p.code = s.\"from\" WHERE s.status <> :not";
    let shown = cache.query(sql, [("not", Status::Boarding)]).unwrap().typed::<Shown>().unwrap();
    cache
        .commit("announced", |tx| {
            tx.insert(
                "sailing",
                [("id", 311.into()), ("status", backwater::Value::from("adrift"))],
            )?;
            tx.insert(
                "sailing",
                [("id", 312.into()), ("status", backwater::Value::from("boarding"))],
            )
        })
        .unwrap();
    let expected = Shown { id: Id::new(311), state: Status::Other("adrift".into()), port: None };
    assert_eq!(shown.rows().unwrap(), [expected]);
    let reported = |error: Error| error.to_string();
    let wrong = reported(
        cache
            .query("SELECT id, status FROM sailing", ())
            .unwrap()
            .typed::<(i64, i64)>()
            .unwrap_err(),
    );
    assert!(
        wrong.contains("column \"status\": the column is of type text, and is read as int"),
        "{wrong}"
    );
    let wrong = reported(
        cache.query("SELECT id, status FROM sailing", ()).unwrap().typed::<(i64,)>().unwrap_err(),
    );
    assert!(wrong.contains("has 2 columns, and is read as 1"), "{wrong}");
    let null =
        cache.query("SELECT avg(delay_min) FROM sailing", ()).unwrap().typed::<(f64,)>().unwrap();
    assert!(reported(null.rows().unwrap_err()).contains("found NULL, expected float"));
}

/// What [`Schema::to_rust`] writes for [`WRITTEN`]; `BACKWATER_WRITE=1` writes it again.
mod written {
    #![allow(dead_code, unreachable_pub, reason = "it is declared only")]
    include!("written/structs.rs");
}

/// A text with all that structs can declare.
const WRITTEN: &str = r#"
    [table.port]
    id = "code"
    persist = false
    resource = "harbours"
    was = ["harbour", "haven"]
    fields = { code = "text", name = { type = "text", from = "/title/en", was = "title" } }
    [table.live_sailing]
    id = "id"
    names = "camelCase"
    version = "updated_at"
    unknown = "error"
    tombstone = "deleted"
    expires_after = "1 week"
    unique = [["number"], ["from", "berth"]]
    [table.live_sailing.fields]
    id = "int"
    from = { to = "port", on_delete = "set null" }
    stops = { to_many = "port", link_table = "calls", on_delete = "restrict" }
    status = { type = "text", values = ["on time", "delayed", "?"], required = true }
    departs_at = "timestamp"
    share = "float"
    open = { type = "bool", persist = false }
    extras = "json"
    type = "text"
    "up to" = "int"
    updated_at = "int"
    number = "text"
    berth = "int"
    seen_at = { type = "timestamp", unit = "seconds", from = ["seenAt", "/seen/at"] }
    after = { to = "live_sailing", by = "number", on_delete = "set null" }
    from_here = { to_many = "port", record = "/a~1b/node" }
    [table."Seat map"]
    id = ["sailing", "number"]
    expires_after = "90 minutes"
    fields = { sailing = { to = "live_sailing", on_delete = "cascade" }, number = "text" }
    [table.board]
    one_row = true
    fields = { search = { type = "text", persist = false }, port = { to = "port" } }
    [table.link]
    id = ["deck", "side"]
    unknown = { keep = "extras" }
    [table.link.fields]
    deck = { type = "int", values = [-1, 0, 7], was = ["level", "floor"] }
    side = { type = "text", values = ["port", "starboard", "self"] }
    extras = "json"
    "about us" = { to = ["live_sailing", "Seat map"], on_delete = "cascade" }
    "about_us" = { to = { harbour = "port", haven = "port", board = "link" }, type_field = "kind", type_member = "is" }
    also = { to_many = { a = "port", b = "link" }, link_table = "more", type_member = "is", persist = false }
    last = { to = ["port"], persist = false }
    "about us_type" = { type = "text", from = "/us", required = true }
    [table.link_also]
    id = "id"
    names = "camelCase"
    fields = { id = "int", first_port = { to = ["port", "link"], other_types = "skip" }, last = { to = ["link"], other_types = { to = "port" } }, state = { type = "int", values = [1, 2] } }
"#;

#[test]
fn a_text_is_written_as_structs_that_declare_the_same() {
    let text = Schema::parse("backwater.toml", WRITTEN).unwrap();
    if std::env::var_os("BACKWATER_WRITE").is_some() {
        std::fs::write("tests/rows/written/structs.rs", text.to_rust()).unwrap();
    }
    assert_eq!(text.to_rust(), include_str!("written/structs.rs"));
    let builder = Schema::builder().table::<written::Port>().table::<written::LiveSailing>();
    let builder = builder.table::<written::SeatMap>().table::<written::Board>();
    let types = builder.table::<written::Link_>().table::<written::LinkAlso>().build().unwrap();
    assert!(types == text, "{}", types.text());
}

/// Fields may be called like what a derive writes around them, and like keywords.
#[test]
fn fields_have_any_names() {
    #[derive(Debug, Default, PartialEq, Table)]
    #[table(one_row)]
    struct Odd {
        cells: i64,
        otherwise: Option<String>,
        writes: bool,
        r#type: String,
        #[table(name = "a \"b\"")]
        columns: i64,
    }
    let cache = Cache::new(Schema::builder().table::<Odd>().build().unwrap());
    let change = |odd: &mut Odd| (odd.cells, odd.columns, odd.r#type) = (3, 4, "five".into());
    cache.commit("odd", |tx| tx.table::<Odd>()?.set(change)).unwrap();
    let mut expected = Odd::default();
    change(&mut expected);
    assert_eq!(cache.snapshot().table::<Odd>().unwrap().only(), expected);
    assert_eq!(cache.snapshot().only("odd").unwrap().get("a \"b\"").unwrap(), Some(4.into()));
}

#[derive(Table)]
#[allow(dead_code, reason = "it declares a table")]
struct Person {
    #[table(id)]
    id: i64,
    boss: Option<Link<Person>>,
    knows: Links<Person>,
}

/// A person with all that they know nested in it, as deep as it goes.
#[derive(Debug, PartialEq, Table)]
#[table(of = Person)]
struct Known {
    id: i64,
    knows: Vec<Found<Known>>,
}

#[derive(Debug, PartialEq, Table)]
#[table(of = Person)]
struct Under {
    boss: Option<Found<Boss>>,
}

#[derive(Debug, PartialEq, Table)]
#[table(of = Person)]
struct Boss {
    id: i64,
}

#[test]
fn rows_nest_as_a_tree_and_never_without_end() {
    let cache = Cache::new(Schema::builder().table::<Person>().build().unwrap());
    let knows = |id: i64, knows: &[i64], boss: Option<i64>| {
        cache
            .commit("met", |tx| {
                let (boss, knows) = (boss.map(Link::to), Links::to(knows.iter().copied()));
                tx.table::<Person>()?.merge(&Person { id, boss, knows })
            })
            .unwrap();
    };
    knows(1, &[2, 3], None);
    knows(2, &[3, 9], Some(1));
    knows(3, &[], Some(8));
    let snapshot = cache.snapshot();
    let known = snapshot.table::<Known>().unwrap();
    let three = || Found::Here(Known { id: 3, knows: vec![] });
    let two = Found::Here(Known { id: 2, knows: vec![three(), Found::Missing] });
    assert_eq!(known.get(1).here().unwrap().knows, [two, three()]);
    let boss = |id: i64| snapshot.table::<Under>().unwrap().get(id).here().unwrap().boss;
    assert_eq!(
        [boss(1), boss(2), boss(3)],
        [None, Some(Found::Here(Boss { id: 1 })), Some(Found::Missing)]
    );

    // A person's acquaintances' acquaintances.
    knows(3, &[1], None);
    let snapshot = cache.snapshot();
    let Found::Here(one) = snapshot.table::<Known>().unwrap().get(1) else { panic!() };
    let Found::Partly(three) = &one.knows[1] else { panic!("{one:?}") };
    assert_eq!(three.problems(), [("knows", FieldProblem::Endless)]);

    // A row that knows the next one, a thousand times.
    for id in 100..1100 {
        knows(id, &[id + 1], None);
    }
    let mut row = cache.snapshot().table::<Known>().unwrap().get(100);
    let mut depth = 0;
    while let Found::Here(mut known) = row {
        row = known.knows.remove(0);
        depth += 1;
    }
    let Found::Partly(last) = row else { panic!("{row:?}") };
    assert_eq!((depth, last.problems()), (64, &[("knows", FieldProblem::Endless)][..]));

    // The nested struct must fit its table as well.
    let text = "table.person = { id = 'id', fields = { id = 'text', boss = { to = 'person' } } }";
    let other = Cache::new(Schema::parse("s.toml", text).unwrap());
    let error = other.snapshot().table::<Under>().unwrap_err();
    assert!(error.to_string().contains("the struct has int, the schema text"), "{error}");
}
