//! `types`: what file types and codecs can hold, and where that is written.

use serde_json::{Value, json};
use truepath_core::catalogue::{
    AUDIO_CODECS, AudioCodec, CODECS, CONTAINERS, Codec, FileType, Light, PICTURES, Rates, by_extension, by_name, types,
};
use truepath_core::diagnostic::nearest;

use crate::args::TypesArgs;
use truepath_exec::failure::Failure;

use crate::exit_code::Exit;
use crate::lower::Around;
use crate::show::{self, HEAD, paint};

/// Prints the catalogue, or all that is known under one name.
pub fn run(args: &TypesArgs, around: &Around) -> Result<Exit, Failure> {
    let name = args.name.as_deref().map(str::to_ascii_lowercase);
    let wanted = |known: &str| name.as_deref().is_none_or(|name| name == known);
    let by_ending = name.as_deref().filter(|name| by_name(name).is_none()).and_then(by_extension);
    let is_type = |known: &&FileType| wanted(known.name) || by_ending == Some(known);
    let pictures: Vec<&FileType> = PICTURES.iter().filter(is_type).collect();
    let containers: Vec<&FileType> = CONTAINERS.iter().filter(is_type).collect();
    let codecs: Vec<&'static Codec> = CODECS.iter().copied().filter(|known| wanted(known.name)).collect();
    let sounds: Vec<&'static AudioCodec> = AUDIO_CODECS.iter().copied().filter(|known| wanted(known.name)).collect();
    if pictures.is_empty() && containers.is_empty() && codecs.is_empty() && sounds.is_empty() {
        return Err(unknown(name.as_deref().unwrap_or("")));
    }
    let text = if args.json {
        show::json::text(&json!({
            "truepath": 1,
            "types": pictures.iter().map(|known| picture(known)).collect::<Vec<_>>(),
            "containers": containers.iter().map(|known| container(known)).collect::<Vec<_>>(),
            "codecs": codecs.iter().map(|known| moving(known)).collect::<Vec<_>>(),
            "audio_codecs": sounds.iter().map(|known| sound(known)).collect::<Vec<_>>(),
        }))
    } else if name.is_some() {
        let all = pictures.iter().map(|known| picture(known)).chain(containers.iter().map(|known| container(known)));
        let all = all.chain(codecs.iter().map(|known| moving(known))).chain(sounds.iter().map(|known| sound(known)));
        all.map(|facts| one(&facts, around)).collect::<Vec<_>>().join("\n")
    } else {
        overview(around)
    };
    show::print(&text)?;
    Ok(Exit::Well)
}

fn unknown(name: &str) -> Failure {
    let known = types().map(|known| known.name).chain(CODECS.iter().map(|known| known.name));
    let near = nearest(name, known.chain(AUDIO_CODECS.iter().map(|known| known.name)));
    let help = near.map_or("`truepath types` lists them all".to_owned(), |near| format!("write {near}"));
    Failure::unreadable(format!("there is no file type or codec `{name}`")).help(help)
}

fn listed<T: ToString>(items: &[T]) -> Vec<String> {
    items.iter().map(ToString::to_string).collect()
}

fn picture(known: &FileType) -> Value {
    json!({
        "name": known.name, "title": known.title, "extensions": known.extensions,
        "bits": listed(known.bits), "channels": listed(known.channels), "layers": known.layers,
        "compressions": known.compressions, "lossy_compressions": known.lossy_compressions,
        "quality": known.quality, "lossy": known.lossy,
        "pixels": match known.light {
            Light::Linear => "scene-linear",
            Light::Display => "display-encoded",
            Light::Either => "scene-linear or display-encoded",
        },
        "largest": known.largest, "source": known.source,
    })
}

fn container(known: &FileType) -> Value {
    json!({
        "name": known.name, "title": known.title, "extensions": known.extensions,
        "codecs": known.codecs, "audio_codecs": known.audio_codecs, "source": known.source,
    })
}

fn moving(known: &'static Codec) -> Value {
    let holders = CONTAINERS.iter().filter(|container| container.codecs.contains(&known));
    let multiples: Vec<String> = known
        .chroma
        .iter()
        .map(|chroma| (chroma, known.multiples(Some(*chroma))))
        .map(|(chroma, (across, down))| format!("{chroma}: {across}x{down}"))
        .collect();
    json!({
        "name": known.name, "title": known.title, "containers": holders.map(|holder| holder.name).collect::<Vec<_>>(),
        "bits": listed(known.bits), "chroma": known.chroma, "size_in_steps_of": multiples,
        "alpha": known.alpha, "lossless": known.lossless, "master": known.master, "quality": known.quality,
        "smallest": format!("{}x{}", known.smallest.0, known.smallest.1), "largest": known.largest,
        "most_pixels": known.most_pixels, "source": known.source,
    })
}

fn sound(known: &'static AudioCodec) -> Value {
    let holders = CONTAINERS.iter().filter(|container| container.audio_codecs.contains(&known));
    let rates = match known.rates {
        Rates::Only(rates) => json!(rates),
        Rates::UpTo(most) => json!(format!("up to {most}")),
    };
    json!({
        "name": known.name, "title": known.title, "containers": holders.map(|holder| holder.name).collect::<Vec<_>>(),
        "lossless": known.lossless, "rates": rates, "source": known.source,
    })
}

