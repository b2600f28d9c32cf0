//! Series to calls: the fewest calls that the adapter allows, cut into chunks of the planned frames.

use crate::adapter::{Adapter, Arrangement, Per, Reach};
use crate::frames::{FrameRun, Frames};
use crate::resolve::{Job, Pass};
use crate::sheet::{FileOption, OF_PICTURES, spelt};
use crate::template::{Template, slug};

use super::{MOVIE, Plan, Series};

/// One call of a renderer.
#[derive(Clone, Debug)]
pub struct Call {
    /// Its name, fit for a folder: the same on every machine.
    pub id: String,
    /// Index into [`Plan::jobs`].
    pub job: usize,
    /// What it writes, by [`Plan::output`].
    pub series: Vec<usize>,
    /// The job's frames it is given.
    pub frames: Frames,
    /// What its stage folder and its log end with, so that no two tries share them; empty in scripts.
    pub mark: String,
    /// Where it is saved under way; only for long stills that `run` calls.
    pub still: Option<Still>,
}

/// Where a long still is saved under way.
#[derive(Clone, Debug)]
pub struct Still {
    /// The file that the program writes.
    pub checkpoint: String,
    /// Seconds from one to the next.
    pub every: f64,
    /// The newest whole one, to go on with.
    pub resume: Option<String>,
}

impl Call {
    /// Whether it makes a movie.
    #[must_use]
    pub fn is_movie(&self, plan: &Plan) -> bool {
        self.series.first().is_some_and(|at| *at >= plan.series.len())
    }

    /// The series that a movie's frames are of, as indices into [`Plan::series`]; empty for all other calls.
    #[must_use]
    pub fn sources(&self, plan: &Plan) -> Vec<usize> {
        let film = self.series.first().filter(|_| self.is_movie(plan)).and_then(|at| plan.output(*at).film.as_deref());
        film.map(|film| film.clips.iter().map(|clip| clip.series).collect()).unwrap_or_default()
    }

    /// Calls of one group share their luck: those of a job, and each movie alone.
    #[must_use]
    pub fn group(&self, plan: &Plan) -> usize {
        match self.series.first() {
            Some(at) if self.is_movie(plan) => plan.jobs.len() + at,
            _ => self.job,
        }
    }

    /// Its name with its mark.
    #[must_use]
    pub fn marked(&self) -> String {
        marked(&self.id, &self.mark)
    }
}

/// A name with the mark of whoever uses it.
#[must_use]
pub fn marked(name: &str, mark: &str) -> String {
    if mark.is_empty() { name.to_owned() } else { format!("{name}~{mark}") }
}

/// All calls of a plan, in the order of the sheet, made as they are asked for. Series without names and jobs
/// without adapter are left out.
pub fn calls_of<'p>(
    plan: &'p Plan,
    adapter: &'p dyn Fn(&Job) -> Option<&'p Adapter>,
) -> impl Iterator<Item = Call> + 'p {
    let names = job_names(plan);
    let calls = plan.jobs.iter().enumerate().flat_map(move |(at, job)| {
        let own: Vec<usize> = plan.series_of(at).collect();
        adapter(job)
            .map(|adapter| called_together(plan, job, &own, adapter))
            .unwrap_or_default()
            .into_iter()
            .map(move |series| (at, series))
    });
    calls.flat_map(move |(at, series)| {
        let several = plan.series_of(at).len() > series.len();
        let job = &plan.jobs[at];
        let tail = if several { format!("_{}", labels(plan, job, &series)) } else { String::new() };
        let head = names[at].clone();
        let frames = plan.series[series[0]].frames.iter();
        let adapter = adapter(job);
        // A checkpoint belongs to one frame.
        let chunk = if job.checkpoint.is_some() { 1 } else { plan.run.chunk };
        frames
            .flat_map(move |frames| frames.chunks(chunk))
            .flat_map(move |chunk| adapter.map(|adapter| calls_for(adapter, &chunk)).unwrap_or_default())
            .map(move |frames| {
                let id = format!("{head}_{}{tail}", span(&frames));
                Call { id, job: at, series: series.clone(), frames, mark: String::new(), still: None }
            })
    })
}

/// The calls that make the movies of a plan: one for each that can be made.
pub fn movie_calls(plan: &Plan) -> impl Iterator<Item = Call> + '_ {
    let names = job_names(plan);
    let known = plan.movies.iter().enumerate().filter(|(_, movie)| movie.is_makeable());
    known.map(move |(at, movie)| {
        // Movies of one job have names of their own; a movie is one frame to whoever counts files.
        let id = format!("{}_movie-{}", names[movie.job], slug(movie.own_name(plan)));
        let series = vec![plan.series.len() + at];
        Call { id, job: movie.job, series, frames: Frames::one(MOVIE), mark: String::new(), still: None }
    })
}

/// First and last frame; a step is no part of a name, since the chunks of one plan never overlap.
fn span(frames: &Frames) -> String {
    format!("{}-{}", frames.first().unwrap_or(0), frames.last().unwrap_or(0))
}

