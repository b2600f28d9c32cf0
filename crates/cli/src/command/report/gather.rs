//! All that a report tells but its pictures: from disk, journals and logs.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::Path;

use truepath_core::frames::Frames;
use truepath_core::plan::{Plan, SeriesKind, calls_of, movie_calls};
use truepath_core::resolve::Job;
use truepath_core::run::cost::Costs;
use truepath_core::run::history::{GivenUp, Session};
use truepath_core::run::outstanding::{advised, outstanding, with_movies};
use truepath_core::run::tally::SeriesStatus;
use truepath_core::run::trial::plain;
use truepath_core::sheet::Existing;
use truepath_core::verify::{MOVIE, Outcome, STATES, State, Verdict};
use truepath_exec::disk;
use truepath_exec::failure::Failure;
use truepath_exec::guard;

use crate::args::Common;
use crate::command::gallery::{Shot, shots};
use crate::command::status;
use crate::lower::Around;
use crate::pipeline::{Loaded, Queue};
use crate::show::report::{
    CallPart, CellState, FailurePart, FileCell, FindingPart, FrameTimes, MOST_TOLD, MachinePart, MoviePart, Night,
    SeriesPart, Space,
};
use crate::show::status::Stand;
use crate::show::verdicts::{cut, relative};

/// Lines of a log's end, and bytes of a log that are read.
const TAIL: usize = 12;
const MOST_LOG: u64 = 1 << 30;
/// Calls that are listed.
const MOST_CALLS: usize = 60;
/// Failures that are listed.
const MOST_FAILURES: usize = 40;

/// What is known of a frame of a series: seconds it took, and the machine.
type MadeFrame = HashMap<(String, i64), (f64, String)>;

/// Everything but pictures, and the verdicts on each sheet.
pub fn night(queue: &Queue, common: &Common, around: &Around) -> Result<(Night, Vec<Vec<Verdict>>), Failure> {
    let stands = (0..queue.sheets.len()).map(|at| status::look(queue, at, around));
    let stands = stands.collect::<Result<Vec<Stand>, Failure>>()?;
    let judged: Vec<Vec<Verdict>> =
        stands.iter().map(|stand| stand.rows.iter().map(|row| row.verdict.clone()).collect()).collect();
    let verdicts: Vec<&Verdict> = judged.iter().flatten().collect();
    let fixes = super::super::fixes(queue, judged.iter().map(Vec::as_slice), common);
    let rows: Vec<&SeriesStatus> = stands.iter().flat_map(|stand| &stand.rows).collect();
    let left: Vec<f64> = rows.iter().filter(|row| row.verdict.is_incomplete()).filter_map(|row| row.left).collect();
    let project = queue.sheets.iter().find_map(|sheet| sheet.plan.project.as_ref());
    let now = around.now();
    let mut night = Night {
        title: project.map_or_else(|| "truepath".to_owned(), |name| name.value.clone()),
        at: now.strftime("%Y-%m-%d %H:%M").to_string(),
        is_under_way: rows.iter().any(|row| !row.running.is_empty()),
        outcome: Outcome::of(verdicts.iter().copied()),
        planned: verdicts.iter().map(|verdict| verdict.planned.count()).sum(),
        good: verdicts.iter().map(|verdict| verdict.in_state(State::Good).count()).sum(),
        seconds_left: (!left.is_empty()).then(|| left.iter().sum()),
        fixes: fixes.iter().map(|line| super::super::pasted(line)).collect(),
        series: Vec::new(),
        books: Vec::new(),
        more_books: 0,
        findings: findings(queue),
        failures: Vec::new(),
        times: Vec::new(),
        machines: Vec::new(),
        movies: Vec::new(),
        calls: Vec::new(),
        more_calls: 0,
        space: Space { estimated: Some(0.0), ..Space::default() },
        every: 1,
    };
    let is_told = night.planned <= MOST_TOLD;
    for (loaded, stand) in queue.sheets.iter().zip(&stands) {
        let made = is_told.then(|| made(&loaded.plan, &stand.history.sessions));
        for row in &stand.rows {
            night.series.push(series(loaded, row, made.as_ref()));
        }
        night.failures.extend(failures(loaded, stand));
        times(&mut night, &loaded.plan, &stand.history.sessions);
        space(&mut night.space, loaded, stand);
        calls(&mut night, loaded, (stand, common));
    }
    night.failures.truncate(MOST_FAILURES);
    Ok((night, judged))
}

