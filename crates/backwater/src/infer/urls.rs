//! Which requests are answered by one rule: their URLs are one URI Template (RFC 6570).

use std::collections::HashMap;

use super::evidence::{ShapeNo, hash, is_like_an_id};
use super::words::{names_a_thing, singular, snake};
use crate::schema::decoded;

/// Query variables that number the pages of a list.
const PAGING: [&str; 8] = ["page", "offset", "cursor", "after", "before", "start", "skip", "from"];
/// From this many on, words that differ in otherwise equal paths are a variable.
const DIFFERENT: usize = 3;
/// This many of them are tried as what the others are like.
const LEADERS: usize = 4;

/// What a request is for, its variables apart.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) struct Target {
    pub(super) method: String,
    /// Scheme and host.
    pub(super) origin: String,
    pub(super) segments: Vec<Segment>,
    /// The name of the rule, where there is no URL.
    pub(super) named: Option<String>,
}

/// A part of a path between slashes.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) enum Segment {
    Fixed(String),
    Variable,
}

impl Segment {
    fn fixed(&self) -> Option<&str> {
        match self {
            Segment::Fixed(text) => Some(text),
            Segment::Variable => None,
        }
    }
}

/// Requests that differ in nothing but what are surely variables.
pub(super) struct Path {
    pub(super) target: Target,
    /// What stood in the variables, segment by segment.
    pub(super) values: Vec<Vec<String>>,
    /// Variables of the query, with what was seen in them.
    pub(super) query: Vec<(String, Vec<String>)>,
    pub(super) samples: Vec<usize>,
    /// Where the responses stand; none for a request that deletes.
    pub(super) roots: Vec<ShapeNo>,
}

/// A URL taken apart: what it is for, what stands in its variables, its query.
pub(super) struct Parts {
    pub(super) target: Target,
    pub(super) values: Vec<String>,
    pub(super) query: Vec<(String, String)>,
}

impl Parts {
    /// Of a response whose request is not known, but the name of its rule.
    pub(super) fn named(name: &str) -> Self {
        let unknown = Self::of("GET", "");
        Self { target: Target { named: Some(name.to_owned()), ..unknown.target }, ..unknown }
    }

    pub(super) fn of(method: &str, url: &str) -> Self {
        let url = url.split('#').next().unwrap_or(url);
        let (origin, rest) = match url.split_once("://") {
            None => (String::new(), url),
            Some((scheme, rest)) => {
                let end = rest.find(['/', '?']).unwrap_or(rest.len());
                (format!("{scheme}://{}", &rest[..end]), &rest[end..])
            }
        };
        let (path, query) = rest.split_once('?').unwrap_or((rest, ""));
        let path = path.strip_prefix('/').unwrap_or(path);
        let mut values = Vec::new();
        let segments = path.split('/').map(|segment| {
            let braces = segment.contains(['{', '}']);
            if braces || (is_like_an_id(segment) && can_be_variable(segment)) {
                values.push(decoded(segment));
                return Segment::Variable;
            }
            Segment::Fixed(segment.to_owned())
        });
        let segments = segments.collect();
        let pairs = query.split('&').filter(|pair| !pair.is_empty());
        let query = pairs.map(|pair| {
            let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
            (decoded(name), decoded(value))
        });
        let target = Target { method: method.to_owned(), origin, segments, named: None };
        Self { target, values, query: query.collect() }
    }
}

/// Whether a template's variable becomes this as it stands.
fn can_be_variable(segment: &str) -> bool {
    let stays = |c: char| c.is_alphanumeric() || "-._~%,=:@!$'()*+".contains(c);
    !segment.is_empty() && segment.chars().all(stays)
}

impl Path {
    /// The path of one sample.
    pub(super) fn new(sample: usize, parts: Parts) -> Self {
        let values = parts.values.into_iter().map(|value| vec![value]).collect();
        let (query, roots) = (Vec::new(), Vec::new());
        let mut path = Self { target: parts.target, values, query, samples: vec![sample], roots };
        parts.query.into_iter().for_each(|(name, value)| path.add_query(name, vec![value]));
        path
    }

    /// Adds what was seen in a variable of the query.
    fn add_query(&mut self, name: String, values: Vec<String>) {
        match self.query.iter_mut().find(|(known, _)| *known == name) {
            Some((_, known)) => known.extend(values),
            None => self.query.push((name, values)),
        }
    }

    /// How many variables stand in front of a segment.
    fn variables_before(&self, segment: usize) -> usize {
        let before = self.target.segments[..segment].iter();
        before.filter(|segment| **segment == Segment::Variable).count()
    }

    /// The values in the variable of that segment.
    pub(super) fn values_at(&self, segment: usize) -> &[String] {
        self.values.get(self.variables_before(segment)).map_or(&[], Vec::as_slice)
    }

    /// Makes a variable of a fixed segment.
    fn vary(&mut self, segment: usize) {
        let Segment::Fixed(text) = &self.target.segments[segment] else { return };
        let value = decoded(text);
        self.values.insert(self.variables_before(segment), vec![value]);
        self.target.segments[segment] = Segment::Variable;
    }

    fn absorb(&mut self, other: Path) {
        for (mine, others) in self.values.iter_mut().zip(other.values) {
            mine.extend(others);
        }
        other.query.into_iter().for_each(|(name, values)| self.add_query(name, values));
        self.samples.extend(other.samples);
        self.roots.extend(other.roots);
    }

    /// The variable's name that stands in that segment: by what is in front of it.
    fn before(&self, segment: usize) -> Option<&str> {
        let before = segment.checked_sub(1).and_then(|before| self.target.segments[before].fixed());
        before.filter(|name| names_a_thing(name))
    }
}

