//! Timecodes (SMPTE ST 12-1): hours, minutes, seconds and frames. With a `;` before the frames, numbers are dropped so that
//! rates of 30000/1001 and 60000/1001 keep up with the clock.

use std::fmt;

/// The timecode of a first frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Timecode {
    /// Frames since midnight, as they are counted.
    pub frame: u32,
    /// Frames in a second as it is counted: the rate, rounded up.
    pub fps: u32,
    /// Whether numbers are dropped.
    pub drop: bool,
}

impl Timecode {
    /// Whether a text is spelt as a timecode, whatever its numbers are.
    #[must_use]
    pub fn is_spelt(text: &str) -> bool {
        let digit = |at: usize| matches!(at % 3, 0 | 1);
        let fits = |(at, byte): (usize, u8)| match byte {
            b'0'..=b'9' => digit(at),
            b':' => !digit(at),
            b';' => at == 8,
            _ => false,
        };
        text.len() == 11 && text.bytes().enumerate().all(fits)
    }

    /// Reads `hh:mm:ss:ff` or, with dropped numbers, `hh:mm:ss;ff` at so many frames in a counted second. `None` for text
    /// that is none, and for numbers that do not exist.
    #[must_use]
    pub fn parse(text: &str, fps: u32) -> Option<Timecode> {
        let drop = text.contains(';');
        let parts: Vec<&str> = text.split([':', ';']).collect();
        let two = |part: &str| part.len() == 2 && part.bytes().all(|byte| byte.is_ascii_digit());
        let place = text.rfind(';').is_none_or(|at| text.rfind(':').is_some_and(|colon| colon < at));
        if parts.len() != 4 || !parts.iter().all(|part| two(part)) || !place || fps == 0 {
            return None;
        }
        let numbers: Vec<u32> = parts.iter().filter_map(|part| part.parse().ok()).collect();
        let [hours, minutes, seconds, frames] = numbers[..] else { return None };
        if hours > 23 || minutes > 59 || seconds > 59 || frames >= fps {
            return None;
        }
        let left_out = dropped(fps, drop)?;
        if drop && seconds == 0 && minutes % 10 != 0 && frames < left_out {
            return None;
        }
        let minutes = hours * 60 + minutes;
        let all = (minutes * 60 + seconds) * fps + frames;
        Some(Timecode { frame: all - left_out * (minutes - minutes / 10), fps, drop })
    }

    /// The timecode so many frames later; a day begins anew.
    #[must_use]
    pub fn after(self, frames: u64) -> Timecode {
        let minute = u64::from(self.fps) * 60;
        let left_out = u64::from(dropped(self.fps, self.drop).unwrap_or(0));
        let day = minute * 60 * 24 - left_out * 9 * 6 * 24;
        let frame = u32::try_from((u64::from(self.frame) + frames) % day.max(1)).unwrap_or(0);
        Timecode { frame, ..self }
    }
}

/// Numbers that each minute but every tenth leaves out: two at 30, four at 60. `None` for rates that drop none.
fn dropped(fps: u32, drop: bool) -> Option<u32> {
    match (drop, fps % 30) {
        (false, _) => Some(0),
        (true, 0) => Some(fps / 15),
        (true, _) => None,
    }
}

impl fmt::Display for Timecode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (fps, left_out) = (self.fps.max(1), dropped(self.fps, self.drop).unwrap_or(0));
        let mut frame = self.frame;
        if left_out > 0 {
            let (minute, ten) = (fps * 60 - left_out, fps * 600 - left_out * 9);
            let (tens, rest) = (frame / ten, frame % ten);
            frame += left_out * 9 * tens + left_out * (rest.saturating_sub(left_out) / minute);
        }
        let (seconds, sign) = (frame / fps, if self.drop { ';' } else { ':' });
        write!(f, "{:02}:{:02}:{:02}{sign}{:02}", seconds / 3600 % 24, seconds / 60 % 60, seconds % 60, frame % fps)
    }
}

#[cfg(test)]
mod tests {
    use super::Timecode;

    #[test]
    fn every_number_of_a_day_is_read_back_as_it_is_written() {
        for (fps, drop) in [(24, false), (25, false), (30, false), (30, true), (60, true)] {
            let start = Timecode { frame: 0, fps, drop };
            let day = if drop { fps * 86_400 - fps / 15 * 54 * 24 } else { fps * 86_400 };
            for frame in (0..day).step_by(977).chain(0..2000).chain(day - 3..day) {
                let code = start.after(u64::from(frame));
                assert_eq!(Timecode::parse(&code.to_string(), fps), Some(code), "{frame} at {fps}");
            }
            assert_eq!(start.after(u64::from(day)), start);
        }
        let said = |text: &str| Timecode::parse(text, 30).map(|code| code.after(1).to_string());
        assert_eq!(said("00:00:59;29").as_deref(), Some("00:01:00;02"));
        assert_eq!(said("00:09:59;29").as_deref(), Some("00:10:00;00"));
        for wrong in ["00:01:00;00", "1:00:00:00", "00:00:00:30", "24:00:00:00", "00;00:00:00", "00:00:00"] {
            assert_eq!(Timecode::parse(wrong, 30), None, "{wrong}");
        }
        assert_eq!(Timecode::parse("00:00:00;00", 24), None);
    }
}
