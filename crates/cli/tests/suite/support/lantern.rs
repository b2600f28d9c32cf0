//! A stand-in for renderers of many habits: `lantern HABIT ...` takes what it is asked for in the habit's own way, and draws
//! with the understudy. It is a program of the tests; its adapters are in `docs/examples/adapters`.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::Parser;
use quick_xml::events::Event;
use serde_json::{Map, Value};
use truepath_core::frames::FrameExpr;

/// One pass: its name, and where a frame of it goes, by frame and by its place in the call.
struct Pass {
    name: String,
    path: Box<dyn Fn(i64, usize) -> PathBuf>,
    bits: Option<String>,
    channels: Option<String>,
    quality: Option<String>,
}

/// What it was asked to render, in whichever of its habits it was said.
#[derive(Default)]
struct Asked {
    scene: String,
    camera: Option<String>,
    fps: String,
    size: String,
    samples: Option<String>,
    frames: Vec<i64>,
    passes: Vec<Pass>,
    set: Vec<(String, String)>,
}

#[derive(Parser)]
struct Call {
    #[command(subcommand)]
    command: truepath_understudy::UnderstudyCommand,
}

fn main() -> ExitCode {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let Some((habit, rest)) = words.split_first() else { return ExitCode::FAILURE };
    let asked = match habit.as_str() {
        "--version" => {
            println!("lantern {}", std::env::var("LANTERN_VERSION").unwrap_or_else(|_| "2026.1".to_owned()));
            return ExitCode::SUCCESS;
        }
        "job" => serde_json::from_str(&text(&rest[0])).ok().and_then(|value: Value| of_table(value.as_object()?)),
        "script" => of_script(&text(&rest[0])),
        "table" => of_lua(&text(&rest[0])),
        "sheet" => of_xml(&text(&rest[0])),
        "lines" => of_lines(&text(&rest[0])),
        "settings" => of_shell(&text(&rest[0])),
        _ => of_words(habit, rest),
    };
    let lie = std::env::var("LANTERN_LIE").unwrap_or_default();
    let Some(mut asked) = asked else {
        eprintln!("error: lantern {habit} does not understand: {}", rest.join(" "));
        return ExitCode::FAILURE;
    };
    told_wrongly(&lie, &mut asked);
    for (at, frame) in asked.frames.iter().enumerate() {
        let shown = match lie.as_str() {
            "one frame for all" => &1,
            "frames backwards" => &asked.frames[asked.frames.len() - 1 - at],
            _ => frame,
        };
        let mut call = vec!["x".to_owned(), "render".to_owned(), asked.scene.clone()];
        let mut add = |name: &str, value: Option<&String>| {
            call.extend(value.into_iter().flat_map(|value| [format!("--{name}"), value.clone()]))
        };
        add("camera", asked.camera.as_ref());
        add("frames", Some(&shown.to_string()));
        add("fps", Some(&asked.fps));
        add("size", Some(&asked.size));
        add("samples", asked.samples.as_ref());
        for (key, value) in &asked.set {
            add("set", Some(&format!("{key}={value}")));
        }
        for pass in &asked.passes {
            let path = (pass.path)(*frame, at);
            let _ = path.parent().map(std::fs::create_dir_all);
            add("pass", Some(&format!("{}={}", pass.name, path.display())));
            add("pass-bits", pass.bits.as_ref());
            add("pass-channels", pass.channels.as_ref());
            add("pass-quality", pass.quality.as_ref());
        }
        let Ok(call) = Call::try_parse_from(call) else { return ExitCode::FAILURE };
        if truepath_understudy::run(call.command) != 0 {
            return ExitCode::FAILURE;
        }
        for path in asked.passes.iter().map(|pass| (pass.path)(*frame, at)) {
            left_wrongly(&lie, &path);
        }
    }
    ExitCode::SUCCESS
}

