//! The keys of an adapter and its sections, with what each means: for reading, and for the schema.

/// The keys at the head of an adapter.
macro_rules! adapter_keys {
    ($($name:ident $word:literal $what:literal)+) => {
        /// A key at the head of an adapter; some are sections with keys of their own.
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        pub enum AdapterKey { $(#[doc = $what] $name,)+ }

        impl AdapterKey {
            /// All, in the order in which they are described.
            pub const ALL: &'static [AdapterKey] = &[$(AdapterKey::$name),+];

            /// Its name.
            #[must_use]
            pub fn name(self) -> &'static str {
                match self { $(AdapterKey::$name => $word,)+ }
            }

            /// What it means.
            #[must_use]
            pub fn what(self) -> &'static str {
                match self { $(AdapterKey::$name => $what,)+ }
            }
        }
    };
}

adapter_keys! {
    Adapter "adapter" "The version of the adapter language."
    Name "name" "The adapter's name: that of its file."
    Kind "kind" "What the program is: renderer, exporter or encoder."
    Program "program" "The program; truepath is the running binary itself. A table gives one for each system."
    Version "version" "Arguments that ask the program for its version."
    Encoders "encoders" "Arguments that make an encoder list what it can encode, so that its own word for a codec is looked for."
    Arguments "arguments" "The program's arguments; an inner list is left out when a token in it has no value."
    Like "like" "Another adapter that this one starts from; keys given here replace or extend it."
    Folder "folder" "Where the program starts; the sheet's folder unless given."
    Variable "variable" "Arguments that hand over one variable, with {key} and {value}: where {variables} is, else at the end."
    Native "native" "Arguments that hand over one native setting, with {key} and {value}: where {natives} is, else at the end."
    Natives "natives" "The native settings of the program; without this table, any name is accepted."
    When "when" "Conditions: {when.NAME} has a value where all of the condition is true."
    Write "write" "Files that are written before the program starts: {write.NAME} is the path."
    Variants "variants" "Other versions of the program: each a table of what differs there."
    Frames "frames" "How frames are handed over."
    Passes "passes" "How passes may be arranged."
    Out "out" "How output files are named for the program, and what it really writes."
    Words "words" "The program's own words for values, by token."
    Accepts "accepts" "What it can read and write; without a list, everything is accepted."
    Facts "facts" "How it is asked about a scene, and which files are unsaved copies of one."
    Needs "needs" "What must be there before anything runs."
    Env "env" "Its environment."
    Log "log" "Regular expressions for lines of its log."
    Exit "exit" "Its exit codes."
}

impl AdapterKey {
    /// The key with a name.
    #[must_use]
    pub fn named(name: &str) -> Option<AdapterKey> {
        AdapterKey::ALL.iter().copied().find(|own| own.name() == name)
    }

    /// The keys that it has in itself, where it is a section.
    #[must_use]
    pub fn section(self) -> Vec<SectionKey> {
        SectionKey::ALL.iter().copied().filter(|own| own.section() == self).collect()
    }

    /// The names of all.
    pub fn names() -> impl Iterator<Item = &'static str> {
        AdapterKey::ALL.iter().map(|own| own.name())
    }
}

/// The keys of sections.
macro_rules! section_keys {
    ($($name:ident $section:ident $word:literal $what:literal)+) => {
        /// A key of a section of an adapter.
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        pub enum SectionKey { $(#[doc = $what] $name,)+ }

        impl SectionKey {
            /// All, in the order in which they are described.
            pub const ALL: &'static [SectionKey] = &[$(SectionKey::$name),+];

            /// The section that it is in.
            #[must_use]
            pub fn section(self) -> AdapterKey {
                match self { $(SectionKey::$name => AdapterKey::$section,)+ }
            }

            /// Its name.
            #[must_use]
            pub fn name(self) -> &'static str {
                match self { $(SectionKey::$name => $word,)+ }
            }

            /// What it means.
            #[must_use]
            pub fn what(self) -> &'static str {
                match self { $(SectionKey::$name => $what,)+ }
            }
        }
    };
}

