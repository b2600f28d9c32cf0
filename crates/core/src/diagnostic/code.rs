//! The registry of checks: one line each, and nothing else decides what exists or how grave it is.

/// How grave a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Level {
    /// Good to know.
    Note,
    /// Probably not meant.
    Warning,
    /// Frames would be lost, land on another's name, or differ from what was asked.
    Error,
}

impl Level {
    /// Its name in a sheet and in JSON.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Level::Note => "note",
            Level::Warning => "warning",
            Level::Error => "error",
        }
    }
}

/// A check.
#[derive(Debug)]
pub struct Check {
    /// Its name.
    pub slug: &'static str,
    /// Its level when the sheet sets none.
    pub level: Level,
    /// What it looks for, in one line.
    pub summary: &'static str,
    /// Its page, in Markdown.
    pub page: &'static str,
}

macro_rules! checks {
    ($($level:ident $slug:literal $summary:literal)*) => {
        /// Every check there is.
        pub const CHECKS: &[Check] = &[$(Check {
            slug: $slug,
            level: Level::$level,
            summary: $summary,
            page: include_str!(concat!("../../../../docs/checks/", $slug, ".md")),
        }),*];
    };
}

checks! {
    Error "not-toml" "the text of the sheet is not TOML"
    Error "unknown-key" "a key that nothing reads"
    Error "value-not-understood" "a value of the wrong kind or out of range"
    Error "template-not-understood" "a path template that cannot be read"
    Error "frames-not-understood" "a frame expression that cannot be read"
    Error "key-missing" "something that every sheet or job needs is not there"
    Error "name-unknown" "a format, base or adapter that nothing defines"
    Error "mode-against-each" "a mode that sets what a job has under each"
    Note "fps-rounded" "a rounded rate that is taken as its exact fraction"
    Error "job-twice" "two jobs of one name"
    Error "frame-token-missing" "many frames on a name without a frame number"
    Error "names-meet" "two series that share a file name"
    Error "token-unknown" "a token that nothing defines"
    Error "token-without-value" "a token that has no value for this job"
    Error "token-value-unfit" "a value that cannot stand in a path"
    Warning "frame-not-separated" "a frame number that touches a letter or digit"
    Warning "padding-narrow" "a frame number with more digits than its padding"
    Warning "tokens-touch" "two tokens with nothing between them, so that names cannot be read back"
    Error "extension-differs" "an extension that belongs to another file type"
    Error "type-unknown" "neither format nor extension tell the file type"
    Error "bits-not-held" "a depth that the file type cannot hold"
    Error "channels-not-held" "channels that the file type cannot hold"
    Error "compression-not-held" "a compression that the file type does not have"
    Error "codec-not-held" "a codec that the file type does not hold"
    Error "quality-not-held" "a quality for a file type that has none"
    Error "layers-not-held" "several passes in one file of a type that holds one"
    Error "size-not-held" "a picture larger than the file type allows"
    Error "from-missing" "a sheet to be laid below that is not there, or lies below itself"
    Error "scene-missing" "the scene file is not there"
    Error "scene-damaged" "the scene file cannot be read"
    Error "camera-not-in-scene" "a camera that the scene does not have"
    Error "resource-missing" "a file that the scene needs is not there"
    Error "frames-unknown" "neither sheet nor scene say which frames"
    Error "frames-empty" "no frame is left to render"
    Warning "frames-outside-scene" "frames beyond the span that the scene declares"
    Note "scene-span-not-covered" "frames of the scene that the job leaves out"
    Warning "frames-cut" "frames asked for that are not among the job's own"
    Error "outside-policy" "an output outside the folders that the policy allows"
    Error "never-folder" "an output in a folder where outputs never lie"
    Error "output-is-input" "an output on the name of a scene or its resources"
    Error "policy-spelling" "a part of a path that the policy's spelling does not allow"
    Error "policy-tokens" "a path without a token that the policy asks for"
    Error "setting-not-carried" "a setting that the renderer has no way to receive"
    Error "scene-not-accepted" "a scene format that the renderer does not read"
}

/// The check of a name.
#[must_use]
pub fn find(slug: &str) -> Option<&'static Check> {
    CHECKS.iter().find(|check| check.slug == slug)
}
