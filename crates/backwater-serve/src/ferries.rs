//! The made-up API of the Saltmere ferries.

use std::collections::BTreeMap;
use std::fmt;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::{Mutex, MutexGuard, PoisonError};

use http::header::{
    ALLOW, CACHE_CONTROL, CONTENT_TYPE, ETAG, HeaderName, HeaderValue, IF_MATCH, IF_NONE_MATCH,
    LINK, LOCATION,
};
use http::{Method, Request, Response, StatusCode};
use serde_json::{Map, Value, json};
use tokio::sync::mpsc::{UnboundedSender, unbounded_channel};

use crate::{Answers, Events};

const DEPARTURES: &str = include_str!("../../../demo/responses/departures.json");
const FLEET: &str = include_str!("../../../demo/responses/fleet.json");
const BOOKINGS: &str = include_str!("../../../demo/responses/bookings-311.json");

/// How many sailings a page of departures has.
const PAGE: usize = 12;
/// How many events are kept for feeds that come back.
const KEPT_EVENTS: usize = 500;

/// The server of the Saltmere ferries, an island network that exists nowhere else, on the morning
/// of 2031-05-04.
///
/// | request | |
/// |---|---|
/// | `GET /departures{?port,page}` | sailings with their routes, ports and vessels, in pages |
/// | `GET /sailings/{id}` | one sailing |
/// | `PATCH /sailings/{id}` | changes `status`, `delay_min` or `note` (RFC 7396); honours `If-Match` |
/// | `GET /sailings/{id}/bookings` | all bookings of a sailing |
/// | `POST /sailings/{id}/bookings` | a new booking, `{"party": …, "cars": …}`; honours `Idempotency-Key` |
/// | `DELETE /bookings/{id}` | cancels a booking |
/// | `GET /fleet` | all vessels |
/// | `GET /vessels/{id}`, `GET /vessels{?ids*}` | one vessel, some vessels |
/// | `GET /ports` | all ports |
/// | `GET /feed` | what changes, as server-sent events; honours `Last-Event-ID` |
/// | `GET /feed.ndjson{?since}` | the same, one JSON object a line, with `kind` and `seq` |
/// | `GET /live{?since}` | the same as text messages of a WebSocket |
///
/// Every answer to a GET has an `ETag` and honours `If-None-Match`. Errors are problem details (RFC
/// 9457).
///
/// ```
/// use backwater_serve::{Answers, Ferries};
///
/// let ferries = Ferries::new();
/// let get = |path: &str| ferries.answer(&http::Request::get(path).body(Vec::new()).unwrap());
/// let departures = get("/departures?port=SAL");
/// assert_eq!(departures.headers()["link"], "</departures?port=SAL&page=2>; rel=\"next\"");
/// assert_eq!(get("/sailings/1").status(), 404);
/// ```
pub struct Ferries(Mutex<World>);

struct World {
    sailings: Vec<Map<String, Value>>,
    vessels: Vec<Map<String, Value>>,
    bookings: BTreeMap<u64, Map<String, Value>>,
    next_booking: u64,
    /// The responses to requests that had an idempotency key.
    done: BTreeMap<String, Reply>,
    events: Vec<Event>,
    next_event: u64,
    /// The event up to which a listener was last told that it had missed some.
    missed_up_to: u64,
    listeners: Vec<(Form, UnboundedSender<String>)>,
}

/// What has changed.
struct Event {
    number: u64,
    name: &'static str,
    data: Value,
}

/// How a listener hears of events.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Form {
    ServerSent,
    Lines,
    Messages,
}

impl Form {
    /// The form of a feed, by its path.
    fn of(path: &str) -> Option<Self> {
        match path {
            "/feed" => Some(Form::ServerSent),
            "/feed.ndjson" => Some(Form::Lines),
            "/live" => Some(Form::Messages),
            _ => None,
        }
    }
}

impl Event {
    fn text(&self, form: Form) -> String {
        let Self { number, name, data } = self;
        if form == Form::ServerSent {
            return format!("id: {number}\nevent: {name}\ndata: {data}\n\n");
        }
        let mut message = data.clone();
        if let Value::Object(members) = &mut message {
            members.insert("kind".to_owned(), json!(name));
            members.insert("seq".to_owned(), json!(number));
        }
        let end = if form == Form::Lines { "\n" } else { "" };
        format!("{message}{end}")
    }
}

/// A response before it is one.
#[derive(Clone)]
struct Reply {
    status: StatusCode,
    body: Value,
    fields: Vec<(HeaderName, String)>,
}

