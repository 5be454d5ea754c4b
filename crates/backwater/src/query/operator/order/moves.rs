//! How the rows of a result moved, and in which order that is reported.

use std::cmp::Ordering;

use smallvec::{SmallVec, smallvec};

use super::Few;
use crate::sorting::{self, Numbered};

/// How a row of a result moved. There may be very many, so it takes little room.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Moved {
    before: u32,
    after: u32,
    /// Whether its columns changed.
    pub(crate) changed: bool,
    /// Whether it changed places with a row that stayed.
    pub(crate) moved: bool,
}

/// How the rows of a result moved; mostly one or two did.
pub(crate) type Moves = SmallVec<[Moved; 2]>;

/// The position of a row that is not in a result.
const NOWHERE: u32 = u32::MAX;

impl Moved {
    /// From a position in the old result to one in the new one.
    pub(crate) fn between(before: Option<usize>, after: Option<usize>) -> Self {
        let place = |position: Option<usize>| position.map_or(NOWHERE, |position| position as u32);
        Self { before: place(before), after: place(after), changed: false, moved: false }
    }

    /// The same row, of which that much is known too.
    pub(crate) fn with(self, changed: bool, moved: bool) -> Self {
        Self { changed, moved, ..self }
    }

    /// A row that stood there, and is not in the result any more.
    pub(crate) fn left(before: usize) -> Self {
        Self::between(Some(before), None)
    }

    /// Its position in the old result, if it was there.
    #[inline]
    pub(crate) fn before(self) -> Option<usize> {
        (self.before != NOWHERE).then_some(self.before as usize)
    }

    /// Its position in the new result, if it is there.
    #[inline]
    pub(crate) fn after(self) -> Option<usize> {
        (self.after != NOWHERE).then_some(self.after as usize)
    }

    /// Whether it stands in both results.
    fn stays(self) -> bool {
        self.before != NOWHERE && self.after != NOWHERE
    }

    /// The order in which moves are reported: first those that left, by their old positions, then
    /// the others by their new ones.
    fn sort_key(&self) -> u64 {
        match self.after {
            NOWHERE => self.before.into(),
            // Those that entered stand in front.
            after => (u64::from(after) + 1) << 32 | u64::from(self.before.wrapping_add(1)),
        }
    }
}

/// Of rows that may have been affected, finds those that have moved, drops those that have not, and
/// puts the rest in the order in which they are reported.
pub(crate) fn settle(rows: &mut Moves) {
    mark_moved(rows);
    rows.retain(|row| row.changed || row.moved || !row.stays());
    in_order_of_report(rows);
}

/// Puts moves into the order in which they are reported.
pub(crate) fn in_order_of_report(rows: &mut Moves) {
    if rows.is_sorted_by_key(Moved::sort_key) {
        return;
    }
    let mut numbered: Vec<Numbered> = rows.iter().map(Moved::sort_key).zip(0..).collect();
    sorting::numbers(&mut numbered, &|_, _| Ordering::Equal);
    *rows = numbered.iter().map(|(_, number)| rows[*number as usize]).collect();
}

/// Finds which rows have moved: of the rows in both results that may have (`moved` is set), the
/// fewest such that the rest stands in the same order in both. A row that others pushed along has
/// not moved.
fn mark_moved(rows: &mut [Moved]) {
    if !rows.iter().any(|row| row.moved && row.stays()) {
        rows.iter_mut().for_each(|row| row.moved = false);
        return;
    }
    // A row that could not move stands in the same order in both results as all the others to which
    // nothing happened. Between which of these another row stands is its position less the rows in
    // front of it that entered, left or may have moved.
    let loose = |row: &&Moved| row.moved || !row.stays();
    let mut olds: Few<usize> = rows.iter().filter(loose).filter_map(|row| row.before()).collect();
    let mut news: Few<usize> = rows.iter().filter(loose).filter_map(|row| row.after()).collect();
    olds.sort_unstable();
    news.sort_unstable();
    let gap =
        |position: usize, all: &[usize]| position - all.partition_point(|other| *other < position);
    let mut stayers: Few<usize> = Few::new();
    for (number, row) in rows.iter_mut().enumerate() {
        if let (true, Some(before), Some(after)) = (row.moved, row.before(), row.after())
            && gap(before, &olds) == gap(after, &news)
        {
            stayers.push(number);
        }
        row.moved &= row.stays();
    }
    let mut numbered: Few<Numbered> =
        stayers.iter().map(|number| (rows[*number].after.into(), *number as u32)).collect();
    sorting::numbers(&mut numbered, &|_, _| Ordering::Equal);
    let stayers = numbered.iter().map(|(_, number)| *number as usize);
    // Among those between the same two, all but a longest run in the old order have moved.
    let mut tails: Few<usize> = Few::new();
    let mut links: Few<Option<usize>> = smallvec![None; rows.len()];
    for number in stayers {
        let place = tails.partition_point(|tail| rows[*tail].before < rows[number].before);
        links[number] = place.checked_sub(1).map(|previous| tails[previous]);
        if place == tails.len() {
            tails.push(number);
        } else {
            tails[place] = number;
        }
    }
    let mut stays = tails.last().copied();
    while let Some(number) = stays {
        rows[number].moved = false;
        stays = links[number];
    }
}
