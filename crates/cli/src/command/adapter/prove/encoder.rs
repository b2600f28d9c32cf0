//! The claims of an encoder, tried on two tiny pictures and a short sound.

use std::path::Path;
use std::process::{Command, Stdio};

use truepath_core::adapter::Adapter;
use truepath_core::catalogue;
use truepath_core::invoke::encode::{Encoding, encode};
use truepath_core::sheet::{Format, Fps};
use truepath_core::source::{FileId, Place, Spanned};
use truepath_exec::failure::Failure;
use truepath_understudy::harbour;

use super::ClaimVerdict;
use crate::lower::Surroundings;

/// Every codec in every container that an encoder claims, with two tiny pictures and a short sound.
pub fn encoder(
    adapter: &Adapter,
    program: &Path,
    scratch: &Path,
    around: &Surroundings,
) -> Result<Vec<ClaimVerdict>, Failure> {
    let failed = |what: &str, error: std::io::Error| Failure::machine(what, scratch, &error);
    for (name, bytes) in harbour::scenes() {
        std::fs::write(scratch.join(name), bytes).map_err(|error| failed("write to", error))?;
    }
    // As many pixels as the most demanding codec wants.
    let picture = format!("beauty={}/in.####.png", scratch.display());
    let words = [
        "understudy",
        "render",
        "crossing.gltf",
        "--frames",
        "1-2",
        "--size",
        "256x128",
        "--channels",
        "rgb",
        "--pass",
        &picture,
    ];
    let made = Command::new(&around.program).args(words).current_dir(scratch).stdout(Stdio::null()).status();
    made.map_err(|error| failed("render in", error))?;
    let sound = scratch.join("in.wav");
    std::fs::write(&sound, silence(4000)).map_err(|error| failed("write to", error))?;
    let input =
        format!("{}/in.{}.png", scratch.display(), adapter.number.map_or(String::new(), |number| number.hole(4)));
    let accepts = &adapter.accepts;
    let wanted = |list: &[String], name: &str| list.is_empty() || list.iter().any(|own| own == name);
    let mut verdicts = Vec::new();
    for container in catalogue::CONTAINERS.iter().filter(|known| wanted(&accepts.types, known.name)) {
        let codecs = container.codecs.iter().filter(|name| wanted(&accepts.codecs, name)).map(|name| (*name, None));
        let with = container.codecs.iter().find(|name| wanted(&accepts.codecs, name));
        let sounds = container.audio_codecs.iter().filter(|name| wanted(&accepts.audio_codecs, name));
        let sounds = with.into_iter().flat_map(|codec| sounds.clone().map(move |sound| (*codec, Some(*sound))));
        for (codec, audio) in codecs.chain(sounds) {
            let out = scratch.join(format!("out.{}", container.extensions[0]));
            let _ = std::fs::remove_file(&out);
            let nowhere = |value: &str| Spanned::new(value.to_owned(), Place::new(FileId(0), 0..0));
            let mut format = Format::named(nowhere("proof"));
            format.kind = Some(nowhere(container.name));
            format.codec = Some(nowhere(codec));
            format.audio_codec = audio.map(nowhere);
            let sound = sound.display().to_string();
            let encoding = Encoding {
                input: &input,
                input_first: &format!("{}/in.0001.png", scratch.display()),
                first: 1,
                last: 2,
                fps: Fps::new(24, 1),
                audio: audio.map(|_| sound.as_str()),
                format: &format,
                out: &out.display().to_string(),
            };
            let output = Command::new(program)
                .args(encode(adapter, &encoding))
                .current_dir(scratch)
                .stdin(Stdio::null())
                .output()
                .map_err(|error| Failure::machine("start", program, &error))?;
            let name = audio
                .map_or(format!("{codec} in {}", container.name), |sound| format!("{sound} in {}", container.name));
            let code = output.status.code().map(i64::from);
            let said = String::from_utf8_lossy(&output.stderr).into_owned();
            let why = if !is_container(&out, container.name) {
                let last = said.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or("").to_owned();
                Some(format!(
                    "no such file came out, exit code {}: {last}",
                    code.map_or("none".to_owned(), |c| c.to_string())
                ))
            } else {
                code.filter(|code| !adapter.ok.contains(code)).map(|code| format!("it ended with exit code {code}"))
            };
            verdicts.push((name, why));
        }
    }
    Ok(verdicts)
}

/// Whether a file begins as its container does: ISO/IEC 14496-12 and QuickTime have their type behind four bytes of length,
/// Matroska and WebM an EBML head (RFC 8794), AVI a RIFF head.
fn is_container(path: &Path, container: &str) -> bool {
    let Ok(bytes) = std::fs::read(path) else { return false };
    match container {
        "mp4" | "mov" => bytes.get(4..8).is_some_and(|name| {
            [b"ftyp", b"moov", b"wide", b"mdat", b"free"].iter().any(|known| name == known.as_slice())
        }),
        "mkv" | "webm" => bytes.starts_with(&[0x1a, 0x45, 0xdf, 0xa3]),
        _ => bytes.starts_with(b"RIFF") && bytes.get(8..12) == Some(b"AVI "),
    }
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
