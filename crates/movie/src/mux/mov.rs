//! MP4 (ISO/IEC 14496-12) and MOV (QuickTime File Format). All tables have known lengths before the first frame, so that room
//! is left for them at the head, and players can begin before the file is whole.

use std::fs::File;
use std::io::{BufWriter, Seek, Write};
use std::path::Path;

use truepath_core::catalogue::codecs;

use super::{Container, Head, close, patch};
use crate::encode::CodedFrame;

/// Units of a second that the whole movie counts in: a multiple of nearly all rates.
const SCALE: u32 = 90_000;

/// An MP4 or MOV file that is being written.
pub struct Mov<'h> {
    file: BufWriter<File>,
    head: Head<'h>,
    /// Where the tables will stand, and how much room there is.
    tables: (u64, usize),
    /// Where the media data begins.
    data: u64,
    sizes: Vec<u32>,
    keys: Vec<u32>,
    chunks: Vec<(u64, u32)>,
    sound_chunks: Vec<(u64, u32)>,
    timecode: u64,
}

/// What the head of a track says: its number, its size in pixels, whether it is heard.
struct TrackKind {
    id: u32,
    size: (u32, u32),
    loud: bool,
}

/// A box: its size, its mark, its content.
fn boxed(mark: &[u8; 4], content: &[u8]) -> Vec<u8> {
    let size = u32::try_from(content.len() + 8).unwrap_or(u32::MAX);
    [&size.to_be_bytes(), mark.as_slice(), content].concat()
}

/// A box with a version and flags.
fn full(mark: &[u8; 4], version: u8, flags: u32, content: &[u8]) -> Vec<u8> {
    let head = (u32::from(version) << 24 | flags).to_be_bytes();
    boxed(mark, &[&head, content].concat())
}

fn all(parts: &[&[u8]]) -> Vec<u8> {
    parts.concat()
}

fn words(words: &[u32]) -> Vec<u8> {
    words.iter().flat_map(|word| word.to_be_bytes()).collect()
}

/// No turning, no scaling (6.2.2).
fn matrix() -> Vec<u8> {
    words(&[0x1_0000, 0, 0, 0, 0x1_0000, 0, 0, 0, 0x4000_0000])
}

