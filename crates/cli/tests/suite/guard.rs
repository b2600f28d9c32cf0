//! Nothing of anybody's is written over, by any command, on any path. Every command and option that writes for people stands in
//! one table, and every row meets every hazard. The list comes from the command line itself: an option that names a file or a
//! folder and has no row here fails the test.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::support::{Project, Said, has};

/// A sheet that builds on another, with passes apart, pictures, a movie, a mode and a version.
const SHEET: &str = r#"sheet = 1
from = ["studio.toml"]

[formats.view]
type = "png"
bits = 8
channels = "rgb"

[formats.layers]
type = "exr"
bits = "half"
channels = "rgba"

[formats.review]
type = "mp4"
codec = "h264"

[[job]]
name = "crossing"
scene = "scenes/crossing.gltf"
camera = "quay"
frames = "1-3"
format = "layers"
passes = ["beauty", { name = "normal", format = "layers" }]

[[job]]
name = "view"
scene = "scenes/crossing.gltf"
camera = "mast"
frames = "1-3"
format = "view"

[[movie]]
name = "review"
of = "view"
format = "review"
path = "{renders}/{version}/review{-mode}.{ext}"

[modes.draft]
path = "{renders}/draft/{job}_{pass}.{frame:4}.{ext}"
samples = 1

[checks]
scene-span-not-covered = "off"
"#;

const STUDIO: &str = r#"sheet = 1

[roots]
renders = "renders"

[defaults]
adapter = "house"
fps = 24
size = "32x18"
path = "{renders}/{version}/{job}_{pass}.{frame:4}.{ext}"
version = 2
"#;

/// The project: rendered, with an older version that nobody has a record of.
fn harbour() -> Project {
    let project = Project::with(SHEET);
    project.write("studio.toml", STUDIO);
    let adapter = crate::support::UNDERSTUDY.replace("name = \"understudy\"", "name = \"house\"");
    project.write("adapters/house.toml", adapter);
    project.write("config/truepath/config.toml", "workers = 1\n");
    project.say("run").ended(0);
    for name in ["crossing_beauty.0001.exr", "view_beauty.0001.png", "review.mp4"] {
        project.write(
            &format!("renders/v001/{name}"),
            std::fs::read(project.path(&format!("renders/v002/{name}"))).unwrap(),
        );
    }
    std::fs::create_dir(project.path("out")).unwrap();
    symlink(project.path("renders"), project.path("linked")).unwrap();
    project.write("notes.txt", "what nobody wants to lose\n");
    project
}

/// A command that writes one file to a name.
struct Writer {
    /// The command and its option, as the command line has them.
    option: (&'static str, &'static str),
    /// What is typed, `OUT` where the name stands.
    words: &'static str,
    /// How its files end.
    extension: &'static str,
    /// Whether `--replace` can be added.
    replaces: bool,
    /// Whether what it made itself is replaced without being asked.
    remakes: bool,
}

const WRITERS: [Writer; 16] = [
    writer(("build", "--output"), "build view -o OUT", "sh", true),
    writer(("build", "--output"), "build view --to json -o OUT", "json", true),
    writer(("build", "--output"), "build view --to cmd -o OUT", "cmd", true),
    writer(("build", "--output"), "build view --to powershell -o OUT", "ps1", true),
    writer(("build", "--output"), "build view --to slurm -o OUT", "sbatch", true),
    writer(("build", "--output"), "build view --to grid-engine -o OUT", "qsub.sh", true),
    writer(("report", "--output"), "report -o OUT", "html", true),
    writer(("run", "--report"), "run --report OUT", "html", true),
    writer(("contact", "--output"), "contact -o OUT", "png", false),
    writer(("contact", "--output"), "contact renders/v002/view_beauty.{frame:4}.png -o OUT", "png", false),
    writer(("compare", "--output"), "compare renders/v001 renders/v002 -o OUT", "png", false),
    writer(("compare", "--output"), "compare view --version 1 2 --frames 1 -o OUT", "png", false),
    writer(("stack", "--output"), "stack crossing --frames 1 -o OUT", "exr", false),
    writer(("movie", "--output"), "movie renders/v002/view_beauty.{frame:4}.png --fps 24 -o OUT", "mp4", false),
    writer(("movie", "--output"), "movie renders/v002/view_beauty.{frame:4}.png --fps 24 -o OUT", "avi", false),
    writer(
        ("encode", "--output"),
        "encode renders/v002/view_beauty.{frame:4}.png --frames 1-3 --fps 24 -o OUT",
        "mp4",
        false,
    ),
];

