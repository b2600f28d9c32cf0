//! `build`: the command lines, as scripts, as JSON, or handed to another program or to a cluster's scheduler.

mod cluster;
mod parts;
mod submit;

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

use rayon::iter::{IntoParallelRefIterator, ParallelExtend, ParallelIterator};
use truepath_core::frames::Frames;
use truepath_core::invoke::command_line::{CallKind, CommandLine};
use truepath_core::invoke::script::{self, Script, cmd};
use truepath_core::plan::{Call, Plan, Series, calls_of, movie_calls};
use truepath_core::resolve::{Job, paths};
use truepath_core::run::cost::Costs;
use truepath_core::run::history::Depth;
use truepath_core::run::outstanding::{outstanding, with_movies};
use truepath_core::sheet::{Existing, System};
use truepath_core::verify::State;

use crate::args::{AnewValues, BuildArgs, ScriptKind};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::{Deliveries, Kind, Over};
use truepath_exec::observe::{Look, Observation};
use truepath_exec::state::journal;
use truepath_exec::threads::Cores;

use super::deliver::{self, Beside};
use crate::exit_code::Exit;
use crate::lower::{self, Surroundings};
use crate::pipeline::{self, LoadOptions, Loaded};
use crate::show;

/// Writes all calls of the plan.
pub fn run(args: &BuildArgs, around: &Surroundings) -> Result<Exit, Failure> {
    fits(args)?;
    let output = args.output.as_deref().filter(|output| !deliver::is_standard_output(output));
    if let Some(output) = output.filter(|output| output.is_dir() && !writes_parts(args)) {
        let help = format!(
            "give a file, such as -o {}, or write several scripts into the folder with --parts N",
            output.join(format!("render.{}", ending(args))).display()
        );
        return Err(Failure::unreadable(format!("{} is a folder", output.display())).help(help));
    }
    // A script for cmd is for Windows, wherever it is built.
    let system = (args.to == ScriptKind::Cmd).then_some(System::Windows).filter(|system| *system != lower::system());
    let mut queue = pipeline::load(
        &args.common,
        around,
        LoadOptions { anew: AnewValues::of(args.anew), system, ..LoadOptions::default() },
    )?;
    super::tell_findings(&queue, around);
    if let Some(exit) = queue.stopped_here() {
        return Ok(exit);
    }
    let deliveries = Beside { common: &args.common, queue: Some(&queue), around }.deliveries(output, |_| {});
    if let Some(output) = output.filter(|_| !writes_parts(args)) {
        deliveries.judge(output, how(args))?;
    }
    let mut built = Vec::new();
    for loaded in &mut queue.sheets {
        super::guard_final(loaded, args.is_final)?;
        super::need_adapters(loaded)?;
        if !super::pin(loaded, AnewValues::of(args.anew))? {
            let message = "another True Path pinned other values for this sheet at the same time".to_owned();
            let help = "run the command again; it uses their values";
            return Err(Failure::new(Cause::Machine, message).help(help));
        }
        if let Some(chunk) = args.chunk {
            loaded.plan.run.chunk = chunk;
        }
        super::guard_calls(&loaded.plan, loaded.plan.series.iter().filter_map(Series::count))?;
        if args.to != ScriptKind::Json && args.through.is_none() && !is_guarded(args) {
            loaded.look_up_made(around);
        }
        if system.is_some() {
            tell_of_paths_here(&loaded.plan);
        }
        let loaded = &*loaded;
        let (steps, broken) = steps(args, loaded, around)?;
        built.push(Built { loaded, steps, broken });
    }
    let calls: usize = built.iter().map(|built| built.steps.len()).sum();
    if let Some(program) = &args.through {
        return through(program, &document(&built)?);
    }
    if let Some(cluster) = args.to.cluster() {
        return cluster::build(&cluster::Target { cluster, output, deliveries: &deliveries }, args, &built, around);
    }
    let Some(output) = output else {
        show::print_exact(&body(args, &built)?)?;
        return Ok(Exit::Well);
    };
    let Some(parts) = args.parts else {
        write(output, &body(args, &built)?, args, &deliveries)?;
        show::tell(&format!("{} in {}\n", show::counted(calls as i64, "call"), output.display()));
        // The process ends here; to free a hundred thousand calls one by one would take a good part of the whole.
        std::mem::forget(built);
        return Ok(Exit::Well);
    };
    std::fs::create_dir_all(output).map_err(|error| Failure::machine("make the folder", output, &error))?;
    for Built { loaded, steps, broken } in &built {
        let costs = costs(loaded)?;
        for (name, steps) in parts::named(&loaded.plan, steps, &costs, usize::try_from(parts).unwrap_or(1)) {
            let path = output.join(format!("{name}.{}", ending(args)));
            let part = Built { loaded, steps, broken: broken.clone() };
            write(&path, &body(args, &[part])?, args, &deliveries)?;
            show::tell(&format!("{}\n", path.display()));
        }
    }
    Ok(Exit::Well)
}