/// Whether a segment is an id of what the path names in front of it.
pub(super) trait KnownIds {
    fn is_id_of(&self, what: &str, hash: u64) -> bool;
}

/// Finds the variables that only show when everything is known, and puts paths together that are
/// one template. `alike` says whether responses hold the same.
pub(super) fn templates(
    mut paths: Vec<Path>,
    known: &impl KnownIds,
    alike: impl Fn(&Path, &Path) -> bool,
) -> Vec<Path> {
    for path in &mut paths {
        for segment in 1..path.target.segments.len() {
            let Segment::Fixed(text) = &path.target.segments[segment] else { continue };
            let id = hash(&decoded(text)) | 1;
            let what = path.before(segment).map(singular);
            let is_id = what.is_some_and(|what| known.is_id_of(&what, id));
            if is_id && can_be_variable(text) {
                path.vary(segment);
            }
        }
    }
    let mut paths = together(paths);
    while let Some((segment, set)) = siblings(&paths, &alike) {
        set.into_iter().for_each(|number| paths[number].vary(segment));
        paths = together(paths);
    }
    paths
}

/// Paths that differ in one word only and hold the same, if there are several.
fn siblings(paths: &[Path], alike: &impl Fn(&Path, &Path) -> bool) -> Option<(usize, Vec<usize>)> {
    let longest = paths.iter().map(|path| path.target.segments.len()).max()?;
    for segment in 1..longest {
        let mut sets: Vec<Vec<usize>> = Vec::new();
        let mut places: HashMap<Target, usize> = HashMap::new();
        for (number, path) in paths.iter().enumerate() {
            let word = path.target.segments.get(segment).and_then(Segment::fixed);
            if !word.is_some_and(can_be_variable) || path.before(segment).is_none() {
                continue;
            }
            let mut target = path.target.clone();
            target.segments[segment] = Segment::Variable;
            let place = *places.entry(target).or_insert(sets.len());
            if place == sets.len() {
                sets.push(Vec::new());
            }
            sets[place].push(number);
        }
        for set in sets.iter().filter(|set| set.len() >= DIFFERENT) {
            // One or another may be something else that only stands in the same place.
            for first in set.iter().take(LEADERS) {
                let same = set.iter().filter(|other| alike(&paths[*first], &paths[**other]));
                let same: Vec<usize> = same.copied().collect();
                if same.len() >= DIFFERENT {
                    return Some((segment, same));
                }
            }
        }
    }
    None
}

/// Puts paths to one target together.
pub(super) fn together(paths: impl IntoIterator<Item = Path>) -> Vec<Path> {
    let mut out: Vec<Path> = Vec::new();
    for path in paths {
        match out.iter_mut().find(|known| known.target == path.target) {
            Some(known) => known.absorb(path),
            None => out.push(path),
        }
    }
    out
}

/// A variable of a template.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Variable {
    pub(super) name: String,
    /// What stands in front of it, in the singular.
    pub(super) of: Option<String>,
    pub(super) segment: usize,
}

/// The template's text, the variables of its path, and those of its query.
pub(super) struct Template {
    pub(super) text: String,
    pub(super) variables: Vec<Variable>,
    pub(super) query: Vec<String>,
}

impl Template {
    /// Writes the template of a path; `last` is what a variable at its end is called.
    pub(super) fn of(path: &Path, absolute: bool, last: Option<&str>) -> Self {
        let (mut text, mut variables) = (String::new(), Vec::<Variable>::new());
        if absolute {
            text.push_str(&path.target.origin);
        }
        let mut names = super::words::Taken::default();
        for (segment, part) in path.target.segments.iter().enumerate() {
            text.push('/');
            let Some(fixed) = part.fixed() else {
                let of = path.before(segment).map(singular);
                let is_last = segment + 1 == path.target.segments.len();
                let name = last.filter(|_| is_last).map(snake);
                let name = names.take(&name.or(of.clone()).unwrap_or_else(|| "id".to_owned()));
                text.push_str(&format!("{{{name}}}"));
                variables.push(Variable { name, of, segment });
                continue;
            };
            text.push_str(fixed);
        }
        let query: Vec<String> = path.query.iter().map(|(name, _)| encoded(name)).collect();
        let query: Vec<String> = query.into_iter().filter(|name| names.is_free(name)).collect();
        if !query.is_empty() {
            text.push_str(&format!("{{?{}}}", query.join(",")));
        }
        Self { text, variables, query }
    }
}

/// A variable's name: letters, digits, `_` and what is percent-encoded.
fn encoded(name: &str) -> String {
    let mut out = String::new();
    for byte in name.bytes() {
        if byte.is_ascii_alphanumeric() || byte == b'_' {
            out.push(char::from(byte));
        } else {
            out.push_str(&format!("%{byte:02X}"));
        }
    }
    out
}

/// The variable of a query that numbers the pages of a list.
pub(super) fn paging(query: &[String]) -> Option<&str> {
    PAGING.iter().find_map(|paging| {
        query.iter().map(String::as_str).find(|name| {
            let name = snake(name);
            name == *paging
                || name.ends_with(&format!("_{paging}"))
                || name.starts_with(&format!("{paging}_"))
        })
    })
}

/// What the path's last word says.
pub(super) fn last_word(target: &Target) -> Option<(usize, &str)> {
    let words = target.segments.iter().enumerate().rev();
    let mut words = words.filter_map(|(segment, part)| Some((segment, part.fixed()?)));
    words.find(|(_, word)| names_a_thing(word) && !is_version(word))
}

/// Words that begin the paths of an interface, and say nothing of one.
pub(super) fn is_version(word: &str) -> bool {
    let number =
        word.strip_prefix('v').is_some_and(|n| n.starts_with(|c: char| c.is_ascii_digit()));
    number || ["api", "rest"].contains(&word)
}
