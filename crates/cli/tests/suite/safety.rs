//! Nothing that a file, a renderer or a stranger does ends the night, hangs it, or fools it.

use std::os::unix::fs::symlink;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::support::{Project, SMALL, Said, has, rendered};

/// Kilobytes of address space that a call may have.
const MEMORY: u32 = 1_000_000;

/// A call that may neither hang nor take much memory.
#[track_caller]
fn bounded(project: &Project, words: &str) -> Said {
    let own = project.command();
    let mut command = Command::new("sh");
    command.arg("-c").arg(format!("ulimit -v {MEMORY}; exec \"$0\" {words}")).arg(own.get_program());
    command.current_dir(project.path("")).stdin(Stdio::null());
    for (name, value) in own.get_envs().filter_map(|(name, value)| Some((name, value?))) {
        command.env(name, value);
    }
    let (out, err) = (tempfile::tempfile().unwrap(), tempfile::tempfile().unwrap());
    let mut child = command.stdout(out.try_clone().unwrap()).stderr(err.try_clone().unwrap()).spawn().unwrap();
    let mut ended = None;
    crate::support::until(words, || {
        ended = child.try_wait().unwrap();
        ended.is_some()
    });
    let status = ended.unwrap();
    let text = |mut file: std::fs::File| {
        use std::io::{Read, Seek};
        let mut bytes = Vec::new();
        file.rewind().and_then(|()| file.read_to_end(&mut bytes)).unwrap();
        String::from_utf8_lossy(&bytes).into_owned()
    };
    let said = Said { code: status.code().unwrap_or(-1), out: text(out), err: text(err) };
    assert!(said.code >= 0, "`{words}` was ended by a signal: {said:?}");
    assert!(!said.err.contains("panicked") && !said.err.contains("fault of True Path"), "`{words}`: {said:?}");
    said
}

fn pipe(path: &Path) {
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    assert!(Command::new("mkfifo").arg(path).status().unwrap().success());
}

/// Pictures of a few bytes that claim to be huge, one of each type that is unpacked.
fn bombs() -> Vec<(&'static str, Vec<u8>)> {
    let four = |value: u32| value.to_be_bytes();
    let mut png = b"\x89PNG\r\n\x1a\n".to_vec();
    let mut chunk = |kind: &[u8], data: &[u8]| {
        png.extend(four(data.len() as u32));
        let body = [kind, data].concat();
        png.extend(&body);
        let mut crc = flate2::Crc::new();
        crc.update(&body);
        png.extend(four(crc.sum()));
    };
    chunk(b"IHDR", &[&four(200_000)[..], &four(200_000), &[16, 6, 0, 0, 0]].concat());
    chunk(b"IDAT", &[0x78, 0x9c, 0x63, 0, 0, 0, 1, 0, 1]);
    chunk(b"IEND", &[]);
    // One strip of 4 billion pixels (TIFF 6.0): width, height, bits, compression LZW, one strip.
    let mut tiff = b"II*\0\x08\0\0\0".to_vec();
    let entries: [(u16, u32); 9] =
        [(256, 65_000), (257, 65_000), (258, 16), (259, 5), (262, 1), (273, 8), (277, 1), (278, 65_000), (279, 64)];
    tiff.extend((entries.len() as u16).to_le_bytes());
    for (tag, value) in entries {
        tiff.extend(tag.to_le_bytes());
        tiff.extend(4u16.to_le_bytes());
        tiff.extend(1u32.to_le_bytes());
        tiff.extend(value.to_le_bytes());
    }
    tiff.resize(512, 0);
    let mut jpeg = vec![0xff, 0xd8, 0xff, 0xc0, 0, 17, 8, 0xff, 0xdc, 0xff, 0xdc, 3];
    jpeg.extend([1, 0x22, 0, 2, 0x11, 0, 3, 0x11, 0]);
    jpeg.extend([0xff, 0xda, 0, 12, 3, 1, 0, 2, 0, 3, 0, 0, 63, 0, 0, 0xff, 0xd9]);
    // VP8L (RFC 9649): 16384 by 16384.
    let mut webp = b"RIFF\x14\0\0\0WEBPVP8L\x08\0\0\0\x2f\xff\xff\xff\x0f\0\0\0".to_vec();
    webp.resize(28, 0);
    vec![("png", png), ("tif", tiff), ("jpg", jpeg), ("webp", webp)]
}

