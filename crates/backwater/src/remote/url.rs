//! From a rule's template and the values of its variables to a URL.

use compact_str::CompactString;
use http::HeaderMap;
use http::header::{CONTENT_LOCATION, LINK, LOCATION};
use iri_string::spec::UriSpec;
use iri_string::template::UriTemplateStr;
use iri_string::template::simple_context::{SimpleContext, Value};
use iri_string::types::{UriAbsoluteStr, UriReferenceStr};
use serde_json::value::RawValue;

use crate::error::{Error, ErrorKind, Result};
use crate::schema::{Template, Variables};

/// A URL that paths can be put behind: with a scheme and a host, without a query.
pub(super) fn check_base(base: &str) -> Result<()> {
    let is_url = base
        .parse::<http::Uri>()
        .is_ok_and(|uri| uri.scheme().is_some() && uri.host().is_some_and(|host| !host.is_empty()));
    if is_url && !base.contains(['?', '#']) {
        return Ok(());
    }
    Err(Error::new(ErrorKind::Schema, format!("found {base:?}, expected a base URL"))
        .help("give one such as https://ferries.example/api, without a query, by `base`"))
}

/// The URL of a request (RFC 6570); a template without a scheme is put behind the base. A variable
/// that the template explodes may be a JSON array.
pub(super) fn expand(
    base: &str,
    template: &Template,
    values: &[(CompactString, CompactString)],
) -> Result<String> {
    let text = template.as_str();
    let wrong = |message: String| Error::new(ErrorKind::Parameter, message);
    let mut context = SimpleContext::new();
    for (name, value) in values {
        let list = template.explodes(name).then(|| elements(value)).flatten();
        context.insert(
            name.as_str(),
            match list {
                Some(list) => Value::List(list),
                None => Value::String(value.to_string()),
            },
        );
    }
    let parsed = UriTemplateStr::new(text)
        .map_err(|error| wrong(format!("{text} cannot be expanded: {error}")))?;
    let url = parsed
        .expand::<UriSpec, _>(&context)
        .map_err(|error| wrong(format!("{text} cannot be expanded: {error}")))?
        .to_string();
    // Judged by the rule's template: a variable's value must not choose the host.
    if has_scheme(text) {
        return Ok(url);
    }
    let slash = if url.is_empty() || url.starts_with(['/', '?']) { "" } else { "/" };
    Ok(format!("{}{slash}{url}", base.trim_end_matches('/')))
}

/// The elements of a JSON array of texts and numbers.
fn elements(text: &str) -> Option<Vec<String>> {
    let list: Vec<serde_json::Value> = serde_json::from_str(text).ok()?;
    let text = |value: serde_json::Value| match value {
        serde_json::Value::String(text) => text,
        other => other.to_string(),
    };
    Some(list.into_iter().map(text).collect())
}

/// The values of a template's variables in a URL that a server names, relative to the URL of its
/// response. `None` if it is not of the template's form, or not on the same host.
pub(super) fn variables_of(
    base: &str,
    template: &Template,
    response: &str,
    named: &str,
) -> Option<Variables> {
    let url = resolve(response, named)?;
    if !is_same_origin(&url, response) {
        return None;
    }
    match has_scheme(template.as_str()) {
        true => template.matches(&url),
        false => template.matches(url.strip_prefix(base.trim_end_matches('/'))?),
    }
}

/// A URL of a program, which may be relative to the base as a rule's is.
pub(super) fn absolute(base: &str, url: &str) -> String {
    match has_scheme(url) {
        true => url.to_owned(),
        false => format!("{}/{}", base.trim_end_matches('/'), url.trim_start_matches('/')),
    }
}

/// The URLs whose answers an unsafe request has made stale (RFC 9111, section 4.4): its own, and
/// those on the same host that its response names.
pub(super) fn changed_by(base: &str, url: &str, response: &HeaderMap) -> Vec<String> {
    let target = absolute(base, url);
    let named = |name| response.get(name).and_then(|url| url.to_str().ok());
    let named = [named(LOCATION), named(CONTENT_LOCATION)].into_iter().flatten();
    let named = named.filter_map(|named| resolve(&target, named));
    let mut urls: Vec<String> = named.filter(|url| is_same_origin(url, &target)).collect();
    urls.push(target);
    urls
}

/// A URL relative to another one.
pub(super) fn resolve(from: &str, named: &str) -> Option<String> {
    let from = UriAbsoluteStr::new(from.split('#').next().unwrap_or(from)).ok()?;
    Some(UriReferenceStr::new(named).ok()?.resolve_against(from).to_string())
}

