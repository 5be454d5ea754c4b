//! Rows on their way from the thread that reads a file to the one that builds the tables.

use std::sync::mpsc;
use std::thread;

use rusqlite::Connection;

use super::read::RowsOf;
use crate::error::{Error, ErrorKind, Result};
use crate::storage::form::Stored;
use crate::storage::{Hash, Loader};

/// So many rows go in one piece, and so many pieces wait at most.
const ROWS: usize = 1024;
const PIECES: usize = 4;

/// Some rows: the values of all of them one behind the other, and their texts in one piece.
#[derive(Default)]
struct Piece {
    values: Vec<Packed>,
    is_absent: Vec<bool>,
    texts: String,
    hashes: Vec<Hash>,
}

/// A value whose text stands elsewhere.
#[derive(Clone, Copy)]
enum Packed {
    Null,
    Int(i64),
    Real(f64),
    Text(usize, usize),
}

impl Piece {
    fn push(&mut self, values: &[Stored<'_>], is_absent: &[bool], hash: Hash) {
        for value in values {
            self.values.push(match value {
                Stored::Null => Packed::Null,
                Stored::Int(number) => Packed::Int(*number),
                Stored::Real(number) => Packed::Real(*number),
                Stored::Text(text) => {
                    let from = self.texts.len();
                    self.texts.push_str(text);
                    Packed::Text(from, self.texts.len())
                }
            });
        }
        self.is_absent.extend_from_slice(is_absent);
        self.hashes.push(hash);
    }

    /// Gives its rows on; `columns` are how many values each has.
    fn put(&self, columns: usize, loader: &mut Loader<'_>) -> Result<()> {
        let mut row: Vec<Stored<'_>> = Vec::with_capacity(columns);
        let rows = self.values.chunks_exact(columns).zip(self.is_absent.chunks_exact(columns));
        for ((values, is_absent), hash) in rows.zip(&self.hashes) {
            row.clear();
            row.extend(values.iter().map(|value| match *value {
                Packed::Null => Stored::Null,
                Packed::Int(number) => Stored::Int(number),
                Packed::Real(number) => Stored::Real(number),
                Packed::Text(from, to) => Stored::Text(self.texts[from..to].into()),
            }));
            loader.hashed(&row, is_absent, *hash)?;
        }
        Ok(())
    }
}

/// Reads a table's rows on a thread of its own while this one builds the table.
pub(super) fn load(
    connection: &mut Connection,
    rows: &RowsOf<'_>,
    loader: &mut Loader<'_>,
) -> Result<()> {
    thread::scope(|scope| {
        let (sends, receives) = mpsc::sync_channel::<Piece>(PIECES);
        let reading = scope.spawn(move || {
            let mut piece = Piece::default();
            let read = rows.each(connection, |values, is_absent| {
                piece.push(values, is_absent, rows.hash(values, is_absent));
                if piece.hashes.len() < ROWS {
                    return Ok(());
                }
                let full = std::mem::take(&mut piece);
                sends
                    .send(full)
                    .map_err(|_| Error::new(ErrorKind::Storage, "nobody takes the rows"))
            });
            // The last piece; if nobody takes it, they know why.
            drop(sends.send(piece));
            read
        });
        let put = receives.iter().try_for_each(|piece| piece.put(rows.columns(), loader));
        drop(receives);
        let read = reading
            .join()
            .unwrap_or_else(|_| Err(Error::new(ErrorKind::Storage, "reading it failed")));
        // What was wrong with a row is why reading ended.
        put.and(read)
    })
}
