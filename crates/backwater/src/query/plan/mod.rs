//! A plan: what a statement reads and does, resolved against the schema. One for each shape.

mod aggregate;
pub(in crate::query) mod explain;
mod relation;
pub(in crate::query) mod text;
pub(in crate::query) mod window;

use std::collections::BTreeMap;
use std::hash::{Hash, Hasher};
use std::ops::Range;
use std::sync::Arc;

pub(in crate::query) use aggregate::{Aggregate, AggregateFunction};
pub(crate) use relation::Relation;
use siphasher::sip128::{Hasher128, SipHasher13};
pub(in crate::query) use window::Windowing;

use crate::change::FieldSet;
use crate::error::{Error, ErrorKind, Result, list, nearest};
use crate::query::expr::collation::Collation;
use crate::query::expr::scalar::{Affinity, Key, KeyValues, Scalar};
use crate::query::expr::shape::searched;
use crate::query::expr::{ColumnNo, Expr, NoColumns};
use crate::schema::{FieldKind, FieldNo, ResultLimits, Schema, TableNo, Tuning};
use crate::sorting;
use crate::value::{Named, Value};

/// A statement: relations joined, filtered, perhaps grouped, ordered and cut to an excerpt. What it
/// reads from another statement is a relation like a table, with a plan of its own.
#[derive(Hash)]
pub(crate) struct Plan {
    /// Two plans with the same identity are the same.
    pub(crate) identity: Identity,
    /// The fields of each table that the statement reads, also by way of other statements.
    pub(crate) footprints: BTreeMap<TableNo, FieldSet>,
    pub(crate) sources: Vec<Source>,
    pub(crate) combine: Combine,
    /// How many values identify a tuple.
    pub(crate) tuple_key_len: usize,
    /// How many statements are read one through the other, this one included.
    pub(crate) depth: usize,
    /// Conditions `column = :param`, by which bindings are found from a row.
    pub(crate) keys: Vec<KeyPart>,
    /// The other conditions that use a parameter. Where tuples are looked for on behalf of all
    /// bindings, each binding tests them by itself.
    pub(crate) late: Vec<Expr>,
    /// Whether tuples can be looked for on behalf of all bindings.
    pub(crate) is_shared: bool,
    /// How all tuples of a join are found.
    pub(crate) scratch: Path,
    /// For each source, how from one of its rows those are found that it is part of.
    pub(crate) paths: Vec<Path>,
    /// For each source of a left join, how from one of its rows those are found whose partner it
    /// may be.
    pub(crate) anchors: Vec<Option<Path>>,
    pub(crate) rows: Rows,
    pub(crate) outputs: Vec<Output>,
    pub(crate) order: Vec<OrderKey>,
    pub(crate) limit: Option<Expr>,
    pub(crate) offset: Option<Expr>,
    pub(crate) params: Vec<Param>,
    /// Whether rows are ordered by one number that identifies them: the id of a table.
    pub(crate) is_by_id: bool,
    pub(crate) tuning: Tuning,
    pub(crate) limits: ResultLimits,
}

/// How rows of the sources make tuples.
#[derive(Clone, Copy, PartialEq, Eq, Default, Hash)]
pub(crate) enum Combine {
    /// A tuple is a row of each source.
    #[default]
    Join,
    /// A tuple is a row of any source.
    Union,
}

/// One relation that a statement reads.
#[derive(Hash)]
pub(crate) struct Source {
    pub(crate) relation: Relation,
    /// What the statement calls it.
    pub(crate) name: String,
    /// Of a left join, what ON says: a row without partner stays.
    pub(crate) outer: Option<Vec<Expr>>,
    /// Whether it stands for a subquery.
    pub(crate) is_lookup: bool,
    /// Whether the rows of other sources determine which one goes with them: by a link, by an id,
    /// or since it stands for a subquery. So it is no part of a tuple's key.
    pub(crate) is_determined: bool,
    /// The columns that are read, of a table: by which a change is of interest.
    pub(crate) reads: FieldSet,
    /// Those of them that decide which rows there are.
    pub(crate) structure: FieldSet,
    /// Those that the grouping reads, or, without one, the outputs.
    pub(crate) content: FieldSet,
    /// Those that the order of a statement without grouping reads.
    pub(crate) order: FieldSet,
}

