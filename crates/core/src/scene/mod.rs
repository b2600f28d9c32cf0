//! Scene bytes to facts: cameras, span, rate, size, outside files. What a format does not say stays unknown.

pub mod beside;
mod gltf;
pub mod told;
mod usd;
mod usda;
mod usdc;
mod usdz;

use crate::flaw::Flaw;
use std::collections::BTreeMap;
use std::ops::Range;

use crate::frames::Frames;
use crate::sheet::{Fps, Size};

/// What is known about a scene.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Facts {
    /// Camera names; `None` when nothing says which there are.
    pub cameras: Option<Vec<String>>,
    /// Length in seconds, of formats that know no frames.
    pub seconds: Option<f64>,
    /// Times of the first and the last key in seconds, of formats that know no frames.
    pub keys: Option<(f64, f64)>,
    /// First and last frame, of formats that know frames.
    pub span: Option<(i64, i64)>,
    /// Frames per second.
    pub fps: Option<Fps>,
    /// Size in pixels.
    pub size: Option<Size>,
    /// Passes that the scene can give; `None` when nothing says which there are.
    pub passes: Option<Vec<String>>,
    /// Variables that the scene knows; `None` when nothing says which there are.
    pub variables: Option<Vec<String>>,
    /// A copy of the scene that holds changes which the scene itself does not, as the renderer tells it.
    pub unsaved: Option<String>,
    /// Outside files, as the scene spells them: relative to its folder, or absolute.
    pub resources: Vec<String>,
    /// Cameras by their full paths in the scene, such as `/Tower/belfry`, of formats that have such.
    pub camera_paths: Vec<String>,
    /// Outside files of its layers: relative to the scene's own folder, or absolute.
    pub nested: Vec<String>,
    /// The files that the scene itself would have rendered.
    pub products: Vec<RenderProduct>,
    /// Whether there may be more cameras: a part of the scene was not read.
    pub more_cameras: bool,
    /// Those of the outside files that are parts of the scene itself: cameras may stand there.
    pub layers: Vec<String>,
}

/// A file that a scene's own render settings ask for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RenderProduct {
    /// Its name in the scene.
    pub name: String,
    /// The file.
    pub file: Option<String>,
    /// Its size in pixels.
    pub size: Option<Size>,
    /// Its camera.
    pub camera: Option<String>,
    /// The variables that it holds, in their order.
    pub variables: Vec<String>,
}

/// Why a scene's bytes say nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unread {
    /// A format that is not read here.
    OtherFormat,
    /// The format is known and the bytes are damaged: the reason.
    Damaged(Flaw),
}

/// The extensions of the formats that are read here.
pub const EXTENSIONS: [&str; 6] = ["gltf", "glb", "usda", "usdc", "usd", "usdz"];

/// Bytes at the head of a file that [`part`] needs to see.
pub const HEAD: usize = 20;

/// Which bytes of a scene hold its facts; `None` for a format that is not read here, so that nothing needs to be read.
/// Of a binary glTF container (glTF 2.0, 4.4) that is its first chunk, however large the rest may be.
#[must_use]
pub fn part(name: &str, head: &[u8]) -> Option<Range<u64>> {
    let extension = name.rsplit_once('.').map(|(_, extension)| extension.to_ascii_lowercase());
    match extension.as_deref() {
        Some("gltf" | "usda" | "usdc" | "usd" | "usdz") => Some(0..u64::MAX),
        Some("glb") => match head {
            [b'g', b'l', b'T', b'F', 2, 0, 0, 0, _, _, _, _, a, b, c, d, b'J', b'S', b'O', b'N', ..] => {
                let start = HEAD as u64;
                Some(start..start + u64::from(u32::from_le_bytes([*a, *b, *c, *d])))
            }
            // A damaged head is left to the reader to complain about.
            _ => Some(0..u64::MAX),
        },
        _ => None,
    }
}

