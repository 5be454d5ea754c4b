//! URI Templates (RFC 6570) in reverse: does a URL match one, and with which values?
//!
//! The RFC says how a template and values become a URL. Here a URL is given, and the values are
//! looked for: all eight kinds of expression, prefixes and explode modifiers included. Query
//! parameters may stand in any order, and those that a template names may be missing; a URL with
//! one that the template does not name is another request.

/// A parsed URI Template.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Template {
    text: String,
    parts: Vec<Part>,
    /// Whether it says the scheme and host as well.
    is_absolute: bool,
    has_fragment: bool,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Literal(String),
    Expression { operator: Operator, variables: Vec<Variable> },
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Variable {
    name: String,
    explode: bool,
}

/// The kinds of expression, by the letter that they begin with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Operator {
    Simple,
    Reserved,
    Fragment,
    Label,
    Path,
    Parameters,
    Query,
    More,
}

/// The values of a request's variables, by name.
pub(crate) type Variables = Vec<(String, String)>;

impl Template {
    /// Whether both recognise the same URLs, whatever they call what stands in the path.
    pub(crate) fn recognises_what(&self, other: &Self) -> bool {
        let is_named = |operator: &Operator| {
            matches!(operator, Operator::Parameters | Operator::Query | Operator::More)
        };
        let same = |(one, other): (&Part, &Part)| match (one, other) {
            (
                Part::Expression { operator, variables },
                Part::Expression { operator: its, variables: theirs },
            ) if !is_named(operator) => {
                let explodes = |all: &[Variable]| -> Vec<bool> {
                    all.iter().map(|variable| variable.explode).collect()
                };
                operator == its && explodes(variables) == explodes(theirs)
            }
            _ => one == other,
        };
        self.parts.len() == other.parts.len() && self.parts.iter().zip(&other.parts).all(same)
    }

    /// Reads a template.
    pub(crate) fn parse(text: &str) -> Result<Self, String> {
        let (mut parts, mut rest) = (Vec::new(), text);
        while !rest.is_empty() {
            let Some(open) = rest.find(['{', '}']) else {
                parts.push(Part::Literal(rest.to_owned()));
                break;
            };
            if rest[open..].starts_with('}') {
                return Err("a \"}\" closes no expression".to_owned());
            }
            if open > 0 {
                parts.push(Part::Literal(rest[..open].to_owned()));
            }
            let Some(close) = rest[open..].find('}').map(|close| open + close) else {
                return Err("a \"{\" is not closed".to_owned());
            };
            parts.push(expression(&rest[open + 1..close])?);
            rest = &rest[close + 1..];
        }
        let has_fragment = parts.iter().any(|part| match part {
            Part::Literal(text) => text.contains('#'),
            Part::Expression { operator, .. } => *operator == Operator::Fragment,
        });
        Ok(Self { text: text.to_owned(), parts, is_absolute: text.contains("://"), has_fragment })
    }

    pub(crate) fn as_str(&self) -> &str {
        &self.text
    }

    /// The names of its variables, in their order.
    pub(crate) fn variables(&self) -> impl Iterator<Item = &str> {
        self.parts
            .iter()
            .flat_map(|part| match part {
                Part::Literal(_) => [].iter(),
                Part::Expression { variables, .. } => variables.iter(),
            })
            .map(|variable| variable.name.as_str())
    }

    /// The variables that have to have a value for there to be a URL: those of its path.
    #[cfg(feature = "remote")]
    pub(crate) fn in_path(&self) -> impl Iterator<Item = &str> {
        self.parts
            .iter()
            .flat_map(|part| match part {
                Part::Expression {
                    operator: Operator::Query | Operator::More | Operator::Fragment,
                    ..
                }
                | Part::Literal(_) => [].iter(),
                Part::Expression { variables, .. } => variables.iter(),
            })
            .map(|variable| variable.name.as_str())
    }

    /// Whether its path ends with the value of this variable alone.
    #[cfg(feature = "remote")]
    pub(crate) fn ends_in(&self, name: &str) -> bool {
        let is_path = |part: &&Part| {
            !matches!(
                part,
                Part::Expression {
                    operator: Operator::Query | Operator::More | Operator::Fragment,
                    ..
                }
            )
        };
        match self.parts.iter().take_while(is_path).last() {
            Some(Part::Expression { variables, .. }) => {
                variables.len() == 1 && variables[0].name == name
            }
            _ => false,
        }
    }

    /// The variable that takes several values.
    #[cfg(feature = "remote")]
    pub(crate) fn exploded(&self) -> Option<&str> {
        self.parts.iter().find_map(|part| match part {
            Part::Literal(_) => None,
            Part::Expression { variables, .. } => {
                variables.iter().find(|variable| variable.explode).map(|v| v.name.as_str())
            }
        })
    }