const fn writer(
    option: (&'static str, &'static str),
    words: &'static str,
    extension: &'static str,
    remakes: bool,
) -> Writer {
    Writer { option, words, extension, replaces: !matches!(option.1.as_bytes(), b"--report"), remakes }
}

impl Writer {
    fn call(&self, project: &Project, out: &str, more: &str) -> Said {
        let words: Vec<String> = self
            .words
            .split(' ')
            .chain(more.split_whitespace())
            .map(|word| if word == "OUT" { out } else { word }.to_owned())
            .collect();
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        project.call(&words)
    }
}

/// Everything in a project but what True Path keeps for itself: bytes of files, what links lead to, and folders.
fn snapshot(project: &Project) -> BTreeMap<String, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut open = vec![project.path("")];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(&folder).unwrap().map(Result::unwrap) {
            let (path, kind) = (entry.path(), entry.file_type().unwrap());
            let name = path.strip_prefix(project.path("")).unwrap().to_string_lossy().into_owned();
            if name.starts_with(".truepath/") || name.contains("/.truepath/") || name.ends_with(".truepath") {
                continue;
            }
            let what = match () {
                () if kind.is_dir() => b"a folder".to_vec(),
                () if kind.is_symlink() => {
                    std::fs::read_link(&path).unwrap().to_string_lossy().into_owned().into_bytes()
                }
                () if kind.is_file() => std::fs::read(&path).unwrap(),
                () => b"something else".to_vec(),
            };
            if kind.is_dir() {
                open.push(path);
            }
            found.insert(name, what);
        }
    }
    found
}

/// What differs, by name.
fn changed(before: &BTreeMap<String, Vec<u8>>, after: &BTreeMap<String, Vec<u8>>) -> BTreeSet<String> {
    let names: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    names.into_iter().filter(|name| before.get(*name) != after.get(*name)).cloned().collect()
}

/// Names that belong to somebody, which no command may write to: what they are, and the name, `EXT` where the extension
/// stands.
const TAKEN: [(&str, &str); 16] = [
    ("a planned frame", "renders/v002/view_beauty.0002.png"),
    ("a planned frame by ..", "renders/v002/../../renders/v002/view_beauty.0002.png"),
    ("a planned frame by a linked folder", "linked/v002/view_beauty.0002.png"),
    ("a planned frame of layers", "renders/v002/crossing_normal.0001.exr"),
    ("a frame beyond the range", "renders/v002/view_beauty.0099.png"),
    ("a planned movie", "renders/v002/review.mp4"),
    ("a frame of a mode, not rendered", "renders/draft/view_beauty.0001.png"),
    ("a frame of an older version", "renders/v001/view_beauty.0002.png"),
    ("the movie of an older version", "linked/v001/review.mp4"),
    ("the sheet", "truepath.toml"),
    ("the sheet below", "studio.toml"),
    ("the sheet by ..", "out/../truepath.toml"),
    ("a scene", "scenes/crossing.gltf"),
    ("what a scene needs", "scenes/crossing.bin"),
    ("an adapter", "adapters/house.toml"),
    ("True Path's own", ".truepath/truepath/x.EXT"),
];

