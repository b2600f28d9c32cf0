//! USD in its text form, `.usda`: the time range and rates of the layer's header, camera prims, referenced assets.
//!
//! Only what is needed is read: the header's metadata, `def Camera "name"` and asset paths between `@`. Comments and
//! strings are skipped so that nothing in them is taken for a prim.

use std::collections::BTreeMap;

use super::Facts;
use crate::sheet::Fps;

pub fn read(bytes: &[u8]) -> Result<Facts, String> {
    let text = std::str::from_utf8(bytes).map_err(|error| format!("it is not text: {error}"))?;
    if !text.starts_with("#usda") {
        return Err("it does not begin with #usda".to_owned());
    }
    let words = words(text);
    let mut facts = Facts { cameras: Some(Vec::new()), ..Facts::default() };
    let header_end = words.iter().position(|word| *word == UsdWord::Sign(')')).unwrap_or(0);
    let number = |name: &str| {
        let at = words[..header_end].windows(3).find(|w| w[0] == UsdWord::Name(name) && w[1] == UsdWord::Sign('='))?;
        if let UsdWord::Name(value) = at[2] {
            value.parse::<f64>().ok().filter(|value| value.is_finite())
        } else {
            None
        }
    };
    if let (Some(start), Some(end)) = (number("startTimeCode"), number("endTimeCode")) {
        facts.span = (start <= end).then_some((start.round() as i64, end.round() as i64));
    }
    // A layer without a rate has 24 time codes per second, by definition of the format; it is not guessed here.
    facts.fps = number("framesPerSecond").or(number("timeCodesPerSecond")).and_then(rate);
    cameras(&words, &mut facts);
    for word in &words {
        if let UsdWord::Asset(path) = word
            && !path.is_empty()
            && !facts.resources.iter().any(|known| known == path)
        {
            facts.resources.push((*path).to_owned());
        }
    }
    Ok(facts)
}

/// The same text with other asset paths: they stand between `@`.
pub fn respelt(bytes: &[u8], to: &BTreeMap<String, String>) -> Option<Vec<u8>> {
    let mut text = std::str::from_utf8(bytes).ok()?.to_owned();
    for (old, new) in to {
        text = text.replace(&format!("@{old}@"), &format!("@{new}@"));
    }
    Some(text.into_bytes())
}

/// Camera prims with their paths, and the assets that are layers of this one: `subLayers`, `references` and `payload`.
fn cameras(words: &[UsdWord<'_>], facts: &mut Facts) {
    // Names of the prims that are open; a brace that no prim opened has none.
    let (mut open, mut next): (Vec<Option<&str>>, Option<&str>) = (Vec::new(), None);
    let (mut arc, mut target) = (false, false);
    for (at, word) in words.iter().enumerate() {
        match word {
            UsdWord::Name("def" | "over" | "class") => {
                arc = false;
                let (kind, name) = match words.get(at + 1..at + 3) {
                    Some([UsdWord::Name(kind), UsdWord::Text(name)]) => (*kind, *name),
                    _ => match words.get(at + 1) {
                        Some(UsdWord::Text(name)) => ("", *name),
                        _ => continue,
                    },
                };
                next = Some(name);
                if kind == "Camera" && *word == UsdWord::Name("def") {
                    let above: String = open.iter().flatten().map(|name| format!("/{name}")).collect();
                    facts.cameras.get_or_insert_default().push(name.to_owned());
                    facts.camera_paths.push(format!("{above}/{name}"));
                }
            }
            UsdWord::Name(name) if !target => arc = matches!(*name, "subLayers" | "references" | "payload"),
            UsdWord::Sign('<') => target = true,
            UsdWord::Sign('>') => target = false,
            UsdWord::Sign('{') => open.push(next.take()),
            UsdWord::Sign('}') => drop(open.pop()),
            UsdWord::Asset(path) if arc && !path.is_empty() => facts.layers.push((*path).to_owned()),
            _ => {}
        }
    }
}

/// A rate as an exact fraction: whole, or a thousandth-and-one of a whole.
fn rate(value: f64) -> Option<Fps> {
    if !(0.0..1e6).contains(&value) {
        return None;
    }
    if value.fract() == 0.0 {
        return Fps::new(value as u32, 1);
    }
    let ntsc = (value * 1.001).round();
    if ((ntsc / 1.001) - value).abs() < 0.005 {
        Fps::new(ntsc as u32 * 1000, 1001)
    } else {
        Fps::new((value * 1000.0).round() as u32, 1000)
    }
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum UsdWord<'t> {
    Name(&'t str),
    Text(&'t str),
    Asset(&'t str),
    Sign(char),
}

fn words(text: &str) -> Vec<UsdWord<'_>> {
    let mut words = Vec::new();
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        let (word, length) = match c {
            '#' => (None, rest.find('\n').unwrap_or(rest.len())),
            '"' | '\'' => {
                let quote = if rest.starts_with("\"\"\"") { "\"\"\"" } else { &rest[..1] };
                let body = &rest[quote.len()..];
                let end = body.find(quote).unwrap_or(body.len());
                (Some(UsdWord::Text(&body[..end])), (quote.len() * 2 + end).min(rest.len()))
            }
            '@' => {
                let quote = if rest.starts_with("@@@") { "@@@" } else { "@" };
                let body = &rest[quote.len()..];
                let end = body.find(quote).unwrap_or(body.len());
                (Some(UsdWord::Asset(&body[..end])), (quote.len() * 2 + end).min(rest.len()))
            }
            c if c.is_alphanumeric() || "_:.-+".contains(c) => {
                let end = rest.find(|c: char| !(c.is_alphanumeric() || "_:.-+".contains(c))).unwrap_or(rest.len());
                (Some(UsdWord::Name(&rest[..end])), end)
            }
            c if c.is_whitespace() => (None, c.len_utf8()),
            c => (Some(UsdWord::Sign(c)), c.len_utf8()),
        };
        words.extend(word);
        rest = &rest[length..];
    }
    words
}

#[cfg(test)]
mod tests {
    use super::read;

    #[test]
    fn header_cameras_and_assets_are_read_and_nothing_else() {
        let text = "#usda 1.0\n(\n  doc = \"def Camera \\\"no\\\"\"\n  startTimeCode = 1001\n  endTimeCode = 1048\n  timeCodesPerSecond = 23.976\n)\n\
            # def Camera \"neither\"\ndef Xform \"harbour\" (\n references = @./ferry.usda@</ferry>\n) {\n  def Camera \"quay\" { }\n  asset t = @tex/a b.png@\n}\n";
        let facts = read(text.as_bytes()).expect("usda");
        assert_eq!(facts.cameras.as_deref(), Some(&["quay".to_owned()][..]));
        assert_eq!(
            (facts.camera_paths, facts.layers),
            (vec!["/harbour/quay".to_owned()], vec!["./ferry.usda".to_owned()])
        );
        assert_eq!(
            (facts.span, facts.fps.map(|fps| fps.to_string())),
            (Some((1001, 1048)), Some("24000/1001".to_owned()))
        );
        assert_eq!(facts.resources, ["./ferry.usda", "tex/a b.png"]);
        assert!(read(b"PXR-USDC").is_err());
        for end in 0..text.len() {
            let _ = read(&text.as_bytes()[..end]);
        }
    }
}
