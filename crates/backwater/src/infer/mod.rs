//! A schema proposed from samples of responses and from recordings; see [`Samples`].

// It reads samples for what they hold, decides which objects are rows of which tables, and writes a
// schema that says at each line why, or adds to one. It knows the schema's language and ingest, with which it tries
// what it proposes; it must not know queries or storage, and it does no I/O.

mod account;
mod claims;
mod classes;
mod columns;
mod entities;
mod evidence;
mod identity;
mod merge;
mod rules;
mod scan;
mod text;
mod update;
mod urls;
mod words;

use std::collections::BTreeMap;
use std::sync::Arc;

use rustc_hash::FxHashSet;

use crate::change::{History, Remembered, Totals, Transaction};
use crate::error::{Error, ErrorKind, Result};
use crate::ingest::{Fault, Recording, Request, utf8};
use crate::schema::{Limits, Schema, TableOrigin, whole};
use crate::table::State;
use account::Accounted;
use claims::{Claims, Declared};
use columns::{Deciding, ProposedTable};
use entities::{Entities, entities};
use evidence::{Document, View, World, hash};
use rules::ProposedRule;
use scan::{Scanner, Written, root, written};
use urls::{KnownValues, Parts, Path, Segment, Target, of_one_kind, templates, together};
use words::{Taken, singular, snake};

/// Responses that a schema is to be proposed from.
///
/// ```
/// use backwater::{Cache, Request, Schema, infer::Samples};
///
/// let bytes = r#"{ "total": 2, "sailings": [
///     { "id": 311, "departsAt": "2031-05-04T09:40:00+02:00", "vessel": { "id": "marram", "cars": 42 } },
///     { "id": 312, "departsAt": null, "vessel": { "id": "marram", "cars": 42 } } ] }"#;
/// let request = Request::get("https://ferries.example/departures?port=SAL");
/// let mut samples = Samples::new();
/// samples.add(request.clone(), bytes)?;
///
/// let proposal = samples.propose();
/// assert!(proposal.text().contains(r#"
/// [table.sailing]            # 2 objects: GET /departures at /sailings/*
/// id = "id"                  # 2 different values
/// names = "camelCase"        # how its members are named
/// [table.sailing.fields]
/// id = "int"                 # 2 objects
/// departs_at = "timestamp"   # 2 objects, null in 1: times, kept in UTC
/// vessel = { to = "vessel" } # 2 objects
/// "#), "{}", proposal.text());
///
/// // What is proposed reads the samples as it stands.
/// let cache = Cache::new(Schema::parse("proposed", proposal.text())?);
/// cache.commit("departures loaded", |tx| tx.ingest(request, bytes))?;
/// assert_eq!(cache.snapshot().count("sailing")?, 2);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Default)]
pub struct Samples {
    samples: Vec<Sample>,
    /// What responses are called together that are of one kind and have names of their own.
    alike: Option<String>,
}

#[derive(Debug)]
struct Sample {
    /// Apart, as it is large beside the rest.
    request: Box<Request>,
    body: Arc<Vec<u8>>,
    written: Written,
}

/// A schema that is proposed.
///
/// See [`Samples`] for an example.
#[derive(Debug)]
pub struct Proposal {
    text: String,
    refused: Vec<String>,
    account: String,
    /// What an update has added, and what speaks against the schema.
    added: Vec<String>,
    against: Vec<String>,
}

/// What was found in the samples.
struct Found {
    world: World,
    entities: Entities,
    paths: Vec<Path>,
}

/// What is decided, and has not been tried yet.
struct Untried {
    rules: Vec<ProposedRule>,
    tables: Vec<ProposedTable>,
    /// What no rule could be found for, and why.
    left_out: Vec<String>,
}

/// The reasons why rules did not fit when they were tried, by the rules' names.
type Refused = BTreeMap<String, Vec<String>>;

/// Samples that are read by one rule.
struct Group<'a> {
    rule: &'a str,
    samples: &'a [usize],
    /// Whether all of them are read, though one is refused.
    goes_on: bool,
}

/// A sample that a rule refuses.
struct Failed {
    rule: String,
    sample: usize,
    why: Error,
}

