//! What is said to the commands that write command lines and tell what they take.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use super::{AnewValues, Common};

/// `build`.
#[derive(Debug, Args)]
pub struct BuildArgs {
    #[command(flatten)]
    pub common: Common,
    /// What is written
    #[arg(long, value_name = "TARGET", default_value = "sh")]
    pub to: ScriptKind,
    /// Hand the JSON to a program instead, on its standard input
    #[arg(long, value_name = "PROGRAM", conflicts_with_all = ["to", "output", "parts"])]
    pub through: Option<PathBuf>,
    /// Frames per call, instead of what the sheet says
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(i64).range(1..))]
    pub chunk: Option<i64>,
    /// Only what is not there yet, or is broken
    #[arg(long)]
    pub missing: bool,
    /// So many parts that take about equally long: files named by job and range in the folder of -o, or tasks of Slurm
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub parts: Option<u64>,
    /// Let each call be made by `truepath run`, which checks every file before it gets its name
    #[arg(long)]
    pub guarded: bool,
    /// For Slurm: submit it at once
    #[arg(long)]
    pub submit: bool,
    /// For Slurm: nodes need the renderer only, and no True Path; files are checked less strictly
    #[arg(long, conflicts_with = "guarded")]
    pub plain: bool,
    /// In scripts: go on after a call that failed
    #[arg(long)]
    pub keep_going: bool,
    /// In scripts for cmd: wait for a key at the end
    #[arg(long)]
    pub pause: bool,
    /// Look values up anew that are pinned: the version, the clock (with user and host), or all
    #[arg(long, value_name = "WHAT", num_args = 0..=1, default_missing_value = "all")]
    pub anew: Option<AnewValues>,
    /// The file to write, or the folder of --parts (left out: standard output)
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Allow settings of the command line that change the picture under final names
    #[arg(long = "final")]
    pub is_final: bool,
}

/// What `build` writes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ScriptKind {
    /// A script for any POSIX shell
    Sh,
    /// A script for the command prompt of Windows
    Cmd,
    /// A script for PowerShell, of Windows or of any system
    Powershell,
    /// The calls as JSON
    Json,
    /// A batch script for Slurm, which submits itself as an array of tasks
    Slurm,
}

/// `estimate`.
#[derive(Debug, Args)]
pub struct EstimateArgs {
    #[command(flatten)]
    pub common: Common,
    /// For so many machines that work on it together
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u64).range(1..))]
    pub machines: u64,
    /// First render these frames to measure them: first,middle,last. They are thrown away
    #[arg(long, value_name = "EXPR")]
    pub measure: Option<String>,
}