#[test]
fn a_picture_that_claims_the_world_costs_itself_only() {
    for (extension, bytes) in bombs() {
        let kind = match extension {
            "tif" => "tiff",
            "jpg" => "jpeg",
            other => other,
        };
        let sheet = SMALL.replace("type = \"png\"", &format!("type = \"{kind}\"")).replace("\"1-24\"", "\"1-3\"");
        let project = Project::with(&sheet.replace("\"understudy\"", "\"copy\""));
        project.script("copy", "cp bomb \"$(printf '%s' \"$3\" | sed 's/####/0002/')\"; exit 0\n");
        project.write("bomb", &bytes);
        project.write(&format!("renders/crossing/crossing_beauty.0001.{extension}"), &bytes);
        // As a renderer leaves it, and as somebody else has put it there.
        for words in ["run", "verify", "verify --deep", "status"] {
            let said = bounded(&project, words);
            assert!(said.code == 1 || said.code == 3, "{extension}, {words}: {said:?}");
        }
        let name = format!("crossing_beauty.0002.{extension}");
        assert!(!project.path("renders/crossing").join(name).exists(), "{extension}: it does not land");
        let movie = format!("movie renders/crossing/crossing_beauty.{{frame:4}}.{extension} --fps 24 -o m.avi");
        assert_ne!(bounded(&project, &movie).code, 0, "{extension}");
    }
}

#[test]
fn a_bit_that_flips_anywhere_costs_one_file() {
    let sheet = SMALL.replace("type = \"png\"", "type = \"tiff\"").replace("\"1-24\"", "\"1-3\"");
    let project = Project::with(&sheet);
    project.say("run").ended(0);
    let path = project.path("renders/crossing/crossing_beauty.0002.tif");
    let whole = std::fs::read(&path).unwrap();
    // The directory of a TIFF is at its end or its head: both are gone through bit by bit.
    let places = (0..16).chain(whole.len() - 180..whole.len());
    for (step, at) in places.enumerate().step_by(7) {
        let mut bytes = whole.clone();
        bytes[at] ^= 1 << (step % 8);
        std::fs::write(&path, &bytes).unwrap();
        let said = bounded(&project, "verify --deep --json");
        assert_eq!(said.json()["series"][0]["good"].as_str().unwrap(), "1,3", "byte {at}");
    }
    bounded(&project, "run --existing replace").ended(0);
    bounded(&project, "verify --deep").ended(0);
}

