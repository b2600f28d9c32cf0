//! `build`: the command lines, as scripts, as JSON, or handed to another program.

use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

use rayon::iter::{IntoParallelRefIterator, ParallelExtend, ParallelIterator};
use truepath_core::invoke::command_line::CommandLine;
use truepath_core::invoke::script::{self, Script, cmd};
use truepath_core::plan::{Call, Plan, calls_of};
use truepath_core::resolve::{Job, paths};
use truepath_core::run::outstanding::outstanding;
use truepath_core::sheet::Existing;
use truepath_core::template::slug;

use crate::args::{BuildArgs, ScriptKind};
use truepath_exec::disk;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::observe::{Look, Observation};
use truepath_exec::threads::Cores;

use crate::exit_code::Exit;
use crate::lower::Surroundings;
use crate::pipeline::{self, LoadOptions, Loaded};
use crate::show;

/// Writes all calls of the plan.
pub fn run(args: &BuildArgs, around: &Surroundings) -> Result<Exit, Failure> {
    let mut queue = pipeline::load(&args.common, around, LoadOptions { anew: args.anew, ..LoadOptions::default() })?;
    super::tell_findings(&queue, around);
    if let Some(exit) = queue.stopped_here() {
        return Ok(exit);
    }
    let mut built = Vec::new();
    for loaded in &mut queue.sheets {
        super::guard_final(loaded, args.is_final)?;
        super::need_adapters(loaded)?;
        if !super::pin(loaded, args.anew)? {
            let message = "somebody else pinned other values for this sheet in this moment".to_owned();
            let help = "run the same command again: their values hold now";
            return Err(Failure::new(Cause::Machine, message).help(help));
        }
        if let Some(chunk) = args.chunk {
            loaded.plan.run.chunk = chunk;
        }
        let steps = steps(args, loaded, around)?;
        built.push((&loaded.plan, steps));
    }
    let calls: usize = built.iter().map(|(_, steps)| steps.len()).sum();
    if let Some(program) = &args.through {
        return through(program, &script::json::document(&built, &Cores));
    }
    let Some(output) = &args.output else {
        show::print(&body(args, &built)?)?;
        return Ok(Exit::Well);
    };
    let Some(parts) = args.parts else {
        write(output, &body(args, &built)?, args)?;
        show::tell(&format!("{} in {}\n", show::counted(calls as i64, "call"), output.display()));
        // The process ends here; to free a hundred thousand calls one by one would take a good part of the whole.
        std::mem::forget(built);
        return Ok(Exit::Well);
    };
    std::fs::create_dir_all(output).map_err(|error| Failure::machine("make the folder", output, &error))?;
    for (plan, steps) in &built {
        for (name, part) in evenly(steps, usize::try_from(parts).unwrap_or(1)) {
            let path = output.join(format!("{name}.{}", ending(args)));
            write(&path, &body(args, &[(plan, part)])?, args)?;
            show::tell(&format!("{}\n", path.display()));
        }
    }
    Ok(Exit::Well)
}

/// The steps of one sheet, as this call wants them.
fn steps(args: &BuildArgs, loaded: &Loaded, around: &Surroundings) -> Result<Vec<CommandLine>, Failure> {
    let (plan, command_lines) = (&loaded.plan, loaded.command_lines(around));
    let adapter = |job: &Job| loaded.adapter(job);
    let calls = calls_of(plan, &adapter);
    let calls: Vec<Call> = if args.missing {
        let told = |_: u64| {};
        let observation =
            Observation { plan, machine: &loaded.ground, look: Look::Heads, beside: &[], told: &told };
        let lost: Vec<_> = observation.verdicts()?.iter().map(|verdict| outstanding(verdict, Existing::Keep)).collect();
        calls.flat_map(|call| command_lines.narrowed(&call, &lost)).collect()
    } else {
        calls.collect()
    };
    let most = if args.to == ScriptKind::Cmd { cmd::LONGEST - 700 } else { 1 << 20 };
    let rendering = calls.par_iter().flat_map_iter(|call| command_lines.fitting(call, most));
    let mut steps = if args.guarded { Vec::new() } else { command_lines.exports(&calls) };
    steps.par_extend(rendering);
    if args.guarded {
        guard(args, loaded, around, &mut steps);
    }
    Ok(steps)
}

