//! `run`: renders what is needed, here, and goes on where the last run stopped.

use std::sync::mpsc;

use truepath_core::plan::{Invocation, invocations};
use truepath_core::resolve::Job;
use truepath_core::run::event::{Event, VERSION};
use truepath_core::run::outstanding::{outstanding, standing};
use truepath_core::sheet::Existing;
use truepath_core::template::{Lookup, Value, expand_text};
use truepath_core::verify::Verdict;

use crate::args::{self, Run};
use crate::effect::render::{Crew, Outcome, salvage};
use crate::effect::{export, journal::Journal, lock, made, observe};
use crate::exit_code::{Exit, Failure};
use crate::lower::Surroundings;
use crate::pipeline::{self, Loaded, Way};
use crate::show::progress::Progress;
use crate::show::{self, counted, paint};

/// Renders, stages and lands all frames that are needed, sheet by sheet.
pub fn run(args: &Run, around: &Surroundings) -> Result<Exit, Failure> {
    let mut queue = pipeline::load(&args.common, around, Way { anew: args.anew, ..Way::default() })?;
    super::tell_findings(&queue, around);
    if let Some(exit) = queue.stopped_here() {
        return Ok(exit);
    }
    for loaded in &queue.sheets {
        super::guard_final(loaded, args.is_final)?;
        super::need_adapters(loaded)?;
    }
    let mut worst = Exit::Well;
    for loaded in &mut queue.sheets {
        worst = worst.max(sheet(args, loaded, around)?);
        if worst == Exit::Interrupted {
            break;
        }
    }
    Ok(worst)
}

fn sheet(args: &Run, loaded: &mut Loaded, around: &Surroundings) -> Result<Exit, Failure> {
    let choice = args.existing.map(existing).unwrap_or(loaded.plan.run.existing);
    let here = loaded.machine.workers.and_then(|workers| usize::try_from(workers).ok());
    if let Some(chunk) = args.chunk {
        loaded.plan.run.chunk = chunk;
    }
    loaded.plan.run.workers = args.workers.or(here).unwrap_or(loaded.plan.run.workers).max(1);
    let state = lock::state_folder(&loaded.sheet);
    let _lock = lock::take(&state, &around.host)?;
    super::pin(loaded, args.anew)?;
    let journal = Journal::begin(&state, &around.host)?;
    let saved = salvage(loaded, around, &journal)?;
    if saved > 0 {
        show::tell(&format!("{} of an interrupted run landed\n", counted(saved, "whole file")));
    }
    let before = observe::verdicts(&loaded.plan, &|_| {})?;
    if choice == Existing::Stop && before.iter().any(|verdict| !standing(verdict).is_empty()) {
        let there: i64 = before.iter().map(|verdict| standing(verdict).count()).sum();
        let message = format!("{} of this plan are there already, and existing = \"stop\"", counted(there, "file"));
        return Err(Failure { message, help: Some("`truepath verify` shows them".to_owned()), exit: Exit::No });
    }
    let mut need: Vec<_> = before.iter().map(|verdict| outstanding(verdict, choice)).collect();
    if !args.only.is_empty() {
        keep_only(args, loaded, &mut need)?;
    }
    let total: i64 = need.iter().map(truepath_core::frames::Frames::count).sum();
    let began = std::time::Instant::now();
    let work = (&journal, before.as_slice(), need.as_slice());
    let outcome = if total == 0 {
        Outcome::default()
    } else {
        render(loaded, around, work, (args.common.json, &args.only), total)?
    };
    let after = if total == 0 { before } else { observe::verdicts(&loaded.plan, &|_| {})? };
    journal.write(&Event::Over { landed: outcome.landed, lacking: total - outcome.landed })?;
    afterwards(loaded, &after, &outcome);
    if !args.common.json {
        show::tell(&summary(args, &after, &outcome, (total, began.elapsed().as_secs_f64()), around));
    }
    Ok(if outcome.interrupted {
        Exit::Interrupted
    } else if outcome.landed < total {
        Exit::Lacking
    } else if !args.only.is_empty() || after.iter().all(Verdict::is_complete) {
        // Whoever asks for some calls only is told about those.
        Exit::Well
    } else {
        Exit::No
    })
}

/// Leaves of what is needed only what the calls named with --only write.
fn keep_only(args: &Run, loaded: &Loaded, need: &mut [truepath_core::frames::Frames]) -> Result<(), Failure> {
    let adapter = |job: &Job| loaded.adapter(job);
    let calls = invocations(&loaded.plan, &adapter);
    let calls: Vec<Invocation> = calls.filter(|call| args.only.contains(&call.id)).collect();
    if let Some(unknown) = args.only.iter().find(|id| !calls.iter().any(|call| call.id == **id)) {
        return Err(Failure::unreadable(format!("no call of this plan is named `{unknown}`"))
            .help("`truepath build --to json` lists them; frames per call (chunk) are part of their names"));
    }
    for (at, frames) in need.iter_mut().enumerate() {
        let own = calls.iter().filter(|call| call.series.contains(&at));
        let wanted = own.fold(truepath_core::frames::Frames::none(), |sum, call| sum.union(&call.frames));
        *frames = frames.intersect(&wanted);
    }
    Ok(())
}

