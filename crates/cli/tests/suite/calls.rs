//! Command lines and events as other programs see them.

use std::io::Read;
use std::process::Stdio;

use crate::support::{Project, SMALL};
use truepath_core::run::event::{self, Ended, Event, Landed};

#[test]
fn the_document_of_build_says_all_that_a_farm_needs() {
    let sheet = SMALL.replace("\"1-24\"", "\"1-8\"").replace(
        "[checks]",
        "samples = 3\nvars.weather = \"fog\"\nenv.HARBOUR = \"night\"\npasses = [\"beauty\", \"mask\"]\n\n[checks]",
    );
    let project = Project::with(&sheet);
    let calls = project.say("build --to json").ended(0).json();
    let call = &calls["calls"][1];
    let folder = project.path("").display().to_string().trim_end_matches('/').to_owned();
    let words = call["arguments"].to_string();
    let mark = words.split_once("stage/truepath-").unwrap().1.split('/').next().unwrap();
    assert_eq!(mark.len(), 8, "what tells sheets of one name apart: {words}");
    let stage = format!("{folder}/renders/.truepath/stage/truepath-{mark}/crossing_7-8");
    let expected = [
        "understudy",
        "render",
        &format!("{folder}/scenes/crossing.gltf"),
        "--camera",
        "quay",
        "--frames",
        "7-8",
        "--size",
        "32x18",
        "--pass",
        &format!("beauty={stage}/crossing_beauty.####.png"),
        "--pass-bits",
        "8",
        "--pass-channels",
        "rgb",
        "--pass",
        &format!("mask={stage}/crossing_mask.####.png"),
        "--pass-bits",
        "8",
        "--pass-channels",
        "rgb",
        "--samples",
        "3",
        "--fps",
        "24",
        "--set",
        "weather=fog",
    ];
    assert_eq!(
        call["arguments"].as_array().unwrap().iter().map(|word| word.as_str().unwrap()).collect::<Vec<_>>(),
        expected
    );
    assert_eq!(
        [&call["id"], &call["job"], &call["frames"], &call["folder"]],
        ["crossing_7-8", "crossing", "7-8", folder.as_str()]
    );
    assert_eq!(
        [&call["env"]["HARBOUR"], &call["passes"][1], &call["writes"][1]["series"]],
        ["night", "mask", "crossing/mask"]
    );
    assert_eq!(call["writes"][0]["pattern"], format!("{folder}/renders/crossing/crossing_beauty.{{frame:4}}.png"));
    assert_eq!(calls["calls"].as_array().unwrap().len(), 2);
    project.say("run").ended(0);
    let logs = project.files(".truepath/truepath/logs");
    let log = logs.iter().find(|name| name.starts_with("crossing_7-8~")).unwrap();
    let log = std::fs::read_to_string(project.path(".truepath/truepath/logs").join(log)).unwrap();
    assert!(
        log.starts_with("$ ") && log.contains("--set weather=fog\n") && log.contains("\nset weather=fog\nframe 7\n"),
        "{log}"
    );
}

/// Three passes of three formats, one of them a second beauty, and an adapter that is told file options for the whole call.
const OWN_FORMATS: &str = "passes = [\"beauty\", { name = \"beauty\", as = \"beauty-plain\", format = \"small\" }, { name = \"mask\", format = \"deep\" }]\n\n[formats.deep]\ntype = \"png\"\nbits = 16\nchannels = \"grey\"\n\n[formats.small]\ntype = \"jpeg\"\nquality = 90\n\n[checks]";

#[test]
fn one_call_writes_passes_of_different_formats() {
    let sheet = SMALL.replace("[checks]", OWN_FORMATS);
    let project = Project::with(&sheet.replace("\"1-24\"", "\"1-8\""));
    let calls = project.say("build --to json").ended(0).json();
    let ids: Vec<&str> = calls["calls"].as_array().unwrap().iter().map(|call| call["id"].as_str().unwrap()).collect();
    assert_eq!(ids, ["crossing_1-6", "crossing_7-8"]);
    project.say("run --workers 2").ended(0);
    project.say("verify --deep").ended(0);
    // A pass that is missing alone is rendered alone, in the same call and under its own format.
    for name in ["crossing_mask.0003.png", "crossing_beauty-plain.0007.jpg"] {
        std::fs::remove_file(project.path("renders/crossing").join(name)).unwrap();
    }
    let again = project.say("run --events").ended(0).out;
    assert_eq!(again.matches("\"event\":\"landed\"").count(), 2, "{again}");
    project.say("verify --deep").ended(0);
}

