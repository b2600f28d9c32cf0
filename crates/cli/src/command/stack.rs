//! `stack`: the passes of a job that were rendered apart as one file per frame, and a list of them for compositing.
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use rayon::iter::{IntoParallelIterator, ParallelIterator};
use serde_json::{Value, json};
use truepath_core::flaw::Flaw;
use truepath_core::frames::{Frames, Number};
use truepath_core::plan::Series;
use truepath_core::resolve::Job;
use truepath_core::sheet::PASS_KINDS;
use truepath_core::template::{Lookup, Pattern, Template, TroubleKind, expand, foreign};
use truepath_core::verify::{State, Verdict};
use truepath_exec::disk;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::{Deliveries, Kind};
use truepath_exec::observe::Look;
use truepath_pictures::stack::{self, FORMS, Fault, StackForm, StackLayer};

use super::deliver::{self, Beside};
use super::movie::unless_interrupted;
use crate::args::StackArgs;
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Loaded, Queue};
use crate::show::{self, HEAD, counter::Counter, paint, verdicts};

/// States of files whose pixels are taken.
const WHOLE: [State; 4] = [State::Good, State::Foreign, State::Odd, State::Unproven];

/// One job with its passes.
struct Pile<'p> {
    loaded: &'p Loaded,
    job: &'p Job,
    /// Its series in the order of its passes, each with what is on disk.
    passes: Vec<(&'p Series, &'p Verdict)>,
    /// Where its files go, and as what.
    out: Option<(Pattern, StackForm)>,
    /// Frames of which every pass is whole.
    whole: Frames,
}

/// What became of one job.
#[derive(Default)]
struct StackDone {
    made: Vec<i64>,
    /// They were there and hold what their passes hold.
    kept: Vec<i64>,
    /// They were there and do not.
    other: Vec<i64>,
    /// Frame and why.
    failed: Vec<(i64, String)>,
    /// Whether this machine could not write one of them.
    not_here: bool,
}

/// Makes the files, and says what is in them.
pub fn run(args: &StackArgs, around: &Around) -> Result<Exit, Failure> {
    if args.out.is_none() && !args.common.json {
        return Err(Failure::unreadable("stack needs -o PATTERN or --json")
            .help("for example: truepath stack crossing -o 'stacks/crossing.{frame:4}.exr'"));
    }
    let queue = pipeline::load(&args.common, around, LoadOptions::default())?;
    if let Some(exit) = super::not_to_be_judged(&queue, around) {
        return Ok(exit);
    }
    let judged = (0..queue.sheets.len()).map(|at| pipeline::verdicts(&queue, at, Look::Heads, around));
    let judged = judged.collect::<Result<Vec<Vec<Verdict>>, Failure>>()?;
    let mut piles = Vec::new();
    for (loaded, verdicts) in queue.sheets.iter().zip(&judged) {
        for (number, job) in loaded.plan.jobs.iter().enumerate() {
            let own = loaded.plan.series_of(number);
            let passes: Vec<_> = own.map(|at| (&loaded.plan.series[at], &verdicts[at])).collect();
            piles.push(Pile { loaded, job, out: None, whole: whole(&passes), passes });
        }
    }
    if let Some(out) = &args.out {
        for pile in &mut piles {
            pile.out = Some(place(pile, out, around)?);
        }
        apart(&piles)?;
    }
    let deliveries = deliveries(args, &piles, &queue, around)?;
    let all = piles.iter().map(|pile| stacked(pile, args.replace, &deliveries, around));
    let all = all.collect::<Result<Vec<StackDone>, Failure>>()?;
    let complete = |(pile, done): (&Pile<'_>, &StackDone)| {
        pile.out.is_none() || (done.other.is_empty() && done.failed.is_empty() && missing(pile).is_empty())
    };
    if args.common.json {
        let jobs: Vec<Value> = piles.iter().zip(&all).map(|(pile, done)| document(pile, done)).collect();
        show::print_exact(&show::json::text(&json!({ "truepath": 1, "jobs": jobs })))?;
    } else {
        for (pile, done) in piles.iter().zip(&all) {
            show::print(&text(pile, done, around))?;
        }
    }
    Ok(match piles.iter().zip(&all).all(complete) {
        true => Exit::Well,
        false if all.iter().any(|done| done.not_here) => Exit::Machine,
        false => Exit::No,
    })
}

