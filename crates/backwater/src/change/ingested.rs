//! What responses contained: the count of what an ingest did to each table.

use std::fmt;
use std::sync::Arc;

use crate::error::{Error, ErrorKind, Result};
use crate::sorting;

/// What one response contained.
///
/// ```
/// # use backwater::{Cache, Schema};
/// # let cache = Cache::new(Schema::parse("s.toml", r#"
/// #     table.port = { id = "code", fields = { code = "text", name = "text" } }
/// #     table.route = { id = "id", fields = { id = "int", from = { to = "port" }, to = { to = "port" } } }
/// #     response.route = { records = "/route", table = "route" }
/// # "#)?);
/// cache.commit("a route loaded", |tx| {
///     let ingested = tx.ingest("route", r#"{ "route": {
///         "id": 4,
///         "from": { "code": "SAL", "name": "Saltmere Quay" },
///         "to": { "code": "SAL", "name": "Saltmere Quay" }
///     } }"#)?;
///     assert_eq!((ingested.objects(), ingested.rows(), ingested.repeats()), (3, 2, 1));
///     Ok(())
/// })?;
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct Ingested {
    /// The response rule that was in force.
    pub rule: Arc<str>,
    /// How long the response was.
    pub bytes: usize,
    /// How many records of the rule it had.
    pub records: usize,
    /// What its objects did, table by table, in the schema's order; tables that none of them
    /// belonged to are left out.
    pub tables: Arc<[IngestedTable]>,
    /// Records that did not fit, and were left out because their rule says `on_error = "skip"`.
    pub skipped: Vec<Skipped>,
    /// How many values were kept that later commits had changed, when the request's beginning was
    /// given.
    pub kept: usize,
    /// Values, nulls apart, that neither the rule nor the tables have a place for, most of them
    /// first. Of objects that the response has several times, letter by letter, they count once.
    pub unplaced: Arc<[UnplacedValues]>,
    /// Whether it wrote anything: a response that says what is known already does not.
    pub is_news: bool,
}

/// Values of a response that have no place in the schema.
///
/// ```
/// # use backwater::{Cache, Schema};
/// # let cache = Cache::new(Schema::parse("s.toml", r#"
/// #     table.port = { id = "code", fields = { code = "text" } }
/// #     response.ports = { records = "/ports", table = "port" }
/// # "#)?);
/// let response = r#"{ "day": "2031-05-04", "ports": [{ "code": "SAL", "lat": 54.1 }, { "code": "EEL", "lat": 54.3 }] }"#;
/// let report = cache.commit("ports loaded", |tx| tx.ingest("ports", response))?;
/// let unplaced = &report.ingested()[0].unplaced;
/// assert_eq!(unplaced[0].to_string(), "2 at /lat of port");
/// assert_eq!(unplaced[1].to_string(), "1 at /day");
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct UnplacedValues {
    /// The table in whose rows they stand; `None` if they stand outside of rows.
    pub table: Option<Arc<str>>,
    /// Where they stand: a JSON Pointer (RFC 6901) from the row on, or from the response on.
    pub pointer: Arc<str>,
    /// How many there are.
    pub values: usize,
}

impl fmt::Display for UnplacedValues {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let place = if self.pointer.is_empty() { "the top level" } else { &self.pointer };
        write!(f, "{} at {place}", self.values)?;
        self.table.iter().try_for_each(|table| write!(f, " of {table}"))
    }
}

/// A record that was left out.
///
/// ```
/// # use backwater::{Cache, Schema};
/// # let cache = Cache::new(Schema::parse("s.toml", r#"
/// #     table.port = { id = "code", fields = { code = "text", lat = "float" } }
/// #     response.ports = { table = "port", on_error = "skip" }
/// # "#)?);
/// let response = r#"[{ "code": "SAL", "lat": 54.1 }, { "code": "EEL", "lat": "north" }]"#;
/// let report = cache.commit("ports loaded", |tx| tx.ingest("ports", response))?;
/// let skipped = &report.ingested()[0].skipped[0];
/// assert_eq!(skipped.pointer, "/1/lat");
/// assert_eq!(skipped.problem, "found string \"north\", expected float");
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct Skipped {
    /// The JSON Pointer (RFC 6901) of what did not fit, with its line in front where there are lines.
    pub pointer: String,
    /// What was found there, and what was expected.
    pub problem: String,
}

