//! Frame expressions: `list = part *("," part) ["except" part *("," part)]; part = int ["-" int] ["/" n] | word ["/" n]`.

use std::fmt;
use std::ops::Range;

use super::{FrameRun, Frames, MOST_TANGLED};

/// An expression as written: what it means may depend on the scene's span or the job's own frames.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FrameExpr {
    /// What is taken.
    pub parts: Vec<RangePart>,
    /// What is left out again.
    pub except: Vec<RangePart>,
}

/// One part of an expression, with every how many frames.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RangePart {
    /// Which frames.
    pub what: What,
    /// Every how many; 1 for all.
    pub every: i64,
}

/// The frames that a part speaks of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum What {
    /// From a frame to a frame, both included.
    Range(i64, i64),
    /// The span that the scene declares.
    Scene,
    /// The job's own frames.
    All,
    /// The first of the job's own frames.
    First,
    /// The middle one.
    Middle,
    /// The last one.
    Last,
}

const WORDS: [(&str, What); 5] = [
    ("scene", What::Scene),
    ("all", What::All),
    ("first", What::First),
    ("middle", What::Middle),
    ("last", What::Last),
];

/// The words that stand for frames.
pub fn words() -> impl Iterator<Item = &'static str> {
    WORDS.iter().map(|(word, _)| *word)
}

/// Why an expression cannot be read, and which bytes of it are meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FrameError {
    /// One sentence.
    pub message: String,
    /// The bytes of the expression.
    pub range: Range<usize>,
}

/// Runs that an expression may come to on its way.
const MOST_RUNS: i64 = 100_000;

/// Frame numbers lie within plus and minus this, so that sums and shifts never overflow.
pub const MOST: i64 = 1_000_000_000_000_000;

impl FrameExpr {
    /// Reads an expression.
    ///
    /// # Errors
    /// For text that is none, with the bytes at fault.
    pub fn parse(text: &str) -> Result<FrameExpr, FrameError> {
        let (taken, left_out) = match find_word(text, "except") {
            Some(at) => (&text[..at], Some((&text[at + 6..], at + 6))),
            None => (text, None),
        };
        let parts = parse_list(taken, 0)?;
        let except = left_out.map_or(Ok(Vec::new()), |(text, base)| parse_list(text, base))?;
        let expr = FrameExpr { parts, except };
        if !expr.needs_scene() && !expr.needs_own() && expr.frames(None, None).is_none() {
            let message = format!("its steps overlap, and such a list may have at most {MOST_TANGLED} frames");
            return Err(FrameError { message, range: 0..text.len() });
        }
        Ok(expr)
    }

    /// Whether it speaks of the scene's span.
    #[must_use]
    pub fn needs_scene(&self) -> bool {
        self.parts.iter().chain(&self.except).any(|part| part.what == What::Scene)
    }

    /// Whether it speaks of the job's own frames, which only modes and the command line may.
    #[must_use]
    pub fn needs_own(&self) -> bool {
        let own = |part: &RangePart| matches!(part.what, What::All | What::First | What::Middle | What::Last);
        self.parts.iter().chain(&self.except).any(own)
    }

    /// The set it means. `scene` is the scene's span, `own` the job's own frames; `None` where one is needed and unknown, and
    /// where steps interleave over more frames than can be counted out.
    #[must_use]
    pub fn frames(&self, scene: Option<&Frames>, own: Option<&Frames>) -> Option<Frames> {
        let sum = |parts: &[RangePart]| {
            parts.iter().try_fold(Frames::none(), |sum, part| sum.union_within(&part.frames(scene, own)?, MOST_RUNS))
        };
        let set = sum(&self.parts)?.minus_within(&sum(&self.except)?, MOST_RUNS)?;
        (!set.is_tangled()).then_some(set)
    }
}

