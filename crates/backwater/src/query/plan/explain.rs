//! A statement's plan as a person reads it: what each operator reads, by which index, what it
//! keeps, and how it follows a commit.

use std::cell::RefCell;
use std::collections::HashSet;
use std::fmt::{self, Write};

use serde_json::{Value as Json, json};

use crate::query::plan::text::PlanNames;
use crate::query::plan::{Access, AggregateFunction, Identity, Path, Plan, Relation};
use crate::schema::{FieldNo, Schema};

/// A statement's plan, as a tree of operators; the rows flow from the leaves to the root.
///
/// ```
/// # use backwater::Schema;
/// # let schema = Schema::parse("s.toml", r#"
/// #     table.sailing = { id = "id", fields = { id = "int", port = "text", delay_min = "int" } }
/// # "#)?;
/// let late = schema.explain("SELECT id FROM sailing WHERE port = :port AND delay_min > 5 ORDER BY delay_min LIMIT 3")?;
/// assert_eq!(late.root().name(), "limit");
/// assert_eq!(late.root().inputs()[0].what(), "delay_min, then the rows' ids");
/// println!("{late}"); // as a tree
/// assert!(late.to_dot().starts_with("digraph"));
/// assert!(late.to_json().contains("\"operator\": \"limit\""));
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Debug, Clone)]
pub struct Explanation {
    title: String,
    root: Operator,
}

/// One operator of a plan.
///
/// See [`Explanation`] for an example.
#[derive(Debug, Clone)]
pub struct Operator {
    name: &'static str,
    what: String,
    facts: Vec<(&'static str, String)>,
    inputs: Vec<Operator>,
}

impl Operator {
    fn new(name: &'static str, what: impl Into<String>) -> Self {
        Self { name, what: what.into(), facts: Vec::new(), inputs: Vec::new() }
    }

    fn fact(mut self, label: &'static str, text: impl Into<String>) -> Self {
        let text = text.into();
        if !text.is_empty() {
            self.facts.push((label, text));
        }
        self
    }

    fn input(mut self, input: Operator) -> Self {
        self.inputs.push(input);
        self
    }

    /// What it does, as one or two words: `scan`, `join`, `group`, `order`, `limit`.
    ///
    /// See [`Explanation`] for an example.
    pub fn name(&self) -> &str {
        self.name
    }

    /// What it does that to.
    ///
    /// See [`Explanation`] for an example.
    pub fn what(&self) -> &str {
        &self.what
    }

    /// What else is known of it, as label and text: what it `reads`, `by` which way rows are found,
    /// `where` they stay, what it `keeps`, and how it `follows` a commit.
    ///
    /// ```
    /// # use backwater::Schema;
    /// # let schema = Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?;
    /// let plan = schema.explain("SELECT id FROM t WHERE id = :id")?;
    /// let scan = &plan.root().inputs()[0];
    /// assert!(scan.facts().any(|fact| fact == ("by", "the id :id")));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn facts(&self) -> impl Iterator<Item = (&str, &str)> {
        self.facts.iter().map(|(label, text)| (*label, text.as_str()))
    }

    /// The operators whose rows it takes.
    ///
    /// See [`Explanation`] for an example.
    pub fn inputs(&self) -> &[Operator] {
        &self.inputs
    }
}

impl Explanation {
    pub(crate) fn of(title: &str, plan: &Plan, schema: &Schema) -> Self {
        let title = title.split_whitespace().collect::<Vec<_>>().join(" ");
        Self { title, root: statement(plan, schema, &Printed::default()) }
    }

    /// What the statement is called.
    ///
    /// ```
    /// # use backwater::Schema;
    /// # let schema = Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int' } }")?;
    /// assert_eq!(schema.explain("SELECT id  FROM t")?.title(), "SELECT id FROM t");
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn title(&self) -> &str {
        &self.title
    }

    /// The operator whose rows are the result.
    ///
    /// See [`Explanation`] for an example.
    pub fn root(&self) -> &Operator {
        &self.root
    }

    /// The tree as JSON.
    ///
    /// See [`Explanation`] for an example.
    pub fn to_json(&self) -> String {
        let tree = json!({ "query": self.title, "plan": json(&self.root) });
        format!("{tree:#}")
    }

