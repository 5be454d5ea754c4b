//! Scenarios: steps that a person wrote down, played against a cache and its named queries.

#[cfg(feature = "remote")]
mod served;

use std::io;
use std::time::Duration;

use serde_json::{Map, Value as Json};

use crate::cache::Cache;
use crate::change::Transaction;
use crate::error::{Error, ErrorKind, Result, nearest};
use crate::ingest::Request;
use crate::query::{KeepCurrent, Outcome, Query, QueryResult};
use crate::trace::Report;
use crate::value::{Stopwatch, Value};

/// What happens to a cache in the course of a day, step by step: one JSON object a line (NDJSON).
///
/// | step | meaning |
/// |---|---|
/// | `{"schema": FILE}` | the schema that it is played with; only the first step can be this |
/// | `{"ingest": FILE, "rule": NAME, "values": {…}}` | ingest a response by a rule; or by a `"url"` and perhaps a `"method"` |
/// | `{"merge_patch": {…}}` | a JSON Merge Patch of the tables, as [`Transaction::merge_patch`] takes it, or the name of a file with one |
/// | `{"json_patch": […]}` | the same for a JSON Patch |
/// | `{"set": {NAME: VALUE}}` | parameters of the named queries: one that has all of its own begins to be watched, one that had others is rebound |
/// | `{"read": QUERY}` | read a query |
/// | `{"leave": QUERY}`, `{"watch": QUERY}` | a query is no longer watched; it is watched again |
/// | `{"ask": RULE, "values": {…}}` | a [remote](crate::remote) asks for what a rule brings |
/// | `{"answer": FILE, "status": 200, "fields": {…}}` | the request that waits longest is answered: with a file, JSON that stands here, or null for no body |
/// | `{"fail": "network"}` | the request that waits longest is lost |
/// | `{"pass": SECONDS}` | time goes by for the remote |
///
/// Every step may have a `"label"`. Queries without parameters are watched from the beginning.
///
/// ```
/// use backwater::{Cache, Outcome, Schema, scenario::Scenario};
///
/// let cache = Cache::new(Schema::parse("s.toml", r#"
///     table.sailing = { id = "id", fields = { id = "int", port = "text", delay_min = "int" } }
///     query.late = "SELECT id FROM sailing WHERE delay_min > :over"
///     query.ports = "SELECT DISTINCT port FROM sailing"
/// "#)?);
/// let scenario = Scenario::parse("day.ndjson", r#"
///     {"set": {"over": 5}}
///     {"label": "announced", "merge_patch": {"sailing": {"311": {"port": "SAL", "delay_min": 0}}}}
///     {"label": "delay reported", "merge_patch": {"sailing": {"311": {"delay_min": 9}}}}
///     {"label": "only the worst", "set": {"over": 8}}
///     {"read": "late"}
/// "#)?;
/// let played = scenario.play(&cache, |file| panic!("{file} is not read here"))?;
/// assert_eq!(played.queries(), ["late", "ports"]);
/// let commits: Vec<_> = played.steps().iter().filter_map(|step| step.report.as_ref()).collect();
/// assert_eq!(commits[1].label(), "delay reported");
/// let ports: Vec<Outcome> =
///     played.steps().iter().filter_map(|step| Some(step.outcomes.get(1)?.as_ref()?.outcome)).collect();
/// assert_eq!(ports, [Outcome::Maintained, Outcome::Untouched, Outcome::Untouched]);
/// assert_eq!(played.why("late", 3)?, "same: :over went from 5 to 8, but nothing in the result moved");
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone)]
pub struct Scenario {
    schema: Option<String>,
    steps: Vec<ScenarioStep>,
}

#[derive(Debug, Clone)]
struct ScenarioStep {
    place: String,
    label: String,
    does: Does,
}

#[derive(Debug, Clone)]
enum Does {
    Ingest {
        file: String,
        request: Box<Request>,
    },
    MergePatch(Body),
    JsonPatch(Body),
    Set(Vec<(String, Value)>),
    Read(String),
    Leave(String),
    Watch(String),
    #[cfg(feature = "remote")]
    Serve(Box<served::Serves>),
}

#[derive(Debug, Clone)]
enum Body {
    Here(String),
    File(String),
}

/// What the steps of a scenario did.
///
/// See [`Scenario`] for an example.
#[derive(Debug)]
pub struct Played {
    queries: Vec<String>,
    steps: Vec<PlayedStep>,
}

