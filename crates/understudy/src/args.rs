//! The understudy's own command line.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

/// What the understudy can be asked for.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Render frames of a glTF scene
    Render(Box<Call>),
    /// Print what is known about a scene, as one JSON object
    Facts {
        /// A .gltf or .glb file
        scene: PathBuf,
    },
}

/// One call of `render`: everything left out comes from the scene or is the plainest choice.
#[derive(Debug, Args)]
pub struct Call {
    /// A .gltf or .glb file
    pub scene: PathBuf,
    /// The camera's name (left out: the first one of the scene)
    #[arg(long)]
    pub camera: Option<String>,
    /// Frames such as 1-12,20 or 1-96/4 (left out: the scene's whole span)
    #[arg(long, allow_hyphen_values = true)]
    pub frames: Option<String>,
    /// Frames per second, a whole number or a fraction such as 24000/1001
    #[arg(long, default_value = "24")]
    pub fps: String,
    /// Width and height in pixels
    #[arg(long, default_value = "640x360")]
    pub size: String,
    /// A pass and the file it goes to; a run of # is the frame number; one path given twice holds layers
    #[arg(long = "pass", value_name = "NAME=PATH", required = true)]
    pub passes: Vec<String>,
    /// Depth of one sample (left out: 8 for PNG, JPEG and TIFF, half for OpenEXR)
    #[arg(long)]
    pub bits: Option<Bits>,
    /// Channels (left out: what the pass needs)
    #[arg(long)]
    pub channels: Option<Channels>,
    /// none, rle, zips, zip, piz, lzw or deflate, as far as the file type knows it
    #[arg(long)]
    pub compression: Option<String>,
    /// Quality of lossy types, 0 to 100
    #[arg(long, default_value_t = 90, value_parser = clap::value_parser!(u8).range(0..=100))]
    pub quality: u8,
    /// How colour is written (left out: linear for float types, display for the rest)
    #[arg(long)]
    pub colour: Option<Colour>,
    /// Samples per pixel, rounded up to a square number up to 64
    #[arg(long, default_value_t = 4)]
    pub samples: u32,
    /// Threads (left out: one per core)
    #[arg(long, default_value_t = 0)]
    pub threads: usize,
    /// A variable of the scene; weather=fog lays fog over it
    #[arg(long = "set", value_name = "KEY=VALUE")]
    pub variables: Vec<String>,
    /// Save a frame under way to this file
    #[arg(long, value_name = "FILE")]
    pub checkpoint: Option<PathBuf>,
    /// Seconds from one checkpoint to the next
    #[arg(long, value_name = "SECONDS", default_value_t = 60.0)]
    pub checkpoint_every: f64,
    /// Go on with a frame that was saved under way
    #[arg(long, value_name = "FILE", requires = "checkpoint")]
    pub resume: Option<PathBuf>,
}

/// Depth of one sample.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Bits {
    /// 8-bit integer
    #[value(name = "8")]
    Eight,
    /// 16-bit integer
    #[value(name = "16")]
    Sixteen,
    /// 16-bit float
    #[value(name = "half")]
    Half,
    /// 32-bit float
    #[value(name = "float")]
    Float,
}

/// Which channels a picture has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Channels {
    /// One channel
    Grey,
    /// One channel and alpha
    GreyAlpha,
    /// Three channels
    Rgb,
    /// Three channels and alpha
    Rgba,
}

impl Channels {
    /// How many samples one pixel has.
    pub(crate) fn count(self) -> usize {
        match self {
            Channels::Grey => 1,
            Channels::GreyAlpha => 2,
            Channels::Rgb => 3,
            Channels::Rgba => 4,
        }
    }
}

/// How colour values are meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Colour {
    /// Proportional to light
    Linear,
    /// Through the sRGB curve (IEC 61966-2-1), to look at
    Display,
}
