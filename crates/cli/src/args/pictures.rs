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
    #[arg(short = 'o', long = "output", value_name = "FILE")]
    pub out: PathBuf,
    /// Only every Nth frame of each row [default: all frames of a single row, eight frames of each of several rows]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub every: Option<u32>,
    /// Pictures side by side
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub columns: Option<u16>,
    /// Width of the picture in pixels
    #[arg(long, value_name = "PIXELS", default_value_t = 1280, value_parser = clap::value_parser!(u16).range(120..=16_384))]
    pub width: u16,
    /// Exposure of scene-linear pictures in stops; negative is darker
    #[arg(long, value_name = "STOPS", default_value_t = 0.0, allow_hyphen_values = true)]
    pub exposure: f32,
    /// What each row shows
    #[arg(long, value_name = "WHAT", default_value = "series")]
    pub rows: Rows,
    /// Overwrite an existing file
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
    /// Jobs with --version, --mode or --passes; without: two jobs, two folders, or two patterns such as 'old/x.{frame:4}.exr'
    pub what: Vec<String>,
    /// The sheet [default: truepath.toml here or in the nearest folder above]
    #[arg(short = 'f', long = "sheet", value_name = "FILE")]
    pub sheet: Option<PathBuf>,
    /// Two versions; one alone is compared with the version in the sheet
    #[arg(long, value_name = "VERSION", num_args = 1..=2)]
    pub version: Vec<String>,
    /// Two modes; one alone is compared with the finals, scaled to the same size
    #[arg(long, value_name = "NAME", num_args = 1..=2)]
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
    /// Scale the larger picture down to the size of the smaller one first; both are compared display-encoded
    #[arg(long)]
    pub scaled: bool,
    /// Draw the ten worst frames: before, after, and the amplified difference
    #[arg(short = 'o', long = "output", value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Overwrite an existing file
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
    /// The page to write, such as report.html; an earlier report there is overwritten
    #[arg(short = 'o', long = "output", value_name = "FILE")]
    pub out: PathBuf,
    /// Overwrite an existing page that True Path did not make
    #[arg(long)]
    pub replace: bool,
}

/// `stack`.
#[derive(Debug, Args)]
pub struct StackArgs {
    #[command(flatten)]
    pub common: Common,
    /// Names of the files, such as 'stacks/crossing.{frame:4}.exr'; the extension .exr, .tif or .ora chooses the form
    #[arg(short = 'o', long = "output", value_name = "PATTERN")]
    pub out: Option<String>,
    /// Overwrite existing files
    #[arg(long, requires = "out")]
    pub replace: bool,
}
