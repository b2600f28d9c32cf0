//! Adapters: how one renderer is driven without a window, described in a file.

mod parse;

use std::collections::BTreeSet;

use crate::sheet::Key;
use crate::template::Template;

pub use parse::adapter;

/// The adapters in the box: name and text.
pub const BUILT_IN: &[(&str, &str)] = &[("understudy", include_str!("understudy.toml"))];

/// How one program is driven.
#[derive(Clone, Debug, Default)]
pub struct Adapter {
    /// Its name.
    pub name: String,
    /// The program; `truepath` is the running binary itself.
    pub program: String,
    /// Arguments that ask the program for its version.
    pub version: Vec<String>,
    /// Its arguments.
    pub arguments: Vec<Argument>,
    /// Arguments that hand over one variable.
    pub variable: Vec<Template>,
    /// How frames are handed over.
    pub per: Per,
    /// How passes may be arranged.
    pub can: Vec<Arrangement>,
    /// What stands for the frame in `{out}`.
    pub number: String,
    /// Extensions of scenes it reads; empty for any.
    pub scenes: Vec<String>,
    /// File types it writes; empty for any.
    pub types: Vec<String>,
    /// Arguments that make it print the facts of a scene as one JSON object; empty where it cannot.
    pub facts: Vec<Template>,
    /// Lines of its log.
    pub log: Log,
    /// Exit codes of success.
    pub ok: Vec<i64>,
}

/// One argument, or several that stand and fall together.
#[derive(Clone, Debug)]
pub enum Argument {
    /// Always there.
    Always(Template),
    /// Left out when a token in it has no value; repeated per pass when it names a pass.
    Group(Vec<Template>),
}

/// How frames are handed over.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Per {
    /// `{frames}`.
    #[default]
    List,
}

/// How passes may be arranged.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Arrangement {
    /// A call per pass.
    Pass,
    /// All in one call, a file each.
    Call,
    /// All in one file.
    File,
}

/// Regular expressions for lines of the log.
#[derive(Clone, Debug, Default)]
pub struct Log {
    /// A file is whole: its path is the group `path`.
    pub wrote: Option<String>,
    /// Something to tell: the group `text`.
    pub problem: Option<String>,
    /// A frame is being worked on: the group `frame`.
    pub progress: Option<String>,
}

impl Adapter {
    /// Whether any argument uses a token.
    #[must_use]
    pub fn uses(&self, token: &str) -> bool {
        self.templates().any(|template| template.has(token))
    }

    fn templates(&self) -> impl Iterator<Item = &Template> {
        self.arguments.iter().flat_map(|argument| match argument {
            Argument::Always(template) => std::slice::from_ref(template),
            Argument::Group(templates) => templates.as_slice(),
        })
    }

    /// Whether something brings a setting to the program: an argument, or True Path itself.
    #[must_use]
    pub fn carries(&self, key: &Key) -> bool {
        let any = |tokens: &[&str]| tokens.iter().any(|token| self.uses(token));
        match key {
            Key::Scene => any(&["scene", "scene_folder"]),
            Key::Frames => any(&["frames", "first", "last", "frame"]),
            Key::Size => any(&["width", "height", "full_width", "full_height"]),
            Key::Adapter
            | Key::Version
            | Key::Path
            | Key::Scale
            | Key::Handles
            | Key::Shift
            | Key::Layers
            | Key::Enabled => true,
            Key::Format | Key::Passes | Key::Env(_) => true,
            Key::Var(_) => !self.variable.is_empty(),
            Key::Native(name) => self.uses(&format!("native.{name}")),
            Key::Camera
            | Key::Fps
            | Key::PixelAspect
            | Key::Region
            | Key::View
            | Key::Colour
            | Key::Samples
            | Key::Threads => self.uses(&key.to_string()),
            Key::Export | Key::Device | Key::Checkpoint | Key::Audio => self.uses(&key.to_string()),
        }
    }

    /// The names of all settings that reach the program, for messages.
    #[must_use]
    pub fn carried(&self) -> BTreeSet<&'static str> {
        crate::sheet::setting::KEYS.iter().filter(|(_, key, _)| self.carries(key)).map(|(name, ..)| *name).collect()
    }
}