/// Programs that do something else than they are told: what they make of a call.
fn told_wrongly(lie: &str, asked: &mut Asked) {
    match lie {
        "one camera for all" => asked.camera = None,
        "one size for all" => "64x36".clone_into(&mut asked.size),
        "one rate for all" => "24".clone_into(&mut asked.fps),
        "one number of samples for all" => asked.samples = None,
        "frames between steps" => {
            let (first, last) = (asked.frames[0], asked.frames[asked.frames.len() - 1]);
            asked.frames = (first..=last).collect();
        }
        "the last frame left out" if asked.frames.len() > 1 => drop(asked.frames.pop()),
        "the first pass only" => asked.passes.truncate(1),
        "the same picture in all passes" => {
            asked.passes.iter_mut().for_each(|pass| "beauty".clone_into(&mut pass.name))
        }
        "passes in each other's files" if asked.passes.len() > 1 => {
            let names: Vec<String> = asked.passes.iter().rev().map(|pass| pass.name.clone()).collect();
            asked.passes.iter_mut().zip(names).for_each(|(pass, name)| pass.name = name);
        }
        _ => {}
    }
    for pass in &mut asked.passes {
        match lie {
            "one depth for all" => pass.bits = None,
            "one layout for all" => pass.channels = None,
            "one quality for all" => pass.quality = None,
            "numbers as they come" => {
                let path = (pass.path)(0, 0).to_string_lossy().replace("0000", "####");
                let own = numbered(&path);
                pass.path = Box::new(move |_, at| own(at as i64, at));
            }
            "all frames under one name" => {
                let path = (pass.path)(0, 0);
                pass.path = Box::new(move |_, _| path.clone());
            }
            _ => {}
        }
    }
}

/// What they leave where a file should be.
fn left_wrongly(lie: &str, path: &Path) {
    match lie {
        "files cut off" => {
            let bytes = std::fs::read(path).unwrap();
            std::fs::write(path, &bytes[..bytes.len() - 9]).unwrap();
        }
        "one type for all" => {
            let small = path.with_extension("bmp");
            image(path, &small);
            std::fs::rename(small, path).unwrap();
        }
        "a file beside each" => std::fs::write(path.with_extension("tmp.png"), "rest").unwrap(),
        _ => {}
    }
}

/// The smallest picture of another type, under any name.
fn image(_: &Path, to: &Path) {
    let mut bytes = b"BM".to_vec();
    bytes.extend([58u32, 0, 54, 40, 1, 1].iter().flat_map(|number| number.to_le_bytes()));
    bytes.extend([1u16, 24].iter().flat_map(|number| number.to_le_bytes()));
    bytes.extend([0u32, 4, 0, 0, 0, 0].iter().flat_map(|number| number.to_le_bytes()));
    bytes.extend([0u8; 4]);
    std::fs::write(to, bytes).unwrap();
}

fn text(path: &str) -> String {
    std::fs::read_to_string(path).unwrap_or_default()
}

/// A path whose run of `#` is the frame.
fn numbered(path: &str) -> Box<dyn Fn(i64, usize) -> PathBuf> {
    let (path, width) = (path.to_owned(), path.chars().filter(|sign| *sign == '#').count());
    if width == 0 {
        return Box::new(move |_, _| PathBuf::from(&path));
    }
    Box::new(move |frame, _| PathBuf::from(path.replace(&"#".repeat(width), &format!("{frame:0width$}"))))
}

fn pass(name: &str, path: &str, options: &BTreeMap<String, String>) -> Pass {
    let option = |name: &str| options.get(name).cloned();
    Pass {
        name: name.to_owned(),
        path: numbered(path),
        bits: option("bits"),
        channels: option("channels"),
        quality: option("quality"),
    }
}

