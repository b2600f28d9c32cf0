//! The number in a file's name: a frame with the job's `shift` added. It is a type of its own, so that nobody takes one for
//! the other.

use std::fmt;

/// The number in a file's name.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Number(i64);

impl Number {
    /// The number that stands in a name.
    #[must_use]
    pub const fn new(number: i64) -> Number {
        Number(number)
    }

    /// Its value, to be written or compared.
    #[must_use]
    pub const fn value(self) -> i64 {
        self.0
    }
}

impl fmt::Display for Number {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// What is added to a frame in names: the one conversion between frames and the numbers in names.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Shift(pub i64);

impl Shift {
    /// The number in the name of a frame; `None` beyond 64 bits. Frames and shifts of a sheet are bounded where they are
    /// read, so that theirs always has one.
    #[must_use]
    pub fn number(self, frame: i64) -> Option<Number> {
        frame.checked_add(self.0).map(Number)
    }

    /// The frame whose name has a number; `None` beyond 64 bits.
    #[must_use]
    pub fn frame(self, number: Number) -> Option<i64> {
        number.0.checked_sub(self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::{Number, Shift};

    #[test]
    fn there_and_back_or_not_at_all() {
        for shift in [0, 1000, -1000, i64::MAX, i64::MIN] {
            for frame in [0, 1, -1, 96, i64::MAX, i64::MIN, i64::MAX - 1000] {
                let number = Shift(shift).number(frame);
                assert_eq!(number.map(Number::value), frame.checked_add(shift));
                assert!(number.is_none_or(|number| Shift(shift).frame(number) == Some(frame)));
            }
        }
    }
}
