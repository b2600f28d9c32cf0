//! Contact sheets, comparisons and stacks, by the built program on files.

use std::fs::File;
use std::path::Path;
use std::process::Stdio;

use crate::support::{Project, SMALL};

/// A PNG of one colour: 8 bits of each of its samples.
fn png(path: &Path, (width, height): (u32, u32), colour: &[u8]) {
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    let kinds = [png::ColorType::Grayscale, png::ColorType::GrayscaleAlpha, png::ColorType::Rgb, png::ColorType::Rgba];
    let mut encoder = png::Encoder::new(File::create(path).unwrap(), width, height);
    encoder.set_color(kinds[colour.len() - 1]);
    let bytes = colour.repeat((width * height) as usize);
    encoder.write_header().unwrap().write_image_data(&bytes).unwrap();
}

/// An OpenEXR of one light, with a corner of its own.
fn exr(path: &Path, light: f32, corner: f32) {
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    exr::prelude::write_rgb_file(path, 32, 18, |x, y| {
        if x + y == 0 { (corner, corner, corner) } else { (light, light, light) }
    })
    .unwrap();
}

/// A PNG that was drawn: its width, and its pixels.
fn drawn(path: &Path) -> (usize, Vec<[u8; 3]>) {
    let mut reader = png::Decoder::new(std::io::BufReader::new(File::open(path).unwrap())).read_info().unwrap();
    let mut data = vec![0; reader.output_buffer_size().unwrap()];
    let info = reader.next_frame(&mut data).unwrap();
    assert_eq!(info.color_type, png::ColorType::Rgb);
    (info.width as usize, data.as_chunks::<3>().0.to_vec())
}

/// The size of the largest area of one colour within a column of cells: what a cell of one colour shows.
fn commonest((width, pixels): &(usize, Vec<[u8; 3]>), columns: usize, column: usize) -> [u8; 3] {
    let (from, to) = (width * column / columns, width * (column + 1) / columns);
    let mut counts = std::collections::HashMap::new();
    for row in pixels.chunks(*width).skip(50) {
        row[from..to]
            .iter()
            .filter(|pixel| **pixel != [28, 30, 34])
            .for_each(|pixel| *counts.entry(*pixel).or_insert(0) += 1);
    }
    counts.into_iter().max_by_key(|(_, count)| *count).unwrap().0
}