/// Whether the options fit to what is written.
fn fits(args: &BuildArgs) -> Result<(), Failure> {
    let tasks = args.to.cluster().is_some() && args.through.is_none();
    for (name, is_given) in [("--submit", args.submit), ("--plain", args.plain)] {
        if is_given && !tasks {
            let help = "add --to slurm or --to grid-engine, or remove it";
            return Err(Failure::unreadable(format!("{name} is for a cluster only")).help(help));
        }
    }
    if args.parts.is_some() && args.output.is_none() && !tasks {
        return Err(Failure::unreadable("--parts writes several files and needs a folder".to_owned())
            .help("give one: -o parts"));
    }
    Ok(())
}

/// Whether several files are written into a folder.
fn writes_parts(args: &BuildArgs) -> bool {
    args.parts.is_some() && args.to.cluster().is_none()
}

/// Whether this program makes each call: of a cluster's tasks it does unless it does not exist.
fn is_guarded(args: &BuildArgs) -> bool {
    args.guarded || args.to.cluster().is_some() && !args.plain
}

/// What frames were measured to cost.
fn costs(loaded: &Loaded) -> Result<Costs, Failure> {
    Ok(Costs::of(&loaded.plan, &journal::read(&loaded.state, Depth::Calls)?))
}

/// What is built of one sheet.
struct Built<'b> {
    loaded: &'b Loaded,
    steps: Vec<CommandLine>,
    broken: Broken,
}

/// Files that are there and have to be made again, by series and frame: their bytes.
type Broken = BTreeMap<(usize, i64), u64>;

/// Says which folders a script for another system names as they are called here.
fn tell_of_paths_here(plan: &Plan) {
    let roots = plan.roots.iter().filter_map(|root| Some((root.name.as_str(), root.path.as_deref()?)));
    let named: Vec<String> = std::iter::once(("the sheet's folder", plan.home.folder.as_str()))
        .chain(roots)
        .filter(|(_, path)| path.starts_with('/') && !path.starts_with("//"))
        .map(|(name, path)| format!("{name} ({path})"))
        .collect();
    if !named.is_empty() {
        let help = "give roots a path for windows, and build where the sheet has one: `renders = { windows = \"R:/renders\" }`";
        show::tell(&format!("note: Windows does not know these paths of this system: {}; {help}\n", named.join(", ")));
    }
}

