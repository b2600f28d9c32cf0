//! AVI (AVI RIFF File Reference), with the extensions of OpenDML 1.02 for files beyond a gigabyte: each part of the file has an
//! index of its own, and the head a list of those.

use std::fs::File;
use std::io::{BufWriter, Seek, Write};
use std::path::Path;

use super::{Container, Head, close, patch};
use crate::encode::CodedFrame;
use crate::sound::Sound;

/// A part of the file grows to so many bytes.
const MOST: u64 = 1 << 30;
/// Parts of which the head has room for.
const PARTS: usize = 512;

/// An AVI file that is being written.
pub struct Avi<'h> {
    file: BufWriter<File>,
    head: Head<'h>,
    /// To how many bytes a part grows.
    most: u64,
    /// Where this part and its list of chunks begin.
    part: (u64, u64),
    /// The chunks of this part by stream: place and size.
    chunks: [Vec<(u64, u32)>; 2],
    /// The first part's chunks in their order, for players that know one index only.
    old: Vec<([u8; 4], u32, u32)>,
    /// The indices of all parts by stream: place, size, length.
    indices: [Vec<(u64, u32, u32)>; 2],
    frames: u32,
    in_first: u32,
    largest: u32,
}

fn chunk(mark: &[u8; 4], content: &[u8]) -> Vec<u8> {
    let size = u32::try_from(content.len()).unwrap_or(u32::MAX).to_le_bytes();
    let fill: &[u8] = if content.len() % 2 == 1 { &[0] } else { &[] };
    [mark.as_slice(), &size, content, fill].concat()
}

fn list(mark: &[u8; 4], content: &[u8]) -> Vec<u8> {
    chunk(b"LIST", &[mark.as_slice(), content].concat())
}

fn words(words: &[u32]) -> Vec<u8> {
    words.iter().flat_map(|word| word.to_le_bytes()).collect()
}

impl<'h> Avi<'h> {
    /// Begins a file.
    ///
    /// # Errors
    /// As the disk says.
    pub fn new(path: &Path, head: Head<'h>) -> std::io::Result<Avi<'h>> {
        let mut avi = Avi {
            file: BufWriter::with_capacity(1 << 20, File::create(path)?),
            head,
            most: MOST,
            part: (0, 0),
            chunks: [Vec::new(), Vec::new()],
            old: Vec::new(),
            indices: [Vec::new(), Vec::new()],
            frames: 0,
            in_first: 0,
            largest: 0,
        };
        let room = avi.heads().len() + 12;
        avi.file.write_all(&vec![0; room])?;
        avi.begin_list()?;
        Ok(avi)
    }

    /// The heads, with what is known by now.
    fn heads(&self) -> Vec<u8> {
        let (width, height) = self.head.size;
        let fps = self.head.fps;
        let micros = u64::from(fps.seconds) * 1_000_000 / u64::from(fps.frames.max(1));
        let streams = 1 + u32::from(self.head.sound.is_some());
        let main = words(&[
            u32::try_from(micros).unwrap_or(u32::MAX),
            0,
            0,
            // It has an index, and its parts belong together.
            0x110,
            self.in_first,
            0,
            streams,
            self.largest,
            width,
            height,
            0,
            0,
            0,
            0,
        ]);
        let side = |side: u32| u16::try_from(side).unwrap_or(u16::MAX).to_le_bytes();
        let of_pictures = [
            b"vidsMJPG".as_slice(),
            &words(&[0, 0, 0, fps.seconds, fps.frames, 0, self.frames, self.largest, u32::MAX, 0, 0]),
            &side(width),
            &side(height),
        ]
        .concat();
        let format = [
            words(&[40, width, height]).as_slice(),
            &1u16.to_le_bytes(),
            &24u16.to_le_bytes(),
            b"MJPG",
            &words(&[width * height * 3, 0, 0, 0, 0]),
        ]
        .concat();
        let mut heads = chunk(b"avih", &main);
        heads.extend(list(
            b"strl",
            &[chunk(b"strh", &of_pictures), chunk(b"strf", &format), self.index_of_indices(0)].concat(),
        ));
        if let Some(sound) = self.head.sound {
            heads.extend(self.sound_head(sound));
        }
        heads.extend(list(b"odml", &chunk(b"dmlh", &words(&[self.frames]))));
        list(b"hdrl", &heads)
    }

    fn sound_head(&self, sound: &Sound) -> Vec<u8> {
        let block = u32::try_from(sound.block()).unwrap_or(1);
        let moments = u32::try_from(sound.moments()).unwrap_or(u32::MAX);
        let of_sound = [
            b"auds\0\0\0\0".as_slice(),
            &words(&[0, 0, 0, block, sound.rate * block, 0, moments, sound.rate * block, u32::MAX, block, 0, 0]),
        ]
        .concat();
        let format = [
            1u16.to_le_bytes().as_slice(),
            &sound.channels.to_le_bytes(),
            &words(&[sound.rate, sound.rate * block]),
            &u16::try_from(block).unwrap_or(1).to_le_bytes(),
            &sound.bits.to_le_bytes(),
        ]
        .concat();
        list(b"strl", &[chunk(b"strh", &of_sound), chunk(b"strf", &format), self.index_of_indices(1)].concat())
    }

    fn mark(stream: usize) -> &'static [u8; 4] {
        if stream == 0 { b"00dc" } else { b"01wb" }
    }