/// What one step of a scenario did. A step that rebinds several queries makes a commit for each of
/// them, and is reported several times.
///
/// See [`Scenario`] for an example.
#[derive(Debug)]
#[non_exhaustive]
pub struct PlayedStep {
    /// What the step is called, or else what it does.
    pub label: String,
    /// The commit that it made, if it made one.
    pub report: Option<Report>,
    /// For each query what that commit did to it; `None` for those that were not there yet.
    pub outcomes: Vec<Option<PlayedQuery>>,
    /// What it read: the query's name, its result, and how long that took, if there is a clock.
    pub read: Option<(String, QueryResult, Option<Duration>)>,
}

/// What a commit did to a query.
///
/// See [`Scenario`] for an example.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub struct PlayedQuery {
    /// The outcome.
    pub outcome: Outcome,
    /// How long it took, if the cache has a clock.
    pub took: Option<Duration>,
    /// Why, in words.
    pub why: String,
}

impl Played {
    /// The names of the queries, in the schema's order.
    ///
    /// See [`Scenario`] for an example.
    pub fn queries(&self) -> &[String] {
        &self.queries
    }

    /// What the steps did, one after the other.
    ///
    /// See [`Scenario`] for an example.
    pub fn steps(&self) -> &[PlayedStep] {
        &self.steps
    }

    /// Why a commit did to a query what it did, in words.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such query, or was no such commit.
    ///
    /// See [`Scenario`] for an example.
    pub fn why(&self, query: &str, commit: u64) -> Result<String> {
        let place = self.queries.iter().position(|name| name == query).ok_or_else(|| {
            Error::new(ErrorKind::UnknownName, format!("the schema has no query \"{query}\""))
                .help(nearest(query, self.queries.iter().map(String::as_str)))
        })?;
        let commits = self.steps.iter().filter_map(|step| Some((step.report.as_ref()?, step)));
        let last = commits.clone().map(|(report, _)| report.number()).max().unwrap_or(0);
        let made = commits.into_iter().find(|(report, _)| report.number() == commit);
        let (_, step) = made.ok_or_else(|| {
            let message = format!("the scenario has no commit {commit}");
            Error::new(ErrorKind::UnknownName, message).help(format!("its commits are 1 to {last}"))
        })?;
        Ok(match &step.outcomes[place] {
            Some(reached) => reached.why.clone(),
            None => format!("{query} was not there yet: its parameters had no values"),
        })
    }
}

impl Scenario {
    /// Reads a scenario's text; `name` is what errors call it.
    ///
    /// # Errors
    /// [`ErrorKind::Scenario`] with the line that is no step, and what was expected.
    ///
    /// See [`Scenario`] for an example.
    pub fn parse(name: &str, text: &str) -> Result<Self> {
        let mut scenario = Self { schema: None, steps: Vec::new() };
        for (number, line) in text.lines().enumerate() {
            if line.trim().is_empty() {
                continue;
            }
            let place = format!("{name}:{}", number + 1);
            let fail = |error: Error| error.at(&*place);
            let members = match serde_json::from_str(line) {
                Ok(Json::Object(members)) => members,
                Ok(_) => return Err(fail(wrong("a step is a JSON object"))),
                Err(error) => return Err(fail(wrong(&format!("this is no JSON: {error}")))),
            };
            if let Some(schema) = members.get("schema") {
                let is_first = scenario.steps.is_empty() && scenario.schema.is_none();
                match schema.as_str().filter(|_| is_first && members.len() == 1) {
                    Some(schema) => scenario.schema = Some(schema.to_owned()),
                    None => {
                        let message = "\"schema\" is the name of a file, alone in the first step";
                        return Err(fail(wrong(message)));
                    }
                }
                continue;
            }
            let (label, does) = step(members).map_err(fail)?;
            scenario.steps.push(ScenarioStep { place, label, does });
        }
        Ok(scenario)
    }