/// What came of a trial.
#[derive(Default)]
struct Trial {
    failed: Vec<Failed>,
    totals: Totals,
    rows: usize,
}

impl Samples {
    /// None yet.
    ///
    /// See [`Samples`] for an example.
    pub fn new() -> Self {
        Self::default()
    }

    /// Adds a response. If its request has no URL, the rule for it gets the name that the request
    /// gives; of a DELETE the request alone counts.
    ///
    /// # Errors
    /// [`ErrorKind::Response`] if it is not JSON in UTF-8; then it is not added.
    ///
    /// See [`Samples`] for an example.
    pub fn add(&mut self, request: impl Into<Request>, response: impl Into<Vec<u8>>) -> Result<()> {
        self.add_shared(request.into(), Arc::new(response.into()))
    }

    fn add_shared(&mut self, request: Request, body: Arc<Vec<u8>>) -> Result<()> {
        let graphql = request.url().is_some_and(|url| {
            url.split(['?', '#']).next().is_some_and(|path| path.ends_with("graphql"))
        });
        let written = match request.method() {
            "DELETE" => Written::Json,
            _ => check(&body, graphql)?,
        };
        let request = Box::new(request);
        self.samples.push(Sample { request, body, written });
        Ok(())
    }

    /// Adds all responses of a recording that contain data; returns what was wrong with those that
    /// should but do not.
    ///
    /// ```
    /// use backwater::{infer::Samples, recording::Recording};
    ///
    /// let recording = Recording::parse(r#"{ "log": { "entries": [{
    ///     "request": { "method": "GET", "url": "https://ferries.example/ports" },
    ///     "response": { "status": 200, "content": { "mimeType": "application/json", "text": "[{" } }
    /// }] } }"#)?;
    /// let mut samples = Samples::new();
    /// let problems = samples.add_recording(&recording);
    /// assert!(problems[0].to_string().starts_with("GET /ports: the response: it ends in the middle"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn add_recording(&mut self, recording: &Recording) -> Vec<Error> {
        let bringing = recording.exchanges().filter(|exchange| exchange.brings_data());
        let failed = bringing.filter_map(|exchange| {
            let added = self.add_shared(exchange.request(), exchange.shared_body());
            added.err().map(|error| error.at(exchange.label()))
        });
        failed.collect()
    }

    /// Says what responses are called together that are of one kind, but were added under names of
    /// their own, such as `country` for `fr`, `de` and so on. If they are many, one rule of that name
    /// is proposed for them.
    ///
    /// ```
    /// let mut samples = backwater::infer::Samples::new();
    /// samples.call_alike("islands");
    /// for island in ["tern", "norrin", "eel", "saltmere", "whin", "marsh", "outer", "kelp"] {
    ///     samples.add(island, format!(r#"{{"id": "{island}", "harbour": true, "roads": 2}}"#))?;
    /// }
    /// let proposal = samples.propose();
    /// assert!(proposal.text().contains("[response.islands] # 8 responses called tern, norrin and 6 others"));
    /// assert!(proposal.text().contains("[table.island]"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn call_alike(&mut self, name: impl Into<String>) {
        self.alike = Some(name.into());
    }

    /// How many there are.
    ///
    /// ```
    /// assert_eq!(backwater::infer::Samples::new().len(), 0);
    /// ```
    pub fn len(&self) -> usize {
        self.samples.len()
    }

    /// Whether there are none.
    ///
    /// ```
    /// assert!(backwater::infer::Samples::new().is_empty());
    /// ```
    pub fn is_empty(&self) -> bool {
        self.samples.is_empty()
    }

    /// Proposes a schema that reads all of them. The same samples in the same order give the same
    /// text.
    ///
    /// See [`Samples`] for an example.
    pub fn propose(&self) -> Proposal {
        let found = self.find_out(None);
        let mut refused = Refused::new();
        loop {
            let untried = self.decide(&found, &refused, None);
            let proposed = self.proposed(&found, &untried, &[]);
            let text = proposed.text();
            let Trial { failed, totals, rows } = self.try_proposal(&text, &untried.rules);
            if failed.is_empty() {
                let mut used: Vec<usize> = proposed.used().into_iter().collect();
                used.sort_unstable();
                let mut text = text;
                for place in &totals.unplaced {
                    text += &format!("# no place for {}\n", text::one_line(&place.to_string()));
                }
                let account = accounted(&found, &untried, &used, (&totals, rows)).text();
                let refused = refused.into_values().flatten().collect();
                let (added, against) = (Vec::new(), Vec::new());
                return Proposal { text, refused, account, added, against };
            }
            for Failed { rule, why, .. } in failed {
                refused.entry(rule).or_default().push(why.to_string());
            }
        }
    }

    /// Finds out what the samples hold.
    fn find_out(&self, declared: Option<&Declared>) -> Found {
        let mut paths = self.paths(declared);
        let mut world = self.scan(&mut paths);
        let called = called(&paths);
        let entities = |world: &World, paths: &[Path]| {
            let claims = declared.map(|declared| Claims::new(declared, world, paths));
            entities(world, &called, claims.as_ref())
        };
        let mut found = entities(&world, &paths);
        let before = paths.len();
        let variables = |paths: &[Path]| paths.iter().map(|path| path.values.len()).sum::<usize>();
        let variables_before = variables(&paths);
        let deciding = Deciding::new(&world, &found, declared);
        let known = Known { entities: &found, names: names(&world) };
        paths = templates(paths, &known, |a, b| deciding.alike(a, b));
        let mut taken = Taken::default();
        let rules = declared.iter().flat_map(|declared| declared.schema.rule_names());
        rules.for_each(|name| drop(taken.take(name)));
        let name = self.alike.as_deref();
        paths = of_one_kind(paths, name, taken, |a, b| deciding.is_one_kind(a, b));
        if paths.len() != before || variables(&paths) != variables_before {
            // Variables distinguish answers. What was found goes first, as it is large.
            drop(found);
            drop(world);
            world = self.scan(&mut paths);
            found = entities(&world, &paths);
        }
        name_variables(&world, &found, &mut paths);
        // What single objects held has told what identifies them; it is most of what is known.
        world.forget_rows();
        Found { world, entities: found, paths }
    }

    /// Puts requests together that differ in nothing but what is surely a variable.
    fn paths(&self, declared: Option<&Declared>) -> Vec<Path> {
        let paths = self.samples.iter().enumerate().map(|(number, sample)| {
            let request = &sample.request;
            let parts = match (request.rule_name(), request.url()) {
                (Some(name), _) => Parts::named(name),
                (None, url) => Parts::of(request.method(), url.unwrap_or_default()),
            };
            let mut path = Path::new(number, parts);
            declared.iter().for_each(|declared| declared.vary(number, &mut path));
            path
        });
        together(paths)
    }

    /// Reads all samples for what they hold.
    fn scan(&self, paths: &mut [Path]) -> World {
        let mut world = World::default();
        let mut order: Vec<(usize, usize)> = Vec::new();
        for (place, path) in paths.iter_mut().enumerate() {
            path.roots.clear();
            order.extend(path.samples.iter().map(|sample| (*sample, place)));
        }
        order.sort_unstable();
        for (number, place) in order {
            let (sample, path) = (&self.samples[number], &mut paths[place]);
            if path.target.method == "DELETE" {
                continue;
            }
            if path.roots.is_empty() {
                let ends = matches!(path.target.segments.last(), Some(Segment::Variable));
                let single = ends && sample.written != Written::Ndjson;
                path.roots.push(world.shape(root(&request_text(path), &role(path), single)));
            }
            let document = Document { path: place, variables: variables(sample, path) };
            let text = utf8(&sample.body).unwrap_or_default();
            let read = Scanner::new(&mut world, text, document).read(path.roots[0], sample.written);
            debug_assert!(read.is_ok(), "it was read when it was added");
        }
        world.is_read();
        world
    }

    /// Decides on tables and rules. Rules that did not fit when they were tried keep their responses
    /// as json; those for which that did not help either are left out.
    fn decide(&self, found: &Found, refused: &Refused, declared: Option<&Declared>) -> Untried {
        let Found { world, entities, paths } = found;
        let deciding = Deciding::new(world, entities, declared);
        let mut tables: Vec<_> =
            (0..entities.list.len()).map(|number| deciding.table(number)).collect();
        let (mut names, mut table_names) = (Taken::default(), Taken::default());
        let schema = declared.map(|declared| &declared.schema);
        for name in schema.iter().flat_map(|schema| schema.table_names()) {
            table_names.take(name);
        }
        schema.iter().flat_map(|schema| schema.rule_names()).for_each(|it| drop(names.take(it)));
        let new = entities.list.iter().filter(|entity| entity.declared.is_none());
        new.for_each(|entity| drop(table_names.take(&entity.name)));
        let named = paths.iter().filter_map(|path| path.target.named.as_ref());
        named.for_each(|name| drop(names.take(name)));
        let with_urls = paths.iter().filter(|path| path.target.named.is_none());
        let origins = with_urls.map(|path| &path.target.origin);
        let are_several = origins.clone().any(|origin| Some(origin) != origins.clone().next());
        // Where a schema does not say from which server its rules are, they are from any.
        let is_absolute = |path: &Path| match declared.and_then(Declared::has_absolute_urls) {
            Some(has_absolute) => {
                has_absolute || paths.iter().any(|other| path.differs_in_origin(other))
            }
            None => are_several,
        };
        let (mut rules, mut left_out) = (Vec::new(), Vec::new());
        for path in paths {
            let written = path.samples.iter().map(|sample| self.samples[*sample].written).max();
            let written = written.unwrap_or(Written::Json);
            let absolute = is_absolute(path);
            let made =
                deciding.rule(path, written, absolute, &mut tables, &mut names, &mut table_names);
            let Some(rule) = made else {
                left_out.push(format!(
                    "{}: nothing that could be read into a table",
                    request_text(path)
                ));
                continue;
            };
            if declared.is_some_and(|declared| declared.declined_rules.contains(&rule.name)) {
                continue;
            }
            match refused.get(&rule.name).map(Vec::as_slice) {
                None => rules.push(rule),
                // A schema that people have written gets no rule that only keeps what does not fit.
                Some([why]) if !rule.deletes && declared.is_none() => {
                    let name =
                        table_names.take(&words::usable(&format!("{}_answer", snake(&rule.name))));
                    rules.push(rule.kept_whole(why.clone(), name));
                }
                Some(why) => {
                    let mut why = why.to_vec();
                    why.dedup();
                    left_out.push(format!("{}: {}", request_text(path), why.join("; ")));
                }
            }
        }
        Untried { rules, tables, left_out }
    }

    /// What is decided, to be written; `more_rows` stand beside the records of rules that there are.
    fn proposed<'a>(
        &self,
        found: &'a Found,
        untried: &'a Untried,
        more_rows: &'a [update::MoreRows],
    ) -> text::Proposed<'a> {
        text::Proposed {
            world: &found.world,
            entities: &found.entities,
            tables: &untried.tables,
            rules: &untried.rules,
            samples: self.samples.len(),
            more_rows,
            left_out: &untried.left_out,
            bytes: self.samples.iter().map(|sample| sample.body.len()).max().unwrap_or(0),
        }
    }

    /// Reads all samples by what is proposed.
    fn try_proposal(&self, text: &str, rules: &[ProposedRule]) -> Trial {
        let groups = rules.iter().map(|rule| Group {
            rule: &rule.name,
            samples: &rule.samples,
            goes_on: false,
        });
        match Schema::parse("the proposal", text) {
            Ok(schema) => self.try_out(schema, groups),
            Err(error) => {
                debug_assert!(false, "{error}\n{text}");
                let (rule, sample) = (|rule: &ProposedRule| rule.name.clone(), 0);
                let failed =
                    rules.iter().map(|it| Failed { rule: rule(it), sample, why: error.clone() });
                Trial { failed: failed.collect(), ..Trial::default() }
            }
        }
    }

    /// Reads samples by a schema.
    fn try_out<'g>(&self, schema: Schema, groups: impl IntoIterator<Item = Group<'g>>) -> Trial {
        let mut trial = Trial::default();
        let state = Arc::new(State::new(Arc::new(schema)));
        let history = Arc::new(History::default());
        let mut tx = Transaction::new(state, history, Remembered::default());
        for Group { rule, samples, goes_on } in groups {
            for number in samples {
                let sample = &self.samples[*number];
                let request = Request::clone(&sample.request);
                // One of many of its kind has a name of its own.
                let request = match request.rule_name() {
                    Some(_) => request.read_by(rule),
                    None => request,
                };
                match tx.ingest(request, sample.body.as_slice()) {
                    Ok(ingested) => {
                        trial.totals.add(&ingested);
                        // There is no commit to report them.
                        tx.ingested.clear();
                    }
                    Err(why) => {
                        let rule = rule.to_owned();
                        trial.failed.push(Failed { rule, sample: *number, why });
                        if !goes_on {
                            break;
                        }
                    }
                }
            }
        }
        let tables = tx.state.schema.table_numbers();
        let rows = tables.filter(|table| {
            let table = tx.state.schema.table(*table);
            table.made == TableOrigin::Declared && !table.is_one_row()
        });
        trial.rows = rows.map(|table| tx.state.table(table).iter().count()).sum();
        trial
    }
}

