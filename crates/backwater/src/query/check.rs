//! From a statement's text to its plan, and the same for all named queries of a schema.

use std::sync::Arc;

use super::lower::lower;
use super::syntax::{Refusal, parse, with_deep_stack};
use crate::error::{Error, ErrorKind, Result, nearest};
use crate::query::operator::describe::explain;
use crate::query::plan::Plan;
use crate::query::plan::explain::Explanation;
use crate::schema::{NamedQuery, Schema, line_and_column};

/// Makes the plan of a statement; an error names line and column in it.
pub(crate) fn compile(sql: &str, schema: &Schema) -> Result<Arc<Plan>> {
    plan(sql, schema).map_err(|refusal| {
        let place =
            format!("line {}, column {} of the statement", refusal.at.line, refusal.at.column);
        error(&refusal, refusal.kind()).at(place)
    })
}

impl Schema {
    /// Checks the named queries against the tables.
    ///
    /// # Errors
    /// [`ErrorKind::Schema`], with every query that is not supported or names what is not there
    /// ([`Error::all`]), and its place in the schema's text.
    ///
    /// ```
    /// # use backwater::Schema;
    /// let schema = Schema::parse("s.toml", r#"
    /// table.port = { id = "code", fields = { code = "text" } }
    /// query.all = "SELECT cod FROM port"
    /// "#)?;
    /// let error = schema.check().unwrap_err();
    /// assert!(error.to_string().starts_with("s.toml:3:21: query \"all\": "));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn check(&self) -> Result<()> {
        Error::gather(problems(self)).map_or(Ok(()), Err)
    }
}

impl Schema {
    /// How a statement is answered and maintained: its plan as a tree of operators.
    ///
    /// # Errors
    /// As [`Cache::query`](crate::Cache::query), but for the parameters, which need no values.
    ///
    /// See [`Explanation`] for an example.
    pub fn explain(&self, sql: &str) -> Result<Explanation> {
        Ok(explain(sql, &*compile(sql, self)?, self))
    }

    /// The same for a named query.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no query of that name; else as [`Schema::explain`].
    ///
    /// ```
    /// # use backwater::Schema;
    /// # let schema = Schema::parse("s.toml", r#"
    /// #     table.port = { id = "code", fields = { code = "text" } }
    /// #     query.ports = "SELECT code FROM port"
    /// # "#)?;
    /// assert_eq!(schema.explain_named("ports")?.title(), "ports");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn explain_named(&self, name: &str) -> Result<Explanation> {
        let sql = self.named_sql(name)?;
        let plan = compile(sql, self).map_err(|error| error.at(format!("query \"{name}\"")))?;
        Ok(explain(name, &plan, self))
    }

    /// The names of a named query's parameters, without colons, in their order.
    ///
    /// # Errors
    /// As [`Schema::explain_named`].
    ///
    /// ```
    /// # use backwater::Schema;
    /// # let schema = Schema::parse("s.toml", r#"
    /// #     table.port = { id = "code", fields = { code = "text" } }
    /// #     query.one = "SELECT code FROM port WHERE code = :code"
    /// # "#)?;
    /// assert_eq!(schema.query_params("one")?, ["code"]);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn query_params(&self, name: &str) -> Result<Vec<String>> {
        let plan = compile(self.named_sql(name)?, self)
            .map_err(|error| error.at(format!("query \"{name}\"")))?;
        Ok(plan.params.iter().map(|param| param.name.clone()).collect())
    }

    /// The statement of a named query.
    pub(crate) fn named_sql(&self, name: &str) -> Result<&str> {
        self.query(name).ok_or_else(|| {
            Error::new(ErrorKind::UnknownName, format!("the schema has no query \"{name}\""))
                .help(nearest(name, self.query_names()))
        })
    }
}

fn problems(schema: &Schema) -> Vec<Error> {
    let refused = schema.queries.iter().filter_map(|query| {
        let refusal = plan(&query.sql, schema).err()?;
        let place =
            format!("{}:{}: query \"{}\"", schema.name, place(schema, query, &refusal), query.name);
        Some(error(&refusal, ErrorKind::Schema).at(place))
    });
    refused.collect()
}

fn plan(sql: &str, schema: &Schema) -> Result<Arc<Plan>, Refusal> {
    with_deep_stack(|| lower(parse(sql)?, schema))
}

fn error(refusal: &Refusal, kind: ErrorKind) -> Error {
    Error::new(kind, refusal.message.clone()).help(refusal.help.clone())
}

impl Refusal {
    fn kind(&self) -> ErrorKind {
        if self.unknown_name { ErrorKind::UnknownName } else { ErrorKind::Sql }
    }
}

/// Line and column in the schema's text: inside of the statement, where it stands there as it is.
fn place(schema: &Schema, query: &NamedQuery, refusal: &Refusal) -> String {
    let mut offset = query.offset;
    if query.verbatim {
        let line = refusal.at.line - 1;
        let start: usize = query.sql.split_inclusive('\n').take(line).map(str::len).sum();
        let rest = query.sql.get(start..).unwrap_or("");
        let column = refusal.at.column - 1;
        offset += start + rest.char_indices().nth(column).map_or(rest.len(), |(at, _)| at);
    }
    line_and_column(&schema.text, offset)
}