#[test]
fn passes_are_called_apart_where_a_call_has_something_only_once() {
    let sheet = SMALL.replace("[checks]", OWN_FORMATS);
    let project = Project::with(&sheet.replace("\"1-24\"", "\"1-2\"").replace("\"understudy\"", "\"lamp\""));
    let ids = |adapter: &str| {
        project.write("adapters/lamp.toml", format!("adapter = 1\nname = \"lamp\"\nprogram = \"truepath\"\narguments = [\"understudy\", \"render\", \"{{scene}}\", \"--camera\", \"{{camera}}\", \"--frames\", \"{{frames}}\", \"--size\", \"{{width}}x{{height}}\", \"--fps\", \"{{fps}}\", [\"--samples\", \"{{samples}}\"], {adapter}\n"));
        let calls = project.say("build --to json").ended(0).json();
        let calls = calls["calls"].as_array().unwrap().clone();
        let words = |call: &serde_json::Value| {
            call["arguments"]
                .as_array()
                .unwrap()
                .iter()
                .map(|word| word.as_str().unwrap().to_owned())
                .collect::<Vec<_>>()
        };
        calls.iter().map(|call| (call["id"].as_str().unwrap().to_owned(), words(call))).collect::<Vec<_>>()
    };
    let rest = "[passes]\ncan = [\"call\"]\n[out]\nnumber = \"#\"\nwrites = [\"{out}\"]\n[accepts]\ntypes = [\"png\", \"jpeg\"]\n";
    // Options for the whole call: every pass that differs in one is a call of its own.
    let apart = ids(&format!(
        "[\"--bits\", \"{{bits}}\"], [\"--channels\", \"{{channels}}\"], [\"--quality\", \"{{quality}}\"], [\"--pass\", \"{{pass}}={{out}}\"]]\nvariable = [\"--set\", \"{{key}}={{value}}\"]\n{rest}"
    ));
    let names: Vec<&str> = apart.iter().map(|(id, _)| id.as_str()).collect();
    assert_eq!(names, ["crossing_1-2_beauty", "crossing_1-2_beauty-plain", "crossing_1-2_mask"]);
    // All in lists that are repeated: one call. An inner list falls away alone.
    let own = "[\"--pass\", \"{pass}={out}\", [\"--pass-bits\", \"{bits}\"], [\"--pass-channels\", \"{channels}\"], [\"--pass-quality\", \"{quality}\"]]]\nvariable = [\"--set\", \"{key}={value}\"]\n";
    let together = ids(&format!("{own}{rest}"));
    assert_eq!(together.len(), 1);
    let told: Vec<&String> = together[0].1.iter().filter(|word| word.starts_with("--pass-")).collect();
    assert_eq!(told, ["--pass-bits", "--pass-channels", "--pass-quality", "--pass-bits", "--pass-channels"]);
    // A pass that is named for the whole call cannot be two.
    let named = ids(&format!(
        "\"--pass\", \"{{pass}}={{out}}\", [\"--bits\", \"{{bits}}\"], [\"--channels\", \"{{channels}}\"], [\"--quality\", \"{{quality}}\"]]\nvariable = [\"--set\", \"{{key}}={{value}}\"]\n{rest}"
    ));
    assert_eq!(named.len(), 3);
}

