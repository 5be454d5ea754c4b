//! From a syntax tree to a plan: names are resolved, what is not supported is refused.

use std::mem;

use sqlparser::ast::{
    self, BinaryOperator, FunctionArg, FunctionArgExpr, FunctionArguments, GroupByExpr,
    LimitClause, OrderByKind, OrderBySort, SelectItem, SetExpr, Spanned, TableFactor,
    UnaryOperator,
};
use sqlparser::tokenizer::Location;

use super::aggregate::Aggregate;
use super::expr::{Arithmetic, Comparison, Expr, Function};
use super::plan::{Grouping, KeyPart, OrderKey, Output, Param, Plan};
use super::scalar::{Affinity, Scalar, number_prefix};
use super::syntax::{Parsed, Refusal};
use crate::change::FieldSet;
use crate::error::{did_you_mean, nearest, nearest_name};
use crate::schema::{FieldNo, Kind, Schema, Table, TableNo};

type Lowered<T> = Result<T, Refusal>;

/// Makes the plan of a statement.
pub(crate) fn lower(parsed: Parsed, schema: &Schema) -> Lowered<Plan> {
    let select = Select::of(parsed)?;
    let (table, alias) = source(&select, schema)?;
    let mut lowering = Lowering {
        schema,
        table: schema.table(table),
        alias,
        names: named_items(&select),
        params: Vec::new(),
        aggregates: Vec::new(),
        scope: Scope::Row,
        met: Vec::new(),
    };
    lowering.plan(&select, table)
}

/// The parts of a statement that are supported.
struct Select {
    start: Location,
    items: Vec<SelectItem>,
    /// The items as they stand in the statement.
    texts: Vec<String>,
    from: Vec<ast::TableWithJoins>,
    condition: Option<ast::Expr>,
    keys: Vec<ast::Expr>,
    having: Option<ast::Expr>,
    order: Option<ast::OrderBy>,
    limit: Option<LimitClause>,
    identity: String,
}

impl Select {
    /// Takes a statement apart. What then remains of it must be nothing.
    fn of(parsed: Parsed) -> Lowered<Self> {
        let Parsed { mut query, identity, items: texts } = parsed;
        let start = match query.body.as_ref() {
            SetExpr::Select(select) => select.select_token.0.span.start,
            _ => Location::new(1, 1),
        };
        let refuse = |message: &str, help: &str| Err(Refusal::new(start, message, help));
        if query.with.is_some() {
            return refuse("WITH is not supported", "write the statement without it");
        }
        let SetExpr::Select(select) = query.body.as_mut() else {
            let message = "only a plain SELECT is supported, no UNION or VALUES";
            return refuse(message, "define a query for each part");
        };
        if select.distinct.is_some() {
            return refuse("SELECT DISTINCT is not supported", "GROUP BY the columns instead");
        }
        let keys = match &mut select.group_by {
            GroupByExpr::Expressions(keys, _) => mem::take(keys),
            GroupByExpr::All(_) => Vec::new(),
        };
        let parts = Self {
            start,
            items: mem::take(&mut select.projection),
            texts,
            from: mem::take(&mut select.from),
            condition: select.selection.take(),
            keys,
            having: select.having.take(),
            order: query.order_by.take(),
            limit: query.limit_clause.take(),
            identity,
        };
        if query.to_string().trim() != "SELECT" {
            let help = "use FROM, WHERE, GROUP BY, HAVING, ORDER BY, LIMIT and OFFSET";
            return refuse("this statement has a clause that is not supported", help);
        }
        Ok(parts)
    }
}

/// The one table that a statement reads, and what it calls it.
fn source(select: &Select, schema: &Schema) -> Lowered<(TableNo, String)> {
    let start = select.start;
    let from = match select.from.as_slice() {
        [] => {
            return Err(Refusal::new(start, "this reads no table", "add FROM with a table's name"));
        }
        [one] if one.joins.is_empty() => one,
        _ => {
            return Err(Refusal::new(
                start,
                "joins are not supported",
                "read one table; follow links from its rows",
            ));
        }
    };
    let at = match &from.relation {
        TableFactor::Table { name, .. } => self::start(name.span()),
        other => self::start(other.span()),
    };
    let TableFactor::Table { name, alias, .. } = &from.relation else {
        return Err(Refusal::new(
            at,
            "only a table can stand in FROM",
            "name a table of the schema",
        ));
    };
    let plain = alias.as_ref().is_none_or(|alias| alias.columns.is_empty());
    let [part] = name.0.as_slice() else {
        return Err(Refusal::new(
            at,
            format!("there is no table {name}"),
            "a table has a name without dots",
        ));
    };
    let (Some(ident), true) = (part.as_ident(), plain) else {
        return Err(Refusal::new(
            at,
            "only a table can stand in FROM",
            "name a table of the schema",
        ));
    };
    let table = schema.table_no(&ident.value).map_err(|_| Refusal {
        unknown_name: true,
        ..Refusal::new(
            at,
            format!("there is no table \"{}\"", ident.value),
            nearest(&ident.value, schema.table_names()),
        )
    })?;
    let spelled = match alias {
        Some(alias) => format!("{ident} {}{}", if alias.explicit { "AS " } else { "" }, alias.name),
        None => ident.to_string(),
    };
    if spelled != from.to_string() {
        return Err(Refusal::new(
            at,
            format!("\"{from}\" is not supported"),
            "name the table alone",
        ));
    }
    Ok((table, alias.as_ref().map_or(&ident.value, |alias| &alias.name.value).clone()))
}

