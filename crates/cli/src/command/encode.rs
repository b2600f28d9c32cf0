//! `encode`: pictures to one movie file. It is what a call for a movie starts, here or from a script.

use std::cell::Cell;
use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use truepath_core::adapter::{Adapter, BUILT_IN_ENCODERS};
use truepath_core::catalogue::{self, Bits, Codec, FileType};
use truepath_core::diagnostic::{Findings, Slug};
use truepath_core::frames::{FrameExpr, Frames, Number, Timecode};
use truepath_core::invoke::encode::{self as told, EncoderNeeds, EncoderPixels, Encoding};
use truepath_core::plan::film;
use truepath_core::resolve::paths::from_system;
use truepath_core::sheet::{self, Backdrop, Colour, Format, Setting, Size};
use truepath_core::source::Sources;
use truepath_core::template::Template;
use truepath_core::verify::movie::Planned;
use truepath_core::verify::{Picture, Seen};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::{self, Delivery, Taken};
use truepath_exec::{process, typed};
use truepath_movie::{FrameSource, MovieError, MovieKind, WantedMovie, pipe, sound};
use truepath_pictures::conversion::{Conversion, Data};

use super::deliver::{self, Beside};
use crate::args::{Common, EncodeArgs, MovieOptions};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline;
use crate::pipeline::load::SHEET;
use crate::show;

/// How often a line says how far it is.
const EVERY: Duration = Duration::from_millis(500);

/// All that is asked of one movie, read.
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
    pub encoder: Adapter,
    /// What the file has to be.
    pub planned: Planned,
    /// Where the encoder is.
    program: PathBuf,
}

/// Encodes, with a line for every so many frames and one when the file is whole.
pub fn run(args: &EncodeArgs, around: &Around) -> Result<Exit, Failure> {
    let mut asked = asked(args, around)?;
    // What a run or a script looks at before it lands is written there by name.
    let delivery = match guard::is_staged(&around.folder.join(&args.out)) {
        true => None,
        false => Some(delivery(args, around)?),
    };
    delivery.iter().for_each(|delivery| delivery.staged().clone_into(&mut asked.movie.out));
    let last = Cell::new(Instant::now());
    let count = asked.movie.count();
    let told = |frame: usize| {
        if last.get().elapsed() >= EVERY || frame == count {
            last.set(Instant::now());
            // Whoever listens may have gone; the movie is made all the same.
            let _ = show::print(&format!("frame {frame} of {count}\n"));
        }
    };
    make(&asked, &told)?;
    delivery.map_or(Ok(()), Delivery::put)?;
    show::print(&format!("wrote {}\n", args.out.display()))?;
    Ok(Exit::Well)
}

/// A movie outside any stage folder, made beside its name.
fn delivery(args: &EncodeArgs, around: &Around) -> Result<Delivery, Failure> {
    let patterns = args.patterns.iter().map(|text| typed::pattern(text)).collect::<Result<Vec<_>, _>>()?;
    let audio = args.options.audio.as_deref();
    let inputs = |taken: &mut Taken| {
        patterns.into_iter().for_each(|pattern| taken.pattern(pattern, deliver::INPUT));
        audio.into_iter().for_each(|path| taken.file(path, "the sound of the movie"));
    };
    let beside = Beside { common: &Common::default(), queue: None, around };
    let deliveries = beside.deliveries([args.out.as_path()], inputs);
    deliveries.open(&args.out, deliver::asked(guard::Kind::Movie, args.replace))
}

/// Makes a movie with its encoder. `told` hears how many frames have been handed on.
pub fn make(asked: &AskedMovie, told: &dyn Fn(usize)) -> Result<(), Failure> {
    let movie = &asked.movie;
    let seconds = movie.count() as f64 / movie.fps.value();
    if asked.encoder.name == BUILT_IN_ENCODERS[0] {
        let sound = asked.audio.as_ref().map(|(path, offset)| sound::read(path, *offset, seconds)).transpose();
        let sound = sound.map_err(failed)?;
        let (container, codec) = (asked.container.name, asked.codec);
        let kind = MovieKind { container, codec, format: &asked.format, sound: sound.as_ref() };
        return truepath_movie::write(movie, kind, told).map_err(failed);
    }
    outside(asked, seconds, told)
}

