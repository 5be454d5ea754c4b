//! Giving a file another name, so that nothing of it is lost.

use std::fs;
use std::path::{Path, PathBuf};

use crate::error::{Error, ErrorKind, Result};

/// Renames a file, and what stands beside it under the endings, to the first free name.
pub(super) fn set_aside(path: &Path, beside: &[&str]) -> Result<String> {
    let with = |path: &Path, ending: &str| {
        let mut name = path.to_owned().into_os_string();
        name.push(ending);
        PathBuf::from(name)
    };
    let free = (1_u32..).map(|number| with(path, &format!(".damaged-{number}")));
    let free = free.into_iter().find(|name| !name.exists()).unwrap_or_default();
    for ending in [""].iter().chain(beside) {
        let (from, to) = (with(path, ending), with(&free, ending));
        match fs::rename(&from, &to) {
            Ok(()) => {}
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => {
                let message = format!("it cannot be renamed to {}: {error}", to.display());
                return Err(Error::new(ErrorKind::Storage, message).caused_by(error));
            }
        }
    }
    Ok(free.display().to_string())
}
