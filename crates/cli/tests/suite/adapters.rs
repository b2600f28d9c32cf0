//! Adapters of different habits, and scripts that drive them: the same sheet gives the same names.

use std::collections::BTreeSet;
use std::process::Command;

use crate::support::{Project, has};

/// Two passes of a few frames, in a folder that needs quoting, under an adapter of the test's own.
fn sheet(adapter: &str) -> String {
    format!(
        r#"sheet = 1
[roots]
renders = "out puts/it's {{é}}"
[formats.view]
type = "png"
bits = 8
channels = "rgb"
[defaults]
adapter = "{adapter}"
fps = 24
size = "32x18"
format = "view"
passes = ["beauty", "mask"]
path = "{{renders}}/{{job}} & more/{{pass}}/{{job}}_{{pass}}.{{frame:4}}.{{ext}}"
[[job]]
name = "crossing"
scene = "scenes/crossing.gltf"
camera = "quay"
frames = "3-9/2,20"
[checks]
scene-span-not-covered = "off"
[run]
chunk = 3
"#
    )
}

const HEAD: &str = "adapter = 1\nprogram = \"truepath\"\n";
const TAIL: &str = "\"--camera\", \"{camera}\", \"--size\", \"{width}x{height}\", \"--fps\", \"{fps}\", \"--bits\", \"{bits}\", \"--channels\", \"{channels}\"";

/// The same with the renderer that fails in its own ways.
fn by_odd_program(adapter: &str) -> String {
    adapter.replace("program = \"truepath\"", &format!("program = \"{}\"", crate::support::odd_renderer()))
}

/// Adapters over the same program: as it likes it best; a run of frames a call; a frame a call; names of its own; numbers
/// behind the name; a folder for each pass with the program's own words.
fn habits() -> Vec<(&'static str, String)> {
    let lists = format!(
        "{HEAD}name = \"lists\"\narguments = [\"understudy\", \"render\", \"{{scene}}\", \"--frames\", \"{{frames}}\", [\"--pass\", \"{{pass}}={{out}}\"], {TAIL}]\n\
         [passes]\ncan = [\"call\"]\n[out]\nnumber = \"#\"\n[log]\nwrote = '^wrote (?<path>.+)$'\n"
    );
    let ranges = format!(
        "{HEAD}name = \"ranges\"\narguments = [\"understudy\", \"render\", \"{{scene}}\", \"--frames\", \"{{first}}-{{last}}/{{step}}\", \"--pass\", \"{{pass}}={{out}}\", {TAIL}]\n\
         [frames]\nper = \"range\"\n[passes]\ncan = [\"pass\"]\n[out]\nnumber = \"#\"\n"
    );
    let runs = ranges.replace("\"ranges\"", "\"runs\"").replace("{first}-{last}/{step}", "{first}-{last}");
    let frames = format!(
        "{HEAD}name = \"frames\"\narguments = [\"understudy\", \"render\", \"{{scene}}\", \"--frames\", \"{{frame}}\", \"--pass\", \"{{pass}}={{out}}\", {TAIL}]\n\
         [frames]\nper = \"frame\"\n[passes]\ncan = [\"pass\"]\n"
    );
    let own = by_odd_program(&lists)
        .replace("\"lists\"", "\"own\"")
        .replace("\"--frames\"", "\"--misbehave\", \"own-names\", \"--frames\"");
    let own = own.replace("number = \"#\"", "number = \"none\"\nwrites = [\"{pass}-{frame}.{ext}\"]");
    let appended = by_odd_program(&ranges)
        .replace("\"ranges\"", "\"appended\"")
        .replace("\"--frames\"", "\"--misbehave\", \"numbers-appended\", \"--frames\"")
        .replace("number = \"#\"", "number = \"none\"\nwrites = [\"{out_stem}{frame:4}.{any}\"]");
    let folders = by_odd_program(&lists)
        .replace("\"lists\"", "\"folders\"")
        .replace("\"--frames\"", "\"--misbehave\", \"folder-per-pass\", \"--frames\"")
        .replace("number = \"#\"", "number = \"none\"\nwrites = [\"{word}/{any}_{frame:5}.png\"]");
    // The program's word for a pass is its name in capitals, in folders and nowhere else.
    let folders = folders.replace("{word}/", "{pass|upper}/");
    vec![
        ("lists", lists),
        ("ranges", ranges),
        ("runs", runs),
        ("frames", frames),
        ("own", own),
        ("appended", appended),
        ("folders", folders),
    ]
}

