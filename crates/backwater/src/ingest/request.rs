//! What is known of the request that a response answers: which rule reads it, and its variables.

use std::borrow::Cow;

use crate::error::{Error, ErrorKind, Result, nearest};
use crate::schema::{Rule, Schema, Template, Variables};

/// The request that a response answers.
///
/// The name of a response rule is one, so that `tx.ingest("departures", bytes)` is enough where the
/// rule needs to know nothing more.
///
/// ```
/// # use backwater::{Cache, Request, Schema};
/// let cache = Cache::new(Schema::parse("s.toml", r#"
///     table.booking = { id = "id", fields = { id = "int", sailing = { to = "sailing" } } }
///     table.sailing = { id = "id", fields = { id = "int" } }
///     [response.bookings]
///     url = "/sailings/{sailing}/bookings"
///     table = "booking"
///     fields = { sailing = ":sailing" }
/// "#)?);
/// // The rule is recognised by the URL, which also says of which sailing the bookings are.
/// let request = Request::get("https://ferries.example/sailings/311/bookings");
/// cache.commit("bookings loaded", |tx| tx.ingest(request, r#"[{ "id": 9000 }]"#))?;
/// let booked = cache.query("SELECT id FROM booking WHERE sailing = 311", ())?;
/// assert_eq!(booked.read()?.len(), 1);
///
/// // The same without a URL.
/// let request = Request::rule("bookings").var("sailing", "312");
/// cache.commit("bookings loaded", |tx| tx.ingest(request, r#"[{ "id": 9001 }]"#))?;
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    rule: Option<String>,
    method: Cow<'static, str>,
    url: Option<String>,
    variables: Variables,
    pub(super) began: Option<u64>,
    pub(super) part: Option<i64>,
    /// Whether rows that only this response has are not to be stored.
    pub(super) is_unstored: bool,
    /// Whether each value must have a place.
    pub(super) is_strict: bool,
}

impl Request {
    /// A request whose response a rule reads that is named here.
    ///
    /// See [`Request`] for an example.
    pub fn rule(name: impl Into<String>) -> Self {
        Self {
            rule: Some(name.into()),
            method: "GET".into(),
            url: None,
            variables: Variables::new(),
            began: None,
            part: None,
            is_unstored: false,
            is_strict: false,
        }
    }

    /// A GET request of that URL, or path and query.
    ///
    /// See [`Request`] for an example.
    pub fn get(url: impl Into<String>) -> Self {
        Self { url: Some(url.into()), rule: None, ..Self::rule("") }
    }

