//! Sound files: how long they are. Of WAVE files (Multimedia Programming Interface 1.0, RIFF WAVE) the length is read from the
//! head; of other sounds only whether they are there.

use std::fs::File;
use std::io::Read;
use std::path::Path;

use truepath_core::check::Sound;

/// What stands at `path`.
#[must_use]
pub fn sound(path: &Path) -> Sound {
    let mut head = [0; 12];
    let read = File::open(path).and_then(|mut file| file.read(&mut head));
    match read {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Sound::Unread("no such file".to_owned()),
        Err(error) => Sound::Unread(error.to_string()),
        Ok(0) => Sound::Unread("the file is empty".to_owned()),
        Ok(_) if &head[..4] == b"RIFF" && &head[8..] == b"WAVE" => match hound::WavReader::open(path) {
            Err(error) => Sound::Unread(error.to_string()),
            Ok(wave) => {
                let rate = wave.spec().sample_rate;
                Sound::Known(f64::from(wave.duration()) / f64::from(rate.max(1)), rate)
            }
        },
        Ok(_) => Sound::Unknown,
    }
}
