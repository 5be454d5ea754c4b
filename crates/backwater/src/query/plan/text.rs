//! Expressions as a person reads them: SQL again, with the names of the statement.

use crate::query::expr::collation::Collation;
use crate::query::expr::function::{Cast, Function};
use crate::query::expr::scalar::Scalar;
use crate::query::expr::{Arithmetic, ColumnNo, Comparison, Expr};
use crate::query::plan::{Aggregate, AggregateFunction, Combine, OrderKey, Plan};
use crate::schema::{FieldNo, Schema};

/// The names of what a plan's expressions read.
#[derive(Clone, Copy)]
pub(crate) struct PlanNames<'p> {
    pub(crate) plan: &'p Plan,
    pub(crate) schema: &'p Schema,
}

impl PlanNames<'_> {
    /// A column of a source, with the source's name where there are several.
    pub(crate) fn column(&self, column: ColumnNo) -> String {
        if self.plan.combine == Combine::Union {
            return self
                .plan
                .outputs
                .get(column.column as usize)
                .map_or_else(|| format!("column {}", column.column), |output| output.name.clone());
        }
        let name = self.field(column.source(), column.field());
        match self.plan.sources.len() {
            1 => name,
            _ => format!("{}.{name}", self.plan.sources[column.source()].name),
        }
    }

    /// A value of a tuple's key.
    pub(crate) fn key(&self, place: usize) -> String {
        let column = self.plan.key_columns(self.schema).get(place).copied().flatten();
        column.map_or_else(|| format!("key {place}"), |column| self.column(column))
    }

    /// The name of a field of a source.
    pub(crate) fn field(&self, source: usize, field: FieldNo) -> String {
        self.plan.sources[source].relation.column_text(field, self.schema)
    }

    /// An expression over the sources' columns.
    pub(crate) fn text_of(&self, expr: &Expr) -> String {
        self.write(expr, &|column| self.column(column))
    }

    /// An expression over what a row of the result keeps; else over the sources' columns.
    pub(crate) fn text_of_filter(&self, expr: &Expr) -> String {
        self.write(expr, &|column| match self.plan.rows.operator() {
            Some(rows) => {
                let keys = self.plan.key_len();
                rows.value_name(self, column.column as usize, keys)
            }
            None => self.column(column),
        })
    }

    /// An aggregate, with what it is called with as `print` has it.
    pub(crate) fn aggregate(
        &self,
        aggregate: &Aggregate,
        print: &dyn Fn(&Expr) -> String,
    ) -> String {
        use AggregateFunction as F;
        let name = match aggregate.function {
            F::CountRows => return filtered("count(*)".into(), aggregate, print),
            F::Count => "count",
            F::Sum => "sum",
            F::Total => "total",
            F::Average => "avg",
            F::Min => "min",
            F::Max => "max",
            F::Concat => "group_concat",
            F::JsonArray => "json_group_array",
            F::JsonObject => "json_group_object",
            F::First => "the first",
        };
        let distinct = if aggregate.distinct { "DISTINCT " } else { "" };
        let argument = aggregate.argument.as_ref().map_or(String::new(), print);
        let beside = aggregate.beside.as_ref().map(print);
        let arguments: Vec<String> = match aggregate.function {
            F::JsonObject => beside.into_iter().chain([argument]).collect(),
            _ => [argument].into_iter().chain(beside).collect(),
        };
        let arguments = arguments.join(", ");
        let order = match aggregate.order.as_slice() {
            [] => String::new(),
            // By its argument, which goes without saying.
            _ if matches!(aggregate.function, F::Min | F::Max) => String::new(),
            keys => format!(" ORDER BY {}", self.order(keys, print)),
        };
        filtered(format!("{name}({distinct}{arguments}{order})"), aggregate, print)
    }

    pub(crate) fn order(&self, keys: &[OrderKey], print: &dyn Fn(&Expr) -> String) -> String {
        let keys = keys.iter().map(|key| {
            let collation = match key.collation {
                Collation::Binary => String::new(),
                other => format!(" COLLATE {}", collation_name(other)),
            };
            let direction = if key.descending { " DESC" } else { "" };
            let nulls = match (key.descending, key.nulls_first) {
                (false, false) => " NULLS LAST",
                (true, true) => " NULLS FIRST",
                _ => "",
            };
            format!("{}{collation}{direction}{nulls}", print(&key.expr))
        });
        keys.collect::<Vec<_>>().join(", ")
    }

    /// The subquery of which a condition says that it has no row here: what its rows are marked by
    /// is missing.
    fn without_row(&self, condition: &Expr) -> Option<&str> {
        let Expr::Is(_, _, left, right) = condition else { return None };
        let (Expr::Column(column), Expr::Literal(Scalar::Null)) = (&**left, &**right) else {
            return None;
        };
        let source = self.plan.sources.get(column.source()).filter(|source| source.is_lookup)?;
        let mark = &source.relation.plan()?.outputs.get(column.column as usize)?.expr;
        matches!(mark, Expr::Literal(_)).then_some(&*source.name)
    }

    fn write(&self, expr: &Expr, column: &dyn Fn(ColumnNo) -> String) -> String {
        let of = |expr: &Expr| self.write(expr, column);
        let side = |expr: &Expr| {
            let is_leaf = matches!(
                expr,
                Expr::Literal(_)
                    | Expr::Param(_)
                    | Expr::Column(_)
                    | Expr::Call(..)
                    | Expr::Cast(..)
            );
            if is_leaf { of(expr) } else { format!("({})", of(expr)) }
        };
        let list = |all: &[Expr]| all.iter().map(of).collect::<Vec<_>>().join(", ");
        match expr {
            Expr::Literal(value) => literal(value),
            Expr::Param(number) => format!(":{}", self.plan.params[*number].name),
            Expr::Column(number) => column(*number),
            Expr::Outer(_) | Expr::Aggregate(_) | Expr::Window(_) => "?".to_owned(),
            Expr::Under(_, inner) => of(inner),
            Expr::Folded(collation, inner) => format!("{}{}", side(inner), collated(*collation)),
            Expr::Negate(inner) => format!("-{}", side(inner)),
            Expr::Not(inner) => match self.without_row(inner) {
                Some(source) => format!("{source} has a row"),
                None => format!("NOT {}", side(inner)),
            },
            Expr::And(left, right) => format!("{} AND {}", side(left), side(right)),
            Expr::Or(left, right) => format!("{} OR {}", side(left), side(right)),
            Expr::Arithmetic(operator, left, right) => {
                let sign = match operator {
                    Arithmetic::Add => "+",
                    Arithmetic::Subtract => "-",
                    Arithmetic::Multiply => "*",
                    Arithmetic::Divide => "/",
                    Arithmetic::Remainder => "%",
                };
                format!("{} {sign} {}", side(left), side(right))
            }
            Expr::Concat(left, right) => format!("{} || {}", side(left), side(right)),
            Expr::Compare(comparison, _, collation, left, right) => {
                let sign = match comparison {
                    Comparison::Equal => "=",
                    Comparison::NotEqual => "<>",
                    Comparison::Less => "<",
                    Comparison::LessOrEqual => "<=",
                    Comparison::Greater => ">",
                    Comparison::GreaterOrEqual => ">=",
                };
                format!("{} {sign} {}{}", side(left), side(right), collated(*collation))
            }
            Expr::Is(_, collation, left, right) => {
                if let Some(source) = self.without_row(expr) {
                    return format!("{source} has no row");
                }
                format!("{} IS {}{}", side(left), side(right), collated(*collation))
            }
            Expr::IsTruth(truth, inner) => {
                format!("{} IS {}", side(inner), if *truth { "TRUE" } else { "FALSE" })
            }
            Expr::In(_, collation, inner, items) => {
                format!("{} IN ({}){}", side(inner), list(items), collated(*collation))
            }
            Expr::Cast(cast, inner) => format!("CAST({} AS {})", of(inner), cast_name(*cast)),
            Expr::Like { text, pattern, escape } => {
                let escape = escape.as_ref().map(|escape| format!(" ESCAPE {}", side(escape)));
                format!("{} LIKE {}{}", side(text), side(pattern), escape.unwrap_or_default())
            }
            Expr::Case { branches, otherwise } => {
                let mut out = String::from("CASE");
                for (when, then) in branches {
                    out += &format!(" WHEN {} THEN {}", of(when), of(then));
                }
                if let Some(otherwise) = otherwise {
                    out += &format!(" ELSE {}", of(otherwise));
                }
                out + " END"
            }
            Expr::Call(Function::IsJson | Function::ToJson, inner) => list(inner),
            Expr::Call(Function::JsonExtracted, of) => format!("json_extract({})", list(of)),
            Expr::Call(Function::Merged, all) => format!("coalesce({})", list(all)),
            Expr::Call(function, arguments) if function.sign().is_some() => {
                let sign = function.sign().unwrap_or_default();
                match arguments.as_slice() {
                    [left, right] => format!("{} {sign} {}", side(left), side(right)),
                    of => format!("{sign}{}", of.iter().map(side).collect::<String>()),
                }
            }
            Expr::Call(function, arguments) => {
                let known = Function::ALL.iter().find(|(_, other, ..)| other == function);
                format!("{}({})", known.map_or("?", |(name, ..)| name), list(arguments))
            }
        }
    }
}

fn literal(value: &Scalar<'_>) -> String {
    match value {
        Scalar::Null => "NULL".to_owned(),
        Scalar::Int(_) | Scalar::Real(_) => value.to_text().unwrap_or_default().into_owned(),
        text => format!("'{}'", text.to_text().unwrap_or_default().replace('\'', "''")),
    }
}

fn collated(collation: Collation) -> String {
    match collation {
        Collation::Binary => String::new(),
        other => format!(" COLLATE {}", collation_name(other)),
    }
}

fn collation_name(collation: Collation) -> &'static str {
    match collation {
        Collation::Binary => "BINARY",
        Collation::NoCase => "NOCASE",
        Collation::RTrim => "RTRIM",
        #[cfg(feature = "unicode")]
        Collation::Unicode => "UNICODE",
    }
}

fn cast_name(cast: Cast) -> &'static str {
    match cast {
        Cast::Text => "TEXT",
        Cast::Integer => "INTEGER",
        Cast::Real => "REAL",
    }
}

fn filtered(call: String, aggregate: &Aggregate, print: &dyn Fn(&Expr) -> String) -> String {
    match &aggregate.filter {
        Some(filter) => format!("{call} FILTER (WHERE {})", print(filter)),
        None => call,
    }
}
