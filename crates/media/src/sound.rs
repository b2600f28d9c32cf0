//! Sound files: how long they are. Of WAVE files (Multimedia Programming Interface 1.0, RIFF WAVE) the length is read from the
//! head; of other sounds only whether they are there.

use std::io::Read;
use std::path::Path;

use truepath_core::check::SoundFile;
use truepath_core::verify::Seen;

/// What stands at `path`.
#[must_use]
pub fn sound(path: &Path) -> SoundFile {
    let mut head = [0; 12];
    let mut file = match crate::opened(path) {
        Err(error) => return SoundFile::Unread(error.to_string()),
        Ok(Err(Seen::Broken(why))) => return SoundFile::Unread(why),
        Ok(Err(_)) => return SoundFile::Unread("this file does not exist".to_owned()),
        Ok(Ok((file, _))) => file,
    };
    match file.read(&mut head) {
        Err(error) => SoundFile::Unread(error.to_string()),
        Ok(_) if &head[..4] == b"RIFF" && &head[8..] == b"WAVE" => match hound::WavReader::open(path) {
            Err(error) => SoundFile::Unread(error.to_string()),
            Ok(wave) => {
                let rate = wave.spec().sample_rate;
                SoundFile::Known(f64::from(wave.duration()) / f64::from(rate.max(1)), rate)
            }
        },
        Ok(_) => SoundFile::Unknown,
    }
}
