//! File names and frames as a program spells them.

use crate::adapter::{Adapter, NumberStyle, Per, Spelling};
use crate::frames::Frames;
use crate::plan::Series;
use crate::template::{Pattern, Piece};

/// The name that a program is given for the files of a series: the final file name, its number spelt as the program wants
/// it. Without a number, the one sign before it goes, too.
#[must_use]
pub fn out_name(adapter: &Adapter, series: &Series, frames: &Frames) -> String {
    let (_, file) = series.pattern.split_folder();
    match (adapter.number, adapter.per) {
        (None, Per::Frame) => file.name(series.number(frames.first().unwrap_or(0))),
        (None | Some(NumberStyle::None), _) => without_number(&file),
        (Some(NumberStyle::Printf), _) => {
            let hole = |width| NumberStyle::Printf.hole(width);
            let piece = |piece: &Piece| match piece {
                Piece::Text(text) => escaped(adapter, text),
                Piece::Frame { width } => hole(*width),
                Piece::Version => String::new(),
            };
            file.pieces().iter().map(piece).collect()
        }
        (Some(number), _) => file.with_frame(|width| number.hole(width)),
    }
}

/// A text as a program reads it that takes `%` for the beginning of a number.
#[must_use]
pub fn escaped(adapter: &Adapter, text: &str) -> String {
    if adapter.number == Some(NumberStyle::Printf) { text.replace('%', "%%") } else { text.to_owned() }
}

fn without_number(file: &Pattern) -> String {
    let mut name = String::new();
    for piece in file.pieces() {
        match piece {
            Piece::Text(text) => name.push_str(text),
            Piece::Version => {}
            Piece::Frame { .. } => {
                if name.ends_with(|c: char| !c.is_alphanumeric()) {
                    name.pop();
                }
            }
        }
    }
    name
}

/// Frames as a program spells them.
#[must_use]
pub fn spelt(frames: &Frames, spelling: &Spelling) -> String {
    let parts = frames.sequential().map(|run| {
        let mut part = run.first.to_string();
        if run.count > 1 {
            part.push_str(&format!("{}{}", spelling.range, run.last()));
        }
        if run.step > 1 {
            part.push_str(&format!("{}{}", spelling.step, run.step));
        }
        part
    });
    parts.collect::<Vec<_>>().join(&spelling.join)
}

#[cfg(test)]
mod tests {
    use super::{Spelling, spelt, without_number};
    use crate::frames::FrameExpr;
    use crate::template::Pattern;

    #[test]
    fn frames_are_spelt_as_the_program_wants_them() {
        let frames = FrameExpr::parse("1-3,7,10-30/10").expect("read").frames(None, None).expect("known");
        assert_eq!(spelt(&frames, &Spelling::default()), "1-3,7,10-30/10");
        let own = Spelling { join: " ".into(), range: "..".into(), step: "x".into() };
        assert_eq!(spelt(&frames, &own), "1..3 7 10..30x10");
    }

    #[test]
    fn a_number_goes_with_the_sign_before_it() {
        for (head, tail, expected) in [("a.", ".png", "a.png"), ("a_", ".png", "a.png"), ("a", ".png", "a.png")] {
            let mut pattern = Pattern::default();
            pattern.push_text(head);
            pattern.push_frame(4);
            pattern.push_text(tail);
            assert_eq!(without_number(&pattern), expected);
        }
    }
}