    /// Whether each element of a variable stands for itself.
    #[cfg(feature = "remote")]
    pub(crate) fn explodes(&self, name: &str) -> bool {
        self.parts.iter().any(|part| match part {
            Part::Literal(_) => false,
            Part::Expression { variables, .. } => {
                variables.iter().any(|variable| variable.explode && variable.name == name)
            }
        })
    }

    /// How much of it is said letter by letter: of two templates that fit, the one that says more
    /// is meant.
    pub(crate) fn letters(&self) -> usize {
        let letters = self.parts.iter().map(|part| match part {
            Part::Literal(text) => text.len(),
            Part::Expression { .. } => 0,
        });
        letters.sum()
    }

    /// The values with which this template becomes that URL. A template without a scheme is
    /// compared with the URL's path and query alone.
    pub(crate) fn matches(&self, url: &str) -> Option<Variables> {
        self.matches_either(url, path_and_query(url))
    }

    /// As [`Self::matches`], given a URL and its path and query.
    pub(super) fn matches_either(&self, url: &str, path: &str) -> Option<Variables> {
        let url = if self.is_absolute { url } else { path };
        if let Some(Part::Literal(first)) = self.parts.first()
            && !url.starts_with(first.as_str())
        {
            return None;
        }
        // What a template does not speak of never reaches a server.
        let url = if self.has_fragment { url } else { url.split('#').next().unwrap_or(url) };
        let mut found = Variables::new();
        matched(&self.parts, url, &mut found).then_some(found)
    }
}

/// What of a URL stands behind scheme and host: its path, query and fragment.
pub(crate) fn path_and_query(url: &str) -> &str {
    // Behind a path such text is a parameter's value.
    let end = url.bytes().position(|byte| matches!(byte, b':' | b'/' | b'?' | b'#'));
    match end.and_then(|end| url[end..].strip_prefix("://")) {
        None => url,
        Some(rest) => {
            let start = rest.bytes().position(|byte| matches!(byte, b'/' | b'?' | b'#'));
            start.map_or("/", |start| &rest[start..])
        }
    }
}

fn expression(text: &str) -> Result<Part, String> {
    let (operator, list) = match text.chars().next() {
        Some('+') => (Operator::Reserved, &text[1..]),
        Some('#') => (Operator::Fragment, &text[1..]),
        Some('.') => (Operator::Label, &text[1..]),
        Some('/') => (Operator::Path, &text[1..]),
        Some(';') => (Operator::Parameters, &text[1..]),
        Some('?') => (Operator::Query, &text[1..]),
        Some('&') => (Operator::More, &text[1..]),
        _ => (Operator::Simple, text),
    };
    let variables = list.split(',').map(|spec| {
        let explode = spec.ends_with('*');
        let name = spec.strip_suffix('*').unwrap_or(spec);
        // A prefix says how much of a value stands there; backwards, that is all there is of it.
        let name = match name.split_once(':') {
            Some((name, length)) if length.parse::<u16>().is_ok_and(|n| n > 0) && !explode => name,
            Some(_) => return Err(format!("{{{text}}} has a modifier that is none")),
            None => name,
        };
        let plain = |c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | '%');
        if name.is_empty() || !name.chars().all(plain) {
            return Err(format!("{{{text}}} names a variable \"{name}\""));
        }
        Ok(Variable { name: name.to_owned(), explode })
    });
    Ok(Part::Expression { operator, variables: variables.collect::<Result<_, _>>()? })
}

/// Whether parts become a text; adds the values.
fn matched(parts: &[Part], text: &str, found: &mut Variables) -> bool {
    let Some((part, rest)) = parts.split_first() else { return text.is_empty() };
    match part {
        Part::Literal(literal) => {
            text.strip_prefix(literal.as_str()).is_some_and(|text| matched(rest, text, found))
        }
        Part::Expression { operator: operator @ (Operator::Query | Operator::More), variables } => {
            query(*operator, variables, rest, text, found)
        }
        Part::Expression { operator, variables } => {
            // The longest first, as a URL's parts are filled from the left.
            let ends = operator.reach(text);
            let known = found.len();
            for end in ends.into_iter().rev() {
                if operator.take(variables, &text[..end], found)
                    && matched(rest, &text[end..], found)
                {
                    return true;
                }
                found.truncate(known);
            }
            false
        }
    }
}

impl Operator {
    /// The letter in front of the first value, if there is one.
    fn first(self) -> Option<char> {
        match self {
            Operator::Simple | Operator::Reserved => None,
            Operator::Fragment => Some('#'),
            Operator::Label => Some('.'),
            Operator::Path => Some('/'),
            Operator::Parameters => Some(';'),
            Operator::Query => Some('?'),
            Operator::More => Some('&'),
        }
    }

