//! `adapter prove`: two tiny frames for everything that an adapter claims, in scratch, by the same way as any other job:
//! a sheet for each claim, run and looked at. Nothing of it touches a project.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde_json::{Value, json};
use truepath_core::adapter::{Adapter, AdapterKind, Arrangement, Per, Program};
use truepath_core::catalogue::{self, FileType};
use truepath_core::invoke::encode::{Encoding, encode};
use truepath_core::sheet::{Format, Fps, Key};
use truepath_core::source::{FileId, Place, Spanned};
use truepath_understudy::harbour;

use super::KnownAdapters;
use crate::args::AdapterProve;
use crate::pipeline::programs::{Places, program as find};
use truepath_exec::failure::Failure;

use crate::exit_code::Exit;
use crate::lower::Surroundings;
use crate::show::{self, BAD, GOOD, paint};

/// The scratch folder, gone with it.
struct Scratch(PathBuf);

impl Drop for Scratch {
    fn drop(&mut self) {
        // What cannot be removed is in a folder for passing things.
        let _ = std::fs::remove_dir_all(&self.0);
    }
}

/// One claim: its name and the sheet that tries it.
struct Claim {
    name: String,
    sheet: String,
}

/// What became of a claim: nothing, or why it failed.
type ClaimVerdict = (String, Option<String>);

/// Tries every claim and prints what held.
pub fn run(args: &AdapterProve, shelf: &KnownAdapters, around: &Surroundings) -> Result<Exit, Failure> {
    let adapter = shelf.get(&args.of)?;
    let folder = around.temporary.last().cloned().unwrap_or_else(std::env::temp_dir);
    let scratch = Scratch(folder.join(format!("truepath-prove-{}", std::process::id())));
    let made = std::fs::create_dir_all(scratch.0.join("adapters"));
    made.map_err(|error| Failure::machine("make the folder", &scratch.0, &error))?;
    let known = std::collections::BTreeMap::new();
    let places = Places { folder: &shelf.folder, system: around.system, own: &around.program, known: &known };
    let program = find(adapter, &places)
        .map_err(|name| Failure::unreadable(format!("the program {name} is not on this machine")))?;
    let verdicts = match adapter.kind {
        AdapterKind::Renderer => renderer(args, (adapter, shelf), &scratch.0, around)?,
        AdapterKind::Encoder => encoder(adapter, &program, &scratch.0, around)?,
        AdapterKind::Exporter => exporter(args, (adapter, shelf), &scratch.0, around)?,
    };
    let held = verdicts.iter().filter(|(_, why)| why.is_none()).count();
    if args.of.json {
        let claims: Vec<Value> =
            verdicts.iter().map(|(name, why)| json!({ "claim": name, "held": why.is_none(), "why": why })).collect();
        show::print(&show::json::text(&json!({ "truepath": 1, "adapter": adapter.name, "claims": claims })))?;
    } else {
        show::print(&table(&adapter.name, &verdicts, around))?;
    }
    Ok(if held == verdicts.len() { Exit::Well } else { Exit::No })
}

fn table(name: &str, verdicts: &[ClaimVerdict], around: &Surroundings) -> String {
    let widest = verdicts.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
    let mut out = String::new();
    for (claim, why) in verdicts {
        let verdict = match why {
            None => paint(around.out, GOOD, "held"),
            Some(why) => format!("{}  {why}", paint(around.out, BAD, "failed")),
        };
        out.push_str(&format!("{claim:widest$}  {verdict}\n"));
    }
    let held = verdicts.iter().filter(|(_, why)| why.is_none()).count();
    let all = verdicts.len();
    out.push_str(&if held == all {
        format!("\n{name} does what it claims: {held} of {all}\n")
    } else {
        format!("\n{name} does not do what it claims: {} of {all} failed\n", all - held)
    });
    out
}

