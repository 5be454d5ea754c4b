//! From stored rows under one schema to rows under another: what is renamed moves, what is new is
//! absent, what is not named any more is retained, types change where no value is lost.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::convert::{Origin, fitted, take, unfit};
use super::form::{Form, Stored, id_of, stored, stored_times};
use super::load::Rows;
use super::loaded::{LoadedTables, TableDigest};
use super::opening::SchemaChange;
use super::retained::{self, RetainedValue, Values};
use super::steps::MigrationStep;
use crate::change::{History, Remembered, Transaction};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldDef, FieldKind, FieldNo, Schema, TableDef, TableNo, TableOrigin};
use crate::table::{Cell, Slot, Snapshot, State, Times};

/// Tables under the schema that is wanted.
pub(super) struct Carried {
    pub(super) state: Arc<State>,
    pub(super) form: Arc<Form>,
    /// The times that the storage has of rows of tables that stay as they are.
    pub(super) times: Vec<Vec<Times>>,
    pub(super) retained_rows: State,
    /// Stored tables that are dropped, and tables that are rewritten.
    pub(super) dropped: Vec<String>,
    pub(super) rebuilt: BTreeSet<TableNo>,
    pub(super) changes: Vec<SchemaChange>,
}

/// How a table is stored: what identifies its rows, its columns with what they hold, and whether
/// its rows are dated.
type StoredAs = (Vec<Arc<str>>, Vec<(Arc<str>, String)>, bool);

fn stored_as(schema: &Schema, number: TableNo) -> StoredAs {
    let table = schema.table(number);
    let persists = table.fields.iter().filter(|field| field.persist);
    let fields = persists.map(|field| {
        let only = (!field.values.is_empty()).then_some(&field.values);
        let kind = format!("{} {only:?} {}", schema.kind_of(field), field.required);
        (field.name.clone(), kind)
    });
    let id = table.id.iter().map(|id| table.field(*id).name.clone());
    (id.collect(), fields.collect(), schema.keeps_times(number))
}

fn stored_tables(schema: &Schema) -> BTreeMap<Arc<str>, StoredAs> {
    let persists = schema.table_numbers().filter(|table| schema.table(*table).persist);
    persists.map(|table| (schema.table(table).name.clone(), stored_as(schema, table))).collect()
}

/// Whether stored rows can be read under the other schema as they are.
pub(super) fn is_same(old: &Schema, new: &Schema, retained_rows: &State) -> bool {
    let (old, named) = (stored_tables(old), stored_tables(new));
    old.iter().all(|(name, form)| named.get(name) == Some(form))
        && (retained::is_empty(retained_rows) || (named.len() == old.len() && new.drops.is_empty()))
}

/// The recorded digests of the tables that stay as they are.
pub(super) fn digests(held: &LoadedTables, carried: &Carried) -> Vec<TableDigest> {
    let (old, new) = (&held.state.schema, &carried.state.schema);
    let digests = new.table_numbers().map(|table| {
        let stays = !carried.rebuilt.contains(&table);
        let was = old.tables.iter().position(|was| was.name == new.table(table).name);
        was.filter(|_| stays).map_or_else(TableDigest::default, |was| held.digests[was])
    });
    digests.collect()
}

