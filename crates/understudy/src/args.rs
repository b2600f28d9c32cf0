//! The understudy's own command line.

use std::path::PathBuf;

use clap::builder::EnumValueParser;
use clap::{Arg, ArgAction, ArgMatches, Args, FromArgMatches, Subcommand, ValueEnum};

/// What the understudy can be asked for.
#[derive(Debug, Subcommand)]
pub enum UnderstudyCommand {
    /// Render frames of a glTF scene
    Render(Box<RenderCall>),
    /// Print what is known about a scene, as one JSON object
    Facts {
        /// A .gltf or .glb file
        scene: PathBuf,
    },
}

/// One call of `render`: everything left out comes from the scene or is the plainest choice.
#[derive(Debug, Args)]
pub struct RenderCall {
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
    /// Passes, and how the file of each is written.
    #[command(flatten)]
    pub files: PassFiles,
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

/// The passes of a call, each with its file.
#[derive(Clone, Debug, Default)]
pub struct PassFiles(pub Vec<PassFile>);

/// One pass, and how its file is written.
#[derive(Clone, Debug)]
pub struct PassFile {
    /// `NAME=PATH`.
    pub pass: String,
    /// How it is written.
    pub options: FileOptions,
}

/// How the file of a pass is written; what is left out is the plainest choice.
#[derive(Clone, Debug, Default)]
pub struct FileOptions {
    /// Depth of one sample.
    pub bits: Option<SampleBits>,
    /// Channels.
    pub channels: Option<PictureChannels>,
    /// Compression, as far as the file type knows it.
    pub compression: Option<String>,
    /// Quality of lossy types, 0 to 100.
    pub quality: Option<u8>,
    /// How colour is written.
    pub colour: Option<ColourValues>,
}

impl FromArgMatches for PassFiles {
    fn from_arg_matches(matches: &ArgMatches) -> Result<PassFiles, clap::Error> {
        let indices = |id: &str| matches.indices_of(id).into_iter().flatten();
        let passes: Vec<usize> = indices("pass").collect();
        let mut common = FileOptions::default();
        let mut own = vec![FileOptions::default(); passes.len()];
        macro_rules! take {
            ($id:literal, $of_pass:literal, $field:ident, $kind:ty) => {
                common.$field = matches.get_one::<$kind>($id).cloned();
                for (at, value) in indices($of_pass).zip(matches.get_many::<$kind>($of_pass).into_iter().flatten()) {
                    let before = passes.iter().filter(|pass| **pass < at).count();
                    // Before the first pass it holds for all.
                    let options = before.checked_sub(1).and_then(|pass| own.get_mut(pass)).unwrap_or(&mut common);
                    options.$field = Some(value.clone());
                }
            };
        }
        take!("bits", "pass-bits", bits, SampleBits);
        take!("channels", "pass-channels", channels, PictureChannels);
        take!("compression", "pass-compression", compression, String);
        take!("quality", "pass-quality", quality, u8);
        take!("colour", "pass-colour", colour, ColourValues);
        let names = matches.get_many::<String>("pass").into_iter().flatten();
        let file = |(pass, own): (&String, FileOptions)| {
            let options = FileOptions {
                bits: own.bits.or(common.bits),
                channels: own.channels.or(common.channels),
                compression: own.compression.or_else(|| common.compression.clone()),
                quality: own.quality.or(common.quality),
                colour: own.colour.or(common.colour),
            };
            PassFile { pass: pass.clone(), options }
        };
        Ok(PassFiles(names.zip(own).map(file).collect()))
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        *self = PassFiles::from_arg_matches(matches)?;
        Ok(())
    }
}

impl Args for PassFiles {
    fn augment_args(command: clap::Command) -> clap::Command {
        let pass =
            Arg::new("pass").long("pass").value_name("NAME=PATH").action(ArgAction::Append).required(true).help(
                "A pass and the file it goes to; a run of # is the frame number; one path given twice holds layers",
            );
        // Each option for all passes, and for the pass before it alone.
        let both = |command: clap::Command, arg: Arg, of_pass: &'static str| {
            let only = arg
                .clone()
                .id(of_pass)
                .long(of_pass)
                .action(ArgAction::Append)
                .help("The same, for the --pass before it alone");
            command.arg(arg).arg(only)
        };
        let option = |id: &'static str, value: &'static str, help: &'static str| {
            Arg::new(id).long(id).value_name(value).help(help)
        };
        let command = command.arg(pass);
        let bits = option("bits", "BITS", "Depth of one sample (left out: 8 for PNG, JPEG and TIFF, half for OpenEXR)");
        let command = both(command, bits.value_parser(EnumValueParser::<SampleBits>::new()), "pass-bits");
        let channels = option("channels", "CHANNELS", "Channels (left out: what the pass needs)");
        let command = both(command, channels.value_parser(EnumValueParser::<PictureChannels>::new()), "pass-channels");
        let compression = option(
            "compression",
            "NAME",
            "none, rle, zips, zip, piz, lzw or deflate, as far as the file type knows it",
        );
        let command = both(command, compression, "pass-compression");
        let quality = option("quality", "0-100", "Quality of lossy types (left out: 90)");
        let command = both(command, quality.value_parser(clap::value_parser!(u8).range(0..=100)), "pass-quality");
        let colour = option(
            "colour",
            "COLOUR",
            "How colour is written (left out: linear for float types, display for the rest)",
        );
        both(command, colour.value_parser(EnumValueParser::<ColourValues>::new()), "pass-colour")
    }

    fn augment_args_for_update(command: clap::Command) -> clap::Command {
        PassFiles::augment_args(command)
    }
}

/// Depth of one sample.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum SampleBits {
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
pub enum PictureChannels {
    /// One channel
    Grey,
    /// One channel and alpha
    GreyAlpha,
    /// Three channels
    Rgb,
    /// Three channels and alpha
    Rgba,
}

impl PictureChannels {
    /// How many samples one pixel has.
    pub(crate) fn count(self) -> usize {
        match self {
            PictureChannels::Grey => 1,
            PictureChannels::GreyAlpha => 2,
            PictureChannels::Rgb => 3,
            PictureChannels::Rgba => 4,
        }
    }
}

/// How colour values are meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ColourValues {
    /// Proportional to light
    Linear,
    /// Through the sRGB curve (IEC 61966-2-1), to look at
    Display,
}
