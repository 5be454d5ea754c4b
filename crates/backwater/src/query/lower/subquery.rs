//! Subqueries in expressions: each becomes a source that at most one row of goes with each tuple.
//!
//! What a subquery says about the statement around it are equalities: its rows are grouped by their
//! own sides of these, and the groups are joined by them. Where it says something else about a table
//! around it, it reads that table itself, and the equality is that of the ids.

use super::block::Block;
use super::expression::{Clause, is_null, not};
use super::parts::{OpenSource, Parts};
use super::paths::{comparison_affinity, equality};
use super::scope::Scope;
use super::{Lowered, Part};
use crate::query::expr::collation::Collation;
use crate::query::expr::scalar::{Affinity, Scalar};
use crate::query::expr::{ColumnNo, Comparison, Expr};
use crate::query::plan::{Aggregate, AggregateFunction, Combine, Grouping, Output, Relation};
use crate::query::syntax::tree::{self, ExprKind, Query};
use crate::query::syntax::{Location, Refusal};
use crate::schema::TableNo;
use crate::sorting;

pub(super) fn not_by_equality(at: Location) -> Refusal {
    let message = "this subquery reads the statement around it in a way that only an equality may";
    let help = "other conditions in its WHERE may read one table around it that is not left-joined; \
                else compare columns with =, or join the tables";
    Refusal::new(at, message, help)
}

/// An equality between something of a subquery and something around it.
struct Tie {
    inner: Expr,
    outer: Expr,
}

/// A subquery whose ties to the statement around it have been taken out.
struct Tied {
    parts: Parts,
    ties: Vec<Tie>,
}

