//! What picture files are. [`probe`] reads heads and ends, [`decode`] reads every byte.
//!
//! Both answer with core's own words: missing, broken and why, or whole and what it is. Only a disk that cannot answer is
//! an error.

mod content;
mod exr;
mod jpeg;
pub mod movie;
pub mod pixels;
mod png;
mod raw;
mod sound;
#[cfg(test)]
mod tests;
mod tiff;
mod webp;

use std::fs::File;
use std::io::{BufReader, Read, Seek, SeekFrom};
use std::path::Path;

use truepath_core::verify::{Picture, Seen};

pub use content::Content;
pub use sound::sound;

/// A file being looked at.
type Bytes = BufReader<File>;

/// Why a file is no whole picture.
type Flaw = String;

/// The reader of one file type.
trait Type {
    /// Reads the head, and looks whether the end is there.
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw>;
    /// Decodes everything; what the pixels hold goes into `content`, where it is asked for.
    fn decode(&self, bytes: &mut Bytes, content: Option<&mut Content>) -> Result<(), Flaw>;
}

/// First bytes and the type they tell.
const HEADS: &[(&[u8], &dyn Type)] = &[
    (b"\x89PNG\r\n\x1a\n", &png::Png),
    (b"\xff\xd8\xff", &jpeg::Jpeg),
    (b"II*\0", &tiff::Tiff),
    (b"MM\0*", &tiff::Tiff),
    (b"II+\0", &tiff::Tiff),
    (b"MM\0+", &tiff::Tiff),
    (b"\x76\x2f\x31\x01", &exr::Exr),
    (b"BM", &raw::Bmp),
    (b"#?", &raw::Hdr),
    (b"SDPX", &raw::Dpx),
    (b"XPDS", &raw::Dpx),
    (b"RIFF", &webp::WebP),
];

/// What stands at `path`, from the head and the end of the file.
///
/// # Errors
/// When the disk cannot answer; a file that is not there is no error.
pub fn probe(path: &Path) -> std::io::Result<Seen> {
    look(path, |kind, bytes, length| kind.probe(bytes, length))
}

/// What stands at `path`, with every pixel decoded.
///
/// # Errors
/// As [`probe`].
pub fn decode(path: &Path) -> std::io::Result<Seen> {
    look(path, |kind, bytes, length| {
        let picture = kind.probe(bytes, length)?;
        rewind(bytes)?;
        kind.decode(bytes, None)?;
        Ok(picture)
    })
}

/// As [`decode`], with what the pixels hold.
///
/// # Errors
/// As [`probe`].
pub fn inspect(path: &Path) -> std::io::Result<(Seen, Content)> {
    let mut content = Content::default();
    let seen = look(path, |kind, bytes, length| {
        let picture = kind.probe(bytes, length)?;
        rewind(bytes)?;
        kind.decode(bytes, Some(&mut content))?;
        Ok(picture)
    })?;
    Ok((seen, content))
}

fn look(path: &Path, read: impl FnOnce(&dyn Type, &mut Bytes, u64) -> Result<Picture, Flaw>) -> std::io::Result<Seen> {
    let (file, length) = match opened(path)? {
        Ok(opened) => opened,
        Err(seen) => return Ok(seen),
    };
    let mut bytes = BufReader::new(file);
    let mut head = [0; 8];
    let read_bytes = bytes.by_ref().take(8).read(&mut head)?;
    // TGA has nothing at its head to be told by.
    let tga = path.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("tga"));
    let kind = HEADS.iter().find(|(magic, _)| head[..read_bytes].starts_with(magic)).map(|(_, kind)| *kind);
    let Some(kind) = kind.or(tga.then_some(&raw::Tga as &dyn Type)) else {
        return Ok(Seen::Broken("this is no picture of a known type".to_owned()));
    };
    Ok(match rewind(&mut bytes).and_then(|()| read(kind, &mut bytes, length)) {
        Ok(picture) => Seen::Whole(picture),
        Err(flaw) => Seen::Broken(flaw),
    })
}

/// A file that holds something, and its length in bytes; else what is seen in its place.
fn opened(path: &Path) -> std::io::Result<Result<(File, u64), Seen>> {
    let file = match File::open(path) {
        Ok(file) => file,
        Err(error) if matches!(error.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) => {
            return Ok(Err(Seen::Missing));
        }
        Err(error) => return Err(error),
    };
    let about = file.metadata()?;
    let broken = |why: &str| Ok(Err(Seen::Broken(why.to_owned())));
    match about.len() {
        _ if !about.is_file() => broken("this is a folder or a device, not a file"),
        0 => broken("the file is empty"),
        length => Ok(Ok((file, length))),
    }
}

fn rewind(bytes: &mut Bytes) -> Result<(), Flaw> {
    bytes.seek(SeekFrom::Start(0)).map(|_| ()).map_err(flaw)
}

/// The last `N` bytes of a file that is at least as long.
fn tail<const N: usize>(bytes: &mut Bytes, length: u64) -> Result<[u8; N], Flaw> {
    let mut end = [0; N];
    if length < N as u64 {
        return Err("the file is cut off".to_owned());
    }
    bytes.seek(SeekFrom::Start(length - N as u64)).map_err(flaw)?;
    bytes.read_exact(&mut end).map_err(flaw)?;
    Ok(end)
}

fn flaw(error: impl std::fmt::Display) -> Flaw {
    error.to_string()
}
