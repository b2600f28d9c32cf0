//! Adapters: how one renderer, exporter or encoder is driven without a window, described in a file.

mod accepts;
mod argument;
pub mod exit;
mod help;
mod native;
mod parse;
mod reach;
pub mod schema;
pub mod unsaved;
mod written_file;

use std::collections::{BTreeMap, BTreeSet};

use regex_lite::Regex;

use crate::sheet::setting::Carrier;
use crate::sheet::{FileOption, Key, OF_PICTURES, Size, System};
use crate::source::{FileId, Spanned};
use crate::template::Template;

pub use accepts::is_accepted;
pub use argument::{Argument, Condition, OF_PASS, Word, list_token};
pub use help::from_help;
pub use native::{NATIVE_KINDS, Native, NativeKind};
pub use parse::{AdapterLayer, adapter, layered, like};
pub use reach::{Reach, needs};
pub use written_file::{FileLine, LANGUAGES, Language, OVERS, RepeatOver, WrittenFile};

/// The adapters in the box: name and text.
pub const BUILT_IN: &[(&str, &str)] = &[
    ("understudy", include_str!("understudy.toml")),
    ("built-in", include_str!("built-in.toml")),
    ("ffmpeg", include_str!("ffmpeg.toml")),
    (MOVIE, include_str!("movie.toml")),
];

/// The adapter by which True Path itself makes movies; it is no choice of a sheet.
pub const MOVIE: &str = "truepath movie";

/// The encoders in the box, in the order in which they are chosen.
pub const BUILT_IN_ENCODERS: [&str; 2] = ["built-in", "ffmpeg"];

/// File options that the encoder in the box knows without being told in arguments.
const BUILT_IN_OPTIONS: [FileOption; 5] =
    [FileOption::Type, FileOption::Codec, FileOption::Quality, FileOption::Effort, FileOption::AudioCodec];

/// How one program is driven.
#[derive(Clone, Debug, Default)]
pub struct Adapter {
    /// The text it was read from.
    pub file: FileId,
    /// All texts that it was read from: those of the adapters it is like, the lowest first, then its own.
    pub layers: Vec<FileId>,
    /// The names of the adapters it is like, the lowest first.
    pub below: Vec<String>,
    /// Its name.
    pub name: String,
    /// What the program does.
    pub kind: AdapterKind,
    /// The program.
    pub program: Program,
    /// Whether its program may not be asked anything: its user does not trust it yet.
    pub unasked: bool,
    /// Arguments that ask the program for its version.
    pub version: Vec<String>,
    /// Arguments that make an encoder list what it can encode; empty where it is not asked.
    pub encoders: Vec<String>,
    /// Other versions of it.
    pub variants: Vec<Variant>,
    /// Where it starts; the sheet's folder unless given.
    pub folder: Option<Spanned<Template>>,
    /// Its arguments.
    pub arguments: Vec<Argument>,
    /// Conditions, by the name that `{when.NAME}` asks for.
    pub conditions: BTreeMap<String, Condition>,
    /// Files that are written before it starts, by the name that `{write.NAME}` asks for.
    pub files: BTreeMap<String, WrittenFile>,
    /// Arguments that hand over one variable.
    pub variable: Vec<Spanned<Template>>,
    /// Arguments that hand over one setting that only the renderer understands.
    pub native: Vec<Spanned<Template>>,
    /// The native settings that there are; any where none is declared.
    pub natives: BTreeMap<String, Native>,
    /// How frames are handed over.
    pub per: Per,
    /// How `{frames}` is spelt.
    pub spelling: Spelling,
    /// How passes may be arranged; `None` for a program that renders one unnamed picture.
    pub can: Option<Vec<Arrangement>>,
    /// What separates the passes in `{passes}`; a comma unless given.
    pub pass_join: Option<String>,
    /// What `{passes}` says of each pass; its word unless given.
    pub pass_item: Option<Spanned<Template>>,
    /// Passes that it knows; empty where nothing says which there are.
    pub known_passes: Vec<String>,
    /// What stands for the frame in `{out}`. When left out, a program that is called once per frame gets the frame's own name, and
    /// every other program a name without a number.
    pub number: Option<NumberStyle>,
    /// What it really writes, relative to the stage folder.
    pub writes: Vec<Spanned<Template>>,
    /// What it writes besides, and is removed when the call is over.
    pub also: Vec<Spanned<Template>>,
    /// What it writes besides, and is kept beside the call's log.
    pub keep: Vec<Spanned<Template>>,
    /// The program's own words for values, by token.
    pub words: BTreeMap<String, BTreeMap<String, Word>>,
    /// What it can read and write.
    pub accepts: Accepts,
    /// Arguments that make it print the facts of a scene as one JSON object; empty where it cannot.
    pub facts: Vec<Template>,
    /// Names of unsaved copies that its program keeps beside a scene: [`unsaved::fits`].
    pub unsaved: Vec<String>,
    /// What it needs.
    pub needs: Needs,
    /// Its environment.
    pub env: Vec<(String, Spanned<Template>)>,
    /// Lines of its log.
    pub log: Log,
    /// How it ends.
    pub exit: exit::ExitRules,
}