/// Every claim of a renderer.
fn renderer(
    args: &AdapterProve,
    (adapter, shelf): (&Adapter, &KnownAdapters),
    scratch: &Path,
    around: &Surroundings,
) -> Result<Vec<ClaimVerdict>, Failure> {
    let failed = |path: &Path, error: &std::io::Error| Failure::machine("write", path, error);
    let scene = scene(args, adapter, scratch)?;
    let own = scratch.join(format!("adapters/{}.toml", args.of.name));
    std::fs::write(&own, &shelf.sources.get(adapter.file).text).map_err(|error| failed(&own, &error))?;
    link_program(adapter, &shelf.folder, scratch);
    let mut verdicts = Vec::new();
    for claim in claims(args, adapter, &scene) {
        let sheet = scratch.join("truepath.toml");
        std::fs::write(&sheet, &claim.sheet).map_err(|error| failed(&sheet, &error))?;
        let _ = std::fs::remove_dir_all(scratch.join("out"));
        verdicts.push((claim.name, tried(scratch, around)?));
    }
    Ok(verdicts)
}

/// The scene to render: the one named, or our own where the adapter reads that format.
fn scene(args: &AdapterProve, adapter: &Adapter, scratch: &Path) -> Result<PathBuf, Failure> {
    if let Some(scene) = &args.scene {
        return dunce::canonicalize(scene)
            .map_err(|error| Failure::unreadable(format!("cannot read {}: {error}", scene.display())));
    }
    let reads = adapter.accepts.scenes.is_empty() || adapter.accepts.scenes.iter().any(|scene| scene == "gltf");
    if !reads {
        return Err(Failure::unreadable(format!("{} reads {}", adapter.name, adapter.accepts.scenes.join(", ")))
            .help("name a scene: --scene FILE"));
    }
    for (name, bytes) in harbour::scenes() {
        let path = scratch.join("scenes").join(name);
        let made = path.parent().map_or(Ok(()), std::fs::create_dir_all).and_then(|()| std::fs::write(&path, bytes));
        made.map_err(|error| Failure::machine("write", &path, &error))?;
    }
    Ok(scratch.join("scenes/crossing.gltf"))
}

/// A program relative to the sheet's folder is found from scratch, too.
fn link_program(adapter: &Adapter, folder: &Path, scratch: &Path) {
    let names: Vec<&String> = match &adapter.program {
        Program::Same(name) => vec![name],
        Program::BySystem(names) => names.iter().map(|(_, name)| name).collect(),
    };
    for name in names.into_iter().filter(|name| name.contains('/') && !name.starts_with('/')) {
        let top = name.trim_start_matches("./").split('/').next().unwrap_or(name);
        // Without the link the program is not found, and the first claim says so.
        #[cfg(unix)]
        let _ = std::os::unix::fs::symlink(folder.join(top), scratch.join(top));
        #[cfg(windows)]
        let _ = std::os::windows::fs::symlink_dir(folder.join(top), scratch.join(top));
    }
}