/// All facts of one entry, a line each.
fn one(facts: &Value, around: &Around) -> String {
    let text = |value: &Value| match value {
        Value::Null => "none".to_owned(),
        Value::Bool(flag) => if *flag { "yes" } else { "no" }.to_owned(),
        Value::String(text) => text.clone(),
        Value::Array(list) if list.is_empty() => "none".to_owned(),
        Value::Array(list) => {
            list.iter().map(|item| item.as_str().map_or(item.to_string(), str::to_owned)).collect::<Vec<_>>().join(", ")
        }
        other => other.to_string(),
    };
    let some_lossy = facts["lossy_compressions"].as_array().is_some_and(|list| !list.is_empty());
    let lines = facts.as_object().into_iter().flatten().map(|(key, value)| {
        let value = match value {
            Value::Bool(false) if key == "lossy" && some_lossy => &Value::from("with some compressions"),
            value => value,
        };
        let key = format!("{:20}", key.replace('_', " "));
        format!("{}{}\n", paint(around.out, HEAD, key), text(value))
    });
    lines.collect()
}

/// The whole catalogue in four tables.
fn overview(around: &Around) -> String {
    let mut out = String::new();
    let flag = |flag: bool, word: &str| if flag { word.to_owned() } else { String::new() };
    let rows = PICTURES.iter().map(|known| {
        let more = [flag(known.layers, "layers"), flag(known.quality, "quality"), flag(known.lossy, "lossy")];
        vec![
            known.name.to_owned(),
            known.title.to_owned(),
            known.extensions.join(" "),
            listed(known.bits).join(" "),
            listed(known.channels).join(" "),
            more.into_iter().filter(|word| !word.is_empty()).collect::<Vec<_>>().join(" "),
        ]
    });
    table(&mut out, around, &["picture", "", "extension", "bits", "channels", ""], rows.collect());
    let rows = CONTAINERS.iter().map(|known| {
        vec![
            known.name.to_owned(),
            known.title.to_owned(),
            families(known.codecs),
            listed(known.audio_codecs).join(" "),
        ]
    });
    table(&mut out, around, &["container", "", "codecs", "audio"], rows.collect());
    let rows = CODECS.iter().map(|known| {
        let more = [
            flag(known.alpha, "alpha"),
            flag(known.lossless, "lossless"),
            flag(known.quality, "quality"),
            flag(known.multiples(None) != (1, 1), "even sizes"),
        ];
        vec![
            known.name.to_owned(),
            known.title.to_owned(),
            listed(known.bits).join(" "),
            listed(known.chroma).join(" "),
            more.into_iter().filter(|word| !word.is_empty()).collect::<Vec<_>>().join(", "),
        ]
    });
    table(&mut out, around, &["codec", "", "bits", "chroma", ""], rows.collect());
    let rows = AUDIO_CODECS
        .iter()
        .map(|known| vec![known.name.to_owned(), known.title.to_owned(), flag(known.lossless, "lossless")]);
    table(&mut out, around, &["audio codec", "", ""], rows.collect());
    out.push_str("Show one in full, with its standard: truepath types NAME\n");
    out
}

/// Codecs with a family named once: all of its members are held.
fn families(codecs: &[&Codec]) -> String {
    let mut names: Vec<String> = Vec::new();
    for name in codecs.iter().map(|codec| codec.name) {
        let family = ["prores", "dnxhr"].iter().find(|family| name.starts_with(**family));
        let name = family.map_or(name.to_owned(), |family| format!("{family}*"));
        if names.last() != Some(&name) {
            names.push(name);
        }
    }
    names.join(" ")
}

fn table(out: &mut String, around: &Around, heads: &[&str], rows: Vec<Vec<String>>) {
    let width = |at: usize| rows.iter().map(|row| row[at].len()).chain([heads[at].len()]).max().unwrap_or(0);
    let widths: Vec<usize> = (0..heads.len()).map(width).collect();
    // Where a terminal has no room for all columns, the titles are left out: the names say the same.
    let whole = widths.iter().sum::<usize>() + 2 * (heads.len() - 1);
    let is_narrow = around.out.terminal && whole > around.out.width;
    let line = |cells: Vec<&str>| {
        let cells = cells.iter().zip(&widths).enumerate().filter(|(at, _)| !is_narrow || *at != 1);
        let cells = cells.map(|(_, (cell, width))| format!("{cell:width$}"));
        cells.collect::<Vec<_>>().join("  ").trim_end().to_owned()
    };
    out.push_str(&format!("{}\n", paint(around.out, HEAD, line(heads.to_vec()))));
    for row in &rows {
        out.push_str(&format!("{}\n", line(row.iter().map(String::as_str).collect())));
    }
    out.push('\n');
}

#[cfg(test)]
mod tests {
    use truepath_core::catalogue::codecs;

    use super::families;

    #[test]
    fn a_family_is_named_once() {
        assert_eq!(
            families(&[&codecs::H264, &codecs::PRORES, &codecs::PRORES_HQ, &codecs::PNG_FRAMES]),
            "h264 prores* png"
        );
    }
}