#[test]
fn a_contact_sheet_shows_light_alpha_and_what_is_not_there() {
    let project = Project::with(SMALL);
    for frame in 1..=6 {
        exr(&project.path(&format!("light/x.{frame:04}.exr")), 0.18, frame as f32 / 10.0);
    }
    std::fs::remove_file(project.path("light/x.0003.exr")).unwrap();
    let bytes = std::fs::read(project.path("light/x.0004.exr")).unwrap();
    project.write("light/x.0004.exr", &bytes[..bytes.len() - 40]);
    exr(&project.path("light/x.0006.exr"), 0.0, 0.0);
    for (exposure, grey) in [("0", 118u8), ("1", 162), ("-2", 60)] {
        let words = format!(
            "contact light/x.{{frame:4}}.exr -o light.png --columns 6 --width 1200 --exposure {exposure} --replace --json"
        );
        let said = project.say(&words).ended(0).json();
        let states: Vec<&str> = said["rows"][0]["frames"]
            .as_array()
            .unwrap()
            .iter()
            .map(|frame| frame["state"].as_str().unwrap())
            .collect();
        assert_eq!(states, ["good", "good", "missing", "broken", "good", "odd"]);
        let sheet = drawn(&project.path("light.png"));
        assert_eq!(sheet.0, 1200);
        // 18 % grey is 118 of 255 in sRGB (IEC 61966-2-1), and each stop doubles the light.
        let shown = commonest(&sheet, 6, 0);
        assert!(shown.iter().all(|value| value.abs_diff(grey) <= 1), "{exposure}: {shown:?}");
        assert_eq!(commonest(&sheet, 6, 2), [46, 49, 55], "nothing is shown of what is missing");
        assert_eq!(commonest(&sheet, 6, 5), [0; 3]);
        // Lines over what is missing and broken, a frame around what is odd: seen without colours.
        let (from, to) = (sheet.0 / 6 * 3, sheet.0 / 6 * 4);
        let crossed = sheet.1.chunks(sheet.0).skip(60).filter(|row| row[from..to].contains(&[255, 138, 128])).count();
        assert!(crossed > 50, "{crossed}");
    }
    png(&project.path("alpha/a.0001.png"), (32, 18), &[255, 0, 0, 0]);
    png(&project.path("alpha/a.0002.png"), (32, 18), &[255, 0, 0, 255]);
    project.say("contact alpha/a.{frame:4}.png -o alpha.png --columns 2").ended(0);
    let sheet = drawn(&project.path("alpha.png"));
    assert!([[102; 3], [153; 3]].contains(&commonest(&sheet, 2, 0)), "a checkerboard lies below");
    assert_eq!(commonest(&sheet, 2, 1), [255, 0, 0]);
    // What is there is never written over unasked, and a frame never: not even where no sheet plans it.
    for words in ["contact alpha/a.{frame:4}.png", "compare alpha/a.0001.png alpha/a.0002.png"] {
        let before = project.stamps("alpha");
        let said = project.say(&format!("{words} -o alpha/a.0002.png --replace"));
        assert!(said.code == 1 && said.err.contains("one of the pictures"), "{words}: {}", said.err);
        assert_eq!(project.stamps("alpha"), before);
    }
    let said = project.say("contact alpha/a.{frame:4}.png -o alpha.png");
    assert!(said.code == 1 && said.err.contains("--replace"), "{}: {}", said.code, said.err);
    project.say("run --frames 1-2").ended(0);
    let before = project.stamps("renders");
    let said = project.say("contact --frames 1-2 -o renders/crossing/crossing_beauty.0001.png --replace");
    assert!(said.code == 1 && said.err.contains("plans"), "{}: {}", said.code, said.err);
    // Nor one of a job that was not asked for, or of another mode.
    project.write("truepath.toml", SMALL.replace("[checks]", "[[job]]\nname = \"other\"\nscene = \"scenes/crossing.gltf\"\ncamera = \"mast\"\nframes = \"1-2\"\n[modes.draft]\npath = \"{renders}/draft/{job}.{frame:4}.{ext}\"\n[checks]"));
    for name in ["renders/other/other_beauty.0002.png", "renders/draft/crossing.0007.png"] {
        project.write(name, "somebody's");
        for words in ["contact crossing --replace -o", "compare crossing other --frames 1-2 --replace -o"] {
            let said = project.say(&format!("{words} {name}"));
            assert!(said.code == 1 && said.err.contains("plans"), "{words} {name}: {} {}", said.code, said.err);
        }
        assert_eq!(std::fs::read(project.path(name)).unwrap(), b"somebody's");
        std::fs::remove_file(project.path(name)).unwrap();
    }
    for folder in ["renders/other", "renders/draft"] {
        std::fs::remove_dir(project.path(folder)).unwrap();
    }
    assert_eq!(project.stamps("renders"), before);
    for (words, why) in [
        ("contact -o sheet.jpg", "not a PNG"),
        ("contact nothing/x.{frame}.png -o n.png", "nothing"),
        ("contact --columns 900 -o n.png", "pixels for each picture"),
        ("contact -o none/n.png", "no folder"),
    ] {
        let said = project.say(words);
        assert!(said.code != 0 && said.err.contains(why), "{words}: {}", said.err);
    }
    assert!(!project.path("n.png").exists());
}

#[test]
fn rows_of_a_sheet_are_series_passes_cameras_or_jobs() {
    let two = SMALL
        .replace(
            "camera = \"quay\"\nframes = \"1-24\"",
            "each = { camera = [\"quay\", \"mast\"] }\nframes = \"1-12\"\npasses = [\"beauty\", \"mask\"]",
        )
        .replace("{job}_{pass}", "{camera}_{pass}");
    let project = Project::with(&two);
    project.say("run").ended(0);
    let rows = |words: &str| -> Vec<String> {
        let said = project.say(&format!("contact -o sheet.png --replace --json {words}")).ended(0).json();
        let row = |row: &serde_json::Value| {
            let frames = row["frames"].as_array().unwrap();
            let ends = [&frames[0]["frame"], &frames[frames.len() - 1]["frame"]];
            format!("{} {} {}-{}", row["series"].as_str().unwrap(), frames.len(), ends[0], ends[1])
        };
        said["rows"].as_array().unwrap().iter().map(row).collect()
    };
    assert_eq!(
        rows(""),
        [
            "crossing/quay/beauty 8 1-12",
            "crossing/quay/mask 8 1-12",
            "crossing/mast/beauty 8 1-12",
            "crossing/mast/mask 8 1-12"
        ]
    );
    assert_eq!(rows("--rows pass --every 4"), ["crossing/quay/beauty 3 1-9", "crossing/quay/mask 3 1-9"]);
    assert_eq!(rows("--rows camera --columns 3"), ["crossing/quay/beauty 3 1-12", "crossing/mast/beauty 3 1-12"]);
    assert_eq!(rows("--camera mast --pass mask"), ["crossing/mast/mask 12 1-12"]);
}

