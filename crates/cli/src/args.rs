//! The command line: one struct per command, holding only what was typed.

mod building;
mod looking;
mod parcel;
mod pictures;
mod running;

use std::path::PathBuf;
use truepath_core::flaw::Flaw;

use clap::builder::PossibleValuesParser;
use clap::{Args, CommandFactory, Parser, Subcommand, ValueEnum};
use truepath_core::diagnostic;
use truepath_core::sheet::MOST_WORKERS;
use truepath_core::sheet::setting::KEYS;
use truepath_exec::failure::Failure;

use crate::documents;

pub use building::{BuildArgs, EstimateArgs};
pub use looking::{CleanArgs, LooseOptions, VerifyArgs, VerifyForm};
pub use parcel::{CollectArgs, PackArgs, ParcelArgs, RenderArgs};
pub use pictures::{CompareArgs, ContactArgs, ReportArgs, Rows, StackArgs};
pub use running::{AnewValues, CallOrder, ExistingFiles, RunArgs};

/// Names, checks, runs and verifies headless renders. One sheet says what to render and where every file goes.
#[derive(Debug, Parser)]
#[command(
    name = "truepath",
    version,
    about,
    max_term_width = 100,
    after_help = "Start with `truepath demo`, or with `truepath new` in a folder that has a scene."
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
    /// Write the demo project and run it through every step
    Demo(DemoArgs),
    /// Write a commented starter sheet and the folders that it names
    New(NewArgs),
    /// Show what will be written: pattern, first and last name, count, size, type
    Names(NamesArgs),
    /// Find mistakes before the first frame is rendered
    Check(CheckArgs),
    /// Show the facts of a scene, and which of its files are missing
    Scene(SceneArgs),
    /// Show what file types and codecs can hold
    Types(TypesArgs),
    /// Show the job, pass, version and frame that a file belongs to, or which part of its name does not match
    Whose(WhoseArgs),
    /// Print the JSON Schema of sheet, adapter or machine file, or of a document that --json prints
    Schema(SchemaArgs),
    /// Show what a check finds, why it matters, and how to fix it
    Explain(ExplainArgs),
    /// List, show, write and prove adapters, which describe how programs are called
    #[command(subcommand)]
    Adapter(AdapterArgs),
    /// Write the command lines as a script, as JSON or for a cluster
    Build(BuildArgs),
    /// Render what is needed on this machine; continue where the last run stopped
    #[command(after_help = running::EXAMPLES)]
    Run(RunArgs),
    /// Show how much time and disk space the rest will need, from measured frames
    Estimate(EstimateArgs),
    /// Try with another machine whether a folder can be shared: start it on both at the same time
    ShareTest(ShareTestArgs),
    /// Pack, render and collect parcels, for machines that share no disk with this one
    #[command(subcommand)]
    Parcel(ParcelArgs),
    /// Show the state of every file: good, running and where, failed, missing
    Status(StatusArgs),
    /// Show what the renderers of a job printed: files, problems, the end of a failure
    Log(LogArgs),
    /// Compare the files on disk with the plan
    #[command(mut_arg("jobs", |jobs| jobs.help(OR_PATTERNS)))]
    Verify(VerifyArgs),
    /// Draw a contact sheet: thumbnails of all frames, or a row for each pass, camera or job
    #[command(mut_arg("jobs", |jobs| jobs.help(OR_PATTERNS)))]
    Contact(ContactArgs),
    /// Compare two versions, modes, passes, jobs, folders or patterns frame by frame
    Compare(CompareArgs),
    /// Write an HTML page about the night: what is left, a map of all files, a player for each job, failures, times
    Report(ReportArgs),
    /// Free disk space: put away files of a mode, old versions, left-over frames or stage folders
    Clean(CleanArgs),
    /// Trust the adapters of a folder, so that check, names and status may start their programs
    Trust(TrustArgs),
    /// Make the movies whose frames are complete, or a movie from any pictures
    #[command(mut_arg("jobs", |jobs| jobs.help(OR_PATTERNS)))]
    Movie(MovieArgs),
    /// Combine the passes of a job into one OpenEXR, TIFF or OpenRaster file per frame
    Stack(StackArgs),
    /// Encode pictures as a movie (`run`, `movie` and scripts call this)
    Encode(EncodeArgs),
    /// Print a script that completes names of jobs, passes, modes and checks in a shell
    Completions(CompletionsArgs),
    /// Write manual pages into a folder
    Man(ManArgs),
    /// Looks at one picture, and ends well if that does not end it
    #[command(hide = true)]
    LookAt {
        /// The picture
        file: PathBuf,
    },
    /// Ends renderers when the run that started it is gone
    #[command(hide = true)]
    GuardRenderers,
    /// The small renderer that comes with True Path
    #[command(subcommand)]
    Understudy(truepath_understudy::UnderstudyCommand),
}

