//! What is said is true: every command judges a file alike, every offered command fixes and touches nothing else, and a
//! plan comes out the same whether it is run, written as a script or handed to a queue.

use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::support::{Project, SMALL, Said, UNDERSTUDY, exporting, has, odd, planned, rendered};
use serde_json::Value;

const STATES: [&str; 8] = ["good", "missing", "broken", "wrong", "stale", "changed", "foreign", "odd"];

/// Two passes of two cameras, in small.
fn four() -> Project {
    let sheet = SMALL.replace("camera = \"quay\"", "each = { camera = [\"quay\", \"mast\"] }");
    let sheet = sheet.replace("{job}_{pass}", "{job}_{camera}_{pass}").replace("1-24", "1-12");
    Project::with(&sheet.replace("format = \"view\"", "format = \"view\"\npasses = [\"beauty\", \"mask\"]"))
}

fn series(document: &Value) -> Vec<(String, BTreeMap<&'static str, String>)> {
    let of = |row: &Value| {
        let states =
            STATES.iter().chain(["planned"].iter()).map(|name| (*name, row[*name].as_str().unwrap().to_owned()));
        (row["series"].as_str().unwrap().to_owned(), states.collect())
    };
    document["series"].as_array().unwrap().iter().map(of).collect()
}

/// Runs the commands that a document offers, in their order.
fn fix(project: &Project, document: &Value) {
    let offered = document["fix"].as_array().unwrap();
    assert!(!offered.is_empty(), "{document:#}");
    for line in offered {
        let words: Vec<&str> = line.as_array().unwrap().iter().map(|word| word.as_str().unwrap()).collect();
        assert_eq!(words[0], "truepath");
        project.call(&words[1..]);
    }
}

fn executable(project: &Project, name: &str, text: &str) {
    project.write(name, text);
    std::fs::set_permissions(project.path(name), std::fs::Permissions::from_mode(0o755)).unwrap();
}

#[test]
fn status_and_verify_judge_alike_and_what_they_offer_mends_and_touches_no_good_file() {
    let project = four();
    project.say("run").ended(0);
    let name =
        |camera: &str, pass: &str, frame: u32| format!("renders/crossing/crossing_{camera}_{pass}.{frame:04}.png");
    let read = |name: &str| std::fs::read(project.path(name)).unwrap();
    // Gone; cut off; of another size; other bytes of another length; cut off at its own length.
    std::fs::remove_file(project.path(&name("quay", "beauty", 2))).unwrap();
    let whole = read(&name("quay", "beauty", 3));
    project.write(&name("quay", "beauty", 3), &whole[..whole.len() / 2]);
    let small = "understudy render scenes/crossing.gltf --frames 4 --size 16x9 --channels rgb --pass";
    project.say(&format!("{small} beauty={}", name("quay", "mask", 4))).ended(0);
    let mut other = read(&name("mast", "beauty", 6));
    let end = other.len() - 12;
    other.splice(end..end, *b"\0\0\0\x04tEXta\0bc\xd9\x5c\x10\xb3");
    project.write(&name("mast", "beauty", 5), &other);
    let mut hollow = read(&name("mast", "mask", 7));
    let end = hollow.len() - 12;
    hollow[end..].fill(0);
    project.write(&name("mast", "mask", 7), &hollow);
    crate::support::written_later(&project.path(&name("mast", "mask", 7)));
    let (verified, status) = (project.say("verify --json").ended(1), project.say("status --json").ended(1));
    let (verified, status) = (verified.json(), status.json());
    assert_eq!(series(&verified), series(&status));
    assert_eq!(verified["fix"], status["fix"]);
    assert_eq!(verified["outcome"], "incomplete");
    let rows: BTreeMap<String, BTreeMap<&str, String>> = series(&verified).into_iter().collect();
    let state = |series: &str, state: &str| rows[series][state].clone();
    assert_eq!(state("crossing/quay/beauty", "missing"), "2");
    assert_eq!(state("crossing/quay/beauty", "broken"), "3");
    assert_eq!(state("crossing/quay/mask", "wrong"), "4");
    assert_eq!(state("crossing/mast/beauty", "changed"), "5");
    assert_eq!(state("crossing/mast/mask", "broken"), "7", "a run would have trusted its length");
    for words in ["verify", "status"] {
        let said = project.say(words).ended(1).out;
        assert!(!said.contains("\u{2713} complete:") && said.contains("not complete: 43 of 48 files good"), "{said}");
    }
    // What a narrowed look offers stays narrow.
    let narrow = project.say("verify crossing/quay --frames 3 --json").ended(1).json();
    assert_eq!(
        narrow["fix"],
        serde_json::json!([["truepath", "run", "--frames", "3", "--pass", "beauty", "crossing/quay"]])
    );
    let before = project.stamps("renders");
    fix(&project, &verified);
    project.say("verify --json").ended(0);
    let after = project.stamps("renders");
    let touched: Vec<&String> =
        before.iter().filter(|(name, stamp)| after[*name] != **stamp).map(|(name, _)| name).collect();
    assert_eq!(touched.len(), 4, "{touched:?}");
    assert!(project.say("verify").ended(0).out.ends_with("complete: 48 files as planned\n"));
    // Made of something else: one command, and it is named by status as by verify.
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    project.write("truepath.toml", sheet.replace("32x18", "34x18"));
    let (verified, status) =
        (project.say("verify --json").ended(1).json(), project.say("status --json").ended(1).json());
    assert_eq!((series(&verified), &verified["fix"]), (series(&status), &status["fix"]));
    assert!(project.say("run").ended(1).err.contains("Fix it: truepath run --existing renew\n"));
    fix(&project, &verified);
    project.say("status").ended(0);
}