    /// OpenDML: the places of a stream's indices, with room for all that there may be.
    fn index_of_indices(&self, stream: usize) -> Vec<u8> {
        let own = &self.indices[stream];
        let count = u32::try_from(own.len()).unwrap_or(0);
        let mut content =
            [4u16.to_le_bytes().as_slice(), &[0, 0], &count.to_le_bytes(), Avi::mark(stream), &[0; 12]].concat();
        for (place, size, length) in own {
            content.extend(place.to_le_bytes());
            content.extend(words(&[*size, *length]));
        }
        content.resize(24 + PARTS * 16, 0);
        chunk(b"indx", &content)
    }

    fn begin_list(&mut self) -> std::io::Result<()> {
        self.part.1 = self.file.stream_position()?;
        self.file.write_all(b"LIST\0\0\0\0movi")
    }

    fn put(&mut self, stream: usize, bytes: &[u8]) -> std::io::Result<()> {
        let place = self.file.stream_position()?;
        let size = u32::try_from(bytes.len()).map_err(std::io::Error::other)?;
        self.file.write_all(&chunk(Avi::mark(stream), bytes))?;
        self.chunks[stream].push((place + 8, size));
        if self.part.0 == 0 {
            let offset = u32::try_from(place - self.part.1 - 8).map_err(std::io::Error::other)?;
            self.old.push((*Avi::mark(stream), offset, size));
        }
        self.largest = self.largest.max(size);
        Ok(())
    }

    /// Ends a part: the index of each stream, then what the part is long.
    fn end_part(&mut self) -> std::io::Result<()> {
        for stream in 0..2 {
            let own = std::mem::take(&mut self.chunks[stream]);
            if own.is_empty() {
                continue;
            }
            if self.indices[stream].len() == PARTS {
                return Err(std::io::Error::other("the movie is longer than AVI can be"));
            }
            let place = self.file.stream_position()?;
            let base = self.part.1;
            let count = u32::try_from(own.len()).map_err(std::io::Error::other)?;
            let mut content =
                [2u16.to_le_bytes().as_slice(), &[0, 1], &count.to_le_bytes(), Avi::mark(stream)].concat();
            content.extend(base.to_le_bytes());
            content.extend([0; 4]);
            let mut length = 0;
            for (place, size) in own {
                content.extend(words(&[u32::try_from(place - base).map_err(std::io::Error::other)?, size]));
                length += if stream == 0 {
                    1
                } else {
                    size / u32::try_from(self.head.sound.map_or(1, |s| s.block())).unwrap_or(1)
                };
            }
            let index = chunk(if stream == 0 { b"ix00" } else { b"ix01" }, &content);
            self.file.write_all(&index)?;
            self.indices[stream].push((place, u32::try_from(index.len()).map_err(std::io::Error::other)?, length));
        }
        let end = self.file.stream_position()?;
        let size = |from: u64| u32::try_from(end - from - 8).map_err(std::io::Error::other);
        patch(&mut self.file, self.part.1 + 4, &size(self.part.1)?.to_le_bytes())?;
        if self.part.0 == 0 {
            let old: Vec<u8> = self
                .old
                .iter()
                .flat_map(|(mark, offset, size)| [mark.as_slice(), &words(&[16, *offset, *size])].concat())
                .collect();
            self.file.write_all(&chunk(b"idx1", &old))?;
            self.in_first = self.frames;
        }
        let end = self.file.stream_position()?;
        if self.part.0 > 0 {
            let size = u32::try_from(end - self.part.0 - 8).map_err(std::io::Error::other)?;
            patch(&mut self.file, self.part.0 + 4, &size.to_le_bytes())?;
        }
        Ok(())
    }
}

