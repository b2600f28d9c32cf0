//! The example adapters for programs of many habits: one sheet of twelve jobs through all of them, on every way, gives the
//! same files.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::support::{Project, has};

/// Twelve jobs: two cameras, two weathers, three spans, of two passes with formats of their own. The folder and a camera's
/// variable want quoting.
fn sheet(adapter: &str) -> String {
    format!(
        r#"sheet = 1
[roots]
renders = "out puts/it's {{é}} & more"
[formats.view]
type = "png"
bits = 8
channels = "rgb"
[formats.data]
type = "png"
bits = 16
channels = "grey"
[defaults]
adapter = "{adapter}"
fps = 24
size = "16x9"
samples = 1
format = "view"
passes = ["beauty", {{ name = "mask", format = "data" }}]
path = "{{renders}}/{{job}}/{{camera}}-{{weather}}/{{pass}}.{{frame:4}}.{{ext}}"
vars.weather = "clear"
[[job]]
name = "early"
scene = "scenes/crossing.gltf"
frames = "1-2"
each = {{ camera = ["quay", "mast"], weather = ["clear", "fog"] }}
[[job]]
name = "late"
scene = "scenes/crossing.gltf"
frames = "30-34/2"
each = {{ camera = ["quay", "mast"], weather = ["clear", "fog"] }}
[[job]]
name = "parts"
scene = "scenes/crossing.gltf"
frames = "3,7"
each = {{ camera = ["quay", "mast"], weather = ["clear", "fog"] }}
[checks]
scene-span-not-covered = "off"
[run]
workers = 2
"#
    )
}

fn examples() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/examples")
}

/// The folder of the stand-in, for the path.
fn stand_ins() -> PathBuf {
    let folder = PathBuf::from(env!("CARGO_BIN_EXE_truepath")).with_file_name("examples");
    assert!(folder.join("lantern").is_file(), "cargo build -p truepath --examples");
    folder
}

/// A project whose programs are found where the stand-in is.
fn project(adapter: &str) -> Project {
    let project = Project::with(&sheet(adapter));
    for entry in std::fs::read_dir(examples().join("adapters")).unwrap().map(|entry| entry.unwrap().path()) {
        let name = entry.file_name().unwrap().to_string_lossy().into_owned();
        project.write(&format!("adapters/{name}"), std::fs::read(&entry).unwrap());
    }
    project
}

fn say(project: &Project, words: &str) -> crate::support::Said {
    let path = format!("{}:{}", stand_ins().display(), std::env::var("PATH").unwrap_or_default());
    crate::support::Said::from(project.command().args(words.split_whitespace()).env("PATH", path).output().unwrap())
}

/// The files of a project with their bytes, by their names below the output folder.
fn made(project: &Project) -> BTreeMap<String, Vec<u8>> {
    let names = project.files("out puts").into_iter().filter(|name| !name.contains(".truepath"));
    names.map(|name| (name.clone(), std::fs::read(project.path("out puts").join(&name)).unwrap())).collect()
}

/// The adapters of the stand-in.
fn adapters() -> Vec<String> {
    let entries = std::fs::read_dir(examples().join("adapters")).unwrap().map(|entry| entry.unwrap().path());
    let names = entries.map(|path| path.file_stem().unwrap().to_string_lossy().into_owned());
    let mut all: Vec<String> = names.filter(|name| name.starts_with("lantern")).collect();
    all.sort();
    assert!(all.len() > 12, "{all:?}");
    all
}

fn expected() -> BTreeMap<String, Vec<u8>> {
    let own = project("understudy");
    say(&own, "run").ended(0);
    let all = made(&own);
    assert_eq!(all.len(), 12 * 2 * 7 / 3, "frames of twelve jobs in two passes");
    all
}

