//! Containers, written while frames come: what stands at the head is filled in at the end, so that a file that was left
//! half-written is none.

mod avi;
mod mov;

use std::fs::File;
use std::io::{BufWriter, Seek, SeekFrom, Write};

use truepath_core::catalogue::Codec;
use truepath_core::frames::Timecode;
use truepath_core::sheet::Fps;

use crate::encode::CodedFrame;
use crate::sound::Sound;

pub use avi::Avi;
pub use mov::Mov;

/// What a container has to know before the first frame.
#[derive(Clone, Copy, Debug)]
pub struct Head<'h> {
    /// Whether it is MOV, with its own marks, and no MP4.
    pub is_mov: bool,
    /// The codec.
    pub codec: &'static Codec,
    /// Width and height in pixels.
    pub size: (u32, u32),
    /// The rate.
    pub fps: Fps,
    /// How many frames will come.
    pub frames: usize,
    /// How many of them come together, with the sound that belongs to them.
    pub part: usize,
    /// The sound.
    pub sound: Option<&'h Sound>,
    /// Whether pixels are light itself.
    pub linear: bool,
    /// The timecode of the first frame.
    pub start: Option<Timecode>,
}

impl Head<'_> {
    /// The moments of sound that belong to frames from the `first` on, `count` of them.
    fn moments(&self, first: usize, count: usize) -> std::ops::Range<usize> {
        let Some(sound) = self.sound else { return 0..0 };
        let at = |frame: usize| {
            if frame >= self.frames {
                return sound.moments();
            }
            let seconds = frame as u128 * u128::from(self.fps.seconds) * u128::from(sound.rate);
            usize::try_from(seconds / u128::from(self.fps.frames)).unwrap_or(0).min(sound.moments())
        };
        at(first)..at(first + count)
    }
}

/// A container that is being written.
pub trait Container {
    /// Puts the next frames in, with the sound that belongs to them.
    ///
    /// # Errors
    /// As the disk says.
    fn part(&mut self, frames: &[CodedFrame]) -> std::io::Result<()>;

    /// Writes what is at the head, and waits until the disk has all. `record` is what players have to know of the codec.
    ///
    /// # Errors
    /// As the disk says.
    fn finish(self: Box<Self>, record: &[u8]) -> std::io::Result<()>;
}

/// Writes at a place, then goes on where it was.
fn patch(file: &mut BufWriter<File>, place: u64, bytes: &[u8]) -> std::io::Result<()> {
    let here = file.stream_position()?;
    file.seek(SeekFrom::Start(place))?;
    file.write_all(bytes)?;
    file.seek(SeekFrom::Start(here)).map(drop)
}

fn close(file: BufWriter<File>) -> std::io::Result<()> {
    file.into_inner().map_err(std::io::IntoInnerError::into_error)?.sync_all()
}
