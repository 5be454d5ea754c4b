//! To-many links: their entries, rows of link tables that are written through them.

use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use super::Transaction;
use super::transaction::not_there;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldKind, FieldNo, OneOfDef, Schema, TableNo, TableOrigin};
use crate::table::{
    Cell, EntryFields, OWNER, Slot, Staged, StagedEntry, TARGET, TARGET_TYPE, field_no,
};
use crate::value::{Named, RowId};

/// Where an entry points.
pub(super) type Target = (TableNo, Slot);

impl Transaction {
    /// Writes the rows that a to-many link points at, in their order.
    ///
    /// # Errors
    /// [`ErrorKind::Row`] if the row is not there; [`ErrorKind::UnknownName`] if the table has no
    /// such link, or one that may point at several tables; [`ErrorKind::Type`] if an id is of
    /// another type than those that it points at.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// let cache = Cache::new(Schema::parse("s.toml", r#"
    ///     table.port = { id = "code", fields = { code = "text" } }
    ///     table.route = { id = "id", fields = { id = "int", stops = { to_many = "port" } } }
    /// "#)?);
    /// cache.commit("a route opened", |tx| {
    ///     tx.insert("route", [("id", 4)])?;
    ///     tx.set_links("route", 4, "stops", ["SAL", "EEL", "NOR"])
    /// })?;
    /// let stops = cache.query("SELECT position, target FROM route_stops WHERE owner = 4", ())?;
    /// assert_eq!(stops.read()?.row(1).unwrap().get("target")?.as_str(), Some("EEL"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn set_links<T: Into<RowId>>(
        &mut self,
        table: &str,
        id: impl Into<RowId>,
        link: &str,
        targets: impl IntoIterator<Item = T>,
    ) -> Result<()> {
        let targets = targets.into_iter().map(|id| (None, id.into(), None)).collect();
        self.write_links(table, &id.into(), link, targets, |_, of, name| of.table(name))
    }

    /// As [`Transaction::set_links`] for a link that may point at one of several tables: each
    /// target is given by what the schema calls its table, and its id.
    ///
    /// # Errors
    /// As [`Transaction::set_links`], except that the link must be such a one.
    ///
    /// ```
    /// # use backwater::{Cache, Schema};
    /// let cache = Cache::new(Schema::parse("s.toml", r#"
    ///     table.port = { id = "code", fields = { code = "text" } }
    ///     table.vessel = { id = "name", fields = { name = "text" } }
    ///     table.notice = { id = "id", fields = { id = "int", about = { to_many = ["port", "vessel"] } } }
    /// "#)?);
    /// cache.commit("fog at the quay", |tx| {
    ///     tx.insert("notice", [("id", 1)])?;
    ///     tx.set_typed_links("notice", 1, "about", [("port", "SAL"), ("vessel", "Marram")])
    /// })?;
    /// assert_eq!(cache.snapshot().count("notice_about")?, 2);
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn set_typed_links<'t, T: Into<RowId>>(
        &mut self,
        table: &str,
        id: impl Into<RowId>,
        link: &str,
        targets: impl IntoIterator<Item = (&'t str, T)>,
    ) -> Result<()> {
        let targets = targets.into_iter().map(|(name, id)| (Some(name), id.into(), None)).collect();
        self.write_links(table, &id.into(), link, targets, |_, of, name| of.table(name))
    }

    /// As [`Transaction::set_links`] for a link that has fields of its own: each target with these.
    /// A field that is not given stays as it is if the link points at that row already. A link to
    /// one of several tables has `target_type` among its fields: what the schema calls the table.
    ///
    /// # Errors
    /// As [`Transaction::set_links`]; [`ErrorKind::UnknownName`] and [`ErrorKind::Type`] for fields
    /// that do not fit the link.
    ///
    /// ```
    /// # use backwater::{Cache, Schema, Value};
    /// let cache = Cache::new(Schema::parse("s.toml", r#"
    ///     [table.person]
    ///     id = "id"
    ///     fields = { id = "int" }
    ///     [table.vessel]
    ///     id = "name"
    ///     [table.vessel.fields]
    ///     name = "text"
    ///     crew = { to_many = "person", record = "/person", fields = { role = "text" } }
    /// "#)?);
    /// cache.commit("a crew signed on", |tx| {
    ///     tx.insert("vessel", [("name", "Marram")])?;
    ///     tx.set_entries("vessel", "Marram", "crew", [(7, [("role", "skipper")]), (8, [("role", "mate")])])
    /// })?;
    /// let crew = cache.query("SELECT target, role FROM vessel_crew WHERE owner = 'Marram'", ())?;
    /// assert_eq!(crew.read()?.row(1).unwrap().get("role")?, &Value::from("mate"));
    /// # Ok::<(), backwater::Error>(())
    /// ```
    pub fn set_entries<T: Into<RowId>, F: Into<Named>>(
        &mut self,
        table: &str,
        id: impl Into<RowId>,
        link: &str,
        entries: impl IntoIterator<Item = (T, F)>,
    ) -> Result<()> {
        let is_type = |name: &str| name.eq_ignore_ascii_case("target_type");
        let entries: Vec<(RowId, Named)> =
            entries.into_iter().map(|(to, fields)| (to.into(), fields.into())).collect();
        let wanted = entries.iter().map(|(to, fields)| {
            let named = fields.iter().find(|(name, _)| is_type(name));
            let own = fields.iter().filter(|(name, _)| !is_type(name));
            let own = own.map(|(name, value)| (name.to_owned(), value.clone())).collect();
            (named.and_then(|(_, value)| value.as_str()), to.clone(), Some(own))
        });
        let wanted = wanted.collect();
        self.write_links(table, &id.into(), link, wanted, |_, of, name| of.table(name))
    }

    /// Writes the rows that a to-many link points at, each with what names its table where that may
    /// be one of several: `table_of` finds it.
    pub(crate) fn write_links(
        &mut self,
        table: &str,
        id: &RowId,
        link: &str,
        targets: Vec<(Option<&str>, RowId, Option<Named>)>,
        table_of: fn(&Schema, &OneOfDef, &str) -> Option<TableNo>,
    ) -> Result<()> {
        let number = self.writable(table)?;
        let schema = self.schema();
        let definition = schema.table(number);
        let field = field_no(definition, link)?;
        let place = format!("{}.{}", definition.name, definition.field(field).name);
        let FieldKind::Links(entries) = definition.field(field).kind else {
            return Err(Error::new(ErrorKind::UnknownName, "this is not a to-many link")
                .at(place)
                .help("write it with `update`"));
        };
        let slot = self.find_uncovered(number, id)?.ok_or_else(|| not_there(table, id))?;
        let target = schema.table(entries).field(TARGET);
        let one_of = target.one_of();
        let mut found = Vec::new();
        for (name, id, fields) in targets {
            let to = match (target.kind, one_of, name) {
                (FieldKind::Link(to), None, None) => Some(to),
                (_, Some(one_of), Some(name)) => table_of(&schema, one_of, name),
                _ => None,
            };
            let Some(to) = to else {
                return Err(Error::new(
                    ErrorKind::UnknownName,
                    format!("this points at {}", schema.kind_of(target)),
                )
                .at(place)
                .help(
                    "use `set_typed_links` where it may be one of several tables, else `set_links`",
                ));
            };
            let slot = self.state.refer_id(to, &id).map_err(|error| error.at(&place))?;
            let fields = fields.map(|fields| self.staged_entry(&schema, entries, &fields));
            let fields = fields.transpose()?;
            found.push(StagedEntry { fields, ..(to, slot).into() });
        }
        self.merge_row(number, slot, &[(field, Staged::Links(found))]);
        Ok(())
    }

    /// Fields of a link's own on their way into an entry.
    fn staged_entry(
        &mut self,
        schema: &Schema,
        entries: TableNo,
        fields: &Named,
    ) -> Result<EntryFields> {
        let definition = schema.table(entries);
        let staged = fields.iter().map(|(name, value)| {
            let place = || format!("{}.{name}", definition.name);
            let number = field_no(definition, name)?;
            if !definition.entry_fields().any(|own| own == number) {
                let message = "this field says where an entry stands and points";
                return Err(Error::new(ErrorKind::UnknownName, message)
                    .at(place())
                    .help("give the target apart, and the link's own fields"));
            }
            let field = definition.field(number);
            let staged = self.stage(schema, field, value).map_err(|error| error.at(place()))?;
            match staged.misfit(field) {
                Some(message) => Err(Error::new(ErrorKind::Type, message).at(place())),
                None => Ok((number, staged.into_owned())),
            }
        });
        staged.collect()
    }

    /// Writes the entries of a row's to-many links that are among its staged fields; returns
    /// whether some of them changed.
    pub(super) fn write_entries(
        &mut self,
        table: TableNo,
        slot: Slot,
        fields: &[(FieldNo, Staged<'_>)],
    ) -> bool {
        let schema = self.schema();
        let mut differs = false;
        for (field, staged) in fields {
            if let FieldKind::Links(entries) = schema.table(table).field(*field).kind {
                let targets = match staged {
                    Staged::Links(targets) => targets.as_slice(),
                    _ => &[],
                };
                differs |= self.put_entries(entries, slot, targets);
            }
        }
        differs
    }

    /// Makes these the entries of an owner; returns whether that changed them.
    pub(super) fn put_entries(
        &mut self,
        entries: TableNo,
        owner: Slot,
        targets: &[StagedEntry],
    ) -> bool {
        let schema = self.schema();
        let definition = schema.table(entries);
        let one_of = definition.field(TARGET).one_of();
        let own = definition.entry_fields();
        let before: Vec<StagedEntry> = match own.len() {
            0 => Vec::new(),
            _ => self.state.entries_of(entries, owner).collect(),
        };
        // Of several that point at one row, the one in the same place, or else the first.
        let mut first: FxHashMap<Target, &StagedEntry> = FxHashMap::default();
        for entry in &before {
            first.entry(entry.target()).or_insert(entry);
        }
        let mut differs = false;
        for (position, wanted) in targets.iter().enumerate() {
            let cell = match one_of {
                Some(_) => Cell::OneOf(wanted.table, wanted.slot),
                None => Cell::Link(wanted.slot),
            };
            let type_cell = one_of.map(|it| (TARGET_TYPE, Cell::Text(it.name(wanted.table))));
            let same = before.get(position).filter(|entry| entry.target() == wanted.target());
            let was = same.or_else(|| first.get(&wanted.target()).copied());
            let fields = own.clone().map(|field| (field, own_cell(field, wanted, was)));
            let cells: SmallVec<[(FieldNo, Cell<'_>); 4]> =
                [Some((TARGET, cell)), type_cell].into_iter().flatten().chain(fields).collect();
            let known = self.state.entry(entries, owner, position);
            let is_so = |entry: Slot| {
                let row = self.state.table(entries);
                cells.iter().all(|(field, cell)| row.cell(entry, *field) == *cell)
            };
            if known.is_some_and(is_so) {
                continue;
            }
            differs = true;
            let key = [Cell::Link(owner), Cell::Int(position as i64)];
            let entry = known.unwrap_or_else(|| self.state.refer(entries, &key));
            self.about_to_write((entries, entry));
            self.state.table_mut(entries).merge(entry, &cells);
        }
        let mut position = targets.len();
        while let Some(entry) = self.state.entry(entries, owner, position) {
            self.remove(entries, entry);
            differs = true;
            position += 1;
        }
        differs
    }

    /// The owner of an entry, and all of the owner's entries.
    pub(super) fn entries_beside(
        &self,
        entries: TableNo,
        entry: Slot,
    ) -> Option<(Slot, Vec<StagedEntry>)> {
        let Cell::Link(owner) = self.state.table(entries).cell(entry, OWNER) else { return None };
        Some((owner, self.state.entries_of(entries, owner).collect()))
    }

    /// The to-many link that a link table belongs to.
    pub(super) fn link_of(&self, entries: TableNo) -> Option<(TableNo, FieldNo)> {
        match self.definition(entries).made {
            TableOrigin::Entries { owner, field } => Some((owner, field)),
            TableOrigin::Declared | TableOrigin::List => None,
        }
    }

    /// Removes a row without regard to what points at it.
    pub(crate) fn remove(&mut self, table: TableNo, slot: Slot) {
        self.lift_at(table, slot);
        if self.history.is_recent(table, slot)
            && !self.state.schema.is_entries(table)
            && !self.writes_pending()
        {
            // If it is restored in this commit, it has written what it does not hold then, too.
            self.again.add((table, slot), self.definition(table).field_numbers().collect());
        }
        self.about_to_write((table, slot));
        self.state.table_mut(table).delete(slot);
    }
}

/// What an entry has in a field of the link's own: what it says, or what the entry had that pointed
/// at the same row before.
fn own_cell<'c>(field: FieldNo, wanted: &'c StagedEntry, was: Option<&'c StagedEntry>) -> Cell<'c> {
    let of = |entry: &'c StagedEntry| {
        let mut fields = entry.fields.iter().flat_map(|fields| fields.iter().rev());
        fields.find(|(known, _)| *known == field).map(|(_, staged)| staged.cell())
    };
    of(wanted).or_else(|| of(was?)).unwrap_or(Cell::Absent)
}
