//! Movies: made last, of frames that are proven complete, and judged like any planned file.

use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::support::{Project, SMALL, Said, has};
use serde_json::Value;

/// A job in two cameras and one alone, a movie of each camera, and a reel with sound.
const MOVIES: &str = r#"
[[job]]
name = "arrival"
scene = "scenes/arrival.gltf"
camera = "pier"
frames = "1-6"

[formats.sound]
type = "mov"
codec = "mjpeg"
audio_codec = "pcm"

[[movie]]
name = "review"
of = "crossing"
path = "{renders}/{job}_{camera}{-mode}.mp4"

[[movie]]
name = "reel"
of = ["crossing/mast", "arrival"]
format = "sound"
audio = "harbour.wav"
audio_offset = 0.25
burn = "{project|upper} {job} {name} {frame:4} {timecode}"
start_timecode = "10:00:00:00"
path = "{renders}/reel{-mode}.mov"
"#;

fn sheet() -> String {
    let two = SMALL.replace("camera = \"quay\"", "each = { camera = [\"quay\", \"mast\"] }").replace("1-24", "1-6");
    let two =
        two.replace("{job}_{pass}", "{job}_{camera}_{pass}").replace("[roots]", "[project]\nname = \"ferry\"\n[roots]");
    let draft = "\n[modes.draft]\nframes = \"all/4\"\npath = \"{renders}/draft/{job}_{camera}.{frame:4}.png\"\n";
    format!("{}{MOVIES}{draft}", two.replace("32x18", "64x36"))
}

/// A second of sound, 48000 samples of one channel of 16 bits.
fn sound(loud: i16) -> Vec<u8> {
    let samples: Vec<u8> = (0..48_000i32).flat_map(|at| ((at % 100) as i16 * loud).to_le_bytes()).collect();
    let mut bytes = b"RIFF".to_vec();
    bytes.extend((36 + samples.len() as u32).to_le_bytes());
    bytes.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
    bytes.extend([48_000u32.to_le_bytes(), 96_000u32.to_le_bytes()].concat());
    bytes.extend(b"\x02\0\x10\0data");
    bytes.extend((samples.len() as u32).to_le_bytes());
    bytes.extend(samples);
    bytes
}

fn project(sheet: &str) -> Project {
    let project = Project::with(sheet);
    project.write("harbour.wav", sound(30));
    project
}

/// The states of a document's movies: series and the one state that is not empty.
fn movies(document: &Value) -> Vec<(String, String)> {
    let of = |row: &Value| {
        let names = ["good", "missing", "broken", "wrong", "stale", "changed", "foreign"];
        let state = names.iter().find(|name| row[**name] != "").unwrap();
        (row["series"].as_str().unwrap().to_owned(), (*state).to_owned())
    };
    document["series"].as_array().unwrap().iter().filter(|row| row["kind"] == "movie").map(of).collect()
}

fn states(project: &Project) -> Vec<String> {
    movies(&project.say("verify --json").json()).into_iter().map(|(_, state)| state).collect()
}

/// Runs what `verify` offers, and finds all complete.
fn fix(project: &Project) {
    let offered = project.say("verify --json").ended(1).json()["fix"].clone();
    for line in offered.as_array().unwrap() {
        let words: Vec<&str> = line.as_array().unwrap().iter().map(|word| word.as_str().unwrap()).collect();
        project.call(&words[1..]);
    }
    let said = project.say("verify").ended(0).out;
    assert!(said.contains("complete: "), "{offered} {said}");
}

