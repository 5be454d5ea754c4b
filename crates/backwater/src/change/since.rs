//! What became of a commit since it was made, as far as withdrawing it needs that: what lies under
//! what it wrote, what others wrote to its rows, and where these lie by now.

use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::sync::{Arc, MutexGuard, PoisonError, Weak};

use rustc_hash::{FxHashMap, FxHashSet};

use super::again::Again;
use super::changes::ChangedRows;
use super::history::Past;
use super::{Changes, FieldSet, Happened, RowAt};
use crate::schema::FieldNo;
use crate::table::{Slot, State};

/// A field of a row, or the row.
pub(super) type Written = (RowAt, Option<FieldNo>);

/// What became of a commit since it was made.
#[derive(Default)]
pub(crate) struct Since {
    /// Known also when the commit is held no more.
    is_withdrawn: Arc<AtomicBool>,
    /// What lies under it, where that is not what there was before it: for a field, or for the row.
    pub(super) under: FxHashMap<Written, Under>,
    /// What it would have written had the tables been as they are by now, and a version that has
    /// it: links that a withdrawal has let through to rows that it deleted. They lie under it.
    pub(super) on_its_behalf: Vec<(RowAt, FieldNo, Under)>,
    /// What commits wrote to its rows that are not remembered any more.
    pub(super) later: FxHashMap<RowAt, Vec<Later>>,
    /// Where its rows lie behind these commits.
    pub(super) whereabouts: Whereabouts,
    /// The commit that this one withdrew, or restored, and whether it withdrew it.
    pub(super) of: Option<(Changes, bool)>,
}

/// A row in a version of the tables, which may not have it.
#[derive(Clone)]
pub(super) struct Under {
    pub(super) state: Arc<State>,
    pub(super) slot: Slot,
}

/// What a later commit wrote to a row.
pub(super) struct Later {
    pub(super) wrote: Wrote,
    /// Where the row lay then.
    pub(super) place: RowAt,
    /// The commit, if it could be withdrawn then.
    by: Option<WrittenBy>,
}

#[derive(Clone)]
struct WrittenBy {
    rows: Weak<ChangedRows>,
    is_withdrawn: Arc<AtomicBool>,
}

#[derive(Clone)]
pub(super) enum Wrote {
    Fields(FieldSet),
    /// All of it: the row is another one.
    Row,
    Gone,
}

/// What a commit wrote of a row; if that was deleted already, by which commit.
pub(super) type WroteOf = (RowAt, Option<u64>, Wrote);

impl Since {
    /// What was written to a field on its behalf.
    pub(super) fn wrote_on_behalf(&self, at: RowAt, field: Option<FieldNo>) -> Option<&Under> {
        let mut all = self.on_its_behalf.iter();
        all.find(|(place, of, _)| *place == at && Some(*of) == field).map(|(.., wrote)| wrote)
    }
}

impl Later {
    /// The commit, unless it can no longer be withdrawn or restored.
    pub(super) fn by(&self) -> Option<Arc<ChangedRows>> {
        self.by.as_ref().and_then(|by| by.rows.upgrade())
    }

    fn is_settled(&self) -> bool {
        self.by.as_ref().is_none_or(|by| by.rows.strong_count() == 0)
    }

    /// Whether it was withdrawn for good.
    pub(super) fn is_void(&self) -> bool {
        self.is_settled() && self.by.as_ref().is_some_and(|by| by.is_withdrawn.load(SeqCst))
    }
}

/// Adds what a commit wrote to what earlier ones did. Commits that can no longer be withdrawn are
/// kept as one.
fn add_later(all: &mut Vec<Later>, later: Later) {
    all.push(later);
    if !all.len().is_power_of_two() {
        return;
    }
    all.retain(|later| !later.is_void());
    all.dedup_by(|next, one| {
        let is_one = one.is_settled() && next.is_settled();
        if is_one {
            one.by = None;
            match (&mut one.wrote, &next.wrote) {
                (Wrote::Fields(fields), Wrote::Fields(more)) => fields.add(more),
                (Wrote::Fields(_), next) => one.wrote = next.clone(),
                // What follows it changes nothing.
                (Wrote::Row | Wrote::Gone, _) => {}
            }
        }
        is_one
    });
}

