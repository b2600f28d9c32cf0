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
    pub fixes: bool,
    /// Whether it looks into files that were rendered: `verify` and `run` find it, `check` never does.
    pub of_files: bool,
    /// Its page, in Markdown.
    pub page: &'static str,
}

/// What a line of the registry may say after its summary.
mod mark {
    pub const MACHINE: u8 = 1;
    pub const FIXES: u8 = 2;
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
                fixes: MARKS & mark::FIXES != 0,
                of_files: MARKS & mark::FILES != 0,
                page: include_str!(concat!("../../../../docs/checks/", $slug, ".md")),
            }
        }),*];
    };
}

checks! {
    // The text.
    Error "not-toml" "a sheet that is not valid TOML"
    Error "unknown-key" "a key that does not exist" + FIXES
    Error "value-not-understood" "a value of the wrong kind or out of range" + FIXES
    Error "template-not-understood" "a path template that cannot be read" + FIXES
    Error "frames-not-understood" "a frame expression that cannot be read"
    Error "key-missing" "a required key that is missing"
    Error "from-missing" "a sheet in `from` that is missing, or that includes itself"
    Error "name-unknown" "a format, base, mode or job that is not defined"
    Error "mode-against-each" "a mode that sets a value which a job lists under `each`"
    Error "each-too-large" "a job entry whose lists under `each` multiply to more than 50,000 jobs"
    Error "job-twice" "two jobs with the same name"
    Error "entry-twice" "two movies, or two passes, of one job with the same name"
    Note "fps-rounded" "a rounded frame rate, such as 23.976, that is read as the exact fraction"
    // One name, one file.
    Error "frame-token-missing" "many frames with one name, because the name has no frame number" + FIXES
    Error "names-meet" "two series that share a file name"
    Warning "names-alike" "names that differ only by case or by Unicode's spelling"
    Error "folder-wanted" "a file name that another series uses as a folder"
    Error "place-blocked" "a folder, link, pipe or device where a planned file goes, or a file where its folder goes" + HERE
    Error "output-is-input" "an output that would overwrite a scene or one of its files"
    Error "frame-token-in-movie" "a frame number in the name of a movie"
    // Names.
    Error "token-unknown" "a token that is not defined" + FIXES
    Error "token-without-value" "a token that has no value for this job"
    Error "token-value-unfit" "a value that cannot stand in a path"
    Error "root-missing" "a root without a path for this system" + MACHINE
    Error "name-reserved" "names or characters that a system of the policy does not allow"
    Error "part-too-long" "file and folder names over 255 bytes"
    Error "path-too-long" "paths that are longer than a system of the policy allows"
    Error "extension-missing" "a path without a file extension" + FIXES
    Error "extension-differs" "a file extension that belongs to another file type" + FIXES
    Warning "extension-doubled" "a file extension that appears twice" + FIXES
    Warning "dots-doubled" "two dots in a row in a file name" + FIXES
    Warning "blank-at-edge" "a root, folder or file whose name begins or ends with a space"
    Error "path-not-expanded" "`~`, `$NAME` or `%NAME%` in a path, where nothing replaces it"
    Warning "variable-hidden" "a variable with the name of a built-in token or a root, whose value no path can show"
    Warning "part-empty" "a part of a path that is empty because its token has no value"
    Warning "frame-not-separated" "a frame number in a name directly beside a letter or digit" + FIXES
    Warning "padding-narrow" "a frame number with more digits than its padding" + FIXES
    Warning "numbers-touch" "a version or frame number directly beside another digit in a name" + FIXES
    Warning "tokens-touch" "two tokens with nothing between them, so that names cannot be read back" + FIXES
    Warning "clock-too-fine" "hours, minutes or seconds in an output path"
    Warning "version-not-in-path" "a job with a version whose path does not contain the version"
    Error "policy-spelling" "a part of a path that the policy's spelling does not allow"
    Error "policy-tokens" "a path without a token that the policy requires"
    Error "outside-policy" "an output outside the folders that the policy allows"
    Error "never-folder" "an output in a system folder, where no output belongs"
    // Frames.
    Error "frames-unknown" "a job without frames: neither the sheet nor the scene says which" + MACHINE
    Error "frames-empty" "a job whose frame range is empty"
    Warning "frames-outside-scene" "frames outside the scene's frame range" + MACHINE
    Warning "handles-outside-scene" "handles outside the scene's frame range" + MACHINE
    Warning "frames-twice" "two jobs that render the same frames of the same picture"
    Warning "frames-cut" "frames on the command line that the job does not have"
    Warning "fps-differs" "a job whose frame rate differs from the rate in its scene" + MACHINE
    Note "step-misses-end" "a step that never reaches the last frame of its range"
    Note "sequence-of-one" "a single frame with a frame number in its name"
    Note "scene-span-not-covered" "frames of the scene that the job does not render" + MACHINE
    // Size.
    Error "size-not-held" "a picture larger than the file type allows"
    Error "size-odd" "a width or height that is not a multiple of the codec's chroma block" + FIXES
    Error "region-outside" "a region outside the picture"
    Error "region-odd" "a region whose size is not a multiple of the codec's chroma block"
    Warning "size-rounded" "a size that is not a whole number of pixels after scale"
    Warning "aspect-differs" "a size whose aspect ratio differs from the scene's" + MACHINE
    Warning "aspects-mixed" "jobs of one scene with different aspect ratios"
    Warning "scale-outside-mode" "a scale below 100 in the sheet itself, not in a mode or on the command line"
    // File types and codecs.
    Error "type-unknown" "a job without a file type: neither its format nor the extension of its path says one"
    Error "bits-not-held" "a depth that the file type cannot hold"
    Error "channels-not-held" "channels that the file type cannot hold"
    Error "alpha-lost" "a format that asks for alpha and a codec that cannot hold it"
    Error "compression-not-held" "a compression that the file type cannot use" + FIXES
    Error "quality-not-held" "a `quality` for a file type that has none"
    Error "layers-not-held" "several passes in one file of a type that holds one"
    Error "codec-not-held" "a codec that the file type does not hold" + FIXES
    Error "codec-option-not-held" "a depth, a chroma layout or a size that the codec does not have"
    Error "audio-codec-not-held" "an audio codec that the container does not hold"
    Warning "audio-squeezed" "lossy sound beside a codec for masters, such as ProRes, DNxHR or FFV1"
    Error "audio-in-picture" "a sound option on a picture type"
    Error "movie-rendered" "a job whose renderer writes a movie directly, instead of frames"
    Error "passes-into-movie" "several passes that are rendered straight into movies"
    Warning "data-squeezed" "a data pass in a lossy file or in 8 bits"
    Warning "display-in-linear-type" "display-encoded colours in a file type that programs read as scene-linear"
    Warning "linear-in-display-type" "scene-linear colours in a file type that programs read as display-encoded"
    Warning "movie-left-linear" "a movie of scene-linear pictures without `colour = \"display\"`"
    Warning "colours-look-alike" "one pass written both scene-linear and display-encoded, under names that look alike"
    Warning "types-mixed" "different picture types in one folder of a job"
    // The renderer.
    Warning "adapter-not-given" "a job without an adapter"
    Error "adapter-missing" "an adapter that cannot be found" + MACHINE
    Error "program-missing" "an adapter whose program is not on this machine" + HERE
    Error "program-not-executable" "an adapter whose program you are not allowed to start" + HERE
    Warning "variant-not-found" "a program whose version fits no variant of its adapter" + MACHINE
    Error "need-missing" "something that the adapter needs and this machine does not have" + HERE
    Error "setting-not-carried" "a setting that does not reach the renderer"
    Error "native-unknown" "a native setting that the adapter does not declare"
    Error "native-value" "a value that a native setting cannot have"
    Error "value-not-writable" "a value that cannot be written into a file for the renderer"
    Error "scene-not-accepted" "a scene file type that the renderer cannot read"
    Error "type-not-accepted" "a file type, a depth, channels or a compression that the renderer does not write"
    Error "pass-unknown" "a pass that the renderer does not know"
    Error "passes-not-arranged" "passes grouped into calls or files in a way that the renderer cannot do"
    Warning "argument-never-filled" "a token in an adapter that can never have a value"
    Error "argument-without-value" "an argument of an adapter that has no value for a job"
    Error "writes-unclear" "a `writes` rule of an adapter that matches nothing, or matches one file in two ways"
    Error "command-too-long" "a command line that is longer than the system allows, even for a single frame" + MACHINE
    Warning "after-missing" "a program under `after` that is not on this machine" + MACHINE
    Warning "threads-beyond-cores" "more threads than this machine has cores" + MACHINE
    Note "call-per-frame" "an adapter that starts its program once per frame for thousands of frames"
    // The scene.
    Error "scene-missing" "a scene file that does not exist" + MACHINE
    Error "scene-damaged" "a scene file that cannot be read" + MACHINE
    Error "camera-not-in-scene" "a camera that is not in the scene" + MACHINE
    Error "pass-not-in-scene" "a pass that the scene does not give" + MACHINE
    Error "variable-not-in-scene" "a variable that is passed to a scene which does not have it" + MACHINE
    Error "resource-missing" "files that the scene needs and that are missing" + MACHINE
    Warning "scene-unsaved" "an unsaved or autosaved copy of the scene that is newer than the scene" + MACHINE
    Warning "resource-absolute" "a resource with an absolute path" + MACHINE
    Warning "resource-not-shared" "a resource in a home folder or a temporary folder" + MACHINE
    // Places.
    Error "root-not-there" "a root outside the sheet's folder that does not exist" + HERE
    Error "root-not-writable" "a root that is not a folder, or that you cannot write to" + HERE
    Error "root-emptied" "a root outside the sheet's folder that is empty, though files landed below it" + MACHINE
    Warning "root-not-mounted" "a root whose disk is probably not mounted: its folder is empty" + MACHINE
    Error "state-not-writable" "a folder `.truepath` beside the sheet that cannot be written to" + HERE
    Error "other-system-path" "a Windows path on another system, or the reverse" + MACHINE
    Warning "other-home" "a path in another user's home folder" + MACHINE
    Warning "space-small" "less free disk space than the missing frames need" + MACHINE
    Warning "frames-stale" "frames that were rendered from a different scene or with different settings" + MACHINE
    Warning "exports-differ" "frames of one job that were rendered from different exports of its scene" + MACHINE
    Warning "frames-left-over" "files with frame numbers outside the planned frames" + MACHINE
    Note "files-unknown" "files in an output folder that belong to no series of this sheet, in any of its modes" + MACHINE
    // Movies.
    Error "movie-of-unknown" "a movie of a job that does not exist"
    Error "movie-pass-missing" "a movie of a pass that its job does not render"
    Warning "movie-of-disabled" "a movie of a job that is not enabled"
    Error "movie-gaps" "a movie of a sequence with gaps and no `gaps` setting"
    Error "movie-fps-unknown" "a movie without a frame rate"
    Error "movie-sizes-differ" "a movie made of frames of different sizes"
    Error "encoder-missing" "a movie that no available encoder can make"
    Warning "movie-fps-differs" "a movie whose frame rate differs from the job whose frames it shows"
    Error "audio-missing" "a sound file that is missing or cannot be read as sound" + MACHINE
    Warning "audio-length-differs" "sound that is shorter or longer than the picture by more than a frame" + MACHINE
    Warning "audio-rate-unusual" "a sample rate that the audio codec does not have, or that is not usual for movies" + MACHINE
    Note "movie-drops" "alpha or depth of the frames that a movie's codec does not keep"
    Note "sequence-without-movie" "a job without a movie in a sheet that makes movies of other jobs"
    // Rendered pictures.
    Warning "picture-unproven" "a picture whose pixels are stored in a way that True Path cannot read" + FILES
    Warning "picture-black" "a colour picture in which every sample is zero" + FILES
    Warning "picture-one-colour" "a picture in which every pixel has the same colour, and which is not black" + FILES
    Warning "picture-not-finite" "a picture with NaN or infinite values" + FILES
    Warning "alpha-flat" "a picture whose alpha is the same everywhere, where its format asks for alpha" + FILES
    Warning "picture-half-black" "a picture that is black from one side on" + FILES
    Warning "picture-repeated" "a picture that shows the same as the frame before it, pixel by pixel" + FILES
    Warning "picture-jump" "a picture unlike both its neighbours, which are alike" + FILES
    Warning "picture-block" "a patch of a picture that is empty or unlike both neighbours" + FILES
    Warning "file-size-jump" "a file far smaller or larger than both its neighbours" + FILES
    // The sheet.
    Warning "variable-unused" "a variable that no path and no renderer uses"
    Warning "each-unused" "jobs of one `each` that differ in nothing that reaches the path or the renderer"
    Warning "leave-unneeded" "a setting in `leave` that no lower layer sets"
    Note "entry-unused" "a base, a format or a pass entry of this sheet that nothing uses"
    Note "mode-changes-nothing" "a mode that changes nothing in any job"
    Note "allow-unneeded" "an entry under `[[allow]]` that matches no finding"
}

/// The check of a name.
#[must_use]
pub fn find(slug: &str) -> Option<&'static Check> {
    CHECKS.iter().find(|check| check.slug == slug)
}
