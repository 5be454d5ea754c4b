//! One SELECT: its sources, conditions, grouping, columns and order.

use super::expression::Clause;
use super::parts::{OpenSource, Parts};
use super::regroup::{Placed, Regrouping};
use super::scope::{Named, NamedColumn, Scope};
use super::subquery::blank;
use super::window::OpenWindows;
use super::{Env, Lowered, Part, through};
use crate::query::expr::collation::Collation;
use crate::query::expr::function::Function;
use crate::query::expr::scalar::Affinity;
use crate::query::expr::{ColumnNo, Expr};
use crate::query::plan::{
    Aggregate, AggregateFunction, Grouping, OrderKey, Output, Param, Plan, Relation,
};
use crate::query::syntax::tree::{self, ExprKind, Item, Name, OrderTerm, Query, Select};
use crate::query::syntax::{Location, Refusal};
use crate::schema::{FieldKind, Schema};
use std::sync::Arc;

/// A SELECT that is being lowered.
pub(super) struct Block<'a, 'e> {
    pub(super) env: &'e Env<'e>,
    /// What may be read of the statement around this one.
    pub(super) around: Option<&'e Scope>,
    /// What was read of it.
    pub(super) outer: Vec<NamedColumn>,
    pub(super) scope: Scope,
    pub(super) sources: Vec<OpenSource>,
    pub(super) conditions: Vec<Expr>,
    pub(super) names: Vec<(&'a str, &'a tree::Expr)>,
    pub(super) params: Vec<Param>,
    pub(super) aggregates: Vec<Aggregate>,
    pub(super) place: Clause,
    /// Columns met since this was last emptied, and where.
    pub(super) met: Vec<(ColumnNo, Location)>,
    /// The sources that stand for subqueries which are behind the grouping, if there is one, and
    /// where these stand.
    pub(super) late: Vec<(usize, Location)>,
    /// Columns, and those that are the same as JSON.
    pub(super) as_json: Vec<(ColumnNo, ColumnNo)>,
    /// Whether equal rows are one.
    is_distinct: bool,
    pub(super) windows: OpenWindows<'a>,
    behind: OverGroups,
}

/// What stands in a statement around a grouping: subqueries that are read beside it, and the
/// condition of HAVING, if that reads one.
#[derive(Default)]
pub(super) struct OverGroups {
    sources: Vec<OpenSource>,
    condition: Option<Expr>,
}

impl<'a, 'e> Block<'a, 'e> {
    fn new(env: &'e Env<'e>, around: Option<&'e Scope>) -> Self {
        Self {
            env,
            around,
            outer: Vec::new(),
            scope: Scope::default(),
            sources: Vec::new(),
            conditions: Vec::new(),
            names: Vec::new(),
            params: Vec::new(),
            aggregates: Vec::new(),
            place: Clause::Row,
            met: Vec::new(),
            late: Vec::new(),
            as_json: Vec::new(),
            is_distinct: false,
            windows: OpenWindows::default(),
            behind: OverGroups::default(),
        }
    }

    /// Lowers a SELECT, with what stands behind it in a query.
    pub(super) fn lower(
        env: &Env<'_>,
        select: &Select,
        query: Option<&Query>,
        around: Option<&Scope>,
    ) -> Lowered<Part> {
        let mut block = Block::new(env, around);
        block.is_distinct = select.is_distinct;
        let mut parts = block.parts(select, query)?;
        let behind = std::mem::take(&mut block.behind);
        let needs_groups = parts.windowing.is_some() || !behind.sources.is_empty();
        let grouping = parts.grouping.as_ref().filter(|_| needs_groups);
        let of_groups = grouping.map(|grouping| block.outputs_of_groups(grouping));
        parts.sources = block.sources;
        parts.conditions = block.conditions;
        parts.params = block.params;
        let outer: Vec<Expr> = block.outer.into_iter().map(|column| column.expr).collect();
        if let Some(of_groups) = of_groups {
            if !outer.is_empty() {
                return Err(super::subquery::not_by_equality(select.at));
            }
            parts = parts.over_groups(of_groups, behind, env.schema)?;
        }
        if select.is_distinct {
            let distinct = Block::distinct(env, parts, select.at, &outer)?;
            return Ok(Part { parts: distinct, outer });
        }
        Ok(Part { parts, outer })
    }

