//! The same things in every shape that a server may send them in become the same rows.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use backwater::{Cache, RowId, Schema, SqliteFile, Value};
use proptest::prelude::*;
use serde_json::{Map, Value as Json, json};

/// The tables under test; `names` is how members are called.
fn schema(names: &str) -> Schema {
    let text = r#"
        [table.port]
        id = "code"
        names = "NAMES"
        fields = { code = "text", full_name = "text", lat = { type = "float", from = "/at/0" }, lng = { type = "float", from = "/at/1" }, at = "json" }

        [table.vessel]
        id = "id"
        names = "NAMES"
        fields = { id = "int", full_name = "text" }

        # A cabin's number says which it is only on its sailing.
        [table.cabin]
        id = ["sailing", "number"]
        names = "NAMES"
        fields = { sailing = { to = "sailing" }, number = "text", beds_left = "int" }

        [table.sailing]
        id = "id"
        names = "NAMES"
        unknown = { keep = "other" }
        [table.sailing.fields]
        id = "int"
        crew_size = "int"
        run_by = { to = "vessel" }
        stops = { to_many = "port" }
        cabins = { to_many = "cabin" }
        best_cabin = { to = "cabin" }
        about = { to = { quay = "port", boat = "vessel" }, type_member = "kind" }
        reported = { to_many = { quay = "port", boat = "vessel" }, type_member = "kind" }
        other = "json"

        [response.page]
        records = "/page"
        table = "sailing"
    "#;
    Schema::parse("shapes.toml", &text.replace("NAMES", names)).unwrap()
}

/// A sailing as it is, apart from any shape.
#[derive(Debug, Clone)]
struct Sailing {
    id: i64,
    crew: Option<i64>,
    vessel: Option<i64>,
    stops: Vec<u8>,
    cabins: Vec<u8>,
    best: Option<(i64, u8)>,
    about: Option<(bool, u8)>,
    reported: Vec<(bool, u8)>,
    other: Option<u8>,
}

fn sailing() -> impl Strategy<Value = Sailing> {
    (
        (1..6_i64, prop::option::of(0..9_i64), prop::option::of(0..4_i64)),
        (prop::collection::vec(0..5_u8, 0..4), prop::collection::vec(0..5_u8, 0..4)),
        (
            prop::option::of((1..6_i64, 0..5_u8)),
            prop::option::of((any::<bool>(), 0..4_u8)),
            prop::collection::vec((any::<bool>(), 0..4_u8), 0..3),
            prop::option::of(0..9_u8),
        ),
    )
        .prop_map(|((id, crew, vessel), (stops, cabins), (best, about, reported, other))| {
            Sailing { id, crew, vessel, stops, cabins, best, about, reported, other }
        })
}

/// Picks shapes, one after the other.
struct Shapes<'s> {
    picks: std::slice::Iter<'s, u8>,
    names: &'static str,
}