/// The result columns that have a name of their own.
fn named_items(select: &Select) -> Vec<(&str, &ast::Expr)> {
    let named = select.items.iter().filter_map(|item| match item {
        SelectItem::ExprWithAlias { expr, alias } => Some((alias.value.as_str(), expr)),
        _ => None,
    });
    named.collect()
}

/// Where in a text something begins; the parser does not know it of everything.
fn start(span: sqlparser::tokenizer::Span) -> Location {
    if span.start.line == 0 { Location::new(1, 1) } else { span.start }
}

/// Where an expression begins: where its leftmost part does. A loop, since chains of operators are
/// as deep as they are long.
fn place(expr: &ast::Expr) -> Location {
    let mut leftmost = expr;
    loop {
        leftmost = match leftmost {
            ast::Expr::BinaryOp { left, .. }
            | ast::Expr::IsDistinctFrom(left, _)
            | ast::Expr::IsNotDistinctFrom(left, _) => left,
            ast::Expr::IsNull(of)
            | ast::Expr::IsNotNull(of)
            | ast::Expr::IsTrue(of)
            | ast::Expr::IsNotTrue(of)
            | ast::Expr::IsFalse(of)
            | ast::Expr::IsNotFalse(of)
            | ast::Expr::Nested(of)
            | ast::Expr::UnaryOp { expr: of, .. }
            | ast::Expr::Between { expr: of, .. }
            | ast::Expr::InList { expr: of, .. }
            | ast::Expr::Like { expr: of, .. } => of,
            leaf => return start(leaf.span()),
        };
    }
}

/// What a kind of expression that is not supported is called.
fn kind(expr: &ast::Expr) -> &'static str {
    match expr {
        ast::Expr::Cast { .. } => "CAST",
        ast::Expr::Substring { .. } => "substr()",
        ast::Expr::Trim { .. } => "trim()",
        ast::Expr::Ceil { .. } => "ceil()",
        ast::Expr::Floor { .. } => "floor()",
        ast::Expr::Tuple(_) => "a row of values",
        _ => "this expression",
    }
}

/// What may be named at a place of the statement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Scope {
    /// Columns: the arguments of aggregates and the result columns' own expressions.
    Columns,
    /// Columns and names of result columns, but no aggregates.
    Row,
    /// All three.
    Group,
}

struct Lowering<'a> {
    schema: &'a Schema,
    table: &'a Table,
    alias: String,
    names: Vec<(&'a str, &'a ast::Expr)>,
    params: Vec<Param>,
    aggregates: Vec<(Aggregate, Option<Expr>)>,
    scope: Scope,
    /// Columns met since this was last emptied, and where.
    met: Vec<(usize, Location)>,
}

impl<'a> Lowering<'a> {
    fn plan(&mut self, select: &'a Select, table: TableNo) -> Lowered<Plan> {
        let condition =
            select.condition.as_ref().map(|condition| self.expr(condition)).transpose()?;
        let keys = self.group_keys(select)?;
        self.scope = Scope::Group;
        let having = match &select.having {
            Some(having) => Some((self.placed(having)?, place(having))),
            None => None,
        };
        let items = self.items(select)?;
        let order = self.order(select, &items)?;
        let (limit, offset) = self.limits(select)?;

        let grouped = !keys.is_empty() || !self.aggregates.is_empty();
        if let (Some((_, at)), false) = (&having, grouped) {
            return Err(Refusal::new(
                *at,
                "HAVING needs GROUP BY or an aggregate",
                "use WHERE for conditions on rows",
            ));
        }
        let regroup = |placed: Placed| {
            if grouped { placed.regroup(&keys, self.table) } else { Ok(placed.expr) }
        };
        let declared = |expr: &Expr| match expr {
            Expr::Column(number) => Some(self.table.fields[*number].kind),
            _ => None,
        };
        let mut outputs = Vec::new();
        for (name, placed) in items {
            let declared = declared(&placed.expr);
            outputs.push(Output { name, expr: regroup(placed)?, declared });
        }
        let mut order_keys = Vec::new();
        for (placed, descending, nulls_first) in order {
            order_keys.push(OrderKey { expr: regroup(placed)?, descending, nulls_first });
        }
        let having = having.map(|(placed, _)| regroup(placed)).transpose()?;
        let aggregates = std::mem::take(&mut self.aggregates);
        let grouping = grouped.then_some(Grouping { keys, aggregates, having });
        let (key_parts, filter) = self.split(condition);
        let mut plan = Plan {
            text: select.identity.clone(),
            table,
            keys: key_parts,
            filter,
            grouping,
            outputs,
            order: order_keys,
            limit,
            offset,
            params: std::mem::take(&mut self.params),
            footprint: FieldSet::default(),
            content: FieldSet::default(),
            order_fields: FieldSet::default(),
        };
        footprint(&mut plan);
        Ok(plan)
    }

