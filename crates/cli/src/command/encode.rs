//! `encode`: pictures to one movie file. It is what a call for a movie starts, here or from a script.

use std::path::Path;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use truepath_core::catalogue::{self, Bits, Codec, FileType};
use truepath_core::diagnostic::{Findings, Slug};
use truepath_core::frames::{FrameExpr, Frames, Number, Timecode};
use truepath_core::invoke::encode::{self as told, EncoderNeeds};
use truepath_core::plan::film;
use truepath_core::resolve::paths::from_system;
use truepath_core::sheet::{self, Backdrop, Colour, Format, Fps, Setting, Size};
use truepath_core::source::Sources;
use truepath_core::template::Template;
use truepath_core::verify::movie::Planned;
use truepath_core::verify::{Picture, Seen};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::{self, Delivery, Taken};
use truepath_exec::typed;
use truepath_movie::{FrameSource, WantedMovie};
use truepath_pictures::conversion::Conversion;
use truepath_project::News;
use truepath_project::movie::{self, AskedMovie};

use super::deliver::{self, Beside};
use crate::args::{Common, EncodeArgs, MovieOptions};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::show;

/// How often a line says how far it is.
const EVERY: Duration = Duration::from_millis(500);

/// Encodes, with a line for every so many frames and one when the file is whole.
pub fn run(args: &EncodeArgs, around: &Around) -> Result<Exit, Failure> {
    let mut asked = asked(args, around)?;
    // What a run or a script looks at before it lands is written there by name.
    let delivery = match guard::is_staged(&around.folder.join(&args.out)) {
        true => None,
        false => Some(delivery(args, around)?),
    };
    delivery.iter().for_each(|delivery| delivery.staged().clone_into(&mut asked.movie.out));
    let (last, count) = (Mutex::new(Instant::now()), asked.movie.count());
    movie::make(&asked, &|news: News<'_>| match news {
        News::Encoded(frame) => {
            let mut last = last.lock().unwrap_or_else(PoisonError::into_inner);
            if last.elapsed() >= EVERY || frame == count {
                *last = Instant::now();
                // Whoever listens may have gone; the movie is made all the same.
                let _ = show::print(&format!("frame {frame} of {count}\n"));
            }
        }
        News::EncoderSaid(line) => show::tell(&format!("{line}\n")),
        _ => {}
    })?;
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

/// Reads what is asked for, and looks for the encoder.
pub fn asked(args: &EncodeArgs, around: &Around) -> Result<AskedMovie, Failure> {
    let options = &args.options;
    let refused = |message: String| Failure::unreadable(message);
    let format = format(options)?;
    let (container, codec) = kinds(args, &format)?;
    let fps = fps(options)?;
    let size = match options.size.as_deref().map(|size| value(size, "size")).transpose()? {
        Some(Setting::Size(size)) => Some(size),
        _ => None,
    };
    let sources = sources(args)?;
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
    let encoder = movie::encoder(options.encoder.as_deref(), &wish, around)?;
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
    Ok(AskedMovie { movie, container, codec, format, audio, encoder, planned })
}

/// The container and the codec: as they are given, else as the name of the file says.
fn kinds(args: &EncodeArgs, format: &Format) -> Result<(&'static FileType, &'static Codec), Failure> {
    let refused = |message: String| Failure::unreadable(message);
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
    Ok((container, codec))
}

fn fps(options: &MovieOptions) -> Result<Fps, Failure> {
    let refused = |message: &str| Failure::unreadable(message.to_owned());
    let given = options.fps.as_deref().ok_or_else(|| refused("the frame rate is not known").help("add --fps 24"))?;
    match value(given, "fps")? {
        Setting::Fps(fps) => Ok(fps),
        _ => Err(refused("--fps is not a frame rate")),
    }
}

/// What is shown, pattern by pattern.
fn sources(args: &EncodeArgs) -> Result<Vec<FrameSource>, Failure> {
    let refused = |message: String| Failure::unreadable(message);
    let sources =
        args.patterns.iter().enumerate().map(|(at, text)| source(args, at, text)).collect::<Result<Vec<_>, _>>()?;
    if let Some(empty) = sources.iter().zip(&args.patterns).find(|(source, _)| source.numbers.is_empty()) {
        return Err(Failure::new(Cause::Refused, format!("--frames leaves no frame of {}", empty.1)));
    }
    for source in &sources {
        if source.span.first() < source.numbers.first() {
            return Err(refused("a movie cannot start before its first frame".to_owned()));
        }
    }
    Ok(sources)
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
