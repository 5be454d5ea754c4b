//! What window functions give for rows: apart from the rows, which stay the same while their places
//! in a partition change.

use crate::query::expr::scalar::Scalar;
use crate::table::Trie;

/// The rows of one binding, by number.
pub(crate) type RowNo = u32;

/// So many rows' values lie together, and are copied together.
const CHUNK: usize = 32;

/// The values of some functions for rows, by the rows' numbers. A clone is a version, which shares
/// with others what is the same.
#[derive(Clone)]
pub(crate) struct Given {
    /// How many functions there are.
    functions: usize,
    chunks: Trie<Box<[Scalar<'static>]>>,
}

impl Default for Given {
    fn default() -> Self {
        Self::new(0)
    }
}

impl Given {
    pub(crate) fn new(functions: usize) -> Self {
        Self { functions, chunks: Trie::new() }
    }

    /// Makes room for rows up to a number.
    pub(crate) fn reach(&mut self, row: RowNo) {
        while self.chunks.len() <= row as usize / CHUNK {
            self.chunks.push(vec![Scalar::Null; CHUNK * self.functions].into());
        }
    }

    #[inline]
    pub(crate) fn get(&self, row: RowNo, function: usize) -> &Scalar<'static> {
        let row = row as usize;
        &self.chunks.get(row / CHUNK)[row % CHUNK * self.functions + function]
    }

    pub(crate) fn set(&mut self, row: RowNo, function: usize, value: Scalar<'static>) {
        let row = row as usize;
        self.chunks.get_mut(row / CHUNK)[row % CHUNK * self.functions + function] = value;
    }

    /// What is given for a row.
    pub(crate) fn all(&self, row: RowNo) -> &[Scalar<'static>] {
        if self.functions == 0 {
            return &[];
        }
        let row = row as usize;
        &self.chunks.get(row / CHUNK)[row % CHUNK * self.functions..][..self.functions]
    }
}
