//! The parts of a SELECT that are supported.

use std::mem;

use sqlparser::ast::{self, Distinct, GroupByExpr, LimitClause, SelectItem, SetExpr};
use sqlparser::tokenizer::Location;

use super::{Lowered, beginning};
use crate::query::syntax::Refusal;

/// The parts of a statement that are supported.
pub(super) struct Select {
    pub(super) start: Location,
    pub(super) items: Vec<SelectItem>,
    /// The items as they are written in the statement, if they matter.
    pub(super) texts: Vec<String>,
    pub(super) distinct: bool,
    pub(super) from: Vec<ast::TableWithJoins>,
    pub(super) condition: Option<ast::Expr>,
    pub(super) keys: Vec<ast::Expr>,
    pub(super) having: Option<ast::Expr>,
    pub(super) tail: Tail,
}

/// What stands behind a SELECT, or behind several.
pub(super) struct Tail {
    pub(super) order: Option<ast::OrderBy>,
    pub(super) limit: Option<LimitClause>,
}

impl Select {
    /// Takes a statement apart. What then remains of it must be nothing.
    pub(super) fn of(mut query: ast::Query, texts: Option<Vec<String>>) -> Lowered<Self> {
        while let SetExpr::Query(inner) = query.body.as_mut() {
            // Parentheses around a statement that has nothing else.
            let inner = mem::replace(inner.as_mut(), plain_query(empty()));
            if inner.with.is_some() || query.order_by.is_some() || query.limit_clause.is_some() {
                let help = "write FROM (SELECT …) around it";
                let message = "a statement in parentheses is not supported here";
                return Err(Refusal::new(beginning(&inner), message, help));
            }
            query = inner;
        }
        let start = beginning(&query);
        let refuse = |message: &str, help: &str| Err(Refusal::new(start, message, help));
        let tail = Tail { order: query.order_by.take(), limit: query.limit_clause.take() };
        let SetExpr::Select(select) = query.body.as_mut() else {
            let message = "only SELECT is supported here, no VALUES";
            return refuse(message, "keep the values in a table, or give them as parameters");
        };
        let distinct = match select.distinct.take() {
            None | Some(Distinct::All) => false,
            Some(Distinct::Distinct) => true,
            Some(Distinct::On(_)) => {
                return refuse("DISTINCT ON is not supported", "GROUP BY the columns instead");
            }
        };
        let keys = match &mut select.group_by {
            GroupByExpr::Expressions(keys, _) => mem::take(keys),
            GroupByExpr::All(_) => Vec::new(),
        };
        let items = mem::take(&mut select.projection);
        let texts = texts.unwrap_or_else(|| items.iter().map(ToString::to_string).collect());
        let parts = Self {
            start,
            items,
            texts,
            distinct,
            from: mem::take(&mut select.from),
            condition: select.selection.take(),
            keys,
            having: select.having.take(),
            tail,
        };
        if query.to_string().trim() != "SELECT" {
            let help = "use FROM, WHERE, GROUP BY, HAVING, ORDER BY, LIMIT and OFFSET";
            return refuse("this statement has a clause that is not supported", help);
        }
        Ok(parts)
    }

    /// What stands behind a UNION ALL, whose parts have been taken out.
    pub(super) fn tail_of_union(query: &mut ast::Query) -> Lowered<Tail> {
        let tail = Tail { order: query.order_by.take(), limit: query.limit_clause.take() };
        let mut rest = mem::replace(query, plain_query(empty()));
        *rest.body = empty();
        if rest.to_string() != plain_query(empty()).to_string() {
            let message = "this statement has a clause that is not supported";
            return Err(Refusal::new(
                Location::new(1, 1),
                message,
                "use ORDER BY, LIMIT and OFFSET",
            ));
        }
        Ok(tail)
    }
}

fn empty() -> SetExpr {
    SetExpr::Values(ast::Values { explicit_row: false, value_keyword: false, rows: Vec::new() })
}

/// A statement that is nothing but its body.
pub(super) fn plain_query(body: SetExpr) -> ast::Query {
    ast::Query {
        with: None,
        body: Box::new(body),
        order_by: None,
        limit_clause: None,
        fetch: None,
        locks: Vec::new(),
        for_clause: None,
        settings: None,
        format_clause: None,
        pipe_operators: Vec::new(),
    }
}

/// The result columns that have a name of their own.
pub(super) fn named_items(items: &[SelectItem]) -> Vec<(&str, &ast::Expr)> {
    let named = items.iter().filter_map(|item| match item {
        SelectItem::ExprWithAlias { expr, alias } => Some((alias.value.as_str(), expr)),
        _ => None,
    });
    named.collect()
}