#[test]
fn movies_come_out_the_same_by_run_by_script_and_by_queue() {
    let (run, script) = (project(&sheet()), project(&sheet()));
    let said = run.say("run").ended(0).err;
    assert!(said.contains("complete: 21 files as planned"), "{said}");
    // A movie comes as soon as its frames have, not when all is over.
    let at = |name: &str| said.find(name).unwrap_or_else(|| panic!("{name}: {said}"));
    assert!(at("crossing-quay_movie-review:") < at("arrival_1-6:"), "{said}");
    script.say("build -o r.sh").ended(0);
    let shell = |words: &[&str]| Said::from(Command::new("sh").arg(script.path("r.sh")).args(words).output().unwrap());
    assert!(shell(&[]).ended(0).out.contains("21 of 21 files are there"));
    assert!(shell(&[]).ended(0).out.contains("movie-reel: already there"));
    script.say("verify").ended(0);
    let names = ["crossing_quay.mp4", "crossing_mast.mp4", "reel.mov"];
    let bytes = |project: &Project| names.map(|name| std::fs::read(project.path("renders").join(name)).unwrap());
    let expected = bytes(&run);
    assert!(bytes(&script) == expected, "by script");
    // A frame that the script makes again makes the movie again.
    std::fs::remove_file(script.path("renders/crossing/crossing_mast_beauty.0002.png")).unwrap();
    let said = shell(&[]).ended(0).out;
    assert!(said.contains("movie-reel\n") && !said.contains("movie-reel: there"), "{said}");
    if has("python3") {
        let queue = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/examples/queue.py");
        for words in ["", " --guarded"] {
            let other = project(&sheet());
            let document = other.say(&format!("build --to json{words}")).ended(0).out;
            other.write("calls.json", &document);
            let calls = std::fs::File::open(other.path("calls.json")).unwrap();
            let ended = Command::new("python3").arg(&queue).stdin(calls).current_dir(other.path("")).output();
            Said::from(ended.unwrap()).ended(0);
            assert!(bytes(&other) == expected, "by queue{words}");
            let document: Value = serde_json::from_str(&document).unwrap();
            let encodes: Vec<&Value> =
                document["calls"].as_array().unwrap().iter().filter(|call| call["kind"] == "encode").collect();
            assert_eq!(encodes.len(), 3);
            assert!(encodes.iter().all(|call| !call["needs"].as_array().unwrap().is_empty()), "{document:#}");
        }
    }
    let log = run.say("log crossing/mast").ended(0).out;
    assert!(log.contains("movie-reel"), "{log}");
    let found = run.say("whose --json renders/reel.mov").ended(0).json()["files"][0].clone();
    assert_eq!([&found["series"], &found["job"]], ["crossing/mast/reel", "crossing/mast"]);
}

#[test]
fn a_movie_is_as_new_as_its_frames_its_sound_and_its_settings() {
    let project = project(&sheet());
    project.say("run").ended(0);
    assert_eq!(states(&project), ["good", "good", "good"]);
    let before = project.stamps("renders");
    assert!(project.say("run").ended(0).err.contains("nothing to render"));
    // One frame made again: the movies that show it, and no other.
    project.say("run crossing/mast --frames 2 --existing replace").ended(0);
    assert_eq!(states(&project), ["good", "good", "good"], "the same bytes came out");
    project.write("harbour.wav", sound(31));
    assert_eq!(states(&project), ["good", "good", "stale"], "{}", project.say("verify").out);
    assert!(project.say("verify").out.contains("its sound changed since it was made"));
    fix(&project);
    let after = project.stamps("renders");
    assert_eq!(before["crossing_quay.mp4"], after["crossing_quay.mp4"], "a good movie is left alone");
    let text = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    project.write("truepath.toml", text.replace("codec = \"mjpeg\"", "codec = \"mjpeg\"\nquality = 50"));
    assert!(project.say("verify").ended(1).out.contains("quality 50, was not given"));
    fix(&project);
    // Not what landed: said, kept, and written over only by who says so.
    let mut bytes = std::fs::read(project.path("renders/crossing_quay.mp4")).unwrap();
    bytes.extend(b"\0\0\0\x09free!");
    project.write("renders/crossing_quay.mp4", bytes);
    assert_eq!(states(&project)[0], "changed");
    assert!(project.say("run").ended(1).err.contains("run --existing replace --only crossing-quay_movie-review"));
    fix(&project);
    // Other frames, another movie; and the run that fixes the frames makes it.
    let old = std::fs::read(project.path("renders/crossing_quay.mp4")).unwrap();
    let text = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    project.write("truepath.toml", text.replace("size = \"64x36\"", "size = \"64x36\"\nsamples = 1"));
    fix(&project);
    assert!(std::fs::read(project.path("renders/crossing_quay.mp4")).unwrap() != old);
    project.say("movie crossing --frames 1-3").ended(2);
}

