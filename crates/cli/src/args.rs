//! The command line: one struct per command, holding only what was typed.

mod building;
mod looking;
mod parcel;
mod pictures;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use truepath_core::pins::Anew;

pub use building::{BuildArgs, EstimateArgs, ScriptKind};
pub use looking::{CleanArgs, LooseOptions, VerifyArgs, VerifyForm};
pub use parcel::{CollectArgs, PackArgs, ParcelArgs, RenderArgs};
pub use pictures::{CompareArgs, ContactArgs, ReportArgs, Rows, StackArgs};

/// Names, checks, runs and verifies headless renders: one sheet says what is rendered and where every file goes.
#[derive(Debug, Parser)]
#[command(
    name = "truepath",
    version,
    about,
    max_term_width = 100,
    after_help = "Start with `truepath demo`, or with `truepath new` in a folder of your own."
)]
pub struct Cli {
    /// Show what True Path itself does (twice for more)
    #[arg(short, long, action = clap::ArgAction::Count, global = true)]
    pub verbose: u8,
    /// What to do
    #[command(subcommand)]
    pub command: Command,
}

/// What to do.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Write the demo project and take it through the whole way
    Demo(DemoArgs),
    /// Write a starter sheet, commented, with the folders it names
    New(NewArgs),
    /// Show what will be written: pattern, first and last name, count, size, type
    Names(NamesArgs),
    /// Find every mistake before the first frame
    Check(CheckArgs),
    /// Show the facts of a scene, and which of its files are missing
    Scene(SceneArgs),
    /// Show what file types and codecs can hold
    Formats(FormatsArgs),
    /// Tell which job, pass, version and frame a file belongs to, or which part of its name does not fit
    Whose(WhoseArgs),
    /// Print the JSON Schema of sheet, adapter or machine file, for editors
    Schema(SchemaArgs),
    /// Tell what a check looks for, why it matters, and how it is put right
    Explain(ExplainArgs),
    /// Adapters: what there is, what one can carry, a new one, the proof
    #[command(subcommand)]
    Adapter(AdapterArgs),
    /// Write the command lines, as scripts, as JSON or for a cluster
    Build(BuildArgs),
    /// Render what is needed, here; go on where the last run stopped
    Run(RunArgs),
    /// Tell how long what is left will take, and how much room, from measured frames
    Estimate(EstimateArgs),
    /// Parcels for machines that share nothing with this one: pack them, render them there, collect what came out
    #[command(subcommand)]
    Parcel(ParcelArgs),
    /// Show how far everything is: done, running and where, failed, missing
    Status(StatusArgs),
    /// Show what the renderers of a job said: files, problems, the end of a failure
    Log(LogArgs),
    /// Compare what lies on disk with what was planned
    Verify(VerifyArgs),
    /// Draw a contact sheet: thumbnails of all frames, or a row for each pass, camera or job
    Contact(ContactArgs),
    /// Compare two versions, modes, passes, jobs, folders or patterns frame by frame
    Compare(CompareArgs),
    /// Write an HTML page about the night: what is left, a map of all files, flipbooks, failures, times
    Report(ReportArgs),
    /// Make room: put files of a mode, of old versions, of longer ranges or of dead runs away
    Clean(CleanArgs),
    /// Let the programs that a folder's adapters name be asked by commands that only look
    Trust(TrustArgs),
    /// Make the movies whose frames are complete, or a movie of any pictures
    Movie(MovieArgs),
    /// Combine the passes of a job into one OpenEXR, TIFF or OpenRaster file per frame
    Stack(StackArgs),
    /// Encode pictures as a movie: what `run`, `movie` and scripts call
    Encode(EncodeArgs),
    /// Looks at one picture, and ends well if that does not end it
    #[command(hide = true)]
    LookAt {
        /// The picture
        file: PathBuf,
    },
    /// Ends renderers when the run that started it is gone
    #[command(hide = true)]
    GuardRenderers,
    /// The small renderer that ships with True Path
    #[command(subcommand)]
    Understudy(truepath_understudy::Command),
}