/// What a program does.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum AdapterKind {
    /// Scenes to pictures.
    #[default]
    Renderer,
    /// A scene to another one.
    Exporter,
    /// Pictures to a movie.
    Encoder,
}

/// The kinds of adapters with their names.
pub const KINDS: [(&str, AdapterKind); 3] =
    [("renderer", AdapterKind::Renderer), ("exporter", AdapterKind::Exporter), ("encoder", AdapterKind::Encoder)];

/// A program's name, or its path relative to the sheet's folder; `truepath` is the running binary itself.
#[derive(Clone, Debug)]
pub enum Program {
    /// The same everywhere.
    Same(String),
    /// By system.
    BySystem(Vec<(System, String)>),
}

impl Program {
    /// Its names, of all systems.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        let (same, others) = match self {
            Program::Same(name) => (Some(name.as_str()), [].as_slice()),
            Program::BySystem(names) => (None, names.as_slice()),
        };
        same.into_iter().chain(others.iter().map(|(_, name)| name.as_str()))
    }
}

impl Default for Program {
    fn default() -> Program {
        Program::Same(String::new())
    }
}

/// Another version of a program, as its adapter knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Variant {
    /// Its name.
    pub name: String,
    /// A regular expression for the version that the program prints.
    pub matches: Option<String>,
}

/// How frames are handed over.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Per {
    /// Any frames in one call: `{frames}`.
    #[default]
    List,
    /// A run of one step in one call: `{first}`, `{last}` and, where it is used, `{step}`.
    Range,
    /// A call for each frame: `{frame}`.
    Frame,
    /// The pixels of one frame after another on its standard input: encoders only.
    Pipe,
}

/// The ways of handing frames over with their names.
pub const PERS: [(&str, Per); 4] =
    [("list", Per::List), ("range", Per::Range), ("frame", Per::Frame), ("pipe", Per::Pipe)];

/// How `{frames}` is spelt.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Spelling {
    /// Between parts.
    pub join: String,
    /// Between the first and the last frame of a part.
    pub range: String,
    /// Before a step.
    pub step: String,
}

impl Default for Spelling {
    fn default() -> Spelling {
        Spelling { join: ",".to_owned(), range: "-".to_owned(), step: "/".to_owned() }
    }
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

/// The arrangements with their names.
pub const ARRANGEMENTS: [(&str, Arrangement); 3] =
    [("pass", Arrangement::Pass), ("call", Arrangement::Call), ("file", Arrangement::File)];

/// What stands for the frame in `{out}`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NumberStyle {
    /// A sign for each digit.
    Repeat(char),
    /// `%04d`.
    Printf,
    /// Nothing: the program puts its own number to the name, or is told the frame.
    None,
}

impl NumberStyle {
    /// What stands for a frame of at least `width` digits.
    #[must_use]
    pub fn hole(self, width: usize) -> String {
        match self {
            NumberStyle::Repeat(sign) => sign.to_string().repeat(width),
            NumberStyle::Printf => format!("%0{width}d"),
            NumberStyle::None => String::new(),
        }
    }
}

/// What a program can read and write; an empty list leaves all that the catalogue knows.
#[derive(Clone, Debug, Default)]
pub struct Accepts {
    /// Extensions of scenes.
    pub scenes: Vec<String>,
    /// The values of each file option; of one without an entry, all.
    pub options: BTreeMap<FileOption, Vec<String>>,
    /// Depths of a sample by codec, where they are fewer than the codec holds.
    pub depths: BTreeMap<String, Vec<String>>,
    /// The smallest and the largest size by codec, lying or standing, where those are not the codec's own.
    pub smallest: BTreeMap<String, Size>,
    /// See there.
    pub largest: BTreeMap<String, Size>,
}

impl Accepts {
    /// The values of a file option that its program knows; none where it knows all.
    #[must_use]
    pub fn of(&self, option: FileOption) -> &[String] {
        self.options.get(&option).map_or(&[], Vec::as_slice)
    }

    /// Whether its program knows a value of a file option.
    #[must_use]
    pub fn takes(&self, option: FileOption, value: &str) -> bool {
        is_accepted(self.of(option), value)
    }

    /// Leaves out of the list of a file option what is not among these.
    pub fn keep(&mut self, option: FileOption, values: &[&str]) {
        self.options.entry(option).and_modify(|list| list.retain(|own| values.contains(&own.as_str())));
    }
}

/// What must be there before anything runs.
#[derive(Clone, Debug, Default)]
pub struct Needs {
    /// Environment variables that must be set.
    pub env: Vec<String>,
    /// Files that must exist.
    pub files: Vec<String>,
    /// Commands that must end with exit code 0.
    pub run: Vec<Vec<String>>,
    /// Licences, counted by the machine file and `[run]`.
    pub licences: Vec<String>,
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
    /// No licence is free.
    pub wait: Option<String>,
    /// A checkpoint is whole: its path is the group `path`.
    pub checkpoint: Option<String>,
    /// The call has failed, whatever its exit code will be.
    pub fatal: Option<String>,
    /// All that the program was asked for is done.
    pub finished: Option<String>,
}

