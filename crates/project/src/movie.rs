//! One movie of any pictures, made by the encoder in the box or by a program of its own.

use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use truepath_core::adapter::{Adapter, BUILT_IN_ENCODERS};
use truepath_core::catalogue::{Codec, FileType};
use truepath_core::diagnostic::Findings;
use truepath_core::invoke::encode::{self as told, EncoderNeeds, EncoderPixels, Encoding};
use truepath_core::resolve::paths::from_system;
use truepath_core::sheet::{Format, Size};
use truepath_core::source::Sources;
use truepath_core::verify::movie::Planned;
use truepath_core::verify::{Footage, Seen};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::process;
use truepath_movie::{MovieError, MovieKind, WantedMovie, pipe, sound};
use truepath_pictures::conversion::Data;

use crate::listener::{Listener, News};
use crate::open::load::SHEET;
use crate::open::{adapters, program_of};
use crate::surroundings::Surroundings;

/// All that is asked of one movie.
pub struct AskedMovie {
    /// The movie.
    pub movie: WantedMovie,
    /// Its container.
    pub container: &'static FileType,
    /// Its codec.
    pub codec: &'static Codec,
    /// Its file options.
    pub format: Format,
    /// Its sound, and by how many seconds that begins later.
    pub audio: Option<(PathBuf, f64)>,
    /// Its encoder.
    pub encoder: FoundEncoder,
    /// What the file has to be.
    pub planned: Planned,
}

/// An encoder that is here.
#[derive(Clone, Debug)]
pub struct FoundEncoder {
    /// What it can do, and how it is called.
    pub adapter: Adapter,
    /// Where it is.
    pub program: PathBuf,
}

/// Makes a movie with its encoder.
///
/// # Errors
/// When a frame cannot be read or encoded, the encoder does not end well, or the file cannot be written.
pub fn make(asked: &AskedMovie, listener: &dyn Listener) -> Result<(), Failure> {
    let movie = &asked.movie;
    let seconds = movie.count() as f64 / movie.fps.value();
    if asked.encoder.adapter.name == BUILT_IN_ENCODERS[0] {
        let sound = asked.audio.as_ref().map(|(path, offset)| sound::read(path, *offset, seconds)).transpose();
        let sound = sound.map_err(failed)?;
        let (container, codec) = (asked.container.name, asked.codec);
        let kind = MovieKind { container, codec, format: &asked.format, sound: sound.as_ref() };
        return truepath_movie::write(movie, kind, &|frames| listener.hear(News::Encoded(frames))).map_err(failed);
    }
    outside(asked, seconds, listener)
}

/// Makes a movie with a program of its own. What it needs beside the frames lies next to the movie and goes with the call.
fn outside(asked: &AskedMovie, seconds: f64, listener: &dyn Listener) -> Result<(), Failure> {
    let movie = &asked.movie;
    let beside = tempfile::Builder::new().prefix(".frames-").tempdir_in(movie.out.parent().unwrap_or(Path::new(".")));
    let beside = beside.map_err(|error| Failure::machine("write beside", &movie.out, &error))?;
    let audio = cut_sound(asked, beside.path(), seconds)?;
    let first = movie.first().map_err(failed)?;
    let side = |side: usize| u32::try_from(side).unwrap_or(u32::MAX);
    let size = Size { width: side(first.width), height: side(first.height) };
    let pixels = EncoderPixels { deep: matches!(first.data, Data::Sixteen(_)), alpha: first.count == 4 };
    drop(first);
    let piped = told::takes_pipe(&asked.encoder.adapter);
    let name = |hole: &str| from_system(&beside.path().join(format!("frame-{hole}.png")));
    let (input, input_first) = match (piped, asked.encoder.adapter.number) {
        (true, _) => ("-".to_owned(), String::new()),
        (false, Some(number)) => (name(&number.hole(8)), name("00000001")),
        (false, None) => (name("00000001"), name("00000001")),
    };
    let out = from_system(&movie.out);
    let encoding = Encoding {
        input: &input,
        input_first: &input_first,
        count: i64::try_from(movie.count()).unwrap_or(i64::MAX),
        size,
        fps: movie.fps,
        pixels,
        colour: movie.conversion.colour,
        audio: audio.as_ref().map(|(path, offset)| (path.as_str(), *offset)),
        start: movie.start,
        container: asked.container,
        codec: asked.codec,
        audio_codec: asked
            .audio
            .as_ref()
            .and_then(|_| told::audio_codec(&asked.encoder.adapter, (asked.container, asked.codec), &asked.format)),
        format: &asked.format,
        out: &out,
    };
    if !piped {
        pipe::pictures(movie, &|at| name(&format!("{at:08}")), &|frames| listener.hear(News::Encoded(frames)))
            .map_err(failed)?;
    }
    fed(asked, &encoding, listener)
}

/// The sound of a movie: a WAVE file is cut to the picture here; other sound is for the encoder to cut.
fn cut_sound(asked: &AskedMovie, beside: &Path, seconds: f64) -> Result<Option<(String, f64)>, Failure> {
    Ok(match &asked.audio {
        Some((path, offset)) if told::is_wave(&from_system(path)) => {
            let cut = beside.join("sound.wav");
            let sound = sound::read(path, *offset, seconds).map_err(failed)?;
            sound::write(&sound, &cut).map_err(failed)?;
            Some((from_system(&cut), 0.0))
        }
        Some((path, offset)) => Some((from_system(path), *offset)),
        None => None,
    })
}

