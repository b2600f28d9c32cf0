//! What comes before the first frame: prerequisites that a program can be asked about, and exports of scenes. What goes
//! wrong concerns the jobs that need it, and no other.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::time::Duration;

use truepath_core::adapter::Adapter;
use truepath_core::invoke;
use truepath_core::invoke::command_line::{CommandLine, Product};
use truepath_core::plan::{Adapters, Call, Plan};
use truepath_core::run::event::{Ended, Event, Started};
use truepath_core::sheet::Key;

use crate::Project;
use crate::failure::{Cause, Failure};
use crate::landing::stage;
use crate::process::{self, Listener, Programs, Start, identity};
use crate::record::answer;
use crate::state::journal::{Journal, millis};

/// How long a command that an adapter needs may take.
const PATIENCE: Duration = Duration::from_secs(60);

/// Jobs that cannot be rendered, by their place in the plan, and why.
pub type Blocked = BTreeMap<usize, Failure>;

/// Runs the commands that the adapters of some calls need to end with 0. `own` is this program.
#[must_use]
pub fn needs(plan: &Plan, adapters: &Adapters, calls: &[Call], own: &Path) -> Blocked {
    let jobs: BTreeSet<usize> = calls.iter().map(|call| call.job).collect();
    let mut answers: BTreeMap<&str, Option<Failure>> = BTreeMap::new();
    let mut blocked = Blocked::new();
    for job in jobs {
        let settings = &plan.jobs[job].given;
        let names = [settings.text(&Key::Adapter), settings.text(&Key::Export)];
        for name in names.into_iter().flatten() {
            let Some(adapter) = adapters.get(name) else { continue };
            let answer = answers.entry(name).or_insert_with(|| unmet(adapter, &plan.home.folder, own));
            if let Some(failure) = answer {
                blocked.entry(job).or_insert_with(|| failure.clone());
            }
        }
    }
    blocked
}

/// Why a need of an adapter is not met.
fn unmet(adapter: &Adapter, folder: &str, own: &Path) -> Option<Failure> {
    adapter.needs.run.iter().find_map(|words| {
        let (program, arguments) = words.split_first()?;
        let program = if program == "truepath" { own.as_os_str() } else { program.as_ref() };
        let said = answer::ask(Path::new(program), arguments, Path::new(folder), (PATIENCE, true));
        let why = match said {
            Ok(said) if said.code == Some(0) => return None,
            Ok(said) => said.code.map_or("a signal ended it".to_owned(), |code| format!("it ended with {code}")),
            Err(why) => why,
        };
        let message =
            format!("{} needs the command `{}` to succeed, and it failed: {why}", adapter.name, words.join(" "));
        let help = "the adapter requires it under [needs]; no job that uses it was started";
        Some(Failure::new(Cause::Machine, message).help(help))
    })
}

/// Makes the products that are missing, and those that were made from other sources.
///
/// # Errors
/// When the journal cannot be written.
pub fn make(
    project: Project<'_>,
    calls: &[Call],
    journal: &Journal,
    programs: &dyn Programs,
) -> Result<Blocked, Failure> {
    let mut blocked = Blocked::new();
    for step in project.command_lines.exports(calls) {
        let Some(product) = &step.product else { continue };
        if let Some(failure) = made(project, (&step, product), journal, programs)? {
            let jobs =
                calls.iter().map(|call| call.job).filter(|job| project.command_lines.export_of(*job) == Some(&step.id));
            blocked.extend(jobs.map(|job| (job, failure.clone())));
        }
    }
    Ok(blocked)
}

/// Makes one product, unless it is already there; why it could not.
fn made(
    project: Project<'_>,
    (step, product): (&CommandLine, &Product),
    journal: &Journal,
    programs: &dyn Programs,
) -> Result<Option<Failure>, Failure> {
    let digest = match digest(step, project.command_lines.plan) {
        Ok(digest) => digest,
        Err(error) => return Ok(Some(Failure::machine("read the scene of", &step.job, &error))),
    };
    let mark = format!("{}.of", product.path);
    let fresh =
        Path::new(&product.path).is_file() && crate::disk::text(Path::new(&mark)).is_ok_and(|old| old == digest);
    if fresh {
        return Ok(None);
    }
    let failed = export((step, product), project, journal, programs)?;
    let marked = || std::fs::write(&mark, digest).map_err(|error| Failure::machine("write", &mark, &error));
    Ok(failed.or_else(|| marked().err()))
}