#[test]
fn a_movie_waits_for_its_frames_and_says_what_it_waits_for() {
    let odd = crate::support::odd(&sheet());
    odd.write("harbour.wav", sound(30));
    let text = std::fs::read_to_string(odd.path("truepath.toml")).unwrap();
    let fails = text.replace("name = \"arrival\"", "name = \"arrival\"\nnative.misbehave = \"exit-zero\"");
    odd.write("truepath.toml", fails);
    let said = odd.say("run").ended(3).err;
    assert!(said.contains("its frames are not complete: "), "{said}");
    assert!(!odd.path("renders/reel.mov").exists() && odd.path("renders/crossing_mast.mp4").exists(), "{said}");
    let document = odd.say("status --json").ended(1).json();
    let states: Vec<String> = movies(&document).into_iter().map(|(_, state)| state).collect();
    assert_eq!(states, ["good", "good", "missing"]);
}

#[test]
fn gaps_are_refused_held_or_closed_and_drafts_last_as_long() {
    let gapped = sheet().replace("frames = \"1-6\"\n\n[formats.sound]", "frames = \"1-2,5-6\"\n\n[formats.sound]");
    let project = project(&gapped);
    let said = project.say("check").ended(1).out;
    assert!(said.contains("error[movie-gaps]: the movie has gaps: frames 3-4"), "{said}");
    for (gaps, frames) in [("hold", 12), ("close", 10)] {
        let text = gapped.replace("name = \"reel\"", &format!("name = \"reel\"\ngaps = \"{gaps}\""));
        project.write("truepath.toml", text);
        project.say("run").ended(0);
        assert_eq!(frames_of(&project.path("renders/reel.mov")), frames, "{gaps}");
    }
    // Every 4th frame, each held: the draft is as long as the movie will be.
    project.write("truepath.toml", sheet());
    project.say("run --mode draft").ended(0);
    assert_eq!(frames_of(&project.path("renders/reel-draft.mov")), 12);
    assert_eq!(frames_of(&project.path("renders/crossing_quay-draft.mp4")), 6);
}

/// How many frames a movie has, from its table of sample sizes (ISO/IEC 14496-12, 8.7.3); only the first track is read.
fn frames_of(path: &Path) -> u32 {
    let bytes = std::fs::read(path).unwrap();
    let at = bytes.windows(4).position(|mark| mark == b"stsz").unwrap();
    u32::from_be_bytes(bytes[at + 12..at + 16].try_into().unwrap())
}

#[test]
fn a_movie_that_is_cut_anywhere_is_found() {
    let project = project(&sheet());
    project.say("run").ended(0);
    let cuts = if std::env::var("TRUEPATH_TORTURE").is_ok_and(|size| size == "full") { 100 } else { 12 };
    for name in ["renders/crossing_quay.mp4", "renders/reel.mov"] {
        let whole = std::fs::read(project.path(name)).unwrap();
        for cut in 0..cuts {
            let length = 1 + (whole.len() - 2) * cut / (cuts - 1);
            project.write(name, &whole[..length]);
            let document = project.say("verify --json").ended(1).json();
            let broken = movies(&document).into_iter().filter(|(_, state)| state == "broken").count();
            assert_eq!(broken, 1, "{name} cut at {length} of {}", whole.len());
        }
        project.write(name, &whole);
    }
}

#[test]
fn killed_at_any_moment_nothing_but_whole_movies_bears_a_final_name() {
    let long = sheet().replace("1-6", "1-240").replace("[run]\nchunk = 6", "[run]\nchunk = 240\nworkers = 2");
    let project = project(&long.replace("burn = ", "#burn = "));
    project.say("run --pass beauty crossing arrival --only nothing").ended(2);
    project.say("run").ended(0);
    let kills = if std::env::var("TRUEPATH_TORTURE").is_ok_and(|size| size == "full") { 50 } else { 6 };
    let names = ["crossing_quay.mp4", "crossing_mast.mp4", "reel.mov"];
    let whole = names.map(|name| std::fs::read(project.path("renders").join(name)).unwrap());
    let mut landed = 0;
    for kill in 0..kills {
        for name in names {
            let _ = std::fs::remove_file(project.path("renders").join(name));
        }
        let mut run = project.command();
        let mut run = run.arg("movie").stdout(Stdio::null()).stderr(Stdio::null()).process_group(0).spawn().unwrap();
        project.until_written(&mut run, 37_000 * kill % 900_000);
        let _ = Command::new("kill").args(["-9", "--", &format!("-{}", run.id())]).status();
        run.wait().unwrap();
        for (name, bytes) in names.iter().zip(&whole) {
            if let Ok(found) = std::fs::read(project.path("renders").join(name)) {
                assert!(found == *bytes, "{name} after kill {kill}");
                landed += 1;
            }
        }
    }
    project.say("movie").ended(0);
    assert!(project.say("verify").ended(0).out.contains("complete"), "{landed}");
    assert!(!project.files("renders").iter().any(|name| name.contains(".truepath")));
}

