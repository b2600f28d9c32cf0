//! Every reader of text and of scenes on damaged and invented bytes: none may panic, or take long. A short run by default;
//! `TRUEPATH_FUZZ=60` gives so many seconds to each reader. The same seconds begin with the same inputs.
// The core itself knows neither files nor clock; whoever fuzzes it does.
#![allow(clippy::unwrap_used, clippy::disallowed_types, clippy::disallowed_methods)]

use std::path::Path;
use std::time::{Duration, Instant};

use truepath_core::adapter;
use truepath_core::diagnostic::Findings;
use truepath_core::frames::{FrameExpr, Frames, Timecode};
use truepath_core::pins::Pins;
use truepath_core::run::claim::Table;
use truepath_core::run::history::{Depth, History};
use truepath_core::scene;
use truepath_core::sheet;
use truepath_core::source::FileId;
use truepath_core::template::Template;
use truepath_core::threads::OneByOne;

/// What takes so long for a few kilobytes hangs.
const LONGEST: Duration = Duration::from_secs(300);
/// Inputs for each reader, however slow the machine is.
const LEAST: u64 = 30;

/// Numbers that look like chance, the same every time (splitmix64).
struct Chance(u64);

impl Chance {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((mixed ^ (mixed >> 31)) % most.max(1) as u64) as usize
    }
}

/// Words that readers know: more of them get past the first look.
const WORDS: [&str; 24] = [
    "[[job]]",
    "each = [",
    "{frame:4}",
    "{{",
    "}",
    "1-9999999999",
    "-9223372036854775808",
    "\u{202e}",
    "\"\"\"",
    "[[",
    "from = [\"x\"]",
    "{\"event\":",
    "\"turn\":18446744073709551615",
    "1e309",
    "def Camera \"a\" {",
    "(subLayers = [@a@",
    "\0",
    "\\u0000",
    "NaN",
    "1/0",
    "99999999999999999999/1",
    "[checks]",
    "ä\u{301}",
    "((((((((((((((((",
];

/// A seed with some damage.
fn damaged(seed: &[u8], chance: &mut Chance) -> Vec<u8> {
    let mut bytes = seed.to_vec();
    for _ in 0..=chance.below(4) {
        let at = chance.below(bytes.len() + 1);
        let span = chance.below(40).min(bytes.len() - at);
        match chance.below(6) {
            0 if at < bytes.len() => bytes[at] ^= 1 << chance.below(8),
            1 => drop(bytes.drain(at..at + span)),
            2 => {
                let copy = bytes[at..at + span].to_vec();
                let times = chance.below(20);
                (0..times).for_each(|_| drop(bytes.splice(at..at, copy.iter().copied())));
            }
            3 => bytes.truncate(at),
            4 => (at..at + span).for_each(|at| bytes[at] = chance.below(256) as u8),
            _ => drop(bytes.splice(at..at, WORDS[chance.below(WORDS.len())].bytes())),
        }
        bytes.truncate(1 << 16);
    }
    bytes
}

/// Gives a reader damaged seeds until its time is over.
fn fuzz(seeds: &[Vec<u8>], read: &dyn Fn(&[u8])) {
    let seconds = std::env::var("TRUEPATH_FUZZ").ok().and_then(|text| text.parse().ok()).unwrap_or(0.7);
    let (mut chance, since, mut count) = (Chance(7), Instant::now(), 0u64);
    while count < LEAST || since.elapsed().as_secs_f64() < seconds {
        let input = damaged(&seeds[chance.below(seeds.len())], &mut chance);
        let began = Instant::now();
        read(&input);
        assert!(began.elapsed() < LONGEST, "{} s: {:?}", began.elapsed().as_secs(), String::from_utf8_lossy(&input));
        count += 1;
    }
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

fn file(name: &str) -> Vec<u8> {
    std::fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name)).unwrap()
}

#[test]
fn sheets() {
    let seeds = [file("docs/examples/night-ferry.toml"), file("docs/examples/studio.toml")];
    fuzz(&seeds, &|bytes| {
        let text = text(bytes);
        sheet::parse::sheet(FileId(0), &text, &mut Findings::default());
        sheet::machine::machine(FileId(0), &text, &mut Findings::default());
    });
}

#[test]
fn adapters() {
    let seeds: Vec<Vec<u8>> = adapter::BUILT_IN.iter().map(|(_, text)| text.as_bytes().to_vec()).collect();
    fuzz(&seeds, &|bytes| drop(adapter::adapter(FileId(0), &text(bytes), &mut Findings::default())));
}