fn findings(queue: &Queue) -> Vec<FindingPart> {
    let all = queue.findings().into_iter().filter(|finding| finding.allowed.is_none());
    let mut all: Vec<FindingPart> = all
        .map(|finding| FindingPart {
            level: finding.level,
            check: finding.check,
            message: finding.message,
            place: finding.at.map(|at| queue.sources.short(at.at)).unwrap_or_default(),
            help: finding.help.unwrap_or_default(),
        })
        .collect();
    all.sort_by_key(|finding| std::cmp::Reverse(finding.level));
    all
}

/// The machine of a session: the node of a cluster, where it is a task of one.
fn machine(session: &Session) -> &str {
    let node = session.began.task.as_ref().map(|task| task.node.as_str()).filter(|node| !node.is_empty());
    node.unwrap_or(&session.began.host)
}

/// What frames took in the calls that made them last: each as much as the others of its call.
fn made(plan: &Plan, sessions: &[Session]) -> MadeFrame {
    let mut made = MadeFrame::new();
    let known: HashSet<&str> = plan.outputs().map(|(_, series)| series.id.as_str()).collect();
    for session in sessions {
        for call in &session.calls {
            let Some(ended) = &call.ended else { continue };
            let frames = call.landed.iter().map(|(_, frames)| Frames::from_any(frames.clone()));
            let count = frames.reduce(|all, own| all.union(&own)).map_or(0, |frames| frames.count());
            for (series, frames) in call.landed.iter().filter(|(series, _)| known.contains(plain(series))) {
                let seconds = ended.seconds / count.max(1) as f64;
                made.extend(
                    frames
                        .iter()
                        .map(|frame| ((plain(series).to_owned(), *frame), (seconds, machine(session).to_owned()))),
                );
            }
        }
    }
    made
}

fn series(loaded: &Loaded, row: &SeriesStatus, made: Option<&MadeFrame>) -> SeriesPart {
    let plan = &loaded.plan;
    let own = plan.output(row.verdict.series);
    let (busy, mut width) = (row.busy(), 0);
    let holes = own.pattern.with_frame(|digits| {
        width = digits;
        "\u{1}".to_owned()
    });
    let planned = &row.verdict.planned;
    let mut states: Vec<(CellState, Frames)> = STATES
        .iter()
        .map(|(_, state)| (CellState::Seen(*state), row.verdict.in_state(*state).minus(&busy).minus(&row.failed)))
        .collect();
    states.push((CellState::Running, busy.intersect(planned)));
    states.push((CellState::Failed, row.failed.minus(&busy).intersect(planned)));
    states.retain(|(_, frames)| !frames.is_empty());
    let state = |frame: i64| states.iter().find(|(_, frames)| frames.contains(frame)).map(|(state, _)| *state);
    let cell = |shot: Shot, made: &MadeFrame| {
        let known = made.get(&(own.id.clone(), shot.frame));
        let running = row.running.iter().find(|call| call.frames.contains(shot.frame));
        let is_there = !matches!(shot.state, State::Missing);
        FileCell {
            frame: shot.frame,
            number: own.number(shot.frame).value(),
            state: state(shot.frame).unwrap_or(CellState::Seen(shot.state)),
            why: shot.why.unwrap_or_default(),
            seconds: known.filter(|_| is_there).map(|(seconds, _)| *seconds),
            machine: match (running, known) {
                (Some(call), _) => call.host.clone(),
                (None, Some((_, machine))) if is_there => machine.clone(),
                _ => String::new(),
            },
        }
    };
    let cells = made.map(|made| shots(own, &row.verdict).into_iter().map(|shot| cell(shot, made)).collect());
    let mut asked = Vec::new();
    asked.extend(own.size.map(|size| size.to_string()));
    asked.extend(own.file_type.map(|known| known.name.to_owned()));
    asked.extend(own.bits.map(|bits| bits.to_string()));
    asked.extend(own.channels.map(|channels| channels.to_string()));
    if own.kind != SeriesKind::Movie {
        asked.extend(own.frames.as_ref().map(|frames| cut(&frames.worded())));
    }
    SeriesPart {
        id: own.id.clone(),
        pattern: relative(plan, &own.pattern.typed()),
        asked: asked.join(", "),
        pieces: (relative(plan, &holes).split('\u{1}').map(str::to_owned).collect(), width),
        cells: cells.unwrap_or_default(),
        states,
    }
}

