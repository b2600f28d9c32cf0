//! Calls in parts: narrowed to what is missing, halved, and marked for a try.

use std::collections::{BTreeSet, HashMap};

use truepath_core::frames::Frames;
use truepath_core::plan::Call;
use truepath_core::run::event::Event;

use super::attempt::Done;
use super::checkpoint;
use super::context::{Context, OwedFile};
use crate::failure::{Failure, Trouble};

impl Context<'_> {
    /// A part with the mark of this try, and the place where it is saved under way.
    pub fn marked(&self, part: &Call, number: u64) -> Result<Call, Failure> {
        let project = self.project;
        let setting = self.plan().jobs[part.job].checkpoint;
        let still = setting.map(|setting| checkpoint::prepare(project.state, part, setting, project.made));
        Ok(Call { mark: self.mark(number), still: still.transpose()?, ..part.clone() })
    }

    pub fn mark(&self, number: u64) -> String {
        let tag = self.journal.tag();
        if number == 1 { tag.to_owned() } else { format!("{tag}-{number}") }
    }

    /// The stage folders of a try, which may hold what it wrote elsewhere.
    pub fn stage_folders(&self, part: &Call, number: u64) -> Vec<String> {
        let part = Call { mark: self.mark(number), ..part.clone() };
        let step = self.project.command_lines.step(&part);
        step.into_iter().flat_map(|step| step.writes).map(|write| write.stage).collect()
    }

    /// A call for certain files only, in as many calls as its program needs.
    pub fn narrowed(&self, call: &Call, places: &BTreeSet<OwedFile>) -> Vec<Call> {
        let mut wanted: HashMap<usize, Vec<i64>> = HashMap::new();
        places.iter().for_each(|(series, frame)| wanted.entry(*series).or_default().push(*frame));
        let series: Vec<usize> = call.series.iter().copied().filter(|series| wanted.contains_key(series)).collect();
        let frames = Frames::from_any(wanted.into_values().flatten().collect());
        let Some(adapter) = self.adapter(call).filter(|_| !frames.is_empty()) else { return Vec::new() };
        Call { series, ..call.clone() }.for_frames(adapter, &frames)
    }

    /// A call in two halves, or as it is where it has one frame.
    pub fn halved(&self, part: &Call) -> Vec<Call> {
        let adapter = self.adapter(part).filter(|_| part.frames.count() > 1);
        let Some(adapter) = adapter else { return vec![part.clone()] };
        let half = (part.frames.count() + 1) / 2;
        part.frames.chunks(half).flat_map(|frames| part.parted(adapter, &frames)).collect()
    }

    /// What a call lacks is given up.
    pub fn give_up(&self, whole: &Call, done: Done, frames: Frames) -> Result<(), Trouble> {
        let plan = self.plan();
        let at: BTreeSet<usize> = done.missing.iter().map(|(series, _)| *series).collect();
        let event = Event::Failed {
            call: whole.id.clone(),
            job: plan.jobs[whole.job].name.clone(),
            series: at.into_iter().map(|at| plan.output(at).id.clone()).collect(),
            frames,
            why: done.why,
            log: done.log,
        };
        self.record(&event).map_err(Trouble::Run)
    }
}