#[test]
fn one_bit_of_one_frame_among_a_thousand_is_found() {
    let project = Project::with(SMALL);
    for frame in 0..1000u32 {
        let colour = [(frame % 251) as u8, 7, 99];
        for folder in ["old", "new"] {
            png(&project.path(&format!("{folder}/deep/x.{frame:04}.png")), (8, 6), &colour);
        }
    }
    project.say("compare old new").ended(0);
    png(&project.path("new/deep/x.0637.png"), (8, 6), &[(637 % 251) as u8 ^ 1, 7, 99]);
    let said = project.say("compare old new").ended(1).out;
    assert!(said.contains("identical bytes   0-636,638-999") && said.contains("differing         637"), "{said}");
    assert!(
        said.contains("largest 0.0039 (R at 0,0), mean 0.0013\n")
            && said.contains("different: 999 identical bytes, 1 differing"),
        "{said}"
    );
    project.say("compare old new --tolerance 1/255").ended(0);
    project.say("compare old new --tolerance 1/256").ended(1);
    let names = "compare old/deep/x.{frame:4}.png new/deep/x.{frame:4}.png";
    let said = project.say(&format!("{names} --json")).ended(1).json();
    let frames = said["rows"][0]["frames"].as_array().unwrap();
    let odd: Vec<i64> = frames
        .iter()
        .filter(|frame| frame["outcome"] != "identical bytes")
        .map(|frame| frame["frame"].as_i64().unwrap())
        .collect();
    assert_eq!((frames.len(), odd), (1000, vec![637]));
    project.say(&format!("{names} --frames 0-636")).ended(0);
    // Only on one side, cut off, of another size: each makes it unlike.
    std::fs::remove_file(project.path("new/deep/x.0001.png")).unwrap();
    png(&project.path("new/deep/x.0002.png"), (9, 6), &[2, 7, 99]);
    let bytes = std::fs::read(project.path("new/deep/x.0003.png")).unwrap();
    project.write("new/deep/x.0003.png", &bytes[..bytes.len() - 5]);
    let said = project.say("compare old new -o worst.png").ended(1).out;
    for part in
        ["only on one side  1", "other size        2", "8x6 before, 9x6 after", "unreadable        3", "after: "]
    {
        assert!(said.contains(part), "{part}: {said}");
    }
    assert_eq!(drawn(&project.path("worst.png")).0, 1280);
    for (words, why) in [
        ("compare old new --tolerance -1", "not a number"),
        ("compare old", "needs two sides"),
        ("compare old nowhere", "no job"),
        ("compare crossing --version 1 2 --mode draft", "together"),
        ("compare nowhere/x.{frame}.png old/deep/x.{frame}.png", "nowhere"),
        ("compare old new -o worst.png", "--replace"),
    ] {
        let said = project.say(words);
        assert!(
            said.code != 0 && format!("{}{}", said.out, said.err).contains(why),
            "{words}: {} {}",
            said.code,
            said.err
        );
    }
}

