//! Looking into files that are there: what is odd, what nobody can unpack, what is almost named right, and what may go.

use std::collections::BTreeMap;

use crate::support::{Project, SMALL, rendered};
use serde_json::Value;
use truepath_core::diagnostic::CHECKS;

const SIZE: (u32, u32) = (320, 192);

/// A picture of a harbour that hardly moves: a slope of brightness, waves, and a bar that goes on by two pixels a frame.
fn pixels(frame: u32, change: &dyn Fn(u32, u32, [u8; 4]) -> [u8; 4]) -> Vec<u8> {
    let pixel = |at: u32| {
        let (x, y) = (at % SIZE.0, at / SIZE.0);
        let wave = if (x / 5 + y / 3) % 3 == 0 { 60 } else { 0 };
        let bar = if x / 8 == 4 + frame / 4 && y > 60 && y < 80 { 40 } else { 0 };
        let clear = if y < 20 { 0 } else { 255 };
        let own = [(40 + x / 3 + bar) as u8, (30 + y / 2 + wave) as u8, (90 + (frame * 7 + x) % 5) as u8, clear];
        change(x, y, own)
    };
    (0..SIZE.0 * SIZE.1).flat_map(pixel).collect()
}

fn png(data: &[u8]) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut encoder = png::Encoder::new(&mut bytes, SIZE.0, SIZE.1);
    encoder.set_color(png::ColorType::Rgba);
    encoder.write_header().unwrap().write_image_data(data).unwrap();
    bytes
}

fn plain(frame: u32) -> Vec<u8> {
    png(&pixels(frame, &|_, _, own| own))
}

/// Bytes that pack badly, behind nothing that shows.
fn swollen(frame: u32) -> Vec<u8> {
    png(&pixels(frame, &|x, y, own| {
        let noise = ((x * 7_919 + y * 104_729).wrapping_mul(2_654_435_761) >> 30) as u8;
        [own[0] ^ noise, own[1] ^ (noise >> 1), own[2] ^ noise, own[3]]
    }))
}

/// A float picture with a value that is no number.
fn not_finite(value: f32) -> Vec<u8> {
    use exr::prelude::{Image, SpecificChannels, Vec2, WritableImage};
    let (width, height) = (SIZE.0 as usize, SIZE.1 as usize);
    let pixel = |at: Vec2<usize>| {
        let own = (at.x() + at.y()) as f32 / 400.0;
        (if at == Vec2(77, 50) { value } else { own }, own * 0.5, own * 0.25, if at.y() < 20 { 0.0 } else { 1.0 })
    };
    let mut bytes = std::io::Cursor::new(Vec::new());
    let image = Image::from_channels((width, height), SpecificChannels::rgba(pixel));
    image.write().non_parallel().to_buffered(&mut bytes).unwrap();
    bytes.into_inner()
}

/// A JPEG that says that it is coded arithmetically.
fn arithmetic() -> Vec<u8> {
    let mut bytes = Vec::new();
    let data: Vec<u8> = pixels(1, &|_, _, own| own).chunks(4).flat_map(|own| own[..3].to_vec()).collect();
    let encoder = jpeg_encoder::Encoder::new(&mut bytes, 90);
    encoder.encode(&data, SIZE.0 as u16, SIZE.1 as u16, jpeg_encoder::ColorType::Rgb).unwrap();
    let at = bytes.windows(2).position(|two| two == [0xff, 0xc0]).unwrap();
    bytes[at + 1] = 0xc9;
    bytes
}