impl<'a> Block<'a, '_> {
    /// `EXISTS`; as a condition of the whole it contributes nothing to a row.
    pub(super) fn exists(
        &mut self,
        query: &Query,
        as_condition: bool,
        at: Location,
    ) -> Lowered<Expr> {
        let mut tied = self.tied(query, at)?;
        let one = Scalar::Int(1);
        let parts = &mut tied.parts;
        if parts
            .grouping
            .as_ref()
            .is_some_and(|grouping| grouping.keys.is_empty() && grouping.having.is_none())
            && parts.limit.is_none()
            && parts.offset.is_none()
        {
            // Without GROUP BY there is exactly one row.
            return Ok(Expr::Literal(one));
        }
        parts.order.clear();
        let parts = self.plain(tied.parts, &tied.ties, at)?;
        let grouped = self.grouped(parts, tied.ties, Vec::new(), Vec::new())?;
        self.found(grouped, as_condition, at)
    }

    /// `IN (SELECT …)`.
    pub(super) fn in_subquery(
        &mut self,
        of: &'a tree::Expr,
        query: &Query,
        as_condition: bool,
        at: Location,
    ) -> Lowered<Expr> {
        let values = match &of.kind {
            ExprKind::Row(values) => values.as_slice(),
            _ => std::slice::from_ref(of),
        };
        let of = values.iter().map(|of| {
            let (of, collation) = self.collated(of)?;
            if collation.is_some_and(|collation| collation != Collation::Binary) {
                let message = "COLLATE is not supported before IN (SELECT …)";
                return Err(Refusal::new(at, message, "write EXISTS with a condition"));
            }
            self.expr(of)
        });
        let mut of = of.collect::<Lowered<Vec<_>>>()?;
        let mut tied = self.tied(query, at)?;
        if tied.parts.outputs.len() != of.len() {
            let message = format!("this subquery has {} columns", tied.parts.outputs.len());
            let help = match of.len() {
                1 => "IN compares with one".to_owned(),
                width => format!("IN compares with {width} values"),
            };
            return Err(Refusal::new(at, message, help));
        }
        if tied.parts.limit.is_none() && tied.parts.offset.is_none() {
            tied.parts.order.clear();
        }
        let parts = self.plain(tied.parts, &tied.ties, at)?;
        let pairs = parts.outputs.iter().zip(&of).map(|(output, of)| {
            let affinity = Affinity::of_comparison(self.affinity(of), output.affinity);
            Tie {
                inner: Expr::Under(affinity, Box::new(output.expr.clone())),
                outer: Expr::Under(affinity, Box::new(of.clone())),
            }
        });
        let pairs: Vec<Tie> = pairs.collect();
        let again = |ties: &[Tie]| -> Vec<Tie> {
            ties.iter()
                .map(|tie| Tie { inner: tie.inner.clone(), outer: tie.outer.clone() })
                .collect()
        };
        if as_condition {
            let ties = tied.ties.into_iter().chain(pairs).collect();
            let grouped = self.grouped(parts, ties, Vec::new(), Vec::new())?;
            return self.found(grouped, true, at);
        }
        let (Some(of), true) = (of.pop(), of.is_empty()) else {
            let message = "a row of values IN (SELECT …) can only be a condition of the whole";
            let help = "let it stand alone or behind AND in WHERE, or write EXISTS";
            return Err(Refusal::new(at, message, help));
        };
        let output = parts.outputs[0].clone();
        // What it is when it is not found: unknown, if something in the list is, or it itself.
        let count = Aggregate::new(AggregateFunction::CountRows, None);
        let known = Aggregate::new(AggregateFunction::Count, Some(output.expr));
        let mut whole = self.tied(query, at)?.parts;
        whole.order.clear();
        let whole = self.plain(whole, &tied.ties, at)?;
        let values = vec![
            blank(Expr::Column(ColumnNo::only(tied.ties.len()))),
            blank(Expr::Column(ColumnNo::only(tied.ties.len() + 1))),
        ];
        let counted = self.grouped(whole, again(&tied.ties), vec![count, known], values)?;
        let first = tied.ties.len();
        let ties = tied.ties.into_iter().chain(pairs).collect();
        let grouped = self.grouped(parts, ties, Vec::new(), Vec::new())?;
        let counted = self.join(counted, false, at);
        let column = |number: usize| Expr::Column(ColumnNo::new(counted, first + number));
        let found = self.found(grouped, false, at)?;
        let differ = Expr::Compare(
            Comparison::Greater,
            Affinity::None,
            Collation::Binary,
            Box::new(column(0)),
            Box::new(column(1)),
        );
        let none = Expr::Or(
            Box::new(is_null(column(0))),
            Box::new(Expr::Compare(
                Comparison::Equal,
                Affinity::None,
                Collation::Binary,
                Box::new(column(0)),
                Box::new(Expr::Literal(Scalar::Int(0))),
            )),
        );
        let unknown = Expr::Or(Box::new(is_null(of)), Box::new(differ));
        Ok(Expr::Case {
            branches: vec![
                (found, Expr::Literal(Scalar::TRUE)),
                (none, Expr::Literal(Scalar::FALSE)),
                (unknown, Expr::Literal(Scalar::Null)),
            ],
            otherwise: Some(Box::new(Expr::Literal(Scalar::FALSE))),
        })
    }

    /// A subquery that is a value.
    pub(super) fn scalar_subquery(&mut self, query: &Query) -> Lowered<Expr> {
        let at = query.at;
        let tied = self.tied(query, at)?;
        let (mut parts, ties) = (tied.parts, tied.ties);
        if parts.outputs.len() != 1 {
            let message = format!("this subquery has {} columns", parts.outputs.len());
            return Err(Refusal::new(at, message, "a value has one"));
        }
        let one = Some(Expr::Literal(Scalar::Int(1)));
        let is_first = parts.limit == one && parts.offset.is_none();
        let is_whole = parts.limit.is_none() && parts.offset.is_none();
        let counts = parts.grouping.as_ref().is_some_and(|grouping| grouping.keys.is_empty());
        if ties.is_empty() && (is_first || counts && is_whole) {
            let plan = parts.finish(self.env.schema)?;
            let relation = self.relation(plan);
            let name = format!("value {}", self.sources.len());
            let source = OpenSource { relation, name, outer: Some(Vec::new()), is_lookup: true };
            let source = self.look_up(source, at);
            return Ok(Expr::Column(ColumnNo::new(source, 0)));
        }
        if counts && is_whole {
            let Some(mut grouping) = parts.grouping.take() else { return Err(not_one_row(at)) };
            if grouping.having.is_some() {
                let message = "HAVING is not supported in a subquery that reads what is around it";
                return Err(Refusal::new(at, message, "put the condition around the subquery"));
            }
            let value = parts.outputs[0].expr.clone();
            // Where no row belongs to it, the aggregates are those of nothing.
            let mut without = value.clone();
            without.replace_columns(&|column| {
                let aggregate = &grouping.aggregates[column.column as usize];
                let value = aggregate.value(&aggregate.empty()).unwrap_or(Scalar::Null);
                Expr::Literal(value)
            });
            let first = ties.len();
            let mut shifted = value;
            shifted.renumber(
                &|column| ColumnNo::only(first + column.column as usize),
                &(0..parts.params.len()).collect::<Vec<_>>(),
            );
            let adopted = self.adopted_params(&parts);
            without.renumber(&|column| column, &adopted);
            let aggregates = std::mem::take(&mut grouping.aggregates);
            let grouped = self.grouped(parts, ties, aggregates, vec![blank(shifted)])?;
            let source = self.join(grouped, false, at);
            let value = Expr::Column(ColumnNo::new(source, first));
            let found = Expr::Column(ColumnNo::new(source, first + 1));
            return Ok(Expr::Case {
                branches: vec![(not(is_null(found)), value)],
                otherwise: Some(Box::new(without)),
            });
        }
        if is_first
            && parts.grouping.is_none()
            && parts.windowing.is_none()
            && parts.combine == Combine::Join
        {
            let mut first =
                Aggregate::new(AggregateFunction::First, Some(parts.outputs[0].expr.clone()));
            first.order = std::mem::take(&mut parts.order);
            parts.limit = None;
            let number = ties.len();
            let expr = Expr::Column(ColumnNo::only(number));
            let value = Output { expr, ..parts.outputs.swap_remove(0) };
            let grouped = self.grouped(parts, ties, vec![first], vec![value])?;
            let source = self.join(grouped, false, at);
            return Ok(Expr::Column(ColumnNo::new(source, number)));
        }
        if is_whole && parts.is_plain() {
            return self.by_id(parts, ties, at);
        }
        Err(not_one_row(at))
    }

    /// The one row of a table with an id, as a source.
    fn by_id(&mut self, mut parts: Parts, ties: Vec<Tie>, at: Location) -> Lowered<Expr> {
        let [OpenSource { relation: Relation::Table(table), outer: None, .. }] =
            parts.sources.as_slice()
        else {
            return Err(not_one_row(at));
        };
        let definition = self.env.schema.table(*table);
        let is_determined = |field: crate::schema::FieldNo| {
            let column = Expr::Column(ColumnNo { source: 0, column: field.0 });
            let tied = ties.iter().any(|tie| match &tie.inner {
                Expr::Under(_, of) => **of == column,
                other => *other == column,
            });
            tied || parts.conditions.iter().any(|condition| {
                equality(condition).is_some_and(|(left, right)| {
                    let free = |expr: &Expr| expr.columns().is_empty();
                    *left == column && free(right) || *right == column && free(left)
                })
            })
        };
        if !definition.id.iter().all(|field| is_determined(*field)) {
            return Err(not_one_row(at));
        }
        let id = definition.id.first().copied();
        let source = self.sources.len();
        self.adopt(&mut parts);
        let mut on = std::mem::take(&mut parts.conditions);
        for mut tie in ties {
            let params: Vec<usize> = (0..self.params.len()).collect();
            tie.inner.renumber(
                &|column| ColumnNo::new(column.source() + source, column.column as usize),
                &params,
            );
            on.push(tied_by(tie.inner, tie.outer));
        }
        let Some(mut source) = parts.sources.pop() else { return Err(not_one_row(at)) };
        source.outer = Some(on);
        source.is_lookup = true;
        let source = self.look_up(source, at);
        let value = parts.outputs.swap_remove(0).expr;
        Ok(match (&value, id) {
            (Expr::Column(_), _) | (_, None) => value,
            (_, Some(id)) => {
                let there = not(is_null(Expr::Column(ColumnNo::new(source, id.index()))));
                let value_if_there =
                    |value| Expr::Case { branches: vec![(there, value)], otherwise: None };
                match value {
                    // What it is cast to counts where it is compared.
                    Expr::Cast(cast, of) => Expr::Cast(cast, Box::new(value_if_there(*of))),
                    value => value_if_there(value),
                }
            }
        })
    }

    /// A subquery with its ties taken out of its conditions.
    fn tied(&mut self, query: &Query, at: Location) -> Lowered<Tied> {
        let tables = self.sources.iter().map(|source| source.relation.table());
        let around = Scope { tables: tables.collect(), ..self.scope.clone() };
        let Part { mut parts, outer } = self.env.inner(query, Some(&around))?;
        let mut ties = Vec::new();
        let conditions = std::mem::take(&mut parts.conditions);
        let own = match conditions.iter().any(|of| of.reads_around() && sides(of).is_none()) {
            true => Some(self.table_around(&conditions, &outer, at)?),
            false => None,
        };
        if let Some((_, table)) = own {
            let (relation, outer) = (Relation::Table(table), None);
            let name = "around".to_owned();
            parts.sources.push(OpenSource { relation, name, outer, is_lookup: false });
        }
        let place = parts.sources.len().saturating_sub(1);
        for mut condition in conditions {
            if !condition.reads_around() {
                parts.conditions.push(condition);
                continue;
            }
            if let Some((source, _)) = own
                && reads_only(&condition, &outer, source)
            {
                self.put_own(&mut condition, &outer, place, &mut parts);
                parts.conditions.push(condition);
                continue;
            }
            let Some((inner, around)) = sides(&condition) else {
                return Err(not_by_equality(at));
            };
            let affinity = comparison_affinity(&condition);
            let mut around = around.clone();
            put_outer(&mut around, &outer);
            // The affinity stands where the value is found by it.
            let under = |expr: Expr| match affinity {
                Affinity::None => expr,
                affinity => Expr::Under(affinity, Box::new(expr)),
            };
            let adopted = self.adopted_params(&parts);
            let mut outer_side = under(around);
            renumber_own_params(&mut outer_side, &adopted);
            ties.push(Tie { inner: under(inner.clone()), outer: outer_side });
        }
        if let Some((source, table)) = own {
            let id = self.env.schema.table(table).id.iter();
            ties.extend(id.map(|field| Tie {
                inner: Expr::Column(ColumnNo::new(place, field.index())),
                outer: Expr::Column(ColumnNo::new(source, field.index())),
            }));
        }
        let mut elsewhere = false;
        parts.each_expr(&mut |expr| elsewhere |= expr.reads_around());
        parts.each_late_expr(&mut |expr| elsewhere |= expr.reads_around());
        if elsewhere {
            return Err(not_by_equality(at));
        }
        Ok(Tied { parts, ties })
    }

    /// The one table around a subquery of which its conditions say more than equalities.
    fn table_around(
        &self,
        conditions: &[Expr],
        outer: &[Expr],
        at: Location,
    ) -> Lowered<(usize, TableNo)> {
        let others = conditions.iter().filter(|of| of.reads_around() && sides(of).is_none());
        let columns = others.flat_map(|condition| columns_around(condition, outer));
        let mut sources: Vec<usize> = columns.map(|column| column.source()).collect();
        sorting::few_once(&mut sources);
        let [source] = *sources else { return Err(not_by_equality(at)) };
        match &self.sources[source] {
            OpenSource { relation: Relation::Table(table), outer: None, .. } => {
                Ok((source, *table))
            }
            _ => Err(not_by_equality(at)),
        }
    }

    /// Puts columns of a source of a subquery in the place of those around it.
    fn put_own(&self, expr: &mut Expr, outer: &[Expr], source: usize, parts: &mut Parts) {
        if let Expr::Outer(number) = expr {
            *expr = outer[number.column as usize].clone();
            let mut params = vec![0; self.params.len()];
            expr.walk(&mut |expr| {
                if let Expr::Param(param) = expr {
                    params[*param] = super::param_no(&mut parts.params, &self.params[*param]);
                }
            });
            let own = |column: ColumnNo| ColumnNo::new(source, column.column as usize);
            return expr.renumber(&own, &params);
        }
        expr.children_mut(&mut |child| self.put_own(child, outer, source, parts));
    }

    fn adopted_params(&mut self, parts: &Parts) -> Vec<usize> {
        parts.params.iter().map(|param| super::param_no(&mut self.params, param)).collect()
    }

    /// A subquery as one without grouping and excerpt, by reading it as another statement if need
    /// be.
    fn plain(&self, parts: Parts, ties: &[Tie], at: Location) -> Lowered<Parts> {
        if parts.is_plain() {
            return Ok(parts);
        }
        if !ties.is_empty() {
            let message = "a grouping, a window function, a UNION ALL or a LIMIT is not supported in a subquery that reads what is around it";
            return Err(Refusal::new(at, message, "join it by what they have in common"));
        }
        Ok(Parts::over(parts.finish(self.env.schema)?, "the subquery"))
    }

    /// A subquery's rows grouped by its ties: their inner sides, some values, and a 1 that
    /// distinguishes a group from none.
    fn grouped(
        &mut self,
        mut parts: Parts,
        ties: Vec<Tie>,
        aggregates: Vec<Aggregate>,
        values: Vec<Output>,
    ) -> Lowered<Grouped> {
        let (inner, outer): (Vec<Expr>, Vec<Expr>) =
            ties.into_iter().map(|tie| (tie.inner, tie.outer)).unzip();
        let keys = (0..inner.len()).map(|key| blank(Expr::Column(ColumnNo::only(key))));
        parts.outputs = keys.chain(values).collect();
        let mut aggregates = aggregates;
        let mark = if inner.is_empty() && aggregates.is_empty() {
            // One group, also without rows: it is there if it has some.
            aggregates.push(Aggregate::new(AggregateFunction::CountRows, None));
            let count = Expr::Column(ColumnNo::only(0));
            let none = Expr::Literal(Scalar::Null);
            Expr::Case {
                branches: vec![(count, Expr::Literal(Scalar::TRUE))],
                otherwise: Some(Box::new(none)),
            }
        } else {
            Expr::Literal(Scalar::TRUE)
        };
        parts.outputs.push(blank(mark));
        parts.grouping = Some(Grouping { keys: inner, aggregates, having: None });
        parts.order.clear();
        let mark = parts.outputs.len() - 1;
        let plan = parts.finish(self.env.schema)?;
        Ok(Grouped { relation: self.relation(plan), outer, mark })
    }

    /// Joins a grouped subquery; gives the source's number.
    fn join(&mut self, grouped: Grouped, as_condition: bool, at: Location) -> usize {
        let source = self.sources.len();
        let on = grouped
            .outer
            .into_iter()
            .enumerate()
            .map(|(number, outer)| tied_by(Expr::Column(ColumnNo::new(source, number)), outer));
        let on: Vec<Expr> = on.collect();
        let name = format!("subquery {source}");
        let (relation, is_lookup) = (grouped.relation, true);
        if as_condition {
            self.conditions.extend(on);
            return self.look_up(OpenSource { relation, name, outer: None, is_lookup }, at);
        }
        self.look_up(OpenSource { relation, name, outer: Some(on), is_lookup }, at)
    }

    /// Whether a grouped subquery has the group.
    fn found(&mut self, grouped: Grouped, as_condition: bool, at: Location) -> Lowered<Expr> {
        let mark = grouped.mark;
        let source = self.join(grouped, as_condition, at);
        let found = not(is_null(Expr::Column(ColumnNo::new(source, mark))));
        if as_condition {
            self.conditions.push(found.clone());
        }
        Ok(found)
    }

    fn look_up(&mut self, source: OpenSource, at: Location) -> usize {
        let number = self.add(source);
        if self.place == Clause::Group {
            self.late.push((number, at));
        }
        number
    }
}

