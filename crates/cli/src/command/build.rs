//! `build`: the command lines, as scripts, as JSON, or handed to another program or to a cluster's scheduler.

use std::fs::File;
use std::path::Path;

use truepath_core::plan::Plan;
use truepath_core::run::cost::Costs;
use truepath_exec::failure::Failure;
use truepath_exec::guard::{Deliveries, Kind, Over};
use truepath_project::build::{self, BuildRequest, Built, CallForm, Tasks, WantedCalls, calls_in_words};

use super::deliver::{self, Beside};
use crate::args::{AnewValues, BuildArgs};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions};
use crate::show::progress::span;
use crate::show::told::Told;
use crate::show::{self, counted};

/// Stands for any of the files of `--parts`, whose names follow from the plan.
const PART: &str = "part";

/// Writes all calls of the plan.
pub fn run(args: &BuildArgs, around: &Around) -> Result<Exit, Failure> {
    fits(args)?;
    let output = args.output.as_deref().filter(|output| !deliver::is_standard_output(output));
    if let Some(output) = output.filter(|output| output.is_dir()) {
        return Err(is_folder(output, args));
    }
    // A script for Windows alone is for Windows, wherever it is built.
    let system = match args.form() {
        CallForm::Script(target) => target.system().filter(|system| *system != truepath_project::system()),
        CallForm::Document | CallForm::Tasks(_) => None,
    };
    let anew = AnewValues::of(args.anew);
    let mut queue = pipeline::load(&args.common, around, LoadOptions { anew, system, ..LoadOptions::default() })?;
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
    let again = args.again();
    let request = args.request(&again);
    for loaded in &mut queue.sheets {
        build::prepare(loaded, &request, around, &Told::new(around))?;
        if system.is_some() {
            tell_of_paths_here(&loaded.plan);
        }
    }
    let sheets = queue.sheets.iter().map(|loaded| WantedCalls::of(&request, loaded, around));
    let wanted = sheets.collect::<Result<Vec<_>, Failure>>()?;
    if matches!(request.form, CallForm::Document) && (args.parts.is_none() || args.through.is_some()) {
        return json(args, wanted, (output, &deliveries));
    }
    let built: Vec<Built<'_>> = wanted.into_iter().map(Built::from).collect();
    let target = ScriptTarget { output, deliveries: &deliveries, args, request: &request };
    match (request.form, args.parts.zip(args.into.as_deref())) {
        (CallForm::Tasks(_), _) => tasks(&target, &built, around),
        (_, Some((parts, folder))) => in_parts(&target, &built, (parts, folder)),
        (_, None) => script(&target, built),
    }
}

/// Where a script goes.
struct ScriptTarget<'t> {
    /// The file that was named.
    output: Option<&'t Path>,
    /// What may be written there.
    deliveries: &'t Deliveries,
    /// What was typed.
    args: &'t BuildArgs,
    /// What is asked of the project.
    request: &'t BuildRequest<'t>,
}

/// One script.
fn script(target: &ScriptTarget<'_>, built: Vec<Built<'_>>) -> Result<Exit, Failure> {
    let ScriptTarget { args, request, .. } = *target;
    let calls: usize = built.iter().map(|built| built.steps.len()).sum();
    let text = body(build::only(&built, request.form)?, request)?;
    let Some(output) = target.output else {
        show::print_exact(&text)?;
        return Ok(Exit::Well);
    };
    write(output, text.as_bytes(), args, target.deliveries)?;
    show::tell(&format!("{} in {}\n", calls_in_words(calls), output.display()));
    // The process ends here; to free a hundred thousand calls one by one would take a good part of the whole.
    std::mem::forget(built);
    Ok(Exit::Well)
}

/// A file for each part.
fn in_parts(target: &ScriptTarget<'_>, built: &[Built<'_>], (parts, folder): (u64, &Path)) -> Result<Exit, Failure> {
    let ScriptTarget { args, request, .. } = *target;
    std::fs::create_dir_all(folder).map_err(|error| Failure::machine("make the folder", folder, &error))?;
    let parts = usize::try_from(parts).unwrap_or(1);
    for own in built {
        let costs = build::costs(own.loaded)?;
        for (name, steps) in build::in_parts(&own.loaded.plan, &own.steps, &costs, parts) {
            let path = folder.join(format!("{name}.{}", request.form.extension()));
            let text = match request.form {
                CallForm::Document => build::of_part(own.loaded, &steps, &costs)
                    .map_err(|error| Failure::machine("write", &path, &error))?,
                _ => body(&own.part(steps), request)?.into_bytes(),
            };
            write(&path, &text, args, target.deliveries)?;
            show::tell(&format!("{}\n", path.display()));
        }
    }
    Ok(Exit::Well)
}