/// What all commands that plan have in common.
#[derive(Clone, Debug, Default, Args)]
pub struct Common {
    /// Jobs or combinations, such as crossing or 'crossing/*' (left out: all that are enabled)
    pub jobs: Vec<String>,
    /// The sheet; several form one queue (left out: truepath.toml here or in the nearest folder above)
    #[arg(short = 'f', long = "sheet", value_name = "FILE")]
    pub sheet: Vec<PathBuf>,
    /// Lay a mode over every job (repeatable, in this order)
    #[arg(long, value_name = "NAME")]
    pub mode: Vec<String>,
    /// Of the jobs' own frames only these: 1-12, all/8, first,middle,last
    #[arg(long, value_name = "EXPR", allow_hyphen_values = true)]
    pub frames: Option<String>,
    /// Only jobs with this camera (repeatable)
    #[arg(long, value_name = "NAME")]
    pub camera: Vec<String>,
    /// Only this pass (repeatable)
    #[arg(long, value_name = "NAME")]
    pub pass: Vec<String>,
    /// Percent of the size
    #[arg(long, value_name = "PERCENT")]
    pub scale: Option<String>,
    /// Set any job setting: samples=16, vars.weather=fog (repeatable)
    #[arg(long, value_name = "KEY=VALUE")]
    pub set: Vec<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// How a movie is made of pictures.
#[derive(Clone, Debug, Default, Args)]
#[command(next_help_heading = "The movie")]
pub struct MovieOptions {
    /// Frames per second: 24, 24000/1001
    #[arg(long, value_name = "FPS")]
    pub fps: Option<String>,
    /// The container (left out: by the extension)
    #[arg(long = "type", value_name = "NAME")]
    pub kind: Option<String>,
    /// The codec (left out: the usual one of the container)
    #[arg(long, value_name = "NAME")]
    pub codec: Option<String>,
    /// 0 to 100
    #[arg(long, value_name = "NUMBER")]
    pub quality: Option<String>,
    /// How hard the encoder tries for a smaller file: low, normal, high
    #[arg(long, value_name = "HOW")]
    pub effort: Option<String>,
    /// The chroma layout: 420, 422, 444
    #[arg(long, value_name = "NAME")]
    pub chroma: Option<String>,
    /// Depth of a sample
    #[arg(long, value_name = "NUMBER")]
    pub bits: Option<String>,
    /// rgb, or rgba to keep an alpha
    #[arg(long, value_name = "NAME")]
    pub channels: Option<String>,
    /// A sound file
    #[arg(long, value_name = "FILE")]
    pub audio: Option<PathBuf>,
    /// Seconds by which the sound begins after the picture; below zero, how much of it is left out
    #[arg(long, value_name = "SECONDS", allow_hyphen_values = true)]
    pub audio_offset: Option<f64>,
    /// The codec of the sound
    #[arg(long, value_name = "NAME")]
    pub audio_codec: Option<String>,
    /// 0 to 100
    #[arg(long, value_name = "NUMBER")]
    pub audio_quality: Option<String>,
    /// Another size than that of the pictures: 1280x720
    #[arg(long, value_name = "SIZE")]
    pub size: Option<String>,
    /// How the movie's pixels are meant: display or linear
    #[arg(long, value_name = "HOW")]
    pub colour: Option<String>,
    /// What lies behind transparent pixels: black, checker, #rrggbb
    #[arg(long, value_name = "COLOUR")]
    pub over: Option<String>,
    /// A line below the picture, with {name}, {frame} and {timecode}
    #[arg(long, value_name = "TEXT")]
    pub burn: Option<String>,
    /// The timecode of the first frame: 01:00:00:00
    #[arg(long, value_name = "TIMECODE")]
    pub start_timecode: Option<String>,
    /// The adapter of the encoder (left out: the first that can do it)
    #[arg(long, value_name = "NAME")]
    pub encoder: Option<String>,
}

/// `encode`.
#[derive(Clone, Debug, Default, Args)]
pub struct EncodeArgs {
    /// Names of pictures, one after another: shots/ferry.{frame:4}.png
    #[arg(required = true)]
    pub patterns: Vec<String>,
    /// The numbers that are there, once for each pattern
    #[arg(long, value_name = "EXPR", allow_hyphen_values = true)]
    pub frames: Vec<String>,
    /// The numbers that are shown, once for each pattern: what is not there is stood in for by the one before
    #[arg(long, value_name = "EXPR", allow_hyphen_values = true)]
    pub span: Vec<String>,
    /// The layer of each pattern's files
    #[arg(long, value_name = "NAME")]
    pub layer: Vec<String>,
    /// How each pattern's pixels are meant: linear, display, or as their type says
    #[arg(long, value_name = "linear|display|type")]
    pub pixels: Vec<String>,
    /// The file to write
    #[arg(short, long, value_name = "FILE")]
    pub out: PathBuf,
    #[command(flatten)]
    pub options: MovieOptions,
}

/// `movie`.
#[derive(Clone, Debug, Args)]
pub struct MovieArgs {
    /// For pictures outside any sheet: the movie to write
    #[arg(short, long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Frames that are left out: refuse, hold the one before, or close up
    #[arg(long, value_name = "HOW", requires = "out")]
    pub gaps: Option<String>,
    /// Write over a file that is there
    #[arg(long)]
    pub replace: bool,
    /// Go on with other movies after one has failed
    #[arg(long)]
    pub keep_going: bool,
    #[command(flatten)]
    pub options: MovieOptions,
    #[command(flatten)]
    pub common: Common,
}

/// `demo`.
#[derive(Debug, Args)]
pub struct DemoArgs {
    /// Where the project is written
    #[arg(default_value = "night-ferry")]
    pub folder: PathBuf,
}

/// `new`.
#[derive(Debug, Args)]
pub struct NewArgs {
    /// Where the sheet is written
    #[arg(default_value = ".")]
    pub folder: PathBuf,
    /// A studio's own sheet: the new one is laid over it and gives only what it leaves open
    #[arg(long, value_name = "FILE")]
    pub from: Option<PathBuf>,
}

/// `names`.
#[derive(Debug, Args)]
pub struct NamesArgs {
    #[command(flatten)]
    pub common: Common,
    /// Print every path, one a line
    #[arg(long, conflicts_with = "json")]
    pub all: bool,
    /// Show where each value comes from, and what it was laid over
    #[arg(long, conflicts_with_all = ["json", "all"])]
    pub why: bool,
    /// Show every token with its value
    #[arg(long, conflicts_with_all = ["json", "all", "why"])]
    pub tokens: bool,
    /// With --all: end each path with a zero byte
    #[arg(short = '0', long, requires = "all")]
    pub null: bool,
}

/// `check`.
#[derive(Debug, Args)]
pub struct CheckArgs {
    #[command(flatten)]
    pub common: Common,
    /// Ask neither disk nor machine
    #[arg(long)]
    pub offline: bool,
    /// Let warnings count as errors
    #[arg(long)]
    pub strict: bool,
    /// How findings are printed (--json is --to json)
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub to: OutputForm,
    /// Apply the remedies that are safe and certain, and show the change
    #[arg(long)]
    pub fix: bool,
}

/// How findings are printed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum OutputForm {
    /// For people, each at its place in the sheet
    Text,
    /// One JSON document
    Json,
    /// SARIF 2.1.0, for code hosts and editors
    Sarif,
}