impl Variant {
    /// Whether it is for a version that the program prints.
    #[must_use]
    pub fn is_for(&self, version: &str) -> bool {
        self.matches.as_deref().and_then(|rule| Regex::new(rule).ok()).is_some_and(|rule| rule.is_match(version))
    }
}

impl Adapter {
    /// Whether anything that is handed to the program uses a token.
    #[must_use]
    pub fn uses(&self, token: &str) -> bool {
        let is_used = |token: &str| self.templates().any(|template| template.value.has(token));
        let asks = |(name, condition): (&String, &Condition)| {
            condition.tokens().any(|asked| asked == token) && is_used(&format!("when.{name}"))
        };
        is_used(token) || self.conditions.iter().any(asks)
    }

    /// Every template that is handed to the program.
    pub fn templates(&self) -> impl Iterator<Item = &Spanned<Template>> {
        let lines = self.files.values().flat_map(|file| &file.lines).flat_map(FileLine::templates);
        let own = self.natives.values().flat_map(|native| &native.arguments);
        self.plain_templates().chain(&self.variable).chain(&self.native).chain(own).chain(lines.map(|(line, _)| line))
    }

    /// Those that are no lines of written files and hand over no pair.
    pub fn plain_templates(&self) -> impl Iterator<Item = &Spanned<Template>> {
        let in_words = self.words.values().flat_map(BTreeMap::values).flat_map(|word| match word {
            Word::Arguments(arguments) => arguments.as_slice(),
            Word::Text(_) => &[],
        });
        let arguments = self.arguments.iter().chain(in_words).flat_map(Argument::templates);
        let names = self.files.values().filter_map(|file| file.file.as_ref());
        arguments
            .chain(self.env.iter().map(|(_, template)| template))
            .chain(&self.folder)
            .chain(&self.pass_item)
            .chain(names)
    }

    /// The program on a system.
    #[must_use]
    pub fn program_on(&self, system: System) -> Option<&str> {
        match &self.program {
            Program::Same(program) => Some(program),
            Program::BySystem(programs) => {
                programs.iter().find(|(own, _)| *own == system).map(|(_, program)| program.as_str())
            }
        }
    }

    /// Whether the program can do an arrangement.
    #[must_use]
    pub fn can(&self, arrangement: Arrangement) -> bool {
        self.can.as_ref().is_some_and(|can| can.contains(&arrangement))
    }

    /// The program's own word for a value of a token.
    #[must_use]
    pub fn word<'w>(&'w self, token: &str, value: &'w str) -> &'w str {
        match self.words.get(token).and_then(|words| words.get(value)) {
            Some(Word::Text(word)) => word,
            _ => value,
        }
    }

    /// Whether something brings a setting to the program: an argument, an environment value, or True Path itself.
    #[must_use]
    pub fn carries(&self, key: &Key) -> bool {
        match key.row().carrier {
            // What these hold is looked at one by one.
            Carrier::Own | Carrier::Parts | Carrier::Movies => true,
            Carrier::Tokens(tokens) => tokens.iter().any(|token| self.uses(token)),
            Carrier::Variables => self.hands_over(key),
            Carrier::Natives => self.hands_over(key),
        }
    }

    /// Whether something brings a variable or a native setting to the program.
    #[must_use]
    pub fn hands_over(&self, key: &Key) -> bool {
        let each = |over: RepeatOver| self.files.values().flat_map(|file| &file.lines).any(|line| line.is_over(over));
        match key {
            Key::Var(name) => {
                !self.variable.is_empty() || each(RepeatOver::Variable) || self.uses(&format!("var.{name}"))
            }
            Key::Native(name) => {
                let own = self.natives.get(name).is_some_and(|native| !native.arguments.is_empty());
                own || !self.native.is_empty() || each(RepeatOver::Native) || self.uses(&format!("native.{name}"))
            }
            _ => false,
        }
    }

    /// Whether something brings a file option to the program. A type goes with the extension of `{out}`, or is the only
    /// one that the program writes.
    #[must_use]
    pub fn carries_option(&self, option: FileOption) -> bool {
        let built_in = self.name == BUILT_IN_ENCODERS[0] && BUILT_IN_OPTIONS.contains(&option);
        built_in || option.row().tokens.iter().any(|token| self.uses(token)) || self.does_only(option)
    }

    /// Whether its program does one thing only where others have a choice, so that nothing needs to tell it.
    #[must_use]
    pub fn does_only(&self, option: FileOption) -> bool {
        OF_PICTURES.contains(&option) && self.accepts.of(option).len() == 1
    }

    /// The names of all settings that an argument or an environment value brings to the program, for messages.
    #[must_use]
    pub fn carried(&self) -> BTreeSet<&'static str> {
        let by_it = |key: &Key| matches!(key.row().carrier, Carrier::Tokens(_)) && self.carries(key);
        crate::sheet::setting::KEYS.iter().filter(|(_, key)| by_it(key)).map(|(name, _)| *name).collect()
    }
}
