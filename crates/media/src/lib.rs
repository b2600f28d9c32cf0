//! What picture files are. [`probe`] reads heads and ends, [`inspect`] reads every byte, once.
//!
//! Both answer with core's own words: missing, broken and why, or whole and what it is. What is stored in a way that nothing
//! here unpacks is whole and unproven. Only a disk that cannot answer is an error. No file can end the process that looks at
//! it: only regular files are opened, a head is heard before anything is decoded, decoders get no more memory than the head's
//! picture needs, and a decoder that panics is a finding. What a library says reaches nobody: the words are ours.

mod dpx;
pub mod exact;
mod exif;
mod exr;
mod jpeg;
pub mod movie;
pub mod pixels;
mod png;
mod raw;
mod samples;
mod sound;
mod source;
mod stats;
#[cfg(test)]
mod tests;
mod tiff;
mod webp;

use std::fs::File;
use std::io::{BufReader, Read, Seek, SeekFrom};
use std::path::Path;
use truepath_core::flaw::Flaw;

use truepath_core::catalogue::Bits;
use truepath_core::check::bytes as told_bytes;
use truepath_core::picture::Content;
use truepath_core::verify::{Picture, Seen};

pub use sound::sound;

pub use source::Storage;
use source::{Bytes, Failed, FileSource, again};

/// The reader of one file type.
trait Type {
    /// Reads the head, and looks whether the end is there.
    fn probe(&self, bytes: &mut Bytes, length: u64) -> Result<Picture, Flaw>;
    /// Unpacks everything, and says what the pixels come to. What only the whole file tells goes into `picture`.
    /// It may take up to `most` bytes of memory.
    fn decode(&self, bytes: &[u8], picture: &mut Picture, most: usize) -> Result<Content, Flaw>;
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
    (b"SDPX", &dpx::Dpx),
    (b"XPDS", &dpx::Dpx),
    (b"RIFF", &webp::WebP),
];

/// What stands at `path`, from the head and the end of the file.
///
/// # Errors
/// When the disk cannot answer; a file that is not there is no error.
pub fn probe(path: &Path) -> std::io::Result<Seen> {
    let found = again(|| found(path))?;
    Ok(found.map_or_else(|seen| seen, |found| Seen::Whole(found.picture)))
}

/// Which heads are worth being decoded.
pub type WantedHeads<'w> = &'w dyn Fn(&Picture) -> bool;

/// Everything that a file says.
#[derive(Clone, Debug, PartialEq)]
pub struct Looked {
    /// What stands there.
    pub seen: Seen,
    /// What its pixels come to; nothing where they were not unpacked.
    pub content: Content,
    /// Its bytes.
    pub bytes: u64,
    /// BLAKE3 of its bytes; `None` where they were not all read.
    pub digest: Option<[u8; 32]>,
}

impl From<Seen> for Looked {
    fn from(seen: Seen) -> Looked {
        Looked::only(seen, 0)
    }
}

impl Looked {
    fn only(seen: Seen, bytes: u64) -> Looked {
        Looked { seen, content: Content::default(), bytes, digest: None }
    }
}

/// What stands at `path`, with every byte read and every pixel unpacked if its head is `wanted`. Of other
/// files only the head is read.
///
/// # Errors
/// As [`probe`].
pub fn inspect(path: &Path, wanted: WantedHeads<'_>) -> std::io::Result<Looked> {
    again(|| match found(path)? {
        Ok(found) if wanted(&found.picture) => unpacked(found),
        Ok(found) => Ok(Looked::only(Seen::Whole(found.picture), found.length)),
        Err(seen) => Ok(Looked::only(seen, 0)),
    })
}

/// As [`inspect`], of a file that no plan knows: one that claims more pixels than its bytes can hold is refused.
///
/// # Errors
/// As [`probe`].
pub fn inspect_any(path: &Path) -> std::io::Result<Looked> {
    again(|| match found(path)? {
        Ok(found) => match credible(&found.picture, found.length) {
            Ok(()) => unpacked(found),
            Err(flaw) => Ok(Looked::only(Seen::Broken(flaw.to_string()), found.length)),
        },
        Err(seen) => Ok(Looked::only(seen, 0)),
    })
}

/// BLAKE3 of all bytes of a file, and how many there are.
///
/// # Errors
/// When it cannot be read to its end.
pub fn digest(path: &Path) -> std::io::Result<([u8; 32], u64)> {
    again(|| {
        let (file, _) = open(path)?;
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(file)?;
        Ok((*hasher.finalize().as_bytes(), hasher.count()))
    })
}

/// A file whose head was read.
struct FoundHead {
    file: Bytes,
    failed: Failed,
    length: u64,
    kind: &'static dyn Type,
    picture: Picture,
}

/// So many bytes are read into memory at once.
const MOST_BYTES: u64 = 4 << 30;

/// Reads all of a file, and unpacks its pixels.
fn unpacked(found: FoundHead) -> std::io::Result<Looked> {
    let FoundHead { mut file, failed, length, kind, mut picture } = found;
    file.seek(SeekFrom::Start(0))?;
    let mut bytes = Vec::new();
    let room = usize::try_from(length).is_ok_and(|length| bytes.try_reserve_exact(length).is_ok());
    let too_large =
        (length > MOST_BYTES || !room).then(|| format!("it has {length} bytes, too many to decode at once"));
    if let Some(why) = too_large.or_else(|| too_many(&picture)) {
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(file)?;
        picture.unproven = Some(why);
        let digest = Some(*hasher.finalize().as_bytes());
        return Ok(Looked { digest, ..Looked::only(Seen::Whole(picture), length) });
    }
    // What is in the buffer already is read again: it would have to be moved all the same.
    file.into_inner().take(length).read_to_end(&mut bytes)?;
    let most = needed(&picture);
    let decoded = caught(|| kind.decode(&bytes, &mut picture, most));
    failed.unless(())?;
    let digest = Some(*blake3::hash(&bytes).as_bytes());
    let (seen, content) = match decoded {
        Ok(content) => (Seen::Whole(picture), content),
        Err(flaw) => (Seen::Broken(flaw.to_string()), Content::default()),
    };
    Ok(Looked { seen, content, bytes: bytes.len() as u64, digest })
}

