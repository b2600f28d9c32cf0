//! What a program prints: its lines for those who listen, its bytes for the log. Both are bounded, whatever it prints.

use std::collections::VecDeque;
use std::fs::File;
use std::io::Write;

use super::ProcessListener;

/// The first bytes of a line that are heard; the rest of it stands in the log.
const LINE: usize = 64 << 10;
/// The end of a log that is kept where it grows too long, in bytes: held in memory until the program ends.
const TAIL: u64 = 4 << 20;

/// The lines of a program's output, taken out of the bytes as they come. A carriage return ends a line, too: programs that
/// count their progress upwards on one line send nothing else for hours.
#[derive(Default)]
pub struct LineReader {
    rest: Vec<u8>,
    /// Whether the line that is being read is longer than what is heard of it.
    cut: bool,
}

impl LineReader {
    /// Takes in bytes as they came.
    pub fn add(&mut self, bytes: &[u8], listener: &mut dyn ProcessListener) {
        let mut parts = bytes.split(|byte| matches!(byte, b'\n' | b'\r')).peekable();
        while let Some(part) = parts.next() {
            let room = LINE - self.rest.len().min(LINE);
            self.cut |= part.len() > room;
            self.rest.extend_from_slice(&part[..part.len().min(room)]);
            if parts.peek().is_some() {
                self.tell(listener);
            } else if !part.is_empty() {
                listener.alive();
            }
        }
    }

    /// No more comes.
    pub fn end(mut self, listener: &mut dyn ProcessListener) {
        if !self.rest.is_empty() {
            self.tell(listener);
        }
    }

    fn tell(&mut self, listener: &mut dyn ProcessListener) {
        if self.rest.is_empty() {
            listener.alive();
        } else {
            let cut = if self.cut { " ..." } else { "" };
            listener.line(&format!("{}{cut}", String::from_utf8_lossy(&self.rest)));
        }
        self.rest.clear();
        self.cut = false;
    }
}

/// The log of a program: its head as it comes, and where that grows too long, its last bytes.
pub struct ProgramLog {
    file: File,
    /// Bytes that may still be written as they come.
    room: u64,
    tail: VecDeque<u8>,
    /// The most bytes of the tail.
    most: usize,
    /// Bytes that nobody keeps.
    lost: u64,
}

impl ProgramLog {
    /// A log of up to about `limit` bytes.
    pub fn new(file: File, limit: u64) -> ProgramLog {
        let most = (limit / 2).min(TAIL);
        ProgramLog {
            file,
            room: limit - most,
            tail: VecDeque::new(),
            most: usize::try_from(most).unwrap_or(0),
            lost: 0,
        }
    }

    /// Takes in what a program printed. The log is for people: a full disk there must not cost the frames.
    pub fn add(&mut self, bytes: &[u8]) {
        let head = bytes.len().min(usize::try_from(self.room).unwrap_or(usize::MAX));
        self.room -= head as u64;
        let _ = self.file.write_all(&bytes[..head]);
        self.tail.extend(&bytes[head..]);
        let over = self.tail.len().saturating_sub(self.most);
        self.tail.drain(..over);
        self.lost += over as u64;
    }

    /// The program has ended.
    pub fn end(mut self) {
        if self.lost > 0 {
            let _ = writeln!(self.file, "\n[{} bytes are left out here: log_limit under [run]]", self.lost);
        }
        let (first, second) = self.tail.as_slices();
        let _ = self.file.write_all(first).and_then(|()| self.file.write_all(second));
    }
}

#[cfg(test)]
mod tests {
    use std::io::{Read, Seek};
    use std::time::Instant;

    use super::{LINE, LineReader, ProcessListener, ProgramLog};

    #[derive(Default)]
    struct Heard {
        lines: Vec<String>,
        alive: usize,
    }

    impl ProcessListener for Heard {
        fn began(&mut self, _: u32) {}
        fn line(&mut self, line: &str) {
            self.lines.push(line.to_owned());
        }
        fn alive(&mut self) {
            self.alive += 1;
        }
        fn due(&self) -> Option<Instant> {
            None
        }
        fn tick(&mut self) {}
    }

    #[test]
    fn lines_end_with_either_return_and_a_long_one_is_heard_in_part() {
        let (mut heard, mut reader) = (Heard::default(), LineReader::default());
        for part in ["one\r\ntw", "o\rthr", "ee", "\r\r\n\n", "last"] {
            reader.add(part.as_bytes(), &mut heard);
        }
        assert_eq!((heard.lines.join("|").as_str(), heard.alive), ("one|two|three", 8));
        for _ in 0..40 {
            reader.add(&[b'x'; 8 << 10], &mut heard);
        }
        reader.add(b"\nnext", &mut heard);
        reader.end(&mut heard);
        assert_eq!(heard.lines[3].len(), LINE + " ...".len());
        assert_eq!(heard.lines[4], "next");
    }

    #[test]
    fn a_log_keeps_its_head_and_its_end() {
        let mut file = tempfile::tempfile().expect("a file");
        let mut log = ProgramLog::new(file.try_clone().expect("the same file"), 100);
        (0..1000).for_each(|number| log.add(format!("{number:09}\n").as_bytes()));
        log.end();
        let mut text = String::new();
        file.rewind().and_then(|()| file.read_to_string(&mut text)).expect("it was written");
        assert!(text.starts_with("000000000\n000000001\n") && text.ends_with("000000998\n000000999\n"), "{text}");
        assert!(text.contains("[9900 bytes are left out here") && text.len() < 200, "{text}");
    }
}