    /// The tree as a graph in Graphviz's DOT language.
    ///
    /// See [`Explanation`] for an example.
    pub fn to_dot(&self) -> String {
        let quoted = |text: &str| text.replace('\\', "\\\\").replace('"', "\\\"");
        let mut out = format!(
            "digraph plan {{\n  label=\"{}\"; labelloc=t; rankdir=BT; node [shape=box];\n",
            quoted(&self.title)
        );
        let (mut open, mut next) = (vec![(&self.root, None)], 0);
        while let Some((operator, reader)) = open.pop() {
            let number = next;
            next += 1;
            let mut label = quoted(&format!("{} {}", operator.name, operator.what));
            for (name, text) in &operator.facts {
                label += &format!("\\l{}", quoted(&format!("{name}: {text}")));
            }
            out += &format!("  n{number} [label=\"{label}\\l\"];\n");
            if let Some(reader) = reader {
                out += &format!("  n{number} -> n{reader};\n");
            }
            open.extend(operator.inputs.iter().rev().map(|input| (input, Some(number))));
        }
        out + "}\n"
    }
}

fn json(operator: &Operator) -> Json {
    let mut out = json!({ "operator": operator.name, "what": operator.what });
    if let Json::Object(out) = &mut out {
        out.extend(operator.facts.iter().map(|(label, text)| ((*label).to_owned(), json!(text))));
        out.insert("inputs".into(), operator.inputs.iter().map(json).collect());
    }
    out
}

/// The tree, an operator a line, with what is known of it below.
impl fmt::Display for Explanation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.title)?;
        branch(f, &self.root, "", true)
    }
}

fn branch(f: &mut impl Write, operator: &Operator, before: &str, is_last: bool) -> fmt::Result {
    let (fork, below) = if is_last { ("└─ ", "   ") } else { ("├─ ", "│  ") };
    write!(f, "\n{before}{fork}{} {}", operator.name, operator.what)?;
    let before = format!("{before}{below}");
    let stem = if operator.inputs.is_empty() { "  " } else { "│ " };
    for (label, text) in &operator.facts {
        write!(f, "\n{before}{stem}{label:<8} {text}")?;
    }
    for (number, input) in operator.inputs.iter().enumerate() {
        branch(f, input, &before, number + 1 == operator.inputs.len())?;
    }
    Ok(())
}

/// A statement's operators, the last one first. The statements that others read and that stand in
/// the tree already: each is kept and followed once, however many read it.
type Printed = RefCell<HashSet<Identity>>;

fn statement(plan: &Plan, schema: &Schema, shown: &Printed) -> Operator {
    let names = PlanNames { plan, schema };
    let mut operator = match plan.is_union {
        true => {
            let branches = plan.sources.iter().enumerate();
            let branches = branches.map(|(number, _)| source(&names, number, "branch", shown));
            let mut union = Operator::new("union all", "rows of each, one after the other");
            union.inputs.extend(branches);
            union
        }
        false => joins(&names, shown),
    };
    if let Some(grouping) = &plan.grouping {
        operator = group(&names, grouping).input(operator);
    }
    operator = order(&names).input(operator);
    if plan.limit.is_some() || plan.offset.is_some() {
        let number = |expr: &crate::query::expr::Expr| names.text_of(expr);
        let limit = plan.limit.as_ref().map(|limit| format!("{} rows", number(limit)));
        let offset =
            plan.offset.as_ref().map(|offset| format!("after the first {}", number(offset)));
        let what: Vec<String> = limit.into_iter().chain(offset).collect();
        operator = Operator::new("limit", what.join(" "))
            .fact("keeps", "nothing: it is cut out of the order when it is read")
            .fact("follows", "looks at as many rows beside its ends as were shifted across them")
            .input(operator);
    }
    operator
}