impl Shapes<'_> {
    fn pick(&mut self, of: u8) -> u8 {
        self.picks.next().map_or(0, |pick| pick % of)
    }

    /// A member's name as the response writes it.
    fn name(&self, words: &str) -> String {
        let mut words = words.split('_');
        let first = words.next().unwrap().to_owned();
        words.fold(first, |name, word| match self.names {
            "camelCase" => name + &word[..1].to_uppercase() + &word[1..],
            "kebab-case" => name + "-" + word,
            _ => name + "_" + word,
        })
    }

    fn number(&mut self, id: i64) -> Json {
        if self.pick(2) == 0 { json!(id) } else { json!(id.to_string()) }
    }

    fn vessel(&mut self, id: i64, kind: bool) -> Json {
        let mut vessel =
            json!({ "id": self.number(id), self.name("full_name"): format!("vessel {id}") });
        if kind {
            vessel["kind"] = json!("boat");
        }
        vessel
    }

    fn port(&mut self, code: u8, kind: bool) -> Json {
        let at = [f64::from(code), 0.5];
        let mut port = json!({ "at": at, self.name("full_name"): format!("port {code}"), "code": format!("P{code}") });
        if kind {
            port["kind"] = json!("quay");
        }
        port
    }

    /// An array; or, of one, the element alone.
    fn array(&mut self, mut elements: Vec<Json>) -> Json {
        if elements.len() == 1 && self.pick(2) == 0 {
            elements.remove(0)
        } else {
            Json::Array(elements)
        }
    }

    fn either(&mut self, boat: bool, id: u8) -> Json {
        if boat { self.vessel(i64::from(id), true) } else { self.port(id, true) }
    }

    /// A cabin inside of its sailing: the number alone, an object with it, or one that says all.
    fn cabin(&mut self, sailing: i64, number: u8) -> Json {
        match self.pick(4) {
            0 => json!(number.to_string()),
            1 => json!(number),
            2 => json!({ "number": number }),
            _ => json!({ "number": number, "sailing": sailing, self.name("beds_left"): null }),
        }
    }

    fn sailing(&mut self, sailing: &Sailing) -> Json {
        let mut members: Vec<(String, Json)> = vec![("id".into(), self.number(sailing.id))];
        members.push((self.name("crew_size"), json!(sailing.crew)));
        let vessel = match (sailing.vessel, self.pick(3)) {
            (None, 0) => json!([]),
            (None, _) => Json::Null,
            (Some(id), 0) => self.number(id),
            (Some(id), 1) => json!([self.vessel(id, false)]),
            (Some(id), _) => self.vessel(id, false),
        };
        members.push((self.name("run_by"), vessel));
        let stops = sailing.stops.iter().map(|code| match self.pick(2) {
            0 => json!(format!("P{code}")),
            _ => self.port(*code, false),
        });
        let stops = stops.collect();
        members.push(("stops".into(), self.array(stops)));
        let cabins = sailing.cabins.iter().map(|number| self.cabin(sailing.id, *number)).collect();
        members.push(("cabins".into(), self.array(cabins)));
        let best = match (sailing.best, self.pick(3)) {
            (None, _) => Json::Null,
            (Some((at, number)), 0) => json!([at, number.to_string()]),
            (Some((at, number)), 1) => json!(format!("[{at},\"{number}\"]")),
            (Some((at, number)), _) => json!({ "sailing": at, "number": number.to_string() }),
        };
        members.push((self.name("best_cabin"), best));
        match (sailing.about, self.pick(2)) {
            (None, _) => members.push(("about".into(), Json::Null)),
            (Some((boat, id)), 0) => {
                members.push((self.name("about_type"), json!(if boat { "boat" } else { "quay" })));
                let id = if boat { self.number(id.into()) } else { json!(format!("P{id}")) };
                members.push(("about".into(), id));
            }
            (Some((boat, id)), _) => members.push(("about".into(), self.either(boat, id))),
        }
        let reported = sailing.reported.iter().map(|(boat, id)| self.either(*boat, *id)).collect();
        members.push(("reported".into(), self.array(reported)));
        members.extend(sailing.other.map(|other| ("left over".to_owned(), json!([other]))));
        // In any order: an id may well come last.
        let turn = usize::from(self.pick(8)) % members.len();
        members.rotate_left(turn);
        if self.pick(2) == 0 {
            members.reverse();
        }
        Json::Object(members.into_iter().collect::<Map<_, _>>())
    }

    fn page(&mut self, sailings: &[Sailing]) -> String {
        let sailings = sailings.iter().map(|sailing| self.sailing(sailing)).collect();
        json!({ "page": self.array(sailings) }).to_string()
    }
}

/// All that a cache holds of the sailings, except for what a shape may leave out.
fn reported(cache: &Cache) -> Vec<String> {
    let columns = [
        "SELECT id, crew_size, run_by, stops, cabins, best_cabin, about, about_type, reported, other FROM sailing",
        "SELECT owner, position, target FROM sailing_stops",
        "SELECT owner, position, target FROM sailing_cabins",
        "SELECT owner, position, target, target_type FROM sailing_reported",
    ];
    let results = columns.map(|sql| cache.query(sql, ()).unwrap().read().unwrap());
    results
        .iter()
        .flat_map(|result| {
            result.rows().map(|row| format!("{:?}", row.values())).collect::<Vec<_>>()
        })
        .collect()
}