/// What a plan is, as a hash of 128 bits of all that it says. Of a statement that it reads it has
/// that one's, so that telling a plan takes as long as it is, and not as long as all that stands
/// below it.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Default)]
pub(crate) struct Identity(u128);

impl Identity {
    pub(crate) fn of(plan: &Plan) -> Self {
        let mut hasher = SipHasher13::new();
        // By way of a pointer, as code for this one hasher would be long.
        plan.hash(&mut (&mut hasher as &mut dyn Hasher));
        Self(hasher.finish128().as_u128())
    }
}

/// One condition `column = :param`.
#[derive(Clone, Hash)]
pub(crate) struct KeyPart {
    pub(crate) column: ColumnNo,
    pub(crate) param: usize,
    pub(crate) affinity: Affinity,
}

/// What makes the rows of a result from tuples.
#[derive(Hash)]
pub(crate) enum Rows {
    /// They are the tuples: what columns show is read from the tables.
    Tuples,
    Projected(Projection),
    Grouped(Grouping),
    Windowed(Windowing),
    Elements(Elements),
    Recursion(Recursion),
}

/// For each tuple a row of its key and these values.
#[derive(Hash)]
pub(crate) struct Projection {
    pub(crate) values: Vec<Expr>,
}

/// For each tuple the elements of a JSON value: as many rows.
#[derive(Hash)]
pub(crate) struct Elements {
    /// What identifies a tuple.
    pub(crate) keys: Vec<ColumnNo>,
    pub(crate) json: Expr,
    /// Where in it they are; else it is itself what has them.
    pub(crate) path: Option<Expr>,
    /// What is known of an element, behind its place.
    pub(crate) columns: Vec<ElementColumn>,
}

impl Rows {
    /// Calls `each` with the expressions over the tuples' columns of rows that are neither grouped
    /// nor windowed, to change them.
    pub(crate) fn each_expr_mut(&mut self, each: &mut dyn FnMut(&mut Expr)) {
        match self {
            Rows::Elements(elements) => elements.each_expr_mut(each),
            Rows::Recursion(recursion) => recursion.values.iter_mut().for_each(each),
            _ => {}
        }
    }
}

impl Elements {
    /// Calls `each` with its expressions, to change them.
    pub(crate) fn each_expr_mut(&mut self, each: &mut dyn FnMut(&mut Expr)) {
        each(&mut self.json);
        self.path.iter_mut().for_each(each);
    }
}

/// From the rows of one source on, by the tuples that these are part of, to further rows that stand
/// in its place.
#[derive(Hash)]
pub(crate) struct Recursion {
    pub(crate) source: usize,
    /// What a tuple makes a row of.
    pub(crate) values: Vec<Expr>,
    /// Whether equal rows are one.
    pub(crate) distinct: bool,
}

/// What is known of an element of a JSON value, as SQLite calls it.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum ElementColumn {
    /// A member's name, or a place in an array.
    Key,
    Value,
    /// The value as JSON, where that is made of it.
    Json,
    Type,
    /// The value, unless it has elements itself.
    Atom,
    FullKey,
    Path,
}

/// From some rows to those that go with them, source by source.
#[derive(Default, Hash)]
pub(crate) struct Path {
    pub(crate) start: usize,
    /// How the rows of the first source are found, unless one is given.
    pub(crate) access: Access,
    /// Conditions that the first row must meet alone.
    pub(crate) checks: Vec<Expr>,
    /// Others, of which the access makes sure.
    pub(crate) implied: Vec<Expr>,
    pub(crate) steps: Vec<JoinStep>,
}

#[derive(Hash)]
pub(crate) struct JoinStep {
    pub(crate) source: usize,
    pub(crate) access: Access,
    /// Whether a row stays that finds no partner here.
    pub(crate) optional: bool,
    /// What a partner must be.
    pub(crate) on: Vec<Expr>,
    /// The same, of which the access makes sure.
    pub(crate) implied: Vec<Expr>,
    /// Conditions that can be tested from here on.
    pub(crate) checks: Vec<Expr>,
}

