//! How movies are made: of which frames, in which order, and what is done with them.

use crate::catalogue::Codec;
use crate::frames::{Frames, Timecode};
use crate::plan::Series;
use crate::resolve::{Job, Movie};
use crate::sheet::{Backdrop, Colour, Fps, Gaps, Size};

/// How a movie is made.
#[derive(Clone, Debug, PartialEq)]
pub struct Film {
    /// What it shows, one after another; empty where a part of it is not planned.
    pub clips: Vec<Clip>,
    /// Frames per second.
    pub fps: Option<Fps>,
    /// The codec's name in the catalogue.
    pub codec: Option<&'static Codec>,
    /// Its sound, absolute.
    pub audio: Option<String>,
    /// Seconds by which the sound begins later.
    pub audio_offset: f64,
    /// How its pixels are stored: linear (scene-linear) or display (display-encoded).
    pub colour: Colour,
    /// What lies behind transparent frames.
    pub over: Option<Backdrop>,
    /// The line below the picture; `{name}`, `{frame}` and `{timecode}` are left in it, all else stands as text.
    pub burn: Option<String>,
    /// The timecode of its first frame.
    pub start: Option<Timecode>,
    /// The encoder that the sheet names.
    pub encoder: Option<String>,
    /// Its size without the line below the picture.
    pub size: Option<Size>,
    /// Whether its frames have to be brought to that size.
    pub is_scaled: bool,
}

/// The frames of one series, as a movie shows them.
#[derive(Clone, Debug, PartialEq)]
pub struct Clip {
    /// Index into the plan's series.
    pub series: usize,
    /// The job's frames.
    pub frames: Frames,
    /// The first and the last frame that it stands for, in the movie's time.
    pub span: (i64, i64),
    /// What becomes of those in between that are not there.
    pub gaps: Gaps,
    /// The pass, where its files hold several.
    pub layer: Option<String>,
    /// How its pixels are meant, where the sheet says it.
    pub colour: Option<Colour>,
}

impl Clip {
    /// How many frames of the movie it fills.
    #[must_use]
    pub fn shown(&self) -> i64 {
        if self.gaps == Gaps::Hold { self.span.1 - self.span.0 + 1 } else { self.frames.count() }
    }

    /// Frames of its span that are not there.
    #[must_use]
    pub fn missing(&self) -> Frames {
        Frames::range(self.span.0, self.span.1).minus(&self.frames)
    }
}

impl Film {
    /// How many frames it has.
    #[must_use]
    pub fn shown(&self) -> i64 {
        self.clips.iter().map(Clip::shown).sum()
    }

    /// Seconds it lasts.
    #[must_use]
    pub fn seconds(&self) -> Option<f64> {
        self.fps.filter(|_| !self.clips.is_empty()).map(|fps| self.shown() as f64 / fps.value())
    }

    /// Whether all that it needs is known.
    #[must_use]
    pub fn is_known(&self) -> bool {
        !self.clips.is_empty() && self.fps.is_some() && self.codec.is_some() && self.shown() > 0
    }
}

/// The height in pixels of the line below a picture: a twentieth of it, even, and never too small to be read.
#[must_use]
pub fn burn_height(height: u32) -> u32 {
    (height / 20).max(16).next_multiple_of(2)
}

/// The codec that a movie is written with: its format's, else the usual one of its container.
#[must_use]
pub fn codec(series: &Series) -> Option<&'static Codec> {
    let given = series.format.as_deref().and_then(|format| format.codec.as_ref());
    let usual = || series.file_type.and_then(|known| known.codecs.first().copied());
    given.map_or_else(usual, |codec| codec.value.known())
}

/// What a movie shows of one job.
#[must_use]
pub fn clip(series: usize, job: &Job, movie: &Movie) -> Option<Clip> {
    let own = job.own_frames.as_ref()?;
    let planned = job.mode_frames.as_ref()?;
    let wanted = |frames: &Frames| match &movie.entry.frames {
        Some(expr) => expr.value.frames(Some(own), Some(own)).map(|wanted| wanted.intersect(frames)),
        None => Some(frames.clone()),
    };
    let (frames, of_job) = (wanted(planned)?, wanted(own)?);
    // What a mode thins out is held for as long, so that the movie lasts as long as it will.
    let thinned = frames != of_job;
    let gaps = movie.entry.gaps.as_ref().map_or(if thinned { Gaps::Hold } else { Gaps::Refuse }, |gaps| gaps.value);
    let span = if thinned && gaps == Gaps::Hold { &of_job } else { &frames };
    // Where nothing is left to be shown, that is found by the check.
    let Some(first) = frames.first() else {
        let nothing = (0, -1);
        return Some(Clip { series, frames, span: nothing, gaps, layer: None, colour: None });
    };
    // A frame that was left out at the beginning has none before it to be held.
    let span = (span.first()?.max(first), span.last()?);
    let pass = movie.shows.and_then(|at| job.passes.get(at))?;
    let layer = (job.layers == crate::sheet::Layers::Together && job.passes.len() > 1).then(|| pass.label.clone());
    Some(Clip { series, frames, span, gaps, layer, colour: pass.colour })
}