/// What is wrong with the length of a scene's file, in words, where its head tells how long it is: a binary glTF container
/// says so in its third word (glTF 2.0, 4.4.2).
#[must_use]
pub fn cut(name: &str, head: &[u8], length: u64) -> Option<String> {
    let is_container = name.to_ascii_lowercase().ends_with(".glb");
    let [b'g', b'l', b'T', b'F', _, _, _, _, a, b, c, d, ..] = head else { return None };
    let told = u64::from(u32::from_le_bytes([*a, *b, *c, *d]));
    (is_container && told != length).then(|| format!("it has {length} bytes, and its head says {told}"))
}

/// Reads the facts of a scene from that part of its bytes. `name` is its file name, whose extension tells the format.
///
/// # Errors
/// For a format that nothing here reads, and for bytes that are damaged.
pub fn read(name: &str, bytes: &[u8]) -> Result<Facts, Unread> {
    match name.rsplit_once('.').map(|(_, extension)| extension.to_ascii_lowercase()).as_deref() {
        Some("gltf" | "glb") => gltf::read(bytes).map_err(Unread::Damaged),
        Some("usda") if !bytes.starts_with(b"PXR-USDC") => usda::read(bytes).map_err(Unread::Damaged),
        // Either form may bear the common extension; it is the content that tells.
        Some("usd" | "usda" | "usdc") if bytes.starts_with(b"PXR-USDC") => usdc::read(bytes).map_err(Unread::Damaged),
        Some("usd") if bytes.starts_with(b"#usda") => usda::read(bytes).map_err(Unread::Damaged),
        Some("usd") if bytes.starts_with(b"PK") => usdz::read(bytes).map_err(Unread::Damaged),
        Some("usd") => Err(Unread::Damaged("it is neither USD text nor USD binary".into())),
        Some("usdc") => usdc::read(bytes).map_err(Unread::Damaged),
        Some("usdz") => usdz::read(bytes).map_err(Unread::Damaged),
        _ => Err(Unread::OtherFormat),
    }
}

/// A scene with outside files spelt another way; `None` for formats in which that cannot be done here. What is not in it is
/// passed over.
#[must_use]
pub fn respelt(name: &str, bytes: &[u8], to: &BTreeMap<String, String>) -> Option<Vec<u8>> {
    match name.rsplit_once('.').map(|(_, extension)| extension.to_ascii_lowercase()).as_deref() {
        Some("gltf") => gltf::respelt(bytes, to),
        Some("usda") => usda::respelt(bytes, to),
        _ => None,
    }
}

impl Facts {
    /// These facts, with another source's where these know nothing.
    #[must_use]
    pub fn or(self, other: Facts) -> Facts {
        Facts {
            cameras: self.cameras.or(other.cameras),
            seconds: self.seconds.or(other.seconds),
            keys: self.keys.or(other.keys),
            span: self.span.or(other.span),
            fps: self.fps.or(other.fps),
            size: self.size.or(other.size),
            passes: self.passes.or(other.passes),
            variables: self.variables.or(other.variables),
            unsaved: self.unsaved.or(other.unsaved),
            resources: if self.resources.is_empty() { other.resources } else { self.resources },
            camera_paths: if self.camera_paths.is_empty() { other.camera_paths } else { self.camera_paths },
            nested: if self.nested.is_empty() { other.nested } else { self.nested },
            products: if self.products.is_empty() { other.products } else { self.products },
            more_cameras: self.more_cameras,
            layers: self.layers,
        }
    }

    /// All outside files, those of its layers included.
    pub fn files(&self) -> impl Iterator<Item = &String> {
        self.resources.iter().chain(&self.nested)
    }

    /// Takes in the cameras of a layer; of one that could not be read, any camera may be there.
    pub fn take_layer(&mut self, layer: Option<Facts>) {
        let Some(more) = layer.and_then(|layer| layer.cameras) else {
            self.more_cameras = true;
            return;
        };
        let own = self.cameras.get_or_insert_default();
        for camera in more {
            // Under which path it stands here is the referring prim's affair: any will do.
            self.camera_paths.push(format!("*/{camera}"));
            if !own.contains(&camera) {
                own.push(camera);
            }
        }
    }