/// What one response contained for one table.
///
/// See [`Ingested`] for an example.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct IngestedTable {
    /// The table's name.
    pub table: Arc<str>,
    /// How many objects of the response belonged to it.
    pub objects: usize,
    /// How many rows these objects were.
    pub rows: usize,
    /// How many of the rows were not there before.
    pub inserted: usize,
    /// How many of the others now have another value in some field.
    pub updated: usize,
    /// How many rows the response deleted.
    pub deleted: usize,
}

impl IngestedTable {
    /// Of that table, nothing yet.
    pub(crate) fn of(table: &Arc<str>) -> Self {
        let table = table.clone();
        Self { table, objects: 0, rows: 0, inserted: 0, updated: 0, deleted: 0 }
    }
}

impl Ingested {
    /// How many objects the response held, nested ones included.
    ///
    /// See [`Ingested`] for an example.
    pub fn objects(&self) -> usize {
        self.tables.iter().map(|table| table.objects).sum()
    }

    /// How many rows these objects were.
    ///
    /// See [`Ingested`] for an example.
    pub fn rows(&self) -> usize {
        self.tables.iter().map(|table| table.rows).sum()
    }

    /// How many objects were rows that the same response had held already.
    ///
    /// See [`Ingested`] for an example.
    pub fn repeats(&self) -> usize {
        self.objects() - self.rows()
    }

    /// Refuses a response with values that have no place in the schema. Call it in the commit's
    /// closure: its error leaves nothing of the response behind.
    ///
    /// # Errors
    /// [`ErrorKind::Response`] if there are such values; it names their places.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.port = { id = "code", fields = { code = "text" } }
    /// #     response.ports = { table = "port" }
    /// # "#)?);
    /// let refused = cache.commit("ports loaded", |tx| {
    ///     tx.ingest("ports", r#"[{ "code": "SAL", "lat": 54.1 }]"#)?.require_all_placed()
    /// });
    /// assert!(refused.unwrap_err().to_string().starts_with("1 value has no place in the schema: 1 at /lat of port"));
    /// assert_eq!(cache.snapshot().count("port")?, 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn require_all_placed(&self) -> Result<()> {
        match unplaced_text(&self.unplaced) {
            None => Ok(()),
            Some(text) => Err(Error::new(ErrorKind::Response, text)
                .help(format!("give them fields, or rule \"{}\" a place for them", self.rule))),
        }
    }
}

/// How many values have no place, and where most of them stand; `None` if there are none.
fn unplaced_text(unplaced: &[UnplacedValues]) -> Option<String> {
    const NAMED: usize = 5;
    let all: usize = unplaced.iter().map(|place| place.values).sum();
    let named = unplaced.iter().take(NAMED).map(UnplacedValues::to_string).collect::<Vec<_>>();
    let more = match unplaced.len().saturating_sub(NAMED) {
        0 => String::new(),
        1 => ", and at 1 more place".to_owned(),
        more => format!(", and at {more} more places"),
    };
    let values = if all == 1 { "1 value has" } else { &format!("{all} values have") };
    (all > 0).then(|| format!("{values} no place in the schema: {}{more}", named.join(", ")))
}

