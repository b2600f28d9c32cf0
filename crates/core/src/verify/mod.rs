//! What was planned against what was seen: a state for every frame.

mod files;
pub mod fix;
pub mod movie;
mod near;

use std::collections::BTreeMap;

use crate::catalogue::{AsWritten, AudioCodec, Bits, Channels, Chroma, Codec, Compression};
use crate::diagnostic::Level;
use crate::frames::Frames;
use crate::picture::{OddKind, OddPolicy, Oddity};
use crate::plan::{Series, SeriesKind};

pub use crate::plan::MOVIE;
pub use crate::sheet::Fps;
pub use files::{FileFacts, Files};
pub use near::{Near, near_misses};

/// What the head and the end of a picture file say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Picture {
    /// The type's name in the catalogue, told from the file's first bytes.
    pub file_type: &'static str,
    /// Width in pixels.
    pub width: u32,
    /// Height in pixels.
    pub height: u32,
    /// Depth of a sample; of files with layers that of the colours without a layer, or of the widest one.
    pub bits: Option<Bits>,
    /// Channels; of files with layers those of the widest one.
    pub channels: Option<Channels>,
    /// How it is compressed, as the catalogue names it, where the type has a choice and the head tells.
    pub compression: Option<AsWritten<Compression>>,
    /// Its layers; empty for a file without.
    pub layers: Vec<LayerSeen>,
    /// Whether it may have had an alpha that its type leaves out where everything is opaque.
    pub opaque: bool,
    /// What it stores of the picture that is shown, where that is less or more: for people.
    pub stored: Option<String>,
    /// What it has beside what a plan can ask for: a palette, several pages, bytes behind its end.
    pub besides: Vec<String>,
    /// Why its pixels cannot be unpacked, where they are stored in a way that True Path cannot read.
    pub unproven: Option<String>,
}

impl Picture {
    /// A picture of which nothing more is known.
    #[must_use]
    pub fn plain(file_type: &'static str, width: u32, height: u32) -> Picture {
        Picture {
            file_type,
            width,
            height,
            bits: None,
            channels: None,
            compression: None,
            layers: Vec::new(),
            opaque: false,
            stored: None,
            besides: Vec::new(),
            unproven: None,
        }
    }
}

/// A layer of a picture file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LayerSeen {
    /// Its name; `Z` for a depth that stands beside the colours without a layer.
    pub name: String,
    /// Depth of a sample, where all channels of it have the same.
    pub bits: Option<Bits>,
    /// Its channels.
    pub channels: Option<Channels>,
}

/// What the tables of a movie file say.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Footage {
    /// The container's name in the catalogue.
    pub container: &'static str,
    /// The codec's name in the catalogue, else the mark that the container has for it.
    pub codec: AsWritten<&'static Codec>,
    /// Width in pixels.
    pub width: u32,
    /// Height in pixels.
    pub height: u32,
    /// Frames per second.
    pub fps: Option<Fps>,
    /// Frames in it.
    pub frames: u64,
    /// The chroma layout.
    pub chroma: Option<Chroma>,
    /// Depth of a sample.
    pub bits: Option<Bits>,
    /// Whether there is an alpha.
    pub alpha: Option<bool>,
    /// Its sound.
    pub sound: Option<SoundTrack>,
    /// The timecode of its first frame.
    pub timecode: Option<String>,
}

/// The sound of a movie file.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SoundTrack {
    /// The codec's name in the catalogue, else the mark that the container has for it.
    pub codec: AsWritten<&'static AudioCodec>,
    /// Samples a second.
    pub rate: u32,
    /// Channels.
    pub channels: u16,
    /// Seconds.
    pub seconds: f64,
}

/// What was found at one name.
#[derive(Clone, Debug, PartialEq)]
pub enum Seen {
    /// Nothing.
    Missing,
    /// Something that cannot be looked into, or is no file: why.
    Unreadable(String),
    /// Not a whole picture: why.
    Broken(String),
    /// A whole picture.
    Whole(Picture),
    /// A whole movie.
    Movie(Box<Footage>),
    /// A file of the size that landed under this name as planned; it was decoded then.
    AsLanded,
}