impl Reply {
    fn ok(body: Value, control: &str) -> Self {
        let fields = vec![(CACHE_CONTROL, control.to_owned())];
        Self { status: StatusCode::OK, body, fields }
    }

    fn problem(status: StatusCode, title: &str, detail: impl Into<String>) -> Self {
        let body = json!({ "title": title, "status": status.as_u16(), "detail": detail.into() });
        Self { status, body, fields: Vec::new() }
    }

    fn not_found(what: impl fmt::Display) -> Self {
        Self::problem(StatusCode::NOT_FOUND, "Not found", format!("there is no {what}"))
    }

    fn with(mut self, name: HeaderName, value: impl Into<String>) -> Self {
        self.fields.push((name, value.into()));
        self
    }

    /// The validator of what it says.
    fn tag(&self) -> String {
        let mut hasher = DefaultHasher::new();
        self.body.to_string().hash(&mut hasher);
        format!("\"{:016x}\"", hasher.finish())
    }
}

impl Default for Ferries {
    fn default() -> Self {
        Self::new()
    }
}

impl Ferries {
    /// The server as it is at 7:40.
    ///
    /// See [`Ferries`] for an example.
    pub fn new() -> Self {
        Self(Mutex::new(World::new()))
    }

    /// The number of the last event, and of the one up to which some listener was told that it had
    /// missed events; 0 if there is none.
    ///
    /// ```
    /// # use backwater_serve::Ferries;
    /// assert_eq!(Ferries::new().events(), (0, 0));
    /// ```
    pub fn events(&self) -> (u64, u64) {
        let world = self.world();
        (world.next_event - 1, world.missed_up_to)
    }

    fn world(&self) -> MutexGuard<'_, World> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Answers for Ferries {
    fn answer(&self, request: &Request<Vec<u8>>) -> Response<Vec<u8>> {
        let mut world = self.world();
        let key = request.headers().get("idempotency-key").and_then(|key| key.to_str().ok());
        let key = key.filter(|_| request.method() == Method::POST).map(str::to_owned);
        let reply = match key.as_ref().and_then(|key| world.done.get(key)) {
            Some(known) => known.clone(),
            None => world.answer(request),
        };
        if let Some(key) = key.filter(|_| reply.status.is_success()) {
            world.done.insert(key, reply.clone());
        }
        response(request, reply)
    }

    fn follow(&self, request: &Request<Vec<u8>>) -> Option<Events> {
        let form = Form::of(request.uri().path()).filter(|_| request.method() == Method::GET)?;
        let last = match form {
            Form::ServerSent => {
                let last = request.headers().get("last-event-id");
                last.and_then(|id| id.to_str().ok()?.parse::<u64>().ok())
            }
            Form::Lines | Form::Messages => {
                Query::of(request).one("since").and_then(|since| since.parse().ok())
            }
        };
        Some(self.world().listen(form, last))
    }
}

impl fmt::Debug for Ferries {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Ferries")
    }
}

fn response(request: &Request<Vec<u8>>, reply: Reply) -> Response<Vec<u8>> {
    let is_read = request.method() == Method::GET && reply.status.is_success();
    let feed = Form::of(request.uri().path()).filter(|_| is_read);
    let mut response = Response::new(Vec::new());
    *response.status_mut() = reply.status;
    let fields = response.headers_mut();
    let mut put = |name: HeaderName, value: &str| {
        if let Ok(value) = HeaderValue::from_str(value) {
            fields.insert(name, value);
        }
    };
    for (name, value) in &reply.fields {
        put(name.clone(), value);
    }
    if let Some(form) = feed {
        let lines = "application/x-ndjson";
        put(CONTENT_TYPE, if form == Form::ServerSent { "text/event-stream" } else { lines });
        return response;
    }
    if reply.status.is_success() && !reply.body.is_null() {
        put(ETAG, &reply.tag());
    }
    let known = request.headers().get(IF_NONE_MATCH).and_then(|tags| tags.to_str().ok());
    let is_known = known.is_some_and(|tags| {
        tags.split(',').any(|tag| tag.trim().trim_start_matches("W/") == reply.tag())
    });
    if is_read && is_known {
        *response.status_mut() = StatusCode::NOT_MODIFIED;
    } else if !reply.body.is_null() {
        let kind = match reply.status.is_success() {
            true => "application/json",
            false => "application/problem+json",
        };
        put(CONTENT_TYPE, kind);
        *response.body_mut() = reply.body.to_string().into_bytes();
    }
    response
}