/// The same, from the sailings themselves.
fn expected(sailings: &[Sailing]) -> Vec<String> {
    let mut last: Vec<Sailing> = Vec::new();
    for sailing in sailings {
        let mut sailing = sailing.clone();
        if let Some(place) = last.iter().position(|other| other.id == sailing.id) {
            sailing.other = sailing.other.or(last[place].other);
            last[place] = sailing;
        } else {
            last.push(sailing);
        }
    }
    last.sort_by_key(|sailing| sailing.id);
    let id = |boat: bool, id: u8| if boat { id.to_string() } else { format!("P{id}") };
    let kind = |boat: bool| Value::from(if boat { "boat" } else { "quay" });
    let count = |len: usize| Value::Int(len as i64);
    let parts = |at: i64, number: u8| Value::from(RowId::from((at, number.to_string())));
    let mut rows = Vec::new();
    for s in &last {
        rows.push(vec![
            s.id.into(),
            s.crew.into(),
            s.vessel.into(),
            count(s.stops.len()),
            count(s.cabins.len()),
            s.best.map_or(Value::Null, |(at, number)| parts(at, number)),
            s.about.map_or(Value::Null, |(boat, about)| id(boat, about).into()),
            s.about.map_or(Value::Null, |(boat, _)| kind(boat)),
            count(s.reported.len()),
            s.other.map_or(Value::Null, |other| {
                backwater::Json::parse(&format!("{{\"left over\":[{other}]}}")).unwrap().into()
            }),
        ]);
    }
    let entry = |s: &Sailing, position: usize| vec![s.id.into(), count(position)];
    for s in &last {
        rows.extend(
            s.stops
                .iter()
                .enumerate()
                .map(|(n, code)| [entry(s, n), vec![format!("P{code}").into()]].concat()),
        );
    }
    for s in &last {
        rows.extend(
            s.cabins
                .iter()
                .enumerate()
                .map(|(n, number)| [entry(s, n), vec![parts(s.id, *number)]].concat()),
        );
    }
    for s in &last {
        rows.extend(s.reported.iter().enumerate().map(|(n, (boat, to))| {
            [entry(s, n), vec![id(*boat, *to).into(), kind(*boat)]].concat()
        }));
    }
    rows.iter().map(|row| format!("{row:?}")).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn the_shape_does_not_matter(
        pages in prop::collection::vec(prop::collection::vec(sailing(), 1..5), 1..4),
        picks in prop::collection::vec(any::<u8>(), 0..400),
        names in prop::sample::select(vec!["camelCase", "kebab-case", "snake_case"]),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("shapes.db");
        let cache = Cache::open_with(schema(names), SqliteFile::new(&path)).unwrap();
        let mut shapes = Shapes { picks: picks.iter(), names };
        for page in &pages {
            let response = shapes.page(page);
            cache.commit("page loaded", |tx| tx.ingest("page", &response)).unwrap();
        }
        let all: Vec<Sailing> = pages.concat();
        prop_assert_eq!(reported(&cache), expected(&all));
        // A vessel and a port are the same rows wherever they were met.
        let snapshot = cache.snapshot();
        for row in snapshot.rows("port").unwrap() {
            let code = row.id().unwrap().to_string();
            prop_assert_eq!(row.get("full_name").unwrap(), Some(Value::from(format!("port {}", &code[1..]))));
            prop_assert_eq!(row.get("lat").unwrap(), Some(Value::Float(code[1..].parse().unwrap())));
            prop_assert_eq!(row.get("lng").unwrap(), Some(Value::Float(0.5)));
            prop_assert!(row.get("at").unwrap().is_some());
        }
        for row in snapshot.rows("cabin").unwrap() {
            let Some(RowId::Parts(parts)) = row.id() else { panic!("a cabin's id has two parts") };
            prop_assert_eq!(row.get("sailing").unwrap(), Some(parts[0].clone().into()));
        }
        // Once more: no news. And all of it is there after a restart.
        let mut again = Shapes { picks: picks.iter(), names };
        let last = pages.last().unwrap();
        let twice = |page: &[Sailing]| page.iter().enumerate().any(|(n, s)| page[..n].iter().any(|other| other.id == s.id));
        if pages.len() == 1 && !twice(last) {
            let report = cache.commit("page loaded again", |tx| tx.ingest("page", again.page(last))).unwrap();
            prop_assert_eq!(report.changes().count(), 0);
        }
        let changed = reported(&cache);
        drop((snapshot, cache));
        prop_assert_eq!(reported(&Cache::open(SqliteFile::new(&path)).unwrap()), changed);
    }
}

/// The same text inside of another sailing is another cabin, also where it stands deeper inside.
#[test]
fn what_takes_its_id_from_around_it_is_another_thing_elsewhere() {
    let schema = Schema::parse(
        "s.toml",
        r#"
        table.sailing = { id = "id", fields = { id = "int", decks = { to_many = "deck" } } }
        table.deck = { id = ["sailing", "deck"], fields = { sailing = { to = "sailing" }, deck = "text", cabins = { to_many = "cabin" }, plan = { to = "plan" } } }
        table.cabin = { id = ["sailing", "number"], fields = { sailing = { to = "sailing" }, number = "text", beds = "int" } }
        table.plan = { id = "name", fields = { name = "text", shown = { to = "cabin" } } }
        response.page.table = "sailing"
    "#,
    );
    let cache = Cache::new(schema.unwrap());
    let cabins = r#"[{"number": "7A", "beds": 2, "x": "the same letters again"}]"#;
    let plan = r#"{"name": "upper deck plan", "shown": {"number": "7A", "x": "letters"}}"#;
    let decks = format!(r#"[{{"deck": "upper deck", "plan": {plan}, "cabins": {cabins}}}]"#);
    let sailings: Vec<String> = (0..40)
        .map(|id| match id % 2 {
            0 => format!(r#"{{"id": {id}, "decks": {decks}}}"#),
            _ => format!(r#"{{"decks": {decks}, "id": {id}}}"#),
        })
        .collect();
    cache
        .commit("page loaded", |tx| tx.ingest("page", format!("[{}]", sailings.join(","))))
        .unwrap();
    let snapshot = cache.snapshot();
    for id in 0..40 {
        let deck = snapshot.get("deck", (id, "upper deck")).unwrap().unwrap();
        assert_eq!(deck.follow_all("cabins").unwrap()[0].id(), Some(RowId::from((id, "7A"))));
    }
    assert_eq!(snapshot.count("cabin").unwrap(), 40);
    let shown = snapshot.get("plan", "upper deck plan").unwrap().unwrap().follow("shown").unwrap();
    assert_eq!(shown.unwrap().id(), Some(RowId::from((39, "7A"))), "what was read last");
}
