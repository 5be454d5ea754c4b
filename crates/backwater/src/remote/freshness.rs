//! How long an answer is fresh, and how it is validated: RFC 9111 for a private cache, with RFC
//! 5861 and RFC 8246.
//!
//! It knows header fields and times. It must not know requests under way, rows, or the clock.

use http::header::{
    AGE, CACHE_CONTROL, DATE, ETAG, EXPIRES, HeaderMap, HeaderName, HeaderValue, IF_MODIFIED_SINCE,
    IF_NONE_MATCH, LAST_MODIFIED, VARY,
};

use crate::value::Timestamp;

/// The fields of a response that decide on it. A 304 replaces those that it has (section 3.2).
const FIELDS: [HeaderName; 7] = [AGE, CACHE_CONTROL, DATE, ETAG, EXPIRES, LAST_MODIFIED, VARY];

/// Larger numbers of seconds count as this one (section 1.2.2).
const MOST_SECONDS: u64 = 1 << 31;

/// What is remembered of a response, and of the request that it answered.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Validators {
    /// The fields that matter, in the order of [`FIELDS`].
    pub(crate) fields: Vec<(HeaderName, HeaderValue)>,
    /// The request's fields that `Vary` names, with their values.
    pub(crate) selecting: Vec<(HeaderName, Option<HeaderValue>)>,
    pub(crate) requested: Timestamp,
    pub(crate) received: Timestamp,
}

/// How long an answer may be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Freshness {
    /// For how many seconds it is fresh from when it was made.
    pub(crate) lifetime: u64,
    /// It is fresh before this.
    pub(crate) until: Timestamp,
    /// A stale one may be used until then while it is validated (RFC 5861, section 3).
    pub(crate) while_revalidating: Timestamp,
    /// A stale one may be used until then if validating it fails (RFC 5861, section 4).
    pub(crate) if_error: Timestamp,
    /// Whether asking for it again while it is fresh is of no use (RFC 8246).
    pub(crate) is_immutable: bool,
    /// Whether it must not be written to a disk (section 5.2.2.5).
    pub(crate) no_store: bool,
}

impl Validators {
    pub(crate) fn of(
        request: &HeaderMap,
        response: &HeaderMap,
        requested: Timestamp,
        received: Timestamp,
    ) -> Self {
        let fields = FIELDS.into_iter().flat_map(|name| {
            let values = response.get_all(&name).iter().cloned();
            values.map(move |value| (name.clone(), value)).collect::<Vec<_>>()
        });
        let named = names(response);
        let selecting = named.map(|name| (name.clone(), request.get(&name).cloned()));
        let selecting = selecting.collect();
        Self { fields: fields.collect(), selecting, requested, received }
    }

    fn all(&self, name: HeaderName) -> impl Iterator<Item = &str> {
        let values = self.fields.iter().filter(move |(known, _)| *known == name);
        values.filter_map(|(_, value)| value.to_str().ok())
    }

    fn first(&self, name: HeaderName) -> Option<&str> {
        self.all(name).next()
    }

    /// How long it may be used; `by_rule` are the seconds for which it counts as fresh if the
    /// server does not say.
    pub(crate) fn freshness(&self, by_rule: Option<u64>) -> Freshness {
        let control = CacheControl::read(self.all(CACHE_CONTROL));
        let lifetime = self.lifetime(&control, by_rule);
        let until = after(self.received, lifetime as i64 - self.initial_age() as i64);
        let further = |seconds: Option<u64>| match seconds {
            Some(seconds) if !control.must_revalidate && !control.no_cache => {
                after(until, seconds as i64)
            }
            _ => until,
        };
        Freshness {
            lifetime,
            until,
            while_revalidating: further(control.stale_while_revalidate),
            if_error: further(control.stale_if_error),
            is_immutable: control.immutable,
            no_store: control.no_store,
        }
    }

    /// The freshness lifetime in seconds (section 4.2.1).
    fn lifetime(&self, control: &CacheControl, by_rule: Option<u64>) -> u64 {
        if control.no_cache || control.no_store || self.all(VARY).any(|names| names.contains('*')) {
            return 0;
        }
        if let Some(seconds) = control.max_age {
            return seconds;
        }
        let mut expires = self.all(EXPIRES).peekable();
        if expires.peek().is_none() {
            return by_rule.unwrap_or(0);
        }
        // One that is no date is a time in the past (section 5.3); of several the earliest counts.
        let dates = expires.map(|date| seconds_of(date).unwrap_or(i64::MIN));
        let from = self.first(DATE).and_then(seconds_of);
        let from = from.unwrap_or_else(|| self.received.as_micros().div_euclid(1_000_000));
        dates.min().map_or(0, |date| date.saturating_sub(from).clamp(0, MOST_SECONDS as i64) as u64)
    }