#[test]
fn what_is_no_regular_file_is_refused_at_once() {
    let small = SMALL.replace("\"1-24\"", "\"1-4\"");
    for name in ["truepath.toml", "scenes/crossing.gltf", "scenes/crossing.gltf.facts.toml", "adapters/own.toml"] {
        let project = Project::with(&small);
        let _ = std::fs::remove_file(project.path(name));
        pipe(&project.path(name));
        for words in ["names", "check", "verify", "status", "build", "scene scenes/crossing.gltf", "run"] {
            bounded(&project, words);
        }
    }
    for name in ["journal/x-1-abcdef.jsonl", "looked/00000001-0.jsonl", "version", "id"] {
        let project = Project::with(&small);
        pipe(&project.path(".truepath/truepath").join(name));
        for words in ["names", "verify", "status", "log crossing", "run"] {
            bounded(&project, words);
        }
    }
    // At the name of a frame: a finding, and nothing is rendered for it.
    let name = "renders/crossing/crossing_beauty.0002.png";
    type Put<'p> = (&'p str, &'p dyn Fn(&Path));
    let put: [Put<'_>; 4] = [
        ("a pipe or a device", &|path| pipe(path)),
        ("a folder", &|path| std::fs::create_dir_all(path).unwrap()),
        ("a link", &|path| symlink("crossing_beauty.0001.png", path).unwrap()),
        ("a link", &|path| symlink("/dev/zero", path).unwrap()),
    ];
    for (what, put) in put {
        let project = Project::with(&small);
        project.say("run").ended(0);
        std::fs::remove_file(project.path(name)).unwrap();
        put(&project.path(name));
        let said = bounded(&project, "check").ended(1);
        assert!(said.out.contains("place-blocked") && said.out.contains(what), "{what}: {}", said.out);
        let row = bounded(&project, "verify --json").ended(1).json()["series"][0].clone();
        assert_eq!((row["unreadable"].as_str().unwrap(), row["good"].as_str().unwrap()), ("2", "1,3-4"), "{what}");
        assert!(bounded(&project, "run").ended(4).err.contains("place-blocked"), "{what}");
        assert!(project.path(name).symlink_metadata().is_ok(), "{what} stays");
    }
    // A link above a frame that leads out of every root, and a file where a folder goes.
    let outside = tempfile::tempdir().unwrap();
    let project = Project::with(&small);
    std::fs::create_dir(project.path("renders")).unwrap();
    symlink(outside.path(), project.path("renders/crossing")).unwrap();
    assert!(project.say("run").ended(4).err.contains("a link that leads out of every root"));
    assert_eq!(std::fs::read_dir(outside.path()).unwrap().count(), 0);
    std::fs::remove_file(project.path("renders/crossing")).unwrap();
    project.write("renders/crossing", "a file");
    assert!(project.say("check").ended(1).out.contains("a file is where a folder is needed"));
}

#[test]
fn what_a_renderer_leaves_beside_files_neither_hangs_nor_lands() {
    let sheet = SMALL.replace("\"1-24\"", "\"1-4\"").replace("\"understudy\"", "\"odd\"");
    let project = Project::with(&(sheet + "retries = 0\n"));
    project.script(
        "odd",
        "d=$(dirname \"$3\"); ln -s .. \"$d/loop\"; ln -s /etc/passwd \"$d/crossing_beauty.0001.png\"\n\
         mkfifo \"$d/crossing_beauty.0002.png\" \"$d/other\"; mkdir -p \"$d/crossing_beauty.0003.png/deep\"; exit 0\n",
    );
    let said = bounded(&project, "run --keep-going");
    assert_eq!(said.code, 3, "{said:?}");
    for what in ["a link", "a pipe", "a folder"] {
        let named = said.err.contains(&format!("the renderer left {what}"));
        let kept = project.files(".truepath/truepath/journal").into_iter().any(|name| {
            let path = project.path(".truepath/truepath/journal").join(name);
            std::fs::read_to_string(path).unwrap().contains(&format!("the renderer left {what}"))
        });
        assert!(named || kept, "{what} is named: {said:?}");
    }
    assert!(rendered(&project).is_empty());
}

/// Every command that only looks.
const LOOKING: [&str; 10] = [
    "names",
    "names --json",
    "check",
    "verify",
    "status",
    "log crossing",
    "build",
    "build --to json",
    "whose renders/crossing/crossing_beauty.0001.png",
    "scene scenes/closed.scn",
];

