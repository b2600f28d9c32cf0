//! What was planned against what was seen: a state for every frame.

use crate::catalogue::{Bits, Channels};
use crate::frames::Frames;
use crate::plan::Series;

/// What the head and the end of a picture file say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Picture {
    /// The type's name in the catalogue, told from the file's first bytes.
    pub file_type: &'static str,
    /// Width in pixels.
    pub width: u32,
    /// Height in pixels.
    pub height: u32,
    /// Depth of a sample.
    pub bits: Option<Bits>,
    /// Channels; of files with layers those of the widest one.
    pub channels: Option<Channels>,
    /// Names of layers; empty for a file without.
    pub layers: Vec<String>,
}

/// What was found at one name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Seen {
    /// Nothing.
    Missing,
    /// Not a whole picture: why.
    Broken(String),
    /// A whole picture.
    Whole(Picture),
}

/// The state of a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// Not there.
    Missing,
    /// Does not decode.
    Broken,
    /// Not as planned.
    Wrong,
    /// As planned.
    Good,
}

/// The state of what was seen, and why it is not good.
#[must_use]
pub fn judge(series: &Series, labels: &[&str], seen: &Seen) -> (State, Option<String>) {
    match seen {
        Seen::Missing => (State::Missing, Some("not there".to_owned())),
        Seen::Broken(why) => (State::Broken, Some(why.clone())),
        Seen::Whole(picture) => match differences(series, labels, picture) {
            found if found.is_empty() => (State::Good, None),
            found => (State::Wrong, Some(found.join(", "))),
        },
    }
}

fn differences(series: &Series, labels: &[&str], picture: &Picture) -> Vec<String> {
    let mut found = Vec::new();
    let mut compare = |what: &str, planned: Option<String>, is: String| {
        if planned.as_ref().is_some_and(|planned| *planned != is) {
            found.push(format!("{what} is {is}, planned {}", planned.unwrap_or_default()));
        }
    };
    compare("type", series.file_type.map(|known| known.name.to_owned()), picture.file_type.to_owned());
    compare("size", series.size.map(|size| size.to_string()), format!("{}x{}", picture.width, picture.height));
    compare(
        "bits",
        series.bits.map(|bits| bits.to_string()),
        picture.bits.map_or("unknown".to_owned(), |bits| bits.to_string()),
    );
    if series.passes.len() > 1 {
        let missing: Vec<&str> =
            labels.iter().copied().filter(|label| !picture.layers.iter().any(|layer| layer == label)).collect();
        if !missing.is_empty() {
            found.push(format!("layers {} are missing", missing.join(", ")));
        }
    } else {
        compare(
            "channels",
            series.channels.map(|c| c.to_string()),
            picture.channels.map_or("unknown".to_owned(), |c| c.to_string()),
        );
    }
    found
}

/// The verdict on one series.
#[derive(Clone, Debug, Default)]
pub struct Verdict {
    /// Index into the plan's series.
    pub series: usize,
    /// Frames planned.
    pub expected: Frames,
    /// Frames as planned.
    pub good: Frames,
    /// Frames not there.
    pub missing: Frames,
    /// Frames that do not decode.
    pub broken: Frames,
    /// Frames not as planned.
    pub wrong: Frames,
    /// Files in the series' folders that bear a name of its pattern but no planned frame.
    pub stray: Vec<String>,
    /// Every frame that is not good: frame, state, path and why.
    pub findings: Vec<(i64, State, String, String)>,
}

impl Verdict {
    /// Puts the frames of a series together. `seen` gives each planned frame with what was found, ascending.
    pub fn gather(series: (usize, &Series), labels: &[&str], seen: impl IntoIterator<Item = (i64, Seen)>) -> Verdict {
        let (index, series) = series;
        let mut verdict =
            Verdict { series: index, expected: series.frames.clone().unwrap_or_default(), ..Verdict::default() };
        let (mut good, mut missing, mut broken, mut wrong) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        for (frame, seen) in seen {
            let (state, why) = judge(series, labels, &seen);
            match state {
                State::Good => good.push(frame),
                State::Missing => missing.push(frame),
                State::Broken => broken.push(frame),
                State::Wrong => wrong.push(frame),
            }
            if let (Some(why), State::Broken | State::Wrong) = (why, state) {
                verdict.findings.push((frame, state, series.name(frame), why));
            }
        }
        verdict.good = Frames::from_any(good);
        verdict.missing = Frames::from_any(missing);
        verdict.broken = Frames::from_any(broken);
        verdict.wrong = Frames::from_any(wrong);
        verdict
    }

    /// Whether nothing is missing, broken or wrong.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        self.missing.is_empty() && self.broken.is_empty() && self.wrong.is_empty()
    }
}