#[test]
fn a_narrowed_look_calls_no_planned_file_a_stray_and_a_real_one_always() {
    let project = four();
    project.say("run").ended(0);
    project.write("renders/crossing/crossing_quay_beauty.0099.png", "from somewhere");
    let stray = |words: &str| {
        let rows = project.say(words).json()["series"].clone();
        let all = rows.as_array().unwrap().iter().flat_map(|row| row["stray"].as_array().unwrap().clone());
        all.map(|path| path.as_str().unwrap().rsplit('/').next().unwrap().to_owned()).collect::<Vec<_>>()
    };
    for words in
        ["", " --frames 1-3", " --pass beauty", " --camera quay", " crossing/quay", " crossing/quay --frames 5"]
    {
        assert_eq!(stray(&format!("verify --json{words}")), ["crossing_quay_beauty.0099.png"], "{words}");
        assert_eq!(stray(&format!("status --json{words}")), ["crossing_quay_beauty.0099.png"], "{words}");
    }
    assert!(stray("verify --json --pass mask --frames 2").is_empty());
    // Two jobs, and two sheets, that share one folder and one pattern.
    let half = |name: &str, frames: &str| {
        SMALL
            .replace("{job}/{job}_{pass}", "night_{pass}")
            .replace("\"crossing\"\nscene", &format!("\"{name}\"\nscene"))
            .replace("1-24", frames)
    };
    let two = Project::with(&half("first", "1-6"));
    two.write("second.toml", half("second", "7-12"));
    let both = "-f truepath.toml -f second.toml";
    two.say(&format!("run {both}")).ended(0);
    let rows = two.say(&format!("verify --json {both}")).ended(0).json();
    assert!(rows["series"].as_array().unwrap().iter().all(|row| row["stray"] == serde_json::json!([])), "{rows:#}");
    std::fs::remove_file(two.path("renders/night_beauty.0008.png")).unwrap();
    let fix = two.say(&format!("verify --json {both}")).ended(1).json();
    assert_eq!(fix["fix"], serde_json::json!([["truepath", "run", "-f", "second.toml"]]));
}

#[test]
fn odd_pictures_are_a_warning_of_their_own_and_never_complete() {
    let project = Project::with(&SMALL.replace("1-24", "1-4"));
    project.say("run").ended(0);
    let name = |frame: u32| project.path(&format!("renders/crossing/crossing_beauty.{frame:04}.png"));
    // Without journals nobody knows that this is not what landed.
    std::fs::copy(name(1), name(2)).unwrap();
    std::fs::remove_dir_all(project.path(".truepath/truepath/journal")).unwrap();
    let said = project.say("verify --deep").ended(0).out;
    assert!(!said.contains("complete"), "{said}");
    assert!(said.contains("4 of 4 files as planned\n") && said.contains("note: 3 files are foreign"), "{said}");
    // Whoever put it there: it shows what its neighbour shows.
    let words = "is identical to the frame before, pixel by pixel [picture-repeated]; True Path has no record of it";
    assert!(said.contains(words), "{said}");
}