    fn group_keys(&mut self, select: &'a Select) -> Lowered<Vec<Expr>> {
        let keys = select.keys.iter().map(|key| match ordinal(key) {
            Some(number) => {
                let item = self.ordinal(select, number, place(key))?;
                self.in_scope(Scope::Row, item)
            }
            None => self.expr(key),
        });
        keys.collect()
    }

    /// The result column that a number in GROUP BY or ORDER BY stands for.
    fn ordinal(&self, select: &'a Select, number: usize, at: Location) -> Lowered<&'a ast::Expr> {
        let item = number.checked_sub(1).and_then(|index| select.items.get(index));
        match item {
            Some(SelectItem::UnnamedExpr(expr) | SelectItem::ExprWithAlias { expr, .. }) => {
                Ok(expr)
            }
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

    fn items(&mut self, select: &'a Select) -> Lowered<Vec<(String, Placed)>> {
        let mut items = Vec::new();
        debug_assert_eq!(select.items.len(), select.texts.len());
        for (number, item) in select.items.iter().enumerate() {
            match item {
                SelectItem::UnnamedExpr(expr) => {
                    let name = match expr {
                        ast::Expr::Identifier(_) | ast::Expr::CompoundIdentifier(_) => None,
                        _ => select.texts.get(number).cloned(),
                    };
                    let placed = self.item(expr)?;
                    let plain = match placed.expr {
                        Expr::Column(number) => self.table.fields[number].name.to_string(),
                        _ => String::new(),
                    };
                    items.push((name.unwrap_or(plain), placed));
                }
                SelectItem::ExprWithAlias { expr, alias } => {
                    items.push((alias.value.clone(), self.item(expr)?))
                }
                SelectItem::Wildcard(options) if options.to_string().is_empty() => {
                    items.extend(self.all_columns(start(item.span())));
                }
                other => {
                    let at = start(other.span());
                    if other.to_string() == format!("{}.*", self.alias) {
                        items.extend(self.all_columns(at));
                    } else {
                        let message = "this is not supported as a result column";
                        return Err(Refusal::new(at, message, "name the columns"));
                    }
                }
            }
        }
        Ok(items)
    }

    fn all_columns(&self, at: Location) -> impl Iterator<Item = (String, Placed)> + use<'a> {
        self.table.fields.iter().enumerate().map(move |(number, field)| {
            let placed = Placed { expr: Expr::Column(number), met: vec![(number, at)] };
            (field.name.to_string(), placed)
        })
    }

    /// A result column's expression, which sees the names of the others not at all.
    fn item(&mut self, expr: &'a ast::Expr) -> Lowered<Placed> {
        let names = std::mem::take(&mut self.names);
        let placed = self.placed(expr);
        self.names = names;
        placed
    }

    fn order(
        &mut self,
        select: &'a Select,
        items: &[(String, Placed)],
    ) -> Lowered<Vec<(Placed, bool, bool)>> {
        let Some(order) = &select.order else {
            return Ok(Vec::new());
        };
        let OrderByKind::Expressions(keys) = &order.kind else {
            let at = Location::new(1, 1);
            return Err(Refusal::new(
                at,
                "ORDER BY ALL is not supported",
                "name the columns to order by",
            ));
        };
        let mut out = Vec::new();
        for key in keys {
            let at = place(&key.expr);
            let descending = match &key.options.sort {
                None | Some(OrderBySort::Asc) => false,
                Some(OrderBySort::Desc) => true,
                Some(OrderBySort::Using(_)) => {
                    return Err(Refusal::new(
                        at,
                        "ORDER BY … USING is not supported",
                        "use ASC or DESC",
                    ));
                }
            };
            let named = match &key.expr {
                ast::Expr::Identifier(ident) => {
                    self.names.iter().find(|(name, _)| name.eq_ignore_ascii_case(&ident.value))
                }
                _ => None,
            };
            let placed = match (ordinal(&key.expr), named) {
                (Some(number), _) => {
                    let item = number.checked_sub(1).and_then(|index| items.get(index));
                    item.map(|(_, placed)| placed.clone()).ok_or_else(|| {
                        let help = format!("the result has {} columns", items.len());
                        Refusal::new(at, format!("there is no result column {number}"), help)
                    })?
                }
                (None, Some((_, expr))) => self.item(expr)?,
                (None, None) => self.placed(&key.expr)?,
            };
            out.push((placed, descending, key.options.nulls_first.unwrap_or(!descending)));
        }
        Ok(out)
    }

    fn limits(&mut self, select: &'a Select) -> Lowered<(Option<Expr>, Option<Expr>)> {
        let (limit, offset) = match &select.limit {
            None => (None, None),
            Some(LimitClause::LimitOffset { limit, offset, .. }) => {
                (limit.as_ref(), offset.as_ref().map(|o| &o.value))
            }
            Some(LimitClause::OffsetCommaLimit { offset, limit }) => (Some(limit), Some(offset)),
        };
        let mut constant = |expr: Option<&'a ast::Expr>| -> Lowered<Option<Expr>> {
            let Some(expr) = expr else { return Ok(None) };
            let placed = self.placed(expr)?;
            if placed.met.is_empty() && self.aggregates.is_empty() || is_constant(&placed.expr) {
                return Ok(Some(placed.expr));
            }
            let message = "LIMIT and OFFSET cannot read a row";
            Err(Refusal::new(place(expr), message, "use a number or a parameter"))
        };
        Ok((constant(limit)?, constant(offset)?))
    }

    /// Divides a condition into keys by which bindings are found, and the rest.
    fn split(&self, condition: Option<Expr>) -> (Vec<KeyPart>, Option<Expr>) {
        let mut keys: Vec<KeyPart> = Vec::new();
        let mut rest: Option<Expr> = None;
        let mut open: Vec<Expr> = condition.into_iter().collect();
        while let Some(expr) = open.pop() {
            let key = match &expr {
                Expr::Compare(Comparison::Equal, _, left, right) => {
                    match (left.as_ref(), right.as_ref()) {
                        (Expr::Column(field), Expr::Param(param))
                        | (Expr::Param(param), Expr::Column(field)) => {
                            Some((FieldNo(*field as u32), *param))
                        }
                        _ => None,
                    }
                }
                _ => None,
            };
            match (expr, key) {
                (Expr::And(left, right), _) => {
                    open.push(*right);
                    open.push(*left);
                }
                (_, Some((field, param))) if keys.iter().all(|key| key.field != field) => {
                    let affinity = Affinity::of(self.table.field(field).kind, self.schema);
                    keys.push(KeyPart { field, param, affinity });
                }
                (expr, _) => {
                    rest = Some(match rest {
                        None => expr,
                        Some(before) => Expr::And(Box::new(before), Box::new(expr)),
                    });
                }
            }
        }
        (keys, rest)
    }

    fn placed(&mut self, expr: &'a ast::Expr) -> Lowered<Placed> {
        self.met.clear();
        let expr = self.expr(expr)?;
        Ok(Placed { expr, met: std::mem::take(&mut self.met) })
    }

    fn in_scope(&mut self, scope: Scope, expr: &'a ast::Expr) -> Lowered<Expr> {
        let before = std::mem::replace(&mut self.scope, scope);
        let lowered = self.expr(expr);
        self.scope = before;
        lowered
    }

    fn boxed(&mut self, expr: &'a ast::Expr) -> Lowered<Box<Expr>> {
        self.expr(expr).map(Box::new)
    }

    fn expr(&mut self, expr: &'a ast::Expr) -> Lowered<Expr> {
        Ok(match expr {
            ast::Expr::Identifier(ident) => return self.name(ident, start(ident.span)),
            ast::Expr::CompoundIdentifier(parts) => return self.qualified(parts, place(expr)),
            ast::Expr::Value(value) => return self.literal(&value.value, false, start(value.span)),
            ast::Expr::Nested(inner) => return self.expr(inner),
            ast::Expr::UnaryOp { op, expr: of } => match (op, of.as_ref()) {
                (UnaryOperator::Minus, ast::Expr::Value(value)) => {
                    self.literal(&value.value, true, start(value.span))?
                }
                (UnaryOperator::Minus, of) => Expr::Negate(self.boxed(of)?),
                // A plus changes nothing but that its operand is no plain column any more.
                (UnaryOperator::Plus, of) => Expr::Call(Function::Coalesce, vec![self.expr(of)?]),
                (UnaryOperator::Not, of) => Expr::Not(self.boxed(of)?),
                (op, _) => {
                    return Err(Refusal::new(
                        place(expr),
                        format!("operator {op} is not supported"),
                        "",
                    ));
                }
            },
            ast::Expr::BinaryOp { .. } => return self.chain(expr),
            ast::Expr::IsNull(of) => Expr::Is(Affinity::None, self.boxed(of)?, null()),
            ast::Expr::IsNotNull(of) => not(Expr::Is(Affinity::None, self.boxed(of)?, null())),
            ast::Expr::IsTrue(of) => Expr::IsTruth(true, self.boxed(of)?),
            ast::Expr::IsNotTrue(of) => not(Expr::IsTruth(true, self.boxed(of)?)),
            ast::Expr::IsFalse(of) => Expr::IsTruth(false, self.boxed(of)?),
            ast::Expr::IsNotFalse(of) => not(Expr::IsTruth(false, self.boxed(of)?)),
            ast::Expr::IsNotDistinctFrom(left, right) => self.is(left, right)?,
            ast::Expr::IsDistinctFrom(left, right) => not(self.is(left, right)?),
            ast::Expr::Between { expr, negated, low, high } => {
                let low = self.compare(Comparison::GreaterOrEqual, expr, low)?;
                let high = self.compare(Comparison::LessOrEqual, expr, high)?;
                negate(*negated, Expr::And(Box::new(low), Box::new(high)))
            }
            ast::Expr::InList { expr, list, negated } => {
                let of = self.expr(expr)?;
                let items = list.iter().map(|item| self.expr(item)).collect::<Lowered<Vec<_>>>()?;
                items.iter().for_each(|item| self.mark_time(&of, item));
                negate(*negated, Expr::In(self.affinity(&of), Box::new(of), items))
            }
            ast::Expr::Like { negated, any: false, expr, pattern, escape_char } => {
                let escape = escape_char.as_ref().map(|escape| self.escape(escape)).transpose()?;
                let (text, pattern) = (self.boxed(expr)?, self.boxed(pattern)?);
                negate(*negated, Expr::Like { text, pattern, escape })
            }
            ast::Expr::Case { operand, conditions, else_result, .. } => {
                let branches = conditions.iter().map(|branch| {
                    let when = match operand {
                        Some(operand) => {
                            self.compare(Comparison::Equal, operand, &branch.condition)?
                        }
                        None => self.expr(&branch.condition)?,
                    };
                    Ok((when, self.expr(&branch.result)?))
                });
                let branches = branches.collect::<Lowered<Vec<_>>>()?;
                let otherwise =
                    else_result.as_ref().map(|otherwise| self.boxed(otherwise)).transpose()?;
                Expr::Case { branches, otherwise }
            }
            ast::Expr::Function(function) => {
                return self.function(function, start(function.name.span()));
            }
            ast::Expr::Exists { .. } | ast::Expr::Subquery(_) | ast::Expr::InSubquery { .. } => {
                return Err(Refusal::new(
                    place(expr),
                    "subqueries are not supported",
                    "define a query for each part",
                ));
            }
            ast::Expr::Collate { .. } => {
                return Err(Refusal::new(
                    place(expr),
                    "COLLATE is not supported",
                    "texts compare by their bytes",
                ));
            }
            other => {
                let message = format!("{} is not supported", kind(other));
                return Err(Refusal::new(place(expr), message, ""));
            }
        })
    }

    fn name(&mut self, ident: &'a ast::Ident, at: Location) -> Lowered<Expr> {
        if let Some(column) = self.table.field_no(&ident.value) {
            self.met.push((column.index(), at));
            return Ok(Expr::Column(column.index()));
        }
        let named = self.names.iter().find(|(name, _)| name.eq_ignore_ascii_case(&ident.value));
        if let (Some((_, expr)), Scope::Row | Scope::Group) = (named, self.scope) {
            let (expr, names) = (*expr, std::mem::take(&mut self.names));
            let lowered = self.expr(expr);
            self.names = names;
            return lowered;
        }
        if ident.quote_style == Some('"') {
            let message = format!("there is no column {ident}");
            let help = format!("a text stands in single quotes: '{}'", ident.value);
            return Err(Refusal { unknown_name: true, ..Refusal::new(at, message, help) });
        }
        Err(self.no_column(&ident.value, at))
    }

    fn qualified(&mut self, parts: &[ast::Ident], at: Location) -> Lowered<Expr> {
        let [table, column] = parts else {
            return Err(Refusal::new(
                at,
                "a column's name has at most two parts",
                "write table.column",
            ));
        };
        if !table.value.eq_ignore_ascii_case(&self.alias) {
            let message = format!("the statement reads no table \"{}\"", table.value);
            let help = format!("it reads \"{}\"", self.alias);
            return Err(Refusal { unknown_name: true, ..Refusal::new(at, message, help) });
        }
        match self.table.field_no(&column.value) {
            Some(column) => {
                self.met.push((column.index(), at));
                Ok(Expr::Column(column.index()))
            }
            None => Err(self.no_column(&column.value, at)),
        }
    }

    fn no_column(&self, name: &str, at: Location) -> Refusal {
        let message = format!("table \"{}\" has no column \"{name}\"", self.table.name);
        Refusal {
            unknown_name: true,
            ..Refusal::new(at, message, nearest(name, self.table.field_names()))
        }
    }

    fn literal(&mut self, value: &ast::Value, negative: bool, at: Location) -> Lowered<Expr> {
        let literal = match value {
            ast::Value::Number(digits, false) => {
                let digits = if negative { format!("-{digits}") } else { digits.clone() };
                return number(&digits).map(Expr::Literal).ok_or_else(|| {
                    Refusal::new(
                        at,
                        format!("\"{digits}\" is not a number"),
                        "write it in decimal digits",
                    )
                });
            }
            ast::Value::SingleQuotedString(text) if text.contains('\0') => {
                return Err(Refusal::new(
                    at,
                    "this text holds U+0000, which a stored text cannot",
                    "",
                ));
            }
            ast::Value::SingleQuotedString(text) => Scalar::Text(text.as_str().into()),
            ast::Value::Boolean(truth) => Scalar::truth(Some(*truth)),
            ast::Value::Null => Scalar::Null,
            ast::Value::Placeholder(name) => {
                let Some(name) = name.strip_prefix(':') else {
                    return Err(Refusal::new(
                        at,
                        format!("parameter \"{name}\" has no name"),
                        "write it as :name",
                    ));
                };
                let param = Expr::Param(self.param(name));
                return Ok(if negative { Expr::Negate(Box::new(param)) } else { param });
            }
            other => {
                return Err(Refusal::new(at, format!("literal {other} is not supported"), ""));
            }
        };
        let literal = Expr::Literal(literal);
        Ok(if negative { Expr::Negate(Box::new(literal)) } else { literal })
    }

    fn param(&mut self, name: &str) -> usize {
        let known = self.params.iter().position(|param| param.name == name);
        known.unwrap_or_else(|| {
            self.params.push(Param { name: name.to_owned(), is_time: false });
            self.params.len() - 1
        })
    }

    /// A parameter that is compared with a time may be given as any RFC 3339 text.
    fn mark_time(&mut self, one: &Expr, other: &Expr) {
        for (column, param) in [(one, other), (other, one)] {
            if let (Expr::Column(column), Expr::Param(param)) = (column, param)
                && self.table.fields[*column].kind == Kind::Timestamp
            {
                self.params[*param].is_time = true;
            }
        }
    }

    fn affinity(&self, expr: &Expr) -> Affinity {
        match expr {
            Expr::Column(number) => Affinity::of(self.table.fields[*number].kind, self.schema),
            _ => Affinity::None,
        }
    }

    /// Operators one behind the other, from left to right. A loop, since such a chain is as deep
    /// as it is long.
    fn chain(&mut self, expr: &'a ast::Expr) -> Lowered<Expr> {
        let (mut leftmost, mut links) = (expr, Vec::new());
        while let ast::Expr::BinaryOp { left, op, right } = leftmost {
            links.push((op, right.as_ref()));
            leftmost = left;
        }
        let mut chain = self.expr(leftmost)?;
        for (op, right) in links.into_iter().rev() {
            let at = place(right);
            let right = self.expr(right)?;
            chain = self.binary(chain, op, right, at)?;
        }
        Ok(chain)
    }

    fn binary(
        &mut self,
        left: Expr,
        op: &BinaryOperator,
        right: Expr,
        at: Location,
    ) -> Lowered<Expr> {
        let comparison = match op {
            BinaryOperator::Eq => Some(Comparison::Equal),
            BinaryOperator::NotEq => Some(Comparison::NotEqual),
            BinaryOperator::Lt => Some(Comparison::Less),
            BinaryOperator::LtEq => Some(Comparison::LessOrEqual),
            BinaryOperator::Gt => Some(Comparison::Greater),
            BinaryOperator::GtEq => Some(Comparison::GreaterOrEqual),
            _ => None,
        };
        if let Some(comparison) = comparison {
            return Ok(self.comparison(comparison, left, right));
        }
        let (left, right) = (Box::new(left), Box::new(right));
        let arithmetic = match op {
            BinaryOperator::And => return Ok(Expr::And(left, right)),
            BinaryOperator::Or => return Ok(Expr::Or(left, right)),
            BinaryOperator::StringConcat => return Ok(Expr::Concat(left, right)),
            BinaryOperator::Plus => Arithmetic::Add,
            BinaryOperator::Minus => Arithmetic::Subtract,
            BinaryOperator::Multiply => Arithmetic::Multiply,
            BinaryOperator::Divide => Arithmetic::Divide,
            BinaryOperator::Modulo => Arithmetic::Remainder,
            other => {
                return Err(Refusal::new(at, format!("operator {other} is not supported"), ""));
            }
        };
        Ok(Expr::Arithmetic(arithmetic, left, right))
    }

    fn compare(
        &mut self,
        comparison: Comparison,
        left: &'a ast::Expr,
        right: &'a ast::Expr,
    ) -> Lowered<Expr> {
        let (left, right) = (self.expr(left)?, self.expr(right)?);
        Ok(self.comparison(comparison, left, right))
    }

    fn comparison(&mut self, comparison: Comparison, left: Expr, right: Expr) -> Expr {
        self.mark_time(&left, &right);
        let affinity = Affinity::of_comparison(self.affinity(&left), self.affinity(&right));
        Expr::Compare(comparison, affinity, Box::new(left), Box::new(right))
    }

    fn is(&mut self, left: &'a ast::Expr, right: &'a ast::Expr) -> Lowered<Expr> {
        let (left, right) = (self.expr(left)?, self.expr(right)?);
        self.mark_time(&left, &right);
        let affinity = Affinity::of_comparison(self.affinity(&left), self.affinity(&right));
        Ok(Expr::Is(affinity, Box::new(left), Box::new(right)))
    }

    fn escape(&mut self, escape: &'a ast::Expr) -> Lowered<Box<Expr>> {
        let lowered = self.boxed(escape)?;
        match lowered.as_ref() {
            Expr::Literal(Scalar::Text(text)) if text.chars().count() == 1 => Ok(lowered),
            _ => Err(Refusal::new(place(escape), "ESCAPE takes a text of one letter", "")),
        }
    }

    fn function(&mut self, function: &'a ast::Function, at: Location) -> Lowered<Expr> {
        let name = function.name.to_string().to_ascii_lowercase();
        let FunctionArguments::List(list) = &function.args else {
            return Err(Refusal::new(
                at,
                format!("{name} needs parentheses with its arguments"),
                "",
            ));
        };
        if list.duplicate_treatment.is_some() {
            let message = format!("DISTINCT in {name}() is not supported");
            return Err(Refusal::new(at, message, "GROUP BY the values instead"));
        }
        let plain = !function.uses_odbc_syntax
            && matches!(function.parameters, FunctionArguments::None)
            && function.within_group.is_empty()
            && function.filter.is_none()
            && function.null_treatment.is_none()
            && function.over.is_none()
            && list.clauses.is_empty();
        if !plain {
            let message = format!("what follows {name}(…) is not supported");
            return Err(Refusal::new(
                at,
                message,
                "call the function alone; CASE in its argument can filter",
            ));
        }
        let aggregate = match (name.as_str(), list.args.len()) {
            ("count", _) => Some(Aggregate::Count),
            ("sum", _) => Some(Aggregate::Sum),
            ("total", _) => Some(Aggregate::Total),
            ("avg", _) => Some(Aggregate::Average),
            ("min", 1) => Some(Aggregate::Min),
            ("max", 1) => Some(Aggregate::Max),
            _ => None,
        };
        if let Some(aggregate) = aggregate {
            return self.aggregate(aggregate, &name, &list.args, at);
        }
        const KNOWN: [(&str, std::ops::RangeInclusive<usize>, &str); 8] = [
            ("coalesce", 2..=100, "at least two"),
            ("ifnull", 2..=2, "two"),
            ("nullif", 2..=2, "two"),
            ("lower", 1..=1, "one"),
            ("upper", 1..=1, "one"),
            ("length", 1..=1, "one"),
            ("iif", 2..=3, "two or three"),
            ("if", 2..=3, "two or three"),
        ];
        let Some((_, wanted, told)) = KNOWN.iter().find(|(known, ..)| *known == name) else {
            let aggregates = ["count", "sum", "total", "avg", "min", "max"];
            let known = aggregates.into_iter().chain(KNOWN.map(|(known, ..)| known));
            let help = nearest_name(&name, known.clone()).map_or_else(
                || format!("supported are {}", known.collect::<Vec<_>>().join(", ")),
                did_you_mean,
            );
            return Err(Refusal::new(at, format!("function {name}() is not supported"), help));
        };
        if !wanted.contains(&list.args.len()) {
            let message = format!("{name}() has {} arguments, expected {told}", list.args.len());
            return Err(Refusal::new(at, message, ""));
        }
        let arguments = list.args.iter().map(|argument| match argument {
            FunctionArg::Unnamed(FunctionArgExpr::Expr(argument)) => self.expr(argument),
            other => Err(Refusal::new(at, format!("\"{other}\" is no argument of {name}()"), "")),
        });
        let arguments = arguments.collect::<Lowered<Vec<_>>>()?;
        Ok(match name.as_str() {
            "coalesce" | "ifnull" => Expr::Call(Function::Coalesce, arguments),
            "nullif" => Expr::Call(Function::NullIf, arguments),
            "lower" => Expr::Call(Function::Lower, arguments),
            "upper" => Expr::Call(Function::Upper, arguments),
            "length" => Expr::Call(Function::Length, arguments),
            _ => {
                let mut arguments = arguments.into_iter();
                let branches = arguments.next().zip(arguments.next()).into_iter().collect();
                Expr::Case { branches, otherwise: arguments.next().map(Box::new) }
            }
        })
    }

    fn aggregate(
        &mut self,
        mut aggregate: Aggregate,
        name: &str,
        arguments: &'a [FunctionArg],
        at: Location,
    ) -> Lowered<Expr> {
        if self.scope != Scope::Group {
            let help = "aggregates stand in the result columns, HAVING and ORDER BY, not inside of each other";
            return Err(Refusal::new(
                at,
                format!("the aggregate {name}() cannot stand here"),
                help,
            ));
        }
        let argument = match arguments {
            [] | [FunctionArg::Unnamed(FunctionArgExpr::Wildcard)]
                if aggregate == Aggregate::Count =>
            {
                aggregate = Aggregate::CountRows;
                None
            }
            [FunctionArg::Unnamed(FunctionArgExpr::Expr(argument))] => {
                // Columns inside of an aggregate are not bare.
                let (names, met) = (std::mem::take(&mut self.names), self.met.len());
                let lowered = self.in_scope(Scope::Columns, argument);
                self.met.truncate(met);
                self.names = names;
                Some(lowered?)
            }
            _ => return Err(Refusal::new(at, format!("{name}() takes one argument"), "")),
        };
        let wanted = (aggregate, argument);
        let known = self.aggregates.iter().position(|known| *known == wanted);
        Ok(Expr::Aggregate(known.unwrap_or_else(|| {
            self.aggregates.push(wanted);
            self.aggregates.len() - 1
        })))
    }
}

/// An expression, and the bare columns in it with their places.
#[derive(Clone)]
struct Placed {
    expr: Expr,
    met: Vec<(usize, Location)>,
}

impl Placed {
    /// The expression over a grouping's keys and aggregates.
    fn regroup(mut self, keys: &[Expr], table: &Table) -> Lowered<Expr> {
        regroup(&mut self.expr, keys).map_err(|column| {
            let at = self
                .met
                .iter()
                .find(|(met, _)| *met == column)
                .map_or(Location::new(1, 1), |(_, at)| *at);
            let name = &table.fields[column].name;
            Refusal::new(
                at,
                format!("column \"{name}\" is neither grouped by nor inside an aggregate"),
                format!("add it to GROUP BY, or write min({name})"),
            )
        })?;
        Ok(self.expr)
    }
}

fn regroup(expr: &mut Expr, keys: &[Expr]) -> Result<(), usize> {
    if let Some(key) = keys.iter().position(|key| key == expr) {
        *expr = Expr::Column(key);
        return Ok(());
    }
    match expr {
        Expr::Aggregate(number) => {
            *expr = Expr::Column(keys.len() + *number);
            Ok(())
        }
        Expr::Column(number) => Err(*number),
        other => {
            let mut result = Ok(());
            other.children_mut(&mut |child| {
                if result.is_ok() {
                    result = regroup(child, keys);
                }
            });
            result
        }
    }
}

fn footprint(plan: &mut Plan) {
    let mut all = FieldSet::default();
    let mut content = FieldSet::default();
    let mut order = FieldSet::default();
    let add = |set: &mut FieldSet, expr: &Expr| {
        expr.walk(&mut |expr| {
            if let Expr::Column(number) = expr {
                set.insert(FieldNo(*number as u32));
            }
        });
    };
    match &plan.grouping {
        Some(grouping) => {
            let arguments =
                grouping.aggregates.iter().filter_map(|(_, argument)| argument.as_ref());
            grouping.keys.iter().chain(arguments).for_each(|expr| add(&mut content, expr));
        }
        None => {
            plan.outputs.iter().for_each(|output| add(&mut content, &output.expr));
            plan.order.iter().for_each(|key| add(&mut order, &key.expr));
        }
    }
    plan.filter.iter().for_each(|filter| add(&mut all, filter));
    plan.keys.iter().for_each(|key| all.insert(key.field));
    content.iter().chain(order.iter()).for_each(|field| all.insert(field));
    (plan.footprint, plan.content, plan.order_fields) = (all, content, order);
}

fn is_constant(expr: &Expr) -> bool {
    let mut constant = true;
    expr.walk(&mut |expr| constant &= !matches!(expr, Expr::Column(_) | Expr::Aggregate(_)));
    constant
}

fn ordinal(expr: &ast::Expr) -> Option<usize> {
    match expr {
        ast::Expr::Value(value) => match &value.value {
            ast::Value::Number(digits, _) => digits.parse().ok(),
            _ => None,
        },
        _ => None,
    }
}

/// A numeric literal: whole if it has neither point nor exponent and fits 64 bits.
fn number(digits: &str) -> Option<Scalar<'static>> {
    let (number, is_whole_text) = number_prefix(digits);
    is_whole_text.then_some(number)
}

fn null() -> Box<Expr> {
    Box::new(Expr::Literal(Scalar::Null))
}

fn not(expr: Expr) -> Expr {
    Expr::Not(Box::new(expr))
}

fn negate(negated: bool, expr: Expr) -> Expr {
    if negated { not(expr) } else { expr }
}