fn object(value: Value) -> Option<Map<String, Value>> {
    match value {
        Value::Object(object) => Some(object),
        _ => None,
    }
}

fn rows(text: &str, name: &str) -> Vec<Map<String, Value>> {
    let document: Value = serde_json::from_str(text).unwrap_or_default();
    let rows = document.get(name).and_then(Value::as_array).cloned().unwrap_or_default();
    rows.into_iter().filter_map(object).collect()
}

impl World {
    fn new() -> Self {
        let (sailings, vessels) = (rows(DEPARTURES, "sailings"), rows(FLEET, "vessels"));
        let mut bookings: BTreeMap<u64, Map<String, Value>> = BTreeMap::new();
        for mut booking in rows(BOOKINGS, "bookings") {
            booking.insert("sailing".to_owned(), json!(311));
            bookings.insert(booking["id"].as_u64().unwrap_or_default(), booking);
        }
        let mut next_booking = 10_000;
        for sailing in &sailings {
            let id = sailing["id"].as_u64().unwrap_or_default();
            let parties = ["Ashdown", "Brill", "Corrie & sons", "Dunmore", "Eskay"];
            for (index, party) in parties.into_iter().enumerate().take(id as usize % 6) {
                if id != 311 {
                    let booking = json!({
                        "id": next_booking, "sailing": id, "party": party,
                        "cars": 1 + index % 2, "paid": !(id as usize + index).is_multiple_of(3),
                    });
                    bookings.extend(object(booking).map(|booking| (next_booking, booking)));
                    next_booking += 1;
                }
            }
        }
        let (done, events, listeners) = Default::default();
        Self {
            sailings,
            vessels,
            bookings,
            next_booking,
            done,
            events,
            next_event: 1,
            missed_up_to: 0,
            listeners,
        }
    }

    fn answer(&mut self, request: &Request<Vec<u8>>) -> Reply {
        let path: Vec<&str> =
            request.uri().path().split('/').filter(|part| !part.is_empty()).collect();
        let query = Query::of(request);
        match (request.method().as_str(), &*path) {
            ("GET", ["departures"]) => self.departures(&query),
            ("GET", ["sailings", id]) => self.sailing(id),
            ("PATCH", ["sailings", id]) => self.change(id, request),
            ("GET", ["sailings", id, "bookings"]) => self.bookings(id),
            ("POST", ["sailings", id, "bookings"]) => self.book(id, request),
            ("DELETE", ["bookings", id]) => self.cancel(id),
            ("GET", ["fleet"]) => Reply::ok(json!({ "vessels": self.vessels }), "max-age=300"),
            ("GET", ["vessels", id]) => match self.vessels.iter().find(|v| v["id"] == **id) {
                Some(vessel) => Reply::ok(json!(vessel), "max-age=300"),
                None => Reply::not_found(format!("vessel {id}")),
            },
            ("GET", ["vessels"]) => {
                let ids = query.all("ids");
                let is_one = |vessel: &&Map<String, Value>| {
                    vessel["id"].as_str().is_some_and(|id| ids.contains(&id))
                };
                let vessels: Vec<_> = self.vessels.iter().filter(is_one).collect();
                Reply::ok(json!({ "vessels": vessels }), "max-age=300")
            }
            ("GET", ["ports"]) => Reply::ok(json!({ "ports": self.ports() }), "max-age=86400"),
            ("GET", ["feed" | "feed.ndjson" | "live"]) => Reply::ok(Value::Null, "no-store"),
            (_, path) => match allowed(path) {
                Some(allowed) => Reply::problem(
                    StatusCode::METHOD_NOT_ALLOWED,
                    "Not allowed",
                    format!("{} is not for this; {allowed} is", request.method()),
                )
                .with(ALLOW, allowed),
                None => Reply::not_found(request.uri().path()),
            },
        }
    }

    fn departures(&self, query: &Query) -> Reply {
        let port = query.one("port");
        let page = match query.one("page").map(str::parse::<usize>) {
            None => 1,
            Some(Ok(page)) if page > 0 => page,
            Some(_) => {
                let detail = "`page` is a number, counted from 1";
                return Reply::problem(StatusCode::BAD_REQUEST, "Bad request", detail);
            }
        };
        let is_from = |sailing: &&Map<String, Value>| {
            port.is_none_or(|p| sailing["route"]["from"]["code"] == p)
        };
        let sailings: Vec<_> = self.sailings.iter().filter(is_from).collect();
        let shown: Vec<_> = sailings.iter().skip((page - 1) * PAGE).take(PAGE).collect();
        let body = json!({ "day": "2031-05-04", "total": sailings.len(), "sailings": shown });
        let reply = Reply::ok(body, "max-age=15, stale-while-revalidate=60");
        match page * PAGE < sailings.len() {
            true => {
                let port = port.map(|port| format!("port={port}&")).unwrap_or_default();
                let next = format!("</departures?{port}page={}>; rel=\"next\"", page + 1);
                reply.with(LINK, next)
            }
            false => reply,
        }
    }

