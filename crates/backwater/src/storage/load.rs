//! Rehydrating: from stored rows to the tables in memory, checked against the stored hashes.

use std::sync::Arc;

use super::Storage;
use super::form::{Form, Hash, Stored, id_of, id_part, staged};
use super::outbox::{Outbox, Total};
use crate::change::Staged;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldNo, Kind, Schema, TableNo};
use crate::table::{ONLY, Slot, State};

/// Takes the rows that a storage holds.
///
/// A storage in memory, whole: what a [`Batch`](crate::Batch) tells it, it gives back.
///
/// ```
/// use std::collections::BTreeMap;
/// use std::sync::{Arc, Mutex};
///
/// use backwater::{Batch, Cache, Hash, Header, Loader, Result, Schema, Storage, Stored};
///
/// #[derive(Default)]
/// struct Held {
///     header: Option<Header>,
///     /// By table and id: the values, and which fields are absent.
///     rows: BTreeMap<(String, String), (Vec<Stored<'static>>, Vec<String>)>,
///     hashes: BTreeMap<String, (u64, Hash)>,
/// }
///
/// #[derive(Clone, Default)]
/// struct InMemory(Arc<Mutex<Held>>);
///
/// fn owned(value: Stored) -> Stored<'static> {
///     match value {
///         Stored::Text(text) => Stored::Text(text.into_owned().into()),
///         Stored::Int(number) => Stored::Int(number),
///         Stored::Real(number) => Stored::Real(number),
///         Stored::Null => Stored::Null,
///     }
/// }
///
/// impl Storage for InMemory {
///     fn name(&self) -> String {
///         "memory".to_owned()
///     }
///     fn header(&mut self) -> Result<Option<Header>> {
///         Ok(self.0.lock().unwrap().header.clone())
///     }
///     fn load(&mut self, _: &Schema, loader: &mut Loader) -> Result<()> {
///         let held = self.0.lock().unwrap();
///         for ((table, _), (values, absent)) in &held.rows {
///             loader.row(table, values, absent)?;
///         }
///         held.hashes.iter().try_for_each(|(table, (rows, hash))| loader.hash(table, *rows, *hash))
///     }
///     fn write(&mut self, batch: &Batch) -> Result<()> {
///         let mut held = self.0.lock().unwrap();
///         assert_eq!(batch.is_first(), held.header.is_none());
///         assert_eq!(batch.from_commit(), held.header.as_ref().map_or(0, |header| header.commit));
///         if let Some(schema) = batch.new_schema() {
///             held.header = Some(Header { schema: schema.text().into(), schema_name: "s.toml".into(), commit: 0 });
///         }
///         for table in batch.tables() {
///             for id in table.deletes() {
///                 held.rows.remove(&(table.name().to_owned(), format!("{:?}", Some(id.to_string()))));
///             }
///             for row in table.puts() {
///                 let id = row.id().map(|id| match id {
///                     Stored::Int(number) => number.to_string(),
///                     Stored::Text(text) => text.into_owned(),
///                     _ => String::new(),
///                 });
///                 let values = row.values().map(|(_, value)| owned(value)).collect();
///                 let absent = row.absent().map(str::to_owned).collect();
///                 held.rows.insert((table.name().to_owned(), format!("{id:?}")), (values, absent));
///             }
///             held.hashes.insert(table.name().to_owned(), (table.rows(), table.hash()));
///         }
///         held.header.as_mut().unwrap().commit = batch.commit();
///         Ok(())
///     }
/// }
///
/// let memory = InMemory::default();
/// let schema = Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }")?;
/// let cache = Cache::open_with(schema, memory.clone())?;
/// cache.commit("ports opened", |tx| { tx.insert("port", [("code", "SAL")])?; tx.insert("port", [("code", "EEL")]) })?;
/// cache.commit("a port closed", |tx| tx.delete("port", "EEL"))?;
/// cache.flush()?;
///
/// let again = Cache::open(memory)?;
/// assert_eq!((again.snapshot().count("port")?, again.snapshot().commit()), (1, 2));
/// assert_eq!(again.snapshot().get("port", "SAL")?.unwrap().get("name")?, None); // still absent
/// # Ok::<(), backwater::Error>(())
/// ```
pub struct Loader {
    state: State,
    form: Arc<Form>,
    totals: Vec<Total>,
    told: Vec<Option<Total>>,
}

impl Loader {
    fn new(schema: Arc<Schema>, form: Arc<Form>) -> Self {
        let tables = schema.tables.len();
        Self {
            state: State::new(schema),
            form,
            totals: vec![Total::default(); tables],
            told: vec![None; tables],
        }
    }