/// A subquery as a statement of its own, not joined yet.
struct Grouped {
    relation: Relation,
    outer: Vec<Expr>,
    /// The column that is never null in a row.
    mark: usize,
}

/// A column that is not shown.
pub(super) fn blank(expr: Expr) -> Output {
    Output {
        name: String::new(),
        expr,
        declared: None,
        affinity: Affinity::None,
        collation: Collation::Binary,
    }
}

pub(super) fn tied_by(inner: Expr, outer: Expr) -> Expr {
    let (inner, outer) = (Box::new(inner), Box::new(outer));
    Expr::Compare(Comparison::Equal, Affinity::None, Collation::Binary, inner, outer)
}

fn not_one_row(at: Location) -> Refusal {
    let message = "this subquery may give several rows where one value is expected";
    Refusal::new(
        at,
        message,
        "add LIMIT 1, use an aggregate such as max(), or compare the id with =",
    )
}

/// The sides of an equality of something of a subquery with something around it.
fn sides(condition: &Expr) -> Option<(&Expr, &Expr)> {
    let (left, right) = equality(condition)?;
    let (inner, around) = match (left.reads_around(), right.reads_around()) {
        (true, false) => (right, left),
        (false, true) => (left, right),
        _ => return None,
    };
    around.columns().is_empty().then_some((inner, around))
}