#[test]
fn whose_finds_bare_names_in_every_mode_and_in_every_sheet() {
    let mode = "\n[modes.draft]\nsamples = 1\npath = \"{renders}/draft/{job}_{pass}.{frame:4}.{ext}\"\n";
    let project = Project::with(&format!("{SMALL}{mode}"));
    project.write("second.toml", SMALL.replace("\"crossing\"", "\"ferry\""));
    let both = "-f truepath.toml -f second.toml";
    let said = project.say(&format!("whose {both} ferry_beauty.0007.png")).ended(0).out;
    assert!(
        said.contains("ferry, pass beauty, frame 7  ferry_beauty.0007.png") && said.contains("(sheet second)"),
        "{said}"
    );
    let files = project.say("whose --json crossing_beauty.0009.png").ended(0).json()["files"].clone();
    let found: Vec<(&str, &Value)> =
        files.as_array().unwrap().iter().map(|file| (file["series"].as_str().unwrap(), &file["mode"])).collect();
    assert_eq!(found, [("crossing/beauty", &Value::Null), ("crossing/beauty@draft", &"draft".into())]);
    let draft = project.say("whose --json renders/draft/crossing_beauty.0009.png").ended(0).json();
    assert_eq!([&draft["files"][0]["mode"], &draft["files"][0]["frame"]], [&Value::from("draft"), &Value::from(9)]);
    project.say("whose nobody.0001.png").ended(1);
    // A mode with names of its own may be tried with other settings; final names may not.
    project.say("run --mode draft --set samples=2 --frames 1").ended(0);
    project.say("run --set samples=2 --frames 1").ended(2);
}

/// What lies in a tree, without what True Path keeps there.
fn pictures(project: &Project) -> BTreeMap<String, Vec<u8>> {
    let all = project.stamps("renders").into_iter().filter(|(name, _)| !name.contains(".truepath"));
    all.map(|(name, (bytes, _))| (name, bytes)).collect()
}

fn queue(project: &Project, words: &str) -> Said {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/examples/queue.py");
    let document = project.say(&format!("build --to json {words}")).ended(0).out;
    project.write("calls.json", document);
    let calls = std::fs::File::open(project.path("calls.json")).unwrap();
    Said::from(Command::new("python3").arg(root).stdin(calls).current_dir(project.path("")).output().unwrap())
}

fn exported() -> Project {
    exporting(SMALL, "1-4", "exec cp \"$1\" \"$2\"\n")
}

#[test]
fn a_plan_comes_out_the_same_by_run_by_script_and_by_queue() {
    if !has("python3") {
        return;
    }
    let projects: [fn() -> Project; 2] = [four, exported];
    for make in projects {
        let (run, script, plain, guarded) = (make(), make(), make(), make());
        run.say("run").ended(0);
        script.say("build -o r.sh").ended(0);
        Said::from(Command::new("sh").arg(script.path("r.sh")).output().unwrap()).ended(0);
        queue(&plain, "").ended(0);
        queue(&guarded, "--guarded").ended(0);
        let expected = pictures(&run);
        assert_eq!(expected.keys().map(String::as_str).collect::<Vec<_>>().len(), planned(&run).len());
        for (how, other) in [("script", &script), ("queue", &plain), ("guarded queue", &guarded)] {
            assert!(pictures(other) == expected, "{how}: {:?}", pictures(other).keys());
            assert!(!other.files("renders").iter().any(|name| name.contains(".truepath")), "{how}: stage is gone");
        }
        // What a script made is known, and goes stale as anything else.
        for other in [&script, &guarded] {
            assert!(other.say("verify").ended(0).out.ends_with(" files as planned\n"));
            let row = other.say("verify --json").ended(0).json()["series"][0].clone();
            assert_eq!((&row["foreign"], &row["stale"]), (&"".into(), &"".into()), "{row}");
        }
        assert!(script.say("log crossing").ended(0).out.contains("\u{2713} good"));
        let sheet = std::fs::read_to_string(script.path("truepath.toml")).unwrap();
        script.write("truepath.toml", sheet.replace("32x18", "32x18\"\nsamples = \"2").replace("\"2\"", "2"));
        let row = script.say("verify --json").ended(1).json()["series"][0].clone();
        assert!(row["stale"] != "" && row["good"] == "", "{row}");
        // Every call that is needed is in the document, and every folder and file that it means.
        let calls = run.say("build --to json").ended(0).json()["calls"].as_array().unwrap().clone();
        let ids: Vec<&Value> = calls.iter().map(|call| &call["id"]).collect();
        assert!(calls.iter().all(|call| call["needs"].as_array().unwrap().iter().all(|need| ids.contains(&need))));
        let lands: usize = calls
            .iter()
            .filter(|call| call["kind"] == "render")
            .map(|call| call["lands"].as_array().unwrap().len())
            .sum();
        assert_eq!(lands, expected.len());
    }
    // What narrowed the plan is handed on to each guarded call.
    let narrow = four();
    queue(&narrow, "--guarded --pass mask --frames 2-3 --camera mast").ended(0);
    let made: Vec<String> =
        pictures(&narrow).into_keys().map(|name| name.rsplit('/').next().unwrap().to_owned()).collect();
    assert_eq!(made, ["crossing_mast_mask.0002.png", "crossing_mast_mask.0003.png"]);
    assert!(narrow.say("build -o renders").ended(2).err.contains("--parts N"));
}

