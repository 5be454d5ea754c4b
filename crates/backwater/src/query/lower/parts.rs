//! A statement on its way to a plan: its sources and conditions while they are being gathered.

use std::sync::Arc;

use super::Lowered;
use super::identity::determined;
use super::paths::{Paths, equality};
use super::window;
use crate::change::FieldSet;
use crate::query::expr::scalar::Affinity;
use crate::query::expr::{ColumnNo, Expr};
use crate::query::plan::{
    Combine, Grouping, Identity, KeyPart, OrderKey, Output, Param, Path, Plan, Projection,
    Recursion, Relation, Rows, Source, Windowing,
};
use crate::query::syntax::{Location, Refusal};
use crate::schema::{IdType, Schema};

/// So many statements may be read one through another: what follows them descends by calls.
const DEEPEST: usize = 256;

/// A source while its statement is being lowered.
#[derive(Clone)]
pub(super) struct OpenSource {
    pub(super) relation: Relation,
    pub(super) name: String,
    /// Of a left join, what ON says.
    pub(super) outer: Option<Vec<Expr>>,
    pub(super) is_lookup: bool,
}

/// A statement taken apart and resolved.
#[derive(Default)]
pub(super) struct Parts {
    pub(super) sources: Vec<OpenSource>,
    pub(super) combine: Combine,
    pub(super) conditions: Vec<Expr>,
    pub(super) grouping: Option<Grouping>,
    /// Window functions, of a statement without grouping.
    pub(super) windowing: Option<Windowing>,
    /// Elements or a recursion, of a statement with neither of these.
    pub(super) made: Option<Rows>,
    pub(super) outputs: Vec<Output>,
    pub(super) order: Vec<OrderKey>,
    pub(super) limit: Option<Expr>,
    pub(super) offset: Option<Expr>,
    pub(super) params: Vec<Param>,
}

impl Parts {
    /// Whether its rows are those of its sources, filtered: another statement may read the sources
    /// in its stead.
    pub(super) fn is_plain(&self) -> bool {
        self.is_by_tuple()
            && self.combine == Combine::Join
            && self.limit.is_none()
            && self.offset.is_none()
            && !self.sources.is_empty()
    }

    /// Whether a row is a tuple, or what is computed from one.
    fn is_by_tuple(&self) -> bool {
        self.grouping.is_none() && self.windowing.is_none() && self.made.is_none()
    }

    /// Calls `f` on every expression over the sources.
    pub(super) fn each_expr(&mut self, f: &mut dyn FnMut(&mut Expr)) {
        let sources = self.sources.iter_mut();
        sources.filter_map(|source| source.outer.as_mut()).flatten().for_each(&mut *f);
        self.conditions.iter_mut().for_each(&mut *f);
        match (&mut self.grouping, &mut self.made) {
            (_, Some(made)) => made.each_expr_mut(f),
            (Some(grouping), _) => {
                grouping.keys.iter_mut().for_each(&mut *f);
                let aggregates = grouping.aggregates.iter_mut();
                aggregates.for_each(|aggregate| aggregate.each_expr_mut(f));
            }
            (None, None) => {
                if let Some(windowing) = &mut self.windowing {
                    windowing.each_late_expr_mut(f);
                }
                self.outputs.iter_mut().for_each(|output| f(&mut output.expr));
                self.order.iter_mut().for_each(|key| f(&mut key.expr));
            }
        }
    }

    /// Calls `f` on every expression over a grouping's keys and aggregates, or over nothing.
    pub(super) fn each_late_expr(&mut self, f: &mut dyn FnMut(&mut Expr)) {
        if let Some(grouping) = &mut self.grouping {
            grouping.having.iter_mut().for_each(&mut *f);
            self.outputs.iter_mut().for_each(|output| f(&mut output.expr));
            self.order.iter_mut().for_each(|key| f(&mut key.expr));
        }
        self.limit.iter_mut().chain(&mut self.offset).for_each(f);
    }

    /// Leaves out the parameters that nothing reads.
    pub(super) fn drop_unused_params(&mut self) {
        let mut is_used = vec![false; self.params.len()];
        let mut note = |expr: &mut Expr| {
            expr.walk(&mut |expr| {
                if let Expr::Param(param) = expr {
                    is_used[*param] = true;
                }
            });
        };
        self.each_expr(&mut note);
        self.each_late_expr(&mut note);
        for source in &self.sources {
            source.relation.params().iter().for_each(|param| is_used[*param] = true);
        }
        let before = |param: usize| is_used[..param].iter().filter(|used| **used).count();
        let numbers: Vec<usize> = (0..is_used.len()).map(before).collect();
        let mut number = 0;
        self.params.retain(|_| {
            number += 1;
            is_used[number - 1]
        });
        self.renumber_params(&numbers);
    }

