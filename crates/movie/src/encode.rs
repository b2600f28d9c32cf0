//! Frames to the bytes of a codec.

#[cfg(feature = "h264")]
use truepath_core::catalogue::Effort;
use truepath_core::sheet::Format;

use crate::MovieError;
use truepath_pictures::conversion::{Converted, Data};

/// One encoded frame.
#[derive(Clone, Debug, Default)]
pub struct CodedFrame {
    /// Its bytes, as containers hold them.
    pub bytes: Vec<u8>,
    /// Whether it can be shown without any other.
    pub key: bool,
}

/// Encodes the frames of a part of a movie, one after another. What it made stands on its own.
pub trait Encoder {
    /// Encodes one frame.
    ///
    /// # Errors
    /// When the encoder refuses it: why.
    fn frame(&mut self, frame: &Converted) -> Result<CodedFrame, MovieError>;

    /// What players have to know before the first frame: the configuration record of the codec.
    fn record(&self) -> Vec<u8> {
        Vec::new()
    }
}

/// Motion JPEG (ITU-T T.81): every frame a picture of its own.
pub struct MotionJpeg {
    quality: u8,
}

impl MotionJpeg {
    /// With the quality that a format asks for; 90 where it asks for none.
    #[must_use]
    pub fn new(format: &Format) -> MotionJpeg {
        let quality = format.quality.as_ref().map_or(90, |quality| quality.value.clamp(1, 100));
        MotionJpeg { quality: u8::try_from(quality).unwrap_or(90) }
    }
}

impl Encoder for MotionJpeg {
    fn frame(&mut self, frame: &Converted) -> Result<CodedFrame, MovieError> {
        let Data::Eight(data) = &frame.data else {
            return Err(MovieError::Unfit("JPEG can hold 8 bits only".to_owned()));
        };
        let size = |side: usize| {
            u16::try_from(side).map_err(|_| MovieError::Unfit("a frame is larger than JPEG allows".to_owned()))
        };
        let mut bytes = Vec::new();
        let mut encoder = jpeg_encoder::Encoder::new(&mut bytes, self.quality);
        encoder.set_sampling_factor(jpeg_encoder::SamplingFactor::R_4_2_0);
        let encoded = encoder.encode(data, size(frame.width)?, size(frame.height)?, jpeg_encoder::ColorType::Rgb);
        encoded.map_err(MovieError::encoder("the JPEG encoder failed"))?;
        Ok(CodedFrame { bytes, key: true })
    }
}

/// H.264 (ITU-T H.264), high profile, 4:2:0, with one quantiser throughout.
#[cfg(feature = "h264")]
pub struct H264 {
    encoder: openh264::encoder::Encoder,
    luma: Vec<u8>,
    chroma: (Vec<u8>, Vec<u8>),
    /// The sequence and the picture parameter set.
    sets: (Vec<u8>, Vec<u8>),
}

#[cfg(feature = "h264")]
impl H264 {
    /// An encoder for frames of one rate, as a format asks for.
    ///
    /// # Errors
    /// When the encoder cannot be set up.
    pub fn new(format: &Format, fps: f64, linear: bool) -> Result<H264, MovieError> {
        use openh264::encoder as api;
        let quality = format.quality.as_ref().map_or(70, |quality| quality.value.clamp(0, 100));
        let quantiser = u8::try_from((51 * (100 - quality) + 50) / 100).unwrap_or(20);
        let complexity = match format.effort.as_ref().map(|effort| effort.value) {
            Some(Effort::Low) => api::Complexity::Low,
            Some(Effort::High) => api::Complexity::High,
            Some(Effort::Normal) | None => api::Complexity::Medium,
        };
        let transfer = if linear { api::TransferCharacteristics::Linear } else { api::TransferCharacteristics::Srgb };
        let config = api::EncoderConfig::new()
            .usage_type(api::UsageType::CameraVideoRealTime)
            .rate_control_mode(api::RateControlMode::Bufferbased)
            .qp(api::QpRange::new(quantiser, quantiser))
            .skip_frames(false)
            .scene_change_detect(false)
            .adaptive_quantization(false)
            .background_detection(false)
            .complexity(complexity)
            .profile(api::Profile::High)
            .max_frame_rate(api::FrameRate::from_hz(fps as f32))
            .intra_frame_period(api::IntraFramePeriod::from_num_frames(crate::PART as u32))
            .num_threads(1)
            .vui(api::VuiConfig::bt709().transfer_characteristics(transfer));
        let encoder = api::Encoder::with_api_config(openh264::OpenH264API::from_source(), config);
        let encoder = encoder.map_err(MovieError::encoder("the H.264 encoder cannot be set up"))?;
        Ok(H264 { encoder, luma: Vec::new(), chroma: (Vec::new(), Vec::new()), sets: (Vec::new(), Vec::new()) })
    }

