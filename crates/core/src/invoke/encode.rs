//! A movie to the arguments of its encoder.
use std::fmt;

use crate::adapter::{Adapter, AdapterKind, BUILT_IN_ENCODERS, MOVIE, Per};
use crate::catalogue::{self, AudioCodec, Bits, Channels, Choice, Chroma, Codec, Effort, FileType};
use crate::frames::Timecode;
use crate::plan::Adapters;
use crate::resolve::paths;
use crate::sheet::{Colour, FileOption, Format, Fps, Size};
use crate::template::token::{ArgumentToken, BuiltIn, PathToken, built_in};
use crate::template::{Lookup, Value};

use super::spread::Filling;

/// All that an encoder is told about one movie.
#[derive(Clone, Copy, Debug)]
pub struct Encoding<'e> {
    /// Where frames come from: `-` for its standard input, else a path with the frame spelt as the adapter's `number` says.
    pub input: &'e str,
    /// The first picture; empty where they come on standard input.
    pub input_first: &'e str,
    /// How many frames there are. Pictures are numbered from 1.
    pub count: i64,
    /// Their size.
    pub size: Size,
    /// Frames per second.
    pub fps: Fps,
    /// How the samples of a frame are stored.
    pub pixels: EncoderPixels,
    /// How they are meant.
    pub colour: Colour,
    /// The sound, and by how many seconds it begins later.
    pub audio: Option<(&'e str, f64)>,
    /// The timecode of the first frame.
    pub start: Option<Timecode>,
    /// The container.
    pub container: &'static FileType,
    /// The codec.
    pub codec: &'static Codec,
    /// The codec of the sound.
    pub audio_codec: Option<&'static AudioCodec>,
    /// Its file options.
    pub format: &'e Format,
    /// The file to write.
    pub out: &'e str,
}

/// Samples of red, green, blue and, where there is one, alpha, one after another, row after row from the top; those of 16 bits
/// with their low byte first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EncoderPixels {
    /// Whether samples have 16 bits instead of 8.
    pub deep: bool,
    /// Whether there is an alpha.
    pub alpha: bool,
}

impl EncoderPixels {
    /// Its name: `rgb8`, `rgba8`, `rgb16` or `rgba16`.
    #[must_use]
    pub fn name(self) -> &'static str {
        match (self.deep, self.alpha) {
            (false, false) => "rgb8",
            (false, true) => "rgba8",
            (true, false) => "rgb16",
            (true, true) => "rgba16",
        }
    }
}

/// The depth of a sample in a movie: its format's, else what is usual for the codec.
#[must_use]
pub fn bits(format: &Format, codec: &Codec) -> Bits {
    format.bits.as_ref().map_or_else(|| codec.bits.first().copied().unwrap_or(Bits::Eight), |bits| bits.value)
}

/// Whether a movie has an alpha: where its format asks for one, else where its codec has one and its frames do.
#[must_use]
pub fn has_alpha(format: &Format, codec: &Codec, of_frames: bool) -> bool {
    codec.alpha && format.channels.as_ref().map_or(of_frames, |channels| channels.value.alpha())
}

/// The frames of a part of a movie, as far as it is known what they hold.
#[derive(Clone, Copy, Debug, Default)]
pub struct ShownFrames {
    /// Their channels.
    pub channels: Option<Channels>,
    /// Their depth.
    pub bits: Option<Bits>,
    /// How their pixels are meant.
    pub colour: Option<Colour>,
}

/// What frames have and their movie does not keep.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Dropped {
    /// Their alpha.
    pub alpha: bool,
    /// Their depth, and that of the movie.
    pub bits: Option<(Bits, Bits)>,
}

impl fmt::Display for Dropped {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let depth = self.bits.map(|(from, to)| format!("the depth is reduced from {from} to {to} bits"));
        let alpha = self.alpha.then(|| "the frames' alpha is dropped: they are laid over black".to_owned());
        f.write_str(&alpha.into_iter().chain(depth).collect::<Vec<_>>().join(", and "))
    }
}

/// What a movie does not keep of its frames, unless its format says `channels` or `bits`, or something lies behind them
/// (`over`): then it is known. Scene-linear floats that are encoded for display are meant to become less.
#[must_use]
pub fn dropped(
    (codec, format): (&Codec, &Format),
    (over, colour): (bool, Colour),
    frames: impl Iterator<Item = ShownFrames>,
) -> Option<Dropped> {
    let own = bits(format, codec);
    let (mut alpha, mut deepest) = (false, None);
    for frame in frames {
        alpha |= frame.channels.is_some_and(Channels::alpha);
        let is_float = matches!(frame.bits, Some(Bits::Half | Bits::Float));
        let is_encoded = frame.colour.is_some_and(|own| own != colour) || (is_float && colour == Colour::Display);
        deepest = deepest.max(frame.bits.filter(|bits| !is_encoded && *bits > own));
    }
    let dropped = Dropped {
        alpha: alpha && !codec.alpha && !over && format.channels.is_none(),
        bits: deepest.filter(|_| format.bits.is_none()).map(|from| (from, own)),
    };
    (dropped.alpha || dropped.bits.is_some()).then_some(dropped)
}