/// The columns around a subquery that a condition reads.
fn columns_around(condition: &Expr, outer: &[Expr]) -> Vec<ColumnNo> {
    let mut columns = Vec::new();
    condition.walk(&mut |expr| {
        if let Expr::Outer(number) = expr {
            columns.extend(outer[number.column as usize].columns());
        }
    });
    columns
}

/// Whether of what is around a subquery a condition reads this source alone.
fn reads_only(condition: &Expr, outer: &[Expr], source: usize) -> bool {
    columns_around(condition, outer).iter().all(|column| column.source() == source)
}

/// Puts the columns of the statement around in the place of what stands for them. Its own
/// parameters are numbered later.
fn put_outer(expr: &mut Expr, outer: &[Expr]) {
    match expr {
        Expr::Outer(number) => {
            // Marked, so that its parameters are not taken for the subquery's.
            *expr = Expr::Under(Affinity::None, Box::new(outer[number.column as usize].clone()));
        }
        other => other.children_mut(&mut |child| put_outer(child, outer)),
    }
}

fn renumber_own_params(expr: &mut Expr, params: &[usize]) {
    match expr {
        Expr::Under(Affinity::None, of) => {
            let of = std::mem::replace(of.as_mut(), Expr::Literal(Scalar::Null));
            *expr = of;
        }
        Expr::Param(param) => *param = params[*param],
        other => other.children_mut(&mut |child| renumber_own_params(child, params)),
    }
}
