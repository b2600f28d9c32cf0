//! The claims of an encoder, tried on three tiny pictures and a short sound: what comes out is read as any movie is.

use std::path::Path;
use std::process::{Command, Stdio};

use truepath_core::adapter::Adapter;
use truepath_core::catalogue::{self, AudioCodec, Choice, Chroma, Codec};
use truepath_core::sheet::FileOption;
use truepath_core::verify::movie::Planned;
use truepath_core::verify::{Fps, Seen};
use truepath_exec::failure::Failure;
use truepath_understudy::harbour;

use super::ClaimVerdict;
use crate::lower::Around;

/// Frames of the movies that are made.
const FRAMES: u64 = 3;
/// As many pixels as the most demanding codec wants.
const SIZE: (u32, u32) = (256, 128);

/// One movie that an encoder claims to make.
struct MovieClaim {
    container: &'static str,
    codec: &'static Codec,
    /// File options beside these: name and value, as they are typed.
    options: Vec<(&'static str, String)>,
    audio: Option<&'static AudioCodec>,
}

/// `folder` is where adapters are sought from. Every codec in every container that an encoder claims, with every depth, chroma layout and sound.
pub fn encoder(
    (adapter, folder): (&Adapter, &Path),
    scratch: &Path,
    around: &Around,
) -> Result<Vec<ClaimVerdict>, Failure> {
    let failed = |what: &str, error: std::io::Error| Failure::machine(what, scratch, &error);
    for (name, bytes) in harbour::scenes() {
        std::fs::write(scratch.join(name), bytes).map_err(|error| failed("write to", error))?;
    }
    let picture = format!("beauty={}/in.####.png", scratch.display());
    let size = format!("{}x{}", SIZE.0, SIZE.1);
    let frames = format!("1-{FRAMES}");
    let words = [
        "understudy",
        "render",
        "crossing.gltf",
        "--frames",
        &frames,
        "--size",
        &size,
        "--channels",
        "rgba",
        "--pass",
        &picture,
    ];
    let made = Command::new(&around.program).args(words).current_dir(scratch).stdout(Stdio::null()).status();
    made.map_err(|error| failed("render in", error))?;
    std::fs::write(scratch.join("in.wav"), silence(6000)).map_err(|error| failed("write to", error))?;
    claims(adapter).iter().map(|claim| Ok((claim.name(), tried(claim, (adapter, folder), scratch, around)?))).collect()
}

fn claims(adapter: &Adapter) -> Vec<MovieClaim> {
    let accepts = &adapter.accepts;
    let mut all = Vec::new();
    let mut seen: Vec<&str> = Vec::new();
    for container in catalogue::CONTAINERS.iter().filter(|known| accepts.takes(FileOption::Type, known.name)) {
        let codecs = container.codecs.iter().copied().filter(|codec| accepts.takes(FileOption::Codec, codec.name));
        let codecs: Vec<&'static Codec> = codecs.collect();
        for codec in &codecs {
            let mut add = |options: Vec<(&'static str, String)>| {
                all.push(MovieClaim { container: container.name, codec, options, audio: None });
            };
            add(Vec::new());
            // What a codec holds is the same in every container.
            if seen.contains(&codec.name) {
                continue;
            }
            seen.push(codec.name);
            let depths = accepts.depths.get(codec.name);
            for bits in codec.bits.iter().map(ToString::to_string).filter(|bits| accepts.takes(FileOption::Bits, bits))
            {
                if depths.is_none_or(|depths| depths.contains(&bits)) {
                    add(vec![("bits", bits)]);
                }
            }
            for chroma in codec
                .chroma
                .iter()
                .filter(|chroma| codec.chroma.len() > 1 && accepts.takes(FileOption::Chroma, chroma.word()))
            {
                add(vec![("chroma", chroma.to_string())]);
            }
            if codec.alpha && accepts.takes(FileOption::Channels, "rgba") {
                add(vec![("channels", "rgba".to_owned())]);
            }
            if codec.quality {
                add(vec![("quality", "60".to_owned())]);
            }
        }
        let sounds =
            container.audio_codecs.iter().copied().filter(|own| accepts.takes(FileOption::AudioCodec, own.name));
        all.extend(codecs.first().into_iter().flat_map(|codec| {
            let claim = |sound: &'static AudioCodec| MovieClaim {
                container: container.name,
                codec,
                options: Vec::new(),
                audio: Some(sound),
            };
            sounds.clone().map(claim)
        }));
    }
    all
}