#[test]
fn looking_starts_nothing_that_a_folder_brought_along() {
    let sheet = SMALL.replace("\"1-24\"", "\"1-4\"").replace("\"understudy\"", "\"closed\"").replace(".gltf", ".scn");
    let project = Project::with(&sheet.replace("crossing.scn", "closed.scn"));
    project.write("scenes/closed.scn", "opaque");
    let facts = "echo asked >> asked; [ \"$1\" = facts ] && echo '{\"cameras\":[\"quay\"],\"frames\":\"1-4\",\"fps\":24,\"resources\":[]}'\n";
    project.script("closed", &format!("{facts}exit 0\n"));
    let text = std::fs::read_to_string(project.path("adapters/closed.toml")).unwrap();
    project.write(
        "adapters/closed.toml",
        format!("version = [\"version\"]\n{text}[facts]\narguments = [\"facts\"]\n[needs]\nrun = [[\"bin/closed\"]]\n"),
    );
    let asked = || project.path("asked").exists();
    for words in LOOKING {
        bounded(&project, words);
        assert!(!asked(), "`{words}` started a program");
    }
    // Its user says so; a changed adapter is asked for again.
    assert!(project.say("trust").ended(0).out.contains("the adapter closed"));
    project.say("names").ended(0);
    assert!(asked());
    std::fs::remove_file(project.path("asked")).unwrap();
    let text = std::fs::read_to_string(project.path("adapters/closed.toml")).unwrap();
    project.write("adapters/closed.toml", format!("{text}# changed\n"));
    project.write("scenes/closed.scn", "opaque, and another");
    LOOKING.iter().for_each(|words| drop(bounded(&project, words)));
    assert!(!asked());
    // A run is an act of trust.
    project.say("run");
    assert!(asked());
    std::fs::remove_file(project.path("asked")).unwrap();
    project.write("scenes/closed.scn", "opaque, and a third");
    project.say("names").ended(0);
    assert!(asked());
    assert!(project.say("trust --forget").ended(0).out.contains("no longer trusted"));
}

#[test]
fn a_program_that_is_asked_may_neither_hang_nor_talk_for_ever() {
    let sheet = SMALL.replace("\"1-24\"", "\"1-4\"").replace("\"understudy\"", "\"closed\"");
    let project = Project::with(&sheet.replace("crossing.gltf", "closed.scn"));
    project.write("scenes/closed.scn", "opaque");
    project.script("closed", "yes flood\n");
    let text = std::fs::read_to_string(project.path("adapters/closed.toml")).unwrap();
    project.write("adapters/closed.toml", format!("{text}[facts]\narguments = [\"facts\"]\n"));
    project.say("trust").ended(0);
    bounded(&project, "check");
}

#[test]
fn a_sheet_of_somebody_else_is_not_taken_silently() {
    if !Command::new("chown").arg("--version").stdout(Stdio::null()).status().is_ok_and(|status| status.success()) {
        return;
    }
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-2\""));
    let chown = Command::new("chown").arg("12345").arg(project.path("truepath.toml")).stderr(Stdio::null()).status();
    if !chown.unwrap().success() {
        eprintln!("SKIPPED: this user may not give files away");
        return;
    }
    // Sought upwards, nobody has named it.
    for words in ["names", "run", "check"] {
        let said = project.say(words).ended(4);
        assert!(said.err.contains("belongs to user 12345") && said.err.contains("truepath trust"), "{}", said.err);
    }
    assert!(project.say("names -f truepath.toml").ended(0).err.contains("belongs to user 12345"));
    project.say("run -f truepath.toml").ended(4);
    assert!(rendered(&project).is_empty());
    project.say("trust").ended(0);
    project.say("run").ended(0);
    // Nor is one of another name, that somebody else has put beside it.
    project.write("other.toml", SMALL.replace("\"1-24\"", "\"1-2\"").replace("\"crossing\"", "\"theirs\""));
    let theirs = Command::new("chown").arg("12345").arg(project.path("other.toml")).status();
    assert!(theirs.unwrap().success());
    assert!(project.say("run -f other.toml").ended(4).err.contains("other.toml belongs to user 12345"));
    project.say("trust").ended(0);
    project.say("run -f other.toml").ended(0);
}