/// What a number of responses contained together.
///
/// ```
/// # use backwater::{Cache, Schema, report::Totals};
/// # let cache = Cache::new(Schema::parse("s.toml", r#"
/// #     table.port = { id = "code", fields = { code = "text", name = "text" } }
/// #     response.ports = { table = "port" }
/// # "#)?);
/// let mut totals = Totals::default();
/// for response in [r#"[{ "code": "SAL" }, { "code": "EEL" }]"#, r#"[{ "code": "SAL" }]"#] {
///     let report = cache.commit("ports loaded", |tx| tx.ingest("ports", response))?;
///     report.ingested().iter().for_each(|ingested| totals.add(ingested));
/// }
/// assert_eq!((totals.responses, totals.objects, totals.inserted), (2, 3, 2));
/// assert_eq!((totals.known(), totals.without_news), (1, 1));
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Totals {
    /// How many responses there were.
    pub responses: usize,
    /// How long they were together.
    pub bytes: usize,
    /// How many objects they held, nested ones included.
    pub objects: usize,
    /// How many rows were not there before.
    pub inserted: usize,
    /// How often a response changed a row that was there.
    pub updated: usize,
    /// How many rows the responses deleted.
    pub deleted: usize,
    /// How many records did not fit and were left out.
    pub skipped: usize,
    /// How many responses changed nothing.
    pub without_news: usize,
    /// Values that have no place in the schema, in the order of first sight.
    pub unplaced: Vec<UnplacedValues>,
}

impl Totals {
    /// Adds what one response contained.
    ///
    /// See [`Totals`] for an example.
    pub fn add(&mut self, ingested: &Ingested) {
        let sum =
            |count: fn(&IngestedTable) -> usize| ingested.tables.iter().map(count).sum::<usize>();
        let (inserted, updated) = (sum(|table| table.inserted), sum(|table| table.updated));
        let deleted = sum(|table| table.deleted);
        self.responses += 1;
        self.bytes += ingested.bytes;
        self.objects += ingested.objects();
        self.inserted += inserted;
        self.updated += updated;
        self.deleted += deleted;
        self.skipped += ingested.skipped.len();
        self.without_news += usize::from(inserted + updated + deleted == 0);
        self.add_unplaced(&ingested.unplaced);
    }

    /// Adds what other responses contained.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, report::Totals};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.port = { id = "code", fields = { code = "text" } }
    /// #     response.ports = { table = "port" }
    /// # "#)?);
    /// let (mut morning, mut day) = (Totals::default(), Totals::default());
    /// let report = cache.commit("ports loaded", |tx| tx.ingest("ports", r#"[{ "code": "SAL" }]"#))?;
    /// morning.add(&report.ingested()[0]);
    /// day.add_all(&morning);
    /// assert_eq!(day, morning);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn add_all(&mut self, other: &Self) {
        self.responses += other.responses;
        self.bytes += other.bytes;
        self.objects += other.objects;
        self.inserted += other.inserted;
        self.updated += other.updated;
        self.deleted += other.deleted;
        self.skipped += other.skipped;
        self.without_news += other.without_news;
        self.add_unplaced(&other.unplaced);
    }

    fn add_unplaced(&mut self, places: &[UnplacedValues]) {
        for place in places {
            let same = |known: &&mut UnplacedValues| {
                known.table == place.table && known.pointer == place.pointer
            };
            match self.unplaced.iter_mut().find(same) {
                Some(known) => known.values += place.values,
                None => self.unplaced.push(place.clone()),
            }
        }
    }

    /// A sentence on the values that have no place in the schema; `None` if there are none.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, report::Totals};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.port = { id = "code", fields = { code = "text" } }
    /// #     response.ports = { table = "port" }
    /// # "#)?);
    /// let report = cache.commit("ports loaded", |tx| tx.ingest("ports", r#"[{ "code": "SAL", "lat": 54.1 }]"#))?;
    /// let mut totals = Totals::default();
    /// report.ingested().iter().for_each(|ingested| totals.add(ingested));
    /// assert_eq!(totals.unplaced_text().unwrap(), "1 value has no place in the schema: 1 at /lat of port");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn unplaced_text(&self) -> Option<String> {
        let mut most = self.unplaced.clone();
        sorting::by_key(&mut most, |place| u64::MAX - place.values as u64);
        unplaced_text(&most)
    }

    /// How many of the objects said nothing that was not known.
    ///
    /// See [`Totals`] for an example.
    pub fn known(&self) -> usize {
        self.objects.saturating_sub(self.inserted + self.updated)
    }
}
