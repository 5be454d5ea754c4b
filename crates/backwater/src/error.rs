//! The one error type of the library.

// It knows nothing of the other rooms: they hand it what was wrong, where, and what to do. It has the
// words that help a reader of an error on.

use std::fmt;
use std::sync::Arc;

/// What went wrong anywhere in Backwater: one opaque type, one word wide.
///
/// Its text says *where* (a file with line and column, a JSON Pointer, a table and field), *what*
/// was found, *what was expected*, and what to do about it. [`Error::kind`] is for programs.
///
/// ```
/// use backwater::{ErrorKind, Schema};
///
/// let error = Schema::parse("backwater.toml", "[table.port]\nid = \"code\"\nfields = { code = \"txt\" }").unwrap_err();
/// assert_eq!(error.kind(), ErrorKind::Schema);
/// assert!(error.to_string().starts_with("backwater.toml:3:19: "));
/// assert!(error.to_string().contains("did you mean \"text\"?"));
/// ```
#[derive(Clone)]
pub struct Error(Box<ErrorInner>);

#[derive(Clone)]
struct ErrorInner {
    kind: ErrorKind,
    place: String,
    message: String,
    help: String,
    source: Option<Arc<dyn std::error::Error + Send + Sync>>,
    more: Vec<Error>,
}

/// The class of an [`Error`].
///
/// ```
/// # use backwater::{ErrorKind, Schema};
/// let error = Schema::parse("backwater.toml", "not toml").unwrap_err();
/// assert_eq!(error.kind(), ErrorKind::Schema);
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum ErrorKind {
    /// A schema is wrong, or does not fit.
    Schema,
    /// A response is not JSON, or does not fit its rule.
    Response,
    /// A table, field, rule, query or column has no such name.
    UnknownName,
    /// A value does not fit the field or parameter that it is given for.
    Type,
    /// A row is there already, or is not there.
    Row,
    /// An SQL statement cannot be parsed, or is not supported.
    Sql,
    /// Rows of a table are not loaded yet, and the call needs them.
    NotReady,
    /// A panic in the middle of a commit has left the cache in a state that nothing can be built
    /// on: it must be opened again. What was committed before is whole.
    Broken,
    /// A statement's parameters are not those that were given.
    Parameter,
    /// A standing query's result cannot be computed, such as a sum beyond 64 bits.
    Result,
    /// A result was given up before it was computed, by [`Stop::stop`](crate::Stop::stop), or what
    /// was to be asked for came after its remote was dropped.
    Stopped,
    /// A scenario has a line that is not a step.
    Scenario,
    /// A commit was begun inside of another one's closure, or inside of a derived value's function.
    Nested,
    /// Derived values read each other in a circle.
    Circle,
    /// The storage could not be opened, read or written.
    Storage,
    /// A file is not a Backwater cache.
    Foreign,
    /// A cache was written by a newer version of Backwater, or with another schema.
    Version,
    /// What a storage holds does not agree with itself.
    Damaged,
    /// An error of a program's own closure, derived value or storage.
    Caller,
}

/// The result of everything that can fail here.
pub type Result<T, E = Error> = std::result::Result<T, E>;

impl Error {
    /// An error of the caller's own: one that a commit's closure fails with, that a derived value
    /// fails with, that a [`Storage`](crate::storage::Storage) meets.
    ///
    /// ```
    /// use backwater::{Cache, Error, ErrorKind, Schema};
    ///
    /// let cache = Cache::new(Schema::parse("s.toml", "table.booking = { id = 'id', fields = { id = 'int', cars = 'int' } }")?);
    /// let full = cache.commit("booked", |tx| {
    ///     tx.insert("booking", [("id", 7), ("cars", 3)])?;
    ///     Err::<(), _>(Error::new(ErrorKind::Caller, "there is no room for 3 cars").at("sailing 311").help("ask for 2"))
    /// });
    /// assert_eq!(full.unwrap_err().to_string(), "sailing 311: there is no room for 3 cars; ask for 2");
    /// assert_eq!(cache.snapshot().count("booking")?, 0);
    /// # Ok::<(), Error>(())
    /// ```
    pub fn new(kind: ErrorKind, message: impl Into<String>) -> Self {
        Self(Box::new(ErrorInner {
            kind,
            place: String::new(),
            message: message.into(),
            help: String::new(),
            source: None,
            more: Vec::new(),
        }))
    }

