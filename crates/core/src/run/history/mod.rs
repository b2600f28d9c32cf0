//! What all journals of a sheet say together: which files landed, of what they were made, and which calls there were.
//! Read in one pass.

mod away;
mod session;

use std::collections::{BTreeMap, HashMap};
use std::io::BufRead;

use serde::Deserialize;

use crate::frames::{Number, Shift};
use crate::picture::{OddKind, Oddity};
use crate::plan::Series;
use crate::threads::{Threads, map};
use crate::verify::Provenance;

pub use self::away::PutAway;
pub use self::session::{GivenUp, PastCall, Session};
use super::event::{Event, Gone, VERSION};
use super::fingerprint::{Difference, Fingerprint};
use super::looked::LookedFiles;

/// Bytes of journal that are read at a time.
const BLOCK: usize = 8 << 20;

/// Bytes of one line at most.
const MOST_LINE: usize = 64 << 20;

/// One landing of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Record {
    /// Its bytes.
    pub bytes: u64,
    /// BLAKE3 of its bytes.
    pub digest: [u8; 32],
    /// What it was made of: index for [`History::made`].
    pub made: u32,
    /// Its journal: index into the history's sessions.
    pub session: u32,
    /// What was odd about it: one more than its index among the oddities, zero where nothing was.
    odd: u32,
    /// Whether its file was put away: then it speaks only of a file with just its bytes, which is there again, or still.
    gone: bool,
}

impl Record {
    /// Whether two landings say the same of a file.
    fn same_as(&self, other: &Record) -> bool {
        (self.bytes, self.digest, self.made, self.gone) == (other.bytes, other.digest, other.made, other.gone)
    }

    /// Whether its file was put away since.
    #[must_use]
    pub fn is_gone(&self) -> bool {
        self.gone
    }
}

/// The digest of a landing that was written down by a script, which knows none.
pub const NO_DIGEST: [u8; 32] = [0; 32];

/// Everything that the journals know.
#[derive(Clone, Debug, Default)]
pub struct History {
    /// Landed files by the place of their series: number in the name and landing, by number, later landings later.
    landed: HashMap<String, Vec<(Number, Record)>>,
    made: Vec<Vec<(String, String)>>,
    /// What was odd about files that landed.
    oddities: Vec<Oddity>,
    /// Files that were put away since they landed, by the place of their series: by number.
    gone: HashMap<String, BTreeMap<Number, PutAway>>,
    /// What was adopted last, not given back since and not landed anew: the name before, by series and frame.
    adopted: BTreeMap<(String, i64), String>,
    made_index: HashMap<Vec<(String, String)>, u32>,
    /// When each journal was written last, in milliseconds since 1970.
    written: Vec<i64>,
    /// Runs in the order in which they began.
    pub sessions: Vec<Session>,
    /// Journals that were read: name and bytes.
    pub journals: Vec<(String, u64)>,
    /// The state folder as this machine knows it: paths in journals start there.
    pub state: String,
    /// What looks at files have found since.
    pub looked: LookedFiles,
}

/// How much of a journal is wanted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// What landed.
    Landings,
    /// Every call, too.
    Calls,
}

/// Why a journal is not read.
#[derive(Debug)]
pub enum JournalUnread {
    /// Its bytes cannot be read.
    Bytes(std::io::Error),
    /// It was written in a version that is not defined.
    Version(u32),
}

impl From<std::io::Error> for JournalUnread {
    fn from(error: std::io::Error) -> JournalUnread {
        JournalUnread::Bytes(error)
    }
}

/// One line, read.
enum JournalLine<'l> {
    Landed { line: LandedLine<'l>, digest: [u8; 32] },
    Other(Box<Event>),
}

/// A landing as it is written, without being copied.
#[derive(Deserialize)]
struct LandedLine<'l> {
    #[serde(borrow)]
    series: std::borrow::Cow<'l, str>,
    frame: i64,
    bytes: u64,
    #[serde(borrow)]
    digest: std::borrow::Cow<'l, str>,
    #[serde(borrow)]
    call: std::borrow::Cow<'l, str>,
}