fn project(name: &str, adapter: &str) -> Project {
    let project = Project::with(&sheet(name));
    project.write(&format!("adapters/{name}.toml"), adapter);
    project
}

fn planned(project: &Project) -> BTreeSet<String> {
    let listed = project.say("names --all").ended(0).out;
    let below = project.path("out puts").display().to_string();
    listed.lines().map(|line| line.strip_prefix(&below).unwrap().trim_start_matches('/').to_owned()).collect()
}

fn made(project: &Project) -> BTreeSet<String> {
    project.files("out puts").into_iter().filter(|name| !name.contains(".truepath")).collect()
}

#[test]
fn every_habit_gives_the_same_names() {
    let mut all = BTreeSet::new();
    for (name, adapter) in habits() {
        let project = project(name, &adapter);
        let said = project.say("run");
        assert_eq!(said.code, 0, "{name}: {}{}", said.out, said.err);
        assert_eq!(made(&project), planned(&project), "{name}");
        project.say("verify").ended(0);
        assert!(!project.path("out puts/it's {é}/.truepath").exists(), "{name}: nothing is left in stage");
        all.insert(made(&project));
        // Only what is missing is asked for again.
        std::fs::remove_file(project.path("out puts").join(made(&project).first().unwrap())).unwrap();
        let said = project.say("run --events").ended(0);
        assert_eq!(said.out.matches("\"event\":\"landed\"").count(), 1, "{name}: {}", said.out);
    }
    assert_eq!(all.len(), 1, "{all:?}");
    assert_eq!(all.first().unwrap().len(), 10);
}

#[test]
fn scripts_of_every_habit_write_exactly_the_planned_files_under_every_shell() {
    for shell in ["dash", "bash", "zsh"].into_iter().filter(|shell| has(shell)) {
        for (name, adapter) in habits() {
            let project = project(name, &adapter);
            project.say("build -o render.sh").ended(0);
            let output = Command::new(shell).arg(project.path("render.sh")).env_clear().output().unwrap();
            let said = String::from_utf8_lossy(&output.stderr).into_owned();
            assert!(output.status.success(), "{shell} {name}: {said}");
            assert_eq!((made(&project), said.as_str()), (planned(&project), ""), "{shell} {name}");
            project.say("verify").ended(0);
        }
    }
}

#[test]
fn a_script_stops_or_goes_on_and_tells_the_truth() {
    let (_, lists) = habits().remove(0);
    for (how, misbehaviour, lost) in
        [("skip", "skip", true), ("exit-zero", "exit-zero", true), ("exit-one", "exit-one", false)]
    {
        let adapter = by_odd_program(&lists)
            .replace("\"--frames\"", &format!("\"--misbehave\", \"{misbehaviour}\", \"--frames\""));
        let project = project("lists", &adapter);
        let sheet = sheet("lists").replace("chunk = 3", "chunk = 3\nafter = [[\"touch\", \"over {outcome}\"]]");
        project.write("truepath.toml", sheet);
        for go_on in [false, true] {
            let _ = std::fs::remove_dir_all(project.path("out puts"));
            project.say(if go_on { "build --keep-going -o r.sh" } else { "build -o r.sh" }).ended(0);
            let output = Command::new("sh").arg(project.path("r.sh")).output().unwrap();
            let (out, err) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
            assert_eq!(output.status.code(), Some(if lost { 3 } else { 0 }), "{how}: {err}");
            assert_eq!(out.contains("[2 of 2]"), go_on || !lost, "{how} {go_on}: {out}");
            assert!(
                err.contains(if lost { "missing: " } else { "note: all files are there, and the exit code was 1" }),
                "{how}: {err}"
            );
            let over = if lost { "over incomplete" } else { "over complete" };
            assert!(project.path(over).exists(), "{how}");
            std::fs::remove_file(project.path(over)).unwrap();
        }
    }
}

