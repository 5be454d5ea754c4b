//! From the result of one binding to that of another one of its shape: what of it can stay.

use smallvec::SmallVec;

use crate::query::expr::Expr;
use crate::query::operator::filter::band::{Band, End, band, is_narrower};
use crate::query::plan::{BoundPlan, Plan};

/// How the result for other values is derived from the present one.
#[derive(Debug, PartialEq)]
pub(crate) enum RebindStrategy {
    /// The same rows, in another excerpt.
    Excerpt,
    /// Rows leave at the ends of the order: those for which these conditions do not hold any more,
    /// each at its own end.
    Ends(SmallVec<[(End, usize); 1]>),
    /// Only rows with values in these bands enter or leave.
    Bands(SmallVec<[Band; 1]>),
    /// All rows of the new result are in the old one.
    Narrower,
    /// Little is known: it is recomputed.
    Recompute,
}

impl RebindStrategy {
    /// The way between two bindings of a plan; `elsewhere` is that of [`elsewhere`].
    pub(crate) fn between(from: &BoundPlan, to: &BoundPlan, elsewhere: &[bool]) -> Self {
        let plan = &*from.plan;
        let has_changed = |param: usize| from.params[param] != to.params[param];
        let reads = |expr: &Expr| reads(expr, &has_changed);
        if !plan.is_shared
            || (0..elsewhere.len()).any(|param| elsewhere[param] && has_changed(param))
        {
            return RebindStrategy::Recompute;
        }
        let (mut bands, mut narrower) = (SmallVec::new(), false);
        let (mut ends, mut at_ends) = (SmallVec::new(), true);
        let late = plan.late.iter().enumerate();
        for (number, condition) in late.filter(|(_, condition)| reads(condition)) {
            if let Some((band, end)) = band(condition, from, to) {
                bands.push(band);
                match end {
                    Some(end) => ends.push((end, number)),
                    None => at_ends = false,
                }
            } else if is_narrower(condition, from, to) {
                narrower = true;
            } else {
                return RebindStrategy::Recompute;
            }
        }
        match (bands.is_empty(), narrower) {
            (true, false) => RebindStrategy::Excerpt,
            (false, false) if at_ends => RebindStrategy::Ends(ends),
            (false, false) => RebindStrategy::Bands(bands),
            (true, true) if plan.rows.are_tuples() => RebindStrategy::Narrower,
            _ => RebindStrategy::Recompute,
        }
    }
}

/// Whether an expression reads one of some parameters.
fn reads(expr: &Expr, is_one: &dyn Fn(usize) -> bool) -> bool {
    let mut found = false;
    expr.walk(&mut |expr| found |= matches!(expr, Expr::Param(param) if is_one(*param)));
    found
}

/// For each parameter of a plan whether it decides on more than which rows there are and where the
/// excerpt is.
pub(crate) fn elsewhere(plan: &Plan) -> Box<[bool]> {
    (0..plan.params.len()).map(|param| is_elsewhere(plan, param)).collect()
}

/// Whether a parameter decides on more than which rows there are and where the excerpt is.
fn is_elsewhere(plan: &Plan, param: usize) -> bool {
    let reads = |expr: &Expr| reads(expr, &|other| other == param);
    let of_sources = plan.sources.iter().any(|source| source.relation.params().contains(&param));
    let of_keys = plan.keys.iter().any(|key| key.param == param);
    let mut of_rows = false;
    if let Some(rows) = plan.rows.operator() {
        rows.each_expr(&mut |expr| of_rows |= reads(expr));
        rows.each_late_expr(&mut |expr| of_rows |= reads(expr));
    }
    let outputs = plan.outputs.iter().map(|output| &output.expr);
    let order = plan.order.iter().map(|key| &key.expr);
    of_sources || of_keys || of_rows || outputs.chain(order).any(reads)
}