#[test]
fn every_habit_gives_the_same_files_by_run() {
    let expected = expected();
    for adapter in adapters() {
        let project = project(&adapter);
        say(&project, "check").ended(0);
        say(&project, "run").ended(0);
        assert!(made(&project) == expected, "{adapter}: {:?}", made(&project).keys());
        say(&project, "verify --deep").ended(0);
        assert!(!project.path("out puts/it's {é} & more/.truepath").exists(), "{adapter}: nothing is left in stage");
        // One file of the middle is asked for again, and only that one lands.
        let one = expected.keys().nth(expected.len() / 2).unwrap();
        std::fs::remove_file(project.path("out puts").join(one)).unwrap();
        let again = say(&project, "run --events").ended(0).out;
        assert_eq!(again.matches("\"event\":\"landed\"").count(), 1, "{adapter}: {again}");
        assert!(made(&project) == expected, "{adapter}: again");
        if adapter == "lantern-joined" {
            let logs = project.files(".truepath/truepath/logs");
            assert!(logs.iter().any(|name| name.ends_with(".files/render.log")), "kept beside the log: {logs:?}");
            let journal = say(&project, "log early").ended(0).out;
            assert!(!journal.contains("thumbs"), "an expected file is no stray: {journal}");
        }
    }
}

#[test]
fn every_habit_gives_the_same_files_by_scripts_and_by_a_queue() {
    let expected = expected();
    let shells = ["dash", "bash", "zsh"].into_iter().filter(|shell| has(shell)).collect::<Vec<_>>();
    for (at, adapter) in adapters().iter().enumerate() {
        let project = project(adapter);
        say(&project, "build -o render.sh").ended(0);
        let shell = shells[at % shells.len()];
        let output = Command::new(shell).arg(project.path("render.sh")).env_clear().output().unwrap();
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(output.status.success() && said.is_empty(), "{shell} {adapter}: {said}");
        assert!(made(&project) == expected, "{shell} {adapter}: {:?}", made(&project).keys());
        say(&project, "verify --deep").ended(0);
        assert!(!project.path("out puts/it's {é} & more/.truepath").exists(), "{adapter}: nothing is left in stage");
        if !has("python3") {
            continue;
        }
        std::fs::remove_dir_all(project.path("out puts")).unwrap();
        let calls = say(&project, "build --to json").ended(0).out;
        let mut queue = Command::new("python3")
            .arg(examples().join("queue.py"))
            .stdin(Stdio::piped())
            .env_remove("PATH")
            .spawn()
            .unwrap();
        std::io::Write::write_all(&mut queue.stdin.take().unwrap(), calls.as_bytes()).unwrap();
        assert!(queue.wait().unwrap().success(), "{adapter} by a queue");
        assert!(made(&project) == expected, "{adapter} by a queue: {:?}", made(&project).keys());
    }
}

#[test]
fn a_variant_is_chosen_by_the_sheet_or_by_the_version_of_the_program() {
    let own = project("lantern");
    let calls = |version: &str| {
        let path = format!("{}:{}", stand_ins().display(), std::env::var("PATH").unwrap_or_default());
        // Whoever looks may ask the program only once its user trusts the folder.
        own.say("trust").ended(0);
        let _ = std::fs::remove_dir_all(own.path(".truepath"));
        let mut command = own.command();
        command.args(["build", "--to", "json", "early/quay/fog"]).env("PATH", path).env("LANTERN_VERSION", version);
        let calls = crate::support::Said::from(command.output().unwrap()).ended(0).json();
        calls["calls"][0]["arguments"].to_string()
    };
    assert!(calls("2026.1").contains("\"--lamp\",\"new\""), "{}", calls("2026.1"));
    assert!(calls("2025.3").contains("\"--lamp\",\"old\""));
    assert!(!calls("2024.0").contains("--lamp"), "no variant is for it: the adapter as it is");
    own.write("truepath.toml", sheet("lantern@2025"));
    assert!(calls("2026.1").contains("\"--lamp\",\"old\""), "what the sheet says holds");
    own.write("truepath.toml", sheet("lantern@2052"));
    let said = say(&own, "check").ended(1).out;
    assert!(said.contains("adapter-missing") && said.contains("lantern@2025"), "{said}");
    // A circle, and a name that nothing bears, are errors at their places.
    own.write("truepath.toml", sheet("lantern"));
    own.write("adapters/lantern-each.toml", "adapter = 1\nname = \"lantern-each\"\nlike = \"lantern\"\n");
    assert!(say(&own, "check").ended(1).out.contains("is `like` itself"));
    own.write("adapters/lantern-each.toml", "adapter = 1\nname = \"lantern-each\"\nlike = \"lantern-eech\"\n");
    assert!(say(&own, "check").ended(1).out.contains("there is no adapter `lantern-eech`"));
}