/// How a whole file stands to what landed, and to what it would be made of now.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Provenance {
    /// It is what landed, and would be made of the same now.
    #[default]
    Fresh,
    /// It would be made of something else now: of what.
    Stale(String),
    /// It is not what landed: how so.
    Changed(String),
    /// No journal knows it.
    Foreign,
    /// It is what landed, or True Path has no record of it, and it is most likely not what was meant: why.
    Odd(Oddity),
}

/// The state of a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum State {
    /// Not there.
    Missing,
    /// It may not be read, or is no file: nobody knows what it is worth, and nothing touches it.
    Unreadable,
    /// Does not decode.
    Broken,
    /// Not as planned.
    Wrong,
    /// It would be made of something else now.
    Stale,
    /// Not what landed.
    Changed,
    /// As planned as far as its head tells; its pixels are stored in a way that True Path cannot read.
    Unproven,
    /// Whole, but True Path has no record of it.
    Foreign,
    /// As planned, and yet most likely not what was meant.
    Odd,
    /// As planned.
    Good,
}

/// The states with their names, in the order in which they apply.
pub const STATES: [(&str, State); 10] = [
    ("missing", State::Missing),
    ("unreadable", State::Unreadable),
    ("broken", State::Broken),
    ("wrong", State::Wrong),
    ("stale", State::Stale),
    ("changed", State::Changed),
    ("unproven", State::Unproven),
    ("foreign", State::Foreign),
    ("odd", State::Odd),
    ("good", State::Good),
];

/// The states of files that have to be made, or made again.
pub const NOT_GOOD: [State; 5] = [State::Missing, State::Broken, State::Wrong, State::Stale, State::Changed];

impl State {
    /// Its name.
    #[must_use]
    pub fn name(self) -> &'static str {
        STATES.iter().find(|(_, state)| *state == self).map_or("", |(name, _)| name)
    }
}

/// The state of what was seen, and why it is not good.
#[must_use]
pub fn judge(series: &Series, labels: &[&str], seen: &Seen) -> (State, Option<String>) {
    match seen {
        Seen::Missing => (State::Missing, Some("not there".to_owned())),
        Seen::Unreadable(why) => (State::Unreadable, Some(why.clone())),
        Seen::Broken(why) => (State::Broken, Some(why.clone())),
        Seen::AsLanded => (State::Good, None),
        Seen::Whole(picture) => match (as_planned(differences(series, labels, picture)), &picture.unproven) {
            ((State::Good, _), Some(why)) => (State::Unproven, Some(why.clone())),
            (judged, _) => judged,
        },
        Seen::Movie(footage) => as_planned(movie::Planned::of(series).differences(footage)),
    }
}

fn as_planned(differences: Vec<String>) -> (State, Option<String>) {
    if differences.is_empty() { (State::Good, None) } else { (State::Wrong, Some(differences.join(", "))) }
}

fn differences(series: &Series, labels: &[&str], picture: &Picture) -> Vec<String> {
    let mut found = Vec::new();
    let mut compare = |what: &str, planned: Option<String>, is: String| {
        if planned.as_ref().is_some_and(|planned| *planned != is) {
            found.push(format!("{what} is {is}, should be {}", planned.unwrap_or_default()));
        }
    };
    compare("type", series.file_type.map(|known| known.name.to_owned()), picture.file_type.to_owned());
    compare("size", series.size.map(|size| size.to_string()), format!("{}x{}", picture.width, picture.height));
    let spelt = |bits: Option<Bits>| bits.map_or("unknown".to_owned(), |bits| bits.to_string());
    let named = |channels: Option<Channels>| channels.map_or("unknown".to_owned(), |channels| channels.to_string());
    // What says already why there is no such depth and no such channels is said once.
    let is_said = |unknown: bool| unknown && !picture.besides.is_empty();
    if let Some(is) = &picture.compression {
        let planned = series.format.as_deref().and_then(|format| format.compression.as_ref());
        compare("compression", planned.map(|own| own.value.to_string()), is.to_string());
    }
    if series.passes.len() < 2 {
        let bits = series.bits.filter(|_| !is_said(picture.bits.is_none()));
        compare("bits", bits.map(|bits| bits.to_string()), spelt(picture.bits));
        let may_be = |channels: &Channels| picture.opaque && *channels == Channels::Rgba;
        let channels = series.channels.filter(|own| !may_be(own) && !is_said(picture.channels.is_none()));
        compare("channels", channels.map(|channels| channels.to_string()), named(picture.channels));
        found.extend(picture.besides.iter().cloned());
        return found;
    }
    // Several passes in one file: each against its own format.
    let mut missing = Vec::new();
    for (at, label) in labels.iter().enumerate() {
        let (bits, channels) = series.inside.get(at).copied().unwrap_or_default();
        let Some((is_bits, is_channels)) = layer(picture, label, at == 0) else {
            missing.push(*label);
            continue;
        };
        compare(&format!("bits of {label}"), bits.map(|bits| bits.to_string()), spelt(is_bits));
        compare(&format!("channels of {label}"), channels.map(|channels| channels.to_string()), named(is_channels));
    }
    if !missing.is_empty() {
        found.push(format!("layers {} are missing", missing.join(", ")));
    }
    found.extend(picture.besides.iter().cloned());
    found
}

