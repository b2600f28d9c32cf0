//! What picture files are. [`probe`] reads heads and ends, [`decode`] reads every byte.
//!
//! Both answer with core's own words: missing, broken and why, or whole and what it is. Only a disk that cannot answer is
//! an error. No file can end the process that looks at it: only regular files are opened, a head is heard before anything
//! is decoded, decoders get no more memory than the head's picture needs, and a decoder that panics is a finding.

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

use truepath_core::catalogue::Bits;
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
    /// A decoder may take up to `most` bytes of memory for it.
    fn decode(&self, bytes: &mut Bytes, most: usize, content: Option<&mut Content>) -> Result<(), Flaw>;
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

/// Which heads are worth being decoded.
pub type Wanted<'w> = &'w dyn Fn(&Picture) -> bool;

/// What stands at `path`, with every pixel decoded if its head is `wanted`. A head that is not is told as it is: whoever
/// wants another picture knows enough.
///
/// # Errors
/// As [`probe`].
pub fn decode(path: &Path, wanted: Wanted<'_>) -> std::io::Result<Seen> {
    look(path, |kind, bytes, length| decoded_if(kind, bytes, length, (wanted, None)))
}

/// As [`decode`], with what the pixels hold.
///
/// # Errors
/// As [`probe`].
pub fn inspect(path: &Path, wanted: Wanted<'_>) -> std::io::Result<(Seen, Content)> {
    let mut content = Content::default();
    let seen = look(path, |kind, bytes, length| decoded_if(kind, bytes, length, (wanted, Some(&mut content))))?;
    Ok((seen, content))
}

/// As [`inspect`], of a file that no plan knows: one that claims more pixels than its bytes can hold is refused.
///
/// # Errors
/// As [`probe`].
pub fn inspect_any(path: &Path) -> std::io::Result<(Seen, Content)> {
    let mut content = Content::default();
    let seen = look(path, |kind, bytes, length| {
        let picture = kind.probe(bytes, length)?;
        credible(&picture, length)?;
        decoded(kind, bytes, picture, Some(&mut content))
    })?;
    Ok((seen, content))
}

/// Decodes a picture whose head was read.
fn decoded(
    kind: &dyn Type,
    bytes: &mut Bytes,
    picture: Picture,
    content: Option<&mut Content>,
) -> Result<Picture, Flaw> {
    rewind(bytes)?;
    kind.decode(bytes, needed(&picture), content)?;
    Ok(picture)
}

/// Decodes a picture if its head is wanted.
fn decoded_if(
    kind: &dyn Type,
    bytes: &mut Bytes,
    length: u64,
    (wanted, content): (Wanted<'_>, Option<&mut Content>),
) -> Result<Picture, Flaw> {
    let picture = kind.probe(bytes, length)?;
    if wanted(&picture) { decoded(kind, bytes, picture, content) } else { Ok(picture) }
}

/// Bytes that a sample has at most.
const SAMPLE: u64 = 8;
/// Samples of a pixel that decoders are given room for. Layers of OpenEXR are counted by their own reader.
const SAMPLES: u64 = 4;
/// Room beside the pixels, for tables and rows.
const ROOM: u64 = 32 << 20;

/// Bytes of memory that decoding a picture may take.
fn needed(picture: &Picture) -> usize {
    let pixels = u64::from(picture.width).saturating_mul(u64::from(picture.height));
    usize::try_from(pixels.saturating_mul(SAMPLE * SAMPLES).saturating_add(ROOM)).unwrap_or(usize::MAX)
}

/// Deflate (RFC 1951) makes at most 1,032 bytes of one, LZW with codes of 12 bits about 1,300.
const UNPACKED: u64 = 1_500;
/// So many bytes of pixels are taken of any file: even runs of one colour are no larger in pictures that people make.
const ALWAYS: u64 = 400 << 20;

/// Bytes that the pixels of a picture take.
fn claimed(picture: &Picture) -> u64 {
    let sample = match picture.bits {
        Some(Bits::Eight) => 1,
        Some(Bits::Ten | Bits::Twelve | Bits::Sixteen | Bits::Half) => 2,
        Some(Bits::ThirtyTwo | Bits::Float) => 4,
        None => SAMPLE,
    };
    let samples = picture.channels.map_or(SAMPLES, |channels| pixels::samples_of(channels) as u64);
    u64::from(picture.width).saturating_mul(u64::from(picture.height)).saturating_mul(sample * samples)
}

/// Whether a file of a length can hold the picture that its head claims.
fn credible(picture: &Picture, length: u64) -> Result<(), Flaw> {
    if claimed(picture) > length.saturating_mul(UNPACKED).max(ALWAYS) {
        return Err(format!(
            "its head claims {}x{} pixels, more than {length} bytes can hold",
            picture.width, picture.height
        ));
    }
    Ok(())
}

/// What `look` comes to; a panic of it is a flaw of the file.
fn caught<T>(look: impl FnOnce() -> Result<T, Flaw>) -> Result<T, Flaw> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(look))
        .unwrap_or_else(|_| Err("the reader of its type fails on it: the file is damaged".to_owned()))
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
    Ok(match caught(|| rewind(&mut bytes).and_then(|()| read(kind, &mut bytes, length))) {
        Ok(picture) => Seen::Whole(picture),
        Err(flaw) => Seen::Broken(flaw),
    })
}

/// A file that holds something, and its length in bytes; else what is seen in its place.
fn opened(path: &Path) -> std::io::Result<Result<(File, u64), Seen>> {
    use std::io::ErrorKind;
    match open(path) {
        Ok((_, 0)) => Ok(Err(Seen::Broken("the file is empty".to_owned()))),
        Ok(both) => Ok(Ok(both)),
        Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => Ok(Err(Seen::Missing)),
        Err(error) if error.kind() == ErrorKind::InvalidInput => Ok(Err(Seen::Broken(error.to_string()))),
        Err(error) => Err(error),
    }
}

/// Opens a regular file, with its length in bytes. Anything else (a folder, a pipe, a device) is refused at once: opening a
/// pipe waits for somebody who writes into it, and some devices never end.
///
/// # Errors
/// As the system says, and `InvalidInput` where no regular file stands.
pub fn open(path: &Path) -> std::io::Result<(File, u64)> {
    let mut how = File::options();
    how.read(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::custom_flags(&mut how, rustix::fs::OFlags::NONBLOCK.bits().cast_signed());
    let file = how.open(path)?;
    let about = file.metadata()?;
    if !about.is_file() {
        let words = "this is a folder, a pipe or a device, not a file";
        return Err(std::io::Error::new(std::io::ErrorKind::InvalidInput, words));
    }
    Ok((file, about.len()))
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
