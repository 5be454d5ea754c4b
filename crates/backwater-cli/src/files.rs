//! Files that hold responses: their bytes, their names, and the rules that they are called after.

use std::borrow::Cow;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::mem;
use std::path::{Path, PathBuf};
use std::sync::{OnceLock, mpsc};
use std::thread;

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
    bytes.map_err(|error| unread(file, error))
}

/// Reads files on a thread of its own, somewhat ahead of those that are being worked on, and gives
/// the bytes of each to `work`, until that fails.
pub(crate) fn read_ahead(
    files: &[PathBuf],
    mut work: impl FnMut(&Path, anyhow::Result<&[u8]>) -> anyhow::Result<()>,
) -> anyhow::Result<()> {
    /// As many bytes are handed over at once: with small files that would be most of the time.
    const AT_ONCE: usize = 1 << 20;
    thread::scope(|scope| {
        let (sender, receiver) = mpsc::sync_channel(1);
        scope.spawn(move || {
            let mut files = files.iter();
            while !files.as_slice().is_empty() {
                let (mut bytes, mut ends) = (Vec::with_capacity(AT_ONCE), Vec::new());
                while let (true, Some(file)) = (bytes.len() < AT_ONCE, files.next()) {
                    ends.push((file, append(file, &mut bytes).map(|()| bytes.len())));
                }
                if sender.send((bytes, ends)).is_err() {
                    return;
                }
            }
        });
        receiver.into_iter().try_for_each(|(bytes, ends)| {
            let mut start = 0;
            ends.into_iter().try_for_each(|(file, end)| {
                let bytes = end.map(|end| &bytes[mem::replace(&mut start, end)..end]);
                work(file, bytes)
            })
        })
    })
}

/// Adds a file's bytes; an error names it, and nothing is added.
fn append(file: &Path, bytes: &mut Vec<u8>) -> anyhow::Result<()> {
    if is_stdin(file) {
        bytes.extend_from_slice(&read(file)?);
        return Ok(());
    }
    let before = bytes.len();
    let read = File::open(file).and_then(|mut file| file.read_to_end(bytes));
    if let Err(error) = read {
        bytes.truncate(before);
        return Err(unread(file, error));
    }
    Ok(())
}

fn unread(file: &Path, error: io::Error) -> anyhow::Error {
    anyhow::anyhow!("{}: it cannot be read: {error}", name(file))
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
