//! One writer at a time: a lock on a file beside the cache's.

use std::fs::{File, OpenOptions, TryLockError};
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};

use crate::error::{Error, ErrorKind, Result};

/// The right to write to a cache file, until it is dropped or the process ends, however that ends.
pub(super) struct Lock {
    _file: File,
}

/// Takes the right to write.
///
/// # Errors
/// If another process, or another cache of this one, has it.
pub(super) fn take(path: &Path) -> Result<Lock> {
    let beside = beside(path);
    let cannot = |error: io::Error| {
        let message = format!("it cannot be written, as nothing can be made beside it: {error}");
        Error::new(ErrorKind::Storage, message)
            .help("is its folder there, and writable?")
            .caused_by(error)
    };
    let mut options = OpenOptions::new();
    options.read(true).write(true).create(true).truncate(false);
    let mut file = owned_by_one(&mut options).open(&beside).map_err(cannot)?;
    match file.try_lock() {
        Ok(()) => {}
        Err(TryLockError::WouldBlock) => {
            let mut holder = String::new();
            // Who it is helps, but is not needed.
            drop(file.read_to_string(&mut holder));
            return Err(Error::new(ErrorKind::Storage, format!("{} writes to it", told(&holder)))
                .help("let it end first, or open the file with `SqliteFile::read_only`"));
        }
        // Where there are no locks, a writer is still told of another one when it writes.
        Err(TryLockError::Error(_)) => {}
    }
    // Of one length, so that nothing is left of another one and nothing has to be cut off.
    drop(file.rewind().and_then(|()| writeln!(file, "{:<19}", std::process::id())));
    Ok(Lock { _file: file })
}

fn told(holder: &str) -> String {
    match holder.trim().parse::<u32>() {
        Ok(id) if id == std::process::id() => "another cache of this program".to_owned(),
        Ok(id) => format!("another program (process {id})"),
        Err(_) => "another program".to_owned(),
    }
}

fn beside(path: &Path) -> PathBuf {
    let mut name = path.to_owned().into_os_string();
    name.push("-lock");
    name.into()
}

/// Makes the file, if it is not there, one that only its owner may read.
pub(super) fn make(path: &Path) -> io::Result<()> {
    let mut options = OpenOptions::new();
    options.write(true).create(true).truncate(false);
    owned_by_one(&mut options).open(path).map(drop)
}

fn owned_by_one(options: &mut OpenOptions) -> &mut OpenOptions {
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(options, 0o600);
    options
}
