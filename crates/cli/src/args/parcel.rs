//! What is said to the commands for parcels.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::Common;

/// `parcel`.
#[derive(Debug, Subcommand)]
pub enum ParcelArgs {
    /// Write self-contained folders, each with a part of the plan: scene, files, adapter, sheet and scripts
    Pack(PackArgs),
    /// Render parcels on this machine
    Render(RenderArgs),
    /// Check the files of rendered parcels, land them in the project, and show what is still missing
    Collect(CollectArgs),
}

/// `parcel pack`.
#[derive(Debug, Args)]
pub struct PackArgs {
    #[command(flatten)]
    pub common: Common,
    /// How many parcels, of about equal time [default: one per job]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub parts: Option<u64>,
    /// The folder to write them into
    #[arg(long, value_name = "DIR")]
    pub into: PathBuf,
    /// Only what is missing or broken
    #[arg(long)]
    pub missing: bool,
    /// Write each as one file, .tar.zst
    #[arg(long)]
    pub archive: bool,
    /// Allow command-line settings that change the picture to write final names
    #[arg(long = "final")]
    pub is_final: bool,
}

/// `parcel render`.
#[derive(Debug, Args)]
pub struct RenderArgs {
    /// Parcels
    #[arg(required = true)]
    pub parcels: Vec<PathBuf>,
    /// Renderers at a time
    #[arg(long, value_name = "N", value_parser = super::workers)]
    pub workers: Option<usize>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `parcel collect`.
#[derive(Debug, Args)]
pub struct CollectArgs {
    /// Parcels, or folders that contain parcels
    #[arg(required = true)]
    pub parcels: Vec<PathBuf>,
    /// The sheet that they were packed from [default: truepath.toml here or in the nearest folder above]
    #[arg(short = 'f', long = "sheet", value_name = "FILE")]
    pub sheet: Option<PathBuf>,
    /// Apply a mode to every job, as when they were packed (repeatable)
    #[arg(long, value_name = "NAME")]
    pub mode: Vec<String>,
    /// Set a job setting, as when they were packed (repeatable)
    #[arg(long, value_name = "KEY=VALUE")]
    pub set: Vec<String>,
    /// Render at this percentage of the size, as when they were packed
    #[arg(long, value_name = "PERCENT")]
    pub scale: Option<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}
