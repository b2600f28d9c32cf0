//! A template in which all but the frame is settled: the names of one series.

use unicode_normalization::UnicodeNormalization;

use crate::frames::Number;

use super::foreign::frame;

/// The names of one series: text with holes for the frame.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Pattern {
    pieces: Vec<Piece>,
}

/// A piece of a pattern.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Piece {
    /// Text that is the same in every name.
    Text(String),
    /// The frame, zero-padded to at least `width` digits; a minus sign comes first and is not counted.
    Frame {
        /// Digits at least.
        width: usize,
    },
    /// A version that is being looked for: `v` and any digits.
    Version,
}

impl Pattern {
    /// Adds text.
    pub fn push_text(&mut self, text: &str) {
        match self.pieces.last_mut() {
            _ if text.is_empty() => {}
            Some(Piece::Text(last)) => last.push_str(text),
            _ => self.pieces.push(Piece::Text(text.to_owned())),
        }
    }

    /// Appends another pattern.
    pub fn extend(&mut self, other: &Pattern) {
        other.pieces.iter().cloned().for_each(|piece| self.push(piece));
    }

    /// Appends a hole for the frame.
    pub fn push_frame(&mut self, width: usize) {
        self.pieces.push(Piece::Frame { width });
    }

    /// Adds a hole for a version that is being looked for.
    pub fn push_version(&mut self) {
        self.pieces.push(Piece::Version);
    }

    /// Its pieces in order; no two texts are neighbours.
    #[must_use]
    pub fn pieces(&self) -> &[Piece] {
        &self.pieces
    }

    /// The width of the first hole, `None` for a name without frame.
    #[must_use]
    pub fn frame_width(&self) -> Option<usize> {
        self.pieces.iter().find_map(|piece| match piece {
            Piece::Frame { width } => Some(*width),
            Piece::Text(_) | Piece::Version => None,
        })
    }

    /// The text of a pattern that has no hole.
    #[must_use]
    pub fn fixed(&self) -> Option<String> {
        match self.pieces.as_slice() {
            [] => Some(String::new()),
            [Piece::Text(text)] => Some(text.clone()),
            _ => None,
        }
    }

    /// Its parts: what stands between the separators.
    #[must_use]
    pub fn parts(&self) -> Vec<Pattern> {
        let mut parts = vec![Pattern::default()];
        for piece in &self.pieces {
            match piece {
                Piece::Text(text) => {
                    for (at, part) in text.split('/').enumerate() {
                        if at > 0 {
                            parts.push(Pattern::default());
                        }
                        parts.iter_mut().next_back().into_iter().for_each(|last| last.push_text(part));
                    }
                }
                hole => parts.iter_mut().next_back().into_iter().for_each(|last| last.push(hole.clone())),
            }
        }
        parts
    }

    /// Parts with separators between them.
    #[must_use]
    pub fn joined(parts: &[Pattern]) -> Pattern {
        let mut pattern = Pattern::default();
        for (at, part) in parts.iter().enumerate() {
            pattern.push_text(if at > 0 { "/" } else { "" });
            part.pieces.iter().for_each(|piece| pattern.push(piece.clone()));
        }
        pattern
    }

    /// What comes below a folder; `None` where its names do not lie there.
    #[must_use]
    pub fn below(&self, folder: &str) -> Option<Pattern> {
        let (first, rest) = self.pieces.split_first()?;
        let Piece::Text(text) = first else { return None };
        let text = text.strip_prefix(folder.trim_end_matches('/'))?.strip_prefix('/')?;
        let mut pattern = Pattern::default();
        pattern.push_text(text);
        pattern.pieces.extend(rest.iter().cloned());
        Some(pattern)
    }

    /// The name with a number. A version that is being looked for has no digits there.
    #[must_use]
    pub fn name(&self, number: Number) -> String {
        let mut name = String::with_capacity(
            self.pieces.iter().map(|piece| if let Piece::Text(text) = piece { text.len() } else { 20 }).sum(),
        );
        self.write(number, &mut name);
        name
    }

    /// Appends the name with a number to `out`.
    pub fn write(&self, number: Number, out: &mut String) {
        use std::fmt::Write;
        let number = number.value();
        for piece in &self.pieces {
            match piece {
                Piece::Text(text) => out.push_str(text),
                Piece::Frame { width } => {
                    let sign = if number < 0 { "-" } else { "" };
                    // Writing to a String cannot fail.
                    let _ = write!(out, "{sign}{:0width$}", number.unsigned_abs());
                }
                Piece::Version => out.push('v'),
            }
        }
    }

    /// The pattern in words: `{frame:N}` where the frame stands.
    #[must_use]
    pub fn spelt(&self) -> String {
        self.with_frame(frame)
    }

    /// The pattern as a template that is typed: `{frame:N}` where the frame stands, and every brace of a name doubled.
    #[must_use]
    pub fn typed(&self) -> String {
        self.typed_with(str::to_owned)
    }