impl Proposal {
    /// The schema, as `backwater.toml`.
    ///
    /// See [`Samples`] for an example.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// A short account for people: what became of the samples, what is left as json or has no place,
    /// and what should be looked at first.
    ///
    /// ```
    /// let mut samples = backwater::infer::Samples::new();
    /// let request = backwater::Request::get("https://ferries.example/ports");
    /// samples.add(request, r#"[{"code": "SAL", "lat": 54.1}, {"code": "NOR", "lat": 54.3}]"#)?;
    /// assert_eq!(samples.propose().account(), "\
    /// 1 response, 1 table and 1 rule: 2 objects became 2 rows.
    /// Look at this first:
    ///   1. Is a port identified by code? Seen: 2 different values.
    ///   2. Does /ports always give every port? Then `complete = true` deletes those that it no longer gives.
    /// ");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn account(&self) -> &str {
        &self.account
    }

    /// What was added to a schema by [`Samples::update`], such as `field port.berths`.
    ///
    /// See [`Samples::update`] for an example.
    pub fn added(&self) -> impl Iterator<Item = &str> {
        self.added.iter().map(String::as_str)
    }

    /// What speaks against a schema that [`Samples::update`] was given: responses that its rules
    /// refuse, ids that are none, and fields that keep rows as json.
    ///
    /// See [`Samples::update`] for an example.
    pub fn against(&self) -> impl Iterator<Item = &str> {
        self.against.iter().map(String::as_str)
    }

    /// Why some responses could not be proposed as rows: what did not fit when the proposal was
    /// tried on the samples.
    ///
    /// ```
    /// let mut samples = backwater::infer::Samples::new();
    /// samples.add("ports", r#"[{"code": "SAL"}, {"code": "NOR"}]"#)?;
    /// assert_eq!(samples.propose().refused().count(), 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn refused(&self) -> impl Iterator<Item = &str> {
        self.refused.iter().map(String::as_str)
    }
}

