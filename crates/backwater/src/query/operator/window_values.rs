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

    pub(crate) fn set(&mut self, row: RowNo, function: usize, value: Scalar<'static>) {
        if let Some(Values { functions, chunks }) = self.0.as_deref_mut() {
            let row = row as usize;
            chunks.get_mut(row / CHUNK)[row % CHUNK * *functions + function] = value;
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