/// `scene`.
#[derive(Debug, Args)]
pub struct SceneArgs {
    /// Scene files
    #[arg(required = true)]
    pub scenes: Vec<PathBuf>,
    /// Frames per second, for scenes that know seconds only
    #[arg(long)]
    pub fps: Option<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `formats`.
#[derive(Debug, Args)]
pub struct FormatsArgs {
    /// One type, codec or extension (left out: all, in short)
    pub name: Option<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `whose`.
#[derive(Debug, Args)]
pub struct WhoseArgs {
    /// Files, spelt as on any system; they need not exist
    #[arg(required = true)]
    pub files: Vec<String>,
    /// The sheet; several form one queue
    #[arg(short = 'f', long = "sheet", value_name = "FILE")]
    pub sheet: Vec<PathBuf>,
    /// Lay a mode over every job (repeatable)
    #[arg(long, value_name = "NAME")]
    pub mode: Vec<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `schema`.
#[derive(Debug, Args)]
pub struct SchemaArgs {
    /// Of what
    #[arg(default_value = "sheet")]
    pub of: Described,
}

/// What a schema describes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Described {
    /// The sheet
    Sheet,
    /// An adapter
    Adapter,
    /// The machine file
    Machine,
}

/// `explain`.
#[derive(Debug, Args)]
pub struct ExplainArgs {
    /// The check's name (left out: the list of all checks)
    pub check: Option<String>,
}

/// `adapter`.
#[derive(Debug, Subcommand)]
pub enum AdapterArgs {
    /// Every adapter that can be named here, and where its program is
    List(AdapterList),
    /// What an adapter can carry and accept, and what not
    Show(AdapterOf),
    /// Write a commented starter
    New(AdapterNew),
    /// Render two tiny frames for everything an adapter claims, in scratch, and tell what held
    Prove(AdapterProve),
}

/// `adapter list`.
#[derive(Debug, Args)]
pub struct AdapterList {
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// Which adapter.
#[derive(Debug, Args)]
pub struct AdapterOf {
    /// The adapter
    pub name: String,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `adapter new`.
#[derive(Debug, Args)]
pub struct AdapterNew {
    /// The adapter's name
    pub name: String,
    /// The program it drives (left out: that of its name)
    #[arg(long, value_name = "PROGRAM")]
    pub program: Option<String>,
    /// The program's own help, saved to a file (- for standard input): arguments for what is recognised in it
    #[arg(long, value_name = "FILE")]
    pub from_help: Option<PathBuf>,
    /// Where it is written
    #[arg(long, value_name = "DIR", default_value = "adapters")]
    pub folder: PathBuf,
}

/// `adapter prove`.
#[derive(Debug, Args)]
pub struct AdapterProve {
    #[command(flatten)]
    pub of: AdapterOf,
    /// The scene to render (left out: a small harbour, for adapters that read glTF)
    #[arg(long, value_name = "FILE")]
    pub scene: Option<PathBuf>,
    /// The camera to render through
    #[arg(long, value_name = "NAME")]
    pub camera: Option<String>,
    /// Any job setting that the program cannot do without (repeatable)
    #[arg(long, value_name = "KEY=VALUE")]
    pub set: Vec<String>,
}

/// Which pinned values are looked up anew.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum AnewValues {
    /// The version of each job
    Version,
    /// Clock, user and host of the version that a job has
    Clock,
    /// Both
    All,
}

impl AnewValues {
    /// What is looked up anew where this is said, or nothing.
    #[must_use]
    pub fn of(said: Option<AnewValues>) -> Anew {
        let is = |own: AnewValues| said == Some(own) || said == Some(AnewValues::All);
        Anew { version: is(AnewValues::Version), clock: is(AnewValues::Clock) }
    }
}

/// `run`.
#[derive(Debug, Args)]
pub struct RunArgs {
    #[command(flatten)]
    pub common: Common,
    /// What becomes of files that are there
    #[arg(long, value_name = "HOW")]
    pub existing: Option<ExistingFiles>,
    /// Look values up anew that are pinned: the version, the clock (with user and host), or all
    #[arg(long, value_name = "WHAT", num_args = 0..=1, default_missing_value = "all")]
    pub anew: Option<AnewValues>,
    /// Renderers at a time
    #[arg(long, value_name = "N")]
    pub workers: Option<usize>,
    /// Only these calls, by the names that `build --to json` gives them (repeatable)
    #[arg(long, value_name = "ID")]
    pub only: Vec<String>,
    /// Frames per call, instead of what the sheet says
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(i64).range(1..))]
    pub chunk: Option<i64>,
    /// The order of calls
    #[arg(long, value_name = "HOW", default_value = "sheet")]
    pub order: CallOrder,
    /// Work on the sheet together with other processes and machines that say the same
    #[arg(long, conflicts_with = "anew")]
    pub share: bool,
    /// Make only what comes before the first frame: exported scenes
    #[arg(long, conflicts_with_all = ["share", "only"])]
    pub exports: bool,
    /// Go on with a job of which nothing came out in its first calls
    #[arg(long)]
    pub keep_going: bool,
    /// Write the page of `truepath report` at the start, every minute, and at the end
    #[arg(long, value_name = "FILE")]
    pub report: Option<PathBuf>,
    /// Open the folder of the pictures at the end
    #[arg(long)]
    pub open: bool,
    /// Allow settings of the command line that change the picture under final names
    #[arg(long = "final")]
    pub is_final: bool,
    /// Whether only movies are made: that is how `movie` runs.
    #[arg(skip)]
    pub movies: bool,
}

impl RunArgs {
    /// A run with nothing else said.
    #[must_use]
    pub fn of(common: Common) -> RunArgs {
        RunArgs {
            common,
            existing: None,
            anew: None,
            workers: None,
            only: Vec::new(),
            chunk: None,
            order: CallOrder::Sheet,
            share: false,
            exports: false,
            keep_going: false,
            report: None,
            open: false,
            is_final: false,
            movies: false,
        }
    }
}

/// The order of calls.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum CallOrder {
    /// As the sheet has them
    Sheet,
    /// First, last and middle frame of everything first, then the rest
    Spread,
}

