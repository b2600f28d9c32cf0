//! A terminal as far as it is used: lines that are drawn over and taken away, broken where they are too wide, and resized.
#![allow(dead_code, clippy::unwrap_used)]

use std::fs::File;
use std::io::Read;
use std::process::{Child, Command, Stdio};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};

/// A row, and whether the line goes on in the next one.
#[derive(Clone, Default)]
struct Row {
    text: Vec<char>,
    goes_on: bool,
}

/// What a person would see.
pub struct Terminal {
    columns: usize,
    rows: Vec<Row>,
    row: usize,
    column: usize,
    /// Bytes of a character or a sequence that is not whole yet.
    rest: Vec<u8>,
    /// What was seen each time when something had been drawn over.
    pub pictures: Vec<Vec<String>>,
}

impl Terminal {
    pub fn new(columns: usize) -> Terminal {
        Terminal { columns, rows: vec![Row::default()], row: 0, column: 0, rest: Vec::new(), pictures: Vec::new() }
    }

    /// The rows as text, without blanks at their ends.
    pub fn seen(&self) -> Vec<String> {
        self.rows.iter().map(|row| row.text.iter().collect::<String>().trim_end().to_owned()).collect()
    }

    /// Shows bytes; what is not whole yet waits for the next ones.
    pub fn print(&mut self, bytes: &[u8]) {
        self.rest.extend_from_slice(bytes);
        let whole = match std::str::from_utf8(&self.rest) {
            Ok(text) => text.len(),
            Err(error) => error.valid_up_to(),
        };
        let text = String::from_utf8(self.rest.drain(..whole).collect()).unwrap();
        let mut signs = text.chars();
        while let Some(sign) = signs.next() {
            match sign {
                '\r' => self.column = 0,
                '\n' => self.down(false),
                '\x1b' => {
                    let before = signs.clone();
                    let Some(code) = code(&mut signs) else {
                        let rest = format!("\x1b{}", before.as_str());
                        self.rest.splice(0..0, rest.into_bytes());
                        return;
                    };
                    self.steered(&code);
                }
                sign => self.put(sign),
            }
        }
    }

    fn down(&mut self, goes_on: bool) {
        self.rows[self.row].goes_on = goes_on;
        (self.row, self.column) = (self.row + 1, 0);
        if self.rows.len() <= self.row {
            self.rows.push(Row::default());
        }
    }

    fn put(&mut self, sign: char) {
        if self.column == self.columns {
            self.down(true);
        }
        let column = self.column;
        let row = &mut self.rows[self.row];
        if row.text.len() <= column {
            row.text.resize(column + 1, ' ');
        }
        row.text[column] = sign;
        self.column += 1;
    }

    fn steered(&mut self, code: &str) {
        let (count, what) = code.split_at(code.len() - 1);
        match (what, count) {
            ("A", count) => {
                self.row = self.row.saturating_sub(count.parse().unwrap());
            }
            ("K", "") => {
                let column = self.column;
                self.rows[self.row].text.truncate(column);
                self.rows[self.row].goes_on = false;
            }
            ("K", "2") => self.rows[self.row] = Row::default(),
            ("G", "") => self.column = 0,
            ("J", "") => {
                let column = self.column;
                self.rows.truncate(self.row + 1);
                self.rows[self.row].text.truncate(column);
                self.pictures.push(self.seen());
            }
            ("m", _) => {}
            other => panic!("{other:?} is not understood"),
        }
    }

    /// Makes it wider or narrower. Where lines are `broken_anew`, a line that was too wide is put together and broken at the
    /// new width, as most terminals do; others leave rows as they are.
    pub fn resize(&mut self, columns: usize, broken_anew: bool) {
        self.columns = columns;
        if !broken_anew {
            return;
        }
        let (mut rows, mut cursor) = (Vec::new(), 0);
        let mut line: Vec<char> = Vec::new();
        for (at, row) in std::mem::take(&mut self.rows).into_iter().enumerate() {
            line.extend(row.text.iter().rev().skip_while(|sign| **sign == ' ').collect::<Vec<_>>().into_iter().rev());
            if at == self.row {
                cursor = rows.len() + line.len() / columns.max(1);
            }
            if !row.goes_on {
                let pieces = line.len().div_ceil(columns).max(1);
                for piece in 0..pieces {
                    let text = line.iter().skip(piece * columns).take(columns).copied().collect();
                    rows.push(Row { text, goes_on: piece + 1 < pieces });
                }
                line.clear();
            }
        }
        self.rows = rows;
        self.row = cursor.min(self.rows.len() - 1);
    }
}

/// The rest of a control sequence: its numbers, and the letter that ends it; nothing where it is not whole.
fn code(rest: &mut std::str::Chars<'_>) -> Option<String> {
    assert_eq!(rest.next()?, '[', "only CSI sequences");
    let mut code = String::new();
    loop {
        let sign = rest.next()?;
        code.push(sign);
        if sign.is_ascii_alphabetic() {
            return Some(code);
        }
    }
}

/// A command with a terminal: the program, the terminal's own end, and what is seen.
pub struct OnTerminal {
    pub child: Child,
    end: File,
    pub terminal: Terminal,
}

impl OnTerminal {
    /// Starts a command whose standard error is a terminal; its standard output too, where `both` says so.
    pub fn start(mut command: Command, columns: u16, both: bool) -> OnTerminal {
        let own = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
        grantpt(&own).unwrap();
        unlockpt(&own).unwrap();
        tcsetwinsize(&own, size(columns)).unwrap();
        let name = ptsname(&own, Vec::new()).unwrap();
        let theirs = File::options().read(true).write(true).open(name.to_str().unwrap()).unwrap();
        let out = if both { Stdio::from(theirs.try_clone().unwrap()) } else { Stdio::null() };
        let child = command.env("LC_ALL", "C").stdin(Stdio::null()).stdout(out).stderr(theirs).spawn().unwrap();
        drop(command);
        OnTerminal { child, end: own.into(), terminal: Terminal::new(usize::from(columns)) }
    }

    /// Shows what comes until nothing has come for so many milliseconds. `false` once everybody has left.
    pub fn shown(&mut self, milliseconds: i64) -> bool {
        let patience = Timespec { tv_sec: milliseconds / 1000, tv_nsec: milliseconds % 1000 * 1_000_000 };
        loop {
            let mut ends = [PollFd::new(&self.end, PollFlags::IN)];
            if poll(&mut ends, Some(&patience)).unwrap() == 0 {
                return true;
            }
            let mut bytes = [0; 4096];
            // A terminal that everybody has left cannot be read.
            match self.end.read(&mut bytes) {
                Ok(count) if count > 0 => self.terminal.print(&bytes[..count]),
                _ => return false,
            }
        }
    }

    /// Resizes the terminal while the program stands still, so that what was drawn before has its old width.
    pub fn resize(&mut self, columns: u16, broken_anew: bool) {
        let pid = rustix::process::Pid::from_child(&self.child);
        rustix::process::kill_process(pid, rustix::process::Signal::STOP).unwrap();
        self.shown(200);
        tcsetwinsize(&self.end, size(columns)).unwrap();
        self.terminal.resize(usize::from(columns), broken_anew);
        rustix::process::kill_process(pid, rustix::process::Signal::CONT).unwrap();
    }

    /// Follows it to its end; its exit code.
    pub fn ended(&mut self) -> i32 {
        while self.shown(1000) {}
        self.child.wait().unwrap().code().unwrap()
    }
}

fn size(columns: u16) -> Winsize {
    Winsize { ws_row: 30, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 }
}
