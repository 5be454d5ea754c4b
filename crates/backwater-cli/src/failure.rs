//! What went wrong, on standard error, and the exit code that says whose fault it was.

use std::fmt;
use std::io;
use std::process::ExitCode;

use anstream::eprintln;
use anstyle::{AnsiColor, Style};

/// The call itself was wrong: exit code 2.
#[derive(Debug)]
pub(crate) struct WrongCall(pub(crate) anyhow::Error);

impl fmt::Display for WrongCall {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl std::error::Error for WrongCall {}

/// Marks an error as the caller's.
pub(crate) fn wrong_call(error: impl Into<anyhow::Error>) -> anyhow::Error {
    WrongCall(error.into()).into()
}

/// Prints an error and gives the exit code: 1 if the work failed, 2 if the call was wrong.
pub(crate) fn report(error: &anyhow::Error) -> ExitCode {
    // The reader of our output may stop early; that is no failure.
    let closed = error.chain().filter_map(|cause| cause.downcast_ref::<io::Error>());
    if closed.into_iter().any(|cause| cause.kind() == io::ErrorKind::BrokenPipe) {
        return ExitCode::SUCCESS;
    }
    let red = Style::new().bold().fg_color(Some(AnsiColor::Red.into()));
    for line in error.to_string().lines() {
        eprintln!("{red}error:{red:#} {line}");
    }
    ExitCode::from(if error.is::<WrongCall>() { 2 } else { 1 })
}