/// The steps of one sheet, as this call wants them.
fn steps(args: &BuildArgs, loaded: &Loaded, around: &Surroundings) -> Result<(Vec<CommandLine>, Broken), Failure> {
    let (plan, command_lines) = (&loaded.plan, loaded.written_lines(around));
    let mut broken = Broken::new();
    let adapter = |job: &Job| loaded.adapter(job);
    let calls = calls_of(plan, &adapter).chain(movie_calls(plan));
    let calls: Vec<Call> = if args.missing {
        let told = |_: u64| {};
        let observation = Observation { plan, machine: &loaded.ground, look: Look::Heads, beside: &[], told: &told };
        let verdicts = observation.all()?;
        for verdict in &verdicts {
            let series = plan.output(verdict.series);
            broken.extend(verdict.in_state(State::Broken).iter().filter_map(|frame| {
                Some(((verdict.series, frame), std::fs::metadata(series.name(frame)).ok()?.len()))
            }));
        }
        let mut lost: Vec<_> = verdicts.iter().map(|verdict| outstanding(verdict, Existing::Keep)).collect();
        with_movies(plan, &mut lost, &verdicts);
        calls.flat_map(|call| command_lines.narrowed(&call, &lost)).collect()
    } else {
        calls.collect()
    };
    let most = match args.to {
        ScriptKind::Cmd => cmd::LONGEST - 700,
        // What Windows starts a program with at most (CreateProcess, lpCommandLine).
        ScriptKind::Powershell => 32_000,
        _ => 1 << 20,
    };
    let rendering = calls.par_iter().flat_map_iter(|call| command_lines.fitting(call, most));
    let mut steps = command_lines.exports(&calls, "");
    steps.par_extend(rendering);
    if is_guarded(args) {
        guard(args, loaded, around, &mut steps);
    }
    wait_for_frames(plan, &calls, &mut steps);
    // A script of ours ends a plan by itself, and so do the tasks of a cluster.
    if is_guarded(args) && (args.through.is_some() || args.to == ScriptKind::Json || args.common.json) {
        steps.extend(end(args, loaded, &steps));
    }
    Ok((steps, broken))
}

/// Lets each movie wait for the calls that write its frames.
fn wait_for_frames(plan: &Plan, calls: &[Call], steps: &mut [CommandLine]) {
    let unit = |id: &str| id.split('.').next().unwrap_or(id).to_owned();
    for movie in calls.iter().filter(|call| call.is_movie(plan)) {
        let sources = movie.sources(plan);
        let writers = calls.iter().filter(|call| call.series.iter().any(|at| sources.contains(at)));
        let writers: BTreeSet<String> = writers.map(|call| unit(&call.id)).collect();
        let needs: Vec<String> =
            steps.iter().filter(|step| writers.contains(&unit(&step.id))).map(|step| step.id.clone()).collect();
        steps.iter_mut().filter(|step| step.id == movie.id).for_each(|step| step.needs.clone_from(&needs));
    }
}

/// What `truepath run` has to be told to make the same calls, beside their names.
fn guard_words(args: &BuildArgs, loaded: &Loaded) -> Vec<String> {
    let mut common = vec!["run".to_owned(), "-f".to_owned(), paths::from_system(&loaded.sheet)];
    let lists = [
        ("--mode", &args.common.mode),
        ("--set", &args.common.set),
        ("--camera", &args.common.camera),
        ("--pass", &args.common.pass),
    ];
    for (name, values) in lists {
        common.extend(values.iter().flat_map(|value| [name.to_owned(), value.clone()]));
    }
    for (name, value) in [("--frames", &args.common.frames), ("--scale", &args.common.scale)] {
        common.extend(value.iter().flat_map(|value| [name.to_owned(), value.clone()]));
    }
    if args.is_final {
        common.push("--final".to_owned());
    }
    // A job that is not enabled is only there when it is named.
    common.extend(args.common.jobs.iter().cloned());
    // The names of calls depend on it, and somebody may edit the sheet before the last one begins.
    common.extend(["--chunk".to_owned(), loaded.plan.run.chunk.to_string()]);
    common
}

/// Lets `truepath run` make each call: it stages, checks and lands by itself.
fn guard(args: &BuildArgs, loaded: &Loaded, around: &Surroundings, steps: &mut Vec<CommandLine>) {
    let common = guard_words(args, loaded);
    // What stands behind a dot is a part of a call; `run` cuts a call by itself.
    for step in steps.iter_mut() {
        step.id.truncate(step.id.find('.').unwrap_or(step.id.len()));
    }
    steps.dedup_by(|second, first| second.id == first.id);
    for step in steps {
        // Whoever starts several at a time has them share the work; what comes after the plan is not theirs to start.
        let own = ["--share".to_owned(), "--only".to_owned(), step.id.clone()];
        step.arguments = common.iter().cloned().chain(own).collect();
        step.program = paths::from_system(&around.program);
        step.env.clear();
        // Its own log is written by the guard.
        step.log = format!("{}/{}.guard.log", paths::parent(&step.log), step.id);
        if args.to.cluster().is_none() {
            step.writes.clear();
        }
        step.product = None;
        step.files.clear();
    }
}

