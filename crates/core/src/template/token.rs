//! The built-in tokens: one table of those of paths, and one of those that only adapters have.

/// What gives a token of paths its value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TokenGiver {
    /// A setting of its name, or what the job has of itself.
    Setting,
    /// The format, of any type.
    Format,
    /// The format of a movie.
    Codec,
    /// The size.
    Size,
    /// The moment of a version's first run.
    Moment,
    /// The pass, where it has a file of its own.
    Pass,
    /// The project.
    Project,
}

/// Whether values of a token are always numbers, the frame aside.
#[derive(Clone, Copy, PartialEq, Eq)]
enum TokenValues {
    Number,
    Other,
}

macro_rules! path_tokens {
    ($($name:ident $word:literal $giver:ident $shown:ident, $what:literal)+) => {
        /// A token that a path may use, beside roots and variables.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum PathToken { $(#[doc = $what] $name,)+ }

        impl PathToken {
            /// All, in the order in which they are listed.
            pub const ALL: &'static [PathToken] = &[$(PathToken::$name),+];

            fn row(self) -> (&'static str, TokenGiver, TokenValues, &'static str) {
                match self { $(PathToken::$name => ($word, TokenGiver::$giver, TokenValues::$shown, $what),)+ }
            }
        }
    };
}

path_tokens! {
    Project "project" Project Other, "the project's name"
    Sheet "sheet" Setting Other, "the sheet's name without extension"
    Job "job" Setting Other, "the job's own name"
    Camera "camera" Setting Other, "the camera"
    View "view" Setting Other, "the view, of several"
    Pass "pass" Pass Other, "the pass; no value when all passes are in one file"
    Version "version" Setting Number, "v and at least three digits; {version:4} gives v0003"
    Mode "mode" Setting Other, "the modes, joined with -"
    Adapter "adapter" Setting Other, "the adapter's name"
    Type "type" Format Other, "the file type"
    Ext "ext" Format Other, "the file type's extension"
    Codec "codec" Codec Other, "the codec"
    Bits "bits" Format Other, "the depth of a sample"
    Channels "channels" Format Other, "the channels"
    Compression "compression" Format Other, "the compression"
    Quality "quality" Format Number, "the quality"
    Chroma "chroma" Codec Other, "the chroma layout"
    Effort "effort" Codec Other, "how hard the encoder tries"
    AudioCodec "audio_codec" Codec Other, "the audio codec"
    Colour "colour" Setting Other, "linear or display"
    Samples "samples" Setting Number, "samples per pixel"
    Region "region" Setting Other, "the region"
    Scene "scene" Setting Other, "the scene's name without extension"
    SceneFolder "scene_folder" Setting Other, "the scene's folder"
    Frame "frame" Setting Other, "the frame number; {frame} is the same as {frame:4}"
    First "first" Setting Number, "the job's first frame"
    Last "last" Setting Number, "the job's last frame"
    Step "step" Setting Number, "the job's step"
    Frames "frames" Setting Other, "the job's frames"
    Width "width" Size Number, "final width in pixels"
    Height "height" Size Number, "final height in pixels"
    FullWidth "full_width" Size Number, "width before scale"
    FullHeight "full_height" Size Number, "height before scale"
    Scale "scale" Setting Number, "the scale in percent"
    Fps "fps" Setting Other, "frames per second"
    PixelAspect "pixel_aspect" Setting Other, "the pixel aspect"
    User "user" Moment Other, "who runs it"
    Host "host" Moment Other, "the machine"
    Os "os" Setting Other, "the system"
    Date "date" Moment Other, "the day"
    Time "time" Moment Other, "the time of day"
}

impl PathToken {
    /// Its name.
    #[must_use]
    pub fn name(self) -> &'static str {
        self.row().0
    }

    /// What it stands for.
    #[must_use]
    pub fn what(self) -> &'static str {
        self.row().3
    }

    /// What gives it its value.
    #[must_use]
    pub fn giver(self) -> TokenGiver {
        self.row().1
    }

    /// Whether its values are always numbers. The frame has rules of its own.
    #[must_use]
    pub fn is_number(self) -> bool {
        self.row().2 == TokenValues::Number
    }

    /// The token with a name.
    #[must_use]
    pub fn named(name: &str) -> Option<PathToken> {
        PathToken::ALL.iter().copied().find(|own| own.name() == name)
    }

    /// The names of all.
    pub fn names() -> impl Iterator<Item = &'static str> {
        PathToken::ALL.iter().map(|own| own.name())
    }
}

