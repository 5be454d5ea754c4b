//! A schema proposed from some responses of a server reads the others of that server too, and holds
//! each entity in one table, whatever habits the server has: states that change between responses,
//! companions that come and go, wrappers, numbers beside ids, types that lie, several URLs for one
//! thing.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashSet};

use backwater::{Cache, Request, Schema, infer::Samples};
use proptest::prelude::*;
use serde_json::{Map, Value, json};

fn config(cases: u32) -> ProptestConfig {
    let cases = std::env::var("BACKWATER_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(cases);
    ProptestConfig {
        cases,
        failure_persistence: None,
        max_shrink_iters: 100,
        ..ProptestConfig::default()
    }
}

/// A shipyard network whose server has grown for years. An entity is a kind and a number; every id
/// is another one, so that a table holds an entity if it has a row with its id.
#[derive(Debug, Clone)]
struct Server {
    id: &'static str,
    /// Whether ids are texts.
    texts: bool,
    camel: bool,
    wrapped: bool,
    /// What is answered, one after the other, and whether it is among the samples.
    asked: Vec<(Asked, u8, u8, bool)>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum Asked {
    Vessel,
    Tickets,
    Ticket,
    TicketLabels,
    Remarks,
    Berths,
    Gauges,
    Runs,
    Run,
    Yard,
    YardVessels,
    Crew,
    Person,
    TicketEvent,
    RunEvent,
    CrewEvent,
    LandedEvent,
}

const ALL: [Asked; 17] = [
    Asked::Vessel,
    Asked::Tickets,
    Asked::Ticket,
    Asked::TicketLabels,
    Asked::Remarks,
    Asked::Berths,
    Asked::Gauges,
    Asked::Runs,
    Asked::Run,
    Asked::Yard,
    Asked::YardVessels,
    Asked::Crew,
    Asked::Person,
    Asked::TicketEvent,
    Asked::RunEvent,
    Asked::CrewEvent,
    Asked::LandedEvent,
];

const YARDS: [&str; 3] = ["tern", "norrin-yard", "whinsound"];
const PEOPLE: [&str; 7] = ["fen", "marla", "odd", "teal-j", "wick", "brisa", "hale"];
const VESSELS: [&str; 8] =
    ["marram", "lantern-jack", "teal", "curlew", "old-nell", "spindrift", "kelp", "dunlin"];
const STATES: [&str; 5] = ["queued", "in_progress", "completed", "waiting", "requested"];
const SURVEYS: [&str; 4] = ["lr-1", "bv-2", "dnv-3", "abs-4"];
const HOMES: [&str; 3] = ["SAL", "NOR", "EEL"];
const WORDS: [&str; 6] = ["rudder", "winch", "deck", "galley", "mast", "pump"];

/// Tickets, runs and the like of each vessel.
const EACH: usize = 3;

fn server() -> impl Strategy<Value = Server> {
    let asked =
        (prop::sample::select(ALL.to_vec()), any::<u8>(), any::<u8>(), prop::bool::weighted(0.5));
    let id = prop::sample::select(vec!["id", "_id", "uuid", "node_id"]);
    (id, any::<bool>(), any::<bool>(), any::<bool>(), prop::collection::vec(asked, 200..300))
        .prop_map(|(id, texts, camel, wrapped, asked)| Server { id, texts, camel, wrapped, asked })
}

impl Server {
    fn id(&self, kind: &str, number: usize) -> Value {
        let kind =
            ["yard", "person", "vessel", "ticket", "label", "run", "gauge", "remark", "station"]
                .iter()
                .position(|known| *known == kind)
                .unwrap();
        let id = 1_000_003 * (kind + 1) + number * 17;
        if self.texts { json!(format!("{id:x}-{:x}", id * 7919 % 65_521)) } else { json!(id) }
    }

    /// Members as this server names them; the id first.
    fn object(&self, id: Option<Value>, members: Value) -> Value {
        let Value::Object(members) = members else { unreachable!() };
        let name = |name: String| match self.camel {
            true => {
                let mut words = name.split('_');
                let first = words.next().unwrap_or_default().to_owned();
                words.fold(first, |all, word| all + &word[..1].to_uppercase() + &word[1..])
            }
            false => name,
        };
        let mut object = Map::new();
        object.extend(id.map(|id| (self.id.to_owned(), id)));
        object.extend(members.into_iter().map(|(member, value)| (name(member), value)));
        Value::Object(object)
    }

    fn time(t: usize) -> String {
        format!("2031-05-{:02}T{:02}:{:02}:00Z", 1 + t / 600 % 28, t / 60 % 10, t % 60)
    }

    /// A yard as a vessel's owner or as the one that sent an event: as if it were a person.
    fn owner(&self, n: usize) -> Value {
        let login = YARDS[n];
        let url = format!("https://yards.example/yards/{login}");
        let picture = format!("https://pictures.example/{login}.png");
        self.object(
            Some(self.id("yard", n)),
            json!({ "login": login, "picture_url": picture, "url": url, "type": "Yard", "is_admin": false }),
        )
    }

    /// The same yard by itself.
    fn yard(&self, n: usize, t: usize) -> Value {
        let login = YARDS[n];
        let url = format!("https://yards.example/yards/{login}");
        let picture = format!("https://pictures.example/{login}.png");
        self.object(
            Some(self.id("yard", n)),
            json!({
                "login": login, "url": url, "picture_url": picture, "about": format!("Yard of {login}"),
                "followers": 40 + t / 9, "updated_at": Self::time(t),
            }),
        )
    }

    fn person(&self, n: usize) -> Value {
        let login = PEOPLE[n];
        let url = format!("https://yards.example/people/{login}");
        let picture = format!("https://pictures.example/{login}.png");
        self.object(
            Some(self.id("person", n)),
            json!({ "login": login, "picture_url": picture, "url": url, "type": "Person", "is_admin": n == 0 }),
        )
    }

    fn whole_name(vessel: usize) -> String {
        format!("{}/{}", YARDS[vessel % 3], VESSELS[vessel])
    }

    fn vessel(&self, n: usize, t: usize) -> Value {
        let whole = Self::whole_name(n);
        let survey =
            (!n.is_multiple_of(3)).then(|| json!({ "key": SURVEYS[(n + t) % 4], "name": "Class" }));
        self.object(
            Some(self.id("vessel", n)),
            json!({
                "name": VESSELS[n], "full_name": whole, "owner": self.owner(n % 3), "private": n.is_multiple_of(2),
                "url": format!("https://yards.example/vessels/{whole}"), "survey": survey,
                "note": (!t.is_multiple_of(3)).then(|| format!("About {whole}")), "open_tickets": t % 7,
                "updated_at": Self::time(t), "home": HOMES[n % 3],
            }),
        )
    }

    fn label(&self, n: usize) -> Value {
        let name = WORDS[n % WORDS.len()];
        self.object(
            Some(self.id("label", n)),
            json!({ "name": name, "color": format!("{:06x}", n * 91_331) }),
        )
    }

    fn ticket(&self, n: usize, t: usize) -> Value {
        let vessel = n / EACH;
        let number = 1 + n % EACH;
        let labels: Vec<Value> = (0..(n + t) % 3).map(|l| self.label(vessel * 2 + l % 2)).collect();
        let whole = Self::whole_name(vessel);
        self.object(
            Some(self.id("ticket", n)),
            json!({
                "number": number, "title": format!("The {} of {} {number}", WORDS[n % WORDS.len()], VESSELS[vessel]),
                "state": if (t + n).is_multiple_of(5) { "closed" } else { "open" }, "user": self.person(n % 7),
                "labels": labels, "assignees": (0..n % 3).map(|p| self.person((n + p) % 7)).collect::<Vec<_>>(),
                "url": format!("https://yards.example/vessels/{whole}/tickets/{number}"),
                "closed_at": (t + n).is_multiple_of(5).then(|| Self::time(t)), "updated_at": Self::time(t), "remarks": t % 4,
            }),
        )
    }

    fn run(&self, n: usize, t: usize) -> Value {
        let vessel = n / EACH;
        let state = STATES[(t + n) % STATES.len()];
        self.object(
            Some(self.id("run", n)),
            json!({
                "name": format!("survey of {}", VESSELS[vessel]), "status": state,
                "conclusion": (state == "completed").then(|| ["success", "failure"][t % 2]),
                "started_at": (state != "queued").then(|| Self::time(t)), "actor": self.person((n + t) % 7),
                "hull": { "ref": "main", "sha": format!("{:040x}", n as u64 * 7_919 + 1) },
            }),
        )
    }

    /// A gauge says "Vessel" of its type: what it measures, not what it is.
    fn gauge(&self, n: usize, t: usize) -> Value {
        self.object(
            Some(self.id("gauge", n)),
            json!({
                "type": "Vessel", "name": "draught", "active": !(n + t).is_multiple_of(4), "events": ["rise", "fall"],
                "config": { "every_min": 5 * (n % 3) }, "last_value": t as f64 / 8.0, "updated_at": Self::time(t),
            }),
        )
    }

    fn remark(&self, n: usize) -> Value {
        self.object(
            Some(self.id("remark", n)),
            json!({ "body": format!("Remark {n} about it"), "user": self.person(n % 7), "at": Self::time(n * 31) }),
        )
    }

    /// What an event has beside what it is about; not all have all.
    fn companions(&self, event: Value, vessel: usize, sender: usize, t: usize) -> Value {
        let Value::Object(mut event) = event else { unreachable!() };
        event.insert("vessel".to_owned(), self.vessel(vessel, t));
        if !t.is_multiple_of(3) {
            event.insert("yard".to_owned(), self.yard(vessel % 3, t));
        }
        if !t.is_multiple_of(4) {
            event.insert(
                "station".to_owned(),
                self.object(Some(self.id("station", t % 2)), json!({})),
            );
        }
        let sent = if t.is_multiple_of(6) { self.owner(vessel % 3) } else { self.person(sender) };
        event.insert("sender".to_owned(), sent);
        Value::Object(event)
    }

    /// A request and its response at a time.
    fn answer(&self, t: usize) -> (Request, String) {
        let (asked, a, b, _) = self.asked[t];
        let (vessel, number) = (usize::from(a) % VESSELS.len(), usize::from(b) % EACH);
        let (n, person) = (vessel * EACH + number, usize::from(b) % 7);
        let of_vessel = format!("/vessels/{}", Self::whole_name(vessel));
        let tickets = || (0..EACH).map(|k| self.ticket(vessel * EACH + k, t)).collect::<Value>();
        let runs = || (0..EACH).map(|k| self.run(vessel * EACH + k, t)).collect::<Vec<_>>();
        let page = 1 + b % 3;
        let (url, body) = match asked {
            Asked::Vessel => (of_vessel, self.vessel(vessel, t)),
            Asked::Tickets => (format!("{of_vessel}/tickets?per_page=3&page={page}"), tickets()),
            Asked::Ticket => (format!("{of_vessel}/tickets/{}", number + 1), self.ticket(n, t)),
            Asked::TicketLabels => (
                format!("{of_vessel}/tickets/{}/labels", number + 1),
                (0..number).map(|l| self.label(vessel * 2 + l % 2)).collect(),
            ),
            Asked::Remarks => (
                format!("{of_vessel}/tickets/{}/remarks", number + 1),
                (0..number).map(|k| self.remark(n * 2 + k)).collect(),
            ),
            // Berths have no id: a name among those of their vessel.
            Asked::Berths => (
                format!("{of_vessel}/berths"),
                ["main", "fix", "spare"][..1 + number]
                    .iter()
                    .map(|name| json!({ "name": name, "head": { "sha": format!("{:040x}", vessel * 3 + name.len()) }, "guarded": *name == "main" }))
                    .collect(),
            ),
            Asked::Gauges => (format!("{of_vessel}/gauges"), (0..1 + number).map(|k| self.gauge(vessel * EACH + k, t)).collect()),
            Asked::Runs => (format!("{of_vessel}/runs"), json!({ "day": "2031-05-04", "total": EACH + vessel, "runs": runs() })),
            Asked::Run => (format!("{of_vessel}/runs/{}", self.id("run", n).to_string().trim_matches('"')), self.run(n, t)),
            Asked::Yard => (format!("/yards/{}", YARDS[number]), self.yard(number, t)),
            Asked::YardVessels => (
                format!("/yards/{}/vessels", YARDS[number]),
                (0..VESSELS.len()).filter(|v| v % 3 == number).map(|v| self.vessel(v, t)).collect(),
            ),
            Asked::Crew => {
                let member = |k: usize| json!({ "role": if k == 0 { "lead" } else { "hand" }, "person": self.person((number + k) % 7) });
                let plain = |k: usize| self.person((number + k) % 7);
                let all = (0..3).map(|k| if self.wrapped { member(k) } else { plain(k) }).collect();
                (format!("/yards/{}/crew", YARDS[number]), all)
            }
            Asked::Person => (format!("/people/{}", PEOPLE[person]), self.person(person)),
            Asked::TicketEvent => {
                let action = ["opened", "closed", "labelled"][t % 3];
                let event = self.companions(json!({ "action": action, "ticket": self.ticket(n, t) }), vessel, person, t);
                return (Request::rule("ticket_event"), event.to_string());
            }
            Asked::RunEvent => {
                let event = json!({ "action": STATES[(t + n) % STATES.len()], "run": self.run(n, t) });
                // Two lines for one run, which went on meanwhile.
                let lines = [self.companions(event, vessel, person, t), json!({ "action": "seen", "run": self.run(n, t + 1) })];
                return (Request::rule("run_event"), lines.map(|line| line.to_string()).join("\n"));
            }
            Asked::CrewEvent => {
                let event = self.companions(json!({ "action": "added", "member": self.person(person) }), vessel, person, t);
                return (Request::rule("crew_event"), event.to_string());
            }
            Asked::LandedEvent => {
                let load = |k: usize| json!({ "sha": format!("{:040x}", t * 100 + k), "message": format!("load {k} of {t}"), "by": { "name": PEOPLE[person] } });
                let event = json!({ "ref": "main", "loads": (0..t % 3).map(load).collect::<Vec<_>>() });
                return (Request::rule("landed_event"), self.companions(event, vessel, person, t).to_string());
            }
        };
        (Request::get(format!("https://yards.example{url}")), body.to_string())
    }

    /// Whether a yard or a person has sent the event that is answered at a time; `None` if it is
    /// none.
    fn is_sent_by_a_yard(&self, t: usize) -> Option<bool> {
        use Asked::{CrewEvent, LandedEvent, RunEvent, TicketEvent};
        let is_event = matches!(self.asked[t].0, TicketEvent | RunEvent | CrewEvent | LandedEvent);
        is_event.then(|| t.is_multiple_of(6))
    }

    fn entities(&self) -> Vec<(String, String)> {
        let mut all = Vec::new();
        let mut add = |kind: &str, count: usize| {
            all.extend((0..count).map(|n| {
                (format!("{kind} {n}"), self.id(kind, n).to_string().trim_matches('"').to_owned())
            }));
        };
        add("yard", YARDS.len());
        add("person", PEOPLE.len());
        add("vessel", VESSELS.len());
        add("ticket", VESSELS.len() * EACH);
        add("label", VESSELS.len() * 2);
        add("run", VESSELS.len() * EACH);
        add("gauge", VESSELS.len() * EACH);
        add("remark", VESSELS.len() * EACH * 2);
        add("station", 2);
        all
    }
}

/// What came of a proposal.
#[derive(Debug, Default)]
struct Figures {
    held_out: usize,
    read: usize,
    /// Why others were not read.
    refused: BTreeMap<String, usize>,
    entities: usize,
    once: usize,
    /// Entities that are held in no table, or in several.
    others: BTreeMap<String, Vec<String>>,
    /// Tables with entities of several kinds.
    mixed: BTreeMap<String, BTreeSet<String>>,
    /// Values of samples that no table has after they were read, by their places.
    lost: BTreeMap<String, usize>,
}

/// All values that tables hold, those inside of json included.
fn held(cache: &Cache) -> HashSet<String> {
    let mut held = HashSet::new();
    let snapshot = cache.snapshot();
    let schema = cache.schema();
    for table in schema.table_names() {
        for row in snapshot.rows(table).unwrap() {
            for (_, value) in row.fields() {
                match value {
                    backwater::Value::Json(json) => {
                        let json = serde_json::from_str(json.as_str()).unwrap();
                        scalars(&json, &mut |value| held.extend([value]));
                    }
                    value => held.extend([value.to_string().replace(":00.000000Z", "")]),
                }
            }
        }
    }
    held
}

fn scalars(value: &Value, found: &mut impl FnMut(String)) {
    match value {
        Value::Array(all) => all.iter().for_each(|value| scalars(value, found)),
        Value::Object(all) => all.values().for_each(|value| scalars(value, found)),
        Value::String(text) => found(text.strip_suffix(":00Z").unwrap_or(text).to_owned()),
        other => found(other.to_string()),
    }
}

/// Counts the values that are not held, by the members that lead to them.
fn lost(
    value: &Value,
    place: &mut String,
    held: &HashSet<String>,
    out: &mut BTreeMap<String, usize>,
) {
    match value {
        Value::Array(all) => all.iter().for_each(|value| lost(value, place, held, out)),
        Value::Object(all) => {
            for (name, value) in all {
                let length = place.len();
                *place += &format!("/{name}");
                lost(value, place, held, out);
                place.truncate(length);
            }
        }
        // A field that is null and one that is not there have one look.
        Value::Null => {}
        scalar => scalars(scalar, &mut |value| {
            if !held.contains(&value) {
                *out.entry(place.clone()).or_default() += 1;
            }
        }),
    }
}

/// Whether an update says that the schema keeps rows as json.
fn says_json(said: &str) -> bool {
    said.contains(" is json and holds rows of ") || said.contains(" keeps as json what response.")
}

type Answer = (Request, String);

fn samples<'a>(answers: impl IntoIterator<Item = &'a Answer>) -> Samples {
    let mut samples = Samples::new();
    for (request, body) in answers {
        samples.add(request.clone(), body.as_str()).unwrap();
    }
    samples
}

/// Makes a schema from the samples, reads everything by it, and counts.
fn figures(
    server: &Server,
    made: impl Fn(&[&Answer]) -> Result<String, TestCaseError>,
) -> Result<(String, Figures), TestCaseError> {
    let answers: Vec<Answer> = (0..server.asked.len()).map(|t| server.answer(t)).collect();
    let mut shown = Vec::new();
    let mut known: BTreeMap<Asked, usize> = BTreeMap::new();
    for (answer, (asked, .., is_sample)) in answers.iter().zip(&server.asked) {
        if *is_sample {
            shown.push(answer);
            // Of an empty list nothing can be said.
            *known.entry(*asked).or_default() += usize::from(answer.1 != "[]");
        }
    }
    let text = made(&shown)?;
    let fail = |error: backwater::Error| TestCaseError::fail(format!("{error}\n{text}"));
    let schema = Schema::parse("proposed", &text).map_err(fail)?;
    schema.check().map_err(fail)?;
    let cache = Cache::new(schema);
    let mut figures = Figures::default();
    let mut met = BTreeSet::new();
    // Who acts is one table if yards and people were seen to act at one place.
    let acts: BTreeSet<(Asked, bool)> = (0..answers.len())
        .filter(|t| server.asked[*t].3)
        .filter_map(|t| Some((server.asked[t].0, server.is_sent_by_a_yard(t)?)))
        .collect();
    let are_one = acts.iter().any(|(asked, by_a_yard)| acts.contains(&(*asked, !by_a_yard)));
    for (t, ((request, body), (asked, .., is_sample))) in
        answers.iter().zip(&server.asked).enumerate()
    {
        // Of what was hardly ever seen, nothing can be said; nor of who acts as was never seen.
        let is_known = known.get(asked).copied().unwrap_or(0) >= 3;
        let was_seen = |by_a_yard| are_one || acts.contains(&(*asked, by_a_yard));
        let can_be_read = is_known && server.is_sent_by_a_yard(t).is_none_or(was_seen);
        if !(*is_sample || can_be_read) {
            continue;
        }
        let read = cache.commit("read", |tx| tx.ingest(request.clone(), body));
        if *is_sample {
            prop_assert!(read.is_ok(), "{:?}\n{}", read.err(), text);
        } else {
            figures.held_out += 1;
            figures.read += usize::from(read.is_ok());
            if let Err(error) = &read {
                *figures.refused.entry(format!("{asked:?}: {error}")).or_default() += 1;
            }
        }
        if read.is_ok() {
            let lines: Vec<&str> = body.lines().filter(|_| *is_sample).collect();
            let held = if lines.is_empty() { HashSet::new() } else { held(&cache) };
            for (number, line) in lines.iter().enumerate() {
                let mut value: Value = serde_json::from_str(line).unwrap();
                if number + 1 < lines.len() {
                    // The run went on in the next line.
                    let members = value.as_object_mut().unwrap();
                    drop((members.remove("run"), members.remove("action")));
                }
                lost(&value, &mut format!("{asked:?}"), &held, &mut figures.lost);
            }
            let texts = body.split('"');
            let numbers = body.split(':').filter_map(|it| it.split_once([',', '}']));
            let here: HashSet<&str> = texts.chain(numbers.map(|(number, _)| number)).collect();
            met.extend(server.entities().into_iter().filter(|(_, id)| here.contains(&**id)));
        }
    }
    let snapshot = cache.snapshot();
    let tables: Vec<String> = cache.schema().table_names().map(str::to_owned).collect();
    let mut kinds: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for (entity, id) in met {
        let holds = |table: &&String| {
            let ids = [
                Some(backwater::RowId::from(id.as_str())),
                id.parse::<i64>().ok().map(backwater::RowId::from),
            ];
            ids.into_iter().flatten().any(|id| snapshot.get(table, id).ok().flatten().is_some())
        };
        let holding: Vec<String> = tables.iter().filter(holds).cloned().collect();
        figures.entities += 1;
        match &*holding {
            [table] => {
                // A yard may act as if it were a person.
                let kind = entity.split(' ').next().unwrap().replace("yard", "person");
                kinds.entry(table.clone()).or_default().insert(kind);
                figures.once += 1;
            }
            _ => drop(figures.others.insert(entity, holding)),
        }
    }
    figures.mixed = kinds.into_iter().filter(|(_, kinds)| kinds.len() > 1).collect();
    Ok((text, figures))
}

/// As a person edits a proposal: calls a table otherwise, and comments a field out.
fn edited(proposed: &str, renamed: prop::sample::Index, declined: prop::sample::Index) -> String {
    let named = |line: &str| Some(line.strip_prefix("[table.")?.split(']').next()?.to_owned());
    let tables: Vec<String> = proposed.lines().filter_map(named).collect();
    let Some(table) = tables.get(renamed.index(tables.len().max(1))) else {
        return proposed.to_owned();
    };
    let mut text = proposed.to_owned();
    for (before, after) in [
        ("[table.NAME]", "[table.our_NAME]"),
        ("[table.NAME.fields]", "[table.our_NAME.fields]"),
        (" = \"NAME\"", " = \"our_NAME\""),
        ("beside.NAME ", "beside.our_NAME "),
    ] {
        text = text.replace(&before.replace("NAME", table), &after.replace("NAME", table));
    }
    let renamed = Some(text).filter(|text| Schema::parse("renamed", text).is_ok());
    let text = renamed.unwrap_or_else(|| proposed.to_owned());
    let lines: Vec<&str> = text.lines().collect();
    let is_text = |line: &&&str| line.contains(" = \"text\"") && !line.starts_with("id ");
    let fields: Vec<&&str> = lines.iter().filter(is_text).collect();
    let Some(line) = fields.get(declined.index(fields.len().max(1))) else { return text };
    let without = text.replace(**line, &format!("# {line}"));
    if Schema::parse("declined", &without).is_ok() { without } else { text }
}

proptest! {
    #![proptest_config(config(24))]

    #[test]
    fn later_responses_are_read_and_entities_are_held_once(server in server()) {
        let proposed = |shown: &[&Answer]| Ok(samples(shown.iter().copied()).propose().text().to_owned());
        let (text, figures) = figures(&server, proposed)?;
        prop_assert!(figures.read * 100 >= figures.held_out * 99, "{:#?}\n{}", figures, text);
        prop_assert_eq!(figures.once, figures.entities, "{:#?}\n{}", figures, text);
        prop_assert!(figures.mixed.is_empty(), "{:#?}\n{}", figures, text);
        prop_assert!(figures.lost.is_empty(), "{:#?}\n{}", figures, text);
    }
    /// A proposal that a person has edited is added to as more is shown.
    #[test]
    fn a_schema_grows_with_its_samples(
        server in server(),
        renamed in any::<prop::sample::Index>(),
        declined in any::<prop::sample::Index>(),
    ) {
        let against = RefCell::new(Vec::new());
        let grown = |shown: &[&Answer]| {
            let (first, later) = shown.split_at(shown.len() / 2);
            let proposed = samples(first.iter().copied()).propose().text().to_owned();
            let before = edited(&proposed, renamed, declined);
            let update = samples(later.iter().copied()).update("edited", &before);
            let update = update.map_err(|error| TestCaseError::fail(format!("{error}\n{before}")))?;
            let after = update.text();
            // What stood there stands there.
            let mut lines = after.lines();
            for line in before.lines() {
                let (code, comment) = line.split_once(" # ").unwrap_or((line, ""));
                // Rows beside the records may stand in more places.
                let place = code.strip_prefix("beside.").and_then(|place| place.split(' ').next());
                let is_it = |other: &str| match place {
                    Some(place) => other.contains(place) && other.ends_with(comment),
                    // A URL may have more variables in its query.
                    None if code.starts_with("url = ") => {
                        let path = code.trim_end().trim_end_matches(['"', '}']);
                        other.starts_with(path) && other.ends_with(comment)
                    }
                    None => other == line,
                };
                prop_assert!(lines.any(is_it), "{}\n{}", line, after);
            }
            // The same samples add nothing more.
            let again = samples(later.iter().copied()).update("again", after).unwrap();
            prop_assert_eq!(again.added().collect::<Vec<_>>(), Vec::<&str>::new(), "{}", after);
            prop_assert_eq!(again.text(), after);
            *against.borrow_mut() = update.against().map(str::to_owned).collect();
            Ok(after.to_owned())
        };
        let (text, figures) = figures(&server, grown)?;
        prop_assert!(figures.read * 100 >= figures.held_out * 99, "{:#?}\n{}", figures, text);
        // Only the later samples may show that a yard acts as if it were a person.
        let mut against = against.into_inner();
        for (entity, tables) in &figures.others {
            // What was only ever empty in the first samples is json in the schema.
            let is_json = |said: &String| tables.is_empty() && says_json(said);
            let says = |said: &String| is_json(said) || said.starts_with(&format!("tables {} hold", tables.join(" and ")));
            prop_assert!(against.iter().any(says), "{}: {:#?}\n{}", entity, figures, text);
        }
        against.retain(|said| !said.starts_with("tables ") && !says_json(said));
        prop_assert_eq!(against, Vec::<String>::new(), "{}", text);
        prop_assert!(figures.mixed.is_empty(), "{:#?}\n{}", figures, text);
    }
}