/// What an account is given of; `used` are the tables that some rule leads to, and `totals` and `rows`
/// what became of the samples.
fn accounted<'a>(
    found: &'a Found,
    untried: &'a Untried,
    used: &'a [usize],
    (totals, rows): (&'a Totals, usize),
) -> Accounted<'a> {
    let Untried { tables, rules, left_out } = untried;
    Accounted { entities: &found.entities, tables, rules, used, left_out, totals, rows }
}

/// What is known of values.
struct Known<'t> {
    entities: &'t Entities,
    /// The hashes of what things are called.
    names: FxHashSet<u64>,
}

impl KnownValues for Known<'_> {
    fn is_id_of(&self, what: &str, id: u64) -> bool {
        let mut called =
            self.entities.list.iter().filter(|entity| {
                entity.name == what || entity.roles.iter().any(|role| role == what)
            });
        called.any(|entity| entity.ids.contains(&id))
    }

    fn is_name(&self, id: u64) -> bool {
        self.names.contains(&id)
    }
}

/// The values of members that identify or name something.
fn names(world: &World) -> FxHashSet<u64> {
    let named = world.shapes.iter().filter(|shape| words::is_called_by(&shape.place.role));
    named.flat_map(|shape| shape.ids.iter().copied()).collect()
}

/// Finds out what variables name whose place in the URL does not say it.
fn name_variables(world: &World, found: &Entities, paths: &mut [Path]) {
    let called = found.list.iter().map(|entity| {
        let members = View::members(world, &entity.objects).into_iter();
        let members = members.filter(|member| words::is_called_by(member.name));
        (&entity.name, members.flat_map(|member| member.view.ids()).collect::<FxHashSet<u64>>())
    });
    let called: Vec<_> = called.collect();
    for path in paths {
        let things = path.values.iter().map(|values| {
            let known = |(_, names): &&(&String, FxHashSet<u64>)| {
                values.iter().filter(|value| names.contains(&(hash(value) | 1))).count()
            };
            let most = called.iter().rev().max_by_key(|it| known(it)).filter(|it| known(it) > 0)?;
            Some(most.0.clone())
        });
        path.things = things.collect();
    }
}

