//! Rows on their way from the thread that reads a file to the one that builds the tables.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc;
use std::thread;

use rusqlite::Connection;
use rusqlite::types::ValueRef;
use smallvec::SmallVec;

use super::errors::unreadable;
use super::read::RowsOf;
use crate::error::{Error, ErrorKind, Result};
use crate::storage::form::{Raw, Stored};
use crate::storage::{Hash, Loader};

/// This many rows go in one piece, and this many pieces wait at most.
const ROWS: usize = 1024;
const PIECES: usize = 4;

/// Some rows: the values of all of them one behind the other, and their texts in one piece, which
/// is looked at as a whole whether it is text.
#[derive(Default)]
struct Piece {
    values: Vec<Packed>,
    texts: Vec<u8>,
    /// The hash of each row, if computed.
    hashes: Vec<Hash>,
}

/// A value whose text stands elsewhere.
#[derive(Clone, Copy)]
enum Packed {
    Null,
    Int(i64),
    Real(f64),
    Text(u32, u32),
}

impl Piece {
    fn push(&mut self, row: &rusqlite::Row<'_>, columns: usize) -> Result<()> {
        for place in 0..columns {
            self.values.push(match row.get_ref(place).map_err(unreadable)? {
                ValueRef::Null => Packed::Null,
                ValueRef::Integer(number) => Packed::Int(number),
                ValueRef::Real(number) => Packed::Real(number),
                ValueRef::Text(bytes) => {
                    let from = self.texts.len();
                    self.texts.extend_from_slice(bytes);
                    Packed::Text(from as u32, bytes.len() as u32)
                }
                ValueRef::Blob(_) => {
                    return Err(Error::new(ErrorKind::Damaged, "a value in it is a blob"));
                }
            });
        }
        Ok(())
    }

    fn clear(&mut self) {
        self.values.clear();
        self.texts.clear();
        self.hashes.clear();
    }

    /// Hashes its rows.
    fn hash(&mut self, rows: &RowsOf<'_>) {
        let value = |place: usize| match self.values[place] {
            Packed::Null => Raw::Null,
            Packed::Int(number) => Raw::Int(number),
            Packed::Real(number) => Raw::Real(number),
            Packed::Text(from, len) => Raw::Text(&self.texts[from as usize..][..len as usize]),
        };
        self.hashes.extend(rows.hashes(self.values.len() / rows.columns(), value));
    }

    /// Whether it is to be handed over: rows may be few and long.
    fn is_full(&self, columns: usize) -> bool {
        self.values.len() >= ROWS * columns || self.texts.len() >= 1 << 24
    }

    /// Gives its rows on.
    fn put(&self, rows: &RowsOf<'_>, loader: &mut Loader<'_>) -> Result<()> {
        let no_text = || Error::new(ErrorKind::Damaged, "a text in it is not UTF-8");
        let texts = std::str::from_utf8(&self.texts).map_err(|_| no_text())?;
        let mut row: Vec<Stored<'_>> = Vec::with_capacity(rows.columns());
        let mut is_absent: SmallVec<[bool; 16]> = SmallVec::new();
        for (number, values) in self.values.chunks_exact(rows.columns()).enumerate() {
            row.clear();
            for value in values {
                row.push(match *value {
                    Packed::Null => Stored::Null,
                    Packed::Int(number) => Stored::Int(number),
                    Packed::Real(number) => Stored::Real(number),
                    Packed::Text(from, len) => {
                        let (from, len) = (from as usize, len as usize);
                        Stored::Text(texts.get(from..from + len).ok_or_else(no_text)?.into())
                    }
                });
            }
            rows.absent(&row, &mut is_absent);
            let known = self.hashes.get(number).copied();
            let hash = known.unwrap_or_else(|| rows.hash(&row, &is_absent));
            loader.hashed(&row, &is_absent, hash)?;
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
    let columns = rows.columns();
    // How many pieces were sent, and how many of these taken.
    let (sent, taken) = (&AtomicUsize::new(0), &AtomicUsize::new(0));
    thread::scope(|scope| {
        let (sends, receives) = mpsc::sync_channel::<Piece>(PIECES);
        // Pieces are returned after use, so that their memory is allocated once.
        let (gives_back, comes_back) = mpsc::channel::<Piece>();
        let named = thread::Builder::new().name("backwater file".to_owned());
        let reading = named.spawn_scoped(scope, move || {
            let mut piece = Piece::default();
            let read = rows.each(connection, |row| {
                piece.push(row, columns)?;
                if !piece.is_full(columns) {
                    return Ok(());
                }
                let room = comes_back.try_recv().unwrap_or_default();
                let mut full = std::mem::replace(&mut piece, room);
                // The builder hashes them, unless it has more work than the reader.
                if sent.fetch_add(1, Ordering::Relaxed) > taken.load(Ordering::Relaxed) {
                    full.hash(rows);
                }
                sends
                    .send(full)
                    .map_err(|_| Error::new(ErrorKind::Storage, "the receiver of the rows is gone"))
            });
            // The last piece; a receiver that is gone knows why.
            drop(sends.send(piece));
            read
        });
        let reading = reading.map_err(|error| {
            Error::new(ErrorKind::Storage, format!("no thread to read it: {error}"))
        })?;
        let put = receives.iter().try_for_each(|mut piece| {
            taken.fetch_add(1, Ordering::Relaxed);
            piece.put(rows, loader)?;
            piece.clear();
            // In the end the receiver is gone.
            drop(gives_back.send(piece));
            Ok(())
        });
        drop(receives);
        let read = reading
            .join()
            .unwrap_or_else(|_| Err(Error::new(ErrorKind::Storage, "reading it failed")));
        // What was wrong with a row is why reading ended.
        put.and(read)
    })
}