    /// The file of the schema that it is to be played with.
    ///
    /// ```
    /// # use backwater::scenario::Scenario;
    /// let scenario = Scenario::parse("day.ndjson", r#"{"schema": "backwater.toml"}"#)?;
    /// assert_eq!(scenario.schema(), Some("backwater.toml"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn schema(&self) -> Option<&str> {
        self.schema.as_deref()
    }

    /// How many steps there are.
    ///
    /// ```
    /// # use backwater::scenario::Scenario;
    /// assert_eq!(Scenario::parse("day.ndjson", r#"{"read": "late"}"#)?.len(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn len(&self) -> usize {
        self.steps.len()
    }

    /// Whether there is no step.
    ///
    /// ```
    /// # use backwater::scenario::Scenario;
    /// assert!(Scenario::parse("day.ndjson", "")?.is_empty());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn is_empty(&self) -> bool {
        self.steps.is_empty()
    }

    /// Plays the steps; `read` gives the bytes of the files that they name.
    ///
    /// # Errors
    /// An error of `read`, or what the step fails with, each with the step's place. The steps
    /// before it have been played.
    ///
    /// See [`Scenario`] for an example.
    pub fn play(
        &self,
        cache: &Cache,
        mut read: impl FnMut(&str) -> io::Result<Vec<u8>>,
    ) -> Result<Played> {
        let mut read = |file: &str| {
            read(file).map_err(|error| wrong(&format!("{file} cannot be read: {error}")))
        };
        let mut stage = Stage::new(cache)?;
        for step in &self.steps {
            stage.play(step, &mut read).map_err(|error| error.at(&*step.place))?;
        }
        let queries = stage.queries.into_iter().map(|query| query.name).collect();
        Ok(Played { queries, steps: stage.played })
    }
}

/// A scenario while it is played.
struct Stage<'c> {
    cache: &'c Cache,
    queries: Vec<OnStage>,
    params: Vec<(String, Value)>,
    played: Vec<PlayedStep>,
    /// The server that is asked, once it is.
    #[cfg(feature = "remote")]
    server: Option<served::Server>,
}

/// A named query, which is there as soon as its parameters have values.
struct OnStage {
    name: String,
    params: Vec<String>,
    query: Option<Query>,
    kept: Option<KeepCurrent>,
}

impl<'c> Stage<'c> {
    fn new(cache: &'c Cache) -> Result<Self> {
        let schema = cache.schema();
        let queries = schema.query_names().map(|name| {
            let params = schema.query_params(name)?;
            Ok(OnStage { name: name.to_owned(), params, query: None, kept: None })
        });
        let queries = queries.collect::<Result<_>>()?;
        let mut stage = Self {
            cache,
            queries,
            params: Vec::new(),
            played: Vec::new(),
            #[cfg(feature = "remote")]
            server: None,
        };
        stage.define()?;
        Ok(stage)
    }

    /// Defines and watches the queries whose parameters all have values by now.
    fn define(&mut self) -> Result<()> {
        for query in self.queries.iter_mut().filter(|query| query.query.is_none()) {
            let values = query.params.iter().map(|name| {
                let value = self.params.iter().find(|(other, _)| other == name)?;
                Some(value.clone())
            });
            let Some(values) = values.collect::<Option<Vec<_>>>() else { continue };
            let defined = self.cache.query(&query.name, values)?;
            query.kept = Some(defined.subscribe());
            query.query = Some(defined);
        }
        Ok(())
    }

    fn play(
        &mut self,
        step: &ScenarioStep,
        read: &mut dyn FnMut(&str) -> Result<Vec<u8>>,
    ) -> Result<()> {
        let mut body = |body: &Body| match body {
            Body::Here(text) => Ok(text.clone().into_bytes()),
            Body::File(file) => read(file),
        };
        let label = step.label.clone();
        match &step.does {
            Does::Ingest { file, request } => {
                let response = read(file)?;
                let request = Request::clone(request);
                self.commit(label, |tx| {
                    tx.ingest(request, &response).map_err(|error| error.at(file))
                })
            }
            Does::MergePatch(patch) => {
                let patch = body(patch)?;
                self.commit(label, |tx| tx.merge_patch(&patch))
            }
            Does::JsonPatch(patch) => {
                let patch = body(patch)?;
                self.commit(label, |tx| tx.json_patch(&patch))
            }
            Does::Set(values) => self.set(&label, values),
            Does::Read(name) => self.read(label, name),
            Does::Leave(name) => {
                self.find(name)?.kept = None;
                self.note_step(label);
                Ok(())
            }
            Does::Watch(name) => {
                let query = self.find(name)?;
                query.kept = query.query.as_ref().map(Query::subscribe);
                self.note_step(label);
                Ok(())
            }
            #[cfg(feature = "remote")]
            Does::Serve(does) => {
                let response = match &**does {
                    served::Serves::Answer { body: Some(response), .. } => Some(body(response)?),
                    _ => None,
                };
                self.serve(label, does, response)
            }
        }
    }