#[test]
fn a_script_lands_only_what_is_finished_and_skips_what_is_there() {
    let sheet = SMALL.replace("1-24", "1-6");
    for (how, at, came) in [("crash", 3, "1-2"), ("cut", 3, "1-2,4-6"), ("skip", 3, "1-2,4-6"), ("exit-one", 3, "1-6")]
    {
        let project = odd(&sheet.replace(
            "camera = \"quay\"",
            &format!("camera = \"quay\"\nnative.misbehave = \"{how}\"\nnative.at = {at}"),
        ));
        project.say("build -o r.sh --keep-going").ended(0);
        // Nothing that lay there before may land.
        let junk = project.stage().join("crossing_1-6/crossing_beauty.0003.png");
        project.write(junk.strip_prefix(project.path("")).unwrap().to_str().unwrap(), "junk");
        let sh =
            |words: &[&str]| Said::from(Command::new("sh").arg(project.path("r.sh")).args(words).output().unwrap());
        let said = sh(&[]);
        assert_eq!(said.code, if how == "exit-one" { 0 } else { 3 }, "{how}: {}", said.err);
        let row = project.say("verify --json").json()["series"][0].clone();
        assert_eq!((row["good"].as_str().unwrap(), &row["broken"]), (came, &"".into()), "{how}: {}", said.err);
        let count = rendered(&project).len();
        // The last line says what is missing, once.
        let missing = row["missing"].as_str().filter(|own| !own.is_empty());
        let missing = missing.map_or(String::new(), |own| format!("; missing: crossing/beauty {own}"));
        let last = format!("\n{count} of 6 files are there{missing}\n");
        assert!(said.out.ends_with(&last), "{how}: {}", said.out);
        if how == "exit-one" {
            let before = project.stamps("renders");
            assert!(sh(&[]).ended(0).out.contains("crossing_1-6: already there"));
            assert_eq!(project.stamps("renders"), before);
            sh(&["--again"]).ended(0);
            assert_ne!(project.stamps("renders"), before, "everything was made again");
            sh(&["--agian"]).ended(2);
        } else {
            let status = project.say("status --json").json()["series"][0].clone();
            assert_eq!(status["failed"], row["missing"], "{how}");
        }
    }
    // No licence: a pause, then the same again.
    let moody = Project::with(&sheet.replace("\"understudy\"", "\"moody\""));
    let program = env!("CARGO_BIN_EXE_truepath");
    executable(
        &moody,
        "bin/moody",
        &format!(
            "#!/bin/sh\ncase $* in *--frames*) [ -e tried ] || {{ touch tried; echo waiting for a seat; exit 1; }} ;; esac\nexec '{program}' \"$@\"\n"
        ),
    );
    moody.write("adapters/moody.toml", UNDERSTUDY.replace("program = \"truepath\"", "program = \"bin/moody\""));
    moody.say("build -o r.sh").ended(0);
    let said = Said::from(Command::new("sh").arg(moody.path("r.sh")).output().unwrap()).ended(0);
    assert!(said.err.contains("no licence is free; again in 1 s"), "{}", said.err);
    assert_eq!(rendered(&moody), planned(&moody));
}