#[test]
fn nothing_that_belongs_to_anybody_is_written_over() {
    let project = harbour();
    let before = snapshot(&project);
    let mut rows = 0;
    for writer in &WRITERS {
        for (what, name) in TAKEN {
            let name = name.replace("EXT", writer.extension);
            for more in ["", "--replace"].into_iter().filter(|more| more.is_empty() || writer.replaces) {
                let said = writer.call(&project, &name, more);
                let told = format!("{} {more}: {what} ({name})\n{}\n{}", writer.words, said.out, said.err);
                assert!([1, 2].contains(&said.code) && said.err.contains("error"), "{told}");
                assert_eq!(changed(&before, &snapshot(&project)), BTreeSet::new(), "{told}");
                rows += 1;
            }
        }
        // The folder above, from below: what `-f` names is the same sheet.
        let inner = project
            .command()
            .current_dir(project.path("out"))
            .args(["build", "view", "-f", "../truepath.toml", "-o", "../truepath.toml", "--replace"])
            .output()
            .unwrap();
        let said = Said::from(inner);
        assert!(said.code == 1 && said.err.contains("is a sheet"), "{said:?}");
    }
    assert_eq!(changed(&before, &snapshot(&project)), BTreeSet::new());
    eprintln!("{rows} rows");
}

#[test]
fn what_stands_at_a_name_is_replaced_only_on_request_and_only_by_its_kind() {
    let project = harbour();
    std::os::unix::net::UnixListener::bind(project.path("socket")).map(drop).unwrap();
    assert!(Command::new("mkfifo").arg(project.path("pipe")).status().unwrap().success());
    symlink("/nowhere/at/all", project.path("dangling")).unwrap();
    symlink(project.path("notes.txt"), project.path("link")).unwrap();
    let picture = std::fs::read(project.path("renders/v002/view_beauty.0001.png")).unwrap();
    for writer in &WRITERS {
        let before = snapshot(&project);
        let refused = |name: &str, more: &str, word: &str| {
            let said = writer.call(&project, name, more);
            let told = format!("{} {more} to {name}\n{}\n{}", writer.words, said.out, said.err);
            assert!([1, 2].contains(&said.code) && said.err.contains(word), "{word}: {told}");
            assert_eq!(changed(&before, &snapshot(&project)), BTreeSet::new(), "{told}");
        };
        // What is no file, under the extension that the command wants.
        for (from, what) in [
            ("pipe", "a pipe or a device"),
            ("dangling", "a link"),
            ("link", "a link"),
            ("socket", "a pipe or a device"),
        ] {
            let name = format!("{from}.{}", writer.extension);
            std::fs::rename(project.path(from), project.path(&name)).unwrap();
            let before = snapshot(&project);
            for more in ["", "--replace"].into_iter().filter(|more| more.is_empty() || writer.replaces) {
                let said = writer.call(&project, &name, more);
                assert!(said.code == 1 && said.err.contains(what), "{} to {name}: {said:?}", writer.words);
                assert_eq!(changed(&before, &snapshot(&project)), BTreeSet::new(), "{} to {name}", writer.words);
            }
            std::fs::rename(project.path(&name), project.path(from)).unwrap();
        }
        refused("/dev/null.d/x.png", "", "error");
        refused("nowhere/x.sh", "", "error");
        let out = format!("out/made.{}", writer.extension);
        // It is written, and what it made is replaced as the table says.
        writer.call(&project, &out, "").ended_in(&[0, 1]);
        let made = std::fs::read(project.path(&out)).unwrap();
        assert!(!made.is_empty(), "{}", writer.words);
        let again = writer.call(&project, &out, "");
        let is_stack = writer.option.0 == "stack";
        assert_eq!(again.code == 0 || is_stack, writer.remakes || is_stack, "{}: {again:?}", writer.words);
        // Somebody else's file of the same kind only on request, of another kind never.
        let (same, other): (&[u8], &[u8]) = match writer.extension {
            "png" | "exr" => (&picture, b"sheet = 1\n# what nobody wants to lose\n"),
            "html" => (b"<!DOCTYPE html><title>mine</title>", &picture),
            "mp4" | "avi" => (&made, &picture),
            _ => (b"# mine\n", &picture),
        };
        for (bytes, more, may) in
            [(same, "", false), (other, "", false), (other, "--replace", false), (same, "--replace", true)]
        {
            if !more.is_empty() && !writer.replaces {
                continue;
            }
            project.write(&out, bytes);
            let said = writer.call(&project, &out, more);
            let now = std::fs::read(project.path(&out)).unwrap();
            assert_eq!(now == bytes, !may || now == made && same == made, "{} {more}: {said:?}", writer.words);
            assert_eq!(
                said.code == 0 || may && said.code == 1 && now != bytes,
                may,
                "{} {more}: {said:?}",
                writer.words
            );
        }
        // A file that somebody has protected stays.
        if writer.replaces {
            project.write(&out, same);
            std::fs::set_permissions(project.path(&out), std::fs::Permissions::from_mode(0o444)).unwrap();
            let said = writer.call(&project, &out, "--replace");
            assert!(said.code == 1 && format!("{said:?}").contains("write-protected"), "{}: {said:?}", writer.words);
            assert_eq!(std::fs::read(project.path(&out)).unwrap(), same);
        }
        std::fs::remove_file(project.path(&out)).unwrap();
        assert_eq!(changed(&before, &snapshot(&project)), BTreeSet::new(), "{} left something behind", writer.words);
    }
}

