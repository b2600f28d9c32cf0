//! The built-in tokens, with what each stands for in a path.

/// A built-in token of paths: its name and its meaning.
pub type KnownTokens = (&'static str, &'static str);

/// Tokens that a path may use, beside roots and variables.
pub const PATH: &[KnownTokens] = &[
    ("project", "the project's name"),
    ("sheet", "the sheet's name without extension"),
    ("job", "the job's own name"),
    ("camera", "the camera"),
    ("view", "the view, of several"),
    ("pass", "the pass; without value where layers are together"),
    ("version", "v and at least three digits; {version:4} is v0003"),
    ("mode", "the modes, joined with -"),
    ("adapter", "the adapter's name"),
    ("type", "the file type"),
    ("ext", "the file type's extension"),
    ("codec", "the codec"),
    ("bits", "the depth of a sample"),
    ("channels", "the channels"),
    ("compression", "the compression"),
    ("quality", "the quality"),
    ("chroma", "the chroma layout"),
    ("effort", "how hard the encoder tries"),
    ("audio_codec", "the audio codec"),
    ("colour", "linear or display"),
    ("samples", "samples per pixel"),
    ("region", "the region"),
    ("scene", "the scene's name without extension"),
    ("scene_folder", "the scene's folder"),
    ("frame", "the frame; {frame} is {frame:4}"),
    ("first", "the job's first frame"),
    ("last", "the job's last frame"),
    ("step", "the job's step"),
    ("frames", "the job's frames"),
    ("width", "final width in pixels"),
    ("height", "final height in pixels"),
    ("full_width", "width before scale"),
    ("full_height", "height before scale"),
    ("scale", "the scale in percent"),
    ("fps", "frames per second"),
    ("pixel_aspect", "the pixel aspect"),
    ("user", "who runs it"),
    ("host", "the machine"),
    ("os", "the system"),
    ("date", "the day"),
    ("time", "the time of day"),
];

/// Tokens that only adapter arguments may use.
pub const ADAPTER: &[&str] = &[
    "out",
    "out_folder",
    "out_stem",
    "log",
    "resume",
    "checkpoint",
    "checkpoint_every",
    "threads",
    "device",
    "key",
    "value",
    "word",
    "any",
    "input",
    "input_first",
    "input_pixels",
    "pixel_layout",
    "full_pixel_layout",
    "effort_usual",
    "movie_seconds",
    "audio",
    "audio_offset",
    "audio_seconds",
    "audio_quality",
    "start_timecode",
    "outcome",
];

/// Whether a name belongs to a built-in token, in a path or in arguments.
#[must_use]
pub fn is_built_in(name: &str) -> bool {
    PATH.iter().any(|(known, _)| *known == name) || ADAPTER.contains(&name)
}