/// A sheet for pictures of a type, and a renderer that copies what lies in `made`.
fn copies(kind: &str, channels: &str, frames: &str, more: &str) -> Project {
    let sheet = SMALL
        .replace("type = \"png\"", &format!("type = \"{kind}\""))
        .replace("bits = 8", if kind == "exr" { "bits = \"float\"" } else { "bits = 8" })
        .replace("channels = \"rgb\"", &format!("channels = \"{channels}\""))
        .replace("32x18", &format!("{}x{}", SIZE.0, SIZE.1))
        .replace("\"1-24\"", &format!("\"{frames}\""))
        .replace("\"understudy\"", "\"copier\"")
        .replace("scene-span-not-covered = \"off\"\n", &format!("scene-span-not-covered = \"off\"\n{more}"));
    let project = Project::with(&sheet);
    let body =
        "for f in made/*; do n=${f##*/}; n=${n%%.*}; to=$(echo \"$3\" | sed \"s/####/$n/\"); cp \"$f\" \"$to\"; done\n";
    project.script("copier", body);
    project
}

fn row(said: &Value) -> &Value {
    &said["series"][0]
}

/// Frames of a state, and the reason for them.
fn odd(said: &Value) -> BTreeMap<i64, String> {
    let findings = row(said)["findings"].as_array().unwrap().clone();
    let own = findings.into_iter().filter(|found| found["check"] == "frame-odd" || found["check"] == "frame-unproven");
    own.map(|found| (found["frame"].as_i64().unwrap(), found["message"].as_str().unwrap().to_owned())).collect()
}

