//! The indexes of tables by which a statement's rows are found.

use std::borrow::Cow;
use std::sync::Arc;

use crate::query::plan::Plan;
use crate::schema::{FieldNo, TableNo};
use crate::sorting;
use crate::table::State;

/// Some fields of a table, by whose values its rows are found.
pub(in crate::query) type TableIndex = (TableNo, Vec<FieldNo>);

/// Those by which all tuples of a plan are found.
pub(in crate::query) fn to_compute(plan: &Plan) -> Vec<TableIndex> {
    of_tables(plan, plan.scratch_indexes())
}

/// Those by which the tuples of any one row are found, too.
pub(in crate::query) fn to_follow(plan: &Plan) -> Vec<TableIndex> {
    of_tables(plan, plan.indexes())
}

fn of_tables(plan: &Plan, indexes: Vec<(usize, Vec<FieldNo>)>) -> Vec<TableIndex> {
    let table = |source: usize| plan.sources[source].relation.table();
    let indexes = indexes.into_iter();
    indexes.filter_map(|(source, fields)| Some((table(source)?, fields))).collect()
}

/// Makes those that tables lack.
pub(in crate::query) fn make(indexes: Vec<TableIndex>, state: &mut Arc<State>) {
    if let Cow::Owned(made) = with(indexes, state) {
        *state = Arc::new(made);
    }
}

/// The tables with these, those of one table made in one go.
pub(in crate::query) fn with(mut indexes: Vec<TableIndex>, state: &State) -> Cow<'_, State> {
    indexes.retain(|(table, fields)| !state.has_index(*table, fields));
    sorting::few_once(&mut indexes);
    let mut state = Cow::Borrowed(state);
    for of_table in indexes.chunk_by(|one, other| one.0 == other.0) {
        let all = of_table.iter().map(|(_, fields)| fields);
        state.to_mut().index(of_table[0].0, all);
    }
    state
}
