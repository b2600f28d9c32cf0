//! Names by the million: one line is kept, and only its digits change from frame to frame.

use crate::frames::{FrameRun, Number};

use super::{Pattern, Piece};

/// Bytes gathered before they are handed on.
const BLOCK: usize = 1 << 16;

impl Pattern {
    /// Appends the names of a run of frames to `buffer`, each followed by `end`. `hand_on` empties the buffer whenever it
    /// has filled, and stops the listing by returning false. Returns whether all names were listed.
    pub fn list(
        &self,
        run: FrameRun,
        end: u8,
        buffer: &mut Vec<u8>,
        hand_on: &mut dyn FnMut(&mut Vec<u8>) -> bool,
    ) -> bool {
        let holes = self.pieces().iter().filter(|piece| matches!(piece, Piece::Frame { .. })).count();
        let mut frame = run.first;
        let mut left = run.count;
        while left > 0 {
            // Within one number of digits a line keeps its shape; with several holes or a sign it is written anew.
            let same = if holes == 1 && frame >= 0 { same_digits(frame, run.step).min(left) } else { 1 };
            let mut line = self.name(Number::new(frame)).into_bytes();
            let last = self.last_digit(frame, &line);
            line.push(end);
            for at in 0..same {
                if at > 0 {
                    add(&mut line[..=last], run.step.unsigned_abs());
                }
                buffer.extend_from_slice(&line);
                if buffer.len() >= BLOCK && !hand_on(buffer) {
                    return false;
                }
            }
            frame += same * run.step;
            left -= same;
        }
        true
    }

    /// Where the last digit of the first hole stands in a name.
    fn last_digit(&self, frame: i64, name: &[u8]) -> usize {
        let mut at = 0;
        for piece in self.pieces() {
            match piece {
                Piece::Text(text) => at += text.len(),
                Piece::Version => at += 1,
                Piece::Frame { width } => {
                    let digits = frame.unsigned_abs().checked_ilog10().unwrap_or(0) as usize + 1;
                    return at + usize::from(frame < 0) + digits.max(*width) - 1;
                }
            }
        }
        name.len().saturating_sub(1)
    }
}

/// How many frames from `frame` on, every `step`th, have as many digits as it.
fn same_digits(frame: i64, step: i64) -> i64 {
    let digits = frame.checked_ilog10().unwrap_or(0) + 1;
    10i64.checked_pow(digits).map_or(i64::MAX, |next| (next - 1 - frame) / step + 1)
}

/// Adds to the decimal digits at the end of `line`. The sum has as many digits as before.
fn add(line: &mut [u8], mut step: u64) {
    for byte in line.iter_mut().rev() {
        let sum = u64::from(*byte - b'0') + step % 10;
        step = step / 10 + sum / 10;
        // A sum modulo ten fits a byte.
        *byte = b'0' + (sum % 10) as u8;
        if step == 0 {
            return;
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{FrameRun, Number, Pattern};

    proptest! {
        #[test]
        fn listing_gives_every_name_once(first in -120i64..2000, count in 1i64..400, step in 1i64..40, widths in prop::collection::vec(1usize..5, 0..3)) {
            let mut pattern = Pattern::default();
            pattern.push_text("/r/v001_");
            for width in widths {
                pattern.push_frame(width);
                pattern.push_text(".x");
            }
            let run = FrameRun { first, step, count };
            let (mut buffer, mut all) = (Vec::new(), Vec::new());
            let whole = pattern.list(run, b'\n', &mut buffer, &mut |bytes| { all.append(bytes); true });
            all.append(&mut buffer);
            let expected: String = (0..count).map(|at| pattern.name(Number::new(first + at * step)) + "\n").collect();
            prop_assert!(whole);
            prop_assert_eq!(String::from_utf8(all).expect("text"), expected);
        }
    }
}