#[test]
fn a_log_may_say_that_a_call_failed_or_that_it_finished() {
    let program = env!("CARGO_BIN_EXE_truepath");
    let sheet =
        SMALL.replace("1-24", "1-4").replace("\"understudy\"", "\"loud\"").replace("[run]", "[run]\nretries = 0");
    for (body, rules, came) in [
        ("echo FATAL: no textures; exec $RENDER", "fatal = '^FATAL'", ""),
        ("$RENDER; echo all done", "finished = '^all done$'", "1-4"),
        ("exec $RENDER", "finished = '^all done$'", "1-3"),
        ("$RENDER; exit 7", "", "1-4"),
    ] {
        let adapter =
            UNDERSTUDY.replace("program = \"truepath\"", "program = \"bin/loud\"").replace("ok = [0]", "ok = [7]");
        // Without a word on each file, what is trusted shows.
        let adapter = adapter.replace("wrote = '^wrote (?<path>.+)$'\n", &format!("{rules}\n"));
        for way in ["run", "script"] {
            let project = Project::with(&sheet.replace("chunk = 6", "chunk = 4"));
            let ok = if rules.is_empty() { adapter.clone() } else { adapter.replace("ok = [7]", "ok = [0]") };
            project.write("adapters/loud.toml", ok);
            executable(
                &project,
                "bin/loud",
                &format!("#!/bin/sh\n{}\n", body.replace("$RENDER", &format!("'{program}' \"$@\""))),
            );
            let said = if way == "run" {
                project.say("run")
            } else {
                project.say("build -o r.sh").ended(0);
                Said::from(Command::new("sh").arg(project.path("r.sh")).output().unwrap())
            };
            let good = project.say("verify --json").json()["series"][0]["good"].as_str().unwrap().to_owned();
            assert!(good.len() <= came.len() && came.starts_with(&good), "{way} {rules}: {good}\n{}", said.err);
            assert_eq!(said.code, if came == "1-4" { 0 } else { 3 }, "{way} {rules}: {}\n{}", said.out, said.err);
            assert!(
                way != "run" || rules != "fatal = '^FATAL'" || said.err.contains("FATAL: no textures"),
                "{}",
                said.err
            );
        }
    }
}

#[test]
fn a_program_that_always_fails_is_started_eight_times_at_most() {
    for (chunk, workers, retries) in [(1, 1, 0), (1, 2, 3), (8, 1, 1), (8, 2, 1), (12, 2, 5), (96, 1, 1), (96, 2, 0)] {
        let run = format!("workers = {workers}\nretries = {retries}\nchunk = {chunk}");
        let project = Project::with(
            &SMALL.replace("1-24", "1-96").replace("chunk = 6", &run).replace("\"understudy\"", "\"bad\""),
        );
        executable(
            &project,
            "bin/bad",
            "#!/bin/sh\ncase $* in *--frames*) echo x >> starts ;; esac\necho cannot open the display\nexit 1\n",
        );
        project.write("adapters/bad.toml", UNDERSTUDY.replace("program = \"truepath\"", "program = \"bin/bad\""));
        let said = project.say("run").ended(3).err;
        let starts = std::fs::read_to_string(project.path("starts")).unwrap().lines().count();
        assert!((3..=8).contains(&starts), "chunk {chunk}, {workers} workers, {retries} retries: {starts} starts");
        assert!(said.contains("cannot open the display") && said.contains("gave up crossing: "), "{said}");
    }
    // One frame that cannot be made, and be it the first, costs the others nothing.
    let sheet = SMALL.replace("camera = \"quay\"", "camera = \"quay\"\nnative.misbehave = \"crash\"\nnative.at = 1");
    let project = odd(&sheet.replace("chunk = 6", "chunk = 24"));
    project.say("run").ended(3);
    assert_eq!(project.say("verify --json").json()["series"][0]["good"], "2-24");
}