/// Lets `truepath run` make each call: it stages, checks and lands by itself.
fn guard(args: &BuildArgs, loaded: &Loaded, around: &Surroundings, steps: &mut Vec<CommandLine>) {
    let mut common = vec!["run".to_owned(), "-f".to_owned(), paths::from_system(&loaded.sheet)];
    for (name, values) in [("--mode", &args.common.mode), ("--set", &args.common.set)] {
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
    common.extend(args.chunk.iter().flat_map(|chunk| ["--chunk".to_owned(), chunk.to_string()]));
    // What stands behind a dot is a part of a call; `run` cuts a call by itself.
    for step in steps.iter_mut() {
        step.id.truncate(step.id.find('.').unwrap_or(step.id.len()));
    }
    steps.dedup_by(|second, first| second.id == first.id);
    for step in steps {
        step.arguments = common.iter().cloned().chain(["--only".to_owned(), step.id.clone()]).collect();
        step.program = paths::from_system(&around.program);
        step.env.clear();
        // Its own log is written by the guard.
        step.log = format!("{}/{}.guard.log", paths::parent(&step.log), step.id);
        step.writes.clear();
    }
}

fn body(args: &BuildArgs, built: &[(&Plan, Vec<CommandLine>)]) -> Result<String, Failure> {
    if args.to == ScriptKind::Json || args.common.json {
        return Ok(script::json::document(built, &Cores));
    }
    let [(plan, steps)] = built else {
        return Err(
            Failure::unreadable("a script holds one sheet").help("build each sheet for itself, or take --to json")
        );
    };
    let wish = Script { keep_going: args.keep_going, pause: args.pause };
    match args.to {
        ScriptKind::Cmd => cmd::script(plan, steps, &wish, &Cores).map_err(|why| {
            Failure::unreadable(why).help("take another value, shorter calls with --chunk, or --to json")
        }),
        _ => Ok(script::sh::script(plan, steps, &wish, &Cores)),
    }
}

fn ending(args: &BuildArgs) -> &'static str {
    match args.to {
        _ if args.common.json => "json",
        ScriptKind::Sh => "sh",
        ScriptKind::Cmd => "cmd",
        ScriptKind::Json => "json",
    }
}

fn write(path: &Path, body: &str, args: &BuildArgs) -> Result<(), Failure> {
    let failed = |error: std::io::Error| Failure::machine("write", path, &error);
    std::fs::write(path, body).map_err(failed)?;
    if ending(args) == "sh" { disk::make_executable(path).map_err(failed) } else { Ok(()) }
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

/// Steps in parts of about the same number of files, each with its name: job and range. Steps that others need come with
/// every part that needs them.
fn evenly(steps: &[CommandLine], parts: usize) -> Vec<(String, Vec<CommandLine>)> {
    let weight = |step: &CommandLine| step.frames.count() * step.passes.len().max(1) as i64;
    let (exports, rest): (Vec<&CommandLine>, Vec<&CommandLine>) = steps.iter().partition(|step| step.product.is_some());
    let all: i64 = rest.iter().map(|step| weight(step)).sum();
    let parts = parts.min(rest.len().max(1));
    let (mut done, mut made): (i64, Vec<Vec<&CommandLine>>) = (0, vec![Vec::new(); parts]);
    for step in &rest {
        // The part in whose share the middle of this step falls.
        let at = (2 * done + weight(step)) as usize * parts / (2 * all.max(1)) as usize;
        made[at.min(parts - 1)].push(step);
        done += weight(step);
    }
    let made = made.into_iter().filter(|part| !part.is_empty()).enumerate();
    let named = made.map(|(at, part)| {
        let needed = exports.iter().filter(|export| part.iter().any(|step| step.needs.contains(&export.id)));
        let own: Vec<CommandLine> = needed.chain(&part).map(|step| (*step).clone()).collect();
        (part_name(at + 1, &part), own)
    });
    named.collect()
}

fn part_name(number: usize, part: &[&CommandLine]) -> String {
    let (Some(first), Some(last)) = (part.first(), part.last()) else { return String::new() };
    let (from, to) = (first.frames.first().unwrap_or(0), last.frames.last().unwrap_or(0));
    if first.job == last.job {
        let most = part.iter().filter_map(|step| step.frames.last()).max().unwrap_or(to);
        let least = part.iter().filter_map(|step| step.frames.first()).min().unwrap_or(from);
        format!("{number:02}_{}_{least}-{most}", slug(&first.job))
    } else {
        format!("{number:02}_{}_{from}-{}_{to}", slug(&first.job), slug(&last.job))
    }
}
