//! USD in its text form, `.usda`: the time range and rates of the layer's header, camera prims, referenced assets.
//!
//! Only what is needed is read: the header's metadata, `def Camera "name"` and asset paths between `@`. Comments and
//! strings are skipped so that nothing in them is taken for a prim.

use crate::flaw::Flaw;
use std::collections::BTreeMap;

use super::Facts;
use super::usd::{Prim, UsdLayer, UsdSetting};

pub fn read(bytes: &[u8]) -> Result<Facts, Flaw> {
    let text = std::str::from_utf8(bytes).map_err(|error| Flaw::at("it is not text", error))?;
    if !text.starts_with("#usda") {
        return Err("it does not begin with #usda".into());
    }
    let words = words(text);
    let mut layer = UsdLayer::default();
    let header_end = words.iter().position(|word| *word == UsdWord::Sign(')')).unwrap_or(0);
    let header = &words[..header_end];
    let number = |name: &str| match after(header, name)? {
        UsdWord::Name(value) => value.parse::<f64>().ok().filter(|value| value.is_finite()),
        _ => None,
    };
    (layer.start, layer.end) = (number("startTimeCode"), number("endTimeCode"));
    (layer.codes, layer.frames) = (number("timeCodesPerSecond"), number("framesPerSecond"));
    layer.render_settings = match after(header, "renderSettingsPrimPath") {
        Some(UsdWord::Text(path)) => Some(path.to_owned()),
        _ => None,
    };
    prims(&words, &mut layer)?;
    layer.assets = words
        .iter()
        .filter_map(|word| if let UsdWord::Asset(path) = word { Some((*path).to_owned()) } else { None })
        .collect();
    Ok(layer.facts())
}

/// What follows a name and an equals sign.
fn after<'t>(words: &[UsdWord<'t>], name: &str) -> Option<UsdWord<'t>> {
    let at = words.windows(3).find(|w| w[0] == UsdWord::Name(name) && w[1] == UsdWord::Sign('='))?;
    Some(at[2])
}

/// The same text with other asset paths: they stand between `@`.
pub fn respelt(bytes: &[u8], to: &BTreeMap<String, String>) -> Option<Vec<u8>> {
    let mut text = std::str::from_utf8(bytes).ok()?.to_owned();
    for (old, new) in to {
        text = text.replace(&format!("@{old}@"), &format!("@{new}@"));
    }
    Some(text.into_bytes())
}

/// Settings of render settings and products that are looked for.
const SETTINGS: [&str; 5] = ["resolution", "productName", "camera", "products", "orderedVars"];

/// Prims may lie so deep in one another: a path has the names of all above it, and what is nested without end would take time
/// and memory by the square of its length.
const DEEPEST: usize = 512;

/// Prims with their paths, the assets that are layers of this one (`subLayers`, `references` and `payload`), and the settings
/// of what is to be rendered.
fn prims(words: &[UsdWord<'_>], layer: &mut UsdLayer) -> Result<(), Flaw> {
    // Names of the prims that are open; a brace that no prim opened has none.
    let (mut open, mut next): (Vec<Option<&str>>, Option<&str>) = (Vec::new(), None);
    let (mut arc, mut target) = (false, false);
    let path = |open: &[Option<&str>]| open.iter().flatten().map(|name| format!("/{name}")).collect::<String>();
    for (at, word) in words.iter().enumerate() {
        match word {
            UsdWord::Name(specifier @ ("def" | "over" | "class")) => {
                arc = false;
                let (kind, name) = match words.get(at + 1..at + 3) {
                    Some([UsdWord::Name(kind), UsdWord::Text(name)]) => (*kind, *name),
                    _ => match words.get(at + 1) {
                        Some(UsdWord::Text(name)) => ("", *name),
                        _ => continue,
                    },
                };
                next = Some(name);
                let is_defined = *specifier == "def";
                layer.prims.push(Prim { path: format!("{}/{name}", path(&open)), kind: kind.to_owned(), is_defined });
            }
            UsdWord::Name(name) if !target => {
                arc = matches!(*name, "subLayers" | "references" | "payload");
                if SETTINGS.contains(name) && words.get(at + 1) == Some(&UsdWord::Sign('=')) {
                    let setting = setting(&words[at + 2..]);
                    layer.settings.extend(setting.map(|setting| (format!("{}.{name}", path(&open)), setting)));
                }
            }
            UsdWord::Sign('<') => target = true,
            UsdWord::Sign('>') => target = false,
            UsdWord::Sign('{') if open.len() >= DEEPEST => {
                return Err(format!("it nests prims more than {DEEPEST} deep").into());
            }
            UsdWord::Sign('{') => open.push(next.take()),
            UsdWord::Sign('}') => drop(open.pop()),
            UsdWord::Asset(path) if arc && !path.is_empty() => layer.layers.push((*path).to_owned()),
            _ => {}
        }
    }
    Ok(())
}

/// The value of a setting: text, two numbers, or paths between angle brackets.
fn setting(words: &[UsdWord<'_>]) -> Option<UsdSetting> {
    let number = |word: &UsdWord<'_>| if let UsdWord::Name(text) = word { text.parse::<i32>().ok() } else { None };
    match words {
        [UsdWord::Text(text), ..] => Some(UsdSetting::Text((*text).to_owned())),
        [UsdWord::Sign('('), width, UsdWord::Sign(','), height, ..] => {
            Some(UsdSetting::Two(number(width)?, number(height)?))
        }
        [UsdWord::Sign('<' | '['), ..] => {
            let is_list = words[0] == UsdWord::Sign('[');
            let (mut paths, mut path) = (Vec::new(), None::<String>);
            for word in words {
                match (word, &mut path) {
                    (UsdWord::Sign('<'), _) => path = Some(String::new()),
                    (UsdWord::Sign('>'), _) => {
                        paths.extend(path.take());
                        if !is_list {
                            break;
                        }
                    }
                    (UsdWord::Sign(']'), None) => break,
                    (UsdWord::Sign(sign), Some(path)) => path.push(*sign),
                    (UsdWord::Name(name), Some(path)) => path.push_str(name),
                    _ => {}
                }
            }
            Some(UsdSetting::Paths(paths))
        }
        _ => None,
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
