//! A statement's plan as a person reads it: what each operator reads, by which index, what it
//! keeps, and how it follows a commit.

use std::fmt::{self, Write};

use serde_json::{Value as Json, json};

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
    pub(in crate::query) fn new(name: &'static str, what: impl Into<String>) -> Self {
        Self { name, what: what.into(), facts: Vec::new(), inputs: Vec::new() }
    }

    /// Adds something that is known of it, if it is anything.
    pub(in crate::query) fn fact(mut self, label: &'static str, text: impl Into<String>) -> Self {
        let text = text.into();
        if !text.is_empty() {
            self.facts.push((label, text));
        }
        self
    }

    pub(in crate::query) fn input(mut self, input: Operator) -> Self {
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
    pub(crate) fn new(title: &str, root: Operator) -> Self {
        let title = title.split_whitespace().collect::<Vec<_>>().join(" ");
        Self { title, root }
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