    /// Gives parameters other numbers.
    pub(super) fn renumber_params(&mut self, numbers: &[usize]) {
        self.each_expr(&mut |expr| expr.renumber(&|column| column, numbers));
        self.each_late_expr(&mut |expr| expr.renumber(&|column| column, numbers));
        for source in &mut self.sources {
            source.relation.params_mut().iter_mut().for_each(|param| *param = numbers[*param]);
        }
    }

    /// Makes the plan.
    pub(super) fn finish(mut self, schema: &Schema) -> Lowered<Arc<Plan>> {
        self.show_first_of_equal(schema);
        let (mut keys, mut late) = (Vec::new(), Vec::new());
        let mut is_shared = true;
        let alone = |start| Path { start, ..Path::default() };
        let mut paths: Vec<Path> = (0..self.sources.len()).map(alone).collect();
        let (mut scratch, mut anchors) = (Path::default(), Vec::new());
        if self.combine == Combine::Join {
            let outer = self.sources.iter().filter_map(|source| source.outer.as_ref()).flatten();
            // Of a recursion each binding finds rows by itself.
            let recursion = match &self.made {
                Some(Rows::Recursion(recursion)) => Some(recursion.source),
                _ => None,
            };
            is_shared = recursion.is_none() && !outer.clone().any(has_param);
            let conditions = self.conditions.clone();
            let of = Paths { schema, sources: &self.sources, conditions };
            keys = if is_shared { key_parts(&of) } else { Vec::new() };
            scratch = match recursion {
                Some(source) => of.from(source),
                None => of.scratch(&keys),
            };
            let mut shared = of;
            if is_shared {
                let (with, without): (Vec<_>, Vec<_>) =
                    self.conditions.iter().cloned().partition(has_param);
                late = with.into_iter().filter(|condition| !is_key(condition, &keys)).collect();
                shared.conditions = without;
            }
            paths = (0..self.sources.len()).map(|source| shared.from(source)).collect();
            anchors = (0..self.sources.len()).map(|source| shared.anchor(source)).collect();
        }
        let (reads, structure, content, order) = self.footprints();
        let determined = determined(schema, &self);
        let is_plain = self.is_by_tuple();
        let is_made = is_plain
            && (self.combine == Combine::Union
                // A text that is too long is reported when the result is computed.
                || self.sources.is_empty()
                || self.outputs.iter().any(|output| output.expr.may_grow())
                || self
                    .sources
                    .iter()
                    .any(|source| source.is_lookup || source.relation.plan().is_some()));
        let is_by_id = is_plain && !is_made && self.order.is_empty() && {
            let mut apart =
                self.sources.iter().zip(&determined).filter(|(_, determined)| !**determined);
            let of_table = apart.next().and_then(|(source, _)| source.relation.table());
            apart.next().is_none()
                && of_table.is_some_and(|of| schema.table(of).id_type() == IdType::Int)
        };
        let sources = self.sources.into_iter().enumerate().map(|(number, source)| Source {
            relation: source.relation,
            name: source.name,
            outer: source.outer,
            is_lookup: source.is_lookup,
            is_determined: determined[number],
            reads: reads(number),
            structure: structure(number),
            content: content(number),
            order: order(number),
        });
        let sources: Vec<Source> = sources.collect();
        let depths = sources.iter().map(|source| source.relation.depth());
        let depth = 1 + depths.max().unwrap_or(0);
        if depth > DEEPEST {
            let message =
                format!("this builds on more than {DEEPEST} statements, one upon another");
            let help = "read what is at the bottom more directly";
            return Err(Refusal::new(Location::START, message, help));
        }
        let of_key = sources.iter().filter(|source| !source.is_determined);
        let tuple_key_len =
            self.combine.key_len(of_key.map(|source| source.relation.key_len(schema)));
        let mut plan = Plan {
            identity: Identity::default(),
            footprints: Plan::footprints_of(&sources),
            sources,
            combine: self.combine,
            tuple_key_len,
            depth,
            keys,
            late,
            is_shared,
            scratch,
            paths,
            anchors,
            rows: self.grouping.map_or(Rows::Tuples, Rows::Grouped),
            outputs: self.outputs,
            order: self.order,
            limit: self.limit,
            offset: self.offset,
            params: self.params,
            is_by_id,
            tuning: schema.tuning,
            limits: schema.limits.results,
        };
        if is_made {
            let first = plan.key_len();
            let mut values = Vec::new();
            for expr in plan
                .outputs
                .iter_mut()
                .map(|output| &mut output.expr)
                .chain(plan.order.iter_mut().map(|key| &mut key.expr))
            {
                let kept = Expr::Column(ColumnNo::only(first + values.len()));
                values.push(std::mem::replace(expr, kept));
            }
            plan.rows = Rows::Projected(Projection { values });
        }
        if let Some(mut windowing) = self.windowing {
            window::settle(&mut windowing, &mut plan, schema);
            plan.rows = Rows::Windowed(windowing);
        }
        if let Some(made) = self.made {
            plan.rows = made;
        }
        plan.identity = Identity::of(&plan);
        Ok(Arc::new(plan))
    }

