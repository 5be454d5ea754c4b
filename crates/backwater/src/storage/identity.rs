//! Which file stands at a path, so that it is noticed when it is removed, replaced or changed while
//! a cache is open.

use std::fs;
use std::io;
use std::path::Path;
#[cfg(feature = "json-lines")]
use std::time::SystemTime;

use crate::error::{Error, ErrorKind, Result};

/// A file at one time.
#[derive(Debug, Clone, Copy)]
pub(super) struct Identity {
    /// Identifies a file independently of its name. Elsewhere than on Unix a file that is open
    /// cannot be replaced.
    file: (u64, u64),
    len: u64,
    #[cfg(feature = "json-lines")]
    changed: Option<SystemTime>,
}

impl Identity {
    /// That of the file at a path, if there is one.
    pub(super) fn of(path: &Path) -> Result<Option<Self>> {
        let found = match fs::metadata(path) {
            Ok(found) => found,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => {
                let message = format!("it cannot be looked at: {error}");
                return Err(Error::new(ErrorKind::Storage, message).caused_by(error));
            }
        };
        #[cfg(unix)]
        let file = {
            use std::os::unix::fs::MetadataExt;
            (found.dev(), found.ino())
        };
        #[cfg(not(unix))]
        let file = (0, 0);
        Ok(Some(Self {
            file,
            len: found.len(),
            #[cfg(feature = "json-lines")]
            changed: found.modified().ok(),
        }))
    }

    pub(super) fn is_empty(&self) -> bool {
        self.len == 0
    }

    pub(super) fn is_same_file(&self, other: &Self) -> bool {
        self.file == other.file
    }

    /// Whether it is the same file, and has not been written to meanwhile.
    #[cfg(feature = "json-lines")]
    pub(super) fn is_unchanged(&self, other: &Self) -> bool {
        self.is_same_file(other) && (self.len, self.changed) == (other.len, other.changed)
    }
}