    fn parts(&mut self, select: &'a Select, query: Option<&'a Query>) -> Lowered<Parts> {
        self.from(select, query)?;
        let named = select.items.iter().filter_map(|item| match item {
            Item::Expr { expr, alias: Some(alias), .. } => Some((alias.text.as_str(), expr)),
            _ => None,
        });
        self.names = named.collect();
        if let Some(condition) = &select.condition {
            self.condition(condition)?;
        }
        let keys = self.group_keys(select)?;
        self.place = Clause::Group;
        let having = match &select.having {
            Some(having) => Some((self.placed(having)?, having.at)),
            None => None,
        };
        self.windows.named = &select.windows;
        self.windows.may_stand = true;
        let items = self.items(select)?;
        let mut order = Vec::new();
        if let Some(query) = query {
            order = self.order(&query.order, &items)?;
        }
        self.windows.may_stand = false;
        let (limit, offset) = query.map_or(Ok((None, None)), |query| self.limits(query))?;

        let grouped = !keys.is_empty() || !self.aggregates.is_empty();
        if let (Some((_, at)), false) = (&having, grouped) {
            return Err(Refusal::new(
                *at,
                "HAVING needs GROUP BY or an aggregate",
                "use WHERE for conditions on rows",
            ));
        }
        let behind = std::mem::take(&mut self.late);
        let late = if grouped { self.behind_grouping(&behind)? } else { self.sources.len() };
        let places = behind.into_iter().map(|(_, at)| at).collect();
        let windows = std::mem::take(&mut self.windows);
        let aggregates = std::mem::take(&mut self.aggregates);
        let groups =
            Regrouping::new(&keys, aggregates, &self.sources, (late, places), self.env.schema);
        let regroup = |placed: Placed| match grouped {
            true => groups.regroup(placed),
            false => Ok(placed.expr),
        };
        let mut outputs = Vec::new();
        for Shown { name, placed, collation } in items {
            let (declared, affinity) = (self.declared(&placed.expr), self.affinity(&placed.expr));
            outputs.push(Output { name, expr: regroup(placed)?, declared, affinity, collation });
        }
        let mut order_keys = Vec::new();
        for key in order {
            let holds_times = self.declared(&key.placed.expr) == Some(FieldKind::Timestamp);
            let SortKey { placed, descending, nulls_first, collation } = key;
            let expr = regroup(placed)?;
            order_keys.push(OrderKey { expr, descending, nulls_first, collation, holds_times });
        }
        let having = having.map(|(placed, _)| regroup(placed)).transpose()?;
        let behind = groups.behind()?;
        let windowing = windows.close(&regroup)?;
        let aggregates = groups.aggregates();
        self.sources.truncate(late);
        let is_late = |having: &Expr| having.columns().iter().any(|column| column.source() > 0);
        let (condition, having) = match having.filter(|_| grouped) {
            Some(having) if is_late(&having) => (Some(having), None),
            having => (None, having),
        };
        self.behind = OverGroups { sources: behind, condition };
        let grouping = grouped.then_some(Grouping { keys, aggregates, having });
        Ok(Parts {
            grouping,
            windowing,
            outputs,
            order: order_keys,
            limit,
            offset,
            ..Parts::default()
        })
    }

    /// The same with equal rows as one: grouped by all columns.
    fn distinct(env: &Env<'_>, mut parts: Parts, at: Location, outer: &[Expr]) -> Lowered<Parts> {
        let (order, limit, offset) =
            (std::mem::take(&mut parts.order), parts.limit.take(), parts.offset.take());
        let find = |expr: &Expr| parts.outputs.iter().position(|output| output.expr == *expr);
        let mut keys = Vec::new();
        for key in order {
            let Some(number) = find(&key.expr) else {
                let message = "ORDER BY beside DISTINCT names something that is no result column";
                return Err(Refusal::new(at, message, "order by result columns"));
            };
            keys.push(OrderKey { expr: Expr::Column(ColumnNo::only(number)), ..key });
        }
        if parts.grouping.is_none() && parts.windowing.is_none() {
            parts.group_by_outputs();
            return Ok(Parts { order: parts.in_shown(keys), limit, offset, ..parts });
        }
        if !outer.is_empty() {
            return Err(super::subquery::not_by_equality(at));
        }
        let name = if parts.grouping.is_some() { "the groups" } else { "the rows" };
        let mut around = Parts::over(parts.finish(env.schema)?, name);
        around.group_by_outputs();
        Ok(Parts { order: around.in_shown(keys), limit, offset, ..around })
    }