#[test]
fn the_same_plan_gives_the_same_bytes_and_elsewhere_only_the_head_differs() {
    let (_, lists) = habits().remove(0);
    let (one, other) = (project("lists", &lists), project("lists", &lists));
    for target in ["sh", "cmd"] {
        let script = |project: &Project| project.say(&format!("build --to {target}")).ended(0).out;
        assert_eq!(script(&one), script(&one));
        let (a, b) = (script(&one), script(&other));
        let differ: Vec<(&str, &str)> = a.lines().zip(b.lines()).filter(|(a, b)| a != b).collect();
        assert_eq!(a.lines().count(), b.lines().count());
        // Folders at the head, and what the journal is told of each series.
        assert!(!differ.is_empty() && differ.len() <= 6, "{differ:?}");
        for (line, _) in differ {
            let line = line.trim_start_matches("set \"").trim_start_matches("::").trim_start_matches("series='");
            let heads = ["home=", "logs=", "root_1=", "stage_1=", "{\"event\":\"series\""];
            assert!(heads.iter().any(|head| line.starts_with(head)), "{line}");
        }
    }
}

#[test]
fn parts_share_the_work_evenly_and_write_everything_together() {
    let (_, lists) = habits().remove(0);
    let project = project("lists", &lists);
    project.write("truepath.toml", sheet("lists").replace("3-9/2,20", "1-23").replace("chunk = 3", "chunk = 2"));
    project.say("build --parts 3 --into parts").ended(0);
    let parts: Vec<String> = project.files("parts").into_iter().collect();
    assert_eq!(parts, ["01_crossing_1-8.sh", "02_crossing_9-16.sh", "03_crossing_17-23.sh"]);
    for part in &parts {
        let status = Command::new(project.path("parts").join(part)).output().unwrap();
        assert!(status.status.success());
    }
    assert_eq!(made(&project), planned(&project));
    std::fs::remove_file(project.path("out puts").join(made(&project).last().unwrap())).unwrap();
    let rest = project.say("build --missing --to json").ended(0).json();
    assert_eq!(rest["calls"].as_array().unwrap().len(), 1);
    assert_eq!((&rest["calls"][0]["frames"], &rest["calls"][0]["passes"][0]), (&"23".into(), &"mask".into()));
}

#[test]
fn guarded_scripts_let_every_file_be_checked() {
    let (_, lists) = habits().remove(0);
    let adapter = by_odd_program(&lists).replace("\"--frames\"", "\"--misbehave\", \"cut\", \"--frames\"");
    let project = project("lists", &adapter);
    project.say("build --guarded --keep-going -o r.sh").ended(0);
    let output = Command::new("sh").arg(project.path("r.sh")).output().unwrap();
    assert!(!output.status.success());
    assert!(made(&project).len() < 10, "cut files never bear their names");
    project.write("adapters/lists.toml", &lists);
    project.say("build --guarded -o r.sh").ended(0);
    let output = Command::new("sh").arg(project.path("r.sh")).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(made(&project), planned(&project));
    project.say("run --only nothing").ended(2);
    // Parts of a call, and a job that is not enabled, are found again.
    let (_, runs) = habits().remove(2);
    let parts = self::project("runs", &runs);
    parts.write("truepath.toml", sheet("runs").replace("camera = \"quay\"", "camera = \"quay\"\nenabled = false"));
    parts.say("build crossing --guarded --missing -o r.sh").ended(0);
    let output = Command::new("sh").arg(parts.path("r.sh")).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(made(&parts).len(), 10);
}

#[test]
fn another_program_gets_the_plan_on_its_standard_input() {
    use std::os::unix::fs::PermissionsExt;
    let (_, lists) = habits().remove(0);
    let project = project("lists", &lists);
    project.write("farm", "#!/bin/sh\ncat > handed.json\n[ ! -e refuse ]\n");
    std::fs::set_permissions(project.path("farm"), std::fs::Permissions::from_mode(0o755)).unwrap();
    project.say("build --through ./farm").ended(0);
    let handed: serde_json::Value =
        serde_json::from_slice(&std::fs::read(project.path("handed.json")).unwrap()).unwrap();
    assert_eq!(handed, project.say("build --to json").ended(0).json());
    project.write("refuse", "");
    project.say("build --through ./farm").ended(3);
}

