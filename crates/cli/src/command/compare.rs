//! `compare`: two versions, modes, passes, jobs, folders or patterns of the same pictures, frame by frame.
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use rayon::iter::{IntoParallelRefIterator, ParallelIterator};
use truepath_core::flaw::Flaw;
use truepath_core::frames::{Frames, Number};
use truepath_core::plan::{Plan, Series};
use truepath_core::resolve::paths::{self, from_system};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::{Deliveries, Delivery, Kind, Taken};
use truepath_exec::typed;
use truepath_pictures::contact;
use truepath_pictures::pairs::{self, Comparing, Likeness, Side};
use truepath_pictures::thumbnail::{self, Thumbnail, Wish};

use super::deliver::{self, Beside};
use super::{encode, loose};
use crate::args::{Common, CompareArgs};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions};
use crate::show::compare::{self as shown, CompareRow, Compared, Comparison, FrameOutcome};
use crate::show::{self, counter::Counter};

/// Width in pixels of the picture of the worst frames.
const WIDTH: usize = 1280;

/// The file of a frame that one side does not plan.
const NOT_PLANNED: &str = "";

/// Two sequences that are to be compared.
struct Pair {
    label: String,
    /// Each frame with its file on both sides.
    frames: Vec<(i64, [String; 2])>,
}

/// What is compared with what.
struct Sides {
    names: [String; 2],
    pairs: Vec<Pair>,
    /// Whether other sizes are expected.
    scaled: bool,
    /// The plans whose files nothing may be written over.
    plans: Vec<Plan>,
}

/// Compares, and shows what differs.
pub fn run(args: &CompareArgs, around: &Around) -> Result<Exit, Failure> {
    let tolerance = tolerance(&args.tolerance)?;
    let sides = match sides(args, around)? {
        Ok(sides) => sides,
        Err(exit) => return Ok(exit),
    };
    if let Some(out) = &args.out {
        if !out.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("png")) {
            return Err(
                Failure::unreadable(format!("{} is not a PNG file", out.display())).help("end its name with .png")
            );
        }
        deliveries(args, &sides, around).judge(out, deliver::asked(Kind::Picture, args.replace))?;
    }
    let how = Comparing { tolerance, scaled: args.scaled || sides.scaled };
    let total = sides.pairs.iter().map(|pair| pair.frames.len() as u64).sum();
    let counter = Counter::of("comparing frames", total, around.err);
    let one = |(frame, files): &(i64, [String; 2])| {
        let outcome = outcome(files, how);
        counter.add(1);
        Compared { frame: *frame, files: files.clone(), outcome }
    };
    let row = |pair: &Pair| CompareRow { label: pair.label.clone(), frames: pair.frames.par_iter().map(one).collect() };
    let rows = sides.pairs.par_iter().map(row).collect();
    counter.end();
    let comparison = Comparison { sides: sides.names.clone(), tolerance, rows };
    if comparison.all().all(|(_, frame)| frame.outcome == FrameOutcome::Neither) {
        let [before, after] = &comparison.sides;
        return Err(Failure::new(Cause::Refused, format!("no files found for {before} or {after}"))
            .help("`truepath verify` shows which files exist"));
    }
    if let Some(out) = &args.out {
        let delivery = deliveries(args, &sides, around).open(out, deliver::asked(Kind::Picture, args.replace))?;
        draw(out, delivery, &comparison, how)?;
    }
    if args.json {
        show::print_exact(&show::json::text(&shown::json(&comparison)))?;
    } else {
        show::print(&shown::text(&comparison, around.out))?;
    }
    Ok(if comparison.is_within() { Exit::Well } else { Exit::No })
}

/// The picture that is to be written, beside what is compared.
fn deliveries(args: &CompareArgs, sides: &Sides, around: &Around) -> Deliveries {
    let common = Common { sheet: args.sheet.iter().cloned().collect(), ..Common::default() };
    let files = sides.pairs.iter().flat_map(|pair| &pair.frames).flat_map(|(_, files)| files);
    let add = |taken: &mut Taken| {
        files.filter(|path| *path != NOT_PLANNED).for_each(|path| taken.file(path, deliver::INPUT));
        deliver::add_plans(taken, &sides.plans);
    };
    Beside { common: &common, queue: None, around }.deliveries(args.out.as_deref(), add)
}