/// What an encoder has to be able to do for one movie.
#[derive(Clone, Copy, Debug)]
pub struct EncoderNeeds<'w> {
    /// The container.
    pub container: &'w FileType,
    /// The codec.
    pub codec: &'static Codec,
    /// The file options.
    pub format: &'w Format,
    /// The size, where it is known.
    pub size: Option<Size>,
    /// Whether an alpha is to be kept.
    pub alpha: bool,
    /// The sound file.
    pub audio: Option<&'w str>,
}

impl EncoderNeeds<'_> {
    /// Whether an adapter's encoder can do all of it.
    #[must_use]
    pub fn can(&self, adapter: &Adapter) -> bool {
        let EncoderNeeds { container, codec, format, .. } = *self;
        let accepts = &adapter.accepts;
        let chroma = format.chroma.as_ref().map(|chroma| chroma.value).or(codec.chroma.first().copied());
        let bits = bits(format, codec).to_string();
        // What the encoder in the box is handed as sound it has to read itself.
        let sound = |path: &str| {
            let readable = adapter.name != BUILT_IN_ENCODERS[0] || is_wave(path);
            readable && audio_codec(adapter, (container, codec), format).is_some()
        };
        accepts.takes(FileOption::Type, container.name)
            && accepts.takes(FileOption::Codec, codec.name)
            && container.codecs.contains(&codec)
            && chroma.is_none_or(|chroma| codec.lossless || accepts.takes(FileOption::Chroma, chroma.word()))
            && accepts.takes(FileOption::Bits, &bits)
            && accepts.depths.get(codec.name).is_none_or(|depths| depths.contains(&bits))
            && (!self.alpha || accepts.takes(FileOption::Channels, "rgba"))
            && self.size.is_none_or(|size| holds(adapter, codec, size))
            && self.audio.is_none_or(sound)
    }

    /// The encoder that is named, whatever it can do; else the first in the box that can do all of it.
    #[must_use]
    pub fn choose<'a>(&self, name: Option<&str>, adapters: &'a Adapters) -> Option<&'a Adapter> {
        match name {
            Some(name) => adapters.get(name).filter(|own| own.kind == AdapterKind::Encoder && own.name != MOVIE),
            None => BUILT_IN_ENCODERS.iter().filter_map(|name| adapters.get(*name)).find(|own| self.can(own)),
        }
    }
}

/// Whether an encoder takes pictures of a size, lying or standing.
fn holds(adapter: &Adapter, codec: &Codec, size: Size) -> bool {
    let sides = |size: Size| (size.width.min(size.height), size.width.max(size.height));
    let (short, long) = sides(size);
    let fits = |limit: Option<&Size>, within: fn(u32, u32) -> bool| {
        limit.is_none_or(|limit| within(short, sides(*limit).0) && within(long, sides(*limit).1))
    };
    fits(adapter.accepts.smallest.get(codec.name), |own, limit| own >= limit)
        && fits(adapter.accepts.largest.get(codec.name), |own, limit| own <= limit)
}

/// Whether a sound is one that is read here.
#[must_use]
pub fn is_wave(path: &str) -> bool {
    paths::file_name(path).rsplit_once('.').is_some_and(|(_, extension)| extension.eq_ignore_ascii_case("wav"))
}

/// The codec of a movie's sound with one encoder: its format's, else the first of the container's that the encoder writes; beside
/// pictures that are worked on further uncompressed, where that can be.
#[must_use]
pub fn audio_codec(
    adapter: &Adapter,
    (container, codec): (&FileType, &Codec),
    format: &Format,
) -> Option<&'static AudioCodec> {
    let has = |own: &&'static AudioCodec| adapter.accepts.takes(FileOption::AudioCodec, own.name);
    let usual = || container.audio_codecs.iter().copied().filter(has);
    match &format.audio_codec {
        Some(given) => given.value.known().filter(has),
        None => usual().find(|own| codec.master && **own == catalogue::codecs::PCM).or_else(|| usual().next()),
    }
}

/// The arguments of an encoder.
#[must_use]
pub fn encode(adapter: &Adapter, encoding: &Encoding<'_>) -> Vec<String> {
    let values = |name: &str| lookup(adapter, encoding, name);
    Filling { adapter, values: &values, lists: &|_| None }.spread(&adapter.arguments)
}

/// A token's value. What a format leaves open and the encoder has to know is what is usual for the codec.
#[must_use]
pub fn lookup(adapter: &Adapter, encoding: &Encoding<'_>, name: &str) -> Lookup {
    match built_in(name) {
        Some(BuiltIn::Path(token)) => of_paths(adapter, encoding, token),
        Some(BuiltIn::Argument(token)) => of_arguments(adapter, encoding, token),
        None => Lookup::NoValue,
    }
}