#[test]
fn pictures_outside_any_sheet_become_a_movie() {
    let project = Project::with(SMALL);
    let render = "understudy render scenes/crossing.gltf --frames 1-9 --size 64x36 --channels rgba --pass";
    std::fs::create_dir_all(project.path("shots")).unwrap();
    project.say(&format!("{render} beauty=shots/ferry.####.png")).ended(0);
    let make = |words: &str| project.say(&format!("movie shots/ferry.{{frame:4}}.png --fps 24000/1001 {words}"));
    let said = make("-o review.mp4").ended(0).out;
    assert_eq!(said, "review.mp4: 9 frames at 24000/1001 per second, 64x36, h264 in mp4\n");
    assert!(make("-o review.mp4").ended(1).err.contains("already exists"));
    make("-o review.mp4 --replace --frames 2-4").ended(0);
    assert_eq!(frames_of(&project.path("review.mp4")), 3);
    std::fs::remove_file(project.path("shots/ferry.0005.png")).unwrap();
    assert!(make("-o gap.mp4").ended(1).err.contains("has gaps: 5 are not there"));
    assert!(make("-o gap.mp4 --gaps hold").ended(0).out.contains("9 frames"));
    assert!(
        make("-o gap.avi --gaps close --codec mjpeg --size 32x20")
            .ended(0)
            .out
            .contains("8 frames at 24000/1001 per second, 32x20")
    );
    for (words, code, says) in [
        ("-o review.txt --gaps close", 2, "has no movie extension"),
        ("-o prores.mp4 --gaps close --codec prores", 2, "cannot hold that codec"),
        ("-o odd.mp4 --gaps close --size 33x19", 3, "even size"),
        ("-o x.mp4 --gaps sometimes", 2, "--gaps sometimes"),
        ("-o x.mp4 --gaps close --over pink", 2, "is not a colour"),
        ("-o nowhere/x.mp4 --gaps close", 1, "there is no folder nowhere"),
        ("-o x.mp4 --gaps close --start-timecode 1:2", 2, "is not a timecode"),
    ] {
        let said = make(words).ended(code).err;
        assert!(said.contains(says), "{words}: {said}");
    }
    // Whatever went wrong left nothing behind.
    let left: Vec<String> =
        project.files("").into_iter().filter(|name| name.contains(".part-") || name.contains("odd.mp4")).collect();
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn what_is_asked_of_a_movie_is_checked_before_the_first_frame() {
    let with = |from: &str, to: &str| {
        let project = project(&sheet().replace(from, to));
        let said = project.say("check");
        said.out + &said.err
    };
    for (from, to, says) in [
        ("audio = \"harbour.wav\"", "audio = \"nothing.wav\"", "error[audio-missing]"),
        ("audio_offset = 0.25", "audio_offset = 9", "warning[audio-length-differs]: the sound lasts 10.000 s"),
        ("10:00:00:00", "10:00:00:24", "error[value-not-understood]: 10:00:00:24 is not a timecode at 24"),
        ("{timecode}", "{timcode}", "error[token-unknown]: `burn` has no token `timcode`"),
        ("\"arrival\"]", "\"arival\"]", "error[movie-of-unknown]"),
        ("\"crossing/mast\", ", "\"crossing/deck\", ", "error[movie-of-unknown]"),
        ("codec = \"mjpeg\"", "codec = \"mjpeg\"\nbits = 10", "error[codec-option-not-held]"),
        ("audio_codec = \"pcm\"", "audio_codec = \"opus\"", "error[audio-codec-not-held]"),
        ("of = \"crossing\"\n", "of = \"crossing\"\nsize = \"33x19\"\n", "error[size-odd]"),
        ("of = \"crossing\"\n", "of = \"crossing\"\nadapter = \"nobody\"\n", "error[adapter-missing]"),
        ("of = \"crossing\"\n", "of = \"crossing\"\nover = \"pink\"\n", "error[value-not-understood]"),
        ("of = \"crossing\"\n", "of = \"crossing\"\nframes = \"40-50\"\n", "error[frames-empty]"),
    ] {
        let said = with(from, to);
        assert!(said.contains(says), "{to}: {said}");
    }
}

/// Pictures of one grey each, told apart by any decoder: frame 1 is 16, each next one 8 brighter.
fn counter(project: &Project, frames: u8) {
    for frame in 1..=frames {
        // Steps of three, from below zero on: the minus sign is no digit.
        let number = i64::from(frame) * 3 - 7;
        let sign = if number < 0 { "-" } else { "" };
        let path = project.path(&format!("count/c.{sign}{:04}.png", number.abs()));
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        let mut encoder = png::Encoder::new(std::fs::File::create(path).unwrap(), 256, 128);
        encoder.set_color(png::ColorType::Rgb);
        let grey = 8 + 8 * frame;
        encoder.write_header().unwrap().write_image_data(&vec![grey; 256 * 128 * 3]).unwrap();
    }
}

/// Every frame of a movie as an independent program decodes it, in red, green and blue.
fn decoded(path: &Path, pixels: usize) -> Vec<Vec<u8>> {
    let words =
        ["-v", "error", "-i", path.to_str().unwrap(), "-map", "0:v", "-fps_mode", "passthrough", "-f", "rawvideo"];
    let matrix = "scale=flags=accurate_rnd+full_chroma_int,format=rgb24";
    let output = Command::new("ffmpeg").args(words).args(["-vf", matrix, "-"]).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    output.stdout.chunks(pixels * 3).map(<[u8]>::to_vec).collect()
}

/// What an independent program says of a movie's pictures: codec, rate, frames.
fn probed(path: &Path) -> String {
    let entries = "stream=codec_name,r_frame_rate,nb_read_packets";
    let words = ["-v", "error", "-select_streams", "v:0", "-count_packets", "-show_entries", entries, "-of", "csv=p=0"];
    let output = Command::new("ffprobe").args(words).arg(path).output().unwrap();
    String::from_utf8(output.stdout).unwrap().trim().to_owned()
}

#[test]
fn every_codec_shows_every_frame_in_its_order_at_its_rate() {
    if !has("ffmpeg") {
        return;
    }
    let project = Project::with(SMALL);
    counter(&project, 12);
    let full = std::env::var("TRUEPATH_TORTURE").is_ok_and(|size| size == "full");
    let rates: &[&str] = if full { &["24", "25", "24000/1001", "60"] } else { &["24000/1001"] };
    // Codec, container, and how the other program calls it.
    let all = [
        ("h264", "mp4", "h264", "built-in"),
        ("h264", "mov", "h264", "built-in"),
        ("mjpeg", "mov", "mjpeg", "built-in"),
        ("mjpeg", "avi", "mjpeg", "built-in"),
        ("h264", "mp4", "h264", "ffmpeg"),
        ("h264", "mov", "h264", "ffmpeg"),
        ("h264", "mkv", "h264", "ffmpeg"),
        ("hevc", "mp4", "hevc", "ffmpeg"),
        ("hevc", "mov", "hevc", "ffmpeg"),
        ("hevc", "mkv", "hevc", "ffmpeg"),
        ("av1", "mp4", "av1", "ffmpeg"),
        ("av1", "mkv", "av1", "ffmpeg"),
        ("av1", "webm", "av1", "ffmpeg"),
        ("vp9", "mp4", "vp9", "ffmpeg"),
        ("vp9", "mkv", "vp9", "ffmpeg"),
        ("vp9", "webm", "vp9", "ffmpeg"),
        ("prores-proxy", "mov", "prores", "ffmpeg"),
        ("prores-lt", "mkv", "prores", "ffmpeg"),
        ("prores", "mov", "prores", "ffmpeg"),
        ("prores-hq", "mov", "prores", "ffmpeg"),
        ("prores-4444", "mov", "prores", "ffmpeg"),
        ("prores-4444-xq", "mov", "prores", "ffmpeg"),
        ("dnxhr-lb", "mov", "dnxhd", "ffmpeg"),
        ("dnxhr-sq", "mov", "dnxhd", "ffmpeg"),
        ("dnxhr-hq", "mov", "dnxhd", "ffmpeg"),
        ("dnxhr-hqx", "mov", "dnxhd", "ffmpeg"),
        ("dnxhr-444", "mov", "dnxhd", "ffmpeg"),
        ("ffv1", "mkv", "ffv1", "ffmpeg"),
        ("ffv1", "avi", "ffv1", "ffmpeg"),
        ("mjpeg", "mov", "mjpeg", "ffmpeg"),
        ("mjpeg", "mkv", "mjpeg", "ffmpeg"),
        ("mjpeg", "avi", "mjpeg", "ffmpeg"),
        ("png", "mov", "png", "ffmpeg"),
        ("png", "avi", "png", "ffmpeg"),
    ];
    for (codec, container, theirs, encoder) in all {
        for rate in rates {
            let name = format!("{codec}-{encoder}.{container}");
            let words = format!(
                "movie count/c.{{frame:4}}.png --gaps close --replace --fps {rate} --codec {codec} --encoder {encoder} -o {name}"
            );
            project.say(&words).ended(0);
            let path = project.path(&name);
            let fraction = if rate.contains('/') { (*rate).to_owned() } else { format!("{rate}/1") };
            assert_eq!(probed(&path), format!("{theirs},{fraction},12"), "{name}");
            let frames = decoded(&path, 256 * 128);
            assert_eq!(frames.len(), 12, "{name}");
            for (at, frame) in frames.iter().enumerate() {
                let expected = 8 + 8 * (at as i32 + 1);
                let middle = i32::from(frame[(64 * 256 + 128) * 3 + 1]);
                assert!((middle - expected).abs() <= 3, "{name}, frame {at}: {middle}, expected {expected}");
            }
        }
    }
}

#[test]
fn colours_come_back_as_they_were_treated_once() {
    if !has("ffmpeg") {
        return;
    }
    let project = Project::with(SMALL);
    std::fs::create_dir_all(project.path("c")).unwrap();
    // A ramp of greys above, primaries and their mixtures below; each patch 16 pixels wide.
    let corners = [
        [255, 0, 0],
        [0, 255, 0],
        [0, 0, 255],
        [255, 255, 0],
        [0, 255, 255],
        [255, 0, 255],
        [255, 255, 255],
        [0, 0, 0],
    ];
    let colour = |x: usize, y: usize| if y < 32 { [(x / 16 * 17) as u8; 3] } else { corners[x / 32] };
    let pixels: Vec<u8> = (0..64).flat_map(|y| (0..256).flat_map(move |x| colour(x, y))).collect();
    let file = std::fs::File::create(project.path("c/c.0001.png")).unwrap();
    let mut encoder = png::Encoder::new(file, 256, 64);
    encoder.set_color(png::ColorType::Rgb);
    encoder.write_header().unwrap().write_image_data(&pixels).unwrap();
    // The same as light: a file of 16 bits that is said to be linear.
    let light = |value: u8| {
        let shown = f64::from(value) / 255.0;
        let light = if shown <= 0.04045 { shown / 12.92 } else { ((shown + 0.055) / 1.055).powf(2.4) };
        ((light * 65_535.0).round() as u16).to_be_bytes()
    };
    let file = std::fs::File::create(project.path("c/l.0001.png")).unwrap();
    let mut encoder = png::Encoder::new(file, 256, 64);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Sixteen);
    let bytes: Vec<u8> = pixels.iter().flat_map(|value| light(*value)).collect();
    encoder.write_header().unwrap().write_image_data(&bytes).unwrap();
    let ways = [
        ("--codec h264 --quality 100 --encoder built-in", "mp4", 2),
        ("--codec mjpeg --quality 100 --encoder built-in", "mov", 4),
        ("--codec h264 --quality 90 --chroma 444 --encoder ffmpeg", "mp4", 3),
        ("--codec prores-4444", "mov", 4),
        ("--codec ffv1", "mkv", 1),
        ("--codec png", "mov", 0),
    ];
    for (options, container, most) in ways {
        for (name, meant) in [("c", "display"), ("l", "linear")] {
            let words = format!(
                "encode c/{name}.{{frame:4}}.png --frames 1 --pixels {meant} --fps 24 {options} -o out.{container} --replace"
            );
            project.say(&words).ended(0);
            let frame = decoded(&project.path(&format!("out.{container}")), 256 * 64).remove(0);
            for (x, y) in (0..16).map(|patch| (patch * 16 + 8, 16)).chain((0..8).map(|patch| (patch * 32 + 16, 48))) {
                let at = (y * 256 + x) * 3;
                for channel in 0..3 {
                    let (is, planned) = (i32::from(frame[at + channel]), i32::from(pixels[at + channel]));
                    assert!((is - planned).abs() <= most, "{options} {meant}: {is} at {x},{y}, should be {planned}");
                }
            }
        }
    }
}

