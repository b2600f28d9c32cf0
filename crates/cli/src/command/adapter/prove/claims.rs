//! What an adapter claims, a sheet for each claim.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::Value;
use truepath_core::adapter::{Adapter, Arrangement, Per, Word, needs};
use truepath_core::catalogue::{self, FileType};
use truepath_core::diagnostic::Slug;
use truepath_core::sheet::{FileOption, Key};

use crate::args::AdapterProve;

/// One claim: its name and the sheet that tries it.
pub struct Claim {
    pub name: String,
    pub sheet: String,
    /// Whether all pictures that come out of it show something else.
    pub differ: bool,
    /// Of which frame it shows what that frame shows among others.
    pub alone: Option<&'static str>,
}

/// What is claimed, a sheet for each.
pub fn claims(args: &AdapterProve, adapter: &Adapter, scene: &Path, cameras: &[String]) -> Vec<Claim> {
    let accepts = &adapter.accepts;
    let types: Vec<&FileType> =
        catalogue::PICTURES.iter().filter(|known| accepts.takes(FileOption::Type, known.name)).collect();
    let mut all = Vec::new();
    let mut add = |name: String, format: String, job: String| {
        all.push(Claim { name, sheet: sheet(args, adapter, scene, (&format, &job)), differ: false, alone: None });
    };
    let several = if adapter.per == Per::List { "frames = \"9,11\"" } else { "frames = \"9-10\"" };
    for known in &types {
        for (name, format) in rows(adapter, known) {
            add(name, format, several.to_owned());
        }
    }
    let Some(first) = types.first() else { return all };
    if combined(adapter, first).is_empty() {
        add(
            "all options together".to_owned(),
            ClaimedOptions::together(adapter, first).text(first),
            several.to_owned(),
        );
    }
    let kind = ClaimedOptions::of(adapter, first).text(first);
    for (name, job) in ways(adapter) {
        add(name, kind.clone(), job);
    }
    if adapter.per != Per::Frame {
        // One that numbers its frames by itself may give them in another order.
        add("the last frame alone".to_owned(), kind.clone(), "frames = \"11\"".to_owned());
    }
    if adapter.carries(&Key::Size) {
        add("another size".to_owned(), kind.clone(), several.to_owned());
    }
    let layered = types.iter().find(|known| known.layers).map(|known| ClaimedOptions::of(adapter, known).text(known));
    for (name, format, job) in arrangements(adapter, &kind, layered, several) {
        add(name, format, job);
    }
    for claim in all.iter_mut().filter(|claim| claim.name.starts_with("frame") || claim.name.starts_with("passes")) {
        claim.differ = true;
    }
    for claim in all.iter_mut().filter(|claim| claim.name == "another size") {
        claim.sheet = claim.sheet.replace("size = \"64x36\"", "size = \"48x40\"");
    }
    for claim in all.iter_mut().filter(|claim| claim.name == "the last frame alone") {
        claim.alone = Some("0011");
    }
    all.extend(varied(args, adapter, scene, (first, several)));
    if let [one, other, ..] = cameras
        && adapter.carries(&Key::Camera)
    {
        let job = format!("{several}\neach = {{ camera = [{}, {}] }}\n", quoted(one), quoted(other));
        let sheet = sheet(args, adapter, scene, (&kind, &job));
        let sheet = sheet.replace("tiny{_pass}", "tiny_{camera}{_pass}");
        all.push(Claim { name: "two cameras".to_owned(), sheet, differ: true, alone: None });
    }
    all
}

/// The file options that a type is claimed with, one at a time, each with its format.
fn rows(adapter: &Adapter, known: &FileType) -> Vec<(String, String)> {
    let base = ClaimedOptions::of(adapter, known);
    let mut rows = Vec::new();
    let mut row = |name: String, option: &str, value: String| {
        rows.push((format!("{} {name}", known.name), base.with(option, value).text(known)));
    };
    for (option, values) in claimed(adapter, known).into_iter().filter(|(name, _)| is_told_alone(adapter, name)) {
        let name = |value: &str| if option == "bits" { format!("{value} bits") } else { value.to_owned() };
        values.into_iter().for_each(|value| row(name(&value), option, value));
    }
    for options in combined(adapter, known) {
        let name = options.0.values().cloned().collect::<Vec<_>>().join(" ");
        rows.push((format!("{} {name}", known.name), options.text(known)));
    }
    if rows.is_empty() {
        rows.push((known.name.to_owned(), base.text(known)));
    }
    rows
}

/// The ways in which frames are handed over, each with what its job has for it.
fn ways(adapter: &Adapter) -> Vec<(String, String)> {
    let frames = |name: &str, expr: &str| (format!("frames as a {name}"), format!("frames = \"{expr}\""));
    let mut ways = match adapter.per {
        Per::List | Per::Pipe => vec![frames("list", "9-11"), frames("list with steps", "7-11/2")],
        Per::Range => vec![frames("range", "9-11")],
        Per::Frame => vec![("frame by frame".to_owned(), "frames = \"9,11\"".to_owned())],
    };
    if adapter.per == Per::Range && adapter.uses("step") {
        ways.push(frames("range with a step", "7-11/2"));
    }
    ways
}

