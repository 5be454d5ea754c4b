//! What a reader holds: one version of all tables, and rows borrowed from it.

use std::fmt;
use std::sync::Arc;

use super::{Cell, ONLY, Slot, State, TARGET};
use crate::error::{Error, ErrorKind, Result, nearest};
use crate::schema::{FieldKind, FieldNo, TableDef, TableNo};
use crate::value::{RowId, Value};

/// All tables as they are after one commit. It never changes, and taking one costs next to
/// nothing; while it lives, it keeps what later commits replace.
///
/// ```
/// use backwater::{Cache, Schema};
///
/// let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
/// let before = cache.snapshot();
/// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
/// assert_eq!(before.count("port")?, 0);
/// assert_eq!(cache.snapshot().count("port")?, 1);
/// # Ok::<(), backwater::Error>(())
/// ```
#[derive(Clone)]
pub struct Snapshot {
    pub(crate) state: Arc<State>,
    pub(crate) commit: u64,
}

impl Snapshot {
    /// The number of the commit that this snapshot shows; 0 before the first.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// assert_eq!(Cache::new(Schema::parse("s.toml", "")?).snapshot().commit(), 0);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn commit(&self) -> u64 {
        self.commit
    }

    /// How many rows a table has.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table, [`ErrorKind::NotReady`] if it is not
    /// loaded yet.
    ///
    /// See [`Snapshot`] for an example.
    pub fn count(&self, table: &str) -> Result<usize> {
        let table = self.state.schema.table_no(table)?;
        self.state.need_ready(table)?;
        Ok(self.state.table(table).rows() as usize)
    }

    /// The row with that id, or `None` if it is not there.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table, [`ErrorKind::NotReady`] if its rows
    /// are not loaded yet, so that it is unknown whether there is such a row.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }")?);
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// let snapshot = cache.snapshot();
    /// let port = snapshot.get("port", "SAL")?.unwrap();
    /// assert_eq!(port.get("code")?, Some(Value::from("SAL")));
    /// assert_eq!(port.get("name")?, None); // absent: no response has had it yet
    /// assert!(snapshot.get("port", "EEL")?.is_none());
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn get(&self, table: &str, id: impl Into<RowId>) -> Result<Option<Row<'_>>> {
        let table = self.state.schema.table_no(table)?;
        self.state.need_ready(table)?;
        let slot = self.state.slot(table, &id.into())?;
        let row = slot.and_then(|slot| self.row(table, slot));
        Ok(row.inspect(|row| self.state.table(table).note_read(row.slot)))
    }

    /// The row that has these values in the fields of a [unique key](crate::Schema), or of the id,
    /// or `None` if none is there.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table, or if these fields are no key of it;
    /// [`ErrorKind::Type`] if a value does not fit its field; [`ErrorKind::NotReady`] as
    /// [`Snapshot::get`].
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// let cache = Cache::new(Schema::parse("s.toml", r#"
    ///     [table.sailing]
    ///     id = "id"
    ///     unique = ["route", "number"]
    ///     fields = { id = "int", route = "text", number = "int" }
    ///     [response.sailing]
    ///     url = "/sailings/{id}"
    ///     table = "sailing"
    /// "#)?);
    /// let text = r#"{ "id": 311, "route": "SAL-EEL", "number": 4 }"#;
    /// cache.commit("sailing loaded", |tx| tx.ingest("sailing", text))?;
    /// let snapshot = cache.snapshot();
    /// let key = [("route", Value::from("SAL-EEL")), ("number", 4.into())];
    /// let sailing = snapshot.get_by("sailing", key)?.unwrap();
    /// assert_eq!(sailing.get("id")?, Some(Value::Int(311)));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn get_by(
        &self,
        table: &str,
        key: impl Into<crate::value::Named>,
    ) -> Result<Option<Row<'_>>> {
        let table = self.state.schema.table_no(table)?;
        self.state.need_ready(table)?;
        let row = self.state.slot_by(table, &key.into())?.and_then(|slot| self.row(table, slot));
        Ok(row.inspect(|row| self.state.table(table).note_read(row.slot)))
    }

    /// The row of a one-row table.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table, or if it is not a one-row table.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// let cache = Cache::new(Schema::parse("s.toml", "table.board = { one_row = true, fields = { search = 'text' } }")?);
    /// assert_eq!(cache.snapshot().only("board")?.get("search")?, None);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn only(&self, table: &str) -> Result<Row<'_>> {
        let number = self.state.schema.table_no(table)?;
        if self.state.schema.table(number).is_one_row() {
            return Ok(Row { state: &self.state, table: number, slot: ONLY });
        }
        let message = format!("\"{table}\" is not a one-row table");
        Err(Error::new(ErrorKind::UnknownName, message)
            .help("read its rows by their ids with `get`"))
    }

    /// Whether a table is loaded from its storage; see
    /// [`CacheBuilder::load_first`](crate::CacheBuilder::load_first).
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// assert!(cache.snapshot().is_ready("port")?); // without a storage, always
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn is_ready(&self, table: &str) -> Result<bool> {
        let tables = self.state.schema.with_entries(self.state.schema.table_no(table)?);
        Ok(tables.into_iter().all(|table| self.state.is_ready(table)))
    }

    /// All rows of a table, in no particular order.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// assert_eq!(cache.snapshot().rows("port")?.count(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn rows(&self, table: &str) -> Result<impl Iterator<Item = Row<'_>>> {
        let table = self.state.schema.table_no(table)?;
        self.state.need_ready(table)?;
        let slots = self.state.table(table).iter();
        Ok(slots.map(move |slot| Row { state: &self.state, table, slot }))
    }

    /// What the tables hold, in the schema's order. It reads every row.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.route = { id = "id", fields = { id = "int", to = { to = "port" }, minutes = "int" } }
    /// #     table.port = { id = "code", fields = { code = "text" } }
    /// # "#)?);
    /// cache.commit("a route opened", |tx| tx.insert("route", [("id", Value::from(4)), ("to", "SAL".into())]))?;
    /// let route = &cache.snapshot().tables()[0];
    /// assert_eq!((route.name.as_str(), route.rows), ("route", 1));
    /// assert_eq!((route.fields[1].name.as_str(), route.fields[1].kind.as_str()), ("to", "link to port"));
    /// assert_eq!(route.fields[1].missing, 1); // no response has held the port SAL
    /// assert_eq!(route.fields[2].absent, 1); // nor how many minutes the route takes
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn tables(&self) -> Vec<TableSummary> {
        let schema = &self.state.schema;
        let summaries = schema.table_numbers().map(|number| {
            let definition = schema.table(number);
            let table = self.state.table(number);
            let fields = definition.field_numbers().map(|field| {
                let name = definition.field(field).name.to_string();
                let declared = definition.field(field);
                let kind = match declared.by() {
                    Some(by) => {
                        let target = schema.table(by.table);
                        let key = &target.field(by.field).name;
                        format!("{}, the {key} of {}", schema.kind_of(declared), target.name)
                    }
                    None => schema.kind_of(declared),
                };
                let mut summary = FieldSummary { name, kind, absent: 0, missing: 0 };
                for slot in table.iter() {
                    let cell = table.cell(slot, field);
                    let target = self.state.target(number, field, cell);
                    let is_here = target.is_none_or(|(to, slot)| self.state.table(to).is_row(slot));
                    summary.absent += usize::from(cell == Cell::Absent);
                    summary.missing += usize::from(!is_here);
                }
                summary
            });
            TableSummary {
                name: definition.name.to_string(),
                is_ready: self.state.is_ready(number),
                rows: table.rows() as usize,
                fields: fields.collect(),
            }
        });
        summaries.collect()
    }

    fn row(&self, table: TableNo, slot: Slot) -> Option<Row<'_>> {
        let is_row = self.state.table(table).is_row(slot);
        is_row.then_some(Row { state: &self.state, table, slot })
    }
}