/// Carries rows over to another schema, and takes them through the steps.
pub(super) fn over(
    old: &Arc<State>,
    schema: Arc<Schema>,
    retained_rows: State,
    steps: &[MigrationStep],
) -> Result<Carried> {
    let mut carrier = Carrier {
        pairs: pairs(&old.schema, &schema),
        rows: Rows::new(schema.clone()),
        lenient: !steps.is_empty(),
        old,
        retained_rows,
        dropped: Vec::new(),
        rebuilt: BTreeSet::new(),
        changes: Vec::new(),
    };
    carrier.drop_retained();
    for table in schema.table_numbers().filter(|table| schema.table(*table).persist) {
        match carrier.pairs[table.index()] {
            Some(was) => carrier.table(table, was)?,
            None => carrier.new_table(table)?,
        }
    }
    carrier.unnamed();
    let Carrier { rows, retained_rows, dropped, mut rebuilt, mut changes, .. } = carrier;
    let LoadedTables { form, mut state, times, .. } = rows.into_held();
    let snapshot = Snapshot { state: old.clone(), commit: 0 };
    for step in steps {
        let mut tx = Transaction::new(state, Arc::new(History::after(0)), Remembered::default());
        (step.run)(&snapshot, &mut tx)
            .map_err(|error| error.at(format!("step {} ({})", step.number, step.name)))?;
        let (done, _) = tx.finish();
        rebuilt.extend(
            done.rows.iter().map(|row| row.table).filter(|table| schema.table(*table).persist),
        );
        state = done.after;
        changes.push(SchemaChange::Step(step.number, step.name.clone()));
    }
    // A table that is rewritten is dropped first, if it is there.
    let mut gone = BTreeSet::new();
    gone.extend(dropped);
    let is_stored =
        |name: &str| old.schema.tables.iter().any(|was| *was.name == *name && was.persist);
    let names = rebuilt.iter().map(|table| schema.table(*table).name.to_string());
    gone.extend(names.filter(|name| is_stored(name)));
    let dropped = gone.into_iter().collect();
    Ok(Carried { state, form, times, retained_rows, dropped, rebuilt, changes })
}

/// What was retained of the tables from a number on is restored into them: the tables, and what
/// stays retained.
pub(super) fn restore(state: &State, from: usize, retained_rows: &State) -> Result<(State, State)> {
    let schema = state.schema.clone();
    let mut carrier = Carrier {
        pairs: vec![None; schema.tables.len()],
        rows: Rows::going_on(state.clone(), Arc::new(Form::of(&state.schema))),
        lenient: false,
        old: state,
        retained_rows: retained_rows.clone(),
        dropped: Vec::new(),
        rebuilt: BTreeSet::new(),
        changes: Vec::new(),
    };
    let persists = |table: &TableNo| schema.table(*table).persist;
    schema
        .table_numbers()
        .skip(from)
        .filter(persists)
        .try_for_each(|table| carrier.new_table(table))?;
    Ok((carrier.rows.state, carrier.retained_rows))
}

/// For each table the one that it was.
fn pairs(old: &Schema, new: &Schema) -> Vec<Option<TableNo>> {
    let persists = |table: TableNo| old.table(table).persist;
    let find = |name: &str| {
        let place = old.tables.iter().position(|was| was.name.eq_ignore_ascii_case(name));
        place.map(|place| TableNo(place as u32)).filter(|table| persists(*table))
    };
    let mut pairs: Vec<Option<TableNo>> =
        new.tables.iter().map(|table| find(&table.name)).collect();
    for (place, table) in
        new.tables.iter().enumerate().filter(|(_, table)| table.made == TableOrigin::Declared)
    {
        if pairs[place].is_none() {
            let was = table.was.iter().find_map(|name| find(name));
            // Not what goes on under its own name.
            pairs[place] = was.filter(|was| !pairs.contains(&Some(*was)));
        }
    }
    for (place, table) in new.tables.iter().enumerate() {
        // The entries of a link whose field or table was called otherwise.
        if let (None, TableOrigin::Entries { owner, field }) = (pairs[place], table.made)
            && let Some(old_owner) = pairs[owner.index()]
            && let Some(old_field) = was(new.table(owner).field(field), old.table(old_owner))
            && let FieldKind::Links(entries) = old.table(old_owner).field(old_field).kind
        {
            pairs[place] = Some(entries).filter(|entries| persists(*entries));
        }
    }
    pairs
}

/// The field of an earlier table that a field was.
fn was(field: &FieldDef, old: &TableDef) -> Option<FieldNo> {
    let exact = old.fields.iter().position(|was| was.name == field.name);
    let named = exact.map(|place| FieldNo(place as u32));
    let known = named.or_else(|| field.was.iter().find_map(|name| old.field_no(name)));
    known.filter(|was| old.field(*was).persist)
}

struct Carrier<'o> {
    old: &'o State,
    /// For each new table the one that it was.
    pairs: Vec<Option<TableNo>>,
    rows: Rows,
    retained_rows: State,
    /// Whether a value that does not fit is left to the steps.
    lenient: bool,
    dropped: Vec<String>,
    rebuilt: BTreeSet<TableNo>,
    changes: Vec<SchemaChange>,
}

/// Where the values of a new field are taken from.
struct ValueSource {
    /// The old field, unless it is new.
    was: Option<FieldNo>,
    count: u64,
}