/// What is claimed, a sheet for each.
fn claims(args: &AdapterProve, adapter: &Adapter, scene: &Path) -> Vec<Claim> {
    let accepts = &adapter.accepts;
    let wanted = |list: &[String], name: &str| list.is_empty() || list.iter().any(|own| own == name);
    let types: Vec<&FileType> = catalogue::PICTURES.iter().filter(|known| wanted(&accepts.types, known.name)).collect();
    let mut all = Vec::new();
    let mut add = |name: String, format: String, job: String| {
        all.push(Claim { name, sheet: sheet(args, adapter, scene, (&format, &job)) });
    };
    let several = if adapter.per == Per::List { "frames = \"2,5\"" } else { "frames = \"2-3\"" };
    for known in &types {
        let kind = format!("type = \"{}\"\n", known.name);
        let mut rows = Vec::new();
        if adapter.uses("bits") {
            let bits = known.bits.iter().map(ToString::to_string).filter(|bits| wanted(&accepts.bits, bits));
            rows.extend(bits.map(|bits| (format!("{} {bits} bits", known.name), format!("bits = \"{bits}\"\n"))));
        }
        if adapter.uses("channels") {
            let channels = known.channels.iter().map(ToString::to_string);
            let channels = channels.filter(|channels| wanted(&accepts.channels, channels));
            rows.extend(channels.map(|name| (format!("{} {name}", known.name), format!("channels = \"{name}\"\n"))));
        }
        if adapter.uses("compression") {
            let names = known.compressions.iter().filter(|name| wanted(&accepts.compressions, name));
            rows.extend(names.map(|name| (format!("{} {name}", known.name), format!("compression = \"{name}\"\n"))));
        }
        if rows.is_empty() {
            rows.push((known.name.to_owned(), String::new()));
        }
        for (name, options) in rows {
            add(name, format!("{kind}{options}"), several.to_owned());
        }
    }
    let Some(first) = types.first() else { return all };
    let kind = format!("type = \"{}\"\n", first.name);
    let frames = |name: &str, expr: &str| (format!("frames as a {name}"), format!("frames = \"{expr}\""));
    let mut ways = match adapter.per {
        Per::List => vec![frames("list", "2,5"), frames("list with steps", "3-7/2")],
        Per::Range => vec![frames("range", "4-5")],
        Per::Frame => vec![("frame by frame".to_owned(), "frames = \"2,5\"".to_owned())],
    };
    if adapter.per == Per::Range && adapter.uses("step") {
        ways.push(frames("range with a step", "3-7/2"));
    }
    for (name, job) in ways {
        add(name, kind.clone(), job);
    }
    let two = "passes = [\"beauty\", \"depth\"]\n";
    let apart = "passes = [\"beauty\", { name = \"depth\", format = \"second\" }]\n";
    let layered = types.iter().find(|known| known.layers).map(|known| format!("type = \"{}\"\n", known.name));
    for arrangement in adapter.can.iter().flatten() {
        match arrangement {
            Arrangement::Pass => add("passes in a call each".to_owned(), kind.clone(), format!("{several}\n{apart}")),
            Arrangement::Call => add("passes in one call".to_owned(), kind.clone(), format!("{several}\n{two}")),
            Arrangement::File => {
                if let Some(kind) = &layered {
                    let job = format!("{several}\n{two}layers = \"together\"\n");
                    add("passes in one file".to_owned(), kind.clone(), job);
                }
            }
        }
    }
    all
}

/// A sheet that asks for one thing, and for nothing that the adapter does not claim.
fn sheet(args: &AdapterProve, adapter: &Adapter, scene: &Path, (format, job): (&str, &str)) -> String {
    let quoted = |text: &str| Value::String(text.to_owned()).to_string();
    let mut settings = String::new();
    if adapter.carries(&Key::Size) {
        settings.push_str("size = \"64x36\"\n");
    }
    if adapter.carries(&Key::Fps) {
        settings.push_str("fps = 24\n");
    }
    if let Some(camera) = &args.camera {
        settings.push_str(&format!("camera = {}\n", quoted(camera)));
    }
    for pair in &args.set {
        let (key, value) = pair.split_once('=').unwrap_or((pair, ""));
        let plain = format!("{key} = {value}");
        let read = truepath_core::sheet::parse::is_toml(&plain);
        settings.push_str(&if read { format!("{plain}\n") } else { format!("{key} = {}\n", quoted(value)) });
    }
    let quiet = [
        "data-squeezed",
        "frames-outside-scene",
        "scene-span-not-covered",
        "types-mixed",
        "entry-unused",
        "linear-in-display-type",
        "display-in-linear-type",
        "resource-missing",
        "other-home",
        "step-misses-end",
    ];
    let quiet: String = quiet.iter().map(|slug| format!("{slug} = \"off\"\n")).collect();
    format!(
        "sheet = 1\n[roots]\nout = \"out\"\n[formats.first]\n{format}[formats.second]\n{format}[[job]]\nname = \"tiny\"\nscene = {}\n\
         adapter = {}\nformat = \"first\"\npath = \"{{out}}/{{job}}/{{_pass}}/tiny{{_pass}}.{{frame:4}}.{{ext}}\"\n{settings}{job}\n\
         [checks]\npart-empty = \"off\"\n{quiet}[run]\nretries = 0\nframe_timeout = \"2m\"\n",
        quoted(&scene.display().to_string()),
        quoted(&args.of.name),
    )
}