fn plain(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

/// From a table such as JSON has.
fn of_table(table: &Map<String, Value>) -> Option<Asked> {
    let text = |key: &str| table.get(key).filter(|value| !value.is_null()).map(plain);
    let size = table.get("size")?.as_array()?;
    let mut asked = Asked {
        scene: table.get("scene")?.as_str()?.to_owned(),
        camera: text("camera"),
        // A number has to be one.
        fps: table.get("fps")?.as_f64()?.to_string(),
        size: format!("{}x{}", size[0].as_i64()?, size[1].as_i64()?),
        samples: text("samples"),
        frames: match table.get("frames")? {
            Value::String(text) => listed(text)?,
            list => list.as_array()?.iter().map(Value::as_i64).collect::<Option<_>>()?,
        },
        ..Asked::default()
    };
    for entry in table.get("passes")?.as_array()? {
        let options: BTreeMap<String, String> =
            entry.as_object()?.iter().map(|(key, value)| (key.clone(), plain(value))).collect();
        asked.passes.push(pass(&options["name"], &options["file"], &options));
    }
    for (key, value) in table.get("set").and_then(Value::as_object).into_iter().flatten() {
        asked.set.push((key.clone(), plain(value)));
    }
    Some(asked)
}

/// Frames such as `1-3,7`.
fn listed(text: &str) -> Option<Vec<i64>> {
    Some(FrameExpr::parse(text).ok()?.frames(None, None)?.iter().collect())
}

/// One literal of Python or Lua at the head of a text, and what follows it.
fn literal(text: &str) -> Option<(Value, &str)> {
    let text = text.trim_start();
    let mut signs = text.char_indices();
    match signs.next()? {
        (_, '"') => {
            let mut out = String::new();
            while let Some((at, sign)) = signs.next() {
                match sign {
                    '"' => return Some((Value::String(out), &text[at + 1..])),
                    '\\' => {
                        let (_, escaped) = signs.next()?;
                        if escaped == 'x' || escaped.is_ascii_digit() {
                            let (base, count) = if escaped == 'x' { (16, 2) } else { (10, 2) };
                            let mut code = if escaped == 'x' { String::new() } else { escaped.to_string() };
                            (0..count).for_each(|_| code.extend(signs.next().map(|(_, sign)| sign)));
                            out.push(char::from_u32(u32::from_str_radix(&code, base).ok()?)?);
                        } else {
                            out.push(escaped);
                        }
                    }
                    '\n' => return None,
                    sign => out.push(sign),
                }
            }
            None
        }
        _ => {
            let end = text.find(|sign: char| !(sign.is_alphanumeric() || ".-_".contains(sign))).unwrap_or(text.len());
            let (word, rest) = text.split_at(end);
            let value = match word {
                "True" | "true" => Value::Bool(true),
                "False" | "false" => Value::Bool(false),
                word => serde_json::from_str(word).ok()?,
            };
            Some((value, rest))
        }
    }
}

/// Literals with commas between them, each with a name before it or without.
fn entries(mut text: &str) -> Option<Vec<(String, Value)>> {
    let mut all = Vec::new();
    while !text.trim().is_empty() {
        let trimmed = text.trim_start();
        let name_end = trimmed.find(|sign: char| !(sign.is_alphanumeric() || sign == '_')).unwrap_or(trimmed.len());
        let after = trimmed[name_end..].trim_start();
        let is_named =
            name_end > 0 && after.starts_with('=') && !trimmed.starts_with(|sign: char| sign.is_ascii_digit());
        let (name, body) = if is_named { (&trimmed[..name_end], &after[1..]) } else { ("", trimmed) };
        let (value, rest) = literal(body)?;
        all.push((name.to_owned(), value));
        text = rest.trim_start().trim_start_matches(',');
    }
    Some(all)
}

/// A script: assignments, `frames = [...]`, and calls of `render_pass` and `setting`.
fn of_script(text: &str) -> Option<Asked> {
    let (mut table, mut passes, mut set) = (Map::new(), Vec::new(), Map::new());
    for line in text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#')) {
        if let Some(inner) = line.strip_prefix("render_pass(").and_then(|line| line.strip_suffix(')')) {
            passes.push(Value::Object(entries(inner)?.into_iter().collect()));
        } else if let Some(inner) = line.strip_prefix("setting(").and_then(|line| line.strip_suffix(')')) {
            let pair = entries(inner)?;
            set.insert(pair.first()?.1.as_str()?.to_owned(), pair.get(1)?.1.clone());
        } else {
            let (name, value) = line.split_once('=')?;
            let value = value.trim();
            let list = value.strip_prefix('[').and_then(|value| value.strip_suffix(']'));
            let list =
                list.map(|list| Some(Value::Array(entries(list)?.into_iter().map(|(_, value)| value).collect())));
            let value = match list {
                Some(list) => list?,
                None => literal(value).filter(|(_, rest)| rest.trim().is_empty())?.0,
            };
            table.insert(name.trim().to_owned(), value);
        }
    }
    table.insert("passes".to_owned(), Value::Array(passes));
    table.insert("set".to_owned(), Value::Object(set));
    of_table(&table)
}