    /// A request of that URL by an HTTP method.
    ///
    /// ```
    /// # use backwater::{Cache, Request, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.booking = { id = "id", fields = { id = "int" } }
    /// #     response.cancelled = { method = "DELETE", url = "/bookings/{id}", table = "booking", fields = { id = ":id" }, deletes = true }
    /// # "#)?);
    /// cache.commit("a party booked", |tx| tx.insert("booking", [("id", 9000)]))?;
    /// cache.commit("a party cancelled", |tx| tx.ingest(Request::new("DELETE", "/bookings/9000"), ""))?;
    /// assert_eq!(cache.snapshot().count("booking")?, 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn new(method: impl Into<String>, url: impl Into<String>) -> Self {
        let method: String = method.into();
        Self { method: method.into(), ..Self::get(url) }
    }

    /// Reads the response by that rule, whatever the URL says.
    ///
    /// ```
    /// # use backwater::Request;
    /// let request = Request::get("/departures?port=SAL").read_by("departures");
    /// # assert_ne!(request, Request::get("/departures?port=SAL"));
    /// ```
    #[must_use]
    pub fn read_by(mut self, rule: impl Into<String>) -> Self {
        self.rule = Some(rule.into());
        self
    }

    /// Gives a variable of the rule a value, in the place of the URL's.
    ///
    /// See [`Request`] for an example.
    #[must_use]
    pub fn var(mut self, name: impl Into<String>, value: impl Into<String>) -> Self {
        self.variables.push((name.into(), value.into()));
        self
    }

    /// Says after which commit the request was sent. What later commits changed is newer than the
    /// response, and stays: fields, deletes and rows alike.
    ///
    /// ```
    /// # use backwater::{Cache, Request, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.sailing = { id = "id", fields = { id = "int", status = "text", note = "text" } }
    /// #     response.sailing = { table = "sailing" }
    /// # "#)?);
    /// let began = cache.snapshot().commit(); // the request is sent
    /// cache.commit("boarding", |tx| tx.insert("sailing", [("id", Value::from(311)), ("status", "boarding".into())]))?;
    /// let request = Request::rule("sailing").began_at(began);
    /// let response = r#"{ "id": 311, "status": "on time", "note": "fog" }"#;
    /// let report = cache.commit("sailing loaded", |tx| tx.ingest(request, response))?;
    /// let snapshot = cache.snapshot();
    /// let row = snapshot.get("sailing", 311)?.unwrap();
    /// assert_eq!(row.get("status")?, Some("boarding".into()));
    /// assert_eq!(row.get("note")?, Some("fog".into()));
    /// assert_eq!(report.ingested()[0].kept, 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    #[must_use]
    pub fn began_at(mut self, commit: u64) -> Self {
        self.began = Some(commit);
        self
    }

    /// Says which part of its list the response is, counted from 0, where the rule's `next` tells
    /// parts apart by names that have no order. A [`Remote`](crate::remote::Remote) counts itself.
    ///
    /// ```
    /// # use backwater::{Cache, Request, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.sailing = { id = "id", fields = { id = "int" } }
    /// #     response.departures = { url = "/departures{?after}", table = "sailing", records = "/sailings", list = "departures", part = "after", next = "/next" }
    /// # "#)?);
    /// let second = Request::get("/departures?after=k4").part(1);
    /// cache.commit("second page loaded", |tx| tx.ingest(second, r#"{ "sailings": [{ "id": 7 }] }"#))?;
    /// assert_eq!(cache.query("SELECT part FROM departures", ())?.read()?.row(0).unwrap().values(), [1.into()]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    #[must_use]
    pub fn part(mut self, number: i64) -> Self {
        self.part = Some(number);
        self
    }

    /// Refuses the response if it has values that the schema has no place for, as
    /// [`Ingested::require_all_placed`](crate::report::Ingested::require_all_placed) does.
    ///
    /// ```
    /// # use backwater::{Cache, Request, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.port = { id = "code", fields = { code = "text" } }
    /// #     response.port = { table = "port" }
    /// # "#)?);
    /// let request = Request::rule("port").strict();
    /// let refused = cache.commit("port loaded", |tx| tx.ingest(request, r#"{ "code": "SAL", "lat": 54.1 }"#));
    /// assert!(refused.is_err());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    #[must_use]
    pub fn strict(mut self) -> Self {
        self.is_strict = true;
        self
    }

    /// The response must not be written to a disk, and neither may rows that only it has.
    #[cfg(feature = "remote")]
    pub(crate) fn unstored(mut self) -> Self {
        self.is_unstored = true;
        self
    }

    /// Which part of its list the response is, and whether it must not be stored.
    pub(super) fn place(&self) -> (Option<i64>, bool) {
        (self.part, self.is_unstored)
    }

    #[cfg(feature = "infer")]
    pub(crate) fn rule_name(&self) -> Option<&str> {
        self.rule.as_deref()
    }

    #[cfg(feature = "infer")]
    pub(crate) fn method(&self) -> &str {
        &self.method
    }

    #[cfg(feature = "infer")]
    pub(crate) fn url(&self) -> Option<&str> {
        self.url.as_deref()
    }

    /// The rule that reads the response, and the values of its variables.
    pub(crate) fn resolve<'s>(&self, schema: &'s Schema) -> Result<(&'s Rule, Variables)> {
        let (rule, mut variables) = match (&self.rule, &self.url) {
            (None, Some(url)) => {
                let (name, variables) = schema.rule_for(&self.method, url)?;
                (schema.rule(name)?, variables)
            }
            (Some(name), None) => (schema.rule(name)?, Variables::new()),
            (Some(name), Some(url)) => {
                let rule = schema.rule(name)?;
                let found = rule.urls().find_map(|template| template.matches(url));
                let variables = found.or_else(|| rule.url.is_none().then(Variables::new));
                let variables = variables.ok_or_else(|| {
                    let templates: Vec<&str> = rule.urls().map(Template::as_str).collect();
                    let message = format!("{url} is not of the form {}", templates.join(" or "));
                    Error::new(ErrorKind::Parameter, message)
                        .help(format!("this is the `url` of rule \"{name}\""))
                })?;
                (rule, variables)
            }
            (None, None) => {
                let message = "the request names neither a rule nor a URL";
                return Err(Error::new(ErrorKind::Parameter, message));
            }
        };
        for (name, value) in &self.variables {
            let template = rule.urls().flat_map(Template::variables);
            let known: Vec<&str> = template.chain(rule.variables()).collect();
            if !known.contains(&name.as_str()) {
                let message = format!("rule \"{}\" has no variable \"{name}\"", rule.name);
                let error = Error::new(ErrorKind::Parameter, message);
                return Err(error.help(nearest(name, known.iter().copied())));
            }
            variables.retain(|(known, _)| known != name);
            variables.push((name.clone(), value.clone()));
        }
        Ok((rule, variables))
    }
}

impl From<&str> for Request {
    fn from(rule: &str) -> Self {
        Request::rule(rule)
    }
}

impl From<&String> for Request {
    fn from(rule: &String) -> Self {
        Request::rule(rule)
    }
}