/// What a product depends on: the scene's bytes and all that its exporter is told.
fn digest(step: &CommandLine, plan: &Plan) -> std::io::Result<String> {
    let mut hash = blake3::Hasher::new();
    let job = plan.jobs.iter().find(|job| job.name == step.job);
    if let Some(scene) = job.and_then(|job| job.scene.as_ref()) {
        hash.update_reader(crate::disk::open(Path::new(&scene.value))?)?;
    }
    let env = step.env.iter().flat_map(|(name, value)| [name, value]);
    let files = step.files.iter().flat_map(|file| [&file.path, &file.text]);
    let words = [&step.program, &step.folder].into_iter().chain(&step.arguments);
    for word in words.chain(env).chain(files) {
        hash.update(word.as_bytes()).update(b"\0");
    }
    Ok(hash.finalize().to_hex().to_string())
}

/// An exporter while it runs.
struct Hearing<'h> {
    step: &'h CommandLine,
    journal: &'h Journal,
    last: String,
    told: Result<(), Failure>,
}

impl Listener for Hearing<'_> {
    fn began(&mut self, process: u32) {
        let started = Started {
            call: self.step.id.clone(),
            job: self.step.job.clone(),
            process,
            born: identity::born(process),
            log: self.step.log.clone(),
            t: self.journal.t(),
            ..Started::default()
        };
        self.told = self.journal.write(&Event::Started(started));
    }

    fn line(&mut self, line: &str) {
        line.clone_into(&mut self.last);
    }

    fn due(&self) -> Option<std::time::Instant> {
        None
    }

    fn tick(&mut self) {}
}

/// Runs one exporter; why it made nothing.
fn export(
    (step, product): (&CommandLine, &Product),
    project: Project<'_>,
    journal: &Journal,
    programs: &dyn Programs,
) -> Result<Option<Failure>, Failure> {
    let staged = Path::new(&product.staged);
    let folder = staged.parent().unwrap_or(Path::new("."));
    if let Err(failure) = stage::prepare(folder) {
        return Ok(Some(failure));
    }
    if let Err(failure) = stage::write_files(step) {
        return Ok(Some(failure));
    }
    let start = Start {
        program: &step.program,
        arguments: &step.arguments,
        env: &step.env,
        folder: &step.folder,
        files: &step.files,
        log: Some((Path::new(&step.log), project.command_lines.plan.run.log_limit)),
        errors: None,
        mark: "",
    };
    let began = std::time::Instant::now();
    let mut hearing = Hearing { step, journal, last: String::new(), told: Ok(()) };
    let ending = match process::run(programs, &start, &mut hearing) {
        Ok(ending) => ending,
        Err(error) => return Ok(Some(Failure::unstarted(step, &error))),
    };
    let last = hearing.last;
    hearing.told?;
    let lines = project.command_lines;
    let job = lines.plan.jobs.iter().find(|job| job.name == step.job);
    let adapter = job.and_then(|job| invoke::export::exporter(job, lines.adapters));
    let ok = adapter.is_some_and(|adapter| adapter.exit.is_good(ending));
    // After another exit code nobody can tell whether what it wrote is whole.
    let made = ok && staged.metadata().is_ok_and(|about| about.len() > 0);
    journal.write(&Event::Ended(Ended {
        call: step.id.clone(),
        code: ending.code(),
        ok,
        files: i64::from(made),
        seconds: millis(began.elapsed().as_secs_f64()),
        log: step.log.clone(),
        why: (!made).then(|| "wrote no file".to_owned()),
        t: journal.t(),
        ..Ended::default()
    }))?;
    if !made {
        let how = ending.words();
        let message = format!("the export of {} did not write {}: it {how}. {last}", step.job, product.staged);
        return Ok(Some(Failure::new(Cause::Program, message).help(format!("its log is {}", step.log))));
    }
    let named = std::fs::rename(staged, &product.path);
    let named = named.map_err(|error| Failure::machine("write", &product.path, &error));
    Ok(named.and_then(|()| stage::clear(folder)).err())
}