    /// ORDER BY, LIMIT and OFFSET behind a UNION ALL.
    pub(super) fn order_union(env: &Env<'_>, mut parts: Parts, query: &Query) -> Lowered<Part> {
        let mut block = Block::new(env, None);
        let columns = parts.outputs.iter();
        let columns = columns.map(|output| NamedColumn::of(output, output.expr.clone())).collect();
        block.scope.sources.push(Named {
            name: "UNION ALL".to_owned(),
            title: "the UNION ALL".to_owned(),
            columns,
        });
        block.params = std::mem::take(&mut parts.params);
        let items = parts.outputs.iter().map(|output| Shown {
            name: output.name.clone(),
            placed: Placed { expr: output.expr.clone(), met: Vec::new() },
            collation: output.collation,
        });
        let items: Vec<Shown> = items.collect();
        let mut order = Vec::new();
        for key in block.order(&query.order, &items)? {
            let holds_times = block.declared(&key.placed.expr) == Some(FieldKind::Timestamp);
            let SortKey { placed, descending, nulls_first, collation } = key;
            let expr = placed.expr;
            order.push(OrderKey { expr, descending, nulls_first, collation, holds_times });
        }
        let (limit, offset) = block.limits(query)?;
        if !block.sources.is_empty() {
            let at = query.order.first().map_or(query.at, |term| term.expr.at);
            let message = "a subquery cannot order a UNION ALL";
            return Err(Refusal::new(at, message, "name its columns"));
        }
        let params = block.params;
        let parts = Parts { order, limit, offset, params, ..parts };
        Ok(Part { parts, outer: Vec::new() })
    }

    /// Where the sources begin that are behind the grouping.
    fn behind_grouping(&self, late: &[(usize, Location)]) -> Lowered<usize> {
        let first = self.sources.len() - late.len();
        match late.iter().find(|(number, _)| *number < first) {
            None => Ok(first),
            Some((_, at)) => {
                let message =
                    "this subquery stands beside a grouping, and another one inside of it";
                let help = "put the grouping into WITH or FROM (SELECT …), and select from that";
                Err(Refusal::new(*at, message, help))
            }
        }
    }

    /// What a grouping gives to the statement around it: its keys and aggregates.
    fn outputs_of_groups(&self, grouping: &Grouping) -> Vec<Output> {
        let known = grouping.keys.iter().map(|key| (self.declared(key), self.affinity(key)));
        let made = grouping.aggregates.iter().map(|_| (None, Affinity::None));
        let outputs = known.chain(made).enumerate().map(|(number, (declared, affinity))| {
            let expr = Expr::Column(ColumnNo::only(number));
            Output { declared, affinity, ..blank(expr) }
        });
        outputs.collect()
    }

    fn group_keys(&mut self, select: &'a Select) -> Lowered<Vec<Expr>> {
        let mut keys = Vec::new();
        for key in &select.keys {
            let lowered = match key.whole_number() {
                Some(number) => {
                    let item = self.ordinal(select, number, key.at)?;
                    let before = std::mem::replace(&mut self.place, Clause::Row);
                    let folded = self.folded(item);
                    self.place = before;
                    folded?
                }
                None => self.folded(key)?,
            };
            if !keys.contains(&lowered) {
                keys.push(lowered);
            }
        }
        Ok(keys)
    }

