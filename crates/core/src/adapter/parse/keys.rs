//! The keys of an adapter and its sections, with what each means: for reading, and for the schema.

/// The keys of an adapter and what each means.
pub const KEYS: [(&str, &str); 24] = [
    ("adapter", "The version of the adapter language."),
    ("name", "The adapter's name: that of its file."),
    ("kind", "What the program is: renderer, exporter or encoder."),
    ("program", "The program; truepath is the running binary itself. A table gives one for each system."),
    ("version", "Arguments that ask the program for its version."),
    (
        "encoders",
        "Arguments that make an encoder list what it can encode, so that its own word for a codec is looked for.",
    ),
    ("arguments", "The program's arguments; an inner list is left out when a token in it has no value."),
    ("like", "Another adapter that this one starts from; keys given here replace or extend it."),
    ("folder", "Where the program starts; the sheet's folder unless given."),
    (
        "variable",
        "Arguments that hand over one variable, with {key} and {value}: where {variables} is, else at the end.",
    ),
    (
        "native",
        "Arguments that hand over one native setting, with {key} and {value}: where {natives} is, else at the end.",
    ),
    ("natives", "The native settings of the program; without this table, any name is accepted."),
    ("when", "Conditions: {when.NAME} has a value where all of the condition is true."),
    ("write", "Files that are written before the program starts: {write.NAME} is the path."),
    ("variants", "Other versions of the program: each a table of what differs there."),
    ("frames", "How frames are handed over."),
    ("passes", "How passes may be arranged."),
    ("out", "How output files are named for the program, and what it really writes."),
    ("words", "The program's own words for values, by token."),
    ("accepts", "What it can read and write; without a list, everything is accepted."),
    ("facts", "How it is asked about a scene, and which files are unsaved copies of one."),
    ("needs", "What must be there before anything runs."),
    ("env", "Its environment."),
    ("log", "Regular expressions for lines of its log."),
];

/// The keys of each section and what they mean. `[exit]` is here alone, so that [`KEYS`] need not say it twice.
pub const SECTIONS: &[(&str, &[(&str, &str)])] = &[
    (
        "frames",
        &[
            (
                "per",
                "list ({frames}), range ({first} {last} {step}) or frame ({frame}, one call each); pipe for encoders that read pixels.",
            ),
            ("join", "The text between the parts of {frames}: a comma unless given."),
            ("range", "The text between the first and the last frame of a part: a minus sign unless given."),
            ("step", "The text before a step: a slash unless given."),
        ],
    ),
    (
        "passes",
        &[
            ("can", "pass (a call each), call (all in one call), file (all in one file)."),
            ("known", "The passes that it knows; left out: any."),
            ("join", "What separates the passes in {passes}: a comma unless given."),
            ("item", "What {passes} says of each pass: {word} unless given."),
        ],
    ),
    (
        "out",
        &[
            ("number", "How the frame is written in {out}: # or @ for each digit, %d, or none."),
            ("writes", "What it really writes, relative to the stage folder."),
            ("also", "Other files that it writes; they are removed when the call is over."),
            ("keep", "Other files that it writes; they are kept in the log folder."),
        ],
    ),
    (
        "accepts",
        &[
            ("scenes", "Extensions of scenes it reads."),
            ("types", "File types it writes."),
            ("bits", "Depths of a sample it writes."),
            ("channels", "Channels it writes."),
            ("compressions", "Compressions it writes."),
            ("codecs", "Codecs it writes."),
            ("chroma", "Chroma layouts it writes."),
            ("audio_codecs", "Audio codecs it writes."),
            ("depths", "By codec, the depths it writes, where the codec holds more."),
            ("smallest", "By codec, the smallest size it takes, landscape or portrait."),
            ("largest", "By codec, the largest size it takes, landscape or portrait."),
        ],
    ),
    (
        "facts",
        &[
            ("arguments", "Arguments that make it print the facts of {scene} as one JSON object."),
            (
                "unsaved",
                "Names of unsaved copies that the program keeps beside a scene: {scene_file} is its file name, {scene_name} the same without extension, {scene_ext} the extension; * is any text.",
            ),
        ],
    ),
    (
        "needs",
        &[
            ("env", "Environment variables that must be set."),
            ("files", "Files that must exist."),
            ("run", "Commands that must end with exit code 0."),
            ("licences", "Licences, by name."),
        ],
    ),
    (
        "log",
        &[
            ("wrote", "A file is whole: (?<path>...). A file without such a line never lands."),
            ("problem", "A problem to show: (?<text>...)."),
            ("progress", "A frame is being worked on: (?<frame>...)."),
            ("wait", "No licence is free."),
            ("checkpoint", "A checkpoint is whole: (?<path>...)."),
            ("fatal", "The call has failed, whatever its exit code."),
            ("finished", "Everything is done; without such a line, the file written last is not trusted."),
        ],
    ),
    (
        "exit",
        &[
            ("ok", "Exit codes of success, and signals with which the program always ends, such as SEGV."),
            ("whole", "After one of these signals every file that was written is whole."),
        ],
    ),
];

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