/// A journal while it is read.
#[derive(Default)]
struct JournalReading {
    session: Session,
    patterns: HashMap<String, usize>,
    /// By name: index into the patterns, what is added to a frame, what it is made of.
    series: HashMap<String, (usize, Shift, u32)>,
    landed: Vec<(usize, Number, Record)>,
    gone: Vec<(usize, Number, Gone)>,
    back: Vec<(usize, Number)>,
    adopted: BTreeMap<(String, i64), String>,
    /// An adoption whose landing is told by the next line.
    adopting: Option<(String, i64)>,
    open: HashMap<String, usize>,
}

impl JournalReading {
    /// The last landing of a frame of a series.
    fn landing(&self, series: &str, frame: i64) -> Option<usize> {
        let (pattern, number) = self.place(series, frame)?;
        self.landed.iter().rposition(|(own, own_number, _)| *own == pattern && *own_number == number)
    }

    /// The pattern of a series and the number of a frame in its names.
    fn place(&self, series: &str, frame: i64) -> Option<(usize, Number)> {
        let (pattern, shift, _) = self.series.get(series)?;
        Some((*pattern, shift.number(frame)?))
    }
}

impl History {
    /// Reads one journal. Lines that are torn or foreign are skipped.
    ///
    /// # Errors
    /// When the bytes cannot be read, or are of a version that is not defined.
    pub fn read(&mut self, mut bytes: impl BufRead, depth: Depth, threads: &dyn Threads) -> Result<(), JournalUnread> {
        let mut journal = JournalReading::default();
        let mut block = Vec::with_capacity(BLOCK);
        loop {
            let before = block.len();
            let rest = std::io::Read::take(&mut bytes, BLOCK as u64);
            let read = std::io::Read::read_to_end(&mut { rest }, &mut block)?;
            // What was kept has no line's end in it.
            let last = memchr::memrchr(b'\n', &block[before..]);
            let end = if read == 0 { block.len() } else { last.map_or(0, |at| before + at + 1) };
            for line in lines(&block[..end], depth, threads) {
                if let JournalLine::Other(event) = &line
                    && let Event::Began(began) = &**event
                    && began.truepath != VERSION
                {
                    return Err(JournalUnread::Version(began.truepath));
                }
                self.line(&mut journal, line, depth);
            }
            block.drain(..end);
            if block.len() > MOST_LINE {
                // No line is as long: what stands here is none of a journal.
                block.clear();
            }
            if read == 0 {
                break;
            }
        }
        let mut own: Vec<Vec<(Number, Record)>> = vec![Vec::new(); journal.patterns.len()];
        for (pattern, at) in &journal.patterns {
            own[*at] = self.landed.remove(pattern).unwrap_or_default();
        }
        self.put_away(&mut journal, &mut own);
        for (pattern, number, record) in journal.landed {
            own[pattern].push((number, record));
        }
        self.landed.extend(journal.patterns.into_iter().map(|(pattern, at)| (pattern, std::mem::take(&mut own[at]))));
        self.sessions.push(journal.session);
        self.written.push(i64::MAX);
        Ok(())
    }

    /// The journal that was read last was written last at this time, in milliseconds since 1970.
    pub fn written_at(&mut self, time: i64) {
        if let Some(last) = self.written.last_mut() {
            *last = time;
        }
    }

    /// Whether a file that was written at some time, in milliseconds since 1970, may be the one that a landing speaks of: not
    /// one that somebody wrote there later.
    #[must_use]
    pub fn may_be(&self, record: &Record, changed: i64) -> bool {
        self.written.get(record.session as usize).is_none_or(|written| changed <= *written)
    }

    /// Puts everything in order once all journals are read.
    pub fn sort(&mut self) {
        for landed in self.landed.values_mut() {
            // Stable: of one number, later landings stay later.
            landed.sort_by_key(|(number, _)| *number);
            landed.dedup_by(|b, a| a.0 == b.0 && a.1.same_as(&b.1));
            landed.shrink_to_fit();
        }
    }

