//! How tuples are found: the order of the sources, and the access to each.

use super::parts::{OpenSource, is_key};
use crate::query::expr::collation::Collation;
use crate::query::expr::scalar::Affinity;
use crate::query::expr::{ColumnNo, Comparison, Expr};
use crate::query::plan::{Access, JoinStep, KeyPart, Path, Relation};
use crate::schema::{FieldKind, FieldNo, IdType, Schema};

/// Finds paths through the sources of one statement.
pub(super) struct Paths<'p> {
    pub(super) schema: &'p Schema,
    pub(super) sources: &'p [OpenSource],
    /// What every tuple must be.
    pub(super) conditions: Vec<Expr>,
}

/// How good an access is: the lower, the fewer rows it gives.
fn rank(access: &Access) -> u32 {
    match access {
        Access::Follow(_) => 0,
        Access::Id(_) => 1,
        Access::Back { .. } => 3,
        Access::Equal { .. } => 4,
        Access::Scan => 100,
    }
}

impl Paths<'_> {
    /// From nothing: from the rows of the keys, or of the source from which the others are found
    /// best.
    pub(super) fn scratch(&self, keys: &[KeyPart]) -> Path {
        let inner = (0..self.sources.len()).filter(|source| self.sources[*source].outer.is_none());
        let best = inner
            .clone()
            .map(|start| {
                let (access, by) = self.access_of_keys(start, keys);
                let path = self.from(start);
                let steps: u32 = path.steps.iter().map(|step| rank(&step.access)).sum();
                let first = if access == Access::Scan { 50 } else { rank(&access) };
                (first + steps, start, access, by)
            })
            .min_by_key(|(cost, start, ..)| (*cost, *start));
        let Some((_, start, access, by)) = best else {
            return Path::default();
        };
        let path = self.from(start);
        let (implied, checks) =
            path.checks.into_iter().partition(|condition| is_key(condition, &by));
        Path { access, checks, implied, ..path }
    }

    /// How rows are found by keys, and by which ones.
    fn access_of_keys(&self, start: usize, keys: &[KeyPart]) -> (Access, Vec<KeyPart>) {
        let mine = keys.iter().filter(|key| key.column.source() == start);
        let (mut fields, mut values, mut by) = (Vec::new(), Vec::new(), Vec::new());
        for key in mine {
            let value = Expr::Under(key.affinity, Box::new(Expr::Param(key.param)));
            if self.is_id(key.column) {
                return (Access::Id(value), vec![key.clone()]);
            }
            if self.can_index(key.column, key.affinity) {
                by.push(key.clone());
                fields.push(key.column.field());
                values.push(value);
            }
        }
        let access = if by.is_empty() { Access::Scan } else { Access::Equal { fields, values } };
        (access, by)
    }

    /// From one row of a source to all others.
    pub(super) fn from(&self, start: usize) -> Path {
        self.path(start, &self.conditions, true)
    }

    /// From one row of a left join's source to the rows that it may be the partner of, ignoring the
    /// other conditions on the two.
    pub(super) fn anchor(&self, start: usize) -> Option<Path> {
        self.sources[start].outer.as_ref()?;
        let inner = |condition: &&Expr| {
            let columns = condition.columns();
            columns.iter().all(|column| self.sources[column.source()].outer.is_none())
        };
        let conditions: Vec<Expr> = self.conditions.iter().filter(inner).cloned().collect();
        Some(self.path(start, &conditions, false))
    }

    /// The sources that must be known before it is decided whether a row is a partner.
    fn needed(&self, start: usize) -> Vec<usize> {
        let (mut needed, mut next) = (vec![start], 0);
        while let Some(source) = needed.get(next).copied() {
            next += 1;
            for condition in self.sources[source].outer.iter().flatten() {
                for column in condition.columns() {
                    if !needed.contains(&column.source()) {
                        needed.push(column.source());
                    }
                }
            }
        }
        needed
    }

    /// `whole` is whether sources are visited whose rows may be missing.
    fn path(&self, start: usize, conditions: &[Expr], whole: bool) -> Path {
        let mut required = vec![start];
        let mut force: Vec<&Expr> = conditions.iter().collect();
        // A tuple that has this row has a row of each source that it is joined to by equality.
        let mut next = 0;
        while let Some(source) = required.get(next).copied() {
            next += 1;
            for condition in self.sources[source].outer.iter().flatten() {
                force.push(condition);
                let Some((left, right)) = equality(condition) else { continue };
                for side in [left, right] {
                    if let Expr::Column(column) = bare(side)
                        && !required.contains(&column.source())
                    {
                        required.push(column.source());
                    }
                }
            }
        }
        let needed = self.needed(start);
        let mut path = Path { start, ..Path::default() };
        let mut bound = vec![start];
        let mut open: Vec<&Expr> = force.clone();
        path.checks = take_bound(&mut open, &bound);
        while bound.len() < self.sources.len() {
            let candidates = (0..self.sources.len()).filter(|source| !bound.contains(source));
            let best = candidates.filter_map(|source| {
                let is_required = required.contains(&source);
                let on = self.sources[source].outer.as_ref().filter(|_| !is_required);
                if on.is_some() && !whole && !needed.contains(&source) {
                    return None;
                }
                if let Some(on) = on {
                    let mut with = bound.clone();
                    with.push(source);
                    if !on.iter().all(|condition| is_bound(condition, &with)) {
                        return None;
                    }
                    let (access, implied) = self.access(source, &mut on.iter(), &bound);
                    return Some((rank(&access), source, access, implied, Some(on)));
                }
                let (access, implied) = self.access(source, &mut open.iter().copied(), &bound);
                Some((rank(&access), source, access, implied, None))
            });
            let Some((_, source, access, implied, on)) =
                best.min_by_key(|(rank, source, ..)| (*rank, *source))
            else {
                break;
            };
            bound.push(source);
            let all = |conditions: &[Expr]| -> Vec<Expr> {
                conditions.iter().filter(|other| !implied.contains(other)).cloned().collect()
            };
            let mut step = JoinStep {
                source,
                access,
                optional: on.is_some(),
                on: Vec::new(),
                implied: implied.clone(),
                checks: Vec::new(),
            };
            let ready = take_bound(&mut open, &bound);
            match on {
                Some(on) => {
                    step.on = all(on);
                    step.checks = ready;
                }
                None => step.on = all(&ready),
            }
            path.steps.push(step);
        }
        path
    }

    /// The best access to a source's rows by what is bound, and the conditions that it makes sure
    /// of.
    fn access(
        &self,
        source: usize,
        conditions: &mut dyn Iterator<Item = &Expr>,
        bound: &[usize],
    ) -> (Access, Vec<Expr>) {
        let mut best = (Access::Scan, Vec::new());
        // Columns of another statement are looked for all at once.
        let mut derived: (Vec<FieldNo>, Vec<Expr>, Vec<Expr>) = Default::default();
        for condition in conditions {
            let Some((left, right)) = equality(condition) else { continue };
            let affinity = comparison_affinity(condition);
            for (mine, other) in [(left, right), (right, left)] {
                let Some(column) = self.plain(mine) else { continue };
                let others = other.columns();
                let is_bound = !others.is_empty()
                    && others.iter().all(|column| bound.contains(&column.source()));
                if column.source() != source || !is_bound || !self.can_index(*column, affinity) {
                    continue;
                }
                let value = Expr::Under(affinity, Box::new(other.clone()));
                if self.sources[source].relation.plan().is_some() {
                    if !derived.0.contains(&column.field()) {
                        derived.0.push(column.field());
                        derived.1.push(value);
                        derived.2.push(condition.clone());
                    }
                    continue;
                }
                let access = match other {
                    Expr::Column(other) if self.links(*other, *column) => Access::Follow(*other),
                    Expr::Column(other) if self.links(*column, *other) => {
                        Access::Back { link: column.field(), to: other.source() }
                    }
                    _ if self.is_id(*column) => Access::Id(value),
                    _ => Access::Equal { fields: vec![column.field()], values: vec![value] },
                };
                if rank(&access) < rank(&best.0) {
                    best = (access, vec![condition.clone()]);
                }
            }
        }
        if derived.0.is_empty() {
            return best;
        }
        (Access::Equal { fields: derived.0, values: derived.1 }, derived.2)
    }

    /// The column that an expression is, also behind an affinity which leaves it as it is.
    pub(super) fn plain<'e>(&self, expr: &'e Expr) -> Option<&'e ColumnNo> {
        match expr {
            Expr::Column(column) => Some(column),
            Expr::Under(affinity, of) => {
                self.plain(of).filter(|column| self.can_index(**column, *affinity))
            }
            _ => None,
        }
    }

    /// Whether a column is a link and the other one the id that it holds.
    fn links(&self, link: ColumnNo, id: ColumnNo) -> bool {
        let table = |column: ColumnNo| self.sources[column.source()].relation.table();
        let (Some(from), Some(to)) = (table(link), table(id)) else { return false };
        self.is_id(id) && self.schema.table(from).field(link.field()).kind == FieldKind::Link(to)
    }

    /// Whether a column alone is its table's id.
    fn is_id(&self, column: ColumnNo) -> bool {
        let table = self.sources[column.source()].relation.table();
        table.is_some_and(|table| self.schema.table(table).id == [column.field()])
    }

    /// Whether the rows with a value in a column can be found by an index, where both sides are
    /// compared under an affinity: what the column holds must be as it leaves it.
    pub(super) fn can_index(&self, column: ColumnNo, affinity: Affinity) -> bool {
        match &self.sources[column.source()].relation {
            Relation::Statement(plan, _) => {
                let own = plan.outputs[column.column as usize].affinity;
                affinity == Affinity::None || own == affinity
            }
            Relation::Table(table) => {
                let field = self.schema.table(*table).field(column.field());
                let own = match (field.kind, self.schema.linked_id_type(field)) {
                    (FieldKind::OneOf, _) => return false,
                    (
                        FieldKind::Int | FieldKind::Float | FieldKind::Bool | FieldKind::Links(_),
                        _,
                    ) => Affinity::Numeric,
                    (_, Some(IdType::Int)) => Affinity::Numeric,
                    _ => Affinity::Text,
                };
                affinity == Affinity::None || own == affinity
            }
        }
    }
}

/// The two sides of a condition that they are equal.
pub(super) fn equality(condition: &Expr) -> Option<(&Expr, &Expr)> {
    match condition {
        Expr::Compare(Comparison::Equal, _, Collation::Binary, left, right) => Some((left, right)),
        _ => None,
    }
}

/// An expression without what affinities do to it, which leaves NULL as it is.
fn bare(expr: &Expr) -> &Expr {
    match expr {
        Expr::Under(_, of) => bare(of),
        other => other,
    }
}

pub(super) fn comparison_affinity(condition: &Expr) -> Affinity {
    match condition {
        Expr::Compare(_, affinity, ..) => *affinity,
        _ => Affinity::None,
    }
}

fn is_bound(condition: &Expr, bound: &[usize]) -> bool {
    condition.columns().iter().all(|column| bound.contains(&column.source()))
}

/// Takes out the conditions that these sources suffice for.
fn take_bound(open: &mut Vec<&Expr>, bound: &[usize]) -> Vec<Expr> {
    let mut out = Vec::new();
    open.retain(|condition| {
        let ready = is_bound(condition, bound);
        if ready {
            out.push((*condition).clone());
        }
        !ready
    });
    out
}