    /// The same, with its holes changed by `mark`.
    #[must_use]
    pub fn typed_with(&self, mark: impl Fn(&str) -> String) -> String {
        let piece = |piece: &Piece| match piece {
            Piece::Text(text) => text.replace('{', "{{").replace('}', "}}"),
            Piece::Frame { width } => mark(&frame(*width)),
            Piece::Version => mark("v"),
        };
        self.pieces.iter().map(piece).collect()
    }

    /// The pattern with something else in each hole, made from the hole's width.
    pub fn with_frame(&self, mut hole: impl FnMut(usize) -> String) -> String {
        self.pieces
            .iter()
            .map(|piece| match piece {
                Piece::Text(text) => text.clone(),
                Piece::Frame { width } => hole(*width),
                Piece::Version => "v".to_owned(),
            })
            .collect()
    }

    /// The pattern up to its last `/` and what comes after it.
    #[must_use]
    pub fn split_folder(&self) -> (Pattern, Pattern) {
        let (mut folder, mut file) = (Pattern::default(), Pattern::default());
        for piece in &self.pieces {
            match piece {
                Piece::Text(text) => {
                    if let Some(slash) = text.rfind('/') {
                        for piece in std::mem::take(&mut file).pieces {
                            folder.push(piece);
                        }
                        folder.push_text(&text[..slash + 1]);
                        file.push_text(&text[slash + 1..]);
                    } else {
                        file.push_text(text);
                    }
                }
                hole => file.push(hole.clone()),
            }
        }
        (folder, file)
    }

    /// The name with a number, as a pattern without hole.
    #[must_use]
    pub fn settled(&self, number: Number) -> Pattern {
        let mut pattern = Pattern::default();
        pattern.push_text(&self.name(number));
        pattern
    }

    /// The folder that its names lie in, without the last `/`; `None` at the top.
    #[must_use]
    pub fn folder(&self) -> Option<Pattern> {
        let (mut folder, _) = self.split_folder();
        match folder.pieces.last_mut() {
            Some(Piece::Text(text)) => {
                text.pop();
                if text.is_empty() {
                    folder.pieces.pop();
                }
            }
            _ => return None,
        }
        (!folder.pieces.is_empty()).then_some(folder)
    }

    fn push(&mut self, piece: Piece) {
        match piece {
            Piece::Text(text) => self.push_text(&text),
            hole => self.pieces.push(hole),
        }
    }

    /// The number in a name of this pattern; `None` where it is none. A name without holes gives 0.
    #[must_use]
    pub fn read(&self, name: &str) -> Option<Number> {
        let mut found = None;
        read(&self.pieces, name, &mut found).then(|| Number::new(found.unwrap_or(0)))
    }

    /// The pattern as systems see it that take upper and lower case, and Unicode's spellings, for the same.
    #[must_use]
    pub fn folded(&self) -> Pattern {
        let pieces = self.pieces.iter().map(|piece| match piece {
            Piece::Text(text) => Piece::Text(folded(text)),
            hole => hole.clone(),
        });
        Pattern { pieces: pieces.collect() }
    }

    /// A pattern as [`Pattern::spelt`] writes it, read back.
    #[must_use]
    pub fn from_spelt(spelt: &str) -> Pattern {
        let mut pattern = Pattern::default();
        let mut rest = spelt;
        while let Some((text, after)) = rest.split_once("{frame:") {
            let Some((width, after)) = after.split_once('}') else { break };
            pattern.push_text(text);
            pattern.push_frame(width.parse().unwrap_or(1));
            rest = after;
        }
        pattern.push_text(rest);
        pattern
    }
}

/// A text as systems see it that take upper and lower case, and Unicode's spellings, for the same.
#[must_use]
pub fn folded(text: &str) -> String {
    if text.is_ascii() {
        return text.to_ascii_lowercase();
    }
    text.nfc().flat_map(char::to_lowercase).nfc().collect()
}

/// Reads `name` piece by piece; every hole must hold the same frame, written exactly as it would be. Where digits follow
/// a hole, its shorter readings are tried as well.
fn read(pieces: &[Piece], name: &str, found: &mut Option<i64>) -> bool {
    match pieces.split_first() {
        None => name.is_empty(),
        Some((Piece::Text(text), rest)) => name.strip_prefix(text.as_str()).is_some_and(|name| read(rest, name, found)),
        // What is being looked for is read by whoever looks for it.
        Some((Piece::Version, _)) => false,
        Some((Piece::Frame { width }, rest)) => {
            let sign = usize::from(name.starts_with('-'));
            let digits = name[sign..].bytes().take_while(u8::is_ascii_digit).count().min(18);
            (*width..=digits).rev().any(|digits| {
                let (number, after) = name.split_at(sign + digits);
                let padded = digits > *width && number[sign..].starts_with('0');
                let Some(frame) = number.parse::<i64>().ok().filter(|frame| !(padded || *frame == 0 && sign == 1))
                else {
                    return false;
                };
                let before = *found;
                if before.is_some_and(|other| other != frame) {
                    return false;
                }
                *found = Some(frame);
                read(rest, after, found) || {
                    *found = before;
                    false
                }
            })
        }
    }
}
