//! Withdrawing a commit: what the cache holds then is what it would hold had the commit not been
//! made.
//!
//! Each field of a row has a value under each commit that wrote it. Withdrawing one of them
//! uncovers that value: in the cache, if no other commit has written the field since, and otherwise
//! under the next commit that did. So commits can be withdrawn in any order, and a withdrawn commit
//! is restored by withdrawing its withdrawal.

use std::collections::BTreeSet;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::again::Again;
use super::changes::ChangedRows;
use super::history::History;
use super::since::{Under, Whereabouts, Written, Wrote, written};
use super::{Changes, FieldSet, Happened, RowAt, RowChange, Transaction};
use crate::error::{Error, ErrorKind, Result, of_another_cache};
use crate::schema::{FieldKind, FieldNo, OnDelete, TableNo, TableOrigin};
use crate::table::{Cell, OWNER, Slot, Staged, StagedEntry, StagedRow, State, TARGET};

/// For commits, what lies under something that they wrote.
type LiesUnder = Vec<(Arc<ChangedRows>, Written, Under)>;

/// A commit that is withdrawn, or restored, and for later commits what lies under them then.
pub(crate) struct Withdrawal {
    of: Changes,
    is_withdrawn: bool,
    under: LiesUnder,
    /// Links that are null since these commits deleted what they pointed at.
    on_behalf: LiesUnder,
    /// The fields that it wrote.
    written: FxHashSet<(RowAt, FieldNo)>,
}

impl Withdrawal {
    /// Takes effect with the commit that it is part of, which changed these rows.
    pub(crate) fn take_effect(self, by: &Changes, history: &History) {
        self.of.rows.set_withdrawn(self.is_withdrawn);
        if !self.written.is_empty() {
            let others = history.all().filter(|rows| !Arc::ptr_eq(rows, &self.of.rows));
            others.for_each(|rows| rows.let_go_on_behalf(&self.written));
        }
        for (rows, (place, field), under) in self.on_behalf {
            if let Some(field) = field {
                rows.write_on_behalf((place, field), under, &by.after);
            }
        }
        for (rows, field, under) in self.under {
            rows.since().under.insert(field, under);
        }
        by.rows.since().of = Some((self.of, self.is_withdrawn));
    }
}

/// A row that the commit wrote, with what is to be there instead.
struct Rewritten {
    /// Where the commit had it.
    then: RowAt,
    /// Where it lies now, if it is there.
    now: Option<Slot>,
    /// Whether the row is to be there, and no other commit has written any of it since.
    row: (Under, bool),
    /// The fields, and whether no other commit has written them since.
    fields: Vec<(FieldNo, Under, bool)>,
}

impl Rewritten {
    fn shall_be(&self) -> bool {
        let Under { state, slot } = &self.row.0;
        state.table(self.then.0).is_row(*slot)
    }

    fn place(&self) -> Option<RowAt> {
        Some((self.then.0, self.now?))
    }
}

impl Transaction {
    /// Undoes of a commit what no other one has written since; of one that withdrew another, it
    /// restores that.
    pub(crate) fn withdraw(&mut self, changes: &Changes) -> Result<()> {
        if changes.is_shown_only() {
            let message = "this commit made or ended a pending change";
            return Err(Error::new(ErrorKind::Row, message)
                .help("take a change back with `Sent::cancel` while it waits"));
        }
        let changes = changes.of_base();
        let of = changes.rows.since().of.clone();
        let (of, is_withdrawn) = match of {
            Some((of, withdrew)) => (of, !withdrew),
            None => (changes.clone(), true),
        };
        if !of.before.is_of_cache_of(&self.state) {
            return Err(of_another_cache("the report")
                .help("withdraw it in the cache that made the commit"));
        }
        if of.rows.is_withdrawn() == is_withdrawn {
            return Ok(());
        }
        self.need(|schema| {
            let tables = of.rows.iter().map(|row| row.table).collect::<BTreeSet<_>>();
            tables.into_iter().flat_map(|table| schema.written_with(table)).collect()
        })?;
        let mut withdrawal = Withdrawal {
            of,
            is_withdrawn,
            under: Vec::new(),
            on_behalf: Vec::new(),
            written: FxHashSet::default(),
        };
        let mut rows = self.rewritten(&withdrawal);
        self.follow_later(&mut rows, &mut withdrawal);
        rows.iter_mut().for_each(|row| self.keep_pairs(row));
        self.withdraws = true;
        let back = self.put_back(&rows, &mut withdrawal);
        self.withdraws = false;
        self.leave_keys(&back?);
        self.withdrawal = Some(withdrawal);
        Ok(())
    }