/// What a table holds, in numbers; see [`Snapshot::tables`].
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct TableSummary {
    /// The table's name.
    pub name: String,
    /// Whether it is loaded from its storage.
    pub is_ready: bool,
    /// How many rows there are.
    pub rows: usize,
    /// The fields, in the schema's order.
    pub fields: Vec<FieldSummary>,
}

/// What the rows of a table have in one field, in numbers; see [`Snapshot::tables`].
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct FieldSummary {
    /// The field's name.
    pub name: String,
    /// Its type, as in `int` or `link to port`.
    pub kind: String,
    /// In how many rows the field is absent.
    pub absent: usize,
    /// In how many rows it is a link to a missing row.
    pub missing: usize,
}

impl TableSummary {
    /// How many fields of the rows are absent.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }")?);
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// assert_eq!(cache.snapshot().tables()[0].absent(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn absent(&self) -> usize {
        self.fields.iter().map(|field| field.absent).sum()
    }

    /// How many links of the rows point at missing rows.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.route = { id = "id", fields = { id = "int", to = { to = "port" } } }
    /// #     table.port = { id = "code", fields = { code = "text" } }
    /// # "#)?);
    /// cache.commit("a route opened", |tx| tx.insert("route", [("id", Value::from(4)), ("to", "SAL".into())]))?;
    /// assert_eq!(cache.snapshot().tables()[0].missing(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn missing(&self) -> usize {
        self.fields.iter().map(|field| field.missing).sum()
    }
}

