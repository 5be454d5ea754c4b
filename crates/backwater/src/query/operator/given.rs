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
#[derive(Clone, Default)]
pub(crate) struct Given {
    /// How many functions there are.
    functions: usize,
    /// Nothing, where there are no functions.
    chunks: Option<Trie<Box<[Scalar<'static>]>>>,
}

impl Given {
    pub(crate) fn new(functions: usize) -> Self {
        Self { functions, chunks: None }
    }

    /// Makes room for rows up to a number.
    pub(crate) fn reach(&mut self, row: RowNo) {
        let chunks = self.chunks.get_or_insert_with(Trie::new);
        while chunks.len() <= row as usize / CHUNK {
            chunks.push(vec![Scalar::Null; CHUNK * self.functions].into());
        }
    }

    #[inline]
    pub(crate) fn get(&self, row: RowNo, function: usize) -> &Scalar<'static> {
        self.all(row).get(function).unwrap_or(&Scalar::Null)
    }

    pub(crate) fn set(&mut self, row: RowNo, function: usize, value: Scalar<'static>) {
        if let Some(chunks) = &mut self.chunks {
            let row = row as usize;
            chunks.get_mut(row / CHUNK)[row % CHUNK * self.functions + function] = value;
        }
    }

    /// What is given for a row.
    #[inline]
    pub(crate) fn all(&self, row: RowNo) -> &[Scalar<'static>] {
        let Some(chunks) = &self.chunks else { return &[] };
        let row = row as usize;
        &chunks.get(row / CHUNK)[row % CHUNK * self.functions..][..self.functions]
    }
}