#[test]
fn a_hostile_value_stays_one_value_in_every_language() {
    let hostile = "fog\"'); import os # ]]> </job> \\ $(touch pwned) `id` %PATH%";
    for adapter in
        ["lantern-job", "lantern-script", "lantern-table", "lantern-sheet", "lantern-settings", "lantern-lines"]
    {
        let project = project(adapter);
        let toml = serde_json::Value::String(hostile.to_owned()).to_string();
        let job = format!(
            "[[job]]\nname = \"odd\"\nscene = \"scenes/crossing.gltf\"\nframes = \"1\"\ncamera = \"quay\"\nvars.note = {toml}\n"
        );
        let sheet = sheet(adapter);
        let (head, tail) = (sheet.split_once("[[job]]").unwrap().0, sheet.split_once("[checks]").unwrap().1);
        project.write("truepath.toml", format!("{head}{job}[checks]\nsequence-of-one = \"off\"{tail}"));
        let said = say(&project, "run").ended(0);
        let logs = project.files(".truepath/truepath/logs");
        let log = std::fs::read_to_string(project.path(".truepath/truepath/logs").join(logs.first().unwrap())).unwrap();
        assert!(log.contains(&format!("set note={hostile}\n")), "{adapter}: {log}{}", said.err);
        assert!(log.contains("/.written/"), "the log shows what was written: {log}");
        say(&project, "build -o r.sh").ended(0);
        let output =
            Command::new("sh").arg(project.path("r.sh")).arg("--again").current_dir(project.path("")).output().unwrap();
        assert!(output.status.success(), "{adapter}: {output:?}");
        assert!(String::from_utf8_lossy(&output.stdout).contains(&format!("set note={hostile}\n")), "{adapter}");
        assert!(!project.path("pwned").exists(), "{adapter}");
        // A line break would end a line of plain text, and is refused there; the others hold it.
        project.write(
            "truepath.toml",
            format!("{head}{}[checks]\nsequence-of-one = \"off\"{tail}", job.replace("fog", "fog\\n")),
        );
        let refused = adapter == "lantern-lines";
        let said = say(&project, "check").ended(i32::from(refused)).out;
        assert_eq!(said.contains("value-not-writable"), refused, "{adapter}: {said}");
    }
}

/// The claims that `prove` found false, with why.
fn disproved(adapter: &str, types: &str, change: &dyn Fn(&str) -> String) -> Vec<String> {
    let project = project("understudy");
    let text = std::fs::read_to_string(project.path(&format!("adapters/{adapter}.toml"))).unwrap();
    // Few types are enough here: each claim is a run.
    let few = format!("{types}]\nbits = [\"8\", \"16\"]\nchannels = [\"rgb\", \"grey\"]");
    let text = text.replace("\"png\", \"jpeg\", \"tiff\", \"exr\"]", &few);
    project.write(&format!("adapters/{adapter}.toml"), change(&text));
    let said = say(&project, &format!("adapter prove {adapter} --json"));
    let claims = said.json()["claims"].as_array().unwrap().clone();
    let failed: Vec<_> = claims.iter().filter(|claim| claim["held"] == false).collect();
    assert_eq!(said.code, i32::from(!failed.is_empty()), "{said:?}");
    failed
        .iter()
        .map(|claim| format!("{}: {}", claim["claim"].as_str().unwrap(), claim["why"].as_str().unwrap()))
        .collect()
}