/// How the rows of a relation are found.
#[derive(Default, Clone, PartialEq, Hash)]
pub(crate) enum Access {
    /// All of them.
    #[default]
    Scan,
    /// The one that a link points at.
    Follow(ColumnNo),
    /// The one with this id.
    Id(Expr),
    /// Those of which a link points at a row.
    Back { link: FieldNo, to: usize },
    /// Those with these values in these fields.
    Equal { fields: Vec<FieldNo>, values: Vec<Expr> },
}

/// GROUP BY: rows of equal keys become one row of keys and aggregates.
#[derive(Hash)]
pub(crate) struct Grouping {
    pub(crate) keys: Vec<Expr>,
    pub(crate) aggregates: Vec<Aggregate>,
    /// Over keys and aggregates.
    pub(crate) having: Option<Expr>,
}

/// One column of the result.
#[derive(Clone, Hash)]
pub(crate) struct Output {
    pub(crate) name: String,
    /// Over the sources' columns, over the grouping's, or over what a row keeps.
    pub(crate) expr: Expr,
    /// The type of the field that the column plainly is.
    pub(crate) declared: Option<FieldKind>,
    pub(crate) affinity: Affinity,
    /// How DISTINCT compares its values.
    pub(crate) collation: Collation,
}

#[derive(Clone, PartialEq, Hash)]
pub(crate) struct OrderKey {
    pub(crate) expr: Expr,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
    pub(crate) collation: Collation,
    /// Whether its values are those of a field of timestamps.
    pub(crate) holds_times: bool,
}

/// A parameter, and whether it is compared with a time.
#[derive(Clone, Hash)]
pub(crate) struct Param {
    pub(crate) name: String,
    pub(crate) is_time: bool,
}

/// A plan with values for its parameters, and the excerpt that LIMIT and OFFSET show.
pub(crate) struct BoundPlan {
    pub(crate) plan: Arc<Plan>,
    pub(crate) params: Box<[Scalar<'static>]>,
    pub(crate) excerpt: Excerpt,
}

/// The part of the whole order that a result shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Excerpt {
    pub(crate) offset: usize,
    pub(crate) limit: usize,
}

impl Excerpt {
    pub(crate) fn is_whole(self) -> bool {
        self.offset == 0 && self.limit == usize::MAX
    }

    /// How many of this many rows it shows.
    pub(crate) fn len(self, rows: usize) -> usize {
        rows.saturating_sub(self.offset).min(self.limit)
    }

    /// The rank behind the last one that it can show.
    pub(crate) fn end(self) -> usize {
        self.offset.saturating_add(self.limit)
    }

    /// The ranks that it shows of this many rows.
    pub(crate) fn ranks(self, rows: usize) -> Range<usize> {
        let start = self.offset.min(rows);
        start..start + self.len(rows)
    }

    /// The position in the excerpt of a rank.
    pub(crate) fn position(self, rank: usize) -> Option<usize> {
        rank.checked_sub(self.offset).filter(|position| *position < self.limit)
    }
}

impl Plan {
    /// The parameters' values in the plan's order; those that are not given stay what they were
    /// until now.
    pub(crate) fn bind(
        &self,
        given: &Named,
        until_now: Option<&[Scalar<'static>]>,
    ) -> Result<Vec<Scalar<'static>>> {
        let names = || self.params.iter().map(|param| param.name.as_str());
        let is_known = |name: &str| names().any(|known| known == bare(name));
        if let Some((wrong, _)) = given.iter().find(|(name, _)| !is_known(name)) {
            let message = format!("the statement has no parameter :{}", bare(wrong));
            return Err(Error::new(ErrorKind::Parameter, message).help(nearest(wrong, names())));
        }
        let mut values = Vec::with_capacity(self.params.len());
        for (number, param) in self.params.iter().enumerate() {
            let value = given.iter().filter(|(name, _)| bare(name) == param.name).last();
            let value = match (value, until_now) {
                (Some((_, value)), _) => value,
                (None, Some(until_now)) => {
                    values.push(until_now[number].clone());
                    continue;
                }
                (None, None) => {
                    let message = format!("parameter :{} has no value", param.name);
                    let names: Vec<&str> = names().collect();
                    return Err(Error::new(ErrorKind::Parameter, message)
                        .help(format!("the statement's parameters are {}", list(&names))));
                }
            };
            values.push(match value {
                Value::Text(text) if param.is_time => match text.parse() {
                    Ok(time) => Scalar::Time(time),
                    Err(_) => Scalar::from(value),
                },
                Value::Float(number) if !number.is_finite() => {
                    let message =
                        format!("parameter :{} is {number}, expected a finite number", param.name);
                    return Err(Error::new(ErrorKind::Parameter, message));
                }
                value => Scalar::from(value),
            });
        }
        Ok(values)
    }