    /// What stands between two values.
    fn between(self) -> char {
        match self {
            Operator::Simple | Operator::Reserved | Operator::Fragment => ',',
            Operator::Label => '.',
            Operator::Path => '/',
            Operator::Parameters => ';',
            Operator::Query | Operator::More => '&',
        }
    }

    /// The places at which an expression that begins here may end.
    fn reach(self, text: &str) -> Vec<usize> {
        let stays = |c: char| match self {
            Operator::Reserved | Operator::Fragment => true,
            _ => {
                c.is_alphanumeric()
                    || matches!(c, '-' | '.' | '_' | '~' | '%' | ',' | '=')
                    // What browsers leave as it is in a path, although it could be encoded.
                    || matches!((self, c), (Operator::Simple, ':' | '@' | '!' | '$' | '\'' | '(' | ')' | '*' | '+' | '{' | '}'))
                    || Some(c) == self.first()
            }
        };
        // An expression whose values are all undefined leaves nothing.
        let mut ends = vec![0];
        if self.first().is_some_and(|first| !text.starts_with(first)) {
            return ends;
        }
        for (at, letter) in text.char_indices() {
            if !stays(letter) {
                break;
            }
            ends.push(at + letter.len_utf8());
        }
        ends
    }

    /// Takes the values out of an expression's text, if it is one.
    fn take(self, variables: &[Variable], text: &str, found: &mut Variables) -> bool {
        let values = match self.first() {
            _ if text.is_empty() => return self.first().is_some(),
            None => text,
            Some(first) => match text.strip_prefix(first) {
                Some(values) => values,
                None => return false,
            },
        };
        if self == Operator::Parameters {
            return values.split(';').all(|pair| {
                let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
                named(variables, name, value, found)
            });
        }
        let mut values = values.split(self.between()).peekable();
        for (number, variable) in variables.iter().enumerate() {
            let last = number + 1 == variables.len();
            let Some(value) = values.next() else { break };
            let mut value = decoded(value);
            // The last one takes what is left, if it may be a list.
            let list = variable.explode || self.between() == ',';
            while last && list && values.peek().is_some() {
                value = value + "," + &decoded(values.next().unwrap_or_default());
            }
            found.push((variable.name.clone(), value));
        }
        values.next().is_none()
    }
}

/// Takes query parameters in any order, up to the fragment.
fn query(
    operator: Operator,
    variables: &[Variable],
    rest: &[Part],
    text: &str,
    found: &mut Variables,
) -> bool {
    let Some(text) = text.strip_prefix(operator.first().unwrap_or('?')) else {
        // All of them are undefined.
        return matched(rest, text, found);
    };
    let end = text.find('#').unwrap_or(text.len());
    let pairs = text[..end].split('&').filter(|pair| !pair.is_empty());
    // Parameters that this expression does not name are left to those behind it.
    let mut others = String::new();
    for pair in pairs {
        let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
        if !named(variables, name, &value.replace('+', " "), found) {
            others = others + "&" + pair;
        }
    }
    others.push_str(&text[end..]);
    matched(rest, &others, found)
}

/// Takes a value by its name; a repeated name makes a list.
fn named(variables: &[Variable], name: &str, value: &str, found: &mut Variables) -> bool {
    let name = decoded(name);
    // A variable's name may be percent-encoded itself, such as `filter%5Bport%5D`.
    let is_it = |variable: &&Variable| match variable.name.contains('%') {
        false => variable.name == name,
        true => decoded(&variable.name) == name,
    };
    let Some(variable) = variables.iter().find(is_it) else {
        return false;
    };
    let name = variable.name.clone();
    let value = decoded(value);
    match found.iter_mut().find(|(known, _)| *known == name) {
        Some((_, list)) if variable.explode => *list = format!("{list},{value}"),
        Some((_, last)) => *last = value,
        None => found.push((name, value)),
    }
    true
}