/// The call that ends a plan in a queue: it needs all others, whatever became of them.
fn end(args: &BuildArgs, loaded: &Loaded, steps: &[CommandLine]) -> Option<CommandLine> {
    let last = steps.last()?;
    let words = guard_words(args, loaded).into_iter().chain(["--share".to_owned()]);
    Some(CommandLine {
        id: "end".to_owned(),
        kind: CallKind::End,
        job: String::new(),
        passes: Vec::new(),
        frames: Frames::none(),
        arguments: words.collect(),
        log: format!("{}/end.guard.log", paths::parent(&last.log)),
        writes: Vec::new(),
        needs: steps.iter().map(|step| step.id.clone()).collect(),
        ..last.clone()
    })
}

fn document(built: &[Built<'_>]) -> Result<String, Failure> {
    let costs = built.iter().map(|own| costs(own.loaded)).collect::<Result<Vec<Costs>, Failure>>()?;
    let sheets: Vec<_> = built
        .iter()
        .zip(&costs)
        .map(|(own, costs)| script::json::Calls {
            plan: &own.loaded.plan,
            adapters: &own.loaded.adapters,
            steps: &own.steps,
            costs,
        })
        .collect();
    Ok(script::json::document(&sheets, &Cores))
}

fn body(args: &BuildArgs, built: &[Built<'_>]) -> Result<String, Failure> {
    if args.to == ScriptKind::Json || args.common.json {
        return document(built);
    }
    let [Built { loaded, steps, broken }] = built else {
        return Err(
            Failure::unreadable("a script can hold one sheet").help("build each sheet separately, or use --to json")
        );
    };
    let wish = Script {
        keep_going: args.keep_going,
        pause: args.pause,
        portable: false,
        is_task: false,
        adapters: &loaded.adapters,
        made: &loaded.ground.made_of,
        turn: loaded.ground.history.next_turn(),
        broken,
    };
    match args.to {
        ScriptKind::Cmd => cmd::script(&loaded.plan, steps, &wish, &Cores).map_err(|why| {
            Failure::unreadable(why).help("change the value, make calls shorter with --chunk, or use --to json")
        }),
        ScriptKind::Powershell => Ok(script::powershell::script(&loaded.plan, steps, &wish, &Cores)),
        _ => Ok(script::sh::script(&loaded.plan, steps, &wish, &Cores)),
    }
}

fn ending(args: &BuildArgs) -> &'static str {
    match args.to {
        _ if args.common.json => "json",
        ScriptKind::Sh => "sh",
        ScriptKind::Cmd => "cmd",
        ScriptKind::Powershell => "ps1",
        ScriptKind::Json => "json",
        ScriptKind::Slurm => "sbatch",
        ScriptKind::GridEngine => "qsub.sh",
    }
}

/// What may be written over: what True Path has built before, or what somebody names.
fn how(args: &BuildArgs) -> (Kind, Over<'static>) {
    let mark = if ending(args) == "json" { script::json::MARK } else { script::MARK };
    (Kind::Text, deliver::over(args.replace, mark))
}

fn write(path: &Path, body: &str, args: &BuildArgs, deliveries: &Deliveries) -> Result<(), Failure> {
    let delivery = deliveries.open(path, how(args))?;
    match ending(args) {
        "sh" | "sbatch" | "qsub.sh" => delivery.write_program(body.as_bytes()),
        _ => delivery.write(body.as_bytes()),
    }
}

/// Hands the JSON to a program on its standard input.
fn through(program: &Path, document: &str) -> Result<Exit, Failure> {
    let failed = |error: std::io::Error| Failure::machine("start", program, &error);
    let mut child = Command::new(program).stdin(Stdio::piped()).spawn().map_err(failed)?;
    if let Some(mut input) = child.stdin.take() {
        // A program that has seen enough may close its input early; its exit code tells.
        let _ = input.write_all(document.as_bytes());
    }
    let status = child.wait().map_err(failed)?;
    if status.success() {
        return Ok(Exit::Well);
    }
    Err(Failure::new(Cause::Program, format!("{} ended with {status}", program.display())))
}