    /// The age at which it was received, in seconds (section 4.2.3). The client's clock is not
    /// compared with the server's, as the section allows: those of many devices are wrong.
    fn initial_age(&self) -> u64 {
        let age = self.first(AGE).and_then(|age| delta_seconds(age.trim())).unwrap_or(0);
        let delay = self.received.as_micros().saturating_sub(self.requested.as_micros());
        (age + (delay.max(0) as u64).div_ceil(1_000_000)).min(MOST_SECONDS)
    }

    /// Whether a request with these fields may be answered by it (section 4.1).
    pub(crate) fn is_selected_by(&self, request: &HeaderMap) -> bool {
        !self.all(VARY).any(|names| names.contains('*'))
            && self.selecting.iter().all(|(name, value)| request.get(name) == value.as_ref())
    }

    /// Makes a request conditional (section 4.3.1); returns whether there is something to ask by.
    pub(crate) fn make_conditional(&self, request: &mut HeaderMap) -> bool {
        let mut put = |from: HeaderName, to: HeaderName| {
            let value = self.fields.iter().find(|(name, _)| *name == from);
            value.map(|(_, value)| request.insert(to, value.clone())).is_some()
        };
        let by_tag = put(ETAG, IF_NONE_MATCH);
        put(LAST_MODIFIED, IF_MODIFIED_SINCE) || by_tag
    }

    /// The same after a 304 (section 4.3.4); `None` if that is about another representation.
    pub(crate) fn freshened(
        &self,
        response: &HeaderMap,
        requested: Timestamp,
        received: Timestamp,
    ) -> Option<Self> {
        let tag = response.get(ETAG).and_then(|tag| tag.to_str().ok()).map(str::trim);
        if let (Some(new), Some(old)) = (tag, self.first(ETAG)) {
            let weak = |tag: &str| tag.trim().trim_start_matches("W/").to_owned();
            if weak(new) != weak(old) {
                return None;
            }
        }
        let mut fields = Vec::new();
        for name in FIELDS {
            let new = response.get_all(&name).iter();
            let new: Vec<_> = new.map(|value| (name.clone(), value.clone())).collect();
            // How old the stored one was says nothing of the one that was validated now.
            let kept = |name: &HeaderName| *name != AGE && *name != DATE;
            match new.is_empty() {
                true if kept(&name) => {
                    fields.extend(self.fields.iter().filter(|(old, _)| *old == name).cloned());
                }
                _ => fields.extend(new),
            }
        }
        Some(Self { fields, selecting: self.selecting.clone(), requested, received })
    }
}

/// The directives of `Cache-Control` that a private cache heeds (section 5.2.2).
#[derive(Debug, Default, PartialEq)]
struct CacheControl {
    max_age: Option<u64>,
    no_cache: bool,
    no_store: bool,
    must_revalidate: bool,
    immutable: bool,
    stale_while_revalidate: Option<u64>,
    stale_if_error: Option<u64>,
}

impl CacheControl {
    fn read<'v>(values: impl Iterator<Item = &'v str>) -> Self {
        let mut out = Self::default();
        for value in values {
            each_directive(value, |name, argument| out.take(name, argument));
        }
        out
    }

    /// Takes a directive. Of two that contradict each other the stricter one counts, and an
    /// argument that is no number of seconds makes the answer stale (section 4.2.1).
    fn take(&mut self, name: &str, argument: Option<&str>) {
        let seconds = || argument.and_then(delta_seconds).unwrap_or(0);
        let least = |known: &mut Option<u64>| {
            let seconds = seconds();
            *known = Some(known.map_or(seconds, |known| known.min(seconds)));
        };
        match name {
            "max-age" => least(&mut self.max_age),
            // With the names of fields it is about these alone; a cache may take it for all.
            "no-cache" => self.no_cache = true,
            "no-store" => self.no_store = true,
            "must-revalidate" => self.must_revalidate = true,
            "immutable" => self.immutable = true,
            "stale-while-revalidate" => least(&mut self.stale_while_revalidate),
            "stale-if-error" => least(&mut self.stale_if_error),
            _ => {}
        }
    }
}

