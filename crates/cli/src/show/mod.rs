//! Drawing: the only place that knows colours and widths, which are handed to it.

mod block;
pub mod compare;
pub mod counter;
pub mod diagnostics;
pub mod json;
pub mod junit;
pub mod log;
pub mod loose;
pub mod mistyped;
pub mod names;
pub mod progress;
pub mod report;
pub mod sarif;
pub mod status;
pub mod tokens;
pub mod told;
pub mod verdicts;
pub mod whose;
pub mod why;

use std::borrow::Cow;
use std::hash::{BuildHasher, RandomState};
use std::io::Write;
use std::sync::OnceLock;

use anstyle::{AnsiColor, Style};

use truepath_exec::failure::{Failure, Whole};

pub use block::Block;
pub use truepath_core::diagnostic::counted;

use crate::lower::Screen;

// Light red and blue: pairs that most colour-blind eyes tell apart, on dark and on light terminals. The sign beside a state
// says the same without any colour.

/// Light red, for what is missing or failed.
pub const BAD: Style = AnsiColor::BrightRed.on_default().bold();
/// Yellow, for what should be looked at.
pub const ODD: Style = AnsiColor::Yellow.on_default().bold();
/// Light blue, for what is good.
pub const GOOD: Style = AnsiColor::BrightBlue.on_default().bold();
/// Cyan, for the part of a name that changes, and for hints.
pub const MARK: Style = AnsiColor::Cyan.on_default();
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
    format!("{text}{}", " ".repeat(columns.saturating_sub(width(&plain(text)))))
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

/// A state: its words in its style, and its sign before them.
pub fn state(screen: Screen, style: Style, text: impl std::fmt::Display) -> String {
    paint(screen, style, format!("{}{text}", sign(screen, style)))
}

/// The sign of a style, with a blank behind it; nothing for what is neither good nor bad.
fn sign(screen: Screen, style: Style) -> &'static str {
    match (style, screen.unicode) {
        (GOOD, true) => "\u{2713} ",
        (GOOD, false) => "+ ",
        (ODD, _) => "! ",
        (BAD, true) => "\u{2717} ",
        (BAD, false) => "x ",
        _ => "",
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
/// As [`print()`].
pub fn print_exact(text: &str) -> Result<(), Failure> {
    print_through(|out| out.write_all(text.as_bytes()))
}

/// The same for what is written piece by piece.
///
/// # Errors
/// As [`print()`].
pub fn print_through(write: impl FnOnce(&mut dyn Write) -> std::io::Result<()>) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    match write(&mut out).and_then(|()| out.flush()) {
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
    match &failure.whole {
        Some(Whole::Text(text)) => return tell(text),
        // A reader that is gone reads the exit code.
        Some(Whole::Document(text)) => return drop(print_exact(text)),
        None => {}
    }
    let help = failure.help.as_ref().map(|help| format!("help: {help}\n")).unwrap_or_default();
    tell(&format!("error: {failure}\n{help}"));
}

/// The row of a table: what stands in its columns, then parts of free length. Parts for which a terminal has no room go to
/// lines of their own.
pub fn in_columns(columns: &str, parts: &[String], screen: Screen) -> String {
    let line = format!("{columns}  {}", parts.join("  "));
    if !screen.terminal || width(&plain(&line)) <= screen.width {
        return format!("{}\n", line.trim_end());
    }
    let mut out = format!("{}\n", columns.trim_end());
    parts.iter().for_each(|part| out.push_str(&format!("    {part}\n")));
    out
}

/// A text without escape sequences, as wide as it is seen.
pub fn plain(text: &str) -> String {
    let text = text.replace(introducer(), "\x1b[");
    let mut escape = false;
    let seen = |letter: &char| {
        escape |= *letter == '\x1b';
        let is_seen = !escape;
        escape &= !letter.is_ascii_alphabetic();
        is_seen
    };
    text.chars().filter(seen).collect()
}

/// Text in lines of at most so many columns, each but the first indented.
pub fn wrapped(text: &str, columns: usize, indent: usize) -> String {
    let indent = " ".repeat(indent);
    let options = textwrap::Options::new(columns.max(indent.len() + 20)).subsequent_indent(&indent);
    textwrap::fill(text, options.break_words(false).word_splitter(textwrap::WordSplitter::NoHyphenation))
}

/// A text that fits into so many columns: the middle is left out, so that both ends can be read.
pub fn fitted(text: &str, columns: usize, screen: Screen) -> String {
    if width(text) <= columns {
        return text.to_owned();
    }
    let dots = if screen.unicode { "\u{2026}" } else { "..." };
    let room = columns.saturating_sub(width(dots));
    let fits = |room: usize| {
        let mut used = 0;
        move |letter: &char| {
            used += unicode_width::UnicodeWidthChar::width(*letter).unwrap_or(0);
            used <= room
        }
    };
    let head: String = text.chars().take_while(fits(room / 2)).collect();
    let tail: Vec<char> = text.chars().rev().take_while(fits(room - room / 2)).collect();
    let tail: String = tail.into_iter().rev().collect();
    format!("{head}{dots}{tail}")
}

#[cfg(test)]
mod tests {
    use super::{BAD, control, fitted, paint, shown, width};
    use crate::lower::Screen;

    #[test]
    fn only_our_own_sequences_steer_the_terminal() {
        let screen = Screen { colour: true, terminal: true, width: 80, unicode: true };
        let hostile = "a\x1b[31mb\x1b]0;title\x07\r\u{9b}2J\u{202e}c\td\n";
        let said = shown(&format!("{}{}{hostile}", control("2K"), paint(screen, BAD, hostile)));
        let spelt = "a\\x1b[31mb\\x1b]0;title\\x07\\x0d\\u{9b}2J\\u{202e}c\td\n";
        assert_eq!(said, format!("\x1b[2K\x1b[1m\x1b[91m{spelt}\x1b[0m{spelt}"));
    }

    #[test]
    fn a_text_that_is_cut_keeps_both_ends_and_fits() {
        let screen = Screen { colour: false, terminal: true, width: 80, unicode: true };
        for text in ["renders/crossing/crossing_quay_beauty.0001.exr", "åäö", "夜の港を渡るフェリー_01.exr", ""]
        {
            for columns in 1..60 {
                let cut = fitted(text, columns, screen);
                assert!(width(&cut) <= columns.max(1), "{cut} in {columns}");
                assert!(width(text) > columns || cut == text);
                assert!(columns < 8 || cut.chars().last() == text.chars().last(), "{cut}");
            }
        }
    }
}