#[test]
fn prove_finds_each_of_many_lies() {
    assert_eq!(
        disproved("lantern-job", "\"png\", \"jpeg\"", &str::to_owned),
        Vec::<String>::new(),
        "an honest one is accused of nothing"
    );
    // What a program does, and where it is found.
    for (lie, claim) in [
        ("one frame for all", "frames as a list:"),
        ("frames backwards", "the last frame alone:"),
        ("frames between steps", "frames as a list with steps:"),
        ("the last frame left out", "frames as a list:"),
        ("numbers as they come", "frames as a list:"),
        ("all frames under one name", "frames as a list:"),
        ("one camera for all", "two cameras:"),
        ("one size for all", "another size:"),
        ("one rate for all", "two rates:"),
        ("one number of samples for all", "two sample counts:"),
        ("one depth for all", "png 16 bits:"),
        ("one layout for all", "png grey:"),
        ("one quality for all", "two qualities:"),
        ("one type for all", "png 8 bits:"),
        ("the first pass only", "passes in one call:"),
        ("the same picture in all passes", "passes in one call:"),
        ("passes in each other's files", "passes in one call:"),
        ("files cut off", "png 8 bits:"),
        ("a file beside each", "png 8 bits:"),
    ] {
        let types = if lie == "one quality for all" { "\"png\", \"jpeg\"" } else { "\"png\"" };
        let found = disproved("lantern-job", types, &|text| format!("{text}\n[env]\nLANTERN_LIE = \"{lie}\"\n"));
        assert!(found.iter().any(|why| why.starts_with(claim)), "{lie}: {found:?}");
    }
    // What an adapter says wrongly of an honest program.
    for (right, wrong, claim) in [
        ("quote = \"json\"", "quote = \"python\"\n", ""),
        ("quote = \"json\"", "quote = \"none\"", "png 8 bits:"),
        ("[\"--version\"]", "[\"--about\"]", "prints its version:"),
        ("'^wrote (?<path>.+)$'", "'^saved (?<path>.+)$'", "[log] matches what it prints:"),
        ("\"fps\": {fps}", "\"fps\": \"24\"", "png 8 bits:"),
        ("@each pass ,", "@each pass", "passes in one call:"),
        ("    {frame}\n", "    {index}\n", "frames as a list:"),
    ] {
        let found = disproved("lantern-job", "\"png\"", &|text| {
            assert!(text.contains(right), "{right}");
            text.replace(right, wrong)
        });
        // Of these values, Python writes all as JSON does.
        assert!(claim.is_empty() == found.is_empty(), "{wrong}: {found:?}");
        assert!(claim.is_empty() || found.iter().any(|why| why.starts_with(claim)), "{wrong}: {found:?}");
    }
}

/// An adapter that uses what a language has, over a program that only says what it was given.
const TOKENS: &str = r#"adapter = 1
name = "teller"
program = "tools/tell"
folder = "{root.renders}"
arguments = [
  "{scene_name}", "{scene_below.scenes}", "{sheet_folder}", "{count}", "{after_last}",
  ["{when.small}", "--small"], ["{when.open}", "--open"], ["{when.night}", "--at", "{var.hour}"], ["{when.here}", "--linux"],
  ["--crop", "{region_x},{region_y},{region_w},{region_h}"],
  "{natives}", "--passes", "{passes}", "{type+bits}", "{size_of}", "{out}", "{camera}", "{fps}", "{width}x{height}", "{channels}", "{scene}", "{first}", "{region}",
]
native = ["-o", "{key}={value}"]
[frames]
per = "range"
[passes]
can = ["call"]
join = "+"
item = "{word}:{bits}"
[out]
writes = ["{any}"]
[words]
"type+bits"."png+8" = "P8"
[when.small]
"width" = [16, 32]
[when.open]
absent = ["region"]
[when.night]
given = ["var.hour"]
[when.here]
system = ["linux", "macos"]
[natives.denoise]
kind = "flag"
default = true
[natives.note]
arguments = ["--note", "{value}"]
[natives.depth]
kind = "whole"
values = [1, 2, 3]
"#;

