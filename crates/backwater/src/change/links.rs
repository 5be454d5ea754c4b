//! To-many links: their entries, rows of link tables that are written through them.

use super::Transaction;
use super::transaction::not_there;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldKind, FieldNo, OneOfDef, Schema, TableNo, TableOrigin};
use crate::table::Staged;
use crate::table::{Cell, OWNER, Slot, TARGET, TARGET_TYPE, field_no};
use crate::value::RowId;

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
        let targets = targets.into_iter().map(|id| (None, id.into())).collect();
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
        let targets = targets.into_iter().map(|(name, id)| (Some(name), id.into())).collect();
        self.write_links(table, &id.into(), link, targets, |_, of, name| of.table(name))
    }

    /// Writes the rows that a to-many link points at, each with what names its table where that may
    /// be one of several: `table_of` finds it.
    pub(crate) fn write_links(
        &mut self,
        table: &str,
        id: &RowId,
        link: &str,
        targets: Vec<(Option<&str>, RowId)>,
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
        if let Some(slot) = self.state.slot(number, id)? {
            self.lift_at(number, slot);
        }
        let slot = self.find(number, id)?.ok_or_else(|| not_there(table, id))?;
        let target = schema.table(entries).field(TARGET);
        let one_of = target.one_of();
        let mut found = Vec::new();
        for (name, id) in targets {
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
            found.push((to, slot));
        }
        self.merge_row(number, slot, &[(field, Staged::Links(found))]);
        Ok(())
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
        targets: &[Target],
    ) -> bool {
        let schema = self.schema();
        let target = schema.table(entries).field(TARGET);
        let one_of = target.link.as_ref().and_then(|link| link.one_of.as_ref());
        let mut differs = false;
        for (position, (table, slot)) in targets.iter().enumerate() {
            let cell = match one_of {
                Some(_) => Cell::OneOf(*table, *slot),
                None => Cell::Link(*slot),
            };
            let known = self.state.entry(entries, owner, position);
            if known.map(|slot| self.state.table(entries).cell(slot, TARGET)) == Some(cell) {
                continue;
            }
            differs = true;
            let key = [Cell::Link(owner), Cell::Int(position as i64)];
            let entry = known.unwrap_or_else(|| self.state.refer(entries, &key));
            self.touched.insert(entries, entry);
            let type_cell = one_of.map(|one_of| (TARGET_TYPE, Cell::Text(one_of.name(*table))));
            let cells = [Some((TARGET, cell)), type_cell];
            self.state.table_mut(entries).merge(entry, cells.into_iter().flatten());
        }
        let mut position = targets.len();
        while let Some(entry) = self.state.entry(entries, owner, position) {
            self.remove(entries, entry);
            differs = true;
            position += 1;
        }
        differs
    }

    /// The owner of an entry, and where all of the owner's entries point.
    pub(super) fn entries_beside(
        &self,
        entries: TableNo,
        entry: Slot,
    ) -> Option<(Slot, Vec<Target>)> {
        let Cell::Link(owner) = self.state.table(entries).cell(entry, OWNER) else { return None };
        Some((owner, self.state.targets(entries, owner).collect()))
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
        self.touched.insert(table, slot);
        self.state.table_mut(table).delete(slot);
    }
}