#[test]
fn versions_modes_passes_and_jobs_of_a_sheet_are_compared() {
    let sheet = SMALL
        .replace(
            "path = \"{renders}/{job}/{job}_{pass}",
            "version = 1\npath = \"{renders}/{job}/{version}/{job}_{pass}",
        )
        .replace("\"1-24\"", "\"1-6\"\npasses = [\"beauty\", \"mask\"]");
    let second = sheet[sheet.find("[[job]]").unwrap()..sheet.find("[checks]").unwrap()]
        .replace("\"crossing\"", "\"second\"")
        .replace("quay", "mast");
    let sheet = sheet.replace("[checks]", &format!("{second}[modes.draft]\nscale = 50\npath = \"{{renders}}/draft/{{job}}_{{pass}}.{{frame:4}}.{{ext}}\"\n[checks]"));
    let project = Project::with(&sheet);
    project.say("run").ended(0);
    project.say("run --mode draft").ended(0);
    project.say("run --set version=2 --set camera=mast crossing --pass beauty --final").ended(0);
    project.say("run --set version=2 crossing --pass mask --final").ended(0);
    let said = project.say("compare crossing --version 1 2").ended(1).out;
    assert!(said.contains("different: 6 identical bytes, 6 differing"), "only one pass is another: {said}");
    project.say("compare crossing --version 2 1 --pass mask").ended(0);
    project.say("compare crossing --version 2 --pass mask").ended(0);
    // A draft is half as large: both are brought to its size, and are nearly the same then.
    let said = project.say("compare crossing --mode draft --json").ended(1).json();
    assert_eq!((&said["before"], &said["after"]), (&"the finals".into(), &"mode draft".into()));
    let frames = || said["rows"].as_array().unwrap().iter().flat_map(|row| row["frames"].as_array().unwrap());
    assert_eq!(frames().count(), 12);
    assert!(frames().all(|frame| frame["outcome"] == "differing" && frame["psnr"].as_f64().unwrap() > 14.0), "{said}");
    project.say("compare crossing --mode draft --tolerance 1").ended(0);
    let said = project.say("compare crossing --passes beauty mask").ended(1).out;
    assert!(said.contains("6 differing") || said.contains("6 other channels"), "{said}");
    let said = project.say("compare crossing second --pass beauty").ended(1).out;
    assert!(said.contains("6 differing"), "{said}");
    // What has no meaning is said, and not taken for what there is.
    for (words, why) in [("--mode drafd", "no mode `drafd`"), ("--version 1 second", "--version:1:12")] {
        let said = project.say(&format!("compare crossing {words}")).ended(2);
        assert!(said.err.contains(why), "{words}: {}", said.err);
    }
    assert!(project.say("verify --mode drafd").ended(2).err.contains("no mode `drafd`"));
    // What is on one side only is a difference.
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    let (first, second) = sheet.split_at(sheet.find("\"second\"").unwrap());
    let lacking = second.replace("\"1-6\"", "\"1-4\"").replace("[\"beauty\", \"mask\"]", "[\"beauty\"]");
    project.write("lacking.toml", format!("{first}{lacking}"));
    let said = project.say("compare crossing second -f lacking.toml").ended(1).out;
    assert!(said.contains("4 differing, 8 only on one side"), "{said}");
    let rows = project.say("compare crossing second -f lacking.toml --json").ended(1).json()["rows"].clone();
    assert_eq!(rows[1]["frames"][0]["after"], serde_json::Value::Null, "{rows}");
    let said = project.say("compare crossing --version 1 1");
    assert!(said.code != 0 && said.err.contains("the same files"), "{}", said.err);
    let said = project.say("compare crossing --version 7 8");
    assert!(said.code != 0 && said.err.contains("no files found"), "{}", said.err);
}

/// A sheet with two passes that share nothing.
fn two_passes(frames: &str) -> Project {
    Project::with(&SMALL.replace("\"1-24\"", &format!("\"{frames}\"\npasses = [\"beauty\", \"mask\"]")))
}