/// Depth and channels of the layer of a pass: the one of its name; for the first pass the colours without a layer, as most
/// programs write the beauty; for a depth the `Z` beside them.
fn layer(picture: &Picture, label: &str, first: bool) -> Option<(Option<Bits>, Option<Channels>)> {
    let of = |name: &str| picture.layers.iter().find(|layer| layer.name == name);
    if let Some(layer) = of(label).or_else(|| if label == "depth" { of("Z") } else { None }) {
        return Some((layer.bits, layer.channels));
    }
    let has_colours = picture.layers.iter().all(|layer| layer.channels != picture.channels || layer.name == "Z");
    (first && has_colours && picture.channels.is_some()).then_some((picture.bits, picture.channels))
}

/// The state of a file that is as planned by what is seen of it, once it is known how it stands to what landed. A sheet may
/// take what is odd or unproven for wrong.
fn settled(seen: (State, Option<String>), standing: Provenance, policy: &OddPolicy) -> (State, Option<String>) {
    let by_policy = |state: State, kind: OddKind, why: String| match policy.level(kind) {
        Some(Level::Error) => (State::Wrong, Some(why)),
        _ => (state, Some(why)),
    };
    match (seen, standing) {
        (_, Provenance::Stale(why)) => (State::Stale, Some(why)),
        (_, Provenance::Changed(why)) => (State::Changed, Some(why)),
        // To render it again would give the same: it is not for True Path to fix.
        ((State::Unproven, Some(why)), _) | (_, Provenance::Odd(Oddity { kind: OddKind::Unproven, why })) => {
            let state =
                if policy.level(OddKind::Unproven) == Some(Level::Error) { State::Unreadable } else { State::Unproven };
            (state, Some(why))
        }
        (_, Provenance::Odd(odd)) => by_policy(State::Odd, odd.kind, odd.why),
        (_, Provenance::Foreign) => (State::Foreign, Some("True Path has no record of it".to_owned())),
        (good, Provenance::Fresh) => good,
    }
}

/// How some verdicts stand together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// Every planned file is good.
    Complete,
    /// Every planned file is there and as planned; some are foreign, look odd or could not be unpacked.
    AsPlanned,
    /// Something is missing or not as it should be.
    Incomplete,
}

impl Outcome {
    /// Of all verdicts of a plan, movies included.
    pub fn of<'v>(verdicts: impl IntoIterator<Item = &'v Verdict> + Clone) -> Outcome {
        if verdicts.clone().into_iter().any(Verdict::is_incomplete) {
            Outcome::Incomplete
        } else if verdicts.into_iter().any(|verdict| verdict.files(&[State::Foreign, State::Odd, State::Unproven]) > 0)
        {
            Outcome::AsPlanned
        } else {
            Outcome::Complete
        }
    }

    /// Its name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Outcome::Complete => "complete",
            Outcome::AsPlanned => "as planned",
            Outcome::Incomplete => "incomplete",
        }
    }
}

