//! What can be wrong with a file, in words.

use crate::error::{Error, ErrorKind};

pub(super) fn damaged(how: String) -> Error {
    Error::new(ErrorKind::Damaged, how)
        .help("take a copy from elsewhere; this file is left as it is")
}

pub(super) fn foreign(why: &str) -> Error {
    Error::new(ErrorKind::Foreign, format!("this is not a Backwater cache: {why}"))
        .help("name another file; this one is left as it is")
}

/// An error of SQLite's, as damage where it says so.
pub(super) fn failed(what: &str, error: rusqlite::Error) -> Error {
    use rusqlite::ErrorCode;
    let (kind, help) = match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase) => {
            (ErrorKind::Damaged, "the file was damaged, or is not whole")
        }
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            (ErrorKind::Storage, "another program is writing to it")
        }
        Some(ErrorCode::DiskFull) => (ErrorKind::Storage, "make room on the disk"),
        Some(ErrorCode::CannotOpen) => (ErrorKind::Storage, "is its folder there, and writable?"),
        Some(ErrorCode::ReadOnly) => (ErrorKind::Storage, "the file or its folder is read-only"),
        _ => (ErrorKind::Storage, ""),
    };
    Error::new(kind, format!("{what}: {error}")).help(help).caused_by(error)
}

pub(super) fn unreadable(error: rusqlite::Error) -> Error {
    if error.sqlite_error_code() == Some(rusqlite::ErrorCode::ReadOnly) {
        let what = "a program was stopped while it wrote to it, which must be taken back first";
        return Error::new(ErrorKind::Storage, what)
            .help("open it once where it may be written")
            .caused_by(error);
    }
    failed("it cannot be read", error)
}

pub(super) fn unwritable(error: rusqlite::Error) -> Error {
    failed("it cannot be written", error)
}
