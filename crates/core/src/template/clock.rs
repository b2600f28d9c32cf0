//! A moment as people write it, handed in by whoever knows the time.

use serde::{Deserialize, Serialize};

/// A local time, split as it is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Clock {
    /// Year, four digits.
    pub year: i16,
    /// Month, 1 to 12.
    pub month: i8,
    /// Day of the month.
    pub day: i8,
    /// Hour, 0 to 23.
    pub hour: i8,
    /// Minute.
    pub minute: i8,
    /// Second.
    pub second: i8,
    /// Day of the year, 1 to 366.
    pub day_of_year: i16,
}

impl Clock {
    /// The moment in a form of `%Y %m %d %H %M %S %j` (the fields of POSIX strftime).
    #[must_use]
    pub fn written(&self, form: &str) -> String {
        let mut out = String::new();
        let mut rest = form.chars();
        while let Some(c) = rest.next() {
            if c != '%' {
                out.push(c);
                continue;
            }
            out.push_str(&match rest.next() {
                Some('Y') => format!("{:04}", self.year),
                Some('m') => format!("{:02}", self.month),
                Some('d') => format!("{:02}", self.day),
                Some('H') => format!("{:02}", self.hour),
                Some('M') => format!("{:02}", self.minute),
                Some('S') => format!("{:02}", self.second),
                Some('j') => format!("{:03}", self.day_of_year),
                // The parser lets no other field through.
                Some(other) => format!("%{other}"),
                None => "%".to_owned(),
            });
        }
        out
    }
}