#[test]
fn tokens_conditions_and_native_settings_arrive_as_they_are_written() {
    let project =
        Project::with(&crate::support::SMALL.replace("\"understudy\"", "\"teller\"").replace("\"1-24\"", "\"5-7\""));
    project.write("adapters/teller.toml", TOKENS.replace("\"{size_of}\", ", ""));
    project.write("tools/tell", "#!/bin/sh\n");
    Command::new("chmod").arg("+x").arg(project.path("tools/tell")).status().unwrap();
    let base = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    let base = base.replace("renders = \"renders\"", "renders = \"renders\"\nscenes = \"scenes\"");
    let folder = project.path("").display().to_string().trim_end_matches('/').to_owned();
    let words = |more: &str| {
        project.write("truepath.toml", base.replace("camera = \"quay\"", &format!("camera = \"quay\"\n{more}")));
        let calls = project.say("build --to json").ended(0).json();
        assert_eq!(calls["calls"][0]["folder"], format!("{folder}/renders"));
        let words = calls["calls"][0]["arguments"].as_array().unwrap().clone();
        words
            .iter()
            .map(|word| word.as_str().unwrap().to_owned())
            .take_while(|word| !word.contains("stage"))
            .collect::<Vec<_>>()
    };
    let head = ["crossing", "crossing.gltf", &folder, "3", "8", "--small"];
    let expected = |rest: &[&str]| head.iter().chain(rest).map(|word| (*word).to_owned()).collect::<Vec<_>>();
    let region = "region = \"25%,0%,50%,100%\"\n";
    assert_eq!(
        words(&format!("{region}vars.hour = 23\nnative.note = \"{{camera}} at {{var.hour}} {{{{x}}}}\"")),
        expected(&[
            "--at",
            "23",
            "--linux",
            "--crop",
            "8,0,16,18",
            "-o",
            "denoise=true",
            "--note",
            "quay at 23 {x}",
            "--passes",
            "beauty:8",
            "P8"
        ])
    );
    assert_eq!(
        words(&format!("{region}native.depth = 2\nleave = [\"native.denoise\"]")),
        expected(&["--linux", "--crop", "8,0,16,18", "-o", "depth=2", "--passes", "beauty:8", "P8"])
    );
    // Wrong ones are errors at their places, with what to write.
    for (more, check, help) in [
        ("native.dept = 2", "native-unknown", "write native.depth"),
        ("native.depth = 7", "native-value", "must be one of 1, 2, 3"),
        ("native.denoise = \"yes\"", "native-value", "must be true or false"),
        ("native.note = \"{camra}\"", "native-value", "there is no token {camra}"),
        ("native.note = \"{\"", "native-value", "is not closed"),
    ] {
        project
            .write("truepath.toml", base.replace("camera = \"quay\"", &format!("camera = \"quay\"\n{region}{more}")));
        let said = project.say("check").ended(1).out;
        assert!(said.contains(check) && said.contains(help), "{more}: {said}");
    }
    let shown = project.say("adapter show teller").ended(0).out;
    assert!(shown.contains("depth: 1 | 2 | 3") && shown.contains("denoise: true or false, true by default"), "{shown}");
    // In the adapter itself: a token of a condition, a file or a setting that is not there, and a combination without words.
    for (right, wrong, help) in [
        ("{when.small}", "{when.smal}", "write {when.small}"),
        ("{type+bits}", "{type+channels}", "give its words"),
        ("{natives}", "{write.job}", "declare it under [write.job]"),
        ("{root.renders}", "{root.}", "there is no token `root.`"),
        ("name = \"teller\"", "name = \"teller\"\nmatches = \"x\"", "unknown key `matches`"),
        ("absent = [\"region\"]", "absent = [\"regoin\"]", "there is no token `regoin`"),
        ("\"width\" = [16, 32]", "\"widht\" = [16, 32]", "write `width`"),
    ] {
        project.write("adapters/teller.toml", TOKENS.replace("\"{size_of}\", ", "").replace(right, wrong));
        let said = project.say("check").ended(1).out;
        assert!(said.contains(help), "{wrong}: {said}");
    }
}