    /// An error of another library, or of the program, as one of the kind [`ErrorKind::Caller`]:
    /// what `?` cannot turn into this type by itself goes through `map_err(Error::other)?`.
    ///
    /// Errors of the standard library's parsers, of input and output, of `serde_json`, and boxed
    /// ones are turned by `?` alone.
    ///
    /// ```
    /// use backwater::{Cache, Error, Schema};
    ///
    /// fn cars(text: &str) -> Result<i64, &'static str> {
    ///     text.strip_suffix(" cars").and_then(|text| text.parse().ok()).ok_or("not a number of cars")
    /// }
    ///
    /// let cache = Cache::new(Schema::parse("s.toml", "table.booking = { id = 'id', fields = { id = 'int', cars = 'int' } }")?);
    /// let booked = cache.commit("booked", |tx| {
    ///     tx.insert("booking", [("id", "7".parse()?), ("cars", cars("3").map_err(Error::other)?)])
    /// });
    /// assert_eq!(booked.unwrap_err().to_string(), "not a number of cars");
    /// # Ok::<(), Error>(())
    /// ```
    pub fn other(error: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> Self {
        let error = error.into();
        let mut other = Self::new(ErrorKind::Caller, error.to_string());
        other.0.source = error.source().is_some().then(|| Arc::from(error));
        other
    }

    /// Names the place, in front of any place that is known already: a program that reads a
    /// response from a file or a URL can say which.
    ///
    /// ```
    /// # use backwater::Json;
    /// let error = Json::parse("[1,").unwrap_err().at("fleet.json");
    /// assert_eq!(error.place(), "fleet.json");
    /// ```
    #[must_use]
    pub fn at(mut self, place: impl fmt::Display) -> Self {
        let inner = &mut self.0;
        inner.place = if inner.place.is_empty() {
            place.to_string()
        } else {
            format!("{place}: {}", inner.place)
        };
        self
    }

    /// Says what to do about it.
    ///
    /// See [`Error::new`] for an example.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.0.help = help.into();
        self
    }

    /// Names the error that caused this one.
    ///
    /// ```
    /// use std::error::Error as _;
    /// use backwater::{Error, ErrorKind};
    ///
    /// let error = Error::new(ErrorKind::Storage, "it cannot be written").caused_by(std::fmt::Error);
    /// assert!(error.source().is_some());
    /// ```
    #[must_use]
    pub fn caused_by(mut self, source: impl std::error::Error + Send + Sync + 'static) -> Self {
        self.0.source = Some(Arc::new(source));
        self
    }

    /// One error out of several found in one reading; `None` when there is none.
    pub(crate) fn gather(errors: Vec<Error>) -> Option<Self> {
        let mut errors = errors.into_iter();
        let mut first = errors.next()?;
        first.0.more.extend(errors);
        Some(first)
    }