#[test]
fn what_is_shown_is_text() {
    let sheet = SMALL.replace("\"1-24\"", "\"1-2\"").replace("\"understudy\"", "\"loud\"");
    let project = Project::with(&sheet);
    project
        .script("loud", "printf 'ERROR \\033]0;owned\\007 \\033[31mred \\302\\2332J \\342\\200\\256tfel\\n'; exit 1\n");
    let text = std::fs::read_to_string(project.path("adapters/loud.toml")).unwrap();
    project.write("adapters/loud.toml", format!("{text}[log]\nproblem = \"^ERROR (?P<text>.*)\"\n"));
    project.write("renders/crossing/odd\x1b[2J\u{202e}.png", "x");
    for words in ["run", "log crossing", "status", "status --why 1", "check", "verify", "names --why"] {
        let said = project.say(words);
        let both = format!("{}{}", said.out, said.err);
        let steers = |c: char| c == '\u{202e}' || (c.is_control() && c != '\n' && c != '\t');
        assert!(!both.contains(steers), "{words}: {both:?}");
    }
    let said = project.say("log crossing");
    assert!(said.out.contains("\\x1b]0;owned\\x07 \\x1b[31mred \\u{9b}2J \\u{202e}tfel"), "{}", said.out);
    // For programs it is exact.
    let json = project.say("log crossing --json").json().to_string();
    assert!(json.contains("\\u001b]0;owned"), "{json}");
}

#[test]
fn the_log_of_a_renderer_that_talks_is_bounded() {
    let sheet = SMALL.replace("\"1-24\"", "\"1-1\"").replace("\"understudy\"", "\"talk\"");
    let project = Project::with(&(sheet + "log_limit = \"300 kB\"\nretries = 0\n"));
    // A gigabyte on one line, and as much in lines.
    for flood in ["head -c 500000000 /dev/zero | tr '\\0' x", "yes line | head -c 100000000"] {
        project.script("talk", &format!("echo FIRST; {flood}; echo; echo LAST; exit 7\n"));
        let said = bounded(&project, "run");
        assert!(said.err.contains("it said: LAST"), "{}", said.err);
        let logs = project.path(".truepath/truepath/logs");
        let newest =
            std::fs::read_dir(&logs).unwrap().flatten().max_by_key(|log| log.metadata().unwrap().modified().unwrap());
        let text = std::fs::read(newest.unwrap().path()).unwrap();
        let text = String::from_utf8_lossy(&text);
        assert!(text.len() < 400_000 && text.contains("FIRST") && text.trim_end().ends_with("LAST"), "{}", text.len());
        assert!(text.contains("bytes are left out here"));
    }
}

#[test]
fn machines_that_know_the_project_by_other_paths_see_one_history() {
    let parent = tempfile::tempdir().unwrap();
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-8\""));
    let at = |folder: &Path, words: &str| {
        let mut command = project.command();
        Said::from(command.current_dir(folder).args(words.split_whitespace()).output().unwrap())
    };
    project.say("run").ended(0);
    let stamps = project.stamps("renders");
    // Through a link, under another name, and copied to where it was never before.
    let link = parent.path().join("link");
    symlink(project.path(""), &link).unwrap();
    let moved = parent.path().join("moved");
    assert!(Command::new("cp").arg("-a").arg(project.path("")).arg(&moved).status().unwrap().success());
    let sheet_link = parent.path().join("truepath.toml");
    symlink(project.path("truepath.toml"), sheet_link).unwrap();
    for folder in [link.as_path(), &moved, parent.path()] {
        assert!(at(folder, "run").ended(0).err.contains("nothing to render"), "{}", folder.display());
        let said = at(folder, "verify").ended(0);
        assert!(said.out.contains("complete") && !said.out.contains("foreign"), "{}: {}", folder.display(), said.out);
        assert!(at(folder, "log crossing").ended(0).out.contains("8 files") || at(folder, "log crossing").code == 0);
    }
    assert_eq!(project.stamps("renders"), stamps);
    assert!(!parent.path().join(".truepath").exists(), "one state folder, beside the sheet itself");
    // What is stale is stale for all.
    std::fs::write(moved.join("scenes/crossing.gltf"), std::fs::read(project.path("scenes/arrival.gltf")).unwrap())
        .unwrap();
    let stale = |folder: &Path| at(folder, "verify --json").json()["series"][0]["stale"].clone();
    assert_eq!((stale(&moved), stale(&link)), ("1-8".into(), "".into()));
    // Nothing in the journals is this machine's own path.
    for name in project.files(".truepath/truepath/journal") {
        let text = std::fs::read_to_string(project.path(".truepath/truepath/journal").join(name)).unwrap();
        assert!(!text.contains(project.path("").to_str().unwrap().trim_end_matches('/')), "{text}");
    }
}