/// What is typed without an option where pictures of no sheet can be meant as well.
const OR_PATTERNS: &str = "Jobs, such as crossing or 'crossing/*' [default: all that are enabled], or files that no sheet plans, such as \
'shots/ferry.{frame:4}.exr'";
/// Heading of the options that choose jobs, frames and settings.
const CHOICE: &str = "Jobs, frames and settings";
/// Heading of the options for several machines.
const TOGETHER: &str = "Several machines and programs";

/// What all commands that plan have in common.
#[derive(Clone, Debug, Default, Args)]
pub struct Common {
    /// Jobs, such as crossing or 'crossing/*' [default: all that are enabled]
    pub jobs: Vec<String>,
    /// The sheet; several form one queue [default: truepath.toml here or in the nearest folder above]
    #[arg(short = 'f', long = "sheet", value_name = "FILE", help_heading = CHOICE)]
    pub sheet: Vec<PathBuf>,
    /// Apply a mode to every job (repeatable; applied in this order)
    #[arg(long, value_name = "NAME", help_heading = CHOICE)]
    pub mode: Vec<String>,
    /// Only these of each job's frames: 1-12, all/8, first,middle,last
    #[arg(long, value_name = "EXPR", allow_hyphen_values = true, help_heading = CHOICE)]
    pub frames: Option<String>,
    /// Only jobs with this camera (repeatable)
    #[arg(long, value_name = "NAME", help_heading = CHOICE)]
    pub camera: Vec<String>,
    /// Only this pass (repeatable)
    #[arg(long, value_name = "NAME", help_heading = CHOICE)]
    pub pass: Vec<String>,
    /// Render at this percentage of the size
    #[arg(long, value_name = "PERCENT", help_heading = CHOICE)]
    pub scale: Option<String>,
    /// Set a job setting: samples=16, vars.weather=fog (repeatable)
    #[arg(long, value_name = "KEY=VALUE", help_heading = CHOICE)]
    pub set: Vec<String>,
    /// Settings that other options gave: the option, and the setting as `--set` has it.
    #[arg(skip)]
    pub given: Vec<(String, String)>,
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
    /// The container [default: by the extension]
    #[arg(long = "type", value_name = "NAME")]
    pub kind: Option<String>,
    /// The codec [default: the usual one of the container]
    #[arg(long, value_name = "NAME")]
    pub codec: Option<String>,
    /// 0 to 100
    #[arg(long, value_name = "NUMBER")]
    pub quality: Option<String>,
    /// How hard the encoder works for a smaller file: low, normal, high
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
    /// The sound file
    #[arg(long, value_name = "FILE")]
    pub audio: Option<PathBuf>,
    /// Seconds by which the sound starts after the picture; negative cuts its beginning
    #[arg(long, value_name = "SECONDS", allow_hyphen_values = true)]
    pub audio_offset: Option<f64>,
    /// The codec of the sound
    #[arg(long, value_name = "NAME")]
    pub audio_codec: Option<String>,
    /// 0 to 100
    #[arg(long, value_name = "NUMBER")]
    pub audio_quality: Option<String>,
    /// The size of the movie, such as 1280x720 [default: that of the pictures]
    #[arg(long, value_name = "SIZE")]
    pub size: Option<String>,
    /// How the movie's pixels are stored: display (display-encoded) or linear (scene-linear)
    #[arg(long, value_name = "HOW")]
    pub colour: Option<String>,
    /// The background behind transparent pixels: black, checker, #rrggbb
    #[arg(long, value_name = "COLOUR")]
    pub over: Option<String>,
    /// A line below the picture, with {name}, {frame} and {timecode}
    #[arg(long, value_name = "TEXT")]
    pub burn: Option<String>,
    /// The timecode of the first frame: 01:00:00:00
    #[arg(long, value_name = "TIMECODE")]
    pub start_timecode: Option<String>,
    /// The adapter of the encoder [default: the first that can make it]
    #[arg(long, value_name = "NAME")]
    pub encoder: Option<String>,
}