    fn line(&mut self, journal: &mut JournalReading, line: JournalLine<'_>, depth: Depth) {
        let session = &mut journal.session;
        match line {
            JournalLine::Landed { line, digest } => {
                let LandedLine { series, frame, bytes, call, .. } = line;
                let Some((pattern, shift, made)) = journal.series.get(&*series) else { return };
                let Some(number) = shift.number(frame) else { return };
                session.files += 1;
                let own = u32::try_from(self.sessions.len()).unwrap_or(u32::MAX);
                let record = Record { bytes, digest, made: *made, session: own, odd: 0, gone: false };
                journal.landed.push((*pattern, number, record));
                self.is_adopted_no_more(journal, &series, frame);
                let session = &mut journal.session;
                if depth == Depth::Calls
                    && let Some(at) = journal.open.get(&*call)
                {
                    let own = &mut session.calls[*at].landed;
                    match own.iter_mut().find(|(known, _)| *known == series) {
                        Some((_, frames)) => frames.push(frame),
                        None => own.push((series.into_owned(), vec![frame])),
                    }
                }
            }
            JournalLine::Other(event) => {
                let event = event.found(&self.state);
                self.other(journal, event, depth);
            }
        }
    }

    /// The number of what frames are made of.
    fn made_number(&mut self, made: Vec<(String, String)>) -> u32 {
        let next = u32::try_from(self.made.len()).unwrap_or(u32::MAX);
        let number = *self.made_index.entry(made.clone()).or_insert(next);
        if number == next {
            self.made.push(made);
        }
        number
    }

    fn other(&mut self, journal: &mut JournalReading, event: Event, depth: Depth) {
        match event {
            Event::Began(began) => journal.session.began = began,
            Event::Version { series, version } => {
                for name in series {
                    let Some((_, _, made)) = journal.series.get_mut(&name) else { continue };
                    let parts = self.made[*made as usize].clone();
                    *made = self.made_number(Fingerprint { parts }.with_version(&version).parts);
                }
            }
            Event::Series(of) => {
                let made = self.made_number(of.made.clone());
                let next = journal.patterns.len();
                let pattern = *journal.patterns.entry(of.pattern.clone()).or_insert(next);
                journal.series.insert(of.series.clone(), (pattern, Shift(of.shift), made));
                journal.session.series.push(of);
            }
            Event::Late { series, frame } => {
                if let Some(at) = journal.landing(&series, frame) {
                    journal.landed.remove(at);
                    journal.session.files -= 1;
                }
            }
            Event::Adopted { series, frame, from } => {
                journal.adopting = Some((series.clone(), frame));
                journal.adopted.insert((series, frame), from);
            }
            Event::Gone(gone) => {
                if let Some((pattern, number)) = journal.place(&gone.series, gone.frame) {
                    journal.back.retain(|own| *own != (pattern, number));
                    journal.gone.push((pattern, number, gone));
                }
            }
            Event::Back { series, frame } => journal.back.extend(journal.place(&series, frame)),
            Event::Odd { series, frame, check, why } => {
                if let Some((at, kind)) = journal.landing(&series, frame).zip(OddKind::of(&check)) {
                    journal.landed[at].2.odd = self.odd_number(Oddity { kind, why });
                }
            }
            Event::Over { outcome, t, .. } => {
                let session = &mut journal.session;
                session.outcome = Some(outcome);
                session.seconds = session.seconds.max(t);
            }
            event if depth == Depth::Calls => journal.session.add(&mut journal.open, event),
            _ => {}
        }
    }

    /// The number of something odd: the same words are kept once, as far as they follow each other.
    fn odd_number(&mut self, odd: Oddity) -> u32 {
        let known = self.oddities.iter().rev().take(16).position(|own| *own == odd);
        let at = known.map_or(self.oddities.len(), |back| self.oddities.len() - 1 - back);
        if known.is_none() {
            self.oddities.push(odd);
        }
        u32::try_from(at + 1).unwrap_or(0)
    }

    /// The tag of the run that wrote a landing down.
    #[must_use]
    pub fn tag(&self, record: &Record) -> &str {
        self.sessions.get(record.session as usize).map_or("", |session| &session.began.tag)
    }

    /// What was odd about a file when it landed.
    #[must_use]
    pub fn odd(&self, record: &Record) -> Option<&Oddity> {
        self.oddities.get((record.odd as usize).checked_sub(1)?)
    }

