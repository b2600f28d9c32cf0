//! What is typed for `verify` and `clean`.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use super::Common;

/// `verify`.
#[derive(Debug, Args)]
pub struct VerifyArgs {
    #[command(flatten)]
    pub common: Common,
    /// Decode every picture, compare it with what landed, and look for black, flat alpha, numbers that are none, twins
    #[arg(long)]
    pub deep: bool,
    /// Compare the bytes of what has landed with what landed, and decode nothing
    #[arg(long, conflicts_with = "deep")]
    pub sums: bool,
    /// Take whole files that nobody here rendered for frames: those that bear a planned name, or almost
    #[arg(long, conflicts_with_all = ["deep", "sums", "json", "to"])]
    pub adopt: bool,
    /// Give back what was taken last
    #[arg(long, requires = "adopt")]
    pub undo: bool,
    /// For people, or as JUnit XML for a build server
    #[arg(long, value_name = "FORM", default_value = "text", conflicts_with = "json")]
    pub to: VerifyForm,
    /// Files that no sheet plans
    #[command(flatten)]
    pub loose: LooseOptions,
}

/// How `verify` answers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum VerifyForm {
    /// A table and the files that are not good.
    Text,
    /// JUnit XML: a test for each series, a failure for each reason.
    Junit,
}

/// `clean`.
#[derive(Debug, Args)]
pub struct CleanArgs {
    #[command(flatten)]
    pub common: Common,
    /// Files of versions but the newest N of each job
    #[arg(long, value_name = "N")]
    pub keep: Option<usize>,
    /// Frames of a longer range that still lie there
    #[arg(long)]
    pub left_over: bool,
    /// Stage folders and checkpoints of runs that are over
    #[arg(long)]
    pub stage: bool,
    /// Do it: without, it is only listed
    #[arg(long)]
    pub yes: bool,
    /// Put files into this folder, on the same disk (left out: .truepath/removed below their root)
    #[arg(long, value_name = "DIR")]
    pub to: Option<PathBuf>,
    /// Bring back what was put away last
    #[arg(long, conflicts_with_all = ["yes", "removed"])]
    pub undo: bool,
    /// List what was put away; with --yes, free its room for good
    #[arg(long)]
    pub removed: bool,
}

/// What `verify` looks into without a sheet.
#[derive(Debug, Args)]
#[command(next_help_heading = "Without a sheet")]
pub struct LooseOptions {
    /// Look into files of this name, such as 'shots/ferry.{frame:4}.exr' (repeatable; --frames says which are expected)
    #[arg(long, value_name = "PATTERN", conflicts_with_all = ["sheet", "mode", "jobs"])]
    pub pattern: Vec<String>,
    /// Find the sequences, pictures and movies in this folder, and look into them
    #[arg(long, value_name = "DIR", conflicts_with_all = ["sheet", "mode", "jobs"])]
    pub folder: Option<PathBuf>,
    /// The size that pictures should have, such as 1280x720; without it, that of most
    #[arg(long, value_name = "WxH")]
    pub size: Option<String>,
    /// A file type that pictures may have (repeatable)
    #[arg(long = "type", value_name = "NAME")]
    pub kind: Vec<String>,
}