    fn commit<T>(
        &mut self,
        label: String,
        write: impl FnOnce(&mut Transaction) -> Result<T>,
    ) -> Result<()> {
        let report = self.cache.commit(&*label, write)?.report;
        self.report(label, report);
        Ok(())
    }

    /// Asks the server, or lets it answer; the commits that this makes are reported one by one.
    #[cfg(feature = "remote")]
    fn serve(
        &mut self,
        label: String,
        does: &served::Serves,
        response: Option<Vec<u8>>,
    ) -> Result<()> {
        let server = match self.server.take() {
            Some(server) => server,
            None => served::Server::new(self.cache)?,
        };
        let server = self.server.insert(server);
        let before = self.cache.snapshot().commit();
        let said = server.serve(does, response)?;
        self.note_step(if said.is_empty() { label } else { format!("{label}: {said}") });
        for report in self.cache.commits() {
            if report.number() > before {
                self.report(report.label().to_owned(), report);
            }
        }
        Ok(())
    }

    /// Takes down what a commit did to each query.
    fn report(&mut self, label: String, report: Report) {
        let outcomes = self.queries.iter().map(|query| {
            let query = query.query.as_ref()?;
            Some(PlayedQuery {
                outcome: report.outcome(query),
                took: report.time_of(query),
                why: report.why(query),
            })
        });
        let outcomes = outcomes.collect();
        self.played.push(PlayedStep { label, report: Some(report), outcomes, read: None });
    }

    /// A step that is no commit.
    fn note_step(&mut self, label: String) {
        self.played.push(PlayedStep { label, report: None, outcomes: Vec::new(), read: None });
    }

    fn set(&mut self, label: &str, values: &[(String, Value)]) -> Result<()> {
        let known = self.queries.iter().flat_map(|query| &query.params).map(String::as_str);
        if let Some((name, _)) =
            values.iter().find(|(name, _)| known.clone().all(|other| other != name))
        {
            let message = format!("no named query has a parameter :{name}");
            return Err(Error::new(ErrorKind::Parameter, message).help(nearest(name, known)));
        }
        for (name, value) in values {
            self.params.retain(|(other, _)| other != name);
            self.params.push((name.clone(), value.clone()));
        }
        let before = self.played.len();
        for number in 0..self.queries.len() {
            let query = &self.queries[number];
            let mine = values.iter().filter(|(name, _)| query.params.contains(name));
            let mine: Vec<(String, Value)> = mine.cloned().collect();
            if let (Some(defined), false) = (&query.query, mine.is_empty()) {
                let report = self.cache.rebind(label, defined, mine)?;
                self.report(label.to_owned(), report);
            }
        }
        self.define()?;
        if self.played.len() == before {
            self.note_step(label.to_owned());
        }
        Ok(())
    }

    fn read(&mut self, label: String, name: &str) -> Result<()> {
        let mut watch = Stopwatch::start(self.cache.clock());
        let result = match &self.find(name)?.query {
            Some(query) => query.read()?,
            None => {
                let message = format!("{name} cannot be read yet: its parameters have no values");
                return Err(Error::new(ErrorKind::Parameter, message).help("set them before"));
            }
        };
        let read = Some((name.to_owned(), result, watch.lap()));
        self.played.push(PlayedStep { label, report: None, outcomes: Vec::new(), read });
        Ok(())
    }

    fn find(&mut self, name: &str) -> Result<&mut OnStage> {
        let place = self.queries.iter().position(|query| query.name == name);
        match place {
            Some(place) => Ok(&mut self.queries[place]),
            None => {
                let names = self.queries.iter().map(|query| query.name.as_str());
                let message = format!("the schema has no query \"{name}\"");
                Err(Error::new(ErrorKind::UnknownName, message).help(nearest(name, names)))
            }
        }
    }
}

/// What a step does, one word each.
const STEPS: &[&str] = &[
    "ingest",
    "merge_patch",
    "json_patch",
    "set",
    "read",
    "leave",
    "watch",
    #[cfg(feature = "remote")]
    "ask",
    #[cfg(feature = "remote")]
    "answer",
    #[cfg(feature = "remote")]
    "fail",
    #[cfg(feature = "remote")]
    "pass",
];

