//! Codecs: what their marks in containers, their configuration records and their first frames say.

use truepath_core::catalogue::{AsWritten, AudioCodec, Bits, Chroma, Codec, codecs};
use truepath_core::verify::Footage;

use super::ffv1;
use super::number::{be16, be32};

/// What is known of the pictures in a movie beside their size.
#[derive(Default)]
pub struct Coded {
    /// The codec's name in the catalogue, else the container's mark.
    pub codec: AsWritten<&'static Codec>,
    pub chroma: Option<Chroma>,
    pub bits: Option<Bits>,
    pub alpha: Option<bool>,
}

impl Coded {
    pub fn put_into(self, footage: &mut Footage) {
        footage.codec = self.codec;
        footage.chroma = self.chroma;
        footage.bits = self.bits;
        footage.alpha = self.alpha;
    }
}

fn depth(bits: u8) -> Option<Bits> {
    match bits {
        8 => Some(Bits::Eight),
        10 => Some(Bits::Ten),
        12 => Some(Bits::Twelve),
        16 => Some(Bits::Sixteen),
        _ => None,
    }
}

/// Chroma layout by its number in ITU-T H.264 6.2 and H.265 6.2: 1 is 4:2:0.
fn layout(number: u64) -> Option<Chroma> {
    match number {
        1 => Some(Chroma::C420),
        2 => Some(Chroma::C422),
        3 => Some(Chroma::C444),
        _ => None,
    }
}

/// From the four letters of MP4, MOV and AVI, a configuration record, and the first frame.
pub fn of(mark: &[u8], record: &[u8], first: &[u8]) -> Coded {
    let named = |codec: &'static Codec| Coded { codec: AsWritten::Known(codec), ..Coded::default() };
    let prores = |codec: &'static Codec| Coded {
        chroma: codec.chroma.first().copied(),
        // RDD 36, 6.1: the frame header's alpha_channel_type follows 17 bytes after the mark `icpf` and its size.
        alpha: (first.get(4..8) == Some(b"icpf")).then(|| first.get(25).is_some_and(|kind| kind & 15 != 0)),
        bits: (!codec.alpha).then_some(Bits::Ten),
        ..named(codec)
    };
    match mark {
        b"avc1" | b"avc3" | b"H264" | b"h264" | b"X264" | b"x264" => h264(record),
        b"hvc1" | b"hev1" => hevc(record),
        b"av01" => av1(record),
        b"vp09" => vp9(record),
        b"apco" => prores(&codecs::PRORES_PROXY),
        b"apcs" => prores(&codecs::PRORES_LT),
        b"apcn" => prores(&codecs::PRORES),
        b"apch" => prores(&codecs::PRORES_HQ),
        b"ap4h" => prores(&codecs::PRORES_4444),
        b"ap4x" => prores(&codecs::PRORES_4444_XQ),
        b"AVdh" | b"AVdn" => dnx(first),
        b"FFV1" => ffv1::read(record).map_or_else(
            || named(&codecs::FFV1),
            |(chroma, bits, alpha)| Coded { chroma, bits: depth(bits), alpha: Some(alpha), ..named(&codecs::FFV1) },
        ),
        b"jpeg" | b"MJPG" | b"mjpg" | b"mjpa" | b"mjpb" => jpeg(first),
        b"png " | b"MPNG" | b"mpng" => png(first),
        other => Coded { codec: AsWritten::Other(trimmed(other)), ..Coded::default() },
    }
}

/// AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1): the first parameter set stands in it.
pub fn h264(record: &[u8]) -> Coded {
    let coded = Coded { codec: AsWritten::Known(&codecs::H264), alpha: Some(false), ..Coded::default() };
    let size = usize::from(be16(record, 6));
    let Some(set) = record.get(8..8 + size).filter(|set| set.len() > 4) else { return coded };
    // 7.3.2.1.1: the high profiles say chroma and depth, the others are 4:2:0 and 8 bits.
    if ![100, 110, 122, 244, 44, 83, 86, 118, 128].contains(&set[1]) {
        return Coded { chroma: Some(Chroma::C420), bits: Some(Bits::Eight), ..coded };
    }
    let mut bits = BitReader { bytes: &set[4..], at: 0 };
    let _set = bits.golomb();
    let chroma = bits.golomb();
    if chroma == 3 {
        bits.take(1);
    }
    let depth_of = u8::try_from(bits.golomb().saturating_add(8)).unwrap_or(0);
    Coded { chroma: layout(chroma), bits: depth(depth_of), ..coded }
}