/// Bytes of pixels that are unpacked at once: the decoder and its caller keep a copy each.
const MOST_UNPACKED: u64 = 1 << 30;

/// Why the pixels of a picture are not unpacked here: there are too many. `None` where they are.
fn too_many(picture: &Picture) -> Option<String> {
    let claimed = claimed(picture);
    (claimed > MOST_UNPACKED).then(|| {
        let (width, height) = (picture.width, picture.height);
        format!("its {width}x{height} pixels take {}, too many to unpack at once", told_bytes(claimed as f64))
    })
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
    let samples = picture.channels.map_or(SAMPLES, |channels| samples::samples_of(channels) as u64);
    u64::from(picture.width).saturating_mul(u64::from(picture.height)).saturating_mul(sample * samples)
}

/// Whether a file of a length can hold the picture that its head claims.
fn credible(picture: &Picture, length: u64) -> Result<(), Flaw> {
    if claimed(picture) > length.saturating_mul(UNPACKED).max(ALWAYS) {
        return Err(format!(
            "its header says {}x{} pixels, more than {length} bytes can hold",
            picture.width, picture.height
        )
        .into());
    }
    Ok(())
}

/// What `look` comes to; a panic of it is a flaw of the file.
fn caught<T>(look: impl FnOnce() -> Result<T, Flaw>) -> Result<T, Flaw> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(look))
        .unwrap_or_else(|_| Err("the reader of its type fails on it: the file is damaged".into()))
}

/// The head of the file at `path`, or what is seen in its place.
fn found(path: &Path) -> std::io::Result<Result<FoundHead, Seen>> {
    let (file, length) = match opened(path)? {
        Ok(opened) => opened,
        Err(seen) => return Ok(Err(seen)),
    };
    // TGA has nothing at its head to be told by.
    let tga = path.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("tga"));
    told(file, length, tga)
}

/// The same of an open file. `tga` is how its name ends.
fn told(file: impl Storage + 'static, length: u64, tga: bool) -> std::io::Result<Result<FoundHead, Seen>> {
    let (source, failed) = FileSource::new(file);
    let mut file = BufReader::new(source);
    // One read may give fewer bytes than there are.
    let mut head = Vec::with_capacity(8);
    let read_bytes = file.by_ref().take(8).read_to_end(&mut head)?;
    let kind = HEADS.iter().find(|(magic, _)| head.starts_with(magic)).map(|(_, kind)| *kind);
    let Some(kind) = kind.or(tga.then_some(&raw::Tga as &dyn Type)) else {
        return Ok(Err(Seen::Broken("this is not a picture of a known type".to_owned())));
    };
    // Within the buffer: it is not read again.
    file.seek_relative(-(read_bytes as i64))?;
    let probed = failed.unless(caught(|| kind.probe(&mut file, length)))?;
    Ok(match probed {
        Ok(picture) => Ok(FoundHead { file, failed, length, kind, picture }),
        Err(flaw) => Err(Seen::Broken(flaw.to_string())),
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

/// All bytes of a file that is not too large for that.
fn whole(path: &Path) -> Result<Vec<u8>, Flaw> {
    let read = || {
        let (file, length) = open(path)?;
        let mut bytes = Vec::new();
        if length <= MOST_BYTES {
            file.take(length).read_to_end(&mut bytes)?;
        }
        Ok((bytes, length))
    };
    let (bytes, length) = again(read).map_err(unread)?;
    if length > MOST_BYTES {
        return Err(format!("it has {length} bytes, too many to decode at once").into());
    }
    Ok(bytes)
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

/// The last `N` bytes of a file that is at least as long.
fn tail<const N: usize>(bytes: &mut Bytes, length: u64) -> Result<[u8; N], Flaw> {
    let mut end = [0; N];
    if length < N as u64 {
        return Err("the file is cut off".into());
    }
    bytes.seek(SeekFrom::Start(length - N as u64)).map_err(disk)?;
    bytes.read_exact(&mut end).map_err(disk)?;
    Ok(end)
}

fn cut() -> Flaw {
    "the file is cut off: a part of the picture is missing".into()
}

/// What the system says of a file that it could not read.
fn unread(error: std::io::Error) -> Flaw {
    Flaw::new(format!("it cannot be read: {error}"))
}

/// What the system says of a file that cannot be read on; a decoder that wants more bytes than there are has one that is cut.
fn disk(error: std::io::Error) -> Flaw {
    match error.kind() {
        std::io::ErrorKind::UnexpectedEof => cut(),
        // Decoders speak of damage in this way.
        std::io::ErrorKind::InvalidData | std::io::ErrorKind::InvalidInput | std::io::ErrorKind::Other => {
            "its pixels are damaged: they cannot be decompressed".into()
        }
        _ => Flaw::new(format!("it cannot be read: {error}")),
    }
}

/// Words for bytes behind the end of a picture.
fn besides_bytes(count: u64) -> String {
    format!("it holds {count} {} more than the picture", if count == 1 { "byte" } else { "bytes" })
}