/// Runs the sheet in scratch; why it did not give what was claimed.
fn tried(scratch: &Path, around: &Surroundings) -> Result<Option<String>, Failure> {
    let failed = |error: std::io::Error| Failure::machine("start", &around.program, &error);
    let output = Command::new(&around.program)
        .args(["run", "--json"])
        .current_dir(scratch)
        .stdin(Stdio::null())
        .output()
        .map_err(failed)?;
    let out = String::from_utf8_lossy(&output.stdout).into_owned();
    let events: Vec<Value> = out.lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
    let of = |name: &str| events.iter().filter(|event| event["event"] == name).collect::<Vec<_>>();
    let text = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    if let Some(refused) = of("refused").first() {
        return Ok(Some(format!("frame {}: {}", refused["frame"], text(&refused["why"]))));
    }
    let strays = of("stray").into_iter().flat_map(|event| event["paths"].as_array().into_iter().flatten());
    let mut stray: Vec<String> = strays.map(|path| file_name(&text(path))).collect();
    stray.sort();
    stray.dedup();
    let lacking =
        of("ended").into_iter().find(|event| event["lacking"].as_str().is_some_and(|frames| !frames.is_empty()));
    let wrote = if stray.is_empty() { String::new() } else { format!("; it wrote {}", some(&stray)) };
    if let Some(ended) = lacking {
        let code = ended["code"].as_i64().map_or("a signal".to_owned(), |code| format!("exit code {code}"));
        let said = telling_line(Path::new(&text(&ended["log"])));
        let said = if stray.is_empty() { said.map(|said| format!(": {said}")).unwrap_or_default() } else { wrote };
        return Ok(Some(format!("frames {} did not come out, {code}{said}", text(&ended["lacking"]))));
    }
    if !stray.is_empty() {
        return Ok(Some(format!("it wrote what was not asked for: {}", some(&stray))));
    }
    if output.status.success() {
        return Ok(None);
    }
    let err = String::from_utf8_lossy(&output.stderr).into_owned();
    Ok(Some(err.lines().find(|line| line.starts_with("error")).unwrap_or("it did not run").to_owned()))
}

fn some(names: &[String]) -> String {
    let first = names.iter().take(3).cloned().collect::<Vec<_>>().join(", ");
    if names.len() > 3 { format!("{first} and {} more", names.len() - 3) } else { first }
}

fn file_name(path: &str) -> String {
    path.rsplit('/').next().unwrap_or(path).to_owned()
}

/// The line of a log that tells most: the first that speaks of an error, else the last.
fn telling_line(log: &Path) -> Option<String> {
    let text = std::fs::read_to_string(log).ok()?;
    let lines = || text.lines().skip(1).filter(|line| !line.trim().is_empty());
    let error = lines().find(|line| line.to_ascii_lowercase().contains("error"));
    error.or(lines().last()).map(str::to_owned)
}

/// Every codec in every container that an encoder claims, with two tiny pictures and a short sound.
fn encoder(
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

/// An exporter is proved by the file it makes of a scene.
fn exporter(
    args: &AdapterProve,
    (adapter, shelf): (&Adapter, &KnownAdapters),
    scratch: &Path,
    around: &Surroundings,
) -> Result<Vec<ClaimVerdict>, Failure> {
    let scene = scene(args, adapter, scratch)?;
    let own = scratch.join(format!("adapters/{}.toml", args.of.name));
    let text = &shelf.sources.get(adapter.file).text;
    std::fs::write(&own, text).map_err(|error| Failure::machine("write", &own, &error))?;
    link_program(adapter, &shelf.folder, scratch);
    let renderer = adapter_for_export(args);
    let sheet = sheet(args, &renderer, &scene, ("type = \"png\"\n", "frames = \"1-2\"")).replace(
        &format!("adapter = \"{0}\"", args.of.name),
        &format!("adapter = \"understudy\"\nexport = \"{0}\"", args.of.name),
    );
    let path = scratch.join("truepath.toml");
    std::fs::write(&path, sheet).map_err(|error| Failure::machine("write", &path, &error))?;
    // What is rendered of the product is another adapter's claim.
    let why = tried(scratch, around)?.filter(|why| why.contains("the export of"));
    let made = adapter.writes.first().map_or("a file".to_owned(), |template| template.value.to_string());
    Ok(vec![(format!("makes {made}"), why)])
}

/// The claims of an adapter that is only there to receive an export.
fn adapter_for_export(args: &AdapterProve) -> Adapter {
    Adapter { name: args.of.name.clone(), ..Adapter::default() }
}