/// A table of Lua: the script with other signs around it.
fn of_lua(text: &str) -> Option<Asked> {
    let body = text.trim().strip_prefix("return {")?.strip_suffix('}')?;
    let script: Vec<String> = body
        .lines()
        .map(|line| {
            let line = line.trim().trim_end_matches(',');
            if let Some(pass) = line.strip_prefix("pass {") {
                format!("render_pass({})", pass.trim_end_matches('}'))
            } else if let Some(pair) = line.strip_prefix("set {") {
                format!("setting({})", pair.trim_end_matches('}'))
            } else if let Some((name, list)) = line.split_once('=').filter(|(_, value)| value.trim().starts_with('{')) {
                format!("{name} = [{}]", list.trim().trim_matches(['{', '}']))
            } else {
                line.to_owned()
            }
        })
        .collect();
    of_script(&script.join("\n"))
}

/// `<job scene="" ...>` with `<frame/>`, `<pass/>` and `<set/>` in it.
fn of_xml(text: &str) -> Option<Asked> {
    let mut reader = quick_xml::Reader::from_str(text);
    let mut asked = Asked::default();
    loop {
        let event = reader.read_event().ok()?;
        let (Event::Start(tag) | Event::Empty(tag)) = &event else {
            match event {
                Event::Eof => return Some(asked),
                _ => continue,
            }
        };
        let read = |attribute: quick_xml::events::attributes::Attribute<'_>| {
            let value = quick_xml::escape::unescape(std::str::from_utf8(&attribute.value).ok()?).ok()?.into_owned();
            Some((String::from_utf8_lossy(attribute.key.as_ref()).into_owned(), value))
        };
        let all: BTreeMap<String, String> =
            tag.attributes().map(|attribute| read(attribute.ok()?)).collect::<Option<_>>()?;
        match tag.name().as_ref() {
            b"job" => {
                asked.scene.clone_from(all.get("scene")?);
                asked.camera = all.get("camera").cloned();
                asked.fps.clone_from(all.get("fps")?);
                asked.size = format!("{}x{}", all.get("width")?, all.get("height")?);
                asked.samples = all.get("samples").cloned();
            }
            b"frame" => asked.frames.push(all.get("number")?.parse().ok()?),
            b"pass" => asked.passes.push(pass(all.get("name")?, all.get("file")?, &all)),
            b"set" => asked.set.push((all.get("key")?.clone(), all.get("value")?.clone())),
            _ => return None,
        }
    }
}

/// `key: value`, a line each; `frame`, `pass`, `file` and `set` come again and again.
fn of_lines(text: &str) -> Option<Asked> {
    let mut asked = Asked::default();
    for line in text.lines() {
        let (key, value) = line.split_once(": ")?;
        let value = value.to_owned();
        match key {
            "scene" => asked.scene = value,
            "camera" => asked.camera = Some(value),
            "fps" => asked.fps = value,
            "size" => asked.size = value,
            "samples" => asked.samples = Some(value),
            "frame" => asked.frames.push(value.parse().ok()?),
            "pass" => asked.passes.push(pass(&value, "", &BTreeMap::new())),
            "file" => asked.passes.last_mut()?.path = numbered(&value),
            "bits" => asked.passes.last_mut()?.bits = Some(value),
            "channels" => asked.passes.last_mut()?.channels = Some(value),
            "set" => asked.set.extend(value.split_once('=').map(|(key, value)| (key.to_owned(), value.to_owned()))),
            _ => return None,
        }
    }
    Some(asked)
}

/// Assignments whose values are words of a POSIX shell.
fn of_shell(text: &str) -> Option<Asked> {
    let unquoted = |word: &str| {
        let (mut out, mut rest) = (String::new(), word);
        while let Some(sign) = rest.chars().next() {
            match sign {
                '\'' => {
                    let end = rest[1..].find('\'')? + 1;
                    out.push_str(&rest[1..end]);
                    rest = &rest[end + 1..];
                }
                '\\' => {
                    out.extend(rest.chars().nth(1));
                    rest = &rest[2..];
                }
                sign => {
                    out.push(sign);
                    rest = &rest[sign.len_utf8()..];
                }
            }
        }
        Some(out)
    };
    let lines: Option<Vec<String>> = text
        .lines()
        .map(|line| {
            let (key, word) = line.split_once('=')?;
            Some(format!("{}: {}", key.to_lowercase(), unquoted(word)?))
        })
        .collect();
    of_lines(&lines?.join("\n"))
}