#[test]
fn what_a_program_is_told_in_a_file_makes_its_frames_stale() {
    let project = project("lantern-job");
    let small = sheet("lantern-job").split("[[job]]").take(2).collect::<Vec<_>>().join("[[job]]")
        + "[checks]\nscene-span-not-covered = \"off\"\n";
    project.write("truepath.toml", &small);
    say(&project, "run").ended(0);
    let text = std::fs::read_to_string(project.path("adapters/lantern-job.toml")).unwrap();
    let stale = || say(&project, "verify").out.contains("stale");
    assert!(!stale());
    assert!(text.contains("\"samples\": {samples}"));
    project.write("adapters/lantern-job.toml", text.replace("\"samples\": {samples}", "\"samples\": 2"));
    assert!(stale(), "the text of the file");
    project.write("adapters/lantern-job.toml", &text);
    project.write(
        "truepath.toml",
        small.replace("vars.weather = \"clear\"", "vars.weather = \"clear\"\nvars.note = \"x\""),
    );
    assert!(stale(), "every variable is in the file");
}

#[test]
fn a_first_adapter_comes_from_the_help_of_a_program() {
    let own = project("understudy");
    own.say("understudy render --help").ended(0);
    own.write("help.txt", own.say("understudy render --help").out);
    own.say("adapter new first --program truepath --from-help help.txt").ended(0);
    let text = std::fs::read_to_string(own.path("adapters/first.toml")).unwrap();
    assert!(text.contains("\"--pass\", \"{word}={out}\"") && text.contains("[\"--camera\", \"{camera}\"]"), "{text}");
    // What its help cannot say: that it is a command of another program, and how its numbers are written.
    let text = text
        .replace("arguments = [", "arguments = [\"understudy\", \"render\",")
        .replace("number = \"none\"", "number = \"#\"")
        .replace("\"--pass\", \"{word}={out}\"", "[\"--pass\", \"{word}={out}\"]");
    own.write(
        "adapters/first.toml",
        text.replace("can = [\"pass\"]", "can = [\"call\"]")
            .replace("# scenes = [\"gltf\"]", "scenes = [\"gltf\"]\nbits = [\"8\", \"16\"]\nchannels = [\"rgb\"]")
            .replace("# wrote = '^saved", "wrote = '^wrote"),
    );
    let said = own.say("adapter prove first");
    assert!(said.out.contains("does what it claims"), "{}", said.out);
}

#[test]
fn an_exporter_may_be_told_in_a_file_and_start_elsewhere() {
    let project = Project::with(
        &crate::support::SMALL
            .replace("camera = \"quay\"\n", "camera = \"quay\"\nexport = \"maker\"\n")
            .replace("\"1-24\"", "\"1-2\"")
            .replace("renders = \"renders\"", "renders = \"renders & co\""),
    );
    project.write(
        "adapters/maker.toml",
        "adapter = 1\nname = \"maker\"\nkind = \"exporter\"\nprogram = \"tools/make\"\nfolder = \"{scene_folder}\"\narguments = [\"{write.job}\"]\n\
         [out]\nwrites = [\"{scene_name}.gltf\"]\n[write.job]\nfile = \"job.txt\"\ntext = '''\n{scene}\n{out}\n? {view}\n'''\n",
    );
    // It reads its scene and its product from the file, and leaves another file beside that.
    project.write(
        "tools/make",
        "#!/bin/sh\n{ read -r scene; read -r out; read -r more && exit 1; } <\"$1\"\ncp crossing.gltf \"$out\" && cp crossing.bin \"${out%/*}\" && echo x >\"${out%/*}/notes\"\n",
    );
    Command::new("chmod").arg("+x").arg(project.path("tools/make")).status().unwrap();
    project.say("run").ended(0);
    project.say("verify --deep").ended(0);
    let by_run = project.stamps("renders & co").into_values().map(|(bytes, _)| bytes).collect::<Vec<_>>();
    for folder in ["renders & co", ".truepath"] {
        std::fs::remove_dir_all(project.path(folder)).unwrap();
    }
    project.say("build -o r.sh").ended(0);
    crate::support::Said::from(Command::new("sh").arg(project.path("r.sh")).output().unwrap()).ended(0);
    assert_eq!(project.stamps("renders & co").into_values().map(|(bytes, _)| bytes).collect::<Vec<_>>(), by_run);
    // A folder that does not exist is named, and not the program.
    let text = std::fs::read_to_string(project.path("adapters/maker.toml")).unwrap();
    project.write("adapters/maker.toml", text.replace("{scene_folder}", "{scene_folder}/nowhere"));
    std::fs::remove_dir_all(project.path("renders & co")).unwrap();
    let said = project.say("run");
    assert!(said.code != 0 && said.err.contains("nowhere"), "{}", said.err);
}