#[test]
fn generated_words_come_back_byte_for_byte_from_every_shell() {
    use truepath_core::invoke::quote::sh::word;
    let pieces = [
        "",
        " ",
        "'",
        "\"",
        "\n",
        "$",
        "`",
        "!",
        "%",
        "^",
        "*",
        "?",
        "[a]",
        "{b,c}",
        "~",
        "\\",
        "é",
        "\u{1f6a2}",
        "-",
        "--",
        "=",
        "#",
        "&",
        "|",
        ";",
        "<",
        ">",
        "(",
        ")",
        "\t",
        "a",
        "$HOME",
        "$(pwd)",
        "\r",
    ];
    let mut state = 7u64;
    let mut roll = |sides: usize| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as usize % sides
    };
    let words: Vec<String> =
        (0..3000).map(|_| (0..roll(6)).map(|_| pieces[roll(pieces.len())]).collect::<String>()).collect();
    let folder = tempfile::tempdir().unwrap();
    for shell in ["dash", "bash", "zsh"].into_iter().filter(|shell| has(shell)) {
        for chunk in words.chunks(500) {
            let line: Vec<String> = chunk.iter().map(|text| word(text)).collect();
            let script = folder.path().join("s.sh");
            std::fs::write(&script, format!("printf '%s\\0' {}\n", line.join(" "))).unwrap();
            let output = Command::new(shell).arg(&script).output().unwrap();
            let back: Vec<&[u8]> = output.stdout.split(|byte| *byte == 0).collect();
            let expected: Vec<&[u8]> = chunk.iter().map(|text| text.as_bytes()).chain([b"".as_slice()]).collect();
            assert!(back == expected, "{shell}");
        }
    }
}

#[test]
fn scripts_for_sh_and_cmd_make_the_same_moves_in_the_same_order() {
    for (name, adapter) in habits() {
        let project = project(name, &adapter);
        project.say("build --to sh -o r.sh").ended(0);
        project.say("build --to cmd -o r.cmd").ended(0);
        // The words of the one, as a shell reads them: variables at the head, and each final name.
        let script = std::fs::read_to_string(project.path("r.sh")).unwrap();
        let names = ["home=", "logs=", "root_1=", "stage_1="];
        let head = script.lines().filter(|line| names.iter().any(|name| line.starts_with(name))).take(names.len());
        let files = script.lines().filter(|line| line.starts_with("file ") && !line.contains("()"));
        let body: Vec<&str> = head.chain(["file() { printf '%s\\n' \"$2\"; }"]).chain(files).collect();
        let said = Command::new("sh").args(["-c", &body.join("\n")]).output().unwrap();
        let sh: Vec<String> = String::from_utf8(said.stdout).unwrap().lines().map(str::to_owned).collect();
        // The words of the other, by its documented rules.
        let script = std::fs::read_to_string(project.path("r.cmd")).unwrap();
        let mut variables = std::collections::BTreeMap::new();
        for line in script.lines().filter_map(|line| line.strip_prefix("set \"")) {
            if let Some((name, value)) = line.trim_end_matches(['"', '\r']).split_once('=') {
                variables.entry(name.to_owned()).or_insert(value.to_owned());
            }
        }
        let moves = script
            .lines()
            .filter_map(|line| line.split_once("move /y \"%found%\" \""))
            .map(|(_, rest)| rest.split('"').next().unwrap());
        let cmd: Vec<String> = moves
            .map(|target| {
                let mut text = target.to_owned();
                variables.iter().for_each(|(name, value)| text = text.replace(&format!("%{name}:/=\\%"), value));
                text.replace('\\', "/").replace("%%", "%")
            })
            .collect();
        assert_eq!(sh.len(), 10, "{name}: {sh:?}");
        assert_eq!(sh, cmd, "{name}");
    }
}
