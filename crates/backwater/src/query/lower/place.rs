//! Where in a statement something stands, and what it is called.

use sqlparser::ast::{self, Spanned};
use sqlparser::tokenizer::{Location, Span};

/// Where in a text something begins; the parser does not know it of everything.
pub(super) fn start(span: Span) -> Location {
    if span.start.line == 0 { Location::new(1, 1) } else { span.start }
}

/// Where an expression begins: where its leftmost part does. A loop, since a row of operators nests
/// as deep as it is long.
pub(super) fn place(expr: &ast::Expr) -> Location {
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
pub(super) fn kind(expr: &ast::Expr) -> &'static str {
    match expr {
        ast::Expr::Cast { .. } => "CAST",
        ast::Expr::Ceil { .. } => "ceil()",
        ast::Expr::Floor { .. } => "floor()",
        ast::Expr::Tuple(_) => "a row of values",
        _ => "this expression",
    }
}