/// A tolerance as it was typed: a number, or a part such as 1/255.
fn tolerance(text: &str) -> Result<f64, Failure> {
    let value = match text.split_once('/') {
        Some((part, whole)) => {
            part.parse::<f64>().ok().zip(whole.parse::<f64>().ok()).map(|(part, whole)| part / whole)
        }
        None => text.parse().ok(),
    };
    value.filter(|value| value.is_finite() && *value >= 0.0).ok_or_else(|| {
        Failure::unreadable(format!("--tolerance {text} is not a number of 0 or more"))
            .help("write a number such as 0.002, or a fraction such as 1/255; 1 is white")
    })
}

fn outcome(files: &[String; 2], how: Comparing) -> FrameOutcome {
    let there = [0, 1].map(|at| Path::new(&files[at]).symlink_metadata().is_ok());
    match there {
        [false, false] => FrameOutcome::Neither,
        [true, false] => FrameOutcome::Only(Side::Before),
        [false, true] => FrameOutcome::Only(Side::After),
        [true, true] => match pairs::compare(Path::new(&files[0]), Path::new(&files[1]), how) {
            Ok(likeness) => FrameOutcome::Both(likeness),
            // What is no file, or may not be read, is told of its frame.
            Err(error) => {
                let side = if truepath_media::open(Path::new(&files[0])).is_err() { Side::Before } else { Side::After };
                FrameOutcome::Both(Likeness::Unread(side, Flaw::of(error)))
            }
        },
    }
}

/// Finds what is compared with what; an exit code where a sheet is in the way, which has been told.
fn sides(args: &CompareArgs, around: &Around) -> Result<Result<Sides, Exit>, Failure> {
    let options = [
        ("--version", !args.version.is_empty()),
        ("--mode", !args.mode.is_empty()),
        ("--passes", !args.passes.is_empty()),
    ];
    let given: Vec<&str> = options.iter().filter(|(_, given)| *given).map(|(name, _)| *name).collect();
    match (given.as_slice(), args.what.as_slice()) {
        ([], [before, after]) if is_folder(before) && is_folder(after) => folders([before, after]).map(Ok),
        ([], [before, after]) if typed::is_pattern(before) && typed::is_pattern(after) => patterns(args, [before, after]).map(Ok),
        ([], [_, _]) | ([_], _) => of_sheet(args, around),
        ([], _) => Err(Failure::unreadable("compare needs two sides")
            .help("for example: compare crossing --version 2 3, compare crossing --mode draft, compare OLD_FOLDER NEW_FOLDER, or compare 'old/x.{frame:4}.exr' 'new/x.{frame:4}.exr'")),
        (several, _) => Err(Failure::unreadable(format!("{} cannot be used together", several.join(" and ")))
            .help("run compare once for each")),
    }
}

fn is_folder(text: &str) -> bool {
    Path::new(text).is_dir()
}

/// Pictures of two patterns, or two pictures.
fn patterns(args: &CompareArgs, texts: [&String; 2]) -> Result<Sides, Failure> {
    let patterns = [typed::pattern(texts[0])?, typed::pattern(texts[1])?];
    let is_one = patterns.iter().all(|pattern| pattern.frame_width().is_none());
    let asked = args.frames.as_deref().map(encode::frames).transpose()?;
    let mut frames = Frames::none();
    for pattern in &patterns {
        let listed = pattern.split_folder().0.fixed().is_some();
        frames = match (&asked, listed) {
            (Some(asked), _) => asked.clone(),
            (None, _) => frames.union(&typed::numbers_there(pattern)?),
        };
    }
    let frames = if is_one { Frames::one(1) } else { frames };
    let files = |frame: i64| [0, 1].map(|at| patterns[at].name(Number::new(frame)));
    let label = paths::file_name(texts[1]).to_owned();
    Ok(Sides {
        names: texts.map(Clone::clone),
        pairs: vec![Pair { label, frames: frames.iter().map(|frame| (frame, files(frame))).collect() }],
        scaled: false,
        plans: Vec::new(),
    })
}

