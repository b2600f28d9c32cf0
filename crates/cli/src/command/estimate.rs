//! `estimate`: how long what is left will take, and how much room, from what frames were measured to cost.

use std::path::Path;

use serde_json::{Value, json};
use truepath_core::check::bytes;
use truepath_core::frames::Frames;
use truepath_core::plan::{Plan, calls_of};
use truepath_core::resolve::Job;
use truepath_core::run::cost::{Cost, Costs, ENOUGH, Judged, Unknown, makespan};
use truepath_core::run::history::Depth;
use truepath_core::run::outstanding::advised;
use truepath_core::verify::Verdict;
use truepath_exec::disk;
use truepath_exec::failure::Failure;
use truepath_exec::observe::Look;
use truepath_exec::state::journal;

use crate::args::EstimateArgs;
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Loaded};
use crate::show::progress::span;
use crate::show::told::Told;
use crate::show::verdicts::cut;
use crate::show::{self, HEAD, counted, paint};
use truepath_project::run::{self, Measure, Measured};

/// What one sheet takes.
struct Estimate<'e> {
    plan: &'e Plan,
    rows: Vec<EstimateRow>,
    /// Seconds, the lowest and the highest, with all machines.
    seconds: Option<(f64, f64, f64)>,
    workers: u64,
    runs: Vec<Judged>,
    /// Frames that were measured.
    seen: i64,
    /// What the estimate cannot know.
    unknown: Vec<String>,
}

/// What one series takes.
struct EstimateRow {
    series: usize,
    files: i64,
    left: i64,
    cost: Option<Cost>,
    bytes: Option<f64>,
}

/// A run begins and ends: that takes this many seconds, at most.
const AROUND: (f64, f64) = (0.3, 1.0);

/// Shows the estimate; with --measure, some frames are rendered first.
pub fn run(args: &EstimateArgs, around: &Around) -> Result<Exit, Failure> {
    if let Some(frames) = &args.measure {
        let (mut common, mut measure) = (args.common.clone(), Measure::All);
        match frames.strip_prefix('+') {
            Some(count) => measure = Measure::Next(more(count)?),
            None => {
                common.frames = None;
                common.given = vec![("--measure".to_owned(), format!("frames={}", pipeline::quoted(frames)))];
            }
        }
        // What is wrong with what was typed is said in the form that was asked for; the run that measures has another.
        drop(pipeline::load(&common, around, LoadOptions::default())?);
        match run::measure(&pipeline::request(&common), &measure, around, &Told::new(around))? {
            Measured::Over(true) => {}
            Measured::Over(false) => show::tell("some frames could not be measured; see why: truepath log JOB\n"),
            Measured::Interrupted => return Ok(Exit::Interrupted),
            Measured::Stopped(stop) => return Ok(stop.into()),
        }
    }
    let queue = pipeline::load(&args.common, around, LoadOptions::default())?;
    if let Some(exit) = super::not_to_be_judged(&queue, around) {
        return Ok(exit);
    }
    truepath_project::guards::files(&queue)?;
    let mut all = Vec::new();
    for (at, loaded) in queue.sheets.iter().enumerate() {
        let verdicts = pipeline::verdicts(&queue, at, Look::Heads, around)?;
        all.push(estimate(args, loaded, &verdicts)?);
    }
    if args.common.json {
        show::print_exact(&show::json::text(&document(args, &all)))?;
    } else {
        all.iter().try_for_each(|own| show::print(&text(args, own, around)))?;
    }
    // Where nothing was measured, there is no answer.
    Ok(if all.iter().all(|own| own.seconds.is_some()) { Exit::Well } else { Exit::No })
}

/// How many frames are to be measured.
fn more(count: &str) -> Result<usize, Failure> {
    let number = count.parse().ok().filter(|count| (1..=MOST_MEASURED).contains(count));
    number.ok_or_else(|| {
        Failure::unreadable(format!("+{count} is no number of frames to measure")).help(format!(
            "write one from +1 to +{MOST_MEASURED}, such as +{ENOUGH}, or name the frames: first,middle,last"
        ))
    })
}

/// More frames than that are a run.
const MOST_MEASURED: usize = 1000;