/// HEVCDecoderConfigurationRecord (ISO/IEC 14496-15, 8.3.3.1).
pub fn hevc(record: &[u8]) -> Coded {
    Coded {
        codec: AsWritten::Known(&codecs::HEVC),
        chroma: record.get(16).and_then(|byte| layout(u64::from(byte & 3))),
        bits: record.get(17).and_then(|byte| depth((byte & 7) + 8)),
        alpha: Some(false),
    }
}

/// AV1CodecConfigurationRecord (AV1 Codec ISO Media File Format Binding, 2.3.3).
pub fn av1(record: &[u8]) -> Coded {
    let flags = record.get(2).copied();
    Coded {
        codec: AsWritten::Known(&codecs::AV1),
        chroma: flags.map(|flags| match (flags >> 3 & 1, flags >> 2 & 1) {
            (1, 1) => Chroma::C420,
            (1, 0) => Chroma::C422,
            _ => Chroma::C444,
        }),
        bits: flags.and_then(|flags| {
            depth(if flags & 0x40 == 0 {
                8
            } else if flags & 0x20 == 0 {
                10
            } else {
                12
            })
        }),
        alpha: Some(false),
    }
}

/// VPCodecConfigurationRecord (VP Codec ISO Media File Format Binding): behind version and flags.
fn vp9(record: &[u8]) -> Coded {
    let packed = record.get(6).copied();
    Coded {
        codec: AsWritten::Known(&codecs::VP9),
        chroma: packed.and_then(|packed| layout(u64::from((packed >> 1 & 7).max(1)))),
        bits: packed.and_then(|packed| depth(packed >> 4)),
        alpha: Some(false),
    }
}

/// VP9 bitstream specification, 6.2: what the head of a key frame says, for containers without a record.
pub fn vp9_frame(first: &[u8]) -> Coded {
    let mut bits = BitReader { bytes: first, at: 0 };
    let coded = Coded { codec: AsWritten::Known(&codecs::VP9), alpha: Some(false), ..Coded::default() };
    if bits.take(2) != 2 {
        return coded;
    }
    let profile = bits.take(1) | bits.take(1) << 1;
    if profile == 3 {
        bits.take(1);
    }
    // show_existing_frame, frame_type, show_frame, error_resilient_mode, then the sync code.
    if bits.take(1) != 0 || bits.take(1) != 0 || bits.take(2) > 3 || bits.take(24) != 0x49_8342 {
        return coded;
    }
    let depth_of = if profile < 2 {
        8
    } else if bits.take(1) == 0 {
        10
    } else {
        12
    };
    let space = bits.take(3);
    let chroma = match (space, profile) {
        (7, _) => Some(Chroma::C444),
        (_, 1 | 3) => {
            bits.take(1);
            match (bits.take(1), bits.take(1)) {
                (1, 0) => Some(Chroma::C422),
                (0, 0) => Some(Chroma::C444),
                _ => None,
            }
        }
        _ => Some(Chroma::C420),
    };
    Coded { chroma, bits: depth(depth_of), ..coded }
}

/// SMPTE ST 2019-1, 8.1: the compression number stands 40 bytes into a frame's header.
pub fn dnx(first: &[u8]) -> Coded {
    let (codec, chroma) = match be32(first, 0x28) {
        1270 => (&codecs::DNXHR_444, Chroma::C444),
        1271 => (&codecs::DNXHR_HQX, Chroma::C422),
        1272 => (&codecs::DNXHR_HQ, Chroma::C422),
        1273 => (&codecs::DNXHR_SQ, Chroma::C422),
        1274 => (&codecs::DNXHR_LB, Chroma::C422),
        _ => return Coded { codec: AsWritten::Other("dnxhd".to_owned()), ..Coded::default() },
    };
    // Bits of a sample: three bits at the top of the byte 0x21, 1 for 8, 2 for 10, 3 for 12.
    let bits = first.get(0x21).and_then(|byte| depth(6 + 2 * (byte >> 5)));
    Coded { codec: AsWritten::Known(codec), chroma: Some(chroma), bits, alpha: Some(false) }
}