    /// The result column that a number in GROUP BY or ORDER BY stands for.
    fn ordinal(&self, select: &'a Select, number: usize, at: Location) -> Lowered<&'a tree::Expr> {
        let item = number.checked_sub(1).and_then(|index| select.items.get(index));
        match item {
            Some(Item::Expr { expr, .. }) => Ok(expr),
            Some(_) => {
                Err(Refusal::new(at, format!("column {number} is a \"*\""), "name the column"))
            }
            None => {
                let message = format!("there is no result column {number}");
                Err(Refusal::new(
                    at,
                    message,
                    format!("the result has {} columns", select.items.len()),
                ))
            }
        }
    }

    fn items(&mut self, select: &'a Select) -> Lowered<Vec<Shown>> {
        let mut items = Vec::new();
        for item in &select.items {
            match item {
                Item::Expr { expr, alias, text } => {
                    let name = match (alias, &expr.kind) {
                        (Some(alias), _) => Some(alias.text.clone()),
                        (None, ExprKind::Column(parts)) => self.plain_name(parts),
                        _ => None,
                    };
                    let name = name.unwrap_or_else(|| text.clone());
                    let (placed, collation) = self.item(expr)?;
                    items.push(Shown { name, placed, collation });
                }
                Item::All(at) => {
                    for source in &self.scope.sources {
                        let shown = source.columns.iter().filter(|column| !column.is_merged);
                        items.extend(shown.map(|column| Shown::column(column, *at)));
                    }
                }
                Item::AllOf(name) => match self.scope.source(&name.text) {
                    Some(source) => {
                        let columns = source.columns.iter().map(NamedColumn::as_qualified);
                        items.extend(columns.map(|column| Shown::column(&column, name.at)));
                    }
                    None => return Err(self.scope.no_table(&name.text, name.at)),
                },
            }
        }
        Ok(items)
    }

    /// How the schema writes the name of a column that stands alone.
    fn plain_name(&self, parts: &[Name]) -> Option<String> {
        match parts {
            [name] => Some(self.scope.bare(&name.text, name.at).ok()??.name.clone()),
            [table, name] => Some(self.scope.qualified(table, name, name.at).ok()??.name),
            _ => None,
        }
    }

    /// A result column's expression, which sees the names of the others not at all, and its
    /// collation.
    fn item(&mut self, expr: &'a tree::Expr) -> Lowered<(Placed, Collation)> {
        let (of, collation) = self.collated(expr)?;
        // One inside of it counts where its values are compared.
        let counts = self.is_distinct || matches!(expr.kind, ExprKind::Collate(..));
        let names = std::mem::take(&mut self.names);
        let placed = self.placed(of);
        self.names = names;
        Ok((placed?, collation.filter(|_| counts).unwrap_or_default()))
    }

    fn order(&mut self, terms: &'a [OrderTerm], items: &[Shown]) -> Lowered<Vec<SortKey>> {
        terms.iter().map(|term| self.sort_key(term, items)).collect()
    }

    pub(super) fn sort_key(&mut self, key: &'a OrderTerm, items: &[Shown]) -> Lowered<SortKey> {
        let (at, descending) = (key.expr.at, key.descending);
        let (expr, mut collation) = self.collated(&key.expr)?;
        let named = match &expr.kind {
            ExprKind::Column(parts) => match parts.as_slice() {
                [only] => self.names.iter().find(|(name, _)| name.eq_ignore_ascii_case(&only.text)),
                _ => None,
            },
            _ => None,
        };
        let placed = match (expr.whole_number(), named.copied()) {
            (Some(number), _) if !items.is_empty() => {
                let item = number.checked_sub(1).and_then(|index| items.get(index));
                let Some(item) = item else {
                    let help = format!("the result has {} columns", items.len());
                    let message = format!("there is no result column {number}");
                    return Err(Refusal::new(at, message, help));
                };
                collation = collation.or(Some(item.collation));
                item.placed.clone()
            }
            (_, Some((alias, expr))) => {
                let (expr, named) = self.collated(expr)?;
                collation = collation.or(named);
                // A subquery is read once, and not once more for the order.
                let is_it = |item: &&Shown| item.name.eq_ignore_ascii_case(alias);
                match items.iter().find(is_it) {
                    Some(item) => item.placed.clone(),
                    None => self.item(expr)?.0,
                }
            }
            _ => self.placed(expr)?,
        };
        let nulls_first = key.nulls_first.unwrap_or(!descending);
        let collation = collation.unwrap_or_default();
        Ok(SortKey { placed, descending, nulls_first, collation })
    }

    fn limits(&mut self, query: &'a Query) -> Lowered<(Option<Expr>, Option<Expr>)> {
        let mut constant = |expr: Option<&'a tree::Expr>| -> Lowered<Option<Expr>> {
            let Some(expr) = expr else { return Ok(None) };
            let lowered = self.placed(expr).map(|placed| placed.expr);
            if let Ok(lowered) = lowered.as_ref()
                && lowered.is_constant()
            {
                return Ok(Some(lowered.clone()));
            }
            if let Err(refusal) = lowered
                && !refusal.unknown_name
            {
                return Err(refusal);
            }
            let message = "LIMIT and OFFSET cannot read a row";
            Err(Refusal::new(expr.at, message, "use a number or a parameter"))
        };
        Ok((constant(query.limit.as_ref())?, constant(query.offset.as_ref())?))
    }

