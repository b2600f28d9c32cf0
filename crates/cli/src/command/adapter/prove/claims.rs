//! What an adapter claims, a sheet for each claim.

use std::path::Path;

use serde_json::Value;
use truepath_core::adapter::{Adapter, Arrangement, Per};
use truepath_core::catalogue::{self, FileType};
use truepath_core::sheet::Key;

use crate::args::AdapterProve;

/// One claim: its name and the sheet that tries it.
pub struct Claim {
    pub name: String,
    pub sheet: String,
    /// Whether all pictures that come out of it show something else.
    pub differ: bool,
}

/// What is claimed, a sheet for each.
pub fn claims(args: &AdapterProve, adapter: &Adapter, scene: &Path, cameras: &[String]) -> Vec<Claim> {
    let accepts = &adapter.accepts;
    let wanted = |list: &[String], name: &str| list.is_empty() || list.iter().any(|own| own == name);
    let types: Vec<&FileType> = catalogue::PICTURES.iter().filter(|known| wanted(&accepts.types, known.name)).collect();
    let mut all = Vec::new();
    let mut add = |name: String, format: String, job: String| {
        all.push(Claim { name, sheet: sheet(args, adapter, scene, (&format, &job)), differ: false });
    };
    let several = if adapter.per == Per::List { "frames = \"9,11\"" } else { "frames = \"9-10\"" };
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
    add("all options together".to_owned(), together(adapter, first), several.to_owned());
    let kind = format!("type = \"{}\"\n", first.name);
    let frames = |name: &str, expr: &str| (format!("frames as a {name}"), format!("frames = \"{expr}\""));
    let mut ways = match adapter.per {
        Per::List | Per::Pipe => vec![frames("list", "9-11"), frames("list with steps", "7-11/2")],
        Per::Range => vec![frames("range", "9-11")],
        Per::Frame => vec![("frame by frame".to_owned(), "frames = \"9,11\"".to_owned())],
    };
    if adapter.per == Per::Range && adapter.uses("step") {
        ways.push(frames("range with a step", "7-11/2"));
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
    for claim in all.iter_mut().filter(|claim| claim.name.starts_with("frame") || claim.name.starts_with("passes")) {
        claim.differ = true;
    }
    if let [one, other, ..] = cameras
        && adapter.carries(&Key::Camera)
    {
        let quoted = |text: &String| Value::String(text.clone()).to_string();
        let job = format!("{several}\neach = {{ camera = [{}, {}] }}\n", quoted(one), quoted(other));
        let sheet = sheet(args, adapter, scene, (&kind, &job));
        let sheet = sheet.replace("tiny{_pass}", "tiny_{camera}{_pass}");
        all.push(Claim { name: "two cameras".to_owned(), sheet, differ: true });
    }
    all
}

/// Every file option that the adapter hands over, at once: the last that it claims of each.
fn together(adapter: &Adapter, known: &FileType) -> String {
    let accepts = &adapter.accepts;
    let last = |all: Vec<String>, list: &[String]| {
        all.into_iter().rfind(|name| list.is_empty() || list.iter().any(|own| own == name))
    };
    let bits = last(known.bits.iter().map(ToString::to_string).collect(), &accepts.bits);
    let channels = last(known.channels.iter().map(ToString::to_string).collect(), &accepts.channels);
    let compression = last(known.compressions.iter().map(|name| (*name).to_owned()).collect(), &accepts.compressions);
    let options = [("bits", bits), ("channels", channels), ("compression", compression)];
    let options = options.into_iter().filter(|(name, _)| adapter.uses(name));
    let options = options.filter_map(|(name, value)| Some(format!("{name} = \"{}\"\n", value?)));
    format!("type = \"{}\"\n{}", known.name, options.collect::<String>())
}

/// A sheet that asks for one thing, and for nothing that the adapter does not claim.
pub fn sheet(args: &AdapterProve, adapter: &Adapter, scene: &Path, (format, job): (&str, &str)) -> String {
    let quoted = |text: &str| Value::String(text.to_owned()).to_string();
    let exports = adapter.arguments.is_empty() || args.set.iter().any(|pair| pair.starts_with("export="));
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
        "treatments-look-alike",
    ];
    let quiet: String = quiet.iter().map(|slug| format!("{slug} = \"off\"\n")).collect();
    format!(
        "sheet = 1\n[roots]\nout = \"out\"\n[formats.first]\n{format}[formats.second]\n{format}[[job]]\nname = \"tiny\"\n{}\
         adapter = {}\nformat = \"first\"\npath = \"{{out}}/{{job}}/{{_pass}}/tiny{{_pass}}.{{frame:4}}.{{ext}}\"\n{settings}{job}\n\
         [checks]\npart-empty = \"off\"\n{quiet}[run]\nretries = 0\nframe_timeout = \"2m\"\n",
        // A program that is not handed a scene has none.
        if adapter.uses("scene") || adapter.uses("scene_folder") || exports {
            format!("scene = {}\n", quoted(&scene.display().to_string()))
        } else {
            String::new()
        },
        quoted(&args.of.name),
    )
}
