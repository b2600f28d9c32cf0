//! Drawing: the only place that knows colours and widths, which are handed to it.

pub mod counter;
pub mod diagnostics;
pub mod json;
pub mod log;
pub mod names;
pub mod progress;
pub mod sarif;
pub mod status;
pub mod tokens;
pub mod verdicts;
pub mod whose;
pub mod why;

use std::io::Write;

use anstyle::{AnsiColor, Style};

use truepath_exec::failure::Failure;

use crate::lower::Screen;

/// Red, for what is lost.
pub const BAD: Style = AnsiColor::Red.on_default().bold();
/// Yellow, for what wants a look.
pub const ODD: Style = AnsiColor::Yellow.on_default().bold();
/// Green, for what is well.
pub const GOOD: Style = AnsiColor::Green.on_default().bold();
/// Cyan, for the part of a name that changes.
pub const MARK: Style = AnsiColor::Cyan.on_default().bold();
/// For headings.
pub const HEAD: Style = Style::new().bold();
/// For what can be skipped.
pub const QUIET: Style = Style::new().dimmed();

/// The columns that a text takes on a terminal.
pub fn width(text: &str) -> usize {
    unicode_width::UnicodeWidthStr::width(text)
}

/// A text with blanks after it, up to a number of columns.
pub fn pad(text: &str, columns: usize) -> String {
    format!("{text}{}", " ".repeat(columns.saturating_sub(width(text))))
}

/// Text in a style, where colours may be used.
pub fn paint(screen: Screen, style: Style, text: impl std::fmt::Display) -> String {
    if screen.colour { format!("{style}{text}{style:#}") } else { text.to_string() }
}

/// Prints to standard output.
///
/// # Errors
/// A reader that has gone away ends the call quietly; a full disk is said.
pub fn print(text: &str) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    match out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ok(()),
        Err(error) => Err(Failure::machine("write to", "standard output", &error)),
        Ok(()) => Ok(()),
    }
}

/// Prints to standard error, where nothing can be done about a failure to do so.
pub fn tell(text: &str) {
    let mut err = std::io::stderr().lock();
    let _ = err.write_all(text.as_bytes()).and_then(|()| err.flush());
}

/// Prints why a call could not go on.
pub fn failure(failure: &Failure) {
    let help = failure.help.as_ref().map(|help| format!("help: {help}\n")).unwrap_or_default();
    tell(&format!("error: {failure}\n{help}"));
}

/// `1 frame`, `2 frames`.
pub fn counted(count: impl Into<i64>, one: &str) -> String {
    let count = count.into();
    if count == 1 { format!("1 {one}") } else { format!("{count} {one}{}", if one.ends_with('s') { "" } else { "s" }) }
}