/// Whether two URLs have the same scheme, host and port.
pub(super) fn is_same_origin(one: &str, other: &str) -> bool {
    let origin = |url: &str| {
        let uri = url.parse::<http::Uri>().ok()?;
        let (scheme, host) = (uri.scheme_str()?.to_ascii_lowercase(), uri.host()?.to_lowercase());
        let usual = if scheme == "https" { 443 } else { 80 };
        let port = uri.port_u16().unwrap_or(usual);
        Some((scheme, host, port))
    };
    origin(one).is_some_and(|one| origin(other) == Some(one))
}

/// The URL of a header field `Link` whose relation is `next` (RFC 8288).
pub(super) fn next_link(headers: &HeaderMap) -> Option<Box<str>> {
    let values = headers.get_all(LINK).iter().filter_map(|value| value.to_str().ok());
    for value in values {
        let mut rest = value;
        while let Some(start) = rest.find('<') {
            let Some(end) = rest[start..].find('>') else { break };
            let url = &rest[start + 1..start + end];
            let parameters = &rest[start + end + 1..];
            // A comma ends a link, unless it is within quotation marks.
            let mut is_quoted = false;
            let ends = parameters.find(|letter| {
                is_quoted ^= letter == '"';
                letter == ',' && !is_quoted
            });
            let (own, others) = parameters.split_at(ends.unwrap_or(parameters.len()));
            let is_next = own.split(';').any(|parameter| {
                let Some((name, value)) = parameter.split_once('=') else { return false };
                let value = value.trim().trim_matches('"');
                name.trim().eq_ignore_ascii_case("rel")
                    && value.split_ascii_whitespace().any(|rel| rel.eq_ignore_ascii_case("next"))
            });
            if is_next {
                return Some(url.trim().into());
            }
            rest = others;
        }
    }
    None
}

/// A member of a JSON text, if it is a text or a number there. The rest is not kept.
pub(super) fn member(body: &[u8], path: &[String]) -> Option<Box<str>> {
    let found = match serde_json::from_str(raw_member(body, path)?.get()).ok()? {
        serde_json::Value::String(text) => text,
        serde_json::Value::Number(number) => number.to_string(),
        // A link of JSON:API may be an object.
        serde_json::Value::Object(link) => link.get("href")?.as_str()?.to_owned(),
        _ => return None,
    };
    (!found.is_empty()).then(|| found.into())
}

/// A member of a JSON text, as it is spelled there.
pub(super) fn raw_member<'t>(body: &'t [u8], path: &[String]) -> Option<&'t RawValue> {
    let mut at: &RawValue = serde_json::from_slice(body).ok()?;
    for name in path {
        let text = at.get();
        at = match text.starts_with('[') {
            true => {
                let list: Vec<&RawValue> = serde_json::from_str(text).ok()?;
                *list.get(name.parse::<usize>().ok()?)?
            }
            false => {
                let members: Vec<Member<'_>> = members(text)?;
                members.into_iter().rev().find(|(known, _)| known == name)?.1
            }
        };
    }
    Some(at)
}

type Member<'t> = (std::borrow::Cow<'t, str>, &'t RawValue);

fn members(text: &str) -> Option<Vec<Member<'_>>> {
    struct Members<'t>(Vec<Member<'t>>);
    impl<'de> serde::Deserialize<'de> for Members<'de> {
        fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
            struct Visitor;
            impl<'de> serde::de::Visitor<'de> for Visitor {
                type Value = Members<'de>;
                fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                    f.write_str("an object")
                }
                fn visit_map<A: serde::de::MapAccess<'de>>(
                    self,
                    mut map: A,
                ) -> Result<Self::Value, A::Error> {
                    let mut members = Vec::new();
                    while let Some(name) = map.next_key::<std::borrow::Cow<'de, str>>()? {
                        members.push((name, map.next_value::<&'de RawValue>()?));
                    }
                    Ok(Members(members))
                }
            }
            from.deserialize_map(Visitor)
        }
    }
    serde_json::from_str::<Members<'_>>(text).ok().map(|members| members.0)
}

fn has_scheme(template: &str) -> bool {
    template.split_once("://").is_some_and(|(scheme, _)| {
        scheme.starts_with(|first: char| first.is_ascii_alphabetic())
            && scheme.chars().all(|c| c.is_ascii_alphanumeric() || "+-.".contains(c))
    })
}