#[test]
fn a_setting_arrives_on_the_command_line_that_is_built_or_is_an_error() {
    let adapter = |arguments: &str, more: &str| {
        format!(
            "adapter = 1\nname = \"buoy\"\nprogram = \"truepath\"\narguments = [\"understudy\", \"render\", \"{{scene}}\", [\"--camera\", \"{{camera}}\"], \"--frames\", \"{{frames}}\", \"--size\", \"{{width}}x{{height}}\", [\"--channels\", \"{{channels}}\"], [\"--fps\", \"{{fps}}\"], {arguments}]\n{more}"
        )
    };
    let out = "[\"--pass\", \"{pass}={out}\"]";
    let number = "[passes]\ncan = [\"pass\"]\n[out]\nnumber = \"#\"\n[accepts]\nbits = [\"8\"]\n";
    let check = |settings: &str, arguments: &str, more: &str| {
        let project = Project::with(
            &SMALL
                .replace("\"understudy\"", "\"buoy\"")
                .replace("camera = \"quay\"", &format!("camera = \"quay\"\n{settings}")),
        );
        project.write("adapters/buoy.toml", adapter(arguments, more));
        let said = project.say("check");
        (said.out, project)
    };
    // Bits are given, and no argument has them: the program does nothing else.
    let (said, _) = check("", out, number);
    assert!(said.contains("no problems found"), "{said}");
    // The list of an argument falls away, since another token in it has no value.
    let (said, _) = check("samples = 4", &format!("[\"--at\", \"{{samples}}:{{device}}\"], {out}"), number);
    assert!(said.contains("buoy does not receive `samples` in the job `crossing`"), "{said}");
    // A flag that would be left without its value.
    let (said, _) = check("", &format!("\"--samples\", \"{{samples}}\", {out}"), number);
    assert!(said.contains("error[argument-without-value]: the job `crossing` has no samples"), "{said}");
    // A word that is a list gives several arguments, in a renderer as in an encoder.
    let words = format!("{number}[words]\ncamera.quay = [\"--camera\", \"quay\"]\n");
    let (said, project) = check("", &format!("\"{{camera}}\", {out}"), &words);
    assert!(said.contains("no problems found"), "{said}");
    let call = project.say("build --to json").ended(0).json()["calls"][0]["arguments"].to_string();
    assert!(call.contains("\"--camera\",\"quay\",\"--pass\""), "{call}");
    // Rules that fit a file in two ways.
    for (rule, why) in [
        ("{any}{frame}.png", "where {any} ends"),
        ("{frame}/{frame}.png", "two frame numbers"),
        ("{device}.{frame}.png", "has no value"),
    ] {
        let (said, _) = check("", out, &number.replace("\"#\"", &format!("\"none\"\nwrites = [\"{rule}\"]")));
        assert!(said.contains("error[writes-unclear]") && said.contains(why), "{rule}: {said}");
    }
    // A shared sheet gives what one job cannot use: the narrow way out is named.
    let shared = SMALL.replace("[defaults]\n", "[defaults]\ndevice = \"second\"\n");
    let said = Project::with(&shared).say("check").ended(1).out;
    assert!(
        said.contains("write leave = [\"device\"] in the job `crossing`") && !said.contains("takes adapter"),
        "{said}"
    );
    // Where `%d` stands for the number, a percent sign of the path is doubled.
    let percent = SMALL.replace("{renders}/{job}", "{renders}/50%/{job}").replace("\"understudy\"", "\"buoy\"");
    let project = Project::with(&percent);
    project.write("adapters/buoy.toml", adapter(out, &number.replace("\"#\"", "\"%d\"")));
    let call = project.say("build --to json").ended(0).json()["calls"][0]["arguments"].to_string();
    assert!(call.contains("crossing_beauty.%04d.png") && !call.contains("50%/"), "{call}");
    // What was typed is judged for the jobs that were named.
    let two = SMALL.replace(
        "[checks]",
        "[[job]]\nname = \"arrival\"\nscene = \"scenes/arrival.gltf\"\ncamera = \"pier\"\nframes = \"1-4\"\n\n[checks]",
    );
    let project = Project::with(&two);
    project.say("check crossing --frames 12 --strict").ended(0);
    assert!(project.say("check --frames 12").out.contains("`arrival`"));
}

#[test]
fn a_script_for_windows_has_the_paths_of_windows() {
    let sheet =
        SMALL.replace("renders = \"renders\"", "renders = { linux = \"renders\", windows = \"R:/night renders\" }");
    let project = Project::with(&sheet.replace("\"understudy\"", "\"buoy\""));
    let program = "program = { linux = \"bin/buoy\", windows = \"C:/tools/buoy.bat\" }";
    project.write("adapters/buoy.toml", UNDERSTUDY.replace("program = \"truepath\"", program));
    executable(&project, "bin/buoy", "#!/bin/sh\n");
    let said = project.say("build --to cmd").ended(0);
    assert!(said.out.contains("set \"root_1=R:/night renders\"\r\n"), "{}", said.out);
    assert!(said.out.contains("set \"program_1=C:/tools/buoy.bat\"\r\n") && said.out.contains("call \"%program_1%\" "));
    assert!(
        said.err.contains("note: Windows does not know these paths of this system: the sheet's folder ("),
        "{}",
        said.err
    );
    assert!(!said.err.contains("renders ("), "{}", said.err);
    assert!(project.say("build").ended(0).out.contains("root_1="), "and the one for this system has its own");
}

