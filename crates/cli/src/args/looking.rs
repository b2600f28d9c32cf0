//! What is typed for `verify` and `clean`.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use super::Common;

/// `verify`.
#[derive(Debug, Args)]
pub struct VerifyArgs {
    #[command(flatten)]
    pub common: Common,
    /// Decode every picture, compare its bytes with what landed, and report black frames, constant alpha, NaN or infinite values, and frames identical to the one before
    #[arg(long)]
    pub deep: bool,
    /// Compare the bytes of every file with what landed, and decode nothing
    #[arg(long, conflicts_with = "deep")]
    pub sums: bool,
    /// Accept whole files that True Path did not render, if they have a planned name, or almost
    #[arg(long, conflicts_with_all = ["deep", "sums", "json", "to"])]
    pub adopt: bool,
    /// Undo the last --adopt
    #[arg(long, requires = "adopt")]
    pub undo: bool,
    /// Text for people, or JUnit XML for a build server
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
    /// Files of old versions: keep the newest N of each job
    #[arg(long, value_name = "N")]
    pub keep: Option<usize>,
    /// Frames on disk outside the planned range
    #[arg(long)]
    pub left_over: bool,
    /// Stage folders and checkpoints of finished runs
    #[arg(long)]
    pub stage: bool,
    /// Do it; without --yes, files are only listed
    #[arg(long)]
    pub yes: bool,
    /// The folder to move files into, on the same disk [default: .truepath/removed below their root]
    #[arg(long, value_name = "DIR")]
    pub into: Option<PathBuf>,
    /// Bring back what was put away last
    #[arg(long, conflicts_with_all = ["yes", "removed"])]
    pub undo: bool,
    /// List what was put away; with --yes, delete it for good
    #[arg(long)]
    pub removed: bool,
}

/// What `verify` looks into without a sheet.
#[derive(Debug, Args)]
#[command(next_help_heading = "Without a sheet")]
pub struct LooseOptions {
    /// Find the sequences, pictures and movies in this folder, and verify them
    #[arg(long, value_name = "DIR", conflicts_with_all = ["sheet", "mode", "jobs"])]
    pub folder: Option<PathBuf>,
    /// The size that pictures should have, such as 1280x720 [default: the size of most]
    #[arg(long, value_name = "SIZE")]
    pub size: Option<String>,
    /// A file type that pictures may have (repeatable)
    #[arg(long = "type", value_name = "NAME")]
    pub kind: Vec<String>,
}
