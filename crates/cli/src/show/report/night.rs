//! What a report tells, as plain data.

use truepath_core::diagnostic::{Level, Slug};
use truepath_core::frames::Frames;
use truepath_core::verify::{Outcome, State};

/// All of it.
pub struct Night {
    /// The project.
    pub title: String,
    /// When it was written, for people.
    pub at: String,
    /// Whether renderers still work on it, so that the page looks again by itself.
    pub is_under_way: bool,
    /// How all stands.
    pub outcome: Outcome,
    /// Files planned, and of these those that are good.
    pub planned: i64,
    /// Good files.
    pub good: i64,
    /// Seconds until everything is there, where anything was measured.
    pub seconds_left: Option<f64>,
    /// Commands that make it complete.
    pub fixes: Vec<String>,
    /// Every series, movies too.
    pub series: Vec<SeriesPart>,
    /// A player for each job.
    pub books: Vec<Book>,
    /// How many more jobs have pictures.
    pub more_books: usize,
    /// What the checks found.
    pub findings: Vec<FindingPart>,
    /// What was given up.
    pub failures: Vec<FailurePart>,
    /// Seconds per frame, by job.
    pub times: Vec<FrameTimes>,
    /// Who rendered how much.
    pub machines: Vec<MachinePart>,
    /// Movies.
    pub movies: Vec<MoviePart>,
    /// Calls to be copied.
    pub calls: Vec<CallPart>,
    /// How many more calls there are.
    pub more_calls: usize,
    /// Disks.
    pub space: Space,
    /// So many frames stand behind one picture, where all of them would be too many.
    pub every: usize,
}

impl Night {
    /// All files on the map.
    pub fn files(&self) -> i64 {
        self.series.iter().map(SeriesPart::count).sum()
    }
}

/// One series.
pub struct SeriesPart {
    /// Its name.
    pub id: String,
    /// Its pattern, as people read it.
    pub pattern: String,
    /// Size, type, frames.
    pub asked: String,
    /// Pieces of its names: texts, and the width of each frame number between them.
    pub pieces: (Vec<String>, usize),
    /// Its frames by how their files stand.
    pub states: Vec<(CellState, Frames)>,
    /// Its files in their order, where each of them is told.
    pub cells: Vec<FileCell>,
}

impl SeriesPart {
    /// How many files it has.
    pub fn count(&self) -> i64 {
        self.states.iter().map(|(_, own)| own.count()).sum()
    }
}

/// One file on the map.
pub struct FileCell {
    /// The frame.
    pub frame: i64,
    /// The number in its name.
    pub number: i64,
    /// How it stands.
    pub state: CellState,
    /// Why it is not good, or what is going on.
    pub why: String,
    /// Seconds it took, where that is known.
    pub seconds: Option<f64>,
    /// The machine that made it.
    pub machine: String,
}

/// How a file stands on the map.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CellState {
    /// As `verify` has it.
    Seen(State),
    /// A renderer works on it.
    Running,
    /// It was given up.
    Failed,
}

impl CellState {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            CellState::Seen(state) => state.name(),
            CellState::Running => "running",
            CellState::Failed => "failed",
        }
    }
}

/// A player: the passes of one job.
pub struct Book {
    /// The job.
    pub job: String,
    /// Frames a second.
    pub fps: f64,
    /// Its passes.
    pub passes: Vec<PassPart>,
}

/// One pass of a player.
pub struct PassPart {
    /// Its name.
    pub label: String,
    /// What its shades mean, of numbers.
    pub shades: Option<String>,
    /// Width and height in pixels of its pictures.
    pub size: (usize, usize),
    /// Its frames.
    pub leaves: Vec<Leaf>,
    /// The version before, where that is there.
    pub before: Option<String>,
}

/// One frame of a player.
pub struct Leaf {
    /// The frame.
    pub frame: i64,
    /// How it stands, where it is not good.
    pub state: Option<&'static str>,
    /// The picture: JPEG in base 64.
    pub picture: Option<String>,
    /// The same frame of the version before.
    pub before: Option<String>,
}

/// One finding.
pub struct FindingPart {
    /// How grave it is.
    pub level: Level,
    /// The check.
    pub check: Slug,
    /// What is wrong.
    pub message: String,
    /// File, line and column.
    pub place: String,
    /// What to do.
    pub help: String,
}

/// Frames that were given up.
pub struct FailurePart {
    /// The job.
    pub job: String,
    /// The frames.
    pub frames: String,
    /// Why.
    pub why: String,
    /// The log.
    pub log: String,
    /// Its last lines.
    pub lines: Vec<String>,
    /// The command line of the last try.
    pub command: String,
}

/// How long the frames of a job took.
pub struct FrameTimes {
    /// The job.
    pub job: String,
    /// Frame, seconds, and the machine as an index into [`Night::machines`].
    pub points: Vec<(i64, f64, usize)>,
}

/// One machine.
pub struct MachinePart {
    /// Its name.
    pub name: String,
    /// Calls of it.
    pub calls: usize,
    /// Frames that it made.
    pub frames: usize,
    /// Seconds that its renderers took.
    pub seconds: f64,
}

/// One movie.
pub struct MoviePart {
    /// Its name.
    pub id: String,
    /// Its file, as people read it.
    pub file: String,
    /// How it stands.
    pub state: &'static str,
    /// Where the page finds it: itself, or its path from the page on.
    pub source: Option<String>,
}

/// One call.
pub struct CallPart {
    /// Its name.
    pub id: String,
    /// The command line.
    pub command: String,
}

/// Disks.
#[derive(Default)]
pub struct Space {
    /// Bytes of the files that are there.
    pub there: f64,
    /// Bytes that what is left will take, where that is known.
    pub estimated: Option<f64>,
    /// What is free, by root.
    pub free: Vec<(String, f64)>,
}
