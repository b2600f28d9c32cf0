//! Drawing: the only place that knows colours and widths, which are handed to it.

pub mod compare;
pub mod counter;
pub mod diagnostics;
pub mod json;
pub mod junit;
pub mod log;
pub mod loose;
pub mod names;
pub mod progress;
pub mod report;
pub mod sarif;
pub mod status;
pub mod tokens;
pub mod verdicts;
pub mod whose;
pub mod why;

use std::borrow::Cow;
use std::hash::{BuildHasher, RandomState};
use std::io::Write;
use std::sync::OnceLock;

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
    let code = |code: String| own(&code);
    if screen.colour {
        format!("{}{text}{}", code(style.to_string()), code(format!("{style:#}")))
    } else {
        text.to_string()
    }
}

/// A control sequence (ECMA-48, 5.4) of ours, without its introducer.
pub fn control(rest: &str) -> String {
    format!("{}{rest}", introducer())
}

/// Control sequences in a text that holds nothing but our own words are marked as ours.
pub fn own(text: &str) -> String {
    text.replace("\x1b[", introducer())
}

/// How our own control sequences begin until they are printed: with a number that no file, no program and no stranger can
/// know, so that whatever else looks like one is shown as text.
fn introducer() -> &'static str {
    static MARK: OnceLock<String> = OnceLock::new();
    MARK.get_or_init(|| format!("\x1b[{};", RandomState::new().hash_one(0u8)))
}

/// Text as it can be shown anywhere: what would steer a terminal, or turn the order of letters around, is spelt out.
pub fn clean(text: &str) -> Cow<'_, str> {
    if !text.chars().any(steers) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        match c {
            c if !steers(c) => out.push(c),
            '\0'..='\x7f' => out.push_str(&format!("\\x{:02x}", u32::from(c))),
            c => out.extend(c.escape_unicode()),
        }
    }
    Cow::Owned(out)
}

/// Whether a character does something else than to show: controls, and marks of writing direction (Unicode UAX #9).
fn steers(c: char) -> bool {
    let turns = matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    turns || (c.is_control() && !matches!(c, '\n' | '\t'))
}

/// Text in which all control sequences but our own are spelt out, so that its width can be measured.
pub fn spelt(text: &str) -> String {
    text.split(introducer()).map(clean).collect::<Vec<_>>().join(introducer())
}

/// Text as a terminal gets it.
fn shown(text: &str) -> String {
    spelt(text).replace(introducer(), "\x1b[")
}

/// Prints for people to standard output.
///
/// # Errors
/// A reader that has gone away ends the call quietly; a full disk is said.
pub fn print(text: &str) -> Result<(), Failure> {
    print_exact(&shown(text))
}

/// Prints for programs to standard output: documents and scripts, to the byte.
///
/// # Errors
/// As [`print`].
pub fn print_exact(text: &str) -> Result<(), Failure> {
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
    let _ = err.write_all(shown(text).as_bytes()).and_then(|()| err.flush());
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

#[cfg(test)]
mod tests {
    use super::{BAD, control, paint, shown};
    use crate::lower::Screen;

    #[test]
    fn only_our_own_sequences_steer_the_terminal() {
        let screen = Screen { colour: true, terminal: true, width: 80, unicode: true };
        let hostile = "a\x1b[31mb\x1b]0;title\x07\r\u{9b}2J\u{202e}c\td\n";
        let said = shown(&format!("{}{}{hostile}", control("2K"), paint(screen, BAD, hostile)));
        let spelt = "a\\x1b[31mb\\x1b]0;title\\x07\\x0d\\u{9b}2J\\u{202e}c\td\n";
        assert_eq!(said, format!("\x1b[2K\x1b[1m\x1b[31m{spelt}\x1b[0m{spelt}"));
    }
}