    /// What is known of a column of a source.
    pub(super) fn column(&self, column: ColumnNo) -> (Option<FieldKind>, Affinity) {
        let Some(source) = self.sources.get(column.source()) else {
            // Of a UNION ALL, which has its columns in its scope.
            let columns = self.scope.sources.first().map(|source| &source.columns);
            let known = columns.and_then(|columns| columns.get(column.column as usize));
            return known.map_or((None, Affinity::None), |one| (one.declared, one.affinity));
        };
        source.relation.column_type(column.field(), self.env.schema)
    }

    pub(super) fn declared(&self, expr: &Expr) -> Option<FieldKind> {
        match expr {
            Expr::Column(column) => self.column(*column).0,
            Expr::Call(Function::Merged, all) => {
                let first = self.declared(&all[0]);
                first.filter(|_| all.iter().all(|one| self.declared(one) == first))
            }
            _ => None,
        }
    }

    /// Adds a source, and gives its number.
    pub(super) fn add(&mut self, source: OpenSource) -> usize {
        self.sources.push(source);
        self.sources.len() - 1
    }
}

impl Parts {
    /// The same with the grouping as a statement of its own, and with what is read beside it.
    fn over_groups(
        mut self,
        outputs: Vec<Output>,
        behind: OverGroups,
        schema: &Schema,
    ) -> Lowered<Parts> {
        let (windowing, order) = (self.windowing.take(), std::mem::take(&mut self.order));
        let (limit, offset) = (self.limit.take(), self.offset.take());
        let shown = std::mem::replace(&mut self.outputs, outputs);
        let mut around = Parts::over(self.finish(schema)?, "the groups");
        around.sources.extend(behind.sources);
        around.conditions.extend(behind.condition.into_iter().flat_map(Expr::conjuncts));
        Ok(Parts { windowing, outputs: shown, order, limit, offset, ..around })
    }

    /// Makes rows one that are equal in all columns. Of values that a collation finds equal the
    /// smallest one is shown.
    fn group_by_outputs(&mut self) {
        let (mut keys, mut aggregates) = (Vec::new(), Vec::new());
        let width = self.outputs.len();
        for (number, output) in self.outputs.iter_mut().enumerate() {
            let expr = std::mem::replace(&mut output.expr, Expr::Column(ColumnNo::only(number)));
            if output.collation != Collation::Binary {
                output.expr = Expr::Column(ColumnNo::only(width + aggregates.len()));
                aggregates.push(Aggregate::new(AggregateFunction::Min, Some(expr.clone())));
            }
            keys.push(expr.folded(output.collation));
        }
        self.grouping = Some(Grouping { keys, aggregates, having: None });
    }

    /// Keys of an order, each over a column of the result by its number, over what these show.
    fn in_shown(&self, mut keys: Vec<OrderKey>) -> Vec<OrderKey> {
        for key in &mut keys {
            key.expr.replace_columns(&|column| self.outputs[column.column as usize].expr.clone());
        }
        keys
    }

    /// A statement that gives all rows of another one.
    pub(super) fn over(plan: Arc<Plan>, name: &str) -> Parts {
        let outputs = plan.outputs.iter().enumerate();
        let outputs = outputs.map(|(number, output)| through(output, 0, number)).collect();
        let params = plan.params.clone();
        let relation = Relation::Statement(plan, (0..params.len()).collect());
        let source = OpenSource { relation, name: name.to_owned(), outer: None, is_lookup: false };
        Parts { sources: vec![source], outputs, params, ..Parts::default() }
    }
}

/// One result column.
pub(super) struct Shown {
    name: String,
    placed: Placed,
    collation: Collation,
}

impl Shown {
    fn column(column: &NamedColumn, at: Location) -> Self {
        let met = column.expr.columns().into_iter().map(|column| (column, at)).collect();
        let placed = Placed { expr: column.expr.clone(), met };
        Self { name: column.name.clone(), placed, collation: Collation::Binary }
    }
}

/// One key of ORDER BY.
pub(super) struct SortKey {
    pub(super) placed: Placed,
    pub(super) descending: bool,
    pub(super) nulls_first: bool,
    pub(super) collation: Collation,
}
