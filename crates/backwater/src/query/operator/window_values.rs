//! What window functions give for rows: apart from the rows, which stay the same while their places
//! in a partition change.

use crate::query::expr::scalar::Scalar;
use crate::table::Trie;

/// The rows of one binding, by number.
pub(crate) type RowNo = u32;

/// So many rows' values lie together, and are copied together.
const CHUNK: usize = 32;

/// The values of some functions for rows, by the rows' numbers; nothing, where there are none. A
/// clone is a version, which shares with others what is the same.
#[derive(Clone, Default)]
pub(crate) struct WindowValues(Option<Box<Values>>);

/// What a function gives for a row.
pub(crate) struct Given {
    pub(crate) row: RowNo,
    pub(crate) function: usize,
    pub(crate) value: Scalar<'static>,
}

#[derive(Clone)]
struct Values {
    /// How many functions there are.
    functions: usize,
    chunks: Trie<Box<[Scalar<'static>]>>,
}

impl WindowValues {
    pub(crate) fn new(functions: usize) -> Self {
        Self(Some(Box::new(Values { functions, chunks: Trie::new() })))
    }

    /// Makes room for rows up to a number.
    pub(crate) fn reach(&mut self, row: RowNo) {
        let Some(Values { functions, chunks }) = self.0.as_deref_mut() else { return };
        while chunks.len() <= row as usize / CHUNK {
            chunks.push(vec![Scalar::Null; CHUNK * *functions].into());
        }
    }

    #[inline]
    pub(crate) fn get(&self, row: RowNo, function: usize) -> &Scalar<'static> {
        self.all(row).get(function).unwrap_or(&Scalar::Null)
    }

    /// Sets what is given for rows, of which neighbours mostly lie together.
    pub(crate) fn set(&mut self, given: impl Iterator<Item = Given>) {
        let Some(Values { functions, chunks }) = self.0.as_deref_mut() else { return };
        let chunk_of = |given: &Given| given.row as usize / CHUNK;
        let mut given = given.peekable();
        while let Some(number) = given.peek().map(chunk_of) {
            let chunk = chunks.get_mut(number);
            while let Some(Given { row, function, value }) =
                given.next_if(|given| chunk_of(given) == number)
            {
                chunk[row as usize % CHUNK * *functions + function] = value;
            }
        }
    }

    /// What is given for a row.
    #[inline]
    pub(crate) fn all(&self, row: RowNo) -> &[Scalar<'static>] {
        let Some(Values { functions, chunks }) = self.0.as_deref() else { return &[] };
        let row = row as usize;
        &chunks.get(row / CHUNK)[row % CHUNK * functions..][..*functions]
    }
}