/// Where the rows lie that a commit wrote, as others delete them and insert them again. Rows are
/// identified by where they lay when it was made.
#[derive(Clone, Default)]
pub(super) struct Whereabouts {
    /// The number of the commit.
    made: u64,
    /// Rows of which it wrote only to-many links, or what was written on its behalf.
    owners: FxHashSet<RowAt>,
    /// Those that are not there, or not deleted, as they were when it was made.
    left: FxHashSet<RowAt>,
    /// Where such ones are now, or by which commit they were deleted, and where they lay then.
    moved: FxHashMap<RowAt, RowAt>,
    gone: FxHashMap<(RowAt, u64), RowAt>,
}

impl Whereabouts {
    pub(super) fn of(past: &Past) -> Self {
        let owners = past.links.iter().map(|(table, slot, _)| (*table, *slot));
        let behalf =
            past.rows.since().on_its_behalf.iter().map(|(place, ..)| *place).collect::<Vec<_>>();
        let owners = owners.chain(behalf);
        let owners = owners.filter(|place| past.rows.wrote(*place).is_none()).collect();
        Self { made: past.number, owners, ..Self::default() }
    }

    fn here(&self, rows: &ChangedRows, place: RowAt) -> Option<RowAt> {
        let still = || {
            let is_here = self.owners.contains(&place)
                || rows.wrote(place).is_some_and(|gone_by| gone_by.is_none());
            (is_here && !self.left.contains(&place)).then_some(place)
        };
        self.moved.get(&place).copied().or_else(still)
    }

    fn gone_here(&self, rows: &ChangedRows, (place, by): (RowAt, u64)) -> Option<RowAt> {
        let still = || {
            let gone_by = rows.wrote(place)?.map(|gone_by| gone_by.unwrap_or(self.made));
            (gone_by == Some(by) && !self.left.contains(&place)).then_some(place)
        };
        self.gone.get(&(place, by)).copied().or_else(still)
    }

    /// Goes through a later commit, and returns what it wrote of which row.
    pub(super) fn follow(
        &mut self,
        rows: &ChangedRows,
        (past, wrote): (&Past, &[WroteOf]),
        mut each: impl FnMut(RowAt, RowAt, &Wrote),
    ) {
        for ((table, now), back) in &past.back {
            let was = ((*table, back.then.0), back.then.1);
            if let Some(row) = self.gone_here(rows, was) {
                if self.gone.remove(&was).is_none() {
                    self.left.insert(row);
                }
                self.moved.insert((*table, *now), row);
            }
        }
        for (place, gone_by, wrote) in wrote {
            let row = match gone_by {
                Some(by) => self.gone_here(rows, (*place, *by)),
                None => self.here(rows, *place),
            };
            let Some(row) = row else { continue };
            each(row, *place, wrote);
            if matches!(wrote, Wrote::Gone) && gone_by.is_none() {
                if self.moved.remove(place).is_none() {
                    self.left.insert(row);
                }
                self.gone.insert((*place, past.number), row);
            }
        }
    }
}