#[test]
fn a_pass_whose_list_falls_away_is_an_error() {
    let project = Project::with(&SMALL.replace("\"understudy\"", "\"lamp\""));
    project.write("adapters/lamp.toml", "adapter = 1\nname = \"lamp\"\nprogram = \"truepath\"\narguments = [\"understudy\", \"render\", \"{scene}\", \"--camera\", \"{camera}\", \"--frames\", \"{frames}\", \"--size\", \"{width}x{height}\", \"--fps\", \"{fps}\", \"--samples\", \"{samples}\", [\"--pass\", \"{pass}={out}:{bits}:{channels}:{quality}\"]]\nvariable = [\"--set\", \"{key}={value}\"]\n[passes]\ncan = [\"call\"]\n[out]\nnumber = \"#\"\nwrites = [\"{out}\"]\n");
    for command in ["check", "run", "build --to json", "build --to sh"] {
        let said = project.say(command).ended(1);
        assert!(format!("{}{}", said.out, said.err).contains("argument-without-value"), "{command}: {}", said.err);
    }
}

#[test]
fn the_events_of_a_run_are_its_journal() {
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-5\"").replace("chunk = 6", "chunk = 2"));
    let said = project.say("run --events").ended(0).out;
    let state = project.path(".truepath/truepath").display().to_string();
    let shown: Vec<Event> = event::read(&said).map(|event| event.kept(&state)).collect();
    assert_eq!(shown.len(), said.lines().count(), "every line is an event: {said}");
    let landed = |events: &[Event]| {
        events
            .iter()
            .filter_map(|event| {
                if let Event::Landed(Landed { series, frame, digest, bytes, .. }) = event {
                    Some((series.clone(), *frame, digest.clone(), *bytes))
                } else {
                    None
                }
            })
            .collect::<Vec<_>>()
    };
    let journal = project.files(".truepath/truepath/journal").into_iter().next().unwrap();
    let kept: Vec<Event> =
        event::read(&std::fs::read_to_string(project.path(".truepath/truepath/journal").join(journal)).unwrap())
            .collect();
    assert_eq!(shown, kept, "one worker: what is shown is what is kept, in its order");
    for (series, frame, digest, bytes) in landed(&shown) {
        let file = std::fs::read(project.path(&format!("renders/crossing/crossing_beauty.{frame:04}.png"))).unwrap();
        assert_eq!((series.as_str(), bytes, digest.len()), ("crossing/beauty", file.len() as u64, 64));
    }
    assert!(matches!(kept.last(), Some(Event::Over { landed: 5, missing: 0, outcome, .. }) if outcome == "complete"));
    assert_eq!(kept.iter().filter(|event| matches!(event, Event::Ended(Ended { code: Some(0), .. }))).count(), 3);
}

#[test]
fn many_hands_leave_no_trace_in_stage() {
    let project = Project::with(&SMALL.replace("chunk = 6", "chunk = 1\nworkers = 6"));
    project.say("run").ended(0);
    assert!(!project.path("renders/.truepath").exists(), "{:?}", project.files("renders"));
    project.say("verify").ended(0);
}

#[test]
fn a_failing_renderer_is_told_with_its_log_and_the_rest_goes_on() {
    let project = Project::with(&SMALL.replace(
        "[checks]",
        "[[job]]\nname = \"arrival\"\nscene = \"scenes/arrival.gltf\"\nframes = \"1-2\"\n\n[checks]",
    ));
    // The scene's buffer is cut short: its head can be read, and the renderer fails.
    project.write("scenes/crossing.bin", [0u8; 100]);
    let said = project.say("run").ended(3);
    assert!(
        said.err.contains("again crossing_1-6 ended with 1; 0 files landed, missing 1-6; see ")
            && said.err.contains("gave up crossing: 6 starts produced nothing: ")
            && said.err.contains("reaches beyond its buffer (--keep-going continues)")
            && said.err.contains("2 of 26 files landed"),
        "{}",
        said.err
    );
    let log = said.err.split("see ").nth(1).unwrap().lines().next().unwrap();
    let log = std::fs::read_to_string(log).unwrap();
    assert!(log.contains("reaches beyond its buffer"), "{log}");
    assert_eq!(project.say("verify --json").json()["series"][1]["good"], "1-2");
}

#[test]
fn a_reader_that_goes_away_is_no_failure() {
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-100000000\""));
    let mut names =
        project.command().args(["names", "--all"]).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let mut head = [0u8; 4096];
    names.stdout.take().unwrap().read_exact(&mut head).unwrap();
    assert!(names.wait().unwrap().success());
}