/// What falls away with the list that holds it is never lost in silence.
#[test]
fn a_setting_whose_argument_falls_away_is_an_error() {
    let sheet = crate::support::SMALL.replace("\"understudy\"", "\"buoy\"").replace("\"1-24\"", "\"5-7\"");
    let sheet = sheet.replace("bits = 8\nchannels = \"rgb\"\n", "");
    let project = Project::with(&sheet);
    let adapter = "adapter = 1\nname = \"buoy\"\nprogram = \"truepath\"\n\
         arguments = [\"understudy\", \"render\", \"{scene}\", \"--frames\", \"{frames}\", \"{width}x{height}\", \"{fps}\", \"{out}\", \"{camera}\", IN]\n\
         native = [\"--set\", \"{key}={value}NATIVE\"]\nvariable = [\"--set\", \"{key}={value}VARIABLE\"]\n\
         [out]\nnumber = \"#\"\nwrites = [\"{out}\"]\n[natives.look]\n[natives.many]\nkind = \"whole\"\n";
    let found = |(natives, native, variable): (&str, &str, &str), more: &str| {
        let text = adapter.replace("IN", natives).replace("NATIVE", native).replace("VARIABLE", variable);
        project.write("adapters/buoy.toml", text);
        let camera = format!("camera = \"quay\"\n{more}");
        project.write("truepath.toml", sheet.replace("camera = \"quay\"", &camera));
        let said = project.say("check --json");
        let findings = said.json()["findings"].as_array().unwrap().clone();
        let mut found: Vec<String> = findings
            .iter()
            .filter(|finding| finding["level"] == "error")
            .map(|finding| format!("{}: {}", finding["check"].as_str().unwrap(), finding["message"].as_str().unwrap()))
            .collect();
        found.sort();
        found
    };
    let both = "\"{natives}\", \"{variables}\"";
    let more = "native.look = \"calm\"\nvars.fog = \"thin\"\n";
    assert_eq!(found((both, "", ""), more), Vec::<String>::new());
    for (way, lost) in [
        ((both, ":{region}", ""), "`native.look`"),
        ((both, "", ":{region}"), "`vars.fog`"),
        (("[\"--more\", \"{region}\", \"{natives}\"], \"{variables}\"", "", ""), "`native.look`"),
        (("\"{natives}\", [\"--more\", \"{region}\", \"{variables}\"]", "", ""), "`vars.fog`"),
    ] {
        let said = found(way, more);
        assert!(
            said.len() == 1 && said[0].starts_with(&format!("setting-not-carried: buoy does not receive {lost}")),
            "{way:?}: {said:?}"
        );
    }
    // A template is measured by what it gives.
    let said = found((both, "", ""), "vars.fog = \"thin\"\nnative.many = \"{var.fog}\"\n");
    assert!(said.len() == 1 && said[0].starts_with("native-value: "), "{said:?}");
    assert_eq!(found((both, "", ""), "vars.fog = \"3\"\nnative.many = \"{var.fog}\"\n"), Vec::<String>::new());
}