    /// ITU-R BT.709: red, green and blue to luma and, averaged over four pixels, chroma, in the range that video has.
    fn convert(&mut self, data: &[u8], width: usize, height: usize) {
        self.luma.resize(width * height, 0);
        let quarter = (width / 2) * (height / 2);
        self.chroma.0.resize(quarter, 0);
        self.chroma.1.resize(quarter, 0);
        // In units of 1/65536: 219/255 of 0.2126, 0.7152, 0.0722.
        for (luma, pixel) in self.luma.iter_mut().zip(data.chunks_exact(3)) {
            let [red, green, blue] = [i32::from(pixel[0]), i32::from(pixel[1]), i32::from(pixel[2])];
            *luma = ((11_966 * red + 40_254 * green + 4_064 * blue + (16 << 16) + 32_768) >> 16) as u8;
        }
        let rows = data.chunks_exact(width * 6);
        let out = self.chroma.0.chunks_exact_mut(width / 2).zip(self.chroma.1.chunks_exact_mut(width / 2));
        for (two, (blues, reds)) in rows.zip(out) {
            let (above, below) = two.split_at(width * 3);
            let pairs = above.chunks_exact(6).zip(below.chunks_exact(6));
            for ((a, b), (out_blue, out_red)) in pairs.zip(blues.iter_mut().zip(reds)) {
                let four =
                    |at: usize| i32::from(a[at]) + i32::from(a[at + 3]) + i32::from(b[at]) + i32::from(b[at + 3]);
                let (red, green, blue) = (four(0), four(1), four(2));
                // 224/255 of the differences, over four pixels.
                *out_blue = ((-6_596 * red - 22_189 * green + 28_784 * blue + (128 << 18) + 131_072) >> 18) as u8;
                *out_red = ((28_784 * red - 26_145 * green - 2_639 * blue + (128 << 18) + 131_072) >> 18) as u8;
            }
        }
    }
}

#[cfg(feature = "h264")]
impl Encoder for H264 {
    fn frame(&mut self, frame: &Converted) -> Result<CodedFrame, MovieError> {
        let Data::Eight(data) = &frame.data else {
            return Err(MovieError::Unfit("this encoder takes 8 bits only".to_owned()));
        };
        let (width, height) = (frame.width, frame.height);
        if width % 2 != 0 || height % 2 != 0 {
            return Err(MovieError::Unfit(format!("H.264 with 4:2:0 needs an even size; this is {width}x{height}")));
        }
        self.convert(data, width, height);
        let planes = openh264::formats::YUVSlices::new(
            (&self.luma, &self.chroma.0, &self.chroma.1),
            (width, height),
            (width, width / 2, width / 2),
        );
        let stream = self.encoder.encode(&planes).map_err(MovieError::encoder("the H.264 encoder failed"))?;
        let key = matches!(stream.frame_type(), openh264::encoder::FrameType::IDR | openh264::encoder::FrameType::I);
        let mut bytes = Vec::new();
        for layer in 0..stream.num_layers() {
            let Some(layer) = stream.layer(layer) else { continue };
            for unit in (0..layer.nal_count()).filter_map(|at| layer.nal_unit(at)) {
                let unit = unit.strip_prefix(&[0, 0, 0, 1]).or(unit.strip_prefix(&[0, 0, 1])).unwrap_or(unit);
                match unit.first().map(|head| head & 31) {
                    Some(7) => self.sets.0 = unit.to_vec(),
                    Some(8) => self.sets.1 = unit.to_vec(),
                    Some(_) => {
                        // ISO/IEC 14496-15, 5.2.3: a length of four bytes in place of the start code.
                        bytes.extend(u32::try_from(unit.len()).unwrap_or(u32::MAX).to_be_bytes());
                        bytes.extend(unit);
                    }
                    None => {}
                }
            }
        }
        if bytes.is_empty() {
            return Err(MovieError::Unfit("the H.264 encoder skipped a frame".to_owned()));
        }
        Ok(CodedFrame { bytes, key })
    }

    /// AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1).
    fn record(&self) -> Vec<u8> {
        let (sequence, picture) = &self.sets;
        if sequence.len() < 4 {
            return Vec::new();
        }
        let mut record = vec![1, sequence[1], sequence[2], sequence[3], 0xff, 0xe1];
        let mut put = |set: &[u8]| {
            record.extend(u16::try_from(set.len()).unwrap_or(u16::MAX).to_be_bytes());
            record.extend(set);
        };
        put(sequence);
        let mut second = Vec::new();
        second.extend(u16::try_from(picture.len()).unwrap_or(u16::MAX).to_be_bytes());
        second.extend(picture);
        record.push(1);
        record.extend(second);
        // The high profile repeats chroma and depth: 4:2:0 and 8 bits.
        if sequence[1] == 100 {
            record.extend([0xfd, 0xf8, 0xf8, 0]);
        }
        record
    }
}
