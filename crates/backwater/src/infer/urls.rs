//! Which requests are answered by one rule: their URLs are one URI Template (RFC 6570).

use std::collections::{HashMap, HashSet};

use super::evidence::{ShapeNo, hash, is_like_an_id};
use super::words::{Taken, names_a_thing, singular, snake};
use crate::schema::decoded;

/// Query variables that number the pages of a list, or say where one begins.
const PAGING: [&str; 12] = [
    "page",
    "offset",
    "cursor",
    "after",
    "before",
    "start",
    "skip",
    "from",
    "since",
    "page_token",
    "continuation",
    "marker",
];
/// Query variables that say how long a page is.
const SIZES: [&str; 12] = [
    "per_page",
    "page_size",
    "pagesize",
    "size",
    "limit",
    "count",
    "max",
    "max_results",
    "first",
    "last",
    "take",
    "top",
];
/// From this many on, words that differ in otherwise equal paths are a variable.
const DIFFERENT: usize = 3;
/// From so many on, responses with names of their own that are of one kind are read by one rule.
const MANY_NAMES: usize = 8;
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
    /// The number of the rule that reads the responses already.
    pub(super) read_by: Option<usize>,
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
    /// What the variables name as far as that is known, by what stands in them.
    pub(super) things: Vec<Option<String>>,
    /// Variables of the query, with what was seen in them.
    pub(super) query: Vec<(String, Vec<String>)>,
    pub(super) samples: Vec<usize>,
    /// Where the responses stand; none for a request that deletes.
    pub(super) roots: Vec<ShapeNo>,
    /// What its responses are called, if they have several names.
    pub(super) called: Vec<String>,
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
        let (method, named, read_by) = (method.to_owned(), None, None);
        let target = Target { method, origin, segments, named, read_by };
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
        let mut path = Self {
            target: parts.target,
            values,
            things: Vec::new(),
            query: Vec::new(),
            samples: vec![sample],
            roots: Vec::new(),
            called: Vec::new(),
        };
        parts.query.into_iter().for_each(|(name, value)| path.add_query(name, vec![value]));
        path
    }

    /// Whether another path is the same of another server.
    pub(super) fn differs_in_origin(&self, other: &Path) -> bool {
        let (a, b) = (&self.target, &other.target);
        a.origin != b.origin && Target { origin: a.origin.clone(), ..b.clone() } == *a
    }

    /// Adds what was seen in a variable of the query.
    fn add_query(&mut self, name: String, values: Vec<String>) {
        match self.query.iter_mut().find(|(known, _)| *known == name) {
            Some((_, known)) => known.extend(values),
            None => self.query.push((name, values)),
        }
    }

    /// The segments that are variables.
    fn variables(&self) -> impl Iterator<Item = (usize, &Segment)> {
        let segments = self.target.segments.iter().enumerate();
        segments.filter(|(_, segment)| **segment == Segment::Variable)
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
    pub(super) fn vary(&mut self, segment: usize) {
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

    /// What a variable names: what stands in front of it, if it is the last of several, and what its
    /// values show otherwise.
    fn names(&self, segment: usize) -> Option<String> {
        let segments = &self.target.segments;
        let start = segments[..segment].iter().rposition(|part| *part != Segment::Variable)?;
        let is_last = segments.get(segment + 1) != Some(&Segment::Variable);
        let word = || self.before(start + 1).filter(|_| is_last).map(singular);
        let shown = || self.things.get(self.variables_before(segment))?.clone();
        word().or_else(shown)
    }

    /// Whether a segment may be a variable by what is in front of it.
    fn may_vary(&self, segment: usize) -> bool {
        let follows = |before: usize| self.target.segments[before] == Segment::Variable;
        self.before(segment).is_some() || segment.checked_sub(1).is_some_and(follows)
    }

    /// The variable's name that stands in that segment: by what is in front of it.
    fn before(&self, segment: usize) -> Option<&str> {
        let before = segment.checked_sub(1).and_then(|before| self.target.segments[before].fixed());
        before.filter(|name| names_a_thing(name) && !is_version(name))
    }
}

/// What is known of the values that segments may be.
pub(super) trait KnownValues {
    /// Whether it is an id of what the path names in front of it.
    fn is_id_of(&self, what: &str, hash: u64) -> bool;

    /// Whether something is called so.
    fn is_name(&self, hash: u64) -> bool;
}

/// Finds the variables that only show when everything is known, and puts paths together that are
/// one template. `alike` says whether responses hold the same.
pub(super) fn templates(
    mut paths: Vec<Path>,
    known: &impl KnownValues,
    alike: impl Fn(&Path, &Path) -> bool,
) -> Vec<Path> {
    // What a rule reads already is as its template says.
    for path in paths.iter_mut().filter(|path| path.target.read_by.is_none()) {
        for segment in 1..path.target.segments.len() {
            let Segment::Fixed(text) = &path.target.segments[segment] else { continue };
            let id = hash(&decoded(text)) | 1;
            let is_id =
                path.before(segment).is_some_and(|what| known.is_id_of(&singular(what), id));
            let is_name =
                path.may_vary(segment) && known.is_name(id) && singular(text) == snake(text);
            if (is_id || is_name) && can_be_variable(text) {
                path.vary(segment);
            }
        }
    }
    let mut paths = together(paths);
    loop {
        if let Some((segment, set)) = siblings(&paths, &alike) {
            set.into_iter().for_each(|number| paths[number].vary(segment));
        } else {
            let followed = followed(&paths, &alike);
            if followed.is_empty() {
                return paths;
            }
            followed.into_iter().for_each(|(segment, number)| paths[number].vary(segment));
        }
        paths = together(paths);
    }
}

/// Puts responses together that have names of their own and are of one kind, if there are many; they
/// are called `name` then, or in another way that is not taken.
pub(super) fn of_one_kind(
    paths: Vec<Path>,
    name: Option<&str>,
    mut taken: Taken,
    is_one_kind: impl Fn(&Path, &Path) -> bool,
) -> Vec<Path> {
    let (named, mut out): (Vec<Path>, Vec<Path>) = paths
        .into_iter()
        .partition(|path| path.target.named.is_some() && path.target.read_by.is_none());
    let mut sets: Vec<Vec<Path>> = Vec::new();
    for path in named {
        match sets.iter_mut().find(|set| is_one_kind(&set[0], &path)) {
            Some(set) => set.push(path),
            None => sets.push(vec![path]),
        }
    }
    let (many, few): (Vec<_>, Vec<_>) = sets.into_iter().partition(|it| it.len() >= MANY_NAMES);
    out.extend(few.into_iter().flatten());
    let known = out.iter().filter_map(|path| path.target.named.as_ref());
    known.for_each(|name| drop(taken.take(name)));
    for set in many {
        let names = set.iter().filter_map(|path| path.target.named.clone()).collect::<Vec<_>>();
        let common = name.map(snake).or_else(|| common_words(&names));
        let common = taken.take(&common.unwrap_or_else(|| "file".to_owned()));
        let set = set.into_iter().map(|mut path| {
            path.target.named = Some(common.clone());
            path
        });
        for mut path in together(set) {
            path.called.clone_from(&names);
            out.push(path);
        }
    }
    out.sort_by_key(|path| path.samples.first().copied());
    out
}

/// The words with which all names begin, or with which all end.
fn common_words(names: &[String]) -> Option<String> {
    let all: Vec<String> = names.iter().map(|name| snake(name)).collect();
    let words = |name: &String| name.split('_').map(str::to_owned).collect::<Vec<_>>();
    let common = |turned: bool| {
        let mut common: Option<Vec<String>> = None;
        for name in &all {
            let mut own = words(name);
            if turned {
                own.reverse();
            }
            common = Some(match common {
                None => own,
                Some(common) => {
                    let same = common.into_iter().zip(own).take_while(|(a, b)| a == b);
                    same.map(|(word, _)| word).collect()
                }
            });
        }
        let mut common = common.unwrap_or_default();
        if turned {
            common.reverse();
        }
        Some(common.join("_")).filter(|common| !common.is_empty())
    };
    common(false).or_else(|| common(true))
}

/// Paths that differ in one word only and hold the same, if there are several.
fn siblings(paths: &[Path], alike: &impl Fn(&Path, &Path) -> bool) -> Option<(usize, Vec<usize>)> {
    let longest = paths.iter().map(|path| path.target.segments.len()).max()?;
    for segment in 1..longest {
        let mut sets: Vec<Vec<usize>> = Vec::new();
        let mut places: HashMap<Target, usize> = HashMap::new();
        for (number, path) in paths.iter().enumerate() {
            let word = path.target.segments.get(segment).and_then(Segment::fixed);
            let may_be = path.target.read_by.is_none() && word.is_some_and(can_be_variable);
            if !may_be || !path.may_vary(segment) {
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

/// Paths with a word where others, which begin in the same way, have a variable, and that segment:
/// where the word was in the variable once, or the rest of the path and the responses are the same.
fn followed(paths: &[Path], alike: &impl Fn(&Path, &Path) -> bool) -> Vec<(usize, usize)> {
    let beginning = |path: &Path, segment: usize| {
        let segments = path.target.segments[..segment].to_vec();
        Target { segments, read_by: None, ..path.target.clone() }
    };
    // Where a variable follows a beginning: what it was, and the paths.
    let mut varying: HashMap<Target, (HashSet<&str>, Vec<&Path>)> = HashMap::new();
    for path in paths {
        for (segment, _) in path.variables() {
            let (values, with) = varying.entry(beginning(path, segment)).or_default();
            values.extend(path.values_at(segment).iter().map(String::as_str));
            with.push(path);
        }
    }
    let follows = |path: &Path| {
        path.target.segments.iter().enumerate().skip(1).find_map(|(segment, part)| {
            let word = part.fixed().filter(|word| can_be_variable(word))?;
            let (values, with) = varying.get(&beginning(path, segment))?;
            let rest = &path.target.segments[segment + 1..];
            let is_like = |other: &&&Path| {
                other.target.segments[segment + 1..] == *rest && alike(other, path)
            };
            let fits = values.contains(&*decoded(word)) || with.iter().find(is_like).is_some();
            fits.then_some(segment)
        })
    };
    let found = paths.iter().enumerate().filter(|(_, path)| path.target.read_by.is_none());
    found.filter_map(|(number, path)| Some((follows(path)?, number))).collect()
}

/// Puts paths to one target together.
pub(super) fn together(paths: impl IntoIterator<Item = Path>) -> Vec<Path> {
    let mut out: Vec<Path> = Vec::new();
    let mut places: HashMap<Target, usize> = HashMap::new();
    for path in paths {
        match places.get(&path.target) {
            Some(place) => out[*place].absorb(path),
            None => {
                places.insert(path.target.clone(), out.len());
                out.push(path);
            }
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
        let mut names = Taken::default();
        for (segment, part) in path.target.segments.iter().enumerate() {
            text.push('/');
            let Some(fixed) = part.fixed() else {
                let is_last = segment + 1 == path.target.segments.len();
                let of = path.names(segment);
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
pub(super) fn encoded(name: &str) -> String {
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
    let inside = |name: &str, word: &str| {
        name.ends_with(&format!("_{word}")) || name.starts_with(&format!("{word}_"))
    };
    let is_size = |name: &str| {
        SIZES.contains(&name)
            || inside(name, "size")
            || inside(name, "limit")
            || name == "page_count"
    };
    let names = || query.iter().map(|name| (name.as_str(), plain_name(name)));
    let exact = |word: &str| names().find(|(_, name)| name == word);
    let part = |word: &str| names().find(|(_, name)| inside(name, word) && !is_size(name));
    let found = PAGING.iter().find_map(|word| exact(word));
    let found = found.or_else(|| PAGING.iter().find_map(|word| part(word)));
    found.map(|(name, _)| name)
}

/// What a variable that pages a list counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Part {
    Page,
    Offset,
}

/// What a variable counts that pages a list, if it counts.
pub(super) fn kind_of_part(name: &str) -> Option<Part> {
    let name = plain_name(name);
    let is = |word: &str| name.split('_').any(|part| part == word);
    match () {
        _ if is("token") || is("cursor") => None,
        _ if is("page") => Some(Part::Page),
        _ if is("offset") || is("skip") => Some(Part::Offset),
        _ => None,
    }
}

/// A variable's name without brackets and what percent-encoding stands for: `page[number]`.
fn plain_name(name: &str) -> String {
    snake(&decoded(name)).trim_matches('_').to_owned()
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
