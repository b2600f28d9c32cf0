//! The registry of checks: one line each, and nothing else decides what exists or how grave it is.

use std::fmt;

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
    pub name: &'static str,
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

impl Slug {
    /// What is known of the check.
    #[must_use]
    pub fn check(self) -> &'static Check {
        &CHECKS[self as usize]
    }

    /// Its name, as sheets and documents write it.
    #[must_use]
    pub fn name(self) -> &'static str {
        self.check().name
    }
}

impl fmt::Display for Slug {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl PartialEq<str> for Slug {
    fn eq(&self, name: &str) -> bool {
        self.name() == name
    }
}

impl PartialEq<&str> for Slug {
    fn eq(&self, name: &&str) -> bool {
        self.name() == *name
    }
}

/// What a line of the registry may say after its summary.
mod mark {
    pub const MACHINE: u8 = 1;
    pub const FIXES: u8 = 2;
    pub const HERE: u8 = 4 | MACHINE;
    pub const FILES: u8 = 8;
}

macro_rules! checks {
    ($($level:ident $variant:ident $slug:literal $summary:literal $(+ $mark:ident)?)*) => {
        /// The name of a check.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Slug {
            $(#[doc = $summary] $variant),*
        }

        /// Every check there is, in the order of what a mistake costs.
        pub const CHECKS: &[Check] = &[$({
            const MARKS: u8 = 0 $(| mark::$mark)?;
            Check {
                name: $slug,
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
    Error NotToml "not-toml" "a sheet that is not valid TOML"
    Error UnknownKey "unknown-key" "a key that does not exist" + FIXES
    Error ValueNotUnderstood "value-not-understood" "a value of the wrong kind or out of range" + FIXES
    Error TemplateNotUnderstood "template-not-understood" "a path template that cannot be read" + FIXES
    Error FramesNotUnderstood "frames-not-understood" "a frame expression that cannot be read"
    Error KeyMissing "key-missing" "a required key that is missing"
    Error FromMissing "from-missing" "a sheet in `from` that is missing, or that includes itself"
    Error NameUnknown "name-unknown" "a format, base, mode or job that is not defined"
    Error ModeAgainstEach "mode-against-each" "a mode that sets a value which a job lists under `each`"
    Error EachTooLarge "each-too-large" "a job entry whose lists under `each` multiply to more than 50,000 jobs"
    Error JobTwice "job-twice" "two jobs with the same name"
    Error EntryTwice "entry-twice" "two movies, or two passes, of one job with the same name"
    Note FpsRounded "fps-rounded" "a rounded frame rate, such as 23.976, that is read as the exact fraction"
    // One name, one file.
    Error FrameTokenMissing "frame-token-missing" "many frames with one name, because the name has no frame number" + FIXES
    Error NamesMeet "names-meet" "two series that share a file name"
    Warning NamesAlike "names-alike" "names that differ only by case or by Unicode's spelling"
    Error FolderWanted "folder-wanted" "a file name that another series uses as a folder"
    Error PlaceBlocked "place-blocked" "a folder, link, pipe or device where a planned file goes, or a file where its folder goes" + HERE
    Error OutputIsInput "output-is-input" "an output that would overwrite a scene or one of its files"
    Error FrameTokenInMovie "frame-token-in-movie" "a frame number in the name of a movie"
    // Names.
    Error TokenUnknown "token-unknown" "a token that is not defined" + FIXES
    Error TokenWithoutValue "token-without-value" "a token that has no value for this job"
    Error TokenValueUnfit "token-value-unfit" "a value that cannot stand in a path"
    Error RootMissing "root-missing" "a root without a path for this system" + MACHINE
    Error NameReserved "name-reserved" "names or characters that a system of the policy does not allow"
    Error PartTooLong "part-too-long" "file and folder names over 255 bytes"
    Error PathTooLong "path-too-long" "paths that are longer than a system of the policy allows"
    Error ExtensionMissing "extension-missing" "a path without a file extension" + FIXES
    Error ExtensionDiffers "extension-differs" "a file extension that belongs to another file type" + FIXES
    Warning ExtensionDoubled "extension-doubled" "a file extension that appears twice" + FIXES
    Warning DotsDoubled "dots-doubled" "two dots in a row in a file name" + FIXES
    Warning BlankAtEdge "blank-at-edge" "a root, folder or file whose name begins or ends with a space"
    Error PathNotExpanded "path-not-expanded" "`~`, `$NAME` or `%NAME%` in a path, where nothing replaces it"
    Warning VariableHidden "variable-hidden" "a variable with the name of a built-in token or a root, whose value no path can show"
    Warning PartEmpty "part-empty" "a part of a path that is empty because its token has no value"
    Warning FrameNotSeparated "frame-not-separated" "a frame number in a name directly beside a letter or digit" + FIXES
    Warning PaddingNarrow "padding-narrow" "a frame number with more digits than its padding" + FIXES
    Warning NumbersTouch "numbers-touch" "a version or frame number directly beside another digit in a name" + FIXES
    Warning TokensTouch "tokens-touch" "two tokens with nothing between them, so that names cannot be read back" + FIXES
    Warning ClockTooFine "clock-too-fine" "hours, minutes or seconds in an output path"
    Warning VersionNotInPath "version-not-in-path" "a job with a version whose path does not contain the version"
    Error PolicySpelling "policy-spelling" "a part of a path that the policy's spelling does not allow"
    Error PolicyTokens "policy-tokens" "a path without a token that the policy requires"
    Error OutsidePolicy "outside-policy" "an output outside the folders that the policy allows"
    Error NeverFolder "never-folder" "an output in a system folder, where no output belongs"
    // Frames.
    Error FramesUnknown "frames-unknown" "a job without frames: neither the sheet nor the scene says which" + MACHINE
    Error FramesEmpty "frames-empty" "a job whose frame range is empty"
    Warning FramesOutsideScene "frames-outside-scene" "frames outside the scene's frame range" + MACHINE
    Warning HandlesOutsideScene "handles-outside-scene" "handles outside the scene's frame range" + MACHINE
    Warning FramesTwice "frames-twice" "two jobs that render the same frames of the same picture"
    Warning FramesCut "frames-cut" "frames on the command line that the job does not have"
    Warning FpsDiffers "fps-differs" "a job whose frame rate differs from the rate in its scene" + MACHINE
    Note StepMissesEnd "step-misses-end" "a step that never reaches the last frame of its range"
    Note SequenceOfOne "sequence-of-one" "a single frame with a frame number in its name"
    Note SceneSpanNotCovered "scene-span-not-covered" "frames of the scene that the job does not render" + MACHINE
    // Size.
    Error SizeNotHeld "size-not-held" "a picture larger than the file type allows"
    Error SizeOdd "size-odd" "a width or height that is not a multiple of the codec's chroma block" + FIXES
    Error RegionOutside "region-outside" "a region outside the picture"
    Error RegionOdd "region-odd" "a region whose size is not a multiple of the codec's chroma block"
    Warning SizeRounded "size-rounded" "a size that is not a whole number of pixels after scale"
    Warning AspectDiffers "aspect-differs" "a size whose aspect ratio differs from the scene's" + MACHINE
    Warning AspectsMixed "aspects-mixed" "jobs of one scene with different aspect ratios"
    Warning ScaleOutsideMode "scale-outside-mode" "a scale below 100 in the sheet itself, not in a mode or on the command line"
    // File types and codecs.
    Error TypeUnknown "type-unknown" "a job without a file type: neither its format nor the extension of its path says one"
    Error BitsNotHeld "bits-not-held" "a depth that the file type cannot hold"
    Error ChannelsNotHeld "channels-not-held" "channels that the file type cannot hold"
    Error AlphaLost "alpha-lost" "a format that asks for alpha and a codec that cannot hold it"
    Error CompressionNotHeld "compression-not-held" "a compression that the file type cannot use" + FIXES
    Error QualityNotHeld "quality-not-held" "a `quality` for a file type that has none"
    Error LayersNotHeld "layers-not-held" "several passes in one file of a type that holds one"
    Error CodecNotHeld "codec-not-held" "a codec that the file type does not hold" + FIXES
    Error CodecOptionNotHeld "codec-option-not-held" "a depth, a chroma layout or a size that the codec does not have"
    Error AudioCodecNotHeld "audio-codec-not-held" "an audio codec that the container does not hold"
    Warning AudioSqueezed "audio-squeezed" "lossy sound beside a codec for masters, such as ProRes, DNxHR or FFV1"
    Error AudioInPicture "audio-in-picture" "a sound option on a picture type"
    Error MovieRendered "movie-rendered" "a job whose renderer writes a movie directly, instead of frames"
    Error PassesIntoMovie "passes-into-movie" "several passes that are rendered straight into movies"
    Warning DataSqueezed "data-squeezed" "a data pass in a lossy file or in 8 bits"
    Warning DisplayInLinearType "display-in-linear-type" "display-encoded colours in a file type that programs read as scene-linear"
    Warning LinearInDisplayType "linear-in-display-type" "scene-linear colours in a file type that programs read as display-encoded"
    Warning MovieLeftLinear "movie-left-linear" "a movie of scene-linear pictures without `colour = \"display\"`"
    Warning ColoursLookAlike "colours-look-alike" "one pass written both scene-linear and display-encoded, under names that look alike"
    Warning TypesMixed "types-mixed" "different picture types in one folder of a job"
    // The renderer.
    Warning AdapterNotGiven "adapter-not-given" "a job without an adapter"
    Error AdapterMissing "adapter-missing" "an adapter that cannot be found" + MACHINE
    Error ProgramMissing "program-missing" "an adapter whose program is not on this machine" + HERE
    Error ProgramNotExecutable "program-not-executable" "an adapter whose program you are not allowed to start" + HERE
    Warning VariantNotFound "variant-not-found" "a program whose version fits no variant of its adapter" + MACHINE
    Error NeedMissing "need-missing" "something that the adapter needs and this machine does not have" + HERE
    Error SettingNotCarried "setting-not-carried" "a setting that does not reach the renderer"
    Error NativeUnknown "native-unknown" "a native setting that the adapter does not declare"
    Error NativeValue "native-value" "a value that a native setting cannot have"
    Error ValueNotWritable "value-not-writable" "a value that cannot be written into a file for the renderer"
    Error SceneNotAccepted "scene-not-accepted" "a scene file type that the renderer cannot read"
    Error TypeNotAccepted "type-not-accepted" "a file type, a depth, channels or a compression that the renderer does not write"
    Error PassUnknown "pass-unknown" "a pass that the renderer does not know"
    Error PassesNotArranged "passes-not-arranged" "passes grouped into calls or files in a way that the renderer cannot do"
    Warning ArgumentNeverFilled "argument-never-filled" "a token in an adapter that can never have a value"
    Error ArgumentWithoutValue "argument-without-value" "an argument of an adapter that has no value for a job"
    Error WritesUnclear "writes-unclear" "a `writes` rule of an adapter that matches nothing, or matches one file in two ways"
    Error CommandTooLong "command-too-long" "a command line that is longer than the system allows, even for a single frame" + MACHINE
    Warning AfterMissing "after-missing" "a program under `after` that is not on this machine" + MACHINE
    Warning ThreadsBeyondCores "threads-beyond-cores" "more threads than this machine has cores" + MACHINE
    Note CallPerFrame "call-per-frame" "an adapter that starts its program once per frame for thousands of frames"
    // The scene.
    Error SceneMissing "scene-missing" "a scene file that does not exist" + MACHINE
    Error SceneDamaged "scene-damaged" "a scene file that cannot be read" + MACHINE
    Error CameraNotInScene "camera-not-in-scene" "a camera that is not in the scene" + MACHINE
    Error PassNotInScene "pass-not-in-scene" "a pass that the scene does not give" + MACHINE
    Error VariableNotInScene "variable-not-in-scene" "a variable that is passed to a scene which does not have it" + MACHINE
    Error ResourceMissing "resource-missing" "files that the scene needs and that are missing" + MACHINE
    Warning SceneUnsaved "scene-unsaved" "an unsaved or autosaved copy of the scene that is newer than the scene" + MACHINE
    Warning ResourceAbsolute "resource-absolute" "a resource with an absolute path" + MACHINE
    Warning ResourceNotShared "resource-not-shared" "a resource in a home folder or a temporary folder" + MACHINE
    // Places.
    Error RootNotThere "root-not-there" "a root outside the sheet's folder that does not exist" + HERE
    Error RootNotWritable "root-not-writable" "a root that is not a folder, or that you cannot write to" + HERE
    Error RootEmptied "root-emptied" "a root outside the sheet's folder that is empty, though files landed below it" + MACHINE
    Warning RootNotMounted "root-not-mounted" "a root whose disk is probably not mounted: its folder is empty" + MACHINE
    Error StateNotWritable "state-not-writable" "a folder `.truepath` beside the sheet that cannot be written to" + HERE
    Error OtherSystemPath "other-system-path" "a Windows path on another system, or the reverse" + MACHINE
    Warning OtherHome "other-home" "a path in another user's home folder" + MACHINE
    Warning SpaceSmall "space-small" "less free disk space than the missing frames need" + MACHINE
    Warning FramesStale "frames-stale" "frames that were rendered from a different scene or with different settings" + MACHINE
    Warning ExportsDiffer "exports-differ" "frames of one job that were rendered from different exports of its scene" + MACHINE
    Warning FramesLeftOver "frames-left-over" "files with frame numbers outside the planned frames" + MACHINE
    Note FilesUnknown "files-unknown" "files in an output folder that belong to no series of this sheet, in any of its modes" + MACHINE
    // Movies.
    Error MovieOfUnknown "movie-of-unknown" "a movie of a job that does not exist"
    Error MoviePassMissing "movie-pass-missing" "a movie of a pass that its job does not render"
    Warning MovieOfDisabled "movie-of-disabled" "a movie of a job that is not enabled"
    Error MovieGaps "movie-gaps" "a movie of a sequence with gaps and no `gaps` setting"
    Error MovieFpsUnknown "movie-fps-unknown" "a movie without a frame rate"
    Error MovieSizesDiffer "movie-sizes-differ" "a movie made of frames of different sizes"
    Error EncoderMissing "encoder-missing" "a movie that no available encoder can make"
    Warning MovieFpsDiffers "movie-fps-differs" "a movie whose frame rate differs from the job whose frames it shows"
    Error AudioMissing "audio-missing" "a sound file that is missing or cannot be read as sound" + MACHINE
    Warning AudioLengthDiffers "audio-length-differs" "sound that is shorter or longer than the picture by more than a frame" + MACHINE
    Warning AudioRateUnusual "audio-rate-unusual" "a sample rate that the audio codec does not have, or that is not usual for movies" + MACHINE
    Note MovieDrops "movie-drops" "alpha or depth of the frames that a movie's codec does not keep"
    Note SequenceWithoutMovie "sequence-without-movie" "a job without a movie in a sheet that makes movies of other jobs"
    // Rendered pictures.
    Warning PictureUnproven "picture-unproven" "a picture whose pixels are stored in a way that True Path cannot read" + FILES
    Warning PictureBlack "picture-black" "a colour picture in which every sample is zero" + FILES
    Warning PictureOneColour "picture-one-colour" "a picture in which every pixel has the same colour, and which is not black" + FILES
    Warning PictureNotFinite "picture-not-finite" "a picture with NaN or infinite values" + FILES
    Warning AlphaFlat "alpha-flat" "a picture whose alpha is the same everywhere, where its format asks for alpha" + FILES
    Warning PictureHalfBlack "picture-half-black" "a picture that is black from one side on" + FILES
    Warning PictureRepeated "picture-repeated" "a picture that shows the same as the frame before it, pixel by pixel" + FILES
    Warning PictureJump "picture-jump" "a picture unlike both its neighbours, which are alike" + FILES
    Warning PictureBlock "picture-block" "a patch of a picture that is empty or unlike both neighbours" + FILES
    Warning FileSizeJump "file-size-jump" "a file far smaller or larger than both its neighbours" + FILES
    // The sheet.
    Warning VariableUnused "variable-unused" "a variable that no path and no renderer uses"
    Warning EachUnused "each-unused" "jobs of one `each` that differ in nothing that reaches the path or the renderer"
    Warning LeaveUnneeded "leave-unneeded" "a setting in `leave` that no lower layer sets"
    Note EntryUnused "entry-unused" "a base, a format or a pass entry of this sheet that nothing uses"
    Note ModeChangesNothing "mode-changes-nothing" "a mode that changes nothing in any job"
    Note AllowUnneeded "allow-unneeded" "an entry under `[[allow]]` that matches no finding"
}

/// The check of a name.
#[must_use]
pub fn find(slug: &str) -> Option<&'static Check> {
    CHECKS.iter().find(|check| check.name == slug)
}