/// What was given up and is not there yet, the newest first.
fn failures(loaded: &Loaded, stand: &Stand) -> Vec<FailurePart> {
    let mut failed: HashMap<&str, &Frames> = HashMap::new();
    failed.extend(stand.rows.iter().map(|row| (loaded.plan.output(row.verdict.series).id.as_str(), &row.failed)));
    let still = |given_up: &GivenUp| {
        let own = given_up.series.iter().filter_map(|series| failed.get(plain(series)));
        own.fold(Frames::none(), |all, own| all.union(own)).intersect(&given_up.frames)
    };
    let mut told = Vec::new();
    let mut seen: HashMap<String, Frames> = HashMap::new();
    for given_up in stand.history.sessions.iter().rev().flat_map(|session| session.failures.iter().rev()) {
        let known = seen.entry(given_up.job.clone()).or_default();
        let frames = still(given_up).minus(known);
        if frames.is_empty() {
            continue;
        }
        *known = known.union(&frames);
        // A journal may name anything; only logs of this sheet are shown.
        let log = Path::new(&given_up.log);
        let text = guard::read_confined(log, &loaded.state.logs(), MOST_LOG).unwrap_or_default();
        let text = String::from_utf8_lossy(&text);
        let mut lines = text.lines();
        let command = lines.next().unwrap_or_default().to_owned();
        let rest: Vec<&str> = lines.collect();
        told.push(FailurePart {
            job: given_up.job.clone(),
            frames: frames.to_string(),
            why: given_up.why.clone(),
            log: given_up.log.clone(),
            lines: rest[rest.len().saturating_sub(TAIL)..].iter().map(|line| (*line).to_owned()).collect(),
            command,
        });
    }
    told
}

/// Seconds per frame of each job, over all calls that made something of it last, and who made how much.
fn times(night: &mut Night, plan: &Plan, sessions: &[Session]) {
    // By job and frame: what each set of series took, and on which machine.
    let mut took: BTreeMap<(usize, i64), BTreeMap<String, (f64, usize)>> = BTreeMap::new();
    let jobs: HashMap<&str, usize> = plan.jobs.iter().enumerate().map(|(at, job)| (job.name.as_str(), at)).collect();
    let movies: HashSet<&str> = plan.movies.iter().map(|movie| movie.id.as_str()).collect();
    for session in sessions {
        let name = machine(session);
        for call in &session.calls {
            let Some(ended) = &call.ended else { continue };
            let Some(job) = jobs.get(call.started.job.as_str()).copied() else { continue };
            let at = night.machines.iter().position(|own| own.name == name).unwrap_or_else(|| {
                night.machines.push(MachinePart { name: name.to_owned(), calls: 0, frames: 0, seconds: 0.0 });
                night.machines.len() - 1
            });
            let frames = call.landed.iter().map(|(_, frames)| Frames::from_any(frames.clone()));
            let frames = frames.reduce(|all, own| all.union(&own)).unwrap_or_default();
            let part = &mut night.machines[at];
            part.calls += 1;
            part.seconds += ended.seconds;
            if call.started.series.iter().all(|id| movies.contains(plain(id))) {
                continue;
            }
            part.frames += usize::try_from(frames.count()).unwrap_or(0);
            let key = call.started.series.iter().map(|id| plain(id)).collect::<Vec<_>>().join(",");
            let each = ended.seconds / frames.count().max(1) as f64;
            for frame in frames.iter() {
                took.entry((job, frame)).or_default().insert(key.clone(), (each, at));
            }
        }
    }
    let mut by_job: BTreeMap<usize, Vec<(i64, f64, usize)>> = BTreeMap::new();
    for ((job, frame), parts) in took {
        let seconds = parts.values().map(|(seconds, _)| seconds).sum();
        let machine = parts.values().next_back().map_or(0, |(_, at)| *at);
        by_job.entry(job).or_default().push((frame, seconds, machine));
    }
    night.times.extend(by_job.into_iter().map(|(job, points)| FrameTimes { job: plan.jobs[job].name.clone(), points }));
}