/// Pictures of the same names in two folders.
fn folders(folders: [&String; 2]) -> Result<Sides, Failure> {
    let mut names = BTreeSet::new();
    for folder in folders {
        let pictures = loose::pictures(Path::new(folder))?.into_iter().filter(|(_, known)| !known.is_container());
        names.extend(pictures.map(|(name, _)| name));
    }
    let mut groups: BTreeMap<String, Vec<(i64, [String; 2])>> = BTreeMap::new();
    for name in names {
        let (label, number) = numbered(&name);
        let file = |folder: &String| from_system(&Path::new(folder).join(&name));
        groups.entry(label).or_default().push((number, [file(folders[0]), file(folders[1])]));
    }
    if groups.is_empty() {
        return Err(Failure::new(
            Cause::Refused,
            format!("there is no picture in {} and none in {}", folders[0], folders[1]),
        ));
    }
    let pair = |(label, mut frames): (String, Vec<(i64, [String; 2])>)| {
        frames.sort_by_key(|(number, _)| *number);
        Pair { label, frames }
    };
    Ok(Sides {
        names: folders.map(Clone::clone),
        pairs: groups.into_iter().map(pair).collect(),
        scaled: false,
        plans: Vec::new(),
    })
}

/// A name as that of a sequence, and its number.
fn numbered(name: &str) -> (String, i64) {
    let digits = truepath_core::template::foreign::number(name);
    match digits.and_then(|digits| Some((name[digits.clone()].parse().ok()?, digits))) {
        Some((number, digits)) => {
            (format!("{}{{frame:{}}}{}", &name[..digits.start], digits.len(), &name[digits.end..]), number)
        }
        None => (name.to_owned(), 1),
    }
}

/// One side of a sheet: its plan, laid out for a version, a mode or nothing.
fn of_sheet(args: &CompareArgs, around: &Around) -> Result<Result<Sides, Exit>, Failure> {
    let (commons, names) = opened_with(args);
    let (mut plans, mut rivals) = (Vec::new(), Vec::new());
    for common in &commons {
        let queue = pipeline::load(common, around, LoadOptions::default())?;
        if let Some(exit) = super::not_to_be_judged(&queue, around) {
            return Ok(Err(exit));
        }
        rivals.extend(queue.plans().cloned());
        plans.extend(queue.sheets.into_iter().next().map(|sheet| sheet.plan));
    }
    let [before, after] = [&plans[0], &plans[1]];
    let (pairs, is_common) = pairs(args, [before, after]);
    if pairs.is_empty() || !is_common {
        return Err(Failure::new(
            Cause::Refused,
            format!("{} and {} have no frames of the same pass in common", names[0], names[1]),
        )
        .help("`truepath names` lists the passes and frames"));
    }
    if pairs.iter().all(|pair| pair.frames.iter().all(|(_, files)| files[0] == files[1])) {
        return Err(Failure::new(Cause::Refused, format!("{} and {} are the same files", names[0], names[1]))
            .help("two versions differ in their names only where the path has {version}, two modes only where the mode has its own path"));
    }
    Ok(Ok(Sides { names, pairs, scaled: !args.mode.is_empty(), plans: rivals }))
}

/// What each side is opened with, and what people call it.
fn opened_with(args: &CompareArgs) -> ([Common; 2], [String; 2]) {
    let common = |mode: Option<&String>, version: Option<&String>| Common {
        jobs: args.what.clone(),
        sheet: args.sheet.iter().cloned().collect(),
        mode: mode.into_iter().cloned().collect(),
        frames: args.frames.clone(),
        camera: args.camera.clone(),
        pass: if args.passes.is_empty() { args.pass.clone() } else { args.passes.clone() },
        given: version.map(|version| ("--version".to_owned(), format!("version={version}"))).into_iter().collect(),
        json: args.json,
        ..Common::default()
    };
    match (args.version.as_slice(), args.mode.as_slice()) {
        ([one], _) => {
            let now = "the version in the sheet".to_owned();
            ([common(None, Some(one)), common(None, None)], [format!("version {one}"), now])
        }
        ([one, two, ..], _) => {
            ([common(None, Some(one)), common(None, Some(two))], [format!("version {one}"), format!("version {two}")])
        }
        ([], [one]) => {
            ([common(None, None), common(Some(one), None)], ["the finals".to_owned(), format!("mode {one}")])
        }
        ([], [one, two, ..]) => {
            ([common(Some(one), None), common(Some(two), None)], [format!("mode {one}"), format!("mode {two}")])
        }
        ([], []) => {
            let names = if args.passes.is_empty() { &args.what } else { &args.passes };
            ([common(None, None), common(None, None)], [names[0].clone(), names[1].clone()])
        }
    }
}