impl<'h> Mov<'h> {
    /// Begins a file.
    ///
    /// # Errors
    /// As the disk says.
    pub fn new(path: &Path, head: Head<'h>) -> std::io::Result<Mov<'h>> {
        let mut mov = Mov {
            file: BufWriter::with_capacity(1 << 20, File::create(path)?),
            head,
            tables: (0, 0),
            data: 0,
            sizes: Vec::with_capacity(head.frames),
            keys: Vec::new(),
            chunks: Vec::new(),
            sound_chunks: Vec::new(),
            timecode: 0,
        };
        let brands: &[u8] = if head.is_mov { b"qt  \0\0\x02\0qt  " } else { b"isom\0\0\x02\0isomiso2avc1mp41" };
        mov.file.write_all(&boxed(b"ftyp", brands))?;
        mov.tables = (mov.file.stream_position()?, mov.room());
        // Until it is finished, all of this is room that nobody reads.
        let size = u32::try_from(mov.tables.1).map_err(|_| std::io::Error::other("the movie has too many frames"))?;
        mov.file.write_all(&all(&[&size.to_be_bytes(), b"free"]))?;
        mov.file.write_all(&vec![0; mov.tables.1 - 8])?;
        mov.data = mov.file.stream_position()?;
        mov.file.write_all(&all(&[&1u32.to_be_bytes(), b"mdat", &0u64.to_be_bytes()]))?;
        if let Some(start) = head.start {
            mov.timecode = mov.file.stream_position()?;
            mov.file.write_all(&start.frame.to_be_bytes())?;
        }
        Ok(mov)
    }

    /// Bytes that the tables take at most: a size, a key and a place for each frame and chunk, and all that does not grow.
    fn room(&self) -> usize {
        let chunks = self.head.frames.div_ceil(self.head.part.max(1)) + 1;
        let sound = if self.head.sound.is_some() { chunks * 20 } else { 0 };
        4096 + self.head.frames * 8 + chunks * 20 + sound
    }

    fn seconds_in(&self, scale: u32) -> u32 {
        let (frames, fps) = (self.head.frames as u128, self.head.fps);
        let length = frames * u128::from(fps.seconds) * u128::from(scale) / u128::from(fps.frames);
        u32::try_from(length).unwrap_or(u32::MAX)
    }

    fn moov(&self, record: &[u8]) -> Vec<u8> {
        let tracks = 1 + u32::from(self.head.sound.is_some()) + u32::from(self.head.start.is_some());
        let header = all(&[
            &words(&[0, 0, SCALE, self.seconds_in(SCALE), 0x1_0000]),
            &[1, 0, 0, 0],
            &words(&[0, 0]),
            &matrix(),
            &words(&[0; 6]),
            &words(&[tracks + 1]),
        ]);
        let mut moov = full(b"mvhd", 0, 0, &header);
        moov.extend(self.pictures(record));
        moov.extend(self.sound_track().unwrap_or_default());
        moov.extend(self.timecode_track(tracks).unwrap_or_default());
        boxed(b"moov", &moov)
    }

    fn track(&self, kind: TrackKind, more: &[u8], media: &[u8]) -> Vec<u8> {
        let TrackKind { id, size, loud } = kind;
        let length = self.seconds_in(SCALE);
        let header = all(&[
            &words(&[0, 0, id, 0, length, 0, 0, 0]),
            &[if loud { 1 } else { 0 }, 0, 0, 0],
            &matrix(),
            &words(&[size.0 << 16, size.1 << 16]),
        ]);
        let edits = boxed(b"edts", &full(b"elst", 0, 0, &words(&[1, length, 0, 0x1_0000])));
        boxed(b"trak", &all(&[&full(b"tkhd", 0, 3, &header), &edits, more, &boxed(b"mdia", media)]))
    }

    /// Head and kind of a track's media; MOV says what kind of handler that is.
    fn media(&self, (scale, length): (u32, u32), kind: &[u8; 4], info: &[u8]) -> Vec<u8> {
        let maker: &[u8; 4] = if self.head.is_mov { b"mhlr" } else { &[0; 4] };
        let name: &[u8] = if self.head.is_mov { b"\x04data" } else { b"data\0" };
        let handler = all(&[&[0; 4], maker, kind, &[0; 12], name]);
        let head = all(&[&words(&[0, 0, scale, length]), &[0x55, 0xc4, 0, 0]]);
        // 8.4.2.3: the version and flags that `hdlr` has are the first four bytes here.
        all(&[&full(b"mdhd", 0, 0, &head), &boxed(b"hdlr", &handler), &boxed(b"minf", info)])
    }

    fn pictures(&self, record: &[u8]) -> Vec<u8> {
        let (width, height) = self.head.size;
        let fps = self.head.fps;
        let count = u32::try_from(self.sizes.len()).unwrap_or(u32::MAX);
        let side = |side: u32| u16::try_from(side).unwrap_or(u16::MAX).to_be_bytes();
        // ISO/IEC 23091-2: primaries of BT.709, the curve of sRGB or none, and the matrix that the codec was given.
        let jpeg = *self.head.codec == codecs::MJPEG;
        let curve = if self.head.linear { 8u16 } else { 13 };
        let matrix = if jpeg { 6u16 } else { 1 };
        let numbers = all(&[&1u16.to_be_bytes(), &curve.to_be_bytes(), &matrix.to_be_bytes()]);
        let colour = match self.head.is_mov {
            true => boxed(b"colr", &all(&[b"nclc", &numbers])),
            false => boxed(b"colr", &all(&[b"nclx", &numbers, &[if jpeg { 0x80 } else { 0 }]])),
        };
        let aspect = boxed(b"pasp", &words(&[1, 1]));
        let own = if jpeg { Vec::new() } else { boxed(b"avcC", record) };
        let mark: &[u8; 4] = if jpeg { b"jpeg" } else { b"avc1" };
        let entry = all(&[
            &[0; 6],
            &1u16.to_be_bytes(),
            &[0; 16],
            &side(width),
            &side(height),
            &words(&[0x48_0000, 0x48_0000, 0]),
            &1u16.to_be_bytes(),
            &[0; 32],
            &24u16.to_be_bytes(),
            &u16::MAX.to_be_bytes(),
            &own,
            &colour,
            &aspect,
        ]);
        let mut table = full(b"stsd", 0, 0, &all(&[&words(&[1]), &boxed(mark, &entry)]));
        table.extend(full(b"stts", 0, 0, &words(&[1, count, fps.seconds])));
        if self.keys.len() < self.sizes.len() {
            let keys = u32::try_from(self.keys.len()).unwrap_or(u32::MAX);
            table.extend(full(b"stss", 0, 0, &all(&[&words(&[keys]), &words(&self.keys)])));
        }
        table.extend(full(b"stsz", 0, 0, &all(&[&words(&[0, count]), &words(&self.sizes)])));
        table.extend(places(&self.chunks));
        let info = all(&[&full(b"vmhd", 0, 1, &[0; 8]), &here(), &boxed(b"stbl", &table)]);
        let length = u32::try_from(u64::from(count) * u64::from(fps.seconds)).unwrap_or(u32::MAX);
        let media = self.media((fps.frames, length), b"vide", &info);
        let timecode = self.head.start.map(|_| {
            let id = 2 + u32::from(self.head.sound.is_some());
            boxed(b"tref", &boxed(b"tmcd", &words(&[id])))
        });
        let kind = TrackKind { id: 1, size: (width, height), loud: false };
        self.track(kind, &timecode.unwrap_or_default(), &media)
    }

    fn sound_track(&self) -> Option<Vec<u8>> {
        let sound = self.head.sound?;
        let block = u32::try_from(sound.block()).unwrap_or(0);
        // Sound sample description, version 2: signed samples without gaps, the low byte first, at any rate.
        let flags = 4 | 8;
        let entry = all(&[
            &[0; 6],
            &1u16.to_be_bytes(),
            &2u16.to_be_bytes(),
            &[0; 6],
            &3u16.to_be_bytes(),
            &16u16.to_be_bytes(),
            &(-2i16).to_be_bytes(),
            &[0; 2],
            &words(&[0x1_0000, 72]),
            &f64::from(sound.rate).to_be_bytes(),
            &words(&[u32::from(sound.channels), 0x7f00_0000, u32::from(sound.bits), flags, block, 1]),
        ]);
        let count = u32::try_from(sound.moments()).unwrap_or(u32::MAX);
        let mut table = full(b"stsd", 0, 0, &all(&[&words(&[1]), &boxed(b"lpcm", &entry)]));
        table.extend(full(b"stts", 0, 0, &words(&[1, count, 1])));
        table.extend(full(b"stsz", 0, 0, &words(&[block, count])));
        table.extend(places(&self.sound_chunks));
        let info = all(&[&full(b"smhd", 0, 0, &[0; 4]), &here(), &boxed(b"stbl", &table)]);
        let kind = TrackKind { id: 2, size: (0, 0), loud: true };
        Some(self.track(kind, &[], &self.media((sound.rate, count), b"soun", &info)))
    }

    /// One sample, which is the number of the first frame (QuickTime File Format, timecode media).
    fn timecode_track(&self, id: u32) -> Option<Vec<u8>> {
        let (start, fps) = (self.head.start?, self.head.fps);
        let counted = u8::try_from(start.fps).unwrap_or(u8::MAX);
        let flags = u32::from(start.drop) | 2;
        let entry = all(&[&[0; 6], &1u16.to_be_bytes(), &words(&[0, flags, fps.frames, fps.seconds]), &[counted, 0]]);
        let frames = u32::try_from(self.sizes.len() as u64 * u64::from(fps.seconds)).unwrap_or(u32::MAX);
        let mut table = full(b"stsd", 0, 0, &all(&[&words(&[1]), &boxed(b"tmcd", &entry)]));
        table.extend(full(b"stts", 0, 0, &words(&[1, 1, frames])));
        table.extend(full(b"stsz", 0, 0, &words(&[4, 1])));
        table.extend(places(&[(self.timecode, 1)]));
        let name = all(&[&[0; 4], &[0, 0, 0, 12], &[0; 4], &[0xff; 6], &[0; 6], b"\x05Serif"]);
        let base = all(&[
            &full(b"gmin", 0, 0, &[0, 0x40, 0x80, 0, 0x80, 0, 0x80, 0, 0, 0, 0, 0]),
            &boxed(b"tmcd", &full(b"tcmi", 0, 0, &name)),
        ]);
        let info = all(&[&boxed(b"gmhd", &base), &here(), &boxed(b"stbl", &table)]);
        let kind = TrackKind { id, size: (0, 0), loud: false };
        Some(self.track(kind, &[], &self.media((fps.frames, frames), b"tmcd", &info)))
    }
}

/// The data stands in this very file (8.7.2).
fn here() -> Vec<u8> {
    boxed(b"dinf", &full(b"dref", 0, 0, &all(&[&words(&[1]), &full(b"url ", 0, 1, &[])])))
}

/// Places of chunks and how many samples each has.
fn places(chunks: &[(u64, u32)]) -> Vec<u8> {
    let mut runs: Vec<u32> = Vec::new();
    let mut last = 0;
    for (at, (_, count)) in chunks.iter().enumerate() {
        if *count != last {
            runs.extend([u32::try_from(at + 1).unwrap_or(u32::MAX), *count, 1]);
            last = *count;
        }
    }
    let rows = u32::try_from(runs.len() / 3).unwrap_or(0);
    let count = u32::try_from(chunks.len()).unwrap_or(0);
    let places: Vec<u8> = chunks.iter().flat_map(|(place, _)| place.to_be_bytes()).collect();
    all(&[
        &full(b"stsc", 0, 0, &all(&[&words(&[rows]), &words(&runs)])),
        &full(b"co64", 0, 0, &all(&[&words(&[count]), &places])),
    ])
}

impl Container for Mov<'_> {
    fn part(&mut self, frames: &[CodedFrame]) -> std::io::Result<()> {
        let first = self.sizes.len();
        self.chunks.push((self.file.stream_position()?, u32::try_from(frames.len()).unwrap_or(0)));
        for frame in frames {
            self.sizes.push(u32::try_from(frame.bytes.len()).map_err(std::io::Error::other)?);
            if frame.key {
                self.keys.push(u32::try_from(self.sizes.len()).map_err(std::io::Error::other)?);
            }
            self.file.write_all(&frame.bytes)?;
        }
        let moments = self.head.moments(first, frames.len());
        if let Some(sound) = self.head.sound.filter(|_| !moments.is_empty()) {
            let count = u32::try_from(moments.len()).map_err(std::io::Error::other)?;
            self.sound_chunks.push((self.file.stream_position()?, count));
            self.file.write_all(&sound.bytes(moments))?;
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>, record: &[u8]) -> std::io::Result<()> {
        let end = self.file.stream_position()?;
        patch(&mut self.file, self.data + 8, &(end - self.data).to_be_bytes())?;
        let mut moov = self.moov(record);
        let room = self.tables.1;
        if moov.len() + 8 > room {
            return Err(std::io::Error::other("the tables of the movie do not fit"));
        }
        moov.extend(boxed(b"free", &vec![0; room - moov.len() - 8]));
        // First all data, then the tables: what has tables is whole.
        self.file.flush()?;
        self.file.get_ref().sync_all()?;
        patch(&mut self.file, self.tables.0, &moov)?;
        close(self.file)
    }
}