/// Makes a movie with a program of its own. What it needs beside the frames lies next to the movie and goes with the call.
fn outside(asked: &AskedMovie, seconds: f64, told: &dyn Fn(usize)) -> Result<(), Failure> {
    let movie = &asked.movie;
    let beside = tempfile::Builder::new().prefix(".frames-").tempdir_in(movie.out.parent().unwrap_or(Path::new(".")));
    let beside = beside.map_err(|error| Failure::machine("write beside", &movie.out, &error))?;
    // A WAVE file is cut to the picture here; other sound is for the encoder to cut.
    let audio = match &asked.audio {
        Some((path, offset)) if told::is_wave(&from_system(path)) => {
            let cut = beside.path().join("sound.wav");
            let sound = sound::read(path, *offset, seconds).map_err(failed)?;
            sound::write(&sound, &cut).map_err(failed)?;
            Some((from_system(&cut), 0.0))
        }
        Some((path, offset)) => Some((from_system(path), *offset)),
        None => None,
    };
    let first = movie.first().map_err(failed)?;
    let side = |side: usize| u32::try_from(side).unwrap_or(u32::MAX);
    let size = Size { width: side(first.width), height: side(first.height) };
    let pixels = EncoderPixels { deep: matches!(first.data, Data::Sixteen(_)), alpha: first.count == 4 };
    drop(first);
    let piped = told::takes_pipe(&asked.encoder);
    let name = |hole: &str| from_system(&beside.path().join(format!("frame-{hole}.png")));
    let (input, input_first) = match (piped, asked.encoder.number) {
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
            .and_then(|_| told::audio_codec(&asked.encoder, (asked.container, asked.codec), &asked.format)),
        format: &asked.format,
        out: &out,
    };
    if !piped {
        pipe::pictures(movie, &|at| name(&format!("{at:08}")), told).map_err(failed)?;
    }
    let arguments = told::encode(&asked.encoder, &encoding);
    tracing::info!(program = %asked.program.display(), ?arguments, "encoding");
    let mut command = Command::new(&asked.program);
    command.args(&arguments).stdin(if piped { Stdio::piped() } else { Stdio::null() }).stderr(Stdio::piped());
    for (name, template) in &asked.encoder.env {
        let value = truepath_core::template::expand_text(&template.value, &|name| {
            told::lookup(&asked.encoder, &encoding, name)
        });
        command.envs(value.map(|value| (name, value)));
    }
    let mut child = command.spawn().map_err(|error| Failure::machine("start", &asked.program, &error))?;
    let said = child.stderr.take().map(|said| std::thread::spawn(move || passed_on(said)));
    let fed = child.stdin.take().map_or(Ok(()), |mut input| pipe::feed(movie, &mut input, told));
    let (fed, closed) = match fed {
        Err(MovieError::Closed(error)) => (Ok(()), Some(error)),
        fed => (fed, None),
    };
    if fed.is_err() {
        // It has not been given all frames, and would call that a movie.
        let _ = child.kill();
    }
    let status = child.wait().map_err(|error| Failure::machine("wait for", &asked.program, &error))?;
    let last = said.and_then(|said| said.join().ok()).unwrap_or_default();
    // What is wrong with a frame is why its encoder was ended; what the encoder says is why it took no more.
    fed.map_err(failed)?;
    let ending = process::ending(status);
    if !asked.encoder.exit.is_good(ending) {
        let how = ending.words();
        let last = if last.is_empty() { last } else { format!(": {last}") };
        return Err(Failure::new(Cause::Program, format!("{} {how}{last}", asked.encoder.name)));
    }
    closed.map_or(Ok(()), |error| Err(failed(MovieError::Closed(error))))
}

fn failed(error: MovieError) -> Failure {
    Failure::of(Cause::Program, error)
}

/// Passes on what a program says as it comes, whatever bytes it is made of. Returns its last words.
fn passed_on(said: impl Read) -> String {
    let (mut said, mut line, mut last) = (BufReader::new(said), Vec::new(), String::new());
    while said.read_until(b'\n', &mut line).is_ok_and(|count| count > 0) {
        let text = String::from_utf8_lossy(&line).trim_end().to_owned();
        show::tell(&format!("{text}\n"));
        if !text.trim().is_empty() {
            text.trim().clone_into(&mut last);
        }
        line.clear();
    }
    last
}

