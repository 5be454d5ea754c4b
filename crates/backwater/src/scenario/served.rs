//! The steps of a scenario that ask a server, and what that answers.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use serde_json::{Map, Value as Json};

use super::{Body, wrong};
use crate::cache::Cache;
use crate::error::Result;
use crate::remote::http::{HeaderName, HeaderValue, Response, StatusCode};
use crate::remote::{Answer, Failure, Remote, StandIn};
use crate::value::{Named, SetClock, Value};

/// What a step asks a server, or what the server does.
#[derive(Debug, Clone)]
pub(super) enum Serves {
    Ask {
        rule: String,
        values: Vec<(String, Value)>,
    },
    /// The request that waits longest gets this response.
    Answer {
        status: u16,
        fields: Vec<(String, String)>,
        body: Option<Body>,
    },
    /// The request that waits longest is lost.
    Fail,
    /// Seconds go by.
    Pass(u64),
}

/// A remote whose server is the scenario.
pub(super) struct Server {
    remote: Remote,
    stand_in: StandIn,
    next: Arc<Mutex<Option<Response<Vec<u8>>>>>,
    clock: SetClock,
    /// What was asked for, and how it last failed.
    answers: Vec<(Answer, Option<Failure>)>,
}

impl Server {
    pub(super) fn new(cache: &Cache) -> Result<Self> {
        let next: Arc<Mutex<Option<Response<Vec<u8>>>>> = Arc::default();
        let its = next.clone();
        let stand_in = StandIn::new(move |_| {
            let said = its.lock().unwrap_or_else(PoisonError::into_inner).take();
            said.unwrap_or_else(|| StandIn::status(500))
        });
        let clock = SetClock::at("2031-05-04T05:40:00Z".parse()?);
        let remote = Remote::builder(cache).base("https://server.example").seed(1);
        let remote = remote.transport(stand_in.clone()).clock(clock.clone()).build()?;
        Ok(Self { remote, stand_in, next, clock, answers: Vec::new() })
    }

    /// Does a step; returns what came of it, in words.
    pub(super) fn serve(&mut self, does: &Serves, body: Option<Vec<u8>>) -> Result<String> {
        let before = self.stand_in.requests().len();
        match does {
            Serves::Ask { rule, values } => {
                let values: Named = values.iter().cloned().collect();
                let answer = self.remote.ask(rule, values)?;
                let is_known = |(known, _): &(Answer, _)| known.words() == answer.words();
                if !self.answers.iter().any(is_known) {
                    self.answers.push((answer, None));
                }
            }
            Serves::Answer { status, fields, .. } => {
                let mut response = Response::new(body.unwrap_or_default());
                *response.status_mut() = StatusCode::from_u16(*status)
                    .map_err(|_| wrong(&format!("{status} is no HTTP status")))?;
                for (name, value) in fields {
                    let field = (name.parse::<HeaderName>(), HeaderValue::from_str(value));
                    let (Ok(name), Ok(value)) = field else {
                        return Err(wrong(&format!("{name}: {value} is no header field")));
                    };
                    response.headers_mut().append(name, value);
                }
                *self.next.lock().unwrap_or_else(PoisonError::into_inner) = Some(response);
                if !self.stand_in.answer() {
                    return Err(wrong("there is no request to answer"));
                }
            }
            Serves::Fail => {
                if !self.stand_in.lose() {
                    return Err(wrong("there is no request to lose"));
                }
            }
            Serves::Pass(seconds) => self.stand_in.pass(&self.clock, Duration::from_secs(*seconds)),
        }
        let made = self.stand_in.requests().split_off(before);
        let made: Vec<String> =
            made.iter().map(|request| request.replace("https://server.example", "")).collect();
        let mut failed = Vec::new();
        for (answer, known) in &mut self.answers {
            let now = answer.state().failed;
            if let Some(failure) = now.as_ref().filter(|_| now != *known) {
                failed.push(format!("{} failed, {failure}", answer.words()));
            }
            *known = now;
        }
        let mut said = match (&*made, does) {
            ([], Serves::Ask { .. }) => vec!["no request".to_owned()],
            (made, _) => made.to_vec(),
        };
        said.extend(failed);
        Ok(said.join("; "))
    }
}

/// Reads such a step.
pub(super) fn read(
    name: &str,
    of: Json,
    members: &mut Map<String, Json>,
) -> Result<(String, Serves)> {
    Ok(match (name, of) {
        ("ask", Json::String(rule)) => {
            let values = match members.remove("values") {
                None => Map::new(),
                Some(Json::Object(values)) => values,
                Some(_) => return Err(wrong("\"values\" is an object of the rule's variables")),
            };
            let values = values.into_iter().map(|(name, value)| Ok((name, super::scalar(value)?)));
            let values = values.collect::<Result<Vec<_>>>()?;
            (format!("{rule} asked for"), Serves::Ask { rule, values })
        }
        ("answer", of @ (Json::String(_) | Json::Null | Json::Object(_) | Json::Array(_))) => {
            let status = match members.remove("status") {
                None => 200,
                Some(status) => status
                    .as_u64()
                    .and_then(|status| u16::try_from(status).ok())
                    .ok_or_else(|| wrong("\"status\" is an HTTP status such as 304"))?,
            };
            let fields = match members.remove("fields") {
                None => Map::new(),
                Some(Json::Object(fields)) => fields,
                Some(_) => return Err(wrong("\"fields\" is an object of header fields")),
            };
            let fields = fields.into_iter().map(|(name, value)| match value {
                Json::String(value) => Ok((name, value)),
                _ => Err(wrong("a header field's value is a text")),
            });
            let body = match of {
                Json::Null => None,
                Json::String(file) => Some(Body::File(file)),
                other => Some(Body::Here(other.to_string())),
            };
            let described = format!("the server answers {status}");
            (described, Serves::Answer { status, fields: fields.collect::<Result<_>>()?, body })
        }
        ("fail", Json::String(how)) if how == "network" => {
            ("the network fails".to_owned(), Serves::Fail)
        }
        ("pass", Json::Number(seconds)) if seconds.is_u64() => {
            let seconds = seconds.as_u64().unwrap_or(0);
            (format!("{seconds} s later"), Serves::Pass(seconds))
        }
        ("ask", _) => return Err(wrong("\"ask\" is the name of a response rule")),
        ("answer", _) => return Err(wrong("\"answer\" is a file, a response's JSON, or null")),
        ("fail", _) => return Err(wrong("\"fail\" is \"network\"")),
        _ => return Err(wrong("\"pass\" is a number of seconds")),
    })
}