impl Container for Avi<'_> {
    fn part(&mut self, frames: &[CodedFrame]) -> std::io::Result<()> {
        for frame in frames {
            let here = self.file.stream_position()?;
            if here - self.part.0 > self.most {
                self.end_part()?;
                self.part.0 = self.file.stream_position()?;
                self.file.write_all(b"RIFF\0\0\0\0AVIX")?;
                self.begin_list()?;
            }
            let moments = self.head.moments(self.frames as usize, 1);
            self.put(0, &frame.bytes)?;
            self.frames += 1;
            if let Some(sound) = self.head.sound.filter(|_| !moments.is_empty()) {
                self.put(1, &sound.bytes(moments))?;
            }
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>, _record: &[u8]) -> std::io::Result<()> {
        self.end_part()?;
        let end = match self.indices[0].len() {
            0 | 1 => self.file.stream_position()?,
            // The first part ends where the second begins.
            _ => self.first_end(),
        };
        self.file.flush()?;
        self.file.get_ref().sync_all()?;
        let size = u32::try_from(end - 8).map_err(std::io::Error::other)?;
        let head = [b"RIFF".as_slice(), &size.to_le_bytes(), b"AVI ", &self.heads()].concat();
        patch(&mut self.file, 0, &head)?;
        close(self.file)
    }
}

impl Avi<'_> {
    /// Where the first part ends: behind its last index and the old one.
    fn first_end(&self) -> u64 {
        let last =
            self.indices.iter().filter_map(|own| own.first()).map(|(place, size, _)| place + u64::from(*size)).max();
        last.unwrap_or(0) + 8 + self.old.len() as u64 * 16
    }
}

#[cfg(test)]
mod tests {
    use truepath_core::catalogue::codecs;
    use truepath_core::sheet::Fps;
    use truepath_core::verify::Seen;

    use super::Avi;
    use crate::encode::CodedFrame;
    use crate::mux::{Container, Head};
    use crate::sound::Sound;

    /// A film of a gigabyte is written as this one is: in parts, each with an index of its own.
    #[test]
    fn a_long_film_in_several_parts_is_read_whole() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("long.avi");
        let sound = Sound { rate: 8000, channels: 1, bits: 16, samples: vec![9; 8000 * 300 / 24] };
        let fps = Fps::new(24, 1).expect("a rate");
        let size = (32, 18);
        let (codec, sound) = (&codecs::MJPEG, Some(&sound));
        let head = Head { is_mov: false, codec, size, fps, frames: 300, part: 8, sound, linear: false, start: None };
        let mut avi = Avi::new(&path, head).expect("a file");
        avi.most = 60_000;
        for part in 0..30 {
            let frame = |at: u8| CodedFrame { bytes: vec![at; 1000 + usize::from(at) % 2], key: true };
            avi.part(&(0..10).map(|at| frame(part * 8 + at)).collect::<Vec<_>>()).expect("room");
        }
        Box::new(avi).finish(&[]).expect("room");
        let bytes = std::fs::read(&path).expect("a file");
        assert!(bytes.windows(4).filter(|mark| mark == b"AVIX").count() >= 4);
        // Every part is as long as it says, and together they are the file.
        let (mut at, mut parts) = (0, 0);
        while at < bytes.len() {
            assert_eq!(&bytes[at..at + 4], b"RIFF", "part {parts}");
            at += 8 + u32::from_le_bytes(bytes[at + 4..at + 8].try_into().expect("four")) as usize;
            parts += 1;
        }
        assert_eq!((at, parts >= 5), (bytes.len(), true));
        let seen = truepath_media::movie::probe(&path).expect("a file");
        let Seen::Movie(footage) = seen else { panic!("{seen:?}") };
        assert_eq!((footage.frames, footage.sound.map(|sound| sound.seconds)), (300, Some(12.5)));
        for cut in [bytes.len() / 3, bytes.len() / 2, bytes.len() - 2000] {
            std::fs::write(&path, &bytes[..cut]).expect("a file");
            assert!(matches!(truepath_media::movie::probe(&path), Ok(Seen::Broken(_))), "cut at {cut}");
        }
    }
}