#[test]
fn an_adapter_is_proved_by_what_its_pictures_show() {
    let prove = |change: &dyn Fn(String) -> String| {
        let project = Project::with(SMALL);
        let own = UNDERSTUDY.replace("name = \"understudy\"", "name = \"buoy\"");
        // One type and one depth are enough here.
        let own = own.replace("types = [\"png\", \"jpeg\", \"tiff\", \"exr\"]", "types = [\"png\"]");
        project.write("adapters/buoy.toml", change(own));
        let said = project.say("adapter prove buoy --json");
        let claims = said.json()["claims"].as_array().unwrap().clone();
        let failed = claims.iter().filter(|claim| claim["held"] == false);
        failed
            .map(|claim| format!("{}: {}", claim["claim"].as_str().unwrap(), claim["why"].as_str().unwrap()))
            .collect::<Vec<_>>()
    };
    assert_eq!(prove(&|text| text), Vec::<String>::new());
    let same = prove(&|text| text.replace("{pass}={out}", "beauty={out}"));
    assert!(
        same.iter().any(|why| why.starts_with("passes in one call: ") && why.contains("are the same picture")),
        "{same:?}"
    );
    let deaf = prove(&|text| text.replace("'^frame (?<frame>-?\\d+)'", "'^picture (?<frame>-?\\d+)'"));
    assert_eq!(deaf, ["[log] matches what it prints: no line of any log matches progress"]);
    let blind = prove(&|text| {
        text.replace("[\"--camera\", \"{camera}\"]", "[\"--camera\", \"quay\", \"--set\", \"weather={camera}\"]")
    });
    assert!(
        blind.iter().any(|why| why.starts_with("two cameras: ") && why.contains("are the same picture")),
        "{blind:?}"
    );
}

#[test]
fn the_cameras_of_a_scene_in_layers_are_known_as_far_as_they_are_text() {
    let project = Project::with(
        &SMALL.replace("scenes/crossing.gltf", "scenes/harbour.usda").replace("\"understudy\"", "\"reader\""),
    );
    let reader =
        UNDERSTUDY.replace("\"gltf\", \"glb\"", "\"usda\"").replace("name = \"understudy\"", "name = \"reader\"");
    project.write("adapters/reader.toml", reader.split("[facts]").next().unwrap());
    let head = "#usda 1.0\n(\n  startTimeCode = 1\n  endTimeCode = 24\n  timeCodesPerSecond = 24\n  subLayers = [ @./tower.usda@ ]\n)\n";
    project.write("scenes/harbour.usda", format!("{head}def Xform \"Ferry\" {{\n  def Camera \"bow\" {{ }}\n}}\n"));
    project.write("scenes/tower.usda", "#usda 1.0\ndef Xform \"Tower\" {\n  def Camera \"belfry\" { }\n}\n");
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    let found = |camera: &str| {
        project.write("truepath.toml", sheet.replace("\"quay\"", &format!("\"{camera}\"")));
        project.say("check").out.contains("camera-not-in-scene")
    };
    for (camera, lost) in [
        ("bow", false),
        ("/Ferry/bow", false),
        ("belfry", false),
        ("/Tower/belfry", false),
        ("/Ferry/stern", true),
        ("quay", true),
    ] {
        assert_eq!(found(camera), lost, "{camera}");
    }
    project.write("scenes/tower.usda", b"PXR-USDC\0\0");
    assert!(!found("quay"), "what stands in a layer that is not read is unknown");
}