section_keys! {
    FramesPer Frames "per" "list ({frames}), range ({first} {last} {step}) or frame ({frame}, one call each); pipe for encoders that read pixels."
    FramesJoin Frames "join" "The text between the parts of {frames}: a comma unless given."
    FramesRange Frames "range" "The text between the first and the last frame of a part: a minus sign unless given."
    FramesStep Frames "step" "The text before a step: a slash unless given."
    PassesCan Passes "can" "pass (a call each), call (all in one call), file (all in one file)."
    PassesKnown Passes "known" "The passes that it knows; left out: any."
    PassesJoin Passes "join" "What separates the passes in {passes}: a comma unless given."
    PassesItem Passes "item" "What {passes} says of each pass: {word} unless given."
    OutNumber Out "number" "How the frame is written in {out}: # or @ for each digit, %d, or none."
    OutWrites Out "writes" "What it really writes, relative to the stage folder."
    OutAlso Out "also" "Other files that it writes; they are removed when the call is over."
    OutKeep Out "keep" "Other files that it writes; they are kept in the log folder."
    AcceptsScenes Accepts "scenes" "Extensions of scenes it reads."
    AcceptsTypes Accepts "types" "File types it writes."
    AcceptsBits Accepts "bits" "Depths of a sample it writes."
    AcceptsChannels Accepts "channels" "Channels it writes."
    AcceptsCompressions Accepts "compressions" "Compressions it writes."
    AcceptsCodecs Accepts "codecs" "Codecs it writes."
    AcceptsChroma Accepts "chroma" "Chroma layouts it writes."
    AcceptsAudioCodecs Accepts "audio_codecs" "Audio codecs it writes."
    AcceptsDepths Accepts "depths" "By codec, the depths it writes, where the codec holds more."
    AcceptsSmallest Accepts "smallest" "By codec, the smallest size it takes, landscape or portrait."
    AcceptsLargest Accepts "largest" "By codec, the largest size it takes, landscape or portrait."
    FactsArguments Facts "arguments" "Arguments that make it print the facts of {scene} as one JSON object."
    FactsUnsaved Facts "unsaved" "Names of unsaved copies that the program keeps beside a scene: {scene_file} is its file name, {scene_name} the same without extension, {scene_ext} the extension; * is any text."
    NeedsEnv Needs "env" "Environment variables that must be set."
    NeedsFiles Needs "files" "Files that must exist."
    NeedsRun Needs "run" "Commands that must end with exit code 0."
    NeedsLicences Needs "licences" "Licences, by name."
    LogWrote Log "wrote" "A file is whole: (?<path>...). A file without such a line never lands."
    LogProblem Log "problem" "A problem to show: (?<text>...)."
    LogProgress Log "progress" "A frame is being worked on: (?<frame>...)."
    LogWait Log "wait" "No licence is free."
    LogCheckpoint Log "checkpoint" "A checkpoint is whole: (?<path>...)."
    LogFatal Log "fatal" "The call has failed, whatever its exit code."
    LogFinished Log "finished" "Everything is done; without such a line, the file written last is not trusted."
    ExitOk Exit "ok" "Exit codes of success, and signals with which the program always ends, such as SEGV."
    ExitWhole Exit "whole" "After one of these signals every file that was written is whole."
}

/// The keys of a condition, beside tokens with the values that they have to have.
pub const CONDITION: [(&str, &str); 3] = [
    ("system", "A system, or a list of them: linux, macos, windows."),
    ("given", "Tokens that must have a value."),
    ("absent", "Tokens that must have no value."),
];

/// The keys of a native setting.
pub const NATIVE: [(&str, &str); 5] = [
    ("kind", "text, number, whole or flag: text unless given."),
    ("values", "The only values it may have."),
    ("default", "The value that is handed over when a job gives none."),
    ("help", "What it does."),
    ("arguments", "Arguments that hand it over, with {key} and {value}, in place of native."),
];

/// The keys of a file that is written before the program starts.
pub const WRITE: [(&str, &str); 3] = [
    ("file", "The file's name."),
    (
        "text",
        "Its text: a template. A line that begins with ? is left out when a token in it has no value; the lines between @each pass (or variable, native, frame) and @end are repeated.",
    ),
    ("quote", "The language whose literals the values become: json, python, lua, xml, shell or none."),
];

/// The keys that only a variant has.
pub const VARIANT: [(&str, &str); 1] =
    [("matches", "A regular expression: this variant is used where the version that the program prints matches.")];
