//! Files that hold responses: their bytes, their names, and the rules that they are called after.

use std::borrow::Cow;
use std::fs;
use std::io::{self, Read, Write};
use std::path::Path;
use std::sync::OnceLock;

pub(crate) fn is_stdin(file: &Path) -> bool {
    file.as_os_str() == "-"
}

/// What messages call a file.
pub(crate) fn name(file: &Path) -> String {
    if is_stdin(file) { "standard input".to_owned() } else { file.display().to_string() }
}

/// A file's bytes; an error names it. Standard input is read once, and gives the same each time.
pub(crate) fn read(file: &Path) -> anyhow::Result<Cow<'static, [u8]>> {
    static STDIN: OnceLock<Vec<u8>> = OnceLock::new();
    let bytes = match (is_stdin(file), STDIN.get()) {
        (true, Some(bytes)) => Ok(Cow::Borrowed(bytes.as_slice())),
        (true, None) => {
            let mut bytes = Vec::new();
            let read = io::stdin().read_to_end(&mut bytes);
            read.map(|_| Cow::Borrowed(STDIN.get_or_init(|| bytes).as_slice()))
        }
        (false, _) => fs::read(file).map(Cow::Owned),
    };
    bytes.map_err(|error| anyhow::anyhow!("{}: it cannot be read: {error}", name(file)))
}

/// Writes a file anew: as a whole, or not at all. A link stays one.
pub(crate) fn replace(file: &Path, bytes: &[u8]) -> anyhow::Result<()> {
    let written = || -> io::Result<()> {
        let file = fs::canonicalize(file)?;
        let permissions = fs::metadata(&file)?.permissions();
        if permissions.readonly() {
            return Err(io::Error::new(io::ErrorKind::PermissionDenied, "it is read-only"));
        }
        let folder = file.parent().unwrap_or(Path::new("."));
        let mut part = tempfile::NamedTempFile::new_in(folder)?;
        part.write_all(bytes)?;
        part.as_file().set_permissions(permissions)?;
        part.as_file().sync_all()?;
        part.persist(&file).map_err(|error| error.error)?;
        Ok(())
    };
    written().map_err(|error| {
        anyhow::anyhow!("{}: it cannot be written, and is as it was: {error}", name(file))
    })
}

/// The rule that a file is called after: `bookings` of `bookings-311.json`.
pub(crate) fn rule_of(file: &Path) -> String {
    let stem = if is_stdin(file) {
        "response".into()
    } else {
        file.file_stem().unwrap_or_default().to_string_lossy()
    };
    let less = stem.trim_end_matches(|c: char| c.is_ascii_digit());
    let less = less.strip_suffix(['-', '_', '.', ' ']).unwrap_or(less);
    if less.is_empty() { stem.into_owned() } else { less.to_owned() }
}