    /// For each source the columns that are read: all, for which rows there are, for what shows,
    /// and for the order.
    #[expect(clippy::type_complexity, reason = "four sets for each source")]
    fn footprints(
        &mut self,
    ) -> (
        impl Fn(usize) -> FieldSet + use<>,
        impl Fn(usize) -> FieldSet + use<>,
        impl Fn(usize) -> FieldSet + use<>,
        impl Fn(usize) -> FieldSet + use<>,
    ) {
        let (mut structure, mut content, mut order) = (Vec::new(), Vec::new(), Vec::new());
        for source in &self.sources {
            source.outer.iter().flatten().for_each(|on| structure.extend(on.columns()));
        }
        self.conditions.iter().for_each(|condition| structure.extend(condition.columns()));
        match (&self.grouping, &self.made) {
            (_, Some(made)) => {
                let mut add = |expr: &Expr| content.extend(expr.columns());
                made.operator().into_iter().for_each(|operator| operator.each_expr(&mut add));
                if let Rows::Recursion(Recursion { source, values, .. }) = made {
                    // What it begins with are rows of it as they are.
                    let all = 0..values.len();
                    content.extend(all.map(|column| ColumnNo::new(*source, column)));
                }
            }
            (Some(grouping), _) => {
                grouping.keys.iter().for_each(|key| content.extend(key.columns()));
                let mut add = |expr: &Expr| content.extend(expr.columns());
                grouping.aggregates.iter().for_each(|aggregate| aggregate.each_expr(&mut add));
            }
            (None, None) => {
                if let Some(windowing) = &self.windowing {
                    windowing.each_late_expr(&mut |expr| content.extend(expr.columns()));
                }
                self.outputs.iter().for_each(|output| content.extend(output.expr.columns()));
                self.order.iter().for_each(|key| order.extend(key.expr.columns()));
            }
        }
        if self.combine == Combine::Union {
            // A column is that of whichever source the row is of.
            for columns in [&mut content, &mut order] {
                let all: Vec<ColumnNo> = columns.clone();
                columns.extend((1..self.sources.len()).flat_map(|source| {
                    all.iter().map(move |column| ColumnNo::new(source, column.column as usize))
                }));
            }
        }
        let set = |columns: Vec<ColumnNo>| {
            move |source: usize| -> FieldSet {
                let mine = columns.iter().filter(|column| column.source() == source);
                mine.map(|column| column.field()).collect()
            }
        };
        let all = [&structure[..], &content[..], &order[..]].concat();
        (set(all), set(structure), set(content), set(order))
    }
}

pub(super) fn has_param(expr: &Expr) -> bool {
    let mut found = false;
    expr.walk(&mut |expr| found |= matches!(expr, Expr::Param(_)));
    found
}

/// The conditions `column = :param` by which bindings are found.
fn key_parts(of: &Paths<'_>) -> Vec<KeyPart> {
    let mut keys: Vec<KeyPart> = Vec::new();
    for condition in &of.conditions {
        if let Some((column, param, affinity)) = as_key(condition)
            && of.sources[column.source()].outer.is_none()
            && of.can_index(column, affinity)
            && keys.iter().all(|key| key.column != column)
        {
            keys.push(KeyPart { column, param, affinity });
        }
    }
    keys
}

fn as_key(condition: &Expr) -> Option<(ColumnNo, usize, Affinity)> {
    let affinity = super::paths::comparison_affinity(condition);
    match equality(condition)? {
        (Expr::Column(column), Expr::Param(param)) | (Expr::Param(param), Expr::Column(column)) => {
            Some((*column, *param, affinity))
        }
        _ => None,
    }
}

/// Whether a condition is one of the keys.
pub(super) fn is_key(condition: &Expr, keys: &[KeyPart]) -> bool {
    as_key(condition).is_some_and(|(column, param, _)| {
        keys.iter().any(|key| key.column == column && key.param == param)
    })
}