fn estimate<'e>(args: &EstimateArgs, loaded: &'e Loaded, verdicts: &[Verdict]) -> Result<Estimate<'e>, Failure> {
    let plan = &loaded.plan;
    let costs = Costs::of(plan, &journal::read(&loaded.state, Depth::Calls)?, &loaded.ground.made_of);
    let lost: Vec<Frames> = verdicts.iter().map(advised).collect();
    let row = |(at, left): (usize, &Frames)| {
        let series = plan.output(at);
        let bytes = costs.bytes(series).map(|each| each * left.count() as f64);
        EstimateRow {
            series: at,
            files: series.count().unwrap_or(0),
            left: left.count(),
            cost: costs.cost(plan, &[at], left),
            bytes,
        }
    };
    let rows: Vec<EstimateRow> =
        lost.iter().enumerate().map(row).filter(|row| row.series < plan.series.len()).collect();
    let alone: Option<f64> = rows.iter().map(|row| row.cost.map(|cost| cost.seconds)).sum();
    let here = loaded.machine.workers.and_then(|workers| u64::try_from(workers).ok());
    let workers = here.unwrap_or(plan.run.workers as u64).max(1);
    let adapter = |job: &Job| loaded.adapter(job);
    let calls = calls_of(plan, &adapter).filter_map(|call| {
        let left = call.series.iter().map(|at| lost[*at].intersect(&call.frames));
        let left = left.reduce(|sum, own| sum.union(&own)).filter(|left| !left.is_empty())?;
        Some(costs.cost(plan, &call.series, &left)?.seconds + costs.beside())
    });
    let spread = makespan(calls, args.machines.saturating_mul(workers));
    let left: Vec<(usize, &Frames)> =
        rows.iter().filter(|row| row.left > 0).map(|row| (row.series, &lost[row.series])).collect();
    let range = costs.range(plan, &left);
    let seconds = alone.map(|alone| match alone > 0.0 {
        true => (spread + AROUND.0, spread * range.low + AROUND.0, spread * range.high + AROUND.1),
        false => (0.0, 0.0, 0.0),
    });
    let seconds = seconds.filter(|_| costs.is_known() || rows.iter().all(|row| row.left == 0));
    let seen = costs.seen(plan, left.iter().map(|(at, _)| *at));
    let unknown = if seconds.is_some() { words(&costs.unknown(plan, &left), plan) } else { Vec::new() };
    Ok(Estimate { plan, rows, seconds, workers, runs: costs.runs().to_vec(), seen, unknown })
}

/// What nobody knows of some frames, in words.
fn words(unknown: &[(usize, Unknown)], plan: &Plan) -> Vec<String> {
    let of = |what: &str, told: &dyn Fn(&str, &Unknown) -> Option<String>| {
        let all: Vec<String> = unknown.iter().filter_map(|(at, own)| told(&plan.output(*at).id, own)).collect();
        (!all.is_empty()).then(|| format!("{what}: {}", cut(&all.join(", "))))
    };
    let pixels = |id: &str, own: &Unknown| matches!(own, Unknown::Series).then(|| id.to_owned());
    let beyond = |id: &str, own: &Unknown| match own {
        Unknown::Beyond(frames) => Some(format!("{id} {}", cut(&frames.to_string()))),
        _ => None,
    };
    let scaled = |id: &str, own: &Unknown| match own {
        Unknown::Scaled(times) => Some(format!("{id} x{}", (times * 100.0).round() / 100.0)),
        _ => None,
    };
    let start = |id: &str, own: &Unknown| matches!(own, Unknown::Start).then(|| id.to_owned());
    [
        of("not measured, taken by their pixels", &pixels),
        of("beyond all measured frames", &beyond),
        of("measured at another size or with other samples, and scaled by pixels and samples", &scaled),
        of("how much of a call is the start of its program", &start),
    ]
    .into_iter()
    .flatten()
    .collect()
}