    /// The statements that it reads, with values for their parameters, and what they are called.
    pub(crate) fn statements(
        &self,
        params: &[Scalar<'static>],
    ) -> Vec<(Arc<Plan>, Vec<Scalar<'static>>, String)> {
        let statements = self.sources.iter().filter_map(|source| {
            let (plan, params) = source.relation.statement(params)?;
            Some((plan.clone(), params, source.name.clone()))
        });
        statements.collect()
    }

    /// The excerpt that LIMIT and OFFSET show.
    pub(crate) fn excerpt(&self, params: &[Scalar<'static>]) -> Result<Excerpt> {
        let number = |expr: &Option<Expr>, name: &str| -> Result<Option<i64>> {
            let Some(expr) = expr else { return Ok(None) };
            match expr.eval(&NoColumns, params).under(Affinity::Numeric) {
                Scalar::Int(number) => Ok(Some(number)),
                Scalar::Real(number) if number.fract() == 0.0 && number.abs() < 1e15 => {
                    Ok(Some(number as i64))
                }
                _ => Err(Error::new(ErrorKind::Parameter, format!("{name} is not a whole number"))),
            }
        };
        let limit = number(&self.limit, "LIMIT")?;
        let offset = number(&self.offset, "OFFSET")?;
        Ok(Excerpt {
            // A negative LIMIT is none, a negative OFFSET is 0.
            limit: limit.and_then(|limit| usize::try_from(limit).ok()).unwrap_or(usize::MAX),
            offset: offset.and_then(|offset| usize::try_from(offset).ok()).unwrap_or(0),
        })
    }

    /// What a tuple must hold to belong to a binding; `None` if none can: a value is NULL, or
    /// nothing can show in its excerpt.
    pub(crate) fn key(&self, params: &[Scalar<'static>], excerpt: Excerpt) -> Option<KeyValues> {
        let keys =
            self.keys.iter().map(|part| match params[part.param].clone().under(part.affinity) {
                Scalar::Null => None,
                value => Some(Key::from(value)),
            });
        keys.collect::<Option<_>>().filter(|_| excerpt.limit > 0)
    }

    /// By which columns the rows of another statement have to be found.
    pub(crate) fn statement_indexes(&self, source: usize) -> Vec<Vec<FieldNo>> {
        self.indexes()
            .into_iter()
            .filter(|(of, _)| *of == source)
            .map(|(_, fields)| fields)
            .collect()
    }

    /// By which fields the rows of which sources have to be found.
    pub(crate) fn indexes(&self) -> Vec<(usize, Vec<FieldNo>)> {
        let anchors = self.anchors.iter().flatten();
        indexes_of(self.paths.iter().chain(anchors).chain([&self.scratch]))
    }

    /// The same where all tuples are found.
    pub(crate) fn scratch_indexes(&self) -> Vec<(usize, Vec<FieldNo>)> {
        indexes_of(self.scratch_paths().iter())
    }

    /// Whether rows of several sources go together.
    pub(crate) fn joins(&self) -> bool {
        self.combine == Combine::Join && self.sources.len() > 1
    }

    /// The source from which all tuples are found; none, if the statement reads nothing.
    pub(crate) fn first(&self) -> Option<&Source> {
        self.sources.get(self.scratch.start)
    }

    /// The paths by which all tuples are found: one of a join, of a union one for each source.
    pub(crate) fn scratch_paths(&self) -> &[Path] {
        match self.combine {
            Combine::Join if self.sources.is_empty() => &[],
            Combine::Join => std::slice::from_ref(&self.scratch),
            Combine::Union => &self.paths,
        }
    }

    /// How many values the key of a row of the result has.
    pub(crate) fn key_len(&self) -> usize {
        self.rows.operator().map_or(self.tuple_key_len, |rows| rows.key_len(self.tuple_key_len))
    }

    /// For each value of a tuple's key the column that it is, if it is one.
    pub(crate) fn key_columns(&self, schema: &Schema) -> Vec<Option<ColumnNo>> {
        if self.combine == Combine::Union {
            return vec![None; self.tuple_key_len];
        }
        let mut columns = Vec::with_capacity(self.tuple_key_len);
        for (number, source) in self.sources.iter().enumerate() {
            match source.relation.table() {
                _ if source.is_determined => {}
                Some(table) => {
                    let id = schema.table(table).id.iter();
                    columns.extend(id.map(|field| Some(ColumnNo::new(number, field.index()))));
                }
                None => {
                    let len = columns.len() + source.relation.key_len(schema);
                    columns.resize(len, None);
                }
            }
        }
        columns
    }

    /// Whether of many rows under a LIMIT only the first are kept. Rows that are made of several
    /// tuples are kept anyway, and another search text may leave any row of the old result.
    pub(crate) fn keeps_first(&self) -> bool {
        let mut searches = self.late.iter().filter_map(searched);
        let may_narrow = searches.any(|(_, needle)| matches!(needle, Expr::Param(_)));
        self.rows.are_by_tuple() && !(self.rows.are_tuples() && may_narrow)
    }

    /// Whether this many changed rows are more work than all the rows that a statement goes through
    /// from nothing. Measured over 200,000 rows, deltas cost as much as that at a twenty-fifth of
    /// them for a plain condition, at an eighteenth for an order, at a seventh for a grouping, at a
    /// quarter for a grouped join.
    pub(crate) fn is_much(&self, changed: usize, rows: usize) -> bool {
        changed > self.tuning.recomputed_rows.max(rows / 16)
    }

    /// The tables that the statement reads, also by way of other statements.
    pub(crate) fn tables(&self) -> Vec<TableNo> {
        self.footprints.keys().copied().collect()
    }

    /// The fields of a table that the statement reads, also by way of other statements.
    pub(crate) fn footprint(&self, table: TableNo) -> FieldSet {
        self.footprints.get(&table).cloned().unwrap_or_default()
    }

    /// The same from its sources.
    pub(crate) fn footprints_of(sources: &[Source]) -> BTreeMap<TableNo, FieldSet> {
        let mut out: BTreeMap<TableNo, FieldSet> = BTreeMap::new();
        for source in sources {
            source.relation.add_footprint(&source.reads, &mut out);
        }
        out
    }

    /// What the statement reads as `table.field`, for messages.
    pub(crate) fn reads(&self, schema: &Schema) -> Vec<String> {
        let fields = self.tables().into_iter().flat_map(|table| {
            let definition = schema.table(table);
            let fields: Vec<String> = self
                .footprint(table)
                .iter()
                .map(|field| format!("{}.{}", definition.name, definition.field(field).name))
                .collect();
            fields
        });
        fields.collect()
    }
}

/// A parameter's name without the colon that SQL writes in front of it.
fn bare(name: &str) -> &str {
    name.strip_prefix(':').unwrap_or(name)
}

/// By which fields the rows of which sources have to be found along some paths.
fn indexes_of<'p>(paths: impl Iterator<Item = &'p Path>) -> Vec<(usize, Vec<FieldNo>)> {
    let mut out: Vec<(usize, Vec<FieldNo>)> = Vec::new();
    let mut add = |source: usize, access: &Access| match access {
        Access::Back { link, .. } => out.push((source, vec![*link])),
        Access::Equal { fields, .. } => out.push((source, fields.clone())),
        Access::Scan | Access::Follow(_) | Access::Id(_) => {}
    };
    for path in paths {
        add(path.start, &path.access);
        path.steps.iter().for_each(|step| add(step.source, &step.access));
    }
    sorting::few_once(&mut out);
    out
}