#[test]
fn stacks_land_like_frames_and_never_on_them() {
    let project = two_passes("1-6");
    project.say("run").ended(0);
    let out = "stacks/{job}.{frame:4}.ora";
    std::fs::remove_file(project.path("renders/crossing/crossing_mask.0003.png")).unwrap();
    let said = project.say(&format!("stack -o {out}")).ended(1).out;
    assert!(said.contains("written     1-2,4-6") && said.contains("skipped     3"), "{said}");
    project.say("run").ended(0);
    let before = project.stamps("stacks");
    let said = project.say(&format!("stack -o {out}")).ended(0).out;
    assert!(said.contains("written     3") && said.contains("unchanged   1-2,4-6"), "{said}");
    assert!(before.iter().all(|(name, stamp)| project.stamps("stacks")[name] == *stamp), "what is right is left alone");
    // One that holds other pixels is told, and stays until somebody says so.
    project.write("stacks/crossing.0002.ora", "somebody's own");
    let said = project.say(&format!("stack -o {out}")).ended(1).out;
    assert!(said.contains("different   2") && said.contains("--replace"), "{said}");
    assert_eq!(std::fs::read(project.path("stacks/crossing.0002.ora")).unwrap(), b"somebody's own");
    project.say(&format!("stack -o {out} --replace")).ended(0);
    let frames = project.stamps("renders");
    for (words, why) in [
        ("stack -o stacks/all.ora", "no frame number"),
        ("stack -o stacks/{pass}.{frame}.ora", "all passes"),
        ("stack -o stacks/x.{frame}.exr", "of the type png"),
        ("stack -o stacks/x.{frame}.psd", "not that of a stack"),
        ("stack -o stacks/{nothing}.{frame}.ora", "{nothing}"),
        ("stack --pass mask -o stacks/x.{frame}.ora", "only one pass"),
        ("stack", "needs -o"),
    ] {
        let said = project.say(words);
        assert!(said.code != 0 && said.err.contains(why), "{words}: {} {}", said.code, said.err);
    }
    assert_eq!(project.stamps("renders"), frames);
    let list = project.say("stack --json").ended(0).json();
    let passes = list["jobs"][0]["passes"].as_array().unwrap();
    let of =
        |pass: &serde_json::Value| ["pass", "kind", "type", "whole"].map(|key| pass[key].as_str().unwrap().to_owned());
    assert_eq!(
        passes.iter().map(of).collect::<Vec<_>>(),
        [["beauty", "colour", "png", "1-6"], ["mask", "mask", "png", "1-6"]]
    );
    assert!(passes[1]["pattern"].as_str().unwrap().ends_with("crossing_mask.{frame:4}.png"));
    // Planned names are refused, whatever stands there.
    let tiff = Project::with(
        &SMALL.replace("\"1-24\"", "\"1-2\"\npasses = [\"beauty\", \"mask\"]").replace("\"png\"", "\"tiff\""),
    );
    tiff.say("run").ended(0);
    let said = tiff.say("stack -o renders/crossing/crossing_beauty.{frame:4}.tif --replace");
    assert!(said.code != 0 && said.err.contains("plans"), "{}", said.err);
    tiff.say("stack -o stacks/{job}.{frame:4}.tif").ended(0);
    let two = Project::with(
        &SMALL
            .replace("camera = \"quay\"", "each = { camera = [\"quay\", \"mast\"] }\npasses = [\"beauty\", \"mask\"]")
            .replace("\"1-24\"", "\"1-2\"")
            .replace("{job}_{pass}", "{camera}_{pass}"),
    );
    two.say("run").ended(0);
    let said = two.say("stack -o stacks/{job}.{frame:4}.ora");
    assert!(said.code != 0 && said.err.contains("the same files"), "{}", said.err);
}

#[test]
fn a_stack_that_is_killed_leaves_whole_files_and_nothing_else() {
    let project = two_passes("1-60");
    project.say("run").ended(0);
    let mut cut_short = 0;
    for more in [0, 500, 4_000, 20_000, 60_000] {
        let _ = std::fs::remove_dir_all(project.path("stacks"));
        let mut child = project.command();
        child.args(["stack", "-o", "stacks/{job}.{frame:4}.tif"]).stdout(Stdio::null()).stderr(Stdio::null());
        let mut child = child.spawn().unwrap();
        cut_short += usize::from(project.until_written(&mut child, more));
        child.kill().unwrap();
        child.wait().unwrap();
        let said = project.say("stack -o stacks/{job}.{frame:4}.tif").ended(0).out;
        assert!(!said.contains("different"), "what bears a name is whole: {said}");
        let left = project.files("stacks");
        assert!(left.len() == 60 && left.iter().all(|name| name.ends_with(".tif")), "{left:?}");
        let hidden = std::fs::read_dir(project.path("stacks")).unwrap().count();
        assert_eq!(hidden, 60, "what the killed one left is gone");
    }
    assert!(cut_short > 0, "no kill came in time");
    // Two at once make every file once, and none fails for the other.
    std::fs::remove_dir_all(project.path("stacks")).unwrap();
    let start = || {
        let mut child = project.command();
        child.args(["stack", "-o", "stacks/{job}.{frame:4}.tif"]).stdout(Stdio::piped());
        child.spawn().unwrap()
    };
    for child in [start(), start()].map(|child| child.wait_with_output().unwrap()) {
        assert!(child.status.success(), "{}", String::from_utf8_lossy(&child.stdout));
    }
    assert_eq!(project.files("stacks").len(), 60);
}