/// Calls `found` with each directive's name in small letters and its argument, which may be a token
/// or a quoted string (section 5.2).
fn each_directive(value: &str, mut found: impl FnMut(&str, Option<&str>)) {
    let mut rest = value;
    while !rest.is_empty() {
        let mut is_quoted = false;
        let mut is_escaped = false;
        let end = rest.find(|letter| {
            match letter {
                _ if is_escaped => is_escaped = false,
                '\\' if is_quoted => is_escaped = true,
                '"' => is_quoted = !is_quoted,
                ',' => return !is_quoted,
                _ => {}
            }
            false
        });
        let directive = rest[..end.unwrap_or(rest.len())].trim();
        rest = end.map_or("", |end| &rest[end + 1..]);
        let (name, argument) = match directive.split_once('=') {
            Some((name, argument)) => (name.trim(), Some(argument.trim().trim_matches('"'))),
            None => (directive, None),
        };
        if !name.is_empty() {
            found(&name.to_ascii_lowercase(), argument);
        }
    }
}

/// A number of seconds (section 1.2.2).
pub(super) fn delta_seconds(text: &str) -> Option<u64> {
    let is_number = !text.is_empty() && text.bytes().all(|digit| digit.is_ascii_digit());
    // A number that does not fit is a large one.
    is_number.then(|| text.parse().unwrap_or(MOST_SECONDS).min(MOST_SECONDS))
}

/// Seconds since 1970 of an HTTP date, in any of its three forms (RFC 9110, section 5.6.7).
pub(super) fn seconds_of(date: &str) -> Option<i64> {
    let time = httpdate::parse_http_date(date.trim()).ok()?;
    let since = time.duration_since(std::time::UNIX_EPOCH).ok()?;
    i64::try_from(since.as_secs()).ok()
}

/// The names of the request fields that a response varies by.
fn names(response: &HeaderMap) -> impl Iterator<Item = HeaderName> {
    let values = response.get_all(VARY).iter().filter_map(|value| value.to_str().ok());
    values.flat_map(|names| names.split(',')).filter_map(|name| name.trim().parse().ok())
}

fn after(time: Timestamp, seconds: i64) -> Timestamp {
    Timestamp::nearest(time.as_micros().saturating_add(seconds.saturating_mul(1_000_000)))
}

#[cfg(test)]
mod tests {
    use std::time::{Duration, SystemTime, UNIX_EPOCH};

    use http_cache_semantics::{CacheOptions, CachePolicy};
    use proptest::prelude::*;

    use super::*;

    /// 1994-11-06T08:49:37Z, the date of the examples in RFC 9110, section 5.6.7.
    const NOW: i64 = 784_111_777;

    fn at(seconds: i64) -> Timestamp {
        Timestamp::nearest(seconds * 1_000_000)
    }

    fn fields(lines: &[(&str, &str)]) -> HeaderMap {
        let mut map = HeaderMap::new();
        for (name, value) in lines {
            let name: HeaderName = name.parse().unwrap();
            map.append(name, HeaderValue::from_str(value).unwrap());
        }
        map
    }

    fn received(lines: &[(&str, &str)]) -> Validators {
        Validators::of(&HeaderMap::new(), &fields(lines), at(NOW), at(NOW))
    }