impl ChangedRows {
    pub(super) fn since(&self) -> SinceGuard<'_> {
        SinceGuard(self.since.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// What says whether it is withdrawn, also behind its end.
    fn flag(&self) -> Arc<AtomicBool> {
        let since: &mut Since = &mut self.since();
        since.is_withdrawn.clone()
    }

    pub(super) fn is_withdrawn(&self) -> bool {
        self.since().is_withdrawn.load(SeqCst)
    }

    pub(super) fn set_withdrawn(&self, is_withdrawn: bool) {
        self.flag().store(is_withdrawn, SeqCst);
    }

    /// Whether it wrote a row there; and if that was deleted, by which commit, `None` if by this
    /// one.
    fn wrote(&self, place: RowAt) -> Option<Option<Option<u64>>> {
        let gone_by = || self.again().gone_by(place);
        match self.binary_search_by_key(&place, |row| (row.table, row.slot)) {
            Ok(at) if self[at].happened == Happened::Deleted => Some(Some(gone_by())),
            Ok(_) => Some(None),
            // One that it inserted and deleted was deleted already, and still is.
            Err(_) => match gone_by() {
                Some(by) => Some(Some(Some(by))),
                None => self.again().has_fields(place).then_some(None),
            },
        }
    }

    /// Notes a link that is null, or an entry that was deleted, since it deleted the target.
    pub(super) fn write_on_behalf(
        &self,
        (place, field): (RowAt, FieldNo),
        under: Under,
        after: &Arc<State>,
    ) {
        let is_owner = self.wrote(place).is_none();
        let since: &mut Since = &mut self.since();
        let wrote = Under { state: after.clone(), slot: place.1 };
        since.on_its_behalf.push((place, field, wrote));
        since.under.insert((place, Some(field)), under);
        if is_owner {
            since.whereabouts.owners.insert(place);
        }
    }

    /// What it would have written is written by another withdrawal.
    pub(super) fn let_go_on_behalf(&self, written: &FxHashSet<(RowAt, FieldNo)>) {
        let mut since = self.since.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(since) = since.as_mut() {
            since.on_its_behalf.retain(|(place, field, _)| !written.contains(&(*place, *field)));
        }
    }

    /// From here on it hears of commits that are about to be forgotten, as it may be withdrawn yet.
    pub(super) fn hold(&self, past: &Past) {
        self.since().whereabouts = Whereabouts::of(past);
    }

    /// Takes note of what a later commit wrote that is about to be forgotten.
    pub(super) fn note_later(&self, past: &Past, wrote: &[WroteOf]) {
        let by = (Arc::strong_count(&past.rows) > 1).then(|| WrittenBy {
            rows: Arc::downgrade(&past.rows),
            is_withdrawn: past.rows.flag(),
        });
        // A commit that withdrew another one wrote nothing of its own.
        let counts = !past.is_withdrawal && (by.is_some() || !past.rows.is_withdrawn());
        let since: &mut Since = &mut self.since();
        let Since { whereabouts, later, .. } = since;
        whereabouts.follow(self, (past, wrote), |row, place, wrote| {
            if counts {
                let by = by.clone();
                add_later(later.entry(row).or_default(), Later { wrote: wrote.clone(), place, by });
            }
        });
    }

    /// Whether one of its rows was deleted by that commit, as far as is known.
    pub(super) fn misses(&self, place: RowAt, by: u64) -> bool {
        self.since().whereabouts.gone_here(self, (place, by)).is_some()
    }

    /// Where rows lie, or may lie, of which withdrawing it would change something. Of what it wrote
    /// again that is only what has something else under it by now.
    pub(super) fn for_each_place(&self, mut each: impl FnMut(RowAt)) {
        self.iter().for_each(|row| each((row.table, row.slot)));
        let Since { under, whereabouts: Whereabouts { owners, moved, .. }, .. } = &*self.since();
        let under = under.keys().map(|(place, _)| place);
        owners.iter().chain(moved.keys()).chain(under).for_each(|place| each(*place));
    }
}

pub(super) struct SinceGuard<'s>(MutexGuard<'s, Option<Box<Since>>>);

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

/// What a commit wrote, row by row; of a row that was deleted already, by which commit that was.
pub(super) fn written(past: &Past) -> Vec<WroteOf> {
    let again = past.rows.again();
    let gone: FxHashSet<(RowAt, u64)> = again.gone().collect();
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
    // What was deleted once more and then restored is there.
    let again = again.iter().filter_map(|(place, what)| match what {
        Again::Fields(fields) => Some((place, None, Wrote::Fields(fields.clone()))),
        Again::Gone(by) => (!back.contains(&(place, by))).then_some((place, Some(by), Wrote::Gone)),
    });
    let links = past.links.iter().map(|(table, slot, field)| {
        ((*table, *slot), None, Wrote::Fields([*field].into_iter().collect()))
    });
    rows.chain(again).chain(links).collect()
}