#[test]
fn what_the_renderer_cannot_receive_is_never_lost_in_silence() {
    for (setting, key) in [
        ("device = \"second\"", "device"),
        ("view = \"left\"", "view"),
        ("region = \"0,0,8,8\"", "region"),
        ("native.dither = true", "native.dither"),
        ("audio = \"a.wav\"", "audio"),
        ("pixel_aspect = 2", "pixel_aspect"),
    ] {
        let project = Project::with(&SMALL.replace("camera = \"quay\"", &format!("camera = \"quay\"\n{setting}")));
        let said = project.say("run").ended(1);
        assert!(said.err.contains(&format!("cannot receive `{key}`")), "{}", said.err);
        assert!(!project.path("renders").exists());
    }
    let project = Project::with(&SMALL.replace("adapter = \"understudy\"\n", ""));
    assert!(project.say("check --strict").ended(1).out.contains("warning[adapter-not-given]"));
    assert!(project.say("run").ended(2).err.contains("has no adapter"));
    assert!(
        Project::with(&SMALL.replace("understudy", "understady"))
            .say("check")
            .ended(1)
            .out
            .contains("write \"understudy\"")
    );
}

#[test]
fn a_second_try_leaves_alone_what_landed_in_the_first() {
    use std::os::unix::fs::PermissionsExt;
    let sheet = SMALL
        .replace("\"1-24\"", "7")
        .replace("\"understudy\"", "\"moody\"")
        .replace("[checks]", "passes = [\"beauty\", \"mask\"]\n\n[checks]");
    let project = Project::with(&sheet);
    project
        .say("understudy render scenes/crossing.gltf --frames 7 --size 32x18 --channels rgb --pass beauty=frame.png")
        .ended(0);
    // Of its first call only the first pass comes out.
    project.write("bin/moody", "#!/bin/sh\nfor word; do\n  out=$(echo \"${word#*=}\" | sed 's/####/0007/')\n  case $word in mask=*) [ -f tried ] || continue;; esac\n  cp frame.png \"$out\"\ndone\ntouch tried\n");
    std::fs::set_permissions(project.path("bin/moody"), std::fs::Permissions::from_mode(0o755)).unwrap();
    project.write(
        "adapters/moody.toml",
        "adapter = 1\nname = \"moody\"\nprogram = \"bin/moody\"\narguments = [[\"{pass}={out}\"]]\n[passes]\ncan = [\"call\"]\n[out]\nnumber = \"#\"\n",
    );
    let carried = ["scene = \"scenes/crossing.gltf\"", "camera", "fps", "size", "bits", "channels"];
    let arguments = carried[1..]
        .iter()
        .map(|name| if *name == "size" { "[\"-{width}x{height}\"]".to_owned() } else { format!("[\"-{{{name}}}\"]") })
        .collect::<Vec<_>>()
        .join(", ");
    let adapter = std::fs::read_to_string(project.path("adapters/moody.toml")).unwrap();
    project.write(
        "adapters/moody.toml",
        adapter.replace("[[\"{pass}", &format!("[[\"-{{scene}}\"], [\"-{{frames}}\"], {arguments}, [\"{{pass}}")),
    );
    let script = std::fs::read_to_string(project.path("bin/moody")).unwrap();
    project.write("bin/moody", script.replace("for word; do\n", "for word; do\n  case $word in -*) continue;; esac\n"));
    // A cut-off file stands under the first pass' name, so that landing may replace what is there.
    project.write("renders/crossing/crossing_beauty.0007.png", "cut");
    let said = project.say("run --events").ended(0).out;
    let landed: Vec<String> = event::read(&said)
        .filter_map(|event| if let Event::Landed(Landed { series, .. }) = event { Some(series) } else { None })
        .collect();
    assert_eq!(landed, ["crossing/beauty", "crossing/mask"]);
    assert!(matches!(event::read(&said).filter(|event| matches!(event, Event::Ended(_))).count(), 2));
}