/// Options and arguments that name files and folders, by command, as `--help` tells them.
fn named_files(project: &Project) -> BTreeSet<(String, String)> {
    let mut found = BTreeSet::new();
    let mut open: Vec<Vec<String>> = vec![Vec::new()];
    while let Some(command) = open.pop() {
        let words: Vec<&str> = command.iter().map(String::as_str).chain(["--help"]).collect();
        let help = project.call(&words).ended(0).out;
        let mut part = "";
        for line in help.lines() {
            match line {
                "Commands:" | "Arguments:" => part = line,
                line if line.ends_with(':') && !line.starts_with(' ') => part = "Options:",
                line if part == "Commands:" && line.starts_with("  ") && !line.starts_with("   ") => {
                    let name = line.split_whitespace().next().unwrap();
                    if name != "help" {
                        open.push(command.iter().cloned().chain([name.to_owned()]).collect());
                    }
                }
                line if part == "Arguments:" && (line.starts_with("  [") || line.starts_with("  <")) => {
                    let name = line.trim().split([']', '>']).next().unwrap().trim_matches(['[', '<']).to_owned();
                    found.insert((command.join(" "), name));
                }
                line if part == "Options:" && line.trim_start().starts_with('-') => {
                    let words: Vec<&str> = line.split_whitespace().collect();
                    let option =
                        words.iter().find(|word| word.starts_with("--")).map(|word| word.trim_end_matches(','));
                    let value = words.iter().find(|word| word.contains('<')).unwrap_or(&"");
                    let names = ["FILE", "DIR", "PATTERN", "PATH", "PROGRAM", "FOLDER"];
                    if let Some(option) = option.filter(|_| names.iter().any(|name| value.contains(name))) {
                        found.insert((command.join(" "), option.to_owned()));
                    }
                }
                _ => {}
            }
        }
    }
    found
}

