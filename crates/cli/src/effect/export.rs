//! What comes before the first frame: prerequisites that a program can be asked about, and exports of scenes.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::{Command, Stdio};

use truepath_core::invoke::target::{Product, Step};
use truepath_core::plan::Invocation;
use truepath_core::run::event::{Ended, Event, Started};
use truepath_core::sheet::Key;

use super::journal::{Journal, millis};
use super::spawn::{self, Listener, Running, Start};
use super::stage;
use crate::exit_code::{Exit, Failure};
use crate::lower::Surroundings;
use crate::pipeline::Loaded;

/// Runs the commands that the adapters of some calls need to end with 0.
pub fn needs(loaded: &Loaded, calls: &[Invocation], around: &Surroundings) -> Result<(), Failure> {
    let jobs: BTreeSet<usize> = calls.iter().map(|call| call.job).collect();
    let settings = jobs.iter().map(|job| &loaded.plan.jobs[*job].settings);
    let names: BTreeSet<&str> =
        settings.flat_map(|settings| [settings.text(&Key::Adapter), settings.text(&Key::Export)]).flatten().collect();
    for adapter in names.into_iter().filter_map(|name| loaded.adapters.get(name)) {
        for words in &adapter.needs.run {
            let Some((program, arguments)) = words.split_first() else { continue };
            let program = if program == "truepath" { around.program.as_os_str() } else { program.as_ref() };
            let mut command = Command::new(program);
            command.args(arguments).current_dir(&loaded.plan.home.folder);
            let status = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status();
            if !status.as_ref().is_ok_and(std::process::ExitStatus::success) {
                let why = status.map_or_else(|error| error.to_string(), |status| status.to_string());
                let message =
                    format!("{} needs `{}` to end well, and it did not: {why}", adapter.name, words.join(" "));
                let help = Some("[needs] of the adapter asks for it; nothing was started".to_owned());
                return Err(Failure { message, help, exit: Exit::Machine });
            }
        }
    }
    Ok(())
}

/// Makes the products that are not there, or were made of something else.
pub fn make(steps: &[Step], loaded: &Loaded, (journal, around): (&Journal, &Surroundings)) -> Result<(), Failure> {
    let running = if steps.is_empty() { Running::default() } else { Running::guarded(&around.program) };
    for step in steps {
        let Some(product) = &step.product else { continue };
        let digest = digest(step, loaded).map_err(|error| Failure::machine("read the scene of", &step.job, &error))?;
        let mark = format!("{}.of", product.path);
        let fresh = Path::new(&product.path).is_file() && std::fs::read_to_string(&mark).is_ok_and(|old| old == digest);
        if !fresh {
            export((step, product), loaded, journal, &running)?;
            std::fs::write(&mark, digest).map_err(|error| Failure::machine("write", &mark, &error))?;
        }
    }
    Ok(())
}

/// What a product depends on: the scene's bytes and the command line.
fn digest(step: &Step, loaded: &Loaded) -> std::io::Result<String> {
    let mut hash = blake3::Hasher::new();
    let job = loaded.plan.jobs.iter().find(|job| job.name == step.job);
    if let Some(scene) = job.and_then(|job| job.scene.as_ref()) {
        hash.update_reader(std::fs::File::open(&scene.value)?)?;
    }
    for word in std::iter::once(&step.program).chain(&step.arguments) {
        hash.update(word.as_bytes()).update(b"\0");
    }
    Ok(hash.finalize().to_hex().to_string())
}

/// An exporter while it runs.
struct Hearing<'h> {
    step: &'h Step,
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
            born: super::process::born(process),
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

fn export(
    (step, product): (&Step, &Product),
    loaded: &Loaded,
    journal: &Journal,
    running: &Running,
) -> Result<(), Failure> {
    let staged = Path::new(&product.staged);
    let folder = staged.parent().unwrap_or(Path::new("."));
    stage::prepare(folder)?;
    let start = Start {
        program: &step.program,
        arguments: &step.arguments,
        env: &step.env,
        folder: &loaded.plan.home.folder,
        log: Path::new(&step.log),
    };
    let began = std::time::Instant::now();
    let mut hearing = Hearing { step, journal, last: String::new(), told: Ok(()) };
    let code =
        spawn::run(&start, running, &mut hearing).map_err(|error| Failure::machine("start", &step.program, &error))?;
    let last = hearing.last;
    hearing.told?;
    let made = staged.metadata().is_ok_and(|about| about.len() > 0);
    journal.write(&Event::Ended(Ended {
        call: step.id.clone(),
        code,
        files: i64::from(made),
        lacking: String::new(),
        seconds: millis(began.elapsed().as_secs_f64()),
        log: step.log.clone(),
        why: (!made).then(|| "made no file".to_owned()),
        t: journal.t(),
    }))?;
    if !made {
        let code = code.map_or("a signal".to_owned(), |code| format!("exit code {code}"));
        let message = format!("the export of {} did not make {}: {code}. {last}", step.job, product.staged);
        return Err(Failure { message, help: Some(format!("its log is {}", step.log)), exit: Exit::Lacking });
    }
    std::fs::rename(staged, &product.path).map_err(|error| Failure::machine("write", &product.path, &error))?;
    stage::clear(folder)
}