impl RangePart {
    fn frames(&self, scene: Option<&Frames>, own: Option<&Frames>) -> Option<Frames> {
        let one = |frame: Option<i64>| Some(frame.map_or_else(Frames::none, Frames::one));
        match self.what {
            What::Range(first, last) => Some(FrameRun::new(first, last, self.every).into_iter().collect()),
            What::Scene => scene.map(|scene| scene.every(self.every)),
            What::All => own.map(|own| own.every(self.every)),
            What::First => own.and_then(|own| one(own.first())),
            What::Middle => own.and_then(|own| one(own.middle())),
            What::Last => own.and_then(|own| one(own.last())),
        }
    }
}

impl fmt::Display for FrameExpr {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let list = |parts: &[RangePart]| parts.iter().map(ToString::to_string).collect::<Vec<_>>().join(",");
        write!(f, "{}", list(&self.parts))?;
        if self.except.is_empty() { Ok(()) } else { write!(f, " except {}", list(&self.except)) }
    }
}

impl fmt::Display for RangePart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.what {
            What::Range(first, last) if first == last => write!(f, "{first}")?,
            What::Range(first, last) => write!(f, "{first}-{last}")?,
            word => write!(f, "{}", WORDS.iter().find(|(_, what)| *what == word).map_or("", |(name, _)| name))?,
        }
        if self.every == 1 { Ok(()) } else { write!(f, "/{}", self.every) }
    }
}

fn find_word(text: &str, word: &str) -> Option<usize> {
    text.match_indices(word).map(|(at, _)| at).find(|at| {
        let blank = |c: Option<char>| c.is_none_or(char::is_whitespace);
        blank(text[..*at].chars().next_back()) && blank(text[at + word.len()..].chars().next())
    })
}

fn parse_list(text: &str, base: usize) -> Result<Vec<RangePart>, FrameError> {
    let mut at = base;
    text.split(',')
        .map(|piece| {
            let trimmed = piece.trim();
            let start = at + (piece.len() - piece.trim_start().len());
            at += piece.len() + 1;
            parse_part(trimmed)
                .map_err(|error| FrameError { message: error.to_string(), range: start..start + trimmed.len() })
        })
        .collect()
}

/// What is wrong with one frame or range.
#[derive(Debug, thiserror::Error)]
enum RangeError {
    #[error("a frame, a range or a word is missing here")]
    Missing,
    #[error("the step after '/' is a whole number from 1 up")]
    Step,
    #[error("'{text}' goes backwards; frames are always in ascending order: write {last}-{first}")]
    Backwards { text: String, first: i64, last: i64 },
    #[error("'{0}' is not a frame; write frames like 7, 1-96, 1-96/4, -12--4 or 1-96 except 40-44")]
    NoFrame(String),
    #[error("frame {0} is outside -{MOST} to {MOST}")]
    Outside(String),
}

fn parse_part(text: &str) -> Result<RangePart, RangeError> {
    if text.is_empty() {
        return Err(RangeError::Missing);
    }
    let (body, every) = match text.split_once('/') {
        Some((body, every)) => (body.trim(), every.trim()),
        None => (text, "1"),
    };
    let every = every.parse::<i64>().ok().filter(|n| (1..=MOST).contains(n)).ok_or(RangeError::Step)?;
    if let Some((_, what)) = WORDS.iter().find(|(name, _)| *name == body) {
        return Ok(RangePart { what: *what, every });
    }
    let dash = body.char_indices().skip(1).find(|(_, c)| *c == '-').map(|(at, _)| at);
    let (first, last) = dash.map_or((body, body), |at| (body[..at].trim(), body[at + 1..].trim()));
    let (first, last) = (parse_frame(first)?, parse_frame(last)?);
    if first > last {
        return Err(RangeError::Backwards { text: body.to_owned(), first, last });
    }
    Ok(RangePart { what: What::Range(first, last), every })
}

fn parse_frame(text: &str) -> Result<i64, RangeError> {
    let digits = text.strip_prefix('-').unwrap_or(text);
    if digits.is_empty() || !digits.bytes().all(|b| b.is_ascii_digit()) {
        return Err(RangeError::NoFrame(text.to_owned()));
    }
    let frame = text.parse::<i64>().ok().filter(|frame| (-MOST..=MOST).contains(frame));
    frame.ok_or_else(|| RangeError::Outside(text.to_owned()))
}
