//! Settings that only the program understands, as its adapter declares them.

use crate::source::Spanned;
use crate::template::Template;

/// One native setting.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Native {
    /// What its values are.
    pub kind: NativeKind,
    /// The only values it may have; empty where any will do.
    pub values: Vec<String>,
    /// What is handed over when a job gives nothing.
    pub default: Option<String>,
    /// What it does.
    pub help: Option<String>,
    /// Arguments that hand it over, in place of `native`.
    pub arguments: Vec<Spanned<Template>>,
}

/// What the values of a native setting are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum NativeKind {
    /// Any text.
    #[default]
    Text,
    /// A number.
    Number,
    /// A whole number.
    Whole,
    /// True or false.
    Flag,
}

/// The kinds with their names.
pub const NATIVE_KINDS: [(&str, NativeKind); 4] = [
    ("text", NativeKind::Text),
    ("number", NativeKind::Number),
    ("whole", NativeKind::Whole),
    ("flag", NativeKind::Flag),
];

impl Native {
    /// Whether it may have a value.
    #[must_use]
    pub fn takes(&self, value: &String) -> bool {
        self.kind.fits(value) && (self.values.is_empty() || self.values.contains(value))
    }
}

impl NativeKind {
    /// Its name.
    #[must_use]
    pub fn name(self) -> &'static str {
        NATIVE_KINDS.iter().find(|(_, kind)| *kind == self).map_or("", |(name, _)| name)
    }

    /// What its values are, for messages.
    #[must_use]
    pub fn described(self) -> &'static str {
        match self {
            NativeKind::Text => "text",
            NativeKind::Number => "a number",
            NativeKind::Whole => "a whole number",
            NativeKind::Flag => "true or false",
        }
    }

    /// Whether a value is of this kind.
    #[must_use]
    pub fn fits(self, value: &str) -> bool {
        match self {
            NativeKind::Text => true,
            NativeKind::Number => value.parse::<f64>().is_ok_and(f64::is_finite),
            NativeKind::Whole => value.parse::<i64>().is_ok(),
            NativeKind::Flag => ["true", "false"].contains(&value),
        }
    }
}
