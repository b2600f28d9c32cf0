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
    /// Whether it asks the disk or the machine, so that `--offline` leaves it out.
    pub asks_machine: bool,
    /// Whether the sheet is right and this machine cannot do it.
    pub here_only: bool,
    /// Whether its remedy is safe and certain, so that `--fix` applies it.
    pub mends: bool,
    /// Whether it looks into files that were rendered: `verify` and `run` find it, `check` never does.
    pub of_files: bool,
    /// Its page, in Markdown.
    pub page: &'static str,
}

/// What a line of the registry may say after its summary.
mod mark {
    pub const MACHINE: u8 = 1;
    pub const MENDS: u8 = 2;
    pub const HERE: u8 = 4 | MACHINE;
    pub const FILES: u8 = 8;
}

macro_rules! checks {
    ($($level:ident $slug:literal $summary:literal $(+ $mark:ident)?)*) => {
        /// Every check there is, in the order of what a mistake costs.
        pub const CHECKS: &[Check] = &[$({
            const MARKS: u8 = 0 $(| mark::$mark)?;
            Check {
                slug: $slug,
                level: Level::$level,
                summary: $summary,
                asks_machine: MARKS & mark::MACHINE != 0,
                here_only: MARKS & mark::HERE == mark::HERE,
                mends: MARKS & mark::MENDS != 0,
                of_files: MARKS & mark::FILES != 0,
                page: include_str!(concat!("../../../../docs/checks/", $slug, ".md")),
            }
        }),*];
    };
}