#[test]
fn sheets_of_one_name_on_one_root_never_share_a_stage() {
    let project = Project::with(SMALL);
    project.write(
        "inner/truepath.toml",
        SMALL
            .replace("\"renders\"", "\"../renders\"")
            .replace("scenes/", "../scenes/")
            .replace("[checks]\n", "[checks]\nnever-folder = \"off\"\n"),
    );
    std::fs::create_dir(project.path("renders")).unwrap();
    let stage = |folder: &str| {
        let mut command = project.command();
        let said =
            Said::from(command.current_dir(project.path(folder)).args(["build", "--to", "json"]).output().unwrap());
        let text = said.json().to_string();
        text.split_once(".truepath/stage/").unwrap().1.split('/').next().unwrap().to_owned()
    };
    assert_ne!(stage(""), stage("inner"));
    // The state folder keeps the mark, wherever the project goes.
    let before = stage("");
    project.say("run --frames 1").ended(0);
    assert_eq!(
        std::fs::read_to_string(project.path(".truepath/truepath/id")).unwrap().trim(),
        &before["truepath-".len()..]
    );
}

#[test]
fn after_runs_once_however_many_share() {
    let sheet = SMALL
        .replace("\"1-24\"", "\"1-12\"")
        .replace("chunk = 6", "chunk = 2\nafter = [[\"sh\", \"-c\", \"echo {outcome} >> after\"]]");
    let project = Project::with(&sheet);
    // Two of them cut the same files into other calls: the plan still has one end.
    let members: Vec<_> = (0..4)
        .map(|at| {
            let mut command = project.command();
            command.args(["run", "--share"]).args(["--chunk", if at < 2 { "2" } else { "3" }]);
            command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
        })
        .collect();
    for mut member in members {
        assert!(member.wait().unwrap().success());
    }
    let after = || std::fs::read_to_string(project.path("after")).unwrap_or_default();
    assert_eq!(after(), "complete\n");
    // Who comes late finds nothing to do, and does not say it again.
    project.say("run --share").ended(0);
    project.say("run").ended(0);
    assert_eq!(after(), "complete\n");
    // A second night that fails as the first one did is told as well.
    let project = Project::with(&sheet.replace("\"understudy\"", "\"none\"").replace("[run]", "[run]\nretries = 0"));
    project.script("none", "exit 1\n");
    for nights in 1..3 {
        project.say("run").ended(3);
        let after = std::fs::read_to_string(project.path("after")).unwrap();
        assert_eq!(after, "incomplete\n".repeat(nights));
    }
}

#[test]
fn renderers_that_leave_their_group_end_with_their_call() {
    if !has("setsid") {
        return;
    }
    let sheet = SMALL.replace("\"1-24\"", "\"1-1\"").replace("\"understudy\"", "\"daemon\"");
    let project = Project::with(&(sheet + "retries = 0\n"));
    project.script(
        "daemon",
        "setsid sh -c 'echo $$ > child; exec sleep 4321' & until [ -s child ]; do sleep 0.02; done; exit 1\n",
    );
    project.say("run").ended(3);
    let child = std::fs::read_to_string(project.path("child")).unwrap();
    let alive = || {
        Path::new("/proc").join(child.trim()).join("environ").exists()
            && !std::fs::read_to_string(format!("/proc/{}/stat", child.trim())).unwrap_or_default().contains(") Z ")
    };
    crate::support::until("the end of what has left its group", || !alive());
}

