//! Rows that were read from a result, kept for as long as the result is borrowed.

use std::sync::OnceLock;

use smallvec::SmallVec;

use crate::value::Value;

/// The places of this many rows are allocated together: below a kilobyte, which allocators have at
/// hand.
const PAGE: usize = 8;

/// The values of a row. Where it has few columns they lie in its place: a piece of memory for each
/// row costs as much as reading it.
pub(in crate::query) type Row = SmallVec<[Value; 4]>;
type Page = Box<[OnceLock<Row>]>;

/// Rows by number. Often one of them is read, or a few that lie close together.
#[derive(Clone, Default)]
pub(in crate::query) struct ReadRows {
    first: OnceLock<(usize, Box<[Value]>)>,
    others: OnceLock<Box<[OnceLock<Page>]>>,
}

fn places<T>(len: usize) -> Box<[OnceLock<T>]> {
    (0..len).map(|_| OnceLock::new()).collect()
}

impl ReadRows {
    /// The row with a number below `len`, which `read` reads the first time.
    pub(in crate::query) fn row(
        &self,
        number: usize,
        len: usize,
        read: impl FnOnce() -> Row,
    ) -> &[Value] {
        let mut read = Some(read);
        let mut read = || read.take().map_or(Row::default(), |read| read());
        let (of, row) = self.first.get_or_init(|| (number, read().into_boxed_slice()));
        if *of == number {
            return row;
        }
        let (page, place) = (number / PAGE, number % PAGE);
        let pages = self.others.get_or_init(|| places(len.div_ceil(PAGE)));
        let page = pages[page].get_or_init(|| places(PAGE.min(len - page * PAGE)));
        page[place].get_or_init(read)
    }
}