/// Reads what is asked for, and looks for the encoder.
pub fn asked(args: &EncodeArgs, around: &Around) -> Result<AskedMovie, Failure> {
    let options = &args.options;
    let refused = |message: String| Failure::unreadable(message);
    let format = format(options)?;
    let extension = args.out.extension().and_then(|extension| extension.to_str()).unwrap_or_default();
    let container = format.kind.as_ref().and_then(|kind| catalogue::by_name(&kind.value));
    let container = container.or(catalogue::by_extension(extension)).filter(|known| known.is_container());
    let container = container.ok_or_else(|| {
        let known: Vec<&str> = catalogue::CONTAINERS.iter().map(|known| known.extensions[0]).collect();
        refused(format!("{} has no movie extension", args.out.display()))
            .help(format!("use one of {}", known.join(", ")))
    })?;
    let given = format.codec.as_ref().map(|codec| codec.value.known());
    let codec = given.unwrap_or(container.codecs.first().copied()).filter(|codec| container.codecs.contains(codec));
    let codec = codec.ok_or_else(|| {
        let known = container.codecs.iter().map(|codec| codec.name).collect::<Vec<_>>().join(", ");
        refused(format!("{} cannot hold that codec", container.title)).help(format!("it holds {known}"))
    })?;
    let fps = value(
        options.fps.as_deref().ok_or_else(|| refused("the frame rate is not known".to_owned()).help("add --fps 24"))?,
        "fps",
    )?;
    let Setting::Fps(fps) = fps else { return Err(refused("--fps is not a frame rate".to_owned())) };
    let size = match options.size.as_deref().map(|size| value(size, "size")).transpose()? {
        Some(Setting::Size(size)) => Some(size),
        _ => None,
    };
    let mut sources =
        args.patterns.iter().enumerate().map(|(at, text)| source(args, at, text)).collect::<Result<Vec<_>, _>>()?;
    if let Some(empty) = sources.iter().zip(&args.patterns).find(|(source, _)| source.numbers.is_empty()) {
        return Err(Failure::new(Cause::Refused, format!("--frames leaves no frame of {}", empty.1)));
    }
    for source in &mut sources {
        if source.span.first() < source.numbers.first() {
            return Err(refused("a movie cannot start before its first frame".to_owned()));
        }
    }
    let start = match &options.start_timecode {
        Some(text) => Some(Timecode::parse(text, fps.frames.div_ceil(fps.seconds)).ok_or_else(|| {
            refused(format!("{text} is not a timecode at {fps} frames per second")).help("write it as 01:00:00:00")
        })?),
        None => None,
    };
    let over = match options.over.as_deref() {
        Some(text) => Backdrop::parse(text)
            .ok_or_else(|| refused(format!("--over {text} is not a colour")).help("write black, checker or #rrggbb"))?,
        None => Backdrop::Colour([0; 3]),
    };
    let burn = options.burn.as_deref().map(Template::parse).transpose();
    let burn = burn.map_err(|error| refused(format!("--burn: {}", error.message)).help(error.help))?;
    let colour = colour(options.colour.as_deref().unwrap_or("display"))?.unwrap_or(Colour::Display);
    let mut movie = WantedMovie {
        sources,
        out: args.out.clone(),
        conversion: Conversion { colour, over, alpha: false, deep: false, size, stops: 0.0 },
        burn,
        fps,
        start,
    };
    // Alpha is kept where the codec holds one and frames have it, unless something is said to lie behind them.
    let pictures: Vec<Picture> = movie.sources.iter().filter_map(first_picture).collect();
    let of_frames = pictures.iter().any(|picture| picture.channels.is_some_and(|channels| channels.alpha()));
    movie.conversion.alpha = told::has_alpha(&format, codec, of_frames && options.over.is_none());
    movie.conversion.deep = !matches!(told::bits(&format, codec), Bits::Eight);
    let line = |height: u32| if movie.burn.is_some() { film::burn_height(height) } else { 0 };
    let size = size.or(pictures.first().map(|picture| Size { width: picture.width, height: picture.height }));
    let size = size.map(|size| Size { height: size.height + line(size.height), ..size });
    let audio = options.audio.as_ref().map(|path| (around.folder.join(path), options.audio_offset.unwrap_or(0.0)));
    let sound = audio.as_ref().map(|(path, _)| from_system(path));
    let alpha = movie.conversion.alpha;
    let wish = EncoderNeeds { container, codec, format: &format, size, alpha, audio: sound.as_deref() };
    let (encoder, program) = encoder(options.encoder.as_deref(), &wish, around)?;
    let planned = Planned {
        container: Some(container.name.to_owned()),
        codec: Some(codec),
        size: size.map(|size| size.to_string()),
        fps: Some(fps),
        frames: Some(movie.count() as u64),
        chroma: format.chroma.as_ref().map(|chroma| chroma.value),
        bits: format.bits.as_ref().map(|bits| bits.value.to_string()),
        alpha: Some(alpha),
        timecode: movie.start.map(|start| start.to_string()),
        sound: Some(audio.is_some()),
        audio_codec: format.audio_codec.as_ref().and_then(|codec| codec.value.known()),
    };
    Ok(AskedMovie { movie, container, codec, format, audio, encoder, program, planned })
}

/// The encoder that is named, else the first in the box that can do it, with its program here.
fn encoder(name: Option<&str>, wish: &EncoderNeeds<'_>, around: &Around) -> Result<(Adapter, PathBuf), Failure> {
    let (mut sources, mut findings) = (Sources::default(), Findings::default());
    let all = pipeline::adapters(&around.folder.join(SHEET), around, &mut sources, &mut findings);
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
    let program = pipeline::program_of(adapter, around).map_err(|name| {
        let help = "the built-in encoder makes h264 in mp4, and mjpeg in mov or avi, with pcm sound in mov or avi";
        Failure::new(Cause::Machine, format!("{codec} needs {name}, which is not on this machine")).help(help)
    })?;
    Ok((adapter.clone(), program))
}

