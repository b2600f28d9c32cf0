//! The settings of a job: their keys, and what each may be.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use crate::frames::FrameExpr;
use crate::source::Spanned;
use crate::template::Template;

/// What a setting's value looks like in a sheet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ValueKind {
    /// Text that is not empty.
    Text,
    /// Text, a number, true or false.
    Scalar,
    /// A whole number of at least 1.
    Count,
    /// A whole number by which frames are moved.
    Moved,
    /// A number above 0.
    Positive,
    /// True or false.
    Flag,
    /// A frame expression.
    Frames,
    /// A whole number, or a fraction as text.
    Fps,
    /// `WIDTHxHEIGHT`.
    Size,
    /// `x,y,w,h`.
    Region,
    /// A whole number, or two.
    Handles,
    /// `apart` or `together`.
    Layers,
    /// `linear` or `display`.
    Colour,
    /// A list of passes.
    Passes,
    /// A path template.
    Path,
    /// A whole number, `next` or `latest`.
    Version,
    /// A table of `every` and `keep`.
    Checkpoint,
}

/// What becomes different when a setting does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Changes {
    /// What the pictures show, or how they are written.
    Picture,
    /// What a movie made of them holds.
    Movie,
    /// Only the names of the files.
    Name,
    /// Neither: only which frames there are, or how they are made.
    Neither,
}

/// What brings a setting to where it is used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Carrier {
    /// True Path itself.
    Own,
    /// An argument or an environment value of the adapter that uses one of these tokens.
    Tokens(&'static [&'static str]),
    /// What it holds, each part of it by itself.
    Parts,
    /// The adapter's `variable`.
    Variables,
    /// The adapter's `native`, or a token of its own.
    Natives,
    /// The movies of the job.
    Movies,
}

/// How a layer above the job acts on a setting: modes and the command line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Above {
    /// It replaces the value.
    Replaces,
    /// It takes some of what is there.
    Narrows,
}

/// One row of the table of settings: everything that differs from one setting to the next.
#[derive(Clone, Copy, Debug)]
pub struct SettingRow {
    /// How it is written in a sheet.
    pub name: &'static str,
    /// What its value looks like.
    pub kind: ValueKind,
    /// What it changes.
    pub changes: Changes,
    /// What carries it.
    pub carrier: Carrier,
    /// How modes and the command line act on it.
    pub above: Above,
    /// What it means.
    pub meaning: &'static str,
}

macro_rules! settings {
    ($($variant:ident $name:literal $kind:ident $changes:ident $carrier:expr, $meaning:literal)*) => {
        /// A job setting.
        #[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum Key {
            $(#[doc = $meaning] $variant,)*
            /// A variable: a token of that name.
            Var(String),
            /// An environment variable of the renderer.
            Env(String),
            /// A setting that only the renderer understands.
            Native(String),
        }

        /// The plain settings, in the order of the guide.
        pub const KEYS: &[(&str, Key)] = &[$(($name, Key::$variant)),*];

        impl Key {
            /// Its row in the table.
            #[must_use]
            pub fn row(&self) -> SettingRow {
                match self {
                    $(Key::$variant => SettingRow {
                        name: $name,
                        kind: ValueKind::$kind,
                        changes: Changes::$changes,
                        carrier: $carrier,
                        above: if matches!(self, Key::Frames) { Above::Narrows } else { Above::Replaces },
                        meaning: $meaning,
                    },)*
                    Key::Var(_) => table("vars", Carrier::Variables, "Tokens of your own."),
                    Key::Env(_) => table("env", Carrier::Own, "Environment of the renderer and of its exporter."),
                    Key::Native(_) => table("native", Carrier::Natives, "Native settings: those that only this renderer has."),
                }
            }
        }

        impl fmt::Display for Key {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                match self {
                    $(Key::$variant => f.write_str($name),)*
                    Key::Var(name) => write!(f, "vars.{name}"),
                    Key::Env(name) => write!(f, "env.{name}"),
                    Key::Native(name) => write!(f, "native.{name}"),
                }
            }
        }
    };
}

/// The row of a table whose entries are settings of their own.
fn table(name: &'static str, carrier: Carrier, meaning: &'static str) -> SettingRow {
    SettingRow { name, kind: ValueKind::Scalar, changes: Changes::Picture, carrier, above: Above::Replaces, meaning }
}