#[test]
fn scenes_of_gltf() {
    let gltf = br#"{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[0]}],"nodes":[{"name":"quay","camera":0}],"cameras":[{"type":"perspective","perspective":{"yfov":0.7,"znear":0.1}}],"buffers":[{"uri":"a.bin","byteLength":64}],"bufferViews":[{"buffer":0,"byteLength":64}],"accessors":[{"bufferView":0,"componentType":5126,"count":4,"type":"SCALAR","min":[0],"max":[4]}],"animations":[{"channels":[{"sampler":0,"target":{"node":0,"path":"translation"}}],"samplers":[{"input":0,"output":0}]}]}"#.to_vec();
    let glb = [
        b"glTF\x02\0\0\0".to_vec(),
        (20 + gltf.len() as u32).to_le_bytes().to_vec(),
        (gltf.len() as u32).to_le_bytes().to_vec(),
        b"JSON".to_vec(),
        gltf.clone(),
    ]
    .concat();
    fuzz(&[gltf, glb], &|bytes| {
        let _ = scene::read("a.gltf", bytes);
        let _ = scene::read("a.glb", bytes);
        let _ = scene::part("a.glb", bytes);
    });
}

#[test]
fn scenes_of_usd() {
    let seed = b"#usda 1.0\n(\n    startTimeCode = 1\n    endTimeCode = 96\n    timeCodesPerSecond = 24\n    subLayers = [@quay.usda@]\n)\ndef Xform \"harbour\" (references = @boat.usda@)\n{\n    def Camera \"quay\" { float focalLength = 35 }\n    string note = \"\"\"a } b\"\"\"\n    asset map = @maps/water.png@\n}\n".to_vec();
    fuzz(&[seed], &|bytes| drop(scene::read("a.usda", bytes)));
}

#[test]
fn scenes_of_usd_in_binary_and_in_packages() {
    let seeds = ["harbour.usdc", "small.usdz"].map(|name| file(&format!("crates/core/tests/suite/scenes/{name}")));
    fuzz(&seeds, &|bytes| {
        let _ = scene::read("a.usdc", bytes);
        let _ = scene::read("a.usdz", bytes);
    });
}

#[test]
fn facts() {
    let printed = br#"welcome aboard
{"cameras":["quay"],"frames":"3-7","fps":"24000/1001","size":"64x36","passes":["beauty"],"resources":["a.bin"]}"#;
    let beside = b"cameras = [\"deck\"]\nframes = \"5-8\"\nfps = 25\nsize = \"64x36\"\nresources = [\"closed.scn\"]\n";
    fuzz(&[printed.to_vec(), beside.to_vec()], &|bytes| {
        let text = text(bytes);
        let _ = scene::told::read(&text);
        scene::beside::read(FileId(0), &text, &mut Findings::default());
    });
}

#[test]
fn journals_pins_and_claims() {
    let journal = br#"{"event":"began","truepath":1,"turn":3,"tag":"abcdef","host":"bridge","process":7,"files":2}
{"event":"series","series":"crossing/beauty","pattern":"{renders}/a.{frame:4}.png","shift":0,"made":[["samples","16"]]}
{"event":"started","call":"crossing_1-2","job":"crossing","series":["crossing/beauty"],"frames":"1-2","worker":1,"process":9,"born":"","log":"logs/a.log","t":0.5}
{"event":"landed","series":"crossing/beauty","frame":7,"bytes":0,"digest":"af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262","call":"crossing_1-2"}
{"event":"ended","call":"crossing_1-2","code":0,"ok":true,"files":1,"missing":"2","seconds":1.5,"log":"logs/a.log","t":2.0}
{"event":"over","landed":1,"missing":1,"outcome":"incomplete","t":2.5}
"#;
    let pins = br#"{"jobs":{"crossing@draft":{"version":3,"first":{"v003":{"clock":{"year":2026,"month":11,"day":25,"hour":3,"minute":4,"second":5},"user":"a","host":"b"}}}}}"#;
    let claims = b"crossing_1-6.1\ncrossing_1-6.1.done\ncrossing_7-12.18446744073709551615\n";
    fuzz(&[journal.to_vec(), pins.to_vec(), claims.to_vec()], &|bytes| {
        for depth in [Depth::Landings, Depth::Calls] {
            let mut history = History::default();
            let _ = history.read(bytes, depth, &OneByOne);
            history.sort();
        }
        let text = text(bytes);
        let _ = serde_json::from_str::<Pins>(&text);
        let table = Table::of(text.lines().map(str::to_owned));
        text.lines().for_each(|line| {
            let _ = table.standing(line);
        });
    });
}

#[test]
fn templates_frames_and_timecodes() {
    let seeds = ["{renders}/{job}/{job}_{pass}.{frame:4}.{ext}", "1-96,100-200/4,-7--3,first,last", "01:00:00;02"];
    fuzz(&seeds.map(|seed| seed.as_bytes().to_vec()), &|bytes| {
        let text = text(bytes);
        let _ = Template::parse(&text).map(|template| template.to_string());
        if let Ok(frames) = FrameExpr::parse(&text) {
            let known = frames.frames(Some(&Frames::range(-8, 1_000_000_000_000)), Some(&Frames::range(1, 9)));
            let _ = known.map(|frames| (frames.count(), frames.first(), frames.to_string()));
        }
        [1, 24, 30].into_iter().for_each(|fps| {
            let _ = Timecode::parse(&text, fps);
        });
    });
}