/// What becomes of files that are there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ExistingFiles {
    /// Missing and cut-off frames are rendered, everything else stays
    Keep,
    /// Frames that are not as planned are rendered again too
    Renew,
    /// All frames are rendered again
    Replace,
    /// Nothing starts where anything exists
    Stop,
}

/// `status`.
#[derive(Debug, Args)]
pub struct StatusArgs {
    #[command(flatten)]
    pub common: Common,
    /// Look again every second, until everything is done
    #[arg(long, conflicts_with_all = ["json", "why"])]
    pub watch: bool,
    /// Tell what a frame was made of, and what differs now; two frames (12,48) are compared; `movie` for movies
    #[arg(long, value_name = "FRAME", allow_hyphen_values = true, conflicts_with = "json")]
    pub why: Option<String>,
}

/// `trust`.
#[derive(Debug, Args)]
pub struct TrustArgs {
    /// The folder of a sheet [default: that of the nearest truepath.toml]
    pub folder: Option<PathBuf>,
    /// Trust it no longer
    #[arg(long)]
    pub forget: bool,
}

/// `log`.
#[derive(Debug, Args)]
pub struct LogArgs {
    /// The job or combination, such as crossing or 'crossing/*'
    pub job: String,
    /// Only calls with any of these frames
    #[arg(allow_hyphen_values = true)]
    pub frames: Option<String>,
    /// The sheet; several form one queue
    #[arg(short = 'f', long = "sheet", value_name = "FILE")]
    pub sheet: Vec<PathBuf>,
    /// Lay a mode over every job (repeatable)
    #[arg(long, value_name = "NAME")]
    pub mode: Vec<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

impl LogArgs {
    /// What it has in common with commands that plan.
    pub fn common(&self) -> Common {
        let (jobs, sheet, mode) = (vec![self.job.clone()], self.sheet.clone(), self.mode.clone());
        Common { jobs, sheet, mode, json: self.json, ..Common::default() }
    }
}