#[test]
fn members_that_share_a_sheet_make_each_movie_once() {
    let project = project(&sheet().replace("[run]\nchunk = 6", "[run]\nchunk = 2"));
    let start = || {
        let mut command = project.command();
        command.args(["run", "--share"]).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
    };
    let members = [start(), start(), start()];
    for member in members {
        let said: Said = member.wait_with_output().unwrap().into();
        assert_eq!(said.code, 0, "{}", said.err);
    }
    assert!(project.say("verify").ended(0).out.contains("complete: 21 files"));
    let landed = |name: &str| {
        let journals = project.files(".truepath/truepath/journal").into_iter();
        let texts = journals
            .map(|file| std::fs::read_to_string(project.path(".truepath/truepath/journal").join(file)).unwrap());
        let line = format!("\"event\":\"landed\",\"series\":\"{name}\"");
        texts.map(|text| text.matches(&line).count()).sum::<usize>()
    };
    for name in ["crossing/quay/review", "crossing/mast/review", "crossing/mast/reel"] {
        assert_eq!(landed(name), 1, "{name}");
    }
}

#[test]
fn an_encoder_of_the_sites_own_gets_numbered_pictures_and_its_words_are_told() {
    if !has("ffmpeg") {
        return;
    }
    let text = sheet().replace("of = \"crossing\"\n", "of = \"crossing\"\nadapter = \"site\"\ngaps = \"close\"\n");
    let project = project(&text.replacen("\"1-6\"", "\"1-2,5-6\"", 1).replace("\"crossing/mast\", ", ""));
    let adapter = "adapter = 1\nname = \"site\"\nkind = \"encoder\"\nprogram = \"ffmpeg\"\narguments = [\"-v\", \"error\", \"-framerate\", \"{fps}\", \"-i\", \"{input}\", [\"-i\", \"{audio}\"], [\"-c:a\", \"{audio_codec}\"], \"-c:v\", \"{codec}\", \"-pix_fmt\", \"yuv420p\", \"{out}\"]\n[words]\ncodec.h264 = \"libx264\"\n[out]\nnumber = \"%d\"\n[accepts]\ntypes = [\"mp4\"]\ncodecs = [\"h264\"]\nbits = [\"8\"]\nchroma = [\"420\"]\naudio_codecs = [\"aac\"]\n";
    project.write("adapters/site.toml", adapter);
    project.say("run").ended(0);
    assert_eq!(decoded(&project.path("renders/crossing_quay.mp4"), 64 * 36).len(), 4);
    assert!(!project.files("renders").iter().any(|name| name.contains(".frames-")));
    project.say("adapter prove site").ended(0);
    project.write("adapters/site.toml", adapter.replace("libx264", "no-such-codec"));
    let said = project.say("run --existing replace crossing/quay").ended(3).err;
    assert!(said.contains("site ended with 1: Unknown encoder 'no-such-codec'"), "{said}");
    // The old movie stays until its successor lands, and is no longer as new as its frames.
    assert_eq!(frames_of(&project.path("renders/crossing_quay.mp4")), 4);
    // An option that the program is never told is found before the first frame.
    let text = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    let asked = "of = \"crossing\"\nformat = \"fine\"\n";
    let text = text.replace("of = \"crossing\"\n", asked).replace(
        "[formats.sound]",
        "[formats.fine]\ntype = \"mp4\"\ncodec = \"h264\"\nquality = 90\n\n[formats.sound]",
    );
    project.write("truepath.toml", text);
    let said = project.say("check").ended(1).out;
    assert!(said.contains("error[setting-not-carried]: site has no `quality` for H.264"), "{said}");
}