    /// What a frame was made of.
    #[must_use]
    pub fn made(&self, record: &Record) -> &[(String, String)] {
        self.made.get(record.made as usize).map_or(&[], Vec::as_slice)
    }

    /// The landings of one series by number in the name.
    #[must_use]
    pub fn of(&self, series: &Series) -> &[(Number, Record)] {
        self.landed.get(&series.place).map_or(&[], Vec::as_slice)
    }

    /// The landings at a place; see [`Series::place`].
    #[must_use]
    pub fn at(&self, place: &str) -> &[(Number, Record)] {
        self.landed.get(place).map_or(&[], Vec::as_slice)
    }

    /// The places of all series of which anything ever landed; see [`Series::place`].
    pub fn places(&self) -> impl Iterator<Item = &str> {
        self.landed.keys().chain(self.gone.keys()).map(String::as_str)
    }

    /// What a series' frames that landed differ in from what they would be made of now, by what they were made of.
    #[must_use]
    pub fn stale(&self, now: &Fingerprint) -> Vec<Vec<Difference>> {
        self.made.iter().map(|was| now.differences(was)).collect()
    }

    /// The turn that comes after all that were.
    #[must_use]
    pub fn next_turn(&self) -> u64 {
        self.sessions.iter().map(|session| session.began.turn).max().unwrap_or(0) + 1
    }
}

/// What a series' landings say of a file with this number in its name and this size: the landing that it comes from, and
/// whether the sizes are the same. `None` where no journal knows the name. The landing of a file that was put away counts
/// where the sizes are the same: the file never left, or somebody has moved it back.
#[must_use]
pub fn past(landed: &[(Number, Record)], number: Number, bytes: u64) -> Option<(Record, bool)> {
    let first = landed.first()?.0;
    // Frames are mostly there without a gap: then the place is known.
    let guess = number.value().checked_sub(first.value()).and_then(|guess| usize::try_from(guess).ok())?;
    let is_first = |at: usize| landed[at].0 == number && (at == 0 || landed[at - 1].0 < number);
    let from = match guess < landed.len() && is_first(guess) {
        true => guess,
        false => landed.partition_point(|(own, _)| *own < number),
    };
    let own = landed[from..].iter().take_while(|(own, _)| *own == number).map(|(_, record)| *record);
    let own = own.map(|record| (record, record.bytes == bytes)).filter(|(record, same)| *same || !record.gone);
    own.max_by_key(|(_, same)| *same)
}

/// The lines of a block, in order; read on all threads.
fn lines<'b>(block: &'b [u8], depth: Depth, threads: &dyn Threads) -> Vec<JournalLine<'b>> {
    let parts = threads.count() * 4;
    let mut pieces = Vec::new();
    let mut rest = block;
    while !rest.is_empty() {
        let aim = (block.len() / parts + 1).min(rest.len() - 1);
        let end = rest[aim..].iter().position(|byte| *byte == b'\n').map_or(rest.len(), |at| aim + at + 1);
        pieces.push(&rest[..end]);
        rest = &rest[end..];
    }
    map(threads, &pieces, |piece| lines_of(piece, depth)).into_iter().flatten().collect()
}

fn lines_of(piece: &[u8], depth: Depth) -> Vec<JournalLine<'_>> {
    piece.split(|byte| *byte == b'\n').filter_map(|text| line(text, depth)).collect()
}

fn line(text: &[u8], depth: Depth) -> Option<JournalLine<'_>> {
    // Lines that a batch file took out of itself begin as its remarks do.
    let text = text.strip_prefix(b"::").unwrap_or(text);
    if let Some(line) = landed_as_written(text) {
        let digest = bytes(&line.digest)?;
        return Some(JournalLine::Landed { line, digest });
    }
    if text.starts_with(br#"{"event":"landed""#) {
        let line: LandedLine<'_> = serde_json::from_slice(text).ok()?;
        let digest = bytes(&line.digest)?;
        return Some(JournalLine::Landed { line, digest });
    }
    let skip = [br#"{"event":"started""#.as_slice(), br#"{"event":"ended""#];
    if depth == Depth::Landings && skip.iter().any(|head| text.starts_with(head)) {
        return None;
    }
    serde_json::from_slice(text).ok().map(|event| JournalLine::Other(Box::new(event)))
}