fn text(args: &EstimateArgs, own: &Estimate<'_>, around: &Around) -> String {
    let widest = own.rows.iter().map(|row| show::width(&own.plan.output(row.series).id)).max().unwrap_or(0).max(6);
    let head = format!(
        "{:widest$}  {:>12}  {:>8}  {:>9}  {:>11}  {:>8}",
        "series", "left", "measured", "a frame", "alone", "disk"
    );
    let mut out = format!("{}\n", paint(around.out, HEAD, head));
    for row in &own.rows {
        let id = show::pad(&own.plan.output(row.series).id, widest);
        let left = format!("{} of {}", row.left, row.files);
        let (measured, each, alone) = match row.cost.filter(|cost| cost.files > 0) {
            Some(cost) => (cost.measured.to_string(), span(cost.seconds / cost.files as f64), span(cost.seconds)),
            None => (String::new(), String::new(), String::new()),
        };
        let disk = row.bytes.filter(|own| *own > 0.0).map(bytes).unwrap_or_default();
        out.push_str(&format!("{id}  {left:>12}  {measured:>8}  {each:>9}  {alone:>11}  {disk:>8}\n"));
    }
    out.push('\n');
    out.push_str(&foreseen(args, own));
    let sum: f64 = own.rows.iter().filter_map(|row| row.bytes).sum();
    if sum > 0.0 {
        let free = own.plan.roots.iter().filter_map(|root| Some((&root.name, free(root.path.as_deref()?)?)));
        let free: Vec<String> = free.map(|(name, free)| format!("{} free on {name}", bytes(free))).collect();
        out.push_str(&format!("disk: about {} more; {}\n", bytes(sum), free.join(", ")));
    }
    for run in own.runs.iter().rev().take(3).rev() {
        let at = run.at.get(..16).unwrap_or(&run.at).replace('T', " ");
        out.push_str(&format!(
            "run of {at}: estimated {}, took {} of renderers, {} by the clock\n",
            span(run.estimated),
            span(run.took),
            span(run.wall)
        ));
    }
    out
}

/// How long it takes, and what is not known of that.
fn foreseen(args: &EstimateArgs, own: &Estimate<'_>) -> String {
    let mut out = String::new();
    let machines = counted(i64::try_from(args.machines).unwrap_or(i64::MAX), "machine");
    let workers = counted(i64::try_from(own.workers).unwrap_or(i64::MAX), "worker");
    match own.seconds {
        Some((_, _, high)) if high <= 0.0 => out.push_str("nothing to render\n"),
        Some((usual, low, high)) => out.push_str(&format!(
            "with {machines} of {workers}: about {} ({} to {})\n",
            span(usual),
            span(low),
            span(high)
        )),
        None => out.push_str(&format!(
            "no frame has been measured yet. Measure those that tell most: {}\n",
            super::again(&format!("estimate --measure +{ENOUGH}"), &args.common)
        )),
    }
    if own.seconds.is_some_and(|(_, _, high)| high > 0.0) {
        for words in &own.unknown {
            out.push_str(&format!("not known: {words}\n"));
        }
        let more = if own.seen < ENOUGH { ENOUGH - own.seen } else { ENOUGH / 2 };
        if own.seen < ENOUGH || !own.unknown.is_empty() {
            let again = super::again(&format!("estimate --measure +{more}"), &args.common);
            let frames = counted(own.seen, "measured frame");
            out.push_str(&format!("{frames}; measure those that tell most: {again}\n"));
        }
    }
    out
}

/// Bytes that are free where a folder is, or will be.
fn free(folder: &str) -> Option<f64> {
    disk::ground(Path::new(folder)).free.map(|free| free as f64)
}

fn document(args: &EstimateArgs, all: &[Estimate<'_>]) -> Value {
    let series = all.iter().flat_map(|own| {
        own.rows.iter().map(|row| {
            json!({
                "series": own.plan.output(row.series).id,
                "planned": row.files,
                "left": row.left,
                "measured": row.cost.map_or(0, |cost| cost.measured),
                "seconds": row.cost.map(|cost| cost.seconds),
                "bytes": row.bytes,
            })
        })
    });
    let sum = |of: fn(&(f64, f64, f64)) -> f64| all.iter().map(|own| own.seconds.as_ref().map(of)).sum::<Option<f64>>();
    let runs = all.iter().flat_map(|own| &own.runs);
    let runs = runs.map(|run| json!({ "at": run.at, "estimated": run.estimated, "took": run.took, "wall": run.wall }));
    json!({
        "truepath": 1,
        "machines": args.machines,
        "workers": all.first().map_or(1, |own| own.workers),
        "seconds": sum(|own| own.0),
        "lowest": sum(|own| own.1),
        "highest": sum(|own| own.2),
        "measured": all.iter().map(|own| own.seen).sum::<i64>(),
        "unknown": all.iter().flat_map(|own| &own.unknown).collect::<Vec<_>>(),
        "series": series.collect::<Vec<_>>(),
        "runs": runs.collect::<Vec<_>>(),
    })
}