/// The tables whose entries are settings of their own: they merge entry by entry.
#[must_use]
pub fn tables() -> [SettingRow; 3] {
    [Key::Var(String::new()), Key::Env(String::new()), Key::Native(String::new())].map(|key| key.row())
}

settings! {
    Scene "scene" Text Picture Carrier::Tokens(&["scene", "scene_folder", "scene_name", "scene_below"]), "The file handed to the renderer."
    Camera "camera" Text Picture Carrier::Tokens(&["camera"]), "The camera to render through."
    Frames "frames" Frames Neither Carrier::Tokens(&["frames", "first", "last", "after_last", "frame"]), "The frames, such as 1-96 or 1-96/4."
    Fps "fps" Fps Picture Carrier::Tokens(&["fps"]), "Frames per second, a whole number or a fraction."
    Size "size" Size Picture Carrier::Tokens(&["width", "height", "full_width", "full_height"]), "Width and height in pixels before scale."
    Scale "scale" Positive Picture Carrier::Own, "Percent of the size."
    PixelAspect "pixel_aspect" Positive Picture Carrier::Tokens(&["pixel_aspect"]), "Width of a pixel over its height."
    Region "region" Region Picture Carrier::Tokens(&["region", "region_x", "region_y", "region_w", "region_h"]), "A part of the picture: x,y,w,h in pixels or percent."
    View "view" Text Picture Carrier::Tokens(&["view"]), "One of several views, such as left."
    Handles "handles" Handles Neither Carrier::Own, "Frames added before and after."
    Shift "shift" Moved Name Carrier::Own, "Added to the frame number in names only."
    Format "format" Text Picture Carrier::Parts, "A named set of file options."
    Layers "layers" Layers Picture Carrier::Parts, "apart: a file per pass; together: one file with all."
    Colour "colour" Colour Picture Carrier::Tokens(&["colour"]), "linear (scene-linear) or display (display-encoded): how the pixels are stored."
    Passes "passes" Passes Picture Carrier::Parts, "The passes (components of the picture) to write."
    Path "path" Path Name Carrier::Own, "The template of the output path."
    Version "version" Version Name Carrier::Own, "A number, next or latest."
    Adapter "adapter" Text Picture Carrier::Own, "How the renderer is driven."
    Export "export" Text Picture Carrier::Parts, "The exporter that runs before the renderer."
    Samples "samples" Count Picture Carrier::Tokens(&["samples"]), "Samples per pixel."
    Threads "threads" Count Neither Carrier::Tokens(&["threads"]), "Threads the renderer may use."
    Device "device" Text Neither Carrier::Tokens(&["device"]), "The device to render on."
    Checkpoint "checkpoint" Checkpoint Neither Carrier::Tokens(&["checkpoint"]), "How often a long still saves a checkpoint."
    Audio "audio" Text Movie Carrier::Movies, "A sound file for movies."
    Enabled "enabled" Flag Neither Carrier::Own, "false: the job is rendered only when it is named."
}

impl Key {
    /// The key with a name as written, dotted for tables.
    #[must_use]
    pub fn parse(name: &str) -> Option<Key> {
        match name.split_once('.') {
            Some(("vars", rest)) => Some(Key::Var(rest.to_owned())),
            Some(("env", rest)) => Some(Key::Env(rest.to_owned())),
            Some(("native", rest)) => Some(Key::Native(rest.to_owned())),
            _ => KEYS.iter().find(|(known, _)| *known == name).map(|(_, key)| key.clone()),
        }
    }
}

/// A setting's value. Which of these a key may have is decided by [`super::parse`].
#[derive(Clone, Debug, PartialEq)]
pub enum Setting {
    /// Text.
    Text(String),
    /// A whole number.
    Whole(i64),
    /// A number, not below zero.
    Number(f64),
    /// Yes or no.
    Flag(bool),
    /// Frames.
    Frames(FrameExpr),
    /// Frames per second.
    Fps(Fps),
    /// Width and height.
    Size(Size),
    /// Frames before and after.
    Handles(i64, i64),
    /// One file for all passes or one for each.
    Layers(Layers),
    /// How pixels are meant.
    Colour(Colour),
    /// Passes.
    Passes(Vec<PassEntry>),
    /// An output path.
    Path(Arc<Template>),
    /// A version.
    Version(Version),
    /// How often a long still saves a checkpoint.
    Checkpoint(Checkpoint),
}