    fn place(&self, id: &str) -> Result<usize, Reply> {
        let id: Option<u64> = id.parse().ok();
        let found = self.sailings.iter().position(|sailing| sailing["id"].as_u64() == id);
        found.filter(|_| id.is_some()).ok_or_else(|| Reply::not_found("such sailing"))
    }

    fn sailing(&self, id: &str) -> Reply {
        match self.place(id) {
            Ok(place) => Reply::ok(json!(self.sailings[place]), "no-cache"),
            Err(reply) => reply,
        }
    }

    fn change(&mut self, id: &str, request: &Request<Vec<u8>>) -> Reply {
        let (place, patch) = match (self.place(id), body(request)) {
            (Ok(place), Ok(patch)) => (place, patch),
            (Err(reply), _) | (_, Err(reply)) => return reply,
        };
        let now = self.sailing(id);
        let wanted = request.headers().get(IF_MATCH).and_then(|tag| tag.to_str().ok());
        if wanted.is_some_and(|wanted| wanted != "*" && wanted != now.tag()) {
            let detail = "the sailing has been changed by somebody else";
            return Reply::problem(StatusCode::PRECONDITION_FAILED, "Changed meanwhile", detail);
        }
        for (name, value) in &patch {
            let fits = match name.as_str() {
                "status" => ["on time", "boarding", "delayed", "departed", "cancelled"]
                    .iter()
                    .any(|status| value == status),
                "delay_min" => value.as_i64().is_some_and(|minutes| (0..=1440).contains(&minutes)),
                "note" => value.is_string() || value.is_null(),
                _ => false,
            };
            if !fits {
                let detail = format!("/{name} cannot be {value}");
                return Reply::problem(
                    StatusCode::UNPROCESSABLE_ENTITY,
                    "That does not fit",
                    detail,
                );
            }
        }
        for (name, value) in patch {
            match value.is_null() {
                true => drop(self.sailings[place].remove(&name)),
                false => drop(self.sailings[place].insert(name, value)),
            }
        }
        self.tell("sailing", &json!(self.sailings[place]));
        self.sailing(id)
    }

    fn bookings(&self, id: &str) -> Reply {
        match self.place(id) {
            Ok(place) => {
                let id = &self.sailings[place]["id"];
                let of = self.bookings.values().filter(|booking| booking["sailing"] == *id);
                let shown = of.map(|booking| {
                    let mut shown = booking.clone();
                    shown.remove("sailing");
                    shown
                });
                let shown: Vec<_> = shown.collect();
                Reply::ok(json!({ "bookings": shown }), "private, max-age=5")
            }
            Err(reply) => reply,
        }
    }

    fn book(&mut self, id: &str, request: &Request<Vec<u8>>) -> Reply {
        let (place, wanted) = match (self.place(id), body(request)) {
            (Ok(place), Ok(wanted)) => (place, wanted),
            (Err(reply), _) | (_, Err(reply)) => return reply,
        };
        let party = wanted.get("party").and_then(Value::as_str).filter(|party| !party.is_empty());
        let cars =
            wanted.get("cars").and_then(Value::as_u64).filter(|cars| (1..=20).contains(cars));
        let (Some(party), Some(cars)) = (party, cars) else {
            let detail = "/party is a name and /cars a number from 1 to 20";
            return Reply::problem(StatusCode::UNPROCESSABLE_ENTITY, "That does not fit", detail);
        };
        let sailing = &self.sailings[place];
        let booked = sailing["cars_booked"].as_u64().unwrap_or(0);
        let most = sailing["vessel"]["cars_max"].as_u64().unwrap_or(0);
        if sailing["status"] == "cancelled" || booked + cars > most {
            let detail = format!("{} places are left", most.saturating_sub(booked));
            return Reply::problem(StatusCode::CONFLICT, "No room", detail);
        }
        let number = self.next_booking;
        self.next_booking += 1;
        let booking = json!({
            "id": number, "sailing": sailing["id"], "party": party, "cars": cars, "paid": false,
        });
        self.sailings[place].insert("cars_booked".to_owned(), json!(booked + cars));
        self.bookings.extend(object(booking.clone()).map(|booking| (number, booking)));
        self.tell("booking", &booking);
        let sailing = json!(self.sailings[place]);
        self.tell("sailing", &sailing);
        let reply = Reply { status: StatusCode::CREATED, body: booking, fields: Vec::new() };
        reply.with(LOCATION, format!("/bookings/{number}"))
    }