    /// What the commit wrote, and what lies under it, or was written by it.
    fn rewritten(&self, withdrawal: &Withdrawal) -> Vec<Rewritten> {
        let Withdrawal { of, is_withdrawn, .. } = withdrawal;
        let since = of.rows.since();
        let version = if *is_withdrawn { &of.before } else { &of.after };
        let under = |(table, slot): RowAt, field: Option<FieldNo>| {
            let other = match *is_withdrawn {
                true => since.under.get(&((table, slot), field)),
                false => since.wrote_on_behalf((table, slot), field),
            };
            other.cloned().unwrap_or_else(|| Under { state: version.clone(), slot })
        };
        let mut wrote: Vec<(RowAt, FieldSet)> = Vec::new();
        let all = |table: TableNo| self.definition(table).field_numbers();
        for row in of.rows.iter().filter(|row| !self.state.schema.is_entries(row.table)) {
            let fields = match &row.happened {
                Happened::Updated(fields) => fields.clone(),
                Happened::Deleted => all(row.table).collect(),
                Happened::Inserted => {
                    let cells = of.after.table(row.table);
                    let is_there = |field: &FieldNo| cells.cell(row.slot, *field) != Cell::Absent;
                    all(row.table).filter(is_there).collect()
                }
            };
            wrote.push(((row.table, row.slot), fields));
        }
        wrote.extend(of.rows.again().iter().map(|(place, what)| match what {
            Again::Fields(fields) => (place, fields.clone()),
            Again::Gone(_) => (place, all(place.0).collect()),
        }));
        wrote.extend(entries_of(&of.rows, &of.before, &of.after));
        let behalf = since.on_its_behalf.iter();
        wrote.extend(behalf.map(|(place, field, _)| (*place, [*field].into_iter().collect())));
        // What the library notes of its own is not a program's to take back.
        wrote.retain(|((table, _), _)| !self.definition(*table).is_own());
        wrote.sort_by_key(|(place, _)| *place);
        wrote.dedup_by(|(other, more), (place, fields)| {
            let is_same = other == place;
            if is_same {
                fields.add(more);
            }
            is_same
        });
        let rows = wrote.into_iter().filter_map(|(then, fields)| {
            let definition = self.definition(then.0);
            let fields = fields.iter().filter(|field| !definition.id.contains(field));
            let fields = fields.map(|field| (field, under(then, Some(field)), true)).collect();
            let now = match definition.is_one_row() {
                true => Some(then.1),
                false => {
                    let known = [&of.before, &of.after].into_iter();
                    let id = known.filter(|version| version.table(then.0).is_row(then.1));
                    let id = id.filter_map(|version| version.id(then.0, then.1)).next();
                    // Of a row that was deleted already there may be no trace here.
                    let row = under(then, None);
                    let id = id.or_else(|| row.state.id(then.0, row.slot));
                    self.find(then.0, &id?.to_id()).ok()?
                }
            };
            Some(Rewritten { then, now, row: (under(then, None), true), fields })
        });
        rows.collect()
    }

