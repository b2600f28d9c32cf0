//! Movies out of pictures. Frames are read, converted and encoded on all cores, a part of the movie on each, and put into their
//! container in their order; so much is in memory as the cores are at work on, however long the movie is.

pub mod burn;
pub mod encode;
mod error;
pub mod mux;
pub mod pipe;
pub mod sound;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Condvar, Mutex, PoisonError};

use truepath_core::catalogue::{Codec, codecs};
use truepath_core::frames::{Frames, Timecode};
use truepath_core::plan::film::burn_height;
use truepath_core::sheet::{Colour, Format, Fps};
use truepath_core::template::{Lookup, Pattern, Template, Value, expand_text};

use encode::{CodedFrame, Encoder};
pub use error::MovieError;
use truepath_pictures::conversion::{Conversion, Converted};

/// Frames of an H.264 movie that are encoded together; each such part can be played on its own.
pub const PART: usize = 48;

/// The frames of one sequence, as a movie shows them.
#[derive(Clone, Debug)]
pub struct FrameSource {
    /// Their names.
    pub pattern: Pattern,
    /// The numbers that are there.
    pub numbers: Frames,
    /// The numbers that are shown: one that is not there is stood in for by the one before.
    pub span: Frames,
    /// The layer, of files with several.
    pub layer: Option<String>,
    /// How pixels are meant, where that is known.
    pub colour: Option<Colour>,
}

/// A movie to be made.
#[derive(Clone, Debug)]
pub struct WantedMovie {
    /// What it shows, one after another.
    pub sources: Vec<FrameSource>,
    /// The file.
    pub out: PathBuf,
    /// What is done with every frame.
    pub conversion: Conversion,
    /// The line below the picture; `{name}`, `{frame}` and `{timecode}` are those of the frame.
    pub burn: Option<Template>,
    /// The rate.
    pub fps: Fps,
    /// The timecode of the first frame.
    pub start: Option<Timecode>,
}

/// One frame as it is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct ShownFrame {
    source: usize,
    /// The number whose turn it is.
    number: i64,
    /// The number whose picture is shown.
    picture: i64,
}

impl WantedMovie {
    /// How many frames it has.
    #[must_use]
    pub fn count(&self) -> usize {
        self.sources.iter().map(|source| usize::try_from(source.span.count()).unwrap_or(0)).sum()
    }

    /// Every frame in its order.
    fn shown(&self) -> Vec<ShownFrame> {
        let mut all = Vec::with_capacity(self.count());
        for (source, own) in self.sources.iter().enumerate() {
            let mut there = own.numbers.iter().peekable();
            let mut picture = own.numbers.first().unwrap_or(0);
            for number in own.span.iter() {
                while let Some(next) = there.next_if(|next| *next <= number) {
                    picture = next;
                }
                all.push(ShownFrame { source, number, picture });
            }
        }
        all
    }

    /// One frame, read and converted. `last` is the frame before, where the same worker made it.
    fn frame(
        &self,
        at: usize,
        shown: ShownFrame,
        last: &mut Option<(ShownFrame, Converted)>,
    ) -> Result<Converted, MovieError> {
        let source = &self.sources[shown.source];
        let path = source.pattern.name(truepath_core::frames::Number::new(shown.picture));
        let again =
            last.as_ref().filter(|(before, _)| (before.source, before.picture) == (shown.source, shown.picture));
        let plain = match again {
            Some((_, converted)) => converted.clone(),
            None => {
                let pixels = truepath_media::pixels::read(Path::new(&path), source.layer.as_deref());
                let pixels = pixels.map_err(|source| MovieError::Picture { path: path.clone(), source })?;
                self.conversion.apply(pixels, source.colour)
            }
        };
        let mut frame = plain.clone();
        *last = Some((shown, plain));
        if let Some(line) = &self.burn {
            let height = burn_height(u32::try_from(frame.height).unwrap_or(0)) as usize;
            burn::burn(&mut frame, &self.line(line, at, shown, &path), height);
        }
        Ok(frame)
    }

