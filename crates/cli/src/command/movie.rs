//! `movie`: the movies of a sheet whose frames are complete, or one movie of any pictures.

use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};

use truepath_core::diagnostic::nearest;
use truepath_core::frames::{Frames, Number};
use truepath_core::invoke::encode::{ShownFrames, dropped};
use truepath_core::sheet::GAPS;
use truepath_core::verify::{Footage, Seen};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::{Kind, Taken};
use truepath_exec::process::Stops;
use truepath_exec::typed;
use truepath_movie::FrameSource;

use truepath_project::{News, movie};

use super::deliver::{self, Beside};
use super::encode;
use crate::args::{Common, EncodeArgs, ExistingFiles, MovieArgs, MovieOptions, RunArgs};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::show::counter::Counter;
use crate::show::{self, counted};

/// Makes movies.
pub fn run(args: &MovieArgs, around: &Around) -> Result<Exit, Failure> {
    match &args.out {
        Some(out) => of_pictures(args, out, around),
        None => of_sheet(args, around),
    }
}

/// The movies of a sheet: a run in which nothing is rendered.
fn of_sheet(args: &MovieArgs, around: &Around) -> Result<Exit, Failure> {
    if let Some(option) = given(&args.options) {
        return Err(Failure::unreadable(format!("--{option} is for pictures outside any sheet"))
            .help("add -o FILE, or write it into the [[movie]] of the sheet"));
    }
    if args.common.frames.is_some() {
        return Err(Failure::unreadable("a movie of a part of the frames would have the name of the whole movie")
            .help("write `frames` into its [[movie]], or make one outside the sheet: truepath movie PATTERN --frames EXPR -o FILE"));
    }
    let run = RunArgs {
        existing: args.replace.then_some(ExistingFiles::Replace),
        keep_going: args.keep_going,
        movies: true,
        events: args.events,
        ..RunArgs::of(args.common.clone())
    };
    super::run::run(&run, around)
}

/// The name of an option that was typed and means nothing to a sheet.
fn given(options: &MovieOptions) -> Option<&'static str> {
    let all = [
        ("fps", options.fps.is_some()),
        ("type", options.kind.is_some()),
        ("codec", options.codec.is_some()),
        ("quality", options.quality.is_some()),
        ("effort", options.effort.is_some()),
        ("chroma", options.chroma.is_some()),
        ("bits", options.bits.is_some()),
        ("channels", options.channels.is_some()),
        ("audio", options.audio.is_some()),
        ("audio-offset", options.audio_offset.is_some()),
        ("audio-codec", options.audio_codec.is_some()),
        ("audio-quality", options.audio_quality.is_some()),
        ("size", options.size.is_some()),
        ("colour", options.colour.is_some()),
        ("over", options.over.is_some()),
        ("burn", options.burn.is_some()),
        ("start-timecode", options.start_timecode.is_some()),
        ("encoder", options.encoder.is_some()),
    ];
    all.iter().find(|(_, given)| *given).map(|(name, _)| *name)
}

/// A movie of any pictures: made beside its name, read, and only then given it.
fn of_pictures(args: &MovieArgs, out: &Path, around: &Around) -> Result<Exit, Failure> {
    if args.common.jobs.is_empty() {
        return Err(Failure::unreadable("-o needs patterns of pictures")
            .help("truepath movie 'shots/ferry.{frame:4}.png' --fps 24 -o ferry.mp4"));
    }
    let patterns = args.common.jobs.iter().map(|text| typed::pattern(text)).collect::<Result<Vec<_>, _>>()?;
    let audio = args.options.audio.as_deref();
    let inputs = |taken: &mut Taken| {
        patterns.into_iter().for_each(|pattern| taken.pattern(pattern, deliver::INPUT));
        audio.into_iter().for_each(|path| taken.file(path, "the sound of the movie"));
    };
    // What is typed as jobs are patterns here.
    let common = Common { sheet: args.common.sheet.clone(), ..Common::default() };
    let deliveries = Beside { common: &common, queue: None, around }.deliveries([out], inputs);
    let footage = unless_interrupted(&|| deliveries.leave(), || {
        let delivery = deliveries.open(out, deliver::asked(Kind::Movie, args.replace))?;
        let footage = made_at(args, delivery.staged(), around)?;
        delivery.put().map(|()| footage)
    })?;
    if args.common.json {
        show::print_exact(&show::json::text(&show::json::movie(&around.folder.join(out), &footage)))?;
    } else {
        show::print(&format!("{}: {}\n", out.display(), said(&footage)))?;
    }
    Ok(Exit::Well)
}