impl fmt::Debug for Snapshot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Snapshot(commit {})", self.commit)
    }
}

/// One row of a table, borrowed from a [`Snapshot`] or a transaction.
#[derive(Clone, Copy)]
pub struct Row<'s> {
    pub(crate) state: &'s State,
    pub(crate) table: TableNo,
    pub(crate) slot: Slot,
}

impl<'s> Row<'s> {
    /// The row's id; a one-row table's row has none.
    ///
    /// ```
    /// # use backwater::{Cache, RowId, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text' } }")?);
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// assert_eq!(cache.snapshot().get("port", "SAL")?.unwrap().id(), Some(RowId::from("SAL")));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn id(&self) -> Option<RowId> {
        self.state.id(self.table, self.slot).map(|id| id.to_id())
    }

    /// Whether a change of it goes to a server and has not arrived, or such a change has made it.
    ///
    /// See [`Row::pending_fields`] for an example.
    pub fn is_pending(&self) -> bool {
        let overlay = self.state.overlay.as_ref();
        overlay.is_some_and(|overlay| overlay.edits_of(self.table, self.slot).next().is_some())
    }

    /// The fields of which changes go to a server and have not arrived, in the schema's order.
    ///
    /// ```
    /// # #[cfg(feature = "remote")] {
    /// # use backwater::{Cache, Schema, Value, clock::SetClock, remote::{Remote, StandIn}};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.t = { id = 'id', fields = { id = 'int', name = 'text', done = 'bool' } }\nsend.done = { table = 't', url = '/t/{id}' }")?);
    /// # cache.commit("loaded", |tx| tx.insert("t", [("id", Value::from(1)), ("done", false.into())]))?;
    /// # let server = StandIn::new(|_| StandIn::status(204));
    /// # let clock = SetClock::at("2031-05-04T07:40:00Z".parse()?);
    /// # let remote = Remote::builder(&cache).base("https://x.example").transport(server.clone()).clock(clock).build()?;
    /// remote.send("done", "it is done", |tx| tx.update("t", 1, [("done", true)]))?;
    /// let snapshot = cache.snapshot();
    /// let row = snapshot.get("t", 1)?.unwrap();
    /// assert!(row.is_pending());
    /// assert_eq!(row.pending_fields(), ["done"]);
    /// # }
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn pending_fields(&self) -> Vec<&'s str> {
        let Some(overlay) = &self.state.overlay else { return Vec::new() };
        let edits = overlay.edits_of(self.table, self.slot).flat_map(|edit| edit.fields());
        let written: std::collections::BTreeSet<FieldNo> = edits.map(|(field, _)| *field).collect();
        let definition = self.state.schema.table(self.table);
        written.into_iter().map(|field| &*definition.field(field).name).collect()
    }

    /// A field's value: `None` when it is absent, [`Value::Null`] when it is null, the target's id
    /// when it is a link.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if the table has no such field.
    ///
    /// See [`Snapshot::get`] for an example.
    pub fn get(&self, field: impl AsRef<str>) -> Result<Option<Value>> {
        let number = field_no(self.definition(), field.as_ref())?;
        Ok(self.state.value(self.table, self.slot, number))
    }

    /// The row that a link points at, or `None` if the link is null or absent, or its row is not
    /// here.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if the table has no such link.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.port = { id = "code", fields = { code = "text", name = "text" } }
    /// #     table.route = { id = "id", fields = { id = "int", from = { to = "port" } } }
    /// # "#)?);
    /// cache.commit("a route opened", |tx| {
    ///     tx.insert("port", [("code", "SAL"), ("name", "Saltmere Quay")])?;
    ///     tx.insert("route", [("id", Value::from(4)), ("from", "SAL".into())])
    /// })?;
    /// let snapshot = cache.snapshot();
    /// let port = snapshot.get("route", 4)?.unwrap().follow("from")?.unwrap();
    /// assert_eq!(port.get("name")?, Some(Value::from("Saltmere Quay")));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn follow(&self, link: &str) -> Result<Option<Row<'s>>> {
        let number = field_no(self.definition(), link)?;
        if let Some(by) = self.definition().field(number).by() {
            self.state.need_ready(by.table)?;
            let target = self.state.target_by(self.table, self.slot, by);
            return Ok(target.map(|slot| Row { state: self.state, table: by.table, slot }));
        }
        if !matches!(self.definition().field(number).kind, FieldKind::Link(_) | FieldKind::OneOf) {
            let message = format!("{}.{link} is not a to-one link", self.definition().name);
            let help = "read it with `get`, or with `follow_all` if it is a to-many link";
            return Err(Error::new(ErrorKind::UnknownName, message).help(help));
        }
        self.target(self.table, self.slot, number)
    }

    /// The rows of a table whose to-one link points at this row, in no particular order: the way
    /// back along a link. It goes through all rows of that table, unless the link has an
    /// `on_delete` or a standing query joins by it.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if there is no such table or to-one link, [`ErrorKind::NotReady`]
    /// if that table is not loaded yet.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.sailing = { id = "id", fields = { id = "int" } }
    /// #     table.booking = { id = "id", fields = { id = "int", sailing = { to = "sailing" } } }
    /// # "#)?);
    /// cache.commit("booked", |tx| {
    ///     tx.insert("sailing", [("id", 311)])?;
    ///     (1..=3).try_for_each(|id| tx.insert("booking", [("id", id), ("sailing", 311)]))
    /// })?;
    /// let snapshot = cache.snapshot();
    /// let sailing = snapshot.get("sailing", 311)?.unwrap();
    /// assert_eq!(sailing.linked_from("booking", "sailing")?.count(), 3);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn linked_from(
        &self,
        table: &str,
        link: &str,
    ) -> Result<impl Iterator<Item = Row<'s>> + use<'s>> {
        let (state, from) = (self.state, self.state.schema.table_no(table)?);
        state.need_ready(from)?;
        let definition = state.schema.table(from);
        let number = field_no(definition, link)?;
        let by = definition.field(number).by();
        if by.is_none()
            && !matches!(definition.field(number).kind, FieldKind::Link(_) | FieldKind::OneOf)
        {
            let message = format!("{table}.{link} is not a to-one link");
            return Err(Error::new(ErrorKind::UnknownName, message));
        }
        let slots = match by {
            Some(by) if by.table == self.table => state.pointing_by(from, by, self.slot),
            Some(_) => Vec::new(),
            None => {
                let id = state.id(self.table, self.slot).map(|id| id.to_id());
                let slots = id.map(|id| state.pointing_at(from, number, self.table, &id));
                slots.unwrap_or_default()
            }
        };
        Ok(slots.into_iter().map(move |slot| Row { state, table: from, slot }))
    }

    /// The rows that a to-many link points at, in their order; missing ones are left
    /// out.
    ///
    /// # Errors
    /// [`ErrorKind::UnknownName`] if the table has no such link.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", r#"
    /// #     table.port = { id = "code", fields = { code = "text" } }
    /// #     table.route = { id = "id", fields = { id = "int", stops = { to_many = "port" } } }
    /// # "#)?);
    /// cache.commit("a route opened", |tx| {
    ///     tx.insert("port", [("code", "SAL")])?;
    ///     tx.insert("route", [("id", 4)])?;
    ///     tx.set_links("route", 4, "stops", ["EEL", "SAL"])
    /// })?;
    /// let snapshot = cache.snapshot();
    /// let stops = snapshot.get("route", 4)?.unwrap().follow_all("stops")?;
    /// assert_eq!(stops.len(), 1); // EEL is missing
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn follow_all(&self, link: &str) -> Result<Vec<Row<'s>>> {
        let number = field_no(self.definition(), link)?;
        let FieldKind::Links(entries) = self.definition().field(number).kind else {
            let message = format!("{}.{link} is not a to-many link", self.definition().name);
            return Err(Error::new(ErrorKind::UnknownName, message).help("read it with `get`"));
        };
        self.state.need_ready(entries)?;
        let slots = (0..).map_while(|position| self.state.entry(entries, self.slot, position));
        slots.filter_map(|entry| self.target(entries, entry, TARGET).transpose()).collect()
    }

    /// The row that a link of some row points at, if it is loaded.
    fn target(&self, table: TableNo, slot: Slot, link: FieldNo) -> Result<Option<Row<'s>>> {
        let cell = self.state.table(table).cell(slot, link);
        let Some((to, target)) = self.state.target(table, link, cell) else { return Ok(None) };
        if !self.state.table(to).is_row(target) {
            return self.state.need_ready(to).map(|()| None);
        }
        self.state.table(to).note_read(target);
        Ok(Some(Row { state: self.state, table: to, slot: target }))
    }

    /// The names and values of all fields that are not absent, in the schema's order.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// # let cache = Cache::new(Schema::parse("s.toml", "table.port = { id = 'code', fields = { code = 'text', name = 'text' } }")?);
    /// cache.commit("a port opened", |tx| tx.insert("port", [("code", "SAL")]))?;
    /// let snapshot = cache.snapshot();
    /// assert_eq!(snapshot.get("port", "SAL")?.unwrap().fields().count(), 1);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn fields(&self) -> impl Iterator<Item = (&'s str, Value)> + use<'s> {
        let row = *self;
        let definition = row.definition();
        definition.field_numbers().filter_map(move |number| {
            let value = row.state.value(row.table, row.slot, number)?;
            Some((&*definition.field(number).name, value))
        })
    }

    fn definition(&self) -> &'s TableDef {
        self.state.schema.table(self.table)
    }
}

impl fmt::Debug for Row<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_map().entries(self.fields()).finish()
    }
}

/// The number of a field that a caller named.
pub(crate) fn field_no(table: &TableDef, name: &str) -> Result<FieldNo> {
    table.field_no(name).ok_or_else(|| {
        Error::new(
            ErrorKind::UnknownName,
            format!("table \"{}\" has no field \"{name}\"", table.name),
        )
        .help(nearest(name, table.field_names()))
    })
}