/// What the first picture of a source is.
fn first_picture(source: &FrameSource) -> Option<Picture> {
    let path = source.pattern.name(Number::new(source.numbers.first()?));
    match truepath_media::probe(Path::new(&path)).ok()? {
        Seen::Whole(picture) => Some(picture),
        _ => None,
    }
}

/// One pattern with what is said of it.
fn source(args: &EncodeArgs, at: usize, text: &str) -> Result<FrameSource, Failure> {
    let pattern = typed::pattern(text)?;
    let of = |list: &[String]| of(list, at);
    let numbers = numbers(args, at, text)?;
    let span = of(&args.span).map(|text| frames(&text)).transpose()?.unwrap_or_else(|| numbers.clone());
    let layer = of(&args.layer).filter(|name| !name.is_empty());
    let colour = of(&args.pixels).map_or(Ok(None), |text| colour(&text))?;
    Ok(FrameSource { pattern, numbers, span, layer, colour })
}

/// The value for one pattern: its own, or the only one for all of them.
fn of(list: &[String], at: usize) -> Option<String> {
    list.get(at).or(list.first().filter(|_| list.len() == 1)).cloned()
}

/// Frames as they were typed.
pub fn frames(text: &str) -> Result<Frames, Failure> {
    let expr =
        FrameExpr::parse(text).map_err(|error| Failure::unreadable(format!("--frames {text}: {}", error.message)))?;
    expr.frames(None, None)
        .ok_or_else(|| Failure::unreadable(format!("--frames {text} refers to a job's frames, and there is no job")))
}

/// The numbers of one pattern: as they are given, else those of the files that are there.
pub fn numbers(args: &EncodeArgs, at: usize, text: &str) -> Result<Frames, Failure> {
    match of(&args.frames, at) {
        Some(text) => frames(&text),
        None => typed::numbers_there(&typed::pattern(text)?),
    }
}

fn colour(text: &str) -> Result<Option<Colour>, Failure> {
    match text {
        "linear" => Ok(Some(Colour::Linear)),
        "display" => Ok(Some(Colour::Display)),
        "type" => Ok(None),
        _ => Err(Failure::unreadable(format!("`{text}` is not a way to store pixels")).help("write linear or display")),
    }
}

/// A value that is read as a job's setting of the same name is.
fn value(text: &str, key: &str) -> Result<Setting, Failure> {
    let mut sources = Sources::default();
    let mut findings = Findings::default();
    let body = format!("{key} = {}", serde_json::Value::String(text.to_owned()));
    let file = sources.add(format!("--{key}"), body);
    let settings = sheet::parse::command_line(file, &sources.get(file).text, &mut findings);
    let said = |findings: &Findings| findings.iter().next().map(|finding| finding.message.clone());
    let given = settings.values.into_values().next().map(|given| (*given.value).clone());
    given.ok_or_else(|| Failure::unreadable(format!("--{key} {text}: {}", said(&findings).unwrap_or_default())))
}

/// File options, read as those of a sheet's format are.
fn format(options: &MovieOptions) -> Result<Format, Failure> {
    let text = |value: &str| serde_json::Value::String(value.to_owned()).to_string();
    let number = |value: &str| if value.parse::<i64>().is_ok() { value.to_owned() } else { text(value) };
    let mut body = "[formats.typed]\n".to_owned();
    let mut add = |key: &str, value: Option<String>| body.extend(value.map(|value| format!("{key} = {value}\n")));
    add("type", options.kind.as_deref().map(text));
    add("codec", options.codec.as_deref().map(text));
    add("quality", options.quality.as_deref().map(number));
    add("effort", options.effort.as_deref().map(text));
    add("chroma", options.chroma.as_deref().map(text));
    add("bits", options.bits.as_deref().map(number));
    add("channels", options.channels.as_deref().map(text));
    add("audio_codec", options.audio_codec.as_deref().map(text));
    add("audio_quality", options.audio_quality.as_deref().map(number));
    let mut sources = Sources::default();
    let mut findings = Findings::default();
    let file = sources.add("the command line", body);
    let sheet = sheet::parse::sheet(file, &sources.get(file).text, &mut findings);
    if let Some(finding) = findings.iter().find(|finding| finding.check != Slug::KeyMissing) {
        let failure = Failure::unreadable(finding.message.clone());
        return Err(finding.help.iter().fold(failure, |failure, help| failure.help(help.clone())));
    }
    sheet.formats.into_iter().next().ok_or_else(|| Failure::unreadable("the options cannot be read"))
}