/// For each check of rendered files: a type, its pictures, and which frames it finds.
type Case = (&'static str, &'static str, &'static str, Vec<Vec<u8>>, Vec<i64>);

fn cases() -> Vec<Case> {
    let row = |other: Vec<u8>, at: u32| {
        (1..=7).map(|frame| if frame == at { other.clone() } else { plain(frame) }).collect::<Vec<_>>()
    };
    let painted = |frame: u32, change: &dyn Fn(u32, u32, [u8; 4]) -> [u8; 4]| png(&pixels(frame, change));
    let in_block = |x: u32, y: u32| (96..160).contains(&x) && (64..128).contains(&y);
    let black = |_: u32, _: u32, own: [u8; 4]| [0, 0, 0, own[3]];
    let shifted = |x: u32, y: u32, own: [u8; 4]| {
        if in_block(x, y) { [own[0].wrapping_add(90), own[1] / 3, own[2], own[3]] } else { own }
    };
    vec![
        ("picture-black", "png", "rgba", row(painted(4, &black), 4), vec![4]),
        ("picture-one-colour", "png", "rgba", row(painted(4, &|_, _, own| [9, 90, 30, own[3]]), 4), vec![4]),
        ("picture-not-finite", "exr", "rgba", vec![not_finite(1.0), not_finite(f32::NAN), not_finite(1.5)], vec![2]),
        ("alpha-flat", "png", "rgba", row(painted(2, &|_, _, own| [own[0], own[1], own[2], 255]), 2), vec![2]),
        (
            "picture-half-black",
            "png",
            "rgba",
            row(painted(4, &|_, y, own| if y > 90 { [0, 0, 0, 255] } else { own }), 4),
            vec![4],
        ),
        ("picture-repeated", "png", "rgba", row(plain(3), 4), vec![4]),
        (
            "picture-jump",
            "png",
            "rgba",
            row(painted(4, &|_, _, own| [own[0] / 3, own[1] / 3, own[2] / 3, own[3]]), 4),
            vec![4],
        ),
        (
            "picture-block",
            "png",
            "rgba",
            row(painted(4, &|x, y, own| if in_block(x, y) { [60, 60, 60, 255] } else { own }), 4),
            vec![4],
        ),
        ("picture-block", "png", "rgba", row(painted(5, &shifted), 5), vec![5]),
        ("file-size-jump", "png", "rgba", row(swollen(4), 4), vec![4]),
        ("picture-unproven", "jpeg", "rgb", vec![arithmetic()], vec![1]),
    ]
}

#[test]
fn every_odd_picture_is_found_by_its_check_by_verify_and_by_run_and_told_by_status() {
    let named: Vec<&str> = cases().iter().map(|case| case.0).collect();
    for check in CHECKS.iter().filter(|check| check.of_files) {
        assert!(named.contains(&check.name), "no case for {}", check.name);
    }
    for (check, kind, channels, pictures, wanted) in cases() {
        let frames = format!("1-{}", pictures.len());
        let extension = if kind == "jpeg" { "jpg" } else { kind };
        let with = |more: &str| {
            let project = copies(kind, channels, &frames, more);
            for (at, bytes) in pictures.iter().enumerate() {
                project.write(&format!("made/{:04}.{extension}", at + 1), bytes);
            }
            project
        };
        let project = with("");
        let run = project.say("run").ended(0);
        let found = |said: &Value| {
            odd(said)
                .into_iter()
                .filter(|(_, why)| check == "picture-unproven" || why.contains(&format!("[{check}]")))
                .map(|(frame, _)| frame)
                .collect::<Vec<_>>()
        };
        let deep = project.say("verify --deep --json").ended(0).json();
        assert_eq!(found(&deep), wanted, "{check} by verify: {:?}", odd(&deep));
        assert_eq!(odd(&deep).keys().copied().collect::<Vec<_>>(), wanted, "{check}: {:?}", odd(&deep));
        let status = project.say("status --json").ended(0).json();
        assert_eq!(found(&status), wanted, "{check} by run, told by status: {}\n{}", run.err, status);
        assert!(run.err.contains(if check == "picture-unproven" { "unproven" } else { check }), "{check}: {}", run.err);
        assert!(!run.err.contains("\ncomplete"), "{check}: {}", run.err);
        // Without a journal, too: foreign files are looked into all the same.
        std::fs::remove_dir_all(project.path(".truepath/truepath/journal")).unwrap();
        assert_eq!(found(&project.say("verify --deep --json").ended(0).json()), wanted, "{check} of foreign files");
        // Off is silent, by every way.
        let project = with(&format!("{check} = \"off\"\n"));
        let run = project.say("run").ended(0);
        let deep = project.say("verify --deep --json").ended(0).json();
        let told = check == "picture-unproven";
        assert_eq!(!found(&deep).is_empty(), told, "{check} is off: {:?}", odd(&deep));
        assert!(!run.err.contains(&format!("[{check}]")), "{check} is off: {}", run.err);
        // As an error it is no frame: what can be told of a picture by itself does not even land.
        let project = with(&format!("{check} = \"error\"\n"));
        let run = project.say("run");
        assert!(run.code != 0, "{check} is an error: {}", run.err);
        let alone = ["picture-black", "picture-one-colour", "picture-not-finite", "alpha-flat", "picture-unproven"]
            .contains(&check);
        let landed = rendered(&project).len();
        assert_eq!(landed, pictures.len() - usize::from(alone), "{check}: {}", run.err);
        project.say("verify --deep").ended(1);
    }
    // What does nothing odd is not called so.
    let project = copies("png", "rgba", "1-7", "");
    (1..=7).for_each(|frame| project.write(&format!("made/{frame:04}.png"), plain(frame)));
    assert!(project.say("run").ended(0).err.contains("complete: 7 files as planned"));
    assert!(project.say("verify --deep").ended(0).out.contains("complete: 7 files as planned"));
}

#[test]
fn limits_are_read_and_mistaken_ones_are_said() {
    let dark = |_: u32, y: u32, own: [u8; 4]| if y > 100 { [0, 0, 0, 255] } else { own };
    let made = |limit: &str| {
        let project = copies("png", "rgba", "1-3", &format!("picture-half-black = {limit}\n"));
        (1..=3).for_each(|frame| {
            let bytes = if frame == 2 { png(&pixels(frame, &dark)) } else { plain(frame) };
            project.write(&format!("renders/crossing/crossing_beauty.{frame:04}.png"), bytes);
        });
        project
    };
    let half = |(frame, why): (i64, String)| why.contains("picture-half-black").then_some((frame, why));
    let odd_at = |project: &Project| {
        let found = odd(&project.say("verify --deep --json").json());
        found.into_iter().filter_map(half).collect::<BTreeMap<i64, String>>()
    };
    assert!(odd_at(&made("\"warning\"")).is_empty(), "44 % is less than half");
    let found = odd_at(&made("{ limit = 0.4 }"));
    assert_eq!(found.keys().copied().collect::<Vec<_>>(), [2], "{found:?}");
    assert_eq!(made("{ level = \"error\", limit = 0.4 }").say("verify --deep").code, 1);
    for (value, said) in [
        ("{ limit = 0 }", "`limit` must be a number above zero"),
        ("{ limit = \"much\" }", "`limit` must be a number above zero"),
        ("{ levle = \"off\" }", "write `level`"),
        ("\"loud\"", "must be one of off, note, warning, error"),
    ] {
        let told = made(value).say("check").ended(1).out;
        assert!(told.contains(said), "{value}: {told}");
    }
    // A check of the sheet has no limit.
    let project = Project::with(&SMALL.replace("= \"off\"", "= { level = \"off\", limit = 3 }"));
    assert!(project.say("check").ended(1).out.contains("unknown key `limit`"));
}

#[test]
fn a_run_opens_what_was_written_since_it_landed() {
    let project = Project::with(&SMALL.replace("1-24", "1-6"));
    project.say("run").ended(0);
    let path = "renders/crossing/crossing_beauty.0003.png";
    let mut bytes = std::fs::read(project.path(path)).unwrap();
    let (from, to) = (bytes.len() / 3, bytes.len() / 2);
    bytes[from..to].fill(0);
    project.write(path, &bytes);
    crate::support::written_later(&project.path(path));
    // Head, end and length are those that landed.
    let said = project.say("run").ended(1).err;
    assert!(said.contains("changed") && said.contains("--existing replace --frames 3"), "{said}");
    assert_eq!(row(&project.say("verify --sums --json").ended(1).json())["changed"], "3");
    project.say("run --existing replace --frames 3").ended(0);
    assert!(project.say("verify --sums").ended(0).out.contains("complete: 6 files as planned"));
    project.say("verify --sums --deep").ended(2);
}

#[test]
fn files_of_almost_the_right_name_are_named_taken_and_given_back() {
    let project = Project::with(&SMALL.replace("1-24", "1-8"));
    project.say("run").ended(0);
    let name = |text: &str| format!("renders/crossing/{text}");
    let rename = |from: &str, to: &str| std::fs::rename(project.path(&name(from)), project.path(&name(to))).unwrap();
    for (from, to) in [
        ("crossing_beauty.0001.png", "crossing_beauty.1.png"),
        ("crossing_beauty.0002.png", "Crossing_Beauty.0002.PNG"),
        ("crossing_beauty.0003.png", "crossing-beauty_0003.png"),
        ("crossing_beauty.0004.png", "crossing_beauty.0004.tif"),
    ] {
        rename(from, to);
    }
    // Two for one frame, one that is another's picture, and one that is no picture: none of them is taken.
    std::fs::copy(project.path(&name("crossing_beauty.0005.png")), project.path(&name("crossing_beauty.05.png")))
        .unwrap();
    rename("crossing_beauty.0005.png", "crossing_beauty.005.png");
    project.write(&name("crossing_beauty.6.png"), "no picture");
    std::fs::remove_file(project.path(&name("crossing_beauty.0006.png"))).unwrap();
    let before = project.stamps("renders");
    let said = project.say("verify --json").ended(1).json();
    let near = row(&said)["near"].as_array().unwrap().clone();
    let why: Vec<(i64, &str)> =
        near.iter().map(|own| (own["frame"].as_i64().unwrap(), own["why"].as_str().unwrap())).collect();
    let wanted = [(1, "padding"), (2, "upper and lower case"), (3, "separator"), (4, "extension"), (6, "padding")];
    assert_eq!(why, wanted);
    assert_eq!(row(&said)["missing"], "1-6");
    assert!(project.say("verify").ended(1).out.contains("`truepath verify --adopt` accepts them"));
    let told = project.say("verify --adopt").ended(1).out;
    assert!(told.contains("4 files taken") && told.contains("left  crossing_beauty.6.png"), "{told}");
    let said = project.say("verify --json").ended(1).json();
    assert_eq!([&row(&said)["missing"], &row(&said)["good"]], ["5-6", "1-4,7-8"]);
    project.say("verify --adopt --undo").ended(0);
    let after = project.stamps("renders");
    let names = |stamps: &BTreeMap<String, _>| stamps.keys().cloned().collect::<Vec<_>>();
    assert_eq!(names(&before), names(&after), "every file bears its old name again");
    assert_eq!(row(&project.say("verify --json").json())["missing"], "1-6");
    // What somebody has changed since is not moved.
    project.say("verify --adopt").ended(1);
    project.write(&name("crossing_beauty.0001.png"), "somebody's own");
    let told = project.say("verify --adopt --undo").ended(1).out;
    assert!(told.contains("it is not the file that was accepted") && told.contains("3 files given back"), "{told}");
    // Nothing is written over: a folder at a planned name stays, and so does the file that would go there.
    let other = Project::with(&SMALL.replace("1-24", "1-4"));
    other.say("run").ended(0);
    for frame in 1..=4 {
        std::fs::rename(
            other.path(&name(&format!("crossing_beauty.{frame:04}.png"))),
            other.path(&name(&format!("crossing_beauty.{:04}.png", frame + 1000))),
        )
        .unwrap();
    }
    // Known to the journal as nothing else, counted from another number.
    std::fs::remove_dir_all(other.path(".truepath/truepath/journal")).unwrap();
    let near = row(&other.say("verify --json").ended(1).json())["near"].clone();
    assert_eq!(near.as_array().unwrap().len(), 4, "{near}");
    assert!(near[0]["why"].as_str().unwrap().contains("frames 1001-1004 instead of 1-4"), "{near}");
    other.say("verify --adopt").ended(0);
    assert!(other.say("verify").ended(0).out.contains("complete: 4 files as planned"));
    // Whole foreign files come into the journal.
    std::fs::remove_dir_all(other.path(".truepath/truepath/journal")).unwrap();
    assert!(other.say("verify").ended(0).out.contains("4 files are foreign"));
    other.say("verify --adopt").ended(0);
    assert!(other.say("verify").ended(0).out.contains("complete: 4 files as planned"));
    other.say("verify --adopt --undo").ended(0);
    assert!(other.say("verify").ended(0).out.contains("4 files are foreign"));
}

#[test]
fn what_the_sheet_does_not_let_land_is_not_adopted_either() {
    let project = copies("png", "rgba", "1-2", "picture-black = \"error\"\n");
    let black = png(&pixels(1, &|_, _, own| [0, 0, 0, own[3]]));
    project.write("renders/crossing/crossing_beauty.1.png", &black);
    project.write("renders/crossing/crossing_beauty.0002.png", plain(2));
    let told = project.say("verify --adopt").ended(1).out;
    assert!(told.contains("[picture-black]") && told.contains("1 file taken"), "{told}");
    assert_eq!(std::fs::read(project.path("renders/crossing/crossing_beauty.1.png")).unwrap(), black);
    project.say("verify --adopt --undo").ended(0);
    assert_eq!(row(&project.say("verify --json").json())["foreign"], "2");
}

/// A sheet with a version in its names, a mode, and frames of both on disk.
fn crowded() -> Project {
    let sheet = SMALL
        .replace("1-24", "1-6")
        .replace("{job}/{job}_{pass}", "{job}/{version}/{job}_{pass}_{version}")
        .replace("fps = 24", "fps = 24\nversion = 1")
        + "\n[modes.draft]\nsize = \"16x9\"\npath = \"{renders}/draft/{job}_{pass}_{version}.{frame:4}.{ext}\"\n";
    let project = Project::with(&sheet);
    for version in 1..=4 {
        project.write("truepath.toml", sheet.replace("version = 1\n", &format!("version = {version}\n")));
        project.say("run").ended(0);
    }
    project.say("run --mode draft").ended(0);
    project
}

#[test]
fn room_is_made_of_what_may_go_and_of_nothing_else() {
    let project = crowded();
    let bytes = || {
        let all = rendered(&project).into_iter();
        all.map(|name| (name.clone(), std::fs::read(project.path("renders").join(&name)).unwrap()))
            .collect::<BTreeMap<_, _>>()
    };
    let all = bytes();
    let below = |text: &str| rendered(&project).into_iter().filter(|name| name.starts_with(text)).count();
    let refused = project.say("clean").ended(2).err;
    assert!(refused.contains("clean needs to know what to put away") && refused.contains("--keep N"), "{refused}");
    // To list is to touch nothing.
    for words in ["clean --mode draft", "clean --keep 2", "clean --left-over", "clean --stage", "clean --keep 1 --json"]
    {
        project.say(words).ended(0);
        assert!(bytes() == all, "{words}");
    }
    let told = project.say("clean --keep 2").ended(0);
    assert!(
        told.out.contains("of version 1") && told.out.contains("of version 2") && !told.out.contains("of version 3"),
        "{}",
        told.out
    );
    assert!(told.err.starts_with("12 files, "), "{}", told.err);
    project.say("clean --keep 2 --yes").ended(0);
    assert_eq!(
        [
            below("crossing/v001"),
            below("crossing/v002"),
            below("crossing/v003"),
            below("crossing/v004"),
            below("draft")
        ],
        [0, 0, 6, 6, 6]
    );
    project.say("clean --mode draft --yes").ended(0);
    assert_eq!([below("crossing/v003"), below("draft")], [6, 0]);
    // The journal knows why they are gone.
    let said = project.say("verify --mode draft").ended(1).out;
    assert!(said.contains("put away by `clean` on 2"), "{said}");
    let said = project.say("status --mode draft").ended(1).out;
    assert!(said.contains("1-6: put away by `clean` on 2"), "{said}");
    let said = project.say("status --mode draft --json").ended(1).json();
    assert_eq!(row(&said)["put_away"][0]["frames"], "1-6", "{said}");
    // Back again: the last that went first, to the byte, and good as before.
    project.say("clean --undo").ended(0);
    assert_eq!([below("draft"), below("crossing/v001")], [6, 0]);
    assert!(project.say("verify --mode draft").ended(0).out.contains("complete: 6 files as planned"));
    project.say("clean --undo").ended(0);
    assert!(bytes() == all, "{:?}", rendered(&project));
    assert!(project.say("verify --set version=1").ended(0).out.contains("complete: 6 files as planned"));
    // What is rendered again is there again, and an old clean does not bring back over it.
    project.say("clean --mode draft --yes").ended(0);
    project.say("run --mode draft").ended(0);
    let before = project.stamps("renders/draft");
    project.say("clean --undo");
    assert!(project.stamps("renders/draft") == before, "what was rendered since stays");
    let listed = project.say("clean --removed").ended(0).out;
    assert!(listed.contains(".truepath/removed/"), "{listed}");
    project.say("clean --removed --yes").ended(0);
    assert!(
        !project.path("renders/.truepath/removed").exists() || project.files("renders/.truepath/removed").is_empty()
    );
    // Frames of a longer range.
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    project.write("truepath.toml", sheet.replace("1-6", "1-4"));
    project.write("renders/crossing/v004/notes.txt", "mine");
    project.say("clean --left-over --yes").ended(0);
    assert_eq!(below("crossing/v004"), 5, "four frames and the notes");
    project.say("clean --undo").ended(0);
    assert_eq!(below("crossing/v004"), 7);
}

#[test]
fn nothing_goes_that_a_scene_needs_or_that_is_a_final() {
    // A mode whose names are those of the finals, and one frame that a scene uses as a picture.
    let sheet = SMALL.replace("1-24", "1-3")
        + "\n[modes.fast]\nsamples = 1\nfinal = true\n\n[modes.look]\nsize = \"16x9\"\npath = \"{renders}/look/{job}.{frame:4}.{ext}\"\n";
    let project = Project::with(&sheet);
    project.say("run").ended(0);
    project.say("run --mode look").ended(0);
    let whole = std::fs::read_to_string(project.path("scenes/crossing.gltf")).unwrap();
    let mut scene: Value = serde_json::from_str(&whole).unwrap();
    scene["images"] = serde_json::json!([{ "uri": "../renders/look/crossing.0002.png" }]);
    project.write("scenes/crossing.gltf", scene.to_string());
    let before = project.stamps("renders");
    let said = project.say("clean --mode fast --yes");
    assert!(project.stamps("renders") == before, "{}{}", said.out, said.err);
    assert!(said.out.contains("kept") && said.out.contains("belongs to the finals"), "{}{}", said.out, said.err);
    // The scene of another job needs it as much.
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    let other = "[[job]]\nname = \"other\"\nscene = \"renders/look/crossing.0003.png\"\nframes = \"1-2\"\n\n[checks]";
    project.write("truepath.toml", sheet.replace("[checks]", other));
    let said = project.say("clean crossing --mode look").ended(0);
    assert!(said.out.contains("crossing.0003.png: a scene needs it"), "{}{}", said.out, said.err);
    project.write("truepath.toml", sheet);
    let said = project.say("clean --mode look --yes").ended(0);
    assert!(said.out.contains("crossing.0002.png: a scene needs it"), "{}", said.out);
    let left: Vec<String> = rendered(&project).into_iter().filter(|name| name.starts_with("look")).collect();
    assert_eq!(left, ["look/crossing.0002.png"]);
    // While somebody renders, nothing goes.
    project.write("scenes/crossing.gltf", whole);
    let mut slow = project.command();
    let mut slow = slow
        .args([
            "run",
            "--existing",
            "replace",
            "--workers",
            "1",
            "--set",
            "samples=64",
            "--set",
            "size=1280x720",
            "--final",
        ])
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    // Once its renderer works, it holds the sheet.
    crate::support::until("its stage folder", || project.stage().exists());
    let refused = project.say("verify --adopt").code == 4;
    slow.kill().unwrap();
    slow.wait().unwrap();
    assert!(refused, "a sheet that is being rendered is left alone");
}

#[test]
fn build_servers_and_scripts_hear_of_every_missing_frame() {
    let project = Project::with(&SMALL.replace("1-24", "1-6").replace("[[job]]", "[[job]]\n# <&\"]]>"));
    project.say("run").ended(0);
    let whole = project.say("verify --to junit").ended(0).out;
    assert!(whole.contains("tests=\"1\" failures=\"0\"") && !whole.contains("<failure"), "{whole}");
    for frame in [2, 5] {
        std::fs::remove_file(project.path(&format!("renders/crossing/crossing_beauty.{frame:04}.png"))).unwrap();
    }
    project.write("renders/crossing/crossing_beauty.0004.png", "<&");
    let said = project.say("verify --to junit").ended(1).out;
    assert!(said.starts_with("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuites "), "{said}");
    for words in ["failures=\"1\"", "not good: 3 of 6 files", "missing 2,5: not there", "broken 4: "] {
        assert!(said.contains(words), "{words}: {said}");
    }
    let found = row(&project.say("verify --json").ended(1).json())["findings"].clone();
    let told: Vec<(i64, &str)> = found
        .as_array()
        .unwrap()
        .iter()
        .map(|own| (own["frame"].as_i64().unwrap(), own["check"].as_str().unwrap()))
        .collect();
    assert_eq!(told, [(2, "frame-missing"), (5, "frame-missing"), (4, "frame-broken")]);
    project.say("verify --to junit --json").ended(2);
    // Without a sheet, too.
    let mut longer = std::fs::read(project.path("renders/crossing/crossing_beauty.0001.png")).unwrap();
    longer.extend(b"more");
    project.write("loose/a.png", longer);
    let said = project.say("verify --folder loose --to junit").ended(1).out;
    assert!(said.contains("it holds 4 bytes more than the picture") && said.contains("failures=\"1\""), "{said}");
    project.say("verify --folder loose --sums").ended(2);
}
