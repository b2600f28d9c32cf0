//! What is typed for `contact`, `compare`, `report` and `stack`.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use super::Common;

/// `contact`.
#[derive(Debug, Args)]
pub struct ContactArgs {
    #[command(flatten)]
    pub common: Common,
    /// The picture to write, such as contact.png
    #[arg(short = 'o', long, value_name = "FILE")]
    pub out: PathBuf,
    /// Of each row every Nth frame (left out: of one row all, of several as many as fit side by side)
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub every: Option<u32>,
    /// Pictures side by side
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub columns: Option<u16>,
    /// Width of the whole sheet in pixels
    #[arg(long, value_name = "PIXELS", default_value_t = 1280, value_parser = clap::value_parser!(u16).range(120..=16_384))]
    pub width: u16,
    /// Make scene-linear pictures brighter by so many stops; less than 0 is darker
    #[arg(long, value_name = "STOPS", default_value_t = 0.0, allow_hyphen_values = true)]
    pub exposure: f32,
    /// What each row shows (left out: each series, that is each pass of each job)
    #[arg(long, value_name = "WHAT", default_value = "series")]
    pub rows: Rows,
    /// Write over a file that is there
    #[arg(long)]
    pub replace: bool,
}

/// What a row of a contact sheet shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Rows {
    /// Each pass of each job
    Series,
    /// The first series of each pass
    Pass,
    /// The first series of each camera
    Camera,
    /// The first series of each job
    Job,
}

/// `compare`.
#[derive(Debug, Args)]
pub struct CompareArgs {
    /// Jobs; or two jobs, two folders, or two patterns such as 'old/x.{frame:4}.exr' to be compared with each other
    pub what: Vec<String>,
    /// The sheet (left out: truepath.toml here or in the nearest folder above)
    #[arg(short = 'f', long = "sheet", value_name = "FILE")]
    pub sheet: Option<PathBuf>,
    /// Two versions; one is compared with what the sheet says now
    #[arg(long, value_name = "VERSION", num_args = 1..=2)]
    pub version: Vec<String>,
    /// Two modes; one is compared with the finals, brought to its size
    #[arg(long, value_name = "MODE", num_args = 1..=2)]
    pub mode: Vec<String>,
    /// Two passes with each other
    #[arg(long, value_name = "PASS", num_args = 2)]
    pub passes: Vec<String>,
    /// Only these frames
    #[arg(long, value_name = "EXPR", allow_hyphen_values = true)]
    pub frames: Option<String>,
    /// Only jobs with this camera (repeatable)
    #[arg(long, value_name = "NAME")]
    pub camera: Vec<String>,
    /// Only this pass (repeatable)
    #[arg(long, value_name = "NAME")]
    pub pass: Vec<String>,
    /// The largest difference that passes: 0.002, or 1/255; 1 is white
    #[arg(long, value_name = "VALUE", default_value = "0", allow_hyphen_values = true)]
    pub tolerance: String,
    /// Bring the larger of two sizes to the smaller one, and compare both as displayed
    #[arg(long)]
    pub scaled: bool,
    /// Draw the worst frames: before, after, and what differs, made brighter
    #[arg(short = 'o', long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Write over a file that is there
    #[arg(long, requires = "out")]
    pub replace: bool,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `report`.
#[derive(Debug, Args)]
pub struct ReportArgs {
    #[command(flatten)]
    pub common: Common,
    /// The page to write, such as report.html; an earlier report there is written over
    #[arg(short = 'o', long, value_name = "FILE")]
    pub out: PathBuf,
}

/// `stack`.
#[derive(Debug, Args)]
pub struct StackArgs {
    #[command(flatten)]
    pub common: Common,
    /// Where the files go, such as 'stacks/crossing.{frame:4}.exr': .exr, .tif or .ora says what they are. Without it, only
    /// --json is answered
    #[arg(short = 'o', long, value_name = "PATTERN")]
    pub out: Option<String>,
    /// Write over files that are there (left out: they stay)
    #[arg(long, requires = "out")]
    pub replace: bool,
}
