//! From a syntax tree to a plan: names are resolved, what is not supported is refused.

mod expression;
mod place;
mod regroup;
mod select;

use sqlparser::ast::{self, LimitClause, OrderByKind, OrderBySort, SelectItem, Spanned};
use sqlparser::tokenizer::Location;

use super::aggregate::Aggregate;
use super::expr::{Comparison, Expr};
use super::plan::{Grouping, KeyPart, OrderKey, Output, Param, Plan};
use super::scalar::Affinity;
use super::syntax::{Parsed, Refusal};
use crate::change::FieldSet;
use crate::schema::{FieldNo, IdType, Kind, Schema, Table, TableNo};
use expression::Scope;
use place::{place, start};
use regroup::Placed;
use select::{Select, named_items, source};

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
            Expr::Column(number) => {
                let field = &self.table.fields[*number];
                let parts = self.schema.linked_id_type(field) == Some(IdType::Parts);
                Some(if parts { Kind::Json } else { field.kind })
            }
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
                    let affinity = Affinity::of(self.table.field(field), self.schema);
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
