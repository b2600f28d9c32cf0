//! Files that nobody here rendered are taken for frames, and given back.

use truepath_core::plan::Series;
use truepath_core::resolve::paths::seen_from;
use truepath_core::verify::{State, Verdict};
use truepath_exec::failure::Failure;
use truepath_exec::landing::adopt::{Adoption, GivenBack, adopt, give_back};
use truepath_exec::landing::moving::Mover;
use truepath_exec::observe::Look;

use crate::alone::{Alone, alone};
use crate::listener::Listener;
use crate::open::{Loaded, Queue};
use crate::surroundings::Surroundings;

/// What was taken, or given back: files as they are seen from their sheet.
#[derive(Clone, Debug, Default)]
pub struct Adopted {
    /// Files; of one that got another name, from which to which.
    pub done: Vec<String>,
    /// Files that were left, and why.
    pub left: Vec<(String, String)>,
}

impl Adopted {
    fn take(&mut self, file: String, why: Option<String>) {
        match why {
            None => self.done.push(file),
            Some(why) => self.left.push((file, why)),
        }
    }
}

/// Takes what is whole and as planned: files under their planned names into the journal, files of almost the same name under
/// the planned one.
///
/// # Errors
/// While anybody renders one of the sheets, and when a journal cannot be written.
pub fn adopt_all(queue: &mut Queue, around: &Surroundings, listener: &dyn Listener) -> Result<Adopted, Failure> {
    let mut told = Adopted::default();
    for at in 0..queue.sheets.len() {
        let held = alone(&queue.sheets[at], around)?;
        queue.sheets[at].look_up_made(around, listener);
        for verdict in &queue.verdicts(at, Look::Deep, listener)? {
            take(&queue.sheets[at], verdict, &held, &mut told)?;
        }
    }
    Ok(told)
}

/// Gives back what was taken last.
///
/// # Errors
/// While anybody renders one of the sheets, and when a journal cannot be written.
pub fn give_all_back(queue: &Queue, around: &Surroundings) -> Result<Adopted, Failure> {
    let mut told = Adopted::default();
    for loaded in &queue.sheets {
        undo(loaded, &alone(loaded, around)?, &mut told)?;
    }
    Ok(told)
}

fn take(loaded: &Loaded, verdict: &Verdict, held: &Alone, told: &mut Adopted) -> Result<(), Failure> {
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
        told.take(seen_from(&series.name(frame), &plan.home.folder), why);
    }
    for near in &verdict.near {
        let adoption = Adoption { series, frame: near.frame, from: Some(&near.from), made };
        let why = adopt(&mover, &adoption)?;
        told.take(format!("{} to {}", near.from, seen_from(&series.name(near.frame), &plan.home.folder)), why);
    }
    Ok(())
}

fn undo(loaded: &Loaded, held: &Alone, told: &mut Adopted) -> Result<(), Failure> {
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
        told.take(format!("{} to {to}", seen_from(&series.name(*frame), &plan.home.folder)), why);
    }
    Ok(())
}
