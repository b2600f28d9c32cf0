//! The settings of a job: their keys, and what each may be.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use crate::frames::FrameExpr;
use crate::source::Spanned;
use crate::template::Template;

macro_rules! keys {
    ($($variant:ident $name:literal $meaning:literal)*) => {
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

        /// The plain keys with their names and meanings.
        pub const KEYS: &[(&str, Key, &str)] = &[$(($name, Key::$variant, $meaning)),*];

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

keys! {
    Scene "scene" "The file handed to the renderer."
    Camera "camera" "The camera to render through."
    Frames "frames" "The frames, such as 1-96 or 1-96/4."
    Fps "fps" "Frames per second, a whole number or a fraction."
    Size "size" "Width and height in pixels before scale."
    Scale "scale" "Percent of the size."
    PixelAspect "pixel_aspect" "Width of a pixel over its height."
    Region "region" "A part of the picture: x,y,w,h in pixels or percent."
    View "view" "One of several views, such as left."
    Handles "handles" "Frames added before and after."
    Shift "shift" "Added to the frame number in names only."
    Format "format" "A named set of file options."
    Layers "layers" "apart: a file per pass; together: one file with all."
    Colour "colour" "linear or display: how the pixels are meant."
    Passes "passes" "The components of the picture to write."
    Path "path" "The template of the output path."
    Version "version" "A number, next or latest."
    Adapter "adapter" "How the renderer is driven."
    Export "export" "The exporter that runs before the renderer."
    Samples "samples" "Samples per pixel."
    Threads "threads" "Threads the renderer may use."
    Device "device" "The device to render on."
    Checkpoint "checkpoint" "How often a long still is saved under way."
    Audio "audio" "A sound file for movies."
    Enabled "enabled" "false: the job is left out unless named."
}

impl Key {
    /// The key with a name as written, dotted for tables.
    #[must_use]
    pub fn parse(name: &str) -> Option<Key> {
        match name.split_once('.') {
            Some(("vars", rest)) => Some(Key::Var(rest.to_owned())),
            Some(("env", rest)) => Some(Key::Env(rest.to_owned())),
            Some(("native", rest)) => Some(Key::Native(rest.to_owned())),
            _ => KEYS.iter().find(|(known, ..)| *known == name).map(|(_, key, _)| key.clone()),
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
    /// How often a long still is saved under way.
    Checkpoint(Checkpoint),
}

/// How often a long still is saved under way.
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
            Setting::Checkpoint(Checkpoint { every, keep }) => write!(f, "every {every:?}, keep {keep}"),
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