/// How often a long still saves a checkpoint.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Checkpoint {
    /// From one to the next.
    pub every: Duration,
    /// How many of the last ones are kept.
    pub keep: i64,
}

/// Width and height in pixels.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Size {
    /// Width.
    pub width: u32,
    /// Height.
    pub height: u32,
}

impl Size {
    /// The size at so many percent: each side rounded half up, at least 1.
    #[must_use]
    pub fn scaled(self, percent: f64) -> Size {
        let side = |side: u32| (f64::from(side) * percent / 100.0 + 0.5).floor().clamp(1.0, f64::from(u32::MAX)) as u32;
        Size { width: side(self.width), height: side(self.height) }
    }
}

impl fmt::Display for Size {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}x{}", self.width, self.height)
    }
}

/// Frames per second as an exact fraction in lowest terms.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Fps {
    /// Frames.
    pub frames: u32,
    /// In so many seconds.
    pub seconds: u32,
}

impl Fps {
    /// A rate from a fraction; neither side may be 0.
    #[must_use]
    pub fn new(frames: u32, seconds: u32) -> Option<Fps> {
        let (mut a, mut b) = (frames, seconds);
        while b != 0 {
            (a, b) = (b, a % b);
        }
        (frames > 0 && seconds > 0).then(|| Fps { frames: frames / a, seconds: seconds / a })
    }

    /// The rate as a number.
    #[must_use]
    pub fn value(self) -> f64 {
        f64::from(self.frames) / f64::from(self.seconds)
    }
}

impl fmt::Display for Fps {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.seconds == 1 { write!(f, "{}", self.frames) } else { write!(f, "{}/{}", self.frames, self.seconds) }
    }
}

/// Whether passes share a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Layers {
    /// A file per pass.
    Apart,
    /// One file with all passes.
    Together,
}

/// How pixels are meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Colour {
    /// Proportional to light.
    Linear,
    /// Treated to be looked at.
    Display,
}

impl fmt::Display for Colour {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if *self == Colour::Linear { "linear" } else { "display" })
    }
}

/// The version of a job's files.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Version {
    /// A number.
    Number(i64),
    /// One above the highest on disk.
    Next,
    /// The highest on disk.
    Latest,
}

impl fmt::Display for Setting {
    /// The value as it would be written in a sheet, without quotes.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Setting::Text(text) => f.write_str(text),
            Setting::Whole(number) => write!(f, "{number}"),
            Setting::Number(number) => write!(f, "{number}"),
            Setting::Flag(flag) => write!(f, "{flag}"),
            Setting::Frames(frames) => write!(f, "{frames}"),
            Setting::Fps(fps) => write!(f, "{fps}"),
            Setting::Size(size) => write!(f, "{size}"),
            Setting::Path(path) => write!(f, "{path}"),
            Setting::Version(Version::Number(version)) => write!(f, "{version}"),
            Setting::Version(Version::Next) => f.write_str("next"),
            Setting::Version(Version::Latest) => f.write_str("latest"),
            Setting::Handles(before, after) => write!(f, "{before},{after}"),
            Setting::Layers(layers) => f.write_str(if *layers == Layers::Apart { "apart" } else { "together" }),
            Setting::Colour(colour) => write!(f, "{colour}"),
            Setting::Checkpoint(Checkpoint { every, keep }) => {
                write!(f, "every {}, keep {keep}", humantime::format_duration(*every))
            }
            Setting::Passes(passes) => {
                let names: Vec<&str> = passes.iter().map(|pass| pass.name.value.as_str()).collect();
                f.write_str(&names.join(","))
            }
        }
    }
}

/// One pass of a job, with what it changes.
#[derive(Clone, Debug, PartialEq)]
pub struct PassEntry {
    /// The renderer's pass.
    pub name: Spanned<String>,
    /// What it is called in names.
    pub label: Option<Spanned<String>>,
    /// Its own colour.
    pub colour: Option<Spanned<Colour>>,
    /// Its own format.
    pub format: Option<Spanned<String>>,
    /// Its own path.
    pub path: Option<Spanned<Arc<Template>>>,
}