/// Everything else that names a file, a folder or something that may be one, and what becomes of it.
const OTHERS: &[(&str, &[&str], &str)] = &[
    // Sheets and what is typed beside them are read.
    ("*", &["--sheet", "JOBS", "--audio", "--from", "--from-help", "--scene", "--folder"], "read"),
    ("build", &["--through"], "started"),
    ("build", &["--into"], "over own scripts"),
    ("adapter new", &["--program"], "written into a text"),
    ("adapter new", &["--into", "NAME"], "never over anything"),
    ("adapter show", &["NAME"], "read"),
    ("adapter prove", &["NAME"], "read"),
    ("demo", &["FOLDER"], "never over anything"),
    ("new", &["FOLDER"], "never over anything"),
    ("man", &["FOLDER"], "over own pages"),
    ("parcel pack", &["--into"], "never over anything"),
    ("parcel render", &["PARCELS"], "rendered in place"),
    ("parcel collect", &["PARCELS"], "read"),
    ("clean", &["--into"], "moved into"),
    ("share-test", &["FOLDER"], "never over anything"),
    ("trust", &["FOLDER"], "read"),
    ("scene", &["SCENES"], "read"),
    ("types", &["NAME"], "a word"),
    ("whose", &["FILES"], "read"),
    ("schema", &["OF"], "a word"),
    ("completions", &["SHELL"], "a word"),
    ("explain", &["CHECK"], "a word"),
    ("log", &["JOB", "FRAMES"], "a word"),
    ("compare", &["WHAT"], "read"),
    ("encode", &["PATTERNS"], "read"),
    ("understudy render", &["SCENE", "--pass", "--checkpoint", "--resume"], "an outside program"),
    ("understudy facts", &["SCENE"], "an outside program"),
];

#[test]
fn every_option_that_names_a_file_has_its_row() {
    let project = Project::with("");
    let found = named_files(&project);
    assert!(found.len() > 60, "{found:?}");
    let has_row = |command: &str, name: &str| {
        WRITERS.iter().any(|own| own.option == (command, name))
            || OTHERS.iter().any(|(own, names, _)| (*own == "*" || *own == command) && names.contains(&name))
    };
    let missing: Vec<_> = found.iter().filter(|(command, name)| !has_row(command, name)).collect();
    assert!(missing.is_empty(), "without a row in tests/guard.rs: {missing:?}");
    // No row for what is not there any more.
    let is_there =
        |command: &str, name: &str| found.iter().any(|own| (command == "*" || own.0 == command) && own.1 == name);
    for (command, name) in WRITERS.iter().map(|own| own.option) {
        assert!(is_there(command, name), "{command} {name}");
    }
    for (command, names, _) in OTHERS {
        names.iter().for_each(|name| assert!(is_there(command, name), "{command} {name}"));
    }
}

/// Calls of the program under a tracer that ends it at the first rename, before or after.
fn killed_at_rename(project: &Project, words: &[&str], after: bool) {
    // A signal is delivered as the call begins; where the call is to be over, the next one is waited for.
    let does = if after { "signal=KILL:when=2" } else { "signal=KILL:when=1" };
    project.traced(words, ("rename,renameat,renameat2,linkat", does), None);
}

/// Folders that killed commands have left beside their files.
fn left_beside(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    entries.filter(|path| path.file_name().unwrap().to_string_lossy().starts_with(".truepath-")).collect()
}

#[test]
fn a_command_that_is_killed_leaves_the_old_file_and_the_next_one_clears_up() {
    if !has("strace") {
        return;
    }
    let project = harbour();
    // One writer of each command: they all go the same way.
    let mut seen = BTreeSet::new();
    for writer in WRITERS.iter().filter(|own| own.replaces && seen.insert(own.option.0)) {
        let out = format!("out/made.{}", writer.extension);
        writer.call(&project, &out, "").ended_in(&[0, 1]);
        if writer.option.0 == "stack" {
            // One that holds what its passes hold is not made again.
            project.write(&out, std::fs::read(project.path("renders/v001/crossing_beauty.0001.exr")).unwrap());
        }
        let made = std::fs::read(project.path(&out)).unwrap();
        let text = format!("{} --replace", writer.words.replace("OUT", &out));
        let words: Vec<&str> = text.split(' ').collect();
        for after in [false, true] {
            project.write(&out, &made);
            killed_at_rename(&project, &words, after);
            let now = std::fs::read(project.path(&out)).unwrap();
            assert!(!now.is_empty(), "{}", writer.words);
            if !after {
                assert!(now == made, "{}", writer.words);
                assert_eq!(left_beside(&project.path("out")).len(), 1, "{}", writer.words);
            }
        }
        // A command that only looks leaves it; the next one that writes there clears it up.
        project.write(&out, &made);
        killed_at_rename(&project, &words, false);
        project.say("status");
        assert_eq!(left_beside(&project.path("out")).len(), 1, "{}", writer.words);
        writer.call(&project, &out, "--replace").ended_in(&[0, 1]);
        assert_eq!(left_beside(&project.path("out")), Vec::<PathBuf>::new(), "{}", writer.words);
    }
}