/// The frames of which every pass is whole.
fn whole(passes: &[(&Series, &Verdict)]) -> Frames {
    let all = passes.iter().map(|(_, verdict)| verdict.in_any(&WHOLE));
    all.reduce(|both, own| both.intersect(&own)).unwrap_or_default()
}

/// The frames that are planned and lack a pass.
fn missing(pile: &Pile<'_>) -> Frames {
    let planned = pile.passes.iter().filter_map(|(series, _)| series.frames.clone());
    planned.reduce(|both, own| both.union(&own)).unwrap_or_default().minus(&pile.whole)
}

/// Where the files of a job go: every token of the sheet but the pass stands in the name.
fn place(pile: &Pile<'_>, text: &str, around: &Around) -> Result<(Pattern, StackForm), Failure> {
    let Pile { loaded, job, passes, .. } = pile;
    let refused = |message: String| Failure::new(Cause::Refused, message);
    if let Some((series, _)) = passes.iter().find(|(series, _)| series.passes.len() > 1) {
        return Err(refused(format!("the passes of {} are already in one file: {}", job.name, series.pattern.typed())));
    }
    if passes.len() < 2 {
        return Err(refused(format!("{} has only one pass here", job.name)).help("name jobs with two passes or more"));
    }
    let unreadable = |why: &str| Failure::unreadable(format!("{text}: {why}"));
    let template =
        Template::parse(&foreign::typed(text)).map_err(|error| unreadable(&error.message).help(error.help))?;
    let tokens = loaded.tokens(passes[0].0);
    let value = |name: &str| {
        let found = tokens.iter().find(|(own, _)| own == name).map(|(_, value)| value.clone());
        found.unwrap_or(Lookup::Unknown)
    };
    if template.has("pass") {
        return Err(unreadable("the name has {pass}, but one file holds all passes").help("remove {pass}"));
    }
    let (pattern, troubles) = expand(&template, &value);
    if let Some(trouble) = troubles.first() {
        let why = match trouble.kind {
            TroubleKind::NoValue => format!("{{{}}} has no value in {}", trouble.token, job.name),
            _ => format!("{{{}}} cannot be used in it", trouble.token),
        };
        return Err(unreadable(&why).help("`truepath names --tokens` lists the tokens"));
    }
    let spelt = pattern.typed();
    let extension = spelt.rsplit_once('.').map_or("", |(_, extension)| extension);
    let form = StackForm::of(extension).ok_or_else(|| {
        let known: Vec<String> = FORMS.iter().map(|(_, what, own)| format!(".{} is {what}", own[0])).collect();
        unreadable("the extension is not that of a stack").help(known.join(", "))
    })?;
    for (series, _) in passes {
        let known = series.file_type.map_or("", |known| known.name);
        if !form.takes().contains(&known) {
            let takes = form.takes().join(", ");
            let message = format!("{} is of the type {known}, and .{extension} holds {takes} as they are", series.id);
            return Err(refused(message).help("choose another extension, or render it as another type"));
        }
    }
    let frames = passes[0].0.frames.as_ref().map_or(0, Frames::count);
    if pattern.frame_width().is_none() && frames > 1 {
        let message = format!("{text} has no frame number, and {} has {frames} frames", job.name);
        return Err(refused(message).help("put {frame:4} into it"));
    }
    let whole = around.folder.join(pattern.name(Number::new(1)));
    let mut absolute = Pattern::default();
    if Path::new(&pattern.name(Number::new(1))) != whole {
        absolute.push_text(&format!("{}/", truepath_core::resolve::paths::from_system(&around.folder)));
    }
    absolute.extend(&pattern);
    Ok((absolute, form))
}