/// The script of an array of tasks; submitted, where that is asked for.
fn tasks(target: &ScriptTarget<'_>, built: &[Built<'_>], around: &Around) -> Result<Exit, Failure> {
    let ScriptTarget { args, request, .. } = *target;
    let own = build::only(built, request.form)?;
    let CallForm::Tasks(cluster) = request.form else { return Ok(Exit::Well) };
    let count = args.parts.and_then(|parts| usize::try_from(parts).ok());
    let Some(tasks) = Tasks::of((own, cluster), request, count, around)? else {
        show::tell("nothing to render: no tasks were written\n");
        return Ok(Exit::Well);
    };
    if let Some((wanted, called)) = tasks.limited {
        let count = tasks.count;
        show::tell(&format!(
            "note: {count} tasks instead of {wanted}: the scheduler takes no larger array ({called})\n"
        ));
    }
    tasks.keep(own)?;
    let path = match (target.output, args.submit) {
        (Some(output), _) => {
            write(output, tasks.text.as_bytes(), args, target.deliveries)?;
            output
        }
        (None, true) => tasks.keep_script()?,
        (None, false) => {
            show::print_exact(&tasks.text)?;
            return Ok(Exit::Well);
        }
    };
    tell_of_tasks(&tasks, path);
    if !args.submit {
        show::tell(&format!("submit it: sh {}\n", super::pasted(&[path.display().to_string()])));
        return Ok(Exit::Well);
    }
    let submitted = build::submit(tasks.cluster(), path)?;
    show::tell(&submitted.said);
    if !submitted.noted.is_empty() {
        show::tell(&format!("{}\n", submitted.noted));
    }
    show::tell("`truepath status` shows what each task renders\n");
    Ok(Exit::Well)
}

fn tell_of_tasks(tasks: &Tasks, path: &Path) {
    let each = match tasks.longest {
        Some(seconds) => format!("; the longest takes about {}", span(seconds)),
        None => "; their time is not known yet: measure it with `truepath estimate --measure +24`".to_owned(),
    };
    show::tell(&format!("{} in {}{each}\n", counted(tasks.count as i64, "task"), path.display()));
    let time = tasks.time.map(|time| format!("{} min", time.as_secs().div_ceil(60).max(1)));
    let memory = tasks.memory.map(|bytes| format!("{} MB", bytes.div_ceil(1 << 20)));
    let asked: Vec<String> = time.into_iter().chain(memory).collect();
    if !asked.is_empty() {
        show::tell(&format!("each task asks for {}\n", asked.join(" and ")));
    }
}

fn is_folder(output: &Path, args: &BuildArgs) -> Failure {
    let help = format!(
        "give a file, such as -o {}, or write several scripts into the folder with --parts N --into {}",
        output.join(format!("render.{}", args.form().extension())).display(),
        output.display()
    );
    Failure::unreadable(format!("{} is a folder", output.display())).help(help)
}

/// Whether the options fit to what is written.
fn fits(args: &BuildArgs) -> Result<(), Failure> {
    let is_tasks = matches!(args.form(), CallForm::Tasks(_));
    for (name, is_given) in [("--submit", args.submit), ("--plain", args.plain)] {
        if is_given && !is_tasks {
            let help = "add --to slurm or --to grid-engine, or remove it";
            return Err(Failure::unreadable(format!("{name} is for a cluster only")).help(help));
        }
    }
    if args.pause && !args.is_cmd() {
        return Err(Failure::unreadable("--pause is for a script for cmd").help("add --to cmd, or remove it"));
    }
    if args.common.json && is_tasks {
        let help = "remove one of them; --to json writes the calls for any queue";
        return Err(Failure::unreadable("a script for a cluster is not JSON").help(help));
    }
    if args.parts.is_some() && args.into.is_none() && !is_tasks {
        return Err(Failure::unreadable("--parts writes several files and needs a folder".to_owned())
            .help("give one: --into parts"));
    }
    if args.into.is_some() && is_tasks {
        return Err(Failure::unreadable("the script for a cluster is one file, whatever its --parts")
            .help("give its name: -o render.sh"));
    }
    if args.replace && args.output.is_none() && args.into.is_none() {
        return Err(Failure::unreadable("--replace is for a file that is written").help("add -o FILE, or remove it"));
    }
    Ok(())
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
    let costs = wanted.iter().map(|wanted| build::costs(wanted.loaded)).collect::<Result<Vec<Costs>, Failure>>()?;
    let all: Vec<(WantedCalls<'_>, Costs)> = wanted.into_iter().zip(costs).collect();
    if let Some(program) = &args.through {
        return build::through(program, &all).map(|()| Exit::Well);
    }
    let Some(output) = output else {
        return show::print_through(|out| build::write(&all, out).map(drop)).map(|()| Exit::Well);
    };
    let delivery = deliveries.open(output, how(args))?;
    let written = File::create_new(delivery.staged()).and_then(|mut file| build::write(&all, &mut file));
    let calls = written.map_err(|error| Failure::machine("write", output, &error))?;
    delivery.put()?;
    show::tell(&format!("{} in {}\n", calls_in_words(calls), output.display()));
    Ok(Exit::Well)
}

fn body(built: &Built<'_>, request: &BuildRequest<'_>) -> Result<String, Failure> {
    match request.form {
        CallForm::Script(target) => built.script(target, request),
        CallForm::Document | CallForm::Tasks(_) => Ok(String::new()),
    }
}

/// What may be written over: what True Path has built before, or what somebody names.
fn how(args: &BuildArgs) -> (Kind, Over<'static>) {
    (Kind::Text, deliver::over(args.replace, args.form().mark()))
}

fn write(path: &Path, body: &[u8], args: &BuildArgs, deliveries: &Deliveries) -> Result<(), Failure> {
    let delivery = deliveries.open(path, how(args))?;
    if args.form().is_program() { delivery.write_program(body) } else { delivery.write(body) }
}