    /// Puts the old value under the next commit that wrote it, where there is one.
    fn follow_later(&self, rows: &mut [Rewritten], withdrawal: &mut Withdrawal) {
        let Withdrawal { of, under, .. } = withdrawal;
        let numbers: FxHashMap<RowAt, usize> =
            rows.iter().enumerate().map(|(number, row)| (row.then, number)).collect();
        let (made, behind) = self.history.behind(&of.rows);
        let since = of.rows.since();
        for row in rows.iter_mut() {
            let later = since.later.get(&row.then).into_iter().flatten();
            for later in later.filter(|later| !later.is_void()) {
                write_over(row, &later.wrote, (later.by().as_ref(), later.place), under);
            }
        }
        let known = since.whereabouts.clone();
        drop(since);
        let mut whereabouts = made.map_or(known, Whereabouts::of);
        for past in behind {
            whereabouts.follow(&of.rows, (past, &written(past)), |row, place, wrote| {
                if let Some(number) = numbers.get(&row)
                    && !past.is_withdrawal
                {
                    write_over(&mut rows[*number], wrote, (Some(&past.rows), place), under);
                }
            });
        }
    }

    /// What of a pair was written since keeps the other one.
    fn keep_pairs(&self, row: &mut Rewritten) {
        let definition = self.definition(row.then.0);
        let closed = row.fields.iter().filter(|(.., is_open)| !is_open);
        let closed: FieldSet = closed.filter_map(|(field, ..)| definition.paired(*field)).collect();
        for (field, _, is_open) in &mut row.fields {
            *is_open &= !closed.contains(*field);
        }
    }

    /// Gives the rows their old values, as far as no other commit has written them since.
    /// Returns which fields these are.
    fn put_back(
        &mut self,
        rows: &[Rewritten],
        withdrawal: &mut Withdrawal,
    ) -> Result<Vec<(RowAt, FieldNo)>> {
        let is_back = |row: &&Rewritten| row.now.is_none() && row.row.1 && row.shall_be();
        // First all rows are there, then links find what they point at.
        let mut back: Vec<(RowAt, &Rewritten)> = Vec::new();
        for row in rows.iter().filter(is_back) {
            let (Under { state, slot }, table) = (&row.row.0, row.then.0);
            let Some(id) = state.id(table, *slot).map(|id| id.to_id()) else { continue };
            let now = self.state.refer_id(table, &id)?;
            self.merge_row(table, now, &[]);
            back.push(((table, now), row));
        }
        let here = rows.iter().filter_map(|row| Some((row.place()?, row)));
        let (mut left, mut written) = (Vec::new(), Vec::new());
        for (place, row) in back.into_iter().chain(here) {
            let fields = row.fields.iter().filter(|(.., is_open)| *is_open);
            written.extend(fields.map(|(field, ..)| (place, *field)));
            match row.shall_be() || !row.row.1 {
                true if self.write_back(place, row, withdrawal) => {}
                // What its row pointed at was deleted since, and would have taken it along.
                true => drop(self.delete_row(place.0, place.1)),
                false => left.push(place),
            }
        }
        // What points at one is as it was before the row was inserted.
        self.let_rows_go(left);
        Ok(written)
    }