/// What requests call the words in their variables; numbers are ids of too much.
fn called(paths: &[Path]) -> Vec<(String, Vec<u64>)> {
    let mut called: Vec<(String, Vec<u64>)> = Vec::new();
    let query = paths.iter().flat_map(|path| &path.query);
    for (name, values) in query.filter(|(name, _)| words::names_a_thing(name)) {
        if values.iter().any(|value| whole(value).is_some()) {
            continue;
        }
        let (name, values) = (singular(name), values.iter().map(|value| hash(value) | 1));
        match called.iter_mut().find(|(known, _)| *known == name) {
            Some((_, known)) => known.extend(values),
            None => called.push((name, values.collect())),
        }
    }
    called
}

/// Whether a response can be read at all, and how it is written.
fn check(body: &[u8], graphql: bool) -> Result<Written> {
    let text = utf8(body)?;
    let explain = |fault: Fault| {
        let deepest = Limits::default().depth;
        Error::new(ErrorKind::Response, fault.explain(text, deepest)).at("the response")
    };
    let how = written(text, graphql).map_err(explain)?;
    if crate::value::has_lone_surrogate(text) {
        // Members' names that are no texts are met only on the way.
        let mut world = World::default();
        let place = world.shape(root("", "", false));
        let document = Document { path: 0, variables: 0 };
        Scanner::new(&mut world, text, document).read(place, how).map_err(explain)?;
    }
    Ok(how)
}