/// `encode`.
#[derive(Clone, Debug, Default, Args)]
pub struct EncodeArgs {
    /// Patterns of pictures, shown one after another: shots/ferry.{frame:4}.png
    #[arg(required = true)]
    pub patterns: Vec<String>,
    /// The frames that exist, once for each pattern
    #[arg(long, value_name = "EXPR", allow_hyphen_values = true)]
    pub frames: Vec<String>,
    /// The frames to show, once for each pattern; a missing one repeats the frame before
    #[arg(long, value_name = "EXPR", allow_hyphen_values = true)]
    pub span: Vec<String>,
    /// The layer of each pattern's files
    #[arg(long, value_name = "NAME")]
    pub layer: Vec<String>,
    /// How each pattern's pixels are stored: linear, display, or as usual for their type
    #[arg(long, value_name = "linear|display|type")]
    pub pixels: Vec<String>,
    /// The file to write
    // Scripts that were written earlier call `--out`.
    #[arg(short = 'o', long = "output", alias = "out", value_name = "FILE")]
    pub out: PathBuf,
    /// Overwrite an existing movie
    #[arg(long)]
    pub replace: bool,
    #[command(flatten)]
    pub options: MovieOptions,
}

/// `movie`.
#[derive(Clone, Debug, Args)]
pub struct MovieArgs {
    /// The movie to write, for pictures outside any sheet
    #[arg(short = 'o', long = "output", value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// What to do about gaps: refuse, hold (repeat the frame before) or close (skip them)
    #[arg(long, value_name = "HOW", requires = "out")]
    pub gaps: Option<String>,
    /// Overwrite an existing file
    #[arg(long)]
    pub replace: bool,
    /// Continue with other movies after one has failed
    #[arg(long)]
    pub keep_going: bool,
    /// Print what happens as lines of JSON, one for each event
    #[arg(long, conflicts_with_all = ["json", "out"])]
    pub events: bool,
    #[command(flatten)]
    pub options: MovieOptions,
    #[command(flatten)]
    pub common: Common,
}

/// How many renderers run at a time, as it was typed.
fn workers(text: &str) -> Result<usize, Flaw> {
    let number = text.parse::<i64>().ok().filter(|number| (1..=MOST_WORKERS).contains(number));
    let number = number.and_then(|number| usize::try_from(number).ok());
    number.ok_or_else(|| Flaw::new(format!("write a whole number from 1 to {MOST_WORKERS}")))
}

/// `demo`.
#[derive(Debug, Args)]
pub struct DemoArgs {
    /// The folder to write the project into
    #[arg(default_value = "night-ferry")]
    pub folder: PathBuf,
}

/// `new`.
#[derive(Debug, Args)]
pub struct NewArgs {
    /// The folder to write the sheet into
    #[arg(default_value = ".")]
    pub folder: PathBuf,
    /// The sheet of a studio: the new one builds on it and gives only what it does not give
    #[arg(long, value_name = "FILE")]
    pub from: Option<PathBuf>,
}

