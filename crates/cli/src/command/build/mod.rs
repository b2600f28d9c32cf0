//! `build`: the command lines, as scripts, as JSON, or handed to another program or to a cluster's scheduler.

mod calls;
mod cluster;
mod document;
mod parts;
mod submit;

use std::fs::File;
use std::path::Path;

use truepath_core::invoke::command_line::CommandLine;
use truepath_core::invoke::script::{self, Script, cmd};
use truepath_core::plan::{Plan, Series};
use truepath_core::run::cost::Costs;
use truepath_core::run::history::Depth;
use truepath_core::sheet::System;

use crate::args::{AnewValues, BuildArgs, ScriptKind};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::{Deliveries, Kind, Over};
use truepath_exec::state::journal;
use truepath_exec::threads::Cores;

use self::calls::{Broken, WantedCalls};
use super::deliver::{self, Beside};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Loaded};
use crate::show;

/// Stands for any of the files of `--parts`, whose names follow from the plan.
const PART: &str = "part";

/// Writes all calls of the plan.
pub fn run(args: &BuildArgs, around: &Around) -> Result<Exit, Failure> {
    fits(args)?;
    let output = args.output.as_deref().filter(|output| !deliver::is_standard_output(output));
    if let Some(output) = output.filter(|output| output.is_dir()) {
        let help = format!(
            "give a file, such as -o {}, or write several scripts into the folder with --parts N --into {}",
            output.join(format!("render.{}", ending(args))).display(),
            output.display()
        );
        return Err(Failure::unreadable(format!("{} is a folder", output.display())).help(help));
    }
    // A script for cmd is for Windows, wherever it is built.
    let system =
        (args.to == ScriptKind::Cmd).then_some(System::Windows).filter(|system| *system != truepath_project::system());
    let mut queue = pipeline::load(
        &args.common,
        around,
        LoadOptions { anew: AnewValues::of(args.anew), system, ..LoadOptions::default() },
    )?;
    super::tell_findings(&queue, around);
    if let Some(stop) = queue.stopped_here() {
        return Ok(stop.into());
    }
    let deliveries = Beside { common: &args.common, queue: Some(&queue), around }.deliveries(
        output.map(Path::to_owned).or(args.into.as_ref().map(|folder| folder.join(PART))).as_deref(),
        |_| {},
    );
    if let Some(output) = output {
        deliveries.judge(output, how(args))?;
    }
    let mut wanted = Vec::new();
    for loaded in &mut queue.sheets {
        loaded.guard_start(args.is_final)?;
        if !loaded.pin(AnewValues::of(args.anew))? {
            let message = "another True Path pinned other values for this sheet at the same time".to_owned();
            let help = "run the command again; it uses their values";
            return Err(Failure::new(Cause::Machine, message).help(help));
        }
        if let Some(chunk) = args.chunk {
            loaded.plan.run.chunk = chunk;
        }
        truepath_project::guards::calls(&loaded.plan, loaded.plan.series.iter().filter_map(Series::count))?;
        if args.to != ScriptKind::Json && args.through.is_none() && !is_guarded(args) {
            pipeline::look_up_made(loaded, around);
        }
        if system.is_some() {
            tell_of_paths_here(&loaded.plan);
        }
        let loaded = &*loaded;
        wanted.push(WantedCalls::of(args, loaded, around)?);
    }
    if is_json(args) && (args.parts.is_none() || args.through.is_some()) {
        return json(args, wanted, (output, &deliveries));
    }
    let built: Vec<Built<'_>> = wanted.into_iter().map(Built::from).collect();
    let calls: usize = built.iter().map(|built| built.steps.len()).sum();
    if let Some(cluster) = args.to.cluster() {
        return cluster::build(
            &cluster::ScriptTarget { cluster, output, deliveries: &deliveries },
            args,
            &built,
            around,
        );
    }
    let Some((parts, folder)) = args.parts.zip(args.into.as_deref()) else {
        let Some(output) = output else {
            show::print_exact(&body(args, &built)?)?;
            return Ok(Exit::Well);
        };
        write(output, body(args, &built)?.as_bytes(), args, &deliveries)?;
        show::tell(&format!("{} in {}\n", show::counted(calls as i64, "call"), output.display()));
        // The process ends here; to free a hundred thousand calls one by one would take a good part of the whole.
        std::mem::forget(built);
        return Ok(Exit::Well);
    };
    std::fs::create_dir_all(folder).map_err(|error| Failure::machine("make the folder", folder, &error))?;
    for Built { loaded, steps, broken } in &built {
        let costs = costs(loaded)?;
        for (name, steps) in parts::named(&loaded.plan, steps, &costs, usize::try_from(parts).unwrap_or(1)) {
            let path = folder.join(format!("{name}.{}", ending(args)));
            let text = if is_json(args) {
                document::of_part(loaded, &steps, &costs).map_err(|error| Failure::machine("write", &path, &error))?
            } else {
                body(args, &[Built { loaded, steps, broken: broken.clone() }])?.into_bytes()
            };
            write(&path, &text, args, &deliveries)?;
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
    if args.pause && args.to != ScriptKind::Cmd {
        return Err(Failure::unreadable("--pause is for a script for cmd").help("add --to cmd, or remove it"));
    }
    if args.common.json && tasks {
        let help = "remove one of them; --to json writes the calls for any queue";
        return Err(Failure::unreadable("a script for a cluster is not JSON").help(help));
    }
    if args.parts.is_some() && args.into.is_none() && !tasks {
        return Err(Failure::unreadable("--parts writes several files and needs a folder".to_owned())
            .help("give one: --into parts"));
    }
    if args.into.is_some() && tasks {
        return Err(Failure::unreadable("the script for a cluster is one file, whatever its --parts")
            .help("give its name: -o render.sh"));
    }
    if args.replace && args.output.is_none() && args.into.is_none() {
        return Err(Failure::unreadable("--replace is for a file that is written").help("add -o FILE, or remove it"));
    }
    Ok(())
}

/// Whether True Path makes each call on the machine that renders. In the tasks of a cluster it does, unless `--plain` says that
/// it is not installed there.
fn is_guarded(args: &BuildArgs) -> bool {
    args.guarded || args.to.cluster().is_some() && !args.plain
}

/// What frames were measured to cost.
fn costs(loaded: &Loaded) -> Result<Costs, Failure> {
    Ok(Costs::of(&loaded.plan, &journal::read(&loaded.state, Depth::Calls)?, &loaded.ground.made_of))
}

/// What is built of one sheet.
struct Built<'b> {
    loaded: &'b Loaded,
    steps: Vec<CommandLine>,
    broken: Broken,
}

impl<'b> From<WantedCalls<'b>> for Built<'b> {
    fn from(wanted: WantedCalls<'b>) -> Built<'b> {
        Built { loaded: wanted.loaded, steps: wanted.steps(), broken: wanted.broken }
    }
}

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

/// Writes the document of all calls to where it is wanted.
fn json(
    args: &BuildArgs,
    wanted: Vec<WantedCalls<'_>>,
    (output, deliveries): (Option<&Path>, &Deliveries),
) -> Result<Exit, Failure> {
    let costs = wanted.iter().map(|wanted| costs(wanted.loaded)).collect::<Result<Vec<Costs>, Failure>>()?;
    let all: Vec<(WantedCalls<'_>, Costs)> = wanted.into_iter().zip(costs).collect();
    if let Some(program) = &args.through {
        return document::through(program, &all);
    }
    let Some(output) = output else {
        return show::print_through(|out| document::write(&all, out).map(drop)).map(|()| Exit::Well);
    };
    let delivery = deliveries.open(output, how(args))?;
    let written = File::create_new(delivery.staged()).and_then(|mut file| document::write(&all, &mut file));
    let calls = written.map_err(|error| Failure::machine("write", output, &error))?;
    delivery.put()?;
    show::tell(&format!("{} in {}\n", show::counted(calls as i64, "call"), output.display()));
    Ok(Exit::Well)
}

/// Whether calls are written as JSON.
fn is_json(args: &BuildArgs) -> bool {
    args.to == ScriptKind::Json || args.through.is_some() || args.common.json && args.to.cluster().is_none()
}

fn body(args: &BuildArgs, built: &[Built<'_>]) -> Result<String, Failure> {
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
            Failure::of(Cause::Unreadable, why)
                .help("change the value, make calls shorter with --chunk, or use --to json")
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
        ScriptKind::Slurm | ScriptKind::GridEngine => args.to.cluster().map_or("", |cluster| cluster.extension()),
    }
}

/// What may be written over: what True Path has built before, or what somebody names.
fn how(args: &BuildArgs) -> (Kind, Over<'static>) {
    let mark = if ending(args) == "json" { script::json::MARK } else { script::MARK };
    (Kind::Text, deliver::over(args.replace, mark))
}

fn write(path: &Path, body: &[u8], args: &BuildArgs, deliveries: &Deliveries) -> Result<(), Failure> {
    let delivery = deliveries.open(path, how(args))?;
    match ending(args) {
        "json" | "cmd" | "ps1" => delivery.write(body),
        _ => delivery.write_program(body),
    }
}
