//! Withdrawing a commit: what the cache holds then is what it would hold had the commit not been made.
//!
//! Each field of a row has a value under each commit that wrote it. Withdrawing one of them lets
//! that value through: to what the cache holds, if no other commit has written the field since, and
//! otherwise to the next commit that did, under which it lies from then on. So commits can be
//! withdrawn in any order, and one that is withdrawn can be made anew by withdrawing that.

use std::collections::BTreeSet;
use std::sync::{Arc, MutexGuard, PoisonError, Weak};

use rustc_hash::{FxHashMap, FxHashSet};

use super::changes::{Again, ChangedRows};
use super::history::Past;
use super::{Changes, FieldSet, Happened, Staged, StagedRow, Transaction};
use crate::error::{Error, ErrorKind, Result};
use crate::schema::{FieldNo, Kind, Made, OnDelete, TableNo};
use crate::table::{Cell, OWNER, Slot, State};

type RowAt = (TableNo, Slot);

/// A field of a row, or the row.
type Written = (RowAt, Option<FieldNo>);

/// For commits, what lies under something that they wrote.
type LiesUnder = Vec<(Arc<ChangedRows>, Written, Under)>;

/// What became of a commit since it was made.
#[derive(Default)]
pub(crate) struct Since {
    is_withdrawn: bool,
    /// What lies under it, where that is not what there was before it: for a field, or for the row.
    under: FxHashMap<Written, Under>,
    /// What commits wrote to its rows that are not remembered any more.
    later: FxHashMap<RowAt, Vec<Later>>,
    /// The commit that this one withdrew, or made anew, and whether it withdrew it.
    of: Option<(Changes, bool)>,
}

/// A row in a version of the tables, which may not have it.
#[derive(Clone)]
struct Under {
    state: Arc<State>,
    slot: Slot,
}

/// What a later commit wrote to a row.
#[derive(Clone)]
struct Later {
    wrote: Wrote,
    /// The commit, if it may be withdrawn yet.
    by: Option<Weak<ChangedRows>>,
}

#[derive(Clone)]
enum Wrote {
    Fields(FieldSet),
    /// All of it: the row is another one.
    Row,
    Gone,
}

/// A commit that is withdrawn, or made anew, and for commits behind it what lies under them then.
pub(crate) struct Withdrawal {
    of: Changes,
    is_withdrawn: bool,
    under: LiesUnder,
}

impl Withdrawal {
    /// Takes effect with the commit that it is part of, which changed these rows.
    pub(crate) fn take_effect(self, by: &ChangedRows) {
        self.of.rows.since().is_withdrawn = self.is_withdrawn;
        for (rows, field, under) in self.under {
            rows.since().under.insert(field, under);
        }
        by.since().of = Some((self.of, self.is_withdrawn));
    }
}

impl ChangedRows {
    fn since(&self) -> SinceGuard<'_> {
        SinceGuard(self.since.lock().unwrap_or_else(PoisonError::into_inner))
    }

    pub(super) fn is_withdrawn(&self) -> bool {
        self.since().is_withdrawn
    }

    /// Takes note of a later commit that is about to be forgotten.
    pub(super) fn note_later(&self, past: &Past) {
        let mut since = self.since();
        let by = (Arc::strong_count(&past.rows) > 1).then(|| Arc::downgrade(&past.rows));
        if by.is_none() && past.rows.is_withdrawn() {
            return;
        }
        let again: FxHashSet<RowAt> =
            self.again.iter().map(|again| (again.table, again.slot)).collect();
        let is_changed =
            |row: &RowAt| self.binary_search_by_key(row, |row| (row.table, row.slot)).is_ok();
        for (row, _, wrote) in written(past) {
            if is_changed(&row) || again.contains(&row) {
                let later = since.later.entry(row).or_default();
                // Nobody can take that back any more, and what comes behind it changes nothing.
                let is_over =
                    |later: &Later| later.by.is_none() && !matches!(later.wrote, Wrote::Fields(_));
                if !later.iter().any(is_over) {
                    later.push(Later { wrote, by: by.clone() });
                }
            }
        }
    }
}

struct SinceGuard<'s>(MutexGuard<'s, Option<Box<Since>>>);