impl MovieClaim {
    fn name(&self) -> String {
        let options: Vec<String> = self.options.iter().map(|(name, value)| format!("{name} {value}")).collect();
        let with = if options.is_empty() { String::new() } else { format!(", {}", options.join(", ")) };
        match self.audio {
            Some(sound) => format!("{sound} in {}", self.container),
            None => format!("{} in {}{with}", self.codec.name, self.container),
        }
    }

    /// What the movie has to be.
    fn planned(&self) -> Planned {
        let option = |name: &str| self.options.iter().find(|(own, _)| *own == name).map(|(_, value)| value.clone());
        Planned {
            container: Some(self.container.to_owned()),
            codec: Some(self.codec),
            size: Some(format!("{}x{}", SIZE.0, SIZE.1)),
            fps: Fps::new(24, 1),
            frames: Some(FRAMES),
            chroma: option("chroma").and_then(|word| Chroma::spelt(&word)),
            bits: option("bits"),
            alpha: option("channels").map(|channels| channels == "rgba"),
            timecode: None,
            sound: Some(self.audio.is_some()),
            audio_codec: self.audio,
        }
    }
}

/// Makes one movie, and says why it is not what was claimed.
fn tried(
    claim: &MovieClaim,
    (adapter, folder): (&Adapter, &Path),
    scratch: &Path,
    around: &Around,
) -> Result<Option<String>, Failure> {
    let extension = catalogue::by_name(claim.container).map_or("", |known| known.extensions[0]);
    let out = scratch.join(format!("out.{extension}"));
    let _ = std::fs::remove_file(&out);
    let mut words = vec![
        "encode".to_owned(),
        format!("{}/in.{{frame:4}}.png", scratch.display()),
        format!("--frames=1-{FRAMES}"),
        "--fps=24".to_owned(),
        format!("--codec={}", claim.codec.name),
        format!("--encoder={}", adapter.name),
        format!("--output={}", out.display()),
    ];
    words.extend(claim.options.iter().map(|(name, value)| format!("--{name}={value}")));
    if claim.codec.alpha && !claim.options.iter().any(|(name, _)| *name == "channels") {
        words.push("--over=black".to_owned());
    }
    if let Some(sound) = claim.audio {
        words.extend([format!("--audio={}", scratch.join("in.wav").display()), format!("--audio-codec={sound}")]);
    }
    let output = Command::new(&around.program).args(&words).current_dir(folder).stdin(Stdio::null()).output();
    let output = output.map_err(|error| Failure::machine("start", &around.program, &error))?;
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    let last = || said.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or("").trim().to_owned();
    if !output.status.success() {
        return Ok(Some(format!("it failed: {}", last())));
    }
    let seen = truepath_media::movie::probe(&out).map_err(|error| Failure::machine("read", &out, &error))?;
    Ok(match seen {
        Seen::Movie(footage) => {
            Some(claim.planned().differences(&footage).join(", ")).filter(|found| !found.is_empty())
        }
        Seen::Broken(why) => Some(format!("its output cannot be read: {why}")),
        _ => Some(format!("it wrote nothing: {}", last())),
    })
}

/// A short silence as a WAVE file of 48000 samples a second, one channel of 16 bits.
fn silence(samples: u32) -> Vec<u8> {
    let length = samples * 2;
    let mut bytes = b"RIFF".to_vec();
    bytes.extend((36 + length).to_le_bytes());
    bytes.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
    bytes.extend([48_000u32.to_le_bytes(), 96_000u32.to_le_bytes()].concat());
    bytes.extend(b"\x02\0\x10\0data");
    bytes.extend(length.to_le_bytes());
    bytes.resize(bytes.len() + length as usize, 0);
    bytes
}