fn group(names: &PlanNames<'_>, grouping: &crate::query::plan::Grouping) -> Operator {
    let keys: Vec<String> = grouping.keys.iter().map(|key| names.text_of(key)).collect();
    let what = match (keys.is_empty(), grouping.aggregates.is_empty()) {
        (true, _) => "all rows into one".to_owned(),
        (false, true) => format!("equal {} once (DISTINCT)", keys.join(", ")),
        (false, false) => format!("by {}", keys.join(", ")),
    };
    let aggregates: Vec<String> =
        grouping.aggregates.iter().map(|aggregate| names.aggregate(aggregate)).collect();
    let mut kept: Vec<&str> = vec!["its number of rows"];
    for aggregate in &grouping.aggregates {
        use AggregateFunction as F;
        kept.push(match aggregate.function {
            _ if aggregate.distinct => "how often each value is there",
            F::CountRows | F::Count => "counts",
            F::Sum | F::Total | F::Average => "exact sums",
            F::Min | F::Max => "values in order, for min and max",
            F::Concat | F::JsonArray | F::First => "the items of its lists in order",
        });
    }
    kept.dedup();
    Operator::new("group", what)
        .fact("computes", aggregates.join(", "))
        .fact(
            "where",
            grouping.having.as_ref().map(|having| names.text_of_filter(having)).unwrap_or_default(),
        )
        .fact("keeps", format!("for each group {}", kept.join(", ")))
        .fact("follows", "takes a changed row out of its old group and puts it into its new one")
}

fn order(names: &PlanNames<'_>) -> Operator {
    let plan = names.plan;
    let keys = names.order(&plan.order, &|expr| names.text_of_filter(expr));
    let telling = plan.sources.iter().filter(|source| !source.is_determined);
    let telling: Vec<&str> = telling.map(|source| &*source.name).collect();
    let ties = match () {
        () if plan.grouping.is_some() => "the groups' keys".to_owned(),
        () if plan.sources.iter().all(|source| source.is_lookup || !source.is_determined) => {
            "the rows' ids".to_owned()
        }
        () => format!("the ids of {}", telling.join(", ")),
    };
    let what = if keys.is_empty() { ties } else { format!("{keys}, then {ties}") };
    let outputs = plan.outputs.iter().map(|output| {
        let shown = names.text_of_filter(&output.expr);
        let is_name = output.name.is_empty()
            || shown == output.name
            || shown.ends_with(&format!(".{}", output.name));
        if is_name { shown } else { format!("{shown} AS {}", output.name) }
    });
    let has_first = plan.keeps_first() && plan.limit.is_some();
    let (of_many, runs_out) = match has_first {
        true => (", of many the first", "; recomputed when the first run out"),
        false => ("", ""),
    };
    let kept = match (&plan.grouping, &plan.made) {
        (Some(_), _) => "a row of each group",
        (None, Some(_)) => "its rows' values",
        (None, None) => "the slots of its rows",
    };
    let sort_key = plan
        .keys
        .iter()
        .map(|key| format!("{} = :{}", names.column(key.column), plan.params[key.param].name));
    let sort_key: Vec<String> = sort_key.collect();
    let late: Vec<String> = plan.late.iter().map(|condition| names.text_of(condition)).collect();
    Operator::new("order", what)
        .fact("shows", outputs.collect::<Vec<_>>().join(", "))
        .fact(
            "bindings",
            match (sort_key.is_empty(), late.is_empty(), plan.is_shared) {
                (_, _, false) => "each is searched alone, since ON has parameters".to_owned(),
                (true, true, true) => String::new(),
                (false, true, true) => format!("found by {}", sort_key.join(" and ")),
                (true, false, true) => {
                    format!("found by a row's value of {}", late.join(" and "))
                }
                (false, false, true) => {
                    format!("found by {}, then by {}", sort_key.join(" and "), late.join(" and "))
                }
            },
        )
        .fact("keeps", format!("{kept}{of_many}, in a tree ordered by rank"))
        .fact(
            "follows",
            format!(
                "takes out the rows that moved and puts them in again, which gives old and new \
                 ranks{runs_out}"
            ),
        )
}