/// Habits of the command line.
fn of_words(habit: &str, words: &[String]) -> Option<Asked> {
    let mut options: BTreeMap<&str, Vec<&String>> = BTreeMap::new();
    let mut at = 0;
    let mut scene = None;
    while at < words.len() {
        match words[at].strip_prefix("--") {
            Some(name) => {
                options.entry(name).or_default().push(words.get(at + 1)?);
                at += 2;
            }
            None => {
                scene = Some(words[at].clone());
                at += 1;
            }
        }
    }
    let one = |name: &str| options.get(name).and_then(|values| values.last()).map(|value| (*value).clone());
    let mut asked = Asked {
        scene: scene?,
        camera: one("camera"),
        fps: one("fps")?,
        size: one("size")?,
        samples: one("samples"),
        ..Asked::default()
    };
    for pair in options.get("set").into_iter().flatten() {
        asked.set.extend(pair.split_once('=').map(|(key, value)| (key.to_owned(), value.to_owned())));
    }
    let common = ["bits", "channels"].into_iter().filter_map(|name| Some((name.to_owned(), one(name)?))).collect();
    match habit {
        // --pass NAME=PATH:BITS:CHANNELS for each, whatever its format.
        "each" => {
            asked.frames = listed(&one("list")?)?;
            for entry in options.get("pass")? {
                let (name, rest) = entry.split_once('=')?;
                let (rest, channels) = rest.rsplit_once(':')?;
                let (path, bits) = rest.rsplit_once(':')?;
                let own =
                    [("bits", bits), ("channels", channels)].map(|(key, value)| (key.to_owned(), value.to_owned()));
                asked.passes.push(pass(name, path, &own.into_iter().collect()));
            }
        }
        // All passes in one argument; a file NAME.PASS.FRAME.EXT for each, a thumbnail and a log beside them.
        "joined" => {
            asked.frames = listed(&one("list")?)?;
            let (folder, stem, ext) = (one("folder")?, one("stem")?, one("ext")?);
            std::fs::create_dir_all(Path::new(&folder).join("thumbs")).ok()?;
            std::fs::write(Path::new(&folder).join("thumbs").join("small.txt"), "thumbnail").ok()?;
            std::fs::write(Path::new(&folder).join("render.log"), "all is well\n").ok()?;
            for name in one("passes")?.split('+') {
                asked.passes.push(pass(name, &format!("{folder}/{stem}.{name}.####.{ext}"), &common));
            }
        }
        // Numbers its files 0, 1, 2 ... as they come.
        "counted" => {
            asked.frames = listed(&one("list")?)?;
            let path = one("out")?;
            let (stem, ext) = path.rsplit_once('.')?;
            let (stem, ext) = (stem.to_owned(), ext.to_owned());
            let mut own = pass(&one("pass")?, "", &common);
            own.path = Box::new(move |_, at| PathBuf::from(format!("{stem}-{at}.{ext}")));
            asked.passes.push(own);
        }
        // --from the first frame, --until the one after the last.
        "span" => {
            let number = |name: &str| one(name)?.parse::<i64>().ok();
            asked.frames = (number("from")?..number("until")?).step_by(usize::try_from(number("by")?).ok()?).collect();
            (asked.frames.len() as i64 == number("count")?).then_some(())?;
            asked.passes.push(pass(&one("pass")?, &one("out")?, &common));
        }
        // Finds its scene only where it is started, and takes a flag for fog.
        "here" => {
            asked.scene = format!("{}.gltf", asked.scene);
            Path::new(&asked.scene).is_file().then_some(())?;
            asked.frames = listed(&one("list")?)?;
            if one("haze").is_some() {
                asked.set.push(("weather".to_owned(), "fog".to_owned()));
            }
            for entry in options.get("pass")? {
                let (name, path) = entry.split_once('=')?;
                asked.passes.push(pass(name, path, &common));
            }
        }
        // One frame a call; a word of its own for each kind of file.
        "one" => {
            asked.frames = vec![one("frame")?.parse().ok()?];
            let (bits, channels) = match one("kind")?.as_str() {
                "small" => ("8", "rgb"),
                "deep" => ("16", "grey"),
                _ => return None,
            };
            let own = [("bits", bits), ("channels", channels)].map(|(key, value)| (key.to_owned(), value.to_owned()));
            asked.passes.push(pass(&one("pass")?, &one("out")?, &own.into_iter().collect()));
        }
        _ => return None,
    }
    Some(asked)
}