/// What is promised of a renderer's line holds for an exporter's.
#[test]
fn an_exporter_is_told_and_checked_as_a_renderer_is() {
    let sheet = crate::support::SMALL
        .replace(
            "camera = \"quay\"\n",
            "camera = \"quay\"\nexport = \"maker\"\nvars.tide = \"low\"\nenv.HARBOUR = \"north\"\n",
        )
        .replace("\"1-24\"", "\"1-2\"");
    let two = format!(
        "{sheet}\n{}",
        sheet[sheet.find("[[job]]").unwrap()..sheet.find("[checks]").unwrap()]
            .replace("crossing\"\n", "second\"\n")
            .replace("quay", "mast")
    );
    let project = Project::with(&two);
    let adapter = "adapter = 1\nname = \"maker\"\nkind = \"exporter\"\nprogram = \"tools/make\"\narguments = [\"{scene}\", \"{write.notes}\", \"{out}\"]\n\
         [out]\nwrites = [\"{out_stem}.gltf\"]\n[write.notes]\nfile = \"notes.txt\"\ntext = \"{var.tide} of {job}\"\n[accepts]\nscenes = [\"gltf\"]\n";
    project.write("adapters/maker.toml", adapter);
    project.write(
        "tools/make",
        "#!/bin/sh\necho \"$HARBOUR $(cat \"$2\")\" >>told\ncp \"$1\" \"$3\" && cp \"${1%/*}/crossing.bin\" \"${3%/*}\"\n",
    );
    Command::new("chmod").arg("+x").arg(project.path("tools/make")).status().unwrap();
    let told = || {
        let mut lines: Vec<String> =
            std::fs::read_to_string(project.path("told")).unwrap().lines().map(str::to_owned).collect();
        lines.sort();
        std::fs::remove_file(project.path("told")).unwrap();
        lines
    };
    // The variable is the exporter's alone, and that is use enough; each job's file makes an export of its own.
    let said = project.say("check").ended(0).out;
    assert!(!said.contains("tide"), "{said}");
    project.say("run").ended(0);
    assert_eq!(told(), ["north low of crossing", "north low of second"]);
    project.say("build -o r.sh").ended(0);
    crate::support::Said::from(Command::new("sh").arg(project.path("r.sh")).output().unwrap()).ended(0);
    let by_script = std::fs::read_to_string(project.path("told")).unwrap_or_default();
    assert!(by_script.is_empty(), "everything is there: {by_script}");
    for (right, wrong) in [("\"low\"", "\"high\""), ("\"north\"", "\"south\"")] {
        project.write("truepath.toml", two.replace(right, wrong));
        assert!(project.say("verify").out.contains("stale"), "{wrong}");
    }
    project.say("run --existing replace").ended(0);
    assert_eq!(told(), ["south low of crossing", "south low of second"], "another environment, another product");
    project.write("adapters/maker.toml", adapter.replace("{var.tide} of", "{var.tide} tide of"));
    project.say("run --existing replace").ended(0);
    assert_eq!(told(), ["south low tide of crossing", "south low tide of second"], "another text, another product");
    for (right, wrong, check) in [
        ("\"{out}\"]\n", "\"{out}\", \"{region}\"]\n", "argument-without-value"),
        ("[\"gltf\"]", "[\"usda\"]", "scene-not-accepted"),
    ] {
        project.write("adapters/maker.toml", adapter.replace(right, wrong));
        let said = project.say("check");
        assert!(said.out.contains(check), "{wrong}: {}", said.out);
    }
}

#[test]
fn every_example_does_what_it_claims() {
    for adapter in adapters() {
        assert_eq!(disproved(&adapter, "\"png\"", &str::to_owned), Vec::<String>::new(), "{adapter}");
    }
}