fn step(mut members: Map<String, Json>) -> Result<(String, Does)> {
    let label = match members.remove("label") {
        None => None,
        Some(Json::String(label)) => Some(label),
        Some(_) => return Err(wrong("\"label\" is a text")),
    };
    let steps = STEPS.iter().copied();
    let found: Vec<&str> = steps.filter(|step| members.contains_key(*step)).collect();
    let [name] = found.as_slice() else {
        let message = format!("a step has one of {}", STEPS.join(", "));
        let given = members
            .keys()
            .next()
            .map(|name| nearest(name, STEPS.iter().copied()))
            .unwrap_or_default();
        return Err(wrong(&message).help(given));
    };
    let of = members.remove(*name).unwrap_or(Json::Null);
    let text = |of: &Json, what: &str| match of {
        Json::String(text) => Ok(text.clone()),
        _ => Err(wrong(&format!("\"{name}\" is the name of {what}"))),
    };
    let (described, does) = match *name {
        "ingest" => {
            let file = text(&of, "a file")?;
            let request = Box::new(request(&mut members)?);
            (format!("{file} ingested"), Does::Ingest { file, request })
        }
        "merge_patch" | "json_patch" => {
            let body = match of {
                Json::String(file) => Body::File(file),
                other => Body::Here(other.to_string()),
            };
            let merge = *name == "merge_patch";
            let does = if merge { Does::MergePatch(body) } else { Does::JsonPatch(body) };
            ("patch applied".to_owned(), does)
        }
        "set" => {
            let Json::Object(values) = of else {
                return Err(wrong("\"set\" is an object of parameters and their values"));
            };
            let values = values.into_iter().map(|(name, value)| Ok((name, scalar(value)?)));
            let values = values.collect::<Result<Vec<_>>>()?;
            let described: Vec<String> =
                values.iter().map(|(name, value)| format!(":{name} = {value}")).collect();
            (described.join(", "), Does::Set(values))
        }
        #[cfg(feature = "remote")]
        "ask" | "answer" | "fail" | "pass" => {
            let (described, does) = served::read(name, of, &mut members)?;
            (described, Does::Serve(Box::new(does)))
        }
        "read" => (format!("{} read", text(&of, "a query")?), Does::Read(text(&of, "a query")?)),
        "leave" => (format!("{} left", text(&of, "a query")?), Does::Leave(text(&of, "a query")?)),
        _ => (format!("{} watched", text(&of, "a query")?), Does::Watch(text(&of, "a query")?)),
    };
    match members.keys().next() {
        Some(name) => Err(wrong(&format!("this step takes no \"{name}\""))),
        None => Ok((label.unwrap_or(described), does)),
    }
}

/// Whose response a file is.
fn request(members: &mut Map<String, Json>) -> Result<Request> {
    let mut text = |name: &str| match members.remove(name) {
        None => Ok(None),
        Some(Json::String(text)) => Ok(Some(text)),
        Some(_) => Err(wrong(&format!("\"{name}\" is a text"))),
    };
    let (rule, url, method) = (text("rule")?, text("url")?, text("method")?);
    let mut request = match (rule, url) {
        (Some(rule), None) => Request::rule(rule),
        (rule, Some(url)) => {
            let request = Request::new(method.unwrap_or_else(|| "GET".into()), url);
            rule.into_iter().fold(request, Request::read_by)
        }
        (None, None) => return Err(wrong("\"ingest\" needs a \"rule\" or a \"url\"")),
    };
    let values = match members.remove("values") {
        None => Map::new(),
        Some(Json::Object(values)) => values,
        Some(_) => return Err(wrong("\"values\" is an object of the rule's variables")),
    };
    for (name, value) in values {
        let value = match value {
            Json::String(text) => text,
            other => other.to_string(),
        };
        request = request.var(name, value);
    }
    Ok(request)
}

fn scalar(value: Json) -> Result<Value> {
    Ok(match value {
        Json::Null => Value::Null,
        Json::Bool(flag) => Value::Bool(flag),
        Json::String(text) => Value::from(text),
        Json::Number(number) => match (number.as_i64(), number.as_f64()) {
            (Some(whole), _) => Value::Int(whole),
            (None, Some(number)) => Value::Float(number),
            (None, None) => return Err(wrong("a parameter's value is a number of 64 bits")),
        },
        Json::Array(_) | Json::Object(_) => {
            return Err(wrong("a parameter's value is a text, a number, true, false or null"));
        }
    })
}

fn wrong(message: &str) -> Error {
    Error::new(ErrorKind::Scenario, message.to_owned())
}