    fn line(&self, line: &Template, at: usize, shown: ShownFrame, path: &str) -> String {
        let start =
            self.start.unwrap_or(Timecode { frame: 0, fps: self.fps.frames.div_ceil(self.fps.seconds), drop: false });
        let value = |name: &str| match name {
            "name" => Lookup::Value(Value::Text(truepath_core::resolve::paths::stem(path).to_owned())),
            "frame" => Lookup::Value(Value::Number(shown.number)),
            "timecode" => Lookup::Value(Value::Text(start.after(at as u64).to_string())),
            _ => Lookup::NoValue,
        };
        expand_text(line, &value).unwrap_or_default()
    }

    /// The size of its frames and whether its first one has an alpha, from the first picture.
    ///
    /// # Errors
    /// When that cannot be read.
    pub fn first(&self) -> Result<Converted, MovieError> {
        let shown = self.shown();
        let first = *shown.first().ok_or(MovieError::NoFrame)?;
        self.frame(0, first, &mut None)
    }
}

/// What the workers share.
struct SharedWork<'s> {
    movie: &'s WantedMovie,
    shown: &'s [ShownFrame],
    size: (usize, usize),
    next: AtomicUsize,
    /// Parts that are done and put away, so that nobody runs too far ahead.
    written: Mutex<usize>,
    bell: Condvar,
    stop: AtomicBool,
}

/// What comes of a part: its number and its frames with the record of the codec, or why there is none.
type MadePart = (usize, Result<(Vec<CodedFrame>, Vec<u8>), MovieError>);

/// Takes the next frames, and the record of the codec.
pub type HandOn<'h> = &'h mut dyn FnMut(&[CodedFrame], &[u8]) -> Result<(), MovieError>;

/// Makes all frames in parts of `part` frames and hands them on in their order. `encoder` makes an encoder for each part, and
/// `told` hears of every frame that was handed on.
///
/// # Errors
/// When a frame cannot be read or encoded, has another size than the first, or cannot be handed on.
pub fn make(
    movie: &WantedMovie,
    part: usize,
    encoder: &(dyn Fn() -> Result<Box<dyn Encoder>, MovieError> + Sync),
    hand_on: HandOn<'_>,
    told: &dyn Fn(usize),
) -> Result<(), MovieError> {
    let first = movie.first()?;
    let shown = movie.shown();
    let cores = std::thread::available_parallelism().map_or(2, std::num::NonZero::get);
    let shared = SharedWork {
        movie,
        shown: &shown,
        size: (first.width, first.height),
        next: AtomicUsize::new(0),
        written: Mutex::new(0),
        bell: Condvar::new(),
        stop: AtomicBool::new(false),
    };
    drop(first);
    let parts: Vec<std::ops::Range<usize>> =
        (0..shown.len()).step_by(part).map(|at| at..(at + part).min(shown.len())).collect();
    let ahead = 2 * cores.max(if part == 1 { 4 } else { 1 });
    std::thread::scope(|scope| {
        let (tell, made): (SyncSender<MadePart>, Receiver<MadePart>) = sync_channel(ahead);
        for _ in 0..cores {
            let (tell, shared, parts) = (tell.clone(), &shared, &parts);
            scope.spawn(move || work(shared, parts, ahead, encoder, &tell));
        }
        drop(tell);
        let outcome = collect(&shared, &made, hand_on, told);
        shared.stop.store(true, Ordering::SeqCst);
        shared.bell.notify_all();
        // Whoever still works has nobody to tell.
        drop(made);
        outcome
    })
}

fn collect(
    shared: &SharedWork<'_>,
    made: &Receiver<MadePart>,
    hand_on: HandOn<'_>,
    told: &dyn Fn(usize),
) -> Result<(), MovieError> {
    let mut waiting: BTreeMap<usize, (Vec<CodedFrame>, Vec<u8>)> = BTreeMap::new();
    let (mut next, mut frames) = (0, 0);
    while frames < shared.shown.len() {
        let (at, part) = made.recv().map_err(|_| MovieError::Lost)?;
        waiting.insert(at, part?);
        while let Some((coded, record)) = waiting.remove(&next) {
            hand_on(&coded, &record)?;
            next += 1;
            frames += coded.len();
            told(frames);
            *shared.written.lock().unwrap_or_else(PoisonError::into_inner) = next;
            shared.bell.notify_all();
        }
    }
    Ok(())
}