    /// The class of the error.
    ///
    /// ```
    /// # use backwater::{Cache, ErrorKind, Schema};
    /// let cache = Cache::new(Schema::parse("s.toml", "table.t.fields.id = \"int\"\ntable.t.id = \"id\"")?);
    /// let error = cache.query("SELECT id FROM boat", ()).unwrap_err();
    /// assert_eq!(error.kind(), ErrorKind::UnknownName);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn kind(&self) -> ErrorKind {
        self.0.kind
    }

    /// Where it went wrong: a file with line and column, a JSON Pointer, a table and its field;
    /// empty where there is no place to name.
    ///
    /// ```
    /// # use backwater::Schema;
    /// let error = Schema::parse("s.toml", "tabel = 3").unwrap_err();
    /// assert_eq!(error.place(), "s.toml:1:1");
    /// ```
    pub fn place(&self) -> &str {
        &self.0.place
    }

    /// Every problem that the same reading found, this one first: a schema is read to its end.
    ///
    /// ```
    /// # use backwater::Schema;
    /// let error = Schema::parse("s.toml", "tabel = {}\nquerry = {}").unwrap_err();
    /// assert_eq!(error.all().count(), 2);
    /// ```
    pub fn all(&self) -> impl Iterator<Item = &Error> {
        std::iter::once(self).chain(self.0.more.iter())
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (number, error) in self.all().enumerate() {
            let inner = &error.0;
            if number > 0 {
                f.write_str("\n")?;
            }
            if !inner.place.is_empty() {
                write!(f, "{}: ", inner.place)?;
            }
            f.write_str(&inner.message)?;
            if !inner.help.is_empty() {
                write!(f, "; {}", inner.help)?;
            }
        }
        Ok(())
    }
}

impl fmt::Debug for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Error({:?}: {self})", self.0.kind)
    }
}

impl std::error::Error for Error {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        self.0.source.as_deref().map(|source| source as _)
    }
}

impl From<Box<dyn std::error::Error + Send + Sync>> for Error {
    fn from(error: Box<dyn std::error::Error + Send + Sync>) -> Self {
        match error.downcast::<Self>() {
            Ok(own) => *own,
            Err(other) => Self::other(other),
        }
    }
}

macro_rules! from_other {
    ($($other:ty),*) => {$(
        impl From<$other> for Error {
            fn from(error: $other) -> Self {
                Self::other(error)
            }
        }
    )*};
}

from_other!(
    serde_json::Error,
    std::char::ParseCharError,
    std::fmt::Error,
    std::io::Error,
    std::num::ParseFloatError,
    std::num::ParseIntError,
    std::num::TryFromIntError,
    std::str::ParseBoolError,
    std::str::Utf8Error,
    std::string::FromUtf8Error
);

/// What is given to a cache and is another one's.
pub(crate) fn of_another_cache(what: &str) -> Error {
    Error::new(ErrorKind::Result, format!("{what} is one of another cache"))
}

/// The known name that a wrong one is most likely meant to be.
pub(crate) fn nearest_name<'a>(
    wrong: &str,
    known: &mut dyn Iterator<Item = &'a str>,
) -> Option<&'a str> {
    let wrong = wrong.to_lowercase();
    let near = known.map(|name| {
        let distance = strsim::damerau_levenshtein(&wrong, &name.to_lowercase());
        (distance, name)
    });
    let (distance, name) = near.min()?;
    (distance <= 1 + name.chars().count() / 3).then_some(name)
}

/// The help for a name that is not known: the nearest known one, or all of them when they are few.
pub(crate) fn nearest<'a>(wrong: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    nearest_of(wrong, &known.into_iter().collect::<Vec<&str>>())
}

fn nearest_of(wrong: &str, known: &[&str]) -> String {
    match nearest_name(wrong, &mut known.iter().copied()) {
        Some(name) => did_you_mean(name),
        None if (1..=12).contains(&known.len()) => format!("known are {}", list(known)),
        None => String::new(),
    }
}

/// The help that names one name.
pub(crate) fn did_you_mean(name: &str) -> String {
    format!("did you mean \"{name}\"?")
}

/// Names in a sentence: `"a", "b" and "c"`.
pub(crate) fn list(names: &[&str]) -> String {
    joined(names, "and")
}

/// Names to choose from: `"a", "b" or "c"`.
pub(crate) fn either(names: &[&str]) -> String {
    joined(names, "or")
}

fn joined(names: &[&str], last_word: &str) -> String {
    let quoted: Vec<String> = names.iter().map(|name| format!("\"{name}\"")).collect();
    match quoted.split_last() {
        None => "none".to_owned(),
        Some((last, [])) => last.clone(),
        Some((last, rest)) => format!("{} {last_word} {last}", rest.join(", ")),
    }
}