#[test]
fn two_at_once_leave_one_whole_file() {
    let project = harbour();
    let mut seen = BTreeSet::new();
    for writer in WRITERS.iter().filter(|own| seen.insert(own.option.0)) {
        let out = format!("out/made.{}", writer.extension);
        let text = writer.words.replace("OUT", &out);
        let start = || {
            let mut command = project.command();
            command.args(text.split(' ')).stdout(Stdio::null()).stderr(Stdio::null());
            command.spawn().unwrap()
        };
        let mut both = [start(), start()];
        for child in &mut both {
            child.wait().unwrap();
        }
        assert!(std::fs::metadata(project.path(&out)).unwrap().len() > 0, "{text}");
        assert_eq!(left_beside(&project.path("out")), Vec::<PathBuf>::new(), "{text}");
        std::fs::remove_file(project.path(&out)).unwrap();
    }
}

#[test]
fn another_mount_point_and_a_full_disk_change_nothing() {
    let project = harbour();
    let mounted = |script: &str, words: &[&str]| {
        let own = project.command();
        let mut command = Command::new("unshare");
        command.args(["-m", "sh", "-c", script, "sh"]).arg(project.path("")).arg(own.get_program()).args(words);
        command.current_dir(project.path("")).env("NO_COLOR", "1").env("XDG_CONFIG_HOME", project.path("config"));
        Said::from(command.output().unwrap())
    };
    let may = mounted("mount -t tmpfs tmpfs \"$1/out\"", &[]).code == 0;
    if !may {
        assert!(!std::env::var("TRUEPATH_REQUIRE").unwrap_or_default().contains("tmpfs"), "a folder cannot be mounted");
        eprintln!("SKIPPED: this user may not mount folders");
        return;
    }
    let before = snapshot(&project);
    for writer in &WRITERS {
        // The root under another path: the same folder, without any link.
        let bind = "mount --bind \"$1/renders\" \"$1/out\" && cd \"$1\" && shift && exec \"$@\"";
        let names = [
            "out/v002/view_beauty.0002.png",
            "out/v002/crossing_normal.0001.exr",
            "out/v002/review.mp4",
            "out/v001/view_beauty.0003.png",
        ];
        for name in names {
            let text = writer.words.replace("OUT", name);
            let text = if writer.replaces { format!("{text} --replace") } else { text };
            let said = mounted(bind, &text.split(' ').collect::<Vec<_>>());
            assert!([1, 2].contains(&said.code), "{text}: {said:?}");
            assert_eq!(changed(&before, &snapshot(&project)), BTreeSet::new(), "{text}: {said:?}");
        }
        // A disk without room.
        let full = "mount -t tmpfs -o size=4k tmpfs \"$1/out\" && cd \"$1\" && shift && { head -c 9000 /dev/zero >out/fill; } 2>/dev/null; exec \"$@\"";
        let text = writer.words.replace("OUT", &format!("out/made.{}", writer.extension));
        let said = mounted(full, &text.split(' ').collect::<Vec<_>>());
        let is_told = said.err.contains("No space left") || said.out.contains("No space left");
        assert!(said.code != 0 && is_told, "{text}: {said:?}");
        assert_eq!(changed(&before, &snapshot(&project)), BTreeSet::new(), "{text}: {said:?}");
    }
}
