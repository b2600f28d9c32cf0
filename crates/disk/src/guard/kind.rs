//! What kind of file stands somewhere, as far as that matters to who writes over it.

use std::io::Read;
use std::path::Path;

use crate::disk;

/// Bytes of a file that are looked at.
const HEAD: u64 = 4096;

/// A kind of file that is made for people.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// A picture, or several in one file.
    Picture,
    /// A movie.
    Movie,
    /// An HTML page.
    Page,
    /// A script, notes, JSON.
    Text,
    /// A sheet, an adapter or a scene in text: what work is made of.
    Source,
    /// An archive of a folder.
    Archive,
}

/// What pictures begin with: PNG, JPEG, TIFF and BigTIFF, OpenEXR, BMP, Radiance, DPX, and the archive that OpenRaster is.
const PICTURES: &[&[u8]] = &[
    b"\x89PNG",
    b"\xff\xd8\xff",
    b"II*\0",
    b"MM\0*",
    b"II+\0",
    b"MM\0+",
    b"\x76\x2f\x31\x01",
    b"BM",
    b"#?",
    b"SDPX",
    b"XPDS",
    b"PK\x03\x04",
];

impl Kind {
    /// The kind in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Kind::Picture => "a picture",
            Kind::Movie => "a movie",
            Kind::Page => "an HTML page",
            Kind::Text => "a text",
            Kind::Source => "a sheet, an adapter or a scene",
            Kind::Archive => "an archive",
        }
    }

    /// The kind of what begins like this; `None` of what is none of them, or empty.
    #[must_use]
    pub fn of(head: &[u8]) -> Option<Kind> {
        let lower = head.iter().take(64).map(u8::to_ascii_lowercase).collect::<Vec<u8>>();
        // ISO base media files and QuickTime name their first box at 4; Matroska begins with EBML, AVI is a RIFF form.
        let boxes: [&[u8]; 5] = [b"ftyp", b"moov", b"mdat", b"wide", b"free"];
        let is_movie = head.get(4..8).is_some_and(|name| boxes.contains(&name))
            || head.starts_with(b"\x1a\x45\xdf\xa3")
            || head.starts_with(b"RIFF") && head.get(8..12) == Some(b"AVI ");
        let is_picture = PICTURES.iter().any(|magic| head.starts_with(magic))
            || head.starts_with(b"RIFF") && head.get(8..12) == Some(b"WEBP");
        match () {
            () if head.is_empty() => None,
            () if is_movie => Some(Kind::Movie),
            () if is_picture => Some(Kind::Picture),
            () if head.starts_with(b"\x28\xb5\x2f\xfd") => Some(Kind::Archive),
            () if lower.starts_with(b"<!doctype html") => Some(Kind::Page),
            () if !head.contains(&0) && is_source(head) => Some(Kind::Source),
            () if !head.contains(&0) => Some(Kind::Text),
            () => None,
        }
    }
}

/// Whether a text is one that work is made of: a TOML file of ours, USD in text (it begins with `#usda`) or glTF (JSON with an
/// `asset`, glTF 2.0, 5.18).
fn is_source(head: &[u8]) -> bool {
    let text = String::from_utf8_lossy(head);
    let ours = ["sheet", "adapter", "machine"];
    let says = |line: &str| {
        line.split_once('=')
            .is_some_and(|(key, value)| ours.contains(&key.trim()) && value.trim_start().starts_with('1'))
    };
    text.starts_with("#usda")
        || text.trim_start().starts_with('{') && text.contains("\"asset\"")
        || text.lines().any(says)
}

/// The first bytes of a regular file.
///
/// # Errors
/// As [`disk::open`].
pub fn head(path: &Path) -> std::io::Result<Vec<u8>> {
    let mut head = Vec::new();
    disk::open(path)?.take(HEAD).read_to_end(&mut head)?;
    Ok(head)
}
