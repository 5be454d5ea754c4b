//! One writer at a time: a lock on a file beside the cache's.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};

use crate::error::{Error, ErrorKind, Result};

/// The right to write to a cache file, until it is dropped or the process ends, however that ends.
pub(super) struct Lock {
    /// Locked for as long as it is open.
    _file: File,
    #[cfg(feature = "sqlite")]
    path: PathBuf,
    /// Whether the file was made for it.
    #[cfg(feature = "sqlite")]
    is_new: bool,
}

#[cfg(feature = "sqlite")]
impl Lock {
    /// Releases it as if it had never been taken.
    pub(super) fn discard(self) {
        if self.is_new {
            drop(fs::remove_file(&self.path));
        }
    }
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
    let taken = || {
        let message =
            format!("{} is no file of Backwater's, which would lock it", beside.display());
        Error::new(ErrorKind::Storage, message).help("give the cache or that file another name")
    };
    loop {
        // A symbolic link is no lock of ours.
        let known = fs::symlink_metadata(&beside).ok();
        if known.as_ref().is_some_and(|known| !known.is_file()) {
            return Err(taken());
        }
        let mut options = OpenOptions::new();
        options.read(true).write(true).truncate(false);
        options.create_new(known.is_none());
        let mut file = match owned_by_one(&mut options).open(&beside) {
            Ok(file) => file,
            // It has appeared or disappeared just now.
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists && known.is_none() => {
                continue;
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound && known.is_some() => continue,
            Err(error) => return Err(cannot(error)),
        };
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let mut holder = String::new();
                // The holder's name helps, but is not needed.
                drop(file.read_to_string(&mut holder));
                let message = format!("{} writes to it", described(&holder));
                return Err(Error::new(ErrorKind::Storage, message)
                    .help("let it end first, or open the file only to be read"));
            }
            // Where there are no locks, a writer still notices another one when it writes.
            Err(TryLockError::Error(_)) => {}
        }
        if !is_at(&file, &beside) {
            // The holder has released it together with the file, or another file was put there.
            continue;
        }
        let mut begins = [0; 20];
        let len = file.read(&mut begins).unwrap_or(0);
        if !begins[..len].iter().all(|byte| byte.is_ascii_digit() || byte.is_ascii_whitespace()) {
            return Err(taken());
        }
        // Of one length, so that nothing is left of another one and nothing has to be cut off.
        drop(file.rewind().and_then(|()| writeln!(file, "{:<19}", std::process::id())));
        return Ok(Lock {
            _file: file,
            #[cfg(feature = "sqlite")]
            path: beside,
            #[cfg(feature = "sqlite")]
            is_new: known.is_none(),
        });
    }
}

/// Whether a file is the one at a path.
fn is_at(file: &File, path: &Path) -> bool {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let of = |found: fs::Metadata| (found.dev(), found.ino());
        let here = file.metadata().map(of).ok();
        here.is_some() && here == fs::symlink_metadata(path).map(of).ok()
    }
    #[cfg(not(unix))]
    {
        let _ = file;
        path.exists()
    }
}

fn described(holder: &str) -> String {
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