/// Starts the encoder, hands it the frames where it takes them on its standard input, and waits for its end.
fn fed(asked: &AskedMovie, encoding: &Encoding<'_>, listener: &dyn Listener) -> Result<(), Failure> {
    let FoundEncoder { adapter, program } = &asked.encoder;
    let piped = told::takes_pipe(adapter);
    let arguments = told::encode(adapter, encoding);
    tracing::info!(program = %program.display(), ?arguments, "encoding");
    let mut command = Command::new(program);
    command.args(&arguments).stdin(if piped { Stdio::piped() } else { Stdio::null() }).stderr(Stdio::piped());
    for (name, template) in &adapter.env {
        let lookup = |name: &str| told::lookup(adapter, encoding, name);
        let value = truepath_core::template::expand_text(&template.value, &lookup);
        command.envs(value.map(|value| (name, value)));
    }
    let mut child = command.spawn().map_err(|error| Failure::machine("start", program, &error))?;
    let (input, said) = (child.stdin.take(), child.stderr.take());
    let (fed, closed, last) = std::thread::scope(|scope| {
        let said = scope.spawn(move || said.map(|said| passed_on(said, listener)).unwrap_or_default());
        let fed = input.map_or(Ok(()), |mut input| {
            pipe::feed(&asked.movie, &mut input, &|frames| listener.hear(News::Encoded(frames)))
        });
        let (fed, closed) = match fed {
            Err(MovieError::Closed(error)) => (Ok(()), Some(error)),
            fed => (fed, None),
        };
        if fed.is_err() {
            // It has not been given all frames, and would call that a movie.
            let _ = child.kill();
        }
        (fed, closed, said.join().unwrap_or_default())
    });
    let status = child.wait().map_err(|error| Failure::machine("wait for", program, &error))?;
    // What is wrong with a frame is why its encoder was ended; what the encoder says is why it took no more.
    fed.map_err(failed)?;
    let ending = process::ending(status);
    if !adapter.exit.is_good(ending) {
        let how = ending.words();
        let last = if last.is_empty() { last } else { format!(": {last}") };
        return Err(Failure::new(Cause::Program, format!("{} {how}{last}", adapter.name)));
    }
    closed.map_or(Ok(()), |error| Err(failed(MovieError::Closed(error))))
}

fn failed(error: MovieError) -> Failure {
    Failure::of(Cause::Program, error)
}

/// Passes on what a program says as it comes, whatever bytes it is made of. Returns its last words.
fn passed_on(said: impl Read, listener: &dyn Listener) -> String {
    let (mut said, mut line, mut last) = (BufReader::new(said), Vec::new(), String::new());
    while said.read_until(b'\n', &mut line).is_ok_and(|count| count > 0) {
        let text = String::from_utf8_lossy(&line).trim_end().to_owned();
        listener.hear(News::EncoderSaid(&text));
        if !text.trim().is_empty() {
            text.trim().clone_into(&mut last);
        }
        line.clear();
    }
    last
}

/// The encoder that is named, else the first in the box that can do it, with its program here.
///
/// # Errors
/// When there is none, or its program is not on this machine.
pub fn encoder(name: Option<&str>, wish: &EncoderNeeds<'_>, around: &Surroundings) -> Result<FoundEncoder, Failure> {
    let (mut sources, mut findings) = (Sources::default(), Findings::default());
    let all = adapters(&around.folder.join(SHEET), around, &mut sources, &mut findings);
    let (codec, container) = (wish.codec.title, wish.container.title);
    let chosen = wish.choose(name, &all);
    let adapter = match (chosen, name) {
        (Some(adapter), _) if wish.can(adapter) => adapter,
        (None, Some(name)) => {
            let help = "`truepath adapter list` shows all";
            return Err(Failure::unreadable(format!("there is no encoder `{name}`")).help(help));
        }
        (_, name) => {
            let who = name.unwrap_or("no encoder");
            let does = if name.is_some() { "cannot make" } else { "makes" };
            let message = format!("{who} {does} {codec} in {container} with these options");
            let help =
                format!("`truepath adapter show {}` lists what it can make", name.unwrap_or(BUILT_IN_ENCODERS[0]));
            return Err(Failure::new(Cause::Refused, message).help(help));
        }
    };
    let program = program_of(adapter, around).map_err(|missing| {
        let help = "the built-in encoder makes h264 in mp4, and mjpeg in mov or avi, with pcm sound in mov or avi";
        Failure::new(Cause::Machine, format!("{codec} needs {}, which is not on this machine", missing.0)).help(help)
    })?;
    Ok(FoundEncoder { adapter: adapter.clone(), program })
}

/// Reads a movie that was just made, and compares it with what was asked for.
///
/// # Errors
/// When it cannot be read, or is something else.
pub fn looked(asked: &AskedMovie, part: &Path) -> Result<Box<Footage>, Failure> {
    let refused = |why: String| {
        Failure::new(
            Cause::Program,
            format!("the movie from {} is not as requested: {why}", asked.encoder.adapter.name),
        )
    };
    match truepath_media::movie::probe(part).map_err(|error| Failure::machine("read", part, &error))? {
        Seen::Movie(footage) => match asked.planned.differences(&footage) {
            found if found.is_empty() => Ok(footage),
            found => Err(refused(found.join(", "))),
        },
        Seen::Broken(why) => Err(refused(why)),
        _ => Err(refused("there is no file".to_owned())),
    }
}