/// Frames as one program takes them: all in one call, a call for each run of one step, or a call for each frame. Steps
/// other than 1 are only handed to programs that are told them.
#[must_use]
pub fn calls_for(adapter: &Adapter, frames: &Frames) -> Vec<Frames> {
    match adapter.per {
        Per::List | Per::Pipe => vec![frames.clone()],
        Per::Frame => frames.iter().map(Frames::one).collect(),
        Per::Range => {
            let steps = adapter.uses("step");
            let runs = frames.sequential().flat_map(|run| {
                let single = !steps && run.step > 1;
                let parts = if single { run.count } else { 1 };
                (0..parts).map(move |at| {
                    let first = run.first + at * run.step;
                    if single { FrameRun { first, step: 1, count: 1 } } else { run }
                })
            });
            runs.map(|run| [run].into_iter().collect()).collect()
        }
    }
}

impl Call {
    /// This call for some of its frames, in as many calls as the program needs for them, each with a name of its own.
    #[must_use]
    pub fn for_frames(&self, adapter: &Adapter, frames: &Frames) -> Vec<Call> {
        let parts = calls_for(adapter, frames);
        let alone = parts.len() == 1;
        let part = |frames: Frames| {
            let id = if alone { self.id.clone() } else { format!("{}.{}", self.unit(), span(&frames)) };
            Call { id, frames, ..self.clone() }
        };
        parts.into_iter().map(part).collect()
    }

    /// This call for some of its frames, each part under a name of its own.
    #[must_use]
    pub fn parted(&self, adapter: &Adapter, frames: &Frames) -> Vec<Call> {
        let named = |part: Call| Call { id: format!("{}.{}", self.unit(), span(&part.frames)), ..part };
        self.for_frames(adapter, frames).into_iter().map(named).collect()
    }

    /// The name of the call of the plan that this is, or is a part of.
    #[must_use]
    pub fn unit(&self) -> &str {
        self.id.split('.').next().unwrap_or(&self.id)
    }
}

/// A name for each job that is fit for a folder and unlike all others.
fn job_names(plan: &Plan) -> Vec<String> {
    let mut taken = std::collections::HashMap::new();
    let mut name = |job: &Job| {
        let name = slug(&job.name);
        let count = taken.entry(name.clone()).and_modify(|count| *count += 1).or_insert(1);
        if *count == 1 && !name.is_empty() { name } else { format!("{name}-{count}") }
    };
    plan.jobs.iter().map(|job| name(job)).collect()
}

fn labels(plan: &Plan, job: &Job, series: &[usize]) -> String {
    let labels = series.iter().flat_map(|at| &plan.series[*at].passes).map(|pass| slug(&job.passes[*pass].label));
    labels.collect::<Vec<_>>().join("-")
}

/// The series of one job in as few calls as the adapter allows: passes are called apart where something differs that a call
/// has only once.
#[must_use]
pub fn called_together(plan: &Plan, job: &Job, own: &[usize], adapter: &Adapter) -> Vec<Vec<usize>> {
    let mut calls: Vec<Vec<usize>> = Vec::new();
    let reach = Reach::of(adapter);
    let together = adapter.can(Arrangement::Call) && reach.names_each_pass();
    for at in own.iter().copied().filter(|at| plan.series[*at].is_known()) {
        let fits = |other: &usize| fit_together(job, (adapter, &reach), &plan.series[*other], &plan.series[at]);
        match calls.iter_mut().find(|call| together && call.iter().all(fits)) {
            Some(call) => call.push(at),
            None => calls.push(vec![at]),
        }
    }
    calls
}

/// Whether one call can write two series: all in which they differ is told for each pass.
fn fit_together(job: &Job, (adapter, reach): (&Adapter, &Reach), a: &Series, b: &Series) -> bool {
    let (x, y) = (&job.passes[a.passes[0]], &job.passes[b.passes[0]]);
    // What the name of a file says comes before what its format says.
    let given = |series: &Series, pass: &Pass, option: FileOption| match option {
        FileOption::Type => series.file_type.map(|known| known.name.to_owned()),
        _ => spelt(pass.format.as_deref(), option),
    };
    let mut differing = OF_PICTURES.into_iter().filter(|option| given(a, x, *option) != given(b, y, *option));
    // A native setting that asks for what differs has two values.
    let in_native = |token: &str| {
        let asks = |value: &String| Template::parse(value).is_ok_and(|value| value.has(token) || value.has("ext"));
        job.native.values().any(asks)
    };
    let by_pass = job.native.values().any(|value| Template::parse(value).is_ok_and(|value| value.has("pass")));
    let twice = x.name.value == y.name.value;
    differing.all(|option| reach.may_differ(adapter, option) && !in_native(option.name()))
        && (x.colour == y.colour || reach.is_of_each_pass(&["colour"]) && !in_native("colour"))
        && !by_pass
        && (!twice || reach.names_each_file())
}

/// Whether the files of one call can share a stage folder: no two of their names are alike.
#[must_use]
pub fn next_to_each_other(plan: &Plan, series: &[usize]) -> bool {
    if series.len() < 2 {
        return true;
    }
    let file = |at: &usize| plan.series[*at].pattern.folded().split_folder().1;
    let files: Vec<_> = series.iter().map(file).collect();
    files.iter().enumerate().all(|(at, file)| !files[..at].contains(file))
}