/// How a path is called in comments.
fn request_text(path: &Path) -> String {
    let Target { method, segments, named, .. } = &path.target;
    if let Some(named) = named {
        return named.clone();
    }
    let segments = segments.iter().map(|segment| match segment {
        Segment::Fixed(text) => text,
        Segment::Variable => "{}",
    });
    format!("{method} /{}", segments.collect::<Vec<_>>().join("/"))
}

/// What the responses of a path are of.
fn role(path: &Path) -> String {
    match &path.target.named {
        Some(named) => singular(named),
        None => urls::last_word(&path.target).map_or_else(String::new, |(_, word)| singular(word)),
    }
}

/// What stands in the variables of a sample's request; 0 if it has none.
fn variables(sample: &Sample, path: &Path) -> u64 {
    let Some(url) = sample.request.url().filter(|_| path.target.named.is_none()) else { return 0 };
    let parts = Parts::of("GET", url);
    let raw = url.split(['?', '#']).next().unwrap_or(url);
    let raw = raw.strip_prefix(&*path.target.origin).unwrap_or(raw);
    let segments = raw.strip_prefix('/').unwrap_or(raw).split('/').zip(&path.target.segments);
    let values = segments.filter(|(_, segment)| **segment == Segment::Variable);
    let mut values: Vec<&str> = values.map(|(value, _)| value).collect();
    if values.is_empty() {
        let names: Vec<String> = parts.query.iter().map(|(name, _)| name.clone()).collect();
        let page = urls::paging(&names).map(str::to_owned);
        let others = parts.query.iter().filter(|(name, _)| Some(name) != page.as_ref());
        values = others.map(|(_, value)| value.as_str()).collect();
    }
    if values.is_empty() { 0 } else { hash(&values.join("/")) | 1 }
}