#[test]
fn an_interrupt_leaves_nothing_and_a_bad_frame_is_named_whoever_encodes() {
    let project = Project::with(SMALL);
    counter(&project, 12);
    let words = ["movie", "count/c.{frame:4}.png", "--fps", "24", "-o", "long.mp4", "--size", "1920x1080"];
    for signal in ["-INT", "-TERM"] {
        // Long enough to be met under way: two thousand frames, each shown from the one before.
        let mut command = project.command();
        command.args(words).args(["--frames=-4,29", "--gaps", "hold"]).args(["--burn", "{timecode}"]);
        let mut long = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        // It has begun to write, or is done.
        let left = || {
            std::fs::read_dir(project.path(""))
                .unwrap()
                .flatten()
                .any(|entry| entry.file_name().to_string_lossy().starts_with(".truepath-"))
        };
        crate::support::until("its first bytes", || left() || long.try_wait().unwrap().is_some());
        let _ = Command::new("kill").args([signal, &long.id().to_string()]).status();
        let ended = long.wait_with_output().unwrap().status.code();
        // One that was done before the signal came is whole.
        assert!(ended == Some(130) || (ended == Some(0) && project.path("long.mp4").exists()), "{ended:?}");
        let _ = std::fs::remove_file(project.path("long.mp4"));
        assert!(!project.files("").iter().any(|name| name.contains(".truepath-")), "{:?}", project.files(""));
    }
    if !has("ffmpeg") {
        return;
    }
    // A program that says what is no text, and more of it than fits between it and its reader, holds nothing up.
    let script = "#!/bin/sh\nhead -c 300000 /dev/urandom >&2\necho >&2\nexec ffmpeg -v error \"$@\"\n";
    project.write("tools/loud", script);
    let loud = project.path("tools/loud");
    std::fs::set_permissions(&loud, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let ffmpeg = include_str!("../../../core/src/adapter/ffmpeg.toml");
    let ffmpeg = ffmpeg
        .replace("program = \"ffmpeg\"", "program = \"tools/loud\"")
        .replace("name = \"ffmpeg\"", "name = \"loud\"");
    project.write("adapters/loud.toml", ffmpeg);
    let make = |more: &str| project.say(&format!("movie count/c.{{frame:4}}.png --gaps close --fps 24 {more}"));
    assert!(make("-o loud.mkv --encoder loud").ended(0).out.contains("12 frames at 24 per second"));
    let whole = std::fs::read(project.path("count/c.0008.png")).unwrap();
    project.write("count/c.0008.png", &whole[..whole.len() / 2]);
    for encoder in ["built-in", "ffmpeg"] {
        let said = make(&format!("-o bad.mp4 --encoder {encoder}")).ended(3).err;
        assert!(said.contains("c.0008.png: the file is cut off"), "{encoder}: {said}");
    }
    // More than the encoder in the box takes is for another one, and said where there is none.
    let plan = |size: &str, more: &str| {
        let text = sheet().replace("size = \"64x36\"", &format!("size = \"{size}\""));
        project.write("truepath.toml", text.replace("of = \"crossing\"\n", &format!("of = \"crossing\"\n{more}")));
        project.say("check").out
    };
    assert!(
        plan("4096x2160", "adapter = \"built-in\"\n")
            .contains("built-in cannot make H.264 in MP4 of 8 bits, 4096x2160")
    );
    assert!(plan("8x8", "adapter = \"built-in\"\n").contains("error[encoder-missing]"));
    assert!(!plan("4096x2160", "").contains("encoder-missing"));
}