/// The ways in which passes share calls and files: name, format and job.
fn arrangements(
    adapter: &Adapter,
    kind: &str,
    layered: Option<String>,
    several: &str,
) -> Vec<(String, String, String)> {
    let mut all = Vec::new();
    let mut add = |name: String, format: String, job: String| all.push((name, format, job));
    let two = "passes = [\"beauty\", \"depth\"]\n";
    let apart = "passes = [\"beauty\", { name = \"depth\", format = \"second\" }]\n";
    for arrangement in adapter.can.iter().flatten() {
        match arrangement {
            Arrangement::Pass => {
                add("passes in a call each".to_owned(), kind.to_owned(), format!("{several}\n{apart}"))
            }
            Arrangement::Call => add("passes in one call".to_owned(), kind.to_owned(), format!("{several}\n{two}")),
            Arrangement::File => {
                if let Some(kind) = &layered {
                    let job = format!("{several}\n{two}layers = \"together\"\n");
                    add("passes in one file".to_owned(), kind.to_owned(), job);
                }
            }
        }
    }
    all
}

/// File options of a type, by name.
#[derive(Clone, Default)]
struct ClaimedOptions(BTreeMap<String, String>);

impl ClaimedOptions {
    /// What an adapter cannot do without: the first that it claims of each, or a combination that it has a word for.
    fn of(adapter: &Adapter, known: &FileType) -> ClaimedOptions {
        if let Some(first) = combined(adapter, known).into_iter().next() {
            return first;
        }
        let first = claimed(adapter, known).into_iter().map(|(name, values)| (name, values.into_iter().next()));
        let needed = first.chain([("quality", known.quality.then(|| "80".to_owned()))]);
        ClaimedOptions::given(needed.filter(|(name, _)| needs(adapter, name)))
    }

    /// Every file option that the adapter hands over, at once: the last that it claims of each.
    fn together(adapter: &Adapter, known: &FileType) -> ClaimedOptions {
        let last = claimed(adapter, known).into_iter().map(|(name, values)| (name, values.into_iter().next_back()));
        ClaimedOptions::given(last.filter(|(name, _)| adapter.uses(name)))
    }

    fn given<'n>(all: impl Iterator<Item = (&'n str, Option<String>)>) -> ClaimedOptions {
        ClaimedOptions(all.filter_map(|(name, value)| Some((name.to_owned(), value?))).collect())
    }

    fn with(&self, option: &str, value: String) -> ClaimedOptions {
        let mut all = self.clone();
        all.0.insert(option.to_owned(), value);
        all
    }

    /// The lines of a format.
    fn text(&self, known: &FileType) -> String {
        let value = |value: &String| if value.parse::<u32>().is_ok() { value.clone() } else { quoted(value) };
        let lines: String = self.0.iter().map(|(name, own)| format!("{name} = {}\n", value(own))).collect();
        format!("type = \"{}\"\n{lines}", known.name)
    }
}