/// What is compared with what, and whether both sides have anything of it.
fn pairs(args: &CompareArgs, [before, after]: [&Plan; 2]) -> (Vec<Pair>, bool) {
    // What has the same key on both sides is compared.
    let key = |plan: &Plan, series: &Series, side: usize| -> Option<(String, String)> {
        let job = &plan.jobs[series.job];
        let labels = plan.labels(series).join("+");
        match (args.passes.is_empty(), args.version.is_empty() && args.mode.is_empty()) {
            (false, _) => (labels == args.passes[side]).then(|| (job.name.clone(), String::new())),
            // Two jobs: each of the jobs of their entries by what follows the name.
            (true, true) => {
                let wanted =
                    truepath_core::plan::Selection { jobs: vec![args.what[side].clone()], ..Default::default() };
                let rest = job.name.strip_prefix(args.what[side].as_str()).unwrap_or_default().to_owned();
                wanted.takes(job).then_some((rest, labels))
            }
            (true, false) => Some((job.name.clone(), labels)),
        }
    };
    let mut both: BTreeMap<(String, String), [Option<&Series>; 2]> = BTreeMap::new();
    let mut order = Vec::new();
    for (side, plan) in [before, after].into_iter().enumerate() {
        for series in &plan.series {
            let Some(key) = key(plan, series, side) else { continue };
            if !both.contains_key(&key) {
                order.push(key.clone());
            }
            both.entry(key).or_default()[side] = Some(series);
        }
    }
    let is_common = order.iter().any(|key| both[key].iter().all(Option::is_some));
    let pair = |key: &(String, String)| {
        let sides = both[key];
        let frames = sides.map(|own| own.and_then(|series| series.frames.clone()).unwrap_or_default());
        // A mode may leave out passes and frames: that is no difference.
        let all = if args.mode.is_empty() { frames[0].union(&frames[1]) } else { frames[0].intersect(&frames[1]) };
        let label = sides[1].or(sides[0])?.id.split('@').next().unwrap_or_default().trim_end().to_owned();
        let name = |side: usize, frame: i64| {
            let own = sides[side].filter(|_| frames[side].contains(frame));
            own.map_or(NOT_PLANNED.to_owned(), |series| series.name(frame))
        };
        let frames: Vec<_> = all.iter().map(|frame| (frame, [0, 1].map(|side| name(side, frame)))).collect();
        (!frames.is_empty()).then_some(Pair { label, frames })
    };
    (order.iter().filter_map(pair).collect(), is_common)
}

/// Draws the worst frames: before, after, and what differs.
fn draw(out: &Path, delivery: Delivery, comparison: &Comparison, how: Comparing) -> Result<(), Failure> {
    let across = contact::third(WIDTH);
    let within = (across, across * 2);
    let mut rows = Vec::new();
    for (row, frame, difference) in comparison.worst() {
        let read = |file: &String| {
            let wish = Wish { within, stops: 0.0, layer: None, colour: None };
            thumbnail::read(Path::new(file), wish)
        };
        let [before, after] = [&frame.files[0], &frame.files[1]];
        let drawn = pairs::picture(Path::new(before), Path::new(after), how, within);
        let (Ok(one), Ok(two), Ok((apart, gain))) = (read(before), read(after), drawn) else { continue };
        let words = shown::words(difference, comparison.tolerance).join(", ");
        let caption = format!("{} {}: {words}; shown times {gain:.3}", row.label, frame.frame);
        rows.push((caption, [one, two, apart] as [Thumbnail; 3]));
    }
    let [before, after] = &comparison.sides;
    let labels = [before.as_str(), after.as_str(), "difference"];
    let title = if rows.is_empty() { "no frames differ" } else { "the frames that differ most" };
    let png = contact::triples(title, labels, &rows, WIDTH).png();
    delivery.write(&png.map_err(|error| Failure::machine("draw", out, &error))?)
}