checks! {
    // The text.
    Error "not-toml" "the text of the sheet is not TOML"
    Error "unknown-key" "a key that nothing reads" + MENDS
    Error "value-not-understood" "a value of the wrong kind or out of range"
    Error "template-not-understood" "a path template that cannot be read"
    Error "frames-not-understood" "a frame expression that cannot be read"
    Error "key-missing" "something that every sheet or job needs is not there"
    Error "from-missing" "a sheet to be laid below that is not there, or lies below itself"
    Error "name-unknown" "a format, base, mode or job that nothing defines"
    Error "mode-against-each" "a mode that sets what a job has under each"
    Error "each-too-large" "an `each` whose lists multiply beyond what a job may have"
    Error "job-twice" "two jobs of one name"
    Note "fps-rounded" "a rounded rate that is taken as its exact fraction"
    // One name, one file.
    Error "frame-token-missing" "many frames on a name without a frame number" + MENDS
    Error "names-meet" "two series that share a file name"
    Warning "names-alike" "names that differ only by case or by Unicode's spelling"
    Error "folder-wanted" "a file where another series needs a folder"
    Error "place-blocked" "a folder, link, pipe or device where a planned file goes, or a file where its folder goes" + HERE
    Error "output-is-input" "an output on the name of a scene or its resources"
    Error "frame-token-in-movie" "a frame number in the name of a movie"
    // Names.
    Error "token-unknown" "a token that nothing defines" + MENDS
    Error "token-without-value" "a token that has no value for this job"
    Error "token-value-unfit" "a value that cannot stand in a path"
    Error "root-missing" "a root without a path on this system" + MACHINE
    Error "name-reserved" "a name that a system keeps for itself or cannot write"
    Error "part-too-long" "a file or folder name over 255 bytes"
    Error "path-too-long" "a path that is longer than a system allows"
    Error "extension-missing" "a path without the extension of its type" + MENDS
    Error "extension-differs" "an extension that belongs to another file type" + MENDS
    Warning "extension-doubled" "an extension written twice" + MENDS
    Warning "part-empty" "a part of a path with nothing in it"
    Warning "frame-not-separated" "a frame number that touches a letter or digit" + MENDS
    Warning "padding-narrow" "a frame number with more digits than its padding" + MENDS
    Warning "numbers-touch" "a number beside a number, so that names cannot be read back" + MENDS
    Warning "tokens-touch" "two tokens with nothing between them, so that names cannot be read back" + MENDS
    Warning "clock-too-fine" "hours, minutes or seconds in a path that is resumed"
    Warning "version-not-in-path" "a version that the path does not carry"
    Error "policy-spelling" "a part of a path that the policy's spelling does not allow"
    Error "policy-tokens" "a path without a token that the policy asks for"
    Error "outside-policy" "an output outside the folders that the policy allows"
    Error "never-folder" "an output in a folder where outputs never lie"
    // Frames.
    Error "frames-unknown" "neither sheet nor scene say which frames" + MACHINE
    Error "frames-empty" "no frame is left to render"
    Warning "frames-outside-scene" "frames beyond the span that the scene declares" + MACHINE
    Warning "handles-outside-scene" "handles beyond the span that the scene declares" + MACHINE
    Warning "frames-twice" "two jobs that render the same frames of the same picture"
    Warning "frames-cut" "frames asked for that are not among the job's own"
    Warning "fps-differs" "another rate than the scene's" + MACHINE
    Note "step-misses-end" "a step that never reaches the end of its range"
    Note "sequence-of-one" "a single frame with a frame number in its name"
    Note "scene-span-not-covered" "frames of the scene that the job leaves out" + MACHINE
    // Size.
    Error "size-not-held" "a picture larger than the file type or the codec allows"
    Error "size-odd" "a size that the codec's colour does not divide" + MENDS
    Error "region-outside" "a region outside the picture"
    Error "region-odd" "a region whose size the codec's colour does not divide"
    Warning "size-rounded" "a size that is not a whole number after scale"
    Warning "aspect-differs" "another aspect than the scene's" + MACHINE
    Warning "aspects-mixed" "jobs of one scene with different aspects"
    Warning "scale-outside-mode" "less than the full size outside a mode"
    // File types and codecs.
    Error "type-unknown" "neither format nor extension tell the file type"
    Error "bits-not-held" "a depth that the file type cannot hold"
    Error "channels-not-held" "channels that the file type cannot hold"
    Error "alpha-lost" "alpha asked of a codec that has none"
    Error "compression-not-held" "a compression that the file type does not have"
    Error "quality-not-held" "a quality for a file type or codec that has none"
    Error "layers-not-held" "several passes in one file of a type that holds one"
    Error "codec-not-held" "a codec that the file type does not hold"
    Error "codec-option-not-held" "a depth or a chroma layout that the codec does not have"
    Error "audio-codec-not-held" "an audio codec that the container does not hold"
    Error "audio-in-picture" "sound asked of a picture type"
    Error "movie-rendered" "a movie written by the renderer itself, which cannot be resumed"
    Error "passes-into-movie" "several passes rendered straight into movies"
    Warning "data-squeezed" "a data pass in a lossy or 8-bit file"
    Warning "display-in-linear-type" "pixels treated for display in a type that is read as linear"
    Warning "linear-in-display-type" "linear pixels in a type that is read as treated for display"
    Warning "movie-untreated" "a movie of linear pictures without a treatment for display"
    Warning "treatments-look-alike" "one pass written with two treatments under names that do not tell them apart"
    Warning "types-mixed" "different file types in one folder of a job"
    // The renderer.
    Warning "adapter-not-given" "a job of which nothing says how it is rendered"
    Error "adapter-missing" "an adapter that is nowhere to be found" + MACHINE
    Error "program-missing" "the adapter's program is not on this machine" + HERE
    Error "program-not-executable" "the adapter's program may not be started by this user" + HERE
    Error "need-missing" "something the adapter needs is not on this machine" + HERE
    Error "setting-not-carried" "a setting that the renderer has no way to receive"
    Error "native-unknown" "a native setting that the adapter does not declare"
    Error "native-value" "a value that a native setting cannot have"
    Error "value-not-writable" "a value that cannot be written into a file for the program"
    Error "scene-not-accepted" "a scene format that the renderer does not read"
    Error "type-not-accepted" "a file type or an option that the renderer does not write"
    Error "pass-unknown" "a pass that the renderer does not know"
    Error "passes-not-arranged" "passes arranged as the renderer cannot do it"
    Warning "argument-never-filled" "an argument of an adapter that no setting can fill"
    Error "argument-without-value" "an argument of an adapter that has no value in some job"
    Error "writes-unclear" "a rule for what a program writes that says nothing, or fits one file in two ways"
    Error "command-too-long" "a command line that is longer than the system allows" + MACHINE
    Warning "threads-beyond-cores" "more threads than the machine has cores" + MACHINE
    Note "call-per-frame" "a renderer that is started anew for each of thousands of frames"
    // The scene.
    Error "scene-missing" "the scene file is not there" + MACHINE
    Error "scene-damaged" "the scene file cannot be read" + MACHINE
    Error "camera-not-in-scene" "a camera that the scene does not have" + MACHINE
    Error "pass-not-in-scene" "a pass that the scene does not give" + MACHINE
    Error "variable-not-in-scene" "a variable that the scene does not know" + MACHINE
    Error "resource-missing" "a file that the scene needs is not there" + MACHINE
    Warning "scene-unsaved" "a copy of the scene that is newer than the scene" + MACHINE
    Warning "resource-absolute" "a resource under a full path, which other machines may not have" + MACHINE
    Warning "resource-not-shared" "a resource in a place that other machines cannot see" + MACHINE
    // Places.
    Error "root-not-there" "a root that is not there and not below the sheet" + HERE
    Error "root-not-writable" "a root that cannot be written to" + HERE
    Warning "root-not-mounted" "a root on an empty mount point" + MACHINE
    Error "state-not-writable" "True Path cannot keep its state beside the sheet" + HERE
    Error "other-system-path" "a path of another system" + MACHINE
    Warning "other-home" "a path in another person's home" + MACHINE
    Warning "space-small" "less free space than the frames will take" + MACHINE
    Warning "frames-stale" "frames that were made of another scene or with other settings" + MACHINE
    Warning "frames-left-over" "frames of a longer range that still lie there" + MACHINE
    Note "files-unknown" "files among the outputs that no plan knows" + MACHINE
    // Movies.
    Error "movie-of-unknown" "a movie of a job that does not exist"
    Error "movie-pass-missing" "a movie of a pass that its job does not render"
    Warning "movie-of-disabled" "a movie of a job that is not enabled"
    Error "movie-gaps" "a movie of a sequence with gaps, and nothing says what to do with them"
    Error "movie-fps-unknown" "a movie of which nothing says at which rate it runs"
    Error "movie-sizes-differ" "frames of several sizes in one movie"
    Error "encoder-missing" "a movie that no encoder can make as it is asked for"
    Warning "movie-fps-differs" "a movie at another rate than its job"
    Error "audio-missing" "a sound file that is not there or cannot be read" + MACHINE
    Warning "audio-length-differs" "sound that is shorter or longer than the picture" + MACHINE
    Warning "audio-rate-unusual" "a sample rate that codec or players do not expect" + MACHINE
    Note "sequence-without-movie" "a job without a movie in a sheet that makes movies"
    // Rendered pictures.
    Warning "picture-unproven" "a picture whose pixels are stored in a way that is not read here" + FILES
    Warning "picture-black" "a black picture" + FILES
    Warning "picture-one-colour" "a picture that has one colour everywhere" + FILES
    Warning "picture-not-finite" "a picture with values that are infinite or no numbers" + FILES
    Warning "alpha-flat" "an alpha that is the same everywhere, where alpha was asked for" + FILES
    Warning "picture-half-black" "a picture that is black from one side on" + FILES
    Warning "picture-repeated" "a picture that shows the same as the frame before" + FILES
    Warning "picture-jump" "a picture unlike both its neighbours, which are alike" + FILES
    Warning "picture-block" "a patch of a picture that is empty or unlike both neighbours" + FILES
    Warning "file-size-jump" "a file far smaller or larger than both its neighbours" + FILES
    // The sheet.
    Warning "variable-unused" "a variable that no path and no renderer uses"
    Warning "each-unused" "combinations whose difference reaches neither path nor renderer"
    Warning "leave-unneeded" "a setting given back that was never given"
    Note "entry-unused" "a base, format or pass entry that nothing uses"
    Note "mode-changes-nothing" "a mode that changes no job"
    Note "meant-unneeded" "an entry under [[meant]] that matches no finding"
}

/// The check of a name.
#[must_use]
pub fn find(slug: &str) -> Option<&'static Check> {
    CHECKS.iter().find(|check| check.slug == slug)
}