impl std::ops::Deref for SinceGuard<'_> {
    type Target = Since;

    fn deref(&self) -> &Since {
        static NOTHING: std::sync::LazyLock<Since> = std::sync::LazyLock::new(Since::default);
        self.0.as_deref().unwrap_or(&NOTHING)
    }
}

impl std::ops::DerefMut for SinceGuard<'_> {
    fn deref_mut(&mut self) -> &mut Since {
        self.0.get_or_insert_default()
    }
}

/// What a commit wrote, row by row; of a row that was gone already, by which commit that was.
fn written(past: &Past) -> Vec<(RowAt, Option<u64>, Wrote)> {
    let again = &past.rows.again;
    let gone: FxHashSet<(RowAt, u64)> = again
        .iter()
        .filter_map(|again| match again.what {
            Again::Gone(by) => Some(((again.table, again.slot), by)),
            Again::Fields(_) => None,
        })
        .collect();
    let back = past.back.iter().map(|((table, _), back)| ((*table, back.then.0), back.then.1));
    let back: FxHashSet<(RowAt, u64)> = back.collect();
    let rows = past.rows.iter().map(|row| {
        let place = (row.table, row.slot);
        let wrote = match &row.happened {
            Happened::Updated(fields) => Wrote::Fields(fields.clone()),
            Happened::Deleted => Wrote::Gone,
            Happened::Inserted => match past.back.get(&place) {
                Some(back) if !gone.contains(&((row.table, back.then.0), back.then.1)) => {
                    Wrote::Fields(back.fields.clone())
                }
                _ => Wrote::Row,
            },
        };
        (place, None, wrote)
    });
    // What was deleted once more and then made anew is not gone.
    let again = again.iter().filter_map(|again| {
        let place = (again.table, again.slot);
        match &again.what {
            Again::Fields(fields) => Some((place, None, Wrote::Fields(fields.clone()))),
            Again::Gone(by) => {
                (!back.contains(&(place, *by))).then_some((place, Some(*by), Wrote::Gone))
            }
        }
    });
    let links = past.links.iter().map(|(table, slot, field)| {
        ((*table, *slot), None, Wrote::Fields([*field].into_iter().collect()))
    });
    rows.chain(again).chain(links).collect()
}

/// A row that the commit wrote, with what is to be there instead.
struct Rewritten {
    /// Where the commit had it.
    then: RowAt,
    /// Where it lies now, if it is there.
    now: Option<Slot>,
    /// Whether the row shall be there, and no other commit has written any of it since.
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
    /// makes that anew.
    pub(crate) fn withdraw(&mut self, changes: &Changes) -> Result<()> {
        let of = changes.rows.since().of.clone();
        let (of, is_withdrawn) = match of {
            Some((of, withdrew)) => (of, !withdrew),
            None => (changes.clone(), true),
        };
        if !of.before.is_of_cache_of(&self.state) {
            return Err(Error::new(ErrorKind::Result, "the report is one of another cache")
                .help("withdraw it in the cache that made the commit"));
        }
        if of.rows.is_withdrawn() == is_withdrawn {
            return Ok(());
        }
        self.need(|schema| {
            let tables = of.rows.iter().map(|row| row.table).collect::<BTreeSet<_>>();
            tables.into_iter().flat_map(|table| schema.written_with(table)).collect()
        })?;
        let mut withdrawal = Withdrawal { of, is_withdrawn, under: Vec::new() };
        let mut rows = self.rewritten(&withdrawal);
        self.follow_later(&mut rows, &mut withdrawal);
        rows.iter_mut().for_each(|row| self.keep_pairs(row));
        let of = withdrawal.of.rows.clone();
        self.put_back(&rows, &of)?;
        self.withdrawal = Some(withdrawal);
        Ok(())
    }