macro_rules! argument_tokens {
    ($($name:ident $word:literal, $what:literal)+) => {
        /// A token that only adapters may use.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum ArgumentToken { $(#[doc = $what] $name,)+ }

        impl ArgumentToken {
            /// All, in the order in which they are listed.
            pub const ALL: &'static [ArgumentToken] = &[$(ArgumentToken::$name),+];

            /// Its name.
            #[must_use]
            pub fn name(self) -> &'static str {
                match self { $(ArgumentToken::$name => $word,)+ }
            }
        }
    };
}

argument_tokens! {
    Out "out", "the file to write"
    OutFolder "out_folder", "its folder"
    OutStem "out_stem", "its name without extension"
    Log "log", "the log of the call"
    Resume "resume", "the checkpoint to go on from"
    Checkpoint "checkpoint", "the checkpoint to write"
    CheckpointEvery "checkpoint_every", "how often"
    Threads "threads", "how many threads"
    Device "device", "the device"
    Key "key", "the name of a variable or native setting"
    Value "value", "its value"
    Word "word", "the program's word for a pass"
    Any "any", "any text, in `writes`"
    Input "input", "the pictures of a movie"
    InputFirst "input_first", "the first of them"
    InputPixels "input_pixels", "how their samples are stored"
    PixelLayout "pixel_layout", "channels and depth in one word"
    FullPixelLayout "full_pixel_layout", "the same with everything in it"
    EffortUsual "effort_usual", "how hard the encoder tries, where the format does not say"
    MovieSeconds "movie_seconds", "how long a movie is"
    Audio "audio", "the sound"
    AudioOffset "audio_offset", "by how much it begins later"
    AudioSeconds "audio_seconds", "how long it is"
    AudioQuality "audio_quality", "its quality"
    StartTimecode "start_timecode", "the timecode of the first frame"
    Outcome "outcome", "how a run ended, in `after`"
    Count "count", "how many frames"
    Index "index", "the place of a frame, from 0"
    Ordinal "ordinal", "the place of a frame, from 1"
    AfterLast "after_last", "one more than the last frame"
    RegionX "region_x", "the left edge of the region in pixels"
    RegionY "region_y", "its top edge"
    RegionW "region_w", "its width"
    RegionH "region_h", "its height"
    SheetFolder "sheet_folder", "the sheet's folder"
    SceneName "scene_name", "the scene's name without extension"
    Passes "passes", "all passes of a call"
    Variables "variables", "all variables"
    Natives "natives", "all native settings"
}

impl ArgumentToken {
    /// The token with a name.
    #[must_use]
    pub fn named(name: &str) -> Option<ArgumentToken> {
        ArgumentToken::ALL.iter().copied().find(|own| own.name() == name)
    }
}

/// A built-in token.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BuiltIn {
    /// One of paths.
    Path(PathToken),
    /// One of adapters only.
    Argument(ArgumentToken),
}

/// The built-in token with a name, in a path or in arguments.
#[must_use]
pub fn built_in(name: &str) -> Option<BuiltIn> {
    PathToken::named(name).map(BuiltIn::Path).or(ArgumentToken::named(name).map(BuiltIn::Argument))
}

/// Whether a name belongs to a built-in token, in a path or in arguments.
#[must_use]
pub fn is_built_in(name: &str) -> bool {
    built_in(name).is_some()
}

/// The names of all built-in tokens.
pub fn names() -> impl Iterator<Item = &'static str> {
    PathToken::names().chain(ArgumentToken::ALL.iter().map(|own| own.name()))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::names;

    #[test]
    fn no_two_tokens_have_a_name() {
        assert_eq!(names().collect::<BTreeSet<_>>().len(), names().count());
    }
}