#[test]
fn an_output_may_not_lead_into_the_folders_of_true_path() {
    let project = Project::with(&SMALL.replace("{renders}/{job}/", "{renders}/.truepath/stage/"));
    assert!(project.say("check").ended(1).out.contains("never-folder"));
}

#[test]
fn what_a_sheet_asks_for_is_bounded_by_the_sheet() {
    let list = |count: usize| (0..count).map(|one| format!("\"{one}\"")).collect::<Vec<_>>().join(", ");
    let hundred = list(100);
    let each = format!("each = {{ a = [{hundred}], b = [{hundred}], c = [{hundred}], d = [{hundred}] }}\n");
    let vars = "size = \"32x18\"\nvars = { a = 0, b = 0, c = 0, d = 0 }";
    let project = Project::with(&SMALL.replace("size = \"32x18\"", vars).replace("camera = \"quay\"\n", &each));
    for words in ["check", "names", "status", "run"] {
        let said = bounded(&project, words);
        assert!(format!("{}{}", said.out, said.err).contains("each-too-large"), "{words}: {said:?}");
    }
    // Billions of frames: what is missing is one run of numbers.
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-2000000000\""));
    project.write("renders/crossing/crossing_beauty.0007.png", "x");
    for words in ["names", "check", "status", "verify", "verify --json", "status --json", "whose a.png"] {
        bounded(&project, words);
    }
    let row = bounded(&project, "verify --json").json()["series"][0].clone();
    assert_eq!((row["broken"].as_str(), row["missing"].as_str()), (Some("7"), Some("1-6,8-2000000000")));
    for words in ["run", "build"] {
        assert!(bounded(&project, words).ended(1).err.contains("are allowed"), "{words}");
    }
    // Expressions that multiply.
    let project = Project::with(&SMALL.replace("\"understudy\"", "\"own\""));
    project.script("own", "exit 1\n");
    let text = std::fs::read_to_string(project.path("adapters/own.toml")).unwrap();
    project.write("adapters/own.toml", format!("{text}[log]\nproblem = \"(?P<text>((a{{900}}){{900}}){{900}})\"\n"));
    assert_eq!(bounded(&project, "check").code, 1);
    let lines =
        "printf 'aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaab\\n%.0s' 1 2 3 4 5 6 7 8; exit 1\n";
    project.script("own", lines);
    let text = std::fs::read_to_string(project.path("adapters/own.toml")).unwrap();
    project.write("adapters/own.toml", format!("{text}[log]\nproblem = \"^(?P<text>(a+)+(a+)+(a|aa)+)$\"\n"));
    bounded(&project, "run");
}

#[test]
fn what_is_laid_below_a_sheet_is_a_sheet_of_reasonable_size() {
    let with = |from: &str| Project::with(&SMALL.replace("sheet = 1\n", &format!("sheet = 1\nfrom = [\"{from}\"]\n")));
    let project = with("secret");
    project.write("secret", "root:secret-words:0:0\n[accounts]\nkey = secret-words\n");
    pipe(&project.path("pipe"));
    symlink("/dev/zero", project.path("zero")).unwrap();
    for words in ["check", "names", "run", "names --why"] {
        let said = bounded(&project, words);
        assert!(!format!("{}{}", said.out, said.err).contains("secret-words"), "{words}: {said:?}");
    }
    assert!(!bounded(&project, "check -f secret").err.contains("secret-words"));
    for other in ["pipe", "zero", "truepath.toml", "nothing"] {
        project.write("truepath.toml", SMALL.replace("sheet = 1\n", &format!("sheet = 1\nfrom = [\"{other}\"]\n")));
        let said = bounded(&project, "check").ended(1);
        assert!(said.out.contains("from-missing"), "{other}: {said:?}");
        assert_ne!(bounded(&project, &format!("check -f {other}")).code, 0);
    }
    let large = format!("sheet = 1\n# {}\n", "x".repeat(70 << 20));
    project.write("large", large);
    project.write("truepath.toml", SMALL.replace("sheet = 1\n", "sheet = 1\nfrom = [\"large\"]\n"));
    assert_ne!(bounded(&project, "check").code, 0);
}