    /// For how many seconds a response is fresh that is received now, by section of RFC 9111.
    #[test]
    fn lifetimes_are_those_of_the_rfc() {
        let now = "Sun, 06 Nov 1994 08:49:37 GMT";
        type Case<'c> = (&'c str, &'c [(&'c str, &'c str)], i64);
        let cases: [Case<'_>; 28] = [
            (
                "1.2.2: a number that is too large is a large one",
                &[("cache-control", "max-age=99999999999999999999")],
                1 << 31,
            ),
            ("4.2.1: nothing is said, so the rule decides", &[], 30),
            ("4.2.1: max-age", &[("cache-control", "max-age=60")], 60),
            (
                "4.2.1: max-age goes before Expires",
                &[
                    ("cache-control", "max-age=60"),
                    ("expires", "Sun, 06 Nov 1994 08:49:47 GMT"),
                    ("date", now),
                ],
                60,
            ),
            (
                "4.2.1: Expires less Date",
                &[("expires", "Sun, 06 Nov 1994 08:49:47 GMT"), ("date", now)],
                10,
            ),
            (
                "4.2.1: of two max-age the stricter one",
                &[("cache-control", "max-age=60"), ("cache-control", "max-age=5")],
                5,
            ),
            ("4.2.1: max-age that is no number is stale", &[("cache-control", "max-age=soon")], 0),
            ("4.2.1: a negative max-age is stale", &[("cache-control", "max-age=-1")], 0),
            ("4.2.1: max-age without a number is stale", &[("cache-control", "max-age")], 0),
            (
                "4.2.3: an age that it has already",
                &[("cache-control", "max-age=60"), ("age", "20")],
                40,
            ),
            (
                "4.2.3: an age beyond its lifetime",
                &[("cache-control", "max-age=60"), ("age", "100")],
                -40,
            ),
            (
                "5.1: an age that is no number is ignored",
                &[("cache-control", "max-age=60"), ("age", "old")],
                60,
            ),
            (
                "5.1: of two ages the first",
                &[("cache-control", "max-age=60"), ("age", "10"), ("age", "50")],
                50,
            ),
            ("5.2: names are of either case", &[("cache-control", "Max-Age=60")], 60),
            ("5.2: an argument may be quoted", &[("cache-control", "max-age=\"60\"")], 60),
            (
                "5.2: a comma in quotes divides nothing",
                &[("cache-control", "x=\"a, max-age=5\", max-age=60")],
                60,
            ),
            (
                "5.2: an escaped quote ends nothing",
                &[("cache-control", r#"x="\", no-cache", max-age=60"#)],
                60,
            ),
            ("5.2.2.4: no-cache", &[("cache-control", "no-cache, max-age=60")], 0),
            (
                "5.2.2.4: no-cache with fields",
                &[("cache-control", "no-cache=\"set-cookie\", max-age=60")],
                0,
            ),
            ("5.2.2.5: no-store", &[("cache-control", "no-store, max-age=60")], 0),
            (
                "5.2.2.7: private is for such a cache",
                &[("cache-control", "private, max-age=60")],
                60,
            ),
            (
                "5.2.2.10: s-maxage is for shared caches",
                &[("cache-control", "s-maxage=5, max-age=60")],
                60,
            ),
            (
                "5.2.3: what is not known is ignored",
                &[("cache-control", "tomorrow, max-age=60")],
                60,
            ),
            ("5.3: Expires: 0 has expired", &[("expires", "0"), ("date", now)], 0),
            (
                "5.3: a date in the past",
                &[("expires", "Sun, 06 Nov 1994 08:49:27 GMT"), ("date", now)],
                0,
            ),
            (
                "5.3: Expires in the form of RFC 850",
                &[("expires", "Sunday, 06-Nov-94 08:49:47 GMT"), ("date", now)],
                10,
            ),
            (
                "5.3: Expires in the form of asctime",
                &[("expires", "Sun Nov  6 08:49:47 1994"), ("date", now)],
                10,
            ),
            (
                "4.1: Vary: * is selected by no request",
                &[("vary", "*"), ("cache-control", "max-age=60")],
                0,
            ),
        ];
        for (section, lines, seconds) in cases {
            let until = received(lines).freshness(Some(30)).until;
            assert_eq!(until, at(NOW + seconds), "{section}");
        }
    }

    /// What else is said of a stale answer, or of one that may not be kept.
    #[test]
    fn stale_answers_are_used_as_far_as_they_may() {
        let of = |control: &str| received(&[("cache-control", control)]).freshness(None);
        let stale = of("max-age=60, stale-while-revalidate=10, stale-if-error=100");
        assert_eq!((stale.while_revalidating, stale.if_error), (at(NOW + 70), at(NOW + 160)));
        let strict = of("max-age=60, must-revalidate, stale-if-error=100");
        assert_eq!(strict.if_error, at(NOW + 60), "5.2.2.2");
        assert!(of("max-age=60, immutable").is_immutable && of("no-store").no_store);
        assert_eq!(received(&[]).freshness(None).until, at(NOW), "without a word it is stale");
        let slow = Validators::of(
            &HeaderMap::new(),
            &fields(&[("cache-control", "max-age=60")]),
            at(NOW - 7),
            at(NOW),
        );
        assert_eq!(slow.freshness(None).until, at(NOW + 53), "4.2.3: the way is part of its age");
    }

    /// Sections 4.1, 4.3.1 and 4.3.4.
    #[test]
    fn requests_are_selected_made_conditional_and_answered_by_304() {
        let asked = fields(&[("accept-language", "de"), ("accept", "*/*")]);
        let lines = fields(&[
            ("vary", "Accept-Language"),
            ("etag", "\"a\""),
            ("last-modified", "Sun, 06 Nov 1994 08:49:37 GMT"),
            ("cache-control", "max-age=60"),
            ("age", "50"),
        ]);
        let known = Validators::of(&asked, &lines, at(NOW), at(NOW));
        assert!(known.is_selected_by(&fields(&[("accept-language", "de")])));
        assert!(!known.is_selected_by(&fields(&[("accept-language", "en")])));
        assert!(!known.is_selected_by(&HeaderMap::new()));

        let mut request = HeaderMap::new();
        assert!(known.make_conditional(&mut request));
        assert_eq!(request[IF_NONE_MATCH], "\"a\"");
        assert_eq!(request[IF_MODIFIED_SINCE], "Sun, 06 Nov 1994 08:49:37 GMT");
        assert!(!received(&[]).make_conditional(&mut HeaderMap::new()));

        let again = fields(&[("etag", "W/\"a\""), ("cache-control", "max-age=5")]);
        let fresh = known.freshened(&again, at(NOW + 20), at(NOW + 20)).unwrap();
        assert_eq!(
            fresh.freshness(None).until,
            at(NOW + 25),
            "the new lifetime, without the old age"
        );
        let bare = known.freshened(&HeaderMap::new(), at(NOW + 20), at(NOW + 20)).unwrap();
        assert_eq!(bare.freshness(None).until, at(NOW + 80), "the stored lifetime");
        assert_eq!(known.freshened(&fields(&[("etag", "\"b\"")]), at(NOW), at(NOW)), None);
    }

    fn field() -> impl Strategy<Value = (&'static str, String)> {
        let directive = prop_oneof![
            (0..200_u32).prop_map(|seconds| format!("max-age={seconds}")),
            Just("no-cache".to_owned()),
            Just("no-store".to_owned()),
            Just("private".to_owned()),
            Just("public".to_owned()),
            (0..99_u32).prop_map(|seconds| format!("s-maxage={seconds}")),
        ];
        let date = (NOW - 100..NOW + 200).prop_map(|seconds| {
            httpdate::fmt_http_date(UNIX_EPOCH + Duration::from_secs(seconds as u64))
        });
        prop_oneof![
            2 => directive.prop_map(|directive| ("cache-control", directive)),
            1 => (0..100_u32).prop_map(|age| ("age", age.to_string())),
            1 => date.prop_map(|date| ("expires", date)),
        ]
    }

    proptest! {
        /// A crate for the same purpose, whose first line of each field is all that it reads.
        #[test]
        fn a_second_opinion_is_the_same(lines in prop::collection::vec(field(), 0..4), later in 0..300_i64) {
            let mut lines = lines;
            let mut known: Vec<String> = Vec::new();
            lines.retain(|(name, value)| {
                let kind = format!("{name} {}", value.split('=').next().unwrap_or_default());
                let kind = if *name == "cache-control" { kind } else { (*name).to_owned() };
                !known.contains(&kind) && { known.push(kind); true }
            });
            let lines: Vec<(&str, &str)> =
                lines.iter().map(|(name, value)| (*name, value.as_str())).chain([("date", "Sun, 06 Nov 1994 08:49:37 GMT")]).collect();
            let until = received(&lines).freshness(None).until;
            let mut response = http::Response::new(());
            *response.headers_mut() = fields(&lines);
            let second = |seconds: i64| -> SystemTime { UNIX_EPOCH + Duration::from_secs(seconds as u64) };
            let options = CacheOptions {
                shared: false,
                cache_heuristic: 0.0,
                immutable_min_time_to_live: Duration::ZERO,
                ignore_cargo_cult: false,
            };
            let theirs = CachePolicy::new_options(&http::Request::new(()), &response, second(NOW), options);
            prop_assert_eq!(at(NOW + later) < until, !theirs.is_stale(second(NOW + later)), "{:?} {}", lines, later);
        }
    }
}
