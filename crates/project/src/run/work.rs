//! What a run is to do: calls in their order, and how much there is of each kind.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use truepath_core::diagnostic::counted;
use truepath_core::frames::Frames;
use truepath_core::plan::{Call, calls_of, movie_calls};
use truepath_core::resolve::Job;
use truepath_core::run::order::spread;
use truepath_core::run::outstanding::standing;
use truepath_core::run::pace::Load;
use truepath_core::verify::Verdict;

use truepath_exec::disk;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::scheduler::Orders;

use super::Work;
use crate::open::Loaded;

/// The rank of frames that are neither first nor last nor in the middle.
const REST: usize = 3;

impl<'w> Work<'w> {
    /// What the scheduler is told of it.
    pub(super) fn put_into<'o>(&self, orders: &mut Orders<'o>, keep_going: bool)
    where
        'w: 'o,
    {
        orders.before = self.before;
        orders.need = self.need;
        orders.keep_going = keep_going;
        for (name, count) in &self.loaded.machine.licences {
            let own = orders.licences.entry(name.clone()).or_insert(*count);
            *own = (*own).min(*count);
        }
    }

    /// The calls of the plan of which anything is needed, in their order. Calls that others may claim are never split.
    pub(super) fn calls(&self, only: &[String], share: bool) -> Vec<Call> {
        let plan = &self.loaded.plan;
        let adapter = |job: &Job| self.loaded.adapter(job);
        let is_needed = |call: &Call| call.series.iter().any(|at| !self.need[*at].is_disjoint(&call.frames));
        let movies = movie_calls(plan).filter(|call| only.is_empty() || only.contains(&call.id)).filter(is_needed);
        let calls = calls_of(plan, &adapter).filter(|call| only.is_empty() || only.contains(&call.id));
        let mut calls: Vec<Call> = calls.filter(is_needed).collect();
        if self.spread && share {
            let group = |call: &Call| call.series.first().copied().unwrap_or(0);
            let order = spread(&calls.iter().map(group).collect::<Vec<_>>());
            calls = order.into_iter().map(|at| calls[at].clone()).collect();
        } else if self.spread {
            let mut ranked: Vec<(usize, Call)> = calls.iter().flat_map(|call| self.apart(call)).collect();
            ranked.sort_by_key(|(rank, _)| *rank);
            calls = ranked.into_iter().map(|(_, call)| call).collect();
        }
        // A movie comes as soon as its last frame has: behind the last call that writes one.
        for movie in movies.collect::<Vec<Call>>() {
            let sources = movie.sources(plan);
            let last = calls.iter().rposition(|call| call.series.iter().any(|at| sources.contains(at)));
            calls.insert(last.map_or(calls.len(), |last| last + 1), movie);
        }
        calls
    }

    /// A call with the first, the last and the middle frame of its series in calls of their own, each with its rank.
    fn apart(&self, call: &Call) -> Vec<(usize, Call)> {
        let Some(adapter) = self.loaded.adapter(&self.loaded.plan.jobs[call.job]) else { return Vec::new() };
        let frames = self.loaded.plan.series[call.series[0]].frames.clone().unwrap_or_default();
        let early = [frames.first(), frames.last(), frames.middle()].into_iter().enumerate();
        let mut early: Vec<(usize, i64)> = early.filter_map(|(rank, frame)| Some((rank, frame?))).collect();
        early.retain(|(_, frame)| call.frames.contains(*frame));
        early.dedup_by_key(|(_, frame)| *frame);
        let rest = call.frames.minus(&Frames::from_any(early.iter().map(|(_, frame)| *frame).collect()));
        let rest = (!rest.is_empty()).then_some((REST, rest));
        let single = early.into_iter().map(|(rank, frame)| (rank, Frames::one(frame)));
        let parts = single.chain(rest).flat_map(|(rank, frames)| {
            let parts = if frames == call.frames { vec![call.clone()] } else { call.parted(adapter, &frames) };
            parts.into_iter().map(move |part| (rank, part)).collect::<Vec<_>>()
        });
        parts.collect()
    }

    /// How much there is of each kind of call.
    pub(super) fn loads(&self, calls: &[Call]) -> Vec<Load> {
        let plan = &self.loaded.plan;
        let mut loads: Vec<Load> = Vec::new();
        let mut rows: BTreeMap<String, usize> = BTreeMap::new();
        for call in calls {
            let names: Vec<&str> = call.series.iter().map(|at| plan.output(*at).id.as_str()).collect();
            let sizes = call.series.iter().filter_map(|at| plan.output(*at).size);
            let pixels: f64 = sizes.map(|size| f64::from(size.width) * f64::from(size.height)).sum();
            let files: i64 = call.series.iter().map(|at| self.need[*at].intersect(&call.frames).count()).sum();
            let row = *rows.entry(names.join(",")).or_insert_with(|| {
                loads.push(Load { kind: names.join(","), pixels, frames: 0.0 });
                loads.len() - 1
            });
            loads[row].frames += files as f64 / call.series.len().max(1) as f64;
        }
        loads
    }
}