/// One pair of hands: part after part.
fn work(
    shared: &SharedWork<'_>,
    parts: &[std::ops::Range<usize>],
    ahead: usize,
    encoder: &(dyn Fn() -> Result<Box<dyn Encoder>, MovieError> + Sync),
    tell: &SyncSender<MadePart>,
) {
    loop {
        let at = shared.next.fetch_add(1, Ordering::SeqCst);
        let Some(range) = parts.get(at) else { return };
        let mut written = shared.written.lock().unwrap_or_else(PoisonError::into_inner);
        while at >= *written + ahead && !shared.stop.load(Ordering::SeqCst) {
            written = shared.bell.wait(written).unwrap_or_else(PoisonError::into_inner);
        }
        drop(written);
        if shared.stop.load(Ordering::SeqCst) || tell.send((at, one(shared, range.clone(), encoder))).is_err() {
            return;
        }
    }
}

fn one(
    shared: &SharedWork<'_>,
    range: std::ops::Range<usize>,
    encoder: &(dyn Fn() -> Result<Box<dyn Encoder>, MovieError> + Sync),
) -> Result<(Vec<CodedFrame>, Vec<u8>), MovieError> {
    let mut encoder = encoder()?;
    let mut last = None;
    let mut coded = Vec::with_capacity(range.len());
    for at in range {
        if shared.stop.load(Ordering::SeqCst) {
            return Err(MovieError::Ended);
        }
        let frame = shared.movie.frame(at, shared.shown[at], &mut last)?;
        if (frame.width, frame.height) != shared.size {
            let (first, is) = (shared.size, (frame.width, frame.height));
            return Err(MovieError::Size { frame: shared.shown[at].picture, is, first });
        }
        coded.push(encoder.frame(&frame)?);
    }
    Ok((coded, encoder.record()))
}

/// What kind of file a movie becomes.
#[derive(Clone, Copy, Debug)]
pub struct MovieKind<'k> {
    /// The container's name in the catalogue.
    pub container: &'k str,
    /// The codec.
    pub codec: &'static Codec,
    /// Its file options.
    pub format: &'k Format,
    /// Its sound.
    pub sound: Option<&'k sound::Sound>,
}

/// Writes a movie with the encoder in the box.
///
/// # Errors
/// When a frame cannot be read or encoded, or the file not be written.
pub fn write(movie: &WantedMovie, kind: MovieKind<'_>, told: &dyn Fn(usize)) -> Result<(), MovieError> {
    let MovieKind { container, codec, format, sound } = kind;
    let first = movie.first()?;
    let linear = movie.conversion.colour == Colour::Linear;
    let part = if *codec == codecs::H264 { PART } else { 8 };
    let side = |side: usize| u32::try_from(side).unwrap_or(u32::MAX);
    let head = mux::Head {
        is_mov: container == "mov",
        codec,
        size: (side(first.width), side(first.height)),
        fps: movie.fps,
        frames: movie.count(),
        part,
        sound,
        linear,
        start: movie.start,
    };
    drop(first);
    let disk = MovieError::write(&movie.out);
    let mut file: Box<dyn mux::Container + '_> = match container {
        "avi" => Box::new(mux::Avi::new(&movie.out, head).map_err(&disk)?),
        _ => Box::new(mux::Mov::new(&movie.out, head).map_err(&disk)?),
    };
    let mut record = Vec::new();
    let encoder = || -> Result<Box<dyn Encoder>, MovieError> {
        match codec {
            own if *own == codecs::MJPEG => Ok(Box::new(encode::MotionJpeg::new(format))),
            #[cfg(feature = "h264")]
            own if *own == codecs::H264 => Ok(Box::new(encode::H264::new(format, movie.fps.value(), linear)?)),
            other => Err(MovieError::NotBuiltIn(other)),
        }
    };
    let mut hand_on = |coded: &[CodedFrame], own: &[u8]| {
        if record.is_empty() {
            record = own.to_vec();
        } else if record != own {
            return Err(MovieError::Settings);
        }
        file.part(coded).map_err(&disk)
    };
    make(movie, part, &encoder, &mut hand_on, told)?;
    file.finish(&record).map_err(&disk)
}

/// Codecs that the encoder in the box has been built with.
#[must_use]
pub fn built_in() -> &'static [&'static Codec] {
    if cfg!(feature = "h264") { &[&codecs::H264, &codecs::MJPEG] } else { &[&codecs::MJPEG] }
}
