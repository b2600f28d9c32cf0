//! Sound for a movie: samples of a WAVE file, cut or filled up to the length of the picture.

use std::path::Path;

use crate::MovieError;

/// Uncompressed sound.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Sound {
    /// Samples a second.
    pub rate: u32,
    /// Channels.
    pub channels: u16,
    /// Bits of a sample: 16 or 24, signed.
    pub bits: u16,
    /// All samples, channel by channel of each moment.
    pub samples: Vec<i32>,
}

impl Sound {
    /// Moments of it.
    #[must_use]
    pub fn moments(&self) -> usize {
        self.samples.len() / usize::from(self.channels.max(1))
    }

    /// Bytes of a moment.
    #[must_use]
    pub fn block(&self) -> usize {
        usize::from(self.channels) * usize::from(self.bits / 8)
    }

    /// The bytes of some moments, the low one of each sample first.
    #[must_use]
    pub fn bytes(&self, moments: std::ops::Range<usize>) -> Vec<u8> {
        let channels = usize::from(self.channels);
        let own = &self.samples[moments.start * channels..moments.end * channels];
        let width = usize::from(self.bits / 8);
        own.iter().flat_map(|sample| sample.to_le_bytes().into_iter().take(width)).collect()
    }
}

/// Reads a WAVE file for so many seconds of picture: it begins `offset` seconds later than the picture, or so much of it is
/// left out; what is too long is cut off, and silence fills what is missing.
///
/// # Errors
/// When it cannot be read or holds no samples.
pub fn read(path: &Path, offset: f64, seconds: f64) -> Result<Sound, MovieError> {
    let said = |source| MovieError::Sound { path: path.to_owned(), source };
    let mut reader = hound::WavReader::open(path).map_err(said)?;
    let spec = reader.spec();
    if spec.channels == 0 || spec.sample_rate == 0 {
        return Err(MovieError::Silent(path.to_owned()));
    }
    let (rate, channels) = (spec.sample_rate, usize::from(spec.channels));
    let wanted = (seconds * f64::from(rate)).round() as usize;
    let shift = (offset * f64::from(rate)).round() as i64;
    let bits: u16 = if spec.sample_format == hound::SampleFormat::Float || spec.bits_per_sample > 16 { 24 } else { 16 };
    let mut samples = vec![0; usize::try_from(shift.max(0)).unwrap_or(0).min(wanted) * channels];
    let skip = u32::try_from((-shift).max(0)).unwrap_or(u32::MAX).min(reader.duration());
    reader.seek(skip).map_err(|error| said(error.into()))?;
    let left = (wanted * channels).saturating_sub(samples.len());
    match spec.sample_format {
        hound::SampleFormat::Float => {
            let value = |sample: f32| (sample.clamp(-1.0, 1.0) * 8_388_607.0).round() as i32;
            for sample in reader.samples::<f32>().take(left) {
                samples.push(value(sample.map_err(said)?));
            }
        }
        hound::SampleFormat::Int => {
            let own = i32::from(spec.bits_per_sample);
            let by = i32::from(bits) - own;
            for sample in reader.samples::<i32>().take(left) {
                let sample = sample.map_err(said)?;
                samples.push(if by >= 0 { sample << by } else { sample >> -by });
            }
        }
    }
    samples.resize(wanted * channels, 0);
    Ok(Sound { rate, channels: spec.channels, bits, samples })
}

/// Writes a sound as a WAVE file.
///
/// # Errors
/// When the file cannot be written.
pub fn write(sound: &Sound, path: &Path) -> Result<(), MovieError> {
    let said = |source| MovieError::SoundUnwritten { path: path.to_owned(), source };
    let spec = hound::WavSpec {
        channels: sound.channels,
        sample_rate: sound.rate,
        bits_per_sample: sound.bits,
        sample_format: hound::SampleFormat::Int,
    };
    let mut writer = hound::WavWriter::create(path, spec).map_err(said)?;
    for sample in &sound.samples {
        writer.write_sample(*sample).map_err(said)?;
    }
    writer.finalize().map_err(said)
}
