//! A block of lines that is drawn over itself on a terminal.

use super::{control, plain, spelt, tell, width};
use crate::lower;

/// The widest line of a block. A terminal of 80 columns or more can be made wider and narrower without that any line is
/// broken into two, so that the block is always as high as it was drawn.
const WIDEST: usize = 79;

/// Lines on the terminal of standard error that are drawn over again and again.
#[derive(Debug, Default)]
pub struct Block {
    /// The columns that each line took when it was last drawn.
    drawn: Vec<usize>,
}

impl Block {
    /// The columns that a line may take now.
    pub fn columns() -> usize {
        lower::terminal_now().map_or(WIDEST, |(columns, _)| columns.saturating_sub(1).min(WIDEST))
    }

    /// Draws lines over those of before. Of more than the terminal has rows, the last `kept` and as many of the first as
    /// fit are shown: what has been scrolled away cannot be drawn over.
    pub fn draw(&mut self, lines: &[String], kept: usize) {
        let (columns, rows) = lower::terminal_now().unwrap_or((WIDEST + 1, usize::MAX));
        let room = rows.saturating_sub(1).max(1);
        let mut shown: Vec<String> = Vec::new();
        if lines.len() > room {
            let kept = kept.min(room.saturating_sub(1));
            let first = room - kept - 1;
            shown.extend(lines[..first].iter().cloned());
            shown.push(format!("  ... {} more lines", lines.len() - first - kept));
            shown.extend(lines[lines.len() - kept..].iter().cloned());
        } else {
            shown.extend(lines.iter().cloned());
        }
        let shown: Vec<String> = shown.iter().map(|line| clip(&spelt(line), Block::columns())).collect();
        let mut out = self.back(columns);
        for line in &shown {
            out.push_str(&format!("{line}{}\n", control("K")));
        }
        out.push_str(&control("J"));
        tell(&out);
        self.drawn = shown.iter().map(|line| width(&plain(line))).collect();
    }

    /// Takes the block away.
    pub fn end(&mut self) {
        if !self.drawn.is_empty() {
            let columns = lower::terminal_now().map_or(WIDEST + 1, |(columns, _)| columns);
            tell(&format!("{}{}", self.back(columns), control("J")));
            self.drawn.clear();
        }
    }

    /// Back to the first column of the first line. Lines that are wider than the terminal is now were broken into several.
    fn back(&self, columns: usize) -> String {
        let rows: usize = self.drawn.iter().map(|width| width.div_ceil(columns.max(1)).max(1)).sum();
        let up = if rows > 0 { control(&format!("{rows}A")) } else { String::new() };
        format!("{up}{}", control("G"))
    }
}

/// A line cut to a width; escape sequences take no room.
fn clip(line: &str, columns: usize) -> String {
    let (mut out, mut used, mut escape) = (String::new(), 0, false);
    for c in line.chars() {
        escape |= c == '\x1b';
        if !escape {
            used += unicode_width::UnicodeWidthChar::width(c).unwrap_or(0);
        }
        if escape || used <= columns {
            out.push(c);
        }
        escape &= !c.is_ascii_alphabetic();
    }
    out
}