/// A landing spelt exactly as we write it, read without looking at every sign twice; `None` where it is spelt another way.
fn landed_as_written(text: &[u8]) -> Option<LandedLine<'_>> {
    let rest = text.strip_prefix(br#"{"event":"landed","series":""#)?;
    let plain = |rest: &'_ [u8]| {
        let end = rest.iter().position(|byte| *byte == b'"' || *byte == b'\\').filter(|end| rest[*end] == b'"')?;
        Some(end)
    };
    let number = |rest: &[u8]| rest.iter().position(|byte| *byte == b',');
    let text = |bytes| std::str::from_utf8(bytes).ok();
    let end = plain(rest)?;
    let (series, rest) = (text(&rest[..end])?, rest[end..].strip_prefix(br#"","frame":"#)?);
    let end = number(rest)?;
    let (frame, rest) = (text(&rest[..end])?.parse().ok()?, rest[end..].strip_prefix(br#","bytes":"#)?);
    let end = number(rest)?;
    let (bytes, rest) = (text(&rest[..end])?.parse().ok()?, rest[end..].strip_prefix(br#","digest":""#)?);
    let end = plain(rest)?;
    let (digest, rest) = (text(&rest[..end])?, rest[end..].strip_prefix(br#"","call":""#)?);
    let end = plain(rest)?;
    let call = text(&rest[..end])?;
    let whole = rest[end..] == *br#""}"#;
    whole.then(|| LandedLine { series: series.into(), frame, bytes, digest: digest.into(), call: call.into() })
}

/// 32 bytes from their hexadecimal digits; a script writes none.
fn bytes(digits: &str) -> Option<[u8; 32]> {
    if digits.is_empty() {
        return Some(NO_DIGEST);
    }
    let digit = |sign: u8| match sign {
        b'0'..=b'9' => Some(sign - b'0'),
        b'a'..=b'f' => Some(sign - b'a' + 10),
        b'A'..=b'F' => Some(sign - b'A' + 10),
        _ => None,
    };
    let mut all = [0; 32];
    if digits.len() != 64 {
        return None;
    }
    for (byte, pair) in all.iter_mut().zip(digits.as_bytes().chunks(2)) {
        *byte = digit(pair[0])? << 4 | digit(pair[1])?;
    }
    Some(all)
}

/// How a file that is there stands to what landed. `stale` is what [`History::stale`] said; without it, nothing is compared.
#[must_use]
pub fn standing(past: Option<(Record, bool)>, bytes: u64, stale: Option<&[Vec<Difference>]>) -> Provenance {
    let Some((record, same)) = past else { return Provenance::Foreign };
    let differences = stale.and_then(|stale| stale.get(record.made as usize)).filter(|list| !list.is_empty());
    match differences {
        Some(list) => Provenance::Stale(list.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")),
        None if !same => Provenance::Changed(format!("{bytes} bytes, landed with {}", record.bytes)),
        None => Provenance::Fresh,
    }
}

#[cfg(test)]
mod tests {
    use super::{landed_as_written, line};
    use crate::run::event::{Event, Landed};
    use crate::run::history::{Depth, JournalLine};

    #[test]
    fn a_landing_is_read_the_same_in_both_ways_and_a_torn_one_in_neither() {
        for series in ["crossing/beauty", "night \\ \"quay\"/beauty", "fähre/beauty"] {
            let landed = Landed {
                series: series.to_owned(),
                frame: -7,
                bytes: 1234,
                digest: "0f".repeat(32),
                call: "crossing_1-12".to_owned(),
            };
            let text = serde_json::to_string(&Event::Landed(landed)).expect("plain data");
            let Some(JournalLine::Landed { line: read, digest }) = line(text.as_bytes(), Depth::Calls) else {
                panic!("{text}")
            };
            assert_eq!((&*read.series, read.frame, read.bytes, &*read.call), (series, -7, 1234, "crossing_1-12"));
            assert_eq!(digest, [0x0f; 32]);
            assert_eq!(landed_as_written(text.as_bytes()).is_some(), !series.contains('"'), "{text}");
            assert!((0..text.len()).all(|end| line(&text.as_bytes()[..end], Depth::Calls).is_none()));
        }
    }
}
