//! A movie file against what was planned of it.

use crate::catalogue::{AsWritten, AudioCodec, Chroma, Codec};
use crate::plan::Series;

use super::{Footage, Fps};

/// What is planned of a movie; what is left open is not compared.
#[derive(Clone, Debug, Default)]
pub struct Planned {
    /// The container's name in the catalogue.
    pub container: Option<String>,
    /// The codec.
    pub codec: Option<&'static Codec>,
    /// Width and height in pixels, as `640x360`.
    pub size: Option<String>,
    /// The rate.
    pub fps: Option<Fps>,
    /// How many frames.
    pub frames: Option<u64>,
    /// The chroma layout.
    pub chroma: Option<Chroma>,
    /// Depth of a sample.
    pub bits: Option<String>,
    /// Whether there is an alpha.
    pub alpha: Option<bool>,
    /// The timecode of the first frame.
    pub timecode: Option<String>,
    /// Whether there is sound.
    pub sound: Option<bool>,
    /// The sound's codec.
    pub audio_codec: Option<&'static AudioCodec>,
}

impl Planned {
    /// What a plan says of one of its movies.
    #[must_use]
    pub fn of(series: &Series) -> Planned {
        let (format, film) = (series.format.as_deref(), series.film.as_deref());
        let audio_codec = format.and_then(|format| format.audio_codec.as_ref());
        Planned {
            container: series.file_type.map(|known| known.name.to_owned()),
            codec: film.and_then(|film| film.codec),
            size: series.size.map(|size| size.to_string()),
            fps: film.and_then(|film| film.fps),
            frames: film.and_then(|film| u64::try_from(film.shown()).ok()).filter(|shown| *shown > 0),
            chroma: format.and_then(|format| format.chroma.as_ref()).map(|chroma| chroma.value),
            bits: series.bits.map(|bits| bits.to_string()),
            alpha: series.channels.map(|channels| channels.alpha()),
            timecode: film.and_then(|film| film.start).map(|start| start.to_string()),
            sound: film.map(|film| film.audio.is_some()),
            audio_codec: audio_codec.and_then(|codec| codec.value.known()),
        }
    }

    /// Seconds it lasts.
    fn seconds(&self) -> Option<f64> {
        self.frames.zip(self.fps).map(|(frames, fps)| frames as f64 / fps.value())
    }

    /// Where a movie differs from its plan: each difference in words, empty where there is none.
    #[must_use]
    pub fn differences(&self, footage: &Footage) -> Vec<String> {
        let mut found = Vec::new();
        let mut compare = |what: &str, planned: Option<String>, is: Option<String>| {
            if let (Some(planned), Some(is)) = (planned, is)
                && planned != is
            {
                found.push(format!("{what} is {is}, should be {planned}"));
            }
        };
        let with = |alpha: bool| if alpha { "with alpha" } else { "without alpha" }.to_owned();
        let fps = footage.fps.map_or("unknown".to_owned(), |fps| fps.to_string());
        compare("type", self.container.clone(), Some(footage.container.to_owned()));
        compare("codec", self.codec.map(|codec| codec.name.to_owned()), Some(footage.codec.to_string()));
        compare("size", self.size.clone(), Some(format!("{}x{}", footage.width, footage.height)));
        compare("fps", self.fps.map(|fps| fps.to_string()), Some(fps));
        compare("number of frames", self.frames.map(|count| count.to_string()), Some(footage.frames.to_string()));
        // What a container does not tell of its codec is not known to differ.
        compare(
            "chroma",
            self.chroma.map(|chroma| chroma.to_string()),
            footage.chroma.map(|chroma| chroma.to_string()),
        );
        compare("bits", self.bits.clone(), footage.bits.map(|bits| bits.to_string()));
        compare("it", self.alpha.map(with), footage.alpha.map(with));
        compare("timecode", self.timecode.clone(), footage.timecode.clone());
        match (self.sound, &footage.sound) {
            (Some(true), None) => found.push("it has no sound".to_owned()),
            (Some(false), Some(_)) => found.push("it has sound, should have none".to_owned()),
            (Some(true), Some(sound)) => {
                let frame = self.fps.map_or(0.05, |fps| 1.0 / fps.value());
                if let Some(planned) = self.seconds().filter(|planned| (planned - sound.seconds).abs() > frame) {
                    found.push(format!("sound lasts {:.3} s, should last {planned:.3} s", sound.seconds));
                }
                if let Some(codec) = self.audio_codec.filter(|codec| sound.codec != AsWritten::Known(*codec)) {
                    found.push(format!("audio codec is {}, should be {codec}", sound.codec));
                }
            }
            _ => {}
        }
        found
    }
}