#[test]
fn killed_at_any_moment_a_script_leaves_no_half_file_and_goes_on() {
    let rounds = if std::env::var("TRUEPATH_TORTURE").is_ok_and(|how| how == "full") { 50 } else { 10 };
    let project = Project::with(&SMALL.replace("32x18", "160x90").replace("1-24", "1-12"));
    project.say("build -o r.sh --chunk 4").ended(0);
    for round in 0..rounds {
        let _ = std::fs::remove_dir_all(project.path("renders"));
        let mut script = Command::new("setsid")
            .arg("sh")
            .arg(project.path("r.sh"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        project.until_written(&mut script, 1_500 * round % 40_000);
        // Script and renderer, at once and without a word.
        let group = format!("-{}", script.id());
        let _ = Command::new("kill").args(["-KILL", "--", &group]).stderr(Stdio::null()).status();
        script.wait().unwrap();
        let row = project.say("verify --json").json()["series"][0].clone();
        assert_eq!(
            (&row["broken"], &row["wrong"], &row["foreign"]),
            (&"".into(), &"".into(), &"".into()),
            "{round}: {row}"
        );
        let before = project.stamps("renders");
        let landed: Vec<&String> = before.keys().filter(|name| !name.contains(".truepath")).collect();
        Said::from(Command::new("sh").arg(project.path("r.sh")).output().unwrap()).ended(0);
        let after = project.stamps("renders");
        assert!(landed.iter().all(|name| after[*name] == before[*name]), "{round}: what had landed stays");
        assert!(project.say("verify").ended(0).out.ends_with("complete: 12 files as planned\n"), "{round}");
        assert!(after.keys().all(|name| !name.contains(".truepath")), "{round}: {:?}", after.keys());
    }
}

#[test]
fn files_without_a_sheet_are_looked_into_all_the_same() {
    let project = Project::with(&SMALL.replace("1-24", "1-12"));
    project.say("run").ended(0);
    project.write("shots/readme.txt", "no picture");
    project.write("loose/readme.txt", "no picture");
    let name = |frame: u32| format!("renders/crossing/crossing_beauty.{frame:04}.png");
    let put = |from: u32, to: &str| std::fs::copy(project.path(&name(from)), project.path(to)).unwrap();
    (1..=12).filter(|frame| *frame != 7).for_each(|frame| {
        put(frame, &format!("shots/ferry.{frame:04}.png"));
    });
    let cut = std::fs::read(project.path("shots/ferry.0004.png")).unwrap();
    project.write("shots/ferry.0004.png", &cut[..cut.len() - 9]);
    project
        .say("understudy render scenes/crossing.gltf --frames 9 --size 40x20 --channels rgb --pass beauty=shots/ferry.####.png")
        .ended(0);
    std::fs::remove_file(project.path("truepath.toml")).unwrap();
    for words in ["verify --json shots/ferry.{frame:4}.png", "verify --json --folder shots"] {
        let row = project.say(words).ended(1).json()["files"][0].clone();
        let state = |name: &str| row[name].as_str().unwrap().to_owned();
        assert_eq!(
            (state("missing"), state("broken"), state("wrong")),
            ("7".into(), "4".into(), "9".into()),
            "{row:#}"
        );
        assert_eq!(state("good"), "1-3,5-6,8,10-12");
        assert!(row["findings"].to_string().contains("size is 40x20, most are 32x18"), "{row:#}");
    }
    let said = project.say("verify --folder shots").ended(1).out;
    assert!(
        said.contains("\u{2717} missing 7  \u{2717} broken 4  ! wrong 9")
            && said.contains("not complete: 9 of 12 files good"),
        "{said}"
    );
    // Numbers without padding are one sequence, movies are none, and a number far away costs nothing.
    (8..=11).for_each(|frame| {
        put(frame, &format!("loose/a{frame}.png"));
    });
    put(1, "loose/far.1.png");
    put(2, "loose/far.999999999999.png");
    project.write("loose/cut_v001.mp4", "no movie");
    project.write("loose/cut_v003.mp4", "no movie");
    let document = project.say("verify --json --folder loose").ended(1).json();
    let rows: Vec<(&str, &str, &str)> = document["files"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| {
            let text = |name: &str| row[name].as_str().unwrap();
            (text("pattern").rsplit('/').next().unwrap(), text("missing"), text("good"))
        })
        .collect();
    let movies = [("cut_v001.mp4", "", ""), ("cut_v003.mp4", "", "")];
    assert_eq!(rows[..2], [("a{frame:1}.png", "", "8-11"), ("far.{frame:1}.png", "2-999999999998", "1,999999999999")]);
    assert_eq!(rows[2..], movies, "{document:#}");
    let pattern = "verify shots/ferry.{frame:4}.png";
    project.say(&format!("{pattern} --frames 1-3")).ended(0);
    assert!(project.say(&format!("{pattern} --frames 1-3 --size 64x36")).ended(1).out.contains("asked for 64x36"));
    project.say(&format!("{pattern} --frames 1-3 --type exr")).ended(1);
    project.say(&format!("{pattern} --frames 0-2")).ended(1);
    for wrong in ["verify --size 64x36", "verify --folder nowhere", "verify a.{job}.png", "verify a.png --type xyz"] {
        assert!(!project.say(wrong).ended(2).err.is_empty(), "{wrong}");
    }
}