/// Runs the sheet's own commands once the plan is over, also after failure. What they do wrong is told and changes nothing.
fn afterwards(loaded: &Loaded, after: &[Verdict], outcome: &Outcome) {
    let word = match (outcome.interrupted, after.iter().all(Verdict::is_complete)) {
        (true, _) => "interrupted",
        (false, true) => "complete",
        (false, false) => "incomplete",
    };
    let known =
        |name: &str| if name == "outcome" { Lookup::Value(Value::Text(word.to_owned())) } else { Lookup::Unknown };
    for command in &loaded.plan.run.after {
        let words: Vec<String> = command.iter().filter_map(|template| expand_text(template, &known)).collect();
        let Some((program, arguments)) = words.split_first() else { continue };
        let done = std::process::Command::new(program).args(arguments).current_dir(&loaded.plan.home.folder).status();
        match done {
            Ok(status) if status.success() => {}
            Ok(status) => show::tell(&format!("afterwards: {program} ended with {status}\n")),
            Err(error) => show::tell(&format!("afterwards: cannot start {program}: {error}\n")),
        }
    }
}

type Need<'n> = (&'n Journal, &'n [Verdict], &'n [truepath_core::frames::Frames]);

fn render(
    loaded: &Loaded,
    around: &Surroundings,
    (journal, before, need): Need<'_>,
    (json, only): (bool, &[String]),
    total: i64,
) -> Result<Outcome, Failure> {
    let mut progress = Progress::new(total, json, around.err);
    let began = Event::Began { truepath: VERSION, frames: total };
    journal.write(&began)?;
    progress.show(&began);
    let (send, events) = mpsc::channel();
    let of = made::now(&loaded.plan, &loaded.adapters, &lock::state_folder(&loaded.sheet));
    let crew = Crew { loaded, around, journal, before, need, of: &of, events: send };
    let adapter = |job: &Job| loaded.adapter(job);
    let calls = invocations(&loaded.plan, &adapter);
    let calls: Vec<Invocation> = calls.filter(|call| only.is_empty() || only.contains(&call.id)).collect();
    let needed: Vec<Invocation> = calls.iter().flat_map(|call| loaded.shop(around).narrowed(call, need)).collect();
    export::needs(loaded, &needed, around)?;
    export::make(&loaded.shop(around).exports(&needed), loaded, journal)?;
    let outcome = crew.render(calls, || events.iter().for_each(|event| progress.show(&event)));
    progress.end();
    outcome
}

fn existing(choice: args::Existing) -> Existing {
    match choice {
        args::Existing::Keep => Existing::Keep,
        args::Existing::Renew => Existing::Renew,
        args::Existing::Replace => Existing::Replace,
        args::Existing::Stop => Existing::Stop,
    }
}

/// What was done, what failed, and the next command.
fn summary(
    args: &Run,
    after: &[Verdict],
    outcome: &Outcome,
    (total, seconds): (i64, f64),
    around: &Surroundings,
) -> String {
    let screen = around.err;
    let files: i64 = after.iter().map(|verdict| verdict.expected.count()).sum();
    let mut out = match total {
        0 => format!("nothing to render: {} looked at\n", counted(files, "file")),
        total => format!("{} of {} landed in {seconds:.1} s\n", outcome.landed, counted(total, "file")),
    };
    let wrong: i64 = after.iter().map(|verdict| verdict.wrong.count()).sum();
    if outcome.interrupted {
        out.push_str(&format!(
            "{}; go on with: {}\n",
            paint(screen, show::ODD, "interrupted"),
            super::again("run", &args.common)
        ));
    } else if outcome.landed < total {
        let lost = counted(total - outcome.landed, "file");
        out.push_str(&format!(
            "{}; see what is lacking with: {}\n",
            paint(screen, show::BAD, format!("{lost} did not come out")),
            super::again("verify", &args.common)
        ));
    } else if wrong > 0 {
        let kept = format!("{} not as planned and kept", counted(wrong, "file"));
        out.push_str(&format!(
            "{}; render again with: {}\n",
            paint(screen, show::ODD, kept),
            super::again("run --existing renew", &args.common)
        ));
    } else {
        let complete = after.iter().all(Verdict::is_complete);
        out.push_str(&format!("{}\n", paint(screen, show::GOOD, if complete { "complete" } else { "not complete" })));
    }
    out
}
