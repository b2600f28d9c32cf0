//! `verify --adopt`: files that nobody here rendered are taken for frames, and `--undo` gives them back.

use truepath_core::plan::Series;
use truepath_core::verify::{State, Verdict};
use truepath_exec::failure::Failure;
use truepath_exec::landing::adopt::{Adoption, GivenBack, adopt, give_back};
use truepath_exec::landing::moving::Mover;
use truepath_exec::observe::Look;

use crate::args::VerifyArgs;
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, Loaded, Queue};
use crate::show::{self, counted, verdicts};
use truepath_project::alone::{Alone, alone};

/// Files that are named before the rest is only counted.
const MOST_LINES: usize = 20;

/// What was done, line by line.
#[derive(Default)]
struct AdoptLines {
    lines: Vec<String>,
    done: i64,
    left: Vec<String>,
}

impl AdoptLines {
    fn take(&mut self, line: String, why: Option<String>) {
        match why {
            None => {
                self.done += 1;
                self.lines.push(line);
            }
            Some(why) => self.left.push(format!("{line}: {why}")),
        }
    }
}

/// Takes what is whole and as planned: files under their planned names into the journal, files of almost the same name under
/// the planned one.
pub fn run(args: &VerifyArgs, queue: &mut Queue, around: &Around) -> Result<Exit, Failure> {
    let mut told = AdoptLines::default();
    for at in 0..queue.sheets.len() {
        let held = alone(&queue.sheets[at], around)?;
        if args.undo {
            undo(&queue.sheets[at], &held, &mut told)?;
            continue;
        }
        pipeline::look_up_made(&mut queue.sheets[at], around);
        let judged = pipeline::verdicts(queue, at, Look::Deep, around)?;
        for verdict in &judged {
            take(&queue.sheets[at], verdict, &held, &mut told)?;
        }
    }
    let (verb, count) = (if args.undo { "given back" } else { "taken" }, told.done);
    let mut out = String::new();
    for line in told.lines.iter().take(MOST_LINES) {
        out.push_str(&format!("  {line}\n"));
    }
    if told.lines.len() > MOST_LINES {
        out.push_str(&format!("  and {} more\n", told.lines.len() - MOST_LINES));
    }
    for line in &told.left {
        out.push_str(&format!("  left  {line}\n"));
    }
    out.push_str(&format!("{} {verb}\n", counted(count, "file")));
    if count > 0 && !args.undo {
        let undo = super::again("verify --adopt --undo", &args.common);
        out.push_str(&format!("Verify them: {}. Undo: {undo}\n", super::again("verify", &args.common)));
    }
    show::print(&out)?;
    Ok(if told.left.is_empty() { Exit::Well } else { Exit::No })
}

fn take(loaded: &Loaded, verdict: &Verdict, held: &Alone, told: &mut AdoptLines) -> Result<(), Failure> {
    let plan = &loaded.plan;
    let mover = Mover::new(plan, &held.journal, None);
    let series = plan.output(verdict.series);
    let made = loaded.ground.made_of.get(verdict.series).and_then(Option::as_ref);
    // A movie without a record of its frames is made again: that is cheap, and certain.
    if verdict.is_movie {
        return Ok(());
    }
    let known = |frame: i64| loaded.ground.history.of(series).iter().any(|(own, _)| *own == series.number(frame));
    let odd = verdict.in_any(&[State::Odd, State::Unproven]);
    let foreign = verdict.in_state(State::Foreign).iter().chain(odd.iter().filter(|frame| !known(*frame)));
    for frame in foreign {
        let why = adopt(&mover, &Adoption { series, frame, from: None, made })?;
        told.take(verdicts::relative(plan, &series.name(frame)), why);
    }
    for near in &verdict.near {
        let adoption = Adoption { series, frame: near.frame, from: Some(&near.from), made };
        let why = adopt(&mover, &adoption)?;
        told.take(format!("{} to {}", near.from, verdicts::relative(plan, &series.name(near.frame))), why);
    }
    Ok(())
}

/// Gives back what was taken last.
fn undo(loaded: &Loaded, held: &Alone, told: &mut AdoptLines) -> Result<(), Failure> {
    let (plan, history) = (&loaded.plan, &loaded.ground.history);
    let mover = Mover::new(plan, &held.journal, None);
    for ((id, frame), from) in history.adopted() {
        let Some(series) = plan.series.iter().find(|series: &&Series| series.id == *id) else { continue };
        let own = Some(from.as_str()).filter(|from| !from.is_empty());
        let adoption = Adoption { series, frame: *frame, from: own, made: None };
        let why = match give_back(&mover, &adoption, history)? {
            GivenBack::Now => None,
            GivenBack::Before => continue,
            GivenBack::Not(why) => Some(why),
        };
        let to = if from.is_empty() { "no journal".to_owned() } else { from.clone() };
        told.take(format!("{} to {to}", verdicts::relative(plan, &series.name(*frame))), why);
    }
    Ok(())
}