    /// Takes one row: the values of the fields that persist, in the schema's order, and the names
    /// of those that are absent.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`] if the values do not fit the table, or the row was there already.
    ///
    /// See [`Loader`] for an example.
    pub fn row(
        &mut self,
        table: &str,
        values: &[Stored<'_>],
        absent: &[impl AsRef<str>],
    ) -> Result<()> {
        let schema = self.state.schema.clone();
        let number = schema.table_no(table)?;
        let definition = schema.table(number);
        let form = self.form.clone();
        let fields = &form.table(number).fields;
        let damaged = |message: String| {
            Err(Error::new(ErrorKind::Damaged, message).at(format!("table \"{table}\"")))
        };
        if values.len() != fields.len() {
            return damaged(format!(
                "a row has {} values, expected {}",
                values.len(),
                fields.len()
            ));
        }
        let value_of = |field: &FieldNo| {
            fields.iter().position(|other| other == field).map(|place| &values[place])
        };
        let slot = if definition.is_one_row() {
            ONLY
        } else {
            let Some(id) = id_of(&schema, number, value_of) else {
                return damaged(format!("found {values:?} with no id"));
            };
            let slot = match self.state.refer_id(number, &id) {
                Ok(slot) => slot,
                Err(error) => return damaged(error.to_string()),
            };
            if self.state.table(number).is_row(slot) {
                return damaged(format!("two rows have the id {id}"));
            }
            self.state.table_mut(number).insert(slot);
            slot
        };
        for (field, value) in fields.iter().zip(values) {
            let field_definition = definition.field(*field);
            if definition.id.contains(field)
                || absent.iter().any(|name| *name.as_ref() == *field_definition.name)
            {
                continue;
            }
            let place = || format!("{table}.{}", field_definition.name);
            let one_of = field_definition.link.as_ref().and_then(|link| link.one_of.as_ref());
            let staged = match (field_definition.kind, one_of, value) {
                (_, _, Stored::Null) => Ok(Staged::Null),
                (Kind::Link(to), ..) => self.link(to, value).map(Staged::Link),
                (_, Some(one_of), _) => match value_of(&one_of.type_field) {
                    Some(Stored::Text(name)) => one_of.table(name),
                    _ => None,
                }
                .ok_or_else(|| Error::new(ErrorKind::Damaged, "no table is told for a link"))
                .and_then(|to| Ok(Staged::OneOf(to, self.link(to, value)?))),
                (kind, ..) => staged(kind, value),
            };
            let staged = staged.map_err(|error| error.at(place()))?;
            self.state.table_mut(number).set(slot, *field, staged.cell());
        }
        let total = &mut self.totals[number.index()];
        total.rows += 1;
        total.hash.add(form.hash(&self.state, number, slot));
        Ok(())
    }

    fn link(&mut self, to: TableNo, value: &Stored<'_>) -> Result<Slot> {
        let id = id_part(&self.state.schema, Kind::Link(to), value);
        let slot = id.and_then(|id| self.state.refer_id(to, &id).ok());
        slot.ok_or_else(|| Error::new(ErrorKind::Damaged, format!("found {value:?} for a link")))
    }

    /// Takes the number of rows and the hash that the storage was told for a table.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table.
    ///
    /// See [`Loader`] for an example.
    pub fn hash(&mut self, table: &str, rows: u64, hash: Hash) -> Result<()> {
        let number = self.state.schema.table_no(table)?;
        self.told[number.index()] = Some(Total { rows, hash });
        Ok(())
    }

    /// Everything was given: what was read must be what was written.
    fn check(&self) -> Result<()> {
        for (number, table) in self.state.schema.tables.iter().enumerate() {
            let found = self.totals[number];
            let told = self.told[number].unwrap_or_default();
            if found == told {
                continue;
            }
            let message = if found.rows == told.rows {
                format!(
                    "the {} rows of table \"{}\" are not those that were written",
                    found.rows, table.name
                )
            } else {
                format!(
                    "table \"{}\" has {} rows, but {} were written",
                    table.name, found.rows, told.rows
                )
            };
            return Err(Error::new(ErrorKind::Damaged, message)
                .help("the file was damaged, or edited by another program"));
        }
        Ok(())
    }
}

/// The tables that a storage holds, with what is needed to keep it up to date. `wanted` is the
/// schema to go on with; without one, it is the storage's own.
pub(crate) fn rehydrate(
    wanted: Option<Schema>,
    storage: &mut dyn Storage,
) -> Result<(Arc<State>, u64, Outbox)> {
    let name = storage.name();
    let Some(header) = storage.header().map_err(|error| error.at(&name))? else {
        let Some(schema) = wanted else {
            return Err(Error::new(ErrorKind::Storage, "there is no cache here")
                .at(&name)
                .help("make one by ingesting a response with a schema"));
        };
        return Ok(begin(schema));
    };
    let stored_schema = Schema::parse(&header.schema_name, &header.schema).map_err(|error| {
        Error::new(ErrorKind::Damaged, "the schema in it cannot be read").at(&name).caused_by(error)
    })?;
    if let Some(wanted) = &wanted
        && let Some(difference) = wanted.tables_differ(&stored_schema)
    {
        return Err(Error::new(
            ErrorKind::Version,
            format!("it was written with another schema: {difference}"),
        )
        .at(&name)
        .help("take the old schema, or ingest into a new file"));
    }
    let same_text = wanted.as_ref().is_none_or(|wanted| wanted.text == stored_schema.text);
    let schema = Arc::new(wanted.unwrap_or_else(|| stored_schema.clone()));
    let form = Arc::new(Form::of(&schema));
    let mut loader = Loader::new(schema.clone(), form.clone());
    storage
        .load(&stored_schema, &mut loader)
        .and_then(|()| loader.check())
        .map_err(|error| error.at(&name))?;
    let state = Arc::new(loader.state);
    let mut outbox =
        Outbox::new(form, state.clone(), loader.totals.clone(), Some(header.commit), same_text);
    note_missing_rows(&mut outbox, &schema, &loader.totals);
    Ok((state, header.commit, outbox))
}

fn begin(schema: Schema) -> (Arc<State>, u64, Outbox) {
    let schema = Arc::new(schema);
    let state = Arc::new(State::new(schema.clone()));
    let totals = vec![Total::default(); schema.tables.len()];
    let mut outbox =
        Outbox::new(Arc::new(Form::of(&schema)), state.clone(), totals.clone(), None, false);
    note_missing_rows(&mut outbox, &schema, &totals);
    (state, 0, outbox)
}

/// The row of a one-row table is always there, also when the storage has never had it.
fn note_missing_rows(outbox: &mut Outbox, schema: &Schema, totals: &[Total]) {
    for table in schema.table_numbers() {
        if schema.table(table).is_one_row() && totals[table.index()].rows == 0 {
            outbox.note_missing(table, ONLY);
        }
    }
}