fn space(space: &mut Space, loaded: &Loaded, stand: &Stand) {
    let costs = Costs::of(&loaded.plan, &stand.history, &loaded.ground.made_of);
    for row in &stand.rows {
        let series = loaded.plan.output(row.verdict.series);
        let missing = row.verdict.in_state(State::Missing);
        for frame in row.verdict.planned.minus(missing).iter() {
            space.there += Path::new(&series.name(frame)).metadata().map_or(0.0, |about| about.len() as f64);
        }
        let left = advised(&row.verdict);
        if !left.is_empty() && !row.verdict.is_movie {
            let each = costs.bytes(series).map(|each| each * left.count() as f64);
            space.estimated = space.estimated.zip(each).map(|(sum, own)| sum + own);
        }
    }
    for root in &loaded.plan.roots {
        let free = root.path.as_deref().and_then(|path| disk::ground(Path::new(path)).free);
        if let Some(free) = free.filter(|_| space.free.iter().all(|(name, _)| *name != root.name)) {
            space.free.push((root.name.clone(), free as f64));
        }
    }
}

/// The calls of which anything is left; where nothing is, the first of each job.
fn calls(night: &mut Night, loaded: &Loaded, (stand, common): (&Stand, &Common)) {
    let plan = &loaded.plan;
    let verdicts: Vec<Verdict> = stand.rows.iter().map(|row| row.verdict.clone()).collect();
    let mut lost: Vec<Frames> = verdicts.iter().map(|verdict| outstanding(verdict, Existing::Keep)).collect();
    with_movies(plan, &mut lost, &verdicts);
    let adapter = |job: &Job| loaded.adapter(job);
    let all = || calls_of(plan, &adapter).chain(movie_calls(plan));
    let is_left = |series: &[usize], frames: &Frames| series.iter().any(|at| !lost[*at].is_disjoint(frames));
    let mut own: Vec<String> =
        all().filter(|call| is_left(&call.series, &call.frames)).map(|call| call.id.clone()).collect();
    if own.is_empty() {
        let mut seen = Vec::new();
        for call in all() {
            if !seen.contains(&call.job) {
                seen.push(call.job);
                own.push(call.id);
            }
        }
    }
    let room = MOST_CALLS.saturating_sub(night.calls.len());
    night.more_calls += own.len().saturating_sub(room);
    let line = |id: &String| {
        let mut words = super::super::words("run", &Common { jobs: Vec::new(), ..common.clone() });
        words.extend(["--only".to_owned(), id.clone()]);
        if common.sheet.len() != 1 {
            let sheet = loaded.sheet.display().to_string();
            words.splice(2..2, ["-f".to_owned(), sheet]);
        }
        super::super::pasted(&words)
    };
    night.calls.extend(own.iter().take(room).map(|id| CallPart { id: id.clone(), command: line(id) }));
}

/// The movies of a sheet; where the page finds them is said with the pictures.
pub fn movies(loaded: &Loaded, verdicts: &[Verdict]) -> Vec<(MoviePart, String)> {
    let own = verdicts.iter().filter(|verdict| verdict.is_movie);
    own.map(|verdict| {
        let series = loaded.plan.output(verdict.series);
        let path = series.name(MOVIE);
        let state = shots(series, verdict).first().map_or(State::Missing, |shot| shot.state);
        let part =
            MoviePart { id: series.id.clone(), file: relative(&loaded.plan, &path), state: state.name(), source: None };
        (part, path)
    })
    .collect()
}