    /// What the commit wrote, and what lies under it, or was written by it.
    fn rewritten(&self, withdrawal: &Withdrawal) -> Vec<Rewritten> {
        let Withdrawal { of, is_withdrawn, .. } = withdrawal;
        let since = of.rows.since();
        let version = if *is_withdrawn { &of.before } else { &of.after };
        let under = |(table, slot): RowAt, field: Option<FieldNo>| {
            let other = since.under.get(&((table, slot), field)).filter(|_| *is_withdrawn);
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
        wrote.extend(of.rows.again.iter().map(|again| {
            let fields = match &again.what {
                Again::Fields(fields) => fields.clone(),
                Again::Gone(_) => all(again.table).collect(),
            };
            ((again.table, again.slot), fields)
        }));
        wrote.extend(entries_of(of));
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
                    // Of a row that was gone already there may be no trace here.
                    let row = under(then, None);
                    let id = id.or_else(|| row.state.id(then.0, row.slot));
                    self.find(then.0, &id?.to_id()).ok()?
                }
            };
            Some(Rewritten { then, now, row: (under(then, None), true), fields })
        });
        rows.collect()
    }

    /// Lets what shall be there lie under the next commit that wrote it, where there is one.
    fn follow_later(&self, rows: &mut [Rewritten], withdrawal: &mut Withdrawal) {
        let Withdrawal { of, under, .. } = withdrawal;
        let (made, behind) = self.history.behind(&of.rows);
        // Where the rows lie; and where those lay that are gone, and by which commit, as another
        // row may have taken their place.
        let mut at: FxHashMap<RowAt, usize> = FxHashMap::default();
        let mut gone: FxHashMap<(RowAt, u64), usize> = FxHashMap::default();
        for (number, Rewritten { then, .. }) in rows.iter().enumerate() {
            if of.after.table(then.0).is_row(then.1) {
                at.insert(*then, number);
            } else {
                gone.insert((*then, gone_by(of, *then).unwrap_or(made)), number);
            }
        }
        let since = of.rows.since();
        for row in rows.iter_mut() {
            for Later { wrote, by } in since.later.get(&row.then).into_iter().flatten() {
                let by = by.as_ref().map(Weak::upgrade);
                write_over(row, wrote, (by.flatten().as_ref(), row.then), under);
            }
        }
        drop(since);
        for past in behind {
            for ((table, now), back) in &past.back {
                if let Some(row) = gone.remove(&((*table, back.then.0), back.then.1)) {
                    at.insert((*table, *now), row);
                }
            }
            for (place, gone_by, wrote) in written(past) {
                let number = match gone_by {
                    Some(by) => gone.get(&(place, by)),
                    None => at.get(&place),
                };
                let Some(number) = number.copied() else { continue };
                if !past.is_withdrawal {
                    let by = (Some(&past.rows), place);
                    write_over(&mut rows[number], &wrote, by, under);
                }
                if matches!(wrote, Wrote::Gone) && gone_by.is_none() {
                    at.remove(&place);
                    gone.insert((place, past.number), number);
                }
            }
        }
    }

    /// A link and the name of the table that it points at are only ever written together.
    fn keep_pairs(&self, row: &mut Rewritten) {
        let definition = self.definition(row.then.0);
        let beside = |field: FieldNo| {
            let one_of = definition.field(field).one_of().map(|one_of| one_of.type_field);
            one_of.or_else(|| definition.link_told_by(field))
        };
        let closed = row.fields.iter().filter(|(.., is_open)| !is_open);
        let closed: FieldSet = closed.filter_map(|(field, ..)| beside(*field)).collect();
        for (field, _, is_open) in &mut row.fields {
            *is_open &= !closed.contains(*field);
        }
    }

    /// Gives the rows what they shall have, as far as no other commit has written it since.
    fn put_back(&mut self, rows: &[Rewritten], withdrawn: &Arc<ChangedRows>) -> Result<()> {
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
        let mut left = Vec::new();
        for (place, row) in back.into_iter().chain(here) {
            match row.shall_be() || !row.row.1 {
                true if self.write_back(place, row, withdrawn) => {}
                // What its row pointed at was deleted since, and would have taken it along.
                true => drop(self.delete_row(place.0, place.1)),
                false => left.push(place),
            }
        }
        // What points at one is as it was before the row came.
        self.let_rows_go(left);
        Ok(())
    }

    /// Writes the fields that no other commit has written; `false` if a link of them takes the row
    /// along, as what it points at is gone.
    fn write_back(
        &mut self,
        (table, slot): RowAt,
        row: &Rewritten,
        withdrawn: &Arc<ChangedRows>,
    ) -> bool {
        let schema = self.schema();
        let definition = schema.table(table);
        let mut staged = StagedRow::new();
        for (field, under, _) in row.fields.iter().filter(|(.., is_open)| *is_open) {
            let is_row = under.state.table(table).is_row(under.slot);
            let cell = match is_row {
                true => under.state.table(table).cell(under.slot, *field),
                false => Cell::Absent,
            };
            let rule = definition.field(*field).link.as_ref();
            let on_delete = rule.map_or(OnDelete::Keep, |rule| rule.on_delete);
            // A row that was there then and is gone by now has been deleted since, unless the commit
            // that brought it was withdrawn.
            let is_gone = |(of, at): RowAt| {
                let id = || under.state.id(of, at).map(|id| id.to_id());
                under.state.table(of).is_row(at)
                    && !self.state.table(of).is_row(at)
                    && id()
                        .and_then(|id| self.history.deleted_by(of, id))
                        .is_some_and(|by| by.is_none_or(|by| !Arc::ptr_eq(by, withdrawn)))
            };
            let target = match (cell, definition.field(*field).kind) {
                (Cell::Link(at), Kind::Link(of)) => Some((of, at)),
                (Cell::OneOf(of, at), _) => Some((of, at)),
                _ => None,
            };
            if target.is_some_and(is_gone) {
                match on_delete {
                    OnDelete::Cascade => return false,
                    OnDelete::SetNull => {
                        let beside = rule.and_then(|rule| rule.one_of.as_ref());
                        let beside = beside.map(|one_of| one_of.type_field);
                        staged.extend(beside.map(|field| (field, Staged::Null)));
                        staged.push((*field, Staged::Null));
                        continue;
                    }
                    OnDelete::Keep | OnDelete::Restrict => {}
                }
            }
            let value = match (cell, definition.field(*field).kind) {
                (Cell::Int(_), Kind::Links(entries)) => {
                    let mut targets = targets(&under.state, entries, under.slot);
                    targets.retain(|to| on_delete != OnDelete::Cascade || !is_gone(*to));
                    Staged::Links(targets)
                }
                _ => of_cell(cell),
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

/// Which commit had deleted a row already that a commit deleted again.
fn gone_by(changes: &Changes, place: RowAt) -> Option<u64> {
    changes.rows.again.iter().find_map(|again| match again.what {
        Again::Gone(by) if (again.table, again.slot) == place => Some(by),
        _ => None,
    })
}

/// The to-many links of which a commit changed entries.
fn entries_of(changes: &Changes) -> impl Iterator<Item = (RowAt, FieldSet)> {
    let entries =
        changes.rows.iter().filter_map(|row| match changes.before.schema.table(row.table).made {
            Made::Entries { owner, field } => Some((row, owner, field)),
            Made::Declared | Made::List => None,
        });
    entries.flat_map(|(row, owner, field)| {
        [&changes.before, &changes.after].into_iter().filter_map(move |version| {
            let Cell::Link(slot) = version.table(row.table).cell(row.slot, OWNER) else {
                return None;
            };
            Some(((owner, slot), [field].into_iter().collect()))
        })
    })
}

/// Where a to-many link points in a version, in its order.
fn targets(version: &State, entries: TableNo, owner: Slot) -> Vec<RowAt> {
    version.targets(entries, owner).collect()
}

fn of_cell(cell: Cell<'_>) -> Staged<'_> {
    match cell {
        Cell::Absent => Staged::Absent,
        Cell::Null => Staged::Null,
        Cell::Int(number) => Staged::Int(number),
        Cell::Float(number) => Staged::Float(number),
        Cell::Bool(flag) => Staged::Bool(flag),
        Cell::Text(text) => Staged::Text(text.into()),
        Cell::Timestamp(time) => Staged::Timestamp(time),
        Cell::Json(json) => Staged::Json(json.into()),
        Cell::Link(slot) => Staged::Link(slot),
        Cell::OneOf(table, slot) => Staged::OneOf(table, slot),
    }
}