/// A codec that loses nothing keeps red, green and blue as they are, unless chroma is asked for.
fn chroma_word(encoding: &Encoding<'_>) -> &'static str {
    match &encoding.format.chroma {
        Some(chroma) => chroma.value.word(),
        None if encoding.codec.lossless => "rgb",
        None => encoding.codec.chroma.first().copied().unwrap_or(Chroma::C420).word(),
    }
}

/// The value of a token that paths have, too.
fn of_paths(adapter: &Adapter, encoding: &Encoding<'_>, token: PathToken) -> Lookup {
    type Path = PathToken;
    let (format, codec) = (encoding.format, encoding.codec);
    let text = |value: &str| Lookup::Value(Value::Text(adapter.word(token.name(), value).to_owned()));
    let some = |value: Option<&str>| value.map_or(Lookup::NoValue, text);
    let number = |value: Option<i64>| value.map_or(Lookup::NoValue, |value| Lookup::Value(Value::Number(value)));
    match token {
        Path::First => number(Some(1)),
        Path::Last => number(Some(encoding.count)),
        Path::Fps => some(Some(&encoding.fps.to_string())),
        Path::Width => number(Some(i64::from(encoding.size.width))),
        Path::Height => number(Some(i64::from(encoding.size.height))),
        Path::Colour => text(&encoding.colour.to_string()),
        Path::Codec => text(codec.name),
        Path::Chroma => text(chroma_word(encoding)),
        Path::Bits => text(&bits(format, codec).to_string()),
        Path::Channels => text(if encoding.pixels.alpha { "rgba" } else { "rgb" }),
        Path::Effort => some(format.effort.as_ref().map(|effort| effort.value.word())),
        Path::Quality => number(format.quality.as_ref().map(|quality| quality.value)),
        Path::AudioCodec => some(encoding.audio.and(encoding.audio_codec).map(|codec| codec.name)),
        Path::Type => text(encoding.container.name),
        Path::Project
        | Path::Sheet
        | Path::Job
        | Path::Camera
        | Path::View
        | Path::Pass
        | Path::Version
        | Path::Mode
        | Path::Adapter
        | Path::Ext
        | Path::Compression
        | Path::Samples
        | Path::Region
        | Path::Scene
        | Path::SceneFolder
        | Path::Frame
        | Path::Step
        | Path::Frames
        | Path::FullWidth
        | Path::FullHeight
        | Path::Scale
        | Path::PixelAspect
        | Path::User
        | Path::Host
        | Path::Os
        | Path::Date
        | Path::Time => Lookup::NoValue,
    }
}

/// The value of a token that only adapters have.
fn of_arguments(adapter: &Adapter, encoding: &Encoding<'_>, token: ArgumentToken) -> Lookup {
    type Own = ArgumentToken;
    let (format, codec) = (encoding.format, encoding.codec);
    let (chroma, bits) = (chroma_word(encoding), bits(format, codec));
    let seconds = encoding.count as f64 / encoding.fps.value();
    let text = |value: &str| Lookup::Value(Value::Text(adapter.word(token.name(), value).to_owned()));
    let some = |value: Option<&str>| value.map_or(Lookup::NoValue, text);
    let number = |value: Option<i64>| value.map_or(Lookup::NoValue, |value| Lookup::Value(Value::Number(value)));
    match token {
        Own::Input => text(encoding.input),
        Own::InputFirst => some(Some(encoding.input_first).filter(|path| !path.is_empty())),
        Own::InputPixels => text(encoding.pixels.name()),
        Own::MovieSeconds => text(&format!("{seconds:.6}")),
        Own::Audio => some(encoding.audio.map(|(path, _)| path)),
        Own::AudioOffset => {
            some(encoding.audio.filter(|(_, offset)| *offset != 0.0).map(|(_, offset)| offset.to_string()).as_deref())
        }
        Own::AudioSeconds => some(encoding.audio.map(|_| format!("{seconds:.6}")).as_deref()),
        Own::StartTimecode => some(encoding.start.map(|start| start.to_string()).as_deref()),
        Own::Out => text(encoding.out),
        Own::PixelLayout | Own::FullPixelLayout => {
            text(&format!("{chroma}{}-{bits}", if encoding.pixels.alpha { "a" } else { "" }))
        }
        Own::EffortUsual => text(format.effort.as_ref().map_or(Effort::Normal, |effort| effort.value).word()),
        Own::AudioQuality => {
            number(format.audio_quality.as_ref().filter(|_| encoding.audio.is_some()).map(|quality| quality.value))
        }
        Own::OutFolder
        | Own::OutStem
        | Own::Log
        | Own::Resume
        | Own::Checkpoint
        | Own::CheckpointEvery
        | Own::Threads
        | Own::Device
        | Own::Key
        | Own::Value
        | Own::Word
        | Own::Any
        | Own::Outcome
        | Own::Count
        | Own::Index
        | Own::Ordinal
        | Own::AfterLast
        | Own::RegionX
        | Own::RegionY
        | Own::RegionW
        | Own::RegionH
        | Own::SheetFolder
        | Own::SceneName
        | Own::Passes
        | Own::Variables
        | Own::Natives => Lookup::NoValue,
    }
}

/// Whether an adapter takes frames on its standard input.
#[must_use]
pub fn takes_pipe(adapter: &Adapter) -> bool {
    adapter.per == Per::Pipe
}