    /// Whether the scene has a camera: by its name, or by its path. `None` where nothing says which there are.
    #[must_use]
    pub fn has_camera(&self, camera: &str) -> Option<bool> {
        let cameras = self.cameras.as_ref()?;
        let leaf = camera.rsplit('/').next().unwrap_or(camera);
        let by_path = |known: &String| known == camera || known.strip_prefix("*/") == Some(leaf);
        let is_path = camera.starts_with('/');
        let is_there =
            cameras.iter().any(|known| known == camera) || (is_path && self.camera_paths.iter().any(by_path));
        (is_there || !self.more_cameras).then_some(is_there)
    }

    /// The frames that the scene declares.
    ///
    /// A key at `t` seconds is on frame `round(t x fps)`. Programs that count from 0 seconds begin with frame 1 there, so keys
    /// that begin within half a frame of 0 are all one later: keys at 0 ... 47/24 are frames 1 to 48, keys at 1/24 ... 48/24 as
    /// well, and keys that begin at 1001/24 begin with frame 1001. A scene of which only the length is known has frames
    /// `1-round(seconds x fps)`.
    #[must_use]
    pub fn frames(&self, fps: Option<Fps>) -> Option<Frames> {
        if let Some((first, last)) = self.span {
            return Some(Frames::range(first, last));
        }
        let fps = fps.or(self.fps)?.value();
        let (first, last) = match (self.keys, self.seconds) {
            (Some((first, last)), _) => {
                let (first, last) = ((first * fps).round(), (last * fps).round());
                let later = if first == 0.0 { 1.0 } else { 0.0 };
                (first + later, last + later)
            }
            (None, Some(seconds)) => (1.0, (seconds * fps).round()),
            (None, None) => return None,
        };
        (first <= last && first.abs() < 1e15 && last.abs() < 1e15).then(|| Frames::range(first as i64, last as i64))
    }

    /// The length in seconds, of formats that know no frames.
    #[must_use]
    pub fn length(&self) -> Option<f64> {
        self.keys.map(|(first, last)| last - first).or(self.seconds)
    }
}

#[cfg(test)]
mod tests {
    use super::Facts;
    use crate::sheet::Fps;

    #[test]
    fn keys_are_on_frames_and_those_from_0_seconds_begin_with_frame_1() {
        let (film, ntsc, video) = ((24, 1), (24000, 1001), (25, 1));
        let span = |first: f64, last: f64, (frames, seconds): (u32, u32)| {
            let facts = Facts { keys: Some((first, last)), ..Facts::default() };
            facts.frames(Fps::new(frames, seconds)).map(|frames| frames.to_string())
        };
        for (first, last, fps, frames) in [
            (0.0, 47.0 / 24.0, film, "1-48"),
            (1.0 / 24.0, 2.0, film, "1-48"),
            (0.0, 2.0, film, "1-49"),
            (1001.0 / 24.0, 1048.0 / 24.0, film, "1001-1048"),
            (0.02, 1.02, film, "1-25"),
            (0.021, 1.021, film, "1-25"),
            (-1.0, 1.0, film, "-24-24"),
            (0.0, 47.0 * 1001.0 / 24000.0, ntsc, "1-48"),
            (1001.0 * 1001.0 / 24000.0, 1048.0 * 1001.0 / 24000.0, ntsc, "1001-1048"),
            // Times that were rounded to a millisecond.
            (0.0, 1.96, ntsc, "1-48"),
            (0.0, 3599.96, ntsc, "1-86314"),
            (0.0, 1.92, video, "1-49"),
        ] {
            assert_eq!(span(first, last, fps).as_deref(), Some(frames), "{first} {last} {fps:?}");
        }
        assert_eq!(span(0.0, 1e300, film), None);
        let told = Facts { seconds: Some(2.0), fps: Fps::new(24, 1), ..Facts::default() };
        assert_eq!(told.frames(None).map(|frames| frames.to_string()).as_deref(), Some("1-48"));
    }
}