/// The verdict on one series.
#[derive(Clone, Debug, Default)]
pub struct Verdict {
    /// Index into the plan's outputs: its series, then its movies.
    pub series: usize,
    /// Frames planned; a movie is frame [`MOVIE`].
    pub planned: Frames,
    /// Whether it is one of a movie.
    pub is_movie: bool,
    /// Frames by state, in the order of [`STATES`]; together they are those planned.
    states: [Frames; STATES.len()],
    /// Files in the series' folders that bear a name of its pattern but no planned frame.
    pub stray: Vec<String>,
    /// What is worth knowing of files that are as planned, and of which.
    pub notes: Vec<(String, Frames)>,
    /// Files that were most likely meant for frames that are missing.
    pub near: Vec<Near>,
    /// Missing frames that were put away: when and how, and which.
    pub gone: Vec<(String, Frames)>,
    /// Why frames that are there are not good: state, reason, frames.
    pub findings: Vec<(State, String, Frames)>,
}

/// What was found of one frame: what stands there, and how it stands to what landed.
pub type Observed = (i64, Seen, Provenance);

impl Verdict {
    /// Puts the frames of a series together. `found` gives each planned frame at whose name something stands, ascending; the
    /// others are missing.
    pub fn gather(
        (index, series): (usize, &Series),
        (labels, policy): (&[&str], &OddPolicy),
        found: impl IntoIterator<Item = Observed>,
    ) -> Verdict {
        let is_movie = series.kind == SeriesKind::Movie;
        let planned = if is_movie { Frames::one(MOVIE) } else { series.frames.clone().unwrap_or_default() };
        let mut frames: [Vec<i64>; STATES.len()] = Default::default();
        let mut reasons: BTreeMap<(State, String), Vec<i64>> = BTreeMap::new();
        let mut notes: BTreeMap<String, Vec<i64>> = BTreeMap::new();
        for (frame, seen, standing) in found {
            if let Seen::Whole(Picture { stored: Some(stored), .. }) = &seen {
                notes.entry(stored.clone()).or_default().push(frame);
            }
            let (mut state, mut why) = judge(series, labels, &seen);
            // A movie that was made as it was asked for then is not wrong: it is made anew.
            if let (true, State::Wrong, Provenance::Stale(stale)) = (is_movie, state, &standing) {
                (state, why) = (State::Stale, Some(stale.clone()));
            }
            if matches!(state, State::Good | State::Unproven) {
                (state, why) = settled((state, why), standing, policy);
            }
            frames[state as usize].push(frame);
            if let Some(why) = why.filter(|_| state != State::Missing) {
                reasons.entry((state, why)).or_default().push(frame);
            }
        }
        let mut states = frames.map(Frames::from_any);
        if series.is_known() {
            let there = states.iter().skip(1).fold(Frames::none(), |sum, own| sum.union(own));
            // A billion frames that are missing are one run.
            states[State::Missing as usize] = planned.minus(&there);
        }
        let findings = reasons.into_iter().map(|((state, why), frames)| (state, why, Frames::from_any(frames)));
        let notes = notes.into_iter().map(|(note, frames)| (note, Frames::from_any(frames))).collect();
        Verdict { series: index, planned, is_movie, states, notes, findings: findings.collect(), ..Verdict::default() }
    }

    /// The frames of one state.
    #[must_use]
    pub fn in_state(&self, state: State) -> &Frames {
        &self.states[state as usize]
    }

    /// The frames of several states.
    #[must_use]
    pub fn in_any(&self, states: &[State]) -> Frames {
        states.iter().fold(Frames::none(), |sum, state| sum.union(self.in_state(*state)))
    }

    /// How many files are in some states.
    #[must_use]
    pub fn files(&self, states: &[State]) -> i64 {
        states.iter().map(|state| self.in_state(*state).count()).sum()
    }

    /// Whether any file is missing, unreadable, broken, not as planned, made of something else, or no longer what landed.
    #[must_use]
    pub fn is_incomplete(&self) -> bool {
        self.files(&NOT_GOOD) > 0 || self.files(&[State::Unreadable]) > 0
    }
}
