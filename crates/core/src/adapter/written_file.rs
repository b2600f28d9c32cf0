//! Files that are written before a program starts: settings or scripts, as templates.

use crate::source::Spanned;
use crate::template::Template;

/// One such file.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct WrittenFile {
    /// Its name, without folder.
    pub file: Option<Spanned<Template>>,
    /// Its lines.
    pub lines: Vec<FileLine>,
    /// Whose literals the values become.
    pub language: Language,
}

/// A line of such a file, or several that are repeated.
#[derive(Clone, Debug, PartialEq)]
pub enum FileLine {
    /// One line, with its end.
    Text {
        /// What it says.
        template: Spanned<Template>,
        /// Whether it is left out when a token in it has no value.
        is_optional: bool,
    },
    /// Lines that are repeated.
    Each {
        /// What for.
        over: RepeatOver,
        /// What follows each but the last, at its end.
        join: String,
        /// The lines.
        lines: Vec<FileLine>,
    },
}

impl FileLine {
    /// Whether it is repeated for something, or a line in it is.
    #[must_use]
    pub fn is_over(&self, wanted: RepeatOver) -> bool {
        match self {
            FileLine::Text { .. } => false,
            FileLine::Each { over, lines, .. } => *over == wanted || lines.iter().any(|line| line.is_over(wanted)),
        }
    }

    /// Whether it is always there, and asks for a token.
    #[must_use]
    pub fn needs(&self, token: &str) -> bool {
        match self {
            FileLine::Text { template, is_optional } => !is_optional && template.value.has(token),
            FileLine::Each { lines, .. } => lines.iter().any(|line| line.needs(token)),
        }
    }

    /// Its templates, those of repeated lines included, each with what it is repeated for.
    #[must_use]
    pub fn templates(&self) -> Vec<(&Spanned<Template>, Option<RepeatOver>)> {
        match self {
            FileLine::Text { template, .. } => vec![(template, None)],
            FileLine::Each { over, lines, .. } => {
                let inner = lines.iter().flat_map(FileLine::templates);
                inner.map(|(template, own)| (template, own.or(Some(*over)))).collect()
            }
        }
    }
}

/// What lines are repeated for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RepeatOver {
    /// Each pass of the call.
    Pass,
    /// Each variable of the job.
    Variable,
    /// Each native setting of the job.
    Native,
    /// Each frame of the call.
    Frame,
}

/// What lines may be repeated for, with names.
pub const OVERS: [(&str, RepeatOver); 4] = [
    ("pass", RepeatOver::Pass),
    ("variable", RepeatOver::Variable),
    ("native", RepeatOver::Native),
    ("frame", RepeatOver::Frame),
];

/// A language whose literals values become.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Language {
    /// JSON (RFC 8259).
    Json,
    /// Python 3.
    Python,
    /// Lua 5.
    Lua,
    /// Text or an attribute of XML 1.0.
    Xml,
    /// A word of a POSIX shell.
    Shell,
    /// Plain text on one line.
    #[default]
    None,
}

/// The languages with their names.
pub const LANGUAGES: [(&str, Language); 6] = [
    ("json", Language::Json),
    ("python", Language::Python),
    ("lua", Language::Lua),
    ("xml", Language::Xml),
    ("shell", Language::Shell),
    ("none", Language::None),
];
