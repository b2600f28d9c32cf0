//! What comes before the first frame: prerequisites that a program can be asked about, and exports of scenes.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::{Command, Stdio};

use truepath_core::invoke::target::{Product, Step};
use truepath_core::plan::Invocation;
use truepath_core::run::event::Event;
use truepath_core::sheet::Key;

use super::journal::Journal;
use super::spawn::{self, Running, Start};
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
pub fn make(steps: &[Step], loaded: &Loaded, journal: &Journal) -> Result<(), Failure> {
    for step in steps {
        let Some(product) = &step.product else { continue };
        let digest = digest(step, loaded).map_err(|error| Failure::machine("read the scene of", &step.job, &error))?;
        let mark = format!("{}.of", product.path);
        let fresh = Path::new(&product.path).is_file() && std::fs::read_to_string(&mark).is_ok_and(|old| old == digest);
        if !fresh {
            export(step, product, loaded, journal)?;
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

fn export(step: &Step, product: &Product, loaded: &Loaded, journal: &Journal) -> Result<(), Failure> {
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
    let mut last = String::new();
    let tell = |process| journal.write(&Event::Started { invocation: step.id.clone(), frames: String::new(), process });
    let mut told = Ok(());
    let code = spawn::run(&start, &Running::default(), |process| told = tell(process), |line| last = line.to_owned())
        .map_err(|error| Failure::machine("start", &step.program, &error))?;
    told?;
    let made = staged.metadata().is_ok_and(|about| about.len() > 0);
    journal.write(&Event::Ended {
        invocation: step.id.clone(),
        code,
        lacking: String::new(),
        seconds: began.elapsed().as_secs_f64(),
        log: step.log.clone(),
        why: (!made).then(|| "made no file".to_owned()),
    })?;
    if !made {
        let code = code.map_or("a signal".to_owned(), |code| format!("exit code {code}"));
        let message = format!("the export of {} did not make {}: {code}. {last}", step.job, product.staged);
        return Err(Failure { message, help: Some(format!("its log is {}", step.log)), exit: Exit::Lacking });
    }
    std::fs::rename(staged, &product.path).map_err(|error| Failure::machine("write", &product.path, &error))?;
    stage::clear(folder)
}