/// `names`.
#[derive(Debug, Args)]
pub struct NamesArgs {
    #[command(flatten)]
    pub common: Common,
    /// Print every path, one per line
    #[arg(long, conflicts_with = "json")]
    pub all: bool,
    /// Show where each value comes from, and which values it replaces
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
    /// Read the sheet and its adapters only; ask nothing of the disk and this machine
    #[arg(long)]
    pub offline: bool,
    /// Count warnings as errors
    #[arg(long)]
    pub strict: bool,
    /// How to print findings (--json is the same as --to json)
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub to: OutputForm,
    /// Apply the fixes that are safe and certain, and show the change
    #[arg(long)]
    pub fix: bool,
    /// Check each mode as well, one after another
    #[arg(long, conflicts_with_all = ["mode", "fix"])]
    pub all_modes: bool,
}

/// How findings are printed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum OutputForm {
    /// For people, each finding at its place in the sheet
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
    /// Frames per second, for scenes that are timed in seconds
    #[arg(long)]
    pub fps: Option<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `types`.
#[derive(Debug, Args)]
pub struct TypesArgs {
    /// A type, codec or extension [default: a list of all]
    pub name: Option<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `share-test`.
#[derive(Debug, Args)]
pub struct ShareTestArgs {
    /// The folder, as this machine sees it
    pub folder: PathBuf,
    /// How long to wait for the other machine, and for each of its answers
    #[arg(long, value_name = "TIME", default_value = "2min", value_parser = humantime::parse_duration)]
    pub wait: std::time::Duration,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `whose`.
#[derive(Debug, Args)]
pub struct WhoseArgs {
    /// Files, with paths of any system; they need not exist
    #[arg(required = true)]
    pub files: Vec<String>,
    /// The sheet; several form one queue
    #[arg(short = 'f', long = "sheet", value_name = "FILE")]
    pub sheet: Vec<PathBuf>,
    /// Apply a mode to every job (repeatable)
    #[arg(long, value_name = "NAME")]
    pub mode: Vec<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `schema`.
#[derive(Debug, Args)]
pub struct SchemaArgs {
    /// What it describes: sheet, adapter, machine, a command with --json such as verify or parcel-collect, or events
    #[arg(default_value = "sheet", hide_possible_values = true, value_parser = described())]
    pub of: String,
}

/// What has a schema.
fn described() -> PossibleValuesParser {
    PossibleValuesParser::new(["sheet", "adapter", "machine"].into_iter().chain(documents::names()))
}

/// `completions`.
#[derive(Debug, Args)]
pub struct CompletionsArgs {
    /// The shell
    pub shell: Shell,
}

/// A shell that can complete.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Shell {
    /// For ~/.bashrc: source <(truepath completions bash)
    Bash,
    /// For ~/.zshrc, after compinit: source <(truepath completions zsh)
    Zsh,
    /// For ~/.config/fish/config.fish: truepath completions fish | source
    Fish,
    /// For $PROFILE: truepath completions powershell | Out-String | Invoke-Expression
    Powershell,
}

/// `man`.
#[derive(Debug, Args)]
pub struct ManArgs {
    /// The folder to write the pages into
    pub folder: PathBuf,
    /// Overwrite existing files that True Path did not make
    #[arg(long)]
    pub replace: bool,
}

/// `explain`.
#[derive(Debug, Args)]
pub struct ExplainArgs {
    /// The check's name [default: a list of all checks]
    pub check: Option<String>,
}

/// `adapter`.
#[derive(Debug, Subcommand)]
pub enum AdapterArgs {
    /// List the adapters that a sheet can use here, and where their programs are
    List(AdapterList),
    /// Show which settings an adapter passes on, and what it accepts
    Show(AdapterOf),
    /// Write a commented starter
    New(AdapterNew),
    /// Render two tiny frames for everything that an adapter claims, and show which claims are true
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
    /// The program that it calls [default: the adapter's name]
    #[arg(long, value_name = "PROGRAM")]
    pub program: Option<String>,
    /// The program's own help, saved to a file (- for standard input), to find its arguments
    #[arg(long, value_name = "FILE")]
    pub from_help: Option<PathBuf>,
    /// The folder to write it into
    #[arg(long, value_name = "DIR", default_value = "adapters")]
    pub into: PathBuf,
}

/// `adapter prove`.
#[derive(Debug, Args)]
pub struct AdapterProve {
    #[command(flatten)]
    pub of: AdapterOf,
    /// The scene to render [default: a small harbour, for adapters that read glTF]
    #[arg(long, value_name = "FILE")]
    pub scene: Option<PathBuf>,
    /// The camera to render through
    #[arg(long, value_name = "NAME")]
    pub camera: Option<String>,
    /// A job setting that the program needs (repeatable)
    #[arg(long, value_name = "KEY=VALUE")]
    pub set: Vec<String>,
}

/// `status`.
#[derive(Debug, Args)]
pub struct StatusArgs {
    #[command(flatten)]
    pub common: Common,
    /// Update every second until everything is done
    #[arg(long, conflicts_with_all = ["json", "why"])]
    pub watch: bool,
    /// Show what frame 12 was made from and what differs now; compare two frames (12,48); `movie` for movies
    #[arg(long, value_name = "FRAME", allow_hyphen_values = true, conflicts_with = "json")]
    pub why: Option<String>,
    /// With --why: also everything that the frame was rendered from
    #[arg(long, requires = "why")]
    pub all: bool,
}

/// `trust`.
#[derive(Debug, Args)]
pub struct TrustArgs {
    /// The folder of a sheet [default: that of the nearest truepath.toml]
    pub folder: Option<PathBuf>,
    /// Stop trusting it
    #[arg(long)]
    pub forget: bool,
}

/// `log`.
#[derive(Debug, Args)]
pub struct LogArgs {
    /// The job, such as crossing or 'crossing/*'
    pub job: String,
    /// Only calls with any of these frames
    #[arg(allow_hyphen_values = true)]
    pub frames: Option<String>,
    /// The sheet; several form one queue
    #[arg(short = 'f', long = "sheet", value_name = "FILE")]
    pub sheet: Vec<PathBuf>,
    /// Apply a mode to every job (repeatable)
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

/// What to say where a setting of a sheet was typed as an option of its own, such as `--samples 2`.
#[must_use]
pub fn setting_as_option(error: &clap::Error, typed: impl Iterator<Item = String>) -> Option<Failure> {
    if error.kind() != clap::error::ErrorKind::UnknownArgument {
        return None;
    }
    let Some(clap::error::ContextValue::String(option)) = error.get(clap::error::ContextKind::InvalidArg) else {
        return None;
    };
    let (name, given) = option.split_once('=').map_or((option.as_str(), None), |(name, value)| (name, Some(value)));
    let key = name.strip_prefix("--")?.replace('-', "_");
    let keys: Vec<&str> = KEYS.iter().map(|(known, _)| *known).collect();
    let key = keys.iter().find(|known| **known == key).copied().or_else(|| diagnostic::usual(&key, &keys))?;
    let typed: Vec<String> = typed.collect();
    // Only commands that read a sheet take settings.
    let command = typed.iter().skip(1).find(|word| !word.starts_with('-'))?;
    let takes = Cli::command();
    takes.find_subcommand(command)?.get_arguments().find(|own| own.get_long() == Some("set"))?;
    let behind = || typed.iter().skip_while(|word| *word != name).nth(1).filter(|word| !word.starts_with('-'));
    let glued = typed.iter().find_map(|word| word.strip_prefix(name)?.strip_prefix('='));
    let value = given.or(glued).map(str::to_owned).or_else(|| behind().cloned()).unwrap_or_else(|| "VALUE".to_owned());
    Some(
        Failure::unreadable(format!("there is no option {name}: {key} is a setting of the sheet"))
            .help(format!("write --set {}", truepath_core::invoke::quote::sh::word(&format!("{key}={value}")))),
    )
}
