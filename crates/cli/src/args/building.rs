//! What is said to the commands that write command lines and tell what they take.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use truepath_core::invoke::script::cluster;
use truepath_core::invoke::script::cmd::Cmd;
use truepath_core::invoke::script::powershell::PowerShell;
use truepath_core::invoke::script::sh::Sh;
use truepath_project::build::{BuildRequest, CallForm};

use super::{AnewValues, Common};

/// `build`.
#[derive(Debug, Args)]
pub struct BuildArgs {
    #[command(flatten)]
    pub common: Common,
    /// What is written
    #[arg(long, value_name = "FORM", default_value = "sh")]
    pub to: ScriptKind,
    /// Pass the JSON to a program on its standard input instead
    #[arg(long, value_name = "PROGRAM", conflicts_with_all = ["to", "output", "into", "parts"])]
    pub through: Option<PathBuf>,
    /// Frames per call, instead of the sheet's value
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(i64).range(1..))]
    pub chunk: Option<i64>,
    /// Only what is missing or broken
    #[arg(long)]
    pub missing: bool,
    /// Split into N parts of about equal time: files named by job and range in the folder of --into, or tasks of a cluster
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub parts: Option<u64>,
    /// Let `truepath run` make each call, so that every file is checked before it gets its name
    #[arg(long)]
    pub guarded: bool,
    /// For Slurm: submit it now
    #[arg(long)]
    pub submit: bool,
    /// For Slurm: nodes need the renderer but not True Path; files are checked less strictly
    #[arg(long, conflicts_with = "guarded")]
    pub plain: bool,
    /// In scripts: continue after a failed call
    #[arg(long)]
    pub keep_going: bool,
    /// In scripts for cmd: wait for a key at the end
    #[arg(long)]
    pub pause: bool,
    /// Look up pinned values again: the version, the clock (with user and host), or all
    #[arg(long, value_name = "WHAT", num_args = 0..=1, default_missing_value = "all")]
    pub anew: Option<AnewValues>,
    /// The file to write [default: standard output]
    #[arg(short = 'o', long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// With --parts: the folder to write the files into
    #[arg(long, value_name = "DIR", requires = "parts", conflicts_with = "output")]
    pub into: Option<PathBuf>,
    /// Overwrite an existing file that True Path did not make
    #[arg(long)]
    pub replace: bool,
    /// Allow command-line settings that change the picture to write final names
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
    /// A batch script for Grid Engine, which does the same
    GridEngine,
}

impl BuildArgs {
    /// What calls are written as.
    pub fn form(&self) -> CallForm {
        match self.to {
            _ if self.through.is_some() => CallForm::Document,
            ScriptKind::Slurm => CallForm::Tasks(cluster::SLURM),
            ScriptKind::GridEngine => CallForm::Tasks(cluster::GRID_ENGINE),
            _ if self.common.json => CallForm::Document,
            ScriptKind::Sh => CallForm::Script(&Sh),
            ScriptKind::Cmd => CallForm::Script(&Cmd),
            ScriptKind::Powershell => CallForm::Script(&PowerShell),
            ScriptKind::Json => CallForm::Document,
        }
    }

    /// Whether it is for the command prompt of Windows.
    pub fn is_cmd(&self) -> bool {
        self.to == ScriptKind::Cmd
    }

    /// How calls are to be built. `again` is what [`BuildArgs::again`] gives.
    pub fn request<'b>(&self, again: &'b [String]) -> BuildRequest<'b> {
        let form = self.form();
        BuildRequest {
            form,
            guarded: self.guarded || matches!(form, CallForm::Tasks(_)) && !self.plain,
            again,
            missing: self.missing,
            keep_going: self.keep_going,
            pause: self.pause,
            chunk: self.chunk,
            anew: AnewValues::of(self.anew),
            is_final: self.is_final,
        }
    }

    /// What `truepath run` has to be told to make the same calls.
    pub fn again(&self) -> Vec<String> {
        let common = &self.common;
        let lists =
            [("--mode", &common.mode), ("--set", &common.set), ("--camera", &common.camera), ("--pass", &common.pass)];
        let lists = lists.into_iter().flat_map(|(name, values)| values.iter().map(move |value| (name, value)));
        let ones = [("--frames", &common.frames), ("--scale", &common.scale)];
        let ones = ones.into_iter().flat_map(|(name, value)| value.iter().map(move |value| (name, value)));
        let mut words: Vec<String> =
            lists.chain(ones).flat_map(|(name, value)| [name.to_owned(), value.clone()]).collect();
        words.extend(self.is_final.then(|| "--final".to_owned()));
        // A job that is not enabled is only there when it is named.
        words.extend(common.jobs.iter().cloned());
        words
    }
}

/// `estimate`.
#[derive(Debug, Args)]
pub struct EstimateArgs {
    #[command(flatten)]
    pub common: Common,
    /// How many machines work on it
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u64).range(1..))]
    pub machines: u64,
    /// First render frames to measure them: +24 picks the 24 that tell most, first,middle,last are named; the pictures are deleted
    #[arg(long, value_name = "+N|EXPR")]
    pub measure: Option<String>,
}