    fn cancel(&mut self, id: &str) -> Reply {
        let found = id.parse::<u64>().ok().and_then(|id| self.bookings.remove(&id));
        let Some(booking) = found else { return Reply::not_found(format!("booking {id}")) };
        let of = self.sailings.iter().position(|sailing| sailing["id"] == booking["sailing"]);
        self.tell("booking_cancelled", &json!({ "id": booking["id"] }));
        if let Some(place) = of {
            let booked = self.sailings[place]["cars_booked"].as_u64().unwrap_or(0);
            let booked = booked.saturating_sub(booking["cars"].as_u64().unwrap_or(0));
            self.sailings[place].insert("cars_booked".to_owned(), json!(booked));
            let sailing = json!(self.sailings[place]);
            self.tell("sailing", &sailing);
        }
        Reply { status: StatusCode::NO_CONTENT, body: Value::Null, fields: Vec::new() }
    }

    fn ports(&self) -> Vec<Value> {
        let ends = self.sailings.iter().flat_map(|sailing| {
            [&sailing["route"]["from"], &sailing["route"]["to"]].into_iter().cloned()
        });
        let ports: BTreeMap<String, Value> =
            ends.map(|port| (port["code"].to_string(), port)).collect();
        ports.into_values().collect()
    }

    fn tell(&mut self, name: &'static str, data: &Value) {
        let number = self.next_event;
        self.next_event += 1;
        let event = Event { number, name, data: data.clone() };
        self.listeners.retain(|(form, listener)| listener.send(event.text(*form)).is_ok());
        self.events.push(event);
        let too_many = self.events.len().saturating_sub(KEPT_EVENTS);
        self.events.drain(..too_many);
    }

    /// The events from there on; an event `reset` first, if some of them are no longer known.
    fn listen(&mut self, form: Form, last: Option<u64>) -> Events {
        let (sender, receiver) = unbounded_channel();
        if form == Form::ServerSent {
            let _it_listens = sender.send(": the feed begins\n\n".to_owned());
        }
        if let Some(last) = last {
            let first = self.events.first().map_or(self.next_event, |event| event.number);
            if last + 1 < first || last >= self.next_event {
                let number = self.next_event - 1;
                self.missed_up_to = number;
                let reset = Event { number, name: "reset", data: json!({}) };
                let _it_listens = sender.send(reset.text(form));
            } else {
                for event in self.events.iter().filter(|event| event.number > last) {
                    let _it_listens = sender.send(event.text(form));
                }
            }
        }
        self.listeners.push((form, sender));
        receiver
    }
}

fn body(request: &Request<Vec<u8>>) -> Result<Map<String, Value>, Reply> {
    let read = serde_json::from_slice(request.body()).ok().and_then(object);
    read.ok_or_else(|| {
        Reply::problem(StatusCode::BAD_REQUEST, "Bad request", "the body is no JSON object")
    })
}

/// The methods that a path is for, if it is one.
fn allowed(path: &[&str]) -> Option<&'static str> {
    Some(match path {
        ["departures" | "fleet" | "ports" | "vessels" | "feed" | "feed.ndjson" | "live"]
        | ["vessels", _] => "GET",
        ["sailings", _] => "GET, PATCH",
        ["sailings", _, "bookings"] => "GET, POST",
        ["bookings", _] => "DELETE",
        _ => return None,
    })
}

/// The parameters of a request's query.
struct Query(Vec<(String, String)>);

impl Query {
    fn of(request: &Request<Vec<u8>>) -> Self {
        let pairs = form_urlencoded::parse(request.uri().query().unwrap_or_default().as_bytes());
        let pairs = pairs.map(|(name, value)| (name.into_owned(), value.into_owned()));
        Self(pairs.collect())
    }

    fn one(&self, name: &str) -> Option<&str> {
        self.0.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    fn all(&self, name: &str) -> Vec<&str> {
        let named = self.0.iter().filter(|(known, _)| known == name);
        named.flat_map(|(_, value)| value.split(',')).collect()
    }
}