    /// Writes the fields that no other commit has written; `false` if a link of them deletes the
    /// row along, as its target was deleted.
    fn write_back(
        &mut self,
        (table, slot): RowAt,
        row: &Rewritten,
        withdrawal: &mut Withdrawal,
    ) -> bool {
        let withdrawn = withdrawal.of.rows.clone();
        let schema = self.schema();
        let definition = schema.table(table);
        let mut staged = StagedRow::new();
        for (field, under, _) in row.fields.iter().filter(|(.., is_open)| *is_open) {
            let is_row = under.state.table(table).is_row(under.slot);
            let cell = match is_row {
                true => under.state.table(table).cell(under.slot, *field),
                false => Cell::Absent,
            };
            // What becomes of the entries of a to-many link is said where these are.
            let rule = match definition.field(*field).kind {
                FieldKind::Links(entries) => schema.table(entries).field(TARGET).link.as_ref(),
                _ => definition.field(*field).link.as_ref(),
            };
            let on_delete = rule.map_or(OnDelete::Keep, |rule| rule.on_delete);
            // A row that was there then and is not any more has been deleted since, unless the
            // commit that inserted it was withdrawn.
            let gone_by = |(of, at): RowAt| {
                let is_gone = under.state.table(of).is_row(at) && !self.state.table(of).is_row(at);
                let id = is_gone.then(|| under.state.id(of, at).map(|id| id.to_id())).flatten()?;
                let by = self.history.deleted_by(of, id)?;
                by.as_ref().is_none_or(|by| !Arc::ptr_eq(by, &withdrawn)).then_some(by)
            };
            let is_gone = |target: RowAt| gone_by(target).is_some();
            withdrawal.written.insert(((table, slot), *field));
            let mut on_behalf = |field: FieldNo, by: Option<Arc<ChangedRows>>| {
                let at = ((table, slot), Some(field));
                withdrawal.on_behalf.extend(by.map(|by| (by, at, under.clone())));
            };
            let target = match (cell, definition.field(*field).kind) {
                (Cell::Link(at), FieldKind::Link(of)) => Some((of, at)),
                (Cell::OneOf(of, at), _) => Some((of, at)),
                _ => None,
            };
            if let Some(by) = target.and_then(gone_by) {
                match on_delete {
                    OnDelete::Cascade => return false,
                    OnDelete::SetNull => {
                        on_behalf(*field, by.clone());
                        let beside = rule.and_then(|rule| rule.one_of.as_ref());
                        let beside = beside.map(|one_of| one_of.type_field);
                        beside.into_iter().for_each(|beside| on_behalf(beside, by.clone()));
                        staged.extend(beside.map(|field| (field, Staged::Null)));
                        staged.push((*field, Staged::Null));
                        continue;
                    }
                    OnDelete::Keep | OnDelete::Restrict => {}
                }
            }
            let value = match (cell, definition.field(*field).kind) {
                (Cell::Int(_), FieldKind::Links(entries)) => {
                    let mut targets: Vec<StagedEntry> =
                        under.state.entries_of(entries, under.slot).collect();
                    let cascades = on_delete == OnDelete::Cascade;
                    targets
                        .iter()
                        .filter(|_| cascades)
                        .filter_map(|entry| gone_by(entry.target()))
                        .for_each(|by| on_behalf(*field, by));
                    targets.retain(|entry| !cascades || !is_gone(entry.target()));
                    Staged::Links(targets)
                }
                _ => Staged::of_cell(cell),
            };
            staged.retain(|(other, _)| other != field);
            staged.push((*field, value));
        }
        self.merge_row(table, slot, &staged);
        true
    }
}

/// Takes note that a later commit wrote something of a row.
fn write_over(
    row: &mut Rewritten,
    wrote: &Wrote,
    (by, place): (Option<&Arc<ChangedRows>>, RowAt),
    under: &mut LiesUnder,
) {
    let stays = by.is_none_or(|by| !by.is_withdrawn());
    let mut lies_under = |field: Option<FieldNo>, what: &Under| {
        under.extend(by.map(|by| (by.clone(), (place, field), what.clone())));
    };
    let (what, is_open) = &mut row.row;
    if *is_open {
        lies_under(None, what);
        *is_open &= !stays;
    }
    for (field, what, is_open) in row.fields.iter_mut().filter(|(_, _, is_open)| *is_open) {
        let is_written = match wrote {
            Wrote::Fields(fields) => fields.contains(*field),
            Wrote::Row | Wrote::Gone => true,
        };
        if is_written {
            lies_under(Some(*field), what);
            *is_open &= !stays;
        }
    }
}

/// The to-many links of which a commit changed entries.
pub(super) fn entries_of<'r>(
    rows: &'r [RowChange],
    before: &'r State,
    after: &'r State,
) -> impl Iterator<Item = (RowAt, FieldSet)> + 'r {
    let entries = rows.iter().filter_map(|row| match before.schema.table(row.table).made {
        TableOrigin::Entries { owner, field } => Some((row, owner, field)),
        TableOrigin::Declared | TableOrigin::List => None,
    });
    entries.flat_map(move |(row, owner, field)| {
        [before, after].into_iter().filter_map(move |version| {
            let Cell::Link(slot) = version.table(row.table).cell(row.slot, OWNER) else {
                return None;
            };
            Some(((owner, slot), [field].into_iter().collect()))
        })
    })
}
