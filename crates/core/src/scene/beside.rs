//! A facts file beside a closed scene, `<scene>.facts.toml`: what nobody can read out of the scene itself.

use toml::de::DeTable;

use super::Facts;
use crate::diagnostic::Findings;
use crate::frames::FrameExpr;
use crate::sheet::Setting;
use crate::sheet::parse;
use crate::sheet::read::Reader;
use crate::sheet::{Key, Layer};
use crate::source::FileId;

/// Keys of a facts file.
pub const KEYS: [&str; 7] = ["cameras", "frames", "fps", "size", "passes", "variables", "resources"];

/// Reads a facts file. Mistakes are findings at their places; what could be read is returned.
pub fn read(file: FileId, text: &str, findings: &mut Findings) -> Facts {
    let table: DeTable<'_> = parse::toml_table(file, text, findings);
    let mut reader = Reader { file, text, findings, place_of: |_| None, strays: Vec::new() };
    let mut facts = Facts::default();
    for (key, raw) in &table {
        let name = key.get_ref().as_ref();
        match name {
            "cameras" => facts.cameras = reader.texts(raw, name).map(plain),
            "variables" => facts.variables = reader.texts(raw, name).map(plain),
            "passes" => facts.passes = reader.texts(raw, name).map(plain),
            "resources" => facts.resources = reader.texts(raw, name).map(plain).unwrap_or_default(),
            "frames" => {
                let given = reader.given(&Key::Frames, raw, Layer::BuiltIn);
                let frames = given.and_then(|given| {
                    if let Setting::Frames(expr) = &*given.value { FrameExpr::frames(expr, None, None) } else { None }
                });
                facts.span = frames.and_then(|frames| Some((frames.first()?, frames.last()?)));
            }
            "fps" => {
                if let Some(Setting::Fps(fps)) =
                    reader.given(&Key::Fps, raw, Layer::BuiltIn).as_ref().map(|given| &*given.value)
                {
                    facts.fps = Some(*fps);
                }
            }
            "size" => {
                if let Some(Setting::Size(size)) =
                    reader.given(&Key::Size, raw, Layer::BuiltIn).as_ref().map(|given| &*given.value)
                {
                    facts.size = Some(*size);
                }
            }
            _ => reader.unknown(key, "a facts file", &KEYS),
        }
    }
    facts
}

fn plain(list: Vec<crate::source::Spanned<String>>) -> Vec<String> {
    list.into_iter().map(|text| text.value).collect()
}