/// Makes a movie of pictures, and looks at it.
fn made_at(args: &MovieArgs, part: &Path, around: &Around) -> Result<Box<Footage>, Failure> {
    let mut wanted = EncodeArgs {
        patterns: args.common.jobs.clone(),
        frames: args.common.frames.iter().cloned().collect(),
        out: part.to_owned(),
        options: args.options.clone(),
        ..EncodeArgs::default()
    };
    // How a gap is shown follows from the numbers that are there.
    wanted.span = spans(args, &wanted)?;
    let asked = encode::asked(&wanted, around)?;
    let (before, counter) = (AtomicUsize::new(0), Counter::new("encoding frames", around.err));
    let made = movie::make(&asked, &|news: News<'_>| match news {
        News::Encoded(frame) => counter.add((frame - before.swap(frame, Ordering::Relaxed)) as u64),
        News::EncoderSaid(line) => show::tell(&format!("{line}\n")),
        _ => {}
    });
    counter.end();
    let footage = made.and_then(|()| movie::looked(&asked, part))?;
    let over = args.options.over.is_some();
    let shown = asked.movie.sources.iter().filter_map(seen);
    if let Some(dropped) = dropped((asked.codec, &asked.format), (over, asked.movie.conversion.colour), shown) {
        show::tell(&format!("{}: {dropped} ({})\n", show::state(around.err, show::ODD, "note"), asked.codec.title));
    }
    Ok(footage)
}

/// What the frames of a part of a movie hold, by the first of them.
fn seen(source: &FrameSource) -> Option<ShownFrames> {
    let path = source.pattern.name(Number::new(source.numbers.first()?));
    match truepath_media::probe(Path::new(&path)).ok()? {
        Seen::Whole(picture) => {
            Some(ShownFrames { channels: picture.channels, bits: picture.bits, colour: source.colour })
        }
        _ => None,
    }
}

/// Does some work; an interrupt ends this process at once, once `leave` has removed what the work has made so far.
pub fn unless_interrupted<T>(
    leave: &(dyn Fn() + Sync),
    work: impl FnOnce() -> Result<T, Failure>,
) -> Result<T, Failure> {
    let stops = Stops::new().map_err(|error| Failure::machine("listen for", "interrupts", &error))?;
    let handle = stops.handle();
    std::thread::scope(|scope| {
        scope.spawn(|| {
            stops.each(|| {
                leave();
                std::process::exit(Exit::Interrupted as i32);
            });
        });
        let done = work();
        handle.close();
        done
    })
}

/// The numbers that are shown, for each pattern.
fn spans(args: &MovieArgs, wanted: &EncodeArgs) -> Result<Vec<String>, Failure> {
    let gaps = args.gaps.as_deref().unwrap_or("refuse");
    if !GAPS.iter().any(|(name, _)| *name == gaps) {
        let near = nearest(gaps, GAPS.iter().map(|(name, _)| *name)).unwrap_or("hold");
        return Err(Failure::unreadable(format!("--gaps {gaps} is not valid"))
            .help(format!("write {near}; the values are refuse, hold and close")));
    }
    let mut spans = Vec::new();
    for (at, pattern) in wanted.patterns.iter().enumerate() {
        let numbers = encode::numbers(wanted, at, pattern)?;
        let (Some(first), Some(last)) = (numbers.first(), numbers.last()) else { continue };
        let whole = Frames::range(first, last);
        let missing = whole.minus(&numbers);
        if gaps == "refuse" && !missing.is_empty() {
            let message = format!("{pattern} has gaps: {missing} are not there");
            return Err(Failure::new(Cause::Refused, message)
                .help("--gaps hold repeats the frame before, --gaps close skips them"));
        }
        spans.push(if gaps == "hold" { whole.to_string() } else { numbers.to_string() });
    }
    Ok(spans)
}

fn said(footage: &Footage) -> String {
    let frames = counted(i64::try_from(footage.frames).unwrap_or(i64::MAX), "frame");
    let fps = footage.fps.map_or(String::new(), |fps| format!(" at {fps} per second"));
    let sound = footage.sound.as_ref().map(|sound| format!(", {} sound", sound.codec)).unwrap_or_default();
    format!("{frames}{fps}, {}x{}, {} in {}{sound}", footage.width, footage.height, footage.codec, footage.container)
}