#[test]
fn pins_that_are_torn_are_taken_from_the_journals() {
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-2\"").replace("{job}/", "{date}/"));
    let first = |second: &str| {
        let mut command = project.command();
        let said = Said::from(command.args(["names", "--json"]).env("SOURCE_DATE_EPOCH", second).output().unwrap());
        said.json()["series"][0]["first"].as_str().unwrap().to_owned()
    };
    let mut command = project.command();
    Said::from(command.arg("run").env("SOURCE_DATE_EPOCH", "1000000000").output().unwrap()).ended(0);
    let before = first("1000000000");
    for torn in ["", "{\"clock\":{\"ye"] {
        project.write(".truepath/truepath/pins.json", torn);
        assert_eq!(first("1700000000"), before, "{torn:?}");
    }
}

#[test]
fn a_script_lands_regular_files_only_and_touches_nothing_else() {
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-4\"").replace("\"understudy\"", "\"odd\""));
    project.script(
        "odd",
        "d=$(dirname \"$3\"); ln -s /etc/passwd \"$d/crossing_beauty.0001.png\"; mkfifo \"$d/crossing_beauty.0002.png\"\n\
         truepath_frame() { cp frame.png \"$d/crossing_beauty.$1.png\"; }; truepath_frame 0003; truepath_frame 0004\n",
    );
    project
        .say("understudy render scenes/crossing.gltf --frames 1 --size 32x18 --channels rgb --pass beauty=frame.png")
        .ended(0);
    project.say("build -o r.sh --keep-going").ended(0);
    // It comes to stand there once the script is built.
    std::fs::create_dir_all(project.path("renders/crossing/crossing_beauty.0004.png")).unwrap();
    let mut command = Command::new("timeout");
    let said = Said::from(command.args(["60", "sh"]).arg(project.path("r.sh")).output().unwrap());
    assert!([3, 4].contains(&said.code), "{said:?}");
    assert!(said.err.contains("not written as a file") && said.err.contains("stands there, and stays"), "{said:?}");
    let there = rendered(&project);
    assert_eq!(there.into_iter().collect::<Vec<_>>(), ["crossing/crossing_beauty.0003.png"]);
    assert!(project.path("renders/crossing/crossing_beauty.0004.png").is_dir());
}

#[test]
fn a_root_that_was_emptied_is_rendered_into_only_when_somebody_says_so() {
    let disk = tempfile::tempdir().unwrap();
    let root = disk.path().join("renders");
    let sheet = SMALL.replace("renders = \"renders\"", &format!("renders = '{}'", root.display()));
    let sheet = sheet.replace("1-24", "1-2").replace("[checks]", "[checks]\nnever-folder = \"off\"");
    let project = Project::with(&sheet);
    std::fs::create_dir(&root).unwrap();
    project.say("run").ended(0);
    std::fs::remove_dir_all(&root).unwrap();
    std::fs::create_dir(&root).unwrap();
    for words in ["run", "run --share", "check", "build"] {
        let said = project.call(&words.split(' ').collect::<Vec<_>>());
        assert_ne!(said.code, 0, "{words}");
        let text = said.out + &said.err;
        assert!(text.contains("root-emptied") && text.contains("truepath run --begin-anew"), "{words}: {text}");
    }
    assert_eq!(std::fs::read_dir(&root).unwrap().count(), 0);
    project.say("run --begin-anew").ended(0);
    project.say("verify").ended(0);
}