/// The sources, each joined to those before it.
fn joins(names: &PlanNames<'_>, shown: &Printed) -> Operator {
    let (plan, path) = (names.plan, &names.plan.scratch);
    let mut operator = source(names, path.start, "scan", shown);
    operator.facts.splice(0..0, {
        let by = access(names, path.start, &path.access);
        let checks = conditions(names, path.checks.iter());
        [("by", by), ("where", checks)].into_iter().filter(|(_, text)| !text.is_empty())
    });
    if path.access != Access::Scan {
        operator.name = "look up";
    }
    for step in &path.steps {
        let name = if step.optional { "left join" } else { "join" };
        let mut join = source(names, step.source, name, shown);
        let on: Vec<_> = step.on.iter().collect();
        join.facts.splice(0..0, {
            let by = access(names, step.source, &step.access);
            let on = conditions(names, on.into_iter());
            let checks = conditions(names, step.checks.iter());
            [("by", by), ("on", on), ("where", checks)]
                .into_iter()
                .filter(|(_, text)| !text.is_empty())
        });
        join.inputs.insert(0, operator);
        operator = join;
    }
    debug_assert!(!plan.is_union);
    operator
}

/// A source: what of it is read, and how its changes are followed.
fn source(names: &PlanNames<'_>, number: usize, name: &'static str, shown: &Printed) -> Operator {
    let plan = names.plan;
    let source = &plan.sources[number];
    let (what, inner) = match &source.relation {
        Relation::Table(table) => {
            let table = &names.schema.table(*table).name;
            let is_same = source.name.eq_ignore_ascii_case(table);
            let alias = if is_same { String::new() } else { format!(" AS {}", source.name) };
            (format!("{table}{alias}"), None)
        }
        Relation::Statement(inner, _) => {
            let role = if source.is_lookup { "" } else { "the statement " };
            match shown.borrow_mut().insert(inner.identity) {
                true => (format!("{role}{}", source.name), Some(inner)),
                false => (format!("{role}{}, which is shown above", source.name), None),
            }
        }
    };
    let fields: Vec<String> = source.reads.iter().map(|field| names.field(number, field)).collect();
    let reads =
        if fields.is_empty() { "only which rows there are".into() } else { fields.join(", ") };
    let follows = match plan.paths.get(number) {
        Some(path) if !path.steps.is_empty() => format!("from a changed row {}", way(names, path)),
        _ => "looks at each changed row before and after".to_owned(),
    };
    let mut operator = Operator::new(name, what).fact("reads", reads).fact("follows", follows);
    operator.inputs.extend(inner.map(|inner| statement(inner, names.schema, shown)));
    operator
}

fn conditions<'e>(
    names: &PlanNames<'_>,
    conditions: impl Iterator<Item = &'e crate::query::expr::Expr>,
) -> String {
    conditions.map(|condition| names.text_of(condition)).collect::<Vec<_>>().join(" AND ")
}

/// How rows of a source are found.
fn access(names: &PlanNames<'_>, source: usize, access: &Access) -> String {
    let table = match &names.plan.sources[source].relation {
        Relation::Table(table) => &*names.schema.table(*table).name,
        Relation::Statement(..) => &*names.plan.sources[source].name,
    };
    match access {
        Access::Scan => "all rows".to_owned(),
        Access::Follow(link) => format!("the link {}", names.column(*link)),
        Access::Id(value) => format!("the id {}", names.text_of(value)),
        Access::Back { link, to } => {
            let to = &names.plan.sources[*to].name;
            format!("the index of {table}.{}: links back to {to}", names.field(source, *link))
        }
        Access::Equal { fields, values } => {
            let field = |field: &FieldNo| names.field(source, *field);
            let fields: Vec<String> = fields.iter().map(field).collect();
            let values: Vec<String> = values.iter().map(|value| names.text_of(value)).collect();
            format!("the index of {table}.{} = {}", fields.join(", "), values.join(", "))
        }
    }
}

/// From a row of one source to the others.
fn way(names: &PlanNames<'_>, path: &Path) -> String {
    let steps = path.steps.iter().map(|step| {
        let name = &names.plan.sources[step.source].name;
        match &step.access {
            Access::Scan => format!("to all of {name}"),
            Access::Follow(_) => format!("by its link to {name}"),
            Access::Id(_) => format!("by the id to {name}"),
            Access::Back { link, .. } => {
                format!("back along {name}.{}", names.field(step.source, *link))
            }
            Access::Equal { fields, .. } => {
                let fields = fields.iter().map(|field| names.field(step.source, *field));
                format!("by the index of {name}.{}", fields.collect::<Vec<_>>().join(", "))
            }
        }
    });
    steps.collect::<Vec<_>>().join(", ")
}