/// Shares this machine's cores out between the workers, for jobs that do not say how many threads they want.
pub(super) fn share_threads(loaded: &mut Loaded) {
    let workers = loaded.plan.run.workers;
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    if workers < 2 {
        return;
    }
    let threads = i64::try_from((cores / workers).max(1)).unwrap_or(1);
    let adapters = loaded.adapters.clone();
    for job in &mut loaded.plan.jobs {
        let adapter = job.adapter.as_deref().and_then(|name| adapters.get(name));
        if job.threads.is_none() && adapter.is_some_and(|adapter| adapter.uses("threads")) {
            Arc::make_mut(job).threads = Some(threads);
        }
    }
}

/// Leaves of what is needed only what the calls named with --only write.
pub(super) fn keep_only(only: &[&String], loaded: &Loaded, need: &mut [Frames]) -> Result<(), Failure> {
    let adapter = |job: &Job| loaded.adapter(job);
    let all = calls_of(&loaded.plan, &adapter).chain(movie_calls(&loaded.plan));
    let calls: Vec<Call> = all.filter(|call| only.contains(&&call.id)).collect();
    if let Some(unknown) = only.iter().find(|id| !calls.iter().any(|call| call.id == ***id)) {
        return Err(Failure::unreadable(format!("this plan has no call `{unknown}`"))
            .help("`truepath build --to json` lists the calls; their names depend on `chunk`"));
    }
    for (at, frames) in need.iter_mut().enumerate() {
        let own = calls.iter().filter(|call| call.series.contains(&at));
        let wanted = own.fold(Frames::none(), |sum, call| sum.union(&call.frames));
        *frames = frames.intersect(&wanted);
    }
    Ok(())
}

/// Files that somebody has write-protected are not replaced: that is said before the first frame.
pub(super) fn guard_protected(loaded: &Loaded, before: &[Verdict], need: &[Frames]) -> Result<(), Failure> {
    let mut protected = Vec::new();
    for (verdict, need) in before.iter().zip(need) {
        let series = loaded.plan.output(verdict.series);
        let over = need.intersect(&standing(verdict));
        let is_protected = |path: &String| disk::is_protected(Path::new(path));
        protected.extend(over.iter().map(|frame| series.name(frame)).filter(is_protected));
    }
    let Some(first) = protected.first() else { return Ok(()) };
    let count = i64::try_from(protected.len()).unwrap_or(i64::MAX);
    let are = if count == 1 { "is" } else { "are" };
    let message = format!("{} to be replaced {are} write-protected, the first is {first}", counted(count, "file"));
    Err(Failure::new(Cause::Machine, message)
        .help("allow writing (chmod u+w), move them away, or exclude them with --frames"))
}

/// Whether a call's name is that of an export.
pub(super) fn is_export(id: &str, loaded: &Loaded) -> bool {
    loaded.exports.all.iter().any(|export| export.id == id)
}