/// ITU-T T.81, B.2.2: the frame header says how many samples of each component there are.
pub fn jpeg(first: &[u8]) -> Coded {
    let coded = Coded { codec: AsWritten::Known(&codecs::MJPEG), alpha: Some(false), ..Coded::default() };
    let mut at = 2;
    while let (Some(0xff), Some(kind)) = (first.get(at), first.get(at + 1)) {
        if (0xc0..=0xc2).contains(kind) {
            let sampling = |component: usize| first.get(at + 11 + 3 * component).copied().unwrap_or(0);
            let chroma = match (first.get(at + 9), sampling(0), sampling(1)) {
                (Some(3), 0x22, 0x11) => Some(Chroma::C420),
                (Some(3), 0x21, 0x11) | (Some(3), 0x22, 0x12) => Some(Chroma::C422),
                (Some(3), 0x11, 0x11) | (Some(3), 0x22, 0x22) => Some(Chroma::C444),
                _ => None,
            };
            return Coded { chroma, bits: first.get(at + 4).and_then(|bits| depth(*bits)), ..coded };
        }
        at += 2 + usize::from(be16(first, at + 2)).max(2);
    }
    coded
}

/// W3C PNG, 11.2.1.
pub fn png(first: &[u8]) -> Coded {
    let coded = Coded { codec: AsWritten::Known(&codecs::PNG_FRAMES), ..Coded::default() };
    if !first.starts_with(b"\x89PNG") {
        return coded;
    }
    let alpha = first.get(25).map(|kind| matches!(kind, 4 | 6));
    Coded { chroma: Some(Chroma::C444), bits: first.get(24).and_then(|bits| depth(*bits)), alpha, ..coded }
}

/// A codec of sound by the four letters of MP4 and MOV, and the kind that its description names.
pub fn sound(mark: &[u8], object: Option<u8>) -> AsWritten<&'static AudioCodec> {
    let known: &'static AudioCodec = match mark {
        b"mp4a" => match object {
            Some(0x40) | Some(0x66..=0x68) | None => &codecs::AAC,
            Some(0x69 | 0x6b) => return AsWritten::Other("mp3".to_owned()),
            Some(_) => return AsWritten::Other("mp4a".to_owned()),
        },
        b"Opus" => &codecs::OPUS,
        b"fLaC" => &codecs::FLAC,
        b"sowt" | b"twos" | b"in24" | b"in32" | b"fl32" | b"fl64" | b"lpcm" | b"raw " | b"ipcm" | b"fpcm" | b"NONE" => {
            &codecs::PCM
        }
        other => return AsWritten::Other(trimmed(other)),
    };
    AsWritten::Known(known)
}

/// A mark as text.
fn trimmed(mark: &[u8]) -> String {
    String::from_utf8_lossy(mark).trim().to_owned()
}

struct BitReader<'b> {
    bytes: &'b [u8],
    at: usize,
}

impl BitReader<'_> {
    fn take(&mut self, count: usize) -> u64 {
        (0..count).fold(0, |value, _| {
            let bit = self.bytes.get(self.at / 8).map_or(0, |byte| byte >> (7 - self.at % 8) & 1);
            self.at += 1;
            value << 1 | u64::from(bit)
        })
    }

    /// Exp-Golomb (ITU-T H.264, 9.1). Emulation bytes do not occur before the numbers that are read here.
    fn golomb(&mut self) -> u64 {
        let mut zeros = 0;
        while zeros < 32 && self.take(1) == 0 {
            zeros += 1;
        }
        (1u64 << zeros) - 1 + self.take(zeros)
    }
}