/// A text without percent-encoding (RFC 3986); one that is not UTF-8 stays as it was.
pub(crate) fn decoded(text: &str) -> String {
    if !text.contains('%') {
        return text.to_owned();
    }
    let bytes = text.as_bytes();
    let (mut out, mut at) = (Vec::with_capacity(bytes.len()), 0);
    while at < bytes.len() {
        let hex = bytes.get(at + 1..at + 3).and_then(|hex| std::str::from_utf8(hex).ok());
        match hex.and_then(|hex| u8::from_str_radix(hex, 16).ok()) {
            Some(byte) if bytes[at] == b'%' => {
                out.push(byte);
                at += 3;
            }
            _ => {
                out.push(bytes[at]);
                at += 1;
            }
        }
    }
    String::from_utf8(out).unwrap_or_else(|_| text.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn values(template: &str, url: &str) -> Option<String> {
        let found = Template::parse(template).unwrap().matches(url)?;
        let listed = found.iter().map(|(name, value)| format!("{name}={value}"));
        Some(listed.collect::<Vec<_>>().join(" "))
    }

    /// The expansions of RFC 6570, section 3.2, backwards; and what a server's URLs look like.
    #[test]
    fn finds_the_values_that_make_a_url() {
        let fits = [
            ("/sailings/{id}", "/sailings/311", "id=311"),
            ("/sailings/{id}", "https://api.example/sailings/311#top", "id=311"),
            ("https://api.example/{v}", "https://api.example/x", "v=x"),
            ("/departures{?port,page}", "/departures?page=2&port=SAL", "page=2 port=SAL"),
            ("/departures{?port,page}", "/departures", ""),
            (
                "/departures{?port,page}",
                "/departures?port=Saltmere+Quay%2C%20E",
                "port=Saltmere Quay, E",
            ),
            ("/departures?port=SAL{&page}", "/departures?port=SAL&page=3", "page=3"),
            ("/a{?x}{&y}", "/a?y=1&x=2", "x=2 y=1"),
            ("/a{?ids*}", "/a?ids=1&ids=2", "ids=1,2"),
            ("/a{?filter%5Bport%5D}", "/a?filter[port]=SAL", "filter%5Bport%5D=SAL"),
            ("/a{?filter%5Bport%5D}", "/a?filter%5bport%5d=SAL", "filter%5Bport%5D=SAL"),
            ("/of/{who}/x", "/of/me@ferries.example:1/x", "who=me@ferries.example:1"),
            ("{/var}", "/value", "var=value"),
            ("{/var,x}/here", "/value/1024/here", "var=value x=1024"),
            ("{/list*}", "/red/green/blue", "list=red,green,blue"),
            ("X{.var}", "X.value", "var=value"),
            ("{;x,y}", ";x=1024;y=768", "x=1024 y=768"),
            ("{+path}/here", "/foo/bar/here", "path=/foo/bar"),
            ("up{+path}{var}/here", "up/foo/barvalue/here", "path=/foo/barvalu var=e"),
            ("{#x,hello}", "#1024,Hello", "x=1024 hello=Hello"),
            ("{x,y}", "1024,768", "x=1024 y=768"),
            ("map?{x,y}", "map?1024,768", "x=1024 y=768"),
            ("{var:3}", "val", "var=val"),
            ("/é/{x}", "/é/%C3%A9", "x=é"),
        ];
        for (template, url, wanted) in fits {
            assert_eq!(values(template, url).as_deref(), Some(wanted), "{template} {url}");
        }
        let others = [
            ("/sailings/{id}", "/sailings/311/bookings"),
            ("/sailings/{id}", "/sailings/"),
            ("/sailings/{id}", "/sailings/311?verbose=1"),
            ("/departures{?port}", "/departures?port=SAL&lang=de"),
            ("https://api.example/{v}", "https://other.example/x"),
        ];
        for (template, url) in others {
            assert_eq!(values(template, url), None, "{template} {url}");
        }
        for wrong in ["/{", "/}", "/{}", "/{a:x}", "/{a b}", "/{a*:3}"] {
            assert!(Template::parse(wrong).is_err(), "{wrong}");
        }
    }

    use iri_string::spec::UriSpec;
    use iri_string::template::{UriTemplateStr, simple_context::SimpleContext};
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// A template that another crate has expanded gives its values back.
        #[test]
        fn values_come_back_from_what_they_were_expanded_to(
            template in prop::sample::select(vec![
                "/a/{x}", "/a/{x}/b/{y}", "{/x,y}/end", "/a{?x,y}", "/a{?y}{&x}", "/a?k=v{&x,y}", "/a{;x,y}", "/a{/x}{?y}",
                "https://h.example/{x}{#y}",
            ]),
            x in "[a-z0-9 é%/?&=+,#]{1,8}",
            y in "[A-Z0-9 :@!$'()*]{1,8}",
        ) {
            let mut context = SimpleContext::new();
            context.insert("x", x.as_str());
            context.insert("y", y.as_str());
            let expanded = UriTemplateStr::new(template).unwrap().expand::<UriSpec, _>(&context).unwrap();
            let url = expanded.to_string();
            let found = Template::parse(template).unwrap().matches(&url);
            let mut found = found.ok_or_else(|| TestCaseError::fail(format!("{template} {url}")))?;
            found.sort();
            let mut wanted = vec![("x".to_owned(), x), ("y".to_owned(), y)];
            wanted.retain(|(name, _)| template.contains(name.as_str()) && Template::parse(template).unwrap().variables().any(|v| v == name));
            prop_assert_eq!(found, wanted, "{} {}", template, url);
        }
    }
}