impl Carrier<'_> {
    fn schema(&self) -> Arc<Schema> {
        self.rows.state.schema.clone()
    }

    fn drops(&self, what: &str) -> bool {
        self.rows.state.schema.drops.iter().any(|drop| drop.eq_ignore_ascii_case(what))
    }

    /// Deletes what is retained and is dropped.
    fn drop_retained(&mut self) {
        let mut counts: BTreeMap<String, u64> = BTreeMap::new();
        for drop in self.schema().drops.iter() {
            let (table, field) =
                drop.split_once('.').map_or((&**drop, None), |(table, field)| (table, Some(field)));
            for (row, slot) in retained::rows_of(&self.retained_rows, table) {
                let mut values = retained::values(&self.retained_rows, slot);
                let before = values.len();
                values.retain(|name, _| field.is_some_and(|field| field != name));
                *counts.entry(drop.to_string()).or_default() += (before - values.len()) as u64;
                self.retain(table, &row, values);
            }
        }
        let gone = counts.into_iter().filter(|(_, count)| *count > 0);
        self.changes.extend(gone.map(|(what, count)| SchemaChange::Dropped(what, count)));
    }

    fn retain(&mut self, table: &str, row: &str, values: Values) {
        match (values.is_empty(), retained::find(&self.retained_rows, table, row)) {
            (false, _) => retained::put(&mut self.retained_rows, table, row, &values),
            (true, Some(slot)) => self.retained_rows.table_mut(retained::TABLE).delete(slot),
            (true, None) => {}
        }
    }

    /// What is retained of a row, under the names that its table has and had; it is removed from
    /// what is retained.
    fn restore(&mut self, names: &[Arc<str>], row: &str) -> Values {
        let mut values = Values::new();
        for name in names {
            if let Some(slot) = retained::find(&self.retained_rows, name, row) {
                values.extend(retained::values(&self.retained_rows, slot));
                self.retained_rows.table_mut(retained::TABLE).delete(slot);
            }
        }
        values
    }

    /// A table that the storage only retains.
    fn new_table(&mut self, number: TableNo) -> Result<()> {
        let schema = self.schema();
        let table = schema.table(number);
        let names: Vec<Arc<str>> = [&table.name].into_iter().chain(&table.was).cloned().collect();
        let fields = self.rows.form.table(number).fields.clone();
        let mut restored = 0;
        for name in &names {
            for (row, slot) in retained::rows_of(&self.retained_rows, name) {
                let mut values = retained::values(&self.retained_rows, slot);
                let taken =
                    fields.iter().map(|field| take(&schema, &mut values, table.field(*field)));
                let taken: Vec<Option<Stored<'static>>> = taken.collect();
                let value_of = |id: &FieldNo| {
                    taken.get(fields.iter().position(|field| field == id)?)?.as_ref()
                };
                // What does not fit any more stays retained.
                let has_id = table.is_one_row() || id_of(&schema, number, value_of).is_some();
                if has_id && self.put(number, taken, Times::default()).is_ok() {
                    self.retain(name, &row, Values::new());
                    self.retain(&table.name, &row, values);
                    restored += 1;
                }
            }
        }
        self.rebuilt.insert(number);
        let name = table.name.to_string();
        if restored > 0 {
            self.changes.push(SchemaChange::Restored(name, restored));
        } else if table.made == TableOrigin::Declared {
            self.changes.push(SchemaChange::New(name));
        }
        Ok(())
    }

    fn put(
        &mut self,
        table: TableNo,
        values: Vec<Option<Stored<'_>>>,
        times: Times,
    ) -> Result<Slot> {
        let has_times = self.rows.form.table(table).has_times;
        let times = stored_times(times).into_iter().filter(|_| has_times).map(Some);
        let values: Vec<Option<Stored<'_>>> = values.into_iter().chain(times).collect();
        let is_absent: Vec<bool> = values.iter().map(Option::is_none).collect();
        let values: Vec<Stored<'_>> =
            values.into_iter().map(|value| value.unwrap_or(Stored::Null)).collect();
        self.rows.put(table, &values, &is_absent, None)
    }

    /// A table that was this one.
    fn table(&mut self, number: TableNo, was_number: TableNo) -> Result<()> {
        let (schema, old) = (self.schema(), self.old);
        let (table, was_table) = (schema.table(number), old.schema.table(was_number));
        self.check_id(table, was_table)?;
        if table.name != was_table.name {
            self.changes
                .push(SchemaChange::Renamed(table.name.to_string(), was_table.name.to_string()));
            self.dropped.push(was_table.name.to_string());
        }
        let is_dated = schema.keeps_times(number);
        if is_dated != old.schema.keeps_times(was_number) {
            self.changes.push(SchemaChange::Dated(table.name.to_string(), is_dated));
        }
        let mut is_same = table.name == was_table.name
            && stored_as(&schema, number) == stored_as(&old.schema, was_number);
        let fields = self.rows.form.table(number).fields.clone();
        let mut from: Vec<ValueSource> = Vec::new();
        for field in &fields {
            let field = table.field(*field);
            let was = was(field, was_table);
            self.note_field(table, was_table, field, was);
            from.push(ValueSource { was, count: 0 });
        }
        let left: Vec<FieldNo> = was_table
            .field_numbers()
            .filter(|field| was_table.field(*field).persist)
            .filter(|field| !from.iter().any(|from| from.was == Some(*field)))
            .collect();
        let mut left_counts = vec![0_u64; left.len()];
        let mut names = vec![table.name.clone(), was_table.name.clone()];
        names.extend(table.was.iter().cloned());
        names.dedup();
        let any_retained = !retained::is_empty(&self.retained_rows);
        for slot in old.table(was_number).iter() {
            let row = retained::row_id(old.id(was_number, slot).map(|id| id.to_id()));
            let mut was_retained =
                if any_retained { self.restore(&names, &row) } else { Values::new() };
            let mut values = Vec::with_capacity(fields.len());
            for (field, from) in fields.iter().zip(&mut from) {
                let field = table.field(*field);
                let Some(was) = from.was else {
                    let value = take(&schema, &mut was_retained, field);
                    from.count += u64::from(value.is_some());
                    values.push(value);
                    continue;
                };
                let cell = old.table(was_number).cell(slot, was);
                let value =
                    (cell != Cell::Absent).then(|| stored(old, was_number, was, cell).into_owned());
                let Some(value) = value else {
                    // It may have was retained on under a type that it did not fit.
                    values.push(take(&schema, &mut was_retained, field));
                    continue;
                };
                let was_field = was_table.field(was);
                let from = Origin::of((&old.schema, was_field), (&schema, field));
                let fits = fitted(&schema, from, field, value.clone());
                if fits.is_none() && !self.lenient {
                    return Err(unfit(&schema, table, field, &row, (was_field, &value)));
                }
                let value = fits;
                values.push(value);
            }
            for (field, count) in left.iter().zip(&mut left_counts) {
                let cell = old.table(was_number).cell(slot, *field);
                if cell != Cell::Absent {
                    *count += 1;
                    let name = was_table.field(*field).name.to_string();
                    let value = stored(old, was_number, *field, cell).into_owned();
                    was_retained
                        .insert(name, RetainedValue::of(was_table.field(*field).kind, value));
                }
            }
            was_retained.retain(|name, _| self.stays(table, was_table, name));
            let slot = self.put(number, values, old.table(was_number).times(slot))?;
            // The id may be written otherwise now, as a number or as a text.
            let row = retained::row_id(self.rows.state.id(number, slot).map(|id| id.to_id()));
            self.retain(&table.name, &row, was_retained);
        }
        for (field, from) in fields.iter().zip(&from).filter(|(_, from)| from.was.is_none()) {
            let what = format!("{}.{}", table.name, table.field(*field).name);
            self.changes.push(match from.count {
                0 => SchemaChange::New(what),
                count => SchemaChange::Restored(what, count),
            });
            is_same = false;
        }
        for (field, count) in left.iter().zip(left_counts) {
            let name = &was_table.field(*field).name;
            let what = format!("{}.{name}", table.name);
            self.changes.push(if table.field_no(name).is_some() {
                SchemaChange::Persists(what, false)
            } else if self.stays(table, was_table, name) {
                SchemaChange::Retained(what, count)
            } else {
                SchemaChange::Dropped(what, count)
            });
        }
        if !is_same {
            self.rebuilt.insert(number);
        }
        Ok(())
    }

    /// Whether the value of a field that nothing names any more stays retained.
    fn stays(&self, table: &TableDef, was: &TableDef, field: &str) -> bool {
        // What the schema says does not persist must not, retained or not.
        table.field_no(field).is_none_or(|field| table.field(field).persist)
            && !self.drops(&format!("{}.{field}", table.name))
            && !self.drops(&format!("{}.{field}", was.name))
    }

    fn note_field(
        &mut self,
        table: &TableDef,
        was_table: &TableDef,
        field: &FieldDef,
        was: Option<FieldNo>,
    ) {
        let Some(was) = was.map(|was| was_table.field(was)) else { return };
        let what = format!("{}.{}", table.name, field.name);
        if was.name != field.name {
            let before = format!("{}.{}", was_table.name, was.name);
            self.changes.push(SchemaChange::Renamed(what.clone(), before));
        }
        let (now, before) = (self.rows.state.schema.kind_of(field), self.old.schema.kind_of(was));
        if now != before
            && !matches!(field.kind, FieldKind::Link(_) | FieldKind::Links(_) | FieldKind::OneOf)
        {
            self.changes.push(SchemaChange::Retyped(what, before, now));
        }
    }

    /// Rows keep their ids.
    fn check_id(&self, table: &TableDef, was_table: &TableDef) -> Result<()> {
        let now: Vec<Option<FieldNo>> =
            table.id.iter().map(|id| was(table.field(*id), was_table)).collect();
        if now.iter().copied().eq(was_table.id.iter().map(|id| Some(*id))) {
            return Ok(());
        }
        let names = |table: &TableDef| {
            let names = table.id.iter().map(|id| &*table.field(*id).name);
            if table.id.is_empty() {
                "one row".to_owned()
            } else {
                names.collect::<Vec<_>>().join(", ")
            }
        };
        let message = format!("the id was {} and is {}", names(was_table), names(table));
        Err(Error::new(ErrorKind::Version, message)
            .at(format!("table \"{}\"", table.name))
            .help("take another name for the table, and a step that fills it from the old one"))
    }

    /// Stored tables that nothing names any more.
    fn unnamed(&mut self) {
        let (schema, old) = (self.schema(), self.old);
        for number in old.schema.table_numbers() {
            let table = old.schema.table(number);
            let mut pairs = schema.tables.iter().zip(&self.pairs);
            if !table.persist || pairs.any(|(now, was)| *was == Some(number) && now.persist) {
                continue;
            }
            let name = table.name.to_string();
            self.dropped.push(name.clone());
            let rows = u64::from(old.table(number).rows());
            let is_declared = table.made == TableOrigin::Declared;
            let change = if schema.tables.iter().any(|now| now.name == table.name) {
                SchemaChange::Persists(name, false)
            } else if self.drops(&name) || (!is_declared && self.drops(owner(&old.schema, table))) {
                SchemaChange::Dropped(name, rows)
            } else {
                self.retain_table(number);
                SchemaChange::Retained(name, rows)
            };
            if rows > 0 || is_declared {
                self.changes.push(change);
            }
        }
    }

    fn retain_table(&mut self, number: TableNo) {
        let old = self.old;
        let table = old.schema.table(number);
        for slot in old.table(number).iter() {
            let persists = table.field_numbers().filter(|field| table.field(*field).persist);
            let values = persists.filter_map(|field| {
                let cell = old.table(number).cell(slot, field);
                let value = (cell != Cell::Absent).then(|| stored(old, number, field, cell))?;
                let of = table.field(field);
                Some((of.name.to_string(), RetainedValue::of(of.kind, value.into_owned())))
            });
            let row = retained::row_id(old.id(number, slot).map(|id| id.to_id()));
            let was_retained = retained::find(&self.retained_rows, &table.name, &row);
            let was_retained = was_retained
                .map(|slot| retained::values(&self.retained_rows, slot))
                .unwrap_or_default();
            self.retain(&table.name, &row, values.chain(was_retained).collect());
        }
    }
}

/// The table whose links a link table has the entries of.
fn owner<'s>(schema: &'s Schema, table: &TableDef) -> &'s str {
    match table.made {
        TableOrigin::Entries { owner, .. } => &schema.table(owner).name,
        _ => "",
    }
}
