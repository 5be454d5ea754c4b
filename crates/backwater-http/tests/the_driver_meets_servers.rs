//! The driver against servers on real sockets: the stand-in, which fails on purpose, and some that
//! misbehave.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use backwater::remote::{FailureKind, Remote, RemoteBuilder};
use backwater::{Cache, Schema, SystemClock, Value};
use backwater_http::{CredentialsFor, HttpTransport, reqwest};
use backwater_serve::{Answers, Faults, Ferries, start};
use proptest::prelude::*;

const SCHEMA: &str = r#"
    table.sailing = { id = "id", fields = { id = "int", status = "text", cars_booked = "int" } }
    table.booking = { id = "id", fields = { id = "int", sailing = { to = "sailing" }, cars = "int" } }

    [response.departures]
    url = "/departures{?port,page}"
    records = "/sailings"
    table = "sailing"
    part = "page"
    list = "departures"
    vars = { page = "int" }

    [response.sailing]
    url = "/sailings/{id}"
    table = "sailing"

    [response.bookings]
    url = "/sailings/{sailing}/bookings"
    records = "/bookings"
    table = "booking"
    fields = { sailing = ":sailing" }
    complete = { sailing = ":sailing" }
"#;
const LONG: Duration = Duration::from_secs(60);

fn cache() -> Cache {
    Cache::new(Schema::parse("s.toml", SCHEMA).unwrap())
}

fn remote(cache: &Cache, url: &str, transport: HttpTransport) -> RemoteBuilder {
    let remote = Remote::builder(cache).base(url).transport(transport).clock(SystemClock::new());
    remote.back_off(Duration::from_millis(1), Duration::from_millis(5))
}

/// A server that answers each connection with the next of these texts, the last one again and
/// again, and closes it; what it was asked is noted.
fn raw(responses: Vec<Vec<u8>>) -> (String, Arc<Mutex<Vec<String>>>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let asked: Arc<Mutex<Vec<String>>> = Arc::default();
    let its = asked.clone();
    std::thread::spawn(move || {
        for (number, stream) in listener.incoming().enumerate() {
            let Ok(mut stream) = stream else { return };
            let mut request = [0; 4096];
            let read = stream.read(&mut request).unwrap_or(0);
            its.lock().unwrap().push(String::from_utf8_lossy(&request[..read]).into_owned());
            let response = &responses[number.min(responses.len() - 1)];
            let _may_be_closed = stream.write_all(response);
            if response.is_empty() {
                // It never answers.
                std::thread::spawn(move || {
                    std::thread::sleep(LONG);
                    drop(stream);
                });
            }
        }
    });
    (url, asked)
}

fn http(head: &str, body: &[u8]) -> Vec<u8> {
    let mut out = format!("HTTP/1.1 {head}\r\nconnection: close\r\n\r\n").into_bytes();
    out.extend(body);
    out
}

/// How a request for one sailing fails at such a server, and how often it is tried.
fn fails(response: &[u8], most_bytes: usize) -> (FailureKind, String, usize) {
    let (url, asked) = raw(vec![response.to_vec()]);
    let cache = cache();
    let transport = HttpTransport::builder().build().unwrap();
    let remote = remote(&cache, &url, transport).tries(2).most_bytes(most_bytes);
    let remote = remote.time_out(Duration::from_millis(700)).build().unwrap();
    let state = remote.ask("sailing", [("id", 311)]).unwrap().wait(LONG);
    assert!(state.under_way.is_none() && state.here.is_none());
    assert_eq!(cache.snapshot().count("sailing").unwrap(), 0);
    let failed = state.failed.unwrap();
    assert!(!failed.message.contains("127.0.0.1"), "{}", failed.message);
    (failed.kind, failed.message, asked.lock().unwrap().len())
}