/// Two jobs must not meet on one name.
fn apart(piles: &[Pile<'_>]) -> Result<(), Failure> {
    let mut names: BTreeSet<String> = BTreeSet::new();
    for pile in piles {
        let Some((pattern, _)) = &pile.out else { continue };
        for name in pile.whole.iter().map(|frame| pattern.name(Number::new(frame))) {
            if !names.insert(name.clone()) {
                let message = format!("{} and another job would be written to the same files: {name}", pile.job.name);
                return Err(Failure::new(Cause::Refused, message).help("add {job} or {camera} to the name"));
            }
        }
    }
    Ok(())
}

/// The files that are to be written, beside what the sheets plan. The first of each job is judged before any is made.
fn deliveries(args: &StackArgs, piles: &[Pile<'_>], queue: &Queue, around: &Around) -> Result<Deliveries, Failure> {
    let first = |pile: &Pile<'_>| Some(PathBuf::from(pile.out.as_ref()?.0.name(Number::new(pile.whole.first()?))));
    let firsts: Vec<PathBuf> = piles.iter().filter_map(first).collect();
    let beside = Beside { common: &args.common, queue: Some(queue), around };
    let deliveries = beside.deliveries(firsts.iter().map(PathBuf::as_path), |_| {});
    for out in &firsts {
        let folder = deliver::folder(out);
        std::fs::create_dir_all(folder).map_err(|error| Failure::machine("make the folder", folder, &error))?;
        // What stands there is told frame by frame; a name that is taken stops everything.
        deliveries.judge_name(out)?;
    }
    Ok(deliveries)
}

/// Makes all files of one job, each beside its name, read back and on the disk before it bears that.
fn stacked(pile: &Pile<'_>, replace: bool, deliveries: &Deliveries, around: &Around) -> Result<StackDone, Failure> {
    let Some((pattern, form)) = &pile.out else { return Ok(StackDone::default()) };
    let counter = Counter::of("stacking frames", u64::try_from(pile.whole.count()).unwrap_or(0), around.err);
    let frames: Vec<i64> = pile.whole.iter().collect();
    let one = |frame: i64| {
        let layers: Vec<StackLayer> = pile
            .passes
            .iter()
            .map(|(series, _)| StackLayer {
                name: pile.loaded.plan.labels(series).join("+"),
                file: PathBuf::from(series.name(frame)),
            })
            .collect();
        let target = PathBuf::from(pattern.name(Number::new(frame)));
        let fate = land(*form, &layers, (&target, replace), deliveries);
        counter.add(1);
        (frame, fate)
    };
    let fates = unless_interrupted(&|| deliveries.leave(), || Ok(frames.into_par_iter().map(one).collect::<Vec<_>>()))?;
    counter.end();
    let mut done = StackDone::default();
    for (frame, fate) in fates {
        match fate {
            Ok(StackFate::Made) => done.made.push(frame),
            Ok(StackFate::Kept) => done.kept.push(frame),
            Ok(StackFate::Other) => done.other.push(frame),
            Err(fault) => {
                done.not_here |= matches!(fault, Fault::Disk(_));
                done.failed.push((frame, fault.to_string()));
            }
        }
    }
    Ok(done)
}

enum StackFate {
    Made,
    Kept,
    Other,
}

fn land(
    form: StackForm,
    layers: &[StackLayer],
    (target, replace): (&Path, bool),
    deliveries: &Deliveries,
) -> Result<StackFate, Fault> {
    let is_file = disk::no_file(target).is_none() && target.symlink_metadata().is_ok();
    if is_file && stack::prove(form, layers, target).is_ok() {
        return Ok(StackFate::Kept);
    }
    if is_file && !replace {
        return Ok(StackFate::Other);
    }
    let fault = |failure: Failure| match failure.cause {
        Cause::Machine => Fault::Disk(failure.message.into()),
        _ => failure.message.into(),
    };
    // Names may have folders of their own.
    let made = std::fs::create_dir_all(deliver::folder(target));
    made.map_err(|error| Fault::Disk(Flaw::of(error)))?;
    // Another process may be faster; both make the same.
    let unless_there = |failure: Failure| match stack::prove(form, layers, target) {
        Ok(_) => Ok(StackFate::Kept),
        Err(_) => Err(fault(failure)),
    };
    let delivery = match deliveries.open(target, deliver::asked(Kind::Picture, replace)) {
        Ok(delivery) => delivery,
        Err(failure) => return unless_there(failure),
    };
    stack::write(form, layers, delivery.staged())?;
    stack::prove(form, layers, delivery.staged()).map_err(|why| format!("read back, {why}"))?;
    delivery.put().map_or_else(unless_there, |()| Ok(StackFate::Made))
}

fn text(pile: &Pile<'_>, done: &StackDone, around: &Around) -> String {
    let screen = around.out;
    let frames = |list: &[i64]| verdicts::cut(&Frames::from_any(list.to_vec()).to_string());
    let passes: Vec<String> = pile.passes.iter().map(|(series, _)| pile.loaded.plan.labels(series).join("+")).collect();
    let pattern = pile.out.as_ref().map(|(pattern, _)| pattern.typed()).unwrap_or_default();
    let pattern = verdicts::relative(&pile.loaded.plan, &pattern);
    let mut out = format!("{}: {}\n  {pattern}\n", paint(screen, HEAD, &pile.job.name), passes.join(", "));
    let mut line = |word: &str, text: String| out.push_str(&format!("  {word:10}  {text}\n"));
    for (word, list) in [("written", &done.made), ("unchanged", &done.kept)] {
        if !list.is_empty() {
            line(word, frames(list));
        }
    }
    if !done.other.is_empty() {
        line("different", format!("{}: exists with other content; --replace overwrites it", frames(&done.other)));
    }
    for (frame, why) in &done.failed {
        line("failed", format!("{frame}: {why}"));
    }
    let missing = missing(pile);
    if !missing.is_empty() {
        line(
            "skipped",
            format!("{}: not all passes are good; see truepath verify", verdicts::cut(&missing.to_string())),
        );
    }
    out
}

/// From each pass to its files, for programs that put them together.
fn document(pile: &Pile<'_>, done: &StackDone) -> Value {
    let job = pile.job;
    let passes = pile.passes.iter().map(|(series, verdict)| {
        let pass = &job.passes[series.passes[0]];
        let kind = PASS_KINDS.iter().find(|(_, kind)| *kind == pass.kind).map(|(name, _)| *name);
        json!({
            "pass": pass.label, "kind": kind, "pattern": series.pattern.typed(), "type": series.file_type.map(|known| known.name),
            "bits": series.bits.map(|bits| bits.to_string()), "channels": series.channels.map(|channels| channels.to_string()),
            "colour": pass.colour.map(|colour| colour.to_string()), "layers": pile.loaded.plan.labels(series),
            "frames": series.frames.as_ref().map(ToString::to_string), "whole": verdict.in_any(&WHOLE).to_string(),
        })
    });
    let stack = pile.out.as_ref().map(|(pattern, _)| {
        let list = |frames: &[i64]| Frames::from_any(frames.to_vec()).to_string();
        let failed = done.failed.iter().map(|(frame, why)| json!({ "frame": frame, "why": why }));
        json!({
            "pattern": pattern.typed(), "written": list(&done.made), "unchanged": list(&done.kept), "different": list(&done.other),
            "failed": failed.collect::<Vec<_>>(), "skipped": missing(pile).to_string(),
        })
    });
    let size = pile.passes.first().and_then(|(series, _)| series.size);
    json!({
        "job": job.name, "camera": job.camera, "fps": job.fps.as_ref().map(ToString::to_string),
        "width": size.map(|size| size.width), "height": size.map(|size| size.height), "passes": passes.collect::<Vec<_>>(), "stack": stack,
    })
}