/// What an adapter claims of the file options of a type.
fn claimed(adapter: &Adapter, known: &FileType) -> [(&'static str, Vec<String>); 3] {
    let of = |option: FileOption, all: Vec<String>| {
        (option.name(), all.into_iter().filter(|value| adapter.accepts.takes(option, value)).collect())
    };
    [
        of(FileOption::Bits, known.bits.iter().map(ToString::to_string).collect()),
        of(FileOption::Channels, known.channels.iter().map(ToString::to_string).collect()),
        of(FileOption::Compression, known.compressions.iter().map(ToString::to_string).collect()),
    ]
}

/// Whether an option has a token of its own, and not only one together with others.
fn is_told_alone(adapter: &Adapter, option: &str) -> bool {
    adapter.templates().flat_map(|template| template.value.tokens()).any(|token| token.name == option)
}

/// The file options that a program has one word for together, of one type.
fn combined(adapter: &Adapter, known: &FileType) -> Vec<ClaimedOptions> {
    let used = adapter.words.iter().filter(|(names, _)| names.contains('+') && adapter.uses(names));
    let of = |(names, words): (&String, &BTreeMap<String, Word>)| {
        let row = |values: &String| {
            let pairs = names.split('+').zip(values.split('+'));
            let fits = pairs.clone().all(|(name, value)| name != "type" || value == known.name);
            let options = pairs.filter(|(name, _)| ["bits", "channels", "compression", "quality"].contains(name));
            fits.then(|| ClaimedOptions(options.map(|(name, value)| (name.to_owned(), value.to_owned())).collect()))
        };
        words.keys().filter_map(row).collect::<Vec<_>>()
    };
    used.flat_map(of).filter(|options| !options.0.is_empty()).collect()
}

/// Settings that have to change what the pictures show, each in two jobs side by side; and values that have to arrive whole.
fn varied(args: &AdapterProve, adapter: &Adapter, scene: &Path, (first, several): (&FileType, &str)) -> Vec<Claim> {
    let kind = ClaimedOptions::of(adapter, first).text(first);
    let mut all = Vec::new();
    let mut pair = |name: &str, token: &str, each: &str, format: &str| {
        let job = format!("{several}\neach = {{ {each} }}\n");
        let sheet = sheet(args, adapter, scene, (format, &job));
        let sheet = sheet.replace("tiny{_pass}", &format!("tiny_{{{token}|slug}}{{_pass}}"));
        all.push(Claim { name: name.to_owned(), sheet, differ: true, alone: None });
    };
    if adapter.carries(&Key::Fps) {
        pair("two rates", "fps", "fps = [24, 12]", &kind);
    }
    if adapter.carries(&Key::Samples) {
        pair("two sample counts", "samples", "samples = [1, 25]", &kind);
    }
    if adapter.carries(&Key::Colour) {
        pair("linear and display", "colour", "colour = [\"linear\", \"display\"]", &kind);
    }
    let wanted = |known: &&FileType| adapter.accepts.takes(FileOption::Type, known.name);
    if let Some(lossy) = catalogue::PICTURES.iter().filter(wanted).find(|known| known.lossy && known.quality)
        && adapter.uses("quality")
    {
        let of_quality =
            |quality: u32| ClaimedOptions::of(adapter, lossy).with("quality", quality.to_string()).text(lossy);
        let low = of_quality(10);
        pair("two qualities", "quality", "format = [\"first\", \"second\"]", &low);
        if let Some(claim) = all.last_mut() {
            let second = |quality: u32| format!("[formats.second]\n{}", of_quality(quality));
            claim.sheet = claim.sheet.replace(&second(10), &second(95));
        }
    }
    // A value with every sign that means something somewhere.
    let odd = "a b'c\\\"d <e>&$f `g` %h% {{i}} #j";
    if adapter.hands_over(&Key::Var("note".to_owned())) {
        let job = format!("{several}\nvars.note = \"{odd}\"\n");
        all.push(Claim {
            name: "a variable with special characters".to_owned(),
            sheet: sheet(args, adapter, scene, (&kind, &job)),
            differ: false,
            alone: None,
        });
    }
    for (name, native) in &adapter.natives {
        for value in &native.values {
            let job = format!("{several}\nnative.{} = {}\n", quoted(name), quoted(value));
            let sheet = sheet(args, adapter, scene, (&kind, &job));
            all.push(Claim { name: format!("native.{name} = {value}"), sheet, differ: false, alone: None });
        }
    }
    all
}

fn quoted(text: &str) -> String {
    Value::String(text.to_owned()).to_string()
}

/// A sheet that asks for one thing, and for nothing that the adapter does not claim.
pub fn sheet(args: &AdapterProve, adapter: &Adapter, scene: &Path, (format, job): (&str, &str)) -> String {
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
    if needs(adapter, "samples") && !job.contains("samples") {
        settings.push_str("samples = 4\n");
    }
    for pair in &args.set {
        let (key, value) = pair.split_once('=').unwrap_or((pair, ""));
        let plain = format!("{key} = {value}");
        let read = truepath_core::sheet::parse::is_toml(&plain);
        settings.push_str(&if read { format!("{plain}\n") } else { format!("{key} = {}\n", quoted(value)) });
    }
    let quiet = [
        Slug::DataSqueezed,
        Slug::FramesOutsideScene,
        Slug::SceneSpanNotCovered,
        Slug::TypesMixed,
        Slug::EntryUnused,
        Slug::LinearInDisplayType,
        Slug::DisplayInLinearType,
        Slug::ResourceMissing,
        Slug::OtherHome,
        Slug::StepMissesEnd,
        Slug::ColoursLookAlike,
    ];
    let quiet: String = quiet.iter().map(|slug| format!("{slug} = \"off\"\n")).collect();
    format!(
        "sheet = 1\n[roots]\nout = \"out\"\n[formats.first]\n{format}[formats.second]\n{format}[[job]]\nname = \"tiny\"\n{}\
         adapter = {}\nformat = \"first\"\npath = \"{{out}}/{{job}}/{{_pass}}/tiny{{_pass}}.{{frame:4}}.{{ext}}\"\n{settings}{job}\n\
         [checks]\npart-empty = \"off\"\n{quiet}[run]\nretries = 0\nframe_timeout = \"2m\"\n",
        // A program that is not handed a scene has none.
        if adapter.carries(&Key::Scene) || exports {
            format!("scene = {}\n", quoted(&scene.display().to_string()))
        } else {
            String::new()
        },
        quoted(&args.of.name),
    )
}