#[test]
fn what_servers_do_wrong_is_told() {
    let mib = 1 << 20;
    let (kind, message, tries) = fails(b"", mib);
    assert_eq!((kind, tries), (FailureKind::TimeOut, 2), "{message}");
    let (kind, message, tries) = fails(b"no HTTP at all\r\n\r\n", mib);
    assert_eq!((kind, tries), (FailureKind::Network, 2), "{message}");
    let cut = http("200 OK\r\ncontent-length: 100", br#"{"id": 311, "#);
    let (kind, message, tries) = fails(&cut, mib);
    assert_eq!((kind, tries), (FailureKind::Network, 2), "{message}");
    let page = http("200 OK\r\ncontent-type: text/html", b"<html>Log in</html>");
    let (kind, message, tries) = fails(&page, mib);
    assert_eq!((kind, tries), (FailureKind::Unreadable, 1));
    assert!(message.starts_with("the response is text/html, expected JSON"), "{message}");
    let large = http("200 OK", format!("{{\"id\": 311{}}}", " ".repeat(5000)).as_bytes());
    let (kind, message, tries) = fails(&large, 1000);
    assert_eq!((kind, tries), (FailureKind::Unreadable, 1));
    assert_eq!(message, "the response has more than 1000 bytes, which are allowed");

    // A hundred megabytes of blanks in a hundred kilobytes.
    let mut bomb = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    for _ in 0..100 {
        bomb.write_all(&vec![b' '; mib]).unwrap();
    }
    let bomb = http("200 OK\r\ncontent-encoding: gzip", &bomb.finish().unwrap());
    let (kind, message, tries) = fails(&bomb, mib);
    assert_eq!((kind, tries), (FailureKind::Unreadable, 1), "{message}");
    assert!(message.contains("more than 1048576 bytes"), "{message}");
    let damaged = http("200 OK\r\ncontent-encoding: gzip", b"{\"id\": 311}");
    let (kind, message, _) = fails(&damaged, mib);
    assert_eq!(kind, FailureKind::Network, "{message}");

    let around = http("302 Found\r\nlocation: /sailings/311", b"");
    let (kind, message, tries) = fails(&around, mib);
    assert_eq!((kind, tries), (FailureKind::Network, 11), "{message}");
    assert!(message.contains("redirects without an end"), "{message}");
    let elsewhere = http("302 Found\r\nlocation: http://localhost:1/x", b"");
    let (kind, message, tries) = fails(&elsewhere, mib);
    assert_eq!((kind, tries), (FailureKind::Network, 1), "{message}");
    assert!(message.contains("redirects to another host"), "{message}");

    // Fields that contradict each other: the stricter one counts.
    let both = http(
        "200 OK\r\ncache-control: max-age=600, no-cache\r\nexpires: soon",
        br#"{"id": 311, "status": "on time"}"#,
    );
    let (url, _) = raw(vec![http("302 Found\r\nlocation: /other", b""), both]);
    let (cache, transport) = (cache(), HttpTransport::builder().build().unwrap());
    let remote = remote(&cache, &url, transport).build().unwrap();
    let state = remote.ask("sailing", [("id", 311)]).unwrap().wait(LONG);
    assert!(state.here.is_some() && !state.is_fresh(&SystemClock::new()), "{state:?}");
}

/// A value is asked for once, and once more by all whom it was refused to; it goes to no message.
#[test]
fn credentials_are_renewed_once() {
    let good = http("200 OK", br#"{"id": 311}"#);
    struct Guarded(Ferries);
    impl Answers for Guarded {
        fn answer(&self, request: &http::Request<Vec<u8>>) -> http::Response<Vec<u8>> {
            let is_good = request.headers().get("authorization").is_some_and(|v| v == "token 2");
            if is_good {
                return self.0.answer(request);
            }
            let mut response = http::Response::new(Vec::new());
            *response.status_mut() = http::StatusCode::UNAUTHORIZED;
            response
        }
    }
    use backwater::remote::http;
    let server = start(Arc::new(Guarded(Ferries::new())), Faults::default(), 0).unwrap();
    let given = Arc::new(AtomicUsize::new(0));
    let its = given.clone();
    let transport = HttpTransport::builder().credentials(move |wanted: CredentialsFor| {
        let number = its.fetch_add(1, Ordering::Relaxed) + 1;
        assert_eq!(wanted.is_refused, number.is_multiple_of(2));
        async move {
            tokio::time::sleep(Duration::from_millis(20)).await;
            Ok(Some(format!("token {number}")))
        }
    });
    let (cache, transport) = (cache(), transport.build().unwrap());
    let remote = remote(&cache, &server.url(), transport.clone()).build().unwrap();
    let answers: Vec<_> =
        (300..312).map(|id| remote.ask("sailing", [("id", id)]).unwrap()).collect();
    for answer in answers {
        let state = answer.wait(LONG);
        assert!(state.failed.is_none() && state.here.is_some(), "{state:?}");
    }
    assert_eq!(given.load(Ordering::Relaxed), 2);
    // The next user's are asked for; these are refused here, and asked for once more.
    cache.clear("signed out").unwrap();
    transport.forget_credentials();
    let state = remote.ask("sailing", [("id", 311)]).unwrap().wait(LONG);
    assert_eq!((state.failed.unwrap().status, given.load(Ordering::Relaxed)), (Some(401), 4));

    // One that is refused again is a failure like any other.
    let refused = http("401 Unauthorized", b"");
    let (url, asked) = raw(vec![refused]);
    let transport = HttpTransport::builder()
        .credentials(|_| async { Ok(Some("hush".to_owned())) })
        .change_request(|request| {
            request.headers_mut().insert("x-api-version", "7".parse().unwrap());
        });
    let other = Remote::builder(&cache).name("other").base(&url).clock(SystemClock::new());
    let other = other.transport(transport.build().unwrap()).build().unwrap();
    let state = other.ask("sailing", [("id", 1)]).unwrap().wait(LONG);
    assert_eq!(state.failed.unwrap().to_string(), "status: 401, Unauthorized");
    let asked = asked.lock().unwrap();
    assert_eq!(asked.len(), 2);
    assert!(asked.iter().all(|asked| asked.contains("authorization: hush")));
    assert!(asked.iter().all(|asked| asked.contains("x-api-version: 7")));
    drop(good);
}

/// On a runtime of the program, awaited; a response is changed before it is read; and a request
/// whose cache is emptied is given up.
#[test]
fn it_runs_on_a_programs_runtime() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let (url, _) = raw(vec![http("200 OK", br#"{"data": {"id": 7}}"#)]);
    let (silent, asked) = raw(vec![Vec::new()]);
    let cache = cache();
    let transport = HttpTransport::builder().runtime(runtime.handle().clone());
    let transport = transport.client(reqwest::Client::new()).change_response(|response| {
        let body = String::from_utf8_lossy(response.body());
        let inner = body.strip_prefix("{\"data\": ").and_then(|body| body.strip_suffix('}'));
        if let Some(inner) = inner {
            *response.body_mut() = inner.as_bytes().to_vec();
        }
    });
    let transport = transport.build().unwrap();
    let first = remote(&cache, &url, transport.clone()).build().unwrap();
    let answer = first.ask("sailing", [("id", 7)]).unwrap();
    let state = runtime.block_on(answer.settled());
    assert!(state.here.is_some(), "{state:?}");
    assert_eq!(cache.snapshot().count("sailing").unwrap(), 1);

    let second = Remote::builder(&cache).name("silent").base(silent).transport(transport);
    let second = second.clock(SystemClock::new()).build().unwrap();
    let answer = second.ask("sailing", [("id", 8)]).unwrap();
    while asked.lock().unwrap().is_empty() {
        std::thread::sleep(Duration::from_millis(5));
    }
    cache.clear("signed out").unwrap();
    assert_eq!(answer.wait(LONG), Default::default());
}

#[derive(Debug, Clone, Copy)]
enum Act {
    Ask(usize),
    Reload(usize),
    Book(u64),
    Cancel(usize),
    Delay(u64, i64),
    SignOut,
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        5 => (0..4_usize).prop_map(Act::Ask),
        2 => (0..4_usize).prop_map(Act::Reload),
        2 => (310..313_u64).prop_map(Act::Book),
        1 => (0..9_usize).prop_map(Act::Cancel),
        2 => (310..313_u64, 0..60_i64).prop_map(|(id, minutes)| Act::Delay(id, minutes)),
        1 => Just(Act::SignOut),
    ]
}

fn session(seed: u64, acts: &[Act]) {
    let ferries = Arc::new(Ferries::new());
    let faults = Faults {
        delay: Duration::from_millis(2),
        fail: 0.15,
        lose: 0.15,
        seed,
        ..Faults::default()
    };
    let server = start(ferries.clone(), faults, 0).unwrap();
    let cache = cache();
    let transport = HttpTransport::builder().build().unwrap();
    let remote = remote(&cache, &server.url(), transport).tries(30).seed(seed).build().unwrap();
    let ask = |what: usize, anyway: bool| {
        let id = 310 + (what as i64) % 3;
        let (rule, name, value) = match what {
            0 | 1 => ("bookings", "sailing", Value::from(id)),
            2 => ("sailing", "id", id.into()),
            _ => ("departures", "port", "SAL".into()),
        };
        match anyway {
            true => remote.reload(rule, [(name, value)]).unwrap(),
            false => remote.ask(rule, [(name, value)]).unwrap(),
        }
    };
    let request = |method: &str, path: String, body: String| {
        let request = http::Request::builder().method(method).uri(path);
        ferries.answer(&request.body(body.into_bytes()).unwrap())
    };
    use backwater::remote::http;
    let mut answers = Vec::new();
    for act in acts {
        match *act {
            Act::Ask(what) => answers.push(ask(what, false)),
            Act::Reload(what) => answers.push(ask(what, true)),
            Act::Book(id) => {
                let booking = r#"{"party": "Ostrow", "cars": 1}"#.to_owned();
                request("POST", format!("/sailings/{id}/bookings"), booking);
            }
            Act::Cancel(place) => {
                let id = 9000 + 7 * place;
                request("DELETE", format!("/bookings/{id}"), String::new());
            }
            Act::Delay(id, minutes) => {
                request(
                    "PATCH",
                    format!("/sailings/{id}"),
                    format!("{{\"delay_min\": {minutes}}}"),
                );
            }
            Act::SignOut => {
                cache.clear("signed out").unwrap();
            }
        }
    }
    for answer in answers {
        let state = answer.wait(LONG);
        assert!(state.under_way.is_none(), "it does not come to an end: {state:?}");
    }
    // Once more, now that nothing changes any more.
    let answers: Vec<_> = (0..4).map(|what| ask(what, true)).collect();
    for answer in answers {
        let state = answer.wait(LONG);
        assert!(state.failed.is_none() && state.here.is_some(), "{state:?}");
    }
    for sailing in [310, 311] {
        let theirs = request("GET", format!("/sailings/{sailing}/bookings"), String::new());
        let theirs = ids(theirs.body());
        let own = cache.query("SELECT id FROM booking WHERE sailing = :id", [("id", sailing)]);
        let own = own.unwrap().read().unwrap();
        let own: BTreeSet<String> = own.rows().map(|row| row.values()[0].to_string()).collect();
        assert_eq!(own, theirs, "bookings of {sailing}");
    }
}

fn ids(body: &[u8]) -> BTreeSet<String> {
    let text = std::str::from_utf8(body).unwrap();
    let ids = text.split("\"id\":").skip(1);
    ids.map(|rest| rest.split([',', '}']).next().unwrap().to_owned()).collect()
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: std::env::var("BACKWATER_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(40),
        max_shrink_iters: 20,
        ..ProptestConfig::default()
    })]

    #[test]
    fn sessions_end_with_what_the_server_has(
        seed in any::<u64>(),
        acts in prop::collection::vec(act(), 1..20),
    ) {
        session(seed, &acts);
    }
}
